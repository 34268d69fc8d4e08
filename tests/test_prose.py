"""The program does not read its own prose: what an error or a finding means stands in a field, and words are made where they are shown.

Texts are followed by their names: what ``str(error)`` gives, and fields called ``text``, ``reason``, ``advice`` and the like.
"""

import ast
import re
import unittest
from pathlib import Path

SOURCE = Path(__file__).resolve().parent.parent / "src" / "direkt"
PROSE = {"text", "reason", "advice", "words", "message", "remark", "trouble", "told", "complaint"}
CUTS = {"partition", "rpartition", "split", "rsplit", "removeprefix", "removesuffix", "startswith", "endswith", "find", "index", "replace"}
# Words that somebody else wrote, or that are typed: these have to be read.
FOREIGN = {
    "codec", "container", "protocol", "destination/published", "destination/pasting", "destination/paste.py", "sim", "described",
    "device/onvif", "glossary.py", "glossary_sums.py", "glossary_text.py", "printable.py", "mask.py", "errors.py", "documents.py",
}  # fmt: skip
SENTENCE = re.compile(r"[a-z]{2,} [a-z]|[a-z]: |; ")


def is_error_text(node: ast.AST) -> bool:
    """str(error), or f"{error}"."""
    match node:
        case ast.Call(func=ast.Name(id="str"), args=[ast.Name(id="error" | "fault" | "problem")]):
            return True
        case ast.JoinedStr(values=[ast.FormattedValue(value=ast.Name(id="error"))]):
            return True
    return False


def is_prose(node: ast.AST) -> bool:
    """An error's text, or a field that holds words for people."""
    return is_error_text(node) or (isinstance(node, ast.Attribute) and node.attr in PROSE)


def constant(node: ast.AST) -> str:
    match node:
        case ast.Constant(value=str(text)):
            return text
        case ast.JoinedStr(values=values):
            return "".join(v.value if isinstance(v, ast.Constant) else "x" for v in values)
    return ""


def reads_prose(node: ast.AST) -> bool:
    match node:
        case ast.Call(func=ast.Attribute(value=value, attr=attr), args=[argument, *_]) if attr in CUTS:
            if is_error_text(value) and constant(argument) != "\n":
                return True
            return is_prose(value) and bool(SENTENCE.search(constant(argument)))
        case ast.Compare(left=left, ops=[ast.In() | ast.NotIn()], comparators=[right]):
            return is_prose(right) and bool(constant(left))
        case ast.Compare(left=left, ops=[ast.Eq() | ast.NotEq()], comparators=[right]):
            return any(is_prose(a) and " " in constant(b) for a, b in ((left, right), (right, left)))
    return False


class OwnProse(unittest.TestCase):
    def test_no_text_of_ours_is_cut_or_compared(self):
        found = []
        for path in sorted(SOURCE.rglob("*.py")):
            name = path.relative_to(SOURCE).as_posix()
            if any(name == one or name.startswith(f"{one}/") for one in FOREIGN):
                continue
            lines = path.read_text().splitlines()
            for node in ast.walk(ast.parse("\n".join(lines))):
                if reads_prose(node):
                    found.append(f"{name}:{node.lineno}: {lines[node.lineno - 1].strip()}")
        self.assertEqual(found, [])

    def test_what_would_be_found(self):
        for text in (
            'str(error).partition(": ")', 'str(error).removeprefix(name + " ")', '"locked" in str(error)', '"by the watch" in h.text',
            'reason.text.startswith("the device wants")', 'one.reason == "the connection was closed"', 'f"{error}".split(": ")',
        ):  # fmt: skip
            self.assertTrue(any(reads_prose(node) for node in ast.walk(ast.parse(text))), text)
        for text in ('str(error).replace("\\n", "; ")', 'text.partition("://")', 'one.text', 'name == "http"', 'row.reason == ""'):
            self.assertFalse(any(reads_prose(node) for node in ast.walk(ast.parse(text))), text)
