"""Text of `diagnose`: the verdict, then each finding as a colleague would put it: what, how one knows, what to do next."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from ..diagnosis import Diagnosis
from ..diagnosis.margins import Margin
from ..diagnosis.symptoms import Ranked, separating
from ..finding import Code, Finding
from ..grades import NOT_JUDGED
from ..units import show, show_time
from .tables import plain_table

__all__ = ["about", "diagnosis", "evidence_lines", "margins", "one_finding", "scores", "seen"]

UNITS = {
    "lowest": "Ohm",
    "highest": "Ohm",
    "rise_time": "s",
    "vih": "V",
    "bus_high": "V",
    "most": "V",
    "clock": "Hz",
    "limit": "Hz",
    "duration": "s",
    "measured": "Hz",
    "allowed": "Hz",
    "sample_rate": "Hz",
    "read_up_to": "s",
}


def diagnosis(out: Console, outcome: Diagnosis, path: str, verbose: bool = False) -> None:
    """Prints a diagnosis."""
    worst = outcome.worst()
    style = worst if worst in ("fault", "warning") else "good" if outcome.judgement != NOT_JUDGED else "warning"
    out.print(Text(outcome.verdict, style=style))
    for finding in outcome.findings:
        out.print()
        _finding(out, finding, said=outcome.verdict.lower().startswith(finding.summary.lower()))
    reasons: dict[str, list[str]] = {}
    for entry in outcome.ruled_out:
        reasons.setdefault(entry["code"], []).append(entry["because"])
    sections = [
        ("ruled out", [(code, "; ".join(because)) for code, because in reasons.items()]),
        ("not judged", [("", text) for text in outcome.untold]),
        ("not visible here", [("", "; ".join(outcome.not_observable))] if outcome.not_observable else []),
        ("assumed", [("", text) for text in outcome.assumed.values()]),
    ]
    if verbose and outcome.hidden:
        sections.insert(0, ("explained away", [(finding.code, finding.summary) for finding in outcome.hidden]))
    table = Table.grid(padding=(0, 2, 0, 0))
    for title, entries in sections:
        for number, (code, text) in enumerate(entries):
            line = Text().append(f"{code}: ", style="quiet").append(text) if code else Text(text)
            table.add_row(Text(title if number == 0 else "", style="note"), line)
    if table.row_count:
        out.print()
        out.print(table)


def one_finding(out: Console, finding: Finding) -> None:
    """Prints a finding by itself."""
    _finding(out, finding, said=False)


def _finding(out: Console, finding: Finding, said: bool) -> None:
    """One finding; what the verdict has `said` already is not said again."""
    head = Text().append(finding.severity.upper(), style=finding.severity)
    head.append(f"  {finding.code}", style="code")
    head.append(f"  {finding.confidence}", style="quiet")
    where = []
    if finding.lines:
        where.append("on " + ", ".join(finding.lines))
    if finding.start is not None:
        span = show_time(finding.start)
        if finding.end is not None and finding.end > finding.start:
            span += f" to {show_time(finding.end)}"
        where.append(f"at {span}")
    head.append("  " + ", ".join(where), style="quiet")
    out.print(head)
    table = Table.grid(padding=(0, 2, 0, 0))
    if not said:
        table.add_row(Text("what"), Text(finding.summary))
    for number, line in enumerate(evidence_lines(finding.evidence)):
        table.add_row(Text("evidence" if number == 0 else "", style="default"), Text(line, style="default"))
    table.add_row(Text("next", style="next"), Text(finding.remedy))
    if finding.explains:
        table.add_row(Text("explains", style="quiet"), Text(", ".join(finding.explains), style="quiet"))
    out.print(Padding(table, (0, 0, 0, 2)))


def evidence_lines(evidence: dict[str, Any]) -> list[str]:
    """What was measured, in lines of text."""
    if "reading" in evidence:  # the numbers beside it are for scripts
        return [str(evidence["reading"])]
    lines, short = [], []
    for key, value in evidence.items():
        if key == "registers":
            for register, state in value.items():
                name = register.replace(".", " ")
                lines.append(f"{name} is {state['value']} ({state['how']}), needed: {state['needed']} [{state['source']}]")
        elif isinstance(value, str) and len(value) > 30:
            lines.append(f"{key.replace('_', ' ')}: {value}")
        elif isinstance(value, list):
            if value:
                shown = ", ".join(f"{v:#04x}" if isinstance(v, int) else str(v) for v in value)
                lines.append(f"{key.replace('_', ' ')}: {shown}")
        elif isinstance(value, dict):
            lines.append(f"{key.replace('_', ' ')}: " + ", ".join(f"{k} {v}" for k, v in value.items()))
        elif value is not None:
            text = (
                "yes" if value is True else "no" if value is False else f"{value:.4g}" if isinstance(value, float) else str(value)
            )
            if key in UNITS and not isinstance(value, str):
                text = show(value, UNITS[key])
            short.append(f"{key.replace('_', ' ')} {text}")
    return ([", ".join(short)] if short else []) + lines


def about(out: Console, code: str, entry: Code) -> None:
    """What a code means."""
    head = Text().append(entry.severity.upper(), style=entry.severity)
    out.print(head.append(f"  {code}", style="code").append(f"  {entry.means}"))
    table = Table.grid(padding=(0, 2, 0, 0))
    for title, text in (("looks like", entry.looks), ("why", entry.why), ("mend", entry.mend)):
        table.add_row(Text(title, style="next" if title == "mend" else "default"), Text(text))
    out.print(Padding(table, (0, 0, 0, 2)))


SHOWN_CAUSES = 6


def seen(out: Console, symptom: str, entries: list[Ranked]) -> None:
    """The causes that fit what is seen."""
    out.print()
    out.print(Text(f"seen: {symptom.replace('-', ' ')}", style="head"))
    if not entries:
        out.print("No cause that is known fits this panel.")
        return
    table = plain_table()
    for name in ("", "cause", "what it is", "the wires"):
        table.add_column(name, overflow="fold")
    for number, entry in enumerate(entries[:SHOWN_CAUSES], 1):
        table.add_row(str(number), Text(entry.cause, style="code"), entry.text, "show it" if entry.shown else "do not tell")
    out.print(table)
    if text := separating(entries):
        out.print(Text().append("next  ", style="next").append(text))
    elif entries:
        out.print(Text().append("next  ", style="next").append(f"{entries[0].test}: {entries[0].yes}"))


def margins(out: Console, entries: list[Margin]) -> None:
    """Times as required and as measured."""
    out.print()
    if not entries:
        out.print("No time of these parts could be measured on these lines.")
        return
    table = plain_table()
    for name in ("time", "of", "required", "worst", "usual", "margin", "measured", "beyond"):
        table.add_column(name, justify="left" if name in ("time", "of") else "right")
    for entry in entries:
        table.add_row(
            entry.symbol,
            entry.what + (f" [{entry.device}]" if entry.device else ""),
            ("≤ " if entry.at_most else "≥ ") + show(entry.required, "s"),
            show(entry.smallest, "s"),
            show(entry.usual, "s"),
            _spare(entry),
            f"{entry.count:,}",
            Text(f"{entry.below:,}", style="fault" if entry.below else "good"),
        )
    out.print(table)
    sources = dict.fromkeys(entry.source for entry in entries)
    out.print(Text(f"sources: {'; '.join(sources)}", style="quiet"))


def _spare(entry: Margin) -> str:
    """What is left, with a sign; nothing where it is less than the digits of what was measured tell."""
    if abs(entry.spare) < entry.required / 10_000:
        return "0 s"
    return ("+" if entry.spare > 0 else "-") + show(abs(entry.spare), "s")


def scores(out: Console, entries: dict[str, float]) -> None:
    """How much sense the capture makes as wired."""
    if entries:
        out.print(Text("sense as wired  " + ", ".join(f"{name} {value:.0%}" for name, value in entries.items()), style="quiet"))
