"""People are told: by a webhook whose signature others can check, by mail over TLS, by a command; each state once."""

import contextlib
import datetime
import email
import json
import socket
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from unittest import mock

import requests
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult
from http_message_signatures import HTTPMessageVerifier, HTTPSignatureKeyResolver, InvalidSignature, algorithms

from direkt.destination.allowed import Trust
from direkt.destination.references import Sources
from direkt.net import certificates
from direkt.protocol import httpsignature
from direkt.rig import file as rigs
from direkt.store.notified import NotifiedMemory
from direkt.watch import notify
from direkt.watch.notices import Condition, Key, Notice, Notices
from tests.support import Folder, free_port, wait_until

SECRET = "varn~fake~hook~secret"
PASSWORD = "varn~fake~mail"
RIG = """\
schema: direkt.rig/1
name: Regatta
events:
  finals: {{title: The finals, start: 2026-07-05 12:00, length: 3h, feeds: [finish], notify: [boss]}}
devices: {{tower: {{driver: brindle-b2, address: "http://192.0.2.1"}}}}
destinations: {{main: {{sheet: tarnlight, server: "rtmp://192.0.2.2/live", key: "env:DIREKT_KEY"}}}}
feeds: {{finish: {{device: tower, destination: main}}}}
watch:
  notify:
{tell}
"""


class Hook:
    """A webhook's receiver; the first answers are those that it is given."""

    def __init__(self, *statuses, tls=None):
        hook = self
        self.got, self.statuses = [], list(statuses)

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self):
                body = self.rfile.read(int(self.headers["Content-Length"]))
                hook.got.append((self.path, dict(self.headers), body))
                self.send_response(hook.statuses.pop(0) if hook.statuses else 204)
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_):
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        if tls is not None:
            self.server.socket = tls.wrap_socket(self.server.socket, server_side=True)
        self.port = self.server.server_address[1]
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def close(self):
        self.server.shutdown()
        self.server.server_close()


class Resolver(HTTPSignatureKeyResolver):
    def resolve_public_key(self, key_id):
        return SECRET.encode()

    resolve_private_key = resolve_public_key


def notice(phase="begins", name="finish", kind="drop", weight="fail", event="", number=1):
    return Notice(phase, Key(kind, name), Condition(weight, "the push has dropped: refused", "direkt push state finish", event), 1.8e9, 1.8e9 + 5, number)


class Telling(Folder):
    def people(self, *lines, trust=True, **environment):
        path = self.file("rig.yaml", RIG.format(tell="\n".join(f"    {line}" for line in lines)))
        self.rig = rigs.load(path)
        sources = Sources({"DIREKT_HOOK": SECRET, "DIREKT_MAIL": f"direkt:{PASSWORD}", **environment}, None, Trust(True, None) if trust else Trust())
        return notify.targets(self.rig, sources)

    def teller(self, *lines, pauses=(0.05, 0.1), wall=time.time, kept=None, **more):
        people, wrong = self.people(*lines, **more)
        self.assertEqual(wrong, [])
        self.told = []
        made = notify.Telling(self.rig, people, wall, lambda *told: self.told.append(told), pauses, kept)
        self.addCleanup(made.close)
        return made

    # Webhooks

    def test_a_webhook_gets_json_whose_signature_others_can_check(self):
        hook = Hook()
        self.addCleanup(hook.close)
        teller = self.teller(f"boss: {{webhook: 'http://127.0.0.1:{hook.port}/direkt?x=1', secret: 'env:DIREKT_HOOK'}}")
        teller.tell(notice(event="finals"))
        wait_until(lambda: hook.got)
        path, headers, body = hook.got[0]
        found = json.loads(body)
        self.assertEqual((path, found["schema"], found["phase"], found["name"], found["event"]), ("/direkt?x=1", "direkt.notice/1", "begins", "finish", "finals"))
        self.assertEqual((found["since"], found["at"]), ("2027-01-15T08:00:00Z", "2027-01-15T08:00:05Z"))
        self.assertNotIn(SECRET, body.decode() + repr(headers))
        # a library that shares no code with ours
        request = requests.Request("POST", f"http://127.0.0.1:{hook.port}/direkt?x=1", data=body, headers=headers).prepare()
        verifier = HTTPMessageVerifier(signature_algorithm=algorithms.HMAC_SHA256, key_resolver=Resolver())
        (result,) = verifier.verify(request, max_age=datetime.timedelta(days=40000))
        self.assertIn('"content-digest"', result.covered_components)
        request.headers["Content-Digest"] = httpsignature.content_digest(body + b" ")
        with self.assertRaises(InvalidSignature):
            verifier.verify(request, max_age=datetime.timedelta(days=40000))

    def test_the_digest_of_the_standards_example(self):
        # RFC 9530, Appendix D: the SHA-256 of {"hello": "world"} and a line end
        self.assertEqual(httpsignature.content_digest(b'{"hello": "world"}\n'), "sha-256=:RK/0qy18MlBSVnWgjwz6lZEWjP/lF5HF9bvEF8FabDg=:")

    def test_it_is_tried_again_and_then_said(self):
        hook = Hook(500, 503)
        self.addCleanup(hook.close)
        teller = self.teller(f"boss: {{webhook: 'http://127.0.0.1:{hook.port}/'}}")
        teller.tell(notice())
        wait_until(lambda: len(hook.got) == 3 and self.told)
        self.assertTrue(self.told[0][2])
        hook.statuses = [500, 500, 500]
        teller.tell(notice(name="mark"))
        wait_until(lambda: len(self.told) == 2)
        self.assertIn("HTTP status 500", self.told[1][1])
        hook.close()
        teller.tell(notice(name="roof"))
        wait_until(lambda: len(self.told) == 3)
        self.assertFalse(self.told[2][2])

    def test_over_tls_with_a_certificate_that_is_checked(self):
        made = certificates.make(["127.0.0.1"])
        hook = Hook(tls=made.context)
        self.addCleanup(hook.close)
        url = f"https://127.0.0.1:{hook.port}/"
        teller = self.teller(f"boss: {{webhook: '{url}'}}", pauses=())
        teller.tell(notice())
        wait_until(lambda: self.told)
        self.assertFalse(self.told[0][2])
        self.assertIn("certificate", self.told[0][1])
        teller = self.teller(f"boss: {{webhook: '{url}', certificate: any}}", pauses=())
        teller.tell(notice())
        wait_until(lambda: hook.got)

    # Mail

    def mail_server(self, *, tls_first=False, wants_login=True):
        made = certificates.make(["127.0.0.1"])
        self.mails, self.logins = [], []
        case = self

        class Handler:
            async def handle_DATA(self, server, session, envelope):  # noqa: N802
                case.mails.append(envelope)
                return "250 OK"

        def login(server, session, envelope, mechanism, data):
            case.logins.append((data.login, data.password))
            return AuthResult(success=data.password == PASSWORD.encode(), handled=False)

        more = {"ssl_context": made.context} if tls_first else {"tls_context": made.context, "require_starttls": True}
        server = Controller(Handler(), hostname="127.0.0.1", port=free_port(), authenticator=login, auth_required=wants_login, **more)
        server.start()
        self.addCleanup(server.stop)
        return server.server.sockets[0].getsockname()[1]

    def test_mail_over_starttls_and_over_tls(self):
        for first in (False, True):
            port = self.mail_server(tls_first=first, wants_login=not first)
            scheme = "smtps" if first else "smtp"
            login = "" if first else "login: 'env:DIREKT_MAIL', "
            teller = self.teller(
                f"crew: {{mail: [a@regatta.example, b@regatta.example], server: '{scheme}://127.0.0.1:{port}', {login}sender: direkt@regatta.example, "
                "certificate: any}"
            )
            teller.tell(notice(name="finish\r\nBcc: all@else.example"))
            wait_until(lambda: self.mails)
            envelope = self.mails[0]
            self.assertEqual(envelope.rcpt_tos, ["a@regatta.example", "b@regatta.example"])
            found = email.message_from_bytes(envelope.content)
            self.assertIn("the push has dropped", found["Subject"])
            self.assertEqual(found["Bcc"], None)
            self.assertEqual(found["Auto-Submitted"], "auto-generated")
            text = found.get_payload()
            self.assertIn("Next: direkt push state finish", text)
            self.assertNotIn(PASSWORD, envelope.content.decode())

    def test_a_server_without_tls_or_with_another_login_gets_no_mail(self):
        plain = Controller(type("H", (), {})(), hostname="127.0.0.1", port=free_port())
        plain.start()
        self.addCleanup(plain.stop)
        port = plain.server.sockets[0].getsockname()[1]
        teller = self.teller(f"crew: {{mail: [a@regatta.example], server: 'smtp://127.0.0.1:{port}', sender: d@regatta.example, login: 'env:DIREKT_MAIL'}}", pauses=())
        teller.tell(notice())
        wait_until(lambda: self.told)
        self.assertIn("does not do what it must", self.told[0][1])
        port = self.mail_server()
        teller = self.teller(
            f"crew: {{mail: [a@regatta.example], server: 'smtp://127.0.0.1:{port}', sender: d@regatta.example, login: 'env:DIREKT_MAIL', certificate: any}}",
            DIREKT_MAIL="direkt:varn~fake~other", pauses=(),
        )  # fmt: skip
        teller.tell(notice())
        wait_until(lambda: self.told)
        self.assertIn("refuses the login", self.told[0][1])
        self.assertNotIn("other", self.told[0][1])

    # Commands

    def test_a_command_gets_the_notice_and_no_shell(self):
        self.file("siren.sh", "#!/bin/sh\ncat > told.json\necho \"$1\" > word\n", 0o755)
        teller = self.teller("siren: {command: './siren.sh \"a; touch b\"'}")
        teller.tell(notice())
        wait_until(lambda: self.told)
        self.assertEqual(json.loads((self.folder / "told.json").read_text())["name"], "finish")
        self.assertEqual((self.folder / "word").read_text(), "a; touch b\n")
        self.assertFalse((self.folder / "b").exists())
        for words, said in (("./nothing.sh", "cannot be started"), ("sh -c 'exit 3'", "exit code 3")):
            teller = self.teller(f'siren: {{command: "{words}"}}', pauses=())
            teller.tell(notice())
            wait_until(lambda: self.told)
            self.assertIn(said, self.told[0][1])

    def test_who_cannot_be_told_is_said_and_the_others_are_told(self):
        people, wrong = self.people(
            "siren: {command: ./siren.sh}", "boss: {webhook: 'https://hooks.example/x', secret: 'env:DIREKT_NONE'}", "crew: {webhook: 'https://hooks.example/y'}",
            trust=False,
        )  # fmt: skip
        self.assertEqual(people, [])  # webhooks and mail act as commands do: trust comes first
        self.assertTrue(all("direkt rig trust" in text for text in wrong) and len(wrong) == 3, wrong)
        people, wrong = self.people("boss: {webhook: 'https://hooks.example/x', secret: 'env:DIREKT_NONE'}", "crew: {webhook: 'https://hooks.example/y'}")
        self.assertEqual([t.name for t in people], ["crew"])
        self.assertIn("DIREKT_NONE is not set", wrong[0])

    # Whom, and how often

    def test_each_state_once_a_reminder_and_when_it_is_well(self):
        hook = Hook()
        self.addCleanup(hook.close)
        at = [1.8e9]
        teller = self.teller(f"boss: {{webhook: 'http://127.0.0.1:{hook.port}/', remind: 15m}}", wall=lambda: at[0])
        notices, key = Notices(), Key("drop", "finish")
        condition = Condition("fail", "the push has dropped")

        def turn(states, now):
            at[0] = 1.8e9 + now
            for one in notices.update(states, now, at[0]):
                teller.tell(one)
            teller.remind(notices)
            lane = teller._lanes["boss"]
            wait_until(lambda: not lane._waiting and not lane._busy)  # it tells the newest word only

        for now in range(0, 2000, 5):
            turn({key: condition}, float(now))
        turn({}, 2000.0)
        turn({key: condition}, 2005.0)  # it came back at once: the same state
        turn({}, 2010.0)
        turn({}, 2025.0)
        turn({}, 5000.0)
        wait_until(lambda: len(hook.got) == 4)
        time.sleep(0.1)
        self.assertEqual([json.loads(body)["phase"] for _, _, body in hook.got], ["begins", "again", "again", "well"])
        self.assertEqual(len({json.loads(body)["number"] for _, _, body in hook.got}), 4)

    def test_an_event_has_its_own_people_and_some_hear_of_the_worst_only(self):
        hook = Hook()
        self.addCleanup(hook.close)
        url = f"http://127.0.0.1:{hook.port}"
        teller = self.teller(f"boss: {{webhook: '{url}/boss', min_severity: fail}}", f"crew: {{webhook: '{url}/crew'}}")
        teller.tell(notice(event="finals"))
        wait_until(lambda: hook.got)
        teller.tell(notice(kind="hot", weight="advise"))
        wait_until(lambda: len(hook.got) == 2)
        teller.tell(notice("well", kind="hot", weight="advise"))
        teller.tell(notice("well", kind="disk", weight="advise"))  # of which nobody was told
        wait_until(lambda: len(hook.got) == 3)
        time.sleep(0.1)
        self.assertEqual([path for path, *_ in hook.got], ["/boss", "/crew", "/crew"])

    def test_what_nobody_has_thought_of_keeps_nobody_from_being_told(self):
        hook = Hook()
        self.addCleanup(hook.close)
        teller = self.teller(f"boss: {{webhook: 'http://127.0.0.1:{hook.port}/ü x?a=é'}}", pauses=())
        with mock.patch.object(notify, "deliver", side_effect=ZeroDivisionError):
            teller.tell(notice())
            wait_until(lambda: self.told)
        self.assertIn("it failed (ZeroDivisionError)", self.told[0][1])
        teller.tell(notice(name="mark"))
        wait_until(lambda: hook.got)
        self.assertEqual(hook.got[0][0], "/%C3%BC%20x?a=%C3%A9")

    def test_ten_thousand_notices_wait_for_nobody(self):
        teller = self.teller("boss: {webhook: 'http://192.0.2.7:9/'}")
        begin = time.monotonic()
        for n in range(10_000):
            teller.tell(notice(number=n))
        self.assertLess(time.monotonic() - begin, 5)
        self.assertLessEqual(sum(len(lane._waiting) for lane in teller._lanes.values()), 200)

    def test_one_who_is_slow_delays_nobody_else(self):
        slow, hook = Hook(), Hook()
        self.addCleanup(hook.close)
        self.addCleanup(slow.close)
        deliver = notify.deliver
        over = threading.Event()
        self.addCleanup(over.set)
        held = lambda target, *more: over.wait(20) if target.name == "slow" else deliver(target, *more)  # noqa: E731
        with mock.patch.object(notify, "deliver", held):
            lines = [f"{name}: {{webhook: 'http://127.0.0.1:{h.port}/'}}" for name, h in (("slow", slow), ("boss", hook))]
            teller = self.teller(*lines)
            begin = time.monotonic()
            for n in range(5):
                teller.tell(notice(name=f"feed-{n}"))
            wait_until(lambda: len(hook.got) == 5)
            self.assertLess(time.monotonic() - begin, 3)
            over.set()

    def test_the_newest_state_comes_first_and_only_its_newest_word(self):
        got, over = [], threading.Event()

        def deliver(target, one, rig, wall):
            got.append((one.key.name, one.phase))
            over.wait(5)

        with mock.patch.object(notify, "deliver", deliver):
            teller = self.teller("boss: {webhook: 'http://127.0.0.1:9/'}", pauses=())
            teller.tell(notice(name="a"))
            wait_until(lambda: got)
            for name, phase in (("b", "begins"), ("c", "begins"), ("b", "well"), ("d", "begins")):
                teller.tell(notice(phase, name=name))
            over.set()
            wait_until(lambda: len(got) == 4)
        self.assertEqual(got, [("a", "begins"), ("d", "begins"), ("b", "well"), ("c", "begins")])

    def test_a_receiver_that_drips_is_given_up(self):
        server = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(server.close)

        def drip():
            peer, _ = server.accept()
            with peer, contextlib.suppress(OSError):
                peer.sendall(b"HTTP/1.1 200 OK\r\n")
                for n in range(100):
                    peer.sendall(f"X-{n}: y\r\n".encode())
                    time.sleep(0.1)

        threading.Thread(target=drip, daemon=True).start()
        with mock.patch.object(notify, "_LIMIT", 0.5):
            teller = self.teller(f"boss: {{webhook: 'http://127.0.0.1:{server.getsockname()[1]}/'}}", pauses=())
            begin = time.monotonic()
            teller.tell(notice())
            wait_until(lambda: self.told)
            self.assertLess(time.monotonic() - begin, 2)
        self.assertIn("does not answer within", self.told[0][1])

    def test_a_mail_server_that_drips_is_given_up(self):
        server = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(server.close)

        def drip():
            peer, _ = server.accept()
            with peer, contextlib.suppress(OSError):
                peer.sendall(b"220 hello\r\n")
                for _ in range(100):
                    peer.sendall(b"250-more\r\n")
                    time.sleep(0.1)

        threading.Thread(target=drip, daemon=True).start()
        with mock.patch.object(notify, "_LIMIT", 0.5):
            entry = f"server: 'smtp://127.0.0.1:{server.getsockname()[1]}', sender: a@b.example"
            teller = self.teller(f"boss: {{mail: [c@d.example], {entry}}}", pauses=())
            begin = time.monotonic()
            teller.tell(notice())
            wait_until(lambda: self.told)
            self.assertLess(time.monotonic() - begin, 3)
        self.assertIn("takes longer than", self.told[0][1])

    def test_names_that_are_not_ascii_or_hold_quotes_are_signed_all_the_same(self):
        hook = Hook()
        self.addCleanup(hook.close)
        for name in ("böss", "'a \"quoted\" one'", "'back\\slash'", "日本"):
            teller = self.teller(f"{name}: {{webhook: 'http://127.0.0.1:{hook.port}/x', secret: 'env:DIREKT_HOOK'}}")
            hook.got.clear()
            teller.tell(notice(name="réti\u200bf"))
            wait_until(lambda: hook.got)
            path, headers, body = hook.got[0]
            request = requests.Request("POST", f"http://127.0.0.1:{hook.port}{path}", headers=headers, data=body).prepare()
            verifier = HTTPMessageVerifier(signature_algorithm=algorithms.HMAC_SHA256, key_resolver=Resolver())
            with mock.patch("http_message_signatures.signatures.datetime.datetime", wraps=datetime.datetime):
                verifier.verify(request, max_age=datetime.timedelta(days=1))

    def test_numbers_and_what_was_told_survive_a_restart_and_two_tell_once(self):
        hook = Hook()
        self.addCleanup(hook.close)
        line = f"boss: {{webhook: 'http://127.0.0.1:{hook.port}/'}}"
        first = self.teller(line, kept=NotifiedMemory(self.folder))
        second = self.teller(line, kept=NotifiedMemory(self.folder))
        first.tell(notice())
        second.tell(notice())
        wait_until(lambda: hook.got)
        time.sleep(0.1)
        self.assertEqual(len(hook.got), 1)
        third = self.teller(line, kept=NotifiedMemory(self.folder))  # the watch was started again
        third.tell(notice())
        third.tell(notice(name="mark"))
        wait_until(lambda: len(hook.got) == 2)
        notices = Notices()
        notices.update({Key("drop", "mark"): Condition("fail", "x")}, 0.0, 1.8e9)
        third.settle(notices, {"finish", "mark"})  # what is not so any more
        wait_until(lambda: len(hook.got) == 3)
        found = [json.loads(body) for *_, body in hook.got]
        self.assertEqual([(d["number"], d["phase"], d["name"]) for d in found], [(1, "begins", "finish"), (2, "begins", "mark"), (3, "well", "finish")])
        first.tell(notice("well"))
        second.tell(notice("well"))
        time.sleep(0.1)
        self.assertEqual(len(hook.got), 3)

    def test_what_is_muted_is_not_told_again(self):
        hook = Hook()
        self.addCleanup(hook.close)
        at = [1.8e9]
        teller = self.teller(f"boss: {{webhook: 'http://127.0.0.1:{hook.port}/', remind: 5m}}", wall=lambda: at[0])
        notices, key = Notices(), Key("drop", "finish")
        for one in notices.update({key: Condition("fail", "x")}, 0.0, at[0]):
            teller.tell(one)
        wait_until(lambda: len(hook.got) == 1)
        self.assertTrue(notices.mute(key, at[0] + 3600))
        at[0] += 1000
        teller.remind(notices)
        time.sleep(0.1)
        self.assertEqual(len(hook.got), 1)
        at[0] += 3000
        teller.remind(notices)
        wait_until(lambda: len(hook.got) == 2)


class Rigs(Folder):
    def test_what_a_rig_may_not_say(self):
        for line, words in (
            ("boss: {}", "one of webhook, mail and command"),
            ("boss: {webhook: 'https://h.example/', command: x}", "one of webhook, mail and command"),
            ("boss: {webhook: 'ftp://h.example/'}", "expected an address like"),
            ("boss: {webhook: 'https://user:pw@h.example/'}", "holds a login"),
            ("boss: {mail: [nobody]}", "expected a mail address"),
            ("boss: {mail: ['a@b.example, c@d.example'], server: 'smtp://h.example', sender: x@y.example}", "expected a mail address"),
            ("boss: {mail: [a@b.example]}", "mail needs a server"),
            ("boss: {mail: [a@b.example], server: 'smtp://h.example/x', sender: x@y.example}", "expected an address like"),
            ("boss: {webhook: 'https://h.example/', secret: hunter2}", "expected a reference"),
            ("boss: {webhook: 'https://h.example/', remind: soon}", "expected a length of time"),
        ):
            path = self.file("rig.yaml", RIG.format(tell=f"    {line}"))
            with self.assertRaises(rigs.DocumentError) as caught:
                rigs.load(path)
            self.assertIn(words, str(caught.exception), line)
            self.assertNotIn("hunter2", str(caught.exception))


