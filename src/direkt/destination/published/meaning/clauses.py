"""The clause parser: a cell's tokens become items in clauses.

The tokens are walked once. Each figure or word of value becomes an item, and picks up the limit and the strength that
stand before or behind it, and the topic and the subject of its clause. A clause ends at a comma, a bracket, a full
stop, a new line, or a slash with a word of its own behind it. Words that are not understood stay with their clause.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import ClassVar

from direkt.destination.published.words.context import CellContext
from direkt.destination.published.words.tokens import NumberToken, Size, TextToken, scan
from direkt.destination.published.words.vocabulary import UnitWord, WordKind


@dataclass(slots=True)
class Item:
    """A figure, or a word that is a value, with what was said of it."""

    kind: WordKind  # NUMBER, SIZE, VALUE, RATIO, URL, SOURCE
    start: int
    end: int
    clause: int
    joined: str  # how it hangs on the item before: "", "or", "/", ",", "and", "(", "."
    numbers: list[NumberToken] = field(default_factory=list)  # two are a range
    sizes: list[Size] = field(default_factory=list)  # two are a range
    values: tuple[tuple[str, str], ...] = ()
    text: str = ""
    unit: UnitWord | None = None
    own_unit: bool = False
    limit: str = ""
    strength: str = ""
    approx: bool = False
    times: bool = False  # so many times the frame rate
    topic: str = ""
    subject: str = ""
    mode: str = ""
    used: bool = False
    spread: float = 0.0  # percent up and down
    both_ways: bool = False  # a plus-minus stands before it
    under: bool = False  # "for stereo": says for what the rest of its clause holds
    ahead: bool = False  # its limit or strength stood before it


@dataclass(slots=True)
class Clause:
    """Words between two signs that set them off."""

    start: int
    end: int
    after: str = ""  # what set it off from the one before
    parent: int = -1
    odd: list[TextToken] = field(default_factory=list)
    conditional: bool = False
    words: int = 0
    topics: list[TextToken] = field(default_factory=list)
    subjects: list[TextToken] = field(default_factory=list)
    mode: str = ""
    denied: bool = False  # a "not" stands in it
    first: TextToken | None = None


_UNDER = re.compile(r"\b(?:for|für|pour|para|per|bei|voor|when using|when|if|using)\s+(?:the\s+|die\s+|le\s+)?$")
_SHOULD_BE = re.compile(r"should(?: be)?|ought to be|sollte[n]?|devrai(?:t|ent)(?: être)?|debería[n]?|dovrebbe(?:ro)?")
_FROM = re.compile(r"\b(?:from|von|ab|de|desde|da|dal?|entre|between)\s+$")
_UP_TO = re.compile(r"up to|upto|bis zu|jusqu'?\W?à|hasta|fino a")
_NOR = re.compile(r"\b(?:not|never|neither|no)(?: be)? (?:above|over|below|under|more than|less than|higher than|lower than|greater than)\b[^.;:\n]*\b(?:or|nor) (?:above|over|below|under|more than|less than|higher than|lower than|greater than)$")
PREPOSITIONS = frozenset(
    [
        "for",
        "on",
        "in",
        "with",
        "at",
        "during",
        "by",
        "from",
        "when",
        "if",
        "für",
        "bei",
        "pour",
        "para",
        "per",
        "only",
        "during",
        "under",
    ]
)


class Walk:
    """Tokens to items and clauses."""

    def __init__(self, text: str, context: CellContext) -> None:
        """Walks over ``text`` at once."""
        self.text, self.context = text, context
        self.items: list[Item] = []
        self.clauses: list[Clause] = [Clause(0, 0)]
        self.stack: list[int] = []
        self.now = 0
        self.joined = ""
        self.limit = self.strength = ""
        self.waiting_clause = -1  # of the limit or strength that waits for an item
        self.approx = False
        self.between = self.spread = False
        self.colon_topic = ""
        self.colon_strength = ""
        self.last_subject = ""
        self.sentence = 0  # its first clause
        self.or_waits = False
        self.wished = -1  # the sentence whose list begins with "should be"
        self.tokens = scan(text)
        self._run(self.tokens)

    @property
    def clause(self) -> Clause:
        return self.clauses[self.now]

    def _run(self, tokens: Sequence[TextToken]) -> None:
        n = 0
        while n < len(tokens):
            n = self._take(tokens, n)
        self._settle()
        self._assign_topics()

    def _next_clause(self, token: TextToken, after: str) -> None:
        self._settle(hard=after == ".")
        self.clauses.append(Clause(token.end, token.end, after))
        self.now = len(self.clauses) - 1
        self.joined = after
        self.between = False

    def _take(self, tokens: Sequence[TextToken], n: int) -> int:
        token = tokens[n]
        kind = token.kind
        follows = tokens[n + 1] if n + 1 < len(tokens) else None
        clause = self.clause
        if kind not in (WordKind.BREAK, WordKind.COMMA, WordKind.OPEN, WordKind.CLOSE):
            clause.end = token.end
            if not clause.words:
                clause.start, clause.first = token.start, token
            clause.words += 1
        if kind is WordKind.BREAK and self._abbreviates(tokens, n):
            return n + 1
        if kind is WordKind.DASH and token.spaced and (follows is None or follows.spaced):
            kind = WordKind.COMMA
        if (sets_off := self._SIGNS.get(kind)) is not None:
            sets_off(self, token, follows)
        elif token.value == "±":
            self.spread = True
        elif kind is WordKind.NUMBER:
            return self._number(tokens, n)
        elif kind is WordKind.SIZE:
            return self._size(tokens, n)
        elif kind in (WordKind.RATIO, WordKind.URL, WordKind.SOURCE):
            self._add(Item(kind, token.start, token.end, self.now, self.joined, text=str(token.value or "")))
        elif token.meaning is not None and token.meaning.only and (found := self._here(token)):
            self._value(token, found)
        elif (says := self._SAYS.get(kind)) is not None:
            says(self, token)
        else:
            self._word(token)
        return n + 1

    # Signs that set off or join

    def _break(self, token: TextToken, follows: TextToken | None) -> None:
        self.stack.clear()
        self._next_clause(token, ".")
        self.sentence, self.or_waits = self.now, False
        self.colon_topic = self.colon_strength = ""

    def _comma(self, token: TextToken, follows: TextToken | None) -> None:
        self._next_clause(token, ",")

    def _open(self, token: TextToken, follows: TextToken | None) -> None:
        self.stack.append(self.now)
        parent = self.now
        self._next_clause(token, "(")
        self.clause.parent = parent

    def _close(self, token: TextToken, follows: TextToken | None) -> None:
        self._settle()
        if self.stack:
            self.now = self.stack.pop()
            self.clause.end = token.end
        self.joined = ""

    def _slash(self, token: TextToken, follows: TextToken | None) -> None:
        if follows is not None and follows.kind in (WordKind.LIMIT, WordKind.STRENGTH, WordKind.TOPIC, WordKind.SUBJECT):
            self._next_clause(token, ",")
        else:
            self._settle(joiner=True)  # "6 Mbps recommended / 8 Mbps maximum": a slash joins as "or" does
            self.joined = "/"

    def _join(self, token: TextToken, follows: TextToken | None) -> None:
        self._settle(joiner=True)
        self.or_waits = token.kind is WordKind.OR
        self.joined = "or" if token.kind is WordKind.OR else "and"

    # Words that say something of the items around them

    def _limit(self, token: TextToken) -> None:
        self.limit = {"max": "min", "min": "max"}[str(token.value)] if self._turned(token) else str(token.value)
        self.waiting_clause = self.now

    def _mode(self, token: TextToken) -> None:
        self.clause.mode = str(token.value)

    def _approx(self, token: TextToken) -> None:
        self.approx = True

    def _if(self, token: TextToken) -> None:
        self.clause.conditional = True
        self.clause.odd.append(token)

    def _topic(self, token: TextToken) -> None:
        self.clause.topics.append(token)

    def _subject(self, token: TextToken) -> None:
        self.clause.subjects.append(token)
        self.last_subject = str(token.value)

    def _abbreviates(self, tokens: Sequence[TextToken], n: int) -> bool:
        """Whether a full stop ends a short word that nobody knows, in front of a figure: it may say what the figure is."""
        if n == 0 or n + 1 >= len(tokens) or self.text[tokens[n].start : tokens[n].end] != ".":
            return False
        before = tokens[n - 1]
        return before.kind is WordKind.WORD and before.end == tokens[n].start and before.end - before.start <= 6 and tokens[n + 1].kind is WordKind.NUMBER

    def _turned(self, token: TextToken) -> bool:
        """Whether a "not" in front of another limit is of this one as well: "not above 4 s or below 1 s"."""
        return token.value in ("max", "min") and _NOR.search(self.text[: token.end].lower()) is not None

    def _word(self, token: TextToken) -> None:
        """A word that may be a value here, or a filler, or is not known."""
        found = self._here(token)
        if found:
            self._value(token, found)
        elif self.text[token.start : token.end].lower() in ("hd", "sd", "uhd") and self._beside_size(token):
            pass  # a name for the size that stands beside it
        elif token.kind is WordKind.VALUE and isinstance(token.value, tuple):
            self._value(token, token.value)
        elif isinstance(token.value, UnitWord) and self._unit_behind(token):
            pass
        elif isinstance(token.value, UnitWord) and token.value.measures in ("frames", "channels", "px", "bits", "rate"):
            pass  # a word such as "frame" that stands by itself
        elif token.kind is WordKind.FILLER or (token.kind is WordKind.COLUMN and token.value != "note"):
            if self.text[token.start : token.end].lower() in ("between", "entre", "zwischen", "tra"):
                self.between = True
        elif token.kind in (WordKind.DASH, WordKind.TO, WordKind.TIMES) or (
            token.kind is WordKind.ROLE and (token.value == "primary" or "server" in self.context.topics)
        ):
            pass
        else:
            self.clause.odd.append(token)

    def _beside_size(self, token: TextToken) -> bool:
        following = [t for t in self.tokens if t.start >= token.end][:2]
        behind = following[0] if following else None
        if behind is not None and behind.kind is WordKind.OPEN and len(following) > 1:
            behind = following[1]
        if behind is not None and behind.kind is WordKind.SIZE:
            return True
        return bool(self.items) and self.items[-1].kind is WordKind.SIZE and token.start - self.items[-1].end <= 2

    def _unit_behind(self, token: TextToken) -> bool:
        """A unit in a bracket of its own is that of the number before: "2 (seconds)"."""
        last = self.items[-1] if self.items else None
        if last is None or last.kind is not WordKind.NUMBER or last.unit is not None or self.clause.parent != last.clause:
            return False
        last.unit, last.own_unit = token.value, True  # type: ignore[assignment]
        return True

    def _here(self, token: TextToken) -> tuple[tuple[str, str], ...]:
        """What a word means only where the row or the clause speaks of a parameter."""
        if token.meaning is None or not token.meaning.only:
            return ()
        near = {str(t.value) for t in self.clause.topics} | set(self.context.topics) | {self.colon_topic}
        near |= {"video.frame_rate" for item in self.items if item.unit is not None and item.unit.measures == "rate"}
        near |= {f"{name}" for item in self.items if item.clause == self.now for name, _ in item.values}
        if "video.codec" in near or any(name == "video.codec" for item in self.items for name, _ in item.values):
            near |= {"video.profile"}
        if self.context.subject == "audio" or self.last_subject == "audio" or self._audio_before():
            near.add("audio.")
        for where, values in token.meaning.only:
            if any(name == where or (where.endswith(".") and name.startswith(where)) for name in near):
                return values
        return ()

    def _audio_before(self) -> bool:
        return any(name.startswith("audio.") for item in self.items for name, _ in item.values)

    def _value(self, token: TextToken, values: tuple[tuple[str, str], ...]) -> None:
        under = _UNDER.search(self.text[max(0, token.start - 12) : token.start].lower()) is not None
        self._add(Item(WordKind.VALUE, token.start, token.end, self.now, self.joined, values=values, under=under))

    def _number(self, tokens: Sequence[TextToken], n: int) -> int:
        token = tokens[n]
        assert isinstance(token.value, NumberToken)
        item = Item(WordKind.NUMBER, token.start, token.end, self.now, self.joined, numbers=[token.value])
        n = self._unit(tokens, n + 1, item)
        if item.unit is not None and item.unit.measures == "time" and re.search(r"(?<!\d)1\s*[/⁄]\s*\d*$", self.text[: tokens[n - 2].end if n > 1 else 0]):
            self.clause.odd.append(token)  # "1/2 s" is a half, or one or two
        if self.spread:
            self.spread = False
            if (
                self.items
                and self.items[-1].kind is WordKind.NUMBER
                and item.unit is not None
                and item.unit.measures == "percent"
            ):
                self.items[-1].spread = token.value.plain or 0.0
                self.clause.end = max(self.clause.end, item.end)
                return n
            if item.unit is not None and item.unit.measures == "time":
                item.both_ways = True
            else:
                self.clause.odd.append(token)
        upto = n
        if upto < len(tokens) and tokens[upto].value == "max" and _FROM.search(self.text[: token.start].lower()) and _UP_TO.fullmatch(self.text[tokens[upto].start : tokens[upto].end].lower()):
            tokens = [*tokens[:upto], replace(tokens[upto], kind=WordKind.TO), *tokens[upto + 1 :]]  # "from 2500 up to 5000"
        if upto < len(tokens) and tokens[upto].kind in (WordKind.DASH, WordKind.TO, WordKind.AND):
            link = tokens[upto]
            beyond = tokens[upto + 1] if upto + 1 < len(tokens) else None
            if (
                beyond is not None
                and beyond.kind is WordKind.NUMBER
                and (link.kind is not WordKind.AND or self.between)
                and isinstance(beyond.value, NumberToken)
            ):
                item.numbers.append(beyond.value)
                item.end = beyond.end
                first, item.unit = item.unit, None
                n = self._unit(tokens, upto + 2, item)
                item.unit = item.unit or first
                if first is not None and item.unit != first:
                    item.text = f"{first.factor / item.unit.factor if item.unit else 1}"  # the first end's own unit
                self.between = False
        if n < len(tokens) and tokens[n].kind is WordKind.TIMES:
            following = tokens[n + 1 : n + 4]
            if any(t.kind is WordKind.TOPIC and t.value == "video.frame_rate" for t in following):
                item.times = True
                n += 1 + next(i for i, t in enumerate(following) if t.kind is WordKind.TOPIC) + 1
                item.end = tokens[n - 1].end
        self.clause.end = max(self.clause.end, item.end)
        self._add(item)
        return n

    def _unit(self, tokens: Sequence[TextToken], n: int, item: Item) -> int:
        """A unit behind a number, with nothing or a hyphen between."""
        at = n + 1 if n + 1 < len(tokens) and tokens[n].kind is WordKind.DASH and not tokens[n].spaced else n
        if at < len(tokens) and tokens[at].kind is WordKind.UNIT and isinstance(tokens[at].value, UnitWord):
            item.unit, item.own_unit, item.end = tokens[at].value, True, tokens[at].end  # type: ignore[assignment]
            return at + 1
        return n

    def _size(self, tokens: Sequence[TextToken], n: int) -> int:
        token = tokens[n]
        assert isinstance(token.value, Size)
        item = Item(WordKind.SIZE, token.start, token.end, self.now, self.joined, sizes=[token.value])
        if n + 2 < len(tokens) and tokens[n + 1].kind in (WordKind.DASH, WordKind.TO) and isinstance(tokens[n + 2].value, Size):
            item.sizes.append(tokens[n + 2].value)  # type: ignore[arg-type]
            item.end = tokens[n + 2].end
            n += 2
        elif n + 2 < len(tokens) and tokens[n + 1].kind is WordKind.OPEN and isinstance(tokens[n + 2].value, Size):
            other: Size = tokens[n + 2].value  # type: ignore[assignment]
            same = (other.width, other.height) == (token.value.width, token.value.height)
            if (
                (same or token.value.only_height or token.value.height == other.height)
                and n + 3 < len(tokens)
                and tokens[n + 3].kind is WordKind.CLOSE
            ):
                item.sizes = [
                    replace(other, scan=other.scan or token.value.scan, rates=other.rates or token.value.rates)
                ]
                item.end = tokens[n + 3].end
                n += 3
        self.clause.end = max(self.clause.end, item.end)
        self._add(item)
        return n + 1

    def _strength(self, token: TextToken) -> None:
        if _SHOULD_BE.fullmatch(self.text[token.start : token.end].lower()):
            self.wished = self.sentence
        self.strength = "not" if self.strength == "not" else str(token.value)
        self.clause.denied |= self.strength == "not"
        self.waiting_clause = self.now

    def _add(self, item: Item) -> None:
        if self.waiting_clause >= 0 or self.colon_strength:
            item.limit = self.limit
            item.strength = self.strength or self.colon_strength
            item.ahead = True
            self.limit = self.strength = ""
            self.waiting_clause = -1
        item.approx, self.approx = self.approx, False
        before = self.items[-1] if self.items else None
        if (
            before is not None and item.joined in ("or", "/", "and", ",")
            and not (item.limit or item.strength) and before.strength and before.ahead and not before.limit and self._alike(before, item)
            and before.clause == item.clause
        ):  # "preferably 48 or 44.1 kHz"  # fmt: skip
            item.strength = before.strength
        if not (item.limit or item.strength) and self.wished == self.sentence and item.joined in ("or", "/", "and", ","):
            item.strength = "should"  # "should be AAC, stereo, 48 kHz"
        self._denied_too(item)
        self.items.append(item)
        self.joined, self.or_waits = "", False

    def _denied_too(self, item: Item) -> None:
        """What follows a "not" in its sentence may be meant by it: for certain where an "or" ends the list."""
        sentence = [i for i in self.items if i.clause >= self.sentence]
        first = next((i for i in sentence if i.strength == "not" and i.ahead), None)
        if (
            first is None
            or item.strength
            or item.limit
            or self.clauses[item.clause].parent != self.clauses[first.clause].parent
        ):
            return
        rest = sentence[sentence.index(first) + 1 :]
        if item.joined in ("or", "and") or self.or_waits:
            item.strength = "not"
            for other in rest:
                other.strength = "not" if other.strength == "not?" else other.strength
        else:
            item.strength = "not?"

    @staticmethod
    def _alike(a: Item, b: Item) -> bool:
        return a.kind is b.kind and {name for name, _ in a.values} == {name for name, _ in b.values}

    def _colon(self, token: TextToken, follows: TextToken | None) -> None:
        clause = self.clause
        if any(item.clause == self.now for item in self.items):
            return
        if clause.topics:
            self.colon_topic = str(clause.topics[-1].value)
        if self.strength and not self.limit:
            self.colon_strength = self.strength

    def _settle(self, *, hard: bool = False, joiner: bool = False) -> None:
        """Gives the limit or strength that waits to the item before, where no item follows in its clause."""
        if self.waiting_clause < 0 or not (self.limit or self.strength):
            return
        own = [item for item in self.items if item.clause == self.waiting_clause]
        lone = self.clauses[self.waiting_clause]
        if own:
            last = own[-1]
            if last.limit and self.limit and last.limit != self.limit:
                return
            group = [last]
            for item in reversed(own[:-1]):  # "48 kHz or 44.1 kHz recommended" speaks of both
                if (
                    group[-1].joined in ("or", "/", "and")
                    and self._alike(item, group[-1])
                    and not (item.limit or item.strength)
                ):
                    group.append(item)
                else:
                    break
            if self.limit and len(group) > 1 and last.kind is not WordKind.VALUE:
                group = group[:1] if last.own_unit and group[1].own_unit else group
            if self.strength == "not":
                self._denied_before(group)
            for item in group:
                item.limit = item.limit or self.limit
                item.strength = item.strength.replace("not?", "") or self.strength
        elif self.items and lone.after in ("(", ",", ".") and not lone.odd and not joiner and self._behind():
            last = self.items[-1]
            last.limit = last.limit or self.limit
            last.strength = last.strength.replace("not?", "") or self.strength
        elif self.strength == "not" and not joiner and lone.words == 1:
            pass  # "No, progressive only": an answer
        elif joiner or not hard:
            return  # it waits on
        self.limit = self.strength = ""
        self.waiting_clause = -1

    def _denied_before(self, group: list[Item]) -> None:
        """A "not" behind a list is of all of it, where an "and" or "or" ends the list: "A, B and C not accepted"; else it may be."""
        ends = len(group) > 1 and any(item.joined in ("or", "and") for item in group[:-1])
        at = self.items.index(group[-1])
        parent = self.clauses[group[-1].clause].parent
        while at > 0 and self.items[at].joined == ",":
            at -= 1
            before = self.items[at]
            clause = self.clauses[before.clause]
            alone = not (clause.topics or clause.odd) and sum(item.clause == before.clause for item in self.items) == 1
            if not alone or (clause.parent != parent and before.joined != "(") or before.limit or before.strength not in ("", "not?") or not self._alike(before, group[-1]):
                return
            before.strength = "not" if ends else "not?"

    def _behind(self) -> bool:
        """Whether what waits stands right behind the item before: "(recommended)", ", max."."""
        last = self.items[-1]
        lone = self.clauses[self.waiting_clause]
        return (
            not (lone.topics or lone.subjects) and last.end <= lone.start + 1 and not (last.strength and self.strength)
        )

    def _last_before(self, clause: Clause) -> Item | None:
        return next((i for i in reversed(self.items) if i.clause == clause.parent and i.end <= clause.start), None)

    def _assign_topics(self) -> None:
        running_topic = running_subject = ""
        for number, clause in enumerate(self.clauses):
            own = [item for item in self.items if item.clause == number]
            if clause.after == ".":
                running_topic = ""
            for item in own:
                before = [t for t in clause.topics if t.start < item.start]
                behind = [t for t in clause.topics if t.start > item.start]
                near = before[-1] if before else behind[0] if behind else None
                item.topic = str(near.value) if near else running_topic
                subjects = [t for t in clause.subjects if t.start < item.start] or clause.subjects
                item.subject = str(subjects[-1].value) if subjects else running_subject
                item.mode = clause.mode
            if (clause.topics and not own) or (
                clause.topics
                and own
                and self.text[clause.topics[-1].end : own[-1].start].strip().startswith((":", "="))
            ):
                running_topic = str(clause.topics[-1].value)
            if clause.parent >= 0 and clause.mode and not own:  # "0 (required for low latency)"
                last = self._last_before(clause)
                if last is not None:
                    last.mode = clause.mode
            if clause.parent >= 0 and clause.topics and not own and not clause.odd:  # "8 Mbps (video plus audio)"
                last = self._last_before(clause)
                if last is not None and not last.topic:
                    last.topic = str(clause.topics[-1].value)
                continue
            if clause.parent >= 0 and clause.subjects and not own:  # "6 Mbps (video)"
                last = self._last_before(clause)
                if last is not None:
                    last.subject = str(clause.subjects[-1].value)
                continue
            if clause.subjects:
                running_subject = str(clause.subjects[-1].value)
            if clause.parent >= 0 and not clause.topics:
                parents = self.clauses[clause.parent]
                for item in own:
                    item.topic = item.topic or (str(parents.topics[-1].value) if parents.topics else "")
                    item.subject = item.subject or (str(parents.subjects[-1].value) if parents.subjects else "")
                    item.mode = item.mode or parents.mode

    _SIGNS: ClassVar[Mapping[WordKind, Callable[[Walk, TextToken, TextToken | None], None]]] = {
        WordKind.BREAK: _break, WordKind.COMMA: _comma, WordKind.OPEN: _open, WordKind.CLOSE: _close, WordKind.COLON: _colon, WordKind.SLASH: _slash, WordKind.OR: _join, WordKind.AND: _join,
    }  # fmt: skip
    _SAYS: ClassVar[Mapping[WordKind, Callable[[Walk, TextToken], None]]] = {
        WordKind.LIMIT: _limit, WordKind.STRENGTH: _strength, WordKind.MODE: _mode, WordKind.APPROX: _approx, WordKind.IF: _if, WordKind.TOPIC: _topic, WordKind.SUBJECT: _subject,
    }  # fmt: skip
