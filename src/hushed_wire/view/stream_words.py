"""The records of `stream` for buses other than I2C: each channel holds one block and the transaction that is open."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..rig.channel import LONGEST, Channel, Runs, in_pieces
from ..rig.hearers import Hearer, hearers, of_parallel, of_shift
from ..rig.schema import Bus
from ..rig.shaped import NOTHING, Shape, shaped
from ..trace import Source, Trace
from ..trace.model import Samples, joined
from .json_text import json_bytes
from .stream import Told, json_lines
from .transfers import transfers

if TYPE_CHECKING:
    from ..bus import parallel_count, spi_count

    Tally = spi_count.Tally | parallel_count.Tally

__all__ = ["known_shape", "word_records"]


def known_shape(source: Source, bus: Bus, given: Shape = NOTHING) -> tuple[dict[str, str], int]:
    """Sets how a bus is clocked by the beginning of a capture, and says what it set; and the shortest step between its words there."""
    roles = {role: source.names.index(line) for role, line in bus.lines.items()}
    waiting: list[Trace] = []
    for block in source.blocks():
        waiting.append(block)
        if sum(map(len, waiting)) >= FIRST:
            break
    assumed: dict[str, str] = {}
    _begun(waiting, bus, roles, assumed, True, given)
    runs = Runs()
    if bus.kind == "parallel":
        of_parallel(bus, roles, runs)(joined(waiting))
    return assumed, runs.pauses.shortest


def word_records(
    source: Source,
    bus: Bus,
    notes: list[Any],
    summary_only: bool = False,
    known: dict[str, str] | None = None,
    told: Told = json_lines,
    runs: Runs | None = None,
    given: Shape = NOTHING,
) -> Iterator[bytes]:
    """The records of an SPI, parallel or shift bus, in pieces, the last one the summary; what the reader noted goes to `notes`.

    known: what was assumed, where it was worked out before how the bus is clocked. told: transactions as bytes.
    runs: what parts the transactions of a parallel bus; the summary then says by which steps it did. given: what is known of how the bus is
    clocked.
    """
    empty = Trace(tuple(source.names), np.empty(0, np.int64), np.empty(0, np.uint8), 0, source.tick)
    roles = {role: empty.index(line) for role, line in bus.lines.items()}
    if len(set(roles.values())) < len(roles):
        raise HushedError("one line plays two roles", where="--line", remedy="give each role a line of its own")
    if known is not None and summary_only and (tallies := _tallies(bus, roles, runs)):
        yield _counted(source, tallies, known, runs)
        return
    all_hearers: list[Hearer] = [] if known is None else hearers(bus, roles, runs, summary_only)
    waiting: list[Trace] = []
    assumed: dict[str, str] = known or {}
    counts = {"transactions": 0, "words": 0}
    tick = source.tick.as_integer_ratio()
    last: Trace | Samples | None = None
    for block in source.pieces():
        last = block
        now: list[Trace | Samples] = [block]
        if not all_hearers:  # how the bus is clocked shows with the first words
            waiting.append(block if isinstance(block, Trace) else block.trace())
            if sum(map(len, waiting)) < FIRST:
                continue
            all_hearers = _begun(waiting, bus, roles, assumed, summary_only, given)
            now, waiting = [*waiting], []
        for each in now:
            out = _encoded(told, [piece for hearer in all_hearers for piece in hearer(each)], tick, counts, summary_only)
            if out:
                yield out
    if not all_hearers and waiting:
        all_hearers = _begun(waiting, bus, roles, assumed, summary_only, given)
    for end in [*waiting, None]:
        yield _encoded(told, [piece for hearer in all_hearers for piece in hearer(end)], tick, counts, summary_only)
    if last is not None:
        notes += last.notes
    yield _summary(counts, assumed, runs)


def _tallies(bus: Bus, roles: dict[str, int], runs: Runs | None) -> list[Tally]:
    """What counts the words of a bus in raw samples without reading one; empty where they have to be read."""
    active = 1 if bus.select == "high" else 0
    if bus.kind == "spi":
        from ..bus import spi, spi_count

        shape = spi.Shape(bus.bits or 8, 1, 0, 0, bus.mode, bus.order == "msb", active)
        return [spi_count.Tally(roles["sck"], line, shape) for role, line in roles.items() if role.startswith("cs")]
    if bus.kind != "parallel":
        return []
    from ..bus import parallel_count

    return [parallel_count.Tally(roles, (runs or Runs()).pauses, active)] if parallel_count.can_count(roles) else []


def _counted(source: Source, tallies: list[Tally], known: dict[str, str], runs: Runs | None) -> bytes:
    """The summary of raw samples of which no word need be read."""
    counts = {"transactions": 0, "words": 0}

    def add(words: NDArray[np.int64]) -> None:
        counts["words"] += int(words.sum())
        counts["transactions"] += int(np.maximum(-(-words // LONGEST), 1).sum())  # long ones are told in pieces

    for block in source.pieces():
        assert isinstance(block, Samples)
        for tally in tallies:
            add(tally.feed(block))
    for tally in tallies:
        add(tally.finish())
    return _summary(counts, known, runs)


def _summary(counts: dict[str, int], assumed: dict[str, str], runs: Runs | None) -> bytes:
    steps = {} if runs is None else {"steps": {"shortest": str(runs.pauses.shortest), "longest": str(runs.pauses.longest)}}
    return json_bytes({"record": "summary", **counts, "assumed": assumed, **steps}, pretty=False)


def _begun(
    waiting: list[Trace], bus: Bus, roles: dict[str, int], assumed: dict[str, str], counted: bool, given: Shape
) -> list[Hearer]:
    """What decodes a bus (or only counts its words), as its first blocks show that it is clocked."""
    seen = joined(waiting)
    if len(seen) > FIRST:  # so that nothing depends on the size of blocks
        seen = seen.window(seen.start, int(seen.times[FIRST]))
    shaped(seen, bus, assumed, given)
    if bus.kind == "shift":
        from ..bus import shift

        bits = -(-shift.chain_length(seen, roles) // 8) * 8
        return [of_shift(bus, roles, bits)]
    return hearers(bus, roles, counted=counted)


def _encoded(told: Told, pieces: list[Channel], tick: tuple[int, int], counts: dict[str, int], brief: bool) -> bytes:
    out = b""
    for channel in pieces:
        counts["transactions"] += len(in_pieces(channel.words, channel.table))
        counts["words"] += int((channel.table.last - channel.table.first).sum())
        if not brief and len(channel.table):
            out += told(transfers(channel, tick), channel.bits)
    return out


FIRST = 2_000  # changes by which it is known how a bus is clocked
