"""Text and JSON of `build`: the steps with words and times, and what is wrong with them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from ..part.wrap import WRAPS
from ..sequence import Target
from ..sequence.examine import Examined
from ..sequence.listing import as_hush
from ..sequence.timed import Timed
from ..units import show_time, time_column
from .pipe_console import kit_of

__all__ = ["built", "built_record"]

SHOWN = 10
ROWS = 60


def built(out: Any, result: Examined, targets: list[Target], path: str, quiet: bool, every: bool) -> None:
    """Prints the listing and the findings."""
    kit = kit_of(out)
    data = sum(len(send.raw) for entry in result.steps for send in entry.step.sends)
    used = [target for target in targets if any(entry.step.device == target.name for entry in result.steps)]
    what = ", ".join(f"{target.part.name} {target.panel.name}".strip() for target in used)
    out.print(
        kit.Text(
            f"{path}: {len(result.steps):,} steps for {what}: {data:,} bytes in {show_time(float(result.duration))}", style="head"
        )
    )
    if not quiet:
        out.print()
        _listing(out, result, used, every)
    out.print()
    if not result.findings:
        out.print(kit.Text("Nothing is wrong with this sequence, as far as the part's rules tell.", style="good"))
    for found in result.findings:
        head = kit.Text().append(f"{found.severity.upper()}  ", style=found.severity).append(found.code, style="code")
        out.print(head)
        grid = kit.grid()
        grid.add_row("", "what", kit.Text(found.summary))
        source = found.evidence.get("source") or "; ".join(dict.fromkeys(sources_of(found.evidence)))
        if source:
            grid.add_row("", "source", kit.Text(str(source)))
        grid.add_row("", kit.Text("next", style="next"), kit.Text(found.remedy))
        out.print(grid)


def sources_of(evidence: Mapping[str, Any]) -> Iterator[str]:
    """Where the rules of registers stand."""
    for entry in evidence.get("registers", {}).values():
        yield entry["source"]


def _listing(out: Any, result: Examined, used: list[Target], every: bool) -> None:
    kit, several = kit_of(out), len(used) > 1
    bitwise = {target.name for target in used if WRAPS[target.framing].bits == 1}
    count = len(result.steps)
    shown = list(range(count)) if every or count <= ROWS else [*range(ROWS - 8), *range(count - 8, count)]
    times = time_column([float(result.steps[number].start) for number in shown], 1e-6)
    table = kit.table()
    table.add_column("line", justify="right", no_wrap=True)
    table.add_column("at", justify="right", no_wrap=True)
    if several:
        table.add_column("device", no_wrap=True)
    table.add_column("words", overflow="fold", ratio=2)
    table.add_column("step", overflow="fold", ratio=3)
    for position, number in enumerate(shown):
        entry = result.steps[number]
        if position == ROWS - 8 and len(shown) < count:
            cells = ["", "…", *([""] if several else []), f"{count - len(shown):,} more", "-v shows them"]
            table.add_row(*cells)
        style = "fault" if any(found.severity == "fault" for found in entry.findings) else "warning" if entry.findings else ""
        line = entry.step.place.rpartition(":")[2]
        device = [entry.step.device] if several else []
        table.add_row(
            line, times[position], *device, _words(entry, entry.step.device in bitwise), kit.Text(_said(entry), style=style)
        )
    out.print(table)


def _words(entry: Timed, bitwise: bool) -> str:
    if bitwise:
        runs = ["".join(map(str, run)) for run in entry.words]
        return " ".join(runs[:2]) + (f" … {len(runs):,} transfers" if len(runs) > 2 else "")
    words = [word for run in entry.words for word in run]
    width = 4 if any(word > 0x1FF for word in words) else 3 if any(word > 0xFF for word in words) else 2
    text = " ".join(f"{word:0{width}X}" for word in words[:SHOWN])
    return text + (f" … {len(words):,} in all" if len(words) > SHOWN else "")


def _said(entry: Timed) -> str:
    """The step; raw bytes with what they mean."""
    text = entry.step.text
    if entry.step.name == "bytes":
        meant = "; ".join(as_hush(item.name, item.fields) for item in entry.items)
        return f"{text}  ({meant})"
    return text if len(text) <= 120 else text[:117] + "…"


def built_record(result: Examined) -> dict[str, Any]:
    """The JSON of `build`."""
    from .record import finding

    steps = [
        {
            "line": entry.step.place,
            "command": entry.step.text,
            "device": entry.step.device,
            "words": [word for run in entry.words for word in run],
            "time": float(entry.start),
            "wait": float(entry.step.wait),
            "findings": [found.code for found in entry.findings],
        }
        for entry in result.steps
    ]
    return {"steps": steps, "findings": [finding(found) for found in result.findings], "duration": float(result.duration)}
