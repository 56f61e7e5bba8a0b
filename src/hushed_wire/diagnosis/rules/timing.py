"""Times: what parts and specifications ask for against what was measured, and a bus that hangs."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...bus.words import STOP
from ...finding import Finding
from ...sequence.timed import LATENT
from ...units import parse, show
from ..case import Case
from ..margins import Margin, of_execution, of_parts, of_specification
from ..rule import Rule, is_addressed, is_started, latches, moves_words

__all__ = ["RULES"]

POLLS = 500  # reads of one value in a row
SURELY = 0.6  # of a part's typical time, which no oscillator makes up for
HUNG = 1e-3  # seconds for which a line lies low when nobody is clocking
SAYS_SO = 1e-3  # seconds behind a command within which a part says that it is busy with it
WAVERS = 0.93  # edges jitter, and drivers' oscillators are off, without harm: of a minimum time of the I2C-bus specification


def part_times(case: Case) -> Iterator[Finding]:
    """Every minimum time of the parts that the capture shows broken, one finding a code and device."""
    table = of_parts(case)
    fast = {margin.device for margin in table if margin.rate and margin.below}
    for device in dict.fromkeys(margin.device for margin in table):
        for code in dict.fromkeys(margin.code for margin in table):
            own = [margin for margin in table if margin.device == device and margin.code == code]
            over = sorted((margin for margin in own if margin.below), key=lambda margin: margin.smallest / margin.required)
            if own and not over:
                least = min(own, key=lambda margin: margin.smallest / margin.required)
                case.rule_out(code, _kept(least, device))
            if not over or (not over[0].rate and device in fast and "clock" in over[0].what):
                continue
            yield _broken(case, code, device, over)


def _kept(least: Margin, device: str) -> str:
    if least.rate:
        return f"the clock runs at {show(1 / least.usual, 'Hz')}, '{device}' allows {show(1 / least.required, 'Hz')}"
    return f"{least.symbol} ({least.what}) is {show(least.smallest, 's')} at the least, {show(least.required, 's')} is required"


def _broken(case: Case, code: str, device: str, over: list[Margin]) -> Finding:
    worst = over[0]
    too = {"too": ", ".join(f"{m.symbol} {show(m.smallest, 's')}" for m in over[1:])} if over[1:] else {}
    if worst.rate:
        evidence = {
            "measured": show(1 / worst.usual, "Hz"),
            "allowed": show(1 / worst.required, "Hz"),
            "source": worst.source,
            **worst.beside,
            **too,
        }
        values = {"measured": evidence["measured"], "allowed": evidence["allowed"]}
    else:
        evidence = {"measured": show(worst.smallest, "s"), "required": show(worst.required, "s"), "source": worst.source, **too}
        values = {
            "symbol": worst.symbol, "what": worst.what, "least": evidence["measured"], "required": evidence["required"],
            "below": f"{worst.below:,}", "of": f"{worst.count:,}",
        }  # fmt: skip
    return case.found(
        code, device=device, lines=worst.lines, start=worst.first, end=case.span[1], count=sum(margin.below for margin in over), evidence=evidence,
       **values,
    )  # fmt: skip


def executed(case: Case) -> Iterator[Finding]:
    """Words that come while a part still works on the one before, as drivers send them that nobody told to wait: short times, of each word.

    Longer ones stand in sequences as waits, and are held against the part's commands with all else that is (`examine`).
    """
    table = [margin for margin in of_execution(case) if margin.required <= LATENT]
    for device in dict.fromkeys(margin.device for margin in table):
        margin = max(
            (own for own in table if own.device == device),
            key=lambda own: (own.below / own.count, own.required / max(own.smallest, 1e-12)),
        )
        if not margin.below:
            case.rule_out(
                margin.code, f"{margin.what} is {show(margin.smallest, 's')} at the least, {show(margin.required, 's')} is needed"
            )
            continue
        yield case.found(
            margin.code, "execution", device=margin.device, start=margin.first, end=case.span[1], count=margin.below,
            confidence="certain" if margin.smallest < SURELY * margin.required else "likely",
            evidence={"rest": show(margin.smallest, "s", 3), "usual": show(margin.usual, "s", 3), "needed": show(margin.required, "s"),
                      "source": margin.source},
            named=margin.device, what=margin.what.removeprefix("rest behind "), least=show(margin.smallest, "s", 3),
            needed=show(margin.required, "s"), below=f"{margin.below:,}", of=f"{margin.count:,}",
        )  # fmt: skip


def specified_times(case: Case) -> Iterator[Finding]:
    """Minimum times of the I2C-bus specification, of the mode that the clock asks for."""
    if case.as_wired.score < 0.5:
        return
    table = [
        margin for margin in of_specification(case) if margin.code and margin.below and not margin.at_most and not margin.rate
    ]
    for code in dict.fromkeys(margin.code for margin in table):
        own = [m for m in table if m.code == code and m.smallest < WAVERS * m.required and m.below > max(2, 0.02 * m.count)]
        if not own:
            continue
        worst = min(own, key=lambda margin: margin.smallest / margin.required)
        yield case.found(
            code, "specification", lines=case.names("scl", "sda"), start=worst.first, end=case.span[1], count=worst.below,
            evidence={"measured": show(worst.smallest, "s"), "required": show(worst.required, "s"), "source": worst.source},
            symbol=worst.symbol, least=show(worst.smallest, "s"), mode=worst.what, required=show(worst.required, "s"), below=f"{worst.below:,}",
            of=f"{worst.count:,}",
        )  # fmt: skip


def hung(case: Case) -> Iterator[Finding]:
    """A line that is held low at the end, when nobody is clocking any more."""
    if case.as_wired.score < 0.5:
        return  # what was no such bus before does not hang
    clock, data = case.kind.needs[:2]
    for role, other in ((data, clock), (clock, data)):
        if case.moves(role) < 7 or case.pulses(role).level != 0:
            continue
        own, beside, lows = case.pulses(role), case.pulses(other), case.pulses(role).low
        last = max(own.since, beside.since if role == data else 0)
        still = case.seconds(case.trace.end - last)
        lies = case.seconds(case.trace.end - own.since)
        # Zeros hold SDA low for as long as they come; a driver that rests meanwhile meant a STOP, and did not get it.
        rests = role == data and _rests_behind(case, clock, own.since)
        usual = case.seconds(int(lows.value[-1 if lows.count[-1] > 1 else -2])) if len(lows) > 2 else 0.0
        stopped = len(case.table) > 0 and int(case.table.ended[-1]) == STOP
        # A clock that falls behind the last STOP, with no START, was pulled down by somebody.
        stopped = stopped and not (role == clock and beside.level == 1 and own.since > int(case.table.end[-1]))
        if lies < max(HUNG, 4 * usual) or not (still > HUNG or rests) or stopped:
            continue
        name = case.names(role)[0]
        yield case.found(
            "timing.bus-hung", role if case.kind.addressed else "held", lines=[name], start=case.seconds(own.since), end=case.span[1],
            confidence="certain" if still > 2 * HUNG else "likely",
            evidence={"low for": show(lies, "s"), "transaction": "open" if case.ends_open else "ended"}, name=name, lasts=show(lies, "s"),
            data=case.bus.lines.get(data, data.upper()),
        )  # fmt: skip
        return
    case.rule_out("timing.bus-hung", "both lines come up again")


def _rests_behind(case: Case, clock: str, when: int) -> bool:
    """Whether a clock stays high for far longer than usual behind a moment."""
    usual = case.pulses(clock).high
    long = 5 * usual.typical if len(usual) else 0.0
    for part in case.stretches():
        if part.end > when:
            edges = part.edges(case.roles[clock])
            if (edges.durations()[(edges.level == 1) & (edges.times > when)] > long).any():
                return True
    return False


def never_ready(case: Case) -> Iterator[Finding]:
    """A driver that reads one value over and over to the end of the capture, and a busy flag in it that never clears."""
    for channel in case.channels:
        words, read = channel.words, channel.read
        if read is None or len(words) < POLLS:
            continue
        other = np.flatnonzero(~read | (words.value != words.value[-1]))
        first = int(other[-1]) + 1 if len(other) else 0
        count, value = len(words) - first, int(words.value[-1])
        if count < POLLS or not value >> (7 if channel.bits == 8 else 3) & 1 or count < 0.5 * len(words):
            continue
        top = next((role for role in ("d7",) if role in case.roles), "")
        lasts = case.seconds(int(words.effect[-1]) - int(words.effect[first]))
        device = case.direct[0].device.name if case.direct else None
        yield case.found(
            "timing.never-ready", device=device, lines=case.names(top) if top else [], start=case.seconds(int(words.effect[first])), end=case.span[1],
            count=count, evidence={"reads": count, "value": f"{value:#04x}", "for": show(lasts, "s", 3)}, reads=f"{count:,}", value=f"{value:02X}",
            lasts=show(lasts, "s", 3),
        )  # fmt: skip


def said_busy(case: Case) -> Iterator[Finding]:
    """Words that come while a display says on a line of its own that it takes none; and a display that never says so."""
    for reading in case.direct:
        busy = reading.part.busy
        if busy is None or "busy" not in case.roles or not len(reading):
            continue
        edges, active = case.edges("busy"), int(busy.active == "high")
        asked = [
            (own.time_of(index), command.name)
            for own in reading.chips
            for index, command, _ in own.listed()
            if command is not None and command.busy
        ]
        line, states = case.bus.lines["busy"], ("low", "high")
        if len(edges.times) == 1 and edges.level[0] < 2:
            sent = next((name for when, name in asked if case.seconds(case.trace.end - when) > SAYS_SO), "")
            if sent:
                level = states[int(edges.level[0])]
                yield case.found(
                    "wiring.stuck-line", "answers", device=reading.device.name, lines=[line], start=case.span[0], end=case.span[1],
                    evidence={"level": level, "commands that make it busy": len(asked)}, name=line, role="BUSY", level=level, command=sent,
                )  # fmt: skip
            continue
        starts = np.concatenate([own.payload.start for own in reading.chips])
        at = np.searchsorted(edges.times, starts, side="right") - 1
        lost = np.flatnonzero(edges.level[np.maximum(at, 0)] == active)
        if not len(lost):
            case.rule_out("timing.busy-ignored", f"no word comes while '{line}' says that '{reading.device.name}' is busy")
            continue
        first = int(starts[lost[0]])
        ahead = [(when, name) for when, name in asked if when < first]
        whole = edges.durations()[at[lost[0]]]  # how long it goes on: of a refresh it is seconds, of another command milliseconds
        values = {"after": show(case.seconds(first - ahead[-1][0]), "s", 3), "command": ahead[-1][1]} if ahead else {}
        yield case.found(
            "timing.busy-ignored", "" if ahead else "reset", device=reading.device.name, lines=[line], start=case.seconds(first),
            end=case.seconds(int(starts[lost[-1]])), count=len(lost), evidence={"words": len(lost), "source": f"{reading.part.source}: {busy.source}"},
            words=f"{len(lost):,}", named=reading.device.name, line=line, rest=states[1 - active], active=states[active],
            lasts=show(case.seconds(int(whole)), "s", 3), **values,
        )  # fmt: skip


def awake(case: Case) -> Iterator[Finding]:
    """A set-up that begins before the part is awake, where the capture shows how the supply comes: with it come the lines that it pulls up."""
    if case.powered is None:
        return
    slack = case.trace.resolution()
    for reading in case.direct:
        needed, wait = reading.part.waits.get("power_on", ""), reading.part.waits.get("source", "")
        firsts = [own for own in reading.chips if len(own) and own.name_of(0) in reading.part.start_up]
        if not needed or not firsts:
            continue
        first = min(int(own.payload.start[int(own.first[0])]) for own in firsts)
        rest = (first - case.powered + slack) * case.trace.tick
        if rest < parse(needed, "s"):
            yield case.found(
                "timing.power-on-short", device=reading.device.name, lines=case.names(*case.kind.pulled_up), confidence="likely",
                start=case.seconds(case.powered), end=case.seconds(first), evidence={"needed": needed, "source": f"{reading.part.source}: {wait}"},
                rest=show(float(rest), "s"), needed=needed,
            )  # fmt: skip
        else:
            case.rule_out(
                "timing.power-on-short",
                f"'{reading.device.name}' is left alone for {show(float(rest), 's')} behind power-on, {needed} is needed",
            )


RULES = [
    Rule("timing", awake),
    Rule("wiring", said_busy, moves_words),
    Rule("timing", hung, is_started),
    Rule("timing", specified_times, is_addressed),
    Rule("timing", part_times),
    Rule("timing", executed),
    Rule("timing", never_ready, latches),
]
