"""The capture that a sequence should give on a rig: steps to words, words to wires, wires to samples; and mishaps.

What can be done on purpose is in `vocabulary`; each mishap acts at its own stage. Everything random comes from the seed.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from ..bus import i2c
from ..bus.base import BUSES
from ..bus.moves import REST, TICK, Move
from ..errors import HushedError, located, nearest
from ..part import load
from ..sequence import Statement, Step, expand, parse_file
from ..sequence.alter import alter_step, drop_step, shorten
from ..trace import Trace, mishap
from ..trace.merge import merge
from ..trace.model import Waveforms
from ..trace.sampling import Electrics, sampled, volts
from ..units import parse, parse_amount
from .encoder import RigEncoder
from .schema import Bus, Rig
from .vocabulary import Mishap, address_of, share_of
from .wires import encode_moves, pace_of, wired_for

__all__ = ["rehearse", "steps_of"]

LEAD = Fraction(200, 10**6)  # idle bus at both ends
LONGEST = 600  # seconds
MOST_BITS = 4_000_000  # that words of serial buses may have: a little more than a gigabyte while the trace is made


WIRES: dict[str, Callable[[Trace, str, int], Trace]] = {
    "swap": mishap.swap,
    "stuck": mishap.stuck,
    "spike": mishap.spike,
    "late-start": mishap.late_start,
    "join": mishap.join,
    "invert": mishap.invert,
    "reverse": mishap.reverse,
    "lag": mishap.lag,
    "hang": mishap.hang,
    "slow-edge": mishap.slow_edge,
    "drop-clock": mishap.drop_clock,
    "loose": mishap.loose,
}
STEPS: dict[str, Callable[[list[Step], str], list[Step]]] = {"drop-step": drop_step, "shorten": shorten}


def steps_of(path: Path, rig: Rig, mishaps: list[Mishap]) -> list[Step]:
    """The steps of a sequence file on a rig, with the mishaps that act on them."""
    statements: list[Statement] = parse_file(path)
    for act in mishaps:
        if act.kind == "alter-step":
            statements = alter_step(statements, act.detail)
    # A word has two bytes at the most, so what is far too long is refused before it is drawn.
    steps = expand(statements, [rig.target(device) for device in rig.device], path.parent, MOST_BITS // 4)
    for act in mishaps:
        if act.kind in STEPS:
            steps = STEPS[act.kind](steps, act.detail)
    return steps


def wires(steps: list[Step], rig: Rig, mishaps: list[Mishap], clock: Fraction | None = None, seed: int = 0) -> Trace:
    """The exact trace of steps on the rig's bus where it is probed, its lines named as the rig names them."""
    return replace(_wires(steps, rig, mishaps, clock, seed), turned=rig.turned).turned_as(frozenset())


def _wires(steps: list[Step], rig: Rig, mishaps: list[Mishap], clock: Fraction | None, seed: int) -> Trace:
    """The same where the displays are."""
    bus = rig.bus_for(steps)
    kind = BUSES[bus.kind]
    haste = Fraction(1)
    for act in mishaps:
        if act.kind == "fast-clock":
            clock = parse_amount(act.detail, "Hz", "--mishap")
        elif act.kind == "short-wait":
            haste = Fraction(share_of(act.detail))
        elif act.kind == "slow":
            raise HushedError("'slow' acts on the desk", where="--mishap", remedy="see hushed-wire send --link desk")
        elif act.kind == "garble":
            raise HushedError(
                "'garble' acts between host and probe", where="--mishap", remedy="see hushed-wire send --link stand-in"
            )
        elif act.kind in ("strap", "flaky", "refuse", "double-address", "busy", "call", "no-stop"):
            _must_be(act.detail.partition(",")[0].strip(), rig)
            if not kind.addressed:
                raise HushedError(
                    f"'{act.kind}' acts on devices with an address", where="--mishap", remedy=f"bus '{bus.name}' is {bus.kind}"
                )
    moves = list(RigEncoder(rig, haste).moves(steps, bus))
    lead = int(LEAD / TICK)
    count, most = sum(len(move.words) for move in moves), MOST_BITS // max(8, kind.bit_times)
    if kind.addressed:
        most = most * 2 // 3  # a line beside the clock, and an acknowledge with each
    if count > most:
        raise HushedError(
            f"the sequence moves {count:,} words",
            remedy=f"a rehearsal holds at most {most:,}: repeat less, or rehearse a part of it",
        )
    rests = sum(move.gap + int(move.pauses.sum()) + move.lasts for move in moves)
    if rests * TICK > LONGEST:
        raise _too_long(float(rests * TICK))
    if kind.addressed:
        return _i2c(moves, rig, bus, mishaps, clock, seed, lead)
    target = rig.target(rig.device[[device.name for device in rig.device].index(steps[0].device)])
    part = target.part
    bridges = [bridge for bridge in rig.bridge if bridge.on == bus.name]
    if bridges and not rig.devices_on(bus):
        part = load(bridges[0].part)
    names = tuple(bus.lines.values())
    roles = {role: k for k, role in enumerate(bus.lines)}
    direct = [role for bridge in rig.bridge for role in bridge.direct]
    return encode_moves(moves, bus, part, roles, names, lead, lead, clock, target, direct)


def _too_long(seconds: float) -> HushedError:
    return HushedError(
        f"the sequence would last {seconds:.0f} s", remedy=f"shorten its waits; a rehearsal lasts at most {LONGEST} s"
    )


def _i2c(moves: list[Move], rig: Rig, bus: Bus, mishaps: list[Mishap], clock: Fraction | None, seed: int, lead: int) -> Trace:
    clock = clock or (parse(bus.clock, "Hz") if bus.clock else _usual_clock(rig, bus))
    if not 1 <= clock <= 20_000_000:
        raise HushedError(f"a clock of {float(clock):g} Hz", where="--clock", remedy="I2C runs from 1 Hz to a few MHz")
    answering, calls = _answering(rig, bus, mishaps)
    busy = {name: share_of(share) for name, _, share in (act.detail.partition(",") for act in mishaps if act.kind == "busy")}
    value, ack, lengths, gaps, names_of = _words(moves, answering, calls, busy, random.Random(seed))
    endless = {act.detail for act in mishaps if act.kind == "no-stop"}
    again = np.array([name in endless for name in names_of[1:]] + [False], bool)[: len(lengths)]
    timing = i2c.Timing.at(clock, TICK)
    total = int(gaps.sum()) + int(lengths.sum()) * 9 * (timing.low + timing.high)
    if total * TICK > LONGEST:
        raise _too_long(float(total * TICK))
    tail = lead if len(lengths) else lead + sum(move.gap for move in moves)
    trace = i2c.encode(value, ack, lengths, again, gaps, timing, TICK, lead, tail)
    names = tuple({"SCL": bus.lines["scl"], "SDA": bus.lines["sda"]}[name] for name in trace.names)
    trace = trace.select([0, 1], names)
    beside = [role for role in bus.lines if role not in ("scl", "sda")]
    return _beside(trace, moves, bus, beside, timing, lead) if beside else trace


def _usual_clock(rig: Rig, bus: Bus) -> Fraction:
    """The fastest that all parts on a bus take, at most Fast-mode."""
    symbol = BUSES[bus.kind].clock_symbol
    parts = [rig.target(device).part for device in rig.device if device.on == bus.name]
    parts += [bridge.chip for bridge in rig.bridge if bridge.on == bus.name]
    limits = [part.limits.get(symbol, "") for part in parts]
    return min([i2c.USUAL_CLOCK, *(parse(limit, "Hz") for limit in limits if limit)])


def _beside(trace: Trace, moves: list[Move], bus: Bus, beside: list[str], timing: i2c.Timing, lead: int) -> Trace:
    """The lines beside an I2C bus, as the moves set them: high until a step says otherwise."""
    level = dict.fromkeys(beside, True)
    now, times, levels = lead, [0], [tuple(level.values())]
    for move in moves:
        now += move.gap
        for role, high in move.levels:
            if role in level:
                level[role] = high
                times.append(now)
                levels.append(tuple(level.values()))
        if move.address is not None and len(move.words):
            now += timing.start_hold + (1 + len(move.words)) * 9 * (timing.low + timing.high) + timing.low + timing.stop_setup
    packed = np.array([sum(high << k for k, high in enumerate(row)) for row in levels], np.uint8)
    keep = np.append(np.diff(times) > 0, True)
    other = Trace(tuple(bus.lines[role] for role in beside), np.array(times, np.int64)[keep], packed[keep], trace.end, trace.tick)
    return merge(trace, other)


def _answering(rig: Rig, bus: Bus, mishaps: list[Mishap]) -> tuple[dict[int, float], dict[str, int]]:
    """For each address that is there the share of calls that it misses; and by device the address that the driver calls instead."""
    at = {device.name: device.address for device in rig.devices_on(bus)}
    at |= {bridge.name: bridge.address for bridge in rig.bridge if bridge.on == bus.name}
    home = dict(at)
    misses: dict[str, float] = {}
    for act in mishaps:
        if act.kind == "strap":
            name, address = address_of(act.detail)
            at[name] = address
        elif act.kind == "flaky":
            name, _, share = act.detail.partition(",")
            misses[name] = share_of(share)
    # Behind exchanged wires no device understands anything.
    deaf = {act.detail for act in mishaps if act.kind == "refuse"}
    if any(act.kind == "swap" for act in mishaps):
        deaf |= set(at)
    calls = {act.detail: 2 * (home[act.detail] or 0) & 0x7F for act in mishaps if act.kind == "double-address"}
    calls |= dict(address_of(act.detail) for act in mishaps if act.kind == "call")
    return {address: misses.get(name, 0.0) for name, address in at.items() if name not in deaf and address is not None}, calls


def _must_be(name: str, rig: Rig) -> None:
    names = [device.name for device in rig.device] + [bridge.name for bridge in rig.bridge]
    if name not in names:
        raise HushedError(f"the rig has no device '{name}'", where="--mishap", remedy=nearest(name, names))


def _words(
    moves: list[Move], answering: dict[int, float], calls: dict[str, int], busy: dict[str, float], chance: random.Random
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, list[str]]:
    """All bytes of all transactions: value and ack of each byte; length, gap (ticks) and device of each transaction."""
    out, acks, lengths, gaps, names = bytearray(), bytearray(), [], [], []
    owed = 0
    for move in moves:
        if not len(move.words) or move.address is None:
            owed += move.gap
            continue
        address = calls.get(move.device, move.address)
        answers = address in answering and chance.random() >= answering[address]
        behind = move.words.astype(np.uint8).tobytes() if answers else b""
        taken = [True] * len(behind)
        if busy.get(move.device):
            taken = [chance.random() >= busy[move.device] for _ in behind]
            behind = behind[: taken.index(False) + 1] if False in taken else behind
        out += bytes([address << 1]) + behind  # a driver stops at a refused address, and at a refused byte
        acks += bytes([answers, *taken[: len(behind)]])
        names.append(move.device)
        lengths.append(1 + len(behind))
        gaps.append(max(move.gap, int(REST / TICK)) + owed)
        owed = 0
    return (
        np.frombuffer(bytes(out), np.uint8),
        np.frombuffer(bytes(acks), np.uint8).astype(bool),
        np.array(lengths, np.int64),
        np.array(gaps, np.int64),
        names,
    )


IN_VOLTS = ("pull-up", "high-level", "fight", "noise")


def _electrics(usual: Electrics, name: str, acts: list[Mishap], capacitance: float) -> Electrics:
    """A line in volts, with the mishaps that act on it."""
    for act in acts:
        line, _, text = (part.strip() for part in act.detail.partition(","))
        if act.kind not in IN_VOLTS or line != name:
            continue
        if act.kind == "pull-up":
            usual = replace(usual, rise=float(parse_amount(text, "Ohm", "--mishap")) * capacitance)
        elif act.kind == "high-level":
            usual = replace(usual, high=float(parse_amount(text, "V", "--mishap")))
        elif act.kind == "noise":
            usual = replace(usual, noise=float(parse_amount(text, "V", "--mishap")))
        else:
            usual = replace(usual, fights=mishap.times_of(text, "fights", "fight:SDA,5"))
    return usual


def usual_rate(rig: Rig, bus: Bus, steps: list[Step], clock: Fraction | None) -> Fraction:
    """Samples a second for a rehearsal where nothing else is said: enough for the shortest thing on the wires."""
    device = next(device for device in rig.device if device.name == steps[0].device)
    roles = {role: number for number, role in enumerate(bus.lines)}
    wanted: Fraction = (
        BUSES[bus.kind].load().samples_a_second(wired_for(bus, roles), pace_of(rig.target(device).part, bus, clock))
    )
    return min(Fraction(500_000_000), wanted)


JITTER = 5e-9  # seconds RMS, of a bus that is not fast
BORNE = 0.6  # of the usual sample interval: more of it would lose clocks of a fast bus, which no wires do


def rehearse(
    path: Path,
    rig: Rig,
    *,
    mishaps: list[Mishap] | None = None,
    clock: Fraction | None = None,
    rate: Fraction | None = None,
    seed: int = 0,
    jitter: float | None = None,
    in_volts: bool = False,
) -> tuple[Trace, Waveforms | None]:
    """The capture of a sequence file on a rig, and its waveforms when asked for in volts.

    clock: Hz, the rig's by default. rate: samples a second, 50 a clock by default. jitter: seconds RMS, by default what fast
    clocks bear, at most 5 ns.
    """
    acts = mishaps or []
    steps = steps_of(path, rig, acts)
    with located(str(path)):
        exact = wires(steps, rig, acts, clock, seed)
    for act in acts:
        if act.kind in WIRES:
            with located("--mishap"):
                exact = WIRES[act.kind](exact, act.detail, seed)
    bus = rig.bus_for(steps)
    for act in acts:
        if act.kind in IN_VOLTS:
            if not in_volts:
                raise HushedError(f"'{act.kind}' shows in volts only", where="--mishap", remedy="add --volts, and write a CSV")
            exact.index(act.detail.partition(",")[0].strip())
    rate = rate or usual_rate(rig, bus, steps, clock)
    if not 1000 <= rate <= 10**9:
        raise HushedError(f"a sample rate of {float(rate):g} Hz", where="--rate", remedy="choose 1 kHz to 1 GHz")
    if in_volts:
        supply, pull_up = float(parse(bus.driver.supply, "V")), float(parse(bus.driver.pull_up, "Ohm"))
        if float(exact.end * exact.tick * rate) > 5e7:
            raise HushedError("more than 50 million samples", where="--rate", remedy="choose a lower rate or shorter waits")
        capacitance = float(parse(bus.driver.capacitance, "F"))
        # Open-drain lines rise by their pull-up alone; a driver's output does both ways what it does down.
        strong = 50.0 * capacitance
        pulled = {bus.lines.get(role) for role in BUSES[bus.kind].pulled_up}
        usual = [Electrics(supply, pull_up * capacitance if name in pulled else strong, strong) for name in exact.names]
        lines = [_electrics(own, name, acts, capacitance) for own, name in zip(usual, exact.names, strict=True)]
        return exact, volts(exact, rate, lines, seed)
    if jitter is None:
        jitter = min(JITTER, BORNE / float(usual_rate(rig, bus, steps, clock)))
    return sampled(exact, rate, seed, jitter), None
