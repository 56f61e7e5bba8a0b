"""SPI: words of 1 to 32 bits under a clock, between the edges of a select, with a line or a bit that tells data from commands.

Strategy: the sampling edges of the clock are found as a column; their number since the select became active gives word and bit.
A word takes effect with its last sampling edge; that is also where the D/C line counts. Modes: CPOL is the idle level of the
clock, CPHA whether data are sampled at its first (0) or second (1) edge. Both directions are in this file.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..trace import Trace
from ..trace.model import Samples, Times, word_type
from .base import SELECTS, select_of
from .changes import behind_quiet, number_within
from .channel import Channel, ChannelDecoder, OpenTransfers, Wanted, Wired
from .moves import TICK, Move, Pace, begins
from .pieces import Pauses, States
from .spi_bits import Bits, Shape, values_of
from .words import CUT, END, START, STOP, Marks, Transactions, Words, transactions

if TYPE_CHECKING:
    from collections.abc import Mapping

    from .stretches import Measurer

__all__ = ["Decoder", "Piece", "Shape", "SpiChannel", "SpiDecoded", "decode", "decoders", "durations", "encode", "fresh_start", "measuring", "samples_a_second",
           "seconds_of", "wires"]  # fmt: skip

USUAL_CLOCK = Fraction(1_000_000)
SAMPLES_A_CLOCK = 12
PAUSE = 24  # without a select: how many of the shortest clock periods make a pause between transactions
WAITED = 1 << 21  # bits of a transfer that was under way when the capture began, within which its end is waited for


@dataclass(eq=False)
class SpiDecoded:
    """words, their D/C levels (None without that line; 2 where it is unknown) and the transactions (one a select).

    answers: (n,) what MISO said in each word, None without that line.
    """

    words: Words
    dc: NDArray[np.uint8] | None
    transactions: Transactions
    answers: NDArray[np.uint32] | None = None


def durations(lengths: Times, shape: Shape) -> Times:
    """Ticks from select to deselect of transfers of so many words."""
    return shape.lead + lengths * shape.bits * 2 * shape.half + shape.trail


def encode(
    value: NDArray[np.uint32],
    lengths: Times,
    start: Times,
    shape: Shape,
    roles: dict[str, int],
    names: tuple[str, ...],
    tick: Fraction,
    end: int,
    dc: NDArray[np.bool_] | None = None,
    select: list[str] | None = None,
) -> Trace:
    """The trace that a driver makes of words; the twin of `decode`.

    value: (n,). lengths, start: (m,) words and first tick of each transfer. roles: role to line number. dc: (n,) level of the
    D/C line. select: (m,) the role of the select line of each transfer, "" where none moves.

    The states come in order as they are, two a bit, so nothing is sorted: a colour frame has 2.5 million of them.
    """
    kind = word_type(len(names))
    idle, late = shape.mode >> 1, shape.mode & 1
    clock, rest = kind(1 << roles["sck"]), kind(sum(1 << line for role, line in roles.items() if _at_rest(role, shape, idle)))
    # A state of the lines beside the clock for each word, then for each bit.
    owner, _ = number_within(lengths)
    chosen = select if select is not None else [""] * len(lengths)
    flips = np.array([1 << roles[role] if role in roles else 0 for role in chosen], kind)
    lines = (rest & ~clock) ^ flips  # (m,) with the select of each transfer active
    of_word = lines[owner]
    if dc is not None and "dc" in roles:
        of_word = of_word | dc.astype(kind) << kind(roles["dc"])
    bits = _bits(value, shape).astype(kind) << kind(roles["mosi"])
    of_bit = (of_word[:, None] | bits).reshape(-1)
    first, second = (of_bit, of_bit | clock) if idle == late else (of_bit | clock, of_bit)
    # Each transfer: select, D/C ahead of the first bit, two states a bit, the clock at rest, deselect.
    count = lengths * shape.bits
    base = 1 + np.cumsum(4 + 2 * count) - (4 + 2 * count)  # behind the state at rest
    size = 1 + int((4 + 2 * count).sum())
    times, levels = np.zeros(size, np.int64), np.full(size, rest, kind)
    origin = start + shape.lead  # of the bits of each transfer, which come without a rest
    if int(count.sum()) > 256 * len(count):
        for where, when, many, ahead in zip(
            base.tolist(), origin.tolist(), count.tolist(), (np.cumsum(count) - count).tolist(), strict=True
        ):
            span = slice(where + 2, where + 2 + 2 * many)
            times[span] = np.arange(when, when + 2 * many * shape.half, shape.half)
            levels[span][0::2], levels[span][1::2] = first[ahead : ahead + many], second[ahead : ahead + many]
    else:  # many short transfers
        bit_owner, bit_number = number_within(count)
        at = base[bit_owner] + 2 + 2 * bit_number
        bit_start = origin[bit_owner] + 2 * bit_number * shape.half
        times[at], levels[at] = bit_start, first
        times[at + 1], levels[at + 1] = bit_start + shape.half, second
    stop = start + durations(lengths, shape)
    ends = stop - shape.trail
    idle_bit = clock if idle else kind(0)
    data_line = kind(1 << roles["mosi"])
    last_bit = np.cumsum(count) - 1
    held = np.where(count > 0, of_bit[np.maximum(last_bit, 0)], lines) if len(of_bit) else lines
    before = np.concatenate([np.zeros(1, kind), held[:-1] & data_line]).astype(kind)  # data stay as they were between transfers
    opens = (
        np.where(count > 0, of_bit[np.minimum(last_bit + 1 - count, max(0, len(of_bit) - 1))], lines) if len(of_bit) else lines
    )
    keep_dc = kind(1 << roles["dc"]) if "dc" in roles else kind(0)
    was_dc = np.concatenate([np.zeros(1, kind), held[:-1] & keep_dc]).astype(kind)
    for offset, when, level in (
        (0, start, lines | before | was_dc | idle_bit),
        (1, start + shape.lead // 2, (opens & ~data_line) | before | idle_bit),
        (2 + 2 * count, ends, held | idle_bit),
        (3 + 2 * count, stop, (held ^ flips) | idle_bit),
    ):
        times[base + offset], levels[base + offset] = when, level
    # Only beside the bits can a state repeat, or two fall on one moment: of these the later stays.
    edge = np.unique(np.concatenate([base + k for k in (0, 1, 2)] + [base + 2 + 2 * count, base + 3 + 2 * count]))
    edge = edge[edge < size]
    repeated = edge[levels[edge] == levels[edge - 1]]
    early = (edge - 1)[times[edge] == times[edge - 1]]
    gone = np.unique(np.concatenate([repeated, early]))
    times, levels = np.delete(times, gone), np.delete(levels, gone)
    return Trace(names, times, levels, max(end, int(times[-1]) + 1), tick)


def _bits(value: NDArray[np.uint32], shape: Shape) -> NDArray[np.uint8]:
    """(n, bits) in the order in which they go over the wire."""
    if shape.bits == 8:
        order: Literal["big", "little"] = "big" if shape.msb_first else "little"
        return np.unpackbits(value.astype(np.uint8)[:, None], axis=1, bitorder=order)
    places = np.arange(shape.bits - 1, -1, -1) if shape.msb_first else np.arange(shape.bits)
    return (value[:, None].astype(np.uint32) >> places.astype(np.uint32) & 1).astype(np.uint8)


def _at_rest(role: str, shape: Shape, idle: int) -> int:
    return idle if role == "sck" else 1 - shape.active if role.startswith("cs") else 0


def decode(
    trace: Trace, sck: int, mosi: int, shape: Shape, cs: int | None = None, dc: int | None = None, miso: int | None = None
) -> SpiDecoded:
    """The words of a whole trace; numbers are those of lines. Without a select, pauses part the transactions."""
    decoder = Decoder(sck, mosi, shape, cs, dc, miso)
    pieces = [decoder.feed(trace), decoder.finish()]
    words = Words.join([piece.words for piece in pieces])
    marks = Marks.join([piece.marks for piece in pieces])
    levels = None if dc is None else np.concatenate([piece.dc for piece in pieces if piece.dc is not None])
    answers = None if miso is None else np.concatenate([piece.answers for piece in pieces if piece.answers is not None])
    return SpiDecoded(words, levels, transactions(marks), answers)


@dataclass(eq=False)
class Piece:
    """What became complete: words, their D/C levels, marks, and what MISO said in each word."""

    words: Words
    dc: NDArray[np.uint8] | None
    marks: Marks
    answers: NDArray[np.uint32] | None = None


class Decoder:
    """Words and marks from blocks of a trace; `feed(block)` then `finish()`, each giving what became complete."""

    def __init__(
        self, sck: int, mosi: int | None, shape: Shape, cs: int | None = None, dc: int | None = None, miso: int | None = None
    ) -> None:
        """sck, mosi, cs, dc, miso: line numbers in the blocks; None where there is no such line, or nobody asks what it said."""
        self.sck, self.mosi, self.shape, self.cs, self.dc, self.miso = sck, mosi, shape, cs, dc, miso
        idle, late = shape.mode >> 1, shape.mode & 1
        self.edge = (1 - idle) if not late else idle
        self.states = States()
        self.pauses = Pauses(PAUSE)
        self.open: bool | None = None  # None: nothing was fed yet
        self.held = Bits.none()  # of the word that has begun; of a transfer whose words are not told apart yet, all
        self.underway = (
            False  # the transfer that is open may have begun ahead of the capture, so where its words begin is not known
        )
        self.words = 0
        self.start: int | None = None
        self.end = 0

    def feed(self, block: Trace | Samples) -> Piece:
        """The words that are complete within `block`."""
        states, self.end = self.states, block.end
        self.start = block.start if self.start is None else self.start
        states.feed(block)
        at = states.to(self.sck, self.edge)
        own = Bits(
            states.when(at),
            states.bit(self.mosi, at) if self.mosi is not None else np.zeros(len(at), np.uint8),
            states.bit(self.miso, at) if self.miso is not None else None,
            states.bit(self.dc, at, ahead=False) if self.dc is not None else None,
        )
        if self.cs is None:
            return self._words(own, *self._by_pauses(own))
        return self._words(own, *self._by_select(at, block))

    def finish(self) -> Piece:
        """The rest: a transaction still open is closed by a mark."""
        when, kind = np.empty(0, np.int64), np.empty(0, np.uint8)
        if self.open:
            over = self.cs is None and self.pauses.over(self.end)
            when, kind = np.array([self.end if not over else self.pauses.last or 0]), np.array([STOP if over else END], np.uint8)
        return self._words(Bits.none().like(self.held), np.zeros(len(when), np.int64), when, kind)

    def _by_select(self, at: NDArray[np.int64], block: Trace | Samples) -> tuple[NDArray[np.int64], Times, NDArray[np.uint8]]:
        """How many of the block's bits came before each edge of the select, and the edges: when, and START or STOP."""
        states, active = self.states, self.shape.active
        assert self.cs is not None
        edges, level = states.moves(self.cs)
        kinds = np.where(level == active, np.uint8(START), np.uint8(STOP))
        if len(kinds):  # out of the unknown a select may open or close twice: what does not change anything is none
            keep = np.append(True, kinds[1:] != kinds[:-1])
            edges, kinds = edges[keep], kinds[keep]
        when, cuts = states.when(edges), np.searchsorted(at, edges)
        if self.open is None and len(states.levels):  # it may have been active when the capture began
            first = int(states.bit(self.cs, np.zeros(1, np.int64), ahead=False)[0])
            self.open = False
            if first == active or (len(kinds) and kinds[0] == STOP):
                when, cuts = np.append(block.start, when), np.append(0, cuts)
                kinds = np.append(np.uint8(CUT), kinds)
                self.underway = True
        return cuts, when, kinds

    def _by_pauses(self, own: Bits) -> tuple[NDArray[np.int64], Times, NDArray[np.uint8]]:
        """The same without a select: a transaction ends with its last bit ahead of a pause."""
        last = self.pauses.last
        ahead = np.flatnonzero(self.pauses.feed(own.time))
        before = own.time[np.maximum(ahead - 1, 0)]
        if len(ahead) and ahead[0] == 0:
            before[0] = last or 0
        cuts, kinds = np.repeat(ahead, 2), np.tile(np.array([STOP, START], np.uint8), len(ahead))
        when = np.stack([before, own.time[ahead]], axis=1).reshape(-1)
        if not self.open and len(own.time):
            self.underway = True
            when, cuts, kinds = np.append(own.time[0], when), np.append(0, cuts), np.append(np.uint8(START), kinds)
        self.open = self.open or bool(len(own.time))
        return cuts, when, kinds

    def _words(self, own: Bits, cuts: NDArray[np.int64], when: Times, kinds: NDArray[np.uint8]) -> Piece:
        """Words of all bits between marks; the bits of a word that is not complete are kept if the transaction goes on."""
        bits, ahead = self.shape.bits, len(self.held.time)
        every = Bits.join([self.held, own])
        # Stretches of bits: what was open, then between marks; those that begin with a STOP are nobody's.
        edges = np.concatenate([[0], cuts + ahead, [len(every.time)]])
        inside = np.append(bool(self.open) if self.cs is not None else True, (kinds == START) | (kinds == CUT))
        if self.cs is None and not len(kinds) and not self.open:
            inside[0] = False
        first, count = edges[:-1], np.where(inside, np.diff(edges), 0)
        waiting = self._aligned(every, first, count, kinds, inside) if self.underway else False
        whole = count // bits
        if waiting:
            whole[-1] = 0
        marks = Marks(
            when, kinds, self.words + np.cumsum(whole)[:-1],
            np.where((kinds == STOP) | (kinds == END), (count % bits)[:-1], 0).astype(np.uint8),
        )  # fmt: skip
        if len(kinds) or self.cs is not None:
            self.open = bool(inside[-1])
        keep = int(count[-1] if waiting else count[-1] % bits) if inside[-1] else 0
        self.held = every.take(slice(len(every.time) - keep, None))
        taken = every.take(slice(0, len(every.time) - keep)) if keep else every
        if int(whole.sum()) * bits != len(taken.time):  # some bits are nobody's
            owner, number = number_within(whole * bits)
            taken = every.take(first[owner] + number)
        at = taken.time.reshape(-1, bits)
        value, unclear = values_of(taken.data, self.shape)
        words = Words(value, at[:, 0], at[:, -1], at[:, -1], np.ones(len(value), bool), unclear)
        self.words += len(value)
        answers = None if taken.answer is None else values_of(taken.answer, self.shape)[0]
        return Piece(words, None if taken.dc is None else taken.dc.reshape(-1, bits)[:, -1], marks, answers)

    def _aligned(
        self,
        every: Bits,
        first: NDArray[np.int64],
        count: NDArray[np.int64],
        kinds: NDArray[np.uint8],
        inside: NDArray[np.bool_],
    ) -> bool:
        """Leaves out, in place, the bits of a word that the capture began in; True while nothing tells yet how many these are.

        Behind a rest a word begins. A transfer that is over had whole words up to its end. One that goes on and on (a select that is tied)
        tells by the first change of D/C, which drivers move between words; else by nothing, and its first bit is taken for a word's.
        """
        own = int(np.flatnonzero(inside)[0]) if inside.any() else len(count)  # the first that is anybody's is the one
        if own >= len(count):
            return False
        over = own < len(count) - 1
        if not over and int(count[own]) < WAITED:
            return True
        self.underway = False
        size, bits = int(count[own]), self.shape.bits
        span = slice(int(first[own]), int(first[own]) + size)
        spare = 0
        rest = int(every.time[span.start]) - (self.start or 0) if size else 0
        if size > 1 and rest > PAUSE * int(np.diff(every.time[span]).min()):
            pass
        elif over and int(kinds[own]) == STOP:
            spare = size % bits
        elif size and every.dc is not None:
            changed = every.dc[span] != every.dc[span.start]
            spare = int(np.argmax(changed)) % bits
        first[own] += spare
        count[own] -= spare
        return False


class SpiChannel:
    """The transfers of one select."""

    def __init__(self, wired: Wired, select: str, bits: int) -> None:
        """select: role of a select line, "" for none. bits: of a word."""
        own, roles = wired.settings, wired.roles
        shape = Shape(bits, 1, 0, 0, own.mode, own.msb_first, own.active)
        self.decoder = Decoder(roles["sck"], roles.get("mosi"), shape, roles.get(select), roles.get("dc"), roles.get("miso"))
        self.open = OpenTransfers(wired.name, "spi", select, bits)

    def feed(self, block: Trace | Samples) -> Channel:
        """The transfers that are complete with a block."""
        return self._take(self.decoder.feed(block))

    def finish(self) -> Channel:
        """The rest."""
        return self._take(self.decoder.finish())

    @property
    def held(self) -> int | None:
        """The tick at which the first word began that is kept."""
        return self.open.held

    def _take(self, piece: Piece) -> Channel:
        return self.open.take(piece.words, piece.marks, dc=piece.dc, answers=piece.answers)


def decoders(wired: Wired, wanted: list[Wanted]) -> list[ChannelDecoder]:
    """A channel for each select and length of word that something listens to, and for each select where nobody does, as somebody speaks."""
    heard = [(select_of(wired.roles, each.select), each.bits or wired.settings.bits or 8) for each in wanted]
    selects: list[str] = [role for role in SELECTS if role in wired.roles]
    heard += [(role, wired.settings.bits or 8) for role in selects or [""] if role not in {name for name, _ in heard}]
    return [SpiChannel(wired, role, bits) for role, bits in dict.fromkeys(heard)]


def fresh_start(block: Trace, wired: Wired) -> int | None:
    """A tick behind which nothing depends on what came ahead: behind the end of a select, where no other one is active."""
    selects = [line for role, line in wired.roles.items() if role in SELECTS]
    if not selects:
        return None
    kind = block.levels.dtype.type
    mask = kind(sum(1 << line for line in selects))
    idle = (block.levels & mask) == (kind(0) if wired.settings.active else mask)
    return behind_quiet(block, np.flatnonzero(idle[1:] & ~idle[:-1]) + 1, 4)


def measuring(roles: Mapping[str, int], mode: int, active: int, select: str) -> Measurer:
    """Measures times, by their names in the kind's measures. mode: of SPI. active: the level that selects. select: its role, "" for none."""
    from .edges_timing import measure_spi
    from .stretches import EachByItself

    return EachByItself(lambda trace: measure_spi(trace, roles, mode, active, select))


# ---- what a driver moves -----------------------------------------------------------------------------------------------------


def wires(moves: list[Move], wired: Wired, pace: Pace, names: tuple[str, ...], lead: int, tail: int) -> tuple[Trace, Times]:
    """The exact trace of moves, and the tick at which each begins; its lines beside the bus stay low."""
    own = wired.settings
    half = max(1, int(1 / pace.serial_clock(USUAL_CLOCK) / TICK / 2))
    lengths = {move.bits for move in moves if len(move.words)} or {8}
    bits = max(lengths)
    if len(lengths) > 1:  # several devices: words of whole bytes are the same on the wires as their bytes
        if any(each % 8 for each in lengths):
            raise HushedError("words of nine bits and of whole bytes on one bus", remedy="rehearse one device at a time")
        moves, bits = [_in_bytes(move) for move in moves], 8
    shape = Shape(bits, half, 2 * half, half, own.mode, own.msb_first, own.active)
    sizes = np.array([len(move.words) for move in moves], np.int64)
    took = np.where(sizes > 0, durations(sizes, shape), 0)
    start = begins(moves, took, lead)
    end = (int(start[-1] + took[-1]) if len(moves) else lead) + tail
    busy = sizes > 0
    words = np.concatenate([np.empty(0, np.uint32), *(move.words for move in moves)])
    data = np.concatenate([np.empty(0, bool), *(move.data for move in moves)])
    select = [move.select for move in moves if len(move.words)]
    return encode(words, sizes[busy], start[busy], shape, wired.roles, names, TICK, end, data, select), start


def _in_bytes(move: Move) -> Move:
    """A move of longer words as one of bytes, the high one first."""
    each = move.bits // 8
    if each == 1:
        return move
    raw = move.words.astype(">u4").view(np.uint8).reshape(-1, 4)[:, 4 - each :].reshape(-1).astype(np.uint32)
    pauses = np.repeat(move.pauses, each)
    return Move(
        move.device, raw, np.repeat(move.data, each), move.gap, pauses, 8, move.chips, move.select, move.address, move.levels
    )


def seconds_of(move: Move, wired: Wired, pace: Pace) -> float:
    """How long a move takes."""
    return len(move.words) * move.bits / float(pace.serial_clock(USUAL_CLOCK)) + float(move.pauses.sum() * TICK)


def samples_a_second(wired: Wired, pace: Pace) -> Fraction:
    """Enough for the shortest thing on the wires."""
    return SAMPLES_A_CLOCK * pace.serial_clock(USUAL_CLOCK)
