"""Quantities with units, as people write them: 400kHz, 10us, 3.3V, 4.7kOhm; and how they are written back.

`parse` is exact (a Fraction of the SI unit), since ticks must be exact; quantiphy is loaded only when a quantity is read
or written. A bare number is refused except where a unit is plain from the option: 400 could be hertz or kilohertz.
"""

from __future__ import annotations

import math
import re
from fractions import Fraction

from .errors import HushedError

__all__ = ["counted", "parse", "parse_amount", "show", "show_time", "time_column"]

KINDS = {
    "s": ("a time", "10us"),
    "Hz": ("a frequency", "400kHz"),
    "V": ("a voltage", "3.3V"),
    "A": ("a current", "20mA"),
    "Ohm": ("a resistance", "4.7kOhm"),
    "F": ("a capacitance", "80pF"),
}
SAME = {"\u03a9": "Ohm", "\u2126": "Ohm", "ohm": "Ohm", "Ohms": "Ohm", "ohms": "Ohm", "sec": "s", "hz": "Hz", "v": "V"}


LONGEST_TIME = 10**6  # seconds
LONGEST = 60  # characters of a quantity
PLAIN = re.compile(r"([0-9]+(?:\.[0-9]+)?) ?([pnumkMG]?)(s|Hz|V|A|Ohm|F)")
NUMBER = r"([0-9]+(?:\.[0-9]+)?)"
LONG = re.compile(rf"(-?)(?:{NUMBER} ?h)? ?(?:{NUMBER} ?min)? ?(?:{NUMBER} ?s)?")  # 24min, 1 h 3 min 0.5 s
PATIENCE = 120  # seconds: longer times are told in minutes
PREFIXES = {"p": Fraction(1, 10**12), "n": Fraction(1, 10**9), "u": Fraction(1, 10**6), "m": Fraction(1, 1000), "": Fraction(1)}
PREFIXES |= {"k": Fraction(1000), "M": Fraction(10**6), "G": Fraction(10**9)}


def parse(text: str, unit: str, where: str = "") -> Fraction:
    """`text` as an exact number of `unit` ("s", "Hz", "V", "A", "Ohm", "F"); raises HushedError on another unit."""
    if len(text) > LONGEST:
        raise HushedError(f"'{text}' is too long for a quantity", where=where, remedy="a dozen digits are enough")
    plain = PLAIN.fullmatch(text.strip())
    if plain and plain[3] == unit:  # the form that everybody writes needs no package
        return Fraction(plain[1]) * PREFIXES[plain[2]]
    if unit == "s" and (long := LONG.fullmatch(text.strip())) and (long[2] or long[3]):
        value = sum(
            (Fraction(number or 0) * many for number, many in zip(long.groups()[1:], (3600, 60, 1), strict=True)), Fraction(0)
        )
        return -value if long[1] else value
    from quantiphy import InvalidNumber, Quantity

    kind, example = KINDS[unit]
    remedy = f"write {kind} with its unit, like {example}"
    try:
        quantity = Quantity(text.strip())
    except (InvalidNumber, ValueError) as error:
        raise HushedError(f"'{text}' is not {kind}", where=where, remedy=remedy) from error
    given = SAME.get(quantity.units, quantity.units)
    if given != unit:
        what = "has no unit" if not given else f"is in {given}, not {unit}" if given in KINDS else f"is not {kind}"
        raise HushedError(f"'{text}' {what}", where=where, remedy=remedy)
    if not math.isfinite(quantity.real):
        raise HushedError(f"'{text}' is no number that can be reckoned with", where=where, remedy=remedy)
    return Fraction(repr(quantity.real))


def parse_amount(text: str, unit: str, where: str = "") -> Fraction:
    """The same for what happens to wires: nothing below nothing, and nothing that no clock counts."""
    value = parse(text, unit, where)
    if value < 0 or (unit == "s" and value > LONGEST_TIME):
        what = "is below nothing" if value < 0 else "is longer than any capture"
        raise HushedError(f"'{text}' {what}", where=where, remedy=f"write it like {KINDS[unit][1]}")
    return value


def counted(number: int, what: str) -> str:
    """`number` of something, by its name in the singular: 1 line, 2 lines, 1,024 lines."""
    return f"{number:,} {what}" + ("" if number == 1 else "s")


def show(value: float, unit: str, digits: int = 4) -> str:
    """`value` with an SI prefix: 2.5 µs, 400 kHz, 3.3 V."""
    if unit == "s" and PATIENCE <= abs(value) < math.inf:
        return _show_long(float(value), 1)
    plain = _shown(float(value), unit, digits)
    if plain:
        return plain
    from quantiphy import Quantity

    with Quantity.prefs(  # type: ignore[no-untyped-call]
        prec=digits - 1, map_sf=Quantity.map_sf_to_greek, minus="-"
    ):
        return str(Quantity(float(value), unit))


def _shown(value: float, unit: str, digits: int) -> str:
    """The same for sizes that people meet, written without the package; "" for others."""
    if not math.isfinite(value):
        return ""
    mantissa, _, exponent = f"{abs(value):.{digits - 1}e}".partition("e")
    prefix, behind = divmod(int(exponent), 3)
    if value == 0 or not -4 <= prefix <= 3:
        return ""
    figures = mantissa.replace(".", "").ljust(behind + 1, "0")
    number = f"{figures[: behind + 1]}.{figures[behind + 1 :]}".rstrip("0").rstrip(".")
    return f"{'-' if value < 0 else ''}{number} {'pnµm kMG'[prefix + 4].strip()}{unit}"


def _show_long(seconds: float, decimals: int) -> str:
    """A long time as people tell it: 40 min 0.7 s, 2 h 5 min 3 s."""
    minutes, rest = divmod(round(abs(seconds), decimals), 60)
    hours, minutes = divmod(int(minutes), 60)
    text = f"{rest:.{decimals}f}".rstrip("0").rstrip(".") if decimals else f"{rest:.0f}"
    parts = [f"{hours} h"] * bool(hours) + [f"{minutes} min"] * bool(minutes) + [f"{text} s"] * (rest > 0)
    return ("-" if seconds < 0 else "") + " ".join(parts)


def _scale(size: float) -> tuple[float, str]:
    """The unit in which a time is at least one, as its factor and name; nanoseconds below that."""
    scales = ((1.0, "s"), (1e3, "ms"), (1e6, "µs"), (1e9, "ns"))
    return next((scale for scale in scales if size * scale[0] >= 1.0), scales[-1])


def show_time(seconds: float, resolution: float = 0.0) -> str:
    """A moment in a capture, with as many digits as `resolution` (seconds) deserves: 12.3456 ms."""
    size = abs(seconds)
    if size == 0:
        return "0 s"
    factor, unit = _scale(size)
    decimals = 3
    while resolution and decimals < 9 and resolution * factor * 10**decimals < 0.5:
        decimals += 1
    if size >= PATIENCE:
        return _show_long(seconds, decimals)
    text = f"{seconds * factor:.{decimals}f}"
    return f"{text.rstrip('0').rstrip('.') if '.' in text else text} {unit}"


def time_column(seconds: list[float], resolution: float) -> list[str]:
    """Times for a column of a table: one unit and one number of decimals, so that they line up."""
    size = max((abs(second) for second in seconds), default=0.0)
    factor, unit = _scale(size)
    decimals = 0
    while decimals < 9 and resolution * factor * 10**decimals < 0.9:
        decimals += 1
    return [f"{second * factor:.{decimals}f} {unit}" for second in seconds]
