"""What sends mean to a part: commands with fields and notes, the state they lead to, and the sequence that says the same.

In plain Python, over the same table and the same loop as captures. `to_hush` is the way back from bytes to names.
"""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Sequence

import msgspec

from ..errors import HushedError
from ..part.describe import Part, Value
from ..part.split import DATA, TRUNCATED, UNKNOWN, Splitter
from ..part.wrap import Send

__all__ = ["Item", "as_hush", "items_of", "packed", "state_of", "to_hush"]


class Item(msgspec.Struct):
    """One command, or a run of data. name: the command's, or data, unknown, truncated. first: number of its first byte."""

    name: str
    raw: bytes
    first: int
    kind: int
    fields: dict[str, Value] = {}
    note: str = ""

    @property
    def is_command(self) -> bool:
        """A whole command of the part."""
        return self.kind >= 0


def items_of(part: Part, sends: Sequence[Send]) -> list[Item]:
    """The commands that a part makes of what it is sent."""
    raw = b"".join(send.raw for send in sends)
    runs: list[tuple[bool, int, int]] = []
    at = 0
    for send in sends:
        if not send.raw:
            continue
        if runs and runs[-1][0] == send.data and not send.data:
            runs[-1] = False, runs[-1][1], at + len(send.raw)  # parameters may come apart
        else:
            runs.append((send.data, at, at + len(send.raw)))
        at += len(send.raw)
    splitter = Splitter(part)
    splitter.feed(raw, runs)
    out = []
    known: dict[tuple[int, bytes], tuple[dict[str, Value], str]] = {}  # a driver sends the same commands over and over
    for kind, first, count in zip(splitter.kinds, splitter.firsts, splitter.counts, strict=True):
        own = raw[first : first + count]
        item = Item("data" if kind == DATA else "unknown", own, first, kind)
        if kind >= 0:
            item.name = part.command[kind].name
            if (kind, own) not in known:
                known[kind, own] = part.command[kind].decode(own)
            fields, item.note = known[kind, own]
            item.fields = {**fields}
        elif kind == UNKNOWN:
            item.note = decimal_for_hex(part, own[0]) or "no command of this part starts so"
        elif kind == TRUNCATED:
            opener = part.table()[own[0]]
            wanted = part.command[opener].length if opener >= 0 else 0
            item.name = "truncated"
            item.note = (
                f"{part.command[opener].name} has {wanted} bytes, {len(own)} came" if opener >= 0 else "its parameters never came"
            )
        else:
            item.fields = {"count": count}
        out.append(item)
    return out


def state_of(part: Part, items: Iterable[Item]) -> dict[str, Value]:
    """Every register behind the items: reset values, and what was set."""
    out = dict(part.reset)
    for item in items:
        if item.is_command:
            command = part.command[item.kind]
            if command.effect == "reset":
                out = dict(part.reset)
            out |= {f"{command.owner}.{name}": value for name, value in item.fields.items()}
    return out


def as_hush(name: str, fields: dict[str, Value]) -> str:
    """A command as the sequence language writes it; the bare value where there is one field."""
    if len(fields) == 1:
        return f"{name} {next(iter(fields.values()))}"
    return " ".join([name, *(f"{key}={shlex.quote(str(value))}" for key, value in fields.items())])


def packed(raw: bytes) -> str:
    """Bytes as `data` and `bytes` take them, runs of one value shortened."""
    out: list[str] = []
    at = 0
    while at < len(raw):
        end = at + 1
        while end < len(raw) and raw[end] == raw[at]:
            end += 1
        out += [f"{raw[at]:#04x}"] * (end - at) if end - at < 4 else [f"{raw[at]:#04x}*{end - at}"]
        at = end
    return " ".join(out)


def to_hush(part: Part, items: Sequence[Item], waits: dict[int, str] | None = None) -> list[str]:
    """The items as lines of a sequence that sends the same bytes. waits: time to rest ahead of the item of that number."""
    out: list[str] = []
    for number, item in enumerate(items):
        if waits and number in waits:
            out.append(f"wait {waits[number]}")
        if item.kind == DATA:
            ahead = items[number - 1] if number else None
            if (
                ahead is not None
                and ahead.is_command
                and part.command[ahead.kind].data
                and not (waits and number in waits)
                and _named(part, ahead)
            ):
                # Data that belong to the command ahead of them, in one transfer.
                fields = " ".join(f"{key}={value}" for key, value in ahead.fields.items())
                out[-1] = " ".join(word for word in (ahead.name, fields, packed(item.raw)) if word)
            else:
                out.append(f"data {packed(item.raw)}")
        elif _named(part, item):
            command = part.command[item.kind]
            line = (
                " ".join([item.name, *(f"{k}={v}" for k, v in item.fields.items())])
                if command.data
                else as_hush(item.name, item.fields)
            )
            out.append(line + (f"  # {item.note}" if item.note else ""))
        else:
            out += _raw_lines(part, item)
    return out


def _named(part: Part, item: Item) -> bool:
    """Whether the command, written by name, gives the same bytes again."""
    if not item.is_command:
        return False
    try:
        return part.command[item.kind].encode(item.fields) == item.raw
    except HushedError:
        return False


def _raw_lines(part: Part, item: Item) -> list[str]:
    """What has no name, as bytes."""
    note = f"  # {item.name}: {item.note}" if item.note else ""
    if part.parameters == "data" and len(item.raw) > 1:
        return [f"bytes {packed(item.raw[:1])}{note}", f"data {packed(item.raw[1:])}"]
    return [f"bytes {packed(item.raw)}{note}"]


def decimal_for_hex(part: Part, value: int) -> str:
    """What a byte that is no command would be if its decimal digits were hex; "" where that makes no sense either."""
    digits = str(value)
    if len(digits) != 2:
        return ""
    kind = part.table()[int(digits, 16)]
    return f"{value} is {value:#04x}, no command; 0x{digits} is {part.command[kind].name}: was hex meant?" if kind >= 0 else ""
