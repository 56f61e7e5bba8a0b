"""How pixels lie in the bytes of a memory, as data: what a part's description, or a user, says of it. `picture.layout` does the work."""

from __future__ import annotations

from typing import Literal, get_args, get_type_hints

import msgspec

from ..errors import HushedError, nearest

__all__ = ["DEPTHS", "Layout", "layout_of"]

DEPTHS = {"grey": (1, 2, 4, 8), "rgb": (8, 12, 16, 18, 24), "bgr": (8, 12, 16, 18, 24)}


class Layout(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """Pixels in bytes. Where pixels are narrower than a byte, its pixels lie along a row (flat) or along a column (upright).

    bits: of a pixel. colours: grey (or one bit), or the order of the channels from the highest bit down. first: the end of a byte
    that holds the leftmost or uppermost pixel. runs: whether bytes follow one another along rows or down columns. bytes: which
    byte of a 16-bit pixel comes first. spare, padding: where the unused bits of a line's last byte are, and their level. stride:
    bytes from one line of bytes to the next, 0 for no gap. turn, mirror: how the picture is turned clockwise, then mirrored, to lie
    in the memory. frame, left, top: size of the memory in pixels where the picture is a window of it. module, start, chain,
    serpentine, module_turn, join: modules of that size, where the chain begins, whether it runs along rows or columns, whether every
    second line of it runs back (and its modules stand on their heads), how each is turned, and whether modules lie one below or
    beside the other. scan, scan_run, scan_first: rows that far apart are scanned together, so many pixels of each in turn.
    """

    bits: int = 1
    colours: Literal["grey", "rgb", "bgr"] = "grey"
    stand: Literal["flat", "upright"] = "flat"
    first: Literal["high", "low"] = "high"
    runs: Literal["rows", "columns"] = "rows"
    bytes: Literal["high-first", "low-first"] = "high-first"
    spare: Literal["after", "before"] = "after"
    padding: Literal[0, 1] = 0
    stride: int = 0
    invert: bool = False
    turn: Literal[0, 90, 180, 270] = 0
    mirror: bool = False
    frame: str = ""
    left: int = 0
    top: int = 0
    module: str = ""
    start: Literal["top-left", "top-right", "bottom-left", "bottom-right"] = "top-left"
    chain: Literal["rows", "columns"] = "rows"
    serpentine: Literal["no", "plain", "turned"] = "no"
    module_turn: Literal[0, 90, 180, 270] = 0
    join: Literal["below", "beside"] = "below"
    scan: int = 0
    scan_run: int = 0
    scan_first: Literal["top", "bottom"] = "top"

    def check(self, where: str) -> Layout:
        """Raises HushedError where the keys do not go together."""
        if self.bits not in DEPTHS[self.colours]:
            depths = ", ".join(map(str, DEPTHS[self.colours]))
            raise HushedError(f"bits={self.bits} with colours={self.colours}", where=where, remedy=f"bits can be {depths} there")
        for key in ("stride", "left", "top", "scan", "scan_run"):
            if not 0 <= getattr(self, key) <= 1 << 16:
                raise HushedError(f"{key}={getattr(self, key)}", where=where, remedy="from 0 to 65536")
        for key in ("frame", "module"):
            if getattr(self, key):
                size_of(getattr(self, key), where, key)
        return self

    @property
    def frame_size(self) -> tuple[int, int] | None:
        """(height, width) of the memory in pixels, None where it is the picture's."""
        return size_of(self.frame, "", "frame") if self.frame else None

    @property
    def module_size(self) -> tuple[int, int] | None:
        """(height, width) of a module."""
        return size_of(self.module, "", "module") if self.module else None


def size_of(text: str, where: str, key: str) -> tuple[int, int]:
    """(height, width) from WIDTHxHEIGHT."""
    width, cross, height = text.lower().partition("x")
    if not (cross and width.isdecimal() and height.isdecimal() and 0 < int(width) <= 1 << 14 and 0 < int(height) <= 1 << 14):
        raise HushedError(f"'{text}' is no size for {key}", where=where, remedy="WIDTHxHEIGHT in pixels, like 128x64")
    return int(height), int(width)


def layout_of(text: str, where: str = "--layout") -> Layout:
    """A layout from its words, key=value with spaces or commas between; raises HushedError naming what is wrong."""
    table: dict[str, object] = {}
    for word in text.replace(",", " ").split():
        key, equals, value = word.partition("=")
        if key not in Layout.__struct_fields__:
            raise HushedError(f"a layout has no '{key}'", where=where, remedy=nearest(key, Layout.__struct_fields__))
        if not equals:
            value = "yes"
        if key in table:
            raise HushedError(f"'{key}' is given twice", where=where, remedy="leave one of them")
        number = value.isdecimal() and key not in ("frame", "module")
        table[key] = int(value) if number else {"yes": True, "no": False}.get(value, value)
        if key == "serpentine" and value in ("yes", "no"):
            table[key] = {"yes": "plain", "no": "no"}[value]
    try:
        return msgspec.convert(table, Layout).check(where)
    except msgspec.ValidationError as error:
        key = str(error).partition(" - at ")[2].strip("`$.")
        kind = get_type_hints(Layout)[key]
        remedy = {int: "a number", bool: "yes or no"}.get(kind) or ", ".join(map(str, get_args(kind))) or "see docs/drawing.md"
        raise HushedError(f"'{table[key]}' is nothing for {key}", where=where, remedy=f"it can be: {remedy}") from error
