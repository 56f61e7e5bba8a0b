"""Scanned LEDs: what the eye makes of how rows take turns, and wires that the scan itself gives away.

Which LEDs a picture should light, nobody but the driver knows. So a row or a segment is only named where the scan tells it: a row that
never has its turn, an order of rows that is one exchange away from a straight one, digits that make no character but for one exchange.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations, product

import numpy as np
from numpy.typing import NDArray

from ...bus.carries import spans_selected
from ...bus.changes import edges_to
from ...bus.scan import Scan
from ...bus.scan_roles import ADDRESS, SEGMENTS
from ...finding import Finding
from ...part.segments import character
from ...rig import DeviceReading
from ...rig.schema import Bus, behind
from ...units import parse, show
from ..bearing import borne
from ..case import Case
from ..rule import Rule

__all__ = ["RULES"]

UNEVEN = 1.25  # ratio of on-times that the eye takes for another brightness
GHOST = 0.002  # share of a row's light that is seen in the dark of another
MANY = 4  # frames whose rate is certain
SURELY_SLOW = 0.8  # of the least rate, which two frames tell as well
FEWEST_LOADS = 16  # that show how many bits a driver shifts
READABLE = 4  # distinct digit patterns that have to make sense under an exchange


def _each(case: Case) -> Iterator[tuple[DeviceReading, Scan, Bus]]:
    for reading in case.devices:
        scan = case.reading.scans.get(reading.device.name)
        if scan is not None:
            bridge = case.rig.bridge_named(reading.device.on)
            yield reading, scan, behind(bridge) if bridge is not None else case.bus


def _names(case: Case, bus: Bus, row: int) -> list[str]:
    """The captured line of a row; behind a bridge there is none."""
    for axis in ("row", "digit"):
        if f"{axis}{row}" in bus.lines and f"{axis}{row}" in case.roles:
            return case.names(f"{axis}{row}")
    return []


def _row(case: Case, bus: Bus, scan: Scan, row: int) -> str:
    """How a row is called."""
    if scan.lamps.block:
        return f"row group {row}"
    axis = "digit" if f"digit{row}" in bus.lines else "row"
    names = _names(case, bus, row)
    return f"{axis} {row}" + (f" ('{names[0]}')" if names else "")


def dead_rows(case: Case) -> Iterator[Finding]:
    """Rows that are never on, or always, while others take turns; columns that stay lit in the dark between rows."""
    for reading, scan, bus in _each(case):
        if not scan.cycles or len(scan.light) < 3 or scan.lamps.block:
            continue  # groups of rows have no line of their own
        used = scan.on.max(axis=0) > 0
        always = np.median(scan.on, axis=0) > 0.98
        start, end = case.span
        for lit, rows in ((True, np.flatnonzero(always)), (False, np.flatnonzero(~used))):
            if not len(rows) or (lit and np.count_nonzero(used) < 2):
                continue
            share = float(np.median(scan.on[:, rows[0]]))
            yield case.found(
                "wiring.stuck-line", "row-lit" if lit else "row-dark", device=reading.device.name, start=start, end=end,
                lines=[name for row in rows.tolist() for name in _names(case, bus, row)], evidence={"frames": len(scan.light), "on": f"{share:.0%} of a frame"},
                row=" and ".join(_row(case, bus, scan, row) for row in rows.tolist()), are="is" if len(rows) == 1 else "are",
                others=int(np.count_nonzero(used & ~always)),
            )  # fmt: skip
        if used.all() and not always.any():
            case.rule_out("wiring.stuck-line", f"all {len(used)} rows of '{reading.device.name}' take turns")


def flicker(case: Case) -> Iterator[Finding]:
    """A refresh rate that the eye can follow."""
    for reading, scan, _ in _each(case):
        rate = scan.rate(case.trace.tick)
        text = reading.part.limits.get("refresh_least", "")
        if not text:
            continue
        least, name = float(parse(text, "Hz")), reading.device.name
        few = not rate or len(scan.light) < MANY
        if few and (not rate or rate >= SURELY_SLOW * least):
            case.shared.unjudged.append(f"whether '{name}' flickers: the capture has too few frames of it")
        elif rate < 0.97 * least:
            start, end = case.span
            yield case.found(
                "timing.flicker", device=name, start=start, end=end, count=len(scan.light),
                evidence={"frame_rate": rate, "required": least, "source": reading.part.limits.get("source", "")}, rate=f"{rate:.3g}",
                least=f"{least:.0f}", each=show(1 / least / scan.on.shape[1], "s"), rows=scan.on.shape[1],
            )  # fmt: skip
        else:
            text = f"'{name}' is refreshed {rate:.3g} times a second; flicker that only a camera sees is no fault"
            case.rule_out("timing.flicker", text)


def uneven(case: Case) -> Iterator[Finding]:
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
            text = f"all rows of '{reading.device.name}' are on for {usual:.1%} of a frame, within {UNEVEN - 1:.0%}"
            case.rule_out("timing.uneven-rows", text)
            continue
        frame = float(np.median(np.diff(scan.frames))) * float(case.trace.tick)
        start, end = case.span
        yield case.found(
            "timing.uneven-rows", device=reading.device.name, lines=[name for row in odd for name in _names(case, bus, row)], start=start, end=end,
            count=len(odd), evidence={"share": [round(float(value), 4) for value in share], "usual": usual},
            which=" and ".join(_row(case, bus, scan, row) for row in odd[:3]), are="is" if len(odd) == 1 else "are",
            way="longer" if share[odd[0]] > usual else "shorter", own=show(share[odd[0]] * frame, "s"), usual=show(usual * frame, "s"),
        )  # fmt: skip


def ghosting(case: Case) -> Iterator[Finding]:
    """Light in the wrong row: two rows on at once, or a row on while the columns are still another's."""
    for reading, scan, bus in _each(case):
        if not scan.cycles or len(scan.light) < 3:
            continue
        took = scan.end - scan.start
        least = 2 * case.trace.resolution()
        double = scan.overlap() & (took > least) & (took < np.diff(scan.frames).max() // 2)
        stale = (_stale(scan) if scan.load is None else _elsewhere(scan, scan.load)) & (took > least)
        frame = float(np.median(np.diff(scan.frames)))
        where = np.flatnonzero(double) if took[double].sum() >= took[stale].sum() else np.flatnonzero(stale)
        if len(where) < 3 or took[where].sum() / (frame * len(scan.light)) < GHOST:
            case.rule_out("timing.ghosting", f"no row of '{reading.device.name}' is on with another one's columns")
            continue
        first = int(where[0])
        lasts = show(case.seconds(int(np.median(took[where]))), "s")
        rows = [row for row in range(scan.on.shape[1]) if int(scan.rows[first]) >> row & 1]
        yield case.found(
            "timing.ghosting", "two-rows" if len(rows) > 1 else "", device=reading.device.name, lines=[name for row in rows for name in _names(case, bus, row)],
            start=case.seconds(int(scan.start[first])), end=case.seconds(int(scan.end[int(where[-1])])), count=len(where),
            evidence={"overlap": lasts, "frames": len(scan.light)}, lasts=lasts, first=_row(case, bus, scan, rows[0]),
            last=_row(case, bus, scan, rows[-1]),
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


def _elsewhere(scan: Scan, load: NDArray[np.int64]) -> NDArray[np.bool_]:
    """(n,) lit dwells whose bits are lit for longer in another row group: the address changes while they are lit, or they come too early."""
    groups, took = scan.on.shape[1], (scan.end - scan.start).astype(float)
    lit = np.flatnonzero(scan.rows)
    group = np.log2(scan.rows[lit].astype(float)).round().astype(np.int64)
    total = np.bincount(load[lit] * groups + group, took[lit], (int(load.max()) + 1) * groups).reshape(-1, groups)
    out = np.zeros(len(scan.rows), bool)
    out[lit] = total.argmax(axis=1)[load[lit]] != group
    return out


def order_of_rows(case: Case) -> Iterator[Finding]:
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
                begin, end = case.span
                told = ", ".join(map(str, order))
                yield case.found(
                    "wiring.swapped-lines", "rows", confidence="likely", device=reading.device.name, lines=[*_names(case, bus, a), *_names(case, bus, b)],
                    start=begin, end=end, evidence={"order": told}, a=_row(case, bus, scan, a), b=_row(case, bus, scan, b),
                   order=told,
                )  # fmt: skip
                return


def groups_in_order(case: Case) -> Iterator[Finding]:
    """A panel with row groups two of whose address lines are exchanged: the groups take turns in an order that no driver counts in."""
    wires = [role for role in ADDRESS if role in case.roles]
    for reading, scan, _ in _each(case):
        count = scan.on.shape[1]
        if not scan.cycles or not scan.lamps.block or count != 1 << len(wires):
            continue
        rows = scan.rows[scan.rows != 0]
        turns = rows[np.append(True, rows[1:] != rows[:-1])]
        seen = np.log2(turns[: 20 * count].astype(float)).round().astype(int).tolist()
        if 0 not in seen or len(seen) < 3 * count:
            continue
        order = seen[seen.index(0) :][: 2 * count]
        up = list(range(count))
        straight = (up, [0, *up[:0:-1]])
        for a, b in combinations(range(len(wires)), 2):
            fixed = [_bits_exchanged(group, a, b) for group in order]
            if order != fixed and any(fixed == 2 * way for way in straight) and not any(order == 2 * way for way in straight):
                begin, end = case.span
                told = ", ".join(map(str, order[: min(count, 8)])) + (" …" if count > 8 else "")
                lines = [case.bus.lines[wires[k]] for k in (a, b)]
                yield case.found(
                    "wiring.swapped-lines", "rows", confidence="likely", device=reading.device.name, lines=case.names(wires[a], wires[b]), start=begin, end=end,
                    evidence={"order": told}, a=f"'{lines[0]}' ({wires[a].upper()})", b=f"'{lines[1]}' ({wires[b].upper()})", order=told,
                )  # fmt: skip
                return


def _bits_exchanged(number: int, a: int, b: int) -> int:
    """A number with two of its bits in each other's place."""
    low, high = number >> a & 1, number >> b & 1
    return number & ~(1 << a | 1 << b) | low << b | high << a


def loads(case: Case) -> Iterator[Finding]:
    """A panel with row groups whose registers are shifted more bits than they have, or fewer, load after load."""
    if not {"clock", "latch"} <= case.roles.keys() or not borne(case):
        return
    for reading, scan, bus in _each(case):
        if not scan.lamps.block or bus is not case.bus:
            continue
        panel, wanted = reading.panel, _bits_of_a_load(scan)
        clocks, latches = (edges_to(case.whole, case.roles[role], 1) for role in ("clock", "latch"))
        shifted = np.diff(np.searchsorted(clocks, latches))
        shifted = shifted[shifted > 0]
        usual = int(np.median(shifted)) if len(shifted) >= FEWEST_LOADS else wanted
        if usual == wanted or np.mean(shifted == usual) < 0.9:
            continue
        start, end = case.span
        more = f"the panel shows the last {wanted} of them" if usual > wanted else "the rest is what was shifted before"
        yield case.found(
            "setup.wrong-geometry", "loads", device=reading.device.name, lines=case.names("clock", "latch"), start=start, end=end,
            confidence="certain" if case.panel_known(reading) else "likely", count=len(shifted), evidence={"loads": len(shifted), "bits a load": usual},
            wanted=wanted, usual=usual, what=more, panel=panel.name, wide=panel.width * usual // wanted,
        )  # fmt: skip


def _bits_of_a_load(scan: Scan) -> int:
    """How many bits the registers of a panel with row groups hold on each line of data."""
    return scan.lamps.columns if scan.lamps.colours else scan.lamps.columns * scan.lamps.rows // scan.on.shape[1]


def turned_enable(case: Case) -> Iterator[Finding]:
    """A panel with row groups that lights while its rows are exchanged, and is dark while they stand: its enable is inverted, or does the latch's work."""
    if not {"latch", "enable", "a"} <= case.roles.keys() or not all(case.moves(role) > 8 for role in ("latch", "enable", "a")):
        return
    for reading, scan, _ in _each(case):
        if not scan.lamps.block:
            continue
        lit = scan.lamps.row
        opens, closes = spans_selected(case.whole, case.roles["enable"], lit)
        latch = case.edges("latch")
        changes = np.union1d(latch.times[1:], case.edges("a").times[1:])
        if len(opens) < 8:
            continue
        inside = np.searchsorted(changes, closes, side="right") - np.searchsorted(changes, opens, side="left")
        share = float((closes - opens).sum()) / max(1, case.trace.end - case.trace.start)
        high = latch.share(1)
        start, end = case.span
        names = case.bus.lines
        as_latch = high > 0.5 and share < 0.1 and not (inside > 0).mean() > 0.5
        if scan.lamps.colours:  # a latch comes and goes while it is dark, and not the other way round
            as_latch = _around(case, "latch", 1, "enable", 1 - lit) > 0.95
        if as_latch:
            yield case.found(
                "wiring.swapped-lines", lines=case.names("latch", "enable"), start=start, end=end, confidence="likely", device=reading.device.name,
                evidence={"latch is high": f"{high:.0%} of the time", "panel is lit": f"{share:.1%} of the time"}, a="LATCH", b="ENABLE",
                line_a=names["latch"], line_b=names["enable"], role_a="latch", role_b="enable", apart="",
            )  # fmt: skip
        elif (inside > 0).mean() > 0.95 and inside.sum() > 0.9 * len(changes) and share < 0.5:
            yield case.found(
                "wiring.inverted-line", "enable", lines=case.names("enable"), start=start, end=end, confidence="likely", device=reading.device.name,
                evidence={"rows are exchanged while it is lit": f"{(inside > 0).mean():.0%}", "panel is lit": f"{share:.1%} of the time"},
                line=names["enable"], role="ENABLE",
            )  # fmt: skip


def _around(case: Case, outer: str, high: int, inner: str, level: int) -> float:
    """The share of the stretches in which a line has a level that begin and end within one in which another line has its own."""
    opens, closes = spans_selected(case.whole, case.roles[outer], high)
    begins, ends = spans_selected(case.whole, case.roles[inner], level)
    if not len(opens) or not len(begins):
        return 0.0
    at = np.searchsorted(opens, begins) - 1
    return float(np.mean((at >= 0) & (closes[np.maximum(at, 0)] > ends)))


def turned_levels(case: Case) -> Iterator[Finding]:
    """Columns that are lit whenever all rows are off, and rows that are off only in their own turn.

    A driver that takes its columns back between rows tells their level at rest; one that does not tells nothing.
    """
    for reading, scan, bus in _each(case):
        if scan.lamps.block or len(scan.rows) < 16 or scan.bits.shape[1] < 2:
            continue
        start, end = case.span
        on = np.median(scan.on, axis=0) if len(scan.on) else np.zeros(0)
        for row in np.flatnonzero((on > 0.6) & (on < 0.98)).tolist():
            alone = (scan.rows >> np.uint64(row) & np.uint64(1) == 0) & (scan.rows != 0)
            if np.count_nonzero(on < 0.5) >= 2 and not alone.any():
                yield case.found(
                    "wiring.inverted-line", "row", lines=_names(case, bus, row), start=start, end=end, device=reading.device.name,
                    evidence={"on": f"{on[row]:.0%} of a frame"}, row=_row(case, bus, scan, row), share=f"{on[row]:.0%}",
                )  # fmt: skip
                return
        # The first stretch in which no row is on, behind one in which one was.
        after = np.flatnonzero((scan.rows[1:] == 0) & (scan.rows[:-1] != 0)) + 1
        if len(after) < 8 or bus is not case.bus:
            continue
        rest = scan.bits[after].mean(axis=0)
        wrong = np.flatnonzero(rest > 0.95)
        if not len(wrong) or not ((rest > 0.95) | (rest < 0.05)).all() or 1 < len(wrong) < len(rest):
            continue
        names = [case.bus.lines[role] for column in wrong.tolist() for role in (f"column{column}",) if role in case.bus.lines]
        moving = [name for name in names if len(case.whole.edges(case.trace.names.index(name)).times) > 1]
        if len(wrong) == 1 and not moving:
            yield case.found(
                "wiring.stuck-line", lines=names, start=start, end=end, confidence="likely", device=reading.device.name,
                evidence={"rests": f"{rest[wrong[0]]:.0%} lit"}, name=names[0], role="COLUMN", level="lit", why="even while no row is on",
                to="the level that lights",
            )  # fmt: skip
            continue
        yield case.found(
            "wiring.inverted-line", "columns", lines=names, start=start, end=end, device=reading.device.name,
            evidence={"lit while no row is on": f"{float(rest[wrong].mean()):.0%}"}, shown="all columns" if len(wrong) > 1 else f"column '{names[0]}'",
            are="are" if len(wrong) > 1 else "is", have="they have" if len(wrong) > 1 else "it has",
        )  # fmt: skip


def together(case: Case) -> Iterator[Finding]:
    """Two rows that are on and off together, and never alone."""
    for reading, scan, bus in _each(case):
        if scan.lamps.block or not scan.cycles or len(scan.light) < 3:
            continue
        own = [(scan.rows >> np.uint64(row) & np.uint64(1)).astype(bool) for row in range(scan.on.shape[1])]
        used = [row for row, mask in enumerate(own) if mask.any() and not mask.all()]
        took = scan.end - scan.start
        for a, b in combinations(used, 2):
            apart = int(took[own[a] != own[b]].sum())
            if apart <= 0.02 * int(took[own[a]].sum()) and len(used) > 2:
                start, end = case.span
                yield case.found(
                    "wiring.joined-lines", "rows", lines=[*_names(case, bus, a), *_names(case, bus, b)], start=start, end=end, device=reading.device.name,
                    evidence={"frames": len(scan.light)}, count=len(scan.light), shown=f"{_row(case, bus, scan, a)} and {_row(case, bus, scan, b)}",
                )  # fmt: skip


def segments(case: Case) -> Iterator[Finding]:
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
        tried = [
            (_readable(_with(patterns, which)), which) for which in [*combinations(range(8), 2), *((one,) for one in range(7))]
        ]
        most = max(count for count, _ in tried)
        best: list[tuple[int, ...]] = [which for count, which in tried if count == most]
        alike = [
            (a, b) for a, b in combinations(range(8), 2) if (patterns[:, a] == patterns[:, b]).all() and patterns[:, a].any()
        ]  # fmt: skip
        joined = most < len(patterns) and len(alike) == 1
        if joined:
            best = [alike[0]]
        elif most < len(patterns) or len(best) > 2:
            continue
        begin, end = case.span
        for which in best:
            names = [bus.lines.get(f"segment_{SEGMENTS[k]}", "") for k in which]
            pairs = zip(which, names, strict=True)
            code = "wiring.inverted-line" if len(which) == 1 else "wiring.joined-lines" if joined else "wiring.swapped-lines"
            yield case.found(
                code, "segments", confidence="certain" if len(best) == 1 and most == len(patterns) else "likely", device=reading.device.name,
                lines=[name for name in names if name in case.trace.names], start=begin, end=end,
                evidence={"characters as wired": now, "of": len(patterns)},
                shown=" and ".join(f"segment {SEGMENTS[k]}" + (f" ('{name}')" if name else "") for k, name in pairs),
                wrong=len(patterns) - now, patterns=len(patterns), all=", all are that way" if most == len(patterns) else "",
            )  # fmt: skip


def _with(patterns: NDArray[np.bool_], which: tuple[int, ...]) -> NDArray[np.bool_]:
    """Patterns with two segments exchanged, or one turned over."""
    other = patterns.copy()
    if len(which) == 1:
        other[:, which[0]] ^= True
    else:
        other[:, which] = other[:, which[::-1]]
    return other


def _readable(patterns: NDArray[np.bool_]) -> int:
    """How many patterns of segments are characters."""
    return sum("?" not in character([SEGMENTS[k] for k in np.flatnonzero(row).tolist()]) for row in patterns)


RULES = [
    Rule("wiring", dead_rows),
    Rule("wiring", order_of_rows),
    Rule("wiring", groups_in_order),
    Rule("wiring", turned_enable),
    Rule("wiring", turned_levels),
    Rule("wiring", together),
    Rule("wiring", segments),
    Rule("setup", loads),
    Rule("timing", flicker),
    Rule("timing", uneven),
    Rule("timing", ghosting),
]
