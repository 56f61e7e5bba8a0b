"""What the captures of a folder have in common, said once: writes a rig and a hushed.toml, from a capture or from answers.

From then on commands in this folder, and in folders below it, need no --rig; whatever is given on the command line counts more.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..errors import HushedError, nearest
from . import captured, options
from .said import say

if TYPE_CHECKING:
    from ..rig import Rig

EXAMPLES = """\
examples:
  hushed-wire init tide.vcd             the rig as the capture tells it
  hushed-wire init tide.vcd --part sh1106
  hushed-wire init                      asks: part, bus, lines, supply
"""
RIG = "rig.toml"


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser, optional=True)
    options.add_rig(parser, kept=False)
    parser.add_argument("-q", "--quiet", action="store_true", help="say less")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..project import NAME
    from ..rig import rig_toml
    from ..written_file import replace_file

    keeps_rig = bool(args.rig)
    for name in (NAME, *(() if keeps_rig else (RIG,))):
        if Path(name).exists():
            raise HushedError("is there already", where=name, remedy="change it by hand, or remove it first; nothing was written")
    values: dict[str, str] = {"rig": args.rig or RIG}
    if keeps_rig:
        options.rig_given(args)
    elif args.capture is not None:
        args.save_rig = None  # it is kept here
        _, _, plan = captured.load_any(args)
        for text in plan.assumed.values():
            say(f"assumed: {text}")
        replace_file(RIG, [rig_toml(plan.rig).encode()])
    else:
        replace_file(RIG, [rig_toml(_asked()).encode()])
    for key in ("catalog", "rate", "threshold", "hysteresis"):
        if getattr(args, key, None) is not None:
            values[key] = str(getattr(args, key))
    replace_file(NAME, [_toml(values)])
    if not args.quiet:
        say(
            f"{'' if keeps_rig else f'{RIG} and '}{NAME} are written; hushed-wire wiring checks the rig, -v says where a value comes from"
        )
    return 0


def _toml(values: dict[str, str]) -> bytes:
    """The file, with what else can stand in it."""
    import tomli_w

    head = "# What the captures of this folder have in common; options that are given count more.\n"
    more = "# also: catalog, rate, threshold, hysteresis, link, color, fail-on\n"
    return (head + tomli_w.dumps(values) + more).encode()


def _asked() -> Rig:
    """A rig from answers on standard input."""
    from ..bus.base import BUSES, KIND_NAMES
    from ..part import catalog_names, load
    from ..part.wrap import BUS_OF
    from ..rig.check import check
    from ..rig.schema import Bus, Device, Driver, Rig

    displays = [name for name in catalog_names() if load(name).panels]
    part = load(_answer("which part (like ssd1306)?", displays))
    kinds = list(dict.fromkeys(BUS_OF[framing] for framing in part.framings))
    kind = kinds[0] if len(kinds) == 1 else _answer(f"on which bus ({', '.join(kinds)})?", kinds, kinds[0])
    assert kind in KIND_NAMES
    panel = _answer(f"which panel ({', '.join(part.panels)})?", list(part.panels), next(iter(part.panels)))
    address = None
    if BUSES[kind].addressed and part.i2c is not None:
        known = [f"{one:#04x}" for one in part.i2c.addresses]
        address = int(_answer(f"at which address ({', '.join(known)})?", known, known[0]), 0)
    lines = {}
    for role in _roles(kind, part):
        line = _answer(f"which line of the capture is {role.upper()} (- for none)?", None, role.upper())
        if line != "-":
            lines[role] = line
    supply = _answer("which supply has the driver?", None, "3.3V", _volts)
    bus = Bus("bus", kind, driver=Driver(supply=supply), lines=lines)
    rig = Rig(bus=[bus], device=[Device(part.name, "bus", part.name, address, panel=panel)])
    check(rig, RIG)
    return rig


def _roles(kind: str, part: Any) -> Sequence[str]:
    """The lines of a bus that are asked for."""
    from ..bus.base import BUSES
    from ..part.wrap import BUS_OF, WRAPS

    row = next(WRAPS[framing] for framing in part.framings if BUS_OF[framing] == kind)
    own = {*BUSES[kind].needs, *row.of, "dc", "rs", "e", "rw", "reset", "latch", "enable"} - {*row.without}
    own |= {"cs"} if BUSES[kind].transfers or "wr" in row.of else set()
    return [role for role in BUSES[kind].roles if role in own]


def _volts(text: str) -> None:
    from ..units import parse

    parse(text, "V")


def _answer(question: str, known: list[str] | None, usual: str = "", checked: Callable[[str], None] | None = None) -> str:
    """What somebody answers; asked again where it makes no sense and somebody is there to be asked."""
    while True:
        sys.stderr.write(f"{question} {f'[{usual}] ' if usual else ''}")
        sys.stderr.flush()
        line = sys.stdin.readline()
        if not line:
            raise HushedError(
                "the answers end here", where=question, remedy="answer each question in a line of its own, or name a capture"
            )
        text = line.strip() or usual
        try:
            if not text:
                raise HushedError("an answer is needed")
            if known is not None and text.lower() not in [name.lower() for name in known]:
                raise HushedError(f"'{text}' is none of them", remedy=nearest(text, known))
            if checked is not None:
                checked(text)
        except HushedError as error:
            if not sys.stdin.isatty():
                raise HushedError(error.what, where=question, remedy=error.remedy) from error
            say(str(error))
            continue
        return text if known is None else next(name for name in known if name.lower() == text.lower())
