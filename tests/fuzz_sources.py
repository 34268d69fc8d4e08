"""Damaged inputs for what is fetched from cameras: descriptions, conversations, packets; and headers of H.265."""

from __future__ import annotations

import contextlib
import random
import struct
from fractions import Fraction

from direkt.codec import h265_syntax
from direkt.codec.h265_card import H265Card
from direkt.codec.programme import AudioSettings, Programme
from direkt.errors import DirektError
from direkt.measure.meter import Meter
from direkt.media import Format
from direkt.protocol import source
from direkt.protocol.rtp import formats, rtcp
from direkt.protocol.rtp.sender import Sender, Style, describe
from direkt.protocol.rtp.stream import RtpStream
from direkt.protocol.rtsp import sdp
from direkt.protocol.rtsp.client import Described, RtspClientSession
from direkt.protocol.rtsp.server import Asked, RtspServerSession
from direkt.secret import Secret
from direkt.work.stream.relay import CannotCarry, Relay, Silence
from tests import support

RTSP_WORDS = (
    b"RTSP/1.0 200 OK\r\n", b"CSeq: 1\r\n", b"CSeq: 2\r\n", b"Session: a;timeout=1\r\n", b"Content-Length: 9\r\n", b"\r\n\r\n", b"\r\n", b"$\0\0\4",
    b"Transport: RTP/AVP/TCP;interleaved=0-1\r\n", b"WWW-Authenticate: Digest realm=a, nonce=b, stale=true\r\n", b"Location: rtsp://x\r\n",
    b"RTP-Info: url=a;seq=1;rtptime=2\r\n", b" ", b":", b"SETUP rtsp://c/track1 RTSP/1.0\r\n", b"PLAY", b"TEARDOWN", b"m=video 0 RTP/AVP 96\r\n",
)  # fmt: skip
SDP_WORDS = (
    b"m=video 0 RTP/AVP 96\r\n", b"m=audio 0 RTP/AVP 0 8 97\r\n", b"a=rtpmap:96 H264/90000\r\n", b"a=rtpmap:96 H265/0\r\n", b"a=fmtp:96 ", b";", b"=", b",", b"config=",
    b"sprop-parameter-sets=", b"mode=AAC-hbr", b"sizelength=99", b"a=control:", b"*", b"rtsp://[", b"99999999999", b"MP4A-LATM/8000/9", b"cpresent=1",
)  # fmt: skip
_STYLES = (Style(), Style(False, True, True, True, 300))


def _description(style: Style, audio: AudioSettings | None, codec: str) -> str:
    shown = Programme(support.card(96, 64, bitrate=100), audio, codec).formats()
    media = [sdp.Medium(f.track, (describe(f, 96 + n, style),), f"track{n + 1}") for n, f in enumerate(shown)]
    return sdp.build("x", media)


def descriptions() -> list[bytes]:
    """SDP of every payload format."""
    sounds = (AudioSettings(48000, 2, 64), AudioSettings(8000, 1, 64, codec="g711u"), None)
    return [
        _description(style, sound, codec).encode()
        for style, sound, codec in zip(_STYLES * 2, sounds * 2, ("h264", "h265") * 3, strict=False)
    ]


def description(data: bytes) -> None:
    """Reads it, and makes what reads its packets."""
    found = sdp.parse(data.decode("utf-8", "replace"))
    for medium in found.media:
        chosen = formats.choose(medium)
        if chosen is not None and medium.kind in ("video", "audio"):
            formats.payload("video" if medium.kind == "video" else "audio", chosen, lambda text: None)
    sdp.parse(sdp.build("x", found.media))


def answers() -> list[bytes]:
    """What a server says in a whole conversation."""
    body = _description(_STYLES[0], AudioSettings(48000, 2, 64), "h264").encode()
    return [
        b"RTSP/1.0 401 Unauthorized\r\nCSeq: 1\r\nWWW-Authenticate: Digest realm=\"a\", nonce=\"b\"\r\n\r\n"
        b"RTSP/1.0 200 OK\r\nCSeq: 2\r\nPublic: OPTIONS, DESCRIBE\r\n\r\n"
        b"RTSP/1.0 200 OK\r\nCSeq: 3\r\nContent-Base: rtsp://c/x/\r\nContent-Length: %d\r\n\r\n%s"
        b"RTSP/1.0 200 OK\r\nCSeq: 4\r\nSession: 7;timeout=9\r\nTransport: RTP/AVP/TCP;interleaved=0-1\r\n\r\n"
        b"RTSP/1.0 200 OK\r\nCSeq: 5\r\nRTP-Info: url=rtsp://c/x/track1;seq=1;rtptime=9\r\n\r\n$\0\0\4abcd" % (len(body), body)
    ]  # fmt: skip


def client(data: bytes) -> None:
    """A client that goes as far as it gets."""
    session = RtspClientSession("rtsp://c/x", ("a", Secret("b")))
    session.start()
    middle = len(data) // 3
    for part in (data[:middle], data[middle:]):
        session.data_to_send()
        session.receive_data(part)
        while (event := session.next_event()) is not None:
            if isinstance(event, Described):
                session.set_up(event.description.media[0], "RTP/AVP/TCP;unicast;interleaved=0-1")
                session.play()
    session.keep_alive()
    session.tear_down()


def requests() -> list[bytes]:
    """What a client says."""
    return [
        b"OPTIONS rtsp://c/x RTSP/1.0\r\nCSeq: 1\r\n\r\nDESCRIBE rtsp://c/x RTSP/1.0\r\nCSeq: 2\r\nAccept: application/sdp\r\n\r\n"
        b"SETUP rtsp://c/x/track1 RTSP/1.0\r\nCSeq: 3\r\nTransport: RTP/AVP;unicast;client_port=50000-50001\r\n\r\n$\1\0\2ab"
        b"PLAY rtsp://c/x RTSP/1.0\r\nCSeq: 4\r\nSession: 1\r\nRange: npt=0-\r\n\r\n"
    ]


def server(data: bytes) -> None:
    """A server that grants everything."""
    session = RtspServerSession(lambda request: ())
    session.receive_data(data)
    while (event := session.next_event()) is not None:
        if isinstance(event, Asked):
            session.answer(event.request, 200, {"Session": "1"}, b"x")
    session.data_to_send()


def _packed(style: Style, audio: AudioSettings | None, codec: str) -> bytes:
    """Packets of all kinds behind their track and length, with what they are as the first byte."""
    programme = Programme(support.card(96, 64, interval=5, bitrate=300), audio, codec)
    senders = {
        f.track: (n, Sender(f, describe(f, 96 + n, style), style, ssrc=n + 1, first=9, sequence=65530))
        for n, f in enumerate(programme.formats())
    }
    out = bytearray([_KINDS.index((style, audio, codec))])
    for n, one in senders.values():
        report = one.report(1e9, 0.0, "c")
        out += bytes([n | 0x80]) + struct.pack(">H", len(report)) + report
    for _ in range(16):
        at, samples = programme.next()
        n, one = senders[samples.track]
        for packet in one.send(bytes(samples.sample(0)), one.stamp(float(at)), key=bool(samples.marked[0])):
            out += bytes([n]) + struct.pack(">H", len(packet)) + packet
    return bytes(out)


_KINDS = [
    (style, audio, codec)
    for style in _STYLES
    for codec in ("h264", "h265")
    for audio in (AudioSettings(48000, 2, 64), AudioSettings(8000, 1, 64, codec="g711u"), None)
]


def packets() -> list[bytes]:
    """A stream of each kind."""
    return [_packed(*kind) for kind in _KINDS]


def stream(data: bytes) -> None:
    """All packets through the stream, measured and carried; some lost and turned round on the way."""
    style, audio, codec = _KINDS[data[0] % len(_KINDS)] if data else _KINDS[0]
    shown = Programme(support.card(96, 64, bitrate=100), audio, codec).formats()
    chance = random.Random(len(data))
    wait = chance.choice((0.0, 0.2))
    tracks = [(f.track, describe(f, 96 + n, style)) for n, f in enumerate(shown)]
    got, carried = RtpStream(tracks, wait=wait, made_up=True), RtpStream(tracks, wait=wait, made_up=False, follow=True)
    meter, relay = Meter("rtsp"), Relay(Silence())
    at, now = 1, 0.0
    with contextlib.suppress(CannotCarry):
        while at + 3 <= len(data):
            kind, size = data[at], int.from_bytes(data[at + 1 : at + 3], "big")
            packet = data[at + 3 : at + 3 + size]
            at += 3 + size
            now += 0.01
            number = kind & 0x7F
            if number >= len(tracks):
                continue
            for one in (got, carried):
                (one.rtcp if kind & 0x80 else one.rtp)(number, packet, now)
            meter.add_all(got.take(now))
            relay.take(carried.take(now), now)
            got.reports(now)
        meter.add_all(got.take(now, over=True))
        relay.take(carried.take(now, over=True), now)
    meter.snapshot()


def reports() -> list[bytes]:
    """RTCP."""
    sent = rtcp.SenderReport(7, 0xE000000080000000, 16, 3, 1024)
    block = rtcp.Block(9, 64, -2, 0x1FFFF, 32, 0x12345678, 0x10000)
    return [rtcp.sender_report(sent, "cam"), rtcp.receiver_report(1, "d", [block, block]), rtcp.goodbye(7)]


def report(data: bytes) -> None:
    """One compound packet."""
    rtcp.parse(data)


def h265_headers() -> list[bytes]:
    """Sets, a record and slices."""
    card = H265Card(support.card(96, 64, bitrate=100))
    pictures = [card.next() for _ in range(3)]
    return [card.sps, card.pps, card.vps, card.configuration, *(nal[:200] for p in pictures for nal in p.nals)]


def h265(data: bytes) -> None:
    """As a set, as a record, and as a stream's configuration and samples."""
    for read in (h265_syntax.parse_set, h265_syntax.parse_sps, h265_syntax.parse_pps, h265_syntax.parse_hevc_config):
        with contextlib.suppress(DirektError):
            read(data)
    card, meter = H265Card(support.card(96, 64, bitrate=100)), Meter()
    meter.add(Format("video", "h265", Fraction(1, 25), support.Framing.LENGTHS, card.configuration))
    units = [card.next().length_prefixed(), len(data).to_bytes(4, "big") + data, card.next().length_prefixed(), data]
    meter.add(support.batch("video", units, [0, 1, 2, 3], [0, 1, 2, 3], [True] * 4))
    meter.snapshot()


def address(data: bytes) -> None:
    """An address of a stream."""
    found, _ = source.parse(data.decode("utf-8", "replace"))
    again, _ = source.parse(found.url)
    assert again == found, "what it makes is read otherwise"
    str(found), found.towards("/x")
