"""Memory layouts: every one there and back, against byte orders written out by hand, and the drawing commands' own words."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from hushed_wire.errors import HushedError
from hushed_wire.part.catalogs import catalog_names, load
from hushed_wire.part.layout import DEPTHS, Layout, layout_of
from hushed_wire.picture import layout as layouts


@st.composite
def arrangements(draw: st.DrawFn) -> tuple[Layout, tuple[int, int]]:
    """A legal layout and a picture's (height, width) for it."""
    colours = draw(st.sampled_from(list(DEPTHS)))
    words: dict[str, Any] = {"colours": colours, "bits": draw(st.sampled_from(DEPTHS[colours]))}
    for key, options in {
        "stand": ("flat", "upright"), "first": ("high", "low"), "runs": ("rows", "columns"), "bytes": ("high-first", "low-first"),
        "spare": ("after", "before"), "padding": (0, 1), "invert": (False, True), "turn": (0, 90, 180, 270), "mirror": (False, True),
    }.items():  # fmt: skip
        words[key] = draw(st.sampled_from(options))
    high, wide = draw(st.integers(1, 21)), draw(st.integers(1, 21))
    if draw(st.booleans()):
        tall, broad = draw(st.integers(1, 9)), draw(st.integers(1, 9))
        high, wide = tall * draw(st.integers(1, 4)), broad * draw(st.integers(1, 4))
        words["module"] = f"{broad}x{tall}"
        for key, options in {
            "start": ("top-left", "top-right", "bottom-left", "bottom-right"), "chain": ("rows", "columns"),
            "serpentine": ("no", "plain", "turned"), "module_turn": (0, 90, 180, 270), "join": ("below", "beside"),
        }.items():  # fmt: skip
            words[key] = draw(st.sampled_from(options))
    elif draw(st.booleans()):
        words["scan"] = draw(st.sampled_from((1, 2, 4, 8)))
        words["scan_run"] = draw(st.sampled_from((0, 1, 4, 8)))
        words["scan_first"] = draw(st.sampled_from(("top", "bottom")))
        high, wide = words["scan"] * draw(st.integers(1, 4)), 8 * draw(st.integers(1, 3))
    if words["turn"] % 180:
        high, wide = wide, high
    if "module" not in words and "scan" not in words and draw(st.booleans()):
        words["left"], words["top"] = draw(st.integers(0, 5)), draw(st.integers(0, 5))
        tall, broad = (wide, high) if words["turn"] % 180 else (high, wide)
        words["frame"] = f"{broad + words['left'] + draw(st.integers(0, 3))}x{tall + words['top'] + draw(st.integers(0, 3))}"
    if draw(st.booleans()):
        words["stride"] = 700
    return Layout(**words).check("test"), (high, wide)


class Layouts(unittest.TestCase):
    @settings(max_examples=300)
    @given(arrangements(), st.data())
    def test_every_layout_there_and_back(self, known: tuple[Layout, tuple[int, int]], data: st.DataObject) -> None:
        layout, (high, wide) = known
        grey = layout.colours == "grey"
        top = 255 if not grey else (1 << layout.bits) - 1
        pixels = data.draw(hnp.arrays(np.uint8, (high, wide) if grey else (high, wide, 3), elements=st.integers(0, top)))
        if layout.bits == 1:
            pixels = pixels.astype(bool)
        raw = layouts.pack(pixels, layout)
        self.assertEqual(len(raw), layouts.length_of(layout, high, wide))
        back = layouts.unpack(raw, layout, high, wide)
        self.assertEqual(back.shape, pixels.shape)
        if grey or layout.bits == 24:
            np.testing.assert_array_equal(back, pixels)
        self.assertEqual(layouts.pack(back, layout), raw)
        self.assertLessEqual(
            int(np.abs(back.astype(int) - pixels).max()), {8: 85, 12: 17, 16: 8, 18: 4}.get(layout.bits, 0) * (not grey)
        )
        self.assertTrue(layouts.in_words(layout, high, wide).endswith(f"{len(raw)} bytes"))
        if (layout.bits, layout.colours) not in ((12, "rgb"), (12, "bgr")):  # where two pixels share a byte neither owns it
            owner = layouts.byte_map(layout, high, wide)
            changed = pixels.copy()
            y, x = data.draw(st.integers(0, high - 1)), data.draw(st.integers(0, wide - 1))
            changed[y, x] = ~changed[y, x] if pixels.dtype == bool or not grey else top - changed[y, x]
            differ = np.flatnonzero(np.frombuffer(layouts.pack(changed, layout), np.uint8) != np.frombuffer(raw, np.uint8))
            each = max(1, layout.bits // 8) if layout.bits != 18 else 3
            self.assertTrue(all(owner[y, x] <= at < owner[y, x] + each for at in differ.tolist()), (owner[y, x], differ))

    def test_byte_orders_as_datasheets_draw_them(self) -> None:
        """Each against bytes worked out by hand: one lit pixel, and where it has to be."""
        one = np.zeros((16, 16), bool)
        one[9, 2] = True  # row 9, column 2
        for words, at, value in (
            ("stand=upright first=low", 16 + 2, 0x02),  # page 1, D1: SSD1306 8.7, PCD8544 7.7
            ("stand=upright first=low runs=columns", 2 * 2 + 1, 0x02),  # vertical addressing
            ("stand=upright first=high", 16 + 2, 0x40),
            ("stand=flat first=high", 9 * 2, 0x20),  # as in a PBM file
            ("stand=flat first=low", 9 * 2, 0x04),
            ("stand=flat first=high turn=90", 2 * 2, 0x02),  # row 2, column 15 - 9 = 6
            ("stand=flat first=high mirror=yes", 9 * 2 + 1, 0x04),  # column 13
            ("stand=flat first=high module=8x8", 16 + 1, 0x20),  # the third module, its row 1
            ("stand=flat first=high module=8x8 serpentine=plain", 24 + 1, 0x20),  # below runs back: it is the fourth
            ("stand=flat first=high module=8x8 serpentine=turned", 24 + 6, 0x04),
            ("stand=flat first=high module=8x8 chain=columns", 8 + 1, 0x20),
            # rows 1, 5, 9, 13 go out together, lowest first, eight columns of each: row 9 is the second of group 1
            ("stand=flat first=high scan=4 scan_run=8 scan_first=bottom", 8 + 1, 0x20),
            ("frame=24x16 left=4 stand=flat first=high", 9 * 3, 0x02),
        ):
            raw = np.frombuffer(layouts.pack(one, layout_of(words)), np.uint8)
            self.assertEqual([(int(k), int(raw[k])) for k in np.flatnonzero(raw)], [(at, value)], words)
        red = np.array([[[0xF8, 0x04, 0x08]]], np.uint8)
        for words, raw in (("bits=16 colours=rgb", "f821"), ("bits=16 colours=bgr", "083f"), ("bits=16 colours=rgb bytes=low-first", "21f8"),
                           ("bits=24 colours=bgr", "0804f8"), ("bits=18 colours=rgb", "f80408"), ("bits=8 colours=rgb", "e0"),
                           ("bits=12 colours=rgb", "f00000")):  # fmt: skip
            self.assertEqual(layouts.pack(red, layout_of(words)).hex(), raw, words)
        five = np.array([[1, 0, 0, 0, 1]], bool)
        self.assertEqual(layouts.pack(five, layouts.layout_for(load("hd44780"))), b"\x11")

    def test_every_part_with_pixels_names_its_own(self) -> None:
        for name in catalog_names():
            part = load(name)
            if part.memory.kind in ("paged", "pixel"):
                self.assertIsNotNone(part.memory.layout, name)
        with self.assertRaisesRegex(HushedError, "holds no pixels"):
            layouts.layout_for(load("pcf8574"))

    def test_what_makes_no_sense(self) -> None:
        for words, said in (("bits=3", "bits can be"), ("tall=3", "a layout has no 'tall'"), ("stand=lying", "nothing for stand"),
                            ("bits=16", "with colours=grey"), ("module=8", "no size for module"), ("stride=-1", "stride"),
                            ("first=low first=high", "twice"), ("module=8x8 start=middle", "top-left, top-right")):  # fmt: skip
            with self.assertRaisesRegex(HushedError, said):
                layout_of(words)
        picture = np.zeros((16, 20), bool)
        for words, said in (("module=8x8", "no whole modules"), ("scan=3", "do not divide"), ("stride=2", "stride of 2"),
                            ("frame=10x10", "do not fit"), ("left=2", "without a frame")):  # fmt: skip
            with self.assertRaisesRegex(HushedError, said):
                layouts.pack(picture, layout_of(words))
        with self.assertRaisesRegex(HushedError, "too few bytes: 3, where 16x8 pixels"):
            layouts.unpack(b"abc", Layout(), 8, 16)
