"""A checked sequence as something else: hex, binary, a C array, Python bytes. Names are made safe; waits stay visible."""

from __future__ import annotations

from collections.abc import Callable

from ..part.wrap import WRAPS
from ..picture.source import comment, identifier
from .target import Target
from .timed import Timed

__all__ = ["WRITERS"]

Writer = Callable[[list[Timed], dict[str, Target], str], bytes]


def _name(path: str) -> str:
    return identifier(path, "sequence")


def _runs(steps: list[Timed], targets: dict[str, Target]) -> list[tuple[str, bytes, str]]:
    """(kind, bytes, comment) of each send, rest and line: kind is command, data, wait or line."""
    out: list[tuple[str, bytes, str]] = []
    for entry in steps:
        step = entry.step
        for role, level in step.levels:
            out.append(("line", b"", f"{role} {'high' if level else 'low'}"))
        target = targets[step.device]
        if WRAPS[target.framing].chains:  # each word is latched by itself, with those for the others of its chain
            loads = [raw for transfer in target.transfers(step.sends) for _, raw in transfer.pieces]
            out += [("command", raw, step.text if number == 0 else "") for number, raw in enumerate(loads)]
        for number, send in enumerate(step.sends if not WRAPS[target.framing].chains else ()):
            out.append(("data" if send.data else "command", send.raw, step.text if number == 0 else ""))
        if step.wait:
            out.append(("wait", b"", f"{float(step.wait) * 1e3:g}ms"))
    return out


def hex_text(steps: list[Timed], targets: dict[str, Target], path: str) -> bytes:
    """Hex, one send a line, marked command or data where the interface tells them apart; rests as comments."""
    marked = any(WRAPS[target.framing].marked for target in targets.values())
    lines = []
    for kind, raw, text in _runs(steps, targets):
        if kind in ("wait", "line"):
            lines.append(f"# {kind} {text}")
        else:
            lines.append(f"{kind} {raw.hex(' ').upper()}" if marked else raw.hex(" ").upper())
    return ("\n".join(lines) + "\n").encode()


def binary(steps: list[Timed], targets: dict[str, Target], path: str) -> bytes:
    """All bytes, command and data alike, without rests."""
    return b"".join(raw for _, raw, _ in _runs(steps, targets))


def c_source(steps: list[Timed], targets: dict[str, Target], path: str) -> bytes:
    """One record a send: kind (0 command, 1 data, 2 wait in ms, 3 line low, 4 line high), length as two bytes, then the bytes."""
    name = _name(path)
    lines = [
        f"/* {comment(path)}: made by hushed-wire build.",
        " * Records: kind, length (high byte, low byte), bytes. Kinds: 0 commands, 1 data, 2 wait (4 bytes: microseconds, high",
        " * byte first), 3 and 4: the reset line (or another one, named beside it) goes low, high. */",
        f"const unsigned char {name}[] = {{",
    ]
    total = 0
    for kind, raw, text in _runs(steps, targets):
        if kind == "wait":
            micro = min(int(float(text.removesuffix("ms")) * 1000 + 0.999), 0xFFFFFFFF)
            records = [(2, micro.to_bytes(4, "big"))]
        elif kind == "line":
            records = [(4 if text.endswith("high") else 3, b"")]
        else:
            records = [(int(kind == "data"), raw[k : k + 0xFFFF]) for k in range(0, len(raw), 0xFFFF)]
        for number, payload in records:
            body = bytes([number, len(payload) >> 8, len(payload) & 0xFF]) + payload
            total += len(body)
            rows = [body[k : k + 16] for k in range(0, len(body), 16)]
            note = f"  /* {comment(text if kind not in ('wait', 'line') else f'{kind} {text}')} */" if text else ""
            for at, row in enumerate(rows):
                lines.append("    " + " ".join(f"0x{byte:02X}," for byte in row) + (note if at == 0 else ""))
    lines += ["};", f"const unsigned long {name}_size = {total}UL;"]
    return ("\n".join(lines) + "\n").encode()


def python_source(steps: list[Timed], targets: dict[str, Target], path: str) -> bytes:
    """A list of (kind, value): bytes of command and data, seconds of wait, (role, high) of a line."""
    lines = [
        f"# {comment(path)}: made by hushed-wire build. Kinds: command, data (bytes), wait (seconds), line (role, high).",
        f"{_name(path)} = [",
    ]
    for kind, raw, text in _runs(steps, targets):
        if kind == "wait":
            lines.append(f'    ("wait", {float(text.removesuffix("ms")) / 1e3!r}),')
        elif kind == "line":
            role, level = text.split()
            lines.append(f'    ("line", ({role!r}, {level == "high"})),')
        else:
            lines.append(f'    ("{kind}", bytes.fromhex("{raw.hex()}")),' + (f"  # {comment(text)}" if text else ""))
    return ("\n".join([*lines, "]"]) + "\n").encode()


WRITERS: dict[str, Writer] = {"hex": hex_text, "binary": binary, "c": c_source, "python": python_source}
