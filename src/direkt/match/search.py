"""An exact search over all settings of a channel: every combination counts, none is guessed at.

Settings are variables with a few candidate values each; what the device can do together is law; what is asked is a must that
may be given up only where all musts together leave nothing. Cost: musts that look at one setting alone thin its candidates
out first. The rest is a tree of choices: whenever the settings that are still open fall into parts that share no constraint,
each part is searched by itself and remembered, so that the effort grows with how much hangs together, not with all
there is. Costs are vectors that are compared in order and add up, so the best of all is the sum of each part's best; a branch
ends where what it has cost and the least that is to come is no less than the best that is known.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

from direkt.parameters import Value, Values

Cost = tuple[float, ...]
Choice = Value | None  # None: the setting has no value
_MOST_SETS = 2000  # sets of musts that are tried for the smallest one in conflict
_MOST_CORRECTIONS = 60  # ways to give up as few musts as can be, of which the best one is taken


@dataclass(frozen=True, slots=True)
class Constraint:
    """A condition on some settings. A law of the device can never be given up, a must can."""

    scope: tuple[str, ...]  # settings
    holds: Callable[[Values], bool]
    law: bool = False
    name: str = ""  # the parameter that is asked about
    text: str = ""
    source: str = ""  # where it stands
    distance: Callable[[Values], float] = lambda _: 1.0  # how far off settings are that do not meet it
    ladder: bool = False  # it is a sheet's table of bitrates
    feed: str = ""  # of several feeds, the one that asks


@dataclass(frozen=True, slots=True)
class Price:
    """What some settings cost: a vector, of which all must have the same length."""

    scope: tuple[str, ...]
    of: Callable[[Values], Cost]


@dataclass(frozen=True, slots=True)
class SearchProblem:
    """All there is to decide."""

    domains: Mapping[str, Sequence[Choice]]
    constraints: tuple[Constraint, ...]
    prices: tuple[Price, ...]
    width: int  # of a cost


@dataclass(frozen=True, slots=True)
class Solution:
    """The best settings; ``given_up``: as few musts as can be; ``conflict``: the smallest set that cannot hold together."""

    values: Values
    cost: Cost
    given_up: tuple[Constraint, ...] = ()
    conflict: tuple[Constraint, ...] = ()


class NothingFits(Exception):
    """Even without any must the device's own laws leave nothing."""


def solve(problem: SearchProblem) -> Solution:
    """The best settings. Raises NothingFits."""
    musts = [c for c in problem.constraints if not c.law]
    laws = [c for c in problem.constraints if c.law]
    whole = _Search(problem, (*laws, *musts))
    if whole.is_feasible():
        values, cost = whole.best()
        return Solution(values, cost)
    if not _Search(problem, tuple(laws)).is_feasible():
        raise NothingFits
    groups = _in_conflict(problem, laws, musts)
    conflict = min((_smallest_conflict(group) for group in groups), key=len)
    best: tuple[Cost, Values, tuple[Constraint, ...]] | None = None
    for dropped in _together(groups):
        kept = tuple(c for c in musts if c not in dropped)
        off = Price(tuple(dict.fromkeys(s for c in dropped for s in c.scope)), _how_far(dropped, problem.width))
        values, cost = _Search(problem, (*laws, *kept), (off,)).best()
        if best is None or cost < best[0]:
            best = cost, values, dropped
    assert best is not None
    return Solution(best[1], best[0], best[2], conflict)


def best_of(problem: SearchProblem) -> Values:
    """The best settings where it is known that all constraints can be met. Raises NothingFits."""
    return _Search(problem, problem.constraints).best()[0]


def _how_far(dropped: tuple[Constraint, ...], width: int) -> Callable[[Values], Cost]:
    def of(values: Values) -> Cost:
        return (sum(c.distance(values) for c in dropped if not c.holds(values)), *(0.0,) * (width - 1))

    return of


@dataclass(frozen=True, slots=True)
class _Conflict:
    """Settings that hang together and cannot meet all of their musts."""

    part: SearchProblem
    laws: list[Constraint]
    musts: list[Constraint]
    corrections: list[tuple[Constraint, ...]]  # all smallest sets of musts without which the rest can hold

    def fits(self, musts: Iterable[Constraint]) -> bool:
        """Whether these can hold together."""
        return _Search(self.part, (*self.laws, *musts)).is_feasible()


def _in_conflict(problem: SearchProblem, laws: Sequence[Constraint], musts: Sequence[Constraint]) -> list[_Conflict]:
    """The groups of settings whose musts cannot all hold; groups are independent."""
    out = []
    for group in _groups(problem.domains, (*laws, *musts)):
        part = SearchProblem({name: problem.domains[name] for name in group}, (), (), problem.width)
        made = _Conflict(
            part, [c for c in laws if group & set(c.scope)], [c for c in musts if group & set(c.scope)], []
        )
        if made.fits(made.musts):
            continue
        hopeless = tuple(c for c in made.musts if not made.fits((c,)))  # they have to go whatever else does
        left = [c for c in made.musts if c not in hopeless]
        for size in range(len(left) + 1):
            for dropped in itertools.combinations(left, size):
                if made.fits(c for c in left if c not in dropped):
                    made.corrections.append((*hopeless, *dropped))
            if made.corrections:
                break
        out.append(made)
    return out


def _together(groups: Sequence[_Conflict]) -> list[tuple[Constraint, ...]]:
    """The smallest sets of musts to give up, of all groups together."""
    out: list[tuple[Constraint, ...]] = [()]
    for group in groups:
        out = [(*a, *b) for a in out for b in group.corrections][:_MOST_CORRECTIONS]
    return out


def _smallest_conflict(group: _Conflict) -> tuple[Constraint, ...]:
    """The smallest set of musts that cannot hold together: each correction gives up one of it.

    So what is a correction by itself belongs to it, and in most cases that is all of it.
    """
    alone = next((c for c in group.musts if not group.fits((c,))), None)
    if alone is not None:
        return (alone,)
    needed = [c for c in group.musts if (c,) in group.corrections]
    if needed and not group.fits(needed):
        return tuple(needed)
    core = list(
        group.musts
    )  # thinned out one by one: no smaller part of it conflicts, though another set may be smaller
    for c in group.musts:
        rest = [one for one in core if one is not c]
        if not group.fits(rest):
            core = rest
    others = [c for c in group.musts if c not in needed]
    tried = 0
    for size in range(max(1, len(needed)), len(core)):
        for more in itertools.combinations(others, size - len(needed)):
            some = (*needed, *more)
            if not all(any(c in some for c in dropped) for dropped in group.corrections):
                continue
            tried += 1
            if tried > _MOST_SETS:
                return tuple(core)
            if not group.fits(some):
                return some
    return tuple(core)


def _groups(names: Iterable[str], constraints: Iterable[Constraint | Price]) -> list[set[str]]:
    """Settings that hang together."""
    groups: list[set[str]] = [{name} for name in names]
    for c in constraints:
        touched = [group for group in groups if group & set(c.scope)]
        if len(touched) > 1:
            groups = [group for group in groups if not group & set(c.scope)]
            groups.append(set().union(*touched))
    return groups


class _Search:
    """One search under given constraints.

    Settings are chosen one by one; as soon as those that are open fall into parts that share no constraint and no price, each part is
    searched by itself, and what was found out of a part is kept for the same choices around it.
    """

    def __init__(self, problem: SearchProblem, constraints: tuple[Constraint, ...], more: tuple[Price, ...] = ()) -> None:
        self._width = problem.width
        self._domains = {name: list(values) for name, values in problem.domains.items()}
        self._empty = False
        self._zero: Cost = (0.0,) * problem.width
        self._shared: dict[str, list[tuple[frozenset[str], Constraint]]] = {name: [] for name in self._domains}
        self._tied: list[frozenset[str]] = []
        for c in constraints:
            scope = frozenset(name for name in c.scope if name in self._domains)
            if len(scope) > 1:
                self._tied.append(scope)
                for name in scope:
                    self._shared[name].append((scope, c))
            elif scope:
                (name,) = scope
                self._domains[name] = [v for v in self._domains[name] if c.holds(_values({name: v}))]
            elif not c.holds({}):
                self._empty = True
        self._all_prices = [
            (frozenset(n for n in price.scope if n in self._domains), price) for price in (*problem.prices, *more)
        ]
        self._empty = self._empty or any(not values for values in self._domains.values())

    def is_feasible(self) -> bool:
        """Whether anything meets all constraints."""
        return not self._empty and self._run(prices=False) is not None

    def best(self) -> tuple[Values, Cost]:
        """The cheapest of what meets all constraints. Raises NothingFits."""
        found = None if self._empty else self._run(prices=True)
        if found is None:
            raise NothingFits
        return found[1], found[0]

    def _run(self, *, prices: bool) -> tuple[Cost, Values] | None:
        listed = self._all_prices if prices else []
        self._priced: dict[str, list[tuple[frozenset[str], Price]]] = {
            name: [pair for pair in listed if name in pair[0]] for name in self._domains
        }
        ties = [*self._tied, *(scope for scope, _ in listed if len(scope) > 1)]
        self._near = {
            name: frozenset().union(*(scope for scope in ties if name in scope)) | {name} for name in self._domains
        }
        self._least = {name: self._cheapest_alone(name) for name in self._domains}
        # what costs most first, so that the bound soon ends the rest; then those with many constraints and few values
        ranks = {
            name: (self._first_cost(name), -len(self._shared[name]), len(self._domains[name]), name)
            for name in self._domains
        }
        self._rank = {name: n for n, name in enumerate(sorted(ranks, key=ranks.__getitem__))}
        self._known: dict[tuple[frozenset[str], tuple[Choice, ...]], tuple[Cost, Values] | None] = {}
        self._parts_of: dict[frozenset[str], list[frozenset[str]]] = {}
        return self._all_of(frozenset(self._domains), {})

    def _all_of(self, open_: frozenset[str], chosen: dict[str, Choice]) -> tuple[Cost, Values] | None:
        """The cheapest choice of all open settings; None: there is none."""
        total: Cost = self._zero
        values: Values = {}
        for part in self._parts(open_):
            found = self._part(part, chosen)
            if found is None:
                return None
            total = _add(total, found[0])
            values |= found[1]
        return total, values

    def _parts(self, open_: frozenset[str]) -> list[frozenset[str]]:
        known = self._parts_of.get(open_)
        if known is None:
            known, left = [], set(open_)
            while left:
                part, grow = set(), [min(left, key=self._rank.__getitem__)]
                while grow:
                    name = grow.pop()
                    if name not in part:
                        part.add(name)
                        grow += (self._near[name] & left) - part
                left -= part
                known.append(frozenset(part))
            known.sort(key=len)  # what is small fails soon
            self._parts_of[open_] = known
        return known

    def _part(self, part: frozenset[str], chosen: dict[str, Choice]) -> tuple[Cost, Values] | None:
        around = sorted(frozenset().union(*(self._near[name] for name in part)) & chosen.keys())
        key = (part, tuple(chosen[name] for name in around))
        if key not in self._known:
            self._known[key] = self._search_part(part, {name: chosen[name] for name in around})
        return self._known[key]

    def _search_part(self, part: frozenset[str], chosen: dict[str, Choice]) -> tuple[Cost, Values] | None:
        name = min(part, key=self._rank.__getitem__)
        rest = part - {name}
        least = self._zero
        for other in rest:
            least = _add(least, self._least[other])
        have = chosen.keys() | {name}
        checks = [c for scope, c in self._shared[name] if scope <= have]
        prices = [price for scope, price in self._priced[name] if scope <= have]
        branches: list[tuple[Cost, int, Choice]] = []
        for k, value in enumerate(self._domains[name]):
            values = _values({**chosen, name: value})
            if all(c.holds(values) for c in checks):
                branches.append((_sum(self._zero, (price.of(values) for price in prices)), k, value))
        branches.sort(key=lambda branch: branch[:2])
        best: tuple[Cost, Values] | None = None
        for cost, _, value in branches:
            if best is not None and _add(cost, least) >= best[0]:
                break
            found = self._all_of(rest, {**chosen, name: value})
            if found is not None and (best is None or _add(cost, found[0]) < best[0]):
                best = _add(cost, found[0]), {**found[1], **_values({name: value})}
        return best

    def _costs_alone(self, name: str) -> list[Cost]:
        """What each value of a setting costs by itself."""
        alone = [price for scope, price in self._priced[name] if len(scope) == 1]
        return [_sum(self._zero, (price.of(_values({name: v})) for price in alone)) for v in self._domains[name]]

    def _cheapest_alone(self, name: str) -> Cost:
        return min(self._costs_alone(name), default=self._zero)

    def _first_cost(self, name: str) -> int:
        """The most significant place at which a setting alone makes a difference."""
        costs = self._costs_alone(name)
        return next((n for n, place in enumerate(zip(*costs, strict=True)) if len(set(place)) > 1), self._width)


def _values(chosen: Mapping[str, Choice]) -> Values:
    return {name: value for name, value in chosen.items() if value is not None}


def _add(a: Cost, b: Cost) -> Cost:
    return tuple(x + y for x, y in zip(a, b, strict=True))


def _sum(start: Cost, costs: Iterable[Cost]) -> Cost:
    for cost in costs:
        start = _add(start, cost)
    return start
