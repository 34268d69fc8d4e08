"""A systemd unit that runs a command of ours from the start of a machine on; it holds no secret."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

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


def text(title: str, words: Sequence[str], folder: str, user: str | None, environment: Mapping[str, str]) -> str:
    """The unit; ``user``: who runs it, None in a user's own service manager."""
    lines = [
        "[Unit]", f"Description={title.replace('%', '%%')}", "Wants=network-online.target", "After=network-online.target time-sync.target",
        "StartLimitIntervalSec=0", "", "[Service]", "Type=exec", f"ExecStart={' '.join(word(w) for w in words)}",
        # a path stands for itself here, but for % and quoting
        f"WorkingDirectory={folder.replace('%', '%%')}",
    ]  # fmt: skip
    lines += [f"User={user}"] if user is not None else []
    lines += [f"Environment={word(f'{name}={value}').replace('$$', '$')}" for name, value in environment.items()]
    lines += [
        "# variables that may hold passwords, such as DIREKT_DATABASE, go into this file (mode 0600); it may be missing",
        f"EnvironmentFile=-{folder.replace('%', '%%')}/direkt.env",
        "Restart=always", "RestartSec=5", "# what this machine carries goes on when the service is stopped",
        "KillMode=process", "KillSignal=SIGTERM", "TimeoutStopSec=60", "NoNewPrivileges=yes", "", "[Install]",
        f"WantedBy={'default.target' if user is None else 'multi-user.target'}",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"
