"""What viewers get: playlists in the styles of many writers, and a first look at a stream that is cut into segments."""

import datetime
import unittest

from direkt.errors import NoAnswer
from direkt.media import Format, Samples
from direkt.net.transport import Arrived
from direkt.protocol import hls
from direkt.protocol.hls import PlaylistError
from direkt.sim.hls import Hls
from direkt.work.live.first_look import look
from tests.container.test_ts import written
from tests.support import card, stream

BASE = "https://tv.example/a/live.m3u8?token=x"


class Playlists(unittest.TestCase):
    def test_the_styles_of_many_writers(self):
        master = hls.parse(
            '#EXTM3U\r\n#EXT-X-VERSION:6\r\n#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="a",NAME="x",URI="a.m3u8"\r\n'
            '#EXT-X-STREAM-INF:AVERAGE-BANDWIDTH=900,CODECS="avc1.4d401f,mp4a.40.2",RESOLUTION=1280x720,BANDWIDTH=1200000\r\n\r\nhi/p.m3u8?x=1\r\n'
            "#EXT-X-STREAM-INF:BANDWIDTH=300000\n//cdn.example/lo.m3u8\n",
            BASE,
        )
        self.assertEqual(
            [v.address for v in master.variants], ["https://tv.example/a/hi/p.m3u8?x=1", "https://cdn.example/lo.m3u8"]
        )
        self.assertEqual((master.variants[0].bandwidth, master.variants[0].size), (1200000, "1280x720"))
        media = hls.parse(
            "\ufeff#EXTM3U\n#EXT-X-TARGETDURATION:6\n#EXT-X-MEDIA-SEQUENCE:7\n#EXT-X-PROGRAM-DATE-TIME:2026-07-03T12:00:00.500+02:00\n"
            "#EXTINF:5.005,title, with comma\n1.ts\n#EXTINF:4\n#EXT-X-BYTERANGE:10@0\n/b/2.ts\n#EXT-X-DISCONTINUITY\n#EXTINF:3,\n3.ts\n#EXT-X-ENDLIST\n",
            BASE,
        )
        self.assertEqual([(s.number, s.seconds) for s in media.segments], [(7, 5.005), (8, 4.0), (9, 3.0)])
        start = datetime.datetime(2026, 7, 3, 10, 0, 0, 500_000, tzinfo=datetime.UTC)
        self.assertEqual(media.segments[1].begins, start + datetime.timedelta(seconds=5.005))
        self.assertIsNone(media.segments[2].begins)
        self.assertEqual((media.ended, media.encrypted, media.target), (True, False, 6.0))

    def test_what_is_none(self):
        for text, words in (
            ("", "does not begin"), ("<html>", "does not begin"), ("#EXTM3U\n#EXTINF:long,\na.ts", "line 2: 'long' is not a number"),
            ("#EXTM3U\n#EXTINF:4,\njavascript:x", "line 3: 'javascript:x' is not an address"), ("#EXTM3U\n" + "x\n" * 20_001, "more than 20000 lines"),
            ("#EXTM3U\n#EXT-X-TARGETDURATION:-4\n", "not a number"), ("#EXTM3U\n#EXTINF:4,\nhttp://[bad/x.ts\n", "not an address"),
        ):  # fmt: skip
            with self.assertRaisesRegex(PlaylistError, words):
                hls.parse(text, BASE)


class Look(unittest.TestCase):
    def look(self, files, now=1000.0, since=0.0):
        def fetch(address):
            name = address.rpartition("/")[2].partition("?")[0]
            if name not in files:
                raise NoAnswer(f"nothing at {name}")
            content = files[name]
            return content.encode() if isinstance(content, str) else content

        return look(BASE, fetch, now, since)

    def test_a_stream_that_plays(self):
        begins = datetime.datetime.fromtimestamp(988.0, datetime.UTC).isoformat()
        media = f"#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-PROGRAM-DATE-TIME:{begins}\n" + "".join(
            f"#EXTINF:2,\n{n}.ts\n" for n in range(5)
        )
        files = {
            "live.m3u8": "#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=9\nm.m3u8\n", "m.m3u8": media,
            "2.ts": written(stream(2, card(320, 240))),
        }
        found = self.look(files)
        self.assertEqual(
            (found.plays, found.size, found.frame_rate, found.sound, found.variants), (True, "320x240", 25.0, True, 1)
        )
        self.assertAlmostEqual(found.behind, 8.0)  # a player begins three segments from the end, at 992
        old = self.look(files, since=995.0)
        self.assertEqual((old.plays, old.why), (False, "viewers still get what was pushed before, 8 s late"))

    def test_fragments_of_mp4_are_there_and_not_opened(self):
        master = '#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=9,RESOLUTION=1280x720,CODECS="avc1.64001f,mp4a.40.2"\nm.m3u8\n'
        media = '#EXTM3U\n#EXT-X-MAP:URI="i.mp4"\n#EXTINF:2,\n1.m4s\n'
        found = self.look({"live.m3u8": master, "m.m3u8": media, "1.m4s": b"\0\0\0\x18styp" + bytes(99)})
        self.assertEqual((found.plays, found.size, found.sound), (True, "1280x720", True))

    def test_what_does_not_play_says_why(self):
        media = "#EXTM3U\n#EXTINF:2,\n1.ts\n"
        for files, words in (
            ({}, "nothing at live.m3u8"), ({"live.m3u8": "<html>not found"}, "does not begin"), ({"live.m3u8": "#EXTM3U\n"}, "no segments yet"),
            ({"live.m3u8": media}, "nothing at 1.ts"), ({"live.m3u8": media, "1.ts": b"<html>"}, "the segment cannot be read"),
            ({"live.m3u8": media.replace("#EXTINF", '#EXT-X-KEY:METHOD=AES-128,URI="k"\n#EXTINF')}, "encrypted"),
        ):  # fmt: skip
            found = self.look(files)
            self.assertEqual(found.plays, False)
            self.assertIn(words, found.why)

    def test_the_simulated_platforms_segments_are_the_pushed_stream(self):
        made, found = Hls(-3600.0), stream(9, card(320, 240, interval=50))
        made.take(Arrived("x"))
        for event in found:
            made.take(event)
        self.assertEqual([round(s.seconds, 3) for s in made.segments], [2.0] * 4)
        made.take(Arrived("x"))
        for event in [e for e in found if isinstance(e, Format)] + [e for e in found if isinstance(e, Samples)]:
            made.take(event)
        text = made.playlist(ended=False)
        self.assertEqual(text.count("#EXT-X-DISCONTINUITY"), 1)
        self.assertEqual(hls.parse(text, BASE).segments[0].number, 2)
        late = Hls(3600.0)
        late.take(Arrived("x"))
        for event in found:
            late.take(event)
        self.assertFalse(late.shown)


if __name__ == "__main__":
    unittest.main()
