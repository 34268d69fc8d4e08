"""What a feed's setup card holds: the matched values in the device's own words and order, address and key, and what to do around."""

from __future__ import annotations

import html
import json
from dataclasses import dataclass, replace
from urllib.parse import quote

from direkt import parameters
from direkt.described import words
from direkt.described.errors import DeviceError
from direkt.destination import forms
from direkt.destination.references import Sources
from direkt.device import settings_modes, wording
from direkt.device.driver_file import CodeEntry, DriverFile, FileEntry, fill, form_of, own_marks
from direkt.errors import UnusableInput
from direkt.match.plan import Plan
from direkt.parameters import Value, Values
from direkt.protocol import address
from direkt.report.card import Card, CardStep, Fact, code_matrix
from direkt.secret import Secret
from direkt.work.device.planning import plan_feed
from direkt.work.feeds import FeedParts

_SECRET = ("key", "url", "stream")  # fields of a form that hold the key
_MOST_FACTS = 8


@dataclass(frozen=True, slots=True)
class SettingsFile:
    """A file that the device reads. It holds the key."""

    name: str
    content: str
    where: str


class Unsafe(UnusableInput):
    """A value cannot be written into a code or file without setting other fields of it."""


class _Filled:
    """The values of one feed in its device's words."""

    def __init__(
        self, feed: FeedParts, file: DriverFile | None, plan: Plan, values: Values, key: Secret, model: str
    ) -> None:
        self.model = model
        self.feed, self.file, self.plan, self.values, self.key = feed, file, plan, values, key
        self.form: forms.Form = form_of(file) if file is not None else "url+key"
        endpoint = forms.Endpoint(address.parse(feed.destination.server), key.reveal())
        self.fields = forms.join(endpoint, self.form)
        self.server = str(endpoint.server)
        self.labels = forms.labels(endpoint.server.scheme, self.form)
        every = [form for form in forms.FORMS if forms.labels(endpoint.server.scheme, form)]
        self._every = {name: value for form in every for name, value in forms.join(endpoint, form).items()}

    def word(self, name: str) -> str:
        """A parameter's value as the device says it."""
        return wording.word(self.file, name, self.values)

    def lookup(self, name: str) -> str:
        """Something that a code or file has filled in. Raises UnusableInput where this feed has no value for it."""
        if name.startswith("push."):
            return self._every.get(name.removeprefix("push."), "")
        mode = next((m for m in self.file.modes if m.at == name), None) if self.file is not None else None
        if mode is not None:
            word = settings_modes.word_for(mode, self.values)
            if word is None:
                raise UnusableInput(f"{self.feed.device}: none of its words for {name!r} fits what this feed needs")
            return word
        if name not in self.values:
            raise UnusableInput(f"{self.feed.device}: its driver file wants {name}, which this feed has no value for")
        entry = self.file.settings.get(name) if self.file is not None else None
        value: Value = self.values[name]
        rate = self.values.get("video.frame_rate", 0)
        if entry is not None:
            return str(words.theirs(entry, value, float(rate) if isinstance(rate, int | float) else 0.0))
        return f"{value:g}" if isinstance(value, float) else str(value)

    def content(self, entry: CodeEntry | FileEntry, what: str) -> str:
        """A code's or file's content. Raises Unsafe where a value would set other fields of it."""
        marks = own_marks(entry.content)

        def plain(name: str, value: str) -> str:
            if any(c in marks or not c.isprintable() for c in value if c not in entry.escape):
                whose = "the key" if name.removeprefix("push.") in _SECRET else name
                between = " ".join(sorted(c for c in marks if c.isprintable()))
                raise Unsafe(
                    f"{whose} has a character that the {what} uses itself{f' ({between})' if between else ''}, and would set other fields of it"
                )
            return "".join(entry.escape.get(c, c) for c in value)

        def coded(name: str) -> str:
            value = self.lookup(name)
            match entry.coding:
                case "json":
                    return json.dumps(value)[1:-1]
                case "url":
                    return quote(value, safe="")
                case "xml":
                    return html.escape(value)
                case "plain":
                    return plain(name, value)

        return fill(entry.content, coded)


def card(feed: FeedParts, sources: Sources, made: str, *, reveal: bool) -> Card:
    """The feed's card. Raises UnusableInput, NoAnswer where the device is to be read and does not answer."""
    filled = _fill(feed, sources)
    file = filled.file
    code, note = _code(filled, reveal=reveal)
    before, after = _around(feed, file)
    return Card(
        rig=feed.rig.file.name, feed=feed.name, device=feed.device, model=file.title if file is not None else filled.model,
        destination=f"{feed.sheet.name} ({feed.entry.destination})", made=made, before=tuple(before),
        steps=tuple(_steps(filled, reveal=reveal)), facts=tuple(_facts(filled)), after=tuple(after),
        warnings=tuple(_warnings(filled.plan)), code=code, code_note=note, secret=reveal,
    )  # fmt: skip


def settings_file(feed: FeedParts, sources: Sources) -> SettingsFile:
    """The settings file that the device reads. Raises UnusableInput where its driver describes none."""
    filled = _fill(feed, sources)
    entry = filled.file.card.file if filled.file is not None else None
    if entry is None:
        raise UnusableInput(
            f"{feed.device}: its driver describes no settings file; print the card instead: direkt card {feed.name}"
        )
    try:
        return SettingsFile(entry.name, filled.content(entry, "settings file"), entry.where)
    except Unsafe as error:
        raise UnusableInput(f"{feed.device}: {error}; enter it by hand: direkt card {feed.name}") from None


def _fill(feed: FeedParts, sources: Sources) -> _Filled:
    file: DriverFile | None = getattr(feed.driver, "file", None)
    try:
        state, channel, plan = plan_feed(feed)
    except DeviceError as error:
        raise DeviceError(f"{error}; the card needs to know what the device can do") from None
    values = dict(channel.full)
    for step in plan.steps:
        if (value := step.new if step.new is not None else step.old) is not None:
            values[step.parameter] = value
    model = " ".join(filter(None, (state.make, state.model)))
    return _Filled(feed, file, plan, values, feed.rig.key(feed.destination, sources), model)


def _steps(filled: _Filled, *, reveal: bool) -> list[CardStep]:
    """What to enter: what stands in the menus in their order, then the rest in the table's."""
    file = filled.file
    menus = file.menus if file is not None else {}
    out: list[CardStep] = []
    told: set[str] = set()
    for name, path in menus.items():
        made = _step(filled, name, tuple(path), reveal=reveal)
        if made is not None:
            out.append(made)
            told.add(name)
    for mode in file.modes if file is not None else []:
        if mode.at in told:
            told |= {name for row in mode.words.values() for name in row}
    for step in filled.plan.steps:
        if step.parameter not in told and filled.values.get(step.parameter) is not None:
            out.append(
                CardStep(_label(filled, step.parameter), filled.word(step.parameter), _meaning(filled, step.parameter))
            )
    if filled.feed.entry.carry:  # this machine pushes, not the device
        return [step for step in out if step.kind == "choose"]
    for name, label in filled.labels.items():
        if f"push.{name}" not in told:
            made = _field(filled, name, (label,), reveal=reveal)
            out.append(made)
    start = file.card.start if file is not None else ""
    if "push.start" not in menus:
        out.append(CardStep(("the push",), start or "start it", kind="do"))
    return sorted(out, key=lambda step: step.kind == "do")


def _step(filled: _Filled, name: str, path: tuple[str, ...], *, reveal: bool) -> CardStep | None:
    """What a place in the menus is to hold; None: nothing is asked of it."""
    file = filled.file
    assert file is not None
    if name == "push.start":
        return CardStep(path, file.card.start or "start", kind="do")
    if name.startswith("push."):
        field = name.removeprefix("push.")
        return _field(filled, field, path, reveal=reveal) if field in filled.fields else None
    mode = next((m for m in file.modes if m.at == name), None)
    if mode is not None:
        values = next(iter(mode.words.values()), {})
        meaning = ", ".join(parameters.show(p, filled.values[p]) for p in values if p in filled.values)
        return CardStep(path, filled.lookup(name), meaning)
    if name not in filled.values:
        return None
    return CardStep(path, filled.word(name), _meaning(filled, name))


def _field(filled: _Filled, name: str, path: tuple[str, ...], *, reveal: bool) -> CardStep:
    """A field of the form for server address and key."""
    value = filled.fields[name]
    longest = filled.file.card.longest.get(name, 0) if filled.file is not None else 0
    step = CardStep(path, value, kind="type", length=len(value), longest=longest)
    if name in _SECRET and not reveal:
        before = f"{filled.server}/ and after it " if name == "url" else ""
        shown = f"{before}the key of {filled.feed.entry.destination}, {filled.key}: to print it here add --reveal"
        return replace(step, value="", hidden=shown)
    return step


def _label(filled: _Filled, name: str) -> tuple[str, ...]:
    """What the device calls a parameter, or else what it is."""
    entry = filled.file.settings.get(name) if filled.file is not None and filled.file.kind == "hand" else None
    if entry is not None:
        return (entry.text,)
    track, *rest = name.split(".")
    plain = [word.replace("_", " ") for word in rest if word not in ("mean", "median", "present")]
    return (track.title(), " ".join(plain) or "on or off")


def _meaning(filled: _Filled, name: str) -> str:
    """The value in our words, where the device's are others."""
    shown, theirs = parameters.show(name, filled.values[name]), filled.word(name)
    row = parameters.find(name)
    return f"{row.label}: {shown}" if shown.lower() != theirs.lower() else ""


def _facts(filled: _Filled) -> list[Fact]:
    """What the device always sends, as far as the sheet asks for it."""
    chosen = {step.parameter for step in filled.plan.steps}
    rules = {parameters.setting_of(name) for name in filled.feed.sheet.rules}
    names = [
        n
        for n in parameters.in_table_order(filled.values)
        if n not in chosen and n in rules and parameters.setting_of(n) == n
    ]
    return [Fact(name, parameters.show(name, filled.values[name])) for name in names][:_MOST_FACTS]


def _warnings(plan: Plan) -> list[str]:
    return [f"{parameters.find(u.parameter).label}: {u.reason}" for u in plan.unmet]


def _around(feed: FeedParts, file: DriverFile | None) -> tuple[list[str], list[str]]:
    """What to do before and after, by the sheet and by the driver file."""
    sheet, session = feed.sheet, feed.sheet.session
    steps = [(f"{step.step} ({step.when})", step.phase != "before") for step in sheet.checklist]
    before = [words for words, later in steps if not later]
    if session is not None and session.opens == "by hand before the push" and not sheet.checklist:
        before.append(f"Open the event at {sheet.name} by hand, before the push.")
    before += file.card.before if file is not None else []
    before.append(
        f"Prove it first: 'direkt catch --feed {feed.name}' prints an address of this machine; enter that, start, and read what it says. "
        "Then enter what stands here."
    )
    if feed.entry.carry:
        before[-1] = (
            f"Prove it first: direkt check --feed {feed.name}. Then this machine pushes it: direkt push on {feed.name}."
        )
    after = []
    if session is not None and session.shows_after_s is not None:
        span = session.shows_after_s
        after.append(
            f"{sheet.name} shows the picture {span.min:g} to {span.max:g} s after the push begins: wait that long."
        )
    after += [words for words, later in steps if later]
    after += file.card.after if file is not None else []
    if session is not None and session.after_stop == "new key":
        after.append(f"{sheet.name} wants a new key after a stop.")
    return before, after


def _code(filled: _Filled, *, reveal: bool) -> tuple[str, str]:
    """What the picture code holds, and what to say of it."""
    entry = filled.file.card.code if filled.file is not None else None
    if entry is None:
        return "", ""
    holds = any(f"{{push.{name}}}" in entry.content for name in _SECRET)
    if holds and not reveal:
        return "", "The device can scan a picture code, which holds the key: to print it add --reveal."
    try:
        content = filled.content(entry, "picture code")
    except Unsafe as error:
        return "", f"No picture code: {error}. Enter it by hand."
    try:
        code_matrix(content)
    except ValueError:
        raise UnusableInput(
            f"{filled.feed.device}: what its picture code is to hold is too long for one ({len(content)} characters)"
        ) from None
    return content, f"Or scan this code{f': {entry.where}' if entry.where else ''}."
