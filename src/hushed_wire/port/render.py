"""A plan as source files: what the templates of a target are filled in with, and what the result needs."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from ..errors import HushedError
from ..units import show, show_time
from ..version import VERSION
from .budget import frame_of
from .drawing import Drawing, drawing_of
from .functions import functions
from .names import identifier, remark
from .plan import Plan
from .scanning import Scan, scan_values
from .targets import FOLDER, Target
from .wired import Pin, context, pins_moved
from .written import Arrays, area_in_python, byte_lines, byte_rows, calls

if TYPE_CHECKING:
    from jinja2 import Environment

__all__ = ["Emitted", "emitted", "filled"]


@dataclass
class Emitted:
    """files: name and text. ram, flash: bytes, as they are estimated. notes: what a person has to know."""

    files: dict[str, str]
    ram: int
    flash: int
    frame_bytes: int
    notes: list[str] = field(default_factory=list)


def emitted(
    made: Plan | Scan,
    target: Target,
    *,
    bang: bool | None = None,
    pins: Mapping[str, str] | None = None,
    cpu: Fraction | None = None,
    every_command: bool = False,
    frame: bool = True,
    drawing: bool = True,
    ram: int | None = None,
    flash: int | None = None,
) -> Emitted:
    """The source of a driver. bang: the bus by its pins, not by a peripheral. pins: role to pin, over the rig's. cpu: Hz. drawing: with functions
    to draw with. frame: pixels are drawn in RAM, where they go by pages. ram, flash: bytes that there are.

    Raises HushedError where the target cannot drive it, or it needs more than there is.
    """
    if isinstance(made, Scan):
        return _scanned(made, target, pins or {}, cpu)
    if target.family == "verilog":
        return _played(made, target, bang, pins or {}, cpu, flash)
    d = context(made, target, bang, pins or {}, cpu)
    arrays = Arrays(d["n"])
    uses: set[str] = set()
    d["start"] = [calls(piece, d, arrays, uses) for piece in made.start]
    d["show"] = [calls(piece, d, arrays, uses) for piece in made.show]
    drawn = drawing_of(made, frame) if drawing else Drawing()
    d.update(functions(made, every_command, drawn.template))
    notes = [*made.notes]
    if drawn.why:
        notes.append(drawn.why)
    d["draw"] = drawn.template
    d.update(drawn.values)
    d["area_python"] = area_in_python(drawn.values.get("area", []))
    d["font_python"] = byte_lines(bytes(byte for glyph, _ in drawn.values.get("font", []) for byte in glyph))
    uses |= drawn.uses | ({"few"} if any(entry["single"] for entry in d["functions"]) else set())
    uses |= ({"run"} if "send" in uses else set()) | ({"words"} if "few" in uses else set())
    d["uses"], d["arrays"] = uses, arrays.told
    need_ram, need_flash = drawn.ram + (2 if d["bus"] == "parallel" else 1), sum(len(raw) for raw in arrays.known) + drawn.flash
    if ram is not None and need_ram > ram and drawn.template == "paged":
        raise HushedError(
            f"a frame of {d['frame_bytes']:,} bytes and what belongs to it need {need_ram:,} bytes of RAM, {ram:,} are there",
            where="--ram", remedy="--no-frame draws page by page, as it goes out, and needs a few bytes",
        )  # fmt: skip
    if ram is not None and need_ram > ram:
        raise HushedError(f"it needs {need_ram:,} bytes of RAM, {ram:,} are there", where="--ram", remedy="take a larger part")
    if flash is not None and need_flash > flash:
        raise HushedError(
            f"its constants alone need {need_flash:,} bytes of flash, {flash:,} are there", where="--flash",
            remedy="leave out what is shown with --no-show, or take a larger part",
        )  # fmt: skip
    d |= {
        "ram": need_ram,
        "flash": f"{need_flash:,}",
        "frame_said": f", a frame of {d['frame_bytes']:,} bytes among it" if d.get("frame_bytes") else "",
    }
    took, clock = frame_of(made.rig, made.device)
    least = ", at the least" if d["bang"] else ""
    notes.append(f"a whole frame takes {show_time(took)} on its bus at {show(clock, 'Hz')}{least}")
    files = {name: filled(target, template, d) for template, name in _files(target, d["n"])}
    return Emitted(files, need_ram, need_flash, int(d.get("frame_bytes") or 0), notes)


def _scanned(made: Scan, target: Target, given: Mapping[str, str], cpu: Fraction | None) -> Emitted:
    """The source of a driver that scans LEDs."""
    if target.family == "python":
        what = f"{target.title} is too slow, or too unsteady, to scan LEDs"
        raise HushedError(what, where="--for", remedy="take c, avr, 8051, stm8, cortex-m or verilog")
    pins = pins_moved(made, target, True, given)
    name, hertz = identifier(made.device.name), target.hertz(cpu)
    d: dict[str, Any] = {
        "n": name, "N": name.upper(), "title": remark(made.rig.title or made.device.name), "part": made.target.part.name.upper(),
        "panel": remark(made.target.panel.name), "source": remark(made.source), "hush": f"hushed-wire {VERSION}", "pins": pins, "hertz": hertz,
        "serial": 0, "bus": "matrix", "hard": "", "bang": True, "has_dc": False, "bus_pins_open_drain": False, "mode": 0, "msb": True,
        "idle_bits": sum(1 << number for number, pin in enumerate(pins) if pin.idle), "segment_order": " ".join(made.target.panel.segments),
    }  # fmt: skip
    d |= scan_values(made, {pin.role: pin for pin in pins})
    d["pictures"] = [{"said": remark(own.said), "lines": byte_rows(own.raw), "wait": own.wait} for own in made.shown]
    d["show_count"] = len(made.shown)
    ram, flash = d["frame_rows"] * d["row_bytes"] + 1, sum(len(own.raw) + 4 for own in made.shown)
    d |= {"ram": ram, "flash": f"{flash:,}"}
    names = [("scan.h.j2", f"{name}.h"), ("scan.c.j2", f"{name}.c"), *_files(target, name)[2:]]
    if target.family == "verilog":
        names = [("scan.v.j2", f"{name}.v")]
        first = made.shown[0].raw if made.shown else bytes(d["frame_rows"] * d["row_bytes"])
        d |= {
            "first_picture": list(first), "address_bits": max(1, (len(first) - 1).bit_length()), "turn_bits": max(1, (made.turns - 1).bit_length()),
            "column_bits": [(role, byte, bit.bit_length() - 1) for role, byte, bit in d.get("column_pins", [])],
        }  # fmt: skip
        if d["grouped"]:
            d["group_bits"] = d["group_rows"] * d["row_bytes"] * 8
            d["shift_bits"] = d["group_bits"].bit_length()
    files = {own: filled(target, template, d) for template, own in names}
    if target.family == "verilog":
        return Emitted(
            {**files, **_pin_list(name, pins)}, ram, 0, 0, [f"{d['scan_hz']:,} turns a second at a clock of {hertz:,} Hz"]
        )
    notes = [f"call {name}_scan() {d['scan_hz']:,} times a second ({d['frames_hz']} frames of {d['turns']} turns)"]
    return Emitted(files, ram, flash, 0, notes)


PLAYED = ("dc-line", "register-pairs")


def _played(
    made: Plan, target: Target, bang: bool | None, pins: Mapping[str, str], cpu: Fraction | None, flash: int | None
) -> Emitted:
    """The source of a player: the words of the set-up, and of what is shown, in a memory."""
    shifted = made.bridge is not None and made.bus.kind == "shift"
    if (made.target.framing not in PLAYED or made.bridge is not None) and not shifted:
        raise HushedError(
            f"words are played for parts on SPI with a D/C line or register pairs, or behind a shift register, not by {made.target.framing}",
            where=made.source, remedy="take another target; or put the display on SPI",
        )  # fmt: skip
    d = context(made, target, bang, pins, cpu)
    d["clock_pin"], d["data_pin"] = ("clock", "data") if shifted else ("sck", "mosi")
    if shifted:
        return _rom(made, target, d, _loads(made, d), ["latch"], flash)
    roles = [pin.role for pin in d["pins"] if pin.role not in ("sck", "mosi", "dc")]
    select = made.bus.select == "high"
    rom: list[tuple[int, str]] = [(1 << 24 | 10, "rest")]
    for piece in [*made.start, *made.show]:
        said = remark(f"{piece.said}{': ' + piece.source if piece.source else ''}")
        for role, high in piece.levels:
            rom.append((2 << 24 | roles.index(role) << 1 | int(high), said))
        for _, runs in piece.transfers:
            if "cs" in roles:
                rom.append((2 << 24 | roles.index("cs") << 1 | int(select), said))
                said = ""
            rom += [(int(run.data) << 8 | byte, "") for run in runs for byte in run.raw]
            if "cs" in roles:
                rom.append((2 << 24 | roles.index("cs") << 1 | int(not select), ""))
        if piece.wait:
            rom.append((1 << 24 | min(piece.wait, (1 << 24) - 1), said if not piece.transfers else ""))
    return _rom(made, target, d, rom, roles, flash)


def _loads(made: Plan, d: dict[str, Any]) -> list[tuple[int, str]]:
    """Loads of a register whose outputs drive the display's four data lines, RS and E: three for each half of a byte."""
    bridge = d["bridge"]
    drives = {role: 1 << pin for role, pin in bridge["bits"].items()}
    rest = bridge["rest_value"]
    rom: list[tuple[int, str]] = [(1 << 24 | 10, "rest")]

    def load(state: int, said: str = "") -> None:
        rom.extend([(state, said), (2 << 24 | 1, ""), (2 << 24, "")])

    load(rest, "the outputs at rest")
    for piece in [*made.start, *made.show]:
        said = remark(f"{piece.said}{': ' + piece.source if piece.source else ''}")
        for _, runs in piece.transfers:
            for run in runs:
                for half in (half for byte in run.raw for half in ((byte >> 4,) if piece.halves else (byte >> 4, byte & 15))):
                    state = rest | (drives["rs"] if run.data else 0) | sum(drives[f"d{4 + k}"] for k in range(4) if half >> k & 1)
                    load(state, said)
                    load(state | drives["e"])
                    load(state)
                    rom.append((1 << 24 | max(1, d["word_wait"]), ""))
                    said = ""
        if piece.wait:
            rom.append((1 << 24 | min(piece.wait, (1 << 24) - 1), said if not piece.transfers else ""))
    return rom


def _rom(
    made: Plan, target: Target, d: dict[str, Any], rom: list[tuple[int, str]], roles: list[str], flash: int | None
) -> Emitted:
    """The player with its words. roles: lines that words of level 2 set, by their number."""
    rom.append((3 << 24, "the end"))
    need = len(rom) * 26 // 8
    if flash is not None and need > flash:
        raise HushedError(
            f"its words need {need:,} bytes of memory, {flash:,} are there",
            where="--flash",
            remedy="leave out what is shown with --no-show",
        )
    d |= {"rom": rom, "level_roles": roles, "has_show": bool(made.show)}
    files = {f"{d['n']}.v": filled(target, "player.v.j2", d), **_pin_list(d["n"], d["pins"])}
    return Emitted(files, 0, need, 0, [*made.notes])


def _pin_list(name: str, pins: list[Pin]) -> dict[str, str]:
    """The ports that want pins, to be brought into the form of one's own tools."""
    rows = ["port,line,at rest", *(f"{pin.role},{pin.line},{'high' if pin.idle else 'low'}" for pin in pins)]
    return {f"{name}_pins.csv": "\n".join(rows) + "\n"}


def filled(target: Target, template: str, d: dict[str, Any]) -> str:
    """A file of a driver; no more than one empty line in a row, but for what Python has ahead of functions and classes."""
    text = _environment(target.family).get_template(template).render(d=d, t=target)
    text = re.sub(r"\n{3,}", "\n\n", text).rstrip("\n") + "\n"
    return re.sub(r"\n\n(?=(?:def |class |if __name__))", "\n\n\n", text) if target.family == "python" else text


def _files(target: Target, name: str) -> list[tuple[str, str]]:
    if target.family == "python":
        return [("driver.py.j2", f"{name}.py"), *([(f"{target.port}.py.j2", f"{name}_port.py")] if target.port else [])]
    out = [("driver.h.j2", f"{name}.h"), ("driver.c.j2", f"{name}.c"), (f"target/{target.port}.h.j2", f"{name}_port.h")]
    if (FOLDER / target.family / "target" / f"{target.port}.c.j2").exists():
        out.append((f"target/{target.port}.c.j2", f"{name}_port.c"))
    return out


@lru_cache(maxsize=4)
def _environment(family: str) -> Environment:
    from jinja2 import Environment, FileSystemBytecodeCache, FileSystemLoader, StrictUndefined

    try:  # taken apart once a machine, in a folder that is the user's alone: it is most of the time that emitting takes
        cache = FileSystemBytecodeCache()
    except (RuntimeError, OSError):
        cache = None
    return Environment(
        loader=FileSystemLoader(FOLDER / family),
        bytecode_cache=cache,
        trim_blocks=True,
        lstrip_blocks=True,
        undefined=StrictUndefined,
        autoescape=False,
    )
