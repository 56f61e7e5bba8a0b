"""The kinds of bus, one row each: what lines they have, how they may be clocked, what is measured on them, what is mistaken on them.

Everything that the rest of the program has to know of a kind stands in its row of `BUSES`; what it does is in the module that the row
names (`BusKind.load`), which has the kind's twins: `decoders` (blocks of a trace to channels of words) and `encode`. Nothing here needs
arrays, so that rigs are read fast.
"""

from __future__ import annotations

import importlib
from collections.abc import Collection, Iterable, Mapping
from types import ModuleType

import msgspec

from .scan_roles import ADDRESS, COLOURS, SEGMENTS, axes, grouped

__all__ = ["ANSWERS", "BESIDE", "BUSES", "KIND_NAMES", "SELECTS", "BusKind", "Measure", "Settings", "kind_with", "select_of"]

BESIDE = ("reset", "backlight", "busy")  # roles of lines that any bus may have beside it
ANSWERS = ("busy", "miso")  # roles of lines that displays drive, and drivers only hear
SELECTS = ("cs", "cs1", "cs2", "cs3")
DATA = tuple(f"d{k}" for k in range(16))


class Measure(msgspec.Struct, frozen=True):
    """A time that datasheets limit. what: its name in the columns that are measured. code: of the finding where it is broken.

    unit: of the limit as it is written; a rate limits the period of what is measured.
    """

    what: str
    code: str
    unit: str = "s"


class Settings(msgspec.Struct, frozen=True):
    """How a bus is driven. mode: of SPI. bits: of a word, 0 where nothing tells. msb_first: which bit of a word comes first.

    active: the level that selects. rows, columns: the levels at which scanned LEDs are on.
    """

    mode: int = 0
    bits: int = 0
    msb_first: bool = True
    active: int = 0
    rows: int = 1
    columns: int = 1


def _named(code: str, what: str, *symbols: str) -> dict[str, Measure]:
    return dict.fromkeys(symbols, Measure(what, code))


PULSE, SETUP, HOLD, FAST = "timing.pulse-short", "timing.setup-short", "timing.hold-short", "timing.clock-too-fast"


class BusKind(msgspec.Struct, frozen=True):
    """A kind of bus. title: as people call it. module: of this package, that decodes and encodes it. counter: one that counts words unread.

    needs: roles that it cannot do without; one_of: roles of which it needs one; may: roles that it may have. clocks: roles whose edges move
    words. marks: the role that tells data from commands, "" where there is none. settings: options by which it can be said how it is driven.
    addressed: devices are called by address. started: START and STOP on its data line part transfers, and a ninth bit acknowledges.
    pulled_up: roles that only a resistor brings high. clock_symbol: a part's limit of its clock.
    bit_times: clocks that a byte takes. each_rests: a part is busy with each word by itself, so its rest is behind the word.
    transfers: whether words come in transfers that something on the wires begins and ends.
    measures: by symbol what is measured on it. exchanged: pairs of roles that are mistaken for one another; data_lines: any two of them, too.
    """

    name: str
    title: str
    module: str
    needs: tuple[str, ...]
    may: tuple[str, ...]
    one_of: tuple[str, ...] = ()
    clocks: tuple[str, ...] = ()
    marks: str = ""
    settings: tuple[str, ...] = ()
    addressed: bool = False
    started: bool = False
    pulled_up: tuple[str, ...] = ()
    clock_symbol: str = ""
    bit_times: int = 8
    transfers: bool = False
    scanned: bool = False
    each_rests: bool = False
    counter: str = ""
    measures: Mapping[str, Measure] = {}
    exchanged: tuple[tuple[str, str], ...] = ()

    @property
    def one_wire(self) -> bool:
        """Whether its one line is its own clock."""
        return bool(self.clocks) and self.clocks == self.needs

    @property
    def roles(self) -> tuple[str, ...]:
        """All that it can have."""
        return (*self.needs, *self.may)

    def missing(self, roles: Collection[str]) -> list[str]:
        """Roles that it cannot do without and that are not there: those it needs, data lines that lack between others, one of several."""
        out = [role for role in self.needs if role not in roles]
        data = [number for number, role in enumerate(DATA) if role in roles and role in self.roles]
        if data:
            first = 0 if data[0] < 4 or data[-1] > 7 else 4
            out += [DATA[number] for number in range(first, data[-1]) if number not in data and DATA[number] not in out]
        if self.one_of and not set(self.one_of) & set(roles):
            out.append(self.one_of[0])
        if self.scanned and not grouped(set(roles)):
            rows, columns = axes(dict.fromkeys(roles, 0))
            out += ([] if rows else ["row0"]) + ([] if columns else ["column0"])
        return out

    def lacks(self, role: str) -> str:
        """What is said of a role that is missing."""
        if self.scanned:
            return f"there are no {'rows (row0 … or digit0 …)' if role == 'row0' else 'columns (column0 … or segment_a …)'}"
        others = f" (or {', '.join(repr(other) for other in self.one_of[1:])})" if role in self.one_of[:1] else ""
        return f"the role '{role}'{others} is missing"

    def data_lines(self, roles: Iterable[str]) -> list[str]:
        """The data lines among roles, in order."""
        own = {role for role in roles if role in self.roles}
        return [role for role in DATA if role in own]

    def load(self) -> ModuleType:
        """The module of this kind."""
        return importlib.import_module(f"{__package__}.{self.module}")

    def load_counter(self) -> ModuleType | None:
        """The module whose `tallies` count words without reading them, None where there is none."""
        return importlib.import_module(f"{__package__}.{self.counter}") if self.counter else None


BUSES: dict[str, BusKind] = {
    kind.name: kind
    for kind in (
        BusKind(
            "i2c", "I2C", "i2c_transactions", ("scl", "sda"), BESIDE,
            clocks=("scl",), addressed=True, started=True, pulled_up=("scl", "sda"), clock_symbol="clock", bit_times=9, transfers=True,
            measures={
                "clock": Measure("fSCL", FAST, "Hz"),
                **_named(HOLD, "tHD;STA", "tHSTART"), **_named(SETUP, "tSU;DAT", "tSD"), **_named(SETUP, "tSU;STA", "tSSTART"),
                **_named(SETUP, "tSU;STO", "tSSTOP"), **_named(PULSE, "tBUF", "tIDLE"),
            },
            exchanged=(("scl", "sda"),),
        ),
        BusKind(
            "spi", "SPI", "spi", ("sck", "mosi"), ("miso", *SELECTS, "dc", *BESIDE),
            clocks=("sck",), marks="dc", settings=("mode", "bits", "order", "select"), clock_symbol="spi_clock", transfers=True, counter="spi_count",
            measures={
                "spi_clock": Measure("clock period", FAST, "Hz"),
                **_named(PULSE, "clock high", "tWH1", "tCH", "tSHW", "tCLKH", "twrh"),
                **_named(PULSE, "clock low", "tWL1", "tCL", "tSLW", "tCLKL", "twrl"),
                **_named(SETUP, "data set-up", "tS4", "tDS", "tSDS", "tds", "tDSW"),
                **_named(HOLD, "data hold", "tH4", "tDH", "tSDH", "tdh", "tDHW"),
                **_named(SETUP, "select set-up", "tS2", "tCSS", "tcss"),
                **_named(HOLD, "select hold", "tH2", "tCSH"),
                **_named(PULSE, "select rest", "tCSW", "tWH2"),
                **_named(SETUP, "D/C set-up", "tAS", "tS3", "tDCS", "tas"), **_named(HOLD, "D/C hold", "tAH", "tH3", "tDCH", "tah"),
                **_named(HOLD, "clock behind select", "tLDCK"),
            },
            exchanged=(("cs1", "cs2"), ("sck", "mosi"), ("mosi", "dc"), ("cs", "dc"), ("sck", "dc"), ("mosi", "cs"), ("sck", "cs")),
        ),
        BusKind(
            "parallel", "parallel", "parallel", DATA[4:8], (*DATA[:4], *DATA[8:], "rs", "rw", "e", "e2", "wr", "rd", *SELECTS, *BESIDE),
            one_of=("e", "wr"), clocks=("e", "wr", "e2"), marks="rs", settings=("select",), bit_times=1, each_rests=True, counter="parallel_count",
            measures={
                **_named(PULSE, "enable high", "PWEH", "tWH"), **_named(PULSE, "enable low", "tWL"),
                **_named(PULSE, "enable cycle", "tcycE", "tC"),
                **_named(SETUP, "register select set-up", "tAS", "tASU"), **_named(HOLD, "register select hold", "tAH"),
                **_named(SETUP, "data set-up", "tDSW", "tDSU"), **_named(HOLD, "data hold", "tH", "tDHW"),
            },
            exchanged=(("cs1", "cs2"), ("rs", "e"), ("rs", "rw"), ("rs", "wr"), ("rs", "rd"), ("e", "rw"), ("rw", "wr"), ("rw", "rd"), ("wr", "rd")),
        ),
        BusKind(
            "shift", "shift register", "shift", ("clock", "data"), ("latch", "enable", *BESIDE),
            clocks=("clock",), settings=("order",), clock_symbol="shift_clock",
            measures={"shift_clock": Measure("clock period", FAST, "Hz")},
        ),
        BusKind(
            "matrix", "scanned LEDs", "matrix", (),
            (*(f"{axis}{k}" for axis in ("row", "column", "digit") for k in range(32)), *(f"segment_{name}" for name in SEGMENTS),
             "clock", "data", "latch", *ADDRESS, *COLOURS, "enable"),
            bit_times=0, scanned=True,
            measures={"refresh_least": Measure("frame period", "timing.flicker", "Hz"), "shift_clock": Measure("clock period", FAST, "Hz")},
        ),
        BusKind(
            "pulse", "one wire, pulse widths", "pulse", ("data",), BESIDE,
            clocks=("data",), bit_times=8,
            measures={
                **_named(PULSE, "zero high", "T0H"), **_named(PULSE, "one high", "T1H"), **_named(PULSE, "zero low", "T0L"),
                **_named(PULSE, "one low", "T1L"), **_named(PULSE, "rest", "RES"),
            },
        ),
        BusKind(
            "two-wire", "two wires, low bit first", "two_wire", ("clock", "data"), BESIDE,
            clocks=("clock",), started=True, pulled_up=("clock", "data"), clock_symbol="clock", bit_times=9, transfers=True,
            measures={
                "clock": Measure("fSCL", FAST, "Hz"), **_named(PULSE, "tHIGH", "PWCLKH"), **_named(PULSE, "tLOW", "PWCLKL"),
                **_named(SETUP, "tSU;DAT", "tSETUP"), **_named(HOLD, "tHD;DAT", "tHOLD"),
            },
            exchanged=(("clock", "data"),),
        ),
    )
}  # fmt: skip

KIND_NAMES = tuple(BUSES)


def kind_with(roles: Collection[str]) -> str:
    """The kind of bus that roles make: the one most of whose needs are among them; scanned LEDs where there is none."""
    own = set(roles)
    share = {kind.name: len(own & set(kind.needs)) / len(kind.needs) for kind in BUSES.values() if kind.needs}
    best = max(share, key=lambda name: share[name])
    if grouped(own) or any(axes(dict.fromkeys(own, 0))) or not share[best]:
        return next(kind.name for kind in BUSES.values() if kind.scanned)
    return best


def select_of(roles: Collection[str], wanted: str = "") -> str:
    """The role of the select that a device listens to: as it is wanted, else the usual one of those there are; "" where there is none."""
    return wanted or next((role for role in SELECTS[:2] if role in roles), "")
