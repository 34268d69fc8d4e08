"""What several tests need: streams made by the project's own writer, and the installed command."""

from __future__ import annotations

import contextlib
import copy
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
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import mock

from direkt.bitstream.testcard import CardSettings, TestCard
from direkt.container import flv, mp4
from direkt.container.media import CodecConfig, Sample
from direkt.sim import brindle
from direkt.sim.brindle import BrindleB2, Faults
from direkt.sim.push import AudioSettings, Programme

KEY = "FAKE-TEST-KEY-4711"
LOGIN = "operator:fake-password"


def card(width=640, height=360, rate=Fraction(25), interval=50, profile="high", bitrate=1000, control="cbr", **more):
    return CardSettings(width, height, rate, interval, profile, bitrate, control, **more)


AUDIO = AudioSettings(48000, 2, 128)


def tags(seconds: float, video: CardSettings | None = None, audio: AudioSettings | None = AUDIO):
    """Time (s), kind and body of each tag of a stream, configurations first."""
    programme = Programme(video or card(), audio)
    out = [(0.0, kind, body) for kind, body in programme.configs()]
    while (tag := programme.next())[0] < seconds:
        out.append(tag)
    return out


def flv_bytes(seconds: float, video: CardSettings | None = None, audio: AudioSettings | None = AUDIO, metadata=None):
    parts = [flv.header()]
    if metadata is not None:
        parts.append(flv.tag(flv.SCRIPT, 0, flv.metadata(metadata)))
    parts += [flv.tag(kind, round(when * 1000), body) for when, kind, body in tags(seconds, video, audio)]
    return b"".join(parts)


def mp4_bytes(pictures: int, video: CardSettings | None = None, **more: Any) -> bytes:
    """A plain MP4 of the test card, 12800 units a second."""
    video = video or card()
    writer = TestCard(video)
    from direkt.bitstream import h264

    config = h264.build_avc_config(writer.sps, writer.pps)
    step = round(12800 / video.frame_rate)
    samples = []
    for _ in range(pictures):
        picture = writer.next()
        picture.nals = [nal for nal in picture.nals if nal[0] & 31 not in (7, 8, 9)]
        samples.append((step, 0, picture.length_prefixed(), picture.keyframe))
    track = mp4.TrackToWrite("video", 12800, config, video.width, video.height, samples=samples)
    return mp4.write([track, *more.get("others", [])])


def events(data: bytes) -> list[Any]:
    return list(flv.read(memoryview(data)))


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


class Folder(unittest.TestCase):
    """A test with a temporary folder of its own."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="direkt-test-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    def file(self, name: str, content: str | bytes, mode: int = 0o644) -> Path:
        path = self.folder / name
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
    """A test that drives the built program in its temporary folder."""

    def environment(self, **more: str) -> dict[str, str]:
        kept = {name: value for name, value in os.environ.items() if not name.startswith("DIREKT_")}
        return {**kept, "COLUMNS": "140", "NO_COLOR": "1", **more}

    def start(self, *arguments: str, **env: str) -> subprocess.Popen[str]:
        child = subprocess.Popen(
            [*command(), *arguments], cwd=self.folder, env=self.environment(**env), text=True,
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

    def direkt(self, *arguments: str, limit: float = 60, **env: str) -> Result:
        return self.finish(self.start(*arguments, **env), limit)

    def interrupt(self, child: subprocess.Popen[str], after: float) -> Result:
        time.sleep(after)
        child.send_signal(signal.SIGINT)
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
  tower: {{driver: brindle-b2, address: "http://127.0.0.1:{port}", login: "env:TOWER_LOGIN"}}
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
        shorter = mock.patch.object(brindle, "RESTART_SECONDS", 0.7)
        shorter.start()
        self.addCleanup(shorter.stop)
        user, _, password = LOGIN.partition(":")
        self.device = BrindleB2(user, password, faults=copy.deepcopy(self.faults))
        self.device.start()
        self.addCleanup(self.device.stop)
        self.file("rig.yaml", RIG.format(port=self.device.port))
        self.file("secrets.yaml", f"tarnlight: {KEY}\n", 0o600)

    def environment(self, **more: str) -> dict[str, str]:
        return super().environment(**{"TOWER_LOGIN": LOGIN, **more})

    def no_secret_in(self, *texts: str) -> None:
        for text in texts:
            self.assertNotIn(KEY, text)
            self.assertNotIn(LOGIN.partition(":")[2], text)


@contextlib.contextmanager
def wait_until(limit: float = 10.0) -> Iterator[Any]:
    """Gives a function that waits until its condition holds."""

    def wait(condition: Any) -> None:
        begin = time.monotonic()
        while not condition():
            if time.monotonic() - begin > limit:
                raise AssertionError("it did not come true in time")
            time.sleep(0.02)

    yield wait


def picture(pts: float, nals: list[bytes], dts: float | None = None, key: bool = False) -> Sample:
    data = b"".join(len(nal).to_bytes(4, "big") + nal for nal in nals)
    return Sample("video", pts if dts is None else dts, pts, data, key)


def configs(video: CardSettings | None = None) -> CodecConfig:
    from direkt.bitstream import h264

    writer = TestCard(video or card())
    return CodecConfig("video", "h264", h264.build_avc_config(writer.sps, writer.pps))
