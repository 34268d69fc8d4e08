"""The forms in which devices take one destination: as one URL, as URL and key, as parts; each scheme has its own.

``join`` writes an endpoint in a form, ``split`` reads it back; nothing is lost on the way (join, then split, gives
the same endpoint).
"""

from __future__ import annotations

import importlib
from collections.abc import Mapping
from typing import Protocol, cast

from direkt.protocol.address import AddressError
from direkt.protocol.endpoint import Endpoint, Form
from direkt.protocol.schemes import SCHEMES

__all__ = ["FORMS", "LABELS", "Endpoint", "Form", "join", "labels", "split"]

FORMS: tuple[Form, ...] = ("url", "url+key", "parts")


class _Forms(Protocol):
    """What the ``forms`` of a scheme offer."""

    LABELS: Mapping[Form, Mapping[str, str]]  # the fields of each form, with the labels that devices' pages give them

    def join(self, e: Endpoint, form: Form) -> dict[str, str]:
        """The fields of ``form``; a login stands inside URLs, and in fields of its own among parts. Raises AddressError."""

    def split(self, fields: Mapping[str, str], form: Form, app: str | None = None) -> Endpoint:
        """The endpoint that ``fields`` of ``form`` stand for. Raises ValueError (AddressError), KeyError for a field that is missing.

        In one URL nothing marks where an application ends: ``app`` tells; without it, the stream name begins behind
        the last slash in front of any question mark.
        """


def _of(scheme: str) -> _Forms:
    row = SCHEMES.get(scheme) or next(iter(SCHEMES.values()))
    return cast(_Forms, importlib.import_module(f"direkt.protocol.{row.forms}.forms"))


def labels(scheme: str, form: Form) -> Mapping[str, str]:
    """The fields of a form, with the labels that devices' pages give them; empty: a scheme does not have this form."""
    return _of(scheme).LABELS.get(form, {})


# A driver file names fields before anybody knows which scheme they will hold
LABELS: Mapping[Form, Mapping[str, str]] = _of("").LABELS


def join(e: Endpoint, form: Form) -> dict[str, str]:
    """The fields of ``form``. Raises AddressError for a form that the endpoint's scheme does not have."""
    return _of(e.server.scheme).join(e, form)


def split(fields: Mapping[str, str], form: Form, app: str | None = None) -> Endpoint:
    """The endpoint that ``fields`` of ``form`` stand for; see the scheme's own. Raises AddressError."""
    told = fields.get("scheme") or (fields.get("server") or fields.get("url") or "").partition("://")[0]
    try:
        return _of(told).split(fields, form, app)
    except KeyError as error:
        raise AddressError(f"the form {form} has a field {error.args[0]!r}, which is missing") from None
    except AddressError:
        raise
    except ValueError as error:
        raise AddressError(f"not a server address: {error}") from None
