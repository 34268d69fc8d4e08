"""A signal without a camera, from the command line: where it goes, and where it does not."""

import time
import unittest

from tests.stage import Stage
from tests.support import free_port, wait_until


class Signals(Stage):
    def test_to_an_event_of_its_own_which_is_taken_away(self):
        document = self.fitting("signal", "main", "--for", "3s", "--backup")
        self.assertEqual((document["failure"], document["complaints"]), (None, []))
        self.assertIn("an event of its own for invited viewers", document["event"])
        self.assertEqual(document["server"], self.platform.ingest_address("backup"))
        self.assertGreater(document["line"]["arrived_kbit_s"], 0.8 * document["set"]["video.bitrate.mean"])
        self.assertFalse([e for e in self.platform.events.values() if "test-signal" in e.id])
        child = self.start("signal", "main", "--for", "60s")
        wait_until(lambda: any("test-signal" in e.id for e in self.platform.events.values()), 10)
        made = next(e for e in self.platform.events.values() if "test-signal" in e.id)
        wait_until(lambda: made.state == "open", 5)
        self.assertEqual(made.body.audience, "invited")
        time.sleep(1.5)
        result = self.interrupt(child)
        self.assertEqual(result.code, 130, result)
        self.assertFalse([e for e in self.platform.events.values() if "test-signal" in e.id])
        self.no_secrets(result.out, result.err)

    def test_not_to_what_viewers_see_and_by_hand_only_when_a_person_agrees(self):
        self.assertEqual(self.go("e3").code, 0)
        self.one_line(self.direkt("signal", "main", "--for", "2s"), 2, "the event e3 is on air at main")
        self.assertEqual(self.direkt("stop", "e3").code, 0)
        result = self.direkt("signal", "village", "--for", "2s", text="n\n")
        self.assertEqual(result.code, 2, result)
        self.assertIn("no signal was sent", result.err)
        self.assertEqual(self.direkt("signal", "village", "--for", "2s", text="y\n").code, 0)

    def test_a_climb_that_is_kept(self):
        before = (self.folder / "rig.yaml").read_text()
        self.addCleanup((self.folder / "rig.yaml").write_text, before)
        document = self.fitting("signal", "main", "--climb", "--from", "1", "--most", "1.2", "--save")
        self.assertEqual((len(document["steps"]), document["limit"], document["saved_mbit_s"]), (2, None, None))  # 40 are stated
        self.file("rig.yaml", before.replace("uplink: {mbit_s: 40}\n", ""))
        self.assertEqual(self.direkt("rig", "trust", "--yes").code, 0)
        document = self.fitting("signal", "main", "--climb", "--from", "1", "--most", "1.2", "--save")
        self.assertAlmostEqual(document["saved_mbit_s"], 1.4, delta=0.2)
        self.assertIn("mbit_s: 1.", (self.folder / "rig.yaml").read_text())
        self.assertTrue(self.direkt("rig", "trust", "--json").json["trusted"])  # our own change leaves it so

    def test_wrong_use(self):
        for words, said in (
            (("--save",), "--save and --from go with --climb"), (("--climb", "--bitrate", "3"), "--bitrate does not go with --climb"),
            (("--size", "big"), "expected a size"), (("--size", "17x17"), "cannot be made so"), (("--rate", "100", "--size", "9000x9000"), "cannot be made so"),
        ):  # fmt: skip
            self.one_line(self.direkt("signal", "main", *words, "--rehearse", "rtmp://127.0.0.1:9/live"), 2, said)
        result = self.direkt("signal", "main", "--for", "2s", "--rehearse", f"rtmp://127.0.0.1:{free_port()}/live")
        self.assertEqual(result.code, 3, result)
        self.assertIn("nothing listens", result.err)


if __name__ == "__main__":
    unittest.main()
