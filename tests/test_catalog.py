"""Every part of the catalog: its table, its datasheet's example, its ready bring-up down to the glass, and its language both ways."""

import re
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from hushed_wire.compiled import fast_form
from hushed_wire.errors import HushedError
from hushed_wire.part import catalog_names, commands, load, load_file
from hushed_wire.part.catalogs import SHIPPED
from hushed_wire.part.characters import ROMS, codes_of, shown_as
from hushed_wire.part.check import RESERVED, check, states
from hushed_wire.part.chips import model_for
from hushed_wire.part.framing import payload_of
from hushed_wire.part.mounting import as_mounted, as_seen
from hushed_wire.part.segments import character, segments_of
from hushed_wire.part.wrap import Send, unwrap
from hushed_wire.picture import image
from hushed_wire.picture.test_card import colour_card, test_card
from hushed_wire.sequence import Step, Target, expand, parse_text
from hushed_wire.sequence.examine import examine
from hushed_wire.sequence.expand import VERBS
from hushed_wire.sequence.listing import items_of, to_hush
from hushed_wire.sequence.paste import pasted
from hushed_wire.sequence.position import position_at, position_of
from hushed_wire.sequence.start import start_text, test_steps
from hushed_wire.sequence.write import hex_text
from strategies import legal, sequences
from support import demo, scratch

PARTS = [part for part in map(load, catalog_names()) if part.command]
CLOCK = Fraction(1_000_000)


def targets() -> list[Target]:
    """Every part with every ready panel and framing."""
    return [
        Target("tide", part, part.panel(panel), framing) for part in PARTS for panel in part.panels for framing in part.framings
    ]


def shown(target: Target, steps: list[Step]) -> object:
    """What the glass shows behind some steps, by way of the part's own words."""
    sends: list[tuple[int, Send]] = []
    for step in steps:
        sends += [(len(sends) + 1, send) for send in step.sends]
    chips = [commands(target.part, payload_of(sends, chip)) for chip in range(target.chips)]
    return model_for(target.part, chips).glass(target.panel)


def lines(target: Target, text: str, folder: Path | None = None) -> list[Step]:
    return expand(parse_text(text, "s.hush"), [target], folder or Path())


class Tables(unittest.TestCase):
    def test_every_first_word_has_one_name_in_every_state(self) -> None:
        for part in PARTS:
            check(part, part.name)
            for state in states(part) or [()]:
                now = dict(zip(part.modes, state, strict=True))
                for first in range(256):
                    matching = [
                        command.name
                        for command in part.command
                        if first & command.fixed[0][0] == command.fixed[0][1]
                        and all(now[register] == value for register, value in command.when.items())
                    ]
                    self.assertLessEqual(len(matching), 1, (part.name, state, first))
                    index = part.table(state)[first]
                    self.assertEqual([part.command[index].name] if index >= 0 else [], matching)
        self.assertEqual(RESERVED, {*VERBS, "repeat", "end", "include"})

    def test_what_is_loaded_fast_is_what_the_tables_say(self) -> None:
        for name in catalog_names():
            self.assertIsNotNone(fast_form(SHIPPED / f"{name}.toml"), "run: make catalog")
            self.assertEqual(load(name), load_file(SHIPPED / f"{name}.toml"))

    @given(st.data())
    @settings(deadline=None, max_examples=300)
    def test_fields_and_bytes_are_twins(self, data: st.DataObject) -> None:
        part = data.draw(st.sampled_from(PARTS))
        command, fields = data.draw(legal(part))
        raw = command.encode(fields)
        usual = {field.name: field.default for field in command.fields.values()}  # what is not said where it is so
        said = {name: value for name, value in fields.items() if usual[name] is None or value != usual[name]}
        self.assertEqual((len(raw), command.decode(raw)), (command.length, (said, "")))

    @given(st.data())
    @settings(deadline=None, max_examples=300)
    def test_what_is_built_explains_to_the_same_sequence(self, data: st.DataObject) -> None:
        part = data.draw(st.sampled_from(PARTS))
        panel = part.panel(next(iter(part.panels))) if part.panels else load("ssd1306").panel("128x64")
        target = Target("tide", part, panel)
        text = "\n".join(data.draw(sequences(part)))
        steps = lines(target, text)
        written = hex_text(examine(steps, [target], {"tide": CLOCK}).steps, {"tide": target}, "s.hush").decode()
        again = lines(target, "\n".join(to_hush(part, items_of(part, pasted(written).sends))))
        sent = [(send.data, byte) for step in steps for send in step.sends for byte in send.raw]
        self.assertEqual([(send.data, byte) for step in again for send in step.sends for byte in send.raw], sent)
        wanted = [step.name for step in steps if step.name != "data"]
        self.assertEqual([step.name for step in again if step.name != "data"], wanted)

    def test_each_kind_of_mistake_in_a_users_file_is_named(self) -> None:
        text = (SHIPPED / "pcd8544.toml").read_text()
        path = Path(scratch()) / "mine.toml"
        for old, new, said in (
            ('code = "00001m0m"', 'code = "00001m0"', r"command 'display-control': '00001m0' is not eight"),
            ('code = "000001tt"', 'code = "00010ttt"', r"command 'bias': the code 0x10 is that of 'temperature' too"),
            (
                '"function-set.instructions" = "basic" }',
                '"function-set.instruction" = "basic" }',
                r"when: there is no register .*; did you mean",
            ),
            (
                'finding = "setup.shutdown"',
                'finding = "setup.shutdwon"',
                r"no finding 'setup.shutdwon'; did you mean 'setup.shutdown'",
            ),
            ('step = "vop"', 'step = "vopp"', r"no command 'vopp'; did you mean 'vop'"),
            ('framings = ["dc-line"]', 'framings = ["dc"]', r"framings: there is no framing 'dc'"),
            ('reset_low = "100ns"', 'reset_low = "100"', r"'100' has no unit"),
            (
                'tWH1 = "',
                'tWHI = "',
                r"limits.tWHI: nothing is known of a time of that name\n.*'tWH1'.*on spi these can be measured",
            ),
            ('spi_clock = "4MHz"', 'spi_clock = "250ns"', r"limits.spi_clock: '250ns' is in s, not Hz"),
            ('spi_clock = "4MHz"', 'spi_clock = "0Hz"', r"limits.spi_clock: 0Hz is no limit"),
            ('reset_low = "100ns"', 'reset_lo = "100ns"', r"waits.reset_lo: nothing is known .*\n.*'reset_low'"),
            ('name = "pcd8544"', 'nmae = "pcd8544"', r"missing required field `name`|unknown field `nmae`"),
            ('title = "48', 'base = "mipi"\ntitle = "48', r"base: there is no base 'mipi'"),
        ):
            self.assertIn(old, text)
            path.write_text(text.replace(old, new, 1))
            with self.assertRaisesRegex(HushedError, said) as caught:
                load_file(path)
            self.assertIn(str(path), str(caught.exception))


class Relatives(unittest.TestCase):
    """Parts that stand on others."""

    TEXT = 'name = "gatelcd"\ntitle = "a relative"\nsource = "GATELCD datasheet"\nbase = "ssd1306"\n'

    def read(self, text: str) -> Any:
        path = scratch() / "gatelcd.toml"
        path.write_text(text)
        return load_file(path)

    def test_what_the_base_has_and_what_the_relative_says(self) -> None:
        part = self.read(self.TEXT + 'without = ["charge-pump"]\ntakes = { display = "100ms" }\noscillator = {}\n\n[memory]\ncolumns = 132\n\n'
                         '[memory.registers]\nmode = "memory-mode.mode"\n')  # fmt: skip
        base = load("ssd1306")
        self.assertEqual({c.name for c in base.command} - {c.name for c in part.command}, {"charge-pump"})
        self.assertEqual(part.command[part.by_name["display"]].takes, "100ms")
        self.assertEqual((part.memory.columns, part.memory.pages, part.oscillator), (132, 8, None))
        self.assertNotIn("charge-pump", part.start_up)
        self.assertNotIn("setup.charge-pump-off", [rule.finding for rule in part.bring_up])
        self.assertEqual(
            part.command[part.by_name["contrast"]].source, "SSD1306 datasheet, Rev 1.1, Table 9-1, 1; 10.1.7"
        )  # whose section it is
        self.assertTrue(part.limits["source"].startswith("SSD1306 datasheet, Rev 1.1, "))

    def test_parts_of_one_datasheet_cite_it_alike(self) -> None:
        there, here = load("mcp23017"), load("mcp23s17")
        self.assertEqual([(c.name, c.code, c.source) for c in here.command], [(c.name, c.code, c.source) for c in there.command])
        self.assertEqual((here.i2c, sorted(here.limits)), (None, ["source", "spi_clock"]))  # without what is of I2C

    def test_names_that_are_the_same_to_a_driver(self) -> None:
        self.assertIs(load("ST7066U"), load("hd44780"))
        self.assertEqual(load("ks0066").name, "ks0066u")
        for command in load("ks0066u").command:
            self.assertIn(command.takes, ("39us", "1.53ms"))

    def test_mistakes(self) -> None:
        for more, said in (
            ('without = ["charge-pumpp"]\n', r"without: the base has no command 'charge-pumpp'\n.*'charge-pump'"),
            ('takes = { contrst = "1us" }\n', r"takes: the base has no command 'contrst'\n.*'contrast'"),
            ('takes = { contrast = "1" }\n', r"'1' has no unit"),
        ):
            with self.assertRaisesRegex(HushedError, r"gatelcd\.toml: .*" + said):
                self.read(self.TEXT + more)
        with self.assertRaisesRegex(HushedError, "base: there is no base 'gatelcd'"):
            self.read(self.TEXT.replace("ssd1306", "gatelcd"))


class Examples(unittest.TestCase):
    """Worked examples of the datasheets, byte for byte."""

    def both_ways(self, name: str, text: str, hush: list[str]) -> None:
        part = load(name)
        found = pasted(text)
        self.assertEqual(to_hush(part, items_of(part, found.sends)), hush)
        target = Target("tide", part, part.panel(next(iter(part.panels))))
        sends = [send for step in lines(target, "\n".join(hush)) for send in step.sends]
        self.assertEqual(b"".join(send.raw for send in sends), found.raw())

    def test_pcd8544_programming_example(self) -> None:
        # PCD8544 datasheet, section 15, Table 6; in the file beside the commands.
        self.both_ways("pcd8544", load("pcd8544").example, [
            "function-set power=active addressing=horizontal instructions=extended", "vop 16",
            "function-set power=active addressing=horizontal instructions=basic", "display-control normal",
            "data 0x1f 0x05 0x07 0x00 0x1f 0x04 0x1f", "display-control inverse", "column 0", "data 0x00",
        ])  # fmt: skip

    def test_hd44780_eight_bit_one_line_example(self) -> None:
        # HD44780U datasheet, Table 12, "8-Bit Operation, 8-Digit x 1-Line Display Example with Internal Reset".
        text = "command 30 0E 06 data 48 49 54 41 43 48 49 command 07 data 20 4D 49 43 52 4F 4B 4F command 10 10 data 43 command 1C 14 data 4D command 02"
        self.both_ways("hd44780", text, [
            "function-set width=8 lines=1 font=5x8", "display state=on cursor=on blink=off", "entry-mode direction=increment shift=off",
            "data 0x48 0x49 0x54 0x41 0x43 0x48 0x49", "entry-mode direction=increment shift=on",
            "data 0x20 0x4d 0x49 0x43 0x52 0x4f 0x4b 0x4f", "shift what=cursor direction=left", "shift what=cursor direction=left",
            "data 0x43", "shift what=display direction=right", "shift what=cursor direction=right", "data 0x4d", "home",
        ])  # fmt: skip
        part = load("hd44780")
        glass = model_for(part, [commands(part, payload_of([(k, send) for k, send in enumerate(pasted(text).sends)]))]).glass(
            part.panel("16x1-straight")
        )
        # The table's last rows: the window has come back, K was replaced by C, and M written behind "MICROCO".
        self.assertEqual((glass.lines, glass.cursor), (["HITACHI MICROCOM"], (0, 0)))

    def test_hd44780_four_bit_example(self) -> None:
        # HD44780U datasheet, "4-Bit Operation, 8-Digit x 1-Line Display Example": one nibble 2, then pairs; the letter H behind them.
        part = load("hd44780")
        sends = unwrap("nibbles", bytes.fromhex("02 02 00 00 0E 00 06"), 2, 3)
        self.assertEqual(to_hush(part, items_of(part, sends)), [
            "function-set width=4 lines=1 font=5x8", "function-set width=4 lines=1 font=5x8", "display state=on cursor=on blink=off",
            "entry-mode direction=increment shift=off",
        ])  # fmt: skip

    def test_ht16k33_flow_and_max7219_words(self) -> None:
        self.both_ways("ht16k33", "command 21 A0 EF 00 data 3F 06 command 81", [
            "system-setup on", "row-int pin=row level=low", "dimming 16", "display-address address=0 0x3f 0x06", "display blink=off state=on",
        ])  # fmt: skip
        self.both_ways("max7219", "0x0C,0x01, 0x09,0xFF, 0x0B,0x07, 0x01,0x8A", [
            "shutdown off", "decode-mode all", "scan-limit 8", "digit-0 138",
        ])  # fmt: skip

    def test_a_register_means_another_in_bank_1(self) -> None:
        part = load("mcp23017")
        names = [item.name for item in items_of(part, [Send(False, bytes.fromhex("0000 0A80 0000 1000 0500 0000"))])]
        self.assertEqual(names, ["iodir-a", "iocon", "bank1-iodir-a", "bank1-iodir-b", "bank1-iocon", "iodir-a"])


class Glasses(unittest.TestCase):
    def test_every_ready_bring_up_passes_and_leads_to_the_test_picture(self) -> None:
        for target in targets():
            key = target.part.name, target.panel.name, target.framing
            result = examine(lines(target, start_text(target)), [target], {"tide": CLOCK})
            self.assertEqual([found.summary for found in result.findings], [], key)
            glass = shown(target, test_steps(target))
            self.assertTrue(glass.shown, key)  # type: ignore[attr-defined]
            kind, panel = target.part.memory.kind, target.panel
            if kind == "character" or panel.form == "text":
                self.assertEqual([line[0] + line[-1] for line in glass.lines], ["Aa", "Bb", "Cc", "Dd"][: panel.height], key)  # type: ignore[attr-defined]
            elif panel.form == "digits":
                colon = panel.colons and "dp" not in panel.segments
                usual = "".join(f"{k % 10}." for k in range(panel.width, 0, -1))
                self.assertEqual(glass.lines, ["43:21" if colon else usual], key)  # type: ignore[attr-defined]
            elif kind == "pixel":
                card = colour_card(panel, "tide", target.part.grey)
                self.assertLess(int(np.abs(glass.rgb.astype(int) - card).max()), 17 if target.part.grey else 8, key)  # type: ignore[attr-defined]
            else:
                self.assertTrue((glass.lit == test_card(panel, "tide")).all() and glass.known.all(), key)  # type: ignore[attr-defined]

    def test_pictures_come_to_their_place_however_a_window_is_filled(self) -> None:
        rng = np.random.default_rng(9)
        for name in ("ssd1327", "ssd1322", "ssd1351"):
            target = Target("tide", load(name), load(name).panel(next(iter(load(name).panels))))
            height, width = target.panel.height, target.panel.width
            usual = next(line for line in start_text(target).splitlines() if line.startswith("remap"))
            for flips in range(16):
                ways = (
                    ("vertical", "horizontal", "increment"),
                    ("reversed", "normal", "column-order"),
                    ("reversed", "normal", "row-order"),
                )
                ways = (*ways, ("high-first", "low-first", "nibbles"))
                remap = usual
                for k, (on, off, key) in enumerate(ways):
                    remap = re.sub(rf"{key}=\S+", f"{key}={on if flips >> k & 1 else off}", remap)
                pixels = rng.integers(0, 16, (height, width, 1), dtype=np.uint8).repeat(3, 2) * 17
                Image.fromarray(pixels).save(demo() / "noise.png")
                lines = start_text(target).replace(usual, remap) + 'picture noise.png\ntext 5,9 "GATE"\n'
                glass = shown(target, expand(parse_text(lines, "s"), [target], demo()))
                wrong = np.abs(glass.rgb.astype(int) - pixels).max(axis=2) > 8  # type: ignore[attr-defined]
                wrong[8:18, 4:30] = False  # where the letters are
                self.assertFalse(wrong.any(), f"{name} {remap}")

    def test_pictures_come_to_their_place_whatever_the_orientation(self) -> None:
        rng = np.random.default_rng(7)
        for name in ("st7789", "ili9341", "st7735"):
            part = load(name)
            for panel in part.panels:
                target = Target("tide", part, part.panel(panel))
                orientation = {"row-order": "reversed", "column-order": "reversed", "exchange": "on"}
                for flips in range(8):
                    own = {key: value for k, (key, value) in enumerate(orientation.items()) if flips >> k & 1}
                    values = {"row-order": "normal", "column-order": "normal", "exchange": "off", **own}
                    set_up = " ".join(f"{k}={v}" for k, v in values.items())
                    for form in ("16-bit", "18-bit", "12-bit"):
                        if form == "12-bit" and target.panel.width * target.panel.height % 2:
                            continue
                        pixels = rng.integers(0, 256, (target.panel.height, target.panel.width, 3), dtype=np.uint8)
                        picture = demo() / "noise.png"
                        Image.fromarray(pixels).save(picture)
                        dpi = "" if name == "st7735" else "dpi=5 "
                        order = target.panel.needs["set-address-mode.colour-order"]
                        text = (
                            f"sleep-mode out\nset-pixel-format {dpi}format={form}\n"
                            f"set-address-mode {set_up} line-refresh=normal colour-order={order} latch=normal\n"
                            f"invert-mode {target.panel.needs.get('invert-mode.state', 'off')}\npicture noise.png\ndisplay on"
                        )
                        glass = shown(target, lines(target, text, demo()))
                        loss = {"16-bit": 8, "18-bit": 4, "12-bit": 17}[form]
                        self.assertLess(int(np.abs(glass.rgb.astype(int) - pixels).max()), loss, (name, panel, set_up, form))  # type: ignore[attr-defined]
                        if flips:
                            break

    def test_mounting_turns_the_picture_and_not_the_memory(self) -> None:
        part = load("sh1106")
        pixels = image.load(demo() / "tide.pbm")
        for rotate in (0, 90, 180, 270):
            for mirror in (False, True):
                panel = part.panel("128x64")
                panel.rotate, panel.mirror = rotate, mirror
                self.assertTrue((as_seen(as_mounted(pixels, panel), panel) == pixels).all())

    def test_text_lands_in_the_cells_that_a_person_counts(self) -> None:
        part = load("hd44780")
        for panel, text, wanted in (
            ("16x1", 'text 6,0 "GATE"', ["      GATE      "]),  # over the split between the halves
            ("20x4", 'text 0,2 "LEVEL 4.2 m"\ntext 19,3 "<"', ["", "", "LEVEL 4.2 m", " " * 19 + "<"]),
            ("40x4", 'text 0,3 "PUMP 2"\ntext 0,0 "PUMP 1"', ["PUMP 1", "", "", "PUMP 2"]),
            ("8x2", 'text 0,1 "₀→π"', ["", "₀→π"]),
        ):
            target = Target("tide", part, part.panel(panel), "rs-line")
            glass = shown(target, lines(target, start_text(target) + text))
            self.assertEqual([line.rstrip() for line in glass.lines], [line.rstrip() for line in wanted], panel)  # type: ignore[attr-defined]

    def test_shift_glyphs_and_entry_mode(self) -> None:
        part = load("hd44780")
        target = Target("tide", part, part.panel("16x2"), "rs-line")
        text = 'text 0,0 "TIDE"\nshift what=display direction=right\nglyph 3 0b00100 0b01110 0b11111 0b00100*5\ntext 0,1 "₃"'
        glass = shown(target, lines(target, start_text(target) + text))
        self.assertEqual(([line.rstrip() for line in glass.lines]), [" TIDE", " ₃"])  # type: ignore[attr-defined]
        self.assertEqual(glass.glyphs[3].tolist(), [4, 14, 31, 4, 4, 4, 4, 4])  # type: ignore[attr-defined]
        text = "entry-mode direction=decrement shift=off\ncell-address 0x05\ndata 0x43 0x42 0x41"
        self.assertEqual(shown(target, lines(target, start_text(target) + text)).lines[0][:6], "   ABC")  # type: ignore[attr-defined]

    def test_roms_and_segments_go_both_ways(self) -> None:
        for rom, table in ROMS.items():
            for char, code in codes_of(rom).items():
                self.assertEqual(shown_as(rom, code), "゜" if (rom, char) == ("A00", "°") else char)  # it stands for degrees
            above = 0x80 if rom == "R" else 0
            self.assertEqual([table[ord(char) + above] for char in "GATE 0-9"], list("GATE 0-9"))
        for char in "0123456789AbCdEFHLPUnorty-_ ":
            self.assertEqual(character(segments_of(char) or ""), char)
        self.assertIsNone(segments_of("%"))

    def test_positions_are_those_that_the_model_shows(self) -> None:
        for target in targets():
            panel, kind = target.panel, target.part.memory.kind
            if target.framing != target.part.framings[0] or kind == "pixel":
                continue
            x, y = panel.width * 2 // 3, panel.height * 2 // 3
            position = position_of(target, x, y)
            self.assertIn(
                (x, y),
                [
                    (p.column, p.row)
                    for p in position_at(
                        target, position.address if kind != "digit" or panel.form == "digits" else position.address // 8
                    )
                ],
            )
            if kind == "paged":
                chip = f"select {1 + x // target.part.memory.columns}\n" if target.chips > 1 else ""
                by_windows = target.part.usual_mode == "page" and "page-window" in {
                    command.effect for command in target.part.command
                }
                mode = "memory-mode horizontal\n" if by_windows else ""
                text = start_text(target) + mode + chip + "\n".join(position.go) + f"\ndata {1 << y % 8}"
                glass = shown(target, lines(target, text))
                self.assertEqual(np.argwhere(glass.lit).tolist(), [[y, x]], (target.part.name, panel.name))  # type: ignore[attr-defined]


if __name__ == "__main__":
    unittest.main()
