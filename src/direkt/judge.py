"""Asked, set and sent: each parameter judged, with what to do where it is off."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import StrEnum

from direkt import parameters
from direkt.codec import registry
from direkt.demand import Demand
from direkt.destination.model import Rule, Sheet
from direkt.parameters import Bound, Measured, Parameter, Value, Values


class Verdict(StrEnum):
    """How a parameter fares; the order is from good to bad."""

    PASS = "pass"
    UNSEEN = "unseen"
    ADVISE = "advise"
    FAIL = "fail"


_RANK = {verdict: n for n, verdict in enumerate(Verdict)}
# What a stream must show at once; without it there is nothing to hope for.
_ESSENTIAL = ("video.codec",)
_NO_VIDEO = "No video in the stream: check the device's input and encoder."
_FEW_LOSSES = 0.01  # share by which losses may pull a mean away from what is usual
_LONGER = "Watch or record for longer."
_UNSTATED = "The stream does not state it, so each player decides: state it in the encoder, where that can be set."


@dataclass(frozen=True, slots=True)
class Finding:
    """One parameter judged."""

    parameter: str
    verdict: Verdict
    asked: Rule | None
    set: Value | None
    sent: Measured | None
    advice: str = ""
    note: str = ""


@dataclass(frozen=True, slots=True)
class Judgement:
    """All findings, in the table's order, and what they come to."""

    findings: tuple[Finding, ...]

    @property
    def verdict(self) -> Verdict:
        """pass, advise or fail: an unseen parameter was not proven, so it counts as advise."""
        worst = max((f.verdict for f in self.findings), key=_RANK.__getitem__, default=Verdict.PASS)
        return Verdict.ADVISE if worst is Verdict.UNSEEN else worst

    def count(self, verdict: Verdict) -> int:
        """How many findings have this verdict."""
        return sum(finding.verdict is verdict for finding in self.findings)


def judge_sent(
    sheet: Sheet | None,
    found: Mapping[str, Measured],
    set_: Values | None = None,
    source_rate: float | None = None,
) -> Judgement:
    """Judges a measured stream against the sheet and against what the device says it is set to.

    ``set_`` is what the device says, already expanded (parameters.expand_set); ``source_rate``: pictures a second
    at the device's input, for sheets that ask for the same as the source.
    """
    sent: Values = {name: measured.value for name, measured in found.items()}
    usual = {name: measured.usual for name, measured in found.items() if measured.usual is not None}
    rules = sheet.rules_for({**sent, **usual}) if sheet else {}
    open_source = False
    rate_rule = rules.get("video.frame_rate")
    if rate_rule is not None and rate_rule.same_as_source:
        if source_rate:
            rules["video.frame_rate"] = replace(rate_rule, must=Demand("video.frame_rate", (source_rate,)))
        else:
            open_source = True
    set_ = set_ or {}
    names = set(rules) | {name for name in set_ if name in sent}
    findings = []
    for name in parameters.in_table_order(names):
        row = parameters.find(name)
        if not parameters.applies(row, sent):
            continue
        finding = _judge(row, rules.get(name), set_.get(name), found.get(name), sent)
        if finding is not None and open_source and name == "video.frame_rate":
            finding = _rate_unproven(finding)
        if finding is not None:
            findings.append(finding)
    failed = any(f.verdict is Verdict.FAIL and f.parameter in ("video.size", "video.frame_rate") for f in findings)
    mean = "video.bitrate.mean"
    if (
        sheet is not None
        and sheet.ladder
        and {"video.size", "video.frame_rate"} <= sent.keys()
        and mean not in rules
        and not failed
    ):
        advice = _no_rung(sheet, sent)
        findings.append(Finding(mean, Verdict.ADVISE, None, set_.get(mean), found.get(mean), advice))
    return Judgement(tuple(findings))


def _rate_unproven(finding: Finding) -> Finding:
    """A rate that must be the source's own, which nobody knows here."""
    note = "the source's own rate is not known here"
    verdict = Verdict.UNSEEN if finding.verdict is Verdict.PASS else finding.verdict
    return replace(finding, verdict=verdict, note=note)


def _no_rung(sheet: Sheet, sent: Values) -> str:
    size, rate = sent.get("video.size"), sent.get("video.frame_rate")
    return f"{sheet.name} gives no bitrate for {size} at {parameters.show('video.frame_rate', rate)}"


def _meets(demand: Demand, sent: Measured) -> bool | None:
    """Whether what was measured meets a demand; None: it cannot be told, the true value may lie on either side."""
    meets = demand.allows(sent.value, measured=True)
    if isinstance(sent.value, str):
        return meets
    if sent.bound is not None:
        return demand.allows_beyond(sent.value, upwards=sent.bound is Bound.AT_LEAST)
    if not meets and sent.uncertainty and demand.allows(sent.value, measured=True, slack=sent.uncertainty):
        return None
    return meets


def _verdict(rule: Rule, sent: Measured) -> Verdict:
    """The worst verdict of all values that the stream had; few losses from what is asked fail nothing."""
    verdict = max((_verdict_of(rule, one) for one in (sent, *map(Measured, sent.also))), key=_RANK.__getitem__)
    if verdict is Verdict.FAIL and isinstance(sent.usual, int | float) and not isinstance(sent.value, str):
        near = abs(sent.value - sent.usual) <= _FEW_LOSSES * sent.usual
        if near and _verdict_of(rule, Measured(sent.usual)) is not Verdict.FAIL:
            return Verdict.ADVISE
    return verdict


def _verdict_of(rule: Rule, sent: Measured) -> Verdict:
    open_ = False
    for demand, missed in ((rule.must, Verdict.FAIL), (rule.should, Verdict.ADVISE)):
        meets = True if demand is None else _meets(demand, sent)
        if meets is False:
            return missed
        open_ = open_ or (meets is None and missed is Verdict.FAIL)
    return Verdict.UNSEEN if open_ else Verdict.PASS


def _why_unseen(row: Parameter, sent: Values) -> str:
    track = row.name.partition(".")[0]
    for kind in ("video", "audio"):
        codec = sent.get(f"{kind}.codec")
        if kind == track and codec is not None and not registry.find(kind, str(codec)).module:
            return f"Of {codec} only times and bytes are measured: nothing here reads its headers."
    return _UNSTATED if row.optional and f"{track}.codec" in sent else _LONGER


def _judge(row: Parameter, rule: Rule | None, set_: Value | None, sent: Measured | None, all_sent: Values) -> Finding | None:  # fmt: skip
    if sent is None:
        if row.name in _ESSENTIAL:
            return Finding(row.name, Verdict.FAIL, rule, set_, None, _NO_VIDEO)
        return Finding(row.name, Verdict.UNSEEN, rule, set_, None, _why_unseen(row, all_sent))
    verdict = Verdict.PASS if rule is None else _verdict(rule, sent)
    shown = sent.value if sent.usual is None else sent.usual
    differs = set_ is not None and not parameters.same(row.name, shown, set_, measured=True)
    if differs and sent.bound is not None and isinstance(set_, int | float) and not isinstance(sent.value, str):
        # what was seen so far may well grow into what is set
        differs = set_ < sent.value if sent.bound is Bound.AT_LEAST else set_ > sent.value
    if rule is None and not differs:
        return Finding(row.name, Verdict.UNSEEN, None, set_, sent, "", sent.note) if sent.note else None
    advice = ""
    if verdict in (Verdict.FAIL, Verdict.ADVISE) and rule is not None:
        advice = _advice(row, rule, verdict, sent.value, all_sent)
    if differs:
        says = f"The device says {parameters.show(row.name, set_)} but sends {parameters.show(row.name, sent.value)}: "
        other, restart = "is another channel pushed", "does it need a restart"
        picture = row.name in ("video.codec", "video.size")
        says += f"{other}, or {restart}?" if picture else f"{restart}, or {other}?"
        advice = f"{says} {advice}".strip()
        verdict = max(verdict, Verdict.ADVISE, key=_RANK.__getitem__)
    return Finding(row.name, verdict, rule, set_, sent, advice, sent.note)


def _advice(row: Parameter, rule: Rule, verdict: Verdict, sent: Value, all_sent: Values) -> str:
    """The row's advice, with the figure to aim at where there is one; else behind what is asked."""
    wish = rule.should or rule.must
    target = wish.nearest(sent) if wish is not None else None
    rate = all_sent.get("video.frame_rate")
    if row.aim and isinstance(target, int | float) and isinstance(sent, int | float) and isinstance(rate, int | float):
        way = "Lower" if sent > target else "Raise"
        frames = parameters.keyframe_frames(target, rate)
        return row.aim.format(target=target, way=way, frames=frames, rate=rate, mega=target / 1000)
    missed = rule.must if verdict is Verdict.FAIL else rule.should
    return f"Asked is {missed.text()}. {row.advice}" if missed is not None else row.advice
