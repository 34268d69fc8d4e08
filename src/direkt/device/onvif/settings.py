"""Encoder configurations and their options as a channel's values and limits, and back; of both media services.

The two services hold the same things in other places: Media (ver10) in elements, with an encoding interval that divides
the frame rate; Media2 (ver20) partly in attributes. What a device leaves out, or fills with nonsense, is left out here.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from direkt import parameters
from direkt.demand import Demand
from direkt.device.onvif.build import boolean, decimal, element
from direkt.device.state import Together
from direkt.parameters import ParameterError, Value, Values
from direkt.protocol import tree
from direkt.protocol.tree import Element

_VIDEO_CODECS = {"H264": "h264", "H265": "h265", "JPEG": "mjpeg", "MPEG4": "mpeg4", "MPV4-ES": "mpeg4"}
_AUDIO_CODECS = {
    "AAC": "aac", "MP4A-LATM": "aac", "MPEG4-GENERIC": "aac", "G711": "g711u", "PCMU": "g711u", "PCMA": "g711a",
}  # fmt: skip
_PROFILES = {
    "baseline": "baseline", "main": "main", "high": "high", "extended": "extended", "main10": "main10", "high10": "high10",
    "constrainedbaseline": "constrained-baseline",
}  # fmt: skip
_GROUPED = ("h264", "h265", "mpeg4")  # whose pictures refer to each other
_RATES = {7: 7350, 11: 11025, 22: 22050, 44: 44100, 88: 88200}  # kHz that stand for no round number of Hz
_DURATION = re.compile(r"-?P(?=.)(\d+Y)?(\d+M)?(\d+D)?(T(?=.)(\d+H)?(\d+M)?(\d+(\.\d+)?S)?)?")  # XML Schema 2, 3.2.6
_MOST_RATES = 240  # fps: a longer range is kept as a range


@dataclass(frozen=True, slots=True)
class EncodingOption:
    """What one encoding can be set to."""

    codec: str
    sizes: tuple[str, ...] = ()
    rates: Demand | None = None
    bitrate: Demand | None = None
    pictures: tuple[int, int] | None = None  # the keyframe interval
    profiles: tuple[str, ...] = ()
    constant: bool | None = None  # whether CBR can be chosen; None: not told


@dataclass(frozen=True, slots=True)
class AudioOption:
    """What one audio encoding can be set to."""

    codec: str
    bitrates: tuple[float, ...] = ()
    rates: tuple[int, ...] = ()  # Hz


@dataclass(slots=True)
class FoundValues:
    """Values as they are found, and remarks on those that cannot be used."""

    values: Values = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)

    def put(self, name: str, value: Value | None, said: str = "") -> None:
        """Keeps a value if its parameter takes it."""
        if value is None:
            return
        try:
            self.values[name] = parameters.clean(name, value)
        except ParameterError:
            self.remarks.append(f"{name} is given as {said or value}, which is no value of it")


def codec_of(said: str) -> str:
    """Our word for a video encoding."""
    return _VIDEO_CODECS.get(said.strip().upper(), "other") if said.strip() else ""


def audio_codec_of(said: str) -> str:
    """Our word for an audio encoding, by its name or its media type."""
    return _AUDIO_CODECS.get(said.strip().upper(), "other") if said.strip() else ""


def profile_of(said: str) -> str:
    """Our word for a codec's profile."""
    return _PROFILES.get(said.strip().lower().replace("-", "").replace(" ", ""), "other") if said.strip() else ""


def hertz(said: str) -> int | None:
    """A sample rate in Hz from kHz as the standard has it (or Hz, as some devices send)."""
    number = tree.number(said)
    if number is None or number <= 0:
        return None
    if number >= 1000:
        return round(number)
    return _RATES.get(int(number), round(number * 1000)) if number == int(number) else round(number * 1000)


def size_of(resolution: Element | None) -> str:
    """A size such as ``1920x1080``; empty where there is none."""
    width, height = (tree.whole(tree.text(resolution, side)) for side in ("Width", "Height"))
    return f"{width}x{height}" if width and height and 0 < width < 1e5 and 0 < height < 1e5 else ""


# Reading


def video_values(config: Element, found: FoundValues, *, second: bool) -> None:
    """What a video encoder configuration is set to; ``second``: of Media2."""
    codec = codec_of(tree.text(config, "Encoding"))
    found.put("video.codec", codec or None)
    found.put("video.size", size_of(tree.find(config, "Resolution")) or None)
    rate = frame_rate(config, second=second)
    found.put("video.frame_rate", rate)
    control = tree.find(config, "RateControl")
    bitrate = tree.number(tree.text(control, "BitrateLimit"))
    found.put("video.bitrate.mean", _plain(bitrate) if bitrate is None or bitrate > 0 else None)
    inner = tree.find(config, "H264" if codec == "h264" else "MPEG4")
    profile = tree.attribute(config, "Profile") if second else tree.text(inner, "H264Profile")
    if codec in ("h264", "h265"):
        found.put("video.profile", profile_of(profile) or None)
    pictures = tree.whole(tree.attribute(config, "GovLength") if second else tree.text(inner, "GovLength"))
    if pictures is not None and pictures > 0 and rate and codec in _GROUPED:
        found.put("video.keyframe_interval.median", _plain(parameters.keyframe_seconds(pictures, rate)))
    constant = tree.yes(tree.attribute(control, "ConstantBitRate"))
    if second and constant is not None:
        found.put("video.rate_control", "cbr" if constant else "vbr")


def frame_rate(config: Element, *, second: bool) -> float | None:
    """fps that are coded: the limit, in Media by the encoding interval (every n-th picture)."""
    control = tree.find(config, "RateControl")
    limit = tree.number(tree.text(control, "FrameRateLimit"))
    interval = 1 if second else tree.whole(tree.text(control, "EncodingInterval")) or 1
    if limit is None or limit <= 0 or interval < 1:
        return None
    return _plain(limit if interval == 1 else round(limit / interval, 3))


def audio_values(config: Element | None, found: FoundValues) -> None:
    """What an audio encoder configuration is set to; None: the channel has no sound."""
    found.put("audio.present", "yes" if config is not None else "no")
    if config is None:
        return
    found.put("audio.codec", audio_codec_of(tree.text(config, "Encoding")) or None)
    found.put("audio.sample_rate", hertz(tree.text(config, "SampleRate")))
    bitrate = tree.number(tree.text(config, "Bitrate"))
    found.put("audio.bitrate.mean", _plain(bitrate) if bitrate is None or bitrate > 0 else None)


def _plain(number: float | None) -> int | float | None:
    return None if number is None else int(number) if number == int(number) else number


def options(answer: Element, *, second: bool) -> list[EncodingOption]:
    """What a video encoder can be set to, one entry for each encoding."""
    if second:
        return [_option2(one) for one in tree.children(answer, "Options") if codec_of(tree.text(one, "Encoding"))]
    out = []
    told = tree.find(answer, "Options")
    for name in ("H264", "MPEG4", "JPEG"):
        plain, extended = tree.find(told, name), tree.find(told, "Extension", name)
        if plain is not None or extended is not None:
            out.append(_option1(codec_of(name), [part for part in (plain, extended) if part is not None]))
    return out


def _option1(codec: str, parts: list[Element]) -> EncodingOption:
    """An encoding of Media: its second part repeats the first and adds the bitrate."""
    sizes = [size_of(one) for part in parts for one in tree.children(part, "ResolutionsAvailable")]
    interval = _range(parts, "EncodingIntervalRange")
    rates = _range(parts, "FrameRateRange")
    divisor = interval[0] if interval and interval[0] >= 1 else 1
    bitrate, pictures = _range(parts, "BitrateRange"), _range(parts, "GovLengthRange")
    names = [tree.text(one) for part in parts for one in tree.children(part, "H264ProfilesSupported")]
    demand = None
    if rates is not None and rates[1] >= max(1, rates[0]):
        low, high = max(1, rates[0]), rates[1]
        if high - low <= _MOST_RATES:
            demand = Demand("video.frame_rate", tuple(_plain(round(n / divisor, 3)) or 0 for n in range(low, high + 1)))
        else:
            demand = Demand("video.frame_rate", minimum=low / divisor, maximum=high / divisor)
    return EncodingOption(
        codec, tuple(dict.fromkeys(filter(None, sizes))), demand,
        _span("video.bitrate.mean", bitrate), (max(1, pictures[0]), pictures[1]) if pictures and pictures[1] >= 1 else None,
        _profiles(names),
    )  # fmt: skip


def _option2(one: Element) -> EncodingOption:
    """An encoding of Media2: lists in attributes."""
    sizes = [size_of(found) for found in tree.children(one, "ResolutionsAvailable")]
    said = [tree.number(word) for word in tree.attribute(one, "FrameRatesSupported").split()[:1000]]
    rates = tuple(dict.fromkeys(_plain(rate) or 0 for rate in said if rate is not None and rate > 0))
    gov = [tree.whole(word) for word in tree.attribute(one, "GovLengthRange").split()[:2]]
    low, high = gov if len(gov) == 2 else (None, None)
    return EncodingOption(
        codec_of(tree.text(one, "Encoding")), tuple(dict.fromkeys(filter(None, sizes))),
        Demand("video.frame_rate", rates) if rates else None, _span("video.bitrate.mean", _range([one], "BitrateRange")),
        (max(1, low), high) if low is not None and high is not None and high >= max(1, low) else None,
        _profiles(tree.attribute(one, "ProfilesSupported").split()[:50]), tree.yes(tree.attribute(one, "ConstantBitRateSupported")),
    )  # fmt: skip


def _range(parts: list[Element], name: str) -> tuple[int, int] | None:
    for part in parts:
        found = tree.find(part, name)
        low, high = (tree.number(tree.text(found, end)) for end in ("Min", "Max"))
        if low is not None and high is not None and low <= high:
            return int(low), int(high)
    return None


def _span(name: str, found: tuple[int, int] | None) -> Demand | None:
    return Demand(name, minimum=max(0, found[0]), maximum=found[1]) if found is not None and found[1] > 0 else None


def _profiles(names: Iterable[str]) -> tuple[str, ...]:
    known = (profile_of(name) for name in names)
    return tuple(dict.fromkeys(name for name in known if name and name != "other"))


def audio_options(answer: Element, *, second: bool) -> list[AudioOption]:
    """What an audio encoder can be set to."""
    listed = tree.children(answer, "Options") if second else tree.children(tree.find(answer, "Options"), "Options")
    out = []
    for one in listed:
        bitrates = [tree.number(tree.text(item)) for item in tree.children(tree.find(one, "BitrateList"), "Items")]
        rates = [hertz(tree.text(item)) for item in tree.children(tree.find(one, "SampleRateList"), "Items")]
        codec = audio_codec_of(tree.text(one, "Encoding"))
        if codec:
            out.append(AudioOption(
                codec, tuple(_plain(b) or 0 for b in dict.fromkeys(bitrates) if b), tuple(r for r in dict.fromkeys(rates) if r)
            ))  # fmt: skip
    return out


_INTERVAL = "video.keyframe_interval.median"
_UNTOLD = ("video.frame_rate", "video.bitrate.mean", _INTERVAL)  # of which the first media service need not tell the range


def video_limits(found: list[EncodingOption], values: Mapping[str, Value]) -> tuple[dict[str, Demand], list[Together]]:
    """What each parameter can be at all, and what belongs to which codec."""
    limits: dict[str, Demand] = {}
    together: list[Together] = []
    if not found:
        return limits, together
    limits["video.codec"] = Demand("video.codec", tuple(dict.fromkeys(option.codec for option in found)))
    per = [(option, _of(option)) for option in found]
    names = {name for _, demands in per for name in demands}
    for name in names:
        listed = [demands[name] for _, demands in per if name in demands]
        limits[name] = _any_of(name, listed)
    rate = values.get("video.frame_rate")
    spans = [option.pictures for option in found if option.pictures is not None]
    if spans and isinstance(rate, int | float) and rate > 0:
        name = _INTERVAL
        least, most = min(low for low, _ in spans), max(high for _, high in spans)
        limits[name] = Demand(
            name, minimum=parameters.keyframe_seconds(least, rate), maximum=parameters.keyframe_seconds(most, rate)
        )
    for name in _UNTOLD:  # what a device does not tell may be set all the same, and reading back proves it
        mine = [option.pictures if name == _INTERVAL else demands.get(name) for option, demands in per if option.codec == values.get("video.codec")]
        if name in values and (name not in limits or (mine and mine[0] is None)):
            limits[name] = Demand(name)
    for option, demands in per:
        when = (Demand("video.codec", (option.codec,)),)
        narrower = tuple(demand for name, demand in demands.items() if demand != limits[name] and not demand.untold)
        if narrower or option.pictures is not None:
            together.append(Together(when, narrower, option.pictures, f"what the device offers for {option.codec}"))
    return limits, together


def _of(option: EncodingOption) -> dict[str, Demand]:
    demands: dict[str, Demand] = {}
    if option.sizes:
        demands["video.size"] = Demand("video.size", option.sizes)
    if option.rates is not None:
        demands["video.frame_rate"] = option.rates
    if option.bitrate is not None:
        demands["video.bitrate.mean"] = option.bitrate
    if option.profiles:
        demands["video.profile"] = Demand("video.profile", option.profiles)
    if option.constant is not None:
        demands["video.rate_control"] = Demand("video.rate_control", ("cbr", "vbr") if option.constant else ("vbr",))
    return demands


def _any_of(name: str, demands: list[Demand]) -> Demand:
    """What at least one of them takes; of ranges, from the lowest to the highest."""
    if all(demand.one_of for demand in demands):
        return Demand(name, tuple(dict.fromkeys(value for demand in demands for value in demand.one_of)))
    ends = [(parameters.ordered(name, v)) for d in demands for v in (*d.one_of, d.minimum, d.maximum) if v is not None]
    return Demand(name, minimum=min(ends), maximum=max(ends))


def audio_limits(found: list[AudioOption]) -> tuple[dict[str, Demand], list[Together]]:
    """The same for sound."""
    limits: dict[str, Demand] = {"audio.present": Demand("audio.present", ("yes", "no"))}
    together: list[Together] = []
    if found:
        limits["audio.codec"] = Demand("audio.codec", tuple(dict.fromkeys(option.codec for option in found)))
    parts: tuple[tuple[str, list[tuple[Value, ...]]], ...] = (
        ("audio.bitrate.mean", [option.bitrates for option in found]), ("audio.sample_rate", [option.rates for option in found]),
    )  # fmt: skip
    for name, lists in parts:
        if any(lists):
            limits[name] = Demand(name, tuple(dict.fromkeys(value for listed in lists for value in listed)))
        elif found:
            limits[name] = Demand(name)
    for n, option in enumerate(found):
        then = tuple(
            Demand(name, lists[n]) for name, lists in parts if lists[n] and lists[n] != limits[name].one_of
        )  # fmt: skip
        if then:
            when = (Demand("audio.codec", (option.codec,)),)
            together.append(Together(when, then, None, f"what the device offers for {option.codec}"))
    return limits, together


# Writing


def video_config(config: Element, values: Values, channel: Values, option: EncodingOption | None, *, second: bool) -> Element:
    """The configuration that is to be set: the one that was read, whole and in order, with ``values`` in it.

    ``channel``: all values as they are to be; ``option``: what the device offers for that codec.
    """
    codec = str(channel.get("video.codec", "h264"))
    size = str(channel.get("video.size") or size_of(tree.find(config, "Resolution")) or "1280x720")
    width, height = parameters.size_of(size)
    resolution = element("tt:Resolution", element("tt:Width", str(width)), element("tt:Height", str(height)))
    quality = element("tt:Quality", decimal(tree.number(tree.text(config, "Quality")) or 5.0))
    rate = channel.get("video.frame_rate")
    new_rate = float(rate) if isinstance(rate, int | float) and rate > 0 else 25.0
    pictures = _pictures(config, values, channel, new_rate, second=second)
    bitrate = channel.get("video.bitrate.mean")
    kbits = (
        str(round(float(bitrate)))
        if isinstance(bitrate, int | float)
        else _whole_of(tree.text(config, "RateControl", "BitrateLimit"))
    )
    encoding = element("tt:Encoding", _encoding(config, codec, second=second))
    profile = str(channel.get("video.profile", "")) if "video.profile" in values else ""
    start = _start(config)
    if second:
        attributes = _kept_attributes(config)
        if pictures:
            attributes["GovLength"] = str(pictures)
        if profile:
            attributes["Profile"] = profile.replace("-", " ").title().replace(" ", "")
        elif "video.codec" in values and option is not None and option.profiles:
            attributes["Profile"] = option.profiles[-1].title()
        elif codec not in ("h264", "h265", "mpeg4"):
            attributes.pop("Profile", None)
            attributes.pop("GovLength", None)
        constant = channel.get("video.rate_control")
        if option is not None and option.constant is False:  # it says that it cannot
            constant = "vbr"
        given = tree.attribute(tree.find(config, "RateControl"), "ConstantBitRate") or None
        control = element(
            "tt:RateControl", element("tt:FrameRateLimit", decimal(new_rate)), element("tt:BitrateLimit", kbits or "1"),
            ConstantBitRate=boolean(constant == "cbr") if constant is not None else given,
        )  # fmt: skip
        has_control = tree.find(config, "RateControl") is not None or {"video.frame_rate", "video.bitrate.mean"} & set(
            values
        )
        return element(
            "tr2:Configuration", *start, encoding, resolution, control if has_control else None,
            _multicast(config, needed=False), quality, **attributes,
        )  # fmt: skip
    interval = tree.whole(tree.text(config, "RateControl", "EncodingInterval")) or 1
    if "video.frame_rate" in values:
        interval = 1
    control = element(
        "tt:RateControl", element("tt:FrameRateLimit", str(round(new_rate * interval))),
        element("tt:EncodingInterval", str(interval)), element("tt:BitrateLimit", kbits or "1"),
    )  # fmt: skip
    return element(
        "trt:Configuration", *start, encoding, resolution, quality, control, *_codec_part(config, codec, pictures, profile, option),
        _multicast(config, needed=True), _timeout(config),
        **_kept_attributes(config),
    )  # fmt: skip


def _whole_of(said: str) -> str:
    """A whole number as the standard's schema has it, of what a device says, such as "48.0"; empty for what is none."""
    number = tree.number(said)
    return str(round(number)) if number is not None else ""


def _start(config: Element) -> list[Element]:
    name, count = tree.text(config, "Name")[:64], tree.whole(tree.text(config, "UseCount"))
    return [element("tt:Name", name), element("tt:UseCount", str(1 if count is None else count))]


def _timeout(config: Element) -> Element:
    said = tree.text(config, "SessionTimeout")
    return element("tt:SessionTimeout", said if _DURATION.fullmatch(said) else "PT60S")


def _pictures(config: Element, values: Values, channel: Values, rate: float, *, second: bool) -> int:
    """The keyframe interval in pictures at the new rate. Where only the rate changes, its seconds stay."""
    interval = channel.get("video.keyframe_interval.median")
    if isinstance(interval, int | float) and {"video.keyframe_interval.median", "video.frame_rate"} & set(values):
        return max(1, parameters.keyframe_frames(float(interval), rate))
    said = (
        tree.attribute(config, "GovLength")
        or tree.text(config, "H264", "GovLength")
        or tree.text(config, "MPEG4", "GovLength")
    )
    return tree.whole(said) or 0


def _encoding(config: Element, codec: str, *, second: bool) -> str:
    said = tree.text(config, "Encoding")
    if codec_of(said) == codec:
        return said
    names = {"mjpeg": "JPEG", "mpeg4": "MPV4-ES" if second else "MPEG4"}
    return names.get(codec, codec.upper())


def _codec_part(
    config: Element, codec: str, pictures: int, profile: str, option: EncodingOption | None
) -> list[Element | None]:
    """MPEG4 and H264 of a configuration of Media: the one that is chosen is filled, one that is there stays."""
    out: list[Element | None] = []
    for name, ours, inner in (("MPEG4", "mpeg4", "Mpeg4Profile"), ("H264", "h264", "H264Profile")):
        old = tree.find(config, name)
        if codec != ours and old is None:
            continue
        length = str(pictures) if codec == ours and pictures else _whole_of(tree.text(old, "GovLength")) or "50"
        usual = (option.profiles[-1] if option is not None and option.profiles else "main") if ours == "h264" else "SP"
        chosen = (profile if codec == ours else "") or tree.text(old, inner) or usual
        chosen = chosen.title() if ours == "h264" else chosen
        out.append(element(f"tt:{name}", element("tt:GovLength", length), element(f"tt:{inner}", chosen)))
    return out


def _kept_attributes(config: Element) -> dict[str, str | None]:
    """The attributes of the standard that a configuration was read with; the token is always one of them."""
    known = ("token", "GovLength", "AnchorFrameDistance", "Profile", "GuaranteedFrameRate")
    kept: dict[str, str | None] = {name: value for name in known if (value := tree.attribute(config, name))}
    for name in ("GovLength", "AnchorFrameDistance"):
        if name in kept and not (said := _whole_of(str(kept[name]))):
            del kept[name]
        elif name in kept:
            kept[name] = said
    return {**kept, "token": tree.attribute(config, "token")}


def _multicast(config: Element, *, needed: bool) -> Element | None:
    old = tree.find(config, "Multicast")
    if old is None and not needed:
        return None
    address = tree.find(old, "Address")
    kind = "IPv6" if tree.text(address, "Type") == "IPv6" else "IPv4"
    name = f"{kind}Address"
    told = tree.text(address, name) or ("::" if kind == "IPv6" else "0.0.0.0")
    return element(
        "tt:Multicast", element("tt:Address", element("tt:Type", kind), element(f"tt:{name}", told)),
        element("tt:Port", str(tree.whole(tree.text(old, "Port")) or 0)), element("tt:TTL", str(tree.whole(tree.text(old, "TTL")) or 0)),
        element("tt:AutoStart", boolean(bool(tree.yes(tree.text(old, "AutoStart"))))),
    )  # fmt: skip


def audio_config(config: Element, values: Values, *, second: bool) -> Element:
    """The audio encoder configuration that is to be set."""
    codec = values.get("audio.codec")
    said = tree.text(config, "Encoding")
    if codec is not None and audio_codec_of(said) != codec:
        first = {"aac": "AAC", "g711u": "G711", "g711a": "G711"}
        names = {"aac": "MP4A-LATM", "g711u": "PCMU", "g711a": "PCMA"} if second else first
        said = names.get(str(codec), said)
    bitrate, rate = values.get("audio.bitrate.mean"), values.get("audio.sample_rate")
    kilohertz = str(int(float(rate) // 1000)) if isinstance(rate, int | float) else _whole_of(tree.text(config, "SampleRate"))
    given = tree.number(tree.text(config, "SampleRate"))
    if isinstance(rate, int | float) and given is not None and given >= 1000:
        kilohertz = str(int(rate))  # a device that counts in Hz
    kbits = str(round(float(bitrate))) if isinstance(bitrate, int | float) else _whole_of(tree.text(config, "Bitrate"))
    start = _start(config)
    amounts = [element("tt:Bitrate", kbits or "64"), element("tt:SampleRate", kilohertz or "16")]
    encoding, token = element("tt:Encoding", said), tree.attribute(config, "token")
    if second:
        return element("tr2:Configuration", *start, encoding, _multicast(config, needed=False), *amounts, token=token)
    return element(
        "trt:Configuration", *start, encoding, *amounts, _multicast(config, needed=True), _timeout(config), token=token
    )  # fmt: skip
