"""The watch's page and figures: where they are, who may look and act."""

from __future__ import annotations

import contextlib
import ipaddress
import re
import secrets
import ssl
import sys
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.page.app import Role
    from direkt.rig.file import Rig
    from direkt.secret import Secret
    from direkt.watch.board import Board
    from direkt.watch.watcher import Watcher

_PLACE = re.compile(r"(?:(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9.-]+):)?(\d{1,5})")
_PORT = 8600  # where --page-links stands alone


def place_of(text: str, option: str) -> tuple[str, int]:
    """``[ADDRESS:]PORT``: host and port; on this machine only where no address is given. Raises UnusableInput."""
    match = _PLACE.fullmatch(text.strip())
    if match is None or not 0 <= int(match[2]) <= 65535:
        raise UnusableInput(f"{option}: expected PORT or ADDRESS:PORT, such as 8600 or 0.0.0.0:8600, got {text!r}")
    return (match[1] or "127.0.0.1").strip("[]"), int(match[2])


def tokens(rig: Rig, *, new: bool = False) -> dict[Role, Secret]:
    """The page's tokens, in the key store; made where there are none, or where ``new`` ones are wanted."""
    from direkt.secret import Secret
    from direkt.store.sessions import Sessions

    store = options.key_store()
    out: dict[Role, Secret] = {}
    roles: tuple[Role, ...] = ("look", "act")
    for role in roles:
        name = options.own_name(rig, f"page.{role}")
        found = store.get(name)
        if found is None or new:
            Sessions(rig.folder).forget()  # whoever had the old link is out
            found = secrets.token_urlsafe(24)
            store.put(name, found, options.binding(rig))
        out[role] = Secret(found)
    return out


def show_links(rig: Rig, page: str | None, *, tls: bool, new: bool) -> ExitCode:
    """Prints the page's links with their tokens: whoever has one may look, or act. Raises UnusableInput."""
    if not sys.stdout.isatty():
        raise UnusableInput("--page-links shows what lets people in, on a terminal only, not in a pipe or file")
    host, port = place_of(page or str(_PORT), "--page")
    shown = _shown(host)
    scheme = "https" if tls else "http"
    out = output.console()
    words = {"look": "to look", "act": "to look and to act (restart, stop)"}
    for role, token in tokens(rig, new=new).items():
        out.print(f"{words[role]}:")
        output.reveal(f"  {scheme}://{shown}:{port}/#token={token.reveal()}")
    out.print(f"for viewers, without a token: {scheme}://{shown}:{port}/now")
    output.note(
        "Whoever has such a link may do that: send it as you would a password. New ones, which end the old: --new-links"
        + ("; a watch that runs takes them when it is started again." if new else "")
    )
    return ExitCode.GOOD


def _shown(host: str) -> str:
    """A host as a link has it; of all addresses, this machine's name."""
    import socket

    try:
        address = ipaddress.ip_address(host)
    except ValueError:
        return host
    if address.is_unspecified:
        return socket.gethostname()
    return f"[{host}]" if address.version == 6 else host


@contextlib.contextmanager
def serve(
    rig: Rig, watcher: Watcher, page: str | None, tls: bool, certificate: Path | None, metrics: str | None
) -> Iterator[Callable[[Board], None]]:
    """Page and figures; gives what is to be called with each board. Raises UnusableInput and NoAnswer."""
    shows: list[Callable[[Board], None]] = []
    with contextlib.ExitStack() as stack:
        if page is not None:
            shows.append(stack.enter_context(_page(rig, watcher, page, tls, certificate)))
        if metrics is not None:
            from direkt.page import metrics as figures

            host, port = place_of(metrics, "--metrics")
            latest: list[Board] = []

            def keep(board: Board) -> None:
                latest[:] = [board]

            port = stack.enter_context(figures.serve(lambda: latest[0] if latest else None, host, port))
            output.note(f"figures: http://{_shown(host)}:{port}/metrics")
            shows.append(keep)

        def show(board: Board) -> None:
            for one in shows:
                one(board)

        yield show


@contextlib.contextmanager
def _page(
    rig: Rig, watcher: Watcher, page: str, tls: bool, certificate: Path | None
) -> Iterator[Callable[[Board], None]]:
    try:
        import starlette  # noqa: F401
        import uvicorn  # noqa: F401
    except ImportError:
        raise UnusableInput("--page needs two more packages: pip install 'direkt[page]'") from None
    from direkt.page.app import Doors
    from direkt.page.hub import Hub
    from direkt.page.serve import serve as serve_page
    from direkt.store.sessions import Sessions
    from direkt.watch.watch_events import Command

    host, port = place_of(page, "--page")
    context = _context(host, tls, certificate)
    hub = Hub()

    def act(what: str, feed: str) -> str:
        return "" if watcher.ask(Command(what, feed)) else "too many requests at once: wait a moment"

    kept = Sessions(rig.folder)
    doors = Doors(tokens(rig), context is not None, OrderedDict(kept.read(time.time())), kept.write)
    with serve_page(hub, doors, act, host, port, context) as opened:
        scheme = "https" if context is not None else "http"
        output.note(f"page: {scheme}://{_shown(host)}:{opened}/   its links: direkt watch --page {page} --page-links")
        if context is None and host not in ("127.0.0.1", "::1", "localhost"):
            output.note("! the page is not encrypted: anyone listening on this network can read its cookie; use --tls")
        yield hub.publish


def _context(host: str, tls: bool, certificate: Path | None) -> ssl.SSLContext | None:
    """Raises UnusableInput."""
    import socket

    from direkt.net import certificates

    if certificate is not None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.minimum_version = ssl.TLSVersion.TLSv1_2
        try:
            context.load_cert_chain(certificate)
        except (OSError, ssl.SSLError) as error:
            words = (
                "it holds no certificate with its private key (PEM)"
                if isinstance(error, ssl.SSLError)
                else os_words(error)
            )
            raise UnusableInput(f"{certificate}: cannot be used: {words}") from None
        return context
    if not tls:
        return None
    made = certificates.make([host, "localhost", "127.0.0.1", socket.gethostname()], days=30)
    output.note(f"certificate of the page (SHA-256): {escape(made.fingerprint)}")
    return made.context
