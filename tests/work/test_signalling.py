"""Our own signal: what is sent is what is set, the kernel's figures are true, and a line's limit is found."""

import asyncio
import contextlib
import itertools
import os
import shutil
import socket
import subprocess
import sys
import threading
import time
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from direkt.codec.programme import AudioSettings
from direkt.codec.testcard import CardSettings
from direkt.destination import library
from direkt.finding import Verdict
from direkt.judge import judge_sent
from direkt.net import tcp_figures
from direkt.net.rtmp import Receiver
from direkt.protocol import address
from direkt.secret import Secret
from direkt.work.steps import drive
from direkt.work.stream import signal
from direkt.work.stream.signal import LineCarried, Settings, Signalling, send
from tests.support import free_port, wait_until

KEY = "varn~fake~teal"


class SystemClock:
    now = staticmethod(time.monotonic)
    sleep = staticmethod(time.sleep)

    @staticmethod
    def stamp():
        return ""


class Sink:
    """A receiver in a thread, or one that reads no faster than a rate (bytes/s)."""

    def __init__(self, rate=None):
        self.loop = asyncio.new_event_loop()
        self.rate = rate
        self.came = []
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True)
        self.thread.start()
        self.receiver = Receiver("live", Secret(KEY), self.came.append)
        self.port = asyncio.run_coroutine_threadsafe(self.receiver.start("127.0.0.1", 0), self.loop).result(5)

    def close(self):
        asyncio.run_coroutine_threadsafe(self.receiver.stop(), self.loop).result(5)
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join(5)
        self.loop.close()


SMALL = Settings(CardSettings(640, 360, Fraction(25), 25, "high", 1000, "cbr"), AudioSettings(48000, 2, 128))


class Choice(unittest.TestCase):
    def test_what_each_shipped_sheet_likes_best(self):
        for name in ("tarnlight", "plainsong-village"):
            sheet = library.load(name, None)
            settings, _ = signal.best(sheet, "rtmp", None, 50)
            for parameter, rule in sheet.rules_for(settings.values()).items():
                value = settings.values().get(parameter)
                if value is not None and rule.must is not None:
                    self.assertTrue(rule.must.allows(value), (name, parameter, value))
        settings, _ = signal.best(library.load("tarnlight", None), "rtmp", None, 50)
        self.assertEqual((settings.video.width, float(settings.video.frame_rate), settings.video.bitrate), (1920, 50.0, 6900))
        thin, _ = signal.best(library.load("tarnlight", None), "rtmp", 2500, 50)
        self.assertLessEqual(thin.kbit_s, 2500)


class Sending(unittest.TestCase):
    def setUp(self):
        self.sink = Sink()
        self.addCleanup(self.sink.close)
        self.server = address.parse(f"rtmp://127.0.0.1:{self.sink.port}/live")

    def run_it(self, work, **how):
        events = []
        result = drive(send(work, SystemClock(), **how), lambda event: events.append(event))
        return result, events

    def test_what_is_sent_is_what_is_set(self):
        work = Signalling(self.server, Secret(KEY), SMALL)
        result, _ = self.run_it(work, seconds=3.0)
        found = work.rehearsal.snapshot().found
        self.assertEqual((found["video.size"].value, found["video.frame_rate"].value, found["audio.codec"].value), ("640x360", 25.0, "aac"))
        self.assertAlmostEqual(found["video.bitrate.mean"].value, 1000, delta=30)
        self.assertEqual(result.failure, "")
        self.assertAlmostEqual(result.steady.arrived, 1128, delta=90)  # with what RTMP adds
        self.assertLess(result.steady.backlog, 0.5)
        sheet = library.load("tarnlight", None)
        judged = {f.parameter: f.verdict for f in judge_sent(sheet, found, SMALL.values()).findings}
        self.assertEqual((judged["video.codec"], judged["video.size"], judged["audio.codec"]), (Verdict.PASS, Verdict.FAIL, Verdict.PASS))

    def test_the_time_line_runs_on_when_the_bitrate_changes(self):
        work = Signalling(self.server, Secret(KEY), SMALL)
        job = send(work, SystemClock(), seconds=4.0)
        for tick in job:
            if tick.since > 1.5 and work.settings.video.bitrate == 1000:
                work.change(2000)
        found = work.rehearsal.snapshot().found
        self.assertEqual((found["stream.timestamps"].value, found["video.pictures_missing"].value), ("clean", 0))
        self.assertEqual(work.settings.video.bitrate, 2000)

    def test_a_climb_that_reaches_its_end(self):
        work = Signalling(self.server, Secret(KEY), SMALL)
        hold, signal._HOLD = signal._HOLD, 2.5
        self.addCleanup(setattr, signal, "_HOLD", hold)
        result, _ = self.run_it(work, seconds=None, climb=1600)
        self.assertEqual(([s.held for s in result.steps], result.limit), ([True] * 3, None))
        self.assertAlmostEqual(result.mbit_s, 1.73, delta=0.2)

    def test_a_card_that_needs_less_than_it_is_asked_for_is_no_limit(self):
        quiet = LineCarried(3.0, 1650.0, 1655.0, 1700.0, 0.01, 0.01, 0, 400, 0.02)  # 2.97 Mbit/s were asked for
        self.assertTrue(quiet.held)
        self.assertFalse(quiet.machine_is_slow)
        thin = LineCarried(3.0, 2900.0, 1650.0, 1700.0, 0.2, 0.01, 0, 400, 1.9, most_waiting=300_000)
        self.assertEqual((thin.held, thin.machine_is_slow), (False, False))
        busy = LineCarried(3.0, 1600.0, 1600.0, 1650.0, 0.01, 0.01, 0, 400, 1.2, most_waiting=4_000)  # nothing waits for the line
        self.assertEqual((busy.held, busy.machine_is_slow), (False, True))

    def test_a_line_that_takes_nothing_for_a_while_is_seen_while_it_does(self):
        slow = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(slow.close)
        work = Signalling(self.server, Secret(KEY), SMALL)
        work.start()
        self.addCleanup(work.close)
        wait_until(lambda: work.pushing)
        blocked = asyncio.run_coroutine_threadsafe(self.hold(1.5), self.sink.loop)
        time.sleep(1.7)
        blocked.result(5)
        moments = [sample.at for sample in work.samples]
        gaps = [b - a for a, b in itertools.pairwise(moments)]
        self.assertLess(max(gaps), 0.6, gaps)

    async def hold(self, seconds):
        time.sleep(seconds)  # noqa: ASYNC251 - the receiver stands still as a whole

    def test_samples_are_taken_while_they_are_read(self):
        work = Signalling(self.server, Secret(KEY), SMALL)
        work._samples.extend(range(3000))
        over = threading.Event()

        def add():
            while not over.is_set():
                with work._lock:
                    work._samples.append(1)

        thread = threading.Thread(target=add, daemon=True)
        thread.start()
        for _ in range(2000):
            self.assertEqual(len(work.samples), 3000)
        over.set()
        thread.join(5)

    def test_it_ends_within_two_seconds_whatever_the_other_side_does(self):
        for habit in ("takes nothing", "says nothing"):
            server = socket.create_server(("127.0.0.1", 0))
            self.addCleanup(server.close)
            peers = []

            def accept(server=server, peers=peers):
                with contextlib.suppress(OSError):
                    while True:
                        peers.append(server.accept()[0])

            threading.Thread(target=accept, daemon=True).start()
            place = self.server if habit == "takes nothing" else address.parse(f"rtmp://127.0.0.1:{server.getsockname()[1]}/live")
            work = Signalling(place, Secret(KEY), replace(SMALL, video=replace(SMALL.video, bitrate=20_000)))
            work.start()
            time.sleep(0.5)
            if habit == "takes nothing":
                held = asyncio.run_coroutine_threadsafe(self.hold(4.0), self.sink.loop)
                time.sleep(1.0)
            begin = time.monotonic()
            work.close()
            self.assertLess(time.monotonic() - begin, 2.3, habit)
            if habit == "takes nothing":
                held.result(6)
            self.assertFalse(work._thread.is_alive(), habit)
            for peer in peers:
                peer.close()

    def test_a_server_that_refuses_and_one_that_is_not_there(self):
        result, _ = self.run_it(Signalling(self.server, Secret("varn~fake~wrong"), SMALL), seconds=5.0)
        self.assertIn("refuses", result.failure)
        self.assertNotIn("wrong", result.failure)
        result, _ = self.run_it(Signalling(address.parse(f"rtmp://127.0.0.1:{free_port()}/live"), Secret(KEY), SMALL), seconds=5.0)
        self.assertIn("nothing listens", result.failure)


class Figures(unittest.TestCase):
    @unittest.skipUnless(sys.platform.startswith("linux"), "the kernel's figures are those of Linux")
    def test_they_are_what_went_over_the_socket(self):
        listening = socket.create_server(("127.0.0.1", 0))
        ours = socket.create_connection(listening.getsockname())
        theirs, _ = listening.accept()
        sent = 0
        for n in (1, 1000, 70_000):
            ours.sendall(b"x" * n)
            sent += n
            left = n
            while left:
                left -= len(theirs.recv(left))
        deadline = time.monotonic() + 3
        while (found := tcp_figures.read(ours)).acked < sent and time.monotonic() < deadline:
            time.sleep(0.01)
        self.assertIn(found.acked, (sent, sent + 1))  # the SYN may count
        self.assertEqual((found.unsent, found.in_flight, found.sent_again), (0, 0, 0))
        self.assertTrue(0 < found.rtt < 0.5)
        self.assertGreaterEqual(found.on_the_wire, sent + 3 * 52)
        theirs.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        ours.setblocking(False)
        handed = 0
        try:
            while True:
                handed += ours.send(b"y" * 65536)
        except BlockingIOError:
            pass
        time.sleep(0.1)
        stuck = tcp_figures.read(ours)
        self.assertGreater(stuck.unsent + stuck.in_flight, 0)
        self.assertAlmostEqual(stuck.acked - found.acked + stuck.unsent + stuck.in_flight, handed, delta=handed * 0.2 + 70_000)
        for one in (ours, theirs, listening):
            one.close()


_NETNS = """
import asyncio, sys, threading
sys.path.insert(0, {root!r})
from tests.work.test_signalling import KEY, SMALL, Sink, SystemClock
from direkt.protocol import address
from direkt.secret import Secret
from direkt.work.stream.signal import Signalling, send
from direkt.work.steps import drive
sink = Sink()
work = Signalling(address.parse(f"rtmp://127.0.0.1:{{sink.port}}/live"), Secret(KEY), SMALL)
work.change(3600)
work.settings = work._wanted
result = drive(send(work, SystemClock(), seconds=None, climb=20000), lambda event: None)
sink.close()
print(result.mbit_s, result.limit is not None, [s.held for s in result.steps])
"""


def _can_make_namespaces():
    if os.geteuid() != 0 or not shutil.which("ip") or not shutil.which("tc"):
        return False
    name = f"direkt-probe-{os.getpid()}"
    if subprocess.run(["ip", "netns", "add", name], capture_output=True).returncode:
        return False
    done = subprocess.run(["ip", "netns", "exec", name, "tc", "qdisc", "add", "dev", "lo", "root", "tbf", "rate", "5mbit", "burst", "32kb", "latency", "200ms"], capture_output=True)
    subprocess.run(["ip", "netns", "del", name], capture_output=True)
    return done.returncode == 0


@unittest.skipUnless(_can_make_namespaces(), "no network namespace with a limited line can be made here")
class Limited(unittest.TestCase):
    def test_a_line_of_5_mbit_s_is_found_within_ten_percent(self):
        name = f"direkt-test-{os.getpid()}"
        self.addCleanup(subprocess.run, ["ip", "netns", "del", name], capture_output=True)
        for words in (
            ["ip", "netns", "add", name], ["ip", "-n", name, "link", "set", "lo", "up", "mtu", "1500"],
            ["tc", "-n", name, "qdisc", "add", "dev", "lo", "root", "tbf", "rate", "5mbit", "burst", "32kb", "latency", "200ms"],
        ):  # fmt: skip
            subprocess.run(words, check=True, capture_output=True)
        root = str(Path(__file__).resolve().parent.parent.parent)
        done = subprocess.run(
            ["ip", "netns", "exec", name, sys.executable, "-c", _NETNS.format(root=root)], capture_output=True, text=True, timeout=90
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        mbit_s, reached, _ = done.stdout.split(" ", 2)
        self.assertEqual(reached, "True", done.stdout)
        self.assertTrue(4.5 <= float(mbit_s) <= 5.5, done.stdout)


if __name__ == "__main__":
    unittest.main()
