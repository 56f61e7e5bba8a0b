"""Roles by the names of lines, as datasheets, schematics and modules write them. A name counts only where it fits one role of a bus."""

from __future__ import annotations

import re

from .scan_roles import ADDRESS, COLOURS, axes

__all__ = ["Named", "named"]

Named = tuple[str, dict[str, int]]


def _any(*words: str) -> str:
    """One of the words, by itself: ahead of it and behind it no other letter stands; a number or a bar may."""
    return rf"(?:^|[^a-z])(?:/|n_?|#)?(?:{'|'.join(words)})(?:_?n|#|b)?\d*(?:$|[^a-z])"


# Patterns as text, for small and capital letters: they are compiled when a name is first held against them, as most captures need few.
NAMES: dict[str, dict[str, str]] = {
    "i2c": {"scl": _any("scl", "i2c[ _-]?clk", "twck"), "sda": _any("sda", "i2c[ _-]?data?", "twd")},
    "spi": {
        "sck": _any("sck", "sclk", "clk", "spi[ _-]?clk", "scl", "clock"), "mosi": _any("mosi", "sdi", "din", "sda", "sdin", "copi", "data", "dio"),
        "miso": _any("miso", "sdo", "dout", "cipo"), "cs": _any("cs", "ce", "ss", "sce", "scs", "csx", "load", "nss", "stb"),
        "dc": _any("dc", "d/c", "d_c", "dcx", "a0", "rs", "d/cx", "cd"), "reset": _any("reset", "rst", "res", "resx"),
        "backlight": _any("bl", "backlight", "blk", "led"), "busy": _any("busy", "bsy"),
    },
    "parallel": {
        "rs": _any("rs", "d/i", "di", "dcx", "d/c", "dc", "a0"), "rw": _any("rw", "r/w", "r_w"),
        "e2": r"(?:^|[^a-z])(?:e|en|enable)[ _-]?2$", "e": _any("e", "en", "enable"),
        "wr": _any("wr", "wrx", "write"), "rd": _any("rd", "rdx", "read"), "cs": _any("cs", "csx", "ce"), "reset": _any("reset", "rst", "res", "resx"),
        "backlight": _any("bl", "backlight", "blk", "led"),
    },
    "pulse": {"data": _any("din", "data", "leds?", "pixels?")},
    "two-wire": {"clock": _any("clk", "clock", "tm[ _-]?clk"), "data": _any("dio")},
    "shift": {
        "clock": _any("clock", "clk", "shcp", "sh_cp", "srclk", "sck"), "data": _any("data", "ds", "ser", "din", "sdi", "mosi"),
        "latch": _any("latch", "stcp", "st_cp", "rclk", "lat", "le", "strobe"), "enable": _any("enable", "oe"),
    },
    # Drivers of segment glass that take single bits call the clock of their SPI WR, beside one line of data.
    "written": {"sck": _any("wr", "wrx"), "mosi": _any("data", "din", "dio"), "cs": _any("cs", "csx", "ce")},
}  # fmt: skip
GROUP_NAMES = {"a": _any("a"), "b": _any("b"), "data": _any("r", "r1", "red")}
MASTER_OUT = "mosi|copi"  # what nobody calls a line of any other bus
DATA = r"(?:^|[^a-z])(?:d|db|data|bit)[ _-]?(\d{1,2})$"
AXES = r"(?:^|[^a-z])(?:(row|r)|(column|col|c)|(digit|dig))[ _-]?(\d{1,2})$"
SEGMENT = r"(?:^|[^a-z])(?:(?:segment|seg|s)[ _-]?([a-g]|dp)|(dp|dot|point))$"
CHIPS = r"(?:^|[^a-z])cs[ _-]?([123])$"


def _found(pattern: str, name: str) -> re.Match[str] | None:
    return re.search(pattern, name, re.IGNORECASE)


def named(names: tuple[str, ...]) -> Named | None:
    """The bus that names tell, and its lines by role; None where they tell none, or several lines claim what a bus needs."""
    if all(name.isdecimal() for name in names):
        return None
    scanned = _scanned(names)
    if scanned is not None:
        return scanned
    data = {f"d{found[1]}": line for line, name in enumerate(names) if (found := _found(DATA, name)) and int(found[1]) < 16}
    if {"d4", "d5", "d6", "d7"} <= data.keys():
        roles = _roles("parallel", names, set(data.values()))
        roles |= data
        chips = {f"cs{found[1]}": line for line, name in enumerate(names) if (found := _found(CHIPS, name))}
        if len(chips) > 1:
            roles.pop("cs", None)
            roles |= chips
        if "wr" in roles and "rs" in roles:
            roles.pop("e", None)
            return "parallel", roles
        if "e" in roles and "rs" in roles:
            roles.pop("wr", None)
            roles.pop("rd", None)
            return "parallel", roles
    for kind, needs in (
        ("i2c", ("scl", "sda")),
        ("spi", ("sck", "mosi", "cs")),
        ("shift", ("clock", "data", "latch")),
        *([("pulse", ("data",))] if len(names) == 1 else []),
        ("two-wire", ("clock", "data")),
        ("spi", ("sck", "mosi", "dc")),
        *([("spi", ("sck", "mosi"))] if any(_found(MASTER_OUT, name) for name in names) else []),
        ("shift", ("clock", "data")),
    ):
        roles = _roles(kind, names, set())
        if kind == "spi" and "sck" not in roles and len(roles) > 1:
            written = _roles("written", names, set())
            roles = written if len(written) == len(NAMES["written"]) else roles
        if all(role in roles for role in needs):
            if kind == "i2c" and len(names) > 2 and {"cs", "dc"} & _roles("spi", names, set()).keys():
                continue  # modules print SCL and SDA beside their SPI pins, too
            if kind == "shift" and "latch" not in roles and "e" not in _roles("parallel", names, set()):
                continue  # a register without a latch feeds a display whose E comes from elsewhere; else it may be any two wires
            return kind, roles
    return None


def _scanned(names: tuple[str, ...]) -> Named | None:
    """Rows and columns, digits and segments, or the lines of a panel with row groups."""
    coloured = _coloured(names)
    if coloured:
        return "matrix", coloured
    out: dict[str, int] = {}
    for line, name in enumerate(names):
        if found := _found(AXES, name):
            kind = "row" if found[1] else "column" if found[2] else "digit"
            out.setdefault(f"{kind}{int(found[4])}", line)
        elif found := _found(SEGMENT, name):
            out.setdefault(f"segment_{found[1].lower() if found[1] else 'dp'}", line)
    if len(out) >= 7 and not any(not role.startswith("segment") for role in out):  # beside segments, D0 is a digit
        out |= {f"digit{int(found[1])}": line for line, name in enumerate(names) if (found := _found(DATA, name))}
    rows, columns = axes(out)
    if (len(rows) > 1 and len(columns) > 1) or (rows and len(columns) > 6):
        return "matrix", out
    roles = _roles("shift", names, set())
    for role, pattern in GROUP_NAMES.items():
        lines = [line for line, name in enumerate(names) if line not in roles.values() and _found(pattern, name)]
        if len(lines) == 1:
            roles.setdefault(role, lines[0])
    return ("matrix", roles) if {"a", "b", "clock", "data", "latch", "enable"} <= roles.keys() else None


def _coloured(names: tuple[str, ...]) -> dict[str, int]:
    """The lines of a panel in colours, by role; none where they are not all there."""
    out = {colour: line for line, name in enumerate(names) for colour in COLOURS if _found(_any(colour), name)}
    if len(out) < len(COLOURS):
        return {}
    for role in ADDRESS:
        lines = [line for line, name in enumerate(names) if line not in out.values() and _found(_any(role), name)]
        out |= {role: lines[0]} if len(lines) == 1 else {}
    out |= {role: line for role, line in _roles("shift", names, set(out.values())).items() if role != "data"}
    return out if {"a", "clock", "latch"} <= out.keys() else {}


def _roles(kind: str, names: tuple[str, ...], taken: set[int]) -> dict[str, int]:
    """Each role that exactly one line has the name of; of lines that fit several roles the first of them."""
    out: dict[str, int] = {}
    used = set(taken)
    for role, pattern in NAMES[kind].items():
        found = [line for line, name in enumerate(names) if line not in used and _found(pattern, name)]
        if len(found) == 1:
            out[role] = found[0]
            used.add(found[0])
    return out
