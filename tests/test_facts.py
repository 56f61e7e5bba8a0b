"""Facts of datasheets that displays in use were once told wrong by: numbers and codes as they stand there, held against the catalog."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from hushed_wire.part import load
from hushed_wire.part.neighbours import neighbours
from hushed_wire.rig.pinmap import load_pin_map
from hushed_wire.sequence.listing import items_of
from hushed_wire.sequence.paste import pasted
from support import program


def names(part: str, text: str) -> list[tuple[str, str]]:
    """Name and note of each command."""
    return [(item.name, item.note) for item in items_of(load(part), pasted(text).sends) if item.name != "data"]


class Known(unittest.TestCase):
    """Commands of ordinary drivers, by the tables of the datasheets: none is unknown, none has too many parameters or too few."""

    def test_what_ordinary_drivers_send_is_known(self) -> None:
        for part, text in (
            ("ssd1675b", "74 data 54 command 7E data 3B command 3A data 1A command 3B data 08"), ("ssd1331", "BC BD E3"), ("uc1701", "AC 00 A6 AF"),
            ("st7567", "AC 00 A6"), ("ili9488", "51 data FF command 53 data 24 command C5 data 00 12 80"), ("gc9a01", "51 data 80 command 5E data 10"),
            ("ili9488", "C5 data 00 12 80 40"), ("ili9486", "C1 data 44 00 command C1 data 44"), ("st7796", "55 data 00 command 53 data 2C"),
            ("st7789", "C2 data 01 command C2 data 01 FF"),
        ):  # fmt: skip
            with self.subTest(part, text=text):
                found = names(part, text)
                self.assertNotIn("unknown", [name for name, _ in found])
                self.assertEqual({note for _, note in found}, {""})

    def test_bits_of_led_drivers(self) -> None:
        self.assertEqual(load("is31fl3731").find("display-option").decode(b"\x05\x08")[0]["blink"], "on")  # BE is bit 3
        mask = load("is31fl3733").find("interrupt-mask")
        self.assertEqual(
            (mask.decode(b"\xf0\x08")[0]["auto-clear"], mask.decode(b"\xf0\x04")[0]["breath"]), ("on", "on")
        )  # IAC, IAB

    def test_a_booster_at_five_volts(self) -> None:
        """ST7032: it doubles VDD, and VOUT bears 7 V; 5 V set-ups send 52h."""
        part = load("st7032")
        for supply, booster, rules in (("3.3V", "on", False), ("", "on", False), ("5V", "off", True)):
            there = part.supplied(supply)
            self.assertIn(f"booster={booster}", " ".join(there.start))
            self.assertEqual(any(rule.finding == "rig.over-voltage" for rule in there.bring_up), rules)

    def test_glass_that_is_scanned_the_other_way_round(self) -> None:
        """B6h, second byte: bit 5 SS, bit 6 GS."""
        for part in ("gc9a01", "st7796", "ili9341", "ili9486", "ili9488"):
            command = load(part).find("display-function")
            more = b"\x3b" if len(command.patterns) > 3 else b""
            for byte, told in ((0x20, ("normal", "reversed")), (0x40, ("reversed", "normal")), (0x02, ("normal", "normal"))):
                fields, _ = command.decode(bytes([0xB6, 0x80, byte]) + more)
                self.assertEqual((fields["row-scan"], fields["column-scan"]), told, part)


class Colour(unittest.TestCase):
    def test_the_memory_of_an_st7735_depends_on_the_glass(self) -> None:
        part = load("st7735")
        sizes = {name: (m.columns, m.rows) for name, panel in part.panels.items() for m in [part.fitted(panel).memory]}
        self.assertEqual(sizes["128x160"], (128, 160))
        self.assertEqual(sizes["128x128"], (132, 132))
        self.assertEqual(sizes["80x160"], (132, 162))
        self.assertEqual(sizes["128x160-offset"], (132, 162))
        self.assertEqual((part.memory.columns, part.memory.rows), (132, 162))  # the part itself stays as it is

    def test_usual_glass_stands_as_its_drivers_turn_it(self) -> None:
        for part, panel, upright in (
            ("ili9341", "240x320", {"column_order": "reversed"}), ("ili9341", "320x240", {"exchange": "on"}),
            ("st7789", "240x320", {}), ("st7735", "128x160", {"column_order": "reversed", "row_order": "reversed"}),
        ):  # fmt: skip
            self.assertEqual(load(part).panels[panel].upright, upright)
        self.assertEqual(next(iter(load("ili9341").panels)), "240x320")

    def test_documented_commands_are_known(self) -> None:
        base = (0x04, 0x09, 0xDA, 0xDB, 0xDC, 0x2D, 0x31, 0x52, 0x54, 0x56, 0x5F)
        for part, codes in (
            ("ili9341", (*base, 0xD2, 0xD3, 0xE9)), ("st7789", base), ("st7735", (*base, 0xB6, 0xF0, 0xF6, 0xFC)), ("ssd1306", (0xAD, 0xD8, 0x2C, 0x2D)),
        ):  # fmt: skip
            for code in codes:
                self.assertGreaterEqual(load(part).table()[code], 0, f"{part} {code:02X}h")
        self.assertEqual(
            names("ssd1306", "8D 94 8D 95 AD 30"), [("charge-pump", ""), ("charge-pump", ""), ("internal-current", "")]
        )
        self.assertEqual(load("ssd1306").find("charge-pump").decode(b"\x8d\x95")[0], {"state": "on", "voltage": "9V"})
        self.assertEqual(names("st7735", "command C0 data 02 70 command C5 data 3C 38 command FC data 11 15"),
                         [("pwctr1", ""), ("vmctr1", ""), ("gcv", "")])  # fmt: skip

    def test_parameters_may_be_left_out_where_they_are_documented(self) -> None:
        ((name, _),) = names("st7789", "command 2A data 00 10 command")
        self.assertEqual(name, "truncated")  # the capture, or what was pasted, ends there
        (first, _) = names("st7789", "command 2A data 00 10 command 29")
        self.assertEqual(first, ("set-column-address", "2 of its 4 parameters came; the others keep their values"))
        (lut,) = names("ili9341", "command 2D data 01 02 03")
        self.assertEqual(lut, ("write-lut", ""))  # up to 128

    def test_makers_own_commands_are_no_slips(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for text, status in (("bytes 0xEF\ndata 0x03 0x80 0x02\n", 0), ("bytes 0x15\n", 1)):
                (Path(folder) / "s.hush").write_text(text)
                done = program("build", "s.hush", "--part", "ili9341", cwd=Path(folder))
                self.assertEqual(done.returncode, status, done.stdout)
                self.assertEqual(b"setup.undocumented-value" in done.stdout, not status)


class Supplies(unittest.TestCase):
    def test_limits_and_levels_follow_the_supply(self) -> None:
        for part, supply, limits in (
            ("hd44780", "5V", {"tcycE": "500ns", "PWEH": "230ns", "tAS": "40ns", "tAH": "10ns", "tDSW": "80ns", "tH": "10ns"}),
            ("hd44780", "3.3V", {"tcycE": "1000ns", "PWEH": "450ns", "tAS": "60ns", "tAH": "20ns", "tDSW": "195ns", "tH": "10ns"}),
            ("74hc595", "5V", {"shift_clock": "20MHz"}), ("74hc595", "2V", {"shift_clock": "5MHz"}),
            ("mcp23017", "1.8V", {"clock": "100kHz"}), ("mcp23017", "3.3V", {"clock": "400kHz"}), ("mcp23017", "5V", {"clock": "1.7MHz"}),
            ("mcp23s17", "1.8V", {"spi_clock": "5MHz"}), ("mcp23s17", "3.3V", {"spi_clock": "10MHz"}),
        ):  # fmt: skip
            own = {key: value for key, value in load(part).supplied(supply).limits.items() if key != "source"}
            self.assertEqual(own, limits, (part, supply))
        display = load("hd44780")
        self.assertEqual((display.supplied("5V").waits["power_on"], display.supplied("3V").waits["power_on"]), ("15ms", "40ms"))
        self.assertEqual(display.waits["power_on"], "15ms")
        for part, supply, high, low in (
            ("hd44780", 5.0, 2.2, 0.6), ("hd44780", 3.0, 2.1, 0.55), ("max7219", 5.0, 3.5, 0.8), ("ks0108", 5.0, 2.0, 0.8),
        ):  # fmt: skip
            levels = load(part).supplied(f"{supply}V").levels
            assert levels is not None
            self.assertAlmostEqual(levels.high_from(supply), high)
            self.assertAlmostEqual(levels.low_to(supply), low)


class Others(unittest.TestCase):
    def test_times(self) -> None:
        self.assertEqual(load("st7735").waits["after_reset"], "5ms")
        limits = load("max7219").limits
        self.assertEqual(limits["tLDCK"], "50ns")
        self.assertNotIn("tCSS", limits)
        for part, symbols in (
            ("ssd1306", ("tAS", "tAH")),
            ("pcd8544", ("tS3", "tH3")),
            ("st7789", ("tDCS", "tDCH")),
            ("ili9341", ("tas", "tah")),
        ):
            self.assertTrue(set(symbols) <= set(load(part).limits), part)

    def test_codes(self) -> None:
        self.assertEqual([load("ssd1306").table()[code] >= 0 for code in (0xC0, 0xC8, 0xC1, 0xCF)], [True, True, False, False])
        formats = load("st7789").find("set-pixel-format").fields["f"].values
        self.assertEqual({name: formats[name] for name in ("8-bit", "16-bit", "24-bit")}, {"8-bit": 2, "16-bit": 5, "24-bit": 7})

    def test_neighbours(self) -> None:
        at = {entry.name: set(entry.addresses) for entry in neighbours()}
        for name, addresses in (
            ("PCF8523", {0x68}), ("PCF8591", set(range(0x48, 0x50))), ("TMP102", {0x48, 0x49, 0x4A, 0x4B}), ("PCA9685", set(range(0x40, 0x78))),
        ):  # fmt: skip
            self.assertEqual([own for key, own in at.items() if name in key], [addresses], name)

    def test_the_headers_own_pull_ups(self) -> None:
        header = load_pin_map("header-40", Path())
        self.assertEqual(
            {position: pin.pull_up for position, pin in header.pins.items() if pin.pull_up}, {"3": "1.8kOhm", "5": "1.8kOhm"}
        )

    def test_ready_panels(self) -> None:
        for part, panels in (
            ("st7789", ("240x280", "320x170", "172x320")), ("st7735", ("80x160-24",)), ("max7219", ("32x8", "64x8", "32x8-turned")),
            ("hd44780", ("8x1", "20x1", "24x2", "12x2")), ("ssd1306", ("128x64-external",)), ("ht16k33", ("4-digits-colon", "4-digits-14")),
        ):  # fmt: skip
            self.assertTrue(set(panels) <= set(load(part).panels), part)
        self.assertEqual(load("st7789").panels["240x280"].row_offset, 20)
        self.assertEqual(load("st7789").panels["172x320"].column_offset, 34)

    def test_pack_and_catalog_agree_on_a_quarter_scanned_panel(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for x, y in ((0, 0), (7, 0), (8, 5), (31, 15)):
                rows = "\n".join(" ".join("1" if (column, row) == (x, y) else "0" for column in range(32)) for row in range(16))
                (Path(folder) / "dot.pbm").write_text(f"P1\n32 16\n{rows}\n")
                done = program("pack", "dot.pbm", "--part", "hub12", "--as", "hex", cwd=Path(folder))
                raw = bytes.fromhex("".join(line for line in done.stdout.decode().split("\n") if not line.startswith("#")))
                (byte,) = [number for number, value in enumerate(raw) if value]
                told = program("catalog", "hub12", "--cell", f"{x},{y}", cwd=Path(folder)).stdout.decode()
                self.assertIn(f"bit {raw[byte].bit_length() - 1} of byte {byte},", told)


if __name__ == "__main__":
    unittest.main()
