"""The picture: was it written whole, is there anything in it, does it lie on the glass, and, when all is well, what is left to look at."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ...finding import Finding
from ...part.chained import ChainMemory
from ...part.paged import Memory
from ...part.paper import PaperMemory
from ...rig import DeviceReading
from ..case import STRANGE, Case, strange_share
from ..offsets import offsets
from ..rule import Rule

__all__ = ["RULES", "all_good"]


def written(case: Case) -> Iterator[Finding]:
    """Pictures that were written in part, or that show nothing, and a backlight that is never on."""
    for reading in case.devices:
        if not reading.started or case.unfinished or not len(reading) or not reading.shows:
            continue
        if isinstance(reading.memory, PaperMemory) and (late := reading.memory.unshown(reading.panel)) is not None:
            yield _unshown(case, reading, reading.memory, late)
            continue
        glass = reading.glass()
        known = glass.known
        slept = _slept_first(reading)
        count, total = int(np.count_nonzero(known)), int(known.size)
        name, (start, end) = reading.device.name, case.span
        sure = case.panel_known(reading)  # of a panel that was only assumed, another size explains as much
        if 0 < count < total and sure and not slept:
            missing = _missing(reading)
            yield case.found(
                "picture.partial", "chain" if reading.part.memory.kind == "chain" else "", device=name, start=start, end=end,
                evidence={"written": count, "needed": total, **missing}, written=f"{count:,}", needed=f"{total:,}", unit=glass.unit,
                where=f" (pages {missing['pages_missing']}, columns {missing['columns_missing']})" if missing else "",
            )  # fmt: skip
        elif count == total:
            case.rule_out("picture.partial", f"all {total:,} {glass.unit} of the glass were written")
        if glass.backlight is False and not _ever_lit(reading):
            sure_of_pin = "likely" if case.plan.assumed else "certain"  # without a rig it is only the pin that is left for it
            yield case.found(
                "setup.backlight-off", device=name, start=end, end=end, confidence=sure_of_pin, evidence={"backlight": "off"}
            )
        if slept and not count:
            continue  # it still shows what it was drawn before
        if not _ever_anything(reading) and (sure or not count):
            yield case.found(
                "picture.blank", device=name, start=start, end=end, evidence={"written": count, "needed": total},
                what="only blanks were written to the picture memory" if count else "no picture was sent at all",
                test=". To test the glass without a picture, send A5 (entire-display all-on)" if "entire-display" in reading.part.by_name else "",
            )  # fmt: skip
        else:
            case.rule_out("picture.blank", f"'{name}' has something to show")


def _unshown(case: Case, reading: DeviceReading, memory: PaperMemory, late: int) -> Finding:
    """What was written to e-paper and never refreshed."""
    part, end = reading.part, case.span[1]
    activated = any(
        command is not None and command.effect == "refresh" and own.time_of(index) > late
        for own in reading.chips
        for index, command, _ in own.listed()
    )
    return case.found(
        "picture.not-refreshed", "no-display" if activated else "", device=reading.device.name, start=case.seconds(late), end=end,
        evidence={"refreshes before": len(memory.refreshes)}, how=", ".join(line.split()[0] for line in part.memory.area["refresh"]),
    )  # fmt: skip


def _slept_first(reading: DeviceReading) -> bool:
    """Whether the first that a display is told, ahead of any set-up, is to sleep: it was drawn to before the capture, and what
    its memory still holds of that is not known."""
    part = reading.part
    if not any(command.effect == "deep-sleep" for command in part.command):
        return False
    steps = set(part.start_up)
    told = (command for chip in reading.chips for _, command, _ in chip.listed() if command is not None)
    first = next((command for command in told if command.name in steps or command.effect == "deep-sleep"), None)
    return first is not None and first.effect == "deep-sleep"


def _missing(reading: DeviceReading) -> dict[str, str]:
    """Of a paged memory the pages and columns behind the glass that were not written."""
    memory = reading.memory
    if not isinstance(memory, Memory):
        return {}
    missing = np.argwhere(memory.behind_glass(reading.panel) & ~memory.at()[1])
    return {"pages_missing": _ranges(missing[:, 0]), "columns_missing": _ranges(missing[:, 1])} if len(missing) else {}


def _ranges(numbers: NDArray[np.int64]) -> str:
    """0-3, 7: distinct numbers as ranges."""
    values = np.unique(numbers)
    breaks = np.flatnonzero(np.diff(values) > 1) + 1
    parts = np.split(values, breaks)
    shown = [f"{part[0]}-{part[-1]}" if len(part) > 1 else f"{part[0]}" for part in parts]
    return ", ".join(shown[:4]) + (" …" if len(shown) > 4 else "")


def _ever_lit(reading: DeviceReading) -> bool:
    """Whether the backlight was on at any time; switched off later it may be meant."""
    return reading.light is not None and bool((reading.light[0].edges(reading.light[1]).level == 1).any())


def _ever_anything(reading: DeviceReading) -> bool:
    """Whether anything that can be seen is on the glass, or was ever in the memory behind it."""
    memory = reading.memory
    if reading.glass().anything or not isinstance(memory, Memory):
        return reading.glass().anything
    visible = memory.behind_glass(reading.panel).reshape(-1)
    _, addresses, values = memory.journal()
    return bool((values[visible[addresses]] != 0).any())


def all_good(case: Case) -> Iterator[Finding]:
    """Nothing wrong on the wires: what is left, for each panel. Asked only when no rule found a fault or warning."""
    for reading in case.devices:
        if not reading.shows:
            continue
        glass = reading.glass()
        if not len(reading) or not glass.shown or not glass.anything or strange_share(reading.chips) > STRANGE:
            continue
        start, end = case.span
        yield case.found(
            "picture.all-traffic-good", "" if reading.started or not reading.part.start_up else "running", device=reading.device.name,
            lines=case.names(*case.bus.lines), start=start, end=end,
            confidence="likely" if case.shared.unjudged else "certain",
            evidence={"shown": glass.said, "set_up_in_the_capture": reading.started}, shown=glass.said,
            looks="; ".join(_beyond(reading)),
        )  # fmt: skip


def _beyond(reading: DeviceReading) -> list[str]:
    """What to look at when everything on the wires is right, for this panel and what it was told."""
    looks = ["the supply under load, and ground"]
    for hint in reading.part.beyond:
        value = reading.memory.register(hint.register) if hint.register else None
        fits = all(str(getattr(reading.panel, key)) == wanted for key, wanted in hint.panel.items())
        if fits and (not hint.register or (isinstance(value, int) and value < hint.below)):
            looks.append(hint.look.format(value=value))
    return looks


def beside(case: Case) -> Iterator[Finding]:
    """Pictures of the panel's size that lie beside the glass, and text one cell beside its place."""
    for reading in case.devices:
        if (
            reading.started and not case.unfinished and len(reading) and case.panel_known(reading)
        ):  # another panel explains as much
            yield from offsets(case, reading)


def beyond_chain(case: Case) -> Iterator[Finding]:
    """Updates of more LEDs than a chain has."""
    for reading in case.devices:
        memory, size = reading.memory, reading.panel.width * reading.panel.height
        if not isinstance(memory, ChainMemory) or not case.panel_known(reading):
            continue
        if memory.longest <= size:
            case.rule_out("picture.outside-panel", f"no update of '{reading.device.name}' has more than its {size} LEDs")
            continue
        start, end = case.span
        yield case.found(
            "picture.outside-panel", "chain", device=reading.device.name, start=start, end=end, confidence="likely",
            evidence={"longest update": memory.longest, "chain": size}, longest=memory.longest, size=size, beyond=memory.longest - size,
        )  # fmt: skip


RULES = [Rule("picture", written), Rule("picture", beside), Rule("picture", beyond_chain)]
