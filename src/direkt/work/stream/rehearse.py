"""A whole rehearsal: open a receiver, point the device's push slot at it, push, measure, stop, and point the slot back."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Generator
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from urllib.parse import urlsplit

from direkt.described.errors import DeviceError
from direkt.destination.references import Sources
from direkt.device.state import Capability, PushState, Slot, need
from direkt.device_side import DeviceSide
from direkt.errors import DirektError, NoAnswer, UnusableInput, os_words
from direkt.net import certificates, routes
from direkt.net.transport import Recorder, transport
from direkt.parameters import Values
from direkt.protocol.address import ServerAddress
from direkt.protocol.schemes import SCHEMES, Scheme, secure
from direkt.secret import Secret
from direkt.work.feeds import FeedParts
from direkt.work.steps import END, Job, StepClock, unbroken
from direkt.work.stream import carry
from direkt.work.stream.catch import CatchTick, receive
from direkt.work.stream.reception import Reception, Rehearsal

START_LIMIT = 20.0  # s for the push to arrive
_APP = "rehearsal"
_HERE = "127.0.0.1"
_TRIES = 3  # to put the slot back


class Phase(StrEnum):
    """What the job is about to do."""

    OPEN = "the receiver is open"
    POINT = "point the push slot at it"
    START = "start the push"
    STOP = "stop the push"
    BACK = "point the push slot back"


@dataclass(frozen=True, slots=True)
class PhaseBegins:
    """A phase begins."""

    phase: Phase
    server: str  # the rehearsal's address, or the one that the slot gets back


@dataclass(frozen=True, slots=True)
class Former:
    """What the push slot held before, with the key that goes back into it."""

    slot: Slot
    server: str
    key: Secret
    restores: bool  # False: what it held cannot be put back; it gets the destination's address and key


@dataclass(frozen=True, slots=True)
class PutBack:
    """Whether the device is again as it was."""

    proven: bool
    server: str
    detail: str = ""  # what is not as it was, or could not be read


@dataclass(frozen=True, slots=True)
class Rehearsed:
    """The result; what came is in the reception's rehearsal."""

    reception: Reception
    address: str
    put_back: PutBack
    interrupted: bool
    set: Values | None = None  # what the device says it is set to
    source_rate: float | None = None  # fps at its input
    failure: str = ""  # why nothing was measured, where nothing was
    restart_needed: bool = False  # what the device is set to is not in force
    carried: bool = False  # the device was only asked
    silent: bool = False  # and silence was added
    device: DeviceSide | None = None  # what it says of itself


@dataclass(frozen=True, slots=True)
class Receiving:
    """What comes will be measured here."""

    rehearsal: Rehearsal


RehearseEvent = PhaseBegins | Receiving | CatchTick


def rehearse(
    feed: FeedParts, sources: Sources, clock: StepClock, *, seconds: float, tls: bool = False, port: int = 0,
    keep: Path | None = None, overwrite: bool = False, replace: bool = False,
) -> Job[RehearseEvent, Rehearsed]:  # fmt: skip
    """Pushes from the feed's device to a receiver of our own for ``seconds``, and leaves the device as it was.

    ``port`` 0: any free one; ``keep``: record to this file; ``replace``: take the slot even if what it holds cannot be
    put back. Raises UnusableInput and NoAnswer before the device is touched; after that, failures are in the result.
    """
    need(feed.driver, Capability.SLOTS, Capability.PUSH)
    state = feed.driver.read()
    slot, channel = feed.slot(state), feed.channel(state)
    former = former_of(feed, slot, sources, replace)
    scheme = secure(SCHEMES[_scheme_of(feed)].transport, tls=tls)
    host = _own_address(feed)
    key = Secret(f"{_APP}-{secrets.token_hex(8)}")
    recorder = _recorder(scheme, keep, overwrite=overwrite)
    context = certificates.make([host]).context if tls else None
    with Reception(scheme, _APP, key, recorder=recorder, tls=context) as reception:
        number = reception.open(host, port)
        server = str(ServerAddress(scheme.name, host, number, _APP))
        yield PhaseBegins(Phase.OPEN, server)
        yield Receiving(reception.rehearsal)
        failure, interrupted, put_back = "", False, None
        try:
            try:
                failure = yield from _push(feed, reception, server, key, clock, seconds)
            except KeyboardInterrupt:
                END.taken()
                interrupted = True
            except DirektError as error:
                failure = str(error)
            reception.poll()
            reception.rehearsal.closing = True
            with _uninterrupted():
                yield PhaseBegins(Phase.STOP, server)
            with _uninterrupted():
                yield PhaseBegins(Phase.BACK, former.server)
            put_back = put_slot_back(feed, former)
        finally:  # whoever drives this may go at any of these moments
            if put_back is None:
                put_slot_back(feed, former)
    rate = state.input.frame_rate if state.input is not None else None
    return Rehearsed(
        reception, server, put_back, interrupted, channel.full, rate, failure, state.restart_needed, device=feed.side(state, channel)
    )


def rehearse_carried(
    feed: FeedParts, sources: Sources, clock: StepClock, *, seconds: float, tls: bool = False, port: int = 0,
    keep: Path | None = None, overwrite: bool = False,
) -> Job[RehearseEvent, Rehearsed]:  # fmt: skip
    """The same of a feed that this machine carries: the camera's stream goes through here to a receiver of our own.

    The device is only asked, so nothing has to be put back. Raises UnusableInput and NoAnswer.
    """
    state, channel, source = carry.read(feed)
    scheme = secure(SCHEMES[_scheme_of(feed)].transport, tls=tls)
    key = Secret(f"{_APP}-{secrets.token_hex(8)}")
    recorder = _recorder(scheme, keep, overwrite=overwrite)
    certificate = certificates.make([_HERE]) if tls else None
    with Reception(scheme, _APP, key, recorder=recorder, tls=certificate.context if certificate else None) as reception:
        server = str(ServerAddress(scheme.name, _HERE, reception.open(_HERE, port), _APP))
        work = carry.carrying(feed, source, sources, key, server, tls=certificates.unchecked() if tls else None)
        yield PhaseBegins(Phase.OPEN, server)
        yield Receiving(reception.rehearsal)
        failure, interrupted = "", False
        try:
            yield PhaseBegins(Phase.START, server)
            work.start()
            yield from receive(reception, clock, wait=START_LIMIT, seconds=seconds, failed=lambda: work.state.fatal)
            if reception.rehearsal.first is None:
                state_now = work.state
                failure = (
                    state_now.fatal
                    or f"{feed.device}: nothing came within {START_LIMIT:g} s; camera: {state_now.source}"
                )
        except KeyboardInterrupt:
            END.taken()
            interrupted = True
        finally:
            reception.poll()
            reception.rehearsal.closing = True
            work.close()
    rate = state.input.frame_rate if state is not None and state.input is not None else None
    waits = state.restart_needed if state is not None else False
    return Rehearsed(
        reception, server, PutBack(True, ""), interrupted, channel.full if channel is not None else None, rate, failure, waits,
        carried=True, silent=work.state.silent,
        device=feed.side(state, channel) if state is not None and channel is not None else None,
    )  # fmt: skip


def _recorder(scheme: Scheme, keep: Path | None, *, overwrite: bool) -> Recorder | None:
    """What records to ``keep``. Raises UnusableInput."""
    if keep is None:
        return None
    try:
        return transport(scheme.name).recorder(keep, overwrite=overwrite)
    except FileExistsError as error:
        raise UnusableInput(f"{error.filename} already exists; choose another name, or add --overwrite") from None
    except OSError as error:
        raise UnusableInput(f"{keep}: cannot be written: {os_words(error)}") from None


@contextlib.contextmanager
def _uninterrupted() -> Generator[None, None, None]:
    """On the way back, another Ctrl-C changes nothing: the way back is what it asks for."""
    with unbroken():
        yield


def _scheme_of(feed: FeedParts) -> str:
    return feed.destination.server.partition("://")[0]


def _own_address(feed: FeedParts) -> str:
    host = urlsplit(feed.driver.address).hostname or ""
    try:
        return routes.address_towards(host)
    except OSError as error:
        raise NoAnswer(f"there is no way from here to {feed.device} at {host}: {os_words(error)}") from None


class CannotPutBack(UnusableInput):
    """A push slot holds what is not known here; ``what`` says so, ``way`` how a rehearsal goes on."""

    def __init__(self, what: str, way: str) -> None:
        super().__init__(f"{what}: {way}")
        self.what = what


def former_of(feed: FeedParts, slot: Slot, sources: Sources, replace: bool) -> Former:
    """What goes back into the slot. Raises UnusableInput where that cannot be what it holds now."""
    if slot.state is not PushState.STOPPED:
        raise DeviceError(feed.device, f"is pushing to {slot.server}: stop it first with: direkt push off {feed.name}")
    if not slot.server and not slot.key_length:
        return Former(slot, "", Secret(""), True)
    known = feed.known_key(slot.server, slot.key_length, sources)
    if known is not None:
        return Former(slot, slot.server, known, True)
    if not replace:
        raise CannotPutBack(
            f"slot {slot.number} of {feed.device} holds {slot.server or 'no address'} and a key of {slot.key_length} characters "
            "that this rig does not know, so they could not be put back", f"add --replace to give it those of {feed.entry.destination}",
        )
    return Former(slot, feed.destination.server, feed.rig.key(feed.destination, sources), False)


def _push(
    feed: FeedParts, reception: Reception, server: str, key: Secret, clock: StepClock, seconds: float
) -> Job[RehearseEvent, str]:
    """Pushes and measures. Returns why nothing came, where nothing did."""
    number, channel = feed.entry.slot, feed.entry.channel
    yield PhaseBegins(Phase.POINT, server)
    feed.driver.write_slot(number, channel, server, key)
    yield PhaseBegins(Phase.START, server)
    feed.driver.push(number, on=True)
    yield from receive(reception, clock, wait=START_LIMIT, seconds=seconds)
    return "" if reception.rehearsal.first is not None else _why_nothing(feed, reception)


def _why_nothing(feed: FeedParts, reception: Reception) -> str:
    slot = feed.slot(feed.driver.read())
    said = f": it says {slot.message}" if slot.message else f": it says {slot.state}"
    turned = "".join(f"; turned away: {r.reason}" for r in reception.rehearsal.refusals.values())
    return f"{feed.device} did not push within {START_LIMIT:g} s{said}{turned}"


def put_slot_back(feed: FeedParts, former: Former) -> PutBack:
    """Stops the push, points the slot back, and reads it: a device that does not answer is asked again."""
    detail = ""
    for _ in range(_TRIES):
        with unbroken():
            try:
                feed.driver.push(former.slot.number, on=False)
                feed.driver.write_slot(former.slot.number, former.slot.channel, former.server, former.key)
                detail = _differs(feed.slot(feed.driver.read()), former)
            except DirektError as error:
                detail = str(error)
            if not detail:
                return PutBack(True, former.server, "" if former.restores else "what it held before is not known")
    return PutBack(False, former.server, detail or "it was interrupted again")


def _differs(slot: Slot, former: Former) -> str:
    """What of the slot is not as it should be; empty: nothing."""
    pairs: tuple[tuple[str, object, object], ...] = (
        ("its push", PushState.STOPPED.value, slot.state.value), ("its server address", former.server, slot.server),
        ("its channel", former.slot.channel, slot.channel), ("its key's length", len(former.key), slot.key_length),
    )  # fmt: skip
    return "; ".join(
        f"{what} is {have or 'empty'}, should be {want or 'empty'}" for what, want, have in pairs if want != have
    )
