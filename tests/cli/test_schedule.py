"""Events by the clock, from the command line: the service is killed in the middle, and nothing is taken twice."""

import datetime
import os
import shutil
import signal
import socket
import subprocess
import time
import unittest

from tests.stage import Stage
from tests.support import LOGIN, wait_until


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
        said = second.stdout.readline()  # it has begun
        third = self.direkt("schedule", "run", "--rig", "clock.yaml", "--for", "2s")
        self.one_line(third, 2, "runs already")
        wait_until(lambda: self.event("heat").state == "closed", 30)
        wait_until(lambda: self.device.push_state == "stopped", 10)
        time.sleep(1)
        result = self.interrupt(second, signal.SIGTERM)
        self.assertEqual(result.code, 130, result)
        self.assertIn("heat: end: all is off, and proven", said + result.out)
        self.assertIn("what is on stays on", result.err)
        self.no_secrets(result.out, result.err)
        self.assertEqual(self.direkt("schedule", "run", "--rig", "clock.yaml", "--for", "3s").out.count("begin"), 0)

    def test_a_rigs_name_adds_nothing_to_a_unit_and_none_runs_as_root_by_itself(self):
        rig = (self.folder / "rig.yaml").read_text().replace("name: Stage", 'name: "Stage\\n[Service]\\nExecStartPre=/bin/evil %h"')
        self.file("line.yaml", rig)
        result = self.direkt("schedule", "unit", "--as", "operator", "--rig", "line.yaml")
        self.assertEqual(result.code, 0, result)
        self.assertEqual([line for line in result.out.splitlines() if line.startswith(("[", "ExecStartPre"))], ["[Unit]", "[Service]", "[Install]"])
        if os.getuid() == 0 and self.folder.owner() == "root":
            self.one_line(self.direkt("schedule", "unit"), 2, "runs as root may do everything")
        self.assertIn("User=root", self.direkt("schedule", "unit", "--as", "root").out)
        self.assertNotIn("ProtectSystem", self.direkt("schedule", "unit", "--user").out)
        if shutil.which("systemd-analyze"):
            for n, more in enumerate((("--as", "root"), ("--user",), ("--as", "root", "--watch"))):
                unit = self.folder / f"direkt-{n}.service"
                unit.write_text(self.direkt("schedule", "unit", *more).out)
                done = subprocess.run(["systemd-analyze", "verify", str(unit)], capture_output=True, text=True, timeout=60)
                self.assertEqual([line for line in done.stderr.splitlines() if unit.name in line], [], done.stderr)

    def test_a_service_manager_is_told_that_it_is_alive(self):
        place = self.folder / "notify"
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as listening:
            listening.bind(str(place))
            listening.settimeout(20)
            child = self.start("watch", "--for", "3s", NOTIFY_SOCKET=str(place), WATCHDOG_USEC="900000")
            got = [listening.recv(100) for _ in range(4)]
            self.finish(child)
            self.assertEqual(got[:2], [b"READY=1", b"WATCHDOG=1"])
            self.assertEqual(set(got[2:]), {b"WATCHDOG=1"})

    def test_a_unit_holds_no_secret_and_overlaps_are_refused(self):
        result = self.direkt("schedule", "unit", "--as", "operator", DIREKT_DATABASE="postgresql://u:varn~fake~db@h/d")
        self.assertEqual(result.code, 0, result)
        for line in ("User=operator", "ProtectSystem=strict", "PrivateTmp=yes", "NoNewPrivileges=yes", "Type=notify", "WatchdogSec=120", f"ReadWritePaths=-{self.folder}"):
            self.assertIn(line, result.out)
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


if __name__ == "__main__":
    unittest.main()
