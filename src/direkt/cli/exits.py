"""The exit codes, and which error ends with which."""

from __future__ import annotations

from enum import IntEnum

from direkt.errors import DirektError, NoAnswer


class ExitCode(IntEnum):
    """What a command's end means."""

    GOOD = 0
    FAILS = 1
    USE = 2
    NO_ANSWER = 3
    INTERRUPTED = 130


MEANING = {
    ExitCode.GOOD: "everything that was required holds",
    ExitCode.FAILS: "a finding fails",
    ExitCode.USE: "wrong use or an unreadable file",
    ExitCode.NO_ANSWER: "a device, server or network does not answer or refuses",
    ExitCode.INTERRUPTED: "interrupted",
}


def code_of(error: DirektError) -> ExitCode:
    """The exit code that an error of the core ends with."""
    return ExitCode.NO_ANSWER if isinstance(error, NoAnswer) else ExitCode.USE
