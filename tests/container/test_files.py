import mmap
import os
from pathlib import Path
from unittest import mock

from direkt import container
from direkt.container import ContainerError
from direkt.media import Samples
from tests.support import Folder, flv_bytes, mp4_bytes


class Opening(Folder):
    def test_the_content_decides_not_the_name(self):
        for name, data in (("a.mp4", flv_bytes(0.5)), ("b.flv", mp4_bytes(10))):
            found = list(container.read(self.file(name, data)))
            self.assertTrue(any(isinstance(event, Samples) for event in found))

    def test_each_container_knows_its_own_and_no_other(self):
        starts = {"flv": flv_bytes(0.1)[:64], "mp4": mp4_bytes(2)[:64]}
        for name, found in zip(container.CONTAINERS, container.containers(), strict=True):
            for other, start in starts.items():
                self.assertEqual(found.score(start) > 0, name == other)

    def test_what_is_no_recording_is_refused_in_words(self):
        for content, words in (
            (b"", "empty"), (b"G" + bytes(187), "MPEG-TS"), (b"\0\0\0\x01\x67abc" * 3, "bare video stream"),
            (b"<html><body>", "not a recording"), (b"ab", "not a recording"), (b"FLV", "not an FLV|header claims"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ContainerError, words):
                list(container.read(self.file("x", content)))

    def test_pipes_and_devices_are_refused_at_once(self):
        os.mkfifo(self.folder / "pipe")
        for path in (self.folder / "pipe", Path("/dev/null")):
            with self.assertRaisesRegex(ContainerError, "a pipe or device"):
                list(container.read(path))

    def test_pages_that_lie_behind_are_given_back_and_can_be_read_again(self):
        path = self.file("a.flv", flv_bytes(2))
        with path.open("rb") as file:
            source = container.Source(mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ))
        with mock.patch.object(container, "_GIVEN_BACK", 4096):
            source.done(len(source.data))
        self.assertGreater(source._given_back, 100_000)
        self.assertEqual(bytes(source.data), path.read_bytes())
