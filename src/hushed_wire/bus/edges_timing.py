"""Times of SPI and parallel buses as measured: pulses, cycles, set-up and hold, each as a distribution.

What each is called in datasheets stands with the kinds of bus (`base`); which of them a part limits is the part's description.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.measured import Measured
from ..trace.model import Times
from .changes import edges_to

__all__ = ["measure_parallel", "measure_spi"]


def _ahead(moments: Times, edges: Times) -> tuple[Times, NDArray[np.bool_]]:
    """For each moment the ticks since the last edge at or before it, and where there is one."""
    at = np.searchsorted(edges, moments, side="right") - 1
    known = at >= 0
    return (moments - edges[np.maximum(at, 0)] if len(edges) else moments), known & (len(edges) > 0)


def _behind(moments: Times, edges: Times) -> tuple[Times, NDArray[np.bool_]]:
    """The same to the next edge behind it."""
    at = np.searchsorted(edges, moments, side="right")
    known = at < len(edges)
    return (edges[np.minimum(at, len(edges) - 1)] - moments if len(edges) else moments), known & (len(edges) > 0)


def _measured(pair: tuple[Times, NDArray[np.bool_]], moments: Times, *lines: str) -> Measured:
    value, known = pair
    return Measured.of(value[known], moments[known], *lines)


def _moves(trace: Trace, line: int) -> Times:
    return trace.edges(line).times[1:]


def measure_spi(trace: Trace, roles: Mapping[str, int], mode: int, active: int, select: str) -> dict[str, Measured]:
    """The times of an SPI bus; select: the role of the select line, "" where there is none."""
    idle, late = mode >> 1, mode & 1
    clock, data = roles["sck"], roles["mosi"]
    up, down = rises, falls = edges_to(trace, clock, 1), edges_to(trace, clock, 0)
    sampling = rises if (idle == 0) != bool(late) else falls
    out: dict[str, Measured] = {}
    if select:
        opens, closes = edges_to(trace, roles[select], active), edges_to(trace, roles[select], 1 - active)
        inside = trace.level_at(roles[select], sampling) == active
        sampling = sampling[inside]
        rises = rises[trace.level_at(roles[select], rises) == active]
        falls = falls[trace.level_at(roles[select], falls) == active]
        first = np.searchsorted(sampling, opens)
        has = first < len(sampling)
        out["select set-up"] = Measured.of(sampling[first[has]] - opens[has], opens[has], select, "sck")
        last = np.searchsorted(sampling, closes) - 1
        has = last >= 0
        out["select hold"] = Measured.of(closes[has] - sampling[last[has]], closes[has], select, "sck")
        out["select rest"] = _measured(_behind(closes, opens), closes, select)
    out["clock high"] = _measured(_behind(rises, down), rises, "sck")
    out["clock low"] = _measured(_behind(falls, up), falls, "sck")
    if select and len(out["clock low"]):  # the rest between two transfers is no half of a clock
        usual = 8 * out["clock low"].typical
        for name in ("clock high", "clock low"):
            out[name] = out[name].below(usual)
    changes = _moves(trace, data)
    out["data set-up"] = _measured(_ahead(sampling, changes), sampling, "mosi", "sck")
    out["data hold"] = _measured(_behind(sampling, changes), sampling, "mosi", "sck")
    if select:
        # LOAD of some parts is a latch: what is clocked in comes only so long behind it.
        out["clock behind select"] = _measured(_behind(closes, up), closes, select, "sck")
        if "dc" in roles:
            out |= _marks(trace, roles["dc"], sampling, opens)
    if len(sampling) > 1:
        steps = np.diff(sampling)
        out["clock period"] = Measured.of(steps, sampling[1:], "sck")
    return out


def _marks(trace: Trace, mark: int, sampling: Times, opens: Times) -> dict[str, Measured]:
    """Set-up and hold of the line that tells data from commands: it is taken with the last bit of each word of eight."""
    first = np.searchsorted(sampling, opens)
    owner = np.searchsorted(opens, sampling, side="right") - 1
    counted = sampling[owner >= 0]
    last = counted[(np.arange(len(sampling))[owner >= 0] - first[owner[owner >= 0]]) % 8 == 7]
    changes = _moves(trace, mark)
    at, after = np.searchsorted(last, changes), np.searchsorted(last, changes, side="right")
    ahead, behind = at < len(last), after > 0
    return {
        "D/C set-up": Measured.of(last[at[ahead]] - changes[ahead], changes[ahead], "dc", "sck"),
        "D/C hold": Measured.of(changes[behind] - last[after[behind] - 1], changes[behind], "dc", "sck"),
    }


def measure_parallel(trace: Trace, roles: Mapping[str, int]) -> dict[str, Measured]:
    """The times of a 6800 bus, for the line E; of writes only, where R/W tells."""
    if "e" not in roles:
        return {}
    rises, falls = edges_to(trace, roles["e"], 1), edges_to(trace, roles["e"], 0)
    if "rw" in roles:
        rises = rises[trace.level_at(roles["rw"], rises) != 1]
        falls = falls[trace.level_at(roles["rw"], falls - 1) != 1]
    data = np.unique(
        np.concatenate([_moves(trace, line) for role, line in roles.items() if role[0] == "d" and role[1:].isdecimal()])
    )
    controls = [_moves(trace, roles[role]) for role in ("rs", "rw") if role in roles]
    out = {
        "enable high": _measured(_behind(rises, edges_to(trace, roles["e"], 0)), rises, "e"),
        "enable low": _measured(_behind(falls, edges_to(trace, roles["e"], 1)), falls, "e"),
        "data set-up": _measured(_ahead(falls, data), falls, "data", "e"),
        "data hold": _measured(_behind(falls, data), falls, "data", "e"),
    }
    if len(rises) > 1:
        out["enable cycle"] = Measured.of(np.diff(rises), rises[1:], "e")
    if controls:
        address = np.unique(np.concatenate(controls))
        out["register select set-up"] = _measured(_ahead(rises, address), rises, "rs", "e")
        out["register select hold"] = _measured(_behind(falls, address), falls, "rs", "e")
    return out
