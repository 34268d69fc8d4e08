"""Files that several programs change at once, by the built program and by themselves."""

import json
import os
import subprocess
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

import yaml

from direkt import files
from tests import copies
from tests.support import KEY, RIG, Cli, Folder


class Locks(unittest.TestCase):
    def test_who_only_looks_keeps_nobody_out(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.lock"
            path.touch()
            over = threading.Event()

            def look() -> None:
                while not over.wait(0.001):
                    files.is_locked(path)

            looking = [threading.Thread(target=look) for _ in range(3)]
            for one in looking:
                one.start()
            try:
                for _ in range(200):
                    with files.lock(path) as mine:
                        self.assertTrue(mine)
            finally:
                over.set()
                for one in looking:
                    one.join()

    def test_who_holds_a_folder_for_a_while_is_waited_for(self):
        with tempfile.TemporaryDirectory() as folder:
            inside = threading.Event()

            def hold() -> None:
                with files.alone(Path(folder)):
                    inside.set()
                    time.sleep(0.6)

            holding = threading.Thread(target=hold)
            holding.start()
            inside.wait()
            with files.alone(Path(folder)):
                pass
            holding.join()

    def test_one_at_a_time(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.lock"
            with files.lock(path) as first, files.lock(path) as second:
                self.assertEqual((first, second, files.is_locked(path)), (True, False, True))
            self.assertFalse(files.is_locked(path))


class Whole(Folder):
    def test_a_file_is_old_or_new_and_nothing_is_left_behind(self):
        path = self.file("a.txt", "old", 0o644)
        files.replace(path, "new", 0o600)
        self.assertEqual((path.read_text(), path.stat().st_mode & 0o777), ("new", 0o600))
        full = mock.patch.object(files.os, "fsync", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaises(OSError):
            files.replace(path, "newer", 0o600)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["a.txt"])
        self.assertEqual(path.read_text(), "new")

    def test_a_new_file_is_whole_or_not_there(self):
        path = self.folder / "new.yaml"
        full = mock.patch.object(files.os, "fsync", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaises(OSError):
            files.create(path, "half")
        self.assertEqual(list(self.folder.iterdir()), [])
        files.create(path, "whole ä")
        with self.assertRaises(FileExistsError):
            files.create(path, "other")
        self.assertEqual(path.read_text("utf-8"), "whole ä")

    def test_what_is_no_file_is_not_waited_for(self):
        pipe = self.folder / "pipe"
        os.mkfifo(pipe)
        for path, words in ((pipe, "a pipe or a device"), (Path("/dev/zero"), "a pipe or a device"), (self.folder, "directory"), (self.folder / "none", "No such")):
            with self.assertRaisesRegex(OSError, words):
                files.read(path, 10)
        self.assertEqual(files.read(self.file("a", "0123456789"), 10), b"0123456789")
        with self.assertRaisesRegex(OSError, "at most 9 bytes are read"):
            files.read(self.folder / "a", 9)

    def test_who_holds_a_folder_for_a_while_is_waited_for(self):
        with tempfile.TemporaryDirectory() as folder:
            inside = threading.Event()

            def hold() -> None:
                with files.alone(Path(folder)):
                    inside.set()
                    time.sleep(0.6)

            holding = threading.Thread(target=hold)
            holding.start()
            inside.wait()
            with files.alone(Path(folder)):
                pass
            holding.join()

    def test_one_at_a_time(self):
        few = mock.patch.object(files, "_TRIES", 3)
        with files.alone(self.folder), few, self.assertRaises(TimeoutError), files.alone(self.folder):
            pass
        with files.alone(self.folder):
            pass
        with self.assertRaises(OSError), files.alone(self.folder / "nowhere"):
            pass


class OddPlaces(Cli):
    def test_pipes_devices_and_other_alphabets_end_in_words(self):
        os.mkfifo(self.folder / "pipe")
        self.file("rig.yaml", RIG.format(port=1))
        for words in (("read", "--rig", "pipe"), ("match", "--rig", "/dev/zero"), ("sheet", "show", "./pipe"), ("driver", "lint", "./pipe"), ("check", "pipe"),
                      ("write", "--restore", "pipe", "--yes"), ("restore", "tower", "pipe", "--yes")):  # fmt: skip
            result = self.finish(self.start(*words, DIREKT_CONFIG=str(self.folder / "c"), DIREKT_TOWER_LOGIN="op:pw"), 20)
            self.assertIn(result.code, (2, 3), (words, result))
            self.assertEqual(result.err.count("error:"), 1, (words, result))
        for encoding, other in (("ascii", ("sheet", "list")), ("latin-1", ("explain", "BP")), ("ascii:strict", ("key", "list")), ("utf-16", ("match",))):
            for words in (("stop", "--all", "--for", "1s"), other):
                result = self.direkt_bytes(*words, encoding=encoding)
                self.assertNotIn("Traceback", result, (encoding, words))
        told = json.loads(self.direkt_bytes("explain", "BP", "--json", encoding="ascii"))
        self.assertEqual(told["schema"], "direkt.explain/1")

    def direkt_bytes(self, *words, encoding):
        environment = self.environment(PYTHONIOENCODING=encoding, DIREKT_CONFIG=str(self.folder / "c"), DIREKT_TOWER_LOGIN="op:pw")
        done = subprocess.run([*copies.program(), *words], cwd=self.folder, env=environment, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, timeout=30)
        return done.stdout.decode(encoding.partition(":")[0], "replace")


class AtOnce(Cli):
    def test_eight_keys_set_at_once_are_all_kept_and_the_rig_names_each(self):
        names = [f"place{n}" for n in range(8)]
        entry = '  {}: {{sheet: tarnlight, server: "rtmp://ingest.tarnlight.example/live", key: "file:secrets.yaml#x"}}  # of {}\n'
        rig = RIG.format(port=1).replace("feeds:", "".join(entry.format(n, n) for n in names) + "feeds:")
        self.file("rig.yaml", rig)
        environment = self.environment(DIREKT_CONFIG=str(self.folder / "config"))
        children = [
            subprocess.Popen(
                [*copies.program(), "key", "set", name], cwd=self.folder, env=environment, text=True,
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            ) for name in names
        ]  # fmt: skip
        letters = dict(zip(names, "abcdefgh", strict=True))
        for name, child in zip(names, children, strict=True):
            child.stdin.write(
                f"rtmp://ingest.tarnlight.example/live varn~fake~bird{letters[name]}{letters[name]}{letters[name]}\n"
            )
            child.stdin.close()
        for child in children:
            self.assertEqual(child.wait(60), 0, child.stderr.read())
            child.stdout.close()
            child.stderr.close()
        text = (self.folder / "rig.yaml").read_text()
        found = yaml.safe_load(text)["destinations"]
        self.assertEqual({name: found[name]["key"] for name in names}, {name: f"store:test/{name}" for name in names})
        self.assertEqual(text.count("# of place"), 8)
        listed = self.direkt("key", "list", "--json", DIREKT_CONFIG=str(self.folder / "config"))
        keys = {row["destination"]: row["key"] for row in listed.json["keys"]}
        self.assertEqual({keys[name] for name in names}, {"va… (17 characters)"}, keys)
        self.assertNotIn(KEY, listed.out)


if __name__ == "__main__":
    unittest.main()
