"""Published tables of many hands: what is claimed is what a careful person claims, and nothing else is."""

from __future__ import annotations

import io
import sys
import unittest
from pathlib import Path

from ruamel.yaml import YAML

from direkt import documents
from direkt.destination import draft
from direkt.destination.file import build

FOLDER = Path(__file__).with_name("published")


def facts(sheet, given):
    """A sheet as a set of single facts."""
    out = set()

    out |= _rules("", sheet.rules)
    for mode in sheet.modes.values():
        out.add(("mode", mode.name, mode.summary))
        if mode.behind is not None:
            out.add(("behind", mode.name, mode.behind.min, mode.behind.max))
        out |= _rules(f"{mode.name}:", mode.rules)
    out |= _steps(sheet) | _ends(sheet)
    for group in ("session", "key"):
        found = getattr(sheet, group)
        if found is not None:
            for key, value in found.model_dump(exclude_none=True).items():
                out.add((group, key, str(value)))
    if sheet.peak_percent is not None:
        out.add(("peak_percent", sheet.peak_percent))
    return out


def _rules(prefix, those):
    out = set()
    for name, rule in those.items():
        for strength in ("must", "should"):
            wish = getattr(rule, strength)
            if wish is None:
                continue
            if wish.one_of:
                out.add((prefix + name, strength, tuple(sorted(map(str, wish.one_of)))))
            if wish.never:
                out.add((prefix + name, "never", tuple(sorted(map(str, wish.never)))))
            for end in ("minimum", "maximum"):
                if getattr(wish, end) is not None:
                    out.add((prefix + name, strength, end, str(getattr(wish, end))))
        if rule.same_as_source:
            out.add((prefix + name, "same as source"))
    return out


def _steps(sheet):
    out = set()
    for rung in sheet.ladder:
        for part in ("minimum", "best", "maximum"):
            if getattr(rung, part):
                out.add(
                    (
                        "ladder", *rung.codecs, rung.width, rung.height, float(rung.slowest), float(rung.fastest), part,
                        float(getattr(rung, part)),
                    )
                )
    for rung in sheet.audio_ladder:
        for part in ("minimum", "best", "maximum"):
            if getattr(rung, part):
                out.add(("audio_ladder", rung.channels, part, float(getattr(rung, part))))
    return out


def _ends(sheet):
    out = set()
    for p in sheet.protocols:
        out.add(("protocol", p.protocol, p.port, p.mode))
        for told in ("passphrase", "stream_id"):
            if getattr(p, told) is not None:
                out.add(("protocol", p.port, told, getattr(p, told)))
        if p.latency_ms is not None:
            out |= {("protocol", p.port, "latency", end, value) for end, value in p.latency_ms.model_dump(exclude_none=True).items()}
    for s in sheet.servers:
        out.add(("server", str(s.parsed), s.region, s.role))
    return out


def load(path):
    entry = YAML(typ="safe", pure=True).load(path.read_text("utf-8"))
    wanted = {"schema": "direkt.sheet/1", "name": "x", **entry["truth"]}
    text = io.StringIO()
    YAML().dump(wanted, text)
    truth = facts(build(documents.parse(text.getvalue(), str(path)), "x"), None)
    return entry, truth


def drafted(entry):
    made = draft.read(entry["text"], entry["kind"])
    written = draft.write(made, "x")
    sheet = build(documents.parse(written, "draft.yaml"), "x")
    return facts(sheet, None), made, written


def compare(path):
    entry, truth = load(path)
    claimed, made, written = drafted(entry)
    optional = set(entry.get("optional", ()))

    def free(fact):
        return str(fact[0]).split(":")[-1] in optional

    missing = {f for f in truth - claimed if not free(f)}
    wrong = {f for f in claimed - truth if not free(f)}
    unlisted = [
        words
        for words in entry.get("left", ())
        if not any(str(words).lower() in one.words.lower() for one in made.not_understood)
    ]
    return truth, claimed, missing, wrong, unlisted, made, written


class Published(unittest.TestCase):
    def test_nothing_wrong_is_claimed_and_most_is_found(self):
        paths = sorted(FOLDER.glob("*.yaml"))
        self.assertGreaterEqual(len(paths), 30)
        total = found = 0
        for path in paths:
            with self.subTest(table=path.stem):
                truth, claimed, missing, wrong, unlisted, _, _ = compare(path)
                total, found = total + len(truth), found + len(truth & claimed)
                self.assertEqual(wrong, set())
                self.assertEqual(missing, set())
                self.assertEqual(unlisted, [])
        self.assertGreater(total, 800)
        self.assertGreater(found / total, 0.98)  # what a table's "optional" names may be missing


if __name__ == "__main__":
    total = hit = bad = 0
    for path in sorted(FOLDER.glob("*.yaml")):
        if len(sys.argv) > 1 and path.stem not in sys.argv[1:]:
            continue
        try:
            truth, claimed, missing, wrong, unlisted, made, written = compare(path)
        except Exception as error:
            print("!!", path.stem, type(error).__name__, str(error)[:300])
            if len(sys.argv) > 1:
                raise
            continue
        total += len(truth)
        hit += len(truth & claimed)
        bad += len(wrong)
        if missing or wrong or unlisted or len(sys.argv) > 1:
            print("==", path.stem, f"{len(truth & claimed)}/{len(truth)}")
            for f in sorted(missing, key=str):
                print("   missing", f)
            for f in sorted(wrong, key=str):
                print("   WRONG", f)
            for f in unlisted:
                print("   not listed", f)
            if len(sys.argv) > 1:
                print(written)
            else:
                for one in made.not_understood:
                    print("      left", one.line, one.words[:70], "|", one.why)
    print(hit, "of", total, "wrong", bad)
