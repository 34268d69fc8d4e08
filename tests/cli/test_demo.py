import json
import signal
import subprocess

from tests import copies
from tests.support import RigCli, heard_alone


class Whole(RigCli):
    def test_demo_and_sim(self):
        self.enterContext(heard_alone())
        result = self.finish(self.start("demo", "--folder", "d", "--for", "3.6s"), 240)
        self.assertEqual(result.code, 0, result)
        self.assertIn("Before: the stream fails. After: it passes. The camera's passes. The carried one passes.", result.out)
        self.assertIn("The finals were on air; the push recovered; at the end everything was proven off.", result.out)
        for path in (self.folder / "d").rglob("*"):  # no key and no token, wherever it was written
            if path.is_file() and path.name != "secrets.yaml":
                content = path.read_bytes()
                for secret in (b"varn~fake", b"regatta-demo"):
                    self.assertNotIn(secret, content, path)
        left = {path.name for path in (self.folder / "d").iterdir()}
        self.assertLessEqual(
            {"rig.yaml", "secrets.yaml", "before.flv", "after.flv", "before.json", "after.json", "camera.flv", "finals.html"},
            left,
        )
        self.assertEqual((self.folder / "d" / "secrets.yaml").stat().st_mode & 0o777, 0o600)
        self.assertEqual(json.loads((self.folder / "d" / "after.json").read_text())["verdict"], "pass")
        for secret in ("sandpiper", "redshank", "dipper", "heron", "regatta-demo"):
            self.assertNotIn(secret, result.out + result.err)
        self.one_line(self.direkt("demo", "--folder", "d"), 2, "is not empty")

        sim = subprocess.Popen(
            [*copies.program(), "sim", "d"], cwd=self.folder, stdout=subprocess.PIPE, text=True, env=self.environment()
        )
        self.addCleanup(sim.wait, 10)
        self.addCleanup(sim.kill)
        self.assertIn("Lake Varn", sim.stdout.readline())
        self.one_line(self.direkt("sim", "d"), 3, "is a sim running already?")
        self.assertEqual(self.direkt("read", "mark-1000", "--rig", "d").code, 0)
        self.one_line(self.direkt("sim", "d", "--fault", "mark-1000:nonsense"), 2, "expected NAME:FAULT")
        sim.send_signal(signal.SIGTERM)
        sim.stdout.close()
        self.assertEqual(sim.wait(10), 130)
