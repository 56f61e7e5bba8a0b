"""I2C: words to wires and back, blocks of any size, what real captures bring, and the timing table."""

import dataclasses
import gzip
import io
import random
import re
import shutil
import subprocess
import unittest
from fractions import Fraction
from itertools import pairwise
from typing import ClassVar
from unittest import mock

import numpy as np
import vcd
import vcd.reader
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.bus import i2c, i2c_timing
from hushed_wire.bus.i2c_transactions import addresses
from hushed_wire.bus.words import CUT, END, RESTART, START, STOP, Columns, Marks, Words
from hushed_wire.trace import Trace, mishap, read_capture
from hushed_wire.trace.files import write_capture
from hushed_wire.trace.sampling import sampled
from support import FIXTURES, TICK, acked, i2c_trace, scratch

TRANSFERS = st.lists(
    st.lists(st.tuples(st.integers(0, 255), st.booleans()), max_size=12).map(
        lambda words: ([byte for byte, _ in words], [ack for _, ack in words])
    ),
    min_size=1,
    max_size=8,
)


def same(test: unittest.TestCase, a: Columns, b: Columns) -> None:
    for field in dataclasses.fields(a):
        test.assertEqual(getattr(a, field.name).tolist(), getattr(b, field.name).tolist(), field.name)


class RoundTrip(unittest.TestCase):
    @given(TRANSFERS, st.lists(st.booleans(), min_size=8, max_size=8), st.integers(0, 99), st.booleans())
    @settings(deadline=None, max_examples=120)
    def test_decode_undoes_encode_at_any_sample_phase(
        self, transfers: list[tuple[list[int], list[bool]]], restart: list[bool], seed: int, jittered: bool
    ) -> None:
        restart = [False, *restart[1 : len(transfers)]]
        exact = i2c_trace(transfers, restart)
        trace = sampled(exact, Fraction(10**7), seed, 10e-9) if jittered else exact
        decoded = i2c.decode(trace)
        table = decoded.transactions()
        self.assertEqual(decoded.words.value.tolist(), [byte for data, _ in transfers for byte in data])
        self.assertEqual(decoded.words.ack.tolist(), [ack for _, acks in transfers for ack in acks])
        self.assertEqual((table.last - table.first).tolist(), [len(data) for data, _ in transfers])
        self.assertEqual(table.began.tolist(), [RESTART if again else START for again in restart])
        self.assertEqual(table.ended.tolist(), [RESTART if again else STOP for again in [*restart[1:], False]])
        self.assertEqual((decoded.stray, decoded.spikes, table.spare.any()), (0, (0, 0), False))

    @given(TRANSFERS, st.lists(st.integers(1, 99), max_size=30), st.integers(0, 90), st.integers(0, 30), st.integers(10, 100))
    @settings(deadline=None, max_examples=120)
    def test_blocks_of_any_size_decode_to_the_same(
        self, transfers: list[tuple[list[int], list[bool]]], cuts: list[int], late: int, spikes: int, stop: int
    ) -> None:
        trace = mishap.spike(i2c_trace(transfers), f"SDA,{spikes}", seed=late)
        start = trace.end * late // 100
        trace = trace.window(start, max(start + 1, trace.end * stop // 100)) if stop > late else trace
        whole = i2c.decode(trace)
        decoder = i2c.Decoder(0, 1, trace.tick)
        span = trace.end - trace.start
        edges = sorted({trace.start, *(trace.start + span * cut // 100 for cut in cuts), trace.end})
        parts = [decoder.feed(trace.window(a, b)) for a, b in pairwise(edges)] + [decoder.finish()]
        same(self, Words.join([part.words for part in parts]), whole.words)
        same(self, Marks.join([part.marks for part in parts]), whole.marks)
        self.assertEqual((parts[-1].stray, parts[-1].spikes), (whole.stray, whole.spikes))
        self.assertEqual(sorted(part.until for part in parts), [part.until for part in parts])


class RealCaptures(unittest.TestCase):
    def test_spikes_shorter_than_tsp_are_ignored_and_counted(self) -> None:
        clean = i2c_trace([acked(0x7A, 0x00, 0xAE)] * 20, tick=Fraction(1, 10**9))
        for line in ("SCL", "SDA"):
            noisy = mishap.spike(clean, f"{line},60", seed=4)
            decoded = i2c.decode(noisy)
            self.assertEqual(decoded.words.value.tolist(), i2c.decode(clean).words.value.tolist())
            extra = (
                len(noisy.edges(0).times) + len(noisy.edges(1).times) - len(clean.edges(0).times) - len(clean.edges(1).times)
            ) // 2
            self.assertEqual(sum(decoded.spikes), extra)
            self.assertGreater(extra, 40)
        # The same pulses, taken as real, break words: the filter is what saves them.
        self.assertNotEqual(i2c.decode(noisy, spike=Fraction(0)).words.value.tolist(), i2c.decode(clean).words.value.tolist())

    def test_a_beginning_that_was_not_captured_is_told_from_the_stop_backwards(self) -> None:
        whole = i2c_trace([acked(0x7A, 0x40, *range(1, 40)), acked(0x7A, 0x00, 0xAF)])
        values = i2c.decode(whole).words
        for late in range(600, 80000, 333):
            start = int(late)
            if start >= whole.end * 0.9:
                break
            cut = i2c.decode(whole.window(start, whole.end))
            begins = int(np.searchsorted(values.start, start, side="left"))
            got = cut.words.value.tolist()
            # Every word that lies whole in the window is there, and nothing else but at most the one it cuts into.
            self.assertIn(got, (values.value[begins:].tolist(), values.value[max(0, begins - 1) :].tolist()))
            self.assertEqual(int(cut.marks.kind[0]), CUT if start > 2000 and begins < 41 else int(cut.marks.kind[0]))

    def test_an_end_that_was_not_captured_is_marked(self) -> None:
        whole = i2c_trace([acked(0x7A, 0x40, 1, 2, 3)])
        half = i2c.decode(whole.window(0, int(i2c.decode(whole).words.end[2]) + 400))
        self.assertEqual(half.words.value.tolist(), [0x7A, 0x40, 1])
        self.assertEqual((int(half.marks.kind[-1]), int(half.marks.spare[-1])), (END, 1))

    def test_unknown_levels_are_never_guessed(self) -> None:
        trace = i2c_trace([acked(0x7A, 0xFF, 0x0F), acked(0x7A, 0x01)])
        words = i2c.decode(trace).words
        hidden = np.zeros_like(trace.levels)
        inside = (trace.times > words.start[1]) & (trace.times < words.start[2])
        blurred = i2c.decode(dataclasses.replace(trace, unknown=np.where(inside, 2, hidden).astype(np.uint8)))
        self.assertEqual(blurred.words.unclear.tolist(), [False, True, False, False, False])
        blind = i2c.decode(dataclasses.replace(trace, unknown=np.where(inside, 1, hidden).astype(np.uint8)))
        self.assertEqual(blind.words.value.tolist(), [0x7A, 0x7A, 0x01])  # the rest of that transaction has no known place
        self.assertEqual(blind.transactions().ended.tolist()[-1], STOP)

    def test_addresses_of_seven_and_ten_bits(self) -> None:
        transfers = [
            acked(0xF4, 0x12, 0xAA),  # 10-bit write to 0x212
            acked(0xF5, 0x55),  # and its read, which repeats only the prefix
            ([0xF4], [False]),  # refused: a 7-bit 0x7A
            acked(0x7B, 0x01),
            acked(),
        ]
        decoded = i2c.decode(i2c_trace(transfers, [False, True, False, False, False]))
        who = addresses(decoded.words, decoded.transactions())
        self.assertEqual(who.address.tolist(), [0x212, 0x212, 0x7A, 0x3D, -1])
        self.assertEqual(who.ten_bit.tolist(), [True, True, False, False, False])
        self.assertEqual(who.read.tolist(), [False, True, False, True, False])
        self.assertEqual(who.answered.tolist(), [True, True, False, True, False])
        self.assertEqual(who.first.tolist(), [2, 4, 6, 7, 8])


class Simulator(unittest.TestCase):
    """A test bench in Verilog says what it sends; its VCD has to decode to that."""

    def check(self, trace: Trace) -> None:
        decoded = i2c.decode(trace, trace.index("scl"), trace.index("sda"))
        table = decoded.transactions()
        sent = [[0x7A, 0, value] for value in (0xAE, 0x20, 0x02, 0xB0, 0x00, 0x10, 0xAF)]
        sent += [[0x7A, 0x40, *((k * 5 + 3) & 255 for k in range(128))], [0x78], [0xD0, 0x05], [0xD1, 0x42]]
        got = [decoded.words.value[a:b].tolist() for a, b in zip(table.first, table.last, strict=True)]
        self.assertEqual(got, sent)
        self.assertEqual(table.began.tolist(), [START] * 10 + [RESTART])
        self.assertEqual(np.flatnonzero(~decoded.words.ack).tolist(), [21 + 130, 21 + 130 + 4])
        # The stretched clock: SCL was held low for 9 us somewhere in the display-on command.
        low = i2c_timing.measure(trace, trace.index("scl"), trace.index("sda"))["tLOW"].value
        self.assertGreater(trace.seconds(int(low.max())), 5e-6)

    def test_the_committed_capture(self) -> None:
        self.check(read_capture(FIXTURES / "frame_tb.vcd.gz"))

    @unittest.skipUnless(shutil.which("iverilog"), "no Verilog simulator here; its committed capture was tested")
    def test_a_fresh_run_equals_the_committed_capture(self) -> None:
        folder = scratch()
        subprocess.run(["iverilog", "-o", "bench", str(FIXTURES / "frame_tb.v")], cwd=folder, check=True)
        subprocess.run(["vvp", "bench"], cwd=folder, check=True, capture_output=True)
        self.check(read_capture(folder / "frame_tb.vcd"))
        kept = gzip.decompress((FIXTURES / "frame_tb.vcd.gz").read_bytes())
        body = re.compile(rb"\$enddefinitions.*", re.DOTALL)
        self.assertEqual(body.search((folder / "frame_tb.vcd").read_bytes())[0], body.search(kept)[0])  # type: ignore[index]


class IndependentFiles(unittest.TestCase):
    """VCD by another writer, and our VCD by another reader."""

    TRANSFERS: ClassVar = [acked(0x7A, 0x00, 0xAE), ([0x78], [False]), acked(0x7A, 0x40, *range(200)), acked(0xD1, 0xFF, 0x01)]

    def test_another_writers_file_decodes_to_the_same_transactions(self) -> None:
        trace = i2c_trace(self.TRANSFERS)
        out = io.StringIO()
        with vcd.VCDWriter(out, timescale="10 ns") as writer:
            wires = [writer.register_var("bench.bus", name, "wire", size=1, init=1) for name in ("SDA", "SCL")]
            for when, word in zip(trace.times.tolist(), trace.levels.tolist(), strict=True):
                for bit, wire in enumerate(reversed(wires)):
                    writer.change(wire, when, word >> bit & 1)
        path = scratch() / "other.vcd"
        path.write_text(out.getvalue())
        other = read_capture(path)
        own, read = i2c.decode(trace), i2c.decode(other, other.index("SCL"), other.index("SDA"))
        same(self, read.words, own.words)
        same(self, read.transactions(), dataclasses.replace(own.transactions(), end=read.transactions().end))

    def test_another_reader_finds_every_change_in_our_file(self) -> None:
        trace = i2c_trace(self.TRANSFERS)
        path = scratch() / "own.vcd"
        write_capture(path, trace, comment="a comment with $end in it")
        names: dict[str, str] = {}
        story: dict[str, list[tuple[int, str]]] = {"SCL": [], "SDA": []}
        now = 0
        with path.open("rb") as file:
            for token in vcd.reader.tokenize(file):
                if token.kind is vcd.reader.TokenKind.VAR:
                    names[token.var.id_code] = token.var.reference
                elif token.kind is vcd.reader.TokenKind.CHANGE_TIME:
                    now = token.time_change
                elif token.kind is vcd.reader.TokenKind.CHANGE_SCALAR:
                    story[names[token.scalar_change.id_code]].append((now, token.scalar_change.value))
        for line, name in enumerate(("SCL", "SDA")):
            edges = trace.edges(line)
            self.assertEqual(story[name], [(t, str(v)) for t, v in zip(edges.times.tolist(), edges.level.tolist(), strict=True)])


class TimingTable(unittest.TestCase):
    def test_every_symbol_is_measured_as_it_was_made(self) -> None:
        timing = i2c.Timing(low=170, high=90, hold=40, start_hold=75, start_setup=95, stop_setup=85)
        value, ack = np.array([0x7A, 0x55, 0x7B, 0x55], np.uint8), np.ones(4, bool)
        gap = np.array([500, 0, 333])
        lengths, restart = np.array([2, 1, 1]), np.array([False, True, False])
        trace = i2c.encode(value, ack, lengths, restart, gap, timing, TICK, 200, 200)
        columns = i2c_timing.measure(trace, 0, 1)
        usual = {symbol: sorted(set(column.value.tolist())) for symbol, column in columns.items()}
        self.assertEqual(
            usual,
            {
                "fSCL": [260], "tHD;STA": [75], "tLOW": [170], "tHIGH": [90], "tSU;STA": [95], "tHD;DAT": [40], "tSU;DAT": [130],
                "tVD;DAT": [40], "tVD;ACK": [40], "tSU;STO": [85], "tBUF": [333],
            },
        )  # fmt: skip
        self.assertEqual(len(columns["tVD;ACK"]), 3)  # behind 0x7A the data line is low already

    def test_limits_are_violated_only_beyond_the_sampling(self) -> None:
        trace = i2c_trace([acked(0x7A, 0x55)] * 3, clock=400_000)
        for rate, expected in ((10**8, {"tLOW"}), (10**7, set())):
            # 1.25 us low against 1.3 us: seen at 10 ns a sample, within the doubt of 100 ns a sample.
            even = i2c.Timing(125, 125, 30, 100, 100, 100)
            value = np.array([0x7A, 0x55], np.uint8)
            trace = i2c.encode(value, np.ones(2, bool), np.array([2]), np.zeros(1, bool), np.array([9]), even, TICK, 300, 300)
            shown = sampled(trace, Fraction(rate))
            margins = i2c_timing.margins(shown, i2c_timing.measure(shown, 0, 1), i2c_timing.mode_of(400e3))
            self.assertEqual({margin.symbol for margin in margins if margin.beyond}, expected)


class Measured(unittest.TestCase):
    @given(st.integers(0, 2**32), st.integers(1, 200))
    @settings(deadline=None, max_examples=20)
    def test_in_parts_as_at_once(self, seed: int, size: int) -> None:
        """A capture that is cut anywhere gives every time that it gives whole."""
        chance = random.Random(seed)
        transfers = [[0x7A, *(chance.randrange(256) for _ in range(chance.randint(1, 12)))] for _ in range(30)]
        trace = i2c_trace([(one, [True] * len(one)) for one in transfers])
        with mock.patch.object(i2c_timing, "PIECE", size):
            cut = i2c_timing.measure(trace, 0, 1)
        at_once = i2c_timing.Measuring(0, 1)
        at_once.feed(trace)
        whole = at_once.told()
        for symbol in i2c_timing.SYMBOLS:
            self.assertEqual(cut[symbol].value.tolist(), whole[symbol].value.tolist(), symbol)
            self.assertEqual(cut[symbol].count.tolist(), whole[symbol].count.tolist(), symbol)
            self.assertEqual(cut[symbol].when.tolist(), whole[symbol].when.tolist(), symbol)
