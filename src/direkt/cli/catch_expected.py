"""What a push is held against: a sheet, or a feed with its device."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from direkt.cli import options, output
from direkt.errors import NoAnswer

if TYPE_CHECKING:
    from direkt.destination.sheet import Sheet
    from direkt.device.state import Driver, Slot
    from direkt.device_side import DeviceSide
    from direkt.parameters import Values
    from direkt.secret import Secret
    from direkt.work.feeds import FeedParts

APP = "rehearsal"



@dataclass(slots=True)
class Expected:
    """What is to come, and what it is held against."""

    app: str
    key: Secret
    shown_key: str  # as it may be shown
    sheet: Sheet | None = None
    feed: FeedParts | None = None
    driver: Driver | None = None
    set: Values | None = None
    slot: Slot | None = None
    source_rate: float | None = None  # fps at the device's input
    device: DeviceSide | None = None  # what it says of itself


def expect(sheet_name: str | None, key_ref: str | None) -> Expected:
    from direkt.destination import library
    from direkt.secret import Secret

    sheet = library.load(sheet_name) if sheet_name is not None else None
    if key_ref is not None:
        key = options.given_secret(key_ref, "--key", "the stream key")
        return Expected(APP, key, str(key), sheet)
    # made for this run and worth nothing afterwards, so it may be shown: a person has to type it
    throwaway = f"{APP}-{secrets.token_hex(4)}"
    return Expected(APP, Secret(throwaway, everywhere=False), f"{throwaway} (made up for this run, worth nothing afterwards)", sheet)


def expect_feed(feed_name: str, rig_path: Path | None) -> Expected:
    from direkt.protocol import address
    from direkt.work import feeds

    rig = options.load_rig(rig_path)
    sources = options.sources(rig)
    feed = feeds.look_up(rig, feed_name, sources)
    key = rig.key(feed.destination, sources)
    app = address.parse(feed.destination.server).app
    expected = Expected(app, key, f"the key of feed {feed.name}, {key}", feed.sheet, feed, feed.driver)
    read_device(expected)
    return expected


def read_device(expected: Expected) -> None:
    """What the device says it is set to; a device that does not answer leaves that column empty."""
    assert expected.feed is not None
    entry = expected.feed.entry
    try:
        state = expected.feed.driver.read()
    except NoAnswer as error:
        output.note(f"! {error}")
        return
    channel = state.channels.get(entry.channel)
    expected.set = channel.full if channel is not None else None
    expected.device = expected.feed.side(state, channel) if channel is not None else None
    expected.slot = state.slots.get(entry.slot)
    expected.source_rate = state.input.frame_rate if state.input is not None else None
