from direkt.media import Odd
from direkt.net.transport import Arrived, Left, RecordingEnded, TurnedAway
from direkt.protocol.schemes import SCHEMES
from direkt.secret import Secret
from direkt.work.steps import drive
from direkt.work.stream import catch
from direkt.work.stream.reception import PortError, Reception, Rehearsal
from tests.support import KEY, Folder, events, flv_bytes, free_port
from tests.work.test_jobs import FakeClock


class Rehearsals(Folder):
    def test_gaps_refusals_and_the_end(self):
        r = Rehearsal("rtmp")
        self.assertEqual(r.elapsed(50.0), 0.0)
        for n in range(150):
            r.take(TurnedAway(f"192.0.2.1:{n}", "wrong stream key"), n)
        r.take(TurnedAway("192.0.2.1:999", "another reason"), 150)
        r.take(Arrived("192.0.2.1:1"), 200.0)
        r.take(Odd("a video tag of 1 bytes"), 201.0)
        r.take(Left("192.0.2.1:1", "it stopped the stream"), 205.0)
        r.take(Arrived("192.0.2.1:2"), 208.5)
        self.assertEqual(
            [(x.peer, x.reason, x.count) for x in r.refusals.values()],
            [("192.0.2.1:149", "wrong stream key", 150), ("192.0.2.1:999", "another reason", 1)],
        )
        self.assertEqual([(g.at, g.seconds, g.reason) for g in r.gaps], [(5.0, 3.5, "it stopped the stream")])
        self.assertEqual(r.elapsed(210.0), 10.0)
        r.take(RecordingEnded("no space left on device"), 212.0)
        self.assertEqual(r.recording_ended, (12.0, "no space left on device"))
        self.assertIn("a video tag of 1 bytes", r.snapshot().remarks)
        r.closing = True
        r.take(Left("192.0.2.1:2", "the receiver closes"), 220.0)
        self.assertEqual(len(r.gaps), 1, "that it leaves at the end is our own doing")

    def test_kinds_of_refusals_and_gaps_are_bounded(self):
        r = Rehearsal("rtmp")
        for n in range(150):
            r.take(TurnedAway("192.0.2.1:1", f"reason {n}"), n)
            r.take(Left("192.0.2.1:1", "gone"), n)
        self.assertEqual((len(r.refusals), r.more_refusals, len(r.gaps)), (100, 50, 100))

    def test_what_comes_is_measured_over_a_gap(self):
        r = Rehearsal("rtmps")
        for start in (0.0, 10.0):
            r.take(Arrived("192.0.2.1:1"), start)
            for event in events(flv_bytes(2)):
                r.take(event, start + 1)
            r.take(Left("192.0.2.1:1", "gone"), start + 2)
        found = r.snapshot().values
        self.assertEqual((found["stream.protocol"], found["stream.timestamps"]), ("rtmps", "clean"))
        self.assertAlmostEqual(found["stream.duration"], 4, delta=0.05)


class Ports(Folder):
    def test_a_port_in_use_is_said(self):
        port = free_port()
        with Reception(SCHEMES["rtmp"], "a", Secret(KEY)) as first:
            self.assertEqual(first.open("127.0.0.1", port), port)
            second = Reception(SCHEMES["rtmp"], "a", Secret(KEY))
            with self.assertRaisesRegex(PortError, f"port {port} cannot be opened: it is in use"):
                second.open("127.0.0.1", port)
            second.close()

    def test_nobody_comes(self):
        clock, seen = FakeClock(), []
        reception = Reception(SCHEMES["rtmp"], "a", Secret(KEY))
        done = drive(catch.catch(reception, "127.0.0.1", 0, clock, wait=5, seconds=1), seen.append)
        self.assertEqual((done.came, done.interrupted), (False, False))
        self.assertIsInstance(seen[0], catch.Listening)
        self.assertAlmostEqual(clock.time, 105.25)

    def test_an_interruption_is_an_end(self):
        def on_event(event):
            if isinstance(event, catch.CatchTick):
                raise KeyboardInterrupt

        reception = Reception(SCHEMES["rtmp"], "a", Secret(KEY))
        done = drive(catch.catch(reception, "127.0.0.1", 0, FakeClock(), wait=5, seconds=None), on_event)
        self.assertEqual((done.came, done.interrupted), (False, True))
