"""The watch as a crew has it: drops are injected while it looks, people are told, the page acts, and it ends in every way."""

import datetime
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
from tests.support import LOGIN, free_port, wait_until
from tests.watch.test_telling import SECRET, Hook

WATCH = """\
watch:
  mend: {{push: 3, device: 1, pause: 1s}}
  tell:
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

    def seen(self, words, limit=15.0):
        wait_until(lambda: any(words in line for line in list(self.lines)), limit)

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

    def test_drops_are_mended_people_are_told_and_the_page_acts(self):
        self.assertEqual(self.go("e0").code, 0)
        page, figures = free_port(), free_port()
        child = self.watch("e0", "--every", "1s", "--page", str(page), "--metrics", str(figures))
        self.seen("finish: on")
        self.seen("nobody is told there: watch.tell.siren")  # the rig is not trusted
        begin = time.monotonic()
        self.device.restart()  # it comes back without its push
        wait_until(lambda: self.device.push_state == "stopped", 5)
        self.seen("finish: dropped")
        self.assertLess(time.monotonic() - begin, 6.5)  # half a second of it is the restart
        wait_until(lambda: self.device.push_state == "pushing", 15)
        self.seen("finish: well again after")
        wait_until(lambda: self.hook.got, 10)
        notice = json.loads(self.hook.got[0][2])
        self.assertEqual((notice["kind"], notice["name"], notice["event"], notice["phase"]), ("drop", "finish", "e0", "begins"))
        scraped = httpx.get(f"http://127.0.0.1:{figures}/metrics", trust_env=False).text
        self.assertIn('direkt_feed_up{destination="main",device="tower",feed="finish",rig="Stage",role="primary"} 1.0', scraped)
        self.assertIn("direkt_feed_restarts_total", scraped)
        with httpx.Client(base_url=f"http://127.0.0.1:{page}", trust_env=False, headers={"X-Direkt": "1"}) as one:
            now = one.get("/now")
            self.assertEqual((now.status_code, now.headers["location"]), (302, self.watch_link("e0")))
            self.assertEqual(one.get("/board").status_code, 401)
            self.assertEqual(one.post("/session", json={"token": self.links()["act"]}).json(), {"role": "act"})
            self.device.stop_push()  # a person, at the device
            self.seen("somebody stopped the push at the device: it is left off")
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
        self.assertEqual(self.direkt("push", "on", "finish", "--rehearse", "rtmp://127.0.0.1:9/live").code, 3)
        self.direkt("push", "off", "finish")
        self.assertEqual(self.go("e1").code, 0)
        for pause in (0.1, 1.3, 2.2):
            child = self.watch("--every", "1s", "--no-tell")
            self.seen("finish: on")
            self.device.restart()
            self.seen("finish: dropped", 10)
            time.sleep(pause)
            child.kill()
            child.wait(5)
            other = self.watch("--every", "1s", "--no-tell")
            self.seen("finish: ")
            # it was never seen on by this one: it is started again where the first one had begun to, else it is said
            wait_until(lambda: self.device.push_state == "pushing" or any("was meant to" in line for line in list(self.lines)), 15)
            code, _, err = self.ended(other, signal.SIGINT)
            self.assertEqual(code, 130, err)
            if self.device.push_state != "pushing":
                self.assertEqual(self.direkt("push", "on", "finish").code, 0)
        self.assertEqual(self.direkt("stop", "e1").code, 0)
        child = self.watch("--every", "1s", "--no-tell", "--for", "6s")
        child.wait(30)
        self.assertEqual((self.device.push_state, child.returncode), ("stopped", 0))

    def test_two_watches_and_a_wish_that_is_newer(self):
        child = self.watch("--every", "1s", "--no-tell")
        self.seen("finish: off")
        first, self.lines = self.lines, []
        second = self.watch("--every", "1s", "--no-tell")
        self.seen("another watch runs here")
        self.ended(second)
        self.lines = first
        self.assertEqual(self.go("e2").code, 0)
        self.seen("finish: on")
        self.assertEqual(self.direkt("push", "off", "finish").code, 0)
        self.assertEqual(self.direkt("push", "on", "finish").code, 0)
        time.sleep(4)
        self.assertEqual(self.device.push_state, "pushing")
        self.assertFalse([line for line in self.lines if "somebody stopped" in line or "by the watch" in line], self.lines)
        self.ended(child)
        self.assertEqual(self.direkt("stop", "e2").code, 0)

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


class Clocked(Stage):
    def schedule(self, begin, seconds):
        start = datetime.datetime.now(datetime.UTC) + datetime.timedelta(seconds=begin)
        self.start_at = start.replace(microsecond=0)
        rig = (self.folder / "rig.yaml").read_text().partition("\nevents:\n")[0]
        rig += f"""
events:
  heat: {{title: Heat, start: "{start:%Y-%m-%d %H:%M:%S}", length: {seconds}s, audience: everyone, delay: short, fields: {{crowd: nobody}}, feeds: [finish]}}
schedule:
  heat: {{event: heat, before: {begin - 1}s}}
  later: {{feed: hand, window: "{(start + datetime.timedelta(hours=3)):%H:%M}-{(start + datetime.timedelta(hours=4)):%H:%M}"}}
"""
        self.file("clock.yaml", rig)

    def test_an_event_by_the_clock_with_the_service_killed_in_the_middle(self):
        self.schedule(7, 12)
        listed = self.fitting("schedule", "list", "--rig", "clock.yaml")
        self.assertEqual([turn["entry"] for turn in listed["turns"][:2]], ["heat", "later"])
        self.assertEqual(listed["turns"][0]["start_utc"], f"{self.start_at:%Y-%m-%dT%H:%M:%SZ}")
        first = self.start("schedule", "run", "--rig", "clock.yaml", "--no-rehearsal")
        wait_until(lambda: self.event("heat") is not None and self.event("heat").state == "live", 25)
        self.assertGreaterEqual(datetime.datetime.now(datetime.UTC), self.start_at)
        first.kill()
        first.wait(5)
        self.assertEqual(self.device.push_state, "pushing")
        second = self.start("schedule", "run", "--rig", "clock.yaml", "--no-rehearsal")
        time.sleep(1.5)
        third = self.direkt("schedule", "run", "--rig", "clock.yaml")
        self.one_line(third, 2, "runs already")
        wait_until(lambda: self.event("heat").state == "closed", 30)
        wait_until(lambda: self.device.push_state == "stopped", 10)
        time.sleep(1)
        result = self.interrupt(second, signal.SIGTERM)
        self.assertEqual(result.code, 130, result)
        self.assertIn("heat: end: all is off, and proven", result.out)
        self.assertIn("what is on stays on", result.err)
        self.no_secrets(result.out, result.err)
        self.assertEqual(self.direkt("schedule", "run", "--rig", "clock.yaml", "--for", "3s").out.count("begin"), 0)

    def test_a_unit_holds_no_secret_and_overlaps_are_refused(self):
        result = self.direkt("schedule", "unit", DIREKT_DATABASE="postgresql://u:varn~fake~db@h/d")
        self.assertEqual(result.code, 0)
        self.assertIn("schedule run --rig", result.out)
        self.assertIn("KillMode=process", result.out)
        self.assertNotIn("varn~fake", result.out + result.err)
        self.assertNotIn(LOGIN, result.out)
        self.assertIn("EnvironmentFile", result.err)
        self.assertIn("WantedBy=default.target", self.direkt("schedule", "unit", "--user", "--watch").out)
        rig = (self.folder / "rig.yaml").read_text() + "schedule: {a: {event: e0}, b: {event: e1}}\n"
        self.file("two.yaml", rig)
        self.one_line(self.direkt("schedule", "list", "--rig", "two.yaml"), 2, "schedule.a and schedule.b both want the device tower")
        self.one_line(self.direkt("schedule", "run"), 2, "nothing is scheduled")


class Signals(Stage):
    def test_to_an_event_of_its_own_which_is_taken_away(self):
        document = self.fitting("signal", "main", "--for", "3s", "--backup")
        self.assertEqual((document["failure"], document["complaints"]), (None, []))
        self.assertIn("an event of its own for invited viewers", document["event"])
        self.assertEqual(document["server"], self.platform.ingest_address("backup"))
        self.assertGreater(document["line"]["arrived_kbit_s"], 0.8 * document["set"]["video.bitrate.mean"])
        self.assertFalse([e for e in self.platform.events.values() if "test-signal" in e.id])
        child = self.start("signal", "main", "--for", "60s")
        wait_until(lambda: any("test-signal" in e.id for e in self.platform.events.values()), 10)
        made = next(e for e in self.platform.events.values() if "test-signal" in e.id)
        self.assertEqual((made.state, made.body.audience), ("open", "invited"))
        time.sleep(1.5)
        result = self.interrupt(child)
        self.assertEqual(result.code, 130, result)
        self.assertFalse([e for e in self.platform.events.values() if "test-signal" in e.id])
        self.no_secrets(result.out, result.err)

    def test_not_to_what_viewers_see_and_by_hand_only_when_a_person_agrees(self):
        self.assertEqual(self.go("e3").code, 0)
        self.one_line(self.direkt("signal", "main", "--for", "2s"), 2, "the event e3 is on air at main")
        self.assertEqual(self.direkt("stop", "e3").code, 0)
        result = self.direkt("signal", "village", "--for", "2s", text="n\n")
        self.assertEqual(result.code, 2, result)
        self.assertIn("no signal was sent", result.err)
        self.assertEqual(self.direkt("signal", "village", "--for", "2s", text="y\n").code, 0)

    def test_a_climb_that_is_kept(self):
        before = (self.folder / "rig.yaml").read_text()
        self.addCleanup((self.folder / "rig.yaml").write_text, before)
        document = self.fitting("signal", "main", "--climb", "--from", "1", "--most", "1.2", "--save")
        self.assertEqual((len(document["steps"]), document["limit"], document["saved_mbit_s"]), (2, None, None))  # 40 are stated
        self.file("rig.yaml", before.replace("uplink: {mbit_s: 40}\n", ""))
        document = self.fitting("signal", "main", "--climb", "--from", "1", "--most", "1.2", "--save")
        self.assertAlmostEqual(document["saved_mbit_s"], 1.4, delta=0.2)
        self.assertIn("mbit_s: 1.", (self.folder / "rig.yaml").read_text())

    def test_wrong_use(self):
        for words, said in (
            (("--save",), "--save and --from go with --climb"), (("--climb", "--bitrate", "3"), "--bitrate does not go with --climb"),
            (("--size", "big"), "expected a size"), (("--size", "17x17"), "cannot be made so"), (("--rate", "100", "--size", "9000x9000"), "cannot be made so"),
        ):  # fmt: skip
            self.one_line(self.direkt("signal", "main", *words, "--rehearse", "rtmp://127.0.0.1:9/live"), 2, said)
        result = self.direkt("signal", "main", "--for", "2s", "--rehearse", f"rtmp://127.0.0.1:{free_port()}/live")
        self.assertEqual(result.code, 3, result)
        self.assertIn("nothing listens", result.err)


if __name__ == "__main__":
    unittest.main()
