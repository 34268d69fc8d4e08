"""A demand on one parameter: exactly a value, one of several, a range, or anything but some values.

Sheets use it for what is demanded and recommended, devices for what they can be set to.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from direkt import parameters
from direkt.parameters import ParameterError, Value, ValueKind

JsonDemand = Value | list[Value] | dict[str, Value | list[Value]]


@dataclass(frozen=True, slots=True)
class Demand:
    """Either ``one_of`` holds one or more values, or ``minimum`` and ``maximum`` bound a range (None: open).

    ``never``: values that are ruled out of the range; none of them stands in ``one_of``.
    """

    name: str  # the parameter
    one_of: tuple[Value, ...] = ()
    minimum: Value | None = None
    maximum: Value | None = None
    never: tuple[Value, ...] = ()

    @property
    def bounded(self) -> bool:
        """Whether there is a range that ends on one side at least."""
        return self.minimum is not None or self.maximum is not None

    @property
    def untold(self) -> bool:
        """Whether nothing is said: any value may do, and only trying it tells."""
        return not self.one_of and not self.bounded and not self.never

    def allows(self, value: Value, *, measured: bool = False, slack: float = 0.0) -> bool:
        """Whether ``value`` meets the demand; ``measured`` values count within how finely they can be measured.

        ``slack``: how much further off, in the parameter's unit, still counts.
        """
        if self.one_of:
            return any(
                parameters.same(self.name, value, wish, measured=measured)
                or (
                    slack > 0
                    and not isinstance(value, str)
                    and not isinstance(wish, str)
                    and abs(value - wish) <= slack
                )
                for wish in self.one_of
            )
        if any(parameters.same(self.name, value, wrong, measured=measured) for wrong in self.never):
            return False
        if not self.bounded:
            return True
        slack = max(slack, parameters.find(self.name).resolution if measured else 1e-9)
        number = parameters.ordered(self.name, value)
        if self.minimum is not None and number < parameters.ordered(self.name, self.minimum) - slack:
            return False
        return self.maximum is None or number <= parameters.ordered(self.name, self.maximum) + slack

    def allows_beyond(self, value: Value, *, upwards: bool) -> bool | None:
        """Whether all values from ``value`` upwards (or downwards) meet the demand; None: some do."""
        if self.one_of:
            numbers = [parameters.ordered(self.name, wish) for wish in self.one_of]
            edge = parameters.ordered(self.name, value)
            slack = parameters.find(self.name).resolution
            ahead = any(n >= edge - slack for n in numbers) if upwards else any(n <= edge + slack for n in numbers)
            return None if ahead else False
        if self.never:
            whole = replace(self, never=()).allows_beyond(value, upwards=upwards)
            ruled = Demand(self.name, self.never).allows_beyond(value, upwards=upwards)
            return None if whole and ruled is not False else whole
        near, far = (self.minimum, self.maximum) if upwards else (self.maximum, self.minimum)
        beyond = Demand(self.name, minimum=None if upwards else far, maximum=far if upwards else None)
        if not beyond.allows(value, measured=True):
            return False
        before = Demand(self.name, minimum=near if upwards else None, maximum=None if upwards else near)
        return True if far is None and before.allows(value, measured=True) else None

    def nearest(self, value: Value | None) -> Value | None:
        """The allowed value closest to ``value``; of words, the first. None when the range has no end to take."""
        found = self._nearest(value)
        return None if found is not None and found in self.never else found

    def _nearest(self, value: Value | None) -> Value | None:
        if self.one_of:
            numbers = [wish for wish in self.one_of if not isinstance(wish, str)]
            if value is None or isinstance(value, str) or len(numbers) < len(self.one_of):
                return value if value in self.one_of else self.one_of[0]
            return min(numbers, key=lambda wish: (abs(wish - value), wish))
        if value is not None and self.allows(value):
            return value
        if value is None or isinstance(value, str):
            return self.minimum if self.minimum is not None else self.maximum
        if self.minimum is not None and value < parameters.ordered(self.name, self.minimum):
            return self.minimum
        return self.maximum

    def text(self) -> str:
        """As a person reads it, with the unit."""
        name = self.name
        if self.untold:
            return "not reported"
        if self.one_of:
            if len(self.one_of) == 1:
                return parameters.show(name, self.one_of[0])
            unit = parameters.find(name).unit
            if (run := self._run()) is not None:
                return f"{run[0]} to {run[1]}{f' {unit}' if unit else ''}, whole"
            words = [parameters.show(name, value, unit=False) for value in self.one_of]
            listed = f"{', '.join(words[:-1])} or {words[-1]}"
            return f"{listed} {unit}" if unit else listed
        if self.never:
            words = [parameters.show(name, value, unit=False) for value in self.never]
            listed = f"not {', '.join(words[:-1])} or {words[-1]}" if len(words) > 1 else f"not {parameters.show(name, self.never[0])}"
            return f"{replace(self, never=()).text()}, {listed}" if self.bounded else listed
        if self.minimum is None:
            return f"at most {parameters.show(name, self.maximum)}"
        if self.maximum is None:
            return f"at least {parameters.show(name, self.minimum)}"
        return f"{parameters.show(name, self.minimum, unit=False)} to {parameters.show(name, self.maximum)}"

    def _run(self) -> tuple[int, int] | None:
        """First and last of many whole numbers in a row; None for anything else."""
        numbers = sorted(value for value in self.one_of if isinstance(value, int))
        in_a_row = len(numbers) == len(self.one_of) > 6 and numbers[-1] - numbers[0] == len(numbers) - 1
        return (numbers[0], numbers[-1]) if in_a_row else None

    def json(self) -> JsonDemand:
        """As JSON and YAML write it: a value, a list, or ``{"min": ..., "max": ..., "never": [...]}``."""
        if self.one_of:
            return self.one_of[0] if len(self.one_of) == 1 else list(self.one_of)
        bounds = {"min": self.minimum, "max": self.maximum}
        found: dict[str, Value | list[Value]] = {key: value for key, value in bounds.items() if value is not None}
        return {**found, "never": list(self.never)} if self.never else found


def both(a: Demand, b: Demand) -> Demand | None:
    """What meets both demands on the same parameter; None when nothing does."""
    if a.one_of or b.one_of:
        listed, other = (a, b) if a.one_of else (b, a)
        kept = tuple(value for value in listed.one_of if other.allows(value))
        return Demand(a.name, kept) if kept else None
    never = tuple(dict.fromkeys([*a.never, *b.never]))
    if (left := _left(a.name, never)) is not None:
        return Demand(a.name, left) if left else None
    lows = [x for x in (a.minimum, b.minimum) if x is not None]
    highs = [x for x in (a.maximum, b.maximum) if x is not None]
    low = max(lows, key=lambda x: parameters.ordered(a.name, x), default=None)
    high = min(highs, key=lambda x: parameters.ordered(a.name, x), default=None)
    if low is not None and high is not None and parameters.ordered(a.name, low) > parameters.ordered(a.name, high):
        return None
    if low is not None and low == high and low in never:
        return None
    return Demand(a.name, minimum=low, maximum=high, never=never)


def _left(name: str, never: tuple[Value, ...]) -> tuple[Value, ...] | None:
    """The values that are left where most are ruled out; None: several, or no end of them."""
    row = parameters.find(name)
    all_ = ("yes", "no") if row.kind is ValueKind.YES_NO else row.choices
    left = tuple(value for value in all_ if value not in never)
    return left if never and all_ and len(left) < 2 else None


def within(inner: Demand, outer: Demand) -> bool:
    """Whether everything that ``inner`` names meets ``outer``; an open end counts as named."""
    if inner.one_of:
        return all(outer.allows(value) for value in inner.one_of)
    if outer.one_of:
        return False
    for mine, theirs in ((inner.minimum, outer.minimum), (inner.maximum, outer.maximum)):
        if mine is not None and not outer.allows(mine):
            return False
        if mine is None and theirs is not None and inner.minimum is None and inner.maximum is None:
            return False
    return True


def parse(name: str, raw: object, never: object = None) -> Demand:
    """A demand as YAML and JSON write it, without what must ``never`` be. Raises ParameterError that says what was expected."""
    if never is not None:
        return _without(name, None if raw is None else parse(name, raw), never)
    row = parameters.find(name)
    if isinstance(raw, list):
        if not raw:
            raise ParameterError(f"{name}: an empty list allows nothing; name at least one value")
        return Demand(name, tuple(parameters.clean(name, item) for item in raw))
    if isinstance(raw, dict):
        strange = sorted(set(map(str, raw)) - {"min", "max"})
        if strange or not raw:
            raise ParameterError(f"{name}: a range has min, max or both; got {', '.join(strange) or 'neither'}")
        if row.kind not in (ValueKind.NUMBER, ValueKind.VERSION):
            raise ParameterError(f"{name}: a range needs numbers; give a value or a list of values")
        low, high = (parameters.clean(name, raw[key]) if key in raw else None for key in ("min", "max"))
        if low is not None and high is not None and parameters.ordered(name, low) > parameters.ordered(name, high):
            raise ParameterError(f"{name}: min {low} is above max {high}")
        return Demand(name, minimum=low, maximum=high)
    return Demand(name, (parameters.clean(name, raw),))


def _without(name: str, wish: Demand | None, raw: object) -> Demand:
    if isinstance(raw, dict):
        raise ParameterError(f"{name}: never takes a value or a list of values; a limit is must: {{min: ..., max: ...}}")
    wrong = parse(name, raw).one_of
    if wish is not None and (both_ := [value for value in wish.one_of if value in wrong]):
        raise ParameterError(f"{name}: {parameters.show(name, both_[0])} stands under must and under never")
    if wish is not None and wish.one_of:
        return wish
    met = both(wish or Demand(name), Demand(name, never=wrong))
    if met is None:
        raise ParameterError(f"{name}: never leaves no value that it may have")
    return met
