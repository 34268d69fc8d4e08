"""A channel, the sheets that it has to meet, its source and its uplink, as a problem for the search.

Every value that can matter is a candidate: what is set, what any rule, limit or wish names, and their ends; in a range
between two of those, nothing changes but the distance to a wish, and that is least at an end.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

from direkt import parameters
from direkt.codec import levels
from direkt.codec.bits import BitstreamError
from direkt.demand import Demand
from direkt.destination.sheet import Rule, audio_rule, rung_rule
from direkt.device.state import Channel
from direkt.match.prices import WIDTH, Prices
from direkt.match.search import Choice, Constraint, SearchProblem
from direkt.match.terms import (
    ADAPTIVE,
    BITRATE,
    CHANNELS,
    CODEC,
    INTERVAL,
    PROTOCOL,
    PUSH,
    RATE,
    ROUND_TO,
    SIZE,
    SOUND,
    SOUND_BITRATE,
    SOURCE,
    UPLINK,
    Circumstances,
    SheetDemand,
    audio_step_rule,
    distance,
    in_family,
    off_by,
    rungs,
    takes,
)  # fmt: skip
from direkt.parameters import Value, Values


@dataclass(frozen=True, slots=True)
class Stated:
    """The problem with what is needed to explain its answer."""

    problem: SearchProblem
    askers: tuple[SheetDemand, ...]
    uplink: tuple[Constraint, ...] = field(default=())


def state(channel: Channel, askers: Sequence[SheetDemand], around: Circumstances) -> Stated:
    """What is to be decided for a channel."""
    builder = _Builder(channel, tuple(askers), around)
    return builder.build()


class _Builder:
    def __init__(self, channel: Channel, askers: tuple[SheetDemand, ...], around: Circumstances) -> None:
        self.channel, self.askers, self.around = channel, askers, around
        self.old, self.limits = channel.values, channel.limits
        self.counted = any(rule.pictures is not None for rule in channel.together)
        self.domains: dict[str, list[Choice]] = {}
        self.constraints: list[Constraint] = []

    def build(self) -> Stated:
        for setting in parameters.in_table_order({*self.old, *self.limits}):
            self.domains[setting] = self._candidates(setting)
        if self.counted and INTERVAL in self.domains:
            self.domains[INTERVAL] = self._counted_candidates()
        self._device_laws()
        for asker in self.askers:
            self._sheet_musts(asker)
        self._source_musts()
        uplink = self._uplink_must()
        self._push_musts()
        sheets = tuple(asker.sheet for asker in self.askers if not asker.feed)
        prices = Prices(self.channel, sheets, self.around, frozenset(self.domains)).all()
        problem = SearchProblem(self.domains, tuple(self.constraints), tuple(prices), WIDTH)
        return Stated(problem, self.askers, uplink)

    # Candidates

    def _demands_on(self, setting: str) -> Iterable[Demand]:
        for asker in self.askers:
            rules = [rule for name, rule in asker.sheet.rules.items() if parameters.setting_of(name) == setting]
            if setting == BITRATE:
                rules += [rung_rule(rung) for rung in asker.sheet.ladder]
            if setting == SOUND_BITRATE:
                rules += [audio_rule(step) for step in asker.sheet.audio_ladder]
            for rule in rules:
                yield from (demand for demand in (rule.should, rule.must) if demand is not None)
        for law in self.channel.together:
            yield from (demand for demand in (*law.when, *law.then) if parameters.setting_of(demand.name) == setting)

    def _candidates(self, setting: str) -> list[Choice]:
        old, limit = self.old.get(setting), self.limits.get(setting)
        if limit is None:
            return [old]
        kind = parameters.find(setting).kind
        found: list[Choice] = [*limit.one_of, limit.minimum, limit.maximum]
        for demand in self._demands_on(setting):
            if parameters.find(demand.name).kind is not kind:
                continue
            found += [*demand.one_of, demand.minimum, demand.maximum, demand.nearest(old)]
        if setting == BITRATE:
            found += self._uplink_candidates()
            found += [step for profile in ("main", "high") for step in self._level_steps(profile)]
        if setting == SOUND and old == "yes" and not self._wants_no_sound():
            return ["yes"]  # sound that is on is never turned off to meet something else
        free = setting == INTERVAL and self.counted
        kept = [value for value in found if value is not None and (free or limit.allows(value))]
        asked = any(True for _ in self._demands_on(setting))
        # what is required is set, also where the device does not tell how it is
        stays = free or not asked or not kept or (old is not None and limit.allows(old))
        return list(dict.fromkeys([*([old] if stays else []), *kept]))

    def _wants_no_sound(self) -> bool:
        """Whether a sheet demands that there is no sound."""
        rules = [asker.sheet.rules.get(SOUND) for asker in self.askers]
        return any(rule is not None and rule.must is not None and not rule.must.allows("yes") for rule in rules)

    def _level_steps(self, profile: str) -> list[Choice]:
        table = levels.levels("h264")
        has_rule = any("video.level" in asker.sheet.rules for asker in self.askers)
        return [math.floor(step) for step in table.bitrate_steps(profile)] if table is not None and has_rule else []

    def _uplink_candidates(self) -> list[Choice]:
        """The uplink less each audio bitrate, to the kbit/s and round."""
        if self.around.uplink is None:
            return []
        audio = [float(value) for value in self._candidates(SOUND_BITRATE) if isinstance(value, int | float)] if (
            SOUND_BITRATE in self.limits or SOUND_BITRATE in self.old
        ) else [self._usual_audio()]  # fmt: skip
        out: list[Choice] = []
        for share in {0.0, *audio}:
            room = self.around.uplink - share
            out += [value for value in (math.floor(room), int(room // ROUND_TO * ROUND_TO)) if value > 0]
        return out

    def _usual_audio(self) -> float:
        """kbit/s of sound where the device has no setting for it."""
        for asker in self.askers:
            rule = asker.sheet.rules.get(SOUND_BITRATE)
            wish = (rule.should or rule.must) if rule is not None else None
            value = wish.nearest(None) if wish is not None else None
            if isinstance(value, int | float):
                return float(value)
        return 0.0

    def _counted_candidates(self) -> list[Choice]:
        """Intervals of whole pictures, at every rate that can be chosen."""
        seconds = [value for value in self.domains[INTERVAL] if isinstance(value, int | float)]
        ends = {n for law in self.channel.together if law.pictures is not None for n in law.pictures}
        out: list[Choice] = [self.old.get(INTERVAL)]
        for rate in self.domains.get(RATE, [self.old.get(RATE)]):
            if not isinstance(rate, int | float) or rate <= 0:
                continue
            counts = {
                f(value * rate + shift)
                for value in seconds
                for f, shift in ((math.floor, 1e-6), (math.ceil, -1e-6), (round, 0.0))
            }
            out += [parameters.keyframe_seconds(n, rate) for n in sorted(counts | ends) if n >= 1]
        return list(dict.fromkeys(out))

    # What the device can do together

    def _device_laws(self) -> None:
        for law in self.channel.together:
            if not law.push:
                continue
            when = [(parameters.setting_of(d.name), d) for d in law.when]
            if any(setting not in self.domains for setting, _ in when):
                continue  # it hangs on something that the device does not tell
            for demand in law.then:
                setting = parameters.setting_of(demand.name)
                if setting in self.domains and demand.name != PROTOCOL:
                    self._law(when, setting, demand, law.because)
            if law.pictures is not None and INTERVAL in self.domains and RATE in self.domains:
                self._pictures_law(when, law.pictures, law.because)

    def _law(self, when: list[tuple[str, Demand]], setting: str, demand: Demand, because: str) -> None:
        def holds(values: Values) -> bool:
            if any(s not in values or not takes(d, s, values[s]) for s, d in when):
                return True
            return setting not in values or takes(demand, setting, values[setting])

        scope = tuple(dict.fromkeys([*(s for s, _ in when), setting]))
        self.constraints.append(Constraint(scope, holds, law=True, name=demand.name, text=because))

    def _pictures_law(self, when: list[tuple[str, Demand]], span: tuple[int, int], because: str) -> None:
        low, high = span

        def holds(values: Values) -> bool:
            if any(s not in values or not takes(d, s, values[s]) for s, d in when):
                return True
            interval, rate = values.get(INTERVAL), values.get(RATE)
            if not isinstance(interval, int | float) or not isinstance(rate, int | float) or rate <= 0:
                return True
            pictures = round(interval * rate)
            return low <= pictures <= high and abs(parameters.keyframe_seconds(pictures, rate) - interval) < 6e-5

        scope = tuple(dict.fromkeys([*(s for s, _ in when), INTERVAL, RATE]))
        self.constraints.append(Constraint(scope, holds, law=True, name=INTERVAL, text=because))

    # What is asked

    def _sheet_musts(self, asker: SheetDemand) -> None:
        sheet = asker.sheet
        for name, rule in sheet.rules.items():
            setting = parameters.setting_of(name)
            if rule.must is None or setting not in self.domains:
                continue
            if (setting == BITRATE and sheet.ladder) or (setting == SOUND_BITRATE and sheet.audio_ladder):
                continue  # below
            self._must(asker, setting, rule)
        if sheet.ladder and BITRATE in self.domains:
            self._ladder_must(asker)
        if sheet.audio_ladder and SOUND_BITRATE in self.domains:
            self._audio_ladder_must(asker)
        level = sheet.rules.get("video.level")
        if level is not None and level.must is not None and SIZE in self.domains:
            self._level_must(asker, level)
        if ADAPTIVE in self.domains and ADAPTIVE not in sheet.rules:
            self._adaptive_must(asker)

    def _must(self, asker: SheetDemand, setting: str, rule: Rule) -> None:
        must, row = rule.must, parameters.find(setting)
        assert must is not None
        can_set = setting in self.limits

        def holds(values: Values) -> bool:
            if not parameters.applies(row, values):
                return True
            if setting not in values:
                return not can_set
            return takes(must, setting, values[setting])

        def off(values: Values) -> float:
            return off_by(must, setting, values.get(setting))

        scope = (setting, row.needs[0]) if row.needs is not None and row.needs[0] in self.domains else (setting,)
        self.constraints.append(Constraint(scope, holds, False, rule.name, _asked(rule, asker), rule.source, off, feed=asker.feed))

    def _ladder_must(self, asker: SheetDemand) -> None:
        rule_of = rungs(asker.sheet)

        def holds(values: Values) -> bool:
            rule, value = rule_of(values), values.get(BITRATE)
            return rule is None or value is None or takes(rule.must, BITRATE, value)

        def off(values: Values) -> float:
            rule = rule_of(values)
            return (
                off_by(rule.must, BITRATE, values.get(BITRATE)) if rule is not None and rule.must is not None else 0.0
            )

        text = "the sheet's bitrates for the picture" + (f" of feed {asker.feed}" if asker.feed else "")
        scope = tuple(name for name in (BITRATE, SIZE, RATE, CODEC) if name in self.domains)
        self.constraints.append(Constraint(scope, holds, False, BITRATE, text, asker.sheet.source, off, ladder=True))

    def _audio_ladder_must(self, asker: SheetDemand) -> None:
        def rule_of(values: Values) -> Rule | None:
            return audio_step_rule(asker.sheet, values.get(CHANNELS))

        def holds(values: Values) -> bool:
            if values.get(SOUND, "yes") == "no":
                return True
            rule, value = rule_of(values), values.get(SOUND_BITRATE)
            return rule is None or value is None or takes(rule.must, SOUND_BITRATE, value)

        def off(values: Values) -> float:
            rule = rule_of(values)
            return (
                off_by(rule.must, SOUND_BITRATE, values.get(SOUND_BITRATE))
                if rule is not None and rule.must is not None
                else 0.0
            )

        scope = tuple(name for name in (SOUND_BITRATE, CHANNELS, SOUND) if name in self.domains)
        self.constraints.append(
            Constraint(
                scope, holds, False, SOUND_BITRATE, "the sheet's bitrates for the channels", asker.sheet.source, off, ladder=True
            )
        )

    def _level_must(self, asker: SheetDemand, rule: Rule) -> None:
        must = rule.must
        assert must is not None

        def holds(values: Values) -> bool:
            level = level_of(values)
            return level is None or (level != "" and must.allows(level))

        scope = tuple(n for n in (SIZE, RATE, BITRATE, "video.codec", "video.profile") if n in self.domains)
        self.constraints.append(Constraint(scope, holds, False, "video.level", _asked(rule, asker), rule.source, feed=asker.feed))

    def _adaptive_must(self, asker: SheetDemand) -> None:
        names = [
            n
            for n in asker.sheet.rules
            if n.startswith(("video.keyframe", "video.join", "video.bitrate", "video.codec"))
        ]
        if not names and not asker.sheet.ladder:
            return
        rule = asker.sheet.rules.get(names[0]) if names else None
        can_set = ADAPTIVE in self.limits

        def holds(values: Values) -> bool:
            return values.get(ADAPTIVE, "no" if not can_set else "") == "no"

        text = "off: it stretches keyframe intervals, starves the bitrate and may switch the codec"
        self.constraints.append(
            Constraint((ADAPTIVE,), holds, False, ADAPTIVE, text, rule.source if rule else asker.sheet.source)
        )

    # What the source, the uplink and the push allow

    def _source_musts(self) -> None:
        signal = self.around.signal
        if signal is None or not signal.frame_rate or RATE not in self.domains:
            return

        def family(values: Values) -> bool:
            return RATE not in values or in_family(signal, values[RATE])

        def off(values: Values) -> float:  # a sheet's word counts more than an even rhythm
            return distance(values.get(RATE), signal.frame_rate) / 1e6

        self.constraints.append(Constraint((RATE,), family, False, SOURCE, f"the source gives {signal.text}", "", off))
        for asker in self.askers:
            rule = asker.sheet.rules.get(RATE)
            if rule is not None and rule.same_as_source:
                self.constraints.append(Constraint(
                    (RATE,), lambda values: RATE not in values or parameters.same(RATE, values[RATE], signal.frame_rate),
                    False, RATE, _asked(rule, asker), rule.source, off, feed=asker.feed,
                ))  # fmt: skip

    def _uplink_must(self) -> tuple[Constraint, ...]:
        limit = self.around.uplink
        if limit is None or BITRATE not in self.domains:
            return ()
        usual = self._usual_audio()

        def needed(values: Values) -> float:
            video, audio = values.get(BITRATE, 0), values.get(SOUND_BITRATE, usual)
            if values.get(SOUND, "yes") == "no":
                audio = 0
            return float(video) + float(audio)

        made = Constraint(
            tuple(n for n in (BITRATE, SOUND_BITRATE, SOUND) if n in self.domains), lambda values: needed(values) <= limit + 1e-6, False,
            UPLINK, f"the uplink leaves {limit:.0f} kbit/s for this feed", "", lambda values: max(0.0, needed(values) - limit) / max(limit, 1.0) / 1e6,
        )  # fmt: skip
        self.constraints.append(made)
        return (made,)

    def _push_musts(self) -> None:
        """Where the device does not push, or not by the destination's protocol."""
        for law in self.channel.together:
            when = [(parameters.setting_of(d.name), d) for d in law.when]
            if any(setting not in self.domains for setting, _ in when):
                continue
            others = [d for d in law.then if d.name == PROTOCOL]
            fits = all(d.allows(self.around.protocol) for d in others) if self.around.protocol is not None else True
            if law.push and fits:
                continue

            def holds(values: Values, when: list[tuple[str, Demand]] = when) -> bool:
                return any(s not in values or not takes(d, s, values[s]) for s, d in when)

            name = PUSH if not law.push else PROTOCOL
            words = law.because or (
                "the device does not push then" if not law.push else f"not by {self.around.protocol}"
            )
            self.constraints.append(Constraint(tuple(s for s, _ in when), holds, False, name, words))


def _asked(rule: Rule, asker: SheetDemand) -> str:
    return rule.text() + (f" (feed {asker.feed})" if asker.feed else "")


def level_of(values: Values) -> str | None:
    """The level that settings need; empty: none is enough; None: not known."""
    size, rate, bitrate = (values.get(n) for n in (SIZE, RATE, BITRATE))
    if size is None or isinstance(rate, str) or isinstance(bitrate, str):
        return None
    return _level(
        str(values.get("video.codec", "h264")), size, rate or 0, bitrate or 0, str(values.get("video.profile", "main"))
    )


@lru_cache(4096)
def _level(codec: str, size: Value, rate: float, bitrate: float, profile: str) -> str | None:
    table = levels.levels(codec)
    if table is None:
        return None
    try:
        return table.lowest_level(*parameters.size_of(size), rate, bitrate, profile)
    except BitstreamError:
        return ""
