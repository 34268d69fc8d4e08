"""What going live says, held against a platform and an encoder that share no code with ours."""

import unittest
from unittest import mock

from direkt.work.device import push
from direkt.work.live import checks, go
from direkt.work.live.clocks import Clocks, ahead_of
from tests.lab.door import Door
from tests.lab.reedbank import Reedbank
from tests.lab.stage import KEY, LabStage

SECOND = """\
  other: {{address: "{origin}/", file: otherbank.yaml, token: "file:secrets.yaml#token"}}
destinations:
  reserve: {{sheet: reed-sheet.yaml, server: "{ingest}", key: "file:secrets.yaml#reserve", platform: other}}
"""


class GoStage(LabStage):
    def setUp(self):
        super().setUp()
        for where, name, value in ((go, "_LEAST_WAIT", 0.8), (go, "_POLL", 0.05), (go, "_ASK_EVERY", 0.1), (push, "START_LIMIT", 0.5)):
            patched = mock.patch.object(where, name, value)
            patched.start()
            self.addCleanup(patched.stop)
        door = Door()
        self.addCleanup(door.close)
        self.platform.ingest_address = door.address
        self.write_rig()

    def go(self, *more, text="y\n" * 8):
        result = self.direkt("go", "finals", "--no-rehearsal", *more, text=text)
        live = [c for c in self.platform.live() if c.phase == "airing"]
        claims = "✓ on air" in result.out
        if claims:
            self.assertTrue(live, result)
        self.assertEqual(result.code == 0, claims, result)
        for secret in (KEY, *(line.name for line in self.platform.lines.values())):
            self.assertNotIn(secret, result.out + result.err)
        return result


class Words(GoStage):
    def test_it_goes_on_air_and_ends(self):
        result = self.go()
        self.assertEqual(result.code, 0, result)
        self.assertTrue(self.tower.pushing)
        self.assertIn("not seen:", result.out)  # the sheet asks for what nobody measured
        self.assertIn("as far as seen", result.out)
        self.assertEqual(self.stop("finals").code, 0)

    def test_a_device_that_contradicts_the_ingest(self):
        cast = self.platform.cast("The finals", words=f"#{self.reference()}", phase="planned", key=KEY)
        self.elsewhere_pushes(self.platform.key_of(cast))
        told = self.tower._told
        self.tower._told = lambda way: told(way) | ({"state": "dialling"} if way.pushing else {})
        result = self.go()
        self.assertIn("says that it arrives, and tower says connecting", result.out)

    def test_an_event_that_was_deleted_is_not_still_on(self):
        result = self.go("--keep-on", text="n\n")
        self.assertNotEqual(result.code, 0)
        self.assertIn("still on: the event at Reedbank (main) is open", result.out)
        original = self.platform._do

        def gone(method, path, query, data):
            if path[-1:] == ["move"] and data.get("to") == "airing":
                self.platform.casts.clear()
            return original(method, path, query, data)

        with mock.patch.object(self.platform, "_do", gone):
            again = self.go("--keep-on", text="y\n")
        self.assertNotEqual(again.code, 0)
        self.assertNotIn("the event at Reedbank (main) is", again.out)

    def test_what_the_platform_does_not_take_is_said(self):
        self.write_rig("audience: everyone", "audience: everyone, keep: yes, rewind: 1h")
        result = self.go()
        self.assertIn("Reedbank cannot be seen from here: that it is kept as a recording, how far back viewers may go", " ".join(result.out.split()))

    def test_a_title_that_is_too_long(self):
        self.write_rig("title: The finals", f"title: {'T' * 70}")
        result = self.go()
        self.assertEqual(result.code, 1, result)
        self.assertIn("it has 70 characters, Reedbank takes 60", " ".join(result.out.split()))

    def test_what_differs_at_a_destination(self):
        self.write_rig("feeds: [finish]}", 'feeds: [finish], at: {main: {title: "For Reedbank", audience: invited, fields: {young: yes}}}}')
        self.go()
        cast = next(iter(self.platform.casts.values()))
        self.assertEqual((cast.about["name"], cast.seen_by, cast.about["young"]), ("For Reedbank", "circle", True))
        self.write_rig("feeds: [finish]}", "feeds: [finish], at: {elsewhere: {title: X}}}")
        self.assertIn("none of its feeds goes to 'elsewhere'", self.direkt("go", "finals").err)

    def test_a_delay_as_a_figure(self):
        sheet = self.folder / "reed-sheet.yaml"
        sheet.write_text(sheet.read_text() + "session: {viewers_behind_s: {min: 10, max: 20}}\n"
                         "latency:\n  quick: {delay: short, viewers_behind_s: {min: 2, max: 5}, rules: {}}\n")  # fmt: skip
        self.write_rig("audience: everyone", "audience: everyone, delay: at most 6 s")
        shown = self.direkt("go", "finals", "--dry-run", "--no-rehearsal")
        self.assertIn("Reedbank (quick)", shown.out)
        self.write_rig("audience: everyone", "audience: everyone, delay: 1s")
        result = self.direkt("go", "finals", "--dry-run", "--no-rehearsal")
        self.assertEqual(result.code, 1)
        self.assertIn("at most 1 s; Reedbank gives usual 10 to 20 s, short 2 to 5 s", " ".join(result.out.split()))
        self.write_rig("audience: everyone", "audience: everyone, delay: soon")
        self.assertIn("or a figure like 'at most 6 s'", self.direkt("go", "finals").err)

    def test_invited_first_where_nothing_can_be_changed_later(self):
        text = (self.folder / "reedbank.yaml").read_text()
        self.file("reedbank.yaml", text.replace('{/about/name: "{title}", /seen_by: "{audience}"}}\n  open', '{/about/name: "{title}"}}\n  open'))
        result = self.direkt("go", "finals", "--no-rehearsal", "--invited-first")
        self.one_line(result, 2, "--invited-first", "cannot be changed from here")
        self.assertEqual(self.platform.casts, {})

    def test_a_new_key_while_it_is_on_air_is_asked_for(self):
        self.file("reedbank.yaml", (self.folder / "reedbank.yaml").read_text().replace("  ingest: GET", "  renew: POST /v9/lines/{line}\n  ingest: GET"))
        self.go()
        refused = self.direkt("key", "renew", "main", "--event", "finals", text="n\n")
        self.one_line(refused, 2, "finals is on air", "was left as it is")
        (line,) = self.platform.lines.values()
        line.name = "varn~fake~another"  # somebody made a new one on its page
        taken = self.direkt("key", "renew", "main", "--event", "finals", "--given")
        self.assertEqual((taken.code, self.tower.ways[1].name), (0, "varn~fake~another"), taken)
        self.one_line(self.direkt("key", "renew", "main", "--given"), 2, "--given goes with --event")

    def test_a_series_keeps_its_event_and_key(self):
        self.write_rig("length: 2h", "length: 2h, repeat: FREQ=DAILY;COUNT=3, series: true")
        self.go()
        (cast,) = self.platform.casts.values()
        key = self.platform.key_of(cast)
        ended = self.direkt("stop", "finals")
        self.assertEqual((ended.code, cast.phase, self.tower.pushing), (0, "airing", False), ended)
        self.assertIn("one event for all its times: it stays live for", " ".join(ended.out.split()))
        import datetime

        tomorrow = f"{self.start_at + datetime.timedelta(days=1):%Y-%m-%d}"
        self.go("--at", tomorrow)
        self.assertEqual((len(self.platform.casts), self.platform.key_of(cast), self.tower.ways[1].name), (1, key, key))


class Without(GoStage):
    """One platform or device is down, and the rest goes on."""

    def setUp(self):
        super().setUp()
        self.other = Reedbank(self.platform.ingest_address)
        self.addCleanup(self.other.close)
        self.file("otherbank.yaml", self.other.file())
        text = (self.folder / "rig.yaml").read_text()
        text = text.replace("destinations:\n", SECOND.format(origin=self.other.origin, ingest=self.platform.ingest_address))
        text = text.replace("feeds:\n  finish", "feeds:\n  copy: {device: mill, destination: reserve}\n  finish").replace("feeds: [finish]", "feeds: [finish, copy]")
        self.file("rig.yaml", text)
        self.file("secrets.yaml", (self.folder / "secrets.yaml").read_text() + "reserve: varn~fake~reserve\n", 0o600)

    def moved(self):
        super().moved()
        if hasattr(self, "other"):
            self.other.arriving = set(self.platform.arriving)

    def test_by_word(self):
        self.other.faults.down = True
        result = self.go("--without", "reserve")
        self.assertEqual((result.code, self.mill.pushing), (0, False), result)
        self.assertIn("on air  finals without reserve", result.out)
        self.assertEqual(self.go("--without", "copy").code, 0)
        self.one_line(self.direkt("go", "finals", "--without", "nobody"), 2, "no such feed or destination", "reserve")
        self.one_line(self.direkt("go", "finals", "--without", "main", "--without", "copy"), 2, "nothing of finals is left")

    def test_by_a_question(self):
        self.other.faults.down = True
        result = self.go(text="y\n" * 3)
        self.assertEqual(result.code, 0, result)
        self.assertIn("Go on without reserve? [y/N] y", result.err)
        self.assertIn("without reserve", result.out)
        self.assertEqual(self.stop("finals").code, 3)  # of the other platform nobody can say
        self.assertEqual(self.platform.live(), [])

    def test_nobody_answers_and_nothing_goes_on(self):
        self.other.faults.down = True
        self.assertEqual(self.go(text="").code, 1)
        self.assertEqual(self.platform.live(), [])

    def test_a_device_that_is_down(self):
        self.mill.habits.down = True
        result = self.go(text="y\n" * 4)
        self.assertEqual(result.code, 0, result)
        self.assertIn("Go on without copy?", result.err)

    def test_one_that_fails_on_the_way_to_air(self):
        self.other.faults.trouble = "not today"
        result = self.go(text="y\n" * 4)
        self.assertEqual(result.code, 0, result)
        self.assertFalse(self.mill.pushing)

    def test_it_fails_when_all_is_pushed(self):
        original = self.other._do

        def do(method, path, query, data):
            if path[-1:] == ["move"] and data.get("to") == "airing":
                return 200, {"trouble": {"text": "no more air"}}
            return original(method, path, query, data)

        with mock.patch.object(self.other, "_do", do):
            result = self.go(text="y\n" * 4)
        self.assertEqual(result.code, 0, result)
        self.assertIn("no more air", result.out)
        self.assertFalse(self.mill.pushing)


class Clock(unittest.TestCase):
    """Whose clock is wrong."""

    def test_the_most_are_right(self):
        for devices, platforms, ours in (
            ({}, {}, None), ({"a": 0.5}, {}, 0.0), ({"a": 300.0}, {}, 0.0), ({"a": 300.0, "b": 301.0}, {}, -301.0), ({"a": 0.2, "b": 300.0}, {}, 0.0),
            ({}, {"P": 1.0}, 0.0), ({}, {"P": 300.0}, -300.0), ({"a": 0.0}, {"P": 300.0}, 0.0), ({"a": 299.0}, {"P": 300.0}, -300.0),
            ({"a": 0.0, "b": 0.0}, {"P": 3600.0}, 0.0), ({"a": -40.0, "b": 60.0}, {"P": 0.0}, 0.0),
        ):  # fmt: skip
            found = Clocks(devices, platforms).ours()
            self.assertEqual(None if found is None else round(found), None if ours is None else round(ours), (devices, platforms))

    def test_an_ingests_time(self):
        begun, now = 1_800_000_000.0, 1_800_000_060.0
        for stamp, ahead in (("2027-01-15T08:00:30Z", None), ("2027-01-15T08:05:00Z", 240), ("2027-01-15T07:50:00Z", -600), ("yesterday", None),
                             ("2027-01-15T08:00:30", None), ("2027-01-15T09:00:30+01:00", None)):  # fmt: skip
            found = ahead_of(stamp, begun, now)
            self.assertEqual(None if found is None else round(found), ahead, stamp)


class MachineClock(GoStage):
    def test_this_machines_clock_is_doubted(self):
        with mock.patch("direkt.platform.calls.Calls._note_clock", lambda calls, answer, at: setattr(calls, "clock_ahead", 400.0)):
            result = self.direkt("go", "finals", "--dry-run", "--no-rehearsal")
        self.assertEqual(result.code, 1, result)
        self.assertIn("its clock is 7 min behind, by that of Reedbank", " ".join(result.out.split()))
        self.assertGreater(checks._CLOCK_WRONG, 30)


if __name__ == "__main__":
    unittest.main()
