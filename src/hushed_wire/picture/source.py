"""Bytes as source code: C, Python, hex. Names and comments come from users and files, so neither may break out of what is emitted."""

from __future__ import annotations

import keyword
import re
from collections.abc import Sequence
from pathlib import Path

__all__ = ["c_bytes", "comment", "hex_rows", "identifier", "python_bytes"]

C_WORDS = {"auto", "break", "case", "char", "const", "continue", "default", "do", "double", "else", "enum", "extern", "float", "for",
           "goto", "if", "inline", "int", "long", "register", "restrict", "return", "short", "signed", "sizeof", "static", "struct",
           "switch", "typedef", "union", "unsigned", "void", "volatile", "while", "bool", "true", "false", "nullptr", "class"}  # fmt: skip


def identifier(path: str, otherwise: str) -> str:
    """An identifier of C and Python from a file's name."""
    text = re.sub(r"\W+", "_", Path(path).stem, flags=re.ASCII).strip("_").lower() or otherwise
    if text[0].isdecimal():
        text = f"{otherwise}_{text}"
    return f"{text}_" if keyword.iskeyword(text) or text in C_WORDS else text


def comment(text: str, room: int = 100) -> str:
    """Text that cannot end a comment: printable, without what closes one."""
    safe = (
        "".join(char if char.isprintable() else "?" for char in text).replace("*/", "* /").replace("/*", "/ *").replace("\\", "/")
    )
    return safe.replace("??/", "?? /")[:room]


def hex_rows(raw: bytes, wide: int = 16) -> list[str]:
    """Pairs of digits, so many bytes a line."""
    return [raw[k : k + wide].hex(" ").upper() for k in range(0, len(raw), wide)]


def c_bytes(raw: bytes, wide: int = 16, note: str = "") -> list[str]:
    """Lines of a C initialiser; the note stands behind the first."""
    rows = ["    " + " ".join(f"0x{byte:02X}," for byte in raw[k : k + wide]) for k in range(0, len(raw), wide)]
    if rows and note:
        rows[0] += f"  /* {comment(note)} */"
    return rows


def python_bytes(name: str, raw: bytes, indent: str = "    ") -> list[str]:
    """An assignment of bytes."""
    if len(raw) <= 32:
        return [f'{name} = bytes.fromhex("{raw.hex()}")']
    return [f"{name} = bytes.fromhex(", *(f'{indent}"{raw[k : k + 32].hex()}"' for k in range(0, len(raw), 32)), ")"]


def c_values(name: str, kind: str, values: Sequence[int], wide: int = 16) -> list[str]:
    """A C array of numbers."""
    rows = [", ".join(str(value) for value in values[k : k + wide]) for k in range(0, len(values), wide)]
    return [f"const {kind} {name}[{len(values)}] = {{", *(f"    {row}," for row in rows), "};"]
