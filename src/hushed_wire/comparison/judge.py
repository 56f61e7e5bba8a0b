"""Does a difference matter? Asked of the part's own description: what registers hold at the end, what memory holds, what bring-up asks for.

A command that one side has more, or has otherwise, matters where it leaves something that shows or that the part needs. All sentences are
in `reasons.toml`.
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..part.bring_up import applies
from ..part.describe import PLACING, Command, Part, Value
from ..part.engine import DATA
from .sides import Told
from .steps import Steps

__all__ = ["Judge", "Reason", "reason"]

WRITING = {"clear", "digit"}  # effects that write into the memory themselves
# Those that only say where the next data go, or write there themselves: judged by what the memory holds.
MEMORY = PLACING | WRITING | {"shift", "write-on"}
# Roles of registers by which a pointer moves on, and those that tell how the bus is wired.
MOVING = {"mode", "direction", "shift", "bank", "sequential"}
WIRED = {"width"}


@dataclass(frozen=True)
class Reason:
    """Why. key: its row in the table."""

    key: str
    matters: bool
    because: str


@lru_cache(maxsize=1)
def _table() -> dict[str, dict[str, Any]]:
    return tomllib.loads((Path(__file__).parent / "reasons.toml").read_text(encoding="utf-8"))


def reason(key: str, **values: object) -> Reason:
    """A row of the table, filled in."""
    row = _table()[key]
    return Reason(key, bool(row["matters"]), str(row["because"]).format(**values))


def _held(model: Any, ticks: list[int], told: Told) -> list[dict[str, Value]]:
    """What registers hold at moments in order: as set by then, else as a reset leaves them where the set-up is there."""
    out, now, at = [], dict(told.part.reset if told.started else {}), 0
    for tick in ticks:
        while at < len(model.registers) and model.registers[at][0] <= tick:
            _, name, value = model.registers[at]
            now[name] = value
            at += 1
        out.append(dict(now))
    return out


@dataclass
class Judge:
    """One chip of a display on both sides. a, b: what it was told. steps: its commands."""

    a: Told
    b: Told
    chip: int
    steps: tuple[Steps, Steps]

    @property
    def part(self) -> Part:
        """Whose rules are asked."""
        return self.a.part

    def _models(self) -> tuple[Any, Any]:
        found = [getattr(told.memory, "models", [told.memory])[self.chip] for told in (self.a, self.b)]
        return found[0], found[1]

    @cached_property
    def registers(self) -> tuple[dict[str, Value], dict[str, Value]]:
        """At the end: as set, else as a reset leaves them where the set-up is there, else missing. What a model notes for itself is not among them."""
        own = {f"{command.owner}.{entry.name}" for command in self.part.command for entry in command.fields.values()}
        out = [
            {**(told.part.reset if told.started else {}), **{name: value for name, value in model.now.items() if name in own}}
            for told, model in zip((self.a, self.b), self._models(), strict=True)
        ]
        return out[0], out[1]

    @cached_property
    def moving(self) -> set[str]:
        """Registers that only say how the pointer moves on, or which commands a code means."""
        roles = self.part.memory.registers
        placing = {
            f"{command.owner}.{entry.name}"
            for command in self.part.command
            if command.effect in MEMORY
            for entry in command.fields.values()
        }
        return placing | set(self.part.modes) | {name for role, name in roles.items() if role in MOVING}

    @cached_property
    def wired(self) -> set[str]:
        """Registers that tell how the bus is wired."""
        return {name for role, name in self.part.memory.registers.items() if role in WIRED}

    @cached_property
    def unlike(self) -> dict[str, tuple[Value, Value]]:
        """Settings that differ at the end, where both are known."""
        a, b = self.registers
        skip = self.moving | self.wired
        return {name: (a[name], b[name]) for name in sorted(set(a) & set(b)) if name not in skip and str(a[name]) != str(b[name])}

    def unlike_at(self, ticks: tuple[list[int], list[int]]) -> list[dict[str, tuple[Value, Value]]]:
        """Settings that differ at moments of both sides, where both are known then, and that do not differ at the end. ticks: of each side, the
        same number, in order."""
        skip = self.moving | self.wired | set(self.unlike)
        sides = [_held(model, own, told) for model, own, told in zip(self._models(), ticks, (self.a, self.b), strict=True)]
        return [
            {
                name: (a[name], b[name])
                for name in sorted(set(a) & set(b) & set(self.registers[0]))
                if name not in skip and str(a[name]) != str(b[name])
            }
            for a, b in zip(*sides, strict=True)
        ]

    @cached_property
    def unknown(self) -> list[str]:
        """Settings that one side made and the other may have made ahead of its capture."""
        a, b = self.registers
        return sorted((set(a) ^ set(b)) - self.moving - self.wired)

    @cached_property
    def memory(self) -> tuple[NDArray[np.int64], int] | None:
        """The addresses at which the memory differs, and how many cells it has; None where it has none.

        What only one side wrote counts where it is not blank: what a memory holds at power-on nobody knows, and drivers clear it or not.
        """
        a, b = self._models()
        if not hasattr(a, "at") or not hasattr(b, "at"):  # what has no memory of its own, or is shown as it comes
            return None
        (held_a, wrote_a), (held_b, wrote_b) = a.at(), b.at()
        if held_a.shape != held_b.shape:
            return None
        differ = (held_a != held_b) & (wrote_a | wrote_b)
        return np.flatnonzero(differ.reshape(-1)), held_a.size

    @property
    def same_memory(self) -> bool:
        """Whether both leave the memory the same."""
        return self.memory is None or not len(self.memory[0])

    @cached_property
    def _culprits(self) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        """For each side and command whether it wrote, as the last one, a cell that differs, or leads there."""
        out = []
        for steps, model in zip(self.steps, self._models(), strict=True):
            wrong = np.zeros(len(steps), bool)
            if self.memory is not None and len(self.memory[0]) and len(steps):
                times, addresses, _ = model.journal()
                last = np.full(self.memory[1], -1, np.int64)
                last[addresses] = np.arange(len(addresses))
                written = np.unique(times[last[self.memory[0]][last[self.memory[0]] >= 0]])
                ends = steps.commands.payload.time[steps.first + steps.count - 1]
                writes = np.array([self._writes(kind) for kind in steps.kind.tolist()])
                for lo, hi in zip(np.searchsorted(ends, written), np.searchsorted(ends, written, "right"), strict=True):
                    span = slice(lo, max(hi, lo + 1))  # commands of one step of a sequence have one time
                    wrong[span] |= writes[span]
                following = np.zeros(len(steps), bool)
                state = False
                for index in range(len(steps) - 1, -1, -1):  # what places the next data is to blame with them
                    state = bool(wrong[index]) if writes[index] else state
                    following[index] = state
                wrong |= following
            out.append(wrong)
        return out[0], out[1]

    def _writes(self, kind: int) -> bool:
        return kind == DATA or (kind >= 0 and self.part.command[kind].effect in WRITING)

    def _of_memory(self, side: int, index: int, else_: str) -> Reason:
        """Of a command that writes to memory or says where: does what differs at the end come from it?"""
        return self._memory_reason() if self._culprits[side][index] else reason(else_)

    def _memory_reason(self) -> Reason:
        assert self.memory is not None
        where, size = self.memory
        return reason("other-memory", count=f"{len(where):,}", size=f"{size:,}", address=int(where[0]))

    def of(self, side: int, index: int, changed: int | None = None) -> Reason:
        """Of a command that only one side has (0: A, 1: B), or that the other has otherwise. index: in its steps; changed: in the other's."""
        steps, other = self.steps[side], self.steps[1 - side]
        names = {"side": "AB"[side], "other": "BA"[side], "part": self.part.name}
        kind = int(steps.kind[index])
        if kind == DATA:
            return self._of_memory(side, index, "same-memory")
        if kind < 0:
            return reason("unknown", **names)
        command = self.part.command[kind]
        fields, note = steps.fields_of(index)
        beside = "" if changed is None else other.fields_of(changed)[1]
        if note and not beside:
            return reason("undocumented", note=note, **names)
        if command.effect in MEMORY:
            return self._of_memory(side, index, "pointer")
        if command.effect == "reset":
            return self._reset(side, kind, names)
        if fields:
            return self._setting(side, index, command, fields, names)
        if kind in other.kinds:
            return reason("sent-again", **names)
        asked = {rule.step for rule in self.part.bring_up if rule.step and applies(rule, self.a.panel)}
        if command.name in self.part.start_up or command.name in asked:
            return reason("missing-step" if (self.b, self.a)[side].started else "before", **names)
        return reason("nothing")

    def _reset(self, side: int, kind: int, names: Mapping[str, str]) -> Reason:
        told = (self.b, self.a)[side]
        if kind in self.steps[1 - side].kinds:
            return reason("sent-again", **names)
        return reason("reset-by-line" if told.resets else "no-reset" if told.started else "before", **names)

    def _setting(self, side: int, index: int, command: Command, fields: dict[str, Value], names: Mapping[str, str]) -> Reason:
        """Of a command that sets registers."""
        own = [f"{command.owner}.{name}" for name in fields]
        bad = next((name for name in own if name in self.unlike), None)
        if bad is not None:
            a, b = self.unlike[bad]
            return reason("at-the-end", register=bad.replace(".", " "), a=a, b=b)
        if all(name in self.wired | self.moving for name in own):
            moved = any(name in self.moving for name in own)
            return self._of_memory(side, index, "addressing") if moved else reason("bus-width")
        if any(name in self.unknown for name in own):
            return reason("never-set" if self.a.started and self.b.started else "before", **names)
        steps, other = self.steps[side], self.steps[1 - side]
        if other.count_of(int(self.steps[side].ids[index])) >= steps.count_of(int(steps.ids[index])):
            return reason("order")
        before = steps.in_force(index, self.part.reset if (self.a, self.b)[side].started else {})
        values = {f"{command.owner}.{name}": value for name, value in fields.items()}
        if all(str(before.get(name)) == str(value) for name, value in values.items()):
            at_reset = not any(name in steps.set_before(index) for name in values)
            return reason("reset-value" if at_reset else "repeated")
        if any(name in self.wired for name in own) and all(
            str(self.registers[0].get(name)) == str(self.registers[1].get(name)) for name in own if name not in self.wired
        ):
            return reason("bus-width")
        return reason("set-again")

    def order_rules(self) -> list[tuple[int, str, Reason]]:
        """Steps that one side has in the order that the part asks for, and the other has not: the side, the step, why."""
        out = []
        for rule in self.part.bring_up:
            if not rule.before or not applies(rule, self.a.panel):
                continue
            wrong = [steps.is_behind(rule.step, rule.before) for steps in self.steps]
            if wrong[0] != wrong[1]:
                side = wrong.index(True)
                out.append((side, rule.step, reason("order-rule", side="AB"[side], rule=rule.summary)))
        return out
