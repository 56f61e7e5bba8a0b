"""Drivers that are emitted: compiled without a warning, run on a board of the test's own, and compared with what they come from."""

import binascii
import contextlib
import functools
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import unittest
import unittest.mock
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import serial
import tomli_w
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.link.probe_watch import ProbeWatch
from hushed_wire.link.record import Recorded
from hushed_wire.link.record import record as record_pieces
from hushed_wire.link.serial_probe import open_serial
from hushed_wire.part import load
from hushed_wire.port.names import identifier, remark
from hushed_wire.rig import decode, load_rig
from hushed_wire.trace import joined
from maker.masters import I2c as Master
from maker.wave import Wave
from ports.stand_in import GpioChip, I2c, KernelI2c, KernelSpi, Spi, Wires, clock_of, pin
from support import ROOT, demo, program, scratch

FOLDER = scratch()
STRICT = ("-std=c99", "-pedantic", "-Wall", "-Wextra", "-Wconversion", "-Wshadow", "-Wunused-macros", "-Werror", "-O1")
PORTS = ROOT / "tests" / "ports"
INTERPRETER = ROOT / "build" / "ports" / "node_modules" / "@micropython" / "micropython-webassembly-pyscript"
PLACES = {
    "front-desk": "tide.hush", "pump-room": "pump-room.hush", "wheelhouse": "wheelhouse.hush", "handheld": "handheld.hush",
    "engine-room": "engine-room.hush", "gate-keeper": "gate-keeper.hush",
}  # fmt: skip


def record(target: str, place: str, *how: str) -> None:
    """What was done with the driver of a place, for the table of docs/port.md: `make ports` collects it."""
    if "HUSHED_WIRE_PROVEN" in os.environ:
        with Path(os.environ["HUSHED_WIRE_PROVEN"]).open("a") as file:
            file.write(json.dumps([target, place, how]) + "\n")


def emitted(place: str, target: str, *more: str, driver: str = "") -> tuple[Path, str]:
    """The folder of a driver, and the name of its files."""
    folder = FOLDER / f"{place}-{target}-{len(list(FOLDER.iterdir()))}"
    done = program("emit", driver or PLACES[place], "--rig", f"{place}.toml", "--for", target, "-o", str(folder), *more)
    assert done.returncode == 0, done.stderr.decode()
    names = [path.stem for path in folder.iterdir() if not path.stem.endswith("_port")]
    return folder, names[0]


def on_the_host(folder: Path, name: str, lines: dict[str, str], draw: str = "") -> Path:
    """Compiles a driver with the test's board, runs it, and gives the capture. lines: role to line of the rig."""
    header = (folder / f"{name}_port.h").read_text()
    pins = re.findall(rf"^    {name.upper()}_(\w+)", header[header.index("enum") : header.index("};")], re.MULTILINE)
    names = ",".join(f'"{lines[pin.lower()]}"' for pin in pins)
    shows = f"{name}_show" in (folder / f"{name}.h").read_text()
    scans = f"{name}_scan(" in (folder / f"{name}.h").read_text()
    shows = shows and not scans
    body = f'#include "{name}.h"\n{draw}\n#include "{ROOT / "tests" / "ports" / "host.c"}"\n'
    (folder / "main.c").write_text(body)
    flags = [f"-DDRIVER={name}", f"-DNAMES={names}", *(["-DSHOW"] if shows and not draw else []), *(["-DDRAW"] if draw else [])]
    if scans:
        flags += [f"-DSCAN={name.upper()}_PICTURES", f"-DPERIOD={name.upper()}_SCAN_US"]
    if "SDA" in pins:
        flags += ["-DOPEN_DRAIN", f"-DSCL_OF={name.upper()}_SCL", f"-DSDA_OF={name.upper()}_SDA"]
    for source in sorted(folder.glob(f"{name}*.c")):
        made = subprocess.run(["gcc", *STRICT, "-c", source.name], cwd=folder, capture_output=True, check=False)
        assert made.returncode == 0, made.stderr.decode()
    objects = [path.name for path in folder.glob("*.o")]
    made = subprocess.run(
        ["gcc", "-std=c99", "-O1", *flags, "main.c", *objects, "-o", "board"], cwd=folder, capture_output=True, check=False
    )
    assert made.returncode == 0, made.stderr.decode()
    ran = subprocess.run(["./board", "out.vcd"], cwd=folder, capture_output=True, check=False, timeout=60)
    assert ran.returncode == 0, (ran.returncode, ran.stderr)
    return folder / "out.vcd"


@functools.cache
def scanned() -> tuple[str, ...]:
    """Places with LEDs that take turns: the demo's, and digits, which it does not have, with a rig, a sequence and a capture of their own."""
    roles = [f"digit{k}" for k in range(4)] + [f"segment_{name}" for name in (*"abcdefg", "dp")]
    lines = ", ".join(f'{role} = "{role.upper()}"' for role in roles)
    (demo() / "level.toml").write_text(
        f'[[bus]]\nname = "level"\nkind = "matrix"\nlines = {{ {lines} }}\n\n'
        '[[device]]\nname = "level"\non = "level"\npart = "led-digits"\npanel = "4-digits"\n'
    )
    (demo() / "level.hush").write_text('text 0,0 "4.20"\nwait 200ms\n')
    done = program("rehearse", "level.hush", "--rig", "level.toml", "-o", "level.vcd", "-q")
    assert done.returncode == 0, done.stderr
    return "gate-signal", "led-sign", "level"


@functools.cache
def behind_a_register() -> str:
    """A character display behind a shift register, which the demo does not have."""
    (demo() / "register.toml").write_text(
        '[[bus]]\nname = "reg"\nkind = "shift"\nclock = "400kHz"\nlines = { clock = "CLOCK", data = "DATA", latch = "LATCH" }\n\n'
        '[[bridge]]\nname = "register"\non = "reg"\npart = "74hc595"\n'
        'drives = { rs = "q1", e = "q2", d4 = "q4", d5 = "q5", d6 = "q6", d7 = "q7" }\n\n'
        '[[device]]\nname = "glass"\non = "register"\npart = "hd44780"\npanel = "16x2"\n'
    )
    start = program("catalog", "hd44780", "--panel", "16x2", "--start", "--framing", "nibbles").stdout.decode()
    (demo() / "register.hush").write_text(f'{start}\ntext 0,0 "GATE OPEN"\ntext 3,1 "4.20 m"\n')
    return "register"


def lines_of(place: str) -> dict[str, str]:
    """Role to line of a demo rig's bus."""
    return load_rig(demo() / f"{place}.toml").bus[0].lines


# Drawn by calls of the driver, in C and in Python, and by the sequence language.
DRAWN = {
    "front-desk": (
        'tide_clear(true); tide_clear(false); tide_text(3, 2, "GATE 07"); ok = tide_flush(true); tide_pixel(127, 63, true); tide_pixel(5, 3, false);'
        " tide_pixel(200, 3, true); ok = ok && tide_flush(false);",
        "o.clear(True); o.clear(); o.text(3, 2, 'GATE 07'); o.flush(True); o.pixel(127, 63); o.pixel(5, 3, False); o.pixel(200, 3); o.flush()",
        'fill off\ntext 3,2 "GATE 07"\npoint 127,63\npoint 5,3 colour=off',
    ),
    "handheld": (
        'hand_lcd_clear(false); hand_lcd_text(10, 20, "4.20 m"); ok = hand_lcd_flush(false);',
        "o.clear(); o.text(10, 20, '4.20 m'); o.flush()",
        'fill off\ntext 10,20 "4.20 m"',
    ),
    "engine-room": (
        'engine_lcd_clear(false); engine_lcd_text(50, 16, "TIDE"); engine_lcd_pixel(0, 0, true); ok = engine_lcd_flush(true);',
        "o.clear(); o.text(50, 16, 'TIDE'); o.pixel(0, 0); o.flush(True)",
        'fill off\ntext 50,16 "TIDE"\npoint 0,0',
    ),
    "pump-room": (
        "static const uint8_t up[8] = { 4, 14, 21, 4, 4, 4, 4, 0 };"
        ' ok = pump_lcd_own_glyph(1, up) && pump_lcd_text(2, 1, "SUMP of the lower lock") && pump_lcd_number(10, 2, 7, -1205, 2)'
        " && pump_lcd_at(19, 3) && pump_lcd_character(1) && !pump_lcd_at(20, 3);",
        "o.own_glyph(1, (4, 14, 21, 4, 4, 4, 4, 0)); o.text(2, 1, 'SUMP of the lower lock'); o.number(10, 2, 7, -1205, 2);"
        " o.at(19, 3); o._send(True, bytes((1,)))",
        'glyph 1 4 14 21 4*4 0\ntext 2,1 "SUMP of the lower"\ntext 10,2 " -12.05"\ntext 19,3 "{1}"',
    ),
    "wheelhouse": (
        'ok = digits_number(0, 4, -57, 1) && digits_text(4, "4.0-1") && digits_number(7, 1, 8, 0);',
        "o.number(0, 4, -57, 1); o.text(4, '4.0-1'); o.number(7, 1, 8)",
        'text 0,0 " -5.7"\ntext 4,0 "4.0-8"',
    ),
    "gate-keeper": (
        'ok = gate_tft_box(0, 0, 500, 500, GATE_TFT_RGB(0x20U, 0x30U, 0x40U)) && gate_tft_text(20, 30, "OPEN", 0xFFFFU, 0U)'
        " && gate_tft_pixel(239, 319, 0xF800U) && gate_tft_box(240, 0, 4, 4, 0xFFFFU);",
        "o.box(0, 0, 500, 500, o.rgb(0x20, 0x30, 0x40)); o.text(20, 30, 'OPEN', 0xFFFF, 0); o.pixel(239, 319, 0xF800)",
        'fill 0x203040\nrectangle 20,30 24x8 colour=black filled=yes\ntext 20,30 "OPEN" white ground=clear\npoint 239,319 colour=0xFF0000',
    ),
}


# The same page by page, where no frame is held in RAM.
PAGED = {
    "front-desk": (
        'ok = tide_clear(false) && tide_text(3, 2, "GATE 07") && tide_text(110, 7, "OPEN") && tide_row(7, 126, 9) && tide_dots(0x80) && tide_dots(1)'
        " && tide_dots(255) && tide_row_end() && !tide_row(8, 0, 1) && !tide_row(0, 128, 1);",
        "o.clear(); o.text(3, 2, 'GATE 07'); o.text(110, 7, 'OPEN'); o.row(7, 126, bytes((0x80, 1, 255))); o.row(8, 0, b'1'); o.row(0, 128, b'1')",
        'fill off\ntext 3,16 "GATE 07"\ntext 110,56 "OPE"\nrectangle 126,56 2x8 colour=off filled=yes\npoint 126,63\npoint 127,56',
    ),
    "handheld": (
        'ok = hand_lcd_clear(true) && hand_lcd_clear(false) && hand_lcd_text(10, 3, "4.20 m of the lower lock");',
        "o.clear(True); o.clear(); o.text(10, 3, '4.20 m of the lower lock')",
        'fill off\ntext 10,24 "4.20 m of th"\n'
        + "\n".join(f"point {at}" for at in ("82,27", "82,28", "82,29", "83,26", "83,28", "83,30")),
    ),
    "engine-room": (
        'ok = engine_lcd_clear(false) && engine_lcd_text(50, 2, "TIDE");',
        "o.clear(); o.text(50, 2, 'TIDE')",
        'fill off\ntext 50,16 "TIDE"',
    ),
}


class Proven(unittest.TestCase):
    """What a driver puts on the wires is what the sequence says, and nothing is wrong with it."""

    def proven(self, place: str, capture: Path, reference: str) -> None:
        done = program("compare", reference, str(capture), "--rig", f"{place}.toml", "--times", "--format", "json")
        told = json.loads(done.stdout)
        self.assertEqual(told["same"], dict.fromkeys(("words", "commands", "state", "picture"), True), told["differences"][:3])
        self.assertEqual(done.returncode, 0, told["verdict"])
        judged = json.loads(program("diagnose", str(capture), "--rig", f"{place}.toml", "--format", "json").stdout)
        self.assertEqual([found["summary"] for found in judged["findings"] if found["severity"] != "note"], [])

    def shown(self, place: str, capture: Path, lines: str) -> None:
        """The picture at the end is what lines of the sequence language draw behind the same set-up."""
        text = (demo() / PLACES[place]).read_text()
        begins = min(at for at in (text.find(verb) for verb in ("\nglyph ", "\ntext ", "\npicture ", "\ncounter ")) if at >= 0)
        lit = "\ndisplay on\nbacklight on" if place == "gate-keeper" else ""
        (demo() / "drawn.hush").write_text(f"{text[:begins]}\n{lines}{lit}\n")
        done = program("compare", "drawn.hush", str(capture), "--rig", f"{place}.toml", "--format", "json")
        self.assertNotEqual(done.returncode, 2, done.stderr)
        told = json.loads(done.stdout)
        grave = [entry for entry in told["differences"] if entry["reason"] in ("other-memory", "other-picture")]
        end = told["devices"][0]["end_same"]
        self.assertTrue(end, grave[:3])


@unittest.skipUnless(shutil.which("gcc"), "no gcc")
class OnTheHost(Proven):
    """C over a table of functions."""

    def test_every_place(self) -> None:
        for place, sequence in PLACES.items():
            with self.subTest(place):
                folder, name = emitted(place, "c")
                self.proven(place, on_the_host(folder, name, lines_of(place)), sequence)
                record("c", place, "compiled", "run", "compared", "diagnosed")

    def test_other_parts_and_wirings(self) -> None:
        """The catalog's own bring-up and something drawn, on parts and wirings that the demo does not have."""
        eight = {f"d{k}": f"D{k}" for k in range(8)}
        wired = {
            "i2c": ("i2c", {"scl": "SCL", "sda": "SDA"}, 'clock = "100kHz"'),
            "dc-line": ("spi", {"sck": "SCK", "mosi": "MOSI", "cs": "CS", "dc": "DC", "reset": "RST"}, 'clock = "1MHz"'),
            "mode-3": ("spi", {"sck": "SCK", "mosi": "MOSI", "cs": "CS", "dc": "DC", "reset": "RST"}, 'clock = "1MHz"\nmode = 3'),
            "nine-bit": ("spi", {"sck": "SCK", "mosi": "MOSI", "cs": "CS"}, 'clock = "1MHz"\nbits = 9'),
            "register-pairs": ("spi", {"sck": "SCK", "mosi": "MOSI", "cs": "CS"}, 'clock = "1MHz"'),
            "rs-line": ("parallel", {"rs": "RS", "rw": "RW", "e": "E", **eight}, ""),
        }
        for part, panel, way in (
            ("ssd1306", "128x32", "dc-line"), ("ssd1306", "72x40", "nine-bit"), ("sh1106", "128x64", "i2c"), ("ht16k33", "8x8", "i2c"),
            ("st7735", "128x160", "mode-3"), ("ili9341", "320x240", "dc-line"), ("max7219", "32x8", "register-pairs"), ("hd44780", "16x1-split", "rs-line"),
        ):  # fmt: skip
            with self.subTest(part=part, panel=panel, way=way):
                own = load(part)
                name = next((known for known in own.panels if known == panel), next(iter(own.panels)))
                kind, roles, more = wired[way]
                lines = ", ".join(f'{role} = "{line}"' for role, line in roles.items())
                address = f"address = {own.i2c.addresses[0]}\n" if own.i2c is not None and kind == "i2c" else ""
                (demo() / "other.toml").write_text(
                    f'[[bus]]\nname = "w"\nkind = "{kind}"\n{more}\nlines = {{ {lines} }}\n\n'
                    f'[[device]]\nname = "glass"\non = "w"\npart = "{part}"\npanel = "{name}"\n{address}'
                )
                framing = own.framings[0] if way == "i2c" else {"mode-3": "dc-line"}.get(way, way)
                start = program("catalog", part, "--panel", name, "--start", "--framing", framing).stdout.decode()
                shows = 'text 0,0 "1.2"' if own.memory.kind == "character" else "fill off\nrectangle 1,2 5x4"
                (demo() / "other.hush").write_text(f"{start}\n{shows}\n")
                folder, file = emitted("other", "c", driver="other.hush")
                self.proven("other", on_the_host(folder, file, roles), "other.hush")

    def test_behind_a_register(self) -> None:
        place = behind_a_register()
        folder, name = emitted(place, "c", driver="register.hush")
        self.proven(place, on_the_host(folder, name, lines_of(place)), "register.hush")

    def test_scanned(self) -> None:
        for place in scanned():
            with self.subTest(place):
                folder, name = emitted(place, "c", driver=f"{place}.hush")
                capture = on_the_host(folder, name, lines_of(place))
                told = json.loads(
                    program(
                        "compare", f"{place}.hush", str(capture), "--rig", f"{place}.toml", "--by", "picture", "--format", "json"
                    ).stdout
                )
                self.assertIs(told["same"]["picture"], True, told["differences"])
                judged = json.loads(program("diagnose", str(capture), "--rig", f"{place}.toml", "--format", "json").stdout)
                self.assertEqual([found["summary"] for found in judged["findings"] if found["severity"] != "note"], [])
                shown = json.loads(
                    program("screen", str(capture), "--rig", f"{place}.toml", "--at", "100ms", "--format", "json").stdout
                )
                self.assertTrue(
                    any(c not in " ." for row in shown["screens"][0].get("rows") or shown["screens"][0]["lines"] for c in row)
                )
                record("c", place, "compiled", "run", "compared", "diagnosed")

    def test_what_is_drawn(self) -> None:
        for place, (calls, _, lines) in DRAWN.items():
            with self.subTest(place):
                folder, name = emitted(place, "c", "--no-show")
                capture = on_the_host(
                    folder, name, lines_of(place), f"static bool draw(void) {{ bool ok = true; {calls} return ok; }}"
                )
                self.shown(place, capture, lines)
        for place, (calls, _, lines) in PAGED.items():
            with self.subTest(place, frame=False):
                folder, name = emitted(place, "c", "--no-show", "--no-frame")
                draw = f"static bool draw(void) {{ bool ok = true; {calls} return ok; }}"
                self.shown(place, on_the_host(folder, name, lines_of(place), draw), lines)

    def test_every_place_by_the_peripherals_of_the_table(self) -> None:
        for place in ("front-desk", "handheld"):
            folder, name = emitted(place, "c", "--bus", "hardware")
            for source in sorted(folder.glob(f"{name}*.c")):
                made = subprocess.run(["gcc", *STRICT, "-c", source.name], cwd=folder, capture_output=True, check=False)
                self.assertEqual((made.returncode, made.stderr), (0, b""), place)

    def test_on_linux(self) -> None:
        """Compiled, and run against stand-ins of the kernel's devices: what they are told becomes wires."""
        pins = {"wheelhouse": ["--pin", "cs=8"],
                "engine-room": [word for k, role in enumerate(lines_of("engine-room")) for word in ("--pin", f"{role}={k + 2}")]}  # fmt: skip
        for name in ("i2c_shim", "pins_shim"):
            source = ROOT / "tests" / f"{name}.c"
            subprocess.run(["cc", "-shared", "-fPIC", "-O1", "-o", FOLDER / f"{name}.so", source, "-ldl"], check=True)
        for place, sequence in PLACES.items():
            with self.subTest(place):
                folder, name = emitted(place, "linux", *pins.get(place, ()))
                for source in sorted(folder.glob(f"{name}*.c")):
                    made = subprocess.run(["gcc", *STRICT, "-c", source.name], cwd=folder, capture_output=True, check=False)
                    self.assertEqual((made.returncode, made.stderr), (0, b""), place)
                (folder / "main.c").write_text(LINUX_MAIN.format(name=name))
                objects = [path.name for path in folder.glob("*.o")]
                subprocess.run(["gcc", "-O1", "main.c", *objects, "-o", "board"], cwd=folder, check=True)
                shims = ":".join(str(FOLDER / f"{shim}.so") for shim in ("i2c_shim", "pins_shim"))
                told = {"LD_PRELOAD": shims, "SHIM_LOG": str(folder / "log"), "SHIM_ANSWERS": "3d,23"}
                ran = subprocess.run(
                    ["./board"], cwd=folder, env={**os.environ, **told}, capture_output=True, check=False, timeout=60
                )
                self.assertEqual(ran.returncode, 0, ran.stderr)
                header = (folder / f"{name}_port.h").read_text()
                at = {
                    int(number): role.lower()
                    for role, number in re.findall(rf"{name.upper()}_(\w+),? /\* line (\d+) \*/", header)
                }
                self.replayed(place, (folder / "log").read_text().splitlines(), at).write(folder / "out.vcd")
                self.proven(place, folder / "out.vcd", sequence)
                record("linux", place, "compiled", "run", "compared", "diagnosed")

    def replayed(self, place: str, log: list[str], at: dict[int, str]) -> Wires:
        """The wires that a kernel would have moved. at: role of each line of the chip."""
        lines = lines_of(place)
        wires = Wires(**{line: int(role in ("scl", "sda", "cs", "reset")) for role, line in lines.items()})
        spi = Spi(wires, lines["sck"], lines["mosi"]) if "sck" in lines else None
        i2c = I2c(wires, 5000 if place == "pump-room" else 1300) if "scl" in lines else None
        for entry in log:
            kind, *words = entry.split()
            if kind == "us":
                wires.now += 1000 * int(words[0])
            elif kind == "gpio":
                for number, level in (word.split("=") for word in words):
                    wires.put(lines[at[int(number)]], int(level))
            elif kind == "spi":
                assert spi is not None and words[0] == "8"
                spi.write(bytes.fromhex("".join(words[1:])))
            else:
                assert i2c is not None and words[0] == "write"
                i2c.writeto(int(kind, 16), bytes.fromhex("".join(words[1:])))
        return wires


# Waits are noted among what the devices are told, and take no time.
LINUX_MAIN = """
#include <stdio.h>
#include <stdlib.h>
#include <time.h>
#include "{name}.h"
int nanosleep(const struct timespec *rest, struct timespec *left)
{{
    FILE *log = fopen(getenv("SHIM_LOG"), "a");
    (void)left;
    fprintf(log, "us %ld\\n", (long)rest->tv_sec * 1000000 + rest->tv_nsec / 1000);
    fclose(log);
    return 0;
}}
int main(void) {{ return {name}_start() && {name}_show() ? 0 : 1; }}
"""


# Pins of the simulated part, by role.
AVR = {
    "front-desk": {"scl": "C5", "sda": "C4"}, "pump-room": {"scl": "C5", "sda": "C4"}, "wheelhouse": {"sck": "B5", "mosi": "B3", "cs": "B2"},
    "handheld": {"sck": "B5", "mosi": "B3", "cs": "B2", "dc": "B1", "reset": "B0"},
    "engine-room": {**{f"d{k}": f"D{k}" for k in range(8)}, "rs": "B0", "rw": "B1", "e": "B2", "cs1": "B3", "cs2": "B4", "reset": "C0"},
    "gate-signal": {**{f"row{k}": f"B{k}" for k in range(5)}, **{f"column{k}": f"D{k}" for k in range(7)}},
    "gate-keeper": {"sck": "B5", "mosi": "B3", "cs": "B2", "dc": "B1", "reset": "B0", "backlight": "C0"},
    "led-sign": {"a": "C0", "b": "C1", "clock": "B5", "data": "B3", "latch": "B2", "enable": "B1"},
}  # fmt: skip
FIRMWARE = """
#include <avr/interrupt.h>
#include <avr/sleep.h>
#include "{name}.h"
{draw}
int main(void) {{ _delay_ms(50); (void)({calls}); cli(); sleep_enable(); sleep_cpu(); return 0; }}
"""


class Probed(Proven):
    """A probe's firmware on a board whose serial port is a pseudo-terminal: scanned, spoken to, sent by, walked by; and its bus captured."""

    def probed(self, folder: Path, board: Callable[[int], list[str]]) -> None:
        """board: what runs it, with a device at an address."""
        with self.running(board(0x3D), folder) as path:
            found = json.loads(program("scan", "--link", path, "--format", "json").stdout)
            self.assertEqual(found["answered"], [0x3D])
            sent = program("send", "tide.hush", "--rig", "front-desk.toml", "--link", path)
            self.assertEqual(sent.returncode, 0, sent.stderr)
            self.spoken(path)
        self.assertEqual(program("find", str(folder / "out.vcd"), "fall=RST", "--format", "json").returncode, 0)
        told = json.loads(
            program("compare", "tide.hush", str(folder / "out.vcd"), "--rig", "front-desk.toml", "--format", "json").stdout
        )
        self.assertEqual(
            (told["same"]["words"], told["same"]["state"], told["same"]["picture"]), (True, True, True), told["differences"][:2]
        )
        (folder / "lamps.toml").write_text(
            '[[bus]]\nname = "lamps"\nkind = "i2c"\nlines = { scl = "SCL", sda = "SDA" }\n'
            '[[bridge]]\nname = "segments"\non = "lamps"\npart = "pcf8574"\naddress = 0x23\n'
        )
        with self.running(board(0x23), folder) as path:
            answers = b"no\nyes\na\nb\nc\nd\ne\nf\ng\ndp\n"
            walked = program("send", "--walk", "segments", "--rig", str(folder / "lamps.toml"), "--link", path, stdin=answers)
        self.assertEqual(walked.returncode, 0, walked.stderr)
        self.assertIn(b'segment_a = "p0"', walked.stdout)
        written = json.loads(program("decode", str(folder / "out.vcd"), "--format", "json").stdout)["transactions"]
        driven = [byte for one in written if one["address"] == 0x23 for byte in one["bytes"]]
        self.assertEqual([byte for byte in driven if byte.bit_count() == 1][-8:], [1 << bit for bit in range(8)], driven)

    @contextlib.contextmanager
    def running(self, words: list[str], folder: Path) -> Iterator[str]:
        """The path of the board's serial port."""
        with subprocess.Popen(words, cwd=folder, stdout=subprocess.PIPE) as board:
            try:
                assert board.stdout is not None
                yield next(line for line in iter(board.stdout.readline, b"") if line.startswith(b"/dev/")).decode().strip()
            finally:
                board.terminate()

    def spoken(self, path: str) -> None:
        """What docs/probe.md says of lines: the CRC is that of binascii, damaged ones are told, an answer that was lost is given again."""

        def line(text: str) -> bytes:
            return f"{binascii.crc_hqx(text.encode(), 0):04x} {text}\n".encode()

        with serial.Serial(path, 115200, timeout=2) as port:
            for asked, answer in (
                (line("41 who"), line("41 done talk=1 name=two-pins room=64")),
                (line("42 levels"), line("42 done scl=1 sda=1")),
                (b"1234 43 levels\n", b"495f 00 garbled\n"),
                (line("44 transfer 50 - 1"), line("44 refused 0")),
                (line("45 transfer 3d - 0"), line("45 done -")),
                (line("45 levels"), line("45 done -")),
                (line("46 line reset 0"), line("46 done")),
                (line("47 line reset 1"), line("47 done")),
                (line("48 transfer 3d 00" + "11" * 64 + " 0"), line("48 failed arguments")),
                (line("49 dance"), line("49 failed unknown")),
                (line("4a wait 50"), line("4a done")),
                (b"x" * 400 + b"\n", b"495f 00 garbled\n"),
                (line("4b scan 3c 3e"), line("4b done 3d")),
            ):
                port.write(asked)
                self.assertEqual(port.readline(), answer, asked)


@unittest.skipUnless(shutil.which("avr-gcc") and Path("/usr/include/simavr/sim_avr.h").exists(), "no avr-gcc or no simavr")
class OnTheAvr(Probed):
    """The registers of an 8-bit micro-controller, simulated: its pins are captured, its waits counted in its cycles."""

    @classmethod
    def setUpClass(cls) -> None:
        made = subprocess.run(
            ["gcc", "-O2", str(ROOT / "tests" / "ports" / "avr.c"), "-o", str(FOLDER / "avr"), "-lsimavr", "-lelf", "-lutil"],
            capture_output=True,
            check=False,
        )
        if made.returncode:
            raise unittest.SkipTest(made.stderr.decode())

    def run_on(self, place: str, *more: str, draw: str = "") -> Path:
        pins = [word for role, at in AVR[place].items() for word in ("--pin", f"{role}=P{at}")]
        folder, name = emitted(place, "avr", *pins, *more, driver=f"{place}.hush" if place not in PLACES else "")
        calls = f"{name}_start()" + (" && draw()" if draw else f" && {name}_show()" if "--no-show" not in more else "")
        (folder / "main.c").write_text(FIRMWARE.format(name=name, draw=draw, calls=calls))
        mcu = ["avr-gcc", "-mmcu=atmega328p", "-DF_CPU=16000000UL", "-Os"]
        for words in (
            [*mcu, *(flag for flag in STRICT if flag != "-O1"), "-c", f"{name}.c"],
            [*mcu, "-std=c99", "main.c", f"{name}.o", "-o", "a.elf"],
        ):
            made = subprocess.run(words, cwd=folder, capture_output=True, check=False)
            self.assertEqual((made.returncode, made.stderr), (0, b""), place)
        lines = lines_of(place)
        roles = [f"{lines[role]}={at}" + (f":{role}" if role in ("scl", "sda") else "") for role, at in AVR[place].items()]
        if "hardware" in more:
            chips = {"sck": "spi:sck", "mosi": "spi:mosi"}
            roles = [f"{lines[role]}={chips.get(role, at)}" for role, at in AVR[place].items()]
        ran = subprocess.run(
            [str(FOLDER / "avr"), "a.elf", "out.vcd", *roles], cwd=folder, capture_output=True, check=False, timeout=100
        )
        self.assertEqual(ran.returncode, 0, ran.stderr)
        return folder / "out.vcd"

    def test_every_place(self) -> None:
        for place, sequence in PLACES.items():
            with self.subTest(place):
                if place == "gate-keeper":  # its picture is larger than the flash
                    done = program("emit", sequence, "--rig", f"{place}.toml", "--for", "avr", "-o", "x", "--flash", "32768",
                                   *(word for role, at in AVR[place].items() for word in ("--pin", f"{role}=P{at}")))  # fmt: skip
                    self.assertEqual(done.returncode, 2)
                    self.assertIn(b"--no-show", done.stderr)
                    continue
                self.proven(place, self.run_on(place), sequence)
                record("avr", place, "compiled", "simulated", "compared", "diagnosed")

    def test_scanned(self) -> None:
        turns = """
static bool draw(void)
{{
    for (uint8_t k = 0; k < {0}_PICTURES; ++k) {{
        {1}_picture(k);
        for (uint32_t t = 0; t < {1}_stands(k); t += {0}_SCAN_US) {{ {1}_scan(); _delay_us({0}_SCAN_US - {2}U); }}
    }}
    {1}_dark();
    return true;
}}
"""
        for place, name, took in (("gate-signal", "d_signal", 60), ("led-sign", "sign", 900)):
            with self.subTest(place):
                capture = self.run_on(place, draw=turns.format(name.upper(), name, took))
                done = program(
                    "compare", f"{place}.hush", str(capture), "--rig", f"{place}.toml", "--by", "picture", "--format", "json"
                )
                self.assertEqual(done.returncode, 0, done.stdout[:500])
                judged = json.loads(program("diagnose", str(capture), "--rig", f"{place}.toml", "--format", "json").stdout)
                self.assertEqual([found["summary"] for found in judged["findings"] if found["severity"] != "note"], [])
                record("avr", place, "compiled", "simulated", "compared", "diagnosed")

    def test_the_peripheral_for_spi(self) -> None:
        for place in ("handheld", "wheelhouse"):
            with self.subTest(place):
                self.proven(place, self.run_on(place, "--bus", "hardware"), PLACES[place])

    def test_the_probe(self) -> None:
        """The emitted firmware on the simulated part, its serial port as a pseudo-terminal: scanned, spoken to, and its bus captured."""
        folder = FOLDER / "probe"
        done = program(
            "emit", "probe", "--for", "avr", "--pin", "scl=PC5", "--pin", "sda=PC4", "--pin", "reset=PB0", "-o", str(folder)
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        words = [
            "avr-gcc",
            "-mmcu=atmega328p",
            "-DF_CPU=16000000UL",
            "-Os",
            *(flag for flag in STRICT if flag != "-O1"),
            "probe.c",
            "-o",
            "a.elf",
        ]
        made = subprocess.run(words, cwd=folder, capture_output=True, check=False)
        self.assertEqual((made.returncode, made.stderr), (0, b""))
        wires = ["SCL=C5:scl", "SDA=C4:sda", "RST=B0", "--serial"]
        self.probed(folder, lambda at: [str(FOLDER / "avr"), "a.elf", "out.vcd", *wires, "--at", f"{at:02x}"])

        self.watched(folder, ["a.elf", "out.vcd", *wires])

    def watched(self, folder: Path, board: list[str]) -> None:
        """What another master says on its lines is recorded by way of its serial port, rests and all; what is too long for it is unknown."""
        said = [[0x00, 0xAE, 0xA8], [0x40, 0x12, 0x34], [0x00, 0xAF]]
        for long in (False, True):
            wave = Wave(7, SCL=1, SDA=1)
            master = Master(wave, 4e3, (0x3D,), gap=1.5e8)
            wave.wait(5e7)
            for words in said:
                master.write(0x3D, words * (9 if long else 1))
            rows = [f"{when} {name} {level}" for when, name, level in wave.changes]
            (folder / "play.txt").write_text("\n".join(rows) + "\n")
            with subprocess.Popen(
                [str(FOLDER / "avr"), *board, "--play", "play.txt"], cwd=folder, stdout=subprocess.PIPE
            ) as process:
                try:
                    assert process.stdout is not None
                    path = next(line for line in iter(process.stdout.readline, b"") if line.startswith(b"/dev/")).decode().strip()
                    watch = ProbeWatch(open_serial(path), {"SCL": "scl", "SDA": "sda"})
                    process.send_signal(signal.SIGUSR1)
                    out = Recorded()
                    trace = joined([piece for piece in record_pieces(watch, out, lasts=6.0 if long else 4.0) if len(piece)])
                    watch.close()
                finally:
                    process.terminate()
            if long:
                self.assertGreater(out.lost, 0)
                continue
            self.assertEqual((out.lost, out.edges), (0, len(wave.changes)))
            told = decode(trace, load_rig(demo() / "front-desk.toml")).devices[0].commands.payload
            raw = [byte for words in said for byte in words[1:]]
            self.assertEqual(told.value.tolist(), raw)
            mine = np.diff(trace.times[1:]) / 1000  # microseconds, against what was played
            theirs = np.diff(sorted({when for when, _, _ in wave.changes})) / 1000
            self.assertLess(float(np.abs(mine - theirs).max()), 20)

    def test_the_peripheral_for_i2c_compiles(self) -> None:
        folder, name = emitted("front-desk", "avr", "--bus", "hardware")
        words = [
            "avr-gcc",
            "-mmcu=atmega328p",
            "-DF_CPU=16000000UL",
            "-Os",
            *(flag for flag in STRICT if flag != "-O1"),
            "-c",
            f"{name}.c",
        ]
        made = subprocess.run(words, cwd=folder, capture_output=True, check=False)
        self.assertEqual((made.returncode, made.stderr), (0, b""))

    def test_what_is_drawn(self) -> None:
        for place in ("handheld", "wheelhouse", "gate-keeper"):
            with self.subTest(place):
                calls, _, lines = DRAWN[place]
                draw = f"static bool draw(void) {{ bool ok = true; {calls} return ok; }}"
                self.shown(place, self.run_on(place, "--no-show", draw=draw), lines)
        record("avr", "gate-keeper", "compiled", "simulated", "compared")


TESTBENCH = """`timescale 1ns / 1ps
module bench;
    reg clk = 0, rst = 1;
{wires}
    {name} unit (.clk(clk), .rst(rst){more}{ports});
    always #41.667 clk = ~clk;
    initial begin
        $dumpfile("out.vcd");
        $dumpvars(1, {names});
        #1000 rst = 0;
        {until}
        #200000 $finish;
    end
endmodule
"""


@unittest.skipUnless(shutil.which("iverilog"), "no iverilog")
class InVerilog(Proven):
    """Players and scan engines, simulated at 12 MHz, their outputs captured."""

    def simulated(self, place: str, until: str, *more: str) -> Path:
        folder, name = emitted(place, "verilog", *more, driver=f"{place}.hush")
        name = name.removesuffix("_pins")
        lines = lines_of(place)
        scans = "SCAN_HZ" in (folder / f"{name}.v").read_text()
        bench = TESTBENCH.format(
            wires="".join(f"    wire {line};\n" for line in lines.values()) + ("" if scans else "    wire done;\n"), name=name, until=until,
            more=", .write(1'b0), .address(0), .data_in(8'd0)" if scans else ", .done(done)", names=", ".join(lines.values()),
            ports="".join(f", .{role}({line})" for role, line in lines.items()),
        )  # fmt: skip
        (folder / "bench.v").write_text(bench)
        words = ["iverilog", "-g2005", "-Wall", "-Wno-timescale", "-o", "a.vvp", f"{name}.v", "bench.v"]
        made = subprocess.run(words, cwd=folder, capture_output=True, check=False)
        self.assertEqual(made.returncode, 0, made.stderr)
        self.assertEqual([line for line in made.stderr.decode().splitlines() if line.startswith(f"{name}.v")], [])
        ran = subprocess.run(["vvp", "a.vvp"], cwd=folder, capture_output=True, check=False, timeout=200)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        if shutil.which("yosys"):
            words = ["yosys", "-q", "-p", f"read_verilog {name}.v; synth -top {name}; check -assert"]
            done = subprocess.run(words, cwd=folder, capture_output=True, check=False, timeout=300)
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return folder / "out.vcd"

    def test_players(self) -> None:
        for place in ("handheld", "wheelhouse"):
            with self.subTest(place):
                self.proven(place, self.simulated(place, "wait (done);"), f"{place}.hush")
                record("verilog", place, "simulated", "compared", "diagnosed", "synthesised")

    def test_scan_engines(self) -> None:
        for place in scanned():
            with self.subTest(place):
                capture = self.simulated(place, "#60000000;")
                shown = [
                    json.loads(program("screen", *words, "--rig", f"{place}.toml", "--at", "50ms", "--format", "json").stdout)[
                        "screens"
                    ][0]
                    for words in ((str(capture),), (f"{place}.vcd",))
                ]
                shown = [one.get("rows") or one["lines"] for one in shown]
                self.assertEqual(shown[0], shown[1])
                judged = json.loads(program("diagnose", str(capture), "--rig", f"{place}.toml", "--format", "json").stdout)
                self.assertEqual([found["summary"] for found in judged["findings"] if found["severity"] != "note"], [])
                record("verilog", place, "simulated", "compared", "diagnosed", "synthesised")

    def test_behind_a_register(self) -> None:
        place = behind_a_register()
        self.proven(place, self.simulated(place, "wait (done);"), "register.hush")

    def test_what_is_not_played(self) -> None:
        done = program("emit", "tide.hush", "--rig", "front-desk.toml", "--for", "verilog", "-o", "x")
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"i2c-control-byte", done.stderr)


# How a pin is named for each target that is compiled only, and its compiler.
COMPILED = {
    "8051": (lambda k: f"P{k // 8}.{k % 8}", ["sdcc", "-mmcs51", "--std-c99", "--model-large", "-DF_CPU=12000000UL"]),
    "stm8": (lambda k: f"P{'BCD'[k // 8]}{k % 8}", ["sdcc", "-mstm8", "--std-c99", "-DF_CPU=16000000UL"]),
    "cortex-m": (
        lambda k: f"0x50000518/0x50000518/0x50000510:{k},{k + 16}",
        ["arm-none-eabi-gcc", "-mcpu=cortex-m0", "-mthumb", "-ffreestanding", "-DF_CPU=48000000UL", *STRICT],
    ),
}


class Compiled(unittest.TestCase):
    """Targets that nothing here runs: their compilers take what is emitted."""

    def test_the_clock_is_one(self) -> None:
        # What is told to compile it with is what its own header counts by: with another, waits would be too short.
        for target in ("avr", *COMPILED):
            for cpu in ((), ("--cpu", "24MHz")):
                with self.subTest(target=target, cpu=cpu):
                    pin_of = COMPILED[target][0] if target in COMPILED else lambda k: f"P{'BCD'[k // 8]}{k % 8}"
                    pins = [word for k, role in enumerate(lines_of("front-desk")) for word in ("--pin", f"{role}={pin_of(k)}")]
                    done = program(
                        "emit",
                        "tide.hush",
                        "--rig",
                        "front-desk.toml",
                        "--for",
                        target,
                        "--bus",
                        "pins",
                        *pins,
                        *cpu,
                        "-o",
                        f"clock-{target}",
                    )
                    self.assertEqual(done.returncode, 0, done.stderr)
                    told = re.search(rb"-DF_CPU=(\d+)UL", done.stderr)
                    header = (demo() / f"clock-{target}" / "tide_port.h").read_text()
                    counted = re.search(r"define F_CPU (\d+)UL", header)
                    assert told is not None and counted is not None
                    self.assertEqual(int(told[1]), int(counted[1]))

    def test_every_place(self) -> None:
        for target, (pin_of, compiler) in COMPILED.items():
            if not shutil.which(compiler[0]):
                continue
            for place in (*PLACES, "gate-signal", "led-sign"):
                with self.subTest(target=target, place=place):
                    pins = [word for k, role in enumerate(lines_of(place)) for word in ("--pin", f"{role}={pin_of(k)}")]
                    small = ["--no-show", *(["--no-frame"] if target == "8051" else [])] if place in PLACES else []
                    folder, name = emitted(place, target, *pins, *small, driver=PLACES.get(place, f"{place}.hush"))
                    made = subprocess.run(
                        [*compiler, "-c", f"{name}.c"], cwd=folder, capture_output=True, check=False, timeout=100
                    )
                    self.assertEqual(made.returncode, 0, made.stderr.decode()[:600])
                    if "gcc" in compiler[0]:
                        self.assertEqual(made.stderr, b"")
                    record(target, place, "compiled")


class Measured(unittest.TestCase):
    """What compilers make of a driver is told, and held against what there is."""

    def test_what_it_takes(self) -> None:
        for target, tool, pins in (("c", "gcc", ()), ("avr", "avr-gcc", ("PC5", "PC4")), ("8051", "sdcc", ("P1.0", "P1.1"))):
            if not shutil.which(tool):
                continue
            with self.subTest(target):
                words = [
                    "emit",
                    "tide.hush",
                    "--rig",
                    "front-desk.toml",
                    "--for",
                    target,
                    "--measure",
                    "-o",
                    str(FOLDER / f"measured-{target}"),
                ]
                words += [word for role, pin in zip(("scl", "sda"), pins, strict=False) for word in ("--pin", f"{role}={pin}")]
                told = re.search(
                    rb"measured with \S+: ([\d,]+) bytes of code and constants, ([\d,]+) of RAM", program(*words).stderr
                )
                assert told is not None
                code, ram = (int(number.replace(b",", b"")) for number in told.groups())
                self.assertTrue(1499 < code < 20_000, code)  # the picture and the font alone are 1,499
                self.assertTrue(1040 <= ram < 1300, ram)  # a frame, and what changed of it
                self.assertEqual(program(*words, "--flash", str(code)).returncode, 0)
                refused = program(*words, "--flash", str(code - 1))
                self.assertEqual(refused.returncode, 2)
                self.assertIn(f"compiled it takes {code:,} bytes of flash".encode(), refused.stderr)
        done = program("emit", "tide.hush", "--rig", "front-desk.toml", "--for", "python", "--measure", "-o", "x")
        self.assertEqual((done.returncode, b"nothing to measure" in done.stderr), (2, True))


class InPython(Probed):
    """Python against stand-ins of the objects that a micro-controller has."""

    def made(self, place: str, *more: str, driver: str = "") -> tuple[Any, Wires]:
        """The display's object, and the wires that it is on."""
        folder, name = emitted(place, "python", *more, driver=driver)
        source = (folder / f"{name}.py").read_text()
        lines = lines_of(place)
        idle = {line: int(role in ("scl", "sda", "cs", "reset")) for role, line in lines.items()}
        wires = Wires(**idle)
        own: dict[str, Any] = {}
        with unittest.mock.patch.dict(sys.modules, {"time": clock_of(wires)}):
            exec(compile(source, f"{name}.py", "exec"), own)
        found = next(value for key, value in own.items() if isinstance(value, type))
        if "sda" in lines:
            return found(I2c(wires, 5000 if place == "pump-room" else 1300)), wires
        pins = {role: pin(wires, line) for role, line in lines.items() if role not in ("sck", "mosi")}
        if "sck" in lines:
            return found(Spi(wires, lines["sck"], lines["mosi"]), **pins), wires
        return found(**pins), wires

    def proven_by(self, display: Any, wires: Any, place: str, sequence: str) -> None:
        """What it shows on the wires is what the sequence shows."""
        display.start()
        display.show()
        wires.write(FOLDER / "python.vcd")
        self.proven(place, FOLDER / "python.vcd", sequence)

    def test_every_place(self) -> None:
        for place, sequence in PLACES.items():
            with self.subTest(place):
                display, wires = self.made(place)
                self.proven_by(display, wires, place, sequence)
                record("python", place, "run", "compared", "diagnosed")

    def test_behind_a_register(self) -> None:
        place = behind_a_register()
        display, wires = self.made(place, driver="register.hush")
        self.proven_by(display, wires, place, "register.hush")

    def test_what_is_drawn(self) -> None:
        for place, (_, calls, lines) in DRAWN.items():
            with self.subTest(place):
                display, wires = self.made(place, "--no-show")
                display.start()
                exec(calls, {"o": display})
                wires.write(FOLDER / "python.vcd")
                self.shown(place, FOLDER / "python.vcd", lines)
        for place, (_, calls, lines) in PAGED.items():
            with self.subTest(place, frame=False):
                display, wires = self.made(place, "--no-show", "--no-frame")
                display.start()
                exec(calls, {"o": display})
                wires.write(FOLDER / "python.vcd")
                self.shown(place, FOLDER / "python.vcd", lines)

    def on_linux(self, place: str, *pins: str) -> tuple[Any, Wires]:
        """The display's object with the packages' own types and constants; what would open a device is a stand-in that moves the wires."""
        folder, name = emitted(place, "python-linux", *pins)
        lines = lines_of(place)
        wires = Wires(**{line: int(role in ("scl", "sda", "cs", "reset")) for role, line in lines.items()})
        port: dict[str, Any] = {}
        exec(compile((folder / f"{name}_port.py").read_text(), f"{name}_port.py", "exec"), port)
        at = {offset: lines[role] for role, (offset, _) in port.get("LINES", {}).items()}
        for role, (_, level) in port.get("LINES", {}).items():
            self.assertEqual(level, wires.levels[lines[role]], role)
        devices: dict[str, Any] = {
            "SMBus": functools.partial(KernelI2c, wires, half=5000 if place == "pump-room" else 1300),
            "SpiDev": functools.partial(KernelSpi, wires, lines),
        }
        devices["gpiod"] = GpioChip(wires, at)
        port |= {key: device for key, device in devices.items() if key in port}
        own: dict[str, Any] = {}
        clock = clock_of(wires)
        clock.sleep = lambda seconds: clock.sleep_us(round(seconds * 1e6))  # type: ignore[attr-defined]
        with unittest.mock.patch.dict(sys.modules, {"time": clock}):
            exec(compile((folder / f"{name}.py").read_text(), f"{name}.py", "exec"), own)
        return next(value for value in own.values() if isinstance(value, type))(**port["wired"]()), wires

    def test_on_linux_by_the_packages_of_the_extra(self) -> None:
        pins = {"engine-room": [word for k, role in enumerate(lines_of("engine-room")) for word in ("--pin", f"{role}={k + 2}")],
                "wheelhouse": ["--pin", "cs=8"]}  # fmt: skip
        for place, sequence in PLACES.items():
            with self.subTest(place):
                display, wires = self.on_linux(place, *pins.get(place, ()))
                self.proven_by(display, wires, place, sequence)
                record("python-linux", place, "run", "compared", "diagnosed")

    def test_the_probe(self) -> None:
        folder = FOLDER / "python-probe"
        pins = [word for pin in ("scl=5", "sda=4", "reset=GP7") for word in ("--pin", pin)]
        done = program("emit", "probe", "--for", "python", *pins, "-o", str(folder))
        self.assertEqual(done.returncode, 0, done.stderr)
        wires = ["SCL=5:scl", "SDA=4:sda", "RST=GP7:reset"]
        self.probed(folder, lambda at: [sys.executable, str(PORTS / "board.py"), "probe.py", "out.vcd", f"{at:02x}", *wires])

    @unittest.skipUnless(INTERPRETER.is_dir() and shutil.which("node"), "no micro-controller's interpreter: make ports")
    def test_on_a_micro_controllers_interpreter(self) -> None:
        """What the objects are called with, and every wait, is what it is here."""
        for place, (_, calls, _) in DRAWN.items():
            with self.subTest(place):
                folder, name = emitted(place, "python")
                roles = [role for role in lines_of(place) if role not in ("scl", "sda", "sck", "mosi")]
                kind = "i2c" if "scl" in lines_of(place) else "spi" if "sck" in lines_of(place) else ""
                (folder / "run.py").write_text(
                    (PORTS / "logged.py").read_text() + f"\nrun({name!r}, {kind!r}, {roles!r}, {calls!r})\n"
                )
                here = subprocess.run([sys.executable, "run.py"], cwd=folder, capture_output=True, check=True)
                words = ["node", PORTS / "interpreter.mjs", INTERPRETER, folder / "run.py", folder / f"{name}.py"]
                there = subprocess.run(words, capture_output=True, check=False, timeout=300)
                self.assertEqual(there.returncode, 0, there.stderr.decode())
                self.assertGreater(here.stdout.count(b"\n"), 20)
                self.assertEqual(there.stdout.splitlines(), here.stdout.splitlines())
                record("python", place, "interpreted")


class Hostile(unittest.TestCase):
    """Names and remarks of others cannot break out of what they stand in."""

    @given(st.text(max_size=60))
    @settings(deadline=None, max_examples=200)
    def test_names_and_remarks(self, text: str) -> None:
        name, said = identifier(text), remark(text)
        self.assertRegex(name, r"^[a-z][a-z0-9_]{0,30}$")
        self.assertTrue((said.isascii() and said.isprintable()) or not said)
        for end in ("*/", "/*", "??", '"""'):
            self.assertNotIn(end, said)
        self.assertFalse(said.endswith("\\"))
        beside = {name}
        self.assertNotEqual(identifier(text, beside), name)

    @unittest.skipUnless(shutil.which("gcc"), "no gcc")
    def test_a_rig_of_bad_names(self) -> None:
        bad = ["int", "a*/ int x; /*", 'say "so"', "pegel \u00fc\u4e16", "9 lives\\", "two\nlines", "x" * 200, "-"]
        for number, name in enumerate(bad):
            folder = FOLDER / f"bad-{number}"
            folder.mkdir()
            rig = {"title": name, "bus": [{"name": "b", "kind": "spi", "lines": {"sck": name + "1", "mosi": name + "2", "cs": "C", "dc": "D"}}],
                   "device": [{"name": name, "on": "b", "part": "pcd8544", "panel": "84x48"}]}  # fmt: skip
            (folder / "r.toml").write_bytes(tomli_w.dumps(rig).encode())
            (folder / "s.hush").write_text(
                'function-set power=active addressing=horizontal instructions=basic\nfill off\ntext 0,0 "*/ ??/"\n'
            )
            for target in ("c", "python"):
                done = program("emit", "s.hush", "--rig", "r.toml", "--for", target, "-o", target, cwd=folder)
                self.assertEqual(done.returncode, 0, done.stderr)
            for source in sorted((folder / "c").glob("*.c")):
                made = subprocess.run(["gcc", *STRICT, "-c", source.name], cwd=folder / "c", capture_output=True, check=False)
                self.assertEqual((made.returncode, made.stderr), (0, b""), name)
            for source in (folder / "python").glob("*.py"):
                compile(source.read_text(), source.name, "exec")


class AsAUser(unittest.TestCase):
    def test_a_captured_driver(self) -> None:
        """From the old board's capture to C, to wires, and back against the capture."""
        for place, capture in (
            ("front-desk", "healthy.vcd"),
            ("handheld", "handheld.vcd"),
            ("engine-room", "engine-room.vcd"),
            ("pump-room", "pump-room.vcd"),
        ):
            with self.subTest(place):
                folder, name = emitted(place, "c", driver=capture)
                made = on_the_host(folder, name, lines_of(place))
                done = program("compare", capture, str(made), "--rig", f"{place}.toml", "--times", "--format", "json")
                told = json.loads(done.stdout)
                self.assertEqual(
                    (told["same"]["commands"], told["same"]["picture"], done.returncode), (True, True, 0), told["differences"][:3]
                )

    def test_what_cannot_be_emitted(self) -> None:
        for words, said in (
            (("tide.hush", "--rig", "front-desk.toml", "--for", "abacus", "-o", "x"), "there are c, avr, linux"),
            (("tide.hush", "--rig", "front-desk.toml", "--for", "avr", "-o", "x"), "--pin scl=PB5"),
            (("tide.hush", "--rig", "front-desk.toml", "--for", "c"), "-o FOLDER"),
            (("tide.hush", "--rig", "front-desk.toml", "--for", "c", "-o", "x", "--ram", "128"), "1,041 bytes of RAM, 128"),
            (("gate-signal.hush", "--rig", "gate-signal.toml", "--for", "python", "-o", "x"), "to scan LEDs"),
            (
                ("tide.hush", "--rig", "front-desk.toml", "--for", "avr", "--pin", "scl=PC5", "--pin", "sda=PC5", "-o", "x"),
                "on one pin",
            ),
            (("handheld.vcd", "--rig", "front-desk.toml", "--for", "c", "-o", "x"), "pcd8544, not to a ssd1306"),
        ):
            with self.subTest(words):
                done = program("emit", *words)
                self.assertEqual(done.returncode, 2)
                self.assertIn(said, done.stderr.decode())
        self.assertIn(b"avr", program("emit", "--targets").stdout)
        (demo() / "mine").mkdir(exist_ok=True)
        (demo() / "mine" / "tide.h").write_text("/* my own */\n")
        words = ("emit", "tide.hush", "--rig", "front-desk.toml", "--for", "c", "-o", "mine")
        self.assertIn(b"would overwrite 'mine/tide.h'", program(*words).stderr)
        self.assertEqual([path.name for path in (demo() / "mine").iterdir()], ["tide.h"])
        (demo() / "mine" / "tide.h").unlink()
        self.assertEqual([program(*words).returncode for _ in range(2)], [0, 0])
        small = program("emit", "tide.hush", "--rig", "front-desk.toml", "--for", "c", "-o", "-", "--ram", "128", "--no-frame")
        self.assertEqual(small.returncode, 0, small.stderr)
        self.assertNotIn(b"tide_flush", small.stdout)

    @unittest.skipUnless(shutil.which("cppcheck"), "no cppcheck")
    def test_a_second_reader_finds_nothing(self) -> None:
        for place in PLACES:
            folder, _ = emitted(place, "c", "--every-command", "--no-show")  # it reads a picture's bytes for minutes
            done = subprocess.run(
                ["cppcheck", "--enable=warning,style,performance,portability", "--suppress=unusedFunction", "--std=c99", "--quiet", "--error-exitcode=9", "."],
                cwd=folder, capture_output=True, check=False, timeout=60,
            )  # fmt: skip
            self.assertEqual((done.returncode, done.stderr), (0, b""), place)


if __name__ == "__main__":
    unittest.main()
