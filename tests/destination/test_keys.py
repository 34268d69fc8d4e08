import json
import random
import stat
import unittest
from unittest import mock

from direkt.destination import forms, references
from direkt.destination.allowed import Trust
from direkt.destination.forms import Endpoint
from direkt.destination.keystore import Binding, KeyStore, StoreError
from direkt.destination.references import SecretError, Sources
from direkt.protocol import address
from direkt.protocol.address import AddressError, ServerAddress
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

    def test_srt_has_an_address_and_a_stream_id_and_no_one_url(self):
        for host in ("in.example", "192.0.2.9", "2001:db8::7"):
            for stream in ("varn~fake~heron", "#!::r=live/varn,m=publish", "a/b?c=d"):
                e = Endpoint(ServerAddress("srt", host, 9000, ""), stream)
                with self.assertRaisesRegex(AddressError, "two fields"):
                    forms.join(e, "url")
                for form in ("url+key", "parts"):
                    self.assertEqual(forms.split(forms.join(e, form), form), e)
        self.assertEqual([bool(forms.labels("srt", form)) for form in forms.FORMS], [False, True, True])
        self.assertEqual(forms.join(e, "url+key"), {"server": "srt://[2001:db8::7]:9000", "key": "a/b?c=d"})
        self.assertEqual(forms.labels("srt", "url+key")["key"], "Stream ID")

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
            ("h.example", None), ("h.example:1", 1), ("h.example:65535", 65535), ("[::1]:80", 80), ("[::1]", None),
        ):
            self.assertEqual(address.split_place(text)[1], wanted)
        for port in ("0", "65536", "-1", "+5", "8a", "\u0663", "1.5", "99999999999"):
            with self.assertRaisesRegex(AddressError, "from 1 to 65535"):
                address.split_place(f"h.example:{port}")


def entry_of(store, rig, own, to):
    return references.StoreName(Sources({}, store, Trust(rig=rig), own), store, "rig/a", to)


HERE = Binding("/r/rig.yaml", "a" * 16)


class Store(Folder):
    def store(self, ring=None) -> KeyStore:
        made = KeyStore(self.folder / "config")
        made._keyring = lambda: ring
        return made

    def test_keys_go_into_the_keyring_or_into_a_file_of_mode_0600(self):
        ring = Ring()
        for chosen, where in ((ring, "keyring"), (None, "file"), (Ring(broken=True), "file")):
            store = self.store(chosen)
            self.assertEqual(store.put("rig/a", KEY, HERE).where, where)
            self.assertEqual(store.get("rig/a"), KEY)
            for path in (self.folder / "config").iterdir():
                self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600, path)
                if where == "keyring":
                    self.assertNotIn(KEY, path.read_text())

    def test_exposed_until_it_changes(self):
        store = self.store()
        store.put("a", KEY, HERE)
        self.assertTrue(store.expose("a", HERE))
        self.assertTrue(store.put("a", KEY, HERE).exposed, "the same key again is still exposed")
        self.assertFalse(store.put("a", KEY + "2", HERE).exposed)
        self.assertFalse(store.expose("b", HERE))
        self.assertTrue(store.forget("a", HERE))
        self.assertFalse(store.forget("a", HERE))
        self.assertEqual(store.kept(), [])

    def test_damage_is_named(self):
        store = self.store()
        store.put("a", KEY, HERE)
        (self.folder / "config" / "keys-secret.json").chmod(0o644)
        with self.assertRaisesRegex(StoreError, "chmod 600"):
            store.get("a")
        (self.folder / "config" / "keys.json").write_text("{")
        with self.assertRaisesRegex(StoreError, "damaged"):
            store.kept()

    def test_a_key_belongs_to_a_rig_and_to_its_places(self):
        store, ref = self.store(), references.parse_ref("store:rig/a")
        here, id_, places = "/r/rig.yaml", "a" * 16, ("ingest.example:1935", "backup.example:443")
        store.put("rig/a", KEY, Binding(here, id_, places))
        for rig, own, to, trusted, refusal in (
            (here, id_, places[:1], False, None), (here, "", places, False, None), (here, id_, (), False, None),
            (here, id_, ("ingest.example:443",), False, "was kept for .*ingest.example:1935, and this rig sends it to ingest.example:443; if that is right"),
            (here, id_, (places[0], "evil.example:1935"), False, "sends it to evil.example:1935"), (here, id_, ("evil.example:1935",), True, None),
            (here, "b" * 16, places, False, "another rig that lay at this path"), ("/s/rig.yaml", id_, places, False, "kept for /r/rig.yaml: this rig is not trusted"),
            ("/s/rig.yaml", "b" * 16, places, True, None),
        ):  # fmt: skip
            sources = Sources({}, store, Trust(trusted, rig=rig), own)
            entry = references.StoreName(sources, store, "rig/a", to)
            if refusal is None:
                self.assertEqual(references.resolve(ref, sources, self.folder, to).reveal(), KEY)
                self.assertEqual(entry.get(), KEY)
            else:
                for take in (entry.get, lambda s=sources, t=to: references.resolve(ref, s, self.folder, t)):
                    with self.assertRaisesRegex(SecretError, refusal):
                        take()
        for other in (Binding("/s/rig.yaml", id_), Binding(here, "b" * 16)):
            for take in (lambda b=other: store.put("rig/a", "x~stranger", b), lambda b=other: store.forget("rig/a", b), lambda b=other: store.expose("rig/a", b)):
                with self.assertRaisesRegex(StoreError, "left alone"):
                    take()
            self.assertEqual(references.own_name("a", "rig", Sources({}, store, Trust(rig=other.rig), other.id), store), f"rig-{other.id[:8]}/a")
        self.assertEqual(store.get("rig/a"), KEY)
        self.assertTrue(store.bind("rig/a", Binding("/s/rig.yaml", "c" * 16, ("x:1",))))
        self.assertEqual(entry_of(store, "/s/rig.yaml", "c" * 16, ("x:1",)).get(), KEY)
        self.assertEqual([one.rig for one in store.bound("rig/a")], [here, "/s/rig.yaml"])

    def test_entries_of_an_older_direkt_and_damaged_ones(self):
        store = self.store()
        for entry, rigs in (
            ({"rig": "/r/rig.yaml"}, ["/r/rig.yaml"]), ({"rig": ""}, []), ({}, []), ({"bound": "x"}, []), ({"bound": [1, {"rig": "/r", "to": 5}]}, ["/r"]),
            ({"rig": 5}, []),
        ):
            self.folder.joinpath("config").mkdir(exist_ok=True)
            (self.folder / "config" / "keys.json").write_text(json.dumps({"a": {"where": "file", "since": "", "exposed": False, **entry}}))
            self.assertEqual([one.rig for one in store.bound("a")], rigs, entry)

    def test_references_to_the_store_and_to_commands(self):
        store = self.store()
        store.put("rig/a", KEY, HERE)
        sources = Sources({}, store, Trust(commands=True))
        self.assertEqual(references.resolve(references.parse_ref("store:rig/a"), sources, self.folder).reveal(), KEY)
        self.assertEqual(
            references.resolve(references.parse_ref(f"command:printf '%s\\nmore' {KEY}"), sources, self.folder).reveal(), KEY,
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
