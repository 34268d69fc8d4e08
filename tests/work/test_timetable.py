"""When things begin and end by the clock: across clock changes and a leap day, against brute force; and what overlaps."""

import datetime
import random
from zoneinfo import ZoneInfo

from direkt.errors import UnusableInput
from direkt.report import unitfile
from direkt.rig import file as rigs
from direkt.work.live import timetable
from tests.support import Folder

UTC = datetime.UTC
RIG = """\
schema: direkt.rig/1
name: Regatta
zone: {zone}
devices:
  tower: {{driver: brindle-b2, address: "http://192.0.2.1"}}
  roof: {{driver: brindle-b2, address: "http://192.0.2.2"}}
destinations:
  main: {{sheet: tarnlight, server: "rtmp://192.0.2.9/live", key: "env:DIREKT_A"}}
  other: {{sheet: tarnlight, server: "rtmp://192.0.2.9/live", key: "env:DIREKT_B"}}
  same: {{sheet: tarnlight, server: "rtmp://192.0.2.9/live", key: "env:DIREKT_A"}}
feeds:
  finish: {{device: tower, destination: main}}
  roof: {{device: roof, destination: other}}
  second: {{device: tower, destination: other, slot: 2}}
  alike: {{device: roof, destination: same}}
events:
  finals: {{title: The finals, start: "{start}", length: {length}, feeds: [finish]{more}}}
schedule:
{schedule}
"""


class Times(Folder):
    def rig(self, *schedule, zone="Europe/Vienna", start="2026-07-05 12:00", length="3h", more=""):
        text = RIG.format(zone=zone, start=start, length=length, more=more, schedule="\n".join(f"  {line}" for line in schedule))
        return rigs.load(self.file("rig.yaml", text))

    def starts(self, rig, name, now, count):
        turns = timetable.turns(rig, name, now, past=datetime.timedelta(0))
        return [turn for turn, _ in zip(turns, range(count), strict=False)]

    def test_a_window_across_both_clock_changes(self):
        rig = self.rig('a: {feed: finish, window: "01:30-04:00"}')
        for day, hours, first in ((datetime.date(2026, 3, 29), 1.5, "2026-03-29T00:30"), (datetime.date(2026, 10, 25), 3.5, "2026-10-24T23:30")):
            now = datetime.datetime.combine(day, datetime.time(), UTC) - datetime.timedelta(hours=6)
            (turn,) = self.starts(rig, "a", now, 1)
            self.assertEqual(turn.start.astimezone(UTC).isoformat()[:16], first)
            self.assertEqual((turn.end.astimezone(UTC) - turn.start.astimezone(UTC)).total_seconds() / 3600, hours)
            self.assertEqual((turn.start.hour, turn.start.minute, turn.end.hour), (1, 30, 4))

    def test_a_time_that_is_left_out_and_one_that_comes_twice(self):
        rig = self.rig('a: {feed: finish, window: "02:30-02:45"}')
        (spring,) = self.starts(rig, "a", datetime.datetime(2026, 3, 28, 12, tzinfo=UTC), 1)
        # RFC 5545, 3.3.5: with the offset before the gap
        self.assertEqual(spring.start.astimezone(UTC).isoformat()[:16], "2026-03-29T01:30")
        (autumn,) = self.starts(rig, "a", datetime.datetime(2026, 10, 24, 12, tzinfo=UTC), 1)
        self.assertEqual(autumn.start.astimezone(UTC).isoformat()[:16], "2026-10-25T00:30")  # the first of the two

    def test_the_leap_day_and_days_of_the_week(self):
        rig = self.rig('a: {feed: finish, window: "22:00-02:00", days: [TU]}', zone="UTC")
        found = self.starts(rig, "a", datetime.datetime(2028, 2, 28, tzinfo=UTC), 2)
        self.assertEqual([t.mark for t in found], ["20280229T220000Z", "20280307T220000Z"])
        self.assertEqual(found[0].end, datetime.datetime(2028, 3, 1, 2, tzinfo=UTC))
        rig = self.rig("f: {event: finals}", start="2028-02-29 12:00", more=', repeat: "FREQ=YEARLY"', zone="UTC")
        found = self.starts(rig, "f", datetime.datetime(2028, 1, 1, tzinfo=UTC), 2)
        self.assertEqual([t.mark for t in found], ["20280229T120000Z", "20320229T120000Z"])

    def test_windows_against_brute_force(self):
        rng = random.Random(5)
        zones = ("Europe/Vienna", "America/New_York", "Australia/Lord_Howe", "UTC", "America/St_Johns")
        for _ in range(25):
            zone = rng.choice(zones)
            times = [f"{rng.randrange(24):02d}:{rng.randrange(60):02d}" for _ in range(2)]
            if times[0] == times[1]:
                continue
            days = sorted(rng.sample(range(7), rng.randrange(1, 8)))
            names = ", ".join(("MO", "TU", "WE", "TH", "FR", "SA", "SU")[d] for d in days)
            rig = self.rig(f'a: {{feed: finish, window: "{times[0]}-{times[1]}", days: [{names}]}}', zone=zone)
            now = datetime.datetime(2026, rng.choice((3, 4, 10, 11)), rng.randrange(1, 28), rng.randrange(24), tzinfo=UTC)
            found = [(t.start.astimezone(UTC), t.end.astimezone(UTC)) for t in self.starts(rig, "a", now, 8)]
            wanted, where = [], ZoneInfo(zone)
            for n in range(-3, 90):  # every day by itself, in the zone's own arithmetic
                day = now.astimezone(where).date() + datetime.timedelta(n)
                if day.weekday() in days:
                    begin, end = (datetime.datetime.combine(day, datetime.time.fromisoformat(t)) for t in times)
                    end += datetime.timedelta(1) if times[1] <= times[0] else datetime.timedelta(0)
                    pair = tuple(m.replace(tzinfo=where).astimezone(UTC) for m in (begin, end))
                    if pair[1] > now and pair[0] < pair[1]:
                        wanted.append(pair)
            self.assertEqual(found, wanted[:8], (zone, times, names, now))

    def test_an_event_begins_earlier_by_real_minutes(self):
        rig = self.rig("f: {event: finals, before: 90m}", start="2026-03-29 03:30", length="2h")
        (turn,) = self.starts(rig, "f", datetime.datetime(2026, 3, 28, tzinfo=UTC), 1)
        self.assertEqual((turn.start.astimezone(UTC) - turn.begin.astimezone(UTC)).total_seconds(), 5400)
        self.assertEqual(turn.begin.astimezone(UTC).isoformat()[:16], "2026-03-29T00:00")

    def refused(self, *schedule, **more):
        with self.assertRaises(timetable.Overlap) as caught:
            timetable.check(self.rig(*schedule, **more), datetime.datetime(2026, 7, 1, tzinfo=UTC))
        return str(caught.exception)

    def test_overlaps_are_refused_with_both_names(self):
        text = self.refused("one: {event: finals, before: 10m}", 'two: {feed: second, window: "11:00-11:55"}')
        for words in ("schedule.one", "schedule.two", "device tower", "2026-07-05", "11:50"):
            self.assertIn(words, text)
        text = self.refused('a: {feed: finish, window: "08:00-10:00"}', 'b: {feed: alike, window: "09:59-12:00"}')
        self.assertIn("the same key (env:DIREKT_A)", text)
        self.assertIn("always", self.refused("a: {feed: roof, always: true}", 'b: {feed: alike, window: "09:59-12:00"}'))
        self.assertIn("follows itself", self.refused("f: {event: finals}", length="25h", more=', repeat: "FREQ=DAILY;COUNT=3"'))

    def test_what_follows_at_once_or_elsewhere_is_no_overlap(self):
        now = datetime.datetime(2026, 7, 1, tzinfo=UTC)
        rig = self.rig('a: {feed: finish, window: "08:00-10:00"}', 'b: {feed: second, window: "10:00-12:00"}', 'c: {feed: roof, window: "12:00-13:00"}')
        timetable.check(rig, now)
        found = timetable.upcoming(rig, datetime.datetime(2026, 7, 1, 7, tzinfo=UTC), 4)
        self.assertEqual([t.entry for t in found], ["a", "b", "c", "a"])  # 09:00 in Vienna: the first is on
        self.assertEqual(len(timetable.upcoming(rig, now, 100, days=1)), 3)

    def test_what_a_rig_may_not_say(self):
        for line, words in (
            ("a: {}", "expected an event or a feed"), ("a: {event: finals, feed: finish}", "expected an event or a feed"),
            ("a: {feed: finish}", "needs a window"), ('a: {feed: finish, window: "8-10"}', "expected a window"),
            ('a: {feed: finish, window: "08:00-08:00"}', "expected a window"),
            ('a: {feed: finish, window: "24:00-25:00"}', "expected a window"),
            ("a: {event: finals, always: true}", "has its own times"),
            ("a: {event: nothing}", "no event 'nothing'; there is finals"),
            ("a: {feed: nothing, always: true}", "no feed 'nothing'"),
            ('a: {feed: finish, window: "08:00-10:00", days: [Monday]}', "MO"),
            ('a: {feed: finish, window: "08:00-10:00", days: []}', "none is left"),
        ):
            with self.assertRaises(UnusableInput) as caught:
                self.rig(line)
            self.assertIn(words, str(caught.exception), line)

    def test_words_of_a_unit(self):
        for text, written in (
            ("plain-1.2/x", "plain-1.2/x"), ("two words", '"two words"'), ("50%", '"50%%"'), ("$HOME", '"$$HOME"'), ('a"b\\c', '"a\\"b\\\\c"'), ("", '""'),
        ):  # fmt: skip
            self.assertEqual(unitfile.word(text), written)
