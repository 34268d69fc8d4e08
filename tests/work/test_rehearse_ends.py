"""A rehearsal that is ended at any of its moments, in any of the ways, leaves the device as it was."""

from unittest import mock

from direkt.destination.references import Sources
from direkt.device.state import PushState
from direkt.secret import Secret
from direkt.work.steps import drive
from direkt.work.stream import rehearse
from tests.support import KEY
from tests.work.test_jobs import SERVER, FakeDriver, Jobs


class Ends(Jobs):
    def setUp(self) -> None:
        super().setUp()
        self.file("secrets.yaml", f"tarnlight: {KEY}\n", 0o600)
        patch = mock.patch.object(rehearse.routes, "address_towards", lambda host: "127.0.0.1")
        patch.start()
        self.addCleanup(patch.stop)

    def run_until(self, moment: int, end) -> tuple[FakeDriver, object, int]:
        """Runs a rehearsal in which ``end`` happens at event number ``moment``; how many events there were."""
        driver = FakeDriver()
        driver.write_slot(1, "main", SERVER, Secret(KEY))
        count = 0

        def on_event(event) -> None:
            nonlocal count
            count += 1
            if count == moment + 1:
                end()

        job = rehearse.rehearse(self.feed(driver), Sources({}, lambda: None), self.clock, seconds=2)
        try:
            result = drive(job, on_event)
        except (KeyboardInterrupt, RuntimeError, SystemExit) as error:
            result = error
        return driver, result, count

    def test_by_interruption_by_a_display_that_is_gone_and_by_a_fault_of_the_front_end(self):
        _, done, total = self.run_until(10**6, lambda: None)
        self.assertGreater(total, 6)
        self.assertTrue(done.put_back.proven)
        for error in (KeyboardInterrupt, OSError(5, "Input/output error"), BrokenPipeError, RuntimeError("a fault"), SystemExit):

            def end(error=error) -> None:
                raise error

            for moment in (*range(7), total - 2, total - 1):
                with self.subTest(error=error, moment=moment):
                    driver, done, _ = self.run_until(moment, end)
                    self.assertEqual((driver.slot.server, driver.key), (SERVER, KEY))
                    self.assertEqual((driver.slot.channel, driver.slot.state), ("main", PushState.STOPPED))
                    if error is KeyboardInterrupt and moment > 2:
                        self.assertTrue(done.put_back.proven)
