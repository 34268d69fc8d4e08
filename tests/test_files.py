"""Files that several programs change at once, by the built program and by themselves."""

import subprocess
import unittest
from unittest import mock

import yaml

from direkt import files
from tests.support import KEY, RIG, Cli, Folder, command


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

    def test_one_at_a_time(self):
        few = mock.patch.object(files, "_TRIES", 3)
        with files.alone(self.folder), few, self.assertRaises(TimeoutError), files.alone(self.folder):
            pass
        with files.alone(self.folder):
            pass
        with self.assertRaises(OSError), files.alone(self.folder / "nowhere"):
            pass


class AtOnce(Cli):
    def test_eight_keys_set_at_once_are_all_kept_and_the_rig_names_each(self):
        names = [f"place{n}" for n in range(8)]
        entry = '  {}: {{sheet: tarnlight, server: "rtmp://ingest.tarnlight.example/live", key: "file:secrets.yaml#x"}}  # of {}\n'
        rig = RIG.format(port=1).replace("feeds:", "".join(entry.format(n, n) for n in names) + "feeds:")
        self.file("rig.yaml", rig)
        environment = self.environment(DIREKT_CONFIG=str(self.folder / "config"))
        children = [
            subprocess.Popen(
                [*command(), "key", "set", name], cwd=self.folder, env=environment, text=True,
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
