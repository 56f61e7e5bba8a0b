"""Options of one meaning have one name in all commands; here they are added, and what they say of the rig is turned into one."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from fractions import Fraction
from typing import Any

from ..errors import HushedError, nearest

__all__ = [
    "Given",
    "add_capture",
    "add_catalog",
    "add_only",
    "add_quantity",
    "add_radix",
    "add_reading",
    "add_rig",
    "add_text",
    "add_transfer",
    "add_window",
    "completes",
    "measured",
    "parts",
    "rig_given",
    "roles",
    "shape",
]


KINDS = (
    "i2c",
    "spi",
    "parallel",
    "shift",
    "matrix",
    "pulse",
    "two-wire",
)  # those of `bus.base.BUSES`, which is loaded only when they are used
DATA_LINES = tuple(f"d{k}" for k in range(16))


def add_capture(parser: argparse.ArgumentParser, optional: bool = False) -> None:
    """The capture and how its file is read."""
    nargs = "?" if optional else None
    parser.add_argument(
        "capture", nargs=nargs, metavar="CAPTURE", help="VCD, CSV or NPZ file, plain or gzip; '-' is standard input"
    )
    add_window(add_reading(parser))


def add_transfer(group: Any, text: str) -> None:
    """Transfers by their numbers."""
    group.add_argument("--transfer", type=_numbers, metavar="N|N-N", help=text)


def _numbers(text: str) -> tuple[int, int]:
    low, dash, high = text.partition("-")
    if not (low.isdecimal() and (high.isdecimal() or not dash)) or len(text) > 40:
        raise HushedError(
            f"'{text}' is no number of a transfer", where="--transfer", remedy="like --transfer 3, or --transfer 3-7"
        )
    return int(low), int(high if dash else low)


def add_window(group: Any) -> None:
    """The part of a capture that is looked at."""
    add_quantity(group, "--from", "s", "T", "leave out what comes before this time, like 1.5ms", dest="start")
    add_quantity(group, "--to", "s", "T", "leave out what comes after this time", dest="end")


def add_reading(parser: argparse.ArgumentParser) -> Any:
    """How a capture's file is read."""
    group = parser.add_argument_group("reading the capture")
    group.add_argument(
        "--raw", metavar="BYTES", help="raw samples of so many bytes (1, 2, 4, 8), or packed: 1bit, 2bit, 4bit; needs --rate"
    )
    add_quantity(group, "--rate", "Hz", "RATE", "sample rate, like 20MHz, where the file does not tell it")
    add_quantity(group, "--threshold", "V", "V", "for files in volts: the middle between low and high, like 1.5V")
    add_quantity(group, "--hysteresis", "V", "V", "for files in volts: full width of the band around it, like 0.2V")
    return group


def add_rig(parser: argparse.ArgumentParser, kept: bool = True) -> None:
    """What hangs on the wires: a rig file, or options, or nothing (then it is worked out). kept: it can be kept as a file."""
    group = parser.add_argument_group("what hangs on the wires (worked out from names and traffic where not given)")
    group.add_argument("--rig", metavar="FILE", help="rig file")
    group.add_argument("--bus", metavar="KIND", help=f"kind of bus: {', '.join(KINDS[:-1])} or {KINDS[-1]}")
    group.add_argument(
        "--line",
        action="append",
        default=[],
        metavar="ROLE=LINE",
        help="line that plays a role, like scl=D0 or cs=4; by name or number",
    )
    group.add_argument("--mode", type=int, choices=range(4), help="SPI: idle level and edge of the clock")
    group.add_argument(
        "--bits", type=int, metavar="N", help="SPI: bits of a word, 1 to 32 (default: as the part has them, else 8)"
    )
    group.add_argument("--order", choices=("msb", "lsb"), help="SPI, shift: which bit comes first (default: msb)")
    group.add_argument("--select", choices=("low", "high"), help="SPI, parallel: the level that selects")
    completes(group.add_argument("--part", metavar="PART", help="part on the bus, like ssd1306"), parts)
    group.add_argument("--panel", metavar="SIZE", help="its panel, like 128x32")
    add_quantity(group, "--clock", "Hz", "RATE", "bus clock that is meant, like 400kHz")
    if kept:
        group.add_argument("--save-rig", metavar="FILE", help="keep what was worked out as a rig file")
    add_catalog(group)


def add_catalog(parser: Any) -> None:
    """Parts of the user's own."""
    parser.add_argument("--catalog", metavar="DIR", help="a folder with part descriptions of your own (*.toml)")


def completes(action: argparse.Action, names: Callable[[], list[str]]) -> None:
    """What shells complete an argument to."""
    action.completer = lambda **_: names()  # type: ignore[attr-defined]


def parts() -> list[str]:
    """Names of the catalog's parts, for shells."""
    from ..part import catalog_names

    return catalog_names()


def add_text(parser: argparse.ArgumentParser, formats: tuple[str, ...] = ("text", "json")) -> None:
    """How the report is written."""
    group = parser.add_argument_group("the report")
    group.add_argument("--format", choices=formats, default="text", help="default: text")
    group.add_argument("-o", dest="output", metavar="FILE", help="write it to a file instead of standard output")
    group.add_argument("--color", choices=("auto", "always", "never"), default="auto", help="default: auto, on a terminal only")
    group.add_argument("-v", "--verbose", action="store_true", help="say more")
    group.add_argument("-q", "--quiet", action="store_true", help="say less")


def add_radix(parser: argparse.ArgumentParser) -> None:
    """How words are written for people; in JSON they are numbers."""
    choices = ("hex", "dec", "bin", "char")
    parser.add_argument("--radix", choices=choices, default="hex", help="how words are written, but for JSON (default: hex)")


def add_only(parser: argparse.ArgumentParser) -> None:
    """Some lines of a capture."""
    parser.add_argument(
        "--only", action="append", default=[], metavar="LINE",
        help="only these lines, in this order; NAME=LINE renames one (repeatable)",
    )  # fmt: skip


class Given(Fraction):
    """A quantity as it was given on the command line; shown as it was written."""

    __slots__ = ("text",)
    text: str

    def __str__(self) -> str:
        return self.text

    def __reduce__(self) -> tuple[Any, ...]:  # Fraction's own would read the text as a number
        return _given, (Fraction(self), self.text)


def _given(value: Fraction, text: str) -> Given:
    out = Given(value)
    out.text = text
    return out


def measured(unit: str, option: str) -> Callable[[str], Given]:
    """What argparse makes of an option with a unit; HushedError names the option."""

    def convert(text: str) -> Given:
        from ..units import parse

        return _given(parse(text, unit, option), text)

    return convert


def add_quantity(to: Any, option: str, unit: str, metavar: str, text: str, **more: Any) -> None:
    """An option of a parser, or of a group of one, that takes a quantity with its unit."""
    to.add_argument(option, type=measured(unit, option), metavar=metavar, help=text, **more)


def roles(args: argparse.Namespace) -> dict[str, str]:
    """--line ROLE=LINE, as a table."""
    out: dict[str, str] = {}
    for text in args.line:
        role, equals, line = text.partition("=")
        if not equals or not role or not line:
            raise HushedError(f"'{text}' is not ROLE=LINE", where="--line", remedy="like --line scl=D0 --line sda=D1")
        if role.lower() in out:
            raise HushedError(f"the role '{role}' is given twice", where="--line", remedy="leave one of them")
        if line in out.values():
            raise HushedError(f"the line '{line}' plays two roles", where="--line", remedy="each role needs a line of its own")
        out[role.lower()] = line
    from ..bus.base import BUSES

    fitting = [kind for kind in BUSES.values() if kind.data_lines(out) and set(out) <= set(kind.roles)]
    gaps = [role for kind in fitting for role in kind.missing(out) if role in DATA_LINES] if "d4" in out else []
    if gaps and not getattr(args, "rig", None):
        raise HushedError(
            f"the data line {gaps[0]} is missing between others", where="--line", remedy=f"add --line {gaps[0]}=LINE"
        )
    return out


def shape(args: argparse.Namespace) -> dict[str, Any]:
    """--mode, --bits, --order and --select, as far as they are given."""
    found = {key: getattr(args, key) for key in ("mode", "bits", "order", "select") if getattr(args, key) is not None}
    if not 1 <= found.get("bits", 8) <= 32:
        raise HushedError(f"a word of {found['bits']} bits", where="--bits", remedy="words have 1 to 32 bits")
    return found


def rig_given(args: argparse.Namespace) -> Any:
    """The rig file, with what the options say over it; None where no rig was named. It is loaded once."""
    if not args.rig:
        return None
    known = getattr(args, "loaded_rig", None)
    if known is not None:
        return known
    from ..bus.base import BUSES
    from ..rig import load_rig

    for option in ("part", "panel", "bus"):
        if getattr(args, option):
            raise HushedError(f"--{option} and --rig both say what hangs on the wires", remedy="leave one of them")
    rig = load_rig(args.rig)
    given, settings = roles(args), shape(args)
    for role, line in given.items():
        bus = _the_one(rig, f"--line {role}=…", [bus for bus in rig.bus if role in BUSES[bus.kind].roles], role)
        _over(bus.lines, {role: line}, given)
    if settings:
        from ..rig.guess_settings import check_shape

        fitting = [bus for bus in rig.bus if set(settings) <= set(BUSES[bus.kind].settings)]
        if not fitting:
            check_shape(rig.bus[0].kind, settings)
        bus = _the_one(rig, f"--{next(iter(settings))}", fitting, "")
        for key, value in settings.items():
            setattr(bus, key, value)
    if args.clock:
        _the_one(rig, "--clock", rig.bus, "").clock = str(args.clock)
    args.loaded_rig = rig
    return rig


def _the_one(rig: Any, option: str, buses: list[Any], role: str) -> Any:
    """The only bus of a rig that an option can mean."""
    if not buses:
        from ..bus.base import BUSES

        known = [name for bus in rig.bus for name in BUSES[bus.kind].roles]
        kinds = " and ".join(dict.fromkeys(BUSES[bus.kind].title for bus in rig.bus))
        raise HushedError(f"{kinds} has no role '{role}'", where="--line", remedy=nearest(role, known))
    if len(buses) > 1:
        names = " and ".join(f"'{bus.name}'" for bus in buses)
        raise HushedError(f"{option} could be for {names}", where=option.split()[0], remedy="say it in the rig file")
    return buses[0]


def _over(lines: dict[str, str], given: dict[str, str], every: dict[str, str]) -> None:
    """Lines that are given over those of a rig; raises HushedError where one would play two roles. every: all that are given."""
    for role, line in given.items():
        taken = next((other for other, name in lines.items() if name == line and other != role and other not in every), "")
        if taken:
            what = f"the line '{line}' is {taken.upper()} by the rig"
            raise HushedError(what, where="--line", remedy=f"say --line {taken}=LINE, too")
    lines.update(given)
