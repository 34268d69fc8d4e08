"""A judgement as a person reads it: the verdict, what to fix in its order, what could be better, what is not known, what holds.

All views (terminal, page, report, card) show this one reading; it holds words and values, and no layout.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import Literal

from direkt import parameters
from direkt.demand import Demand
from direkt.finding import Finding, Verdict
from direkt.judge import Judgement
from direkt.measure.meter import Measurement
from direkt.parameters import Measured

_TIGHT = 0.03  # share of a limit within which a value is only just inside
_RANK = {verdict: n for n, verdict in enumerate(Verdict)}


@dataclass(frozen=True, slots=True)
class Line:
    """One parameter in words."""

    parameter: str
    verdict: Verdict
    label: str  # keyframe interval
    now: str  # 10 s; as measured, and as the device says where that differs
    wanted: str  # at most 3.6 s; empty: nothing is
    note: str = ""  # how it was measured, or why not
    seen: bool = True  # something was measured


@dataclass(frozen=True, slots=True)
class Item:
    """One thing to mend or to know: what, what to turn, and what follows from it."""

    head: Line
    cause: str  # what is behind it, in a sentence; empty: only itself is known
    turn: str  # what to do
    where: str  # in the device's own menu; empty: not known
    when: str  # from which moment on; empty: the whole time, or not told
    follows: tuple[Line, ...] = ()

    @property
    def verdict(self) -> Verdict:
        """The worst of it and of what follows."""
        return max((line.verdict for line in (self.head, *self.follows)), key=_RANK.__getitem__)


@dataclass(frozen=True, slots=True)
class Reading:
    """A judgement in words."""

    verdict: Verdict
    fix: tuple[Item, ...]
    better: tuple[Item, ...]
    unknown: tuple[Item, ...]
    holds: tuple[Line, ...]

    @property
    def summary(self) -> str:
        """What it comes to, in a few words."""
        parts = [
            f"{len(self.fix)} to fix" if self.fix else "", f"{len(self.better)} could be better" if self.better else "",
            f"{len(self.unknown)} not known" if self.unknown else "",
        ]  # fmt: skip
        return ", ".join(part for part in parts if part) or "everything holds"


def read(judgement: Judgement, menu: Callable[[str], str] | None = None) -> Reading:
    """The reading of a judgement. ``menu``: where the device has a parameter; an empty text: not known."""
    by_order = sorted(judgement.findings, key=lambda f: f.order)
    follows: dict[str, list[Finding]] = {}
    for finding in by_order:
        if finding.follows:
            follows.setdefault(finding.follows, []).append(finding)
    items: dict[Verdict, list[Item]] = {}
    holds: list[Line] = []
    for finding in by_order:
        if finding.follows:
            continue
        under = tuple(line(one) for one in follows.get(finding.parameter, ()))
        if finding.verdict is Verdict.PASS and not under:
            continue
        item = Item(
            line(finding), finding.why or _device_says(finding), finding.advice, menu(finding.parameter) if menu is not None else "",
            _when(finding), under,
        )  # fmt: skip
        items.setdefault(item.verdict, []).append(item)
    holds = [line(f) for f in judgement.findings if f.verdict is Verdict.PASS and f.parameter not in follows]
    fix, better = (tuple(items.get(verdict, ())) for verdict in (Verdict.FAIL, Verdict.ADVISE))
    return Reading(judgement.verdict, fix, better, tuple(_together(items.get(Verdict.UNSEEN, ()))), _joined(holds))


def _together(items: Iterable[Item]) -> list[Item]:
    """What was not seen at all, and for which the same is to be done, as one."""
    out: list[Item] = []
    bare: dict[str, list[Item]] = {}
    for item in items:
        if item.head.seen or item.follows or item.cause:
            out.append(item)
        else:
            bare.setdefault(item.turn, []).append(item)
    for same in bare.values():
        head, *more = same
        if more:
            head = replace(head, head=replace(head.head, label=", ".join(one.head.label for one in same), now=parameters.show_measured(head.head.parameter, None), wanted=""), where="")
        out.append(head)
    return out


def line(finding: Finding) -> Line:
    """A finding in words."""
    now = parameters.show_measured(finding.parameter, finding.sent)
    if finding.differs or (finding.set is not None and finding.sent is None and not finding.follows):
        now += f" (set: {parameters.show(finding.parameter, finding.set)})"
    wanted = ""
    rule = finding.asked
    if rule is not None:
        demand = rule.should if rule.should is not None and (finding.verdict is Verdict.ADVISE or rule.must is None) else rule.must
        wanted = "the same as the source" if rule.same_as_source else demand.text() if demand is not None else rule.text()
        if finding.verdict is Verdict.PASS and finding.sent is not None and tight(rule.must, finding.sent):
            now += f", only just: {rule.must.text() if rule.must is not None else ''}"
    return Line(finding.parameter, finding.verdict, parameters.find(finding.parameter).label, now, wanted, finding.note, finding.sent is not None)


@dataclass(frozen=True, slots=True)
class SideNote:
    """What else is to be known of a measurement."""

    kind: Literal["differs", "note", "breaks"]
    text: str


def side_notes(measurement: Measurement) -> list[SideNote]:
    """What it contradicts itself in, what was noticed, and where it ends before its end."""
    out = []
    for d in measurement.differences:
        claimed, stream = (parameters.show(d.what, value) for value in (d.claimed, d.stream))
        say = "say" if d.source.endswith("s") else "says"
        what = parameters.TABLE[d.what].label if d.what in parameters.TABLE else d.what
        out.append(SideNote("differs", f"{what}: {d.source} {say} {claimed}, the stream itself has {stream}"))
    out += [SideNote("note", remark) for remark in measurement.remarks]
    if measurement.broken:
        out.append(SideNote("breaks", f"at byte {measurement.broken.offset}: {measurement.broken.reason}; what stands before it was judged"))
    return out


def tight(demand: Demand | None, sent: Measured) -> bool:
    """Whether a figure keeps a limit by no more than a few hundredths of it."""
    if demand is None or isinstance(sent.value, str) or sent.bound is not None or not sent.value:
        return False
    limits = [end for end in (demand.minimum, demand.maximum) if isinstance(end, int | float) and end]
    return any(sent.value != end and abs(sent.value - end) <= _TIGHT * abs(end) for end in limits)


def _device_says(finding: Finding) -> str:
    """Where the device says something else, and nothing explains that."""
    return "The device says otherwise: does it need a restart, or is another channel pushed?" if finding.differs else ""


def _when(finding: Finding) -> str:
    if finding.since is None:
        return ""
    minutes, seconds = divmod(finding.since, 60)
    return f"from {int(minutes)}:{seconds:04.1f} on"


_SAME = ("video.width", "video.height", "video.coded_size")


def _joined(lines: Iterable[Line]) -> tuple[Line, ...]:
    """Without what another line says already."""
    kept = list(lines)
    sizes = any(one.parameter == "video.size" for one in kept)
    return tuple(one for one in kept if not (sizes and one.parameter in _SAME))
