from unittest import mock

from direkt.container import flv
from direkt.net.receiver import Arrived, Left, TurnedAway
from direkt.net.rehearsal import Recorder, Rehearsal
from direkt.protocol import amf
from direkt.protocol.rtmp.session import Media
from tests.support import Folder, events, tags


class Recording(Folder):
    def media(self, seconds: float):
        return [Media(kind, round(when * 1000), body) for when, kind, body in tags(seconds)]

    def test_times_run_on_over_a_gap_and_metadata_loses_its_command(self):
        path = self.folder / "a.flv"
        recorder = Recorder(path)
        recorder.add(Media(18, 0, amf.encode(["@setDataFrame", "onMetaData", amf.EcmaArray(width=640.0)])))
        for media in self.media(0.5):
            recorder.add(media)
        recorder.new_stretch(4000)
        for media in self.media(0.5):
            recorder.add(media)
        recorder.close()
        found = events(path.read_bytes())
        self.assertEqual(found[0].values, {"video.width": 640})
        times = [e.dts for e in found if type(e).__name__ == "Sample" and e.track == "video"]
        self.assertEqual((times[0], times[12], times[13]), (0.0, 0.48, 4.0))

    def test_the_file_is_whole_at_any_moment_and_never_replaces_another(self):
        path = self.folder / "a.flv"
        recorder = Recorder(path)
        recorder.add(self.media(0.1)[0])
        recorder._file.flush()
        self.assertEqual(len(events(path.read_bytes())), 1)
        with self.assertRaises(FileExistsError):
            Recorder(path)
        Recorder(path, overwrite=True).close()
        recorder.close()

    def test_a_full_disk_ends_the_recording_not_the_rehearsal(self):
        rehearsal = Rehearsal(Recorder(self.folder / "a.flv"))
        rehearsal.take(Arrived("192.0.2.1:5"))
        media = self.media(1)
        with mock.patch.object(Recorder, "add", side_effect=OSError(28, "No space left on device")):
            rehearsal.take(media[0])
        for item in media[1:]:
            rehearsal.take(item)
        self.assertEqual(rehearsal.record_error, "no space left on device")
        self.assertGreater(rehearsal.finish().values["stream.duration"], 0.9)

    def test_gaps_refusals_and_the_end(self):
        rehearsal = Rehearsal()
        self.assertEqual(rehearsal.elapsed, 0.0)
        for n in range(150):
            rehearsal.take(TurnedAway(f"192.0.2.1:{n}", "wrong stream key"))
        rehearsal.take(Arrived("192.0.2.1:1"))
        rehearsal.take(Media(9, 0, b""))
        rehearsal.take(Media(9, 0, b"\x17"))
        rehearsal.take(Left("192.0.2.1:1", "it stopped the stream"))
        rehearsal.take(Arrived("192.0.2.1:2"))
        self.assertEqual((len(rehearsal.turned_away), rehearsal.turned_away_count), (100, 150))
        self.assertEqual([(g.reason, g.seconds is not None) for g in rehearsal.gaps], [("it stopped the stream", True)])
        measured = rehearsal.finish()
        self.assertIn("makes no sense", measured.remarks[0])
        rehearsal.take(Left("192.0.2.1:2", "the receiver closes"))
        self.assertEqual(len(rehearsal.gaps), 1, "what comes after the end does not count")
        self.assertEqual(flv.header()[:3], b"FLV")
