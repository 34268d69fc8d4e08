"""What a device is set to and what it should be: read, match, write, drift, card, and the changes that were logged."""

from __future__ import annotations

from typing import Literal

from typing_extensions import TypedDict

from direkt.cli.documents.measured import SlotJson
from direkt.match.plan import Unmet
from direkt.parameters import Value
from direkt.work.device.unfinished import UnfinishedWrite


class ChannelJson(TypedDict):
    """A channel's settings, and what they can be."""

    title: str  # what the device calls it
    set: dict[str, Value]
    can: dict[str, object]
    stream: str | None  # where the device gives it out itself


class ReadJson(TypedDict):
    """direkt read."""

    schema: Literal["direkt.read/1"]
    device: str
    make: str
    model: str
    firmware: str
    temperature: float | None  # degrees Celsius
    input: str | None
    restart_needed: bool
    channels: dict[str, ChannelJson]
    slots: list[SlotJson]
    remarks: list[str]  # what could not be read, and what is odd
    unfinished: list[UnfinishedWrite]


class StepJson(TypedDict):
    """One setting: kept or changed."""

    parameter: str
    asked: str
    set: Value | None
    wanted: Value | None
    change: bool
    reason: str
    rule: str


class MatchJson(TypedDict):
    """direkt match."""

    schema: Literal["direkt.match/1"]
    feed: str
    sheet: str
    channel: str
    steps: list[StepJson]
    unmet: list[Unmet]
    conflict: list[str]  # the smallest set of demands that cannot hold together
    notes: list[str]  # what no rule says and a person should know
    restart_needed: bool
    unfinished: list[UnfinishedWrite]  # earlier writes to the device


class LostJson(TypedDict):
    """A value that did not stick."""

    parameter: str
    wanted: Value
    set: Value | None


class WriteJson(TypedDict):
    """direkt write."""

    schema: Literal["direkt.write/1"]
    feed: str
    device: str
    sheet: str
    written: dict[str, Value]
    restarted: bool
    saved: str
    did_not_stick: list[LostJson]
    sound_refused: list[str]  # what the device said against the sound; the picture is set
    unmet: list[Unmet]
    not_put_back: str | None  # by --restore: what of the push slot, and what to do
    set: dict[str, Value]
    unfinished: list[UnfinishedWrite]  # as it was before


class LessonJson(TypedDict):
    """One value that a device did not keep."""

    model: str
    firmware: str
    channel: str
    parameter: str
    wanted: Value
    became: Value
    when: str  # YYYYMMDD-HHMMSS
    kind: str  # step, limit or tie
    beside: dict[str, Value]  # size, rate and codec at that time
    tied: list[str]  # settings that changed unasked


class LearnedJson(TypedDict):
    """direkt device learned."""

    schema: Literal["direkt.device-learned/1"]
    forgotten: int
    lessons: list[LessonJson]


class CardStepJson(TypedDict):
    """One thing to enter."""

    path: list[str]  # of the device's menus
    value: str | None  # None: it holds the key, which is not shown without --reveal
    meaning: str | None  # the same in the sheets' words
    kind: str  # choose, type or do
    too_long: bool


class CardJson(TypedDict):
    """direkt card."""

    schema: Literal["direkt.card/1"]
    feed: str
    device: str
    model: str
    destination: str
    before: list[str]
    steps: list[CardStepJson]
    facts: dict[str, str]  # what the device always sends
    after: list[str]
    warnings: list[str]  # what of the sheet cannot be met
    code: str | None  # what the picture code holds


class FailedJson(TypedDict):
    """A feed that could not be looked at."""

    feed: str
    reason: str


class MatchAllJson(TypedDict):
    """direkt match --all."""

    schema: Literal["direkt.match-all/1"]
    feeds: list[MatchJson]
    failed: list[FailedJson]


class WriteAllRowJson(TypedDict):
    """What became of one feed's device."""

    feed: str
    device: str
    outcome: str  # as wanted, not all stuck, by hand, failed, not agreed
    written: dict[str, Value]
    did_not_stick: list[str]
    unmet: list[str]
    reason: str  # why it failed, and what state that leaves the device in
    seconds: float


class WriteAllJson(TypedDict):
    """direkt write of several feeds."""

    schema: Literal["direkt.write-all/1"]
    feeds: list[WriteAllRowJson]


class DriftRowJson(TypedDict):
    """One thing that is not as it was last written."""

    device: str
    channel: str
    parameter: str
    written: Value
    now: Value | None
    since: str  # when it was written


class DriftJson(TypedDict):
    """direkt drift."""

    schema: Literal["direkt.drift/1"]
    drift: list[DriftRowJson]
    unknown: list[str]  # devices that were never written from here
    failed: list[FailedJson]


class ChangeJson(TypedDict):
    """One write."""

    when: str
    what: str
    feed: str
    device: str
    model: str
    firmware: str
    channel: str
    changes: dict[str, list[Value | None]]  # parameter: old and new
    server: list[str] | None
    outcome: str
    did_not_stick: dict[str, list[Value | None]]


class LogChangesJson(TypedDict):
    """direkt log changes."""

    schema: Literal["direkt.log-changes/1"]
    changes: list[ChangeJson]
