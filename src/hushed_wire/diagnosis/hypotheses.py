"""Wirings under which the traffic makes more sense than as wired: what could be exchanged, turned over or set otherwise, and how it is tried.

A hypothesis is tested by decoding an excerpt under it, and only where the capture makes little sense as wired. It is told where it makes much
more sense, and a bring-up appears under it: without one, sense may be chance.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import combinations
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..bus.changes import excerpt
from ..bus.spi_roles import mode_of, spans_of
from ..errors import HushedError
from ..finding import Finding
from ..part import Commands, Payload, commands
from ..part.bring_up import set_up_in
from ..part.chips import model_for
from ..part.wrap import WRAPS
from ..rig import DeviceReading, Rig, decode
from ..rig.schema import Bus
from ..trace import Trace, mishap
from .case import GAIN, Case, broken, sense, unmet
from .permuted import best_order
from .rule import Rule, has_selects, latches, moves_words

__all__ = ["wirings"]

ORDERLY = 5.0  # standard deviations by which another wiring has to make the picture more orderly
FEW = 6000  # changes on which orders of the data lines are tried
MOST_CHANGES = 2_000_000  # of a capture of which pictures are compared
SENSIBLE = 0.9  # how much sense makes a search for other wirings needless


@dataclass(frozen=True)
class Wiring:
    """A hypothesis: the finding it makes, in which of its words, with which values; the bus as it would be, and what is done to payloads.

    inverted: a role whose line has the opposite level.
    """

    code: str
    said: str
    lines: tuple[str, ...]  # roles
    bus: Bus
    values: dict[str, Any] = field(default_factory=dict)
    turned: Callable[[Payload], Payload] | None = None
    inverted: str = ""


def _data_turned_over(own: Payload) -> Payload:
    return Payload(~own.value, own.data, own.time, own.start, own.end, own.transaction)


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
            "wiring.inverted-line", "data", (role,), bus, {"line": bus.lines[role], "role": role.upper()}, _data_turned_over
        )
    data = kind.data_lines(bus.lines)
    if len(data) > 1:
        lines = {**bus.lines, **{role: bus.lines[other] for role, other in zip(data, data[::-1], strict=True)}}
        values = {"first": bus.lines[data[0]], "last": f"D{data[-1][1:]}"}
        yield Wiring("wiring.reversed-bus", "", tuple(data), msgspec.structs.replace(bus, lines=lines), values)
    if kind.marks in bus.lines:
        role = kind.marks
        yield Wiring("wiring.inverted-line", "", (role,), bus, {"line": bus.lines[role], "role": role.upper()}, inverted=role)
    for a, b in (*combinations(data, 2), *(pair for pair in kind.exchanged if set(pair) <= bus.lines.keys())):
        lines = {**bus.lines, a: bus.lines[b], b: bus.lines[a]}
        values = {"a": a.upper(), "b": b.upper(), "line_a": bus.lines[a], "line_b": bus.lines[b], "role_a": a, "role_b": b}
        yield Wiring("wiring.swapped-lines", "", (a, b), msgspec.structs.replace(bus, lines=lines), values)


def _under(piece: Trace, reading: DeviceReading, wiring: Wiring) -> list[Commands] | None:
    """The commands under a hypothesis; None where it cannot even be decoded."""
    if wiring.inverted:
        piece = mishap.invert(piece, wiring.bus.lines[wiring.inverted])
    try:
        chips = decode(piece, Rig(bus=[wiring.bus], device=[reading.device])).devices[0].chips
    except (HushedError, ValueError):
        return None
    return [commands(reading.part, wiring.turned(own.payload)) for own in chips] if wiring.turned else chips


def _brought_up(reading: DeviceReading, own: list[Commands] | None) -> bool:
    """Whether a bring-up appears: without one, sense may be chance."""
    return set_up_in(reading.part, {name for chip in own or [] for name in chip.names})


# ---- the rules ------------------------------------------------------------------------------------------------------------


def marks_stuck(case: Case) -> Iterator[Finding]:
    """The line that tells data from commands never moves."""
    role = case.kind.marks
    if role not in case.roles or case.moves(role) or case.words < 4:
        return
    for reading in case.direct:
        framing = case.rig.target(reading.device).framing
        if not WRAPS[framing].marked or framing == "nine-bit":
            continue
        level = int(case.trace.level_at(case.roles[role], np.array([case.trace.end - 1]))[0])
        name, (start, end) = case.bus.lines[role], case.span
        yield case.found(
            "frame.dc-stuck", "high" if level else "low", device=reading.device.name, lines=[name], start=start, end=end,
            evidence={"words": case.words, "as wired": f"{_worth(case, reading):.0%} of what it gets makes sense"}, name=name, role=role.upper(),
        )  # fmt: skip
        return


def _worth(case: Case, reading: DeviceReading) -> float:
    """How much sense a device's commands make as wired."""
    return sense(reading.part, reading.chips) - broken(case, reading) - unmet(case, reading, reading.chips)


def other_wirings(case: Case) -> Iterator[Finding]:
    """The wiring under which the capture makes most sense, where that is much more than as wired."""
    piece = excerpt(case.trace, lines=case.roles.values())
    if not any(case.moves(role) for role in case.kind.clocks):
        return
    for reading in case.direct:
        if any(True for _ in marks_stuck(case)):
            return
        now = _worth(case, reading)
        if now >= SENSIBLE:
            case.rule_out("wiring.swapped-lines", f"'{reading.device.name}' understands what it gets as wired")
            continue
        tried: list[tuple[float, Wiring, list[Commands]]] = []
        for wiring in hypotheses(case):
            if any(not case.moves(line) for line in wiring.lines) and wiring.code != "wiring.reversed-bus":
                continue  # a line that never moves is not explained by another place for it
            own = _under(piece, reading, wiring)
            if own is not None:
                tried.append((sense(reading.part, own) - unmet(case, reading, own), wiring, own))
        tried.sort(key=lambda entry: -entry[0])
        top = tried[0][0] if tried else 0.0
        if case.kind.data_lines(case.bus.lines) and top < 0.97:
            shuffled = _shuffled(case, piece, reading, now, top)
            if shuffled is not None:
                yield shuffled
                return
        if tried and top >= now + GAIN * (1 - now) and top >= 0.7 and _brought_up(reading, tried[0][2]):
            best = [wiring for score, wiring, _ in tried if score >= top - 0.02]
            if best[0].code == "frame.wrong-spi-mode" and any(True for _ in mode(case)):
                return  # the edges tell it by themselves
            evidence = {"as wired": f"{now:.0%} of what it gets makes sense", "this way": f"{top:.0%}"}
            for wiring in best[:2]:
                yield _told(case, reading, wiring, best[:2], "certain" if len(best) == 1 else "likely", evidence)


def _told(
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


def _shuffled(case: Case, piece: Trace, reading: DeviceReading, now: float, pair: float) -> Finding | None:
    """The data lines in another order than any one exchange makes, where everything makes sense in that order."""
    bus = case.bus
    small = piece if len(piece) <= FEW else piece.window(piece.start, int(piece.times[FEW]))

    def under(lines: dict[str, int], trace: Trace) -> list[Commands] | None:
        named = {role: case.trace.names[line] for role, line in lines.items()}
        return _under(trace, reading, Wiring("", "", (), msgspec.structs.replace(bus, lines={**bus.lines, **named})))

    def worth(lines: dict[str, int]) -> float:
        own = under(lines, small)
        return sense(reading.part, own) - unmet(case, reading, own) if own is not None else 0.0

    target = case.rig.target(reading.device)
    score, lines = best_order(small, case.roles, target, 1 if bus.select == "high" else 0, worth)
    moved = [role for role in lines if lines[role] != case.roles[role]]
    own = under(lines, piece)
    if score < 0.9 or score < pair + 0.03 or score < now + GAIN * (1 - now) or len(moved) < 3 or not _brought_up(reading, own):
        return None
    start, end = case.span
    return case.found(
        "wiring.swapped-lines", "any-order", confidence="likely", device=reading.device.name, lines=[bus.lines[role] for role in moved],
        start=start, end=end, evidence={"as wired": f"{now:.0%} of what it gets makes sense", "this way": f"{score:.0%}"},
        shown=", ".join(f"'{case.trace.names[lines[role]]}' is {role.upper()}" for role in moved),
        options=" ".join(f"--line {role}={case.trace.names[lines[role]]}" for role in moved),
    )  # fmt: skip


def pictures(case: Case) -> Iterator[Finding]:
    """Data lines exchanged where every command stays legal: only the picture tells, which is more orderly the right way round."""
    for reading in case.direct:
        if reading.part.memory.kind not in ("paged", "pixel") or case.plan.assumed:
            continue
        if sense(reading.part, reading.chips) - unmet(case, reading, reading.chips) < SENSIBLE or len(case.trace) > MOST_CHANGES:
            continue
        now = _lit(reading, reading.chips)
        if now is None:
            continue
        tried: list[tuple[float, Wiring]] = []
        data = set(case.kind.data_lines(case.bus.lines))
        for wiring in hypotheses(case):
            if wiring.code in ("wiring.swapped-lines", "wiring.reversed-bus") and set(wiring.lines) <= data:
                own = _under(case.trace, reading, wiring)
                if own is None or sense(reading.part, own) < SENSIBLE or unmet(case, reading, own):
                    continue
                other = _lit(reading, own)
                if other is not None and other.shape == now.shape:
                    tried.append((_orderlier(now, other), wiring))
        tried.sort(key=lambda entry: -entry[0])
        if not tried or tried[0][0] < ORDERLY:
            if tried:
                case.rule_out("wiring.swapped-lines", "no other order of the data lines makes the picture more orderly")
            continue
        close = [entry for entry in tried if entry[0] > tried[0][0] - 1][:2]
        for score, wiring in close:
            evidence = {"the picture is more orderly this way by": f"{score:.0f} standard deviations"}
            yield _told(case, reading, wiring, [other for _, other in close], "likely", evidence)


def _lit(reading: DeviceReading, own: list[Commands]) -> NDArray[np.bool_] | None:
    """The picture; None where there is too little in it."""
    lit = model_for(reading.part, own).glass(reading.panel).visible
    return lit if 0.005 < lit.mean() < 0.995 else None


def _orderlier(now: NDArray[np.bool_], other: NDArray[np.bool_]) -> float:
    """By how many standard deviations more places of `other` are smoother than those of `now`: a sign test over blocks of eight rows."""

    def edges(lit: NDArray[np.bool_]) -> NDArray[np.int64]:
        changes = np.pad(lit[1:] != lit[:-1], ((0, 1), (0, 0)))
        changes = np.pad(changes, ((0, -len(changes) % 8), (0, 0)))
        out: NDArray[np.int64] = changes.reshape(-1, 8, changes.shape[1]).sum(axis=1)
        return out

    difference = edges(now) - edges(other)
    better, worse = int(np.count_nonzero(difference > 0)), int(np.count_nonzero(difference < 0))
    return (better - worse) / max(1.0, float(np.sqrt(better + worse)))


def mode(case: Case) -> Iterator[Finding]:
    """The edge at which data change, against the mode that the rig says: told by the wires alone, whatever they carry."""
    bus = case.bus
    select = next((role for role in ("cs", "cs1") if role in case.roles), "")
    clock, data = case.kind.needs
    if case.plan.assumed or not select or clock not in case.roles or data not in case.roles or case.words < 4:
        return
    piece = excerpt(case.trace, lines=case.roles.values())
    spans = spans_of(piece, case.roles[select], 1 if bus.select == "high" else 0)
    found, clear = mode_of(piece, case.roles[clock], case.roles[data], spans)
    same = (found in (0, 3)) == (bus.mode in (0, 3))
    if not same and clear > 0.95 and not any(sense(reading.part, reading.chips) >= 0.97 for reading in case.devices):
        yield case.found(
            "frame.wrong-spi-mode", "edges", lines=case.names(clock, data), start=case.seconds(piece.start), end=case.seconds(piece.end),
            evidence={"data changes clear of the other edge": f"{clear:.0%}"}, edge="rising" if bus.mode in (0, 3) else "falling",
            mode=bus.mode, other=found, polarity=bus.mode >> 1, phase=bus.mode & 1,
        )  # fmt: skip
    elif same:
        case.rule_out("frame.wrong-spi-mode", f"data are at rest where mode {bus.mode} samples them")


wirings = [
    Rule("frame", mode, has_selects),
    Rule("frame", marks_stuck, moves_words),
    Rule("wiring", other_wirings, moves_words),
    Rule("wiring", pictures, latches),
]
