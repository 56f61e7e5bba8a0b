"""Rules on the picture: was it written whole, is there anything in it, and, when all is well, what is left to look at."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..finding import Finding
from ..rig import DeviceReading
from .beside import beside
from .case import Case

__all__ = ["RULES", "all_good", "beyond"]


def memory(case: Case) -> Iterator[Finding]:
    """Pictures that were written in part, or that show nothing."""
    for reading in case.paged:
        if not reading.started or not len(reading.commands) or case.unfinished:
            continue
        times, _, _ = reading.memory.journal()
        _, written = reading.memory.at()
        visible = reading.memory.behind_glass(reading.panel)
        count, total = int(np.count_nonzero(written & visible)), int(np.count_nonzero(visible))
        name = reading.device.name
        if count and count < total:
            missing = np.argwhere(visible & ~written)
            pages, columns = _ranges(missing[:, 0]), _ranges(missing[:, 1])
            end = case.seconds(int(times[-1]))
            yield Finding(
                "picture.partial",
                f"on '{name}', {count} of the {total} bytes behind the glass were written; the rest (pages {pages}, columns {columns}) shows what "
                "the memory held at power-on, usually noise",
                f"send all {total} bytes once after the set-up, or clear the memory first; look at what ends the transfer: a length in pixels "
                "instead of bytes, a buffer of the bus driver that is too small, or a window that is too narrow",
                device=name, start=case.seconds(int(times[0])), end=end,
                evidence={"written": count, "needed": total, "pages_missing": pages, "columns_missing": columns, "data_bytes": len(times)},
            )  # fmt: skip
        elif count == total:
            case.rule_out("picture.partial", f"all {total} bytes behind the glass were written")
        if not _anything(reading, visible):
            start = case.seconds(int(reading.commands.payload.start[0]))
            what = "only zeros were written to the picture memory" if count else "no picture data were sent at all"
            yield Finding(
                "picture.blank",
                f"on '{name}', {what}, so a healthy panel shows nothing",
                "send a picture; if the driver should have sent one, look for a frame buffer that is never filled or never sent. To test the "
                "glass without a picture, send A5 (entire-display all-on)" if "entire-display" in reading.part.by_name else "send a picture",
                device=name, start=start, end=case.seconds(case.trace.end),
                evidence={"data_bytes": len(times), "written": count, "needed": total},
            )  # fmt: skip
        else:
            case.rule_out("picture.blank", f"{int(np.count_nonzero(reading.glass().lit))} pixels are lit at the end")


def _anything(reading: DeviceReading, visible: np.ndarray) -> bool:
    """Whether anything lit was ever in the visible memory, or is lit without it."""
    _, addresses, values = reading.memory.journal()
    ever = bool((values[visible.reshape(-1)[addresses]] != 0).any())
    glass = reading.glass()
    return ever or bool(glass.lit.any())


def _ranges(numbers: np.ndarray) -> str:
    """0-3, 7: distinct numbers as ranges."""
    values = np.unique(numbers)
    breaks = np.flatnonzero(np.diff(values) > 1) + 1
    parts = np.split(values, breaks)
    shown = [f"{part[0]}-{part[-1]}" if len(part) > 1 else f"{part[0]}" for part in parts]
    return ", ".join(shown[:4]) + (" …" if len(shown) > 4 else "")


def beyond(reading: DeviceReading) -> list[str]:
    """What to look at when everything on the wires is right, for this panel and what it was told."""
    looks = ["the supply under load, and ground"]
    for hint in reading.part.beyond:
        value = reading.memory.register(hint.register) if hint.register else None
        fits = all(str(getattr(reading.panel, key)) == wanted for key, wanted in hint.panel.items())
        if fits and (not hint.register or (isinstance(value, int) and value < hint.below)):
            looks.append(hint.look.format(value=value))
    return looks


def all_good(case: Case) -> Iterator[Finding]:
    """Nothing wrong on the wires: what is left, for each panel. Asked only when no other rule found a fault or warning."""
    for reading in case.paged:
        glass = reading.glass()
        if not len(reading.commands) or not glass.lit.any() or not glass.shown:
            continue
        looks = beyond(reading)
        lit = int(np.count_nonzero(glass.lit))
        yield Finding(
            "picture.all-traffic-good",
            f"on '{reading.device.name}', wires, address, set-up and picture are right; the panel should show {lit} lit pixels",
            "if it stays dark, look at " + "; ".join(looks),
            device=reading.device.name,
            lines=case.names("scl", "sda"),
            start=case.seconds(case.trace.start),
            end=case.seconds(case.trace.end),
            evidence={"lit_pixels": lit, "set_up_in_the_capture": reading.started},
        )


def offsets(case: Case) -> Iterator[Finding]:
    """Pictures of the panel's size that lie beside the glass."""
    for reading in case.reading.devices:
        if not case.unfinished:
            yield from beside(reading, bool(case.assumed), case.seconds(case.trace.start), case.seconds(case.trace.end))


RULES = [memory, offsets]
