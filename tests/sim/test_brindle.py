import asyncio
import unittest
from fractions import Fraction

import httpx

from direkt.codec.programme import AudioSettings, Programme, exact_rate
from direkt.media import Claims
from direkt.net.rtmp import Receiver
from direkt.net.transport import Arrived, Left
from direkt.secret import Secret
from direkt.sim.brindle import BrindleB2
from direkt.sim.web import Faults
from tests.support import KEY, Async, card, flat


class Page(unittest.TestCase):
    """The device's own HTTP interface, as any client sees it."""

    def setUp(self):
        self.device = BrindleB2("op", "pw")
        self.device.start()
        self.addCleanup(self.device.stop)
        self.http = httpx.Client(
            base_url=f"http://127.0.0.1:{self.device.port}", auth=httpx.DigestAuth("op", "pw"), trust_env=False
        )
        self.addCleanup(self.http.close)

    def test_digest_login(self):
        bare = httpx.get(f"http://127.0.0.1:{self.device.port}/api/v1/state", trust_env=False)
        self.assertEqual(bare.status_code, 401)
        self.assertIn("Digest realm=", bare.headers["www-authenticate"])
        self.assertEqual(self.http.get("/api/v1/state").status_code, 200)
        self.device.login._nonces.clear()
        self.assertEqual(self.http.get("/api/v1/state").status_code, 200, "an old nonce is renewed")
        basic = httpx.get(f"http://127.0.0.1:{self.device.port}/api/v1/state", auth=("op", "pw"), trust_env=False)
        self.assertEqual(basic.status_code, 401)

    def test_saved_settings_show_at_once_and_apply_after_a_restart(self):
        answer = self.http.patch("/api/v1/channels/main", json={"video": {"bitrate_kbps": 5000}})
        self.assertEqual(answer.json(), {"restart_needed": True})
        self.assertEqual(self.http.get("/api/v1/state").json()["channels"]["main"]["video"]["bitrate_kbps"], 5000)
        self.assertEqual(self.device._active["main"]["video"]["bitrate_kbps"], 12000)

    def test_refusals_change_nothing(self):
        for body, field, words in (
            ({"video": {"codec": "H.265"}}, "video.codec", "no H.265 option"), ({"video": {"size": "800x600"}}, "video.size", "expected 2560x1440"),
            ({"video": {"bitrate_kbps": "fast"}}, "video.bitrate_kbps", "whole number"), ({"video": {"warp": 9}}, "video.warp", "no such setting"),
            ({"sound": {}}, "sound", "no such group"), ({"video": {"keyframe_frames": 601}}, "video.keyframe_frames", "1 to 600"),
            ({"video": {"size": "1920x1080", "bitrate_kbps": 300, "rate_control": "CBR", "keyframe_frames": 1}}, "video.bitrate_kbps", "at least"),
        ):  # fmt: skip
            answer = self.http.patch("/api/v1/channels/main", json=body)
            self.assertEqual(answer.status_code, 422)
            (refused,) = answer.json()["refused"]
            self.assertEqual(refused["field"], field)
            self.assertIn(words, refused["reason"])
        self.assertFalse(self.device.state()["restart_needed"])

    def test_other_requests(self):
        self.assertEqual(self.http.get("/api/v1/nothing").status_code, 404)
        self.assertEqual(self.http.put("/api/v1/push/1", content=b"[1]").status_code, 400)
        self.assertEqual(self.http.put("/api/v1/push/1", json={"channel": "third", "server": "", "key": ""}).status_code, 422)
        self.assertEqual(self.http.post("/api/v1/push/1/start").status_code, 409)
        self.assertEqual(self.http.get("/api/v1/limits").json()["video"]["frame_rate"], [50, 25, 12.5])


class Push(Async):
    async def test_the_push_follows_the_active_settings_and_ends_in_good_order(self):
        seen: list = []
        receiver = Receiver("live", Secret(KEY), seen.append)
        port = await receiver.start("127.0.0.1", 0)
        device = BrindleB2("op", "pw", faults=Faults())
        device.start()
        try:
            device.put_slot({"channel": "second", "server": f"rtmp://127.0.0.1:{port}/live", "key": KEY})
            self.assertEqual(device.start_push()[0], 200)
            async with asyncio.timeout(8):
                while len(flat(seen, "video")) < 20:  # noqa: ASYNC110
                    await asyncio.sleep(0.05)
            self.assertEqual(device.state()["push"][0]["state"], "pushing")
            await asyncio.to_thread(device.stop_push)
            async with asyncio.timeout(8):
                while not any(isinstance(e, Left) for e in seen):  # noqa: ASYNC110
                    await asyncio.sleep(0.05)
        finally:
            await asyncio.to_thread(device.stop)
            await receiver.stop()
        self.assertIsInstance(seen[0], Arrived)
        self.assertEqual(next(e for e in seen if isinstance(e, Left)).reason, "it stopped the stream")
        self.assertEqual(flat(seen, "audio"), [], "audio is off")
        self.assertEqual(next(e for e in seen if isinstance(e, Claims)).values["video.width"], 640)


class Programmes(unittest.TestCase):
    def test_rates(self):
        for given, wanted in (
            (29.97, Fraction(30000, 1001)), (59.94, Fraction(60000, 1001)), (25, Fraction(25)), (12.5, Fraction(25, 2)),
        ):
            self.assertEqual(exact_rate(given), wanted)

    def test_events_come_in_the_order_of_their_times(self):
        programme = Programme(card(rate=Fraction(30000, 1001)), AudioSettings(44100, 1, 64))
        self.assertEqual([format.codec for format in programme.formats()], ["h264", "aac"])
        self.assertEqual(programme.claims().values["audio.channels"], 1)
        found = [programme.next() for _ in range(400)]
        self.assertEqual([when for when, _ in found], sorted(when for when, _ in found))
        ticks = {format.track: format.tick for format in programme.formats()}
        self.assertEqual([when for when, _ in found], [int(s.dts[0]) * ticks[s.track] for _, s in found])
        self.assertEqual(sum(s.track == "video" for _, s in found), 164)  # 400 of 29.97 and 43.07 a second
