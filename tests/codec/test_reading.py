"""The H.264 reader on whole batches, held against a walk of single pictures that shares no code with it."""

import random
import unittest

import numpy as np

from direkt.codec import h264_syntax as syntax
from direkt.codec.bits import BitReader, BitstreamError, escape, pack, stop, u, ue, unescape
from direkt.codec.h264 import Reader
from direkt.codec.reader import Join, Scan
from direkt.media import Format, Framing
from tests.support import MS, card, parts_of, pictures, units, video_format

HEADS = {"K": 0x65, "P": 0x41, "B": 0x01, "I": 0x41}
KINDS = {"K": 7, "P": 5, "B": 6, "I": 7}
RECOVERY = b"\x06\x06\x01\x84\x80"


def coded(letter: str, first_mb: int = 0, pps: int = 0) -> bytes:
    return bytes([HEADS[letter]]) + pack(ue(first_mb) + ue(KINDS[letter]) + ue(pps) + "1" * 60)


def reader(format: Format | None = None) -> tuple[Reader, list[str]]:
    said: list[str] = []
    made = Reader(said.append)
    made.configure(format or video_format())
    return made, said


def read(samples, sizes=(10**6,), format=None):
    """What the reader finds in batches of these sizes, as plain lists."""
    made, said = reader(format)
    first, join, two, scan, changes, damaged, before = [], [], [], [], [], 0, 0
    for part in parts_of(samples, [*sizes, len(samples)]):
        found = made.read(part)
        if found.late_bipredicted:
            two[-1] = True
        changes += [(n + len(first), d) for n, d in found.changes]
        first += (found.first + before).tolist()
        join, two, scan = join + found.join.tolist(), two + found.bipredicted.tolist(), scan + found.scan.tolist()
        damaged += found.damaged
        before += len(part)
    return first, join, two, scan, changes, damaged, said


def slowly(samples):
    """Where pictures begin, whether they are IDR and have B slices, and how many samples are damaged: unit by unit."""
    first, join, two, damaged = [], [], [], 0
    for n in range(len(samples)):
        data, at, begun = bytes(samples.sample(n)), 0, False
        while at < len(data):
            size = int.from_bytes(data[at : at + 4], "big")
            if len(data) - at < 4 or size > len(data) - at - 4:
                damaged += any(data[at:])
                break
            nal = data[at + 4 : at + 4 + size]
            at += 4 + size
            if not nal or nal[0] & 31 not in (1, 5):
                continue
            bits = BitReader(nal[1:].replace(b"\0\0\3", b"\0\0") + bytes(9))
            try:
                lead, kind = bits.ue(), bits.ue()
            except BitstreamError:
                lead, kind = 0, 99
            if (lead == 0 and not begun) or not first:
                first.append(n)
                join.append(2 if nal[0] & 31 == 5 else 0)
                two.append(False)
                begun = True
            if kind < 10 and kind % 5 == 1:
                two[-1] = True
    return first, join, two, damaged


def stream(source: random.Random, count: int):
    """Samples of all legal shapes: slices in one sample or in several, parameter sets by themselves, filler, empty units."""
    rows, time = [], 0
    for _ in range(count):
        letter = source.choice("KPPPBBI")
        slices = [coded(letter, first) for first in (0, 30, 700, 8000)[: source.choice((1, 1, 2, 4))]]
        nals = [source.choice((b"\x09\xf0", b"\x06\x05\x01\xff\x80", b"")) for _ in range(source.randrange(3))]
        if source.random() < 0.3 and len(slices) > 1:
            rows.append((time, time, [*nals, slices[0]]))
            rows += [(time, time, [one]) for one in slices[1:]]
        else:
            rows.append((time, time, [*nals, *slices, *([b"\x0c" + b"\xff" * 40] if source.random() < 0.2 else [])]))
        if source.random() < 0.1:
            rows.append((time, time, [b"\x09\xf0"]))
        if source.random() < 0.05:
            rows.append((time, time, b"\0\0\0\x09\x41\x9a"))
        time += 40
    return pictures([(a / 1000, b / 1000, *rest) for a, b, *rest in rows])


class Batches(unittest.TestCase):
    def test_batches_of_any_size_find_what_single_steps_find(self):
        source = random.Random(31)
        for _ in range(40):
            samples = stream(source, source.randrange(1, 90))
            wanted = slowly(samples)
            for sizes in ([], [1] * len(samples), [source.randrange(1, 40) for _ in range(99)]):
                first, join, two, scan, _, damaged, _ = read(samples, sizes)
                self.assertEqual((first, join, two, damaged), wanted, sizes)
                self.assertEqual(set(scan) - {Scan.WHOLE}, set())

    def test_slice_types_and_numbers_of_every_size(self):
        rows = []
        wanted = []
        for first in (0, 1, 5, 8159, 139263):
            for kind in range(10):
                for pps in (0, 1, 3, 255):
                    start = b"\x41" + escape(pack(ue(first) + ue(kind) + ue(pps) + "10" * 8))
                    rows.append((len(rows) / 25, len(rows) / 25, [start]))
                    wanted.append((first, kind % 5, pps))
        samples = pictures(rows)
        from direkt.codec.h264 import _slice_starts
        from direkt.codec.nal import behind_lengths

        found = behind_lengths(samples, 4)
        self.assertEqual(list(zip(*(c.tolist() for c in _slice_starts(samples, found.at, found.size)), strict=True)), wanted)

    def test_a_slice_type_that_is_none_and_a_slice_that_is_cut(self):
        bad = b"\x41" + pack(ue(0) + ue(11) + ue(0))
        first, _, two, _, _, damaged, _ = read(pictures([(0, 0, [bad]), (0.04, 0.04, [b"\x41"]), (0.08, 0.08, [coded("P")])]))
        self.assertEqual((first, two, damaged), ([0, 2], [False] * 2, 0), "a slice without a header begins no picture")

    def test_lengths_of_one_and_two_bytes(self):
        nals = [coded("K"), coded("P")]
        for size in (1, 2):
            data = b"".join(len(nal).to_bytes(size, "big") + nal for nal in nals)
            form = video_format()
            record = form.configuration[:4] + bytes([0xFC | size - 1]) + form.configuration[5:]
            format = Format("video", "h264", MS, Framing.LENGTHS, record)
            for count in (1, 40):
                found = read(pictures([(n / 25, n / 25, data) for n in range(count)]), format=format)
                self.assertEqual((found[0], found[5]), (list(range(count)), 0))
                self.assertEqual(set(found[1]), {Join.KEYFRAME})


class ParameterSets(unittest.TestCase):
    def sets(self, **more) -> tuple[bytes, bytes]:
        record = syntax.parse_avc_config(video_format(card(**more)).configuration)
        return record.sps[0], record.pps[0]

    def test_without_a_configuration_the_stream_itself_tells(self):
        sps, pps = self.sets(width=320, height=180)
        rows = [(0, 0, [sps, pps, coded("K")]), (0.04, 0.04, [coded("P")])]
        bare = Format("video", "h264", MS, Framing.LENGTHS)
        made, said = reader(bare)
        found = made.read(pictures(rows))
        self.assertEqual((made.declared.values["video.size"], found.join.tolist(), said), ("320x180", [2, 0], []))
        self.assertEqual([n for n, _ in found.changes], [0])

    def test_start_codes_where_lengths_are_the_rule_are_noticed(self):
        sps, pps = self.sets(width=320, height=180)
        for code in (b"\0\0\0\1", b"\0\0\1"):
            data = b"".join(code + nal for nal in (sps, pps, coded("K")))
            made, said = reader(Format("video", "h264", MS, Framing.LENGTHS))
            found = made.read(pictures([(0, 0, data), (0.04, 0.04, code + coded("P"))]))
            self.assertEqual((made.declared.values["video.size"], found.join.tolist()), ("320x180", [2, 0]))
            self.assertIn("start codes", said[0])

    def test_a_change_is_told_with_its_picture_and_a_repetition_is_none(self):
        sps, pps = self.sets()
        other, other_pps = self.sets(width=320, height=180)
        rows = [(0, 0, [coded("K")]), (0.04, 0.04, [sps + b"\0\0", pps, coded("K")])]
        rows += [(0.08, 0.08, [coded("P")]), (0.12, 0.12, [other, other_pps]), (0.12, 0.12, [coded("K")])]
        for sizes in ([], [1] * 9):
            _, _, _, _, changes, damaged, said = read(pictures(rows), sizes)
            self.assertEqual([(n, d.summary) for n, d in changes], [(3, "320x180 high")])
            self.assertEqual((damaged, said), (0, []))

    def test_the_picture_names_the_sets_that_it_follows(self):
        sps, pps = self.sets()
        record = syntax.parse_avc_config(video_format(card(width=320, height=180)).configuration)
        # the same set under number 1, and a picture set 1 that names it
        second = b"\x67" + record.sps[0][1:4] + escape(stop("010" + _after_number(record.sps[0])))
        rows = [(0, 0, [sps, pps, second, b"\x68" + stop(ue(1) + ue(1) + "0"), coded("K", pps=0)])]
        rows += [(0.04, 0.04, [coded("K", pps=1)]), (0.08, 0.08, [coded("K", pps=0)])]
        _, _, _, _, changes, _, _ = read(pictures(rows))
        self.assertEqual([(n, d.values["video.size"]) for n, d in changes], [(1, "320x180"), (2, "640x360")])

    def test_a_configuration_that_lies_and_sets_that_cannot_be_read(self):
        form = video_format()
        lying = form.configuration[:1] + b"\x4d\x00\x1f" + form.configuration[4:]
        _, said = reader(Format("video", "h264", MS, Framing.LENGTHS, lying))
        self.assertIn("profile 77", said[0])
        with self.assertRaises(BitstreamError):
            reader(Format("video", "h264", MS, Framing.LENGTHS, b"\x01\x02"))
        found = read(pictures([(0, 0, [b"\x67\x01", b"\x68", coded("K")])]))
        self.assertEqual((found[0], found[5]), ([0], 0))
        self.assertIn("cannot be read", found[6][0])


def _after_number(sps: bytes) -> str:
    """The bits of a set behind its number 0, without the trailing ones."""
    digits = format(int.from_bytes(unescape(sps[4:]), "big"), f"0{8 * len(unescape(sps[4:]))}b")
    return digits[1:].rstrip("0")[:-1]


class Scanning(unittest.TestCase):
    def test_fields(self):
        digits = u(100, 8) + u(0, 8) + u(40, 8) + ue(0) + ue(1) + ue(0) + ue(0) + "00" + ue(0) + ue(2) + ue(1) + "0"
        digits += ue(119) + ue(33) + "0" + "0" + "1" + "1" + ue(0) + ue(0) + ue(0) + ue(2) + "1" + "0" * 7 + "1" + "0"
        sps = b"\x67" + escape(stop(digits))
        pps = b"\x68" + stop(ue(0) + ue(0) + "1")
        format = Format("video", "h264", MS, Framing.LENGTHS, syntax.build_avc_config(sps, pps))
        field = b"\x65" + pack(ue(0) + ue(7) + ue(0) + u(0, 4) + "1" + "0" + ue(0))
        frame = b"\x41" + pack(ue(0) + ue(5) + ue(0) + u(1, 4) + "0")
        timing = [b"\x06\x01\x01" + bytes([kind << 4]) + b"\x80" for kind in (0, 3)]
        for nals, wanted in (
            ([[field]], {Scan.FIELDS}), ([[timing[0], frame]], {Scan.WHOLE}), ([[timing[1], frame]], {Scan.FIELDS}),
            ([[field], [timing[0], frame]], {Scan.FIELDS, Scan.WHOLE}),
        ):  # fmt: skip
            rows = [(n / 25, n / 25, part) for n, part in enumerate(nals * 3)]
            self.assertEqual(set(read(pictures(rows), format=format)[3]), wanted)

    def test_recovery_points_are_the_pictures_behind_their_message(self):
        # by itself, among other messages, behind bytes that were escaped, with zeros behind it, in a sample of its own
        timing = b"\x01\x03\0\0\x03\0"
        rows = [
            [coded("K")], [RECOVERY, coded("I")], [coded("I")], [RECOVERY, coded("P")], [coded("P")],
            [b"\x06" + timing + b"\x06\x01\x84\x80", coded("P")], [b"\x06" + timing + b"\x80", coded("P")],
            [RECOVERY + b"\0\0", coded("P")], [RECOVERY], [coded("P")], [b"\x06\xff\x01\x06\x01\x84" + bytes(261) + b"\x80", coded("P")],
        ]  # fmt: skip
        wanted = [2, 1, 0, 1, 0, 1, 0, 1, 1, 0]
        samples = pictures([(n / 25, n / 25, nals) for n, nals in enumerate(rows)])
        for sizes in ([], [1] * 11, [9, 2]):
            self.assertEqual(read(samples, sizes)[1], wanted)

    def test_noise_raises_nothing(self):
        source = random.Random(32)
        for _ in range(200):
            rows = [(n / 25, n / 25, source.randbytes(source.randrange(60))) for n in range(20)]
            rows += [
                (1 + n / 25, 1 + n / 25, units([source.randbytes(source.randrange(1, 30)) for _ in range(4)]))
                for n in range(20)
            ]
            samples = pictures(rows)
            found = read(samples)
            self.assertEqual(len(found[0]), len(found[1]))
            self.assertTrue(np.all(np.diff(found[0]) > 0))
