"""One full run through all commands: every JSON document stands alone, and no key is anywhere."""

import json
import subprocess
import time

from tests.support import KEY, LOGIN, RigCli, command, flv_bytes, free_port

PASTED = "FAKE-TARN-4711-2026-VARN"


class Everything(RigCli):
    def setUp(self) -> None:
        super().setUp()
        self.seen: list[str] = []

    def environment(self, **more: str) -> dict[str, str]:
        return super().environment(
            DIREKT_CONFIG=str(self.folder / "config"), PYTHON_KEYRING_BACKEND="keyring.backends.fail.Keyring", **more
        )

    def run_json(self, *arguments: str, code: int = 0, schema: str | None = None, text: str | None = None):
        done = subprocess.run(
            [*command(), *arguments, "--json"], cwd=self.folder, env=self.environment(), input=text or "", text=True,
            capture_output=True, timeout=60,
        )  # fmt: skip
        self.seen += [done.stdout, done.stderr]
        self.assertEqual(done.returncode, code, (arguments, done))
        document = json.loads(done.stdout)
        self.assertEqual(document.get("schema", "").partition("/")[0], schema or f"direkt.{arguments[0]}")
        self.assertNotIn("\x1b", done.stdout + done.stderr)
        return document

    def test_documents_stand_alone_and_hold_no_key(self):
        uplink = (self.folder / "rig.yaml").read_text() + "uplink: {mbit_s: 20}\n"
        self.file("rig.yaml", uplink)
        self.file("a.flv", flv_bytes(3))
        pasted = f"URL: rtmp://rtmp://ingest.tarnlight.example/live/{PASTED}\n"
        document = self.run_json("key", "set", "tarnlight", schema="direkt.key-set", text=pasted)
        self.assertEqual(document["key"], "FA… (24 characters)")
        self.assertEqual(len(document["repairs"]), 3)
        self.run_json("key", "list", schema="direkt.key-list")
        shapes = self.run_json("key", "form", "tarnlight", schema="direkt.key-form")["shapes"]
        self.assertEqual(shapes["url+key"]["server"], "rtmp://ingest.tarnlight.example/live")
        self.run_json("sheet", "list", schema="direkt.sheet-list")
        self.run_json("sheet", "show", "tarnlight:low", schema="direkt.sheet-show")
        self.run_json("sheet", "lint", "tarnlight", schema="direkt.sheet-lint")
        self.run_json("sheet", "compare", "tarnlight", "plainsong-village", schema="direkt.sheet-compare")
        self.run_json("explain", "BP")
        self.run_json("budget")
        self.run_json("reach", "--tries", "1", "--limit", "2s", code=3)
        self.run_json("read")
        self.run_json("match")
        self.run_json("check", "a.flv", "--sheet", "tarnlight", code=1)
        self.run_json("write", "--yes")
        self.assertEqual(self.device._slot["key"], PASTED)
        self.assertEqual(self.run_json("push", "state")["key_length"], 24)
        self.rehearse()
        self.run_json("key", "renew", "tarnlight", schema="direkt.key-renew", text=PASTED.replace("4711", "4712"))
        wrong = self.direkt("write", "--yes", TOWER_LOGIN="operator:not-this-one")
        self.seen += [wrong.out, wrong.err]
        self.search()

    def rehearse(self) -> None:
        """A rehearsal with text output, recorded and reported; the process list is searched while it runs."""
        port = free_port()
        catching = self.start(
            "catch", "--feed", "finish", "--for", "3s", "--keep", "b.flv", "--report", "b.json", "--port", str(port)
        )
        time.sleep(2)
        self.run_json("push", "on", "--rehearse", f"rtmp://127.0.0.1:{port}/live")
        self.seen.append(subprocess.run(["ps", "axeww"], capture_output=True, text=True).stdout)
        result = self.finish(catching)
        self.seen += [result.out, result.err]
        self.run_json("push", "off")
        self.assertEqual(json.loads((self.folder / "b.json").read_text())["schema"], "direkt.catch/1")

    def search(self) -> None:
        """Every file but the store of keys, and every text that came out."""
        for path in self.folder.rglob("*"):
            self.seen.append(path.name)
            if path.is_file() and path.name not in ("keys-secret.json", "secrets.yaml"):
                self.seen.append(path.read_text("latin-1"))
        for text in self.seen:
            for secret in (PASTED, PASTED.replace("4711", "4712"), KEY, "not-this-one"):
                self.assertNotIn(secret, text.replace(f"TOWER_LOGIN={LOGIN}", ""))

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
