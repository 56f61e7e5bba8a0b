"""The line protocol between this program and a probe on a serial port; docs/probe.md has it for those who write firmware.

A line is CRC, number, verb and arguments, in text. Both sides drop what does not check, a request is repeated under its
number until its answer comes, and a probe that sees a number again repeats its answer instead of acting twice.
"""

from __future__ import annotations

import binascii

__all__ = ["LONGEST", "pack", "unpack"]

LONGEST = 4096  # characters of a line, more is garbage


def crc(text: bytes) -> int:
    """CRC-16 with polynomial 0x1021 and start value 0 (CRC-CCITT as in binascii.crc_hqx)."""
    return binascii.crc_hqx(text, 0)


def pack(number: int, verb: str, *words: str) -> bytes:
    """A line: `5c1f 07 transfer 3d 00ae 0`."""
    text = " ".join([f"{number:02x}", verb, *words]).encode("ascii")
    return f"{crc(text):04x} ".encode() + text + b"\n"


def unpack(line: bytes) -> tuple[int, str, list[str]] | None:
    """Number, verb and words of a line; None where it does not check. The twin of `pack`."""
    line = line.strip(b"\r\n \0")
    head, _, text = line.partition(b" ")
    try:
        if len(head) != 4 or int(head, 16) != crc(text):
            return None
        number, verb, *words = text.decode("ascii").split(" ")
        return int(number, 16), verb, words
    except (ValueError, UnicodeDecodeError):
        return None
