"""Single entries changed in a rig's text: every other character stays."""

import random
import unittest

from direkt import documents
from direkt.errors import UnusableInput
from direkt.rig.edit import change, put
from tests.support import RIG, Folder

BASE = """# The rig
schema: direkt.rig/1
name: Test   # name
devices:
  a:                 # one
    driver: x
    address: "http://1"   # here

# where it goes
destinations:
  t: {sheet: s, server: r}
feeds: {f: {device: a, destination: t}}   # end
"""


def plain(text):
    return documents.plain(documents.parse(text, "t"))


class Puts(Folder):
    def test_what_is_there_is_replaced_and_what_is_new_is_put_behind(self):
        for place, value, line in (
            (["devices", "b-2"], {"driver": "onvif", "address": "http://192.0.2.1:80"}, "  b-2:\n    driver: onvif\n    address: http://192.0.2.1:80\n\n# where it goes"),
            (["devices", "a", "login"], "store:x/y", '    login: "store:x/y"\n\n# where'), (["devices", "a", "address"], "http://2", 'address: "http://2"   # here'),
            (["destinations", "t", "key"], "store:a b", '{sheet: s, server: r, key: "store:a b"}'), (["uplink", "mbit_s"], 15, "# end\nuplink:\n  mbit_s: 15"),
            (["feeds", "f", "slot"], 2, "{f: {device: a, destination: t, slot: 2}}   # end"), (["name"], "yes", 'name: "yes"   # name' if False else "name: yes   # name"),
        ):  # fmt: skip
            made = put(BASE, place, value)
            self.assertIn(line, made)
            kept = [x for x in BASE.splitlines() if x in made.splitlines()]
            self.assertGreaterEqual(len(kept), len(BASE.splitlines()) - 1, place)

    def test_files_of_other_shapes(self):
        entry = {"driver": "onvif", "address": "http://192.0.2.1"}
        for text in (
            "name: x\ndevices:\n", "name: x\ndevices: {}  # none\n", "name: x\ndevices: {}", "name: x", "{name: x, devices: {a: {driver: b,\n   address: c}}}\n",
            "name: x\r\ndevices:\r\n  a: {driver: x}\r\n\r\nfeeds: {}\r\n", "devices:\n    a:\n        driver: >-\n            folded\n            text\n    # last\nname: x\n",
            "devices: &d\n  a: {driver: x}\nname: x\n", "name: x\ndevices: null\n",
        ):  # fmt: skip
            made = put(text, ["devices", "b"], entry)
            self.assertEqual(plain(made)["devices"]["b"], entry, text)
            self.assertEqual("\r\n" in made, "\r\n" in text)

    def test_any_words_survive(self):
        chance = random.Random(4)
        letters = "ab :#{}[],&*!|>'\"%@`-?\\ü1.0\t"
        for _ in range(1500):
            value = "".join(chance.choice(letters) for _ in range(chance.randint(0, 12)))
            key = "".join(chance.choice("ab:# {}'\"-1.") for _ in range(chance.randint(1, 6)))
            try:
                made = put(BASE, ["devices", key], {"address": value})
            except UnusableInput:
                continue
            self.assertEqual(plain(made)["devices"][key], {"address": value})

    def test_the_file_keeps_its_mode_and_a_wrong_one_stays(self):
        path = self.file("rig.yaml", RIG.format(port=1), 0o640)
        change(path, [(["devices", "tower", "address"], "http://192.0.2.9"), (["name"], "Other")])
        self.assertEqual(path.stat().st_mode & 0o777, 0o640)
        self.assertEqual(plain(path.read_text())["devices"]["tower"]["address"], "http://192.0.2.9")
        broken = self.file("b.yaml", "devices: [1, 2]\n")
        with self.assertRaisesRegex(UnusableInput, "devices holds no entries"):
            change(broken, [(["devices", "x"], {"driver": "onvif"})])
        self.assertEqual(broken.read_text(), "devices: [1, 2]\n")


if __name__ == "__main__":
    unittest.main()
