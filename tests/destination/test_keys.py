import random
import stat
import unittest
from unittest import mock

from direkt.destination import forms, references
from direkt.destination.forms import Endpoint
from direkt.destination.keystore import KeyStore, StoreError
from direkt.destination.references import SecretError, Sources
from direkt.protocol import address
from direkt.protocol.address import AddressError, ServerAddress
from direkt.trust import Trust
from tests.support import KEY, Folder


class Forms(unittest.TestCase):
    def test_nothing_is_lost_in_any_form(self):
        source = random.Random(12)
        letters = "abcXYZ019-_.~%&=+:@"
        for _ in range(2000):

            def word(extra: str = "", least: int = 1) -> str:
                return "".join(source.choice(letters + extra) for _ in range(source.randrange(least, 9)))

            scheme = source.choice(["rtmp", "rtmps"])
            host = source.choice(["in.example", "192.0.2.9", "2001:db8::7"])
            port = source.choice([1935, 443, 8080])
            app = "/".join(word() for _ in range(source.randrange(1, 4)))
            stream = word() + source.choice(["", "?" + word("/?"), "/" + word()])
            user = source.choice(["", word("/?# ")])
            e = Endpoint(ServerAddress(scheme, host, port, app), stream, user, word("/?# ") if user else "")
            for form in forms.FORMS:
                self.assertEqual(forms.split(forms.join(e, form), form, app if form == "url" else None), e, (form, e))

    def test_one_url_without_a_hint_ends_its_application_at_the_last_slash(self):
        e = forms.split({"url": "rtmp://h.example/live/a/key?x=1/2"}, "url")
        self.assertEqual((e.server.app, e.stream, e.server.port), ("live/a", "key?x=1/2", 1935))

    def test_mistakes(self):
        for fields, form, words in (
            ({"url": "rtmp://h.example/live"}, "url", "no stream name"), ({}, "url+key", "'server'"), ({"server": "h/live", "key": "k"}, "url+key", "no scheme"),
            ({"url": "rtmp://h.example:x/live/k"}, "url", "port is not a number"), ({"server": "srt://h/live", "key": "k"}, "url+key", "no usual port"),
        ):  # fmt: skip
            with self.assertRaisesRegex(AddressError, words):
                forms.split(fields, form)

    def test_the_endpoint_of_a_destination_hides_its_key(self):
        e = Endpoint(address.parse("rtmp://h.example/live"), KEY)
        self.assertNotIn(KEY, repr(e))


class Ring:
    """A keyring of the test's own."""

    priority = 5

    def __init__(self, broken: bool = False) -> None:
        self.kept, self.broken = {}, broken

    def set_password(self, service, name, value):
        if self.broken:
            raise RuntimeError("locked")
        self.kept[name] = value

    def get_password(self, service, name):
        return self.kept.get(name)

    def delete_password(self, service, name):
        del self.kept[name]


class Places(unittest.TestCase):
    def test_ports(self):
        for text, wanted in (
            ("h.example", None),
            ("h.example:1", 1),
            ("h.example:65535", 65535),
            ("[::1]:80", 80),
            ("[::1]", None),
        ):
            self.assertEqual(address.split_place(text)[1], wanted)
        for port in ("0", "65536", "-1", "+5", "8a", "\u0663", "1.5", "99999999999"):
            with self.assertRaisesRegex(AddressError, "from 1 to 65535"):
                address.split_place(f"h.example:{port}")


class Store(Folder):
    def store(self, ring=None) -> KeyStore:
        made = KeyStore(self.folder / "config")
        made._keyring = lambda: ring
        return made

    def test_keys_go_into_the_keyring_or_into_a_file_of_mode_0600(self):
        ring = Ring()
        for chosen, where in ((ring, "keyring"), (None, "file"), (Ring(broken=True), "file")):
            store = self.store(chosen)
            self.assertEqual(store.put("rig/a", KEY).where, where)
            self.assertEqual(store.get("rig/a"), KEY)
            for path in (self.folder / "config").iterdir():
                self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600, path)
                if where == "keyring":
                    self.assertNotIn(KEY, path.read_text())

    def test_exposed_until_it_changes(self):
        store = self.store()
        store.put("a", KEY)
        self.assertTrue(store.expose("a"))
        self.assertTrue(store.put("a", KEY).exposed, "the same key again is still exposed")
        self.assertFalse(store.put("a", KEY + "2").exposed)
        self.assertFalse(store.expose("b"))
        self.assertTrue(store.forget("a"))
        self.assertFalse(store.forget("a"))
        self.assertEqual(store.kept(), [])

    def test_damage_is_named(self):
        store = self.store()
        store.put("a", KEY)
        (self.folder / "config" / "keys-secret.json").chmod(0o644)
        with self.assertRaisesRegex(StoreError, "chmod 600"):
            store.get("a")
        (self.folder / "config" / "keys.json").write_text("{")
        with self.assertRaisesRegex(StoreError, "damaged"):
            store.kept()

    def test_references_to_the_store_and_to_commands(self):
        store = self.store()
        store.put("rig/a", KEY)
        sources = Sources({}, store, Trust(commands=True))
        self.assertEqual(references.resolve(references.parse_ref("store:rig/a"), sources, self.folder).reveal(), KEY)
        self.assertEqual(
            references.resolve(
                references.parse_ref(f"command:printf '%s\\nmore' {KEY}"), sources, self.folder
            ).reveal(),
            KEY,
        )
        for ref, words in (
            ("store:rig/b", "direkt key set b"), ("command:no-such-program", "cannot be run"), ("command:false", "exit code 1"), ("command:'x", "cannot be run"),
            ("command:printf '\\377'", "is no text"), ("command:true", "is empty"),
        ):  # fmt: skip
            with self.assertRaisesRegex(SecretError, words):
                references.resolve(references.parse_ref(ref), sources, self.folder)
        endless = references.resolve(references.parse_ref(f"command:yes {KEY}"), sources, self.folder)
        self.assertEqual(endless.reveal(), KEY, "what follows the first line is not waited for")
        with mock.patch.object(references, "_COMMAND_LIMIT", 0.3), self.assertRaisesRegex(SecretError, "within 0.3 s"):
            references.resolve(references.parse_ref("command:sh -c 'sleep 60 & sleep 60'"), sources, self.folder)
