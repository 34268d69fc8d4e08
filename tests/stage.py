"""A rig that can go live in a test: one simulated encoder, one camera that is carried, and the simulated platforms."""

from __future__ import annotations

import datetime
import shutil
import tempfile
from pathlib import Path
from unittest import mock

import jsonschema

from direkt.sim import hls, unit
from direkt.sim.brindle import BrindleB2
from direkt.sim.plainsong import Plainsong
from direkt.sim.tarnlight import Tarnlight
from direkt.work.live import end, end_devices, go, verdict
from tests.support import LOGIN, Cli, silence_beacons

TOKEN, VILLAGE = "varn~fake~token~heron", "varn~fake~wren"
EVENTS = 24
DOCUMENTS = {
    "event-list",
    "event-show",
    "event-accounts",
    "log-verify",
    "event-done",
    "go",
    "stop",
    "log-list",
    "log-show",
    "watch",
    "signal",
    "schedule",
}  # which these tests hold against their schemas
SHEET = """\
schema: direkt.sheet/1
name: Quicklight
extends: tarnlight
session: {longest_hours: 9, shows_after_s: {min: 0.2, max: 2}, opens: by hand before the push, after_stop: same key}
checklist: []
rules:
  video.size: {must: 960x540}
  video.frame_rate: {must: 25}
  video.keyframe_interval.median: {should: 0.8}
"""
HAND = """\
schema: direkt.sheet/1
name: Village
extends: plainsong-village
rules:
  video.size: {must: 960x540}
  video.frame_rate: {must: 25}
  video.keyframe_interval.median: {should: 0.8}
ladder:
  - {size: 960x540, frame_rate: {min: 20, max: 30}, bitrate: {min: 700, best: 1200, max: 1900}}
"""
RIG = """\
schema: direkt.rig/1
name: Stage
zone: UTC
devices:
  tower: {{driver: brindle-b2, address: "http://127.0.0.1:{device}", login: "env:DIREKT_TOWER_LOGIN"}}
platforms:
  tarn: {{address: "{platform}", file: tarnlight, token: "file:secrets.yaml#token"}}
destinations:
  main: {{sheet: quick.yaml, server: "{ingest}", backup: "{backup}", key: "file:secrets.yaml#main", platform: tarn}}
  village: {{sheet: hand.yaml, server: "{village}", key: "file:secrets.yaml#village"}}
feeds:
  finish: {{device: tower, destination: main}}
  hand: {{device: tower, destination: village}}
uplink: {{mbit_s: 40}}
events:
"""


class Stage(Cli):
    """Everything runs once for a class; each test takes an event of its own, e0 to e23, or h0 to h9 by hand."""

    shows_after = 0.4

    @classmethod
    def setUpClass(cls):
        silence_beacons()
        cls.folder = Path(tempfile.mkdtemp(prefix="direkt-test-"))
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        for where, name, value in (
            (unit, "RESTART_SECONDS", 0.4), (verdict, "_OWN_SECONDS", 0.9), (verdict, "_OWN_LIMIT", 6.0), (verdict, "_POLL", 0.1), (go, "_LEAST_WAIT", 6.0), (go, "_LOOK_LIMIT", 5.0),
            (go, "_POLL", 0.1), (go, "_ASK_EVERY", 0.2), (end, "_INGEST_LIMIT", 5.0), (end, "_PAUSE", 0.3), (end_devices, "STILL", 0.3),
            (end_devices, "LATE", 2.0), (hls, "_SHORTEST", 0.7),
        ):
            patched = mock.patch.object(where, name, value)
            patched.start()
            cls.addClassCleanup(patched.stop)
        user, _, password = LOGIN.partition(":")
        cls.device = BrindleB2(user, password)
        cls.device.start()
        cls.addClassCleanup(cls.device.stop)
        cls.platform = Tarnlight(TOKEN, shows_after=cls.shows_after, delays={"usual": 0.3, "short": 0.2, "shortest": 0.1})
        cls.platform.start()
        cls.addClassCleanup(cls.platform.stop)
        cls.village = Plainsong(VILLAGE)
        cls.village.start()
        cls.addClassCleanup(cls.village.stop)
        start = datetime.datetime.now(datetime.UTC) + datetime.timedelta(hours=3)  # far enough ahead for a restart
        head = RIG.format(
            device=cls.device.port, platform=cls.platform.address, ingest=cls.platform.ingest_address(), backup=cls.platform.ingest_address("backup"),
            village=cls.village.address,
        )  # fmt: skip
        common = f'title: "Race {{event}}", start: "{start:%Y-%m-%d %H:%M}", length: 1h'
        events = [
            f"  e{n}: {{{common}, audience: everyone, delay: short, fields: {{crowd: nobody}}, feeds: [finish]}}\n"
            for n in range(EVENTS)
        ]
        events += [f"  h{n}: {{{common}, feeds: [hand]}}\n" for n in range(10)]
        (cls.folder / "rig.yaml").write_text(head + "".join(events))
        (cls.folder / "quick.yaml").write_text(SHEET)
        (cls.folder / "hand.yaml").write_text(HAND)
        secrets = cls.folder / "secrets.yaml"
        secrets.write_text(f"token: {TOKEN}\nmain: varn~fake~oldbird\nvillage: {VILLAGE}\n")
        secrets.chmod(0o600)
        made = cls("run")
        done = made.direkt("write", "finish", "--yes")
        assert done.code == 0, done

    def setUp(self):
        """The class's folder serves all its tests."""
        self.addCleanup(self.quiet)

    def quiet(self):
        """Nothing is left on for the next test."""
        self.platform.faults.__init__()
        self.platform.web_faults.slow = self.platform.web_faults.flaky = 0.0
        self.device.end_push()

    def environment(self, **more):
        config = str(self.folder / "config")
        return super().environment(**{"DIREKT_TOWER_LOGIN": LOGIN, "DIREKT_CONFIG": config, **more})

    def fitting(self, *arguments, code=0, schema=None, text=""):
        """A command's JSON document, which fits its schema."""
        result = self.direkt(*arguments, "--json", text=text)
        self.assertEqual(result.code, code, result)
        name = schema or arguments[0]
        self.assertIn(name, DOCUMENTS)
        jsonschema.validate(result.json, self.direkt("schema", name).json)
        self.no_secrets(result.out, result.err)
        return result.json

    def event(self, name):
        """The platform's event of the rig's event."""
        return next((e for e in self.platform.events.values() if f"-{name}-" in e.id), None)

    def no_secrets(self, *texts):
        keys = [e.key for e in self.platform.events.values()]
        for text in texts:
            for secret in (TOKEN, VILLAGE, LOGIN.partition(":")[2], *keys):
                self.assertNotIn(secret, text)

    def go(self, name, *more, text="y\n" * 6, **env):
        return self.direkt("go", name, "--no-rehearsal", *more, text=text, **env)

    def stops_at(self, step, result, *words):
        """It stopped there, says why and what next, and no push is on."""
        self.assertEqual(result.code, 1, result)
        self.assertIn(f"stopped at step {step}", result.out)
        for word in words:
            self.assertIn(word, result.out + result.err)
        self.assertEqual(self.device.push_state, "stopped", result)
