import random
import unittest

from direkt.protocol.rtmp import chunks
from direkt.protocol.rtmp.chunks import ChunkReader, ChunkWriter, RtmpMessage, split_aggregate
from direkt.protocol.rtmp.errors import RtmpError


def read(data: bytes, step: int | None = None, reader: ChunkReader | None = None) -> list[RtmpMessage]:
    reader = reader or ChunkReader()
    out = []
    for at in range(0, len(data), step or max(1, len(data))):
        reader.feed(data[at : at + (step or len(data))])
        while (message := reader.next_message()) is not None:
            out.append(message)
    return out


def header(kind: int, number: int, stamp: int, length: int, type_: int, stream: int = 1) -> bytes:
    first = bytes([kind << 6 | number])
    field = min(stamp, 0xFFFFFF).to_bytes(3, "big")
    extra = stamp.to_bytes(4, "big") if stamp >= 0xFFFFFF else b""
    rest = [
        length.to_bytes(3, "big") + bytes([type_]) + stream.to_bytes(4, "little"), length.to_bytes(3, "big") + bytes([type_]),
        b"", None,
    ]
    return first + (b"" if kind == 3 else field + rest[kind] + extra)


class Reading(unittest.TestCase):
    def test_every_header_type(self):
        data = header(0, 4, 1000, 3, 8) + b"abc"
        data += header(1, 4, 20, 2, 8) + b"de"
        data += header(2, 4, 30, 0, 0) + b"fg"
        data += header(3, 4, 0, 0, 0) + b"hi"
        for step in (None, 1, 3):
            found = read(data, step)
            self.assertEqual([m.payload for m in found], [b"abc", b"de", b"fg", b"hi"])
            self.assertEqual([m.timestamp for m in found], [1000, 1020, 1050, 1080])
            self.assertEqual({m.stream for m in found}, {1})

    def test_chunk_stream_numbers_of_one_two_and_three_bytes(self):
        full = header(0, 0, 5, 1, 9)[1:]
        for (first,) in ((b"\x3f",), (b"\x00\x40",), (b"\x01\x40\x02",)):
            self.assertEqual(read(first + full + b"x", 1)[0].payload, b"x")
        # 64 + 0x40 = 128 can be written in two ways and is the same stream
        data = b"\x00\x40" + full + b"x" + b"\xc1\x40\x00" + b"y"
        self.assertEqual([m.payload for m in read(data)], [b"x", b"y"])

    def test_extended_time_stamps_also_on_continuation_chunks(self):
        stamp = 0x01000005
        body = bytes(range(200)) * 2
        extra = stamp.to_bytes(4, "big")
        with_extra = (
            header(0, 6, stamp, 400, 9)
            + body[:128]
            + b"".join(b"\xc6" + extra + body[n : n + 128] for n in range(128, 400, 128))
        )
        without = (header(0, 6, stamp, 400, 9) + body[:128] + b"".join(b"\xc6" + body[n : n + 128] for n in range(128, 400, 128)))
        for data in (with_extra, without):
            for step in (None, 1, 130):
                found = read(data, step)
                self.assertEqual([(m.timestamp, m.payload) for m in found], [(stamp, body)])
        following = with_extra + header(1, 6, 40, 1, 9) + b"z"
        self.assertEqual(read(following)[1].timestamp, stamp + 40)

    def test_time_wraps_at_32_bits(self):
        data = header(0, 4, 0xFFFFFFF0, 1, 8) + b"a" + header(1, 4, 0x20, 1, 8) + b"b"
        self.assertEqual([m.timestamp for m in read(data)], [0xFFFFFFF0, 0x10])

    def test_interleaving_and_abort(self):
        video, audio = bytes(300), b"s" * 150
        data = header(0, 6, 0, 300, 9) + video[:128] + header(0, 4, 0, 150, 8) + audio[:128]
        data += b"\xc6" + video[128:256] + b"\xc4" + audio[128:] + b"\xc6" + video[256:]
        self.assertEqual([m.payload for m in read(data)], [audio, video])
        aborted = header(0, 6, 0, 300, 9) + video[:128] + header(0, 2, 0, 4, 2, 0) + (6).to_bytes(4, "big")
        aborted += header(0, 6, 9, 2, 9) + b"ok"
        self.assertEqual(read(aborted)[-1].payload, b"ok")

    def test_a_whole_message_cuts_an_unfinished_one_short(self):
        begun = header(0, 6, 0, 300, 9) + bytes(128)
        for step in (None, 1):
            found = read(begun + header(0, 6, 9, 2, 9) + b"ok" + b"\xc6ko" + header(0, 6, 40, 0, 9) + b"\xc6", step)
            self.assertEqual([(m.timestamp, m.payload) for m in found], [(9, b"ok"), (18, b"ko"), (40, b""), (80, b"")])
        reader = ChunkReader()
        read(begun + header(0, 6, 9, 2, 9) + b"ok", reader=reader)
        self.assertEqual(reader._held, 0)

    def test_chunk_size_changes(self):
        data = header(0, 2, 0, 4, 1, 0) + (4096).to_bytes(4, "big") + header(0, 6, 0, 3000, 9) + bytes(3000)
        data += header(0, 2, 0, 4, 1, 0) + (1).to_bytes(4, "big") + header(0, 6, 0, 3, 9) + b"a\xc6b\xc6c"
        self.assertEqual([len(m.payload) for m in read(data)], [4, 3000, 4, 3])

    def test_random_messages_in_random_pieces(self):
        source = random.Random(6)
        for _ in range(60):
            writer, wanted, data = ChunkWriter(), [], b""
            for _ in range(source.randrange(1, 12)):
                if source.random() < 0.3:
                    size = source.choice((1, 64, 128, 1000, 65536))
                    message = RtmpMessage(chunks.SET_CHUNK_SIZE, 0, 0, size.to_bytes(4, "big"))
                    data += writer.write(2, message)
                    writer.chunk_size = size
                else:
                    stamp = source.choice((0, 40, 70000, 0xFFFFFE, 0xFFFFFF, 0x1000000, 0xFFFFFFFF, source.randrange(1 << 32)))
                    payload = source.randbytes(source.choice((0, 1, 127, 128, 129, 500, 3000)))
                    message = RtmpMessage(source.choice((8, 9)), 1, stamp, payload)
                    data += writer.write(source.choice((4, 6)), message)
                wanted.append(message)
            for step in (None, 1, source.randrange(2, 4000)):
                self.assertEqual(read(data, step), wanted)


class Limits(unittest.TestCase):
    def test_a_huge_command_is_refused_when_it_is_announced(self):
        with self.assertRaisesRegex(RtmpError, "16777215 bytes"):
            read(header(0, 3, 0, 0xFFFFFF, 20))

    def test_the_largest_chunk_size_is_taken_and_costs_nothing(self):
        reader = ChunkReader()
        read(header(0, 2, 0, 4, 1, 0) + (0x7FFFFFFF).to_bytes(4, "big"), reader=reader)
        self.assertEqual(reader.chunk_size, 0xFFFFFF)
        self.assertEqual(read(header(0, 6, 0, 5, 9) + b"hello", reader=reader)[0].payload, b"hello")

    def test_chunk_size_zero_many_streams_and_a_missing_beginning(self):
        with self.assertRaisesRegex(RtmpError, "chunk size of 0"):
            read(header(0, 2, 0, 4, 1, 0) + bytes(4))
        with self.assertRaisesRegex(RtmpError, "chunk streams"):
            read(b"".join(b"\x00" + bytes([n]) + header(0, 0, 0, 1, 9)[1:] + b"x" for n in range(80)))
        for kind in (1, 2, 3):
            with self.assertRaisesRegex(RtmpError, f"type {kind}"):
                read(header(kind, 5, 0, 1, 9) + b"x")

    def test_unfinished_messages_are_bounded(self):
        reader = ChunkReader()
        reader.chunk_size = 4 << 20
        with self.assertRaisesRegex(RtmpError, "16384 KiB"):
            for number in range(4, 10):
                read(header(0, number, 0, 8 << 20, 9) + bytes(4 << 20), reader=reader)

    def test_the_limits_themselves_are_allowed(self):
        reader = ChunkReader()
        reader.early, reader.chunk_size = True, 1 << 15
        for number in range(4, 8):
            reader.feed(header(0, number, 0, 60_000, 20) + bytes(1 << 15))
            self.assertIsNone(reader.next_message())
        reader.feed(header(0, 8, 0, 200, 20) + bytes(200))
        self.assertEqual(len(reader.next_message().payload), 200, "what is whole at once is not held")
        reader.feed(header(0, 9, 0, 40_000, 20) + bytes(1 << 15))
        with self.assertRaisesRegex(RtmpError, "128 KiB"):
            reader.next_message()
        writer = ChunkWriter()
        self.assertGreater(len(writer.write(4, RtmpMessage(9, 1, 0, bytes(0xFFFFFF)))), 0xFFFFFF)
        with self.assertRaisesRegex(RtmpError, "16777216 bytes"):
            writer.write(4, RtmpMessage(9, 1, 0, bytes(0x1000000)))

    def test_noise_raises_nothing_else(self):
        source = random.Random(7)
        for _ in range(500):
            try:
                read(source.randbytes(400), source.randrange(1, 90))
            except RtmpError:
                continue


class Aggregate(unittest.TestCase):
    def test_messages_inside_keep_their_distances(self):
        def part(kind: int, stamp: int, payload: bytes) -> bytes:
            head = (
                bytes([kind])
                + len(payload).to_bytes(3, "big")
                + (stamp & 0xFFFFFF).to_bytes(3, "big")
                + bytes([stamp >> 24])
            )
            return head + bytes(3) + payload + (11 + len(payload)).to_bytes(4, "big")

        message = RtmpMessage(22, 1, 5000, part(8, 100, b"a") + part(9, 140, b"bc"))
        self.assertEqual(
            [(m.type, m.timestamp, m.payload) for m in split_aggregate(message)], [(8, 5000, b"a"), (9, 5040, b"bc")]
        )
        for cut in (5, 11):
            with self.assertRaises(RtmpError):
                list(split_aggregate(RtmpMessage(22, 1, 0, message.payload[:cut])))
