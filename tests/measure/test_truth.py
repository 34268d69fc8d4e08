"""Streams whose make-up is certain, assembled from the tables of the standards; nothing of the project's writers."""

import dataclasses
import math
import random
import unittest
from fractions import Fraction

import numpy as np

from direkt.codec.bits import escape, pack, se, stop, u, ue
from direkt.codec.h264_syntax import build_avc_config
from direkt.codec.reader import Promise
from direkt.measure.buffer import Curve, PromiseKept
from direkt.measure.meter import Meter
from direkt.media import Format, Framing, batch, column
from direkt.parameters import Bound
from tests import aac_encoder
from tests.support import MS, measure, parts_of, pictures, thorough, units

RECOVERY = b"\x06\x06\x01\x84\x80"


def sps(width=640, height=368, *, number=0, references=4, interlaced=False, hrd=(), level=31) -> bytes:
    """A sequence parameter set of High profile (7.3.2.1.1): 4 bits of frame_num and of the order count."""
    digits = u(100, 8) + u(0, 8) + u(level, 8) + ue(number) + ue(1) + ue(0) + ue(0) + "00" + ue(0) + ue(0) + ue(0)
    digits += ue(references) + "0" + ue(width // 16 - 1) + ue(height // (32 if interlaced else 16) - 1)
    digits += ("0" + "0" if interlaced else "1") + "1" + "0"
    if not hrd:
        return b"\x67" + escape(stop(digits + "0"))
    bitrate, buffer, constant = hrd
    vui = "1" + u(1, 8) + "0" + "0" + "0" + "0" + "1" + ue(0) + u(0, 4) + u(0, 4)
    vui += ue(bitrate // 64 - 1) + ue(buffer // 16 - 1) + ("1" if constant else "0") + u(23, 5) * 3 + u(0, 5)
    return b"\x67" + escape(stop(digits + "1" + vui + "0" + "0" + "0" + "0"))


def pps(number=0, sps_number=0, cabac=True) -> bytes:
    digits = ue(number) + ue(sps_number) + ("1" if cabac else "0") + "0" + ue(0) + ue(0) + ue(0) + "000" + se(0) * 3
    return b"\x68" + stop(digits + "000")


def coded(letter: str, frame=0, pps_number=0, size=200, first=0, field="", marking="0") -> bytes:
    """A slice: K an IDR picture, I, P or B; its frame_num, and as many bytes as wanted."""
    head, kind = {"K": (0x65, 7), "I": (0x41, 7), "P": (0x41, 5), "B": (0x01, 6)}[letter]
    digits = ue(first) + ue(kind) + ue(pps_number) + u(frame % 16, 4) + field
    digits += ue(0) if letter == "K" else ""
    digits += u(0, 4) + (marking if letter in "IP" else "00" if letter == "K" else "")
    made = bytes([head]) + escape(pack(digits + "1" * 48))
    return made + b"\xab" * max(0, size - len(made))


def format_of(*sets: bytes, tick: Fraction = MS) -> Format:
    return Format("video", "h264", tick, Framing.LENGTHS, build_avc_config(*(sets or (sps(), pps()))))


def stream(letters: str, rate=25.0, made=coded, format=None):
    """Pictures in decoding order; a B is shown in front of the picture decoded before it. R: a recovery point and I."""
    rows = []
    for n, letter in enumerate(letters):
        shown = n + 1
        if letter != "B":
            run = len(letters[n + 1 :]) - len(letters[n + 1 :].lstrip("B"))
            shown = n + 1 + run
        else:
            shown = n
        nals = ([RECOVERY, made("I", n)] if letter == "R" else [RECOVERY, made("P", n)] if letter == "r" else [made(letter, n)])
        rows.append((n / rate, shown / rate, nals, letter == "K"))
    return [format or format_of(), pictures(rows)]


class OnePicture(unittest.TestCase):
    def test_however_it_is_cut_into_samples(self):
        slices = [coded("P", size=300, first=first) for first in (0, 300, 600)]
        wanted = None
        for way in (
            lambda n: [[sps(), pps(), coded("K")] if n % 25 == 0 else slices],
            lambda n: [[sps()], [pps()], [coded("K")]] if n % 25 == 0 else [[s] for s in slices],
            lambda n: [[sps() + b"\0\0\0", pps() + b"\0"], [b"\x09\xf0"], [coded("K")]] if n % 25 == 0 else [slices[:1], slices[1:]],
        ):  # fmt: skip
            rows = [(n / 25, n / 25, nals, n % 25 == 0) for n in range(100) for nals in way(n)]
            for sizes in ([], [1] * len(rows), [3] * len(rows)):
                m = measure([format_of(), *parts_of(pictures(rows), [*sizes, len(rows)])])
                found = {name: m.values[name] for name in m.values if name.startswith("video.") and "bitrate" not in name
                         and name not in ("video.buffer",)}  # fmt: skip
                wanted = wanted or found
                self.assertEqual(found, wanted)
                self.assertEqual((m.remarks, m.values["stream.timestamps"]), ((), "clean"))
        self.assertEqual((wanted["video.frame_rate"], wanted["video.slices"]), (25.0, 3))

    def test_two_fields_are_one_picture_in_one_sample_or_in_two(self):
        for top_first in (True, False):
            first, second = ("10", "11") if top_first else ("11", "10")
            rows_of_two, rows_of_one = [], []
            for n in range(100):
                letter = "K" if n % 25 == 0 else "P"
                one, two = coded(letter, n, field=first), coded("P", n, field=second)
                if n % 25 == 0:
                    one, two = coded("K", 0, field=first), coded("P", 0, field=second)
                rows_of_one.append((n / 25, n / 25, [one, two]))
                rows_of_two += [(n / 25, n / 25, [one]), (n / 25 + 0.02, n / 25 + 0.02, [two])]
            for rows in (rows_of_one, rows_of_two):
                for sizes in ([], [1] * len(rows)):
                    m = measure([format_of(sps(interlaced=True), pps()), *parts_of(pictures(rows), [*sizes, len(rows)])])
                    v = m.values
                    self.assertEqual((v["video.frame_rate"], v["video.scan"], v["video.slices"]), (25.0, "interlaced", 1))
                    self.assertEqual(v["video.field_order"], "top" if top_first else "bottom")
                    self.assertEqual((v["video.keyframe_interval.max"], v["video.frame_rate_constant"]), (1.0, "yes"))

    def test_units_that_are_short_empty_or_padded_are_legal(self):
        rows = []
        for n in range(50):
            data = units([coded("K" if n % 25 == 0 else "P", n), b"\x0a", b""]) + bytes(n % 9)
            rows.append((n / 25, n / 25, data, n % 25 == 0))
        m = measure([format_of(), pictures(rows)])
        self.assertEqual((m.remarks, m.values["video.frame_rate"]), ((), 25.0))


class Sets(unittest.TestCase):
    def test_the_pictures_own_sets_decide(self):
        large, small = sps(1280, 720), sps(640, 368, number=1)
        rows = [(0, 0, [large, small, pps(0, 0), pps(1, 1), pps(2, 0, cabac=False)])]
        rows += [(n / 25, n / 25, [coded("K" if n % 25 == 0 else "P", n, pps_number=2 if n % 2 else 0)]) for n in range(50)]
        m = measure([Format("video", "h264", MS, Framing.LENGTHS), pictures(rows)])
        self.assertEqual((m.values["video.size"], m.found["video.size"].also), ("1280x720", ()))
        self.assertEqual(set(m.found["video.entropy"].also) | {m.values["video.entropy"]}, {"cabac", "cavlc"})
        rows += [(2 + n / 25, 2 + n / 25, [coded("K" if n % 25 == 0 else "P", n, pps_number=1)]) for n in range(50)]
        m = measure([Format("video", "h264", MS, Framing.LENGTHS), pictures(rows)])
        self.assertEqual((m.values["video.size"], m.found["video.size"].also), ("640x368", ("1280x720",)))

    def test_a_size_that_changes_and_comes_back_keeps_the_whole(self):
        rows = []
        for part, size in enumerate(((1280, 720), (640, 368), (1280, 720))):
            for n in range(50):
                sets = [sps(*size), pps()] if n % 25 == 0 else []
                t = part * 2 + n / 25
                rows.append((t, t, [*sets, coded("K" if n % 25 == 0 else "P", n)], n % 25 == 0))
        total = sum(len(units(row[2])) for row in rows)
        for sizes in ([], [1] * 150, [60] * 3):
            m = measure([format_of(sps(1280, 720), pps()), *parts_of(pictures(rows), [*sizes, 150])])
            self.assertEqual(m.values["stream.duration"], 6.0)
            self.assertAlmostEqual(m.values["video.bitrate.mean"], total * 8 / 6000, delta=0.1)
            self.assertEqual(m.found["video.size"].also, ("640x368",))
            said = "1280x720 high until 2.0 s, then 640x368 high until 4.0 s, then 1280x720 high"
            self.assertEqual(m.remarks, (f"the picture changes: {said}",))
            self.assertEqual(m.found["video.size"].note, said)

    def test_the_level_needed_stands_beside_the_level_declared(self):
        for size, rate, references, declared, needed in (
            ((1280, 720), 25, 4, 31, "3.1"), ((1280, 720), 50, 4, 31, "3.2"), ((1920, 1088), 25, 4, 51, "4.0"),
            ((1280, 720), 25, 9, 31, "4.0"), ((640, 368), 25, 1, 40, "3.0"), ((1280, 720), 30, 1, 31, "3.1"),
        ):  # fmt: skip
            made = stream("K" + "P" * 99, rate, format=format_of(sps(*size, references=references, level=declared), pps()))
            found = measure(made).found
            self.assertEqual(found["video.level_needed"].value, needed)
            self.assertEqual(found["video.level"].value, f"{declared // 10}.{declared % 10}")
            self.assertEqual("needs" in found["video.level"].note, declared < int(needed.replace(".", "")))
            self.assertEqual(found["video.coded_size"].value, f"{size[0]}x{size[1]}")


class Groups(unittest.TestCase):
    def test_open_groups_are_found_from_order_and_reference(self):
        for letters, wanted in (
            ("KPBPB" + "IBPB" * 5, "no"), ("KPBPB" + "RBPB" * 5, "no"), ("KPP" + "RPPP" * 5, "yes"), ("KPP" + "IPPP" * 5, "yes"),
            ("KPBPB" * 5, "yes"), ("KPPrPPPrPPP", "yes"), ("KPBPB" + "KBPB" * 4, "yes"),
        ):  # fmt: skip
            for sizes in ([], [1] * 99, [7] * 9):
                form, samples = stream(letters)
                found = measure([form, *parts_of(samples, [*sizes, 99])]).found["video.gop_closed"]
                self.assertEqual(found.value, wanted, letters)
        one = format_of(sps(references=1), pps())
        self.assertEqual(measure(stream("KPBPB" + "IBPB" * 5, format=one)).values["video.gop_closed"], "yes")

        def forgetting(letter, n):
            return coded(letter, n, marking="1" + ue(5) + ue(0)) if letter == "I" else coded(letter, n)

        found = measure(stream("KPBPB" + "IBPB" * 5, made=forgetting)).values["video.gop_closed"]
        self.assertEqual(found, "yes", "all pictures before it were marked as unused")

    def test_intra_refresh_has_places_to_join_and_no_keyframes(self):
        found = measure(stream("K" + ("P" * 24 + "r") * 8)).found
        keys, joins = found["video.keyframe_interval.max"], found["video.join_interval.max"]
        self.assertEqual((keys.value, keys.bound), (8.04, Bound.AT_LEAST))
        self.assertIn("8 recovery points", measure(stream(("P" * 24 + "r") * 8)).found["video.keyframe_interval.max"].note)
        self.assertEqual((joins.value, joins.bound), (1.0, None))
        self.assertEqual(found["video.gop_closed"].value, "yes")

    def test_a_recovery_point_among_other_messages_of_every_length(self):
        def message(kind: int, payload: bytes) -> bytes:
            head = bytearray()
            for number in (kind, len(payload)):
                while number > 254:
                    head.append(255)
                    number -= 255
                head.append(number)
            return bytes(head) + payload

        point, user = message(6, b"\xc4"), b"\x2c" * 16

        def found(*messages: bytes) -> float:
            unit = b"\x06" + escape(b"".join(messages) + b"\x80")
            rows = [(n / 25, n / 25, [*([unit] if n % 25 == 24 else []), coded("K" if not n else "P", n)]) for n in range(100)]
            return measure([format_of(), pictures(rows)]).found["video.join_interval.max"].value

        for size in (0, 1, 16, 20, 27, 28, 40, 253, 254, 255, 256, 300, 511, 1000):
            other = message(5, (user * 64)[:size])
            for messages in ((other, point), (point, other), (other, other, point)):
                self.assertEqual(found(*messages), 1.0, (size, messages.index(point)))
            self.assertEqual(found(other), 4.0, "no point, so only the first picture")
        self.assertEqual(found(message(300, b"abc"), point), 1.0)
        self.assertEqual(found(message(255, b"")), 4.0)
        self.assertEqual(found(message(261, b"\xc4")), 4.0, "261 is not 6")
        self.assertEqual(found(message(5, bytes(12)), point), 1.0, "with emulation prevention inside")
        self.assertEqual(found(message(6, bytes(3) + b"\x80")), 1.0)

    def test_a_still_picture_does_not_move(self):
        for cabac in (True, False):
            form = format_of(sps(), pps(cabac=cabac))
            for small, wanted in ((12, "no"), (400, "yes")):
                made = stream(
                    ("K" + "P" * 24) * 4, made=lambda c, n, s=small: coded(c, n, size=9000 if c == "K" else s), format=form,
                )
                self.assertEqual(measure(made).values["video.moving"], wanted)
        self.assertEqual(measure(stream("K" * 50)).values["video.moving"], "unknown")

    def test_how_large_a_picture_may_be_that_skips_everything(self):
        # 16 bytes of header; with CABAC 8 more to learn, and 0.0375 bits for each of 240, 920 and 8160 macroblocks
        for width, height, cabac, most in (
            (320, 192, True, 25), (640, 368, True, 28), (1920, 1088, True, 62), (1920, 1088, False, 16), (320, 192, False, 16),
        ):  # fmt: skip
            form = format_of(sps(width, height), pps(cabac=cabac))
            for size, wanted in ((most, "no"), (most + 1, "yes")):
                made = stream(
                    ("K" + "P" * 24) * 4, made=lambda c, n, s=size: coded(c, n, size=9000 if c == "K" else s), format=form,
                )
                self.assertEqual(measure(made).values["video.moving"], wanted, (width, cabac, size))

    def test_filler_and_projection(self):
        filler = b"\x0c" + b"\xff" * 99
        rows = [(n / 25, n / 25, [b"\x06\x96\x02\x00\x00\x80", coded("K", size=300), filler]) for n in range(50)]
        v = measure([format_of(), pictures(rows)]).values
        self.assertAlmostEqual(v["video.filler"], 100 / (6 + 300 + 100 + 12), delta=0.001)
        self.assertEqual(v["video.projection"], "equirectangular")
        self.assertEqual(measure(stream("KP")).values["video.projection"], "none")


class Time(unittest.TestCase):
    def seen(self, times, sound=None, arrival=None):
        made = [format_of(), pictures([(t, t, [coded("K" if n % 25 == 0 else "P", n)]) for n, t in enumerate(times)])]
        if arrival is not None:
            made[1] = dataclasses.replace(made[1], arrival=np.array(arrival))
        if sound is not None:
            ticks = [round(t * 1000) for t in sound]
            made += [Format("audio", "g711a", MS, sample_rate=8000, channels=1)]
            made += [batch("audio", [b"\xd5" * 160] * len(ticks), ticks, ticks, [True] * len(ticks))]
        return measure(made)

    def test_a_freeze_missing_and_repeated_pictures_are_named_and_timed(self):
        m = self.seen([n / 30 for n in range(300) if not 100 < n <= 130 and n not in (200, 250)])
        found = m.found
        self.assertEqual((found["video.pictures_missing"].value, found["video.pictures_repeated"].value), (32, 0))
        self.assertEqual(found["video.pictures_missing"].note, "30 at 3.3 s, 1 at 6.6 s, 1 at 8.3 s")
        self.assertEqual((found["video.longest_gap"].value, found["video.longest_gap"].note),
                         (1.034, "after the picture at 3.3 s"))  # fmt: skip
        rate = found["video.frame_rate"]
        self.assertEqual((rate.usual, rate.note), (30.0, "usually 30 fps"))
        self.assertAlmostEqual(rate.value, 267 / (299 / 30), delta=0.01)
        self.assertEqual((m.values["video.frame_rate_constant"], m.values["stream.timestamps"]), ("no", "clean"))
        self.assertAlmostEqual(m.values["stream.duration"], 10.0, delta=0.01)
        m = self.seen(sorted([*(n / 25 for n in range(100)), 2.0]))
        self.assertEqual((m.values["video.pictures_repeated"], m.values["stream.timestamps"]), (1, "repeated"))
        self.assertEqual(m.found["video.pictures_repeated"].note, "at 2.0 s")

    def test_a_rate_that_changes_is_named_and_timed(self):
        m = self.seen([*(n / 30 for n in range(300)), *(10 + n / 25 for n in range(250))])
        self.assertEqual(m.found["video.frame_rate"].note, "the rate changes: 30 fps from 0.0 s, 25 fps from 10.0 s")
        self.assertAlmostEqual(m.values["video.frame_rate"], 27.5, delta=0.1)

    def test_a_step_of_time_is_a_gap_where_time_ran_on(self):
        late = [*(n / 25 for n in range(100)), *(9 + n / 25 for n in range(100))]
        through = [n / 50 for n in range(650)]
        both = [*(n / 50 for n in range(200)), *(9 + n / 50 for n in range(200))]
        m = self.seen(late, through)
        self.assertEqual((m.values["stream.timestamps"], m.values["video.longest_gap"]), ("clean", 5.04))
        self.assertEqual((m.values["video.pictures_missing"], m.values["stream.duration"]), (125, 13.0))
        m = self.seen(late, both)
        self.assertEqual((m.values["stream.timestamps"], m.values["stream.duration"]), ("jump", 8.0))
        self.assertEqual((m.values["video.pictures_missing"], m.values["audio.longest_gap"]), (0, 0))
        m = self.seen([n / 25 for n in range(325)], both)
        self.assertEqual((m.values["stream.timestamps"], m.values["audio.longest_gap"]), ("clean", 5.0))
        self.assertEqual(self.seen(late).values["stream.timestamps"], "jump", "nothing shows that time ran on")
        self.assertEqual(self.seen(late, arrival=late).values["stream.timestamps"], "clean", "nothing came for as long")
        quick = [n / 25 for n in range(200)]
        self.assertEqual(self.seen(late, arrival=quick).values["stream.timestamps"], "jump")

    def test_where_stamps_do_not_run_on_is_told_once_and_with_its_times(self):
        late, both = [*(n / 25 for n in range(100)), *(9 + n / 25 for n in range(100))], [*(n / 50 for n in range(200)), *(9 + n / 50 for n in range(200))]
        either = ", a pause or a jump of the clock: the time stamps alone do not show which"
        back = [*(n / 25 for n in range(200)), *(5 + n / 25 for n in range(100))]
        for m, since, note in (
            (self.seen(late, both), 4.0, "5.0 s forward at 4.0 s" + either),
            (self.seen(late, arrival=[n / 25 for n in range(200)]), 4.0, "5.0 s forward at 4.0 s"),
            (self.seen(back), 8.0, "3.0 s backward at 8.0 s"),
            (self.seen([t + 9 * n for n in range(6) for t in (0, 1, 2)]), 2.0, ", ".join(f"7.0 s forward at {2 + 9 * n}.0 s" for n in range(3)) + ", and forward again" + either),
        ):
            found = m.found["stream.timestamps"]
            self.assertEqual((found.since, found.note), (since, note))


class Sound(unittest.TestCase):
    def track(self, times, tick=MS, frame=b"\xd5" * 160):
        ticks = [round(t / float(tick)) for t in times]
        return [Format("audio", "g711a", tick, sample_rate=8000, channels=1),
                batch("audio", [frame] * len(ticks), ticks, ticks, [True] * len(ticks))]  # fmt: skip

    def test_a_hole_is_a_gap_and_no_drift(self):
        for seed in range(thorough(16, 6)):
            source = random.Random(seed)
            count = 3000
            lost = set(range(at := source.randrange(20, 2900), at + source.choice((1, 2, 5, 40))))
            lost |= {source.randrange(20, 2900)} if seed % 2 else set()
            jitter = source.choice((0, 0.004))
            drift = source.choice((1.0, 1.0005))
            times = [max(0, n * 0.02 * drift + source.uniform(0, jitter)) for n in range(count) if n not in lost]
            form, samples = self.track(times)
            for sizes in ([], [7] * count):
                m = measure([*stream("KP"), form, *parts_of(samples, [*sizes, count])])
                runs = sorted(lost)
                longest = max(len(list(g)) for g in _runs(runs))
                self.assertAlmostEqual(m.values["audio.longest_gap"], 0.02 * longest, delta=0.003, msg=str(seed))
                self.assertAlmostEqual(m.values["stream.av_drift"], (1 / drift - 1) * 1e6, delta=150, msg=str(seed))
                self.assertEqual(m.values["stream.timestamps"], "clean")

    def test_late_time_stamps_alone_are_no_hole(self):
        source = random.Random(5)
        times = [n * 0.02 + (0.018 if source.random() < 0.1 else 0) for n in range(2000)]
        m = measure([*stream("KP"), *self.track(times)])
        self.assertEqual(m.values["audio.longest_gap"], 0)

    def test_a_change_and_an_end_are_told_with_their_time(self):
        first, second = (aac_encoder.encode(np.zeros(48 * 1024), rate)[0] for rate in (48000, 44100))
        rows = [(n * 21, first) for n in range(100)] + [(2100 + n * 23, second) for n in range(100)]
        made = [*stream("K" + "P" * 249)]
        for config, part in ((bytes.fromhex("1188"), rows[:100]), (bytes.fromhex("1208"), rows[100:])):
            times = [t for t, _ in part]
            made += [
                Format("audio", "aac", MS, configuration=config),
                batch("audio", [d for _, d in part], times, times, [True] * 100),
            ]
        m = measure(made)
        self.assertIn("the sound changes: 48000 Hz 1 ch until 2.1 s, then 44100 Hz 1 ch", m.remarks)
        self.assertIn("the sound stops at 4.4 s, 5.6 s before the picture", m.remarks)
        self.assertEqual(m.found["audio.sample_rate"].also, (48000,))
        self.assertAlmostEqual(m.values["audio.duration"], 4.4, delta=0.01)


def _runs(numbers):
    row = []
    for n in numbers:
        if row and n != row[-1] + 1:
            yield row
            row = []
        row.append(n)
    yield row


class Piles(unittest.TestCase):
    def test_the_buffer_is_that_of_brute_force(self):
        source = random.Random(9)
        for _ in range(30):
            times = np.cumsum([source.randrange(1, 60) for _ in range(120)])
            sizes = column([source.randrange(1, 9000) for _ in range(120)])
            curve = Curve()
            for at in range(0, 120, 17):
                curve.add(times[at : at + 17], sizes[at : at + 17])
            rate = float(sizes.sum() / (times[-1] - times[0]))
            worst = max(int(sizes[i : j + 1].sum()) - rate * int(times[j] - times[i]) for i in range(120) for j in range(i, 120))
            self.assertAlmostEqual(curve.rise(rate), worst, places=3)

    def test_breaks_take_no_time(self):
        source = random.Random(19)
        for _ in range(20):
            curve, plain, now = Curve(), Curve(), 0
            for run in range(4):
                times = np.cumsum([source.randrange(1, 60) for _ in range(30)])
                sizes = column([source.randrange(1, 9000) for _ in range(30)])
                if run:
                    curve.new_stretch(int(times[0]) + 5000 * run)
                curve.add(times + 5000 * run, sizes)  # each run on a clock of its own
                plain.add(times - times[0] + now, sizes)
                now += int(times[-1] - times[0])
            for rate in (10.0, 150.0, 400.0):
                self.assertAlmostEqual(curve.rise(rate), plain.rise(rate), places=3)

    def test_long_streams_keep_what_stands_out(self):
        source = np.random.default_rng(4)
        sizes = source.integers(100, 9000, 300_000)
        sizes[::50] *= 9
        times = 10**9 + np.arange(300_000) * 40
        curve, whole = Curve(), np.cumsum(sizes)
        for at in range(0, 300_000, 5000):
            curve.add(times[at : at + 5000], sizes[at : at + 5000])
        rate = float(sizes.sum() / 300_000 / 40)
        level = np.stack([whole - sizes, whole], 1).ravel() - np.repeat(times, 2) * rate
        true = float((level - np.minimum.accumulate(level)).max())
        self.assertLessEqual(curve.rise(rate), true + 1)
        self.assertGreater(curve.rise(rate), 0.98 * true)
        self.assertLess(sum(map(len, curve._times)), 1 << 18)

    def test_a_stream_that_keeps_its_promise_is_cbr(self):
        rate, buffer = 1_024_000, 1_024_000
        for spare, wanted in ((1.0, "cbr"), (1.4, "vbr"), (0.6, "vbr")):
            level, rows, source = 0.0, [], random.Random(1)
            for n in range(500):  # whatever is sent, the pile stays within the buffer
                level -= rate / 25
                room = buffer - max(level, 0)
                bits = source.uniform(0.05, 0.3) * room if level > -buffer * 0.3 else -level
                bits = max(bits, 4000) * spare
                level += bits / spare
                rows.append((n / 25, n / 25, [coded("K" if n % 25 == 0 else "P", n, size=round(bits / 8) - 4)]))
            m = measure([format_of(sps(hrd=(rate, buffer, True)), pps()), pictures(rows)])
            self.assertEqual(m.values["video.rate_control"], wanted, spare)
        kept = PromiseKept(Promise(8000, True, 8000), MS)
        kept.add(column(range(0, 4000, 100)), column([100] * 40))
        self.assertTrue(kept.tells and not kept.broken)
        short = PromiseKept(Promise(8000, True, 8000), MS)
        short.add(column([0, 1000, 2000, 2999]), column([1000] * 4))
        self.assertFalse(short.tells, "three buffers are needed")
        short.add(column([3000]), column([1]))
        self.assertTrue(short.tells)
        kept.add(column([4100]), column([5000]))
        self.assertTrue(kept.broken)


class Live(unittest.TestCase):
    def test_snapshots_on_the_way_change_nothing(self):
        source = random.Random(2)
        times = sorted(n / 30 + source.uniform(0, 0.004) for n in range(600) if source.random() > 0.01)
        made = [format_of(), pictures([(t, t, [coded("P", n)]) for n, t in enumerate(times)])]
        once, often = Meter(), Meter()
        once.add_all(made)
        often.add(made[0])
        for part in parts_of(made[1], [13] * 99):
            often.add(part)
            self.assertFalse(math.isnan(often.seconds))
            often.snapshot()
        self.assertEqual(often.snapshot().values, once.snapshot().values)
