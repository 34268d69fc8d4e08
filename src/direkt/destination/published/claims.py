"""The claims of a whole table put together: what agrees becomes a rule or a step of a ladder, what does not is listed.

Two statements on one thing that differ are both listed, and neither is claimed. A plain figure beside a limit is what
is recommended within it. What is said for some picture sizes only becomes a step of the ladder where it is a bitrate;
anything else has to be the same for all of them.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace

from direkt import demand, parameters
from direkt.demand import JsonDemand
from direkt.destination.published.layout import Statement
from direkt.destination.published.meaning import Claim
from direkt.parameters import ParameterError, Value
from direkt.protocol import address

_ADVICE = re.compile(
    r"avoid|recommend|should|advis|vermeid|évit|evit"
)  # of a column: what not to use is no more than advice
_KEYFRAMES = "video.keyframe_interval"
_ALL_RATES = (1, 300)  # fps of a step that names none


@dataclass(frozen=True, slots=True)
class Said:
    """A claim with the statement that makes it."""

    statement: Statement
    claim: Claim

    @property
    def words(self) -> str:
        """The words that it came from, with the row's name."""
        text = self.statement.text
        part = text[self.claim.start : self.claim.end]
        whole = replace(self.statement, text=text if len(text) <= 80 or not part else f"… {part} …")
        return whole.words


@dataclass(frozen=True, slots=True)
class Unread:
    """Words of the table that claim nothing."""

    line: int
    words: str
    why: str


@dataclass(slots=True)
class Rule:
    """What became of all claims on one parameter."""

    parts: dict[str, JsonDemand] = field(default_factory=dict)  # must, should
    same_as_source: bool = False
    origins: list[Said] = field(default_factory=list)


@dataclass(slots=True)
class Step:
    """One step of a ladder: what it is for, and its bitrates in kbit/s."""

    head: dict[str, object]
    bitrate: dict[str, float] = field(default_factory=dict)
    origins: list[Said] = field(default_factory=list)


@dataclass(slots=True)
class Gathered:
    """Everything that a table says, as a sheet has it."""

    rules: dict[str, dict[str, Rule]] = field(default_factory=dict)  # by latency mode; "": all
    ladder: list[Step] = field(default_factory=list)
    audio_ladder: list[Step] = field(default_factory=list)
    protocols: dict[tuple[str, int], tuple[str, Said]] = field(default_factory=dict)  # with the mode of srt
    servers: dict[str, tuple[str, str, Said]] = field(default_factory=dict)  # with region and role
    facts: dict[str, tuple[object, Said]] = field(default_factory=dict)  # session and key
    unread: list[Unread] = field(default_factory=list)
    used: dict[int, list[tuple[int, int, str]]] = field(default_factory=dict)  # by statement: places and what they say
    refused: dict[int, list[tuple[int, int, str]]] = field(default_factory=dict)  # by statement: places, and why not

    @property
    def empty(self) -> bool:
        """Whether nothing at all was understood."""
        return not (
            any(self.rules.values()) or self.ladder or self.audio_ladder or self.protocols or self.servers or self.facts
        )


def gather(said: Sequence[Said]) -> Gathered:
    """Puts ``said`` together."""
    made = Gathered()
    plain: list[Said] = []
    steps: list[Said] = []
    sounds: list[Said] = []
    for one in said:
        claim = one.claim
        if claim.what == "protocol":
            _protocol(made, one)
        elif claim.what == "server":
            _server(made, one)
        elif claim.what in ("srt.mode",):
            _srt_mode(made, one, said)
        elif claim.what.startswith(("session.", "key.")) or claim.what == "peak_percent":
            _fact(made, one)
        elif claim.what == "video.bitrate.mean" and (claim.sizes or claim.rates) and claim.strength != "not":
            steps.append(one)
        elif claim.what == "audio.bitrate.mean" and claim.channels and claim.strength != "not":
            sounds.append(one)
        else:
            plain.append(one)
    plain += _ladder(made, steps)
    plain += _audio_ladder(made, sounds)
    modes = dict.fromkeys(one.claim.mode for one in plain)
    for mode in modes:
        _rules(made, mode, [one for one in plain if one.claim.mode == mode])
    _tidy_modes(made)
    for facts in made.rules.values():
        for name, rule in facts.items():
            for one in rule.origins:
                _note(made, one, name)
    for step in (*made.ladder, *made.audio_ladder):
        for one in step.origins:
            _note(made, one, one.claim.what)
    return made


def _note(made: Gathered, one: Said, what: str) -> None:
    made.used.setdefault(id(one.statement), []).append((one.claim.start, one.claim.end, what))


def _reject(made: Gathered, ones: Iterable[Said], reason: str) -> None:
    seen = set()
    for one in ones:
        words = one.words
        made.refused.setdefault(id(one.statement), []).append((one.claim.start, one.claim.end, reason))
        if (one.statement.line, words, reason) not in seen:
            seen.add((one.statement.line, words, reason))
            made.unread.append(Unread(one.statement.line, words, reason))


# Ladders


def _ladder(made: Gathered, steps: Sequence[Said]) -> list[Said]:
    """The ladder; what holds for no one size comes back."""
    groups: dict[tuple[str, tuple[float, float]], list[Said]] = {}
    back: list[Said] = []
    for one in steps:
        sizes, rates = one.claim.sizes, one.claim.rates
        if one.claim.mode or len(sizes) != 1:
            back.append(one)
        else:
            groups.setdefault((sizes[0].text, rates or _ALL_RATES), []).append(one)
    for (size, rates), ones in groups.items():
        bitrate = _bitrates(ones)
        if isinstance(bitrate, str):
            _reject(made, ones, bitrate)
            continue
        head: dict[str, object] = {"size": size, "frame_rate": {"min": _whole(rates[0]), "max": _whole(rates[1])}}
        made.ladder.append(Step(head, bitrate, ones))
    return back


def _audio_ladder(made: Gathered, sounds: Sequence[Said]) -> list[Said]:
    groups: dict[int, list[Said]] = {}
    for one in sounds:
        groups.setdefault(one.claim.channels, []).append(one)
    for channels, ones in groups.items():
        bitrate = _bitrates(ones)
        if isinstance(bitrate, str):
            _reject(made, ones, bitrate)
        else:
            made.audio_ladder.append(Step({"channels": channels}, bitrate, ones))
    return []


def _bitrates(ones: Sequence[Said]) -> dict[str, float] | str:
    """min, best and max of a step, or why there is none."""
    found: dict[str, set[float]] = {}
    for one in ones:
        shape = "best" if one.claim.shape == "is" else one.claim.shape
        found.setdefault(shape, set()).add(float(str(one.claim.value)))
    if len(found.get("best", ())) > 1:  # one recommended figure beside what else is possible
        wished = {
            float(str(one.claim.value)) for one in ones if one.claim.shape == "is" and one.claim.strength == "should"
        }
        if len(wished) == 1 and {"min", "max"} <= set(found):
            found["best"] = wished
    for values in found.values():
        if len(values) > 1:
            return f"says different things of one step of the ladder: {' and '.join(f'{v:g}' for v in sorted(values))} kbit/s"
    order: tuple[str, ...] = ("min", "best", "max")
    made = {shape: _whole(next(iter(found[shape]))) for shape in order if shape in found}
    if (rising := list(made.values())) != sorted(rising):
        if "best" not in made:
            return "a range that runs downwards: a slip, or written the other way round"
        return "what is recommended lies outside the range"
    return made


# What stands beside the rules


def _protocol(made: Gathered, one: Said) -> None:
    key: tuple[str, int] = one.claim.value  # type: ignore[assignment]
    made.protocols.setdefault(key, ("", one))
    _note(made, one, "protocols")


def _srt_mode(made: Gathered, one: Said, said: Sequence[Said]) -> None:
    line = one.statement.line
    own = [s for s in said if s.claim.what == "protocol" and s.claim.value[0] == "srt"]  # type: ignore[index]
    near = [s for s in own if s.statement.line == line] or own
    if len(near) == 1 and one.claim.strength != "not":
        key: tuple[str, int] = near[0].claim.value  # type: ignore[assignment]
        made.protocols[key] = (str(one.claim.value), near[0])
        _note(made, one, "protocols")
        return
    urls = [s for s in said if s.claim.what == "server" and s.statement is one.statement]
    ports = [
        s.claim.value.rpartition(":")[2]
        for s in urls
        if isinstance(s.claim.value, str) and s.claim.value.startswith("srt:")
    ]
    if len(ports) == 1 and ports[0].isdigit() and 1 <= int(ports[0]) <= 65535 and one.claim.strength != "not":
        made.protocols["srt", int(ports[0])] = (str(one.claim.value), one)
        _note(made, one, "protocols")
    else:
        _reject(made, [one], "a mode of srt without its port")


def _server(made: Gathered, one: Said) -> None:
    text = str(one.claim.value)
    for sign in ("{", "[", "%7B"):
        text = text.partition(sign)[0]
    parts = text.split("/")
    while len(parts) > 4 and (not parts[-1] or parts[-1].lower().strip("_-<>").replace("_", "-") in _KEY_WORDS):
        parts.pop()
    text = "/".join(parts).rstrip("/")
    context = one.statement.context
    try:
        address.parse(text)
    except address.AddressError as error:
        _reject(made, [one], str(error))
        return
    made.servers.setdefault(text, (context.region, "backup" if context.role == "backup" else "primary", one))
    _note(made, one, "servers")


_KEY_WORDS = frozenset(
    [
        "stream-key",
        "streamkey",
        "key",
        "your-stream-key",
        "your-key",
        "stream-name",
        "streamname",
        "xxxx",
        "xxxxx",
        "yourkey",
        "yourstreamkey",
        "stream",
    ]
)
_FACTS = {"session.longest_hours": "is max", "session.lead_time_hours": "is min max", "peak_percent": "max is"}


def _fact(made: Gathered, one: Said) -> None:
    claim = one.claim
    what = claim.what
    value: object = claim.value
    if claim.strength == "not":
        _reject(made, [one], "says only what does not hold")
        return
    if isinstance(value, int | float) and value <= 0 and what in ("session.longest_hours", "key.lives"):
        _reject(made, [one], f"{value:g} is no sensible figure for this")
        return
    if what == "session.shows_after_s":
        old = made.facts.get(what)
        span: dict[str, object] = dict(old[0]) if old and isinstance(old[0], dict) else {}
        new = {"min": value, "max": value} if claim.shape == "is" else {claim.shape: value}
        if any(key in span and span[key] != v for key, v in new.items()):
            _reject(made, [one], "says something else than another line")
            return
        span.update(new)
        made.facts[what] = span, one
        _note(made, one, what)
        return
    if what == "key.lives" and not isinstance(value, str):
        what = "key.lives_hours"
    if what in _FACTS and claim.shape not in _FACTS[what].split():
        _reject(made, [one], "the wrong end of a limit")
        return
    if what in made.facts and made.facts[what][0] != value:
        _reject(made, [one, made.facts[what][1]], "says something else than another line")
        del made.facts[what]
        return
    made.facts[what] = value, one
    _note(made, one, what)


# Rules


def _rules(made: Gathered, mode: str, said: Sequence[Said]) -> None:
    whole: list[Said] = []
    for name in dict.fromkeys(_group(one.claim.what) for one in said):
        ones = [one for one in said if _group(one.claim.what) == name]
        whole += _for_all(made, ones)
    rules: dict[str, Rule] = {}
    for name in dict.fromkeys(_group(one.claim.what) for one in whole):
        _rule(made, rules, name, [one for one in whole if _group(one.claim.what) == name])
    made.rules[mode] = rules


def _group(what: str) -> str:
    """Parameters that limit each other are put together at once."""
    return "video.size" if what in ("video.width", "video.height") else what


def _for_all(made: Gathered, ones: Sequence[Said]) -> list[Said]:
    """Claims that hold without a condition; those for some sizes count where all of them say the same."""
    free = [one for one in ones if not (one.claim.sizes or one.claim.rates or one.claim.channels)]
    tied = [one for one in ones if one.claim.sizes or one.claim.rates or one.claim.channels]
    if not tied:
        return free
    by_condition: dict[object, set[tuple[object, ...]]] = {}
    for one in tied:
        key = _condition(one.claim)
        by_condition.setdefault(key, set()).add(
            (one.claim.what, one.claim.strength, one.claim.shape, str(one.claim.value))
        )
    contents = list(by_condition.values())
    if len(contents) > 1 and all(content == contents[0] for content in contents):
        first = next(iter(by_condition))
        return [*free, *(one for one in tied if _condition(one.claim) == first)]
    if _group(tied[0].claim.what) == "video.bitrate.mean":
        _reject(made, tied, "a bitrate for some pictures only: which size is meant?")
    else:
        _reject(
            made, tied, "holds for some channels only" if tied[0].claim.channels else "holds for some pictures only"
        )
    return free


def _condition(claim: Claim) -> tuple[object, ...]:
    return tuple(size.text for size in claim.sizes), claim.rates, claim.channels


def _rule(made: Gathered, rules: dict[str, Rule], name: str, ones: Sequence[Said]) -> None:
    """One parameter (with what limits it), from all that is said of it."""
    ones, denied = [o for o in ones if o.claim.strength != "not"], [o for o in ones if o.claim.strength == "not"]
    ones = _denials(made, name, ones, denied)
    kept: list[Said] = []
    for strength in ("must", "should"):
        own = [o for o in ones if o.claim.strength == strength]
        for what in dict.fromkeys(o.claim.what for o in own):
            kept += _agreed(made, what, [o for o in own if o.claim.what == what])
    if name == "video.size":
        _size_rule(made, rules, kept)
    else:
        _plain_rule(made, rules, name, kept)


def _denials(made: Gathered, name: str, ones: list[Said], denied: list[Said]) -> list[Said]:
    """What must not be: it contradicts, says the one other thing there is, or goes without saying."""
    out = list(ones)
    for one in denied:
        opposite = _OPPOSITES.get((one.claim.what, str(one.claim.value)))
        said_is = [o for o in ones if o.claim.shape == "is" and o.claim.what == one.claim.what]
        against = [o for o in said_is if o.claim.value == one.claim.value]
        if against:
            _reject(made, [one, *against], f"says both that {name} may and may not be {one.claim.value}")
            out = [o for o in out if o not in against]
        elif opposite is not None:
            if not said_is:
                out.append(
                    Said(
                        one.statement,
                        replace(
                            one.claim,
                            strength="should" if _ADVICE.search(one.statement.head.lower()) else "must",
                            value=opposite,
                        ),
                    )
                )
            _note(made, one, name)
        elif said_is or any(o.claim.shape != "is" for o in ones):
            _note(made, one, name)  # goes without saying
        else:
            _reject(made, [one], "says only what it must not be")
    return out


_OPPOSITES: dict[tuple[str, str], Value] = {
    ("video.scan", "interlaced"): "progressive", ("video.scan", "progressive"): "interlaced",
    ("video.rate_control", "vbr"): "cbr", ("video.rate_control", "cbr"): "vbr",
    ("video.frame_rate_constant", "no"): "yes", ("video.gop_closed", "no"): "yes",
    ("video.colour.range", "full"): "limited", ("video.colour.range", "limited"): "full",
}  # fmt: skip


def _agreed(made: Gathered, what: str, ones: Sequence[Said]) -> list[Said]:
    """Those claims of one strength that no other line contradicts."""
    kept: list[Said] = []
    for shape in dict.fromkeys(o.claim.shape for o in ones):
        own = [o for o in ones if o.claim.shape == shape]
        lines: dict[tuple[int, bool], list[Said]] = {}
        for one in own:
            accepted = one.statement.context.strength == "accept"  # what is possible is not what is asked for
            key = (one.statement.line, accepted) if shape == "is" else (id(one), False)
            lines.setdefault(key, []).append(one)
        contents = [{str(o.claim.value) for o in group} for group in lines.values()]
        if all(content == contents[0] for content in contents):
            kept += own
        else:
            _reject(made, own, f"says something else of {what} than another line")
    return kept


def _part(ones: Sequence[Said], strength: str, shape: str, what: str) -> list[Value]:
    found = [o.claim.value for o in ones if (o.claim.strength, o.claim.shape, o.claim.what) == (strength, shape, what)]
    return list(dict.fromkeys(found))  # type: ignore[arg-type]


def _plain_rule(made: Gathered, rules: dict[str, Rule], name: str, ones: list[Said]) -> None:
    must, should = _part(ones, "must", "is", name), _part(ones, "should", "is", name)
    bounds = {s: {k: v[0] for k in ("min", "max") if (v := _part(ones, s, k, name))} for s in ("must", "should")}
    source = any(o.claim.shape == "source" for o in ones)
    table = f"{name}.median" if name == _KEYFRAMES else name
    if any(_downwards(table, span) for span in bounds.values()):
        _reject(made, ones, "a range that runs downwards: a slip, or written the other way round")
        return
    if must and bounds["must"]:
        # a plain figure beside a limit is what is recommended within it
        plain = all(o.claim.plain for o in ones if o.claim.shape == "is" and o.claim.strength == "must")
        inside = all(_inside(table, value, bounds["must"]) for value in must)
        if not inside or not (plain or name == _KEYFRAMES) or (should and should != must):
            _reject(made, ones, f"says two things of {name} that do not go together")
            return
        must, should = [], must
    if should and bounds["must"] and not all(_inside(table, value, bounds["must"]) for value in should):
        _reject(made, ones, f"what is recommended for {name} lies outside what is allowed")
        return
    if must and should:  # what is recommended is allowed too, whatever else is
        must = list(dict.fromkeys([*must, *should]))
    if should and bounds["should"]:  # "160 (max 320)" under "Recommended": the limit is one nevertheless
        if must or bounds["must"] or not all(_inside(table, value, bounds["should"]) for value in should):
            _reject(made, ones, f"says two things of what is recommended for {name}")
            return
        bounds["must"], bounds["should"] = bounds["should"], {}
    parts: dict[str, JsonDemand] = {}
    if must or bounds["must"]:
        parts["must"] = _demand(must, bounds["must"])
    if should or bounds["should"]:
        parts["should"] = _demand(should, bounds["should"])
    if name != _KEYFRAMES:
        _enter(made, rules, name, parts, ones, source=source)
        return
    median = {key: _demand(values, {}) for key, values in (("must", must), ("should", should)) if values}
    _enter(made, rules, f"{name}.median", median, [o for o in ones if o.claim.shape == "is"])
    for end in ("min", "max"):
        limits: dict[str, JsonDemand] = {s: {end: bounds[s][end]} for s in ("must", "should") if end in bounds[s]}
        _enter(made, rules, f"{name}.{end}", limits, [o for o in ones if o.claim.shape == end])


def _size_rule(made: Gathered, rules: dict[str, Rule], ones: list[Said]) -> None:
    names = ("video.width", "video.height")
    bounded = any(o.claim.shape != "is" and o.claim.strength == "must" for o in ones)
    sizes = [o for o in ones if o.claim.what == "video.size"]
    if bounded and any(o.claim.strength == "must" for o in sizes):
        spans = {n: {k: v[0] for k in ("min", "max") if (v := _part(ones, "must", k, n))} for n in names}
        inside = all(
            _inside(n, v, spans[n]) for o in sizes if o.claim.strength == "must"
            for n, v in zip(names, parameters.size_of(o.claim.value), strict=True)  # type: ignore[arg-type]
        )  # fmt: skip
        if not inside or any(o.claim.strength == "should" for o in sizes) or not all(o.claim.plain for o in sizes):
            _reject(made, ones, "says two things of the picture's size that do not go together")
            return
        ones = [Said(o.statement, replace(o.claim, strength="should")) if o in sizes else o for o in ones]
    for name in ("video.size", *names):
        own = [o for o in ones if o.claim.what == name]
        if own:
            _plain_rule(made, rules, name, own)


def _inside(name: str, value: Value, span: dict[str, Value]) -> bool:
    try:
        number = parameters.ordered(name, value)
        low, high = (parameters.ordered(name, span[key]) if key in span else None for key in ("min", "max"))
    except (ParameterError, ValueError):
        return False
    return (low is None or number >= low - 1e-9) and (high is None or number <= high + 1e-9)


def _downwards(name: str, span: dict[str, Value]) -> bool:
    return len(span) == 2 and not _inside(name, span["min"], {"max": span["max"]})


def _demand(values: list[Value], bounds: dict[str, Value]) -> JsonDemand:
    if values:
        return values[0] if len(values) == 1 else values
    return dict(bounds)


def _enter(
    made: Gathered,
    rules: dict[str, Rule],
    name: str,
    parts: dict[str, JsonDemand],
    ones: list[Said],
    *,
    source: bool = False,
) -> None:
    if not parts and not source:
        return
    try:
        for value in parts.values():
            demand.parse(name, value)
    except ParameterError as error:
        _reject(made, ones, str(error))
        return
    rules[name] = Rule(parts, source, ones)


def _tidy_modes(made: Gathered) -> None:
    """The normal mode is the sheet itself."""
    normal = made.rules.pop("normal", None)
    if normal:
        base = made.rules.setdefault("", {})
        for name, rule in normal.items():
            base.setdefault(name, rule)


def _whole(value: float) -> float:
    return int(value) if value == int(value) else value
