"""Server address and key, as people paste them: repairs what is certain, refuses the rest, and says which.

The words of a paste are taken for addresses by their form, and for keys by the destination's pattern, by their label,
or because nothing else is left. A repair is certain when only one sound reading exists: against the pattern, or
against an address that the sheet or the rig knows. What a person has to agree to comes back as a question. No message
ever holds the key.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from direkt.destination.pasting import addresses, keys
from direkt.destination.pasting.state import PasteError, Work
from direkt.destination.pasting.words import PASSPHRASE, flattened, words
from direkt.destination.pattern import Pattern
from direkt.protocol.address import ServerAddress

__all__ = ["Paste", "PasteError", "untangle"]

_MOST = 8192  # characters


@dataclass(frozen=True, slots=True)
class Paste:
    """What was meant, what was repaired to get there, what was left aside, and what a person has to agree to."""

    server: ServerAddress | None
    key: str | None
    repairs: tuple[str, ...] = ()
    left: tuple[str, ...] = ()
    questions: tuple[str, ...] = ()
    aside: bool = False  # an address was pasted, and not taken

    def __repr__(self) -> str:
        return f"Paste({self.server}, key of {len(self.key or '')} characters, {self.repairs}, {self.left}, {self.questions})"


def untangle(
    text: str, *, pattern: str | None = None, known: Sequence[ServerAddress] = (), ports: Iterable[tuple[str, int]] = (),
) -> Paste:  # fmt: skip
    """Server address and key in ``text``, either of them alone or both in any order.

    ``pattern``: what keys look like; ``known``: addresses of this destination; ``ports``: its protocols and their
    ports. Raises PasteError, and PatternError for a pattern that is none or takes too long.
    """
    if len(text) > _MOST:
        raise PasteError(f"{len(text)} characters were pasted; a server address and a key have a few dozen")
    text = re.sub(r"\n--[ ]?\r?\n.*", "\n", text, flags=re.DOTALL)  # a mail's signature
    text = flattened(text)
    work = Work(Pattern(pattern) if pattern is not None else None, known, list(ports))
    pasted = words(text, work.repairs)
    if any(not word.text for word in pasted):
        work.left.append("nothing that could be a key follows its label")
        pasted = [word for word in pasted if word.text]
    if not pasted:
        nothing = (
            "the paste contains neither a server address nor a key" if text.strip() else "nothing was pasted"
        )
        raise PasteError(work.left[0] if work.left else nothing)
    pasted = addresses.whole_addresses(pasted, work)
    pasted = addresses.with_schemes(pasted, work)
    found = [word for word in pasted if addresses.is_address(word.text)]
    others = [word for word in pasted if not addresses.is_address(word.text)]
    others = addresses.without_foreign(others, work)
    server, inner = addresses.server(found, others, work)
    key = keys.key_of(others, inner, work)
    if PASSPHRASE.search(text):
        work.left.append("a passphrase was there and was not taken: nothing that Direkt pushes by has one")
    if (
        server is None
        and not work.left
        and (addresses.MENTIONED.search(text) or any(host in "".join(text.lower().split()) for host in work.hosts))
    ):
        work.set_aside("an address was there and could not be read: it was not taken; copy it alone")
    if server is None and key is None:
        raise PasteError(work.left[0] if work.left else "the paste contains neither a server address nor a key")
    return Paste(
        server,
        key,
        tuple(dict.fromkeys(work.repairs)),
        tuple(dict.fromkeys(work.left)),
        tuple(dict.fromkeys(work.questions)),
        server is None and work.aside,
    )
