"""Recording lines: of a kernel's GPIO chip by way of a shim, of a probe by way of its stand-in, and the pieces of a trace as they come."""

import json
import os
import shutil
import subprocess
import sys
import unittest
from fractions import Fraction
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from hushed_wire.link.desk import Desk
from hushed_wire.link.probe_watch import ProbeWatch
from hushed_wire.link.record import Burst, Recorded, record
from hushed_wire.link.serial_probe import open_serial
from hushed_wire.link.stand_in import StandIn
from hushed_wire.rig import load_rig
from hushed_wire.trace import Trace, joined, read_capture
from maker.masters import I2c
from maker.wave import Wave
from maker.writers import vcd
from support import ROOT, demo, program, program_json, scratch

FOLDER = scratch()
PROGRAM = Path(sys.executable).parent / "hushed-wire"
SENT = [[0x00, 0xAE, 0xA8, 0x3F], [0x40, 0x12, 0x34], [0x00, 0xAF]]


def bus(hertz: float = 1e4) -> Wave:
    """What a driver that shares no code with the program says to a display at 0x3C."""
    wave = Wave(4, SCL=1, SDA=1)
    master = I2c(wave, hertz, (0x3C,))
    wave.wait(1e6)
    for words in SENT:
        master.write(0x3C, words)
    wave.wait(1e5)
    return wave


class Played:
    """A watch that gives what it is told to, burst by burst."""

    def __init__(self, names: tuple[str, ...], levels: list[int], bursts: list[Burst], ends: bool = True) -> None:
        self.names, self.levels, self.bursts, self.ends, self.at = names, levels, bursts, ends, 1

    def take(self, seconds: float) -> Burst:
        if not self.bursts:
            if self.ends:
                raise KeyboardInterrupt
            return Burst(np.empty(0, np.int64), np.empty(0, np.intp), np.empty(0, np.uint8))
        burst = self.bursts.pop(0)
        self.at = max([self.at, *(burst.time + 1).tolist()])
        return burst

    def now(self) -> int:
        return self.at

    def close(self) -> None:
        """Nothing is held."""


class Pieces(unittest.TestCase):
    @given(
        st.lists(st.tuples(st.integers(1, 500), st.integers(0, 2)), min_size=1, max_size=60),
        st.lists(st.integers(1, 20), max_size=8),
    )
    def test_however_edges_come_in_bursts_the_trace_is_the_same(self, moves: list[tuple[int, int]], cuts: list[int]) -> None:
        level = [0, 1, 0]
        times, lines, levels = [], [], []
        now = 0
        for step, line in moves:
            now += step
            level[line] ^= 1
            times.append(now)
            lines.append(line)
            levels.append(level[line])
        own = [np.array(times, np.int64), np.array(lines, np.intp), np.array(levels, np.uint8)]
        bounds = [0, *(int(cut) for cut in np.cumsum(cuts) if cut < len(times)), len(times)]
        bursts = [Burst(*(column[a:b] for column in own)) for a, b in pairwise(bounds)]
        out = Recorded()
        pieces = list(record(Played(("A", "B", "C"), [0, 1, 0], bursts), out))
        trace = joined([piece for piece in pieces if len(piece)])
        self.assertEqual((out.edges, out.lost, out.stopped), (len(times), 0, True))
        for line in range(3):
            expected = [(when, up) for when, which, up in zip(times, lines, levels, strict=True) if which == line]
            edges = trace.edges(line)
            self.assertEqual(list(zip(edges.times[1:].tolist(), edges.level[1:].tolist(), strict=True)), expected)
        steps = [np.diff([when for when, which in zip(times, lines, strict=True) if which == line]) for line in range(3)]
        self.assertEqual(out.closest, min((int(own.min()) for own in steps if len(own)), default=0))

    def test_until_a_condition_holds_with_only_some_of_what_came_ahead(self) -> None:
        when = np.arange(1, 2001, dtype=np.int64) * 1_000_000  # an edge each millisecond
        bursts = [
            Burst(when[k : k + 100], np.zeros(100, np.intp), (np.arange(k, k + 100) % 2 == 0).astype(np.uint8))
            for k in range(0, 2000, 100)
        ]

        def holds(trace: Trace) -> int | None:
            return 1_500_000_000 if trace.end > 1_500_000_000 else None

        out = Recorded()
        (piece,) = record(Played(("A",), [0], bursts), out, until=holds, ahead=0.25)
        self.assertEqual((out.found, piece.start), (1_500_000_000, 1_250_000_000))
        self.assertGreaterEqual(piece.end, 1_500_000_000)
        none = Recorded()
        list(record(Played(("A",), [0], [], ends=False), none, lasts=0.2, until=lambda trace: None))
        self.assertEqual((none.found, none.stopped), (None, False))

    def test_what_was_lost_is_unknown(self) -> None:
        burst = Burst(np.array([10, 50, 90], np.int64), np.zeros(3, np.intp), np.array([1, 2, 0], np.uint8), lost=7)
        out = Recorded()
        trace = joined([piece for piece in record(Played(("A",), [0], [burst]), out) if len(piece)])
        self.assertEqual((out.edges, out.lost), (2, 7))
        self.assertEqual(trace.level_at(0, np.array([0, 20, 60, 95])).tolist(), [0, 1, 2, 0])


@unittest.skipUnless(shutil.which("cc") and sys.platform == "linux", "no C compiler here for the shim")
class OverGpio(unittest.TestCase):
    shim: Path

    @classmethod
    def setUpClass(cls) -> None:
        cls.shim = FOLDER / "pins.so"
        subprocess.run(
            ["cc", "-shared", "-fPIC", "-Wall", "-Werror", "-o", cls.shim, ROOT / "tests" / "pins_shim.c", "-ldl"], check=True
        )

    def over(
        self, *words: str, edges: Path | None = None, shell: str = "", **kernel: object
    ) -> "subprocess.CompletedProcess[bytes]":
        env = {**os.environ, "LD_PRELOAD": str(self.shim), **{f"SHIM_{key.upper()}": str(value) for key, value in kernel.items()}}
        env |= {"SHIM_EDGES": str(edges)} if edges else {}
        command: list[Any] = ["bash", "-c", shell] if shell else [PROGRAM, "record", *words]
        return subprocess.run(command, cwd=FOLDER, env=env, capture_output=True, check=False, timeout=60)

    def edges(self, wave: Wave, gap_at: int = 0) -> Path:
        """The shim's file of a wave. gap_at: behind so many edges of SCL three are lost."""
        path, numbers = FOLDER / "edges.txt", {"SCL": 0, "SDA": 0}
        rows = []
        for when, name, level in wave.changes:
            numbers[name] += 1
            lost = gap_at and name == "SCL" and gap_at < numbers[name] <= gap_at + 3
            if not lost:
                rows.append(f"{when} {3 if name == 'SCL' else 2} {level} {numbers[name]}")
        path.write_text("\n".join(rows) + "\n")
        return path

    LINES = ("--link", "gpiochip0", "--line", "SCL=3", "--line", "SDA=GPIO2")

    def test_what_a_bus_says_is_recorded_edge_by_edge(self) -> None:
        wave = bus()
        for name in ("rec.vcd", "rec.csv", "rec.npz"):
            done = self.over(*self.LINES, "--for", "0.6s", "-o", name, edges=self.edges(wave), levels="3")
            self.assertEqual((done.returncode, done.stdout), (0, b""), done.stderr)
            self.assertIn(f"{len(wave.changes):,} edges, none lost; the closest two of a line are", done.stderr.decode())
            told = program_json("decode", name, cwd=FOLDER)
            self.assertEqual([one["bytes"] for one in told["transactions"]], SENT, name)
        trace = read_capture(FOLDER / "rec.vcd")
        shift = {
            when - at for when, at in zip(trace.times[1:].tolist(), sorted({change[0] for change in wave.changes}), strict=True)
        }
        self.assertLess(max(shift) - min(shift), 2)  # the kernel's own times, to the nanosecond

    def test_what_the_kernel_dropped_is_told_and_unknown(self) -> None:
        done = self.over(*self.LINES, "--for", "0.6s", "-o", "gap.vcd", edges=self.edges(bus(), gap_at=40), levels="3")
        said = done.stderr.decode()
        self.assertIn("3 edges lost: unknown in the capture", said)
        self.assertIn("trust it up to about", said)
        self.assertIn("x!", (FOLDER / "gap.vcd").read_text().replace(" ", ""))

    def test_until_a_condition_and_live(self) -> None:
        words = (*self.LINES, "--for", "5s", "--until", "bytes=34", "--ahead", "1ms", "-o", "until.vcd")
        done = self.over(*words, edges=self.edges(bus()), levels="3")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("the condition held at ", done.stderr.decode())
        self.assertLess(read_capture(FOLDER / "until.vcd").duration, 1.0)
        done = self.over(
            *self.LINES, "--for", "0.4s", "--until", "bytes=99", "-o", "never.vcd", edges=self.edges(bus()), levels="3"
        )
        self.assertEqual((done.returncode, b"never held" in done.stderr), (1, True))
        lines = " ".join(self.LINES)
        done = self.over(shell=f"'{PROGRAM}' record {lines} --for 0.6s | '{PROGRAM}' decode - --line scl=SCL --line sda=SDA --format jsonl",
                         edges=self.edges(bus()), levels="3")  # fmt: skip
        told = [json.loads(line) for line in done.stdout.splitlines()]
        self.assertEqual([one["bytes"] for one in told if one["record"] == "transaction"], SENT, done.stderr)

    def test_a_rig_names_lines_and_pins(self) -> None:
        done = self.over(
            "--link",
            "gpiochip0",
            "--rig",
            str(demo() / "front-desk.toml"),
            "--for",
            "0.3s",
            "-o",
            "rig.vcd",
            edges=self.edges(bus()),
            levels="3",
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(set(read_capture(FOLDER / "rig.vcd").names), {"SCL", "SDA"})

    def test_what_cannot_be_recorded(self) -> None:
        taken = self.over(*self.LINES, "--for", "1s", "-o", "x.vcd", taken=16)
        self.assertEqual((taken.returncode, b"is in use" in taken.stderr), (2, True), taken.stderr)
        for words, said in (
            (("--link", "gpiochip0"), b"which lines?"),
            (("--link", "gpiochip0", "--line", "SCL"), b"is not NAME=PIN"),
            (("--link", "gpiochip0", "--line", "SCL=PB3"), b"is no line of a GPIO chip"),
            (("--link", "gpiochip0", "--line", "A=1", "--line", "B=1"), b"two names for one line"),
            (("--link", "gpiochip7", "--line", "A=1"), b"gpiochip7"),
            (("--link", "desk", "--line", "A=1"), b"'desk' watches no lines"),
            (("--link", "/dev/ttyNONE", "--line", "A=scl"), b"is absent"),
            ((*self.LINES, "--ahead", "1s"), b"--ahead keeps what came ahead of --until"),
            ((*self.LINES, "--for", "-1s"), b"a time above zero"),
            ((*self.LINES, "--until", "bytes="), b"CONDITION"),
        ):
            done = self.over(*words)
            self.assertEqual((done.returncode, said in done.stderr), (2, True), (words, done.stderr))


@unittest.skipUnless(sys.platform == "linux", "pseudo-terminals are asked of this system")
class OverAProbe(unittest.TestCase):
    def wires(self) -> Trace:
        vcd(bus(), FOLDER / "bus.vcd")
        trace = read_capture(FOLDER / "bus.vcd")
        return Trace(("scl", "sda"), trace.times, trace.levels, trace.end, trace.tick)

    def stand_in(self, garble: float = 0.0) -> StandIn:
        made = StandIn(Desk(load_rig(demo() / "front-desk.toml")), garble, 3, self.wires())
        self.addCleanup(made.close)
        return made

    def test_a_probe_is_recorded(self) -> None:
        words = ("--line", "SCL=scl", "--line", "SDA=sda", "--for", "1s", "-o", "probe.vcd")
        done = program("record", "--link", self.stand_in().path, *words, cwd=FOLDER)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("none lost", done.stderr.decode())
        self.assertEqual([one["bytes"] for one in program_json("decode", "probe.vcd", cwd=FOLDER)["transactions"]], SENT)
        bad = program("record", "--link", self.stand_in().path, "--line", "A=led", "--for", "1s", "-o", "x.vcd", cwd=FOLDER)
        self.assertEqual((bad.returncode, b"does not watch led" in bad.stderr), (2, True), bad.stderr)

    def test_damaged_lines_are_unknown_and_never_wrong_levels(self) -> None:
        probe = open_serial(self.stand_in(0.1).path)
        watch = ProbeWatch(probe, {"SCL": "scl", "SDA": "sda"})
        out = Recorded()
        trace = joined([piece for piece in record(watch, out, lasts=1.0) if len(piece)])
        watch.close()
        self.assertGreater(out.lost, 0)
        true = self.wires()
        micro = np.arange(2000, int(true.end * float(true.tick) * 1e6) - 2000, 7, dtype=np.int64)
        for line in range(2):
            seen = trace.level_at(line, micro * 1000)
            told = true.level_at(line, (micro * Fraction(1, 10**6) / true.tick).astype(np.int64))
            known = seen < 2
            near = np.searchsorted(true.times, (micro + 2) * 1000) != np.searchsorted(true.times, (micro - 2) * 1000)
            self.assertTrue((seen == told)[known & ~near].all())
            self.assertGreater(float(known.mean()), 0.5)


if __name__ == "__main__":
    unittest.main()
