"""The end where something is still on: in some thirty situations, with gear and a platform that share no code with ours."""

import datetime
import shutil
import threading
import unittest
from unittest import mock

from direkt.platform import by_file
from tests.lab.encoder import Habits
from tests.lab.reedbank import Faults
from tests.lab.stage import KEY, LabStage


class StillOn(LabStage):
    """Each world is true; the assertion in stop() holds what is said against it."""

    def test_from_another_folder_the_event_is_found_at_the_platform(self):
        cast = self.on_air()
        other = self.another_folder()
        self.folder = other
        self.assertFalse((other / ".direkt/events").exists())
        result = self.stop("finals")
        self.assertEqual((result.code, cast.phase, self.tower.pushing), (0, "over", False), result)

    def test_all_from_another_folder(self):
        cast = self.on_air()
        result = self.stop("--all", text="y\n" * 9)
        self.assertEqual((result.code, cast.phase), (0, "over"), result)
        self.assertIn("lists 1 event, to the end", result.out)

    def test_what_is_remembered_is_gone(self):
        cast = self.on_air()
        shutil.rmtree(self.folder / ".direkt/events", ignore_errors=True)
        self.assertEqual(self.stop("--all", text="y\n" * 9).code, 0)
        self.assertEqual(cast.phase, "over")

    def test_the_event_was_renamed_in_the_rig(self):
        cast = self.on_air()
        self.write_rig("finals: {title", "semifinals: {title")
        result = self.stop("--all", text="y\n" * 9)
        self.assertEqual((result.code, cast.phase), (0, "over"), result)

    def test_its_start_was_edited_while_it_was_on_air(self):
        cast = self.on_air()
        self.write_rig(f"{self.start_at:%Y-%m-%d %H:%M}", "2031-01-01 10:00")
        self.assertEqual(self.stop("finals").code, 0)
        self.assertEqual(cast.phase, "over")

    def test_its_time_is_long_over(self):
        self.start_at = self.start_at - datetime.timedelta(days=2)
        self.write_rig()
        cast = self.on_air()
        self.assertEqual(self.stop("finals").code, 0)
        self.assertEqual(cast.phase, "over")

    def test_it_is_on_a_later_page_of_the_list(self):
        cast = self.on_air()
        for n in range(9):
            self.platform.cast(f"Other {n}", phase="planned")
        result = self.stop("finals")
        self.assertEqual((result.code, cast.phase), (0, "over"), result)

    def test_a_list_that_breaks_off_proves_nothing(self):
        self.on_air()
        for n in range(5):
            self.platform.cast(f"Other {n}", phase="planned")
        self.platform.faults.list_breaks = True
        result = self.stop("finals")
        self.assertEqual(result.code, 3, result)
        self.assertFalse(self.tower.pushing)

    def test_the_event_was_deleted_and_another_has_its_key(self):
        cast = self.platform.cast("Made on the page", key=KEY)
        self.tower.push(self.platform.ingest_address, KEY)
        result = self.stop("--all", text="y\n" * 9)
        self.assertEqual((result.code, cast.phase), (0, "over"), result)
        self.assertIn("found by the key", result.out)

    def test_an_event_that_is_nowhere(self):
        result = self.stop("finals")
        self.assertEqual(result.code, 0, result)
        self.assertIn("has no such event among the 0 that it lists", result.out)

    def test_somebody_elses_event_is_left_alone(self):
        self.on_air()
        other = self.platform.cast("The neighbours")
        result = self.stop("--all", text="y\n" * 9)
        self.assertEqual((result.code, other.phase), (0, "airing"), result)
        self.assertIn("not of this rig: left as it is", result.out)

    def test_somebody_else_pushes_with_the_key(self):
        self.on_air()
        self.elsewhere_pushes(KEY)
        result = self.stop("finals")
        self.assertEqual(result.code, 3, result)
        self.assertIn("still arrives", result.out)

    def test_a_feed_is_held_against_its_ingest(self):
        cast = self.on_air()
        self.elsewhere_pushes(KEY)
        result = self.stop("finish")
        self.assertEqual((result.code, cast.phase), (3, "airing"), result)
        self.assertIn("something still arrives at its primary ingest", result.out)
        self.elsewhere.clear()
        self.moved()
        again = self.stop("finish")
        self.assertEqual((again.code, cast.phase), (0, "airing"), again)
        self.assertIn("nothing arrives at its primary ingest", again.out)

    def test_a_device_that_says_stopped_while_its_counter_runs(self):
        self.on_air()
        self.platform.faults.blind = True
        self.tower.habits = Habits(says="idle", stop_does_nothing=True)
        for aim in ("finish", "finals", "--all"):
            result = self.stop(aim, text="y\n" * 9)
            self.assertEqual(result.code, 3, result)
            self.assertIn("its counter goes on", result.out)

    def test_a_device_whose_counter_moves_seldom(self):
        self.on_air()
        self.tower.habits = Habits(says="idle", stop_does_nothing=True, counts_every=0.5)
        self.assertEqual(self.stop("finals").code, 3)

    def test_a_counter_that_was_late_is_no_push(self):
        self.on_air()
        way = self.tower.ways[1]
        told = self.tower._told
        late = [0]

        def lagging(one):
            found = told(one)
            if one is way and not way.pushing:
                late[0] += 1
                found["bytes"] += 1000 if late[0] > 2 else 0
            return found

        self.tower._told = lagging
        self.assertEqual(self.stop("finals").code, 0)

    def test_a_device_that_goes_on_and_says_so(self):
        self.on_air()
        self.tower.habits = Habits(stop_does_nothing=True)
        self.assertEqual(self.stop("finish").code, 3)

    def test_a_device_that_does_not_tell_whether_it_pushes(self):
        self.tower.habits = Habits(says="dunno", counts=False)
        self.platform.faults.blind = True
        self.platform.cast("The finals", words=f"#{self.reference()}", key=KEY)
        result = self.stop("finish")
        self.assertNotEqual(result.code, 0, result)
        self.platform.faults.blind = False
        told = self.stop("finish")
        self.assertEqual(told.code, 0, told)
        self.assertIn("nothing of it arrives", told.out)

    def test_a_device_that_is_gone(self):
        self.on_air()
        self.tower.habits.down = True
        result = self.stop("finals")
        self.assertEqual(result.code, 3, result)
        self.assertIn("no answer", result.out)

    def test_another_slot_pushes_to_the_same_place(self):
        self.on_air()
        self.tower.halt(1)
        self.tower.push(self.platform.ingest_address, KEY, 2)
        self.assertEqual(self.stop("finish").code, 0)

    def test_a_device_that_starts_again_by_itself(self):
        self.on_air()
        self.tower.habits = Habits(starts_again=0.15)
        self.assertEqual(self.stop("finals").code, 3)
        self.tower.habits = Habits()
        self.assertEqual(self.stop("finals").code, 0)

    def test_a_feed_that_another_machine_carries(self):
        self.platform.cast("Course", key="varn~fake~sidebird")
        self.elsewhere_pushes("varn~fake~sidebird")
        result = self.stop("mark")
        self.assertEqual(result.code, 3, result)
        self.assertIn("something still arrives", result.out)

    def test_a_carried_feed_of_which_nobody_tells(self):
        self.platform.faults.blind = True
        self.platform.cast("Course", key="varn~fake~sidebird")
        result = self.stop("mark")
        self.assertNotEqual(result.code, 0, result)
        self.write_rig('key: "file:secrets.yaml#side", platform: reed', 'key: "file:secrets.yaml#side"')
        nobody = self.stop("mark")
        self.assertEqual(nobody.code, 1, nobody)
        self.assertIn("Nothing shows that anything is on, but these could not be asked.", nobody.err)

    def test_a_carried_feed_of_which_nothing_arrives(self):
        self.platform.cast("Course", key="varn~fake~sidebird")
        result = self.stop("mark")
        self.assertEqual(result.code, 0, result)

    def test_no_event_is_open_with_its_key(self):
        result = self.stop("mark")
        self.assertEqual(result.code, 0, result)

    def test_the_platform_takes_the_end_and_does_nothing(self):
        self.on_air()
        self.platform.faults.sticks = True
        with mock.patch.object(by_file, "_POLL", 0.05), mock.patch.object(by_file, "length_of", lambda _: 0.2):
            result = self.stop("finals")
        self.assertEqual(result.code, 3, result)
        self.assertIn("still says 'airing'", result.out)

    def test_the_platform_says_no_in_a_good_answer(self):
        self.on_air()
        self.platform.faults.trouble = "not while the band plays"
        result = self.stop("finals")
        self.assertEqual(result.code, 3, result)
        self.assertIn("not while the band plays", result.out)

    def test_the_platform_is_gone(self):
        self.on_air()
        self.platform.faults.down = True
        for aim in ("finals", "finish"):
            self.assertEqual(self.stop(aim).code, 3)

    def test_a_word_for_its_state_that_nobody_knows(self):
        cast = self.on_air()
        self.platform.faults.odd_phase = "wobbling"
        with mock.patch.object(by_file, "length_of", lambda _: 0.2):
            self.assertEqual(self.stop("finals").code, 3)
        self.platform.faults = Faults()
        self.assertEqual(self.stop("finals").code, 0)
        self.assertEqual(cast.phase, "over")

    def test_the_event_is_over_and_something_still_arrives(self):
        self.on_air(phase="over")
        self.tower.habits = Habits(says="idle", stop_does_nothing=True, counts=False)
        result = self.stop("finals")
        self.assertEqual(result.code, 3, result)
        self.assertIn("still arrives", result.out)

    def test_only_the_second_side_arrives(self):
        self.on_air()
        self.elsewhere_pushes(KEY, "second")
        result = self.stop("finals")
        self.assertEqual(result.code, 3, result)
        self.assertIn("the backup push still arrives", result.out)

    def test_a_wrong_token(self):
        self.on_air()
        self.file("secrets.yaml", f"token: varn~fake~wrong\nmain: {KEY}\nside: varn~fake~sidebird\n", 0o600)
        result = self.stop("finals")
        self.assertEqual(result.code, 3, result)
        self.assertIn("does not let us in", result.out)

    def test_the_ends_takes_a_while(self):
        self.on_air()
        self.platform.faults.slow = 1.2
        self.assertEqual(self.stop("finals").code, 0)
        self.assertEqual(self.platform.live(), [])

    def test_it_tries_again(self):
        self.on_air()
        self.elsewhere_pushes(KEY)
        def over():
            self.elsewhere.clear()
            self.moved()

        threading.Timer(2.0, over).start()
        result = self.stop("finals", "--for", "8s")
        self.assertEqual(result.code, 0, result)

    def test_the_account_is_shown(self):
        self.on_air()
        self.platform.cast("The neighbours")
        result = self.direkt("event", "list", "--at-platform")
        self.assertEqual(result.code, 0, result)
        self.assertIn("this rig's: finals", result.out)
        self.assertIn("somebody else's", result.out)
        self.assertNotIn(KEY, result.out)


if __name__ == "__main__":
    unittest.main()
