"""Which platform a destination's events are made at: the event interface, a platform file's own, or a person."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from direkt.destination import references
from direkt.destination.references import Keeper, Sources
from direkt.platform import platform_file
from direkt.platform.by_file import DescribedPlatform
from direkt.platform.by_hand import HandPlatform
from direkt.platform.calls import Calls, ReferredToken, Tokens
from direkt.platform.event import IngestServer, Platform, PlatformFacts
from direkt.platform.interface import InterfacePlatform
from direkt.platform.planned import PlannedEvent
from direkt.platform.sign_in import SignedInAccount
from direkt.rig.events import PlatformEntry
from direkt.rig.file import Rig, RigError, place_of


@dataclass(frozen=True, slots=True)
class Means:
    """What talking to platforms takes from outside."""

    sources: Sources
    tokens: Keeper
    slug: str  # the rig's name in the store
    wall: Callable[[], float]  # s since 1970
    sleep: Callable[[float], None]
    say: Callable[[str], None] = lambda _: None  # is told in words what takes long


def account(rig: Rig, name: str, means: Means) -> SignedInAccount:
    """The account at a platform. Raises RigError where the rig has a token instead."""
    entry = _entry(rig, name)
    if entry.token is not None:
        raise RigError(f"platforms.{name} has a token of its own: nobody needs to sign in there")
    return _account(rig, name, entry, means)


def _account(rig: Rig, name: str, entry: PlatformEntry, means: Means) -> SignedInAccount:
    file = platform_file.load(entry.file, rig.folder) if entry.file is not None else None
    asked = [file.sign_in.device, file.sign_in.token] if file is not None and file.sign_in is not None else []
    places = tuple(dict.fromkeys(place_of(one) for one in (entry.address, *asked)))
    secret = None
    if entry.client_secret is not None:
        secret = references.resolve(references.parse_ref(entry.client_secret), means.sources, rig.folder, places)
    kept = references.StoreName(means.sources, means.tokens, references.own_name(f"{name}.token", means.slug, means.sources, means.tokens), places)
    return SignedInAccount(
        name, entry.address, entry.client, kept, means.wall, any_certificate=entry.certificate == "any",
        places=file.sign_in if file is not None else None, secret=secret,
    )  # fmt: skip


def _entry(rig: Rig, name: str) -> PlatformEntry:
    entry = rig.file.platforms.get(name)
    if entry is None:
        known = ", ".join(rig.file.platforms) or "none"
        raise RigError(f"no platform {name!r} in {rig.source}; it has {known}")
    return entry


def open_platform(rig: Rig, name: str, means: Means) -> Platform:
    """A platform of the rig. Raises DocumentError, RigError and SecretError; nothing is sent yet. Close it when done."""
    entry = _entry(rig, name)
    file = platform_file.load(entry.file, rig.folder) if entry.file is not None else None
    tokens: Tokens
    if entry.token is not None:
        ref = references.parse_ref(entry.token)
        tokens = ReferredToken(lambda: references.resolve(ref, means.sources, rig.folder, [place_of(entry.address)]))
    else:
        tokens = _account(rig, name, entry, means)
    calls = Calls(name, entry.address, tokens, means.sleep, any_certificate=entry.certificate == "any", say=means.say, wall=means.wall)
    if file is not None and file.kind == "http":
        return DescribedPlatform(name, file, calls)
    return InterfacePlatform(name, calls, file.facts() if file is not None else PlatformFacts(name))


def by_hand(rig: Rig, planned: PlannedEvent, destination: str, means: Means) -> HandPlatform:
    """A destination whose events a person makes."""
    entry = rig.file.destinations[destination]
    servers = [IngestServer(entry.server)]
    if entry.backup is not None:
        servers.append(IngestServer(entry.backup, "backup"))
    return HandPlatform(
        rig.sheet(entry).name, rig.folder, planned, destination, tuple(servers), lambda: rig.key(entry, means.sources)
    )
