"""Packed pictures as C, Python, hex, raw bytes or JSON; each says its layout in words."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from .source import c_bytes, comment, hex_rows, identifier, python_bytes

__all__ = ["PRODUCTS"]

Product = Callable[[list[bytes], tuple[int, int], str, str], bytes]


def _c(raws: list[bytes], size: tuple[int, int], words: str, title: str) -> bytes:
    """One array, of frames where there are several."""
    name, each = identifier(title, "picture"), len(raws[0])
    lines = [f"/* {comment(title)}: made by hushed-wire pack.", f" * {comment(words, 300)} */"]
    lines.append(f"const unsigned short {name}_width = {size[1]}, {name}_height = {size[0]};")
    if len(raws) == 1:
        lines += [f"const unsigned char {name}[{each}] = {{", *c_bytes(raws[0]), "};"]
    else:
        lines.append(f"const unsigned char {name}[{len(raws)}][{each}] = {{")
        for number, raw in enumerate(raws):
            rows = c_bytes(raw)
            rows[0] = rows[0].replace("    ", "    {", 1)
            rows[-1] = rows[-1].rstrip(",") + f"}},  /* frame {number} */"
            lines += rows
        lines.append("};")
    return ("\n".join(lines) + "\n").encode()


def _python(raws: list[bytes], size: tuple[int, int], words: str, title: str) -> bytes:
    name = identifier(title, "picture")
    lines = [
        f"# {comment(title)}: made by hushed-wire pack.",
        f"# {comment(words, 300)}",
        f"{name}_width, {name}_height = {size[1]}, {size[0]}",
    ]
    if len(raws) == 1:
        lines += python_bytes(name, raws[0])
    else:
        lines += [f"{name} = [", *(f'    bytes.fromhex("{raw.hex()}"),' for raw in raws), "]"]
    return ("\n".join(lines) + "\n").encode()


def _hex(raws: list[bytes], size: tuple[int, int], words: str, title: str) -> bytes:
    lines = [f"# {comment(title)}: {comment(words, 300)}"]
    for number, raw in enumerate(raws):
        if len(raws) > 1:
            lines.append(f"# frame {number}")
        lines += hex_rows(raw)
    return ("\n".join(lines) + "\n").encode()


def _binary(raws: list[bytes], size: tuple[int, int], words: str, title: str) -> bytes:
    return b"".join(raws)


def _json(raws: list[bytes], size: tuple[int, int], words: str, title: str) -> bytes:
    record = {
        "name": title,
        "width": size[1],
        "height": size[0],
        "layout": words,
        "frames": [{"bytes": list(raw)} for raw in raws],
    }
    return msgspec.json.encode(record) + b"\n"


PRODUCTS: dict[str, Product] = {"c": _c, "python": _python, "hex": _hex, "binary": _binary, "json": _json}
