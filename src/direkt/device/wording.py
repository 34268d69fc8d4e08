"""A device's settings in its own words: ``ON`` for sound that is there, ``B 720/50`` for three values at once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from direkt import parameters
from direkt.described import words
from direkt.device.driver_file import DriverFile
from direkt.device.settings_modes import word_for
from direkt.parameters import Values


def word(file: DriverFile | None, name: str, values: Values) -> str:
    """The value of one parameter as the device says it; in our words where its driver file knows none."""
    value = values[name]
    entry = file.settings.get(name) if file is not None else None
    if entry is None:
        return parameters.show(name, value)
    rate = values.get("video.frame_rate", 0)
    said = words.theirs(entry, value, float(rate) if isinstance(rate, int | float) else 0.0)
    if isinstance(said, bool):
        return "on" if said else "off"
    if entry.words is not None or isinstance(said, str):
        return str(said)
    return f"{said} {entry.unit or parameters.find(name).unit}".strip()


def in_menus(file: DriverFile, changed: Iterable[str], values: Values) -> Iterator[tuple[str, str]]:
    """Where a person sets what is changed, and to which word, in the order of the device's menus."""
    names = set(changed)
    for at, path in file.menus.items():
        tied = next((field for field in file.modes if field.at == at), None)
        said: str | None = None
        if tied is not None and any(names & row.keys() for row in tied.words.values()):
            said = word_for(tied, values)
        elif at in names and at in values:
            said = word(file, at, values)
        if said is not None:
            yield " > ".join(path), said
