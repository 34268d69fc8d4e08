"""Pastes whose address is not the one that is expected: asked about, refused where nobody can answer, and never half taken."""

import json
import unittest
from pathlib import Path

from tests.support import Cli

RIG = """\
schema: direkt.rig/1
name: Pasted
destinations:
  main: {sheet: tarnlight, server: "rtmp://ingest.tarnlight.example/live", key: "store:pasted/main"}
  other: {sheet: tarnlight, server: "rtmp://course.tarnlight.example/live", key: "store:pasted/other"}
  any: {sheet: any.yaml, server: "rtmp://ingest.any.example/app", key: "store:pasted/any"}
"""
SHEET = """\
schema: direkt.sheet/1
name: Any
protocols: [{protocol: rtmp, port: 1935}, {protocol: rtmps, port: 443}]
servers: [{address: "rtmp://ingest.any.example/app"}]
rules: {}
"""
KEY, OTHER = "abcd-1234-efgh", "varn~fake~bitterns"


MAIN, COURSE, ANY = "rtmp://ingest.tarnlight.example/live", "rtmp://course.tarnlight.example/live", "rtmp://ingest.any.example/app"
FIRST, SECOND = "varn~fake~sandpiper", "zx81-qw22-mk77"


class Pasted(Cli):
    def setUp(self):
        super().setUp()
        self.file("rig.yaml", RIG)
        self.file("any.yaml", SHEET)

    def environment(self, **more):
        return super().environment(DIREKT_CONFIG=str(self.folder / "config"), **more)

    def kept(self) -> dict:
        path = Path(self.folder / "config" / "keys-secret.json")
        return json.loads(path.read_text()) if path.exists() else {}

    def test_what_is_refused_where_nobody_can_answer(self):
        for destination, text, words in (
            ("any", f"rtmp://evil.example/app\n{KEY}", "neither the rig nor the sheet knows the host evil.example"),
            ("any", f"rtmp://192.0.2.77/app\n{KEY}", "192.0.2.77 is a bare IP address"),
            ("any", f"rtmp://ingest.any.example:8080/app\n{KEY}", "names no port 8080"),
            ("main", f"rtmp://course.tarnlight.example/live\n{OTHER}", "is the one of other in this rig"),
            ("any", f"https://www.any.example/dashboard\n{KEY}", "was not taken, so the key was not kept either"),
            ("any", f"srt://ingest.any.example:9000\n{KEY}", "was not taken, so the key was not kept either"),
        ):  # fmt: skip
            result = self.direkt("key", "set", destination, text=text)
            self.assertEqual(result.code, 2, (text, result))
            self.assertIn(words, result.err, text)
            self.assertEqual((self.kept(), (self.folder / "rig.yaml").read_text()), ({}, RIG), text)

    def test_a_paste_for_several_destinations(self):
        for text in (
            f"{MAIN}\n{FIRST}\n{ANY}\n{SECOND}", f"Server: {MAIN}\nKey: {FIRST}\n\nServer: {ANY}\nKey: {SECOND}\n",
            f"{FIRST}\n{MAIN}\n\n{SECOND}\n{ANY}", f"Name | Server | Key\nCourse | {MAIN} | {FIRST}\nMeadow | {ANY} | {SECOND}",
            f"Hello,\n\nhere are both.\n\n{MAIN}\n{FIRST}\n\n{ANY}\n{SECOND}\n\n-- \nAnna",
            json.dumps({"outputs": [{"url": MAIN, "key": FIRST}, {"url": ANY, "key": SECOND}]}),
            f"<table><tr><td>{MAIN}</td><td>{FIRST}</td></tr>\n<tr><td>{ANY}</td><td>{SECOND}</td></tr></table>",
        ):  # fmt: skip
            self.file("rig.yaml", RIG)
            result = self.direkt("key", "set", "--each", "--json", text=text)
            self.assertEqual(result.code, 0, (text, result))
            self.assertEqual([one["destination"] for one in result.json["destinations"]], ["main", "any"], text)
            self.assertEqual({name.rpartition("/")[2]: key for name, key in self.kept().items()}, {"main": FIRST, "any": SECOND}, text)
            self.assertNotIn(FIRST, result.out + result.err)
            result = self.direkt("key", "forget", "main"), self.direkt("key", "forget", "any")
            result = self.direkt("key", "set", "any", text=text)
            self.assertEqual(result.code, 0, (text, result))
            self.assertIn("what stands there for main was not taken", result.out)
            self.assertEqual(list(self.kept().values()), [SECOND], text)
            self.assertEqual(self.direkt("key", "forget", "any").code, 0)

    def test_parts_that_nobody_can_tell_apart_are_refused_whole(self):
        for text, words in (
            (f"{FIRST}\n{MAIN}\n{SECOND}\n{ANY}", "not clear which line is whose"), (f"{MAIN}\n{ANY}\n{FIRST}\n{SECOND}", "any"),
            (f"{MAIN} {ANY}\n{FIRST}\n{SECOND}", "not clear which line is whose"), (f"{MAIN}\n{FIRST}\n{ANY}", "there is no key"),
            (f"{MAIN}\n{FIRST}\n\n{ANY}\n{FIRST}", "same key stands there for two"), (f"{MAIN}\n{FIRST}\n{ANY}\n{SECOND}\n{MAIN}", "not clear which line is whose"),
            (f"{MAIN}\n{FIRST}", "does not speak of several"), (f"{MAIN}\nvarn~fake~X\n{ANY}\n{SECOND}", "the part for main"),
        ):  # fmt: skip
            result = self.direkt("key", "set", "--each", text=text)
            self.one_line(result, 2, words)
            self.assertEqual((self.kept(), (self.folder / "rig.yaml").read_text()), ({}, RIG), text)
        self.one_line(self.direkt("key", "set", "other", text=f"{MAIN}\n{FIRST}\n{ANY}\n{SECOND}"), 2, "the paste is for main and any, not for other")
        self.one_line(self.direkt("key", "set", text=FIRST), 2, "name one destination, or say --each")
        self.one_line(self.direkt("key", "set", "any", "--each", text=FIRST), 2, "name one destination, or say --each")
        self.assertEqual(self.kept(), {})

    def test_a_key_under_the_name_of_another_destination_is_asked_about(self):
        self.file("rig.yaml", RIG.replace("  any:", "  boathouse:"))
        result = self.direkt("key", "set", "main", text=f"Boathouse: {FIRST}")
        self.assertEqual(result.code, 2, result)
        self.assertIn("the paste names boathouse", result.err)
        self.assertEqual(self.kept(), {})
        self.assertEqual(self.direkt("key", "set", "--each", text=f"Main stream key: {FIRST}\n").code, 2)

    def test_a_passphrase_is_no_key(self):
        for text in (f"{ANY}\nPassphrase: correct-horse-77", f"{ANY}\nSRT passphrase: correct-horse-77\nStream key: {SECOND}", f"Encryption key: correct-horse-77\nStream key: {SECOND}"):
            result = self.direkt("key", "set", "any", text=text)
            self.assertNotIn("correct-horse-77", [*self.kept().values()], text)
            self.assertNotIn("correct-horse-77", result.out + result.err)

    def test_a_damaged_store_keeps_no_command_that_needs_none(self):
        (self.folder / "config").mkdir()
        for content in ("{", "[]", '{"pasted/main": 5}'):
            (self.folder / "config" / "keys.json").write_text(content)
            for words in (("sheet", "list"), ("budget", "--up", "20"), ("stop", "--all", "--for", "1s"), ("log", "list"), ("rig", "trust", "--revoke")):
                result = self.direkt(*words)
                self.assertNotIn("damaged", result.err, (content, words))
            self.one_line(self.direkt("key", "show", "main"), 2, "damaged")

    def test_what_is_taken(self):
        for destination, text, more, key in (
            ("any", f"https://www.any.example/dashboard\n{KEY}", ("--key-only",), KEY), ("any", f"rtmp://evil.example/app\n{KEY}", ("--key-only",), KEY),
            ("main", f"rtmp://ingest-2.tarnlight.example/live\n{OTHER}", (), OTHER), ("any", f"rtmps://ingest.any.example:443/app\n{KEY}", (), KEY),
            ("any", "rtmp://ingest.any.example/app\nZmFrZS1rZXktMTIzNDU2Nzg5MA==", (), "ZmFrZS1rZXktMTIzNDU2Nzg5MA=="),
            ("any", "key=ZmFrZS1rZXktMTIz/DU2Nzg5MA==", (), "ZmFrZS1rZXktMTIz/DU2Nzg5MA=="),
            ("any", json.dumps({"primary": {"url": "rtmp://ingest.any.example/app", "key": "prim-1234-abcd"},
                                "backup": {"url": "rtmp://b.ingest.any.example/app", "key": "back-1234-abcd"}}), (), "prim-1234-abcd"),
            ("any", json.dumps({"backupStream": {"ingestUrl": "rtmp://b.ingest.any.example/app", "streamKey": "back-1234-abcd"},
                                "mainStream": {"ingestUrl": "rtmp://ingest.any.example/app", "streamKey": "prim-1234-abcd"}}), (), "prim-1234-abcd"),
        ):  # fmt: skip
            self.file("rig.yaml", RIG)
            result = self.direkt("key", "set", destination, *more, text=text)
            self.assertEqual(result.code, 0, (text, result))
            self.assertEqual(self.kept()[f"pasted/{destination}"], key, text)
            self.assertNotIn(key, result.out + result.err)
            if more:
                self.assertEqual((self.folder / "rig.yaml").read_text(), RIG)


if __name__ == "__main__":
    unittest.main()
