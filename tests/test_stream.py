"""Captures decoded piece by piece: the same as a whole, for any size of piece; from a pipe as they come; in level memory."""

import json
import subprocess
import sys
import time
import unittest
from fractions import Fraction
from itertools import pairwise
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.bus import parallel, shift, spi
from hushed_wire.bus.spi_count import Tally
from hushed_wire.bus.words import Marks, Words, transactions
from hushed_wire.cli.main import main
from hushed_wire.rig.channel import Runs, runs
from hushed_wire.rig.schema import Bus
from hushed_wire.trace import Trace, open_capture, raw, read_capture
from hushed_wire.trace.model import Samples
from hushed_wire.view import halves
from hushed_wire.view.stream import i2c_records
from hushed_wire.view.stream_words import word_records
from support import FIXTURES, demo, program, scratch

FOLDER = scratch()


def cut(trace: Trace, at: list[int]) -> list[Trace]:
    """A trace as blocks, each of which begins with the state at its start."""
    edges = sorted({trace.start, trace.end, *(trace.start + share * (trace.end - trace.start) // 1000 for share in at)})
    return [trace.window(first, last) for first, last in pairwise(edges)]


def told(columns: Any) -> list[Any]:
    return [np.asarray(getattr(columns, name)).tolist() for name in columns.__dataclass_fields__]


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

        def piece(first: int, last: int) -> Samples:
            ahead = levels[max(0, first - 1) : max(1, first)]
            room = np.empty(last - first, bool)
            return Samples(
                ("A", "B", "C"), first, np.concatenate([ahead, levels[first:last]]), Fraction(1), (), np.uint8(7), room
            )

        edges = sorted({0, len(levels), *(cut for cut in at if cut < len(levels))})
        tally = Tally(0, 2, shape)
        counted = [words for first, last in pairwise(edges) for words in tally.feed(piece(first, last)).tolist()]
        counted += tally.finish().tolist()
        decoder = spi.Decoder(0, 1, shape, 2)
        parts = [decoder.feed(piece(0, len(levels))), decoder.finish()]
        table = transactions(Marks.join([part.marks for part in parts]))
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


class AsAUser(unittest.TestCase):
    LINES = ("--line", "sck=CLK", "--line", "mosi=DIN", "--line", "cs=CE", "--line", "dc=DC")

    def test_the_stream_says_what_the_whole_says(self) -> None:
        lines = {
            "handheld.vcd": self.LINES,
            "engine-room.vcd": [
                w for r in (*(f"d{k}" for k in range(8)), "rs", "rw", "e", "cs1", "cs2") for w in ("--line", f"{r}={r.upper()}")
            ],
        }
        for capture, words in lines.items():
            streamed = [json.loads(line) for line in program("decode", capture, *words, "--format", "jsonl").stdout.splitlines()]
            whole = json.loads(program("decode", capture, "--format", "json").stdout)["transactions"]
            self.assertEqual([{k: v for k, v in one.items() if k != "record"} for one in streamed[:-1]], whole)
            self.assertEqual((streamed[-1]["record"], streamed[-1]["transactions"]), ("summary", len(whole)))

    def test_two_halves_say_what_the_whole_says(self) -> None:
        for capture, lines in (
            ("healthy.vcd", {"scl": "SCL", "sda": "SDA"}),
            ("handheld.vcd", {"sck": "CLK", "mosi": "DIN", "cs": "CE", "dc": "DC"}),
        ):
            program("convert", capture, "-o", "halves.raw")
            path = str(demo() / "halves.raw")
            names = [str(k) for k in range(8)]
            trace = read_capture(demo() / capture)
            at = {role: trace.index(line) for role, line in lines.items()}
            rate = 1 / (trace.tick * trace.resolution())
            roles = {role: str(line) for role, line in at.items()}

            def told(half: Any, second: bool, roles: dict[str, str] = roles) -> Any:
                if "scl" in roles:
                    return i2c_records(half, roles, [], False, second)
                return word_records(half, Bus("bus", "spi", lines=roles), [], False, {})

            cut = halves.behind_stop(at["scl"], at["sda"]) if "scl" in at else halves.behind_select([at["cs"]], 0)
            both = halves.in_halves(path, 1, rate, list(at.values()), names, told, cut)
            assert both is not None
            whole = told(open_capture(path, raw=1, rate=rate), False)
            mine, theirs = (b"".join(pieces).splitlines() for pieces in (both, whole))
            self.assertEqual(mine[:-1], theirs[:-1])
            self.assertEqual(json.loads(mine[-1]), json.loads(theirs[-1]))
            self.assertGreater(len(mine), 9)

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
            self.assertEqual(asked, [not wrong])
            whole = program("decode", "-", *words, stdin=samples).stdout
            self.assertEqual((FOLDER / "halves.jsonl").read_bytes(), whole)
            self.assertGreater(json.loads(whole.splitlines()[-1])["transactions"], 240)

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
        bus = Bus("bus", "spi", lines={"sck": "CLK", "mosi": "DIN", "dc": "DC"})
        pieces = b"".join(word_records(open_capture(demo() / "handheld.vcd"), bus, []))
        tied = [json.loads(line) for line in pieces.splitlines()][:-1]
        whole = json.loads(program("decode", "handheld.vcd", "--format", "json").stdout)["transactions"]
        self.assertEqual([one["words"] for one in tied], [one["words"] for one in whole])


if __name__ == "__main__":
    unittest.main()
