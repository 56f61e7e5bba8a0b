"""Expanders and shift registers that a display hangs behind: how their outputs are wired, and whether they drive anything."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import permutations

import msgspec
import numpy as np
from numpy.typing import NDArray

from ...bus.base import BUSES
from ...errors import HushedError
from ...finding import Finding
from ...part import Commands
from ...part.output_pins import pins_of
from ...rig import DeviceReading, Rig, decode
from ...rig.adapter import adapter, enables, written
from ...rig.schema import Bridge
from ..case import GAIN, Case, sense
from ..hypotheses import brought_up
from ..rule import Rule, is_addressed, not_addressed

__all__ = ["RULES"]

WRITTEN = 16  # states of a bridge from which on it is spoken to, not put to rest
MOVERS = 2  # outputs, beside the backlight's, that move where words are put out
CONTROLS = ("rs", "rw", "e", "backlight")  # of a display behind a bridge
SURE = 0.9  # sense from which on an order of them is told
STROBES = {role for kind in BUSES.values() for role in kind.clocks}


def undriven(case: Case) -> Iterator[Finding]:
    """Pins of an expander that drive a display and are inputs: made so, or never made outputs since a power-on or reset.

    Where nothing was said of them and the capture shows no beginning, that may have been ahead of it.
    """
    for bridge in case.bridges:
        states, part = case.reading.driven.get(bridge.name), bridge.chip
        if states is None or not len(states) or part.memory.expander is None:
            continue
        pins = pins_of(part, bridge.count)
        inputs = [pin for pin in bridge.drives.values() if int(states.undriven[-1]) >> pins[pin] & 1]
        fresh = case.began is not None and case.began <= int(states.time[0])
        never = not inputs and fresh and not bool(states.directed[-1])
        if not inputs and not never and not bool(states.directed[-1]):
            case.shared.unjudged.append(
                f"whether the pins of '{bridge.name}' were ever made outputs: after a reset they are inputs, and the capture does not have what makes them so"
            )
        if inputs or never:
            yield case.found(
                "setup.pin-direction", "never" if never else "", device=bridge.name, lines=case.names(*case.bus.lines),
                start=case.seconds(int(states.time[0])), end=case.span[1], confidence="likely" if never else "certain",
                evidence={"inputs": inputs or list(bridge.drives.values()), "source": f"{part.source}: {part.memory.expander.source}"},
                pins=", ".join(inputs), bridge=bridge.name, register=part.memory.expander.called,
            )  # fmt: skip


def mute(case: Case) -> Iterator[Finding]:
    """A bridge that is written again and again and never moves the output which clocks words into the display: none gets there."""
    for bridge in case.bridges:
        states = case.reading.driven.get(bridge.name)
        readings = [reading for reading in case.devices if reading.device.on == bridge.name]
        strobes = {role: pin for role, pin in bridge.drives.items() if role in STROBES}
        if states is None or len(states) < WRITTEN or not strobes or not readings or any(len(reading) for reading in readings):
            continue
        pins = pins_of(bridge.chip, bridge.count)
        level, undriven = states.level & ~states.undriven, int(np.bitwise_or.reduce(states.undriven))
        moves = {pin: int(np.count_nonzero(np.diff(level >> bit & 1))) for pin, bit in pins.items()}
        busy = [pin for pin, count in moves.items() if count and pin != bridge.drives.get("backlight")]
        if any(moves[pin] or undriven >> pins[pin] & 1 for pin in strobes.values()) or len(busy) < MOVERS:
            continue
        named = {bit: pin for pin, bit in pins.items()}
        likely = [named[bit] for bit in enables(level, len(pins)) if named[bit] not in strobes.values()]
        yield case.found(
            "wiring.adapter-pins", "no-strobe", device=readings[0].device.name, start=case.seconds(int(states.time[0])), end=case.span[1],
            confidence="likely", lines=case.names(*case.bus.lines),
            evidence={"outputs that move, and how often": {pin: count for pin, count in moves.items() if count}, "states": len(states)},
            strobe=", ".join(f"{role.upper()} on {pin}" for role, pin in strobes.items()), bridge=bridge.name,
            moving=f"{likely[0]} moves as such a line does" if likely else f"{', '.join(busy)} do",
        )  # fmt: skip


def adapters(case: Case) -> Iterator[Finding]:
    """An expander whose outputs are wired to the display in another way than the rig says."""
    if case.plan.assumed:
        return
    for bridge in case.bridges:
        part = bridge.chip
        readings = [r for r in case.devices if r.device.on == bridge.name and r.part.memory.kind == "character"]
        plain = part.i2c is not None and part.memory.expander is None and part.memory.ports == 1
        if not readings or bridge.on != case.bus.name or bridge.address is None:
            continue
        reading = readings[0]
        if sense(reading.part, reading.chips) >= 0.9:
            case.rule_out("wiring.adapter-pins", f"'{reading.device.name}' understands what comes through '{bridge.name}'")
            continue
        if not plain:
            yield from _controls(case, bridge, reading)
            continue
        values: NDArray[np.uint8] = written(case.talk, bridge.address)
        found = adapter(case.head, case.bus, bridge.address, values) if len(values) else None
        if found is None:
            continue
        other, wired = found.bridge, found.wired
        wrong = [role for role, pin in bridge.drives.items() if other.drives.get(role, pin) != pin and role != "backlight"]
        if wrong and _better(case, reading, other.drives):
            start, end = case.span
            yield case.found(
                "wiring.adapter-pins", device=reading.device.name, lines=case.names("sda"), start=start, end=end,
                evidence={"as the rig says": ", ".join(f"{role}={pin}" for role, pin in bridge.drives.items()), "as it makes sense": wired},
                bridge=bridge.name, wired=wired,
            )  # fmt: skip


def _controls(case: Case, bridge: Bridge, reading: DeviceReading) -> Iterator[Finding]:
    """Register select, read/write, strobe and backlight in each other's place, the data lines where they should be: the order under which a bring-up
    appears, where there is none as the rig has it."""
    roles = [role for role in CONTROLS if role in bridge.drives]
    states = case.reading.driven.get(bridge.name)
    if reading.started or states is None or len(states) < WRITTEN or "e" not in roles:
        return
    pins = [bridge.drives[role] for role in roles]
    bits = pins_of(bridge.chip, bridge.count)
    able = {pin for pin in pins if int(np.count_nonzero(np.diff(states.level >> bits[pin] & 1))) >= WRITTEN}
    best: tuple[float, dict[str, str]] = (0.0, {})
    for order in permutations(pins):
        drives = {**bridge.drives, **dict(zip(roles, order, strict=True))}
        if drives["e"] in able:
            own = _told(case, reading, drives)
            best = max(best, (sense(reading.part, own) if brought_up(reading, own) else 0.0, drives), key=lambda entry: entry[0])
    if best[0] < SURE or best[1] == bridge.drives:
        return
    wired = ", ".join(f"{role.upper()} on {best[1][role]}" for role in roles)
    start, end = case.span
    yield case.found(
        "wiring.adapter-pins", device=reading.device.name, lines=case.names(*case.kind.needs), start=start, end=end,
        evidence={"as the rig says": ", ".join(f"{role}={bridge.drives[role]}" for role in roles), "as it makes sense": wired},
        bridge=bridge.name, wired=wired,
    )  # fmt: skip


def _told(case: Case, reading: DeviceReading, drives: dict[str, str]) -> list[Commands]:
    """What a display gets through the outputs of its bridge that are wired otherwise; nothing where that cannot be decoded."""
    bridges = [msgspec.structs.replace(own, drives=drives) if own.name == reading.device.on else own for own in case.rig.bridge]
    try:
        return decode(case.head, Rig(bus=[case.bus], bridge=bridges, device=[reading.device])).devices[0].chips
    except HushedError:
        return []


def _better(case: Case, reading: DeviceReading, drives: dict[str, str]) -> bool:
    now = sense(reading.part, reading.chips)
    return sense(reading.part, _told(case, reading, drives)) >= now + GAIN * (1 - now)


def controls(case: Case) -> Iterator[Finding]:
    """The same of bridges whose data lines are not looked for anew."""
    for bridge in case.bridges:
        for reading in case.devices:
            if reading.device.on == bridge.name and reading.part.memory.kind == "character":
                yield from _controls(case, bridge, reading)


RULES = [
    Rule("wiring", adapters, is_addressed),
    Rule("wiring", controls, not_addressed),
    Rule("wiring", mute),
    Rule("setup", undriven),
]
