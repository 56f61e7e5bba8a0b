"""What both sides showed, one after the other: pictures aligned, and those that only one of them has."""

from __future__ import annotations

from dataclasses import dataclass, field
from difflib import SequenceMatcher
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..part.frames import frame_ends
from ..part.glass import Glass, TextGlass
from ..part.model import NEVER, Journal
from .judge import Reason, reason
from .sides import Told

__all__ = ["Pictures", "Shown", "pictures"]

MOST = 200  # pictures that are looked at one by one


@dataclass
class Shown:
    """One picture that stood on the glass. time: seconds from the side's beginning. until: the tick up to which it stood, ahead of what was
    written next."""

    time: float
    glass: Any
    until: int = NEVER


@dataclass
class Pictures:
    """same: None where it cannot be told. end: the glass of each side at the end. only: side, picture and why, of those that one side has.
    end_same: whether the pattern at the end is. both: pictures that both have, in order."""

    same: bool | None
    counts: tuple[int, int] = (0, 0)
    end: tuple[Glass | None, Glass | None] = (None, None)
    only: list[tuple[int, Shown, Reason]] = field(default_factory=list)
    why: str = ""
    end_same: bool | None = None
    both: list[tuple[Shown, Shown]] = field(default_factory=list)


def pictures(a: Told, b: Told) -> Pictures:
    """Of one display on both sides."""
    first, second = a.glass(), b.glass()
    if first is None or second is None:
        return Pictures(None, why="it has no panel")
    end = first, second
    if end[0].pattern.shape != end[1].pattern.shape:
        sizes = " and ".join("x".join(str(n) for n in glass.pattern.shape[1::-1]) for glass in end)
        return Pictures(None, end=end, why=f"the panels are not of one size: {sizes}")
    shown = [_shown(a), _shown(b)]
    out = Pictures(True, (len(shown[0]), len(shown[1])), end)
    if max(out.counts) > MOST:
        out.why = f"of more than {MOST} pictures only the last was compared"
    else:
        out.only, out.both = _aligned(shown[0], shown[1])
    at_end = out.end_same = bool(np.array_equal(end[0].pattern, end[1].pattern)) and _glyphs_same(*end)
    if not at_end and not any(why.matters for _, _, why in out.only):
        out.only.append((1, shown[1][-1] if shown[1] else Shown(0.0, end[1]), reason("other-picture", side="B", other="A")))
    lights = [(glass.shown, glass.backlight) for glass in end]
    if lights[0][0] != lights[1][0] or (None not in (lights[0][1], lights[1][1]) and lights[0][1] != lights[1][1]):
        words = [_lit(*light) for light in lights]
        out.only.append((1, Shown(0.0, end[1]), reason("lit", a=words[0], b=words[1])))
    out.same = not any(why.matters for _, _, why in out.only)
    return out


def _lit(shown: bool, backlight: bool | None) -> str:
    return ("on" if shown else "off") + ("" if backlight is None else f" with its backlight {'on' if backlight else 'off'}")


def _glyphs_same(a: Any, b: Any) -> bool:
    """One's own characters look the same where they are shown."""
    if not isinstance(a, TextGlass) or a.glyphs is None or b.glyphs is None:
        return True
    used = np.unique(a.codes[(a.codes >= 0) & (a.codes < 16)]) & 7
    return bool((a.glyphs[used] == b.glyphs[used]).all())


def _shown(told: Told) -> list[Shown]:
    """The distinct pictures, in order; no more than `MOST` and one."""
    out: list[Shown] = []
    last: Any = None
    written = told.memory.journal()[0] if isinstance(told.memory, Journal) else None
    for end in frame_ends(told.memory, told.tick).tolist():
        glass = told.glass(end)
        assert glass is not None
        now = glass.pattern
        until = end if written is None else _ahead_of_next(written, end)
        if last is None or not np.array_equal(now, last):
            out.append(Shown(end * told.tick, glass, until))
            last = now
        else:
            out[-1].until = until
        if len(out) > MOST:
            break
    return out


def _ahead_of_next(written: NDArray[np.int64], end: int) -> int:
    """The tick ahead of the first write behind one; NEVER where none follows."""
    behind = int(np.searchsorted(written, end, "right"))
    return int(written[behind]) - 1 if behind < len(written) else NEVER


def _aligned(a: list[Shown], b: list[Shown]) -> tuple[list[tuple[int, Shown, Reason]], list[tuple[Shown, Shown]]]:
    """Pictures that only one side has, and those that both have. What is made of the cells of the pictures around it was on its way."""
    keys: list[list[bytes]] = [[entry.glass.pattern.tobytes() for entry in side] for side in (a, b)]
    numbers: dict[bytes, int] = {}
    coded = [[numbers.setdefault(key, len(numbers)) for key in side] for side in keys]
    matched = [
        (k.a + n, k.b + n)
        for k in SequenceMatcher(None, coded[0], coded[1], autojunk=False).get_matching_blocks()
        for n in range(k.size)
    ]
    out = []
    for side, own in enumerate((a, b)):
        common = [pair[side] for pair in matched]
        for index in sorted(set(range(len(own))) - set(common)):
            entry = own[index]
            before = next((own[k].glass.pattern for k in reversed(common) if k < index), None)
            behind = next((own[k].glass.pattern for k in common if k > index), None)
            why = "on-the-way" if behind is not None and _between(entry.glass.pattern, before, behind) else "other-picture"
            out.append((side, entry, reason(why, side="AB"[side], other="BA"[side])))
    return out, [(a[i], b[j]) for i, j in matched]


def _between(now: Any, before: Any, behind: Any) -> bool:
    """Whether every cell is as in the picture before (or blank, ahead of the first) or as in the one behind."""
    earlier = (now == before) if before is not None else (now == 0) | (now == ord(" "))
    return bool((earlier | (now == behind)).all())
