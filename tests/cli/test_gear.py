import json
import signal
from pathlib import Path
from unittest import mock

from direkt.sim import unit
from direkt.sim.web import Faults
from tests.support import KEY, RigCli, free_port, wait_for_port, wait_until


class Gear(RigCli):
    def test_read_match_write_and_back(self):
        read = self.direkt("read", "--json").json
        self.assertEqual(read["channels"]["main"]["set"]["video.keyframe_interval.median"], 10)
        text = self.direkt("read", "tower")
        self.assertIn("10 s (250 frames)", text.out)
        matched = self.direkt("match", "--json")
        self.assertEqual(matched.code, 0)
        self.assertEqual(sum(step["change"] for step in matched.json["steps"]), 8)
        self.assertIn("1920x1080", self.direkt("match", "finish").out)
        self.assertEqual(self.device.state()["channels"]["main"]["video"]["size"], "2560x1440", "match changes nothing")

        refused = self.direkt("write")
        self.one_line(refused, 2, "--yes")
        written = self.direkt("write", "finish", "--yes", "--json")
        self.assertEqual(written.code, 0, written)
        document = written.json
        self.assertEqual((document["restarted"], document["did_not_stick"]), (True, []))
        state = self.device.state()
        self.assertEqual(state["channels"]["main"]["video"]["keyframe_frames"], 80)
        self.assertEqual(state["push"][0]["server"], "rtmp://ingest.tarnlight.example/live")
        self.assertEqual(state["push"][0]["key_length"], len(KEY))
        again = self.direkt("write", "finish", "--yes")
        self.assertIn("nothing to change", again.out)

        saved = document["saved"]
        self.assertEqual(json.loads(Path(saved).read_text())["set"]["video.size"], "2560x1440")
        self.assertEqual(self.direkt("write", "finish", "--yes", "--restore", saved).code, 0)
        state = self.device.state()
        self.assertEqual(state["channels"]["main"]["video"]["size"], "2560x1440")
        self.assertEqual((state["push"][0]["server"], state["push"][0]["key_length"]), ("", 0), "as it was before")
        self.one_line(self.direkt("write", "finish", "--yes", "--restore", "rig.yaml"), 2, "not saved settings")

    def test_catch_with_a_gap_judges_asked_set_and_sent(self):
        port = free_port()
        address = f"rtmp://127.0.0.1:{port}/live"
        catching = self.start(
            "catch", "--feed", "finish", "--for", "4s", "--keep", "a.flv", "--report", "a.json", "--port", str(port)
        )
        wait_for_port(port)
        on = self.direkt("push", "on", "finish", "--rehearse", address)
        self.assertEqual(on.code, 0, on)
        self.assertIn("pushing", on.out)
        self.assertEqual(self.direkt("push", "state", "--json").json["state"], "pushing")
        self.assertIn("stopped", self.direkt("push", "off").out)
        self.assertEqual(self.direkt("push", "on", "--rehearse", address).code, 0)
        result = self.finish(catching)
        self.assertEqual(result.code, 1, result)
        self.assertIn("gap", result.out)
        document = json.loads((self.folder / "a.json").read_text())
        self.assertEqual(len(document["gaps"]), 1)
        found = {f["parameter"]: f for f in document["findings"]}
        self.assertEqual(
            (found["video.size"]["set"], found["video.size"]["sent"], found["video.size"]["verdict"]),
            ("2560x1440", "2560x1440", "fail"),
        )
        self.assertEqual(found["audio.present"]["verdict"], "fail")
        self.assertAlmostEqual(document["measured"]["stream.pace"], 1.0, delta=0.15)
        self.assertEqual(self.direkt("push", "off").code, 0)
        texts = [
            result.out, result.err,
            *(p.read_text("latin-1") for p in self.folder.rglob("*") if p.is_file() and p.name != "secrets.yaml"),
        ]  # fmt: skip
        self.no_secret_in(*texts, on.out, on.err, *(p.name for p in self.folder.rglob("*")))

    def test_a_push_to_an_ingest_that_is_not_there(self):
        port = free_port()
        result = self.direkt("push", "on", "--rehearse", f"rtmp://127.0.0.1:{port}/live")
        self.assertEqual(result.code, 3)
        self.assertIn("nothing listens on port", result.out)
        self.assertEqual(self.direkt("push", "off").code, 0)
        self.one_line(self.direkt("push", "on", "--rehearse", "rtmp://rtmp://h.example/a"), 2, "twice")
        self.one_line(self.direkt("push", "off", "--rehearse", "rtmp://h.example/a"), 2, "goes with 'push on'")

    def test_catch_that_nobody_pushes_to_and_a_port_in_use(self):
        port = str(free_port())
        first = self.start("catch", "--port", port, "--keep", "x.flv", "--wait", "2s")
        wait_for_port(int(port))
        self.one_line(self.direkt("catch", "--port", port), 3, f"port {port}", "in use")
        result = self.finish(first)
        self.one_line(result, 3, "nobody pushed within 2 s")
        self.assertFalse((self.folder / "x.flv").exists())
        self.file("there.flv", "precious")
        self.one_line(self.direkt("catch", "--port", port, "--keep", "there.flv"), 2, "already exists")
        self.assertEqual((self.folder / "there.flv").read_text(), "precious")

    def test_ctrl_c_says_what_state_things_are_in(self):
        port = free_port()
        waiting = self.start("catch", "--port", str(port))
        wait_for_port(port)
        waiting = self.interrupt(waiting)
        self.assertEqual(waiting.code, 130)
        self.assertIn("the port is closed", waiting.err)
        for number in (signal.SIGINT, signal.SIGTERM):
            with mock.patch.object(unit, "RESTART_SECONDS", 3):
                writing = self.start("write", "--yes")
                wait_until(lambda: not self.device.is_on, 20)
                writing = self.interrupt(writing, number)
                wait_until(lambda: self.device.is_on)
            self.assertEqual(writing.code, 130)
            self.assertRegex(writing.err, "Interrupted: tower has the new settings, but not in force.*to go back: ")
            self.device._active["main"]["video"]["bitrate_kbps"] = 9000  # so that it needs a restart again

    def test_rigs_that_are_wrong(self):
        self.file(
            "other.yaml",
            "schema: direkt.rig/1\nname: x\ndevices:\n  a: {driver: brindle-b2, address: 192.0.2.1}\nfeeds:\n  f: {device: b, destination: c}\n",
        )
        result = self.direkt("read", "--rig", "other.yaml")
        self.one_line(result, 2, "other.yaml:4:", "expected an address like http://192.0.2.10")
        self.one_line(self.direkt("read", "nobody"), 2, "no device 'nobody'", "it has tower")
        self.one_line(self.direkt("read", "--rig", "none.yaml"), 2, "no such file")
        self.one_line(self.direkt("match", DIREKT_RIG="none.yaml"), 2, "no such file")
        (self.folder / "secrets.yaml").chmod(0o644)
        self.one_line(self.direkt("write", "--yes"), 2, "chmod 600")
        (self.folder / "rig.yaml").unlink()
        self.one_line(self.direkt("read"), 2, "no rig.yaml in this folder")

    def test_devices_that_do_not_work(self):
        self.one_line(self.direkt("read", DIREKT_TOWER_LOGIN="operator:wrong"), 3, "refuses the login")
        self.one_line(self.direkt("read", DIREKT_TOWER_LOGIN="nonsense"), 2, "expected user:password")
        self.device.faults.not_json = True
        self.one_line(self.direkt("read"), 3, "expected JSON")
        self.device.faults.not_json = False
        self.device.faults.never_returns = True
        self.one_line(self.direkt("write", "--yes", "--wait", "2s"), 3, "has not come back 2 s after its restart")
        self.one_line(self.direkt("match"), 3, "cannot be reached (connection refused)")


class Sticky(RigCli):
    faults = Faults(sticky={"video.rate_control"})

    def test_a_value_that_does_not_stick_is_reported(self):
        result = self.direkt("write", "--yes")
        self.assertEqual(result.code, 1)
        self.assertIn("did not stick  video.rate_control: wrote cbr, reads vbr", result.out)


class Unfinished(RigCli):
    def test_a_killed_write_is_known_to_every_command_until_it_is_finished(self):
        with mock.patch.object(unit, "RESTART_SECONDS", 3):
            writing = self.start("write", "--yes")
            wait_until(lambda: not self.device.is_on, 20)
            writing.kill()
            writing.communicate()
            (begun,) = self.direkt("log", "list", "--json").json["entries"]
            self.assertIn("tower is set", begun["text"])
            detail = self.direkt("log", "show", str(begun["id"]), "--json").json["detail"]
            self.assertEqual(detail["changes"]["video.rate_control"], ["vbr", "cbr"])
            away = self.direkt("match")
            self.one_line(away, 3, "cannot be reached")
            self.assertRegex(
                away.err, "the write of 20.* for feed finish was not finished: tower has the new settings, but not in force",
            )
            wait_until(lambda: self.device.is_on)
        for command in (["match"], ["read"], ["push", "state"], ["write", "--yes"]):
            result = self.direkt(*command, "--json")
            self.assertEqual(result.code, 0, result)
            (left,) = result.json["unfinished"]
            self.assertEqual((left["feed"], left["stage"]), ("finish", "written, not in force"))
            self.assertIn("to go back: direkt write finish --restore ", " ".join(result.err.split()))
        last = self.direkt("log", "list", "--json").json["entries"][-1]
        self.assertRegex(last["text"], "a write before it was cut, and had changed .*video.rate_control vbr -> cbr")
        after = self.direkt("match", "--json")
        self.assertEqual((after.json["unfinished"], "not finished" in after.err), ([], False))

    def test_what_is_not_in_force_is_a_finding(self):
        self.assertEqual(self.direkt("write", "--yes").code, 0)
        self.device._active["main"]["video"]["bitrate_kbps"] = 9000
        for command in (["match"], ["read"], ["push", "state"]):
            result = self.direkt(*command)
            self.assertEqual(result.code, 1, result)
            self.assertIn("✗ not in force  tower needs a restart", result.out)
            self.assertIn("direkt write finish", result.out)
            self.assertTrue(self.direkt(*command, "--json").json["restart_needed"])
        rehearsed = self.direkt("rehearse", "--for", "2s")
        self.assertEqual(rehearsed.code, 1)
        self.assertIn("✗ not in force", rehearsed.out)
        done = self.direkt("write", "--yes", "--json")
        self.assertEqual((done.code, done.json["restarted"]), (0, True))
        self.assertEqual(self.direkt("match").code, 0)

    def test_restoring_says_what_it_cannot_put_back(self):
        self.device.put_slot({"channel": "second", "server": "rtmp://elsewhere.example/live", "key": "x" * 9})
        saved = self.direkt("write", "--yes", "--json").json["saved"]
        result = self.direkt("write", "--yes", "--restore", saved)
        self.assertEqual(result.code, 1)
        self.assertIn("✗ not put back  the key of push slot 1 (9 characters) is not known here", result.out)
        slot = self.device.state()["push"][0]
        self.assertEqual((slot["server"], slot["channel"], slot["key_length"]), ("rtmp://elsewhere.example/live", "second", 0))
