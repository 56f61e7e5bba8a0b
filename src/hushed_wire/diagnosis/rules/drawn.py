"""Pictures as evidence: where every command stays legal under an exchange of lines, only what is drawn tells which way round it is."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ...finding import Finding
from ...part import Commands
from ...part.chips import model_for
from ...rig import DeviceReading
from ..bearing import borne
from ..case import Case, sense, unmet
from ..hypotheses import SENSIBLE, Wiring, hypotheses, told, under
from ..rule import Rule, latches

__all__ = ["RULES"]

NEAR = 4.2  # standard deviations by which another order of data lines has to make the picture more orderly, where it exchanges neighbours
FAR = 5.5  # and where it exchanges others
SEAM = 10.0  # bits that the picture has to tell of exchanged halves; more than twice that where nothing else speaks for it
CONFIRMED = 5.0  # and that the picture has to tell of halves that are in their places
DRAWN = 0.33  # of neighbours along the rows that differ: noise and dither have more, text and drawings fewer
CHIPS = ("cs1", "cs2")  # selects of the two halves of a glass
MOST_CHANGES = 2_000_000  # of a capture of which pictures are compared


def pictures(case: Case) -> Iterator[Finding]:
    """Data lines or selects exchanged where every command stays legal: only the picture tells, which is more orderly the right way round.

    Noise, dither and hatching are orderly in no order of rows, or in a wrong one, so of them nothing is said.
    """
    for reading in case.direct:
        if reading.part.memory.kind not in ("paged", "pixel") or not borne(case) or case.changes > MOST_CHANGES:
            continue
        worth = sense(reading.part, reading.chips)
        if worth - unmet(case, reading, reading.chips) < SENSIBLE:
            continue
        now = _lit(reading, reading.chips)
        if now is None:
            continue
        if _transitions(now.T) > DRAWN:
            case.shared.unjudged.append(
                f"whether lines of '{case.bus.name}' are exchanged that leave every command legal: only the picture could tell, and it is no drawing"
            )
            continue
        tried: list[tuple[float, Wiring]] = []
        data = case.kind.data_lines(case.bus.lines)
        for wiring in hypotheses(case):
            if wiring.code not in ("wiring.swapped-lines", "wiring.reversed-bus") or not set(wiring.lines) <= {*data, *CHIPS}:
                continue
            own = under(case, case.whole, reading, wiring)
            if own is None or sense(reading.part, own) < worth - 0.01 or unmet(case, reading, own):
                continue
            other = _lit(reading, own)
            if other is None or other.shape != now.shape:
                continue
            if set(wiring.lines) <= set(CHIPS):
                bits = _seam(now, reading.part.memory.columns)
                score = bits / (SEAM if _second_first(reading) else 2.5 * SEAM)
                if score < 1 and bits > -CONFIRMED:
                    names = " and ".join(case.names(*wiring.lines))
                    case.shared.unjudged.append(
                        f"whether {names} are exchanged: their halves of the picture do not tell, so see whether its left half stands on the left"
                    )
            else:
                score = _orderlier(now, other) / _needed(wiring, data)
            tried.append((score, wiring))
        tried.sort(key=lambda entry: -entry[0])
        if not tried or tried[0][0] < 1:
            if tried:
                case.rule_out("wiring.swapped-lines", "no other order of the data lines makes the picture more orderly")
            continue
        close = [entry for entry in tried if entry[0] > max(1.0, tried[0][0] - 0.1)][:2] or tried[:1]
        for score, wiring in close:
            evidence = {"the picture is more orderly this way": f"by {score:.1f} times what is asked of this exchange"}
            yield told(case, reading, wiring, [other for _, other in close], "likely", evidence)


def _needed(wiring: Wiring, data: list[str]) -> float:
    """Standard deviations by which a picture has to be more orderly: for wires that are easily mistaken (neighbours, the whole turned round) such that
    one of all pairs reaches it by chance in some thousands of pictures; for others, which structure in a picture can imitate, more."""
    places = [data.index(role) for role in wiring.lines]
    return NEAR if len(places) > 2 or abs(places[0] - places[-1]) == 1 else FAR


def _transitions(lit: NDArray[np.bool_]) -> float:
    """The share of neighbours down the columns that differ."""
    return float(np.mean(lit[1:] != lit[:-1]))


def _seam(now: NDArray[np.bool_], columns: int) -> float:
    """By how many bits the picture tells that its halves are exchanged: what the outer columns know of one another, less what those at the seam do.

    What is drawn goes on across the seam: where one of its columns changes from row to row, the other mostly does, too. Two outer columns have
    nothing to do with each other; what runs across the whole picture is known to both pairs alike.
    """

    def known(a: NDArray[np.bool_], b: NDArray[np.bool_]) -> float:
        one, two = a[1:] != a[:-1], b[1:] != b[:-1]
        bits = 0.0
        for x in (one, ~one):
            for y in (two, ~two):
                both = float(np.mean(x & y))
                if both:
                    bits += both * float(np.log2(both / (np.mean(x) * np.mean(y))))
        return bits * len(one)

    return known(now[:, -1], now[:, 0]) - known(now[:, columns - 1], now[:, columns])


def _second_first(reading: DeviceReading) -> bool:
    """Whether each page of the chip on the right is written ahead of the same page of the left one: drivers begin on the left."""
    if len(reading.chips) != 2:
        return False
    firsts: list[dict[int, int]] = []
    for chip in reading.chips:
        pages: dict[int, int] = {}
        for index, command, raw in chip.listed():
            if command is not None and command.effect == "page":
                pages.setdefault(raw[0], chip.time_of(index))
        firsts.append(pages)
    both = firsts[0].keys() & firsts[1].keys()
    return len(both) > 2 and all(firsts[1][page] < firsts[0][page] for page in both)


def _lit(reading: DeviceReading, own: list[Commands]) -> NDArray[np.bool_] | None:
    """The picture; None where there is too little in it."""
    lit = model_for(reading.part, own).glass(reading.panel).visible
    return lit if 0.005 < lit.mean() < 0.995 else None


def _orderlier(now: NDArray[np.bool_], other: NDArray[np.bool_]) -> float:
    """By how many standard deviations more places of `other` are smoother than those of `now`: a sign test over blocks of eight rows."""

    def edges(lit: NDArray[np.bool_]) -> NDArray[np.int64]:
        changes = np.pad(lit[1:] != lit[:-1], ((0, 1), (0, 0)))
        changes = np.pad(changes, ((0, -len(changes) % 8), (0, 0)))
        out: NDArray[np.int64] = changes.reshape(-1, 8, changes.shape[1]).sum(axis=1)
        return out

    difference = edges(now) - edges(other)
    better, worse = int(np.count_nonzero(difference > 0)), int(np.count_nonzero(difference < 0))
    return (better - worse) / max(1.0, float(np.sqrt(better + worse)))


RULES = [Rule("wiring", pictures, latches)]
