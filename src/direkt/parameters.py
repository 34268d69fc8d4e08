"""The one table of parameters: everything that is asked of, set on, or measured in a stream.

Sheets, devices, measurements, findings, tables and JSON all speak through it. To add a parameter is to
add a row. Values are plain Python: ``int`` or ``float`` for numbers, ``str`` for all else; yes/no values
are the words ``"yes"`` and ``"no"``; sizes are ``"1920x1080"`` and ratios ``"16:9"``.
"""

from __future__ import annotations

import difflib
import math
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum

from direkt.codec import colour, registry
from direkt.errors import UnusableInput
from direkt.protocol import schemes

Value = int | float | str
Values = dict[str, Value]

PEAK_WINDOW = 1.0  # s over which a peak bitrate is taken
# Frame rates that gear can be set to; of a range, those of them that lie in it are meant
USUAL_RATES = (23.976, 24, 25, 29.97, 30, 48, 50, 59.94, 60, 100, 119.88, 120)


class ValueKind(StrEnum):
    """What a parameter's values look like."""

    NUMBER = "number"
    CHOICE = "choice"
    YES_NO = "yes/no"
    SIZE = "size"
    RATIO = "ratio"
    VERSION = "version"  # ordered, with dots: levels


@dataclass(frozen=True, slots=True)
class Follows:
    """A parameter that devices do not set by itself: it follows from ``setting``."""

    setting: str
    value: Callable[[Value], Value]


@dataclass(frozen=True, slots=True)
class Parameter:
    """One row of the table.

    ``resolution`` is how far two readings of the same thing may lie apart because of how they are measured
    (in the parameter's unit); ``near`` is how far, as a share, a measured value may differ from an exact
    wish and still be that value.
    """

    name: str
    kind: ValueKind
    label: str  # in plain words, as tables and pages name it
    meaning: str
    advice: str  # what to do where it is off
    unit: str = ""
    choices: tuple[str, ...] = ()
    aim: str = ""  # the advice where a figure to aim at is known: {target}, {way} (Raise or Lower), {frames}, {rate}
    measured: str = ""  # how it is measured
    follows: Follows | None = None
    needs: tuple[str, Value] | None = None  # means something only where another parameter has this value
    signed: bool = False  # may be negative
    optional: bool = False  # a stream need not state it
    resolution: float = 0.0
    near: float = 0.0
    decimals: int = 0  # with which it is given out and shown


class ParameterError(UnusableInput, ValueError):
    """A value that does not fit its parameter, or a name that is not in the table."""


_N, _C, _Y, _S, _R, _V = ValueKind.NUMBER, ValueKind.CHOICE, ValueKind.YES_NO, ValueKind.SIZE, ValueKind.RATIO, ValueKind.VERSION
_SOUND = ("audio.present", "yes")


def size_of(value: Value) -> tuple[int, int]:
    """Width and height of a size value such as ``"1920x1080"``."""
    width, _, height = str(value).partition("x")
    return int(width), int(height)


def reduce_ratio(width: int, height: int) -> str:
    """``width:height`` in lowest terms."""
    shared = math.gcd(width, height) or 1
    return f"{width // shared}:{height // shared}"


_WIDTH = Follows("video.size", lambda size: size_of(size)[0])
_HEIGHT = Follows("video.size", lambda size: size_of(size)[1])
_ASPECT = Follows("video.size", lambda size: reduce_ratio(*size_of(size)))
_KEYFRAMES = Follows("video.keyframe_interval.median", lambda interval: interval)
_KEYFRAME_ADVICE = "Set the keyframe interval. Devices count it in frames or in seconds: frames = seconds x frame rate."
_KEYFRAME_AIM = "Set the keyframe interval to {target:g} s: {frames} frames at {rate:g} fps."

_ROWS = (
    Parameter("video.codec", _C, "video codec", "How the picture is coded.",
              "Set the device's video codec, and turn off any 'smart' or 'adaptive' codec mode: it may switch to H.265.",
              choices=tuple(registry.VIDEO),
              measured="The container's or message's codec code. Everything else of the picture is read from "
                       "the coded stream itself."),
    Parameter("video.profile", _C, "profile", "The set of coding tools that the stream may use.",
              "Set the encoder's profile. If the device has no such setting, it often follows from the preset.",
              choices=("baseline", "constrained-baseline", "main", "extended", "high", "high10", "high422", "high444",
                       "high10-intra", "high422-intra", "high444-intra", "cavlc444-intra", "multiview-high", "stereo-high",
                       "main10", "main-still", *registry.H265_EXTENDED, "other"),
              measured="profile_idc and the constraint flags of the sequence parameter set."),
    Parameter("video.tier", _C, "tier", "The limit on bitrate that a level of H.265 has: main, or the higher one.",
              "Set the tier to main, where the encoder has that setting; else lower the bitrate.",
              choices=("main", "high"), needs=("video.codec", "h265"),
              measured="general_tier_flag of the sequence parameter set."),
    Parameter("video.level", _V, "level", "The limit on picture size, rate and bitrate that the stream declares.",
              "Leave the level on automatic; a smaller picture or a lower frame rate lowers it.",
              measured="level_idc of the sequence parameter set."),
    Parameter("video.level_needed", _V, "level needed", "The lowest level that allows what the stream is.",
              "A level below what the stream needs is refused by some players: leave the level on automatic.",
              measured="The codec's level table, for coded size, frame rate, mean bitrate and number of reference frames; of H.265 in the declared tier."),
    Parameter("video.size", _S, "picture size", "Picture width and height as displayed, in px.",
              "Set the resolution of the channel that pushes, and check that it is the main channel, not the second.",
              measured="Coded size less cropping, of the sequence parameter set."),
    Parameter("video.width", _N, "picture width", "Picture width as displayed.", "Set the resolution of the channel that pushes.",
              unit="px", follows=_WIDTH,
              measured="As video.size."),
    Parameter("video.height", _N, "picture height", "Picture height as displayed.", "Set the resolution of the channel that pushes.",
              unit="px", follows=_HEIGHT,
              measured="As video.size."),
    Parameter("video.coded_size", _S, "coded size", "Picture width and height as coded, before the edges are cut away, in px.",
              "Nothing to do: sizes are coded in blocks of 16 px, and the rest is cut away when shown.",
              measured="Width and height in macroblocks of the sequence parameter set, of both fields together."),
    Parameter("video.sample_aspect", _R, "pixel shape", "Shape of one pixel, width to height.",
              "Choose a size with square pixels (1:1): 1280x720 or 1920x1080, not an anamorphic one.",
              measured="Aspect ratio of the VUI; absent where the stream does not say.", optional=True),
    Parameter("video.display_aspect", _R,
              "picture shape", "Shape of the picture as shown. Pixels count as square where the stream does not say otherwise.",
              "Choose a size with the required aspect ratio.", follows=_ASPECT,
              measured="Width x height x sample aspect."),
    Parameter("video.scan", _C, "scan", "Whole pictures (progressive) or half pictures in turn (interlaced).",
              "Set the camera or its output to a progressive format (p, not i).",
              choices=("progressive", "interlaced", "mixed"),
              measured="frame_mbs_only_flag; otherwise field pictures and pic_struct of each picture."),
    Parameter("video.field_order", _C, "field order", "Which half picture of an interlaced stream comes first.",
              "Set the field order of the camera's own output (top first for HD), or a progressive format.",
              choices=("top", "bottom", "mixed"),
              measured="The first field of each pair; of pictures coded whole, pic_struct or the order counts of their "
                       "fields. Absent where nothing tells."),
    Parameter("video.chroma", _C, "colour sampling", "How finely colour is sampled.", "Set 4:2:0; platforms and players expect it.",
              choices=("4:0:0", "4:2:0", "4:2:2", "4:4:4"),
              measured="chroma_format_idc of the sequence parameter set."),
    Parameter("video.bit_depth", _N, "bit depth", "Bits for each sample of brightness.", "Set 8 bits, or a profile without '10'.",
              unit="bit",
              measured="bit_depth_luma of the sequence parameter set."),
    Parameter("video.frame_rate", _N, "frame rate", "Pictures a second.",
              "Set the frame rate to the input's own or half of it; 29.97 is not 30.",
              unit="fps", resolution=0.004, decimals=3,
              measured="Regression of the presentation times. A standard rate is given when the time stamps' coarseness "
                       "(1 ms in FLV and RTMP) and jitter leave room for only that one; the header's rate when it "
                       "fits. Where pictures are missing or the rate changes, all pictures by the time they span; the "
                       "usual rate stands beside it."),
    Parameter("video.frame_rate_constant", _Y, "even frame rate", "Whether every picture comes at its time.",
              "Set a fixed frame rate; turn off any variable or 'auto' rate, and long exposures in the dark.",
              measured="No: pictures are missing or repeated, a step is more than half off, or the rate changes."),
    Parameter("video.frame_jitter", _N, "frame timing", "How unevenly pictures are timed (99 of 100 are off by less).",
              "Check the input signal and the device's load; a frame rate that does not divide the input's also does this.",
              unit="ms", resolution=0.5, decimals=2,
              measured="The distance from the usual step that 99 of 100 steps do not exceed, in order of presentation. "
                       "What the time stamps' coarseness (1 ms in FLV and RTMP) makes is none."),
    Parameter("video.longest_gap", _N, "longest gap in the picture", "Longest time from a picture to the next.",
              "Check the input signal, its cable and the device's load: the picture stood still.",
              unit="s", resolution=0.021, decimals=3,
              measured="In order of presentation. A step of time of more than 2 s counts when nothing came for as long, "
                       "or the other track ran on meanwhile; otherwise it is a jump of the time stamps. So does the time at the end in "
                       "which the sound goes on and no picture comes, from 1 s on."),
    Parameter("video.pictures_missing", _N, "missing pictures", "Pictures that did not come at their time, nor at all.",
              "Check the input signal and the device's load; lower size, rate or bitrate.",
              measured="Steps of two slots and more of the usual rate, less one each."),
    Parameter("video.pictures_repeated", _N, "repeated pictures", "Pictures with the time of the one before.",
              "Restart the device; a doubled picture also comes from an input with another frame rate.",
              measured="Pictures less than a quarter of a slot after the one before, in order of presentation."),
    Parameter("video.keyframe_interval.min", _N, "shortest keyframe interval", "Shortest time from one keyframe to the next.",
              "Turn off scene-change keyframes if the interval must be fixed.",
              unit="s", follows=_KEYFRAMES, aim=_KEYFRAME_AIM, resolution=0.021, decimals=3,
              measured="Times between IDR pictures, whatever the container marks."),
    Parameter("video.keyframe_interval.median", _N, "keyframe interval", "Usual time from one keyframe to the next.",
              _KEYFRAME_ADVICE,
              unit="s", aim=_KEYFRAME_AIM, resolution=0.021, decimals=3,
              measured="Times between IDR pictures, whatever the container marks."),
    Parameter("video.keyframe_interval.max", _N, "longest keyframe interval", "Longest time without a keyframe.",
              _KEYFRAME_ADVICE,
              unit="s", follows=_KEYFRAMES, aim=_KEYFRAME_AIM, resolution=0.021, decimals=3,
              measured='Times between IDR pictures. A stretch at either end without a keyframe counts, as "at least".'),
    Parameter("video.join_interval.max", _N, "longest wait to join", "Longest time without a place at which a viewer can join.",
              "Set the keyframe interval, and turn off intra refresh: platforms cut only at keyframes.",
              unit="s", resolution=0.021, decimals=3,
              measured="Times between IDR pictures and recovery points (SEI). With intra refresh it is short, and the "
                       "keyframe interval long."),
    Parameter("video.gop_closed", _Y, "closed GOP", "Whether every group of pictures can be decoded on its own.",
              "Turn on closed GOPs.",
              measured="No: after an I picture that is no IDR picture, pictures that refer to others are shown "
                       "before it; they may refer to what lay before it. SEI plays no part. Closed nevertheless: only "
                       "one picture is kept to refer to, or all before it are marked as unused."),
    Parameter("video.b_frames", _N, "B-frames", "Most B-pictures in a row.", "Set the number of B-frames.", unit="",
              measured="Most pictures with a B slice in a row, in decoding order."),
    Parameter("video.reference_frames", _N, "reference frames", "Pictures that the decoder must keep to refer to.",
              "Lower the number of reference frames.", unit="",
              measured="max_num_ref_frames of the sequence parameter set."),
    Parameter("video.slices", _N, "slices", "Most slices in a picture.",
              "Set one slice, or as few as the device allows; some players want one.", unit="",
              measured="Slice units of a picture; of a picture in two fields, those of the field with more."),
    Parameter("video.entropy", _C, "entropy coding", "How the coded bits are packed.",
              "Set CABAC (main and high profile) or CAVLC (any profile).", choices=("cabac", "cavlc"),
              measured="entropy_coding_mode_flag of the picture parameter set."),
    Parameter("video.adaptive", _Y, "adaptive codec mode", "Whether the device stretches keyframe intervals and starves the bitrate in still scenes by itself.",
              "Turn off the 'smart' or 'adaptive' codec mode: platforms cut at keyframes, and it may switch to H.265.",
              measured="Not measured: a stream shows it by keyframe intervals and a bitrate that follow the scene."),
    Parameter("video.rate_control", _C, "rate control", "Whether the bitrate is held (CBR) or follows the picture (VBR).",
              "Set the rate control of the channel that pushes.", choices=("cbr", "vbr"),
              measured="cbr when the stream keeps the constant bitrate and the buffer that its header promises (HRD), or "
                       "when windows of whole keyframe intervals (at least 1 s) lie within 10 % of the mean, but one "
                       "in 50; needs three windows, and of fewer than eight each within 3 %. A header that promises otherwise is noted."),
    Parameter("video.buffer", _N, "buffer", "Time for which a line or decoder at the mean bitrate must store the stream.",
              "Set CBR, a shorter buffer (VBV) or a lower maximum bitrate.", unit="s", decimals=3, resolution=0.01,
              measured="The most that the bytes pile up while they leave at the mean rate, by that rate."),
    Parameter("video.bitrate.mean", _N, "video bitrate", "Video bitrate over the whole time.",
              "Set the video bitrate. Mind the unit: 6 Mbit/s = 6000 kbit/s = 750 kB/s.", unit="kbit/s",
              aim="{way} the video bitrate to {target:g} kbit/s ({mega:g} Mbit/s).", near=0.05, decimals=1,
              measured="Bytes of the access units, with their length fields and filler, by the time the pictures last."),
    Parameter("video.bitrate.peak", _N, "peak video bitrate", f"Highest video bitrate over any {PEAK_WINDOW:g} s.",
              "Set CBR, or lower the maximum bitrate.", unit="kbit/s", near=0.05, decimals=1,
              measured="The fullest window that ends at a picture."),
    Parameter("video.filler", _N, "filler", "Share of the video that is filler and carries nothing.",
              "Filler only holds the bitrate up: lower the bitrate or use VBR on a thin uplink.", unit="", decimals=3,
              measured="Bytes of filler units and filler SEI, by those of all video."),
    Parameter("video.moving", _C, "movement", "Whether the picture moves at all.",
              "Check the camera, its lens cap, and whether a still or a menu is put out.", choices=("yes", "no", "unknown"),
              measured="No: in all but one second in a hundred, most pictures that refer to others are as short as "
                       "only a repetition can be. A still picture that is coded afresh each time counts as moving."),
    Parameter("video.frozen", _N, "frozen picture", "For how long the picture has stood still at the end, after it moved.",
              "Check the camera and its cable: the same picture is sent again and again.", unit="s", decimals=1, resolution=1.0,
              measured="Seconds at the end in which most pictures that refer to others are as short as only a repetition can be."),
    Parameter("video.configured", _Y, "video headers", "Whether the headers came without which nothing decodes the picture.",
              "Restart the push: the stream began without its sequence header, so no player can show it.",
              measured="No: pictures came, and neither the container nor the stream brought their parameter sets."),
    Parameter("video.colour.range", _C, "colour range", "Whether black to white uses part of the code values or all.",
              "Set limited (video) range.", choices=("limited", "full"),
              measured="The VUI; absent where it does not say.", optional=True),
    Parameter("video.colour.primaries", _C, "colour primaries", "Which red, green and blue are meant.", "Set BT.709 for HD.",
              choices=tuple(dict.fromkeys(colour.PRIMARIES.values())),
              measured="The VUI; absent where it does not say. Names are those of H.273.", optional=True),
    Parameter("video.colour.transfer", _C, "colour transfer", "How code values become light.", "Set BT.709 for HD; turn off HDR or log.",
              choices=tuple(dict.fromkeys(colour.TRANSFER.values())),
              measured="The VUI; absent where it does not say. Names are those of H.273.", optional=True),
    Parameter("video.colour.matrix", _C, "colour matrix", "How colour is split into brightness and difference.", "Set BT.709 for HD.",
              choices=tuple(dict.fromkeys(colour.MATRIX.values())),
              measured="The VUI; absent where it does not say. Names are those of H.273.", optional=True),
    Parameter("video.projection", _C, "projection", "How a picture of all around is laid out flat.",
              "Set the projection of the 360° camera, and mark the event as spherical.",
              choices=("none", "equirectangular", "cubemap", "other"),
              measured="The projection SEI messages of the stream; none where it has none."),
    Parameter("audio.present", _Y, "audio", "Whether the stream carries audio.",
              "Turn audio on for the channel that pushes; without a microphone, choose the line or embedded input.",
              measured="Yes as soon as one frame of sound came, and no when none did."),
    Parameter("audio.codec", _C, "audio codec", "How the sound is coded.", "Set AAC; many cameras start with a telephone codec.",
              choices=tuple(registry.AUDIO), needs=_SOUND,
              measured="The container's or message's codec code."),
    Parameter("audio.configured", _Y, "audio headers", "Whether the header came without which nothing decodes the sound.",
              "Restart the push: the stream began without the audio's configuration, so no player can play it.", needs=_SOUND,
              measured="No: frames of AAC came, and neither the container nor the frames said how they are coded."),
    Parameter("audio.profile", _C, "audio profile", "The kind of AAC.", "Set AAC-LC.", choices=("main", "lc", "he", "he-v2", "other"),
              needs=_SOUND,
              measured="AudioSpecificConfig, with SBR and PS in either signalling there, and SBR that only the frames "
                       "themselves carry."),
    Parameter("audio.sample_rate", _N, "audio sample rate", "Audio samples a second.", "Set the audio sample rate.", unit="Hz",
              needs=_SOUND,
              measured="The codec's own configuration or frame headers; with SBR, the rate after it."),
    Parameter("audio.channels", _N, "audio channels", "Audio channels.", "Set mono or stereo as required.", unit="ch", needs=_SOUND,
              measured="The codec's own configuration or frame headers."),
    Parameter("audio.bitrate.mean", _N, "audio bitrate", "Audio bitrate over the whole time.", "Set the audio bitrate.", unit="kbit/s",
              aim="{way} the audio bitrate to {target:g} kbit/s.", needs=_SOUND, near=0.08, resolution=0.5, decimals=1,
              measured="As for video."),
    Parameter("audio.bitrate.peak", _N, "peak audio bitrate", f"Highest audio bitrate over any {PEAK_WINDOW:g} s.", "Set the audio bitrate.",
              unit="kbit/s", needs=_SOUND, near=0.08, decimals=1,
              measured="As for video."),
    Parameter("audio.level", _N, "audio level", "How loud the sound is: its RMS value, 0 dBFS being that of the largest square wave.",
              "Check the audio input and its gain: speech is usually sent at -30 to -15 dBFS.", unit="dBFS", needs=_SOUND,
              signed=True, decimals=1, resolution=1.5,
              measured="From the quantised spectrum of AAC (with its scale factors, noise and intensity bands, without "
                       "SBR) or the samples of G.711; all channels together, a few frames each second."),
    Parameter("audio.silent", _C, "silent audio", "Whether the audio is there but carries no sound.",
              "Check the audio input, the gain and the mute button.", choices=("yes", "no", "unknown"), needs=_SOUND,
              measured="A second has sound as soon as one of the frames looked at is above -60 dBFS. Yes: none has. Unknown: "
                       "the codec is not looked into, or its frames do not tell."),
    Parameter("audio.duration", _N, "audio length", "Length of the sound.", "Record or catch for longer; check that the sound goes on.",
              unit="s", needs=_SOUND, decimals=3,
              measured="From its first to the end of its last frame, without jumps."),
    Parameter("audio.longest_gap", _N, "longest gap in the audio", "Longest time without sound between two audio frames.",
              "Check the audio input, its cable and the device's load.", unit="s", needs=_SOUND, decimals=3, resolution=0.021,
              measured="Time stamps that step further than the frame before is long, and stay there; and the time at the end in "
                       "which the picture goes on and no sound comes, from 1 s on."),
    Parameter("stream.protocol", _C, "protocol", "How the stream travels.", "Choose the protocol in the push settings.",
              choices=tuple(schemes.SCHEMES),
              measured="By which protocol it came in; live only."),
    Parameter("stream.duration", _N, "length", "Length of what was seen.", "Record or catch for longer.", unit="s", decimals=3,
              measured="The longer of video and audio, without jumps."),
    Parameter("stream.bitrate.mean", _N, "total bitrate", "Video and audio bitrate together.",
              "Lower the video bitrate if the uplink cannot carry it.", unit="kbit/s", near=0.05,
              decimals=1,
              measured="Bytes of both tracks by stream.duration."),
    Parameter("stream.av_offset", _N, "audio offset", "First audio minus first video: positive means the audio begins later.",
              "Set the audio delay to 0, then adjust it with a clap in front of the camera.",
              unit="ms", needs=_SOUND, signed=True, resolution=1.0, decimals=1,
              measured="First audio time less first video time."),
    Parameter("stream.av_drift", _N, "audio drift", "How fast the sound gains on its time stamps; positive: it has more sound than time.",
              "Use the same clock for audio and video (embedded audio), and the right sample rate.",
              unit="ppm", needs=_SOUND, signed=True, resolution=25.0, decimals=1,
              measured="Sound by its samples against its time stamps, without gaps, after 30 s."),
    Parameter("stream.timestamps", _C, "time stamps", "Whether time stamps run on evenly.",
              "Check the line and the device's load at that time; if it comes again, restart the device: platforms drop a stream whose "
              "time jumps.",
              choices=("clean", "backward", "jump", "repeated"),
              measured="backward: decoding time fell within a track; jump: it rose by more than 2 s while no other track "
                       "ran on; repeated: a picture or frame has the decoding time of the one before."),
    Parameter("stream.packets_lost", _N, "lost packets", "Packets that the source sent and that never came.",
              "Check the network between the source and here: cable, switch, wireless; or take the stream by TCP.",
              measured="Gaps in the packets' own numbers (RFC 3550), less those that came after all. What they held is made up, so that the "
                       "rest is measured as the source sent it."),
    Parameter("stream.packets_doubled", _N, "doubled packets", "Packets that came twice.",
              "Check the network: a loop between two switches, or two routes to here.",
              measured="Packets whose number had come already."),
    Parameter("stream.packets_reordered", _N, "reordered packets", "Packets that arrived after one that was sent later.",
              "Nothing to do as long as none is lost; two routes of different length do this.",
              measured="Packets with a lower number than one before, in time to be used."),
    Parameter("stream.packet_jitter", _N, "packet jitter", "How unevenly packets come.",
              "Check the load of the source and of the network; large keyframes sent at once do it too.",
              unit="ms", resolution=1.0, decimals=1,
              measured="The highest value of the interarrival jitter (RFC 3550, A.8) of either track."),
    Parameter("stream.pace", _N, "pace", "Media seconds that arrive in each second of the clock.",
              "Below 1 the uplink or the device cannot keep up: lower the bitrate or the frame rate.",
              unit="x", resolution=0.02, decimals=3,
              measured="Media time by clock time while somebody pushes; live only."),
)  # fmt: skip

TABLE: Mapping[str, Parameter] = {row.name: row for row in _ROWS}


def find(name: str) -> Parameter:
    """The row called ``name``. Raises ParameterError, with the nearest names, when there is none."""
    row = TABLE.get(name)
    if row is None:
        near = difflib.get_close_matches(name, TABLE, n=2, cutoff=0.6)
        hint = f"; did you mean {' or '.join(near)}?" if near else ""
        raise ParameterError(f"unknown parameter {name!r}{hint}")
    return row


def setting_of(name: str) -> str:
    """The parameter under which a device sets ``name`` (keyframe_interval.max is set by .median)."""
    follows = find(name).follows
    return follows.setting if follows else name


PATTERNS = {
    ValueKind.SIZE: r"([1-9]\d{0,4})\s*[xX×]\s*([1-9]\d{0,4})", ValueKind.RATIO: r"([1-9]\d{0,4})\s*:\s*([1-9]\d{0,4})", ValueKind.VERSION: r"[1-9](\.\d)?b?",
}  # fmt: skip
_SIZE, _RATIO, _VERSION = (re.compile(pattern) for pattern in PATTERNS.values())


def clean(name: str, value: object) -> Value:
    """``value`` in the one form of its parameter; raises ParameterError that says what was expected."""
    row = find(name)
    if row.kind is ValueKind.NUMBER:
        if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
            raise ParameterError(f"{name}: expected a number{' in ' + row.unit if row.unit else ''}, got {value!r}")
        if value < 0 and not row.signed:
            raise ParameterError(f"{name}: expected 0 or more, got {value!r}")
        return value
    if row.kind is ValueKind.YES_NO or (row.kind is ValueKind.CHOICE and isinstance(value, bool) and "yes" in row.choices):
        if isinstance(value, bool):
            return "yes" if value else "no"
        if value in ("yes", "no"):
            return str(value)
        if row.kind is ValueKind.YES_NO:
            raise ParameterError(f"{name}: expected yes or no, got {value!r}")
    if row.kind is ValueKind.CHOICE:
        if value not in row.choices:
            near = difflib.get_close_matches(str(value).lower(), row.choices, n=1, cutoff=0.5)
            hint = f"; did you mean {near[0]}?" if near else ""
            raise ParameterError(f"{name}: expected one of {', '.join(row.choices)}; got {value!r}{hint}")
        return str(value)
    text = str(value).strip()
    pattern, like = {
        ValueKind.SIZE: (_SIZE, "a size like 1920x1080"),
        ValueKind.RATIO: (_RATIO, "a ratio like 16:9"),
        ValueKind.VERSION: (_VERSION, 'a level like "4.1"'),
    }[row.kind]
    match = pattern.fullmatch(text)
    if match is None:
        raise ParameterError(f"{name}: expected {like}, got {value!r}")
    if row.kind is ValueKind.SIZE:
        return f"{match[1]}x{match[2]}"
    if row.kind is ValueKind.RATIO:
        return reduce_ratio(int(match[1]), int(match[2]))
    return text if "." in text else f"{text}.0"


def ordered(name: str, value: Value) -> float:
    """A number by which values of this parameter can be compared (number and version kinds only)."""
    if isinstance(value, str):
        if find(name).kind is not ValueKind.VERSION:
            raise ParameterError(f"{name}: {value!r} cannot be compared by size")
        return float(value.rstrip("b")) + (0.05 if value.endswith("b") else 0.0)
    return float(value)


def same(name: str, a: Value, b: Value, *, measured: bool = False) -> bool:
    """Whether two values of a parameter are the same, within how finely it can be measured.

    ``measured``: one of them was measured and the other is a wish, so ``near`` counts too.
    """
    if isinstance(a, str) or isinstance(b, str):
        return a == b
    row = find(name)
    slack = max(row.resolution, (row.near * abs(b)) if measured else 0.0)
    return abs(a - b) <= slack + 1e-9


def show(name: str, value: Value | None, *, unit: bool = True) -> str:
    """``value`` as a person reads it, with its unit; ``not seen`` for None."""
    if value is None:
        return "not seen"
    row = TABLE.get(name)
    if row is None or isinstance(value, str):
        return str(value)
    text = f"{value:.{row.decimals}f}"
    if "." in text:
        text = text.rstrip("0").rstrip(".")
    if text == "-0":
        text = "0"
    return f"{text} {row.unit}" if unit and row.unit else text


def applies(row: Parameter, values: Mapping[str, object]) -> bool:
    """Whether a parameter means anything beside ``values``: sound that is not there has no bitrate."""
    if row.needs is None:
        return True
    name, wanted = row.needs
    return values.get(name, wanted) == wanted


def expand_set(values: Mapping[str, Value]) -> Values:
    """What a device says of itself, under every name that follows from it, without what then means nothing."""
    full: Values = dict(values)
    for row in TABLE.values():
        if row.follows is not None and row.follows.setting in values:
            full[row.name] = row.follows.value(values[row.follows.setting])
    return {name: value for name, value in full.items() if applies(find(name), values)}


def in_table_order(names: Iterable[str]) -> list[str]:
    """``names`` in the order of the table."""
    place = {name: n for n, name in enumerate(TABLE)}
    return sorted(names, key=lambda name: place.get(name, len(place)))


def keyframe_frames(seconds: float, frame_rate: float) -> int:
    """A keyframe interval in pictures, as many devices count it."""
    return round(seconds * frame_rate)


def keyframe_seconds(frames: float, frame_rate: float) -> float:
    """A keyframe interval in seconds; ``frame_rate`` above 0."""
    return round(frames / frame_rate, 4)


# Measured values


class Bound(StrEnum):
    """How a measured value may still lie to the true one."""

    AT_LEAST = "at least"
    AT_MOST = "at most"


@dataclass(frozen=True, slots=True)
class Measured:
    """What was measured of one parameter."""

    value: Value
    bound: Bound | None = None
    uncertainty: float | None = None  # in the parameter's unit: the true value lies within this much
    note: str = ""  # what the value alone does not say
    also: tuple[Value, ...] = ()  # other values that it had at other times
    usual: Value | None = None  # what it mostly is, where value is a mean that something pulls away
    lossy: bool = False  # what pulls it away are losses alone
    since: float | None = None  # s of the stream from which on it is so; None: not told, or the whole time
    unread: str = ""  # why the track that this belongs to is there and cannot be read


def measured(name: str, value: Value, bound: Bound | None = None, uncertainty: float | None = None, note: str = "") -> Measured:  # fmt: skip
    """A measured value with as many decimals as its parameter has."""
    decimals = find(name).decimals
    if isinstance(value, float):
        value = round(value, decimals) if decimals else round(value)
    if uncertainty is not None:
        uncertainty = float(f"{uncertainty:.2g}")
    return Measured(value, bound, uncertainty, note)


def show_measured(name: str, found: Measured | None) -> str:
    """A measured value as a person reads it, with its bound and uncertainty; ``not seen`` for None."""
    if found is None:
        return show(name, None)
    bound = f"{found.bound} " if found.bound else ""
    sure = found.uncertainty is None or round(found.uncertainty, find(name).decimals + 1) == 0
    within = "" if sure else f" ± {found.uncertainty:g}"
    also = f" (also {', '.join(show(name, value) for value in found.also)})" if found.also else ""
    return f"{bound}{show(name, found.value, unit=not within)}{within}{f' {find(name).unit}' if within else ''}{also}"
