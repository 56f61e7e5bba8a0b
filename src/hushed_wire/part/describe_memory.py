"""What a part description says of its memory: which model, how large, and what its bits, digits or LEDs are. Data only, as in `describe`."""

from __future__ import annotations

from typing import Literal

import msgspec

from .layout import Layout

__all__ = ["GROUPS", "CodeFont", "Dimming", "Expander", "Groups", "Leds", "Memory"]

GROUPS = 4  # of a panel that A and B choose from


class CodeFont(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """What digits show that the part decodes: the character of each code, the segments that its bits drive, bit 0 first; point: the bit of dp."""

    characters: str
    segments: list[str]
    point: int
    source: str


class Groups(msgspec.Struct, forbid_unknown_fields=True):
    """A panel that takes its rows in groups, its columns from a register. lit: the level of a bit that lights. enable: the level

    that lets it light. block: bits for one row before the next row of the group has its turn; first_row, first_column: which of
    a group's rows, and of a block's columns, goes in first. colour: in red, green and blue, a row of the upper half together with one of the lower.
    """

    lit: Literal["low", "high"]
    enable: Literal["low", "high"]
    block: int
    first_row: Literal["top", "bottom"]
    first_column: Literal["left", "right"]
    source: str
    colour: bool = False


class Expander(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """An expander of one port or two with registers. called: the direction register, as the datasheet has it. direction, control, outputs: numbers of
    registers within a port (a bit of `direction` that is 1 makes an input; writing any of `outputs` sets the latches, the
    last one is what drivers write). registers: of a port.
    bank, byte_mode: bits of the control register: ports apart in the address map (0: it cannot); the address stays within a transfer.
    """

    called: str
    direction: int
    control: int
    outputs: list[int]
    registers: int
    byte_mode: int
    source: str
    ports: int = 2
    bank: int = 0

    def address(self, register: int, port: int) -> int:
        """Of a port's register, as after power-on: those of two ports lie side by side."""
        return self.ports * register + port


class Leds(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """How LEDs in a chain lie in an update. order: of the colours of one. start: zero bytes ahead of all; then each has a byte of brightness ahead of
    its colours, else none."""

    order: Literal["rgb", "grb", "bgr", "brg", "gbr", "rbg"]
    start: int = 0


class Dimming(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """Where a driver of LEDs has what, in banks of `size` registers. banks: the first bank of each set of registers that is chosen. switches, levels:
    (bank, register) of the first LED's switch and of its brightness, in the first frame."""

    banks: dict[str, int]
    count: int
    size: int
    switches: tuple[int, int]
    levels: tuple[int, int]


class Memory(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """The memory: which model, how large, which registers the model reads, how a picture is brought to its place.

    kind: paged, character, digit, pixel, paper, lettered (text and pixels), dimmed (LEDs), chain (of LEDs), port, scanned (LEDs without a chip) or unknown.

    turns: what an order of columns that is reversed turns round, where several pixels lie at one address: all of them, or addresses, whose
    pixels stay as they are. leds: how those of a chain lie in an update. dimming: where registers of LEDs are.
    backplanes: of segment glass, bits at an address. filled: whether data fill only those of the backplanes in use; data_bits: of a word of data.

    wrap: what the pointer does behind the last column of a page. chips: how
    many of the part share a glass, beside or below one another. layout: how pixels lie in its bytes. fold: rows of the glass behind which it
    goes on at the other half of the memory's columns. commons: what of a paged memory
    each common line of the glass is. ports: bytes that the outputs of an expander without registers take, one behind another.
    """

    kind: str
    source: str
    columns: int = 0
    pages: int = 0
    rows: int = 0
    wrap: str = "row"
    turns: Literal["pixels", "addresses"] = "pixels"
    chips: int = 1
    registers: dict[str, str] = {}
    area: dict[str, list[str]] = {}
    rom: str = ""
    layout: Layout | None = None
    groups: Groups | None = None
    code_font: CodeFont | None = None
    expander: Expander | None = None
    ports: int = 1
    fold: int = 0
    commons: Literal["rows", "columns"] = "rows"
    leds: Leds | None = None
    dimming: Dimming | None = None
    backplanes: int = 0
    filled: bool = True
    data_bits: int = 8
