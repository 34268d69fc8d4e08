import unittest

from direkt import glossary, parameters


class Words(unittest.TestCase):
    def test_there_are_many_and_none_twice(self):
        found = list(glossary.entries())
        words = [e for e in found if e.term not in parameters.TABLE]
        self.assertGreaterEqual(len(words), 160)
        self.assertEqual(len({e.term.lower() for e in found}), len(found))
        self.assertLessEqual(set(parameters.TABLE), {e.term for e in found})
        for e in found:
            for text in (e.what, e.choose, e.mixed_up):
                self.assertTrue(not text or text[-1] in ".?:", (e.term, text))
                self.assertNotIn("  ", text)
            self.assertNotIn(e.term, e.also)

    def test_words_of_devices_pages(self):
        for word, term in (
            ("BP", "baseline"), ("GOP length", "keyframe interval"), ("Kbps", "kbit/s"), ("CVBR", "vbr"), ("H.265", "h265"),
            ("substream", "sub stream"), ("video.codec", "video.codec"), ("Stream URL", "server address"), ("29,97", "29.97"), ("digest", "digest login"),
            ("I-frame interval", "keyframe interval"), ("VBV", "buffer size"), ("CRF", "constant quality"), ("Max bitrate", "maximum bitrate"),
            ("RTT", "round trip"), ("LUFS", "loudness"), ("4K", "uhd"), ("GDR", "intra refresh"), ("5.1", "surround"), ("PoE+", "poe"), ("AAC+", "he-aac"),
            ("Look-ahead", "lookahead"), ("OSD", "overlay"), ("SSL", "tls"), ("SCTE-35", "ad markers"), ("AGC", "limiter"), ("TC", "timecode"),
        ):  # fmt: skip
            answer = glossary.find(word)
            self.assertIn(term, [e.term for e in answer.entries], word)
            self.assertEqual((answer.mode, answer.guesses), ("", ()), word)

    def test_what_is_near_is_a_guess_and_no_answer(self):
        for word, term in (
            ("keyfram", "keyframe"), ("gop lenght", "keyframe interval"), ("bitrat", "bitrate"), ("steam key", "stream key"), ("rtmpss", "rtmps"),
            ("constant bit rate", "cbr"), ("latancy", "latency"), ("H264 high profile", "high"), ("interlace", "interlaced"),
        ):  # fmt: skip
            answer = glossary.find(word)
            self.assertEqual(answer.entries, (), word)
            self.assertIn(term, [e.term for e in answer.guesses], word)
        self.assertEqual(glossary.find("xqzzy"), glossary.Answer())
        self.assertEqual(glossary.find("  "), glossary.Answer())

    def test_a_mode_is_no_codec(self):
        for word, codec in (
            ("H.265+", "h265"), ("H.264 +", "h264"), ("h264+", "h264"), ("Smart H.265", "h265"), ("smart H.264+", "h264"), ("HEVC plus", "h265"),
            ("adaptive AVC", "h264"), ("H265 Smart", "h265"), ("Ultra H.265", "h265"), ("AV1+", "av1"),
        ):  # fmt: skip
            answer = glossary.find(word)
            self.assertEqual(([e.term for e in answer.entries], answer.mode), (["adaptive codec", codec], word), word)
        for word in ("H.265", "smart codec", "ultra HD", "AAC+", "+", "smart", "auto bitrate"):
            self.assertEqual(glossary.find(word).mode, "", word)


class Sums(unittest.TestCase):
    def test_by_hand(self):
        self.assertEqual(parameters.keyframe_frames(2, 50), 100)
        self.assertEqual(parameters.keyframe_frames(2, 30000 / 1001), 60)
        self.assertEqual(parameters.keyframe_seconds(250, 25), 10)
        self.assertAlmostEqual(glossary.data_volume(8000, 1), 3.6)
        self.assertEqual(glossary.level_for(1920, 1080, 50), "4.2")
        self.assertIsNone(glossary.level_for(8192, 8192, 300))
        self.assertAlmostEqual(glossary.bits_per_pixel(6220.8, 1920, 1080, 50)[0], 0.06)
