"""The client's ends of RTMP (section 7.2), without sockets: connect and createStream, then publish, or play."""

from __future__ import annotations

from dataclasses import dataclass

from direkt import mask
from direkt.protocol import amf
from direkt.protocol.errors import LocalError
from direkt.protocol.rtmp import chunks
from direkt.protocol.rtmp.chunks import RtmpMessage
from direkt.protocol.rtmp.session import (
    AUDIO_STREAM,
    CONTROL_STREAM,
    VIDEO_STREAM,
    Advance,
    RtmpSession,
    SessionState,
    TagMessage,
)


@dataclass(frozen=True, slots=True)
class Connected:
    """The server takes the application; only told when probing."""


@dataclass(frozen=True, slots=True)
class PublishStarted:
    """The server takes the stream: send_media() may be called."""


@dataclass(frozen=True, slots=True)
class PushRefused:
    """The server says no."""

    code: str
    text: str


@dataclass(frozen=True, slots=True)
class PlayStarted:
    """The server plays the stream: TagMessages follow."""


@dataclass(frozen=True, slots=True)
class PlayEnded:
    """The stream is over, or nobody publishes it any more."""


ClientEvent = Connected | PublishStarted | PlayStarted | PlayEnded | TagMessage | PushRefused

_BUFFER_LENGTH, _BUFFER = (3).to_bytes(2, "big"), (1000).to_bytes(4, "big")  # RTMP 1.0, 7.1.7: ms that a player keeps

_CONNECT, _RELEASE, _FC_PUBLISH, _CREATE, _PUBLISH, _FC_UNPUBLISH, _DELETE = map(float, range(1, 8))  # transactions


class RtmpClientSession(RtmpSession[ClientEvent]):
    """One push. Call start(), send data_to_send(), feed receive_data(), ask next_event()."""

    def __init__(
        self, url: str, app: str, key: str, random: bytes, *, chunk_size: int = 4096, probe: bool = False,
        codes: tuple[str, ...] = (),
    ) -> None:  # fmt: skip
        """``url``: tcUrl, scheme://host[:port]/application; ``probe``: go no further than connect.

        ``codes``: the four-character codes of codecs that come by extended headers.
        """
        super().__init__(client=True, random=random)
        self._url, self._app, self._key = url, app, key
        self._chunk_size = chunk_size
        self._probe = probe
        self._codes = codes
        self._stream = 0

    @property
    def publishing(self) -> bool:
        """Whether the server takes the stream now."""
        return self.state is SessionState.PUBLISHING

    def start(self) -> None:
        """Begins the handshake."""
        self._out.append(self._handshake.start())

    def _on_open(self) -> None:
        self.set_chunk_size(self._chunk_size)
        facts: dict[str, amf.Amf] = {
            "app": self._app, "type": "nonprivate", "flashVer": "Direkt/1.0", "tcUrl": self._url, "objectEncoding": 0.0,
        }  # fmt: skip
        if self._codes:
            facts["fourCcList"] = list(self._codes)
        self._step(Advance.CONNECT)
        self._command("connect", _CONNECT, facts)

    def _on_message(self, message: RtmpMessage) -> None:
        if message.type not in (chunks.COMMAND, chunks.COMMAND3):
            return
        values = self._decode(message)
        name = values[0] if values else None
        transaction = values[1] if len(values) > 1 else None
        if name == "_result":
            self._on_result(values, transaction)
        elif name == "_error" and transaction in (_CONNECT, _CREATE, _PUBLISH):
            self._refuse(values)
        elif name == "onStatus":
            facts = next((v for v in values[2:] if isinstance(v, dict)), {})
            if not self._on_status(facts.get("code")) and facts.get("level") == "error":
                self._refuse(values)

    def _on_status(self, code: amf.Amf) -> bool:
        """Whether a status is one that was waited for."""
        if code == "NetStream.Publish.Start" and self.state is SessionState.PUBLISH_ASKED:
            self._step(Advance.PUBLISH_ACCEPTED)
            self._events.append(PublishStarted())
            return True
        return False

    def _on_result(self, values: list[amf.Amf], transaction: amf.Amf) -> None:
        if transaction == _CONNECT and self.state is SessionState.CONNECT_ASKED:
            self._step(Advance.CONNECT_ACCEPTED)
            if self._probe:
                self._events.append(Connected())
                return
            self._announce()
            self._command("createStream", _CREATE, None)
        elif transaction == _CREATE and self.state is SessionState.CONNECTED:
            number = values[3] if len(values) > 3 else None
            self._stream = int(number) if isinstance(number, float) and 0 < number < 1 << 32 else 1
            self._ask()

    def _announce(self) -> None:
        """What some servers want to hear before the stream is made."""
        self._command("releaseStream", _RELEASE, None, self._key)
        self._command("FCPublish", _FC_PUBLISH, None, self._key)

    def _ask(self) -> None:
        """Asks for the stream that was made."""
        self._step(Advance.PUBLISH)
        self._command("publish", _PUBLISH, None, self._key, "live", stream=self._stream)

    def _refuse(self, values: list[amf.Amf]) -> None:
        self.state = SessionState.CLOSED
        facts = next((v for v in values[2:] if isinstance(v, dict)), {})
        code, text = facts.get("code"), facts.get("description")
        self._events.append(PushRefused(self._masked(code), self._masked(text)))

    def _masked(self, text: amf.Amf) -> str:
        """Servers like to repeat the stream name; it is the key."""
        if not isinstance(text, str):
            return ""
        return mask.IN_USE.foreign(text, [self._key])

    def send_media(self, kind: int, timestamp: int, body: bytes) -> None:
        """An audio, video or data message; ``timestamp`` in ms. Raises LocalError before the server takes the stream."""
        self._check_publishing()
        number = VIDEO_STREAM if kind == chunks.VIDEO else AUDIO_STREAM
        self._send(number, kind, body, self._stream, timestamp)

    def send_metadata(self, body: bytes) -> None:
        """onMetaData, encoded, which the server is asked to keep (@setDataFrame). Raises LocalError as send_media does."""
        self.send_media(chunks.DATA, 0, amf.encode(["@setDataFrame"]) + body)

    def _check_publishing(self) -> None:
        if self.state is not SessionState.PUBLISHING:
            raise LocalError(f"RTMP: nothing can be sent in the state {self.state.value!r}")

    def finish(self) -> None:
        """Says that the stream is over, if it runs."""
        if self.state is SessionState.PUBLISHING:
            self._command("FCUnpublish", _FC_UNPUBLISH, None, self._key)
            self._command("deleteStream", _DELETE, None, float(self._stream))
            self._step(Advance.STOP)


class PlayerSession(RtmpClientSession):
    """One stream that is played."""

    def _announce(self) -> None:
        """A player announces nothing."""

    def _ask(self) -> None:
        self._step(Advance.PLAY)
        self._send(CONTROL_STREAM, chunks.USER_CONTROL, _BUFFER_LENGTH + self._stream.to_bytes(4, "big") + _BUFFER)
        self._command("play", _PUBLISH, None, self._key, -2000.0, stream=self._stream)

    def _on_status(self, code: amf.Amf) -> bool:
        if code == "NetStream.Play.Start" and self.state is SessionState.PLAY_ASKED:
            self._begin()
        elif code in ("NetStream.Play.Stop", "NetStream.Play.UnpublishNotify", "NetStream.Play.Complete"):
            self._events.append(PlayEnded())
        else:
            return False
        return True

    def _begin(self) -> None:
        self._step(Advance.PLAY_ACCEPTED)
        self._events.append(PlayStarted())

    def _on_message(self, message: RtmpMessage) -> None:
        if message.type in (chunks.COMMAND, chunks.COMMAND3):
            super()._on_message(message)
        elif self.state in (SessionState.PLAYING, SessionState.PLAY_ASKED):
            self._media(message)

    def _media(self, message: RtmpMessage) -> None:
        if message.type == chunks.AGGREGATE:
            for inner in chunks.split_aggregate(message):
                self._media(inner)
        elif message.type in (chunks.AUDIO, chunks.VIDEO, chunks.DATA):
            if self.state is SessionState.PLAY_ASKED:  # some servers begin without a word
                self._begin()
            self._events.append(TagMessage(message.type, message.timestamp, message.payload))
