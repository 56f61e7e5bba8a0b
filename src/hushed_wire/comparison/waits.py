"""Rests behind commands, of both sides, beside what the part needs."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from ..sequence.timed import LATENT
from ..units import parse
from .align import Gap
from .steps import Steps

__all__ = ["Wait", "waits"]

SHOWN = 1e-3  # seconds from which on a rest counts as one that somebody wrote
ALIKE = 0.2  # share by which rests may differ and be the same


@dataclass(frozen=True)
class Wait:
    """Behind a command. a, b: seconds, None where nothing follows. needs: seconds that the part is busy, None where nothing says."""

    device: str
    after: str
    a: float | None
    b: float | None
    needs: float | None
    source: str
    count: int = 1

    @property
    def differs(self) -> bool:
        """Whether the two are not about the same."""
        if self.a is None or self.b is None:
            return False
        return abs(self.a - self.b) > max(ALIKE * max(self.a, self.b), float(LATENT))

    @property
    def short(self) -> list[str]:
        """The sides that do not wait as long as the part needs."""
        if self.needs is None or self.needs <= float(LATENT):
            return []  # what is shorter, the bus and whoever sends keep by themselves
        return [side for side, rest in (("A", self.a), ("B", self.b)) if rest is not None and rest < self.needs]


def waits(a: Steps, b: Steps, gaps: list[Gap]) -> list[Wait]:
    """Those behind commands that both sides have, where the part needs one or one of them makes one; of equal ones only the first is told."""
    rests = [_rests(steps) for steps in (a, b)]
    part = a.told.part
    needed = np.array([float(_takes(command.takes)) for command in part.command] or [0.0])
    out: dict[tuple[str, bool, bool], Wait] = {}
    i = j = 0
    for gap in [*gaps, Gap(range(len(a), len(a)), range(len(b), len(b)))]:
        span = gap.a.start - i
        kinds = a.kind[i : i + span]
        needs = np.where(kinds >= 0, needed[np.maximum(kinds, 0)], 0.0)
        own = [rests[0][i : i + span], rests[1][j : j + span]]
        told = (needs > float(LATENT)) | (np.fmax(own[0], own[1]) >= SHOWN)
        for k in np.flatnonzero(told & (kinds >= 0)).tolist():
            command = part.command[int(kinds[k])]
            pair = [None if np.isnan(rest[k]) else float(rest[k]) for rest in own]
            takes = float(needs[k]) or None
            wait = Wait(a.told.name, a.name(i + k), pair[0], pair[1], takes, command.source if takes else "")
            key = wait.after, wait.differs, bool(wait.short)
            known = out.get(key)
            out[key] = wait if known is None else _worse(known, wait)
        i, j = gap.a.stop, gap.b.stop
    return list(out.values())


def _worse(known: Wait, wait: Wait) -> Wait:
    """Of two rests behind the same command that of which B has less, counted on."""
    pick = wait if wait.b is not None and (known.b is None or wait.b < known.b) else known
    return Wait(pick.device, pick.after, pick.a, pick.b, pick.needs, pick.source, known.count + 1)


def _takes(text: str) -> Fraction:
    return parse(text, "s") if text else Fraction(0)


def _rests(steps: Steps) -> np.ndarray:
    """(n,) seconds from the end of a command to the beginning of the next; NaN behind the last, and where there are no times."""
    out = np.full(len(steps), np.nan)
    if steps.told.timed and len(steps) > 1:
        payload = steps.commands.payload
        last = steps.first + steps.count - 1
        rests = (payload.start[steps.first[1:]] - payload.time[last[:-1]]) * steps.told.tick
        out[:-1] = np.maximum(rests, 0)
    return out
