"""The value changes of a VCD, taken apart piece by piece with array operations only.

White space splits a piece into tokens, the first byte of a token gives its class, times and identifier codes become numbers, and `fold` turns the
changes into packed words. A piece always ends between two complete changes; changes at the last time of a piece wait for the next piece,
since more of them may follow. Lines of the plainest kind go a shorter way (`vcd_plain.py`).
"""

from __future__ import annotations

from fractions import Fraction
from typing import Any, NoReturn

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..units import show_time
from .model import HIGH, LOW, UNKNOWN, Note, Times, Trace, fold, word_type
from .vcd_header import PIECE, Header, Lines, Slot
from .vcd_plain import MOST_DIGITS, Parted, Plain, decimals

__all__ = ["Body"]

LONGEST = PIECE  # bytes of a token
MOST_WAITING = 1 << 20  # changes at one time that are kept as they came
OTHER, TIME, SCALAR, VECTOR, PAIR, WORD, CODE = range(7)
CLASS = np.zeros(256, dtype=np.uint8)
for _chars, _kind in ((b"#", TIME), (b"01xXzZuUwWlLhH-", SCALAR), (b"bB", VECTOR), (b"rRsS", PAIR), (b"$", WORD)):
    CLASS[list(_chars)] = _kind
LEVEL = np.full(256, UNKNOWN, dtype=np.uint8)
LEVEL[list(b"0lL")] = LOW
LEVEL[list(b"1hH")] = HIGH


class Body:
    """Takes the value changes apart, piece by piece. `rest` is what the next piece must start with."""

    def __init__(self, header: Header, lines: Lines, name: str, line: int) -> None:
        self.lines, self.name, self.line = lines, name, line
        self.tick, self.notes = header.tick, list(header.notes)
        sample = header.sample / header.tick if header.sample else Fraction(0)
        self.sample = int(sample) if sample.denominator == 1 else 0
        self.grain = 0 if self.sample else -int(-sample // 1)  # between ticks: times are off by up to one sample all the same
        self.rest = b""
        self.plain = Plain(lines) if lines.plain else None
        self.single: NDArray[np.intp] | None = None  # index of each code of one character
        self.now: int | None = None  # time of the last time token
        self.started = False
        self.first = 0  # where the next block begins
        self.in_comment = False
        self.state = (0, (1 << len(lines.names)) - 1)  # packed levels and unknowns, ahead of the first change
        self.waiting: tuple[Times, NDArray[Any], NDArray[np.uint8]] | None = None

    def feed(self, data: bytes) -> Trace | None:
        """The changes in `data` up to the last time in it; None when no time has passed."""
        keep = _behind_space(data)
        if len(data) - keep > LONGEST:
            raise HushedError(
                "a token without end", where=f"{self.name}:{self.line}", remedy="the file is damaged: export it again"
            )
        # Changes of the last time may follow: that time and they are read with the next piece, and what is ahead of it is whole.
        last = 0 if self.in_comment else data.rfind(b"\n#", 0, data.rfind(b"\n")) + 1
        until = _time(data, last) if last else -1
        if until < (self.now or 0):
            last, until = keep, -1
        self.rest = data[last:]
        block = self._plain(data[:last], until)
        if block is None:
            whole = self._take(np.frombuffer(b"\n" + data[:last] + b" ", dtype=np.uint8))
            if self.now is None:
                return None
            block = self._block(max(until, self.now) if whole else self.now)
        return block

    def _plain(self, data: bytes, until: int) -> Trace | None:
        """The block of lines of the plainest kind, up to the time `until`, which is next; None where they are not of that kind."""
        if self.plain is None or not self.clean or not data.startswith(b"#"):
            return None
        part = self.plain.parted(data, until)
        return None if part is None else self.placed(part, until)

    @property
    def clean(self) -> bool:
        """Whether all ahead is told and known, so that what comes next can be taken apart by itself."""
        waits = self.waiting is not None and len(self.waiting[0])
        return self.started and not waits and not self.in_comment

    def placed(self, part: Parted, until: int) -> Trace | None:
        """The block of a piece that was taken apart, up to the time `until`, which is next; None where it does not fit what is ahead."""
        state, dark = self.state
        begun = max(self.first, self.now or 0)
        if int(part.times[0]) < begun or state & part.turned != part.stood or dark & part.turned:
            return None
        times, levels = part.times, part.levels ^ part.levels.dtype.type(state)
        if times[0] > self.first:
            times, levels = np.insert(times, 0, self.first), np.insert(levels, 0, levels.dtype.type(state))
        self.state, self.first, self.now = (int(levels[-1]), dark), until, until
        self.line += part.lines
        return self._trace(times, levels, np.full_like(levels, dark) if dark else None, until)

    def finish(self, cut: bool) -> Trace:
        """What is left. A last token that nothing ends is dropped when it may be half of one."""
        data = self.rest
        keep = _behind_space(data)
        rest = self.rest = data[keep:]
        self._take(np.frombuffer(b"\n" + data[:keep] + b" ", dtype=np.uint8))
        rest = self.rest
        if cut or (rest.strip() and not rest.strip().startswith(b"$")):
            text = f"the file ends in the middle of a change; it was read up to {show_time(float((self.now or 0) * self.tick))}"
            self.notes.append(Note("capture.cut-short", text))
        end = self.now or 0
        if not self.started or (self.waiting is not None and len(self.waiting[0])):
            end += 1  # the last change has to lie inside the trace
        return self._block(end) or self._state_only(end)

    def _state_only(self, end: int) -> Trace:
        kind = word_type(len(self.lines.names))
        unknown = np.array([self.state[1]], dtype=kind) if self.state[1] else None
        return self._trace(np.array([end - 1], dtype=np.int64), np.array([self.state[0]], dtype=kind), unknown, end)

    def _trace(self, times: Times, levels: NDArray[Any], unknown: NDArray[Any] | None, end: int) -> Trace:
        return Trace(
            tuple(self.lines.names), times, levels, end, self.tick, unknown, self.sample, tuple(self.notes), (), self.grain
        )

    def _take(self, buf: NDArray[np.uint8]) -> bool:
        """All complete changes of a piece go to `waiting`; an incomplete pair at the end goes back to `rest`.

        Returns whether the piece ended between two changes: not within a pair, nor within a comment.
        """
        space = buf <= 32
        edge = np.flatnonzero(space[1:] != space[:-1]) + 1
        starts, ends = edge[0::2], edge[1::2]
        kinds = CLASS[buf[starts]]
        if (kinds == WORD).any() or self.in_comment:
            hidden = self._comments(buf, starts, ends, kinds)
            starts, ends, kinds = starts[~hidden], ends[~hidden], kinds[~hidden]
        value, codes = self._pairs(starts, ends, kinds)
        halved = bool(len(value) and value[-1] == len(starts) - 1)
        if halved:  # its code comes with the next piece
            self.rest = buf[starts[-1] : ends[-1]].tobytes() + b" " + self.rest
            starts, ends, kinds, value = starts[:-1], ends[:-1], kinds[:-1], value[:-1]
        kinds[codes] = CODE
        bad = np.flatnonzero(kinds == OTHER)
        if len(bad):
            token = buf[starts[bad[0]] : ends[bad[0]]].tobytes().decode("latin-1")
            self._fail(
                buf, starts[bad[0]], f"'{token[:20]}' is neither a time nor a change", "the file is damaged: export it again"
            )
        ticking = np.flatnonzero(kinds == TIME)
        moments = self._moments(buf, starts[ticking], ends[ticking])
        self._changes(buf, starts, ends, kinds, value, ticking, moments)
        if len(moments):
            self.now = int(moments[-1])
        self.line += int(np.count_nonzero(buf == 10)) - 1
        return not halved and not self.in_comment

    def _fail(self, buf: NDArray[np.uint8], at: int, what: str, remedy: str) -> NoReturn:
        line = self.line + int(np.count_nonzero(buf[:at] == 10)) - 1
        raise HushedError(what, where=f"{self.name}:{line}", remedy=remedy)

    def _comments(self, buf: NDArray[np.uint8], starts: Times, ends: Times, kinds: NDArray[np.uint8]) -> NDArray[np.bool_]:
        """Which tokens belong to comments (they may look like anything)."""
        hidden = np.zeros(len(starts), dtype=bool)
        opened = 0 if self.in_comment else -1
        for index in np.flatnonzero(kinds == WORD).tolist():
            word = buf[starts[index] : ends[index]].tobytes()
            if opened < 0 and word == b"$comment":
                opened = index
            elif opened >= 0 and word == b"$end":
                hidden[opened : index + 1] = True
                opened = -1
        self.in_comment = opened >= 0
        if self.in_comment:
            hidden[opened:] = True
        return hidden

    @staticmethod
    def _pairs(starts: Times, ends: Times, kinds: NDArray[np.uint8]) -> tuple[Times, Times]:
        """Tokens that are the value of a pair (vector or real), and those that are its code.

        A code may look like a value (`b1 b`), so in a run of such tokens every other one is a value.
        """
        candidate = (kinds == VECTOR) | (kinds == PAIR)
        if not candidate.any():
            return np.empty(0, np.int64), np.empty(0, np.int64)
        index = np.flatnonzero(candidate)
        first = np.append(True, np.diff(index) > 1)
        run_start = index[first][np.cumsum(first) - 1]
        value = index[(index - run_start) % 2 == 0]
        codes = value + 1
        return value, codes[codes < len(starts)]

    def _moments(self, buf: NDArray[np.uint8], starts: Times, ends: Times) -> Times:
        lengths = ends - starts - 1
        if len(starts) and (lengths.min() < 1 or lengths.max() > MOST_DIGITS):
            bad = int(np.flatnonzero((lengths < 1) | (lengths > MOST_DIGITS))[0])
            self._fail(buf, starts[bad], "a time without digits, or beyond 18 of them", "the file is damaged: export it again")
        moments, wrong = decimals(buf, ends, lengths)
        if wrong.any():
            self._fail(
                buf, starts[np.flatnonzero(wrong)[0]], "a time that is not a whole number", "the file is damaged: export it again"
            )
        before = moments[0] if self.now is None and len(moments) else self.now
        back = np.flatnonzero(np.diff(moments, prepend=before if before is not None else 0) < 0)
        if len(back):
            at = int(back[0])
            earlier = moments[at - 1] if at else self.now
            text = f"time runs backwards, from #{earlier} to #{moments[at]}"
            self._fail(buf, starts[at], text, "captures were joined or the file is damaged: export one capture")
        return moments

    def _changes(
        self,
        buf: NDArray[np.uint8],
        starts: Times,
        ends: Times,
        kinds: NDArray[np.uint8],
        value: Times,
        ticking: Times,
        moments: Times,
    ) -> None:
        scalar = np.flatnonzero(kinds == SCALAR)
        vector = value[kinds[value] == VECTOR]
        tokens = np.concatenate([scalar, vector])
        # The digits of a change, and its code: behind the digit for a single wire, in the next token for a vector.
        low = np.concatenate([starts[scalar], starts[vector] + 1])
        high = np.concatenate([starts[scalar] + 1, ends[vector]])
        code = self._codes(
            buf,
            np.concatenate([starts[scalar] + 1, starts[vector + 1]]),
            np.concatenate([ends[scalar], ends[vector + 1]]),
        )
        if len(vector):
            order = np.argsort(tokens, kind="stable")
            tokens, low, high, code = tokens[order], low[order], high[order], code[order]
        if self.lines.plain:
            keep = np.flatnonzero(self.lines.line_of[code] >= 0)
            lines = self.lines.line_of[code[keep]]
            levels = LEVEL[buf[high[keep] - 1]]
        else:
            parts = [self._bits(buf, low, high, code, slot) for slot in self.lines.slots]
            keep = np.concatenate([part[0] for part in parts])
            lines = np.concatenate([np.full(len(part[0]), slot.line) for part, slot in zip(parts, self.lines.slots, strict=True)])
            levels = np.concatenate([part[1] for part in parts])
            order = np.argsort(keep, kind="stable")
            keep, lines, levels = keep[order], lines[order], levels[order]
        # The time of a change is that of the last time token ahead of it.
        start = 0 if self.now is None else self.now
        known = np.concatenate([[start], moments])
        times = known[np.cumsum(kinds == TIME, dtype=np.int32)[tokens[keep]]]
        if self.now is None and len(moments) and not len(np.flatnonzero(tokens < ticking[0])):
            start = int(moments[0])
        if self.waiting is None:
            self.waiting = (times, lines, levels)
        else:
            before = self.waiting
            self.waiting = (
                np.concatenate([before[0], times]),
                np.concatenate([before[1], lines]),
                np.concatenate([before[2], levels]),
            )
        if len(self.waiting[0]) > MOST_WAITING:
            self.waiting = _settled(*self.waiting)
        if not self.started and (len(times) or len(moments)):
            self.first = min(start, int(times[0])) if len(times) else start
            self.started = True

    def _codes(self, buf: NDArray[np.uint8], starts: Times, ends: Times) -> NDArray[np.intp]:
        """The index of each code among the declared ones."""
        lengths = ends - starts
        if len(lengths) and int(lengths.max()) == 1 and int(lengths.min()) == 1:  # most files: codes of one character
            if self.single is None:
                self.single = np.full(256, -1, np.intp)
                short = self.lines.keys < 256
                self.single[self.lines.keys[short].astype(np.intp)] = np.flatnonzero(short)
            single = self.single[buf[starts]]
            if int(single.min()) >= 0:
                return single
        keys = np.zeros(len(starts), dtype=np.uint64)
        for place in range(int(lengths.max()) if len(starts) else 0):
            live = place < lengths
            byte = buf[np.where(live, starts + place, starts)].astype(np.uint64)
            grown = keys * np.uint64(256) + byte + (keys >> np.uint64(56)) * np.uint64(1099511628211)
            keys = np.where(live, grown, keys)
        found = np.minimum(np.searchsorted(self.lines.keys, keys), len(self.lines.keys) - 1)
        wrong = np.flatnonzero(self.lines.keys[found] != keys)
        if len(wrong):
            at = int(wrong[0])
            code = buf[starts[at] : ends[at]].tobytes().decode("latin-1")
            what = f"a change of '{code[:20]}', which no $var declares" if code else "a change without an identifier code"
            self._fail(buf, starts[at], what, "the file is damaged: export it again")
        return found

    @staticmethod
    def _bits(
        buf: NDArray[np.uint8], low: Times, high: Times, code: NDArray[np.intp], slot: Slot
    ) -> tuple[Times, NDArray[np.uint8]]:
        """The changes that concern one line, and its level after each; short vectors are extended as IEEE 1364 says."""
        which = np.flatnonzero(code == slot.code)
        at = high[which] - 1 - slot.bit
        short = at < low[which]
        levels = LEVEL[buf[np.where(short, low[which], at)]]
        return which, np.where(short & (levels != UNKNOWN), np.uint8(LOW), levels)

    def _block(self, end: int) -> Trace | None:
        """The trace from where the last block ended up to `end`; changes at or after `end` go on waiting."""
        if not self.started or self.waiting is None:
            return None
        times, lines, levels = self.waiting
        ready = int(np.searchsorted(times, end, side="left"))
        if self.first >= end:
            return None
        self.waiting = (times[ready:], lines[ready:], levels[ready:]) if ready < len(times) else None
        width = len(self.lines.names)
        changed, packed, unknown = fold(times[:ready], lines[:ready], levels[:ready], width, self.state, repeats=True)
        kind = word_type(width)
        if unknown is None and self.state[1]:
            unknown = np.zeros_like(packed)
        if not len(changed) or changed[0] > self.first:
            changed = np.insert(changed, 0, self.first)
            packed = np.insert(packed, 0, kind(self.state[0]))
            unknown = None if unknown is None else np.insert(unknown, 0, kind(self.state[1]))
        self.state = (int(packed[-1]), 0 if unknown is None else int(unknown[-1]))
        self.first = end
        if unknown is not None and not unknown.any():
            unknown = None
        return self._trace(changed, packed, unknown, end)


def _settled(times: Times, lines: NDArray[Any], levels: NDArray[np.uint8]) -> tuple[Times, NDArray[Any], NDArray[np.uint8]]:
    """Changes with only the last one of each line at the last time: that is where it stands then, however often it moved on the way."""
    last = int(np.searchsorted(times, times[-1], side="left"))
    _, behind = np.unique(lines[last:][::-1], return_index=True)
    keep = np.concatenate([np.arange(last), np.sort(len(times) - 1 - behind)])
    return times[keep], lines[keep], levels[keep]


def _behind_space(data: bytes) -> int:
    """Where the last token begins that nothing ends."""
    return max(data.rfind(b"\n"), data.rfind(b" "), data.rfind(b"\t"), data.rfind(b"\r")) + 1


def _time(data: bytes, at: int) -> int:
    """The time of the line that begins at `at`; -1 where it holds none."""
    digits = data[at + 1 : max(at, data.find(b"\n", at))]
    return int(digits) if digits.isdigit() and len(digits) <= 18 else -1
