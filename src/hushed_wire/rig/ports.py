"""The outputs of bridges: what a chip was sent, as the levels that it drives, piece by piece.

Strategy: an expander with registers is read as columns, too. Where each byte of a transfer goes follows from the register that the transfer
names and from IOCON, so the bytes between two changes of IOCON are looked up at once. What a port was told last stays. A pin that was made
an input is not driven; whether pins are outputs before anything was said of it, nobody knows, so they are taken for such.

Source: MCP23017/MCP23S17 datasheet, DS20001952: Tables 3-1 and 3-2 (addresses in both banks), 3.2.1 (byte mode and sequential mode), 3.5.1
(IODIR: 1 is an input), 3.5.6 (IOCON: bit 7 BANK, bit 5 SEQOP), 3.5.10 and 3.5.11 (GPIO and OLAT: writing either sets the latches).
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from ..bus.spi import SpiDecoded
from ..bus.words import Columns
from ..part import Part
from ..trace import Trace
from .schema import Bridge, pins_of

__all__ = ["Ports", "States", "output_block", "serial_states"]

IODIR, IOCON, GPIO, OLAT = 0x0, 0x5, 0x9, 0xA  # numbers of registers within a port
REGISTERS = 11  # of a port
BANK, BYTE_MODE = 0x80, 0x20  # of IOCON


@dataclass(eq=False)
class States(Columns):
    """What a bridge drives. time: (n,) ticks. level: (n,) bits of its outputs from each on. undriven: (n,) outputs that are none."""

    time: NDArray[np.int64]
    level: NDArray[np.int64]
    undriven: NDArray[np.int64]

    @classmethod
    def driven(cls, time: NDArray[np.int64], level: NDArray[np.int64]) -> States:
        """Outputs that can be nothing else."""
        return cls(time, level, np.zeros(len(level), np.int64))

    @classmethod
    def none(cls) -> States:
        """Nothing was sent."""
        return cls.driven(np.empty(0, np.int64), np.empty(0, np.int64))


class Ports:
    """The outputs of an expander, from the bytes of its transactions, piece by piece; what a port was told last stays."""

    def __init__(self, part: Part) -> None:
        self.registers = "iodir-a" in part.by_name
        self.held = [0, 0]  # latches of both ports
        self.inputs = [0, 0]  # pins that are inputs
        self.control = 0  # IOCON

    def feed(self, value: NDArray[np.uint8], time: NDArray[np.int64], owner: NDArray[np.int64]) -> States:
        """value, time: (n,) bytes that reached it. owner: (n,) which transaction each came in."""
        if not self.registers:
            return States.driven(time, value.astype(np.int64))
        if not len(value):
            return States.none()
        start = np.flatnonzero(np.append(True, owner[1:] != owner[:-1]))
        first = np.repeat(value[start].astype(np.int64), np.diff(np.append(start, len(value))))
        step = np.arange(len(value)) - np.repeat(start, np.diff(np.append(start, len(value)))) - 1  # -1 at the register's number
        out, at = [], 0
        while at < len(value):  # from one change of IOCON to the next: drivers change it once, if at all
            here = slice(at, None)
            port, register = self._places(first[here], step[here])
            changed = np.flatnonzero(
                (register == IOCON) & (step[here] >= 0) & (((value[here] ^ self.control) & (BANK | BYTE_MODE)) != 0)
            )
            # The transfer that changes it goes on as it began: the datasheet does not say otherwise.
            end = len(value) if not len(changed) else at + int(changed[0]) + 1
            while end < len(value) and owner[end] == owner[end - 1]:
                end += 1
            count = end - at
            if len(changed):  # the last of several in one transfer counts
                self.control = int(value[at + int(np.flatnonzero((register[:count] == IOCON) & (step[at:end] >= 0))[-1])])
            out.append(
                self._written(value[at:end], time[at:end], port[:count], np.where(step[at:end] >= 0, register[:count], -1))
            )
            at = end
        return States.join(out)

    def _places(self, first: NDArray[np.int64], step: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Port and register that each byte goes to; register -1 where there is none."""
        banked = bool(self.control & BANK)
        if self.control & BYTE_MODE:  # the same register again and again; with both ports side by side, its pair in turn
            address = first if banked else first ^ (step & 1)
        else:
            address = (first + step) % (0x1B if banked else 2 * REGISTERS)
        port, register = (address >> 4, address & 15) if banked else (address & 1, address >> 1)
        return port, np.where((register < REGISTERS) & (port < 2), register, -1)

    def _written(
        self, value: NDArray[np.uint8], time: NDArray[np.int64], port: NDArray[np.int64], register: NDArray[np.int64]
    ) -> States:
        """The outputs after each byte that changes latches or directions."""
        keep = np.isin(register, (IODIR, GPIO, OLAT))
        value, time, port, direction = value[keep].astype(np.int64), time[keep], port[keep], register[keep] == IODIR
        out = States(time, np.zeros(len(time), np.int64), np.zeros(len(time), np.int64))
        for side in (0, 1):
            for plane, held, mine in (
                (out.level, self.held, ~direction & (port == side)),
                (out.undriven, self.inputs, direction & (port == side)),
            ):
                last = np.maximum.accumulate(np.where(mine, np.arange(len(mine)), -1))
                own = np.where(last >= 0, value[np.maximum(last, 0)], held[side]) if len(mine) else value
                plane |= own << (8 * side)
                held[side] = int(own[-1]) if len(own) else held[side]
        return out


def serial_states(found: SpiDecoded, bridge: Bridge, part: Part, ports: Ports) -> States:
    """The same on SPI: loads of a chain, or an expander's opcode, register and values."""
    words, table = found.words, found.transactions
    lengths = table.last - table.first
    if "load" in part.framings:  # a chain whose latch is the select: it takes over what came when the select ends
        whole = lengths >= bridge.count
        last = table.last[whole]
        value = np.zeros(len(last), np.int64)
        for k in range(bridge.count):
            value |= words.value[last - 1 - k].astype(np.int64) << (8 * k)
        return States.driven(table.end[whole], value)
    owner = np.repeat(np.arange(len(lengths)), lengths)
    position = np.arange(len(owner)) - table.first[owner]
    opcode = words.value[table.first[owner]]
    mine = (opcode >> 1 == 0x20 | (bridge.address or 0)) & (opcode & 1 == 0) & (position > 0)
    return ports.feed(words.value[mine].astype(np.uint8), words.effect[mine], owner[mine])


def output_block(bridge: Bridge, part: Part, states: States, end: int, tick: Fraction, sample: int, start: int | None) -> Trace:
    """A bridge's outputs as a trace of roles, unknown before the first write and where nothing drives them.

    start: tick of the capture's own, unless this is a later part of it.
    """
    pins = pins_of(part, bridge.count)
    names = tuple(bridge.drives)
    packed, unknown = np.zeros(len(states), np.uint64), np.zeros(len(states), np.uint64)
    for number, pin in enumerate(bridge.drives.values()):
        nothing = (states.undriven >> pins[pin] & 1).astype(np.uint64)
        unknown |= nothing << np.uint64(number)
        packed |= ((states.level >> pins[pin] & 1).astype(np.uint64) & ~nothing) << np.uint64(number)
    when = states.time.astype(np.int64)
    if start is not None:
        when, packed = np.append(start, when), np.append(np.uint64(0), packed)
        unknown = np.append(np.uint64((1 << len(names)) - 1), unknown)
    keep = np.append(np.diff(when) > 0, True)[: len(when)]  # of two writes at one moment the later one stays
    end = max(end, int(when[-1]) + 1) if len(when) else end
    return Trace(names, when[keep], packed[keep], end, tick, unknown[keep], sample)
