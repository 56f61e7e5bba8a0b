"""Text of `explain`: bytes, what they mean, and the state that they lead to."""

from __future__ import annotations

from typing import Any

from ..part.describe import Part, Value
from ..sequence.listing import Item, as_hush
from .pipe_console import kit_of

__all__ = ["explained"]

SHOWN = 8


def explained(
    out: Any, part: Part, items: list[Item], notes: list[str], state: dict[str, Value] | None, every: bool = False
) -> None:
    """Prints the commands as a table, and the registers."""
    kit = kit_of(out)
    for note in notes:
        out.print(kit.Text().append("note  ", style="note").append(note))
    table = kit.table()
    table.add_column("bytes", no_wrap=True)
    table.add_column("meaning", overflow="fold")
    table.add_column("datasheet", overflow="fold", style="quiet")
    for item in items:
        raw = " ".join(f"{byte:02X}" for byte in item.raw[:SHOWN]) + (
            f" … {len(item.raw):,} in all" if len(item.raw) > SHOWN else ""
        )
        if item.is_command:
            command = part.command[item.kind]
            meaning = kit.Text(as_hush(item.name, item.fields))
            source = f"{command.title} ({command.source})"
        elif item.name == "data":
            meaning, source = kit.Text(f"{len(item.raw):,} bytes of data" if len(item.raw) > 1 else "a byte of data"), ""
        else:
            meaning, source = kit.Text(item.name, style="fault"), ""
        if item.note:
            meaning.append(f"\n{item.note}", style="warning")
        table.add_row(raw, meaning, source)
    out.print(table)
    if state is None:
        return
    out.print()
    registers = kit.table()
    for head in ("register", "value", "after a reset"):
        registers.add_column(head)
    for register, value in sorted(state.items()):
        reset = part.reset.get(register)
        changed = str(value) != str(reset)
        if changed or every or len(state) < 60:
            registers.add_row(
                register.replace(".", " "),
                kit.Text(str(value), style="head" if changed else ""),
                "-" if reset is None else str(reset),
            )
    out.print(registers)
