import unittest

from direkt.destination import references
from direkt.destination.allowed import Trust
from direkt.destination.references import SecretError, Sources
from direkt.protocol import address
from direkt.protocol.address import AddressError
from direkt.secret import Secret
from tests.support import KEY, Folder

SEEN = Trust().seeing(["DIREKT_K", "DIREKT_NONE"])


class Secrets(Folder):
    def test_a_secret_prints_masked_everywhere(self):
        s = Secret(KEY)
        for text in (str(s), repr(s), f"{s}", f"{[s]}", f"{s}"):
            self.assertNotIn(KEY, text)
            self.assertIn("va", text)
            self.assertIn(str(len(KEY)), text)
        self.assertEqual((s.reveal(), s), (KEY, Secret(KEY)))

    def test_from_the_environment_and_from_a_file_of_mode_0600(self):
        self.assertEqual(
            references.resolve(references.parse_ref("env:DIREKT_K"), Sources({"DIREKT_K": KEY}, trust=SEEN), self.folder).reveal(),
            KEY,
        )
        self.file("s.yaml", f"a: {KEY}\nn: 1234\n", 0o600)
        self.assertEqual(references.resolve(references.parse_ref("file:s.yaml#a"), Sources({}), self.folder).reveal(), KEY)
        self.assertEqual(references.resolve(references.parse_ref("file:s.yaml#n"), Sources({}), self.folder).reveal(), "1234")

    def test_mistakes_say_what_to_do_and_never_hold_the_secret(self):
        self.file("open.yaml", f"a: {KEY}\n", 0o644)
        self.file("bad.yaml", f"a: [{KEY}\n", 0o600)
        self.file("s.yaml", f"a: {KEY}\nspace: ' {KEY}'\nempty: ''\n", 0o600)
        for ref, words in (
            ("env:DIREKT_NONE", "NONE is not set"), ("file:open.yaml#a", "chmod 600"), ("file:bad.yaml#a", "not valid YAML"),
            ("file:s.yaml#b", "no entry 'b'; it has a, empty, space"), ("file:none.yaml#a", "no such file"),
            ("file:s.yaml#space", "space"), ("file:s.yaml#empty", "is empty"),
        ):  # fmt: skip
            with self.assertRaises(SecretError) as caught:
                references.resolve(references.parse_ref(ref), Sources({}, trust=SEEN), self.folder)
            self.assertIn(words, str(caught.exception))
            self.assertNotIn(KEY, str(caught.exception))
        for text in (KEY, "env:", "file:x", "plain:x#y", "env:a b"):
            with self.assertRaises(SecretError) as caught:
                references.parse_ref(text)
            self.assertNotIn(KEY, str(caught.exception))

    def test_logins(self):
        user, password = references.login_of(Secret("op:pa:ss"), "x")
        self.assertEqual((user, password.reveal()), ("op", "pa:ss"))
        with self.assertRaises(SecretError):
            references.login_of(Secret("password"), "x")


class Addresses(unittest.TestCase):
    def test_sound_ones(self):
        for text, host, port, app in (
            ("rtmp://ingest.example/live", "ingest.example", 1935, "live"), ("rtmp://192.0.2.7:1936/a/b", "192.0.2.7", 1936, "a/b"),
            ("rtmp://[2001:db8::1]/live", "2001:db8::1", 1935, "live"),
        ):  # fmt: skip
            found = address.parse(text)
            self.assertEqual((found.host, found.port, found.app, str(found)), (host, port, app, text))

    def test_mistakes_are_named(self):
        for text, words in (
            ("rtmp://rtmp://h.example/live", "twice"), ("rtmp://h.example/live ", "space"), ("h.example/live", "no scheme"),
            ("http://h.example/live", "'http'"), ("rtmp://h.example", "no application"), ("rtmp://h.example/", "no application"),
            ("rtmp://h.example//live", "doubled slash"), ("rtmp://h.example/live/", "ends with a slash"), ("rtmp://h.example:99999/a", "port"),
            ("rtmp://h_!.example/a", "neither a name"), ("rtmp://u:p@h.example/a", "login"), ("rtmp:///live", "host ''"),
        ):  # fmt: skip
            with self.assertRaisesRegex(AddressError, words):
                address.parse(text)
