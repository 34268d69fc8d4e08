"""The watch in a terminal of any size: it fits, the worst is on top, and no next step is cut off."""

import io
import unittest

from rich.console import Console

from direkt.cli import watch_view
from direkt.watch.board import Happening, Warned
from direkt.watch.tracker import FeedState
from tests.page.test_page import board, feed


def drawn(made, width, height):
    console = Console(file=io.StringIO(), width=width, height=height, color_system=None)
    console.print(watch_view.picture(made, width, height, 0.7, mend=True))
    return console.file.getvalue().splitlines()


class View(unittest.TestCase):
    def test_a_next_step_is_never_cut_off(self):
        step = "it is left off; on again: direkt push on finish"
        one = Warned("stopped", "finish", "fail", "finish-tower says stopped, and gives no reason: somebody stopped it there, or it has given up", step, 1.8e9)
        for width in (80, 100, 158, 240):
            lines = drawn(board(warnings=(one,)), width, 24)
            with self.subTest(width=width):
                self.assertTrue(any(line.endswith(f"next: {step}") for line in lines), lines)
                self.assertLessEqual(max(map(len, lines)), width)
        self.assertEqual(sum("next:" in line for line in drawn(board(warnings=(one,), next=None), 240, 24)), 1)

    def test_many_of_everything_fit(self):
        feeds = [feed(f"f{n}", FeedState.DROPPED if n == 60 else FeedState.ON) for n in range(80)]
        warned = tuple(Warned("hot", f"device-{n}", "advise", "81 °C is hot " * 4, "give it air", 1.8e9) for n in range(30))
        happened = tuple(Happening(1.8e9, "well", f"f{n}", "well again") for n in range(60))
        for width, height in ((80, 24), (158, 46), (60, 40)):
            lines = drawn(board(feeds, warnings=warned, happenings=happened), width, height)
            with self.subTest(size=(width, height)):
                self.assertLessEqual(len(lines), height)
                self.assertTrue(any("f60" in line for line in lines))
                self.assertTrue(any(line.startswith("and ") and "more feeds" in line for line in lines))
                self.assertEqual(sum("81 °C" in line for line in lines), int(next(line for line in lines if line.endswith(" more")).split()[1]) * -1 + 30)


if __name__ == "__main__":
    unittest.main()
