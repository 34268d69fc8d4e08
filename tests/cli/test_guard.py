import os
import signal
import subprocess
import sys
import unittest

from direkt import container
from direkt.cli.guard import guarded
from tests.support import Cli, Folder, command, flv_bytes


class Guard(Folder):
    def test_what_a_command_ends_with(self):
        for code in (0, 1, 2, 130):
            self.assertEqual(guarded(lambda code=code: code), code)
        self.assertEqual(guarded(lambda: os.kill(os.getpid(), signal.SIGKILL) or 0), 137)

    def test_a_file_that_is_cut_while_it_is_read(self):
        path = self.file("a.flv", flv_bytes(20))
        script = f"""
import os, sys
from direkt import container
from direkt.cli.guard import guarded
from direkt.measure.meter import Meter
from pathlib import Path
def command():
    events = container.read(Path({str(path)!r}))
    first = next(events)
    os.truncate({str(path)!r}, 4096)
    Meter().add_all(events)
    return 0
sys.exit(guarded(command))
"""
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=60)
        self.assertEqual((done.returncode, len(done.stderr.splitlines())), (2, 1), done)
        self.assertIn("the file was cut while it was read", done.stderr)

    def test_a_file_cut_to_nothing(self):
        self.file("a.flv", b"")
        with self.assertRaisesRegex(container.ContainerError, "empty"):
            list(container.read(self.folder / "a.flv"))

    def test_ctrl_c_and_sigterm_reach_the_command(self):
        script = """
import signal, sys, time
from direkt.cli import main
from direkt.cli.guard import guarded
signal.signal(signal.SIGTERM, main._interrupt)
def command():
    try:
        print("ready", flush=True)
        for _ in range(600):  # a signal just in front of a sleep does not end it
            time.sleep(0.05)
    except KeyboardInterrupt:
        print("interrupted", flush=True)
        return 130
sys.exit(guarded(command))
"""
        for number in (signal.SIGINT, signal.SIGTERM):
            child = subprocess.Popen([sys.executable, "-c", script], text=True, stdout=subprocess.PIPE)
            self.assertEqual(child.stdout.readline(), "ready\n")
            child.send_signal(number)
            out, _ = child.communicate(timeout=20)
            self.assertEqual((child.returncode, out), (130, "interrupted\n"))


class Check(Cli):
    def test_the_built_program_keeps_its_codes_and_output(self):
        self.file("a.flv", flv_bytes(1))
        for arguments, code in ((["a.flv"], 0), (["a.flv", "--sheet", "tarnlight"], 1), (["none.flv"], 2), (["--nonsense"], 2)):
            done = subprocess.run(
                [*command(), "check", *arguments], cwd=self.folder, env=self.environment(), capture_output=True, text=True,
            )
            self.assertEqual(done.returncode, code, done)
            self.assertEqual("640x360" in done.stdout, code < 2)


if __name__ == "__main__":
    unittest.main()
