"""The one masker: nothing of a secret comes through, in whatever form and pieces; and our own words stay."""

import base64
import io
import json
import random
import re
import string
import unittest
from urllib.parse import quote, quote_plus, unquote
from xml.sax import saxutils

from direkt import mask
from direkt.errors import UnusableInput
from direkt.mask import Edge, Masker
from direkt.secret import Secret

LETTERS = string.ascii_letters + string.digits + "-_.~!$&'()*+,;=%@:?[]{}|^/\\\"<> äßé€😀"


def numeric(text: str, pattern: str = "&#{};") -> str:
    return "".join(pattern.format(ord(c)) for c in text)


def partly(text: str, source: random.Random, must: str, form) -> str:
    """Some characters in another form; those that the encoding needs always."""
    return "".join(form(c) if c in must or source.random() < 0.4 else c for c in text)


def every_percent(text: str) -> str:
    return "".join(f"%{byte:02X}" for byte in text.encode())


def in_base64(value: str, source: random.Random, urlsafe: bool) -> str:
    """Behind and in front of something else, as in a login."""
    whole = source.choice((b"", b"a", b"op", b"us:", b"abcd:")) + value.encode() + source.choice((b"", b"x", b"yz"))
    return (base64.urlsafe_b64encode if urlsafe else base64.b64encode)(whole).decode()


FORMS = {
    "plain": lambda v, s: v, "lower": lambda v, s: v.lower(), "upper": lambda v, s: v.upper() if "ß" not in v else v, "percent": lambda v, s: quote(v, safe=""),
    "percent, some": lambda v, s: quote(v), "percent, plus": lambda v, s: quote_plus(v), "percent, all": lambda v, s: every_percent(v),
    "percent, small": lambda v, s: every_percent(v).lower(), "percent twice": lambda v, s: quote(quote(v, safe=""), safe=""),
    "hex": lambda v, s: v.encode().hex(), "HEX": lambda v, s: v.encode().hex().upper(), "hex in pairs": lambda v, s: v.encode().hex(s.choice(":- ")),
    "escaped": lambda v, s: "".join(rf"\x{byte:02x}" for byte in v.encode()), "base64": lambda v, s: in_base64(v, s, False),
    "base64url": lambda v, s: in_base64(v, s, True), "json": lambda v, s: json.dumps(v)[1:-1], "json, as it is": lambda v, s: json.dumps(v, ensure_ascii=False)[1:-1],
    "json twice": lambda v, s: json.dumps(json.dumps(v))[1:-1], "json, slashes": lambda v, s: json.dumps(v)[1:-1].replace("/", "\\/"),
    "xml": lambda v, s: saxutils.escape(v), "xml, quotes": lambda v, s: saxutils.escape(v, {'"': "&quot;", "'": "&apos;"}), "xml, numbers": lambda v, s: numeric(v),
    "xml, hex": lambda v, s: numeric(v, "&#x{:X};"), "percent, in part": lambda v, s: partly(v, s, "%", every_percent),
    "json, in part": lambda v, s: partly(v, s, '\\"', lambda c: "".join(rf"\u{n:04x}" for n in memoryview(c.encode("utf-16-le")).cast("H"))),
    "xml, in part": lambda v, s: partly(v, s, "&<", numeric),
}  # fmt: skip


def left(value: str, text: str) -> bool:
    """Whether a secret is still in a text, found without the masker's ways: by decoding it."""
    low, bare = value.lower(), re.sub(r"\\x|\s", "", text.lower())
    found = low in text.lower() or low in unquote(unquote(text)).lower() or low in saxutils.unescape(text, {"&quot;": '"', "&apos;": "'"}).lower()
    found = found or value.encode().hex() in bare.replace(":", "").replace("-", "")
    for word in text.replace("-", "+").replace("_", "/").split():
        for begin in range(4):
            piece = word[begin : begin + (len(word) - begin) // 4 * 4]
            try:
                found = found or value.encode() in base64.b64decode(piece, validate=True)
            except ValueError:
                continue
    return found


class Forms(unittest.TestCase):
    def test_no_form_in_any_surroundings_and_pieces(self):
        source = random.Random(11)
        for _ in range(250):
            value = "".join(source.choice(LETTERS) for _ in range(source.randrange(8, 40))).strip()
            if len(value) < 8 or value.isdigit():
                continue
            masker = Masker()
            masker.add(value)
            for name, form in FORMS.items():
                text = f"{source.choice(('', 'key=', 'rtmp://h/a/', 'error: '))}{form(value, source)}{source.choice(('', '.', chr(34), '/x'))} end"
                stream = io.StringIO()
                edge = Edge(stream, masker)
                whole, at = f"first line\n{text}\nlast", 0
                while at < len(whole):
                    step = source.randrange(1, 12)
                    edge.write(whole[at : at + step])
                    at += step
                edge.flush()
                got = stream.getvalue()
                self.assertFalse(left(value, got), (name, value, text, got))
                self.assertIn("(key)", got, (name, value, text))
                self.assertTrue(got.startswith("first line\n") and got.endswith("\nlast"), got)
                self.assertFalse(left(value, masker.foreign(text)), (name, text))

    def test_what_is_no_secret_stays(self):
        masker = Masker()
        for value in ("varn~fake~sandpiper", "camera", "pass", "1234", "123456", "admin", "sommer", "tarnlight", "x9"):
            masker.add(value)
        masker.publish(["Tarnlight"])
        for text in (
            "✓ pass  video.bitrate 1234 kbit/s", "camera", "admin at the camera", "123456 bytes", "sommer", "tarnlight", "100 % of all & more \\ than x9",
            "rtmp://ingest.tarnlight.example/live", "dmFybn5mYWtl", "\x1b[1mbold\x1b[0m",
        ):  # fmt: skip
            self.assertEqual(masker.own(text), text)
        for text, wanted in (
            ("no camera 'camera'", "no (key) '(key)'"), ("PASS", "(key)"), ("12345", "(key)5"), ("x9", "x9"), ("varn~fake~sandpiperx", "(key)x"),
        ):  # fmt: skip
            self.assertEqual(masker.foreign(text), wanted)

    def test_one_inside_the_other_and_many(self):
        masker = Masker()
        for n in range(3000):
            masker.add(f"secret~fake~{n}")
        masker.add("secret~fake~2999~longer")
        self.assertEqual(masker.own("secret~fake~2999~longer secret~fake~2999 secret~fake~1"), "(key) (key) secret~fake~1", "the oldest are forgotten")
        for n in range(500):
            masker.add(f"told~fake~{n}", everywhere=False)
        self.assertEqual(masker.own("secret~fake~2999 told~fake~499"), "(key) told~fake~499")
        self.assertEqual(masker.foreign("told~fake~499 told~fake~1"), "(key) told~fake~1")


class Edges(unittest.TestCase):
    def test_errors_documents_and_dataclasses(self):
        Secret("varn~fake~bittern7")
        self.assertEqual(str(UnusableInput("the server says varn%7Efake%7Ebittern7")), "the server says (key)")
        document = {"a": ["varn~fake~bittern7", 7, None, True], "b": ({"c": "x VARN~FAKE~BITTERN7"},), "varn": 1.5}
        self.assertEqual(mask.document(document), {"a": ["(key)", 7, None, True], "b": [{"c": "x (key)"}], "varn": 1.5})

    def test_a_stream_as_others_expect_it(self):
        stream = io.StringIO()
        edge = Edge(stream, Masker())
        with self.assertRaises(TypeError):
            edge.write(b"")  # by which Click tells text from bytes
        self.assertEqual(edge.write("prompt: "), 8)
        self.assertEqual(stream.getvalue(), "")
        edge.flush()
        self.assertEqual(stream.getvalue(), "prompt: ")
        edge.writelines(["a\n", "b"])
        edge.through("c\n")
        self.assertEqual(stream.getvalue(), "prompt: a\nbc\n")
        self.assertFalse(edge.isatty())


if __name__ == "__main__":
    unittest.main()
