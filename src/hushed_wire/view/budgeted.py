"""Text and JSON of `budget`."""

from __future__ import annotations

from typing import Any

from ..port.budget import Budget, Bussed, Lamp, Memory, PullUp
from ..units import show, show_time
from .pipe_console import kit_of

__all__ = ["budget_record", "budgeted"]


def budgeted(out: Any, found: Budget, path: str) -> None:
    """Prints what a rig allows, part by part."""
    kit = kit_of(out)
    out.print(kit.Text(f"{path}: what the wiring and the parts allow", style="head"))
    for own in found.bus:
        out.print()
        _bus(out, own)
    for pull in found.pull_ups:
        out.print()
        _pull_up(out, pull)
    for lamp in found.leds:
        out.print()
        _lamp(out, lamp)
    if found.memory:
        out.print()
        _memory(out, found.memory)


def _bus(out: Any, own: Bussed) -> None:
    kit = kit_of(out)
    out.print(kit.Text(f"{own.name} ({own.part})", style="head"))
    grid = kit.grid()
    grid.add_row("", "clock", f"{show(own.clock, 'Hz')}, {'by the rig' if own.clock_from == 'the rig' else own.clock_from}")
    grid.add_row("", "a frame", f"{own.frame_bytes:,} bytes in {show_time(own.frame_time)}: {_rate(own.frames)} a second")
    grid.add_row("", "a change", f"{own.changed} in {show_time(own.change)}: {_rate(1 / own.change)} a second")
    if own.limit:
        grid.add_row("", "at most", f"{show(own.limit, 'Hz')} by {own.limit_source}: {_rate(1 / own.at_limit)} frames a second")
    if own.seen is not None:
        grid.add_row("", "is seen", f"about {_rate(own.seen)} pictures a second ({own.response_source})")
    grid.add_row("", "waits for", own.bottleneck)
    if own.goal is not None:
        if own.reached and own.seen is not None and own.goal > own.seen:
            said, style = (
                f"{own.goal:g} frames a second are reached on the wires; the glass follows about {_rate(own.seen)}",
                "warning",
            )
        elif own.reached:
            said, style = f"{own.goal:g} frames a second are reached", "good"
        elif own.needed is not None:
            said, style = f"{own.goal:g} frames a second need a clock of {show(own.needed, 'Hz', 3)}", "warning"
        else:
            said, style = f"{own.goal:g} frames a second are out of reach: send what changed, not whole frames", "fault"
        grid.add_row("", "goal", kit.Text(said, style=style))
    out.print(grid)
    if own.dividers:
        table = kit.table()
        for head, justify in (("divider", "right"), ("clock", "right"), ("frames/s", "right"), ("margin", "right"), ("", "left")):
            table.add_column(head, justify=justify)
        for entry in own.dividers:
            said = entry.note or ("" if entry.allowed else "too fast for the part")
            if own.goal is not None and entry.allowed and entry.frames >= own.goal:
                said += f"{', ' if said else ''}reaches the goal"
            margin = f"{entry.margin:.3g} x" if entry.margin else "-"
            style = "fault" if not entry.allowed else "good" if entry.note else ""
            table.add_row(f"{entry.divider:,}", show(entry.clock, "Hz"), _rate(entry.frames), margin, kit.Text(said, style=style))
        out.print(table)


def _rate(frames: float) -> str:
    """Frames a second, with three digits or as a whole number."""
    return f"{frames:,.0f}" if frames >= 100 else f"{frames:.3g}"


def _pull_up(out: Any, pull: PullUp) -> None:
    kit = kit_of(out)
    good = pull.least <= pull.given <= pull.most
    out.print(kit.Text(f"{pull.name}: pull-ups", style="head"))
    grid = kit.grid()
    said = f"{show(pull.given, 'Ohm', 3)}; {show(pull.least, 'Ohm', 3)} to {show(pull.most, 'Ohm', 3)} will do"
    grid.add_row("", "given", kit.Text(said, style="good" if good else "fault"))
    grid.add_row("", "rise", f"{show(pull.rise, 's', 3)} of {show_time(pull.allowed)} ({pull.source})")
    if pull.load is not None:
        grid.add_row(
            "",
            "load",
            kit.Text(f"{pull.load:.0%} of the time with whole frames at the goal", style="fault" if pull.load > 1 else ""),
        )
    out.print(grid)


def _lamp(out: Any, lamp: Lamp) -> None:
    kit = kit_of(out)
    out.print(kit.Text(f"{lamp.name}: {lamp.turns} take turns", style="head"))
    grid = kit.grid()
    steady = "" if lamp.steady else f": it flickers, {1 / lamp.longest:.3g} frames a second look steady"
    grid.add_row(
        "",
        "frame",
        kit.Text(f"{lamp.frame:g} a second, {show(lamp.row, 'Hz', 3)} of rows{steady}", style="" if lamp.steady else "fault"),
    )
    grid.add_row(
        "",
        "lit for",
        f"1/{lamp.turns} of the time ({lamp.duty:.3g}): {show_time(lamp.duty / lamp.frame)} of {show_time(1 / lamp.frame)}",
    )
    if lamp.counter is not None:
        bit, rate, frames = lamp.counter
        grid.add_row(
            "", "counter", f"bit {bit} (clock / 2^{bit + 1}): {show(rate, 'Hz', 4)} of rows, {frames:.4g} frames a second"
        )
    if lamp.peak is not None and lamp.average is not None and lamp.common is not None:
        grid.add_row(
            "",
            "current",
            f"{show(lamp.peak, 'A', 3)} while lit, {show(lamp.average, 'A', 3)} on average; a whole row {show(lamp.common, 'A', 3)}",
        )
    if lamp.resistor is not None and lamp.resistor_wanted is not None:
        grid.add_row(
            "",
            "resistor",
            f"{show(lamp.resistor, 'Ohm', 3)} (E24; {show(lamp.resistor_wanted, 'Ohm', 3)} worked out), one in each column",
        )
    for said in lamp.over:
        grid.add_row("", "too much", kit.Text(said, style="fault"))
    out.print(grid)


def _memory(out: Any, memory: list[Memory]) -> None:
    kit = kit_of(out)
    table = kit.table()
    for head, justify in (
        ("memory", "left"),
        ("frame", "right"),
        ("font", "right"),
        ("counts to", "right"),
        ("in a", "left"),
        ("", "left"),
    ):
        table.add_column(head, justify=justify, overflow="fold")
    for own in memory:
        fits = "" if own.ram_fits is not False else "does not fit: " + own.without
        fits = "its font does not fit into the flash" if not fits and own.flash_fits is False else fits
        table.add_row(
            own.name,
            f"{own.frame:,}",
            f"{own.font:,}" if own.font else "-",
            f"{own.largest:,}",
            own.kind,
            kit.Text(fits, style="fault"),
        )
    out.print(table)


def budget_record(found: Budget) -> dict[str, Any]:
    """As JSON; seconds, Hz, bytes, amperes, ohms."""
    return {
        "bus": [
            {
                "name": own.name, "part": own.part, "clock": own.clock, "frame_bytes": own.frame_bytes, "frame_time": own.frame_time, "part_time": own.busy,
                "frames_per_second": own.frames, "change": own.changed, "change_time": own.change, "limit": own.limit or None,
                "limit_source": own.limit_source or None, "frames_per_second_at_limit": 1 / own.at_limit if own.limit else None, "bottleneck": own.bottleneck,
                "response_time": own.response, "goal": own.goal, "reached": own.reached, "clock_needed": own.needed,
                "dividers": [
                    {"divider": d.divider, "clock": d.clock, "frames_per_second": d.frames, "allowed": d.allowed, "margin": d.margin or None, "note": d.note}
                    for d in own.dividers
                ],
            }
            for own in found.bus
        ],
        "pull_ups": [
            {"bus": p.name, "given": p.given, "least": p.least, "most": p.most, "rise_time": p.rise, "allowed": p.allowed, "load": p.load, "source": p.source}
            for p in found.pull_ups
        ],
        "leds": [
            {
                "name": lamp.name, "turns": lamp.turns, "frames_per_second": lamp.frame, "rows_per_second": lamp.row, "duty": lamp.duty, "steady": lamp.steady,
                "counter_bit": lamp.counter[0] if lamp.counter else None, "counter_rows_per_second": lamp.counter[1] if lamp.counter else None,
                "peak_current": lamp.peak, "average_current": lamp.average, "row_current": lamp.common, "resistor": lamp.resistor, "too_much": lamp.over,
            }
            for lamp in found.leds
        ],
        "memory": {
            own.name: {"frame": own.frame, "font": own.font, "ram_fits": own.ram_fits, "flash_fits": own.flash_fits, "largest": own.largest, "type": own.kind}
            for own in found.memory
        },
    }  # fmt: skip
