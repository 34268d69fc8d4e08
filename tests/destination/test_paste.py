"""Damaged pastes: each is repaired to exactly the sound one, or refused; none is silently wrong."""

import random
import unittest

from direkt.destination import paste
from direkt.destination.paste import PasteError, untangle
from direkt.protocol import address
from tests.support import thorough

SERVER = "rtmp://ingest.tarnlight.example/live"
KNOWN = [address.parse(SERVER)]
PORTS = [("rtmp", 1935), ("rtmps", 443)]
PATTERN = r"FAKE~[0-9A-Z]{7}-[0-9A-Z]{9}"
HOMOGLYPHS = str.maketrans("AEKOPCTX", "АЕКОРСТХ")


# Without a pattern nobody can see that a key was changed or cut in itself
CHANGES = {"small letters", "one small letter", "key cut", "letter lost", "key glued twice", "homoglyphs", "dashes"}


def certain(text: str):
    """What is meant, where nobody has to be asked."""
    found = untangle(text, pattern=PATTERN, known=KNOWN, ports=PORTS)
    if found.questions:
        raise PasteError(" ".join(found.questions))
    return found


def sound(source: random.Random) -> tuple[str, str]:
    seven, nine = ("".join(source.choice("ACDEFGHJKMNPQRTUVWXY34679") for _ in range(n)) for n in (7, 9))
    key = f"FAKE~{seven}-{nine}"
    return SERVER, key


# Each takes and returns (server, key, glue between them); they can be combined.
DAMAGES = {
    "doubled scheme": lambda s, k, g, r: ("rtmp://" + s, k, g),
    "missing slash": lambda s, k, g, r: (s.replace("://", ":/"), k, g),
    "missing colon": lambda s, k, g, r: (s.replace("://", "//"), k, g),
    "extra slash": lambda s, k, g, r: (s.replace("://", ":///"), k, g),
    "inner slash": lambda s, k, g, r: (s.replace("/live", "//live"), k, g),
    "trailing slash": lambda s, k, g, r: (s + "/", k, g),
    "http": lambda s, k, g, r: (s.replace("rtmp://", "http://"), k, g),
    "capitals": lambda s, k, g, r: (s.replace("ingest", "INGEST").replace("rtmp", "RTMP"), k, g),
    "app capitals": lambda s, k, g, r: (s.replace("/live", "/Live"), k, g),
    "spaces": lambda s, k, g, r: ("  " + s + " ", k + "  \t", g),
    "line ends": lambda s, k, g, r: (s + "\r\n", k + "\r\n\r\n", "\n"),
    "zero width": lambda s, k, g, r: (s[:9] + "\u200b" + s[9:], "\ufeff" + k[:7] + "\u200d" + k[7:], g),
    "smart quotes": lambda s, k, g, r: ("\u201c" + s + "\u201d", "\u2018" + k + "\u2019", g),
    "labels": lambda s, k, g, r: ("Server URL: " + s, "Stream key: " + k, "\n"),
    "more labels": lambda s, k, g, r: ("Your ingest address is: " + s, "key = " + k, "\n"),
    "key in address": lambda s, k, g, r: (s + "/" + k, "", " "),
    "key twice": lambda s, k, g, r: (s, k + " " + k, g),
    "key glued twice": lambda s, k, g, r: (s, k + k, g),
    "key in both": lambda s, k, g, r: (s + "/" + k, k, "\n"),
    "address twice": lambda s, k, g, r: (s + "\n" + s, k, "\n"),
    "small letters": lambda s, k, g, r: (s, k.lower(), g),
    "one small letter": lambda s, k, g, r: (s, k.replace("F", "f", 1), g),
    "homoglyphs": lambda s, k, g, r: (s, k.translate(HOMOGLYPHS), g),
    "dashes": lambda s, k, g, r: (s, k.replace("-", r.choice("\u2013\u2014\u2011")), g),
    "wide colon": lambda s, k, g, r: (s.replace(":", "\uff1a"), k, g),
    "torn address": lambda s, k, g, r: (s.replace("/live", " /live"), k, g),
    "full stop": lambda s, k, g, r: (s, k + ".", g),
    "angle brackets": lambda s, k, g, r: ("<" + s + ">", k, g),
    # what cannot be repaired
    "key cut": lambda s, k, g, r: (s, k[: r.randrange(3, max(5, len(k) - 1))], g),
    "key torn": lambda s, k, g, r: (s, k[:11] + " " + k[11:], g),
    "letter lost": lambda s, k, g, r: (s, k[:9] + k[10:], g),
    "odd letter": lambda s, k, g, r: (s, k[:8] + "\u00e4" + k[9:], g),
    "wrong port": lambda s, k, g, r: (s.replace("example/", "example:443/"), k, g),
    "bare address": lambda s, k, g, r: (s.replace("ingest.tarnlight.example", "192.168.1.20"), k, g),
    "other host": lambda s, k, g, r: (s.replace("ingest.tarnlight.example", "198.51.100.7"), k, g),
    "no application": lambda s, k, g, r: (s.removesuffix("/live"), k, g),
    "other application": lambda s, k, g, r: (s.replace("/live", "/life"), k, g),
    "two schemes": lambda s, k, g, r: ("rtmps://" + s, k, g),
    "markdown link": lambda s, k, g, r: (f"[Server]({s})", k, g),
    "markdown code": lambda s, k, g, r: (f"**Server:** `{s}`", f"**Key:** `{k}`", "\n"),
    "html link": lambda s, k, g, r: (f'<a href="{s}">{s}</a><br>', k, g),
    "html table": lambda s, k, g, r: (f"<td>Server</td><td>{s}</td>", f"<td>Key</td><td>{k}</td>", "\n"),
    "entities": lambda s, k, g, r: (s.replace("/", "&#47;"), k.replace("~", "&#126;"), g),
    "percent": lambda s, k, g, r: (s.replace(":", "%3A").replace("/", "%2F"), k, g),
    "mail quote": lambda s, k, g, r: ("> " + s, "> " + k, "\n"),
    "other languages": lambda s, k, g, r: (f"Adresse du serveur : {s}", f"Clé de diffusion : {k}", "\n"),
    "chat": lambda s, k, g, r: (f"[14:02] Kim: {s}", f"[14:03] Kim: {k}", "\n"),
    "json": lambda s, k, g, r: (f'{{"url": "{s}",', f'"streamKey": "{k}"}}', "\n"),
    "buttons": lambda s, k, g, r: (f"{s}\nCopy", f"{k}\nCopy\nReset", "\n"),
    "watch link": lambda s, k, g, r: (f"https://tarnlight.example/watch/abc\n{s}", k, "\n"),
    "backup": lambda s, k, g, r: (f"Primary: {s}\nBackup: rtmp://b.tarnlight.example/live", f"Key: {k}", "\n"),
    "no scheme": lambda s, k, g, r: (s.removeprefix("rtmp://"), k, g),
    "broken address": lambda s, k, g, r: (s[:18] + "\n" + s[18:], "Key: " + k, "\n"),
    "placeholder": lambda s, k, g, r: (s + "/{stream_key}", k, "\n"),
    "new application": lambda s, k, g, r: (s.replace("/live", "/regatta"), k, g),
    "slip": lambda s, k, g, r: (s.replace("tarnlight", "tarnlihgt"), k, g),
    "mask": lambda s, k, g, r: (s, "•" * len(k), g),
    "masked": lambda s, k, g, r: (s, k[:5] + "••••" + k[-4:], g),
    "cut short": lambda s, k, g, r: (s, k[:10] + "...", g),
    "not yet": lambda s, k, g, r: (s, r.choice(["TBA", "Key: follows", "YOUR_STREAM_KEY", "2026-05-01", "[insert key]"]), g),
    "chatter": lambda s, k, g, r: (s, "please use " + k + " today", g),
}


class Generated(unittest.TestCase):
    def test_how_much_may_be_pasted(self):
        address = "rtmp://in.example/live"
        self.assertEqual(str(untangle(address + " " * (8192 - len(address))).server), address)
        with self.assertRaisesRegex(PasteError, "8193 characters were pasted"):
            untangle(address + " " * (8193 - len(address)))

    def test_none_of_thousands_is_silently_wrong(self):
        source = random.Random(9)
        names = list(DAMAGES)
        counts = {"whole": 0, "in part, and said": 0, "asked about": 0, "refused": 0}
        for n in range(thorough(10_000, 3_000)):
            server, key = sound(source)
            chosen = [names[n % len(names)]] if n < 500 else source.sample(names, source.randrange(1, 4))
            s, k, glue = server, key, source.choice([" ", "\n", "  ", "\t"])
            for name in chosen:
                s, k, glue = DAMAGES[name](s, k, glue, source)
            parts = [s, k] if source.random() < 0.6 or not k else [k, s]
            text = glue.join(part for part in parts if part)
            pattern = PATTERN if source.random() < 0.6 else None
            try:
                found = untangle(text, pattern=pattern, known=KNOWN, ports=PORTS)
            except PasteError as error:
                counts["refused"] += 1
                self.assertNotIn(key, str(error))
                self.assertNotIn(key[5:], str(error))
                continue
            if found.questions:
                counts["asked about"] += 1
                continue
            self.assertNotIn(key, repr(found))
            meant = {server, SERVER.replace("/live", "/regatta")} if "new application" in chosen else {server}
            if {"no scheme", "two schemes"} <= set(chosen):  # the one takes off what the other doubles
                meant |= {one.replace("rtmp:", "rtmps:") for one in meant}
            if "new application" in chosen and found.server is not None and str(found.server) != server:
                self.assertTrue(any("new application" in said for said in found.repairs), (chosen, text))
            if found.server is None:
                self.assertTrue(found.left, (chosen, text))
            else:
                self.assertIn(str(found.server), meant, (chosen, text))
            kept = key if pattern or not CHANGES & set(chosen) else found.key
            if found.key is not None:
                self.assertEqual(found.key, kept, (chosen, text, pattern))
            counts["whole" if found.server is not None and found.key is not None else "in part, and said"] += 1
        self.assertGreater(counts["whole"], 0.4 * sum(counts.values()), counts)
        self.assertGreater(counts["refused"], 0.15 * sum(counts.values()), counts)

    def test_what_is_certain_is_repaired_and_said(self):
        source = random.Random(10)
        for name in list(DAMAGES)[: list(DAMAGES).index("angle brackets") + 1]:
            server, key = sound(source)
            s, k, glue = DAMAGES[name](server, key, " ", source)
            found = untangle(glue.join(part for part in (s, k) if part), pattern=PATTERN, known=KNOWN, ports=PORTS)
            self.assertEqual((str(found.server), found.key), (server, key), name)
            self.assertTrue(found.repairs, name)

    def test_what_is_not_certain_is_refused_and_explained(self):
        source = random.Random(11)
        server, key = sound(source)
        for name, words in (
            ("key cut", "ends too early"), ("letter lost", "character|ends too early"), ("odd letter", "character 9 of 22"), ("wrong port", "port 443"),
            ("bare address", "local network"), ("other host", "bare IP"), ("no application", "no application"),
            ("other application", "one letter off live"), ("two schemes", "two schemes"),
        ):  # fmt: skip
            s, k, glue = DAMAGES[name](server, key, " ", source)
            with self.assertRaisesRegex(PasteError, words):
                certain(f"{s}{glue}{k}")
        for text, words in (
            ("", "nothing"), ("x" * 9000, "9000 characters"), (f"{server} rtmp://other.example/a {key}", "none of|two different"),
        ):
            with self.assertRaisesRegex(PasteError, words):
                untangle(text, pattern=PATTERN, known=KNOWN, ports=PORTS)


class Alone(unittest.TestCase):
    def test_without_a_pattern_little_is_certain(self):
        found = untangle("abcd-1234 rtmp://in.copse.example/app")
        self.assertEqual((str(found.server), found.key), ("rtmp://in.copse.example/app", "abcd-1234"))
        for text, words in (
            ("rtmp://in.copse.example/app/abcd-1234", "may hold the key"), ("ab\u00e4cd", "character 3"), ("one two", "too short"), ("heron coot", "2 different words"),
        ):  # fmt: skip
            with self.assertRaisesRegex(PasteError, words):
                untangle(text)

    def test_a_key_behind_the_scheme_is_not_repeated(self):
        for text in ("rtmp://FAKE~AAAACCC-DDDDEEEEC", "rtmp://FAKE~AAAACCC-DDDDEEEEC/live", "http:FAKE~AAAACCC-DDDDEEEEC"):
            with self.assertRaises(PasteError) as caught:
                untangle(text, pattern=PATTERN, known=KNOWN, ports=PORTS)
            self.assertNotIn("aaaa", str(caught.exception).lower())

    def test_either_alone(self):
        self.assertIsNone(untangle(SERVER, known=KNOWN).key)
        self.assertIsNone(untangle("FAKE~AAAACCC-DDDDEEEEC", pattern=PATTERN).server)

    def test_a_key_in_the_address_is_found_by_its_pattern_where_no_application_is_known(self):
        key = "FAKE~AAAACCC-DDDDEEEEC"
        for app in ("live", "live/second", "a/b/c"):
            found = untangle(f"rtmp://in.copse.example/{app}/{key}", pattern=PATTERN)
            self.assertEqual((str(found.server), found.key), (f"rtmp://in.copse.example/{app}", key))

    def test_keys_with_query_arguments(self):
        found = untangle(f"{SERVER}/stream-1?token=a%2Fb&x=1", known=KNOWN)
        self.assertEqual(found.key, "stream-1?token=a%2Fb&x=1")

    def test_look_alikes_need_one_reading_only(self):
        self.assertEqual(untangle("l2OA", pattern=r"[0-9]{3}[A-Z]").key, "120A")
        with self.assertRaises(PasteError):
            untangle("1o", pattern=r"[lI][0O]")
        self.assertEqual(paste.untangle("AB", pattern="[A-Z]{2}").repairs, ())
