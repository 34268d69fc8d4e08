"""What the AAC encoder writes, decoded here by a decoder of a few lines: bits, values, inverse transform, overlap."""

import unittest

import numpy as np

from direkt.codec import aac, aac_encoder
from direkt.codec.aac_books import BOOKS
from direkt.codec.aac_tables import LONG_BANDS, SAMPLE_RATES, SCALE_CODES, SCALE_LENGTHS
from tests.support import thorough

N = 1024


class Bits:
    def __init__(self, data):
        self.text, self.at = "".join(f"{byte:08b}" for byte in data), 0

    def u(self, count):
        self.at += count
        return int(self.text[self.at - count : self.at] or "0", 2)

    def code(self, lengths, codes):
        table = {format(c, f"0{n}b"): k for k, (n, c) in enumerate(zip(lengths, codes, strict=True))}
        for length in range(1, 20):
            word = self.text[self.at : self.at + length]
            if word in table:
                self.at += length
                return table[word]
        raise AssertionError("no code word")


def channel(bits, rate, window=None):
    """The spectrum of an individual_channel_stream of a long window."""
    gain = bits.u(8)
    if window is None:
        assert bits.u(4) == 0
        window = bits.u(6)
        assert bits.u(1) == 0
    offsets = LONG_BANDS[SAMPLE_RATES.index(rate)]
    books = []
    while len(books) < window:
        book, length = bits.u(4), 0
        while (more := bits.u(5)) == 31:
            length += 31
        books += [book] * (length + more)
    scales = []
    for book in books:
        if book:
            gain += bits.code(SCALE_LENGTHS, SCALE_CODES) - 60
        scales.append(gain)
    assert bits.u(3) == 0
    out = np.zeros(N)
    for n, book in enumerate(books):
        if not book:
            continue
        rows = BOOKS[book]
        for at in range(offsets[n], offsets[n + 1], rows.size):
            values = list(rows.values(bits.code(rows.lengths, rows.codes)))
            if not rows.signed:
                values = [-v if v and bits.u(1) else v for v in values]
            for k, value in enumerate(values):
                if book == 11 and abs(value) == 16:
                    size = 4
                    while bits.u(1):
                        size += 1
                    value = (1 if value > 0 else -1) * ((1 << size) + bits.u(size))
                out[at + k] = np.sign(value) * abs(value) ** (4 / 3) * 2 ** ((scales[n] - 100) / 4)
    return out


def decode(frames, rate):
    """The sound of all frames (one channel, or a pair with mid and side), and how much of each was filling."""
    n, k = np.arange(2 * N), np.arange(N)
    inverse = np.cos(np.pi / N * np.outer(n + 0.5 + N / 2, k + 0.5)) * np.sin(np.pi * (n + 0.5) / (2 * N))[:, None] * (2 / (2 * N))
    out, before = [], np.zeros(N)
    for frame in frames:
        bits = Bits(frame)
        kind = bits.u(3)
        bits.u(4)
        if kind == 0:
            spectrum = channel(bits, rate)
        else:
            assert kind == 1 and bits.u(1) == 1 and bits.u(4) == 0
            window = bits.u(6)
            assert bits.u(1) == 0 and bits.u(2) == 2
            spectrum, side = channel(bits, rate, window), channel(bits, rate, window)
            assert not side.any()
        wave = inverse @ spectrum
        out.append(wave[:N] + before)
        before = wave[N:]
    return np.concatenate(out) / 32768


class Decoded(unittest.TestCase):
    def test_it_is_the_sound_that_was_put_in(self):
        every = ((48000, 2, 128, 2), (48000, 1, 64, 2), (44100, 2, 96, 1), (16000, 1, 48, 2), (8000, 1, 32, 2))
        for rate, channels, bitrate, seed in thorough(every, every[1:3] + every[4:]):  # in 44100's, the window's bits also stand in a gain
            source = np.random.default_rng(seed)
            t = np.arange(N * 20) / rate
            sound = 0.2 * np.sin(2 * np.pi * 440 * t) + 0.05 * np.sin(2 * np.pi * 1700 * t + 1) + 0.01 * np.convolve(source.standard_normal(len(t)), np.ones(24) / 24, "same")
            made = aac_encoder.AacEncoder(rate, channels, bitrate, highest=4000)
            frames = [made.frame(sound[at : at + N]) for at in range(0, len(sound), N)]
            config = aac.parse_config(made.config)
            self.assertEqual((config.profile, config.sample_rate, config.channels), ("lc", rate, channels))
            self.assertAlmostEqual(sum(map(len, frames)) * 8 / (20 * N / rate) / 1000, bitrate, delta=1)
            found = decode(frames, rate)[N:]
            off = found[N:] - sound[N : len(found)]
            ratio = 10 * np.log10((sound**2).mean() / (off**2).mean())
            self.assertGreater(ratio, 20 if rate == 8000 else 25, (rate, channels))

    def test_loud_noise_silence_and_clipping_keep_the_bitrate(self):
        source = np.random.default_rng(3)
        made = aac_encoder.AacEncoder(48000, 1, 48, highest=24000)
        blocks = [source.standard_normal(N) * scale for scale in (0.0, 3.0, 1e-6, 0.3, 0.0, 1.0) for _ in range(5)]
        frames = [made.frame(np.clip(block, -1, 1)) for block in blocks]
        self.assertAlmostEqual(sum(map(len, frames)) * 8 / (30 * N / 48000) / 1000, 48, delta=0.5)
        self.assertEqual(len(decode(frames, 48000)), 30 * N)


class Rates(unittest.TestCase):
    def test_a_tone_stays_one_at_another_rate(self):
        for before, after in ((8000, 48000), (8000, 44100), (16000, 48000), (48000, 44100), (44100, 48000), (32000, 16000)):
            whole = np.sin(2 * np.pi * 700 * np.arange(before) / before)
            made = aac_encoder.Resampler(before, after)
            found = np.concatenate([made.add(whole[at : at + 161]) for at in range(0, before, 161)])
            t = np.arange(len(found)) / after
            self.assertGreater(len(found), after - 40 * after / before)
            off = (found - np.sin(2 * np.pi * 700 * t))[200:]
            self.assertLess(10 * np.log10((off**2).mean() / 0.5), -45, (before, after))
