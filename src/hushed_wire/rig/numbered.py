"""Numbers of transfers: those that are shown, in the order in which they begin, counted from 1. One number means one transfer in every command.

What a bridge carries says more than its own words, so of a bus that only leads to bridges the transfers behind them are counted.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from ..bus.channel import Channel, in_pieces
from ..errors import HushedError
from ..trace.model import Times
from .reading import Reading
from .schema import Rig

__all__ = ["as_counted", "numbered", "shown_places", "span_of"]


def shown_places(rig: Rig, outside: bool = False) -> set[str]:
    """The buses, and bridges with a bus behind them, whose transfers are shown: what a bridge carries says more than its own words, unless
    `outside` asks for these. A bus on which a device is spoken to directly is always shown."""
    buses = {bus.name for bus in rig.bus}
    if outside:
        return buses
    carriers, spoken = {bridge.on for bridge in rig.bridge}, {device.on for device in rig.device}
    inner = {place for place in buses | {bridge.name for bridge in rig.bridge} if place not in carriers or place in spoken}
    return inner or buses


def as_counted(channels: Iterable[Channel], shown: set[str]) -> list[Channel]:
    """The channels whose transfers are counted; long ones of buses without addresses are told in pieces, each of which counts."""
    from dataclasses import replace

    own = [channel for channel in channels if channel.bus in shown and len(channel.table)]
    return [
        replace(channel, table=in_pieces(channel.words, channel.table))
        if channel.who is None and channel.scan is None
        else channel
        for channel in own
    ]


def numbered(reading: Reading) -> tuple[Times, Times]:
    """Starts and ends (n,) of all transfers that are counted, in their order: number k is entry k - 1."""
    channels = as_counted(reading.channels, shown_places(reading.rig))
    none: NDArray[np.int64] = np.empty(0, np.int64)
    starts = np.concatenate([none, *(channel.table.start for channel in channels)])
    ends = np.concatenate([none, *(channel.table.end for channel in channels)])
    order = np.argsort(starts, kind="stable")
    return starts[order], ends[order]


def span_of(reading: Reading, first: int, last: int) -> tuple[int, int, int]:
    """The ticks at which transfer `first` begins, at which the last of them up to `last` ends, and at which `last` begins. Raises HushedError
    where there are fewer."""
    starts, ends = numbered(reading)
    if not 1 <= first <= last <= len(starts):
        has = f"the capture has transfers 1 to {len(starts):,}" if len(starts) else "the capture has no transfer"
        said = f"{first}" if first == last else f"{first}-{last}"
        raise HushedError(f"there is no transfer {said}", where="--transfer", remedy=f"{has}; decode lists them")
    return int(starts[first - 1]), int(ends[first - 1 : last].max()), int(starts[last - 1])
