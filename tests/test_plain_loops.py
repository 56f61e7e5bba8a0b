"""Decoders and measurements against plain loops: a state machine for each bus, written down from what the bus is, on noise of any kind.

The loops go sample by sample or edge by edge and know nothing of columns; where they and the product differ, one of them is wrong.
"""

import unittest
from collections.abc import Iterable
from fractions import Fraction
from itertools import accumulate, pairwise, permutations
from unittest import mock

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st

from hushed_wire.bus import i2c, i2c_timing, matrix, parallel, shift, spi, words
from hushed_wire.bus.edges_timing import measure_parallel, measure_spi
from hushed_wire.bus.nibbles import Nibbles, Switch
from hushed_wire.bus.pieces import Pauses
from hushed_wire.bus.scan_roles import Lamps
from hushed_wire.bus.words import Words
from hushed_wire.diagnosis.permuted import cheapest
from hushed_wire.diagnosis.volts import line_volts
from hushed_wire.trace import Trace, column, measured, stats
from hushed_wire.trace.measured import Growing, Measured
from hushed_wire.trace.model import Waveforms
from hushed_wire.trace.threshold import levels
from hushed_wire.unravel.shown import everywhere
from hushed_wire.view.moments import Moments, latched
from strategies import traces

NOISE = settings(deadline=None, max_examples=150)
Entries = list[tuple[int, list[int]]]


def entries(trace: Trace) -> Entries:
    """Time and level of every line, for each entry."""
    width = range(len(trace.names))
    return [(int(when), [int(word) >> k & 1 for k in width]) for when, word in zip(trace.times, trace.levels, strict=True)]


def edges_of(trace: Trace, line: int, level: int) -> list[int]:
    """When a line goes to a level."""
    own = entries(trace)
    return [when for (_, before), (when, now) in pairwise(own) if now[line] == level != before[line]]


class Buses(unittest.TestCase):
    @given(traces(4, 4, 120), st.integers(0, 3), st.integers(1, 9), st.booleans(), st.booleans())
    @NOISE
    def test_spi(self, trace: Trace, mode: int, bits: int, msb: bool, high: bool) -> None:
        clock, data, select, dc = 0, 1, 2, 3
        sampling = (mode >> 1) == (mode & 1)  # the level that the clock goes to as data are taken
        own = entries(trace)
        found: list[tuple[list[int], list[int]]] = []
        inside = own[0][1][select] == int(high)
        pending: list[int] = []
        if inside:
            found.append(([], []))
        for (_, before), (_, now) in pairwise(own):
            if now[select] != before[select]:
                inside, pending = now[select] == int(high), []
                if inside:
                    found.append(([], []))
            if inside and now[clock] != before[clock] and now[clock] == int(sampling):
                pending.append(before[data])
                if len(pending) == bits:
                    order = pending if msb else pending[::-1]
                    found[-1][0].append(int("".join(map(str, order)), 2))
                    found[-1][1].append(now[dc])
                    pending = []
        shape = spi.Shape(bits, 1, 0, 0, mode, msb, int(high))
        told = spi.decode(trace, clock, data, shape, select, dc)
        assert told.dc is not None
        spans = list(zip(told.transactions.first.tolist(), told.transactions.last.tolist(), strict=True))
        said = [(told.words.value[a:b].tolist(), told.dc[a:b].tolist()) for a, b in spans]
        self.assertEqual(said, found)

    @given(traces(8, 8, 120), st.sampled_from(["e", "wr"]), st.booleans())
    @NOISE
    def test_parallel(self, trace: Trace, strobe: str, high: bool) -> None:
        roles = {"d4": 0, "d5": 1, "d6": 2, "d7": 3, "rs": 4, strobe: 5, "cs": 6} | ({"rw": 7} if strobe == "e" else {"rd": 7})
        own, found = entries(trace), []
        for (_, before), (when, now) in pairwise(own):
            for line, reads in ((5, before[7] == 1 if strobe == "e" else False), *(((7, True),) if strobe == "wr" else ())):
                latched = now[line] == (0 if strobe == "e" else 1) and now[line] != before[line]
                if latched and before[6] == int(high):
                    found.append((when, sum(before[k] << (4 + k) for k in range(4)), before[4], reads))
        told = parallel.decode(trace, roles, int(high))
        columns = told.words.effect.tolist(), told.words.value.tolist(), told.data.tolist(), told.read.tolist()
        self.assertEqual(list(zip(*columns, strict=True)), found)

    @given(traces(3, 3, 120), st.integers(1, 12), st.booleans(), st.booleans())
    @NOISE
    def test_shift(self, trace: Trace, bits: int, msb: bool, latched: bool) -> None:
        clock, data, latch = 0, 1, 2
        own, chain, count, found = entries(trace), [0] * bits, 0, []
        for (_, before), (when, now) in pairwise(own):
            clocked = now[clock] > before[clock]
            if clocked:
                chain, count = [*chain[1:], before[data]], count + 1
            done = now[latch] > before[latch] and count >= bits if latched else clocked and count % bits == 0
            if done:
                order = chain if msb else chain[::-1]
                found.append((when, int("".join(map(str, order)), 2)))
        roles = {"clock": clock, "data": data} | ({"latch": latch} if latched else {})
        told = shift.decode(trace, roles, shift.Chain(bits, 1, msb))
        self.assertEqual(list(zip(told.effect.tolist(), told.value.tolist(), strict=True)), found)

    @given(traces(2, 2, 400))
    @NOISE
    def test_i2c(self, trace: Trace) -> None:
        # From the first START on: what came ahead is told backwards, which a machine that only goes forwards cannot do.
        own, found = entries(trace), []
        current: list[tuple[int, bool]] | None = None
        taken: list[int] = []
        waiting: int | None = None
        begun = False

        def close() -> None:
            nonlocal current
            if current is not None:
                found.append(current)
            current = None

        for (_, before), (_, now) in pairwise(own):
            if now[0] != before[0]:
                if now[0]:
                    waiting = now[1]
                elif waiting is not None:
                    if current is not None:
                        taken.append(waiting)
                        if len(taken) == 9:
                            current.append((int("".join(map(str, taken[:8])), 2), taken[8] == 0))
                            taken = []
                    waiting = None
            elif now[0] and now[1] != before[1]:
                close()
                taken, waiting = [], None
                if not now[1]:
                    current, begun = [], True
        close()
        decoder = i2c.Decoder(0, 1, trace.tick, width=1)
        pieces = [decoder.feed(trace), decoder.finish()]
        words = i2c.Words.join([piece.words for piece in pieces])
        table = i2c.transactions(i2c.Marks.join([piece.marks for piece in pieces]))
        first = next((k for k, kind in enumerate(table.began.tolist()) if kind != i2c.CUT), len(table))
        said = [
            list(zip(words.value[a:b].tolist(), words.ack[a:b].tolist(), strict=True))
            for a, b in list(zip(table.first.tolist(), table.last.tolist(), strict=True))[first:]
        ]
        self.assertEqual(said, found if begun else [])

    @given(traces(5, 5, 60), st.booleans(), st.booleans())
    @NOISE
    def test_brightness_of_scanned_leds(self, trace: Trace, row: bool, column: bool) -> None:
        roles = {"row0": 0, "row1": 1, "column0": 2, "column1": 3, "column2": 4}
        scan = matrix.decode(trace, roles, Lamps(int(row), int(column)))
        own = entries(trace)
        for frame, (begin, end) in enumerate(zip(scan.frames[:-1].tolist(), scan.frames[1:].tolist(), strict=True)):
            lit = np.zeros((2, 3))
            for (when, now), then in zip(own, [*(entry[0] for entry in own[1:]), trace.end], strict=True):
                took = max(0, min(then, end) - max(when, begin))
                for r in range(2):
                    for c in range(3):
                        lit[r, c] += took * (now[r] == int(row) and now[2 + c] == int(column))
            np.testing.assert_allclose(scan.light[frame], lit / (end - begin), atol=1e-5)

    @given(traces(5, 5, 150), st.booleans(), st.booleans(), st.booleans())
    @NOISE
    def test_panels_with_row_groups(self, trace: Trace, enable: bool, lit: bool, up: bool) -> None:
        # Two groups, a register of 2 rows by 2 columns behind them; what it holds lights while its group is chosen and enabled.
        roles = {"clock": 0, "data": 1, "latch": 2, "a": 3, "enable": 4}
        lamps = Lamps(int(enable), int(lit), 4, 2, 2, up, True)
        scan = matrix.decode(trace, roles, lamps)
        own = entries(trace)
        chain: list[int] = []
        held: list[int] | None = None
        states = []  # when, and (group, bits) or nothing
        for k, (when, now) in enumerate(own):
            if k:
                before = own[k - 1][1]
                if now[0] > before[0]:
                    chain.append(before[1])
                if now[2] > before[2] and len(chain) >= 4:
                    held = chain[-4:]
            states.append((when, (now[3], held) if held is not None and now[4] == int(enable) else None))
        for frame, (begin, end) in enumerate(pairwise(scan.frames.tolist())):
            light = np.zeros((4, 2))
            for (when, shown), then in zip(states, [*(entry[0] for entry in own[1:]), trace.end], strict=True):
                took = max(0, min(then, end) - max(when, begin))
                if shown is not None and took:
                    group, bits = shown
                    for place, bit in enumerate(bits):  # a group's rows are two apart; bits come row by row
                        row = place // 2
                        light[group + 2 * (1 - row if up else row), place % 2] += took * (bit == int(lit))
            np.testing.assert_allclose(scan.light[frame], light / (end - begin), atol=1e-5)

    @given(
        st.lists(st.tuples(st.sampled_from([2, 3, 0, 8, 15]), st.booleans()), max_size=60),
        st.lists(st.integers(0, 60), max_size=5),
    )
    @NOISE
    def test_nibbles(self, sent: list[tuple[int, bool]], cuts: list[int]) -> None:
        # HD44780U, Figure 24: eight bits a transfer up to function-set width=4 (20h), then two transfers a byte up to width=8 (30h).
        plain, four, half = [], False, None
        first = [value for value, data in sent[:2] if not data]
        starts_up = first in ([2], [3], [3, 3], [3, 2], [2, 2]) and len(first) == min(2, len(sent))
        if sent and not starts_up:  # at work already: bytes are whole where the kind changes
            four, whole = True, sent
            kinds = [data for _, data in sent]
            turn = next((k for k in range(1, min(len(kinds), 64)) if kinds[k] != kinds[k - 1]), 0)
            sent = sent[turn % 2 :]
            cuts = [cut - turn % 2 for cut in cuts if cut > turn % 2]
            ahead = [(whole[0][0], kinds[0])] * (turn % 2)
        else:
            ahead = []
        for value, data in sent:
            if not four:
                byte, four = value << 4, value == 2 and not data
            elif half is None:
                half = (value, data)
                continue
            else:
                byte, data, four = half[0] << 4 | value, half[1], not (half[0] == 3 and not half[1])
                half = None
            plain.append((byte, data))
        sent = [*ahead, *sent]
        nibbles, told = Nibbles(Switch(2, 3)), []
        edges = [0, *sorted(cut for cut in cuts if cut < len(sent)), len(sent)]
        for first, last in pairwise(edges):
            value = np.array([v << 4 for v, _ in sent[first:last]], np.uint32)
            when, ones = np.arange(first, last), np.ones(last - first, bool)
            words, data = nibbles.feed(
                Words(value, when, when, when, ones, ~ones), np.array([d for _, d in sent[first:last]], bool)
            )
            told += list(zip(words.value.tolist(), data.tolist(), strict=True))
        late = nibbles.rest()
        told += list(zip(late[0].value.tolist(), late[1].tolist(), strict=True)) if late is not None else []
        self.assertEqual([byte for byte, _ in told], [byte for byte, _ in plain])


SPANS_OF_I2C = {
    ("start", "down"): "tHD;STA", ("down", "up"): "tLOW", ("up", "down"): "tHIGH", ("up", "start"): "tSU;STA", ("up", "stop"): "tSU;STO",
    ("stop", "start"): "tBUF",
}  # fmt: skip


def counted(plain: list[tuple[int, int]]) -> list[tuple[int, int, int]]:
    """Of (when, how long): each length, how often it came, and when first."""
    return sorted(
        (value, sum(value == other for _, other in plain), min(when for when, other in plain if other == value))
        for value in {value for _, value in plain}
    )


def as_rows(told: Measured) -> list[tuple[int, int, int]]:
    """What was measured, as `counted` has it."""
    return list(zip(told.value.tolist(), told.count.tolist(), told.when.tolist(), strict=True))


class Measurements(unittest.TestCase):
    @given(
        st.lists(st.tuples(st.integers(0, 9), st.sampled_from([3, 4, 5, 40_000, 70_000, 2**40])), min_size=1, max_size=40),
        st.integers(1, 39),
        st.sampled_from([4, 1 << 16]),
    )
    def test_distributions(self, steps: list[tuple[int, int]], cut: int, table: int) -> None:
        """Counted in a table or sorted, whole or in parts: the same lengths, medians and breaches as in a plain list."""
        when = list(accumulate(step + 1 for step, _ in steps))
        plain = list(zip(when, (value for _, value in steps), strict=True))
        value = np.array([value for _, value in plain])
        with mock.patch.object(measured, "TABLE", table):
            parts = [
                Measured.of(value[part], np.array(when)[part], "sck") for part in (slice(None), slice(0, cut), slice(cut, None))
            ]
        for told in (parts[0], Measured.join(parts[1:])):
            self.assertEqual(as_rows(told), counted(plain))
            self.assertEqual((len(told), told.least, told.most), (len(plain), value.min(), value.max()))
            self.assertEqual(told.typical, np.median(value))
            self.assertAlmostEqual(told.mean_upto(40_000), value[value <= 40_000].mean() if (value <= 40_000).any() else 0, 6)
            beyond = [moment for moment, lasted in plain if lasted < 5 or lasted > 50_000]
            self.assertEqual(told.beyond(5, 50_000), (len(beyond), beyond[0] if beyond else None))
            self.assertEqual(as_rows(told.below(70_000)), counted([row for row in plain if row[1] < 70_000]))
            self.assertEqual(told.total, value.sum())
            self.assertEqual(told.share_below(5), (value < 5).sum() / len(plain))
            self.assertIn(told.spread, np.abs(value - told.typical))
            self.assertLessEqual((value < told.percentile(0.3)).sum(), 0.3 * len(plain))

    @given(
        st.lists(st.tuples(st.integers(0, 2), st.sampled_from([3, 4, 5, 30, 31, 400, 2**40])), min_size=1, max_size=60),
        st.integers(1, 20),
        st.sampled_from([16, 1 << 14]),
        st.sampled_from([1, 4, 1024]),
    )
    def test_distributions_that_grow(self, rows: list[tuple[int, int]], size: int, near: int, worth: int) -> None:
        """In pieces, of several things at once: what a plain list has of each. The third row is nobody's."""
        row, value, when = np.array([r for r, _ in rows], np.uint8), np.array([v for _, v in rows]), np.arange(len(rows)) * 3
        with mock.patch.multiple(measured, NEAR=near, WORTH=worth, SEVERAL=3):
            several, one = Growing(2), Growing()
            for at in range(0, len(rows), size):
                part = slice(at, at + size)
                several.add(value[part], when[part], row[part])
                one.add(value[part], when[part])
            for number in range(2):
                own = row == number
                plain = list(zip(when[own].tolist(), value[own].tolist(), strict=True))
                self.assertEqual(as_rows(several.told("sck", row=number)), counted(plain))
            self.assertEqual(as_rows(one.told()), counted(list(zip(when.tolist(), value.tolist(), strict=True))))

    @given(traces(2, 2, 400), st.integers(1, 60), st.booleans())
    @settings(deadline=None, max_examples=150)
    def test_times_of_i2c(self, trace: Trace, size: int, in_tables: bool) -> None:
        """Cut anywhere, and counted in tables or one by one: what a plain loop over the edges has."""
        edges: list[tuple[int, str]] = []
        wanted: dict[str, list[tuple[int, int]]] = {symbol: [] for symbol in i2c_timing.SYMBOLS}
        moved: list[int] = []
        rises = 0
        for (_, before), (when, after) in pairwise(zip(trace.times.tolist(), trace.levels.tolist(), strict=True)):
            if before & 1 == after & 1 == 0:
                moved.append(when)
                continue
            kind = ("up" if after & 1 else "down") if (before ^ after) & 1 else ("stop" if after & 2 else "start")
            if edges:
                at, last = edges[-1]
                symbol = SPANS_OF_I2C.get((last, kind))
                if symbol:
                    wanted[symbol].append((when, when - at))
                if symbol == "tLOW" and moved:
                    wanted["tHD;DAT"].append((moved[0], moved[0] - at))
                    wanted["tSU;DAT"].append((when, when - moved[-1]))
                    wanted["tVD;ACK" if rises % 9 == 8 else "tVD;DAT"].append((moved[-1], moved[-1] - at))
            edges.append((when, kind))
            if [other for _, other in edges[-4:]] == ["up", "down"] * 2:
                wanted["fSCL"].append((edges[-2][0], edges[-2][0] - edges[-4][0]))
            rises = 0 if kind in ("start", "stop") else rises + (kind == "up")
            moved = []
        with (
            mock.patch.object(i2c_timing, "PIECE", size),
            mock.patch.object(i2c_timing, "spike_ticks", lambda *_: 1),
            mock.patch.multiple(measured, WORTH=1 if in_tables else 1024, ALIKE=16, SEVERAL=2),
        ):
            told = i2c_timing.measure(trace, 0, 1)
            for symbol, plain in wanted.items():
                self.assertEqual(as_rows(told[symbol]), counted(plain), symbol)

    @given(traces(3, 3, 150), st.integers(0, 3))
    @NOISE
    def test_times_of_spi(self, trace: Trace, mode: int) -> None:
        clock, data, select = 0, 1, 2
        told = measure_spi(trace, {"sck": clock, "mosi": data, "cs": select}, mode, 0, "cs")
        sampling = [
            when
            for when in edges_of(trace, clock, int((mode >> 1) == (mode & 1)))
            if trace.level_at(select, np.array([when]))[0] == 0
        ]
        changes = sorted(edges_of(trace, data, 0) + edges_of(trace, data, 1))
        setup = [(when, when - max(c for c in changes if c <= when)) for when in sampling if any(c <= when for c in changes)]
        hold = [(when, min(c for c in changes if c > when) - when) for when in sampling if any(c > when for c in changes)]
        opens, closes = edges_of(trace, select, 0), edges_of(trace, select, 1)
        rest = [(when, min(o for o in opens if o > when) - when) for when in closes if any(o > when for o in opens)]
        for name, plain in (("data set-up", setup), ("data hold", hold), ("select rest", rest)):
            self.assertEqual(as_rows(told[name]), counted(plain), name)

    @given(traces(4, 4, 150))
    @NOISE
    def test_times_of_a_6800_bus(self, trace: Trace) -> None:
        told = measure_parallel(trace, {"d0": 0, "d1": 1, "rs": 2, "e": 3})
        rises, falls = edges_of(trace, 3, 1), edges_of(trace, 3, 0)
        changes = sorted({when for line in (0, 1) for level in (0, 1) for when in edges_of(trace, line, level)})
        selects = sorted(edges_of(trace, 2, 0) + edges_of(trace, 2, 1))

        def ahead(moments: list[int], edges: list[int]) -> list[tuple[int, int]]:
            return [(when, when - max(e for e in edges if e <= when)) for when in moments if any(e <= when for e in edges)]

        def behind(moments: list[int], edges: list[int]) -> list[tuple[int, int]]:
            return [(when, min(e for e in edges if e > when) - when) for when in moments if any(e > when for e in edges)]

        for name, plain in (
            ("enable high", behind(rises, falls)),
            ("enable low", behind(falls, rises)),
            ("data set-up", ahead(falls, changes)),
            ("data hold", behind(falls, changes)),
            ("register select set-up", ahead(rises, selects)),
            ("register select hold", behind(falls, selects)),
        ):
            self.assertEqual(as_rows(told[name]), counted(plain), name)

    @given(traces())
    @NOISE
    def test_statistics_of_a_line(self, trace: Trace) -> None:
        def statistics(blocks: Iterable[Trace]) -> list[stats.LineStatistics]:
            own = stats.Statistics()
            for block in blocks:
                own.feed(block)
            return own.told()

        whole = statistics([trace])
        with mock.patch.object(stats, "PIECE", 7):
            self.assertEqual(statistics([trace]), whole, "in pieces as at once")
        self.assertEqual(statistics(trace.pieces(5)), whole, "in blocks as at once")
        for line, told in enumerate(whole):
            rises, falls = edges_of(trace, line, 1), edges_of(trace, line, 0)
            self.assertEqual((told.rises, told.falls), (len(rises), len(falls)))
            moves = sorted([*((when, 1) for when in rises), *((when, 0) for when in falls)])
            for level, shortest in ((1, told.shortest_high), (0, told.shortest_low)):
                lasted = [then - when for (when, now), (then, _) in pairwise(moves) if now == level]
                if lasted:
                    self.assertAlmostEqual(shortest or 0, min(lasted) * 1e-7, 12)
                else:
                    self.assertIsNone(shortest)
            if len(rises) > 1:
                steps = sorted(b - a for a, b in pairwise(rises))
                middle = (steps[(len(steps) - 1) // 2] + steps[len(steps) // 2]) // 2
                self.assertAlmostEqual((told.rate or 0) * middle * 1e-7, 1, 6)

    @given(
        st.integers(6, 60),
        st.integers(1, 6),
        st.floats(1.6, 5.2),
        st.floats(0, 0.02),
        st.integers(0, 99),
        st.sampled_from([2, 12]),
    )
    @settings(deadline=None, max_examples=60)
    @example(6, 1, 1.75, 0.01953125, 8, 12)  # noise once bent the fit to 61.4 ns
    def test_rise_times_of_exponentials(
        self, rising: int, falling: int, high: float, noise: float, seed: int, lasts: int
    ) -> None:
        # An open-drain line as its resistor and capacitance make it: time constants in samples, levels and noise in volts. Levels last for so
        # many time constants: two, and no rise gets to its end.
        volts, now = [], high
        for level in [1, *([0, 1] * 12)]:
            goal, constant = (high, rising) if level else (0.05, falling)
            for _ in range(lasts * rising):
                now += (goal - now) * (1 - np.exp(-1 / constant))
                volts.append(now)
        told = np.array(volts) + np.random.default_rng(seed).normal(0, noise, len(volts))
        waves = Waveforms(("A",), np.arange(len(volts)), (told.astype(np.float32),), Fraction(1, 10**8), len(volts), 1)
        edge = line_volts(waves, levels(waves), 0)
        rise = np.log(7 / 3) * rising * 1e-8  # from 30 % to 70 %
        self.assertAlmostEqual(edge.rise, rise, delta=5 * edge.rise_error + 0.001 * rise)
        self.assertLess(edge.rise_error, 0.02 * rise)
        if lasts > 2:
            self.assertAlmostEqual(edge.high, high, delta=0.05 + 0.02 * high)
            self.assertAlmostEqual(edge.low, 0.05, delta=0.05 + 0.02 * high)
            self.assertAlmostEqual(edge.noise, noise, delta=0.3 * noise + 0.001)

    @given(st.lists(st.integers(0, 400), max_size=60), st.integers(2, 9), st.lists(st.integers(0, 60), max_size=5))
    @NOISE
    def test_pauses(self, steps: list[int], times: int, cuts: list[int]) -> None:
        moments = np.cumsum(steps).astype(np.int64)
        plain, shortest = [], float("inf")
        for k, step in enumerate(np.diff(moments, prepend=moments[:1]).tolist()):
            plain.append(k > 0 and step > times * shortest)
            shortest = min(shortest, step) if step > 0 and k else shortest
        pauses = Pauses(times)
        edges = [0, *sorted(cut for cut in cuts if cut < len(steps)), len(steps)]
        said = [bit for a, b in pairwise(edges) for bit in pauses.feed(moments[a:b]).tolist()]
        self.assertEqual(said, plain)

    @given(
        st.lists(st.sampled_from([0.0, 0.4, 1.2, 1.4, 1.6, 1.8, 2.0, 3.1, 3.3, float("nan")]), min_size=1, max_size=80),
        st.sampled_from([0.0, 0.3, 0.5]),
    )
    @NOISE
    def test_levels_of_volts(self, volts: list[float], band: float) -> None:
        # With hysteresis a line keeps its level between the two thresholds; ahead of the first clear sample nobody knows it.
        plain, state = [], 2
        for value in volts:
            if value != value:
                state = 2
            elif np.float32(value) >= 1.65 + band / 2:
                state = 1
            elif np.float32(value) < 1.65 - band / 2:
                state = 0
            plain.append(state)
        waves = Waveforms(("A",), np.arange(len(volts)), (np.array(volts, np.float32),), Fraction(1, 10**6), len(volts), 1)
        self.assertEqual(levels(waves, 1.65, band).level_at(0, np.arange(len(volts))).tolist(), plain)


class Kept(unittest.TestCase):
    """What is kept of long captures, and what figures take of it."""

    @given(st.lists(st.lists(st.integers(-5, 1 << 31), max_size=8), min_size=1, max_size=8), st.sampled_from([1, 12, 1 << 18]))
    def test_columns_that_grow(self, parts: list[list[int]], many: int) -> None:
        held, numbers = words.Held(), [np.array(part, np.int64) for part in parts]
        with (
            mock.patch.object(words, "MANY", many),
            mock.patch.object(column, "LARGE", 64),
            mock.patch.object(column, "AHEAD", 80),
        ):
            for part in numbers:
                held.add(tick=part, value=(part & 0xFF).astype(np.uint8), none=None)
            told = held.whole()
        every = np.concatenate(numbers)
        self.assertEqual((held.count, told["tick"].tolist()), (len(every), every.tolist()))
        self.assertEqual((told["value"].dtype, told["value"].tolist()), (np.uint8, (every & 0xFF).tolist()))
        small = not len(every) or int(every.max()) < 1 << 30
        if len(every) >= many:
            self.assertEqual(told["tick"].dtype, np.int32 if small else np.int64)

    @given(st.lists(st.integers(0, 9), min_size=1, max_size=40), st.integers(1, 7), st.floats(-1, 400), st.data())
    def test_moments(self, steps: list[int], half: int, value: float, data: st.DataObject) -> None:
        """Words that an edge latches: as wide as there is room for; found and taken as from a column."""
        effect = np.cumsum(steps)
        begin, end = latched(effect, half)
        plain = [
            max(at - half, min(before + half, (before + at) // 2)) if number else at - half
            for number, (before, at) in enumerate(zip([0, *effect.tolist()], effect.tolist(), strict=False))
        ]
        tick = Fraction(3, 7)
        for of, wanted in ((begin, plain), (end, (effect + half).tolist())):
            moments = Moments(len(effect), of, tick)
            column = np.array(wanted) * 3.0 / 7.0
            self.assertEqual(np.asarray(moments).tolist(), column.tolist())
            first = data.draw(st.integers(0, len(effect)))
            self.assertEqual(moments[first : first + 5].tolist(), column[first : first + 5].tolist())
            some = np.array(data.draw(st.lists(st.integers(0, len(effect) - 1), max_size=5)), np.int64)
            self.assertEqual(moments[some].tolist(), column[some].tolist())
            for at in (value, float(column[-1])):
                for side in ("left", "right"):
                    self.assertEqual(moments.searchsorted(at, side), int(np.searchsorted(column, at, side=side)))


class Reckoned(unittest.TestCase):
    """What a sum over everything finds, in few steps."""

    @given(
        st.integers(1, 6).flatmap(lambda n: st.lists(st.lists(st.integers(0, 9), min_size=n, max_size=n), min_size=n, max_size=n))
    )
    def test_the_cheapest_assignment(self, cost: list[list[int]]) -> None:
        found = cheapest(np.array(cost, np.float64))
        self.assertEqual(sorted(found), list(range(len(cost))))

        def total(columns: Iterable[int]) -> int:
            return sum(row[column] for row, column in zip(cost, columns, strict=True))

        self.assertEqual(total(found), min(map(total, permutations(range(len(cost))))))

    @given(st.integers(1, 9), st.integers(1, 9), st.integers(0, 5), st.integers(0, 5), st.integers(0, 1000))
    def test_sums_of_products_at_every_place(self, high: int, wide: int, below: int, beside: int, seed: int) -> None:
        chance = np.random.default_rng(seed)
        small, large = chance.integers(-3, 4, (high, wide)), chance.integers(-3, 4, (high + below, wide + beside))
        found = everywhere(large.astype(float), small.astype(float))
        self.assertEqual(found.shape, (below + 1, beside + 1))
        for top in range(below + 1):
            for left in range(beside + 1):
                plain = sum(int(large[top + y, left + x]) * int(small[y, x]) for y in range(high) for x in range(wide))
                self.assertAlmostEqual(float(found[top, left]), plain, places=6)


if __name__ == "__main__":
    unittest.main()
