"""When events take place, and what they are called: against times worked out by hand and by brute force."""

import datetime
import unittest
from zoneinfo import ZoneInfo

from direkt.documents import DocumentError
from direkt.errors import UnusableInput
from direkt.platform import planned
from direkt.rig import file as rig
from direkt.rig import templates
from tests.support import Folder

VIENNA, UTC = ZoneInfo("Europe/Vienna"), datetime.UTC
HEAD = """\
schema: direkt.rig/1
name: Lake & Varn
devices: {d: {driver: brindle-b2, address: "http://127.0.0.1:9"}}
destinations: {t: {sheet: tarnlight, server: "rtmp://127.0.0.1:9/live", key: "env:K"}}
feeds: {f: {device: d, destination: t}}
events:
"""


class Planned(Folder):
    def load(self, text, head=HEAD):
        return rig.load(self.file("rig.yaml", head + text))

    def times(self, text, most=50):
        made = self.load(f"  e: {{title: T, feeds: [f], {text}}}\n")
        return [one for one, _ in zip(planned.occurrences(made, "e"), range(most), strict=False)]

    def utc(self, text, most=50):
        return [one.start.astimezone(UTC).strftime("%m-%d %H:%M") for one in self.times(text, most)]

    def test_a_rule_keeps_the_local_time_across_both_clock_changes(self):
        # 2026: summer time from 29 March 01:00 UTC to 25 October 01:00 UTC
        self.assertEqual(
            self.utc('start: 2026-03-28 14:00, zone: Europe/Vienna, length: 1h, repeat: "FREQ=DAILY;COUNT=3"'),
            ["03-28 13:00", "03-29 12:00", "03-30 12:00"],
        )
        self.assertEqual(
            self.utc('start: 2026-10-24 14:00, zone: Europe/Vienna, length: 1h, repeat: "FREQ=DAILY;COUNT=3"'),
            ["10-24 12:00", "10-25 13:00", "10-26 13:00"],
        )

    def test_a_time_that_a_clock_change_leaves_out_or_doubles(self):
        # RFC 5545, 3.3.5: the offset in front of the gap; of two, the first
        self.assertEqual(self.utc("start: 2026-03-29 02:30, zone: Europe/Vienna, length: 1h"), ["03-29 01:30"])
        self.assertEqual(self.utc("start: 2026-10-25 02:30, zone: Europe/Vienna, length: 1h"), ["10-25 00:30"])

    def test_lengths_are_real_ones_across_a_change(self):
        one = self.times("start: 2026-10-25 01:30, zone: Europe/Vienna, length: 3h")[0]
        self.assertEqual(one.seconds, 3 * 3600)
        self.assertEqual(one.end.strftime("%H:%M"), "03:30")  # an hour comes twice
        self.assertEqual((one.end.astimezone(UTC) - one.start.astimezone(UTC)).total_seconds(), 3 * 3600)

    def test_rules_against_brute_force(self):
        day = datetime.date(2026, 1, 7)
        wednesdays_and_fridays = []
        while len(wednesdays_and_fridays) < 7:
            if day.weekday() in (2, 4):
                wednesdays_and_fridays.append(f"{day:%m-%d} 19:00")
            day += datetime.timedelta(days=1)
        self.assertEqual(
            self.utc('start: 2026-01-07 19:00, zone: UTC, length: 1h, repeat: "FREQ=WEEKLY;BYDAY=WE,FR;COUNT=7"'),
            wednesdays_and_fridays,
        )
        self.assertEqual(
            self.utc('start: 2028-02-29 10:00, zone: UTC, length: 1h, repeat: "FREQ=YEARLY;COUNT=2"')[0], "02-29 10:00"
        )
        leap = [o.start.year for o in self.times('start: 2028-02-29 10:00, zone: UTC, length: 1h, repeat: "FREQ=YEARLY"')]
        self.assertEqual(leap, [2028, 2032, 2036])
        self.assertEqual(
            self.utc('start: 2026-07-03 14:00, zone: UTC, length: 1h, repeat: "RRULE:FREQ=DAILY;UNTIL=20260705T140000Z"'),
            ["07-03 14:00", "07-04 14:00", "07-05 14:00"],
        )
        # the first time counts, also where the rule leaves it out (RFC 5545, 3.8.5.3); skipped days do
        self.assertEqual(
            self.utc(
                'start: 2026-07-02 14:00, zone: UTC, length: 1h, repeat: "FREQ=WEEKLY;BYDAY=FR;COUNT=4", skip: [2026-07-10]'
            ),
            ["07-02 14:00", "07-03 14:00", "07-17 14:00"],
        )

    def test_until_in_utc_is_meant_in_utc(self):
        rule = 'zone: Europe/Vienna, length: 1h, repeat: "FREQ=DAILY;UNTIL=20260705T115959Z"'
        self.assertEqual(len(self.times(f"start: 2026-07-03 14:00, {rule}")), 2)  # the 5th at 14:00 is 12:00 UTC

    def test_a_rule_without_an_end_and_one_that_never_fits_end(self):
        self.assertEqual(len(self.times('start: 2026-07-03 14:00, zone: UTC, length: 1h, repeat: "FREQ=DAILY"', 5000)), 3654)
        never = 'start: 2026-07-03 14:00, zone: UTC, length: 1h, repeat: "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"'
        self.assertEqual(self.utc(never), ["07-03 14:00"])

    def test_the_next_time_is_the_one_that_is_on(self):
        made = self.load(
            '  e: {title: T, feeds: [f], start: 2026-07-03 14:00, zone: UTC, length: 3h, repeat: "FREQ=DAILY;COUNT=3"}\n'
        )

        def at(text):
            return planned.next_one(made, "e", datetime.datetime.fromisoformat(text + "+00:00")).start.day

        self.assertEqual([at("2026-07-01T00:00"), at("2026-07-03T16:59"), at("2026-07-03T17:00")], [3, 3, 4])
        with self.assertRaisesRegex(UnusableInput, "does not take place any more: it ended on 2026-07-05 at 17:00"):
            at("2026-07-06T00:00")

    def test_titles_are_filled_in(self):
        made = self.load(
            '  e: {title: "{rig}: {event} {number}, {start:%d %B}", description: "{{x}} {date} {time} {zone} {feeds} {end:%H:%M}",'
            ' feeds: [f], start: 2026-07-03 14:00, zone: Europe/Vienna, length: 90m, repeat: "FREQ=DAILY"}\n'
        )
        found = planned.wanted(made, list(zip(planned.occurrences(made, "e"), range(2), strict=False))[1][0])
        self.assertEqual(found.title, "Lake & Varn: e 2, 04 July")
        self.assertEqual(found.description, "{x} 2026-07-04 14:00 CEST f 15:30")

    def test_templates_reach_nothing_behind_their_names(self):
        for template, words in (
            ("{start.__class__}", "nothing called"), ("{rig[0]}", "nothing called"), ("{0}", "nothing called"), ("{rig!r}", "cannot be written"),
            ("{number:{rig}}", "cannot be written"), ("{rig:99999999}", "cannot be written"), ("{oops", "brace"), ("{rig:%d}", "cannot be written"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ValueError, words, msg=template):
                templates.check(template)

    def test_every_mistake_is_named_with_its_line(self):
        good = {"title": "T", "start": "2026-07-03 14:00", "length": "3h", "feeds": "[f]"}
        for key, value, words in (
            ("start", "soon", "date and time like"), ("start", "2026-07-03T14:00+02:00", "without an offset"), ("length", "long", "length of time"),
            ("length", "0m", "length of time"), ("zone", "Mars/Base", "no time zone"), ("repeat", "weekly", "repeat rule like"),
            ("repeat", "FREQ=SECONDLY", "FREQ is SECONDLY"), ("repeat", "FREQ=DAILY;COUNT=2;UNTIL=20260705", "exclude each other"),
            ("repeat", "FREQ=DAILY;BYDAY=XX", "cannot be followed"), ("repeat", "FREQ=DAILY;COUNT=0", "cannot be followed"),
            ("title", "'{titel}'", "nothing called 'titel'"), ("feeds", "[g]", "no feed 'g'; there is f"), ("feeds", "[f, f]", "named twice"),
            ("feeds", "[]", "at least 1"), ("audience", "all", "everyone"), ("skip", "[tomorrow]", "date like"), ("sponsor", "me", "unknown entry"),
        ):  # fmt: skip
            entries = {**good, key: value}
            text = "  e:\n" + "".join(f"    {k}: {v}\n" for k, v in entries.items())
            with self.assertRaisesRegex(DocumentError, words, msg=f"{key}: {value}") as caught:
                self.load(text)
            self.assertRegex(str(caught.exception), r"rig\.yaml:\d+: ")

    def test_names_at_the_platform_are_the_same_each_time_and_differ_where_anything_does(self):
        made = self.load('  e: {title: T, feeds: [f], start: 2026-07-03 14:00, zone: UTC, length: 1h, repeat: "FREQ=DAILY"}\n')
        first, second = (one for one, _ in zip(planned.occurrences(made, "e"), range(2), strict=False))
        names = {planned.event_id(made, one, place) for one in (first, second, first) for place in ("t", "T", "ü")}
        self.assertEqual(len(names), 6)
        for name in names:
            self.assertRegex(name, r"^[a-z0-9][a-z0-9-]{0,127}$")

    def test_the_picture(self):
        self.file("p.png", b"\x89PNG\r\n\x1a\nrest")
        self.file("p.txt", b"words")
        for name, words in (("p.txt", "neither PNG nor JPEG"), ("none.png", "cannot be read")):
            made = self.load(f"  e: {{title: T, feeds: [f], start: 2026-07-03 14:00, length: 1h, picture: {name}}}\n")
            with self.assertRaisesRegex(UnusableInput, words):
                planned.wanted(made, next(planned.occurrences(made, "e")))
        outside = self.folder.parent / f"{self.folder.name}.png"
        outside.write_bytes((self.folder / "p.png").read_bytes())
        self.addCleanup(outside.unlink)
        (self.folder / "link.png").symlink_to(outside)
        for name in (f"../{outside.name}", str(outside), "link.png"):
            made = self.load(f"  e: {{title: T, feeds: [f], start: 2026-07-03 14:00, length: 1h, picture: {name}}}\n")
            with self.assertRaisesRegex(UnusableInput, "outside the rig's folder"):
                planned.wanted(made, next(planned.occurrences(made, "e")))
        made = self.load("  e: {title: T, feeds: [f], start: 2026-07-03 14:00, length: 1h, picture: p.png}\n")
        self.assertEqual(len(planned.wanted(made, next(planned.occurrences(made, "e"))).picture_mark), 64)

    def test_platforms_and_roles(self):
        for text, words in (
            ("platforms: {p: {address: 'ftp://x'}}\n", "expected an address like"), ("platforms: {p: {address: 'http://a:b@x'}}\n", "holds a login"),
            ("platforms: {p: {address: 'http://x', token: secret}}\n", "expected a reference"), ("zone: Nowhere\n", "no time zone"),
        ):  # fmt: skip
            with self.assertRaisesRegex(DocumentError, words):
                self.load(text, HEAD.replace("events:\n", ""))
        head = HEAD.replace("events:\n", "")
        with self.assertRaisesRegex(DocumentError, "no platform 'x'; there is none"):
            self.load("", head.replace('key: "env:K"', 'key: "env:K", platform: x'))
        with self.assertRaisesRegex(DocumentError, "t has no 'backup' server address"):
            self.load("", head.replace("destination: t}", "destination: t, role: backup}"))
        made = self.load(
            "",
            head.replace("destination: t}", "destination: t, role: backup}").replace(
                'key: "env:K"', 'key: "env:K", backup: "rtmp://b/live"'
            ),
        )
        self.assertEqual(made.feed("f")[2].server, "rtmp://b/live")


if __name__ == "__main__":
    unittest.main()
