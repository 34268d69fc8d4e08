"""What commands take in common: the rig, JSON, lengths of time; and the things that these lead to."""

from __future__ import annotations

import contextlib
import math
import os
import re
import sys
import time
from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar
from urllib.parse import urlsplit

import click

from direkt import mask
from direkt.cli import output
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.destination.allowed import Trust
    from direkt.destination.keystore import Binding, KeyStore
    from direkt.destination.references import Sources
    from direkt.rig.file import DestinationEntry, Rig
    from direkt.rig.trust import TrustStore
    from direkt.secret import Secret

Command = TypeVar("Command", bound=Callable[..., Any])

TRUSTED_ONCE = "DIREKT_TRUSTED_ONCE"  # the digest of a rig that one command trusts
json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON document instead of text.")

all_option = click.option(
    "--all", is_flag=True, expose_value=False, callback=lambda context, _, given: context.meta.update({output.ALL: given}),
    help="Show every measure and every finding, under the names that sheets and JSON have for them.",
)  # fmt: skip

details_option = click.option(  # the same where --all means every feed
    "--details", is_flag=True, expose_value=False, callback=lambda context, _, given: context.meta.update({output.ALL: given}),
    help="Name settings as sheets and JSON do; of match and write also show every reason with the sheet's line.",
)  # fmt: skip


def renamed(old: str, new: str) -> Callable[[Command], Command]:
    """An option's old name: an error with the new one."""

    def refuse(context: click.Context, parameter: click.Parameter, value: bool) -> None:
        if value:
            raise click.UsageError(f"{old} is called {new} now")

    return click.option(old, is_flag=True, hidden=True, expose_value=False, callback=refuse)


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


class RealNumber(click.FloatRange):
    """A number within a range, and a real one: nan and inf are none."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        found = super().convert(value, param, ctx)
        if isinstance(found, float) and not math.isfinite(found):
            self.fail(f"{value!r} is not a number", param, ctx)
        return found


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
    from direkt.protocol import clear
    from direkt.rig import file as rig

    chosen = path if path is not None else Path(rig.FILE_NAME)
    if chosen.is_dir():
        chosen = chosen / rig.FILE_NAME
    if not chosen.exists():
        if path is None:
            raise UnusableInput("no rig.yaml in this folder: name one with --rig FILE, or try one with: direkt sim DIR")
        raise UnusableInput(f"{chosen}: no such file; name the rig with --rig FILE")
    loaded = rig.load(chosen)
    mask.IN_USE.publish(loaded.names())
    in_clear = [d.address for d in loaded.file.devices.values() if d.insecure == "yes"]
    for where in (*in_clear, *(p.address for p in loaded.file.platforms.values() if p.insecure == "yes")):
        clear.allow(where)
    with contextlib.suppress(UnusableInput):  # what cannot be read is told by the command that needs it
        _know(loaded)
    return loaded


def _know(rig: Rig) -> None:
    """What the rig keeps secret is hidden from here on, also before it is used: it may come back in the words of others."""
    from direkt.destination import references
    from direkt.destination.references import SecretError, Sources

    store = key_store()
    sources = Sources(os.environ, store, trust(rig).seeing(_listed()), rig_id(rig))
    kept = {one.name for one in store.kept() if one.where == "file"} if any(r.kind == "store" for r in rig.refs()) else set()
    for ref in rig.refs():
        if ref.kind in ("file", "env") or (ref.kind == "store" and ref.name in kept):
            with contextlib.suppress(SecretError, UnusableInput):
                secret = references.resolve(ref, sources, rig.folder)
                mask.IN_USE.add(secret.reveal().partition(":")[2])  # of a login, the password
    for told in rig.file.watch.notify.values():
        if told.webhook is not None:
            parts = urlsplit(told.webhook)
            for word in re.split(r"[/?&=]", f"{parts.path}/{parts.query}"):
                if len(word) >= 8 and not word.islower():
                    mask.IN_USE.add(word)


def _listed() -> list[str]:
    """The environment variables that the person lets rigs see."""
    return os.environ.get("DIREKT_ENV", "").replace(",", " ").split()


def given_secret(text: str, option: str, what: str) -> Secret:
    """A secret that an option names: by a reference, typed when it is asked for, or, with a warning, as it is. Raises UnusableInput."""
    from direkt.destination import references
    from direkt.secret import Secret

    if text == "ask":
        return Secret(_asked(what))
    try:
        ref = references.parse_ref(text)
    except references.SecretError:
        if not text.strip() or text.partition(":")[0] in ("store", "env", "file", "command"):
            raise
        output.note(
            f"! {option}: everybody on this machine can see a secret in a command line, and the shell keeps it. Next time: {option} ask, or {option} env:NAME"
        )
        return Secret(text)
    return references.resolve(ref, sources(), Path.cwd())


def _asked(what: str) -> str:
    """What is typed and not shown; from a pipe, its first line. Raises UnusableInput."""
    typed = click.prompt(f"{what} (hidden)", hide_input=True, err=True) if sys.stdin.isatty() else sys.stdin.readline(4096).rstrip("\r\n")
    if not typed:
        raise UnusableInput(f"nothing came on standard input: {what} was expected there")
    return str(typed)


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
    from direkt.destination.allowed import Trust
    from direkt.destination.references import Sources
    from direkt.protocol import refusals
    from direkt.store.refused_logins import RefusedLogins

    refusals.remember_in(RefusedLogins(config_folder(), time.time))
    if rig is None:  # nobody else's file is in play
        return Sources(os.environ, key_store(), Trust(True, None))
    found = Sources(os.environ, key_store(), trust(rig).seeing(_listed()), rig_id(rig))
    with contextlib.suppress(UnusableInput):  # a damaged store is told by the command that needs it; stop needs none
        _ask_for_new_places(rig, found)
    return found


def rig_id(rig: Rig, *, make: bool = False) -> str:
    """By which the rig is told from another of the same name; empty where it has none yet and none is to be made."""
    from direkt.store import rig_id

    return rig.file.id or (rig_id.ensure(rig.folder) if make else rig_id.read(rig.folder))


def binding(rig: Rig, to: Iterable[str] = ()) -> Binding:
    """What a secret that is kept for the rig is bound to; the rig has an id from here on."""
    from direkt.destination.keystore import Binding

    return Binding(str(rig.path), rig_id(rig, make=True), tuple(to))


def own_name(rig: Rig, what: str) -> str:
    """The name in the key store under which the rig keeps something."""
    from direkt.destination import references
    from direkt.destination.references import Sources

    store = key_store()
    plain = f"{rig_slug(rig)}/{what}"
    own = rig_id(rig, make=bool(store.bound(plain)))
    return references.own_name(what, rig_slug(rig), Sources({}, store, trust(rig), own), store)


def bind(rig: Rig, *, own: bool) -> None:
    """From here on the rig may send its secrets to where it says; ``own``: those alone that were kept for it."""
    store, by = key_store(), None
    for ref, to in rig.sent().items():
        bound = store.bound(ref.name) if ref.kind == "store" else ()
        if bound:
            by = by or binding(rig)
            if not own or any(one.fits(by) for one in bound):
                store.bind(ref.name, replace(by, to=to))
    if not own and (by := binding(rig)).id:
        for kept in store.kept():  # the same rig, moved here: what it kept beside its keys comes along
            for one in kept.bound:
                if one.id == by.id and one.rig != by.rig and not Path(one.rig).exists():
                    store.bind(kept.name, replace(by, to=one.to))


def _ask_for_new_places(rig: Rig, sources: Sources) -> None:
    """A key that was kept for one address, and is to go to another one: on a terminal the person is asked, in words."""
    if sources.trust.commands or not sys.stdin.isatty() or not sys.stderr.isatty():
        return
    from direkt.destination.references import SecretError

    store = key_store()
    for ref, to in rig.sent().items():
        if ref.kind != "store":
            continue
        try:
            sources.admit(ref.name, to)
        except SecretError:
            by = sources.by(to)
            own = [one for one in store.bound(ref.name) if one.fits(by)]
            if not own:
                continue  # another rig's: that takes trust
            known = ", ".join(place for one in own for place in one.to)
            new = ", ".join(place for place in to if not any(place in one.to for one in own))
            click.echo(f"The key {ref.name} was kept for {known}. {rig.source} now sends it to {new}.", err=True)
            if click.confirm("Send it there from now on?", default=False, err=True):
                store.bind(ref.name, replace(binding(rig), to=to))


def trust_store() -> TrustStore:
    """The list of trusted rigs."""
    from direkt.rig.trust import TrustStore

    return TrustStore(config_folder())


def trust(rig: Rig) -> Trust:
    """What a rig may do, as the person decided."""
    from direkt.destination.allowed import Trust

    if os.environ.get(TRUSTED_ONCE) == (content := rig.content()):
        return Trust(True, frozenset(ref.name for ref in rig.refs() if ref.kind == "env"), rig=str(rig.path))
    return trust_store().look_up(rig.path, content)


def remind(destination: DestinationEntry) -> None:
    """A word on a key that was exposed and has not changed since."""

    name = destination.key.removeprefix("store:")
    if destination.key.startswith("store:") and any(k.name == name and k.exposed for k in key_store().kept()):
        output.note(f"! the key was exposed: get a new one, then: direkt key renew {name.rpartition('/')[2]}")
