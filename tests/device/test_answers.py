"""Places in answers, bodies, and driver files of every shape."""

import contextlib
import copy
import json
import os
import random
import unittest
from unittest import mock

from lxml import etree

from direkt import documents
from direkt.described import answers
from direkt.described.answers import JsonAnswer, LinesAnswer, XmlAnswer, body
from direkt.described.errors import ChangeRefused
from direkt.device import by_file, driver_file, library, skeleton
from direkt.documents import DocumentError
from direkt.errors import DirektError, Malformed
from direkt.secret import Secret
from direkt.sim.brindle import BrindleB2
from direkt.sim.marram import Marram
from direkt.sim.osier import Osier
from direkt.sim.web import WebResponse
from tests.support import KEY, Folder


class Places(unittest.TestCase):
    def test_json_pointers_of_the_standard(self):
        # RFC 6901, 5
        document = {"foo": ["bar", "baz"], "": 0, "a/b": 1, "c%d": 2, "e^f": 3, "g|h": 4, "i\\j": 5, 'k"l': 6, " ": 7, "m~n": 8}
        for pointer, value in (
            ("", document), ("/foo", ["bar", "baz"]), ("/foo/0", "bar"), ("/", 0), ("/a~1b", 1), ("/c%d", 2), ("/e^f", 3), ("/g|h", 4), ("/i\\j", 5),
            ('/k"l', 6), ("/ ", 7), ("/m~0n", 8), ("/foo/2", None), ("/foo/-1", None), ("foo", None), ("/foo/x", None),
        ):  # fmt: skip
            self.assertEqual(JsonAnswer(document).get(pointer), value, pointer)

    def test_xml(self):
        a = XmlAnswer.read(b'<c:a xmlns:c="urn:x" v="1"><c:b><d>5</d><d>6</d></c:b><e min="1" max="9">4</e><f/></c:a>')
        for place, value in (
            ("@v", "1"), ("b/d", ["5", "6"]), ("b/d[2]", "6"), ("e", "4"), ("f", ""), ("x", None), ("count(b/d)", 2.0),
            ("[", None),
        ):
            self.assertEqual(a.get(place), value, place)
        self.assertEqual(
            (a.limit("e"), a.limit("b/d"), len(a.parts("b/d")), a.part("b").get("d[1]")),
            ({"min": "1", "max": "9"}, ["5", "6"], 2, "5"),
        )
        for data in (b"", b"{}", b'<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>'):
            with self.assertRaises(Malformed):
                XmlAnswer.read(data)

    def test_lines(self):
        a = LinesAnswer.read(
            "# a comment\r\nch1.bitrate=4000\nch1.name = 'Main stream'\nvar fps=\"25\";\nstate: on air\n\nnonsense\n"
        )
        self.assertEqual(
            [a.get(n) for n in ("ch1.bitrate", "ch1.name", "fps", "state", "none")],
            ["4000", "Main stream", "25", "on air", None],
        )
        self.assertEqual((a.part("ch1.").get("bitrate"), a.part("ch2.")), ("4000", None))
        with self.assertRaises(Malformed):
            LinesAnswer.read("hello")

    def test_bodies(self):
        self.assertEqual(
            json.loads(body("json", {"/a/b": 1, "/a/c": True, "d": "x", "/e~1f": 2})[0]),
            {"a": {"b": 1, "c": True}, "d": "x", "e/f": 2},
        )
        self.assertEqual(
            body("form", {"a b": "ü&", "on": True, "n": 2.5})[:2],
            (b"a+b=%C3%BC%26&on=true&n=2.5", "application/x-www-form-urlencoded"),
        )
        self.assertEqual(body("query", {"a": 1})[2], "a=1")
        made = etree.fromstring(body("xml", {"v/b": "<&>", "v/@s": 1, "v/c": 2}, "top")[0])
        self.assertEqual(etree.tostring(made), b'<top><v s="1"><b>&lt;&amp;&gt;</b><c>2</c></v></top>')
        self.assertEqual(answers.sendable("//x", "xml") == "", True)
        self.assertIn("plain names", answers.sendable("text()", "xml"))


class Shipped(unittest.TestCase):
    def talk(self, made, driver):
        made.start()
        self.addCleanup(made.stop)
        talk = library.open_driver(driver, "cam", f"http://127.0.0.1:{made.port}", ("op", Secret("pw-1")))
        self.addCleanup(talk.close)
        return talk

    def test_the_marrams_xml(self):
        device = Marram("op", "pw-1")
        talk = self.talk(device, "marram-360")
        main = talk.read().channels["main"]
        self.assertEqual(
            (main.values["video.size"], main.values["video.frame_rate"], main.values["video.bitrate.mean"]),
            ("3840x1920", 30, 20000),
        )
        self.assertEqual(main.values["video.codec"], "h264", "a limit of one value that is no setting is always so")
        self.assertEqual(main.limits["video.bitrate.mean"].json(), {"min": 1000, "max": 40000})
        talk.write(main, {"video.size": "1280x720", "video.frame_rate": 25, "video.bitrate.mean": 2500, "audio.present": "yes"})
        self.assertEqual((device.now["mode"], device.now["mbps"], device.now["sound"]), ("1280x720/25", 2.5, "on"))
        for values, words in (
            ({"video.frame_rate": 30}, "there is no mode with"), ({"video.bitrate.mean": 99000}, "video.bitrate.mean: 1 to 40"),
        ):
            with self.assertRaisesRegex(ChangeRefused, words):
                talk.write(talk.read().channels["main"], values)
        talk.write_slot(1, "main", "rtmp://h.example:1940/live", Secret(KEY))
        slot = talk.read().slots[1]
        self.assertEqual((slot.server, slot.key_length, device.stream), ("rtmp://h.example:1940/live", len(KEY), KEY))
        device.recording = "uhd"
        laws = [law for law in talk.read().channels["main"].together if not law.push]
        self.assertEqual([law.because for law in laws], ["it does not push while it records in UHD"])
        with self.assertRaisesRegex(ChangeRefused, "stop recording in UHD first"):
            talk.push(1, on=True)
        talk.write_slot(1, "main", "", Secret(""))
        self.assertEqual(talk.read().slots[1].server, "")

    def test_the_osiers_page_beside_the_standard(self):
        device = Osier("op", "pw-1")
        talk = self.talk(device, "osier-20")
        state = talk.read()
        self.assertEqual((state.channels["main"].values["video.adaptive"], state.temperature is not None), ("yes", True))
        self.assertEqual(talk.portions({"video.size": "1x1", "audio.present": "no", "video.adaptive": "no"}),
                         [{"video.size": "1x1"}, {"audio.present": "no"}, {"video.adaptive": "no"}])  # fmt: skip
        talk.write(state.channels["main"], {"video.adaptive": "no", "video.codec": "h264"})
        self.assertEqual((device.adaptive, device.streams["p-main"].coder.codec), (False, "H264"))
        talk.write_slot(1, "second", "rtmp://h.example/live", Secret(KEY))
        slot = talk.read().slots[1]
        self.assertEqual(
            (slot.server, slot.channel, slot.key_length, device.push_to),
            ("rtmp://h.example/live", "second", len(KEY), f"rtmp://h.example/live/{KEY}"),
        )
        self.assertNotIn(KEY, repr(talk.read()))
        with mock.patch.object(Osier, "page", lambda *_: WebResponse(404, b"no such page")):
            lost = talk.read()
            self.assertIn("does not know GET /unit/push (404)", " ".join(lost.remarks))
            self.assertEqual((lost.slots, lost.model), ({}, "Osier 20"))
        device.firmware = "2.9.4"
        talk.identity()
        old = talk.read()
        self.assertEqual(old.slots, {})
        self.assertIn("it pushes from firmware 3.1 on, and has 2.9.4", old.remarks)


class Files(Folder):
    def test_beginnings_are_valid(self):
        for shape in skeleton.SHAPES:
            path = self.file(f"{shape}.yaml", skeleton.make(shape, "A pond camera", f"{shape}.yaml"))
            library.load(str(path))
            library.open_driver(str(path), "x", "http://192.0.2.1", None).close()

    def test_mistakes_are_named_with_their_line(self):
        good = skeleton.make("json", "A pond camera", "x.yaml")
        for old, new, words in (
            ("{at: /size}", "{at: size}", "settings.video.size: 'size' is no JSON pointer"), ("unit: kbit/s, whole", "unit: s, whole", "s is not a unit of it"),
            ("unit: frames}", "unit: frames}\n  video.level: {at: /level, unit: frames}", "video.level"), ('h264: "H.264"', 'h266: "H.266"', "expected one of"),
            ("GET /api/state", "GET api/state", "expected a method and a path"), ("video.size: [1920x1080, 1280x720]", "video.size: [wide]", "expected a size"),
            ("facts: {model: /model", "facts: {model: model", "facts.model: 'model' is no JSON pointer"), ("state: /push/state", "state: push", "slots.state"),
            ("audio.present: {at:", "audio.presence: {at:", "did you mean audio.present"), ("  main: \"\"", "", "channels"),
            ("limits:  ", "together: [{when: {video.size: 1280x720}}]\nlimits:  ", "says nothing"), ("limits:  ", "together: [{when: {mood: good}, push: \"no\"}]\nlimits:  ", "mood"),
            ("  video.size: {at: /size}", "  video.width: {at: /size}", "devices set it by video.size"), ("login: any", "login: any\ndefault_login: admin", "user:password"),
        ):  # fmt: skip
            self.assertIn(old, good, old)
            path = self.file("own.yaml", good.replace(old, new, 1))
            with self.assertRaises(DocumentError) as caught:
                library.load(str(path))
            self.assertIn(words, str(caught.exception))
            self.assertRegex(str(caught.exception), r"own.yaml:\d+: ")
        xml = skeleton.make("xml", "A pond camera", "x.yaml")
        for old, new, words in (
            ("root: settings", "root: .inf", "no XML element can be called '.inf'"), ("root: settings", "root: a/b", "no XML element"),
        ):  # fmt: skip
            self.assertIn(old, xml)
            with self.assertRaisesRegex(DocumentError, words):
                library.load(str(self.file("own.yaml", xml.replace(old, new, 1))))
        marram = library._document("marram-360", None).data
        for change in (
            {"fields": {"scheme": "8000"}}, {"fields": {}, "form": "url+key", "server": "@a/b"}, {"channel": "a[1]/1"},
        ):
            data = {**marram, "slots": {**marram["slots"], **change}}
            document = documents.Document("own.yaml", data)
            with self.assertRaisesRegex(DocumentError, "cannot be sent as XML", msg=str(change)):
                driver_file.check(document, documents.check(document, driver_file.DriverFile))


ODD = (
    0, -1, float("inf"), float("nan"), 10**30, "", "x", "/", "a/b", "{", "{url}", "{channel}", [], {}, None, True, ["x"], {"x": 1},
    {"min": 5, "max": 1}, "8000", "1920x1080", "\x00", "é" * 300, [[]], {"main": "second"},
)  # fmt: skip


class Odd(unittest.TestCase):
    """Driver files with anything anywhere: each is refused, or its driver does with a device what it can."""

    @classmethod
    def setUpClass(cls):
        cls.devices = {"brindle-b2": BrindleB2("op", "pw-1"), "marram-360": Marram("op", "pw-1")}
        for device in cls.devices.values():
            device.start()
            cls.addClassCleanup(device.stop)

    @staticmethod
    def places(data, path=()):
        for key in list(data) if isinstance(data, dict) else range(len(data)) if isinstance(data, list) else ():
            yield (*path, key)
            yield from Odd.places(data[key], (*path, key))

    def test_nothing_breaks_a_driver(self):
        chosen = random.Random(9)
        read = 0
        for name, device in self.devices.items():
            shipped = library._document(name, None)
            whole = [(path, odd) for path in self.places(shipped.data) for odd in ODD]
            for path, odd in chosen.sample(whole, int(os.environ.get("DIREKT_ODD", "250"))):
                data = copy.deepcopy(shipped.data)
                node = data
                for key in path[:-1]:
                    node = node[key]
                node[path[-1]] = odd
                with self.subTest(driver=name, path=path, odd=odd), contextlib.suppress(DirektError):
                    document = documents.Document("odd.yaml", data)
                    file = documents.check(document, driver_file.DriverFile)
                    driver_file.check(document, file)
                    talk = by_file.Driver("cam", file, f"http://127.0.0.1:{device.port}", ("op", Secret("pw-1")))
                    with contextlib.closing(talk):
                        state = talk.read()
                        read += 1
                        talk.health()
                        for channel in state.channels.values():
                            with contextlib.suppress(DirektError):
                                talk.write(channel, {n: v for n, v in channel.values.items() if n in channel.limits})
                        talk.write_slot(1, "main", "rtmp://ingest.tarnlight.example/live", Secret(KEY))
        self.assertGreater(read, 20)


if __name__ == "__main__":
    unittest.main()
