"""What the commands report, as plain dictionaries: the JSON interface. Keys are never renamed; times are in seconds."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np

from .transfers import calls, plain, transfers

if TYPE_CHECKING:
    from ..bus.i2c_address import Addresses
    from ..bus.matrix import Scan
    from ..bus.words import Transactions, Words
    from ..diagnose import Diagnosis
    from ..diagnose.any_timing import Margin
    from ..diagnose.sight import Ranked
    from ..finding import Finding
    from ..part import Commands
    from ..part.character import TextGlass
    from ..part.paged import Glass
    from ..part.pixel import ColourGlass
    from ..rig import DeviceReading, Reading
    from ..rig.channel import Channel
    from ..rig.hear import Hearing
    from ..trace import Trace

__all__ = ["capture", "channel", "commands", "heard", "diagnosis", "finding", "screen", "spoken", "transactions"]


def capture(trace: Trace, path: str) -> dict[str, Any]:
    """The capture itself."""
    return {"path": path, "duration": trace.duration, "lines": list(trace.names)}


def transactions(words: Words, table: Transactions, who: Addresses, tick: tuple[int, int], bus: str) -> Iterator[dict[str, Any]]:
    """I2C transactions. tick: numerator and denominator of the seconds a tick has."""
    return map(plain, calls(words, table, who, tick, bus))


def channel(own: Channel, tick: tuple[int, int]) -> Iterator[dict[str, Any]]:
    """Transactions of a channel of any bus; those of I2C are told by address."""
    if own.who is not None:
        return transactions(own.words, own.table, own.who, tick, own.bus)
    return map(plain, transfers(own, tick))


def commands(device: DeviceReading, trace: Trace, pieces: bool = False) -> Iterator[dict[str, Any]]:
    """The controller commands of a device, of each of its chips; data runs are commands named "data"."""
    tick = trace.tick.as_integer_ratio()
    for chip, own in enumerate(device.chips or [device.commands]):
        yield from spoken(device.device.name, own, tick, chip if len(device.chips) > 1 else None, pieces)


def spoken(
    device: str, own: Commands, tick: tuple[int, int], chip: int | None, pieces: bool = True, going_on: bool = False
) -> Iterator[dict[str, Any]]:
    """Commands of one chip. pieces: long data runs come in pieces. going_on: the first command goes on with data told before."""
    from ..part.engine import DATA, LONGEST

    up, down = tick
    for index, _, raw in own.listed():
        fields, note = own.fields_of(index)
        is_data = int(own.kind[index]) == DATA
        size = LONGEST if pieces and is_data else max(1, len(raw))
        for first in range(0, len(raw), size):
            part = raw[first : first + size]
            at = int(own.first[index]) + first + len(part) - 1
            record: dict[str, Any] = {
                "device": device,
                "time": int(own.payload.time[at]) * up / down,
                "name": own.name_of(index),
                "bytes": list(part),
                "fields": {"count": len(part)} if is_data else fields,
            }
            if first or (is_data and not index and going_on):
                record["continued"] = True
            if chip is not None:
                record["chip"] = chip + 1
            if note:
                record["note"] = note
            yield record


def screen(device: DeviceReading, glass: Glass | TextGlass | ColourGlass, when: float) -> dict[str, Any]:
    """What the panel shows."""
    from ..part.character import TextGlass
    from ..part.pixel import ColourGlass

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
        "unwritten_pixels": int(np.count_nonzero(~glass.written)),
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
        "findings": [finding(found) for found in outcome.findings],
        "ruled_out": outcome.ruled_out,
        "not_observable": outcome.not_observable,
        "assumed": outcome.assumed,
    }


def summary(reading: Reading) -> dict[str, Any]:
    """Counts of what a capture holds."""
    who, table = reading.addresses, reading.transactions
    called: dict[str, dict[str, int]] = {}
    for address in np.unique(who.address).tolist():
        mask = who.address == address
        name = f"{address:#04x}" if address >= 0 else "unknown"
        called[name] = {"transactions": int(np.count_nonzero(mask)), "answered": int(np.count_nonzero(who.answered & mask))}
    return {
        "transactions": len(table),
        "words": len(reading.decoded.words),
        "addresses": called,
        "spikes": {"scl": reading.decoded.spikes[0], "sda": reading.decoded.spikes[1]},
        "stray_clocks": reading.decoded.stray,
        "commands": sum(len(device.commands) for device in reading.devices),
    }


def heard(hearing: Hearing) -> dict[str, Any]:
    """The same of a capture on any bus."""
    return {
        "transactions": sum(len(channel.table) for channel in hearing.channels),
        "words": sum(len(channel.words) for channel in hearing.channels),
        "commands": sum(len(own) for device in hearing.devices for own in device.chips),
        **({"scans": {name: scan_record(hearing.trace, scan) for name, scan in hearing.scans.items()}} if hearing.scans else {}),
    }


def scan_record(trace: Trace, scan: Scan) -> dict[str, Any]:
    """The same for JSON."""
    over = np.flatnonzero(scan.overlap())
    return {
        "frames": len(scan.light),
        "frame_rate": scan.rate(trace.tick) or None,
        "row_on": [float(value) for value in np.median(scan.on, axis=0)],
        "overlaps": len(over),
        "first_overlap": trace.seconds(int(scan.start[over[0]])) if len(over) else None,
    }


def sight(name: str, entries: list[Ranked]) -> dict[str, Any]:
    """What is seen, and the causes that fit."""
    from ..diagnose.sight import separating

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
