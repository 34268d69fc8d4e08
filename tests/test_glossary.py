import unittest

from direkt import glossary, glossary_sums, parameters


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
        self.assertEqual(glossary.find("xqzzy"), glossary.GlossaryAnswer())
        self.assertEqual(glossary.find("  "), glossary.GlossaryAnswer())

    def test_a_mode_is_no_codec(self):
        for word, codec in (
            ("H.265+", "h265"), ("H.264 +", "h264"), ("h264+", "h264"), ("Smart H.265", "h265"), ("smart H.264+", "h264"), ("HEVC plus", "h265"),
            ("adaptive AVC", "h264"), ("H265 Smart", "h265"), ("Ultra H.265", "h265"), ("AV1+", "av1"),
        ):  # fmt: skip
            answer = glossary.find(word)
            self.assertEqual(([e.term for e in answer.entries], answer.mode), (["adaptive codec", codec], word), word)
        for word in ("H.265", "smart codec", "ultra HD", "AAC+", "+", "smart", "auto bitrate"):
            self.assertEqual(glossary.find(word).mode, "", word)


class Messages(unittest.TestCase):
    """Words from outside, each written down with what it should be answered by before it was tried; those that failed are here."""

    def answered(self, rows):
        for word, wanted in rows:
            answer = glossary.find(word)
            told = " ".join([*(f"{e.term} {e.what} {e.choose} {e.next}" for e in answer.entries), *(one.text for one in answer.sums)])
            self.assertIn(wanted.lower(), told.lower(), word)

    def test_every_message_has_cause_and_next_step(self):
        found = list(glossary.failures())
        self.assertGreaterEqual(len(found), 60)
        self.assertEqual(len({entry.term for _, entry in found}), len(found), "none twice")
        self.assertFalse({entry.term for _, entry in found} & {entry.term for entry in glossary.entries()})
        for ways, entry in found:
            self.assertTrue(ways and all(ways) and entry.what.endswith(".") and entry.next.endswith("."), entry.term)

    def test_messages(self):
        self.answered((
            ("Connection refused", "nothing listens"), ("cannot reach the ingest: error 111 (Connection refused)", "nothing listens"), ("ECONNREFUSED", "nothing listens"),
            ("ERROR: connection to server timed out after 10s", "does not answer"), ("java.net.UnknownHostException: ingest.example", "DNS"), ("getaddrinfo failed", "DNS"),
            ("HTTP/1.1 401 Unauthorized", "login"), ("ter:NotAuthorized", "login"), ("Anmeldung fehlgeschlagen", "login"), ("403 Forbidden", "may not"),
            ("ter:InvalidArgVal", "value"), ("ter:ActionNotSupported", "does not know"), ("RTSP/1.0 454 Session Not Found", "not found"), ("RTSP 453 Not Enough Bandwidth", "no more streams"),
            ("handshake failed", "TLS"), ("SSL: wrong version number", "TLS"), ("certificate has expired", "clock"),
            ("x509: certificate is valid for a.example, not b.example", "another name"), ("NetStream.Publish.BadName", "stream key"), ("bad name", "stream key"),
            ("Stream name already in use", "another push"), ("NetConnection.Connect.Rejected", "application"), ("recv() failed: EOF", "closed"), ("Broken pipe (32)", "closed"),
            ("keyframe frequency too low", "interval"), ("keyframes are sent every 10 s, 4 s are wanted", "interval"),
            ("the bitrate is higher than what is recommended", "more arrives"), ("bitrate lower than recommended", "less arrives"),
            ("not enough video arrives", "uplink"), ("encoder queue full", "load"), ("Audio codec not supported", "AAC"), ("No signal", "encoder"),
            ("Kein Signal", "cable"), ("HDCP protected content", "protects"), ("The user is locked, please try again after 30 minutes", "locked"), ("Address already in use", "port"),
            ("429 Too Many Requests", "more often"), ("502 Bad Gateway", "their side"), ("DTS out of order", "do not run on"), ("IP address conflict detected", "same address"),
            ("max clients reached", "no more at once"), ("Mic not detected", "no sound"), ("Fan failure", "too hot"), ("clock skew", "clock"), ("token expired", "sign in"),
        ))  # fmt: skip

    def test_questions(self):
        self.answered((
            ("what is a keyframe", "can join"), ("what does GOP mean?", "keyframe"), ("Was ist VBR?", "follows"), ("difference between CBR and VBR", "held"), ("CBR vs VBR", "follows"),
            ("Jitter high", "unevenness"), ("delay too long", "lens"), ("Ping 300 ms", "other end"), ("black bars at the sides", "bands"), ("shutter 1/50", "exposed"), ("0 dBFS", "loudest"),
            ("DSCP", "priority"), ("SPS/PPS", "header"), ("RTMP URL", "where to push"), ("MTU too large", "packet"), ("roaming disabled", "mobile"),
        ))  # fmt: skip
        for word in ("HDXP", "NDQ", "xqzzy", "low", "the", "not", "of", "stream not", "blorb 7"):
            self.assertEqual((glossary.find(word).entries, glossary.find(word).sums), ((), ()), word)
        self.assertNotIn("hdcp", [e.term for e in glossary.find("DSXP").guesses])

    def test_case_matters_where_it_does(self):
        for word, term in (("MB/s", "MB/s"), ("Mb/s", "Mbit/s"), ("MBps", "MB/s"), ("Mbps", "Mbit/s"), ("kB/s", "kB/s"), ("KB/s", "kB/s"), ("kb/s", "kbit/s"), ("kbps", "kbit/s"), ("GB", "GB")):
            self.assertEqual([e.term for e in glossary.find(word).entries], [term], word)

    def test_nothing_twice(self):
        for word in ("cbr", "CBR", "hdr", "GOP", "rtmp", "main", "BP"):
            terms = [e.term for e in glossary.find(word).entries]
            self.assertEqual(len(terms), len(set(terms)), word)

    def test_sums_in_words(self):
        self.answered((
            ("250 frames at 25 fps", "= 10 s"), ("GOP 250, 25 fps", "= 10 s"), ("100 frames @ 50 fps", "= 2 s"), ("keyframe every 2 seconds at 30 fps", "= 60 frames"),
            ("0.5 s at 25 fps", "12.50 frames: 12, which is 0.48 s"), ("2 s at 59.94 fps", "119.88 frames: 120"), ("60 frames", "2 s at 30 fps"), ("500 ms at 50 fps", "= 25 frames"),
            ("6 Mbit/s for 3 h", "= 8.1 GB"), ("8 Mbps for 90 minutes", "= 5.4 GB"), ("8.1 GB in 3 h", "6000 kbit/s"), ("how long does 50 GB last at 6 Mbit/s", "18.5 h"),
            ("6M", "6000 kbit/s (6 Mbit/s)"), ("6000k", "(6 Mbit/s)"), ("6 MB/s", "48000 kbit/s"), ("750 KB/s", "6000 kbit/s"), ("6,5", "6500 kbit/s"), ("1 Gbps", "1e+06 kbit/s"),
            ("1080p59.94", "1920x1080"), ("1080p59.94", "needs H.264 level 4.2"), ("1080i50", "25 fps it needs H.264 level 4.0"), ("4K60", "3840x2160"), ("720p50", "level 3.2"),
            ("High@L4.1", "up to 1920x1080 at 30 fps"), ("MP@L3.1", "main profile, level 3.1"), ("Level 4", "level 4.0"), ("L4.3", "no level 4.3"), ("1920x1080", "16:9"),
            ("1920 x 1080 @ 50 fps 6 Mbit/s", "0.058: right for sport"), ("50i", "interlaced"), ("25p", "progressive"), ("CBR 4000", "(4 Mbit/s)"),
        ))  # fmt: skip
        for word in ("", "1/0", "0 fps", "9" * 400 + " Mbit/s", "0 s at 0 fps", "1e9", "nan", "infinity fps", "5 x 5", "2024-07-01", "192.0.2.1"):
            glossary.find(word)


class Sums(unittest.TestCase):
    def test_by_hand(self):
        self.assertEqual(parameters.keyframe_frames(2, 50), 100)
        self.assertEqual(parameters.keyframe_frames(2, 30000 / 1001), 60)
        self.assertEqual(parameters.keyframe_seconds(250, 25), 10)
        self.assertAlmostEqual(glossary.data_volume(8000, 1), 3.6)
        self.assertEqual(glossary_sums.level_for(1920, 1080, 50), "4.2")
        self.assertIsNone(glossary_sums.level_for(8192, 8192, 300))
        self.assertAlmostEqual(glossary_sums.bits_per_pixel(6220.8, 1920, 1080, 50)[0], 0.06)
