"""A sequence as it is sent again: with longer rests, only as far as the first picture, or with one of its steps changed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction

import msgspec

from ..errors import HushedError
from ..part.control import IS_DATA
from ..part.wrap import Send
from .target import Step

__all__ = ["PICTURE", "Variant", "slowed", "until_picture", "variants"]

PICTURE = 16  # data bytes in one step from which on it brings a picture, or a part of one
DATA_FOLLOW = bytes([IS_DATA])  # the control byte ahead of data, up to the end of the transaction
MOST_VALUES = 256


def slowed(steps: Sequence[Step], times: Fraction, least: Fraction) -> list[Step]:
    """Steps with their rests so many times as long, and behind each that sends something at least `least` seconds."""
    return [
        msgspec.structs.replace(step, wait=max(step.wait * times, least if step.sends else Fraction(0)), takes=step.takes * times)
        for step in steps
    ]


def until_picture(steps: Sequence[Step], drawn: Sequence[str], controlled: bool = False) -> list[Step]:
    """What comes ahead of the first picture: a step that is drawn, or that brings many data. drawn: names of steps that are. controlled: the
    words are those behind an address on I2C, where a control byte may tell that they are data.

    Raises HushedError where none comes.
    """
    for number, step in enumerate(steps):
        data = sum(len(send.raw) for send in step.sends if send.data or (controlled and send.raw[:1] == DATA_FOLLOW))
        if step.name in drawn or data >= PICTURE:
            return list(steps[:number])
    raise HushedError(
        "no picture comes in it: nothing is drawn, and no step has many data bytes",
        where="--until",
        remedy="on a bus where nothing marks data, say --to instead",
    )


@dataclass(frozen=True)
class Variant:
    """A sequence with something changed. said: what, in words. number: of the step. value: of the byte that was set, -1 where the step is left out."""

    said: str
    steps: list[Step]
    number: int
    value: int = -1


def variants(steps: Sequence[Step], upto: int, what: str) -> Iterator[Variant]:
    """Every sequence that differs in one step. upto: how many steps of them, the first ones, are tried. what: "steps", each left out in turn; or
    LINE:BYTE=FIRST-LAST, a byte (from 1) of what a line sends, stepped through a range; LAST/STEP for fewer of them.

    Raises HushedError where `what` is neither.
    """
    if what == "steps":
        for number, step in enumerate(steps[:upto]):
            if step.sends:
                yield Variant(f"{step.place}: '{step.text}' left out", [*steps[:number], *steps[number + 1 :]], number)
        return
    line, byte, values = _range(what)
    own = [number for number, step in enumerate(steps) if step.place.rpartition(":")[2] == str(line) and step.sends]
    if not own:
        raise HushedError(f"line {line} sends nothing", where="--vary", remedy="name the line of a step that sends words")
    number = own[0]
    step = steps[number]
    size = sum(len(send.raw) for send in step.sends)
    if not 1 <= byte <= size:
        raise HushedError(f"'{step.text}' has no byte {byte}", where="--vary", remedy=f"it sends {size}, counted from 1")
    for value in values:
        changed = msgspec.structs.replace(step, sends=tuple(_with(step.sends, byte - 1, value)))
        said = f"{step.place}: byte {byte} of '{step.text}' is {value:#04x}"
        yield Variant(said, [*steps[:number], changed, *steps[number + 1 :]], number, value)


def _range(what: str) -> tuple[int, int, range]:
    import re

    found = re.fullmatch(r"(\d+):(\d+)=(0x[0-9a-fA-F]+|\d+)-(0x[0-9a-fA-F]+|\d+)(?:/(\d+))?", what)
    if not found:
        raise HushedError(
            f"'{what}' is nothing to vary", where="--vary", remedy="steps, or LINE:BYTE=FIRST-LAST, like 9:2=0-63/8"
        )
    first, last, step = int(found[3], 0), int(found[4], 0), int(found[5] or 1)
    if not 0 <= first <= last <= 255 or not 1 <= step <= MOST_VALUES:
        raise HushedError(
            f"'{what}': no range of bytes", where="--vary", remedy="from 0 to 255, the first one not above the last"
        )
    return int(found[1]), int(found[2]), range(first, last + 1, step)


def _with(sends: Sequence[Send], byte: int, value: int) -> Iterator[Send]:
    """Sends with one of their bytes set."""
    for send in sends:
        if 0 <= byte < len(send.raw):
            raw = bytearray(send.raw)
            raw[byte] = value
            send = send._replace(raw=bytes(raw))
        byte -= len(send.raw)
        yield send
