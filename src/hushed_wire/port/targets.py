"""What drivers are emitted for: a row of a table each, and a folder of templates. Nothing else asks which target it is."""

from __future__ import annotations

import tomllib
from fractions import Fraction
from functools import lru_cache
from pathlib import Path

import msgspec

from ..errors import HushedError, nearest
from ..units import parse

__all__ = ["Target", "target_named", "every_target"]

FOLDER = Path(__file__).parent / "templates"


class Target(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """name: on the command line. title: in a list. family: the folder of its templates. port: the template of what moves its pins, "" where the
    driver does. pin: what one of its pins looks like, as a pattern, and `pin_example` an example; "" where pins have numbers of no meaning
    here. hardware: kinds of bus that it has a peripheral for. usual: "pins" or "hardware". compile: how its source is compiled. size: what
    tells how large that is. cpu: its usual clock, where waits are counted out in its cycles. watches: its port has a timer and a serial port
    that can be asked whether it is busy, so that a probe can watch lines.
    """

    name: str
    title: str
    family: str
    port: str
    usual: str
    hardware: list[str] = []
    pin: str = ""
    pin_example: str = ""
    compile: str = ""
    size: str = ""
    cpu: str = ""
    watches: bool = False

    def hertz(self, cpu: Fraction | None) -> int:
        """The clock that waits are counted in: the one that is given, else its usual one; 0 where none is counted."""
        return int(cpu or (parse(self.cpu, "Hz") if self.cpu else 0))


@lru_cache(maxsize=1)
def every_target() -> dict[str, Target]:
    """All rows, by name."""
    rows = tomllib.loads((FOLDER / "targets.toml").read_text(encoding="utf-8"))
    return {name: msgspec.convert(row | {"name": name}, Target) for name, row in rows.items()}


def target_named(name: str) -> Target:
    """A row; raises HushedError with those there are."""
    if name not in every_target():
        raise HushedError(
            f"there is no target '{name}'",
            where="--for",
            remedy=nearest(name, list(every_target())) + f"; there are {', '.join(every_target())}",
        )
    return every_target()[name]
