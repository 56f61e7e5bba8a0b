"""Wires gone wrong, done to a wave that was made right."""

from __future__ import annotations

from .wave import Wave

__all__ = ["floats", "follows", "inverted", "joined", "stuck", "swapped"]


def swapped(wave: Wave, *names: str) -> None:
    """Each line where the next of these belongs, the last where the first does."""
    to = dict(zip(names, (*names[1:], names[0]), strict=True))
    wave.changes = [(when, to.get(name, name), level) for when, name, level in wave.changes]
    wave.first = {name: wave.first[{b: a for a, b in to.items()}.get(name, name)] for name in wave.first}


def stuck(wave: Wave, name: str, level: int) -> None:
    """A line that never leaves a level."""
    wave.changes = [change for change in wave.changes if change[1] != name]
    wave.first[name] = level


def inverted(wave: Wave, *names: str) -> None:
    """Lines behind something that inverts."""
    wave.changes = [(when, name, level ^ (name in names)) for when, name, level in wave.changes]
    wave.first = {name: level ^ (name in names) for name, level in wave.first.items()}


def floats(wave: Wave, name: str) -> None:
    """A line that nobody drives: now and then it follows an edge of a line beside it, and falls back."""
    stuck(wave, name, 0)
    level, free, out = 0, 0.0, []
    for when, _, _ in wave.changes:
        if when >= free and wave.chance.random() < 0.05:
            level, free = 1 - level, when + wave.chance.uniform(60, 400)
            out.append((when + 7, name, level))
    wave.changes = sorted([*wave.changes, *out], key=lambda change: change[0])


def follows(wave: Wave, name: str, other: str) -> None:
    """A line that does what another one does."""
    stuck(wave, name, wave.first[other])
    wave.changes = [
        one for change in wave.changes for one in ([change, (change[0], name, change[2])] if change[1] == other else [change])
    ]


def joined(wave: Wave, *names: str) -> None:
    """Lines that touch: low where one is low."""
    now = {name: wave.first[name] for name in names}
    both = min(now.values())
    kept: list[tuple[int, str, int]] = []
    for name in names:
        wave.first[name] = both
    for change in wave.changes:
        if change[1] not in now:
            kept.append(change)
            continue
        now[change[1]] = change[2]
        if min(now.values()) != both:
            both = min(now.values())
            kept += [(change[0], name, both) for name in names]
    wave.changes = kept
