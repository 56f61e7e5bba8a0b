"""What each code means: from `codes.toml` and the table of codes, for `--about` and for the page of all findings."""

from __future__ import annotations

import tomllib
from functools import lru_cache
from pathlib import Path

import msgspec

from ..errors import HushedError, nearest
from ..finding import CODES

__all__ = ["About", "about", "as_page"]


class About(msgspec.Struct, forbid_unknown_fields=True):
    """What one finding looks like, why it happens, how to mend it."""

    looks: str
    why: str
    mend: str


@lru_cache(maxsize=1)
def _all() -> dict[str, About]:
    with (Path(__file__).parent / "codes.toml").open("rb") as file:
        return msgspec.convert(tomllib.load(file), dict[str, About])


def about(code: str) -> tuple[str, str, About]:
    """Severity, clause and explanation of a code; raises HushedError with the nearest ones."""
    if code not in CODES:
        raise HushedError(f"there is no finding '{code}'", where="--about", remedy=nearest(code, CODES))
    return (*CODES[code], _all()[code])


LAYERS = {
    "capture": "The capture itself", "rig": "The wiring plan", "wiring": "Wires", "address": "Addresses", "frame": "Frames", "timing": "Time",
    "setup": "The set-up", "picture": "The picture",
}  # fmt: skip


def as_page() -> str:
    """docs/findings.md."""
    out = [
        "# Findings",
        "",
        "Each finding has a code that names a cause. Scripts may rely on codes and severities: a *fault* is why it does not work, a *warning* "
        "may be, a *note* is",
        "nothing to mend. `hushed-wire diagnose --about CODE` says the same as this page, which is made from the same file (`make findings`).",
    ]
    for layer, title in LAYERS.items():
        out += ["", f"## {title}"]
        for code in [code for code in CODES if code.startswith(f"{layer}.")]:
            severity, clause = CODES[code]
            entry = _all()[code]
            out += ["", f"### {code}", "", f"*{severity}*: {clause}.", ""]
            out += [f"- **Looks like**: {entry.looks}", f"- **Why**: {entry.why}", f"- **Mend**: {entry.mend}"]
    return "\n".join(out) + "\n"
