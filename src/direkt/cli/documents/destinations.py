"""Destinations, their sheets and keys, and the uplink: sheet, key, reach, budget, rig trust, explain."""

from __future__ import annotations

from typing import Literal, NotRequired

from typing_extensions import TypedDict

from direkt.destination.compare import Blocker
from direkt.glossary import GlossaryEntry
from direkt.glossary_sums import Sum
from direkt.work.device.renew import Renewed


class ServerReachJson(TypedDict):
    """One server address."""

    address: str
    role: str
    reachable: bool
    verdict: str
    detail: str
    hint: str
    milliseconds: dict[str, float]  # by step


class DestinationReachJson(TypedDict):
    """One destination."""

    destination: str
    nearest: str | None
    servers: list[ServerReachJson]


class ReachJson(TypedDict):
    """direkt reach."""

    schema: Literal["direkt.reach/1"]
    destinations: list[DestinationReachJson]


class ShareJson(TypedDict):
    """What a feed may send."""

    choice: str
    video_kbit_s: float
    audio_kbit_s: float
    wire_kbit_s: float


class FeedBudgetJson(TypedDict):
    """One feed's shares."""

    feed: str
    weight: float
    best: ShareJson
    even: ShareJson
    half: ShareJson  # when the uplink halves


class BudgetJson(TypedDict):
    """direkt budget."""

    schema: Literal["direkt.budget/1"]
    uplink_mbit_s: float
    reserve_percent: float
    limit_kbit_s: float
    feeds: list[FeedBudgetJson]
    total_kbit_s: float
    gigabytes_per_hour: float
    gigabytes: float
    hours_left: float | None


class ExplainJson(TypedDict):
    """direkt explain."""

    schema: Literal["direkt.explain/1"]
    asked: NotRequired[str]
    mode: NotRequired[str | None]  # what was asked, where it is no codec but a mode of one
    entries: NotRequired[list[GlossaryEntry]]
    sums: NotRequired[list[Sum]]  # what the figures in the question come to
    terms: NotRequired[list[str]]


class CalcJson(TypedDict):
    """direkt explain --calc; what could not be worked out is left out."""

    schema: Literal["direkt.explain-calc/1"]
    keyframe_frames: NotRequired[int]
    gigabytes_per_hour: NotRequired[float]
    gigabytes: NotRequired[float]
    level: NotRequired[str | None]
    permitted: NotRequired[bool]
    bits_per_pixel: NotRequired[float]
    meaning: NotRequired[str]


class SheetRowJson(TypedDict):
    """A sheet in a line."""

    id: str
    name: str
    summary: str


class SheetListJson(TypedDict):
    """direkt sheet list."""

    schema: Literal["direkt.sheet-list/1"]
    sheets: list[SheetRowJson]


class SpanJson(TypedDict):
    """From min to max."""

    min: float
    max: float


class BitrateJson(TypedDict):
    """kbit/s."""

    min: float
    best: float | None
    max: float | None  # null where the sheet names none


class RungJson(TypedDict):
    """A step of the ladder."""

    size: str
    frame_rate: SpanJson
    codecs: list[str]  # that it holds for; empty: for each
    bitrate: BitrateJson


class AudioRungJson(TypedDict):
    """A step of the audio ladder."""

    channels: int
    bitrate: BitrateJson


class ModeJson(TypedDict):
    """A latency mode."""

    summary: str
    viewers_behind_s: dict[str, float] | None
    rules: dict[str, dict[str, object]]


class SheetShowJson(TypedDict):
    """direkt sheet show."""

    schema: Literal["direkt.sheet-show/1"]
    id: str
    name: str
    summary: str
    source: str
    rules: dict[str, dict[str, object]]
    ladder: list[RungJson]
    notes: list[str]
    peak_percent: float | None
    audio_ladder: list[AudioRungJson]
    protocols: list[dict[str, object]]
    servers: list[dict[str, object]]
    spherical: dict[str, object] | None
    session: dict[str, object] | None
    key: dict[str, object] | None
    checklist: list[dict[str, object]]
    modes: dict[str, ModeJson]


class ProblemJson(TypedDict):
    """Something wrong in a sheet."""

    source: str
    text: str
    warning: bool  # it can be meant, but is unlikely to be


class SheetProblemsJson(TypedDict):
    """What is wrong with one sheet."""

    sheet: str
    problems: list[ProblemJson]


class SheetLintJson(TypedDict):
    """direkt sheet lint."""

    schema: Literal["direkt.sheet-lint/1"]
    sheets: list[SheetProblemsJson]


class PictureJson(TypedDict):
    """A picture that all sheets take."""

    size: str
    frame_rate: float
    codec: str | None  # null: the sheets do not tell codecs apart
    bitrate: BitrateJson


class SheetCompareJson(TypedDict):
    """direkt sheet compare."""

    schema: Literal["direkt.sheet-compare/1"]
    sheets: list[str]
    common: dict[str, object]
    best: dict[str, object]
    pictures: list[PictureJson]
    sounds: list[AudioRungJson]
    protocols: list[str] | None  # that all take; null: not every sheet says
    blockers: list[Blocker]


class NotUnderstoodJson(TypedDict):
    """Words of a row that were not understood."""

    line: int
    words: str
    reason: str


class CellWordsJson(TypedDict):
    """Words of a cell, and what became of them."""

    words: str
    start: int  # characters from the cell's begin
    end: int
    became: str | None  # the parameter, or the part of the sheet; null where they were not understood


class DraftedCellJson(TypedDict):
    """A cell of a published table, as it was read."""

    line: int
    name: str
    head: str  # of its column
    text: str
    words: list[CellWordsJson]
    reasons: list[str]  # why something in it was not understood


class SheetDraftJson(TypedDict):
    """direkt sheet draft."""

    schema: Literal["direkt.sheet-draft/1"]
    sheet: str  # the YAML
    not_understood: list[NotUnderstoodJson]
    not_for_a_sheet: list[NotUnderstoodJson]
    cells: list[DraftedCellJson]


class DraftedSheetJson(TypedDict):
    """The sheet of one column."""

    destination: str  # the column's head
    file: str
    not_understood: list[NotUnderstoodJson]


class SheetDraftsJson(TypedDict):
    """direkt sheet draft --each."""

    schema: Literal["direkt.sheet-drafts/1"]
    sheets: list[DraftedSheetJson]


class KeySetJson(TypedDict):
    """direkt key set."""

    schema: Literal["direkt.key-set/1"]
    destination: str
    server: str | None
    key: str | None  # masked
    repairs: list[str]
    left: list[str]  # what stood in the paste and was not taken
    changed: dict[str, str]


class KeySetEachJson(TypedDict):
    """direkt key set --each."""

    schema: Literal["direkt.key-set-each/1"]
    destinations: list[KeySetJson]


class KeyRowJson(TypedDict):
    """One destination's key."""

    destination: str
    source: str  # the reference
    key: str  # masked
    since: str | None
    where: str | None
    exposed: bool


class KeyListJson(TypedDict):
    """direkt key list."""

    schema: Literal["direkt.key-list/1"]
    keys: list[KeyRowJson]
    unused: list[str]


class KeyFormJson(TypedDict):
    """direkt key form."""

    schema: Literal["direkt.key-form/1"]
    destination: str
    forms: dict[str, dict[str, str]]


class KeyRenewJson(TypedDict):
    """direkt key renew."""

    schema: Literal["direkt.key-renew/1"]
    destination: str
    devices: list[Renewed]


class RigPlaceJson(TypedDict):
    """Where a part of a rig sends to, or fetches from."""

    what: str
    name: str
    address: str  # with its port, without what may be a secret in it


class RigTrustJson(TypedDict):
    """direkt rig trust."""

    schema: Literal["direkt.rig-trust/1"]
    rig: str
    trusted: bool
    commands: list[str]  # programs that its references start
    environment: list[str]  # variables that it sees
    files: list[str]  # outside its folder, that it reads secrets from
    keys: list[str]  # in the store, that were kept for another rig
    places: list[RigPlaceJson]  # where its data goes
