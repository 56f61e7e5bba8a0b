"""Hostile input for every reader, by coverage: what reaches new code is kept and altered further.

    fuzz.py [--minutes M] [--seed S] [TARGET …]      make fuzz MINUTES=60

Whatever comes in, a command ends in a while, with status 0, 1 or 2, in bounded memory, and never by its last resort; a trace that is read is one. Each
target runs in a process of its own, as many at once as there are cores; what is found stays in build/fuzz, with what is known to reach far.
"""

from __future__ import annotations

import argparse
import contextlib
import gc
import io
import os
import random
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path
from typing import Any

HERE = Path(__file__).parent
ROOT = HERE.parent
KEPT = ROOT / "build" / "fuzz"
DEMO = ROOT / "src" / "hushed_wire" / "demo" / "files"
SLOWEST = 20  # seconds of one input
MEMORY = 2000  # megabytes
LARGEST = 4096  # bytes of an input
SMALL = 3000  # bytes of a capture that is altered: the beginning of a long one says as much


class Defect(Exception):
    """What no input may do."""


class Outlet(io.TextIOWrapper):
    """A stream that keeps what it is told."""

    def __init__(self) -> None:
        super().__init__(io.BytesIO(), encoding="utf-8", errors="replace", write_through=True)

    def text(self) -> str:
        """All of it."""
        return bytes(self.buffer.getvalue()).decode("utf-8", "replace")  # type: ignore[attr-defined]


def command(*words: str) -> None:
    """Runs a command line in this process. Raises Defect."""
    from hushed_wire.cli.main import main

    gc.collect()  # the program leaves that to the end of its process
    out, told = Outlet(), Outlet()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(told):
        try:
            status = main(list(words))
        except SystemExit as ended:  # the parser's way
            status = int(ended.code or 0)
    said = re.sub(r"(?m)^INFO: Instrumenting .*\n", "", told.text())  # what is loaded on the way tells so
    if "Failed to disassemble bytecode" in said:
        return  # of what watches the coverage, now and then
    if status not in (0, 1, 2) or "should not have happened" in said or "not enough memory" in said:
        raise Defect(f"{' '.join(words)}: status {status}: {said}")
    if status == 2 and not said.startswith("hushed-wire"):
        raise Defect(f"{' '.join(words)}: an error that is not told: {said or out.text()[-300:]}")
    if any(ord(char) < 32 and char not in "\n\t" for char in said):
        raise Defect(f"{' '.join(words)}: what a terminal would obey: {said!r}")


class Workshop:
    """Files of one process, in memory where there is room for that."""

    def __init__(self) -> None:
        room = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
        self.folder = Path(tempfile.mkdtemp(prefix="hushed-wire-fuzz-", dir=room))
        for file in DEMO.iterdir():
            if file.is_file():
                (self.folder / file.name).write_bytes(file.read_bytes())
        os.chdir(self.folder)

    def write(self, name: str, data: bytes) -> str:
        """A file of its name."""
        (self.folder / name).write_bytes(data)
        return name


def reads(shop: Workshop, name: str, data: bytes, **options: Any) -> None:
    """Reads a capture. Raises Defect where what it gives is no trace."""
    from hushed_wire.errors import HushedError
    from hushed_wire.trace import read_capture

    try:
        trace = read_capture(shop.write(name, data), **options)
    except HushedError:
        return
    times = trace.times
    if len(times) != len(trace.levels) or (len(times) > 1 and bool((times[1:] <= times[:-1]).any())):
        raise Defect("times that do not ascend")
    if len(times) and trace.end <= int(times[-1]):
        raise Defect("a trace that ends ahead of its last change")
    if trace.tick <= 0 or len(set(trace.names)) != len(trace.names):
        raise Defect("a tick of nothing, or two lines of one name")


def _vcd(shop: Workshop, data: bytes) -> None:
    reads(shop, "x.vcd", data)


def _table(shop: Workshop, data: bytes) -> None:
    reads(shop, "x.csv", data)


def _packed(shop: Workshop, data: bytes) -> None:
    reads(shop, "x.npz", data)


def _samples(shop: Workshop, data: bytes) -> None:
    reads(shop, "x.bin", data[1:], raw=(1, 2, 4, 8)[data[0] % 4] if data else 1, rate=Fraction(10**6))


WIRED = (  # a kind of bus, eight lines at the most, and parts on them
    ("i2c", "scl sda", "ssd1306 pcf8576 is31fl3733 pcf2119 sh1107 ht16k33"),
    ("spi", "sck mosi cs dc", "pcd8544 st7789 ssd1327"),
    ("spi", "sck mosi cs", "max7219 ht1621 st7920 tm1638"),
    ("spi", "sck mosi cs dc reset busy", "ssd1680 uc8151"),
    ("spi", "sck mosi", "apa102"),
    ("parallel", "rs e d4 d5 d6 d7", "hd44780 st7920"),
    ("shift", "clock data latch", "max7219"),
    ("pulse", "data", "ws2812"),
    ("two-wire", "clock data", "tm1637"),
    ("matrix", "a b c clock latch enable r1 b2", "hub75"),
    ("matrix", "a b clock data latch enable", "hub12"),
    ("matrix", "row0 row1 row2 row3 column0 column1 column2 column3", "led-matrix"),
)


def _diagnosed(shop: Workshop, data: bytes) -> None:
    """Any wires under any bus and part."""
    if len(data) < 4:
        return
    bus, roles, parts = WIRED[data[0] % len(WIRED)]
    verb = ("diagnose", "decode", "screen", "lines", "unravel", "find")[data[1] % 6]
    shop.write("x.bin", data[4:])
    words = [verb, "x.bin", *(["refused or cut"] if verb == "find" else []), "--raw", "1", "--rate", "4MHz"]
    if verb not in ("lines", "unravel"):
        words += ["--bus", bus, *(word for k, role in enumerate(roles.split()) for word in ("--line", f"{role}={k}"))]
        words += ["--part", parts.split()[data[3] % len(parts.split())]] if data[2] & 1 and verb != "lines" else []
    command(*words)


def _rigged(shop: Workshop, data: bytes) -> None:
    """A capture as an instrument writes it, read by a rig."""
    command("diagnose", shop.write("x.vcd", data), "--rig", "front-desk.toml")


def _sequence(shop: Workshop, data: bytes) -> None:
    command("build", shop.write("x.hush", data), "--rig", "front-desk.toml")


def _rehearsed(shop: Workshop, data: bytes) -> None:
    command("rehearse", shop.write("x.hush", data), "--rig", "pump-room.toml", "-o", "out.vcd", "-q")


def _rig(shop: Workshop, data: bytes) -> None:
    command("wiring", shop.write("x.toml", data))


def _budgeted(shop: Workshop, data: bytes) -> None:
    command("budget", shop.write("x.toml", data))


def _part(shop: Workshop, data: bytes) -> None:
    (shop.folder / "own").mkdir(exist_ok=True)
    shop.write("own/strange.toml", data)
    command("catalog", "strange", "--catalog", "own")
    command("explain", "strange", "AE 00 A1 55 0F", "--catalog", "own")


def _condition(shop: Workshop, data: bytes) -> None:
    if not (shop.folder / "tide.vcd").exists():
        words = ["rehearse", "tide.hush", "--rig", "front-desk.toml", "-o", "tide.vcd", "-q"]
        subprocess.run([Path(sys.executable).parent / "hushed-wire", *words], check=True)
    command("find", "tide.vcd", "--", data.decode("utf-8", "replace").replace("\0", " ") or "refused")


def _quantity(shop: Workshop, data: bytes) -> None:
    from hushed_wire.errors import HushedError
    from hushed_wire.units import parse

    with contextlib.suppress(HushedError):
        parse(data.decode("utf-8", "replace"), "s", "here")


def _picture(shop: Workshop, data: bytes) -> None:
    command("pack", shop.write("x.png", data), "--part", "ssd1306", "--as", "hex")


def _font(shop: Workshop, data: bytes) -> None:
    command("glyphs", shop.write("x.bdf", data))


def _bytes(shop: Workshop, data: bytes) -> None:
    shop.write("x.txt", data)
    command("explain", "ssd1306", "x.txt")
    command("unpack", "x.txt", "--guess")


def _compared(shop: Workshop, data: bytes) -> None:
    command("compare", shop.write("x.hush", data), "tide.hush", "--rig", "front-desk.toml")


def _emitted(shop: Workshop, data: bytes) -> None:
    command("emit", shop.write("x.hush", data), "--rig", "front-desk.toml", "--for", "c", "-o", "driver", "-q")


class Port:
    """A serial port that says what it was given, whatever is asked."""

    timeout = 0.0
    in_waiting = 0

    def __init__(self, data: bytes) -> None:
        self.data = data

    def read(self, count: int = 1) -> bytes:
        """The next bytes."""
        out, self.data = self.data[:count], self.data[count:]
        return out

    def write(self, data: bytes) -> int:
        """Nobody listens."""
        return len(data)

    def __getattr__(self, name: str) -> Callable[..., None]:
        return lambda *_: None


def _probe(shop: Workshop, data: bytes) -> None:
    from unittest import mock

    from hushed_wire.errors import HushedError
    from hushed_wire.link import serial_probe, wire_talk

    lines = data.split(b"\n")
    with contextlib.suppress(UnicodeDecodeError, ValueError):
        for line in lines:
            wire_talk.unpack(line)
    answers = b"".join(
        wire_talk.pack(k + 1, *(line.decode("latin-1").split() or [""])) for k, line in enumerate(lines) if line.isascii()
    )
    with mock.patch.object(serial_probe, "PATIENCE", 0.0), contextlib.suppress(HushedError, UnicodeDecodeError):
        probe = serial_probe.SerialProbe("/dev/ttyACM0", Port(answers))
        probe.write(0x3D, b"\0")
        probe.read(0x3D, 4)


WORDS = (
    "decode", "diagnose", "lines", "find", "screen", "plot", "convert", "build", "explain", "catalog", "pack", "unpack", "glyphs", "wiring", "budget",
    "rehearse", "compare", "emit", "scan", "unravel", "init", "tide.hush", "front-desk.toml", "tide.pbm", "gate.png", "pump-room.toml", "--rig", "--line",
    "--bus", "--part", "--panel", "--from", "--to", "--raw", "--rate", "--threshold", "--hysteresis", "--clock", "--radix", "--format", "-o", "--mishap",
    "--picture", "--save-rig", "--select", "--bits", "--mode", "--order", "--at", "--every", "--transfer", "--as", "json", "csv", "jsonl", "text", "ssd1306",
    "hd44780", "i2c", "spi", "1MHz", "-1us", "1e400s", "out.vcd", "out.png", "-", "x.csv",
)  # fmt: skip


def _line(shop: Workshop, data: bytes) -> None:
    """Any words in any order: a byte is a word of the list, or takes the next ones as they are."""
    words: list[str] = []
    rest = data
    while rest and len(words) < 12:
        if rest[0] < len(WORDS):
            words.append(WORDS[rest[0]])
            rest = rest[1:]
        else:
            length = 1 + rest[0] % 16
            words.append(rest[1 : 1 + length].decode("utf-8", "replace").replace("\0", " "))
            rest = rest[1 + length :]
    if words and words[0] not in ("demo", "init", "record", "send", "sweep", "links", "--help", "-h") and "--watch" not in words:
        command(*words)


def captures(ending: str) -> Iterator[bytes]:
    """Beginnings of captures of the demo's sequences."""
    with tempfile.TemporaryDirectory() as folder:
        for name, rig in (("tide", "front-desk"), ("handheld", "handheld"), ("pump-room", "pump-room")):
            out = Path(folder) / f"{name}.{ending}"
            words = [str(DEMO / f"{name}.hush"), "--rig", str(DEMO / f"{rig}.toml"), "-o", str(out), "-q"]
            subprocess.run([Path(sys.executable).parent / "hushed-wire", "rehearse", *words], check=False, capture_output=True)
            if out.exists():
                yield out.read_bytes()[: SMALL if ending != "npz" else LARGEST * 16]


def texts(*patterns: str) -> Callable[[], Iterator[bytes]]:
    """Files of ours."""
    return lambda: (
        path.read_bytes()[:LARGEST] for pattern in patterns for path in sorted((ROOT / "src" / "hushed_wire").glob(pattern))
    )


def tables() -> Iterator[bytes]:
    """Tables as they are exported."""
    yield from captures("csv")
    yield b"Time [s],SCL,SDA\n0,1,1\n1e-6,1,0\n2e-6,0,0\n"
    yield b"X,CH1,CH2,Start,Increment\nSequence,Volt,Volt,-6e-4,1e-7\n0,0.1,3.2,,\n1,0.2,3.1,,\n2,3.3,0.1,,\n"
    yield b"Sample;A;B\n0;H;L\n1;L;L\n5;H;H\n"
    yield b"time,bus\n12 ns,0x3F\n14 ns,0x30\n"
    yield b"| t | a |\n|---|---|\n| 0 | 1 |\n| 0.5 | 0 |\n"


def wires() -> Iterator[bytes]:
    """Samples of a bus, noise and what goes round, and what to do with them."""
    for head in range(2 * len(WIRED)):
        chance = random.Random(head)
        noise, around = bytes(chance.choices(range(256), k=200)), bytes(chance.choices(range(256), k=16)) * 12
        yield bytes([head % len(WIRED), head // len(WIRED), 1, head]) + (noise if head & 1 else around)


def conditions() -> Iterator[bytes]:
    """Conditions as the help has them."""
    yield from (
        b"refused",
        b"high(SCL)<500ns or low(SCL)<500ns",
        b'address=0x3D and bytes="8D 14"',
        b"gap>2ms and not (edge=SDA or transfer=3-7)",
    )
    yield from (b"contrast.level<64", b"command=display and not device=tide", b"length>3 or select=cs")


def pictures() -> Iterator[bytes]:
    """Small pictures of several formats."""
    from PIL import Image

    for kind in ("PNG", "PPM", "GIF", "BMP", "TIFF", "JPEG", "WEBP", "TGA", "XBM"):
        for mode in ("1", "RGB", "P", "L"):
            out = io.BytesIO()
            with contextlib.suppress(OSError, ValueError, KeyError):
                Image.new(mode, (9, 5)).save(out, kind)
                yield out.getvalue()


FONT = b"""STARTFONT 2.1
FONT -own-tide-medium-r-normal--8-80-75-75-c-50-iso10646-1
SIZE 8 75 75
FONTBOUNDINGBOX 5 8 0 -1
STARTPROPERTIES 2
FONT_ASCENT 7
FONT_DESCENT 1
ENDPROPERTIES
CHARS 1
STARTCHAR A
ENCODING 65
SWIDTH 500 0
DWIDTH 5 0
BBX 5 7 0 0
BITMAP
20
50
88
F8
88
88
88
ENDCHAR
ENDFONT
"""

Seeds = Callable[[], Iterator[bytes]]
TARGETS: dict[str, tuple[Callable[[Workshop, bytes], None], Seeds]] = {
    "vcd": (_vcd, lambda: captures("vcd")),
    "table": (_table, tables),
    "npz": (_packed, lambda: captures("npz")),
    "samples": (_samples, wires),
    "wires": (_diagnosed, wires),
    "rigged": (_rigged, lambda: captures("vcd")),
    "sequence": (_sequence, texts("demo/files/*.hush")),
    "rehearsed": (_rehearsed, texts("demo/files/*.hush")),
    "compared": (_compared, texts("demo/files/tide*.hush")),
    "emitted": (_emitted, texts("demo/files/tide*.hush")),
    "rig": (_rig, texts("demo/files/*.toml")),
    "budget": (_budgeted, texts("demo/files/*.toml")),
    "part": (_part, texts("part/catalog/*.toml", "part/catalog/*/*.toml")),
    "condition": (_condition, conditions),
    "quantity": (_quantity, lambda: iter([b"10us", b"3.3V", b"1e-6", b"4.7kOhm", b"-280us"])),
    "picture": (_picture, pictures),
    "font": (_font, lambda: iter([FONT, *texts("picture/fonts/*.glyphs")()])),
    "bytes": (
        _bytes,
        lambda: iter([b"AE D5 80 A8 3F", b"{0xAE, 0xD5, 0x80}", b"const uint8_t a[] = { 1, 2, 0b11 };", b"0xAE\n0xA5\n"]),
    ),
    "probe": (_probe, lambda: iter([b"done talk=1 name=bench room=32\ndone 3c\nrefused 1\n", b"garbled\n"])),
    "line": (
        _line,
        lambda: iter([bytes([0, 21, 26, 22]), bytes([1, 21, 44, 54]), bytes([7, 21, 26, 22]), bytes([10, 23, 29, 58])]),
    ),
}


def child(name: str, rest: list[str]) -> None:
    """One target, in this process, until the time is up or something is found."""
    import atheris

    atheris.instrument_imports(include=["hushed_wire"]).__enter__()  # whatever is loaded later, too
    import hushed_wire.cli.main  # noqa: F401

    target = TARGETS[name][0]
    shop = Workshop()

    def once(data: bytes) -> None:
        target(shop, data)

    atheris.Setup([sys.argv[0], *rest], once)
    atheris.Fuzz()


def fuzzed(name: str, seconds: float, seed: int) -> tuple[str, int, int, str]:
    """Runs a target: its name, how many inputs it took, how far these reached, and what was found ("" for nothing)."""
    known = KEPT / "reaching" / name
    known.mkdir(parents=True, exist_ok=True)
    for number, data in enumerate(TARGETS[name][1]()):
        (known / f"seed-{number}").write_bytes(data)
    found = KEPT / "found"
    found.mkdir(parents=True, exist_ok=True)
    options = [f"-max_total_time={max(1, round(seconds))}", f"-seed={seed}", f"-timeout={SLOWEST}", f"-rss_limit_mb={MEMORY}"]
    options += [f"-max_len={LARGEST}", f"-artifact_prefix={found}/{name}-", "-print_final_stats=1"]
    line = [sys.executable, __file__, "--child", name, str(known), *options]
    done = subprocess.run(
        line,
        capture_output=True,
        text=True,
        errors="replace",
        check=False,
        env={**os.environ, "PYTHONPATH": os.pathsep.join([str(HERE), str(ROOT / "src")])},
    )
    said = done.stdout + done.stderr
    runs = re.findall(r"number_of_executed_units: (\d+)", said)
    reach = re.findall(r"cov: (\d+)", said)
    what = re.search(r"=== Uncaught Python exception: ===\n(.*?\n\n)", said, re.DOTALL)
    plain = "\n".join(line for line in said.splitlines() if not re.match(r"INFO|WARNING|#\d|stat::", line))
    wrong = "" if done.returncode == 0 else what[1] if what else plain[-3000:]
    return name, int(runs[-1]) if runs else 0, int(reach[-1]) if reach else 0, wrong


def main() -> int:
    if sys.argv[1:2] == ["--child"]:
        child(sys.argv[2], sys.argv[3:])
        return 0
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("targets", nargs="*", metavar="TARGET", help=", ".join(TARGETS))
    parser.add_argument("--minutes", type=float, default=10)
    parser.add_argument("--seed", type=int, default=0, help="the same seed draws the same inputs (default: another each time)")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 2, help="targets at once (default: one a core)")
    args = parser.parse_args()
    names = args.targets or list(TARGETS)
    if unknown := [name for name in names if name not in TARGETS]:
        parser.error(f"no target '{unknown[0]}': {', '.join(TARGETS)}")
    jobs = max(1, min(args.jobs, len(names)))
    each = 60 * args.minutes * jobs / len(names)
    begun, bad, total = time.monotonic(), 0, 0
    with ThreadPoolExecutor(jobs) as pool:
        for name, runs, reach, wrong in pool.map(lambda name: fuzzed(name, each, args.seed or random.randrange(1, 2**31)), names):
            print(
                f"{name:<10} {runs:>9,} inputs, {reach:>6,} places reached{'  FOUND' if wrong else ''}\n{wrong}",
                end="",
                flush=True,
            )
            bad += bool(wrong)
            total += runs
    print(f"{total:,} inputs in {(time.monotonic() - begun) / 60:.1f} minutes; {len(names) - bad} passed, {bad} failed")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
