"""What must be true before anything is started, check by check, on devices that say whatever is wanted."""

import datetime
import unittest
from types import SimpleNamespace

from direkt.described.errors import Unreachable
from direkt.destination.references import Sources
from direkt.device.state import Bare, Capability, Channel, DeviceClock, DeviceState, Health, PushState, Slot
from direkt.platform import library, planned
from direkt.platform.event import PlatformFacts
from direkt.rig import file as rig
from direkt.secret import Secret
from direkt.store import event_memory
from direkt.work.feeds import FeedParts
from direkt.work.live import checks, end, event_at_platforms
from direkt.work.live.end_findings import Proof, What
from direkt.work.live.go_types import Crew, LastRehearsal, Options
from tests.support import KEY, Folder

RIG = """\
schema: direkt.rig/1
name: R
devices: {{d: {{driver: brindle-b2, address: "http://127.0.0.1:9"}}}}
destinations:
  t: {{sheet: {sheet}, server: "rtmp://127.0.0.1:9/live", key: "file:k.yaml#t"}}
feeds: {{f: {{device: d, destination: t}}, g: {{device: d, destination: t}}}}
uplink: {{mbit_s: {uplink}}}
events:
  e: {{title: T, start: "{start:%Y-%m-%d %H:%M}", length: {length}, zone: UTC, projection: {projection}, feeds: [f]}}
  old: {{title: T, start: 2026-01-01 10:00, length: 1h, zone: UTC, feeds: [f]}}
"""
NOW = datetime.datetime(2026, 7, 3, 12, tzinfo=datetime.UTC)
VALUES = {
    "video.codec": "h264", "video.size": "1920x1080", "video.frame_rate": 50, "video.bitrate.mean": 6900,
    "audio.bitrate.mean": 160,
}


class Device(Bare):
    """Says what it is told to say."""

    capabilities = frozenset({Capability.PUSH, Capability.SLOTS, Capability.TIME})

    def __init__(self, values=VALUES, *, offset=0.0, memory=50.0, slot=PushState.STOPPED, wrong=(), gone=False):
        self.name, self.address, self.values, self.offset, self.memory, self.slot = (
            "d", "http://h", values, offset, memory, slot,
        )
        self.wrong, self.gone = wrong, gone

    def read(self):
        if self.gone:
            raise Unreachable("d does not answer")
        slot = Slot(1, "main", "rtmp://elsewhere.example/x", 5, self.slot)
        return DeviceState("M", "1", None, None, False, {"main": Channel("main", self.values, {})}, {1: slot})

    def health(self):
        return Health(memory_free=self.memory, wrong=self.wrong)

    def clock(self):
        return DeviceClock(NOW, self.offset, False)


class Checks(Folder):
    def lines(
        self, driver=None, *, uplink=30, hours_ahead=1, length="3h", projection="none", sheet="tarnlight", rehearsed="",
        exposed=False, options=None,
    ):
        self.file("k.yaml", f"t: {KEY}\n", 0o600)
        start = NOW + datetime.timedelta(hours=hours_ahead)
        made = rig.load(
            self.file("rig.yaml", RIG.format(uplink=uplink, start=start, length=length, projection=projection, sheet=sheet))
        )
        means = library.Means(Sources({}), SimpleNamespace(), "r", NOW.timestamp, lambda _: None)
        one = planned.next_one(made, "e", NOW)
        airings = event_at_platforms.gather(made, one, means)
        entry, _, destination = made.feed("f")
        parts = {"f": FeedParts(made, "f", entry, destination, made.sheet(destination), driver or Device())}
        crew = Crew(
            means, SimpleNamespace(), lambda _: None, lambda _: "", lambda _: LastRehearsal(rehearsed, bool(rehearsed)), lambda _: exposed
        )
        found = list(checks.before(airings, parts, crew, options or Options()))
        return [f"{line.verdict} {line.what}: {line.text} -> {line.advice}" for line in found]

    def has(self, lines, *wanted):
        for words in wanted:
            self.assertTrue(any(words in line for line in lines), (words, lines))

    def test_times(self):
        self.has(self.lines(hours_ahead=30), "advise e: Sat 2026-07-04 18:00 UTC to 21:00: it begins in 30 h")
        self.has(self.lines(length="10h"), "fail t: the event lasts 10 h, Tarnlight ends a session after 9 h")

    def test_the_key(self):
        self.has(self.lines(exposed=True), "fail t: the key was seen by others", "direkt key renew t")
        mark = event_at_platforms.key_mark(rig.load(self.folder / "rig.yaml"), Secret(KEY))
        event_memory.change_place(
            self.folder, "old", "20260101T100000Z", "t", lambda p: p.model_copy(update={"key_mark": mark, "pushed": True}),
        )
        self.has(self.lines(), "fail t: the key is that of a past event (old, 20260101)", "direkt key set t")
        (self.folder / "k.yaml").write_text("u: x\n")

    def test_spherical(self):
        round_ = {**VALUES, "video.projection": "equirectangular"}
        self.has(
            self.lines(Device(round_)), "fail f: d sends a spherical picture (equirectangular), the event is not marked as one",
        )
        self.has(
            self.lines(Device(round_), projection="equirectangular"),
            "pass f: the event is marked as equirectangular as the picture is",
        )
        self.has(self.lines(projection="cubemap"), "unseen f: the event is marked as cubemap; the device does not report")
        self.has(
            self.lines(Device(round_), projection="cubemap"), "fail f: the event is marked as cubemap, d sends equirectangular",
        )
        self.has(self.lines(projection="equirectangular", sheet="plainsong-village"), "takes no spherical pictures")

    def test_the_device(self):
        lines = self.lines(Device(offset=-5400.0, memory=1.0, wrong=("it is hot",), slot=PushState.PUSHING))
        self.has(lines, "fail f: the clock of d is 90 min behind; it is that one or this machine's, there is no second clock to compare it with -> direkt device time d --set", "fail f: d: 1 % of its memory is free", "advise f: d says: it is hot",
                 "fail f: d is pushing to rtmp://elsewhere.example/x")  # fmt: skip
        self.has(self.lines(Device(offset=4.0)), "advise f: the clock of d is 4 s ahead")
        # by the clock, with nobody there, a device's clock keeps nothing off the air
        self.has(self.lines(Device(offset=3600.0), options=Options(unattended=True)), "advise f: the clock of d is 60 min ahead")
        self.has(self.lines(Device(gone=True)), "fail f: d does not answer -> direkt read d", "unseen the line")

    def test_the_line(self):
        self.has(self.lines(), "pass the line: 7.", "of 21.0 Mbit/s")
        self.has(self.lines(uplink=5), "fail the line", "direkt budget")

    def test_the_rehearsal(self):
        self.has(self.lines(), "fail f: never rehearsed, or not well")
        self.has(self.lines(rehearsed="2026-07-03T10:00:00Z"), "pass f: rehearsed well on 2026-07-03 10:00 UTC")
        self.assertFalse(any("rehearsed" in line for line in self.lines(options=Options(rehearsal=False))))

    def test_a_session_that_is_just_long_enough(self):
        self.has(self.lines(length="9h"), "pass t: 9 h fit into a session of 9 h")
        self.has(self.lines(length="9h 1m"), "ends a session after 9 h")

    def test_who_may_push_when_something_still_arrives(self):
        for proof, words in ((Proof.ON, "it may be tower: switch it off by hand"), (Proof.SILENT, "it may be tower"), (Proof.OFF, "find who pushes")):
            feeds = {"finish": SimpleNamespace(device="tower", destination="t"), "roof": SimpleNamespace(device="camera", destination="other")}
            seen = SimpleNamespace(
                items={(What.PUSH, "tower"): SimpleNamespace(proof=proof), (What.PUSH, "camera"): SimpleNamespace(proof=Proof.ON)},
                rig=SimpleNamespace(file=SimpleNamespace(feeds=feeds)),
            )  # fmt: skip
            self.assertIn(words, end._Ending._who_pushes(seen, "t"))

    def test_what_a_person_is_asked_to_make(self):
        start = datetime.datetime(2026, 7, 5, 12, tzinfo=datetime.UTC)
        plain = SimpleNamespace(start=start, audience="everyone", delay="usual", projection="none")
        self.assertEqual(event_at_platforms._how(plain), " (2026-07-05 12:00, for everyone)")
        round_ = SimpleNamespace(start=start, audience="link", delay="short", projection="equirectangular")
        self.assertEqual(event_at_platforms._how(round_), " (2026-07-05 12:00, for whoever has the link, delay short, marked as equirectangular)")

    def test_a_platform_asks_for_what_it_insists_on(self):
        self.assertEqual(PlatformFacts("T").wrong(SimpleNamespace(audience="link", delay="usual", fields={})), [])


if __name__ == "__main__":
    unittest.main()
