"""Steps of a sequence on a timeline, and findings that have their place there."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from typing import Any

import msgspec

from ..finding import Finding, finding_of
from .listing import Item
from .target import Step, Target

__all__ = ["LATENT", "Timed", "finding_at", "placed"]

LATENT = Fraction(100, 10**6)  # seconds up to which whoever sends keeps a part's times by itself, word for word


class Timed(msgspec.Struct):
    """A step on the timeline. start: seconds from the first step. words: of its transfers on the bus. took: seconds on the wire."""

    step: Step
    start: Fraction
    took: Fraction
    words: list[list[int]]
    items: list[Item]
    findings: list[Finding] = []


def finding_at(
    code: str,
    target: Target,
    entry: Timed | None,
    said: str = "",
    evidence: Mapping[str, object] | None = None,
    over: tuple[Fraction, Fraction] | None = None,
    **values: Any,
) -> Finding:
    """A finding at a step. said: which of the code's sentences; values: what stands in its braces. over: the time that it is about, from
    and to, where that is not the moment of the step."""
    start, end = over or ((entry.start, entry.start) if entry is not None else (None, None))
    found = finding_of(
        code,
        said,
        device=target.name,
        start=None if start is None else float(start),
        end=None if end is None else float(end),
        **values,
    )
    return placed(found, entry, evidence)


def placed(found: Finding, entry: Timed | None, evidence: Mapping[str, object] | None) -> Finding:
    """A finding with the place of its step."""
    place = entry.step.place if entry is not None else ""
    found.summary = f"{place}: {found.summary}" if place else found.summary
    found.evidence = {"place": place, **(evidence or {})}
    return found
