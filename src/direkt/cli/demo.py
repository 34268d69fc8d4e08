"""direkt demo: the whole example on demo data, with the same commands that a person would type."""

from __future__ import annotations

import contextlib
import os
import shlex
import signal
import subprocess
import sys
import tempfile
import threading
from pathlib import Path

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import NoAnswer, UnusableInput
from direkt.work.steps import END

_REHEARSAL = 4.2  # s: two and a half keyframe intervals

_DROP_AFTER = 4.0  # s of the watch


@click.command()
@click.option(
    "--folder", type=click.Path(path_type=Path, file_okay=False),
    help="Where to leave everything [default: a new temporary folder].",
)  # fmt: skip
@options.time_option("--for", "seconds", default=_REHEARSAL, help="How long each rehearsal runs.")
def demo(folder: Path | None, seconds: float) -> ExitCode:
    """Run the whole example: gear is found, matched, written and rehearsed; then the finals go on air, and end for certain.

    Takes about a minute and a half. Leaves the rig, the recordings and the JSON reports in a folder that it names.
    """
    if folder is None:
        folder = Path(tempfile.mkdtemp(prefix="direkt-demo-"))
    elif folder.exists() and any(folder.iterdir()):
        raise UnusableInput(f"{folder}: is not empty; name a new folder")
    run = _Demo(folder, seconds)
    try:
        return run.all()
    except KeyboardInterrupt:
        END.taken()
        run.stop()
        output.interrupted(f"the simulated gear is off; what there is lies in {folder}")
        return ExitCode.INTERRUPTED
    finally:
        run.stop()


class _Demo:
    def __init__(self, folder: Path, seconds: float) -> None:
        self.folder, self.seconds = folder, seconds
        self.out = output.console()
        self.children: list[subprocess.Popen[bytes]] = []

    def all(self) -> ExitCode:
        self._say(
            "The Lake Varn Regatta: an encoder and four cameras at a lake; they are to push to Tarnlight and a village channel."
        )
        gear = self._begin(["sim", str(self.folder), "--port", "0"], subprocess.PIPE)
        if gear.stdout is None or not gear.stdout.readline():
            raise NoAnswer("the simulated gear does not start: try it by hand with: direkt sim DIR")
        self._step("Who is there, and how can they be spoken to?", ["find", "--wait", "1s"])
        self._step("What does the encoder say it is set to?", ["read", "finish-tower"])
        before = self._rehearse("Is that what it sends? A rehearsal with the settings as they are.", "finish", "before")
        self._step("What has to change on it, and why?", ["match", "finish"])
        self._step("And on the camera at the start, which speaks another language?", ["match", "start"])
        self._step(
            "The camera at the 1000 m mark cannot push. What does it stream on its own?",
            ["check", "--feed", "mark", "--for", "3s"],
        )
        self._step(
            "Set all three at the same time, restart what needs it, read them back.",
            ["write", "finish", "start", "mark", "--yes"],
        )
        after = self._rehearse("Rehearse again, on the streams themselves: the encoder ...", "finish", "after")
        camera = self._rehearse("... the camera at the start ...", "start", "camera")
        carried = self._rehearse(
            "... and the one that cannot push: this machine carries its stream, and adds a sound track.",
            "mark",
            "carried",
        )
        self._step(
            "The camcorder on the boathouse roof has no interface at all: a card for the person at its menu.",
            ["card", "roof"],
        )
        self._step(
            "Recordings are judged the same way: would the encoder's stream do for the village channel?",
            ["check", "after.flv", "--sheet", "plainsong-village"],
        )
        live = self._step(
            "The finals, for real: the event is made and opened, both pushes start, the platform sees them, viewers look.",
            ["go", "finals", "--yes"],
        )
        self._drop_soon()
        watched = self._step(
            "On air is when things break: the process that carries the 1000 m camera is killed. The watch sees it, and the push recovers.",
            ["watch", "finals", "--for", "14s"],
        )
        end = self._step("And the certain end: off, proven off, the keys wiped.", ["stop", "finals", "--wipe-key"])
        self._step(
            "What was done is in the log, and in a page for the customer.",
            ["log", "report", "finals", "-o", "finals.html"],
        )
        self._close(before, after, camera, carried, live=live, end=end, watched=watched)
        good = (before, after, camera, carried, live, watched, end) == (ExitCode.FAILS, *[ExitCode.GOOD] * 6)
        return ExitCode.GOOD if good else ExitCode.FAILS

    def _drop_soon(self) -> None:
        """In some seconds, the process that carries a feed is gone, as after a crash."""
        from direkt.store import carried

        def drop() -> None:
            found = carried.find(self.folder, "mark")
            if found is not None:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(found.process, signal.SIGKILL)

        timer = threading.Timer(_DROP_AFTER, drop)
        timer.daemon = True
        timer.start()

    def _say(self, text: str) -> None:
        self.out.print(f"\n[bold cyan]{escape(text)}[/]")
        self.out.file.flush()

    def _begin(self, arguments: list[str], stdout: int | None = None) -> subprocess.Popen[bytes]:
        command = [sys.executable, "-m", "direkt", *arguments]
        cwd = self.folder if arguments[0] != "sim" else None
        child = subprocess.Popen(command, cwd=cwd, stdout=stdout, start_new_session=arguments[0] == "sim")
        self.children.append(child)
        return child

    def _step(self, text: str, arguments: list[str]) -> int:
        """Says what comes, shows the command, and runs it; its exit code."""
        self._say(text)
        self.out.print(f"[dim]$ direkt {escape(shlex.join(arguments))}[/]", soft_wrap=True)
        self.out.file.flush()
        return self._begin(arguments).wait(self.seconds + 90)

    def _rehearse(self, text: str, feed: str, name: str) -> int:
        arguments = [
            "rehearse",
            feed,
            "--for",
            f"{self.seconds:g}s",
            "--keep",
            f"{name}.flv",
            "--report",
            f"{name}.json",
        ]
        return self._step(text, arguments)

    def _close(self, *codes: int, live: int, end: int, watched: int) -> None:
        words = {ExitCode.GOOD: "passes", ExitCode.FAILS: "fails"}
        first, second, third, fourth = (words.get(ExitCode(code), "was not judged") for code in codes)
        self._say(f"Before: the stream {first}. After: it {second}. The camera's {third}. The carried one {fourth}.")
        air = "were on air" if live == ExitCode.GOOD else "did not come on air"
        recovered = "recovered" if watched == ExitCode.GOOD else "did not recover"
        self.out.print(
            f"The finals {air}; the push {recovered}; at the end {'everything was proven off' if end == ExitCode.GOOD else 'not everything was proven off'}."
        )
        self.out.print(
            f"Everything is in [bold]{escape(self.folder)}[/]: rig.yaml, before.flv, after.flv, before.json, after.json, finals.html"
        )
        self.out.print("Try next:")
        place = shlex.quote(str(self.folder))
        for line in (
            f"direkt sim {place}            # the gear again, until Ctrl-C; in a second terminal:",
            f"cd {place}; direkt find; direkt match --all; direkt check --feed start; direkt card roof -o roof.pdf",
            f"direkt check {place}/before.flv --sheet tarnlight",
            "direkt go village; direkt stop village; direkt log list    # an event that is worked by hand",
        ):
            self.out.print(f"  {escape(line)}", soft_wrap=True)

    def stop(self) -> None:
        """Ends whatever still runs."""
        for child in self.children:
            if child.poll() is None:
                child.send_signal(signal.SIGINT)
                try:
                    child.wait(5)
                except subprocess.TimeoutExpired:
                    child.kill()
