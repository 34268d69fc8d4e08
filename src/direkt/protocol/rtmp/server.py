"""The server's end of RTMP: answers a publisher or a player (section 7.2), without sockets.

The owner decides: after ConnectRequest, PublishRequest and PlayRequest, next_event() tells nothing more until accept_* or reject_*.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from direkt.protocol import amf
from direkt.protocol.errors import LocalError
from direkt.protocol.rtmp import chunks
from direkt.protocol.rtmp.chunks import RtmpMessage, split_aggregate
from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.session import (
    AUDIO_STREAM,
    CONTROL_STREAM,
    STREAM_BEGIN,
    VIDEO_STREAM,
    WINDOW,
    Advance,
    RtmpSession,
    SessionState,
    TagMessage,
)

_STREAM = 1  # the one message stream that is handed out
_CHUNK_SIZE = 4096


@dataclass(frozen=True, slots=True)
class ConnectRequest:
    """A client asks for an application (RTMP 1.0, 7.2.1.1)."""

    app: str
    url: str  # tcUrl, as the client gave it


@dataclass(frozen=True, slots=True)
class PublishRequest:
    """A client wants to publish (RTMP 1.0, 7.2.2.6). The name is the stream key: never show it."""

    name: str = field(repr=False)
    kind: str  # live, record or append


@dataclass(frozen=True, slots=True)
class PlayRequest:
    """A client wants to play (RTMP 1.0, 7.2.2.1). The name may be a key: never show it."""

    name: str = field(repr=False)


@dataclass(frozen=True, slots=True)
class Unpublished:
    """The publisher, or player, said that it stops."""


ServerEvent = ConnectRequest | PublishRequest | PlayRequest | Unpublished | TagMessage

_ON = (SessionState.CONNECTED, SessionState.PUBLISHING, SessionState.PLAYING)
# The states in which a command means something; commands that are not here are answered in any state but OPEN.
_ALLOWED: Mapping[str, tuple[SessionState, ...]] = {
    "connect": (SessionState.OPEN,), "createStream": _ON, "publish": _ON, "play": _ON, "FCUnpublish": _ON, "deleteStream": _ON,
    "closeStream": _ON, "FCPublish": _ON,
}  # fmt: skip

_ANSWERS = ("_result", "_error", "onStatus")


class RtmpServerSession(RtmpSession[ServerEvent]):
    """One publisher's connection."""

    _waits_for_owner = True

    def __init__(self, random: bytes) -> None:
        super().__init__(client=False, random=random)
        self._encoding = 0.0
        self._connect_id = 0.0
        self._publish_stream = _STREAM
        self._reader.early = True

    def _on_message(self, message: RtmpMessage) -> None:
        if message.type in (chunks.COMMAND, chunks.COMMAND3):
            self._on_command(self._decode(message), message.stream)
        elif self.state is SessionState.PUBLISHING:
            self._media(message)

    def _media(self, message: RtmpMessage) -> None:
        if message.type == chunks.AGGREGATE:
            for inner in split_aggregate(message):
                self._media(inner)
        elif message.type == chunks.DATA3:
            self._events.append(TagMessage(chunks.DATA, message.timestamp, message.payload[1:]))
        elif message.type in (chunks.AUDIO, chunks.VIDEO, chunks.DATA):
            self._events.append(TagMessage(message.type, message.timestamp, message.payload))

    def _on_command(self, values: list[amf.Amf], stream: int) -> None:
        if not values or not isinstance(values[0], str):
            raise RtmpError("a command without a name")
        name = values[0]
        transaction = values[1] if len(values) > 1 and isinstance(values[1], float) else 0.0
        arguments = values[3:]
        if name in _ANSWERS:  # whoever answers an answer never ends
            return
        if self.state not in _ALLOWED.get(name, _ON):
            order = "before connect" if self.state is SessionState.OPEN else "out of order"
            raise RtmpError(f"the command {name[:40]!r} {order}")
        if name == "connect":
            self._on_connect(values, transaction)
        elif name == "createStream":
            self._command("_result", transaction, None, float(_STREAM))
        elif name == "publish":
            self._on_publish(arguments, stream)
        elif name in ("FCUnpublish", "deleteStream", "closeStream"):
            self._stop(name)
        elif name == "play":
            self._on_play(arguments, stream)
        elif name == "FCPublish":
            self._command("onFCPublish", 0.0, None, {"code": "NetStream.Publish.Start", "description": ""})
            if transaction:
                self._command("_result", transaction, None, None)
        elif transaction:  # releaseStream and whatever else wants an answer
            self._command("_result", transaction, None, None)

    def _on_connect(self, values: list[amf.Amf], transaction: float) -> None:
        facts = values[2] if len(values) > 2 and isinstance(values[2], dict) else {}
        app, url, encoding = facts.get("app"), facts.get("tcUrl"), facts.get("objectEncoding")
        self._encoding = encoding if isinstance(encoding, float) else 0.0
        self._connect_id = transaction
        self._step(Advance.CONNECT)
        self._events.append(ConnectRequest(app if isinstance(app, str) else "", url if isinstance(url, str) else ""))

    def _on_publish(self, arguments: list[amf.Amf], stream: int) -> None:
        if self.state is SessionState.PUBLISHING:
            self._status("error", "NetStream.Publish.BadName", "This connection publishes already.", stream)
            return
        key = arguments[0] if arguments and isinstance(arguments[0], str) else ""
        kind = arguments[1] if len(arguments) > 1 and isinstance(arguments[1], str) else "live"
        self._publish_stream = stream or _STREAM
        self._step(Advance.PUBLISH)
        self._events.append(PublishRequest(key, kind))

    def _on_play(self, arguments: list[amf.Amf], stream: int) -> None:
        if self.state is not SessionState.CONNECTED:
            self._status("error", "NetStream.Play.Failed", "This connection is in use already.", stream)
            return
        self._publish_stream = stream or _STREAM
        self._step(Advance.PLAY)
        self._events.append(PlayRequest(arguments[0] if arguments and isinstance(arguments[0], str) else ""))

    def _stop(self, name: str) -> None:
        if name == "FCUnpublish":
            self._command("onFCUnpublish", 0.0, None, {"code": "NetStream.Unpublish.Success", "description": ""})
        if self.state is SessionState.PLAYING:
            self._step(Advance.STOP)
            self._events.append(Unpublished())
        elif self.state is SessionState.PUBLISHING:
            self._step(Advance.STOP)
            self._status("status", "NetStream.Unpublish.Success", "The stream has stopped.", self._publish_stream)
            self._events.append(Unpublished())

    def _status(self, level: str, code: str, text: str, stream: int) -> None:
        self._command("onStatus", 0.0, None, {"level": level, "code": code, "description": text}, stream=stream)

    # Decisions

    def accept_connect(self) -> None:
        """Answers connect with success (RTMP 1.0, 7.2.1.1). Raises LocalError when nobody asked."""
        self._step(Advance.CONNECT_ACCEPTED)
        self._send(CONTROL_STREAM, chunks.WINDOW_SIZE, WINDOW.to_bytes(4, "big"))
        self._send(CONTROL_STREAM, chunks.PEER_BANDWIDTH, WINDOW.to_bytes(4, "big") + b"\x02")
        self.set_chunk_size(_CHUNK_SIZE)
        self._window = self._window or WINDOW
        self._command(
            "_result", self._connect_id, {"fmsVer": "Direkt/1,0"},
            {"level": "status", "code": "NetConnection.Connect.Success", "description": "Connected.",
             "objectEncoding": self._encoding},
        )  # fmt: skip

    def reject_connect(self, text: str, code: str = "NetConnection.Connect.Rejected") -> None:
        """Answers connect with an error."""
        self._step(Advance.REFUSED)
        self._command("_error", self._connect_id, None, {"level": "error", "code": code, "description": text})

    def accept_publish(self) -> None:
        """Lets the publisher begin (RTMP 1.0, 7.2.2.6). Raises LocalError when nobody asked."""
        self._step(Advance.PUBLISH_ACCEPTED)
        self._reader.early = False
        begin = STREAM_BEGIN.to_bytes(2, "big") + self._publish_stream.to_bytes(4, "big")
        self._send(CONTROL_STREAM, chunks.USER_CONTROL, begin)
        self._status("status", "NetStream.Publish.Start", "Go ahead.", self._publish_stream)

    def reject_publish(self, text: str) -> None:
        """Refuses the stream name: a wrong key, or a second publisher."""
        self._step(Advance.REFUSED)
        self._status("error", "NetStream.Publish.BadName", text, self._publish_stream)

    def accept_play(self) -> None:
        """Lets the stream begin: then send_media() (RTMP 1.0, 7.2.2.1). Raises LocalError when nobody asked."""
        self._step(Advance.PLAY_ACCEPTED)
        begin = STREAM_BEGIN.to_bytes(2, "big") + self._publish_stream.to_bytes(4, "big")
        self._send(CONTROL_STREAM, chunks.USER_CONTROL, begin)
        self._status("status", "NetStream.Play.Reset", "Begins.", self._publish_stream)
        self._status("status", "NetStream.Play.Start", "Begins.", self._publish_stream)

    def reject_play(self, text: str, code: str = "NetStream.Play.StreamNotFound") -> None:
        """Has no such stream."""
        self._step(Advance.REFUSED)
        self._status("error", code, text, self._publish_stream)

    def send_media(self, kind: int, timestamp: int, body: bytes) -> None:
        """An audio, video or data message to who plays; ``timestamp`` in ms. Raises LocalError where nobody does."""
        if self.state is not SessionState.PLAYING:
            raise LocalError(f"RTMP: nothing can be sent in the state {self.state.value!r}")
        self._send(VIDEO_STREAM if kind == chunks.VIDEO else AUDIO_STREAM, kind, body, self._publish_stream, timestamp)
