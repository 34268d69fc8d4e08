"""Asked, set and sent: each parameter judged, with what to do where it is off."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from direkt import causes, parameters
from direkt.codec import registry
from direkt.demand import Demand
from direkt.destination.sheet import Rule, Sheet
from direkt.device_side import DeviceSide
from direkt.finding import Finding, Harm, Verdict
from direkt.parameters import Bound, Measured, Parameter, Value, Values

_RANK = {verdict: n for n, verdict in enumerate(Verdict)}
# What a stream must show at once; without it there is nothing to hope for.
_ESSENTIAL = ("video.codec",)
_NO_VIDEO = "No video in the stream: check the device's input and encoder."
_LONGER = "Watch or record for longer."
_UNSTATED = "The stream does not state it, so each player decides: state it in the encoder, where that can be set."


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
    device: DeviceSide | None = None,
) -> Judgement:
    """Judges a measured stream against the sheet and against what the device says it is set to.

    ``set_`` is what the device says, already expanded (parameters.expand_set); ``source_rate``: pictures a second
    at the device's input, for sheets that ask for the same as the source; ``device``: what else it says of itself.
    """
    sent: Values = {name: measured.value for name, measured in found.items()}
    usual = {name: measured.usual for name, measured in found.items() if measured.usual is not None}
    now = {**sent, **usual}
    rules = sheet.rules_for(now) if sheet else {}
    goal = _goal(sheet, rules, now) if sheet else {}
    if sheet is not None and goal:  # no bitrate for a picture that must go
        then = sheet.rules_for({**now, **goal})
        rules = {name: then.get(name, rule) for name, rule in {**rules, **then}.items() if name in then or name not in _BY_PICTURE}
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
        finding = _judge(row, rules.get(name), set_.get(name), found, sent, goal, rules.get(_TOWARDS.get(name, "")))
        if finding is not None and open_source and name == "video.frame_rate":
            finding = _rate_unproven(finding)
        if finding is not None:
            findings.append(finding)
    if sheet is not None:
        findings += _always(rules, found, sent)
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
    return Judgement(causes.explain(findings, found, device))


_BY_PICTURE = ("video.bitrate.mean", "video.bitrate.peak")  # rules that depend on size and rate
# Whose best value to aim at, where a limit is not kept
_TOWARDS = {f"video.keyframe_interval.{end}": "video.keyframe_interval.median" for end in ("min", "max")}
_SIZES = ("video.size", "video.width", "video.height", "video.display_aspect")


def _goal(sheet: Sheet, rules: Mapping[str, Rule], sent: Values) -> Values:
    """Where size or rate must go: the ones to go to, with what follows from them; empty: they may stay."""
    goal: Values = {}
    size = sent.get("video.size")
    if size is not None and any(_misses(rules.get(name), sent.get(name)) for name in _SIZES):
        better = _size_for(sheet, rules, str(size))
        if better is not None:
            goal = parameters.expand_set({"video.size": better})
    rate, rule = sent.get("video.frame_rate"), rules.get("video.frame_rate")
    if rule is not None and not rule.same_as_source and _misses(rule, rate):
        wish = rule.should or rule.must
        nearest = wish.nearest(rate) if wish is not None else None
        if nearest is not None:
            goal["video.frame_rate"] = nearest
    coded, rule = sent.get("video.codec"), rules.get("video.codec")
    if any(rung.codecs for rung in sheet.ladder) and rule is not None and _misses(rule, coded):
        wish = rule.should or rule.must
        other = wish.nearest(coded) if wish is not None else None
        if other is not None:
            goal["video.codec"] = other
    return goal


def _misses(rule: Rule | None, value: Value | None) -> bool:
    return rule is not None and rule.must is not None and value is not None and not rule.must.allows(value, measured=True)


def _size_for(sheet: Sheet, rules: Mapping[str, Rule], size: str) -> str | None:
    """The size that a sheet likes best, of those that it names; of equal ones the largest that is not larger than this one."""
    named = {f"{rung.width}x{rung.height}" for rung in sheet.ladder}
    rule = rules.get("video.size")
    best = [str(value) for value in rule.should.one_of] if rule is not None and rule.should is not None else []
    named |= {str(value) for value in rule.must.one_of} if rule is not None and rule.must is not None else set()

    def area(one: str) -> int:
        width, height = parameters.size_of(one)
        return width * height

    def fits(one: str) -> bool:
        values = parameters.expand_set({"video.size": one})
        return not any(_misses(rules.get(name), values.get(name)) for name in _SIZES)

    fitting = [one for one in best if fits(one)] or [one for one in named if fits(one)]
    smaller = [one for one in fitting if area(one) <= area(size)]
    return max(smaller, key=area) if smaller else min(fitting, key=area, default=None)


# What no sheet needs to ask for: a break in the picture or the sound that viewers notice
_ALWAYS = (
    Rule("video.configured", Demand("video.configured", ("yes",))), Rule("audio.configured", Demand("audio.configured", ("yes",))),
    Rule("video.longest_gap", Demand("video.longest_gap", maximum=2.0), None, "a longer one is dead air"),
    Rule("audio.longest_gap", Demand("audio.longest_gap", maximum=2.0), None, "a longer one is dead air"),
    Rule("video.frozen", Demand("video.frozen", maximum=5.0), None, "a longer one is dead air"),
)  # fmt: skip
_LOST = 0.01  # share of the pictures from which on viewers see that some are missing


def _always(rules: Mapping[str, Rule], found: Mapping[str, Measured], sent: Values) -> list[Finding]:
    """Findings that need no rule of a sheet; only those that are off."""
    out = []
    for rule in _ALWAYS:
        row, measured = parameters.find(rule.name), found.get(rule.name)
        if rule.name in rules or measured is None or not parameters.applies(row, sent):
            continue
        finding = _judge(row, rule, None, found, sent, {})
        if finding is not None and finding.verdict is Verdict.FAIL:
            out.append(replace(finding, harm=Harm.DEAD))
    name = "video.pictures_missing"
    lost, seconds, rate = found.get(name), sent.get("stream.duration"), found.get("video.frame_rate")
    if name in rules or lost is None or rate is None or not isinstance(lost.value, int | float) or not lost.value:
        return out
    usual = rate.usual if rate.usual is not None else rate.value
    if not isinstance(usual, int | float) or not isinstance(seconds, int | float) or not usual or not seconds:
        return out
    share = lost.value / (usual * seconds)
    verdict = Verdict.FAIL if share >= _LOST else Verdict.ADVISE
    said = f"{share:.1%} of all" + (f"; {lost.note}" if lost.note else "")
    advice = parameters.find(name).advice
    out.append(Finding(name, verdict, None, None, lost, advice, said, since=lost.since, harm=Harm.POOR))
    return out


def _rate_unproven(finding: Finding) -> Finding:
    """A rate that must be the source's own, which nobody knows here."""
    note = "the source's own rate is not known here"
    verdict = Verdict.UNSEEN if finding.verdict is Verdict.PASS else finding.verdict
    return replace(finding, verdict=verdict, note=note)


def _no_rung(sheet: Sheet, sent: Values) -> str:
    size, rate, codec = sent.get("video.size"), sent.get("video.frame_rate"), sent.get("video.codec")
    coded = f" in {codec or 'a codec that is not known'}" if any(rung.codecs for rung in sheet.ladder) else ""
    return f"{sheet.name} gives no bitrate for {size} at {parameters.show('video.frame_rate', rate)}{coded}"


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
    """The worst verdict of all values that the stream had."""
    if sent.usual is not None and sent.lossy:  # pictures that are lost are not a wrong rate
        return _verdict_of(rule, Measured(sent.usual))
    return max((_verdict_of(rule, one) for one in (sent, *map(Measured, sent.also))), key=_RANK.__getitem__)


def _verdict_of(rule: Rule, sent: Measured) -> Verdict:
    open_ = False
    for demand, missed in ((rule.must, Verdict.FAIL), (rule.should, Verdict.ADVISE)):
        meets = True if demand is None else _meets(demand, sent)
        if meets is False:
            return missed
        open_ = open_ or (meets is None and missed is Verdict.FAIL)
    return Verdict.UNSEEN if open_ else Verdict.PASS


def _why_unseen(row: Parameter, found: Mapping[str, Measured], sent: Values) -> str:
    track = row.name.partition(".")[0]
    there = found.get("audio.present" if track == "audio" else "video.codec")
    if there is not None and there.unread:
        return f"The {'sound' if track == 'audio' else 'picture'} is there and is not read: {there.unread}."
    if sent.get(f"{track}.configured") == "no":
        return parameters.find(f"{track}.configured").advice
    for kind in ("video", "audio"):
        codec = sent.get(f"{kind}.codec")
        if kind == track and codec is not None and not registry.find(kind, str(codec)).module:
            return f"Of {codec} only times and bytes are measured: nothing here reads its headers."
    return _UNSTATED if row.optional and f"{track}.codec" in sent else _LONGER


def _judge(
    row: Parameter, rule: Rule | None, set_: Value | None, found: Mapping[str, Measured], all_sent: Values, goal: Values,
    towards: Rule | None = None,
) -> Finding | None:  # fmt: skip
    sent = found.get(row.name)
    if sent is None:
        if row.name in _ESSENTIAL:
            return Finding(row.name, Verdict.FAIL, rule, set_, None, _NO_VIDEO, harm=Harm.DEAD)
        return Finding(row.name, Verdict.UNSEEN, rule, set_, None, _why_unseen(row, found, all_sent))
    verdict = Verdict.PASS if rule is None else _verdict(rule, sent)
    differs = Finding(row.name, verdict, rule, set_, sent).differs
    if rule is None and not differs:
        return Finding(row.name, Verdict.UNSEEN, None, set_, sent, "", sent.note) if sent.note else None
    said = advice = ""
    if verdict in (Verdict.FAIL, Verdict.ADVISE) and rule is not None:
        said, advice = _advice(row, rule, verdict, sent.value, {**all_sent, **goal}, towards)
    elif verdict is Verdict.UNSEEN and sent.bound is not None:
        advice = _LONGER
    if differs:
        says = f"The device says {parameters.show(row.name, set_)} but sends {parameters.show(row.name, sent.value)}: "
        other, restart = "is another channel pushed", "does it need a restart"
        picture = row.name in ("video.codec", "video.size")
        says += f"{other}, or {restart}?" if picture else f"{restart}, or {other}?"
        said = f"{says} {said}".strip()
        verdict = max(verdict, Verdict.ADVISE, key=_RANK.__getitem__)
    return Finding(row.name, verdict, rule, set_, sent, advice, sent.note, said, since=sent.since)


def _advice(row: Parameter, rule: Rule, verdict: Verdict, sent: Value, all_sent: Values, towards: Rule | None) -> tuple[str, str]:
    """What is required, and the row's advice; where there is a figure to aim at, the advice alone names it."""
    wish = rule.should or rule.must
    target = wish.nearest(sent) if wish is not None else None
    better = (towards.should or towards.must) if towards is not None else None
    if better is not None and rule.must is not None and (best := better.nearest(sent)) is not None and rule.must.allows(best):
        target = best
    rate = all_sent.get("video.frame_rate")
    if row.aim and isinstance(target, int | float) and isinstance(sent, int | float) and isinstance(rate, int | float):
        way = "Lower" if sent > target else "Raise"
        frames = parameters.keyframe_frames(target, rate)
        return "", row.aim.format(target=target, way=way, frames=frames, rate=rate, mega=target / 1000)
    missed = rule.must if verdict is Verdict.FAIL else rule.should
    strength = "Required" if verdict is Verdict.FAIL else "Recommended"
    return (f"{strength}: {missed.text()}." if missed is not None else ""), row.advice
