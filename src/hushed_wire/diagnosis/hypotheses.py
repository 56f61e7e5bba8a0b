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
import numpy as np
from numpy.typing import NDArray

from ..bus.base import BESIDE
from ..bus.carries import selected
from ..bus.changes import excerpt
from ..bus.spi_roles import mode_of
from ..errors import HushedError
from ..finding import Finding
from ..part import Commands, Payload, commands
from ..part.bring_up import set_up_in
from ..part.chips import model_for
from ..part.engine import DATA
from ..part.wrap import WRAPS
from ..rig import DeviceReading, Rig, decode
from ..rig.schema import Bus
from ..trace import Trace, mishap
from .bearing import CARRIED, bearing, borne, exchanged_by_shape
from .case import GAIN, Case, broken, legible, sense, unmet
from .permuted import best_order
from .rule import Rule, has_selects, latches, moves_words

__all__ = ["wirings"]

NEAR, FAR = 4.2, 5.5  # standard deviations by which another order of data lines has to make the picture more orderly
SEAM = 10.0  # bits that the picture has to tell of exchanged halves; more than twice that where nothing else speaks for it
DRAWN = 0.33  # of neighbours along the rows that differ: noise and dither have more, text and drawings fewer
CHIPS = ("cs1", "cs2")
FIRST = (6, 10, 16, 24)  # commands that a set-up may have
OPENS = {0x01}  # software reset, which begins set-ups of parts whose parameters are data (MIPI DCS 1.02, 6.1)
MOST_TOLD = 400  # commands that are looked at
FEW = 6000  # changes on which orders of the data lines are tried
MOST_CHANGES = 2_000_000  # of a capture of which pictures are compared
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
    for a, b in (
        *combinations(data, 2),
        *((CHIPS,) if set(CHIPS) <= bus.lines.keys() else ()),
        *(pair for pair in kind.exchanged if set(pair) <= bus.lines.keys()),
    ):
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
    piece = excerpt(case.trace, lines=case.roles.values())
    for reading in case.devices:
        own = _under(case, piece, reading, _all_inverted(case))
        if own is not None and _brought_up(reading, own) and sense(reading.part, own) - unmet(case, reading, own) >= SENSIBLE:
            return True
    return False


def _under(case: Case, piece: Trace, reading: DeviceReading, wiring: Wiring) -> list[Commands] | None:
    """The commands under a hypothesis; None where it cannot even be decoded."""
    for role in wiring.inverted:
        piece = mishap.invert(piece, wiring.bus.lines[role])
    try:
        chips = decode(piece, Rig(bus=[wiring.bus], bridge=case.bridges, device=[reading.device])).devices[0].chips
    except (HushedError, ValueError):
        return None
    return chips


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
        beside = _exchanged_with_direction(case, reading)
        if beside is not None:
            yield beside
            return
        if not _was_meant(case, reading):
            continue
        level = int(case.trace.level_at(case.roles[role], np.array([case.trace.end - 1]))[0])
        name, (start, end) = case.bus.lines[role], case.span
        yield case.found(
            "frame.dc-stuck", "high" if level else "low", device=reading.device.name, lines=[name], start=start, end=end,
            evidence={"words": case.words, "as wired": f"{_worth(case, reading):.0%} of what it gets makes sense"}, name=name, role=role.upper(),
        )  # fmt: skip
        return


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
        if worth >= 0.97 and worth >= now + GAIN * (1 - now) and _brought_up(reading, own):
            return value, meant
    return None


def _exchanged_with_direction(case: Case, reading: DeviceReading) -> Finding | None:
    """RS and R/W exchanged: the line that never moves is the one that says write, and the one that does is the one that tells data."""
    marks = case.kind.marks
    if not case.moves("rw"):
        return None
    lines = {**case.bus.lines, marks: case.bus.lines["rw"], "rw": case.bus.lines[marks]}
    values = {
        "a": marks.upper(), "b": "RW", "line_a": case.bus.lines[marks], "line_b": case.bus.lines["rw"], "role_a": marks, "role_b": "rw"
    }  # fmt: skip
    wiring = Wiring("wiring.swapped-lines", "", (marks, "rw"), msgspec.structs.replace(case.bus, lines=lines), values)
    own = _under(case, excerpt(case.trace, lines=case.roles.values()), reading, wiring)
    now, other = _worth(case, reading), 0.0 if own is None else sense(reading.part, own) - unmet(case, reading, own)
    if not _brought_up(reading, own) or other < max(0.7, now):
        return None
    evidence = {"as wired": f"{now:.0%} of what it gets makes sense", "this way": f"{other:.0%}"}
    return _told(case, reading, wiring, [wiring], "certain", evidence)


def _was_meant(case: Case, reading: DeviceReading) -> bool:
    """Whether the words behind a line that never moves were meant to be of both kinds. Where it marks all as data, they have to begin with a set-up:
    a capture that begins within a picture does not. Where it marks all as commands, there is a set-up, or what came was no command."""
    codes = {
        code
        for code, kind in enumerate(reading.part.table())
        if kind >= 0 and reading.part.command[kind].name in reading.part.start_up
    }
    for chip in reading.chips:
        own = chip.payload
        high = bool(own.data.any())
        if (
            high and reading.part.parameters == "data"
        ):  # what comes behind such a command is data by right, so only the codes themselves tell
            seen = codes & {int(value) for value in own.value[: 2 * FIRST[-1]]}
            if len(own) and int(own.value[0]) in OPENS | codes and 4 * len(seen) >= 3 * len(set(reading.part.start_up)):
                return True
            continue
        told = commands(reading.part, Payload(own.value, np.zeros_like(own.data), own.time, own.start, own.end, own.transaction))
        for most in FIRST if high else (MOST_TOLD,):  # what comes behind a set-up is a picture, and no command
            first = range(min(len(told), most))
            names = {told.name_of(index) for index in first}
            strange = float(np.mean([int(told.kind[index]) < 0 for index in first])) if len(told) else 0.0
            steps = names & set(reading.part.start_up)
            if set_up_in(reading.part, names) and (
                not high or (strange < 0.1 and 2 * len(steps) > len(set(reading.part.start_up)))
            ):
                return True
            if not high and strange > 0.1:
                return True
    return False


def _worth(case: Case, reading: DeviceReading) -> float:
    """How much sense a device's commands make as wired."""
    return sense(reading.part, reading.chips) - broken(case, reading) - unmet(case, reading, reading.chips)


def other_wirings(case: Case) -> Iterator[Finding]:
    """The wiring under which the capture makes most sense, where that is much more than as wired."""
    case.kept["wirings"] = list(_other_wirings(case))
    yield from case.kept["wirings"]


def _other_wirings(case: Case) -> Iterator[Finding]:
    piece = excerpt(case.trace, lines=case.roles.values())
    if not any(case.moves(role) for role in case.kind.clocks):
        return
    if exchanged_by_shape(case) is not None or any(True for _ in marks_stuck(case)):
        return
    for reading in case.devices:
        now = _worth(case, reading)
        whole = now >= SENSIBLE and not _illegible(reading)
        if whole and (_brought_up(reading, reading.chips) or not reading.part.start_up):
            case.rule_out("wiring.swapped-lines", f"'{reading.device.name}' understands what it gets as wired")
            continue
        if wrong_base(case, reading, now) is not None:
            continue  # one number that is wrong explains as much, and the rest makes sense as wired
        tried: list[tuple[float, Wiring, list[Commands]]] = []
        dead = [role for role in case.kind.data_lines(case.bus.lines) if role in case.roles and not case.moves(role)]
        for wiring in hypotheses(case):
            if any(not case.moves(line) for line in wiring.lines) and len(wiring.lines) < 3:
                continue  # a line that never moves is not explained by another place for it
            if dead and case.words >= 12 and wiring.code == "wiring.reversed-bus":
                continue
            if not _carries(case, piece, wiring):
                continue
            own = _under(case, piece, reading, wiring)
            if own is not None:
                tried.append((sense(reading.part, own) - unmet(case, reading, own), wiring, own))
        tried.sort(key=lambda entry: -entry[0])
        top = tried[0][0] if tried else 0.0
        if case.kind.data_lines(case.bus.lines) and top < 0.97 and borne(case):
            shuffled = _shuffled(case, piece, reading, now, top)
            if shuffled is not None:
                yield shuffled
                return
        if tried and top >= now + GAIN * (1 - now) and top >= 0.7 and _brought_up(reading, tried[0][2]):
            best = [wiring for score, wiring, _ in tried if score >= top - 0.02]
            # What fewer lines explain needs no more of them.
            best = [one for one in best if not any(_simpler(case, other, one) for other in best)]
            if best[0].code == "frame.wrong-spi-mode" and any(True for _ in mode(case)):
                return  # the edges tell it by themselves
            evidence = {"as wired": f"{now:.0%} of what it gets makes sense", "this way": f"{top:.0%}"}
            for wiring in best[:2]:
                yield _told(case, reading, wiring, best[:2], "certain" if len(best) == 1 else "likely", evidence)


def _carries(case: Case, piece: Trace, wiring: Wiring) -> bool:
    """Whether the lines have the shape of this bus under a hypothesis; what has not is another device's traffic."""
    if not case.kind.each_rests:
        return True  # there the words' own frames tell
    for role in wiring.inverted:
        piece = mishap.invert(piece, case.bus.lines[role])
    roles = {role: case.trace.index(name) for role, name in wiring.bus.lines.items() if name in case.trace.names}
    return bearing(case, roles, piece) >= CARRIED


def _simpler(case: Case, one: Wiring, other: Wiring) -> bool:
    """Whether of two sets of inverted lines one explains as much as the other. A clock that rests at the wrong level speaks for all of them; that is
    told where the levels are given. Where they were guessed, a select does that is active the other way round than parts have it."""
    few, many = (one, other) if len(one.inverted) < len(other.inverted) else (other, one)
    if not few.inverted or not set(few.inverted) < set(many.inverted):
        return False
    clock = next((role for role in ("clock", *case.kind.clocks) if role in case.roles), "")
    if "select" in case.plan.assumed or "mode" in case.plan.assumed:
        wrong = case.bus.select == "high"
    else:
        edges = case.edges(clock)
        stretch = edges.durations()
        wrong = int(stretch[edges.level == 1].sum() > stretch[edges.level == 0].sum()) != case.bus.mode >> 1
    return one is (many if wrong else few)


def _illegible(reading: DeviceReading) -> bool:
    """Whether a character display gets some codes that are no letters, however many are."""
    worth = [share for chip in reading.chips for share in legible(reading.part, chip)]
    return bool(worth) and float(np.mean(worth)) < 0.97


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
        return _under(case, trace, reading, Wiring("", "", (), msgspec.structs.replace(bus, lines={**bus.lines, **named})))

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
    """Data lines or selects exchanged where every command stays legal: only the picture tells, which is more orderly the right way round.

    Noise, dither and hatching are orderly in no order of rows, or in a wrong one, so of them nothing is said.
    """
    for reading in case.direct:
        if reading.part.memory.kind not in ("paged", "pixel") or not borne(case) or len(case.trace) > MOST_CHANGES:
            continue
        worth = sense(reading.part, reading.chips)
        if worth - unmet(case, reading, reading.chips) < SENSIBLE:
            continue
        now = _lit(reading, reading.chips)
        if now is None:
            continue
        if _transitions(now.T) > DRAWN:
            case.shared.unjudged.append(
                f"whether lines of '{case.bus.name}' are exchanged that leave every command legal: only the picture could tell, and it is no drawing"
            )
            continue
        tried: list[tuple[float, Wiring]] = []
        data = case.kind.data_lines(case.bus.lines)
        for wiring in hypotheses(case):
            if wiring.code not in ("wiring.swapped-lines", "wiring.reversed-bus") or not set(wiring.lines) <= {*data, *CHIPS}:
                continue
            own = _under(case, case.trace, reading, wiring)
            if own is None or sense(reading.part, own) < worth - 0.01 or unmet(case, reading, own):
                continue
            other = _lit(reading, own)
            if other is None or other.shape != now.shape:
                continue
            if set(wiring.lines) <= set(CHIPS):
                score = _seam(now, reading.part.memory.columns) / (SEAM if _second_first(reading) else 2.5 * SEAM)
            else:
                score = _orderlier(now, other) / _needed(wiring, data)
            tried.append((score, wiring))
        tried.sort(key=lambda entry: -entry[0])
        if not tried or tried[0][0] < 1:
            if tried:
                case.rule_out("wiring.swapped-lines", "no other order of the data lines makes the picture more orderly")
            continue
        close = [entry for entry in tried if entry[0] > max(1.0, tried[0][0] - 0.1)][:2] or tried[:1]
        for score, wiring in close:
            evidence = {"the picture is more orderly this way": f"{score:.1f} times as surely as chance among all orders allows"}
            yield _told(case, reading, wiring, [other for _, other in close], "likely", evidence)


def _needed(wiring: Wiring, data: list[str]) -> float:
    """Standard deviations by which a picture has to be more orderly: for wires that are easily mistaken (neighbours, the whole turned round) such that
    one of all pairs reaches it by chance in some thousands of pictures; for others, which structure in a picture can imitate, more."""
    places = [data.index(role) for role in wiring.lines]
    return NEAR if len(places) > 2 or abs(places[0] - places[-1]) == 1 else FAR


def _transitions(lit: NDArray[np.bool_]) -> float:
    """The share of neighbours down the columns that differ."""
    return float(np.mean(lit[1:] != lit[:-1]))


def _seam(now: NDArray[np.bool_], columns: int) -> float:
    """By how many bits the picture tells that its halves are exchanged: what the outer columns know of one another, less what those at the seam do.

    What is drawn goes on across the seam: where one of its columns changes from row to row, the other mostly does, too. Two outer columns have
    nothing to do with each other; what runs across the whole picture is known to both pairs alike.
    """

    def known(a: NDArray[np.bool_], b: NDArray[np.bool_]) -> float:
        one, two = a[1:] != a[:-1], b[1:] != b[:-1]
        bits = 0.0
        for x in (one, ~one):
            for y in (two, ~two):
                both = float(np.mean(x & y))
                if both:
                    bits += both * float(np.log2(both / (np.mean(x) * np.mean(y))))
        return bits * len(one)

    return known(now[:, -1], now[:, 0]) - known(now[:, columns - 1], now[:, columns])


def _second_first(reading: DeviceReading) -> bool:
    """Whether each page of the chip on the right is written ahead of the same page of the left one: drivers begin on the left."""
    if len(reading.chips) != 2:
        return False
    firsts: list[dict[int, int]] = []
    for chip in reading.chips:
        pages: dict[int, int] = {}
        for index, command, raw in chip.listed():
            if command is not None and command.effect == "page":
                pages.setdefault(raw[0], chip.time_of(index))
        firsts.append(pages)
    both = firsts[0].keys() & firsts[1].keys()
    return len(both) > 2 and all(firsts[1][page] < firsts[0][page] for page in both)


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
    guessed = "mode" in case.plan.assumed
    if not select or clock not in case.roles or data not in case.roles or case.words < 4:
        return
    piece = excerpt(case.trace, lines=case.roles.values())
    spans = selected(piece, case.roles[select], 1 if bus.select == "high" else 0)
    found, clear = mode_of(piece, case.roles[clock], case.roles[data], spans)
    # Where the mode was worked out from these edges, only the parts tell which one was meant.
    able = {mode for reading in case.direct for mode in reading.part.spi_modes} if guessed else {bus.mode}
    if not able:
        return
    meant = min(able)
    same = (found in (0, 3)) == (meant in (0, 3))
    if not same and guessed and inverted_as_a_whole(case):
        return  # then the clock is, too
    if not same and clear > 0.95 and (guessed or not any(sense(reading.part, reading.chips) >= 0.97 for reading in case.devices)):
        yield case.found(
            "frame.wrong-spi-mode", "edges", lines=case.names(clock, data), start=case.seconds(piece.start), end=case.seconds(piece.end),
            evidence={"data changes clear of the other edge": f"{clear:.0%}"}, edge="rising" if meant in (0, 3) else "falling",
            mode=meant, other=found, polarity=meant >> 1, phase=meant & 1,
        )  # fmt: skip
    elif same:
        case.rule_out("frame.wrong-spi-mode", f"data are at rest where mode {meant} samples them")


wirings = [
    Rule("frame", mode, has_selects),
    Rule("frame", marks_stuck, moves_words),
    Rule("wiring", other_wirings, moves_words),
    Rule("wiring", pictures, latches),
]
