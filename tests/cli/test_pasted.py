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
