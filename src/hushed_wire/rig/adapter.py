"""A character display behind an I2C expander or a shift register, found by itself: which output drives what, by the sense that the commands make.

Strategy: E is the output that falls while all others hold still. Four neighbouring outputs carry the nibble, either end first; RS
is one of the rest. Each of these few wirings is decoded on an excerpt; the one under which a bring-up appears is it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import product
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..bus.channel import Channel
from ..errors import HushedError
from ..part import Commands, catalog_names, load
from ..part.bring_up import set_up_in
from ..part.framing import plain
from ..part.neighbours import usual_first
from ..part.readable import readable_share
from ..part.wrap import WRAPS
from ..trace import Trace
from .reading import decode
from .schema import Bridge, Bus, Device, Rig

__all__ = ["READABLE", "Found", "adapter", "register", "written"]

READABLE = 0.7  # share of what is written that people could read
UNWRITTEN = 0.75  # the same where nothing was written: nothing speaks against it, but nothing for it either
LETTERS = 0.9  # share of plain letters at which text is told from chance
LEAST = 24  # writes below which nothing is told
NIBBLES = ((4, 5, 6, 7), (0, 1, 2, 3), (7, 6, 5, 4), (3, 2, 1, 0))


def enables(values: NDArray[np.integer[Any]], outputs: int = 8) -> list[int]:
    """Outputs that fall while the others hold still, the busiest first."""
    before, after = values[:-1].astype(np.int64), values[1:].astype(np.int64)
    found = []
    for bit in range(outputs):
        falls = (before >> bit & 1 == 1) & (after >> bit & 1 == 0)
        still = falls & ((before ^ after) == 1 << bit)
        count = int(np.count_nonzero(falls))
        if count >= LEAST // 3 and np.count_nonzero(still) >= 0.9 * count:
            found.append((-count, bit))
    return [bit for _, bit in sorted(found)]


@dataclass
class Found:
    """A bridge with a display behind it. wired: how its outputs are, in words. bus: with the lines that go past the bridge."""

    bridge: Bridge
    device: Device
    wired: str
    bus: Bus


def adapter(trace: Trace, bus: Bus, address: int, values: NDArray[np.uint8]) -> Found | None:
    """The display behind an expander. values: bytes written to the address."""
    parts = [part for name in sorted(catalog_names(), key=usual_first) if (part := load(name)).framings == ["i2c-plain"]]
    ports = [part.name for part in parts if part.memory.ports == 1 and part.i2c and address in part.i2c.addresses]
    if len(values) < LEAST or not ports:
        return None
    bridge = Bridge(f"{ports[0]}-{address:02x}", bus.name, ports[0], {}, address)
    return _best(trace, bus, bridge, "p", values, None)


def register(trace: Trace, bus: Bus, port: str, values: NDArray[np.uint8], beside: list[str]) -> Found | None:
    """The display behind a shift register. values: its outputs, load by load. beside: other lines that move, which may go past it."""
    if len(values) < LEAST:
        return None
    return _best(trace, bus, Bridge("register", bus.name, port), "q", values, beside)


def _best(trace: Trace, bus: Bus, bridge: Bridge, pin: str, values: NDArray[np.uint8], beside: list[str] | None) -> Found | None:
    """The wiring under which a bring-up and text appear."""
    known = map(load, sorted(catalog_names(), key=usual_first))
    display = next(
        (
            part
            for part in known
            if part.memory.kind == "character" and any(WRAPS[framing].bits == 4 for framing in part.framings)
        ),
        None,
    )
    if display is None:
        return None
    best: tuple[float, Found, list[Commands]] | None = None
    device = Device(display.name, bridge.name, display.name, panel=next(iter(display.panels)))
    for drives, past in _wirings(values, beside):
        own_bridge = msgspec.structs.replace(
            bridge, drives={role: f"{pin}{bit}" for role, bit in drives.items()}, direct=list(past)
        )
        own_bus = msgspec.structs.replace(bus, lines={**bus.lines, **past})
        own = _heard(trace, own_bus, own_bridge, device)
        if own is None:
            continue
        count = sum(len(chip) for chip in own)
        seen = {name for chip in own for name in chip.names}
        steps = len(seen & set(display.start_up))
        data = sum(int(np.count_nonzero(chip.kind < 0)) for chip in own) / max(1, count)
        letters, plain_letters = readable_share(display, own), readable_share(display, own, ascii_only=True) or 0.0
        letters = UNWRITTEN if letters is None else letters
        score = steps + 2 * letters + 2 * plain_letters - data * 0.1
        # A capture that begins behind the set-up's first steps has text that tells as much: any byte may be a katakana, few are letters.
        words = sum(len(chip.payload) for chip in own)
        told = set_up_in(display, seen) or (plain_letters > LETTERS and words >= LEAST)
        if told and letters > READABLE and (best is None or score > best[0]):
            wired = [f"{out.upper()} {role.upper()}" for role, out in sorted(own_bridge.drives.items(), key=lambda item: item[1])]
            wired += [f"{role.upper()} on '{line}'" for role, line in past.items()]
            best = score, Found(own_bridge, device, ", ".join(wired), own_bus), own
    if best is None:
        return None
    _, found, own = best
    found.device.panel = _panel(own)
    return found


def _wirings(values: NDArray[np.uint8], beside: list[str] | None) -> Iterator[tuple[dict[str, int], dict[str, str]]]:
    """What drives which role: outputs, and lines that go past; None of an expander's module, whose eight outputs are all wired."""
    past_it = beside or []
    enable: list[tuple[int | None, str]] = [(bit, "") for bit in enables(values)] + [(None, line) for line in past_it]
    for (e, line), nibble in product(enable, NIBBLES):
        if e in nibble:
            continue
        rest = [bit for bit in range(8) if bit not in (e, *nibble)]
        used = rest if beside is None else [bit for bit in rest if len(np.unique(values >> bit & 1)) > 1]
        selects: list[tuple[int | None, str]] = [(bit, "") for bit in used] + [
            (None, other) for other in past_it if other != line
        ]
        for rs, other in selects:
            past = {role: name for role, name in (("e", line), ("rs", other)) if name}
            drives = {role: bit for role, bit in (("rs", rs), ("e", e)) if bit is not None}
            drives |= {f"d{4 + k}": bit for k, bit in enumerate(nibble)}
            if beside is None:
                left = [bit for bit in rest if bit != rs]
                # R/W stays low for a driver that only writes; the other one switches the backlight.
                drives["rw"] = next((bit for bit in left if not (values >> bit & 1).any()), left[0])
                drives["backlight"] = next(bit for bit in left if bit != drives["rw"])
            yield drives, past


def _heard(trace: Trace, bus: Bus, bridge: Bridge, device: Device) -> list[Commands] | None:
    rig = Rig(bus=[bus], bridge=[bridge], device=[device])
    try:
        return decode(trace, rig).devices[0].chips
    except HushedError:
        return None


def _panel(own: list[Commands]) -> str:
    """The panel that the addresses tell: only one of four lines has cells from 14h or 54h on."""
    at = [int(chip.fields_of(k)[0]["address"]) for chip in own for k in range(len(chip)) if chip.name_of(k) == "cell-address"]
    if any(0x14 <= address & 0x3F <= 0x27 for address in at):
        return "20x4"
    return "16x4" if any(0x10 <= address & 0x3F <= 0x13 for address in at) else "16x2"


def written(own: Channel, address: int) -> NDArray[np.uint8]:
    """The bytes that were written to an address."""
    assert own.who is not None
    chosen = np.flatnonzero((own.who.address == address) & ~own.who.read & own.who.answered)
    return plain(own.words, own.table, own.who.first, chosen).value
