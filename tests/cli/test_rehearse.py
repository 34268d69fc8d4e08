import json
import os
import pty
import signal
import subprocess
from unittest import mock

from direkt.sim.brindle import BrindleB2
from tests.support import KEY, RigCli, command, wait_until

SERVER = "rtmp://ingest.tarnlight.example/live"


class Rehearse(RigCli):
    def slot(self) -> dict:
        return self.device.state()["push"][0]

    def test_one_command_measures_judges_and_puts_all_back(self):
        result = self.direkt("rehearse", "finish", "--for", "2s", "--keep", "r.flv", "--report", "r.json")
        self.assertEqual(result.code, 1, result)
        for words in (
            "receiving at rtmp://127.0.0.1:", "starting the push of tower", "✗ FAILS  finish against Tarnlight", "✓ put back", "no address, as before",
        ):
            self.assertIn(words, result.out)
        self.assertNotIn("! gap", result.out, "that the push ended is our own doing")
        document = json.loads((self.folder / "r.json").read_text())
        found = {f["parameter"]: f for f in document["findings"]}
        self.assertEqual((found["video.size"]["set"], found["video.size"]["sent"]), ("2560x1440", "2560x1440"))
        self.assertEqual((document["put_back"]["proven"], document["failure"]), (True, None))
        kept = next(e["id"] for e in self.direkt("log", "list", "--json").json["entries"] if "measures" in e["detail"])
        self.assertIn("✗ FAILS  finish against Tarnlight, measured 20", self.direkt("log", "show", str(kept)).out)
        again = self.direkt("log", "show", str(kept), "--sheet", "plainsong-village")
        self.assertEqual((again.code, "against Plainsong Village Channel" in again.out), (1, True))
        self.assertEqual(self.direkt("compare", str(kept), "r.json").code, 0)
        self.one_line(self.direkt("log", "show", "1", "--sheet", "tarnlight"), 2, "holds no measures")
        self.assertEqual((self.slot()["state"], self.slot()["server"], self.slot()["key_length"]), ("stopped", "", 0))
        self.no_secret_in(result.out, result.err, (self.folder / "r.json").read_text())
        checked = self.direkt("check", "r.flv", "--json").json
        self.assertEqual(checked["measured"]["video.size"], "2560x1440")

    def test_a_full_disk_ends_the_recording_and_nothing_else(self):
        done = subprocess.run(
            ["sh", "-c", 'ulimit -f 2400; exec "$@"', "sh", *command(), "rehearse", "--for", "3s", "--keep", "r.flv", "--json"],
            cwd=self.folder, env=self.environment(), capture_output=True, text=True, timeout=60,
        )  # fmt: skip
        self.assertEqual((done.returncode, "Traceback" in done.stderr), (1, False), done)
        document = json.loads(done.stdout)
        self.assertGreater(document["measured"]["stream.duration"], 2)
        self.assertTrue(document["put_back"]["proven"])
        self.assertEqual(document["recording"], "r.partial.flv")
        self.assertTrue(0 <= document["recording_ended"]["at"] < 2, document["recording_ended"])
        self.assertFalse((self.folder / "r.flv").exists())
        kept = self.direkt("check", "r.partial.flv", "--json").json["measured"]
        self.assertEqual(kept["video.size"], "2560x1440")
        self.assertAlmostEqual(kept["stream.duration"], document["recording_ended"]["at"], delta=0.7)

    def test_the_destination_goes_back_into_the_slot_and_its_key_is_not_used(self):
        self.device.put_slot({"channel": "second", "server": SERVER, "key": KEY})
        keys = []
        put = BrindleB2.put_slot

        def watch(device, body):
            keys.append(body["key"])
            return put(device, body)

        with mock.patch.object(BrindleB2, "put_slot", watch):
            result = self.direkt("rehearse", "--for", "1s", "--json")
        self.assertEqual(result.json["put_back"], {"proven": True, "server": SERVER, "detail": ""})
        self.assertEqual((self.slot()["server"], self.slot()["channel"], self.device._slot["key"]), (SERVER, "second", KEY))
        self.assertEqual(len(keys), 2)
        self.assertNotIn(KEY, keys[0])

    def test_a_slot_that_could_not_be_put_back_is_not_taken_unasked(self):
        self.device.put_slot({"channel": "main", "server": "rtmp://elsewhere.example/a", "key": "varn~fake~unknown"})
        self.one_line(self.direkt("rehearse", "--for", "1s"), 2, "slot 1 of tower holds rtmp://elsewhere.example/a", "--replace")
        self.assertEqual(self.slot()["server"], "rtmp://elsewhere.example/a")
        result = self.direkt("rehearse", "--for", "1s", "--replace")
        self.assertIn("what it held before is not known", result.out)
        self.assertEqual((self.slot()["server"], self.device._slot["key"]), (SERVER, KEY))

    def test_a_device_on_air_is_left_alone(self):
        self.device.push_state = "pushing"
        self.device._slot = {"channel": "main", "server": SERVER, "key": KEY}
        self.one_line(self.direkt("rehearse", "--for", "1s"), 3, "is pushing to", "direkt push off finish")
        self.assertEqual(self.slot()["server"], SERVER)

    def test_ctrl_c_and_sigterm_put_all_back_too(self):
        self.device.put_slot({"channel": "main", "server": SERVER, "key": KEY})
        for number in (signal.SIGINT, signal.SIGTERM):
            child = self.start("rehearse", "--for", "60s", "--report", "r.json")
            wait_until(lambda: self.slot()["state"] == "pushing", 20)
            result = self.interrupt(child, number)
            self.assertEqual(result.code, 130, result)
            self.assertIn("✓ put back", result.out)
            self.assertIn("Interrupted: the rehearsal was ended early", result.err)
            self.assertEqual((self.slot()["state"], self.slot()["server"], self.device._slot["key"]), ("stopped", SERVER, KEY))

    def test_a_terminal_or_a_reader_that_is_gone_puts_all_back_too(self):
        self.device.put_slot({"channel": "main", "server": SERVER, "key": KEY})
        ours, theirs = pty.openpty()
        child = subprocess.Popen(
            [*command(), "rehearse", "--for", "60s"], cwd=self.folder, env=self.environment(), start_new_session=True,
            stdin=theirs, stdout=theirs, stderr=theirs,
        )  # fmt: skip
        self.addCleanup(child.kill)
        os.close(theirs)
        wait_until(lambda: self.slot()["state"] == "pushing", 20)
        os.close(ours)
        child.send_signal(signal.SIGHUP)
        self.assertEqual(child.wait(20), 130)
        self.assertEqual((self.slot()["state"], self.slot()["server"], self.device._slot["key"]), ("stopped", SERVER, KEY))
        child = self.start("rehearse", "--for", "60s")
        child.stdout.readline()
        child.stdout.close()
        self.assertIn("✓ put back", child.stderr.read())
        wait_until(lambda: child.poll() is not None, 30)
        self.assertEqual((self.slot()["state"], self.slot()["server"], self.device._slot["key"]), ("stopped", SERVER, KEY))

    def test_over_tls(self):
        result = self.direkt("rehearse", "--for", "1s", "--tls", "--json")
        self.assertEqual(result.json["measured"]["stream.protocol"], "rtmps", result)
        self.assertTrue(result.json["source"].startswith("rtmps://127.0.0.1:"))

    def test_a_push_that_never_comes_and_a_device_that_goes_away(self):
        with (
            mock.patch("direkt.work.stream.rehearse.START_LIMIT", 0.6),
            mock.patch.object(BrindleB2, "start_push", lambda self: (200, {})),
        ):
            result = self.direkt("rehearse", "--for", "1s")
        self.assertEqual(result.code, 3)
        self.assertIn("tower did not push within 0.6 s: it says stopped", result.err)
        self.assertIn("✓ put back", result.out)
        with mock.patch.object(BrindleB2, "start_push", lambda self: self.web.close() or (200, {})):
            result = self.direkt("rehearse", "--for", "1s")
        self.assertEqual(result.code, 3)
        self.assertIn("✗ not put back", result.out)
        self.assertIn("direkt write finish", result.out)

    def test_wrong_use_touches_nothing(self):
        self.file("there.flv", "precious")
        self.one_line(self.direkt("rehearse", "--keep", "there.flv"), 2, "already exists")
        self.one_line(self.direkt("rehearse", "--keep", "no/such/x.flv"), 2, "cannot be written")
        self.one_line(self.direkt("rehearse", "nobody"), 2, "no feed 'nobody'")
        self.one_line(self.direkt("rehearse", DIREKT_TOWER_LOGIN="operator:wrong"), 3, "refuses the login")
        self.assertEqual((self.folder / "there.flv").read_text(), "precious")
        self.assertEqual(self.slot()["server"], "")
