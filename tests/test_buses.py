"""Sequences on every bus and through bridges: what is rehearsed has to come back as what was sent, and as the picture."""

import json
import unittest
from fractions import Fraction
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.bus import parallel, pulse, shift, spi
from hushed_wire.bus.base import Settings
from hushed_wire.bus.channel import Channel, Wired
from hushed_wire.errors import HushedError
from hushed_wire.part import commands
from hushed_wire.part.chips import model_for
from hushed_wire.rig import load_rig
from hushed_wire.rig.rehearse import rehearse
from hushed_wire.sequence.start import start_text
from hushed_wire.trace import vcd
from hushed_wire.trace.sampling import sampled
from support import as_one, payloads, program, program_json, scratch

TICK = Fraction(1, 10**9)
FOLDER = scratch()

DISPLAY = 'name = "show"\non = "{on}"\npart = "{part}"\npanel = "{panel}"\n'
PINS = {"rs": "p0", "rw": "p1", "e": "p2", "backlight": "p3", "d4": "p4", "d5": "p5", "d6": "p6", "d7": "p7"}
NIBBLES = ["d4", "d5", "d6", "d7", "rs", "e"]
WIDE = [f"d{k}" for k in range(8)] + ["rs", "e"]


def bus(kind: str, roles: list[str], **more: object) -> str:
    lines = ", ".join(f'{role} = "{role.upper()}"' for role in roles)
    extra = "\n".join(f"{key} = {value!r}".replace("'", '"') for key, value in more.items())
    return f'[[bus]]\nname = "main"\nkind = "{kind}"\nlines = {{ {lines} }}\n{extra}\n'


def bridge(part: str, drives: dict[str, str], name: str = "adapter", on: str = "main", **more: object) -> str:
    pairs = ", ".join(f'{role} = "{pin}"' for role, pin in drives.items())
    extra = "\n".join(f"{key} = {value!r}".replace("'", '"') for key, value in more.items())
    return f'[[bridge]]\nname = "{name}"\non = "{on}"\npart = "{part}"\ndrives = {{ {pairs} }}\n{extra}\n'


def device(part: str, panel: str, on: str = "main", **more: object) -> str:
    extra = "\n".join(f"{key} = {value!r}".replace("'", '"') for key, value in more.items())
    return "[[device]]\n" + DISPLAY.format(on=on, part=part, panel=panel) + extra + "\n"


SPI = ["sck", "mosi", "cs", "dc", "reset"]
# name: rig, and what is drawn behind the bring-up
WAYS: dict[str, tuple[str, str]] = {
    "ssd1306, i2c": (bus("i2c", ["scl", "sda"], clock="400kHz") + device("ssd1306", "128x32", address=0x3C), 'text 3,9 "GATE"'),
    "ssd1306, dc line": (bus("spi", SPI, clock="4MHz", mode=3) + device("ssd1306", "128x64"), 'text 3,9 "GATE"'),
    "sh1106, nine bits": (bus("spi", ["sck", "mosi", "cs"], clock="2MHz") + device("sh1106", "128x64"), 'text 3,9 "GATE"'),
    "pcd8544": (bus("spi", SPI, clock="1MHz") + device("pcd8544", "84x48"), 'text 3,9 "GATE"'),
    "st7735": (bus("spi", SPI, clock="10MHz", mode=3) + device("st7735", "80x160"), 'text 3,9 "GATE" 0xFF0000'),
    "st7789, 8080": (
        bus("parallel", [f"d{k}" for k in range(8)] + ["rs", "wr", "rd", "cs"]) + device("st7789", "240x240"),
        'text 3,9 "GATE"',
    ),
    "ssd1351": (bus("spi", SPI, clock="10MHz") + device("ssd1351", "128x128"), 'text 3,9 "GATE" 0xFF0000'),
    "ssd1331": (bus("spi", SPI, clock="5MHz", mode=3) + device("ssd1331", "96x64"), 'text 3,9 "GATE" 0x00FF00'),
    "ssd1327, i2c": (
        bus("i2c", ["scl", "sda"], clock="400kHz") + device("ssd1327", "128x128", address=0x3D),
        'text 3,9 "GATE" 0x808080',
    ),
    "ssd1327, 96 columns": (bus("spi", SPI, clock="8MHz") + device("ssd1327", "96x96"), 'text 3,9 "GATE" 0x444444'),
    "ssd1322": (bus("spi", SPI, clock="8MHz", mode=3) + device("ssd1322", "256x64"), 'text 3,9 "GATE"'),
    "ssd1322, nine bits": (
        bus("spi", ["sck", "mosi", "cs"], clock="5MHz") + device("ssd1322", "256x64"),
        'text 3,9 "GATE" 0x777777',
    ),
    "ssd1680": (bus("spi", [*SPI, "busy"], clock="4MHz") + device("ssd1680", "122x250"), 'text 3,9 "GATE"'),
    "ssd1680, red, nine bits": (
        bus("spi", ["sck", "mosi", "cs"], clock="4MHz") + device("ssd1680", "128x296-red"),
        'text 3,9 "GATE" red',
    ),
    "ssd1681": (bus("spi", SPI, clock="4MHz", mode=3) + device("ssd1681", "200x200"), "rectangle 3,9 20x30"),
    "st7920, serial": (
        bus("spi", ["sck", "mosi", "cs", "reset"], clock="1MHz", mode=3, select="high") + device("st7920", "128x64"),
        'text 3,29 "GATE"',
    ),
    "st7920, text": (
        bus("spi", ["sck", "mosi", "cs"], clock="500kHz", select="high") + device("st7920", "16x4"),
        'text 3,2 "TIDE 4.2"',
    ),
    "st7920, 8 bits": (bus("parallel", [*WIDE, "rw"]) + device("st7920", "128x64"), "rectangle 5,9 60x40"),
    "st7920, 4 bits": (bus("parallel", NIBBLES) + device("st7920", "16x4"), 'text 1,3 "PUMP"'),
    "apa102": (
        bus("spi", ["sck", "mosi"], clock="4MHz") + device("apa102", "8x8"),
        "fill 0x102030\nrectangle 2,3 4x2 colour=0xFF8000",
    ),
    "ws2812": (bus("pulse", ["data"]) + device("ws2812", "16x16"), "fill 0x102030\nrectangle 2,3 4x2 colour=0xFF8000"),
    "is31fl3731": (
        bus("i2c", ["scl", "sda"], clock="400kHz") + device("is31fl3731", "16x9", address=0x75),
        "fill 0x202020\nrectangle 2,3 4x2 colour=0xFFFFFF",
    ),
    "st7789, sixteen lines": (
        bus("parallel", [f"d{k}" for k in range(16)] + ["rs", "wr", "rd", "cs"]) + device("st7789", "240x240"),
        'text 3,9 "GATE" 0xFF8000',
    ),
    "ili9486 behind registers": (
        bus("spi", SPI, clock="16MHz", bits=16) + device("ili9486", "480x320"),
        'text 3,9 "GATE" 0x00FF80',
    ),
    "uc8151": (bus("spi", [*SPI, "busy"], clock="4MHz") + device("uc8151", "128x296"), 'text 3,9 "GATE"'),
    "uc8151, red": (bus("spi", SPI, clock="2MHz") + device("uc8151", "104x212-red"), 'text 3,9 "GATE" red'),
    "is31fl3733": (
        bus("i2c", ["scl", "sda"], clock="400kHz") + device("is31fl3733", "16x12", address=0x5A),
        "fill 0x202020\nrectangle 2,3 4x2 colour=0xFFFFFF",
    ),
    "sh1107": (bus("spi", SPI, clock="4MHz") + device("sh1107", "64x128"), 'text 3,9 "GATE"'),
    "sh1107, i2c": (bus("i2c", ["scl", "sda"]) + device("sh1107", "128x128", address=0x3D), 'text 3,9 "GATE"'),
    "pcf8576": (bus("i2c", ["scl", "sda"]) + device("pcf8576", "20-digits", address=0x39), 'text 1,0 "4.25"'),
    "pcf8576, two backplanes": (bus("i2c", ["scl", "sda"]) + device("pcf8576", "10-digits", address=0x38), 'text 0,0 "-1.7"'),
    "pcf8576, static": (bus("i2c", ["scl", "sda"]) + device("pcf8576", "5-digits", address=0x38), 'text 0,0 "PU-P1"'),
    "ht1621": (bus("spi", ["sck", "mosi", "cs"], clock="100kHz") + device("ht1621", "6-digits"), 'text 0,0 "-1.25 L"'),
    "ht1621, mode 3": (
        bus("spi", ["sck", "mosi", "cs"], clock="50kHz", mode=3) + device("ht1621", "6-digits"),
        'text 2,0 "4.25"',
    ),
    "hub75": (
        bus("matrix", ["r1", "g1", "b1", "r2", "g2", "b2", "a", "b", "c", "clock", "latch", "enable"], clock="120Hz")
        + device("hub75", "32x16"),
        'text 3,3 "LOCK" 0xFF8000',
    ),
    "max7219": (bus("spi", ["sck", "mosi", "cs"], clock="2MHz") + device("max7219", "8-digits"), 'text 0,0 "L-1 4.25"'),
    "max7219, dots": (bus("spi", ["sck", "mosi", "cs"], clock="2MHz", mode=3) + device("max7219", "8x8"), "fill 0xAA"),
    "ht16k33": (bus("i2c", ["scl", "sda"]) + device("ht16k33", "8-digits", address=0x71), 'text 1,0 "4.25"'),
    "tm1637, two wires": (bus("two-wire", ["clock", "data"], clock="100kHz") + device("tm1637", "4-digits"), 'text 0,0 "12:47"'),
    "tm1637, six digits": (bus("two-wire", ["clock", "data"]) + device("tm1637", "6-digits"), 'text 0,0 "-1.25 L"'),
    "tm1638": (
        bus("spi", ["sck", "mosi", "cs"], clock="200kHz", mode=3, order="lsb") + device("tm1638", "8-digits"),
        'text 1,0 "4.25"',
    ),
    "hd44780, 8 bits": (bus("parallel", WIDE) + device("hd44780", "16x2"), 'text 2,1 "TIDE 4.2"'),
    "hd44780, 4 bits": (bus("parallel", [*NIBBLES, "rw"]) + device("hd44780", "16x1"), 'text 2,0 "TIDE 4.2 m"'),
    "hd44780, two enables": (
        bus("parallel", [*NIBBLES, "e2"]) + device("hd44780", "40x4"),
        'text 2,3 "TIDE 4.2 m"\ntext 0,0 "PUMP"',
    ),
    "ks0108": (
        bus("parallel", [*WIDE, "cs1", "cs2", "reset"], select="high") + device("ks0108", "128x64"),
        'text 50,20 "ENGINE"',
    ),
    "st7032": (bus("i2c", ["scl", "sda"], clock="400kHz") + device("st7032", "16x2", address=0x3E), 'text 2,1 "TIDE 4.2"'),
    "pcf2119": (bus("i2c", ["scl", "sda"], clock="400kHz") + device("pcf2119", "16x2", address=0x3A), 'text 2,1 "TIDE 4.2"'),
    "aip31068": (bus("i2c", ["scl", "sda"], clock="100kHz") + device("aip31068", "16x2", address=0x3E), 'text 0,0 "TIDE 4.2"'),
    "behind pcf8574": (
        bus("i2c", ["scl", "sda"], clock="100kHz")
        + bridge("pcf8574", PINS, address=0x23)
        + device("hd44780", "20x4", on="adapter"),
        'text 4,2 "PUMP 1 off"\nbacklight off',
    ),
    "behind pcf8575": (
        bus("i2c", ["scl", "sda"], clock="400kHz")
        + bridge("pcf8575", {"rs": "p10", "e": "p11", "backlight": "p17", **{f"d{k}": f"p0{k}" for k in range(8)}}, address=0x21)
        + device("hd44780", "20x4", on="adapter"),
        'text 4,2 "PUMP 1 off"\nbacklight off',
    ),
    "behind mcp23017": (
        bus("i2c", ["scl", "sda"], clock="400kHz")
        + bridge("mcp23017", {"rs": "a7", "e": "b1", "d4": "b2", "d5": "b3", "d6": "b4", "d7": "b5"}, address=0x20)
        + device("hd44780", "16x2", on="adapter"),
        'text 0,1 "PUMP 1 off"',
    ),
    "behind mcp23008": (
        bus("i2c", ["scl", "sda"], clock="100kHz")
        + bridge(
            "mcp23008", {"rs": "p1", "e": "p2", "d4": "p3", "d5": "p4", "d6": "p5", "d7": "p6", "backlight": "p7"}, address=0x20
        )
        + device("hd44780", "16x2", on="adapter"),
        'text 0,1 "PUMP 1 off"',
    ),
    "behind mcp23s08": (
        bus("spi", ["sck", "mosi", "cs"], clock="5MHz")
        + bridge("mcp23s08", {"rs": "p1", "e": "p2", "d4": "p3", "d5": "p4", "d6": "p5", "d7": "p6"}, address=2)
        + device("hd44780", "16x2", on="adapter"),
        'text 0,1 "PUMP 1 off"',
    ),
    "behind mcp23s17": (
        bus("spi", ["sck", "mosi", "cs"], clock="5MHz")
        + bridge("mcp23s17", {"rs": "a0", "e": "a1", "d4": "a4", "d5": "a5", "d6": "a6", "d7": "a7"}, address=3)
        + device("hd44780", "16x2", on="adapter"),
        'text 0,1 "PUMP 1 off"',
    ),
    "behind 74hc595": (
        bus("shift", ["clock", "data", "latch"], clock="1MHz")
        + bridge("74hc595", {"rs": "q1", "e": "q3", "d4": "q4", "d5": "q5", "d6": "q6", "d7": "q7"})
        + device("hd44780", "16x2", on="adapter"),
        'text 0,1 "PUMP 1 off"',
    ),
    "behind two 74hc595 on spi": (
        bus("spi", ["sck", "mosi", "cs"], clock="1MHz")
        + bridge("74hc595", {**{f"d{k}": f"q{k}" for k in range(8)}, "rs": "q9", "e": "q14"}, count=2)
        + device("hd44780", "16x2", on="adapter"),
        'text 0,1 "PUMP 1 off"',
    ),
    "behind five 74hc595": (
        bus("shift", ["clock", "data", "latch"], clock="1MHz")
        + bridge("74hc595", {"rs": "q1", "e": "q35", "d4": "q36", "d5": "q37", "d6": "q38", "d7": "q39"}, count=5)
        + device("hd44780", "16x2", on="adapter"),
        'text 0,1 "PUMP 1 off"',
    ),
    "digits behind an expander": (
        bus("i2c", ["scl", "sda"], clock="100kHz")
        + bridge("pcf8574a", {"sck": "p0", "mosi": "p1", "cs": "p2"}, address=0x38)
        + device("max7219", "4-digits", on="adapter"),
        'text 0,0 "4.25"',
    ),
    "a register behind an expander": (
        bus("i2c", ["scl", "sda"], clock="100kHz")
        + bridge("pcf8574", {"clock": "p0", "data": "p1", "latch": "p2"}, address=0x27)
        + bridge("74hc595", {"rs": "q1", "e": "q3", "d4": "q4", "d5": "q5", "d6": "q6", "d7": "q7"}, name="second", on="adapter")
        + device("hd44780", "8x2", on="second"),
        'text 0,1 "PUMP 1"',
    ),
}


def glass_of(model: object, panel: object) -> object:
    glass = model.glass(panel)  # type: ignore[attr-defined]
    return glass.lines if hasattr(glass, "lines") else glass.rgb if hasattr(glass, "rgb") else glass.lit


class EveryWay(unittest.TestCase):
    def test_an_address_that_its_pins_cannot_give(self) -> None:
        for part, pin, address, possible in (
            ("mcp23s08", "p", 4, "0, 1, 2, 3 "),
            ("mcp23s17", "a", 9, "0, 1, 2, 3, 4, 5, 6, 7 "),
        ):
            path = scratch() / f"{part}.toml"
            drives = {role: f"{pin}{k}" for k, role in enumerate(("rs", "e", "d4", "d5", "d6", "d7"))}
            path.write_text(
                bus("spi", ["sck", "mosi", "cs"])
                + bridge(part, drives, address=address)
                + device("hd44780", "16x2", on="adapter")
            )
            with self.assertRaisesRegex(HushedError, f"{part} cannot have {address}\\n  it can have {possible}"):
                load_rig(path)

    def test_what_is_rehearsed_comes_back_as_commands_and_picture(self) -> None:
        from hushed_wire.part.framing import payload_of
        from hushed_wire.rig.rehearse import steps_of

        for name, (text, drawn) in WAYS.items():
            with self.subTest(name):
                (FOLDER / "rig.toml").write_text(text)
                rig = load_rig(FOLDER / "rig.toml")
                target = rig.target(rig.device[0])
                start = start_text(target)
                if "reset" not in rig.bus[0].lines:
                    start = "\n".join(line for line in start.splitlines() if not line.startswith("reset")) + "\n"
                (FOLDER / "s.hush").write_text(start + drawn)
                trace, _ = rehearse(FOLDER / "s.hush", rig, seed=5)
                found = payloads(trace, rig)["show"]
                sends = [(k, send) for k, step in enumerate(steps_of(FOLDER / "s.hush", rig, [])) for send in step.sends]
                for chip, own in enumerate(found):
                    wanted = payload_of(sends, chip)
                    if target.framing == "nibbles":  # of what comes before the width is set, the low half is never sent
                        self.assertEqual((own.value >> 4).tolist(), (wanted.value >> 4).tolist())
                        self.assertEqual(own.value[5:].tolist(), wanted.value[5:].tolist())
                    else:
                        self.assertEqual(own.value.tolist(), wanted.value.tolist())
                    self.assertEqual(own.data.tolist(), wanted.data.tolist())
                shown = model_for(target.part, [commands(target.part, own) for own in found])
                meant = model_for(target.part, [commands(target.part, payload_of(sends, chip)) for chip in range(target.chips)])
                self.assertTrue(np.array_equal(glass_of(shown, target.panel), glass_of(meant, target.panel)))
                self.assertTrue(shown.glass(target.panel).shown)

    @given(st.data())
    @settings(deadline=None, max_examples=40)
    def test_random_text_at_random_phases_comes_back(self, data: st.DataObject) -> None:
        from hushed_wire.part.framing import payload_of
        from hushed_wire.rig.rehearse import steps_of

        name = data.draw(st.sampled_from(sorted(name for name in WAYS if "st7" not in name)))
        text, _ = WAYS[name]
        (FOLDER / "rig.toml").write_text(text)
        rig = load_rig(FOLDER / "rig.toml")
        target = rig.target(rig.device[0])
        digits = target.panel.form == "digits"
        pixels = target.part.memory.kind in ("paged", "pixel", "paper", "chain", "dimmed") or target.panel.form in (
            "matrix",
            "colours",
        )
        drawn = []
        for _ in range(data.draw(st.integers(1, 3))):
            if pixels:
                x, y = data.draw(st.integers(0, target.panel.width - 1)), data.draw(st.integers(0, target.panel.height - 1))
                drawn.append(data.draw(st.sampled_from([f"point {x},{y}", f"line 0,0 {x},{y}", "fill on", f"fill {x % 256}"])))
            else:
                room = target.panel.width
                said = data.draw(st.text("0123456789-EHLP" if digits else "ABCXYZ 0123456789=.", min_size=1, max_size=room))
                drawn.append(f'text 0,{0 if digits else data.draw(st.integers(0, target.panel.height - 1))} "{said}"')
        start = "\n".join(line for line in start_text(target).splitlines() if not line.startswith("reset"))
        (FOLDER / "s.hush").write_text(start + "\n" + "\n".join(drawn) + "\n")
        trace, _ = rehearse(FOLDER / "s.hush", rig, seed=data.draw(st.integers(0, 99)), jitter=2e-9)
        found = payloads(trace, rig)["show"]
        sends = [(k, send) for k, step in enumerate(steps_of(FOLDER / "s.hush", rig, [])) for send in step.sends]
        shown = model_for(target.part, [commands(target.part, own) for own in found])
        meant = model_for(target.part, [commands(target.part, payload_of(sends, chip)) for chip in range(target.chips)])
        self.assertTrue(np.array_equal(glass_of(shown, target.panel), glass_of(meant, target.panel)), (name, drawn))

    def test_a_chain_gives_each_part_its_own_words(self) -> None:
        text = bus("spi", ["sck", "mosi", "cs"], clock="2MHz") + "".join(
            device("max7219", "4-digits", position=k).replace('"show"', f'"digits{k}"') for k in range(3)
        )
        (FOLDER / "rig.toml").write_text(text)
        rig = load_rig(FOLDER / "rig.toml")
        start = start_text(rig.target(rig.device[0]))
        (FOLDER / "s.hush").write_text("".join(f'device digits{k}\n{start}text 0,0 "{k}2.3{k}"\n' for k in range(3)))
        trace, _ = rehearse(FOLDER / "s.hush", rig)
        found = payloads(trace, rig)
        for k in range(3):
            target = rig.target(rig.device[k])
            self.assertEqual(
                model_for(target.part, [commands(target.part, found[f"digits{k}"][0])]).glass(target.panel).lines, [f"{k}2.3{k}"]
            )

    def test_devices_with_selects_and_word_lengths_of_their_own_share_a_bus(self) -> None:
        lcd = device("pcd8544", "84x48", select="cs1")
        text = (
            bus("spi", ["sck", "mosi", "cs1", "cs2", "dc"], clock="2MHz")
            + lcd
            + device("max7219", "8-digits", select="cs2").replace("show", "digits")
        )
        (FOLDER / "rig.toml").write_text(text)
        rig = load_rig(FOLDER / "rig.toml")
        first, second = (rig.target(entry) for entry in rig.device)
        start = "\n".join(line for line in start_text(first).splitlines() if not line.startswith("reset"))
        (FOLDER / "s.hush").write_text(
            f'{start}\ntext 3,9 "GATE"\ndevice digits\n{start_text(second)}text 0,0 "4.25"\ndevice show\ntext 3,30 "OPEN"\n'
        )
        found = payloads(rehearse(FOLDER / "s.hush", rig)[0], rig)
        digits = model_for(second.part, [commands(second.part, found["digits"][0])]).glass(second.panel)
        self.assertEqual((digits.lines, digits.shown), (["4.25     "[:9]], True))
        shown = model_for(first.part, [commands(first.part, found["show"][0])]).glass(first.panel)
        self.assertTrue(shown.lit[9:20].any() and shown.lit[30:41].any() and shown.shown)

    def test_waits_and_minimum_times_are_on_the_wires(self) -> None:
        (FOLDER / "rig.toml").write_text(WAYS["hd44780, 8 bits"][0])
        rig = load_rig(FOLDER / "rig.toml")
        (FOLDER / "s.hush").write_text("function-set width=8 lines=2 font=5x8\nclear\ndata 0x41 0x42\nwait 3ms\ndata 0x43")
        for share, least in ((None, (37e-6, 1.52e-3, 41e-6, 3e-3)), ("short-wait:10", (3e-6, 0.15e-3, 4e-6, 0.3e-3))):
            from hushed_wire.rig.vocabulary import parse_mishap

            trace, _ = rehearse(FOLDER / "s.hush", rig, mishaps=[parse_mishap(share)] if share else [])
            times = payloads(trace, rig)["show"][0].time
            gaps = np.diff(times) * float(trace.tick)
            for gap, wanted in zip(gaps, least, strict=True):
                self.assertTrue(wanted <= gap <= 1.5 * wanted + 40e-6, (share, gap, wanted))
        self.assertGreater(int(trace.edges(trace.index("E")).durations()[1:-1].min()) * float(trace.tick), 230e-9)


class Twins(unittest.TestCase):
    """decode(encode(x)) == x for each bus, sampled at any phase."""

    @given(st.data())
    @settings(deadline=None, max_examples=60)
    def test_spi(self, data: st.DataObject) -> None:
        bits = data.draw(st.integers(1, 32))
        lengths = np.array(data.draw(st.lists(st.integers(1, 5), min_size=1, max_size=6)), np.int64)
        total = int(lengths.sum())
        value = np.array(data.draw(st.lists(st.integers(0, 2**bits - 1), min_size=total, max_size=total)), np.uint32)
        dc = np.array(data.draw(st.lists(st.booleans(), min_size=total, max_size=total)))
        shape = spi.Shape(
            bits, 100, 200, 100, data.draw(st.integers(0, 3)), data.draw(st.booleans()), data.draw(st.integers(0, 1))
        )
        took = spi.durations(lengths, shape)
        start = 1000 + np.cumsum(took + 500) - took
        roles = {"sck": 0, "mosi": 1, "cs": 2, "dc": 3}
        trace = spi.encode(
            value, lengths, start, shape, roles, tuple(roles), TICK, int(start[-1] + took[-1]) + 900, dc, ["cs"] * len(lengths)
        )
        if data.draw(st.booleans()):
            trace = sampled(trace, Fraction(60_000_000), data.draw(st.integers(0, 99)), 2e-9)
        found = spi.decode(trace, 0, 1, shape, 2, 3)
        self.assertEqual(found.words.value.tolist(), value.tolist())
        self.assertEqual((found.transactions.last - found.transactions.first).tolist(), lengths.tolist())
        self.assertEqual(found.dc.tolist(), dc.astype(int).tolist())  # type: ignore[union-attr]

        # A capture that begins anywhere in it has the words that follow, whatever is left of the one that it begins in.
        cut = data.draw(st.integers(trace.start, trace.end - 1))
        late = spi.decode(trace.window(cut, trace.end), 0, 1, shape, 2, 3)
        whole = found.words.start > cut  # the first sampled bit tells where a word starts; the edge ahead of it may be cut off
        self.assertEqual(late.words.value.tolist(), value[whole].tolist())

    @given(st.data())
    @settings(deadline=None, max_examples=60)
    def test_pulses_in_blocks_of_any_size(self, data: st.DataObject) -> None:
        lengths = np.array(data.draw(st.lists(st.integers(1, 12), min_size=1, max_size=5)), np.int64)
        value = np.frombuffer(data.draw(st.binary(min_size=int(lengths.sum()), max_size=int(lengths.sum()))), np.uint8)
        took = 8 * lengths * 1250
        start = 100_000 + np.cumsum(took + 300_000) - took - 300_000
        trace = pulse.encode(value, start, lengths, {"data": 0}, ("DIN",), TICK, int(start[-1] + took[-1]) + 100_000)
        if data.draw(st.booleans()):
            trace = sampled(trace, Fraction(20_000_000), data.draw(st.integers(0, 49)), 2e-9)
        wired = Wired("bus", {"data": 0}, Settings(), trace.tick)
        cut = data.draw(st.integers(trace.start, trace.end - 1)) if data.draw(st.booleans()) else trace.start
        late = trace.window(cut, trace.end)

        def decoded(most: int) -> Channel:
            (decoder,) = pulse.decoders(wired, [])
            return as_one([*(decoder.feed(piece) for piece in late.pieces(most)), decoder.finish()])

        whole = decoded(1 << 20)
        for most in (1, 2, 7):
            other = decoded(most)
            for name in ("words", "table"):
                for column in getattr(whole, name).__dataclass_fields__:
                    one, two = (getattr(getattr(own, name), column).tolist() for own in (whole, other))
                    self.assertEqual(one, two, (most, name, column))
        # What begins ahead of the capture brings no words; all that follows does.
        seen = np.repeat(start * float(TICK / trace.tick) > cut + 60_000 * float(TICK / trace.tick), lengths)
        count = int(np.count_nonzero(seen))
        self.assertEqual(whole.words.value.tolist()[-count:] if count else [], value[seen].tolist())

    def test_a_select_that_is_tied_tells_by_the_data_line(self) -> None:
        rng = np.random.default_rng(5)
        value, dc = rng.integers(0, 256, 400).astype(np.uint32), np.repeat(rng.integers(0, 2, 40).astype(bool), 10)
        shape, roles = spi.Shape(8, 100, 200, 100), {"sck": 0, "mosi": 1, "cs": 2, "dc": 3}
        trace = spi.encode(value, np.array([400]), np.array([1000]), shape, roles, tuple(roles), TICK, 700_000, dc, ["cs"])
        tied = trace.window(1200 + 1600 * 7 + 650, 1200 + 1600 * 380)  # in the middle of a byte, and the select never ends
        self.assertEqual(spi.decode(tied, 0, 1, shape, 2, 3).words.value.tolist(), value[8:380].tolist())
        with mock.patch("hushed_wire.bus.spi.WAITED", 64):
            self.assertEqual(spi.decode(tied, 0, 1, shape, 2, 3).words.value.tolist(), value[8:380].tolist())

    def test_spi_as_it_is_said_to_be_clocked(self) -> None:
        # Words of any length and order on lines of any name, whole, streamed, by a rig with options over it.
        folder, random = scratch(), np.random.default_rng(6)
        for mode, bits, msb, active in (
            (0, 24, True, 0),
            (1, 11, False, 0),
            (2, 32, False, 1),
            (3, 5, True, 1),
            (3, 16, False, 0),
        ):
            shape = spi.Shape(bits, 100, 200, 100, mode, msb, active)
            lengths = random.integers(1, 6, 5)
            value = random.integers(0, 2**bits, int(lengths.sum()), dtype=np.uint64).astype(np.uint32)
            took = spi.durations(lengths, shape)
            start = 1000 + np.cumsum(took + 900) - took
            roles, names = {"sck": 2, "mosi": 0, "cs": 1}, ("W0", "W1", "W2")
            end = int(start[-1] + took[-1]) + 900
            trace = spi.encode(value, lengths, start, shape, roles, names, TICK, end, None, ["cs"] * len(lengths))
            (folder / "words.vcd").write_bytes(b"".join(vcd.write(trace)))
            lines = [word for role, line in roles.items() for word in ("--line", f"{role}=W{line}")]
            said = ["--mode", str(mode), "--bits", str(bits), "--select", "high" if active else "low"]
            said += ["--order", "msb" if msb else "lsb"]
            whole = program_json("decode", "words.vcd", *lines, *said, "--save-rig", "saved.toml", cwd=folder)["transactions"]
            streamed = program("decode", "words.vcd", *lines, *said, "--format", "jsonl", cwd=folder).stdout.splitlines()[:-1]
            by_rig = program_json("decode", "words.vcd", "--rig", "saved.toml", cwd=folder)["transactions"]
            (folder / "plain.toml").write_text(
                '[[bus]]\nname = "bus"\nkind = "spi"\nlines = { sck = "W2", mosi = "W0", cs = "W1" }\n'
            )
            over = program_json("decode", "words.vcd", "--rig", "plain.toml", *said, cwd=folder)["transactions"]
            ends = np.cumsum(lengths)
            sent = [value[last - count : last].tolist() for last, count in zip(ends.tolist(), lengths.tolist(), strict=True)]
            for found in (whole, [json.loads(line) for line in streamed], by_rig, over):
                self.assertEqual([one["words"] for one in found], sent, said)
        for words, why in (
            (("decode", "words.vcd", *lines, "--bits", "33"), "--bits: a word of 33 bits"),
            (
                ("decode", "words.vcd", "--line", "scl=W0", "--line", "sda=W1", "--mode", "1"),
                "--mode: a bus of kind i2c has none",
            ),
            (
                ("decode", "words.vcd", "--line", "scl=W0", "--line", "sda=W1", "--order", "lsb", "--format", "jsonl"),
                "--order: a bus of",
            ),
        ):
            done = program(*words, cwd=folder)
            self.assertEqual(done.returncode, 2)
            self.assertIn(why, done.stderr.decode())

    @given(st.data())
    @settings(deadline=None, max_examples=60)
    def test_parallel(self, data: st.DataObject) -> None:
        kind = data.draw(st.sampled_from(["e", "wr"]))
        wires = data.draw(st.sampled_from([range(8), range(16), range(4, 8)]))
        mask = sum(1 << k for k in wires)
        count = data.draw(st.integers(1, 12))
        value = np.array(data.draw(st.lists(st.integers(0, 65535), min_size=count, max_size=count)), np.uint32) & mask
        flags = np.array(data.draw(st.lists(st.booleans(), min_size=count, max_size=count)))
        chips = np.array(data.draw(st.lists(st.integers(1, 3), min_size=count, max_size=count)), np.uint8)
        roles = {role: k for k, role in enumerate([*(f"d{k}" for k in wires), "rs", kind, "cs1", "cs2"])}
        pulse = parallel.Pulse(100, 150, 200, data.draw(st.integers(0, 1)))
        start = 700 + np.arange(count) * pulse.cycle
        trace = parallel.encode(value, flags, chips, start, pulse, roles, tuple(roles), TICK, int(start[-1]) + 2000)
        trace = sampled(trace, Fraction(80_000_000), data.draw(st.integers(0, 99)), 2e-9)
        found = parallel.decode(trace, roles, pulse.select_active)
        self.assertEqual(found.words.value.tolist(), value.tolist())
        self.assertEqual((found.data.tolist(), found.chips.tolist()), (flags.astype(int).tolist(), chips.tolist()))

    @given(st.data())
    @settings(deadline=None, max_examples=60)
    def test_shift(self, data: st.DataObject) -> None:
        chain = shift.Chain(8 * data.draw(st.integers(1, 6)), 100, data.draw(st.booleans()))
        value = np.array(data.draw(st.lists(st.integers(0, 2**chain.bits - 1), min_size=1, max_size=8)), np.uint64)
        names = ("clock", "data", "latch")[: data.draw(st.integers(2, 3))]
        start = 500 + np.arange(len(value)) * (shift.duration(chain) + 300)
        trace = shift.encode(value, start, chain, {name: k for k, name in enumerate(names)}, names, TICK, int(start[-1]) + 90_000)
        trace = sampled(trace, Fraction(60_000_000), data.draw(st.integers(0, 99)), 2e-9)
        self.assertEqual(shift.decode(trace, {name: k for k, name in enumerate(names)}, chain).value.tolist(), value.tolist())


if __name__ == "__main__":
    unittest.main()
