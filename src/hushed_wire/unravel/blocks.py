"""Set-up against pictures: blocks of data, and the words ahead of each, in which pointers step and windows are set."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from .talk import Step

__all__ = ["Block", "Habits", "Told", "habits_of", "told_of"]

MOSTLY = 0.8  # share of all data that comes behind one code where that one writes to memory
PARAMETERS = 16  # data words of a command at most
LEAST = 2  # other commands with data, where data are parameters, too


@dataclass(frozen=True)
class Block:
    """Data for memory. lead: words since the block before, (data?, value). capture: which. start, end: ticks. first, last: the steps that bring
    it and its lead."""

    lead: tuple[tuple[bool, int], ...]
    data: bytes
    capture: int
    start: int
    end: int
    first: int
    last: int


@dataclass(frozen=True)
class Told:
    """All captures of a display. parameters: "data" where a command's parameters are marked as data. write: the code that data for memory follow,
    -1 where they follow anything. set_up: words ahead of the first block's lead, by capture."""

    steps: list[list[Step]]
    blocks: list[Block]
    parameters: str
    write: int

    @property
    def usual_lead(self) -> int:
        """Words of most leads, those of first blocks apart, which have the set-up in theirs."""
        seen: set[int] = set()
        lengths: list[int] = []
        for block in self.blocks:
            if block.capture in seen:
                lengths.append(len(block.lead))
            seen.add(block.capture)
        if not lengths:
            return min((len(block.lead) for block in self.blocks), default=0)
        return Counter(lengths).most_common(1)[0][0]


@dataclass(frozen=True)
class Habits:
    """What a driver does over and over. blocks: of data. again: of these, sent as they were ahead already, to the same place. between: words
    between pictures that place no data, and how often each came."""

    blocks: int
    again: int
    between: dict[int, int]


def habits_of(told: Told, length: int) -> Habits:
    """length: words of a lead that place its block."""
    seen: set[tuple[int, tuple[tuple[bool, int], ...], bytes]] = set()
    begun: set[int] = set()
    again = 0
    between: Counter[int] = Counter()
    for block in told.blocks:
        key = block.capture, block.lead[-length:] if length else (), block.data
        again += key in seen
        seen.add(key)
        if block.capture in begun:
            between.update(value for data, value in block.lead[: len(block.lead) - length] if not data)
        begun.add(block.capture)
    return Habits(len(told.blocks), again, dict(between.most_common()))


def told_of(captures: Sequence[list[Step]]) -> Told:
    """Steps of several captures, cut into blocks."""
    with_data = [step for steps in captures for step in steps if step.args and step.code]
    total = sum(len(step.args) for step in with_data)
    behind: Counter[int] = Counter()
    for step in with_data:
        behind[step.code[-1]] += len(step.args)
    write, size = behind.most_common(1)[0] if behind else (-1, 0)
    others = [step for step in with_data if step.code[-1] != write]
    parameters = (
        "data"
        if total
        and size >= MOSTLY * total
        and len({step.code[-1] for step in others}) >= LEAST
        and max(len(step.args) for step in others) <= PARAMETERS
        and max(len(step.args) for step in with_data) > PARAMETERS
        else "command"
    )
    blocks: list[Block] = []
    for number, steps in enumerate(captures):
        lead: list[tuple[bool, int]] = []
        first = 0
        for index, step in enumerate(steps):
            lead += [(False, word) for word in step.code]
            if not step.args or not (step.code or lead):
                continue  # no data, or data of a block whose beginning was not captured
            if parameters == "data" and step.code[-1:] != (write,):
                lead += [(True, word) for word in step.args]
                continue
            blocks.append(Block(tuple(lead), step.args, number, step.start, step.end, first, index))
            lead, first = [], index + 1
    return Told(list(captures), blocks, parameters, write if parameters == "data" else -1)
