"""Captures decoded piece by piece: the same as a whole, for any size of piece; from a pipe as they come; in level memory."""

import json
import os
import pty
import subprocess
import sys
import time
import unittest
from fractions import Fraction
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.bus import parallel, parallel_count, shift, spi, spi_count
from hushed_wire.bus.base import BUSES
from hushed_wire.bus.channel import Channel, Runs, runs
from hushed_wire.bus.i2c_transactions import addresses
from hushed_wire.bus.pieces import Pauses
from hushed_wire.bus.words import Marks, Transactions, Words, transactions
from hushed_wire.cli.main import main
from hushed_wire.rig import Rig, Setup
from hushed_wire.rig.decoder import RigDecoder
from hushed_wire.rig.schema import Bus
from hushed_wire.trace import Trace, open_capture, raw, read_capture
from hushed_wire.trace.model import Samples
from hushed_wire.view import halves
from hushed_wire.view.stream import Counts, json_lines
from hushed_wire.view.transfers import calls, transfers
from support import FIXTURES, PROGRAM, demo, program, scratch

FOLDER = scratch()


def cut(trace: Trace, at: list[int]) -> list[Trace]:
    """A trace as blocks, each of which begins with the state at its start."""
    edges = sorted({trace.start, trace.end, *(trace.start + share * (trace.end - trace.start) // 1000 for share in at)})
    return [trace.window(first, last) for first, last in pairwise(edges)]


def told(columns: Any) -> list[Any]:
    return [np.asarray(getattr(columns, name)).tolist() for name in columns.__dataclass_fields__]


def samples_of(levels: Any, first: int, last: int) -> Samples:
    """Raw samples of a byte from number `first` up to `last`."""
    ahead = levels[max(0, first - 1) : max(1, first)]
    names = tuple("ABCDEFGH")
    return Samples(
        names, first, np.concatenate([ahead, levels[first:last]]), Fraction(1), (), np.uint8(255), np.empty(last - first, bool)
    )


def count(tally: Any, levels: Any, at: list[int]) -> list[int]:
    """The words of each transaction, as they are counted in pieces that end at `at`."""
    edges = sorted({0, len(levels), *(cut for cut in at if cut < len(levels))})
    pieces = [samples_of(levels, first, last) for first, last in pairwise(edges)]
    return [words for words in (*map(tally.feed, pieces), tally.finish()) for words in words.tolist()]


CUTS = st.lists(st.integers(1, 999), min_size=1, max_size=30)


class AnyPieces(unittest.TestCase):
    @given(CUTS, st.booleans(), st.sampled_from([8, 9, 3]))
    @settings(deadline=None, max_examples=40)
    def test_spi(self, at: list[int], selected: bool, bits: int) -> None:
        trace = read_capture(demo() / "handheld.vcd")
        line = {name: trace.index(name) for name in ("CLK", "DIN", "CE", "DC")}
        shape = spi.Shape(bits, 1, 0, 0)
        select = line["CE"] if selected else None
        whole = spi.decode(trace, line["CLK"], line["DIN"], shape, select, line["DC"])
        decoder = spi.Decoder(line["CLK"], line["DIN"], shape, select, line["DC"])
        pieces = [*(decoder.feed(block) for block in cut(trace, at)), decoder.finish()]
        self.assertEqual(told(Words.join([piece.words for piece in pieces])), told(whole.words))
        self.assertEqual(told(transactions(Marks.join([piece.marks for piece in pieces]))), told(whole.transactions))
        self.assertGreater(len(whole.transactions), 5)

    @given(
        st.binary(min_size=2, max_size=600),
        st.lists(st.integers(1, 599), max_size=8),
        st.integers(0, 3),
        st.integers(1, 9),
        st.booleans(),
    )
    @settings(deadline=None, max_examples=150)
    def test_words_that_are_only_counted(self, raw: bytes, at: list[int], mode: int, bits: int, high: bool) -> None:
        # Noise on clock, data and select, in pieces of any size: as many words as are decoded of the whole.
        levels = np.frombuffer(raw, np.uint8) & np.uint8(7)
        shape = spi.Shape(bits, 1, 0, 0, mode, active=int(high))

        counted = count(spi_count.Tally(0, 2, shape), levels, at)
        decoder = spi.Decoder(0, 1, shape, 2)
        parts = [decoder.feed(samples_of(levels, 0, len(levels))), decoder.finish()]
        table = transactions(Marks.join([part.marks for part in parts]))
        self.assertEqual(counted, (table.last - table.first).tolist())

    @given(
        st.binary(min_size=2, max_size=900),
        st.lists(st.integers(1, 899), max_size=8),
        st.sampled_from(["e", "wr"]),
        st.sets(st.sampled_from(["rs", "rw", "cs", "cs1", "cs2"])),
        st.booleans(),
        st.integers(2, 40),
    )
    @settings(deadline=None, max_examples=150)
    def test_words_of_a_strobe_that_are_only_counted(
        self, raw: bytes, at: list[int], strobe: str, others: set[str], high: bool, rest: int
    ) -> None:
        # Noise on all lines, with rests in it that are longer or shorter than what parts transactions.
        levels = np.repeat(np.frombuffer(raw, np.uint8), np.where(np.frombuffer(raw, np.uint8) > 250, rest, 1))
        roles = {strobe: 0, "d4": 1, "d5": 2, "d6": 1, "d7": 2} | dict(zip(sorted(others), (3, 4, 5, 6, 7), strict=False))
        self.assertTrue(parallel_count.can_count(roles))
        counted = count(parallel_count.Tally(roles, Pauses(8), int(high)), levels, at)
        found = parallel.Decoder(roles, int(high)).feed(samples_of(levels, 0, len(levels)))
        open_runs = Runs()
        open_runs.pauses = Pauses(8)
        _, table, _ = open_runs.feed(found.words, found.data, found.read, found.chips, last=True)
        self.assertEqual(counted, (table.last - table.first).tolist())

    @given(CUTS)
    @settings(deadline=None, max_examples=20)
    def test_parallel(self, at: list[int]) -> None:
        trace = read_capture(demo() / "engine-room.vcd")
        roles = {f"d{k}": trace.index(f"D{k}") for k in range(8)} | {
            r: trace.index(r.upper()) for r in ("rs", "rw", "e", "cs1", "cs2")
        }
        whole = parallel.decode(trace, roles, 1)
        decoder, open_runs = parallel.Decoder(roles, 1), Runs()
        table, ahead, count = [], 0, 0
        for block in [*cut(trace, at), None]:
            if block is not None:
                found = decoder.feed(block)
                words, part, _ = open_runs.feed(found.words, found.data, found.read, found.chips)
                count += len(found.words)
            else:
                none = found.words.take(slice(0, 0))
                words, part, _ = open_runs.feed(none, found.data[:0], found.read[:0], found.chips[:0], last=True)
            table += [(first + ahead, last + ahead) for first, last in zip(part.first.tolist(), part.last.tolist(), strict=True)]
            ahead += len(words)
        self.assertEqual((count, ahead), (len(whole.words), len(whole.words)))
        every = runs(whole.words, whole.data, whole.read, whole.chips)
        self.assertEqual(table, list(zip(every.first.tolist(), every.last.tolist(), strict=True)))

    @given(CUTS, st.booleans())
    @settings(deadline=None, max_examples=20)
    def test_shift(self, at: list[int], latched: bool) -> None:
        trace = read_capture(FIXTURES / "buses_tb.vcd.gz")
        roles = {"clock": trace.index("sclock"), "data": trace.index("sdata")} | (
            {"latch": trace.index("slatch")} if latched else {}
        )
        chain = shift.Chain(16, 1)
        decoder = shift.Decoder(roles, chain)
        pieces = Words.join([decoder.feed(block) for block in cut(trace, at)])
        self.assertEqual(told(pieces), told(shift.decode(trace, roles, chain)))


class Records(unittest.TestCase):
    @given(st.lists(st.tuples(st.lists(st.booleans(), max_size=14), st.booleans()), max_size=30))
    @settings(deadline=None, max_examples=80)
    def test_transfers_of_any_lengths(self, sent: list[tuple[list[bool], bool]]) -> None:
        # Columns are cut as matrices or as slices; a plain loop says what each transfer has.
        lengths = np.array([len(acks) for acks, _ in sent], np.int64)
        last = np.cumsum(lengths)
        count = int(lengths.sum())
        at = np.arange(count, dtype=np.int64)
        ack = np.array([bit for acks, _ in sent for bit in acks], bool)
        words = Words((at % 251).astype(np.uint8), 10 * at, 10 * at + 9, 10 * at + 8, ack, np.zeros(count, bool))
        kind = np.ones(len(sent), np.uint8)
        table = Transactions(last - lengths, last, 10 * (last - lengths), 10 * last, kind, 3 * kind, 0 * kind)
        who = addresses(words, table)
        for index, call in enumerate(calls(words, table, who, (1, 4), "front")):
            begin, end, own = int(who.first[index]), int(last[index]), sent[index][0]
            known = bool(own)
            self.assertEqual(call.bytes, [k % 251 for k in range(begin, end)])
            self.assertEqual(call.times, [(10 * k + 8) / 4 for k in range(begin, end)])
            self.assertEqual(call.acks, [bool(who.answered[index]) if known else None, *ack[begin:end].tolist()])
            self.assertEqual(call.direction, (["write", "read"][int(who.read[index])]) if known else None)
        read = np.array([way for acks, way in sent for _ in acks], bool)
        channel = Channel("bus", "parallel", "", words, table, dc=ack.astype(np.uint8), read=read)
        for index, transfer in enumerate(transfers(channel, (1, 4))):
            begin, end = int(last[index] - lengths[index]), int(last[index])
            self.assertEqual(transfer.words, [k % 251 for k in range(begin, end)])
            self.assertEqual(transfer.dc, [int(bit) for bit in sent[index][0]])
            self.assertEqual(transfer.direction, "read" if sent[index][1] and end > begin else "write")


class AsAUser(unittest.TestCase):
    LINES = ("--line", "sck=CLK", "--line", "mosi=DIN", "--line", "cs=CE", "--line", "dc=DC")

    def test_lines_that_are_named_say_what_lines_found_by_name_say(self) -> None:
        lines = {
            "handheld.vcd": self.LINES,
            "engine-room.vcd": [
                w for r in (*(f"d{k}" for k in range(8)), "rs", "rw", "e", "cs1", "cs2") for w in ("--line", f"{r}={r.upper()}")
            ],
        }
        for capture, words in lines.items():
            streamed = [json.loads(line) for line in program("decode", capture, *words, "--format", "jsonl").stdout.splitlines()]
            told = [{k: v for k, v in one.items() if k != "record"} for one in streamed if one["record"] == "transaction"]
            whole = json.loads(program("decode", capture, "--format", "json").stdout)["transactions"]
            self.assertEqual(told, whole)
            self.assertEqual((streamed[-1]["record"], streamed[-1]["transactions"]), ("summary", len(whole)))

    def test_refused_bytes_are_counted(self) -> None:
        """By the summary as by a search for them, behind an address that answered."""
        told = json.loads(program("decode", "refused.vcd", "--format", "jsonl").stdout.splitlines()[-1])["addresses"]["0x3d"]
        transfers = [json.loads(line) for line in program("decode", "refused.vcd", "--format", "jsonl").stdout.splitlines()]
        missed = sum(
            row["acks"][1:].count(False) for row in transfers if row["record"] == "transaction" and row["direction"] == "write"
        )
        self.assertGreater(missed, 0)
        self.assertEqual((told["transactions"], told["answered"], told["refused_bytes"]), (22, 22, missed))
        self.assertIn(f"all answered, {missed} bytes refused", program("decode", "refused.vcd", "--summary").stdout.decode())
        healthy = program("decode", "healthy.vcd", "--summary").stdout.decode()
        self.assertNotIn("refused", healthy)

    def test_two_halves_say_what_the_whole_says(self) -> None:
        for capture, lines in (
            ("healthy.vcd", {"scl": "SCL", "sda": "SDA"}),
            ("handheld.vcd", {"sck": "CLK", "mosi": "DIN", "cs": "CE", "dc": "DC"}),
        ):
            program("convert", capture, "-o", "halves.raw")
            path = str(demo() / "halves.raw")
            names = tuple(str(k) for k in range(8))
            trace = read_capture(demo() / capture)
            at = {role: trace.index(line) for role, line in lines.items()}
            rate = 1 / (trace.tick * trace.resolution())
            bus = Bus("bus", "i2c" if "scl" in at else "spi", lines={role: str(line) for role, line in at.items()})
            half = halves.Half(path, 1, rate, list(at.values()), names, Setup(Rig(bus=[bus])), False)
            shares: list[float] = []
            both = halves.in_halves(
                half, partial(BUSES[bus.kind].load().fresh_start, wired=halves._wired(half)), went=shares.append
            )
            assert both is not None
            mine, theirs = (b"".join(pieces).splitlines() for pieces in (both, halves._records(half)))
            self.assertEqual(mine[:-1], theirs[:-1])
            self.assertEqual(json.loads(mine[-1]), json.loads(theirs[-1]))
            self.assertGreater(len(mine), 9)
            self.assertEqual(shares, sorted(shares))
            self.assertTrue(all(0 < share <= 1 for share in shares))

    def test_halves_of_a_parallel_bus_are_parted_as_the_whole(self) -> None:
        """What is a rest depends on all words before; a second half that guessed wrongly is decoded anew."""
        roles = {f"d{k}": k for k in range(8)} | {"rs": 8, "e": 9}
        lines = [word for role, line in roles.items() for word in ("--line", f"{role}={line}")]
        for fastest, wrong in ((40, False), (20, True)):
            steps = np.full(6000, 40)
            steps[2500:2600] = fastest  # behind the beginning, by which the second half guesses
            steps[4999::600], steps[3000], steps[5800] = 5000, 9000, 2000  # 2000 is a rest only where steps may be 20
            start = 100 + np.cumsum(steps)
            value = (np.arange(6000) * 7 % 256).astype(np.uint32)
            rs, chips = np.arange(6000) % 50 > 3, np.zeros(6000, np.uint8)
            tick = Fraction(1, 20_000_000)
            trace = parallel.encode(
                value, rs, chips, start, parallel.Pulse(5, 8, 6), roles, tuple(roles), tick, int(start[-1]) + 100
            )
            samples = np.repeat(trace.levels.astype(np.uint16), np.diff(trace.times, append=trace.end)).tobytes()
            (FOLDER / "parallel.bin").write_bytes(samples)
            words = ("--raw", "2", "--rate", "20MHz", "--bus", "parallel", *lines, "--format", "jsonl")
            asked: list[bool] = []

            def agree(mine: Any, theirs: Any, asked: list[bool] = asked, really: Any = halves.same_steps) -> bool:
                asked.append(really(mine, theirs))
                return asked[-1]

            small = mock.patch.object(raw, "BUFFER", 1 << 15)  # so that the beginning is not everything
            with small, mock.patch.object(halves, "SMALLEST", 0), mock.patch.object(halves, "same_steps", agree):
                main(["decode", str(FOLDER / "parallel.bin"), *words, "-o", str(FOLDER / "halves.jsonl")])
                main(["decode", str(FOLDER / "parallel.bin"), *words[:-1], "json", "-o", str(FOLDER / "halves.json")])
            self.assertEqual(asked, [not wrong] * 2)
            main(["decode", str(FOLDER / "parallel.bin"), *words[:-1], "json", "-o", str(FOLDER / "whole.json")])
            self.assertEqual((FOLDER / "halves.json").read_bytes(), (FOLDER / "whole.json").read_bytes())
            main(["decode", str(FOLDER / "parallel.bin"), *words, "-o", str(FOLDER / "whole.jsonl")])  # too small to be parted
            whole = (FOLDER / "whole.jsonl").read_bytes()
            self.assertEqual((FOLDER / "halves.jsonl").read_bytes(), whole)
            self.assertGreater(json.loads(whole.splitlines()[-1])["transactions"], 240)

    def test_a_capture_cut_in_a_sample_is_told_however_long_it_is(self) -> None:
        """It is no longer parted then, as halves are not asked how the file ends."""
        path = FOLDER / "odd.bin"
        for length, parted in ((20_001, 0), (20_000, 2)):
            path.write_bytes(bytes(length))
            with mock.patch.object(halves, "SMALLEST", 1):
                self.assertEqual(halves.worth_it(str(path), "2"), parted)
        path.write_bytes(bytes(20_001))
        words = ("--raw", "2", "--rate", "20MHz", "--line", "scl=0", "--line", "sda=1")
        for form in ("json", "jsonl", "csv"):
            done = program("decode", str(path), *words, "--format", form)
            self.assertIn(b"ends in the middle of a sample", done.stderr, form)

    def test_progress_is_shown_on_a_terminal_only(self) -> None:
        path = FOLDER / "long.raw"
        with path.open("wb") as file:
            file.truncate(80_000_000)  # nothing but zeros, and no room on the disk
        words = [str(PROGRAM), "decode", str(path), "--raw", "1", "--rate", "20MHz", "--line", "scl=0", "--line", "sda=1"]
        words += ["--format", "jsonl", "-o", str(FOLDER / "long.jsonl")]
        self.assertEqual(subprocess.run(words, capture_output=True, check=True).stderr, b"")
        for more, shown in (([], True), (["-q"], False)):
            screen, terminal = pty.openpty()
            done = subprocess.Popen([*words, *more], stderr=terminal, env={**os.environ, "TERM": "xterm", "COLUMNS": "100"})
            os.close(terminal)
            seen = b""
            while True:
                try:
                    piece = os.read(screen, 65536)
                except OSError:  # the terminal is gone with the program
                    break
                if not piece:
                    break
                seen += piece
            self.assertEqual(done.wait(), 0)
            os.close(screen)
            self.assertEqual(b"/80.0 MB" in seen, shown, seen)
        summary = json.loads((FOLDER / "long.jsonl").read_text())
        self.assertEqual((summary["record"], summary["transactions"]), ("summary", 0))

    def test_a_pipe_is_decoded_as_it_comes(self) -> None:
        data = (demo() / "handheld.vcd").read_bytes()
        command = [Path(sys.executable).parent / "hushed-wire", "decode", "-", *self.LINES, "--format", "jsonl"]
        with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as process:
            assert process.stdin is not None
            assert process.stdout is not None
            process.stdin.write(data[: len(data) // 2])
            process.stdin.flush()
            first = json.loads(process.stdout.readline())  # the other half has not come
            time.sleep(0.1)
            process.stdin.write(data[len(data) // 2 :])
            process.stdin.close()
            self.assertEqual((first["record"], first["words"][:1]), ("transaction", [33]))
            self.assertEqual(json.loads(process.stdout.read().splitlines()[-1])["transactions"], 10)

    def test_a_select_that_never_ends(self) -> None:
        """4.5 million words without a rest, as samples: pieces of one size, in memory that stays level."""
        step = np.array([0, 1], np.uint8)  # clock on line 0, data on line 1
        (FOLDER / "tied.bin").write_bytes(np.tile(step, 4_000_000).tobytes())
        words = ("--raw", "1", "--rate", "20MHz", "--line", "sck=0", "--line", "mosi=1", "--format", "jsonl")
        records = [json.loads(line) for line in program("decode", "tied.bin", *words, cwd=FOLDER).stdout.splitlines()]
        self.assertEqual({len(one["words"]) for one in records[:-2]}, {4096})
        self.assertEqual([one["continued"] for one in records[:-1]], [True] * (len(records) - 1))
        self.assertEqual(records[-1]["words"], 500_000)

    def test_without_a_select_pauses_part_the_transactions(self) -> None:
        rig = Rig(bus=[Bus("bus", "spi", lines={"sck": "CLK", "mosi": "DIN", "dc": "DC"})])
        source = open_capture(demo() / "handheld.vcd")
        decoder, counts = RigDecoder(rig, tuple(source.names), source.tick), Counts(rig, float(source.tick))
        pieces = b"".join(json_lines(source.pieces(), decoder, counts, source.tick.as_integer_ratio(), {}, False))
        tied = [json.loads(line) for line in pieces.splitlines()][:-1]
        whole = json.loads(program("decode", "handheld.vcd", "--format", "json").stdout)["transactions"]
        self.assertEqual([one["words"] for one in tied], [one["words"] for one in whole])


if __name__ == "__main__":
    unittest.main()
