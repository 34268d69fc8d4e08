"""The event interface's OpenAPI file drives generated requests against the simulated platform."""

import subprocess
import sys
import unittest
from pathlib import Path
from typing import get_args

import yaml

from direkt.rig.events import STATES, Audience, Delay, Projection
from direkt.sim.tarnlight import EventBody, Tarnlight
from tests.support import Folder, thorough

FILE = Path(__file__).resolve().parents[2] / "docs" / "event-interface.openapi.yaml"
TOKEN = "varn~fake~token~heron"
# a precondition that fails is no fault, and neither is one that is missing and said to be (RFC 6585, 3)
CONFIG = """\
[checks]
positive_data_acceptance.enabled = false
missing_required_header.expected-statuses = [400, 401, 403, 404, 406, 415, 422, 428]
"""


class OpenApi(Folder):
    def test_generated_requests_meet_no_mismatch(self):
        sim = Tarnlight(TOKEN, strict=False)
        sim.start()
        self.addCleanup(sim.stop)
        tool = Path(sys.executable).with_name("schemathesis")
        done = subprocess.run(
            [tool, "--config-file", self.file("s.toml", CONFIG), "run", FILE, "--url", sim.address, "-H", f"Authorization: Bearer {TOKEN}",
             "--max-examples", thorough("6", "3"), "--no-color", "--continue-on-failure", "--seed", "1"],
            cwd=self.folder, capture_output=True, text=True, timeout=300,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stdout[-6000:] + done.stderr[-2000:])
        self.assertGreater(len(sim.asked), 200)

    def test_the_file_and_the_code_speak_of_the_same_event(self):
        schemas = yaml.safe_load(FILE.read_text())["components"]["schemas"]
        body = schemas["EventBody"]["properties"]
        states = [one["enum"] for schema in schemas.values() for name, one in schema.get("properties", {}).items() if name == "state" and "enum" in one]
        self.assertIn([state.value for state in STATES], states)
        self.assertEqual(set(body), set(EventBody.model_fields))
        for name in ("audience", "delay", "projection"):
            ours = {"audience": Audience, "delay": Delay, "projection": Projection}[name]
            self.assertEqual(body[name]["enum"], list(get_args(ours)), name)


if __name__ == "__main__":
    unittest.main()
