"""What people see: labels that never overlap, pictures in text that are the pixels, tables that line up."""

import io
import re
import unittest
from dataclasses import replace
from fractions import Fraction
from itertools import combinations, pairwise
from unittest import mock

import numpy as np
import quantiphy
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from hushed_wire.errors import HushedError
from hushed_wire.part import load
from hushed_wire.part.glass import ColourGlass
from hushed_wire.picture.shown import shown_png
from hushed_wire.rig import Options, Reading, assume, decode, load_rig
from hushed_wire.trace import Trace, read_capture
from hushed_wire.units import parse, show, show_time, time_column
from hushed_wire.view import overview
from hushed_wire.view.figure import _fitting, _minutes, plot
from hushed_wire.view.fold import folded
from hushed_wire.view.glass import braille, half_blocks, rows_of_text
from hushed_wire.view.scene import DATA, REFUSED, Boxes, Scene, scene_of
from support import acked, demo, i2c_trace, program


def reading(name: str = "healthy.vcd") -> Reading:
    return decode(read_capture(demo() / name), load_rig(demo() / "front-desk.toml"))


class Quantities(unittest.TestCase):
    @given(
        st.floats(-1e15, 1e15) | st.floats(-1e-9, 1e-9) | st.integers(-(10**7), 10**7).map(float),
        st.sampled_from(["s", "Hz", "V", "Ohm"]),
        st.integers(1, 6),
    )
    @settings(deadline=None, max_examples=500)
    def test_what_is_written_without_the_package_is_what_it_writes(self, value: float, unit: str, digits: int) -> None:
        with quantiphy.Quantity.prefs(prec=digits - 1, map_sf=quantiphy.Quantity.map_sf_to_greek, minus="-"):
            written = str(quantiphy.Quantity(value, unit))
        if unit != "s" or abs(value) < 120:
            self.assertEqual(show(value, unit, digits), written)


class Figures(unittest.TestCase):
    def labels(self, source: Reading, low: float, high: float) -> list[list[tuple[float, float, float, float, str]]]:
        """Boxes of the labels of each lane, in pixels, as they are drawn."""
        from matplotlib import pyplot

        with mock.patch("matplotlib.pyplot.close"):
            plot(scene_of(source), "x", (low, high))
            figure = pyplot.gcf()
        renderer = figure.canvas.get_renderer()  # type: ignore[attr-defined]
        out = []
        for axis in figure.axes[:2]:
            boxes = [(text, text.get_window_extent(renderer)) for text in axis.texts]
            frame = axis.get_window_extent(renderer)
            for text, box in boxes:
                self.assertGreaterEqual(box.x0, frame.x0 - 1, text.get_text())
                self.assertLessEqual(box.x1, frame.x1 + 1, text.get_text())
            out.append([(b.x0, b.x1, b.y0, b.y1, t.get_text()) for t, b in boxes])
        pyplot.close(figure)
        return out

    def test_commands_and_addresses_of_every_bus_can_be_read(self) -> None:
        for place in ("pump-room", "engine-room", "handheld", "wheelhouse", "gate-keeper"):
            rig = load_rig(demo() / f"{place}.toml")
            if not (demo() / f"{place}.vcd").exists():
                program("rehearse", f"{place}.hush", "--rig", f"{place}.toml", "-o", f"{place}.vcd")
            heard = decode(read_capture(demo() / f"{place}.vcd"), rig)
            scene = scene_of(heard)
            commands = scene.lanes[0]
            self.assertGreater(len(commands.start), 5)
            self.assertTrue((commands.end > commands.start).all(), place)
            chips = max(len(device.chips) for device in heard.devices)
            if chips == 1:  # chips that are told one thing together have boxes at one place
                self.assertTrue((commands.end[:-1] <= commands.start[1:] + 1e-12).all(), place)
            lane = scene.lanes[1]
            if place == "pump-room":
                self.assertEqual([lane.label(k)[0] for k in range(4)], ["23 write A", "38 A", "23 write A", "3C A"])
                self.assertNotIn(REFUSED, lane.fill)

    def test_labels_never_overlap_at_any_zoom(self) -> None:
        source = reading()
        begin, end = 0.0, source.trace.seconds(source.trace.end)
        shown = 0
        for step in range(12):
            span = (end - begin) / 2.4**step
            for place in (0.0002, 0.0015, 0.0305, 0.0400):
                if place + span > end and step:
                    continue
                for lane in self.labels(source, place if step else begin, place + span if step else end):
                    shown += len(lane)
                    for a, b in combinations(lane, 2):
                        apart = a[1] <= b[0] + 0.5 or b[1] <= a[0] + 0.5 or a[3] <= b[2] or b[3] <= a[2]
                        self.assertTrue(apart, (a, b, span))
        self.assertGreater(shown, 200)

    def test_a_byte_is_named_and_a_whole_frame_is_counted(self) -> None:
        source = reading()
        first = source.channels[0].words
        low, high = (source.trace.seconds(int(edge)) for edge in (first.start[2], first.end[2]))
        commands, words = self.labels(source, low, high)
        self.assertEqual(([text for *_, text in commands], [text for *_, text in words]), (["display off"], ["AE A"]))
        _, words = self.labels(source, 0.0, source.trace.seconds(source.trace.end))
        self.assertTrue(all(re.fullmatch(r"[\d,]+ words", text) for *_, text in words) and words)

    def test_names_that_do_not_fit_are_numbered_and_listed(self) -> None:
        from matplotlib import pyplot

        source = decode(read_capture(demo() / "pump-room.vcd"), load_rig(demo() / "pump-room.toml"))
        with mock.patch("matplotlib.pyplot.close"):
            plot(scene_of(source), "x", (0.0, source.trace.seconds(source.trace.end)))
            figure = pyplot.gcf()
        numbers = {text.get_text() for text in figure.axes[0].texts if text.get_text().isdecimal()}
        below = next(text.get_text() for text in figure.texts if "function-set" in text.get_text())
        listed = dict(re.findall(r"(?:^|  )(\d+) (\S.*?)(?=  |$)", below, re.MULTILINE))
        self.assertEqual(set(listed), numbers)
        self.assertIn("function-set width=4 lines=2 font=5x8", listed.values())
        renderer = figure.canvas.get_renderer()
        lowest_axis = next(axis for axis in figure.axes if axis.get_xlabel())
        lowest = lowest_axis.xaxis.label.get_window_extent(renderer).y0
        legend = next(text for text in figure.texts if text.get_text() == below).get_window_extent(renderer)
        self.assertLess(legend.y1, lowest)
        self.assertGreaterEqual(legend.y0, 0)
        self.assertLessEqual(legend.x1, 1280)

    @given(st.lists(st.integers(1, 9) | st.sampled_from([5000, 80_000]), min_size=8, max_size=60), st.integers(0, 10**6))
    @settings(deadline=None, max_examples=60)
    def test_folds_leave_out_rests_alone(self, steps: list[int], begin: int) -> None:
        times = np.cumsum(np.array([begin, *steps]))
        trace = Trace(("a",), times, (np.arange(len(times)) % 2).astype(np.uint8), int(times[-1]) + 9, Fraction(1, 10**6))
        scene = Scene(trace, [], {0: "a"}, "", "")
        window = trace.seconds(trace.start), trace.seconds(trace.end)
        found = folded(scene, window)
        if found is None:
            return
        drawn, folds = found
        self.assertEqual(len(drawn.trace.times), len(times))
        self.assertTrue((np.diff(drawn.trace.times) >= 0).all())
        for at in (*window, *np.linspace(*window, 17)):
            self.assertAlmostEqual(folds.back(float(folds.to(np.array([at]))[0])), at, 9)
        rests = [(folds.back(a), folds.back(b)) for a, b in folds.rests.tolist()]
        for (a, b), lasts in zip(rests, folds.lasts.tolist(), strict=True):
            self.assertAlmostEqual(b - a, lasts, 9)
            inside = (times * 1e-6 > a + 1e-9) & (times * 1e-6 < b - 1e-9)
            self.assertFalse(inside.any(), "nothing moves in what is left out")
        kept = sum(b - a for a, b in folds.stretches)
        self.assertAlmostEqual(kept + folds.lasts.sum(), window[1] - window[0], 9)

    def test_a_rehearsal_draws_what_it_made(self) -> None:
        done = program("rehearse", "tide.hush", "--rig", "front-desk.toml", "-o", "drawn.vcd", "--picture", "drawn.png")
        self.assertEqual((done.returncode, (demo() / "drawn.png").read_bytes()[:4]), (0, b"\x89PNG"), done.stderr)
        done = program("rehearse", "tide.hush", "--rig", "front-desk.toml", "-o", "undrawn.vcd", "--picture", "drawn.txt")
        self.assertEqual((done.returncode, (demo() / "undrawn.vcd").exists()), (2, False))

    def test_a_folded_figure_tells_true_times(self) -> None:
        from matplotlib import pyplot

        source = decode(read_capture(demo() / "pump-room.vcd"), load_rig(demo() / "pump-room.toml"))
        with mock.patch("matplotlib.pyplot.close"):
            plot(scene_of(source), "x", (0.0, 0.06), fold=True)
            figure = pyplot.gcf()
        below = next(axis for axis in figure.axes if axis.get_xlabel())
        ticks = [text.get_text() for text in below.get_xticklabels()]
        self.assertIn("46 ms", ticks)
        self.assertEqual({"40 ms", "3.96 ms", "3.49 ms"} - {text.get_text() for text in figure.axes[0].texts}, set())
        refused = program("plot", "healthy-volts.csv.gz", "--fold", "-o", "x.png")
        self.assertEqual((refused.returncode, b"volts" in refused.stderr), (2, True))

    def test_the_lines_that_are_asked_for_are_drawn_in_their_order(self) -> None:
        done = program(
            "plot", "engine-room.vcd", "--only", "E", "--only", "select=RS", "--from", "0.9ms", "--to", "1ms", "-o", "some.svg"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn(b"2 lines", done.stderr)
        drawn = re.findall(r"<!-- (\w+)(?: \(\w+\))? -->", (demo() / "some.svg").read_text())
        named = [name for name in drawn if name in ("E", "select", "RS", "D0", "words", "commands")]
        self.assertEqual(named, ["commands", "words", "E", "select"])
        self.assertEqual(program("plot", "engine-room.vcd", "--only", "Q", "-o", "never.png").returncode, 2)

    def test_names_are_cut_rather_than_left_out(self) -> None:
        self.assertEqual(_fitting(("temperature 0", "temperature\n0", "temperature"), 50, 76), ("tempera…", True))
        self.assertEqual(_fitting(("temperature",), 10, 76), ("", False))
        self.assertEqual(_fitting(("00",), 12, 76), ("", False))

    def test_many_lines_and_odd_windows_are_drawn(self) -> None:
        trace = i2c_trace([acked(0x7A, 0x00, 0xAF)] * 3)
        names = ("SCL", "SDA", *(f"L{k}" for k in range(30)))
        wide = replace(trace, names=names, levels=trace.levels.astype(np.uint32))
        wide.levels[5::7] |= 1 << 20
        source = decode(wide, assume(wide, Options()).rig)
        whole = source.trace.seconds(source.trace.end)
        for window in ((0.0, whole), (whole * 0.5, whole * 0.5 + 2e-9), (whole * 0.99, whole * 5), (-1.0, whole)):
            self.assertEqual(plot(scene_of(source), "x", window)[:4], b"\x89PNG")


class Overview(unittest.TestCase):
    @given(st.lists(st.tuples(st.integers(0, 90), st.integers(0, 12), st.booleans()), max_size=12))
    def test_a_column_is_as_full_as_what_lies_in_it(self, drawn: list[tuple[int, int, bool]]) -> None:
        drawn = sorted(drawn)
        start = np.array([float(at) for at, _, _ in drawn])
        end = np.array([float(at + lasts) for at, lasts, _ in drawn])
        boxes = Boxes(start, end, np.full(len(drawn), DATA), lambda _: ("",), "words", "words", 1.0)
        which = np.array([own for _, _, own in drawn], bool)
        columns = np.linspace(0, 102, 35)
        share = overview._share(boxes, which, columns)
        for k, (low, high) in enumerate(pairwise(columns.tolist())):
            fine = np.arange(low, high, 0.125) + 0.0625
            full = sum(any(own and at <= x < at + lasts for at, lasts, own in drawn) for x in fine.tolist()) / len(fine)
            begins = any(own and low <= at < high for at, _, own in drawn)
            self.assertAlmostEqual(float(share[k]), max(full, 0.01 * begins), delta=0.05)

    def test_whatever_is_there_can_be_seen_however_long_the_capture_is(self) -> None:
        from matplotlib.figure import Figure

        scene = scene_of(reading("refused.vcd"))
        lanes = [replace(lane, start=np.asarray(lane.start) * 1e5, end=np.asarray(lane.end) * 1e5) for lane in scene.lanes]
        trace = replace(scene.trace, tick=scene.trace.tick * 10**5)
        span = trace.seconds(trace.start), trace.seconds(trace.end)
        scene = replace(scene, trace=trace, lanes=lanes, span=span, spans=[(1.0, 2.0, "#d6322c"), (30.0, 31.0, "#d9a400")])
        self.assertTrue(overview.wanted(scene, (0.0, 1.0), 1000))
        axis = Figure().add_axes((0, 0, 1, 1))
        overview.draw(axis, scene, (10.0, 10.5), 1000)
        image = np.asarray(axis.images[0].get_array())
        self.assertEqual(image.shape, (2, 1000, 4))
        wrong = np.abs(image[..., :3] - np.array([0xD6, 0x32, 0x2C]) / 255).max(axis=2) < 0.01
        naks = sum(int((lane.fill == REFUSED).sum()) for lane in lanes)
        self.assertGreater(naks, 0)
        self.assertGreaterEqual(int(wrong[0].sum()), 3)
        marks = [line.get_xdata()[0] for line in axis.lines]
        self.assertEqual(sorted(marks), [1.0, 30.0])
        frame = axis.patches[-1]
        self.assertGreaterEqual(frame.get_width() * 1000, 4 * 0.999 * trace.duration)
        self.assertLessEqual(frame.get_x(), 10.0)

    def test_a_short_capture_needs_none(self) -> None:
        scene = scene_of(reading())
        few = replace(
            scene, lanes=[replace(lane, start=lane.start[:20], end=lane.end[:20], fill=lane.fill[:20]) for lane in scene.lanes]
        )
        whole = scene.trace.seconds(scene.trace.start), scene.trace.seconds(scene.trace.end)
        self.assertFalse(overview.wanted(few, whole, 1000))
        self.assertTrue(overview.wanted(few, (0.0, whole[1] / 10), 1000))

    def test_long_captures_are_told_in_minutes(self) -> None:
        for low, high, least in ((0.0, 4581.0, 5), (100.0, 400.0, 5), (0.0, 86400.0 * 20, 3)):
            marks = _minutes(low, high)
            self.assertTrue(least <= len(marks) <= 13, (low, high, marks))
            self.assertEqual([at for at in marks if at % 10], [])


class Glass(unittest.TestCase):
    @given(st.integers(1, 70), st.integers(1, 140), st.integers(0, 2**32 - 1))
    @settings(deadline=None, max_examples=40)
    def test_blocks_and_dots_are_the_pixels(self, height: int, width: int, seed: int) -> None:
        lit = np.random.default_rng(seed).random((height, width)) < 0.5
        for number, line in enumerate(half_blocks(lit)):
            for column, char in enumerate(line):
                self.assertEqual(char in "▀█", bool(lit[2 * number, column]))
                below = 2 * number + 1 < height and bool(lit[2 * number + 1, column])
                self.assertEqual(char in "▄█", below)
        dots = [(0, 0), (1, 0), (2, 0), (0, 1), (1, 1), (2, 1), (3, 0), (3, 1)]  # by the bits of a braille character
        back = np.zeros((-(-height // 4) * 4, -(-width // 2) * 2), bool)
        for row, line in enumerate(braille(lit)):
            for column, char in enumerate(line):
                for bit, (y, x) in enumerate(dots):
                    back[4 * row + y, 2 * column + x] = ord(char) - 0x2800 >> bit & 1
        self.assertTrue((back[:height, :width] == lit).all() and back.sum() == lit.sum())
        self.assertEqual(rows_of_text(lit, 400, unicode=False)[0][0], "".join("#" if pixel else "." for pixel in lit[0]))

    def test_a_round_glass_has_no_corners(self) -> None:
        part = load("gc9a01")
        for panel, corner in ((part.panel("240x240"), False), (load("st7789").panel("240x240"), True)):
            glass = ColourGlass(np.full((240, 240, 3), 255, np.uint8), np.ones((240, 240), bool), True)
            shown = np.asarray(Image.open(io.BytesIO(shown_png(glass, panel))).convert("L"))
            self.assertEqual((bool(shown[20, 20] == 255), int(shown[shown.shape[0] // 2, 20])), (corner, 255))

    def test_a_narrow_terminal_gets_dots(self) -> None:
        lit = np.zeros((64, 128), bool)
        self.assertEqual(
            [(len(rows), len(rows[0])) for rows, _ in (rows_of_text(lit, room) for room in (140, 100))], [(32, 128), (16, 64)]
        )


class Words(unittest.TestCase):
    @given(st.floats(1e-12, 1e9), st.sampled_from(["s", "Hz", "V", "Ohm", "F", "A"]))
    def test_quantities_that_are_shown_can_be_read(self, value: float, unit: str) -> None:
        back = parse(show(value, unit, 9).replace(" ", ""), unit)
        self.assertLess(abs(float(back) / value - 1), 1e-6)

    def test_exact_quantities(self) -> None:
        for text, unit, value in (
            ("50ns", "s", Fraction(1, 2 * 10**7)),
            ("24MHz", "Hz", Fraction(24 * 10**6)),
            ("4.7kΩ", "Ohm", Fraction(4700)),
            ("0.1us", "s", Fraction(1, 10**7)),
        ):
            self.assertEqual(parse(text, unit), value)

    def test_times_line_up_and_tell_neighbours_apart(self) -> None:
        column = time_column([0.0002, 0.0250001, 0.0250002], 1e-7)
        self.assertEqual(column, ["0.2000 ms", "25.0001 ms", "25.0002 ms"])
        self.assertEqual([show_time(t) for t in (0.0, 1.5, 2e-6, -0.0031)], ["0 s", "1.5 s", "2 µs", "-3.1 ms"])
        long = {
            2400.7: "40 min 0.7 s",
            7503.0: "2 h 5 min 3 s",
            -150.25: "-2 min 30.25 s",
            119.9: "119.9 s",
            3599.9999: "1 h",
            3600.0: "1 h",
        }
        self.assertEqual({value: show_time(value) for value in long}, long)
        self.assertEqual(show(2400.7, "s"), "40 min 0.7 s")
        read = {"24min": 1440, "-2 min 30.25 s": "-150.25", "1 h 3 min": 3780, "40min0.7s": "2400.7", "2h": 7200}
        for text, value in read.items():
            self.assertEqual(parse(text, "s"), Fraction(value))
        with self.assertRaises(HushedError):
            parse("24min", "Hz")

    def test_tables_of_the_listing_line_up(self) -> None:
        lines = program("decode", "healthy.vcd", "--rig", "front-desk.toml").stdout.decode().splitlines()
        head = next(line for line in lines if "meaning" in line)
        at = head.index("meaning")
        rows, legend = lines[lines.index(head) + 1 : -1], lines[-1]
        self.assertEqual(legend, "S START   P STOP")
        self.assertEqual(len(rows), 22)
        self.assertTrue(all(row[at - 2 : at] == "  " and row[at] != " " for row in rows))
        long = program("decode", "held-low.vcd", "--line", "scl=SCL", "--line", "sda=SDA").stdout.decode()
        self.assertIn("No transaction was seen.", long)
