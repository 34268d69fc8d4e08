"""Tables at every width: no line is too long, and nothing that stands in them is lost."""

import io
import unittest
from collections import Counter

from rich.cells import cell_len
from rich.console import Console

from direkt.cli import output
from tests.support import KEY, RIG, Cli

LONG = "a-name-of-sixty-characters-as-some-people-give-them-to-feeds"
ROWS = (
    (LONG, "file:secrets.yaml#a", "va… (18 characters)"), ("שידור-ישיר", "store:lake-varn-regatta/second", "va… (16 characters)"),
    ("third", "", "va… (14 characters)"),
)  # fmt: skip


def printed(width, rows=ROWS, **how):
    out = Console(file=io.StringIO(), width=width, highlight=False, emoji=False)
    made = output.table("destination", "from", "key")
    for row in rows:
        made.add_row(*row)
    output.print_table(out, made, **how)
    return out.file.getvalue()


class Tables(unittest.TestCase):
    def test_every_word_is_there_at_every_width(self):
        for width in (40, 60, 80, 100, 158):
            text = printed(width)
            for line in text.splitlines():
                self.assertLessEqual(cell_len(line), width, line)
            self.assertIn(LONG, text.replace("\n", ""))
            self.assertIn("שידור-ישיר", text)
            letters = Counter("".join("".join(row) for row in ROWS))
            del letters[" "]
            self.assertLessEqual(letters, Counter(text), width)  # cells may go on in a second line

    def test_what_is_the_same_in_every_row_is_said_once_unless_all_is_wanted(self):
        rows = [(name, where, "the same") for name, where, _ in ROWS]
        self.assertEqual(printed(158, rows).count("the same"), 1)
        self.assertEqual(printed(158, rows, all_columns=True).count("the same"), 3)
        self.assertIn("for all: key the same", printed(60, rows))


class ByHand(Cli):
    def test_match_says_the_word_and_the_menu_of_a_device_that_is_set_by_hand(self):
        self.file("rig.yaml", RIG.format(port=1).split("devices:", maxsplit=1)[0] + (
            "devices: {roof: {driver: kelpie-h1}}\n"
            'destinations: {main: {sheet: tarnlight, server: "rtmp://ingest.tarnlight.example/live", key: "file:secrets.yaml#a"}}\n'
            "feeds: {roof: {device: roof, destination: main}}\n"
        ))  # fmt: skip
        self.file("secrets.yaml", f"a: {KEY}\n", 0o600)
        done = self.direkt("match", "roof")
        self.assertIn("by hand: MENU > NETWORK > LIVE > QUALITY: B 720/50", done.out)
        self.assertIn("by hand: MENU > AUDIO > LIVE AUDIO: ON", done.out)
        narrow = self.direkt("match", "roof", "--details", COLUMNS="60")
        self.assertTrue(all(cell_len(line) <= 60 for line in narrow.out.splitlines()), narrow.out)
        self.assertIn("1280x720", narrow.out)


if __name__ == "__main__":
    unittest.main()
