"""direkt sim --type and --scan: what a person does with gear that no program can reach."""

from __future__ import annotations

from pathlib import Path

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import NoAnswer, UnusableInput, os_words

_MOST = 16 << 20  # bytes of a file
_LIMIT = 10.0  # s
_LENS = "umpire-launch"


def type_card(folder: Path, card: Path, mistakes: tuple[str, ...], server: str) -> ExitCode:
    """Types a card into the camcorder's menu."""
    import httpx

    from direkt.sim import rig as demo
    from direkt.sim.typist import type_card as typing

    entries = typing(_read(card).decode("utf-8", "replace"), mistakes, server)
    try:
        port = int((folder / demo.HANDS).read_text())
    except (OSError, ValueError):
        raise NoAnswer(f"no camcorder is on: start it with: direkt sim {folder}") from None
    body = {"entries": [{"path": list(path), "value": value} for path, value in entries]}
    try:
        answer = httpx.post(f"http://127.0.0.1:{port}/hands", json=body, timeout=_LIMIT, trust_env=False)
        screen = str(answer.json()["screen"])
    except (httpx.HTTPError, ValueError, KeyError):
        raise NoAnswer(f"the camcorder does not answer: start it with: direkt sim {folder}") from None
    places = ", ".join(path[-1] for path, _ in entries)
    output.console().print(f"typed: {escape(places)}; its screen says: [bold]{escape(screen)}[/]")
    return ExitCode.GOOD if answer.status_code == 200 else ExitCode.FAILS


def scan(folder: Path, picture: Path) -> ExitCode:
    """Shows the spherical camera a picture."""
    import httpx

    from direkt.protocol import tree
    from direkt.rig import file as rig

    loaded = rig.load(folder / rig.FILE_NAME)
    if _LENS not in loaded.file.devices:
        raise UnusableInput(f"{folder}: not the demo rig: it has no device {_LENS}")
    entry = loaded.file.devices[_LENS]
    login = loaded.login(entry, options.sources(loaded))
    auth = httpx.BasicAuth(login[0], login[1].reveal()) if login is not None else None
    try:
        answer = httpx.post(
            f"{entry.address}/control/scan", content=_read(picture), auth=auth, timeout=_LIMIT, trust_env=False
        )
    except httpx.HTTPError:
        raise NoAnswer(f"{_LENS} does not answer: start it with: direkt sim {folder}") from None
    said = tree.text(tree.parse(answer.content)) if answer.content.startswith(b"<error") else ""
    output.console().print(f"{_LENS}: {escape(said) if said else 'it took what the code says'}")
    return ExitCode.GOOD if answer.status_code == 200 else ExitCode.FAILS


def _read(path: Path) -> bytes:
    try:
        with path.open("rb") as file:
            return file.read(_MOST)
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be read: {os_words(error)}") from None
