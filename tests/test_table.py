"""CSV in any shape and any pieces, against rows that the test made itself."""

import unittest
from fractions import Fraction
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.errors import HushedError
from hushed_wire.trace import Trace, joined, open_capture, read_capture, table
from hushed_wire.trace.files import write_capture
from hushed_wire.trace.table_rows import Layout, Rows
from support import program, scratch

FOLDER = scratch()
PATH = FOLDER / "any.csv"


def in_pieces(size: int, **options: object) -> Trace:
    """The trace of PATH, read in pieces of `size` bytes."""
    with mock.patch("hushed_wire.trace.table.PIECE", size):
        return read_capture(PATH, **options)


@st.composite
def tables(draw: st.DrawFn) -> tuple[str, list[int], list[list[int]], bool]:
    """A digital table as text; its times in microseconds, its levels (2: unknown), and whether its rows are a sample clock."""
    width, count = draw(st.integers(1, 5)), draw(st.integers(3, 60))
    even = draw(st.booleans())
    step = draw(st.integers(1, 50))
    steps = [step] * count if even else draw(st.lists(st.integers(1, 900), min_size=count, max_size=count))
    begin = draw(st.integers(-500, 500)) * (step if even else 1)
    times = [begin + sum(steps[:k]) for k in range(count)]
    marks = draw(st.sampled_from([0, 0, 1]))
    rows = draw(st.lists(st.lists(st.integers(0, 1 + marks), min_size=width, max_size=width), min_size=count, max_size=count))
    rows[0] = [min(level, 1) for level in rows[0]]  # a first row of marks only would be no row of numbers
    delimiter, decimal = draw(st.sampled_from([(",", "."), (";", ","), ("\t", "."), ("|", "."), (", ", ".")]))
    end, unknown = draw(st.sampled_from(["\n", "\r\n"])), draw(st.sampled_from(["x", "", "?"]))
    lines = [delimiter.join(["Time (us)", *(f"L{k}" for k in range(width))])]
    for when, row in zip(times, rows, strict=True):
        cells = [f"{when}.000".replace(".", decimal), *("01"[level] if level < 2 else unknown for level in row)]
        lines.append(delimiter.join(cells))
        if draw(st.integers(0, 19)) == 19:
            lines.append("")
    clocked = len(set(steps[: count - 1])) == 1
    # A row without line end is half of one, but where it is in step with the others.
    last = draw(st.sampled_from([end, ""]) if lines[-1] and not marks and clocked else st.just(end))
    return end.join(lines) + last, times, rows, clocked


class AnyTable(unittest.TestCase):
    @given(tables(), st.integers(20, 600))
    @settings(deadline=None, max_examples=60)
    def test_every_row_is_read_as_it_stands(self, drawn: tuple[str, list[int], list[list[int]], bool], size: int) -> None:
        text, times, rows, even = drawn
        PATH.write_bytes(text.encode())
        trace = in_pieces(size)
        self.assertEqual(trace.names, tuple(f"L{k}" for k in range(len(rows[0]))))
        factor = Fraction(1, 10**6) / trace.tick
        self.assertEqual(trace.sample > 0, even)
        at = np.array([round(t * factor) for t in times])
        for line in range(len(rows[0])):
            self.assertEqual(trace.level_at(line, at).tolist(), [row[line] for row in rows])
        self.assertEqual((trace.start, trace.end - 1), (int(at[0]), int(at[-1])))

    @given(
        st.lists(st.tuples(st.sampled_from([0, 0, 1, 7, 900]), st.integers(0, 3)), min_size=20, max_size=120),
        st.integers(20, 400),
    )
    @settings(deadline=None, max_examples=60)
    def test_a_list_of_changes_comes_in_blocks(self, rows: list[tuple[int, int]], size: int) -> None:
        """Block by block, each beginning where the one before ended, and of rows of one time the last one counts, in whichever piece it is."""
        times = np.cumsum([500, *(step for step, _ in rows), 900, 1]).tolist()
        words = [0, *(word for _, word in rows), 1, 2]
        lines = [f"{when / 1e6:.6f},{word & 1},{word >> 1}" for when, word in zip(times, words, strict=True)]
        PATH.write_text("\n".join(["Time,A,B", *lines]) + "\n")
        with mock.patch("hushed_wire.trace.table.PIECE", size):
            source = open_capture(PATH)
            blocks = list(source.blocks())
        self.assertFalse(source.whole)
        self.assertEqual([block.start for block in blocks[1:]], [block.end for block in blocks[:-1]])
        trace = joined(blocks)
        stands = dict(zip(times, words, strict=True))
        at = np.array(sorted(stands)) * 1000
        seen = trace.level_at(0, at) | trace.level_at(1, at) << 1
        self.assertEqual((seen.tolist(), trace.end), ([stands[when // 1000] for when in at.tolist()], times[-1] * 1000 + 1))

    @given(st.integers(1, 9), st.integers(1, 12), st.integers(3, 12), st.integers(0, 2**32), st.sampled_from(["\n", "\r\n"]))
    @settings(deadline=None, max_examples=60)
    def test_the_short_way_tells_what_the_long_one_does(
        self, width: int, digits: int, decimals: int, seed: int, end: str
    ) -> None:
        random = np.random.default_rng(seed)
        digits = min(digits, 8)  # seconds of three years are the most
        most = 10 ** min(15, digits + decimals)
        times = np.unique(random.integers(0, most, 400))
        rows = [
            ",".join([f"{when // 10**decimals}.{when % 10**decimals:0{decimals}}", *map(str, random.integers(0, 2, width))])
            for when in times.tolist()
        ]
        PATH.write_bytes(end.join([",".join(["Time", *(f"L{k}" for k in range(width))]), *rows, ""]).encode())
        short, real = [], table.plain_rows_of

        def watched(piece: bytes, layout: Layout) -> Rows | None:
            short.append(real(piece, layout))
            return short[-1]

        with mock.patch.object(table, "plain_rows_of", watched):
            trace = in_pieces(700)
        with mock.patch.object(table, "plain_rows_of", lambda *_: None):
            plain = in_pieces(700)
        self.assertTrue(short and all(rows is not None for rows in short))
        self.assertEqual(trace.levels.tolist(), plain.levels.tolist())
        self.assertEqual((trace.tick, trace.end), (plain.tick, plain.end))
        self.assertLessEqual(int(np.abs(trace.times - plain.times).max()), 1)  # the other way rounds on its way to a tick

    @given(st.integers(20, 300), st.integers(2, 40), st.sampled_from(["2", "word", "1,1,1", "early"]))
    @settings(deadline=None, max_examples=25)
    def test_errors_name_the_line_in_any_piece(self, size: int, wrong: int, what: str) -> None:
        rows = [f"{k},{k % 2},{k // 2 % 2}" for k in range(60)]
        rows[wrong] = f"{wrong - 2},0,1" if what == "early" else f"{wrong},{what},1"
        PATH.write_text("t (us),SCL,SDA\n" + "\n".join(rows) + "\n")
        # The first piece settles whether the lines are in levels or volts: it is long enough for the odd row not to be in it.
        size = max(size, 30) if what != "2" else min(size + 20, 30)
        if what == "2" and wrong < 10:
            wrong, rows = wrong + 20, []
            rows = [f"{k},{k % 2},{k // 2 % 2}" for k in range(60)]
            rows[wrong] = f"{wrong},2,1"
            PATH.write_text("t (us),SCL,SDA\n" + "\n".join(rows) + "\n")
        with self.assertRaises(HushedError) as caught:
            in_pieces(size)
        told = {"2": "is not a level", "word": "is not a number", "1,1,1": "more cells", "early": "backwards"}[what]
        self.assertIn(told, str(caught.exception))
        self.assertTrue(caught.exception.where.endswith(f":{wrong + 2}"), (caught.exception.where, wrong + 2))

    @given(st.integers(2, 4), st.integers(3, 200), st.integers(200, 3000), st.integers(0, 2**32))
    @settings(deadline=None, max_examples=15)
    def test_volts_in_pieces_are_the_volts_that_were_written(self, width: int, count: int, size: int, seed: int) -> None:
        volts = np.random.default_rng(seed).integers(-200, 5200, (count, width)) / 1000
        volts[0] += 0.0005  # no level
        lines = [f"{k * 1e-6:.7f}," + ",".join(f"{v:.4f}" for v in row) for k, row in enumerate(volts)]
        PATH.write_text("Time," + ",".join(f"CH{k}" for k in range(width)) + "\n" + "\n".join(lines) + "\n")
        with mock.patch("hushed_wire.trace.table.PIECE", size):
            source = open_capture(PATH, threshold=1.5, hysteresis=0.0)
            trace = source.read()
            assert source.waveforms is not None
            for line in range(width):
                np.testing.assert_allclose(source.waveforms.volts[line], volts[:, line], rtol=1e-6)
        levels = trace.level_at(0, np.arange(trace.start, trace.end))
        near = np.abs(volts[:, 0] - 1.5) > 1e-3
        self.assertEqual(levels[near].tolist(), (volts[:, 0] > 1.5)[near].astype(int).tolist())


class AsAUser(unittest.TestCase):
    def test_a_table_in_pipes_and_cut(self) -> None:
        rows = "".join(f"{k}e-6,{k // 4 % 2},{k % 2}\n" for k in range(4000))
        text = ("Time,SCL,SDA\n" + rows).encode()
        whole = program("lines", "-", "--format", "json", stdin=text)
        self.assertEqual(whole.returncode, 0, whole.stderr)
        cut = program("lines", "-", "--format", "json", stdin=text[:-3])
        self.assertIn(b"middle of a row", cut.stderr)
        self.assertNotIn(b"warning", whole.stderr)
        PATH.write_bytes(text[:-3])
        for words in (
            ("find", str(PATH), "rise=SCL"),
            ("convert", str(PATH), "-o", str(FOLDER / "cut.vcd")),
            ("scan", str(PATH)),
        ):
            done = program(*words, "--line", "scl=SCL", "--line", "sda=SDA")
            self.assertIn(b"middle of a row", done.stderr, words)
        PATH.write_bytes(text)
        write_capture(FOLDER / "again.csv", read_capture(PATH))
        again, first = read_capture(FOLDER / "again.csv"), read_capture(PATH)
        for line in range(2):
            self.assertEqual(
                [float(first.seconds(t)) for t in first.edges(line).times.tolist()],
                [float(again.seconds(t)) for t in again.edges(line).times.tolist()],
            )

    def test_what_is_no_table_says_so(self) -> None:
        for text, said in (
            ("Time,SCL\n", "neither a VCD nor a CSV"),
            ("Time,SCL\n,\n,\n", "neither a VCD nor a CSV"),
            ("a\n1\n2\n3\n", "no sample interval"),
            ("Time,SCL\n0,1\n1,0" + "0" * 2_000_000, "row without end|middle of a row"),
        ):
            PATH.write_text(text)
            done = program("lines", str(PATH))
            self.assertNotIn(b"Traceback", done.stderr)
            self.assertRegex(done.stderr.decode(), said)


if __name__ == "__main__":
    unittest.main()
