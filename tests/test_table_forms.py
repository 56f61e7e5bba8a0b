"""Tables as instruments and scripts write them: each form, written out here by hand, gives the capture that was meant."""

import gzip
import unittest
from fractions import Fraction

import numpy as np

from hushed_wire.errors import HushedError
from hushed_wire.trace import Trace, open_capture, read_capture
from hushed_wire.trace.files import write_capture
from support import program, scratch

FOLDER = scratch()
PATH = FOLDER / "form.csv"
# Times in microseconds, and two lines: what each form below says.
TIMES = [0, 1, 2, 3, 4, 5, 6, 7]
LEVELS = [(1, 1), (1, 0), (0, 0), (0, 1), (1, 1), (0, 1), (1, 1), (1, 0)]


def form(row: str, *head: str, end: str = "\n", tail: str = "") -> bytes:
    """A table of a row's pattern: {t} a time in us, {n} a number from 0, {a} and {b} levels, {A} and {B} letters, {w} a word, {va} volts."""
    lines = list(head)
    for number, (time, (a, b)) in enumerate(zip(TIMES, LEVELS, strict=True)):
        names = {"t": time, "n": number, "a": a, "b": b, "A": "LH"[a], "B": "LH"[b], "w": a + 2 * b}
        names |= {"va": f"{0.02 + 3.2 * a:.2f}", "vb": f"{0.01 + 3.3 * b:.2f}", "T": f"{13.000_120 + time * 1e-6:.6f}"}
        names |= {"ta": ["false", "true"][a], "tb": ["False", "True"][b], "s": f"{time * 1e-6:.6f}", "m": 100 + 3 * time}
        lines.append(row.format(**names))
    return (end.join(lines) + end + tail).encode()


def levels_of(trace: Trace, every: Fraction = Fraction(1, 10**6)) -> list[tuple[int, ...]]:
    """The levels of the first two lines at the moments of TIMES, counted from the trace's start."""
    at = trace.start + np.array([round(t * every / trace.tick) for t in TIMES])
    return [tuple(row) for row in np.stack([trace.level_at(line, at) for line in (0, 1)], axis=1).tolist()]


FORMS: dict[str, tuple[bytes, dict[str, object]]] = {
    "carriage returns alone": (form("{s},{a},{b}", "Time,SCL,SDA", end="\r"), {}),
    "a drawn table": (form("| {s} | {a} | {b} |", "| Time | SCL | SDA |", "|------|-----|-----|"), {}),
    "a drawn table with spaces ahead": (form("  |{s}|{a}|{b}|", "  |Time|SCL|SDA|"), {}),
    "units in cells": (form("{t} us,{a},{b}", "Time,SCL,SDA"), {}),
    "units in cells, no names of columns": (form("{t}us;{va} V;{vb} V"), {}),
    "letters for levels": (form("{s},{A},{B}", "Time,SCL,SDA"), {}),
    "true and false": (form("{s},{ta},{tb}", "Time,SCL,SDA"), {}),
    "letters without times": (form("{A},{B}", "SCL,SDA"), {"rate": Fraction(10**6)}),
    "clock": (form("09:30:{T},{a},{b}", "Time,SCL,SDA"), {}),
    "date and clock": (form("2026-03-01T09:30:{T}Z,{a},{b}", "Timestamp,SCL,SDA"), {}),
    "date and clock with a space": (form("2026-03-01 9:30:{T};{a};{b}", "When;SCL;SDA"), {}),
    "hexadecimal": (form("{s},0x{w:02X}", "Time,Data"), {}),
    "hexadecimal without a mark": (form("{s},{w:02x}", "Time,Port"), {}),
    "binary": (form("{s},{w:04b}", "Time,Bus"), {}),
    "binary with a mark": (form("{s},0b{w:04b}", "Time,D[3:0]"), {}),
    "hexadecimal by rate": (form("0x{w:02X}", "Data"), {"rate": Fraction(10**6)}),
    "start and increment": (form("{n},{va},{vb}", "X,CH1,CH2,Start,Increment", "Sequence,Volt,Volt,-4.0e-06,1.0e-06"), {}),
    "start and increment, cells kept": (
        form("{n},{va},{vb},,", "X,CH1,CH2,Start,Increment", "Sequence,Volt,Volt,-4e-06,1e-06"),
        {},
    ),
    "numbered samples": (form("{n},{a},{b}", "Sample,SCL,SDA"), {"rate": Fraction(10**6)}),
    "numbered samples, no names": (form("{n},{a},{b}"), {"rate": Fraction(10**6)}),
    "pairs": (form("{s},{va},{s},{vb}", "Time,CH1,Time,CH2", "s,V,s,V"), {}),
    "pairs of levels": (form("{s},{a},{s},{b}", "Time1,SCL,Time2,SDA"), {}),
    "caption": (form("{s},{a},{b}", "Waveform Data,,"), {}),
    "caption over names": (form("{s},{a},{b}", "Time,SCL,SDA", "Waveform Data,,"), {}),
    "channels": (form("{s},{a},{b}", "# Channels: SCL, SDA"), {}),
    "channels with the time": (form("{s};{a};{b}", "; channels = time, SCL, SDA"), {}),
    "footer": (form("{s},{a},{b}", "Time,SCL,SDA", tail="\nEnd of data\n8 rows,,\n"), {}),
    "footer without end": (form("{s},{a},{b}", "Time,SCL,SDA", tail="# exported"), {}),
    "rule below": (form("| {s} | {a} | {b} |", "+----+", "| t | SCL | SDA |", "+----+", tail="+----+\n"), {}),
}


class Forms(unittest.TestCase):
    def test_each_form_says_the_same(self) -> None:
        for name, (data, options) in FORMS.items():
            with self.subTest(name):
                PATH.write_bytes(data)
                trace = read_capture(PATH, **options)
                self.assertEqual(levels_of(trace), LEVELS)
                self.assertFalse([note for note in trace.notes if "cut" in note.code])
                self.assertAlmostEqual(float(trace.tick * (trace.end - 1 - trace.start)), 7e-6, delta=1e-9)

    def test_names(self) -> None:
        names = {
            "start and increment": ("CH1", "CH2"),
            "start and increment, cells kept": ("CH1", "CH2"),
            "hexadecimal": tuple("01234567"),
            "binary with a mark": ("D0", "D1", "D2", "D3"),
            "channels": ("SCL", "SDA"),
            "channels with the time": ("SCL", "SDA"),
            "caption over names": ("SCL", "SDA"),
            "pairs of levels": ("SCL", "SDA"),
            "date and clock with a space": ("SCL", "SDA"),
            "a drawn table": ("SCL", "SDA"),
        }
        for name, meant in names.items():
            data, options = FORMS[name]
            PATH.write_bytes(data)
            self.assertEqual(read_capture(PATH, **options).names, meant, name)

    def test_gaps_of_sample_numbers_are_time(self) -> None:
        PATH.write_bytes(form("{m},{a},{b}", "Sample,SCL,SDA"))
        trace = read_capture(PATH, rate=Fraction(3 * 10**6))
        self.assertEqual(levels_of(trace), LEVELS)
        self.assertEqual(trace.start, 100)
        with self.assertRaisesRegex(HushedError, "no sample interval"):
            read_capture(PATH)

    def test_start_is_the_time_of_the_first_sample(self) -> None:
        PATH.write_bytes(FORMS["start and increment"][0])
        trace = read_capture(PATH)
        self.assertEqual((trace.start * trace.tick, trace.tick, trace.sample), (Fraction(-4, 10**6), Fraction(1, 10**6), 1))

    def test_pairs_that_are_apart(self) -> None:
        """Each line has its own times: an interleaved recording, and the second line ends earlier."""
        rows = [f"{k}e-7,{3.3 * (k // 40 % 2)},{k + 0.5}e-7,{3.3 * ((k + 20) // 40 % 2)}" for k in range(200)]
        rows += [f"{k}e-7,0,," for k in range(200, 220)]
        PATH.write_text("Time,CH1,Time,CH2\ns,V,s,V\n" + "\n".join(rows) + "\n")
        trace = read_capture(PATH)
        self.assertEqual(trace.names, ("CH1", "CH2"))
        at = [float(trace.seconds(t)) * 1e7 for t in trace.edges(1).times[1:-1].tolist()]
        for found, meant in zip(at, (20, 60, 100, 140, 180), strict=True):
            self.assertLess(abs(found - meant - 0.5), 1.01)
        self.assertEqual(trace.edges(1).level[-1], 2)  # unknown from there on

    def test_beyond_range_is_unknown(self) -> None:
        for mark in ("OL", "inf", "-Infinity", "Overload", "1e999"):
            data = FORMS["pairs"][0].replace(b"3.22", mark.encode(), 1)
            self.assertIn(mark.encode(), data)
            PATH.write_bytes(data)
            trace = read_capture(PATH)
            self.assertEqual(trace.level_at(0, np.array([trace.start])).tolist(), [2], mark)
            told = program("lines", str(PATH))
            self.assertEqual(told.returncode, 0, told.stderr)

    def test_rounded_times_repeat(self) -> None:
        """1.25 MHz with times to the microsecond: five samples have four times, at a steady count."""
        for per, places in ((Fraction(1, 4), 6), (Fraction(4, 5), 6), (Fraction(1, 50), 5)):
            step = per * Fraction(10) ** -places
            times = [f"{round(k * per) * 10.0**-places:.{places}f}" for k in range(4000)]
            volts = [f"{0.1 + 3.1 * (k // 25 % 2):.2f}" for k in range(4000)]
            PATH.write_text("Time,CH1\ns,V\n" + "".join(f"{t},{v}\n" for t, v in zip(times, volts, strict=True)))
            source = open_capture(PATH)
            trace = source.read()
            self.assertLess(abs(trace.tick / step - 1), Fraction(1, 900))
            self.assertEqual(np.diff(trace.edges(0).times)[1:-1].tolist(), [25] * 157)

    def test_times_that_repeat_at_no_steady_count(self) -> None:
        rows = [f"{k // 3 + k // 7 * 0.5:.1f},{3.3 * (k // 50 % 2):.1f},{3.3 * (k // 20 % 2):.1f}" for k in range(900)]
        PATH.write_text("t (us),SDA (V),SCL (V)\n" + "\n".join(rows) + "\n")
        done = program("lines", str(PATH))
        self.assertIn(b"have the time of the row before", done.stdout + done.stderr)
        judged = program("diagnose", str(PATH))
        self.assertIn(judged.returncode, (0, 1), judged.stderr)
        self.assertNotIn(b"DLASCL", judged.stdout + judged.stderr)

    def test_what_is_not_understood_names_the_nearest_form(self) -> None:
        for data, said, helps in (
            (b"0.0 1 0\n0.1 1 1\n", "set apart by spaces", "tr -s"),
            (b"time,level\n0.1,up\n0.2,down\n", "'up'", "remove that column"),
            (b"a letter\nfrom somebody\n", "no row holds numbers", "Time,SCL,SDA"),
            (bytes(range(256)) * 20, "bytes, not text", "--raw 1 --rate"),
        ):
            PATH.write_bytes(data)
            done = program("lines", str(PATH))
            self.assertEqual(done.returncode, 2)
            for word in (said, helps):
                self.assertIn(word, done.stderr.decode())


class Wrapped(unittest.TestCase):
    """What is around a capture: gzip, comments, odd names."""

    def test_members_and_damage(self) -> None:
        rows = [f"{k}e-6,{k // 4 % 2},{k // 2 % 2}\n" for k in range(20000)]
        text = ["Time,SCL,SDA\n", *rows]
        halves = [gzip.compress("".join(part).encode()) for part in (text[:9000], text[9000:])]
        packed = FOLDER / "two.csv.gz"
        packed.write_bytes(b"".join(halves))
        self.assertEqual(read_capture(packed).end, 20000)
        for damaged in (
            halves[0] + halves[1][:-200],
            halves[0] + halves[1][:4000] + b"\xff" * 40 + halves[1][4040:],
            halves[0] + b"rest",
        ):
            packed.write_bytes(damaged)
            trace = read_capture(packed)
            self.assertGreaterEqual(trace.end, 8999 - 1)
            self.assertEqual([note.code for note in trace.notes], ["capture.cut-short"])

    def test_a_comment_that_nobody_closed(self) -> None:
        path = FOLDER / "open.vcd"
        path.write_text(
            "$comment made by hand\n$timescale 10 us $end\n$var wire 1 ! SCL $end\n$enddefinitions $end\n#0\n0!\n#5\n1!\n#9\n"
        )
        trace = read_capture(path)
        self.assertEqual((trace.names, trace.tick), (("SCL",), Fraction(1, 10**5)))
        self.assertIn("$comment", " ".join(note.text for note in trace.notes))

    def test_names_survive_or_are_refused(self) -> None:
        for names in (
            ("a b", "SDA"),
            ("Pegel ü", "SDA"),
            (" ", "SDA"),
            ("a\0b", "SDA"),
            ("", "SDA"),
            ('say "so"', "a,b"),
            ("new\nline", "SDA"),
            ("a_b", "a b"),
        ):
            as_text = names[0].replace("\0", "_").replace("\n", "_").strip() or "line0"
            trace = Trace(names, np.array([0, 3]), np.array([0, 3], np.uint8), 5, Fraction(1, 10**6))
            for ending in ("csv", "vcd", "npz"):
                path = FOLDER / f"names.{ending}"
                with self.subTest(names=names, ending=ending):
                    write_capture(path, trace)
                    again = read_capture(path).names
                    self.assertIn(again[1], (names[1], "a_b_2"))
                    meant = (names[0],) if ending == "npz" else (as_text, "_".join(as_text.split()))
                    self.assertIn(again[0], meant)
                    self.assertEqual(len(set(read_capture(path).names)), 2)


if __name__ == "__main__":
    unittest.main()
