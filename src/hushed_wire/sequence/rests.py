"""Rules on the times that a part is to be left alone: behind commands, in its start-up, at power-on, and around a reset."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from typing import Any

from ..finding import Finding
from ..part.describe import Command
from ..units import parse, show
from .listing import Item
from .target import Target
from .timed import LATENT, Timed, finding_at

__all__ = ["power_on", "resets", "waits"]


def waits(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """Commands that come before the part is done with the one ahead of them."""
    busy: tuple[Item, Command, Timed] | None = None
    for entry in own:
        for item in entry.items:
            if busy is not None:
                ahead, command, earlier = busy
                takes = parse(command.takes, "s")
                over = _rest(earlier, entry) if entry is not earlier else (entry.start, entry.start)
                rest = over[1] - over[0]
                if takes > LATENT and rest < takes:
                    evidence = {"needed": show(float(takes), "s"), "source": f"{target.part.source}: {command.source}"}
                    values = {"rest": show(float(rest), "s"), "command": ahead.name, "takes": command.takes}
                    yield finding_at("timing.wait-short", target, entry, evidence=evidence, over=over, **values)
            busy = None
            if item.is_command and target.part.command[item.kind].takes:
                busy = item, target.part.command[item.kind], entry
    yield from _init_waits(target, own)


def _rest(earlier: Timed, entry: Timed) -> tuple[Fraction, Fraction]:
    """From the end of a step to the moment at which the first word of the next one takes effect."""
    count = max(1, sum(len(run) for run in entry.words))
    return earlier.start + earlier.took, entry.start + entry.took / count


def _init_waits(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """The start-up by instruction of a part whose width is switched by commands has rests of its own."""
    width = target.part.memory.registers.get("width", "")
    if not width:
        return
    name, _, field_name = width.partition(".")
    opening = [entry for entry in own if entry.items][:3]
    if len(opening) < 3 or not all(
        entry.items[0].name == name and entry.items[0].fields.get(field_name) == target.part.reset.get(width) for entry in opening
    ):
        return
    for number in (1, 2):
        text = target.part.waits.get(f"start_{number}", "0s")
        earlier, entry = opening[number - 1], opening[number]
        over = _rest(earlier, entry)
        if over[1] - over[0] < parse(text, "s"):
            evidence = {"needed": show(float(parse(text, "s")), "s"), "source": _waits_source(target)}
            rest = show(float(over[1] - over[0]), "s")
            found = finding_at(
                "timing.wait-short", target, entry, "start-up", evidence, over, rest=rest, number=number, takes=text
            )
            found.aside = {"from_power_on": True}
            yield found


def _waits_source(target: Target) -> str:
    return f"{target.part.source}: {target.part.waits.get('source', '')}"


def power_on(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """A bring-up that begins before the part is awake."""
    needed = target.part.waits.get("power_on", "")
    first = next((entry for entry in own if entry.step.sends), None)
    if first is None or not needed or not first.items or first.items[0].name not in target.part.start_up:
        return
    if first.start < parse(needed, "s"):
        evidence = {"needed": show(float(parse(needed, "s")), "s"), "source": _waits_source(target)}
        yield finding_at(
            "timing.power-on-short", target, first, evidence=evidence, rest=show(float(first.start), "s"), needed=needed
        )


def resets(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """Reset pulses that are too short, and what comes too soon behind them."""
    waits = {key: target.part.waits.get(key, "0s") for key in ("reset_low", "after_reset")}
    least = {key: parse(text, "s") for key, text in waits.items()}
    if not any(entry.step.sends for entry in own):
        return
    low: Timed | None = None
    high: Timed | None = None
    for entry in own:
        for level in (level for role, level in entry.step.levels if role == "reset"):
            if not level:
                low = entry
            elif low is not None:
                held, high = entry.start - low.start, entry
                if held < least["reset_low"]:
                    yield _reset_short(target, entry, "low", held=held, needed=waits["reset_low"])
                low = None
        if entry.step.sends and high is not None:
            rest = entry.start - high.start
            if rest < least["after_reset"]:
                yield _reset_short(target, entry, "rest", rest=rest, needed=waits["after_reset"])
            high = None
    if low is not None:
        yield finding_at("timing.reset-short", target, low, "stays", {"source": _waits_source(target)})


def _reset_short(target: Target, entry: Timed, sort: str, *, needed: str, **took: Fraction) -> Finding:
    """took: what was too short, in seconds, by the name that the sentence has for it."""
    evidence = {"needed": show(float(parse(needed, "s")), "s"), "source": _waits_source(target)}
    values: dict[str, Any] = {name: show(float(seconds), "s") for name, seconds in took.items()}
    return finding_at("timing.reset-short", target, entry, sort, evidence, needed=needed, **values)
