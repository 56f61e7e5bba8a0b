"""Words in the radix that a person asks for."""

from __future__ import annotations

from collections.abc import Callable

__all__ = ["RADIXES", "spelled"]


def _char(value: int, bits: int) -> str:
    """As a character where it is one that can be seen, else in hex, which has two digits and so cannot be mistaken for one."""
    return chr(value) if bits >= 7 and 0x21 <= value <= 0x7E else _hex(value, bits)


def _hex(value: int, bits: int) -> str:
    return f"{value:0{max(1, -(-bits // 4))}X}"


RADIXES: dict[str, Callable[[int, int], str]] = {
    "hex": _hex,
    "dec": lambda value, bits: str(value),
    "bin": lambda value, bits: f"{value:0{bits}b}",
    "char": _char,
}


def spelled(value: int, bits: int = 8, radix: str = "hex") -> str:
    """A word of so many bits. radix: a key of `RADIXES`."""
    return RADIXES[radix](value, bits)
