"""From captures of an unknown display to what is known of it: every reading of its wires is decoded, and the one that makes most sense is taken.

Nothing of the catalog has to fit: what steps while data follow is a pointer, what spans as many cells as data follow is a window. A draft
part is made of that, and all that comes behind (pictures, layouts) is what the ordinary decoder makes of the captures with it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part import Catalog, Part
from ..part.frames import frame_ends
from ..part.glass import ColourGlass, Glass, TextGlass
from ..picture.guess import orderly
from ..rig import Rig, decode
from ..rig.assumption import Options, assume
from ..rig.reading import DeviceReading
from ..rig.schema import Device
from ..sequence.from_words import REST, Event, from_words, statement, written
from ..trace import Trace
from .blocks import Habits, Told, habits_of, told_of
from .draft import draft_of, next_steps
from .machine import Machine
from .pins import Pin, pins_of
from .placing import machines
from .relatives import Relative, relatives
from .shown import RIVAL, SURE, best_fit
from .talk import Talk, steps_of, talk_of
from .wiring import Wiring, wirings

__all__ = ["Known", "LayoutGuess", "Picture", "Unravelled", "sureness", "unravel"]

MOST_FRAMES = 40  # pictures of a capture that are held against a known one
NAME = "unravelled"
DEVICE = "glass"
SWING = 0.6  # volts between low and high of a line of logic, at the least
BELOW = -0.5  # volts to which it may go
MAKES_SENSE = 0.5  # score of a machine from which on it is believed


@dataclass(frozen=True)
class Known:
    """What somebody knows. size: (width, height) of the glass. picture: (height, width) of what was on it; text: words that were."""

    size: tuple[int, int] | None = None
    picture: NDArray[np.bool_] | None = None
    text: str = ""


@dataclass(frozen=True)
class LayoutGuess:
    """How pixels lie in the words: in words, how many pixels, and how orderly the pictures are so (1 where they are those that were known)."""

    layout: str
    width: int
    height: int
    score: float


@dataclass(frozen=True)
class Picture:
    """What was on the glass. capture: its path. seconds: when. whole: whether all of it had been written."""

    capture: str
    seconds: float
    glass: Glass
    whole: bool


@dataclass
class Unravelled:
    """What was found out. wiring: the reading of the wires that makes most sense, scored (sense); others: the rest. told: set-up and blocks.
    machine: how it takes pictures, None where nobody can tell. table, part, rig: the draft. set_up: as a sequence of words."""

    paths: list[str]
    wiring: Wiring
    sense: float
    others: list[tuple[Wiring, float]]
    pins: list[Pin]
    talks: list[Talk]
    told: Told
    machine: Machine | None
    rig: Rig
    set_up: list[str]
    set_up_words: list[tuple[bool, int]]
    same_set_up: bool
    habits: Habits | None = None
    table: dict[str, Any] | None = None
    part: Part | None = None
    relatives: list[Relative] = field(default_factory=list)
    layouts: list[LayoutGuess] = field(default_factory=list)
    pictures: list[Picture] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    next: list[str] = field(default_factory=list)

    @property
    def catalog(self) -> Catalog:
        """One that has the draft."""
        own = Catalog()
        if self.part is not None:
            own.add(self.part)
        return own


def sureness(sense: float) -> str:
    """In words, of a reading's sense: pictures were found under it, and its wires leave no doubt; or one of these."""
    return "certain" if sense >= 0.9 else "likely" if sense >= 0.75 else "possible"


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
        _drafted(out, captures, known)
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
    line = bus.lines.get("reset", "")
    edges = []
    if line:
        own = part.edges(part.names.index(line))
        edges = [
            (when, "reset", level == 1)
            for when, level in zip(own.times[1:].tolist(), own.level[1:].tolist(), strict=True)
            if level < 2
        ]
    if drafted and talk.framing in ("i2c-control-byte", "nibbles"):  # of which the draft makes words by itself
        return written(
            [
                *(Event(when, when, f"{role} {'high' if high else 'low'}") for when, role, high in edges),
                *_transfers(talk, at, float(trace.tick)),
            ],
            float(trace.tick),
            {},
        )
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


# ---- the draft, and the pictures that come of it ----


def _drafted(out: Unravelled, captures: Sequence[tuple[str, Trace]], known: Known) -> None:
    machine = out.machine
    assert machine is not None
    framing, parameters = out.talks[0].framing, out.told.parameters
    out.relatives = relatives(machine, framing, parameters, out.set_up_words)
    if framing == "i2c-first-byte" and out.rig.bus[0].kind != "i2c":
        out.notes.append("commands and data are not told apart by a line or a bit on this bus: no draft is made for that yet")
        return
    if framing == "nibbles" and out.talks[0].switch is None:
        out.notes.append("words come by halves, and what switched the display to them was not captured: no draft is made of that")
        return
    if known.size is not None:
        _sized(out, machine, known.size)
    said = [step for steps in out.told.steps for step in steps]
    tops = ("low", "high") if machine.kind == "paged" else ("low",)
    drafts = [(top, *draft_of(machine, framing, parameters, NAME, top, said, out.talks[0].switch)) for top in tops]
    read = [(top, table, part, _devices(captures, out.rig, part)) for top, table, part in drafts]
    judged = [(_judged(machine, devices, known), top, table, part, devices) for top, table, part, devices in read]
    judged.sort(key=lambda own: -own[0])
    out.layouts = [
        LayoutGuess(_in_words(machine, top), machine.width, _tall(machine), round(score, 3)) for score, top, *_ in judged
    ]
    _, _, out.table, out.part, devices = judged[0]
    fitted = _held_against(out, machine, devices, known)
    if fitted:
        devices = _devices(captures, out.rig, out.part)
    out.rig.device[0] = msgspec.structs.replace(out.rig.device[0], part=NAME, panel=DEVICE)
    for (path, trace), device in zip(captures, devices, strict=True):
        glass = device.glass()
        out.pictures.append(Picture(path, trace.seconds(trace.end), glass, bool(np.all(glass.known))))
    out.next = next_steps(machine, fitted)


def _tall(machine: Machine) -> int:
    return machine.height * (8 if machine.kind == "paged" else 1)


def _in_words(machine: Machine, top: str) -> str:
    if machine.kind == "paged":
        return f"pages of eight rows, a byte a column, the {top}est bit on top"
    if machine.kind == "pixel":
        return f"rows of pixels, {8 * machine.bytes_a_cell} bits each"
    return "a code a cell" if machine.kind == "character" else "a byte a digit, wired " + " ".join(machine.wiring)


def _sized(out: Unravelled, machine: Machine, size: tuple[int, int]) -> None:
    """A size that somebody knows, against what memory tells: what was never written belongs to the glass all the same."""
    width, height = size
    written = machine.width, _tall(machine)
    if (width, height) == written or machine.kind in ("character", "digit"):
        return
    if width <= written[0] and height <= written[1]:
        out.notes.append(
            f"{written[0]}x{written[1]} are written, more than {width}x{height}: the rest is icons, or not on the glass"
        )
        return
    out.notes.append(f"only {written[0]}x{written[1]} of {width}x{height} are written in these captures")
    lines = -(-height // 8) if machine.kind == "paged" else height
    machine.first_column, machine.width = _widened(machine.first_column, machine.width, width)
    machine.first_line, machine.height = _widened(machine.first_line, machine.height, lines)


def _widened(first: int, count: int, wanted: int) -> tuple[int, int]:
    """Where a span begins and how long it is, grown to what is wanted, at its front as far as there is room."""
    if wanted <= count:
        return first, count
    return max(0, min(first, first + count - wanted)), wanted


def _devices(captures: Sequence[tuple[str, Trace]], rig: Rig, part: Part) -> list[DeviceReading]:
    """What the draft makes of each capture."""
    own = Catalog()
    own.add(part)
    device = msgspec.structs.replace(rig.device[0], part=part.name, panel=DEVICE)
    with own.in_use():
        return [decode(trace, Rig(rig.title, rig.bus, device=[device])).devices[0] for _, trace in captures]


def _judged(machine: Machine, devices: list[DeviceReading], known: Known) -> float:
    """How orderly the pictures are: neighbours that are alike; or how well the known one is among them."""
    if machine.kind in ("character", "digit"):
        return machine.score
    scores = []
    for device in devices:
        glass = device.glass()
        pixels = glass.pattern
        if known.picture is not None and not isinstance(glass, ColourGlass):
            scores.append(
                max((best_fit(own.pattern.astype(bool), known.picture, own.known).agree for own in _frames(device)), default=0.0)
            )
        elif pixels.size > 1:
            scores.append(orderly(pixels.astype(np.uint8)))
    if not scores:
        return 0.0
    return max(scores) if known.picture is not None else float(np.mean(scores))


def _frames(device: DeviceReading) -> list[Glass]:
    """The pictures of a capture, the last ones where there are many."""
    ends = frame_ends(device.memory, 1e-9)[-MOST_FRAMES:]
    return [*(device.glass(int(end)) for end in ends.tolist()), device.glass()]


def _held_against(out: Unravelled, machine: Machine, devices: list[DeviceReading], known: Known) -> bool:
    """Puts what is known of the glass into the draft; whether anything was found of it."""
    if known.text:
        return _text_found(out, machine, devices, known.text)
    if known.picture is None:
        return False
    if machine.kind not in ("paged",):
        return _colour_found(out, devices, known.picture) if machine.kind == "pixel" else False
    fits = [best_fit(glass.pattern.astype(bool), known.picture, glass.known) for device in devices for glass in _frames(device)]
    fit = max(fits, key=lambda own: own.agree)
    if fit.agree < RIVAL:
        out.notes.append(f"what was shown is nowhere in these captures: at best {fit.agree:.0%} of its pixels agree")
        return False
    out.notes.append(
        f"what was shown is there: {fit.agree:.1%} of its pixels agree"
        + ("" if fit.agree >= SURE else "; not all of it was sent")
    )
    if fit.inverse:
        out.notes.append("its bits are the other way round: 1 is dark")
    assert out.table is not None
    panel = out.table["panels"][DEVICE]
    _mounted(panel, machine, fit.rotate, fit.mirror, (fit.left, fit.top), known.picture.shape)
    out.part = msgspec.convert(out.table, Part)
    return True


def _mounted(
    panel: dict[str, Any], machine: Machine, rotate: int, mirror: bool, corner: tuple[int, int], shape: tuple[int, ...]
) -> None:
    """A panel's key for how the known picture lies. corner: of the picture within the whole as it is seen; shape: (height, width) of it."""
    whole = np.zeros((_tall(machine), machine.width), np.int64)
    whole[:] = np.arange(whole.size).reshape(whole.shape)
    seen = np.rot90(whole[:, ::-1] if mirror else whole, -(rotate // 90))
    piece = seen[corner[1] : corner[1] + shape[0], corner[0] : corner[0] + shape[1]]
    rows, columns = piece // machine.width, piece % machine.width
    width, height = int(columns.max() - columns.min()) + 1, int(rows.max() - rows.min()) + 1
    panel["width"], panel["height"] = width, height
    panel["column_offset"] = machine.first_column + int(columns.min())
    panel["row_offset"] = 8 * machine.first_line + int(rows.min())
    panel["rotate"], panel["mirror"] = rotate, mirror
    for key in ("column_offset", "row_offset", "rotate", "mirror"):
        if not panel[key]:
            del panel[key]


def _colour_found(out: Unravelled, devices: list[DeviceReading], picture: NDArray[np.bool_]) -> bool:
    """Of a colour panel: whether its bright and dark parts are those of the picture."""
    best = 0.0
    for device in devices:
        for glass in _frames(device):
            if isinstance(glass, ColourGlass) and glass.pattern.shape[:2] == picture.shape:
                bright = glass.pattern.astype(int).sum(axis=2)
                best = max(
                    best, *(float(np.mean((bright > cut) == picture)) for cut in np.percentile(bright, (20, 40, 50, 60, 80)))
                )
    out.notes.append(
        f"bright and dark parts agree in {best:.0%} with what was shown"
        if best >= RIVAL
        else "what was shown is not in these captures"
    )
    return best >= RIVAL


def _text_found(out: Unravelled, machine: Machine, devices: list[DeviceReading], text: str) -> bool:
    """Whether words were on the glass at some time."""
    for path, device in zip(out.paths, devices, strict=True):
        for glass in _frames(device):
            if isinstance(glass, TextGlass) and any(text in line for line in glass.lines):
                out.notes.append(f"'{text}' is on the glass in {path}")
                return True
    if machine.kind in ("character", "digit"):
        out.notes.append(f"'{text}' is never on the glass as the draft has it: its codes may be other letters")
    else:
        out.notes.append("words on a glass of pixels tell nothing of its layout: give --shown a picture")
    return False
