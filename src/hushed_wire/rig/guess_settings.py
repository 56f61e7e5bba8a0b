"""How a bus whose lines are known is driven, by its traffic: SPI mode, word and select, levels of rows, of a parallel bus's selects."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ..bus.base import BUSES
from ..bus.changes import edges_to, excerpt
from ..bus.scan_roles import axes
from ..errors import HushedError
from ..trace import Trace

if TYPE_CHECKING:
    from ..bus.spi_roles import SpiFit
    from .schema import Bus

__all__ = ["NOTHING", "Shape", "check_shape", "selected", "shaped"]

Shape = Mapping[str, Any]  # mode, bits, order, select of a bus, as far as they are given
NOTHING: Shape = {}


def shaped(trace: Trace, bus: Bus, assumed: dict[str, str], given: Shape, fit: SpiFit | None = None) -> None:
    """Sets what the traffic tells of a bus whose lines are known: how its words are clocked, or the levels of its selects or rows.

    given: what is known of these, which is set as it is. fit: by which the lines were found. Raises HushedError where a bus of that kind
    has no such thing.
    """
    check_shape(bus.kind, given)
    roles = {role: trace.index(line) for role, line in bus.lines.items()}
    if bus.kind in TELLING:
        TELLING[bus.kind](trace, bus, roles, assumed, given, fit)
    for key, value in given.items():
        setattr(bus, key, value)


def check_shape(kind: str, given: Shape) -> None:
    """Raises HushedError for what a kind of bus does not have."""
    for key in given:
        if key not in BUSES[kind].settings:
            kinds = " and ".join(own.name for own in BUSES.values() if key in own.settings)
            raise HushedError(f"a bus of kind {kind} has none", where=f"--{key}", remedy=f"it is for {kinds}; leave it out")


def spi_shaped(
    trace: Trace, bus: Bus, roles: dict[str, int], assumed: dict[str, str], given: Shape = NOTHING, fit: SpiFit | None = None
) -> None:
    """Mode, word and select of an SPI bus, as the traffic has them, where they are not given."""
    from ..bus.carries import spans_selected
    from ..bus.spi_roles import mode_of, word_bits

    part = excerpt(trace, lines=roles.values())
    select = next((roles[role] for role in ("cs", "cs1") if role in roles), None)
    if select is None:
        spans = np.array([part.start]), np.array([part.end])
        active = 0
    else:
        active = fit.active if fit is not None else _runs_while_high(part, roles["sck"], select)
        active = int(given["select"] == "high") if "select" in given else active
        spans = spans_selected(part, select, active)
    mode, clear = mode_of(part, roles["sck"], roles["mosi"], spans)
    bus.mode = mode  # type: ignore[assignment]
    bus.select = "high" if active else "low"
    rises = edges_to(part, roles["sck"], 1)
    bits, _ = (
        word_bits(np.searchsorted(rises, spans[1], side="right") - np.searchsorted(rises, spans[0]))
        if select is not None
        else (8, 1.0)
    )
    if bits == 9:
        bus.bits = 9
    if select is not None and "select" not in given:
        assumed["select"] = f"select is active {bus.select}, " + ("by the traffic" if active else "as parts have it")
    if "mode" in given:
        return
    how = "as its clock idles and its data change" if clear > 0.9 else "which the data do not tell clearly"
    assumed["mode"] = f"SPI mode {mode}, {how}" + ("" if select is not None else "; there is no select")


def _runs_while_high(trace: Trace, clock: int, select: int) -> int:
    """1 where the clock runs while the select is high: the other way round than parts have it. Of a select that never moves nothing is told."""
    times = trace.edges(clock).times[1:]
    if not len(times) or len(trace.edges(select).times) < 2:
        return 0
    return int(float(np.mean(trace.level_at(select, times) == 1)) > 0.5)


def polarity(
    trace: Trace, bus: Bus, roles: dict[str, int], assumed: dict[str, str], given: Shape = NOTHING, fit: SpiFit | None = None
) -> None:
    """The level at which rows are on: of several only one is, so each has it for the shorter time. Columns tell nothing."""
    rows, _ = axes(roles)
    if not rows:
        return
    part = excerpt(trace, lines=roles.values())
    stretch = np.diff(part.times, append=part.end)
    high = float(np.mean([stretch[part.level_at(line, part.times) == 1].sum() / stretch.sum() for line in rows]))
    bus.rows = "high" if high < 0.5 else "low"
    # A common row and its columns are at opposite ends of an LED, so where rows are on when high, columns usually are when low.
    bus.columns = "low" if bus.rows == "high" else "high"
    assumed["levels"] = (
        f"rows are on when {bus.rows}, by the traffic; columns when {bus.columns}, as LEDs between them need; a rig can say otherwise"
    )


def selected(
    trace: Trace, bus: Bus, roles: dict[str, int], assumed: dict[str, str], given: Shape = NOTHING, fit: SpiFit | None = None
) -> None:
    """The level that selects a chip of a parallel bus: that at which words come."""
    chips = [roles[role] for role in ("cs", "cs1", "cs2") if role in roles]
    if not chips or "select" in given:
        return
    part = excerpt(trace, lines=roles.values())
    at = edges_to(part, roles["wr"], 1) - 1 if "wr" in roles else edges_to(part, roles["e"], 0) - 1
    if not len(at):
        return
    # Of several chips most words are for one, so the level that most selects do not have is the active one; alone, it is what words see.
    high = float(np.mean([np.mean(part.level_at(line, at) == 1) for line in chips]))
    rest = float(np.mean([part.level_at(line, part.times[:1])[0] == 1 for line in chips]))
    bus.select = "high" if (high > 0.5 if len(chips) == 1 else rest < 0.5) else "low"
    assumed["select"] = f"selects are active {bus.select}, by the traffic"


# What the traffic of a kind of bus tells; of the others it tells nothing.
TELLING: dict[str, Callable[..., None]] = {"spi": spi_shaped, "parallel": selected, "matrix": polarity}
