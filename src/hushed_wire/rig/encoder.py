"""Steps to what moves on a bus: words, the rests between them, through as many bridges as the rig says.

Strategy: a device's transfers become moves on what it hangs on. Where that is a bridge, the moves are encoded to the bridge's
outputs as a trace of their own, and every state of these outputs becomes one write to the bridge: moves on the next bus out. So a
character display behind an expander is driven by the same parallel encoder as one on a port. `wires` makes the trace of moves. The twin is `decode`.
Minimum times of the parts are kept with a margin; `haste` shortens them on purpose.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..bus.base import BUSES, kind_with, select_of
from ..bus.moves import REST, TICK, Move
from ..errors import HushedError
from ..part import Part
from ..part.expander import as_outputs, port_writes
from ..part.output_pins import pins_of
from ..part.wrap import WRAPS, Send, Transfer, transfers
from ..sequence import Step, Target
from ..sequence.listing import items_of
from ..sequence.target import MARGIN
from ..units import parse
from .schema import Bridge, Bus, Device, Rig, behind
from .wires import encode_moves

__all__ = ["RigEncoder", "clocks_a_write"]

LOOK = Fraction(1, 10)  # for which a picture without a wait is scanned


Columns = tuple[NDArray[Any], NDArray[Any], NDArray[Any]]  # words, data flags, rests behind them

BUSY_SHARE = Fraction(4, 5)  # of what is waited, for which a display that is rehearsed is busy


class RigEncoder:
    """Turns steps into moves on the buses of a rig, keeping what drivers and bridges keep between steps."""

    def __init__(self, rig: Rig, haste: Fraction = Fraction(1)) -> None:
        self.rig, self.haste = rig, haste
        self.targets = {device.name: rig.target(device) for device in rig.device}
        self.devices = {device.name: device for device in rig.device}
        self.four_bits: set[str] = set()  # devices whose interface has been set to four bits
        self.ports: dict[str, int] = {bridge.name: self._at_rest(bridge) for bridge in rig.bridge}
        self.rest = REST  # that the next step has to keep
        self.owed: dict[str, int] = {}  # ticks of rest that a bridge's outputs still have to keep
        self.straight: dict[str, tuple[tuple[str, bool], ...]] = {}  # levels of the lines that go past a bridge
        self.begun: set[str] = set()  # bridges whose pins have been made outputs

    def _at_rest(self, bridge: Bridge) -> int:
        """The outputs before anything is sent: the backlight on, all else low."""
        pins = pins_of(bridge.chip, bridge.count)
        return 1 << pins[bridge.drives["backlight"]] if "backlight" in bridge.drives else 0

    def moves(self, steps: list[Step], bus: Bus) -> Iterator[Move]:
        """The moves on a bus; steps of devices on other buses are refused."""
        for step in _held(steps, self.targets):
            target, device = self.targets[step.device], self.devices[step.device]
            root, bridges = self.rig.way_to(device)
            if root.name != bus.name:
                raise HushedError(
                    f"device '{device.name}' is not on bus '{bus.name}'", where=step.place, remedy="rehearse its own rig"
                )
            own = list(self._direct(step, target, device, bridges[-1] if bridges else None, bus))
            if own:  # a step of levels only comes when the rest is over, too
                own[0].gap += self._ticks(self.rest)
                self.rest = REST if step.sends else Fraction(0)
            for bridge in reversed(bridges):
                own = list(self._lifted(own, bridge, bus))
            yield from own
            # On a parallel bus each word has its rest behind it already.
            busy = Fraction(0) if BUSES[target.bus_kind].each_rests else step.takes * MARGIN
            if WRAPS[target.framing].pictures and step.sends:
                self.rest = Fraction(0)  # a scan goes on until the next picture
            else:
                self.rest += max(step.wait, busy) * self.haste

    @staticmethod
    def _ticks(seconds: Fraction) -> int:
        return int(seconds / TICK)

    def _direct(self, step: Step, target: Target, device: Device, bridge: Bridge | None, bus: Bus) -> Iterator[Move]:
        """The moves of one step on what its device hangs on directly."""
        if step.levels:
            roles = set(bridge.drives) if bridge else set(bus.lines)
            for role, _ in step.levels:
                if role not in roles and role not in bus.lines:
                    place = f"bridge '{bridge.name}' drives" if bridge else f"bus '{bus.name}' has"
                    raise HushedError(
                        f"{place} no line '{role}'", where=step.place, remedy=f"add {role} to it in the rig, or take the step out"
                    )
            yield Move(device.name, levels=step.levels)
        room = bus.driver.longest_write if bus.driver.longest_write and bridge is None else 1 << 30
        if WRAPS[target.framing].pictures:
            raw = np.frombuffer(step.sends[-1].raw if step.sends else b"", np.uint8).astype(np.uint32)
            if len(raw):
                yield Move(device.name, raw, np.ones(len(raw), bool), lasts=self._ticks(step.wait))
            return
        moved = target.transfers(step.sends, device.address or 0, room)
        for number, transfer in enumerate(moved):
            words, data, pauses = self._words(step, target, transfer)
            select = select_of(bridge.drives if bridge is not None else bus.lines, device.select)
            bits = WRAPS[target.framing].bits
            yield Move(
                device.name,
                words,
                data,
                0 if number == 0 else self._ticks(REST),
                pauses,
                bits,
                transfer.chips,
                select,
                device.address,
                busy=self._says_busy(target.part, step) if number == len(moved) - 1 else 0,
            )

    def _says_busy(self, part: Part, step: Step) -> int:
        """Ticks for which a part that is there says behind a step that it is busy: less than what drivers wait for it."""
        if part.busy is None:
            return 0
        found = [part.command[item.kind] for item in items_of(part, step.sends) if item.is_command][-1:]
        if not found or not found[0].busy:
            return 0
        usual = part.waits.get("refresh", "") if found[0].effect == "refresh" else found[0].takes
        return self._ticks(parse(usual or "1ms", "s") * BUSY_SHARE)

    def _words(self, step: Step, target: Target, transfer: Transfer) -> Columns:
        raw = np.frombuffer(b"".join(piece for _, piece in transfer.pieces), np.uint8).astype(np.uint32)
        data = np.repeat([is_data for is_data, _ in transfer.pieces], [len(piece) for _, piece in transfer.pieces]).astype(bool)
        bits = WRAPS[target.framing].bits
        if bits == 16:
            pairs = raw.reshape(-1, 2)
            marked = data[::2] if WRAPS[target.framing].marked else np.zeros(len(pairs), bool)
            return (pairs[:, 0] << 8 | pairs[:, 1]).astype(np.uint32), marked, np.zeros(len(pairs), np.int64)
        slow = target.part.waits.get("data", "")
        behind_data = self._ticks(parse(slow, "s") * MARGIN * self.haste) if slow else 0
        pause = np.where(data, behind_data, self._busy(target.part, step, len(raw)))
        if bits == 9:
            return raw | data.astype(np.uint32) << 8, data, pause
        if bits == 4 and target.part.halves is None:  # of a part that nobody knows each half is a word of its own
            return raw << 4 & 0xF0, data, pause
        if bits == 4:
            return self._nibbles(target, raw, data, pause)
        return raw, data, pause

    def _busy(self, part: Part, step: Step, count: int) -> NDArray[Any]:
        """Ticks that a part is busy behind each word of a step: with the command that the word ends."""
        out = np.zeros(count, np.int64)
        for item in items_of(part, step.sends):
            takes = part.command[item.kind].takes if item.is_command else ""
            last = item.first + len(item.raw) - 1
            if takes and last < count:
                out[last] = self._ticks(parse(takes, "s") * MARGIN * self.haste)
        return out

    def _nibbles(self, target: Target, raw: NDArray[Any], data: NDArray[Any], pause: NDArray[Any]) -> Columns:
        """Bytes as nibbles on d4 to d7: one each while the part takes whole words, two behind the command that switches it to halves."""
        switch = target.part.halves
        assert switch is not None  # parts that are spoken to by nibbles say it
        if target.name not in self.four_bits:
            to_four = np.flatnonzero((raw >> 4 == switch.halves) & ~data)
            whole = int(to_four[0]) + 1 if len(to_four) else len(raw)
            if len(to_four):
                self.four_bits.add(target.name)
            head = raw[:whole] & 0xF0, data[:whole], pause[:whole]
            if whole == len(raw):
                return head
            tail = self._nibbles(target, raw[whole:], data[whole:], pause[whole:])
            return np.concatenate([head[0], tail[0]]), np.concatenate([head[1], tail[1]]), np.concatenate([head[2], tail[2]])
        if ((raw >> 4 == switch.whole) & ~data).any():  # back to eight bits
            self.four_bits.discard(target.name)
        both = np.stack([raw & 0xF0, raw << 4 & 0xF0], axis=1).reshape(-1)
        pauses = np.stack([np.zeros(len(raw), np.int64), pause], axis=1).reshape(-1)
        return both, np.repeat(data, 2), pauses

    # ---- bridges ----

    def _lifted(self, moves: list[Move], bridge: Bridge, bus: Bus) -> Iterator[Move]:
        """Moves on what a bridge drives, as moves on what the bridge hangs on."""
        part = bridge.chip
        pins = pins_of(part, bridge.count)
        where = {role: pins[pin] for role, pin in bridge.drives.items()}
        framing = part.framings[0]
        outer = self.rig.bridge_named(bridge.on)
        if bridge.name not in self.begun:
            self.begun.add(bridge.name)
            if as_outputs(part):  # its pins are inputs after a reset
                yield from self._written(bridge, framing, part, as_outputs(part), 0, outer, bus)
        every = [*(role for role in where if role not in ("reset", "backlight")), *bridge.direct]
        roles = {role: number for number, role in enumerate(every)}
        took = self._one_write(bridge, outer, bus)
        for move in moves:
            beside = tuple(entry for entry in move.levels if entry[0] not in where)
            owed = self.owed.pop(bridge.name, 0) + move.gap
            if beside:
                yield Move(move.device, gap=owed, levels=beside)
                owed = 0
            state = self.ports[bridge.name]
            for role, level in move.levels:
                if role in where:
                    state = state & ~(1 << where[role]) | level << where[role]
            states, gaps, rest = [state], [0], 0
            straight: list[tuple[tuple[str, bool], ...]] = []
            if len(move.words):
                inner = behind(bridge)
                target = self.targets.get(move.device)
                trace = encode_moves(
                    [_without_rest(move)], inner, self._part(move.device), roles, tuple(roles), lead=1, target=target
                )
                fixed = state & ~sum(1 << where[role] for role in roles if role in where)
                spread = np.full(len(trace.levels), fixed, np.int64)
                for role, number in roles.items():
                    if role in where:
                        spread |= (trace.levels.astype(np.int64) >> number & 1) << where[role]
                states, gaps = spread.tolist(), [0, *np.diff(trace.times).tolist()]
                rest = trace.end - int(trace.times[-1])
                straight = [
                    tuple((role, bool(level >> roles[role] & 1)) for role in bridge.direct) for level in trace.levels.tolist()
                ]
            for number, (state, gap) in enumerate(zip(states, gaps, strict=True)):
                owed += gap
                if bridge.direct and straight and (now := straight[number]) != self.straight.get(bridge.name):
                    changed = tuple(set(now) - set(self.straight.get(bridge.name, ())))
                    self.straight[bridge.name] = now
                    yield Move(move.device, gap=owed, levels=tuple(sorted(changed)))
                    owed = 0
                if state == self.ports[bridge.name]:
                    continue
                sends = port_writes(part, state, bridge.count, self.ports[bridge.name])
                self.ports[bridge.name] = state
                yield from self._written(bridge, framing, part, sends, max(self._ticks(REST), owed - took), outer, bus)
                owed = 0
            self.owed[bridge.name] = owed + rest

    def _part(self, name: str) -> Part:
        """The part of a device or bridge."""
        bridge = self.rig.bridge_named(name)
        return bridge.chip if bridge is not None else self.targets[name].part

    def port_moves(self, name: str, state: int, bus: Bus) -> list[Move]:
        """The moves that put levels on all outputs of a bridge, whatever hangs on them."""
        bridge = self.rig.bridge_named(name)
        if bridge is None:
            raise HushedError(f"the rig has no bridge '{name}'", remedy="name one of its bridges")
        part, outer = bridge.chip, self.rig.bridge_named(bridge.on)
        sends = [*(as_outputs(part) if name not in self.begun else []), *port_writes(part, state, bridge.count)]
        self.begun.add(name)
        self.ports[name] = state
        own = list(self._written(bridge, part.framings[0], part, sends, 0, outer, bus))
        while outer is not None:
            own = list(self._lifted(own, outer, bus))
            outer = self.rig.bridge_named(outer.on)
        return own

    def _one_write(self, bridge: Bridge, outer: Bridge | None, bus: Bus) -> int:
        """Ticks that one write to a bridge takes at least, so that rests are not counted twice."""
        if outer is not None or not bus.clock:
            return 0
        return int(clocks_a_write(bus, bridge) / parse(bus.clock, "Hz") / TICK)

    def _written(
        self, bridge: Bridge, framing: str, part: Part, sends: list[Send], gap: int, outer: Bridge | None, bus: Bus
    ) -> Iterator[Move]:
        """Writes to a bridge as moves; each send is a transfer of its own."""
        select = select_of(outer.drives if outer is not None else bus.lines, bridge.select)
        for number, send in enumerate(sends):
            kind = kind_with(outer.drives) if outer is not None else bus.kind
            if WRAPS[framing].loads and BUSES[kind].transfers:  # a chain of any length under one select, byte by byte
                word, bits = np.frombuffer(send.raw, np.uint8).astype(np.uint32), 8
            elif WRAPS[framing].loads:
                word = np.array([int.from_bytes(send.raw, "big")], np.uint64).astype(np.int64 if len(send.raw) > 4 else np.uint32)
                bits = 8 * len(send.raw)
            else:
                raw = transfers(framing, [send], bridge.address or 0)[0].pieces[0][1]
                word, bits = np.frombuffer(raw, np.uint8).astype(np.uint32), 8
            none = np.zeros(len(word), np.int64)
            yield Move(
                bridge.name,
                word,
                none.astype(bool),
                gap if number == 0 else self._ticks(REST),
                none,
                bits,
                0,
                select,
                bridge.address,
            )


def _held(steps: list[Step], targets: dict[str, Target]) -> Iterator[Step]:
    """Steps of scanned displays with the waits behind them: a picture is scanned while the driver waits, the last one for a while.

    What is drawn over without a wait between is never seen.
    """
    pending: Step | None = None
    for step in steps:
        if not WRAPS[targets[step.device].framing].pictures:
            yield step
        elif pending is not None and not step.sends:
            pending = msgspec.structs.replace(pending, wait=pending.wait + step.wait)
        else:
            if pending is not None and pending.wait:
                yield pending
            pending = step
    if pending is not None:
        yield msgspec.structs.replace(pending, wait=max(pending.wait, LOOK))


def _without_rest(move: Move) -> Move:
    return Move(
        move.device, move.words, move.data, 0, move.pauses, move.bits, move.chips, move.select, move.address, lasts=move.lasts
    )


def clocks_a_write(bus: Bus, bridge: Bridge) -> int:
    """The clocks that one write to a bridge takes: behind an address or opcode and a register's number, or a load of the chain."""
    kind = BUSES[bus.kind]
    registers = bridge.chip.memory.expander is not None
    ahead = int(kind.addressed or registers) + int(registers)
    return (
        kind.bit_times * (max(bridge.count, bridge.chip.memory.ports) + ahead) + 2 * int(kind.addressed)
        if kind.bit_times > 1
        else 1
    )
