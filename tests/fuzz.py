"""Damaged inputs for everything that reads what others wrote: files, streams, conversations, tables, pastes, answers.

``python -m tests.fuzz COUNT [SEED] [NAME]``: COUNT mutations in all, seeded, on every core. An input breaks a reader that
raises anything but what it says it raises, warns, takes longer than 5 s, or needs more than 2 GB. What breaks is cut
down, kept in tests/broken/NAME/ and tried by the tests from then on.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import os
import random
import resource
import signal
import sys
import tempfile
import time
import warnings
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from fractions import Fraction
from functools import cache
from pathlib import Path

import httpx

from direkt import documents, judge, mask, parameters
from direkt.codec import h264_syntax, registry
from direkt.codec.aac import parse_config
from direkt.codec.aac_frame import read_frame
from direkt.container import Source, containers, flv, flv_writer
from direkt.demand import parse as parse_demand
from direkt.destination import draft, file, forms, library, lint, paste
from direkt.destination.keystore import KeyStore
from direkt.destination.pasting import parts
from direkt.destination.pattern import PatternError
from direkt.device import by_file, skeleton
from direkt.device import library as drivers
from direkt.device.driver_file import DriverFile
from direkt.device.onvif import driver as onvif_driver
from direkt.device.onvif.build import OnvifService
from direkt.device.state import Channel, DeviceState
from direkt.errors import DirektError
from direkt.measure.meter import Meter
from direkt.media import Format, Track
from direkt.protocol import address, amf, discovery, httpauth, refusals, soap, tree
from direkt.protocol.rtmp.client import RtmpClientSession
from direkt.protocol.rtmp.server import ConnectRequest, PublishRequest, RtmpServerSession
from direkt.protocol.rtmp.session import TagMessage
from direkt.rig import edit as rig_edit
from direkt.rig import file as rigs
from direkt.rig.trust import TrustStore
from direkt.secret import Secret
from direkt.sim import fescue, marram, onvif, osier
from direkt.sim import rig as sim_rig
from direkt.sim.web import WebRequest
from direkt.store import changes, learned
from direkt.work.device import unfinished
from direkt.work.device.saved import load_saved
from tests import fuzz_platforms, fuzz_sources, support, test_mask
from tests.destination import pastes
from tests.device import test_habits
from tests.net import test_rare_publisher as rare

BROKEN = Path(__file__).with_name("broken")
LIMIT = 5.0  # s for one input
MEMORY = 2 << 30  # bytes
_LARGEST = 1 << 16  # bytes of a mutation


@dataclass(frozen=True, slots=True)
class Target:
    """One reader: good inputs, and what it does with an input. It may raise a DirektError."""

    name: str
    seeds: Callable[[], list[bytes]]
    read: Callable[[bytes], None]
    weight: int = 1
    words: tuple[bytes, ...] = ()  # that mean something to it


# Mutations

_NUMBERS = (0, 1, 2, 7, 8, 0x7F, 0x80, 0xFF, 0x7FFF, 0x8000, 0xFFFF, 0xFFFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF)


def mutate(seeds: list[bytes], words: tuple[bytes, ...], chance: random.Random) -> bytes:
    """One of the good inputs, damaged in one to eight places."""
    data = bytearray(chance.choice(seeds))
    for _ in range(chance.choice((1, 1, 1, 2, 3, 8))):
        at = chance.randrange(len(data) + 1)
        some = chance.choice((1, 2, 4, 8, 40, 300))
        match chance.randrange(9 if words else 8):
            case 0:
                data[at : at + 1] = bytes(b ^ (1 << chance.randrange(8)) for b in data[at : at + 1])
            case 1:
                data[at : at + 1] = chance.randbytes(1)
            case 2:
                size = chance.choice((1, 2, 3, 4, 8))
                data[at : at + size] = (chance.choice(_NUMBERS) & (1 << 8 * size) - 1).to_bytes(size, "big")
            case 3:
                del data[at : at + some]
            case 4:
                data[at:at] = chance.randbytes(some)
            case 5:
                data[at:at] = data[at : at + some] * chance.choice((1, 1, 1, 2, 50))
            case 6:
                other = chance.choice(seeds)
                begin = chance.randrange(len(other) + 1)
                data[at : at + some] = other[begin : begin + some]
            case 7:
                del data[at if chance.random() < 0.3 else len(data) :]
            case _:
                data[at : at + chance.choice((0, 0, some))] = chance.choice(words)
    return bytes(data[:_LARGEST])


# Readers


def _events(found: Iterator[object]) -> None:
    meter = Meter("rtmp")
    for event in found:
        meter.add(event)  # type: ignore[arg-type]
    _judge(meter)


@cache
def _sheet() -> object:
    return library.load("tarnlight")


def _judge(meter: Meter) -> None:
    found = meter.snapshot()
    judge.judge_sent(_sheet(), found.found)  # type: ignore[arg-type]
    json.dumps(dict(found.values), allow_nan=False)


def _container(data: bytes) -> None:
    best = max(containers(), key=lambda c: c.score(data[:2048]))
    if best.score(data[:2048]):
        _events(best.read(Source(data)))


def _live(data: bytes) -> None:
    """Tags whose bodies are damaged, as a publisher with the right key sends them: never an exception."""
    queue, meter, at, stamp = flv.TagQueue(), Meter("rtmp"), 0, 0
    try:
        while at + 4 <= len(data):
            size = int.from_bytes(data[at + 1 : at + 3], "big")
            stamp += data[at + 3]
            queue.add((8, 9, 18)[data[at] % 3], stamp, data[at + 4 : at + 4 + size], stamp / 1000)
            at += 4 + size
            if not stamp % 7:
                for event in queue.take():
                    meter.add(event)
        for event in queue.take():
            meter.add(event)
        meter.interrupt()
        _judge(meter)
    except DirektError as error:
        raise AssertionError("it drops a publisher") from error


def _packed(tags: list[flv_writer.Tag]) -> bytes:
    out, last = bytearray(), 0
    for kind, stamp, body in tags:
        out += bytes([{8: 0, 9: 1, 18: 2}[kind]]) + len(body[:0xFFFF]).to_bytes(2, "big")
        out += bytes([min(255, stamp - last)]) + body[:0xFFFF]
        last = stamp
    return bytes(out)


@cache
def _tags(seconds: float = 0.5) -> list[flv_writer.Tag]:
    return support.tags(seconds, support.card(96, 64, interval=5, bitrate=300))


def _hand_made() -> bytes:
    """A publisher of RTMP with every liberty."""
    wire, expected = rare.Wire(), rare.Expected()
    rare.opening(wire)
    rare.streaming(wire, expected)
    return bytes(wire.out[: _LARGEST // 2])


def _pieces(data: bytes) -> Iterator[bytes]:
    step = 1 + (data[0] if data else 0) * 17
    return (data[at : at + step] for at in range(0, len(data), step))


def _server(data: bytes) -> None:
    session, queue = RtmpServerSession(bytes(1528)), flv.TagQueue()
    for piece in _pieces(data):
        session.receive_data(piece)
        while (event := session.next_event()) is not None:
            if isinstance(event, ConnectRequest):
                session.accept_connect()
            elif isinstance(event, PublishRequest):
                session.accept_publish()
            elif isinstance(event, TagMessage):
                queue.add(event.kind, event.timestamp, event.body, 0.0)
        session.data_to_send()
    _events(iter(queue.take()))


def _client(data: bytes) -> None:
    session = RtmpClientSession("rtmp://h.example/a", "a", "k", bytes(1528))
    session.start()
    for piece in _pieces(data):
        session.receive_data(piece)
        while session.next_event() is not None:
            pass
        session.data_to_send()


def _server_side() -> list[bytes]:
    """What a server answers."""
    server, client = RtmpServerSession(bytes(1528)), RtmpClientSession("rtmp://h.example/a", "a", "k", bytes(1528))
    client.start()
    out = bytearray()
    for _ in range(8):
        server.receive_data(client.data_to_send())
        while (event := server.next_event()) is not None:
            if isinstance(event, ConnectRequest):
                server.accept_connect()
            elif isinstance(event, PublishRequest):
                server.accept_publish()
        said = server.data_to_send()
        out += said
        client.receive_data(said)
        while client.next_event() is not None:
            pass
    return [bytes(out)]


def _header(data: bytes) -> None:
    sps = h264_syntax.parse_sps(_card_units()[0])
    for parse in (
        h264_syntax.parse_sps, h264_syntax.parse_pps, lambda d: h264_syntax.parse_slice(d, sps),
        lambda d: list(h264_syntax.parse_sei(d)), h264_syntax.parse_avc_config, parse_config,
        lambda d: read_frame(d, 3), lambda d: parse_config(d[1:]),
    ):  # fmt: skip
        with contextlib.suppress(DirektError):
            parse(data)  # type: ignore[operator]


@cache
def _card_units() -> tuple[bytes, bytes, bytes]:
    writer = support.TestCard(support.card(96, 64, bitrate=300))
    return writer.sps, writer.pps, support.units(writer.next().nals)


def _headers() -> list[bytes]:
    sps, pps, picture = _card_units()
    sounds = [body[2:] for kind, _, body in _tags() if kind == 8][:4]
    sei = bytes.fromhex("0601043132333480")
    return [sps, pps, picture[4:], sei, h264_syntax.build_avc_config(sps, pps), *sounds, bytes.fromhex("1190")]


def _amf(data: bytes) -> None:
    for decode in (amf.decode, amf.decode3):
        with contextlib.suppress(DirektError):
            decode(data)


def _codecs(data: bytes) -> None:
    """A codec with this configuration, and with these samples."""
    track, codec = _CODECS[sum(data) % len(_CODECS)]
    half, meter = len(data) // 2, Meter()
    meter.add(Format(track, codec, Fraction(1, 1000), support.Framing.LENGTHS, data[:half]))
    parts = [data[half:], data[: half // 2], b"", data]
    meter.add(support.batch(track, parts, [0, 40, 80, 120], [0, 40, 80, 120], [True] * 4))
    _judge(meter)


_CODECS: list[tuple[Track, str]] = [("video", name) for name in registry.VIDEO]
_CODECS += [("audio", name) for name in registry.AUDIO] + [("video", "h264"), ("audio", "aac")] * 4


def _text(data: bytes) -> str:
    return data.decode("utf-8", "replace")


def _sheets(data: bytes) -> None:
    sheet = file.build(documents.parse(_text(data), "x.yaml"), "x")
    lint.lint(sheet)
    for rule in sheet.rules.values():
        rule.text()


def _beginnings() -> list[bytes]:
    return [skeleton.make(shape, "A camera", "x.yaml").encode() for shape in skeleton.SHAPES]


def _rigs(data: bytes) -> None:
    document = documents.parse(_text(data), "x.yaml")
    with contextlib.suppress(DirektError):
        documents.check(document, rigs.RigFile)
    by_file.check(document, documents.check(document, by_file.DriverFile))


def _tables(data: bytes) -> None:
    for kind in ("csv", "md", "txt", "html"):
        with contextlib.suppress(DirektError):
            made = draft.read(_text(data), kind)
            written = draft.write(made, "X")
            try:
                file.build(documents.parse(written, "draft"), "x")
            except DirektError as error:
                raise AssertionError(f"what it drafts is no sheet: {error}") from error


_PATTERN = "varn~fake~[a-z]{4,12}"


def _pastes(data: bytes) -> None:
    text = _text(data)
    for pattern in (None, _PATTERN):
        try:
            found = paste.untangle(text, pattern=pattern, known=[address.parse("rtmp://in.example/live")], ports=[("rtmp", 1935)])
            told = " ".join((*found.repairs, *found.left, *found.questions))
        except DirektError as error:
            told = str(error)
        for secret in ("~heron", "a1b2-c3d4", "c3d4-e5f6"):
            assert secret not in told, f"what is said holds the key: {told}"
    with contextlib.suppress(DirektError):
        address.parse(text)
    for form in forms.FORMS:
        with contextlib.suppress(DirektError):
            forms.split(dict.fromkeys(("url", "server", "key", "scheme", "host", "port", "app", "stream"), text), form)
    for name in ("video.size", "video.frame_rate", "video.level"):
        with contextlib.suppress(DirektError):
            parse_demand(name, text)
    with contextlib.suppress(PatternError):
        paste.untangle("varn~fake~heron", pattern=text[:60])


_OWNERS = (
    parts.PasteOwner("tarn", ("tarn", "Tarnlight"), frozenset(["in.example"])), parts.PasteOwner("meadow", ("meadow", "Meadow TV"), frozenset(["in.meadow.example"])),
)  # fmt: skip


def _several(data: bytes) -> None:
    """A paste for several destinations: each part is read, and what is said of it holds no key."""
    try:
        found = parts.divide(_text(data), _OWNERS)
        assert set(found.texts) <= {"tarn", "meadow"}
        told = []
        for text in found.texts.values():
            with contextlib.suppress(DirektError):
                one = paste.untangle(text, known=[address.parse("rtmp://in.example/live")], ports=[("rtmp", 1935)])
                told += [*one.repairs, *one.left, *one.questions]
    except DirektError as error:
        told = [str(error)]
    for secret in ("~heron", "a1b2-c3d4"):
        assert secret not in " ".join(told), f"what is said holds the key: {told}"


def _pastes_for_several() -> list[bytes]:
    one, other = "rtmp://in.example/live\nvarn~fake~heron", "rtmp://in.meadow.example/app\nfake-a1b2-c3d4"
    rows = "Name | Server | Key\nTarnlight | rtmp://in.example/live | varn~fake~heron\nMeadow | rtmp://in.meadow.example/app | fake-a1b2-c3d4"
    table = '{"tarn": {"server": "rtmp://in.example/live", "key": "varn~fake~heron"}, "meadow": {"key": "fake-a1b2-c3d4"}}'
    return [text.encode() for text in (f"{one}\n\n{other}\n", f"{one}\n{other}", rows, table, f"Meadow TV\n{other}\n\nTarnlight key: varn~fake~heron")]


@cache
def _folder() -> Path:
    return Path(tempfile.mkdtemp(prefix="direkt-fuzz-"))


def _kept(data: bytes) -> None:
    """Files that Direkt itself keeps, and somebody has damaged."""
    folder = _folder()
    for name in ("saved.json", "keys.json", "keys-secret.json", "trusted.yaml"):
        (folder / name).write_bytes(data)
        (folder / name).chmod(0o600)
    (folder / ".direkt" / unfinished.SAVED_FOLDER).mkdir(exist_ok=True, parents=True)
    (folder / ".direkt" / unfinished.SAVED_FOLDER / "finish.unfinished.json").write_bytes(data)
    with contextlib.suppress(DirektError):
        load_saved(folder / "saved.json", "tower", Channel("main", {}, {}))
    with contextlib.suppress(DirektError):
        KeyStore(folder, use_keyring=False).get("a")
    TrustStore(folder).look_up(folder / "rig.yaml", "x")
    rig = rigs.Rig(_rig_file(), folder, "rig.yaml", folder / "rig.yaml")
    for left in unfinished.of_device(rig, "tower"):
        assert left.told_later.isprintable()


_MASKED = ("varn~fake~sandpiper", 'pass"word\\7&<x', "Lärche 8%2F")


def _forms() -> list[bytes]:
    source = random.Random(5)
    return [f"key {form(value, source)} end\n".encode() for value in _MASKED for form in test_mask.FORMS.values()]


def _masked(data: bytes) -> None:
    """Words of others with secrets in them, in pieces: nothing of a secret comes through, as decoding shows that is none of the masker's."""
    masker = mask.Masker()
    for value in _MASKED:
        masker.add(value)
    text = data.decode("utf-8", "surrogateescape")
    stream = io.StringIO()
    edge, at, pieces = mask.Edge(stream, masker), 0, random.Random(len(data))
    while at < len(text):
        step = pieces.randrange(1, 40)
        edge.write(text[at : at + step])
        at += step
    edge.flush()
    for line in (*stream.getvalue().split("\n"), masker.foreign(text)):
        assert not any(test_mask.left(value, line) for value in _MASKED), line


@cache
def _rig_file() -> rigs.RigFile:
    return documents.check(documents.parse(support.RIG.format(port=1), "rig.yaml"), rigs.RigFile)


_ANSWER = [b""]


@cache
def _driver() -> by_file.Driver:
    driver = drivers.open_driver("brindle-b2", "tower", "http://192.0.2.1", None)
    assert isinstance(driver, by_file.Driver)
    driver.http._client = httpx.AsyncClient(
        base_url="http://192.0.2.1",
        transport=httpx.MockTransport(
            lambda _: httpx.Response(422 if _ANSWER[0][:1] == b"!" else 200, content=_ANSWER[0].lstrip(b"!"))
        ),
    )
    return driver


def _answers(data: bytes) -> None:
    """What a device answers."""
    _ANSWER[0] = data
    state = _driver().read()
    for channel in state.channels.values():
        assert all(isinstance(v, str | int | float) for v in channel.full.values())
    json.dumps([c.values for c in state.channels.values()], allow_nan=False)


def _state() -> bytes:
    device = support.BrindleB2("a", "b")
    return json.dumps(device.state()).encode()


_YAML = (
    b": ", b"- ", b"{", b"}", b"[", b"]", b"&a ", b"*a", b"!!", b"<<: *a", b"|\n", b"\n  ", b"null", b"1e999", b".nan", b"'",
    b'"', b"\t",
)
_XML = (b"<![CDATA[", b"]]>", b"<!--", b"&#0;", b"&lt;", b"&e;", b"<!DOCTYPE a>", b"<?x?>", b'xmlns="urn:x"', b"xmlns:t='urn:y'", b"-1", b"NaN", b"1e999",
        b"9" * 30, b"<tt:Width>0</tt:Width>", b'token=""', b" ", b"http://[::1", b"rtsp://a:b@c/d")  # fmt: skip
_JSON = (
    b"NaN", b"1e400", b"-Infinity", b"null", b"[", b"{", b'"', b"1" * 400, b"\\u001b[2J", b"true", b"-1", b"0.1", b'"\\ud800"',
)
_HTML = (b"<table>", b"<tr>", b"<td>", b"</td>", b"<li>", b"<dl><dt>", b"<dd>", b"<!--", b"&#0;", b"<sup>1</sup>", b"|", b"\n|", b"---|", b",", b'"',
         b"kbit/s", b"1080p60", b"at most", b"\xe2\x80\x93", b" to ", b"4 s", b"30 fps")  # fmt: skip
_PASTE = (b"rtmp://", b"://", b"/", b"//", b"?", b"%2f", b"%", b"@", b":", b"[", b"]", b"[::1]", b" ", b"\n", b"\xe2\x80\x8b", b"key: ", b"\\", b"#", b"(", b"{9999}",
          b"(a+)+$", b"*")  # fmt: skip
_BOXES = (
    b"moov", b"trak", b"stts", b"stsc", b"stsz", b"stco", b"co64", b"ctts", b"stss", b"elst", b"stz2", b"avcC", b"esds",
    b"\0\0\0\0", b"\0\0\0\1",
)


def _shipped(package: str) -> list[bytes]:
    folder = Path(documents.__file__).parent / package
    return [path.read_bytes() for path in sorted(folder.glob("*.yaml"))]


def _many_pastes() -> list[bytes]:
    plain = [b"URL: rtmp://in.example/live\nKey: varn~fake~heron", b"rtmps://in.example:443/live/varn~fake~heron?x=1"]
    return plain + [text.replace("ingest.tarnlight.example", "in.example").encode() for _, text, *_ in pastes.PASTES]


# Devices of the open standard, and of other shapes than JSON


@cache
def _standard() -> onvif_driver.Driver:
    driver = onvif_driver.Driver("cam", "http://192.0.2.1", ("op", Secret("pw")))
    driver.client.http._client = httpx.AsyncClient(
        base_url="http://192.0.2.1", transport=httpx.MockTransport(lambda _: httpx.Response(200, content=_ANSWER[0]))
    )
    return driver


def _onvif(data: bytes) -> None:
    """Each answer is taken for every request's: what comes out is values of the table, or an error in words."""
    _ANSWER[0] = data
    driver = _standard()
    driver.client._paths = dict.fromkeys(OnvifService, "/x")
    for ask in (
        driver.read, driver.identity, driver.network, driver.clock, driver.presets, driver.is_new, driver.client._told_services,
    ):
        with contextlib.suppress(DirektError):
            found = ask()
            if isinstance(found, DeviceState):
                for channel in found.channels.values():
                    for name, value in channel.values.items():
                        parameters.clean(name, value)
                    assert all(limit.text() for limit in channel.limits.values())
                json.dumps([c.values for c in found.channels.values()], allow_nan=False)
    channel = Channel("main", {"video.size": "1280x720", "video.frame_rate": 25}, {})
    with contextlib.suppress(DirektError):
        driver.write(channel, {"video.size": "640x360", "video.bitrate.mean": 900, "audio.present": "yes", "audio.codec": "aac"})


@cache
def _camera_answers() -> tuple[bytes, ...]:
    """What simulated cameras answer, each kind once."""
    out: dict[str, bytes] = {}
    for camera in (osier.Osier("op", "pw"), fescue.Fescue("op", "pw")):
        for stream in camera.streams.values():
            stream.sound = bool(camera.make.sound_offers)
        for name in onvif.OPERATIONS:
            prefix, _, local = name.partition(":")
            body = tree.parse(
                f'<x:{local} xmlns:x="{onvif.SPACES[prefix]}"><x:ProfileToken>{next(iter(camera.streams))}</x:ProfileToken></x:{local}>'.encode()
            )
            if local.startswith("Get"):
                with contextlib.suppress(onvif.OnvifFault):
                    request = WebRequest("POST", "/onvif", "", {"host": "192.0.2.1"}, b"")
                    out[f"{camera.make.model} {name}"] = onvif.envelope(onvif.answer(camera, body, request))
        camera._loop.close()
    out["fault"] = onvif.envelope(onvif.OnvifFault("InvalidArgVal/ConfigModify", "no").body())
    return tuple(out.values())


def _soap(data: bytes) -> None:
    with contextlib.suppress(DirektError):
        envelope = soap.read(data)
        soap.read_token(envelope.header)
        if envelope.fault is not None:
            assert envelope.fault.text
    with contextlib.suppress(DirektError):
        discovery.read_probe(data)
    for match in discovery.together(discovery.read(data)):
        match.scope("name")
        assert all(address.isprintable() for address in match.addresses)


def _discovered() -> list[bytes]:
    asked = discovery.Probe("urn:uuid:1", ("NetworkVideoTransmitter",), ())
    types = {"NetworkVideoTransmitter": discovery.NETWORK, "Device": discovery.DEVICE}
    scopes = ["onvif://www.onvif.org/name/Start%20pontoon", "onvif://www.onvif.org/hardware/Osier%2020"]
    answer = discovery.probe_matches(
        asked, "urn:uuid:2", "urn:uuid:3", types, scopes, ["http://192.0.2.1/onvif/device_service", "http://[fe80::1]/x"],
    )
    return [answer, discovery.probe("urn:uuid:1", [(discovery.NETWORK, "NetworkVideoTransmitter")]), *_camera_answers()[:6]]


def _other_shapes(data: bytes) -> None:
    """Answers in XML and in lines."""
    _ANSWER[0] = data
    for name in ("marram-360", "osier-20"):
        driver = _shaped(name)
        with contextlib.suppress(DirektError):
            state = driver.read()
            json.dumps([c.values for c in state.channels.values()], allow_nan=False)
            driver.health()


_PASSWORD = Secret("varn~fake~sedge")
_HTTP = (b"401\n", b"302\nLocation: /login\n", b"500\n", b"Set-Cookie: sid=1; Path=/; Max-Age=0\n", b"Set-Cookie: =\n", b"Content-Type: text/html\n",
         b"Content-Type: application/json; charset=utf-16\n", b"\n\n", b"WWW-Authenticate: Digest\n", b'"access": "', b'"seconds": -1', b'"err": "99"', *_JSON)  # fmt: skip


@cache
def _signed_in(by: str) -> by_file.Driver:
    """An encoder that wants a login by a form, with a cookie or a token."""
    entry = test_habits.COOKIE if by == "cookie" else test_habits.TOKEN
    document = documents.parse(test_habits.FILE.format(sign_in=entry), "sedge.yaml")
    made = by_file.Driver("enc", documents.check(document, DriverFile), "http://192.0.2.1", ("op", _PASSWORD))
    made.http._client = httpx.AsyncClient(base_url="http://192.0.2.1", transport=httpx.MockTransport(_said))
    return made


def _said(_: httpx.Request) -> httpx.Response:
    """The answer that the input spells: its status, its headers, its body."""
    head, _, body = _ANSWER[0].partition(b"\n\n")
    status, *rows = head.split(b"\n")
    pairs = [(name.strip(), value.strip()) for name, mark, value in (row.partition(b":") for row in rows) if mark and name.strip()]
    number = int(status) if status.isdigit() and 100 <= int(status) <= 599 else 200
    return httpx.Response(number, headers=[(n, v) for n, v in pairs if n.lower() not in (b"content-length", b"content-encoding")], content=body)


def _sign_in(data: bytes) -> None:
    """A device's answers to a login by form and to what follows. Nothing that is said repeats the password."""
    _ANSWER[0] = data
    for by in ("cookie", "token"):
        driver = _signed_in(by)
        refusals.current().forget(driver.http.address, "op", _PASSWORD)
        try:
            state = driver.read()
            json.dumps([c.values for c in state.channels.values()], allow_nan=False)
        except DirektError as error:
            assert _PASSWORD.reveal() not in str(error)
        finally:
            driver._session._begun = False


@cache
def _shaped(name: str) -> by_file.Driver:
    made = by_file.Driver("cam", drivers.load(name), "http://192.0.2.1", None)
    made.http._client = httpx.AsyncClient(
        base_url="http://192.0.2.1", transport=httpx.MockTransport(lambda _: httpx.Response(200, content=_ANSWER[0]))
    )
    return made


def _shapes() -> list[bytes]:
    camera = marram.Marram("op", "pw")
    text = b"version=1\r\naddress=rtmp://h/live/varn~fake~wren\r\nstream=1\r\nrun=on\r\ncondition=pushing\r\nnote=\r\nbytes=12\r\nadaptive=on\r\nheat=44.5\r\n"
    camera._loop.close()
    return [camera._settings(), text]


def _edited(data: bytes) -> None:
    """A rig's text, changed: what comes out means what was wanted, or it is refused."""
    text = data.decode("utf-8", "replace")
    for place in (["devices", "new"], ["devices", "tower", "address"], ["name"]):
        with contextlib.suppress(DirektError):
            rig_edit.put(text, place, {"driver": "onvif", "address": "http://192.0.2.1"} if place[-1] == "new" else "x: y # z")


def _login_text(data: bytes) -> None:
    text = data.decode("latin-1")
    httpauth.choose(httpauth.parse_challenges([text]))
    httpauth.login_of(text)


def _logged(data: bytes) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / ".direkt").mkdir()
        (folder / ".direkt" / "changes.jsonl").write_bytes(data)
        (folder / ".direkt" / "learned.json").write_bytes(data)
        changes.read(folder)
        limits = {"video.bitrate.mean": parse_demand("video.bitrate.mean", {"min": 1, "max": 9})}
        learned.applied(Channel("main", {}, limits), learned.read(folder), "Brindle B2", "2.4.1")


def _many_tables() -> list[bytes]:
    folder = Path(__file__).parent / "destination"
    published = [documents.parse(path.read_text("utf-8"), path.name) for path in sorted((folder / "published").glob("*.yaml"))]
    return [
        *(path.read_bytes() for path in sorted((folder / "tables").iterdir()) if path.is_file()),
        *(str(one.data["text"]).encode() for one in published),
    ]


TARGETS = (
    Target("flv", lambda: [flv_writer.header() + b"".join(flv_writer.tag(*t) for t in _tags()),
                           support.flv_bytes(0.3, support.card(96, 64, bitrate=300), None, {"width": 96.0})], _container, 3),
    Target("mp4", lambda: [support.mp4_bytes(8, support.card(96, 64, bitrate=300))], _container, 6, _BOXES),
    Target("live", lambda: [_packed(_tags())], _live, 3),
    Target("headers", _headers, _header, 20),
    Target("codecs", _headers, _codecs, 5),
    Target("amf", lambda: [support.on_metadata({"width": 1.0, "a": "b", "c": [1.0, None, {"d": True}]}),
                           amf.encode(["connect", 1.0, {"app": "live", "tcUrl": "rtmp://h/live"}])],
           _amf, 20),
    Target("rtmp-server", lambda: [_hand_made()], _server, 6),
    Target("rtmp-client", _server_side, _client, 6),
    Target("sheets", lambda: _shipped("destination/shipped"), _sheets, 3, _YAML),
    Target("rigs", lambda: [support.RIG.format(port=1).encode(), *_shipped("device/drivers"), *_beginnings()], _rigs, 5, _YAML),
    Target("tables", _many_tables, _tables, 5, _HTML),
    Target("pastes", _many_pastes, _pastes, 10, _PASTE),
    Target("several", _pastes_for_several, _several, 5, _PASTE),
    Target("kept", lambda: [
        b'{"schema": "direkt.unfinished/1", "feed": "finish", "device": "tower", "stage": "partly written", "since": "20260103-174501", "saved": "a.json", "restoring": false}',
        b'{"schema": "direkt.saved/1", "device": "tower", "channel": "main", "set": {"video.size": "1x1"}, "slot": {"number": 1, "channel": "main", "server": "", "key_length": 0}}',
        b'{"schema": "direkt.trusted/1", "rigs": [{"path": "/a", "content": "b", "environment": []}]}',
        b'{"schema": "direkt.keys/1", "keys": {"a": {"where": "file"}}}',
    ], _kept, 1, _JSON),
    Target("answers", lambda: [_state()], _answers, 4, _JSON),
    Target("onvif", lambda: list(_camera_answers()), _onvif, 1, _XML),
    Target("soap", _discovered, _soap, 8, _XML),
    Target("shapes", _shapes, _other_shapes, 1, _XML),
    Target("sdp", fuzz_sources.descriptions, fuzz_sources.description, 8, fuzz_sources.SDP_WORDS),
    Target("rtsp-client", fuzz_sources.answers, fuzz_sources.client, 8, fuzz_sources.RTSP_WORDS),
    Target("rtsp-server", fuzz_sources.requests, fuzz_sources.server, 6, fuzz_sources.RTSP_WORDS),
    Target("rtp", fuzz_sources.packets, fuzz_sources.stream, 2),
    Target("rtcp", fuzz_sources.reports, fuzz_sources.report, 8),
    Target("h265", fuzz_sources.h265_headers, fuzz_sources.h265, 3),
    Target("sources", lambda: [b"rtsp://a:b@cam.example:554/x?channel=1", b"rtmp://[::1]/live/main", b"rtsps://cam/user=a_password=b_c"], fuzz_sources.address, 6, _PASTE),
    Target("events", fuzz_platforms.events, fuzz_platforms.event, 2, fuzz_platforms.EVENT_WORDS),
    Target("platform-answers", fuzz_platforms.answers, fuzz_platforms.answer, 3, fuzz_platforms.JSON_WORDS),
    Target("described-answers", fuzz_platforms.described_answers, fuzz_platforms.described_answer, 3, fuzz_platforms.JSON_WORDS),
    Target("playlists", fuzz_platforms.playlists, fuzz_platforms.playlist, 6, fuzz_platforms.HLS_WORDS),
    Target("ts", fuzz_platforms.transport_streams, fuzz_platforms.transport_stream, 2),
    Target("platform-files", fuzz_platforms.platform_files, fuzz_platforms.described_platform, 2, _YAML),
    Target("standings", fuzz_platforms.remembered, fuzz_platforms.remember, 3, fuzz_platforms.JSON_WORDS),
    Target("edits", lambda: [support.RIG.format(port=1).encode(), sim_rig._RIG.encode()], _edited, 1, _YAML),
    Target("logins", lambda: [b'Digest realm="a", nonce="b", qop="auth, auth-int", algorithm=SHA-256, Basic realm=x', b"Basic YTpi"], _login_text, 8),
    Target("sign-ins", lambda: [
        b'200\nSet-Cookie: sid=abc; Path=/\nContent-Type: application/json\n\n{"err": "0", "codec": "AVC", "fps": {"num": 25, "den": 1}, "gop": 50, "rate": 4000, "on": 1}',
        b'200\nContent-Type: application/json\n\n{"access": "tok", "seconds": 60, "err": "0", "url": "rtmp://h/live/k", "state": "run", "fps": {"num": "30000", "den": "1001"}}',
    ], _sign_in, 3, _HTTP),
    Target("masker", _forms, _masked, 8, (b"%25", b"%7e", b"\\u00", b"&#x", b"&amp;", b"\\x", b"\n", b"=")),
    Target("logs", lambda: [
        b'{"schema":"direkt.change/1","when":"20260103-174501","what":"write","feed":"f","device":"d","model":"m","firmware":"1","channel":"main","changes":{"video.size":["1x1","2x2"]},"server":null,"outcome":"as wanted","did_not_stick":{},"set":{"video.size":"2x2"},"slot":[1,"main","",0]}',
        b'{"schema":"direkt.learned/1","lessons":[{"model":"Brindle B2","firmware":"2.4.1","channel":"main","parameter":"video.bitrate.mean","old":1,"wanted":9,"became":5,"when":"20260103-174501","beside":{"video.size":"1x1"},"tied":["video.codec"]}]}',
    ], _logged, 1, _JSON),
)  # fmt: skip


# Running


class Hang(BaseException):
    """An input took too long."""


def _ring(*_: object) -> None:
    raise Hang


def trial(target: Target, data: bytes) -> str:
    """What one input does to a reader; empty: nothing wrong."""
    signal.signal(signal.SIGALRM, _ring)
    signal.setitimer(signal.ITIMER_REAL, LIMIT)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", RuntimeWarning)  # of NumPy
            warnings.simplefilter("error", DeprecationWarning)
            target.read(data)
    except DirektError as error:
        return "" if str(error) and "\n\n" not in str(error) else f"an error without words: {error!r}"
    except Hang:
        return f"takes more than {LIMIT:g} s"
    except BaseException as error:
        where = error.__traceback__
        while where is not None and where.tb_next is not None:
            where = where.tb_next
        place = f"{Path(where.tb_frame.f_code.co_filename).name}:{where.tb_lineno}" if where is not None else "?"
        return f"{type(error).__name__} at {place}: {str(error)[:200]}"
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
    return ""


def cut_down(target: Target, data: bytes, limit: float = 20.0) -> bytes:
    """A shorter input that breaks it too."""
    begin, step = time.monotonic(), len(data) // 2
    while step and time.monotonic() - begin < limit:
        at = 0
        while at < len(data) and time.monotonic() - begin < limit:
            shorter = data[:at] + data[at + step :]
            if trial(target, shorter):
                data = shorter
            else:
                at += step
        step //= 2
    return data


def share(name: str, seed: str, first: int, count: int) -> list[tuple[str, bytes]]:
    """Mutations ``first`` to ``first + count`` of one target: what breaks it, one input for each way."""
    soft, hard = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY if hard == resource.RLIM_INFINITY else min(MEMORY, hard), hard))
    target = next(t for t in TARGETS if t.name == name)
    seeds, broken = target.seeds(), {}
    for number in range(first, first + count):
        data = mutate(seeds, target.words, random.Random(f"{seed}/{name}/{number}"))
        if (wrong := trial(target, data)) and (kind := wrong.partition(": ")[0]) not in broken:
            broken[kind] = (wrong, cut_down(target, data))
    resource.setrlimit(resource.RLIMIT_AS, (soft, hard))
    return list(broken.values())


def main() -> int:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    seed = sys.argv[2] if len(sys.argv) > 2 else "1"
    chosen = [t for t in TARGETS if len(sys.argv) < 4 or t.name == sys.argv[3]]
    whole, begin, kinds, done = sum(t.weight for t in chosen), time.monotonic(), set(), 0
    with ProcessPoolExecutor(os.cpu_count() or 1) as pool:
        jobs = {}
        for target in chosen:
            wanted, step = -(-count * target.weight // whole), 2000
            for first in range(0, wanted, step):
                size = min(step, wanted - first)
                jobs[pool.submit(share, target.name, seed, first, size)] = (target.name, size)
        for job in as_completed(jobs):
            name, size = jobs[job]
            done += size
            for wrong, data in job.result():
                if (name, wrong.partition(": ")[0]) not in kinds:
                    kinds.add((name, wrong.partition(": ")[0]))
                    folder = BROKEN / name
                    folder.mkdir(parents=True, exist_ok=True)
                    path = folder / f"{hashlib.sha256(data).hexdigest()[:10]}.bin"
                    path.write_bytes(data)
                    print(f"{name}: {wrong}  ({len(data)} bytes, kept as {path.relative_to(BROKEN.parent.parent)})", flush=True)
    print(f"{done} damaged inputs for {len(chosen)} readers in {time.monotonic() - begin:.0f} s: {len(kinds)} ways to break them")
    return 1 if kinds else 0


if __name__ == "__main__":
    sys.exit(main())
