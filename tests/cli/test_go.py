"""Going live by the program: the whole order, and what is wrong before the push."""

import copy
import json
import unittest
import urllib.parse
import urllib.request

from tests.stage import VILLAGE, Stage


class Order(Stage):
    """Where each step fails: the report is true, nothing is left on that should not be, and a second go continues."""

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
        shown = self.fitting("event", "show", "e0", schema="event-show")["at"][0]
        self.assertEqual((shown["state"], shown["inputs"][0]["arriving"]), ("live", True))
        ended = self.direkt("stop", "e0", "--wipe-key")
        self.assertEqual(ended.code, 0, ended)
        for words in (
            "its counter stands still", "nothing arrives any more", "the event is closed", "no key is left in it",
            "all is off, and proven",
        ):
            self.assertIn(words, ended.out)
        self.assertEqual((event.state, self.device.push_state, self.device._slot["key"]), ("closed", "stopped", ""))
        twice = self.direkt("stop", "e0")
        self.assertEqual(twice.code, 0, twice)
        self.assertEqual(self.fitting("stop", "e0")["proven"], True)
        listed = self.fitting("log", "list", "--event", "e0", schema="log-list")["entries"]
        self.assertEqual([(e["what"], e["outcome"]) for e in listed], [("go", "good")] * 2 + [("stop", "good")] * 3)
        self.assertEqual(self.fitting("log", "show", str(listed[0]["id"]), schema="log-show")["event"], "e0")
        shown = self.direkt("log", "show", str(listed[0]["id"]))
        self.assertIn(event.id, shown.out)
        written = self.direkt("log", "report", "e0", "-o", "e0.html")
        self.assertEqual(written.code, 0, written)
        report = (self.folder / "e0.html").read_text()
        self.assertIn("Race e0", report)
        database = (self.folder / ".direkt/log.sqlite").read_bytes().decode("latin-1")
        self.no_secrets(result.out, result.err, ended.out, report, database, json.dumps(listed), shown.out)
        self.assertEqual((self.folder / ".direkt/log.sqlite").stat().st_mode & 0o777, 0o600)

    def test_documents(self):
        self.assertEqual(self.fitting("event", "list", schema="event-list")["events"][0]["name"], "e0")
        self.assertEqual(self.fitting("event", "make", "e20", schema="event-done")["at"][0]["state"], "made")
        found = self.fitting("go", "e20", "--no-rehearsal", text="y\n")
        self.assertEqual(
            (found["on_air"], found["failed"], len(found["steps"]), found["looks"][0]["plays"]), (True, None, 7, True)
        )
        self.assertEqual(found["feeds"][0]["rows"][0]["seen"], "h264")

    def test_signing_in_on_a_phone(self):
        path, text = self.folder / "rig.yaml", (self.folder / "rig.yaml").read_text()
        self.addCleanup(path.write_text, text)
        path.write_text(text.replace(', token: "file:secrets.yaml#token"', ""))
        result = self.direkt("event", "make", "e21")
        self.one_line(result, 3, "nobody is signed in at tarn: direkt event sign-in tarn")
        child = self.start("event", "sign-in")
        lines = [child.stdout.readline() for _ in range(2)]
        page, code = lines[0].split()[-1], lines[1].split()[1]
        data = urllib.parse.urlencode({"code": code, "answer": "yes"}).encode()
        urllib.request.urlopen(page, data, timeout=5).read()
        done = self.finish(child, 20)
        self.assertEqual((done.code, "signed in at tarn" in done.out), (0, True), done)
        self.assertEqual(self.direkt("event", "make", "e21").code, 0)
        self.assertIn("signed out", self.direkt("event", "sign-in", "--out").out)
        for secret in list(self.platform.grants.tokens) + list(self.platform.grants.refresh):
            self.assertNotIn(secret, done.out + done.err + (self.folder / "config" / "keys.json").read_text())

    def test_1_settings_that_drifted(self):
        with _Bitrate(self.device, 9000):
            self.stops_at(1, self.go("e1"), "not set as matched: video bitrate 9000 kbit/s", "next:  direkt write finish")
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
            text.replace(self.platform.ingest_address() + '"', 'rtmp://127.0.0.1:9/live"').replace("mbit_s: 40", "mbit_s: 1")
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
        path.write_text(text.replace(self.platform.ingest_address() + '"', self.platform.ingest_address("backup") + '"', 1))
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

    def test_3_a_device_that_does_not_start(self):
        original = self.device.start_push
        self.device.start_push = lambda: (409, {"refused": [{"field": "push", "reason": "the card is full"}]})
        try:
            self.stops_at(3, self.go("e22"), "the card is full")
        finally:
            self.device.start_push = original
        self.assertEqual(self.go("e22").code, 0)

    def test_3_a_slot_that_pushes_elsewhere(self):
        self.device.put_slot({"channel": "main", "server": self.village.address, "key": VILLAGE})
        self.device.start_push()
        result = self.go("e8")
        self.assertEqual(result.code, 1)
        self.assertIn("tower is pushing to rtmp://127.0.0.1", result.out)
        self.assertEqual(self.device.push_state != "stopped", True)  # it was on before: it is not ours to end
        self.device.end_push()

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


if __name__ == "__main__":
    unittest.main()
