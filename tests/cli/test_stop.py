"""The certain end, work by hand, and programs that are ended at any moment."""

import json
import shutil
import signal
import time
import unittest

from tests.stage import VILLAGE, Stage
from tests.support import wait_until

GO = ("--no-rehearsal",)


class End(Stage):
    """With half of the gear gone."""

    def test_the_end_with_the_device_gone(self):
        self.assertEqual(self.go("e17").code, 0)
        self.device.close_ports()
        try:
            result = self.direkt("stop", "e17", "--for", "1s")
            self.assertEqual(result.code, 3, result)
            self.assertIn("error: no answer: tower\n", result.err)
            self.assertIn("tried again for", result.out)
            self.assertIn("the event is closed", result.out)  # what can be ended is
        finally:
            self.device.open_ports()
        again = self.direkt("stop", "e17")
        self.assertEqual(again.code, 0, again)
        self.assertEqual(self.device.push_state, "stopped")

    def test_the_end_with_the_platform_gone(self):
        self.assertEqual(self.go("e18").code, 0)
        self.platform.faults.down = True
        result = self.direkt("stop", "e18")
        self.assertEqual(result.code, 3, result)
        self.assertIn("error: no answer: tarn, e18 at main", result.err)
        self.assertEqual(self.device.push_state, "stopped")
        self.platform.faults.down = False
        everything = self.direkt("stop", "--all", text="y\n")  # a person says that none is open where nobody else can be asked
        self.assertEqual(everything.code, 0, everything)
        self.assertIn("all is off: proven, and on your word: an event at", everything.out)
        self.assertEqual(self.event("e18").state, "closed")
        unasked = self.direkt("stop", "--all", "--yes", "--json")
        said = [item for item in json.loads(unasked.out)["items"] if item["said"]]
        self.assertEqual((unasked.code, len(said)), (0, 1), unasked)
        self.assertIn("--yes says (nobody was asked) that none is open", said[0]["text"])

    def test_a_counter_that_goes_on_is_no_end(self):
        self.assertEqual(self.go("e19").code, 0)
        original = self.device.stop_push
        self.device.stop_push = lambda: (200, {})  # says yes and goes on
        try:
            result = self.direkt("stop", "e19")
        finally:
            self.device.stop_push = original
        self.assertEqual(result.code, 3, result)
        self.assertIn("slot 1 says pushing, and its counter goes on", result.out)
        self.assertEqual(self.direkt("stop", "finish").code, 0)


class Damaged(Stage):
    def test_what_is_remembered_is_damaged_or_cannot_be_written_and_all_goes_off(self):
        self.assertEqual(self.direkt("go", "e22", *GO, text="y\n" * 4).code, 0)
        file = next((self.folder / ".direkt/events").glob("e22-*.json"))
        kept = file.read_text()
        file.write_text("{")
        result = self.direkt("stop", "e22")
        self.assertEqual(result.code, 3, result)
        self.assertIn("damaged; look at the event at its platform", result.out)
        self.assertEqual((self.device.push_state, self.event("e22").state), ("stopped", "closed"))
        self.assertIn("damaged", self.direkt("event", "list").out)
        file.write_text(kept)
        self.assertEqual(self.direkt("stop", "e22").code, 0)


class ByHand(Stage):
    def test_every_step_is_asked_for_and_remembered(self):
        half = self.direkt("go", "h0", *GO, text="y\n")
        self.assertEqual(half.code, 1, half)
        self.assertIn("not done: Make the event 'Race h0'", half.out)
        self.device.put_slot({"channel": "main", "server": self.village.address, "key": VILLAGE})
        whole = self.direkt("go", "h0", *GO, text="y\ny\ny\n")
        self.assertEqual(whole.code, 0, whole)
        self.assertNotIn("Ask the village office to leave", whole.err)  # done before
        self.assertIn("usual 3 to 19 s after the push began", whole.err)
        self.assertEqual(self.device.push_state, "pushing")
        wait_until(lambda: self.village.sink.since is not None)
        shown = self.direkt("event", "show", "h0")
        self.assertIn("✓ Make the event", shown.out)
        nobody = self.direkt("stop", "h0", text="")
        self.assertEqual(nobody.code, 1, nobody)
        self.assertIn("error: not known: h0 at village", nobody.err)
        self.assertIn("not done: Tell the village office that the stream has ended", nobody.out + nobody.err)
        self.assertEqual(self.device.push_state, "stopped")
        told = self.direkt("stop", "h0", text="y\n")
        self.assertEqual(told.code, 0, told)

    def test_the_key_of_a_past_event(self):
        text = (self.folder / "hand.yaml").read_text()
        self.addCleanup((self.folder / "hand.yaml").write_text, text)
        (self.folder / "hand.yaml").write_text(text + "key: {lives: one event}\n")
        shutil.rmtree(self.folder / ".direkt/events", ignore_errors=True)  # another test's event had this key too
        first = self.direkt("go", "h1", *GO, text="y\n" * 6)
        self.assertEqual(first.code, 0, first)
        self.assertEqual(self.direkt("stop", "h1", text="y\n" * 6).code, 0)
        result = self.direkt("go", "h2", *GO, text="y\n" * 6)
        self.assertEqual(result.code, 1)
        self.assertIn("the key is that of a past event (h1", result.out)
        self.assertIn("direkt key set village", result.out)


class Killed(Stage):
    """The built program, ended at any moment."""

    def test_ctrl_c_and_kill_leave_what_is_known(self):
        for n, (number, delay) in enumerate(((signal.SIGINT, 0.7), (signal.SIGKILL, 0.9), (signal.SIGKILL, 4.0))):
            name = f"e{n}"
            child = self.start("go", name, *GO, "--yes")
            time.sleep(delay)
            child.send_signal(number)
            out, err = child.communicate(timeout=20)
            self.assertNotIn("Traceback", out + err)
            if number == signal.SIGINT and child.returncode == 130 and "at step" in err:
                self.assertIn(f"Go on with: direkt go {name}", err)
            # the next command finds where things are by asking
            again = self.direkt("go", name, *GO, text="y\n" * 6)
            self.assertEqual(again.code, 0, again)
            event = self.event(name)
            self.assertEqual((event.state, sum(f"-{name}-" in e for e in self.platform.events)), ("live", 1))
            self.assertEqual(self.direkt("stop", name).code, 0)
            self.assertEqual((event.state, self.device.push_state), ("closed", "stopped"))

    def test_two_at_once_and_a_stop_in_between(self):
        self.platform.faults.shows_nothing = True
        child = self.start("go", "e10", *GO, "--yes", "--wait", "60s")
        wait_until(lambda: self.event("e10") is not None and any(s.since for s in self.event("e10").sinks.values()), 20)
        time.sleep(1.5)  # it waits for the picture
        self.one_line(self.direkt("go", "e10", *GO), 2, "another 'direkt go e10' runs on this machine")
        self.assertEqual(self.direkt("stop", "e10").code, 0)
        result = self.finish(child, 20)
        self.assertEqual(result.code, 1, result)
        self.assertIn("it was stopped meanwhile", result.out)
        self.assertEqual((self.device.push_state, self.event("e10").state), ("stopped", "closed"))


if __name__ == "__main__":
    unittest.main()
