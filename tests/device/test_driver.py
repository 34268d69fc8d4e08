import http.server
import threading
import unittest

from direkt.demand import Demand
from direkt.device import driver
from direkt.device.model import BadAnswer, LoginRefused, Refused, Unreachable
from direkt.documents import DocumentError
from direkt.sheet.secret import Secret
from direkt.sim.brindle import BrindleB2, Faults
from tests.support import KEY, Folder, free_port


class Device(unittest.TestCase):
    def begin(self, **faults) -> driver.HttpDriver:
        self.device = BrindleB2("op", "pw", faults=Faults(**faults))
        self.device.start()
        self.addCleanup(self.device.stop)
        return self.talk()

    def talk(self, user: str = "op", password: str | None = "pw") -> driver.HttpDriver:
        login = None if password is None else (user, Secret(password))
        made = driver.HttpDriver("tower", driver.load("brindle-b2"), f"http://127.0.0.1:{self.device.port}", login)
        self.addCleanup(made.close)
        return made

    def test_state_comes_in_the_parameters_words_and_units(self):
        state = self.begin().read()
        channel = state.channels["main"]
        self.assertEqual((state.model, state.input.frame_rate, state.input.height), ("Brindle B2", 50.0, 1080))
        self.assertEqual(channel.values["video.keyframe_interval.median"], 10)
        self.assertEqual((channel.values["audio.present"], channel.full["video.width"]), ("no", 2560))
        self.assertNotIn("audio.codec", channel.full)
        self.assertEqual(channel.limits["video.codec"], Demand("video.codec", ("h264",)))
        self.assertEqual(channel.limits["video.keyframe_interval.median"].maximum, 24)
        self.assertEqual(set(state.channels), {"main", "second"})

    def test_writing_takes_effect_after_a_restart_and_frames_follow_the_rate(self):
        talk = self.begin()
        channel = talk.read().channels["second"]
        self.assertEqual(channel.values["video.keyframe_interval.median"], 2)
        talk.write(channel, {"video.frame_rate": 50})
        state = talk.read()
        self.assertTrue(state.restart_needed)
        self.assertEqual(self.device.state()["channels"]["second"]["video"]["keyframe_frames"], 100)
        passed = []
        talk.restart(passed.append, 20)
        self.assertFalse(talk.read().restart_needed)
        self.assertGreater(passed[-1], 1.5)

    def test_refusals_name_the_parameter_and_the_devices_reason(self):
        talk = self.begin()
        channel = talk.read().channels["main"]
        for values, name, words in (
            ({"video.codec": "h265"}, "video.codec", "no H.265 option"), ({"video.frame_rate": 30}, "video.frame_rate", "the input is 50 fps"),
            ({"video.bitrate.mean": 50}, "video.bitrate.mean", "300 to 20000"), ({"video.frame_rate": 50}, "video.frame_rate", "30 fps at most"),
            ({"audio.bitrate.mean": 100}, "audio.bitrate.mean", "expected 64"),
        ):  # fmt: skip
            with self.assertRaises(Refused) as caught:
                talk.write(channel, values)
            self.assertIn(words, caught.exception.reasons[name])
        self.assertEqual(talk.read().channels["main"].values, channel.values)

    def test_logins(self):
        self.begin()
        for user, password, words in (
            ("op", "no", "check user name"),
            ("x", "pw", "check user name"),
            ("", None, "wants a login .digest."),
        ):
            with self.assertRaisesRegex(LoginRefused, words):
                self.talk(user, password).read()

    def test_a_device_that_answers_strangely(self):
        with self.assertRaisesRegex(BadAnswer, "text/html, expected JSON"):
            self.begin(not_json=True).read()
        talk = self.begin(never_returns=True)
        with self.assertRaisesRegex(Unreachable, "has not come back 1.5 s"):
            talk.restart(lambda _: None, 1.5)
        with self.assertRaisesRegex(Unreachable, "connection refused"):
            talk.read()

    def test_basic_login_where_digest_is_expected_is_said(self):
        class Basic(http.server.BaseHTTPRequestHandler):
            def do_GET(self):
                self.send_response(401)
                self.send_header("WWW-Authenticate", 'Basic realm="x"')
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_):
                pass

        server = http.server.HTTPServer(("127.0.0.1", 0), Basic)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        talk = driver.HttpDriver(
            "x", driver.load("brindle-b2"), f"http://127.0.0.1:{server.server_port}", ("a", Secret("b"))
        )
        with self.assertRaisesRegex(LoginRefused, "wants a basic login, its driver uses digest"):
            talk.read()
        talk.close()

    def test_the_key_goes_in_and_never_comes_out(self):
        talk = self.begin()
        talk.write_slot(1, "main", "rtmp://h.example/live", Secret(KEY))
        slot = talk.read().slots[1]
        self.assertEqual((slot.server, slot.key_length, slot.state), ("rtmp://h.example/live", len(KEY), "stopped"))
        self.assertNotIn(KEY, repr(self.device.state()))

    def test_a_push_to_nowhere_says_so(self):
        talk = self.begin()
        with self.assertRaisesRegex(Refused, "no server address"):
            talk.push(1, on=True)
        port = free_port()
        talk.write_slot(1, "main", f"rtmp://127.0.0.1:{port}/live", Secret(KEY))
        talk.push(1, on=True)
        for _ in range(100):
            slot = talk.read().slots[1]
            if slot.state == "retrying":
                break
        self.assertIn("connection refused", slot.message)
        talk.push(1, on=False)
        self.assertEqual(talk.read().slots[1].state, "stopped")


class SlotShapes(unittest.TestCase):
    def test_a_driver_says_in_which_shape_its_device_takes_a_destination(self):
        file = driver.load("brindle-b2")
        for shape, fields, wanted in (
            ("url", {"url": "target"}, {"channel": "main", "target": f"rtmp://h.example:1940/a/b/{KEY}"}),
            ("url+key", {}, {"channel": "main", "server": "rtmp://h.example:1940/a/b", "key": KEY}),
            (
                "parts", {"stream": "key", "app": "application"},
                {"channel": "main", "scheme": "rtmp", "host": "h.example", "port": 1940, "application": "a/b", "key": KEY},
            ),
        ):  # fmt: skip
            slots = file.slots.model_copy(update={"shape": shape, "fields": fields})
            talk = driver.HttpDriver("x", file.model_copy(update={"slots": slots}), "http://192.0.2.1", None)
            sent = []
            talk._ask = lambda request, body=None, sent=sent, **places: sent.append(body)
            talk.write_slot(1, "main", "rtmp://h.example:1940/a/b", Secret(KEY))
            talk.close()
            self.assertEqual(sent, [wanted])


class Files(Folder):
    def test_names_files_and_mistakes(self):
        self.assertEqual(driver.shipped(), ["brindle-b2"])
        with self.assertRaisesRegex(DocumentError, "did you mean brindle-b2"):
            driver.load("brindle-b3")
        self.file("own.yaml", "schema: direkt.driver/1\ntitle: x\nlogin: digst\n")
        with self.assertRaisesRegex(DocumentError, "own.yaml:3: login: expected 'digest', 'basic' or 'none'"):
            driver.load("own.yaml", self.folder)

    def test_input_formats(self):
        for text, wanted in (
            ("1080i59.94", (1920, 1080, 59.94, "interlaced")),
            ("720p50", (1280, 720, 50.0, "progressive")),
        ):
            found = driver.parse_input(text)
            self.assertEqual((found.width, found.height, found.frame_rate, found.scan), wanted)
        self.assertEqual(driver.parse_input("bars").height, 0)
