"""The driver that follows a driver file: it asks, reads, writes and pushes as that says."""

from __future__ import annotations

import re
import secrets
from collections.abc import Callable, Iterator, Mapping
from fnmatch import fnmatchcase
from pathlib import Path
from urllib.parse import quote

from direkt import files, parameters
from direkt.described import words
from direkt.described.answers import Answered, JsonAnswer
from direkt.described.errors import BadAnswer, ChangeRefused, DeviceError
from direkt.described.http import HttpAnswer, HttpInterface, Upload
from direkt.described.requests import Mapped, RequestEntry, filled
from direkt.destination import forms
from direkt.device.driver_file import DriverFile, RequestName, check, form_names
from direkt.device.sign_in import SignedInSession
from direkt.device.state import Capability, Channel, DeviceState, Health, need
from direkt.device.state_by_file import Understood
from direkt.parameters import Values
from direkt.protocol import address
from direkt.secret import Secret

__all__ = ["Driver", "DriverFile", "check"]

_LARGEST_PICTURE = 16 << 20  # bytes
_PIECE = 1 << 16

NEEDS_ADDRESS = True


class Driver(Understood):
    """Talks to one device as its driver file says."""

    def __init__(
        self,
        name: str,
        file: DriverFile,
        address: str,
        login: tuple[str, Secret] | None,
        *,
        any_certificate: bool = False,
    ) -> None:
        super().__init__(name, file)
        self.address = address
        self.http = HttpInterface(name, address, file.login, login, any_certificate=any_certificate)
        # a device names its fields by their places, with slashes or dots
        names = {
            place.strip("/").replace("/", "."): name
            for name, s in file.settings.items()
            for place in (*s.places, *s.targets)
        }
        self._mapped = Mapped(
            name, f"the driver {file.title!r}", file.answers, file.coding, file.refusals, self._send,
            self.http.read_json, self._written, names,
        )  # fmt: skip
        self._session = (
            SignedInSession(self.http, file.sign_in, login, file.refusals, lambda answer, asked: self._mapped.read(answer, asked, needed=True), self._written.add)
            if file.sign_in is not None
            else None
        )  # fmt: skip
        able = {
            Capability.WRITE: "write" in file.requests,
            Capability.SLOTS: file.slots is not None,
            Capability.PUSH: file.slots is not None and {"push_on", "push_off"} <= set(file.requests),
            Capability.RESTART: "restart" in file.requests,
            Capability.FIRMWARE: "firmware" in file.requests,
            Capability.SNAPSHOT: "snapshot" in file.requests,
        }
        self.capabilities = frozenset(capability for capability, can in able.items() if can)

    def close(self) -> None:
        """Lets go of the connection."""
        self.http.close()

    # Requests

    def _send(self, method: str, path: str, content: bytes, headers: Mapping[str, str]) -> HttpAnswer:
        if self._session is not None:
            return self._session.send(method, path, content, headers)
        return self.http.admitted(method, path, content, headers)

    def _ask(
        self, request: RequestName, fields: Mapping[str, object] | None = None, entry: RequestEntry | None = None, **places: object
    ) -> Answered:  # fmt: skip
        """The answer to a request with these fields; ``entry``: which of several. Raises DeviceError."""
        entry = entry or self.file.request(request)
        assert entry is not None
        own = {} if request == "write_slot" and entry.fields else fields or {}  # there the file says itself how they go
        whole = {**filled(entry.fields, {**places, **(fields or {})}), **own}
        return self._mapped.ask(entry, whole, places, needed=request in ("state", "limits"))

    # Reading

    def read(self) -> DeviceState:
        """State and limits."""
        state = self._read_all("state")
        return self._state(state, self._read_all("limits") if "limits" in self.file.requests else state)

    def _read_all(self, request: RequestName) -> Answered:
        """The answers to all requests that read, joined: each further one beside the first one's, or under its own name."""
        entries = self.file.all_requests(request)
        found = [self._ask(request, entry=entry) for entry in entries]
        if len(found) == 1:
            return found[0]
        whole: dict[str, object] = {}
        for entry, one in zip(entries, found, strict=True):
            data = one.get("")
            if entry.into:
                whole[entry.into] = data
            elif isinstance(data, Mapping):
                whole |= data
        return JsonAnswer(whole)

    def health(self) -> Health:
        """How it fares, as far as its file says where that stands."""
        return self._health(self._read_all("state"))

    def answers(self) -> bool:
        """Whether the state can be read."""
        try:
            self._read_all("state")
        except DeviceError:
            return False
        return True

    # Writing

    def write(self, channel: Channel, values: Values) -> None:
        """Sets parameters of a channel.

        Where the frame rate changes, settings counted in frames are written too, so that their seconds stay.
        """
        need(self, Capability.WRITE)
        rate = values.get("video.frame_rate", channel.values.get("video.frame_rate", 0))
        frame_rate = rate if not isinstance(rate, str) else 0.0
        if "video.frame_rate" in values:
            counted = (name for name, entry in self.file.settings.items() if entry.unit == "frames")
            values = {**{name: channel.values[name] for name in counted if name in channel.values}, **values}
        for request, some in self._by_request(values):
            self._write_some(request, channel, some, frame_rate)
        if set(values) & set(self.file.restart_after):
            self._restart_due = True

    def portions(self, values: Values) -> list[Values]:
        """What each request takes, in their order."""
        return [some for _, some in self._by_request(values)]

    def _by_request(self, values: Values) -> list[tuple[RequestEntry, Values]]:
        """The requests that write, in their order, each with the settings that it takes."""
        out: list[tuple[RequestEntry, Values]] = []
        left = dict(values)
        for entry in self.file.all_requests("write"):
            taken = {name: value for name, value in left.items() if not entry.of or any(fnmatchcase(name, p) for p in entry.of)}
            left = {name: value for name, value in left.items() if name not in taken}
            if taken:
                out.append((entry, taken))
        if left:
            raise ChangeRefused(self.name, dict.fromkeys(left, "its driver has no request that takes it"))
        return out

    def _write_some(self, request: RequestEntry, channel: Channel, values: Values, frame_rate: float) -> None:
        """One request."""
        fields: dict[str, object] = self._mode_fields({**channel.values, **values}, set(values))
        for parameter, value in values.items():
            entry = self.file.settings.get(parameter)
            if entry is None:
                if not any(parameter in more for mode in self.file.modes for more in mode.words.values()):
                    raise ChangeRefused(self.name, {parameter: "its driver has no field for it"})
                continue
            try:
                raw = words.theirs(entry, value, frame_rate)
            except words.WordsError as error:
                raise ChangeRefused(self.name, {parameter: str(error)}) from None
            parts = str(raw).split(entry.join) if len(entry.targets) > 1 else [raw]
            for target, part in zip(entry.targets, parts, strict=False):
                number = words.number_of(part)
                fields[self._target_field(channel.name, target)] = (
                    number if len(parts) > 1 and number is not None else part
                )
        self._ask("write", fields, request, channel=self._word(channel.name))

    def _target_field(self, channel: str, target: str) -> str:
        """The name of a field in what is sent: lines and forms have no other place for the channel than in front of it."""
        place = self.file.channel(channel).at
        flat = self.file.coding_of("write") in ("form", "query") and self.file.answers == "lines"
        return f"{place}{target}" if flat else target

    def _mode_fields(self, whole: Values, changed: set[str]) -> dict[str, object]:
        """The words of fields that stand for several parameters. Raises Refused where none has all values."""
        out: dict[str, object] = {}
        for mode in self.file.modes:
            names = {name for more in mode.words.values() for name in more}
            if not names & changed:
                continue
            word = next((w for w, more in mode.words.items() if all(
                n in whole and parameters.same(n, whole[n], parameters.clean(n, v)) for n, v in more.items()
            )), None)  # fmt: skip
            if word is None:
                wanted = ", ".join(parameters.show(n, whole.get(n)) for n in sorted(names))
                raise ChangeRefused(self.name, {mode.at: f"there is no mode with {wanted}"})
            out[mode.send or mode.at] = word
        return out

    def write_slot(self, slot: int, channel: str, server: str, key: Secret) -> None:
        """Puts a server address and a key into a push slot, and says which channel it pushes."""
        need(self, Capability.SLOTS)
        entries = self.file.slots
        assert entries is not None
        self._written.add(key)
        names = form_names(entries)
        if server:
            fields = forms.join(forms.Endpoint(address.parse(server), key.reveal()), entries.form)
        else:
            fields = dict.fromkeys(forms.LABELS[entries.form], "")
        request = self.file.request("write_slot")
        if request is not None and request.fields:
            self._ask("write_slot", {**fields, "channel": self._word(channel)}, slot=slot)
            return
        body: dict[str, object] = {entries.channel: self._word(channel)} if entries.channel else {}
        for name, value in fields.items():
            body[names[name]] = int(value) if name == "port" and value else value
        self._ask("write_slot", body, slot=slot)

    def push(self, slot: int, *, on: bool) -> None:
        """Starts or stops a slot's push."""
        need(self, Capability.PUSH)
        self._ask("push_on" if on else "push_off", slot=slot)

    def restart(self) -> None:
        """Tells the device to restart."""
        need(self, Capability.RESTART)
        self._ask("restart")
        self._restart_due = False

    # Pictures and firmware

    def snapshot(self, channel: str) -> bytes:
        """A JPEG. Raises DeviceError."""
        need(self, Capability.SNAPSHOT)
        entry = self.file.request("snapshot")
        assert entry is not None
        method, _, path = entry.send.partition(" ")
        place = path.format(channel=quote(str(self._word(channel)), safe=""), slot="")
        if self._session is not None:
            answer = self._session.send(method, place, b"", {})
        else:
            answer = self.http.admitted(method, place, most=_LARGEST_PICTURE)
        if answer.status >= 300 or not answer.content.startswith(b"\xff\xd8"):
            what = f"HTTP status {answer.status}" if answer.status >= 300 else answer.kind
            raise BadAnswer(self.name, f"gives no JPEG as its picture: {what}")
        return answer.content

    def update(self, file: Path, sent: Callable[[int], None]) -> None:
        """Sends a firmware file. Raises Refused and OSError."""
        need(self, Capability.FIRMWARE)
        entry = self.file.request("firmware")
        assert entry is not None
        method, _, path = entry.send.partition(" ")
        before, after, kind = b"", b"", "application/octet-stream"
        if entry.file_field:  # RFC 7578
            boundary = f"direkt-{secrets.token_hex(12)}"
            name = re.sub(r"[^\w.-]", "_", file.name, flags=re.ASCII)
            head = f'--{boundary}\r\nContent-Disposition: form-data; name="{entry.file_field}"; filename="{name}"\r\nContent-Type: {kind}\r\n\r\n'
            before, after, kind = (
                head.encode(),
                f"\r\n--{boundary}--\r\n".encode(),
                f"multipart/form-data; boundary={boundary}",
            )

        def parts() -> Iterator[bytes]:
            yield from filter(None, (before,))
            with files.opened(file) as source:
                while part := source.read(_PIECE):
                    yield part
            yield from filter(None, (after,))

        upload = Upload(parts, len(before) + file.stat().st_size + len(after), sent)
        self._ask("state")  # so that the login is known before the file goes
        answer = self.http.admitted(method, path.format(channel="", slot=""), upload, {"Content-Type": kind})
        if answer.status >= 300:
            refusal = self._mapped.refusal(answer, "the firmware")
            if isinstance(refusal, ChangeRefused):
                raise refusal
            said = " ".join(re.sub(r"<[^>]*>", " ", answer.text[:2000]).split())[:200]
            raise ChangeRefused(self.name, {"firmware": said or f"HTTP status {answer.status}"})
