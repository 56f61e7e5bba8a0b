"""From wires to what each part is sent, on every bus and through bridges of any depth: the way back from `moves`.

Strategy: a bus is decoded once for each select or address on it. What reaches a bridge becomes the levels of its outputs over
time, a trace like any other (unknown before the first write), and is decoded as the bus that the outputs make; lines that go there
directly are beside it. What reaches a part becomes its payload, one for each chip behind its glass.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..bus import i2c, matrix, parallel, shift, spi
from ..bus.i2c_address import addresses
from ..bus.nibbles import Nibbles
from ..bus.words import START, STOP, Transactions, Words
from ..errors import HushedError
from ..part import FRAMINGS, Part, Payload, load
from ..part.scanned import shape_of, to_bytes
from ..part.wrap import WRAPS
from ..sequence import Target
from ..trace import Trace
from ..trace.merge import merge
from .channel import Channel, runs
from .ports import Ports, States, output_block, serial_states
from .schema import Bridge, Bus, Device, Rig, behind, lamps_of

__all__ = ["parallel_payload", "payloads", "rig_lines", "spi_payload"]

Payloads = dict[str, list[Payload]]
Devices = list[tuple[Device, Target]]
Bridges = list[tuple[Bridge, Part]]


def rig_lines(trace: Trace, bus: Bus) -> dict[str, int]:
    """Line number by role; raises HushedError where the capture lacks a line that the rig names."""
    out = {}
    for role, line in bus.lines.items():
        try:
            out[role] = trace.index(line)
        except HushedError as error:
            if role in ("reset", "backlight"):
                continue  # what was not captured is not needed to decode
            has = ", ".join(trace.names[:16])
            what = f"the rig's bus '{bus.name}' has {role.upper()} on line '{line}', which the capture lacks"
            raise HushedError(what, remedy=f"the capture has {has}; correct the rig, or say --line {role}=LINE") from error
    return out


Driven = dict[str, States]  # by bridge
Lights = dict[str, tuple[Trace, int]]  # by device, the trace and line that switch its backlight


def payloads(
    trace: Trace,
    rig: Rig,
    bus: Bus,
    lights: Lights | None = None,
    heard: list[Channel] | None = None,
    scans: dict[str, matrix.Scan] | None = None,
    driven: Driven | None = None,
) -> Payloads:
    """What each device of a bus, and behind its bridges, was sent.

    lights: filled in where a line switches a backlight. heard: the channels that were decoded on the way are added to it.
    scans: filled in with how scanned displays are driven. driven: filled in with what each bridge drives.
    """
    way = _Way(
        rig,
        {} if lights is None else lights,
        [] if heard is None else heard,
        {} if scans is None else scans,
        {} if driven is None else driven,
        trace,
        bus.lines,
    )
    return way.followed(trace, bus, rig_lines(trace, bus), bus.name)


@dataclass
class _Way:
    """One walk along a rig's buses and bridges."""

    rig: Rig
    lights: Lights
    heard: list[Channel]
    scans: dict[str, matrix.Scan]
    driven: Driven
    root: Trace
    lines: dict[str, str]

    def followed(self, trace: Trace, bus: Bus, roles: dict[str, int], place: str) -> Payloads:
        """Everything that hangs on `place` (the bus's own name, or that of the bridge whose outputs `bus` describes)."""
        devices = [(device, self.rig.target(device)) for device in self.rig.device if device.on == place]
        bridges = [(bridge, load(bridge.part)) for bridge in self.rig.bridge if bridge.on == place]
        if "backlight" in roles:
            self.lights |= {device.name: (trace, roles["backlight"]) for device, _ in devices}
        out: Payloads = {}
        if bus.kind == "matrix":
            return self._matrix(trace, bus, roles, devices)
        states = {"i2c": self._i2c, "spi": self._spi, "parallel": self._parallel, "shift": self._shift}[bus.kind](
            trace, bus, roles, devices, bridges, out
        )
        for (bridge, part), own in zip(bridges, states, strict=True):
            self.driven[bridge.name] = own
            out |= self.followed(*self._behind(trace, roles, bridge, part, own), bridge.name)
        return out

    def _behind(
        self, trace: Trace, roles: dict[str, int], bridge: Bridge, part: Part, states: States
    ) -> tuple[Trace, Bus, dict[str, int]]:
        """A bridge's outputs, with the lines that go past it."""
        inner = output_block(bridge, part, states, trace.end, trace.tick, trace.sample, trace.start)
        if bridge.direct:
            lines = [self.root.index(self.lines[role]) for role in bridge.direct]
            inner = merge(inner, self.root.select(lines, tuple(bridge.direct)))
        if "enable" in roles and "enable" not in inner.names and behind(bridge).kind == "matrix":
            inner = merge(inner, trace.select([roles["enable"]], ("enable",)))  # registers that drive nothing light nothing
        return inner, behind(bridge), {role: number for number, role in enumerate(inner.names)}

    def _matrix(self, trace: Trace, bus: Bus, roles: dict[str, int], devices: Devices) -> Payloads:
        """Pictures of scanned displays; whatever was shown for one frame or more counts as one."""
        out: Payloads = {}
        for device, target in devices:
            scan = matrix.decode(trace, roles, lamps_of(target, bus))
            self.scans[device.name] = scan
            lit = scan.lit()
            rows, columns = shape_of(target.panel)
            lit = lit[:, :rows, :columns]
            lit = np.pad(lit, ((0, 0), (0, rows - lit.shape[1]), (0, columns - lit.shape[2])))
            first = np.flatnonzero(np.append(True, (lit[1:] != lit[:-1]).any(axis=(1, 2))))
            raw = [to_bytes(lit[frame], target.panel).astype(np.uint8) for frame in first.tolist()]
            size = len(raw[0]) if raw else 1
            value = np.concatenate([np.empty(0, np.uint8), *raw])
            start = np.repeat(scan.frames[first], size)
            end = np.repeat(scan.frames[np.append(first[1:], len(lit))] - 1, size)  # with its last tick, ahead of the next one
            owner = np.repeat(np.arange(len(first)), size)
            out[device.name] = [Payload(value, np.ones(len(value), bool), start, start, start, owner)]
            words = Words(value, start, end, start, np.ones(len(value), bool), np.zeros(len(value), bool))
            each = np.arange(len(first)) * size
            kinds = np.ones(len(first), np.uint8)
            table = Transactions(each, each + size, start[each], end[each], kinds * START, kinds * STOP, kinds * 0)
            self.heard.append(Channel(bus.name, "matrix", "", words, table))
        return out

    def _i2c(
        self, trace: Trace, bus: Bus, roles: dict[str, int], devices: Devices, bridges: Bridges, out: Payloads
    ) -> list[States]:
        decoded = i2c.decode(trace, roles["scl"], roles["sda"])
        table = decoded.transactions()
        who = addresses(decoded.words, table)
        self.heard.append(Channel(bus.name, "i2c", "", decoded.words, table, who=who))

        def of(address: int | None) -> NDArray[np.int64]:
            return np.flatnonzero((who.address == address) & ~who.read & who.answered)

        for device, target in devices:
            if target.framing in FRAMINGS:
                out[device.name] = [FRAMINGS[target.framing](decoded.words, table, who.first, of(device.address))]
        states = []
        for bridge, part in bridges:
            sent = FRAMINGS["i2c-plain"](decoded.words, table, who.first, of(bridge.address))
            states.append(Ports(part).feed(sent.value, sent.time, sent.transaction))
        return states

    def _spi(
        self, trace: Trace, bus: Bus, roles: dict[str, int], devices: Devices, bridges: Bridges, out: Payloads
    ) -> list[States]:
        usual = next((role for role in ("cs", "cs1") if role in roles), "")
        known: dict[tuple[str, int], spi.SpiDecoded] = {}

        def of(role: str, bits: int) -> spi.SpiDecoded:
            role = role or usual
            if (role, bits) not in known:
                shape, select = _shape(bus, bits), roles.get(role)
                found = known[role, bits] = spi.decode(
                    trace, roles["sck"], roles["mosi"], shape, select, roles.get("dc"), roles.get("miso")
                )
                self.heard.append(
                    Channel(bus.name, "spi", role, found.words, found.transactions, bits, found.dc, answers=found.answers)
                )
            return known[role, bits]

        for device, target in devices:
            bits = WRAPS[target.framing].bits
            out[device.name] = [spi_payload(of(device.select, bits), bits, target)]
        states = [serial_states(of(bridge.select, 8), bridge, part, Ports(part)) for bridge, part in bridges]
        selects: list[str] = [role for role in ("cs", "cs1", "cs2", "cs3") if role in roles]
        for role in selects or [""]:
            if role not in {name for name, _ in known}:
                of(role, bus.bits or 8)  # nothing of the rig hangs there, but somebody speaks
        return states

    def _parallel(
        self, trace: Trace, bus: Bus, roles: dict[str, int], devices: Devices, bridges: Bridges, out: Payloads
    ) -> list[States]:
        found = parallel.decode(trace, roles, 1 if bus.select == "high" else 0)
        table = runs(found.words, found.data, found.read, found.chips)
        nibbles, bits = parallel.data_lines(roles)
        words = replace(found.words, value=found.words.value >> 4) if nibbles else found.words
        self.heard.append(
            Channel(
                bus.name,
                "parallel",
                "",
                words,
                table,
                bits,
                found.data if "rs" in roles else None,
                found.read,
                chips=found.chips if "cs1" in roles else None,
            )
        )
        for device, target in devices:
            out[device.name] = _parallel_payloads(found, target)
        return [States.driven(found.words.effect, found.words.value.astype(np.int64)) for _ in bridges]

    def _shift(
        self, trace: Trace, bus: Bus, roles: dict[str, int], devices: Devices, bridges: Bridges, out: Payloads
    ) -> list[States]:
        counts = [bridge.count for bridge, _ in bridges] or [max(1, shift.chain_length(trace, roles) // 8)]
        states = []
        for number, count in enumerate(counts):
            words = shift.decode(trace, roles, shift.Chain(8 * count, 1, bus.order == "msb"))
            if number == 0:
                each = np.arange(len(words))
                self.heard.append(Channel(bus.name, "shift", "", words, runs(words, each), 8 * count))
            states.append(States.driven(words.effect, words.value.astype(np.int64)))
        return states[: len(bridges)]


# ---- parts on a serial or parallel bus --------------------------------------------------------------------------------------


def _shape(bus: Bus, bits: int) -> spi.Shape:
    return spi.Shape(bits, 1, 0, 0, bus.mode, bus.order == "msb", 1 if bus.select == "high" else 0)


def spi_payload(found: spi.SpiDecoded, bits: int, target: Target) -> Payload:
    words, table = found.words, found.transactions
    owner = np.repeat(np.arange(len(table)), table.last - table.first)
    if target.framing == "register-pairs":
        # The last word of a load stays in the part that is nearest to the driver.
        behind = table.last[owner] - 1 - np.arange(len(owner))
        mine = behind == target.position
        value = np.stack([words.value[mine] >> 8 & 0xFF, words.value[mine] & 0xFF], axis=1).reshape(-1)
        twice = np.repeat(np.flatnonzero(mine), 2)
        latched = np.repeat(table.end[owner[mine]], 2)
        return Payload(
            value.astype(np.uint8), np.zeros(len(value), bool), latched, words.start[twice], words.end[twice], owner[twice]
        )
    data = words.value >> 8 & 1 == 1 if bits == 9 else np.zeros(len(words), bool) if found.dc is None else found.dc == 1
    return Payload((words.value & 0xFF).astype(np.uint8), data, words.effect, words.start, words.end, owner)


def _parallel_payloads(found: parallel.ParallelDecoded, target: Target) -> list[Payload]:
    return [parallel_payload(found, target, chip, Nibbles()) for chip in range(target.chips)]


def parallel_payload(found: parallel.ParallelDecoded, target: Target, chip: int, nibbles: Nibbles) -> Payload:
    """What one chip behind a glass was sent. nibbles: that of this chip, where halves of bytes may wait."""
    mine = ~found.read & ~found.words.unclear & ((found.chips == 0) | (found.chips >> chip & 1 == 1))
    own, own_data = found.words.take(mine), found.data[mine] == 1
    if target.framing == "nibbles":
        own, own_data = nibbles.feed(own, own_data)
    value = (own.value & 0xFF).astype(np.uint8)
    return Payload(value, own_data, own.effect, own.start, own.end, np.zeros(len(value), np.int64))
