"""The demo rig of the Lake Varn Regatta: its files, and the gear that runs for it."""

from __future__ import annotations

import datetime
import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from urllib.parse import urlsplit

from direkt.destination import references
from direkt.errors import UnusableInput
from direkt.rig import file as rig
from direkt.sim.brindle import BrindleB2
from direkt.sim.fescue import Fescue
from direkt.sim.grants import PlatformFaults
from direkt.sim.kelpie import Kelpie
from direkt.sim.marram import Marram
from direkt.sim.osier import Osier
from direkt.sim.plainsong import Plainsong
from direkt.sim.rtsp import RtspServer
from direkt.sim.tarnlight import Tarnlight
from direkt.sim.unit import SimulatedUnit
from direkt.sim.web import Faults

LOGIN = "operator:regatta-demo"
KEYS = {
    "tarnlight": "varn~fake~sandpiper",
    "pontoon": "varn~fake~dipper",
    "plainsong": "varn~fake~wren",
    "course": "varn~fake~grebe",
    "roof": "varn~fake~lapwing",
    "tarnlight-token": "varn~fake~token~heron",
}
PLATFORMS = ("tarnlight", "plainsong")
PORTS = ("platform", "ingest", "backup", "ingest-tls", "village")  # of the simulated platforms
NAMES = ("finish-tower", "start-pontoon", "mark-1000", "umpire-launch")
HANDS = ".sim-hands"  # the note
BY_HAND = "boathouse-roof"  # whose menu is at a port that the rig does not know
_RIG = """\
# The Lake Varn Regatta: made-up gear, made-up platforms.
schema: direkt.rig/1
name: Lake Varn Regatta
mains_hz: 50
zone: UTC
devices:
  finish-tower:               # Brindle B2 hardware encoder on the finish tower
    driver: brindle-b2
    address: http://127.0.0.1:{finish-tower}
    login: file:secrets.yaml#finish-tower
  start-pontoon:              # Osier 20 PTZ camera at the start
    driver: osier-20
    address: http://127.0.0.1:{start-pontoon}
    login: file:secrets.yaml#start-pontoon
  mark-1000:                  # Fescue fixed camera at the 1000 m mark; it cannot push by itself
    driver: fescue
    address: http://127.0.0.1:{mark-1000}
    login: file:secrets.yaml#mark-1000
  umpire-launch:              # Marram 360 on the umpire's launch
    driver: marram-360
    address: http://127.0.0.1:{umpire-launch}
    login: file:secrets.yaml#umpire-launch
  boathouse-roof:             # Kelpie H1 camcorder on the boathouse roof; no program can reach it
    driver: kelpie-h1
destinations:
  tarnlight:
    sheet: tarnlight
    server: rtmp://127.0.0.1:{ingest}/live
    backup: rtmp://127.0.0.1:{backup}/live
    key: file:secrets.yaml#tarnlight
    platform: tarnlight
  pontoon:                    # a second event at the same platform
    sheet: tarnlight
    server: rtmp://ingest.tarnlight.example/live
    key: file:secrets.yaml#pontoon
  plainsong:                  # no interface: its events are worked by hand
    sheet: plainsong-village
    server: rtmp://127.0.0.1:{village}/village
    key: file:secrets.yaml#plainsong
  course:                     # a third one there
    sheet: tarnlight
    server: rtmp://127.0.0.1:{ingest}/live
    key: file:secrets.yaml#course
    platform: tarnlight
  roof:                       # and a fourth
    sheet: tarnlight
    server: rtmp://ingest.tarnlight.example/live
    key: file:secrets.yaml#roof
feeds:
  finish:
    device: finish-tower
    channel: main
    slot: 1
    destination: tarnlight
  start:
    device: start-pontoon
    destination: pontoon
  launch:
    device: umpire-launch
    destination: plainsong
  mark:                       # this machine fetches the stream and pushes it on
    device: mark-1000
    destination: course
    carry: true
  roof:                       # set by hand: direkt card roof
    device: boathouse-roof
    destination: roof
uplink:
  mbit_s: 46
  reserve_percent: 30
platforms:
  tarnlight:
    address: http://127.0.0.1:{platform}/events-api
    file: tarnlight           # which declarations it asks for
    token: file:secrets.yaml#tarnlight-token
watch:
  recover: {{push: 3, device: 1, within: 30m, pause: 2s}}
schedule:                     # direkt schedule run
  finals: {{event: finals, before: 15m}}
  village: {{event: village}}
events:
  finals:
    title: "{{rig}}: the finals, {{start:%d %B}}"
    description: "Race {{number}} of 3 begins at {{time}} {{zone}}."
    start: {finals_start}
    repeat: FREQ=DAILY;COUNT=3
    length: 3h
    audience: everyone
    delay: usual
    fields: {{crowd: families}}
    feeds: [finish, mark]
    notify: [the club's page, the umpires]
  village:
    title: "{{rig}} on the village channel"
    start: {village_start}
    repeat: FREQ=DAILY;COUNT=3
    length: 2h
    audience: everyone
    feeds: [launch]
"""


@dataclass(frozen=True, slots=True)
class GearFault:
    """A switch for something that goes wrong with gear."""

    words: str
    turn: Callable[[SimulatedUnit], None]


def _set(**values: object) -> Callable[[SimulatedUnit], None]:
    def turn(unit: SimulatedUnit) -> None:
        for name, value in values.items():
            setattr(unit.faults, name, value)

    return turn


def _clamp(unit: SimulatedUnit) -> None:
    unit.faults.clamps = {"video.bitrate_kbps": 3000, "bitrate": 3000, "mbps": 1.5}


def _new(unit: SimulatedUnit) -> None:
    unit.login.password = ""


def _old_firmware(unit: SimulatedUnit) -> None:
    if hasattr(unit, "firmware"):
        unit.firmware = "2.9.4"


def _wrong_clock(unit: SimulatedUnit) -> None:
    if hasattr(unit, "clock_ahead"):
        unit.clock_ahead = -5400.0


def _basic(unit: SimulatedUnit) -> None:
    unit.login.schemes = unit.login.schemes_all = unit.login.page_schemes = ("basic",)


def _black(unit: SimulatedUnit) -> None:
    if hasattr(unit, "picture"):
        unit.picture = "black"


def _stream(**values: object) -> Callable[[SimulatedUnit], None]:
    """What goes wrong with the streams that a camera gives out."""

    def turn(unit: SimulatedUnit) -> None:
        server = getattr(unit, "rtsp", None)
        if isinstance(server, RtspServer):
            server.broken = replace(server.broken, **values)  # type: ignore[arg-type]

    return turn


def _no_sets(unit: SimulatedUnit) -> None:
    server = getattr(unit, "rtsp", None)
    if isinstance(server, RtspServer):
        server.style = replace(server.style, sets_in_description=False)


FAULTS: Mapping[str, GearFault] = {
    "slow": GearFault("every answer takes 0.7 s", _set(slow=0.7)),
    "flaky": GearFault("one connection in five is cut", _set(flaky=0.2)),
    "clamps": GearFault("takes any bitrate, keeps at most 3000 kbit/s", _clamp),
    "forgets": GearFault("a restart brings back the settings of delivery", _set(forgets=True)),
    "never-returns": GearFault("stays away after a restart", _set(never_returns=True)),
    "malformed": GearFault("answers are cut in the middle", _set(malformed=True)),
    "locks": GearFault("three wrong logins lock everybody out", _set(locks=True)),
    "new": GearFault("factory-new: wants its first password", _new),
    "old-firmware": GearFault("firmware 2.9.4, which cannot push yet", _old_firmware),
    "wrong-clock": GearFault("its clock is 90 min behind", _wrong_clock),
    "basic": GearFault("takes a basic login only", _basic),
    "black": GearFault("its picture is black", _black),
    "loses": GearFault("its stream: one packet in a hundred is lost", _stream(lost=0.01)),
    "doubles": GearFault("its stream: one packet in fifty comes twice", _stream(doubled=0.02)),
    "reorders": GearFault("its stream: one packet in fifty comes late", _stream(reordered=0.02)),
    "wraps": GearFault("its stream: numbers and time stamps begin right in front of their end", _stream(wraps=True)),
    "jumps": GearFault("its stream: after 3 s the time stamps jump by 7 s", _stream(jump=(3.0, 7.0))),
    "new-source": GearFault("its stream: after 3 s another source takes over", _stream(new_source=3.0)),
    "pauses": GearFault("its stream: after 3 s nothing comes for 4 s", _stream(silence=(3.0, 4.0))),
    "impatient": GearFault("its stream: a session that is not kept alive for 3 s is dropped", _stream(timeout=3.0)),
    "no-sets": GearFault("its stream: the description has no parameter sets", _no_sets),
    "pieces": GearFault("its stream: answers come in several pieces", _stream(pieces=True)),
    "no-udp": GearFault("its stream: not by UDP", _stream(no_udp=True)),
    "no-tcp": GearFault("its stream: not by TCP", _stream(no_tcp=True)),
}


def lay_out(folder: Path, ports: Mapping[str, int], now: datetime.datetime | None = None) -> None:
    """Writes rig.yaml and secrets.yaml (mode 0600) into ``folder``. Raises OSError."""
    folder.mkdir(parents=True, exist_ok=True)
    lines = {**dict.fromkeys(NAMES, LOGIN), **KEYS}
    secrets = "".join(f"{name}: {value}\n" for name, value in lines.items())
    descriptor = os.open(folder / "secrets.yaml", os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w") as file:
        file.write("# Logins and stream keys. All of them fake.\n" + secrets)
    with (folder / rig.FILE_NAME).open("x", encoding="utf-8") as file:
        file.write(
            _RIG.format_map({**dict.fromkeys(PORTS, 9), **_starts(now or datetime.datetime.now(datetime.UTC)), **ports})
        )


def _starts(now: datetime.datetime) -> dict[str, str]:
    """When the events begin: at a full hour that is far enough ahead for devices to be restarted before."""
    first = (now + datetime.timedelta(hours=2)).replace(minute=0)
    times = {"finals": first, "village": first + datetime.timedelta(hours=1)}
    return {f"{name}_start": f"{moment:%Y-%m-%d %H:%M}" for name, moment in times.items()}


@dataclass(frozen=True, slots=True)
class PlatformFault:
    """A switch for something that goes wrong with a platform."""

    words: str
    values: Mapping[str, object]


PLATFORM_FAULTS: Mapping[str, PlatformFault] = {
    "drops": PlatformFault("its ingest cuts each connection after 20 s", {"drops": 20.0}),
    "shows-nothing": PlatformFault("takes pushes and shows nothing", {"shows_nothing": True}),
    "poor": PlatformFault("complains of every stream", {"poor": True}),
    "down": PlatformFault("its event interface is closed for repair", {"down": True}),
    "slow": PlatformFault("every answer takes 2 s", {}),
    "twice": PlatformFault("carries every request out twice", {"twice": True}),
    "loses-answers": PlatformFault("the first answer to each change is lost", {"loses_answers": True}),
    "token-expires": PlatformFault("tokens live for 20 s", {"token_life": 20.0}),
}


def tarnlight(rig_file: rig.Rig, faults: list[str]) -> Tarnlight:
    """The large platform, at the ports that the rig names. Raises UnusableInput."""
    entry, place = rig_file.file.platforms["tarnlight"], rig_file.file.destinations["tarnlight"]
    ref = references.parse_ref(entry.token or "")
    token = references.resolve(ref, references.Sources({}), rig_file.folder).reveal()
    web, ingest, backup = (urlsplit(url).port or 0 for url in (entry.address, place.server, place.backup or ""))
    made = Tarnlight(token, port=web, ingest_port=ingest, backup_port=backup, faults=PlatformFaults())
    for name in faults:
        for field, value in PLATFORM_FAULTS[name].values.items():
            setattr(made.faults, field, value)
        if name == "slow":
            made.web_faults.slow = 2.0
    return made


def plainsong(rig_file: rig.Rig) -> Plainsong:
    """The village channel, at the port that the rig names. Raises UnusableInput."""
    entry = rig_file.file.destinations["plainsong"]
    key = references.resolve(references.parse_ref(entry.key), references.Sources({}), rig_file.folder).reveal()
    return Plainsong(key, port=urlsplit(entry.server).port or 0)


def by_hand(folder: Path) -> Kelpie:
    """The camcorder; its menu is at the port that the note in ``folder`` tells once it is on. Raises OSError."""
    made = Kelpie()
    made.start()
    (folder / HANDS).write_text(f"{made.port}\n")
    return made


def gear(folder: Path, name: str, port: int) -> SimulatedUnit:
    """One device with the login that the rig in ``folder`` knows. Raises UnusableInput for a name that is none of the regatta's."""
    ref = references.SecretRef("file", name, "secrets.yaml")
    user, secret = references.login_of(references.resolve(ref, references.Sources({}), folder), "secrets.yaml")
    password, faults = secret.reveal(), Faults()
    if name == "finish-tower":
        return BrindleB2(user, password, port=port, faults=faults)
    if name == "start-pontoon":
        return Osier(user, password, name="Start pontoon", port=port, faults=faults)
    if name == "mark-1000":
        return Fescue(user, password, name="1000 m mark", port=port, faults=faults)
    if name == "umpire-launch":
        return Marram(user, password, port=port, faults=faults)
    raise UnusableInput(f"no gear called {name!r} in the regatta; there is {', '.join(NAMES)}")
