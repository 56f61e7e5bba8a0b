"""What is known of a display that nobody knows, and what was found out of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..part import Part
from ..part.glass import Glass
from ..rig import Rig
from .blocks import Habits, Told
from .machine import Machine
from .pins import Pin
from .relatives import Relative
from .talk import Talk
from .wiring import Wiring

__all__ = ["DEVICE", "NAME", "Known", "LayoutGuess", "Picture", "Unravelled", "sureness"]

NAME = "unravelled"  # of the draft
DEVICE = "glass"  # of the rig's device, and of the draft's panel


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


def sureness(sense: float) -> str:
    """In words, of a reading's sense: pictures were found under it, and its wires leave no doubt; or one of these."""
    return "certain" if sense >= 0.9 else "likely" if sense >= 0.75 else "possible"
