"""What people paste in a key's place, and keys that look a little like it."""

import random
import string
import unittest

from direkt.destination.no_key import slip_of, why_no_key
from direkt.destination.paste import PasteError, untangle
from direkt.protocol import address

KNOWN = [address.parse("rtmp://ingest.tarnlight.example/live")]
NONE = {
    "a mask": ("••••••••••••", "************", "xxxx-xxxx-xxxx", "XXXXXXXX", "●●●●●●●●", "........", "----", "0000-0000-0000", "____", "*-*-*-*", "x~x~x~x"),
    "a placeholder": ("{stream_key}", "<key>", "[redacted]", "(hidden)", "${KEY}", "$STREAM_KEY", "%KEY%", "{{key}}", "<your-stream-key>", "{0}"),
    "a word": (
        "YOUR_STREAM_KEY", "your-key-here", "yourStreamKey", "TBA", "tbc", "none", "n/a", "N/A", "null", "hidden", "Copy", "Reveal", "Show", "key",
        "stream-key", "Saturday", "Samstag", "geheim", "kopieren", "Afficher", "copiar", "visa", "unknown", "password", "example", "later", "ok", "see-below",
    ),
    "cut short": ("varn~fake~her...", "varn~fake~he…", "…heron", "varn...heron", "varn~fake.."),
    "a date": ("2026-11-28", "28.11.2026", "28/11/26", "2026-11-28T14:30", "14:30", "9:05pm", "14h30", "2026.11.28"),
    "a mail": ("anna@regatta.example", "a.b+c@mail.example.org"),
    "a telephone": ("+47-123-45-678", "+4712345678"),
    "another address": ("www.tarnlight.example", "tarnlight.example/watch", "https://x.example/y", "//cdn.example/a", "rtmp://b.example/live"),
    "too short": ("abc", "a1", "7"),
}  # fmt: skip
KEYS = (
    "varn~fake~heron", "abcd-efgh-ijkl-mnop", "live_481516_aB3dE5", "Regatta2026", "x7x7-9k2m", "0f3a-0000-77b1", "yourkey1a2b", "key-48f1c09a",
    "stream-2f9a77", "sk_live_ab12cd34", "a1b2c3d4?sign=x&t=20261128", "event-20261128-k93j", "copycat-77", "showtime42", "heron", "f81d4fae-7dec-11d0-a765",
    "20261128a7c9", "x-x-y-x", "test-9981-aa", "rt.mp-77.k2",
)  # fmt: skip


class NoKeys(unittest.TestCase):
    def test_none_is_taken_however_it_is_pasted(self):
        for kind, texts in NONE.items():
            for text in texts:
                self.assertTrue(why_no_key(text).startswith(kind), (text, why_no_key(text)))
                for paste in (
                    text, f"Stream key: {text}", f"rtmp://ingest.tarnlight.example/live\n{text}",
                    f"rtmp://ingest.tarnlight.example/live/{text}",
                ):
                    try:
                        found = untangle(paste, known=KNOWN)
                    except PasteError:
                        continue
                    self.assertIsNone(found.key, paste)

    def test_keys_stay_keys(self):
        for key in KEYS:
            self.assertEqual(why_no_key(key), "", key)
            self.assertEqual(untangle(f"Stream key: {key}", known=KNOWN).key, key)
            self.assertEqual(untangle(f"rtmp://ingest.tarnlight.example/live\n{key}", known=KNOWN).key, key)
        source = random.Random(8)
        for _ in range(5000):
            key = "".join(source.choice(string.ascii_letters + string.digits + "-_") for _ in range(source.randrange(10, 40)))
            self.assertEqual(why_no_key(key), "", key)

    def test_a_sentences_full_stop(self):
        found = untangle("Key: varn~fake~heron.", known=KNOWN)
        self.assertEqual((found.key, found.repairs[-1]), ("varn~fake~heron", "the full stop after the key removed"))
        found = untangle("rtmp://ingest.tarnlight.example/live.", known=KNOWN)
        self.assertEqual((str(found.server), found.key), ("rtmp://ingest.tarnlight.example/live", None))
        self.assertIn("sign after the server address", found.repairs[0])

    def test_a_mask_that_fits_a_pattern(self):
        with self.assertRaisesRegex(PasteError, "a mask"):
            untangle("xxxx-xxxx-xxxx", pattern="[a-z]{4}-[a-z]{4}-[a-z]{4}")

    def test_hosts_that_are_a_slip_away(self):
        for host in ("ingest.tarnligth.example", "ingest.tarnlght.example", "ingest.tarnlightt.example", "imgest.tarnlight.example", "ingest.tarnlight.exanple",
                     "ingesttarnlight.example"):  # fmt: skip
            self.assertTrue(slip_of(host, "ingest.tarnlight.example"), host)
            self.assertIn("one letter off", untangle(f"rtmp://{host}/live", known=KNOWN).questions[0])
        for host, known in (
            ("ingest2.tarnlight.example", "ingest1.tarnlight.example"), ("ingest2.tarnlight.example", "ingest.tarnlight.example"),
            ("b.tarnlight.example", "a.tarnlight.example"), ("eu.tarnlight.example", "us.tarnlight.example"), ("backup.tarnlight.example", "ingest.tarnlight.example"),
            ("ingest.tarnlight.example", "ingest.tarnlight.example"),
        ):  # fmt: skip
            self.assertFalse(slip_of(host, known), host)
            self.assertEqual(untangle(f"rtmp://{host}/live", known=[address.parse(f"rtmp://{known}/live")]).server.host, host)


if __name__ == "__main__":
    unittest.main()
