"""What differs on a device from what was last written to it."""

from __future__ import annotations

from dataclasses import dataclass

from direkt import parameters
from direkt.destination.references import Sources
from direkt.errors import UnusableInput, os_words
from direkt.parameters import Value
from direkt.rig.file import Rig
from direkt.store import changes
from direkt.store.changes import Change
from direkt.store.small_file import place


@dataclass(frozen=True, slots=True)
class Drifted:
    """One thing that is not as it was written."""

    channel: str
    what: str  # a parameter, or a part of the push slot
    written: Value
    now: Value | None
    when: str  # it was written


def look(rig: Rig, device: str, sources: Sources) -> list[Drifted] | None:
    """The differences; None where nothing was written to the device from here. Raises DirektError."""
    try:
        log = changes.read(rig.folder)
    except OSError as error:
        raise UnusableInput(f"{place(rig.folder, changes.FILE_NAME)}: cannot be read: {os_words(error)}") from None
    if not any(one.device == device for one in log) and changes.unread(rig.folder):
        raise UnusableInput(
            f"{place(rig.folder, changes.FILE_NAME)}: not every line can be read, so that it is not known whether {device} was written from here"
        )
    last: dict[str, Change] = {one.channel: one for one in log if one.device == device and one.set}
    if not last:
        return None
    driver = rig.driver(device, sources)
    try:
        state = driver.read()
    finally:
        driver.close()
    out = []
    for name, one in last.items():
        channel = state.channel(name)
        now = channel.values if channel is not None else {}
        out += [
            Drifted(name, parameter, value, now.get(parameter), one.when) for parameter, value in one.set.items()
            if parameter not in now or not parameters.same(parameter, now[parameter], value)
        ]  # fmt: skip
        if one.slot is not None:
            number, slot_channel, server, length = one.slot
            slot = state.slots.get(number)
            pairs: tuple[tuple[str, Value, Value | None], ...] = (
                ("push slot channel", slot_channel, slot.channel if slot else None), ("push slot server", server, slot.server if slot else None),
                ("push slot key length", length, slot.key_length if slot else None),
            )  # fmt: skip
            out += [Drifted(name, what, was, has, one.when) for what, was, has in pairs if was != has]
    if state.restart_needed:
        out.append(Drifted("all", "restart", "done", "needed", max(one.when for one in last.values())))
    return out
