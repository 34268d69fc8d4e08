"""The publishing end of RTMP (section 7.2), without sockets: connect, releaseStream, FCPublish, createStream, publish."""

from __future__ import annotations

from dataclasses import dataclass, field

from direkt.protocol import amf
from direkt.protocol.rtmp import chunks
from direkt.protocol.rtmp.session import AUDIO_STREAM, VIDEO_STREAM, Session


@dataclass(frozen=True, slots=True)
class Target:
    """Where to publish."""

    url: str  # tcUrl: scheme://host[:port]/application
    app: str
    key: str = field(repr=False)


@dataclass(frozen=True, slots=True)
class Connected:
    """The server takes the application; only told when probing."""


@dataclass(frozen=True, slots=True)
class PublishStarted:
    """The server takes the stream: send_media() may be called."""


@dataclass(frozen=True, slots=True)
class Refused:
    """The server says no."""

    code: str
    text: str


ClientEvent = Connected | PublishStarted | Refused

_CONNECT, _RELEASE, _FC_PUBLISH, _CREATE, _PUBLISH, _FC_UNPUBLISH, _DELETE = map(float, range(1, 8))  # transactions


class ClientSession(Session):
    """One push. Call start(), send data_to_send(), feed receive()."""

    def __init__(self, target: Target, random: bytes, *, chunk_size: int = 4096, probe: bool = False) -> None:
        """``probe``: go no further than connect."""
        super().__init__(client=True, random=random)
        self._target = target
        self._chunk_size = chunk_size
        self._probe = probe
        self._stream = 0
        self.publishing = False

    def start(self) -> None:
        """Begins the handshake."""
        self._out.append(self._handshake.start())

    def _begin(self) -> None:
        self.set_chunk_size(self._chunk_size)
        facts = {
            "app": self._target.app, "type": "nonprivate", "flashVer": "Direkt/1.0", "tcUrl": self._target.url,
            "objectEncoding": 0.0,
        }  # fmt: skip
        self._command("connect", _CONNECT, facts)

    def receive(self, data: bytes) -> list[ClientEvent]:
        """Bytes from the server. Raises RtmpError."""
        events: list[ClientEvent] = []
        for message in self._take(data):
            if message.type in (chunks.COMMAND, chunks.COMMAND3):
                self._on_command(self._decode(message), events)
        return events

    def _on_command(self, values: list[amf.Amf], events: list[ClientEvent]) -> None:
        name = values[0] if values else None
        transaction = values[1] if len(values) > 1 else None
        if name == "_result" and transaction == _CONNECT and self._probe:
            events.append(Connected())
        elif name == "_result" and transaction == _CONNECT:
            self._command("releaseStream", _RELEASE, None, self._target.key)
            self._command("FCPublish", _FC_PUBLISH, None, self._target.key)
            self._command("createStream", _CREATE, None)
        elif name == "_result" and transaction == _CREATE:
            number = values[3] if len(values) > 3 else None
            self._stream = int(number) if isinstance(number, float) and 0 < number < 1 << 32 else 1
            self._command("publish", _PUBLISH, None, self._target.key, "live", stream=self._stream)
        elif name == "_error" and transaction in (_CONNECT, _CREATE, _PUBLISH):
            events.append(self._refusal(values))
        elif name == "onStatus":
            facts = next((v for v in values[2:] if isinstance(v, dict)), {})
            if facts.get("code") == "NetStream.Publish.Start":
                self.publishing = True
                events.append(PublishStarted())
            elif facts.get("level") == "error":
                self.publishing = False
                events.append(self._refusal(values))

    def _refusal(self, values: list[amf.Amf]) -> Refused:
        facts = next((v for v in values[2:] if isinstance(v, dict)), {})
        code, text = facts.get("code"), facts.get("description")
        return Refused(code if isinstance(code, str) else "", self._masked(text if isinstance(text, str) else ""))

    def _masked(self, text: str) -> str:
        """Servers like to repeat the stream name; it is the key."""
        return text.replace(self._target.key, "(key)") if self._target.key else text

    def send_media(self, kind: int, timestamp: int, body: bytes) -> None:
        """An audio, video or data message; ``timestamp`` in ms."""
        number = VIDEO_STREAM if kind == chunks.VIDEO else AUDIO_STREAM
        self._send(number, kind, body, self._stream, timestamp)

    def send_metadata(self, facts: dict[str, amf.Amf]) -> None:
        """onMetaData, which the server is asked to keep (@setDataFrame)."""
        body = amf.encode(["@setDataFrame", "onMetaData", amf.EcmaArray(facts)])
        self._send(AUDIO_STREAM, chunks.DATA, body, self._stream)

    def finish(self) -> None:
        """Says that the stream is over."""
        if self.publishing:
            self._command("FCUnpublish", _FC_UNPUBLISH, None, self._target.key)
            self._command("deleteStream", _DELETE, None, float(self._stream))
            self.publishing = False
