"""The exit codes, and which error ends with which."""

from __future__ import annotations

from enum import IntEnum

from direkt.errors import DirektError, NoAnswer


class ExitCode(IntEnum):
    """What a command's end means."""

    GOOD = 0  # everything asked for holds
    FAILS = 1  # a finding fails
    USE = 2  # wrong use, or a file that cannot be used
    NO_ANSWER = 3  # a device, server or network that does not answer or refuses
    INTERRUPTED = 130


def code_of(error: DirektError) -> ExitCode:
    """The exit code that an error of the core ends with."""
    return ExitCode.NO_ANSWER if isinstance(error, NoAnswer) else ExitCode.USE
