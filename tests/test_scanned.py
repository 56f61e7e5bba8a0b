"""Scanned LEDs: what is played comes back, on lines of their own, behind registers, and from another one's bench; and their faults."""

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.bus import matrix
from hushed_wire.bus.colour_scan import weights
from hushed_wire.trace import Trace, read_capture
from hushed_wire.trace.sampling import sampled
from maker.displays import colour_panel
from maker.wave import Wave
from maker.writers import vcd
from support import FIXTURES, ROOT, demo, program, program_json, scratch
from test_docs import blocks

FOLDER = scratch()
TICK = Fraction(1, 10**9)
DIGITS = """
[[bus]]
name = "stage"
kind = "matrix"
rows = "low"
[bus.lines]
digit0 = "D0"
digit1 = "D1"
digit2 = "D2"
digit3 = "D3"
segment_a = "SA"
segment_b = "SB"
segment_c = "SC"
segment_d = "SD"
segment_e = "SE"
segment_f = "SF"
segment_g = "SG"
segment_dp = "DP"
[[device]]
name = "level"
on = "stage"
part = "led-digits"
"""


def played(data: st.DataObject, roles: list[str], lamps: matrix.Lamps, shape: tuple[int, int]) -> tuple[Trace, Any]:
    count = data.draw(st.integers(1, 4))
    seed = data.draw(st.integers(0, 2**32 - 1))
    pictures = np.random.default_rng(seed).random((count, *shape)) < 0.5
    pictures[:, 0, 0] = True  # a picture that is all dark has no brightest LED to be measured by
    scans = np.array(data.draw(st.lists(st.integers(2, 5), min_size=count, max_size=count)), np.int64)
    beat = matrix.Beat(400_000, 900, 40)
    start = 5000 + np.cumsum(scans * beat.period) - scans * beat.period
    lines = {role: k for k, role in enumerate(roles)}
    end = int(start[-1] + scans[-1] * beat.period) + 30_000
    trace = matrix.encode(pictures, start, scans, lamps, beat, lines, tuple(roles), TICK, end)
    if data.draw(st.booleans()):
        trace = sampled(trace, Fraction(50_000_000), data.draw(st.integers(0, 99)), 2e-9)
    return trace, pictures


class Colours(unittest.TestCase):
    """Panels in colours: what other people's drivers put on the wires, in every order of rows and bits, is the picture that they had."""

    @given(st.integers(0, 10**6), st.sampled_from(["rows", "planes", "while"]), st.integers(1, 8), st.sampled_from([16, 32]))
    @settings(deadline=None, max_examples=6)
    def test_a_picture_of_another_maker(self, seed: int, style: str, planes: int, rows: int) -> None:
        width = 32
        roles = ["r1", "g1", "b1", "r2", "g2", "b2", *"abcd"[: rows.bit_length() - 2], "clock", "latch", "enable"]
        names = ["R1", "G1", "B1", "R2", "G2", "B2", *"ABCD"[: rows.bit_length() - 2], "CLK", "LAT", "OE"]
        wave = Wave(seed, 0.01, **{**dict.fromkeys(names, 0), "OE": 1})
        wave.wait(1e5)
        picture = np.random.default_rng(seed).integers(0, 256, (rows, width, 3)).astype(np.uint8)
        colour_panel(wave, picture, 3, 100.0, 16e6, planes, style)
        with tempfile.TemporaryDirectory() as folder:
            vcd(wave, Path(folder) / "panel.vcd")
            trace = read_capture(Path(folder) / "panel.vcd")
        lines = {role: trace.names.index(name) for role, name in zip(roles, names, strict=True)}
        scan = matrix.decode(trace, lines, matrix.Lamps(0, 1, rows, width, 1, False, True, True))
        assert scan.colours is not None
        most = (1 << planes) - 1
        wanted = ((picture.astype(int) >> 8 - planes) * 255 / most + 0.5).astype(np.uint8)
        for frame in scan.colours[1:-1]:
            self.assertTrue(np.array_equal(frame, wanted))

    @given(st.data())
    @settings(deadline=None, max_examples=6)
    def test_what_is_played_comes_back(self, data: st.DataObject) -> None:
        roles = ["r1", "g1", "b1", "r2", "g2", "b2", "a", "b", "c", "clock", "latch", "enable"]
        lamps = matrix.Lamps(0, 1, 16, 32, 1, False, True, True)
        pictures = np.random.default_rng(data.draw(st.integers(0, 2**32 - 1))).integers(0, 256, (2, 16, 32, 3)).astype(np.uint8)
        beat, lines = matrix.Beat(10_000_000, 1), {role: k for k, role in enumerate(roles)}
        start, scans = np.array([5000, 5000 + 3 * beat.period]), np.array([3, 3])
        end = int(start[-1]) + 3 * beat.period + 30_000
        trace = matrix.encode(pictures, start, scans, lamps, beat, lines, tuple(roles), TICK, end)
        if data.draw(st.booleans()):
            trace = sampled(trace, Fraction(50_000_000), data.draw(st.integers(0, 99)), 2e-9)
        scan = matrix.decode(trace, lines, lamps)
        assert scan.colours is not None
        for frame, picture in ((1, 0), (4, 1)):
            self.assertTrue(np.array_equal(scan.colours[frame], pictures[picture]))


class Weights(unittest.TestCase):
    def test_what_loads_weigh(self) -> None:
        """Powers of two where lengths double, their ratio where they do not; one that was interrupted weighs like its neighbours."""

        def of(lasts: list[float]) -> list[int]:
            took = np.array(lasts * 40)
            rows, load = np.ones(len(took), np.uint64), np.arange(len(took))
            took[len(lasts)] *= 1.6
            return np.round(weights(rows, took, load)[: len(lasts)]).astype(int).tolist()

        self.assertEqual(of([1.1, 2.0, 4.1, 7.9]), [1, 2, 4, 8])
        self.assertEqual(of([8.0, 4.0, 2.0, 0.9]), [8, 4, 2, 1])
        self.assertEqual(of([5.0, 5.1, 4.9]), [1, 1, 1])
        self.assertEqual(of([1.0, 3.0, 9.1]), [1, 3, 9])
        each = np.array([1.0, 2.0, 4.0])  # too few to tell what is rare
        self.assertEqual(weights(np.ones(3, np.uint64), each, np.arange(3)).round(6).tolist(), [1, 2, 4])
        self.assertEqual(weights(np.zeros(3, np.uint64), np.ones(3), np.arange(3)).tolist(), [0, 0, 0])


class Twins(unittest.TestCase):
    """decode(encode(x)) == x, sampled at any phase."""

    def check(self, trace: Trace, roles: list[str], lamps: matrix.Lamps, pictures: Any) -> None:
        scan = matrix.decode(trace, {role: k for k, role in enumerate(roles)}, lamps)
        lit = scan.lit()
        changed = np.append(True, (lit[1:] != lit[:-1]).any(axis=(1, 2)))
        wanted = np.append(True, (pictures[1:] != pictures[:-1]).any(axis=(1, 2)))
        self.assertTrue(np.array_equal(lit[changed], pictures[wanted]))
        self.assertFalse(scan.overlap().any())
        # Every LED's light is the share for which its row was on.
        rows = lit.shape[1]
        own = scan.on[:, np.arange(rows) % scan.on.shape[1]]
        self.assertTrue(np.allclose(scan.light, lit * own[:, :, None], atol=1e-3))

    @given(st.data())
    @settings(deadline=None, max_examples=30)
    def test_rows_and_columns(self, data: st.DataObject) -> None:
        shape = data.draw(st.integers(2, 8)), data.draw(st.integers(1, 16))
        roles = [f"row{k}" for k in range(shape[0])] + [f"column{k}" for k in range(shape[1])]
        lamps = matrix.Lamps(data.draw(st.integers(0, 1)), data.draw(st.integers(0, 1)))
        trace, pictures = played(data, roles, lamps, shape)
        self.check(trace, roles, lamps, pictures)

    @given(st.data())
    @settings(deadline=None, max_examples=15)
    def test_row_groups(self, data: st.DataObject) -> None:
        roles = ["a", "b", "clock", "data", "latch", "enable"]
        levels, turns = st.integers(0, 1), st.booleans()
        lamps = matrix.Lamps(
            data.draw(levels),
            data.draw(levels),
            16,
            32,
            data.draw(st.sampled_from([4, 8, 32])),
            data.draw(turns),
            data.draw(turns),
        )
        trace, pictures = played(data, roles, lamps, (16, 32))
        self.check(trace, roles, lamps, pictures)


class FromABench(unittest.TestCase):
    def test_a_verilog_bench(self) -> None:
        sent = [line.split()[1] for line in (FIXTURES / "buses_tb.txt").read_text().splitlines() if line.startswith("matrix")]
        trace = read_capture(FIXTURES / "buses_tb.vcd.gz")
        roles = {f"row{k}": trace.index(f"row[{k}]") for k in range(3)} | {
            f"column{k}": trace.index(f"col[{k}]") for k in range(3)
        }
        scan = matrix.decode(trace, roles, matrix.Lamps(1, 0))
        packed = (scan.lit().reshape(-1, 9) << np.arange(9)).sum(axis=1).tolist()
        self.assertEqual([f"{value:03x}" for value in dict.fromkeys(packed)], sent)
        self.assertAlmostEqual(scan.rate(trace.tick), 1 / 9.9e-6, delta=100)
        self.assertTrue(np.allclose(scan.on[1:-1], 3 / 9.9, atol=0.001))


class AsAUser(unittest.TestCase):
    def test_the_demo_shows_its_pictures(self) -> None:
        for words in (("--rig", "led-sign.toml"), ()):
            sign = program_json("screen", "led-sign.vcd", *words)["screens"][0]
            self.assertEqual((sign["width"], sign["height"], sign["lit"]), (32, 16, True))
            self.assertEqual(sign["rows"][0][4:9], ".###.")  # the head of a G
            self.assertAlmostEqual(max(map(max, sign["light"])), 1.0)
        summary = program_json("decode", "led-sign.vcd", "--summary")
        self.assertAlmostEqual(next(iter(summary["scans"].values()))["frame_rate"], 125, delta=0.5)
        frames = program_json("screen", "gate-signal.vcd", "--rig", "gate-signal.toml", "--every", "frame")["screens"]
        self.assertEqual([frame["rows"][1] for frame in frames], ["...###.", "#######"])

    def test_behind_a_register_with_rows_of_the_drivers_own(self) -> None:
        rig = next(text for text in blocks(ROOT / "docs" / "rig.md", "toml") if 'direct = ["row0"' in text)
        (FOLDER / "wall.toml").write_text(rig)
        (FOLDER / "wall.hush").write_text("rectangle 0,0 7x5\nwait 100ms\nline 0,0 6,4\nwait 150ms\n")
        done = program("rehearse", "wall.hush", "--rig", "wall.toml", "-o", "wall.vcd", cwd=FOLDER)
        self.assertEqual(done.returncode, 0, done.stderr)
        frames = program_json("screen", "wall.vcd", "--rig", "wall.toml", "--every", "frame", cwd=FOLDER)["screens"]
        self.assertEqual([frame["rows"][2] for frame in frames], ["#.....#", "#..#..#"])
        self.assertEqual(program("diagnose", "wall.vcd", "--rig", "wall.toml", cwd=FOLDER).returncode, 0)

    def test_digits_and_their_wires(self) -> None:
        (FOLDER / "digits.toml").write_text(DIGITS)
        (FOLDER / "digits.hush").write_text('text 0,0 "12.34"\nwait 100ms\nnumber 0,0 5.67 width=4 places=2\nwait 100ms\n')
        for mishap, code, lines in (
            ("", "picture.all-traffic-good", None),
            ("swap:SB,SF", "wiring.swapped-lines", ["SB", "SF"]),
            ("invert:SA", "wiring.inverted-line", ["SA"]),
            ("stuck:D1,high", "wiring.stuck-line", ["D1"]),
            ("fast-clock:35Hz", "timing.flicker", []),
        ):
            words = ["--mishap", mishap] if mishap else []
            program("rehearse", "digits.hush", "--rig", "digits.toml", "-o", "digits.vcd", *words, cwd=FOLDER)
            found = program_json("diagnose", "digits.vcd", "--rig", "digits.toml", cwd=FOLDER)["findings"][0]
            self.assertEqual((found["code"], found["lines"] if lines is not None else None), (code, lines), mishap)
            if not mishap:
                shown = program_json("screen", "digits.vcd", "--at", "50ms", cwd=FOLDER)["screens"][0]["lines"]
                self.assertEqual(shown, ["12.34"])  # by the names of the lines alone

    def test_rows_and_their_faults(self) -> None:
        for mishap, code, lines in (
            ("lag:ROW2,60us", "timing.ghosting", ["ROW2", "ROW3"]),
            ("slow-edge:ROW1,700us", "timing.uneven-rows", ["ROW1"]),
            ("swap:ROW1,ROW3", "wiring.swapped-lines", ["ROW1", "ROW3"]),
            ("stuck:ROW0,high", "wiring.stuck-line", ["ROW0"]),
            ("stuck:ROW3,low", "wiring.stuck-line", ["ROW3"]),
        ):
            program("rehearse", "gate-signal.hush", "--rig", "gate-signal.toml", "-o", "hurt.vcd", "--mishap", mishap, cwd=demo())
            found = program_json("diagnose", "hurt.vcd", "--rig", "gate-signal.toml")["findings"][0]
            self.assertEqual((found["code"], sorted(found["lines"])), (code, lines), mishap)


if __name__ == "__main__":
    unittest.main()
