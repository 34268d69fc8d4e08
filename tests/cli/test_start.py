import io
import re
import subprocess
import sys
from pathlib import Path
from unittest import mock

from rich.console import Console

from direkt.cli.match import print_plan
from direkt.match.plan import Plan, PlannedStep
from tests.support import Cli


class Start(Cli):
    def test_help_lists_the_commands_in_the_order_of_the_work(self):
        result = self.direkt("--help")
        self.assertEqual(result.code, 0)
        names = ["sheet", "read", "match", "write", "catch", "check", "rehearse", "push", "sim", "demo"]
        places = [result.out.index(f"\n  {name} ") for name in names]
        self.assertEqual(places, sorted(places))
        self.assertIn("Exit codes: 0", result.out)
        for name in names:
            page = self.direkt(name, "--help")
            self.assertEqual(page.code, 0, page)
            self.assertNotIn("\b", page.out)
            self.assertNotIn("[default: (", page.out)
        self.assertIn("[default: 60s]", self.direkt("write", "--help").out)
        self.assertIn("[default: 2m]", self.direkt("catch", "--help").out)

    def test_version_completion_and_wrong_use(self):
        self.assertRegex(self.direkt("--version").out, r"^direkt \d+\.\d+\.\d+\n$")
        built = self.finish(self.start(_DIREKT_COMPLETE="bash_source"))
        self.assertIn("_DIREKT_COMPLETE", built.out)
        self.assertEqual(self.direkt("chek").code, 2)
        self.assertEqual(self.direkt("check").code, 2)
        self.assertEqual(self.direkt("push", "up").code, 2)

    def test_what_needs_neither_numbers_nor_the_network_loads_neither(self):
        self.file("rig.yaml", "schema: direkt.rig/1\nname: T\ndestinations: {m: {sheet: tarnlight, server: rtmp://h/live, key: file:s.yaml#a}}\n")
        self.file("s.yaml", "a: varn~fake~heron~1\n", 0o600)
        for words in (("--version",), ("--help",), ("key", "list"), ("key", "form", "m"), ("sheet", "list"), ("sheet", "show", "tarnlight"), ("sheet", "lint", "tarnlight"), ("explain", "1080p50")):
            environment = self.environment(DIREKT_CONFIG=str(self.folder / "c"))
            done = subprocess.run([sys.executable, "-X", "importtime", "-m", "direkt", *words], cwd=self.folder, env=environment, capture_output=True, text=True, timeout=30)
            self.assertEqual(done.returncode, 0, done)
            loaded = set(re.findall(r"\| +(numpy|httpx|asyncio|sqlalchemy)$", done.stderr, re.M))
            self.assertEqual(loaded, set(), words)

    def test_sheets(self):
        listed = self.direkt("sheet", "list", "--json").json
        self.assertEqual([s["id"] for s in listed["sheets"]], ["plainsong-village", "tarnlight"])
        shown = self.direkt("sheet", "show", "tarnlight")
        for words in ("Tarnlight", "video.keyframe_interval.max", "at most 3.6 s", "6900"):
            self.assertIn(words, shown.out)
        document = self.direkt("sheet", "show", "tarnlight", "--json").json
        self.assertEqual(document["schema"], "direkt.sheet-show/1")
        self.assertEqual(document["rules"]["video.codec"]["must"], "h264")
        self.file(
            "bad.yaml", "schema: direkt.sheet/1\nname: x\nrules:\n  video.codek: {must: h264}\n  audio.channels: {must: two}\n",
        )
        result = self.direkt("sheet", "show", "bad.yaml")
        self.assertEqual((result.code, result.out), (2, ""))
        self.assertEqual(len(result.err.splitlines()), 2)
        self.assertIn("bad.yaml:4:", result.err)
        self.one_line(self.direkt("sheet", "show", "nothing"), 2, "shipped are plainsong-village, tarnlight")

    def test_narrow_terminals_get_lines_instead_of_tables(self):
        from tests.support import flv_bytes

        self.file("a.flv", flv_bytes(3))
        result = self.direkt("check", "a.flv", "--sheet", "tarnlight", COLUMNS="60")
        self.assertLessEqual(max(map(len, result.out.splitlines())), 60)
        self.assertIn("✗ FAILS  a.flv", result.out)

    def test_what_a_library_makes_of_ctrl_c_is_an_interruption(self):
        def loading(*_: object) -> None:
            try:
                raise KeyboardInterrupt
            except KeyboardInterrupt as error:
                raise ValueError("Error building the validator") from error

        with mock.patch("direkt.destination.library.load", loading):
            result = self.direkt("sheet", "show", "tarnlight")
        self.assertEqual((result.code, result.err.strip()), (130, "Interrupted: nothing was changed by this command."))

    def test_ctrl_c_that_python_cannot_raise_is_heard_all_the_same(self):
        told = (
            "import signal, sys, time, weakref\nfrom direkt.cli import main as m\n"
            "class Thing: pass\nthing = Thing()\n"
            "def run():\n    global thing\n    thing = None\n    time.sleep(5)\n"
            "ref = weakref.ref(thing, lambda _: signal.raise_signal(signal.SIGINT))\nm.run = run\nsys.argv = ['direkt']\nm.main()"
        )
        done = subprocess.run([sys.executable, "-c", told], capture_output=True, text=True, timeout=30)
        self.assertEqual((done.returncode, done.stderr.strip()), (130, "Interrupted."), done)

    def test_exit_codes_are_those_that_the_readme_lists(self):
        from direkt.cli.exits import ExitCode

        text = (Path(__file__).parents[2] / "README.md").read_text()
        for code in ExitCode:
            self.assertIn(f"\n| {code:d} | ", text)

    def test_on_a_narrow_terminal_changes_come_first_and_what_is_kept_takes_one_line(self):
        plan = Plan((PlannedStep("video.codec", "h264", "h264", "h264", "kept: as asked"), PlannedStep("video.frame_rate", 25, 50, "50 fps", "it is better"),
                     PlannedStep("audio.codec", "aac", "aac", "aac", "kept: as asked")), ())  # fmt: skip
        out = Console(file=io.StringIO(), width=60, highlight=False)
        print_plan(out, plan)
        lines = [line.rstrip() for line in out.file.getvalue().splitlines()]
        self.assertEqual(
            lines, ["→  frame rate", "   25 fps → 50 fps  required: 50 fps", "✓  stays", "   video codec h264, audio codec aac"]
        )
