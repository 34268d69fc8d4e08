"""Matches a channel's settings to a sheet: changes as little as needed, and gives the rule behind each change.

The order matters: picture size and frame rate are chosen together, because the bitrate ladder, the uplink and the
level depend on both; everything else follows. Among values that the sheet takes, a recommended one wins over a
merely allowed one, then the one closest to what is set.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from direkt import parameters
from direkt.codec import reader
from direkt.codec.bits import BitstreamError
from direkt.demand import Demand
from direkt.destination.model import Rule, Sheet
from direkt.device.model import Channel, InputSignal
from direkt.parameters import Value, Values


@dataclass(frozen=True, slots=True)
class Step:
    """One setting of the channel: kept or changed."""

    parameter: str
    old: Value | None
    new: Value | None
    asked: str  # the rules' words
    reason: str
    rule: str = ""  # where the deciding rule stands

    @property
    def changes(self) -> bool:
        """Whether anything is to be written."""
        return self.new is not None and self.new != self.old


@dataclass(frozen=True, slots=True)
class Unmet:
    """A demand that the device, its input or the uplink cannot meet."""

    parameter: str
    reason: str
    rule: str = ""


@dataclass(frozen=True, slots=True)
class Plan:
    """All steps in the table's order, and what cannot be met."""

    steps: tuple[Step, ...]
    unmet: tuple[Unmet, ...]

    @property
    def changes(self) -> tuple[Step, ...]:
        """The steps that change something."""
        return tuple(step for step in self.steps if step.changes)

    def values(self) -> Values:
        """What is to be written."""
        return {step.parameter: step.new for step in self.changes if step.new is not None}


class _Planner:
    def __init__(self, channel: Channel, sheet: Sheet, signal: InputSignal | None, uplink: float | None) -> None:
        self.channel, self.sheet, self.signal, self.uplink = channel, sheet, signal, uplink
        self.old = channel.values
        self.new: Values = dict(channel.values)
        self.steps: list[Step] = []
        self.unmet: list[Unmet] = []

    def rules_on(self, setting: str, values: Values) -> list[Rule]:
        """The rules on parameters that this setting governs."""
        rules = self.sheet.rules_for(parameters.expand_set(values))
        found = [rule for name, rule in rules.items() if parameters.setting_of(name) == setting]
        # the rule on the setting's own name first: it is the one to quote
        return sorted(found, key=lambda rule: rule.name != setting)

    def plan(self) -> Plan:
        self._picture()
        for setting in self.channel.limits:
            if setting in ("video.size", "video.frame_rate", "video.bitrate.mean"):
                continue
            if not parameters.applies(parameters.find(setting), self.new):
                continue
            self._setting(setting)
        self._bitrate()
        self._level()
        self._input()
        self._beyond_reach()
        order = parameters.in_table_order(step.parameter for step in self.steps)
        by_name = {step.parameter: step for step in self.steps}
        return Plan(tuple(by_name[name] for name in order), tuple(self.unmet))

    # One setting by itself

    def _setting(self, setting: str) -> None:
        rules = self.rules_on(setting, self.new)
        old, limit = self.old.get(setting), self.channel.limits[setting]
        if not rules:
            self.steps.append(Step(setting, old, old, "", "the sheet does not ask"))
            return
        best = self._choose(setting, old, limit, rules, self.new)
        if best is None:
            self._cannot(setting, old, limit, rules)
            return
        self.new[setting] = best
        self._decide(setting, old, best, rules)

    def _choose(
        self, setting: str, old: Value | None, limit: Demand, rules: list[Rule], values: Values
    ) -> Value | None:
        """The best value that the device can do and every rule takes; None when there is none."""
        candidates = [
            value for value in _candidates(old, limit, rules)
            if limit.allows(value) and all(_takes(rule.must, setting, value) for rule in rules)
        ]  # fmt: skip
        return min(candidates, key=lambda value: self._rank(setting, value, old, rules), default=None)

    @staticmethod
    def _rank(setting: str, value: Value, old: Value | None, rules: list[Rule]) -> tuple[float, ...]:
        missed = sum(not _takes(rule.should, setting, value) for rule in rules)
        wishes = [rule.should.nearest(value) for rule in rules if rule.should is not None]
        off = sum(_distance(value, wish) for wish in wishes) if missed else 0.0
        return (missed, off, 0.0 if value == old else 1.0, _distance(value, old))

    def _decide(self, setting: str, old: Value | None, new: Value, rules: list[Rule]) -> None:
        asked = _asked(rules)
        deciding = next(
            (r for r in rules if r.must and (old is None or not _takes(r.must, setting, old))),
            next((r for r in rules if r.should and (old is None or not _takes(r.should, setting, old))), rules[0]),
        )
        reason = self._reason(setting, old, new, deciding)
        self.steps.append(Step(setting, old, new, asked, reason, deciding.source))

    def _reason(self, setting: str, old: Value | None, new: Value, rule: Rule) -> str:
        because = f": {rule.because}" if rule.because else ""
        if rule.same_as_source and new != old and self.signal is not None:
            return f"the sheet demands the same as the source, {self.signal.text}{because}"
        hint = self._in_frames(setting, new)
        if old is not None and parameters.same(setting, old, new):
            if rule.should is not None and not _takes(rule.should, setting, new):
                return f"kept: allowed, though the sheet recommends {rule.should.text()} and the device cannot"
            return f"kept: as asked{hint}"
        demanded = rule.must is not None and (old is None or not _takes(rule.must, setting, old))
        part = rule.must if demanded else rule.should
        verb = "demands" if demanded else "recommends"
        what = "it" if rule.name == setting or part is None else f"{rule.name} of {part.text()}"
        return f"the sheet {verb} {what}{because}{hint}"

    def _in_frames(self, setting: str, new: Value) -> str:
        """The keyframe interval in frames, as many devices want it."""
        rate = self.new.get("video.frame_rate")
        if setting != "video.keyframe_interval.median" or isinstance(new, str) or isinstance(rate, str) or not rate:
            return ""
        return f" ({parameters.keyframe_frames(new, rate)} frames at {rate:g} fps)"

    def _cannot(self, setting: str, old: Value | None, limit: Demand, rules: list[Rule]) -> None:
        rule = next((r for r in rules if r.must), rules[0])
        wants = rule.must.text() if rule.must else ""
        self.unmet.append(Unmet(rule.name, f"asked {wants}; the device can do {limit.text()}", rule.source))
        self.steps.append(Step(setting, old, old, _asked(rules), "kept: cannot be met", rule.source))

    # Size and frame rate together

    def _picture(self) -> None:
        limits = self.channel.limits
        size_limit, rate_limit = limits.get("video.size"), limits.get("video.frame_rate")
        old_size, old_rate = self.old.get("video.size"), self.old.get("video.frame_rate")
        sizes = self._allowed("video.size", old_size, size_limit)
        rates = self._allowed("video.frame_rate", old_rate, rate_limit)
        family = [rate for rate in rates if self._in_family(rate)]
        rate_rule = self.sheet.rules.get("video.frame_rate")
        if rate_rule is not None and rate_rule.same_as_source and self.signal is not None:
            family = [rate for rate in rates if parameters.same("video.frame_rate", rate, self.signal.frame_rate)]
        if rates and not family and self.signal is not None:
            rule = self.sheet.rules.get("video.frame_rate")
            self.unmet.append(Unmet(
                "video.frame_rate",
                f"the input is {self.signal.text}; the sheet and the device share only "
                f"{', '.join(f'{r:g}' for r in rates if not isinstance(r, str))} fps, which would judder: "
                "change the camera's format", rule.source if rule else "",
            ))  # fmt: skip
        some_sizes: list[Value | None] = [*sizes] or [old_size]
        some_rates: list[Value | None] = [*(family or rates)] or [old_rate]
        pairs = [(size, rate) for size in some_sizes for rate in some_rates]
        reachable = [pair for pair in pairs if self._fits_uplink(*pair)]
        if pairs and not reachable:
            self._uplink_too_thin(pairs)
        size, rate = min(reachable or pairs, key=lambda pair: self._picture_rank(*pair), default=(old_size, old_rate))
        limited = bool(reachable) and len(reachable) < len(pairs)
        for setting, old, new, found, limit in (
            ("video.size", old_size, size, sizes, size_limit), ("video.frame_rate", old_rate, rate, rates, rate_limit),
        ):  # fmt: skip
            if limit is None:
                continue
            rules = self.rules_on(setting, self.old)
            if not rules:
                self.steps.append(Step(setting, old, new, "", "the sheet does not ask"))
            elif not found:
                self._cannot(setting, old, limit, rules)
                continue
            elif new is not None:
                self._decide(setting, old, new, rules)
                best = self._choose(setting, old, limit, rules, self.old) if limited else new
                if best != new:
                    step = self.steps[-1]
                    self.steps[-1] = Step(
                        setting, old, new, step.asked, f"{step.reason}; the uplink carries no more", step.rule
                    )
            if new is not None:
                self.new[setting] = new

    def _allowed(self, setting: str, old: Value | None, limit: Demand | None) -> list[Value]:
        if limit is None:
            return [] if old is None else [old]
        rules = self.rules_on(setting, self.old)
        candidates = [
            value for value in _candidates(old, limit, rules)
            if limit.allows(value) and all(_takes(rule.must, setting, value) for rule in rules)
        ]  # fmt: skip
        return list(dict.fromkeys(candidates))

    def _in_family(self, rate: Value) -> bool:
        """Whether the input's rate is a whole multiple: 50 gives 50 and 25, 59.94 gives 29.97 but not 30."""
        if self.signal is None or not self.signal.frame_rate or isinstance(rate, str):
            return True
        times = self.signal.frame_rate / rate
        return round(times) >= 1 and abs(self.signal.frame_rate - round(times) * rate) < 0.006 * round(times)

    def _picture_rank(self, size: Value | None, rate: Value | None) -> tuple[float, ...]:
        rules = {"video.size": size, "video.frame_rate": rate}
        missed = sum(
            rule.should is not None and value is not None and not _takes(rule.should, setting, value)
            for setting, value in rules.items() for rule in self.rules_on(setting, self.old)
        )  # fmt: skip
        upscaled = 0.0
        if self.signal is not None and self.signal.height and size is not None and size != self.old.get("video.size"):
            upscaled = max(0.0, parameters.size_of(size)[1] - self.signal.height)
        # the new size lies as near to the old as can be, but never gains pixels that the input does not have
        return (
            missed,
            upscaled,
            _area_distance(size, self.old.get("video.size")),
            _distance(rate, self.old.get("video.frame_rate")),
        )

    def _lowest_bitrate(self, size: Value | None, rate: Value | None) -> float:
        """kbit/s of video and audio that the sheet wants at the least."""
        values = {**self.old, **({"video.size": size} if size else {}), **({"video.frame_rate": rate} if rate else {})}
        video = next(
            (r.must.minimum for r in self.rules_on("video.bitrate.mean", values) if r.must and r.must.minimum), 0
        )
        return parameters.ordered("video.bitrate.mean", video) + self._audio_share()

    def _audio_share(self) -> float:
        rule = self.sheet.rules.get("audio.bitrate.mean")
        if rule is None:
            old = self.old.get("audio.bitrate.mean", 0)
            return float(old) if not isinstance(old, str) else 0.0
        wish = rule.should or rule.must
        value = wish.nearest(self.old.get("audio.bitrate.mean")) if wish else None
        return float(value) if isinstance(value, int | float) else 0.0

    def _fits_uplink(self, size: Value | None, rate: Value | None) -> bool:
        return self.uplink is None or self._lowest_bitrate(size, rate) <= self.uplink

    def _uplink_too_thin(self, pairs: Iterable[tuple[Value | None, Value | None]]) -> None:
        least = min(self._lowest_bitrate(*pair) for pair in pairs)
        self.unmet.append(Unmet(
            "video.bitrate.mean",
            f"the uplink leaves {self.uplink:.0f} kbit/s for this feed; the sheet wants at least {least:.0f} kbit/s",
        ))  # fmt: skip

    # What depends on the picture

    def _bitrate(self) -> None:
        setting = "video.bitrate.mean"
        limit = self.channel.limits.get(setting)
        if limit is None:
            return
        old = self.old.get(setting)
        rules = self.rules_on(setting, self.new)
        size, rate = self.new.get("video.size"), self.new.get("video.frame_rate")
        if not rules:
            words = f"the sheet gives no bitrate for {size} at {parameters.show('video.frame_rate', rate)}"
            self.steps.append(Step(setting, old, old, "", words))
            return
        room = None if self.uplink is None else self.uplink - self._audio_share()
        best = self._choose(setting, old, limit, rules, self.new)
        if best is None:
            self._cannot(setting, old, limit, rules)
            return
        if room is not None and not isinstance(best, str) and best > room:
            rule = rules[0]
            capped = int(room // 100 * 100)
            if _takes(rule.must, setting, capped) and limit.allows(capped):
                reason = f"{rule.text()}, but the uplink leaves {room:.0f} kbit/s for video"
                self.new[setting] = capped
                self.steps.append(Step(setting, old, capped, _asked(rules), reason, rule.source))
                return
        self.new[setting] = best
        self._decide(setting, old, best, rules)

    def _level(self) -> None:
        """Whether the level that the new settings need is one that the sheet takes."""
        rule = self.sheet.rules.get("video.level")
        size, rate, bitrate = (self.new.get(n) for n in ("video.size", "video.frame_rate", "video.bitrate.mean"))
        if rule is None or rule.must is None or size is None or isinstance(rate, str) or isinstance(bitrate, str):
            return
        table = reader.levels(str(self.new.get("video.codec", "h264")))
        if table is None:
            return
        try:
            level = table.lowest_level(
                *parameters.size_of(size), rate or 0, bitrate or 0, str(self.new.get("video.profile", "main"))
            )
        except BitstreamError as error:
            self.unmet.append(Unmet("video.level", str(error), rule.source))
            return
        if not rule.must.allows(level):
            self.unmet.append(
                Unmet(
                    "video.level", f"asked {rule.must.text()}; {size} at {rate:g} fps needs level {level}", rule.source
                )
            )

    def _input(self) -> None:
        rule = self.sheet.rules.get("video.scan")
        if self.signal is None:
            self.unmet.append(Unmet("video.size", "no signal at the device's input: nothing can be sent but black"))
        elif (
            rule is not None
            and rule.must is not None
            and self.signal.frame_rate
            and not rule.must.allows(self.signal.scan)
        ):
            self.unmet.append(
                Unmet("video.scan", f"asked {rule.must.text()}; the input is {self.signal.text}", rule.source)
            )

    def _beyond_reach(self) -> None:
        """Settings that the device shows but that cannot be changed, and that the sheet does not take."""
        for setting, value in self.old.items():
            if setting in self.channel.limits:
                continue
            for rule in self.rules_on(setting, self.new):
                if rule.must is not None and not _takes(rule.must, setting, value):
                    words = f"asked {rule.must.text()}; the device is fixed at {parameters.show(setting, value)}"
                    self.unmet.append(Unmet(rule.name, words, rule.source))


def _takes(demand: Demand | None, setting: str, value: Value) -> bool:
    """Whether a demand takes what follows from setting ``setting`` to ``value``."""
    if demand is None:
        return True
    follows = parameters.expand_set({setting: value}).get(demand.name)
    return follows is None or demand.allows(follows)


def _candidates(old: Value | None, limit: Demand, rules: list[Rule]) -> Iterator[Value]:
    """The values worth considering, the present one first."""
    if old is not None:
        yield old
    yield from limit.one_of
    for rule in rules:
        for demand in (rule.should, rule.must):
            if demand is None or parameters.find(demand.name).kind is not parameters.find(limit.name).kind:
                continue
            yield from demand.one_of
            for value in (demand.nearest(old), demand.minimum, demand.maximum):
                if value is not None:
                    yield value
    for value in (limit.minimum, limit.maximum):
        if value is not None:
            yield value


def _distance(a: Value | None, b: Value | None) -> float:
    if isinstance(a, int | float) and isinstance(b, int | float):
        return abs(a - b)
    return 0.0 if a == b else 1.0


def _area_distance(a: Value | None, b: Value | None) -> float:
    if a is None or b is None:
        return 0.0
    (aw, ah), (bw, bh) = parameters.size_of(a), parameters.size_of(b)
    return abs(aw * ah - bw * bh)


def _asked(rules: list[Rule]) -> str:
    return "; ".join(
        rule.text() if n == 0 else f"{rule.name.rsplit('.', 1)[-1]} {rule.text()}" for n, rule in enumerate(rules)
    )


def plan(channel: Channel, sheet: Sheet, signal: InputSignal | None, uplink: float | None = None) -> Plan:
    """What to change on ``channel`` so that it conforms to ``sheet``.

    ``signal``: what is at the device's input, None for nothing; ``uplink``: kbit/s that this feed may use.
    """
    return _Planner(channel, sheet, signal, uplink).plan()
