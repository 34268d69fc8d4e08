"""Single values of a rig: lengths of time, dates, zones, repeat rules, delays, templates, references, mail addresses."""

from __future__ import annotations

import datetime
import re
from typing import Annotated
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from direkt.destination import references
from direkt.documents import checked
from direkt.rig import templates

_LENGTH = re.compile(r"(?:(\d{1,4})\s*h)?\s*(?:(\d{1,5})\s*(?:min|m))?\s*(?:(\d{1,6})\s*s)?")
_LONGEST = 31 * 86400  # s
_RULE = re.compile(r"[A-Z]+=[A-Z0-9,+\-]+(;[A-Z]+=[A-Z0-9,+\-]+)*")
_FREQUENCIES = ("DAILY", "WEEKLY", "MONTHLY", "YEARLY")


def length_of(text: str) -> float:
    """A length of time such as 3h, 1h 30m or 45m in s. Raises ValueError."""
    match = _LENGTH.fullmatch(text.strip())
    hours, minutes, seconds = (int(part or 0) for part in match.groups()) if match is not None else (0, 0, 0)
    total = hours * 3600 + minutes * 60 + seconds
    if not 0 < total <= _LONGEST:
        raise ValueError(f"expected a length of time like 3h or 1h 30m, got {text!r}")
    return float(total)


def local_time(text: str) -> datetime.datetime:
    """A local date and time. Raises ValueError."""
    try:
        moment = datetime.datetime.fromisoformat(text)
    except ValueError:
        raise ValueError(f"expected date and time like 2026-07-03 09:00, got {text!r}") from None
    if moment.tzinfo is not None:
        raise ValueError(f"expected local date and time without an offset, got {text!r}; write the zone under 'zone'")
    return moment.replace(microsecond=0)


def zone_of(name: str) -> ZoneInfo:
    """A zone of the IANA time zone database. Raises ValueError."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueError(f"no time zone {name!r}; expected one like Europe/Vienna or UTC") from None


def rule_parts(text: str) -> dict[str, str]:
    """A repeat rule's parts (RFC 5545, 3.3.10). Raises ValueError for one that is none, or that is not for events."""
    rule = text.strip().removeprefix("RRULE:").upper()
    if _RULE.fullmatch(rule) is None:
        raise ValueError(f"expected a repeat rule like FREQ=WEEKLY;COUNT=4 (RFC 5545), got {text!r}")
    pairs = [(name, value) for name, _, value in (part.partition("=") for part in rule.split(";"))]
    parts = dict(pairs)
    if len(parts) != len(pairs):
        raise ValueError("the repeat rule names a part twice")
    if parts.get("FREQ") not in _FREQUENCIES:
        raise ValueError(f"repeat: FREQ is {parts.get('FREQ', 'missing')}; expected {', '.join(_FREQUENCIES)}")
    if "COUNT" in parts and "UNTIL" in parts:
        raise ValueError("repeat: COUNT and UNTIL exclude each other")
    from dateutil.rrule import rrulestr

    kept = ";".join(f"{name}={value}" for name, value in pairs if name not in ("COUNT", "UNTIL"))
    try:
        rrulestr(kept, dtstart=datetime.datetime(2026, 1, 1))
        count, until = parts.get("COUNT", "1"), parts.get("UNTIL", "20260101")
        if not count.isdigit() or not int(count) or re.fullmatch(r"\d{8}(T\d{6}Z?)?", until) is None:
            raise ValueError(f"COUNT is {count}" if "COUNT" in parts else f"UNTIL is {until}")
    except (ValueError, TypeError, KeyError, IndexError, AttributeError) as error:
        raise ValueError(f"the repeat rule {text!r} cannot be followed: {error}") from None
    return parts


_DELAYS = ("usual", "short", "shortest")
_AT_MOST = re.compile(r"(?:at most\s+)?(\d{1,4}(?:\.\d)?)\s*s")


def delay_of(text: str) -> str | float:
    """A delay as one of our words, or as s that viewers may be behind at the most. Raises ValueError."""
    match = _AT_MOST.fullmatch(text.strip().lower())
    if match is not None and float(match[1]) > 0:
        return float(match[1])
    if text not in _DELAYS:
        raise ValueError(f"expected {', '.join(_DELAYS)}, or a figure like 'at most 6 s', got {text!r}")
    return text


def date_of(text: str) -> datetime.date:
    """A date. Raises ValueError."""
    try:
        return datetime.date.fromisoformat(text)
    except ValueError:
        raise ValueError(f"expected a date like 2026-07-04, got {text!r}") from None


_MAIL = re.compile(r"[^\s@<>,;]+@[^\s@<>,;]+")


def mail_address(text: str) -> str:
    """A mail address (RFC 5322, 3.4.1, without comments and quotes). Raises ValueError."""
    if _MAIL.fullmatch(text) is None:
        raise ValueError(f"expected a mail address like crew@regatta.example, got {text!r}")
    return text


# Annotated types: a text that stays as it is written, where it can be read

Length = Annotated[str, checked(length_of)]
LocalTime = Annotated[str, checked(local_time)]
Zone = Annotated[str, checked(zone_of)]
Repeat = Annotated[str, checked(rule_parts)]
DelayText = Annotated[str, checked(delay_of)]
DateText = Annotated[str, checked(date_of)]
Template = Annotated[str, checked(templates.check)]
Reference = Annotated[str, checked(references.parse_ref)]
MailAddress = Annotated[str, checked(mail_address)]
