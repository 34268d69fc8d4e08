"""Going live by the program: what is wrong once the push is on."""

import datetime
import json
import re
import unittest
from dataclasses import replace

from tests.stage import Stage
from tests.support import wait_until


class Air(Stage):
    """The steps from the ingest on."""

    def test_4_accepted_and_never_shown(self):
        self.platform.faults.shows_nothing = True
        result = self.go("e9", "--wait", "3s")
        self.stops_at(4, result, "it arrives and was not shown within 3 s", "Wait longer with --wait", "its push is off again")
        self.assertIn("later than usual, still waiting", self.go("e9", "--wait", "3s").out)
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

    def test_4_the_device_retries_with_the_key_of_a_past_event(self):
        self.device.put_slot({"channel": "main", "server": self.platform.ingest_address(), "key": "varn~fake~pastbird"})
        self.device.start_push()
        wait_until(lambda: self.device.push_state == "retrying")
        self.assertEqual(self.go("e19").code, 0)

    def test_a_new_key_from_the_platform_goes_to_the_devices(self):
        self.assertEqual(self.direkt("event", "make", "e20").code, 0)
        event = self.event("e20")
        old = event.key
        result = self.direkt("key", "renew", "main", "--event", "e20")
        self.assertEqual(result.code, 0, result)
        self.assertNotEqual(event.key, old)
        self.assertEqual(self.device._slot["key"], event.key)
        self.no_secrets(result.out, result.err)
        self.one_line(self.direkt("key", "renew", "village", "--event", "e20"), 2, "no feed of the event 'e20' goes to village")
        self.one_line(self.direkt("key", "renew", "village", "--event", "h0"), 3, "has no such event yet")

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
            self.stops_at(5, result, "✗  finish  picture size 960x540 as sent, 640x360 at the platform: ", "its push is off again")
            self.assertRegex(result.out, r"✗ +picture size +required 960x540, set 960x540, sent 960x540, seen 640x360")
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
        self.assertIn("viewers get nothing after 5 s", result.out)
        self.assertIn("it is on air; still on", result.out)  # nothing is taken from viewers by itself
        self.assertEqual((event.state, self.device.push_state), ("live", "pushing"))
        event.hls.delay = 0.2
        self.assertEqual(self.go("e14").code, 0)
        self.assertEqual(self.direkt("stop", "--all", text="y\n" * 9).code, 0)

    def test_the_session_limit_ends_it(self):
        self.assertEqual(self.go("e17").code, 0)
        self.addCleanup(setattr, self.platform, "session_limit", self.platform.session_limit)
        self.platform.session_limit = 0.5
        event = self.event("e17")
        wait_until(lambda: event.state == "closed")
        result = self.go("e17")
        self.assertEqual(result.code, 1, result)
        self.assertIn("the event is closed: its session was longer than 0.5 s", result.out)
        self.assertEqual(self.direkt("stop", "e17").code, 0)
        self.assertEqual(self.device.push_state, "stopped")

    def test_on_air_at_its_time(self):
        path, text = self.folder / "rig.yaml", (self.folder / "rig.yaml").read_text()
        self.addCleanup(path.write_text, text)
        soon = datetime.datetime.now(datetime.UTC) + datetime.timedelta(seconds=7)
        head, tail = text.split("  e18:", 1)
        later = re.sub(r'start: "[^"]*"', f'start: "{soon:%Y-%m-%d %H:%M:%S}"', tail, count=1)
        path.write_text(f"{head}  e18:{later}")
        result = self.go("e18", "--at-start", text="")
        self.assertEqual(result.code, 0, result)
        on_air = json.loads(next((self.folder / ".direkt/events").glob("e18-*.json")).read_text())["on_air"]
        self.assertGreaterEqual(on_air, f"{soon:%Y-%m-%dT%H:%M:%SZ}")
        self.assertIn("on air at", result.out)
        self.assertEqual(self.direkt("stop", "e18").code, 0)

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
        self.assertEqual([e["what"] for e in entries if e["what"] == "drop"], [])  # the pause was wanted
        self.assertEqual(self.fitting("log", "verify", schema="log-verify")["broken"], [])
        listed = self.fitting("event", "list", "--at-platform", schema="event-accounts")["accounts"][0]["events"]
        self.assertIn(("e16", "closed", "by name"), [(e["event"], e["state"], e["ours"]) for e in listed])


if __name__ == "__main__":
    unittest.main()
