"""What the lines and pins of a display are for: by their levels over time, and by what a meter said of them."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass

import numpy as np

from ..errors import HushedError
from ..trace import Trace
from ..units import parse, show

__all__ = ["Pin", "metered", "pins_of"]

GROUND = 0.1  # volts
BOOSTED = 0.5  # volts above the supply from which on it is none of it
NEAR = 0.06  # of the supply
STEADY = 0.05  # spread of a clock's periods
PUMP = 100e3  # Hz up to which a square wave of its own may be that of a charge pump
WIDE = 2.0  # times the usual width of a track from which on it carries the supply or ground


@dataclass(frozen=True)
class Pin:
    """name: of the line, or pin. role: what it is for, "" where nothing tells. sure: certain, likely, possible. because: in words."""

    name: str
    role: str
    sure: str
    because: str


def pins_of(trace: Trace, roles: dict[str, str], because: dict[str, str], busy: tuple[int, int], sure: str) -> list[Pin]:
    """Every line. roles: role to line; because: of each role. busy: ticks from the first word to the last. sure: of the bus."""
    by_line = {line: role for role, line in roles.items()}
    logic = [own[1] for name, own in zip(trace.names, trace.volts, strict=False) if name in by_line and own[1] > own[0] + GROUND]
    supply = float(np.median(logic)) if logic else 0.0
    out = []
    for number, name in enumerate(trace.names):
        if name in by_line:
            role = by_line[name]
            out.append(
                Pin(name, role, sure if role != "reset" or sure == "possible" else "likely", because.get(role, "by the traffic"))
            )
            continue
        told = _in_volts(name, trace.volts[number][:2], supply) if trace.volts and supply else None
        if told is not None:
            out.append(told)
            continue
        same = next((other for other in range(number) if _same(trace, number, other)), None)
        if same is not None:
            out.append(Pin(name, "", "likely", f"at all times as {trace.names[same]}: they may be tied together"))
            continue
        out.append(_alone(trace, number, name, busy))
    return out


def _in_volts(name: str, levels: tuple[float, float], supply: float) -> Pin | None:
    """What volts tell of a line that plays no role; None where its levels are those of logic. supply: what the bus has as high."""
    low, high = levels
    said = f"{low:.2g} V" if high - low < GROUND else f"{low:.2g} V to {high:.2g} V"
    if low < -2 * GROUND or high > supply + BOOSTED:
        where = "below ground" if low < -2 * GROUND else f"above the {supply:.2g} V of the bus"
        return Pin(
            name,
            "not for logic",
            "certain",
            f"{said}, {where}: made by a charge pump, for the glass; never connect it to a logic pin",
        )
    if high - low >= GROUND:
        return None if high > 0.6 * supply else Pin(name, "bias or contrast", "possible", f"{said}: too little for logic")
    if abs(high) <= GROUND:
        return Pin(name, "ground", "possible", f"{said} throughout: ground, or a line that is tied low")
    if abs(high - supply) <= NEAR * supply:
        return Pin(name, "supply", "possible", f"{said} throughout, as the bus has high: the supply, a pull-up, or tied high")
    return Pin(name, "bias or contrast", "possible", f"{said} throughout, between ground and the {supply:.2g} V of the bus")


def _same(trace: Trace, a: int, b: int) -> bool:
    one, two = trace.edges(a), trace.edges(b)
    return len(one.times) > 2 and np.array_equal(one.times, two.times) and np.array_equal(one.level, two.level)


def _alone(trace: Trace, number: int, name: str, busy: tuple[int, int]) -> Pin:
    """A line that plays no role on the bus."""
    edges = trace.edges(number)
    times = edges.times[1:]
    if not len(times):
        level = int(edges.level[0])
        if level > 1:
            return Pin(name, "", "possible", "its level is unknown throughout")
        what = (
            "ground, or a select or setting that is tied low"
            if not level
            else "the supply, a pull-up, or a setting that is tied high"
        )
        return Pin(name, "", "possible", f"{'low' if not level else 'high'} throughout: {what}")
    if len(times) > 8:
        periods = np.diff(times[::2])
        rate = 1 / (float(np.median(periods)) * float(trace.tick))
        if float(np.std(periods)) < STEADY * float(np.mean(periods)):
            if rate < PUMP:
                why = f"a square wave of {show(rate, 'Hz')} whatever the bus does: a charge pump or the glass's own clock"
                return Pin(name, "not for logic", "likely", why)
            return Pin(name, "", "possible", f"a steady clock of {show(rate, 'Hz')}, whatever the bus does")
    inside = float(np.mean((times >= busy[0]) & (times <= busy[1])))
    if inside == 1:
        return Pin(name, "", "possible", f"moves {len(times)} times, only while words come")
    return Pin(name, "", "possible", f"moves {len(times)} times, {inside:.0%} of them while words come")


def metered(text: str, path: str) -> list[Pin]:
    """Pins by a table of what a meter said: columns pin, volts and, if they are known, pull_up (yes or no) and width (of its track, in mm).

    Raises HushedError with file:line.
    """
    rows = list(csv.DictReader(io.StringIO(text)))
    if not rows or not {"pin", "volts"} <= set(rows[0]):
        raise HushedError("no columns 'pin' and 'volts'", where=f"{path}:1", remedy="like: pin,volts,pull_up,width")
    volts: list[float] = []
    for number, row in enumerate(rows, 2):
        said = (row["volts"] or "").strip()
        volts.append(float(parse(said if said[-1:].isalpha() else f"{said}V", "V", f"{path}:{number}")))
    widths = [_width(row.get("width"), f"{path}:{number}") for number, row in enumerate(rows, 2)]
    usual = float(np.median([width for width in widths if width])) if any(widths) else 0.0
    wide = [volt for volt, width in zip(volts, widths, strict=True) if usual and width > WIDE * usual and volt > 1]
    pulled = [volt for volt, row in zip(volts, rows, strict=True) if _yes(row.get("pull_up"))]
    supply = max(pulled or wide or [volt for volt in volts if 1.6 < volt < 5.6] or [0.0])
    return [
        _metered(str(row["pin"]), volt, supply, _yes(row.get("pull_up")), bool(usual) and width > WIDE * usual)
        for row, volt, width in zip(rows, volts, widths, strict=True)
    ]


def _yes(word: str | None) -> bool:
    return (word or "").strip().lower() in ("yes", "y", "1", "true")


def _width(word: str | None, where: str) -> float:
    said = (word or "").strip().removesuffix("mm")
    try:
        return float(said) if said else 0.0
    except ValueError as error:
        raise HushedError(f"'{word}' is no width", where=where, remedy="like 0.5, in millimetres") from error


def _metered(name: str, volt: float, supply: float, pulled: bool, wide: bool) -> Pin:
    said = f"{volt:g} V"
    if volt < -GROUND:
        return Pin(
            name, "not for logic", "certain", f"{said}: made by a charge pump, for the glass; never connect it to a logic pin"
        )
    if volt > supply + BOOSTED:
        return Pin(
            name,
            "not for logic",
            "certain",
            f"{said}, above the supply of {supply:g} V: boosted, for the glass; never connect it to a logic pin",
        )
    if pulled:
        return Pin(name, "a line with a pull-up", "likely", f"{said} by a pull-up: a bus of two wires, reset, or a select")
    if abs(volt) <= GROUND:
        return Pin(name, "ground" if wide else "", "likely" if wide else "possible",
                   f"{said}{' on a wide track: ground' if wide else ': ground, or a line that rests low'}")  # fmt: skip
    if abs(volt - supply) <= NEAR * supply:
        return Pin(name, "supply" if wide else "", "likely" if wide else "possible",
                   f"{said}{' on a wide track: the supply' if wide else ': the supply, or a line that rests high'}")  # fmt: skip
    return Pin(name, "bias or contrast", "possible", f"{said}, between ground and supply: a bias, contrast, or a line that moves")
