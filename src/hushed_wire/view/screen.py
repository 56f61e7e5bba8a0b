"""Text of `screen`: each panel as a person sees it, and what to know about it."""

from __future__ import annotations

from typing import Any

import numpy as np
from rich.console import Console
from rich.text import Text

from ..part.glass import ColourGlass, PaperGlass, TextGlass
from ..part.paper import PaperMemory
from ..rig import DeviceReading, Setup
from ..units import show_time
from . import glass as drawing
from .listing import assumed

__all__ = ["screens"]


def screens(out: Console, glasses: list[tuple[DeviceReading, Any]], plan: Setup, when: float, quiet: bool = False) -> None:
    """Prints the panels."""
    if not quiet:
        assumed(out, plan)
    for device, glass in glasses:
        head = Text().append(
            f"{device.device.name}  {device.part.name}, {device.panel.name}, at {show_time(when)}: the glass is ", style="head"
        )
        if not isinstance(glass, TextGlass):
            height, width = glass.lit.shape
            head = Text().append(
                f"{device.device.name}  {device.part.name}, {width}x{height}, at {show_time(when)}: the glass is ", style="head"
            )
        words = ("refreshed", "not refreshed") if isinstance(glass, PaperGlass) else ("lit", "dark")
        head.append(words[not glass.shown], style="good" if glass.shown else "fault")
        if isinstance(glass, TextGlass):
            out.print(head if glass.shown else head.append("; below is what its memory holds"))
            drawing.draw_text(out, glass, device.panel)
        else:
            lit = int(np.count_nonzero(glass.lit))
            what = glass.lit_are if isinstance(glass, ColourGlass) else "pixels on"
            out.print(head.append(f", {lit:,} {what}" if glass.shown else f"; below is what its memory holds ({lit:,} {what})"))
            (drawing.draw_colour if isinstance(glass, ColourGlass) else drawing.draw)(out, glass, device.panel)
        for text in remarks(device, glass):
            out.print(Text().append("note  ", style="note").append(text))


def remarks(device: DeviceReading, glass: Any) -> list[str]:
    """What the picture does not tell by itself."""
    out = []
    known, unit = glass.known, glass.unit
    missing = int(np.count_nonzero(~known))
    if missing:
        why = (
            "the memory behind them was not written in this capture"
            if device.started
            else "the capture begins on a running display"
        )
        out.append(f"{missing:,} of {known.size:,} {unit} are not known: {why}; they are drawn dark")
    if isinstance(glass, TextGlass):
        if glass.cursor is not None:
            out.append(f"the cursor is at column {glass.cursor[1]}, row {glass.cursor[0]}, {glass.cursor_kind}")
        if glass.backlight is False:
            out.append("the backlight is off")
        if glass.note:
            out.append(glass.note)
    elif glass.scrolling:
        out.append("the panel scrolls; how far is an estimate from the controller's typical oscillator")
    if isinstance(glass, ColourGlass):
        out.append("--picture FILE.png shows every pixel in its colour")
    if isinstance(glass, PaperGlass):
        memory = device.memory
        times = [memory.tick * tick for tick in memory.refreshes] if isinstance(memory, PaperMemory) else []
        if times:
            out.append(
                f"refreshed {f'{len(times)} times, last' if len(times) > 1 else 'once,'} at {show_time(times[-1])}; what is written behind it is not seen"
            )
        else:
            out.append("it was never refreshed, so the glass keeps what it showed before")
    elif not glass.shown:
        if device.part.memory.kind == "scanned":
            out.append("no LED is driven at that time")
        else:
            out.append("the controller's output is off, or it sleeps")
    return out
