"""What a rule is: a layer, the buses that it is for, and a generator of findings over a case."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from ..bus.base import BusKind
from ..finding import Finding
from .case import Case

__all__ = [
    "Rule",
    "every_bus",
    "has_selects",
    "is_addressed",
    "is_called",
    "is_started",
    "latches",
    "moves_words",
    "not_addressed",
]


def every_bus(kind: BusKind) -> bool:
    """Any kind of bus."""
    return True


def is_addressed(kind: BusKind) -> bool:
    """Buses whose devices are called by address."""
    return kind.addressed


def is_started(kind: BusKind) -> bool:
    """Buses on which START and STOP part transfers, with addresses or without."""
    return kind.started


def is_called(kind: BusKind) -> bool:
    """Such buses without addresses."""
    return kind.started and not kind.addressed


def not_addressed(kind: BusKind) -> bool:
    """All others."""
    return not kind.addressed


def moves_words(kind: BusKind) -> bool:
    """Buses without addresses on which words move."""
    return not kind.addressed and not kind.scanned


def has_selects(kind: BusKind) -> bool:
    """Buses on which a select begins and ends transfers."""
    return kind.transfers and not kind.addressed


def latches(kind: BusKind) -> bool:
    """Buses on which an edge latches the data lines."""
    return kind.each_rests


@dataclass(frozen=True)
class Rule:
    """layer: where it looks; a cause that stands there explains what is above it. on: which kinds of bus it is for."""

    layer: str
    run: Callable[[Case], Iterator[Finding]]
    on: Callable[[BusKind], bool] = every_bus
