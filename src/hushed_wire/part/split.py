"""Words to commands, in plain Python: the loop over commands that captures and pasted bytes share.

Strategy: words come as runs of command words and of data words. Each distinct run of command words is taken apart once in
each state of the modes and remembered. Where parameters travel as data words (MIPI DCS), the data run behind a command
gives it its parameters, and what is left is data; a command that is given fewer keeps the values of the others (MIPI DCS 1.02, 5). Data are
never looked into.
"""

from __future__ import annotations

from collections.abc import Iterable

from .describe import Part, Value

__all__ = ["DATA", "TRUNCATED", "UNKNOWN", "Splitter"]

UNKNOWN, DATA, TRUNCATED = -1, -2, -3  # kinds besides the index of a command

REMEMBERED = 20_000  # runs
Run = tuple[bool, int, int]  # is data, first word, behind the last


class Splitter:
    """Takes runs of words apart by a part's table; keeps the modes between runs."""

    def __init__(self, part: Part) -> None:
        self.part = part
        self.state = part.at_reset
        self.kinds: list[int] = []
        self.firsts: list[int] = []
        self.counts: list[int] = []
        self._length = [command.length for command in part.command]
        self._known: dict[tuple[tuple[Value, ...], bytes], tuple[list[int], list[int], int, tuple[Value, ...]]] = {}
        names = {register.partition(".")[0] for register in part.modes}
        self._switches = {index: command for index, command in enumerate(part.command) if command.owner in names}
        self._needs = 0  # parameters that the last command still waits for, where they travel as data

    def feed(self, raw: bytes, runs: Iterable[Run]) -> None:
        """Takes all runs; `raw` holds all words."""
        for is_data, first, last in runs:
            if self.part.parameters == "data":
                self._apart(raw, is_data, first, last)
            elif is_data:
                self._add(DATA, first, last - first)
            else:
                kinds, counts, rest = self._split(raw[first:last])
                at = first
                for kind, count in zip(kinds, counts, strict=True):
                    self._add(kind, at, count)
                    at += count
                if rest:
                    self._add(TRUNCATED, at, rest)
        if self._needs:  # whoever feeds it piece by piece holds back what still waits
            if self._needs > self.part.command[self.kinds[-1]].optional:
                self.kinds[-1] = TRUNCATED
            self._needs = 0

    def taken(self) -> tuple[list[int], list[int], list[int]]:
        """Kinds, first words and numbers of words of the commands since the last time."""
        out = self.kinds, self.firsts, self.counts
        self.kinds, self.firsts, self.counts = [], [], []
        return out

    def needs(self, word: int) -> int:
        """The parameters of the command that a word begins."""
        kind = self.part.table(self.state)[word]
        return self._length[kind] - 1 if kind >= 0 else 0

    def waiting(self, run: bytes) -> int:
        """How many words at the end of a run of commands wait for more, where the run comes next."""
        if self.part.parameters == "data":
            return int(self.needs(run[-1]) > 0)
        state = self.state
        rest = self._split(run)[2]
        self.state = state
        return rest

    def _add(self, kind: int, first: int, count: int) -> None:
        self.kinds.append(kind)
        self.firsts.append(first)
        self.counts.append(count)

    def _split(self, run: bytes) -> tuple[list[int], list[int], int]:
        """Kinds and lengths of the commands of a run, and how many words at its end wait for their parameters."""
        key = self.state, run
        if key not in self._known:
            if len(self._known) >= REMEMBERED:
                self._known.clear()
            kinds, counts, at, state = [], [], 0, self.state
            table = self.part.table(state)
            while at < len(run):
                kind = table[run[at]]
                count = self._length[kind] if kind >= 0 else 1
                if at + count > len(run):
                    break
                kinds.append(kind)
                counts.append(count)
                if kind in self._switches:
                    state = self._after(state, kind, run[at : at + count])
                    table = self.part.table(state)
                at += count
            self._known[key] = kinds, counts, len(run) - at, state
        kinds, counts, rest, self.state = self._known[key]
        return kinds, counts, rest

    def _after(self, state: tuple[Value, ...], kind: int, raw: bytes) -> tuple[Value, ...]:
        """The modes behind a command that sets some of them."""
        command = self._switches[kind]
        fields = command.decode(raw)[0]
        now = dict(zip(self.part.modes, state, strict=True))
        now |= {f"{command.owner}.{name}": value for name, value in fields.items() if f"{command.owner}.{name}" in now}
        return tuple(now[register] for register in self.part.modes)

    def _apart(self, raw: bytes, is_data: bool, first: int, last: int) -> None:
        """A run where parameters travel as data words."""
        if is_data:
            if self._needs:
                take = min(self._needs, last - first)
                self.counts[-1] += take
                self._needs -= take
                first += take
                kind = self.kinds[-1]
                if not self._needs and kind in self._switches:
                    at = self.firsts[-1]
                    self.state = self._after(self.state, kind, raw[at : at + self.counts[-1]])
            if first < last:
                self._add(DATA, first, last - first)
            return
        table = self.part.table(self.state)
        for at in range(first, last):
            if self._needs and self.counts[-1] == 1 and self._needs > self.part.command[self.kinds[-1]].optional:
                self.kinds[-1] = TRUNCATED
            kind = table[raw[at]]
            self._add(kind, at, 1)
            self._needs = self._length[kind] - 1 if kind >= 0 else 0
