"""Session descriptions (SDP, RFC 8866): what a server offers, read tolerantly and written strictly."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from direkt.errors import Malformed

MOST = 1 << 17  # bytes of a description that are read
_MOST_MEDIA = 32
_MOST_LINES = 4096
_DIRECTIONS = ("sendonly", "recvonly", "sendrecv", "inactive")

# RFC 3551, tables 4 and 5: encoding, clock rate (Hz), channels
STATIC: Mapping[int, tuple[str, int, int]] = {
    0: ("PCMU", 8000, 1), 3: ("GSM", 8000, 1), 8: ("PCMA", 8000, 1), 9: ("G722", 8000, 1), 10: ("L16", 44100, 2),
    11: ("L16", 44100, 1), 14: ("MPA", 90000, 1), 26: ("JPEG", 90000, 1), 31: ("H261", 90000, 1), 32: ("MPV", 90000, 1),
    33: ("MP2T", 90000, 1), 34: ("H263", 90000, 1),
}  # fmt: skip


class SdpError(Malformed):
    """A description that says nothing usable; the text says why."""


@dataclass(frozen=True, slots=True)
class Encoding:
    """What a payload type of a medium stands for (RFC 8866, 6.6, 6.15)."""

    payload_type: int
    name: str  # in capitals
    clock: int  # Hz
    channels: int
    parameters: Mapping[str, str] = field(default_factory=dict)  # fmtp, names in small letters


@dataclass(frozen=True, slots=True)
class Medium:
    """One medium (RFC 8866, 5.14)."""

    kind: str  # video, audio, application ...
    encodings: tuple[Encoding, ...]
    control: str = ""  # RFC 2326, C.1.1
    direction: str = "sendrecv"  # RFC 8866, 6.7: of whoever takes the description up, so "recvonly" is what the server sends
    title: str = ""


@dataclass(frozen=True, slots=True)
class SessionDescription:
    """All that is offered."""

    media: tuple[Medium, ...]
    name: str = ""
    control: str = ""  # for all media together

    def comes_to_us(self, medium: Medium) -> bool:
        """Whether the server sends a medium: a channel back to the camera's speaker (``sendonly``) it does not.

        Some servers mean themselves by these words: then their picture is ``sendonly`` too.
        """
        if medium.direction == "inactive":
            return False
        turned = any(m.kind == "video" and m.direction == "sendonly" for m in self.media)
        if turned:
            return medium.direction != "recvonly"
        return medium.direction != "sendonly" or len(self.media) == 1


def parse(text: str) -> SessionDescription:
    """A description. Lines that break the rules are passed over. Raises SdpError when it holds no medium."""
    name = control = direction = ""
    blocks: list[tuple[str, list[tuple[str, str]]]] = []
    lines: list[tuple[str, str]] = []
    for line in re.split(r"\r\n|\r|\n", text[:MOST])[:_MOST_LINES]:
        line = line.strip("\0 \t")
        if len(line) < 2 or line[1] != "=":
            continue
        kind, value = line[0], line[2:].strip()
        if kind == "m" and len(blocks) < _MOST_MEDIA:
            lines = []
            blocks.append((value, lines))
        elif kind == "s" and not blocks:
            name = value
        elif kind == "a":
            key, _, rest = value.partition(":")
            key, rest = key.strip().lower(), rest.strip()
            if not blocks and key == "control":
                control = rest
            elif not blocks and key in _DIRECTIONS:  # holds for all media that do not say otherwise
                direction = key
            lines.append((key, rest))
        elif kind == "i" and blocks:
            lines.append(("title", value))
    media = tuple(medium for head, own in blocks if (medium := _medium(head, own, direction or "sendrecv")) is not None)
    if not media:
        raise SdpError("the session description names no medium")
    return SessionDescription(media, name, control)


def _medium(head: str, lines: list[tuple[str, str]], direction: str) -> Medium | None:
    parts = head.split()
    if len(parts) < 4 or "RTP" not in parts[2].upper():
        return None
    maps: dict[int, tuple[str, int, int]] = {}
    formats: dict[int, dict[str, str]] = {}
    control, title = "", ""
    for key, value in lines:
        if key == "rtpmap" and (found := re.match(r"(\d+)\s+([^/\s]+)(?:/(\d+))?(?:/(\d+))?", value)):
            maps[int(found[1][:3])] = (found[2].upper(), int((found[3] or "0")[:9]), int((found[4] or "1")[:3]))
        elif key == "fmtp" and (found := re.match(r"(\d+)\s+(.*)", value)):
            formats.setdefault(int(found[1][:3]), {}).update(_parameters(found[2]))
        elif key == "control":
            control = value
        elif key in _DIRECTIONS:
            direction = key
        elif key == "title":
            title = value
    encodings = []
    for word in parts[3:]:
        if not (word.isascii() and word.isdigit()) or int(word[:4]) > 127:
            continue
        number = int(word)
        name, clock, channels = maps.get(number, ("", 0, 1))
        known = STATIC.get(number, ("", 0, 1))
        if not name:
            name, clock, channels = known
        encodings.append(Encoding(number, name, clock or known[1], channels, formats.get(number, {})))
    return Medium(parts[0].lower(), tuple(encodings), control, direction, title) if encodings else None


def _parameters(text: str) -> dict[str, str]:
    """``a=1;b=2``, with or without spaces; values may hold equals signs (base64)."""
    out = {}
    for part in text.split(";"):
        name, _, value = part.strip().partition("=")
        if name:
            out[name.strip().lower()] = value.strip().strip('"')
    return out


def build(name: str, media: Iterable[Medium], host: str = "0.0.0.0") -> str:
    """A description as a server gives it."""
    family = "IP6" if ":" in host else "IP4"
    lines = ["v=0", f"o=- 1 1 IN {family} {host}", f"s={name}", f"c=IN {family} {host}", "t=0 0", "a=control:*"]
    for medium in media:
        numbers = " ".join(str(encoding.payload_type) for encoding in medium.encodings)
        lines.append(f"m={medium.kind} 0 RTP/AVP {numbers}")
        for e in medium.encodings:
            channels = f"/{e.channels}" if e.channels > 1 else ""
            lines.append(f"a=rtpmap:{e.payload_type} {e.name}/{e.clock}{channels}")
            if e.parameters:
                words = "; ".join(f"{key}={value}" if value else key for key, value in e.parameters.items())
                lines.append(f"a=fmtp:{e.payload_type} {words}")
        if medium.direction != "sendrecv":
            lines.append(f"a={medium.direction}")
        lines.append(f"a=control:{medium.control}")
    return "".join(f"{line}\r\n" for line in lines)
