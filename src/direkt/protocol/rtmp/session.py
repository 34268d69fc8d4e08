"""What both ends of an RTMP connection share: handshake, messages, acknowledgements, pings."""

from __future__ import annotations

from dataclasses import dataclass

from direkt.protocol import amf
from direkt.protocol.rtmp import chunks
from direkt.protocol.rtmp.chunks import ChunkReader, ChunkWriter, Message
from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.handshake import Handshake

# 7.1.7: user control events
STREAM_BEGIN, STREAM_EOF, PING, PONG = 0, 1, 6, 7

WINDOW = 2_500_000  # bytes between acknowledgements
CONTROL_STREAM, COMMAND_STREAM, AUDIO_STREAM, VIDEO_STREAM = 2, 3, 4, 6  # chunk streams
_MOST_PINGS = 1000  # unanswered at once: nobody needs more


@dataclass(frozen=True, slots=True)
class Media:
    """An audio (8), video (9) or data (18) message; the body is that of an FLV tag."""

    kind: int
    timestamp: int  # ms
    body: bytes


class Session:
    """Takes bytes by receive(), has bytes to send in data_to_send()."""

    def __init__(self, *, client: bool, random: bytes) -> None:
        self._handshake = Handshake(client=client, random=random)
        self._reader = ChunkReader()
        self._writer = ChunkWriter()
        self._out: list[bytes] = []
        self._window = 0  # the peer's: bytes after which it wants an acknowledgement
        self._unacknowledged = 0
        self._pings = 0  # whose answers have not gone out
        self.received = 0  # bytes
        self.acknowledged = 0  # bytes of ours that the peer says it has
        self.ready = False

    # Out

    def data_to_send(self) -> bytes:
        """What is to go out now."""
        data = b"".join(self._out)
        self._out.clear()
        self._pings = 0
        return data

    def _send(self, number: int, type_: int, payload: bytes, stream: int = 0, timestamp: int = 0) -> None:
        self._out.append(self._writer.write(number, Message(type_, stream, timestamp, payload)))

    def _command(self, *values: amf.Amf, stream: int = 0) -> None:
        self._send(COMMAND_STREAM, chunks.COMMAND, amf.encode(values), stream)

    def set_chunk_size(self, size: int) -> None:
        """Sends 5.4.1 and cuts what follows accordingly."""
        self._send(CONTROL_STREAM, chunks.SET_CHUNK_SIZE, size.to_bytes(4, "big"))
        self._writer.chunk_size = size

    # In

    def _take(self, data: bytes) -> list[Message]:
        """Bytes to messages, with the protocol's own ones answered. Raises RtmpError."""
        self.received += len(data)
        if not self._handshake.done:
            self._out.append(self._handshake.receive(data))
            if not self._handshake.done:
                return []
            data = self._handshake.rest()
            self.ready = True
            self._begin()
        self._reader.feed(data)
        kept: list[Message] = []
        for message in self._reader.messages():
            if message.type > 6:
                kept.append(message)
            else:
                self._control(message)
        self._unacknowledged += len(data)
        if self._window and self._unacknowledged >= self._window:
            self._unacknowledged = 0
            self._send(CONTROL_STREAM, chunks.ACKNOWLEDGEMENT, (self.received & 0xFFFFFFFF).to_bytes(4, "big"))
        return kept

    def _begin(self) -> None:
        """Called once when the handshake is done."""

    def _control(self, message: Message) -> None:
        """5.4 and 7.1.7."""
        payload = message.payload
        number = int.from_bytes(payload[:4], "big")
        if message.type == chunks.WINDOW_SIZE and len(payload) >= 4:
            self._window = number
        elif message.type == chunks.ACKNOWLEDGEMENT and len(payload) >= 4:
            self.acknowledged = number
        elif message.type == chunks.PEER_BANDWIDTH and len(payload) >= 4:
            self._send(CONTROL_STREAM, chunks.WINDOW_SIZE, number.to_bytes(4, "big"))
        elif message.type == chunks.USER_CONTROL and payload[:2] == PING.to_bytes(2, "big"):
            self._pings += 1
            if self._pings > _MOST_PINGS:
                raise RtmpError("more pings at once than anybody needs")
            self._send(CONTROL_STREAM, chunks.USER_CONTROL, PONG.to_bytes(2, "big") + payload[2:6])

    @staticmethod
    def _decode(message: Message) -> list[amf.Amf]:
        try:
            return (
                amf.decode3(message.payload)
                if message.type in (chunks.COMMAND3, chunks.DATA3)
                else amf.decode(message.payload)
            )
        except amf.AmfError as error:
            raise RtmpError(f"a command that cannot be read: {error}") from None
