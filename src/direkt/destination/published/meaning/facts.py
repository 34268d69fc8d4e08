"""What a table says beside the rules: ladders, protocols, servers, the session and the key."""

from __future__ import annotations

import re
from collections.abc import Sequence

from direkt.destination.published.meaning.reading import whole
from direkt.destination.published.meaning.result import Gathered, LadderStep, SaidClaim, note, reject
from direkt.protocol import address

_ALL_RATES = (1, 300)  # fps of a step that names none
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


def ladder_of(made: Gathered, steps: Sequence[SaidClaim]) -> list[SaidClaim]:
    """The ladder; what holds for no one size comes back."""
    groups: dict[tuple[str, tuple[float, float], str], list[SaidClaim]] = {}
    back: list[SaidClaim] = []
    for one in steps:
        sizes, rates = one.claim.sizes, one.claim.rates
        if one.claim.mode or len(sizes) != 1:
            back.append(one)
        else:
            groups.setdefault((sizes[0].text, rates or _ALL_RATES, one.claim.codec), []).append(one)
    for (size, rates, codec), ones in groups.items():
        bitrate = _bitrates(ones)
        if isinstance(bitrate, str):
            reject(made, ones, bitrate)
            continue
        coded: dict[str, object] = {"codec": codec} if codec else {}
        head: dict[str, object] = {**coded, "size": size, "frame_rate": {"min": whole(rates[0]), "max": whole(rates[1])}}
        made.ladder.append(LadderStep(head, bitrate, ones))
    return back


def audio_ladder_of(made: Gathered, sounds: Sequence[SaidClaim]) -> list[SaidClaim]:
    """The audio ladder, by channels."""
    groups: dict[int, list[SaidClaim]] = {}
    for one in sounds:
        groups.setdefault(one.claim.channels, []).append(one)
    for channels, ones in groups.items():
        bitrate = _bitrates(ones)
        if isinstance(bitrate, str):
            reject(made, ones, bitrate)
        else:
            made.audio_ladder.append(LadderStep({"channels": channels}, bitrate, ones))
    return []


def _bitrates(ones: Sequence[SaidClaim]) -> dict[str, float] | str:
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
    made = {shape: whole(next(iter(found[shape]))) for shape in order if shape in found}
    if (rising := list(made.values())) != sorted(rising):
        if "best" not in made:
            return "a range that runs downwards: a slip, or written the other way round"
        return "what is recommended lies outside the range"
    return made


def protocol(made: Gathered, one: SaidClaim) -> None:
    """A protocol and its port."""
    key: tuple[str, int] = one.claim.value  # type: ignore[assignment]
    told, ones = made.protocols.get(key, ({}, ()))
    made.protocols[key] = told, ones or (one,)
    note(made, one, "protocols")


def srt(made: Gathered, one: SaidClaim, said: Sequence[SaidClaim]) -> None:
    """What is told of srt: which end the pushing one has to be, latency, passphrase, stream id; it goes with a port or an address of srt."""
    what = one.claim.what.removeprefix("srt.")
    if one.claim.strength == "not":
        reject(made, [one], "says only what it must not be")
        return
    place = _srt_port(one, said)
    if place is None:
        reject(made, [one], f"the {what.removesuffix('_ms').replace('_', ' ')} of srt without its port")
        return
    port, of = place
    told, origins = made.protocols.get(("srt", port), ({}, (of,)))
    old, value = told.get(what), one.claim.value
    if what == "latency_ms":
        end = "best" if one.claim.shape == "is" else one.claim.shape
        span = dict(old) if isinstance(old, dict) else {}
        if span.get(end, value) != value:
            reject(made, [one], _OTHERWISE)
            return
        old = value = {**span, end: value}
        if not _rises(value):
            reject(made, [one], "what is recommended lies outside the range" if "best" in value else "a range that runs downwards")
            return
    if old is not None and old != value:
        reject(made, [one], _OTHERWISE)
        return
    made.protocols["srt", port] = ({**told, what: value}, (*origins, one))
    note(made, one, "protocols")


def spans(made: Gathered) -> None:
    """A time of which only the least is told has no end that one could wait for."""
    for mode, (span, one) in list(made.behind.items()):
        if "max" not in span:
            del made.behind[mode]
            reject(made, [one], "says only the least")
    shown = made.facts.get("session.shows_after_s")
    if shown is not None and isinstance(shown[0], dict) and "max" not in shown[0]:
        del made.facts["session.shows_after_s"]
        reject(made, [shown[1]], "says only the least")


def _rises(span: dict[str, object]) -> bool:
    ends = [float(str(span[end])) for end in ("min", "best", "max") if end in span]
    return ends == sorted(ends)


def _srt_port(one: SaidClaim, said: Sequence[SaidClaim]) -> tuple[int, SaidClaim] | None:
    """The port that something told of srt goes with, and who says so; None: there is none, or several."""
    ports: list[tuple[int, SaidClaim]] = []
    for other in said:
        value = other.claim.value
        if other.claim.what == "protocol" and isinstance(value, tuple) and value[0] == "srt":
            ports.append((int(value[1]), other))
        elif other.claim.what == "server" and isinstance(value, str) and value.startswith("srt:"):
            port = re.search(r":(\d{1,5})(?:[/?#]|$)", value[4:])
            if port and 1 <= int(port[1]) <= 65535:
                ports.append((int(port[1]), other))
    near = [place for place in ports if place[1].statement.line == one.statement.line] or ports
    return near[0] if len({port for port, _ in near}) == 1 else None


def behind(made: Gathered, one: SaidClaim) -> None:
    """How far viewers are behind, in a latency mode or in the sheet as it stands."""
    mode = "" if one.claim.mode == "normal" else one.claim.mode
    value, shape = one.claim.value, one.claim.shape
    if one.claim.strength == "not" or not isinstance(value, int | float):
        reject(made, [one], "says only what it must not be")
        return
    what = f"behind.{mode}"
    if what in made.contradicted:
        reject(made, [one], _OTHERWISE)
        return
    old = made.behind.get(mode)
    span: dict[str, float] = dict(old[0]) if old is not None else {}
    new = {"min": value, "max": value} if shape == "is" else {shape: value}
    if any(span.get(end, v) != v for end, v in new.items()) or ({**span, **new}.get("min", 0) > {**span, **new}.get("max", value)):
        made.contradicted.add(what)
        made.behind.pop(mode, None)
        reject(made, [one, *([old[1]] if old is not None else [])], _OTHERWISE)
        return
    made.behind[mode] = {**span, **new}, one
    note(made, one, "viewers_behind_s")


_SINCE_USE = re.compile(r"last (?:use|event|stream)|(?:un|not |nicht )(?:used|benutzt)|unused|inactiv|inaktiv|letzten? (?:nutzung|sendung)|dernière utilisation|último uso")
_OTHERWISE = "says something else than another line"


def mode(made: Gathered, one: SaidClaim) -> None:
    """A latency mode; the normal one is the sheet itself."""
    value: tuple[str, str] = one.claim.value  # type: ignore[assignment]
    name, words = value
    if name in made.contradicted:
        reject(made, [one], _OTHERWISE)
        return
    if name in made.modes and made.modes[name][0] != words:
        made.contradicted.add(name)
        reject(made, [one, made.modes.pop(name)[1]], _OTHERWISE)
    elif name != "normal":
        made.modes[name] = words, one
    note(made, one, "latency")


def server(made: Gathered, one: SaidClaim) -> None:
    """A server address, without the placeholder for the key."""
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
        reject(made, [one], str(error))
        return
    made.servers.setdefault(text, (context.region, "backup" if context.role == "backup" else "primary", one))
    note(made, one, "servers")


def fact(made: Gathered, one: SaidClaim) -> None:
    """Something of the session or the key."""
    claim = one.claim
    what = claim.what
    value: object = claim.value
    if claim.strength == "not":
        reject(made, [one], "says only what does not hold")
        return
    if isinstance(value, int | float) and value <= 0 and what in ("session.longest_hours", "key.lives"):
        reject(made, [one], f"{value:g} is no sensible figure for this")
        return
    if what == "key.lives" and _SINCE_USE.search(one.statement.text.lower()):
        reject(made, [one], "a life since its last use, which starts anew with each event", aside=True)
        return
    if what == "session.shows_after_s":
        old = made.facts.get(what)
        span: dict[str, object] = dict(old[0]) if old and isinstance(old[0], dict) else {}
        new = {"min": value, "max": value} if claim.shape == "is" else {claim.shape: value}
        if any(key in span and span[key] != v for key, v in new.items()):
            reject(made, [one], _OTHERWISE)
            return
        span.update(new)
        made.facts[what] = span, one
        note(made, one, what)
        return
    if what == "key.lives" and not isinstance(value, str):
        what = "key.lives_hours"
    if what in _FACTS and claim.shape not in _FACTS[what].split():
        reject(made, [one], "the wrong end of a limit")
        return
    rival = {"key.lives": "key.lives_hours", "key.lives_hours": "key.lives"}.get(what, "")
    if what in made.contradicted or rival in made.contradicted:  # by two lines already: a third one decides nothing
        reject(made, [one], _OTHERWISE)
        return
    if rival in made.facts:
        made.contradicted |= {what, rival}
        reject(made, [one, made.facts.pop(rival)[1]], _OTHERWISE)
        return
    if what in made.facts and made.facts[what][0] != value:
        made.contradicted.add(what)
        reject(made, [one, made.facts.pop(what)[1]], _OTHERWISE)
        return
    made.facts[what] = value, one
    note(made, one, what)
