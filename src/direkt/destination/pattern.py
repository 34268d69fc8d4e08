"""The pattern of a stream key: a regular expression out of somebody's sheet, tried for a bounded time."""

from __future__ import annotations

import time

import regex

from direkt.errors import UnusableInput

_LIMIT = 2.0  # s for all tries of one pattern together
_LONGEST = 400  # characters


class PatternError(UnusableInput, ValueError):
    """A pattern that is none, or that takes too long to try."""


class Pattern:
    """One pattern. Raises PatternError, here and later."""

    def __init__(self, text: str) -> None:
        if len(text) > _LONGEST:
            raise PatternError(f"a key pattern of {len(text)} characters; at most {_LONGEST} are tried")
        try:
            self._compiled = regex.compile(text)
        except (regex.error, RecursionError, OverflowError, MemoryError) as error:
            raise PatternError(f"not a regular expression: {error}") from None
        self._left = _LIMIT

    def fits(self, text: str) -> bool:
        """Whether the whole text is such a key."""
        return self._try(text, partial=False)

    def could_begin(self, text: str) -> bool:
        """Whether a key could begin with the text, or be it."""
        return self._try(text, partial=True)

    def _try(self, text: str, *, partial: bool) -> bool:
        begin = time.monotonic()
        try:
            return self._compiled.fullmatch(text, partial=partial, timeout=max(0.001, self._left)) is not None
        except TimeoutError:
            raise PatternError(
                f"the key pattern takes more than {_LIMIT:g} s to try: it needs to be simpler, without repeats inside repeats"
            ) from None
        finally:
            self._left -= time.monotonic() - begin
