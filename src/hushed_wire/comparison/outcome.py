"""Two sides compared: the displays matched, and of each the four questions answered, the strictest first.

The same words; the same commands; the same settings and memory at the end; the same pictures. Timing is left aside, and told apart.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from difflib import SequenceMatcher
from typing import Any

import numpy as np

from ..errors import HushedError
from ..part.describe import Value
from .align import Gap, gaps
from .judge import Judge, Reason, reason
from .pictures import Pictures, pictures
from .sides import Side, Told
from .steps import Numbers, Steps
from .waits import Wait, waits

__all__ = ["LEVELS", "Comparison", "Difference", "Matched", "Point", "compare"]

LEVELS = ("words", "commands", "state", "picture")


@dataclass(frozen=True)
class Point:
    """Where a side has something. time: seconds from its beginning, None where it has no times. place: its line in a source."""

    time: float | None
    place: str
    name: str
    raw: bytes
    fields: dict[str, Value]
    note: str = ""


@dataclass
class Difference:
    """kind: "only-a", "only-b" or "changed". count: how often it is so in a row."""

    kind: str
    device: str
    chip: int
    a: Point | None
    b: Point | None
    why: Reason
    count: int = 1


@dataclass
class Matched:
    """A display on both sides. same: by level; None where it cannot be told, and why in `untold`. every: `differences` are all there are."""

    a: Told
    b: Told
    same: dict[str, bool | None]
    differences: list[Difference] = field(default_factory=list)
    waits: list[Wait] = field(default_factory=list)
    pictures: Pictures = field(default_factory=lambda: Pictures(None))
    untold: dict[str, str] = field(default_factory=dict)
    counts: dict[str, tuple[int, int]] = field(default_factory=dict)
    every: bool = True


@dataclass
class Comparison:
    """a, b: the sides. matched: displays that both have. alone: those that one has."""

    a: Side
    b: Side
    matched: list[Matched]
    alone: list[Difference]

    @property
    def differences(self) -> list[Difference]:
        """Of all displays, in order."""
        return [*self.alone, *(entry for one in self.matched for entry in one.differences)]

    @property
    def same(self) -> dict[str, bool | None]:
        """Of all displays, by level."""
        out: dict[str, bool | None] = {}
        for level in LEVELS:
            answers = [one.same[level] for one in self.matched] + [False] * bool(self.alone)
            out[level] = False if False in answers else None if None in answers or not answers else True
        return out

    @property
    def waits(self) -> list[Wait]:
        """Of all displays."""
        return [wait for one in self.matched for wait in one.waits]

    @property
    def first(self) -> Difference | None:
        """The first difference that matters; the first of all where none does."""
        every = self.differences
        return next((entry for entry in every if entry.why.matters), every[0] if every else None)

    def holds(self, by: str = "", times: bool = False) -> bool | None:
        """Whether both do the same: by one level, or by what the glass shows and the part is set to. times: B waits long enough, too."""
        if times and any("B" in wait.short for wait in self.waits):
            return False
        if by:
            return self.same[by]
        answers = [self.same["state"], self.same["picture"]]
        if False in answers or any(entry.why.matters for entry in self.differences):
            return False
        return None if answers == [None, None] else True


def compare(a: Side, b: Side) -> Comparison:
    """Raises HushedError where a side tells no display anything."""
    for side in (a, b):
        if not side.devices:
            raise HushedError(
                "nothing in it is for a display that is known",
                where=side.path,
                remedy="give the rig, or name the part: --part PART (hushed-wire catalog lists them)",
            )
    pairs, alone = _pairs(a, b)
    return Comparison(a, b, [_matched(*pair) for pair in pairs], alone)


def _pairs(a: Side, b: Side) -> tuple[list[tuple[Told, Told]], list[Difference]]:
    """Displays matched by name and part, then by part, then, where one is left on each side, these."""
    left, right = list(a.devices), list(b.devices)
    pairs: list[tuple[Told, Told]] = []
    for alike in (
        lambda x, y: (x.name, x.part.name) == (y.name, y.part.name),
        lambda x, y: x.part.name == y.part.name,
        lambda x, y: len(left) == len(right) == 1,
    ):
        for one in list(left):
            other = next((entry for entry in right if alike(one, entry)), None)
            if other is not None:
                pairs.append((one, other))
                left.remove(one)
                right.remove(other)
    alone = []
    for kind, rest, other_side in (("only-a", left, "B"), ("only-b", right, "A")):
        for told in rest:
            point = Point(None, "", told.part.name, b"", {})
            alone.append(_only(0 if kind == "only-a" else 1, told.name, 0, point, reason("missing-device", other=other_side)))
    return pairs, alone


def _matched(a: Told, b: Told) -> Matched:
    out = Matched(a, b, dict.fromkeys(LEVELS))
    out.pictures = pictures(a, b)
    out.same["picture"] = out.pictures.same
    if out.pictures.why:
        out.untold["picture"] = out.pictures.why
    if a.part.name != b.part.name:
        for level in LEVELS[:3]:
            out.untold[level] = f"{a.part.name} and {b.part.name} have other commands"
    elif a.part.memory.kind == "scanned":
        for level in LEVELS[:3]:
            out.untold[level] = "scanned LEDs take no commands: what counts is what they show"
    elif len(a.chips) != len(b.chips):
        for level in LEVELS[:3]:
            out.untold[level] = f"A has {len(a.chips)} of the chip, B {len(b.chips)}"
    else:
        _told_alike(out)
    for side, shown, why in out.pictures.only:
        point = Point(shown.time or None, "", "picture", b"", {}, "" if why.key == "lit" else shown.glass.said)
        out.differences.append(_only(side, a.name, 0, point, why))
    return out


def _only(side: int, device: str, chip: int, point: Point, why: Reason) -> Difference:
    """What only one side has."""
    return Difference(("only-a", "only-b")[side], device, chip, point if side == 0 else None, point if side == 1 else None, why)


def _told_alike(out: Matched) -> None:
    """Words, commands and state of a display whose part is the same on both sides."""
    a, b = out.a, out.b
    words = commands = True
    state: bool | None = True
    for chip in range(len(a.chips)):
        left, right = a.chips[chip].payload, b.chips[chip].payload
        words &= np.array_equal(left.value, right.value) and np.array_equal(left.data, right.data)
        numbers: Numbers = {}
        steps = Steps.of(a, chip, numbers), Steps.of(b, chip, numbers)
        judge = Judge(a, b, chip, steps)
        found, every = gaps(steps[0].ids, steps[1].ids)
        commands &= not found
        out.every &= every
        out.differences += _told(judge, found)
        stood = _while_they_stood(judge, out.pictures)
        out.differences += stood
        if stood:
            state = False
        for side, step, why in judge.order_rules():
            out.differences.append(_only(side, a.name, chip, Point(None, "", step, b"", {}), why))
        out.waits += waits(*steps, found)
        if judge.unlike or not judge.same_memory:
            state = False
        elif judge.unknown and state:
            state = None
            known = "A" if judge.unknown[0] in judge.registers[1] else "B"
            out.untold["state"] = (
                f"{known} begins behind its set-up: what it set there is not known ({', '.join(judge.unknown[:3]).replace('.', ' ')})"
            )
        out.counts["words"] = _added(out.counts.get("words"), (len(left), len(right)))
        out.counts["commands"] = _added(out.counts.get("commands"), (len(steps[0]), len(steps[1])))
        out.counts["registers"] = _added(out.counts.get("registers"), (len(judge.registers[0]), len(judge.registers[1])))
        out.counts["memory"] = _added(out.counts.get("memory"), (judge.memory[1] if judge.memory else 0, 0))
    out.same |= {"words": bool(words), "commands": bool(commands), "state": state}


def _while_they_stood(judge: Judge, shown: Pictures) -> list[Difference]:
    """Settings that differ while a picture that both have stands, and not at the end: each register once, with how many pictures it is about."""
    if not shown.both:
        return []
    ticks = [a.until for a, _ in shown.both], [b.until for _, b in shown.both]
    out: dict[str, Difference] = {}
    for number, (unlike, (first, second)) in enumerate(zip(judge.unlike_at(ticks), shown.both, strict=True), 1):
        for name, (a, b) in unlike.items():
            if name in out:
                out[name].count += 1
                continue
            command, _, entry = name.partition(".")
            left = Point(first.time if judge.a.timed else None, "", command, b"", {entry: a})
            right = Point(second.time if judge.b.timed else None, "", command, b"", {entry: b})
            why = reason("while-it-stood", register=name.replace(".", " "), a=a, b=b, number=number)
            out[name] = Difference("changed", judge.a.name, judge.chip, left, right, why)
    return list(out.values())


def _added(known: tuple[int, int] | None, more: tuple[int, int]) -> tuple[int, int]:
    return more if known is None else (known[0] + more[0], known[1] + more[1])


def _told(judge: Judge, found: list[Gap]) -> list[Difference]:
    """The differences of one chip, those that follow one another for one reason as one."""
    out: list[Difference] = []
    for gap in found:
        for kind, i, j in _in_gap(judge, gap):
            side, index, other = (0, i, j) if i is not None else (1, j, None)
            assert index is not None
            why = judge.of(side, index, other)
            if other is not None and why.matters is False:
                back = judge.of(1, other, index)  # what B sends instead may matter where what A sent does not
                why = back if back.matters else why
            entry = Difference(
                kind, judge.a.name, judge.chip, None if i is None else _point(judge.steps[0], i),
                None if j is None else _point(judge.steps[1], j), why,
            )  # fmt: skip
            last = out[-1] if out else None
            if last is not None and (last.kind, last.why) == (kind, why) and _named(last) == _named(entry):
                last.count += 1
            else:
                out.append(entry)
    return out


def _named(entry: Difference) -> str:
    point = entry.a or entry.b
    return point.name if point is not None else ""


def _in_gap(judge: Judge, gap: Gap) -> list[tuple[str, int | None, int | None]]:
    """What is only on one side, and what both have otherwise: commands of one kind in the same order belong together."""
    kinds = [judge.steps[0].kind[gap.a.start : gap.a.stop].tolist(), judge.steps[1].kind[gap.b.start : gap.b.stop].tolist()]
    out: list[tuple[str, int | None, int | None]] = []
    i, j = gap.a.start, gap.b.start
    blocks: Any = (
        SequenceMatcher(None, kinds[0], kinds[1], autojunk=False).get_matching_blocks() if max(map(len, kinds)) <= 2048 else []
    )
    for block in [*blocks, None]:
        to = (gap.a.stop, gap.b.stop) if block is None else (gap.a.start + block.a, gap.b.start + block.b)
        out += [("only-a", k, None) for k in range(i, to[0])] + [("only-b", None, k) for k in range(j, to[1])]
        i, j = to
        if block is not None:
            out += [
                ("changed", i + k, j + k) for k in range(block.size) if judge.steps[0].ids[i + k] != judge.steps[1].ids[j + k]
            ]
            i, j = i + block.size, j + block.size
    return out


def _point(steps: Steps, index: int) -> Point:
    fields, note = steps.fields_of(index)
    raw = steps.raw(index)
    time = steps.ends(index) * steps.told.tick if steps.told.timed else None
    return Point(time, steps.place(index), steps.name(index), raw[:16], fields or ({"count": len(raw)} if not note else {}), note)
