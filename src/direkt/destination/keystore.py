"""Direkt's own store of stream keys: the system's keyring where there is one, else a file of mode 0600.

Beside the keys it keeps, in keys.json (mode 0600 too), when each was set, whether it was exposed, and what it is bound to: the
rigs that it was kept for, by path and id, and the places that each may send it to. That file never holds a key.
"""

from __future__ import annotations

import contextlib
import json
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from direkt import files
from direkt.errors import UnusableInput, os_words

_SERVICE = "direkt"
_LARGEST = 16 << 20  # bytes of a file
_INDEX, _KEYS = "keys.json", "keys-secret.json"


class StoreError(UnusableInput):
    """The store cannot be read or written; the text says where."""


@dataclass(frozen=True, slots=True)
class Binding:
    """A rig that a key was kept for."""

    rig: str  # its file; empty: not known
    id: str = ""  # empty: not known
    to: tuple[str, ...] = ()  # host:port of each place that it may be sent to; none: not known

    def fits(self, other: Binding) -> bool:
        """Whether it is the same rig: at the same path, and with the same id where both have one."""
        return self.rig in ("", other.rig) and (not self.id or not other.id or self.id == other.id)


@dataclass(frozen=True, slots=True)
class KeptKey:
    """What the store knows of one key."""

    name: str
    where: str  # keyring or file
    since: str  # date and time at which it was set
    exposed: bool  # shown where others may have seen it, and not changed since
    bound: tuple[Binding, ...] = ()  # none: to nothing, by an older Direkt


class KeyStore:
    """Keys by name. ``folder``: where its files lie; nothing is touched before something is asked."""

    def __init__(self, folder: Path, *, use_keyring: bool = True) -> None:
        self._folder = folder
        self._use_keyring = use_keyring

    def get(self, name: str) -> str | None:
        """The key called ``name``; None when there is none."""
        entry = self._index().get(name)
        if entry is None:
            return None
        if entry["where"] == "keyring":
            ring = self._keyring()
            try:
                value = ring.get_password(_SERVICE, name) if ring is not None else None
            except Exception as error:
                raise StoreError(f"the keyring does not give out {name!r}: {type(error).__name__}") from None
        else:
            value = self._read(_KEYS).get(name)
        return value if isinstance(value, str) else None

    def bound(self, name: str) -> tuple[Binding, ...]:
        """The rigs that a key was kept for; none where that is not known, or there is no key."""
        entry = self._index().get(name)
        return _bound(entry) if entry is not None else ()

    def put(self, name: str, key: str, by: Binding) -> KeptKey:
        """Keeps ``key`` for a rig; a changed key is no longer exposed. Raises StoreError for one that is kept for others."""
        with self._alone():
            return self._put(name, key, by)

    def bind(self, name: str, by: Binding) -> bool:
        """From here on this rig too may take the key, and send it to those places; False when there is none."""
        with self._alone():
            index = self._index()
            if name not in index:
                return False
            index[name] = {**_without_rig(index[name]), "bound": _with(_bound(index[name]), by)}
            self._write(_INDEX, index)
            return True

    def _own(self, name: str, index: dict[str, Any], by: Binding) -> None:
        """Raises StoreError for a key that is kept for others."""
        bound = _bound(index[name]) if name in index else ()
        if bound and not any(one.fits(by) for one in bound):
            raise StoreError(f"the key {name!r} in the store was kept for {whose(bound, by)}, and is left alone. If this is that rig, moved: direkt rig trust")

    def _put(self, name: str, key: str, by: Binding) -> KeptKey:
        index = self._index()
        self._own(name, index, by)
        old = index.get(name)
        changed = old is None or self.get(name) != key
        ring = self._keyring()
        where = "file"
        if ring is not None:
            try:
                ring.set_password(_SERVICE, name, key)
                where = "keyring"
            except Exception:  # keyrings raise what they like: a locked one is as good as none
                where = "file"
        keys = self._read(_KEYS)
        if where == "file":
            self._write(_KEYS, {**keys, name: key})
        elif name in keys:
            self._write(_KEYS, {n: k for n, k in keys.items() if n != name})
        since = time.strftime("%Y-%m-%d %H:%M") if changed or old is None else old["since"]
        exposed = bool(old and old["exposed"] and not changed)
        bound = _with(_bound(old) if old is not None else (), by)
        index[name] = {"where": where, "since": since, "exposed": exposed, "bound": bound}
        self._write(_INDEX, index)
        return KeptKey(name, where, since, exposed, _bound(index[name]))

    def forget(self, name: str, by: Binding) -> bool:
        """Drops a key; False when there was none. Raises StoreError for one that is kept for others."""
        with self._alone():
            return self._forget(name, by)

    def _forget(self, name: str, by: Binding) -> bool:
        index = self._index()
        if name not in index:
            return False
        self._own(name, index, by)
        if index[name]["where"] == "keyring" and (ring := self._keyring()) is not None:
            try:
                ring.delete_password(_SERVICE, name)
            except Exception as error:
                raise StoreError(f"the keyring does not give up {name!r}: {type(error).__name__}") from None
        keys = self._read(_KEYS)
        if name in keys:
            self._write(_KEYS, {n: k for n, k in keys.items() if n != name})
        del index[name]
        self._write(_INDEX, index)
        return True

    def expose(self, name: str, by: Binding) -> bool:
        """Marks a key as seen by others until it changes; False when there is none. Raises StoreError for one that is kept for others."""
        with self._alone():
            index = self._index()
            if name not in index:
                return False
            self._own(name, index, by)
            index[name] = {**index[name], "exposed": True}
            self._write(_INDEX, index)
            return True

    def kept(self) -> list[KeptKey]:
        """All keys, by name."""
        return [KeptKey(name, e["where"], e["since"], e["exposed"], _bound(e)) for name, e in sorted(self._index().items())]

    # Files

    @contextlib.contextmanager
    def _alone(self) -> Iterator[None]:
        """What happens in here happens to the store alone, whoever else changes it."""
        try:
            self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            with files.alone(self._folder):
                yield
        except OSError as error:
            raise StoreError(f"{self._folder}: cannot be used: {os_words(error)}") from None

    def _keyring(self) -> Any:
        """The system's keyring; None where there is none to rely on."""
        if not self._use_keyring:
            return None
        try:
            import keyring

            ring = keyring.get_keyring()
            return ring if ring.priority >= 1 else None
        except Exception:  # no keyring, or one that cannot start: the file serves
            return None

    def _index(self) -> dict[str, Any]:
        index = self._read(_INDEX)
        for name, entry in index.items():
            if not isinstance(entry, dict) or not {"where", "since", "exposed"} <= set(entry):
                raise StoreError(f"{self._folder / _INDEX}: the entry {name!r} is damaged; take it out")
        return index

    def _read(self, name: str) -> dict[str, Any]:
        path = self._folder / name
        try:
            raw = files.read(path, _LARGEST).decode("utf-8")
            if name == _KEYS and path.stat().st_mode & 0o077:
                raise StoreError(f"{path}: others on this machine can read it; run: chmod 600 {path}")
            data = json.loads(raw)
        except FileNotFoundError:
            return {}
        except OSError as error:
            raise StoreError(f"{path}: cannot be read: {os_words(error)}") from None
        except (ValueError, RecursionError):
            raise StoreError(f"{path}: damaged; move it away, and set the keys again") from None
        if not isinstance(data, dict):
            raise StoreError(f"{path}: damaged; move it away, and set the keys again")
        return data

    def _write(self, name: str, data: dict[str, Any]) -> None:
        """Writes a file of mode 0600, whole or not at all."""
        path = self._folder / name
        try:
            files.replace(path, json.dumps(data, indent=1), 0o600)
        except OSError as error:
            raise StoreError(f"{path}: cannot be written: {os_words(error)}") from None


def whose(bound: Iterable[Binding], by: Binding) -> str:
    """Whom a key is kept for, that ``by`` is not."""
    rigs = [one.rig for one in bound]
    return "another rig that lay at this path" if by.rig in rigs else ", ".join(dict.fromkeys(rigs))


def _bound(entry: dict[str, Any]) -> tuple[Binding, ...]:
    """What an entry of the index is bound to; of an older Direkt, to a rig's path."""
    found = entry.get("bound")
    if not isinstance(found, list):
        rig = entry.get("rig")
        return (Binding(rig),) if isinstance(rig, str) and rig else ()
    return tuple(
        Binding(str(one.get("rig", "")), str(one.get("id", "")), tuple(map(str, to if isinstance(to := one.get("to"), list) else ())))
        for one in found if isinstance(one, dict)
    )  # fmt: skip


def _without_rig(entry: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in entry.items() if name != "rig"}


def _with(bound: tuple[Binding, ...], by: Binding) -> list[dict[str, Any]]:
    """The bindings with this one; it stands for what the same rig had."""
    kept = [one for one in bound if not one.fits(by)]
    return [{"rig": one.rig, "id": one.id, "to": list(one.to)} for one in [*kept, by]]
