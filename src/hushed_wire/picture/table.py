"""Glyphs as tables of bytes for a layout, with an index, and back; as image strips; as a character display's own characters."""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part.layout import Layout
from . import layout as layouts
from .font import Font, Glyph, char_of
from .source import c_bytes, c_values, comment

__all__ = ["Table", "chosen", "from_bytes", "from_strip", "strip", "table_of"]


class Table(msgspec.Struct):
    """raw: bytes of each glyph. codes, widths: of each. size: (height, width) where all are of one width, else (height, 0)."""

    name: str
    codes: list[int]
    widths: list[int]
    raw: list[bytes]
    size: tuple[int, int]
    words: str

    @property
    def starts(self) -> list[int]:
        """Where each glyph's bytes begin, and where the last one's end."""
        out = [0]
        for piece in self.raw:
            out.append(out[-1] + len(piece))
        return out

    def binary(self, title: str = "") -> bytes:
        """All glyphs, one behind the other."""
        return b"".join(self.raw)

    def hex(self, title: str = "") -> bytes:
        """A glyph a line, its character as a comment."""
        lines = [f"# {comment(self.words, 200)}"]
        lines += [f"{raw.hex(' ').upper()}  # {comment(char_of(code))}" for code, raw in zip(self.codes, self.raw, strict=True)]
        return ("\n".join(lines) + "\n").encode()

    def c(self, title: str) -> bytes:
        """Arrays: the glyphs, the code of each in ascending order, and widths and starts where they differ."""
        count, each = len(self.codes), len(self.raw[0])
        lines = [f"/* {comment(title)}: {count} glyphs made by hushed-wire glyphs.", f" * {comment(self.words, 200)}",
                 " * Look a code up in the codes (they ascend); its place there is the glyph's number. */"]  # fmt: skip
        lines.append(f"const unsigned char {self.name}_height = {self.size[0]};")
        lines += c_values(f"{self.name}_codes", "unsigned long", self.codes)
        if self.size[1]:
            lines.append(f"const unsigned char {self.name}_width = {self.size[1]};")
            lines.append(f"const unsigned char {self.name}[{count}][{each}] = {{")
            for code, raw in zip(self.codes, self.raw, strict=True):
                rows = c_bytes(raw, max(16, min(32, each)))
                rows[0] = rows[0].replace("    ", "    {", 1)
                rows[-1] = rows[-1].rstrip(",") + f"}},  /* {comment(char_of(code))} */"
                lines += rows
        else:
            lines += c_values(f"{self.name}_widths", "unsigned char", self.widths)
            lines += c_values(f"{self.name}_starts", "unsigned long", self.starts)
            lines.append(f"const unsigned char {self.name}[{self.starts[-1]}] = {{")
            for code, raw in zip(self.codes, self.raw, strict=True):
                lines += c_bytes(raw, 16, char_of(code))
        return ("\n".join([*lines, "};"]) + "\n").encode()

    def python(self, title: str) -> bytes:
        """A dictionary: width and bytes by code."""
        lines = [f"# {comment(title)}: {len(self.codes)} glyphs made by hushed-wire glyphs.", f"# {comment(self.words, 200)}",
                 f"{self.name}_height = {self.size[0]}", f"{self.name} = {{  # code: (width, bytes)"]  # fmt: skip
        for code, width, raw in zip(self.codes, self.widths, self.raw, strict=True):
            lines.append(f'    0x{code:02X}: ({width}, bytes.fromhex("{raw.hex()}")),  # {comment(char_of(code))}')
        return ("\n".join([*lines, "}"]) + "\n").encode()


def chosen(font: Font, codes: list[int] | None, holes: str = "told") -> tuple[Font, list[int]]:
    """A font with those codes alone, and the codes that it lacks. holes: told (left out), or blank (a dark glyph)."""
    if codes is None:
        return font, []
    lacking = [code for code in codes if code not in font.glyphs]
    glyphs = {code: font.glyphs[code] for code in codes if code in font.glyphs}
    if holes == "blank":
        dark = np.zeros((font.height, font.width), bool)
        glyphs |= {code: Glyph(dark, font.width) for code in lacking}
    if not glyphs:
        raise HushedError(
            f"the font {font.name} has none of these characters", where="--chars", remedy=f"it has {spans(font.glyphs)}"
        )
    return Font(font.name, font.height, font.baseline, dict(sorted(glyphs.items())), font.notes), lacking


def spans(codes: Any) -> str:
    """Codes in words: U+0020-U+007E, U+00B0."""
    out: list[list[int]] = []
    for code in sorted(codes):
        if out and code == out[-1][1] + 1:
            out[-1][1] = code
        else:
            out.append([code, code])
    said = [f"U+{first:04X}" + (f"-U+{last:04X}" if last > first else "") for first, last in out]
    return ", ".join(said[:8]) + (f" and {len(said) - 8} more spans" if len(said) > 8 else "")


def table_of(font: Font, layout: Layout, name: str) -> Table:
    """The bytes of every glyph, in the order of codes."""
    codes = sorted(font.glyphs)
    glyphs = [font.glyphs[code] for code in codes]
    size = font.height, (font.width if font.fixed else 0)
    words = layouts.in_words(layout, font.height, font.width)
    if not size[1]:
        words = "widths differ, the widest: " + words
    return Table(
        name, codes, [glyph.width for glyph in glyphs], [layouts.pack(glyph.pixels, layout) for glyph in glyphs], size, words
    )


def from_bytes(raw: bytes, layout: Layout, size: tuple[int, int], codes: list[int], name: str) -> Font:
    """The twin of `table_of` for glyphs of one (height, width); raises HushedError where the bytes are no whole glyphs."""
    each = layouts.length_of(layout, *size)
    count, rest = divmod(len(raw), each)
    if rest or not count:
        raise HushedError(
            f"{len(raw)} bytes are no whole glyphs of {size[1]}x{size[0]}: each takes {each}",
            where=name,
            remedy="check --cell and --layout; --skip leaves a header out",
        )
    if count > len(codes):
        codes = (
            codes + list(range(codes[-1] + 1, codes[-1] + 1 + count - len(codes))) if codes else list(range(0x20, 0x20 + count))
        )
    glyphs = {
        code: Glyph(layouts.unpack(raw[k * each : (k + 1) * each], layout, *size), size[1] + (size[1] < 8))
        for k, code in enumerate(codes[:count])
    }
    return Font(name, size[0], size[0], glyphs)


def from_strip(pixels: NDArray[np.bool_], size: tuple[int, int], codes: list[int], name: str) -> Font:
    """Glyphs from a picture of cells of (height, width), row after row; the twin of `strip`."""
    high, wide = size
    down, across = pixels.shape[0] // high, pixels.shape[1] // wide
    if not down * across or pixels.shape[0] % high or pixels.shape[1] % wide:
        raise HushedError(
            f"the picture of {pixels.shape[1]}x{pixels.shape[0]} is no whole cells of {wide}x{high}",
            where=name,
            remedy="check --cell, or crop it",
        )
    if len(codes) > down * across:
        raise HushedError(f"{len(codes)} characters, but {down * across} cells", where=name, remedy="check --chars and --cell")
    cells = pixels.reshape(down, high, across, wide).swapaxes(1, 2).reshape(-1, high, wide)
    glyphs = {code: Glyph(cells[k].astype(bool), wide + (wide < 8)) for k, code in enumerate(codes)}
    return Font(name, high, high, glyphs)


def strip(font: Font, columns: int = 16) -> NDArray[np.bool_]:
    """All glyphs in a picture, `columns` cells a row."""
    glyphs = [font.glyphs[code].pixels for code in sorted(font.glyphs)]
    across, wide = min(columns, len(glyphs)), font.width
    out = np.zeros((-(-len(glyphs) // across) * font.height, across * wide), bool)
    for k, pixels in enumerate(glyphs):
        y, x = k // across * font.height, k % across * wide
        out[y : y + font.height, x : x + pixels.shape[1]] = pixels
    return out
