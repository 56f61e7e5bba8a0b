"""Lines in each other's place, turned over or set otherwise, told by the words: as wired they make little sense, and another way much more."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import msgspec
import numpy as np
from numpy.typing import NDArray

from ...bus.base import SELECTS
from ...bus.carries import spans_selected
from ...bus.changes import edges_to, typical
from ...bus.spi_roles import mode_of
from ...finding import Finding
from ...part import Commands, Part, Payload, commands
from ...part.bring_up import set_up_in
from ...part.engine import DATA
from ...part.wrap import WRAPS
from ...rig import DeviceReading
from ...trace import Trace, mishap
from ..bearing import CARRIED, bearing, borne, exchanged_by_shape
from ..case import GAIN, STRANGE, Case, legibility, select_for, sense, strange_share, unmet
from ..hypotheses import (
    MOST_TOLD,
    SENSIBLE,
    Wiring,
    brought_up,
    hypotheses,
    inverted_as_a_whole,
    told,
    under,
    worth,
    wrong_base,
)
from ..permuted import best_order
from ..rule import Rule, has_selects, moves_words

__all__ = ["RULES"]

FIRST = (6, 10, 16, 24)  # commands that a set-up may have
LEGIBLE = 0.97  # share of a text that has to be letters for its lines to be right
SEEN_WELL = 8.0  # samples a clock
MOST = 0.5  # of changes; the first bit of a word has no edge ahead of it
AT_ONCE = 0.1  # of a clock: within which what an edge brings comes behind it
CLEAR = 0.95  # share of data changes that keep clear of the edge that samples
WALKED = 600  # bytes in which a set-up ends: vendors have long ones
ANEW = 2  # changes of a reset line by a driver that begins again
IN_A_ROW = 60  # commands without data that a set-up may have
FEW = 6000  # changes on which orders of the data lines are tried


def marks_stuck(case: Case) -> Iterator[Finding]:
    """The line that tells data from commands never moves."""
    role = case.kind.marks
    if role not in case.roles or case.moves(role) or case.words < 4:
        return
    for reading in case.direct:
        framing = case.rig.target(reading.device).framing
        if not WRAPS[framing].marked or role in WRAPS[framing].without:
            continue
        beside = _exchanged_with_direction(case, reading)
        if beside is not None:
            yield beside
            return
        if not _was_meant(case, reading):
            continue
        level = case.pulses(role).level
        name, (start, end) = case.bus.lines[role], case.span
        yield case.found(
            "frame.dc-stuck", "high" if level else "low", device=reading.device.name, lines=[name], start=start, end=end,
            evidence={"words": case.words, "as wired": f"{worth(case, reading):.0%} of what it gets makes sense"}, name=name, role=role.upper(),
        )  # fmt: skip
        return


def _exchanged_with_direction(case: Case, reading: DeviceReading) -> Finding | None:
    """RS and R/W exchanged: the line that never moves is the one that says write, and the one that does is the one that tells data."""
    marks = case.kind.marks
    if not case.moves("rw"):
        return None
    wiring = _exchange(case, marks, "rw")
    own = under(case, case.piece, reading, wiring)
    now, other = worth(case, reading), 0.0 if own is None else sense(reading.part, own) - unmet(case, reading, own)
    if not brought_up(reading, own) or other < max(0.7, now):
        return None
    evidence = {"as wired": f"{now:.0%} of what it gets makes sense", "this way": f"{other:.0%}"}
    return told(case, reading, wiring, [wiring], "certain", evidence)


def beside_exchanged(case: Case) -> Iterator[Finding]:
    """A line beside the bus, reset or busy, in the place of a select or of the line that tells data from commands: what the part gets as wired makes
    no sense, and all of it does the other way round; a reset that is in its place rests while words move."""
    if "beside" not in case.kept:
        case.kept["beside"] = list(_beside_exchanged(case))
    yield from case.kept["beside"]


def _beside_exchanged(case: Case) -> Iterator[Finding]:
    if exchanged_by_shape(case) is not None or not any(case.moves(role) for role in case.kind.clocks):
        return
    for reading in case.direct:
        # A reset line that rests high in the place of a select looks like one that is active high, which the part does not have.
        # (Which chips of a parallel bus are selected when high is up to their module.)
        taken = case.kind.transfers and "select" in case.plan.assumed and case.bus.select != reading.part.select
        select = select_for(case, reading.device.select)
        now = 0.0 if taken else worth(case, reading)
        if not taken and _understood(reading, now):
            continue
        for side in ("reset", "busy"):
            for role in (select, case.kind.marks):
                if role not in case.roles or not case.moves(side) or not case.moves(role) or (taken and role != select):
                    continue
                if side == "reset" and _amid_words(case, role):
                    continue
                wiring = _exchange(case, role, side, reading.part.select if taken else "")
                own = under(case, case.piece, reading, wiring)
                other = 0.0 if own is None else sense(reading.part, own) - unmet(case, reading, own)
                if brought_up(reading, own) and other >= max(0.7, now + GAIN * (1 - now)):
                    evidence = {"as wired": f"{now:.0%} of what it gets makes sense", "this way": f"{other:.0%}"}
                    yield told(case, reading, wiring, [wiring], "certain", evidence)
                    return


def _exchange(case: Case, a: str, b: str, select: str = "") -> Wiring:
    """Two roles in each other's place. select: the level that then selects, where it is not as wired."""
    lines = case.bus.lines
    values = {"a": a.upper(), "b": b.upper(), "line_a": lines[a], "line_b": lines[b], "role_a": a, "role_b": b}
    bus = msgspec.structs.replace(case.bus, lines={**lines, a: lines[b], b: lines[a]}, select=select or case.bus.select)
    return Wiring("wiring.swapped-lines", "", (a, b), bus, values)


def _amid_words(case: Case, role: str) -> bool:
    """Whether the line of a role changes while words move, which a reset line does not but where a driver resets its part anew."""
    piece, clock = case.piece, next(role for role in case.kind.clocks if case.moves(role))
    edges, changes = piece.edges(case.roles[clock]).times[1:], piece.edges(case.roles[role]).times[1:]
    if len(edges) < 2:
        return False
    return int(np.count_nonzero((changes > edges[0]) & (changes < edges[-1]))) > ANEW


def _was_meant(case: Case, reading: DeviceReading) -> bool:
    """Whether the words behind a line that never moves were meant to be of both kinds. Where it marks all as data, they have to begin with a set-up:
    a capture that begins within a picture does not. Where it marks all as commands, there is a set-up, or what came was no command."""
    part = reading.part
    if part.parameters == "data":  # what comes behind such a command is data by right, so only the codes themselves tell
        behind_reset = "reset" in case.roles and case.moves("reset")  # there comes a set-up, and nothing else
        whole = 2 / 3 if behind_reset else 3 / 4
        return any(
            _codes_of_a_set_up(part, chip.payload.value, whole) or _walked(part, chip.payload.value) for chip in reading.chips
        )
    steps = set(part.start_up)
    for chip in reading.chips:
        own = chip.payload
        high = bool(own.data.any())
        meant = commands(part, Payload(own.value, np.zeros_like(own.data), own.time, own.start, own.end, own.transaction))
        for most in FIRST if high else (MOST_TOLD,):  # what comes behind a set-up is a picture, and no command
            first = range(min(len(meant), most))
            names = {meant.name_of(index) for index in first}
            strange = float(np.mean([int(meant.kind[index]) < 0 for index in first])) if len(meant) else 0.0
            if set_up_in(part, names) and (not high or (strange < 0.1 and 2 * len(names & steps) > len(steps))):
                return True
            if not high and strange > 0.1:
                return True
    return False


def _codes_of_a_set_up(part: Part, value: NDArray[np.uint8], whole: float) -> bool:
    """Whether bytes begin with a reset or a step of a set-up, and have the codes of most steps soon. whole: the share of the steps that is enough."""
    table = part.table()
    steps = {code for code in range(256) if table[code] >= 0 and part.command[table[code]].name in part.start_up}
    resets = {code for code in range(256) if table[code] >= 0 and part.command[table[code]].effect == "reset"}
    seen = steps & {int(each) for each in value[: 2 * FIRST[-1]]}
    return bool(len(value)) and int(value[0]) in steps | resets and len(seen) >= whole * len(set(part.start_up))


def _walked(part: Part, value: NDArray[np.uint8]) -> bool:
    """Whether bytes, read as codes each with its parameters from the first one on, are a whole set-up, without one that the part does not know."""
    table, at, names = part.table(), 0, set[str]()
    while at < min(len(value), WALKED):
        number = table[int(value[at])]
        if number < 0:
            return False
        command = part.command[number]
        names.add(command.name)
        if names >= set(part.start_up):
            return True
        at += len(command.patterns)
    return False


@dataclass
class _Tried:
    """What a device makes of the traffic under a hypothesis. score: how much sense, less the rules that are broken."""

    score: float
    wiring: Wiring
    own: list[Commands]


def other_wirings(case: Case) -> Iterator[Finding]:
    """The wiring under which the capture makes most sense, where that is much more than as wired."""
    if not any(case.moves(role) for role in case.kind.clocks):
        return
    if exchanged_by_shape(case) is not None or any(True for one in (marks_stuck, beside_exchanged) for _ in one(case)):
        return
    piece = case.piece
    for reading in case.devices:
        now = worth(case, reading)
        if _understood(reading, now):
            case.rule_out("wiring.swapped-lines", f"'{reading.device.name}' understands what it gets as wired")
            continue
        if wrong_base(case, reading, now) is not None:
            continue  # one number that is wrong explains as much, and the rest makes sense as wired
        tried = sorted(_tried(case, piece, reading), key=lambda entry: -entry.score)
        top = tried[0].score if tried else 0.0
        if case.kind.data_lines(case.bus.lines) and top < 0.97 and borne(case):
            shuffled = _shuffled(case, piece, reading, now, top)
            if shuffled is not None:
                yield shuffled
                return
        if tried:
            yield from _best(case, reading, tried, now)


def _understood(reading: DeviceReading, now: float) -> bool:
    """Whether a device makes sense of what it gets as wired. now: how much."""
    return (
        now >= SENSIBLE
        and legibility(reading) >= LEGIBLE
        and (brought_up(reading, reading.chips) or not reading.part.start_up)
        and strange_share(reading.chips) <= STRANGE
    )


def _tried(case: Case, piece: Trace, reading: DeviceReading) -> Iterator[_Tried]:
    """Every hypothesis that could be, and what a device makes of an excerpt under it."""
    dead = [role for role in case.kind.data_lines(case.bus.lines) if role in case.roles and not case.moves(role)]
    edges = _mode_by_edges(case) if "mode" in case.kind.settings else None
    for wiring in hypotheses(case):
        if any(not case.moves(line) for line in wiring.lines) and len(wiring.lines) < 3:
            continue  # a line that never moves is not explained by another place for it
        if dead and case.words >= 12 and wiring.code == "wiring.reversed-bus":
            continue
        if not _carries(case, piece, wiring):
            continue
        if (
            wiring.code == "frame.wrong-spi-mode"
            and edges is not None
            and edges[1] > CLEAR
            and (edges[0] in (0, 3)) == (case.bus.mode in (0, 3))
        ):
            continue  # data rest where they are sampled
        own = under(case, piece, reading, wiring)
        if own is not None and (_in_a_row(reading.part, own) <= IN_A_ROW or _in_a_row(reading.part, reading.chips) > IN_A_ROW):
            yield _Tried(sense(reading.part, own) - unmet(case, reading, own), wiring, own)


def _in_a_row(part: Part, own: list[Commands]) -> int:
    """The most commands that follow one another without a word of data, of a display whose pictures are data: set-ups have a few dozen, and
    pictures that are taken for commands have hundreds, of which some are a set-up's by chance."""
    most = 0
    for chip in own if part.memory.kind in ("paged", "pixel") else ():
        data = np.flatnonzero(np.concatenate([[True], chip.kind == DATA, [True]]))
        most = max(most, int(np.diff(data).max()) - 1)
    return most


def _best(case: Case, reading: DeviceReading, tried: list[_Tried], now: float) -> Iterator[Finding]:
    """The hypotheses that make most sense, where that is much more than as wired. tried: the best first."""
    top = tried[0].score
    if top < now + GAIN * (1 - now) or top < 0.7 or not brought_up(reading, tried[0].own):
        return
    best = [entry.wiring for entry in tried if entry.score >= top - 0.02]
    # What fewer lines explain needs no more of them.
    best = [one for one in best if not any(_simpler(case, other, one) for other in best)]
    if best[0].code == "frame.wrong-spi-mode" and any(True for _ in mode(case)):
        return  # the edges tell it by themselves
    evidence = {"as wired": f"{now:.0%} of what it gets makes sense", "this way": f"{top:.0%}"}
    for wiring in best[:2]:
        yield told(case, reading, wiring, best[:2], "certain" if len(best) == 1 else "likely", evidence)


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
    if "select" in case.plan.assumed or "mode" in case.plan.assumed:
        wrong = case.bus.select == "high"
    else:
        clock = case.pulses(case.clocks[0])
        wrong = int(clock.high.total > clock.low.total) != case.bus.mode >> 1
    return one is (many if wrong else few)


def _shuffled(case: Case, piece: Trace, reading: DeviceReading, now: float, pair: float) -> Finding | None:
    """The data lines in another order than any one exchange makes, where everything makes sense in that order."""
    bus = case.bus
    small = piece if len(piece) <= FEW else piece.window(piece.start, int(piece.times[FEW]))

    def in_order(lines: dict[str, int], trace: Trace) -> list[Commands] | None:
        named = {role: case.trace.names[line] for role, line in lines.items()}
        return under(case, trace, reading, Wiring("", "", (), msgspec.structs.replace(bus, lines={**bus.lines, **named})))

    def worth_of(lines: dict[str, int]) -> float:
        own = in_order(lines, small)
        return sense(reading.part, own) - unmet(case, reading, own) if own is not None else 0.0

    target = case.rig.target(reading.device)
    score, lines = best_order(small, case.roles, target, 1 if bus.select == "high" else 0, worth_of)
    moved = [role for role in lines if lines[role] != case.roles[role]]
    own = in_order(lines, piece)
    if score < 0.9 or score < pair + 0.03 or score < now + GAIN * (1 - now) or len(moved) < 3 or not brought_up(reading, own):
        return None
    start, end = case.span
    return case.found(
        "wiring.swapped-lines", "any-order", confidence="likely", device=reading.device.name, lines=[bus.lines[role] for role in moved],
        start=start, end=end, evidence={"as wired": f"{now:.0%} of what it gets makes sense", "this way": f"{score:.0%}"},
        shown=", ".join(f"'{case.trace.names[lines[role]]}' is {role.upper()}" for role in moved),
        options=" ".join(f"--line {role}={case.trace.names[lines[role]]}" for role in moved),
    )  # fmt: skip


def _mode_by_edges(case: Case) -> tuple[int, float, Trace] | None:
    """The SPI mode by the edges at which data change, how clear that is, and the excerpt that tells it; None where neither a select does, nor the
    level at which the clock of a bus without one rests."""
    clock, data = case.kind.needs
    selects = sorted((role for role in SELECTS if role in case.roles), key=case.moves)
    if clock not in case.roles or data not in case.roles:
        return None
    piece = case.piece
    if not selects:
        whole = np.array([piece.start]), np.array([piece.end])
        return *mode_of(piece, case.roles[clock], case.roles[data], whole), piece
    spans = spans_selected(piece, case.roles[selects[-1]], int(case.bus.select == "high"))
    return *mode_of(piece, case.roles[clock], case.roles[data], spans), piece


def _driven_by(case: Case, piece: Trace, meant: int) -> bool:
    """Whether data change right behind the edge at which a mode samples them, seen so finely that it is no matter of sampling: that edge brings
    them, and whether the part still takes the bit that was there is luck. Data that are only late come ahead of it."""
    if (case.samples_a_clock or 0.0) < SEEN_WELL:
        return False
    clock, data = (case.roles[role] for role in case.kind.needs)
    edges, changes = edges_to(piece, clock, int(meant in (0, 3))), piece.edges(data).times[1:]
    at = np.searchsorted(edges, changes, side="right") - 1
    if len(edges) < 2 or not (at >= 0).any():
        return False
    behind = (changes - edges[np.maximum(at, 0)])[at >= 0]
    return float(np.mean(behind <= AT_ONCE * typical(np.diff(edges)))) > MOST


def mode(case: Case) -> Iterator[Finding]:
    """The edge at which data change, against the mode that the rig says: told by the wires alone, whatever they carry."""
    guessed = "mode" in case.plan.assumed
    edges = _mode_by_edges(case) if case.words >= 4 else None
    if edges is None:
        return
    found, clear, piece = edges
    clock, data = case.kind.needs
    alone = not any(role in case.roles for role in SELECTS)
    if alone and not any(brought_up(own, own.chips) and sense(own.part, own.chips) >= SENSIBLE for own in case.direct):
        return  # without a select to enclose them, words are what makes sense of the edges
    # Where the mode was worked out from these edges, only the parts tell which one was meant.
    able = {mode for reading in case.direct for mode in reading.part.spi_modes} if guessed else {case.bus.mode}
    if not able:
        return
    meant = min(able)
    same = (found in (0, 3)) == (meant in (0, 3))
    if not same and guessed and inverted_as_a_whole(case):
        return  # then the clock is, too
    if (
        not same
        and clear > CLEAR
        and (
            guessed
            or _driven_by(case, piece, meant)
            or not any(sense(reading.part, reading.chips) >= 0.97 for reading in case.devices)
        )
    ):
        yield case.found(
            "frame.wrong-spi-mode", "edges", lines=case.names(clock, data), start=case.seconds(piece.start), end=case.seconds(piece.end),
            evidence={"data changes clear of the other edge": f"{clear:.0%}"}, edge="rising" if meant in (0, 3) else "falling",
            mode=meant, other=found, polarity=meant >> 1, phase=meant & 1,
        )  # fmt: skip
    elif same:
        case.rule_out("frame.wrong-spi-mode", f"data are at rest where mode {meant} samples them")


RULES = [
    Rule("frame", mode, has_selects),
    Rule("frame", marks_stuck, moves_words),
    Rule("wiring", beside_exchanged, moves_words),
    Rule("wiring", other_wirings, moves_words),
]
