"""What `sweep` tells: causes with the captures that share them, as text, JSON, CSV and JUnit."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Sequence
from datetime import datetime
from typing import Any
from xml.etree import ElementTree

from ..grades import NOT_JUDGED
from ..harmless import no_formula
from ..sweep.found import FINDINGS, GOOD, UNJUDGED, UNUSABLE, Cause, Swept
from ..units import counted
from .junit import as_xml
from .pipe_console import kit_of

__all__ = ["junit", "record", "rows", "table"]

SHOWN = 12  # captures of a cause that are listed unasked
WORDS = {GOOD: "good", FINDINGS: "findings", UNUSABLE: "unusable"}
UNREAD = "could not be read"


def table(out: Any, swept: Sequence[Swept], causes: Sequence[Cause], verbose: bool) -> None:
    """Causes, those of most captures first, and under each its captures."""
    kit = kit_of(out)
    counts = {status: sum(one.status == status for one in swept) for status in WORDS}
    said = _counted(swept, counts)
    worst = "fault" if counts[FINDINGS] else "warning" if counts[UNUSABLE] else "good"
    out.print(kit.Text(", ".join(said), style=worst))
    for cause in causes:
        out.print()
        head = kit.Text(f"{len(cause.captures):,} of {len(swept):,}", style="head")
        if cause.code in ("unusable", UNJUDGED):
            head.append(f"  {UNREAD if cause.code == 'unusable' else NOT_JUDGED}", style="warning")
        else:
            head.append(f"  {cause.code}", style="code").append(f"  {cause.severity}", style=cause.severity)
            head.append(f"  on {', '.join(cause.lines)}" if cause.lines else "")
        out.print(head.append(f"  ({_where(cause, swept)})", style="quiet"))
        same = len({one.verdict for one in cause.captures}) == 1
        if same:
            verdict = kit.grid()
            verdict.add_row("", cause.captures[0].verdict)
            out.print(verdict)
        listed = kit.grid()
        most = len(cause.captures) if verbose else SHOWN
        for one in cause.captures[:most]:
            listed.add_row(f"    {one.path}", "" if same else one.verdict)
        out.print(listed)
        if len(cause.captures) > most:
            out.print(kit.Text(f"    {len(cause.captures) - most:,} more; -v lists all", style="quiet"))
    good = [one for one in swept if one.status == GOOD]
    if verbose and good:
        out.print()
        listed = kit.grid()
        for one in good:
            listed.add_row(f"    {one.path}", one.verdict)
        out.print(kit.Text(f"{len(good):,} of {len(swept):,}  good", style="head"))
        out.print(listed)


def _counted(swept: Sequence[Swept], counts: dict[int, int]) -> list[str]:
    """How many are good, have findings, were not judged, could not be read."""
    unjudged = sum(one.code == UNJUDGED for one in swept)
    rest = ((counts[FINDINGS], "with findings"), (unjudged, NOT_JUDGED), (counts[UNUSABLE] - unjudged, UNREAD))
    return [f"{counts[GOOD]:,} of {counted(len(swept), 'capture')} good", *(f"{count:,} {what}" for count, what in rest if count)]


def _where(cause: Cause, swept: Sequence[Swept]) -> str:
    """Over which folders and days a cause is spread: those of a board, or of an afternoon, say more than their number."""
    folders, every = ({os.path.dirname(one.path) for one in own} for own in (cause.captures, swept))  # noqa: PTH120 - names as typed
    days = sorted({f"{datetime.fromtimestamp(one.changed / 1e9):%Y-%m-%d}" for one in cause.captures if one.changed >= 0})
    out = []
    if len(every) > 1:
        out.append(f"in {next(iter(folders)) or '.'}" if len(folders) == 1 else f"in {len(folders)} of {len(every)} folders")
    if days:
        out.append(f"written {days[0]}" if len(days) == 1 else f"written on {len(days)} days, {days[0]} to {days[-1]}")
    return "; ".join(out)


def record(swept: Sequence[Swept], causes: Sequence[Cause]) -> dict[str, Any]:
    """The JSON interface."""
    keys = "path", "verdict", "code", "severity", "lines", "device", "status"
    return {
        "captures": [{key: getattr(one, key) for key in keys} for one in swept],
        "causes": [
            {
                "code": cause.code,
                "lines": cause.lines,
                "count": len(cause.captures),
                "captures": [one.path for one in cause.captures],
            }
            for cause in causes
        ],
    }


def rows(swept: Sequence[Swept]) -> bytes:
    """A row a capture, for spreadsheets."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["capture", "status", "code", "severity", "lines", "device", "verdict"])
    for one in swept:
        cells = [one.path, WORDS[one.status], one.code, one.severity, " ".join(one.lines), one.device, one.verdict]
        writer.writerow([no_formula(cell) for cell in cells])
    return out.getvalue().encode("utf-8", "replace")


def junit(swept: Sequence[Swept]) -> bytes:
    """A test case a capture: a failure where something was found, an error where it could not be read."""
    suite = ElementTree.Element("testsuite", name="hushed-wire sweep")
    for one in swept:
        folder, name = os.path.split(one.path)
        case = ElementTree.SubElement(suite, "testcase", classname=folder or ".", name=name, time="0")
        if one.status == FINDINGS:
            failure = ElementTree.SubElement(case, "failure", type=one.code, message=one.verdict)
            failure.text = f"{one.severity}: {one.code}" + (f"\nlines: {', '.join(one.lines)}" if one.lines else "")
        elif one.status == UNUSABLE:
            ElementTree.SubElement(case, "error", type="unusable", message=one.verdict)
    counts = [sum(one.status == status for one in swept) for status in (FINDINGS, UNUSABLE)]
    return as_xml(suite, counts[0], counts[1])
