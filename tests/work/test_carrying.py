"""Carrying over real sockets: bit for bit, and with either side vanishing and coming back."""

import asyncio
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from direkt import container
from direkt.codec.programme import AudioSettings, Programme
from direkt.media import Samples
from direkt.net.transport import transport
from direkt.protocol import address, source
from direkt.protocol.schemes import SCHEMES
from direkt.secret import Secret
from direkt.sim.rtsp import RtspFaults, RtspServer
from direkt.work.stream import carrier
from direkt.work.stream.carrier import Carrying, Ends
from direkt.work.stream.reception import Reception
from direkt.work.stream.relay import Silence
from tests.support import KEY, card


class Sites(unittest.TestCase):
    """A camera and a platform on this machine."""

    def setUp(self):
        self.loop = asyncio.new_event_loop()
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True)
        self.thread.start()
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(mock.patch.object(carrier, "_PAUSES", (0.2,)))
        self.addCleanup(self.off)
        self.cameras = []

    def off(self):
        for camera in self.cameras:
            self.call(camera.stop())
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join(5)
        self.loop.close()

    def call(self, work):
        return asyncio.run_coroutine_threadsafe(work, self.loop).result(10)

    def camera(self, audio=None, port=0, **broken):
        made = RtspServer(lambda _: Programme(card(320, 180, interval=25, bitrate=400), audio), broken=RtspFaults(**broken))
        self.call(made.start("127.0.0.1", port))
        self.cameras.append(made)
        return made

    def platform(self, name="a.flv", key=KEY, port=0):
        recorder = transport("rtmp").recorder(self.folder / name, overwrite=True)
        made = Reception(SCHEMES["rtmp"], "live", Secret(key), recorder=recorder)
        made.number = made.open("127.0.0.1", port)
        self.addCleanup(made.close)
        return made

    def carry(self, camera, number, key=KEY, path="/x", **more):
        ends = Ends(
            source.parse(f"rtsp://127.0.0.1:{camera.port}{path}")[0], None, address.parse(f"rtmp://127.0.0.1:{number}/live"),
            Secret(key),
        )
        made = Carrying(ends, Silence(), **more)
        made.start()
        self.addCleanup(made.close)
        return made

    def wait(self, what, seconds=15.0):
        end = time.monotonic() + seconds
        while not what():
            self.assertLess(time.monotonic(), end, "it never came to that")
            time.sleep(0.02)


class Carried(Sites):
    def test_what_arrives_is_what_the_camera_sent_bit_for_bit(self):
        audio = AudioSettings(48000, 2, 96)
        for by in ("tcp", "udp"):
            camera, platform = self.camera(audio), self.platform(f"{by}.flv")
            work = self.carry(camera, platform.number, by=by)
            self.wait(lambda work=work: work.state.sent > 200_000)
            work.close()
            platform.close()
            self.assertEqual((work.state.pushes, camera.sent.by), (1, [by]))
            sent = {"video": [], "audio": []}
            show = Programme(card(320, 180, interval=25, bitrate=400), audio)
            while len(sent["video"]) < 200:
                _, samples = show.next()
                sent[samples.track].append(bytes(samples.sample(0)))
            got = {"video": [], "audio": []}
            for e in container.read(self.folder / f"{by}.flv"):
                if isinstance(e, Samples):
                    got[e.track] += [bytes(e.sample(n)) for n in range(len(e))]
            self.assertGreater(len(got["video"]), 60)
            self.assertEqual(got["audio"], sent["audio"][: len(got["audio"])])
            for n, data in enumerate(got["video"]):
                # the camera repeats its parameter sets in front of each keyframe
                self.assertEqual(data if n % 25 else data[-len(sent["video"][n]) :], sent["video"][n], n)

    def test_the_camera_goes_and_comes_back(self):
        camera, platform = self.camera(), self.platform()
        work = self.carry(camera, platform.number)
        self.wait(lambda: work.state.sent > 40_000)
        self.call(camera.stop())
        self.wait(lambda: "trying again" in work.state.source)
        self.assertTrue(work.state.pushing, "the platform's connection is held")
        self.camera(port=camera.port)
        before = work.state.sent
        self.wait(lambda: work.state.sent > before + 40_000)
        work.close()
        platform.close()
        found = platform.rehearsal.snapshot()
        self.assertEqual((work.state.pushes, work.state.fetches, found.values["stream.timestamps"]), (1, 2, "clean"))
        self.assertGreater(found.values["video.longest_gap"], 0.1)
        work.poll()
        self.assertEqual(work.rehearsal.snapshot().values["stream.timestamps"], "clean")

    def test_a_camera_that_stays_away_ends_the_push_until_it_is_back(self):
        with mock.patch.object(carrier, "_SOURCE_GONE", 0.5):
            camera, platform = self.camera(), self.platform()
            work = self.carry(camera, platform.number)
            self.wait(lambda: work.state.sent > 20_000)
            self.call(camera.stop())
            self.wait(lambda: not work.state.pushing)
            self.camera(port=camera.port)
            self.wait(lambda: work.state.pushing)
            self.assertEqual(work.state.pushes, 2)

    def test_the_platform_goes_and_comes_back(self):
        camera, platform = self.camera(AudioSettings(48000, 2, 64)), self.platform()
        work = self.carry(camera, platform.number)
        self.wait(lambda: work.state.sent > 40_000)
        platform.close()
        self.wait(lambda: not work.state.pushing)
        again = self.platform("b.flv", port=platform.number)
        self.wait(lambda: work.state.pushing)
        before = work.state.sent
        self.assertGreater(before, 40_000)  # with what went out by the connection before
        self.wait(lambda: work.state.sent > before + 40_000)
        work.close()
        again.close()
        found = again.rehearsal.snapshot()
        self.assertEqual((work.state.pushes, work.state.fetches), (2, 1))
        self.assertEqual(found.values["stream.timestamps"], "clean")
        self.assertLessEqual(found.values["video.join_interval.max"], 1.0)
        work.poll()
        self.assertEqual(len(work.rehearsal.gaps), 1)

    def test_a_key_that_the_platform_refuses_is_tried_again_and_never_shown(self):
        camera, platform = self.camera(), self.platform()
        work = self.carry(camera, platform.number, key="varn~fake~wrong")
        self.wait(lambda: "trying again" in work.state.push)
        self.assertIn("refuses", work.state.push)
        self.assertNotIn("varn~fake", work.state.push + work.state.source)
        self.assertFalse(work.state.pushing)

    def test_a_key_that_is_refused_again_and_again_waits_for_a_person(self):
        with mock.patch.object(carrier, "_PAUSES", (0.05,)):
            camera, platform = self.camera(), self.platform()
            work = self.carry(camera, platform.number, key="varn~fake~wrong")
            self.wait(lambda: work.state.waits)
            platform.poll()
            tried = sum(r.count for r in platform.rehearsal.refusals.values())
            self.assertEqual(tried, carrier._REFUSALS)
            time.sleep(0.5)
            platform.poll()
            self.assertEqual(sum(r.count for r in platform.rehearsal.refusals.values()), tried, "not tried again")
            self.assertIn("and not again", work.state.push)
            self.assertEqual(work.state.fatal, "")

    def test_h265_goes_out_where_the_platform_takes_it(self):
        camera = RtspServer(lambda _: Programme(card(320, 180, interval=25, bitrate=400), None, "h265"))
        self.call(camera.start())
        self.cameras.append(camera)
        platform = self.platform()
        work = self.carry(camera, platform.number, codecs=("h264", "h265"))
        self.wait(lambda: work.state.sent > 60_000)
        work.close()
        platform.close()
        found = platform.rehearsal.snapshot().values
        self.assertEqual((found["video.codec"], found["video.size"], found["video.configured"]), ("h265", "320x180", "yes"))

    def test_lost_packets_of_the_camera_are_counted_and_spoil_nothing(self):
        camera, platform = self.camera(lost=0.01), self.platform()
        work = self.carry(camera, platform.number, by="udp")
        self.wait(lambda: work.state.damaged > 1 and work.state.behind > 0 and work.state.pushing)
        self.wait(lambda: work.state.sent > 150_000)
        work.close()
        platform.close()
        self.assertEqual(platform.rehearsal.snapshot().values["stream.timestamps"], "clean")

    def test_what_ends_it_by_itself(self):
        camera = RtspServer(lambda _: Programme(card(320, 180), None, "h265"))
        self.call(camera.start())
        self.cameras.append(camera)
        work = self.carry(camera, self.platform().number)
        self.wait(lambda: work.state.fatal)
        self.assertIn("sends H.265, which this platform's sheet does not name", work.state.fatal)
        camera = RtspServer(lambda _: None, lambda asked: ('Basic realm="x"',) if asked.method != "OPTIONS" else ())
        self.call(camera.start())
        self.cameras.append(camera)
        work = self.carry(camera, 1)
        self.wait(lambda: work.state.fatal)
        self.assertIn("wants a login (basic)", work.state.fatal)

    def test_a_line_that_does_not_keep_up_leaves_out_up_to_a_keyframe(self):
        with mock.patch.object(carrier, "_MOST_WAITING", 30_000):
            camera, platform = self.camera(), self.platform()
            work = self.carry(camera, platform.number)
            self.wait(lambda: work.state.pushing)
            publisher = work._publisher
            send = publisher.send

            async def slow(event):
                if isinstance(event, Samples):
                    await asyncio.sleep(0.08)
                await send(event)

            publisher.send = slow
            self.wait(lambda: work.state.left_out > 10)
            publisher.send = send
            self.wait(lambda: work.state.sent > 120_000)
            work.close()
            platform.close()
            found = platform.rehearsal.snapshot()
            self.assertEqual((work.state.pushes, found.values["stream.timestamps"]), (1, "clean"))
            self.assertEqual(found.remarks, ())


if __name__ == "__main__":
    unittest.main()
