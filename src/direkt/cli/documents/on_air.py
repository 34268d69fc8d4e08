"""What is on the air, or will be: event, go, stop, watch, schedule."""

from __future__ import annotations

from typing import Literal

from typing_extensions import TypedDict

from direkt.parameters import Value
from direkt.platform.event import InputGap
from direkt.work.live.go_types import GoCheck, Row


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


class InputJson(TypedDict):
    """What an ingest sees of one push."""

    role: Literal["primary", "backup"]
    arriving: bool | None
    since: str | None
    shown: bool | None
    values: dict[str, Value]
    gaps: list[InputGap]
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


class GoFeedJson(TypedDict):
    """A feed as it was judged."""

    feed: str
    destination: str
    rows: list[Row]
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
    checks: list[GoCheck]
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
