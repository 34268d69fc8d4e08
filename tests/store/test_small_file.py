"""What is remembered beside a rig: the folder, the move into it, and what damage does."""

import contextlib
import fcntl
import json
import os
import sqlite3
import tempfile
from pathlib import Path

from direkt import files
from direkt.errors import UnusableInput
from direkt.rig.events import EventState
from direkt.store import changes, event_memory, learned, log, notified, rig_id, turns, usage, wishes
from direkt.store.small_file import FOLDER, NOTE, DamagedMemory, SmallFile, only_one, place
from direkt.work.device import unfinished
from direkt.work.live.go_types import alone
from tests.support import RIG, Cli, Folder

TURN = {"schema": "direkt.taken/1", "entries": {"weekly": {"mark": "20260703T140000Z", "ended": True}}}


class Folders(Folder):
    def test_nothing_is_made_by_looking(self) -> None:
        wishes.read(self.folder)
        turns.read(self.folder)
        learned.read(self.folder)
        changes.read(self.folder)
        event_memory.every(self.folder)
        rig_id.read(self.folder)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_all_of_it_lies_in_one_folder_with_a_note(self) -> None:
        wishes.note(self.folder, {"finish": True})
        turns.change(self.folder, "weekly", lambda old: old)
        rig_id.ensure(self.folder)
        notified.NotifiedMemory(self.folder).number()
        event_memory.change(self.folder, "finals", "20260703T140000Z", lambda old: old)
        used = usage.Usage(self.folder)
        used.count("finish", 5)
        used.keep()
        self.assertEqual([path.name for path in self.folder.iterdir()], [FOLDER])
        inside = {path.name for path in (self.folder / FOLDER).iterdir()}
        self.assertEqual(inside, {"README.txt", "pushes.json", "schedule.json", "rig-id", "told.json", "events", "line.json"})
        for name in inside | {"log.sqlite", changes.FILE_NAME, learned.FILE_NAME, unfinished.SAVED_FOLDER, "page-sessions.json"}:
            self.assertTrue(name == "README.txt" or name in NOTE, name)  # each is named in the note

    def test_what_lies_in_older_places_is_moved_once(self) -> None:
        self.file("schedule.json", json.dumps(TURN))
        self.file("rig-id", "0123456789abcdef\n")
        self.file("pushes.json", '{"schema":"direkt.pushes/1","on":{"finish":true}}')
        self.file("events/finals-20260703T140000Z.json", '{"schema":"direkt.standing/1","event":"finals","mark":"20260703T140000Z"}')
        self.file("events/past/old-20260601T140000Z-1.json", '{"schema":"direkt.standing/1","event":"old","mark":"20260601T140000Z"}')
        self.file("saved-settings/changes.jsonl", '{"schema":"direkt.change/1"}\n')
        self.file("saved-settings/finish-main-20260703-140000.json", '{"schema": "direkt.saved/1"}')
        with sqlite3.connect(self.folder / log.FILE_NAME) as database:
            database.execute("CREATE TABLE direkt_log (x)")
        self.assertTrue(turns.read(self.folder)["weekly"].ended)
        self.assertEqual(rig_id.read(self.folder), "0123456789abcdef")
        self.assertEqual(wishes.read(self.folder).on, {"finish": True})
        self.assertEqual([one.event for one in event_memory.every(self.folder) + event_memory.past(self.folder)], ["finals", "old"])
        self.assertEqual(len(list(unfinished.saved_folder(self.folder).glob("*.json"))), 1)
        self.assertTrue(place(self.folder, changes.FILE_NAME).is_file())
        with sqlite3.connect(place(self.folder, log.FILE_NAME)) as database:
            self.assertEqual(len(list(database.execute("SELECT * FROM sqlite_master"))), 1)
        self.assertEqual([path.name for path in self.folder.iterdir()], [FOLDER])

    def test_files_of_other_people_stay_where_they_are(self) -> None:
        others = {"line.json": '{"queue": 3}', "events/regatta.json": '{"title": "Regatta"}', "events/plan.txt": "", "rig-id": "the blue one\n"}
        for name, text in others.items():
            self.file(name, text)
        self.file("events/finals-20260703T140000Z.json", '{"schema":"direkt.standing/1","event":"finals","mark":"20260703T140000Z"}')
        self.assertEqual(len(event_memory.every(self.folder)), 1)
        for name, text in others.items():
            self.assertEqual((self.folder / name).read_text(), text)

    def test_another_programs_database_stays(self) -> None:
        self.file("schedule.json", json.dumps(TURN))
        with contextlib.closing(sqlite3.connect(self.folder / "log.sqlite")) as database:
            database.execute("PRAGMA journal_mode = WAL")
            database.execute("CREATE TABLE visitors (x)")
            database.execute("INSERT INTO visitors VALUES (1)")
            database.commit()
            self.assertTrue(turns.read(self.folder)["weekly"].ended)
            names = {path.name for path in self.folder.iterdir()}
            self.assertEqual(names, {FOLDER, "log.sqlite", "log.sqlite-wal", "log.sqlite-shm"})

    def test_a_log_that_is_in_use_moves_with_what_is_not_written_into_it_yet(self) -> None:
        with contextlib.closing(sqlite3.connect(self.folder / "log.sqlite")) as database:
            database.execute("PRAGMA journal_mode = WAL")
            database.execute("CREATE TABLE direkt_log (x)")
            database.execute("INSERT INTO direkt_log VALUES (7)")
            database.commit()
            with contextlib.closing(sqlite3.connect(place(self.folder, log.FILE_NAME))) as other:
                self.assertEqual(other.execute("SELECT x FROM direkt_log").fetchall(), [(7,)])
        self.assertEqual([path.name for path in self.folder.iterdir()], [FOLDER])

    def test_a_damaged_file_in_an_older_place_is_said_and_not_passed_over(self) -> None:
        for damaged in ("", "{", '{"schema":"direkt.taken/1","entr', "\0" * 40):
            with self.subTest(damaged=damaged), tempfile.TemporaryDirectory() as name:
                (Path(name) / "schedule.json").write_text(damaged)
                self.assertRaises(DamagedMemory, turns.read, Path(name))

    def test_a_move_that_was_cut_short_goes_on(self) -> None:
        self.file(".direkt.new/pushes.json", '{"schema":"direkt.pushes/1","on":{"finish":true}}')
        self.file("schedule.json", json.dumps(TURN))
        self.assertTrue(wishes.read(self.folder).on["finish"])
        self.assertTrue(turns.read(self.folder)["weekly"].ended)
        self.assertFalse((self.folder / ".direkt.new").exists())

    def test_where_nothing_can_be_moved_it_is_read_where_it_lies(self) -> None:
        self.file("schedule.json", json.dumps(TURN))
        self.file(".direkt.new", "in the way")  # as in a folder that cannot be written: root may write anywhere
        self.assertTrue(turns.read(self.folder)["weekly"].ended)


class DamageTests(Folder):
    def small(self, damaged: str) -> SmallFile[wishes._File]:
        return SmallFile(self.folder / "one.json", wishes._File, damaged, most=200)

    def test_damage_means_what_the_file_says(self) -> None:
        for content in (b"{", b"[]", b"\xff\xfe", b"null", b'{"schema":"direkt.pushes/9"}', b'{"other": 1}', b""):
            self.file("one.json", content)
            self.assertIsNone(self.small("").read())
            with self.assertRaises(DamagedMemory) as caught:
                self.small("look at it").read()
            self.assertIn("one.json: damaged; look at it, then move this file away", str(caught.exception))

    def test_what_is_no_small_file_is_not_read(self) -> None:
        self.file("one.json", b" " * 201)
        self.assertRaises(UnusableInput, self.small("look").read)
        (self.folder / "one.json").unlink()
        os.mkfifo(self.folder / "one.json")
        self.assertIsNone(self.small("").read())

    def test_a_file_that_cannot_be_replaced_keeps_what_it_says(self) -> None:
        file = self.small("")
        file.write(wishes._File(on={"a": True}))
        self.assertRaises(ZeroDivisionError, file.change, lambda old: 1 // 0)
        self.assertEqual(file.read(), wishes._File(on={"a": True}))
        self.assertEqual(file.path.stat().st_mode & 0o777, 0o600)


class EventTests(Folder):
    def test_an_event_that_is_forgotten_leaves_no_lock(self) -> None:
        for away in (event_memory.forget, event_memory.put_away):
            event_memory.change(self.folder, "e", "20260703T140000Z", lambda old: old)
            with alone(self.folder, "e", "20260703T140000Z"):
                self.assertEqual(len(list((self.folder / FOLDER).glob("*.lock"))), 1)
            away(self.folder, "e", "20260703T140000Z")
            self.assertEqual(list((self.folder / FOLDER).glob("*.lock")), [])

    def test_each_state_that_a_platform_may_say_is_read_again(self):
        for state in EventState:
            event_memory.change_place(self.folder, "e", "20260703T140000Z", "t", lambda p, state=state: p.model_copy(update={"state": state}))
            self.assertEqual(event_memory.read(self.folder, "e", "20260703T140000Z").place("t").state, state)


class SilenceTests(Cli):
    """What cannot be read is not said to be nothing."""

    def test_something_is_in_the_way(self) -> None:
        self.file("rig.yaml", RIG.format(port=1))
        self.file(FOLDER, "in the way")
        self.one_line(self.direkt("log", "list"), 3, "cannot be used")
        for words, said in (
            (("restore", "tower", "--list"), "not a folder"), (("device", "learned"), "not a folder"), (("log", "changes"), "not a directory"),
        ):  # fmt: skip
            self.one_line(self.direkt(*words), 2, said)
        self.assertIn("cannot be read: not a directory", self.direkt("drift", "tower").err)
        (self.folder / FOLDER).unlink()
        (self.folder / FOLDER).symlink_to(self.folder / "nowhere")
        self.one_line(self.direkt("log", "list"), 3, "cannot be used")
        self.one_line(self.direkt("device", "learned"), 2, "not a folder")

    def test_what_is_damaged_is_not_nothing(self) -> None:
        self.file("rig.yaml", RIG.format(port=1))
        self.file(f"{FOLDER}/changes.jsonl", '{"schema":"direkt.change/1","when":"2026')
        self.file(f"{FOLDER}/learned.json", "{")
        self.assertIn("it is not known whether tower was written from here", self.direkt("drift", "tower").err)
        for content in ('{"schema":"direkt.change/1","when":"2026', "\0" * (9 << 20)):  # the second is larger than what is read
            self.file(f"{FOLDER}/changes.jsonl", content)
            listed = self.direkt("log", "changes")
            self.assertIn("! 1 line of ", listed.err)
            self.assertNotIn("nothing was written", listed.out + listed.err)
        self.one_line(self.direkt("device", "learned"), 2, "learned.json: damaged")

    def test_a_line_that_was_cut_takes_no_other_with_it(self) -> None:
        self.file(f"{FOLDER}/changes.jsonl", '{"schema":"direkt.change/1","when":"2026')
        made = changes.Change(
            when="20260703-140000", what="write", feed="f", device="tower", model="m", firmware="1", channel="main", changes={}, outcome="as wanted"
        )  # fmt: skip
        changes.add(self.folder, made)
        changes.add(self.folder, made)
        self.assertEqual((changes.read(self.folder), changes.unread(self.folder)), ([made, made], 1))

    def test_other_writers_line_ends_and_marks(self) -> None:
        made = changes.Change(
            when="20260703-140000", what="write", feed="f", device="tower", model="m", firmware="1", channel="main", changes={}, outcome="as wanted"
        )  # fmt: skip
        self.file(f"{FOLDER}/changes.jsonl", (made.model_dump_json(by_alias=True) + "\r\n\r\n") * 2)
        self.assertEqual((changes.read(self.folder), changes.unread(self.folder)), ([made, made], 0))


class LockTests(Folder):
    def test_one_at_a_time_by_the_systems_own_lock(self) -> None:
        with only_one(self.folder, "x.lock") as mine, only_one(self.folder, "x.lock") as second:
            self.assertEqual((mine, second, files.is_locked(place(self.folder, "x.lock"))), (True, False, True))
        self.assertFalse(files.is_locked(place(self.folder, "x.lock")))
        with Path(place(self.folder, "x.lock")).open() as other:
            fcntl.flock(other, fcntl.LOCK_EX)
            with only_one(self.folder, "x.lock") as mine:
                self.assertFalse(mine)

    def test_a_folder_that_cannot_be_used_is_said(self) -> None:
        self.file(FOLDER, "in the way")
        with self.assertRaisesRegex(UnusableInput, "x.lock: cannot be used: "), only_one(self.folder, "x.lock"):
            pass
