"""Saved settings: what a device was set to before a write, in a file beside the rig, and the way back to it."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

from direkt import files, parameters
from direkt.device.state import Channel, DeviceState, Slot
from direkt.errors import UnusableInput, os_words
from direkt.parameters import ParameterError, Values
from direkt.rig.file import Rig
from direkt.store.small_file import open_folder, require_folder
from direkt.work.device.unfinished import SAVED_FOLDER, saved_folder
from direkt.work.feeds import FeedParts
from direkt.work.steps import StepClock

_MOST = 1 << 20  # characters of a file with saved settings


@dataclass(frozen=True, slots=True)
class Old:
    """What an earlier write has saved."""

    values: Values
    slot: int | None  # None: the device had none
    slot_channel: str
    server: str
    key_length: int
    device: str = ""
    channel: str = ""


def not_saved(folder: Path, error: OSError) -> UnusableInput:
    """That old settings cannot be kept."""
    return UnusableInput(f"{folder}: old settings cannot be saved, so nothing was changed: {os_words(error)}")


def save(feed: FeedParts, state: DeviceState, channel: Channel, slot: Slot | None, clock: StepClock) -> Path:
    """Keeps what a device is set to. Raises UnusableInput."""
    folder = saved_folder(feed.rig.folder)
    held = None if slot is None else {
        "number": slot.number, "channel": slot.channel, "server": slot.server, "key_length": slot.key_length,
    }  # fmt: skip
    document = {
        "schema": "direkt.saved/1", "device": feed.device, "model": state.model, "firmware": state.firmware,
        "channel": channel.name, "set": channel.values, "slot": held,
    }  # fmt: skip
    name = f"{files.name_of(feed.device)}-{files.name_of(channel.name)}-{clock.stamp()}"
    try:
        open_folder(folder)
        with files.alone(folder):
            paths = (folder / f"{name}{more}.json" for more in ("", *(f"-{n}" for n in range(2, 1000))))
            path = next(path for path in paths if not path.exists())  # several within one second
            files.replace(path, json.dumps(document, indent=2) + "\n", 0o600)
    except OSError as error:
        raise not_saved(folder, error) from None
    return path


def load(path: Path) -> Old:
    """What is in a file that an earlier write left. Raises UnusableInput."""
    try:
        document = json.loads(files.read(path, _MOST))
        if document["schema"] != "direkt.saved/1":
            raise ValueError
        values = {name: parameters.clean(name, value) for name, value in document["set"].items()}
        slot = document["slot"]
        old = (
            Old(values, None, "", "", 0, document["device"], document["channel"]) if slot is None
            else Old(values, slot["number"], slot["channel"], slot["server"], slot["key_length"], document["device"], document["channel"])
        )  # fmt: skip
        held = [type(x) for x in (old.slot, old.slot_channel, old.server, old.key_length, old.device, old.channel)]
        if held not in ([int, str, str, int, str, str], [type(None), str, str, int, str, str]):
            raise ValueError
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be read: {os_words(error)}") from None
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, ParameterError):
        raise UnusableInput(f"{path}: not saved settings; those lie in .direkt/{SAVED_FOLDER}/") from None
    return old


def load_saved(path: Path, device: str, channel: Channel) -> Old:
    """The same, of a device's channel. Raises UnusableInput for another one's."""
    old = load(path)
    if (old.device, old.channel) != (device, channel.name):
        raise UnusableInput(
            f"{path}: settings of {old.device}, channel {old.channel}; this feed uses {device}, {channel.name}"
        )
    return old


def newest(rig: Rig, device: str) -> list[Path]:
    """The files with a device's saved settings, the newest first. Raises UnusableInput where nobody can look."""
    require_folder(rig.folder)
    folder = saved_folder(rig.folder)
    start = f"{files.name_of(device)}-"
    found = [
        path
        for path in folder.glob("*.json")
        if path.name.startswith(start) and not path.name.endswith(".unfinished.json")
    ]
    own = []
    for path in found:
        try:
            if load(path).device == device:
                own.append(path)
        except UnusableInput:
            continue
    return sorted(own, key=lambda path: (path.stat().st_mtime, path.name), reverse=True)
