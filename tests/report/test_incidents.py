"""What a report says of drops: each once, in the order of time; what nobody saw come back is said as that."""

import datetime
import random
import unittest

from direkt.report import incidents
from direkt.store.entry import LogEntry
from direkt.store.log import LogRow

BEGIN = datetime.datetime(2026, 7, 5, 14, tzinfo=datetime.UTC)
END = BEGIN + datetime.timedelta(hours=1)


def at(seconds):
    return BEGIN + datetime.timedelta(seconds=seconds)


def kept(what, when, seconds=None, began=None, feed="", destination="", **detail):
    if began is not None:
        detail["began"] = at(began).isoformat()
    return LogRow(1, at(when), "r", "m", LogEntry(what, "failed", "x", feed=feed, destination=destination, seconds=seconds, detail=detail))


def told(*entries):
    return [((one.began - BEGIN).total_seconds(), one.seconds, one.where) for one in incidents.drops(entries, BEGIN, END)]


class Drops(unittest.TestCase):
    def test_they_stand_in_the_order_of_time(self):
        found = told(kept("drop", 3600, 5.0, 900, destination="b"), kept("drop", 3600, 7.0, 100, destination="a"))
        self.assertEqual(found, [(100, 7.0, "a"), (900, 5.0, "b")])

    def test_a_drop_that_nobody_saw_end_is_one(self):
        seen = kept("watch", 3500, feed="finish", destination="main", kind="drop")
        self.assertEqual(told(seen), [(3500, None, "finish")])
        for over in (
            kept("watch", 3510, feed="finish", kind="well"), kept("drop", 3510, 10.0, 3500, feed="finish", destination="main"),
            kept("drop", 3600, 14.2, 3499, destination="main"),  # by the ingest's own count
        ):  # fmt: skip
            self.assertNotIn(None, [seconds for _, seconds, _ in told(seen, over)], over)
        for other in (
            kept("watch", 3490, feed="finish", kind="well"), kept("watch", 3510, feed="mark", kind="well"),
            kept("drop", 3600, 14.2, 3499, destination="spare"), kept("drop", 3600, 20.0, 900, destination="main"),
        ):  # fmt: skip
            self.assertIn((3500, None, "finish"), told(seen, other), other)

    def test_what_drops_in_two_places_at_a_time_counts_once(self):
        for seed in range(200):
            rng = random.Random(seed)
            entries = [
                kept("drop", 3600, float(length), begin, destination=rng.choice("ab"))
                for begin, length in ((rng.randrange(0, 3590), rng.randrange(1, 300)) for _ in range(rng.randrange(1, 12)))
            ]
            found = incidents.drops(entries, BEGIN, END)
            seconds = set()  # second by second
            for one in found:
                begin = int((one.began - BEGIN).total_seconds())
                seconds |= set(range(begin, min(3600, begin + int(one.seconds))))
            self.assertEqual(incidents._missing(found, END), len(seconds), seed)


if __name__ == "__main__":
    unittest.main()
