"""Damaged inputs of platforms: their answers, playlists, transport streams, platform files, events and what was remembered of them."""

from __future__ import annotations

import contextlib
import datetime
import json
import os
import tempfile
from functools import cache
from pathlib import Path
from unittest import mock

import httpx

from direkt import documents
from direkt.container import ContainerError, Source, ts, ts_tables
from direkt.described.http import HttpAnswer
from direkt.errors import DirektError, UnusableInput
from direkt.measure.meter import Meter
from direkt.platform import planned, platform_file
from direkt.platform.by_file import DescribedPlatform
from direkt.platform.calls import Calls, FixedToken, PlatformAnswer
from direkt.platform.event import PlatformEvent, PlatformFacts
from direkt.platform.interface import InterfacePlatform
from direkt.platform.planned import WantedEvent
from direkt.platform.sign_in import KeptTokens
from direkt.protocol import hls
from direkt.rig import file as rig
from direkt.rig.events import EventState
from direkt.secret import Secret
from direkt.store import event_memory, notified, refused_logins, rig_id, sessions, turns, usage, wishes
from direkt.store.small_file import FOLDER
from direkt.work.live import timetable
from tests import hand
from tests.container.test_ts import written
from tests.support import card, stream

JSON_WORDS = (b"null", b"[]", b"{}", b"true", b"1e400", b'"open"', b'"live"', b'"http://"', b"\\u0000", b"-1")
HLS_WORDS = (
    b"#EXTINF:", b"#EXT-X-STREAM-INF:", b"#EXT-X-PROGRAM-DATE-TIME:", b"#EXT-X-MEDIA-SEQUENCE:", b"\n", b"1e999", b"//", b"..",
    b"nan",
)
EVENT_WORDS = (
    b"FREQ=", b"COUNT=", b"UNTIL=", b"BYDAY=", b"{start:", b"{", b"}", b"zone:", b"repeat:", b"99999999", b"INTERVAL=",
    b"BYSETPOS=",
)
_NOW = datetime.datetime(2026, 7, 3, tzinfo=datetime.UTC)


def events() -> list[bytes]:
    """Rigs with events."""
    head = (
        "schema: direkt.rig/1\nname: R\ndevices: {d: {driver: brindle-b2, address: 'http://h'}}\n"
        "destinations: {t: {sheet: tarnlight, server: 'rtmp://h/l', key: 'env:K', platform: p}}\nfeeds: {f: {device: d, destination: t}}\n"
        "platforms: {p: {address: 'http://h/e', file: tarnlight}}\nevents:\n"
    )
    rules = (
        "FREQ=DAILY;COUNT=3", "FREQ=WEEKLY;BYDAY=MO,-1FR;UNTIL=20261231T235959Z", "FREQ=MONTHLY;BYMONTHDAY=31;INTERVAL=2",
        "FREQ=YEARLY;BYDAY=-1SU;BYMONTH=10",
    )
    clock = (
        "watch: {recover: {push: 3, device: 1, within: 30m, pause: 5s}, session: 30m, notify: {a: {webhook: 'https://h/x', remind: 15m}, "
        "b: {mail: [a@b.c], server: 'smtps://h', sender: d@e.f}}}\n"
        "schedule: {e: {event: e, before: 10m}, w: {feed: f, window: '22:00-02:00', days: [MO, SU]}}\n"
    )
    return [
        (
            head
            + f"  e: {{title: '{{rig}} {{start:%d %B}}', start: 2026-07-03 14:00, zone: Europe/Vienna, length: 3h, repeat: '{rule}', feeds: [f]}}\n"
            + clock
        ).encode()
        for rule in rules
    ]


def event(data: bytes) -> None:
    """A rig's events, and when they take place."""
    document = documents.parse(data.decode("utf-8", "replace"), "rig.yaml")
    file = documents.check(document, rig.RigFile)
    made = rig.Rig(file, Path("/nowhere"), "rig.yaml", Path("/nowhere/rig.yaml"))
    for name in list(file.events)[:3]:
        with contextlib.suppress(DirektError):
            one = planned.next_one(made, name, _NOW)
            planned.wanted(made, one)
            planned.event_id(made, one, "t")
    known = [n for n, one in file.schedule.items() if one.event in file.events or one.feed in file.feeds]  # as loading a rig demands
    for name in known[:2]:
        for turn, _ in zip(timetable.turns(made, name, _NOW), range(3), strict=False):
            assert turn.until > turn.begin, turn


@cache
def answers() -> list[bytes]:
    """What the simulated platform answers."""
    from direkt.sim.tarnlight import Tarnlight
    from direkt.sim.web import WebRequest

    sim = Tarnlight("t")
    sim.web.port = 1
    body = {"title": "T", "start": "2026-07-03T14:00:00Z", "length": 60, "audience": "everyone", "fields": {"crowd": "adults"}}
    common = {"authorization": "Bearer t", "content-type": "application/json"}
    out = [
        sim.answer(
            WebRequest("PUT", "/events-api/events/e", "", {**common, "if-none-match": "*"}, json.dumps(body).encode())
        ).content
    ]
    for place in ("events", "events/e/ingest", "events/e/arriving", "events/none"):
        out.append(sim.answer(WebRequest("GET", f"/events-api/{place}", "", common, b"")).content)
    seen = {"role": "primary", "arriving": True, "since": "2026-07-03T14:00:00Z", "shown": True, "values": {"video.size": "1280x720", "video.frame_rate": 25},
            "gaps": [{"began": "2026-07-03T14:00:00Z", "seconds": 3}], "health": "good", "complaints": ["x"]}  # fmt: skip
    out.append(json.dumps({"inputs": [seen], "viewers": 3}).encode())
    out.append(
        json.dumps(
            {"user_code": "A", "device_code": "b", "verification_uri": "http://h/", "expires_in": 600, "interval": 5}
        ).encode()
    )
    return out


class _Answers:
    """Calls whose answer is always the same."""

    def __init__(self, data: object) -> None:
        self.data = data

    def ask(self, *_: object, **__: object) -> PlatformAnswer:
        return PlatformAnswer(self.data, '"v"')

    def hide(self, _: object) -> None:
        pass


def answer(data: bytes) -> None:
    """One answer in the place of each."""
    calls = Calls("p", "http://127.0.0.1:9", None, lambda _: None)
    try:
        found = HttpAnswer(200, httpx.Headers({"content-type": "application/json"}), data)
        told = calls._json(found, "GET /")
        calls._problem(HttpAnswer(422, httpx.Headers({}), data), "PUT /events/e")
        platform = InterfacePlatform("p", _Answers(told), PlatformFacts("P"))  # type: ignore[arg-type]
        for ask in (platform.find, lambda _: platform.listed()):
            with contextlib.suppress(DirektError):
                ask("e")
        for ask_of in (platform.ingest, platform.seen):
            with contextlib.suppress(DirektError):
                ask_of(_EVENT)
        KeptTokens.read(data.decode("utf-8", "replace"))
    finally:
        calls.close()


_EVENT = PlatformEvent("e", EventState.OPEN)


_CAST = PlatformEvent("101", EventState.OPEN, told={"line": "201", "cast": "101"})


@cache
def described_answers() -> list[bytes]:
    """What another platform answers."""
    cast = {"nr": "101", "about": {"name": "T", "words": "d #e", "young": False}, "when": "2026-07-05T14:00:00Z", "phase": "testing", "page": "http://h/1",
            "seen_by": "world", "bound": "201"}  # fmt: skip
    line = {"nr": "201", "label": "e", "to": "rtmp://in.example/live", "spare": "", "name": "varn~fake~reed"}
    sides = [{"side": "first", "state": "flowing", "picture": "visible", "health": "good", "notes": ["x"], "size": "1920x1080"}]
    whole = [{"casts": [cast], "paging": {}, "cast": cast, "line": line, "sides": sides}, {"trouble": {"text": "no"}}]
    return [json.dumps(one).encode() for one in whole]


class _AnyAnswers(Calls):
    """Calls whose answer is always the same, at once."""

    def __init__(self, data: bytes) -> None:
        super().__init__("p", "http://127.0.0.1:9", FixedToken(Secret("t")), lambda _: None)
        self.data = data

    def raw(self, *_: object, **__: object) -> HttpAnswer:
        return HttpAnswer(200, httpx.Headers({"content-type": "application/json"}), self.data)


@cache
def _described_file() -> platform_file.PlatformFile:
    from tests.lab import reedbank

    folder = _scratch()
    folder.mkdir(exist_ok=True)
    (folder / "reed.yaml").write_text(reedbank.FILE.replace("{origin}", "http://127.0.0.1:9"))
    return platform_file.load("reed.yaml", folder)


def described_answer(data: bytes) -> None:
    """One answer in the place of each."""
    platform = DescribedPlatform("p", _described_file(), _AnyAnswers(data))
    wanted = WantedEvent("T", "", datetime.datetime(2026, 7, 5, 14, tzinfo=datetime.UTC), 60.0, "everyone", "usual", "none", None, False, {"young": "no"})
    for ask in (platform.listed, lambda: platform.find("e"), lambda: platform.make("e", wanted), lambda: platform.open(_CAST), lambda: platform.finish(_CAST),
                lambda: platform.ingest(_CAST), lambda: platform.seen(_CAST)):  # fmt: skip
        with contextlib.suppress(DirektError):
            ask()
    platform.close()


def playlists() -> list[bytes]:
    """Both kinds."""
    return [
        b'#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=900,RESOLUTION=1280x720,CODECS="a,b"\na.m3u8\n',
        b"#EXTM3U\n#EXT-X-TARGETDURATION:6\n#EXT-X-MEDIA-SEQUENCE:7\n#EXT-X-PROGRAM-DATE-TIME:2026-07-03T12:00:00Z\n#EXTINF:5.0,\n1.ts\n#EXT-X-ENDLIST\n",
    ]


def playlist(data: bytes) -> None:
    """A playlist."""
    hls.parse(data.decode("utf-8", "replace"), "https://tv.example/a/b.m3u8")


@cache
def transport_streams() -> list[bytes]:
    """Short ones, of our own writer and by hand."""
    plain = hand.Mux()
    plain.table(0, hand.pat([(1, 0x1000), (2, 0x1001)]))
    plain.table(0x1000, hand.pmt(1, 0x100, [(0x1B, 0x100, b""), (0x0F, 0x101, b"")]))
    plain.table(0x1001, hand.pmt(2, 0x200, [(0x24, 0x200, b""), (0x06, 0x201, b"\x05\x04Opus")]))
    for n, (data, pts) in enumerate(hand.sounds(12)):
        plain.data(0x101, hand.pes(0xC0, data, pts))
        if n < 6:
            units = hand.pictures(6, size=40)[n][2]
            plain.data(0x100, hand.pes(0xE0, hand.annex_b(*units), 90000 + 3600 * n))
    others = hand.Mux()
    others.table(0, hand.pat([(1, 0x1000)]))
    others.table(0x1000, hand.pmt(1, 0x100, [(0x11, 0x101, b""), (0x1B, 0x100, b"")]))
    for n in range(6):
        others.data(0x101, hand.pes(0xC0, hand.latm(hand.silence(), first=n % 2 == 0), 90000 + 1920 * n))
    others.table(0x1000, hand.pmt(1, 0x100, [(0x81, 0x101, b""), (0x1B, 0x100, b"")], version=1))
    others.data(0x101, hand.pes(0xBD, hand.ac3() * 2, 120000))
    others.table(0x1000, hand.pmt(1, 0x100, [(0x03, 0x101, b""), (0x1B, 0x102, b"")], version=2))
    others.data(0x101, hand.pes(0xC0, hand.mp2() * 2, 130000))
    return [written(stream(0.5, card(96, 64, bitrate=200, interval=5))), plain.bytes(), others.bytes()]


def transport_stream(data: bytes) -> None:
    """A transport stream, measured; also as if the sums of its damaged tables were right."""
    for sums in (contextlib.nullcontext(), mock.patch.object(ts_tables, "_sum", lambda section: 0)):
        meter = Meter()
        with sums, contextlib.suppress(ContainerError):
            meter.add_all(ts.read(Source(data)))
        meter.snapshot()


def platform_files() -> list[bytes]:
    """The shipped one, and two for other interfaces."""
    from tests.lab import reedbank
    from tests.platform.test_by_file import FILE

    return [
        FILE.encode(), reedbank.FILE.replace("{origin}", "http://127.0.0.1:9").encode(),
        b"schema: direkt.platform/1\nkind: event-interface\ntitle: T\nfields: {a: {title: b, choices: [c], needed: yes}}\n",
    ]


def _scratch() -> Path:
    return Path(tempfile.gettempdir()) / f"direkt-fuzz-{os.getpid()}"


def described_platform(data: bytes) -> None:
    """A platform file."""
    folder = _scratch()
    folder.mkdir(exist_ok=True)
    (folder / "p.yaml").write_bytes(data)
    platform_file.load("p.yaml", folder).facts()


def remembered() -> list[bytes]:
    """What is remembered of an event."""
    made = event_memory.EventStanding(
        event="e", mark="20260703T140000Z", places={"t": event_memory.DestinationMemory(state="open", done={"a": "b"})}
    )
    return [
        made.model_dump_json(by_alias=True).encode(), b'{"schema":"direkt.pushes/1","on":{"f":true},"mending":["f"]}',
        b'{"schema":"direkt.line/1","sent":5,"counters":{"f":5}}',
        b'{"schema":"direkt.taken/1","entries":{"w":{"mark":"20260703T220000Z","ended":false,"until":1.5}}}',
        b'{"schema":"direkt.told/1","number":7,"told":{"hook":{"drop f":{"at":5.0,"weight":"fail","text":"f dropped","event":"e","since":1.0}}}}',
        b'{"schema":"direkt.sessions/1","sessions":{"0af3":["act",99.0]}}',
        b'{"schema":"direkt.refused/1","salt":"00ff","marks":{"ab":"2026-07-03 14:00 UTC"}}', b"0123456789abcdef",
    ]  # fmt: skip


def remember(data: bytes) -> None:
    """The same, damaged."""
    folder = _scratch()
    memory = folder / FOLDER
    (memory / "events").mkdir(parents=True, exist_ok=True)
    (memory / "events" / "e-20260703T140000Z.json").write_bytes(data)
    for name in (wishes.FILE_NAME, usage.FILE_NAME, turns.FILE_NAME, notified.FILE_NAME, sessions.FILE_NAME, refused_logins.FILE_NAME, rig_id.FILE_NAME):
        (folder / name if name == refused_logins.FILE_NAME else memory / name).write_bytes(data)
    wishes.read(folder)
    counted = usage.Usage(folder)
    counted.count("f", 7)
    counted.keep()
    with contextlib.suppress(UnusableInput):
        turns.read(folder)
    known = notified.NotifiedMemory(folder)
    known.number()
    known.begin("hook", "drop g", notified.One(at=9.0))
    known.end("hook", "drop f")
    known.lasting("hook")
    sessions.Sessions(folder).read(1.0)
    logins = refused_logins.RefusedLogins(folder, lambda: 1.8e9)
    logins.keep(*logins.load())
    rig_id.ensure(folder)
    event_memory.every(folder)
    event_memory.read(folder, "e", "20260703T140000Z")
