"""Steps to what moves on a bus: words, the rests between them, through as many bridges as the rig says.

Strategy: a device's transfers become moves on what it hangs on. Where that is a bridge, the moves are encoded to the bridge's
outputs as a trace of their own, and every state of these outputs becomes one write to the bridge: moves on the next bus out. So a
character display behind an expander is driven by the same parallel encoder as one on a port. Minimum times of the parts are kept
with a margin; `haste` shortens them on purpose.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..bus import matrix, parallel, shift, spi
from ..errors import HushedError
from ..part import Part, load
from ..part.wrap import WRAPS, Send, Transfer, transfers
from ..sequence import Step, Target
from ..trace import Trace
from ..trace.model import word_type
from ..units import parse
from .schema import Bridge, Bus, Device, Rig, behind, kind_of, lamps_of, pins_of

__all__ = ["REST", "TICK", "Move", "Mover", "encode_moves"]

TICK = Fraction(1, 10**9)
REST = Fraction(20, 10**6)  # a driver's pause between two transfers
LOOK = Fraction(1, 10)  # for which a picture without a wait is scanned
MARGIN = Fraction(5, 4)  # on the parts' minimum times
IDLE_HIGH = ("reset", "backlight", "enable")  # lines beside a bus that rest high; others as they are first set
REFRESH = Fraction(100)  # frames a second of scanned LEDs, where nothing else is said
USUAL = {"spi": Fraction(1_000_000), "shift": Fraction(1_000_000)}


Columns = tuple[NDArray[Any], NDArray[Any], NDArray[Any]]  # words, data flags, rests behind them


@dataclass
class Move:
    """What a bus moves in one go. words: (n,) as the bus has them. data: (n,) level of D/C or RS. gap: ticks of rest ahead.

    pauses: (n,) ticks of rest behind each word. bits: of a word. device: whom it is for. levels: lines beside the bus that are
    set ahead of it (a move may be nothing else).
    """

    device: str
    words: NDArray[np.uint32] = field(default_factory=lambda: np.empty(0, np.uint32))
    data: NDArray[np.bool_] = field(default_factory=lambda: np.empty(0, bool))
    gap: int = 0
    pauses: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    bits: int = 8
    chips: int = 0
    select: str = ""
    address: int | None = None
    levels: tuple[tuple[str, bool], ...] = ()
    lasts: int = 0  # ticks for which a scanned display shows it


class Mover:
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
        pins = pins_of(load(bridge.part), bridge.count)
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
            busy = Fraction(0) if target.bus_kind == "parallel" else step.takes * Fraction(11, 10)
            if target.framing == "scan" and step.sends:
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
        if target.framing == "scan":
            raw = np.frombuffer(step.sends[-1].raw if step.sends else b"", np.uint8).astype(np.uint32)
            if len(raw):
                yield Move(device.name, raw, np.ones(len(raw), bool), lasts=self._ticks(step.wait))
            return
        wrapped = transfers(target.framing, step.sends, device.address or 0, room)
        for number, plain in enumerate(wrapped):
            transfer = _in_chain(plain, target)
            words, data, pauses = self._words(step, target, transfer)
            select = device.select or _usual_select(bridge, bus)
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
            )

    def _words(self, step: Step, target: Target, transfer: Transfer) -> Columns:
        raw = np.frombuffer(b"".join(piece for _, piece in transfer.pieces), np.uint8).astype(np.uint32)
        data = np.repeat([is_data for is_data, _ in transfer.pieces], [len(piece) for _, piece in transfer.pieces]).astype(bool)
        bits = WRAPS[target.framing].bits
        if bits == 16:
            pairs = raw.reshape(-1, 2)
            return (pairs[:, 0] << 8 | pairs[:, 1]).astype(np.uint32), np.zeros(len(pairs), bool), np.zeros(len(pairs), np.int64)
        busy = self._ticks(step.takes * Fraction(11, 10) * self.haste)
        slow = target.part.waits.get("data", "")
        pause = np.where(data, self._ticks(parse(slow, "s") * Fraction(11, 10) * self.haste) if slow else 0, busy)
        if bits == 9:
            return raw | data.astype(np.uint32) << 8, data, pause
        if bits == 4:
            return self._nibbles(target, raw, data, pause)
        return raw, data, pause

    def _nibbles(self, target: Target, raw: NDArray[Any], data: NDArray[Any], pause: NDArray[Any]) -> Columns:
        """Bytes as nibbles on d4 to d7: one each while the part takes eight bits, two behind function-set width=4."""
        if target.name not in self.four_bits:
            to_four = np.flatnonzero((raw & 0xF0 == 0x20) & ~data)
            whole = int(to_four[0]) + 1 if len(to_four) else len(raw)
            if len(to_four):
                self.four_bits.add(target.name)
            head = raw[:whole] & 0xF0, data[:whole], pause[:whole]
            if whole == len(raw):
                return head
            tail = self._nibbles(target, raw[whole:], data[whole:], pause[whole:])
            return np.concatenate([head[0], tail[0]]), np.concatenate([head[1], tail[1]]), np.concatenate([head[2], tail[2]])
        if ((raw & 0xF0 == 0x30) & ~data).any():  # back to eight bits
            self.four_bits.discard(target.name)
        both = np.stack([raw & 0xF0, raw << 4 & 0xF0], axis=1).reshape(-1)
        pauses = np.stack([np.zeros(len(raw), np.int64), pause], axis=1).reshape(-1)
        return both, np.repeat(data, 2), pauses

    # ---- bridges ----

    def _lifted(self, moves: list[Move], bridge: Bridge, bus: Bus) -> Iterator[Move]:
        """Moves on what a bridge drives, as moves on what the bridge hangs on."""
        part = load(bridge.part)
        pins = pins_of(part, bridge.count)
        where = {role: pins[pin] for role, pin in bridge.drives.items()}
        framing = part.framings[0]
        outer = self.rig.bridge_named(bridge.on)
        if bridge.name not in self.begun:
            self.begun.add(bridge.name)
            if "iodir-a" in part.by_name:  # its pins are inputs after a reset
                yield from self._written(
                    bridge, framing, part, [Send(False, b"\x00\x00"), Send(False, b"\x01\x00")], 0, outer, bus
                )
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
                sends = self._port_write(part, self.ports[bridge.name], state, bridge.count)
                self.ports[bridge.name] = state
                yield from self._written(bridge, framing, part, sends, max(self._ticks(REST), owed - took), outer, bus)
                owed = 0
            self.owed[bridge.name] = owed + rest

    def _part(self, name: str) -> Part:
        """The part of a device or bridge."""
        bridge = self.rig.bridge_named(name)
        return load(bridge.part) if bridge is not None else self.targets[name].part

    def port_moves(self, name: str, state: int, bus: Bus) -> list[Move]:
        """The moves that put levels on all outputs of a bridge, whatever hangs on them."""
        bridge = self.rig.bridge_named(name)
        if bridge is None:
            raise HushedError(f"the rig has no bridge '{name}'", remedy="name one of its bridges")
        part, outer = load(bridge.part), self.rig.bridge_named(bridge.on)
        sends: list[Send] = []
        if "iodir-a" in part.by_name:
            sends = [Send(False, b"\x00\x00"), Send(False, b"\x01\x00")] if name not in self.begun else []
            sends += [Send(False, bytes([0x14, state & 0xFF])), Send(False, bytes([0x15, state >> 8 & 0xFF]))]
        else:
            sends = [Send(False, state.to_bytes(bridge.count, "big"))]
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
        bits = {"i2c": 20, "spi": 24, "shift": 8 * bridge.count}.get(bus.kind, 1)
        return int(bits / parse(bus.clock, "Hz") / TICK)

    def _port_write(self, part: Part, before: int, state: int, count: int) -> list[Send]:
        if "iodir-a" in part.by_name:
            sends = []
            for side, register in ((0, 0x14), (1, 0x15)):
                value = state >> 8 * side & 0xFF
                if value != before >> 8 * side & 0xFF:
                    sends.append(Send(False, bytes([register, value])))
            return sends or [Send(False, bytes([0x14, state & 0xFF]))]
        return [Send(False, state.to_bytes(count, "big"))]

    def _written(
        self, bridge: Bridge, framing: str, part: Part, sends: list[Send], gap: int, outer: Bridge | None, bus: Bus
    ) -> Iterator[Move]:
        """Writes to a bridge as moves; each send is a transfer of its own."""
        select = bridge.select or _usual_select(outer, bus)
        for number, send in enumerate(sends):
            kind = kind_of(set(outer.drives)) if outer is not None else bus.kind
            if framing == "load" and kind == "spi":  # a chain of any length under one select, byte by byte
                word, bits = np.frombuffer(send.raw, np.uint8).astype(np.uint32), 8
            elif framing == "load":
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
        if targets[step.device].framing != "scan":
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


def _usual_select(bridge: Bridge | None, bus: Bus) -> str:
    roles = bridge.drives if bridge is not None else bus.lines
    return next((role for role in ("cs", "cs1") if role in roles), "")


def _in_chain(transfer: Transfer, target: Target) -> Transfer:
    """A word for a part in a chain: the others get no-ops, and the word for the last of them goes first."""
    if target.chain == 1 or target.framing != "register-pairs":
        return transfer
    words = [b"\x00\x00"] * target.chain
    words[target.chain - 1 - target.position] = transfer.pieces[0][1]
    return Transfer(((False, b"".join(words)),), transfer.chips)


# ---- moves to wires ----------------------------------------------------------------------------------------------------


def _limit(part: Part, *names: str) -> Fraction:
    """The longest of some minimum times of a part, in seconds."""
    return max([parse(part.limits[name], "s") for name in names if name in part.limits] or [Fraction(0)])


def pulse_of(part: Part, bus: Bus, clock: Fraction | None = None) -> parallel.Pulse:
    """The cycle of a parallel bus: its part's minimum times with a margin, or the rig's clock where that is slower."""
    setup = max(_limit(part, "tAS", "tASU", "tDSW", "tDSU") * MARGIN, 50 * TICK)
    width = max(_limit(part, "PWEH", "tWH") * MARGIN, 100 * TICK)
    cycle = max(_limit(part, "tcycE", "tC") * MARGIN, setup + 2 * width)
    rate = clock or (parse(bus.clock, "Hz") if bus.clock else None)
    if rate:
        cycle = max(cycle, 1 / rate) if not clock else 1 / rate
        if setup + width > cycle:
            setup, width = cycle / 5, cycle * 2 / 5
    active = 1 if bus.select == "high" else 0
    ticks = [max(1, int(value / TICK)) for value in (setup, width, cycle - setup - width)]
    return parallel.Pulse(ticks[0], ticks[1], ticks[2], active)


def clock_of(part: Part, bus: Bus, clock: Fraction | None = None) -> Fraction:
    """The clock of a serial bus: as asked for, as the rig says, or what the part allows with a margin, at most a usual rate."""
    if clock or bus.clock:
        return clock or parse(bus.clock, "Hz")
    most = parse(part.limits["spi_clock"], "Hz") / MARGIN if "spi_clock" in part.limits else USUAL["spi"]
    return min(most, USUAL.get(bus.kind, most))


def encode_moves(
    moves: list[Move],
    bus: Bus,
    part: Part,
    roles: dict[str, int],
    names: tuple[str, ...],
    lead: int = 0,
    tail: int = 0,
    clock: Fraction | None = None,
    target: Target | None = None,
    direct: Sequence[str] = (),
) -> Trace:
    """The exact trace of moves on a bus that is not I2C. roles: role to line number. Lines beside the bus move as `levels` say."""
    if bus.kind == "matrix":
        assert target is not None
        return _scanned(moves, bus, target, roles, names, lead, tail, clock)
    beside = [role for role in roles if role in (*IDLE_HIGH, *direct)]
    own = {role: line for role, line in roles.items() if role not in beside}
    sizes = np.array([len(move.words) for move in moves], np.int64)
    gaps = np.array([move.gap for move in moves], np.int64)
    if bus.kind == "parallel":
        pulse = pulse_of(part, bus, clock)
        pauses = [int(move.pauses.sum()) for move in moves]
        took = sizes * pulse.cycle + np.array(pauses, np.int64)
    else:
        half = max(1, int(1 / clock_of(part, bus, clock) / TICK / 2))
        lengths = {move.bits for move in moves if len(move.words)} or {8}
        bits = max(lengths)
        if len(lengths) > 1:  # several devices: words of whole bytes are the same on the wires as their bytes
            if any(each % 8 for each in lengths):
                raise HushedError("words of nine bits and of whole bytes on one bus", remedy="rehearse one device at a time")
            moves, bits = [_in_bytes(move) for move in moves], 8
            sizes = np.array([len(move.words) for move in moves], np.int64)
        if bus.kind == "spi":
            shape = spi.Shape(bits, half, 2 * half, half, bus.mode, bus.order == "msb", 1 if bus.select == "high" else 0)
            took = np.where(sizes > 0, spi.durations(sizes, shape), 0)
        else:
            chain = shift.Chain(bits, half, bus.order == "msb")
            took = sizes * shift.duration(chain)
    start = lead + np.cumsum(gaps) + np.concatenate([[0], np.cumsum(took)[:-1]]) if len(moves) else np.empty(0, np.int64)
    end = (int(start[-1] + took[-1]) if len(moves) else lead) + tail
    busy = sizes > 0
    words = np.concatenate([np.empty(0, np.uint32), *(move.words for move in moves)])
    data = np.concatenate([np.empty(0, bool), *(move.data for move in moves)])
    if bus.kind == "parallel":
        each = np.concatenate([np.empty(0, np.int64), *(_within(move, pulse.cycle) for move in moves)])
        at = np.repeat(start, sizes) + each
        chips = np.repeat(np.array([move.chips for move in moves], np.uint8), sizes)
        trace = parallel.encode(words, data, chips, at, pulse, own, names, TICK, end)
    elif bus.kind == "spi":
        select = [move.select for move in moves if len(move.words)]
        trace = spi.encode(words, sizes[busy], start[busy], shape, own, names, TICK, end, data, select)
    else:
        number = np.concatenate([np.empty(0, np.int64), *(np.arange(len(move.words)) for move in moves)])
        trace = shift.encode(
            words.astype(np.uint64), np.repeat(start, sizes) + number * shift.duration(chain), chain, own, names, TICK, end
        )
    return _with_levels(trace, moves, start, roles, beside)


def beat_of(bus: Bus, clock: Fraction | None = None) -> matrix.Beat:
    """The scan of a display: the rig's clock is its refresh rate."""
    rate = clock or (parse(bus.clock, "Hz") if bus.clock else REFRESH)
    if not 1 <= rate <= 20_000:
        raise HushedError(f"a refresh rate of {float(rate):g} Hz", where="--clock", remedy="of scanned LEDs it is 1 Hz to 20 kHz")
    period = int(1 / rate / TICK)
    return matrix.Beat(period, max(1, min(period // 400, 20_000)), max(1, min(period // 4000, 500)))


def _scanned(
    moves: list[Move],
    bus: Bus,
    target: Target,
    roles: dict[str, int],
    names: tuple[str, ...],
    lead: int,
    tail: int,
    clock: Fraction | None,
) -> Trace:
    """Pictures as a driver scans them."""
    from ..part.scanned import from_bytes

    beat = beat_of(bus, clock)
    shown = [move for move in moves if len(move.words)]
    scans = np.array([max(1, -(-move.lasts // beat.period)) for move in shown], np.int64)
    gaps, at, start = [move.gap for move in shown], lead, []
    for gap, count in zip(gaps, scans.tolist(), strict=True):
        start.append(at + gap)
        at += gap + count * beat.period
    pictures = np.array([from_bytes(move.words.astype(np.uint8), target.panel) for move in shown])
    if not len(shown):
        pictures = np.zeros((0, target.panel.height, target.panel.width), bool)
    lamps = lamps_of(target, bus)
    return matrix.encode(pictures, np.array(start, np.int64), scans, lamps, beat, roles, names, TICK, at + tail)


def _in_bytes(move: Move) -> Move:
    """A move of longer words as one of bytes, the high one first."""
    each = move.bits // 8
    if each == 1:
        return move
    raw = move.words.astype(">u4").view(np.uint8).reshape(-1, 4)[:, 4 - each :].reshape(-1).astype(np.uint32)
    pauses = np.repeat(move.pauses, each)
    return Move(
        move.device, raw, np.repeat(move.data, each), move.gap, pauses, 8, move.chips, move.select, move.address, move.levels
    )


def _within(move: Move, cycle: int) -> NDArray[np.int64]:
    """Ticks from the start of a move to each of its words."""
    before = np.cumsum(move.pauses) - move.pauses
    return np.arange(len(move.words)) * cycle + before


def _with_levels(trace: Trace, moves: list[Move], start: NDArray[np.int64], roles: dict[str, int], beside: list[str]) -> Trace:
    """The lines beside the bus, as the moves set them; a reset that is never touched stays high, a backlight on."""
    if not beside:
        return trace
    kind = word_type(len(trace.names))
    first = {role: level for move in reversed(moves) for role, level in move.levels if role not in IDLE_HIGH}
    at, masks = [0], [sum(1 << roles[role] for role in beside if first.get(role, True))]
    for move, when in zip(moves, start.tolist(), strict=True):
        if move.levels:
            mask = masks[-1]
            for role, level in move.levels:
                mask = mask & ~(1 << roles[role]) | level << roles[role]
            at.append(when)
            masks.append(mask)
    moments = np.array(at, np.int64)
    place = np.searchsorted(trace.times, moments)
    missing = (place == len(trace.times)) | (trace.times[np.minimum(place, len(trace.times) - 1)] != moments)
    times = np.insert(trace.times, place[missing], moments[missing])
    levels = np.insert(trace.levels, place[missing], trace.levels[np.maximum(place[missing] - 1, 0)]).astype(kind)
    owner = np.searchsorted(moments, times, side="right") - 1
    levels |= np.array(masks, kind)[owner]
    keep = np.append(True, levels[1:] != levels[:-1]) & np.append(np.diff(times) > 0, True)
    return Trace(trace.names, times[keep], levels[keep], trace.end, trace.tick)
