"""Access units in a byte stream (H.264, 7.4.1.2.3 and annex B; H.265, 7.4.2.4.4): where each picture's bytes begin.

Strategy. All start codes of a stretch are found, the byte behind each says what the unit is, and array operations find those
units with which a new access unit begins. O(n), at the speed of a search for three bytes.
"""

from __future__ import annotations

from array import array

import numpy as np

from direkt.media import Buffer, Column, Marks, column


def access_units(data: Buffer, codec: str, forced: Column) -> tuple[Column, Column, Marks]:
    """Where each access unit's first start code is, where the unit begins with the zeros in front of it, and whether it has
    parameter sets or a picture that refers to nothing.

    ``codec``: h264 or h265; ``forced``: bytes at which one must begin, though its first slice may be lost.
    """
    whole = bytes(data)
    found, at = array("q"), whole.find(b"\0\0\1")
    while at >= 0:
        found.append(at)
        at = whole.find(b"\0\0\1", at + 3)
    places = np.asarray(found, np.int64)
    places = places[places + 3 < len(whole)]
    none = column([])
    if not len(places):
        return none, none, np.zeros(0, np.bool_)
    view = np.frombuffer(whole + b"\0\0\0", np.uint8)
    head = view[places + 3].astype(np.int64)
    if codec == "h264":
        kind = head & 31
        coded = (kind == 1) | (kind == 2) | (kind == 5)
        leads = coded & (view[places + 4] >= 0x80)  # first_mb_in_slice is 0
        opens = ((kind >= 6) & (kind <= 9)) | ((kind >= 14) & (kind <= 18))
        marks = (kind == 7) | (kind == 5)
    else:
        kind = head >> 1 & 63
        base = ((head & 1) == 0) & (view[places + 4] < 8)  # nuh_layer_id
        coded = (kind < 32) & base
        leads = coded & (view[places + 5] >= 0x80)  # first_slice_segment_in_pic_flag
        opens = (((kind >= 32) & (kind <= 35)) | (kind == 39) | ((kind >= 41) & (kind <= 44)) | (kind >= 48)) & base
        opens &= kind <= 55
        marks = (kind == 32) | (kind == 33) | ((kind >= 19) & (kind <= 21))
    leads |= coded & (np.isin(places, forced) | np.isin(places - 1, forced))
    counted = np.flatnonzero(coded | opens)
    if not len(counted):
        return none, none, np.zeros(0, np.bool_)
    behind = np.concatenate([[True], coded[counted][:-1]])  # the unit before it belongs to a picture
    begins = counted[behind & (opens[counted] | leads[counted])]
    if not len(begins):
        return none, none, np.zeros(0, np.bool_)
    starts = places[begins]
    zero = (starts > 0) & (view[np.maximum(starts - 1, 0)] == 0)
    unit = np.searchsorted(begins, np.flatnonzero(marks), side="right") - 1
    keys = np.zeros(len(begins), np.bool_)
    keys[unit[unit >= 0]] = True
    return starts, starts - zero, keys
