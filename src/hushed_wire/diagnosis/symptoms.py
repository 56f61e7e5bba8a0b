"""What a person sees on the glass, held against what the capture shows: causes that fit both, and the test that tells the first two apart.

Without a capture every cause that fits the panel counts as far as the symptom makes it likely. With one, a cause that wires would show
counts only where they do, and much; what no wire tells is left as it was.
"""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import msgspec

from ..bus.base import BUSES
from ..finding import Finding, code_of
from ..grades import SYMPTOMS
from ..part import load
from ..rig import Rig

__all__ = ["SYMPTOMS", "Cause", "Ranked", "ranked", "separating"]

SHOWN = 4.0  # how much more a cause counts that the capture shows
BESIDE = 1.0  # what a finding counts that is not among the causes of a symptom


class Cause(msgspec.Struct, forbid_unknown_fields=True):
    """One cause. code: of the finding that names it, or name. seen: how well it goes with each symptom. memory: kinds of panel."""

    seen: dict[str, int]
    test: str
    yes: str
    code: str = ""
    name: str = ""
    text: str = ""
    memory: list[str] = []


@dataclass
class Ranked:
    """A cause with how well it fits: score, and whether the capture shows it (None without a capture, or where no wire tells)."""

    cause: str
    text: str
    score: float
    shown: bool | None
    test: str
    yes: str


@lru_cache(maxsize=1)
def causes() -> list[Cause]:
    """All of them."""
    with (Path(__file__).parent / "symptoms.toml").open("rb") as file:
        return msgspec.convert(tomllib.load(file)["cause"], list[Cause])


def ranked(symptom: str, rig: Rig, findings: list[Finding] | None) -> list[Ranked]:
    """The causes that fit, the best first. findings: of a capture; None where there is only a rig."""
    kinds = {load(device.part).memory.kind for device in rig.device}
    found = {finding.code: finding for finding in findings or [] if finding.severity != "note"}
    out: list[Ranked] = []
    for cause in causes():
        weight = cause.seen.get(symptom, 0)
        if not weight or (kinds and cause.memory and not kinds & set(cause.memory)):
            continue
        if not cause.code:
            out.append(Ranked(cause.name, cause.text, float(weight), None, cause.test, cause.yes))
        elif findings is None and not _applies(cause.code, rig):
            continue
        elif findings is None:
            out.append(Ranked(cause.code, code_of(cause.code).means, float(weight), None, cause.test, cause.yes))
        elif cause.code in found:
            out.append(Ranked(cause.code, found[cause.code].summary, SHOWN * weight, True, cause.test, cause.yes))
    named = {entry.cause for entry in out}
    known = {cause.code: cause for cause in causes()}
    for code, finding in found.items():
        if code not in named and symptom != "flicker-on-camera-only":
            other = known.get(code)
            test, yes = (other.test, other.yes) if other else (finding.remedy, "it goes away")
            out.append(Ranked(code, finding.summary, BESIDE * SHOWN, True, test, yes))
    return sorted(out, key=lambda entry: -entry.score)


def _applies(code: str, rig: Rig) -> bool:
    """Whether a finding can come up on a rig at all."""
    parts, kinds = [load(device.part) for device in rig.device], [BUSES[bus.kind] for bus in rig.bus]
    if code.startswith("setup."):
        return code in GENERAL or any(rule.finding == code for part in parts for rule in part.bring_up)
    if code.startswith("address.") or code in ("wiring.missing-pullup", "wiring.loose-contact"):
        return any(kind.addressed for kind in kinds)
    if code == "wiring.adapter-pins":
        return bool(rig.bridge)
    if code.startswith("frame.") and code != "frame.nibble-slip":
        return any(kind.transfers and not kind.addressed for kind in kinds)
    if code == "wiring.reversed-bus":
        return any(kind.each_rests for kind in kinds)
    return True


GENERAL = ("setup.wrong-controller", "setup.backlight-off")


def separating(entries: list[Ranked]) -> str:
    """The test that tells the first two causes apart, in words; "" where there are not two."""
    if len(entries) < 2:
        return ""
    first, second = entries[0], entries[1]
    if first.test == second.test:
        return f"{first.test}: if {first.yes}, it is {first.cause}; if {second.yes}, it is {second.cause}"
    return f"{first.test}: if {first.yes}, it is {first.cause}; if not, {second.test}, for {second.cause}"
