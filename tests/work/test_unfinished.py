"""A write that fails at any call, before or after the device has done it: what is said of the device must be true."""

import json
from pathlib import Path

from direkt.described.errors import ChangeRefused, Unreachable
from direkt.destination.allowed import Trust
from direkt.destination.references import Sources
from direkt.device.state import PushState, Slot
from direkt.errors import DirektError, UnusableInput
from direkt.rig import file as rigs
from direkt.secret import Secret
from direkt.store.small_file import place
from direkt.work.device import push, unfinished, write
from direkt.work.device.unfinished import Stage
from direkt.work.steps import Agree, drive
from tests.support import KEY, RIG
from tests.work.test_jobs import SERVER, FakeDriver, Jobs


class Failing(FakeDriver):
    """Raises at its ``at``-th call, before or after it did what was asked."""

    def __init__(self, at: int = -1, error: BaseException | None = None, *, late: bool = False) -> None:
        super().__init__()
        self.at, self.error, self.late, self.count = at, error, late, -1

    def _fault(self, act):
        self.count += 1
        hit = self.count == self.at and self.error is not None
        if hit and not self.late:
            raise self.error
        done = act()
        if hit:
            raise self.error
        return done

    def read(self):
        return self._fault(super().read)

    def write(self, channel, values):
        return self._fault(lambda: super(Failing, self).write(channel, values))

    def write_slot(self, *arguments):
        return self._fault(lambda: super(Failing, self).write_slot(*arguments))

    def restart(self):
        return self._fault(super().restart)

    def push(self, slot, *, on):
        return self._fault(lambda: super(Failing, self).push(slot, on=on))

    def now(self):
        return dict(self.values), self.needs_restart, self.slot


class Writes(Jobs):
    def begin(self, driver, restore: Path | None = None):
        self.clock.time += 1
        feed = self.feed(driver)
        if restore is not None:
            return self.run_job(write.restore(feed, restore, Sources({"DIREKT_K": KEY}, trust=Trust().seeing(["DIREKT_K"])), self.clock))
        return self.run_job(write.write(feed, Secret(KEY), self.clock))


class Faults(Writes):
    def test_every_call_may_fail(self):
        calls = Failing()
        self.begin(calls)
        self.assertGreater(calls.count, 4)
        for at in range(calls.count + 1):
            for kind in (Unreachable, ChangeRefused, KeyboardInterrupt):
                for late in (False, True):
                    with self.subTest(at=at, kind=kind, late=late):
                        error = ChangeRefused("tower", {"video.size": "no"}) if kind is ChangeRefused else kind("tower is gone")
                        self.one_fault(at, error, late)

    def one_fault(self, at, error, late):
        driver = Failing(at, error, late=late)
        before = driver.now()
        self.seen.clear()
        try:
            with self.assertRaises((DirektError, KeyboardInterrupt)) as caught:
                self.begin(driver)
        except AssertionError:  # what fails once while it is read back is asked again
            self.assertIsInstance(error, Unreachable)
            self.assertIn(Stage.NOT_CHECKED, [e.stage for e in self.seen if isinstance(e, unfinished.UnfinishedWrite)])
            self.assertIsNone(unfinished.find(self.rig, "finish"))
            return
        told = [e for e in self.seen if isinstance(e, unfinished.UnfinishedWrite)]
        left = unfinished.find(self.rig, "finish")
        if not told:
            self.assertEqual((driver.now(), left), (before, None), "nothing was begun")
            return
        now = told[-1]
        if isinstance(error, DirektError):
            self.assertEqual(caught.exception.__notes__, [now.text])
            self.assertEqual(driver.now(), before, "what failed once is put back")
            self.assertIn(now.stage, (Stage.UNTOUCHED, Stage.PUT_BACK))
            self.assertIsNone(left)
            return
        if driver.now() != before:
            self.assertNotIn(now.stage, (Stage.UNTOUCHED, Stage.PUT_BACK), "it was touched")
        if now.stage is Stage.UNTOUCHED:
            self.assertIsNone(left)
            return
        self.assertEqual((left.stage, left.saved, left.since), (now.stage, now.saved, now.since))
        self.assertIn(f"direkt write finish --restore {now.saved}", now.text)
        if now.stage in (Stage.SETTINGS_DONE, Stage.NOT_CHECKED):
            self.assertEqual((driver.values["video.size"], driver.needs_restart), ("1920x1080", False))
        # the way back
        driver.error = None
        device = FakeDriver()
        device.values, device.needs_restart, device.slot = driver.now()
        self.begin(device, now.saved)
        self.assertEqual((dict(device.values), device.needs_restart), before[:2])
        self.assertEqual((device.slot.server, device.slot.channel), ("", "second"))
        self.assertIsNone(unfinished.find(self.rig, "finish"))
        # and the way on
        unfinished.keep(self.rig.folder, now)
        done = self.begin(driver)
        self.assertEqual((done.lost, driver.slot.server), ((), SERVER))
        self.assertIsNone(unfinished.find(self.rig, "finish"))

    def test_the_first_settings_stay_the_way_back_however_often_it_fails(self):
        device = FakeDriver()
        saved = set()
        for call in ("restart", "write_slot", "write_slot"):
            device.fail = {call: Unreachable("gone")}
            with self.assertRaises(DirektError):
                self.begin(device)
            saved.add(unfinished.find(self.rig, "finish").saved)
        self.assertEqual(len(saved), 1)
        self.assertEqual(json.loads(saved.pop().read_text())["set"]["video.size"], "2560x1440")
        device.fail = {}
        self.begin(device)
        self.assertIsNone(unfinished.find(self.rig, "finish"))

    def test_a_refusal_after_an_unfinished_write_leaves_that_one(self):
        device = FakeDriver()
        device.fail = {"restart": Unreachable("gone")}
        with self.assertRaises(DirektError):
            self.begin(device)
        first = unfinished.find(self.rig, "finish")
        device.values["video.size"] = "2560x1440"
        device.fail = {"write": ChangeRefused("tower", {"video.size": "no"})}
        with self.assertRaises(DirektError) as caught:
            self.begin(device)
        self.assertEqual(unfinished.find(self.rig, "finish"), first)
        self.assertEqual([first.text], caught.exception.__notes__)

    def test_an_unfinished_restoring_is_gone_on_with(self):
        device = FakeDriver()
        saved = self.begin(device).saved
        device.fail = {"restart": Unreachable("gone")}
        with self.assertRaises(DirektError):
            self.begin(device, saved)
        left = unfinished.find(self.rig, "finish")
        self.assertEqual((left.saved, left.restoring, left.device), (saved, True, "tower"))
        self.assertIn(f"to finish: direkt write finish --restore {saved}", left.text)
        self.assertNotIn("to go back", left.text)
        self.assertIn("the write of 2026-01-03 00:01 for feed finish was not finished: ",
                      unfinished.UnfinishedWrite(left.stage, "finish", "tower", since="20260103-000105").told_later)  # fmt: skip

    def test_where_nothing_can_be_kept_nothing_is_changed(self):
        device = FakeDriver()
        self.file(f".direkt/{unfinished.SAVED_FOLDER}", "in the way")
        with self.assertRaisesRegex(UnusableInput, "so nothing was changed"):
            self.begin(device)
        (place(self.folder, unfinished.SAVED_FOLDER)).unlink()
        (place(self.folder, unfinished.SAVED_FOLDER) / "finish.unfinished.json").mkdir(parents=True)
        with self.assertRaisesRegex(UnusableInput, "so nothing was changed"):
            self.begin(device)
        self.assertEqual(set(device.calls), {"read"})

    def test_a_device_that_somebody_else_changes_while_the_question_waits(self):
        for change in (
            lambda d: d.values.update({"video.size": "1920x1080"}), lambda d: setattr(d, "needs_restart", True),
            lambda d: setattr(d, "slot", Slot(1, "second", "", 0, PushState.PUSHING)),
            lambda d: setattr(d, "slot", Slot(1, "main", "", 0, PushState.STOPPED)),
        ):  # fmt: skip
            device = FakeDriver()

            def on_event(event, device=device, change=change):
                if isinstance(event, Agree):
                    change(device)
                    return True
                return None

            with self.assertRaisesRegex(DirektError, "was changed since it was read") as caught:
                drive(write.write(self.feed(device), Secret(KEY), self.clock), on_event)
            self.assertEqual(caught.exception.__notes__, ["tower was not changed"])
            self.assertEqual(set(device.calls), {"read"})
        self.assertFalse((place(self.folder, unfinished.SAVED_FOLDER)).exists())
        retrying = FakeDriver()
        retrying.slot = Slot(1, "second", "", 0, PushState.RETRYING)

        def moves_on(event):
            retrying.slot = Slot(1, "second", "", 0, PushState.CONNECTING)
            return True if isinstance(event, Agree) else None

        self.assertTrue(drive(write.write(self.feed(retrying), Secret(KEY), self.clock), moves_on).agreed)

    def test_a_file_that_was_cut_short_or_is_another_rigs(self):
        device = FakeDriver()
        device.fail = {"write_slot": KeyboardInterrupt()}
        with self.assertRaises(KeyboardInterrupt):
            self.begin(device)
        (path,) = (place(self.folder, unfinished.SAVED_FOLDER)).glob("*.unfinished.json")
        whole = path.read_text()
        self.assertEqual(path.stat().st_mode & 0o777, 0o600)
        self.assertNotIn(KEY, whole)
        for text in ("", whole[:-30], "[" * 70000, whole.replace("partly", "x").replace("settings written", "x"), "\x00"):
            path.write_text(text)
            found = unfinished.find(self.rig, "finish")
            self.assertEqual((found.stage, found.saved), (Stage.PARTLY, None), text[:40])
        path.write_text(json.dumps({**json.loads(whole), "saved": "a\x1b[2Jb"}))
        self.assertIsNone(unfinished.find(self.rig, "finish").saved)
        path.write_text(json.dumps({**json.loads(whole), "device": "boat"}))
        self.assertIsNone(unfinished.find(self.rig, "finish"))
        self.assertEqual(unfinished.of_device(self.rig, "tower"), [])

    def test_names_with_slashes_stay_in_the_folder(self):
        text = (
            RIG.format(port=1)
            .replace("finish:", '"../../finish":')
            .replace("tower", "'../tower'")
            .replace("'../tower':", '"../tower":')
        )
        self.rig = rigs.load(self.file("rig.yaml", text.replace("DIREKT_'../tower'", "DIREKT_TOWER")))
        entry, _, destination = self.rig.feed("../../finish")
        feed = write.FeedParts(self.rig, "../../finish", entry, destination, self.rig.sheet(destination), FakeDriver())
        feed.driver.fail = {"write_slot": KeyboardInterrupt()}
        with self.assertRaises(KeyboardInterrupt):
            drive(write.write(feed, Secret(KEY), self.clock), lambda e: True if isinstance(e, Agree) else None)
        self.assertEqual(len(list((place(self.folder, unfinished.SAVED_FOLDER)).iterdir())), 2)
        self.assertIn("--restore", unfinished.find(self.rig, "../../finish").text)


class Portions(Writes):
    """A device that takes its settings one by one."""

    def test_one_that_refuses_the_third_value_is_put_back(self):
        class OneByOne(FakeDriver):
            def portions(self, values):
                return [{name: value} for name, value in values.items()]

            def write(self, channel, values):
                if len([call for call in self.calls if call == "write"]) == 2 and "refused" not in self.calls:
                    self.calls.append("refused")
                    raise ChangeRefused("tower", {next(iter(values)): "not today"})
                super().write(channel, values)

        device = OneByOne()
        before = dict(device.values)
        with self.assertRaisesRegex(ChangeRefused, "not today") as caught:
            self.begin(device)
        self.assertEqual((device.values, device.needs_restart), (before, False))
        self.assertEqual(caught.exception.__notes__, ["tower was put back: it is set as before"])
        self.assertIsNone(unfinished.find(self.rig, "finish"))

    def test_the_order_keeps_every_step_valid(self):
        from direkt.demand import Demand
        from direkt.device.state import Channel, Together
        from direkt.work.device.write_order import valid_order

        law = Together((Demand("video.size", ("1920x1080",)),), (Demand("video.codec", ("h264",)),))
        channel = Channel("main", {"video.size": "1280x720", "video.codec": "h265"}, {}, together=(law,))
        portions = [{"video.size": "1920x1080"}, {"video.codec": "h264"}]
        self.assertEqual(valid_order(channel, portions), portions[::-1])
        self.assertEqual(valid_order(channel, portions[:1]), portions[:1])
        self.assertEqual(valid_order(channel, [*portions, {}]), portions[::-1])


class Restoring(Writes):
    """What becomes of the push slot."""

    def restored(self, was: Slot, **now):
        device = FakeDriver()
        device.slot = was
        saved = self.begin(device).saved
        for name, value in now.items():
            setattr(device, name, value)
        device.calls.clear()
        return device, self.begin(device, saved)

    def test_a_key_that_the_rig_knows_goes_back(self):
        text = RIG.format(port=1).replace("file:secrets.yaml#tarnlight", "env:DIREKT_K")
        text = text.replace(
            "destinations:\n",
            'destinations:\n  other: {sheet: tarnlight, server: "rtmp://other.example/live", key: "env:DIREKT_K"}\n',
        )
        self.rig = rigs.load(self.file("rig.yaml", text))
        device, done = self.restored(Slot(1, "second", "rtmp://other.example/live", len(KEY), PushState.STOPPED))
        self.assertEqual((device.slot.server, device.slot.channel, device.key), ("rtmp://other.example/live", "second", KEY))
        self.assertEqual((done.target.missing, done.lost), ("", ()))

    def test_a_key_that_nobody_knows_is_said(self):
        device, done = self.restored(Slot(1, "second", "rtmp://other.example/live", 11, PushState.STOPPED))
        self.assertEqual((device.slot.server, device.slot.key_length), ("rtmp://other.example/live", 0))
        self.assertIn("the key of push slot 1 (11 characters) is not known here", done.target.missing)
        self.assertEqual(done.lost, ())

    def test_an_address_that_cannot_be_written_is_left_and_said(self):
        device, done = self.restored(Slot(1, "second", "file:///tmp", 11, PushState.STOPPED))
        self.assertEqual((device.slot.server, device.key), (SERVER, KEY))
        self.assertIn("push slot 1 held file:///tmp, which cannot be put back", done.target.missing)

    def test_a_slot_that_is_as_it_was_is_left(self):
        was = Slot(1, "second", SERVER, 11, PushState.STOPPED)
        device, done = self.restored(was, slot=was)
        self.assertEqual((device.slot, done.target.key, done.target.missing), (was, None, ""))
        self.assertNotIn("write_slot", device.calls)

    def test_settings_that_cannot_be_set_any_more_are_said(self):
        device = FakeDriver(**{"video.codec": "h264"})
        saved = self.begin(device).saved
        device.values["video.codec"] = "h265"
        done = self.begin(device, saved)
        self.assertEqual([u.parameter for u in done.target.plan.unmet], ["video.codec"])
        document = json.loads(saved.read_text())
        document["slot"]["number"] = 7
        saved.write_text(json.dumps(document))
        with self.assertRaisesRegex(UnusableInput, "no push slot 7 any more"):
            self.begin(device, saved)


class Pushing(Jobs):
    def test_what_a_failed_start_or_stop_leaves_is_said(self):
        for at, words in ((1, "may have a new server address"), (2, "direkt push off finish"), (3, "direkt push off finish")):
            for late in (False, True):
                driver = Failing(at, Unreachable("tower is gone"), late=late)
                with self.assertRaises(DirektError) as caught:
                    self.run_job(push.start(self.feed(driver), Secret(KEY), self.clock))
                self.assertIn(words, caught.exception.__notes__[0])
        for at in range(3):
            driver = Failing(at, Unreachable("tower is gone"))
            driver.slot = Slot(1, "main", SERVER, 1, PushState.PUSHING)
            with self.assertRaises(DirektError) as caught:
                push.stop(self.feed(driver), self.clock)
            self.assertIn("tower may still be pushing", caught.exception.__notes__[0])
