"""What a rig from somebody else may do before it is trusted, and after."""

import os
import sys
from pathlib import Path

from direkt.destination import references
from direkt.destination.allowed import Trust
from direkt.destination.references import SecretError, Sources
from direkt.rig.trust import TrustStore, content_of
from tests.support import KEY, Cli, Folder

RIG = """\
schema: direkt.rig/1
name: Foreign
devices:
  tower: {driver: maker.yaml, address: "http://127.0.0.1:9", login: "env:SECRET_OF_MINE"}
destinations:
  a: {sheet: tarnlight, server: "rtmp://ingest.example/live", key: "command:python3 mark.py"}
  b: {sheet: tarnlight, server: "rtmp://ingest.example/live", key: "file:../elsewhere.yaml#key"}
"""


class Store(Folder):
    def test_trust_holds_for_a_path_and_a_content(self):
        store, path = TrustStore(self.folder / "config"), self.file("rig.yaml", "a")
        self.assertEqual(store.look_up(path, content_of(path)), Trust(rig=str(path)))
        store.add(path, content_of(path), ["B", "A"])
        self.assertEqual(store.look_up(path, content_of(path)), Trust(True, frozenset("AB"), rig=str(path)))
        other = self.file("other.yaml", "a")
        self.assertFalse(store.look_up(other, content_of(other)).commands, "the same content elsewhere")
        path.write_text("b")
        self.assertEqual(store.look_up(path, content_of(path)), Trust(changed=True, rig=str(path)))
        path.write_text("a")
        part = self.file("maker.yaml", "driver")
        self.assertNotEqual(content_of(path), content_of(path, [part]))
        self.assertEqual((self.folder / "config" / "trusted.yaml").stat().st_mode & 0o777, 0o600)
        store.remove(path)
        self.assertEqual(store.look_up(path, content_of(path)), Trust(rig=str(path)))
        (self.folder / "config" / "trusted.yaml").write_text("rigs: [nonsense")
        self.assertEqual(store.look_up(path, content_of(path)), Trust(rig=str(path)), "what cannot be read is not trusted")

    def test_what_references_may_do(self):
        inside = self.folder / "rig"
        inside.mkdir()
        self.file("elsewhere.yaml", f"key: {KEY}\n", 0o600)
        (inside / "link.yaml").symlink_to(self.folder / "elsewhere.yaml")
        sources = Sources({"MINE": KEY, "DIREKT_X": KEY})
        for text, words in (
            ("env:MINE", "MINE is not read"), ("env:DIREKT_X", "DIREKT_X is not read"), ("file:../elsewhere.yaml#key", "outside the rig's folder"),
            (f"file:{self.folder}/elsewhere.yaml#key", "outside"), ("file:link.yaml#key", "outside"),
            ("command:touch marked", "'touch' is not started"),
        ):  # fmt: skip
            with self.assertRaisesRegex(SecretError, f"{words}.*direkt rig trust"):
                references.resolve(references.parse_ref(text), sources, inside)
        self.assertFalse((inside / "marked").exists())
        listed = Sources({"MINE": KEY}, trust=Trust().seeing(["MINE"]))
        self.assertEqual(references.resolve(references.parse_ref("env:MINE"), listed, inside).reveal(), KEY)
        trusted = Sources({"MINE": KEY}, trust=Trust(True, frozenset({"MINE"})))
        for text in ("env:MINE", "file:../elsewhere.yaml#key", f"command:{sys.executable} -c 'print(\"{KEY}\")'"):
            self.assertEqual(references.resolve(references.parse_ref(text), trusted, inside).reveal(), KEY)
        with self.assertRaisesRegex(SecretError, "changed since you trusted it"):
            references.resolve(references.parse_ref("env:MINE"), Sources({}, trust=Trust(changed=True)), inside)


class Command(Cli):
    def setUp(self):
        super().setUp()
        self.file("elsewhere.yaml", f"key: {KEY}\n", 0o600)
        (self.folder / "rig").mkdir()
        self.path = self.folder / "rig" / "rig.yaml"
        self.path.write_text(RIG)
        (self.folder / "rig" / "mark.py").write_text(f"import pathlib; pathlib.Path('marked').touch(); print('{KEY}')")

    def environment(self, **more):
        return super().environment(DIREKT_CONFIG=str(self.folder / "config"), DIREKT_RIG=str(self.path), **more)

    def marked(self) -> bool:
        return any(Path(self.folder).rglob("marked"))

    def test_who_is_told_is_shown_before_it_is_trusted(self):
        tell = "watch:\n  notify:\n    siren: {command: ./siren.sh loud}\n    boss: {webhook: 'https://hooks.example/x'}\n"
        self.path.write_text(self.path.read_text() + tell)
        (self.path.parent / "siren.sh").write_text("#!/bin/sh\n")
        said = self.direkt("rig", "trust", "--yes", "--json")
        self.assertIn("./siren.sh loud", said.json["commands"])
        for words in ("starts             ./siren.sh loud", "tells              boss at https://hooks.example:443"):
            self.assertIn(words, said.err)
        (self.path.parent / "siren.sh").write_text("#!/bin/sh\nelse\n")  # what acts for it is remembered too
        self.one_line(self.direkt("rig", "trust"), 2, "add --yes")

    def test_nothing_runs_until_it_is_trusted_and_again_when_it_changes(self):
        listed = self.direkt("key", "list")
        self.assertIn("not trusted", listed.out)
        self.one_line(self.direkt("key", "show", "a"), 2, "'python3' is not started", "direkt rig trust")
        self.one_line(self.direkt("key", "show", "b"), 2, "outside the rig's folder")
        self.assertFalse(self.marked())
        self.one_line(self.direkt("rig", "trust"), 2, "add --yes")
        said = self.direkt("rig", "trust", "--yes", "--json")
        self.assertEqual((said.json["trusted"], said.json["environment"]), (True, ["SECRET_OF_MINE"]))
        for words in ("python3 mark.py", "SECRET_OF_MINE", "elsewhere.yaml", "http://127.0.0.1:9"):
            self.assertIn(words, said.err)
        self.assertEqual(self.direkt("key", "show", "a").code, 0)
        self.assertEqual(self.direkt("key", "show", "b").code, 0)
        self.assertTrue(self.marked())
        # Direkt's own change leaves it trusted
        self.assertEqual(self.direkt("key", "set", "a", text="rtmp://ingest.example/second").code, 0)
        self.assertTrue(self.direkt("rig", "trust", "--json").json["trusted"])
        script = self.path.parent / "mark.py"
        script.write_text(script.read_text() + "# changed\n")
        self.path.write_text(self.path.read_text().replace("/second", "/live"))
        self.one_line(self.direkt("key", "show", "a"), 2, "changed since you trusted it")
        self.assertEqual(self.direkt("rig", "trust", "--yes").code, 0)
        script.write_text(script.read_text() + "# again\n")
        self.one_line(self.direkt("key", "show", "a"), 2, "changed since you trusted it")
        self.assertEqual(self.direkt("rig", "trust", "--yes").code, 0)
        self.path.write_text(self.path.read_text() + "# changed\n")
        self.one_line(self.direkt("key", "show", "a"), 2, "changed since you trusted it")
        self.assertEqual(self.direkt("rig", "trust", "--yes").code, 0)
        self.assertEqual(self.direkt("key", "show", "a").code, 0)
        self.assertFalse(self.direkt("rig", "trust", "--revoke", "--json").json["trusted"])
        self.one_line(self.direkt("key", "show", "a"), 2, "not trusted")

    def test_a_key_that_was_kept_for_another_rig(self):
        mine = self.folder / "mine"
        mine.mkdir()
        text = (
            RIG.split("  b:")[0]
            .replace('"command:python3 mark.py"', "store:Foreign/a")
            .replace("env:SECRET_OF_MINE", "env:DIREKT_X")
        )
        (mine / "rig.yaml").write_text(text)
        self.path.write_text(text)
        kept = self.direkt("key", "set", "a", "--rig", str(mine / "rig.yaml"), text=KEY)
        self.assertEqual(kept.code, 0, kept)
        self.assertEqual(self.direkt("key", "show", "a", "--rig", str(mine / "rig.yaml")).code, 0)
        name = self.direkt("key", "list", "--json", "--rig", str(mine / "rig.yaml")).json["keys"][0]["source"]
        self.path.write_text(text.replace("store:Foreign/a", name))
        self.one_line(self.direkt("key", "show", "a"), 2, "was kept for", "mine/rig.yaml", "direkt rig trust")
        said = self.direkt("rig", "trust", "--yes", "--json")
        self.assertEqual(said.json["keys"], [name.removeprefix("store:")])
        self.assertEqual(self.direkt("key", "show", "a").code, 0)

    def test_trusted_for_one_command(self):
        begun = self.start("rig", "trust", "--once", "--yes", "key", "show", "a")
        done = self.finish(begun)
        self.assertEqual((done.code, done.out.count("…")), (0, 1), done)
        self.assertIn("starts             python3 mark.py", done.err)
        self.one_line(self.direkt("key", "show", "a"), 2, "not trusted")
        self.one_line(self.direkt("rig", "trust", "--once", "--yes"), 2, "followed by the command")
        self.one_line(self.direkt("rig", "trust", "key", "show", "a"), 2, "followed by the command")

    def test_a_stranger_with_the_same_name(self):
        mine, theirs = self.folder / "mine", self.folder / "theirs"
        text = RIG.split("  b:")[0].replace('"command:python3 mark.py"', "store:x").replace("env:SECRET_OF_MINE", "store:foreign/login/tower")
        for folder, server in ((mine, "ingest.example"), (theirs, "evil.example")):
            folder.mkdir()
            (folder / "rig.yaml").write_text(text.replace("ingest.example", server))
        ours, stranger = ("--rig", str(mine / "rig.yaml")), ("--rig", str(theirs / "rig.yaml"))
        self.assertEqual(self.direkt("key", "set", "a", *ours, text=KEY).code, 0)
        name = "store:foreign/a"
        (theirs / "rig.yaml").write_text((theirs / "rig.yaml").read_text().replace("store:x", name))
        for words in (("show",), ("form",)):
            self.one_line(self.direkt("key", *words, "a", *stranger), 2, "was kept for", "direkt rig trust")
        self.one_line(self.direkt("key", "forget", "a", *stranger), 2, "left alone")
        self.one_line(self.direkt("key", "expose", "a", *stranger), 2, "left alone")
        kept = self.direkt("key", "set", "a", *stranger, text="varn~fake~dunlins")
        self.assertEqual(kept.code, 0, kept)
        self.assertRegex((theirs / "rig.yaml").read_text(), "store:foreign-[0-9a-f]{8}/a")
        self.assertIn(f"va… ({len(KEY)} ", self.direkt("key", "show", "a", *ours).out)
        listed = self.direkt("key", "list", "--json", *ours).json["keys"][0]
        self.assertEqual(listed["source"], name)
        # the same rig, at another address
        (mine / "rig.yaml").write_text((mine / "rig.yaml").read_text().replace("ingest.example", "evil.example"))
        self.one_line(self.direkt("key", "show", "a", *ours), 2, "was kept for ingest.example:1935, and this rig sends it to evil.example:1935")
        self.assertEqual(self.direkt("rig", "trust", "--yes", *ours).code, 0)
        self.assertEqual(self.direkt("rig", "trust", "--revoke", *ours).code, 0)
        self.assertEqual(self.direkt("key", "show", "a", *ours).code, 0, "it was bound to the new place")
        # and moved
        mine.rename(self.folder / "moved")
        moved = ("--rig", str(self.folder / "moved" / "rig.yaml"))
        self.one_line(self.direkt("key", "show", "a", *moved), 2, "was kept for")
        self.assertEqual(self.direkt("rig", "trust", "--yes", *moved).code, 0)
        self.assertEqual(self.direkt("rig", "trust", "--revoke", *moved).code, 0)
        self.assertEqual(self.direkt("key", "show", "a", *moved).code, 0)

    def test_variables_that_the_person_lists(self):
        self.path.write_text(RIG.replace("command:python3 mark.py", "env:LISTED"))
        self.one_line(self.direkt("key", "show", "a", LISTED=KEY), 2, "LISTED is not read")
        self.assertEqual(self.direkt("key", "show", "a", LISTED=KEY, DIREKT_ENV="OTHER, LISTED").code, 0)
        self.assertNotIn("DIREKT_ENV", os.environ)
