"""`diagnose --report`: all that was found as one page that needs nothing else: no network, no script from elsewhere.

What comes from files is escaped by the template and cannot run: the page's own script is the only one that its policy lets run.
"""

from __future__ import annotations

import base64
import hashlib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..diagnosis import Diagnosis
from ..finding import Finding
from ..grades import NOT_JUDGED
from ..harmless import harmless
from ..picture.shown import shown_png
from ..rig import rig_toml
from ..rig.reading import as_piece
from ..trace.model import Waveforms
from ..units import show, show_time
from ..version import VERSION
from .decoded import words_of
from .figure import plot
from .report import evidence_lines
from .rows import Rows, meanings
from .scene import focus_of, scene_of, spans_of
from .screen import remarks
from .waves import waves, widest

__all__ = ["page"]

FOLDER = Path(__file__).parent / "page"
AROUND = 8  # transfers ahead of the place of a finding, and behind it
MOST_ROWS = 60_000  # transfers of a capture in which those are looked for


@dataclass
class Glass:
    """What a display shows at the end. png: as a picture, in base64."""

    name: str
    said: str
    remarks: list[str]
    png: str


def page(outcome: Diagnosis, path: str, command: str, waveforms: Waveforms | None) -> bytes:
    """The page. path: of the capture. command: how to do it again."""
    from jinja2 import Environment, FileSystemLoader, StrictUndefined

    from .json_text import json_bytes

    script = (FOLDER / "waves.js").read_text(encoding="utf-8")
    environment = Environment(
        loader=FileSystemLoader(FOLDER), undefined=StrictUndefined, autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters["harmless"] = harmless
    reading = outcome.reading
    scene = scene_of(reading)
    scene.spans = spans_of(outcome.findings)
    first = next((found for found in outcome.findings if found.severity != "note"), None)
    focus = focus_of(scene, outcome.findings)
    scene.changes = outcome.again
    figure = plot(scene, path, focus, waveforms, "png")
    scene.trace = outcome.around(*widest(scene, focus))
    # A browser ends the script where it reads </script, whatever stands around it.
    data = json_bytes(waves(scene, focus), pretty=False).decode().replace("<", "\\u003c")
    text = environment.get_template("report.html.j2").render(
        style=(FOLDER / "report.css").read_text(encoding="utf-8"),
        script=script,
        allowed=base64.b64encode(hashlib.sha256(script.encode()).digest()).decode(),
        path=path,
        outcome=outcome,
        worst=outcome.worst() if first is not None else "warning" if outcome.judgement == NOT_JUDGED else "good",
        findings=[(found, _where(found), evidence_lines(found.evidence)) for found in outcome.findings],
        facts=_facts(outcome),
        data=data,
        figure=base64.b64encode(figure).decode(),
        glasses=_glasses(outcome),
        rows=_around(outcome, first),
        wires=_wires(outcome),
        rig=rig_toml(reading.rig),
        command=command,
        version=VERSION,
    )
    return text.encode("utf-8", "replace")


def _where(found: Finding) -> str:
    """Lines and times of a finding."""
    out = [f"on {', '.join(found.lines)}"] if found.lines else []
    if found.start is not None:
        span = show_time(found.start)
        out.append(f"at {span}" + (f" to {show_time(found.end)}" if found.end is not None and found.end > found.start else ""))
    return ", ".join(out)


def _facts(outcome: Diagnosis) -> list[tuple[str, str]]:
    """What was captured."""
    trace, rig = outcome.reading.trace, outcome.reading.rig
    out = [("lasts", show(trace.duration, "s")), ("lines", ", ".join(trace.names))]
    if trace.sample:
        out.append(("sampled at", show(1 / (trace.sample * float(trace.tick)), "Hz")))
    out += [("bus", f"{bus.name}: {bus.kind}" + (f", {bus.clock}" if bus.clock else "")) for bus in rig.bus]
    out += [("display", f"{device.name}: {device.part}, {rig.target(device).panel.name}") for device in rig.device]
    return out


def _glasses(outcome: Diagnosis) -> list[Glass]:
    out = []
    for device in outcome.reading.devices:
        if not device.shows:
            continue
        glass = device.glass()
        said = f"{device.part.name}, {device.panel.name or f'{device.panel.width}x{device.panel.height}'}: " + (
            "lit" if glass.shown else "dark; so it would look if it were lit"
        )
        picture = base64.b64encode(shown_png(glass, device.panel)).decode()
        out.append(Glass(device.device.name, said, [text for text in remarks(device, glass) if "--picture" not in text], picture))
    return out


def _around(outcome: Diagnosis, first: Finding | None) -> list[tuple[str, str, str, bool]]:
    """Transfers at the place of the first finding and round about: when, words, meaning, and whether it is there. None of very many."""
    reading = outcome.reading
    if sum(len(channel.table) for channel in reading.channels) > MOST_ROWS:
        return []
    rows = Rows(reading.rig).take(as_piece(reading), None)
    trace = reading.trace
    begin = trace.start if first is None or first.start is None else trace.ticks(first.start)
    at = next((number for number, row in enumerate(rows) if row.end >= begin), len(rows))
    chosen = range(max(0, at - AROUND), min(len(rows), at + AROUND + 1))
    out = []
    for number in chosen:
        row = rows[number]
        text, _ = words_of(row.channel, row.index)
        out.append((show_time(trace.seconds(row.start)), text.plain.strip(), meanings(row), first is not None and number == at))
    return out


def _wires(outcome: Diagnosis) -> list[Any]:
    """The wire list of the rig; none where its pins are in a map that cannot be read here."""
    from ..diagnosis.rig import examine
    from ..errors import HushedError

    try:
        return list(examine(outcome.reading.rig, Path()).wires)
    except HushedError:
        return []
