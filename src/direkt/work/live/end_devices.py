"""The end at the devices: pushes off, and what shows it: what the device says, and that none of its counters moves.

A counter is believed before the words: a device that says stopped and counts on still sends. A counter that moves once more after the
stop may have been late; one that moves twice goes on.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from direkt.device.state import DeviceState, Driver, PushState, Slot
from direkt.errors import DirektError
from direkt.secret import Secret
from direkt.work.live.end_findings import Off, Proof, What
from direkt.work.live.go_types import reason
from direkt.work.steps import StepClock

STILL = 1.0  # s through which the counters must stand still
LATE = 12.0  # s for a second move of a counter that moved after the stop
_SETTLES = 4.0  # s for a push to end
_POLL = 0.5  # s
_BY_HAND = "switch it off by hand"


@dataclass
class DeviceEnd:
    """One device whose pushes are to end. ``wanted``: its slots that are aimed at, None: all; ``servers``: where its aimed feeds push to."""

    name: str
    driver: Driver
    clock: StepClock
    wanted: set[int] | None
    servers: frozenset[str] = frozenset()
    others: frozenset[int] = frozenset()  # slots of feeds that are not aimed at
    wipe: bool = False
    _counts: dict[int, int] = field(default_factory=dict)  # by slot, when it was looked at last
    _since: float = 0.0  # when that was

    def end(self) -> list[Off]:
        """Stops the pushes, and looks whether they are off."""
        try:
            return self._end()
        except DirektError as error:
            return [self._said(Proof.SILENT, reason(error), f"it may still push: try again with --for 10m, or switch {self.name} off by hand")]

    def _said(self, proof: Proof, text: str, advice: str = "") -> Off:
        return Off(What.PUSH, self.name, proof, text, advice)

    def _mine(self, slot: Slot) -> bool:
        """Whether a slot is aimed at: by its number, or since it pushes to where the aimed feeds go."""
        if self.wanted is None or slot.number in self.wanted:
            return True
        return slot.number not in self.others and bool(slot.server) and slot.server in self.servers

    def _end(self) -> list[Off]:
        before = self.driver.read()
        mine = [slot for slot in before.slots.values() if self._mine(slot)]
        if not mine:
            return [self._said(Proof.UNKNOWN, "it reports no push slot, so that nothing shows whether it pushes", _BY_HAND)]
        was = [slot for slot in mine if slot.state is not PushState.STOPPED]
        for slot in was:
            self.driver.push(slot.number, on=False)
        after = self._settled(before, [slot.number for slot in was])
        found = self._looked(before, after, mine, was)
        return [found, self._wiped(mine)] if self.wipe and found.proof is Proof.OFF else [found]

    def _settled(self, state: DeviceState, numbers: Sequence[int]) -> DeviceState:
        """Its state once the slots have stopped, or after some seconds."""
        begin = self.clock.now()
        while numbers:
            state = self.driver.read()
            if all(state.slots[n].state is PushState.STOPPED for n in numbers if n in state.slots):
                break
            if self.clock.now() - begin > _SETTLES:
                break
            self.clock.sleep(_POLL)
        return state

    def _looked(self, before: DeviceState, after: DeviceState, mine: Sequence[Slot], was: Sequence[Slot]) -> Off:
        numbers = [slot.number for slot in mine]
        gone = [n for n in numbers if n not in after.slots]
        if gone:
            return self._said(Proof.UNKNOWN, f"it reports slot {gone[0]} no longer", _BY_HAND)
        self._note(after, numbers)
        counting = [n for n in numbers if after.slots[n].sent_bytes or before.slots[n].sent_bytes]
        if counting:
            moved = self.moved(STILL)
            if moved and (again := self._moved_again(moved)):
                return self._said(Proof.ON, f"slot {again} says {after.slots[again].state}, and its counter goes on: it still sends", _BY_HAND)
        still = [n for n in numbers if after.slots[n].state not in (PushState.STOPPED, PushState.UNKNOWN)]
        if still:
            return self._said(Proof.ON, f"slot {still[0]} still says {after.slots[still[0]].state}", _BY_HAND)
        silent = [n for n in numbers if after.slots[n].state is PushState.UNKNOWN]
        moving_before = [n for n in silent if after.slots[n].sent_bytes > before.slots[n].sent_bytes > 0]
        if silent and not moving_before:
            return self._said(Proof.UNKNOWN, f"it does not report whether slot {silent[0]} pushes", _BY_HAND)
        stands = f"its counter{'s stand' if len(counting) > 1 else ' stands'} still" if counting else ""
        if silent:
            return self._said(Proof.OFF, f"it was sent a stop, and {stands}")
        text = "its push is off, it says so" if was else "it says that it does not push"
        return self._said(Proof.OFF, text + (f", and {stands}" if stands else ""))

    def _note(self, state: DeviceState, numbers: Sequence[int]) -> None:
        self._counts = {n: state.slots[n].sent_bytes for n in numbers if n in state.slots}
        self._since = self.clock.now()

    def moved(self, still: float) -> list[int]:
        """The slots whose counters moved since they were looked at last, at least ``still`` s ago. Raises DeviceError."""
        left = still - (self.clock.now() - self._since)
        if left > 0:
            self.clock.sleep(left)
        later = self.driver.read().slots
        out = [n for n, count in self._counts.items() if n in later and later[n].sent_bytes > count]
        self._counts = {n: later[n].sent_bytes for n in self._counts if n in later}
        self._since = self.clock.now()
        return out

    def _moved_again(self, moved: list[int]) -> int | None:
        """The slot that goes on. What moved once may have been late."""
        begin = self.clock.now()
        while self.clock.now() - begin < LATE:
            again = [n for n in self.moved(STILL) if n in moved]
            if again:
                return again[0]
        return None

    def last_look(self) -> Off | None:
        """A last look at its counters, behind all the rest; None: they stand still."""
        if not any(self._counts.values()):
            return None
        try:
            moved = self.moved(0.0)
            again = self._moved_again(moved) if moved else None
        except DirektError as error:
            return self._said(Proof.SILENT, f"it said that it is off; then: {reason(error)}", _BY_HAND)
        if again is None:
            return None
        return self._said(Proof.ON, f"it says stopped, and slot {again} still sends: its counter goes on", _BY_HAND)

    def _wiped(self, slots: Sequence[Slot]) -> Off:
        def key(proof: Proof, text: str) -> Off:
            return Off(What.KEY, self.name, proof, text, "" if proof is Proof.OFF else "take it out on the device's page")

        try:
            for slot in slots:
                if slot.key_length:
                    self.driver.write_slot(slot.number, slot.channel, "", Secret(""))
            now = self.driver.read().slots
        except DirektError as error:
            return key(Proof.SILENT, f"the key may still be in it: {reason(error)}")
        kept = [s.number for s in slots if s.number in now and now[s.number].key_length]
        return key(Proof.ON, f"slot {kept[0]} still holds a key") if kept else key(Proof.OFF, "no key is left in it")
