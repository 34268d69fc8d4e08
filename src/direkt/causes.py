"""What explains findings: a table of causes, with the evidence that each needs and what follows from it.

A cause is only named where its evidence is there. It has one finding that says what to mend; what follows from it stands under
it, and is not to be mended by itself. Findings come in the order of harm: nothing to see or hear, what an ingest refuses, what
viewers see badly, what could be better, what nobody knows.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase

from direkt import parameters
from direkt.device_side import DeviceSide, Preset
from direkt.finding import Finding, Harm
from direkt.parameters import Bound, Measured


@dataclass(frozen=True, slots=True)
class Evidence:
    """What causes are read from."""

    found: Mapping[str, Measured]
    findings: Mapping[str, Finding]
    device: DeviceSide = field(default_factory=DeviceSide)

    def off(self, *names: str) -> bool:
        """Whether one of these fails or is advised against."""
        return any(name in self.findings and self.findings[name].verdict in ("fail", "advise") for name in names)

    def fails(self, *names: str) -> bool:
        """Whether one of these fails."""
        return any(name in self.findings and self.findings[name].verdict == "fail" for name in names)

    def holds(self, name: str) -> bool:
        """Whether this was judged, and passes."""
        return name in self.findings and self.findings[name].verdict == "pass"

    def value(self, name: str) -> object:
        """What was measured; None: it was not."""
        measured = self.found.get(name)
        return None if measured is None else measured.value

    def above(self, name: str) -> bool:
        """Whether this is off because it is higher than asked."""
        return self._beyond(name, 1)

    def below(self, name: str) -> bool:
        """Whether this is off because it is lower than asked."""
        return self._beyond(name, -1)

    def _beyond(self, name: str, sign: int) -> bool:
        finding = self.findings.get(name)
        if finding is None or finding.asked is None or finding.sent is None or not self.off(name):
            return False
        wish = finding.asked.must or finding.asked.should
        target = wish.nearest(finding.sent.value) if wish is not None else None
        sent = finding.sent.value
        return isinstance(sent, int | float) and isinstance(target, int | float) and sign * (sent - target) > 0


@dataclass(frozen=True, slots=True)
class Cause:
    """One row."""

    name: str  # in JSON
    main: str | tuple[str, ...]  # the parameter whose finding says what to mend; of several, the first that is off
    explains: tuple[str, ...] | Callable[[Evidence, Finding], bool]  # parameters that are off because of it; ``*`` stands for anything
    evidence: Callable[[Evidence], bool]
    harm: Harm | None = None  # of the main finding; None: by its verdict
    advice: str = ""  # instead of that of the main finding
    device: bool = False  # it lies in the device, whose settings would count once it is gone
    words: str | Callable[[Evidence], str] = ""  # what it is, for a person; empty: the main finding says it by itself


def _intervals(about: Evidence) -> bool:
    """Whether the time between keyframes is too long though viewers can join often enough."""
    name = "video.keyframe_interval.max"
    if not about.above(name) and not about.above("video.keyframe_interval.median"):
        return False
    joins, finding = about.found.get("video.join_interval.max"), about.findings.get(name)
    asked = finding.asked.must or finding.asked.should if finding is not None and finding.asked is not None else None
    if joins is None or joins.bound is Bound.AT_LEAST or asked is None or finding is None or finding.sent is None:
        return False
    sent = finding.sent.value
    shorter = isinstance(sent, int | float) and isinstance(joins.value, int | float) and joins.value < sent
    return shorter and asked.allows(joins.value, measured=True)


def _apart(offset: object) -> bool:
    """Whether sound and picture begin further apart than any delay that a device is set to."""
    return isinstance(offset, int | float) and abs(offset) > _LARGEST_DELAY


def _differing(about: Evidence) -> list[str]:
    return [name for name, finding in about.findings.items() if finding.differs]


_TOLD_APART = ("video.size", "video.codec", "video.frame_rate", "video.profile")  # by which channels differ


def _other_channel(about: Evidence) -> str:
    """The channel whose settings the stream has, where it has not those of the channel that should push; empty: none, or several.

    The picture's size must be the other channel's and not ours, and nothing that the other one says may contradict the stream.
    """
    ours = about.device.settings.get("video.size")
    sent = about.value("video.size")
    if ours is None or sent is None or ours == sent:
        return ""
    fitting = []
    for name, values in about.device.others.items():
        known = [one for one in _TOLD_APART if one in values and one in about.found]
        if values.get("video.size") == sent and all(parameters.same(one, about.found[one].value, values[one], measured=True) for one in known):
            fitting.append(name)
    return fitting[0] if len(fitting) == 1 else ""


def _stretched(about: Evidence) -> bool:
    """Whether the device says that its adaptive mode is on, and the stream shows what such a mode does."""
    if about.device.settings.get("video.adaptive") != "yes":
        return False
    interval, set_ = about.found.get("video.keyframe_interval.max"), about.device.settings.get("video.keyframe_interval.median")
    longer = interval is not None and _number(interval.value) > 1.2 * _number(set_) > 0
    rate, asked = about.value("video.bitrate.mean"), about.device.settings.get("video.bitrate.mean")
    return longer or 0 < _number(rate) < 0.7 * _number(asked)


def _number(value: object) -> float:
    return float(value) if isinstance(value, int | float) else 0.0


def _preset(about: Evidence) -> Preset | None:
    """The one preset whose values the stream has, where at least two of those that it ties together are off; None: none, or several.

    Nothing that the device says of its settings may contradict it.
    """
    fitting = []
    for preset in about.device.presets:
        sent = [name for name in preset.values if name in about.found]
        if len(sent) > 1 and all(
            parameters.same(name, about.found[name].value, preset.values[name], measured=True) for name in sent
        ) and all(
            parameters.same(name, value, preset.values[name]) for name, value in about.device.settings.items() if name in preset.values
        ):  # fmt: skip
            fitting.append(preset)
    if len(fitting) != 1:
        return None
    tied = {parameters.setting_of(name) for name in about.findings if about.off(name)} & set(fitting[0].values)
    first = next((name for name in _BY_PRESET if about.off(name)), "")
    return fitting[0] if len(tied) > 1 and first in fitting[0].values else None


def _of_preset(about: Evidence, finding: Finding) -> bool:
    preset = _preset(about)
    if preset is None:
        return False
    sized = "video.size" in preset.values and finding.parameter in ("video.width", "video.height", "video.coded_size")
    return sized or parameters.setting_of(finding.parameter) in preset.values or finding.parameter in _CONSEQUENCES


def _preset_words(about: Evidence) -> str:
    preset = _preset(about)
    if preset is None:
        return ""
    *most, last = (parameters.find(name).label for name in preset.values)
    return f"It sends what {preset.word!r} under {preset.field} makes: {', '.join(most)} and {last} are one setting there."


def _narrow_sensor(about: Evidence) -> bool:
    """Whether the source itself is 4:3, by the device's word, and the picture is as well, which must not be."""
    source = about.device.source
    if source is None or not all(source) or not about.off("video.display_aspect"):
        return False
    return abs(source[0] / source[1] - 4 / 3) < 0.02 and about.value("video.display_aspect") == "4:3"


_BY_PRESET = ("video.codec", "video.size", "video.frame_rate", "video.bitrate.mean", "video.profile", "audio.codec", "audio.bitrate.mean")
_INTERVALS = ("video.keyframe_interval.max", "video.keyframe_interval.median")
_LARGEST_DELAY = 2000  # ms
_KEYFRAMES = ("video.keyframe_interval.*", "video.gop_closed", "video.join_interval.max")
_HEADER = (
    "video.profile", "video.level", "video.level_needed", "video.tier", "video.b_frames", "video.reference_frames", "video.entropy",
    "video.slices", "video.chroma", "video.bit_depth",
)  # fmt: skip

_CONSEQUENCES = ("video.bitrate.peak", "video.buffer", "video.join_interval.max", "video.keyframe_interval.min", "stream.bitrate.mean")

CAUSES = (
    Cause("no-picture", "video.codec", ("video.*",), lambda e: "video.codec" not in e.found, Harm.DEAD),
    Cause(
        "no-video-header", "video.configured", ("video.*", "stream.*"), lambda e: e.value("video.configured") == "no", Harm.DEAD
    ),
    Cause("no-audio-header", "audio.configured", ("audio.*",), lambda e: e.value("audio.configured") == "no", Harm.DEAD),
    Cause(
        "picture-stops", "video.longest_gap",
        ("video.pictures_missing", "video.frame_rate*", "video.frame_jitter", "video.frozen", "video.bitrate.*", "video.rate_control",
         "video.buffer", "video.keyframe_interval.*", "video.join_interval.max", "stream.bitrate.mean"),
        lambda e: e.fails("video.longest_gap"), Harm.DEAD,
    ),
    Cause(
        "sound-stops", "audio.longest_gap", ("audio.duration", "audio.bitrate.*", "audio.silent", "stream.av_drift"),
        lambda e: e.fails("audio.longest_gap"), Harm.DEAD,
    ),
    Cause(
        "picture-frozen", "video.frozen", ("video.moving", "video.bitrate.*", "video.rate_control", "video.filler"),
        lambda e: e.fails("video.frozen"), Harm.DEAD,
    ),
    Cause("no-sound", "audio.present", ("audio.*",), lambda e: e.value("audio.present") == "no", Harm.DEAD),
    Cause("silence", "audio.silent", ("audio.level",), lambda e: e.value("audio.silent") == "yes" and e.off("audio.silent"), Harm.DEAD),
    Cause(
        "restart", ("video.codec", "video.size", *_INTERVALS, "video.frame_rate", "video.bitrate.mean", "video.profile", "video.rate_control",
                    "audio.present", "audio.codec", "audio.sample_rate", "audio.bitrate.mean", "audio.channels"),
        lambda about, finding: finding.differs or (finding.parameter in _CONSEQUENCES and bool(_differing(about))),
        lambda e: e.device.restart_needed and bool(_differing(e)),
        advice="Restart the device: what it is set to is not in force yet.", device=True,
        words="The device has settings that wait for a restart: what differs from them is explained by that.",
    ),
    Cause(
        "other-channel", ("video.size", "video.width", "video.height"),
        ("video.*", "stream.bitrate.mean"), lambda e: bool(_other_channel(e)),
        advice="Push the right channel: choose it in the push settings of the device.", device=True,
        words=lambda e: f"It pushes channel {_other_channel(e)}, not {e.device.channel}: size, rate and codec are those of {_other_channel(e)}.",
    ),
    Cause(
        "adaptive", (*_INTERVALS, "video.bitrate.mean", "video.bitrate.peak", "video.rate_control"),
        (*_KEYFRAMES, "video.bitrate.*", "video.rate_control", "video.buffer", "video.filler", "stream.bitrate.mean"), _stretched,
        advice="Turn off the adaptive ('smart') codec mode.", device=True,
        words="The device says that its adaptive codec mode is on: it stretches keyframe intervals and starves the bitrate in still scenes.",
    ),
    Cause(
        "sensor", ("video.display_aspect", "video.size"),
        ("video.size", "video.width", "video.height", "video.coded_size", "video.sample_aspect", "video.bitrate.*", "video.level*", "stream.bitrate.mean"),
        _narrow_sensor,
        advice="Set the sensor (or capture) mode to 16:9 first, then the size.",
        words=lambda e: f"The device's source is {e.device.source[0]}x{e.device.source[1]}, which is 4:3." if e.device.source else "",
    ),
    Cause(
        "preset", _BY_PRESET, _of_preset, lambda e: _preset(e) is not None,
        advice="Choose another preset there: direkt match says which one fits.", words=_preset_words,
    ),
    Cause("codec", "video.codec", _HEADER, lambda e: e.off("video.codec")),
    Cause(
        "size", "video.size",
        ("video.width", "video.height", "video.coded_size", "video.display_aspect", "video.sample_aspect", "video.bitrate.*", "video.level*",
         "stream.bitrate.mean"),
        lambda e: e.off("video.size"),
    ),
    Cause(
        "size", "video.height", ("video.width", "video.coded_size", "video.display_aspect", "video.bitrate.*", "video.level*", "stream.bitrate.mean"),
        lambda e: e.off("video.height"),
    ),
    Cause("size", "video.width", ("video.bitrate.*", "video.level*", "stream.bitrate.mean"), lambda e: e.off("video.width")),
    Cause("interlaced", "video.scan", ("video.field_order",), lambda e: e.off("video.scan")),
    Cause(
        "pictures-lost", "video.pictures_missing", ("video.frame_rate*", "video.longest_gap", "video.frame_jitter"),
        lambda e: e.off("video.pictures_missing"), Harm.POOR,
    ),
    Cause("rate", "video.frame_rate", ("video.bitrate.mean", "video.bitrate.peak", "video.level*", "video.frame_rate_constant", "stream.bitrate.mean"),
          lambda e: e.fails("video.frame_rate")),
    Cause(
        "open-groups", "video.keyframe_interval.max", _KEYFRAMES,
        lambda e: _intervals(e) and e.value("video.gop_closed") == "no",
        advice="Its keyframes are not IDR pictures, since pictures in front of them refer to what lies before (open groups). Turn on closed "
               "groups (closed GOP), or turn off 'open GOP': the interval itself is right.",
    ),
    Cause(
        "refresh", "video.keyframe_interval.max", _KEYFRAMES,
        lambda e: _intervals(e) and e.value("video.gop_closed") != "no",
        advice="It has places to join, but they are not IDR pictures (intra refresh or recovery points). Turn off intra refresh, and have a "
               "whole keyframe sent in its place.",
    ),
    Cause(
        "keyframe-interval", "video.keyframe_interval.max", ("video.keyframe_interval.*", "video.join_interval.max"),
        lambda e: e.fails("video.keyframe_interval.max"),
    ),
    Cause(
        "keyframe-interval", "video.keyframe_interval.median", ("video.keyframe_interval.*", "video.join_interval.max"),
        lambda e: e.off("video.keyframe_interval.median"),
    ),
    Cause("keyframe-interval", "video.keyframe_interval.max", ("video.keyframe_interval.min", "video.join_interval.max"),
          lambda e: e.off("video.keyframe_interval.max")),
    Cause(
        "variable-bitrate", "video.rate_control", ("video.bitrate.peak", "video.buffer", "video.filler"),
        lambda e: e.off("video.rate_control") and e.value("video.rate_control") == "vbr",
    ),
    Cause(
        "variable-bitrate", "video.bitrate.peak", ("video.bitrate.mean", "video.buffer"),
        lambda e: e.above("video.bitrate.peak") and e.below("video.bitrate.mean"),
        advice="The bitrate follows the picture: low on the whole, and high for moments. Set constant bitrate (CBR) at the required value.",
    ),
    Cause(
        "bitrate", "video.bitrate.mean", ("video.bitrate.peak", "video.level*", "stream.bitrate.mean"),
        lambda e: e.above("video.bitrate.mean"),
    ),
    Cause(
        "late-start", "stream.av_offset", (), lambda e: e.off("stream.av_offset") and _apart(e.value("stream.av_offset")),
        advice="The two begin far apart, which is more than a delay: most likely one input was not there yet. Look at a later part of the "
               "stream, with a clap in front of the camera.",
    ),
    Cause("audio-codec", "audio.codec", ("audio.profile", "audio.sample_rate", "audio.channels", "audio.bitrate.*"), lambda e: e.off("audio.codec")),
)  # fmt: skip


def explain(
    findings: Iterable[Finding], found: Mapping[str, Measured], device: DeviceSide | None = None
) -> tuple[Finding, ...]:
    """The same findings with their causes and their places in the order of mending; in the order in which they came.

    ``device``: what the device says of itself; None: nothing is known of it.
    """
    given = list(findings)
    about = Evidence(found, {finding.parameter: finding for finding in given}, device or DeviceSide())
    by_name = dict(about.findings)
    mains: dict[str, Cause] = {}
    under: dict[str, str] = {}  # what follows from which finding
    for cause in CAUSES:
        main_name = next((name for name in _mains(cause, about) if name not in under and name not in mains), None)
        if main_name is None or not cause.evidence(about):
            continue
        mains[main_name] = cause
        main = by_name[main_name]
        words = cause.words if isinstance(cause.words, str) else cause.words(about)
        advice = cause.advice or main.advice
        if cause.advice and cause.device and _set_wrong(main):  # what is set would not do either
            advice = f"{cause.advice} Then: {main.advice}"
        by_name[main_name] = replace(main, cause=cause.name, why=words, advice=advice, said="" if cause.advice else main.said)
        for name, finding in by_name.items():
            if name == main_name or not _follows(cause, about, finding) or name in mains or name in under or finding.verdict == "pass":
                continue
            under[name] = main_name
            by_name[name] = replace(finding, cause=cause.name, follows=main_name)

    def harm(name: str) -> Harm:
        finding, cause = by_name[name], mains.get(name)
        if finding.verdict == "fail":
            return cause.harm if cause is not None and cause.harm is not None else finding.harm
        return {"advise": Harm.ADVICE, "unseen": Harm.UNKNOWN}.get(finding.verdict, Harm.NONE)

    place = {finding.parameter: n for n, finding in enumerate(given)}
    heads = [name for name in by_name if name not in under]
    order: list[str] = []
    groups = {head: [head, *(name for name in by_name if under.get(name) == head)] for head in heads}
    for head in sorted(heads, key=lambda name: (min(map(harm, groups[name])), place[name])):
        order += groups[head]
    rank = {name: n for n, name in enumerate(order, 1)}
    return tuple(replace(by_name[f.parameter], order=rank[f.parameter]) for f in given)


def _set_wrong(finding: Finding) -> bool:
    """Whether what the device is set to is not what is required."""
    must = finding.asked.must if finding.asked is not None else None
    return finding.set is not None and must is not None and not must.allows(finding.set)


def _mains(cause: Cause, about: Evidence) -> tuple[str, ...]:
    """The findings that may say what to mend, the best first."""
    if isinstance(cause.main, str):
        return (cause.main,) if cause.main in about.findings else ()
    return tuple(name for name in cause.main if about.off(name))


def _follows(cause: Cause, about: Evidence, finding: Finding) -> bool:
    if callable(cause.explains):
        return cause.explains(about, finding)
    return any(fnmatchcase(finding.parameter, pattern) for pattern in cause.explains)
