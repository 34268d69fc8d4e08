import json
import os
import pty
import select
import subprocess
import time
from unittest import mock

from direkt.work.device import renew
from direkt.work.device.renew import Renewed
from tests.support import KEY, Cli, RigCli, command, free_port, wait_for_port

GOOD, NEW = "varn~fake~turnstone", "varn~fake~greenshank"


class Sheets(Cli):
    def test_new_lint_show_compare_schema(self):
        self.assertEqual(self.direkt("sheet", "new", "own.yaml").code, 0)
        self.one_line(self.direkt("sheet", "new", "own.yaml"), 2, "already exists")
        self.assertEqual(self.direkt("sheet", "lint", "own.yaml", "tarnlight").code, 0)
        text = (self.folder / "own.yaml").read_text()
        self.file("bad.yaml", text.replace("best: 6500", "best: 99999").replace("must: h264", "must: h26"))
        self.file("odd.yaml", text.replace("{must: [main, high], should: high}", "{must: main, should: high}"))
        result = self.direkt("sheet", "lint", "bad.yaml", "odd.yaml", "own.yaml")
        self.assertEqual(result.code, 2)
        self.assertEqual(result.out.count("✗"), 3, result)
        self.assertIn("odd.yaml:", result.out)
        self.assertEqual(
            self.direkt("sheet", "lint", "odd.yaml", "--json").json["sheets"][0]["problems"][0]["text"][:13], "video.profile",
        )
        compared = self.direkt("sheet", "compare", "tarnlight", "plainsong-village")
        self.assertEqual(compared.code, 0)
        self.assertIn("one encoder can satisfy all of them", compared.out)
        self.file("tiny.yaml", "schema: direkt.sheet/1\nname: Tiny\nrules:\n  video.size: {must: 320x180}\n")
        self.assertEqual(
            self.direkt("sheet", "compare", "tarnlight", "tiny.yaml", "--json").json["blockers"][0]["parameter"], "video.size",
        )
        self.one_line(self.direkt("sheet", "compare", "tarnlight"), 2, "at least two")
        head = "schema: direkt.sheet/1\nname: {}\nrules: {{}}\n"
        for name, more in (("silent", ""), ("srt", "protocols: [{protocol: srt, port: 9710}]\n"), ("rtmp", "protocols: [{protocol: rtmp, port: 1935}]\n")):
            self.file(f"{name}.yaml", head.format(name) + more)
        for name, words in (("silent", "which protocols they take is not stated by silent"), ("srt", "push to each by another one")):
            compared = self.direkt("sheet", "compare", "rtmp.yaml", f"{name}.yaml")
            self.assertEqual(compared.code, 0)
            self.assertIn(words, " ".join(compared.out.split()))
            self.assertNotIn("one encoder can satisfy", compared.out)
        for what in ("sheet", "rig", "driver", "check", "key-set"):
            self.assertEqual(self.direkt("schema", what).json["title"], f"direkt {what}")
        self.assertIn("rehearse", self.direkt("schema").out.split())
        self.one_line(self.direkt("schema", "chek"), 2, "did you mean check?")
        self.assertIn("tarnlight:low", self.direkt("sheet", "show", "tarnlight").out)
        self.assertIn("at most 1.6 s", self.direkt("sheet", "show", "tarnlight:low").out)

    def test_a_sheet_for_each_column(self):
        self.file("two.csv", "Setting,Tarnlight,Plainsong Village\nResolution,1080p,720p\nVideo codec,H.264,H.264\nVideo bitrate,6 Mbps,3 Mbps\n")
        result = self.direkt("sheet", "draft", "two.csv")
        self.assertEqual(result.code, 1)
        self.assertIn("direkt sheet draft two.csv --each FOLDER", result.err.replace("\n", " "))
        result = self.direkt("sheet", "draft", "two.csv", "--each", "sheets")
        self.assertEqual((result.code, result.out.split()[::2][:1]), (0, ["sheets/tarnlight.yaml"]), result)
        self.assertIn("1280x720", (self.folder / "sheets/plainsong_village.yaml").read_text())
        self.assertEqual(self.direkt("sheet", "lint", "sheets/tarnlight.yaml", "sheets/plainsong_village.yaml").code, 0)
        before = (self.folder / "sheets/tarnlight.yaml").read_text()
        self.one_line(self.direkt("sheet", "draft", "two.csv", "--each", "sheets"), 2, "sheets/tarnlight.yaml: already exists")
        self.assertEqual((self.folder / "sheets/tarnlight.yaml").read_text(), before)
        self.one_line(self.direkt("sheet", "draft", "two.csv", "--each", "two.csv"), 2, "two.csv")
        self.one_line(self.direkt("sheet", "draft", "two.csv", "--each", "x", "--explain"), 2, "exclude each other")
        self.file("one.csv", "Setting,Value\nVideo codec,H.264\n")
        self.one_line(self.direkt("sheet", "draft", "one.csv", "--each", "x"), 2, "no two columns of it are destinations")
        self.file("same.csv", "Setting,Tarn light,Tarn/light\nResolution,1080p,720p\n")
        self.one_line(self.direkt("sheet", "draft", "same.csv", "--each", "x"), 2, "two columns would both be x/tarn_light.yaml")

    def test_draft(self):
        self.file("t.csv", "Video codec,H.264\nKeyframe interval,2 s\n")
        result = self.direkt("sheet", "draft", "t.csv", "--name", "Copse")
        self.assertEqual(result.code, 0, result)
        self.file("copse.yaml", result.out)
        self.assertEqual(self.direkt("sheet", "lint", "copse.yaml").code, 0)
        self.file("u.csv", "Video codec,H.264\nMood,cheerful\n")
        result = self.direkt("sheet", "draft", "u.csv")
        self.assertEqual(result.code, 0)
        self.assertIn("line 2 not for a sheet: Mood: cheerful", result.err)
        self.assertEqual([one["line"] for one in self.direkt("sheet", "draft", "u.csv", "--json").json["not_for_a_sheet"]], [2])
        self.file("u.csv", "Video codec,H.264\nKeyframe interval,2\n")
        result = self.direkt("sheet", "draft", "u.csv")
        self.assertEqual(result.code, 1)
        self.assertIn("line 2 not understood: Keyframe interval: 2", result.err)
        self.file("u.csv", "Video codec,No H.265\nVideo codec,not VP9\n")
        result = self.direkt("sheet", "draft", "u.csv", "--explain")
        self.assertEqual(result.code, 0)
        self.assertIn("video.codec: not h265 or vp9", result.out)
        self.file("bare.txt", "Bitrate 6000\n")
        self.assertIn("line 1 not understood: Bitrate 6000", self.direkt("sheet", "draft", "bare.txt").err)
        self.file("v.csv", "Mood,cheerful\n")
        self.assertEqual(self.direkt("sheet", "draft", "v.csv").code, 2)
        self.one_line(self.direkt("sheet", "draft", "none.csv"), 2, "no such file")
        for name, data in (
            ("utf16.csv", "Auflösung;1280x720\nBildrate;25\n".encode("utf-16")),
            ("old.csv", "Auflösung;1280x720\nBildrate;25\n".encode("cp1252")),
            ("bom.csv", "Auflösung;1280x720\nBildrate;25\n".encode("utf-8-sig")),
        ):
            self.file(name, data)
            result = self.direkt("sheet", "draft", name)
            self.assertEqual(result.code, 0, result.err)
            self.assertIn("video.size: {must: 1280x720}", result.out)
            self.assertEqual("Windows-1252" in result.err, name == "old.csv")
        self.file("empty.csv", b"")
        for more in ((), ("--explain",), ("--json",)):
            self.one_line(self.direkt("sheet", "draft", "empty.csv", *more), 2, "no table, list or line of settings")
        self.file("sheet.csv", b"PK\x03\x04\x14\0\0")
        self.one_line(self.direkt("sheet", "draft", "sheet.csv"), 2, "no text: byte 5 is 0")
        shown = self.direkt("sheet", "draft", "--explain", "t.csv")
        self.assertRegex(shown.out, r"\[.+\]1")
        self.assertIn("1 video.", shown.out)
        cells = json.loads(self.direkt("sheet", "draft", "--json", "t.csv").out)["cells"]
        for cell in cells:
            for words in cell["words"]:
                self.assertEqual(words["words"], cell["text"][words["start"] : words["end"]])
        self.one_line(self.direkt("sheet", "draft", "x.pdf"), 2, "expected a table in .csv, .md, .html or .txt")

    def test_explain(self):
        self.assertIn("baseline profile, not bits per picture", self.direkt("explain", "BP").out)
        self.assertIn("keyframe interval", self.direkt("explain", "--json").json["terms"])
        self.one_line(self.direkt("explain", "zzqx", "wwvv"), 2, "nothing is known")
        self.one_line(self.direkt("explain", "keyfram"), 2, "a guess: keyframe", "Then: direkt explain keyframe")
        warned = self.direkt("explain", "H.265+")
        self.assertTrue(warned.out.startswith("! H.265+ is no codec but a mode of one"), warned.out)
        self.assertEqual(self.direkt("explain", "H.265+", "--json").json["mode"], "H.265+")
        result = self.direkt(
            "explain", "--calc", "--size", "1920x1080", "--fps", "50", "--kbit", "6900", "--keyframe", "2", "--level", "4.1",
            "--json",
        )
        self.assertEqual(
            (result.code, result.json["keyframe_frames"], result.json["level"], result.json["permitted"]), (1, 100, "4.2", False),
        )
        self.assertEqual(result.json["gigabytes_per_hour"], 3.105)
        self.one_line(self.direkt("explain", "--calc"), 2, "nothing to calculate")


class Keys(RigCli):
    def paste(self, *arguments: str, text: str):
        return self.direkt(*arguments, text=text)

    def test_ctrl_c_between_two_devices_says_which_have_the_new_key(self):
        def renewing(*_):
            yield Renewed("finish", "tower", True)
            raise KeyboardInterrupt

        with mock.patch.object(renew, "renew", renewing):
            result = self.paste("key", "renew", "tarnlight", text=NEW + "\n")
        self.assertEqual(result.code, 130)
        self.assertIn(
            "Interrupted: the new key is kept; it is written to: tower. For the others: direkt key renew tarnlight", result.err,
        )

    def test_set_list_show_form_expose_renew_forget(self):
        rig = (self.folder / "rig.yaml").read_text()
        self.file("rig.yaml", "# our regatta\n" + rig)
        done = self.paste(
            "key", "set", "tarnlight",
            text=f"Server URL: rtmp://rtmp://ingest.tarnlight.example/live/\r\nStream key: \u201c{GOOD}\u201d\r\n",
        )
        self.assertEqual(done.code, 0, done)
        self.assertIn("repaired: the doubled scheme removed", done.out)
        text = (self.folder / "rig.yaml").read_text()
        self.assertIn("# our regatta", text)
        self.assertIn("store:test/tarnlight", text)
        listed = self.direkt("key", "list", "--json").json["keys"][0]
        self.assertEqual((listed["key"], listed["where"], listed["exposed"]), ("va… (19 characters)", "file", False))
        self.assertEqual(self.direkt("key", "show", "tarnlight").out, "va… (19 characters)\n")
        self.one_line(self.direkt("key", "show", "tarnlight", "--reveal"), 2, "on a terminal only")
        form = self.direkt("key", "form", "tarnlight")
        for words in ("url:", "url+key:", "parts:", "ingest.tarnlight.example", "Application  live", "1935"):
            self.assertIn(words, form.out)
        self.one_line(self.direkt("key", "form", "tarnlight", "--reveal"), 2, "on a terminal only")

        self.assertEqual(self.direkt("write", "--yes").code, 0)
        self.assertEqual(self.device._slot["key"], GOOD)
        time.sleep(1)  # saved settings are named to the second
        self.assertEqual(self.direkt("key", "expose", "tarnlight").code, 0)
        self.assertIn("exposed: renew it", self.direkt("key", "list").out)
        self.assertIn("the key was exposed", self.direkt("write", "--yes").err)
        renewed = self.paste("key", "renew", "tarnlight", text=NEW + "\n")
        self.assertEqual(renewed.code, 0, renewed)
        self.assertIn("written  tower (finish)", renewed.out)
        self.assertEqual((self.device._slot["key"], self.device._slot["server"]), (NEW, "rtmp://ingest.tarnlight.example/live"))
        self.assertNotIn("exposed", self.direkt("key", "list").out)
        every = [done.out, done.err, renewed.out, renewed.err, form.out, text]
        every += [p.read_text("latin-1") for p in self.folder.rglob("*") if p.is_file() and p.name != "keys-secret.json"]
        for seen in every:
            self.assertNotIn(GOOD, seen)
            self.assertNotIn(NEW, seen)
        self.assertEqual(self.direkt("key", "forget", "tarnlight").code, 0)
        self.one_line(self.direkt("write", "--yes"), 2, "direkt key set tarnlight")

    def test_refused_pastes_change_nothing(self):
        before = (self.folder / "rig.yaml").read_text()
        for text, words in (
            (GOOD[:12], "ends too early"), (f"rtmp://192.168.0.9/live {GOOD}", "local network"), ("", "nothing came"), (f"rtmp://ingest.tarnlight.example:443/live {GOOD}", "port 443"),
        ):  # fmt: skip
            done = self.paste("key", "set", "tarnlight", text=text)
            self.assertEqual(done.code, 2, done)
            self.assertIn(words, done.err)
            self.assertNotIn(GOOD[10:], done.err + done.out)
        self.assertEqual((self.folder / "rig.yaml").read_text(), before)
        self.assertFalse((self.folder / "config").exists())
        self.one_line(self.direkt("key", "show", "nowhere"), 2, "no destination 'nowhere'")
        self.one_line(self.direkt("key", "expose", "tarnlight"), 2, "not in the store")

    def test_on_a_terminal_the_paste_is_hidden_and_the_key_shown_only_when_asked(self):
        refused = self.on_terminal(["key", "set", "tarnlight"], [GOOD, "", "n"])
        self.assertIn("Keep this? [Y/n]", refused)
        self.assertIn("nothing was kept", refused)
        self.assertFalse((self.folder / "config").exists())
        out = self.on_terminal(["key", "set", "tarnlight"], [GOOD, "", "y"])
        self.assertNotIn(GOOD, out)
        self.assertIn("kept in the key file", out)
        self.assertNotIn(GOOD, self.on_terminal(["key", "show", "tarnlight"], []))
        self.assertIn(GOOD, self.on_terminal(["key", "show", "tarnlight", "--reveal"], []))
        self.assertIn(
            f"rtmp://ingest.tarnlight.example/live/{GOOD}", self.on_terminal(["key", "form", "tarnlight", "--reveal"], []),
        )

    def test_a_paste_of_many_lines_comes_whole_and_answers_nothing(self):
        mail = f"Hello,\n\nserver: rtmp://ingest.tarnlight.example/live\n\ny\n\nStream key: {GOOD}\n\ny\n"
        out = self.on_terminal(["key", "set", "tarnlight"], [mail, "n"])
        self.assertIn("nothing was kept", out)
        self.assertFalse((self.folder / "config").exists())
        out = self.on_terminal(["key", "set", "tarnlight"], [mail, "y"])
        self.assertIn("kept in the key file", out)
        self.assertNotIn(GOOD, out)

    def test_what_is_in_question_is_asked_and_never_kept_without_an_answer(self):
        before = (self.folder / "rig.yaml").read_text()
        odd = f"rtmp://ingest.tarnligth.example/live {GOOD}"
        self.one_line(self.direkt("key", "set", "tarnlight", text=odd), 2, "one letter off")
        self.assertEqual((self.folder / "rig.yaml").read_text(), before)
        self.assertFalse((self.folder / "config").exists())
        self.assertIn("nothing was kept", self.on_terminal(["key", "set", "tarnlight"], [odd, "", ""]))
        self.assertEqual((self.folder / "rig.yaml").read_text(), before)
        out = self.on_terminal(["key", "set", "tarnlight"], [odd, "", "y"])
        self.assertIn("tarnligth.example", out)
        self.assertIn("tarnligth.example", (self.folder / "rig.yaml").read_text())

    def on_terminal(self, arguments: list[str], lines: list[str]) -> str:
        """What a person sees who types the lines, each a while after the other."""
        main, other = pty.openpty()
        child = subprocess.Popen(
            [*command(), *arguments], cwd=self.folder, env=self.environment(TERM="dumb"), stdin=other, stdout=other, stderr=other,
        )
        os.close(other)
        seen, answered = b"", 0
        begin = time.monotonic()
        waiting = list(lines)
        while time.monotonic() - begin < 20:
            try:
                if not select.select([main], [], [], 5)[0]:
                    child.kill()
                    break
                part = os.read(main, 4096)
            except OSError:
                break
            if not part:
                break
            seen += part
            # a line end after a prompt says that it is answered: it may come by itself, before the next prompt
            if waiting and seen[answered:].rstrip(b" ").endswith(b":"):
                time.sleep(0.3)
                os.write(main, waiting.pop(0).encode() + b"\n")
                answered = len(seen)
        child.wait(10)
        os.close(main)
        return seen.decode()

    def test_reach_and_rehearsals_over_tls(self):
        port = free_port()
        catching = self.start(
            "catch", "--feed", "finish", "--for", "2s", "--tls", "--port", str(port), "--host", "127.0.0.1", "--json"
        )
        wait_for_port(port)
        address = f"rtmps://127.0.0.1:{port}/live"
        rig = (self.folder / "rig.yaml").read_text()
        self.file(
            "tls.yaml",
            rig.replace("rtmp://ingest.tarnlight.example/live", address).replace("sheet: tarnlight", "sheet: bare.yaml"),
        )
        self.file("bare.yaml", "schema: direkt.sheet/1\nname: Bare\nrules: {}\n")
        reached = self.direkt("reach", "--rig", "tls.yaml", "--tries", "1", "--json")
        self.assertEqual(reached.code, 3)
        (server,) = reached.json["destinations"][0]["servers"]
        self.assertEqual((server["verdict"], server["detail"]), ("TLS refused", "the certificate is self-signed"))
        self.assertEqual(self.direkt("push", "on", "--rehearse", address).code, 0)
        result = self.finish(catching)
        self.assertIn("SHA-256", result.err)
        self.assertEqual(result.json["measured"]["stream.protocol"], "rtmps")
        self.assertEqual(self.direkt("push", "off").code, 0)

    def test_reach_in_the_clear_and_closed(self):
        port = free_port()
        rig = (self.folder / "rig.yaml").read_text()
        self.file("bare.yaml", "schema: direkt.sheet/1\nname: Bare\nrules: {}\n")
        self.file(
            "near.yaml",
            rig.replace("rtmp://ingest.tarnlight.example/live", f"rtmp://127.0.0.1:{port}/rehearsal").replace(
                "sheet: tarnlight", "sheet: bare.yaml"
            ),
        )
        result = self.direkt("reach", "tarnlight", "--rig", "near.yaml", "--tries", "1")
        self.assertEqual(result.code, 3)
        self.assertIn("port closed", result.out)
        catching = self.start("catch", "--port", str(port), "--wait", "20s")
        wait_for_port(port)
        result = self.direkt("reach", "--rig", "near.yaml")
        self.assertEqual(result.code, 0, result)
        self.assertIn("reachable", result.out)
        catching.kill()
        self.one_line(self.direkt("reach", "nowhere"), 2, "no destination 'nowhere'")

    def test_budget(self):
        self.one_line(self.direkt("budget"), 2, "states no uplink")
        alone = self.direkt("budget", "--up", "15", "--plan", "5", "--hours", "4")
        self.assertEqual(alone.code, 1)
        self.assertIn("not enough", alone.out)
        rig = (self.folder / "rig.yaml").read_text()
        more = (rig + "  second: {device: tower, destination: tarnlight, channel: second, weight: 3}\nuplink: {mbit_s: 12}\n")
        self.file("two.yaml", more)
        document = self.direkt("budget", "--rig", "two.yaml", "--json").json
        first, second = document["feeds"]
        self.assertLess(first["best"]["video_kbit_s"], second["best"]["video_kbit_s"])
        self.assertLessEqual(document["total_kbit_s"], document["limit_kbit_s"])
        matched = self.direkt("match", "finish", "--rig", "two.yaml", "--json").json
        wanted = {s["parameter"]: s["wanted"] for s in matched["steps"]}
        self.assertLess(wanted["video.bitrate.mean"], 8400 - second["best"]["video_kbit_s"])
        self.assertEqual(self.direkt("budget", "--rig", "two.yaml", "--up", "0.5").code, 1)

    def test_keys_from_a_command(self):
        self.file(
            "rig.yaml", (self.folder / "rig.yaml").read_text().replace("file:secrets.yaml#tarnlight", f"command:printf {KEY}"),
        )
        self.assertEqual(self.direkt("rig", "trust", "--yes").code, 0)
        shown = self.direkt("key", "list", "--json").json["keys"][0]["key"]
        self.assertEqual(shown, f"va… ({len(KEY)} characters)")
        self.assertNotIn(KEY, json.dumps(self.direkt("key", "list", "--json").json))
