"""Running a command that reads mapped files in a process of its own, so that a file that is cut meanwhile ends in words.

Where a mapped file gets shorter while it is read, the system ends the process with SIGBUS, and nothing in it can say so.
"""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable

_PASSED_ON = {signal.SIGINT, signal.SIGTERM, signal.SIGHUP}


def guarded(command: Callable[[], int]) -> int:
    """The exit code of ``command``, run in a child; what a person sends to this process reaches the child."""
    if not hasattr(signal, "sigwaitinfo"):
        return command()
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {*_PASSED_ON, signal.SIGCHLD})
    child = os.fork()
    if child == 0:
        _end(command, before)
    try:
        code = _wait(child)
    finally:
        while signal.sigtimedwait(_PASSED_ON, 0) is not None:  # whoever asks once more as it ends
            pass
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
    if code == -signal.SIGBUS:
        from direkt.cli import output
        from direkt.cli.exits import ExitCode

        output.error(
            "the file was cut while it was read: wait until nothing writes to it any more, then check it again"
        )
        return ExitCode.USE
    return code if code >= 0 else 128 - code


def _end(command: Callable[[], int], signals: set[int | signal.Signals]) -> None:
    """Runs the command in the child, with these signals held back, and ends it without returning."""
    try:
        signal.pthread_sigmask(signal.SIG_SETMASK, signals)
        sys.exit(command())
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 1
    except KeyboardInterrupt:  # before the command could hear of it
        import click

        from direkt.cli.exits import ExitCode

        click.echo("Interrupted: nothing was changed by this command.", err=True)
        code = ExitCode.INTERRUPTED
    except BaseException:
        sys.excepthook(*sys.exc_info())
        code = 1
    try:
        sys.stdout.flush()
        sys.stderr.flush()
    finally:
        os._exit(code)


def _wait(child: int) -> int:
    """The exit code of the child; below 0 for a signal that ended it."""
    while True:
        came = signal.sigwaitinfo({*_PASSED_ON, signal.SIGCHLD})
        if came.si_signo == signal.SIGCHLD:
            found, status = os.waitpid(child, os.WNOHANG)
            if found == child:
                return os.waitstatus_to_exitcode(status)
        elif came.si_pid:  # a terminal's Ctrl-C comes from no process, and goes to the child as well
            os.kill(child, came.si_signo)
