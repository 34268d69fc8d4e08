"""Logins over real sockets: old nonces, protected bodies, devices that lock, and never a second wrong try."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

from direkt.described.errors import BadAnswer, DeviceLoginRefused
from direkt.described.http import HttpInterface, Upload, pieces
from direkt.protocol import refusals
from direkt.secret import Secret
from direkt.sim.web import Faults, Login, Web, WebRequest, WebResponse
from direkt.store.refused_logins import RefusedLogins


class Logins(unittest.TestCase):
    def serve(self, *schemes, qop="auth", life=300.0, **faults):
        self.faults = Faults(**faults)
        self.login = Login("pond", "op", "pw", schemes, self.faults)
        self.login.qop, self.login.nonce_life = qop, life
        self.bodies = []

        def answer(request: WebRequest) -> WebResponse:
            right, stale = self.login.check(request)
            if not right:
                return WebResponse(401, b"", headers=self.login.challenges(stale=stale))
            self.bodies.append(request.body)
            return WebResponse(200, b'{"a": 1}', "application/json")

        self.web = Web(answer, self.faults)
        self.web.open()
        self.addCleanup(self.web.close)

    def talk(self, password="pw", kind="any"):
        made = HttpInterface("tower", f"http://127.0.0.1:{self.web.port}", kind, ("op", Secret(password)))
        self.addCleanup(made.close)
        return made

    def tearDown(self):
        refusals.remember_in(None)

    def test_a_password_that_was_changed_meanwhile_locks_nobody_out(self):
        for scheme in ("basic", "digest MD5"):
            refusals.remember_in(None)
            self.serve(scheme)
            talk = self.talk()
            for _ in range(3):
                talk.ask("GET", "/state")
            self.login.password = "another"
            self.login._nonces.clear()
            for _ in range(20):
                with self.assertRaisesRegex(DeviceLoginRefused, "which it took before: was the password changed"):
                    talk.ask("GET", "/state")
            for _ in range(5):  # nor is it sent by anybody else in this process
                with self.assertRaisesRegex(DeviceLoginRefused, "direkt device login tower"):
                    self.talk().ask("GET", "/state")
            self.assertLessEqual(self.login.wrong, 2, scheme)

    def test_the_next_process_knows_it_until_the_login_changes(self):
        with tempfile.TemporaryDirectory() as folder:
            wall = lambda: 1_800_000_000.0  # noqa: E731
            self.serve("digest SHA-256")
            for n in range(4):
                refusals.remember_in(None)
                refusals.remember_in(RefusedLogins(Path(folder), wall))  # a process of its own
                with self.assertRaises(DeviceLoginRefused):
                    self.talk("wrong").ask("GET", "/")
                self.assertEqual(self.login.wrong, 1, n)
            kept = (Path(folder) / "refused-logins.json").read_text()
            self.assertNotIn("wrong", kept.replace("refused", ""))
            self.assertEqual((Path(folder) / "refused-logins.json").stat().st_mode & 0o777, 0o600)
            self.assertTrue(self.talk("pw").ask("GET", "/")[0])  # another login is sent
            refusals.current().forget(f"http://127.0.0.1:{self.web.port}", "op", Secret("wrong"))
            with self.assertRaises(DeviceLoginRefused):
                self.talk("wrong").ask("GET", "/")
            self.assertEqual(self.login.wrong, 2)

    def test_what_that_user_may_not_do_is_asked_once_and_all_else_goes_on(self):
        self.serve("digest MD5")
        talk = self.talk()
        talk.ask("GET", "/state")
        check = self.login.check
        self.login.check = lambda request: (False, False) if request.path == "/restart" else check(request)
        for _ in range(5):
            with self.assertRaisesRegex(DeviceLoginRefused, "but not for this"):
                talk.ask("POST", "/restart")
            self.assertTrue(talk.ask("GET", "/state")[0])

    def test_each_scheme(self):
        for schemes in (("digest MD5",), ("digest SHA-256",), ("digest SHA-512-256", "basic"), ("basic",), ("digest MD5-SESS",)):
            for qop in ("auth", "auth-int", ""):
                self.serve(*schemes, qop=qop)
                talk = self.talk()
                for _ in range(3):
                    self.assertEqual(talk.ask("PUT", "/x?y=z", {"b": [1]}), (True, {"a": 1}), (schemes, qop))
                self.assertEqual((self.login.wrong, self.bodies[0]), (0, b'{"b": [1]}'))

    def test_a_nonce_that_grows_old_is_no_wrong_login(self):
        for life in (0.0, 0.01):
            self.serve("digest SHA-256", life=0.2 if life else 0.05)
            talk = self.talk()
            for _ in range(3):
                talk.ask("GET", "/")
                self.login._nonces.clear()
            self.assertEqual(self.login.wrong, 0)

    def test_a_device_that_forgets_its_nonces_without_a_word(self):
        self.serve("digest MD5")
        challenges = self.login.challenges
        with mock.patch.object(self.login, "challenges", lambda *, stale=False: challenges(stale=False)):
            talk = self.talk()
            talk.ask("GET", "/")
            self.login._nonces.clear()
            self.assertEqual(talk.ask("GET", "/")[1], {"a": 1}, "a login that was taken before may go once more")

    def test_a_wrong_login_goes_once(self):
        for schemes, words in (
            (("digest MD5", "basic"), r"digest MD5; it offers digest MD5 and basic"), (("basic",), r"\(basic; it offers basic\)"),
        ):
            self.serve(*schemes, locks=True)
            talk = self.talk("wrong")
            with self.assertRaisesRegex(DeviceLoginRefused, words):
                talk.ask("GET", "/")
            for _ in range(5):
                with self.assertRaisesRegex(DeviceLoginRefused, "not sent again"):
                    talk.ask("GET", "/")
            self.assertEqual((self.login.wrong, self.login.locked), (1, False))

    def test_a_scheme_that_does_not_fit_is_not_tried(self):
        self.serve("basic")
        with self.assertRaisesRegex(DeviceLoginRefused, "wants a basic login, its driver uses digest"):
            self.talk(kind="digest").ask("GET", "/")
        self.serve("digest MD5")
        with self.assertRaisesRegex(DeviceLoginRefused, "wants a digest MD5 login, its driver uses basic"):
            self.talk(kind="basic").ask("GET", "/")
        self.assertEqual(self.login.wrong, 0)

    def test_a_file_goes_in_pieces_with_its_login(self):
        for qop in ("auth", "auth-int"):
            self.serve("digest SHA-256", qop=qop)
            data, sent = bytes(range(256)) * 2000, []
            talk = self.talk()
            talk.ask("GET", "/")
            upload = Upload(lambda data=data: pieces(data), len(data), sent.append)
            self.assertEqual(talk.admitted("POST", "/up", upload).status, 200)
            self.assertEqual((self.bodies[-1], sent[-1]), (data, len(data)))
            self.assertEqual(self.login.wrong, 0)

    def test_paths_stay_on_the_device(self):
        self.serve("basic")
        for path in ("//elsewhere.example/x", "http://elsewhere.example/", ""):
            with self.assertRaises(ValueError):
                self.talk().exchange("GET", path)

    def test_a_cut_connection_is_said(self):
        self.serve("basic", malformed=True)
        with self.assertRaises(BadAnswer):
            self.talk().ask("GET", "/")


if __name__ == "__main__":
    unittest.main()
