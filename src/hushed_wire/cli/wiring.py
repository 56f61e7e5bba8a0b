"""Can this wiring work? The wire list of a rig, what to probe and at which rate, and what is wrong with it."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from . import options, output

EXAMPLES = """\
examples:
  hushed-wire wiring front-desk.toml
  hushed-wire wiring front-desk.toml --format json

exit status: 0 nothing wrong, 1 findings, 2 unusable input
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument("rig", metavar="RIG", help="rig file")
    options.add_catalog(parser)
    options.add_text(parser)
    parser.add_argument("--fail-on", choices=("note", "warning", "fault", "never"), default="warning", help="default: warning")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..diagnosis.rig import examine
    from ..grades import SEVERITIES
    from ..rig import load_rig

    rig = load_rig(args.rig, lenient=True)
    wiring = examine(rig, Path(args.rig).parent)
    if args.format == "json":
        from dataclasses import asdict

        from ..view.json_text import json_bytes
        from ..view.record import finding

        probes = [{"bus": bus, "lines": lines, "rate": rate, "trigger": trigger} for bus, lines, rate, trigger in wiring.probes]
        record = {
            "wires": [asdict(wire) for wire in wiring.wires],
            "probe": probes,
            "findings": [finding(f) for f in wiring.findings],
        }
        output.emit(args, json_bytes(record))
    else:
        output.report(args, lambda out: _report(out, wiring, rig.title or args.rig))
    worst = max((SEVERITIES.index(f.severity) for f in wiring.findings), default=-1)
    return int(args.fail_on != "never" and worst >= SEVERITIES.index(args.fail_on))


def _report(out: Any, wiring: Any, title: str) -> None:
    from rich.text import Text

    from ..units import show
    from ..view.report import one_finding
    from ..view.tables import plain_table

    out.print(Text(f"{title}: {len(wiring.wires)} wires", style="head"))
    out.print()
    table = plain_table()
    for head in ("bus", "signal", "from", "to", "level", "through"):
        table.add_column(head, overflow="fold")
    for wire in wiring.wires:
        table.add_row(wire.bus, wire.signal, wire.driver, wire.device, wire.level, wire.through)
    out.print(table)
    out.print()
    for bus, lines, rate, trigger in wiring.probes:
        where = f"bus '{bus}': {', '.join(lines)} and ground, at {show(rate, 'Hz')} or more; trigger on {trigger}"
        out.print(Text().append("probe  ", style="note").append(where))
    for finding in wiring.findings:
        out.print()
        one_finding(out, finding)
    if not wiring.findings:
        out.print()
        out.print(Text("Nothing is wrong with this wiring, as far as the rig tells.", style="good"))
