"""A machine as a part description: the TOML that `--catalog` reads, each guessed fact with what it was guessed from, and its panel.

The names of commands are those that drawing asks parts for, so that `text`, `picture` and `build` work with a draft at once.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import msgspec

from ..part import Part
from ..part.check import check
from .machine import Machine, Pointer, Window
from .talk import Step

__all__ = ["GUESS", "draft_of", "next_steps", "panel_of_machine"]

GUESS = "guessed"
MOST_PARAMETERS = 64


def draft_of(
    machine: Machine,
    framing: str,
    parameters: str,
    name: str,
    top_bit: str = "low",
    steps: Sequence[Step] = (),
    switch: tuple[int, int] | None = None,
) -> tuple[dict[str, Any], Part]:
    """The description as a table, and as a part. name: of the part. top_bit: of bytes that stand upright: low or high. steps: all that was
    said, whose codes it has to know by some name. switch: of words in halves."""
    commands, area = MAKERS[machine.kind](machine)
    commands += _others(commands, steps, framing, parameters)
    memory: dict[str, Any] = {"kind": machine.kind, "source": f"{GUESS}: {machine.because}"}
    memory |= _memory(machine, top_bit)
    if area:
        memory["area"] = area
    table: dict[str, Any] = {
        "name": name,
        "title": f"a display without a datasheet: {_said(machine)}",
        "source": "captures",
        "framings": [framing],
        "memory": memory,
        "panels": {"glass": panel_of_machine(machine)},
        "command": commands,
    }
    if parameters == "data":
        table["parameters"] = "data"
    if switch is not None:
        why = f"{GUESS}: words come by halves behind {switch[0]:X}h, and stand alone ahead of it"
        table["halves"] = {"halves": switch[0], "whole": switch[1], "source": why}
    part = msgspec.convert(table, Part)
    check(part, name)
    return table, part


def _said(machine: Machine) -> str:
    unit = {"paged": "pages", "pixel": "lines", "character": "rows", "digit": "digits"}[machine.kind]
    return f"{machine.width} digits" if machine.kind == "digit" else f"{machine.width} columns, {machine.height} {unit}"


def _memory(machine: Machine, top_bit: str) -> dict[str, Any]:
    right, bottom = machine.first_column + machine.width, machine.first_line + machine.height
    if machine.kind == "paged":
        return {"columns": right, "pages": bottom, "layout": {"stand": "upright", "first": top_bit}}
    if machine.kind == "pixel":
        colours = {"bits": 8 * machine.bytes_a_cell, "colours": "rgb"} if machine.bytes_a_cell > 1 else {"bits": 8}
        return {"columns": right, "rows": bottom, "layout": colours}
    if machine.kind == "character":
        return {"columns": 128, "rom": "A00"}
    out: dict[str, Any] = {"columns": 16, "layout": {"stand": "flat", "first": "high"}}
    if machine.decodes:
        out["code_font"] = {
            "characters": "0123456789-EHLP ", "segments": list(machine.wiring), "point": 7,
            "source": f"{GUESS}: {machine.because}; what 10 to 15 show is a guess",
        }  # fmt: skip
    return out


def panel_of_machine(machine: Machine) -> dict[str, Any]:
    """The glass, as far as memory tells."""
    if machine.kind == "character":
        return {"width": machine.width, "height": machine.height, "cells": [[at, machine.width] for at in machine.rows]}
    if machine.kind == "digit":
        places = list(range(machine.width))
        first = machine.pointers["digit"].code & 15 if machine.pointers["digit"].bits else 0
        cells = [first + place if machine.write >= 0 else place for place in (places[::-1] if machine.backwards else places)]
        return {"width": machine.width, "height": 1, "form": "digits", "cells": [cells], "segments": list(machine.wiring)}
    tall = 8 if machine.kind == "paged" else 1
    out: dict[str, Any] = {"width": machine.width, "height": machine.height * tall, "supply": "external"}
    if machine.first_column:
        out["column_offset"] = machine.first_column
    if machine.first_line:
        out["row_offset"] = machine.first_line * tall
    return out


def _others(known: list[dict[str, Any]], steps: Sequence[Step], framing: str, parameters: str) -> list[dict[str, Any]]:
    """Codes that are none of those that place data: each by its number, as nobody knows what it does."""
    longest: dict[int, int] = {}
    for step in steps:
        apart = framing in ("register-pairs", "i2c-first-byte") or parameters == "data"  # what follows a code belongs to it
        for place, code in enumerate(step.code):
            count = len(step.args) if apart and place == len(step.code) - 1 else 0
            longest[code] = max(longest.get(code, 0), count)
    taken = {code for code in range(256) if any(_opens(own["code"], code) for own in known)}
    out = []
    for code in sorted(set(longest) - taken):
        own: dict[str, Any] = {
            "name": f"code-{code:02x}",
            "title": "Nobody knows what it does",
            "code": f"{code:08b}",
            "source": f"{GUESS}: it was sent",
        }
        if framing == "i2c-first-byte":
            own["data"] = True
        elif framing == "register-pairs":
            own |= {"params": ["vvvvvvvv"], "fields": {"v": {"name": "value"}}}
        elif 0 < longest[code] <= MOST_PARAMETERS:
            own |= {
                "params": [f"vvvvvvvv*{longest[code]}"],
                "optional": longest[code],
                "fields": {"v": {"name": "values", "hex": True}},
            }
        else:
            own["title"] = "Nobody knows what it does, or whether it is a parameter of the word ahead of it"
        out.append(own)
    return out


def _opens(pattern: str, code: int) -> bool:
    return all(mark not in "01" or mark == bit for mark, bit in zip(pattern, f"{code:08b}", strict=True))


# ---- commands, by kind of memory ----

Made = tuple[list[dict[str, Any]], dict[str, list[str]]]


def _pattern(code: int, bits: int, letter: str) -> str:
    """Fixed bits, and the letter of the field below them."""
    return f"{code:08b}"[: 8 - bits] + letter * bits


def _command(
    name: str, title: str, why: str, pointer: Pointer, field: str, effect: str, taken: Iterable[int] = ()
) -> dict[str, Any]:
    """A pointer, in the code itself or as its parameter."""
    out: dict[str, Any] = {"name": name, "title": title}
    if pointer.behind >= 0:
        out |= {"code": f"{pointer.behind:08b}", "params": ["nnnnnnnn"]}
    else:
        bits = _room(pointer, taken)
        out |= {"code": _pattern(pointer.code, bits, "n")}
    return out | {"fields": {"n": {"name": field}}, "effect": effect, "source": f"{GUESS}: {why}"}


def _room(pointer: Pointer, taken: Iterable[int]) -> int:
    """Bits of a number in a code: those that moved, and more up to a half, as long as no other code lies there."""
    bits = pointer.bits
    while bits < 4 and not pointer.code >> bits & 1:
        own = range(pointer.code >> bits + 1 << bits + 1, (pointer.code >> bits + 1 << bits + 1) + (2 << bits))
        if any(code in own for code in taken):
            break
        bits += 1
    return max(bits, pointer.bits, 1)


def _counts(pointer: Pointer) -> str:
    if not pointer.sure:
        return "it stands ahead of the data and never changed"
    seen = pointer.seen
    return f"its number went from {seen[0]} to {seen[-1]} while data followed" if len(seen) > 1 else f"its number was {seen[0]}"


def _window(name: str, title: str, window: Window, effect: str) -> dict[str, Any]:
    wide = window.wide
    return {
        "name": name,
        "title": title,
        "code": f"{window.code:08b}",
        "params": ["ssssssss"] * wide + ["eeeeeeee"] * wide,
        "fields": {"s": {"name": "start"}, "e": {"name": "end"}},
        "effect": effect,
        "source": f"{GUESS}: from {window.first} to {window.last} at most, and as many data follow as that is large",
    }


def _paged(machine: Machine) -> Made:
    if machine.windows:
        commands = [
            _window("column-address", "Columns to write", machine.windows["column"], "column-window"),
            _window("page-address", "Pages to write", machine.windows["line"], "page-window"),
        ]
        area = ["column-address start={left} end={right}", "page-address start={top} end={bottom}"]
        return [*commands, *_write(machine, area, "")], {"horizontal": area}
    page, column = machine.pointers["page"], machine.pointers["column"]
    taken = [own.code for own in machine.pointers.values() if own.behind < 0]
    others = [code for code in taken if code != page.code]
    commands = [_command("page-address", "Page to write", _counts(page), page, "page", "page", others)]
    area = ["page-address {page}"]
    if "column-high" in machine.pointers:
        high = machine.pointers["column-high"]
        commands += [
            _command("column-high", "Column to write, upper half", _counts(high), high, "nibble", "column-high"),
            _command("column-low", "Column to write, lower half", _counts(column), column, "nibble", "column-low"),
        ]
        area += ["column-high {left_high}", "column-low {left_low}"]
    elif column.code >= 0:
        commands.append(_command("column", "Column to write", _counts(column), column, "column", "column"))
        area.append("column {left}")
    return commands, {"page": area}


def _write(machine: Machine, area: list[str], effect: str) -> list[dict[str, Any]]:
    """The code that data follow, where there is one."""
    if machine.write < 0:
        return []
    area.append("write-memory")
    source = f"{GUESS}: it stands ahead of all blocks of data"
    out: dict[str, Any] = {
        "name": "write-memory",
        "title": "Data follow",
        "code": f"{machine.write:08b}",
        "source": source,
        "data": True,
    }
    return [out | ({"effect": effect} if effect else {})]


def _pixel(machine: Machine) -> Made:
    area = ["column-address start={left} end={right}", "row-address start={top} end={bottom}"]
    commands = [
        _window("column-address", "Columns to write", machine.windows["column"], "column-window"),
        _window("row-address", "Rows to write", machine.windows["line"], "row-window"),
    ]
    return [*commands, *_write(machine, area, "write")], {"window": area}


def _character(machine: Machine) -> Made:
    cell = machine.pointers["cell"]
    return [_command("cell-address", "Cell to write", _counts(cell), cell, "address", "cell")], {}


def _digit(machine: Machine) -> Made:
    digit = machine.pointers["digit"]
    why = f"{GUESS}: {machine.because}"
    if machine.write >= 0:  # an address that counts up while bytes follow
        code = digit.code >> 4 << 4
        return [
            {
                "name": "display-address", "title": "Digit to write, bytes follow", "code": _pattern(code, 4, "a"), "data": True,
                "fields": {"a": {"name": "address"}}, "effect": "address", "source": why,
            }
        ], {}  # fmt: skip
    return [
        {
            "name": f"digit-{place}", "title": f"Digit {place}", "code": f"{digit.code + place:08b}", "params": ["vvvvvvvv"],
            "fields": {"v": {"name": "value"}}, "effect": "digit", "source": why,
        }
        for place in range(machine.width)
    ], {}  # fmt: skip


MAKERS = {"paged": _paged, "pixel": _pixel, "character": _character, "digit": _digit}


def next_steps(machine: Machine, known: bool) -> list[str]:
    """What to try next, for what a draft only guesses. known: it was held against a picture that was on the glass."""
    out = []
    if not known:
        out.append("a capture while you know what the glass shows, with --shown: it tells what is up, and whether lit is 1 or 0")
    if machine.kind == "paged" and any(not own.sure for own in machine.pointers.values()):
        out.append(
            "a capture in which only a part of the picture changes: the words that never moved may then turn out to be the column"
        )
    if machine.kind == "paged" and machine.first_column:
        out.append(
            f"whether the {machine.first_column} columns to the left of the picture hold anything: icons, or a narrower glass"
        )
    if machine.kind == "pixel":
        out.append("a plain red picture: it tells red from blue, and the order of bytes")
    if machine.kind == "character":
        out.append("every code from 00h to FFh, written to the cells: the letters that the display has")
    if machine.kind == "digit" and machine.tied > 1:
        out.append(f"{machine.tied} wirings fit as well: a capture with all ten digits, or --shown TEXT, leaves one")
    out.append("the words of the set-up one by one: leave one out, look, put it back")
    return out
