"""What several tests need: streams made by the project's own writer, and the command, in this process or built."""

from __future__ import annotations

import asyncio
import contextlib
import copy
import fcntl
import io
import itertools
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any, NamedTuple
from unittest import mock

import numpy as np

from direkt.cli import main as entry
from direkt.codec import h264_syntax
from direkt.codec.programme import AudioSettings, Programme
from direkt.codec.testcard import CardSettings, TestCard
from direkt.container import Source, flv, flv_writer, mp4
from direkt.device import state
from direkt.measure.meter import Measurement, Meter
from direkt.media import Format, Framing, MediaEvent, Samples, batch
from direkt.protocol import amf
from direkt.sim import unit
from direkt.sim.brindle import BrindleB2
from direkt.sim.web import Faults
from direkt.work.device import write as writing
from tests import copies, mp4_writer

KEY = "varn~fake~testbird"
LOGIN = "operator:fake-password"
MS = Fraction(1, 1000)
state.Bare.patience = 1.5  # s; devices of this process do at once what they do
writing._LOOK, writing._SETTLED = 0.2, 0.4
os.environ["PYTHON_KEYRING_BACKEND"] = "keyring.backends.fail.Keyring"


def thorough(all_: Any, some: Any) -> Any:
    """All cases in a thorough run (make test-thorough), else some of them."""
    return all_ if os.environ.get("TESTS_THOROUGH") else some


# Streams


def card(width=640, height=360, rate=Fraction(25), interval=50, profile="high", bitrate=1000, control="cbr", **more):
    return CardSettings(width, height, rate, interval, profile, bitrate, control, **more)


AUDIO = AudioSettings(48000, 2, 128)


def stream(seconds: float, video: CardSettings | None = None, audio: AudioSettings | None = AUDIO) -> list[MediaEvent]:
    """The media events of a stream, formats first."""
    programme = Programme(video or card(), audio)
    out: list[MediaEvent] = list(programme.formats())
    while (following := programme.next())[0] < seconds:
        out.append(following[1])
    return out


def tags(seconds: float, video: CardSettings | None = None, audio: AudioSettings | None = AUDIO) -> list[flv_writer.Tag]:
    """Kind, time (ms) and body of each tag of a stream, configurations first."""
    writer = flv_writer.TagWriter()
    return [tag for event in stream(seconds, video, audio) for tag in writer.tags(event)]


def flv_bytes(seconds: float, video: CardSettings | None = None, audio: AudioSettings | None = AUDIO, facts=None):
    """A file; ``facts``: its onMetaData."""
    made = [] if facts is None else [(flv.SCRIPT, 0, on_metadata(facts))]
    return flv_writer.header() + b"".join(flv_writer.tag(*tag) for tag in [*made, *tags(seconds, video, audio)])


def on_metadata(facts) -> bytes:
    return amf.encode(["onMetaData", amf.EcmaArray(facts)])


def video_body(data: bytes, *, key: bool = False, shift: int = 0) -> bytes:
    """The body of a tag with H.264, by the standard's table (E.4.3)."""
    return bytes([0x17 if key else 0x27, 1]) + (shift & 0xFFFFFF).to_bytes(3, "big") + data


def mp4_bytes(pictures: int, video: CardSettings | None = None, others: tuple = ()) -> bytes:
    """A plain MP4 of the test card, 60 ticks a picture."""
    video = video or card()
    writer = TestCard(video)
    config = h264_syntax.build_avc_config(writer.sps, writer.pps)
    samples = []
    for _ in range(pictures):
        picture = writer.next()
        picture.nals = [nal for nal in picture.nals if nal[0] & 31 not in (7, 8, 9)]
        samples.append((60, 0, picture.length_prefixed(), picture.keyframe))
    scale = int(60 * video.frame_rate)
    track = mp4_writer.TrackToWrite("video", scale, config, video.width, video.height, samples=samples)
    return mp4_writer.write([track, *others])


def events(data: bytes, container=flv) -> list[MediaEvent]:
    return list(container.read(Source(data)))


def mp4_events(data: bytes) -> list[MediaEvent]:
    return events(data, mp4)


class Flat(NamedTuple):
    """One sample, its times in seconds."""

    dts: Fraction
    pts: Fraction
    data: bytes
    key: bool


def flat(found: list[MediaEvent], track: str) -> list[Flat]:
    """The samples of a track one by one."""
    out, tick = [], Fraction(0)
    for event in found:
        if isinstance(event, Format) and event.track == track:
            tick = event.tick
        elif isinstance(event, Samples) and event.track == track:
            for n in range(len(event)):
                dts, pts = int(event.dts[n]) * tick, int(event.pts[n]) * tick
                out.append(Flat(dts, pts, bytes(event.sample(n)), bool(event.marked[n])))
    return out


def measure(found: list[MediaEvent]) -> Measurement:
    meter = Meter()
    meter.add_all(found)
    return meter.snapshot()


def units(nals: list[bytes]) -> bytes:
    """NAL units behind lengths of four bytes."""
    return b"".join(len(nal).to_bytes(4, "big") + nal for nal in nals)


def video_format(video: CardSettings | None = None, tick: Fraction = MS) -> Format:
    writer = TestCard(video or card())
    return Format("video", "h264", tick, Framing.LENGTHS, h264_syntax.build_avc_config(writer.sps, writer.pps))


def pictures(rows, tick: Fraction = MS, track: str = "video") -> Samples:
    """Samples from rows of (dts, pts, NAL units or bytes, marked), times in seconds."""
    parts = [row[2] if isinstance(row[2], bytes) else units(row[2]) for row in rows]
    dts, pts = ([round(Fraction(row[n]).limit_denominator(10**6) / tick) for row in rows] for n in (0, 1))
    return batch(track, parts, dts, pts, [bool(row[3]) if len(row) > 3 else False for row in rows])


def parts_of(samples: Samples, sizes) -> list[Samples]:
    """The batch cut into batches of these sizes."""
    edges = np.cumsum([0, *sizes]).clip(max=len(samples)).tolist()
    return [samples[a:b] for a, b in itertools.pairwise(edges) if b > a]


# Networks


_ports = itertools.count(os.getpid() * 131)


def free_port() -> int:
    """One below those that connections are given, and elsewhere in each process: nobody else takes it before it is used."""
    for number in _ports:
        with socket.socket() as probe, contextlib.suppress(OSError):
            probe.bind(("127.0.0.1", 10_000 + number % 20_000))
            return probe.getsockname()[1]
    raise AssertionError


def wait_for_port(port: int, limit: float = 40.0) -> None:
    """Waits until something listens there."""
    wait_until(lambda: _listens(port), limit)


def _listens(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


def wait_until(condition: Any, limit: float = 40.0) -> None:
    begin = time.monotonic()
    while not condition():
        if time.monotonic() - begin > limit:
            raise AssertionError("it did not come true in time")
        time.sleep(0.02)


def silence_beacons() -> None:
    """For a module's cameras that nobody is to find: other tests look for some, and try logins on what they find."""
    quiet = mock.patch("direkt.sim.beacon.Beacon.start", lambda self: None)
    quiet.start()
    unittest.addModuleCleanup(quiet.stop)


@contextlib.contextmanager
def heard_alone():
    """Nobody else's cameras are to be found meanwhile: for tests that look for some, and those that run cameras which can be found."""
    with (Path(tempfile.gettempdir()) / "direkt-test-beacons.lock").open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        yield


# The command


class Async(unittest.IsolatedAsyncioTestCase):
    """Without the loop's notes on where each task was made, which take most of the time."""

    async def asyncSetUp(self) -> None:
        asyncio.get_running_loop().set_debug(False)


class Folder(unittest.TestCase):
    """A test with a temporary folder of its own."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="direkt-test-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    def file(self, name: str, content: str | bytes, mode: int = 0o644) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        path.chmod(mode)
        return path


class Result:
    def __init__(self, code: int, out: str, err: str) -> None:
        self.code, self.out, self.err = code, out, err

    @property
    def json(self) -> Any:
        return json.loads(self.out)

    def __repr__(self) -> str:
        return f"exit code {self.code}\n--- stdout\n{self.out}\n--- stderr\n{self.err}"


def command() -> list[str]:
    """The built program beside this Python."""
    script = Path(sys.executable).with_name("direkt")
    return [str(script)] if script.exists() else [sys.executable, "-m", "direkt"]


class Cli(Folder):
    """A test that drives the program in its temporary folder: ``direkt`` in this process, ``start`` in its own."""

    def environment(self, **more: str) -> dict[str, str]:
        kept = {name: value for name, value in os.environ.items() if not name.startswith("DIREKT_")}
        named = {"DIREKT_ENV": ",".join(name for name in more if name.startswith("DIREKT_"))}  # those that the test's rig may see
        return {**kept, "COLUMNS": "140", "NO_COLOR": "1", "DIREKT_CONFIG": str(self.folder / "config"), **named, **more}

    def direkt(self, *arguments: str, text: str = "", **env: str) -> Result:
        """One command through the program's own entry point; ``text`` on standard input."""
        out, err = io.StringIO(), io.StringIO()
        with contextlib.ExitStack() as stack:
            stack.enter_context(mock.patch.dict(os.environ, self.environment(**env), clear=True))
            stack.enter_context(mock.patch.object(sys, "stdin", io.StringIO(text)))
            stack.enter_context(mock.patch.object(sys, "executable", copies.python()))
            stack.enter_context(contextlib.chdir(self.folder))
            stack.enter_context(contextlib.redirect_stdout(out))
            stack.enter_context(contextlib.redirect_stderr(err))
            code = entry.run(list(arguments))
        return Result(code, out.getvalue(), err.getvalue())

    def start(self, *arguments: str, built: bool = False, **env: str) -> subprocess.Popen[str]:
        """``built``: with a process of its own number, which a copy has not."""
        made = subprocess.Popen if built or copies.FOLDER not in os.environ else copies.Started
        child = made(
            [*(command() if built else copies.program()), *arguments], cwd=self.folder, env=self.environment(**env), text=True,
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        )  # fmt: skip
        self.addCleanup(self._end, child)
        return child

    @staticmethod
    def _end(child: subprocess.Popen[str]) -> None:
        if child.poll() is None:
            child.kill()
        child.communicate()

    def finish(self, child: subprocess.Popen[str], limit: float = 60) -> Result:
        out, err = child.communicate(timeout=limit)
        result = Result(child.returncode, out, err)
        self.assertNotIn("Traceback", out + err, result)
        return result

    def interrupt(self, child: subprocess.Popen[str], number: int = signal.SIGINT) -> Result:
        child.send_signal(number)
        return self.finish(child, 20)

    def one_line(self, result: Result, code: int, *words: str) -> None:
        """The result is one clear error line with these words, and the right exit code."""
        self.assertEqual(result.code, code, result)
        lines = [line for line in result.err.splitlines() if line.startswith("error:")]
        self.assertEqual(len(lines), 1, result)
        for word in words:
            self.assertIn(word, lines[0])


RIG = """\
schema: direkt.rig/1
name: Test
devices:
  tower: {{driver: brindle-b2, address: "http://127.0.0.1:{port}", login: "env:DIREKT_TOWER_LOGIN"}}
destinations:
  tarnlight: {{sheet: tarnlight, server: "rtmp://ingest.tarnlight.example/live", key: "file:secrets.yaml#tarnlight"}}
feeds:
  finish: {{device: tower, destination: tarnlight}}
"""


class RigCli(Cli):
    """The same with a rig and a running simulated encoder."""

    faults = Faults()

    def setUp(self) -> None:
        super().setUp()
        shorter = mock.patch.object(unit, "RESTART_SECONDS", 0.4)
        shorter.start()
        self.addCleanup(shorter.stop)
        user, _, password = LOGIN.partition(":")
        self.device = BrindleB2(user, password, faults=copy.deepcopy(self.faults))
        self.device.start()
        self.addCleanup(self.device.stop)
        self.file("rig.yaml", RIG.format(port=self.device.port))
        self.file("secrets.yaml", f"tarnlight: {KEY}\n", 0o600)

    def environment(self, **more: str) -> dict[str, str]:
        config = str(self.folder / "config")
        return super().environment(**{"DIREKT_TOWER_LOGIN": LOGIN, "DIREKT_CONFIG": config, **more})

    def no_secret_in(self, *texts: str) -> None:
        for text in texts:
            self.assertNotIn(KEY, text)
            self.assertNotIn(LOGIN.partition(":")[2], text)
