"""From captures of an unknown display to what is known of it: every reading of its wires is decoded, and the one that makes most sense is taken.

Nothing of the catalog has to fit: what steps while data follow is a pointer, what spans as many cells as data follow is a window. A draft
part is made of that, and all that comes behind (pictures, layouts) is what the ordinary decoder makes of the captures with it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..errors import HushedError
from ..rig import Rig, decode
from ..rig.assumption import Options, assume
from ..rig.schema import Device
from ..sequence.from_words import REST, Event, beside, from_words, statement, written
from ..trace import Trace
from .blocks import Told, habits_of, told_of
from .found import DEVICE, Known, Unravelled, sureness
from .machine import Machine
from .pictured import drafted
from .pins import pins_of
from .placing import machines
from .talk import Talk, steps_of, talk_of
from .wiring import Wiring, wirings

__all__ = ["unravel"]

SWING = 0.6  # volts between low and high of a line of logic, at the least
BELOW = -0.5  # volts to which it may go
MAKES_SENSE = 0.5  # score of a machine from which on it is believed


@dataclass
class _Read:
    """A reading of the wires, and what comes of it."""

    wiring: Wiring
    talks: list[Talk]
    told: Told
    machine: Machine | None
    score: float


def unravel(captures: Sequence[tuple[str, Trace]], known: Known | None = None) -> Unravelled:
    """What captures tell of a display that nobody knows. captures: (path, trace), all with the same lines.

    Raises HushedError where no lines look like a bus that a display hangs on.
    """
    known = known or Known()
    first = captures[0][1]
    for path, trace in captures[1:]:
        missing = next((name for name in first.names if name not in trace.names), None)
        if missing is not None:
            raise HushedError(
                f"it has no line '{missing}'",
                where=path,
                remedy="captures of one display have the same lines, with the same names",
            )
    captures = [(path, _of_logic(trace)) for path, trace in captures]
    found = _read(captures)
    best = found[0]
    others = [(own.wiring, own.score) for own in found[1:6]]
    out = _outcome(captures, best, others, first)
    if best.machine is not None:
        if best.machine.kind != "digit":
            out.habits = habits_of(best.told, _lead_length(best.machine, best.told))
        drafted(out, captures, known)
    selects = [line for role, line in out.rig.bus[0].lines.items() if role in ("cs1", "cs2", "cs3")]
    if len(selects) > 1:
        out.notes.append(
            f"{len(selects)} chips share the glass, with selects of their own ({', '.join(selects)}): this is what the first is told"
        )
    recognised = _recognised(captures[0][1])
    if recognised:
        out.notes.append(recognised)
    return out


def _of_logic(trace: Trace) -> Trace:
    """The lines that can be logic: what hardly moves in volts, or goes below ground, is none, whatever its threshold makes of its noise."""
    logic = [line for line, (low, high, _) in enumerate(trace.volts) if high - low >= SWING and low >= BELOW]
    return trace if len(logic) == len(trace.volts) else trace.select(logic, tuple(trace.names[line] for line in logic))


def _recognised(trace: Trace) -> str:
    """What the catalog makes of a capture as it stands, "" where nothing of it fits."""
    try:
        setup = assume(trace, Options())
        reading = setup.read(trace)
    except HushedError:
        return ""
    parts = [device.part.name for device in reading.devices if len(device)]
    behind = f" behind {setup.rig.bridge[0].part}" if setup.rig.bridge else ""
    if not parts or not all(device.started or device.part.memory.kind == "scanned" for device in reading.devices):
        return ""
    return f"the catalog knows what these captures are for: {', '.join(parts)}{behind}; hushed-wire diagnose and screen need no draft"


def _read(captures: Sequence[tuple[str, Trace]]) -> list[_Read]:
    """Every reading of the wires, the one first that makes most sense."""
    out: list[_Read] = []
    for wiring in wirings(captures[0][1]):
        talks = [talk_of(trace, wiring.bus) for _, trace in captures]
        heard = [talk for talk in talks if talk is not None]
        if len(heard) < len(talks):
            continue
        told = told_of([steps_of(talk) for talk in heard])
        best = next(iter(machines(told, heard[0].marked, heard[0].framing == "register-pairs")), None)
        if best is not None and best.score < MAKES_SENSE:
            best = None
        out.append(_Read(wiring, heard, told, best, wiring.likely + (best.score if best is not None else 0.0)))
    if not out:
        has = ", ".join(captures[0][1].names[:16])
        raise HushedError(
            "no lines look like a bus of a display",
            where=captures[0][0],
            remedy=f"I2C, SPI and parallel buses were tried on {has}; capture more lines, or faster, while the old device draws; "
            "where they should be one, hushed-wire diagnose tells what is wrong with the wires",
        )
    return sorted(out, key=lambda own: -own.score)


def _outcome(captures: Sequence[tuple[str, Trace]], best: _Read, others: list[tuple[Wiring, float]], every: Trace) -> Unravelled:
    """every: the first capture with all its lines."""
    bus, talk = best.wiring.bus, best.talks[0]
    if talk.framing == "register-pairs":
        bus.bits = 16
    bus.name = "old"
    device = Device(DEVICE, bus.name, address=talk.address)
    rig = Rig("a display without a datasheet", [bus], device=[device])
    firsts = [_first_picture(own, told_of([steps_of(own)]), best) for own in best.talks]
    words = [_words_ahead(own, at) for own, at in zip(best.talks, firsts, strict=True)]
    same = min(map(len, words))
    while any(own[:same] != words[0][:same] for own in words):
        same -= 1
    trace = captures[0][1]
    busy = int(talk.start[0]), int(talk.end[-1])
    return Unravelled(
        [path for path, _ in captures], best.wiring, best.score / 2, others,
        pins_of(every, dict(bus.lines), best.wiring.because, busy, sureness(best.score / 2)), best.talks, best.told, best.machine, rig,
        _set_up_lines(trace, rig, talk, firsts[0], best.machine is not None), words[0], len(captures) > 1 and all(own == words[0] for own in words),
    )  # fmt: skip


def _first_picture(talk: Talk, told: Told, best: _Read) -> int:
    """The word of a talk at which the first picture's lead begins; its length where no picture comes."""
    machine = best.machine
    if machine is None:
        return len(talk)
    if told.steps[0] and not told.steps[0][0].code:
        return 0  # data come first: it begins in mid-traffic
    if machine.kind == "digit":
        digit = machine.pointers["digit"]
        own = range(digit.code, digit.code + machine.width)
        return next((step.first for step in told.steps[0] if step.code and step.code[0] in own), len(talk))
    if not told.blocks:
        return len(talk)
    step = told.steps[0][told.blocks[0].last]
    length = _lead_length(machine, best.told)
    return max(0, step.last - len(step.args) - min(length, len(told.blocks[0].lead)))


def _lead_length(machine: Machine, told: Told) -> int:
    """Words ahead of each block that belong to it."""
    if machine.windows:
        return sum(1 + 2 * window.wide for window in machine.windows.values()) + (machine.write >= 0)
    if machine.kind == "character":
        return 1
    return sum(1 + (pointer.behind >= 0) for pointer in machine.pointers.values() if pointer.code >= 0)


def _words_ahead(talk: Talk, at: int) -> list[tuple[bool, int]]:
    return list(zip(talk.data[:at].tolist(), talk.value[:at].tolist(), strict=True))


def _set_up_lines(trace: Trace, rig: Rig, talk: Talk, at: int, drafted: bool) -> list[str]:
    """What came ahead of the first picture, as a sequence of words: transfers, rests, and edges of reset."""
    if not at:
        return []
    end = int(talk.start[at]) if at < len(talk) else trace.end
    part = trace.window(trace.start, max(end, trace.start + 1))
    bus = rig.bus[0]
    channels = decode(part, Rig(bus=[bus])).channels
    edges = beside(part, bus.lines)
    if drafted and talk.framing in ("i2c-control-byte", "nibbles"):  # of which the draft makes words by itself
        return written([*edges, *_transfers(talk, at, float(trace.tick))], float(trace.tick), {})
    names = {talk.address: DEVICE} if talk.address is not None else {}
    lines = from_words(channels, float(trace.tick), names, edges)
    return [line for line in lines if not line.startswith("device ")]


def _transfers(talk: Talk, at: int, tick: float) -> list[Event]:
    """The first words of a talk, transfer by transfer."""
    new = talk.transfer[1:at] != talk.transfer[: at - 1]
    if talk.framing == "nibbles":  # on a bus without transfers rests are what there is, and where data begin
        rests = talk.start[1:at] - talk.end[: at - 1] >= REST / tick
        new = rests | (talk.data[1:at] != talk.data[: at - 1])
    begins = np.flatnonzero(np.append(True, new))
    spans = zip(begins.tolist(), np.append(begins[1:], at).tolist(), strict=True)
    return [
        Event(
            int(talk.start[first]),
            int(talk.end[last - 1]),
            statement(talk.value[first:last].astype(np.int64), talk.data[first:last].astype(np.uint8)),
        )
        for first, last in spans
    ]
