"""Findings compete: what a better one explains is its evidence, not one more line.

A cause explains what lies above it on its bus, by the order of layers; what else it explains, or explains only, stands with its code in
`codes.toml` (`explains`, `also`). A cause on one bus explains nothing on another, unless it is on a line that both share; one of a device
nothing of another device.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..finding import Finding, code_of

__all__ = ["LAYERS", "compete"]

LAYERS = ("capture", "rig", "wiring", "address", "frame", "timing", "setup", "picture")  # from the wire upwards
EXPLAINS_FROM = {
    "capture": "address",
    "wiring": "address",
    "address": "setup",
    "frame": "timing",
}  # the lowest layer; others explain none
PERSONAL = ("address", "setup", "picture")  # layers whose causes are one device's


def explained(one: Finding, other: Finding) -> int:
    """How surely a cause, where it stands, is what is behind another finding: 2 where the table names it, 1 by its layer, 0 where it is not."""
    if one.severity == "note" or one is other:
        return 0
    if other.code in code_of(one.code).also:
        return 2
    return int(other.code.partition(".")[0] in reach(one.code) and other.code != one.code)


def reach(name: str) -> Sequence[str]:
    """The layers that a code explains."""
    own = code_of(name).explains
    if own is not None:
        return own
    first = EXPLAINS_FROM.get(name.partition(".")[0])
    return LAYERS[LAYERS.index(first) :] if first else ()


def compete(
    found: list[Finding], shared: Callable[[Finding, Finding], bool] = lambda one, other: False
) -> tuple[list[Finding], list[Finding]]:
    """Findings that stand, and those that a standing one explains; `explains` tells what was swallowed.

    The order of `found` does not matter, except where two findings explain each other as surely: then the graver, else the first, stands. shared: whether
    a finding is on a line that the bus of another has, too.
    """
    order = sorted(range(len(found)), key=lambda k: (tuple(-part for part in found[k].rank()), k))
    place = {index: position for position, index in enumerate(order)}
    stands: dict[int, bool] = {}

    def meets(one: Finding, other: Finding) -> bool:
        if one.bus != other.bus and one.bus and other.bus and not shared(one, other):
            return False
        apart = one.device and other.device and one.device != other.device
        return not (apart and one.code.partition(".")[0] in PERSONAL)

    def explains(one: int, other: int) -> bool:
        a, b = found[one], found[other]
        mine, theirs = explained(a, b), explained(b, a)
        return mine > theirs and meets(a, b) if mine != theirs else bool(mine) and meets(a, b) and place[one] < place[other]

    def standing(index: int, asking: frozenset[int]) -> bool:
        if index not in stands:
            above = (k for k in order if k not in asking and explains(k, index))
            answer = not any(standing(k, asking | {index}) for k in above)
            if asking:
                return answer  # found on the way to another's answer, it may hang on who asked
            stands[index] = answer
        return stands[index]

    kept = [k for k in order if standing(k, frozenset())]
    hidden = [k for k in order if not stands[k]]
    for k in kept:
        found[k].explains = sorted({found[other].code for other in hidden if explains(k, other)})
    return [found[k] for k in kept], [found[k] for k in hidden]
