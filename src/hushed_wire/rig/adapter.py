"""A character display behind an I2C expander, found by itself: which output drives what, by the sense that the commands make.

Strategy: E is the output that falls while all others hold still. Four neighbouring outputs carry the nibble, either end first; RS
is one of the rest. Each of these few wirings is decoded on an excerpt; the one under which a bring-up appears is it.
"""

from __future__ import annotations

from itertools import product

import numpy as np
from numpy.typing import NDArray

from ..bus.channel import Channel
from ..errors import HushedError
from ..part import Commands, catalog_names, load
from ..part.bring_up import set_up_in
from ..part.framing import plain
from ..part.neighbours import usual_first
from ..part.wrap import WRAPS
from ..trace import Trace
from .reading import decode
from .schema import Bridge, Bus, Device, Rig

__all__ = ["READABLE", "adapter", "printable", "written"]

READABLE = 0.7  # share of what is written that people could read
LEAST = 24  # writes below which nothing is told
NIBBLES = ((4, 5, 6, 7), (0, 1, 2, 3), (7, 6, 5, 4), (3, 2, 1, 0))


def enables(values: NDArray[np.uint8]) -> list[int]:
    """Outputs that fall while the others hold still, the busiest first."""
    before, after = values[:-1].astype(np.int64), values[1:].astype(np.int64)
    found = []
    for bit in range(8):
        falls = (before >> bit & 1 == 1) & (after >> bit & 1 == 0)
        still = falls & ((before ^ after) == 1 << bit)
        count = int(np.count_nonzero(falls))
        if count >= LEAST // 3 and np.count_nonzero(still) >= 0.9 * count:
            found.append((-count, bit))
    return [bit for _, bit in sorted(found)]


def adapter(trace: Trace, bus: Bus, address: int, values: NDArray[np.uint8]) -> tuple[Bridge, Device, str] | None:
    """The bridge and the display behind it, and how the outputs are wired, in words. values: bytes written to the address."""
    if len(values) < LEAST:
        return None
    known = [load(part) for part in sorted(catalog_names(), key=usual_first)]
    ports = [part.name for part in known if part.framings == ["i2c-plain"] and part.i2c and address in part.i2c.addresses]
    displays = [
        part for part in known if part.memory.kind == "character" and any(WRAPS[framing].bits == 4 for framing in part.framings)
    ]
    if not ports or not displays:
        return None
    name, display = ports[0], displays[0]
    best: tuple[float, Bridge, Device, list[Commands]] | None = None
    for e, nibble in product(enables(values), NIBBLES):
        if e in nibble:
            continue
        rest = [bit for bit in range(8) if bit not in (e, *nibble)]
        for rs in rest:
            others = [bit for bit in rest if bit != rs]
            # R/W stays low for a driver that only writes; the other one switches the backlight.
            rw = next((bit for bit in others if not (values >> bit & 1).any()), others[0])
            light = next(bit for bit in others if bit != rw)
            drives = {"rs": f"p{rs}", "rw": f"p{rw}", "e": f"p{e}", "backlight": f"p{light}"}
            drives |= {f"d{4 + k}": f"p{bit}" for k, bit in enumerate(nibble)}
            bridge = Bridge(f"{name}-{address:02x}", bus.name, name, drives, address)
            device = Device(display.name, bridge.name, display.name, panel=next(iter(display.panels)))
            own = _heard(trace, bus, bridge, device)
            if own is None:
                continue
            count = sum(len(chip) for chip in own)
            seen = {name for chip in own for name in chip.names}
            steps = len(seen & set(display.start_up))
            data = sum(int(np.count_nonzero(chip.kind < 0)) for chip in own) / max(1, count)
            letters = printable(own)
            score = steps + 2 * letters - data * 0.1
            if set_up_in(display, seen) and letters > READABLE and (best is None or score > best[0]):
                best = score, bridge, device, own
    if best is None:
        return None
    _, bridge, device, own = best
    device.panel = _panel(own)
    wired = ", ".join(f"{pin.upper()} {role.upper()}" for role, pin in sorted(bridge.drives.items(), key=lambda item: item[1]))
    return bridge, device, wired


def _heard(trace: Trace, bus: Bus, bridge: Bridge, device: Device) -> list[Commands] | None:
    rig = Rig(bus=[bus], bridge=[bridge], device=[device])
    try:
        return decode(trace, rig).devices[0].chips
    except HushedError:
        return None


def printable(own: list[Commands], plain: bool = False) -> float:
    """Share of what is written to cells that people could read: letters, digits, and one's own characters. plain: ASCII alone."""
    pieces = []
    for chip in own:
        glyphs = False
        for index, command, raw in chip.listed():
            if command is not None:
                glyphs = command.name == "glyph-address" or (glyphs and not command.name.startswith("cell"))
            elif chip.name_of(index) == "data" and not glyphs:
                pieces.append(np.frombuffer(raw, np.uint8))
    data = np.concatenate(pieces) if pieces else np.empty(0, np.uint8)
    if not len(data):
        return 0.75  # nothing speaks against it, but nothing for it either
    ascii_ = (data >= 0x20) & (data < 0x80)
    return float(np.mean(ascii_ if plain else ascii_ | (data < 0x10) | (data >= 0xA0)))


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
