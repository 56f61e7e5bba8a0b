"""Text of `catalog`: the list, a part's page, a position."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby
from typing import Any

import msgspec

from ..part.command import Command, Field, wanted
from ..part.describe import Part
from ..part.find import buses, holds
from ..part.wrap import BUS_OF
from ..sequence import Target
from ..sequence.position import Position
from .pipe_console import kit_of

__all__ = ["part_list", "part_page", "part_record", "position_page"]


def part_list(out: Any, parts: list[tuple[Part, list[str]]]) -> None:
    """Parts and panels of them as a table, by what their memory holds."""
    kit = kit_of(out)
    table = kit.table()
    for head in ("part", "what it is", "buses", "ready panels"):
        table.add_column(head, overflow="fold")
    for held, group in groupby(parts, key=lambda entry: holds(entry[0])):
        table.add_row(kit.Text(held, style="head"))
        for part, panels in group:
            title = f"{part.title}; also {', '.join(part.also)}" if part.also else part.title
            table.add_row(
                kit.Text(f"  {part.name}", style="code"), title, ", ".join(buses(part.framings)), ", ".join(panels) or "-"
            )
    out.print(table)
    out.print()
    out.print("hushed-wire catalog PART shows one of them; --start prints its bring-up; --find asks by size, bus or colour.")


def _at_supplies(part: Part) -> Iterator[tuple[str, str]]:
    """What holds at some supplies alone."""
    for entry in part.at_supply:
        levels = {name: level for name, level in (("high from", entry.vih), ("low up to", entry.vil)) if level is not None}
        said = [f"{key} {value}" for key, value in {**entry.limits, **entry.waits, **levels}.items()]
        said += [f"{rule.register.replace('.', ' ')} has to be {rule.must}" for rule in entry.bring_up if rule.register]
        yield f"below {entry.below}" if entry.below else f"above {entry.above}", f"{', '.join(said)} [{entry.source}]"


def part_page(out: Any, part: Part, every: bool) -> None:
    """One part's page."""
    kit = kit_of(out)
    out.print(kit.Text().append(part.name, style="code").append(f"  {part.title}", style="head"))
    facts = kit.grid()
    facts.add_row("source", part.source)
    facts.add_row("framings", ", ".join(f"{name} ({BUS_OF[name]})" for name in part.framings))
    if part.i2c is not None:
        forms = ", ".join(f"{address:#04x} (8-bit {2 * address:#04x}, {2 * address + 1:#04x})" for address in part.i2c.addresses)
        facts.add_row("addresses", f"{forms}; {part.i2c.strap}")
    if part.opcode is not None:
        facts.add_row(
            "addresses", f"{', '.join(map(str, part.opcode.addresses))} in the opcode; {part.opcode.strap} [{part.opcode.source}]"
        )
    if part.levels is not None:
        levels = part.levels
        high, low = (level if isinstance(level, str) else f"{level:g} of the supply" for level in (levels.vih, levels.vil))
        facts.add_row("levels", f"high from {high}, low up to {low}; supply {levels.supply_least} to "
                      f"{levels.supply_most}; inputs up to {levels.above_supply} above it [{levels.source}]")  # fmt: skip
    if part.busy is not None:
        facts.add_row("busy", f"BUSY is {part.busy.active} while it takes nothing [{part.busy.source}]")
    for name, table in (("limits", part.limits), ("waits", part.waits)):
        if table:
            listed = ", ".join(f"{key} {value}" for key, value in table.items() if key != "source")
            facts.add_row(name, f"{listed} [{table.get('source', part.source)}]")
    for supply, said in _at_supplies(part):
        facts.add_row(supply, said)
    facts.add_row("panels", ", ".join(part.panels) or "none: it is a bridge")
    out.print(facts)
    for line in _memory(part):
        out.print(line, style="quiet")
    out.print()
    _commands(out, part)
    if part.bring_up:
        out.print()
        out.print(kit.Text("What has to be true when something is to be seen", style="head"))
        rules = kit.grid()
        for rule in part.bring_up:
            rules.add_row(kit.Text(rule.finding, style="code"), _rule(rule), kit.Text(f"[{rule.source}]", style="quiet"))
        out.print(rules)
    if part.panels:
        out.print()
        out.print(f"A bring-up: hushed-wire catalog {part.name} --panel {next(iter(part.panels))} --start")


def _rule(rule: Any) -> str:
    if rule.step:
        return f"{rule.step} is sent" + (f", ahead of {rule.before}" if rule.before else "")
    register = rule.register.replace(".", " ")
    if rule.framing:
        return f"{register} is " + ", ".join(f"{value} with {name}" for name, value in rule.framing.items())
    if rule.must_not is not None:
        return f"{register} is not {rule.must_not}"
    if rule.must_equal == "needs":
        return f"{register} is what the panel needs"
    if rule.must_equal:
        return f"{register} is the panel's {rule.must_equal.replace('_', ' ')}"
    on = ", ".join(f"{key} is {value}" for key, value in rule.panel.items())
    return f"{register} is {rule.must}" + (f" (where the panel's {on})" if on else "")


def _memory(part: Part) -> list[str]:
    """A drawing of the memory."""
    memory = part.memory
    if memory.kind == "paged":
        wide = f"columns 0 … {memory.columns - 1}"
        chips = f", one of up to {memory.chips + 1} beside one another" if memory.chips > 1 else ""
        return [
            "",
            f"          {wide:^26}" + chips,
            "page 0    ┌ bit 0 ┬ bit 0 ┬ … ────────┐",
            "          │   …   │   …   │           │   a byte is eight rows, bit 0 the uppermost",
            "          └ bit 7 ┴ bit 7 ┴ … ────────┘",
            f"…         to page {memory.pages - 1}" + " " * 20 + f"[{memory.source}]",
        ]
    if memory.kind == "character":
        return [
            "",
            "two lines    00h 01h … 27h  then 40h 41h … 67h, then 00h again",
            "one line     00h 01h … 4Fh, then 00h again",
            f"own glyphs   codes 0 to 7: eight rows of five bits each, CGRAM 00h to 3Fh        [{memory.source}]",
        ]
    if memory.backplanes:
        return [
            "",
            f"{memory.columns} addresses of {memory.backplanes} bits, one for each backplane; what they turn dark is the glass's wiring   [{memory.source}]",
        ]
    if memory.kind == "digit":
        return [
            "",
            f"{memory.columns} bytes: digit or row 0 to {memory.columns - 1}; what a bit lights is the panel's wiring   [{memory.source}]",
        ]
    if memory.kind == "scanned":
        return ["", f"none: what is seen is what the lines do   [{memory.source}]"]
    if memory.kind == "chain" and memory.leds is not None:
        ahead = (
            f"{memory.leds.start} zero bytes, then of each LED 111 and five bits of brightness, and"
            if memory.leds.start
            else "of each LED"
        )
        return [
            "",
            f"{ahead} {', '.join(memory.leds.order)}, a byte each; the LED nearest to the driver comes first   [{memory.source}]",
        ]
    if memory.kind == "dimmed" and memory.dimming is not None:
        (_, switches), (_, levels) = memory.dimming.switches, memory.dimming.levels
        sets = " and ".join(memory.dimming.banks)
        return [
            "",
            f"{sets}: a bit for each LED from {switches:02X}h, its brightness from {levels:02X}h, {memory.columns} LEDs a row   [{memory.source}]",
        ]
    if memory.kind == "lettered":
        return [
            "",
            f"text: {memory.columns} addresses of two letters each; pixels: {memory.rows} rows of {memory.columns // 4} words of sixteen, the leftmost on top;",
            f"behind row {memory.fold - 1} the glass goes on at the other half of the words   [{memory.source}]",
        ]
    if memory.kind == "paper":
        return [
            "",
            f"two planes of {memory.columns} columns x {memory.rows} rows, a bit a pixel: 0 is black in the first, 1 the second ink in the other;",
            f"the glass changes with a refresh, and not before: {', '.join(line.split()[0] for line in memory.area['refresh'])}   [{memory.source}]",
        ]
    if memory.kind == "pixel":
        turning = [role.replace("_", "-") for role in ("row_order", "column_order", "exchange") if role in memory.registers]
        turns = f"{', '.join(turning[:-1])} and {turning[-1]} turn" if len(turning) > 1 else "nothing turns"
        return [
            "",
            f"{memory.columns} columns x {memory.rows} rows of pixels; a window (column start … end, row start … end) fills from its corner;",
            *(
                [f"{per} pixels side by side share a column address, which is counted in pixels here;"]
                if (per := part.pixels_an_address) > 1
                else []
            ),
            f"{turns} the window's axes into memory rows and columns   [{memory.source}]",
        ]
    return []


def _commands(out: Any, part: Part) -> None:
    kit = kit_of(out)
    table = kit.table()
    table.add_column("code", no_wrap=True)
    table.add_column("command", no_wrap=True)
    table.add_column("fields", overflow="fold", ratio=3)
    table.add_column("datasheet", overflow="fold", ratio=2, style="quiet")
    for command in part.command:
        fields = "; ".join(_field(command, letter, field) for letter, field in command.fields.items())
        conditions = "; ".join(f"while {register.replace('.', ' ')} is {value}" for register, value in command.when.items())
        extra = "; ".join(
            text
            for text in (
                fields,
                conditions,
                f"takes {command.takes}" if command.takes else "",
                "data follow" if command.data else "",
            )
            if text
        )
        patterns = [command.code, *command.params]
        code = "\n".join(" ".join(patterns[k : k + 3]) for k in range(0, len(patterns), 3))
        table.add_row(code, kit.Text(command.name, style="code"), extra, f"{command.title} [{command.source}]")
    out.print(table)


def _field(command: Command, letter: str, field: Field) -> str:
    values = wanted(field, len(command.places[letter]))
    reset = f", reset {field.reset}" if field.reset is not None else ""
    unit = f" {field.unit}" if field.unit else ""
    return f"{letter} {field.name}: {values}{unit}{reset}"


def part_record(part: Part) -> dict[str, Any]:
    """The JSON of a part's page: the description itself."""
    found: dict[str, Any] = msgspec.to_builtins(part)
    return {key: value for key, value in found.items() if value not in ("", [], {}, None)}


def position_page(out: Any, target: Target, positions: list[Position]) -> None:
    """Positions in every convention."""
    kit = kit_of(out)
    first = positions[0]
    out.print(kit.Text(f"{target.part.name} {target.panel.name}, in {first.unit}", style="head"))
    for position in positions if len(positions) < 3 else [positions[0], positions[-1]]:
        out.print()
        grid = kit.grid()
        for name, text in position.conventions():
            grid.add_row(name, text)
        grid.add_row("in memory", f"{position.place}; address {position.address:#04x} ({position.address})")
        for line, raw in zip(position.go, position.raw, strict=True):
            grid.add_row("to go there", f"{raw.hex(' ').upper()}   {line}")
        out.print(grid)
    if len(positions) > 2:
        out.print()
        out.print(f"(the first and the last of {len(positions)} that this address shows)")
