"""Reads a published settings table, in free words, into a sheet; conservatively.

What stands in the draft, the table said: each line carries the words it came from. What was not understood is listed
clause by clause, with the reason. Reading takes at most 10 s.
"""

from __future__ import annotations

import re
import time
from dataclasses import dataclass, field, replace

from direkt import parameters
from direkt.destination.published.cells import grid, layout
from direkt.destination.published.cells.statement import Statement
from direkt.destination.published.meaning import cell_meaning, claims, modes, srt
from direkt.destination.published.meaning.result import DraftedRule, Gathered, LadderStep, SaidClaim, UnreadWords
from direkt.destination.published.words import numbers
from direkt.destination.published.words.tokens import NumberToken, scan
from direkt.destination.published.words.vocabulary import WordKind
from direkt.errors import UnusableInput

_BARE = 5  # words of a line that is no more than a name and a figure
_LIMIT = 10.0  # s for a whole table


@dataclass(slots=True)
class DraftedCell:
    """One cell as it was read: its words, and what became of them."""

    statement: Statement
    marks: list[tuple[int, int, str]] = field(default_factory=list)  # from, to, what it says; "" where not understood
    reasons: list[str] = field(default_factory=list)


@dataclass(slots=True)
class Draft:
    """What a table says, and what of it was not understood, in the table's order."""

    found: Gathered
    cells: list[DraftedCell]
    choices: list[str] = field(default_factory=list)  # heads of columns of which nobody can tell which is meant

    @property
    def not_understood(self) -> list[UnreadWords]:
        """Words that claim nothing, each with its reason."""
        return sorted(dict.fromkeys(self.found.unread), key=lambda one: one.line)


def read(text: str, kind: str, choice: str = "") -> Draft:
    """A draft of the sheet that a published table describes.

    ``choice``: the head of the one column that is meant, where a table has one for each destination. Raises UnusableInput.
    """
    begin = time.monotonic()
    statements = layout.statements(grid.read(text, kind))
    choices = list(dict.fromkeys(head for one in statements for head in one.among)) if any(one.choice for one in statements) else []
    if choice:
        statements = [replace(one, why_not="", choice="") if one.choice else one for one in statements if one.choice in ("", choice)]
    habit = numbers.habit_of(t.value for one in statements for t in scan(one.text) if isinstance(t.value, NumberToken))
    said: list[SaidClaim] = []
    unread: list[UnreadWords] = []
    cells: list[DraftedCell] = []
    for one in statements:
        if time.monotonic() - begin > _LIMIT:
            raise UnusableInput(
                f"line {one.line}: reading takes more than {_LIMIT:g} s: cut it down to the table of settings"
            )
        cell = DraftedCell(one)
        if one.why_not:
            if not one.prose:
                unread.append(UnreadWords(one.line, one.words, one.why_not, one.aside))
                cells.append(cell)
                cell.marks.append((0, len(one.text), ""))
                cell.reasons.append(one.why_not)
            continue
        parsed = _parse(one, habit)
        if one.prose and not _worth(one, parsed):
            continue
        said += [SaidClaim(one, claim) for claim in parsed.claims]
        for left in parsed.left:
            unread.append(UnreadWords(one.line, _words(one, left.start, left.end), left.why, left.aside))
            cell.marks.append((left.start, left.end, ""))
            cell.reasons.append(left.why)
        cells.append(cell)
    found = claims.gather(said)
    found.unread = [*unread, *found.unread]
    for cell in cells:
        cell.marks += found.used.get(id(cell.statement), [])
        for start, end, why in found.refused.get(id(cell.statement), []):
            cell.marks.append((start, end, ""))
            cell.reasons.append(why)
    return Draft(found, cells, choices)


def _parse(one: Statement, habit: numbers.Habit) -> cell_meaning.ParsedCell:
    topics = one.context.topics
    of_srt = next((topic for topic in topics if topic in srt.TOPICS), "")
    if of_srt:
        return srt.parse(one.text, of_srt)
    listed = "latency" in topics and not one.context.mode
    return modes.parse(one.text) if listed else cell_meaning.parse(one.text, one.context, habit)


def _worth(one: Statement, parsed: cell_meaning.ParsedCell) -> bool:
    """Of sentences outside any table, only those that are understood whole, or speak of figures, count."""
    if parsed.claims:
        return True
    tokens = scan(one.text)
    if any(t.kind in (WordKind.UNIT, WordKind.SIZE, WordKind.URL, WordKind.VALUE) for t in tokens):
        return True
    kinds = {t.kind for t in tokens}  # "Bitrate 6000" and no more
    return len(tokens) <= _BARE and WordKind.TOPIC in kinds and WordKind.NUMBER in kinds


def _words(one: Statement, start: int, end: int) -> str:
    """A row's words, of a long cell only those that are meant."""
    if end - start >= len(one.text) - 2 or not one.text[start:end].strip():
        return one.words
    name = (
        f"{one.name} [{one.head}]: "
        if one.name and one.head
        else f"{one.name or one.head}: "
        if one.name or one.head
        else ""
    )
    return name + " ".join(one.text[start:end].split())


# Writing


def write(draft: Draft, title: str) -> str:
    """The draft as a sheet file, each line with the words that it came from."""
    found = draft.found
    lines = ["# Drafted from a published table. Read every line against its source before you trust it."]
    lines += ["schema: direkt.sheet/1", f"name: {_quote(title)}"]
    if found.protocols:
        lines.append("protocols:")
        for (name, port), (told, ones) in found.protocols.items():
            origins = "; ".join(dict.fromkeys(map(_origin, ones)))
            lines.append(f"  - {_yaml({'protocol': name, 'port': port, **told})}  # {origins}")
    if found.servers:
        lines.append("servers:")
        for server, (region, role, one) in found.servers.items():
            parts = [
                f"address: {_quote(server)}",
                *([f"region: {_quote(region)}"] if region else []),
                *([f"role: {role}"] if role != "primary" else []),
            ]
            lines.append(f"  - {{{', '.join(parts)}}}  # {_origin(one)}")
    base = found.rules.get("", {})
    lines.append("rules:" if base else "rules: {}")
    lines += _rules(base, "  ")
    lines += _ladder("ladder", found.ladder) + _ladder("audio_ladder", found.audio_ladder)
    names = dict.fromkeys([*found.modes, *(mode for mode in found.behind if mode), *(mode for mode, rules in found.rules.items() if mode and rules)])
    if names:
        lines.append("latency:")
    for mode in names:
        summary = found.modes[mode][0] if mode in found.modes else ""
        if not summary and not found.rules.get(mode) and mode not in found.behind:
            lines.append(f"  {mode}: {{}}")
            continue
        lines.append(f"  {mode}:")
        if summary:
            lines.append(f"    summary: {_quote(summary)}  # {_origin(found.modes[mode][1])}")
        if mode in found.behind:
            span, one = found.behind[mode]
            lines.append(f"    viewers_behind_s: {_span(span)}  # {_origin(one)}")
        if found.rules.get(mode):
            lines += ["    rules:", *_rules(found.rules[mode], "      ")]
    lines += _facts(found)
    for title, aside in (("Not understood; nothing of this is above:", False), ("Not for a sheet:", True)):
        listed = [one for one in draft.not_understood if one.aside is aside]
        lines += ["", f"# {title}"] if listed else []
        lines += [f"#   line {one.line}: {_clean(one.words)}  ({_clean(one.why)})" for one in listed]
    return "\n".join(lines) + "\n"


def _rules(rules: dict[str, DraftedRule], indent: str) -> list[str]:
    lines: list[str] = []
    for parameter in parameters.in_table_order(rules):
        rule = rules[parameter]
        lines += [f"{indent}# {origin}" for origin in dict.fromkeys(map(_origin, rule.origins))]
        parts = [f"{key}: {_yaml(value)}" for key, value in rule.parts.items()]
        parts += ["same_as_source: true"] if rule.same_as_source else []
        lines.append(f"{indent}{parameter}: {{{', '.join(parts)}}}")
    return lines


def _ladder(name: str, steps: list[LadderStep]) -> list[str]:
    lines = [f"{name}:"] if steps else []
    for step in steps:
        origins = "; ".join(dict.fromkeys(_clean(one.words) for one in step.origins))
        line = step.origins[0].statement.line
        lines.append(f"  - {_yaml({**step.head, 'bitrate': step.bitrate})}  # {_clean(f'line {line}: {origins}')}")
    return lines


def _facts(found: Gathered) -> list[str]:
    lines: list[str] = []
    facts = dict(found.facts)
    if "" in found.behind:
        span, one = found.behind[""]
        facts["session.viewers_behind_s"] = span, one
    for group in ("session", "key"):
        own = {name: fact for name, fact in facts.items() if name.startswith(f"{group}.")}
        if own:
            lines.append(f"{group}:")
        for name, (value, one) in own.items():
            if name in ("session.shows_after_s", "session.viewers_behind_s") and isinstance(value, dict):
                value = _span(value, raw=True)
            lines.append(f"  {name.partition('.')[2]}: {_yaml(value)}  # {_origin(one)}")
    if "peak_percent" in found.facts:
        value, one = found.facts["peak_percent"]
        lines.append(f"peak_percent: {_yaml(value)}  # {_origin(one)}")
    return lines


def _span(value: dict[str, float], *, raw: bool = False) -> object:
    """Both ends of a time, also where the table names one."""
    span = {"min": value.get("min", 0), "max": value.get("max", value.get("min", 0))}
    return span if raw else _yaml(span)


def _origin(one: SaidClaim) -> str:
    return _clean(f"line {one.statement.line}: {one.words}")


def _clean(text: str) -> str:
    return " ".join("".join(c if c.isprintable() else " " for c in text).split())


def _quote(text: str) -> str:
    text = "".join(c if c.isprintable() else " " for c in text)
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _yaml(value: object) -> str:
    if isinstance(value, dict):
        return "{" + ", ".join(f"{key}: {_yaml(item)}" for key, item in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(_yaml, value)) + "]"
    if isinstance(value, str):
        plain = re.fullmatch(r"[a-z][a-z0-9 -]*[a-z0-9]|\d+x\d+", value) and value not in (
            "yes",
            "no",
            "on",
            "off",
            "true",
            "false",
            "null",
        )
        return value if plain else _quote(value)
    return f"{value:.6f}".rstrip("0").rstrip(".") if isinstance(value, float) else str(value)
