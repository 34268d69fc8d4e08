"""RTMP's chunk stream (section 5.3): messages cut into chunks, and put together again.

Reading: bytes go into one buffer, and messages come out. A chunk costs a few dictionary look-ups; a run of equal
continuation chunks, which is what a picture over 128-byte chunks is, is recognised by comparing every 129th byte
at once and joined by slicing, so the cost is O(bytes) with a small constant. Memory is bounded: a message's
length is checked when it is announced, buffers grow only with bytes that came, and the sum of unfinished
messages is limited.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np

from direkt.protocol.rtmp.errors import RtmpError

# RTMP 1.0, 5.4 and 7.1: message types
SET_CHUNK_SIZE, ABORT, ACKNOWLEDGEMENT, USER_CONTROL, WINDOW_SIZE, PEER_BANDWIDTH = 1, 2, 3, 4, 5, 6
AUDIO, VIDEO, DATA3, SHARED3, COMMAND3, DATA, SHARED, COMMAND, AGGREGATE = 8, 9, 15, 16, 17, 18, 19, 20, 22

DEFAULT_CHUNK_SIZE = 128
_EXTENDED = 0xFFFFFF
_LARGEST_MEDIA = 8 << 20  # bytes: a keyframe at 100 Mbit/s has far less
_LARGEST_OTHER = 64 << 10
_LARGEST_HELD = 16 << 20  # unfinished messages together
_LARGEST_EARLY = 128 << 10  # the same, from a peer that has not shown that it may publish
_MOST_STREAMS = 64


@dataclass(frozen=True, slots=True)
class RtmpMessage:
    """A whole RTMP message."""

    type: int
    stream: int
    timestamp: int  # ms, modulo 2^32
    payload: bytes


@dataclass(slots=True)
class _Incoming:
    """What is known of one chunk stream."""

    timestamp: int = 0
    delta: int = 0
    length: int = 0
    type: int = 0
    stream: int = 0
    extended: bytes = b""  # the extended time stamp, as it stood in the header
    begun: bool = False  # has had a header of type 0 or another full one
    held: bytearray | None = None

    def begin(self, kind: int, field: int, length: int, type_: int, stream: int, extended: bytes) -> None:
        """A message begins with a header of this kind (RTMP 1.0, 5.3.1.2): its time is told whole, as a step, or as the step before."""
        if kind == 0:
            self.timestamp, self.delta = field, field
        else:
            self.delta = field if kind < 3 else self.delta
            self.timestamp = (self.timestamp + self.delta) & 0xFFFFFFFF
        self.length, self.type, self.stream = length, type_, stream
        if kind < 3:
            self.extended = extended
        self.begun = True


class ChunkReader:
    """Takes bytes, gives messages. Handles chunk size changes and aborts itself.

    ``early``: the peer may be anybody, so that media is not taken yet and little is held.
    """

    def __init__(self) -> None:
        self._buffer = bytearray()
        self._at = 0
        self._streams: dict[int, _Incoming] = {}
        self._held = 0
        self.early = False
        self.chunk_size = DEFAULT_CHUNK_SIZE

    def feed(self, data: bytes | memoryview) -> None:
        """More bytes from the peer."""
        if self._at:
            del self._buffer[: self._at]
            self._at = 0
        self._buffer += data

    def next_message(self) -> RtmpMessage | None:
        """The next message that is whole by now; None when bytes are lacking. Raises RtmpError."""
        while (message := self._chunk()) is None:
            pass
        if message is False:
            return None
        if message.type == SET_CHUNK_SIZE:
            self._resize(message.payload)
        elif message.type == ABORT and len(message.payload) >= 4:
            self._abort(int.from_bytes(message.payload[:4], "big"))
        return message

    def _resize(self, payload: bytes) -> None:
        if len(payload) < 4:
            raise RtmpError("a chunk size message of fewer than 4 bytes")
        size = int.from_bytes(payload[:4], "big") & 0x7FFFFFFF
        if size < 1:
            raise RtmpError("a chunk size of 0")
        self.chunk_size = min(size, 0xFFFFFF)  # no message is longer (RTMP 1.0, 5.4.1)

    def _abort(self, stream: int) -> None:
        incoming = self._streams.get(stream)
        if incoming is not None and incoming.held is not None:
            self._held -= len(incoming.held)
            incoming.held = None

    def _chunk(self) -> RtmpMessage | Literal[False] | None:
        """Reads one chunk, or a run of them: False when bytes are lacking, None when no message ends with it."""
        basic = self._basic_header()
        if basic is None:
            return False
        incoming, number, kind, at = basic
        header = self._message_header(incoming, number, kind, at)
        if header is None:
            return False
        buffer, end = self._buffer, len(self._buffer)
        field, length, type_, stream, extended, body = header
        held = incoming.held
        done = len(held) if held is not None else 0
        if held is None or kind < 3:
            self._check_length(length, type_, number)
        part = min(self.chunk_size, length - (done if kind == 3 else 0))
        if end - body < part:
            return False
        if kind < 3 and held is not None:  # a new message cuts the unfinished one short
            self._held -= done
            held = incoming.held = None
        if held is None:
            incoming.begin(kind, field, length, type_, stream, extended)
            if part == length:
                self._at = body + part
                return RtmpMessage(type_, stream, incoming.timestamp, bytes(buffer[body : body + part]))
            held = incoming.held = bytearray()
        held += buffer[body : body + part]
        self._held += part
        if self._held > (most := _LARGEST_EARLY if self.early else _LARGEST_HELD):
            raise RtmpError(f"unfinished messages of more than {most >> 10} KiB together")
        self._at = body + part
        if len(held) < length:
            self._run(incoming, held, number)
        if len(held) < length:
            return None
        incoming.held = None
        self._held -= length
        return RtmpMessage(incoming.type, incoming.stream, incoming.timestamp, bytes(held))

    def _basic_header(self) -> tuple[_Incoming, int, int, int] | None:
        """The chunk stream with its number, the kind of the header that follows, and where that begins (RTMP 1.0, 5.3.1.1); None: bytes are lacking."""
        buffer, at = self._buffer, self._at
        if at >= len(buffer):
            return None
        number, kind = buffer[at] & 63, buffer[at] >> 6
        size = 1
        if number < 2:
            size = 2 + number
            if len(buffer) - at < size:
                return None
            number = 64 + buffer[at + 1] + (buffer[at + 2] << 8 if number else 0)
        incoming = self._streams.get(number)
        if incoming is None:
            if len(self._streams) >= _MOST_STREAMS:
                raise RtmpError(f"more than {_MOST_STREAMS} chunk streams at once")
            incoming = self._streams[number] = _Incoming()
        return incoming, number, kind, at + size

    def _message_header(self, incoming: _Incoming, number: int, kind: int, head: int) -> tuple[int, int, int, int, bytes, int] | None:
        """Time field, length, type, message stream, extended time and where the body begins (RTMP 1.0, 5.3.1.2); None: bytes are lacking. Nothing is changed."""
        buffer, size = self._buffer, (11, 7, 3, 0)[kind]
        if len(buffer) - head < size:
            return None
        field, length, type_, stream = 0, incoming.length, incoming.type, incoming.stream
        if kind < 3:
            field = int.from_bytes(buffer[head : head + 3], "big")
        if kind < 2:
            length, type_ = int.from_bytes(buffer[head + 3 : head + 6], "big"), buffer[head + 6]
        if kind == 0:
            stream = int.from_bytes(buffer[head + 7 : head + 11], "little")
        if kind and not incoming.begun:
            raise RtmpError(f"chunk stream {number} begins with a header of type {kind}, which refers to one before it")
        body, extended = head + size, incoming.extended
        if field == _EXTENDED or (kind == 3 and extended):  # RTMP 1.0, 5.3.1.3, on continuation chunks too
            if len(buffer) - body < 4:
                return None
            found = bytes(buffer[body : body + 4])
            if kind < 3:
                field, extended = int.from_bytes(found, "big"), found
            if found == extended:  # some senders leave it out of continuation chunks
                body += 4
        elif kind < 3:
            extended = b""
        return field, length, type_, stream, extended, body

    def _check_length(self, length: int, type_: int, number: int) -> None:
        media = type_ in (AUDIO, VIDEO, AGGREGATE) and not self.early
        most = _LARGEST_MEDIA if media else _LARGEST_OTHER
        if length > most:
            when = " before it publishes" if self.early else ""
            raise RtmpError(
                f"a message of type {type_} announces {length} bytes on chunk stream {number}{when}; at most {most} are taken"
            )

    def _run(self, incoming: _Incoming, held: bytearray, number: int) -> None:
        """Joins the full continuation chunks of this chunk stream that lie in the buffer in a row."""
        size, at = self.chunk_size, self._at
        if number > 63:
            return
        extended = incoming.extended
        if extended and self._buffer[at + 1 : at + 5] != extended:
            extended = b""
        head = 1 + len(extended)
        step = head + size
        count = min((incoming.length - len(held)) // size, (len(self._buffer) - at) // step)
        if count < 2:
            return
        marks = self._buffer[at : at + count * step : step]
        expected = 0xC0 | number
        same = len(marks) - len(marks.lstrip(bytes([expected])))
        if same < 2:
            return
        block = np.frombuffer(memoryview(self._buffer)[at : at + same * step], np.uint8).reshape(same, step)
        if extended and not (block[:, 1:5] == np.frombuffer(extended, np.uint8)).all():
            return
        held += block[:, head:].tobytes()
        self._held += same * size
        self._at = at + same * step


class ChunkWriter:
    """Cuts messages into chunks. Uses full headers, and continuation chunks within a message."""

    def __init__(self) -> None:
        self.chunk_size = DEFAULT_CHUNK_SIZE
        self._last: dict[int, tuple[int, int, int]] = {}  # chunk stream: time stamp, message stream, type

    def write(self, number: int, message: RtmpMessage) -> bytes:
        """``message`` on chunk stream ``number`` (2 to 63)."""
        if not 2 <= number <= 63:
            raise ValueError(f"chunk stream {number}; this writer uses 2 to 63")
        payload, stamp = message.payload, message.timestamp & 0xFFFFFFFF
        if len(payload) > 0xFFFFFF:
            raise RtmpError(f"a message of {len(payload)} bytes; RTMP allows 16777215")
        last = self._last.get(number)
        delta = stamp - last[0] if last is not None and last[1] == message.stream else -1
        relative = 0 <= delta < _EXTENDED and stamp < _EXTENDED
        field = delta if relative else stamp
        long = field >= _EXTENDED
        head = (
            (_EXTENDED if long else field).to_bytes(3, "big") + len(payload).to_bytes(3, "big") + bytes([message.type])
        )
        if not relative:
            head += message.stream.to_bytes(4, "little")
        extra = stamp.to_bytes(4, "big") if long else b""
        first = bytes([(0x40 if relative else 0) | number]) + head + extra
        size = self.chunk_size
        parts = [first, payload[:size]]
        follow = bytes([0xC0 | number]) + extra
        for at in range(size, len(payload), size):
            parts += [follow, payload[at : at + size]]
        self._last[number] = (stamp, message.stream, message.type)
        return b"".join(parts)


def split_aggregate(message: RtmpMessage) -> Iterator[RtmpMessage]:
    """The messages inside an aggregate message (RTMP 1.0, 7.1.6), with the times that they stand for. Raises RtmpError."""
    data, at = message.payload, 0
    shift: int | None = None
    while at < len(data):
        if len(data) - at < 11:
            raise RtmpError(f"an aggregate message ends in the middle of a header (byte {at})")
        size = int.from_bytes(data[at + 1 : at + 4], "big")
        stamp = int.from_bytes(data[at + 4 : at + 7], "big") | data[at + 7] << 24
        if size > len(data) - at - 11:
            raise RtmpError(
                f"a message in an aggregate claims {size} bytes where {len(data) - at - 11} are left (byte {at})"
            )
        if shift is None:
            shift = message.timestamp - stamp
        yield RtmpMessage(data[at], message.stream, (stamp + shift) & 0xFFFFFFFF, data[at + 11 : at + 11 + size])
        at += 11 + size + 4
