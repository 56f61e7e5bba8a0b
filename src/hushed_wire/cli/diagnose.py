"""What is wrong with a display, from one capture: the cause, the evidence, the next step."""

from __future__ import annotations

import argparse
from typing import Any

from ..errors import HushedError, located
from ..grades import SYMPTOMS
from . import captured, options, output

EXAMPLES = """\
examples:
  hushed-wire diagnose tide.vcd
  hushed-wire diagnose tide.vcd --rig front-desk.toml --picture fault.png
  hushed-wire diagnose tide.vcd --rig front-desk.toml --margins         the times as measured, even when all is good
  hushed-wire diagnose --seen blank --rig front-desk.toml               what may be behind it, with or without a capture
  hushed-wire diagnose --about wiring.swapped-lines
  hushed-wire diagnose tide.vcd --report fault.html                     one page: verdict, evidence, waves to zoom, the picture
  hushed-wire diagnose scope.csv --fail-on fault --format junit -o display.xml

exit status: 0 nothing wrong (notes allowed), 1 a finding as grave as --fail-on says, 2 unusable input, or a display that was not judged
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser, optional=True)
    options.add_rig(parser)
    options.add_text(parser, ("text", "json", "jsonl", "junit"))
    parser.add_argument("--fail-on", choices=("note", "warning", "fault", "never"), default="warning", help="default: warning")
    parser.add_argument(
        "--seen", choices=SYMPTOMS, help="what you see on the glass: ranks the causes that fit it and the capture"
    )
    parser.add_argument("--margins", action="store_true", help="times that are limited, required and measured")
    parser.add_argument("--all", action="store_true", help="also what was explained away, and scores")
    parser.add_argument("--picture", metavar="FILE", help="a figure of the first finding (.png .svg .pdf)")
    parser.add_argument("--report", metavar="FILE", help="all of it as one page for a browser (.html)")
    parser.add_argument("--watch", action="store_true", help="look again whenever it, or one in that folder, is written")
    about = parser.add_argument(
        "--about", metavar="CODE", help="what a code means: what it looks like, why it happens, how to mend it"
    )
    options.completes(about, _codes)


def _page(args: argparse.Namespace, source: Any, outcome: Any) -> None:
    """--report."""
    import shlex

    from ..view.report_page import page
    from ..written_file import replace_file

    command = " ".join(map(shlex.quote, ["hushed-wire", *args.typed]))
    replace_file(args.report, [page(outcome, source.path, command, source.waveforms)])


def _can_be_drawn(args: argparse.Namespace) -> None:
    """Raises HushedError where --picture and --report cannot be made, before a long capture is read for them."""
    if args.picture:
        captured.figure_kind(args.picture)
    if args.report:
        if not args.report.lower().endswith((".html", ".htm")):
            raise HushedError("a report is a page for a browser", where=args.report, remedy="end its name in .html")
        from ..view.figure import ready

        ready()


def _codes() -> list[str]:
    from ..finding import codes

    return list(codes())


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    if args.about:
        return _about(args)
    if args.capture is None:
        if args.seen and args.rig:
            return _from_rig(args)
        remedy = (
            "or say --seen with a --rig, or --about CODE" if not args.seen else "or add --rig FILE, to rank by the panel alone"
        )
        raise HushedError("no capture was named", remedy=f"name a VCD, CSV or NPZ file, {remedy}")
    if args.watch:
        from . import watch

        return watch.run(args, _once)
    return _once(args)


def _once(args: argparse.Namespace) -> int:
    """One capture, once."""
    _can_be_drawn(args)
    try:
        source, outcome = _outcome(args)
    except HushedError as error:
        if args.format == "junit":  # whoever runs tests wants to see which one it was
            from ..view.junit import unusable

            output.emit(args, unusable(args.capture, f"{error.what}; {error.remedy}"))
        raise
    if not outcome.cases:
        _told(args, source.path, outcome, {})
        return _status(args, outcome)
    extra: dict[str, Any] = {}
    if args.seen:
        from ..diagnosis.symptoms import ranked

        extra["seen"] = (args.seen, ranked(args.seen, outcome.reading.rig, outcome.findings))
    if args.margins:
        extra["margins"] = outcome.margins()
    if args.all:
        extra["scores"] = _scores(outcome)
    if args.picture:
        _picture(args, source, outcome)
    if args.report:
        _page(args, source, outcome)
    _told(args, source.path, outcome, extra)
    return _status(args, outcome)


def _status(args: argparse.Namespace, outcome: Any) -> int:
    """0, 1 for findings as grave as --fail-on says, 2 where a display was not judged at all: that is no "all good"."""
    from ..grades import NOT_JUDGED, SEVERITIES

    worst = outcome.worst()
    if args.fail_on == "never":
        return 0
    if worst is not None and SEVERITIES.index(worst) >= SEVERITIES.index(args.fail_on):
        return 1
    return 2 if outcome.judgement == NOT_JUDGED else 0


def _outcome(args: argparse.Namespace) -> tuple[Any, Any]:
    """The capture and what is wrong with it."""
    from ..diagnosis import judge, nothing_known
    from ..rig.assumption import NoBusFound

    with located(args.capture):
        try:
            source, gathered, plan = captured.gathered(args)
        except NoBusFound as error:
            if args.capture == "-" or not _reads_alone(args):
                raise
            source = captured.open_source(args, again=True)
            return source, nothing_known(source.read(source.blocks()), error.what)
        return source, judge(gathered, plan)


def _reads_alone(args: argparse.Namespace) -> bool:
    """Whether nobody said what is in the capture, nor wants anything that shows what it says."""
    said = (args.rig, args.bus, args.line, args.part, args.picture, args.report, args.seen, args.save_rig)
    return not any(said)


def _told(args: argparse.Namespace, path: str, outcome: Any, extra: dict[str, Any]) -> None:
    """The outcome in the format that is wanted."""
    if args.format == "text":
        from ..view import report

        def write(out: Any) -> None:
            report.diagnosis(out, outcome, path, args.verbose or args.all)
            if "scores" in extra:
                report.scores(out, extra["scores"])
            if "seen" in extra:
                report.seen(out, *extra["seen"])
            if "margins" in extra:
                report.margins(out, extra["margins"])

        output.report(args, write)
        return
    if args.format == "junit":
        from ..view.junit import junit

        output.emit(args, junit(outcome, path, args.fail_on))
        return
    from ..view import record
    from ..view.json_text import json_bytes

    whole = record.diagnosis(outcome)
    if args.all:
        whole["explained_away"] = [record.finding(finding) for finding in outcome.hidden]
        whole["scores"] = extra["scores"]
    if "seen" in extra:
        whole["seen"] = record.symptom(*extra["seen"])
    if "margins" in extra:
        whole["margins"] = [record.margin(entry) for entry in extra["margins"]]
    if args.format == "json":
        output.emit(args, json_bytes(whole))
    else:
        findings = whole.pop("findings")
        entries = [*({"record": "finding", **entry} for entry in findings), {"record": "summary", **whole}]
        output.emit(args, b"".join(json_bytes(entry, pretty=False) for entry in entries))


def _scores(outcome: Any) -> dict[str, float]:
    """How much sense each device's commands make, from 0 to 1."""
    from ..diagnosis.case import sense

    return {reading.device.name: round(sense(reading.part, reading.chips), 3) for reading in outcome.reading.devices}


def _picture(args: argparse.Namespace, source: Any, outcome: Any) -> None:
    """The figure of the first finding's place."""
    from ..view.figure import plot
    from ..view.scene import focus_of, scene_of, spans_of

    kind = captured.figure_kind(args.picture)
    scene = scene_of(outcome.reading)
    scene.spans = spans_of(outcome.findings)
    first = next((found for found in outcome.findings if found.severity != "note"), None)
    if first is not None:
        scene.legend = f"{first.code}: {first.summary}"
    from ..written_file import replace_file

    focus = focus_of(scene, outcome.findings)
    scene.changes = outcome.again
    replace_file(args.picture, [plot(scene, source.path, focus, source.waveforms, kind)])


def _about(args: argparse.Namespace) -> int:
    """--about CODE."""
    from ..diagnosis.explained import about

    entry = about(args.about)
    if args.format in ("json", "jsonl"):
        from ..view.json_text import json_bytes

        record = {
            "code": args.about,
            "severity": entry.severity,
            "means": entry.means,
            "looks": entry.looks,
            "why": entry.why,
            "mend": entry.mend,
        }
        output.emit(args, json_bytes(record, pretty=args.format == "json"))
        return 0
    from ..view import report

    output.report(args, lambda out: report.about(out, args.about, entry))
    return 0


def _from_rig(args: argparse.Namespace) -> int:
    """--seen with a rig and no capture."""
    from ..diagnosis.symptoms import ranked
    from ..rig import load_rig

    entries = ranked(args.seen, load_rig(args.rig), None)
    if args.format in ("json", "jsonl"):
        from ..view import record
        from ..view.json_text import json_bytes

        output.emit(args, json_bytes({"seen": record.symptom(args.seen, entries)}, pretty=args.format == "json"))
        return 0
    from ..view import report

    output.report(args, lambda out: report.seen(out, args.seen, entries))
    return 0
