"""A rig in such a world, the commands on it, and the assertion that is always on: what was said is true of the world's real state."""

from __future__ import annotations

import datetime
import shutil
import tempfile
from pathlib import Path
from unittest import mock

from direkt.platform import by_file, calls
from direkt.work.live import end, end_devices
from tests.lab.encoder import DRIVER, Encoder
from tests.lab.reedbank import TOKEN, Cast, Reedbank
from tests.support import Cli, Result

SHEET = """\
schema: direkt.sheet/1
name: Reedbank
rules:
  video.codec: {must: h264}
  video.size: {must: 960x540}
"""
RIG = """\
schema: direkt.rig/1
name: Lab
zone: UTC
devices:
  tower: {{driver: sedge.yaml, address: "{tower}"}}
  mill: {{driver: sedge.yaml, address: "{mill}"}}
platforms:
  reed: {{address: "{platform}", file: reedbank.yaml, token: "file:secrets.yaml#token"}}
destinations:
  main: {{sheet: reed-sheet.yaml, server: "{ingest}", key: "file:secrets.yaml#main", platform: reed}}
  side: {{sheet: reed-sheet.yaml, server: "{ingest}", key: "file:secrets.yaml#side", platform: reed}}
feeds:
  finish: {{device: tower, destination: main}}
  mark: {{device: mill, destination: side, carry: true, source: "rtsp://127.0.0.1:1/x"}}
events:
  finals: {{title: The finals, start: "{start}", length: 2h, audience: everyone, fields: {{young: no}}, feeds: [finish]}}
"""
KEY = "varn~fake~labbird"


class LabStage(Cli):
    """One world for each test."""

    def setUp(self) -> None:
        super().setUp()
        for where, name, value in (
            (end, "_INGEST_LIMIT", 0.6), (end, "_ASK_EVERY", 0.1), (end, "_PAUSE", 0.2), (end_devices, "STILL", 0.25),
            (calls, "_PAUSES", (0.02, 0.05)), (by_file, "_POLL", 0.05), (by_file, "_LISTED", 0.5), (by_file, "_SETTLES", 0.5),
            (end_devices, "LATE", 0.8), (end_devices, "_SETTLES", 0.4), (end_devices, "_POLL", 0.1),
        ):  # fmt: skip
            patched = mock.patch.object(where, name, value)
            patched.start()
            self.addCleanup(patched.stop)
        self.platform = Reedbank()
        self.addCleanup(self.platform.close)
        self.elsewhere: set[tuple[str, str]] = set()  # pushes that no device of the rig makes: key and side
        self.tower, self.mill = Encoder(self.moved), Encoder(self.moved)
        self.addCleanup(self.tower.close)
        self.addCleanup(self.mill.close)
        self.start_at = datetime.datetime.now(datetime.UTC) - datetime.timedelta(minutes=10)
        self.file("sedge.yaml", DRIVER)
        self.file("reedbank.yaml", self.platform.file())
        self.file("reed-sheet.yaml", SHEET)
        self.file("secrets.yaml", f"token: {TOKEN}\nmain: {KEY}\nside: varn~fake~sidebird\n", 0o600)
        self.write_rig()

    def write_rig(self, old: str = "", new: str = "") -> None:
        text = RIG.format(
            tower=self.tower.address, mill=self.mill.address, platform=f"{self.platform.origin}/", ingest=self.platform.ingest_address,
            start=f"{self.start_at:%Y-%m-%d %H:%M}",
        )  # fmt: skip
        assert old in text
        self.file("rig.yaml", text.replace(old, new) if old else text)

    def moved(self) -> None:
        """What the encoders push arrives at lines with that key."""
        pushed = {(way.name, "first") for e in (self.tower, self.mill) for way in e.ways.values() if way.pushing and way.name}
        self.platform.arriving = pushed | self.elsewhere

    def elsewhere_pushes(self, key: str, side: str = "first") -> None:
        """Somebody whom the rig does not know pushes with this key."""
        self.elsewhere.add((key, side))
        self.moved()

    def reference(self, event: str = "finals", destination: str = "main") -> str:
        """The name that the rig gives its event."""
        from direkt.platform import planned
        from direkt.rig import file as rig

        loaded = rig.load(self.folder / "rig.yaml")
        return planned.event_id(loaded, next(planned.occurrences(loaded, event)), destination)

    def on_air(self, event: str = "finals", **more) -> Cast:
        """The event is on air, and the tower pushes it; begun somewhere else."""
        cast = self.platform.cast("The finals", words=f"#{self.reference(event)}", key=KEY, **more)
        self.tower.push(self.platform.ingest_address, KEY)
        return cast

    def another_folder(self) -> Path:
        """The same rig on another machine, without what is remembered here."""
        other = Path(tempfile.mkdtemp(prefix="direkt-test-"))
        self.addCleanup(shutil.rmtree, other, ignore_errors=True)
        for name in ("rig.yaml", "sedge.yaml", "reedbank.yaml", "reed-sheet.yaml", "secrets.yaml"):
            shutil.copy(self.folder / name, other / name)
        return other

    # The truth

    def still_on(self, aim: str) -> list[str]:
        """What is really on of what a stop aims at."""
        out = []
        if self.tower.pushing:
            out.append("the tower pushes")
        if aim == "--all" and self.mill.pushing:
            out.append("the mill pushes")
        destinations = {"finish": [KEY], "finals": [KEY], "mark": ["varn~fake~sidebird"]}.get(aim, [KEY, "varn~fake~sidebird"])
        out += [f"something arrives with {key}" for key, _ in self.platform.arriving if key in destinations]
        if aim in ("--all", "finals"):
            out += [f"{c.about['name']} is {c.phase}" for c in self.platform.live() if self.platform.key_of(c) in destinations]
        return out

    def stop(self, aim: str, *more: str, text: str = "", **env: str) -> Result:
        """One stop; what it says is true."""
        result = self.direkt("stop", aim, *more, "--json", text=text, **env)
        self.assertIn(result.code, (0, 1, 3), result)
        really = self.still_on(aim)
        document = result.json
        self.assertEqual(document["proven"], result.code == 0, result)
        if really:
            self.assertNotEqual(result.code, 0, f"{really}, and it says: {result}")
            self.assertFalse(document["proven"])
        for secret in (KEY, TOKEN, "varn~fake~sidebird"):
            self.assertNotIn(secret, result.out + result.err)
        self.assertNotIn("Traceback", result.err)
        return result
