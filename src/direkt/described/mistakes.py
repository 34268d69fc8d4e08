"""What is wrong with a request, or with what a text wants filled in, as a file describes it."""

from __future__ import annotations

import re
import string

_REQUEST = re.compile(r"(GET|PUT|POST|PATCH|DELETE) (/(?!/)[\x21-\x5b\x5d-\x7e]*)")
REQUEST_FIELDS = {"channel", "slot"}  # that any request may have filled in


def wrong_request(text: str) -> str:
    """What is wrong with a request; empty: nothing. A request stays on the device's own address."""
    match = _REQUEST.fullmatch(text)
    if match is None:
        return f"expected a method and a path on the device, such as 'GET /api/state', got {text!r}"
    return wrong_fields(match[2], REQUEST_FIELDS, text)


def wrong_fields(text: str, known: set[str], whole: str = "") -> str:
    """What is wrong with what a text wants filled in; empty: nothing."""
    try:
        fields = [(name, more) for _, name, more, _ in string.Formatter().parse(text) if name is not None]
    except ValueError as error:
        return f"{whole or text!r}: {error}"
    strange = [f"{name}:{more}" if more else name for name, more in fields if name not in known or more]
    listed = " and ".join(f"{{{name}}}" for name in sorted(known & {"channel", "slot", "key", "url"}))
    return f"there is {listed} to fill in, not {{{strange[0]}}}" if strange else ""
