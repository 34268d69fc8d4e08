"""Contradictions planted one by one into sheets that are otherwise sound; and sound sheets that must stay so."""

import unittest

from direkt import documents
from direkt.destination.file import build
from direkt.destination.lint import lint


def found(text: str):
    return lint(build(documents.parse("schema: direkt.sheet/1\nname: Copse\n" + text, "t.yaml"), "t"))


def rules(*lines: str) -> str:
    return "rules:\n" + "".join(f"  {line}\n" for line in lines)


def rung(size: str, low: float, high: float, least: float, most: float, best: float | None = None) -> str:
    middle = f"best: {best}, " if best is not None else ""
    return f"  - {{size: {size}, frame_rate: {{min: {low}, max: {high}}}, bitrate: {{min: {least}, {middle}max: {most}}}}}\n"


def step(channels: int, least: float, most: float) -> str:
    return f"  - {{channels: {channels}, bitrate: {{min: {least}, max: {most}}}}}\n"


# what the sheet says, what must be said of it, whether it is a warning only
PLANTED = (
    # profiles
    (rules("video.profile: {must: baseline}", "video.b_frames: {must: {min: 1, max: 3}}"), "without B-pictures", False),
    (rules("video.profile: {must: constrained-baseline}", "video.entropy: {must: cabac}"), "without B-pictures, CABAC", False),
    (rules("video.profile: {must: baseline}", "video.entropy: {should: cabac}"), "demands baseline, but video.entropy should be cabac", False),
    (rules("video.profile: {must: [baseline, high]}", "video.entropy: {must: cabac}"), "allows baseline", False),
    (rules("video.profile: {must: [main, baseline], should: baseline}", "video.b_frames: {should: 2}"), "baseline", False),
    (rules("video.profile: {must: main}", "video.chroma: {must: '4:2:2'}"), "main has 4:2:0", False),
    (rules("video.profile: {must: high}", "video.bit_depth: {must: 10}"), "high has 4:2:0 of 8 bits", False),
    (rules("video.profile: {must: high10}", "video.chroma: {must: '4:2:2'}"), "high10 has 4:2:0", False),
    (rules("video.profile: {must: high422}", "video.bit_depth: {must: 12}"), "at most 4:2:2 of 10 bits", False),
    (rules("video.profile: {must: baseline}", "video.scan: {must: interlaced}"), "CABAC and fields", False),
    # levels
    (rules("video.codec: {must: h265}", "video.level: {must: {max: '4.2'}}"), "there is no level 4.2 of h265; there is 4.0, 4.1", False),
    (rules("video.level: {should: '4.3'}"), "there is no level 4.3 of h264", False),
    (rules("video.profile: {must: main}", "video.level: {must: {max: '4.0'}}", "video.bitrate.mean: {must: {min: 3000, max: 30000}}"), "more than level 4.0 permits: it needs 4.1", False),
    # codecs
    (rules("video.codec: {must: h265}", "video.profile: {must: high}"), "no profile of H.265", False),
    (rules("video.codec: {must: h264}", "video.profile: {must: main10}"), "no profile of H.264", False),
    (rules("video.codec: {must: h265}", "video.entropy: {must: cavlc}"), "always uses CABAC", False),
    (rules("audio.codec: {must: opus}", "audio.sample_rate: {must: 44100}"), "Opus runs at", False),
    (rules("audio.codec: {must: mp3}", "audio.channels: {must: 6}"), "MP3 has at most two channels", False),
    (rules("audio.codec: {must: mp3}", "audio.bitrate.mean: {must: {min: 384}}"), "320 kbit/s", False),
    (rules("audio.codec: {must: g711a}", "audio.sample_rate: {must: [44100, 48000]}"), "G.711 has 8000 Hz", False),
    (rules("audio.codec: {must: aac}", "audio.sample_rate: {must: 50000}"), "AAC has other sample rates", False),
    (rules("audio.codec: {must: opus}", "audio.profile: {must: lc}"), "only AAC has such profiles", False),
    (rules("audio.profile: {must: he-v2}", "audio.channels: {must: 1}"), "from one channel", False),
    (rules("video.colour.transfer: {must: bt.2100-hlg}", "video.bit_depth: {must: 8}"), "with 8 bits it shows steps", True),
    # bitrates
    (rules("video.bitrate.mean: {must: {min: 4000, max: 6000}}", "video.bitrate.peak: {must: {max: 3000}}"), "lies below video.bitrate.mean", False),
    (rules("audio.bitrate.mean: {must: 128}", "audio.bitrate.peak: {must: {max: 96}}"), "lies below audio.bitrate.mean", False),
    (rules("stream.bitrate.mean: {must: {max: 4000}}", "video.bitrate.mean: {must: {min: 3950}}", "audio.bitrate.mean: {must: 128}"), "4078 kbit/s", False),
    (rules("video.bitrate.mean: {must: {max: 2000}}") + "ladder:\n" + rung("1280x720", 20, 60, 3000, 5000), "video.bitrate.mean must be", False),
    (rules("video.bitrate.peak: {must: {max: 2000}}") + "ladder:\n" + rung("1280x720", 20, 60, 3000, 5000), "has at least 3000 kbit/s; video.bitrate.peak", False),
    # sizes
    (rules("video.size: {must: 1920x1080}", "video.width: {must: 1280}"), "video.width must be 1280 px, but video.size allows 1920x1080", False),
    (rules("video.size: {must: [1280x720, 1920x1080]}", "video.height: {must: {max: 720}}"), "video.size allows 1920x1080", False),
    (rules("video.size: {must: 853x480}"), "its width is odd", False),
    (rules("video.size: {must: 1280x1024}", "video.display_aspect: {must: '16:9'}"), "which is 5:4", False),
    (rules("video.size: {must: 1920x1080}", "video.sample_aspect: {must: '4:3'}", "video.display_aspect: {must: '16:9'}"), "which is 64:27", False),
    (rules("video.scan: {must: progressive}", "video.field_order: {must: top}"), "have none", False),
    (rules("video.keyframe_interval.max: {must: {max: 2}}", "video.join_interval.max: {must: {min: 4}}"), "every keyframe is a place to join", False),
    # ladders
    (rules("video.size: {must: 1280x720}", "video.frame_rate: {must: {min: 25, max: 60}}") + "ladder:\n" + rung("1280x720", 20, 30, 1, 9)
     + rung("1280x720", 59, 60, 1, 9), "48, 50 fps, which the rules allow", False),
    (rules("video.size: {must: 1280x720}", "video.frame_rate: {must: {min: 12, max: 30}}") + "ladder:\n" + rung("1280x720", 20, 30, 1, 9), "at 12 fps", False),
    ("ladder:\n" + rung("1280x720", 20, 60, 2000, 5000) + rung("1920x1080", 20, 60, 2500, 4000), "the ladder falls: 1920x1080", True),
    ("ladder:\n" + rung("1280x720", 20, 60, 2000, 5000, 4000) + rung("1920x1080", 20, 60, 2500, 6000, 3500), "gets best 3500", True),
    ("ladder:\n" + rung("1280x720", 20, 30, 2000, 5000) + rung("1280x720", 40, 60, 1500, 4000), "1280x720 at 40 to 60 fps gets at most 4000", True),
    (rules("audio.channels: {must: [1, 2]}") + "audio_ladder:\n" + step(2, 96, 160), "nothing for 1 channels", False),
    (rules("audio.channels: {must: 2}") + "audio_ladder:\n" + step(2, 96, 160) + step(6, 256, 384), "audio ladder has 6 channels", False),
    (rules("audio.bitrate.mean: {must: {max: 64}}") + "audio_ladder:\n" + step(2, 96, 160), "96 to 160 kbit/s for 2 channels", False),
    ("audio_ladder:\n" + step(1, 96, 192) + step(2, 64, 128), "2 channels less than 1", True),
    ("audio_ladder:\n" + step(2, 96, 192) + step(2, 64, 128), "two steps of the audio ladder", False),
    (rules("audio.present: {must: 'no'}") + "audio_ladder:\n" + step(2, 96, 192), "bitrates for sound", False),
)  # fmt: skip

SOUND = (
    rules("video.profile: {must: [baseline, main, high], should: high}", "video.b_frames: {should: {max: 2}}", "video.entropy: {should: cabac}"),
    rules("video.profile: {must: baseline}", "video.b_frames: {must: 0}", "video.entropy: {must: cavlc}", "video.chroma: {must: '4:2:0'}"),
    rules("video.codec: {must: [h264, h265]}", "video.profile: {must: [high, main10]}") + "",
    rules("video.size: {must: [720x576, 1440x1080, 1920x1080]}", "video.display_aspect: {must: '16:9'}"),
    rules("video.size: {must: 1440x1080}", "video.sample_aspect: {must: ['4:3', '1:1']}", "video.display_aspect: {must: '16:9'}"),
    rules("video.size: {must: 960x544}", "video.chroma: {must: '4:2:2'}"),
    rules("video.size: {must: 1281x721}", "video.chroma: {must: '4:4:4'}", "video.profile: {must: high444}"),
    rules("video.bitrate.mean: {must: {min: 1000, max: 6000}}", "video.bitrate.peak: {must: {max: 9000}}", "stream.bitrate.mean: {must: {max: 8000}}"),
    rules("video.size: {must: 1280x720}", "video.frame_rate: {must: {min: 24, max: 60}}") + "ladder:\n" + rung("1280x720", 20, 30, 1, 8) + rung("1280x720", 31, 60, 2, 9),
    rules("video.frame_rate: {must: {max: 60}}", "video.size: {must: 640x360}") + "ladder:\n" + rung("640x360", 1, 60, 1, 8),
    "ladder:\n" + rung("640x360", 20, 60, 500, 1000, 800) + rung("1280x720", 20, 30, 1000, 3000, 2000) + rung("1280x720", 40, 60, 1500, 4000, 3000),
    rules("audio.codec: {must: [aac, mp3]}", "audio.sample_rate: {must: [44100, 48000]}", "audio.channels: {must: [1, 2]}", "audio.profile: {must: lc}"),
    rules("audio.channels: {must: [1, 2]}") + "audio_ladder:\n" + step(1, 64, 96) + step(2, 96, 192),
    rules("video.colour.transfer: {must: bt.2100-hlg}", "video.bit_depth: {must: 10}", "video.profile: {must: main10}", "video.codec: {must: h265}"),
)  # fmt: skip


class Planted(unittest.TestCase):
    def test_each_is_found_and_nothing_else(self):
        for text, words, warning in PLANTED:
            with self.subTest(text):
                seen = found(text)
                self.assertEqual([words in c.text for c in seen], [True] * max(1, len(seen)), seen)
                self.assertEqual({c.warning for c in seen}, {warning})
                self.assertRegex(seen[0].source, r"^t\.yaml(:\d+)?$")

    def test_sound_sheets_stay_so(self):
        for text in SOUND:
            self.assertEqual(found(text), [], text)

    def test_in_a_latency_mode_too(self):
        text = rules("video.profile: {must: [baseline, high]}")
        text += "latency:\n  low:\n    rules:\n      video.profile: {must: baseline}\n      video.b_frames: {must: 2}\n"
        self.assertEqual([c.text[:24] for c in found(text)], ["in latency mode low: vid"])


if __name__ == "__main__":
    unittest.main()
