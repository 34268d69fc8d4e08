"""Reads Motion JPEG (ITU-T T.81): every sample is a picture, and its frame header says its size and chroma."""

from __future__ import annotations

import numpy as np

from direkt.codec import shape
from direkt.codec.bits import BitstreamError
from direkt.codec.reader import Declared, Join, Pictures, Remark
from direkt.media import Buffer, Format, Samples, Scalar

_FRAMES = frozenset({0xC0, 0xC1, 0xC2, 0xC3, 0xC5, 0xC6, 0xC7, 0xC9, 0xCA, 0xCB, 0xCD, 0xCE, 0xCF})  # Table B.1: SOFn
_ALONE = frozenset({0x01, 0xD8, *range(0xD0, 0xD8)})  # markers without a length
_CHROMA = {(2, 2): "4:2:0", (2, 1): "4:2:2", (1, 1): "4:4:4", (4, 1): "4:1:1", (1, 2): "4:4:0"}  # luma by chroma samples
_HEAD = 4096  # bytes in which a frame header is looked for at first


def parse_header(data: Buffer) -> dict[str, Scalar]:
    """What the frame header (ITU-T T.81, B.2.2) behind the start of an image says, by parameter name. Raises BitstreamError."""
    view = bytes(data)
    if view[:2] != b"\xff\xd8":
        raise BitstreamError("no JPEG image where one should begin")
    at = 2
    while at + 4 <= len(view):
        if view[at] != 0xFF:
            raise BitstreamError("a JPEG image with bytes between its markers")
        marker = view[at + 1]
        if marker == 0xFF or marker in _ALONE:
            at += 1 if marker == 0xFF else 2
            continue
        size = int.from_bytes(view[at + 2 : at + 4], "big")
        if marker in _FRAMES:
            return _frame(view[at + 4 : at + 2 + size])
        if marker == 0xDA or size < 2:
            break
        at += 2 + size
    raise BitstreamError("a JPEG image without a frame header")


def _frame(body: bytes) -> dict[str, Scalar]:
    if len(body) < 6 or len(body) < 6 + 3 * body[5]:
        raise BitstreamError("a JPEG frame header that is cut")
    depth, height, width, count = body[0], int.from_bytes(body[1:3], "big"), int.from_bytes(body[3:5], "big"), body[5]
    if not width or not height:
        raise BitstreamError("a JPEG image that does not say its size")
    samples = [(body[7 + 3 * n] >> 4, body[7 + 3 * n] & 15) for n in range(count)]
    values = shape.describe((width, height), (width, height), None, 1, depth)
    del values["video.chroma"]
    if count == 1:
        values["video.chroma"] = "4:0:0"
    elif count >= 3 and samples[1] == samples[2] and all(samples[1]):
        (across, down), (less, lower) = samples[0], samples[1]
        chroma = _CHROMA.get((across // less, down // lower)) if not across % less and not down % lower else None
        if chroma is not None:
            values["video.chroma"] = chroma
    return values


def build_header(width: int, height: int, sampling: int) -> bytes:
    """The start of an image and its frame header (ITU-T T.81, B.2.2), 8 bits, three components.

    ``width``, ``height``: px; ``sampling``: of the first component, across and down, in four bits each; the others have 1 and 1.
    """
    body = bytes([8]) + height.to_bytes(2, "big") + width.to_bytes(2, "big")
    body += bytes([3, 1, sampling, 0, 2, 0x11, 1, 3, 0x11, 1])
    return b"\xff\xd8\xff\xc0" + (2 + len(body)).to_bytes(2, "big") + body


class Reader:
    """Reads one track."""

    knows_keyframes = True

    def __init__(self, remark: Remark) -> None:
        self._remark = remark
        self._told = False  # a header that stands apart said all
        self._latest: bytes | None = None
        self.declared: Declared | None = None

    def configure(self, format: Format) -> None:
        """A frame header that stands apart from the pictures; without one, each picture has its own."""
        self._told = bool(format.configuration)
        if self._told:
            self._declare(parse_header(format.configuration))

    def _declare(self, values: dict[str, Scalar]) -> None:
        self.declared = Declared(values, summary=str(values["video.size"]))

    def read(self, samples: Samples) -> Pictures:
        """A picture for each sample."""
        count = len(samples)
        changes, damaged = [], 0
        for n in range(0 if not self._told else count, count):
            try:
                values = _header_of(samples.sample(n))
            except BitstreamError as error:
                damaged += 1
                if self.declared is None:
                    self._remark(str(error))
                continue
            if self.declared is None or values != self.declared.values:
                self._declare(values)
                if self.declared is not None:
                    changes.append((n, self.declared))
        none, no = np.zeros(count, np.int8), np.zeros(count, np.bool_)
        return Pictures(
            np.arange(count), np.full(count, Join.KEYFRAME, np.int8), no, none, none, none, no, np.ones(count, np.int64),
            tuple(changes), damaged,
        )  # fmt: skip


def _header_of(sample: memoryview) -> dict[str, Scalar]:
    """The frame header of a picture: mostly it stands in front, behind tables; else behind what an application put there."""
    try:
        return parse_header(sample[:_HEAD])
    except BitstreamError:
        if len(sample) <= _HEAD:
            raise
        return parse_header(sample[: 1 << 18])
