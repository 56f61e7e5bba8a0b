"""Findings: one fault each, with a code from a closed table, the evidence and the remedy.

A code names a cause that somebody can act on. The table (`codes.toml`) fixes its severity, so that a script may rely on it, and holds every
sentence that people are told, so that these can be read as a whole; rules yield numbers and names.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec

from .compiled import read_compiled
from .grades import CONFIDENCES, SEVERITIES

__all__ = ["Code", "Finding", "Said", "code_of", "codes", "finding_of", "phrase"]

TABLE = Path(__file__).parent / "codes.toml"


class Said(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """What people are told, with what was measured in braces."""

    summary: str
    remedy: str


class Code(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """One code. severity: fault, warning or note. means: in one clause. looks, why, mend: for `--about`. said: by variant, "usual" first of all.

    explains: layers that it explains, where that is not as usual for its own. also: codes that it explains, too.
    """

    severity: str
    means: str
    looks: str
    why: str
    mend: str
    said: dict[str, Said] = {}
    explains: list[str] | None = None
    also: list[str] = []


@lru_cache(maxsize=1)
def codes() -> dict[str, Code]:
    """Every code, in the order of the table."""
    return read_compiled(TABLE, dict[str, Code])


def code_of(name: str) -> Code:
    """One code."""
    return codes()[name]


@dataclass(slots=True)
class Finding:
    """One fault. `lines` are names in the capture; times in seconds; `evidence` maps a short name to what was measured. bus: its name.
    aside: what whoever found it knows beside that, for other rules; nobody is told."""

    code: str
    summary: str
    remedy: str
    confidence: str = "certain"
    device: str | None = None
    lines: list[str] = field(default_factory=list)
    start: float | None = None
    end: float | None = None
    count: int = 1
    evidence: dict[str, Any] = field(default_factory=dict)
    explains: list[str] = field(default_factory=list)
    bus: str = ""
    aside: dict[str, Any] = field(default_factory=dict)

    @property
    def severity(self) -> str:
        """fault, warning or note, from the table of codes."""
        return code_of(self.code).severity

    def rank(self) -> tuple[int, int]:
        """For sorting, the most likely cause first: larger is more urgent."""
        return SEVERITIES.index(self.severity), CONFIDENCES.index(self.confidence)


def phrase(code: str, said: str = "", **values: object) -> Said:
    """What people are told of a finding. said: which of its sentences."""
    text = code_of(code).said[said or "usual"]
    return Said(text.summary.format(**values), text.remedy.format(**values))


def finding_of(
    code: str,
    said: str = "",
    *,
    bus: str = "",
    lines: Sequence[str] = (),
    device: str | None = None,
    start: float | None = None,
    end: float | None = None,
    count: int = 1,
    confidence: str = "certain",
    evidence: Mapping[str, object] | None = None,
    **values: object,
) -> Finding:
    """A finding in the words of its code. values: what stands in the braces of its sentences, beside `device`."""
    text = phrase(code, said, **{"device": device or "", **values})
    return Finding(
        code, text.summary, text.remedy, confidence, device, list(lines), start, end, count, dict(evidence or {}), bus=bus
    )
