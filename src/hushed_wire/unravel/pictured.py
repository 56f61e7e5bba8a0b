"""The draft of a part, and the pictures that come of it: which way bytes stand, which way up the glass is, how large it is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..part import Catalog, Part
from ..part.frames import frame_ends
from ..part.glass import ColourGlass, Glass, TextGlass
from ..picture.guess import orderly
from ..rig import Rig, decode
from ..rig.reading import DeviceReading
from ..trace import Trace
from .draft import draft_of, next_steps
from .found import DEVICE, NAME, Known, LayoutGuess, Picture, Unravelled
from .machine import Machine
from .relatives import relatives
from .shown import RIVAL, SURE, best_fit

__all__ = ["drafted"]

MOST_FRAMES = 40  # pictures of a capture that are held against a known one


@dataclass(frozen=True)
class _Seen:
    """What the draft makes of a capture. tick: seconds."""

    device: DeviceReading
    tick: float


def drafted(out: Unravelled, captures: Sequence[tuple[str, Trace]], known: Known) -> None:
    """Draws up a draft of the machine that was found, and what the captures show by it."""
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
    for (path, trace), seen in zip(captures, devices, strict=True):
        glass = seen.device.glass()
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


def _devices(captures: Sequence[tuple[str, Trace]], rig: Rig, part: Part) -> list[_Seen]:
    """What the draft makes of each capture."""
    own = Catalog()
    own.add(part)
    device = msgspec.structs.replace(rig.device[0], part=part.name, panel=DEVICE)
    with own.in_use():
        return [
            _Seen(decode(trace, Rig(rig.title, rig.bus, device=[device])).devices[0], float(trace.tick)) for _, trace in captures
        ]


def _judged(machine: Machine, devices: list[_Seen], known: Known) -> float:
    """How orderly the pictures are: neighbours that are alike; or how well the known one is among them."""
    if machine.kind in ("character", "digit"):
        return machine.score
    scores = []
    for seen in devices:
        glass = seen.device.glass()
        pixels = glass.pattern
        if known.picture is not None and not isinstance(glass, ColourGlass):
            scores.append(
                max((best_fit(own.pattern.astype(bool), known.picture, own.known).agree for own in _frames(seen)), default=0.0)
            )
        elif pixels.size > 1:
            scores.append(orderly(pixels.astype(np.uint8)))
    if not scores:
        return 0.0
    return max(scores) if known.picture is not None else float(np.mean(scores))


def _frames(seen: _Seen) -> list[Glass]:
    """The pictures of a capture, the last ones where there are many."""
    ends = frame_ends(seen.device.memory, seen.tick)[-MOST_FRAMES:]
    return [*(seen.device.glass(int(end)) for end in ends.tolist()), seen.device.glass()]


def _held_against(out: Unravelled, machine: Machine, devices: list[_Seen], known: Known) -> bool:
    """Puts what is known of the glass into the draft; whether anything was found of it."""
    if known.text:
        return _text_found(out, machine, devices, known.text)
    if known.picture is None:
        return False
    if machine.kind not in ("paged",):
        return _colour_found(out, devices, known.picture) if machine.kind == "pixel" else False
    fits = [best_fit(glass.pattern.astype(bool), known.picture, glass.known) for seen in devices for glass in _frames(seen)]
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


def _colour_found(out: Unravelled, devices: list[_Seen], picture: NDArray[np.bool_]) -> bool:
    """Of a colour panel: whether its bright and dark parts are those of the picture."""
    best = 0.0
    for seen in devices:
        for glass in _frames(seen):
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


def _text_found(out: Unravelled, machine: Machine, devices: list[_Seen], text: str) -> bool:
    """Whether words were on the glass at some time."""
    for path, seen in zip(out.paths, devices, strict=True):
        for glass in _frames(seen):
            if isinstance(glass, TextGlass) and any(text in line for line in glass.lines):
                out.notes.append(f"'{text}' is on the glass in {path}")
                return True
    if machine.kind in ("character", "digit"):
        out.notes.append(f"'{text}' is never on the glass as the draft has it: its codes may be other letters")
    else:
        out.notes.append("words on a glass of pixels tell nothing of its layout: give --shown a picture")
    return False
