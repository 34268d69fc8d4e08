"""What commands take in common: the rig, JSON, lengths of time; and the things that these lead to."""

from __future__ import annotations

import os
import re
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.destination.keystore import KeyStore
    from direkt.destination.references import Sources
    from direkt.rig import DestinationEntry, Rig
    from direkt.trust import Trust, TrustStore

Command = TypeVar("Command", bound=Callable[..., Any])

json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON document instead of text.")
rig_option = click.option(
    "--rig", "rig_path", type=click.Path(path_type=Path), envvar="DIREKT_RIG", metavar="FILE",
    help="The rig; otherwise DIREKT_RIG, or rig.yaml in this folder.",
)  # fmt: skip
report_option = click.option(
    "--report", type=click.Path(path_type=Path), metavar="FILE", help="Also write the JSON document to FILE."
)
keep_option = click.option(
    "--keep", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.flv",
    help="Record what comes, as received.",
)  # fmt: skip
overwrite_option = click.option("--overwrite", is_flag=True, help="Let --keep replace a file.")


class Seconds(click.ParamType[float]):
    """A length of time: 30s, 2m, 1h, or a number of seconds."""

    name = "time"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        if isinstance(value, int | float):
            return float(value)
        match = re.fullmatch(r"(\d+(?:\.\d+)?)\s*(s|m|h|min)?", str(value).strip())
        if match is None or float(match[1]) <= 0:
            self.fail(f"{value!r} is no length of time; expected 30s, 2m or 1h", param, ctx)
        return float(match[1]) * {"s": 1, None: 1, "m": 60, "min": 60, "h": 3600}[match[2]]


def time_option(name: str, *names: str, default: float, help: str) -> Callable[[Command], Command]:
    """An option that takes a length of time and shows its default as people write it."""
    shown = f"{default / 60:g}m" if default % 60 == 0 and default > 60 else f"{default:g}s"
    return click.option(
        name, *names, type=Seconds(), metavar="TIME", default=default, help=f"{help} [default: {shown}]"
    )


class SystemClock:
    """Time as this machine has it."""

    def now(self) -> float:
        """s of a clock that never goes back."""
        return time.monotonic()

    def sleep(self, seconds: float) -> None:
        """Waits. Where somebody wants the end and nobody took notice, the wait ends with that."""
        from direkt.work.steps import END

        left = seconds
        while True:
            if END.asked:
                END.taken()
                raise KeyboardInterrupt
            if left <= 0:
                return
            time.sleep(min(left, 0.25))
            left -= 0.25

    def stamp(self) -> str:
        """Date and time for a file's name."""
        return time.strftime("%Y%m%d-%H%M%S")


def load_rig(path: Path | None) -> Rig:
    """The rig that the person means. Raises UnusableInput."""
    from direkt import rig

    chosen = path if path is not None else Path(rig.FILE_NAME)
    if chosen.is_dir():
        chosen = chosen / rig.FILE_NAME
    if not chosen.exists():
        if path is None:
            raise UnusableInput("no rig.yaml in this folder: name one with --rig FILE, or try one with: direkt sim DIR")
        raise UnusableInput(f"{chosen}: no such file; name the rig with --rig FILE")
    return rig.load(chosen)


def rig_slug(rig: Rig) -> str:
    """The rig's name as part of a name in the key store."""
    return re.sub(r"[^a-z0-9]+", "-", rig.file.name.lower()).strip("-") or "rig"


def config_folder() -> Path:
    """The user's configuration folder; DIREKT_CONFIG names another."""
    import platformdirs

    chosen = os.environ.get("DIREKT_CONFIG")
    return Path(chosen) if chosen else platformdirs.user_config_path("direkt")


def key_store() -> KeyStore:
    """Direkt's own store of keys."""
    from direkt.destination.keystore import KeyStore

    return KeyStore(config_folder())


def sources(rig: Rig | None = None) -> Sources:
    """Where logins and keys come from, for a rig or for what the person wrote on the command line."""
    from direkt.destination.references import Sources
    from direkt.protocol import refusals
    from direkt.store.refused import RefusedLogins
    from direkt.trust import Trust

    refusals.remember_in(RefusedLogins(config_folder(), time.time))
    if rig is None:  # nobody else's file is in play
        return Sources(os.environ, key_store(), Trust(True, None))
    named = os.environ.get("DIREKT_ENV", "").replace(",", " ").split()
    return Sources(os.environ, key_store(), trust(rig).seeing(named))


def trust_store() -> TrustStore:
    """The list of trusted rigs."""
    from direkt.trust import TrustStore

    return TrustStore(config_folder())


def trust(rig: Rig) -> Trust:
    """What a rig may do, as the person decided."""
    return trust_store().look_up(rig.path, rig.content())


def remind(destination: DestinationEntry) -> None:
    """A word on a key that was exposed and has not changed since."""
    from direkt.cli import output

    name = destination.key.removeprefix("store:")
    if destination.key.startswith("store:") and any(k.name == name and k.exposed for k in key_store().kept()):
        output.note(f"! the key was exposed: get a new one, then: direkt key renew {name.rpartition('/')[2]}")
