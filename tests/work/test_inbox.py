"""What comes faster than it can be measured keeps nobody from ending in time, and is said."""

import time
import unittest

from direkt.media import Odd, Samples
from direkt.net.transport import Arrived, Left
from direkt.work.steps import END
from direkt.work.stream import inbox
from direkt.work.stream.background import Background
from direkt.work.stream.inbox import Inbox
from tests.support import pictures


class Boxes(unittest.TestCase):
    def test_one_look_takes_so_long_and_no_longer(self):
        box, got = Inbox(), []
        for n in range(200):
            box.put(Odd(str(n)))
        begin = time.monotonic()
        whole = box.take(lambda event, at: (got.append(event.text), time.sleep(0.01)), 0.2)
        self.assertLess(time.monotonic() - begin, 0.4)
        self.assertFalse(whole)
        while not box.take(lambda event, at: got.append(event.text)):
            pass
        self.assertEqual(got, [str(n) for n in range(200)])

    def test_media_beyond_the_limit_is_left_out_and_said_and_nothing_else_is(self):
        box, got = Inbox(), []
        some = pictures([(0, 0, b"x", True)])
        box.put(Arrived("1.2.3.4"))
        for _ in range(inbox._MOST + 500):
            box.put(some)
        box.put(Left("1.2.3.4", "gone"))
        self.assertGreaterEqual(box.left_out, 500)
        box.drain(lambda event, at: (got.append(event), time.sleep(0.001)), 0.2)
        kinds = [type(event) for event in got]
        self.assertEqual((kinds.count(Arrived), kinds.count(Left)), (1, 1))
        self.assertEqual([event.text for event in got if isinstance(event, Odd)], [inbox.LEFT_OUT])
        self.assertLess(kinds.count(Samples), 1000)


class Signals(unittest.TestCase):
    def test_a_signal_cuts_no_event_off(self):
        import os
        import signal

        from direkt.cli import main

        def each(event, at):
            if event.text == "3":
                os.kill(os.getpid(), signal.SIGTERM)
            time.sleep(0.01)
            got.append(event.text)

        box, got = Inbox(), []
        for n in range(10):
            box.put(Odd(str(n)))
        before = signal.signal(signal.SIGTERM, main._interrupt)
        try:
            with self.assertRaises(KeyboardInterrupt):
                box.take(each)
            self.assertEqual(got, [str(n) for n in range(4)], "heard behind the event")
            END.taken()
            box.take(each)
        finally:
            signal.signal(signal.SIGTERM, before)
            END.taken()
        self.assertEqual(got, [str(n) for n in range(10)], "nothing is lost")


class Flood(Background):
    """Brings as much as it can, and takes no notice of being cancelled."""

    def __init__(self, deaf):
        super().__init__("rtmp")
        self.deaf = deaf

    async def _work(self):
        import asyncio

        some = pictures([(0, 0, b"x", True)])
        self._tell(Arrived("1.2.3.4"))
        while True:
            for _ in range(50):
                self._tell(some)
            try:
                await asyncio.sleep(0)
            except asyncio.CancelledError:
                if not self.deaf:
                    raise


class Ends(unittest.TestCase):
    def test_it_ends_within_two_seconds(self):
        for deaf in (False, True):
            work = Flood(deaf)
            work.start()
            time.sleep(0.4)
            work.poll()
            begin = time.monotonic()
            work.close()
            self.assertLess(time.monotonic() - begin, 8, "no time is asserted, but a hang is")
            work.deaf = False  # for the sake of the next test


if __name__ == "__main__":
    unittest.main()
