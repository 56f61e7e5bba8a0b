"""Scanned LEDs: what the eye makes of how rows take turns, and wires that the scan itself gives away.

Which LEDs a picture should light, nobody but the driver knows. So a row or a segment is only named where the scan tells it: a row that
never has its turn, an order of rows that is one exchange away from a straight one, digits that make no character but for one exchange.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import combinations, product

import numpy as np
from numpy.typing import NDArray

from ..bus.matrix import Scan
from ..bus.role_table import SEGMENTS
from ..finding import Finding
from ..part.segments import character
from ..rig import DeviceReading
from ..rig.schema import Bus, behind
from ..units import parse, show
from .any_case import AnyCase

__all__ = ["RULES"]

UNEVEN = 1.25  # ratio of on-times that the eye takes for another brightness
GHOST = 0.002  # share of a row's light that is seen in the dark of another
READABLE = 4  # distinct digit patterns that have to make sense under an exchange

PICTURES = ["picture.blank", "timing.uneven-rows", "timing.ghosting", "timing.flicker"]


def _each(case: AnyCase) -> Iterator[tuple[DeviceReading, Scan, Bus]]:
    for reading in case.hearing.devices:
        scan = case.hearing.scans.get(reading.device.name)
        if scan is not None:
            bridge = case.rig.bridge_named(reading.device.on)
            yield reading, scan, behind(bridge) if bridge is not None else case.rig.bus_named(reading.device.on)


def _names(case: AnyCase, bus: Bus, row: int) -> list[str]:
    """The captured line of a row; behind a bridge there is none."""
    for kind in ("row", "digit"):
        name = case.bus.lines.get(f"{kind}{row}", "") if f"{kind}{row}" in bus.lines else ""
        if name in case.trace.names:
            return [name]
    return []


def _row(case: AnyCase, bus: Bus, scan: Scan, row: int) -> str:
    """How a row is called."""
    if scan.lamps.block:
        return f"row group {row}"
    kind = "digit" if f"digit{row}" in bus.lines else "row"
    names = _names(case, bus, row)
    return f"{kind} {row}" + (f" ('{names[0]}')" if names else "")


def _span(case: AnyCase) -> tuple[float, float]:
    return case.trace.seconds(case.trace.start), case.trace.seconds(case.trace.end)


def dead_rows(case: AnyCase) -> Iterator[Finding]:
    """Rows that are never on, or always, while others take turns; columns that stay lit in the dark between rows."""
    for reading, scan, bus in _each(case):
        if not scan.cycles or len(scan.light) < 3:
            continue
        used = scan.on.max(axis=0) > 0
        always = np.median(scan.on, axis=0) > 0.98
        for row in np.flatnonzero(~used | always).tolist():
            lit = bool(always[row])
            if lit and int(np.count_nonzero(used)) < 2:
                continue
            start, end = _span(case)
            name = _row(case, bus, scan, row)
            yield Finding(
                "wiring.stuck-line", f"{name} of '{reading.device.name}' is {'always' if lit else 'never'} on while the other "
                f"{int(np.count_nonzero(used & ~always))} take turns" + (", so it shows all rows at once" if lit else ""),
                "follow its wire from the driver's pin to the LEDs with a meter: an open wire, a short, or a pin that is not an output",
                device=reading.device.name, lines=_names(case, bus, row), start=start, end=end,
                evidence={"frames": len(scan.light), "on": f"{float(np.median(scan.on[:, row])):.0%} of a frame"}, explains=PICTURES,
            )  # fmt: skip
        if used.all() and not always.any():
            case.rule_out("wiring.stuck-line", f"all {len(used)} rows of '{reading.device.name}' take turns")


def flicker(case: AnyCase) -> Iterator[Finding]:
    """A refresh rate that the eye can follow."""
    for reading, scan, _ in _each(case):
        rate = scan.rate(case.trace.tick)
        text = reading.part.limits.get("refresh_least", "")
        if not rate or not text or len(scan.light) < 4:
            continue
        least = float(parse(text, "Hz"))
        if rate < 0.97 * least:
            start, end = _span(case)
            yield Finding(
                "timing.flicker", f"'{reading.device.name}' is refreshed {rate:.3g} times a second; below {least:.0f} most people see it flicker",
                f"scan faster: at most {show(1 / least / scan.on.shape[1], 's')} for each of the {scan.on.shape[1]} rows, from a timer interrupt",
                device=reading.device.name, start=start, end=end, count=len(scan.light),
                evidence={"frame_rate": rate, "required": least, "source": reading.part.limits.get("source", "")},
            )  # fmt: skip
        else:
            case.rule_out(
                "timing.flicker",
                f"'{reading.device.name}' is refreshed {rate:.3g} times a second; flicker that only a camera sees is no fault",
            )


def uneven(case: AnyCase) -> Iterator[Finding]:
    """Rows that are on for longer than others."""
    for reading, scan, bus in _each(case):
        if not scan.cycles or len(scan.light) < 3:
            continue
        share = np.median(scan.on, axis=0)
        used = np.flatnonzero((share > 0) & (share <= 0.98))
        if len(used) < 2:
            continue
        usual = float(np.median(share[used]))
        odd = [row for row in used.tolist() if not 1 / UNEVEN < share[row] / usual < UNEVEN]
        if not odd:
            case.rule_out(
                "timing.uneven-rows",
                f"all rows of '{reading.device.name}' are on for {usual:.1%} of a frame, within {UNEVEN - 1:.0%}",
            )
            continue
        frame = float(np.median(np.diff(scan.frames))) * float(case.trace.tick)
        start, end = _span(case)
        which = " and ".join(_row(case, bus, scan, row) for row in odd[:3])
        longer = "longer" if share[odd[0]] > usual else "shorter"
        yield Finding(
            "timing.uneven-rows", f"on '{reading.device.name}', {which} {'is' if len(odd) == 1 else 'are'} on {longer} than the rest: "
            f"{show(share[odd[0]] * frame, 's')} of a frame against {show(usual * frame, 's')}, so brightness differs",
            "give each row the same time: switch rows in one timer interrupt, and let nothing long run (a sensor, a print) between two of them",
            device=reading.device.name, lines=[name for row in odd for name in _names(case, bus, row)], start=start, end=end,
            count=len(odd), evidence={"share": [round(float(value), 4) for value in share], "usual": usual},
        )  # fmt: skip


def ghosting(case: AnyCase) -> Iterator[Finding]:
    """Light in the wrong row: two rows on at once, or a row on while the columns are still another's."""
    for reading, scan, bus in _each(case):
        if not scan.cycles or len(scan.light) < 3:
            continue
        took = scan.end - scan.start
        least = 2 * case.trace.resolution()
        double = scan.overlap() & (took > least) & (took < np.diff(scan.frames).max() // 2)
        stale = _stale(scan) & (took > least)
        frame = float(np.median(np.diff(scan.frames)))
        where = np.flatnonzero(double) if took[double].sum() >= took[stale].sum() else np.flatnonzero(stale)
        if len(where) < 3 or took[where].sum() / (frame * len(scan.light)) < GHOST:
            case.rule_out("timing.ghosting", f"no row of '{reading.device.name}' is on with another one's columns")
            continue
        first = int(where[0])
        lasts = case.trace.seconds(int(np.median(took[where])))
        rows = [row for row in range(scan.on.shape[1]) if int(scan.rows[first]) >> row & 1]
        what = (
            f"two rows are on at once for {show(lasts, 's')}, {_row(case, bus, scan, rows[0])} and {_row(case, bus, scan, rows[-1])} first"
            if len(rows) > 1
            else f"{_row(case, bus, scan, rows[0])} is on for {show(lasts, 's')} while the columns are still another row's"
        )
        yield Finding(
            "timing.ghosting", f"on '{reading.device.name}', {what}: the picture of one row shows faintly in another",
            "between two rows switch all rows off, then set the columns, then switch the next row on; where that is done, slow driver transistors "
            f"need more than {show(lasts, 's')} of dark to switch off",
            device=reading.device.name, lines=[name for row in rows for name in _names(case, bus, row)],
            start=case.trace.seconds(int(scan.start[first])), end=case.trace.seconds(int(scan.end[int(where[-1])])), count=len(where),
            evidence={"overlap": lasts, "frames": len(scan.light)}, explains=["timing.uneven-rows"],
        )  # fmt: skip


def _stale(scan: Scan) -> NDArray[np.bool_]:
    """(n,) dwells at an end of a row's turn in which its columns are those of the row before or behind it."""
    lit = np.flatnonzero(scan.rows)
    out = np.zeros(len(scan.rows), bool)
    if len(lit) < 4:
        return out
    rows, took = scan.rows[lit], (scan.end - scan.start)[lit]
    turn = np.cumsum(np.append(True, rows[1:] != rows[:-1])) - 1
    # The columns of a turn are those it has for longest.
    order = np.lexsort((took, turn))
    main = order[np.append(turn[order][1:] != turn[order][:-1], True)]
    bits = scan.bits[lit]
    own = (bits == bits[main][turn]).all(axis=1)
    for step in (-1, 1):
        other = np.clip(turn + step, 0, len(main) - 1)
        out[lit] |= ~own & (bits == bits[main][other]).all(axis=1) & (took < took[main][turn] / 4)
    return out


def order_of_rows(case: AnyCase) -> Iterator[Finding]:
    """Rows in an order that is one exchange away from a straight one."""
    for reading, scan, bus in _each(case):
        count = scan.on.shape[1]
        if not scan.cycles or count < 5 or scan.lamps.block or scan.overlap().any():
            continue
        rows = scan.rows[scan.rows != 0]
        turns = rows[np.append(True, rows[1:] != rows[:-1])]
        seen = np.log2(turns[: 20 * count].astype(float)).round().astype(int).tolist()
        if 0 not in seen:
            continue
        at = seen.index(0)
        order = seen[at : at + count]
        if len(seen) < at + 3 * count or sorted(order) != list(range(count)) or seen[at + count : at + 2 * count] != order:
            continue
        up = list(range(count))
        down = [0, *up[:0:-1]]
        for straight, (a, b) in product((up, down), combinations(range(count), 2)):  # downwards is rarer
            fixed = [b if row == a else a if row == b else row for row in order]
            start = fixed.index(0)
            if order not in (up, down) and fixed[start:] + fixed[:start] == straight:
                begin, end = _span(case)
                names = [*_names(case, bus, a), *_names(case, bus, b)]
                yield Finding(
                    "wiring.swapped-lines", f"{_row(case, bus, scan, a)} and {_row(case, bus, scan, b)} of '{reading.device.name}' are exchanged: "
                    f"rows take turns as {', '.join(map(str, order))}",
                    "exchange the two wires, or the two rows in the driver's table; a driver that means to scan in this order is right as it is",
                    confidence="likely", device=reading.device.name, lines=names, start=begin, end=end,
                    evidence={"order": ", ".join(map(str, order))}, explains=["picture.blank"],
                )  # fmt: skip
                return


def segments(case: AnyCase) -> Iterator[Finding]:
    """Digits that make no characters, but would with two segment lines exchanged or all of them inverted."""
    for reading, scan, bus in _each(case):
        if reading.panel.form != "digits":
            continue
        patterns = np.unique(scan.lit().reshape(-1, scan.light.shape[2]), axis=0)
        patterns = np.pad(patterns[patterns.any(axis=1)], ((0, 0), (0, 8 - patterns.shape[1])))
        if len(patterns) < READABLE:
            continue
        now = _readable(patterns)
        if now == len(patterns):
            case.rule_out("wiring.swapped-lines", f"all {now} patterns of the digits are characters as wired")
            continue
        tried: list[tuple[int, tuple[int, ...]]] = []
        for pair in combinations(range(8), 2):
            other = patterns.copy()
            other[:, pair] = other[:, pair[::-1]]
            tried.append((_readable(other), pair))
        for one in range(7):
            other = patterns.copy()
            other[:, one] ^= True
            tried.append((_readable(other), (one,)))
        most = max(entry[0] for entry in tried)
        best = [which for count, which in tried if count == most]
        alike: list[tuple[int, ...]] = [
            pair
            for pair in combinations(range(8), 2)
            if (patterns[:, pair[0]] == patterns[:, pair[1]]).all() and patterns[:, pair[0]].any()
        ]
        code, said, remedy = (
            "wiring.swapped-lines",
            "exchanged",
            "exchange the two wires, or the two bits in the driver's table of segments",
        )
        if most < len(patterns) and len(alike) == 1:
            best, code, said, remedy = (
                alike,
                "wiring.joined-lines",
                "joined",
                "look for solder or a strand of wire between the two",
            )
        elif most < len(patterns) or len(best) > 2:
            continue
        begin, end = _span(case)
        for which in best:
            names = [bus.lines.get(f"segment_{SEGMENTS[k]}", "") for k in which]
            pairs = zip(which, names, strict=True)
            shown = " and ".join(f"segment {SEGMENTS[k]}" + (f" ('{name}')" if name else "") for k, name in pairs)
            single = len(which) == 1
            yield Finding(
                "wiring.inverted-line" if single else code, f"{shown} of '{reading.device.name}' {'is inverted' if single else 'are ' + said}: "
                f"{len(patterns) - now} of {len(patterns)} patterns are no characters as wired" + (", all are that way" if most == len(patterns) else ""),
                "look for a driver or a buffer in this one line that turns its level over" if single else remedy,
                confidence="certain" if len(best) == 1 and most == len(patterns) else "likely", device=reading.device.name,
                lines=[name for name in names if name in case.trace.names], start=begin, end=end,
                evidence={"characters as wired": now, "of": len(patterns)}, explains=["picture.blank"],
            )  # fmt: skip


def _readable(patterns: NDArray[np.bool_]) -> int:
    """How many patterns of segments are characters."""
    return sum("?" not in character([SEGMENTS[k] for k in np.flatnonzero(row).tolist()]) for row in patterns)


RULES: list[Callable[[AnyCase], Iterator[Finding]]] = [dead_rows, flicker, uneven, ghosting, order_of_rows, segments]
