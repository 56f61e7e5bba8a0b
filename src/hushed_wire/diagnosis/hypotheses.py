"""Wirings under which the traffic makes more sense than as wired: what could be exchanged, turned over or set otherwise, and how it is tried.

A hypothesis is tested by decoding an excerpt under it, and only where the capture makes little sense as wired. It is told where it makes much
more sense, and a bring-up appears under it: without one, sense may be chance.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import combinations
from typing import Any

import msgspec

from ..bus.base import BESIDE
from ..errors import HushedError
from ..finding import Finding
from ..part import Commands, Payload, commands
from ..part.bring_up import set_up_in
from ..part.engine import DATA
from ..part.readable import readable_runs
from ..rig import DeviceReading, Rig, decode
from ..rig.schema import Bus
from ..trace import Trace, mishap
from .case import GAIN, Case, broken, sense, unmet

__all__ = [
    "MOST_TOLD",
    "SENSIBLE",
    "Wiring",
    "brought_up",
    "hypotheses",
    "inverted_as_a_whole",
    "told",
    "under",
    "worth",
    "wrong_base",
]

BRING_UP = 24  # commands and runs of data in which a bring-up has to appear; a driver of eight digits sends so many with its first picture
MOST_TOLD = 400  # commands that are looked at
SENSIBLE = 0.9  # how much sense makes a search for other wirings needless


@dataclass(frozen=True)
class Wiring:
    """A hypothesis: the finding it makes, in which of its words, with which values; the bus as it would be, and what is done to payloads.

    inverted: roles whose lines have the opposite level.
    """

    code: str
    said: str
    lines: tuple[str, ...]  # roles
    bus: Bus
    values: dict[str, Any] = field(default_factory=dict)
    inverted: tuple[str, ...] = ()


def hypotheses(case: Case) -> Iterator[Wiring]:
    """What could be wrong between the driver and the part."""
    bus, kind = case.bus, case.kind
    if "mode" in kind.settings:
        other = bus.mode ^ 1
        values = {"other": str(other), "mode": str(bus.mode), "polarity": str(bus.mode >> 1), "phase": str(bus.mode & 1)}
        clock = kind.clocks[0]
        yield Wiring("frame.wrong-spi-mode", "", (clock,), msgspec.structs.replace(bus, mode=other), values)
    if "order" in kind.settings:
        ends = ("lowest", "highest") if bus.order == "msb" else ("highest", "lowest")
        turned = msgspec.structs.replace(bus, order="lsb" if bus.order == "msb" else "msb")
        yield Wiring("frame.bit-order", "", (kind.needs[1],), turned, {"now": ends[0], "wanted": ends[1]})
        role = kind.needs[1]
        yield Wiring(
            "wiring.inverted-line", "data", (role,), bus, {"line": bus.lines[role], "role": role.upper()}, inverted=(role,)
        )
    data = kind.data_lines(bus.lines)
    if len(data) > 1:
        lines = {**bus.lines, **{role: bus.lines[other] for role, other in zip(data, data[::-1], strict=True)}}
        values = {"first": bus.lines[data[0]], "last": f"D{data[-1][1:]}"}
        yield Wiring("wiring.reversed-bus", "", tuple(data), msgspec.structs.replace(bus, lines=lines), values)
    if kind.marks in bus.lines:
        role = kind.marks
        yield Wiring("wiring.inverted-line", "", (role,), bus, {"line": bus.lines[role], "role": role.upper()}, inverted=(role,))
    yield _all_inverted(case)
    for a, b in (*combinations(data, 2), *(pair for pair in kind.exchanged if set(pair) <= bus.lines.keys())):
        lines = {**bus.lines, a: bus.lines[b], b: bus.lines[a]}
        values = {"a": a.upper(), "b": b.upper(), "line_a": bus.lines[a], "line_b": bus.lines[b], "role_a": a, "role_b": b}
        yield Wiring("wiring.swapped-lines", "", (a, b), msgspec.structs.replace(bus, lines=lines), values)


def _all_inverted(case: Case) -> Wiring:
    """Every line that is driven has the opposite level; what the traffic alone told of the levels is then the opposite, too."""
    bus = case.bus
    roles = tuple(role for role in case.roles if role not in BESIDE)
    upright: dict[str, Any] = {}
    if "select" in case.plan.assumed:
        upright["select"] = "low" if bus.select == "high" else "high"
    if "mode" in case.plan.assumed and "mode" in case.kind.settings:
        upright["mode"] = bus.mode ^ 2
    values = {"shown": ", ".join(bus.lines[role] for role in roles)}
    return Wiring("wiring.inverted-bus", "", roles, msgspec.structs.replace(bus, **upright), values, inverted=roles)


def inverted_as_a_whole(case: Case) -> bool:
    """Whether everything makes sense with all lines turned over."""
    for reading in case.devices:
        own = under(case, case.piece, reading, _all_inverted(case))
        if own is not None and brought_up(reading, own) and sense(reading.part, own) - unmet(case, reading, own) >= SENSIBLE:
            return True
    return False


def under(case: Case, piece: Trace, reading: DeviceReading, wiring: Wiring) -> list[Commands] | None:
    """The commands under a hypothesis; None where it cannot even be decoded."""
    for role in wiring.inverted:
        piece = mishap.invert(piece, wiring.bus.lines[role])
    try:
        chips = decode(piece, Rig(bus=[wiring.bus], bridge=case.bridges, device=[reading.device])).devices[0].chips
    except (HushedError, ValueError):
        return None
    return chips


def brought_up(reading: DeviceReading, own: list[Commands] | None) -> bool:
    """Whether a bring-up appears at the beginning: without one, sense may be chance, and in a long picture there is a command of every name.

    What has no commands has none, and its updates have to be whole.
    """
    if not reading.part.command:
        shares = [share for chip in own or [] for share in readable_runs(reading.part, chip)]
        return bool(shares) and min(shares[1:] or shares) == 1.0
    names = {chip.name_of(index) for chip in own or [] for index in range(min(len(chip), BRING_UP))}
    return set_up_in(reading.part, names) and 5 * len(names & set(reading.part.start_up)) >= 2 * len(set(reading.part.start_up))


def wrong_base(case: Case, reading: DeviceReading, now: float) -> tuple[int, int] | None:
    """A command byte that was meant as hex and sent as decimal: with its digits read as hex, what the part gets makes all the sense it can, and much more
    than as sent. The byte sent, and the one meant."""
    if now >= SENSIBLE:
        return None
    values = {
        chip.bytes_of(index)[0]
        for chip in reading.chips
        for index in range(min(len(chip), MOST_TOLD))
        if chip.name_of(index) != "data" and len(chip.bytes_of(index))
    }
    table = reading.part.table()
    for value in sorted(values):
        digits = str(value)
        meant = int(digits, 16) if len(digits) == 2 else -1
        if meant < 0 or meant == value or table[meant] < 0 or meant in values:
            continue
        own = []
        for chip in reading.chips:
            payload, other = chip.payload, chip.payload.value.copy()
            opens = chip.first[(chip.kind != DATA) & (payload.value[chip.first] == value)]
            other[opens] = meant
            own.append(
                commands(
                    reading.part, Payload(other, payload.data, payload.time, payload.start, payload.end, payload.transaction)
                )
            )
        worth = sense(reading.part, own) - unmet(case, reading, own)
        if worth >= 0.97 and worth >= now + GAIN * (1 - now) and brought_up(reading, own):
            return value, meant
    return None


def worth(case: Case, reading: DeviceReading) -> float:
    """How much sense a device's commands make as wired."""
    return sense(reading.part, reading.chips) - broken(case, reading) - unmet(case, reading, reading.chips)


def told(
    case: Case, reading: DeviceReading, wiring: Wiring, several: list[Wiring], sure: str, evidence: dict[str, str]
) -> Finding:
    """The finding that a hypothesis makes; with others that fit as well, the measurement that tells them apart."""
    start, end = case.span
    return case.found(
        wiring.code, wiring.said, confidence=sure, device=reading.device.name, lines=[case.bus.lines[role] for role in wiring.lines],
        start=start, end=end, evidence=evidence, apart=_apart(case, wiring, several), **wiring.values,
    )  # fmt: skip


def _apart(case: Case, wiring: Wiring, several: list[Wiring]) -> str:
    """The measurement that tells two causes apart which the capture cannot."""
    other = next((each for each in several if each is not wiring), None)
    if other is None:
        return ""
    role = next((role for role in wiring.lines if role not in other.lines), wiring.lines[0])
    where = f"the driver's pin of '{case.bus.lines[role]}'"
    return (
        f". This capture fits {other.code} on {' and '.join(case.bus.lines[r] for r in other.lines[:4])} as well: with the supply off, measure from {where} "
        f"to the part's {role.upper()} pin; if they are joined, it is the other one"
    )
