from tests.support import Cli


class Start(Cli):
    def test_help_lists_the_commands_in_the_order_of_the_work(self):
        result = self.direkt("--help")
        self.assertEqual(result.code, 0)
        names = ["sheet", "read", "match", "write", "catch", "check", "push", "sim", "demo"]
        places = [result.out.index(f"\n  {name} ") for name in names]
        self.assertEqual(places, sorted(places))
        self.assertIn("Exit codes: 0", result.out)
        for name in names:
            page = self.direkt(name, "--help")
            self.assertEqual(page.code, 0, page)
            self.assertNotIn("\b", page.out)

    def test_version_completion_and_wrong_use(self):
        self.assertRegex(self.direkt("--version").out, r"^direkt \d+\.\d+\.\d+\n$")
        self.assertIn("_DIREKT_COMPLETE", self.direkt(_DIREKT_COMPLETE="bash_source").out)
        self.assertEqual(self.direkt("chek").code, 2)
        self.assertEqual(self.direkt("check").code, 2)
        self.assertEqual(self.direkt("push", "up").code, 2)

    def test_sheets(self):
        listed = self.direkt("sheet", "list", "--json").json
        self.assertEqual([s["id"] for s in listed["sheets"]], ["plainsong-village", "tarnlight"])
        shown = self.direkt("sheet", "show", "tarnlight")
        for words in ("Tarnlight", "video.keyframe_interval.max", "at most 4 s", "6900"):
            self.assertIn(words, shown.out)
        document = self.direkt("sheet", "show", "tarnlight", "--json").json
        self.assertEqual(document["schema"], "direkt.sheet-show/1")
        self.assertEqual(document["rules"]["video.codec"]["must"], "h264")
        self.file(
            "bad.yaml",
            "schema: direkt.sheet/1\nname: x\nrules:\n  video.codek: {must: h264}\n  audio.channels: {must: two}\n",
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
        self.assertIn("✗ fail", result.out)
