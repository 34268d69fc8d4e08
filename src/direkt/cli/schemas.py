"""The JSON documents that commands print: what stands in each, for type checking and for ``direkt schema NAME``.

Commands import this only to be checked; at run time it is loaded by ``direkt schema`` alone.
"""

from __future__ import annotations

from typing import Literal, NotRequired

from typing_extensions import TypedDict

Value = int | float | str


class DifferenceJson(TypedDict):
    """A source that disagrees with the stream in it."""

    what: str
    source: str
    claimed: Value
    stream: Value


class BreakJson(TypedDict):
    """Where a recording stops making sense."""

    offset: int  # byte
    reason: str


class MeasurementJson(TypedDict):
    """What was measured, by parameter, in the parameters' units."""

    measured: dict[str, Value]
    bounds: dict[str, str]  # "at least" or "at most", where the value is one
    uncertainties: dict[str, float]  # how far the value may be off, where that is known
    usual: dict[str, Value]  # what a parameter mostly is, where "measured" is a mean that losses or changes pull away
    also: dict[str, list[Value]]  # other values that the stream had at other times
    notes: dict[str, str]
    differences: list[DifferenceJson]
    remarks: list[str]
    broken: BreakJson | None


class FindingJson(TypedDict):
    """One parameter judged."""

    parameter: str
    verdict: str  # pass, advise, fail or unseen
    asked: dict[str, object] | None
    set: Value | None
    sent: Value | None
    bound: str | None
    advice: str
    note: str
    rule: str | None  # file and line
    cause: str | None  # what explains it
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


class RefusalJson(TypedDict):
    """Connections turned away for one reason."""

    peer: str  # the latest
    reason: str
    count: int


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
    turned_away: list[RefusalJson]
    recording: str | None  # its file; one that ended early has "partial" in its name
    recording_ended: RecordingEndedJson | None
    findings: list[FindingJson]
    verdict: str | None  # None: nothing was asked


class CatchJson(ReceivedJson):
    """direkt catch."""

    schema: Literal["direkt.catch/1"]


class PutBackJson(TypedDict):
    """Whether the device is as it was."""

    proven: bool
    server: str  # what its slot holds again
    detail: str


class UnfinishedJson(TypedDict):
    """A write that was not finished."""

    feed: str
    device: str
    stage: str
    since: str  # local date and time, 20260103-174501
    saved: str | None  # the file with the settings from before
    restoring: bool  # what was being written are those settings


class RehearseJson(ReceivedJson):
    """direkt rehearse."""

    schema: Literal["direkt.rehearse/1"]
    failure: str | None  # why nothing came
    put_back: PutBackJson
    restart_needed: bool  # what the device is set to is not in force
    unfinished: list[UnfinishedJson]


class SlotJson(TypedDict):
    """A push slot."""

    slot: int
    channel: str
    server: str
    key_length: int
    state: str
    message: str
    sent_bytes: int


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
    unfinished: list[UnfinishedJson]


class StepJson(TypedDict):
    """One setting: kept or changed."""

    parameter: str
    asked: str
    set: Value | None
    wanted: Value | None
    change: bool
    reason: str
    rule: str


class UnmetJson(TypedDict):
    """A demand that cannot be met."""

    parameter: str
    reason: str
    rule: str


class MatchJson(TypedDict):
    """direkt match."""

    schema: Literal["direkt.match/1"]
    feed: str
    sheet: str
    channel: str
    steps: list[StepJson]
    unmet: list[UnmetJson]
    conflict: list[str]  # the smallest set of demands that cannot hold together
    notes: list[str]  # what no rule says and a person should know
    restart_needed: bool
    unfinished: list[UnfinishedJson]  # earlier writes to the device


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
    unmet: list[UnmetJson]
    not_put_back: str | None  # by --restore: what of the push slot, and what to do
    set: dict[str, Value]
    unfinished: list[UnfinishedJson]  # as it was before


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
    unfinished: list[UnfinishedJson]


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


class EntryJson(TypedDict):
    """A word explained."""

    term: str
    also: list[str]
    what: str
    choose: str
    mixed_up: str
    measured: str
    next: str  # what to do, of a message


class SumJson(TypedDict):
    """One sum."""

    of: str
    text: str


class ExplainJson(TypedDict):
    """direkt explain."""

    schema: Literal["direkt.explain/1"]
    asked: NotRequired[str]
    mode: NotRequired[str | None]  # what was asked, where it is no codec but a mode of one
    entries: NotRequired[list[EntryJson]]
    sums: NotRequired[list[SumJson]]  # what the figures in the question come to
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


class BlockerJson(TypedDict):
    """A parameter on which sheets exclude each other."""

    parameter: str
    text: str


class SheetCompareJson(TypedDict):
    """direkt sheet compare."""

    schema: Literal["direkt.sheet-compare/1"]
    sheets: list[str]
    common: dict[str, object]
    best: dict[str, object]
    pictures: list[PictureJson]
    sounds: list[AudioRungJson]
    protocols: list[str] | None  # that all take; null: not every sheet says
    blockers: list[BlockerJson]


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


class RenewedJson(TypedDict):
    """A device that got the new key, or did not."""

    feed: str
    device: str
    written: bool
    reason: str


class KeyRenewJson(TypedDict):
    """direkt key renew."""

    schema: Literal["direkt.key-renew/1"]
    destination: str
    devices: list[RenewedJson]


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


class FoundJson(TypedDict):
    """A device that was found."""

    address: str  # as a rig has it; empty where it tells none
    name: str
    make: str
    model: str
    firmware: str
    speaks: list[str]  # onvif, rtsp, names of driver files
    can_push: bool | None  # null: unknown
    push: str  # the same in words: yes, no, from firmware 3.1, unknown
    needs_first_password: bool
    default_login_works: bool | None  # null: not tried
    rig_name: str | None
    driver: str  # what a rig would name
    other_addresses: list[str]
    notes: list[str]  # what stands in the way


class FindJson(TypedDict):
    """direkt find."""

    schema: Literal["direkt.find/1"]
    devices: list[FoundJson]
    notes: list[str]


class HealthRowJson(TypedDict):
    """One device; null where it does not tell."""

    device: str
    reachable: bool
    clock_offset: float | None  # s that its clock is ahead
    temperature: float | None  # degrees Celsius
    memory_free: float | None  # percent
    fan: str | None
    input: str | None  # empty: no signal
    uptime: float | None  # s
    push: list[str]  # the state of each push slot
    wrong: list[str]


class HealthJson(TypedDict):
    """direkt device health."""

    schema: Literal["direkt.device-health/1"]
    devices: list[HealthRowJson]


class TimeJson(TypedDict):
    """direkt device time."""

    schema: Literal["direkt.device-time/1"]
    device: str
    offset_before: float | None  # s that its clock was ahead
    offset: float | None
    by_ntp: bool
    servers: list[str]
    zone: str


class FirmwareJson(TypedDict):
    """direkt device firmware."""

    schema: Literal["direkt.device-firmware/1"]
    device: str
    before: str
    after: str


class AddressJson(TypedDict):
    """direkt device address."""

    schema: Literal["direkt.device-address/1"]
    device: str
    address: str | None  # as the rig has it now; null: by DHCP, and not known yet
    dhcp: bool
    restarted: bool


class ClaimJson(TypedDict):
    """direkt device claim."""

    schema: Literal["direkt.device-claim/1"]
    device: str
    user: str
    login: str  # the reference under which it is kept


class ShotJson(TypedDict):
    """One picture."""

    device: str
    size: str | None
    time: str | None
    remark: str | None  # what is wrong with it


class SnapshotJson(TypedDict):
    """direkt device snapshot."""

    schema: Literal["direkt.device-snapshot/1"]
    file: str
    devices: list[ShotJson]


class PositionJson(TypedDict):
    """A position that is kept."""

    token: str
    name: str


class PresetJson(TypedDict):
    """direkt device preset."""

    schema: Literal["direkt.device-preset/1"]
    device: str
    action: str
    position: str | None
    presets: list[PositionJson]


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


class DriverRowJson(TypedDict):
    """A driver."""

    name: str
    title: str
    kind: str
    make: str
    model: str
    push: str


class DriverListJson(TypedDict):
    """direkt driver list."""

    schema: Literal["direkt.driver-list/1"]
    drivers: list[DriverRowJson]


class DriverLintJson(TypedDict):
    """direkt driver lint."""

    schema: Literal["direkt.driver-lint/1"]
    file: str
    title: str
    can: list[str]
    cannot: list[str]
    advice: list[str]


class DriverTryJson(TypedDict):
    """direkt driver try."""

    schema: Literal["direkt.driver-try/1"]
    address: str
    make: str
    model: str
    firmware: str
    channels: dict[str, dict[str, object]]  # set and can, by parameter
    slots: list[int]
    missing: list[str]
    write_back_failed: list[str]
    remarks: list[str]


class EventRowJson(TypedDict):
    """An event of the rig."""

    name: str
    title: str
    next: str | None  # RFC 3339; null: it does not take place any more
    seconds: float | None
    feeds: list[str]
    on_air: bool


class HeldEventJson(TypedDict):
    """An event in an account at a platform."""

    id: str
    title: str | None
    state: Literal["made", "open", "live", "closed", "not known"]
    word: str | None  # the platform's own
    start: str | None
    watch: str | None
    event: str | None  # of the rig
    destination: str | None
    ours: Literal["by name", "by key", "no", "not known"]


class EventAccountJson(TypedDict):
    """One account."""

    platform: str
    failure: str | None
    events: list[HeldEventJson]


class EventAccountsJson(TypedDict):
    """direkt event list --at-platform."""

    schema: Literal["direkt.event-accounts/1"]
    accounts: list[EventAccountJson]


class EventListJson(TypedDict):
    """direkt event list."""

    schema: Literal["direkt.event-list/1"]
    events: list[EventRowJson]


class InputGapJson(TypedDict):
    """A time in which nothing came."""

    began: str
    seconds: float


class InputJson(TypedDict):
    """What an ingest sees of one push."""

    role: Literal["primary", "backup"]
    arriving: bool | None
    since: str | None
    shown: bool | None
    values: dict[str, Value]
    gaps: list[InputGapJson]
    missing: float  # s, all gaps together
    health: str | None
    complaints: list[str]


class EventAtJson(TypedDict):
    """An event at one destination."""

    destination: str
    platform: str | None
    by_hand: bool
    id: str
    state: str | None
    audience: str | None
    watch: str | None
    viewers: int | None
    inputs: list[InputJson]
    failure: str | None


class EventShowJson(TypedDict):
    """direkt event show."""

    schema: Literal["direkt.event-show/1"]
    name: str
    title: str
    start: str
    seconds: float
    audience: str
    delay: str
    at: list[EventAtJson]


class EventDoneAtJson(TypedDict):
    """What became of an event at one destination."""

    destination: str
    state: str | None
    watch: str | None
    failure: str | None


class EventDoneJson(TypedDict):
    """direkt event make, change, open, close and drop."""

    schema: Literal["direkt.event-done/1"]
    did: str
    name: str
    at: list[EventDoneAtJson]


class GoCheckJson(TypedDict):
    """One line of going live."""

    step: int
    what: str
    verdict: str
    text: str
    advice: str


class GoRowJson(TypedDict):
    """A parameter, seen four times."""

    parameter: str
    asked: str
    set: Value | None
    sent: Value | None
    seen: Value | None
    verdict: str
    advice: str


class GoFeedJson(TypedDict):
    """A feed as it was judged."""

    feed: str
    destination: str
    rows: list[GoRowJson]
    complaints: list[str]


class GoStepJson(TypedDict):
    """How a step went."""

    step: int
    title: str
    seconds: float
    good: bool


class GoLinkJson(TypedDict):
    """Where viewers go."""

    destination: str
    address: str
    audience: str


class GoLookJson(TypedDict):
    """What a viewer gets."""

    destination: str
    plays: bool
    behind: float | None  # s
    size: str | None
    sound: bool


class GoJson(TypedDict):
    """direkt go."""

    schema: Literal["direkt.go/1"]
    event: str
    start: str
    rehearsal: bool
    dry_run: bool
    on_air: bool
    failed: int | None  # the step at which it stopped
    failure: str | None
    interrupted: bool
    steps: list[GoStepJson]
    checks: list[GoCheckJson]
    would: list[str]
    feeds: list[GoFeedJson]
    links: list[GoLinkJson]
    looks: list[GoLookJson]
    left_on: list[str]
    without: list[str]  # feeds and destinations that were left out


class StopItemJson(TypedDict):
    """One thing that was on, or may be."""

    what: str
    name: str
    proven: bool
    known: Literal["off", "on", "no answer", "not known"]
    said: bool  # nobody but a person could know, and it is their word
    text: str
    advice: str


class StopJson(TypedDict):
    """direkt stop."""

    schema: Literal["direkt.stop/1"]
    proven: bool
    interrupted: bool
    paused: bool
    items: list[StopItemJson]


class WatchFeedJson(TypedDict):
    """One feed as the watch sees it."""

    name: str
    device: str
    destination: str
    role: str
    carried: bool
    event: str | None
    state: str  # on, dropped, starting, off, stopped, elsewhere, not known
    seconds: float  # in this state
    text: str
    push: str
    ingest: str
    kbit_s: int | None  # what goes out
    values: dict[str, Value]
    measured: str  # here, ingest or nobody
    gaps: int
    drops: int
    missing: float  # s
    restarts: int
    mending: bool
    temperature: float | None  # degrees Celsius
    strip: str  # the last ten minutes, two seconds a mark
    wanted: bool  # it is meant to be on


class WatchEventJson(TypedDict):
    """One event at one destination."""

    name: str
    title: str
    destination: str
    platform: str
    state: str
    on_air: bool
    watch: str | None
    viewers: int | None
    start: str
    end: str
    limit: int | None  # s until the platform ends the push
    error: str | None


class WarningJson(TypedDict):
    """Something that is so, and should not be."""

    kind: str
    name: str
    weight: str  # advise or fail
    text: str
    advice: str
    since: str
    seen: str | None  # when somebody said at the page that they have seen it
    muted: bool


class HappeningJson(TypedDict):
    """Something that happened."""

    at: str
    what: str
    name: str
    text: str
    good: bool


class NextJson(TypedDict):
    """The next event that everyone may see."""

    name: str
    title: str
    start: str


class DataPlanJson(TypedDict):
    """What is sent of a data plan."""

    sent_gb: float
    plan_gb: float | None


class WatchJson(TypedDict):
    """direkt watch: how things stood at its end; the page gives the same while it runs."""

    schema: Literal["direkt.watch/1"]
    interrupted: bool
    rig: str
    at: str
    since: str
    well: bool
    feeds: list[WatchFeedJson]
    events: list[WatchEventJson]
    warnings: list[WarningJson]
    happenings: list[HappeningJson]
    next: NextJson | None
    late: float  # s by which the watch was late at the worst, in the last half minute
    data_plan: DataPlanJson | None


class TurnJson(TypedDict):
    """One time of an entry of the schedule."""

    entry: str
    event: str | None
    feeds: list[str]
    begin: str | None  # when something is done first, local time; null: always on
    start: str | None  # when it is on
    start_utc: str | None
    end: str | None
    end_utc: str | None
    now: bool


class ScheduleJson(TypedDict):
    """direkt schedule list."""

    schema: Literal["direkt.schedule/1"]
    turns: list[TurnJson]


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


class LogEntryJson(TypedDict):
    """One entry of the log."""

    id: int
    at: str
    rig: str
    machine: str
    what: str
    outcome: str
    text: str
    event: str
    feed: str
    device: str
    destination: str
    seconds: float | None
    detail: dict[str, object]
    person: str
    deed: str | None  # what began and ended together
    phase: Literal["began", "ended"] | None
    open: bool  # it began, and no end of it is known


class BrokenEntryJson(TypedDict):
    """A place where the chain of hashes does not hold."""

    id: int
    text: str


class LogVerifyJson(TypedDict):
    """direkt log verify."""

    schema: Literal["direkt.log-verify/1"]
    whole: bool
    entries: int
    older: int  # from before there was a chain
    last: int | None
    hash: str | None
    broken: list[BrokenEntryJson]


class LogListJson(TypedDict):
    """direkt log list."""

    schema: Literal["direkt.log-list/1"]
    entries: list[LogEntryJson]


class LogShowJson(LogEntryJson):
    """direkt log show."""

    schema: Literal["direkt.log-show/1"]


DOCUMENTS: dict[str, type] = {
    "check": CheckJson, "catch": CatchJson, "rehearse": RehearseJson, "read": ReadJson, "match": MatchJson,
    "write": WriteJson, "push": PushJson, "card": CardJson, "reach": ReachJson, "budget": BudgetJson, "explain": ExplainJson,
    "explain-calc": CalcJson, "sheet-list": SheetListJson, "sheet-show": SheetShowJson, "sheet-lint": SheetLintJson,
    "sheet-compare": SheetCompareJson, "sheet-draft": SheetDraftJson, "key-set": KeySetJson, "key-set-each": KeySetEachJson, "key-list": KeyListJson,
    "key-form": KeyFormJson, "key-renew": KeyRenewJson, "rig-trust": RigTrustJson,
    "driver-list": DriverListJson, "driver-lint": DriverLintJson, "driver-try": DriverTryJson,
    "find": FindJson, "match-all": MatchAllJson, "write-all": WriteAllJson, "drift": DriftJson, "log-changes": LogChangesJson,
    "device-health": HealthJson, "device-time": TimeJson, "device-firmware": FirmwareJson, "device-address": AddressJson,
    "event-list": EventListJson, "event-accounts": EventAccountsJson, "event-show": EventShowJson, "event-done": EventDoneJson, "go": GoJson, "stop": StopJson,
    "watch": WatchJson, "signal": SignalJson, "schedule": ScheduleJson, "log-list": LogListJson, "log-show": LogShowJson, "log-verify": LogVerifyJson,
    "device-claim": ClaimJson, "device-snapshot": SnapshotJson, "device-preset": PresetJson, "device-learned": LearnedJson,
}  # fmt: skip
