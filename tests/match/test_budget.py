import itertools
import random
import unittest

from direkt.destination import library
from direkt.errors import UnusableInput
from direkt.match import budget
from direkt.match.budget import OFF, Feed, FeedOption
from direkt.protocol.load import Load
from direkt.protocol.rtmp import overhead


def brute(feeds, limit: float) -> float:
    choices = itertools.product(*((OFF, *feed.options) for feed in feeds))
    return max(
        sum(f.weight * o.value for f, o in zip(feeds, choice, strict=True)) for choice in choices
        if sum(o.wire for o in choice) <= limit + 1e-9
    )  # fmt: skip


def worth(shares) -> float:
    return sum(share.feed.weight * share.option.value for share in shares)


class Sharing(unittest.TestCase):
    def test_the_choice_matches_brute_force_and_is_never_worse_than_even(self):
        source = random.Random(13)
        for case in range(400):
            feeds = []
            for n in range(source.randrange(2, 5)):
                sizes = sorted(source.randrange(300, 9000) for _ in range(source.randrange(1, 5)))
                options = tuple(FeedOption(f"{s}", s, 128, s * (1.05 if case % 2 else source.uniform(1, 1.3)) + 140) for s in sizes)
                feeds.append(Feed(f"f{n}", source.choice([0.5, 1, 2, 3]), options))
            limit = source.randrange(500, 25000)
            best = budget.best_split(feeds, limit)
            self.assertLessEqual(sum(s.option.wire for s in best), limit + 1e-6)
            self.assertAlmostEqual(worth(best), brute(feeds, limit), places=5)
            self.assertGreaterEqual(worth(best) + 1e-9, worth(budget.even_split(feeds, limit)))

    def test_sixty_feeds_with_steps_of_their_own(self):
        source = random.Random(8)
        feeds = [
            Feed(f"f{n}", source.uniform(0.5, 4), tuple(FeedOption(f"{s}", s, 128, s * 1.05 + 140) for s in sorted(source.sample(range(300, 9000), 8))))
            for n in range(60)
        ]  # fmt: skip
        limit = 120_000.0
        shares = budget.best_split(feeds, limit)
        wire = sum(s.option.wire for s in shares)
        self.assertTrue(limit * 0.99 < wire <= limit, wire)
        # no feed can take another step, nor two change theirs, and the whole be worth more
        for one, other in itertools.combinations(shares, 2):
            left = limit - wire + one.option.wire + other.option.wire
            now = one.feed.weight * one.option.value + other.feed.weight * other.option.value
            best = max(
                one.feed.weight * a.value + other.feed.weight * b.value
                for a in (OFF, *one.feed.options) for b in (OFF, *other.feed.options) if a.wire + b.wire <= left
            )  # fmt: skip
            self.assertLessEqual(best, now + 1e-6)

    def test_a_heavier_feed_gets_more(self):
        options = budget.options_of(library.load("tarnlight"), "rtmp")
        light, heavy = budget.best_split([Feed("a", 1, options), Feed("b", 4, options)], 9000)
        self.assertLess(light.option.video, heavy.option.video)

    def test_no_room_is_off(self):
        options = budget.options_of(library.load("tarnlight"), "rtmp")
        (share,) = budget.best_split([Feed("a", 1, options)], 200)
        self.assertEqual(share.option, OFF)
        self.assertEqual(budget.best_split([], 1000), [])


class Overhead(unittest.TestCase):
    def test_it_equals_bytes_counted_by_hand(self):
        # One picture a second of 10000 bytes: tag 5, RTMP 8, two further chunks of 4096: 10015 bytes; 7 segments of
        # at most 1448 bytes with 52 bytes of headers: 10379 bytes
        self.assertAlmostEqual(budget.on_the_wire("rtmp", Load(80, 0, 1)), 10379 * 8 / 1000)
        self.assertAlmostEqual(budget.on_the_wire("rtmps", Load(80, 0, 1)), (10015 + 22 + 7 * 52) * 8 / 1000)
        self.assertEqual(budget.on_the_wire("rtmp", Load(0, 0, 25)), 0)
        with self.assertRaisesRegex(UnusableInput, "srt"):
            budget.on_the_wire("srt", Load(1, 1, 25))

    def test_it_is_near_what_a_publisher_sends(self):
        from direkt.protocol.rtmp.chunks import ChunkWriter, RtmpMessage
        from tests.support import AudioSettings, card, tags

        writer = ChunkWriter()
        writer.chunk_size = overhead._CHUNK
        sent = segments = 0
        for kind, stamp, body in tags(4, card(bitrate=3000, interval=50), AudioSettings(48000, 2, 128)):
            size = len(writer.write(6 if kind == 9 else 4, RtmpMessage(kind, 1, stamp, body)))
            sent += size
            segments += -(-size // 1448)
        counted = (sent + segments * 52) * 8 / 4 / 1000
        self.assertAlmostEqual(budget.on_the_wire("rtmp", Load(3000, 128, 25)), counted, delta=counted * 0.01)

    def test_the_payload_under_a_limit_fills_it(self):
        for limit in (700, 3000, 12000):
            payload = budget.payload_under(limit, "rtmps")
            wire = budget.on_the_wire("rtmps", Load(payload * 0.97, payload * 0.03, 50))
            self.assertLessEqual(wire, limit)
            self.assertGreater(wire, limit * 0.97)
