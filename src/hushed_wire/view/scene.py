"""What a figure shows: lanes of boxes (commands, words), lines with their roles, marks, and spans that findings name."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..bus.words import CUT
from ..finding import Finding
from ..rig import DeviceReading, Reading
from ..rig.channel import Channel
from ..rig.hear import Hearing
from ..sequence.listing import as_hush
from ..trace import Trace

__all__ = ["REFUSED", "Boxes", "Scene", "focus_of", "scene_of_hearing", "scene_of_reading", "seconds_of", "spans_of"]

ADDRESS, BYTE, REFUSED, COMMAND, DATA = "#cfe3ff", "#eef2f6", "#ffc9c4", "#d6f2dc", "#fff0cc"
MOST_LANES = 4
SPANS = {"fault": "#d6322c", "warning": "#d9a400"}


@dataclass
class Boxes:
    """Boxes of one lane: start, end (seconds), fill of each, and `label(i)`: its forms, the longest first. height: its share."""

    start: NDArray[np.float64]
    end: NDArray[np.float64]
    fill: NDArray[Any]
    label: Callable[[int], Sequence[str]]
    plural: str
    title: str
    height: float


@dataclass
class Scene:
    """lanes: from the top. roles: line to role, in the order of drawing. marks: seconds and kinds. word: seconds that a word takes."""

    trace: Trace
    lanes: list[Boxes]
    roles: dict[int, str]
    devices: str
    legend: str
    marks: tuple[NDArray[np.float64], NDArray[Any]] = field(default_factory=lambda: (np.empty(0), np.empty(0, np.uint8)))
    word: float = 0.0
    spans: list[tuple[float, float, str]] = field(default_factory=list)


def scene_of_reading(reading: Reading) -> Scene:
    """I2C."""
    words, table, trace = reading.decoded.words, reading.transactions, reading.trace
    refused = int(np.count_nonzero(reading.refused()))
    legend = f"{len(table):,} transactions, {len(words):,} words in the whole capture"
    legend += f", {refused:,} not acknowledged (red)" if refused else ", all acknowledged"
    marks = reading.decoded.marks
    keep = marks.kind != CUT
    width = seconds_of(trace, words.end - words.start)
    return Scene(
        trace, [_commands(trace, reading.devices), _words(reading)], {reading.scl: "scl", reading.sda: "sda"},
        ", ".join(f"{d.device.name} ({d.part.name} at {d.device.address:#04x})" for d in reading.devices), legend,
        (seconds_of(trace, marks.time[keep]), marks.kind[keep]), float(np.median(width)) if len(width) else 0.0,
    )  # fmt: skip


def scene_of_hearing(hearing: Hearing) -> Scene:
    """Any bus, and what is behind its bridges."""
    trace = hearing.trace
    roles: dict[int, str] = {}
    for bus in hearing.rig.bus:
        for role, line in bus.lines.items():
            if line in trace.names:
                roles.setdefault(trace.index(line), role)
    several = len(hearing.channels) > 1
    told = [device for device in hearing.devices if device.part.memory.kind != "scanned"]
    lanes = [_commands(trace, told)] if told else []
    lanes += [_channel(trace, channel, several) for channel in hearing.channels[: MOST_LANES - len(lanes)]]
    words = sum(len(channel.words) for channel in hearing.channels)
    legend = f"{words:,} words in the whole capture" + (
        "   yellow: data" if any(channel.dc is not None for channel in hearing.channels) else ""
    )
    devices = ", ".join(f"{d.device.name} ({d.part.name})" for d in hearing.devices)
    return Scene(trace, lanes, roles, devices, legend)


def spans_of(findings: list[Finding]) -> list[tuple[float, float, str]]:
    """Where faults and warnings are, in the colours of their severity."""
    return [
        (found.start, found.end if found.end is not None else found.start, SPANS[found.severity])
        for found in findings
        if found.severity in SPANS and found.start is not None
    ]


def focus_of(trace: Trace, scene: Scene, findings: list[Finding]) -> tuple[float, float]:
    """The stretch in which the first finding that has a place shows best: some words around where it begins."""
    start, end = trace.seconds(trace.start), trace.seconds(trace.end)
    first = next((found for found in findings if found.start is not None and found.severity != "note"), None)
    if first is None or first.start is None:
        return start, end
    span = max(24 * scene.word, (end - start) / 2000)
    last = first.end if first.end is not None else first.start
    if last - first.start < 4 * span:
        span = max(span, (last - first.start) * 1.2)
    low = max(start, first.start - span / 4)
    return low, min(end, max(low + span, low + 1e-9))


def seconds_of(trace: Trace, ticks: NDArray[np.int64]) -> NDArray[np.float64]:
    """Ticks in seconds."""
    return (ticks * float(trace.tick.numerator) / float(trace.tick.denominator)).astype(np.float64)


def _channel(trace: Trace, channel: Channel, named: bool) -> Boxes:
    """The words of a channel; an edge-triggered bus's words last from one latching edge back to the one before, at most as the median."""
    words = channel.words
    start, end = words.start, words.end
    if channel.kind == "matrix":
        return _pictures(trace, channel, named)
    if channel.kind == "parallel" and len(words) > 1:
        step = int(np.median(np.diff(words.effect)))
        start, end = words.effect - step // 2, words.effect + step // 2
        before = np.concatenate([[start[0]], np.minimum(end[:-1], (words.effect[1:] + words.effect[:-1]) // 2)])
        start = np.maximum(start, before)
    data = np.zeros(len(words), bool) if channel.dc is None else channel.dc == 1
    fill = np.where(words.unclear, REFUSED, np.where(data, DATA, BYTE))
    if channel.kind == "i2c":
        fill = np.where(words.ack, fill, REFUSED)

    def label(index: int) -> Sequence[str]:
        value = f"{int(words.value[index]):0{channel.digits}X}"
        read = channel.read is not None and bool(channel.read[index])
        return (f"{value} read", value) if read else (value,)

    title = f"{channel.bus}{' ' + channel.select if channel.select else ''}" if named else "words"
    return Boxes(seconds_of(trace, start), seconds_of(trace, end), fill, label, "words", title, 0.6)


def _pictures(trace: Trace, channel: Channel, named: bool) -> Boxes:
    """Of scanned LEDs a box for each picture, for as long as it is shown."""
    table = channel.table

    def label(index: int) -> Sequence[str]:
        raw = channel.words.value[int(table.first[index]) : int(table.last[index])].astype(np.uint8).tobytes().hex(" ").upper()
        return (raw, f"picture {index + 1}", f"{index + 1}")

    fill = np.full(len(table), DATA)
    return Boxes(
        seconds_of(trace, table.start),
        seconds_of(trace, table.end),
        fill,
        label,
        "pictures",
        channel.bus if named else "pictures",
        0.6,
    )


def _words(reading: Reading) -> Boxes:
    trace, words, table, who = reading.trace, reading.decoded.words, reading.transactions, reading.addresses
    count = len(words)
    owner = np.searchsorted(table.last, np.arange(count), side="right") if len(table) else np.zeros(count, np.int64)
    is_address = np.arange(count) < who.first[owner] if count else np.zeros(0, bool)
    refused = reading.refused()
    fill = np.where(refused, REFUSED, np.where(is_address, ADDRESS, BYTE))

    def label(index: int) -> Sequence[str]:
        value = int(words.value[index])
        mark = " ✗" if refused[index] else ""
        if not is_address[index]:
            return (f"{value:02X}{mark}", f"{value:02X}")
        way = "read" if value & 1 else "write"
        return (f"{value >> 1:02X} {way}{mark}", f"{value >> 1:02X} {way[0].upper()}{mark}", f"{value >> 1:02X}")

    return Boxes(seconds_of(trace, words.start), seconds_of(trace, words.end), fill, label, "words", "words", 0.6)


def _commands(trace: Trace, devices: list[DeviceReading]) -> Boxes:
    starts, ends, fills, labels = [], [], [], []
    for own in [own for device in devices for own in (device.chips or [device.commands])]:
        for index in range(len(own)):
            first = int(own.first[index])
            starts.append(int(own.payload.start[first]))
            ends.append(int(own.payload.end[first + int(own.count[index]) - 1]))
            fills.append(DATA if own.name_of(index) == "data" else REFUSED if own.kind[index] < 0 else COMMAND)
            labels.append((own, index))
    order = np.argsort(np.array(starts, dtype=np.int64), kind="stable") if starts else np.empty(0, np.int64)

    def label(position: int) -> Sequence[str]:
        own, index = labels[int(order[position])]
        name = own.name_of(index)
        if name == "data":
            return (f"data, {int(own.count[index]):,} bytes", f"{int(own.count[index]):,} bytes", "data")
        fields, _ = own.fields_of(index)
        whole = as_hush(name, fields)
        folded = whole.replace("-", "-\n").replace(" ", "\n")
        return (whole, whole.replace(" ", "\n"), folded, name, name.replace("-", "-\n"))

    return Boxes(
        seconds_of(trace, np.array(starts, np.int64)[order]), seconds_of(trace, np.array(ends, np.int64)[order]),
        np.array(fills, dtype=object)[order], label, "commands", "commands", 0.85,
    )  # fmt: skip
