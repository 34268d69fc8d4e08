"""What the watch sees, mends and warns of, in a world that is made up and a clock that runs as fast as it is turned."""

import dataclasses
import gc
import itertools
import threading
import time
import tracemalloc
import unittest

from direkt.cli.watch_parts import Pool
from direkt.device.state import PushState, Slot
from direkt.platform.event import InputGap
from direkt.rig.events import EventState
from direkt.watch.board import NextEvent
from direkt.watch.notices import Key
from direkt.watch.policy import Act, RestartTerms
from direkt.watch.tracker import FeedState
from direkt.watch.watch_events import Command
from tests.support import thorough
from tests.watch.fakes import SERVER, Case, arriving, followed, random_world, running


class Drops(unittest.TestCase):
    """Each kind of drop is seen within five seconds, and mended."""

    def dropped_within(self, case, name, begin, seconds=5.0):
        found = next((h for h in case.happened if h.feed == name and h.happening.what == "drop"), None)
        self.assertIsNotNone(found, case.happened)
        self.assertLessEqual(found.happening.at - case.clock.wall_ahead - begin, seconds)

    def on_air(self, *names, **more):
        case = Case(list(names), **more)
        case.world.pushing(*names)
        case.world.on.update(dict.fromkeys(names, True))
        case.run(30)
        self.assertEqual([row.state for row in case.watcher.board().feeds], [FeedState.ON] * len(names))
        return case

    def test_a_device_that_retries(self):
        case = self.on_air("tower", terms=RestartTerms(pause=5))
        case.world.devices["tower"].state, case.world.devices["tower"].message = PushState.RETRYING, "refused"
        begin = case.clock.at
        case.run(30)
        self.dropped_within(case, "tower", begin)
        self.assertEqual([what for what, *_ in case.world.done], ["start"])
        self.assertEqual(case.row("tower").state, FeedState.ON)
        well = next(h for h in case.happened if h.happening.what == "well")
        self.assertLess(well.seconds, 12)
        self.assertEqual([n.phase for n in case.told("drop")], ["begins", "well"])

    def test_a_device_that_reconnects_by_itself_is_left_alone(self):
        case = self.on_air("tower", terms=RestartTerms(pause=10))
        case.world.devices["tower"].state = PushState.RETRYING
        case.run(6)
        case.world.devices["tower"].state = PushState.PUSHING
        case.run(30)
        self.assertEqual(case.world.done, [])
        self.assertEqual((case.row("tower").state, case.row("tower").drops), (FeedState.ON, 1))

    def test_a_counter_that_stands_while_the_device_says_pushing(self):
        case = self.on_air("tower")
        case.world.devices["tower"].rate = 0.0
        begin = case.clock.at
        case.run(5.5)
        self.dropped_within(case, "tower", begin, 5.5)
        self.assertIn("sends nothing", case.row("tower").text)

    def test_a_device_that_counts_every_ten_seconds_only_has_not_dropped(self):
        case = Case(["tower"])
        case.world.devices["tower"].counts_every = 10.0
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(300)
        self.assertEqual((case.row("tower").drops, case.world.done), (0, []))

    def test_a_device_that_came_back_without_its_push(self):
        for told in (True, False):
            case = self.on_air("tower")
            d = case.world.devices["tower"]
            d.uptime_told = told
            case.run(6)
            d.answers = False
            case.run(8)
            d.answers, d.state, d.booted = True, PushState.STOPPED, case.clock.at
            case.run(20)
            self.assertEqual([what for what, *_ in case.world.done], ["start"], told)
            self.assertEqual(case.row("tower").state, FeedState.ON)

    def test_an_ingest_that_has_nothing_though_the_device_sends(self):
        case = self.on_air("tower", events=[followed("tower")])
        key = case.world.events[0].key
        case.world.inputs[key] = [arriving()]
        case.run(10)
        case.world.inputs[key] = [arriving(arriving=False, shown=False)]
        begin = case.clock.at
        case.run(5)
        self.dropped_within(case, "tower", begin)
        self.assertIn("nothing arrives", case.row("tower").text)
        self.assertEqual(case.row("tower").ingest, "nothing")

    def test_a_device_that_does_not_answer_while_its_push_goes_on(self):
        case = self.on_air("tower", events=[followed("tower")])
        case.world.inputs[case.world.events[0].key] = [arriving()]
        case.run(5)
        case.world.devices["tower"].answers = False
        case.run(30)
        self.assertEqual(case.row("tower").state, FeedState.ON)
        self.assertIn("the ingest has it", case.row("tower").text)
        self.assertEqual([n.key.kind for n in case.notices if n.phase == "begins"], ["silent"])

    def test_a_carried_feed_that_nobody_carries_any_more(self):
        case = Case(["mark"], carried=["mark"])
        case.world.on["mark"] = True
        sent = [0]

        def carry():
            if case.world.carry["mark"] is not None:
                sent[0] += 150_000
                case.world.carry["mark"] = running("mark", sent=sent[0])

        case.world.carry["mark"] = running("mark")
        case.run(20, carry)
        self.assertEqual(case.row("mark").state, FeedState.ON)
        self.assertAlmostEqual(case.row("mark").kbit_s, 4800, delta=200)
        case.world.carry["mark"] = None
        begin = case.clock.at
        case.run(12, carry)
        self.dropped_within(case, "mark", begin, 2)
        self.assertEqual([what for what, *_ in case.world.done], ["start"])
        case.world.carry["mark"] = running("mark")
        case.run(10, carry)
        self.assertEqual(case.row("mark").state, FeedState.ON)
        case.world.carry["mark"] = running("mark", pushing=False, coming="its session broke")
        case.run(1.5)
        self.assertIn("session broke", case.row("mark").text)


    def test_gear_that_is_set_by_hand_is_seen_by_its_ingest_alone(self):
        case = Case(["roof"], events=[followed("roof")], by_hand=["roof"])
        case.run(5)
        self.assertEqual(case.row("roof").state, FeedState.OFF)
        key = case.world.events[0].key
        case.world.inputs[key] = [arriving()]
        case.run(10)
        self.assertEqual(case.row("roof").state, FeedState.ON)
        case.world.inputs[key] = [arriving(arriving=False, shown=False)]
        begin = case.clock.at
        case.run(60)
        self.dropped_within(case, "roof", begin)
        self.assertEqual((case.row("roof").state, case.world.done), (FeedState.DROPPED, []))
        self.assertEqual([n.key.kind for n in case.notices], ["drop"])


    def test_the_backup_is_checked_as_well(self):
        case = self.on_air("tower", "spare", events=[followed("tower", "spare")], roles={"spare": "backup"})
        key = case.world.events[0].key
        case.world.inputs[key] = [arriving(), arriving("backup")]
        case.run(10)
        case.world.inputs[key] = [arriving(), arriving("backup", arriving=False)]
        begin = case.clock.at
        case.run(5)
        self.dropped_within(case, "spare", begin)
        self.assertEqual((case.row("tower").state, case.row("tower").role, case.row("spare").role), (FeedState.ON, "primary", "backup"))

    def test_a_device_that_is_slow_delays_nobody_else(self):
        case = Case(["tower", "roof", "slow"], period=0.5)
        look, over, asked = case.world.device, threading.Event(), []

        def device(name):
            asked.append(name)
            if name == "slow":
                over.wait(10)
            return look(name)

        case.world.device = device
        case.watcher._submit = Pool(6).submit
        begin = time.monotonic()
        while time.monotonic() - begin < 2.0:
            case.watcher.step()
            time.sleep(0.05)
            case.clock.sleep(0.05)
        over.set()
        self.assertEqual(asked.count("slow"), 1)  # nobody is asked again before they have answered
        self.assertTrue(all(3 <= asked.count(name) <= 5 for name in ("tower", "roof")), asked)

    def test_what_nobody_has_thought_of_ends_one_look_and_not_the_watch(self):
        case = self.on_air("tower")
        look = case.world.device
        case.world.device = lambda name: {}["odd"]
        case.world.followed = lambda: 1 / 0
        case.run(12)
        self.assertIn("could not be read (KeyError)", case.row("tower").text)
        self.assertTrue(any("ZeroDivisionError" in h.happening.text for h in case.happened))
        case.world.device = look
        case.run(10)
        self.assertEqual(case.row("tower").state, FeedState.ON)


class People(unittest.TestCase):
    """What a person stopped stays off."""

    def test_a_push_that_was_stopped_at_the_device_by_a_person(self):
        case = Case(["tower"], events=[followed("tower")])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(20)
        case.world.devices["tower"].state = PushState.STOPPED
        case.run(600)
        self.assertEqual(case.world.done, [])
        self.assertEqual(case.row("tower").state, FeedState.STOPPED)
        self.assertIs(case.world.on["tower"], False)
        self.assertEqual([(n.phase, n.condition.weight) for n in case.told("stopped")], [("begins", "fail")])
        case.world.on["tower"] = True  # direkt push on
        case.world.pushing("tower")
        case.run(30)
        self.assertEqual(case.row("tower").state, FeedState.ON)
        self.assertEqual([n.phase for n in case.told("stopped")], ["begins", "well"])

    def test_a_push_that_direkt_stopped_is_no_drop(self):
        case = Case(["tower"])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(20)
        case.world.on["tower"] = False
        case.run(3)
        case.world.devices["tower"].state = PushState.STOPPED
        case.run(60)
        self.assertEqual((case.world.done, case.notices, case.row("tower").state), ([], [], FeedState.OFF))

    def test_what_is_off_while_its_event_is_on_air_is_said(self):
        case = Case(["tower"], events=[followed("tower")], mend=False)
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(20)
        case.world.on["tower"] = False
        case.world.devices["tower"].state = PushState.STOPPED
        case.run(30)
        self.assertEqual([(n.key.kind, n.condition.weight, n.phase) for n in case.notices], [("stopped", "advise", "begins")])
        other = Case(["tower"], mend=False)  # who only looks notes nothing
        other.world.pushing("tower")
        other.world.on["tower"] = True
        other.run(20)
        other.world.devices["tower"].state = PushState.STOPPED
        other.run(20)
        self.assertEqual((other.row("tower").state, other.world.on["tower"]), (FeedState.STOPPED, True))

    def test_a_device_that_gives_up_with_a_reason_was_not_stopped_by_a_person(self):
        case = Case(["tower"])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(20)
        d = case.world.devices["tower"]
        d.state, d.message = PushState.STOPPED, "server closed the connection"
        case.run(20)
        self.assertEqual([what for what, *_ in case.world.done], ["start"])

    def test_what_a_watch_that_was_killed_had_begun_is_finished(self):
        case = Case(["tower"])
        case.world.on["tower"] = True
        case.world.mending.add("tower")  # it had stopped the push to start it again
        case.run(20)
        self.assertEqual([what for what, *_ in case.world.done], ["start"])
        other = Case(["tower"])
        other.world.on["tower"] = True  # and where it had not, nobody knows who stopped it
        other.run(60)
        self.assertEqual(other.world.done, [])
        self.assertEqual(other.row("tower").state, FeedState.STOPPED)

    def test_a_wish_that_is_newer_than_the_look_makes_no_stop_of_it(self):
        case = Case(["tower"])
        case.run(10)
        case.world.on["tower"] = True
        case.run(0.5)
        self.assertIn(case.row("tower").state, (FeedState.STARTING, FeedState.OFF))
        case.world.pushing("tower")
        case.run(10)
        self.assertEqual((case.row("tower").state, case.world.on["tower"]), (FeedState.ON, True))

    def test_a_push_that_goes_on_after_it_was_stopped(self):
        case = Case(["tower"])
        case.world.pushing("tower")
        case.world.on["tower"] = False
        case.run(30)
        self.assertEqual([n.key.kind for n in case.notices], ["still-on"])

    def test_an_ingest_that_still_has_something_of_a_push_that_is_off(self):
        case = Case(["tower"], events=[followed("tower", on_air=False)])
        case.world.inputs[case.world.events[0].key] = [arriving()]
        case.world.on["tower"] = False
        case.run(8)
        self.assertEqual(case.notices, [])  # its last look may be older than the stop
        case.run(20)
        self.assertEqual([n.key.kind for n in case.notices], ["still-on"])

    def test_a_rehearsal_is_not_mended(self):
        case = Case(["tower"])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(20)
        case.world.devices["tower"].server = "rtmp://192.0.2.9/live"
        case.run(60)
        self.assertEqual((case.row("tower").state, case.world.done), (FeedState.ELSEWHERE, []))

    def test_from_the_page(self):
        case = Case(["tower"], terms=RestartTerms(push=0))
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(10)
        self.assertTrue(case.watcher.ask(Command("restart", "tower")))
        case.run(5)
        self.assertTrue(case.watcher.ask(Command("stop", "tower")))
        case.watcher.ask(Command("stop", "nobody"))
        case.run(30)
        self.assertEqual([what for what, *_ in case.world.done], ["start", "stop"])
        self.assertEqual(case.row("tower").state, FeedState.OFF)
        self.assertEqual([all(case.watcher.ask(Command("stop", "tower")) for _ in range(20)), case.watcher.ask(Command("stop", "tower"))], [True, False])


    def test_who_stops_and_starts_again_at_the_device_is_looked_after_again(self):
        for anew in (False, True):
            case = Case(["tower"])
            case.world.pushing("tower")
            case.world.on["tower"] = True
            case.run(20)
            case.world.devices["tower"].state = PushState.STOPPED
            case.run(30)
            self.assertEqual((case.world.on["tower"], case.world.at_device), (False, {"tower"}))
            if anew:  # a watch that begins later knows it, too
                old, case = case, Case(["tower"])
                case.world.on, case.world.at_device = old.world.on, old.world.at_device
            case.world.pushing("tower")
            case.run(20)
            self.assertIs(case.world.on["tower"], True, anew)
            case.world.devices["tower"].state = PushState.RETRYING
            case.run(30)
            self.assertEqual([what for what, *_ in case.world.done], ["start"], anew)

    def test_what_direkt_stopped_and_a_device_starts_again_is_still_said(self):
        case = Case(["tower"])
        case.world.pushing("tower")
        case.world.on["tower"] = False
        case.run(30)
        self.assertEqual([n.key.kind for n in case.notices], ["still-on"])
        self.assertIs(case.world.on["tower"], False)

    def test_a_stop_without_a_reason_has_two_readings(self):
        case = Case(["tower"])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(20)
        case.world.devices["tower"].state = PushState.STOPPED
        case.run(5)
        c = case.told("stopped")[0].condition
        self.assertIn("somebody stopped it there, or it has given up", c.text)
        self.assertIn("direkt push on tower", c.advice)
        self.assertIn("direkt push off tower", c.advice)


class Evidence(unittest.TestCase):
    """What is stronger is believed, and the contradiction shown."""

    def on_air(self, *names, **more):
        case = Case(list(names), events=[followed(*names)], **more)
        case.world.pushing(*names)
        case.world.on.update(dict.fromkeys(names, True))
        case.world.inputs[case.world.events[0].key] = [arriving()]
        case.run(30)
        return case

    def test_a_standing_counter_is_weaker_than_an_ingest(self):
        case = self.on_air("tower")
        case.world.devices["tower"].rate = 0.0
        case.run(120)
        self.assertEqual((case.world.done, case.row("tower").state, case.row("tower").drops), ([], FeedState.ON, 0))
        self.assertIn("the ingest has it all the same", case.row("tower").text)
        self.assertEqual([n.key.kind for n in case.notices if n.phase == "begins"], ["contradiction"])
        case.world.inputs[case.world.events[0].key] = [arriving(arriving=False)]
        case.run(10)
        self.assertEqual([what for what, *_ in case.world.done], ["start"])

    def test_a_device_that_says_retrying_while_the_ingest_has_it(self):
        case = self.on_air("tower", terms=RestartTerms(pause=2))
        case.world.devices["tower"].state = PushState.RETRYING
        case.run(2)
        self.assertEqual(case.row("tower").state, FeedState.DROPPED)  # an ingest may be late to notice
        case.run(60)
        self.assertEqual((case.row("tower").state, case.world.done), (FeedState.ON, []))

    def test_an_ingest_that_does_not_tell_is_no_drop(self):
        case = self.on_air("tower")
        case.world.inputs[case.world.events[0].key] = [arriving(arriving=None)]
        case.run(30)
        self.assertEqual((case.row("tower").state, case.row("tower").ingest), (FeedState.ON, "does not report"))

    def test_a_device_that_comes_back_and_pushes_by_itself_is_not_restarted(self):
        case = self.on_air("tower", terms=RestartTerms(pause=5))
        d = case.world.devices["tower"]
        d.answers = False
        case.world.inputs[case.world.events[0].key] = [arriving(arriving=False)]
        case.run(40)
        self.assertEqual(case.row("tower").state, FeedState.DROPPED)
        d.answers, d.state, d.booted = True, PushState.STOPPED, case.clock.at
        case.run(6)
        case.world.pushing("tower")
        case.world.inputs[case.world.events[0].key] = [arriving()]
        case.run(60)
        self.assertEqual((case.world.done, case.row("tower").state), ([], FeedState.ON))

    def test_rates_of_devices_that_count_seldom(self):
        for every in (10.0, 25.0):
            case = Case(["tower"])
            case.world.devices["tower"].counts_every = every
            case.world.pushing("tower")
            case.world.on["tower"] = True
            rates = []
            case.run(240, lambda case=case, rates=rates: rates.append(case.row("tower").kbit_s))
            told = [r for r in rates if r is not None]
            self.assertTrue(told and all(abs(r - 6000) < 600 for r in told), (every, set(told)))
            self.assertEqual((case.notices, case.row("tower").drops), ([], 0))
            case.world.devices["tower"].rate = 0.0
            case.run(3 * every + 5)
            self.assertGreaterEqual(case.row("tower").drops, 1, every)

    def test_sound_that_is_silent_is_warned_of(self):
        case = self.on_air("tower")
        key = case.world.events[0].key
        case.world.inputs[key] = [arriving(values={"audio.silent": "yes"})]
        case.run(30)
        self.assertEqual([(n.key.kind, n.condition.text) for n in case.notices], [("sound", "the sound is silent, by its ingest")])
        self.assertFalse(case.watcher.board().well)
        case.world.inputs[key] = [arriving(values={"audio.silent": "unknown"})]
        case.run(30)
        self.assertEqual([n.phase for n in case.told("sound")], ["begins", "well"])
        carried = Case(["mark"], carried=["mark"])
        sent = [0]

        def carry():
            sent[0] += 150_000
            carried.world.carry["mark"] = running("mark", sent=sent[0], measured={"audio.silent": "yes", "video.moving": "no"})

        carried.world.on["mark"] = True
        carried.run(30, carry)
        self.assertEqual({n.key.kind for n in carried.notices}, {"sound", "picture"})

    def test_silence_of_our_own_is_no_dead_microphone(self):
        case, sent = Case(["mark"], carried=["mark"], events=[followed("mark")]), [0]

        def carry():
            sent[0] += 150_000
            case.world.carry["mark"] = running("mark", sent=sent[0], silence_added=True, measured={"audio.silent": "yes"})

        case.world.on["mark"] = True
        case.run(30, carry)
        (notice,) = case.told("sound")
        self.assertEqual(notice.condition.weight, "advise")
        self.assertIn("silence that this machine adds", notice.condition.text)

    def test_another_key_at_the_platform_is_said(self):
        case = self.on_air("tower")
        look = case.world.event
        case.world.event = lambda one: dataclasses.replace(look(one), other_key=True)
        case.run(5)
        (notice,) = case.told("key")
        self.assertIn("direkt key renew tarnlight --event finals --given", notice.condition.advice)

    def test_a_drop_is_seen_within_a_second_where_few_are_watched(self):
        seen = []
        for n in range(24):
            case = Case(["tower", "roof"])
            case.world.pushing("tower", "roof")
            case.world.on.update(tower=True, roof=True)
            case.run(30 + n * 0.11)
            case.world.devices["tower"].state = PushState.RETRYING
            begin = case.clock.at
            case.run(3)
            drop = next(h for h in case.happened if h.happening.what == "drop")
            seen.append(drop.happening.at - case.clock.wall_ahead - begin)
        self.assertLessEqual(max(seen), 1.0, seen)

    def test_a_slow_device_is_asked_as_often_as_it_bears(self):
        case = Case(["tower"])
        case.world.pushing("tower")
        look = case.world.device
        case.world.device = lambda name: dataclasses.replace(look(name), began=case.clock.at - 2.0)
        case.run(10)
        before = case.world.asked
        case.run(80)
        self.assertLessEqual(case.world.asked - before, 11)


class Causes(unittest.TestCase):
    """Many drops with one cause are one message, and mending waits."""

    def many(self, count=14, **more):
        names = [f"f{n}" for n in range(count)]
        case = Case(names, events=[followed(*names)], terms=RestartTerms(push=3, pause=5), **more)
        case.world.pushing(*names)
        case.world.on.update(dict.fromkeys(names, True))
        case.run(30)
        return case, names

    def test_a_dead_line(self):
        case, names = self.many()
        for name in names:
            case.world.devices[name].state, case.world.devices[name].heals = PushState.RETRYING, False
        case.world.event_error = "does not answer"
        case.run(120)
        told = [(n.key.kind, n.phase) for n in case.notices]
        self.assertEqual(told, [("cause", "begins")])
        self.assertIn("14 feeds have dropped at once", case.told("cause")[0].condition.text)
        self.assertEqual({name for _, name, _ in case.world.done}, {"f0"})  # one alone is tried
        self.assertTrue(all(case.watcher.mendings[name].count(Act.PUSH, case.clock.at) == 0 for name in names))
        case.world.event_error = ""
        for name in names:
            case.world.devices[name].heals = True
        case.world.done.clear()
        case.run(90)
        self.assertTrue(all(case.row(name).state is FeedState.ON for name in names), {n: case.row(n).text for n in names})
        self.assertEqual(case.told("cause")[-1].phase, "well")

    def test_one_destination(self):
        case, names = self.many(6)
        for n, name in enumerate(names):
            tracker = case.watcher.trackers[name]
            tracker.facts = dataclasses.replace(tracker.facts, destination="tarnlight" if n < 4 else "village")
        for name in names[:4]:
            case.world.devices[name].state, case.world.devices[name].heals = PushState.RETRYING, False
        case.run(30)
        (notice,) = [n for n in case.notices if n.phase == "begins"]
        self.assertEqual((notice.key.kind, notice.key.name), ("cause", "tarnlight"))
        self.assertIn("the others are on", notice.condition.text)

    def test_all_devices_are_gone(self):
        case, names = self.many(5)
        for name in names:
            case.world.devices[name].answers = False
        case.world.event_error = "does not answer"
        case.run(60)
        kinds = {n.key.kind for n in case.notices}
        self.assertEqual(kinds, {"cause"})
        self.assertIn("this machine's network", case.told("cause")[0].condition.text)

    def test_two_that_drop_are_two(self):
        case, names = self.many(6)
        for name in names[:2]:
            case.world.devices[name].state = PushState.RETRYING
        case.run(20)
        self.assertEqual({what for what, *_ in case.world.done}, {"start"})
        self.assertEqual(case.told("cause"), [])

    def test_drops_far_apart_have_no_cause_in_common(self):
        case, names = self.many(4)
        for name in names:
            case.world.devices[name].state, case.world.devices[name].heals = PushState.RETRYING, False
            case.run(60)
        self.assertEqual(case.told("cause"), [])


class Self(unittest.TestCase):
    """The watch looks at itself first."""

    def test_a_starved_machine_says_so_and_blames_nobody(self):
        case = Case(["tower"])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(30)
        case.clock.at += 40  # it did not get its turn
        case.world.devices["tower"].rate = 0.0
        case.world.devices["tower"].since = case.clock.at
        case.run(4)
        self.assertEqual([n.key.kind for n in case.notices], ["late"])
        self.assertEqual((case.row("tower").drops, case.world.done), (0, []))
        self.assertGreaterEqual(case.watcher.board().late, 39)
        self.assertEqual(case.watcher.board().warnings[0].kind, "late")
        case.run(60)
        self.assertEqual(case.told("late")[-1].phase, "well")

    def test_a_clock_that_jumps_says_nothing_of_limits(self):
        event = followed("tower", longest=9 * 3600.0, begun=1_800_001_000.0 - 3600, end=1_800_001_000.0 + 3 * 3600)
        case = Case(["tower"], events=[event])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.world.inputs[event.key] = [arriving()]
        case.run(30)
        case.clock.wall_ahead += 9 * 3600
        case.run(60)
        self.assertEqual([n.key.kind for n in case.notices], [])
        self.assertTrue(any("its clock was set" in h.happening.text for h in case.happened))
        self.assertAlmostEqual(case.watcher.board().events[0].limit, 8 * 3600 - 90, delta=5)
        case.clock.wall_ahead -= 9 * 3600
        case.run(300)
        self.assertEqual([n.key.kind for n in case.notices], [])

    def test_quiet_before_a_start(self):
        case = Case(["tower"], terms=RestartTerms(push=0, device=1, pause=2))
        soon = case.clock.wall() + 600
        case.watcher.setup = dataclasses.replace(case.watcher.setup, starts=(("tower", soon),))
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(20)
        case.world.devices["tower"].state, case.world.devices["tower"].heals = PushState.RETRYING, False
        case.run(300)
        self.assertEqual(case.world.done, [])
        case.run(1200)
        self.assertEqual([what for what, *_ in case.world.done][:1], ["restart"])


class Policy(unittest.TestCase):
    """At most so often, with growing pauses."""

    def hopeless(self, terms, seconds=3000, earlier=()):
        case = Case(["tower"], terms=terms, earlier=earlier)
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(10)
        d = case.world.devices["tower"]
        d.state, d.heals = PushState.RETRYING, False
        case.begin = case.clock.at
        case.run(seconds)
        return case

    def test_push_then_device_with_growing_pauses_then_people(self):
        case = Case(["tower"], terms=RestartTerms(push=3, device=1, within=1800, pause=5))
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(10)
        case.world.devices["tower"].state, case.world.devices["tower"].heals = PushState.RETRYING, False
        begin = case.clock.at
        case.run(200)
        self.assertEqual([what for what, *_ in case.world.done], ["start", "start", "start", "restart", "start"])
        moments = [round(at - begin) for what, _, at in case.world.done]
        gaps = [b - a for a, b in itertools.pairwise(moments)]
        self.assertTrue(5 <= moments[0] <= 8, moments)
        self.assertTrue(9 <= gaps[0] <= 12 and 19 <= gaps[1] <= 22 and 39 <= gaps[2] <= 42, gaps)
        self.assertEqual(case.row("tower").state, FeedState.ON)  # the restart heals it

    def test_it_gives_up_says_so_and_begins_again_when_it_was_well(self):
        case = self.hopeless(RestartTerms(push=2, device=0, within=1800, pause=5), 600)
        self.assertEqual(len(case.world.done), 2)
        self.assertEqual([n.phase for n in case.told("unmended")], ["begins"])
        self.assertIn("2 times: start the push again within 30 min", case.told("unmended")[0].condition.text)
        case.world.devices["tower"].state, case.world.devices["tower"].heals = PushState.PUSHING, True  # a person did it
        case.run(3000)
        case.world.devices["tower"].state = PushState.RETRYING
        case.run(30)
        self.assertEqual(len(case.world.done), 3)

    def test_a_long_outage_heals_though_it_was_given_up(self):
        case = self.hopeless(RestartTerms(push=2, within=600, pause=5), 500)
        self.assertEqual(len(case.world.done), 2)
        case.world.devices["tower"].heals = True  # whatever it was is over, and the device does not try by itself
        case.run(400)
        self.assertEqual(case.row("tower").state, FeedState.ON)
        self.assertEqual([n.phase for n in case.told("unmended")], ["begins", "well"])

    def test_what_an_earlier_watch_tried_counts(self):
        case = self.hopeless(RestartTerms(push=2, within=1800), 600, earlier=(("tower", Act.PUSH, 60.0), ("tower", Act.PUSH, 90.0), ("other", Act.PUSH, 1.0)))
        self.assertEqual(case.world.done, [])

    def test_a_device_that_pushes_something_else_well_is_not_restarted(self):
        case = Case(["tower", "roof"], terms=RestartTerms(push=1, device=1, pause=1))
        roof = case.watcher.trackers["roof"]
        roof.facts = dataclasses.replace(roof.facts, device="tower", slot=2)  # the second slot of the same device
        case.watcher._of_device = {"tower": ["tower", "roof"], "roof": []}
        look, second = case.world.device, [PushState.PUSHING]

        def device(name):
            found = look(name)
            more = Slot(2, "second", SERVER, 19, second[0], "", int(case.clock.at * 1000))
            return dataclasses.replace(found, slots={**found.slots, 2: more})

        case.world.device = device
        case.world.pushing("tower")
        case.world.on.update(tower=True, roof=True)
        case.run(10)
        case.world.devices["tower"].state, case.world.devices["tower"].heals = PushState.RETRYING, False
        case.run(200)
        self.assertEqual([what for what, *_ in case.world.done], ["start"])
        self.assertEqual(case.row("roof").state, FeedState.ON)
        second[0] = PushState.RETRYING  # now there is nothing left to lose
        case.run(60)
        self.assertIn("restart", [what for what, *_ in case.world.done])

    def test_no_mend(self):
        case = Case(["tower"], mend=False)
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(10)
        case.world.devices["tower"].state = PushState.RETRYING
        case.run(100)
        self.assertEqual((case.world.done, case.row("tower").state), ([], FeedState.DROPPED))


class Warnings(unittest.TestCase):
    def kinds(self, case):
        return {(n.key.kind, n.condition.weight) for n in case.notices if n.phase == "begins"}

    def test_heat_disk_plan_certificate_limit_and_end(self):
        event = followed("tower", longest=9 * 3600.0, begun=1_800_000_000.0 + 1000 - 8.8 * 3600, end=1_800_000_500.0)
        case = Case(["tower"], events=[event], plan=1e9)
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.world.disk, case.world.days = 1e9, {"ingest.tarnlight.example:443": 3.2}
        case.world.devices["tower"].temperature = 81.0
        case.world.inputs[event.key] = [arriving(complaints=("the keyframes are too far apart",), health="poor")]
        case.run(30)
        self.assertLessEqual(
            {("hot", "advise"), ("disk", "advise"), ("certificate", "advise"), ("session", "advise"), ("overdue", "advise"), ("ingest", "advise")},
            self.kinds(case),
        )
        case.run(1300)  # 750 kB/s: the gigabyte is used up
        self.assertIn(("plan", "fail"), self.kinds(case))
        case.run(30)
        left = case.watcher.notices.current[Key("plan", "the line")].text  # 750 kB/s by the devices' counters
        self.assertIn("0.0 GB are left", left)
        board = case.watcher.board()
        self.assertAlmostEqual(board.sent_gb, 0.75e-3 * 1360, delta=0.02)

    def test_how_long_a_data_plan_lasts(self):
        case = Case(["tower"], plan=1e9)
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(1090)  # 0.82 GB at 750 kB/s
        text = case.watcher.notices.current[Key("plan", "the line")].text
        self.assertIn("4 min at the present rate", text)

    def test_an_event_that_goes_and_comes_back_is_asked_as_often_as_before(self):
        event = followed("tower")
        case = Case(["tower"], events=[event])
        asked, look = [], case.world.event
        case.world.event = lambda one: (asked.append(one.key), look(one))[1]
        for _ in range(6):
            case.world.events = [event]
            case.run(11)
            case.world.events = []
            case.run(6)
        case.world.events = [event]
        case.run(10)
        asked.clear()
        case.run(20)
        self.assertLessEqual(len(asked), 21)  # every second

    def test_much_less_than_usual_goes_out(self):
        case = Case(["tower"])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(60)
        case.world.devices["tower"].rate = 200_000.0
        case.run(40)
        self.assertIn(("thin", "advise"), self.kinds(case))

    def test_a_platform_that_does_not_answer(self):
        case = Case(["tower"], events=[followed("tower")])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(10)
        case.world.event_error = "closed for repair"
        case.run(60)
        self.assertEqual(self.kinds(case), {("platform", "advise")})
        self.assertEqual((case.row("tower").state, case.row("tower").ingest), (FeedState.ON, "no answer"))

    def test_an_event_that_its_platform_has_closed(self):
        case = Case(["tower"], events=[followed("tower")])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(10)
        self.assertTrue(case.watcher.board().events[0].on_air)
        case.world.event_state = EventState.CLOSED
        case.run(10)
        self.assertEqual(self.kinds(case), {("closed", "fail")})
        self.assertFalse(case.watcher.board().events[0].on_air)  # /now leads nobody there any more

    def test_the_gaps_that_an_ingest_saw_and_the_next_event(self):
        event = followed("tower")
        case = Case(["tower"], events=[event])
        case.world.inputs[event.key] = [arriving(gaps=(InputGap("2027-01-15T08:00:00Z", 3.2),), values={"video.size": "1280x720"})]
        case.world.next = NextEvent("final", "The final", 1_800_003_000.0)
        case.run(20)
        self.assertEqual((case.row("tower").gaps, case.row("tower").measured), (1, "ingest"))
        self.assertEqual(case.watcher.board().next.name, "final")


class Long(unittest.TestCase):
    def test_hours_with_drops_of_every_kind_do_not_grow(self):
        """bench/watching.py does the same for a day."""
        names = [f"feed-{n}" for n in range(2)]
        case = Case(names, terms=RestartTerms(push=3, device=1, within=600, pause=5), period=4.0)
        case.world.pushing(*names)
        case.world.on.update(dict.fromkeys(names, True))
        each = random_world(7, case, names)
        hour = thorough(3600, 900)
        case.run(hour / 4, each)
        gc.collect()
        tracemalloc.start()
        case.run(hour / 8, each)
        case.happened.clear(), case.notices.clear(), case.world.done.clear()
        gc.collect()
        first = tracemalloc.get_traced_memory()[0]
        case.run(hour / 2, each)
        case.happened.clear(), case.notices.clear(), case.world.done.clear()
        gc.collect()
        last = tracemalloc.get_traced_memory()[0]
        tracemalloc.stop()
        self.assertLess(last - first, 200_000)
        self.assertLessEqual(len(case.watcher.board().happenings), 200)

    def test_200_feeds_are_asked_politely_and_a_drop_is_seen_within_five_seconds(self):
        names = [f"feed-{n}" for n in range(200)]
        case = Case(names)
        case.world.pushing(*names)
        case.world.on.update(dict.fromkeys(names, True))
        case.run(30)
        before = case.world.asked
        case.run(100)
        self.assertAlmostEqual((case.world.asked - before) / 100, 60, delta=8)  # each every 3.3 s
        for name in names[::40]:
            case.world.devices[name].state = PushState.RETRYING
        begin = case.clock.at
        case.run(6)
        drops = [h for h in case.happened if h.happening.what == "drop"]
        self.assertEqual({h.feed for h in drops}, set(names[::40]))
        self.assertTrue(all(h.happening.at - case.clock.wall_ahead - begin <= 5 for h in drops))

    def test_a_machine_that_slept(self):
        case = Case(["tower"])
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(20)
        case.clock.at += 8 * 3600
        case.world.devices["tower"].since = case.clock.at - 2
        case.run(20)
        self.assertEqual(case.row("tower").state, FeedState.ON)
        self.assertEqual(len(case.row("tower").strip), 300)


class Strips(unittest.TestCase):
    def test_the_last_ten_minutes(self):
        case = Case(["tower"], terms=RestartTerms(push=0))
        case.world.pushing("tower")
        case.world.on["tower"] = True
        case.run(120)
        case.world.devices["tower"].state = PushState.RETRYING
        case.run(20)
        case.world.devices["tower"].state = PushState.PUSHING
        case.run(120)
        strip = case.row("tower").strip
        self.assertEqual(len(strip), 300)
        self.assertEqual(strip[:100].strip(), "")
        self.assertEqual(set(strip[-50:]), {"━"})
        self.assertTrue(8 <= strip.count("x") <= 12, strip)
        self.assertEqual(SERVER in repr(case.watcher.board()), False)


if __name__ == "__main__":
    unittest.main()
