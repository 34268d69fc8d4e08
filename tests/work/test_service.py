"""The schedule as a service, with a clock of its own: nothing twice, nothing missed, and nothing ended by a clock that jumps."""

import datetime

from direkt.errors import UnusableInput
from direkt.rig import file as rigs
from direkt.store import event_memory, turns, wishes
from direkt.work.live.schedule_service import Deed, Done, EntryBegins, ScheduleNote, ScheduleService
from tests.support import Folder
from tests.work.test_timetable import RIG

UTC = datetime.UTC
NOON = datetime.datetime(2026, 7, 5, 12, 0, tzinfo=UTC)


class Clocks:
    def __init__(self, at):
        self.steady, self.ahead = 500.0, at.timestamp() - 500.0

    def now(self):
        return self.steady

    def sleep(self, seconds):
        self.steady += seconds

    def wall(self):
        return self.steady + self.ahead

    def stamp(self):
        return ""


class Acts:
    """What was done, and how it goes; events are remembered as direkt go and stop do."""

    def __init__(self, folder, clocks):
        self.folder, self.clocks, self.done, self.fails = folder, clocks, [], 0

    def _note(self, deed, turn):
        self.done.append((deed, turn.entry, datetime.datetime.fromtimestamp(self.clocks.wall(), UTC).strftime("%d %H:%M")))

    def begin(self, turn):
        self._note("begin", turn)
        if self.fails:
            self.fails -= 1
            if turn.planned is not None:
                event_memory.change(self.folder, turn.planned.name, turn.mark, lambda s: s.model_copy(update={"begun": "2026-07-05T11:00:00Z"}))
            return False, "stopped at step 1"
        if turn.planned is not None:
            new = {"begun": "2026-07-05T11:00:00Z", "on_air": "2026-07-05T12:00:00Z"}
            event_memory.change(self.folder, turn.planned.name, turn.mark, lambda s: s.model_copy(update=new))
        wishes.note(self.folder, dict.fromkeys(turn.feeds, True))
        return True, "on"

    def end(self, turn):
        self._note("end", turn)
        if self.fails:
            self.fails -= 1
            return False, "tower does not answer"
        if turn.planned is not None:
            event_memory.change(self.folder, turn.planned.name, turn.mark, lambda s: s.model_copy(update={"ended": "2026-07-05T15:00:00Z"}))
        wishes.note(self.folder, dict.fromkeys(turn.feeds, False))
        return True, "off"


class Schedule(Folder):
    def setUp(self):
        super().setUp()
        self.clocks = Clocks(NOON - datetime.timedelta(hours=1))
        self.acts = Acts(self.folder, self.clocks)

    def write(self, *schedule, **more):
        values = {"zone": "UTC", "start": "2026-07-05 12:00", "length": "3h", "more": "", **more}
        self.file("rig.yaml", RIG.format(**values, schedule="\n".join(f"  {line}" for line in schedule)))

    def service(self):
        self.said = []
        return ScheduleService(lambda: rigs.load(self.folder / "rig.yaml"), self.acts, self.clocks, self.clocks.wall, lambda work: work())

    def run_for(self, one, hours, step=30.0):
        end = self.clocks.steady + hours * 3600
        while self.clocks.steady < end:
            one.step()
            while one._out:
                self.said.append(one._out.popleft())
            self.clocks.sleep(step)

    def test_an_event_begins_before_its_start_and_ends_at_its_end(self):
        self.write("finals: {event: finals, before: 10m}")
        self.run_for(self.service(), 8, 20.0)
        self.assertEqual(self.acts.done, [("begin", "finals", "05 11:50"), ("end", "finals", "05 15:00")])
        kinds = [(type(e), e.deed) for e in self.said if isinstance(e, EntryBegins | Done)]
        self.assertEqual(kinds, [(EntryBegins, Deed.BEGIN), (Done, Deed.BEGIN), (EntryBegins, Deed.END), (Done, Deed.END)])

    def test_it_survives_restarts_at_any_moment_and_takes_nothing_twice(self):
        self.write("finals: {event: finals}", 'a: {feed: roof, window: "11:30-14:00"}', more=', repeat: "FREQ=DAILY;COUNT=2"')
        for _ in range(25):  # a new service every two hours
            self.run_for(self.service(), 1.99, 120.0)
        begins = [(entry, at[:2]) for deed, entry, at in self.acts.done if deed == "begin"]
        ends = [(deed, entry, at[:2]) for deed, entry, at in self.acts.done if deed == "end"]
        # what is on is looked at once by each new service; nothing is begun after its end, and each ends once
        self.assertEqual(ends, [("end", "a", "05"), ("end", "finals", "05"), ("end", "a", "06"), ("end", "finals", "06")])
        self.assertEqual(set(begins), {("a", "05"), ("finals", "05"), ("a", "06"), ("finals", "06"), ("a", "07")})

    def test_what_a_person_ended_or_paused_is_left(self):
        self.write("finals: {event: finals}", 'a: {feed: roof, window: "11:30-14:00"}')
        one = self.service()
        self.run_for(one, 1.5)
        event_memory.change(self.folder, "finals", "20260705T120000Z", lambda s: s.model_copy(update={"ended": "2026-07-05T12:20:00Z"}))
        wishes.note(self.folder, {"roof": False})
        self.run_for(self.service(), 1)
        self.assertEqual([deed for deed, *_ in self.acts.done], ["begin", "begin"])
        self.run_for(self.service(), 6, 20.0)
        self.assertEqual([(deed, entry) for deed, entry, _ in self.acts.done], [("begin", "a"), ("begin", "finals"), ("end", "a")])

    def test_a_machine_that_was_off_at_the_start_begins_late_and_after_the_end_not_at_all(self):
        self.write("finals: {event: finals}")
        self.clocks.ahead += 2 * 3600  # 13:00
        self.run_for(self.service(), 0.1)
        self.assertEqual(self.acts.done, [("begin", "finals", "05 13:00")])
        self.clocks.ahead += 5 * 3600
        self.run_for(self.service(), 0.1)
        self.assertEqual(self.acts.done[1:], [("end", "finals", "05 18:06")])
        self.acts.done.clear()
        (self.folder / ".direkt/events").rename(self.folder / "gone")
        self.run_for(self.service(), 0.1)
        self.assertEqual(self.acts.done, [])

    def test_what_fails_is_tried_again_with_growing_pauses(self):
        self.write("finals: {event: finals, before: 10m}")
        self.acts.fails = 3
        one = self.service()
        self.run_for(one, 0.82, 20.0)
        self.run_for(one, 0.2, 1.0)
        self.assertEqual([at for *_, at in self.acts.done], ["05 11:50", "05 11:50", "05 11:50", "05 11:51"])
        self.assertEqual([e.again for e in self.said if isinstance(e, Done)], [15.0, 30.0, 60.0, None])
        self.assertEqual(one.failing, {})
        self.acts.fails = 2
        self.run_for(one, 4)
        self.assertEqual([deed for deed, *_ in self.acts.done].count("end"), 3)

    def test_a_feed_that_could_not_be_started_is_tried_again_too(self):
        self.write('a: {feed: roof, window: "11:30-14:00"}')
        self.acts.fails = 2
        self.run_for(self.service(), 2)
        self.assertEqual([deed for deed, *_ in self.acts.done], ["begin"] * 3)

    def test_always_on(self):
        self.write("a: {feed: roof, always: true}")
        self.run_for(self.service(), 30, 60.0)
        self.run_for(self.service(), 1)  # the machine started anew
        self.assertEqual([deed for deed, *_ in self.acts.done], ["begin", "begin"])
        wishes.note(self.folder, {"roof": False})
        self.run_for(self.service(), 1)
        self.assertEqual(len(self.acts.done), 2)

    def test_a_clock_that_jumps_for_a_moment_ends_nothing(self):
        self.write("finals: {event: finals}")
        one = self.service()
        self.run_for(one, 1.5)
        self.clocks.ahead += 5 * 3600  # wrong for some seconds
        self.run_for(one, 10 / 3600, 1.0)
        self.clocks.ahead -= 5 * 3600
        self.run_for(one, 0.5)
        self.assertEqual([deed for deed, *_ in self.acts.done], ["begin"])
        self.assertEqual([e.text.partition(" clock ")[2] for e in self.said if isinstance(e, ScheduleNote)], ["was set 18000 s forward", "was set 18000 s back"])
        self.clocks.ahead += 2.5 * 3600  # this time it was right
        self.run_for(one, 0.1)
        self.assertEqual([deed for deed, *_ in self.acts.done], ["begin", "end"])
        self.clocks.ahead -= 3 * 3600  # back into the event: it is over all the same
        self.run_for(one, 0.5)
        self.assertEqual(len(self.acts.done), 2)

    def test_the_rig_may_change_while_it_runs_and_a_broken_one_changes_nothing(self):
        self.write("finals: {event: finals}")
        one = self.service()
        self.run_for(one, 0.1)
        self.file("rig.yaml", "schema: direkt.rig/1\nname: [")
        one.look_again()
        self.run_for(one, 0.1)
        self.assertIn("cannot be used", self.said[-1].text)
        self.write("finals: {event: finals, before: 40m}")
        one.look_again()
        self.run_for(one, 0.3)
        self.assertEqual(self.acts.done[0][2], "05 11:20")

    def test_a_damaged_memory_is_said_and_told_and_the_schedule_goes_on(self):
        self.write('a: {feed: roof, window: "11:00-14:00"}')
        self.file(".direkt/schedule.json", "{")
        one = self.service()
        self.run_for(one, 0.1)
        self.assertIn("put aside as schedule.json.damaged-", self.said[0].text)
        self.assertIn("schedule.json", one.failing)  # people are told of it
        self.assertEqual(len(list((self.folder / ".direkt").glob("schedule.json.damaged-*"))), 1)
        self.assertEqual([deed for deed, *_ in self.acts.done], ["begin"])  # which leaves alone what is on
        self.run_for(one, 4)
        self.assertEqual([(deed, at) for deed, _, at in self.acts.done][-1], ("end", "05 14:00"))

    def test_two_windows_that_touch_hand_over(self):
        self.write('a: {feed: roof, window: "11:00-12:25"}', 'b: {feed: roof, window: "12:25-14:00"}')
        for _ in range(2):  # also where a new service comes in between
            self.run_for(self.service(), 1.5, 20.0)
        self.assertEqual([(deed, entry) for deed, entry, _ in self.acts.done if deed == "end"], [])
        self.assertIs(wishes.read(self.folder).on["roof"], True)
        self.assertTrue(any(isinstance(e, ScheduleNote) and "stays on for b" in e.text for e in self.said) or turns.read(self.folder)["a"].ended)
        self.run_for(self.service(), 2)
        self.assertEqual([(entry, at) for deed, entry, at in self.acts.done if deed == "end"], [("b", "05 14:00")])
        self.assertIs(wishes.read(self.folder).on["roof"], False)

    def test_a_window_that_touches_an_event_of_its_feed(self):
        self.write("finals: {event: finals, before: 1m}", 'a: {feed: finish, window: "11:00-11:59"}', start="2026-07-05 12:00")
        self.run_for(self.service(), 2, 20.0)
        last = [deed for deed, entry, _ in self.acts.done]
        self.assertEqual(last[-1], "begin", self.acts.done)

    def test_a_clock_that_is_wrong_for_some_minutes_ends_nothing(self):
        self.write('a: {feed: roof, window: "11:00-14:00"}')
        one = self.service()
        self.run_for(one, 0.5)
        self.clocks.ahead += 5 * 3600
        self.run_for(one, 2 / 60, 20.0)
        self.clocks.ahead -= 5 * 3600
        self.run_for(one, 0.5)
        self.assertEqual([deed for deed, *_ in self.acts.done], ["begin"])

    def test_what_a_wrong_clock_ended_begins_again_and_is_said(self):
        self.write('a: {feed: roof, window: "11:00-14:00"}')
        one = self.service()
        self.run_for(one, 0.5)
        self.clocks.ahead += 5 * 3600
        self.run_for(one, 0.5)
        self.clocks.ahead -= 5 * 3600
        self.run_for(one, 0.5)
        self.assertEqual([deed for deed, *_ in self.acts.done], ["begin", "end", "begin"])
        self.assertTrue(any("clock was wrong: it begins again" in e.text for e in self.said if isinstance(e, ScheduleNote)))

    def test_what_was_begun_before_a_long_down_time_ends(self):
        self.write("finals: {event: finals}", 'a: {feed: roof, window: "11:00-14:00"}')
        self.run_for(self.service(), 1.5)
        self.clocks.ahead += 9 * 86400 + 6 * 3600
        self.acts.done.clear()
        self.run_for(self.service(), 0.2)
        self.assertIn(("end", "a"), [(deed, entry) for deed, entry, _ in self.acts.done])
        self.assertIn(("end", "finals"), [(deed, entry) for deed, entry, _ in self.acts.done])
        self.run_for(self.service(), 0.2)
        self.assertEqual([entry for deed, entry, _ in self.acts.done if deed == "end"].count("a"), 1)

    def test_what_was_begun_and_is_not_in_the_schedule_any_more_is_told(self):
        self.write('a: {feed: roof, window: "11:00-14:00"}')
        self.run_for(self.service(), 1)
        self.write('b: {feed: finish, window: "02:00-03:00"}')
        self.clocks.ahead += 3 * 86400
        one = self.service()
        self.run_for(one, 0.1)
        self.assertIn("direkt stop roof", one.failing["a"])

    def test_a_damaged_memory_of_an_event_is_told(self):
        self.write("finals: {event: finals}")
        self.run_for(self.service(), 1.5)
        next((self.folder / ".direkt/events").glob("*.json")).write_text("{")
        one = self.service()
        self.run_for(one, 4)
        self.assertIn("it may still be on: direkt stop finals", one.failing["finals"])

    def test_only_one_at_a_time(self):
        with turns.alone(self.folder), self.assertRaises(UnusableInput) as caught, turns.alone(self.folder):
            pass
        self.assertIn("runs already", str(caught.exception))

    def test_what_nobody_has_thought_of_ends_one_try_only(self):
        self.write("finals: {event: finals, before: 10m}")
        self.acts.begin = lambda turn: 1 / 0
        one = self.service()
        self.run_for(one, 1)
        self.assertIn("ZeroDivisionError", one.failing["finals"])


