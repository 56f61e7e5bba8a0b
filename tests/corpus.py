"""Labelled captures: sequences on rigs, with mishaps where they happen in life, and healthy ones with varied, clean traffic.

`faults` and `healthy` give cases; `judge` diagnoses one. `bench/accuracy.py` runs them all, the tests a fixed sample.
"""

from __future__ import annotations

import os
import random
import re
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from hushed_wire.diagnosis import diagnose
from hushed_wire.rig import Rig, Setup, load_rig
from hushed_wire.rig.rehearse import rehearse, steps_of, wires
from hushed_wire.rig.vocabulary import parse_mishap
from hushed_wire.sequence.start import start_text
from hushed_wire.trace import Trace
from hushed_wire.trace.sampling import sampled
from hushed_wire.trace.threshold import levels
from test_buses import WAYS

__all__ = ["Case", "Verdict", "faults", "healthy", "judge"]

DEMO = files("hushed_wire.demo").joinpath("files")
PLACES = ("front-desk", "pump-room", "wheelhouse", "handheld", "engine-room", "gate-signal", "led-sign")
OTHERS = {
    "spi ssd1306": "ssd1306, dc line", "spi st7735": "st7735", "hd44780 4": "hd44780, 4 bits", "hd44780 8": "hd44780, 8 bits",
    "sh1106 9": "sh1106, nine bits", "595": "behind 74hc595", "mcp23017": "behind mcp23017",
}  # fmt: skip


@dataclass(frozen=True)
class Case:
    """code: what diagnosis has to name ("" for healthy ones). lines: those it has to name, None where it has none.

    change: done to the rig's text before the rehearsal only. late: the share of the capture that is cut off at its beginning.
    """

    rig: str
    code: str = ""
    lines: tuple[str, ...] | None = None
    mishaps: tuple[str, ...] = ()
    seed: int = 0
    rate: int = 0
    volts: bool = False
    change: tuple[tuple[str, str], ...] = ()
    hush: tuple[tuple[str, str], ...] = ()
    late: float = 0.0
    jitter: float = 4e-9
    other: str = ""  # the rig that it is read by, where that is another one
    uneven: str = ""  # how the driver's own clock wavers: "jitter", or "held" by interrupts
    read: tuple[tuple[str, str], ...] = ()  # done to the text of the rig that it is read by

    def __str__(self) -> str:
        parts = [self.rig, *self.mishaps, *(f"{a!r}→{b!r}" for a, b in (*self.change, *self.hush)), f"seed {self.seed}"]
        return ", ".join(
            parts + ([f"{self.rate / 1e6:g} MHz"] if self.rate else []) + ([f"from {self.late:.0%}"] if self.late else [])
        )


@dataclass
class Verdict:
    """first: the gravest finding's code, "" where there is none. found: the code is among the findings. right: its lines are.

    sure: how sure the first finding is, where it is a fault or a warning.
    """

    case: Case
    first: str
    found: bool
    right: bool
    wrong: list[str] = field(default_factory=list)
    sure: str = ""


def _folder() -> Path:
    return _folder_of(os.getpid())


@lru_cache(maxsize=4)
def _folder_of(process: int) -> Path:
    folder = Path(tempfile.mkdtemp(prefix=f"hushed-wire-corpus-{process}-"))
    for name in ("tide.pbm", "gate.png"):
        (folder / name).write_bytes(DEMO.joinpath(name).read_bytes())
    return folder


@lru_cache(maxsize=64)
def texts(name: str) -> tuple[str, str]:
    """Rig and sequence."""
    if name in PLACES:
        hush = {"front-desk": "tide"}.get(name, name)
        return DEMO.joinpath(f"{name}.toml").read_text(), DEMO.joinpath(f"{hush}.hush").read_text()
    rig, drawn = WAYS[OTHERS[name]]
    path = _folder() / "way.toml"
    path.write_text(rig)
    loaded = load_rig(path)
    start = start_text(loaded.target(loaded.device[0]))
    if "reset" not in loaded.bus[0].lines:
        start = "\n".join(line for line in start.splitlines() if not line.startswith("reset")) + "\n"
    blank = "" if "hd44780" in rig else "fill off\n"
    return rig, f"{start}{blank}{drawn}\n"


def _loaded(text: str, name: str) -> Rig:
    path = _folder() / f"{name}.toml"
    path.write_text(text)
    return load_rig(path)


def capture(case: Case) -> tuple[Trace, Any, Rig]:
    """The capture of a case, its waveforms where it is in volts, and the rig it is read by."""
    text, hush = texts(case.rig)
    wired = text
    for a, b in case.change:
        assert re.search(a, wired), (case, a)
        wired = re.sub(a, b, wired, count=1)
    for a, b in case.hush:
        assert re.search(a, hush), (case, a)
        hush = re.sub(a, b, hush, count=1)
    path = _folder() / "case.hush"
    path.write_text(hush)
    rig = _loaded(wired, "wired")
    if case.uneven:
        return _uneven(wires(steps_of(path, rig, []), rig, [], None, case.seed), case), None, rig
    trace, waves = rehearse(
        path, rig, mishaps=[parse_mishap(text) for text in case.mishaps], seed=case.seed, jitter=case.jitter, in_volts=case.volts,
        rate=Fraction(case.rate) if case.rate else None,
    )  # fmt: skip
    if waves is not None:
        trace = levels(waves)
    if case.late:
        trace = trace.window(trace.start + int(case.late * (trace.end - trace.start)), trace.end)
    by = texts(case.other or case.rig)[0]
    for a, b in case.read:
        assert re.search(a, by), (case, a)
        by = re.sub(a, b, by, count=1)
    return trace, waves, _loaded(by, "read")


def _uneven(trace: Trace, case: Case) -> Trace:
    """A driver in software: every step takes a little longer or not, or some take far longer."""
    chance = np.random.default_rng(case.seed)
    gaps = np.diff(trace.times)
    longer = chance.uniform(1, 2, len(gaps))
    if case.uneven == "held":
        longer = np.where(chance.random(len(gaps)) < 0.005, chance.uniform(5, 60, len(gaps)), 1.0)
    times = trace.times[0] + np.concatenate([[0], np.cumsum((gaps * longer).astype(np.int64) + 1)])
    end = int(times[-1]) + trace.end - int(trace.times[-1])
    return sampled(replace(trace, times=times, end=end), Fraction(100_000_000), case.seed, 1e-9)


def judge(case: Case) -> Verdict:
    """Diagnoses a case and holds the outcome against its label."""
    trace, waves, rig = capture(case)
    if case.other:
        names = [line for bus in rig.bus for line in bus.lines.values()][: len(trace.names)]
        trace = replace(trace, names=tuple(names) + trace.names[len(names) :])
        waves = None
    outcome = diagnose(replace(trace, waves=waves), Setup(rig))
    graver = [finding for finding in outcome.findings if finding.severity != "note"]
    first = outcome.findings[0] if outcome.findings else None
    told = next((finding for finding in outcome.findings if finding.code == case.code), None)
    right = told is not None and (case.lines is None or sorted(told.lines) == sorted(case.lines))
    return Verdict(
        case,
        first.code if first else "",
        told is not None,
        right,
        [finding.code for finding in graver],
        graver[0].confidence if graver else "",
    )


# ---- what can happen ---------------------------------------------------------------------------------------------------

MODE = (r'kind = "spi"', 'kind = "spi"\nmode = {mode}')
TIDE = "front-desk"


def _on_i2c(draw: random.Random) -> Iterator[Case]:
    ms = draw.uniform(2, 40)
    for mishap, code, lines in (
        ("swap:SCL,SDA", "wiring.swapped-lines", ("SCL", "SDA")), ("stuck:SDA,low", "wiring.stuck-line", ("SDA",)),
        ("stuck:SCL,low", "wiring.stuck-line", ("SCL",)), ("stuck:SDA,high", "wiring.stuck-line", ("SDA",)),
        ("stuck:SCL,high", "wiring.stuck-line", ("SCL",)),
        ("join:SCL,SDA", "wiring.joined-lines", ("SCL", "SDA")), (f"hang:SDA,{ms:.2f}ms", "timing.bus-hung", ("SDA",)),
        (f"hang:SCL,{ms:.2f}ms", "timing.bus-hung", ("SCL",)), (f"drop-clock:SCL,{draw.randint(1, 3)}", "frame.bit-slip", ("SCL",)),
        (f"spike:SCL,{draw.randint(12, 60)},{draw.randint(150, 250)}ns", "wiring.glitches", ("SCL",)),
        ("refuse:tide", "address.no-answer", None), ("double-address:tide", "address.shifted", None), ("call:tide,0x3C", "address.neighbour", None),
        (f"call:tide,{draw.randint(1, 7)}", "address.reserved", None), (f"flaky:tide,{draw.randint(25, 60)}", "wiring.loose-contact", None),
        (f"fast-clock:{draw.choice([700, 1000, 1400])}kHz", "timing.clock-too-fast", ("SCL",)), (f"busy:tide,{draw.randint(2, 9)}", "frame.data-refused", None),
        ("no-stop:tide", "frame.missing-stop", None), ("drop-step:display", "setup.display-off", None),
        ("drop-step:charge-pump", "setup.charge-pump-off", None),
        ("alter-step:multiplex-ratio.lines=32", "setup.wrong-geometry", None), ("drop-step:picture", "picture.blank", None),
        ("alter-step:contrast.level=3", "setup.contrast-low", None),
    ):  # fmt: skip
        yield Case(TIDE, code, lines, (mishap,), rate=20_000_000)
    yield Case(TIDE, "picture.partial", None, ("drop-step:data", f"shorten:picture,{draw.randint(100, 900)}"), rate=20_000_000)
    yield Case(TIDE, "capture.silent", None, ("stuck:SCL,high", "stuck:SDA,high"))
    yield Case(TIDE, "capture.undersampled", None, rate=draw.choice([700_000, 900_000, 1_100_000]))
    for mishap, code, line in (
        (f"pull-up:SDA,{draw.randint(40, 90)}kOhm", "wiring.missing-pullup", "SDA"), (f"pull-up:SDA,{draw.randint(8, 14)}kOhm", "wiring.weak-pullup", "SDA"),
        (f"pull-up:SCL,{draw.randint(7, 11)}kOhm", "wiring.weak-pullup", "SCL"),
        (f"high-level:SDA,{draw.uniform(1.8, 2.1):.2f}V", "wiring.level-mismatch", "SDA"),
        (f"fight:SDA,{draw.randint(4, 9)}", "wiring.contention", "SDA"), (f"noise:SCL,{draw.uniform(0.32, 0.45):.2f}V", "capture.noisy-threshold", "SCL"),
    ):  # fmt: skip
        yield Case(TIDE, code, (line,), (mishap,), rate=20_000_000, volts=True)
    yield Case("handheld", "capture.unlike-rig", None, other=TIDE)
    yield Case("engine-room", "capture.unlike-rig", None, other="handheld")
    yield Case("pump-room", "wiring.swapped-lines", ("SCL", "SDA"), ("swap:SCL,SDA",))
    yield Case("pump-room", "wiring.stuck-line", ("SDA",), ("stuck:SDA,low",))
    yield Case("pump-room", "address.no-answer", None, ("refuse:adapter",))
    yield Case("pump-room", "address.shifted", None, ("double-address:adapter",))
    pins = 'rs = "p{0}", rw = "p{1}", e = "p{2}", backlight = "p{3}", d4 = "p{4}", d5 = "p{5}", d6 = "p{6}", d7 = "p{7}"'
    for wiring in ((4, 5, 6, 7, 0, 1, 2, 3), (6, 5, 4, 7, 0, 1, 2, 3), (0, 1, 2, 3, 7, 6, 5, 4)):
        yield Case("pump-room", "wiring.adapter-pins", None, change=((r"rs = \"p0\".*\"p7\"", pins.format(*wiring)),))
    yield Case("pump-room", "setup.display-off", None, hush=(("display state=on", "display state=off"),))
    yield Case("pump-room", "setup.wrong-geometry", None, hush=(("width=4 lines=2", "width=4 lines=1"),))


def _on_spi(draw: random.Random) -> Iterator[Case]:
    for rig, clock, data, select, dc, mode in (
        ("handheld", "CLK", "DIN", "CE", "DC", 0), ("wheelhouse", "CLK", "DIN", "LOAD", "", 0), ("spi ssd1306", "SCK", "MOSI", "CS", "DC", 3),
        ("spi st7735", "SCK", "MOSI", "CS", "DC", 3),
    ):  # fmt: skip
        wrong = MODE[0], MODE[1].format(mode=mode ^ 1)
        drop = ((r"\nmode = \d", ""),) if mode else ()
        yield Case(rig, "frame.wrong-spi-mode", None, change=(*drop, wrong))
        yield Case(rig, "frame.bit-order", (data,), change=((MODE[0], 'kind = "spi"\norder = "lsb"'),))
        yield Case(rig, "wiring.swapped-lines", (clock, data), (f"swap:{clock},{data}",))
        yield Case(rig, "wiring.stuck-line", (data,), (f"stuck:{data},low",))
        yield Case(rig, "wiring.stuck-line", (clock,), (f"stuck:{clock},low",))
        yield Case(rig, "wiring.stuck-line", (select,), (f"stuck:{select},high",))
        yield Case(rig, "wiring.inverted-line", (data,), (f"invert:{data}",))
        yield Case(rig, "wiring.joined-lines", (clock, data), (f"join:{clock},{data}",))
        yield Case(rig, "frame.bit-slip", (clock,), (f"drop-clock:{clock},{draw.randint(1, 2)}",))
        if dc:
            yield Case(rig, "frame.dc-stuck", (dc,), (f"stuck:{dc},{draw.choice(['low', 'high'])}",))
            yield Case(rig, "wiring.swapped-lines", (data, dc), (f"swap:{data},{dc}",))
            yield Case(rig, "wiring.inverted-line", (dc,), (f"invert:{dc}",))
        else:
            yield Case(rig, "frame.select-broken", (select,), (f"stuck:{select},low",))
    yield Case("handheld", "wiring.swapped-lines", ("CE", "DC"), ("swap:CE,DC",))
    yield Case(
        "handheld", "wiring.glitches", ("CLK",), (f"spike:CLK,{draw.randint(15, 40)},{draw.randint(35, 60)}ns",), rate=100_000_000
    )
    yield Case("handheld", "timing.clock-too-fast", ("CLK",), ("fast-clock:8MHz",))
    yield Case("handheld", "timing.setup-short", None, (f"lag:DIN,{draw.randint(185, 210)}ns",), rate=100_000_000)
    yield Case("handheld", "setup.display-off", None, hush=(("display-control normal", "display-control blank"),))
    yield Case("handheld", "picture.blank", None, ("drop-step:text",))
    yield Case("wheelhouse", "setup.shutdown", None, hush=(("\nshutdown off", "\nshutdown on"),))
    yield Case("wheelhouse", "setup.scan-limit", None, hush=(("scan-limit 8", f"scan-limit {draw.randint(2, 5)}"),))
    yield Case("wheelhouse", "setup.test-mode", None, hush=(("display-test off", "display-test on"),))
    yield Case("wheelhouse", "setup.decode-mode", None, hush=(("decode-mode all", "decode-mode none"), ("fill off", "fill off")))


def _on_parallel(draw: random.Random) -> Iterator[Case]:
    data = [f"D{k}" for k in range(8)]
    for rig, own in (("engine-room", data), ("hd44780 8", data), ("hd44780 4", data[4:])):
        a, b = sorted(draw.sample(own if rig == "engine-room" else own[-4:], 2))  # lower ones may leave every command legal
        yield Case(rig, "wiring.swapped-lines", (a, b), (f"swap:{a},{b}",))
        yield Case(rig, "wiring.stuck-line", ("E",), ("stuck:E,low",))
        yield Case(rig, "frame.dc-stuck", ("RS",), ("stuck:RS,low",))
        yield Case(rig, "wiring.swapped-lines", ("RS", "E"), ("swap:RS,E",))
        yield Case(rig, "wiring.inverted-line", ("RS",), ("invert:RS",))
        yield Case(rig, "wiring.reversed-bus", tuple(own), (f"reverse:{','.join(own)}",))
    yield Case("hd44780 8", "wiring.stuck-line", ("D5",), ("stuck:D5,low",))
    yield Case("hd44780 4", "wiring.swapped-lines", ("D4", "D5", "D6"), ("swap:D4,D5", "swap:D5,D6"))
    yield Case("hd44780 8", "wiring.swapped-lines", ("D3", "D5", "D7"), ("swap:D3,D5", "swap:D5,D7"))
    yield Case("hd44780 4", "frame.nibble-slip", None, (f"drop-clock:E,{1}",))
    yield Case("hd44780 8", "timing.wait-short", None, (f"short-wait:{draw.randint(8, 30)}",))
    yield Case("hd44780 8", "timing.pulse-short", ("E",), ("fast-clock:3MHz",), rate=200_000_000)
    yield Case("engine-room", "timing.pulse-short", ("E",), ("fast-clock:2MHz",), rate=200_000_000)
    yield Case("engine-room", "setup.display-off", None, hush=(("display on", "display off"),))


def _on_leds(draw: random.Random) -> Iterator[Case]:
    row = draw.randint(0, 3)
    yield Case("gate-signal", "timing.ghosting", None, (f"lag:ROW{row},{draw.randint(55, 200)}us",))
    yield Case("gate-signal", "timing.flicker", None, (f"fast-clock:{draw.randint(25, 50)}Hz",))
    yield Case("gate-signal", "timing.uneven-rows", (f"ROW{row}",), (f"slow-edge:ROW{row},{draw.randint(500, 1100)}us",))
    yield Case("gate-signal", "wiring.stuck-line", (f"ROW{row}",), (f"stuck:ROW{row},low",))
    yield Case("gate-signal", "wiring.swapped-lines", ("ROW1", "ROW3"), ("swap:ROW1,ROW3",))
    yield Case("led-sign", "timing.flicker", None, (f"fast-clock:{draw.randint(30, 52)}Hz",), hush=(("120ms", "300ms"),))
    yield Case("led-sign", "timing.ghosting", None, (f"lag:A,{draw.randint(100, 180)}us",))


def _by_parts(draw: random.Random) -> Iterator[Case]:
    """Set-ups and pictures that are wrong in a way that only the part's own facts tell."""
    yield Case(
        TIDE,
        "setup.wrong-controller",
        None,
        read=((r'part = "ssd1306"', 'part = "sh1106"'), (r'panel = "128x64-yellow-blue"', 'panel = "128x64"')),
    )
    yield Case(
        "sh1106 9",
        "picture.column-offset",
        None,
        change=((r'panel = "128x64"', 'panel = { ready = "128x64", column_offset = 0 }'),),
    )
    offset = draw.choice([0, 2])
    yield Case(
        "spi st7735",
        "picture.row-offset",
        None,
        change=((r'panel = "80x160"', f'panel = {{ ready = "80x160", row_offset = {offset} }}'),),
    )
    yield Case(
        "spi st7735",
        "picture.column-offset",
        None,
        change=((r'panel = "80x160"', 'panel = { ready = "80x160", column_offset = 24 }'),),
    )
    for first, second in (("0x01", "0x41"),):
        text = f"cell-address {first}\ndata 0x41*16\ncell-address {second}\ndata 0x42*16"
        yield Case("hd44780 8", "picture.cell-off-by-one", None, hush=((r'text 2,1 "TIDE 4.2"', text),))
    yield Case("spi st7735", "setup.shutdown", None, ("drop-step:sleep-mode",))
    yield Case("spi st7735", "setup.display-off", None, ("drop-step:display",))
    yield Case("spi st7735", "setup.pixel-format", None, hush=(("set-pixel-format 16-bit", "set-pixel-format 18-bit"),))
    yield Case("spi st7735", "setup.orientation", None, hush=(("colour-order=bgr", "colour-order=rgb"),))
    yield Case("spi st7735", "timing.wait-short", None, (f"short-wait:{draw.randint(1, 3)}",))
    yield Case("pump-room", "setup.backlight-off", None, hush=(("device pump-lcd", "device pump-lcd\nbacklight off"),))
    yield Case("hd44780 8", "setup.display-off", None, ("drop-step:display",))
    yield Case("hd44780 8", "setup.unknown-command", None, hush=((r"text 2,1", "bytes 0x00 0x00\ntext 2,1"),))
    yield Case("spi ssd1306", "setup.charge-pump-off", None, ("drop-step:charge-pump",))
    yield Case("spi ssd1306", "setup.display-off", None, ("drop-step:display",))
    yield Case("spi ssd1306", "picture.blank", None, ("drop-step:text",))
    yield Case("sh1106 9", "setup.display-off", None, ("drop-step:display",))
    yield Case("engine-room", "picture.blank", None, ("drop-step:picture",))
    yield Case("wheelhouse", "setup.shutdown", None, ("drop-step:shutdown",))
    yield Case("595", "setup.display-off", None, ("drop-step:display",))
    yield Case("mcp23017", "setup.display-off", None, ("drop-step:display",))
    yield Case("mcp23017", "address.no-answer", None, ("refuse:adapter",))
    yield Case(
        "handheld",
        "frame.select-broken",
        ("CE",),
        (f"spike:CE,{draw.randint(20, 40)},{draw.randint(250, 400)}ns",),
        rate=50_000_000,
    )
    late = f"{draw.uniform(2.4, 3.4):.1f}us"  # a select that ends while words are still going out
    yield Case("handheld", "frame.truncated-word", None, (f"lag:CLK,{late}", f"lag:DIN,{late}"), rate=50_000_000)
    yield Case(TIDE, "timing.hold-short", None, (f"lag:SDA,{draw.randint(700, 810)}ns",), rate=50_000_000)
    yield Case("handheld", "setup.step-missing", None, ("drop-step:vop",))
    yield Case("hd44780 8", "setup.interface-width", None, hush=(("width=8 lines=2", "width=4 lines=2"),))
    yield Case("handheld", "picture.partial", None, ("drop-step:fill",))


def faults(seeds: int) -> Iterator[Case]:
    """Every fault, with so many seeds: other places, depths, lines and rates each time."""
    for seed in range(seeds):
        draw = random.Random(seed)
        for kind in (_on_i2c, _on_spi, _on_parallel, _on_leds, _by_parts):
            for case in kind(draw):
                if case.rate == 20_000_000 and not case.volts and seed % 3:
                    case = replace(case, rate=[0, 24_000_000, 50_000_000][seed % 3])
                yield replace(case, seed=seed * 7 + 1, jitter=[1e-9, 2e-9, 3e-9][seed % 3] if case.rig != "spi st7735" else 1e-9)


def healthy(count: int) -> Iterator[Case]:
    """Clean traffic of all rigs: seeds, rates, slower clocks, clipped beginnings, updates without a start-up."""
    rigs = [*PLACES, *OTHERS]
    for number in range(count):
        draw = random.Random(1000 + number)
        rig = rigs[number % len(rigs)]
        turn = number // len(rigs)
        case = Case(rig, seed=number, jitter=draw.choice([0.0, 2e-9, 5e-9]))
        if turn % 4 == 1:
            case = replace(case, late=draw.uniform(0.05, 0.9))
        elif turn % 4 == 2 and 'clock = "' in texts(rig)[0]:
            found = re.search(r'clock = "(\d+)(\wHz|Hz)"', texts(rig)[0])
            assert found is not None
            slower = (
                max(1, int(int(found[1]) * draw.uniform(0.4, 0.9)))
                if rig not in ("gate-signal", "led-sign")
                else draw.randint(70, 200)
            )
            case = replace(case, change=((re.escape(found[0]), f'clock = "{slower}{found[2]}"'),))
        elif turn % 4 == 3 and rig != TIDE and rig not in ("gate-signal", "led-sign"):
            case = replace(case, uneven=draw.choice(["jitter", "held"]))
        elif turn % 4 == 3 and rig == TIDE:
            case = replace(case, rate=draw.choice([4_000_000, 8_000_000, 16_000_000, 100_000_000]))
        yield case
