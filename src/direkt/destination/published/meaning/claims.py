"""The claims of a whole table put together: what agrees becomes a rule or a step of a ladder, what does not is listed.

Two statements on one thing that differ are both listed, and neither is claimed. A plain figure beside a limit is what
is recommended within it. What is said for some picture sizes only becomes a step of the ladder where it is a bitrate;
anything else has to be the same for all of them.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace

from direkt import demand, parameters
from direkt.demand import JsonDemand
from direkt.destination.published.meaning.facts import (
    audio_ladder_of,
    behind,
    fact,
    ladder_of,
    mode,
    protocol,
    server,
    spans,
    srt,
)
from direkt.destination.published.meaning.reading import Claim
from direkt.destination.published.meaning.result import DraftedRule, Gathered, SaidClaim, note, reject
from direkt.parameters import ParameterError, Value

_ADVICE = re.compile(
    r"avoid|recommend|should|advis|vermeid|évit|evit"
)  # of a column: what not to use is no more than advice
_KEYFRAMES = "video.keyframe_interval"


# What goes beside the rules, and what puts it there
_BESIDE: dict[str, Callable[[Gathered, SaidClaim], None]] = {
    "protocol": protocol, "server": server, "latency": mode, "latency.behind": behind, "peak_percent": fact,
}  # fmt: skip


def gather(said: Sequence[SaidClaim]) -> Gathered:
    """Puts ``said`` together."""
    made = Gathered()
    said = _codecs_that_matter(said)
    plain: list[SaidClaim] = []
    steps: list[SaidClaim] = []
    sounds: list[SaidClaim] = []
    for one in said:
        claim = one.claim
        if (put := _BESIDE.get(claim.what)) is not None:
            put(made, one)
        elif claim.what.startswith("srt."):
            srt(made, one, said)
        elif claim.what.startswith(("session.", "key.")):
            fact(made, one)
        elif claim.what == "video.bitrate.mean" and (claim.sizes or claim.rates) and claim.strength != "not":
            steps.append(one)
        elif claim.what == "audio.bitrate.mean" and claim.channels and claim.strength != "not":
            sounds.append(one)
        else:
            plain.append(one)
    plain += ladder_of(made, steps)
    plain += audio_ladder_of(made, sounds)
    for name in dict.fromkeys(one.claim.mode for one in plain):
        _rules(made, name, [one for one in plain if one.claim.mode == name])
    _tidy_modes(made)
    spans(made)
    for facts in made.rules.values():
        for name, rule in facts.items():
            for one in rule.origins:
                note(made, one, name)
    for step in (*made.ladder, *made.audio_ladder):
        for one in step.origins:
            note(made, one, one.claim.what)
    return made


def _codecs_that_matter(said: Sequence[SaidClaim]) -> Sequence[SaidClaim]:
    """A table that knows one codec only does not tell codecs apart."""
    named = {one.claim.codec for one in said if one.claim.codec}
    named |= {str(one.claim.value) for one in said if one.claim.what == "video.codec" and one.claim.strength != "not"}
    return said if len(named) > 1 else [replace(one, claim=replace(one.claim, codec="")) for one in said]


def _tied(claim: Claim) -> bool:
    return bool(claim.sizes or claim.rates or claim.channels or claim.codec)


def _rules(made: Gathered, mode: str, said: Sequence[SaidClaim]) -> None:
    whole: list[SaidClaim] = []
    for name in dict.fromkeys(_group(one.claim.what) for one in said):
        ones = [one for one in said if _group(one.claim.what) == name]
        whole += _for_all(made, ones)
    rules: dict[str, DraftedRule] = {}
    for name in dict.fromkeys(_group(one.claim.what) for one in whole):
        _rule(made, rules, name, [one for one in whole if _group(one.claim.what) == name])
    made.rules[mode] = rules


def _group(what: str) -> str:
    """Parameters that limit each other are put together at once."""
    return "video.size" if what in ("video.width", "video.height") else what


def _for_all(made: Gathered, ones: Sequence[SaidClaim]) -> list[SaidClaim]:
    """Claims that hold without a condition; those for some sizes count where all of them say the same."""
    free = [one for one in ones if not _tied(one.claim)]
    tied = [one for one in ones if _tied(one.claim)]
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
        reject(made, tied, "a bitrate for some pictures only: which size is meant?")
    else:
        coded = tied[0].claim.codec
        of = "channels" if tied[0].claim.channels else "pictures" if tied[0].claim.sizes or tied[0].claim.rates or not coded else f"codecs ({coded})"
        reject(made, tied, f"holds for some {of} only")
    return free


def _condition(claim: Claim) -> tuple[object, ...]:
    return tuple(size.text for size in claim.sizes), claim.rates, claim.channels, claim.codec


def _rule(made: Gathered, rules: dict[str, DraftedRule], name: str, ones: Sequence[SaidClaim]) -> None:
    """One parameter (with what limits it), from all that is said of it."""
    ones, denied = [o for o in ones if o.claim.strength != "not"], [o for o in ones if o.claim.strength == "not"]
    ones, never = _denials(made, name, ones, denied)
    kept: list[SaidClaim] = []
    for strength in ("must", "should"):
        own = [o for o in ones if o.claim.strength == strength]
        for what in dict.fromkeys(o.claim.what for o in own):
            kept += _agreed(made, what, [o for o in own if o.claim.what == what])
    if name == "video.size":
        _size_rule(made, rules, kept)
    else:
        _plain_rule(made, rules, name, kept)
    if never:
        _never(made, rules, name, kept, never)


def _never(made: Gathered, rules: dict[str, DraftedRule], name: str, ones: list[SaidClaim], never: list[SaidClaim]) -> None:
    """Adds to a rule what it must never be."""
    old = rules.get(name, DraftedRule())
    values: list[Value] = list(dict.fromkeys(one.claim.value for one in never))  # type: ignore[misc]
    try:
        must = demand.parse(name, old.parts.get("must"), values)
        should = old.parts.get("should")
        if should is not None and not demand.within(demand.parse(name, should), must):
            raise ParameterError(f"recommends of {name} what it refuses")
    except ParameterError as error:
        reject(made, [*never, *ones], str(error))
        rules.pop(name, None)
        return
    rules[name] = DraftedRule({**old.parts, "never": values}, old.same_as_source, [*old.origins, *never])


# What has no value between two others, so that one of them can be ruled out
_DISCRETE = ("video.frame_rate", "audio.sample_rate", "audio.channels", "video.bit_depth", "video.size")
_MILD = re.compile(r"avoid|not recommend|not (?:be )?advis|should(?: not|n.t)|discourag|better not|vermeid|nicht empfohlen|évit|déconseill|evit|sconsigl|desaconsej")


def _mild(one: SaidClaim) -> bool:
    """Whether a "not" is no more than advice."""
    return bool(_ADVICE.search(one.statement.head.lower()) or _MILD.search(one.statement.text.lower()) or _MILD.search(one.statement.name.lower()))


def _denials(made: Gathered, name: str, ones: list[SaidClaim], denied: list[SaidClaim]) -> tuple[list[SaidClaim], list[SaidClaim]]:
    """What must not be: it contradicts, says the one other thing there is, goes without saying, or is ruled out by itself."""
    out, never = list(ones), list[SaidClaim]()
    for one in denied:
        opposite = _OPPOSITES.get((one.claim.what, str(one.claim.value)))
        said_is = [o for o in ones if o.claim.shape == "is" and o.claim.what == one.claim.what]
        against = [o for o in said_is if o.claim.value == one.claim.value]
        if against:
            reject(made, [one, *against], f"says both that {name} may and may not be {one.claim.value}")
            out = [o for o in out if o not in against]
        elif opposite is not None:
            if not said_is:
                out.append(
                    SaidClaim(
                        one.statement,
                        replace(
                            one.claim,
                            strength="should" if _mild(one) else "must",
                            value=opposite,
                        ),
                    )
                )
            note(made, one, name)
        elif any(o.claim.strength == "must" for o in said_is):
            note(made, one, name)  # goes without saying
        elif _mild(one):
            reject(made, [one], "says only what is better not used", aside=True)
        elif one.claim.shape == "is" and one.claim.what == name and (name in _DISCRETE or parameters.find(name).choices):
            never.append(one)
        else:
            reject(made, [one], "says only what it must not be")
    return out, never


_OPPOSITES: dict[tuple[str, str], Value] = {
    ("video.scan", "interlaced"): "progressive", ("video.scan", "progressive"): "interlaced",
    ("video.rate_control", "vbr"): "cbr", ("video.rate_control", "cbr"): "vbr",
    ("video.frame_rate_constant", "no"): "yes", ("video.gop_closed", "no"): "yes",
    ("video.colour.range", "full"): "limited", ("video.colour.range", "limited"): "full",
}  # fmt: skip


def _agreed(made: Gathered, what: str, ones: Sequence[SaidClaim]) -> list[SaidClaim]:
    """Those claims of one strength that no other line contradicts."""
    kept: list[SaidClaim] = []
    for shape in dict.fromkeys(o.claim.shape for o in ones):
        own = [o for o in ones if o.claim.shape == shape]
        lines: dict[tuple[int, bool], list[SaidClaim]] = {}
        for one in own:
            accepted = one.statement.context.strength == "accept"  # what is possible is not what is asked for
            key = (one.statement.line, accepted) if shape == "is" else (id(one), False)
            lines.setdefault(key, []).append(one)
        contents = [{str(o.claim.value) for o in group} for group in lines.values()]
        if all(content == contents[0] for content in contents):
            kept += own
        else:
            reject(made, own, f"says something else of {what} than another line")
    return kept


def _part(ones: Sequence[SaidClaim], strength: str, shape: str, what: str) -> list[Value]:
    found = [o.claim.value for o in ones if (o.claim.strength, o.claim.shape, o.claim.what) == (strength, shape, what)]
    return list(dict.fromkeys(found))  # type: ignore[arg-type]


def _plain_rule(made: Gathered, rules: dict[str, DraftedRule], name: str, ones: list[SaidClaim]) -> None:
    must, should = _part(ones, "must", "is", name), _part(ones, "should", "is", name)
    bounds = {s: {k: v[0] for k in ("min", "max") if (v := _part(ones, s, k, name))} for s in ("must", "should")}
    source = any(o.claim.shape == "source" for o in ones)
    table = f"{name}.median" if name == _KEYFRAMES else name
    if any(_downwards(table, span) for span in bounds.values()):
        reject(made, ones, "a range that runs downwards: a slip, or written the other way round")
        return
    if must and bounds["must"]:
        # a plain figure beside a limit is what is recommended within it
        plain = all(o.claim.plain for o in ones if o.claim.shape == "is" and o.claim.strength == "must")
        inside = all(_inside(table, value, bounds["must"]) for value in must)
        if not inside or not (plain or name == _KEYFRAMES) or (should and should != must):
            reject(made, ones, f"says two things of {name} that do not go together")
            return
        must, should = [], must
    if should and bounds["must"] and not all(_inside(table, value, bounds["must"]) for value in should):
        reject(made, ones, f"what is recommended for {name} lies outside what is allowed")
        return
    if must and should:  # what is recommended is allowed too, whatever else is
        must = list(dict.fromkeys([*must, *should]))
    if should and bounds["should"]:  # "160 (max 320)" under "Recommended": the limit is one nevertheless
        if must or bounds["must"] or not all(_inside(table, value, bounds["should"]) for value in should):
            reject(made, ones, f"says two things of what is recommended for {name}")
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


def _size_rule(made: Gathered, rules: dict[str, DraftedRule], ones: list[SaidClaim]) -> None:
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
            reject(made, ones, "says two things of the picture's size that do not go together")
            return
        ones = [SaidClaim(o.statement, replace(o.claim, strength="should")) if o in sizes else o for o in ones]
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
    rules: dict[str, DraftedRule],
    name: str,
    parts: dict[str, JsonDemand],
    ones: list[SaidClaim],
    *,
    source: bool = False,
) -> None:
    if not parts and not source:
        return
    try:
        for value in parts.values():
            demand.parse(name, value)
    except ParameterError as error:
        reject(made, ones, str(error))
        return
    rules[name] = DraftedRule(parts, source, ones)


def _tidy_modes(made: Gathered) -> None:
    """The normal mode is the sheet itself."""
    normal = made.rules.pop("normal", None)
    if normal:
        base = made.rules.setdefault("", {})
        for name, rule in normal.items():
            base.setdefault(name, rule)
