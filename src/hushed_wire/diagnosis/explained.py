"""What each code means, for `--about` and for the page of all findings."""

from __future__ import annotations

from ..errors import HushedError, nearest
from ..finding import Code, codes

__all__ = ["about", "as_page"]


def about(code: str) -> Code:
    """The explanation of a code; raises HushedError with the nearest ones."""
    if code not in codes():
        raise HushedError(f"there is no finding '{code}'", where="--about", remedy=nearest(code, codes()))
    return codes()[code]


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
        for code, entry in ((code, entry) for code, entry in codes().items() if code.startswith(f"{layer}.")):
            out += ["", f"### {code}", "", f"*{entry.severity}*: {entry.means}.", ""]
            out += [f"- **Looks like**: {entry.looks}", f"- **Why**: {entry.why}", f"- **Mend**: {entry.mend}"]
    return "\n".join(out) + "\n"
