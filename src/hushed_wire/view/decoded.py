"""Text of `decode`: a summary of buses, bridges and parts, then the transfers with what they mean to the parts.

Of a long capture only the first and the last transfers are shown, so no more of it is kept.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table
from rich.text import Text

from ..bus import i2c_timing
from ..bus.base import BUSES
from ..bus.channel import Channel
from ..bus.i2c_transactions import refused
from ..bus.words import CUT, ENDED, MARK_SIGNS, STOP
from ..rig import Rig, Setup
from ..rig.decoder import Decoded, RigDecoder, Told
from ..rig.within import Within
from ..trace import Trace
from ..trace.model import as_changes
from ..units import counted, show, time_column
from .bridged import bridge_said
from .lamps import rows_table, scan_said
from .listing import assumed, notes
from .radix import spelled
from .rows import Row, Rows, each_told, meanings
from .stream import Blocks, Counts, pieces_of
from .tables import plain_table

__all__ = ["TextReport", "words_of"]

HEAD, TAIL = 32, 8  # rows of a long capture
SHOWN_WORDS = 12
MOST_WORDS = 1 << 20  # of a transfer that is told in full
# Marks among the words; those of I2C are the I2C-bus specification's.
LEGEND = {
    "S": "START", "Sr": "repeated START", "P": "STOP", "N": "not acknowledged", "›": "data (D/C or RS is high)", "‹": "read",
}  # fmt: skip
MOST_TOLD = 8  # commands of a transfer that are told
PAGE = 4000  # rows that are laid out together, where all are listed


@dataclass
class _Measured:
    """What is measured of one channel on the way. span: ticks that a word takes, of the first words. least: ticks between two words."""

    bits: int = 8
    span: int = 0
    least: int | None = None
    last: int | None = None
    reads: int = 0
    broken: int = 0
    marked: int = 0

    def see(self, own: Channel) -> None:
        """A piece of it."""
        self.bits = own.bits
        words = own.words
        if not len(words):
            return
        if not self.span:
            span = (words.end - words.start)[words.end > words.start]
            self.span = int(np.median(span)) if len(span) else 0
        steps = np.diff(words.effect, prepend=words.effect[:1] if self.last is None else self.last)[int(self.last is None) :]
        if len(steps):
            self.least = min(int(steps.min()), self.least if self.least is not None else int(steps.min()))
        self.last = int(words.effect[-1])
        self.reads += int(np.count_nonzero(own.read)) if own.read is not None else 0
        self.broken += int(np.count_nonzero(own.table.spare))


@dataclass
class TextReport:
    """One report. path: of the capture. every: all transfers. brief: none. outside: what buses carry, rather than what is behind their bridges."""

    plan: Setup
    path: str
    names: tuple[str, ...]
    tick: Any
    every: bool = False
    brief: bool = False
    outside: bool = False
    radix: str = "hex"
    part: Within | None = None  # what it is given is a part of the capture, of whose transfers this knows the numbers
    full: bool = False  # nothing is cut
    beginning: list[Trace] = field(default_factory=list)  # of which the clocks are measured

    @property
    def rig(self) -> Rig:
        """The rig it is read by."""
        return self.plan.rig

    def write(self, out: Console, blocks: Blocks, decoder: RigDecoder | Within, counts: Counts) -> None:
        """Reads all blocks, then prints."""
        rows = Rows(self.rig, self.outside, None if self.every else (HEAD, TAIL), MOST_WORDS if self.full else SHOWN_WORDS)
        measured: dict[tuple[str, str], _Measured] = {}
        marked: set[str] = set()
        with tempfile.TemporaryFile("w+", encoding="utf-8") as store:
            sheet = _like(out, store)
            waiting: list[Row] = []
            told = 1
            for piece in pieces_of(self._beginning(blocks), decoder, counts):
                counts.add(piece)
                for own in piece.channels:
                    measured.setdefault((own.bus, own.select), _Measured()).see(own)
                done = [] if self.brief else rows.take(piece, decoder.waiting, self._picture)
                waiting += done
                while len(waiting) >= PAGE:
                    sheet.print(self._table(waiting[:PAGE], 0, marked, told))
                    told += PAGE
                    del waiting[:PAGE]
            waiting += rows.take(Decoded(), None, self._picture)
            if waiting:
                sheet.print(self._table(waiting, 0, marked, told))
            sheet.file.flush()
            self._summary(out, counts, measured, decoder)
            if self.brief:
                return
            out.print()
            if not rows.count:
                called = all(BUSES[bus.kind].addressed for bus in self.rig.bus)
                out.print("No transaction was seen." if called else "No word was seen.")
                return
            if self.every:
                store.seek(0)
                for line in store:
                    out.file.write(line)
            else:
                out.print(self._table([*rows.head, *rows.tail], rows.count - len(rows.head) - len(rows.tail), marked, 1))
        if marked:
            out.print(Text("   ".join(f"{mark} {what}" for mark, what in LEGEND.items() if mark in marked), style="quiet"))

    def _beginning(self, blocks: Blocks) -> Iterator[Any]:
        """The blocks, of which the first are kept."""
        seen = 0
        for block in blocks:
            if seen < i2c_timing.CLOCKED and any(BUSES[bus.kind].addressed for bus in self.rig.bus):
                self.beginning.append(as_changes(block))
                seen += len(self.beginning[-1])
            yield block

    # ---- the summary ----

    def _summary(
        self, out: Console, counts: Counts, measured: dict[tuple[str, str], _Measured], decoder: RigDecoder | Within
    ) -> None:
        here = [bus for bus in self.rig.bus if bus.name not in decoder.absent]
        kinds = " and ".join(dict.fromkeys(BUSES[bus.kind].title for bus in here))
        lines = ", ".join(dict.fromkeys(line for bus in here for line in bus.lines.values() if line in self.names))
        out.print(Text(f"{self.path}: {show(counts.duration, 's')} of {kinds}, on {lines}", style="head"))
        notes(out, counts.notes)
        for name, error in decoder.absent.items():
            out.print(Text().append(f"{'note':<9}", style="note").append(f"bus '{name}' is not in the capture: {error.what}"))
        assumed(out, self.plan)
        grid = Table.grid(padding=(0, 3, 0, 0))
        buses = {bus.name: bus for bus in self.rig.bus}
        for (place, select), own in measured.items():
            bus = buses.get(place)
            kind = BUSES[bus.kind] if bus is not None else None
            if kind is not None and kind.scanned:
                continue
            grid.add_row(place + (f", {select}" if select else ""), self._said(place, own, counts, (place, select), decoder))
            if place in counts.called:
                self._addresses(grid, place, counts)
        for device in self.rig.device:
            if self.rig.way_to(device)[0].name not in decoder.absent:
                grid.add_row(device.name, self._device(device, counts))
        out.print(grid)
        if self.outside:
            for scan in counts.scans.values():
                out.print()
                rows_table(out, self.tick, scan)

    def _device(self, device: Any, counts: Counts) -> str:
        target = self.rig.target(device)
        if device.name in counts.scans:
            said = scan_said(float(self.tick), counts.scans[device.name], target.panel.form == "digits")
            return f"{target.part.name} {target.panel.name}: {said}"
        commands, data = counts.commands[device.name], counts.data[device.name]
        text = f"{target.part.name}: {counted(commands, 'command')}" + (f", {counted(data, 'data byte')}" if data else "")
        return text + (f", behind {device.on}" if self.rig.bridge_named(device.on) else "")

    def _addresses(self, grid: Table, bus: str, counts: Counts) -> None:
        """Who was called."""
        names = {entry.address: entry.name for entry in self.rig.device if entry.on == bus}
        names |= {entry.address: entry.name for entry in self.rig.bridge if entry.on == bus}
        for address, called, answered, missed in counts.addresses(bus):
            times = "once" if called == 1 else f"{called:,} times"
            if address < 0:
                grid.add_row("  cut off", f"{times}, address not captured")
                continue
            how = "all answered" if answered == called else "none answered" if not answered else f"{answered:,} answered"
            how += f", {counted(missed, 'byte')} refused" if missed else ""
            grid.add_row(f"  {address:#04x}", f"{times}, {how}" + (f": {names[address]}" if address in names else ""))

    def _said(self, place: str, own: _Measured, counts: Counts, key: tuple[str, str], decoder: RigDecoder | Within) -> str:
        """One channel in a line."""
        transactions, words = counts.by_channel[key]
        bus = next((bus for bus in self.rig.bus if bus.name == place), None)
        kind = BUSES[bus.kind if bus is not None else counts.kinds[place]]
        tick = float(self.tick)
        if kind.addressed:
            rate = self._clock(bus) if bus is not None else None
            ahead = f"clock {show(rate, 'Hz')} ({i2c_timing.MODES[i2c_timing.mode_of(rate)]}): " if rate else ""
            text = f"{ahead}{counted(transactions, 'transaction')} with {counted(words, 'word')}"
            over = counts.disturbed[place]
            text += "".join(
                f"; {count:,} spikes on {role.upper()} ignored"
                for count, role in zip(over.spikes, ("scl", "sda"), strict=True)
                if count
            )
            text += f"; {over.stray:,} clocks outside transactions" if over.stray else ""
        elif kind.transfers:
            mode = f"mode {bus.mode}, " if bus is not None and "mode" in kind.settings else ""
            clock = (
                f", clock {show((kind.bit_times if kind.started else own.bits - 1) / (own.span * tick), 'Hz')}"
                if own.span and own.bits > 1
                else ""
            )
            what = f"{counted(own.bits, 'bit')} a word" if own.bits > 1 else "bit by bit"
            text = f"{mode}{what}{clock}: {counted(transactions, 'transfer')} with {counted(words, 'word' if own.bits > 1 else 'bit')}"
        elif kind.each_rests:
            text = f"{own.bits} data lines: {words:,} words" + (f", {own.reads:,} of them reads" if own.reads else "")
            text += f", {show(own.least * tick, 's')} apart at the least" if own.least is not None else ""
        elif kind.one_wire:
            text = f"{counted(transactions, 'update')} with {counted(words, 'byte')}"
        else:
            text = f"a chain of {own.bits} bits: {words:,} loads"
        return text + (f", {own.broken:,} of them end in mid-word" if own.broken else "")

    def _clock(self, bus: Any) -> float | None:
        from ..trace import joined

        if not self.beginning:
            return None
        trace = joined(self.beginning)
        return i2c_timing.usual_clock(trace, trace.index(bus.lines["scl"]), trace.index(bus.lines["sda"]))

    def _picture(self, told: Told, index: int) -> str:
        """What a scanned display shows from a moment on."""
        target = next(self.rig.target(device) for device in self.rig.device if device.name == told.device)
        from ..part.scanned import picture_said

        return picture_said(told.commands.bytes_of(index), target.panel)

    # ---- the transfers ----

    def _table(self, rows: list[Row], left_out: int, marked: set[str], base: int) -> Table:
        """base: the number of the first row."""
        tick = float(self.tick)
        numbers = [base + number + (left_out if number >= HEAD else 0) for number in range(len(rows))]
        if self.part is not None:
            numbers = [self.part.number(row.start) for row in rows]
            for at in range(1, len(numbers)):  # of several that begin at one tick
                numbers[at] = max(numbers[at], numbers[at - 1] + 1)
        lines = [line for number, row in zip(numbers, rows, strict=True) for line in self._lines(row, number, marked)]
        times = time_column([when * tick for _, when, _, _, _ in lines], max(tick, 1e-7))
        several = len({(row.channel.bus, row.channel.select) for row in rows}) > 1
        table = plain_table()
        table.add_column("no", justify="right", no_wrap=True, style="quiet")
        table.add_column("at", justify="right", no_wrap=True)
        if several:
            table.add_column("on", no_wrap=True)
        table.add_column("words", overflow="fold", ratio=3)
        table.add_column("meaning", overflow="fold", ratio=3)
        for time, (which, _, place, text, meaning) in zip(times, lines, strict=True):
            if left_out and which == str(numbers[HEAD]):
                more = Text(f"{left_out:,} more; --all shows them, --from and --to pick a part", style="quiet")
                table.add_row("", "…", *([""] if several else []), more, "")
            table.add_row(which, time, *([place] if several else []), text, meaning)
        return table

    def _lines(self, row: Row, number: int, marked: set[str]) -> list[tuple[str, int, str, Text, str]]:
        """A transfer in a line; where it brings several commands, each has a line of its own below. Number, tick, place, words, meaning."""
        text, marks = words_of(row.channel, row.index, self.radix, MOST_WORDS if self.full else SHOWN_WORDS)
        marked |= marks
        place = f"{row.channel.bus} {row.channel.select}".strip()
        told = each_told(row)
        if len(told) < 2:
            bridged = bridge_said(self.rig, row.channel, row.index)
            said = [f"{bridged} → {meanings(row)}" if bridged and told else bridged or meanings(row), _ending(row)]
            return [(str(number), row.start, place, text, "; ".join(part for part in said if part))]
        out = [(str(number), row.start, place, text, _ending(row))]
        most = len(told) if self.full else MOST_TOLD
        for when, raw, count, meaning in told[:most]:
            words = " ".join(spelled(word, 8, self.radix) for word in raw) + (f" … {count:,}" if count > len(raw) else "")
            out.append(("", when, "", Text(f"  {words}", style="quiet"), meaning))
        if len(told) > most:
            left = Text(f"  {len(told) - most:,} more; --full tells all", style="quiet")
            out.append(("", told[most][0], "", left, ""))
        return out


def _like(out: Console, store: Any) -> Console:
    """A console that writes to a file what another one would print."""
    from .console import THEME, Tidy

    file: Any = store if not out.no_color else Tidy(store)
    return Console(
        file=file, theme=THEME, force_terminal=not out.no_color, width=out.width, highlight=False, emoji=False,
        color_system=out.color_system if not out.no_color else None, no_color=out.no_color, markup=False,  # type: ignore[arg-type]
    )  # fmt: skip


def _ending(row: Row) -> str:
    """How a transfer begins or ends where that is not as usual."""
    own, index = row.channel, row.index
    kind, spare = BUSES[own.kind], int(own.table.spare[index])
    began, ended = int(own.table.began[index]), int(own.table.ended[index])
    said = []
    if kind.addressed:
        if began == CUT:
            said.append("its beginning was not captured")
        if ENDED[ended] == "cut":
            said.append("broken off" + (f" in mid-word ({counted(spare, 'bit')})" if spare else ""))
    elif spare:
        said.append(f"broken off in mid-word ({counted(spare, 'bit')})")
    elif ENDED[ended] == "cut" and kind.transfers and (own.select or kind.started):
        said.append("the capture ends in it")
    return "; ".join(said)


def words_of(own: Channel, index: int, radix: str = "hex", most: int = SHOWN_WORDS) -> tuple[Text, set[str]]:
    """The first words of a transfer; a mark where data begin, at a read, and at what nobody acknowledged."""
    first, last = int(own.table.first[index]), int(own.table.last[index])
    text, was = Text(), 0
    marked: set[str] = set()
    naks: set[int] = set()
    if own.who is not None:
        here = slice(index, index + 1)
        address, who = int(own.who.address[index]), own.who
        way = "from" if who.read[index] else "to"
        began = MARK_SIGNS.get(int(own.table.began[index]), "")
        if began:
            text.append(f"{began} ", style="note")
            marked.add(began)
        text.append(
            f"{way} {address:#05x}"
            if who.ten_bit[index]
            else f"{way} {address:#04x}"
            if address >= 0
            else "address not captured",
            style="quiet",
        )
        if address >= 0 and not who.answered[index]:
            text.append(" N", style="fault")
            marked.add("N")
        text.append(": " if last > int(who.first[index]) else " ", style="quiet")
        behind = int(who.first[index])
        naks = set((np.flatnonzero(refused(own.words, own.table.take(here), who.take(here))[behind:last]) + behind).tolist())
        first = behind
    gap, most = (" ", most) if own.bits > 1 else ("", 4 * most)  # single bits stand side by side
    for at in range(first, min(last, first + most)):
        read = own.read is not None and bool(own.read[at])
        now = 2 if read else 1 if own.dc is not None and own.dc[at] == 1 else 0
        if now and now != was:
            mark = "‹" if now == 2 else "›"
            text.append(f"{mark} ", style="note")
            marked.add(mark)
        was = now
        text.append(spelled(int(own.words.value[at]), own.bits, radix) + gap)
        if at in naks:
            text.append("N ", style="fault")
            marked.add("N")
    if last - first > most:
        text.append(f"{'' if gap else ' '}… {last - first:,} in all ", style="quiet")
        if naks and min(naks) >= first + most:
            text.append(f"N at byte {min(naks) - first} ", style="fault")
            marked.add("N")
    if own.who is not None and int(own.table.ended[index]) == STOP:
        text.append("P", style="note")
        marked.add("P")
    return text, marked
