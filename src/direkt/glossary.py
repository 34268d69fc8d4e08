"""Words of the trade and of devices' pages in plain language, and the sums that people do in their heads."""

from __future__ import annotations

import difflib
from collections.abc import Iterator
from dataclasses import dataclass

from direkt import parameters
from direkt.protocol.schemes import PORTS


@dataclass(frozen=True, slots=True)
class Entry:
    """One word explained."""

    term: str
    also: tuple[str, ...]  # how devices and people write it
    what: str  # what it is and what it changes
    choose: str = ""  # what to choose, and why
    mixed_up: str = ""  # units and the usual mix-ups
    measured: str = ""  # how Direkt measures it


# Each line: term | also | what | choose | mixed up with
_TEXT = """\
baseline|BP, baseline profile, base|The smallest set of H.264 tools: no B-frames, no CABAC. Needs more bits for the same picture.|Choose main or high unless the sheet asks for baseline.|"BP" on a device's page is baseline profile, not bits per picture.
constrained-baseline|CBP, constrained baseline|Baseline without its rarely supported parts; what nearly every "baseline" stream truly is.|The same as baseline for all players.|
main|MP, main profile|H.264 with B-frames, CABAC and interlaced tools.|A safe choice for every platform.|"MP" is main profile here, not megapixels.
high|HP, HiP, high profile|H.264 main with larger transforms; about a tenth fewer bits for the same picture.|Choose it for HD when the sheet allows it.|"HP" is high profile.
main10|Main 10|A profile of H.265 with 10 bits.|Not for ingests that ask for H.264.|
h264|H.264, AVC, MPEG-4 part 10, avc1|The video codec that every ingest takes.|Choose it unless the sheet asks for another.|MPEG-4 on an old device's page may mean part 2, which is another codec.
h265|H.265, HEVC, hvc1|A newer codec; half the bits, but many ingests refuse it over RTMP.|Turn it off, with any "+" or "smart" variant, unless the sheet names it.|A device may switch to it by itself in an "adaptive" mode.
av1|AOMedia Video 1, av01|A newer, royalty-free codec.|Only where the sheet names it.|
adaptive codec|smart codec, smart encoding|A device's own mode that stretches keyframes and lowers the bitrate when little moves.|Turn it off for live platforms: keyframe interval and bitrate no longer hold.|
cbr|CBR, constant bitrate|The bitrate is held in every second, with filler if need be.|Choose it for live pushes: uplink and ingest like a steady flow.|CBR sets a rate, VBR a quality; "CVBR" is VBR with a ceiling.
vbr|VBR, variable bitrate, CVBR, ABR|The bitrate follows the picture: busy scenes take more.|Fine for recording; for live set the ceiling below the uplink.|A VBR "target" of 6 Mbit/s may peak at twice that.
bitrate|data rate, bit rate, bandwidth|How many bits a second the stream takes.|As the sheet's ladder says for the picture size and frame rate.|kbit/s and kB/s differ by 8; 1 Mbit/s = 1000 kbit/s = 125 kB/s.
kbit/s|kbps, kb/s, kilobit|A thousand bits a second.||Small b is bit, large B is byte: 8 kbit/s = 1 kB/s.
Mbit/s|Mbps, Mb/s, megabit|A million bits a second, 1000 kbit/s.||A field in kbit/s takes 6000 for 6 Mbit/s; typing 6 there ruins the picture.
kB/s|KBps, kilobyte, kB|A thousand bytes a second, 8 kbit/s.||Download meters show kB/s or MB/s; ingests speak of kbit/s.
keyframe|I-frame, IDR, key picture, intra frame|A picture that needs no other one. Viewers can join only there.|An interval of 2 s suits most ingests.|In H.264 only an IDR picture is a true keyframe; an I-frame alone may not be.
keyframe interval|GOP length, GOP size, I-frame interval, key interval, intra period|The time or number of pictures from one keyframe to the next.|2 s unless the sheet says otherwise; low latency asks for 1 s.|Frames here, seconds there: 2 s at 50 fps is 100 frames, at 25 fps it is 50.
gop|GOP, group of pictures|A keyframe and all pictures up to the next.|Closed, and of fixed length.|
closed gop|closed GOP|No picture looks across the keyframe, so a stream can be cut there.|Choose closed.|
b-frame|B-frame, bidirectional, B picture|A picture that looks forward and back: fewer bits, more delay.|0 for low latency, up to 2 otherwise.|
p-frame|P-frame, predicted|A picture that looks back only.||
reference frames|refs, ref frames, DPB|How many pictures the decoder keeps to look at.|1 to 4; more costs the decoder memory.|
level|H.264 level, 3.1, 4.0, 4.1, 4.2, 5.1|A ceiling on picture size, pictures a second and bitrate that the stream declares.|Automatic. 3.1 carries 720p30, 4.0 1080p30, 4.2 1080p60.|A level is no quality; a higher one makes nothing better.
profile|encoding profile|The set of tools that a stream may use.|High or main.|On some pages "profile" is a whole preset of settings.
preset|encoder preset, scene|A named bundle of settings.|Check every value after you load one.|
cabac|CABAC, arithmetic coding|The denser way to pack H.264's bits; main and high only.|On, when there is the choice.|
cavlc|CAVLC|The simpler way to pack H.264's bits.|Only with baseline.|
frame rate|fps, frames per second, Hz|Pictures a second.|The input's own or exactly half.|29.97 is 30000/1001, not 30; 59.94 is not 60.
29.97|29,97, 30000/1001, NTSC|Thirty pictures, slowed by one in a thousand and one.|Only for inputs of 59.94 or 29.97.|Not 30: an ingest that wants 30 may refuse it.
50 Hz|PAL, 25p, 50p, 50 hertz|The family of 25 and 50 pictures a second.|Stay in the input's family: 25 from 50, not 30 from 50.|Lamps flicker when the shutter does not fit the mains.
progressive|p, 1080p, progressive scan|Whole pictures, one after the other.|Always for live platforms.|1080p50 and 1080i50 are different: the i has half pictures.
interlaced|i, 1080i, fields|Half pictures in turn: odd lines, even lines.|Not for live platforms; set the camera to p.|1080i50 is 25 whole pictures a second.
resolution|picture size, 1080p, 720p, full HD, HD|Width and height of the picture in pixels.|What the sheet allows, never larger than the input.|
sub stream|second stream, secondary, substream|A second, smaller encoding for previews.|Push the main stream.|A push slot that takes the wrong one sends a thumbnail-sized picture.
main stream|primary stream, main channel|The device's full-size encoding.|Push this one.|
16:9|wide, widescreen|The usual shape: 1920x1080, 1280x720.|Choose it.|1440x1080 is 16:9 only with wide pixels.
4:3|standard aspect|The old shape: 640x480, 1440x1080 with square pixels.|Avoid it: platforms add black sides.|
square pixels|SAR 1:1, PAR 1:1|A pixel as wide as high.|Choose sizes that have them.|
4:2:0|YUV420, chroma subsampling|Colour at half the sharpness both ways.|What ingests take.|4:2:2 is for production links.
bt.709|Rec.709, BT709|The colours of HD.|Choose it for HD.|
hdr|HDR, HLG, PQ, log|Wider brightness than HD's.|Off, unless the sheet asks for it.|A log picture looks grey until it is graded.
full range|PC levels, 0-255|Black at 0, white at 255.|Limited range for video.|A wrong range looks washed out or crushed.
limited range|video levels, TV levels, 16-235|Black at 16, white at 235.|Choose it.|
aac|AAC, mp4a, advanced audio coding|The sound codec of live ingests.|AAC-LC.|Cameras often start with G.711, which ingests refuse.
aac-lc|LC, low complexity|The plain kind of AAC.|Choose it.|
he-aac|HE-AAC, AAC+, SBR|AAC for low bitrates, at half the inner sample rate.|Only below 64 kbit/s, and only where the sheet allows it.|
g.711|G711, PCMU, PCMA, u-law, a-law|A telephone codec.|Set AAC instead.|
sample rate|48 kHz, 44.1 kHz, sampling frequency|Sound samples a second.|48 kHz for video, unless the sheet says 44.1.|kHz, not kbit/s.
line in|line input, mic in, mic level|A loud input for mixers; a microphone input is far more sensitive.|Line for a mixer, mic for a microphone.|A microphone on a line input is nearly silent.
rtmp|RTMP, real time messaging protocol|How most encoders push to platforms, on port @rtmp@.|Use RTMPS where both ends have it.|The address is rtmp://, never http://.
rtmps|RTMPS, RTMP over TLS|RTMP inside TLS, on port @rtmps@: nobody on the way can read the key.|Prefer it.|The device's clock must be right, or the certificate looks invalid.
srt|SRT, secure reliable transport|A push over UDP that repairs losses.|For poor uplinks, where the ingest takes it.|
rtsp|RTSP|How a camera is asked for its stream: pull, not push.|Not for pushing to platforms.|
push|publish, contribution|The device connects and sends.||Pull is the opposite: somebody fetches from the device.
server address|server URL, ingest URL, stream URL|Where to push, without the key: rtmp://host/application.|Copy it, do not type it.|Some devices want address and key as one, joined by a slash.
stream key|stream name, key, play path|The password of the push.|Treat it as a password; renew it when others saw it.|It is not the server address, and a space at its end makes it wrong.
application|app, instance|The part of the server address behind the host.||"live" in rtmp://host/live.
digest login|digest authentication|A login in which the password never travels.|Prefer it to basic.|A device set to digest refuses basic, and the reverse.
basic login|basic authentication|A login in which the password travels readable.|Only over https.|
uplink|upload, upstream|What the line carries upwards.|Use at most two thirds of what you measure.|Advertised figures are mostly the downlink.
latency|delay, glass to glass|From the lens to the viewer's screen.|Low only when there is a conversation; it costs robustness.|
jitter|frame jitter|Unevenness in time.||
overhead|protocol overhead|What TCP/IP, RTMP and TLS add to the bitrate.||
fps of keyframes|frames between keyframes|The keyframe interval counted in pictures.|Seconds times frame rate.|250 at 25 fps is 10 s.
bits per pixel|bpp|Bitrate divided by pixels a second: how much each pixel gets.|About 0.05 to 0.1 for H.264.|
tally|tally light|The light that says a camera is on air.||
mtu|MTU, packet size|The largest packet of the network, mostly 1500 bytes.||
ntp|NTP, clock, time server|Sets the device's clock.|Set it: TLS and time stamps depend on it.|
restart|reboot|Switching a device off and on.|Some devices apply settings only then.|Settings that are shown may not be in the stream yet.
equirectangular|360, spherical, panorama|A whole sphere unrolled into a picture twice as wide as high.|Mark the event as spherical at the platform.|
"""


def entries() -> Iterator[Entry]:
    """Every entry: the parameters first, then the other words."""
    for row in parameters.TABLE.values():
        unit = f"In {row.unit}. " if row.unit else ""
        values = f"One of {', '.join(row.choices)}." if row.choices else ""
        yield Entry(row.name, (), row.meaning, row.advice, f"{unit}{values}".strip(), row.measured)
    text = _TEXT.replace("@rtmp@", str(PORTS["rtmp"])).replace("@rtmps@", str(PORTS["rtmps"]))
    for line in text.splitlines():
        term, also, what, choose, mixed_up = line.split("|")
        yield Entry(term, tuple(a.strip() for a in also.split(",") if a.strip()), what, choose, mixed_up)


def find(word: str, most: int = 5) -> tuple[list[Entry], list[str]]:
    """Entries that ``word`` names, exactly or nearly; and other terms that look like it."""
    wanted = _plain(word)
    known: dict[str, list[Entry]] = {}
    for entry in entries():
        for name in (entry.term, *entry.also):
            known.setdefault(_plain(name), []).append(entry)
    if wanted in known:
        return known[wanted][:most], []
    parts = [entry for name, found in known.items() if wanted and wanted in name.split() for entry in found]
    near = [entry for name in difflib.get_close_matches(wanted, known, n=most, cutoff=0.72) for entry in known[name]]
    unique = {entry.term: entry for entry in [*near, *parts]}
    if unique:
        return list(unique.values())[:most], []
    hints = difflib.get_close_matches(wanted, known, n=3, cutoff=0.5)
    return [], list(dict.fromkeys(known[name][0].term for name in hints))


def _plain(word: str) -> str:
    return " ".join(word.lower().replace("-", " ").replace("_", " ").replace(".", " ").split())


# Sums


def data_volume(kbit_s: float, hours: float) -> float:
    """Gigabytes (10^9 bytes) that a stream of ``kbit_s`` takes in ``hours``."""
    return kbit_s * 1000 / 8 * 3600 * hours / 1e9


def level_for(
    width: int, height: int, frame_rate: float, kbit_s: float = 0, profile: str = "high", codec: str = "h264"
) -> str | None:
    """The lowest level of a codec that permits all this; None when none does."""
    from direkt.codec import reader
    from direkt.codec.bits import BitstreamError

    table = reader.levels(codec)
    try:
        return table.lowest_level(width, height, frame_rate, kbit_s, profile) if table is not None else None
    except BitstreamError:
        return None


def bits_per_pixel(kbit_s: float, width: int, height: int, frame_rate: float) -> tuple[float, str]:
    """Bits for each pixel, and what that means for H.264."""
    value = kbit_s * 1000 / (width * height * frame_rate)
    meaning = (
        "too little: blocks will show when anything moves" if value < 0.03
        else "little: good for quiet pictures, soft for sport" if value < 0.055
        else "right for sport and most pictures" if value < 0.13
        else "plenty: a lower bitrate would look the same"
    )  # fmt: skip
    return value, meaning
