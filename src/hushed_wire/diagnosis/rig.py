"""Rules on a rig alone: can this wiring work? Roles, pins, levels, pull-ups, addresses, clock, current.

Pull-ups: I2C-bus specification (UM10204), 7.1: lowest (VDD - 0.4 V) / 3 mA, highest tr / (0.8473 Cb); the rise time that the
given one makes is 0.8473 R Cb.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from ..bus.base import BESIDE, BUSES
from ..bus.scan_roles import axes, grouped
from ..errors import HushedError
from ..finding import Finding, finding_of
from ..part.describe import Levels
from ..rig.limits import limits_of
from ..rig.pinmap import Pin, PinMap, load_pin_map
from ..rig.pull_up import pull_up_range, sunk
from ..rig.schema import Bus, Rig
from ..units import parse, show
from .plugged import plugged
from .wire_list import Seat, Wire, seats_on, wires_of

__all__ = ["Wiring", "examine"]


SHORTEST_PULSE = 100e-9  # seconds, of an enable of a part that names none
PULSE = 200e-9  # seconds, the shortest of a wire on which its width is the bit
USUAL_REFRESH = 100.0  # Hz, of scanned LEDs where the rig does not say
USUAL_SHIFT = 4e6  # Hz: panels with row groups are mostly shifted at 1 to 4 MHz; a rule of thumb


@dataclass
class Wiring:
    """A rig examined. probes: (bus, lines, lowest sample rate in hertz, trigger)."""

    wires: list[Wire]
    findings: list[Finding]
    probes: list[tuple[str, list[str], float, str]] = field(default_factory=list)


def examine(rig: Rig, folder: Path) -> Wiring:
    """The wire list of a rig and what is wrong with it. Raises HushedError on a pin map that cannot be read."""
    out = Wiring([], [])
    for bus in rig.bus:
        pin_map = load_pin_map(bus.driver.pin_map, folder) if bus.driver.pin_map else None
        pins, bad = _pins(bus, pin_map)
        out.findings += bad
        seats = seats_on(rig, bus.name)
        out.wires += wires_of(rig, bus, seats, pins)
        out.probes.append(_probe(bus, seats))
        for rule in (_missing, _scheme, _functions, _pull_up):
            out.findings += rule(bus, pins, pin_map)
        for seat in seats:
            for check in (_levels, _clock, plugged):
                out.findings += check(bus, seat, pin_map)
    out.findings += [*_doubled(rig, folder), *_clashes(rig), *_current(rig)]
    out.findings.sort(key=Finding.rank, reverse=True)
    return out


def _probe(bus: Bus, seats: list[Seat]) -> tuple[str, list[str], float, str]:
    """Bus, lines to probe, the lowest sample rate that decodes it, and what to trigger on."""
    kind = BUSES[bus.kind]
    roles = [role for role in dict.fromkeys([*bus.lines, *kind.needs]) if role not in BESIDE]
    lines = [bus.lines.get(role, role.upper()) for role in roles]
    if kind.started:
        clock = float(parse(bus.clock, "Hz")) if bus.clock else 400e3
        scl, sda = (bus.lines.get(role, role.upper()) for role in kind.needs[:2])
        return bus.name, lines, 10 * clock, f"{sda} falling while {scl} is high (START)"
    part = seats[0].part if seats else None
    to = "rising" if bus.select == "high" else "falling"
    select = next((bus.lines[role] for role in ("cs", "cs1") if role in bus.lines), None)
    if kind.each_rests:
        strobe = (
            f"{bus.lines['wr']} rising" if "wr" in bus.lines and "e" not in bus.lines else f"{bus.lines.get('e', 'E')} falling"
        )
        shortest = limits_of(part, kind).get("enable high") if part is not None else None
        return bus.name, lines, 4 / float(shortest or SHORTEST_PULSE), strobe
    clock = float(parse(bus.clock, "Hz")) if bus.clock else 1e6
    if kind.one_wire:  # pulses that are their own clock: the shortest tells a zero from a one
        return bus.name, lines, 4 / PULSE, f"{bus.lines.get(kind.needs[0], kind.needs[0].upper())} rising"
    if kind.scanned:
        return bus.name, lines, *_scan_probe(bus, clock if bus.clock else USUAL_REFRESH)
    if not kind.transfers:
        strobe = f"{bus.lines['latch']} rising" if "latch" in bus.lines else f"{bus.lines.get('clock', 'CLOCK')} rising"
        return bus.name, lines, 5 * clock, strobe
    return bus.name, lines, 5 * clock, f"{select} {to} (select)" if select else "the first edge of the clock"


def _scan_probe(bus: Bus, refresh: float) -> tuple[float, str]:
    """Sample rate and trigger for scanned LEDs, whose clock is the refresh rate."""
    rows, _ = axes(dict.fromkeys(bus.lines, 0))
    if grouped(bus.lines):  # what the driver shifts at, no rig tells
        return 5 * USUAL_SHIFT, f"{bus.lines['latch']} rising"
    first = min((role for role in bus.lines if role.startswith(("row", "digit"))), default="", key=len)
    return 100 * refresh * max(1, len(rows)), f"any edge of {bus.lines.get(first, 'a row')}"  # a hundredth of a row's time


def _pins(bus: Bus, pin_map: PinMap | None) -> tuple[dict[str, Pin], list[Finding]]:
    """The pin of each role, and findings for those that the map lacks."""
    pins, bad = {}, []
    for role, name in bus.pins.items():
        if pin_map is None:
            pins[role] = Pin(name=str(name), position=str(name))
            continue
        try:
            pins[role] = pin_map.find(name, bus.driver.pin_scheme)
        except HushedError as error:
            bad.append(
                finding_of("rig.pin-function", "unknown", of=bus.name, role=role.upper(), pin=name, why=error.what, mend=error.remedy or "correct the pin",
                        lines=[bus.lines.get(role, role)], evidence={"role": role, "pin": str(name)})
            )  # fmt: skip
    return pins, bad


def _missing(bus: Bus, pins: dict[str, Pin], pin_map: PinMap | None) -> Iterator[Finding]:
    """Roles that a bus cannot do without, as lines or, where pins are given at all, as pins."""
    kind = BUSES[bus.kind]
    strobes = [role for role in kind.one_of[:1] if not set(kind.one_of[1:]) & set(bus.lines)]
    for role in dict.fromkeys([*kind.needs, *kind.missing(bus.lines), *strobes]):
        for where, given in (("lines", bus.lines), ("pins", bus.pins)):
            if role not in given and (where == "lines" or given):
                yield finding_of(
                    "rig.missing-role", of=bus.name, shown=role.upper(), role=role, where=where, lines=[bus.lines.get(role, role.upper())],
                    evidence={"role": role, "where": where},
                )  # fmt: skip


def _scheme(bus: Bus, pins: dict[str, Pin], pin_map: PinMap | None) -> Iterator[Finding]:
    """Bare numbers that fit the other numbering better."""
    bare = {role: pin for role, pin in bus.pins.items() if str(pin).isdecimal()}
    if pin_map is None or not bare:
        return
    fits = {}
    for scheme in ("gpio", "header"):
        count = 0
        for role, pin in bare.items():
            try:
                count += _can(pin_map.find(pin, scheme), bus, role)
            except HushedError:
                continue
        fits[scheme] = count
    used = bus.driver.pin_scheme or "gpio"
    other = "header" if used == "gpio" else "gpio"
    if fits[other] > fits[used]:
        words = {"gpio": "GPIO numbers", "header": "header positions"}
        shown = ", ".join(f"{role.upper()} on {pin}" for role, pin in bare.items())
        yield finding_of(
            "rig.pin-scheme", of=bus.name, shown=shown, fits=words[other], read=words[used], scheme=other,
            lines=[bus.lines.get(role, role) for role in bare], confidence="likely", evidence={"fits": fits},
        )  # fmt: skip


def _can(pin: Pin, bus: Bus, role: str) -> bool:
    """Whether a pin's hardware has this role of this kind of bus."""
    return any(function.startswith(bus.kind) and function.endswith(f" {role}") for function in pin.functions)


def _functions(bus: Bus, pins: dict[str, Pin], pin_map: PinMap | None) -> Iterator[Finding]:
    """Pins that carry no hardware bus of this role, or no signal at all."""
    if pin_map is None or any(_scheme(bus, pins, pin_map)):
        return  # numbers read by the wrong scheme are no wrong pins
    for role, pin in pins.items():
        if pin.supply or pin.ground:
            yield finding_of(
                "rig.pin-function", "no-signal", of=bus.name, role=role.upper(), pin=pin.label, lines=[bus.lines.get(role, role)], evidence={"pin": pin.label},
            )  # fmt: skip
        elif role in BUSES[bus.kind].needs and not bus.driver.bit_banged and not _can(pin, bus, role):
            have = [entry.label for entry in pin_map.pins.values() if _can(entry, bus, role)]
            yield finding_of(
                "rig.pin-function", "no-hardware", of=bus.name, pin=pin.label, kind=bus.kind.upper(), role=role.upper(),
                have=" or ".join(have) or "another pin",
                lines=[bus.lines.get(role, role)], evidence={"wired_to": pin.label, "pins_that_have_it": have},
            )  # fmt: skip


def _pull_up(bus: Bus, pins: dict[str, Pin], pin_map: PinMap | None) -> Iterator[Finding]:
    """The pull-up against the lowest and the highest that supply, capacitance and speed allow."""
    if not BUSES[bus.kind].pulled_up:
        return
    supply, said = float(parse(bus.driver.supply, "V")), float(parse(bus.driver.pull_up, "Ohm"))
    given = min((_parallel(said, pins[role]) for role in BUSES[bus.kind].pulled_up if role in pins), default=said)
    load = float(parse(bus.driver.capacitance, "F"))
    clock = float(parse(bus.clock, "Hz")) if bus.clock else 400e3
    low, high, rise, allowed = pull_up_range(supply, given, load, clock)
    if low <= given <= high:
        return
    side = "low" if given < low else "high"
    yield finding_of(
        "rig.pull-up", side if low <= high else f"{side}-none-does", of=bus.name, given=show(given, "Ohm", 3), sunk=show(sunk(supply, given), "A", 3),
        rise=show(rise, "s", 3), allowed=show(allowed, "s", 3), clock=show(clock, "Hz"), least=show(low, "Ohm", 3), most=show(high, "Ohm", 3),
        lines=list(bus.lines.values()), evidence={"lowest": low, "highest": high, "rise_time": rise, "source": "I2C-bus specification (UM10204), 7.1"},
    )  # fmt: skip


def _parallel(ohms: float, pin: Pin) -> float:
    """A pull-up beside the one that is soldered to a driver's pin."""
    return 1 / (1 / ohms + 1 / float(parse(pin.pull_up, "Ohm"))) if pin.pull_up else ohms


NOMINAL = (3.3, 5.0)  # volts that displays are fed with where nobody says


def _logic(levels: Levels, device: Seat, bus: Bus) -> float:
    """The volts that a part's logic runs at; where the rig does not say, the driver's own supply if the part runs at that."""
    if device.supply:
        return levels.logic_at(float(parse(device.supply, "V")))
    least, most = (float(parse(volts, "V")) for volts in (levels.supply_least, levels.supply_most))
    return next((volts for volts in (float(parse(bus.driver.supply, "V")), *NOMINAL) if least <= volts <= most), most)


def _levels(bus: Bus, device: Seat, pin_map: PinMap | None) -> Iterator[Finding]:
    """The high level at a part's inputs against what it needs and takes at its supply, and what it drives against what the driver takes."""
    kind = BUSES[bus.kind]
    pulled = bool(kind.pulled_up)
    high = float(parse(bus.driver.supply, "V"))
    lines = list(bus.lines.values())
    if pin_map is not None and pin_map.volts and high > float(parse(pin_map.volts, "V")) * 1.05:
        yield finding_of(
            "rig.over-voltage", "driver", of=bus.name, driven="pulled up" if pulled else "driven", supply=bus.driver.supply, pins=pin_map.title,
            take=pin_map.volts, lines=lines, evidence={"bus": high, "pins": pin_map.volts},
        )  # fmt: skip
    yield from _shifters(bus, device)
    levels = device.part.levels
    if levels is None:
        return
    source = f"{device.part.source}: {levels.source}"
    logic = _logic(levels, device, bus)
    if logic < float(parse(levels.supply_least, "V")):
        yield finding_of(
            "rig.level-mismatch", "supply", supply=device.supply, least=levels.supply_least, device=device.name, evidence={"supply": logic, "source": source},
        )  # fmt: skip
    need, take = levels.high_from(logic), logic + float(parse(levels.above_supply, "V"))
    groups: dict[str, list[str]] = {}
    for role, name in bus.lines.items():
        groups.setdefault(_volts_at(bus, role), []).append(name)
    for volts, names in groups.items():
        if not volts:
            continue  # behind a shifter that nobody described: it is there to bring them to what the part needs
        at = float(parse(volts, "V"))
        driven = f"pulled up to {volts}" if pulled else f"driven with {volts}"
        if at < need:
            up = f"{'pull the bus up' if pulled else 'bring the lines'} to {show(logic, 'V', 3)} through a level shifter"
            up += f", or supply the display with {volts}" if at >= float(parse(levels.supply_least, "V")) else ""
            yield finding_of(
                "rig.level-mismatch", need=show(need, "V", 3), logic=show(logic, "V", 3), driven=driven, mend=up,
                device=device.name, lines=names, evidence={"vih": need, "bus_high": at, "source": source},
            )  # fmt: skip
        elif at > take:
            lower = (
                "pull the bus up to the part's own supply"
                if pulled
                else "drive the lines with no more than the part's own supply"
            )
            yield finding_of(
                "rig.over-voltage", driven=driven, take=show(take, "V", 3), logic=show(logic, "V", 3), lower=lower,
                device=device.name, lines=names, evidence={"bus_high": at, "most": take, "source": source},
            )  # fmt: skip
    yield from _read_back(bus, device, logic)


def _volts_at(bus: Bus, role: str) -> str:
    """The volts of a high level at the part, "" where a shifter makes it and nobody says which."""
    shifter = bus.shifters.get(role)
    if shifter is not None:
        return shifter.device
    if role in BUSES[bus.kind].pulled_up:
        return bus.driver.pull_up_to or bus.driver.supply
    return bus.driver.supply


def _shifters(bus: Bus, device: Seat) -> Iterator[Finding]:
    """Shifters in lines that go both ways and invert, or whose driver's side is not the driver's."""
    for role, what in bus.shifters.items():
        lines = [bus.lines.get(role, role)]
        if what.inverts and role in BUSES[bus.kind].pulled_up:
            yield finding_of(
                "rig.level-mismatch", "inverting", of=bus.name, role=role.upper(), through=what.called, device=device.name, lines=lines,
                evidence={"through": what.called},
            )  # fmt: skip
        if what.driver and abs(float(parse(what.driver, "V")) - float(parse(bus.driver.supply, "V"))) > 0.1 * float(
            parse(bus.driver.supply, "V")
        ):
            yield finding_of(
                "rig.level-mismatch", "turned", role=role.upper(), through=what.called, volts=what.driver, supply=bus.driver.supply, device=device.name,
                lines=lines, evidence={"driver's side": what.driver, "driver": bus.driver.supply},
            )  # fmt: skip


def _read_back(bus: Bus, device: Seat, logic: float) -> Iterator[Finding]:
    """A display that is read drives the data lines with its own supply, and the driver has to take that."""
    reads = next((role for role in READS if role in bus.lines), "")
    most = float(parse(bus.driver.supply, "V"))
    back = [
        role
        for role in (BUSES[bus.kind].data_lines(bus.lines) if reads in ("rw", "rd") else ["miso"] if reads else [])
        if role in bus.lines
    ]
    bare = [bus.lines[role] for role in back if role not in bus.shifters]
    if reads and bare and logic > most * 1.15:
        yield finding_of(
            "rig.over-voltage", "read", logic=show(logic, "V", 3), supply=bus.driver.supply, role=reads.upper(), device=device.name, lines=bare,
            evidence={"driven_back": logic, "driver": most},
        )  # fmt: skip


READS = ("rw", "rd", "miso")


def _clock(bus: Bus, device: Seat, pin_map: PinMap | None) -> Iterator[Finding]:
    part = device.part
    kind = BUSES[bus.kind]
    key = kind.clock_symbol
    if not bus.clock or key not in part.limits:
        return
    clock, limit = float(parse(bus.clock, "Hz")), float(parse(part.limits[key], "Hz"))
    clocks = [bus.lines[role] for role in kind.clocks if role in bus.lines]
    if clock > limit:
        yield finding_of(
            "rig.clock-limit", of=bus.name, clock=show(clock, "Hz"), part=part.name, limit=show(limit, "Hz"), device=device.name, lines=clocks,
            evidence={"clock": clock, "limit": limit, "source": f"{part.source}: {part.limits.get('source', '')}"},
        )  # fmt: skip


def _doubled(rig: Rig, folder: Path) -> Iterator[Finding]:
    """One driver pin in two places."""
    seen: dict[str, str] = {}
    for bus in rig.bus:
        pin_map = load_pin_map(bus.driver.pin_map, folder) if bus.driver.pin_map else None
        for role, pin in bus.pins.items():
            try:
                key = pin_map.find(pin, bus.driver.pin_scheme).label if pin_map is not None else str(pin)
            except HushedError:
                continue
            what = f"{role.upper()} of '{bus.name}'"
            if key in seen:
                yield finding_of(
                    "rig.doubled-pin", pin=key, one=seen[key], other=what,
                    lines=[bus.lines.get(role, role)], evidence={"pin": key, "uses": [seen[key], what]},
                )  # fmt: skip
            seen.setdefault(key, what)


def _clashes(rig: Rig) -> Iterator[Finding]:
    """Two devices of a bus on one address."""
    seen: dict[tuple[str, int], str] = {}
    places = [(seat, bus.name) for bus in rig.bus if BUSES[bus.kind].addressed for seat in seats_on(rig, bus.name)]
    for device, place in places:
        if device.address is None:
            continue
        other = seen.setdefault((place, device.address), device.name)
        if other != device.name:
            part = device.part
            possible = ", ".join(f"{a:#04x}" for a in (part.i2c.addresses if part.i2c else []) if a != device.address)
            yield finding_of(
                "rig.address-clash", other=other, address=f"{device.address:#04x}", possible=possible or "this part has no other",
                device=device.name, evidence={"address": f"{device.address:#04x}", "devices": [other, device.name]},
            )  # fmt: skip


def _current(rig: Rig) -> Iterator[Finding]:
    """What the devices of a bus draw against what their supply gives."""
    for bus in rig.bus:
        drawn = [(device.name, float(parse(device.current, "A"))) for device in rig.devices_on(bus) if device.current]
        if not bus.driver.supply_current or not drawn:
            continue
        most, total = float(parse(bus.driver.supply_current, "A")), sum(current for _, current in drawn)
        if total > most:
            yield finding_of(
                "rig.overcurrent", of=bus.name, drawn=show(total, "A", 3), most=show(most, "A", 3),
                evidence={"drawn": dict(drawn), "supply": most},
            )  # fmt: skip
