"""What the claims of a table are gathered into, each with the words it came from."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from direkt.demand import JsonDemand
from direkt.destination.published.cells.statement import Statement
from direkt.destination.published.meaning.reading import Claim


@dataclass(frozen=True, slots=True)
class SaidClaim:
    """A claim with the statement that makes it."""

    statement: Statement
    claim: Claim

    @property
    def words(self) -> str:
        """The words that it came from, with the row's name."""
        text = self.statement.text
        part = text[self.claim.start : self.claim.end]
        whole = replace(self.statement, text=text if len(text) <= 80 or not part else f"… {part} …")
        return whole.words


@dataclass(frozen=True, slots=True)
class UnreadWords:
    """Words of the table that claim nothing."""

    line: int
    words: str
    why: str
    aside: bool = False  # it is not for a sheet: nothing is doubtful, nothing is lost


@dataclass(slots=True)
class DraftedRule:
    """What became of all claims on one parameter."""

    parts: dict[str, JsonDemand] = field(default_factory=dict)  # must, should, never
    same_as_source: bool = False
    origins: list[SaidClaim] = field(default_factory=list)


@dataclass(slots=True)
class LadderStep:
    """One step of a ladder: what it is for, and its bitrates in kbit/s."""

    head: dict[str, object]
    bitrate: dict[str, float] = field(default_factory=dict)
    origins: list[SaidClaim] = field(default_factory=list)


@dataclass(slots=True)
class Gathered:
    """Everything that a table says, as a sheet has it."""

    rules: dict[str, dict[str, DraftedRule]] = field(default_factory=dict)  # by latency mode; "": all
    ladder: list[LadderStep] = field(default_factory=list)
    audio_ladder: list[LadderStep] = field(default_factory=list)
    protocols: dict[tuple[str, int], tuple[dict[str, object], tuple[SaidClaim, ...]]] = field(default_factory=dict)  # with what is told of srt
    servers: dict[str, tuple[str, str, SaidClaim]] = field(default_factory=dict)  # with region and role
    facts: dict[str, tuple[object, SaidClaim]] = field(default_factory=dict)  # session and key
    contradicted: set[str] = field(default_factory=set)  # facts and modes of which two lines say different things
    modes: dict[str, tuple[str, SaidClaim]] = field(default_factory=dict)  # of latency: what viewers get
    behind: dict[str, tuple[dict[str, float], SaidClaim]] = field(default_factory=dict)  # by latency mode: s, min and max
    unread: list[UnreadWords] = field(default_factory=list)
    used: dict[int, list[tuple[int, int, str]]] = field(default_factory=dict)  # by statement: places and what they say
    refused: dict[int, list[tuple[int, int, str]]] = field(default_factory=dict)  # by statement: places, and why not

    @property
    def empty(self) -> bool:
        """Whether nothing at all was understood."""
        return not (
            any(self.rules.values())
            or self.ladder
            or self.audio_ladder
            or self.protocols
            or self.servers
            or self.facts
            or self.modes
            or self.behind
        )


def note(made: Gathered, one: SaidClaim, what: str) -> None:
    """Remembers of which words something was made."""
    made.used.setdefault(id(one.statement), []).append((one.claim.start, one.claim.end, what))


def reject(made: Gathered, ones: Iterable[SaidClaim], reason: str, *, aside: bool = False) -> None:
    """Lists words that claim nothing, with the reason; ``aside``: they are merely not for a sheet."""
    seen = set()
    for one in ones:
        words = one.words
        made.refused.setdefault(id(one.statement), []).append((one.claim.start, one.claim.end, reason))
        if (one.statement.line, words, reason) not in seen:
            seen.add((one.statement.line, words, reason))
            made.unread.append(UnreadWords(one.statement.line, words, reason, aside))
