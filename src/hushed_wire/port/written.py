"""How bytes, numbers and calls are written in the languages that drivers are emitted in."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

from .names import remark
from .plan import Piece, Run

__all__ = ["FEW", "Arrays", "area_in_python", "as_python", "byte_lines", "byte_rows", "calls", "text_literal"]

FEW = 3  # words that a call takes as they are


@dataclass
class Arrays:
    """Constants that are sent, each once."""

    prefix: str
    known: dict[bytes, str] = field(default_factory=dict)
    told: list[dict[str, Any]] = field(default_factory=list)

    def of(self, raw: bytes, said: str) -> str:
        """The name of the constant that holds these bytes."""
        if raw not in self.known:
            name = f"{self.prefix}_bytes_{len(self.known) + 1}"
            self.known[raw] = name
            self.told.append(
                {
                    "name": name,
                    "count": len(raw),
                    "lines": byte_rows(raw),
                    "remark": said,
                    "python": byte_lines(raw),
                    "number": len(self.known),
                }
            )
        return self.known[raw]


def byte_rows(raw: bytes) -> list[str]:
    """Bytes as numbers of the C family, line by line."""
    return [", ".join(f"0x{byte:02X}" for byte in raw[k : k + 12]) + "," for k in range(0, len(raw), 12)]


def literal(raw: bytes) -> str:
    """Bytes as a literal of Python."""
    return 'b"' + "".join(f"\\x{byte:02x}" for byte in raw) + '"'


def text_literal(text: str) -> str:
    """Text as a literal of Python, in ASCII."""
    return (
        '"'
        + "".join(c if c.isascii() and c.isprintable() and c not in '"\\' else f"\\u{ord(c) & 0xFFFF:04x}" for c in text)
        + '"'
    )


def byte_lines(raw: bytes) -> list[str]:
    """Bytes as literals of Python, line by line."""
    return [literal(raw[k : k + 24]) for k in range(0, len(raw), 24)]


def as_python(expression: str) -> str:
    """An expression of the C family in Python: numbers have no suffix there."""
    return re.sub(r"\b(0x[0-9A-Fa-f]+|\d+)U\b", r"\1", expression)


def area_in_python(area: list[Any]) -> list[Any]:
    """The words of a window, or its commands with theirs."""
    return [
        (as_python(each[0]), [as_python(word) for word in each[1]]) if isinstance(each, tuple) else as_python(each)
        for each in area
    ]


def calls(piece: Piece, d: dict[str, Any], arrays: Arrays, uses: set[str]) -> dict[str, Any]:
    """A step with its calls, in the C family and in Python."""
    called: list[str] = []
    python: list[str] = []
    for mask, runs in piece.transfers:
        if piece.halves and not runs[0].data:
            uses.add("halves")
            called += [f"{d['n']}_upper(0x{byte:02X}U)" for run in runs for byte in run.raw]
            python += [f"self._upper({literal(run.raw)})" for run in runs]
            continue
        chips = f"0x{mask:02X}U, " if d["chips"] > 1 else ""
        several = f", {mask}" if d["chips"] > 1 and d["bus"] == "parallel" else ""
        if len(runs) == 1 or d["bus"] == "parallel":  # nothing holds words on a parallel bus together
            for run in runs:
                called.append(_one_run(run, d["n"], chips, arrays, piece, uses))
                python.append(f"self._send({run.data}, {_in_python(run, arrays, piece)}{several})")
            continue
        called.append(f"{d['n']}_open({chips.rstrip(', ')})")
        called += [_inside(run, d["n"], arrays, piece, uses) for run in runs]
        called.append(f"{d['n']}_close()")
        python += ["self._open()", *(f"self._run({run.data}, {_in_python(run, arrays, piece)})" for run in runs), "self._close()"]
    return {
        "said": remark(piece.said), "source": remark(piece.source), "levels": piece.levels, "calls": called, "python": python, "wait": piece.wait,
    }  # fmt: skip


def _in_python(run: Run, arrays: Arrays, piece: Piece) -> str:
    """What stands for a run's bytes in Python."""
    if len(run.raw) <= FEW:
        return literal(run.raw)
    if len(set(run.raw)) == 1:
        return f"{literal(run.raw[:1])} * {len(run.raw)}"
    return f"_BYTES_{arrays.of(run.raw, remark(piece.said)).rpartition('_')[2]}"


def _few_words(raw: bytes) -> str:
    return ", ".join([f"0x{byte:02X}U" for byte in raw] + ["0"] * (FEW - len(raw)))


def _one_run(run: Run, n: str, chips: str, arrays: Arrays, piece: Piece, uses: set[str]) -> str:
    """The call for a transfer of one run, in C."""
    data, count = str(run.data).lower(), len(run.raw)
    if count <= FEW:
        uses.add("few")
        return f"{n}_few({chips}{data}, {count}, {_few_words(run.raw)})"
    if len(set(run.raw)) == 1:
        uses.add("fill")
        return f"{n}_fill({chips}{data}, 0x{run.raw[0]:02X}U, {count}UL)"
    uses.add("send")
    return f"{n}_send({chips}{data}, {arrays.of(run.raw, remark(piece.said))}, {count}UL)"


def _inside(run: Run, n: str, arrays: Arrays, piece: Piece, uses: set[str]) -> str:
    """The call for a run within a transfer, in C."""
    data, count = str(run.data).lower(), len(run.raw)
    if count <= FEW:
        uses.add("words")
        return f"{n}_words({data}, {count}, {_few_words(run.raw)})"
    uses.add("run")
    return f"{n}_run({data}, {arrays.of(run.raw, remark(piece.said))}, {count}UL)"
