"""What sequences draw, seen on the glass by way of the parts' own words, against shapes worked out pixel by pixel here."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray
from PIL import Image

from hushed_wire.errors import HushedError
from hushed_wire.part import load
from hushed_wire.sequence import Target
from hushed_wire.sequence.start import start_text
from support import program_json, scratch
from test_catalog import lines, shown

FOLDER = scratch()
HANDHELD = Target("handheld", load("pcd8544"), load("pcd8544").panel("84x48"), "dc-line")
GATE = Target("gate", load("st7735"), load("st7735").panel("80x160"), "dc-line")
HIGH, WIDE = 48, 84
ROWS, COLUMNS = np.indices((HIGH, WIDE))


def drawn(*text: str, target: Target = HANDHELD) -> NDArray[np.uint8]:
    """What the glass shows: (height, width) of 0 and 1, or (height, width, 3)."""
    start = "\n".join(line for line in start_text(target).splitlines() if not line.startswith(("reset", "wait")))
    glass = shown(target, lines(target, f"{start}\nfill off\n" + "\n".join(text), FOLDER))
    return np.asarray(glass.rgb if hasattr(glass, "rgb") else glass.lit).astype(np.uint8)  # type: ignore[attr-defined]


def box(x: int, y: int, wide: int, high: int) -> NDArray[np.bool_]:
    out: NDArray[np.bool_] = (x <= COLUMNS) & (x + wide > COLUMNS) & (y <= ROWS) & (y + high > ROWS)
    return out


class Shapes(unittest.TestCase):
    @given(st.integers(-10, 80), st.integers(-10, 44), st.integers(1, 60), st.integers(1, 40), st.booleans())
    @settings(deadline=None, max_examples=40)
    def test_rectangles_are_their_pixels_wherever_they_are_cut(self, x: int, y: int, wide: int, high: int, filled: bool) -> None:
        whole = box(x, y, wide, high)
        edge = whole & ~box(x + 1, y + 1, wide - 2, high - 2)
        wanted = whole if filled else edge
        text = f"rectangle {x},{y} {wide}x{high}{' filled=yes' if filled else ''}"
        if not whole.any():  # not even its box lies on the panel
            with self.assertRaises(HushedError):
                drawn(text)
            return
        np.testing.assert_array_equal(drawn(text), wanted)

    @given(st.integers(0, 83), st.integers(0, 47), st.integers(0, 83), st.integers(0, 47))
    @settings(deadline=None, max_examples=40)
    def test_lines_go_from_end_to_end_without_a_gap(self, x0: int, y0: int, x1: int, y1: int) -> None:
        lit = drawn(f"line {x0},{y0} {x1},{y1}")
        self.assertEqual((lit[y0, x0], lit[y1, x1]), (1, 1))
        self.assertEqual(int(lit.sum()), max(abs(x1 - x0), abs(y1 - y0)) + 1)  # one pixel for each step of the longer way
        length = math.hypot(x1 - x0, y1 - y0) or 1.0
        away = np.abs((x1 - x0) * (ROWS - y0) - (y1 - y0) * (COLUMNS - x0)) / length
        self.assertLessEqual(float(away[lit == 1].max()), 0.75)

    @given(st.integers(10, 70), st.integers(10, 40), st.integers(0, 20), st.integers(0, 14))
    @settings(deadline=None, max_examples=40)
    def test_circles_keep_their_radii(self, x: int, y: int, rx: int, ry: int) -> None:
        lit = drawn(f"circle {x},{y} {rx}x{ry} filled=yes") == 1
        within = ((COLUMNS - x) / (rx + 0.5)) ** 2 + ((ROWS - y) / (ry + 0.5)) ** 2
        self.assertTrue(lit[within < 0.8].all())
        self.assertFalse(lit[within > 1.35].any())
        columns, rows = np.flatnonzero(lit.any(axis=0)), np.flatnonzero(lit.any(axis=1))
        self.assertEqual((int(columns[0]), int(rows[0])), (max(0, x - rx), max(0, y - ry)))
        self.assertEqual((int(columns[-1]), int(rows[-1])), (min(WIDE - 1, x + rx), min(HIGH - 1, y + ry)))
        ring = drawn(f"circle {x},{y} {rx}x{ry}") == 1
        self.assertFalse((ring & ~lit).any())

    @given(st.lists(st.tuples(st.integers(0, 83), st.integers(0, 47)), min_size=3, max_size=3, unique=True))
    @settings(deadline=None, max_examples=40)
    def test_triangles_are_full(self, corners: list[tuple[int, int]]) -> None:
        words = " ".join(f"{x},{y}" for x, y in corners)
        (ax, ay), (bx, by), (cx, cy) = corners
        sides = [(bx - ax) * (ROWS - ay) - (by - ay) * (COLUMNS - ax), (cx - bx) * (ROWS - by) - (cy - by) * (COLUMNS - bx),
                 (ax - cx) * (ROWS - cy) - (ay - cy) * (COLUMNS - cx)]  # fmt: skip
        inside = np.logical_or(np.all([side > 0 for side in sides], axis=0), np.all([side < 0 for side in sides], axis=0))
        lit = drawn(f"polygon {words} filled=yes") == 1
        self.assertTrue(lit[inside].all())
        self.assertTrue(all(lit[y, x] for x, y in corners))
        outline = drawn(f"polygon {words}") == 1
        self.assertFalse((outline & ~lit).any())
        self.assertEqual(int(lit.sum()), int((inside | outline).sum() + (lit & ~inside & ~outline).sum()))
        self.assertLessEqual(int((lit & ~inside & ~outline).sum()), 4)  # on a side itself, where rounding decides

    def test_turned_and_scaled_about_the_middle(self) -> None:
        upright, lying = drawn("rectangle 30,10 9x21 filled=yes"), drawn("rectangle 24,16 21x9 filled=yes")
        np.testing.assert_array_equal(drawn("rectangle 30,10 9x21 filled=yes turn=90"), lying)
        np.testing.assert_array_equal(drawn("rectangle 30,10 9x21 filled=yes turn=180"), upright)
        np.testing.assert_array_equal(drawn("rectangle 32,15 5x11 scale=2"), drawn("rectangle 30,10 9x21"))
        np.testing.assert_array_equal(drawn("circle 40,20 5 scale=2"), drawn("circle 40,20 10"))
        # A long ellipse turned by a quarter lies the other way; what is worked out point by point may differ by a pixel.
        quarter = drawn("circle 40,24 18x6 turn=90 filled=yes").astype(int)
        self.assertLess(int(np.abs(quarter - drawn("circle 40,24 6x18 filled=yes")).sum()), 30)
        slanted = drawn("rectangle 30,20 21x3 filled=yes turn=30")
        self.assertEqual((slanted[16, 33], slanted[26, 47], slanted[26, 33]), (1, 1, 0))  # clockwise: the left end goes up

    def test_colours_of_one_and_of_many(self) -> None:
        whole = box(0, 0, WIDE, HIGH)
        hole = drawn("fill on", "rectangle 10,10 20x10 filled=yes colour=off")
        np.testing.assert_array_equal(hole, whole & ~box(10, 10, 20, 10))
        twice = drawn(
            'text 3,3 "GATE"', "rectangle 0,0 40x20 filled=yes colour=invert", "rectangle 0,0 40x20 filled=yes colour=invert"
        )
        np.testing.assert_array_equal(twice, drawn('text 3,3 "GATE"'))
        thick = drawn("line 10,20 60,20 width=5")
        np.testing.assert_array_equal(thick[:, 30], drawn("rectangle 30,18 1x5")[:, 30])
        colour = drawn("rectangle 4,6 10x8 filled=yes colour=0x00F800", "point 1,1 2,3 colour=red", target=GATE)
        self.assertEqual(colour.shape, (160, 80, 3))
        self.assertEqual((colour[7, 5] > 200).tolist(), [False, True, False])
        self.assertEqual(((colour[1, 1] > 200).tolist(), (colour[3, 2] > 200).tolist()), ([True, False, False],) * 2)
        self.assertEqual(int((colour.max(axis=2) > 0).sum()), 82)
        words = drawn("fill blue", 'text 2,2 "I" colour=white ground=clear', target=GATE)
        self.assertEqual({tuple(pixel) for pixel in words.reshape(-1, 3).tolist()}, {(0, 0, 255), (255, 255, 255)})


class Sprites(unittest.TestCase):
    BOAT = np.array([[0, 1, 0, 0, 0], [0, 1, 1, 0, 0], [1, 1, 1, 1, 1], [0, 1, 1, 1, 0]], np.uint8)

    def setUp(self) -> None:
        rgba = np.zeros((*self.BOAT.shape, 4), np.uint8)
        rgba[self.BOAT == 1] = 255
        Image.fromarray(rgba, "RGBA").save(FOLDER / "boat.png")
        solid = rgba.copy()
        solid[..., 3] = 255
        Image.fromarray(solid, "RGBA").save(FOLDER / "solid.png")

    def at(self, lit: NDArray[np.uint8], x: int, y: int) -> NDArray[np.uint8]:
        out = np.zeros((HIGH, WIDE), np.uint8)
        out[y : y + lit.shape[0], x : x + lit.shape[1]] = lit
        return out

    def test_turned_scaled_and_mirrored(self) -> None:
        for options, lit in (
            ("", self.BOAT),
            ("mirror=yes", self.BOAT[:, ::-1]),
            ("turn=90", np.rot90(self.BOAT, -1)),
            ("turn=180", self.BOAT[::-1, ::-1]),
            ("scale=3", self.BOAT.repeat(3, axis=0).repeat(3, axis=1)),
            ("mirror=yes turn=270 scale=2", np.rot90(self.BOAT[:, ::-1], 1).repeat(2, axis=0).repeat(2, axis=1)),
        ):
            np.testing.assert_array_equal(drawn(f"sprite 20,10 boat.png {options}"), self.at(lit, 20, 10), options)

    def test_what_is_clear_leaves_what_is_there(self) -> None:
        under = box(20, 10, 5, 1).astype(np.uint8)
        np.testing.assert_array_equal(drawn("rectangle 20,10 5x1", "sprite 20,10 boat.png"), under | self.at(self.BOAT, 20, 10))
        np.testing.assert_array_equal(drawn("rectangle 20,10 5x1", "sprite 20,10 solid.png"), self.at(self.BOAT, 20, 10))
        kept = drawn("rectangle 20,10 5x1", "sprite 20,10 solid.png clear=black")
        np.testing.assert_array_equal(kept, under | self.at(self.BOAT, 20, 10))
        cut = drawn("sprite -2,-1 boat.png")
        np.testing.assert_array_equal(cut[:3, :3], self.BOAT[1:, 2:])
        self.assertEqual(int(cut.sum()), int(self.BOAT[1:, 2:].sum()))


class BadInput(unittest.TestCase):
    def test_one_clear_error_each(self) -> None:
        Image.new("RGBA", (4, 4)).save(FOLDER / "nothing.png")
        Sprites.setUp(Sprites())
        for line, said in (
            ("rectangle 1,1 4x4 filled=perhaps", "filled=perhaps"),
            ("rectangle 1,1 4x4 width=900", "width=900"),
            ("rectangle 1,1", "corner and a size"),
            ("rectangle 1,1 0x4", "is no size"),
            ("rectangle 1,1 4x4 scale=0", "scale=0"),
            ("rectangle 1,1 9000x9000", "far larger than any panel"),
            ("circle 1,1", "middle and a radius"),
            ("circle 9,9 -3", "is no radius"),
            ("circle 1,99999 3", "is no position"),
            ("line 0,0 9,9 turn=inf", "turn=inf"),
            ("line 0,0 9,9 colour=green", "colour=green"),
            ("sprite 1,1", "position and a file"),
            ("sprite 0,0 nothing.png", "draws no pixel"),
            ("sprite 0,0 boat.png scale=0.01", "would be 0x0 pixels"),
            ("sprite 0,0 boat.png mirror=2", "mirror=2"),
            ('text 0,0 "GATE" align=middle', "align=middle"),
            ('text 0,0 "GATE" colour=red', "colour=red"),
            ('text 0,0 "GATE" scale=99', "scale=99"),
        ):
            with self.assertRaises(HushedError, msg=line) as caught:
                drawn(line)
            self.assertIn(said, str(caught.exception), line)

    def test_the_listing_says_what_was_cut(self) -> None:
        (FOLDER / "cut.hush").write_text("rectangle -3,2 20x9\ncircle 40,20 4\n")
        out = program_json("build", str(FOLDER / "cut.hush"), "--part", "pcd8544")
        self.assertEqual(["cut at" in step["command"] for step in out["steps"]], [True, False])


if __name__ == "__main__":
    unittest.main()
