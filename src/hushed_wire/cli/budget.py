"""What the wiring and the parts allow, before anything is built.

Frames a second at the rig's clock, at the part's limit and at dividers of a clock; LEDs that take turns; pull-ups; memory. Each number with
what it was worked out from.
"""

from __future__ import annotations

import argparse
from fractions import Fraction

from ..errors import HushedError
from . import options, output

EXAMPLES = """\
examples:
  hushed-wire budget gate-keeper.toml --source 400MHz --goal 60
  hushed-wire budget front-desk.toml --goal 30 --ram 512
  hushed-wire budget gate-signal.toml --source 12MHz --current 10mA --forward 2.0V --pin-current 20mA
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument("rig", metavar="RIG", help="rig file")
    parser.add_argument("--goal", type=_a_second, metavar="N", help="frames a second that are wanted, like 60")
    group = parser.add_argument_group("a clock that is divided")
    options.add_quantity(
        group, "--source", "Hz", "RATE", "the clock, like 400MHz: the bus clocks, and counter bits for LEDs, that it gives"
    )
    group.add_argument("--dividers", choices=("even", "powers"), default="even", help="which dividers there are (default: even)")
    group = parser.add_argument_group("LEDs without a chip")
    options.add_quantity(group, "--current", "A", "A", "of an LED while it is lit, like 10mA")
    options.add_quantity(group, "--forward", "V", "V", "of an LED, like 2.0V: its resistor follows")
    options.add_quantity(group, "--pin-current", "A", "A", "that a pin may give, like 20mA")
    options.add_quantity(group, "--chip-current", "A", "A", "that all pins together may give")
    group = parser.add_argument_group("the target's memory")
    group.add_argument("--ram", type=int, metavar="BYTES", help="RAM that there is")
    group.add_argument("--flash", type=int, metavar="BYTES", help="flash that there is")
    options.add_catalog(parser)
    options.add_text(parser)


def _a_second(text: str) -> Fraction:
    """A number, or a frequency."""
    from ..units import parse

    return parse(text if not text.replace(".", "", 1).isdecimal() else f"{text}Hz", "Hz", "--goal")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..port.budget import Asked, budget_of
    from ..rig import load_rig

    for value, option in ((args.ram, "--ram"), (args.flash, "--flash")):
        if value is not None and value < 0:
            raise HushedError(f"{value} bytes", where=option, remedy="give a number of bytes, like 2048")
    asked = Asked(
        args.source,
        args.dividers == "powers",
        args.goal,
        args.ram,
        args.flash,
        args.forward,
        args.current,
        args.pin_current,
        args.chip_current,
    )
    found = budget_of(load_rig(args.rig), asked)
    if args.format == "json":
        from ..view.budgeted import budget_record
        from ..view.json_text import json_bytes

        output.emit(args, json_bytes(budget_record(found)))
    else:
        from ..view.budgeted import budgeted

        output.report(args, lambda out: budgeted(out, found, args.rig), light=True)
    missed = any(own.reached is False for own in found.bus) or any(
        own.ram_fits is False or own.flash_fits is False for own in found.memory
    )
    return int(missed or any(lamp.over or not lamp.steady for lamp in found.leds))
