"""A stream cut out at any place: what has not come yet is not missing."""

import random
import unittest
from fractions import Fraction

from direkt.measure.meter import Meter
from direkt.media import Format, Framing, batch
from tests import hand
from tests.support import thorough

RATES = (Fraction(30000, 1001), Fraction(25), Fraction(50))
ORDERS = ([1], [2, 1], [3, 1, 2], [4, 2, 1, 3], [8, 4, 2, 1, 3, 6, 5, 7], [3, 2, 1])


def measure(found, rate, tick, chunk=500, meter=None):
    meter = meter or Meter()
    if meter.video is None:
        meter.add(Format("video", "h264", tick, Framing.START_CODES))
    for at in range(0, len(found), chunk):
        part = found[at : at + chunk]
        meter.add(
            batch(
                "video", [hand.annex_b(*units) for _, _, units in part], [round(d / rate / tick) for d, _, _ in part],
                [round(s / rate / tick) for _, s, _ in part], [len(units) > 2 for _, _, units in part],
            )
        )
    return meter


class Cuts(unittest.TestCase):
    def test_no_cut_of_a_good_stream_shows_a_loss(self):
        for order in ORDERS:
            whole = hand.pictures(170, group=1 + 4 * len(order), order=order, size=60)
            for rate in RATES:
                ticks = (Fraction(1, 1000), Fraction(1, 90000))
                for tick in thorough(ticks, ticks[len(order) % 2 :][:1]):
                    for seed in (int(tick == Fraction(1, 1000)),):
                        source = random.Random(seed)
                        part = whole[source.randrange(40) : source.randrange(80, 160)]
                        values = measure(part, rate, tick, source.choice((1, 7, 500))).snapshot().values
                        about = (order, rate, tick, seed)
                        self.assertAlmostEqual(values["video.frame_rate"], float(rate), delta=0.05, msg=about)
                        self.assertEqual((values["video.pictures_missing"], values["video.pictures_repeated"]), (0, 0), about)
                        self.assertEqual(values["video.frame_rate_constant"], "yes", about)
                        self.assertAlmostEqual(values["stream.duration"], len(part) / rate, delta=0.002, msg=about)

    def test_a_loss_in_the_middle_is_still_seen(self):
        whole = hand.pictures(160, group=25, order=[3, 1, 2], size=60)
        self.assertEqual(whole[80][1] - whole[80][0], 0, "a picture that nothing waits for")
        values = measure(whole[:80] + whole[81:], Fraction(25), Fraction(1, 1000)).snapshot().values
        self.assertEqual(values["video.pictures_missing"], 1)

    def test_a_publisher_that_went_away_and_came_back_lost_nothing_at_either_end(self):
        whole = hand.pictures(240, group=25, order=[3, 1, 2], size=60)
        for a, b, c, d in ((0, 90, 130, 220), (5, 81, 152, 233), (9, 92, 111, 202)):
            meter = measure(whole[a:b], Fraction(25), Fraction(1, 1000))
            meter.interrupt()
            values = measure(whole[c:d], Fraction(25), Fraction(1, 1000), meter=meter).snapshot().values
            self.assertEqual((values["video.frame_rate"], values["video.pictures_missing"]), (25.0, 0))
            self.assertAlmostEqual(values["stream.duration"], (b - a + d - c) / 25, delta=0.002)

    def test_what_is_lost_in_a_hole_counts_the_pictures_that_waited_for_it(self):
        whole = hand.pictures(300, group=25, order=[3, 1, 2], size=60)
        sound = [batch("audio", [b"x"], [n * 20], [n * 20], [True]) for n in range(600)]
        meter = measure(whole[:98], Fraction(25), Fraction(1, 1000))
        self.assertGreater(whole[97][1], 99, "an anchor, the last picture before the hole")
        meter.add(Format("audio", "g711u", Fraction(1, 1000), sample_rate=8000))
        for one in sound:
            meter.add(one)
        measure(whole[200:], Fraction(25), Fraction(1, 1000), meter=meter)
        self.assertEqual(meter.snapshot().values["video.pictures_missing"], 102)


class Fields(unittest.TestCase):
    def test_a_stream_cut_between_two_fields_has_the_order_of_the_whole(self):
        units = []
        for frame in range(60):
            kind = hand.I if frame == 0 else hand.P if frame % 3 == 0 else hand.B
            number = -(-frame // 3)  # counts on behind a picture that others refer to (7.4.3)
            for half in (0, 1):
                made = [hand.slice_(hand.P if frame == 0 and half else kind, idr=frame == 0 and not half, number=number, field=half, size=80)]  # fmt: skip
                units.append(([hand.sps(interlaced=True), hand.pps()] if not frame and not half else []) + made)
        sets = [hand.sps(interlaced=True), hand.pps()]
        for begin in range(9):
            part = [[*sets, *units[begin]] if begin else units[0], *units[begin + 1 : begin + 90]]
            meter = Meter()
            meter.add(Format("video", "h264", Fraction(1, 90000), Framing.START_CODES))
            times = [(begin + n) * 1800 for n in range(len(part))]
            meter.add(batch("video", [hand.annex_b(*u) for u in part], times, times, [False] * len(part)))
            values = meter.snapshot().values
            self.assertEqual((values["video.scan"], values["video.field_order"]), ("interlaced", "top"), begin)
            self.assertEqual((values["video.frame_rate"], values["video.pictures_missing"]), (25.0, 0), begin)
