"""What the commands report, as plain dictionaries: the JSON interface. Keys are never renamed; times are in seconds."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from ..bus.scan import Scan
    from ..diagnosis import Diagnosis
    from ..diagnosis.margins import Margin
    from ..diagnosis.symptoms import Ranked
    from ..finding import Finding
    from ..part.glass import Glass
    from ..rig.decoder import Told
    from ..rig.reading import DeviceReading

__all__ = ["commands_told", "diagnosis", "finding", "margin", "scan_record", "screen", "symptom"]


def commands_told(told: Told, tick: tuple[int, int]) -> Iterator[dict[str, Any]]:
    """Commands of one chip; data runs are commands named "data", long ones in pieces. tick: numerator and denominator of its seconds."""
    from ..part.engine import DATA, LONGEST

    own = told.commands
    up, down = tick
    for index, _, raw in own.listed():
        fields, note = own.fields_of(index)
        is_data = int(own.kind[index]) == DATA
        size = LONGEST if is_data else max(1, len(raw))
        for first in range(0, len(raw), size):
            part = raw[first : first + size]
            at = int(own.first[index]) + first + len(part) - 1
            record: dict[str, Any] = {
                "device": told.device,
                "time": int(own.payload.time[at]) * up / down,
                "name": own.name_of(index),
                "bytes": list(part),
                "fields": {"count": len(part)} if is_data else fields,
            }
            if first or (is_data and not index and told.going_on):
                record["continued"] = True
            if told.chips > 1:
                record["chip"] = told.chip + 1
            if note:
                record["note"] = note
            yield record


def screen(device: DeviceReading, glass: Glass, when: float) -> dict[str, Any]:
    """What the panel shows."""
    from ..part.glass import ColourGlass, TextGlass

    if isinstance(glass, TextGlass):
        return {
            "device": device.device.name,
            "time": when,
            "kind": "text",
            "lines": glass.lines,
            "backlight": glass.backlight,
            "lit": glass.shown,
        }
    colour = isinstance(glass, ColourGlass)
    rows = None if colour else ["".join(row) for row in np.where(glass.lit, "#", ".").tolist()]
    return {
        "device": device.device.name,
        "time": when,
        "kind": "pixels",
        "width": glass.lit.shape[1],
        "height": glass.lit.shape[0],
        "rows": rows,
        "lit": glass.shown,
        "unwritten_pixels": int(np.count_nonzero(~glass.known)),
        "scrolling": glass.scrolling,
        **(
            {}
            if isinstance(glass, ColourGlass) or glass.light is None
            else {"light": np.round(glass.light.astype(float), 4).tolist()}
        ),
    }


def finding(found: Finding) -> dict[str, Any]:
    """One finding."""
    return {
        "code": found.code,
        "severity": found.severity,
        "confidence": found.confidence,
        "device": found.device,
        "bus": found.bus or None,
        "lines": found.lines,
        "start": found.start,
        "end": found.end,
        "count": found.count,
        "summary": found.summary,
        "evidence": found.evidence,
        "remedy": found.remedy,
        "explains": found.explains,
    }


def diagnosis(outcome: Diagnosis) -> dict[str, Any]:
    """A whole diagnosis."""
    return {
        "verdict": outcome.verdict,
        "judgement": outcome.judgement,
        "untold": outcome.untold,
        "findings": [finding(found) for found in outcome.findings],
        "ruled_out": outcome.ruled_out,
        "not_observable": outcome.not_observable,
        "assumed": outcome.assumed,
    }


def scan_record(scan: Scan, tick: float) -> dict[str, Any]:
    """How scanned LEDs are driven. tick: seconds."""
    over = np.flatnonzero(scan.overlap())
    return {
        "frames": len(scan.light),
        "frame_rate": scan.rate(tick) or None,
        "row_on": [float(value) for value in np.median(scan.on, axis=0)],
        "overlaps": len(over),
        "first_overlap": int(scan.start[over[0]]) * tick if len(over) else None,
    }


def symptom(name: str, entries: list[Ranked]) -> dict[str, Any]:
    """What is seen, and the causes that fit."""
    from ..diagnosis.symptoms import separating

    causes = [
        {"cause": e.cause, "what": e.text, "score": e.score, "shown": e.shown, "test": e.test, "then": e.yes} for e in entries
    ]
    return {"sight": name, "causes": causes, "separates": separating(entries)}


def margin(entry: Margin) -> dict[str, Any]:
    """One time as required and as measured, in seconds."""
    return {
        "symbol": entry.symbol, "what": entry.what, "device": entry.device or None, "required": entry.required, "worst": entry.smallest,
        "at_most": entry.at_most,
        "usual": entry.usual, "count": entry.count, "beyond": entry.below, "first": entry.first, "source": entry.source,
    }  # fmt: skip
