"""Practising with real gear against a simulated event, and a carried feed on its way to air."""

import os
import signal
import unittest

from direkt.sim.fescue import Fescue
from direkt.store import carried
from tests.stage import Stage
from tests.support import LOGIN, wait_until

_MORE = """\
  c0: {{title: Course, start: "{start}", length: 1h, audience: everyone, fields: {{crowd: nobody}}, feeds: [mark]}}
  c1: {{title: Both, start: "{start}", length: 1h, audience: everyone, fields: {{crowd: nobody}}, feeds: [mark, finish]}}
  c2: {{title: Twice, start: "{start}", length: 1h, audience: everyone, fields: {{crowd: nobody}}, feeds: [spare, mark]}}
"""


class Practice(Stage):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        user, _, password = LOGIN.partition(":")
        cls.camera = Fescue(user, password)
        coder = cls.camera.streams["media_profile1"].coder
        coder.size, coder.gov, coder.bitrate = (1280, 720), 20, 2300
        cls.camera.start()
        cls.addClassCleanup(cls.camera.stop)
        path = cls.folder / "rig.yaml"
        text = path.read_text()
        text = text.replace(
            "platforms:\n",
            f'  mark-1000: {{driver: fescue, address: "http://127.0.0.1:{cls.camera.port}", login: "env:DIREKT_TOWER_LOGIN"}}\nplatforms:\n',
            1,
        )
        text = text.replace(
            "feeds:\n",
            f'  course: {{sheet: course.yaml, server: "{cls.platform.ingest_address()}", backup: "{cls.platform.ingest_address("backup")}", key: "file:secrets.yaml#course", platform: tarn}}\nfeeds:\n',
            1,
        )
        text = text.replace(
            "uplink:",
            "  mark: {device: mark-1000, destination: course, carry: true}\n"
            "  spare: {device: mark-1000, destination: course, carry: true, role: backup}\nuplink:",
            1,
        )
        (cls.folder / "course.yaml").write_text(
            "schema: direkt.sheet/1\nname: Courselight\nextends: quick.yaml\nrules: {video.size: {must: 1280x720}}\n"
        )
        start = text[text.index('start: "') + 8 :][:16]
        path.write_text(text + _MORE.format(start=start))
        with (cls.folder / "secrets.yaml").open("a") as file:
            file.write("course: varn~fake~nobird\n")
        done = cls("setUp").direkt("write", "mark", "--yes")
        assert done.code == 0, done

    def test_a_practice_leaves_everything_as_it_was(self):
        before = dict(self.device._slot)
        count, events = len(self.platform.asked), len(self.platform.events)
        result = self.direkt("go", "c1", "--rehearse", "--yes")
        self.assertEqual(result.code, 0, result)
        for words in (
            "Practice: Both", "Time sheet", "in all", "the push slots are as they were", "nothing arrives any more",
            "conforms to Quicklight",
        ):
            self.assertIn(words, result.out)
        self.assertEqual((self.device._slot, self.device.push_state), (before, "stopped"))
        self.assertEqual(
            (len(self.platform.asked), len(self.platform.events)), (count, events)
        )  # the real platform was not asked
        self.assertIsNone(carried.find(self.folder, "mark"))
        self.assertFalse(any("practice" in path.name for path in (self.folder / ".direkt/events").glob("*")))
        self.no_secrets(result.out, result.err)

    def test_the_backup_follows_the_primary(self):
        result = self.direkt("go", "c2", "--no-rehearsal", text="y\n" * 4)
        self.assertEqual(result.code, 0, result)
        self.assertLess(result.out.index("mark  carried from"), result.out.index("spare  carried from"))
        inputs = self.direkt("event", "show", "c2", "--json").json["at"][0]["inputs"]
        self.assertEqual({i["role"]: i["arriving"] for i in inputs}, {"primary": True, "backup": True})
        self.assertEqual(self.direkt("stop", "c2").code, 0)

    def test_a_carried_feed_is_killed_on_air_and_mended(self):
        first = self.direkt("go", "c0", "--no-rehearsal", text="y\n" * 4)
        self.assertEqual(first.code, 0, first)
        self.assertIn("carried from rtsp://127.0.0.1", first.out)
        running = carried.find(self.folder, "mark")
        os.kill(running.process, signal.SIGKILL)
        wait_until(lambda: carried.find(self.folder, "mark") is None)
        shown = self.direkt("push", "state", "mark")
        self.assertIn("no process on this machine carries it", shown.out)
        again = self.direkt("go", "c0", "--no-rehearsal", text="y\n" * 4)
        self.assertEqual(again.code, 0, again)
        self.assertNotEqual(carried.find(self.folder, "mark").process, running.process)
        self.assertNotIn("On air now", again.err)
        ended = self.direkt("stop", "c0")
        self.assertEqual(ended.code, 0, ended)
        self.assertIn("it is no longer carried", ended.out)
        self.assertIsNone(carried.find(self.folder, "mark"))
        listed = self.direkt("log", "list", "--json").json["entries"]
        self.assertIn(("drop", "course"), [(e["what"], e["destination"]) for e in listed])
        self.no_secrets(first.out, ended.out, (self.folder / ".direkt/carried" / "mark.txt").read_text())


if __name__ == "__main__":
    unittest.main()
