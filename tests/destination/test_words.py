"""How a paste is cut into words, and what stands before each as its label."""

import unittest

from direkt.destination.pasting.words import words

T = "rtmp://in.example/live"


class Words(unittest.TestCase):
    def test_words_with_labels_and_roles(self):
        for text, wanted in (
            (f"Server: {T}", [(T, "server", "")]), ("Stream key: abcd-1234", [("abcd-1234", "key", "")]),
            ("Clé de diffusion : abcd-1234", [("abcd-1234", "key", "")]), ("Allas: abcd-1234", [("abcd-1234", "unknown", "")]),
            ("Title: abcd-1234", [("abcd-1234", "other", "")]), ("Old key: abcd-1234", [("abcd-1234", "other", "")]),
            ("Backup key: abcd-1234", [("abcd-1234", "key", "backup")]), (f"Primary {T}", [(T, "", "primary")]),
            (f"{T} (backup)", [(T, "", "backup")]), ("STREAM_KEY=abcd-1234", [("abcd-1234", "key", "")]),
            ("密钥:abcd-1234", [("abcd-1234", "key", "")]), ("the key is abcd-1234", [("abcd-1234", "key", "")]),
            ("Key (keep it): abcd-1234", [("abcd-1234", "key", "")]), ("abcd-1234 (do not share)", [("abcd-1234", "", "")]),
            (f"{T} (key: abcd-1234)", [(T, "", ""), ("abcd-1234", "key", "")]),
            ("a (12345678)", [("a", "", ""), ("12345678", "", "")]),
            ("a (http://x.example)", [("a", "", ""), ("http://x.example", "", "")]), ("a (word)", [("a", "", "")]),
            ("a (b-c d-e f-g)", [("a", "", "")]), ("a,b;c|d", [("a", "", ""), ("b", "", ""), ("c", "", ""), ("d", "", "")]),
            ("1. a", [("a", "", "")]), ("- a", [("a", "", "")]), ("fake - a", [("fake", "", ""), ("-", "", ""), ("a", "", "")]),
            ("Key:", [("", "key", "")]), ("YOUR_KEY", [("YOUR_KEY", "", "")]),
        ):
            found = [(word.text, word.label, word.role) for word in words(text, [])]
            self.assertEqual(found, wanted, text)

    def test_what_is_cleaned_is_said(self):
        for text, plain, said in (
            ("a\u200bb", "ab", "invisible"), ("a\uff1ab", "a:b", "wide or odd"), ("\u201ca\u201d", "a", "quotation"), ("rtmp://in.exam=\nple/live", T, "broken over lines"), ("> a", "a", "a mail's"),
            ("<td>a</td>", "a", "page's own code"), ("<key>a</key>", "a", "page's own code"), ("a&amp;b", "a&b", "codes for signs"), (f"[x]({T})", T, "links"),
            ("rtmp%3A%2F%2Fin.example%2Flive", T, "percent"), (f"<{T}>", T, "angle"), ("rtmp ://in.example/live", T, "slashes"), ("rtmp:\\\\in.example\\live", T, "slashes"),
            ("<rtmp://in.example/\nlive>", T, "angle"), ("**a**", "a", ""), ("  a", "a", "edges"), ('<input value="abcd1234">', "abcd1234", "page's own code"),
        ):  # fmt: skip
            repairs: list[str] = []
            self.assertEqual([word.text for word in words(text, repairs)], [plain], text)
            self.assertTrue(any(said in words for words in repairs) or not said, (text, repairs))
        for text in ("<your key>", "[your key]", "{your key}", "${your_key}"):
            self.assertEqual([word.text for word in words(text, [])], [text.replace(" ", "_")])

    def test_lines_and_what_stands_alone(self):
        found = words(f"Server\n{T}\nKey\nabcd\nx z", [])
        self.assertEqual(
            [(w.text, w.line, w.label, w.alone) for w in found],
            [(T, 1, "server", True), ("abcd", 3, "key", True), ("x", 4, "", False), ("z", 4, "", False)],
        )


if __name__ == "__main__":
    unittest.main()
