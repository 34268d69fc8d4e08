"""Requests and answers that a file describes: what is sent is filled in, what comes back is read by its places.

Driver files and platform files share it; where errors come from is ``name``.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from urllib.parse import quote

from direkt.described import answers
from direkt.described.answers import Answered, Coding, JsonAnswer, LinesAnswer, Shape, XmlAnswer
from direkt.described.errors import BadAnswer, ChangeRefused, DeviceError
from direkt.described.http import HttpAnswer
from direkt.documents import Strict
from direkt.errors import Malformed
from direkt.secret import Secret, without_keys

Send = Callable[[str, str, bytes, Mapping[str, str]], HttpAnswer]
_PLACE = re.compile(r"\{(\w+)\}")


class RequestEntry(Strict):
    """One request."""

    send: str  # method and path
    coding: Coding | None = None  # of the body; none where nothing is said
    fields: dict[
        str, bool | int | float | str
    ] = {}  # that go with it each time; {channel}, {slot} and the slot's fields are filled in
    root: str = ""  # of an XML body
    file_field: str = ""  # the form's field of a file; empty: the file is the body
    of: list[str] = []  # of several that write: the settings that this one takes, such as audio.*
    into: str = ""  # of several that read: the name under which its answer is put beside the first one's


class RefusalEntries(Strict):
    """How the other side says no."""

    at: str | None = None  # a place at which a good answer (HTTP status 200) says no all the same
    good: tuple[str, ...] = ()  # the words there that mean yes; none: nothing, no, 0, or an empty list
    list: str | None = None  # None: the whole answer is the reason
    field: str = ""
    reason: str = ""


def filled(texts: Mapping[str, object], values: Mapping[str, object]) -> dict[str, object]:
    """Fields with what they want filled in; one that is nothing else keeps the value's kind."""
    out: dict[str, object] = {}
    for name, text in texts.items():
        alone = _PLACE.fullmatch(text) if isinstance(text, str) else None
        if alone is not None:
            out[name] = values.get(alone[1], "")
        else:
            out[name] = (
                text.format(**{n: values.get(n, "") for n in _PLACE.findall(text)}) if isinstance(text, str) else text
            )
    return out


def says_no(data: Answered, entries: RefusalEntries) -> bool:
    """Whether a good answer is none: by its words, or by anything that stands where an error would."""
    said = data.get(entries.at or "")
    if entries.good:
        return said is not None and str(said).lower() not in [word.lower() for word in entries.good]
    return said not in (None, "", "0", "no", "false", "null") and bool(said)


class Mapped:
    """One interface as a file describes it. ``known_as``: what the file says of whom it fits, for a hint."""

    def __init__(
        self, name: str, known_as: str, shape: Shape, coding: Coding, refusals: RefusalEntries | None, send: Send,
        read_json: Callable[[HttpAnswer, str], object], secrets: Iterable[Secret], names: Mapping[str, str] | None = None,
    ) -> None:  # fmt: skip
        self.name, self._known_as, self._shape, self._coding, self._refusals = name, known_as, shape, coding, refusals
        self._send, self._read_json, self._secrets = send, read_json, secrets
        self._names = dict(names or {})  # of the other side's fields, as we call them

    def ask(
        self, entry: RequestEntry, fields: Mapping[str, object], places: Mapping[str, object], *, needed: bool,
        content: tuple[bytes, str] | None = None,
    ) -> Answered:  # fmt: skip
        """The answer to a request with these fields; ``places`` go into its path. Raises DeviceError.

        ``content``: a body of its own, and its media type.
        """
        return self.answered(entry, fields, places, needed=needed, content=content)[0]

    def answered(
        self, entry: RequestEntry, fields: Mapping[str, object], places: Mapping[str, object], *, needed: bool,
        content: tuple[bytes, str] | None = None,
    ) -> tuple[Answered, HttpAnswer]:  # fmt: skip
        """The same, with the answer as it came."""
        method, _, path = entry.send.partition(" ")
        inside = {name: quote(str(place), safe="") for name, place in places.items()}
        path = path.format(**{"channel": "", "slot": "", **inside})
        body, kind, query = (
            answers.body(entry.coding or self._coding, fields, entry.root) if fields else (b"", "", "")
        )
        if content is not None:
            body, kind = content
        if query:
            path += ("&" if "?" in path else "?") + query
        answer = self._send(method, path, body, {"Content-Type": kind} if body else {})
        asked = f"{method} {path.partition('?')[0]}"
        if answer.status >= 400:
            raise self.refusal(answer, asked)
        found = self.read(answer, asked, needed=needed)
        if self._refusals is not None and self._refusals.at is not None and says_no(found, self._refusals):
            raise self._refused(found, self._refusals, asked)
        return found, answer

    def _refused(self, data: Answered, entries: RefusalEntries, asked: str) -> DeviceError:
        if entries.list is not None and (reasons := self._reasons(data, entries)):
            return ChangeRefused(self.name, reasons)
        said = data.get(entries.reason) if entries.reason else None
        said = said if isinstance(said, str | int | float) else data.get(entries.at or "")
        words_of = said if isinstance(said, str | int | float) else ""
        text = without_keys(" ".join(str(words_of).split())[:200], self._secrets)
        return ChangeRefused(self.name, {"it": text}) if text else BadAnswer(
            self.name, f"refuses {asked} and does not say why"
        )

    def read(self, answer: HttpAnswer, asked: str, *, needed: bool) -> Answered:
        """An answer by its shape. Raises BadAnswer for one that is needed and cannot be read."""
        try:
            if self._shape == "json":
                if not needed and answer.kind not in ("application/json", "text/json"):
                    return JsonAnswer({})
                return JsonAnswer(self._read_json(answer, asked))
            if not answer.content.strip():
                return JsonAnswer({}) if not needed else LinesAnswer.read("")
            return XmlAnswer.read(answer.content) if self._shape == "xml" else LinesAnswer.read(answer.text)
        except Malformed as error:
            if not needed:
                return JsonAnswer({})
            shape = {"xml": "XML", "lines": "lines of name=value"}[self._shape]
            raise BadAnswer(
                self.name, f"answers {asked} with {answer.kind} ({error}), expected {shape}: is this address the right "
                "device, and is it done starting?"
            ) from None

    def refusal(self, answer: HttpAnswer, asked: str) -> DeviceError:
        """What is said against a request."""
        entries = self._refusals
        if (entries is None or entries.list is None) and answer.status == 404:
            return BadAnswer(self.name, f"does not know {asked} (404): does {self._known_as} fit it?")
        if entries is None or entries.list is None:
            words_of = re.sub(r"<[^>]*>", " ", answer.text[:2000])
            said = without_keys(" ".join(words_of.split())[:200], self._secrets)
            if entries is not None and said:
                return ChangeRefused(self.name, {"settings": said})
            return BadAnswer(self.name, f"refuses {asked} and does not say why (HTTP status {answer.status})")
        try:
            data = self.read(answer, asked, needed=True)
        except DeviceError:
            return BadAnswer(self.name, f"refuses {asked} and does not say why (HTTP status {answer.status})")
        reasons = self._reasons(data, entries)
        if reasons:
            return ChangeRefused(self.name, reasons)
        return BadAnswer(self.name, f"refuses {asked} and does not say why")

    def _reasons(self, data: Answered, entries: RefusalEntries) -> dict[str, str]:
        out = {}
        for item in data.parts(entries.list or ""):
            field = str(item.get(entries.field))
            known = self._names.get(field.strip("/").replace("/", "."), field)
            out[known] = without_keys(str(item.get(entries.reason)), self._secrets)
        return out
