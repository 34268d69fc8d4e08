"""What settings cost: a vector of which the first places count most. The search looks for the cheapest settings."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from direkt import parameters
from direkt.destination.sheet import Rule, Sheet
from direkt.device.state import Channel
from direkt.match.search import Cost, Price
from direkt.match.terms import (
    BITRATE,
    CHANNELS,
    CODEC,
    RATE,
    ROUND_TO,
    SIZE,
    SOUND_BITRATE,
    Circumstances,
    area_distance,
    audio_step_rule,
    distance,
    fits_mains,
    off_by,
    rungs,
    takes,
)
from direkt.parameters import Values

# places in a cost, the first ones count most
_OFF, _MISSED, _UPSCALED, _MAINS, _AREA, _RATE, _OTHERS_MISSED, _WISH, _ROUND, _CHANGES, _DISTANCE = range(11)
WIDTH = 11


@dataclass(frozen=True, slots=True)
class Prices:
    """The prices of a channel's settings by what some sheets recommend and what is set."""

    channel: Channel
    sheets: tuple[Sheet, ...]
    around: Circumstances
    settings: frozenset[str]

    def all(self) -> Iterable[Price]:
        """One for each setting that can be chosen."""
        for setting in parameters.in_table_order(self.settings):
            if setting == SIZE:
                yield Price((SIZE,), self._size_price())
            elif setting == RATE:
                yield Price((RATE,), self._rate_price())
            elif setting in self.channel.limits:
                yield self._setting_price(setting)

    def _static(self, setting: str) -> list[Rule]:
        return [
            rule
            for sheet in self.sheets
            for name, rule in sheet.rules.items()
            if parameters.setting_of(name) == setting
        ]

    def _size_price(self) -> Callable[[Values], Cost]:
        rules, old, signal = self._static(SIZE), self.channel.values.get(SIZE), self.around.signal

        def of(values: Values) -> Cost:
            cost, size = [0.0] * WIDTH, values.get(SIZE)
            if size is not None:
                cost[_MISSED] = sum(not takes(rule.should, SIZE, size) for rule in rules)
                if signal is not None and signal.height and size != old:
                    cost[_UPSCALED] = max(0.0, parameters.size_of(size)[1] - signal.height)
                cost[_AREA] = area_distance(size, old)
            return tuple(cost)

        return of

    def _rate_price(self) -> Callable[[Values], Cost]:
        rules, old, mains = self._static(RATE), self.channel.values.get(RATE), self.around.mains

        def of(values: Values) -> Cost:
            cost, rate = [0.0] * WIDTH, values.get(RATE)
            if rate is not None:
                cost[_MISSED] = sum(not takes(rule.should, RATE, rate) for rule in rules)
                cost[_MAINS] = float(mains is not None and not fits_mains(rate, mains))
                cost[_RATE] = abs(float(rate) - float(old)) if isinstance(old, int | float) else 0.0
            return tuple(cost)

        return of

    def _setting_price(self, setting: str) -> Price:
        static, old, row = self._static(setting), self.channel.values.get(setting), parameters.find(setting)
        ladder = [rungs(sheet) for sheet in self.sheets if sheet.ladder] if setting == BITRATE else []
        steps = setting == SOUND_BITRATE and any(sheet.audio_ladder for sheet in self.sheets)

        def rules(values: Values) -> list[Rule]:
            found = static
            for by_picture in ladder:
                if (rule := by_picture(values)) is not None:
                    found = [rule, *(r for r in found if r.name != setting)]
            for sheet in self.sheets:
                if steps and (rule := audio_step_rule(sheet, values.get(CHANNELS))) is not None:
                    found = [rule, *(r for r in found if r.name != setting)]
            return found

        def of(values: Values) -> Cost:
            cost, value = [0.0] * WIDTH, values.get(setting)
            if value is not None and parameters.applies(row, values):
                for rule in rules(values):
                    if rule.should is not None and not takes(rule.should, setting, value):
                        cost[_OTHERS_MISSED] += 1
                        cost[_WISH] += off_by(rule.should, setting, value, coarse=setting == BITRATE)
                if setting == BITRATE and isinstance(value, int | float) and value != old:
                    cost[_ROUND] = float(value % ROUND_TO != 0)
            cost[_CHANGES] = float(value != old)
            cost[_DISTANCE] = distance(value, old) if old is not None else 0.0
            return tuple(cost)

        scope = [
            setting,
            *((SIZE, RATE, CODEC) if ladder else ()),
            *((CHANNELS,) if steps else ()),
            *((row.needs[0],) if row.needs else ()),
        ]
        return Price(tuple(name for name in dict.fromkeys(scope) if name in self.settings), of)
