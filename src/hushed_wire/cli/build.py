"""Checks a sequence before it is sent: each step with its words, meaning and time; what is missing, too soon, or for another panel.

Exit status 1 where something is wrong with it (--fail-on moves the line).
"""

from __future__ import annotations

import argparse
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING

from ..errors import HushedError
from ..grades import SEVERITIES
from . import options, output
from .said import say

if TYPE_CHECKING:
    from ..rig import Rig
    from ..sequence import Target
    from ..sequence.examine import Examined

EXAMPLES = """\
examples:
  hushed-wire build tide.hush --rig front-desk.toml
  hushed-wire build bring-up.hush --part st7789 --panel 240x240
  hushed-wire catalog max7219 --start | hushed-wire build - --part max7219
  hushed-wire build tide.hush --rig front-desk.toml --as c -o tide.c
"""

KINDS = ("text", "json", "hex", "binary", "c", "python")


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument("sequence", metavar="SEQUENCE", help=".hush file; '-' is standard input")
    group = parser.add_argument_group("what it is for")
    group.add_argument("--rig", metavar="FILE", help="rig file")
    group.add_argument("--part", metavar="PART", help="instead of a rig: the part")
    group.add_argument("--panel", metavar="SIZE", help="its panel (default: the usual one)")
    group.add_argument("--framing", metavar="NAME", help="how it is wired, where there is a choice, like dc-line or nibbles")
    options.add_quantity(group, "--clock", "Hz", "RATE", "bus clock, for the times (default: the rig's, or a usual one)")
    options.add_catalog(group)
    parser.add_argument(
        "--as", dest="kind", choices=KINDS, default="text", help="what is made of it (default: text, the listing)"
    )
    parser.add_argument(
        "--fail-on",
        choices=(*SEVERITIES, "never"),
        default="warning",
        help="exit with 1 from this severity on (default: warning)",
    )
    options.add_text(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    import sys

    from ..sequence import expand, parse_file, parse_text
    from ..sequence.examine import examine

    rig, targets = targets_of(args)
    if args.sequence == "-":
        statements, folder = parse_text(sys.stdin.read(), "standard input", Path()), Path()
    else:
        statements, folder = parse_file(Path(args.sequence)), Path(args.sequence).parent
    steps = expand(statements, targets, folder)
    if not steps:
        raise HushedError("the sequence does nothing", where=args.sequence, remedy="write a command; see docs/sequence.md")
    clocks, states = clocks_of(args, rig, targets)
    result = examine(steps, targets, clocks, states)
    if args.kind not in ("text", "json"):
        from ..sequence.write import WRITERS

        output.emit(args, WRITERS[args.kind](result.steps, {target.name: target for target in targets}, args.sequence))
        _warn(result)
    elif "json" in (args.format, args.kind):
        from ..view.built import built_record
        from ..view.json_text import json_bytes

        output.emit(args, json_bytes(built_record(result)))
    else:
        from ..view.built import built

        output.report(args, lambda out: built(out, result, targets, args.sequence, args.quiet, args.verbose), light=True)
    worst = max((SEVERITIES.index(found.severity) for found in result.findings), default=-1)
    return int(args.fail_on != "never" and worst >= SEVERITIES.index(args.fail_on))


def targets_of(args: argparse.Namespace) -> tuple[Rig | None, list[Target]]:
    """What the sequence is for: a rig's devices, or the part that the options name."""
    if args.rig:
        for option in ("part", "panel", "framing"):
            if getattr(args, option):
                raise HushedError(f"--{option} and --rig both say what it is for", remedy="leave one of them")
        from ..rig import load_rig

        rig = load_rig(args.rig)
        return rig, [rig.target(device) for device in rig.device]
    if not args.part:
        raise HushedError("which part is it for?", remedy="give --rig FILE, or --part PART and --panel SIZE")
    from ..part import Panel, load
    from ..sequence import Target

    part = load(args.part)
    if args.framing and args.framing not in part.framings:
        raise HushedError(
            f"{part.name} has no framing '{args.framing}'", where="--framing", remedy=f"it has {', '.join(part.framings)}"
        )
    panel = part.panel(args.panel or next(iter(part.panels))) if part.panels else Panel(0, 0)
    return None, [Target(part.name, part, panel, args.framing or "")]


def clocks_of(args: argparse.Namespace, rig: Rig | None, targets: list[Target]) -> tuple[dict[str, Fraction], dict[str, int]]:
    """For each device the clock of its bus, and how many bit times of its bus one of its words costs behind bridges."""
    from ..rig.clocks import USUAL
    from ..rig.clocks import clocks_of as of_rig

    given: Fraction | None = args.clock
    if given is not None and given <= 0:
        raise HushedError("a clock has to be above zero", where="--clock", remedy="like --clock 400kHz")
    return ({target.name: given or USUAL[target.bus_kind] for target in targets}, {}) if rig is None else of_rig(rig, given)


def _warn(result: Examined) -> None:
    """What was found, beside a product that goes to a file or a pipe."""

    for found in result.findings:
        if found.severity != "note":
            say(f"{found.severity}: {found.code}: {found.summary}\n  {found.remedy}")
