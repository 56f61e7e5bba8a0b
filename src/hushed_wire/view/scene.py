"""What a figure shows: lanes of boxes (commands, words), lines with their roles, marks, and spans that findings name."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..bus.channel import Channel
from ..bus.i2c_transactions import Addresses, refused
from ..bus.words import CUT, STOP, Transactions, Words
from ..finding import Finding
from ..part.engine import DATA as RUN
from ..part.engine import Commands
from ..rig import DeviceReading
from ..rig.reading import Reading
from ..sequence.listing import as_hush
from ..trace import Trace
from .moments import Moments, latched
from .radix import spelled

__all__ = [
    "ADDRESS",
    "BYTE",
    "COMMAND",
    "DATA",
    "FILLS",
    "REFUSED",
    "SPANS",
    "Boxes",
    "Scene",
    "focus_of",
    "scene_of",
    "seconds_of",
    "spans_of",
]

ADDRESS, BYTE, REFUSED, COMMAND, DATA = range(5)  # what a box is, a byte each; in which colour it is drawn
FILLS = ("#cfe3ff", "#eef2f6", "#ffc9c4", "#d6f2dc", "#fff0cc")
MOST_LANES = 4
MANY_WORDS = 1 << 20  # the first ones of very many show how far apart they usually are
SPANS = {"fault": "#d6322c", "warning": "#d9a400"}


@dataclass
class Boxes:
    """Boxes of one lane: start, end (seconds), what each is, and `label(i)`: its forms, the longest first. height: its share."""

    start: NDArray[np.float64] | Moments
    end: NDArray[np.float64] | Moments
    fill: NDArray[np.uint8]
    label: Callable[[int], Sequence[str]]
    plural: str
    title: str
    height: float


@dataclass
class Scene:
    """lanes: from the top. roles: line to role, in the order of drawing. marks: seconds and kinds. word: seconds that a word takes.

    changes: the blocks of the capture, where `trace` is no more than its length. span: seconds from which and to which the capture lasts.
    """

    trace: Trace
    lanes: list[Boxes]
    roles: dict[int, str]
    devices: str
    legend: str
    marks: tuple[NDArray[np.float64], NDArray[Any]] = field(default_factory=lambda: (np.empty(0), np.empty(0, np.uint8)))
    word: float = 0.0
    spans: list[tuple[float, float, str]] = field(default_factory=list)
    changes: Callable[[], Iterable[Trace]] | None = None
    span: tuple[float, float] = (0.0, 0.0)


def scene_of(reading: Reading, radix: str = "hex") -> Scene:
    """All buses, and what is behind their bridges. radix: of the words; addresses are in hex."""
    trace = reading.trace
    roles: dict[int, str] = {}
    for bus in reading.rig.bus:
        for role, line in bus.lines.items():
            if line in trace.names:
                roles.setdefault(trace.index(line), role)
    several = len(reading.channels) > 1
    told = [device for device in reading.devices if device.part.memory.kind != "scanned"]
    lanes = [_commands(trace, told)] if told else []
    lanes += [_channel(trace, channel, several, radix) for channel in reading.channels[: MOST_LANES - len(lanes)]]
    words = sum(len(channel.words) for channel in reading.channels)
    called = [channel for channel in reading.channels if channel.who is not None]
    legend = f"{words:,} words in the whole capture"
    if called:
        count = sum(len(channel.table) for channel in called)
        naks = sum(int(np.count_nonzero(refused(c.words, c.table, c.who))) for c in called if c.who is not None)
        legend = f"{count:,} transactions, " + legend + (f", {naks:,} not acknowledged (N)" if naks else ", all acknowledged")
    legend += "   yellow: data" if any(channel.dc is not None for channel in reading.channels) else ""
    width = np.concatenate([np.empty(0, np.int64), *(_widths(channel.words) for channel in called)])
    return Scene(
        trace,
        lanes,
        roles,
        ", ".join(map(_named, reading.devices)),
        legend,
        _marks(trace, called),
        trace.seconds(trace.start + int(np.median(width))) - trace.seconds(trace.start) if len(width) else 0.0,
        span=(trace.seconds(trace.start), trace.seconds(trace.end)),
    )


def _widths(words: Words) -> NDArray[np.int64]:
    """(n,) ticks that words take; of very many, some of them."""
    some = slice(None, None, max(1, len(words) // 100_000))
    return words.end[some] - words.start[some]


def _named(device: DeviceReading) -> str:
    address = "" if device.device.address is None else f" at {device.device.address:#04x}"
    return f"{device.device.name} ({device.part.name}{address})"


def _marks(trace: Trace, called: list[Channel]) -> tuple[NDArray[np.float64], NDArray[Any]]:
    """START, repeated START and STOP, where transactions were seen to begin or end with them."""
    times, kinds = [np.empty(0, np.int64)], [np.empty(0, np.uint8)]
    for channel in called:
        table = channel.table
        stopped = table.ended == STOP
        times += [table.start[table.began != CUT], table.end[stopped]]
        kinds += [table.began[table.began != CUT], table.ended[stopped]]
    when, kind = np.concatenate(times), np.concatenate(kinds)
    order = np.argsort(when, kind="stable")
    return seconds_of(trace, when[order]), kind[order]


def spans_of(findings: list[Finding]) -> list[tuple[float, float, str]]:
    """Where faults and warnings are, in the colours of their severity."""
    return [
        (found.start, found.end if found.end is not None else found.start, SPANS[found.severity])
        for found in findings
        if found.severity in SPANS and found.start is not None
    ]


# Words of a figure: around a moment, of the beginning of something long, and that can still be told apart.
FEWEST, SOME, MOST = 8, 24, 80


def focus_of(scene: Scene, findings: list[Finding]) -> tuple[float, float]:
    """The stretch in which the first finding that has a place shows best: some words around where it begins."""
    start, end = scene.span
    first = next((found for found in findings if found.start is not None and found.severity != "note"), None)
    if first is None or first.start is None:
        return start, end
    last = first.end if first.end is not None else first.start
    word = scene.word or (end - start) / 2000
    # As wide as the fault where words can be read then; of one that lasts long the first that is said in it.
    lasts, begin = last - first.start, first.start
    span = max(FEWEST * word, 1.5 * lasts) if lasts <= MOST * word else SOME * word
    if lasts > MOST * word:
        said = [
            float(lane.start[at : at + 1][0])
            for lane in scene.lanes
            if (at := int(lane.end.searchsorted(begin))) < len(lane.start)
        ]
        begin = max(begin, min(said, default=begin))
    low = max(start, begin - span / 5)
    return low, min(end, max(low + span, low + 1e-9))


def seconds_of(trace: Trace, ticks: NDArray[np.int64]) -> NDArray[np.float64]:
    """Ticks in seconds."""
    return (ticks * float(trace.tick.numerator) / float(trace.tick.denominator)).astype(np.float64)


def _channel(trace: Trace, channel: Channel, named: bool, radix: str) -> Boxes:
    """The words of a channel; an edge-triggered bus's words last from one latching edge back to the one before, at most as the median."""
    words = channel.words
    start, end = words.start.__getitem__, words.end.__getitem__
    if channel.scan is not None:
        return _pictures(trace, channel, named)
    if channel.who is not None:
        return _i2c_words(trace, words, channel.table, channel.who, channel.bus if named else "words", radix)
    if len(words) > 1 and bool((words.start == words.end).all()):  # latched by an edge
        start, end = latched(words.effect, int(np.median(np.diff(words.effect[:MANY_WORDS]))) // 2)
    fill = np.full(len(words), BYTE, np.uint8)
    if channel.dc is not None:
        fill[channel.dc == 1] = DATA
    fill[words.unclear] = REFUSED

    def label(index: int) -> Sequence[str]:
        value = spelled(int(words.value[index]), channel.bits, radix)
        read = channel.read is not None and bool(channel.read[index])
        return (f"{value} read", value) if read else (value,)

    title = f"{channel.bus}{' ' + channel.select if channel.select else ''}" if named else "words"
    begins, ends = (Moments(len(words), of, trace.tick) for of in (start, end))
    return Boxes(begins, ends, fill, label, "words", title, 0.6)


def _pictures(trace: Trace, channel: Channel, named: bool) -> Boxes:
    """Of scanned LEDs a box for each picture, for as long as it is shown."""
    table = channel.table

    def label(index: int) -> Sequence[str]:
        raw = channel.words.value[int(table.first[index]) : int(table.last[index])].astype(np.uint8).tobytes().hex(" ").upper()
        return (raw, f"picture {index + 1}", f"{index + 1}")

    fill = np.full(len(table), DATA, np.uint8)
    return Boxes(
        seconds_of(trace, table.start),
        seconds_of(trace, table.end),
        fill,
        label,
        "pictures",
        channel.bus if named else "pictures",
        0.6,
    )


def _i2c_words(trace: Trace, words: Words, table: Transactions, who: Addresses, title: str, radix: str) -> Boxes:
    """The bytes of an I2C bus; addresses with their direction, what was refused in a colour of its own."""
    steps = np.zeros(len(words) + 1, np.int8)  # up behind where a transaction begins, down where its address ends
    np.add.at(steps, table.first, np.int8(1))
    np.add.at(steps, np.minimum(who.first, len(words)), np.int8(-1))
    is_address = np.cumsum(steps, dtype=np.int8)[:-1] > 0
    nak, values = refused(words, table, who), words.value
    fill = np.where(nak, np.uint8(REFUSED), np.where(is_address, np.uint8(ADDRESS), np.uint8(BYTE)))

    def label(index: int) -> Sequence[str]:
        value = int(values[index])
        mark = " N" if nak[index] else " A"
        if not is_address[index]:
            byte = spelled(value, 8, radix)
            return (f"{byte}{mark}", byte)
        way = "read" if value & 1 else "write"
        return (
            f"{value >> 1:02X} {way}{mark}",
            f"{value >> 1:02X} {way}",
            f"{value >> 1:02X} {way[0].upper()}",
            f"{value >> 1:02X}",
        )

    begins, ends = (Moments(len(words), own.__getitem__, trace.tick) for own in (words.start, words.end))
    return Boxes(begins, ends, fill, label, "words", title, 0.6)


def _commands(trace: Trace, devices: list[DeviceReading]) -> Boxes:
    """What was said to the parts; of words that are latched by an edge a command lasts for half a step before and behind."""
    starts, ends = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
    fills, every = [np.empty(0, np.uint8)], list[Commands]()
    for own in [own for device in devices for own in device.chips]:
        if not len(own):
            continue
        begin, end = own.payload.start[own.first], own.payload.end[own.first + own.count - 1]
        if len(own.payload.time) > 1 and bool((own.payload.start == own.payload.end).all()):
            room = int(np.median(np.diff(own.payload.time))) // 2
            begin, end = begin - room, end + room
            end[:-1] = np.minimum(end[:-1], begin[1:])
        starts.append(begin)
        ends.append(end)
        fills.append(np.where(own.kind == RUN, np.uint8(DATA), np.where(own.kind < 0, np.uint8(REFUSED), np.uint8(COMMAND))))
        every.append(own)
    last = np.cumsum([len(own) for own in every])
    order = np.argsort(np.concatenate(starts), kind="stable")
    begin, end = np.concatenate(starts)[order], np.concatenate(ends)[order]

    def label(position: int) -> Sequence[str]:
        number = int(order[position])
        which = int(np.searchsorted(last, number, side="right"))
        own, index = every[which], number - (int(last[which - 1]) if which else 0)
        name = own.name_of(index)
        if name == "data":
            return (f"data, {int(own.count[index]):,} bytes", f"{int(own.count[index]):,} bytes", "data")
        fields, _ = own.fields_of(index)
        whole = as_hush(name, fields)
        folded = whole.replace("-", "-\n").replace(" ", "\n")
        return (whole, whole.replace(" ", "\n"), folded, name, name.replace("-", "-\n"))

    return Boxes(
        seconds_of(trace, begin), seconds_of(trace, end),
        np.concatenate(fills)[order], label, "commands", "commands", 0.85,
    )  # fmt: skip
