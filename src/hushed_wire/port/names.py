"""Names and remarks of others made safe for source code: identifiers that no compiler objects to, comments that end where they should."""

from __future__ import annotations

import re
import unicodedata

__all__ = ["identifier", "remark"]

# Words of C99, of C compilers for small controllers, of Python and Verilog, and what the standard headers take for themselves.
TAKEN = {
    "and", "as", "asm", "assert", "async", "auto", "avr", "await", "bit", "bool", "break", "case", "char", "class", "code",
    "const", "continue", "data", "def", "default", "del", "do", "double", "elif", "else", "enum", "errno", "except", "extern", "false",
    "finally", "float", "for", "free", "from", "global", "goto", "idata", "if", "import", "in", "inline",
    "int", "interrupt", "is", "lambda", "linux", "long", "main", "malloc", "memcpy", "memset", "none", "nonlocal",
    "not", "null", "or", "pass", "pdata", "printf", "raise", "register", "restrict", "return", "sbit", "sdcc", "sfr",
    "short", "signed", "sizeof", "static", "stderr", "stdin", "stdout", "struct", "switch", "true", "try", "typedef", "union", "unix", "unsigned",
    "using", "void", "volatile", "while", "with", "xdata", "yield",
    # Headers and modules that a file of that name would stand before.
    "complex", "ctype", "fenv", "inttypes", "iso646", "limits", "locale", "machine", "math", "setjmp", "signal", "stdarg", "stdbool", "stddef",
    "stdint", "stdio", "stdlib", "string", "tgmath", "time", "wchar", "wctype",
}  # fmt: skip
LONGEST = 31  # characters that C99 tells external names apart by


def identifier(name: str, beside: set[str] | None = None) -> str:
    """A name in lower case that may stand in any of the languages; unlike all of `beside`, to which it is added."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    plain = re.sub(r"[^a-z0-9]+", "_", plain).strip("_") or "display"
    plain = f"d_{plain}" if plain[0].isdigit() or plain in TAKEN else plain
    plain = plain[:LONGEST].rstrip("_")
    out, number = plain, 1
    while beside is not None and out in beside:
        number += 1
        out = f"{plain[: LONGEST - len(str(number)) - 1]}_{number}"
    if beside is not None:
        beside.add(out)
    return out


def remark(text: str) -> str:
    """A text as one line of a comment, in ASCII: no end of it, no line continued, no trigraph."""
    plain = unicodedata.normalize("NFKD", text).encode("ascii", "replace").decode()
    plain = re.sub(r"[\0-\x1f\x7f]+", " ", plain).replace("*/", "* /").replace("/*", "/ *").replace('"""', "'''")
    plain = re.sub(r"\?(?=\?)", "? ", plain)
    return plain.rstrip("\\ ")[:160]
