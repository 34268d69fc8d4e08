import unittest

from direkt.destination.allowed import Trust
from direkt.destination.references import Sources
from direkt.documents import DocumentError
from direkt.rig import file as rig
from direkt.rig.file import RigError
from tests.support import KEY, LOGIN, RIG, Folder


class Rigs(Folder):
    def load(self, text: str | None = None) -> rig.Rig:
        return rig.load(self.file("rig.yaml", RIG.format(port=8480) if text is None else text))

    def test_a_whole_rig(self):
        found = self.load()
        feed, device, destination = found.feed(found.feed_name(None))
        self.assertEqual((feed.channel, feed.slot, feed.weight), ("main", 1, 1))
        self.assertEqual((device.address, destination.sheet), ("http://127.0.0.1:8480", "tarnlight"))
        self.assertEqual(found.sheet(destination).name, "Tarnlight")
        self.file("secrets.yaml", f"tarnlight: {KEY}\n", 0o600)
        self.assertEqual(found.key(destination, Sources({})).reveal(), KEY)
        user, password = found.login(device, Sources({"DIREKT_TOWER_LOGIN": LOGIN}, trust=Trust().seeing(["DIREKT_TOWER_LOGIN"])))
        self.assertEqual((user, password.reveal()), ("operator", "fake-password"))
        self.assertEqual(found.feeds_to("tarnlight"), ["finish"])
        self.assertNotIn("fake-password", repr((user, password)))

    def test_entries_that_had_other_names(self):
        for text, line, old, new in (
            ("watch:\n  mend: {push: 3}\n", 2, "watch.mend", "recover"), ("watch:\n  tell: {}\n", 2, "watch.tell", "notify"),
            ("watch:\n  notify:\n    boss: {command: x, least: fail}\n", 3, "watch.notify.boss.least", "min_severity"),
            ("events:\n  finals: {title: F, start: 2026-07-05 12:00, length: 3h, feeds: [finish], tell: [boss]}\n", 2, "events.finals.tell", "notify"),
        ):  # fmt: skip
            whole = RIG.format(port=1)
            with self.assertRaises(DocumentError) as caught:
                self.load(whole + text)
            self.assertIn(f"rig.yaml:{whole.count(chr(10)) + line}: '{old}' is called '{new}' now: write that instead", str(caught.exception))

    def test_names_that_are_not_there_or_not_clear(self):
        found = self.load(RIG.format(port=1) + "  second: {device: tower, destination: tarnlight}\n")
        with self.assertRaisesRegex(RigError, "name the feed: .*finish, second"):
            found.feed_name(None)
        with self.assertRaisesRegex(RigError, "no feed 'third'"):
            found.feed_name("third")

    def test_mistakes_with_their_lines(self):
        good = RIG.format(port=8480)
        for old, new, words in (
            ("http://127.0.0.1:8480", "127.0.0.1", "rig.yaml:4: .*expected an address like http://"), ("http://127", "http://a:b@127", "holds a login"),
            ("http://127.0.0.1:8480", "http://127.0.0.1:99999", "expected an address like"), ("http://127.0.0.1:8480", "http://:80", "expected an address like"),
            ("env:DIREKT_TOWER_LOGIN", LOGIN, "expected a reference"), ("rtmp://ingest", "rtmp://rtmp://ingest", "its scheme twice"),
            ("file:secrets.yaml#tarnlight", KEY, "expected a reference"), ("device: tower", "device: twoer", "feeds.finish.device: no device 'twoer'; there is tower"),
            ("destination: tarnlight", "destination: x", "no destination 'x'"), ("direkt.rig/1", "direkt.rig/2", "rig.yaml:1: schema: expected 'direkt.rig/1'"),
            ("{device:", "{slot: 0, device:", "greater than or equal to 1"), ("name: Test", "name: Test\nuplink: {mbit_s: -1}", "greater than 0"),
        ):  # fmt: skip
            with self.assertRaises(DocumentError) as caught:
                self.load(good.replace(old, new, 1))
            self.assertRegex(str(caught.exception), words)
            self.assertNotIn(KEY, str(caught.exception))
            self.assertNotIn(LOGIN, str(caught.exception))


if __name__ == "__main__":
    unittest.main()
