"""The capture that a sequence should give on a rig: steps to words, words to wires, wires to samples; and mishaps.

What can be done on purpose is in `vocabulary`; each mishap acts at its own stage. Everything random comes from the seed.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import numpy as np

from ..bus import i2c
from ..errors import HushedError, nearest
from ..part.framing import wrap_control_byte
from ..sequence import Statement, Step, expand, parse_file
from ..sequence.expand import alter_step, drop_step, shorten
from ..trace import Trace, mishap
from ..trace.sampling import sampled, volts
from ..trace.threshold import Waveforms
from ..units import parse
from .schema import Bus, Rig, the_bus
from .vocabulary import Mishap, address_of, share_of

__all__ = ["rehearse", "steps_of"]

TICK = Fraction(1, 10**9)
REST = Fraction(20, 10**6)  # a driver's pause between two transactions
LEAD = Fraction(200, 10**6)  # idle bus at both ends
DEFAULT_CLOCK = Fraction(400_000)
SAMPLES_A_CLOCK = 50
LONGEST = 600  # seconds


WIRES: dict[str, Callable[[Trace, str, int], Trace]] = {
    "swap": mishap.swap,
    "stuck": mishap.stuck,
    "spike": mishap.spike,
    "late-start": mishap.late_start,
}
STEPS: dict[str, Callable[[list[Step], str], list[Step]]] = {"drop-step": drop_step, "shorten": shorten}


def steps_of(path: Path, rig: Rig, mishaps: list[Mishap]) -> list[Step]:
    """The steps of a sequence file on a rig, with the mishaps that act on them."""
    statements: list[Statement] = parse_file(path)
    for act in mishaps:
        if act.kind == "alter-step":
            statements = alter_step(statements, act.detail)
    steps = expand(statements, [rig.target(device) for device in rig.device], path.parent)
    for act in mishaps:
        if act.kind in STEPS:
            steps = STEPS[act.kind](steps, act.detail)
    return steps


def wires(steps: list[Step], rig: Rig, mishaps: list[Mishap], clock: Fraction | None = None, seed: int = 0) -> Trace:
    """The exact trace of steps on the rig's bus, its lines named as the rig names them."""
    bus = the_bus(rig)
    clock = clock or (parse(bus.clock, "Hz") if bus.clock else DEFAULT_CLOCK)
    for act in mishaps:
        if act.kind == "fast-clock":
            clock = parse(act.detail, "Hz", "--mishap")
    if not 1 <= clock <= 20_000_000:
        raise HushedError(f"a clock of {float(clock):g} Hz", where="--clock", remedy="I2C runs from 1 Hz to a few MHz")
    at = {device.name: device.address for device in rig.devices_on(bus)}
    misses: dict[str, float] = {}
    for act in mishaps:
        if act.kind == "strap":
            name, address = address_of(act.detail)
            _must_be(name, rig)
            at[name] = address
        elif act.kind == "flaky":
            name, _, share = act.detail.partition(",")
            _must_be(name, rig)
            misses[name] = share_of(share)
        elif act.kind == "garble":
            raise HushedError(
                "'garble' acts between host and probe", where="--mishap", remedy="see hushed-wire send --link stand-in"
            )
    # Behind exchanged wires no device understands anything.
    deaf = {act.detail for act in mishaps if act.kind == "refuse"}
    if any(act.kind == "swap" for act in mishaps):
        deaf |= {device.name for device in rig.device}
    doubled = {act.detail for act in mishaps if act.kind == "double-address"}
    for name in deaf | doubled:
        _must_be(name, rig)
    answering = {address: misses.get(name, 0.0) for name, address in at.items() if name not in deaf and address is not None}
    value, ack, lengths, gaps = _words(steps, rig, bus, answering, doubled, random.Random(seed))
    timing = i2c.Timing.at(clock, TICK)
    lead = int(LEAD / TICK)
    total = int(gaps.sum()) + int(lengths.sum()) * 9 * (timing.low + timing.high)
    if total * TICK > LONGEST:
        raise HushedError(
            f"the sequence would last {float(total * TICK):.0f} s",
            remedy=f"shorten its waits; a rehearsal lasts at most {LONGEST} s",
        )
    trace = i2c.encode(value, ack, lengths, np.zeros(len(lengths), dtype=bool), gaps, timing, TICK, lead, lead)
    names = tuple({"SCL": bus.lines["scl"], "SDA": bus.lines["sda"]}[name] for name in trace.names)
    return trace.select([0, 1], names)


def _must_be(name: str, rig: Rig) -> None:
    if name not in [device.name for device in rig.device]:
        raise HushedError(f"the rig has no device '{name}'", where="--mishap", remedy=nearest(name, [d.name for d in rig.device]))


def _words(
    steps: list[Step], rig: Rig, bus: Bus, answering: dict[int, float], doubled: set[str], chance: random.Random
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """All bytes of all transactions: value and ack of each byte, length and gap (ticks) of each transaction.

    answering: for each address that is there the share of calls that it misses.
    """
    devices = {device.name: device for device in rig.devices_on(bus)}
    room = bus.driver.longest_write - 1 if bus.driver.longest_write else 1 << 30
    out, acks, lengths, gaps = bytearray(), bytearray(), [], []
    rest = REST
    for step in steps:
        for is_data, raw in step.sends:
            device = devices.get(step.device)
            if device is None or device.address is None:
                raise HushedError(
                    f"device '{step.device}' is not on bus '{bus.name}'", where=step.place, remedy="rehearse its own rig"
                )
            address = device.address * (2 if step.device in doubled else 1) & 0x7F
            for first in range(0, len(raw), room):
                answers = address in answering and chance.random() >= answering[address]
                behind = wrap_control_byte(raw[first : first + room], is_data) if answers else b""
                out += bytes([address << 1]) + behind  # a driver stops at a refused address
                acks += bytes([answers]) * (1 + len(behind))
                lengths.append(1 + len(behind))
                gaps.append(int(rest / TICK))
                rest = REST
        rest += step.wait
    return (
        np.frombuffer(bytes(out), np.uint8),
        np.frombuffer(bytes(acks), np.uint8).astype(bool),
        np.array(lengths, np.int64),
        np.array(gaps, np.int64),
    )


def rehearse(
    path: Path,
    rig: Rig,
    *,
    mishaps: list[Mishap] | None = None,
    clock: Fraction | None = None,
    rate: Fraction | None = None,
    seed: int = 0,
    jitter: float = 5e-9,
    in_volts: bool = False,
) -> tuple[Trace, Waveforms | None]:
    """The capture of a sequence file on a rig, and its waveforms when asked for in volts.

    clock: Hz, the rig's by default. rate: samples a second, 50 a clock by default. jitter: seconds RMS.
    """
    acts = mishaps or []
    steps = steps_of(path, rig, acts)
    exact = wires(steps, rig, acts, clock, seed)
    for act in acts:
        if act.kind in WIRES:
            try:
                exact = WIRES[act.kind](exact, act.detail, seed)
            except HushedError as error:
                error.where = error.where or "--mishap"
                raise
    bus = the_bus(rig)
    usual = clock or (parse(bus.clock, "Hz") if bus.clock else DEFAULT_CLOCK)
    rate = rate or SAMPLES_A_CLOCK * usual
    if not 1000 <= rate <= 10**9:
        raise HushedError(f"a sample rate of {float(rate):g} Hz", where="--rate", remedy="choose 1 kHz to 1 GHz")
    if in_volts:
        supply, pull_up = float(parse(bus.driver.supply, "V")), float(parse(bus.driver.pull_up, "Ohm"))
        if float(exact.end * exact.tick * rate) > 5e7:
            raise HushedError("more than 50 million samples", where="--rate", remedy="choose a lower rate or shorter waits")
        waveforms = volts(exact, rate, supply, pull_up * float(parse(bus.driver.capacitance, "F")), seed)
        return exact, waveforms
    return sampled(exact, rate, seed, jitter), None
