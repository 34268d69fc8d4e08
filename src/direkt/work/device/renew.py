"""Writing a new key to every device that has the old one; nothing else is touched."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from direkt.destination.references import Sources
from direkt.device.state import PushState
from direkt.errors import DirektError
from direkt.rig.file import Rig
from direkt.secret import Secret
from direkt.store import carried
from direkt.work import feeds


@dataclass(frozen=True, slots=True)
class Renewed:
    """What became of one device."""

    feed: str
    device: str
    written: bool
    reason: str = ""  # why not; or what to know


def renew(rig: Rig, destination: str, key: Secret, sources: Sources) -> Iterator[Renewed]:
    """Writes ``key`` into the push slot of each feed to a destination, one after the other; failures are told, not raised."""
    for name in rig.feeds_to(destination):
        yield _one(rig, name, key, sources)


def _one(rig: Rig, name: str, key: Secret, sources: Sources) -> Renewed:
    device = rig.file.feeds[name].device
    try:
        feed = feeds.look_up(rig, name, sources)
    except DirektError as error:
        return Renewed(name, device, False, str(error))
    if feed.entry.carry:  # this machine pushes, and takes the key from where it is kept
        running = carried.find(rig.folder, name) is not None
        again = f"; it is carried now with the old one: direkt push off {name}, then on" if running else ""
        feed.driver.close()
        return Renewed(
            name, device, not running, f"this machine pushes it, with the new key from its next start on{again}"
        )
    try:
        slot = feed.slot(feed.driver.read())
        feed.driver.write_slot(slot.number, slot.channel, slot.server or feed.destination.server, key)
    except DirektError as error:
        return Renewed(name, device, False, str(error))
    finally:
        feed.driver.close()
    pushing = slot.state is not PushState.STOPPED
    return Renewed(name, device, True, "it pushes now: it uses the new key from its next start on" if pushing else "")
