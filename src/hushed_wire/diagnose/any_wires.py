"""Wires of any bus: lines that never move, and wirings under which the traffic makes more sense than as wired.

A hypothesis is tested by decoding an excerpt under it, and only where the capture makes little sense as wired.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import combinations

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..bus.changes import excerpt
from ..bus.spi_roles import mode_of, spans_of
from ..bus.words import CUT
from ..errors import HushedError
from ..finding import Finding
from ..part import Commands, Payload, commands
from ..part.chips import model_for
from ..part.wrap import WRAPS
from ..rig import DeviceReading, Rig
from ..rig.follow import payloads
from ..rig.schema import Bus
from ..trace import Trace, mishap
from .any_case import CLOCKS, EVERYTHING, GAIN, AnyCase, broken, sense, unmet
from .permuted import best_order

__all__ = ["RULES"]

# ---- lines that do not move ----------------------------------------------------------------------------------------------


def still(case: AnyCase) -> Iterator[Finding]:
    """A bus on which nothing moves, a clock, a select or a data line that never does."""
    bus, trace = case.bus, case.trace
    here = {role: case.moves(role) for role in bus.lines if case.line(role) is not None}
    if not any(here.values()):
        level = {role: int(trace.level_at(case.line(role) or 0, np.array([trace.start]))[0]) for role in here}
        yield Finding(
            "capture.silent", f"nothing moves on the {bus.kind} bus during {trace.duration:.3g} s",
            "trigger on the select or the clock, capture while the driver runs, check the probes' ground, and that the driver was started",
            lines=[bus.lines[role] for role in here], start=trace.seconds(trace.start), end=trace.seconds(trace.end),
            evidence={"levels": {bus.lines[role]: "high" if value == 1 else "low" if value == 0 else "unknown" for role, value in level.items()}},
            explains=EVERYTHING,
        )  # fmt: skip
        return
    clocks = [role for role in CLOCKS[bus.kind] if role in here]
    if clocks and not any(here[role] for role in clocks):
        yield _stuck(case, clocks[0], f"so no word is clocked, while {_busiest(case, here)} moves", certain=True)
        return
    for role in ("cs", "cs1"):
        if role in here and not here[role] and bus.kind == "spi" and not case.words:
            yield _stuck(case, role, f"which is not the level that selects ({bus.select}), so no part listens", certain=True)
            return
    if bus.kind == "spi" and case.words >= 4 and not here.get("mosi", 1):
        yield _stuck(case, "mosi", f"while {case.words:,} words were clocked", certain=True)
    elif bus.kind == "spi":
        case.rule_out("wiring.stuck-line", "clock, select and data move")
    if bus.kind == "parallel":
        data = [role for role in here if role[0] == "d" and role[1:].isdecimal()]
        dead = [role for role in data if not here[role]]
        poor = any(
            sense(r.part, r.chips) - unmet(case, r, r.chips) < 0.9 for r in case.hearing.devices if r.device.on == bus.name
        )
        if (
            dead
            and case.words >= (12 if poor else 64)
            and len(dead) <= len(data) // 2
            and not any(case.line(r) is None for r in data)
        ):
            yield from (
                _stuck(case, role, f"while the other data lines move, in {case.words:,} words", certain=False) for role in dead
            )


def _busiest(case: AnyCase, here: dict[str, int]) -> str:
    role = max(here, key=lambda entry: here[entry])
    return f"'{case.bus.lines[role]}'"


def _stuck(case: AnyCase, role: str, why: str, certain: bool) -> Finding:
    line = case.line(role)
    assert line is not None
    level = int(case.trace.level_at(line, np.array([case.trace.end - 1]))[0])
    shown = {0: "low", 1: "high"}.get(level, "unknown")
    name = case.bus.lines[role]
    return Finding(
        "wiring.stuck-line", f"'{name}' ({role.upper()}) is {shown} for the whole capture, {why}",
        f"follow {name} from the driver's pin to the display with a meter: an open wire, "
        f"a short to {'ground' if level == 0 else 'the supply'}, a pin that is not set to its "
        "function, or a probe that is off",
        confidence="certain" if certain else "likely", lines=[name], start=case.trace.seconds(case.trace.start),
        end=case.trace.seconds(case.trace.end), evidence={"level": shown, "words": case.words}, explains=EVERYTHING,
    )  # fmt: skip


# ---- wirings under which it makes more sense ---------------------------------------------------------------------------------


@dataclass(frozen=True)
class Wiring:
    """A hypothesis: the bus as it would be, what is done to payloads, and the finding it makes."""

    code: str
    lines: tuple[str, ...]  # roles
    summary: str
    remedy: str
    bus: Bus
    turned: Callable[[Payload], Payload] | None = None
    inverted: str = ""  # a role whose line has the opposite level


def _flipped(what: str) -> Callable[[Payload], Payload]:
    def turn(own: Payload) -> Payload:
        data, value = own.data, own.value
        if what == "dc":
            data = ~data
        elif what == "dc-low":
            data = np.zeros_like(data)
        elif what == "mosi":
            value = ~value
        return Payload(value, data, own.time, own.start, own.end, own.transaction)

    return turn


def hypotheses(case: AnyCase) -> Iterator[Wiring]:
    """What could be wrong between the driver and the part."""
    bus = case.bus
    named = {role: f"'{line}'" for role, line in bus.lines.items()}

    def exchanged(a: str, b: str) -> Bus:
        lines = dict(bus.lines)
        lines[a], lines[b] = lines[b], lines[a]
        return msgspec.structs.replace(bus, lines=lines)

    def swap(a: str, b: str) -> Wiring:
        return Wiring(
            "wiring.swapped-lines", (a, b), f"{a.upper()} and {b.upper()} are exchanged: {named[a]} carries what {named[b]} should, and the other way round",
            f"exchange the two wires, {named[a]} and {named[b]}; if the display works, only the probes or the names are exchanged: "
            f"say --line {a}={bus.lines[b]} --line {b}={bus.lines[a]}",
            exchanged(a, b),
        )  # fmt: skip

    if bus.kind == "spi":
        other = {0: 1, 1: 0, 2: 3, 3: 2}[bus.mode]
        yield Wiring(
            "frame.wrong-spi-mode", ("sck",), f"the driver sends in SPI mode {other}, where mode {bus.mode} is meant: "
            "data change at the edge at which the part takes them",
            f"set the driver's bus to mode {bus.mode} (clock polarity {bus.mode >> 1}, phase {bus.mode & 1})", msgspec.structs.replace(bus, mode=other),
        )  # fmt: skip
        order = "lsb" if bus.order == "msb" else "msb"
        yield Wiring(
            "frame.bit-order", ("mosi",), f"the bits of each word come {'lowest' if order == 'lsb' else 'highest'} first, the part takes the other end first",
            f"set the driver to send the {'highest' if order == 'lsb' else 'lowest'} bit first", msgspec.structs.replace(bus, order=order),
        )  # fmt: skip
        yield Wiring("wiring.inverted-line", ("mosi",), f"{named['mosi']} (MOSI) carries the opposite of what it should",
                     "look for an inverting level shifter or buffer in the data line", bus, _flipped("mosi"))  # fmt: skip
        pairs = [
            pair
            for pair in (("sck", "mosi"), ("mosi", "dc"), ("cs", "dc"), ("sck", "dc"), ("mosi", "cs"), ("sck", "cs"))
            if set(pair) <= bus.lines.keys()
        ]
    else:
        data = sorted((role for role in bus.lines if role[0] == "d" and role[1:].isdecimal()), key=lambda role: int(role[1:]))
        back = msgspec.structs.replace(
            bus, lines={**bus.lines, **{role: bus.lines[other] for role, other in zip(data, data[::-1], strict=True)}}
        )
        if len(data) > 1:
            yield Wiring("wiring.reversed-bus", tuple(data), f"the data lines run the other way round: {named[data[0]]} carries D{data[-1][1:]}",
                         "turn the data connector or cable round, or number the lines from the other end", back)  # fmt: skip
        controls = [role for role in ("rs", "e", "rw", "wr", "rd") if role in bus.lines]
        pairs = [*combinations(data, 2), *combinations(controls, 2)]
    if "dc" in bus.lines or "rs" in bus.lines:
        role = "dc" if "dc" in bus.lines else "rs"
        yield Wiring("wiring.inverted-line", (role,), f"{named[role]} ({role.upper()}) has the opposite level: high with commands, low with data",
                     "exchange the two levels in the driver, or look for an inverting level shifter", bus, inverted=role)  # fmt: skip
    for a, b in pairs:
        yield swap(a, b)


def wirings(case: AnyCase) -> Iterator[Finding]:
    """The wiring under which the capture makes most sense, where that is much more than as wired."""
    if case.bus.kind not in ("spi", "parallel"):
        return
    piece = excerpt(case.trace)
    for reading in case.hearing.devices:
        if reading.device.on != case.bus.name:
            continue
        role = "dc" if "dc" in case.bus.lines else "rs"
        framing = case.rig.target(reading.device).framing
        now = sense(reading.part, reading.chips) - broken(case, reading) - unmet(case, reading, reading.chips)
        if not case.moves("sck") and not any(case.moves(role) for role in CLOCKS["parallel"]):
            return
        marked = WRAPS[framing].marked and framing != "nine-bit"
        if marked and case.line(role) is not None and not case.moves(role) and case.words >= 4:
            yield _dc_stuck(case, reading, role, now)
            return
        if now >= 0.9:
            case.rule_out("wiring.swapped-lines", f"'{reading.device.name}' understands what it gets as wired")
            continue
        tried: list[tuple[float, Wiring]] = []
        for wiring in hypotheses(case):
            if any(not case.moves(line) for line in wiring.lines) and wiring.code != "wiring.reversed-bus":
                continue  # a line that never moves is not explained by another place for it
            own = _under(piece, case.rig, reading, wiring)
            if own is not None:
                tried.append((sense(reading.part, own) - unmet(case, reading, own), wiring))
        tried.sort(key=lambda entry: -entry[0])
        if case.bus.kind == "parallel" and (not tried or tried[0][0] < 0.97):
            shuffled = _shuffled(case, piece, reading, now, tried[0][0] if tried else 0.0)
            if shuffled is not None:
                yield shuffled
                return
        if (
            tried
            and tried[0][0] >= now + GAIN * (1 - now)
            and tried[0][0] >= 0.7
            and _brought_up(piece, case.rig, reading, tried[0][1])
        ):
            best = [wiring for score, wiring in tried if score >= tried[0][0] - 0.02]
            if best[0].code == "frame.wrong-spi-mode" and any(True for _ in mode(case)):
                return  # the edges tell it by themselves
            for wiring in best[:2]:
                yield Finding(
                    wiring.code, wiring.summary, wiring.remedy + _apart(case, wiring, best[:2]), confidence="certain" if len(best) == 1 else "likely",
                    device=reading.device.name,
                    lines=[case.bus.lines[role] for role in wiring.lines], start=case.trace.seconds(piece.start), end=case.trace.seconds(case.trace.end),
                    evidence={"as wired": f"{now:.0%} of what it gets makes sense", "this way": f"{tried[0][0]:.0%}"}, explains=EVERYTHING,
                )  # fmt: skip


FEW = 6000  # changes on which orders of the data lines are tried


def _shuffled(case: AnyCase, piece: Trace, reading: DeviceReading, now: float, pair: float) -> Finding | None:
    """The data lines in another order than any one exchange makes, where everything makes sense in that order."""
    bus = case.bus
    roles = {role: line for role in bus.lines if (line := case.line(role)) is not None}
    small = piece if len(piece) <= FEW else piece.window(piece.start, int(piece.times[FEW]))

    def under(lines: dict[str, int], trace: Trace) -> list[Commands] | None:
        named = {role: case.trace.names[line] for role, line in lines.items()}
        other = msgspec.structs.replace(bus, lines={**bus.lines, **named})
        return _under(trace, case.rig, reading, Wiring("", (), "", "", other))

    def worth(lines: dict[str, int]) -> float:
        own = under(lines, small)
        return sense(reading.part, own) - unmet(case, reading, own) if own is not None else 0.0

    target = case.rig.target(reading.device)
    score, lines = best_order(small, roles, target, 1 if bus.select == "high" else 0, worth)
    moved = [role for role in lines if lines[role] != roles[role]]
    own = under(lines, piece)
    if score < 0.9 or score < pair + 0.03 or score < now + GAIN * (1 - now) or len(moved) < 3 or own is None:
        return None
    seen = {reading.part.command[kind].name for chip in own for kind in np.unique(chip.kind[chip.kind >= 0]).tolist()}
    if len(seen & set(reading.part.start_up)) < min(3, max(1, len(reading.part.start_up))):
        return None
    shown = ", ".join(f"'{case.trace.names[lines[role]]}' is {role.upper()}" for role in moved)
    return Finding(
        "wiring.swapped-lines", f"the data lines are in another order: {shown}",
        "bring the wires into their order, or the bits in the driver's table of pins; if the display works, only the probes are in another order: say "
        + " ".join(f"--line {role}={case.trace.names[lines[role]]}" for role in moved),
        confidence="likely", device=reading.device.name, lines=[bus.lines[role] for role in moved], start=case.trace.seconds(piece.start),
        end=case.trace.seconds(case.trace.end), evidence={"as wired": f"{now:.0%} of what it gets makes sense", "this way": f"{score:.0%}"},
        explains=EVERYTHING,
    )  # fmt: skip


ORDERLY = 5.0  # standard deviations by which another wiring has to make the picture more orderly


def pictures(case: AnyCase) -> Iterator[Finding]:
    """Data lines exchanged where every command stays legal: only the picture tells, which is more orderly the right way round."""
    if case.bus.kind != "parallel":
        return
    for reading in case.hearing.devices:
        if reading.device.on != case.bus.name or reading.part.memory.kind not in ("paged", "pixel") or case.plan.assumed:
            continue
        if sense(reading.part, reading.chips) - unmet(case, reading, reading.chips) < 0.9 or len(case.trace) > MOST_CHANGES:
            continue
        now = _lit(reading, reading.chips)
        if now is None:
            continue
        tried: list[tuple[float, Wiring]] = []
        for wiring in hypotheses(case):
            if wiring.code in ("wiring.swapped-lines", "wiring.reversed-bus") and all(
                role[0] == "d" and role[1:].isdecimal() for role in wiring.lines
            ):
                own = _under(case.trace, case.rig, reading, wiring)
                if own is None or sense(reading.part, own) < 0.9 or unmet(case, reading, own):
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
            yield Finding(
                wiring.code, wiring.summary, wiring.remedy + _apart(case, wiring, [other for _, other in close]), confidence="likely",
                device=reading.device.name, lines=[case.bus.lines[role] for role in wiring.lines],
                start=case.trace.seconds(case.trace.start), end=case.trace.seconds(case.trace.end),
                evidence={"the picture is more orderly this way by": f"{score:.0f} standard deviations"}, explains=EVERYTHING,
            )  # fmt: skip


MOST_CHANGES = 2_000_000


def _lit(reading: DeviceReading, own: list[Commands]) -> NDArray[np.bool_] | None:
    """The picture; None where there is too little in it."""
    glass = model_for(reading.part, own).glass(reading.panel)
    lit: NDArray[np.bool_] = glass.rgb.mean(axis=2) > 96 if hasattr(glass, "rgb") else glass.lit
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


def _apart(case: AnyCase, wiring: Wiring, several: list[Wiring]) -> str:
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


def _dc_stuck(case: AnyCase, reading: DeviceReading, role: str, now: float) -> Finding:
    name = case.bus.lines[role]
    level = int(case.trace.level_at(case.line(role) or 0, np.array([case.trace.end - 1]))[0])
    shown = "high, so the part takes every command for data" if level else "low, so the part takes all data for commands"
    return Finding(
        "frame.dc-stuck", f"'{name}' ({role.upper()}) never moves and is {shown}",
        f"check that the driver sets {name} ahead of each transfer, that the pin is an output, and follow the wire to the display",
        device=reading.device.name, lines=[name], start=case.trace.seconds(case.trace.start), end=case.trace.seconds(case.trace.end),
        evidence={"words": case.words, "as wired": f"{now:.0%} of what it gets makes sense"}, explains=[*EVERYTHING, "wiring.stuck-line"],
    )  # fmt: skip


def _under(piece: Trace, rig: Rig, reading: DeviceReading, wiring: Wiring) -> list[Commands] | None:
    """The commands under a hypothesis; None where it cannot even be decoded."""
    other = Rig(bus=[wiring.bus], device=[reading.device])
    if wiring.inverted:
        piece = mishap.invert(piece, wiring.bus.lines[wiring.inverted])
    try:
        found = payloads(piece, other, wiring.bus)[reading.device.name]
    except (HushedError, KeyError, ValueError):
        return None
    return [commands(reading.part, wiring.turned(own) if wiring.turned else own) for own in found]


def _brought_up(piece: Trace, rig: Rig, reading: DeviceReading, wiring: Wiring) -> bool:
    """Whether a bring-up appears under a hypothesis: without one, sense may be chance."""
    own = _under(piece, rig, reading, wiring) or []
    seen = {reading.part.command[kind].name for chip in own for kind in np.unique(chip.kind[chip.kind >= 0]).tolist()}
    return len(seen & set(reading.part.start_up)) >= min(3, max(1, len(reading.part.start_up)))


def mode(case: AnyCase) -> Iterator[Finding]:
    """The edge at which data change, against the mode that the rig says: told by the wires alone, whatever they carry."""
    bus = case.bus
    select = next((case.line(role) for role in ("cs", "cs1") if case.line(role) is not None), None)
    sck, mosi = case.line("sck"), case.line("mosi")
    if bus.kind != "spi" or case.plan.assumed or select is None or sck is None or mosi is None or case.words < 4:
        return
    piece = excerpt(case.trace)
    found, clear = mode_of(piece, sck, mosi, spans_of(piece, select, 1 if bus.select == "high" else 0))
    same = (found in (0, 3)) == (bus.mode in (0, 3))
    if not same and clear > 0.95 and not any(sense(reading.part, reading.chips) >= 0.97 for reading in case.hearing.devices):
        edge = "rising" if bus.mode in (0, 3) else "falling"
        yield Finding(
            "frame.wrong-spi-mode", f"data change at the {edge} edge of the clock, where mode {bus.mode} samples them: the driver sends in mode {found}",
            f"set the driver's bus to mode {bus.mode} (clock polarity {bus.mode >> 1}, phase {bus.mode & 1}), or correct the rig's mode",
            lines=[bus.lines["sck"], bus.lines["mosi"]], start=case.trace.seconds(piece.start), end=case.trace.seconds(piece.end),
            evidence={"data changes clear of the other edge": f"{clear:.0%}"}, explains=[*EVERYTHING, "frame.bit-order", "wiring.inverted-line"],
        )  # fmt: skip
    elif same:
        case.rule_out("frame.wrong-spi-mode", f"data are at rest where mode {bus.mode} samples them")


def truncated(case: AnyCase) -> Iterator[Finding]:
    """Transfers that end in mid-word."""
    for channel in case.hearing.channels:
        if channel.kind != "spi" or not channel.select or len(channel.table) < 2 or len(channel.words) < 8:
            continue
        broken = np.flatnonzero((channel.table.spare[:-1] > 0) & (channel.table.began[:-1] != CUT))
        if len(broken):
            first = int(broken[0])
            yield Finding(
                "frame.truncated-word", f"{len(broken):,} of {len(channel.table):,} transfers end in mid-word: the clocks are no multiple of {channel.bits}",
                "look for a select that ends too early, for clocks lost to a slow or noisy edge, "
                "and whether the driver's words have as many bits as the part's",
                confidence="likely", lines=[case.bus.lines[role] for role in (channel.select, "sck") if role in case.bus.lines],
                start=case.trace.seconds(int(channel.table.start[first])), end=case.trace.seconds(int(channel.table.end[int(broken[-1])])), count=len(broken),
                evidence={"bits_left_over": int(channel.table.spare[first])}, explains=["setup.unknown-command", "setup.undocumented-value",
                "timing.hold-short", "timing.setup-short", "timing.pulse-short"],
            )  # fmt: skip
        else:
            case.rule_out("frame.truncated-word", f"all {len(channel.table):,} transfers are whole words of {channel.bits} bits")


RULES: list[Callable[[AnyCase], Iterator[Finding]]] = [still, mode, wirings, pictures, truncated]
