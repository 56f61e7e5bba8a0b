"""What a capture says to one display, as a sequence that says the same: by name where commands have one, with the rests that somebody wrote."""

from __future__ import annotations

from ..sequence.listing import Item, to_hush
from .reading import DeviceReading

__all__ = ["REST", "hush_of"]

REST = 0.5e-3  # seconds from which on a rest is one that a driver makes on purpose


def hush_of(device: DeviceReading, tick: float, stretch: float = 1.0) -> list[str]:
    """The lines. tick: seconds. stretch: rests so many times as long."""
    told: list[tuple[int, int, int, int]] = []  # when it begins, the chip, its index, when it ends
    for chip, own in enumerate(device.chips):
        begins = own.payload.start[own.first].tolist()
        told += [(begin, chip, index, own.time_of(index)) for index, begin in enumerate(begins)]
    told.sort()
    out: list[str] = []
    held: list[Item] = []
    chosen, before, ahead = -1, None, ""

    def written() -> None:
        nonlocal ahead
        out.extend(to_hush(device.part, held, {0: ahead} if ahead else None))
        held.clear()
        ahead = ""

    for begin, chip, index, end in told:
        own = device.chips[chip]
        rest = 0.0 if before is None else (begin - before) * tick * stretch
        if len(device.chips) > 1 and chip != chosen:
            written()
            chosen = chip
            out.append(f"select {chip + 1}")
        if rest >= REST:
            written()
            ahead = f"{rest * 1e3:.3g}ms"
        fields, note = own.fields_of(index)
        held.append(Item(own.name_of(index), own.bytes_of(index), int(own.first[index]), int(own.kind[index]), fields, note))
        before = end
    written()
    return out
