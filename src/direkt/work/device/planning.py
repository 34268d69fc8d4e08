"""What to set on a feed's device: its state, the sheets that its channel has to meet, and what was learned of its model."""

from __future__ import annotations

from dataclasses import replace

from direkt.destination.sheet import Sheet
from direkt.device import wording
from direkt.device.driver_file import DriverFile
from direkt.device.state import Capability, Channel, DeviceState
from direkt.errors import DirektError
from direkt.match.budget import share_of
from direkt.match.plan import Plan, Unmet, plan
from direkt.match.terms import SheetDemand
from direkt.protocol import address
from direkt.store import learned
from direkt.work.feeds import FeedParts
from direkt.work.stream.sound import TAKEN


def plan_feed(feed: FeedParts) -> tuple[DeviceState, Channel, Plan]:
    """The device's state, the feed's channel, and what to change on it. Raises DirektError."""
    state = feed.driver.read()
    channel = feed.channel(state)
    return state, channel, plan_channel(feed, state, channel)


def plan_channel(feed: FeedParts, state: DeviceState, channel: Channel) -> Plan:
    """What to change on a channel, with what was learned of its model, and the other feeds that push it."""
    known = learned.applied(channel, learned.read(feed.rig.folder), state.model, state.firmware)
    carried = feed.entry.carry
    sheet, notes = _carried_sheet(feed.sheet, known) if carried else (feed.sheet, ())
    if carried:  # that it does not push by itself does not matter
        known = replace(known, together=tuple(replace(law, push=True) for law in known.together))
    made = plan(
        known, sheet, channel.source or state.input, share_of(feed.rig, feed.name), others=_others(feed, state, known),
        protocol=None if carried else address.parse(feed.destination.server).scheme, mains=feed.rig.file.mains_hz,
    )  # fmt: skip
    if carried:
        return _by_hand(feed, known, replace(made, notes=(*made.notes, *notes)))
    return _with_push(feed, state, _by_hand(feed, known, made))


def _carried_sheet(sheet: Sheet, channel: Channel) -> tuple[Sheet, tuple[str, ...]]:
    """What a carried channel has to meet: sound that it cannot give is added on the way; and what to know of that."""
    present, codec = channel.limits.get("audio.present"), channel.limits.get("audio.codec")
    set_codec = channel.values.get("audio.codec")
    has_sound = present.allows("yes") if present is not None else channel.values.get("audio.present") == "yes"
    if has_sound and (codec.allows("aac") if codec is not None else set_codec in ("aac", None)):
        return sheet, ("this machine carries the stream: it fetches it from the device and pushes it on",)
    coded = has_sound and set_codec in TAKEN
    words = "codes its sound to AAC" if coded else "adds a silent AAC track: the device has no sound that can be pushed"
    return sheet.without_sound(), (f"this machine carries the stream, and {words}",)


def _by_hand(feed: FeedParts, channel: Channel, made: Plan) -> Plan:
    """The plan with the places in the device's menus, where a person has to make the changes."""
    file: DriverFile | None = getattr(feed.driver, "file", None)
    if Capability.WRITE in feed.driver.capabilities or file is None or not file.menus:
        return made
    new = {step.parameter: step.new for step in made.changes if step.new is not None}
    lines = [f"by hand: {path}: {word}" for path, word in wording.in_menus(file, new, {**channel.full, **new})]
    return Plan(made.steps, made.unmet, made.conflict, (*made.notes, *lines))


def _others(feed: FeedParts, state: DeviceState, channel: Channel) -> list[SheetDemand]:
    """The sheets of further feeds that push the same channel of the same device, or one with the same sound encoder."""
    out = []
    for name, entry in feed.rig.file.feeds.items():
        if name == feed.name or entry.device != feed.entry.device:
            continue
        other = state.channel(entry.channel)
        same = other is not None and other.name == channel.name
        shared = other is not None and channel.sound != "" and other.sound == channel.sound
        if not same and not shared:
            continue
        try:
            sheet: Sheet = feed.rig.sheet(feed.rig.file.destinations[entry.destination])
        except DirektError:
            continue  # said where that feed is matched
        if entry.carry:  # what this machine adds or codes on the way is not asked of the device
            sheet, _ = _carried_sheet(sheet, channel)
        if not same:  # of a channel of its own only the sound is shared
            rules = {rule: one for rule, one in sheet.rules.items() if rule.startswith("audio.")}
            sheet = replace(sheet, rules=rules, ladder=())
        if sheet.id != feed.sheet.id or not same or entry.carry != feed.entry.carry:
            out.append(SheetDemand(sheet, name))
    return out


def _with_push(feed: FeedParts, state: DeviceState, made: Plan) -> Plan:
    """The plan, with a word on a device that cannot push."""
    if state.slots:
        return made
    words = feed.no_push(state)
    file = getattr(feed.driver, "file", None)
    if (file is not None and file.push.never) or Capability.SLOTS in feed.driver.capabilities:
        unmet = Unmet("the push", f"the device cannot push: {words}")
        return Plan(made.steps, (*made.unmet, unmet), made.conflict, made.notes)
    note = f"its driver knows no push of {feed.device}: {words}"
    return Plan(made.steps, made.unmet, made.conflict, (*made.notes, note))
