"""Bytes as people paste them: C, Python or assembler arrays with comments, bare hex, decimal; command and data marked where needed.

How a bare number is read depends on its company: beside 0x… numbers, or with commas between them, 10 is ten, as it is in source
code; where all there is are pairs of hex digits, they are hex. What was decided is said in `notes`.
"""

from __future__ import annotations

import re

import msgspec

from ..errors import HushedError
from ..part.wrap import Send

__all__ = ["Pasted", "pasted"]

LONGEST = 1 << 24
COMMENTS = re.compile(r"/\*.*?\*/|//[^\n]*|#[^\n]*|;[^\n]*(?=\n|$)", re.DOTALL)
FROM_HEX = re.compile(r"\bfromhex\(((?:\s*[\"'](?:[0-9a-fA-F]{2}|\s)*[\"'])+)\s*\)")
TOKEN = re.compile(r"\\x[0-9A-Fa-f]{2}|[A-Za-z_$%][\w.$%]*|\d\w*|\d+")


class Pasted(msgspec.Struct):
    """sends: runs of command and of data bytes, in order. decimal: positions of bytes that were written in decimal."""

    sends: list[Send] = []
    decimal: set[int] = set()
    notes: list[str] = []

    def raw(self) -> bytes:
        """All bytes."""
        return b"".join(send.raw for send in self.sends)


def pasted(text: str, where: str = "") -> Pasted:
    """Reads pasted bytes; raises HushedError naming what is no byte."""
    strings = FROM_HEX.findall(text)
    if strings:  # Python's way to write many bytes
        whole = b"".join(
            bytes.fromhex(digits) for piece in strings for digits in re.findall(r"[\"']([0-9a-fA-F\s]*)[\"']", piece)
        )
        return Pasted([Send(False, whole)]) if whole else pasted("", where)
    body = _body(text)
    tokens = TOKEN.findall(body)
    bare = _bare_hex(tokens, "," in body)
    out = Pasted()
    if bare and all(token.isdecimal() for token in bare):
        out.notes.append(
            f"read as hex, since all of it is pairs of digits: {bare[0][:2]} is 0x{bare[0][:2]}; with commas it is decimal"
        )
    _read_runs(out, tokens, bare, where)
    if not out.sends:
        raise HushedError("there are no bytes in it", where=where, remedy="like: hushed-wire explain ssd1306 AE D5 80")
    return out


def _body(text: str) -> str:
    """What may be bytes: of source code the values, without comments, labels and casts."""
    source = bool(re.search(r"[,{\[(\\]|0x|0X|\$[0-9A-Fa-f]|\bdb\b|\.byte", text))
    body = re.sub(COMMENTS, " ", text) if source or "#" in text or "//" in text else text
    if source:
        body = re.sub(r"(?m)^\s*[A-Za-z_.]\w*:", " ", body)  # labels of an assembler
    inside = re.findall(r"\{([^{}]*)\}", body) or re.findall(r"=\s*(?:bytes|bytearray)?\(?\s*\[([^\[\]]*)\]", body)
    if inside:
        body = " ".join(inside)
    elif "=" in body:
        body = body.split("=", 1)[1]
    return re.sub(r"\(\s*\w*\s*\)", " ", body)


def _bare_hex(tokens: list[str], source: bool) -> list[str]:
    """Tokens that are hex without a sign of it, where all of them are; source: only letters show it then."""
    plain = [token for token in tokens if re.fullmatch(r"[0-9A-Fa-f]+", token)]
    others = [token for token in tokens if token not in plain and token.lower() not in WORDS]
    bare = not others and all(len(token) % 2 == 0 for token in plain)
    return plain if bare and (not source or any(not token.isdecimal() for token in plain)) else []


def _read_runs(out: Pasted, tokens: list[str], bare: list[str], where: str) -> None:
    """Runs of command and data bytes. bare: tokens that are hex without a sign of it."""
    is_data, run, count = False, bytearray(), 0
    for token in tokens:
        lowered = token.lower()
        if lowered in WORDS and token not in bare:
            if lowered in ("command", "data"):
                if run:
                    out.sends.append(Send(is_data, bytes(run)))
                    run.clear()
                is_data = lowered == "data"
            continue
        values = list(bytes.fromhex(token)) if bare else [_value(token, where)]
        if not bare and token.isdecimal() and token != "0":
            out.decimal.add(count)
        run += bytes(values)
        count += len(values)
        if count > LONGEST:
            raise HushedError(f"more than {LONGEST:,} bytes", where=where, remedy="explain a part of it")
    if run:
        out.sends.append(Send(is_data, bytes(run)))


WORDS = {"command", "data", "db", ".byte", "byte", "const", "static", "b", "bytes", "uint8_t", "unsigned", "char"}


def _value(token: str, where: str) -> int:
    """One number of source code."""
    text = token.lower().rstrip("ul")
    for pattern, base in ((r"\\x([0-9a-f]{2})", 16), (r"0x([0-9a-f]+)", 16), (r"\$([0-9a-f]+)", 16), (r"0b([01]+)", 2), (r"%([01]+)", 2),
                          (r"([0-9][0-9a-f]*)h", 16), (r"([01]+)b", 2), (r"([0-9]+)", 10)):  # fmt: skip
        found = re.fullmatch(pattern, text)
        if found:
            value = int(found[1], base)
            if value > 255:
                raise HushedError(f"{token} is more than a byte", where=where, remedy="bytes run from 0 to 255 (0xFF)")
            return value
    if re.fullmatch(r"[0-9a-fA-F]{2}", token):
        remedy = f"write 0x{token.upper()}: beside numbers of other kinds a bare {token} could be anything"
    else:
        remedy = "replace names by their values; hex is written 0xAE, or as bare pairs throughout"
    raise HushedError(f"'{token}' is no number", where=where, remedy=remedy)
