"""The demo rig of the Lake Varn Regatta: its files, and the gear that runs for it."""

from __future__ import annotations

import os
from pathlib import Path

from direkt import rig
from direkt.destination import references
from direkt.sim.brindle import BrindleB2

LOGIN = "operator:regatta-demo"
KEYS = {"tarnlight": "varn~fake~sandpiper", "plainsong": "varn~fake~wren"}
_RIG = """\
# The Lake Varn Regatta: made-up gear, made-up platforms.
schema: direkt.rig/1
name: Lake Varn Regatta
devices:
  finish-tower:               # Brindle B2 hardware encoder on the finish tower
    driver: brindle-b2
    address: http://127.0.0.1:{port}
    login: file:secrets.yaml#finish-tower
destinations:
  tarnlight:
    sheet: tarnlight
    server: rtmp://ingest.tarnlight.example/live
    key: file:secrets.yaml#tarnlight
  plainsong:
    sheet: plainsong-village
    server: rtmp://push.plainsong.example/village
    key: file:secrets.yaml#plainsong
feeds:
  finish:
    device: finish-tower
    channel: main
    slot: 1
    destination: tarnlight
uplink:
  mbit_s: 15
  reserve_percent: 30
"""


def lay_out(folder: Path, port: int) -> None:
    """Writes rig.yaml and secrets.yaml (mode 0600) into ``folder``. Raises OSError."""
    folder.mkdir(parents=True, exist_ok=True)
    secrets = f"finish-tower: {LOGIN}\n" + "".join(f"{name}: {key}\n" for name, key in KEYS.items())
    descriptor = os.open(folder / "secrets.yaml", os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w") as file:
        file.write("# Logins and stream keys. All of them fake.\n" + secrets)
    with (folder / rig.FILE_NAME).open("x", encoding="utf-8") as file:
        file.write(_RIG.format(port=port))


def gear(folder: Path, port: int) -> BrindleB2:
    """The finish tower's encoder with the login that the rig in ``folder`` knows."""
    ref = references.SecretRef("file", "finish-tower", "secrets.yaml")
    user, password = references.login_of(references.resolve(ref, references.Sources({}), folder), "secrets.yaml")
    return BrindleB2(user, password.reveal(), port=port)
