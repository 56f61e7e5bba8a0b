"""Truth tables of segment digits: what the outputs have to be for each character, for any wiring, and words in digits of any order."""

from __future__ import annotations

from typing import Literal

import msgspec

from ..errors import HushedError, nearest
from ..part.segments import NAMES, lit_of, showable, value_of
from .source import comment, identifier

__all__ = ["Wiring", "in_digits", "wiring_of"]


class Wiring(msgspec.Struct):
    """kind: 7, 14 or 16 segments. bits: the segment of each bit, bit 0 first. common: cathode or anode. inverting: a driver between."""

    kind: int
    bits: list[str]
    common: Literal["cathode", "anode"] = "cathode"
    inverting: bool = False

    @property
    def active_low(self) -> bool:
        """Whether a lit segment wants a low output."""
        return (self.common == "anode") != self.inverting

    @property
    def digits(self) -> int:
        """Hex digits of a value."""
        return 2 * -(-len(self.bits) // 8)

    def words(self) -> str:
        """In words."""
        driver = ", inverting driver" if self.inverting else ""
        level = "low" if self.active_low else "high"
        return f"{self.kind} segments, common {self.common}{driver}: lit is {level}; bit 0 first: {' '.join(self.bits)}"

    def value(self, char: str, point: bool = False) -> int:
        """The outputs for a character; raises HushedError where it cannot be shown."""
        lit = lit_of(char, self.kind)
        if lit is None:
            raise HushedError(f"{self.kind} segments cannot show '{char}'", remedy="take another character")
        return value_of([*lit, *(["dp"] if point else [])], self.bits, self.active_low)

    def table(self) -> list[tuple[str, int]]:
        """Every character that can be shown, and a blank."""
        return [(char, self.value(char)) for char in [*showable(self.kind), " "]]


def wiring_of(kind: int, text: str, common: str, inverting: bool) -> Wiring:
    """A wiring from its words; raises HushedError where a segment is missing, doubled or unknown."""
    names = NAMES[kind]
    bits = text.replace(",", " ").split() if text else list(names)
    for name in bits:
        if name not in names and name != "-":
            raise HushedError(f"there is no segment '{name}'", where="--wiring", remedy=nearest(name, names))
        if name != "-" and bits.count(name) > 1:
            raise HushedError(
                f"segment {name} is on two bits", where="--wiring", remedy="name each once, - for a bit without one"
            )
    missing = [name for name in names if name not in bits and name != "dp"]
    if missing or len(bits) > 32:
        raise HushedError(
            f"no bit drives {', '.join(missing) or 'so many'}",
            where="--wiring",
            remedy=f"name all of {' '.join(names)}, bit 0 first",
        )
    return Wiring(kind, bits, common, inverting)  # type: ignore[arg-type]


def in_digits(text: str, places: int | None = None, point: str = "left") -> list[tuple[str, bool]]:
    """Text as digits with their points, leftmost first. point: whether it belongs to the digit on its left or on its right.

    Raises HushedError where it does not fit the places.
    """
    out: list[tuple[str, bool]] = []
    pending = False
    for char in text:
        if char in ".,":
            if point == "right":
                if pending:
                    out.append((" ", True))
                pending = True
            elif out and not out[-1][1]:
                out[-1] = out[-1][0], True
            else:
                out.append((" ", True))
        else:
            out.append((char, pending))
            pending = False
    if pending:
        out.append((" ", True))
    if places is not None:
        if len(out) > places:
            raise HushedError(f"'{text}' takes {len(out)} digits, there are {places}", remedy="shorten it")
        out = [(" ", False)] * (places - len(out)) + out
    return out


def as_source(wiring: Wiring, entries: list[tuple[str, int]], kind: str, title: str) -> bytes:
    """The table as C, Python, hex or .hush."""
    name, digits = identifier(title, "segments"), wiring.digits
    if kind == "c":
        unit = "unsigned char" if digits == 2 else "unsigned long"
        codes = [ord(char) for char, _ in entries if len(char) == 1]
        lines = [f"/* {comment(title)}: made by hushed-wire glyphs.", f" * {comment(wiring.words(), 200)} */"]
        if len(codes) == len(entries):  # a table; of a word each entry is a digit
            lines.append(f"const unsigned long {name}_codes[{len(entries)}] = {{{', '.join(map(str, codes))}}};")
        lines.append(f"const {unit} {name}[{len(entries)}] = {{")
        lines += [f"    0x{value:0{digits}X},  /* {comment(char)} */" for char, value in entries]
        return ("\n".join([*lines, "};"]) + "\n").encode()
    if kind == "python":
        lines = [f"# {comment(wiring.words(), 200)}", f"{name} = {{"]
        lines += [f"    {char!r}: 0x{value:0{digits}X}," for char, value in entries]
        return ("\n".join([*lines, "}"]) + "\n").encode()
    if kind == "hush":
        rows = [
            f"data {' '.join(f'{byte:#04x}' for byte in value.to_bytes(digits // 2, 'little'))}  # {comment(char)}"
            for char, value in entries
        ]
        return ("\n".join([f"# {comment(wiring.words(), 200)}; low byte first", *rows]) + "\n").encode()
    lines = [f"# {comment(wiring.words(), 200)}", *(f"{value:0{digits}X}  # {comment(char)}" for char, value in entries)]
    return ("\n".join(lines) + "\n").encode()
