"""Telling people: by a signed webhook, by mail over TLS, by a command; each state once, as a reminder, and when it has recovered.

Strategy. Each one who is told has a lane, a thread of its own, so that one who is slow delays nobody else. A lane tells the newest state first,
and of each state the newest word only; a try has a limit as a whole. What was told is kept (store/notified.py), so that a watch that is started
again, or a second one, tells nothing twice.
"""

from __future__ import annotations

import asyncio
import contextlib
import datetime
import email.message
import email.policy
import email.utils
import json
import os
import shlex
import signal
import smtplib
import socket
import ssl
import subprocess
import threading
import time
from collections.abc import Callable, Container, Iterator, Mapping
from dataclasses import dataclass, replace
from urllib.parse import urlsplit

import httpx

from direkt import mask
from direkt.destination import references
from direkt.destination.references import Sources
from direkt.errors import NoAnswer, UnusableInput, os_words, tls_words
from direkt.printable import printable
from direkt.protocol import httpsignature
from direkt.rig.file import Rig, place_of
from direkt.rig.values import length_of
from direkt.rig.watch import NotifyEntry, Way
from direkt.secret import Secret, without
from direkt.store.notified import NotifiedMemory, One
from direkt.watch.notices import Condition, Key, Notice, Notices

_LIMIT = 10.0  # s for one try
_PAUSES = (2.0, 10.0, 30.0)  # s between tries
_MOST_WAITING = 200
_UNTOLD_AGAIN = 60.0  # s after which what could not be told is told again
_REMIND_EVERY = 5.0  # s between looks at who has to be reminded
_KIND = "application/json"
_PHASES = {"begins": "", "again": "still: ", "well": "recovered: "}


class NotDelivered(NoAnswer):
    """Somebody could not be told; the text holds no secret."""


def document(notice: Notice, rig: str) -> dict[str, object]:
    """A notice for programs."""
    c = notice.condition
    return {
        "schema": "direkt.notice/1", "number": notice.number, "rig": rig, "phase": notice.phase, "kind": notice.key.kind,
        "name": notice.key.name, "weight": c.weight, "text": c.text, "advice": c.advice, "event": c.event or None,
        "since": _stamp(notice.since), "at": _stamp(notice.at),
    }  # fmt: skip


def line(notice: Notice) -> str:
    """The same for people."""
    return f"{_PHASES[notice.phase]}{notice.key.name}: {notice.condition.text}"


def _stamp(wall: float) -> str:
    return datetime.datetime.fromtimestamp(wall, datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


@dataclass(frozen=True, slots=True)
class Notification:
    """What somebody is told."""

    notice: Notice
    body: Mapping[str, object]  # as JSON
    rig: Rig
    wall: float  # s since 1970


@dataclass(frozen=True, slots=True)
class NotifyTarget:
    """One who is told, with what that takes."""

    name: str
    entry: NotifyEntry
    secret: Secret | None = None
    login: tuple[str, Secret] | None = None

    @property
    def remind(self) -> float:
        """s between reminders."""
        return length_of(self.entry.remind)


def targets(rig: Rig, sources: Sources) -> tuple[list[NotifyTarget], list[str]]:
    """All who can be told, and of the others why not: a secret is missing, or a command may not be started."""
    out, wrong = [], []
    for name, entry in rig.file.watch.notify.items():
        try:
            out.append(_target(rig, name, entry, sources))
        except UnusableInput as error:
            wrong.append(f"watch.notify.{name}: {error}")
    return out, wrong


def _target(rig: Rig, name: str, entry: NotifyEntry, sources: Sources) -> NotifyTarget:
    secret = login = None
    if not sources.trust.commands:
        raise UnusableInput("a rig that is not trusted notifies nobody: look at it, then: direkt rig trust")
    if entry.command is not None:
        try:
            shlex.split(entry.command)
        except ValueError as error:
            raise UnusableInput(f"its command cannot be understood: {error}") from None
    if entry.secret is not None:
        secret = references.resolve(references.parse_ref(entry.secret), sources, rig.folder, [place_of(entry.webhook or "")])
    if entry.login is not None:
        ref = references.parse_ref(entry.login)
        login = references.login_of(references.resolve(ref, sources, rig.folder, [place_of(entry.server or "")]), str(ref))
    return NotifyTarget(name, entry, secret, login)


class _Lane:
    """One who is told, in a thread of its own."""

    def __init__(
        self, target: NotifyTarget, rig: Rig, wall: Callable[[], float], told: Callable[[str, str, bool], None], pauses: tuple[float, ...],
        untold: Callable[[NotifyTarget, Notice], None],
    ) -> None:  # fmt: skip
        self.target, self._rig, self._wall, self._told, self._pauses = target, rig, wall, told, pauses
        self._untold = untold
        self._waiting: dict[Key, Notice] = {}  # the newest of each state, the newest state last
        self._some = threading.Condition()
        self.over = False
        self._busy = False
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def add(self, notice: Notice) -> None:
        """To be told soon; an older word on the same state is not told any more."""
        with self._some:
            self._waiting.pop(notice.key, None)
            self._waiting[notice.key] = notice
            while len(self._waiting) > _MOST_WAITING:
                del self._waiting[next(iter(self._waiting))]
            self._some.notify()

    def end(self) -> None:
        """Nothing more comes."""
        with self._some:
            self.over = True
            self._some.notify()

    def left(self, wait: float) -> int:
        """How much could not be told within so many s."""
        self._thread.join(max(0.0, wait))
        return len(self._waiting) + (1 if self._busy else 0)

    def _run(self) -> None:
        while True:
            with self._some:
                while not self._waiting and not self.over:
                    self._some.wait()
                if not self._waiting:
                    return
                _, notice = self._waiting.popitem()
                self._busy = True
            self._one(notice)
            self._busy = False

    def _one(self, notice: Notice) -> None:
        for pause in (*self._pauses, None):
            try:
                deliver(self.target, notice, self._rig, self._wall())
            except Exception as error:  # what nobody has thought of keeps nobody else from being told
                words = str(error) if isinstance(error, NotDelivered) else f"it failed ({type(error).__name__})"
                newer = notice.key in self._waiting
                if pause is None or self.over or newer:
                    self._told(self.target.name, f"could not be notified ({line(notice)}): {words}", False)
                    if not newer:
                        self._untold(self.target, notice)
                    return
                with self._some:
                    self._some.wait_for(lambda: self.over or notice.key in self._waiting, pause)
            else:
                self._told(self.target.name, f"was notified: {line(notice)}", True)
                return


class Telling:
    """Tells all who are to be told. ``told`` is called from the lanes' threads with name, words and whether it went well.

    ``wall``: s since 1970.
    """

    def __init__(
        self, rig: Rig, people: list[NotifyTarget], wall: Callable[[], float], told: Callable[[str, str, bool], None],
        pauses: tuple[float, ...] = _PAUSES, kept: NotifiedMemory | None = None,
    ) -> None:  # fmt: skip
        self._rig, self._people, self._wall = rig, people, wall
        self._kept = kept if kept is not None else NotifiedMemory(None)
        self._lanes = {target.name: _Lane(target, rig, wall, told, pauses, self._untold) for target in people}
        self._looked = float("-inf")

    def tell(self, notice: Notice) -> None:
        """Everybody whom it concerns is to be told of it, unless they know."""
        key, c = _name(notice.key), notice.condition
        for target in self._concerned(notice):
            if notice.phase == "well":
                if self._kept.end(target.name, key) is None:
                    continue  # they never heard that it was not, or somebody told them
            elif not self._kept.begin(target.name, key, One(at=notice.at, weight=c.weight, text=c.text[:2000], event=c.event, since=notice.since)):
                continue
            self._lanes[target.name].add(self._numbered(notice))

    def remind(self, notices: Notices) -> None:
        """Who was told of something that still is so, long enough ago, is told again; what is muted waits."""
        now = self._wall()
        if 0 <= now - self._looked < _REMIND_EVERY:
            return
        self._looked = now
        for target in self._people:
            for key in list(notices.current):
                if notices.muted(key, now) or not self._kept.lasting(target.name).get(_name(key)):
                    continue
                if self._kept.again(target.name, _name(key), now, target.remind):
                    notice = notices.again(key, now)
                    if notice is not None:
                        self._lanes[target.name].add(self._numbered(notice))

    def settle(self, notices: Notices, known: Container[str]) -> None:
        """What was told by a watch before this one, and is not so any more, has recovered. ``known``: names that this watch looks after."""
        current = {_name(key) for key in notices.states}
        for target in self._people:
            for key, one in self._kept.lasting(target.name).items():
                kind, _, name = key.partition(" ")
                if key in current or name not in known or self._kept.end(target.name, key) is None:
                    continue
                c = Condition(one.weight, one.text, "", one.event)
                self._lanes[target.name].add(self._numbered(Notice("well", Key(kind, name), c, one.since, self._wall(), 0)))

    def _untold(self, target: NotifyTarget, notice: Notice) -> None:
        """It could not be told: while it is so, it is tried again in a minute."""
        if notice.phase != "well":
            self._kept.postpone(target.name, _name(notice.key), self._wall() - target.remind + _UNTOLD_AGAIN)

    def _numbered(self, notice: Notice) -> Notice:
        return replace(notice, number=self._kept.number())

    def _concerned(self, notice: Notice) -> list[NotifyTarget]:
        """Those whom the event names, else all; those only who care for its weight."""
        event = self._rig.file.events.get(notice.condition.event)
        named = [t for t in self._people if event is not None and t.name in event.notify]
        return [t for t in named or self._people if t.entry.min_severity == "advise" or notice.condition.weight == "fail"]

    def close(self, wait: float = 3.0) -> int:
        """Tells what is left within ``wait`` s; how much could not be told."""
        end = time.monotonic() + wait
        for lane in self._lanes.values():
            lane.end()
        return sum(lane.left(end - time.monotonic()) for lane in self._lanes.values())


def _name(key: Key) -> str:
    return f"{key.kind} {key.name}"


def deliver(target: NotifyTarget, notice: Notice, rig: Rig, wall: float) -> None:
    """Tells one of one notice. Raises NotTold."""
    WAYS[target.entry.way](target, Notification(notice, mask.document(document(notice, rig.file.name)), rig, wall))


def _post(target: NotifyTarget, message: Notification) -> None:
    content = json.dumps(message.body, ensure_ascii=False).encode("utf-8", "replace")
    whole = httpx.URL(target.entry.webhook or "")
    host = whole.raw_host.decode("ascii")
    port = f":{whole.port}" if whole.port is not None else ""
    url = f"{whole.scheme}://{f'[{host}]' if ':' in host else host}{port}{whole.raw_path.decode('ascii')}"  # as it is sent, and signed
    fields: Mapping[str, str] = {"Content-Type": _KIND}
    if target.secret is not None:
        fields = httpsignature.signed_fields(
            "POST", url, content, _KIND, target.secret.reveal().encode(), int(message.wall), target.name
        )
    try:
        context = _context(target) if whole.scheme == "https" else None
        status = asyncio.run(_posted(url, content, {**fields, "User-Agent": "direkt"}, context))
    except (httpx.TimeoutException, TimeoutError):
        raise NotDelivered(f"the webhook does not answer within {_LIMIT:g} s") from None
    except (httpx.HTTPError, httpx.InvalidURL, ssl.SSLError) as error:
        raise NotDelivered(f"the webhook cannot be reached: {_said(error)}") from None
    if not 200 <= status < 300:
        raise NotDelivered(f"the webhook answers with HTTP status {status}")


async def _posted(url: str, content: bytes, headers: Mapping[str, str], context: ssl.SSLContext | None) -> int:
    """The answer's status. asyncio alone can end a wait as a whole: headers may drip."""
    async with (
        asyncio.timeout(_LIMIT),
        httpx.AsyncClient(timeout=_LIMIT, trust_env=False, verify=context or False) as client,
        client.stream("POST", url, content=content, headers=dict(headers)) as answer,
    ):
        return answer.status_code


def _context(target: NotifyTarget) -> ssl.SSLContext:
    context = ssl.create_default_context()
    if target.entry.certificate == "any":
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
    return context


def _mail(target: NotifyTarget, what: Notification) -> None:
    notice, body = what.notice, what.body
    entry = target.entry
    parts = urlsplit(entry.server or "")
    host, tls = parts.hostname or "", parts.scheme == "smtps"
    message = email.message.EmailMessage(email.policy.SMTP)
    c = notice.condition
    message["From"], message["To"] = entry.sender, ", ".join(entry.mail)
    message["Subject"] = " ".join(
        printable(mask.own(f"{'[well] ' if notice.phase == 'well' else '[!] '}{line(notice)}")).split()
    )[:200]
    message["Date"], message["Message-ID"] = (
        email.utils.formatdate(notice.at),
        email.utils.make_msgid(domain="direkt.invalid"),
    )
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834
    words = [line(notice), "", f"Since: {body['since']}", f"Rig: {body['rig']}"]
    words += [f"Event: {c.event}"] if c.event else []
    words += [f"Next: {c.advice}"] if c.advice and notice.phase != "well" else []
    message.set_content("\n".join(printable(mask.own(w)) for w in words) + "\n")
    late = threading.Event()
    try:
        server: smtplib.SMTP
        if tls:
            server = smtplib.SMTP_SSL(host, parts.port or 465, timeout=_LIMIT, context=_context(target))
        else:
            server = smtplib.SMTP(host, parts.port or 587, timeout=_LIMIT)
        with _within(server, late), server:
            if not tls:
                server.starttls(context=_context(target))
            if target.login is not None:
                server.login(target.login[0], target.login[1].reveal())
            server.send_message(message)
    except smtplib.SMTPNotSupportedError as error:
        raise NotDelivered(f"the mail server does not do what it must: {_said(error)}") from None
    except smtplib.SMTPAuthenticationError as error:
        raise NotDelivered(f"the mail server refuses the login (status {error.smtp_code})") from None
    except smtplib.SMTPResponseException as error:
        raise NotDelivered(f"the mail server refuses the mail: {error.smtp_code} {_bytes(error.smtp_error)}") from None
    except smtplib.SMTPException as error:
        if late.is_set():
            raise NotDelivered(f"the mail server takes longer than {_LIMIT:g} s") from None
        raise NotDelivered(f"the mail server fails: {_said(error)}") from None
    except ssl.SSLError as error:
        raise NotDelivered(f"no TLS with the mail server: {tls_words(error)}") from None
    except (OSError, ValueError) as error:
        if late.is_set():
            raise NotDelivered(f"the mail server takes longer than {_LIMIT:g} s") from None
        raise NotDelivered(
            f"the mail server cannot be reached: {os_words(error) if isinstance(error, OSError) else error}"
        ) from None


@contextlib.contextmanager
def _within(server: smtplib.SMTP, late: threading.Event) -> Iterator[None]:
    """A conversation has a limit as a whole: a server may answer byte by byte."""

    def end() -> None:
        late.set()
        connection = server.sock
        if connection is not None:
            with contextlib.suppress(OSError):
                connection.shutdown(socket.SHUT_RDWR)

    timer = threading.Timer(_LIMIT, end)
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()


def _said(error: Exception) -> str:
    return without(printable(str(error))[:200])


def _bytes(words: bytes | str) -> str:
    return without(printable(words.decode("utf-8", "replace") if isinstance(words, bytes) else words)[:200])


def _command(target: NotifyTarget, message: Notification) -> None:
    body, rig = message.body, message.rig
    words = shlex.split(target.entry.command or "")
    try:
        running = subprocess.Popen(
            words, cwd=rig.folder, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
        )  # fmt: skip
    except (OSError, ValueError, IndexError) as error:
        raise NotDelivered(
            f"its command cannot be started: {os_words(error) if isinstance(error, OSError) else error}"
        ) from None
    try:
        running.communicate(json.dumps(body, ensure_ascii=False).encode() + b"\n", _LIMIT)
    except subprocess.TimeoutExpired:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(running.pid, signal.SIGKILL)
        running.communicate()
        raise NotDelivered(f"its command takes longer than {_LIMIT:g} s") from None
    if running.returncode:
        raise NotDelivered(f"its command fails with exit code {running.returncode}")


WAYS: Mapping[Way, Callable[[NotifyTarget, Notification], None]] = {"webhook": _post, "mail": _mail, "command": _command}
