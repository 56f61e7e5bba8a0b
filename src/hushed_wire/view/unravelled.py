"""Text and JSON of `unravel`: in the order in which somebody works who has a display and no datasheet."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from ..bus.base import BUSES
from ..part.glass import ColourGlass, PixelGlass, TextGlass
from ..units import counted, show_time
from ..unravel.blocks import Habits, Told
from ..unravel.found import DEVICE, Picture, Unravelled, sureness
from ..unravel.pins import Pin
from ..unravel.wiring import Wiring
from .tables import plain_table

__all__ = ["record", "unravelled"]

SHOWN = 16  # lines of a set-up
FEW = 5  # changes of a relative that are told
LINE = "a line tells data from commands"
FRAMINGS = {
    "dc-line": LINE,
    "rs-line": LINE,
    "nibbles": f"{LINE}; words come by halves",
    "nine-bit": "the first of nine bits tells data from commands",
    "i2c-control-byte": "a control byte tells data from commands",
    "i2c-first-byte": "the first byte says what the others are",
    "register-pairs": "words of register and value",
}


def unravelled(out: Console, found: Unravelled, pins: list[Pin], quiet: bool, files: list[str]) -> None:
    """Prints it. pins: by a meter. files: that were written."""
    _lines(out, found.pins, pins)
    out.print()
    _bus(out, found, quiet)
    out.print()
    _set_up(out, found, quiet)
    out.print()
    _pictures(out, found, quiet)
    if found.relatives:
        out.print()
        _relatives(out, found)
    for note in found.notes:
        out.print(Text("note  ", style="note").append(note, style="default"))
    if found.next and not quiet:
        out.print()
        out.print(Text("to try next", style="head"))
        for step in found.next:
            out.print(Text().append("  - ", style="next").append(step))
    if files:
        out.print()
        out.print(Text(f"written: {', '.join(files)}", style="quiet"))


def _lines(out: Console, found: list[Pin], metered: list[Pin]) -> None:
    for title, own in (("line", found), ("pin", metered)):
        if not own:
            continue
        if title == "pin":
            out.print()
        table = plain_table()
        for head in (title, "is", "sure", "because"):
            table.add_column(head, no_wrap=head in (title, "sure"), overflow="fold")
        for pin in own:
            table.add_row(pin.name, pin.role.upper() if pin.role.isalnum() else pin.role or "?", pin.sure, pin.because)
        out.print(table)


def _bus(out: Console, found: Unravelled, quiet: bool) -> None:
    bus, talk = found.wiring.bus, found.talks[0]
    said = BUSES[bus.kind].title + (f" in mode {bus.mode}" if bus.kind == "spi" else "")
    if talk.address is not None:
        said += f", a display at {talk.address:#04x}"
    how = FRAMINGS[talk.framing]
    out.print(
        Text("bus  ", style="head").append(f"{said}; {how}", style="default").append(f"  {sureness(found.sense)}", style="quiet")
    )
    if not found.others or quiet:
        return
    for wiring, score in found.others[:3]:
        roles = ", ".join(f"{role.upper()} '{line}'" for role, line in wiring.bus.lines.items())
        words = f"  rather not {wiring.bus.kind}: {roles} ({score / 2:.0%}); what tells them apart: {wiring.against}"
        out.print(Text(words, style="quiet"))


def _set_up(out: Console, found: Unravelled, quiet: bool) -> None:
    count, captures = len(found.set_up_words), len(found.paths)
    if not count:
        out.print(
            Text("set-up  ", style="head").append(
                "none: pictures come at once, so the capture begins on a running display", style="default"
            )
        )
        return
    if found.machine is None:
        text = f"{counted(count, 'word')}, and nothing tells where a set-up ends and pictures begin"
        out.print(Text("words  ", style="head").append(text, style="default"))
        return
    same = ""
    if captures > 1:
        every = "both" if captures == 2 else f"all {captures}"
        same = f", the same in {every} captures" if found.same_set_up else ", not the same in every capture"
    out.print(
        Text("set-up  ", style="head").append(f"{counted(count, 'word')} ahead of the first picture{same}", style="default")
    )
    for line in found.set_up[: None if not quiet and len(found.set_up) <= SHOWN else SHOWN]:
        out.print(f"  {line}", highlight=False, markup=False)
    if len(found.set_up) > SHOWN:
        out.print(Text(f"  {len(found.set_up) - SHOWN} more lines", style="quiet"))


def _pictures(out: Console, found: Unravelled, quiet: bool) -> None:
    if found.machine is None:
        out.print(Text("pictures  ", style="head").append(_untold(found.told), style="default"))
        return
    out.print(Text("pictures  ", style="head").append(found.machine.because, style="default"))
    if found.habits is not None:
        out.print(Text(f"          {_habits(found.habits)}", style="quiet"))
    if found.layouts:
        table = plain_table()
        for head in ("layout", "pixels", "order"):
            table.add_column(head, justify="right" if head == "order" else "left")
        for guess in found.layouts:
            table.add_row(guess.layout, f"{guess.width}x{guess.height}", f"{guess.score:.0%}")
        out.print(table)
    if found.part is None or quiet:
        return
    for picture in found.pictures[:1]:
        out.print(
            Text(
                f"at the end of {picture.capture}, {show_time(picture.seconds)}"
                + ("" if picture.whole else ", as far as it was written"),
                style="quiet",
            )
        )
        _glass(out, found, picture)


def _habits(habits: Habits) -> str:
    text = f"{counted(habits.blocks, 'block')} of data, {habits.again or 'none'} of them sent again as they were"
    if not habits.between:
        return f"{text}; nothing else between them"
    words = ", ".join(
        f"{code:02X}h" + (f" ({count} times)" if count > 1 else "") for code, count in list(habits.between.items())[:6]
    )
    return f"{text}; between them {words}" + (" and more" if len(habits.between) > 6 else "")


def _glass(out: Console, found: Unravelled, picture: Picture) -> None:
    from .glass import draw, draw_colour, draw_text

    assert found.part is not None
    panel = found.part.panel(DEVICE)
    if isinstance(picture.glass, TextGlass):
        draw_text(out, picture.glass, panel)
    elif isinstance(picture.glass, ColourGlass):
        draw_colour(out, picture.glass, panel)
    elif isinstance(picture.glass, PixelGlass):
        draw(out, picture.glass, panel)


def _untold(told: Told) -> str:
    if not told.blocks:
        return "no data came that could be one"
    came = f"{counted(len(told.blocks), 'block')} of data came, but no word steps with them, and no window spans them"
    return f"{came}: capture a whole picture, and parts of it that change"


def _relatives(out: Console, found: Unravelled) -> None:
    table: Table = plain_table()
    for head in ("relative", "near", "but"):
        table.add_column(head, no_wrap=head != "but", overflow="fold", justify="right" if head == "near" else "left")
    for own in found.relatives[:4]:
        more = f"; {len(own.changes) - FEW} more" if len(own.changes) > FEW else ""
        table.add_row(
            own.part, f"{own.score:.0%}", "; ".join(own.changes[:FEW]) + more if own.changes else "nothing: it may be this one"
        )
    out.print(table)


def record(found: Unravelled, pins: list[Pin]) -> dict[str, Any]:
    """As JSON."""
    bus, talk = found.wiring.bus, found.talks[0]
    return {
        "lines": [{"name": pin.name, "role": pin.role or None, "confidence": pin.sure, "because": pin.because} for pin in found.pins],
        "pins": [{"name": pin.name, "role": pin.role or None, "confidence": pin.sure, "because": pin.because} for pin in pins],
        "bus": {
            "kind": bus.kind, "lines": dict(bus.lines), "mode": bus.mode if bus.kind == "spi" else None, "address": talk.address,
            "framing": talk.framing, "parameters": found.told.parameters, "score": round(found.sense, 3),
            "others": [_other(*own) for own in found.others],
        },
        "relatives": [{"part": own.part, "score": own.score, "changes": list(own.changes)} for own in found.relatives],
        "layouts": [{"layout": own.layout, "size": f"{own.width}x{own.height}", "score": own.score} for own in found.layouts],
        "set_up": found.set_up,
        "set_up_same": found.same_set_up,
        "pictures": [_picture(own) for own in found.pictures],
        "habits": None if found.habits is None else {
            "blocks": found.habits.blocks, "again": found.habits.again, "between": [[code, count] for code, count in found.habits.between.items()],
        },
        "notes": found.notes,
        "next": found.next,
    }  # fmt: skip


def _other(own: Wiring, score: float) -> dict[str, Any]:
    return {"kind": own.bus.kind, "lines": dict(own.bus.lines), "score": round(score / 2, 3), "told_apart_by": own.against}


def _picture(own: Picture) -> dict[str, Any]:
    out: dict[str, Any] = {"capture": own.capture, "time": own.seconds, "whole": own.whole}
    if isinstance(own.glass, TextGlass):
        return out | {"kind": "text", "lines": own.glass.lines}
    high, wide = own.glass.pattern.shape[:2]
    rows = None
    if isinstance(own.glass, PixelGlass):
        rows = ["".join(".#"[int(dot)] for dot in row) for row in own.glass.lit.tolist()]
    return out | {"kind": "pixels", "width": wide, "height": high, "rows": rows}
