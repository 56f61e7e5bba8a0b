"""Text of `decode` on any bus: a summary of buses, bridges and parts, then the transfers with what they mean to the parts."""

from __future__ import annotations

from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table
from rich.text import Text

from ..bus.words import ENDED
from ..rig import DeviceReading, Setup
from ..rig.channel import Channel
from ..rig.hear import Hearing
from ..sequence.listing import as_hush
from ..trace import Trace
from ..units import counted, show, time_column
from .lamps import rows_table, scan_said
from .listing import ROWS, SHOWN_BYTES, assumed, notes
from .radix import spelled
from .tables import plain_table

__all__ = ["heard", "meanings_by_time", "words_of"]

NAMES = {"i2c": "I2C", "spi": "SPI", "parallel": "parallel", "shift": "shift register", "matrix": "scanned LEDs"}


def heard(
    out: Console, hearing: Hearing, plan: Setup, path: str, every: bool, brief: bool, outside: bool = False, radix: str = "hex"
) -> None:
    """Summary first, then every transfer next to the parts: behind a bridge rather than ahead of it, unless `outside`."""
    trace, rig = hearing.trace, hearing.rig
    top = [channel for channel in hearing.channels if channel.bus in {bus.name for bus in rig.bus}]
    kinds = " and ".join(dict.fromkeys(NAMES[channel.kind] for channel in top))
    lines = ", ".join(dict.fromkeys(line for bus in rig.bus for line in bus.lines.values() if line in trace.names))
    out.print(Text(f"{path}: {show(trace.duration, 's')} of {kinds}, on {lines}", style="head"))
    notes(out, trace)
    assumed(out, plan)
    grid = Table.grid(padding=(0, 3, 0, 0))
    for channel in hearing.channels:
        if channel.kind == "matrix":
            continue
        name = channel.bus + (f", {channel.select}" if channel.select else "")
        grid.add_row(name, _said(trace, rig, channel))
    for device in hearing.devices:
        if device.device.name in hearing.scans:
            grid.add_row(
                device.device.name,
                f"{device.part.name} {device.panel.name}: {scan_said(trace, hearing.scans[device.device.name], device.panel.form == 'digits')}",
            )
            continue
        count = sum(int(np.count_nonzero(own.kind >= 0)) for own in device.chips)
        data = sum(int(np.count_nonzero(own.payload.data)) for own in device.chips)
        text = f"{device.part.name}: {count:,} commands" + (f", {data:,} data bytes" if data else "")
        behind = f", behind {device.device.on}" if rig.bridge_named(device.device.on) else ""
        grid.add_row(device.device.name, text + behind)
    out.print(grid)
    if outside:
        for scan in hearing.scans.values():
            out.print()
            rows_table(out, trace, scan)
    if not brief:
        out.print()
        carriers = {bridge.on for bridge in rig.bridge}  # what they carry says more than their own words
        inner = [channel for channel in hearing.channels if channel.bus not in carriers or _speaks_itself(hearing, channel.bus)]
        _transfers(out, hearing, top if outside or not inner else inner, every, radix)


def _said(trace: Trace, rig: Any, channel: Channel) -> str:
    words, count = channel.words, len(channel.table)
    lengths = np.diff(words.effect)
    text = f"{count:,} transfers with {len(words):,} words" if channel.kind in ("spi", "i2c") else f"{len(words):,} words"
    if channel.kind == "spi":
        bus = next((bus for bus in rig.bus if bus.name == channel.bus), None)
        mode = f"mode {bus.mode}, " if bus is not None else ""
        span = (words.end - words.start)[words.end > words.start]
        clock = f", clock {show((channel.bits - 1) / trace.seconds(int(np.median(span))), 'Hz')}" if len(span) else ""
        text = f"{mode}{channel.bits} bits a word{clock}: {text}"
    elif channel.kind == "parallel":
        reads = int(np.count_nonzero(channel.read)) if channel.read is not None else 0
        text = f"{channel.bits} data lines: {text}" + (f", {reads:,} of them reads" if reads else "")
        if len(lengths):
            text += f", {show(trace.seconds(int(lengths.min())), 's')} apart at the least"
    elif channel.kind == "shift":
        text = f"a chain of {channel.bits} bits: {len(words):,} loads"
    spare = int(np.count_nonzero(channel.table.spare))
    return text + (f", {spare:,} of them end in mid-word" if spare else "")


def meanings_by_time(devices: list[DeviceReading], table: Any) -> dict[int, list[str]]:
    """What each transfer says to the parts, by the transfer in which the last word of a command fell."""
    out: dict[int, list[str]] = {}
    for device in devices:
        for number, own in enumerate(device.chips or [device.commands]):
            if not len(own):
                continue
            last = own.first + own.count - 1
            index = np.searchsorted(table.start, own.payload.end[last], side="right") - 1
            for at, transfer in enumerate(np.maximum(index, 0).tolist()):
                name = own.name_of(at)
                fields, note = own.fields_of(at)
                text = f"{fields['count']:,} bytes of data" if name == "data" else as_hush(name, fields)
                if device.part.memory.kind == "scanned":
                    text = _picture(device, own, at)
                chip = f"chip {number + 1}: " if len(device.chips) > 1 else ""
                out.setdefault(transfer, []).append(chip + text + (f" ({note})" if note else ""))
    return out


def _picture(device: DeviceReading, own: Any, index: int) -> str:
    """What a scanned display shows from a moment on."""
    glass = device.glass(own.time_of(index))
    if hasattr(glass, "lines"):
        return f'shows "{glass.lines[0]}"'
    return f"a picture with {int(np.count_nonzero(glass.lit)):,} LEDs lit"


def _transfers(out: Console, hearing: Hearing, top: list[Channel], every: bool, radix: str) -> None:
    trace = hearing.trace
    rows: list[tuple[int, Channel, int]] = []
    for channel in top:
        rows += [(start, channel, index) for index, start in enumerate(channel.table.start.tolist())]
    rows.sort(key=lambda row: row[0])
    if not rows:
        out.print("No word was seen.")
        return
    of_bus = {
        id(channel): meanings_by_time([d for d in hearing.devices if _hangs_on(hearing, d, channel, top)], channel.table)
        for channel in top
    }
    shown = rows if every or len(rows) <= ROWS else rows[: ROWS - 8] + rows[-8:]
    times = time_column([trace.seconds(start) for start, _, _ in shown], max(trace.seconds(trace.resolution()), 1e-7))
    selects = len({(channel.bus, channel.select) for channel in top}) > 1
    table = plain_table()
    table.add_column("at", justify="right", no_wrap=True)
    if selects:
        table.add_column("on", no_wrap=True)
    table.add_column("words", overflow="fold", ratio=3)
    table.add_column("meaning", overflow="fold", ratio=3)
    marked: set[str] = set()
    for position, (_, channel, index) in enumerate(shown):
        if position == ROWS - 8 and len(shown) != len(rows):
            more = Text(f"{len(rows) - len(shown):,} more; --all shows them, --from and --to pick a part", style="quiet")
            table.add_row("…", *([""] if selects else []), more, "")
        text, marks = words_of(channel, index, radix)
        marked |= marks
        said = of_bus[id(channel)].get(index, [])
        sense = "; ".join(said[:6]) + (f"; {len(said) - 6} more" if len(said) > 6 else "")
        spare = int(channel.table.spare[index])
        ending = f"broken off in mid-word ({counted(spare, 'bit')})" if spare else ""
        if ENDED[int(channel.table.ended[index])] == "cut" and channel.kind == "spi" and channel.select:
            ending = ending or "the capture ends in it"
        cells = [f"{channel.bus} {channel.select}".strip()] if selects else []
        table.add_row(times[position], *cells, text, "; ".join(part for part in (sense, ending) if part))
    out.print(table)
    if marked:
        legend = {"›": "› data (D/C or RS is high)", "‹": "‹ read"}
        out.print(Text("   ".join(legend[mark] for mark in sorted(marked, reverse=True)), style="quiet"))


def _speaks_itself(hearing: Hearing, bus: str) -> bool:
    return any(device.device.on == bus for device in hearing.devices)


def _hangs_on(hearing: Hearing, device: DeviceReading, channel: Channel, top: list[Channel]) -> bool:
    if device.device.on != channel.bus:
        behind = [bridge.name for bridge in hearing.rig.way_to(device.device)[1]]
        near = {other.bus for other in top}
        if device.device.on in near or not (hearing.rig.way_to(device.device)[0].name == channel.bus or channel.bus in behind):
            return False
    selects = [other.select for other in top if other.bus == channel.bus]
    if len(selects) < 2:
        return True
    bridges = hearing.rig.way_to(device.device)[1]
    holder: Any = device.device if device.device.on == channel.bus or not bridges else bridges[0]
    return bool((holder.select or selects[0]) == channel.select)


def words_of(channel: Channel, index: int, radix: str = "hex") -> tuple[Text, set[str]]:
    """The first words of a transfer; a mark where data begin, or a read."""
    first, last = int(channel.table.first[index]), int(channel.table.last[index])
    text, was = Text(), 0
    marked: set[str] = set()
    if channel.who is not None:
        address = int(channel.who.address[index])
        text.append(
            f"{'from' if channel.who.read[index] else 'to'} {address:#04x}: " if address >= 0 else "address not captured: ",
            style="quiet",
        )
        first = int(channel.who.first[index])
    for at in range(first, min(last, first + SHOWN_BYTES)):
        read = channel.read is not None and bool(channel.read[at])
        now = 2 if read else 1 if channel.dc is not None and channel.dc[at] == 1 else 0
        if now and now != was:
            mark = "‹" if now == 2 else "›"
            text.append(f"{mark} ", style="note")
            marked.add(mark)
        was = now
        text.append(spelled(int(channel.words.value[at]), channel.bits, radix) + " ")
    if last - first > SHOWN_BYTES:
        text.append(f"… {last - first:,} in all", style="quiet")
    return text, marked
