"""What both ends of an RTMP connection share: handshake, messages, acknowledgements, pings, and the walk from state to state.

Bytes go in by receive_data(), events come out of next_event() one by one, and what is to be sent stands in
data_to_send(). Messages that were whole before the peer broke a rule are told before the error is raised; after it, the
session stays in the state ERROR and raises the same error again.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Generic, TypeVar

from direkt.protocol import amf
from direkt.protocol.errors import LocalError
from direkt.protocol.rtmp import chunks
from direkt.protocol.rtmp.chunks import ChunkReader, ChunkWriter, RtmpMessage
from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.handshake import Handshake

# RTMP 1.0, 7.1.7: user control events
STREAM_BEGIN, PING, PONG = 0, 6, 7

WINDOW = 1 << 20  # bytes between acknowledgements, as we ask for them
CONTROL_STREAM, COMMAND_STREAM, AUDIO_STREAM, VIDEO_STREAM = 2, 3, 4, 6  # chunk streams
_MOST_PINGS = 1000  # unanswered at once: nobody needs more


class SessionState(StrEnum):
    """Where a session stands."""

    HANDSHAKE = "handshake"
    OPEN = "open"  # the handshake is done
    CONNECT_ASKED = "connect asked"
    CONNECTED = "connected"
    PUBLISH_ASKED = "publish asked"
    PUBLISHING = "publishing"
    PLAY_ASKED = "play asked"
    PLAYING = "playing"
    CLOSED = "closed"  # it was refused, or it is over
    ERROR = "error"  # the peer broke the protocol


class Advance(StrEnum):
    """What moves a session on."""

    SHAKEN = "the handshake is done"
    CONNECT = "connect is asked for"
    CONNECT_ACCEPTED = "connect is accepted"
    PUBLISH = "publish is asked for"
    PUBLISH_ACCEPTED = "publish is accepted"
    PLAY = "play is asked for"
    PLAY_ACCEPTED = "play is accepted"
    STOP = "the stream stops"
    REFUSED = "a request is refused"
    FAILED = "the peer breaks the protocol"


_ANY = (
    SessionState.HANDSHAKE, SessionState.OPEN, SessionState.CONNECT_ASKED, SessionState.CONNECTED, SessionState.PUBLISH_ASKED, SessionState.PUBLISHING,
    SessionState.PLAY_ASKED, SessionState.PLAYING, SessionState.CLOSED,
)  # fmt: skip
# All that can happen; what is not here is somebody's error.
TRANSITIONS: Mapping[tuple[SessionState, Advance], SessionState] = {
    (SessionState.HANDSHAKE, Advance.SHAKEN): SessionState.OPEN,
    (SessionState.OPEN, Advance.CONNECT): SessionState.CONNECT_ASKED,
    (SessionState.CONNECT_ASKED, Advance.CONNECT_ACCEPTED): SessionState.CONNECTED,
    (SessionState.CONNECT_ASKED, Advance.REFUSED): SessionState.CLOSED,
    (SessionState.CONNECTED, Advance.PUBLISH): SessionState.PUBLISH_ASKED,
    (SessionState.PUBLISH_ASKED, Advance.PUBLISH_ACCEPTED): SessionState.PUBLISHING,
    (SessionState.PUBLISH_ASKED, Advance.REFUSED): SessionState.CONNECTED,
    (SessionState.PUBLISHING, Advance.STOP): SessionState.CONNECTED,
    (SessionState.CONNECTED, Advance.PLAY): SessionState.PLAY_ASKED,
    (SessionState.PLAY_ASKED, Advance.PLAY_ACCEPTED): SessionState.PLAYING,
    (SessionState.PLAY_ASKED, Advance.REFUSED): SessionState.CONNECTED,
    (SessionState.PLAYING, Advance.STOP): SessionState.CONNECTED,
    (SessionState.PUBLISHING, Advance.REFUSED): SessionState.CLOSED,
    **{(state, Advance.FAILED): SessionState.ERROR for state in _ANY},
}


@dataclass(frozen=True, slots=True)
class TagMessage:
    """An audio (8), video (9) or data (18) message; its body is that of an FLV tag."""

    kind: int
    timestamp: int  # ms, modulo 2^32
    body: bytes


Event = TypeVar("Event")


class RtmpSession(Generic[Event]):
    """One end of a connection."""

    def __init__(self, *, client: bool, random: bytes) -> None:
        self._handshake = Handshake(client=client, random=random)
        self._reader = ChunkReader()
        self._writer = ChunkWriter()
        self._in: list[bytes] = []
        self._out: list[bytes] = []
        self._events: deque[Event] = deque()
        self._error: RtmpError | None = None
        self._window = 0  # the peer's: bytes after which it wants an acknowledgement
        self._unacknowledged = 0
        self._pings = 0  # whose answers have not gone out
        self.state = SessionState.HANDSHAKE
        self.received = 0  # bytes

    # Out

    def data_to_send(self) -> bytes:
        """What is to go out now."""
        data = b"".join(self._out)
        self._out.clear()
        self._pings = 0
        return data

    def _send(self, number: int, type_: int, payload: bytes, stream: int = 0, timestamp: int = 0) -> None:
        self._out.append(self._writer.write(number, RtmpMessage(type_, stream, timestamp, payload)))

    def _command(self, *values: amf.Amf, stream: int = 0) -> None:
        self._send(COMMAND_STREAM, chunks.COMMAND, amf.encode(values), stream)

    def set_chunk_size(self, size: int) -> None:
        """Sends 5.4.1 and cuts what follows accordingly."""
        self._send(CONTROL_STREAM, chunks.SET_CHUNK_SIZE, size.to_bytes(4, "big"))
        self._writer.chunk_size = size

    # In

    def receive_data(self, data: bytes) -> None:
        """Bytes from the peer. What they mean comes out of next_event()."""
        self.received += len(data)
        self._in.append(data)

    def next_event(self) -> Event | None:
        """What happened next; None when bytes, or a decision of the owner, are lacking.

        Raises RtmpError once all that was whole before is told.
        """
        while not self._events:
            if self._error is not None:
                raise self._error
            if self.state in (SessionState.CONNECT_ASKED, SessionState.PUBLISH_ASKED, SessionState.PLAY_ASKED) and self._waits_for_owner:
                return None
            try:
                message = self._next_message()
                if message is None:
                    return None
                self._on_message(message)
            except RtmpError as error:
                self._error = error
                self.state = TRANSITIONS[self.state, Advance.FAILED]
        return self._events.popleft()

    _waits_for_owner = False  # whether requests of the peer wait for the owner's decision

    def _next_message(self) -> RtmpMessage | None:
        """The next message that is not the protocol's own; those are answered here."""
        if self.state is SessionState.HANDSHAKE and not self._shake():
            return None
        if self._in:
            data = b"".join(self._in)
            self._in.clear()
            self._reader.feed(data)
            self._acknowledge(len(data))
        while (message := self._reader.next_message()) is not None:
            if message.type > 6:
                return message
            self._control(message)
        return None

    def _shake(self) -> bool:
        data = b"".join(self._in)
        self._in.clear()
        self._out.append(self._handshake.receive(data))
        if not self._handshake.done:
            return False
        self._step(Advance.SHAKEN)
        self._in.append(self._handshake.rest())
        self._on_open()
        return True

    def _on_open(self) -> None:
        """Called once when the handshake is done."""

    def _on_message(self, message: RtmpMessage) -> None:
        """A message of the peer. Raises RtmpError."""
        raise NotImplementedError

    def _step(self, step: Advance) -> None:
        """Moves on. Raises LocalError where the table has no such step."""
        following = TRANSITIONS.get((self.state, step))
        if following is None:
            raise LocalError(f"RTMP: {step.value} in the state {self.state.value!r}")
        self.state = following

    def _acknowledge(self, size: int) -> None:
        self._unacknowledged += size
        if self._window and self._unacknowledged >= self._window:
            self._unacknowledged = 0
            self._send(CONTROL_STREAM, chunks.ACKNOWLEDGEMENT, (self.received & 0xFFFFFFFF).to_bytes(4, "big"))

    def _control(self, message: RtmpMessage) -> None:
        """5.4 and 7.1.7."""
        payload = message.payload
        number = int.from_bytes(payload[:4], "big")
        if message.type == chunks.WINDOW_SIZE and len(payload) >= 4:
            self._window = number
            self._acknowledge(0)  # what came with it may be more than that already
        elif message.type == chunks.PEER_BANDWIDTH and len(payload) >= 4:
            self._send(CONTROL_STREAM, chunks.WINDOW_SIZE, number.to_bytes(4, "big"))
        elif message.type == chunks.USER_CONTROL and payload[:2] == PING.to_bytes(2, "big"):
            self._pings += 1
            if self._pings > _MOST_PINGS:
                raise RtmpError("more pings at once than anybody needs")
            self._send(CONTROL_STREAM, chunks.USER_CONTROL, PONG.to_bytes(2, "big") + payload[2:6])

    @staticmethod
    def _decode(message: RtmpMessage) -> list[amf.Amf]:
        try:
            if message.type in (chunks.COMMAND3, chunks.DATA3):
                return amf.decode3(message.payload)
            return amf.decode(message.payload)
        except amf.AmfError as error:
            raise RtmpError(f"a command that cannot be read: {error}") from None
