"""Which addresses answer: on a link, or in a capture; which parts each could be; what was expected and is missing.

Probing never writes a byte: an address-only write, or a read where a memory might sit (an address-only write begins a
write cycle there). What was claimed by somebody else is skipped and said.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ..bus.base import BUSES
from ..part.catalogs import load
from ..part.neighbours import candidates, family_of, read_probed
from ..rig.schema import Rig
from .base import BusHeld, Link, LinkLost, LinkUnusable, Refused

if TYPE_CHECKING:
    from ..bus.channel import Channel

__all__ = ["Row", "Scan", "plan", "scan_capture", "scan_link"]

MANY = 64  # addresses: no bus has so many devices
# I2C-bus specification (UM10204), table of reserved addresses: 0000 XXX and 1111 XXX.
RESERVED = {*range(0x08), *range(0x78, 0x80)}


@dataclass
class Row:
    """One address: how often it was tried, how often it answered, and by which probe."""

    address: int
    probe: str
    tried: int = 0
    answers: int = 0
    candidates: list[str] = field(default_factory=list)


@dataclass
class Missing:
    """A device that the rig expects and that did not answer, and the nearest likely mistake ("" where none is seen)."""

    device: str
    address: int
    hint: str


@dataclass
class Scan:
    """The outcome. source: the link or capture. stopped: why it ended early, "" when it did not."""

    source: str
    rows: list[Row]
    missing: list[Missing] = field(default_factory=list)
    skipped: list[tuple[int, str]] = field(default_factory=list)
    stopped: str = ""
    flaky: list[int] = field(default_factory=list)

    @property
    def answered(self) -> list[int]:
        """Addresses that answered at least once."""
        return [row.address for row in self.rows if row.answers]


def plan(reserved: bool = False) -> list[tuple[int, str]]:
    """Addresses to try and the probe for each."""
    gently = read_probed()
    return [(a, "read" if a in gently else "write") for a in range(0x80) if reserved or a not in RESERVED]


def scan_link(
    link: Link, rig: Rig | None, repeat: int = 1, reserved: bool = False, progress: Callable[[int], None] | None = None
) -> Scan:
    """Tries every address `repeat` times. Interrupted, it keeps what is known; a held bus raises BusHeld: ahead of any probe, where the link
    can see it, else where every address seems to answer."""
    link.check()
    rows = [Row(address, probe if link.quick else "read") for address, probe in plan(reserved)]
    out = Scan(link.name, rows)
    blocked: dict[int, str] = {}
    try:
        for turn in range(repeat):
            for row in rows:
                if row.address in blocked:
                    continue
                row.tried += 1
                try:
                    if row.probe == "read":
                        link.read(row.address, 1)
                    else:
                        link.write(row.address, b"")
                    row.answers += 1
                except Refused:
                    pass
                except LinkUnusable as error:
                    blocked[row.address] = error.what
                    row.tried -= 1
            if progress is not None:
                progress(turn + 1)
    except (LinkLost, BusHeld) as error:
        if not any(row.answers for row in rows):
            raise  # nothing is known yet: the error is all there is to say
        out.stopped = error.what
    except KeyboardInterrupt:
        out.stopped = "interrupted"
    if len(out.answered) >= MANY and len(out.answered) == len(rows) - len(blocked):
        raise BusHeld(
            "every address answers, so nobody was heard: SDA is low whatever is asked, and low is what an acknowledge looks like",
            where=link.name,
            remedy="measure SDA at rest: it has to be at the supply. Check its pull-up, look for a short to ground, and for a device that holds it",
        )
    out.skipped = sorted(blocked.items())
    out.rows = [row for row in rows if row.address not in blocked]
    return _finished(out, rig)


def scan_capture(called: list[Channel], rig: Rig | None, path: str) -> Scan:
    """Every address that was called in a capture, and how often it answered. called: the channels of its buses that have addresses."""
    import numpy as np

    known = [channel.who for channel in called if channel.who is not None]
    who = type(known[0]).join(known)
    rows = []
    for address in np.unique(who.address[who.address >= 0]).tolist():
        mask = who.address == address
        way = {True: "read", False: "write"}
        kinds = sorted({way[bool(read)] for read in np.unique(who.read[mask])})
        rows.append(Row(address, " and ".join(kinds), int(np.count_nonzero(mask)), int(np.count_nonzero(mask & who.answered))))
    return _finished(Scan(path, rows), rig)


def _finished(out: Scan, rig: Rig | None) -> Scan:
    for row in out.rows:
        if row.answers:
            row.candidates = candidates(row.address)
    out.flaky = [row.address for row in out.rows if 0 < row.answers < row.tried]
    if rig is not None:
        here = set(out.answered)
        buses = {bus.name for bus in rig.bus if BUSES[bus.kind].addressed}
        expected = [(entry.name, entry.part, entry.address) for entry in rig.device if entry.on in buses]
        expected += [(entry.name, entry.part, entry.address) for entry in rig.bridge if entry.on in buses]
        for name, part, address in expected:
            if address is not None and address not in here:
                straps = load(part).i2c
                out.missing.append(Missing(name, address, _mistake(address, straps.addresses if straps else [], here)))
    return out


def _mistake(address: int, straps: Iterable[int], here: set[int]) -> str:
    """The nearest likely mistake behind an address that does not answer."""
    strapped = sorted(here & set(straps) - {address})
    if strapped:
        return f"{strapped[0]:#04x} answers, the other strap of this part: correct the strap, the driver or the rig"
    if address >> 1 in here:
        return f"{address >> 1:#04x} answers: {address:#04x} is its 8-bit form"
    if 2 * address & 0x7F in here:
        return f"{2 * address & 0x7F:#04x} answers: it is {address:#04x} in 8-bit form"
    for name, others in family_of(address).items():
        found = sorted(here & others)
        if found:
            return f"{found[0]:#04x} answers: another member of the family of the {name}"
    if not here:
        return "nothing answers at all: check supply, ground, the two wires, and whether they are exchanged"
    return "the bus works: check this device's supply, its reset line and its wires"
