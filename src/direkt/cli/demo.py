"""direkt demo: the whole example on demo data, with the same commands that a person would type."""

from __future__ import annotations

import shlex
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import click
from rich.markup import escape

from direkt.cli import common
from direkt.cli.sim import _free_port

_WRONG, _RIGHT = 6, 10  # s of rehearsal before and after


@click.command()
@click.option(
    "--folder",
    type=click.Path(path_type=Path, file_okay=False),
    help="Where to leave everything [default: a new temporary folder].",
)
@common.handled
def demo(folder: Path | None) -> int:
    """Run the whole example: a wrongly set encoder is caught, matched, written, and caught again.

    Takes about half a minute. Leaves the rig, the recordings and the JSON reports in a folder that it names.
    """
    if folder is None:
        folder = Path(tempfile.mkdtemp(prefix="direkt-demo-"))
    elif folder.exists() and any(folder.iterdir()):
        raise common.Failure(f"{folder}: is not empty; name a new folder", common.USE)
    run = _Demo(folder)
    try:
        return run.all()
    except KeyboardInterrupt:
        run.stop()
        click.echo(f"\nInterrupted: the simulated gear is off; what there is lies in {folder}", err=True)
        return common.INTERRUPTED
    finally:
        run.stop()


class _Demo:
    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.out = common.console()
        self.port = _free_port()
        self.children: list[subprocess.Popen[Any]] = []

    def all(self) -> int:
        self._say("The Lake Varn Regatta: the encoder on the finish tower is to push to Tarnlight.")
        gear = self._begin(["sim", str(self.folder), "--port", "0"], subprocess.PIPE)
        if gear.stdout is None or not gear.stdout.readline():
            raise common.Failure(
                "the simulated gear does not start: try it by hand with: direkt sim DIR", common.DEVICE
            )
        self._step("What does the encoder say it is set to?", ["read"])
        self._say("Is that what it sends? A rehearsal with the settings as they are.")
        before = self._rehearse(_WRONG, "before")
        self._step("What has to change, and why?", ["match"])
        self._step("Set it, restart it, read it back.", ["write", "finish", "--yes"])
        self._say("Rehearse again, on the stream itself.")
        after = self._rehearse(_RIGHT, "after")
        self._step(
            "Recordings are judged the same way: would the same stream do for the village channel?",
            ["check", "after.flv", "--sheet", "plainsong-village"],
        )
        self._close(before, after)
        return 0 if (before, after) == (1, 0) else 1

    def _say(self, text: str) -> None:
        self.out.print(f"\n[bold cyan]{escape(text)}[/]")
        self.out.file.flush()

    def _show(self, arguments: list[str]) -> None:
        self.out.print(f"[dim]$ direkt {escape(shlex.join(arguments))}[/]")
        self.out.file.flush()

    def _begin(self, arguments: list[str], stdout: int | None = None) -> subprocess.Popen[Any]:
        command = [sys.executable, "-m", "direkt", *arguments]
        cwd = self.folder if arguments[0] != "sim" else None
        child = subprocess.Popen(command, cwd=cwd, stdout=stdout, start_new_session=arguments[0] == "sim")
        self.children.append(child)
        return child

    def _step(self, text: str, arguments: list[str]) -> int:
        self._say(text)
        self._show(arguments)
        return self._begin(arguments).wait(60)

    def _rehearse(self, seconds: int, name: str) -> int:
        """Catches one push; its exit code."""
        address = f"rtmp://127.0.0.1:{self.port}/live"
        push = ["push", "on", "finish", "--rehearse", address]
        catch = ["catch", "--feed", "finish", "--for", f"{seconds}s", "--keep", f"{name}.flv", "--report", f"{name}.json",
                 "--port", str(self.port), "--host", "127.0.0.1"]  # fmt: skip
        self._show(push)
        self._show(catch)
        catching = self._begin(catch)
        self._wait_for_port()
        self._begin(push, subprocess.DEVNULL).wait(30)
        code = catching.wait(seconds + 60)
        self._begin(["push", "off", "finish"], subprocess.DEVNULL).wait(30)
        return code

    def _wait_for_port(self) -> None:
        import socket

        for _ in range(100):
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", self.port)) == 0:
                    return
            time.sleep(0.1)

    def _close(self, before: int, after: int) -> None:
        word = {0: "passes", 1: "fails"}
        self._say(
            f"Before: the stream {word.get(before, 'was not judged')}. After: it {word.get(after, 'was not judged')}."
        )
        self.out.print(
            f"Everything is in [bold]{escape(str(self.folder))}[/]: rig.yaml, before.flv, after.flv, before.json, after.json"
        )
        self.out.print("Try next:")
        place = shlex.quote(str(self.folder))
        for line in (
            f"direkt sim {place}            # the gear again, until Ctrl-C; in a second terminal:",
            f"cd {place}; direkt read; direkt match; direkt catch --feed finish",
            f"direkt check {place}/before.flv --sheet tarnlight",
            "direkt sheet show plainsong-village",
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
