"""The commands of a part as functions of a driver, for the templates."""

from __future__ import annotations

from typing import Any

from .commands import Function, function_of
from .names import identifier
from .plan import Plan, wait_behind
from .written import FEW, as_python

__all__ = ["functions"]

# Names that the templates take for themselves.
LOW = (
    "start", "show", "open", "close", "put", "mark", "run", "send", "fill", "few", "port", "begin", "byte", "stop", "clock", "shift", "bit",
    "lines", "half", "words", "latch", "outputs", "state", "rs", "upper", "dots", "page", "frame", "font", "digits", "changed", "from", "to", "ninth",
)  # fmt: skip
DRAWN = {
    "character": ("at", "character", "text", "number", "own_glyph"),
    "digits": ("put_digit", "text", "number"),
    "paged": ("clear", "pixel", "text", "flush"),
    "pages": ("row", "dots", "dots_of", "row_end", "row_page", "row_at", "row_stop", "seek", "clear", "text"),
    "colour": ("window", "colour", "box", "pixel", "text"),
}


def functions(made: Plan, every: bool, template: str) -> dict[str, Any]:
    """The commands as functions; those of parts whose registers are their display are drawn with, not called."""
    beside = {*LOW, *DRAWN.get(template, ())}
    wanted = made.part.command if every else made.used
    out = []
    if made.target.chain > 1:  # in a chain each word has no-ops beside it
        wanted = []
    for command in wanted:
        if command.data:
            continue
        found = function_of(command, beside)
        if found is not None:
            out.append(_as_function(made, found))
    return {"functions": out}


def _as_function(made: Plan, found: Function) -> dict[str, Any]:
    names = {parameter.name: parameter.name for parameter in found.parameters}
    words = [word.format(**names) for word in found.words]
    prefix = f"{identifier(made.device.name)}_{found.name}".upper()
    few = "".join(f", (uint8_t)({word})" for word in words) + ", 0" * (FEW - len(words))
    as_data = made.part.parameters == "data" and len(words) > 1
    macros = [
        {
            "values_named": [
                (f"{prefix}_{parameter.name}_{value.removeprefix('d_')}".upper(), raw) for value, raw in parameter.values
            ],
            "name": parameter.name,
        }
        for parameter in found.parameters
    ]
    types = [
        "uint8_t" if parameter.high < 256 else "uint16_t" if parameter.high < 65536 else "uint32_t"
        for parameter in found.parameters
    ]
    signature = ", ".join(f"{kind} {parameter.name}" for kind, parameter in zip(types, found.parameters, strict=True)) or "void"
    return {
        "name": found.name, "remark": found.remark, "parameters": macros, "signature": signature, "words": words, "count": len(words), "few": few,
        "python": [as_python(word) for word in words], "wait": wait_behind(found.command), "single": len(words) <= FEW and not as_data,
        "names": [parameter.name for parameter in found.parameters],
    }  # fmt: skip
