import itertools
import time
import unittest
from unittest import mock

from pydantic import Field

from direkt import documents
from direkt.documents import DocumentError, Strict
from tests.support import Folder

SNIPPETS = [
    "a: 1\nb: 2.5\nc: -3\nd: +4\ne: .5\nf: 1e3\n", "a: yes\nb: no\nc: on\nd: off\ne: y\n",
    "a: true\nb: False\nc: null\nd: ~\ne:\n", "a: 4:2:0\nb: 16:9\nc: 1:1\nd: 2026-11-24\n", "a: '1'\nb: \"true\"\nc: 'null'\n",
    "a: [1, two, 3.0, [x, y]]\nb: {c: 1, d: {e: f}}\n", "a:\n  - x\n  - y: 1\n    z: 2\n",
    "a: |\n  two\n  lines\nb: >\n  folded\n  text\n", "a: &x [1, 2]\nb: *x\n", "# only\na: 1 # behind\n\n\nb: 2\n",
    "a: 0x1F\nb: 0o17\nc: 010\n", "1: one\n2: two\n", "a: rtmp://h.example/live\nb: http://192.0.2.1:80\n",
]


class Reading(Folder):
    def slow(self, text: str) -> documents.Document:
        with mock.patch.object(documents, "_LOADER", None):
            return documents.parse(text, "slow.yaml")

    def test_both_parsers_read_the_same(self):
        for text in SNIPPETS:
            fast, slow = documents.parse(text, "fast.yaml"), self.slow(text)
            self.assertIsNotNone(fast.tree, text)
            self.assertIsNone(slow.tree)
            self.assertEqual(documents.plain(fast), documents.plain(slow), text)

    def test_both_know_the_lines(self):
        text = "a: 1\nb:\n  c: 2\n  d:\n    - x\n    - {e: 3}\n"
        for document in (documents.parse(text, "f"), self.slow(text)):
            lines = [
                document.line(path)
                for path in (["a"], ["b"], ["b", "c"], ["b", "d", 1], ["b", "d", 1, "e"], ["nowhere"], ["b", "zz"])
            ]
            self.assertEqual(lines, [1, 2, 3, 6, 6, 1, 2])
            self.assertEqual(document.lines(["b"]), {"c": 3, "d": 4})
            self.assertEqual(document.lines(["nothing"]), {})

    def test_yes_is_a_word_and_colons_make_no_numbers(self):
        data = documents.parse("a: yes\nb: 4:2:0\nc: 1_000\n", "x").data
        self.assertEqual(data, {"a": "yes", "b": "4:2:0", "c": "1_000"})

    def test_a_key_twice_is_refused_with_its_line(self):
        with self.assertRaisesRegex(DocumentError, "x.yaml:3: not valid YAML: .*duplicate"):
            documents.parse("a: 1\nb: 2\na: 3\n", "x.yaml")

    def test_nothing_runs_and_nothing_explodes(self):
        for text in (
            "a: !!python/object/apply:os.system ['true']\n", "a: !!python/name:os.system\n", "!!python/object:x.Y {}\n",
            "a: " + "[" * 2000 + "]" * 2000 + "\n", "a: " + "{b: " * 500 + "1" + "}" * 500 + "\n", "a: " + "9" * 100_000 + "\n",
        ):  # fmt: skip
            try:
                documents.check(documents.parse(text, "x.yaml"), _Entry)
            except DocumentError as error:
                self.assertTrue(all(line.startswith("x.yaml") for line in error.lines()))

    def test_what_aliases_make_is_counted(self):
        layers = ["a: &a [1, 1, 1, 1, 1, 1]"]
        layers += [f"{n}: &{n} [{', '.join(['*' + p] * 6)}]" for p, n in itertools.pairwise("abcdefghijk")]
        merged = ["m0: &m0 {k: 1}", *(f"m{n}: &m{n} {{<<: *m{n - 1}, a: *m{n - 1}, b: *m{n - 1}}}" for n in range(1, 30))]
        for lines in (layers, merged):
            begin = time.monotonic()
            with self.assertRaisesRegex(DocumentError, "more than 300000 values"):
                documents.plain(documents.parse("\n".join(lines), "x.yaml"))
            self.assertLess(time.monotonic() - begin, 30)
        once = documents.parse("a: &a [1, 2]\nb: [*a, *a]\n" + "".join(f"c{n}: *a\n" for n in range(200)), "x.yaml")
        self.assertEqual(once.data["b"], [[1, 2], [1, 2]], "used often is not much")
        with self.assertRaisesRegex(DocumentError, "nested too deeply"):
            documents.parse("a: &a {x: *a}", "x.yaml")

    def test_what_cannot_be_seen_is_refused_with_its_line(self):
        for text, line, code in (
            ('a: 1\nb: "x\\e[2J"\n', 2, "001B"), ('"a\\a": 1\n', 1, "0007"), ("a: x\u202ey\n", 1, "202E"), ('a: [1, "\\x9b"]\n', 1, "009B"),
            ('a: &x {b: "\\e"}\nc: {<<: *x}\n', 1, "001B"), ('a: {"\\b": 1}\n', 1, "0008"),
        ):  # fmt: skip
            with self.assertRaises(DocumentError) as caught:
                documents.plain(documents.parse(text, "x.yaml"))
            where = f"x.yaml:{line}: " if line else "x.yaml: "
            self.assertTrue(str(caught.exception).startswith(where), (text, str(caught.exception)))
            self.assertIn(f"U+{code}", str(caught.exception))
        good = documents.parse('a: "Zürich – 10 µs 👩‍🚀"\nb: |\n  two\n  lines\tand a tab\n', "x.yaml").data
        self.assertEqual((good["a"], good["b"]), ("Zürich – 10 µs 👩‍🚀", "two\nlines\tand a tab\n"))

    def test_files_that_are_none(self):
        self.file("latin.yaml", b"a: \xe4\n")
        self.file("big.yaml", b"a: 1\n" * 300_000)
        self.file("bom.yaml", b"\xef\xbb\xbfa: 1\n")
        for name, words in (
            ("latin.yaml", "latin.yaml:1: not text in UTF-8"), ("big.yaml", "at most"), ("none.yaml", "no such file"),
        ):
            with self.assertRaisesRegex(DocumentError, words):
                documents.read(self.folder / name, name)
        self.assertEqual(documents.read(self.folder / "bom.yaml").data, {"a": 1})


class _Inner(Strict):
    size: int = Field(ge=1)


class _Entry(Strict):
    a: int
    inner: _Inner | None = None
    many: list[_Inner] = []
    named: dict[str, _Inner] = {}


class Checking(unittest.TestCase):
    def problems(self, text: str) -> list[str]:
        with self.assertRaises(DocumentError) as caught:
            documents.check(documents.parse(text, "x.yaml"), _Entry)
        return caught.exception.lines()

    def test_each_kind_of_mistake_in_words(self):
        for text, wanted in (
            ("b: 1\na: 2\n", "x.yaml:1: unknown entry 'b'"), ("inner: {size: 1}\n", "x.yaml:1: 'a' is missing"),
            ("a: 1\ninner:\n  sise: 1\n", "x.yaml:3: unknown entry 'inner.sise'; did you mean 'size'?"),
            ("a: 1\nmany:\n  - {size: 1}\n  - {size: 0}\n", "x.yaml:4: many.1.size: expected"),
            ("a: 1\nnamed:\n  x:\n    size: big\n", "x.yaml:4: named.x.size: expected a whole number, got 'big'"),
            ("a: 1\nnamed:\n  x: {sizes: 1}\n", "did you mean 'size'?"), ("a: [1]\n", "x.yaml:1: a: expected a whole number, got a list"),
            ("a: 1\nmany: 5\n", "x.yaml:2: many: expected a list, got 5"), ("a: 1\ninner: x\n", "expected entries like 'name: value', got 'x'"),
            ("a: 1.5\n", "expected a whole number"), ("a:\n", "x.yaml:1: a: expected a whole number, got nothing"),
        ):  # fmt: skip
            found = self.problems(text)
            self.assertTrue(any(wanted in line for line in found), (text, found))

    def test_problems_come_in_the_order_of_lines(self):
        found = self.problems("z: 1\nmany:\n  - {size: 0}\ninner: {size: x}\na: no\n")
        self.assertEqual([line.split(":")[1] for line in found], ["1", "3", "4", "5"])
