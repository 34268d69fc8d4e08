from direkt.container import files
from direkt.container.media import MediaError, Sample
from tests.support import Folder, flv_bytes, mp4_bytes


class Opening(Folder):
    def test_the_first_bytes_decide_not_the_name(self):
        for name, data in (("a.mp4", flv_bytes(0.5)), ("b.flv", mp4_bytes(10))):
            found = list(files.read(self.file(name, data)))
            self.assertTrue(any(isinstance(event, Sample) for event in found))

    def test_what_is_no_recording_is_refused_in_words(self):
        for content, words in (
            (b"", "empty"), (b"G" + bytes(187), "MPEG-TS"), (b"\0\0\0\x01\x67abc" * 3, "bare H.264"),
            (b"<html><body>", "not a recording"), (b"ab", "not a recording"), (b"FLV", "not an FLV|header claims"),
        ):  # fmt: skip
            with self.assertRaisesRegex(MediaError, words):
                list(files.read(self.file("x", content)))

    def test_samples_outlive_the_reader(self):
        path = self.file("a.flv", flv_bytes(0.5))
        kept = [event for event in files.read(path) if isinstance(event, Sample)]
        self.assertGreater(sum(len(bytes(sample.data)) for sample in kept), 1000)
