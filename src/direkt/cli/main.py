"""The ``direkt`` command: its list of commands, and one place where errors become lines and exit codes.

Commands are imported only when they run, so that ``direkt --help`` starts as fast as Click does.
"""

from __future__ import annotations

import signal
import sys
import threading

if {"direkt"} & {word.rpartition("/")[2] for word in sys.orig_argv[:3]} and signal.getsignal(signal.SIGINT) is signal.default_int_handler:
    signal.signal(signal.SIGINT, signal.SIG_DFL)  # Ctrl-C while this program is still being read: it ends, without a word of Python's

import _thread
import contextlib
import importlib
import io
import os
import stat
from collections.abc import Iterator
from types import FrameType

import click

from direkt import __version__, mask
from direkt.cli.exits import MEANING, ExitCode, code_of
from direkt.errors import DirektError

# name: (module, function, short help); in the order of the work
COMMANDS = {
    "sheet": ("sheet", "sheet", "Show what destinations' ingests require."),
    "key": ("key", "key", "Keep stream keys; repair what was pasted; show a key's forms."),
    "rig": ("rig", "rig", "Look at what a rig would do on this machine, and trust it."),
    "reach": ("reach", "reach", "Test whether an ingest is reachable from here, before any camera is."),
    "budget": ("budget", "budget", "Share the uplink among the feeds."),
    "find": ("find", "find", "Find devices on the network, and what stands in their way."),
    "device": ("device", "device", "Look after a device: address, first password, clock, health, firmware, pictures."),
    "driver": ("driver", "driver", "List, check, begin and try drivers."),
    "read": ("read", "read", "Read what a device is set to, beside what it can do."),
    "match": ("match", "match", "Compare a feed's device with its sheet; say what to change and why."),
    "write": ("write", "write", "Set a feed's device as its sheet requires, and read it back."),
    "restore": ("restore", "restore", "Put back what a device was set to before a write."),
    "drift": ("drift", "drift", "Say what differs now from what was last written."),
    "log": ("log", "log", "List what was done, and when; report on an event."),
    "card": ("card", "card", "Make the setup card for a device that is set by hand."),
    "catch": ("catch", "catch", "Receive a push that you start by hand, measure and judge it."),
    "check": ("check", "check", "Measure and judge a recording, or the stream that a device offers."),
    "compare": ("compare", "compare", "Show what differs between two recordings, reports or log entries."),
    "rehearse": ("rehearse", "rehearse", "Push from a feed's device to here, measure and judge it, put all back."),
    "push": ("push", "push", "Start, stop or look at a device's push."),
    "signal": ("signal", "signal", "Push a test card from here; measure what the line carries."),
    "event": ("event", "event", "Make, change, open, close and look at events at their platforms."),
    "go": ("go", "go", "Take an event to air in the right order."),
    "watch": ("watch", "watch", "Look after what is on air: see drops, restart what dropped, notify people."),
    "stop": ("stop", "stop", "End an event, a feed or everything, for certain."),
    "schedule": ("schedule", "schedule", "Begin and end events and feeds by the clock."),
    "explain": ("explain", "explain", "Explain a word of the trade; do the sums."),
    "schema": ("schema", "schema", "Print the JSON Schema of sheets, rigs and JSON documents."),
    "sim": ("sim", "sim", "Lay out the demo rig and run its simulated gear."),
    "demo": ("demo", "demo", "Run the whole example on demo data."),
}


class Commands(click.Group):
    """A group that knows its commands' names and one-line helps without importing them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        entry = COMMANDS.get(cmd_name)
        if entry is None:
            return None
        module = importlib.import_module(f"direkt.cli.{entry[0]}")
        command: click.Command = getattr(module, entry[1])
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, entry[2]) for name, entry in COMMANDS.items()])


_HELP = f"""Get cameras and hardware encoders to push straight to a live platform, and prove on the stream that it conforms.

The work in its order: look at the sheet, read the device, match it, write it, rehearse the push, and only then go
live; at the end, stop. In a panic: direkt stop --all.

Exit codes: {"; ".join(f"{code:d} {meaning}" for code, meaning in MEANING.items())}.
"""


@click.group(
    cls=Commands, help=_HELP, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100}
)
@click.version_option(__version__, message="direkt %(version)s")
def cli() -> None:
    """The direkt command."""


def main() -> None:
    """Runs the command line and exits. A request to end (SIGTERM) and a terminal that is gone are like Ctrl-C."""
    signal.signal(signal.SIGTERM, _interrupt)
    sys.unraisablehook = _unraised
    if signal.getsignal(signal.SIGINT) in (signal.default_int_handler, signal.SIG_DFL):
        signal.signal(signal.SIGINT, _interrupt)
    if hasattr(signal, "SIGHUP") and signal.getsignal(signal.SIGHUP) is signal.SIG_DFL:
        signal.signal(signal.SIGHUP, _hang_up)
    try:
        if sys.argv[1:2] == ["check"]:
            from direkt.cli.guard import guarded

            sys.exit(guarded(run))
        sys.exit(run())
    except KeyboardInterrupt:  # before a command has begun, or after it has ended
        with contextlib.suppress(OSError):
            click.echo("Interrupted.", err=True)
        sys.exit(ExitCode.INTERRUPTED)


def _unraised(lost: sys.UnraisableHookArgs) -> None:
    """Ctrl-C that came where Python can raise nothing, as in the callback of a weak reference, is heard a moment later."""
    if isinstance(lost.exc_value, KeyboardInterrupt):
        threading.Timer(0.02, _thread.interrupt_main).start()
    else:
        sys.__unraisablehook__(lost)


def _interrupt(number: int, frame: FrameType | None) -> None:
    if (steps := sys.modules.get("direkt.work.steps")) is not None:
        steps.END.ask()
        if steps.END.holds():
            return
    raise KeyboardInterrupt


def _hang_up(number: int, frame: FrameType | None) -> None:
    """What would be written to the terminal goes nowhere from here on, so that the command can end in good order."""
    null = os.open(os.devnull, os.O_RDWR)
    for descriptor in (0, 1, 2):
        if stat.S_ISCHR(os.fstat(descriptor).st_mode):
            os.dup2(null, descriptor)
    if (steps := sys.modules.get("direkt.work.steps")) is not None and steps.END.holds():
        return
    raise KeyboardInterrupt


def run(arguments: list[str] | None = None) -> int:
    """Runs the command line; returns the exit code."""
    sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]  # its own command line, a tenth of our start, is left out
    with _edges():
        code = _run(arguments)
    if (recording := sys.modules.get("direkt.cli.recording")) is not None:
        recording.end(code)  # what it began has ended
    return code


@contextlib.contextmanager
def _edges() -> Iterator[None]:
    """What is written in here leaves without a secret in it, and in letters that the terminal or the file can take."""
    before = sys.stdout, sys.stderr
    for stream in (*before, sys.stdin):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")
    sys.stdout, sys.stderr = mask.Edge(sys.stdout), mask.Edge(sys.stderr)
    try:
        yield
    finally:
        for edge in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, ValueError):
                edge.flush()
        sys.stdout, sys.stderr = before


def _run(arguments: list[str] | None) -> int:
    try:
        return _command(arguments)
    except Exception as error:
        # what a library made of Ctrl-C while it was being loaded
        if not _is_interruption(error):
            raise
        with contextlib.suppress(OSError):
            click.echo("Interrupted: nothing was changed by this command.", err=True)
        return ExitCode.INTERRUPTED


def _is_interruption(error: BaseException | None) -> bool:
    """Whether an error stands on an interruption."""
    seen: set[int] = set()
    while error is not None and id(error) not in seen:
        if isinstance(error, KeyboardInterrupt):
            return True
        seen.add(id(error))
        error = error.__cause__ or error.__context__
    return False


def _command(arguments: list[str] | None) -> int:
    try:
        result = cli.main(arguments, prog_name="direkt", standalone_mode=False)
        sys.stdout.flush()
        return int(result) if isinstance(result, int) else ExitCode.GOOD
    except DirektError as error:
        from direkt.cli import output

        with contextlib.suppress(OSError):
            output.error(str(error))
            for words in getattr(error, "__notes__", ()):  # what state it leaves things in
                output.note(words)
        return code_of(error)
    except click.exceptions.Exit as error:
        return error.exit_code
    except click.ClickException as error:
        with contextlib.suppress(OSError):
            error.show()
        return error.exit_code
    except (click.Abort, KeyboardInterrupt):
        if (steps := sys.modules.get("direkt.work.steps")) is not None:
            steps.END.taken()
        with contextlib.suppress(OSError):
            click.echo("Interrupted: nothing was changed by this command.", err=True)
        return ExitCode.INTERRUPTED
    except (BrokenPipeError, SystemExit):
        # the reader of our output is gone, of which Click makes a SystemExit: nothing was read that could hold
        _drop_output()
        return ExitCode.INTERRUPTED
    except OSError as error:
        from direkt.errors import os_words

        _drop_output()
        with contextlib.suppress(OSError):
            click.echo(f"error: the output cannot be written: {os_words(error)}", err=True)
        return ExitCode.USE


def _drop_output() -> None:
    """Keeps Python from complaining at exit of what it cannot write."""
    with contextlib.suppress(OSError, ValueError):  # a stream of another kind
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
