"""Setup cards: what stands on them, in every form; typed in by somebody who mistypes; scanned; and the settings file."""

import io
import json
import re
import time
import unittest

import cv2
import jsonschema
import numpy as np
import pypdfium2
from lxml import etree
from PIL import Image

from direkt.destination import library
from direkt.finding import Verdict
from direkt.judge import judge_sent
from direkt.protocol.schemes import SCHEMES
from direkt.report import card as cards
from direkt.report import card_drawn, card_page
from direkt.secret import Secret
from direkt.sim import rig as demo
from direkt.sim.kelpie import Kelpie
from direkt.sim.typist import MISTAKES, type_card
from direkt.work.stream.reception import Reception
from tests.support import Cli, free_port

RIG = """\
schema: direkt.rig/1
name: Lake Varn Regatta
devices:
  roof-cam: {driver: kelpie-h1}
  launch-cam: {driver: marram-360, address: "http://127.0.0.1:9", login: "file:secrets.yaml#launch-cam"}
destinations:
  roof: {sheet: tarnlight, server: "rtmp://ingest.tarnlight.example/live", key: "file:secrets.yaml#roof"}
  village: {sheet: plainsong-village, server: "rtmp://push.plainsong.example/village", key: "file:secrets.yaml#village"}
feeds:
  roof: {device: roof-cam, destination: roof}
  launch: {device: launch-cam, destination: village}
"""
KEY = "varn~fake~Lapw1ng0"


class Cards(Cli):
    def setUp(self):
        super().setUp()
        self.file("rig.yaml", RIG)
        self.file("secrets.yaml", f"roof: {KEY}\nvillage: varn~fake~wren\nlaunch-cam: operator:fake\n", 0o600)

    def test_the_devices_own_words_in_the_order_of_its_menus(self):
        text = self.direkt("card", "roof").out
        places = re.findall(r"^\[ \] (MENU .*)$", text, re.MULTILINE)
        self.assertEqual([p.rpartition("> ")[2] for p in places], ["LIVE AUDIO", "QUALITY", "SERVER URL", "STREAM ID", "START"])
        for words in ("        B 720/50", "(1280x720, 50 fps, 3600 kbit/s)", "rtmp://ingest.tarnlight.example/live", "While it records UHD",
                      "Open the event on its lock-keeper page (11 minutes before the push)", "direkt catch --feed roof", "l small L"):  # fmt: skip
            self.assertIn(words, text)
        self.assertNotIn(KEY, text)
        self.assertIn("(18 characters)", text)
        self.assertLess(text.index("lock-keeper"), text.index("SERVER URL"))
        self.assertLess(text.index("START"), text.index("Close the event"))
        for line in text.splitlines():
            self.assertLess(len(line), 80)

    def test_the_key_stands_on_it_only_when_that_is_wanted_and_then_only_for_its_owner(self):
        for kind in ("txt", "html", "pdf", "png"):
            for reveal in (False, True):
                name = f"{reveal}.{kind}"
                done = self.direkt("card", "roof", "-o", name, *(["--reveal"] if reveal else []))
                self.assertEqual(done.code, 0, done)
                path = self.folder / name
                self.assertEqual(path.stat().st_mode & 0o777, 0o600 if reveal else 0o644)
                self.assertNotIn(KEY, done.out + done.err)
                if kind in ("txt", "html"):
                    self.assertEqual(KEY in path.read_text(), reveal)
        self.assertIn("already exists", self.direkt("card", "roof", "-o", "True.txt").err)
        shown = self.direkt("card", "roof", "--reveal", "--json").json
        jsonschema.validate(shown, self.direkt("schema", "card").json)
        self.assertEqual([s["value"] for s in shown["steps"]][2:4], ["rtmp://ingest.tarnlight.example/live", KEY])
        hidden = self.direkt("card", "roof", "--json").json
        self.assertEqual((hidden["steps"][3]["value"], hidden["code"]), (None, None))

    def test_one_sheet_of_paper_and_a_phone(self):
        self.direkt("card", "roof", "--reveal", "-o", "a.pdf")
        document = pypdfium2.PdfDocument(self.folder / "a.pdf")
        self.assertEqual((len(document), [round(n) for n in document[0].get_size()]), (1, [595, 842]))
        text = document[0].get_textpage().get_text_range()
        self.assertIn("MENU > NETWORK > LIVE > QUALITY", text)
        self.direkt("card", "roof", "-o", "a.png")
        with Image.open(self.folder / "a.png") as image:
            self.assertEqual(image.size[0], 1080)
        self.direkt("card", "roof", "-o", "a.html")
        page = (self.folder / "a.html").read_text()
        self.assertIn("width=device-width", page)
        self.assertNotRegex(page, r"(src|href)=[\"']?(?!data:)[a-z]+:")

    def test_a_settings_file(self):
        done = self.direkt("card", "roof", "--file")
        path = self.folder / "LIVE.SET"
        self.assertEqual(
            path.read_text(), f"[LIVE]\nQUALITY=B 720/50\nURL=rtmp://ingest.tarnlight.example/live\nID={KEY}\nAUDIO=ON\n",
        )
        self.assertEqual((done.code, path.stat().st_mode & 0o777), (0, 0o600))
        self.assertIn("LOAD", done.err)
        self.assertNotIn(KEY, done.err)
        self.one_line(self.direkt("card", "roof", "--file", "--json"), 2, "leave out")

    def test_wrong_use(self):
        self.one_line(self.direkt("card", "roof", "-o", "a.doc"), 2, ".html, .pdf, .png or .txt")
        self.one_line(self.direkt("card", "roof", "-o", "no/such/a.txt"), 2, "cannot be written")
        self.one_line(self.direkt("write", "roof", "--yes"), 2, "set by hand", "direkt card")
        self.one_line(self.direkt("push", "on", "roof"), 2, "set by hand")
        self.one_line(self.direkt("card", "launch"), 3, "launch-cam")
        self.file("rig.yaml", RIG.replace("{driver: kelpie-h1}", "{driver: brindle-b2}"))
        self.one_line(self.direkt("card", "roof"), 2, "needs the device's address")

    def test_what_cannot_be_met_or_does_not_fit_stands_on_it(self):
        self.file("strict.yaml", "schema: direkt.sheet/1\nname: S\nrules: {video.size: {must: 1920x1080}}\n")
        long = "rtmp://ingest.tarnlight.example/" + "a" * 100
        self.file(
            "rig.yaml",
            RIG.replace("roof: {sheet: tarnlight", "roof: {sheet: strict.yaml").replace(
                "rtmp://ingest.tarnlight.example/live", long
            ),
        )
        done = self.direkt("card", "roof")
        self.assertEqual(done.code, 1)
        self.assertIn("!!! picture size", done.out)
        self.assertIn("132 characters; the device takes 96", " ".join(done.out.split()))

    def test_a_key_that_is_too_long_is_told_without_showing_it(self):
        self.file("secrets.yaml", f"roof: {KEY}{'a' * 90}\nvillage: x\nlaunch-cam: a:b\n", 0o600)
        done = self.direkt("card", "roof")
        self.assertEqual(done.code, 1, done)
        self.assertIn("!!! 108 characters; the device takes ", done.out)
        self.assertIn("STREAM ID: 108 characters", done.err)
        self.assertNotIn("Lapw1ng0", done.out + done.err)
        self.assertTrue(self.direkt("card", "roof", "--json").json["steps"][3]["too_long"])
        for kind in ("html", "pdf", "png"):
            self.assertEqual(self.direkt("card", "roof", "-o", f"c.{kind}").code, 1)
        self.assertIn("108 characters; the device takes", (self.folder / "c.html").read_text())

    def test_a_key_sets_no_other_fields_of_a_code_or_a_file(self):
        driver = "schema: direkt.driver/1\nkind: hand\ntitle: X\nchannels: {main: {}}\ncard: {form: url, code: %s, file: %s}\n"
        self.file("rig.yaml", RIG.replace("kelpie-h1", "d.yaml"))

        def tried(key, code, file="{name: a.txt, content: 'x={push.key}'}"):
            self.file("secrets.yaml", f"roof: {json.dumps(key)}\n", 0o600)
            self.file("d.yaml", driver % (code, file))
            return self.direkt("card", "roof", "--reveal", "--json")

        plain = "{content: 'L;key={push.key};mode=1'%s}"
        for key in ("varn~fake;mode=2", "varn~fake;"):
            done = tried(key, plain % "")
            self.assertEqual((done.code, done.json["code"]), (0, None))
            self.assertIn("No picture code: the key has a character", " ".join(self.direkt("card", "roof", "--reveal").out.split()))
        self.assertEqual(tried("varn~fake=a/b:c?d", plain % "").json["code"], "L;key=varn~fake=a/b:c?d;mode=1")
        escape = ", escape: {';': '\\;', '\\': '\\\\'}"
        self.assertEqual(tried("a;b\\c", plain % escape).json["code"], "L;key=a\\;b\\\\c;mode=1")
        self.assertEqual(tried("a;b c&d", "{content: 'k={push.key};', coding: url}").json["code"], "k=a%3Bb%20c%26d;")
        shown = tried("a<b&'\"", "{content: '<k v=\"{push.key}\"/>', coding: xml}").json["code"]
        self.assertEqual(etree.fromstring(shown).get("v"), "a<b&'\"")
        tried("a;b", plain % "", "{name: a.ini, content: \"key={push.key}\\n; a comment\\nmode=1\\n\"}")
        self.one_line(self.direkt("card", "roof", "--file"), 2, "the key has a character that the settings file uses itself (;)")
        self.file("d.yaml", driver % ("{content: a, coding: json, escape: {a: b}}", "{name: a, content: b}"))
        lint = self.direkt("driver", "lint", "d.yaml")
        self.assertIn("only with coding plain", lint.out + lint.err)

    def test_drivers_own_mistakes(self):
        text = "schema: direkt.driver/1\nkind: hand\ntitle: X\nchannels: {main: {}}\n"
        for more, words in (
            ("card: {code: {content: 'a{b}'}}", "nothing called 'b'"), ("card: {code: {content: 'a{'}}", "a brace alone"),
            ("card: {longest: {url: 5}}", "the form has server, key"), ("card: {file: {name: ../x, content: a}}", "name"),
            ("menus: {video.nonsense: [A]}", "unknown parameter"), ("requests: {state: GET /x}", "answers none"),
        ):  # fmt: skip
            self.file("d.yaml", text + more + "\n")
            result = self.direkt("driver", "lint", "d.yaml")
            self.assertEqual(result.code, 2, result)
            self.assertIn(words, result.out + result.err)
        self.file("d.yaml", text + 'card: {form: url, code: {coding: json, content: \'{{"u": "{push.url}"}}\'}}\n')
        self.file("rig.yaml", RIG.replace("kelpie-h1", "d.yaml"))
        self.file("secrets.yaml", 'roof: "varn~fake~\\"x"\n', 0o600)
        code = self.direkt("card", "roof", "--reveal", "--json").json["code"]
        self.assertEqual(json.loads(code), {"u": 'rtmp://ingest.tarnlight.example/live/varn~fake~"x'})
        hidden = self.direkt("card", "roof")  # one field for both: the address stands there all the same
        self.assertIn("rtmp://ingest.tarnlight.example/live/", hidden.out)
        self.assertNotIn("fake~", hidden.out)
        self.assertLess(max(map(len, hidden.out.splitlines())), 80)


class Drawn(unittest.TestCase):
    def card(self, **more):
        steps = (cards.CardStep(("A",), "rtmp://a/b", kind="type"),)
        given = {"rig": "R", "feed": "f", "device": "d", "model": "m", "destination": "t", "made": "now", "steps": steps}
        return cards.Card(**{**given, **more})

    def test_a_full_card_still_fits_and_a_monster_is_refused(self):
        import random

        chance = random.Random(1)
        for many in (1, 24):
            words = tuple(" ".join("word" * chance.randrange(1, 4) for _ in range(12)) for _ in range(many))
            steps = tuple(cards.CardStep((f"MENU {n}", "SUB"), "Varn-fake~" * 4, kind="type") for n in range(many // 6))
            drawn = card_drawn.pdf(self.card(before=words[: many // 2], after=words[many // 2 :], steps=steps))
            self.assertEqual(len(pypdfium2.PdfDocument(drawn)), 1)
        with self.assertRaisesRegex(Exception, "does not fit one sheet"):
            card_drawn.pdf(self.card(before=("word " * 50,) * 60))
        for draw in (card_drawn.pdf, card_drawn.png):
            with self.assertRaisesRegex(Exception, "letters that cannot be drawn"):
                draw(self.card(steps=(cards.CardStep(("A",), "鍵", kind="type"),)))

    def test_names_of_other_alphabets_are_drawn_and_what_is_not_is_said(self):
        names = ("Regata na jeziorze Łyńskim", "Ρεγκάτα", "Озёрная регата", "Żółw – ½ … → ≤", "a\u0301")
        card = self.card(before=names, rig="名前", after=("שלום",))
        self.assertEqual(card_drawn.lacking(card), "名前שלום")
        self.assertEqual(card_drawn.lacking(self.card(before=names)), "")
        text = pypdfium2.PdfDocument(card_drawn.pdf(card))[0].get_textpage().get_text_range()
        for name in (*names[:4], "á", "□□; made now"):
            self.assertIn(name, text)
        one, other = (np.asarray(Image.open(io.BytesIO(card_drawn.png(self.card(rig=rig))))) for rig in "ЯЖ")
        self.assertTrue((one != other).any())  # not the same box for both

    def test_address_and_key_are_one_line_to_copy_and_no_letter_is_small(self):
        url, key = "rtmp://ingest.tarnlight.example:1935/live?a=b&c=d/" + "e" * 60, "varn~fake~Lapw1ng0-0OIl|rnm5S"
        steps = (cards.CardStep(("A",), url, kind="type"), cards.CardStep(("B",), key, kind="type"))
        page = pypdfium2.PdfDocument(card_drawn.pdf(self.card(steps=steps, before=("word " * 12,) * 24)))[0]
        text = page.get_textpage()
        lines = text.get_text_range().split("\r\n")
        self.assertIn(url, lines)
        self.assertIn(key, lines)
        self.assertIn("tilde", lines)
        drawn = [n for n, letter in enumerate(text.get_text_range()) if not letter.isspace()]
        sizes = {round(pypdfium2.raw.FPDFText_GetFontSize(text, n), 1) for n in drawn}
        self.assertGreaterEqual(min(sizes), 7.0, sizes)

    def test_every_pair_that_is_mistaken_is_marked(self):
        for pair in ("cC", "vV", "sS", "6G", "9g", "0O", "1l", "lI", "5S", "2Z", "8B"):
            with self.subTest(pair):
                names = [name for _, name in cards.marked(pair)]
                self.assertTrue(all(names), names)
                self.assertNotEqual(*names)
        self.assertEqual([name for _, name in cards.marked("barn")], ["", "", "small r", "small n"])
        self.assertEqual(dict(cards.marked("arm")), {"a": "", "r": "", "m": "small m"})
        self.assertIn(("rn", "small r, small n"), self.card(steps=(cards.CardStep((), "arn", kind="type"),)).look_alikes)

    def test_words_of_anything(self):
        odd = '<script>alert(1)</script> & "quotes" ‮ 名前 \x00 ' + "x" * 300
        card = self.card(
            before=(odd,), warnings=(odd,), steps=(cards.CardStep((odd,), odd[:20]), cards.CardStep(("A",), "a b", kind="type")),
            facts=(cards.Fact("video.codec", odd),),
        )
        self.assertNotIn("<script>", card_page.page(card))
        self.assertTrue(cards.text(card))
        self.assertTrue(card_drawn.png(card))
        card_drawn.pdf(card)

    def test_groups_are_the_text(self):
        import random

        chance = random.Random(3)
        for _ in range(500):
            text = "".join(chance.choice("abcdefgXYZ0189~-_./: äß") for _ in range(chance.randrange(40)))
            self.assertEqual("".join(cards.groups(text)), text)
            self.assertTrue(all(len(g.rstrip("~-_./: ")) <= 8 for g in cards.groups(text)))


class Scanned(Cli):
    def test_a_vision_package_and_the_camera_read_the_code(self):
        demo.lay_out(self.folder / "d", {name: free_port() for name in demo.NAMES})
        camera = demo.gear(
            self.folder / "d", "umpire-launch",
            int(re.search(r"umpire-launch:.*?127.0.0.1:(\d+)", (self.folder / "d" / "rig.yaml").read_text(), re.DOTALL)[1]),
        )
        camera.start()
        self.addCleanup(camera.stop)
        rig = ["--rig", "d/rig.yaml"]
        done = self.direkt("card", "launch", *rig)
        self.assertIn("to print it add --reveal", " ".join(done.out.split()))
        for kind in ("png", "pdf", "html"):
            self.assertEqual(self.direkt("card", "launch", "--reveal", "-o", f"c.{kind}", *rig).code, 0)
        content = self.direkt("card", "launch", "--reveal", "--json", *rig).json["code"]
        picture = Image.open(io.BytesIO((self.folder / "c.png").read_bytes())).convert("L")
        page = pypdfium2.PdfDocument(self.folder / "c.pdf")[0].render(scale=4).to_pil().convert("L")
        import base64

        inside = base64.b64decode(re.search(r"base64,([^\"]+)", (self.folder / "c.html").read_text())[1])
        for image in (picture, page, Image.open(io.BytesIO(inside)).convert("L")):
            self.assertEqual(cv2.QRCodeDetector().detectAndDecode(np.asarray(image))[0], content)
        self.assertEqual(self.direkt("sim", "d", "--scan", "c.png").code, 0)
        self.assertEqual(
            (camera.stream, camera.app, camera.now["mode"], camera.now["sound"]),
            (demo.KEYS["plainsong"], "village", "1280x720/25", "on"),
        )
        picture.crop((0, 0, 200, 200)).save(self.folder / "no.png")
        self.assertIn("no code of mine", self.direkt("sim", "d", "--scan", "no.png").out)
        self.file("none.png", "no picture")
        self.assertIn("no picture", self.direkt("sim", "d", "--scan", "none.png").out)


# what catch says of each mistake: of a connection, of the stream, or that nothing comes
_TOLD = {
    "scheme-twice": None, "http": None, "uhd": None, "no-start": None,
    "slash-behind": "ends with a slash: remove it", "no-application": "nothing after the host: it must end with /live",
    "application": "expected 'live': check the server address", "key-behind-server": "the key is in its server address",
    "look-alike": "taken for others that look like them", "swapped": "two neighbouring characters swapped",
    "missing": "one character of its key is missing", "doubled": "one character too many", "capitals": "capital and small letters",
    "space": "a space before or after it", "no-key": "the end of its key is missing",
    "preset": "video.size", "muted": "audio.silent",
}  # fmt: skip


class Mistyped(Cli):
    def test_every_mistake_is_caught_with_the_right_advice(self):
        self.assertEqual(_TOLD.keys(), MISTAKES.keys())
        self.file("rig.yaml", RIG)
        self.file("secrets.yaml", f"roof: {KEY}\nvillage: x\nlaunch-cam: a:b\n", 0o600)
        text = self.direkt("card", "roof", "--reveal", "-o", "c.txt") and (self.folder / "c.txt").read_text()
        sheet = library.load("tarnlight")
        for name, wanted in [*_TOLD.items(), ("", "")]:
            with self.subTest(name), Reception(SCHEMES["rtmp"], "live", Secret(KEY)) as reception:
                port = reception.open("127.0.0.1", 0)
                device = Kelpie()
                device.start()
                try:
                    for path, value in type_card(text, (name,) if name else (), f"rtmp://127.0.0.1:{port}/live"):
                        if device.type(path, value):
                            break
                    end = time.monotonic() + (1.0 if wanted is None else 12.0)
                    seconds = 2.1 if name in ("preset", "muted", "") else 0.1
                    rehearsal = reception.rehearsal
                    while time.monotonic() < end and not rehearsal.refusals and rehearsal.meter.seconds < seconds:
                        time.sleep(0.05)
                        reception.poll()
                finally:
                    device.stop()
                told = " ".join(rehearsal.refusals)
                self.assertNotIn(KEY, told)
                if wanted is None:
                    self.assertEqual((rehearsal.refusals, rehearsal.first), ({}, None))
                elif name in ("preset", "muted", ""):
                    judgement = judge_sent(sheet, rehearsal.snapshot().found)
                    off = {f.parameter for f in judgement.findings if f.verdict in (Verdict.FAIL, Verdict.ADVISE)}
                    if name == "preset":
                        self.assertEqual(rehearsal.snapshot().values["video.frame_rate"], 25.0)
                        self.assertIn("video.frame_rate", off)
                    else:
                        self.assertEqual("audio.silent" in off, name == "muted")
                        self.assertNotIn("video.size", off)
                else:
                    self.assertIn(wanted, told)

    def test_what_is_typed_and_what_cannot_be(self):
        self.assertIn("scheme-twice", self.direkt("sim", "--mistake", "list").out)
        self.file("no.txt", "nothing")
        self.one_line(self.direkt("sim", ".", "--type", "no.txt"), 2, "no setup card")
        self.file("c.txt", "[ ] A > B\n        (the key)\n")
        self.one_line(self.direkt("sim", ".", "--type", "c.txt"), 2, "the key is not on this card")
        self.file("d.txt", "[ ] A > B\n        x\n")
        self.one_line(self.direkt("sim", ".", "--type", "d.txt", "--mistake", "x"), 2, "no mistake called 'x'")
        self.one_line(self.direkt("sim", ".", "--type", "d.txt"), 3, "no camcorder is on")


if __name__ == "__main__":
    unittest.main()
