"""Going live and the certain end by the program, with something wrong at every step."""

import copy
import json
import signal
import time
import unittest
from dataclasses import replace

from tests.stage import Stage
from tests.support import wait_until

GO = ("--no-rehearsal",)


class Order(Stage):
    """Where each step fails: the report is true, nothing is left on that should not be, and a second go continues."""

    def go(self, name, *more, text="y\n" * 6, **env):
        return self.direkt("go", name, *GO, *more, text=text, **env)

    def stops_at(self, step, result, *words):
        """It stopped there, says why and what next, and no push is on."""
        self.assertEqual(result.code, 1, result)
        self.assertIn(f"stopped at step {step}", result.out)
        for word in words:
            self.assertIn(word, result.out + result.err)
        self.assertEqual(self.device.push_state, "stopped", result)

    def test_the_whole_order_and_the_end(self):
        result = self.go("e0")
        self.assertEqual(result.code, 0, result)
        for words in ("it arrives, after", "conforms to Quicklight", "viewers get 960x540", "on air  e0", "Race e0"):
            self.assertIn(words, result.out)
        event = self.event("e0")
        self.assertEqual((event.state, self.device.push_state), ("live", "pushing"))
        again = self.go("e0")  # everything is where it is to be: nothing is asked, nothing is made twice
        self.assertEqual(again.code, 0, again)
        self.assertNotIn("On air now", again.err)
        self.assertEqual(sum("-e0-" in name for name in self.platform.events), 1)
        shown = self.direkt("event", "show", "e0", "--json").json["at"][0]
        self.assertEqual((shown["state"], shown["inputs"][0]["arriving"]), ("live", True))
        ended = self.direkt("stop", "e0", "--wipe-key")
        self.assertEqual(ended.code, 0, ended)
        for words in (
            "its counter stands still",
            "nothing arrives any more",
            "the event is closed",
            "no key is left in it",
            "all is off, and proven",
        ):
            self.assertIn(words, ended.out)
        self.assertEqual((event.state, self.device.push_state, self.device._slot["key"]), ("closed", "stopped", ""))
        twice = self.direkt("stop", "e0")
        self.assertEqual(twice.code, 0, twice)
        listed = self.direkt("log", "list", "--event", "e0", "--json").json["entries"]
        self.assertEqual(
            [(e["what"], e["outcome"]) for e in listed],
            [("go", "good"), ("go", "good"), ("stop", "good"), ("stop", "good")],
        )
        shown = self.direkt("log", "show", str(listed[0]["id"]))
        self.assertIn(event.id, shown.out)
        written = self.direkt("log", "report", "e0", "-o", "e0.html")
        self.assertEqual(written.code, 0, written)
        report = (self.folder / "e0.html").read_text()
        self.assertIn("Race e0", report)
        database = (self.folder / "log.sqlite").read_bytes().decode("latin-1")
        self.no_secrets(result.out, result.err, ended.out, report, database, json.dumps(listed), shown.out)
        self.assertEqual((self.folder / "log.sqlite").stat().st_mode & 0o777, 0o600)

    def test_1_settings_that_drifted(self):
        with _Bitrate(self.device, 9000):
            self.stops_at(
                1, self.go("e1"), "not set as matched: video.bitrate.mean 9000 kbit/s", "next:  direkt write finish"
            )
        self.assertIsNone(self.event("e1"))
        self.assertEqual(self.go("e1").code, 0)

    def test_1_rehearsal_length_and_declarations(self):
        result = self.direkt("go", "e2", "--dry-run")
        self.assertEqual(result.code, 1, result)
        self.assertIn("never rehearsed, or not well", result.out)
        self.assertIn("Nothing was changed", result.out)
        self.assertIsNone(self.event("e2"))
        path, text = self.folder / "rig.yaml", (self.folder / "rig.yaml").read_text()
        self.addCleanup(path.write_text, text)
        path.write_text(
            text.replace(
                "length: 1h, audience: everyone, delay: short, fields: {crowd: nobody}",
                "length: 11h, audience: everyone, fields: {lane: rapids}",
            )
        )
        self.stops_at(
            1, self.go("e2"), "the event lasts 11 h, Quicklight ends a session after 9 h", "fields.crowd: Tarnlight insists on it",
            "fields.lane: rapids is none of still water, white water, shore",
        )  # fmt: skip

    def test_1_the_address_and_the_line(self):
        path, text = self.folder / "rig.yaml", (self.folder / "rig.yaml").read_text()
        self.addCleanup(path.write_text, text)
        path.write_text(
            text.replace(self.platform.ingest_address() + '"', 'rtmp://127.0.0.1:9/live"').replace(
                "mbit_s: 40", "mbit_s: 1"
            )
        )
        self.stops_at(1, self.go("e3"), "rtmp://127.0.0.1:9/live", "of 0.7 Mbit/s", "next:  direkt budget")

    def test_1_a_device_that_is_gone(self):
        self.device.close_ports()
        try:
            self.stops_at(1, self.go("e4"), "is it on, is the address right?", "next:  direkt read tower")
        finally:
            self.device.open_ports()

    def test_2_the_platform_is_down_then_back(self):
        self.platform.faults.down = True
        self.stops_at(1, self.go("e5"), "closed for repair", "direkt event show e5")
        self.platform.faults.down = False
        self.assertEqual(self.go("e5").code, 0)

    def test_2_another_address_than_the_platforms(self):
        path, text = self.folder / "rig.yaml", (self.folder / "rig.yaml").read_text()
        self.addCleanup(path.write_text, text)
        path.write_text(
            text.replace(self.platform.ingest_address() + '"', self.platform.ingest_address("backup") + '"', 1)
        )
        result = self.go("e6")
        self.stops_at(2, result, "the platform gives out", "destinations.main.server")
        path.write_text(text)
        self.assertEqual(self.go("e6").code, 0)

    def test_2_a_closed_event_stays_closed(self):
        for verb in ("make", "open", "close"):
            result = self.direkt("event", verb, "e7")
            self.assertEqual(result.code, 0, result)
        self.stops_at(1, self.go("e7"), "the event is closed", "direkt event drop e7")
        self.assertEqual(self.direkt("event", "drop", "e7").code, 0)
        self.assertEqual(self.go("e7").code, 0)

    def test_3_a_slot_that_pushes_elsewhere(self):
        self.device.put_slot({"channel": "main", "server": self.village.address, "key": VILLAGE_KEY})
        self.device.start_push()
        result = self.go("e8")
        self.assertEqual(result.code, 1)
        self.assertIn("tower is pushing to rtmp://127.0.0.1", result.out)
        self.assertEqual(self.device.push_state != "stopped", True)  # it was on before: it is not ours to end
        self.device.end_push()

    def test_4_accepted_and_never_shown(self):
        self.platform.faults.shows_nothing = True
        result = self.go("e9", "--wait", "3s")
        self.stops_at(
            4, result, "it arrives and was not shown within 3 s", "Wait longer with --wait", "its push is off again"
        )
        self.assertIn("later than usual, still waiting", self.go("e9", "--wait", "13s").out)
        self.platform.faults.shows_nothing = False
        self.assertEqual(self.go("e9").code, 0)

    def test_4_the_key_is_renewed_by_somebody(self):
        begun = self.direkt("event", "make", "e10")
        self.assertEqual(begun.code, 0, begun)
        event = self.event("e10")
        taken = event.key
        event.key = "varn~fake~otherbird"  # behind the back of the rig, which asks for it again
        self.assertEqual(self.go("e10").code, 0)
        self.assertNotEqual(self.device._slot["key"], taken)

    def test_5_the_platform_is_not_content(self):
        self.platform.faults.poor = True
        result = self.go("e11", text="n\n")
        self.stops_at(5, result, "the stream comes unevenly", "Go on air all the same?")
        self.assertEqual(self.event("e11").state, "open")
        self.assertEqual(self.go("e11", text="y\ny\n").code, 0)

    def test_5_the_sub_stream_is_pushed_instead_of_the_main_one(self):
        original = self.device.target
        self.device.target = lambda: replace(original(), video=replace(original().video, width=640, height=360))
        try:
            result = self.go("e12")
            self.stops_at(5, result, "✗  finish  video.size", "its push is off again")
            self.assertRegex(result.out, r"video\.size +960x540 +960x540 +960x540 +640x360 +✗ fail")
            self.assertEqual(self.go("e12", "--keep-on").code, 1)
            self.assertEqual(self.device.push_state, "pushing")
        finally:
            self.device.target = original
        self.device.end_push()
        self.assertEqual(self.go("e12").code, 0)

    def test_6_somebody_says_no(self):
        result = self.go("e13", text="n\n")
        self.stops_at(6, result, "not on air: you said no")
        self.assertEqual(self.event("e13").state, "open")

    def test_7_viewers_get_nothing(self):
        event = None
        self.direkt("event", "make", "e14")
        event = self.event("e14")
        event.hls.delay = 3600.0
        result = self.go("e14")
        self.assertEqual(result.code, 1, result)
        self.assertIn("viewers get nothing after 10 s", result.out)
        self.assertIn("it is on air; still on", result.out)  # nothing is taken from viewers by itself
        self.assertEqual((event.state, self.device.push_state), ("live", "pushing"))
        event.hls.delay = 0.2
        self.assertEqual(self.go("e14").code, 0)
        self.assertEqual(self.direkt("stop", "--all", text="y\n" * 9).code, 0)

    def test_invited_first(self):
        seen = []
        original = self.platform._put_state

        def watched(request, event):
            seen.append((json.loads(request.body)["state"], event.body.audience))
            return original(request, event)

        self.platform._put_state = watched
        self.addCleanup(setattr, self.platform, "_put_state", original)
        result = self.go("e15", "--invited-first")
        self.assertEqual(result.code, 0, result)
        self.assertEqual(seen, [("open", "invited"), ("live", "invited")])
        self.assertEqual(self.event("e15").body.audience, "everyone")
        self.assertIn("opened to everyone", result.out)

    def test_a_pause_keeps_the_event_and_go_resumes_it(self):
        self.assertEqual(self.go("e16").code, 0)
        link = self.event("e16").id
        paused = self.direkt("stop", "e16", "--pause")
        self.assertEqual(paused.code, 0, paused)
        self.assertEqual((self.event("e16").state, self.device.push_state), ("live", "stopped"))
        self.assertIn("paused", self.direkt("event", "list").out)
        resumed = self.go("e16")
        self.assertEqual(resumed.code, 0, resumed)
        self.assertEqual((self.event("e16").id, self.device.push_state), (link, "pushing"))
        self.assertEqual(self.direkt("stop", "e16").code, 0)
        entries = self.direkt("log", "list", "--event", "e16", "--json").json["entries"]
        self.assertEqual([e["what"] for e in entries if e["what"] == "drop"], ["drop"])  # the pause was a gap on air

    def test_the_end_with_the_device_gone(self):
        self.assertEqual(self.go("e17").code, 0)
        self.device.close_ports()
        try:
            result = self.direkt("stop", "e17", "--for", "1s")
            self.assertEqual(result.code, 3, result)
            self.assertIn("error: push tower: tower at", result.err)
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
        self.assertIn("error: event e18 at main", result.err)
        self.assertEqual(self.device.push_state, "stopped")
        self.platform.faults.down = False
        everything = self.direkt("stop", "--all")
        self.assertEqual(everything.code, 0, everything)
        self.assertEqual(self.event("e18").state, "closed")

    def test_a_counter_that_goes_on_is_no_end(self):
        self.assertEqual(self.go("e19").code, 0)
        original = self.device.stop_push
        self.device.stop_push = lambda: (200, {})  # says yes and goes on
        try:
            result = self.direkt("stop", "e19")
        finally:
            self.device.stop_push = original
        self.assertEqual(result.code, 3, result)
        self.assertIn("slot 1 still says pushing", result.out)
        self.assertEqual(self.direkt("stop", "finish").code, 0)

    def test_wrong_use(self):
        for arguments, words in (
            (["go", "nothing"], "no event 'nothing'"), (["stop"], "say what to stop"), (["stop", "nobody"], "no event or feed 'nobody'"),
            (["stop", "e0", "--all"], "not both"), (["stop", "finish", "--pause"], "--pause goes with an event"),
            (["go", "e0", "--rehearse", "--dry-run"], "exclude each other"), (["go", "e0", "--at", "soon"], "expected a date"),
            (["go", "e0", "--at", "2099-01-01"], "does not take place on or after"), (["log", "show", "99999"], "nothing was logged under"),
            (["log", "report", "e23", "-o", "x.html"], "was not begun from here"), (["event", "sign-in", "tarn"], "a token of its own"),
            (["event", "sign-in", "moss"], "no platform 'moss'"),
        ):  # fmt: skip
            self.one_line(self.direkt(*arguments), 2, words)
        self.assertEqual(self.direkt("log", "list", "--since", "soon").code, 2)


VILLAGE_KEY = "varn~fake~wren"


class _Bitrate:
    """Somebody sets the encoder otherwise meanwhile."""

    def __init__(self, device, kbps):
        self.device, self.kbps = device, kbps

    def __enter__(self):
        self.before = (self.device._active, self.device._saved)
        changed = copy.deepcopy(self.device._saved)
        changed["main"]["video"]["bitrate_kbps"] = self.kbps
        self.device._active = self.device._saved = changed

    def __exit__(self, *_):
        self.device._active, self.device._saved = self.before


class ByHand(Stage):
    def test_every_step_is_asked_for_and_remembered(self):
        half = self.direkt("go", "h0", *GO, text="y\n")
        self.assertEqual(half.code, 1, half)
        self.assertIn("not done: Make the event 'Race h0'", half.out)
        self.device.put_slot({"channel": "main", "server": self.village.address, "key": VILLAGE_KEY})
        whole = self.direkt("go", "h0", *GO, text="y\ny\ny\n")
        self.assertEqual(whole.code, 0, whole)
        self.assertNotIn("Ask the village office to leave", whole.err)  # done before
        self.assertIn("usual 3 to 19 s after the push began", whole.err)
        self.assertEqual(self.device.push_state, "pushing")
        wait_until(lambda: self.village.sink.since is not None)
        shown = self.direkt("event", "show", "h0")
        self.assertIn("✓ Make the event", shown.out)
        nobody = self.direkt("stop", "h0", text="")
        self.assertEqual(nobody.code, 3, nobody)
        self.assertIn("not done: Tell the village office that the stream has ended", nobody.out + nobody.err)
        self.assertEqual(self.device.push_state, "stopped")
        told = self.direkt("stop", "h0", text="y\n")
        self.assertEqual(told.code, 0, told)

    def test_the_key_of_a_past_event(self):
        text = (self.folder / "hand.yaml").read_text()
        self.addCleanup((self.folder / "hand.yaml").write_text, text)
        (self.folder / "hand.yaml").write_text(text + "key: {lives: one event}\n")
        self.assertEqual(self.direkt("go", "h1", *GO, text="y\n" * 6).code, 0)
        self.assertEqual(self.direkt("stop", "h1", text="y\n" * 6).code, 0)
        result = self.direkt("go", "h2", *GO, text="y\n" * 6)
        self.assertEqual(result.code, 1)
        self.assertIn("the key is that of a past event (h1", result.out)
        self.assertIn("direkt key set village", result.out)


class Killed(Stage):
    """The built program, ended at any moment."""

    def test_ctrl_c_and_kill_leave_what_is_known(self):
        for n, (number, delay) in enumerate(
            (
                (signal.SIGINT, 0.7),
                (signal.SIGKILL, 0.9),
                (signal.SIGKILL, 1.6),
                (signal.SIGINT, 2.4),
                (signal.SIGKILL, 4.0),
            )
        ):
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
        wait_until(lambda: self.device.push_state == "pushing", 20)
        self.one_line(self.direkt("go", "e10", *GO), 2, "another 'direkt go e10' runs on this machine")
        self.assertEqual(self.direkt("stop", "e10").code, 0)
        result = self.finish(child, 20)
        self.assertEqual(result.code, 1, result)
        self.assertIn("it was stopped meanwhile", result.out)
        self.assertEqual((self.device.push_state, self.event("e10").state), ("stopped", "closed"))


if __name__ == "__main__":
    unittest.main()
