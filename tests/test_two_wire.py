"""Two wires without addresses: words there and back, against a master that is not ours, and never taken for I2C, nor I2C for them."""

import json
import random
import unittest
from fractions import Fraction
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.bus import two_wire
from hushed_wire.bus.base import Settings
from hushed_wire.bus.channel import Channel, Wired
from hushed_wire.bus.moves import TICK, Move, Pace
from hushed_wire.trace import Trace, read_capture
from maker.masters import TwoWire
from maker.wave import Wave
from maker.writers import vcd
from support import as_one, demo, program, program_json, scratch

FOLDER = scratch()
RIG = """
[[bus]]
name = "wheel"
kind = "two-wire"
clock = "100kHz"
lines = { clock = "CLK", data = "DIO" }

[[device]]
name = "level"
on = "wheel"
part = "tm1637"
panel = "4-digits"
"""
HUSH = 'data-mode mode=write next=count test=off\ntext 0,0 "12:47"\ndisplay state=on brightness=7\nwait 5ms\ntext 0,0 "-2:08"\n'
TRANSFERS = st.lists(st.lists(st.integers(0, 255), min_size=1, max_size=9), min_size=1, max_size=12)


def heard(trace: Trace, size: int = 0) -> Channel:
    """What is said on lines 0 and 1, in pieces of so many changes."""
    (channel,) = two_wire.decoders(Wired("wheel", {"clock": 0, "data": 1}, Settings(), trace.tick), [])
    return as_one([*map(channel.feed, trace.pieces(size) if size else [trace]), channel.finish()])


def transfers(own: Channel) -> list[list[int]]:
    return [own.words.value[first:last].tolist() for first, last in zip(own.table.first, own.table.last, strict=True)]


class Words(unittest.TestCase):
    @given(TRANSFERS, st.integers(1, 60))
    @settings(deadline=None, max_examples=60)
    def test_there_and_back(self, said: list[list[int]], size: int) -> None:
        moves = [
            Move("level", np.array(each, np.uint32), np.zeros(len(each), bool), 30_000, np.zeros(len(each), np.int64))
            for each in said
        ]
        wired = Wired("wheel", {"clock": 0, "data": 1}, Settings(), TICK)
        trace, starts = two_wire.wires(moves, wired, Pace(clock=Fraction(100_000)), ("CLK", "DIO"), 10_000, 10_000)
        for own in (heard(trace), heard(trace, size)):
            self.assertEqual(transfers(own), said)
            self.assertTrue(own.words.ack.all())
            self.assertEqual(own.who, None)
            self.assertEqual(own.table.start.tolist(), starts.tolist())
        lasts = [two_wire.seconds_of(move, wired, Pace(clock=Fraction(100_000))) for move in moves]
        for took, begin, end in zip(lasts, heard(trace).table.start.tolist(), heard(trace).table.end.tolist(), strict=True):
            self.assertAlmostEqual((end - begin) * 1e-9, took, 9)

    @given(TRANSFERS, st.sampled_from([20e3, 100e3, 400e3]), st.booleans())
    @settings(deadline=None, max_examples=30)
    def test_another_master_is_understood(self, said: list[list[int]], hertz: float, there: bool) -> None:
        wave = Wave(1, CLK=1, DIO=1)
        wave.wait(1e5)
        bus = TwoWire(wave, hertz, there=there)
        for each in said:
            bus.transfer(each)
        vcd(wave, FOLDER / "other.vcd")
        trace = read_capture(FOLDER / "other.vcd")
        own = heard(trace.select([trace.index("CLK"), trace.index("DIO")]))
        self.assertEqual(transfers(own), said)
        self.assertEqual(bool(own.words.ack.any()), there)


class AsAUser(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        (FOLDER / "wheel.toml").write_text(RIG)
        (FOLDER / "wheel.hush").write_text(HUSH)
        cls.rehearse("wheel.vcd")

    @staticmethod
    def rehearse(name: str, *mishaps: str) -> Path:
        words = [word for mishap in mishaps for word in ("--mishap", mishap)]
        done = program("rehearse", "wheel.hush", "--rig", "wheel.toml", "-o", name, "-q", *words, cwd=FOLDER)
        assert done.returncode == 0, done.stderr
        return FOLDER / name

    def test_whatever_the_lines_are_called_it_is_no_i2c(self) -> None:
        text = (FOLDER / "wheel.vcd").read_text()
        for clock, data in (("CLK", "DIO"), ("A", "B"), ("SCL", "SDA"), ("0", "1"), ("D1", "D0")):
            with self.subTest(clock):
                (FOLDER / "named.vcd").write_text(
                    text.replace(" CLK $end", f" {clock} $end").replace(" DIO $end", f" {data} $end")
                )
                told = program_json("diagnose", "named.vcd", cwd=FOLDER)
                self.assertEqual([finding["code"] for finding in told["findings"]], ["picture.all-traffic-good"])
                self.assertIn("tm1637", told["assumed"]["part"])
                shown = program_json("screen", "named.vcd", cwd=FOLDER)["screens"][0]
                self.assertEqual((shown["lines"], shown["lit"]), (["-2:08"], True))

    def test_i2c_is_never_taken_for_it(self) -> None:
        text = (demo() / "healthy.vcd").read_text()
        for clock, data in (("A", "B"), ("CLK", "DATA")):
            (FOLDER / "i2c.vcd").write_text(text.replace(" SCL $end", f" {clock} $end").replace(" SDA $end", f" {data} $end"))
            entries = json.loads(program("decode", "i2c.vcd", "--format", "json", cwd=FOLDER).stdout)["transactions"]
            self.assertEqual({entry["address"] for entry in entries}, {0x3D})
        chance = random.Random(7)
        wave = Wave(2, CLK=1, DIO=1)  # the names of the one, the words of nobody
        bus = TwoWire(wave, 100e3)
        for _ in range(60):
            bus.transfer([chance.randrange(256) for _ in range(3)])
        vcd(wave, FOLDER / "noise.vcd")
        self.assertNotIn("part", json.loads(program("decode", "noise.vcd", "--format", "json", cwd=FOLDER).stdout)["assumed"])

    def test_each_fault_has_its_cause(self) -> None:
        for mishap, code in (
            ("swap:CLK,DIO", "wiring.swapped-lines"),
            ("stuck:DIO,low", "wiring.stuck-line"),
            ("stuck:CLK,high", "wiring.stuck-line"),
            ("join:CLK,DIO", "wiring.joined-lines"),
            ("drop-clock:CLK,3", "frame.bit-slip"),
            ("hang:CLK,2ms", "timing.bus-hung"),
            ("hang:DIO,2ms", "timing.bus-hung"),
            ("alter-step:display.state=off", "setup.display-off"),
            ("fast-clock:700kHz", "timing.clock-too-fast"),
        ):
            with self.subTest(mishap):
                self.rehearse("wrong.vcd", mishap)
                told = program_json("diagnose", "wrong.vcd", "--rig", "wheel.toml", cwd=FOLDER)["findings"]
                self.assertEqual(told[0]["code"], code)

    def test_what_the_glass_cannot_show_is_told(self) -> None:
        (FOLDER / "point.hush").write_text('text 0,0 "1.23"\n')
        done = program("build", "point.hush", "--rig", "wheel.toml", cwd=FOLDER)
        self.assertEqual((done.returncode, b"this panel has no points" in done.stderr), (2, True))


if __name__ == "__main__":
    unittest.main()
