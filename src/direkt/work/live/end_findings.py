"""What the end tells: one thing that was on or may be, and what is known of it now, from whoever could know."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from direkt.platform.event import InputGap
from direkt.work.live.event_at_platforms import Did, PersonStep


class What(StrEnum):
    """What may be on."""

    PUSH = "push"
    CARRIED = "carried"
    INGEST = "ingest"
    KEY = "key"
    EVENT = "event"
    PERSON = "by hand"
    ACCOUNT = "account"


class Proof(StrEnum):
    """What is known."""

    OFF = "off"  # somebody who could know says so
    ON = "on"  # somebody who could know says that it is on
    SILENT = "no answer"  # who could know does not answer, or fails
    UNKNOWN = "not known"  # nothing shows that it is on, and nobody could be asked


@dataclass(frozen=True, slots=True)
class Off:
    """One thing, and what is known of it."""

    what: What
    name: str
    proof: Proof
    text: str  # whose word it is, and what they say
    advice: str = ""
    note: bool = False  # only to be known: it is not this rig's
    said: bool = False  # nobody but a person could know, and it is their word

    @property
    def proven(self) -> bool:
        """Whether it is off for certain."""
        return self.proof is Proof.OFF


@dataclass(frozen=True, slots=True)
class Dropped:
    """A time on air in which an ingest had nothing; told once, before the event is closed."""

    destination: str
    title: str
    role: str
    gap: InputGap


@dataclass(frozen=True, slots=True)
class Round:
    """Something is not off yet: it is tried again."""

    left: tuple[str, ...]
    seconds: float  # that are left for it


EndEvent = Off | Dropped | Round | PersonStep | Did


@dataclass(frozen=True, slots=True)
class Stopped:
    """The result."""

    items: tuple[Off, ...]
    interrupted: bool = False

    @property
    def left(self) -> tuple[Off, ...]:
        """What is not proven to be off."""
        return tuple(item for item in self.items if not item.proven)

    @property
    def proven(self) -> bool:
        """Whether all is off, by somebody who could know."""
        return not self.interrupted and not self.left

    @property
    def words(self) -> str:
        """What may be said where nothing is left."""
        said = [item.name for item in self.items if item.said]
        if len(said) == len(self.items) and said:
            return f"all is off, on your word: {', '.join(said)}"
        return f"all is off: proven, and on your word: {', '.join(said)}" if said else "all is off, and proven"

    @property
    def only_unknown(self) -> bool:
        """Whether nothing shows that anything is on, though of some of it nobody could be asked."""
        return bool(self.left) and all(item.proof is Proof.UNKNOWN for item in self.left)
