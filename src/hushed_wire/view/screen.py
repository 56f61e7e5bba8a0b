"""Text of `screen`: each panel as a person sees it, and what to know about it."""

from __future__ import annotations

import numpy as np
from rich.console import Console
from rich.text import Text

from ..part.paged import Glass
from ..rig import DeviceReading, Setup
from ..units import show_time
from . import glass as drawing
from .listing import assumed

__all__ = ["screens"]


def screens(out: Console, glasses: list[tuple[DeviceReading, Glass]], plan: Setup, when: float, quiet: bool = False) -> None:
    """Prints the panels."""
    if not quiet:
        assumed(out, plan)
    for device, glass in glasses:
        height, width = glass.lit.shape
        lit = int(np.count_nonzero(glass.lit))
        head = Text().append(
            f"{device.device.name}  {device.part.name}, {width}x{height}, at {show_time(when)}: the glass is ", style="head"
        )
        head.append("lit" if glass.shown else "dark", style="good" if glass.shown else "fault")
        out.print(head.append(f", {lit:,} pixels on" if glass.shown else f"; below is what its memory holds ({lit:,} pixels on)"))
        drawing.draw(out, glass, device.panel)
        for text in remarks(device, glass):
            out.print(Text().append("note  ", style="note").append(text))


def remarks(device: DeviceReading, glass: Glass) -> list[str]:
    """What the picture does not tell by itself."""
    out = []
    missing = int(np.count_nonzero(~glass.written))
    if missing:
        why = (
            "the memory behind them was not written in this capture"
            if device.started
            else "the capture begins on a running display"
        )
        out.append(f"{missing:,} of {glass.lit.size:,} pixels are not known: {why}; they are drawn dark")
    if glass.scrolling:
        out.append("the panel scrolls; how far is an estimate from the controller's typical oscillator")
    if not glass.shown:
        out.append("hushed-wire diagnose says why it is dark")
    return out
