"""The outputs of expanders and registers: what a chip was sent, as the levels that it drives, piece by piece, and back.

Strategy: an expander with registers is read as columns, too. Where each byte of a transfer goes follows from the register that the transfer
names and from the part's control register, so the bytes between two changes of that are looked up at once. What a port was told last stays. A
pin that was made an input is not driven; whether pins are outputs before anything was said of it, nobody knows, so they are taken for such.
Which registers there are is the part's description (`Expander`).
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from ..bus.words import Columns
from ..trace import Trace
from .describe import Part
from .describe_memory import Expander
from .wrap import Send

__all__ = ["Ports", "States", "as_outputs", "output_trace", "port_writes", "state_of"]


@dataclass(eq=False)
class States(Columns):
    """What a bridge drives. time: (n,) ticks. level: (n,) bits of its outputs from each on. undriven: (n,) outputs that are none.

    directed: (n,) whether the directions of its pins were ever told; of bridges that have none to tell, they are.
    """

    time: NDArray[np.int64]
    level: NDArray[np.int64]
    undriven: NDArray[np.int64]
    directed: NDArray[np.bool_]

    @classmethod
    def driven(cls, time: NDArray[np.int64], level: NDArray[np.int64]) -> States:
        """Outputs that can be nothing else."""
        return cls(time, level, np.zeros(len(level), np.int64), np.ones(len(level), bool))

    @classmethod
    def none(cls) -> States:
        """Nothing was sent."""
        return cls.driven(np.empty(0, np.int64), np.empty(0, np.int64))


class Ports:
    """The outputs of an expander, from the bytes of its transactions, piece by piece; what a port was told last stays."""

    def __init__(self, part: Part, count: int = 1) -> None:
        """count: registers of a chain."""
        self.count = count
        self.map = part.memory.expander
        self.ports = part.memory.ports
        self.taken: list[int | None] = [None] * self.ports  # what each byte of one without registers was told last
        self.held = [0, 0]  # latches of both ports
        self.inputs = [0, 0]  # pins that are inputs
        self.directed = False  # whether anything was said of directions
        self.control = 0  # IOCON

    def feed(self, value: NDArray[np.uint8], time: NDArray[np.int64], owner: NDArray[np.int64]) -> States:
        """value, time: (n,) bytes that reached it, of a chain those of the last register first. owner: (n,) which transaction each came in."""
        if self.map is None and self.ports > 1:
            return self._in_turn(value, time, owner)
        if self.map is None:
            whole = value[: len(value) // self.count * self.count].reshape(-1, self.count).astype(np.int64)
            places = 8 * np.arange(self.count - 1, -1, -1)
            return States.driven(time[self.count - 1 :: self.count], (whole << places).sum(axis=1, dtype=np.int64))
        if not len(value):
            return States.none()
        chip = self.map
        start = np.flatnonzero(np.append(True, owner[1:] != owner[:-1]))
        first = np.repeat(value[start].astype(np.int64), np.diff(np.append(start, len(value))))
        step = np.arange(len(value)) - np.repeat(start, np.diff(np.append(start, len(value)))) - 1  # -1 at the register's number
        out, at = [], 0
        while at < len(value):  # from one change of IOCON to the next: drivers change it once, if at all
            here = slice(at, None)
            port, register = self._places(chip, first[here], step[here])
            changed = np.flatnonzero(
                (register == chip.control)
                & (step[here] >= 0)
                & (((value[here] ^ self.control) & (chip.bank | chip.byte_mode)) != 0)
            )
            # The transfer that changes it goes on as it began: the datasheet does not say otherwise.
            end = len(value) if not len(changed) else at + int(changed[0]) + 1
            while end < len(value) and owner[end] == owner[end - 1]:
                end += 1
            count = end - at
            if len(changed):  # the last of several in one transfer counts
                self.control = int(value[at + int(np.flatnonzero((register[:count] == chip.control) & (step[at:end] >= 0))[-1])])
            out.append(
                self._written(chip, value[at:end], time[at:end], port[:count], np.where(step[at:end] >= 0, register[:count], -1))
            )
            at = end
        return States.join(out)

    def _in_turn(self, value: NDArray[np.uint8], time: NDArray[np.int64], owner: NDArray[np.int64]) -> States:
        """Ports that take the bytes of a transfer in turn, each with its acknowledge (PCF8575 datasheet, "Writing to the port").

        Its outputs are known from where each port was told something: a capture rarely begins at power-on, when all are high.
        """
        if not len(value):
            return States.none()
        start = np.flatnonzero(np.append(True, owner[1:] != owner[:-1]))
        port = (np.arange(len(value)) - np.repeat(start, np.diff(np.append(start, len(value))))) % self.ports
        level, known = np.zeros(len(value), np.int64), np.ones(len(value), bool)
        for side, before in enumerate(self.taken):
            last = np.maximum.accumulate(np.where(port == side, np.arange(len(value)), -1))
            known &= (last >= 0) | (before is not None)
            level |= np.where(last >= 0, value[np.maximum(last, 0)], before or 0).astype(np.int64) << (8 * side)
            self.taken[side] = int(value[last[-1]]) if last[-1] >= 0 else before
        return States.driven(time[known], level[known])

    def _places(
        self, chip: Expander, first: NDArray[np.int64], step: NDArray[np.int64]
    ) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Port and register that each byte goes to; register -1 where there is none."""
        banked = chip.ports == 1 or bool(self.control & chip.bank)
        if self.control & chip.byte_mode:  # the same register again and again; with both ports side by side, its pair in turn
            address = first if banked else first ^ (step & 1)
        else:
            address = (first + step) % (16 * (chip.ports - 1) + chip.registers if banked else 2 * chip.registers)
        port, register = (address >> 4, address & 15) if banked else (address & 1, address >> 1)
        return port, np.where((register < chip.registers) & (port < chip.ports), register, -1)

    def _written(
        self,
        chip: Expander,
        value: NDArray[np.uint8],
        time: NDArray[np.int64],
        port: NDArray[np.int64],
        register: NDArray[np.int64],
    ) -> States:
        """The outputs after each byte that changes latches or directions."""
        keep = np.isin(register, (chip.direction, *chip.outputs))
        value, time, port, direction = value[keep].astype(np.int64), time[keep], port[keep], register[keep] == chip.direction
        told = np.logical_or.accumulate(direction) | self.directed if len(direction) else direction
        self.directed = self.directed or bool(direction.any())
        out = States(time, np.zeros(len(time), np.int64), np.zeros(len(time), np.int64), told)
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


def as_outputs(part: Part) -> list[Send]:
    """What makes all pins of a part outputs, where it has to be told; each is a transfer of its own."""
    chip = part.memory.expander
    return [] if chip is None else [Send(False, bytes([chip.address(chip.direction, port), 0])) for port in range(chip.ports)]


def port_writes(part: Part, state: int, count: int = 1, before: int | None = None) -> list[Send]:
    """What puts a part's outputs into a state, each a transfer of its own. before: the state that they are in; ports that stay are left out."""
    chip = part.memory.expander
    if chip is None and part.memory.ports > 1:
        return [Send(False, state.to_bytes(part.memory.ports, "little"))]
    if chip is None:
        return [Send(False, state.to_bytes(count, "big"))]
    changed = [port for port in range(chip.ports) if before is None or (state ^ before) >> 8 * port & 0xFF] or [0]
    return [Send(False, bytes([chip.address(chip.outputs[-1], port), state >> 8 * port & 0xFF])) for port in changed]


def state_of(part: Part, raw: bytes, count: int = 1) -> int:
    """The outputs after a transfer to a part without registers. raw: its bytes, those of the last whole state at least. count: as above."""
    if part.memory.ports > 1:
        whole = len(raw) // part.memory.ports * part.memory.ports
        return int.from_bytes(raw[whole - part.memory.ports : whole], "little")
    return int.from_bytes(raw[-count:], "big")


def output_trace(pins: dict[str, int], states: States, end: int, tick: Fraction, sample: int, start: int | None) -> Trace:
    """Outputs as a trace of roles, unknown before the first write and where nothing drives them.

    pins: role to bit of the outputs. start: tick of the capture's own, unless this is a later part of it.
    """
    packed, unknown = np.zeros(len(states), np.uint64), np.zeros(len(states), np.uint64)
    for number, pin in enumerate(pins.values()):
        nothing = (states.undriven >> pin & 1).astype(np.uint64)
        unknown |= nothing << np.uint64(number)
        packed |= ((states.level >> pin & 1).astype(np.uint64) & ~nothing) << np.uint64(number)
    when = states.time.astype(np.int64)
    if start is not None:
        when, packed = np.append(start, when), np.append(np.uint64(0), packed)
        unknown = np.append(np.uint64((1 << len(pins)) - 1), unknown)
    keep = np.append(np.diff(when) > 0, True)[: len(when)]  # of two writes at one moment the later one stays
    end = max(end, int(when[-1]) + 1) if len(when) else end
    return Trace(tuple(pins), when[keep], packed[keep], end, tick, unknown[keep], sample)
