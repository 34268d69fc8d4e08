"""An exact search over all settings of a channel: every combination counts, none is guessed at.

Settings are variables with a few candidate values each; what the device can do together is law; what is asked is a must that
may be given up only where all musts together leave nothing. Cost: musts that look at one setting alone thin its candidates
out first. What is left falls into groups that share no constraint; each group is searched by branch and bound over a vector
of costs, compared in order, with the least that the open settings can cost as the bound. As costs add up and groups
are independent, the best of all is the sum of each group's best.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from direkt.parameters import Value, Values

Cost = tuple[float, ...]
Choice = Value | None  # None: the setting has no value
_MOST_SETS = 20_000  # sets of musts that are tried for the smallest one in conflict


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


@dataclass(frozen=True, slots=True)
class Price:
    """What some settings cost: a vector, of which all must have the same length."""

    scope: tuple[str, ...]
    of: Callable[[Values], Cost]


@dataclass(frozen=True, slots=True)
class Problem:
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


def solve(problem: Problem) -> Solution:
    """The best settings. Raises NothingFits."""
    musts = [c for c in problem.constraints if not c.law]
    laws = [c for c in problem.constraints if c.law]
    whole = _Search(problem, (*laws, *musts))
    if whole.is_feasible():
        values, cost = whole.best()
        return Solution(values, cost)
    if not _Search(problem, tuple(laws)).is_feasible():
        raise NothingFits
    conflict = _smallest_conflict(problem, laws, musts)
    best: tuple[Cost, Values, tuple[Constraint, ...]] | None = None
    for dropped in _least_given_up(problem, laws, musts):
        kept = tuple(c for c in musts if c not in dropped)
        off = Price(tuple(dict.fromkeys(s for c in dropped for s in c.scope)), _how_far(dropped, problem.width))
        values, cost = _Search(problem, (*laws, *kept), (off,)).best()
        if best is None or cost < best[0]:
            best = cost, values, dropped
    assert best is not None
    return Solution(best[1], best[0], best[2], conflict)


def _how_far(dropped: tuple[Constraint, ...], width: int) -> Callable[[Values], Cost]:
    def of(values: Values) -> Cost:
        return (sum(c.distance(values) for c in dropped if not c.holds(values)), *(0.0,) * (width - 1))

    return of


def _least_given_up(
    problem: Problem, laws: Sequence[Constraint], musts: list[Constraint]
) -> list[tuple[Constraint, ...]]:
    """All smallest sets of musts without which the rest can hold; found group by group, as groups are independent."""
    out: list[tuple[Constraint, ...]] = [()]
    for group in _groups(problem.domains, (*laws, *musts)):
        own = [c for c in musts if group & set(c.scope)]
        theirs = [c for c in laws if group & set(c.scope)]
        part = Problem({name: problem.domains[name] for name in group}, (), (), problem.width)
        for size in range(len(own) + 1):
            found = [
                dropped for dropped in itertools.combinations(own, size)
                if _Search(part, (*theirs, *(c for c in own if c not in dropped))).is_feasible()
            ]  # fmt: skip
            if found:
                out = [(*a, *b) for a in out for b in found][:200]
                break
    return out


def _smallest_conflict(problem: Problem, laws: Sequence[Constraint], musts: list[Constraint]) -> tuple[Constraint, ...]:
    """The smallest set of musts that cannot hold together, of any group."""
    best: tuple[Constraint, ...] = tuple(musts)
    for group in _groups(problem.domains, (*laws, *musts)):
        own = [c for c in musts if group & set(c.scope)]
        theirs = [c for c in laws if group & set(c.scope)]
        part = Problem({name: problem.domains[name] for name in group}, (), (), problem.width)
        if _Search(part, (*theirs, *own)).is_feasible():
            continue
        core = list(own)  # thinned out one by one: no smaller part of it conflicts, though another set may be smaller
        for c in own:
            rest = [one for one in core if one is not c]
            if not _Search(part, (*theirs, *rest)).is_feasible():
                core = rest
        tried = 0
        for size in range(1, len(core)):
            for some in itertools.combinations(own, size):
                tried += 1
                if tried > _MOST_SETS:
                    break
                if not _Search(part, (*theirs, *some)).is_feasible():
                    core = list(some)
                    break
            else:
                continue
            break
        if len(core) < len(best):
            best = tuple(core)
    return best


def _groups(names: Iterable[str], constraints: Iterable[Constraint | Price]) -> list[set[str]]:
    """Settings that hang together."""
    groups: list[set[str]] = [{name} for name in names]
    for c in constraints:
        touched = [group for group in groups if group & set(c.scope)]
        if len(touched) > 1:
            groups = [group for group in groups if not group & set(c.scope)]
            groups.append(set().union(*touched))
    return groups


@dataclass(slots=True)
class _Group:
    """Settings that hang together, in the order in which they are chosen."""

    order: list[str]
    checks: list[list[Constraint]]  # what can be told once so many settings are chosen
    prices: list[list[Price]]
    least: list[Cost] = field(default_factory=list)  # what the settings from there on cost at the least


class _Search:
    """One search under given constraints."""

    def __init__(self, problem: Problem, constraints: tuple[Constraint, ...], more: tuple[Price, ...] = ()) -> None:
        self._width = problem.width
        self._domains = {name: list(values) for name, values in problem.domains.items()}
        self._empty = False
        self._zero: Cost = (0.0,) * problem.width
        shared: list[Constraint] = []
        for c in constraints:
            scope = [name for name in c.scope if name in self._domains]
            if len(scope) > 1:
                shared.append(c)
            elif scope:
                self._domains[scope[0]] = [v for v in self._domains[scope[0]] if c.holds(_values({scope[0]: v}))]
            elif not c.holds({}):
                self._empty = True
        self._shared = shared
        self._prices = (*problem.prices, *more)
        self._empty = self._empty or any(not values for values in self._domains.values())

    def is_feasible(self) -> bool:
        """Whether anything meets all constraints."""
        if self._empty:
            return False
        return all(self._walk(group, 0, {}) for group in self._made(prices=False))

    def best(self) -> tuple[Values, Cost]:
        """The cheapest of what meets all constraints. Raises NothingFits."""
        values: Values = {}
        total = self._zero
        for group in self._made(prices=True):
            cost, found = self._cheapest(group)
            values |= found
            total = _add(total, cost)
        return values, total

    def _made(self, *, prices: bool) -> list[_Group]:
        tied: list[Constraint | Price] = [*self._shared, *(self._prices if prices else ())]
        out = []
        for names in _groups(self._domains, tied):
            # what costs most first, so that the bound soon ends the rest; then those with many constraints and few values
            weight = {name: sum(name in c.scope for c in self._shared) for name in names}
            order = sorted(
                names,
                key=lambda name: (
                    self._first_cost(name) if prices else 0,
                    -weight[name],
                    len(self._domains[name]),
                    name,
                ),
            )
            place = {name: n for n, name in enumerate(order)}
            checks: list[list[Constraint]] = [[] for _ in order]
            for c in self._shared:
                known = [place[name] for name in c.scope if name in place]
                if known:
                    checks[max(known)].append(c)
            costs: list[list[Price]] = [[] for _ in order]
            for price in self._prices if prices else ():
                known = [place[name] for name in price.scope if name in place]
                if known:
                    costs[max(known)].append(price)
            group = _Group(order, checks, costs)
            if prices:
                group.least = self._bounds(group)
            out.append(group)
        return out

    def _first_cost(self, name: str) -> int:
        """The most significant place at which a setting alone makes a difference."""
        alone = [price for price in self._prices if price.scope == (name,)]
        costs = [_sum(self._zero, (price.of(_values({name: v})) for price in alone)) for v in self._domains[name]]
        return next((n for n, place in enumerate(zip(*costs, strict=True)) if len(set(place)) > 1), self._width)

    def _bounds(self, group: _Group) -> list[Cost]:
        """For each place, the least that prices of one setting alone add from there on."""
        out = [self._zero]
        for n in reversed(range(len(group.order))):
            name = group.order[n]
            alone = [price for price in group.prices[n] if price.scope == (name,)]
            least = self._zero
            if alone:
                least = min(
                    _sum(self._zero, (price.of(_values({name: v})) for price in alone)) for v in self._domains[name]
                )
            out.append(_add(out[-1], least))
        return out[::-1]

    def _walk(self, group: _Group, n: int, chosen: dict[str, Choice]) -> bool:
        if n == len(group.order):
            return True
        name = group.order[n]
        for value in self._domains[name]:
            chosen[name] = value
            values = _values(chosen)
            if all(c.holds(values) for c in group.checks[n]) and self._walk(group, n + 1, chosen):
                return True
            del chosen[name]
        return False

    def _cheapest(self, group: _Group) -> tuple[Cost, Values]:
        best: list[tuple[Cost, Values] | None] = [None]

        def go(n: int, chosen: dict[str, Choice], so_far: Cost) -> None:
            if n == len(group.order):
                if best[0] is None or so_far < best[0][0]:
                    best[0] = so_far, _values(chosen)
                return
            name = group.order[n]
            branches: list[tuple[Cost, int, Choice]] = []
            for k, value in enumerate(self._domains[name]):
                chosen[name] = value
                values = _values(chosen)
                if all(c.holds(values) for c in group.checks[n]):
                    branches.append((_sum(so_far, (price.of(values) for price in group.prices[n])), k, value))
            branches.sort(key=lambda branch: branch[:2])
            for cost, _, value in branches:
                if best[0] is not None and _add(cost, group.least[n + 1]) >= best[0][0]:
                    break
                chosen[name] = value
                go(n + 1, chosen, cost)
            chosen.pop(name, None)

        go(0, {}, self._zero)
        if best[0] is None:
            raise NothingFits
        return best[0]


def _values(chosen: Mapping[str, Choice]) -> Values:
    return {name: value for name, value in chosen.items() if value is not None}


def _add(a: Cost, b: Cost) -> Cost:
    return tuple(x + y for x, y in zip(a, b, strict=True))


def _sum(start: Cost, costs: Iterable[Cost]) -> Cost:
    for cost in costs:
        start = _add(start, cost)
    return start
