"""Mishaps: what can be done to a sequence on purpose."""

from __future__ import annotations

from msgspec.structs import replace

from ..errors import HushedError, nearest
from ..part.describe import Value
from ..part.wrap import Send
from . import parse
from .parse import Statement
from .target import Step

__all__ = ["alter_step", "drop_step", "shorten"]


def _must_match(steps: list[Step], name: str) -> None:
    if not any(step.name == name for step in steps):
        raise HushedError(f"the sequence has no step '{name}'", remedy=nearest(name, sorted({step.name for step in steps})))


def drop_step(steps: list[Step], detail: str) -> list[Step]:
    """`drop-step:NAME`: the driver never sends these steps."""
    _must_match(steps, detail)
    return [step for step in steps if step.name != detail]


def shorten(steps: list[Step], detail: str) -> list[Step]:
    """`shorten:NAME,COUNT`: the driver sends only the first COUNT data bytes of the last such step."""
    name, _, text = detail.partition(",")
    count = parse.number(text)
    if count is None or count < 0:
        raise HushedError(f"'{detail}' is not NAME,COUNT", remedy="like: --mishap shorten:picture,512")
    _must_match(steps, name)
    at = max(index for index, step in enumerate(steps) if step.name == name)
    sends = []
    for send in steps[at].sends:
        kept = send.raw[:count] if send.data else send.raw
        count -= len(kept) if send.data else 0
        if kept:
            sends.append(Send(send.data, kept, send.chips))
    return [*steps[:at], replace(steps[at], sends=tuple(sends)), *steps[at + 1 :]]


def alter_step(statements: list[Statement], detail: str) -> list[Statement]:
    """`alter-step:NAME.FIELD=VALUE`: the driver sends this command with another value."""
    left, equals, value = detail.partition("=")
    name, dot, field_name = left.partition(".")
    if not equals or not dot or not any(statement.verb == name for statement in statements):
        known = sorted({statement.verb for statement in statements})
        raise HushedError(
            f"'{detail}' names no step and field", remedy=f"like: alter-step:multiplex-ratio.lines=32; {nearest(name, known)}"
        )
    as_number = parse.number(value)
    new: Value = value if as_number is None else as_number
    return [
        replace(statement, words=(), fields={**statement.fields, field_name: new}) if statement.verb == name else statement
        for statement in statements
    ]
