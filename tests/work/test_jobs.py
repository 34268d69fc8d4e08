"""Jobs driven by a front end of the tests' own: no terminal, no commands, a made-up device and a made-up clock."""

import copy
import dataclasses
import json
from pathlib import Path
from unittest import mock

from direkt.demand import parse
from direkt.described.errors import ChangeRefused, DeviceError, Unreachable
from direkt.destination.references import Sources
from direkt.device.input import InputSignal
from direkt.device.state import Bare, Capability, Channel, DeviceState, PushState, Slot
from direkt.errors import UnusableInput
from direkt.rig import file as rigs
from direkt.secret import Secret
from direkt.store import learned
from direkt.store.small_file import place
from direkt.work.device import push, renew, unfinished, write
from direkt.work.device import saved as saved_files
from direkt.work.device.unfinished import Stage, UnfinishedWrite
from direkt.work.feeds import FeedParts
from direkt.work.steps import Agree, drive
from tests.support import KEY, RIG, Folder

SERVER = "rtmp://ingest.tarnlight.example/live"
WRONG = {"video.size": "2560x1440", "video.frame_rate": 25, "video.rate_control": "vbr", "audio.present": "yes"}
LIMITS = {"video.size": ["2560x1440", "1920x1080"], "video.frame_rate": [25, 50], "video.rate_control": ["cbr", "vbr"]}


class FakeClock:
    def __init__(self) -> None:
        self.time = 100.0

    def now(self) -> float:
        return self.time

    def sleep(self, seconds: float) -> None:
        self.time += seconds

    def stamp(self) -> str:
        return f"20260103-{round(self.time):06d}"


class FakeDriver(Bare):
    """A device in memory; ``fail`` names calls that raise, ``away`` how many looks it stays away."""

    name, address = "tower", "http://192.0.2.1"

    def __init__(self, **values) -> None:
        self.values = {**WRONG, **values}
        self.slot = Slot(1, "second", "", 0, PushState.STOPPED)
        self.needs_restart = False
        self.capabilities = frozenset(Capability)
        self.fail: dict[str, Exception] = {}
        self.away = 3
        self.sticky: set[str] = set()
        self.calls: list[str] = []
        self.key = ""

    def _call(self, name: str) -> None:
        self.calls.append(name)
        if name in self.fail:
            raise self.fail[name]

    def read(self) -> DeviceState:
        self._call("read")
        channel = Channel("main", dict(self.values), {n: parse(n, raw) for n, raw in LIMITS.items()})
        return DeviceState(
            "Fake", "1", None, InputSignal("1080p50", 1920, 1080, 50.0), self.needs_restart, {"main": channel}, {1: self.slot},
        )

    def write(self, channel, values) -> None:
        self._call("write")
        self.values |= {n: v for n, v in values.items() if n not in self.sticky}
        self.needs_restart = True

    def write_slot(self, slot, channel, server, key) -> None:
        self._call("write_slot")
        self.key = key.reveal()
        self.slot = Slot(slot, channel, server, len(key), self.slot.state)

    def push(self, slot, *, on) -> None:
        self._call("push on" if on else "push off")
        state = PushState.PUSHING if on else PushState.STOPPED
        self.slot = Slot(self.slot.number, self.slot.channel, self.slot.server, self.slot.key_length, state)

    def restart(self) -> None:
        self._call("restart")
        self.gone = self.away

    def answers(self) -> bool:
        self.gone -= 1
        if self.gone < 0:
            self.needs_restart = False
        return self.gone < 0

    def close(self) -> None:
        self._call("close")


class Jobs(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.rig = rigs.load(self.file("rig.yaml", RIG.format(port=1)))
        self.clock = FakeClock()
        self.seen: list = []

    def feed(self, driver: FakeDriver) -> FeedParts:
        entry, _, destination = self.rig.feed("finish")
        return FeedParts(self.rig, "finish", entry, destination, self.rig.sheet(destination), driver)

    def run_job(self, job, *, agree: bool = True):
        def on_event(event):
            self.seen.append(event)
            return agree if isinstance(event, Agree) else None

        return drive(job, on_event)

    def unfinished(self) -> Stage:
        return [e for e in self.seen if isinstance(e, UnfinishedWrite)][-1].stage


class Writing(Jobs):
    def write(self, driver: FakeDriver, *, agree: bool = True, restore: Path | None = None, **more):
        if restore is not None:
            return self.run_job(write.restore(self.feed(driver), restore, Sources({}), self.clock), agree=agree)
        return self.run_job(write.write(self.feed(driver), Secret(KEY), self.clock, write.WriteTerms(**more)), agree=agree)

    def test_from_plan_to_proof(self):
        driver = FakeDriver()
        done = self.write(driver)
        self.assertEqual((done.agreed, done.restarted, done.lost), (True, True, ()))
        self.assertEqual(done.set["video.size"], "1920x1080")
        self.assertEqual((driver.slot.server, driver.slot.channel, driver.key), (SERVER, "main", KEY))
        kinds = [type(e).__name__ for e in self.seen if not isinstance(e, UnfinishedWrite)]
        self.assertEqual(kinds, ["PlannedWrite", "Agree", "Saved", "Restarting", "BackAfterRestart"])
        stages = [e.stage.name for e in self.seen if isinstance(e, UnfinishedWrite)]
        self.assertEqual(stages, ["UNTOUCHED", "PARTLY", "NOT_IN_FORCE", "SETTINGS_DONE", "NOT_CHECKED"])
        saved = json.loads(done.saved.read_text())
        self.assertEqual((saved["set"]["video.size"], saved["slot"]["channel"]), ("2560x1440", "second"))
        self.assertEqual(done.saved.stat().st_mode & 0o777, 0o600)
        old = saved_files.load(done.saved)
        self.assertEqual((old.values["video.size"], old.slot_channel, old.slot, old.device), ("2560x1440", "second", 1, "tower"))
        done.saved.write_text(json.dumps({**saved, "slot": None}))
        self.assertEqual(saved_files.load(done.saved).slot, None)
        for damaged in ({**saved, "slot": {}}, {**saved, "set": {"video.size": "round"}}, {**saved, "schema": "direkt.saved/9"}, [], {"slot": None}):
            done.saved.write_text(json.dumps(damaged))
            self.assertRaises(UnusableInput, saved_files.load, done.saved)
        self.assertNotIn(KEY, repr(self.seen) + done.saved.read_text())

    def test_without_a_yes_nothing_is_touched(self):
        driver = FakeDriver()
        done = self.write(driver, agree=False)
        self.assertFalse(done.agreed)
        self.assertEqual(driver.calls, ["read"])
        self.assertFalse((place(self.folder, unfinished.SAVED_FOLDER)).exists())

    def test_every_failure_leaves_its_stage(self):
        for call, stage, words in (
            ("write", Stage.UNTOUCHED, "tower was not changed"),
            ("restart", Stage.PARTLY, "some settings may have been written to tower; to finish: direkt write finish; to go back: "),
            ("write_slot", Stage.PUT_BACK, "tower was put back"),
        ):  # fmt: skip
            driver = FakeDriver()
            driver.fail[call] = Unreachable("tower is gone")
            self.seen.clear()
            unfinished.drop(self.rig.folder, "finish")
            self.clock.time += 2
            with self.assertRaises(DeviceError):
                self.write(driver)
            self.assertIs(self.unfinished(), stage, call)
            self.assertIn(words, [e for e in self.seen if isinstance(e, UnfinishedWrite)][-1].text)

    def test_an_interruption_of_the_front_end_reaches_the_job(self):
        driver = FakeDriver()
        job = write.write(self.feed(driver), Secret(KEY), self.clock)

        def on_event(event):
            self.seen.append(event)
            if isinstance(event, write.Restarting):
                raise KeyboardInterrupt
            return True if isinstance(event, Agree) else None

        with self.assertRaises(KeyboardInterrupt):
            drive(job, on_event)
        self.assertIs(self.unfinished(), Stage.NOT_IN_FORCE)

    def test_a_device_that_stays_away(self):
        driver = FakeDriver()
        driver.away = 10**6
        with self.assertRaisesRegex(Unreachable, "has not come back 30 s after its restart"):
            self.write(driver, wait=30.0)
        self.assertLess(self.clock.time, 165)

    def test_a_device_that_is_never_seen_away_counts_as_back_after_ten_seconds(self):
        driver = FakeDriver()
        driver.away = 0
        self.write(driver)
        (back,) = [e for e in self.seen if isinstance(e, write.BackAfterRestart)]
        self.assertTrue(10 < back.seconds < 11, back)

    def test_what_does_not_stick_is_listed(self):
        driver = FakeDriver()
        driver.sticky = {"video.rate_control"}
        done = self.write(driver)
        self.assertEqual([(i.what, i.wanted, i.set) for i in done.lost], [("video.rate_control", "cbr", "vbr")])

    def test_a_device_that_takes_its_time_has_kept_all_of_it_and_teaches_nothing(self):
        driver, clock = FakeDriver(), self.clock
        driver.patience = 15.0
        at, plain, put = [], driver.read, driver.write

        def late(channel, values):
            at.append((clock.now(), dict(driver.values)))
            put(channel, values)

        def read():
            state = plain()
            if at and clock.now() - at[0][0] < 6:
                now = state.channels["main"]
                old = Channel("main", at[0][1], now.limits)
                return dataclasses.replace(state, channels={"main": old})
            return state

        driver.write, driver.read, driver.away = late, read, 0
        done = self.write(driver)
        self.assertEqual((done.lost, learned.read(self.rig.folder)), ((), []))
        self.assertTrue(any(isinstance(e, write.Checking) for e in self.seen) or clock.now() - at[0][0] > 6)

    def test_what_a_device_took_and_did_not_keep_is_known_to_the_next_command(self):
        driver = FakeDriver()
        driver.sticky = {"video.rate_control"}
        self.write(driver)
        left = unfinished.find(self.rig, "finish")
        self.assertEqual(left.stage, Stage.NOT_KEPT)
        self.assertIn("did not keep all of them; to finish: direkt write finish; to go back: direkt write finish --restore", left.text)
        driver.sticky = set()
        self.clock.time += 5
        self.write(driver)
        self.assertIsNone(unfinished.find(self.rig, "finish"))

    def test_a_refusal_of_sound_does_not_undo_the_picture(self):
        more = {"audio.bitrate.mean": [64, 160]}
        self.enterContext(mock.patch.dict(LIMITS, more))
        driver = FakeDriver(**{"audio.bitrate.mean": 64})
        put = driver.write
        driver.portions = lambda values: [p for p in ({n: v for n, v in values.items() if n.startswith(k)} for k in ("video.", "audio.")) if p]

        def write_(channel, values):
            if any(n.startswith("audio.") for n in values):
                raise ChangeRefused("tower", {"audio": "the microphone is in use"})
            put(channel, values)

        driver.write, driver.away = write_, 0
        done = self.write(driver)
        self.assertEqual(driver.values["video.size"], "1920x1080")
        self.assertEqual(len(done.refused), 1)
        self.assertIn("microphone is in use", done.refused[0])
        self.assertTrue(done.lost and all(one.what.startswith("audio.") for one in done.lost), done.lost)

    def test_a_slot_that_keeps_something_else_is_listed(self):
        driver = FakeDriver()
        driver.write_slot = lambda *_: None
        lost = {i.what for i in self.write(driver).lost}
        self.assertEqual(lost, {"push slot server", "push slot channel", "push slot key length"})

    def test_restoring_writes_what_was_saved_and_names_wrong_files(self):
        driver = FakeDriver()
        saved = self.write(driver).saved
        self.clock.time += 5
        done = self.write(driver, restore=saved)
        self.assertEqual((driver.values["video.size"], done.lost), ("2560x1440", ()))
        good = json.loads(saved.read_text())
        for text, words in (
            ("{", "not saved settings"), ("[]", "not saved settings"), (json.dumps({**good, "schema": "x"}), "not saved settings"),
            (json.dumps({**good, "set": {"video.codec": 5}}), "not saved settings"), (json.dumps({**good, "device": "boat"}), "settings of boat"),
            (json.dumps({**good, "channel": "second"}), "channel second; this feed uses tower, main"), ("[" * 9999, "not saved settings"),
        ):  # fmt: skip
            path = self.file("s.json", text)
            with self.assertRaisesRegex(UnusableInput, words):
                self.write(driver, restore=path)
        with self.assertRaisesRegex(UnusableInput, "no such file"):
            self.write(driver, restore=Path("none.json"))

    def test_two_writes_within_a_second_lose_nothing(self):
        first = self.write(FakeDriver()).saved
        self.clock.time = 100.0
        second = self.write(FakeDriver()).saved
        self.assertNotEqual(first, second)
        self.assertEqual(first.read_text(), second.read_text())

    def test_a_driver_that_cannot_write(self):
        driver = FakeDriver()
        driver.capabilities = frozenset({Capability.PUSH})
        with self.assertRaisesRegex(UnusableInput, "cannot change settings"):
            self.write(driver)
        self.assertEqual(driver.calls, [])


class Pushing(Jobs):
    def test_a_start_fills_the_slot_first(self):
        driver = FakeDriver()
        slot = self.run_job(push.start(self.feed(driver), Secret(KEY), self.clock)).slot
        self.assertEqual((slot.state, slot.server, driver.key), (PushState.PUSHING, SERVER, KEY))
        self.assertEqual(driver.calls, ["read", "write_slot", "push on", "read"])
        self.assertEqual([e.stage for e in self.seen], [push.PushStage.SLOT, push.PushStage.STARTED])
        self.assertIn("may have a new server address", self.seen[0].text)
        self.assertIn("stop it with: direkt push off finish", self.seen[1].text)

    def test_what_pushes_there_already_is_left_alone_and_elsewhere_refused(self):
        driver = FakeDriver()
        driver.slot = Slot(1, "main", SERVER, len(KEY), PushState.PUSHING)
        self.run_job(push.start(self.feed(driver), Secret(KEY), self.clock))
        self.assertEqual(driver.calls, ["read", "read"])
        driver.slot = Slot(1, "second", SERVER, len(KEY), PushState.PUSHING)
        with self.assertRaisesRegex(DeviceError, "is pushing to .*direkt push off finish"):
            self.run_job(push.start(self.feed(driver), Secret(KEY), self.clock))

    def test_a_push_that_does_not_get_going_ends_after_its_limit(self):
        driver = FakeDriver()
        driver.push = lambda slot, *, on: None
        begin = self.clock.time
        slot = self.run_job(push.start(self.feed(driver), Secret(KEY), self.clock)).slot
        self.assertEqual(slot.state, PushState.STOPPED)
        self.assertAlmostEqual(self.clock.time - begin, push.START_LIMIT, delta=0.5)

    def test_an_address_with_the_key_in_it_is_refused(self):
        driver = FakeDriver()
        with self.assertRaisesRegex(UnusableInput, "holds the stream key") as caught:
            self.run_job(push.start(self.feed(driver), Secret(KEY), self.clock, f"rtmp://192.0.2.9/live/{KEY}"))
        self.assertNotIn(KEY, str(caught.exception))
        self.assertEqual(driver.calls, [])

    def test_a_stop_is_proven(self):
        driver = FakeDriver()
        driver.slot = Slot(1, "main", SERVER, 1, PushState.PUSHING)
        stuck = copy.copy(driver)
        self.assertEqual(push.stop(self.feed(driver), self.clock).slot.state, PushState.STOPPED)
        stuck.push = lambda slot, *, on: None
        with self.assertRaisesRegex(DeviceError, "still says pushing"):
            push.stop(self.feed(stuck), self.clock)


class Renewing(Jobs):
    def test_each_device_gets_the_key_or_its_reason(self):
        text = RIG.format(port=1) + "  other: {device: tower, destination: tarnlight, slot: 2}\n"
        rig = rigs.load(self.file("two.yaml", text))
        driver = FakeDriver()
        driver.slot = Slot(1, "second", "rtmp://elsewhere.example/live", 4, PushState.PUSHING)
        made = renew.renew(_with(rig, driver), "tarnlight", Secret(KEY), Sources({}))
        first, second = made
        self.assertEqual((first.written, driver.key, driver.slot.channel), (True, KEY, "second"))
        self.assertIn("it pushes now", first.reason)
        self.assertEqual((second.written, second.reason), (False, "tower has no push slot 2; it has 1"))


def _with(rig, driver):
    """The rig, with this driver for every device."""

    class Fixed(type(rig)):
        __slots__ = ()

        def driver(self, name, sources):
            return driver

    return Fixed(rig.file, rig.folder, rig.source, rig.path)
