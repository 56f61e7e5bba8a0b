"""A fixed sample of the second maker's captures, which share no code with the program, diagnosed through the command line."""

import random
import tempfile
import unittest
from pathlib import Path

from maker.cases import FAMILIES, Case, Outcome, cases, judged
from maker.displays import pcd8544, scene
from maker.masters import Spi
from maker.mishaps import joined, swapped
from maker.volts import Bench, seen
from maker.wave import Wave
from maker.writers import raw, vcd
from support import program_json

SAMPLE, SEEDS = 13, 4  # every thirteenth case of so many seeds; `make accuracy` takes them all


def outcomes(faults: bool, step: int) -> list[Outcome]:
    """The sample, the same each time."""
    every = [case for case in cases(SEEDS, 6) if bool(case.first) == faults and case.family != "colour"]
    random.Random(7).shuffle(every)
    return [judged(case) for case in every[::step]]


class SecondMaker(unittest.TestCase):
    def test_faults_are_named_first_with_their_lines(self) -> None:
        told = outcomes(True, SAMPLE)
        missed = [f"{outcome.case}: {outcome.bad}" for outcome in told if outcome.bad]
        share = 1 - len(missed) / len(told)
        print(f"second maker: {len(told)} captures with a fault, the cause named first with its lines in {share:.1%}")
        self.assertGreaterEqual(share, 0.95, missed)

    def test_healthy_and_foreign_captures_yield_nothing(self) -> None:
        told = outcomes(False, SAMPLE)
        print(f"second maker: {len(told)} healthy and foreign captures, findings on {sum(bool(outcome.bad) for outcome in told)}")
        self.assertEqual([f"{outcome.case}: {outcome.bad}" for outcome in told if outcome.bad], [])


# Captures that were blamed once: what their families would have to draw again is kept by seed.
ONCE_BLAMED = (
    Case("oled", 1041, late=0.7083, kinds={"wired": "nine"}), Case("oled", 1014, late=0.5, kinds={"wired": "nine"}),
    Case("lcd", 1038, late=0.88, kinds={"rw": True}),
    Case("lcd", 1047, late=0.34), Case("ks", 1041, late=0.64), Case("ks", 1056, late=0.09), Case("backpack", 1050, late=0.55, rig=False),
    Case("several", 1011, late=0.24), Case("several", 1035, late=0.67, kinds={"turn": 1}), Case("pair", 1011, late=0.91),
    Case("driver", 1071, late=0.31), Case("foreign", 1063, foreign=True, kinds={"what": "random", "of": "oled"}),
    Case("paper", 1008, late=0.63, kinds={"answers": False}),
    Case("foreign", 1014, foreign=True, kinds={"what": "encoder", "of": "pcd"}), Case("foreign", 1029, foreign=True, kinds={"what": "encoder", "of": "digits"}),
)  # fmt: skip


class OnceBlamed(unittest.TestCase):
    def test_what_came_ahead_of_a_capture_is_held_against_nobody(self) -> None:
        for case in ONCE_BLAMED:
            with self.subTest(str(case)):
                self.assertEqual(judged(case).bad, "")


class OneColourDead(unittest.TestCase):
    def test_a_line_of_a_colour_that_never_moves(self) -> None:
        """In scenes whose other five lines all move: where one more is still, it may be the picture."""
        for seed in (0, 1, 4):
            for wire in ("low G2", "high R1", "low B1"):
                case = Case("colours", seed, ("wiring.stuck-line",), (wire[-2:],), wires=(tuple(wire.split()),))
                with self.subTest(str(case)):
                    self.assertEqual(judged(case).bad, "")


class SampledTooSlowly(unittest.TestCase):
    """A clock of 4 MHz, sampled at some rates: what was lost is the instrument's fault, and no wire's."""

    def test_a_clock_that_loses_edges(self) -> None:
        for mode, step, clock, said in (
            (0, 20, "", False), (0, 60, "", False), (0, 150, "", True), (3, 140, "", True), (0, 165, 'clock = "4MHz"\n', True),
            (3, 190, 'clock = "4MHz"\n', True), (0, 210, 'clock = "4MHz"\n', True), (0, 330, 'clock = "4MHz"\n', True),
        ):  # fmt: skip
            with self.subTest(mode=mode, step=step, clock=clock), tempfile.TemporaryDirectory() as name:
                folder, chance = Path(name), random.Random(step)
                wave = Wave(step, SCK=mode >> 1, MOSI=0, CS=1, DC=0)
                wave.wait(1e6)
                pcd8544(Spi(wave, 4e6, mode, dc="DC"), scene(chance, 84, 48), chance)
                wave.wait(1e6)
                raw(wave, step, folder / "sampled.bin")
                (folder / "rig.toml").write_text(
                    f'[[bus]]\nname = "wires"\nkind = "spi"\nmode = {mode}\n{clock}lines = {{ sck = "0", mosi = "1", cs = "2", dc = "3" }}\n'
                    '[[device]]\nname = "glass"\non = "wires"\npart = "pcd8544"\n'
                )
                told = program_json(
                    "diagnose", "sampled.bin", "--raw", "1", "--rate", f"{1e3 / step:.6f}MHz", "--rig", "rig.toml", cwd=folder
                )
                first = told["findings"][0]["code"]
                self.assertEqual(first == "capture.undersampled", said, told["findings"][0]["summary"])


class Itself(unittest.TestCase):
    """The maker's own parts, by hand: an oracle that is wrong proves nothing."""

    def test_lines_exchanged_and_joined(self) -> None:
        wave = Wave(1, 0.0, A=0, B=1)
        wave.wait(10)
        wave.put(A=1)
        wave.wait(10)
        wave.put(B=0)
        swapped(wave, "A", "B")
        self.assertEqual((wave.first, wave.changes), ({"A": 1, "B": 0}, [(10, "B", 1), (20, "A", 0)]))
        joined(wave, "A", "B")
        self.assertEqual((wave.first, wave.changes), ({"A": 0, "B": 0}, [(10, "A", 1), (10, "B", 1), (20, "A", 0), (20, "B", 0)]))

    def test_raw_samples_and_changes_of_one_wave_say_the_same(self) -> None:
        made = FAMILIES["digits"](3, "")
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            vcd(made.wave, folder / "exact.vcd")
            raw(made.wave, 10, folder / "sampled.bin")
            (folder / "exact.toml").write_text(made.rig)
            for number, line in enumerate(made.wave.names):  # lines of raw samples are called by their number
                made.rig = made.rig.replace(f'"{line}"', f'"{number}"')
            (folder / "sampled.toml").write_text(made.rig)
            exact = program_json("decode", "exact.vcd", "--rig", "exact.toml", cwd=folder)
            sampled = program_json("decode", "sampled.bin", "--raw", "1", "--rate", "100MHz", "--rig", "sampled.toml", cwd=folder)
        said = [[(entry["name"], entry["bytes"]) for entry in told["commands"]] for told in (exact, sampled)]
        self.assertEqual(said[0], said[1])
        self.assertGreater(len(said[0]), 12)

    def test_a_line_rises_by_its_resistor_and_capacitance(self) -> None:
        wave = Wave(1, 0.0, SDA=0)
        wave.wait(10_000)
        wave.put(SDA=1)
        wave.wait(10_000)
        times, volts = seen(wave, {"SDA": Bench(ohms=10e3, farads=100e-12, noise=0.0, step=1e-6, rate=100e6, low=0.0)}, 1)
        self.assertAlmostEqual(float(volts["SDA"][int(times.searchsorted(11e-6))]), 3.3 * (1 - 2.718281828**-1), delta=0.02)


if __name__ == "__main__":
    unittest.main()
