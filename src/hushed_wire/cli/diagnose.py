"""What is wrong with a display, from one capture: the cause, the evidence, the next step."""

from __future__ import annotations

import argparse

from . import options

EXAMPLES = """\
examples:
  hushed-wire diagnose tide.vcd
  hushed-wire diagnose tide.vcd --rig front-desk.toml --format json
  hushed-wire diagnose scope.csv --panel 128x32 --fail-on fault

exit status: 0 nothing wrong (notes allowed), 1 a finding of the severity that --fail-on names, or graver, 2 unusable input
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser)
    options.add_rig(parser)
    options.add_text(parser, ("text", "json", "jsonl"))
    parser.add_argument("--fail-on", choices=("note", "warning", "fault", "never"), default="warning", help="default: warning")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..diagnose import diagnose
    from ..finding import SEVERITIES

    source, trace, plan = options.load_any(args)
    outcome = diagnose(trace, plan, source.waveforms if trace.volts else None)
    if args.format == "text":
        from ..view import report

        options.report(args, lambda out: report.diagnosis(out, outcome, source.path, args.verbose))
    else:
        from ..view import record
        from ..view.json_text import json_bytes

        whole = record.diagnosis(outcome)
        if args.format == "json":
            options.emit(args, json_bytes(whole))
        else:
            findings = whole.pop("findings")
            entries = [*({"record": "finding", **entry} for entry in findings), {"record": "summary", **whole}]
            options.emit(args, b"".join(json_bytes(entry, pretty=False) for entry in entries))
    worst = outcome.worst()
    if args.fail_on == "never" or worst is None:
        return 0
    return int(SEVERITIES.index(worst) >= SEVERITIES.index(args.fail_on))
