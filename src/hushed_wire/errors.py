"""Errors have one shape: what is wrong, where (file:line, key or time), and what to do about it.

The core raises them; the command line prints them in one or two lines on stderr and exits with status 2.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from difflib import get_close_matches

from .harmless import in_one_line

__all__ = ["HushedError", "located", "nearest"]


class HushedError(Exception):
    """Input that cannot be used. `what` is a clause, `where` a place in the input, `remedy` what the person can do."""

    def __init__(self, what: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.remedy = remedy

    def __str__(self) -> str:
        head = in_one_line(f"{self.where}: {self.what}" if self.where else self.what)
        remedy = "\n".join(map(in_one_line, self.remedy.split("\n")))
        return f"{head}\n  {remedy}" if self.remedy else head


@contextmanager
def located(where: str) -> Iterator[None]:
    """What goes wrong within it is at that place, where nothing nearer is known."""
    try:
        yield
    except HushedError as error:
        error.where = error.where or where
        raise


def nearest(word: str, known: Iterable[str], otherwise: str = "") -> str:
    """A remedy clause for an unknown name: the nearest valid names, or, when none is near, `otherwise` or all of them."""
    names = list(known)
    written = {name.lower(): name for name in reversed(names)}
    near = get_close_matches(word[:80].lower(), list(written), n=3, cutoff=0.5)
    if near:
        return "did you mean " + " or ".join(f"'{written[name]}'" for name in near) + "?"
    if otherwise:
        return otherwise
    shown = ", ".join(names[:12]) + (", …" if len(names) > 12 else "")
    return f"known: {shown}" if names else ""
