"""What a rig says of watching and of the clock: what follows a drop, who is notified of what, and when something begins by itself."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import ClassVar, Literal, get_args
from urllib.parse import urlsplit

from pydantic import Field, field_validator, model_validator

from direkt.documents import Strict
from direkt.rig.values import Length, MailAddress, Reference

_WINDOW = re.compile(r"([01]\d|2[0-3]):([0-5]\d)-([01]\d|2[0-3]):([0-5]\d)")
Day = Literal["MO", "TU", "WE", "TH", "FR", "SA", "SU"]  # as RFC 5545 has them
DAYS: tuple[Day, ...] = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
Way = Literal["webhook", "mail", "command"]  # of notifying; what each does: watch/notify.py, WAYS


class RecoverEntry(Strict):
    """How a feed recovers from a drop: the push is started again, then the device, each at most so often."""

    push: int = Field(default=3, ge=0, le=100)  # times
    device: int = Field(default=0, ge=0, le=20)  # times; 0: a device is never restarted by itself
    within: Length = "30m"  # the time in which these are counted
    pause: Length = "5s"  # before the first try; each further one is twice as long


class NotifyEntry(Strict):
    """One who is notified: by a webhook, by mail, or by a command. Each state once, again as a reminder, and when it is over."""

    webhook: str | None = None  # https://host/path
    secret: Reference | None = None  # reference to what the webhook's requests are signed with
    mail: list[MailAddress] = []
    server: str | None = None  # smtps://host or smtp://host, which has to offer STARTTLS
    login: Reference | None = None  # reference to user:password of the mail server
    sender: MailAddress | None = None
    command: str | None = None  # words; it gets the notice as JSON on its standard input
    remind: Length = "15m"  # a state that goes on is told again after this long
    min_severity: Literal["advise", "fail"] = "advise"  # of the states that are notified
    RENAMED: ClassVar[Mapping[str, str]] = {"least": "min_severity"}
    certificate: Literal["checked", "any"] = "checked"  # of the webhook or the mail server

    @field_validator("webhook")
    @classmethod
    def _webhook(cls, value: str | None) -> str | None:
        return value if value is None else _url(value, ("https", "http"), "https://hooks.example/direkt", path=True)

    @field_validator("server")
    @classmethod
    def _server(cls, value: str | None) -> str | None:
        return value if value is None else _url(value, ("smtps", "smtp"), "smtps://mail.example", path=False)

    @property
    def way(self) -> Way:
        """How."""
        return next(name for name in get_args(Way) if getattr(self, name))

    @model_validator(mode="after")
    def _whole(self) -> NotifyEntry:
        if sum(bool(getattr(self, name)) for name in get_args(Way)) != 1:
            *most, last = get_args(Way)
            raise ValueError(f"expected one of {', '.join(most)} and {last}")
        if self.mail and (self.server is None or self.sender is None):
            raise ValueError("mail needs a server (smtps://mail.example) and a sender")
        return self


def _url(value: str, schemes: tuple[str, ...], example: str, *, path: bool) -> str:
    try:
        parts = urlsplit(value)
        good = parts.scheme in schemes and bool(parts.hostname) and parts.port != 0
    except ValueError:
        good = False
    if not good or value != value.strip() or value.count("://") != 1 or parts.fragment:
        raise ValueError(f"expected an address like {example}, got {value!r}")
    if not path and (parts.path.strip("/") or parts.query):
        raise ValueError(f"expected an address like {example}, got {value!r}")
    if "@" in parts.netloc:
        raise ValueError("the address holds a login; put a reference beside it")
    return value.rstrip("/") if not path else value


class WatchEntry(Strict):
    """What the watch does and warns of."""

    recover: RecoverEntry = RecoverEntry()
    notify: dict[str, NotifyEntry] = {}
    RENAMED: ClassVar[Mapping[str, str]] = {"mend": "recover", "tell": "notify"}
    hot: float = Field(default=75, gt=0, le=150)  # degrees Celsius of a device
    disk_gb: float = Field(default=2, ge=0)  # free on this machine's disk, at the least
    session: Length = "30m"  # before a platform's limit ends a push
    certificate_days: float = Field(default=14, ge=0)  # before a server's certificate ends


class ScheduleEntry(Strict):
    """Something that begins and ends by the clock: an event, or the push of a feed."""

    event: str | None = None
    before: Length = "10m"  # so long before an event's start its order begins
    feed: str | None = None
    window: str | None = None  # of each day, in local time: 06:00-21:00; it may pass midnight
    days: list[Day] = list(DAYS)  # on which a window begins
    always: bool = False

    @field_validator("window")
    @classmethod
    def _window(cls, value: str | None) -> str | None:
        if value is not None:
            match = _WINDOW.fullmatch(value)
            if match is None or match.group(1, 2) == match.group(3, 4):
                raise ValueError(f"expected a window like 06:00-21:00, got {value!r}")
        return value

    @model_validator(mode="after")
    def _whole(self) -> ScheduleEntry:
        if (self.event is None) == (self.feed is None):
            raise ValueError("expected an event or a feed")
        if self.event is not None and (self.window is not None or self.always):
            raise ValueError("an event has its own times: window and always go with a feed")
        if self.feed is not None and (self.window is not None) == self.always:
            raise ValueError("a feed needs a window (06:00-21:00) or 'always: true'")
        if not self.days:
            raise ValueError("days: none is left")
        return self
