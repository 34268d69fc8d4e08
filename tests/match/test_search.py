"""The search against brute force: every combination of small problems is gone through by code of its own."""

import itertools
import random
import unittest

from direkt import demand, parameters
from direkt.demand import Demand
from direkt.destination.sheet import Rule, Rung, Sheet
from direkt.device.input import InputSignal
from direkt.device.state import Channel, Together
from direkt.match.plan import plan
from direkt.match.search import Constraint, NothingFits, Price, SearchProblem, solve
from tests.support import thorough


def random_problem(chance: random.Random) -> SearchProblem:
    names = [f"s{n}" for n in range(chance.randint(1, 5))]
    domains = {name: list(range(chance.randint(1, 4))) for name in names}
    constraints = []
    for n in range(chance.randint(0, 7)):
        scope = tuple(chance.sample(names, min(len(names), chance.choice((1, 1, 2, 2, 3)))))
        allowed = {c for c in itertools.product(*(domains[s] for s in scope)) if chance.random() < 0.6}
        constraints.append(Constraint(
            scope, lambda v, scope=scope, allowed=allowed: tuple(v[s] for s in scope) in allowed, chance.random() < 0.3, f"c{n}",
            distance=lambda v: 1.0,
        ))  # fmt: skip
    prices = []
    for _ in range(chance.randint(0, 6)):
        scope = tuple(chance.sample(names, min(len(names), chance.choice((1, 1, 1, 2)))))
        table = {
            c: (0.0, float(chance.randint(0, 2)), float(chance.randint(0, 3)))
            for c in itertools.product(*(domains[s] for s in scope))
        }
        prices.append(Price(scope, lambda v, scope=scope, table=table: table[tuple(v[s] for s in scope)]))
    return SearchProblem(domains, tuple(constraints), tuple(prices), 3)


def combinations(problem: SearchProblem):
    names = list(problem.domains)
    for values in itertools.product(*problem.domains.values()):
        yield dict(zip(names, values, strict=True))


class Search(unittest.TestCase):
    def test_it_agrees_with_brute_force(self):
        chance = random.Random(9)
        kinds = {"fits": 0, "conflict": 0, "nothing": 0}
        for _ in range(900):
            p = random_problem(chance)
            laws = [c for c in p.constraints if c.law]
            musts = [c for c in p.constraints if not c.law]
            lawful = [v for v in combinations(p) if all(c.holds(v) for c in laws)]
            if not lawful:
                kinds["nothing"] += 1
                self.assertRaises(NothingFits, solve, p)
                continue
            fewest = min(sum(not c.holds(v) for c in musts) for v in lawful)

            def cost(v, p=p):
                return tuple(sum(price.of(v)[n] for price in p.prices) for n in range(3))

            best = min(cost(v) for v in lawful if sum(not c.holds(v) for c in musts) == fewest)
            found = solve(p)
            self.assertIn(found.values, lawful)
            self.assertEqual(cost(found.values)[1:], best[1:])
            broken = [c for c in musts if not c.holds(found.values)]
            self.assertEqual((len(broken), set(broken) <= set(found.given_up), len(found.given_up)), (fewest, True, fewest))
            if not fewest:
                kinds["fits"] += 1
                continue
            kinds["conflict"] += 1
            for size in range(1, len(musts) + 1):
                sets = [
                    some
                    for some in itertools.combinations(musts, size)
                    if not any(all(c.holds(v) for c in some) for v in lawful)
                ]
                if sets:
                    break
            self.assertEqual(len(found.conflict), size)
            self.assertIn(set(found.conflict), [set(some) for some in sets])
        self.assertGreater(min(kinds.values()), 50, kinds)


SIZES = ["640x360", "800x600", "1280x720", "1920x1080"]


def random_channel(chance: random.Random) -> Channel:
    """A device of few words: every value that it can take can be counted through."""
    sizes = chance.sample(SIZES, chance.randint(1, 3))
    rates = chance.sample([10, 12.5, 20, 25, 29.97, 30, 50], chance.randint(1, 3))
    low = chance.randint(1, 10)
    limits = {
        "video.size": Demand("video.size", tuple(sizes)), "video.frame_rate": Demand("video.frame_rate", tuple(rates)),
        "video.bitrate.mean": Demand("video.bitrate.mean", minimum=low, maximum=low + chance.randint(0, 25)),
        "video.rate_control": Demand("video.rate_control", ("cbr", "vbr")), "audio.present": Demand("audio.present", ("yes", "no")),
        "audio.bitrate.mean": Demand("audio.bitrate.mean", (1, 2, 4)), "video.codec": Demand("video.codec", chance.choice([("h264", "h265"), ("h264",), ("h265",)])),
    }  # fmt: skip
    span = (chance.randint(1, 20), chance.randint(20, 60))
    together = [Together((), (), span)]
    for _ in range(chance.randint(0, 3)):
        a, b = chance.sample(["video.size", "video.frame_rate", "video.bitrate.mean", "video.rate_control", "audio.present"], 2)
        together.append(Together((random_demand(chance, a, limits[a]),), (random_demand(chance, b, limits[b]),)))
    values = {
        "video.size": chance.choice(sizes), "video.frame_rate": chance.choice(rates), "video.bitrate.mean": low,
        "video.rate_control": chance.choice(["cbr", "vbr"]), "audio.present": chance.choice(["yes", "no"]),
        "audio.bitrate.mean": chance.choice([1, 2, 4]), "video.codec": chance.choice(limits["video.codec"].one_of),
    }  # fmt: skip
    values["video.keyframe_interval.median"] = parameters.keyframe_seconds(chance.randint(*span), values["video.frame_rate"])
    limits["video.keyframe_interval.median"] = Demand("video.keyframe_interval.median", minimum=0.01, maximum=60)
    return Channel("main", values, limits, together=tuple(together))


def random_demand(chance: random.Random, name: str, limit: Demand | None = None) -> Demand:
    listed = {
        "video.size": SIZES, "video.frame_rate": [10, 12.5, 20, 25, 29.97, 30, 50], "video.rate_control": ["cbr", "vbr"],
        "audio.present": ["yes", "no"], "video.codec": ["h264", "h265", "av1"],
    }.get(name)  # fmt: skip
    if listed is not None:
        if limit is None and name in ("video.codec", "video.frame_rate", "video.size") and chance.random() < 0.3:
            return demand.parse(name, None, chance.sample(listed, chance.randint(1, 2)))
        known = list(limit.one_of) if limit is not None else listed
        return Demand(name, tuple(chance.sample(known, chance.randint(1, max(1, len(known) - 1)))))
    if name.startswith("video.keyframe_interval"):
        low = chance.choice([0.2, 0.5, 1, 1.2, 1.6, 2])
        return (
            Demand(name, minimum=low, maximum=low + chance.choice([0, 0.1, 1]))
            if chance.random() < 0.7
            else Demand(name, (low,))
        )
    low = chance.randint(1, 25)
    return chance.choice(
        (Demand(name, minimum=low), Demand(name, maximum=low), Demand(name, minimum=low, maximum=low + chance.randint(0, 8)))
    )


def random_sheet(chance: random.Random) -> Sheet:
    rules = {}
    for name in ("video.codec", "video.size", "video.frame_rate", "video.rate_control", "audio.present", "audio.bitrate.mean", "video.bitrate.mean",
                 "video.keyframe_interval.median", "video.keyframe_interval.max"):  # fmt: skip
        if chance.random() < 0.5:
            must = random_demand(chance, name) if chance.random() < 0.7 else None
            should = random_demand(chance, name) if chance.random() < 0.5 else None
            rules[name] = Rule(name, must, should, "", "t.yaml:1")
    ladder = ()
    if chance.random() < 0.5:
        rungs = []
        for width, height in ((1920, 1080), (1280, 720), (800, 600)):
            low = chance.randint(1, 15)
            codecs = chance.choice([(), (), ("h264",), ("h265", "av1")])
            rungs.append(Rung(width, height, 5, chance.choice([30, 60]), low, None, low + chance.randint(0, 8), "", codecs))
        ladder = tuple(rungs)
    return Sheet("T", "t", "", rules, ladder, "t.yaml")


class Truth:
    """What a setting means, worked out without the planner: in whole pictures, for every value there is."""

    def __init__(self, channel: Channel, sheet: Sheet, signal: InputSignal | None, uplink: float | None) -> None:
        self.channel, self.sheet, self.signal, self.uplink = channel, sheet, signal, uplink

    def grid(self):
        limits = self.channel.limits
        rates = limits["video.frame_rate"].one_of
        bitrate = limits["video.bitrate.mean"]
        low, high = self.channel.together[0].pictures
        for codec, size, rate, control, sound, audio in itertools.product(
            limits["video.codec"].one_of, limits["video.size"].one_of, rates, ("cbr", "vbr"), ("yes", "no"), (1, 2, 4)
        ):  # fmt: skip
            for kbits in range(bitrate.minimum, bitrate.maximum + 1):
                for pictures in range(low, high + 1):
                    values = {
                        "video.codec": codec, "video.size": size, "video.frame_rate": rate, "video.rate_control": control, "audio.present": sound,
                        "audio.bitrate.mean": audio, "video.bitrate.mean": kbits,
                        "video.keyframe_interval.median": round(pictures / rate, 4),
                    }  # fmt: skip
                    if self.lawful(values):
                        yield values

    def lawful(self, values) -> bool:
        for law in self.channel.together[1:]:
            if all(d.allows(values[d.name]) for d in law.when) and not all(d.allows(values[d.name]) for d in law.then):
                return False
        return True

    def demands(self, values):
        """Every rule that applies: how it is met by these values."""
        full = dict(values)
        for end in ("min", "max"):
            full[f"video.keyframe_interval.{end}"] = values["video.keyframe_interval.median"]
        rules = dict(self.sheet.rules)
        if self.sheet.ladder:
            width, height = map(int, values["video.size"].split("x"))
            fitting = [
                r
                for r in self.sheet.ladder
                if width <= r.width and height <= r.height and values["video.frame_rate"] <= r.fastest
                and (not r.codecs or values["video.codec"] in r.codecs)
            ]
            rung = min(fitting, key=lambda r: (r.width * r.height, r.fastest), default=None)
            if rung is not None:
                rules["video.bitrate.mean"] = Rule(
                    "video.bitrate.mean", Demand("video.bitrate.mean", minimum=rung.minimum, maximum=rung.maximum)
                )
        for name, rule in rules.items():
            if name.startswith("audio.b") and values["audio.present"] == "no":
                continue
            yield name, rule, full[name]

    def broken(self, values) -> int:
        count = sum(rule.must is not None and not rule.must.allows(value) for _, rule, value in self.demands(values))
        if self.signal is not None:
            times = self.signal.frame_rate / values["video.frame_rate"]
            count += not (round(times) >= 1 and abs(times - round(times)) < 0.005)
        if self.uplink is not None:
            count += (
                values["video.bitrate.mean"] + (values["audio.bitrate.mean"] if values["audio.present"] == "yes" else 0)
                > self.uplink
            )
        return count

    def picture_missed(self, values) -> int:
        names = ("video.size", "video.frame_rate")
        return sum(n in names and r.should is not None and not r.should.allows(v) for n, r, v in self.demands(values))

    def area_off(self, values) -> int:
        (aw, ah), (bw, bh) = (map(int, v["video.size"].split("x")) for v in (values, self.channel.values))
        return abs(aw * ah - bw * bh)

    def others_missed(self, values) -> int:
        names = ("video.size", "video.frame_rate")
        return sum(n not in names and r.should is not None and not r.should.allows(v) for n, r, v in self.demands(values))

    def worth(self, values):
        off = abs(values["video.frame_rate"] - self.channel.values["video.frame_rate"])
        return self.picture_missed(values), self.area_off(values), off, self.others_missed(values)


class Plans(unittest.TestCase):
    def check(self, seed: int) -> str:
        chance = random.Random(seed)
        channel, sheet = random_channel(chance), random_sheet(chance)
        signal = InputSignal("50 fps", 0, 0, 50.0) if chance.random() < 0.5 else InputSignal("")
        uplink = float(chance.randint(3, 40)) if chance.random() < 0.4 else None
        truth = Truth(channel, sheet, signal if signal.frame_rate else None, uplink)
        grid = list(truth.grid())
        rule = sheet.rules.get("audio.present")
        silent = rule is not None and rule.must is not None and not rule.must.allows("yes")
        if channel.values["audio.present"] == "yes" and not silent:  # sound that is on is never turned off
            grid = [values for values in grid if values["audio.present"] == "yes"]
        made = plan(channel, sheet, signal, uplink)
        if not grid:
            self.assertTrue(made.unmet, seed)
            return "nothing"
        fewest = min(truth.broken(values) for values in grid)
        settings = {**channel.values, **made.values()}
        asked = {**settings, **{step.parameter: step.new for step in made.steps}}
        self.assertTrue(truth.lawful(asked), (seed, asked))
        self.assertEqual(truth.broken(asked), fewest, (seed, asked, made.unmet))
        self.assertEqual(len(made.unmet), fewest, (seed, made.unmet))
        if fewest:
            return "unmet"
        best = min(truth.worth(values) for values in grid if not truth.broken(values))
        self.assertEqual(truth.worth(asked), best, (seed, asked))
        return "fits"

    def test_they_agree_with_brute_force(self):
        kinds = [self.check(seed) for seed in range(thorough(14, 10))]
        self.assertGreater(min(kinds.count("fits"), kinds.count("unmet")), 2, kinds)


if __name__ == "__main__":
    import sys

    case = Plans()
    for number in range(int(sys.argv[1]), int(sys.argv[2])):
        try:
            case.check(number)
        except AssertionError as error:
            print(str(error)[:600])
