"""Asked, set and sent: each parameter judged, with what to do where it is off."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any

from direkt import parameters
from direkt.demand import Demand
from direkt.parameters import Value, Values
from direkt.sheet.model import Rule, Sheet


class Verdict(StrEnum):
    """How a parameter fares; the order is from good to bad."""

    PASS = "pass"
    UNSEEN = "unseen"
    ADVISE = "advise"
    FAIL = "fail"


_RANK = {verdict: n for n, verdict in enumerate(Verdict)}
# What a stream must show at once; without it there is nothing to hope for.
_ESSENTIAL = ("video.codec",)


@dataclass(frozen=True, slots=True)
class Finding:
    """One parameter judged."""

    parameter: str
    verdict: Verdict
    asked: Rule | None
    set: Value | None
    sent: Value | None
    advice: str = ""
    note: str = ""

    def json(self) -> dict[str, Any]:
        """As reports and ``--json`` give it."""
        return {
            "parameter": self.parameter, "verdict": self.verdict.value,
            "asked": self.asked.json() if self.asked else None, "set": self.set, "sent": self.sent,
            "advice": self.advice, "note": self.note, "rule": self.asked.source if self.asked else None,
        }  # fmt: skip


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
    sent: Values,
    set_: Values | None = None,
    notes: Mapping[str, str] | None = None,
    source_rate: float | None = None,
) -> Judgement:
    """Judges a measured stream against the sheet and against what the device says it is set to.

    ``set_`` is what the device says, already expanded (parameters.expand_set); ``source_rate``: pictures a second
    at the device's input, for sheets that ask for the same as the source.
    """
    rules = sheet.rules_for(sent) if sheet else {}
    rate_rule = rules.get("video.frame_rate")
    if rate_rule is not None and rate_rule.same_as_source:
        if source_rate:
            rules["video.frame_rate"] = replace(rate_rule, must=Demand("video.frame_rate", (source_rate,)))
        else:
            notes = {**(notes or {}), "video.frame_rate": "at least: the source's own rate is not known here"}
    set_ = set_ or {}
    notes = notes or {}
    names = set(rules) | {name for name in set_ if name in sent}
    if sent.get("audio.present") == "no":
        names = {name for name in names if name == "audio.present" or not name.startswith(("audio.", "stream.av_"))}
    findings = []
    for name in parameters.in_table_order(names):
        finding = _judge(name, rules.get(name), set_.get(name), sent.get(name), notes.get(name, ""), sent)
        if finding is not None:
            findings.append(finding)
    failed = any(f.verdict is Verdict.FAIL and f.parameter in ("video.size", "video.frame_rate") for f in findings)
    if (
        sheet is not None
        and sheet.ladder
        and "video.frame_rate" in sent
        and "video.bitrate.mean" not in rules
        and not failed
    ):
        findings.append(
            Finding(
                "video.bitrate.mean",
                Verdict.ADVISE,
                None,
                set_.get("video.bitrate.mean"),
                sent.get("video.bitrate.mean"),
                _no_rung(sheet, sent),
            )
        )
    return Judgement(tuple(findings))


def _no_rung(sheet: Sheet, sent: Values) -> str:
    size, rate = sent.get("video.size"), sent.get("video.frame_rate")
    return f"{sheet.name} gives no bitrate for {size} at {parameters.show('video.frame_rate', rate)}"


def _verdict(rule: Rule, value: Value, *, measured: bool) -> Verdict:
    if rule.must is not None and not rule.must.allows(value, measured=measured):
        return Verdict.FAIL
    if rule.should is not None and not rule.should.allows(value, measured=measured):
        return Verdict.ADVISE
    return Verdict.PASS


def _judge(
    name: str, rule: Rule | None, set_: Value | None, sent: Value | None, note: str, all_sent: Values
) -> Finding | None:
    row = parameters.find(name)
    if sent is None:
        if name in _ESSENTIAL:
            return Finding(
                name, Verdict.FAIL, rule, set_, None, "No video in the stream: check the device's input and encoder."
            )
        return Finding(name, Verdict.UNSEEN, rule, set_, None, "Watch or record for longer." if not note else "", note)
    verdict = Verdict.PASS if rule is None else _verdict(rule, sent, measured=True)
    if verdict is Verdict.PASS and note.startswith("at least"):
        verdict = Verdict.UNSEEN if rule is not None and (rule.must is not None or rule.same_as_source) else verdict
    strays = set_ is not None and not parameters.same(name, sent, set_, measured=True)
    if strays and note.startswith("at least") and not isinstance(set_, str | None) and not isinstance(sent, str):
        strays = set_ < sent  # what was seen so far may well grow into what is set
    if rule is None and not strays:
        return None if not note else Finding(name, Verdict.UNSEEN, None, set_, sent, "", note)
    advice = ""
    if verdict in (Verdict.FAIL, Verdict.ADVISE):
        advice = _advice(name, rule, sent, all_sent) or _asked(verdict, rule) + row.advice
    if strays:
        says = f"The device says {parameters.show(name, set_)} but sends {parameters.show(name, sent)}: "
        if name == "video.codec" or name.startswith("video.size"):
            says += "is another channel pushed, or does it need a restart?"
        else:
            says += "does it need a restart, or is another channel pushed?"
        advice = f"{says} {advice}".strip()
        verdict = max(verdict, Verdict.ADVISE, key=_RANK.__getitem__)
    return Finding(name, verdict, rule, set_, sent, advice, note)


def _asked(verdict: Verdict, rule: Rule | None) -> str:
    """The demand that is missed, in front of the general advice."""
    demand = None if rule is None else rule.must if verdict is Verdict.FAIL else rule.should
    return f"Asked is {demand.text()}. " if demand is not None else ""


def _advice(name: str, rule: Rule | None, sent: Value, all_sent: Values) -> str:
    """Advice with numbers, where the numbers are at hand."""
    rate = all_sent.get("video.frame_rate")
    if name.startswith("video.keyframe_interval") and isinstance(rate, int | float) and rule is not None:
        wish = rule.should or rule.must
        target = wish.nearest(sent) if wish else None
        if isinstance(target, int | float):
            return f"Set the keyframe interval to {target:g} s: {round(target * rate)} frames at {rate:g} fps."
    if name in ("video.bitrate.mean", "audio.bitrate.mean") and rule is not None and not isinstance(sent, str):
        target = (rule.should or rule.must).nearest(sent) if rule.should or rule.must else None  # type: ignore[union-attr]
        if isinstance(target, int | float):
            what = "video" if name.startswith("video") else "audio"
            way = "Lower" if sent > target else "Raise"
            also = f" ({target / 1000:g} Mbit/s)" if what == "video" else ""
            return f"{way} the {what} bitrate to {target:g} kbit/s{also}."
    return ""
