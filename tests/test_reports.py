"""What people read against what programs read, the advice on probing, and what mishaps do to wires, against plain loops."""

import csv
import json
import re
import unittest
from fractions import Fraction

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.errors import HushedError
from hushed_wire.rig import load_rig
from hushed_wire.rig.rehearse import WIRES, rehearse
from hushed_wire.rig.vocabulary import parse_mishap
from hushed_wire.trace import Trace
from support import demo, program, program_json, scratch

FOLDER = scratch()
PLACES = ("pump-room", "wheelhouse", "handheld", "engine-room", "gate-signal", "led-sign")


@st.composite
def captures(draw: st.DrawFn) -> Trace:
    """Up to 300 ticks of three lines that all move."""
    times = sorted(draw(st.sets(st.integers(1, 290), min_size=3, max_size=40)))
    levels = [draw(st.integers(0, 7))]
    for number in range(len(times)):
        flip = 1 << number % 3 if number < 3 else draw(st.integers(1, 7))
        levels.append(levels[-1] ^ flip)
    return Trace(("A", "B", "C"), np.array([0, *times]), np.array(levels, np.uint8), 300, Fraction(1, 10**6))


def story(trace: Trace) -> np.ndarray:
    """(3, ticks) level of each line at each tick."""
    at = np.arange(trace.start, trace.end)
    return np.stack([trace.level_at(line, at) for line in range(3)])


def done(kind: str, trace: Trace, detail: str, seed: int = 0) -> np.ndarray:
    return story(WIRES[kind](trace, detail, seed))


class Mishaps(unittest.TestCase):
    @given(captures())
    @settings(deadline=None, max_examples=40)
    def test_lines_that_are_exchanged_joined_inverted_and_held(self, trace: Trace) -> None:
        a, b, c = whole = story(trace)
        np.testing.assert_array_equal(done("swap", trace, "A,C"), [c, b, a])
        np.testing.assert_array_equal(done("reverse", trace, "A,B,C"), [c, b, a])
        np.testing.assert_array_equal(done("join", trace, "A,B"), [a & b, a & b, c])
        np.testing.assert_array_equal(done("invert", trace, "B"), [a, 1 - b, c])
        np.testing.assert_array_equal(done("stuck", trace, "C,high"), [a, b, np.ones_like(c)])
        held = whole.copy()
        held[1, 120:] = 0
        np.testing.assert_array_equal(done("hang", trace, "B,120us"), held)
        later = WIRES["late-start"](trace, "70us", 0)
        np.testing.assert_array_equal(story(later), whole[:, 70:])

    @given(captures(), st.integers(1, 30))
    @settings(deadline=None, max_examples=40)
    def test_a_line_that_lags(self, trace: Trace, ticks: int) -> None:
        whole = story(trace)
        out = done("lag", trace, f"A,{ticks}us")
        np.testing.assert_array_equal(out[1:], whole[1:])
        np.testing.assert_array_equal(out[0, ticks:], whole[0, :-ticks])  # each level as long as before, so none is lost
        slow = done("slow-edge", trace, f"A,{ticks}us")
        # High only where it was high for the last `ticks` as well (but for the level it begins with), low at once.
        wanted = whole[0].copy()
        rises = np.flatnonzero((whole[0, 1:] == 1) & (whole[0, :-1] == 0)) + 1
        for rise in rises.tolist():
            wanted[rise : rise + ticks] = 0
        np.testing.assert_array_equal(slow[0], wanted)

    @given(captures(), st.integers(0, 9), st.integers(0, 99))
    @settings(deadline=None, max_examples=40)
    def test_pulses_that_are_lost(self, trace: Trace, count: int, seed: int) -> None:
        whole = story(trace)
        if np.count_nonzero(np.diff(whole[0].astype(int))) < 2:
            return  # a line without a pulse is refused, below
        out = done("drop-clock", trace, f"A,{count}", seed)
        np.testing.assert_array_equal(out[1:], whole[1:])
        edges = [int(np.count_nonzero(np.diff(row.astype(int)))) for row in (whole[0], out[0])]
        pulses = edges[0] // 2
        self.assertEqual(edges[0] - edges[1], 2 * min(count, pulses))
        changed = out[0] != whole[0]
        self.assertTrue((out[0][changed] == whole[0, 0]).all())  # what is lost is at rest

    @given(captures(), st.integers(1, 5), st.integers(0, 99))
    @settings(deadline=None, max_examples=40)
    def test_a_contact_that_opens(self, trace: Trace, count: int, seed: int) -> None:
        whole, out = story(trace), done("loose", trace, f"A,{count}", seed)
        np.testing.assert_array_equal(out[1:], whole[1:])
        changed = out[0] != whole[0]
        self.assertTrue((out[0][changed] == whole[0, 0]).all())
        starts = int(np.count_nonzero(np.diff(np.append(0, changed.astype(int))) == 1))
        self.assertLessEqual(int(changed.sum()), count * 200)
        self.assertLessEqual(starts, count * (1 + int(np.count_nonzero(np.diff(whole[0].astype(int))))))

    def test_refusals(self) -> None:
        trace = Trace(("A", "B", "C"), np.array([0, 5]), np.array([0, 1], np.uint8), 300, Fraction(1, 10**6))
        for kind, detail, said in (
            ("swap", "A", ""), ("swap", "A,D", "D"), ("reverse", "A", "fewer than two"), ("stuck", "A,up", ""), ("drop-clock", "A,many", "not a number"),
            ("drop-clock", "B,2", "no pulses"), ("loose", "A,few", "not a number"), ("loose", "C,2", "does not move"),
            ("hang", "A,9s", "outside the capture"), ("hang", "A,soon", "soon"), ("lag", "A,5V", "V"),
        ):  # fmt: skip
            with self.subTest((kind, detail)):
                with self.assertRaises(HushedError) as caught:
                    WIRES[kind](trace, detail, 0)
                self.assertIn(said, str(caught.exception))

    def test_what_a_rehearsal_refuses(self) -> None:
        words = ("rehearse", "tide.hush", "--rig", "front-desk.toml", "-o", str(FOLDER / "x.vcd"), "--mishap")
        for mishap, said in (
            ("slow:tide", "acts on the desk"), ("garble:3", "between host and probe"), ("noise:SDA,loud", "--mishap"), ("fight:SDA,5", "add --volts"),
            ("tilt:SDA", "tilt"), ("swap", "swap"), ("refuse:gate", "gate"), ("fast-clock:9GHz", "clock"),
        ):  # fmt: skip
            done = program(*words, mishap)
            self.assertEqual(done.returncode, 2, mishap)
            self.assertIn(said, done.stderr.decode(), mishap)
        self.assertFalse((FOLDER / "x.vcd").exists())
        for text, said in (
            ("display off\nwait 3600s\nwait 3600s\ndisplay on\n", "would last"),
            ("repeat 10000\npicture tide.pbm\nend\n", ""),
        ):
            (FOLDER / "slow.hush").write_text(text)
            (FOLDER / "tide.pbm").write_bytes((demo() / "tide.pbm").read_bytes())
            done = program("rehearse", str(FOLDER / "slow.hush"), "--rig", "front-desk.toml", "-o", str(FOLDER / "x.vcd"))
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn(said, done.stderr.decode())

    def test_volts_get_what_was_asked_for(self) -> None:
        rig = load_rig(demo() / "front-desk.toml")
        (FOLDER / "short.hush").write_text("display off\n")
        for mishap, line, check in (
            ("high-level:SDA,2.1V", 1, lambda volts: abs(float(np.percentile(volts, 95)) - 2.1) < 0.1),
            ("noise:SCL,0.3V", 0, lambda volts: 0.2 < float(np.std(volts[volts > 2.5])) < 0.4),
        ):
            _, waves = rehearse(FOLDER / "short.hush", rig, mishaps=[parse_mishap(mishap)], in_volts=True)
            assert waves is not None
            self.assertTrue(check(waves.volts[line]), mishap)


class ReadAndShown(unittest.TestCase):
    def test_listings_name_every_command_of_the_record(self) -> None:
        for place in PLACES:
            record = program_json("decode", f"{place}.vcd", "--rig", f"{place}.toml")
            text = program("decode", f"{place}.vcd", "--rig", f"{place}.toml", "--all", "-v").stdout.decode()
            names = {command["name"] for command in record["commands"]} - {"data", "picture", "show"}
            for name in names:
                self.assertIn(name, text, place)
            digits = {f"{command['time'] * 1e3:.3f}" for command in record["commands"][:1]}
            self.assertTrue(digits)

    def test_words_in_every_radix_are_those_of_the_record(self) -> None:
        back = {
            "hex": lambda cell: int(cell, 16),
            "dec": int,
            "bin": lambda cell: int(cell, 2),
            "char": lambda cell: ord(cell) if len(cell) == 1 else int(cell, 16),
        }
        for place, key in (("handheld", "words"), ("wheelhouse", "words"), ("healthy", "bytes")):
            said = [entry[key] for entry in program_json("decode", f"{place}.vcd")["transactions"]]
            for radix, parse in back.items():
                table = program("decode", f"{place}.vcd", "--format", "csv", "--radix", radix).stdout.decode()
                rows = [row[key].split() for row in csv.DictReader(table.splitlines())]
                self.assertEqual([[parse(cell) for cell in row] for row in rows], said, (place, radix))
        streamed = ("decode", "handheld.vcd", "--line", "sck=CLK", "--line", "mosi=DIN", "--line", "cs=CE", "--format", "csv")
        whole = program(*streamed, "--radix", "bin").stdout
        piped = program(*streamed[:1], "-", *streamed[2:], "--radix", "bin", stdin=(demo() / "handheld.vcd").read_bytes()).stdout
        self.assertEqual(
            [line.split(b",")[6] for line in whole.splitlines()], [line.split(b",")[6] for line in piped.splitlines()]
        )
        shown = program("find", "healthy.vcd", "command=charge-pump", "--radix", "dec").stdout.decode()
        self.assertIn("0 141 20", shown)

    def test_options_that_play_no_role_are_told(self) -> None:
        done = program("lines", "healthy.vcd", "--rate", "3MHz", "--threshold", "1V")
        self.assertEqual(
            (done.returncode, done.stderr.decode().count("play no role") + done.stderr.decode().count("plays no role")), (0, 2)
        )
        high = program("lines", "healthy-volts.csv.gz", "--threshold", "9V").stdout.decode()
        self.assertEqual(high.count("never crosses the threshold of 9.00 V"), 2)
        self.assertEqual(program("lines", "healthy-volts.csv.gz", "--threshold", "1.5V").stdout.count(b"never crosses"), 0)

    def test_scanned_displays_tell_rows_and_refresh(self) -> None:
        for place, rows in (("gate-signal", 5), ("led-sign", 4)):
            text = program("decode", f"{place}.vcd", "--rig", f"{place}.toml", "-v").stdout.decode()
            found = re.search(
                r"(\d+) of (\d+) (?:rows|row groups) scanned, ([\d.]+) frames a second, each on for ([\d.]+)%", text
            )
            assert found is not None, text
            self.assertEqual((found[1], found[2]), (str(rows), str(rows)))
            shares = [float(share) for share in re.findall(r"^ +\d+ +[\d.]+ [mµ]s +([\d.]+)%", text, re.MULTILINE)]
            self.assertEqual(len(shares), rows)
            self.assertTrue(all(abs(share - float(found[4])) < 0.06 for share in shares))
            self.assertLessEqual(sum(shares), 100)

    def test_timing_tables_say_what_the_margins_say(self) -> None:
        record = program_json("diagnose", "handheld.vcd", "--rig", "handheld.toml", "--margins")["margins"]
        text = program("diagnose", "handheld.vcd", "--rig", "handheld.toml", "--margins").stdout.decode()
        for entry in record:
            line = next(line for line in text.splitlines() if line.startswith(f"{entry['symbol']} "))
            self.assertIn(f"{entry['measured']:,}" if "measured" in entry else "", line)
        table = program("decode", "healthy.vcd", "-v").stdout.decode()
        for symbol in ("fSCL", "tHD;STA", "tLOW", "tHIGH", "tSU;DAT", "tSU;STO", "tBUF"):
            self.assertRegex(table, rf"(?m)^{symbol} +[\d.]+")

    def test_what_is_seen_on_the_glass_ranks_the_causes(self) -> None:
        text = program("diagnose", "no-pump.vcd", "--rig", "front-desk.toml", "--seen", "blank").stdout.decode()
        record = program_json("diagnose", "no-pump.vcd", "--rig", "front-desk.toml", "--seen", "blank")
        self.assertIn("setup.charge-pump-off", text)
        self.assertTrue(record["seen"])
        whole = program("diagnose", "swapped.vcd", "--rig", "front-desk.toml", "--all").stdout.decode()
        self.assertIn("sense as wired", whole)

    def test_the_advice_on_probing_can_be_followed(self) -> None:
        # Sampled at the rate that `wiring` asks for, what a driver sends is read as it was sent.
        for place in ("wheelhouse", "pump-room", "gate-signal", "led-sign", "engine-room"):
            probe = program_json("wiring", f"{place}.toml")["probe"][0]
            self.assertTrue(probe["trigger"])
            out = FOLDER / f"{place}.npz"
            made = program(
                "rehearse", f"{place}.hush", "--rig", f"{place}.toml", "--rate", f"{probe['rate']:.0f}Hz", "-o", str(out), "-q"
            )
            self.assertEqual(made.returncode, 0, made.stderr)
            sent = program_json("screen", f"{place}.vcd", "--rig", f"{place}.toml")["screens"][0]
            seen = program_json("screen", str(out), "--rig", f"{place}.toml")["screens"][0]
            for key in ("rows", "lines", "lit"):
                self.assertEqual(seen.get(key), sent.get(key), (place, probe["rate"]))

    def test_hush_of_one_device_among_several(self) -> None:
        done = program("decode", "healthy.vcd", "--rig", "front-desk.toml", "--device", "tide")
        self.assertIn("--device picks what --as hush writes", done.stderr.decode())
        done = program("decode", "healthy.vcd", "--rig", "front-desk.toml", "--as", "hush", "--device", "gate")
        self.assertEqual(done.returncode, 2)
        lines = program("decode", "engine-room.vcd", "--rig", "engine-room.toml", "--format", "jsonl").stdout.splitlines()
        whole = program_json("decode", "engine-room.vcd", "--rig", "engine-room.toml")
        kinds = [json.loads(line)["record"] for line in lines]
        self.assertEqual(kinds.count("command"), len(whole["commands"]))
        self.assertEqual(kinds[-1], "summary")


if __name__ == "__main__":
    unittest.main()
