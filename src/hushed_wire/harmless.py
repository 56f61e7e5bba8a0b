"""Texts of others (names in files, rigs and answers of probes, what was typed) as they can be shown: what a terminal would obey is escaped.

Control characters (C0, DEL, C1), separators of lines, marks and overrides of the writing direction, and halves of surrogate pairs
become `\\x1b` and `\\u202e`; a reader sees what is there, and neither the terminal nor the order of a line changes.
"""

from __future__ import annotations

import re

__all__ = ["harmless", "hazardous", "in_one_line", "no_formula"]

# Patterns are made when they are first asked for: every command loads this module, and few need them.
OBEYED = "[\x00-\x09\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]"
FORMULA = r"""(?m)(?:^|,)"?(?:[=@]|[+-](?![\d.]+(?:e[+-]?\d+)?(?:[",]|$)))"""
LONGEST = 200  # characters of a word in an error: a path fits, a file that was taken for a word does not
WIDEST = 1200  # of all that an error says


def harmless(text: str) -> str:
    """`text` with nothing in it that a terminal would obey but the ends of lines."""
    return text if text.isprintable() else re.sub(OBEYED, _escaped, text)


def in_one_line(text: str) -> str:
    """`text` for the line of an error: the ends of lines escaped, too, and what is too long to be read cut in its middle."""
    line = harmless(text).replace("\n", "\\n")
    if len(line) > LONGEST:
        line = re.sub(rf"\S{{{LONGEST},}}", lambda found: _cut(found[0], LONGEST // 2), line)
    return _cut(line, WIDEST) if len(line) > WIDEST else line


def no_formula(cell: object) -> object:
    """A cell of a table for others: text that a spreadsheet would calculate is marked as text; numbers stay."""
    if not isinstance(cell, str):
        return cell
    text = harmless(cell)
    return f"'{text}" if re.match(FORMULA, text) else text


def hazardous(table: str) -> bool:
    """Whether a cell of a CSV may be calculated or obeyed by who opens it."""
    return bool(re.search(FORMULA, table) or re.search(OBEYED, table))


def _cut(text: str, room: int) -> str:
    return f"{text[: room * 3 // 4]}…{text[-room // 4 :]}"


def _escaped(found: re.Match[str]) -> str:
    code = ord(found[0])
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"
