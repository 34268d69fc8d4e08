"""A systemd unit that runs a command of ours from the start of a machine on; it holds no secret."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from direkt.errors import UnusableInput
from direkt.printable import printable

_PLAIN = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_./=:,@+")


def word(text: str) -> str:
    """One word of a command line, as systemd reads it (systemd.service, Command lines; systemd.syntax, Quoting)."""
    escaped = (
        text.replace("\\", "\\\\")
        .replace('"', '\\"')
        .replace("%", "%%")
        .replace("$", "$$")
        .replace("\n", "\\n")
        .replace("\t", "\\t")
    )
    return text if text and set(text) <= _PLAIN else f'"{escaped}"'


def text(
    title: str, words: Sequence[str], folder: str, user: str | None, environment: Mapping[str, str], writes: Sequence[str]
) -> str:  # fmt: skip
    """The unit; ``user``: who runs it, None in a user's own service manager; ``writes``: the folders in which it may write.

    Raises UnusableInput for a path that no unit can hold.
    """
    lines = [
        "[Unit]", f"Description={_one_line(title)}", "Wants=network-online.target", "After=network-online.target time-sync.target",
        "StartLimitIntervalSec=0", "", "[Service]", "Type=notify", "NotifyAccess=main", "WatchdogSec=120",
        f"ExecStart={' '.join(word(w) for w in words)}",
        # a path stands for itself here, but for % and quoting
        f"WorkingDirectory={_path(folder)}",
    ]  # fmt: skip
    lines += [f"User={_one_line(user)}"] if user is not None else []
    lines += [f"Environment={word(f'{name}={value}').replace('$$', '$')}" for name, value in environment.items()]
    lines += [
        "# variables that may hold passwords, such as DIREKT_DATABASE, go into this file (mode 0600); it may be missing",
        f"EnvironmentFile=-{_path(folder)}/direkt.env",
        "Restart=always", "RestartSec=5", "# what this machine carries goes on when the service is stopped",
        "KillMode=process", "KillSignal=SIGTERM", "TimeoutStopSec=60",
        "# what it starts gains nothing by it", "NoNewPrivileges=yes", "RestrictSUIDSGID=yes", "RestrictRealtime=yes", "LockPersonality=yes", "UMask=0077",
    ]  # fmt: skip
    if user is not None:  # a user's own service manager cannot do these
        allowed = " ".join(word("-" + path).replace("$$", "$") for path in dict.fromkeys(writes))
        lines += [
            "# it may write only where Direkt keeps its files", "ProtectSystem=strict", f"ReadWritePaths={allowed}", "PrivateTmp=yes",
            "PrivateDevices=yes", "ProtectKernelTunables=yes", "ProtectKernelModules=yes", "ProtectControlGroups=yes",
            "RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX AF_NETLINK",
        ]  # fmt: skip
    lines += [
        "", "[Install]",
        f"WantedBy={'default.target' if user is None else 'multi-user.target'}",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def _one_line(value: str) -> str:
    """A value as a line of its own: no line break of it begins another setting."""
    return " ".join(printable(value).split()).rstrip("\\ ").replace("%", "%%")  # a backslash at the end would join the next line to it


def _path(value: str) -> str:
    """A path, which stands for itself. Raises UnusableInput."""
    if not value.isprintable() or value.endswith("\\"):
        raise UnusableInput(f"{value!r}: a service's folder must not have a line break or another such character in its name, nor end with a backslash")
    return value.replace("%", "%%")
