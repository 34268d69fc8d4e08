"""The watch as a crew has it: drops are injected while it looks, people are told, the page acts, and it ends in every way."""

import json
import re
import signal
import threading
import time
import unittest

import httpx
import jsonschema

from direkt.store import wishes
from tests.stage import Stage
from tests.support import free_port, wait_until
from tests.watch.test_notify import SECRET, Hook

WATCH = """\
watch:
  recover: {{push: 3, device: 1, pause: 1s}}
  notify:
    hook: {{webhook: "http://127.0.0.1:{port}/", secret: "env:DIREKT_HOOK"}}
    siren: {{command: ./siren.sh}}
"""


class Watching(Stage):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.hook = Hook()
        cls.addClassCleanup(cls.hook.close)
        with (cls.folder / "rig.yaml").open("a") as file:
            file.write(WATCH.format(port=cls.hook.port))

    def environment(self, **more):
        return super().environment(**{"DIREKT_HOOK": SECRET, **more})

    def watch(self, *more):
        child = self.start("watch", "--json", *more)
        lines = self.lines = []

        def read():
            for line in child.stderr:
                lines.append(line)

        self.reading = threading.Thread(target=read, daemon=True)
        self.reading.start()
        return child

    def seen(self, words, limit=40.0):
        try:
            wait_until(lambda: any(words in line for line in list(self.lines)), limit)
        except AssertionError:
            self.fail(f"{words!r} was not said within {limit:g} s: {self.lines}")

    def ended(self, child, number=signal.SIGTERM):
        child.send_signal(number)
        out = child.stdout.read()
        code = child.wait(30)
        self.reading.join(5)
        return code, out, "".join(self.lines)

    def links(self):
        """The page's tokens, out of the key store."""
        found = {}
        for path in (self.folder / "config").glob("keys*.json"):
            for name, value in re.findall(r'"stage/page\.(look|act)": "([^"]+)"', path.read_text()):
                found[name] = value
        return found

    def test_an_untrusted_rig_tells_nobody(self):
        child = self.watch("--for", "2s")
        self.seen("nobody is notified there: watch.notify.siren: a rig that is not trusted notifies nobody")
        child.wait(20)

    def test_drops_are_mended_people_are_told_and_the_page_acts(self):
        self.assertEqual(self.direkt("rig", "trust", "--yes").code, 0)
        self.assertEqual(self.go("e0").code, 0)
        page, figures = free_port(), free_port()
        child = self.watch("e0", "--every", "1s", "--page", str(page), "--metrics", str(figures))
        self.seen("finish: on")
        self.assertNotIn("nobody is notified there", "".join(self.lines))
        begin = time.monotonic()
        self.device.restart()  # it comes back without its push
        wait_until(lambda: self.device.push_state == "stopped", 5)
        self.seen("finish: dropped")
        self.assertLess(time.monotonic() - begin, 6.5)  # half a second of it is the restart
        wait_until(lambda: self.device.push_state == "pushing", 15)
        self.seen("finish: recovered after")
        wait_until(lambda: self.hook.got, 10)
        notice = json.loads(self.hook.got[0][2])
        self.assertEqual((notice["kind"], notice["name"], notice["event"], notice["phase"]), ("drop", "finish", "e0", "begins"))
        # another watch only looks; and what is stopped and started again in a moment was stopped by no person
        self.assertIn("another watch runs here", self.direkt("watch", "--no-notify", "--every", "1s", "--for", "1s").err)
        self.assertEqual(self.direkt("push", "off", "finish").code, 0)
        self.assertEqual(self.direkt("push", "on", "finish").code, 0)
        time.sleep(3.5)
        self.assertEqual(self.device.push_state, "pushing")
        self.assertFalse([line for line in self.lines if "somebody stopped" in line], self.lines)
        scraped = httpx.get(f"http://127.0.0.1:{figures}/metrics", trust_env=False).text
        self.assertIn('direkt_feed_up{destination="main",device="tower",feed="finish",rig="Stage",role="primary"} 1.0', scraped)
        self.assertIn("direkt_feed_restarts_total", scraped)
        with httpx.Client(base_url=f"http://127.0.0.1:{page}", trust_env=False, headers={"X-Direkt": "1"}) as one:
            now = one.get("/now")
            self.assertEqual((now.status_code, now.headers["location"]), (302, self.watch_link("e0")))
            self.assertEqual(one.get("/board").status_code, 401)
            self.assertEqual(one.post("/session", json={"token": self.links()["act"]}).json(), {"role": "act"})
            self.device.stop_push()  # a person, at the device
            self.seen("somebody stopped it there, or it has given up: it is left off")
            time.sleep(4)
            self.assertEqual(self.device.push_state, "stopped")
            self.assertIs(wishes.read(self.folder).on["finish"], False)
            board = one.get("/board").json()
            jsonschema.validate({k: v for k, v in board.items() if k != "role"}, self.direkt("schema", "watch").json)
            self.assertEqual((board["feeds"][0]["state"], board["feeds"][0]["restarts"]), ("stopped", 1))
            self.assertEqual(one.post("/act", json={"what": "restart", "feed": "finish"}).status_code, 202)
            wait_until(lambda: self.device.push_state == "pushing", 15)
            self.seen("push started again from the page")
            wait_until(lambda: one.get("/board").json()["feeds"][0]["state"] == "on", 10)
            texts = [one.get(path).text for path in ("/", "/board", "/page.js")]
        code, out, err = self.ended(child)
        self.assertEqual(code, 130, err)
        self.assertIn("the pushes are left as they are; on: finish", err)
        self.assertEqual(self.device.push_state, "pushing")
        document = json.loads(out)
        jsonschema.validate(document, self.direkt("schema", "watch").json)
        self.assertEqual((document["interrupted"], document["events"][0]["on_air"]), (True, True))
        self.no_secrets(out, err, scraped, *texts, *(body.decode() for _, _, body in self.hook.got))
        for text in (out, err, scraped, *texts):
            for secret in (*self.links().values(), SECRET):
                self.assertNotIn(secret, text)
        log = self.direkt("log", "list", "--json").out
        self.assertIn("push started again by the watch", log)
        self.assertEqual(self.direkt("stop", "e0").code, 0)

    def watch_link(self, name):
        return self.direkt("event", "show", name, "--json").json["at"][0]["watch"]

    def test_killed_at_any_moment_the_next_one_knows(self):
        self.assertEqual(self.go("e1").code, 0)
        for pause in (0.2, 1.4):
            child = self.watch("--every", "1s", "--no-notify")
            self.seen("finish: on")
            self.device.restart()
            self.seen("finish: dropped", 10)
            time.sleep(pause)
            child.kill()
            child.wait(5)
            other = self.watch("--every", "1s", "--no-notify")
            self.seen("finish: ")
            # it was never seen on by this one: it is started again where the first one had begun to, else it is said
            wait_until(lambda: self.device.push_state == "pushing" or any("was meant to" in line for line in list(self.lines)), 15)
            code, _, err = self.ended(other, signal.SIGINT)
            self.assertEqual(code, 130, err)
            if self.device.push_state != "pushing":
                self.assertEqual(self.direkt("push", "on", "finish").code, 0)
        self.assertEqual(self.direkt("stop", "e1").code, 0)
        child = self.watch("--every", "1s", "--no-notify", "--for", "6s")
        child.wait(30)
        self.assertEqual((self.device.push_state, child.returncode), ("stopped", 0))

    def test_settings_are_changed_while_live_only_when_asked_plainly(self):
        self.assertEqual(self.go("e4").code, 0)
        status, _ = self.device.patch("main", {"video": {"bitrate_kbps": 1900}})
        self.assertEqual(status, 200)
        before = self.device.state()["channels"]["main"]
        refused = self.direkt("write", "finish", "--yes")
        self.one_line(refused, 2, "tower is pushing to", "interrupts what viewers see", "--live")
        self.assertEqual((self.device.state()["channels"]["main"], self.device.push_state), (before, "pushing"))
        self.assertEqual(self.direkt("write", "finish", "--yes", "--live").code, 0)
        self.assertNotEqual(self.device.state()["channels"]["main"], before)
        self.assertEqual(self.direkt("stop", "e4").code, 0)

    def test_wrong_use_and_ports_that_are_taken(self):
        self.one_line(self.direkt("watch", "nothing"), 2, "no event or feed 'nothing'")
        self.one_line(self.direkt("watch", "--tls"), 2, "go with --page")
        self.one_line(self.direkt("watch", "--page", "nowhere:x"), 2, "expected PORT or ADDRESS:PORT")
        self.one_line(self.direkt("watch", "--every", "0.1s"), 2, "--every")
        self.one_line(self.direkt("watch", "--page-links"), 2, "on a terminal only")
        result = self.direkt("watch", "--page", str(self.hook.port), "--for", "2s")
        self.assertEqual(result.code, 3, result)
        self.assertIn("cannot be opened: address already in use", result.err.lower())
        result = self.direkt("watch", "--page", "0", "--certificate", "rig.yaml", "--for", "2s")
        self.assertEqual(result.code, 2, result)
        self.assertIn("holds no certificate with its private key", result.err)


if __name__ == "__main__":
    unittest.main()
