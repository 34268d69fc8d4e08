"""A write whose connection is cut at any byte, either way, for good or for a moment: the report must be true."""

import contextlib
import os
import socket
import threading
import unittest
from unittest import mock

from direkt.destination.allowed import Trust
from direkt.destination.references import Sources
from direkt.errors import DirektError
from direkt.rig import file as rigs
from direkt.secret import Secret
from direkt.sim import unit
from direkt.sim.brindle import BrindleB2
from direkt.sim.osier import Osier
from direkt.work import feeds
from direkt.work.device import unfinished, write
from direkt.work.device.unfinished import Stage
from direkt.work.steps import Agree, drive
from tests.support import KEY, Folder
from tests.work.test_jobs import FakeClock

POINTS = int(os.environ.get("DIREKT_CUTS", "7"))  # places at which each write is cut; more of them take long
RIG = """\
schema: direkt.rig/1
name: Cut
devices:
  tower: {{driver: {driver}, address: "http://127.0.0.1:{port}", login: "env:DIREKT_L"}}
destinations:
  tarnlight: {{sheet: tarnlight, server: "rtmp://ingest.tarnlight.example/live", key: "env:DIREKT_K"}}
feeds:
  finish: {{device: tower, destination: tarnlight}}
"""


class Wire:
    """Passes bytes on to a port, and cuts every connection after so many bytes; then it stays down, or comes back."""

    def __init__(self, port: int) -> None:
        self._target = port
        self.left = 1 << 60  # bytes until the cut
        self.back = True
        self.passed = 0
        self.is_cut = False
        self._lock = threading.Lock()
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self) -> None:
        self._server.close()

    def _accept(self) -> None:
        while True:
            try:
                ours, _ = self._server.accept()
            except OSError:
                return
            if self.is_cut and not self.back:
                ours.close()
                continue
            try:
                theirs = socket.create_connection(("127.0.0.1", self._target), 5)
            except OSError:
                ours.close()
                continue
            for a, b in ((ours, theirs), (theirs, ours)):
                a.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                threading.Thread(target=self._pump, args=(a, b), daemon=True).start()

    def _pump(self, source: socket.socket, target: socket.socket) -> None:
        try:
            while data := source.recv(65536):
                with self._lock:
                    part = data[: self.left]
                    self.left -= len(part)
                    self.passed += len(part)
                    cut = len(part) < len(data)
                if part:
                    target.sendall(part)
                if cut:
                    self.is_cut, self.left = True, (1 << 60 if self.back else 0)
                    break
        except OSError:
            pass
        for one in (source, target):
            with contextlib.suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)


class RealClock(FakeClock):
    """The device restarts in real time."""

    def now(self) -> float:
        import time

        return time.monotonic()

    def sleep(self, seconds: float) -> None:
        import time

        time.sleep(min(seconds, 0.05))


class Cuts(Folder):
    def setUp(self) -> None:
        super().setUp()
        # a look at the device may fall beside the moment in which it is away: then it counts as back after a while
        for module, name, value in ((unit, "RESTART_SECONDS", 0.1), (write, "_SURELY_AWAY", 0.5), (write, "_BACK_LIMIT", 0.2)):
            patch = mock.patch.object(module, name, value)
            patch.start()
            self.addCleanup(patch.stop)
        self.sources = Sources({"DIREKT_L": "op:pw-1", "DIREKT_K": KEY}, trust=Trust().seeing(["DIREKT_L", "DIREKT_K"]))

    def attempt(self, make, driver: str, cut: int, *, back: bool):
        """One write through a wire that is cut; what the device was, is, and should be, and what was told."""
        device = make()
        device.start()
        wire = Wire(device.port)
        try:
            rig = rigs.load(self.file("rig.yaml", RIG.format(driver=driver, port=wire.port)))
            unfinished.drop(rig.folder, "finish")
            feed = feeds.look_up(rig, "finish", self.sources)
            before = self.settings(device)
            told, error = [], None

            def on_event(event):
                if isinstance(event, unfinished.UnfinishedWrite):
                    told.append(event)
                if isinstance(event, Agree):
                    wire.passed, wire.left, wire.back = 0, cut, back
                    return True
                return None

            try:
                done = drive(write.write(feed, Secret(KEY), RealClock(), write.WriteTerms(wait=2.0)), on_event)
            except DirektError as caught:
                done, error = None, caught
            finally:
                feed.driver.close()
            wire.left, wire.back = 1 << 60, True
            for _ in range(100):  # it may be restarting
                if device.is_on:
                    break
                threading.Event().wait(0.02)
            return device, before, self.settings(device), done, error, told, unfinished.find(rig, "finish"), wire.passed
        finally:
            wire.close()
            device.stop()

    @staticmethod
    def settings(device):
        if isinstance(device, BrindleB2):
            state = device.state()
            return {"set": state["channels"]["main"], "slot": dict(device._slot), "due": state["restart_needed"]}
        main = device.streams["p-main"]
        sound = (main.sound, device.sound.codec, device.sound.bitrate, device.sound.rate) if main.sound else False
        coder = main.coder
        return {"set": (coder.codec, coder.size, coder.rate, coder.bitrate, coder.gov, coder.profile, coder.constant, sound, device.adaptive),
                "slot": (device.push_to, device.push_stream), "due": False}  # fmt: skip

    def run_all(self, make, driver: str, points: int) -> None:
        _, before, wanted, done, error, *_, whole = self.attempt(make, driver, 1 << 60, back=True)
        self.assertIsNone(error)
        self.assertEqual(done.lost, ())
        outcomes = {"as wanted": 0, "as before": 0, "told": 0}
        for n in range(points):
            cut = 1 + n * (whole - 2) // points
            for back in (True, False):
                with self.subTest(cut=cut, back=back):
                    _, _, now, done, error, told, left, _ = self.attempt(make, driver, cut, back=back)
                    if done is not None:
                        self.assertEqual((now, left), (wanted, None), "it said that it is done")
                        outcomes["as wanted"] += 1
                    elif now == before and left is None:
                        self.assertIn(told[-1].stage, (Stage.UNTOUCHED, Stage.PUT_BACK))
                        outcomes["as before"] += 1
                    else:
                        self.assertIsNotNone(left, "what is half done is known")
                        self.assertNotIn(told[-1].stage, (Stage.UNTOUCHED, Stage.PUT_BACK))
                        self.assertEqual(error.__notes__, [told[-1].text])
                        self.assertIn("to go back", told[-1].text)
                        outcomes["told"] += 1
        self.assertGreater(outcomes["as before"], points // 4, outcomes)

    def test_the_encoder_that_restarts(self):
        self.run_all(lambda: BrindleB2("op", "pw-1"), "brindle-b2", POINTS)

    def test_the_camera_of_the_standard_with_its_page(self):
        self.run_all(lambda: Osier("op", "pw-1"), "osier-20", POINTS)


if __name__ == "__main__":
    unittest.main()
