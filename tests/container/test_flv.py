import itertools
import random
import struct
import unittest
from fractions import Fraction

from direkt.container import ContainerError, flv, flv_writer
from direkt.media import Break, Claims, Format, Framing, Odd, Samples, batch
from direkt.protocol import amf
from tests.support import MS, events, flat, flv_bytes, on_metadata, pictures, stream, tags, video_body


def by_hand(data: bytes):
    """Tags stepped through one by one, and samples taken apart, with nothing of the reader: (kind, ms, shift, marked, bytes)."""
    out, at = [], 13
    while at + 11 <= len(data):
        kind, size = data[at] & 31, int.from_bytes(data[at + 1 : at + 4], "big")
        stamp = struct.unpack(">i", bytes([data[at + 7]]) + data[at + 4 : at + 7])[0]
        body = data[at + 11 : at + 11 + size]
        if kind == 9 and body[1] == 1:
            shift = struct.unpack(">i", body[2:5] + b"\0")[0] >> 8
            out.append(("video", stamp, shift, body[0] >> 4 == 1, body[5:]))
        elif kind == 8 and body[0] >> 4 == 10 and body[1] == 1:
            out.append(("audio", stamp, 0, True, body[2:]))
        at += 11 + size + 4
    return out


def live(tags_, sizes=(10**6,)) -> list:
    """The same tags through the queue of a live stream, taken after so many tags each time."""
    queue, out = flv.TagQueue(), []
    left = list(sizes)
    count = left.pop(0)
    for n, (stamp, kind, body) in enumerate(tags_):
        queue.add(kind, stamp, body, n / 100)
        count -= 1
        if not count:
            out += queue.take()
            count = left.pop(0) if left else 10**6
    return out + queue.take()


class Reading(unittest.TestCase):
    def test_what_is_written_is_read_as_by_hand(self):
        data = flv_bytes(4, facts={"width": 640.0, "framerate": 25.0, "stereo": True})
        found = events(data)
        self.assertEqual(found[0], Claims("onMetaData", {"video.width": 640, "video.frame_rate": 25, "audio.channels": 2}))
        formats = [e for e in found if isinstance(e, Format)]
        self.assertEqual([(f.codec, f.framing) for f in formats], [("h264", Framing.LENGTHS), ("aac", Framing.RAW)])
        for track in ("video", "audio"):
            wanted = [row for row in by_hand(data) if row[0] == track]
            self.assertEqual(
                [(round(s.dts * 1000), round((s.pts - s.dts) * 1000), s.key, s.data) for s in flat(found, track)],
                [row[1:] for row in wanted],
            )

    def test_files_and_live_streams_take_the_same_way(self):
        made = [(stamp, kind, body) for kind, stamp, body in tags(3)]
        made.insert(3, (0, flv.SCRIPT, on_metadata({"width": 640.0})))
        made += [(3000, flv.AUDIO, b"\x2f" + bytes(9)), (3020, flv.VIDEO, b"\x17"), (3040, flv.AUDIO, b"\x2f" + bytes(9))]
        file = events(flv_writer.header() + b"".join(flv_writer.tag(kind, stamp, body) for stamp, kind, body in made))
        source = random.Random(21)
        for _ in range(12):
            found = live(made, [source.randrange(1, 60) for _ in range(60)])
            for track in ("video", "audio"):
                self.assertEqual(flat(found, track), flat(file, track))
            self.assertEqual([e for e in found if not isinstance(e, Samples)], [e for e in file if not isinstance(e, Samples)])

    def test_tags_are_written_for_every_codec_and_read_as_what_they_were(self):
        made = [
            *stream(0.2), Format("audio", "opus", MS, Framing.RAW, b"OpusHead" + bytes(11)),
            pictures([(1, 1, b"sound", True)], track="audio"),
            Format("audio", "g711a", MS, Framing.RAW, b"", 8000, 1), pictures([(1.02, 1.02, b"tele", True)], track="audio"),
            Format("audio", "mp3", MS, Framing.RAW, b"", 44100, 2), pictures([(1.04, 1.04, b"mpeg", True)], track="audio"),
            Format("video", "av1", MS, Framing.RAW, b"\x81\0\0\0"), pictures([(1, 1, b"temporal unit", True)]),
            Format("video", "h265", MS, Framing.LENGTHS, b"\1\1\1\1"), pictures([(1.1, 1.18, b"\0\0\0\1A")]),
        ]
        writer = flv_writer.TagWriter()
        found = events(flv_writer.header() + b"".join(flv_writer.tag(*t) for e in made for t in writer.tags(e)))
        self.assertFalse([e for e in found if isinstance(e, Odd | Break)])
        for track in ("video", "audio"):
            got = [(e.codec, e.configuration) for e in found if isinstance(e, Format) and e.track == track]
            self.assertEqual(got, [(e.codec, e.configuration) for e in made if isinstance(e, Format) and e.track == track])
            self.assertEqual([s.data for s in flat(found, track)], [s.data for s in flat(made, track)])
        self.assertEqual(flat(found, "video")[-1].pts, Fraction(1180, 1000))
        self.assertEqual({e.channels for e in found if isinstance(e, Format) and e.codec == "mp3"}, {2})
        with self.assertRaisesRegex(ContainerError, "no code for another codec"):
            list(writer.tags(Format("video", "other", MS)))
        with self.assertRaisesRegex(ContainerError, "before their format"):
            list(flv_writer.TagWriter().tags(made[-1]))

    def test_claims_go_round(self):
        values = {"video.width": 640, "video.frame_rate": 25, "audio.channels": 2, "video.codec": "h264", "audio.codec": "aac"}
        (tag,) = flv_writer.TagWriter().tags(Claims("a device", {**values, "video.scan": "progressive"}))
        (found,) = events(flv_writer.header() + flv_writer.tag(*tag))
        self.assertEqual(found, Claims("onMetaData", values))

    def test_many_more_tags_than_are_worked_on_at_once(self):
        body = b"\xaf\x01sound"
        count = 3 * flv._AT_ONCE + 5
        data = flv_writer.header() + flv_writer.tag(8, 0, b"\xaf\x00\x11\x90")
        data += b"".join(flv_writer.tag(8, n, body) for n in range(count))
        found = flat(events(data), "audio")
        self.assertEqual([round(s.dts * 1000) for s in found], list(range(count)))

    def test_a_recording_cut_anywhere_is_judged_up_to_there(self):
        whole = flv_bytes(0.2)
        complete = flat(events(whole), "video")
        for size in {*range(flv.HEADER_SIZE, 400), *range(400, len(whole), 37), *range(len(whole) - 60, len(whole))}:
            found = events(whole[:size])
            samples = flat(found, "video")
            self.assertEqual(samples, complete[: len(samples)])
            breaks = [e for e in found if isinstance(e, Break)]
            self.assertEqual(breaks, found[-1:] if breaks else [])
            self.assertTrue(all(b.offset <= size for b in breaks))
        for size in range(flv.HEADER_SIZE):
            with self.assertRaises(ContainerError):
                events(whole[:size])

    def test_the_end_of_a_cut_file_is_named(self):
        whole = flv_bytes(0.2)
        last = whole.rindex(b"\x00\x00\x00\x00\xaf\x01") - 7 if b"\xaf\x01" in whole else 0
        self.assertGreater(last, 13)
        for cut, words in (
            (len(whole) - 2, "without the tag's length"), (last + 3, "tag header: 3 of 11"), (last + 14, "claimed, 3 there"),
        ):  # fmt: skip
            self.assertIn(words, events(whole[:cut])[-1].reason)
        self.assertFalse(any(isinstance(e, Break) for e in events(whole[:-4])), "the last length may be left out")

    def test_a_length_that_lies_is_named_with_its_byte(self):
        whole = bytearray(flv_bytes(0.5))
        whole[14:17] = (0xFFFFFF).to_bytes(3, "big")
        found = events(bytes(whole))
        self.assertEqual(found[-1].offset, 13)
        self.assertIn("16777215 bytes claimed", found[-1].reason)
        whole = bytearray(flv_bytes(0.5))
        size = int.from_bytes(whole[14:17], "big")
        whole[14:17] = (size + 3).to_bytes(3, "big")
        self.assertIsInstance(events(bytes(whole))[-1], Break)
        whole = bytearray(flv_bytes(0.5))
        after = 13 + 11 + size
        whole[after : after + 4] = (size + 12).to_bytes(4, "big")
        self.assertIn(f"is {size + 12}, but the tag says {size + 11}", events(bytes(whole))[-1].reason)
        for right in (size, 0):
            whole[after : after + 4] = right.to_bytes(4, "big")
            self.assertFalse(any(isinstance(e, Break) for e in events(bytes(whole))), right)

    def test_negative_composition_times_and_late_time_stamps(self):
        body = video_body(b"\0\0\0\2\x41\x9a", shift=-40)
        first = flat(events(flv_writer.header() + flv_writer.tag(flv.VIDEO, 0x01020304, body)), "video")[0]
        self.assertEqual((first.dts, first.pts), (Fraction(16909060, 1000), Fraction(16909020, 1000)))
        (second,) = flat(events(flv_writer.header() + flv_writer.tag(flv.VIDEO, 0xFFFFFFF0, body)), "video")
        self.assertEqual(second.dts, Fraction(-16, 1000))

    def test_time_is_one_clock_over_every_border(self):
        body = video_body(b"\0\0\0\2\x41\x9a")
        for start in (0xFFFFFFF0, 0x7FFFFFF0, 0xFFFFFFD8, 0):
            stamps = [(start + 40 * n) & 0xFFFFFFFF for n in range(60)]
            data = flv_writer.header() + b"".join(flv_writer.tag(flv.VIDEO, stamp, body) for stamp in stamps)
            for found in (events(data), live([(stamp, flv.VIDEO, body) for stamp in stamps], [7] * 20)):
                times = [s.dts for s in flat(found, "video")]
                self.assertEqual({b - a for a, b in itertools.pairwise(times)}, {Fraction(40, 1000)})

    def test_other_codecs_are_named_and_lose_no_sample(self):
        for body, codec, rate, channels in (
            (bytes([0x2F]) + bytes(10), "mp3", 44100, 2), (bytes([0x72]) + bytes(10), "g711a", 8000, 1),
            (bytes([0x82]) + bytes(10), "g711u", 8000, 1), (bytes([0xB2]) + bytes(10), "speex", 16000, 1),
            (bytes([0xE2]) + bytes(10), "mp3", 8000, 1), (bytes([0x3B]) + bytes(10), "pcm", 22050, 2), (bytes([0x5F]) + bytes(10), "other", 44100, 2),
        ):  # fmt: skip
            found = events(flv_writer.header() + flv_writer.tag(flv.AUDIO, 0, body) * 3)
            config = found[0]
            self.assertEqual((config.codec, config.sample_rate, config.channels), (codec, rate, channels))
            self.assertEqual([s.data for s in flat(found, "audio")], [bytes(10)] * 3)
        found = events(flv_writer.header() + flv_writer.tag(flv.VIDEO, 0, b"\x12abc") + flv_writer.tag(flv.VIDEO, 0, b"\x22def"))
        self.assertEqual(
            (found[0].codec, [(s.data, s.key) for s in flat(found, "video")]), ("other", [(b"abc", True), (b"def", False)]),
        )

    def test_heads_that_are_written_are_those_of_the_specification(self):
        def bodies(format, marked=True, shift=0):
            writer = flv_writer.TagWriter()
            made = [*writer.tags(format)]
            made += writer.tags(batch(format.track, [b"data"], [40], [40 + shift], [marked]))
            return [body for _, _, body in made]

        tick = Fraction(1, 1000)
        for format, config, key, inter in (
            (Format("video", "h264", tick, Framing.LENGTHS, b"conf"), b"\x17\0\0\0\0conf", b"\x17\1\0\0\x28data", b"\x27\1\0\0\x28data"),
            (Format("video", "h265", tick, Framing.LENGTHS, b"conf"), None, None, None),
            (Format("video", "av1", tick, Framing.RAW, b"conf"), b"\x90av01conf", b"\x91av01data", b"\xa1av01data"),
            (Format("audio", "aac", tick, Framing.RAW, b"conf"), b"\xaf\0conf", b"\xaf\1data", b"\xaf\1data"),
            (Format("audio", "opus", tick, Framing.RAW, b"conf"), b"\x90Opusconf", b"\x91Opusdata", b"\x91Opusdata"),
        ):  # fmt: skip
            found = bodies(format, True, 40), bodies(format, False, 40)
            if config is not None:
                self.assertEqual(found, ([config, key], [config, inter]), format.codec)
        for channels, rate, head in ((1, 8000, 0x82), (2, 8000, 0x83)):
            format = Format("audio", "g711u", tick, Framing.RAW, b"", sample_rate=rate, channels=channels)
            self.assertEqual(bodies(format)[0][0] & 0xF3, head & 0xF3)

    def test_extended_headers(self):
        def one(kind, stamp, body):
            return events(flv_writer.header() + flv_writer.tag(kind, stamp, body))

        (config,) = one(flv.VIDEO, 0, b"\x90hvc1" + b"\x01abc")
        self.assertEqual((config.codec, config.configuration, config.framing), ("h265", b"\x01abc", Framing.LENGTHS))
        (sample,) = flat(one(flv.VIDEO, 40, b"\x91hvc1" + b"\0\0\x28" + b"data"), "video")
        self.assertEqual((sample.pts, sample.data, sample.key), (Fraction(80, 1000), b"data", True))
        (sample,) = flat(one(flv.VIDEO, 80, b"\xa3avc1data"), "video")
        self.assertEqual((sample.pts, sample.data, sample.key), (Fraction(80, 1000), b"data", False))
        (sample,) = flat(one(flv.VIDEO, 80, b"\xa1av01data"), "video")
        self.assertEqual(sample.data, b"data")
        self.assertEqual(one(flv.AUDIO, 0, b"\x90Opusx")[0].codec, "opus")
        self.assertEqual(flat(one(flv.AUDIO, 0, b"\x91Opusx"), "audio")[0].data, b"x")
        self.assertEqual(one(flv.VIDEO, 0, b"\xa2avc1"), [], "the end of a sequence is no sample")
        self.assertEqual(one(flv.VIDEO, 0, b"\x57\x00"), [], "nor is a command")
        (odd,) = one(flv.VIDEO, 0, b"\x90hv")
        self.assertEqual(odd, Odd("a video tag of 3 bytes, where its header alone has 5"))

    def test_short_tags_are_said_and_passed_over(self):
        good = flv_writer.tag(flv.AUDIO, 20, b"\xaf\x01sound")
        found = events(
            flv_writer.header()
            + flv_writer.tag(flv.AUDIO, 0, b"\xaf")
            + good
            + flv_writer.tag(flv.VIDEO, 9, b"")
            + good
        )
        self.assertEqual([e.text for e in found if isinstance(e, Odd)], ["an audio tag of 1 bytes, where its header alone has 2"])
        self.assertEqual(len(flat(found, "audio")), 2)

    def test_an_empty_sample_is_no_configuration(self):
        # the byte that tells is the body's last, and what follows it in the file could be taken for it
        empty = flv_writer.tag(flv.AUDIO, 0, b"\xaf\x01") + flv_writer.tag(flv.VIDEO, 0, b"\x27\x01\0\0\0")
        found = events(flv_writer.header() + empty * 3 + flv_writer.tag(flv.AUDIO, 9, b"\xaf\x01sound"))
        self.assertEqual([e.configuration for e in found if isinstance(e, Format)], [b""])
        self.assertEqual(len(flat(found, "audio")), 1)

    def test_random_damage_raises_nothing_but_the_formats_own_error(self):
        whole = flv_bytes(0.4, facts={"width": 640.0})
        source = random.Random(3)
        for _ in range(400):
            bad = bytearray(whole)
            for _ in range(source.randrange(1, 6)):
                bad[source.randrange(len(bad))] = source.randrange(256)
            try:
                events(bytes(bad))
            except ContainerError:
                continue

    def test_metadata(self):
        def claims(body):
            found = events(flv_writer.header() + flv_writer.tag(flv.SCRIPT, 0, body))
            return found[0].values if found else None

        self.assertIsNone(claims(b"\x02\x00\x0aonMetaData\x08\x00"))
        self.assertIsNone(claims(amf.encode(["onCuePoint", {"a": 1.0}])))
        facts = {"videocodecid": "avc1", "audiocodecid": 10.0, "audiodatarate": 128.5, "width": -1.0, "framerate": float("nan")}
        self.assertEqual(
            claims(amf.encode(["@setDataFrame", "onMetaData", facts])),
            {"video.codec": "h264", "audio.codec": "aac", "audio.bitrate.mean": 128.5},
        )
        self.assertEqual(claims(on_metadata({"videocodecid": float("inf"), "audiocodecid": 1e30})), {})
