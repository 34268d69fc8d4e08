"""One full run through all commands: every JSON document stands alone, and no key is anywhere."""

import json
import subprocess

import jsonschema

from direkt.cli.documents import documents
from tests import stage
from tests.cli import test_devices
from tests.support import KEY, LOGIN, RigCli, command, flv_bytes, free_port, wait_for_port

PASTED, RENEWED = "varn~fake~turnstone", "varn~fake~greenshank"


class Everything(RigCli):
    def setUp(self) -> None:
        super().setUp()
        self.seen: list[str] = []
        self.fitted: set[str] = set()

    def run_json(self, *arguments: str, code: int = 0, schema: str | None = None, text: str = ""):
        """Runs a command; its document must be all of standard output, and fit the schema that ``direkt schema`` prints."""
        result = self.direkt(*arguments, "--json", text=text)
        self.seen += [result.out, result.err]
        self.assertEqual(result.code, code, (arguments, result))
        name = schema or arguments[0]
        document = result.json
        self.assertEqual(document["schema"], f"direkt.{name}/1")
        jsonschema.validate(document, self.direkt("schema", name).json)
        self.assertNotIn("\x1b", result.out + result.err)
        self.fitted.add(name)
        return document

    def test_options_that_had_other_names(self):
        for old, new in (("--no-mend", "--no-recover"), ("--no-tell", "--no-notify")):
            found = self.direkt("watch", old)
            self.assertEqual((found.code, f"{old} is called {new} now" in found.err), (2, True), found)
            self.assertNotIn(old, self.direkt("watch", "--help").out)

    def test_documents_stand_alone_and_hold_no_key(self):
        uplink = (self.folder / "rig.yaml").read_text() + "uplink: {mbit_s: 20}\n"
        self.file("rig.yaml", uplink)
        self.file("a.flv", flv_bytes(3))
        pasted = f"URL: rtmp://rtmp://ingest.tarnlight.example/live/{PASTED}\n"
        document = self.run_json("key", "set", "tarnlight", schema="key-set", text=pasted)
        self.assertEqual(document["key"], "va… (19 characters)")
        self.assertEqual(len(document["repairs"]), 3)
        self.run_json("key", "list", schema="key-list")
        places = {name: f"rtmp://{name}.tarnlight.example/live" for name in ("north", "south")}
        entries = "".join(f'  {name}: {{sheet: tarnlight, server: "{place}", key: "store:two/{name}"}}\n' for name, place in places.items())
        self.file("two.yaml", f"schema: direkt.rig/1\nname: Two\ndestinations:\n{entries}")
        pasted = "".join(f"{place}\nvarn~fake~{name}erly\n" for name, place in places.items())
        document = self.run_json("key", "set", "--each", "--rig", "two.yaml", schema="key-set-each", text=pasted)
        self.assertEqual([one["key"] for one in document["destinations"]], ["va… (19 characters)"] * 2)
        self.run_json("rig", "trust", "--yes", schema="rig-trust")
        forms = self.run_json("key", "form", "tarnlight", schema="key-form")["forms"]
        self.assertEqual(forms["url+key"]["server"], "rtmp://ingest.tarnlight.example/live")
        self.run_json("sheet", "list", schema="sheet-list")
        self.run_json("sheet", "show", "tarnlight:low", schema="sheet-show")
        self.run_json("sheet", "lint", "tarnlight", schema="sheet-lint")
        self.run_json("sheet", "compare", "tarnlight", "plainsong-village", schema="sheet-compare")
        self.file("t.csv", "Video codec,H.264\nMood,cheerful\n")
        self.run_json("sheet", "draft", "t.csv", schema="sheet-draft")
        self.file("two.csv", "Setting,Tarnlight,Plainsong\nResolution,1080p,720p\n")
        self.run_json("sheet", "draft", "two.csv", "--each", "sheets", schema="sheet-drafts")
        self.file("a.flv", flv_bytes(3))
        self.run_json("compare", "a.flv", "a.flv")
        self.run_json("explain", "BP")
        self.run_json("explain")
        self.run_json("explain", "--calc", "--kbit", "6900", "--size", "1920x1080", "--fps", "50", schema="explain-calc")
        self.run_json("budget")
        self.run_json("reach", "--tries", "1", "--limit", "2s", code=3)
        self.run_json("read")
        self.run_json("match")
        self.assertIsNone(self.run_json("card")["code"])
        self.run_json("check", "a.flv", "--sheet", "tarnlight", code=1)
        self.run_json("write", "--yes")
        self.assertEqual(self.device._slot["key"], PASTED)
        self.assertEqual(self.run_json("push", "state")["key_length"], len(PASTED))
        self.catch()
        document = self.run_json("rehearse", "--replace", "--for", "1s", "--keep", "c.flv", "--report", "c.json")
        self.assertEqual(document["put_back"]["proven"], True)
        self.assertEqual(self.run_json("device", "learned", schema="device-learned")["lessons"], [])
        self.run_json("key", "renew", "tarnlight", schema="key-renew", text=RENEWED)
        self.assertEqual(
            self.fitted, set(documents()) - test_devices.DOCUMENTS - stage.DOCUMENTS,
            "every document was made and fits its schema",
        )
        wrong = self.direkt("write", "--yes", DIREKT_TOWER_LOGIN="operator:not-this-one")
        self.seen += [wrong.out, wrong.err]
        self.search()

    def catch(self) -> None:
        """A push to here, recorded and reported; the process list is searched while it runs."""
        port = free_port()
        catching = self.start(
            "catch", "--feed", "finish", "--for", "1s", "--keep", "b.flv", "--report", "b.json", "--port", str(port), "--json",
        )
        wait_for_port(port)
        self.run_json("push", "on", "--rehearse", f"rtmp://127.0.0.1:{port}/live")
        listed = subprocess.run(["ps", "axeww"], capture_output=True, text=True).stdout.splitlines()
        own = [line for line in listed if str(self.folder) in line]  # other tests run beside this one
        self.assertTrue(any(f"--port {port}" in line for line in own), own)
        self.seen += own
        result = self.finish(catching)
        self.seen += [result.out, result.err]
        self.run_json("push", "off")
        document = json.loads((self.folder / "b.json").read_text())
        self.assertEqual(document, result.json)
        jsonschema.validate(document, self.direkt("schema", "catch").json)
        self.fitted.add("catch")

    def search(self) -> None:
        """Every file but the store of keys, and every text that came out."""
        for path in self.folder.rglob("*"):
            self.seen.append(path.name)
            if path.is_file() and path.name not in ("keys-secret.json", "secrets.yaml"):
                self.seen.append(path.read_text("latin-1"))
        for text in self.seen:
            for secret in (PASTED, RENEWED, KEY, "not-this-one"):
                self.assertNotIn(secret, text.replace(f"DIREKT_TOWER_LOGIN={LOGIN}", ""))

    def test_colour_is_for_terminals_only(self):
        for arguments in (("read",), ("match",), ("sheet", "show", "tarnlight"), ("explain", "gop"), ("key", "list")):
            result = self.direkt(*arguments)
            self.assertEqual(result.code, 0, result)
            self.assertNotIn("\x1b", result.out + result.err)

    def test_a_reader_that_goes_away_is_no_error(self):
        done = subprocess.run(
            f"{' '.join(command())} sheet show tarnlight | head -1", shell=True, cwd=self.folder, env=self.environment(),
            text=True, capture_output=True, timeout=60,
        )  # fmt: skip
        self.assertEqual((len(done.stdout.splitlines()), done.stderr), (1, ""))
