"""What is measured and judged of a stream: check, catch, rehearse, push, signal."""

from __future__ import annotations

from typing import Literal

from typing_extensions import TypedDict

from direkt.measure.meter import Difference
from direkt.media import Break
from direkt.parameters import Value
from direkt.work.device.unfinished import UnfinishedWrite
from direkt.work.stream.reception import RefusedPeers
from direkt.work.stream.rehearse import PutBack


class MeasurementJson(TypedDict):
    """What was measured, by parameter, in the parameters' units."""

    measured: dict[str, Value]
    bounds: dict[str, str]  # "at least" or "at most", where the value is one
    uncertainties: dict[str, float]  # how far the value may be off, where that is known
    usual: dict[str, Value]  # what a parameter mostly is, where "measured" is a mean that losses or changes pull away
    also: dict[str, list[Value]]  # other values that the stream had at other times
    notes: dict[str, str]
    differences: list[Difference]
    remarks: list[str]
    broken: Break | None


class FindingJson(TypedDict):
    """One parameter judged."""

    parameter: str
    label: str  # the same in plain words
    verdict: str  # pass, advise, fail or unseen
    asked: dict[str, object] | None
    set: Value | None
    sent: Value | None
    bound: str | None
    advice: str
    note: str
    rule: str | None  # file and line
    cause: str | None  # what explains it
    why: str | None  # that cause in a sentence
    follows: str | None  # the parameter that is to be mended first, and this with it
    order: int  # place in the order of mending, from 1 on
    since: float | None  # s of the stream from which on it is so; null: the whole time, or not told


class CheckJson(MeasurementJson):
    """direkt check."""

    schema: Literal["direkt.check/1"]
    source: str  # a file, or the address of a stream without its login
    sheet: str | None
    feed: str | None
    set: dict[str, Value] | None  # what the feed's device says
    ended: str | None  # why a stream ended before its time
    findings: list[FindingJson]
    verdict: str | None  # None: nothing was asked


class GapJson(TypedDict):
    """A time in which nobody pushed."""

    at: float  # s after the push began
    seconds: float | None  # None: it did not come back
    reason: str


class RecordingEndedJson(TypedDict):
    """The disk took no more."""

    at: float  # s after the push began
    reason: str


class ReceivedJson(MeasurementJson):
    """What catch and rehearse share."""

    source: str  # the address pushed to
    feed: str | None
    sheet: str | None
    set: dict[str, Value] | None
    gaps: list[GapJson]
    turned_away: list[RefusedPeers]
    recording: str | None  # its file; one that ended early has "partial" in its name
    recording_ended: RecordingEndedJson | None
    findings: list[FindingJson]
    verdict: str | None  # None: nothing was asked


class CatchJson(ReceivedJson):
    """direkt catch."""

    schema: Literal["direkt.catch/1"]


class RehearseJson(ReceivedJson):
    """direkt rehearse."""

    schema: Literal["direkt.rehearse/1"]
    failure: str | None  # why nothing came
    put_back: PutBack
    restart_needed: bool  # what the device is set to is not in force
    unfinished: list[UnfinishedWrite]


class DiffersJson(TypedDict):
    """A parameter in which two streams differ; null: it was not measured."""

    parameter: str
    label: str
    a: Value | None
    b: Value | None


class CompareJson(TypedDict):
    """direkt compare."""

    schema: Literal["direkt.compare/1"]
    a: str  # a file, or the number of a log entry
    b: str
    differs: list[DiffersJson]
    one_sided: list[DiffersJson]  # what only one of them says
    same: list[str]


class SlotJson(TypedDict):
    """A push slot."""

    slot: int
    channel: str
    server: str
    key_length: int
    state: str
    message: str
    sent_bytes: int


class CarryingJson(TypedDict):
    """What became of what came from the camera."""

    connections: int  # to the platform
    fetches: int  # connections to the camera
    left_out: int  # pictures that the line had no room for
    damaged: int  # pictures and frames of sound that were lost or damaged on their way here
    behind_damaged: int  # pictures that were left out because they depend on one of those
    silence_added: bool  # the sound that was sent last is silence of this machine
    sound_coded_from: str | None  # the codec of the camera's sound, where it was coded to AAC here


class PushJson(SlotJson):
    """direkt push."""

    schema: Literal["direkt.push/1"]
    feed: str
    device: str
    carried: bool  # this machine fetches the stream and pushes it on
    restart_needed: bool
    sent: ReceivedJson | None  # of a carried feed, at its end: what was sent, measured and judged
    carrying: CarryingJson | None  # of a carried feed, at its end: what became of what came from the camera
    unfinished: list[UnfinishedWrite]


class SignalStepJson(TypedDict):
    """One step of a climb."""

    number: int
    kbit_s: int
    held: bool
    line: dict[str, float] | None


class SignalJson(TypedDict):
    """direkt signal. Of the line: kbit/s, ms, segments, and s of the signal that wait."""

    schema: Literal["direkt.signal/1"]
    destination: str
    server: str
    event: str
    set: dict[str, Value]
    line: dict[str, float] | None
    limit: dict[str, float] | None  # at the line's limit
    mbit_s: float | None  # that the line carries for good, headers included
    saved_mbit_s: float | None
    steps: list[SignalStepJson]
    shown_after: float | None
    complaints: list[str]
    findings: list[FindingJson]
    failure: str | None
    interrupted: bool
