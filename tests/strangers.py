"""Strange displays held against what `unravel` makes of their captures: for the tests, and for the figures of `make accuracy`."""

from __future__ import annotations

import random
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from hushed_wire.part.glass import Glass
from hushed_wire.trace import Trace, read_capture
from hushed_wire.unravel.found import Known, Unravelled
from hushed_wire.unravel.outcome import unravel
from hushed_wire.unravel.shown import turned
from maker.strange import Strange, strange
from maker.writers import vcd

__all__ = ["Solved", "captured", "shows", "solve", "with_known"]


@dataclass(frozen=True)
class Solved:
    """What was right without knowing anything of a display. picture: of every capture the last one, upside down or mirrored counting."""

    bus: bool
    set_up: bool
    picture: bool


def captured(made: Strange, folder: Path, name: str) -> list[tuple[str, Trace]]:
    """Its captures, as files that were read."""
    out = []
    for number, wave in enumerate(made.waves):
        path = folder / f"{name}-{number}.vcd"
        vcd(wave, path)
        out.append((str(path), read_capture(path)))
    return out


def shows(glass: Glass, truth: object, turns: bool) -> bool:
    """Whether a glass shows what was drawn. turns: upside down or mirrored counts, as nothing tells."""
    if isinstance(truth, list):
        return [line.rstrip() for line in getattr(glass, "lines", [])] == [line.rstrip() for line in truth]
    seen = np.asarray(glass.pattern)
    ways = (seen, seen[::-1], seen[:, ::-1], seen[::-1, ::-1]) if turns else (seen,)
    return any(way.shape == np.shape(truth) and bool((way == truth).all()) for way in ways)


def solve(made: Strange, found: Unravelled) -> Solved:
    """What of it is right."""
    bus = found.rig.bus[0]
    pairs = list(zip(found.pictures, made.shown, strict=False))
    return Solved(
        (bus.kind, dict(bus.lines)) == (made.kind, made.roles),
        [word for _, word in found.set_up_words] == [word for _, word in made.set_up],
        bool(pairs) and all(shows(one.glass, truth, turns=True) for one, truth in pairs),
    )


def with_known(family: str, seed: int, folder: Path) -> tuple[bool, bool]:
    """Whether the picture is the one that was shown, where that was known, on a glass that is mounted any way; and, of pixels, whether it was
    told that they are inverted if and only if they are."""
    made = strange(family, seed)
    if family != "paged":
        first = made.shown[0]
        found = unravel(captured(made, folder, "known"), Known(text=first[0].strip() if isinstance(first, list) else ""))
        return bool(found.pictures) and shows(found.pictures[0].glass, first, turns=False), True
    chance = random.Random(seed)
    rotate, mirror, inverse = chance.choice((0, 90, 180, 270)), chance.random() < 0.5, chance.random() < 0.3
    seen = turned(np.asarray(made.shown[0], bool), rotate, mirror)
    found = unravel(captured(made, folder, "known"), Known(picture=~seen if inverse else seen))
    right = bool(found.pictures) and shows(found.pictures[0].glass, seen, turns=False)
    return right, any("1 is dark" in note for note in found.notes) == inverse
