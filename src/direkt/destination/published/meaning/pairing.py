"""What in a cell belongs together before it says anything: a list and its unit, a size and its rate, frames and a rate,
a protocol and its port, a bitrate and the size or the channels that it holds for.
"""

from __future__ import annotations

import itertools
from dataclasses import replace

from direkt.destination.published.meaning.clauses import Item
from direkt.destination.published.meaning.reading import KEYFRAMES, Claim, OpenError, Reading
from direkt.destination.published.words.numbers import PLAUSIBLE, resolve
from direkt.destination.published.words.vocabulary import WordKind

_SINGLE = (
    KEYFRAMES,
    "video.bitrate.mean",
    "audio.bitrate.mean",
    "stream.bitrate.mean",
    "video.buffer",
    "video.bitrate.peak",
    "session.longest_hours",
)


def layouts(cell: Reading) -> None:
    """5.1 and 7.1 beside sound are channels."""
    for n, item in enumerate(cell.items):
        if (
            item.kind is not WordKind.NUMBER
            or item.unit is not None
            or len(item.numbers) > 1
            or item.numbers[0].plain not in (5.1, 7.1)
        ):
            continue
        sound = cell.context.subject == "audio" or item.subject == "audio" or any(
            name.startswith("audio.") for other in cell.items[:n] for name, _ in other.values
        )  # fmt: skip
        if sound and item.topic not in ("video.level", "video.profile"):
            item.kind, item.values = WordKind.VALUE, (("audio.channels", "6" if item.numbers[0].plain == 5.1 else "8"),)


def units(cell: Reading) -> None:
    """Gives each bare number of a list the unit behind it, or before it."""
    for n, item in enumerate(cell.items):
        if item.kind is not WordKind.NUMBER or item.unit is not None or item.times:
            continue
        for other in cell.items[n + 1 :]:
            if other.kind is not WordKind.NUMBER or other.joined == "." or other.topic != item.topic:
                break
            if other.unit is not None:
                if other.unit.measures == "rate" and KEYFRAMES in (item.topic, *cell.context.topics):
                    break  # "100 (at 50 fps)"
                if other.unit.measures != "frames" or item.topic != "video.level":
                    item.unit = other.unit
                break
    for n, item in enumerate(cell.items):
        if item.kind is WordKind.NUMBER and item.unit is None and not item.times and n and cell.context.unit is None:
            before = cell.items[n - 1]
            if before.kind is WordKind.NUMBER and before.unit is not None and before.topic == item.topic:
                item.unit = before.unit
                low, high = PLAUSIBLE.get(cell.quiet(item), (0.0, float("inf")))
                if not any(low <= value * item.unit.factor <= high for number in item.numbers for value in number.all):
                    item.unit = None  # "48 kHz / 2": not two kilohertz


def size_rates(cell: Reading) -> None:
    """A frame rate right behind a size belongs to it."""
    for n, item in enumerate(cell.items[1:], 1):
        before = cell.items[n - 1]
        if (
            before.kind is not WordKind.SIZE
            or item.kind is not WordKind.NUMBER
            or item.used
            or before.clause != item.clause
            or len(before.sizes) > 1
        ):
            continue
        rate = item.unit is not None and item.unit.measures in ("rate", "frames", "frequency") and item.unit.factor == 1
        bare = item.unit is None and item.joined == "" and not item.limit and _is_rate(item)
        if (rate or bare) and item.joined in ("", "/", "and") and KEYFRAMES not in (item.topic, *cell.context.topics):
            rates = _plain_rates(cell, item)
            if rates and not before.sizes[0].rates:
                before.sizes[0] = replace(before.sizes[0], rates=rates, span=len(item.numbers) == 2)
                before.limit, before.strength = before.limit or item.limit, before.strength or item.strength
                item.used = True


def restated(cell: Reading) -> None:
    """ "30 fps (29.97)": one rate by two names, and nobody says which is meant exactly."""
    for before, item in itertools.pairwise(cell.items):
        bracket = cell.clauses[item.clause]
        if (
            before.kind is item.kind is WordKind.NUMBER and not (before.used or item.used) and len(before.numbers) == len(item.numbers) == 1
            and bracket.parent == before.clause and bracket.words == 1 and cell.quiet(before) == "video.frame_rate"
        ):  # fmt: skip
            a, b = (resolve(one.numbers[0], "video.frame_rate", 1, cell.habit) for one in (before, item))
            if a and b and a != b and abs(a - b) < 0.01 * a:
                for one in (before, item):
                    cell.leave(one, f"{a:g} or {b:g}?")


def _is_rate(item: Item) -> bool:
    return all(5 <= value <= 120 for number in item.numbers for value in number.listed or number.all)


def _plain_rates(cell: Reading, item: Item) -> tuple[float, ...]:
    out: list[float] = []
    for number in item.numbers:
        if number.listed:
            out += number.listed
        elif (value := resolve(number, "video.frame_rate", 1, cell.habit)) is not None:
            out.append(value)
    return tuple(out)


def keyframes_in_frames(cell: Reading) -> None:
    """Frames at a rate are seconds; a rate in a keyframe's cell is but the condition."""
    here = [
        i for i in cell.items if KEYFRAMES in ((i.topic,) if i.topic else cell.context.topics) and i.kind is WordKind.NUMBER
    ]
    frames = [
        i for i in here if (u := i.unit or cell.context.unit) is not None and u.measures == "frames" and not i.used
    ]
    rates = [
        i
        for i in cell.items
        if i.kind is WordKind.NUMBER
        and i.unit is not None
        and i.unit.measures == "rate"
        and not i.used
        and KEYFRAMES in (i.topic, *cell.context.topics)
    ]
    bare = [i for i in here if i.unit is None and not i.times and not i.used]
    if not frames and rates and bare:
        frames = bare  # "50 (at 25 fps)"
    elif not frames and bare and cell.context.rates and all(v > 20 for i in bare for n in i.numbers for v in n.all):
        frames = bare  # "GOP 100" of a picture at 50 fps: no interval is as long as that
    known = any(i.unit is not None and i.unit.measures == "time" for i in here)
    given = [rate for i in rates for rate in _plain_rates(cell, i)]
    if not given and cell.context.rates and cell.context.rates[0] == cell.context.rates[1]:
        given = [cell.context.rates[0]] * len(frames)
    for i in rates:
        if frames or known:
            i.used = True
    if not frames:
        return
    if len(given) == len(frames) and all(rate > 0 for rate in given):
        _in_seconds(cell, frames, given)
    elif known:
        for item in frames:
            item.used = True  # the same once more, counted in frames
    else:
        for item in frames:
            cell.leave(item, "an interval in frames: the seconds depend on the frame rate")


def _in_seconds(cell: Reading, frames: list[Item], rates: list[float]) -> None:
    """Intervals in frames, each at its rate: one rule, where all of them come to the same."""
    found: list[tuple[Item, list[float]]] = []
    for item, rate in zip(frames, rates, strict=True):
        values = [resolve(number, "video.b_frames", 1, cell.habit) for number in item.numbers]
        found.append((item, [round(v / rate, 4) for v in values if v is not None]))
    if len({tuple(values) for _, values in found}) > 1 or not all(values for _, values in found):
        for item in frames:
            cell.leave(item, "an interval that differs by frame rate")
        return
    for item, seconds in found:
        item.used = True
        try:
            for shape, value in cell.shapes(item, seconds):
                cell.add(item, KEYFRAMES, shape, value)
        except OpenError as error:
            cell.leave(item, str(error))


def ports(cell: Reading) -> None:
    """A protocol and the number beside it are a protocol and its port."""
    ports = [i for i in cell.items if i.kind is WordKind.NUMBER and not i.used and i.unit is None and _is_port(cell, i)]
    names = [i for i in cell.items if i.kind is WordKind.VALUE and i.values[0][0] == "stream.protocol" and not i.used]
    topical = {"port", "stream.protocol", "server"} & {*cell.context.topics, *(i.topic for i in ports)}
    if not ports or not (names or cell.context.protocol):
        if ports and topical:
            for item in ports:
                cell.leave(item, "a port without its protocol")
        return
    if names and len(names) == len(ports):
        pairs = list(zip([i.values[0][1] for i in names], ports, strict=True))
    elif not names and len(ports) == 1:
        pairs = [(cell.context.protocol, ports[0])]
    elif len(names) == 1 and len(ports) == 1:
        pairs = [(names[0].values[0][1], ports[0])]
    else:
        for item in ports:
            cell.leave(item, "which port belongs to which protocol?")
        return
    for number, (name, item) in enumerate(pairs):
        value = item.numbers[0].all[0]
        item.used = True
        if not 1 <= value <= 65535:
            cell.leave(item, "a port is a number from 1 to 65535")
            continue
        whole = names[number] if number < len(names) and len(names) == len(pairs) else item
        strength = whole.strength or item.strength
        if strength == "not":
            continue
        cell.claims.append(
            (
                item.clause,
                Claim(
                    "protocol",
                    "must",
                    "is",
                    (name, int(value)),
                    min(whole.start, item.start),
                    max(whole.end, item.end),
                ),
            )
        )
        if whole is not item and strength != "should":
            whole.used = True


def _is_port(cell: Reading, item: Item) -> bool:
    if len(item.numbers) != 1 or item.numbers[0].plain is None or item.numbers[0].mark:
        return False
    topical = {"port", "stream.protocol", "server"} & {item.topic, *cell.context.topics}
    value = item.numbers[0].plain
    near = any(
        i.kind is WordKind.VALUE and i.values[0][0] == "stream.protocol" and abs(i.clause - item.clause) <= 1
        for i in cell.items
    )
    return value == int(value) and value >= 10 and (bool(topical) or (near and value >= 80))


def under(cell: Reading) -> None:
    """ "For H.265" takes what stands beside it along; "for stereo" is a condition that sheets know."""
    for item in cell.items:
        if not item.under or item.used or not any(o.clause == item.clause and o is not item for o in cell.items):
            continue
        item.used = True
        words = cell.text[item.start : item.end]
        if item.values[0][0] == "audio.channels":
            for other in cell.items:
                if other.clause == item.clause and other is not item:
                    cell.for_channels[id(other)] = int(item.values[0][1])
            continue
        for other in cell.items:
            if other.clause == item.clause and not other.used:
                if item.values[0][0] == "video.codec" and item.strength != "not" and cell.quiet(other) == "video.bitrate.mean":
                    cell.for_codec[id(other)] = item.values[0][1]
                else:
                    cell.leave(other, f"depends on: {words}")


def codecs(cell: Reading) -> None:
    """Bitrates in turns with codecs are one for each: "6 Mbps (H.264), 4 Mbps (H.265)"."""
    names = [i for i in cell.items if not i.used and i.kind is WordKind.VALUE and i.values[0][0] == "video.codec" and i.strength != "not"]
    rates = [i for i in cell.items if not i.used and i.kind is WordKind.NUMBER and cell.quiet(i) == "video.bitrate.mean"]
    if len({i.values[0][1] for i in names}) < 2 or not rates:
        return
    if _by_turns(rates, names):
        for name, rate in zip(names, rates, strict=True):
            cell.for_codec[id(rate)] = name.values[0][1]
            name.used = "video.codec" not in cell.context.topics
    elif len(rates) > 1:
        for rate in rates:
            cell.leave(rate, "which codec does it hold for?")


def conditions(cell: Reading) -> None:
    """Sizes and channels that only say for what a bitrate holds."""
    live = [i for i in cell.items if not i.used]
    rates = [i for i in live if i.kind is WordKind.NUMBER and cell.quiet(i) == "video.bitrate.mean"]
    sizes = [i for i in live if i.kind is WordKind.SIZE]
    about = any("bitrate" in topic for topic in cell.context.topics)
    if rates and sizes and (about or (len(sizes) > 1 and len(rates) > 1)):
        turns = _by_turns(rates, sizes)
        for n, item in enumerate(rates):
            own = [sizes[n]] if turns else [s for s in sizes if s.clause == item.clause] or _nearest(cell, sizes, item)
            if len(own) == 1 and len(own[0].sizes) == 1:
                cell.for_size[id(item)] = tuple(own[0].sizes)
                own[0].used = True
            else:
                cell.leave(item, "which picture size does it hold for?")
        for item in sizes:
            item.used = True
    sounds = [i for i in live if i.kind is WordKind.NUMBER and cell.quiet(i) == "audio.bitrate.mean"]
    layouts = [i for i in live if i.kind is WordKind.VALUE and any(n == "audio.channels" for n, _ in i.values)]
    if len(sounds) > 1 and len(layouts) == len(sounds):
        turns = _by_turns(sounds, layouts)
        pairs = [
            (
                s,
                [layouts[n]] if turns else [c for c in layouts if c.clause == s.clause] or _nearest(cell, layouts, s),
            )
            for n, s in enumerate(sounds)
        ]
        if all(len(own) == 1 for _, own in pairs):
            for item, own in pairs:
                cell.for_channels[id(item)] = int(dict(own[0].values)["audio.channels"])
                own[0].used = True
    elif len(layouts) > len(sounds) >= 1 or (
        len(layouts) == 1 and len(sounds) > 1 and not any(s.limit or s.strength for s in sounds)
    ):
        for item in [*sounds, *layouts] if len(sounds) > 1 else []:
            cell.leave(item, "which channels does it hold for?")


def _by_turns(some: list[Item], others: list[Item]) -> bool:
    """Whether they stand in turns: "128 kbps stereo or 384 kbps 5.1"."""
    order = sorted([(i.start, 0) for i in some] + [(i.start, 1) for i in others])
    return len(some) == len(others) and all(kind == (n + order[0][1]) % 2 for n, (_, kind) in enumerate(order))


def several(cell: Reading) -> None:
    """Of an interval or a bitrate there is one: two plain figures need an "or" between them."""
    plain: dict[str, list[Item]] = {}
    for item in cell.items:
        if (
            item.kind is WordKind.NUMBER
            and not item.used
            and not (item.limit or item.strength or item.times)
            and len(item.numbers) == 1
        ):
            what = cell.quiet(item)
            if what in _SINGLE and not {id(item)} & {*cell.for_size, *cell.for_channels, *cell.for_codec}:
                plain.setdefault(what, []).append(item)
    for what, items in plain.items():
        values = {resolve(i.numbers[0], what, i.unit.factor if i.unit else 1, cell.habit) for i in items}
        if len(values) > 1 and not all(item.joined in ("or", "/") for item in items[1:]):
            for item in items:
                cell.leave(item, "several figures, without saying which is which")


def _nearest(cell: Reading, others: list[Item], item: Item) -> list[Item]:
    """What stands in the bracket behind the item, or in the clause right before it."""
    inside = [o for o in others if cell.clauses[o.clause].parent == item.clause and o.start > item.start]
    if inside:
        return inside[:1]
    before = [o for o in others if o.start < item.start]
    return before[-1:] if before and before[-1].clause >= item.clause - 2 else []
