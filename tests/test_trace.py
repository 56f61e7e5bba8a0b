"""Traces and their files: round trips over random traces, what IEEE 1364 allows, what instruments write."""

import gzip
import io
import unittest
from fractions import Fraction
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from vcd import VCDWriter

from hushed_wire.errors import HushedError
from hushed_wire.trace import Trace, fold, joined, merge, open_capture, read_capture
from hushed_wire.trace.files import write_capture
from hushed_wire.trace.model import Waveforms
from hushed_wire.trace.sampling import sampled
from hushed_wire.trace.threshold import levels
from support import scratch

FOLDER = scratch()


@st.composite
def traces(draw: st.DrawFn, most_lines: int = 10) -> Trace:
    """Random traces: lines, ticks that a timescale meets and ticks that none does, unknowns, gaps."""
    width = draw(st.integers(1, most_lines))
    count = draw(st.integers(1, 60))
    steps = draw(st.lists(st.integers(0, 10**6), min_size=count, max_size=count))
    lines = np.array(draw(st.lists(st.integers(0, width - 1), min_size=count, max_size=count)), dtype=np.int64)
    values = np.array(draw(st.lists(st.integers(0, 2), min_size=count, max_size=count)), dtype=np.uint8)
    times, packed, unknown = fold(np.cumsum(steps), lines, values, width, (0, (1 << width) - 1))
    tick = draw(st.sampled_from([Fraction(1, 10**9), Fraction(1, 2 * 10**7), Fraction(1, 10**6)]))
    end = int(times[-1]) + draw(st.integers(1, 1000))
    return Trace(tuple(f"L{k}" for k in range(width)), times, packed, end, tick, unknown)


def naive(times: list[int], lines: list[int], values: list[int], width: int) -> dict[int, list[int]]:
    """The state of all lines after each time, the slow and plain way."""
    state, out = [2] * width, {}
    for when, line, value in zip(times, lines, values, strict=True):
        state[line] = value
        out[when] = state.copy()
    return out


class Folding(unittest.TestCase):
    @given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 63), st.integers(0, 2)), min_size=1, max_size=80))
    def test_fold_agrees_with_a_plain_loop(self, changes: list[tuple[int, int, int]]) -> None:
        times = np.cumsum([step for step, _, _ in changes])
        lines, values = [line for _, line, _ in changes], [value for _, _, value in changes]
        at, packed, unknown = fold(times, np.array(lines), np.array(values, np.uint8), 64, (0, 2**64 - 1), repeats=True)
        expected = naive(times.tolist(), lines, values, 64)
        self.assertEqual(at.tolist(), list(expected))
        for when, word, hidden in zip(
            at.tolist(), packed.tolist(), (unknown if unknown is not None else packed * 0).tolist(), strict=True
        ):
            state = [2 if hidden >> k & 1 else word >> k & 1 for k in range(64)]
            self.assertEqual(state, expected[when])

    def test_merge_brings_ticks_together_and_keeps_unknowns(self) -> None:
        a = Trace(("A",), np.array([0, 5]), np.array([0, 1], np.uint8), 10, Fraction(1, 10**6))
        b = Trace(("B",), np.array([0, 3]), np.array([1, 0], np.uint8), 5, Fraction(1, 4 * 10**5))
        both = merge(a, b)
        self.assertEqual(both.tick, Fraction(1, 2 * 10**6))
        self.assertEqual(both.edges(0).times.tolist(), [0, 10, 20])
        self.assertEqual(both.edges(0).level.tolist(), [0, 1, 2])  # A ends before B does: unknown from there
        self.assertEqual(both.edges(1).times.tolist(), [0, 15])
        with self.assertRaisesRegex(HushedError, "both traces have a line 'A'"):
            merge(a, a)


class Files(unittest.TestCase):
    @given(traces())
    @settings(deadline=None, max_examples=60)
    def test_vcd_and_csv_give_back_what_was_written(self, trace: Trace) -> None:
        for name in ("t.vcd", "t.vcd.gz", "t.csv"):
            path = FOLDER / name
            write_capture(path, trace)
            back = read_capture(path)
            factor = trace.tick / back.tick
            self.assertEqual(back.names, trace.names)
            self.assertEqual((back.start, back.end > trace.end * factor - factor), (trace.start * factor, True), name)
            for line in range(len(trace.names)):
                own, other = trace.edges(line), back.edges(line)
                self.assertEqual(other.level.tolist(), own.level.tolist(), name)
                self.assertEqual(other.times.tolist(), [int(t * factor) for t in own.times.tolist()], name)

    @given(traces(4), st.integers(1, 400))
    @settings(deadline=None, max_examples=40)
    def test_pieces_of_any_size_make_the_same_trace(self, trace: Trace, size: int) -> None:
        from unittest import mock

        path = FOLDER / "pieces.vcd"
        write_capture(path, trace)
        whole = read_capture(path)
        with mock.patch("hushed_wire.trace.stream.Stream.read", lambda self, n=0: take(self, size)):
            pieces = read_capture(path)
        self.assertEqual(pieces.times.tolist(), whole.times.tolist())
        self.assertEqual(pieces.levels.tolist(), whole.levels.tolist())
        self.assertEqual(pieces.end, whole.end)

    def test_an_independent_writer_is_read_right(self) -> None:
        out = io.StringIO()
        random = np.random.default_rng(5)
        steps = np.cumsum(random.integers(1, 900, 400)).tolist()
        with VCDWriter(out, timescale="10 ns", init_timestamp=0) as writer:
            clock = writer.register_var("top", "clk", "wire", size=1, init=0)
            data = writer.register_var("top.sub", "bus", "wire", size=6, init="x")
            real = writer.register_var("top", "volts", "real", init=1.5)
            expected = []
            for number, when in enumerate(steps):
                value = int(random.integers(0, 64))
                writer.change(clock, when, number % 2)
                writer.change(data, when, value)
                writer.change(real, when, number / 7)
                expected.append((when, number % 2, value))
        (FOLDER / "other.vcd").write_text(out.getvalue())
        trace = read_capture(FOLDER / "other.vcd")
        self.assertEqual(trace.names, ("clk", "bus[0]", "bus[1]", "bus[2]", "bus[3]", "bus[4]", "bus[5]"))
        self.assertEqual(trace.tick, Fraction(1, 10**8))
        for when, level, value in expected:
            at = np.array([when])
            self.assertEqual(int(trace.level_at(0, at)[0]), level)
            self.assertEqual(sum(int(trace.level_at(1 + bit, at)[0]) << bit for bit in range(6)), value)
        self.assertTrue(any("volts" in note.text for note in trace.notes))

    def test_all_that_the_standard_allows(self) -> None:
        text = (
            "$comment b1 ! is no change here $end\r\n$timescale\r\n 100 ps $end\n$scope module top $end $var wire 1 !! scl $end\n"
            "$scope module deep $end $var wire 1 !! scl $end $var reg 8 b sda [7:0] $end $var wire 1 # sda2 [3] $end\n"
            "$var integer 32 r i $end $var wire 1 x alias $end $var event 1 e tick $end $upscope $end $upscope $end\n"
            "$enddefinitions $end\n$dumpvars x!! bx b zx 0# $end\n#10 1!! b101 b 1#\n$comment 0!! $end #20 B1 b r1.5 r bz b 1x\n"
            "#20 0!!\n$dumpoff x!! bx b x# xx $end\n#30\n$dumpon 1!! b11111111 b 1# 0x $end\n#40\n"
        )
        (FOLDER / "odd.vcd").write_bytes(text.encode())
        trace = read_capture(FOLDER / "odd.vcd")
        self.assertEqual(trace.names, ("scl", *(f"sda[{k}]" for k in range(8)), "sda2[3]", "alias"))
        self.assertEqual((trace.tick, trace.end), (Fraction(1, 10**10), 40))

        def story(name: str) -> list[tuple[int, int]]:
            edges = trace.edges(trace.index(name))
            return list(zip(edges.times.tolist(), edges.level.tolist(), strict=True))

        self.assertEqual(story("scl"), [(0, 2), (10, 1), (20, 2), (30, 1)])
        self.assertEqual(story("sda[0]"), [(0, 2), (10, 1), (20, 2), (30, 1)])
        self.assertEqual(story("sda[1]"), [(0, 2), (10, 0), (20, 2), (30, 1)])  # extended with 0, then with z
        self.assertEqual(story("sda2[3]"), [(0, 0), (10, 1), (20, 2), (30, 1)])
        self.assertEqual(story("alias"), [(0, 2), (30, 0)])

    def test_a_cut_file_is_read_up_to_the_cut(self) -> None:
        # Two lines; every cut of the body either says that it is one or ends between changes.
        trace = Trace(("A", "B"), np.arange(0, 600, 7), (np.arange(86) % 4).astype(np.uint8), 700, Fraction(1, 10**6))
        path = FOLDER / "cut.vcd"
        write_capture(path, trace)
        data = path.read_bytes()
        header = data.index(b"$enddefinitions") + 21
        for size in range(header, len(data)):
            path.write_bytes(data[:size])
            part = read_capture(path)
            said = any(note.code == "capture.cut-short" for note in part.notes)
            self.assertTrue(said or data[size - 1 : size] in b"\n$end ", data[size - 9 : size])
            kept = part.edges(0).times[1:].tolist()
            self.assertEqual(kept, trace.edges(0).times[1 : 1 + len(kept)].tolist())
        squeezed = gzip.compress(data)
        path.write_bytes(squeezed[: len(squeezed) // 2])
        self.assertIn("capture.cut-short", [note.code for note in read_capture(path).notes])

    def test_raw_samples_equal_the_same_samples_by_hand(self) -> None:
        samples = np.random.default_rng(2).integers(0, 4, 3_000_000).astype("<u2").repeat(1)
        (FOLDER / "r.bin").write_bytes(samples.tobytes() + b"\1")
        trace = read_capture(FOLDER / "r.bin", raw=2, rate=Fraction(10**7), wanted=["1"])
        bit = samples >> 1 & 1
        edges = trace.edges(1)
        self.assertEqual(edges.times.tolist(), [0, *(np.flatnonzero(np.diff(bit)) + 1).tolist()])
        self.assertEqual((trace.end, trace.tick), (3_000_000, Fraction(1, 10**7)))
        self.assertEqual([note.code for note in trace.notes], ["capture.cut-short"])


def take(stream: object, size: int) -> bytes:
    """Stream.read in small pieces, for a plain file."""
    plain, stream._plain = stream._plain[:size], stream._plain[size:]  # type: ignore[attr-defined]
    return plain or stream._file.read(size)  # type: ignore[attr-defined, no-any-return]


class Tables(unittest.TestCase):
    def read(self, text: str, encoding: str = "utf-8", **options: object) -> Trace:
        (FOLDER / "table.csv").write_bytes(text.encode(encoding))
        return read_capture(FOLDER / "table.csv", **options)

    def test_what_instruments_write(self) -> None:
        rows = [(0, 3.29, 0.02), (1, 0.01, 0.03), (2, 3.31, 3.3), (3, 3.3, 3.28), (4, 0.02, 0.0)]
        plain = "Time,CH1,CH2\n" + "".join(f"{t * 1e-6:.9f},{a},{b}\n" for t, a, b in rows)
        unit_row = "Place,front desk\nRows,5\n\ntime,CH1,CH2\nsecond,Volt,Volt\n" + plain.split("\n", 1)[1]
        inline = "Time (us),CH1 (V),CH2 (V)\n" + "".join(f"{t},{a},{b}\n" for t, a, b in rows)
        german = "Zeit;CH1;CH2\n(ms);(V);(V)\n" + "".join(f"{t / 1000};{a};{b}\n".replace(".", ",") for t, a, b in rows)
        interval = "Sample Interval,1.0E-06\n\nCH1,CH2\n" + "".join(f"{a},{b}\n" for _, a, b in rows)
        commented = "; tide lock, two lines\n# sample rate is 1 MHz\n#CH1,CH2\n" + "".join(f"{a},{b}\n" for _, a, b in rows)
        period = "sampling period;1 us\nCH1;CH2\n" + "".join(f"{a};{b}\n".replace(".", ",") for _, a, b in rows)
        trailing = plain.replace("\n", ",\n")
        quoted = '"Time";"CH1";"CH2"\r\n' + "".join(f'"{t * 1e-6:.9f}";"{a}";"{b}"\r\n' for t, a, b in rows)
        for text in (plain, unit_row, inline, german, interval, commented, period, trailing, quoted, plain.rstrip("\n")):
            trace = self.read(text)
            self.assertEqual((trace.tick, trace.end), (Fraction(1, 10**6), 5), text)
            self.assertEqual(trace.edges(0).level.tolist(), [1, 0, 1, 0], text)
            self.assertEqual(trace.edges(1).times.tolist(), [0, 2, 4], text)
        for encoding in ("utf-16", "utf-8-sig", "latin-1"):
            trace = self.read(inline.replace("us", "µs"), encoding)
            self.assertEqual(
                (trace.tick, trace.names, trace.edges(1).times.tolist()), (Fraction(1, 10**6), ("CH1", "CH2"), [0, 2, 4])
            )
        self.assertEqual(self.read("t,A\n0,1").names, ("A",))  # one row, without a line end

    def test_digital_rows_even_or_not(self) -> None:
        even = self.read("t,SCL,SDA\n" + "".join(f"{k * 5e-8:.8f},{k // 2 % 2},{k % 2}\n" for k in range(50)))
        self.assertEqual((even.tick, even.sample, even.end), (Fraction(1, 2 * 10**7), 1, 50))
        self.assertEqual(even.edges(0).times.tolist(), list(range(0, 50, 2)))
        uneven = self.read("Time [s],SCL\n-0.000002,1\n0.0000001,0\n0.0000305,x\n0.002,1\n")
        edges = uneven.edges(0)
        self.assertEqual([uneven.seconds(t) for t in edges.times.tolist()], [-2e-6, 1e-7, 3.05e-5, 2e-3])
        self.assertEqual(edges.level.tolist(), [1, 0, 2, 1])
        counted = self.read("Sample,SCL\n" + "".join(f"{k},{k // 3 % 2}\n" for k in range(12)), rate=Fraction(10**6))
        self.assertEqual((counted.tick, counted.edges(0).times.tolist()), (Fraction(1, 10**6), [0, 3, 6, 9]))

    def test_empty_cells_are_unknown_and_rows_are_never_lost(self) -> None:
        trace = self.read("t,a,b\n0,1,\n1e-6,0,1\n2e-6,1,0\n")
        self.assertEqual(
            (trace.names, trace.edges(0).level.tolist(), trace.edges(1).level.tolist()), (("a", "b"), [1, 0, 1], [2, 1, 0])
        )
        pins = self.read("P1,P4\n0,1\n1,1\n", rate=Fraction(10**6))  # no PBM picture
        self.assertEqual(pins.names, ("P1", "P4"))
        closed = self.read("t,a,\n0,1,\n1e-6,0,\n2e-6,1,\n")
        self.assertEqual((closed.names, closed.edges(0).level.tolist()), (("a",), [1, 0, 1]))

    def test_the_rate_comes_from_the_whole_span(self) -> None:
        # Times rounded to 0.1 us at 3 MHz: single steps are 0.3 or 0.4 us, the span is right.
        trace = self.read("Time,A\n" + "".join(f"{k / 3e6:.7f},{k % 2}\n" for k in range(30001)))
        self.assertLess(abs(float(trace.tick) * 3e6 - 1), 1e-5)

    def test_errors_name_the_row(self) -> None:
        head = "Time,SCL,SDA\n0,1,1\n0.001,0,1\n"
        for text, place, what in (
            (head + "0.002,abc,1\n", ":4", "'abc'"),
            (head + "0.0005,0,1\n", ":4", "backwards"),
            (head + "0.002,1,1,1,1\n", ":4", "more cells"),
            ("Time,A\n" + "0,1\n" * 2 + "nonsense\n1,0\n", ":4", "nonsense"),
            ("Time,A\n0,1\n1e400,0\n", ":3", "beyond all measure"),
            ("Time,A\n0,1.5\n1,1e30\n", ":3", "1e+30 V"),
            ("A,B\n1,0\n0,1\n", "table.csv", "no time column"),
            ("Time\n1\n2\n", "table.csv", "no line"),
            ("Time,A,A\n0,1,1\n1,0,1\n", "table.csv", "two columns"),
        ):
            with self.assertRaises(HushedError) as caught:
                self.read(text)
            self.assertIn(what, str(caught.exception))
            self.assertTrue(caught.exception.where.endswith(place), caught.exception.where)

    def test_a_line_that_never_switches_is_judged_by_the_others(self) -> None:
        rows = "".join(f"{k},{3.3 * (k % 2)},0.000,3.3\n" for k in range(40))
        trace = self.read("t (us),CLK,LOW,HIGH\n" + rows)
        self.assertEqual([trace.edges(line).level.tolist()[:2] for line in range(3)], [[0, 1], [0], [1]])
        milli = self.read("t,A,B\nus,mV,mV\n" + "".join(f"{k},{3300 * (k % 2)},12\n" for k in range(40)))
        self.assertEqual((milli.edges(0).level.tolist()[:2], milli.edges(1).level.tolist()), ([0, 1], [0]))
        self.assertAlmostEqual(milli.volts[0][1], 3.3, delta=0.02)

    def test_hysteresis_takes_noise_out(self) -> None:
        random = np.random.default_rng(3)
        ideal = np.repeat([0, 1, 0, 1, 1, 0], 500)
        ramp = np.convolve(ideal, np.ones(60) / 60, mode="same") * 3.3
        noisy = (ramp + random.normal(0, 0.08, len(ramp))).astype(np.float32)
        waveforms = Waveforms(("A",), np.arange(len(noisy)), (noisy,), Fraction(1, 10**6), len(noisy), 1)
        self.assertEqual(len(levels(waveforms).edges(0).times), 5)
        self.assertGreater(len(levels(waveforms, 1.65, 0.0).edges(0).times), 5)
        self.assertEqual(levels(waveforms, 9.0, 0.1).edges(0).level.tolist(), [0])


class Sampling(unittest.TestCase):
    @given(traces(3), st.integers(0, 5))
    @settings(deadline=None, max_examples=40)
    def test_samples_show_what_the_lines_held_when_sampled(self, trace: Trace, seed: int) -> None:
        rate = Fraction(10**6)
        out = sampled(trace, rate, seed)
        period = 1 / (trace.tick * rate)
        # Without jitter a sample at index i shows a moment within one period before or after i periods.
        for line in range(len(trace.names)):
            edges = out.edges(line)
            for when, level in list(zip(edges.times.tolist(), edges.level.tolist(), strict=True))[:20]:
                window = range(int((when - 1) * period), int((when + 1) * period) + 1)
                span = trace.window(trace.start + max(0, window[0]), trace.start + max(1, window[-1]) + 1)
                self.assertIn(level, span.edges(line).level.tolist())


class Sources(unittest.TestCase):
    def test_formats_are_told_by_content(self) -> None:
        trace = Trace(("A",), np.array([0, 5]), np.array([0, 1], np.uint8), 9, Fraction(1, 10**6))
        write_capture(FOLDER / "plain.vcd", trace)
        (FOLDER / "misnamed.csv").write_bytes((FOLDER / "plain.vcd").read_bytes())
        self.assertEqual(open_capture(FOLDER / "misnamed.csv").kind, "VCD")
        write_capture(FOLDER / "plain.csv", trace)
        (FOLDER / "misnamed.vcd").write_bytes(gzip.compress((FOLDER / "plain.csv").read_bytes()))
        self.assertEqual(open_capture(FOLDER / "misnamed.vcd").kind, "CSV")

    def test_a_failed_write_leaves_the_target_alone(self) -> None:
        target = Path(FOLDER / "kept.vcd")
        target.write_text("kept")
        trace = Trace(("A",), np.array([0]), np.array([0], np.uint8), 9, Fraction(1, 10**6))
        with self.assertRaises(HushedError):
            write_capture(FOLDER / "kept.vcd" / "below.vcd", trace)
        self.assertEqual(target.read_text(), "kept")
        self.assertFalse([path for path in FOLDER.iterdir() if path.name.startswith(".")])

    def test_blocks_join_to_the_whole(self) -> None:
        trace = Trace(("A",), np.array([0, 5, 7]), np.array([0, 1, 0], np.uint8), 9, Fraction(1, 10**6))
        parts = [trace.window(0, 6), trace.window(6, 9)]
        self.assertEqual(joined(parts).times.tolist(), [0, 5, 7])
