"""How much of what a character display gets could be read: what tells a wiring or a part that is right from one that is not.

Codes that its character generators have count: below 10h only those of the user's own characters that were defined by then, from 10h to 1Fh
and from 80h to A0h none (HD44780U, Table 4, ROM code A00; ROM code A02 has some there).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .characters import ASCII_AT
from .describe import Part
from .engine import Commands

__all__ = ["readable_runs", "readable_share"]

SAMPLE = 400  # commands of a chip that are looked at where a sample will do
TO_CELLS = ("cell", "clear", "home")  # what brings words that follow to the cells again


def _runs(part: Part, chip: Commands, most: int | None) -> list[tuple[NDArray[np.uint8], bool]]:
    """Runs of words for its cells, and whether the user's own characters were defined by then. most: commands that are looked at."""
    out, defined, defining = [], False, False
    above = ASCII_AT.get(part.memory.rom, 0)
    for index in range(len(chip) if most is None else min(len(chip), most)):
        kind = int(chip.kind[index])
        if kind >= 0:
            effect = part.command[kind].effect
            defining = effect == "glyph" or (defining and effect not in TO_CELLS)
        elif chip.name_of(index) == "data":
            defined |= defining
            if not defining:
                out.append((np.frombuffer(chip.bytes_of(index), np.uint8) ^ np.uint8(above), defined))
    return out


def _read(raw: NDArray[np.uint8], defined: bool) -> NDArray[np.bool_]:
    known: NDArray[np.bool_] = _ascii(raw) | (raw >= 0xA1) | ((raw < 0x10) & defined)
    return known


def _ascii(raw: NDArray[np.uint8]) -> NDArray[np.bool_]:
    return (raw >= 0x20) & (raw < 0x80)


def _placed(part: Part, chip: Commands) -> list[float]:
    """Of a memory of text and pixels: the share of letters of each run of text, 1 for each run of pixels, 0 for what has no place."""
    out, to = [], "cell"
    for index in range(min(len(chip), SAMPLE)):
        kind = int(chip.kind[index])
        if kind >= 0 and part.command[kind].effect:
            to = part.command[kind].effect
        elif kind < 0 and chip.name_of(index) == "data":
            raw = np.frombuffer(chip.bytes_of(index), np.uint8)
            out.append(1.0 if to == "graphic-cell" else float(np.mean(_ascii(raw) | (raw >= 0xA1))) if to in TO_CELLS else 0.0)
    return out


def _whole_updates(part: Part, chip: Commands) -> list[float]:
    """Of LEDs in a chain: 1 for each update that is of whole LEDs, 0 for what has no beginning as one has, or another length."""
    from .chained import LEAD

    start = part.memory.leds.start if part.memory.leds is not None else 0
    out = []
    for index in range(min(len(chip), SAMPLE)):
        raw = chip.bytes_of(index)
        if start:
            out.append(
                float(
                    len(raw) > start
                    and not any(raw[:start])
                    and raw[start] >= LEAD
                    and all(byte >= LEAD for byte in raw[start : start + 32 : 4])
                )
            )
        else:
            out.append(float(len(raw) % 3 == 0))
    return out


def readable_runs(part: Part, chip: Commands) -> list[float]:
    """The share that could be read of each run of text; none of a part that shows no characters. Beside text, pixels that
    have a place count, and of LEDs whole updates."""
    if part.memory.kind == "lettered":
        return _placed(part, chip)
    if part.memory.kind == "chain":
        return _whole_updates(part, chip)
    if part.memory.kind != "character":
        return []
    return [float(np.mean(_read(*run))) for run in _runs(part, chip, SAMPLE)]


def readable_share(part: Part, own: list[Commands], ascii_only: bool = False) -> float | None:
    """The share of all that goes to its cells; None where nothing does. ascii_only: of letters that every ROM has."""
    runs = [run for chip in own for run in _runs(part, chip, None)]
    if not runs:
        return None
    return float(np.mean(np.concatenate([_ascii(raw) if ascii_only else _read(raw, defined) for raw, defined in runs])))
