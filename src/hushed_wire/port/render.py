"""A plan as source files: what the templates of a target are filled in with, and what the result needs."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from ..bus.base import BUSES
from ..errors import HushedError
from ..part.output_pins import pins_of
from ..part.wrap import WRAPS
from ..rig.schema import lamps_of
from ..units import parse
from ..version import VERSION
from .commands import Function, function_of
from .drawing import Drawing, drawing_of
from .names import identifier, remark
from .plan import Piece, Plan, Run, wait_behind
from .scanning import Scan, scan_values
from .targets import FOLDER, Target

if TYPE_CHECKING:
    from jinja2 import Environment

__all__ = ["Emitted", "Pin", "emitted", "filled"]

FEW = 3  # words that a call takes as they are
STARTS_HIGH = {"cs": "low", "cs1": "low", "cs2": "low", "cs3": "low", "reset": "low", "wr": "low", "rd": "low"}


@dataclass
class Emitted:
    """files: name and text. ram, flash: bytes, as they are estimated. notes: what a person has to know."""

    files: dict[str, str]
    ram: int
    flash: int
    frame_bytes: int
    notes: list[str] = field(default_factory=list)


@dataclass
class Pin:
    """role, line: as the rig has them. idle: its level at rest. must: it has to be so before anything else. at: where it is on the target."""

    role: str
    line: str
    idle: bool
    open_drain: bool = False
    must: bool = False
    at: tuple[str, ...] = ()
    bit: int = 0


@dataclass
class _Arrays:
    """Constants that are sent, each once."""

    prefix: str
    known: dict[bytes, str] = field(default_factory=dict)
    told: list[dict[str, Any]] = field(default_factory=list)

    def of(self, raw: bytes, said: str) -> str:
        if raw not in self.known:
            name = f"{self.prefix}_bytes_{len(self.known) + 1}"
            self.known[raw] = name
            lines = [", ".join(f"0x{byte:02X}" for byte in raw[k : k + 12]) + "," for k in range(0, len(raw), 12)]
            self.told.append(
                {
                    "name": name,
                    "count": len(raw),
                    "lines": lines,
                    "remark": said,
                    "python": _byte_lines(raw),
                    "number": len(self.known),
                }
            )
        return self.known[raw]


def _byte_lines(raw: bytes) -> list[str]:
    """Bytes as literals of Python, line by line."""
    return ['b"' + "".join(f"\\x{byte:02x}" for byte in raw[k : k + 24]) + '"' for k in range(0, len(raw), 24)]


def _as_python(expression: str) -> str:
    """An expression of the C family in Python: numbers have no suffix there."""
    return re.sub(r"\b(0x[0-9A-Fa-f]+|\d+)U\b", r"\1", expression)


def emitted(
    made: Plan | Scan,
    target: Target,
    *,
    bang: bool | None = None,
    pins: Mapping[str, str] | None = None,
    cpu: Fraction | None = None,
    every_command: bool = False,
    frame: bool = True,
    ram: int | None = None,
    flash: int | None = None,
) -> Emitted:
    """The source of a driver. bang: the bus by its pins, not by a peripheral. pins: role to pin, over the rig's. cpu: Hz. frame: with functions
    to draw with. ram, flash: bytes that there are.

    Raises HushedError where the target cannot drive it, or it needs more than there is.
    """
    if isinstance(made, Scan):
        return _scanned(made, target, pins or {}, cpu)
    if target.family == "verilog":
        return _played(made, target, bang, pins or {}, cpu, flash)
    d = _context(made, target, bang, pins or {}, cpu)
    arrays = _Arrays(d["n"])
    uses: set[str] = set()
    d["start"] = [_calls(piece, d, arrays, uses) for piece in made.start]
    d["show"] = [_calls(piece, d, arrays, uses) for piece in made.show]
    drawn = drawing_of(made) if frame else Drawing()
    d.update(_functions(made, every_command, drawn.template))
    notes = [*made.notes]
    if drawn.why:
        notes.append(drawn.why)
    d["draw"] = drawn.template
    d.update(drawn.values)
    d["area_python"] = _area_in_python(drawn.values.get("area", []))
    d["font_python"] = _byte_lines(bytes(byte for glyph, _ in drawn.values.get("font", []) for byte in glyph))
    uses |= drawn.uses | ({"few"} if any(entry["single"] for entry in d["functions"]) else set())
    uses |= ({"run"} if "send" in uses else set()) | ({"words"} if "few" in uses else set())
    d["uses"], d["arrays"] = uses, arrays.told
    need_ram, need_flash = drawn.ram + (2 if d["bus"] == "parallel" else 1), sum(len(raw) for raw in arrays.known) + drawn.flash
    if ram is not None and need_ram > ram and drawn.template == "paged":
        # Without a frame in RAM what remains is the set-up, the commands and what is shown.
        raise HushedError(
            f"a frame of {d['frame_bytes']:,} bytes and what belongs to it need {need_ram:,} bytes of RAM, {ram:,} are there",
            where="--ram", remedy="--no-frame leaves drawing out: the set-up, the commands and the picture need a few bytes",
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
    files = {name: filled(target, template, d) for template, name in _files(target, d["n"])}
    return Emitted(files, need_ram, need_flash, int(d.get("frame_bytes") or 0), notes)


def _scanned(made: Scan, target: Target, given: Mapping[str, str], cpu: Fraction | None) -> Emitted:
    """The source of a driver that scans LEDs."""
    if target.family == "python":
        what = f"{target.title} is too slow, or too unsteady, to scan LEDs"
        raise HushedError(what, where="--for", remedy="take c, avr, 8051, stm8, cortex-m or verilog")
    pins = _pins(made, target, True, given)
    name, hertz = identifier(made.device.name), cpu or (parse(target.cpu, "Hz") if target.cpu else Fraction(0))
    d: dict[str, Any] = {
        "n": name, "N": name.upper(), "title": remark(made.rig.title or made.device.name), "part": made.target.part.name.upper(),
        "panel": remark(made.target.panel.name), "source": remark(made.source), "hush": f"hushed-wire {VERSION}", "pins": pins, "hertz": int(hertz),
        "serial": 0, "bus": "matrix", "hard": "", "bang": True, "has_dc": False, "bus_pins_open_drain": False, "mode": 0, "msb": True,
        "idle_bits": sum(1 << number for number, pin in enumerate(pins) if pin.idle), "segment_order": " ".join(made.target.panel.segments),
    }  # fmt: skip
    d |= scan_values(made, {pin.role: pin for pin in pins})
    d["pictures"] = [{"said": remark(own.said), "lines": _byte_rows(own.raw), "wait": own.wait} for own in made.shown]
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
            {**files, **_pin_list(name, pins)}, ram, 0, 0, [f"{d['scan_hz']:,} turns a second at a clock of {int(hertz):,} Hz"]
        )
    notes = [f"call {name}_scan() {d['scan_hz']:,} times a second ({d['frames_hz']} frames of {d['turns']} turns)"]
    return Emitted(files, ram, flash, 0, notes)


PLAYED = ("dc-line", "register-pairs")


def _played(
    made: Plan, target: Target, bang: bool | None, pins: Mapping[str, str], cpu: Fraction | None, flash: int | None
) -> Emitted:
    """The source of a player: the words of the set-up, and of what is shown, in a memory."""
    if made.target.framing not in PLAYED or made.bridge is not None:
        raise HushedError(
            f"words are played for parts on SPI with a D/C line or register pairs, not by {made.target.framing}", where=made.source,
            remedy="take another target; or put the display on SPI",
        )  # fmt: skip
    d = _context(made, target, bang, pins, cpu)
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


def _byte_rows(raw: bytes) -> list[str]:
    return [", ".join(f"0x{byte:02X}" for byte in raw[k : k + 12]) + "," for k in range(0, len(raw), 12)]


def filled(target: Target, template: str, d: dict[str, Any]) -> str:
    """A file of a driver; no more than one empty line in a row."""
    text = _environment(target.family).get_template(template).render(d=d, t=target)
    return re.sub(r"\n{3,}", "\n\n", text).rstrip("\n") + "\n"


def _files(target: Target, name: str) -> list[tuple[str, str]]:
    if target.family == "python":
        return [("driver.py.j2", f"{name}.py")]
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


EMITTED = (
    "i2c-control-byte", "i2c-first-byte", "i2c-register", "i2c-plain", "dc-line", "nine-bit", "register-pairs", "rs-line", "nibbles",
)  # fmt: skip


def _by_pins(made: Plan, target: Target, bang: bool | None) -> bool:
    """Whether the bus is moved bit by bit on its pins; raises HushedError where the target cannot do what is asked for."""
    wired, framing = made.bus.kind, made.target.framing
    can = wired in target.hardware
    if framing not in EMITTED:
        what = f"drivers are not emitted for parts that are wired by {framing}"
        raise HushedError(what, where=made.source, remedy="hushed-wire build --as c writes the words")
    selects = [role for role in made.bus.lines if role in ("cs1", "cs2", "cs3")]
    if made.target.chips > 1 and wired == "parallel" and len(selects) < made.target.chips:
        what = f"this panel is on {made.target.chips} controllers, each on a strobe of its own"
        raise HushedError(
            what, where=made.source, remedy="drivers are emitted for controllers that are told apart by select lines"
        )
    if bang is False and not can:
        raise HushedError(f"{target.title} has no peripheral for {BUSES[wired].title}", where="--bus", remedy="take --bus pins")
    if bang and target.family == "python" and can:
        raise HushedError("Python drives buses by its objects", where="--bus", remedy="take --bus hardware, or another target")
    return bang if bang is not None else target.usual == "pins" or not can


def _context(made: Plan, target: Target, bang: bool | None, given: Mapping[str, str], cpu: Fraction | None) -> dict[str, Any]:
    """What every template of a family is filled in with, but for what is sent and drawn."""
    bang = _by_pins(made, target, bang)
    part, own, bridge = made.part, made.target, made.bridge
    name = identifier(made.device.name)
    pins = _pins(made, target, bang, given)
    hertz = cpu or (parse(target.cpu, "Hz") if target.cpu else Fraction(0))
    out: dict[str, Any] = {
        "n": name, "N": name.upper(), "cls": "".join(word.capitalize() for word in name.split("_")), "title": remark(made.rig.title or made.device.name),
        "part": part.name.upper(), "panel": remark(own.panel.name), "wired": remark(_wired(made)), "source": remark(made.source), "version": VERSION,
        "hush": f"hushed-wire {VERSION}", "datasheet": remark(part.source), "pins": pins, "hertz": int(hertz), "frame_bytes": 0,
        "word_wait": made.word_wait, "serial": 0, "bridge": None, "parameters_are_data": part.parameters == "data",
    }  # fmt: skip
    out |= _bus_facts(made, bang, pins)
    if bridge is not None:
        out |= {"bridge": _bridge(made, bang), "data_pins": [Pin(f"d{k}", "", False) for k in range(4, 8)]}
    return out


def _bus_facts(made: Plan, bang: bool, pins: list[Pin]) -> dict[str, Any]:
    """How the bus is moved, and how the part is spoken to on it."""
    own, bus, bridge = made.target, made.bus, made.bridge
    framing, roles = WRAPS[own.framing], {pin.role for pin in pins}
    inner = bus.kind if bridge is None else "parallel"
    clock = parse(bus.clock, "Hz", "clock") if bus.clock else Fraction(100_000 if bus.kind == "i2c" else 1_000_000)
    address = made.device.address if bridge is None else bridge.address
    parallel = bridge is None and inner == "parallel"
    data_pins = [pin for pin in pins if re.fullmatch(r"d\d+", pin.role)] if parallel else []
    for pin in data_pins:
        pin.bit = 1 << int(pin.role[1:])
    control = own.framing == "i2c-control-byte"
    return {
        "bus": inner, "bang": bang, "hard": "" if bang else bus.kind, "framing": own.framing, "chips": own.chips, "address": address or 0,
        "mode": bus.mode, "msb": bus.order == "msb", "nine": framing.bits == 9, "halved": framing.halves, "select_high": bus.select == "high",
        "has_select": "cs" in roles and inner == "spi", "has_dc": own.framing == "dc-line", "clock": int(clock),
        "half_us": max(1, -int(-Fraction(500_000) / clock // 1)), "room": max(0, bus.driver.longest_write - 1) if control else 0,
        "data_pins": data_pins, "select_pins": [role for role in ("cs1", "cs2", "cs3") if role in roles and parallel], "strobe": "E",
        "all_chips": "0U" if own.chips > 1 else "", "chips0": "0U, " if own.chips > 1 else "",
        "bus_pins_open_drain": any(pin.open_drain for pin in pins), "linux_room": max(64, 2 + _longest(made)),
        "idle_bits": sum(1 << number for number, pin in enumerate(pins) if pin.idle),
    }  # fmt: skip


def _longest(made: Plan) -> int:
    """Bytes of the longest transfer that is sent, or drawn."""
    sent = [sum(len(run.raw) for run in runs) for piece in [*made.start, *made.show] for _, runs in piece.transfers]
    return max([*sent, made.target.panel.width])


def _wired(made: Plan) -> str:
    if made.bridge is not None:
        return f", behind a {made.bridge.part.upper()} at 0x{made.bridge.address or 0:02X}"
    return f", I2C address 0x{made.device.address or 0:02X}" if made.bus.kind == "i2c" else f", {BUSES[made.bus.kind].title}"


def _pins(made: Plan | Scan, target: Target, bang: bool, given: Mapping[str, str]) -> list[Pin]:
    """The pins that the driver moves itself, in the order of the rig."""
    bus = made.bus
    roles = dict(bus.lines)
    if not bang:
        roles = {role: line for role, line in roles.items() if role not in ("scl", "sda", "sck", "mosi", "miso")}
    roles.pop("miso", None)
    for role in given:
        if role not in bus.lines:
            raise HushedError(f"no pin of the driver is '{role}'", where="--pin", remedy=f"it has {', '.join(bus.lines)}")
    out = []
    for role, line in roles.items():
        pin = Pin(role, remark(line), _at_rest(made, role), role in ("scl", "sda"), role in STARTS_HIGH and _at_rest(made, role))
        if target.pin:
            text = given.get(role) or str(bus.pins.get(role, "")) or line
            found = re.fullmatch(target.pin, text)
            if found is None:
                what = f"the pin of {role} is '{remark(text)}', which is none of {target.title}"
                raise HushedError(
                    what,
                    where="--pin",
                    remedy=f'say --pin {role}={target.pin_example}, or write it into the rig: pins = {{ {role} = "{target.pin_example}" }}',
                )
            pin.at = found.groups()
            pin.line = remark(text)
        elif role in given or role in bus.pins:
            pin.line = remark(given.get(role) or str(bus.pins[role]))
        out.append(pin)
    places = [pin.at for pin in out if pin.at]
    double = next((place for place in places if places.count(place) > 1), None)
    if double is not None:
        names = " and ".join(pin.role for pin in out if pin.at == double)
        raise HushedError(f"{names} are on one pin", where="--pin", remedy="give each a pin of its own")
    return out


def _at_rest(made: Plan | Scan, role: str) -> bool:
    """The level of a line when nothing goes on."""
    if role in ("cs", "cs1", "cs2", "cs3"):
        return made.bus.select == "low"
    if role == "sck":
        return made.bus.mode in (2, 3)
    if isinstance(made, Scan):  # dark: rows and enable off
        row = role.startswith(("row", "digit")) or role == "enable"
        column = role.startswith(("column", "segment"))
        lamps = lamps_of(made.target, made.bus)
        return lamps.row == 0 if row else lamps.column == 0 if column else False
    return role in ("scl", "sda", "reset", "wr", "rd")


def _bridge(made: Plan, bang: bool) -> dict[str, Any]:
    """An I2C expander of one port, whose outputs are a parallel bus of four data lines."""
    bridge = made.bridge
    assert bridge is not None
    part = bridge.chip
    if "i2c-plain" not in part.framings or len(pins_of(part, bridge.count)) != 8 or made.bus.kind != "i2c":
        raise HushedError(
            f"drivers are not emitted through a {part.name}",
            where=made.source,
            remedy="an I2C expander of eight plain outputs is, like pcf8574",
        )
    where = {role: pins_of(part, bridge.count)[pin] for role, pin in bridge.drives.items()}
    if not all(f"d{k}" in where for k in range(4, 8)) or "e" not in where or "rs" not in where:
        raise HushedError(
            "the adapter drives no bus of four data lines", where=made.source, remedy="its drives need rs, e and d4 to d7"
        )
    data = [where[f"d{k}"] for k in range(4, 8)]
    straight = data == list(range(data[0], data[0] + 4))
    if straight and data[0] == 4:
        nibble = "(half & 0xF0U)"
    elif straight:
        nibble = f"((half >> {4 - data[0]}) & 0x{0xF << data[0]:02X}U)"
    else:
        nibble = (
            "(" + " | ".join(f"((half & 0x{16 << k:02X}U) != 0U ? 0x{1 << bit:02X}U : 0x00U)" for k, bit in enumerate(data)) + ")"
        )
    own = sum(1 << bit for bit in data) | 1 << where["e"] | 1 << where["rs"] | (1 << where["rw"] if "rw" in where else 0)
    return {
        "layer": "i2c", "bang": bang, "address": bridge.address or 0, "nibble": nibble, "rs": f"0x{1 << where['rs']:02X}U",
        "e": f"0x{1 << where['e']:02X}U", "keep": f"0x{0xFF & ~own:02X}U", "rest": f"0x{1 << where['backlight'] if 'backlight' in where else 0:02X}U",
        "rest_value": 1 << where["backlight"] if "backlight" in where else 0, "backlight": f"0x{1 << where['backlight']:02X}U" if "backlight" in where else "",
        "nibble_python": _as_python(nibble) if straight else "(" + " | ".join(f"(half >> {4 + k} & 1) << {bit}" for k, bit in enumerate(data)) + ")",
    }  # fmt: skip


# Names that the templates take for themselves.
LOW = (
    "start", "show", "open", "close", "put", "mark", "run", "send", "fill", "few", "port", "begin", "byte", "stop", "clock", "shift", "bit",
    "lines", "half", "words", "latch", "outputs", "state", "rs", "upper", "dots", "page", "frame", "font", "digits", "changed", "from", "to", "ninth",
)  # fmt: skip
DRAWN = {
    "character": ("at", "character", "text", "number", "own_glyph"),
    "digits": ("put_digit", "text", "number"),
    "paged": ("clear", "pixel", "text", "flush"),
    "colour": ("window", "colour", "box", "pixel", "text"),
}


def _functions(made: Plan, every: bool, template: str) -> dict[str, Any]:
    """The commands as functions; those of parts whose registers are their display are drawn with, not called."""
    beside = {*LOW, *DRAWN.get(template, ())}
    wanted = made.part.command if every else made.used
    out = []
    if made.target.chain > 1:  # in a chain each word has no-ops beside it
        wanted = []
    for command in wanted:
        if command.data:
            continue
        found = function_of(command, beside)
        if found is not None:
            out.append(_as_function(made, found))
    return {"functions": out}


def _as_function(made: Plan, found: Function) -> dict[str, Any]:
    names = {parameter.name: parameter.name for parameter in found.parameters}
    words = [word.format(**names) for word in found.words]
    prefix = f"{identifier(made.device.name)}_{found.name}".upper()
    few = "".join(f", (uint8_t)({word})" for word in words) + ", 0" * (FEW - len(words))
    as_data = made.part.parameters == "data" and len(words) > 1
    macros = [
        {
            "values_named": [
                (f"{prefix}_{parameter.name}_{value.removeprefix('d_')}".upper(), raw) for value, raw in parameter.values
            ],
            "name": parameter.name,
        }
        for parameter in found.parameters
    ]
    types = [
        "uint8_t" if parameter.high < 256 else "uint16_t" if parameter.high < 65536 else "uint32_t"
        for parameter in found.parameters
    ]
    signature = ", ".join(f"{kind} {parameter.name}" for kind, parameter in zip(types, found.parameters, strict=True)) or "void"
    return {
        "name": found.name, "remark": found.remark, "parameters": macros, "signature": signature, "words": words, "count": len(words), "few": few,
        "python": [_as_python(word) for word in words], "wait": wait_behind(found.command), "single": len(words) <= FEW and not as_data,
        "names": [parameter.name for parameter in found.parameters],
    }  # fmt: skip


def _calls(piece: Piece, d: dict[str, Any], arrays: _Arrays, uses: set[str]) -> dict[str, Any]:
    """A step with its calls, in the C family and in Python."""
    calls: list[str] = []
    python: list[str] = []
    for mask, runs in piece.transfers:
        if piece.halves and not runs[0].data:
            uses.add("halves")
            calls += [f"{d['n']}_upper(0x{byte:02X}U)" for run in runs for byte in run.raw]
            python += [f"self._upper({_literal(run.raw)})" for run in runs]
            continue
        chips = f"0x{mask:02X}U, " if d["chips"] > 1 else ""
        several = f", {mask}" if d["chips"] > 1 and d["bus"] == "parallel" else ""
        if len(runs) == 1 or d["bus"] == "parallel":  # nothing holds words on a parallel bus together
            for run in runs:
                calls.append(_one_run(run, d["n"], chips, arrays, piece, uses))
                python.append(f"self._send({run.data}, {_in_python(run, arrays, piece)}{several})")
            continue
        calls.append(f"{d['n']}_open({chips.rstrip(', ')})")
        calls += [_inside(run, d["n"], arrays, piece, uses) for run in runs]
        calls.append(f"{d['n']}_close()")
        python += ["self._open()", *(f"self._run({run.data}, {_in_python(run, arrays, piece)})" for run in runs), "self._close()"]
    return {
        "said": remark(piece.said), "source": remark(piece.source), "levels": piece.levels, "calls": calls, "python": python, "wait": piece.wait,
    }  # fmt: skip


def _area_in_python(area: list[Any]) -> list[Any]:
    return [
        (_as_python(each[0]), [_as_python(word) for word in each[1]]) if isinstance(each, tuple) else _as_python(each)
        for each in area
    ]


def _literal(raw: bytes) -> str:
    return 'b"' + "".join(f"\\x{byte:02x}" for byte in raw) + '"'


def _in_python(run: Run, arrays: _Arrays, piece: Piece) -> str:
    """What stands for a run's bytes in Python."""
    if len(run.raw) <= FEW:
        return _literal(run.raw)
    if len(set(run.raw)) == 1:
        return f"{_literal(run.raw[:1])} * {len(run.raw)}"
    return f"_BYTES_{arrays.of(run.raw, remark(piece.said)).rpartition('_')[2]}"


def _few_words(raw: bytes) -> str:
    return ", ".join([f"0x{byte:02X}U" for byte in raw] + ["0"] * (FEW - len(raw)))


def _one_run(run: Run, n: str, chips: str, arrays: _Arrays, piece: Piece, uses: set[str]) -> str:
    """The call for a transfer of one run, in C."""
    data, count = str(run.data).lower(), len(run.raw)
    if count <= FEW:
        uses.add("few")
        return f"{n}_few({chips}{data}, {count}, {_few_words(run.raw)})"
    if len(set(run.raw)) == 1:
        uses.add("fill")
        return f"{n}_fill({chips}{data}, 0x{run.raw[0]:02X}U, {count}UL)"
    uses.add("send")
    return f"{n}_send({chips}{data}, {arrays.of(run.raw, remark(piece.said))}, {count}UL)"


def _inside(run: Run, n: str, arrays: _Arrays, piece: Piece, uses: set[str]) -> str:
    """The call for a run within a transfer, in C."""
    data, count = str(run.data).lower(), len(run.raw)
    if count <= FEW:
        uses.add("words")
        return f"{n}_words({data}, {count}, {_few_words(run.raw)})"
    uses.add("run")
    return f"{n}_run({data}, {arrays.of(run.raw, remark(piece.said))}, {count}UL)"
