"""Rules on I2C frames and on what disturbs them: spikes, clocks too many or too few, refused bytes, a bus that hangs, lines that touch."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..bus.i2c import spike_ticks
from ..bus.words import BEGAN, END, RESTART, STOP
from ..finding import Finding
from ..units import show
from .any_case import EVERYTHING, AnyCase
from .any_timing import margins
from .case import Case

__all__ = ["RULES"]

FILTERED = 50e-9  # seconds: tSP, what Fast-mode inputs take out
SPIKE = 400e-9  # seconds: the longest pulse that is taken for one
NARROW = 0.2  # of the usual pulse: what is so much shorter and as short as a spike is none of the driver's
HUNG = 1e-3  # seconds for which a line lies low when nobody is clocking
DEEPER = [*EVERYTHING, "frame.truncated-word", "frame.bit-slip", "frame.data-refused", "wiring.loose-contact"]
BELOW = [
    "address.no-answer",
    "address.shifted",
    "address.neighbour",
    "timing.clock-too-fast",
    "timing.pulse-short",
    "timing.setup-short",
    "timing.hold-short",
]


def joined(case: Case) -> Iterator[Finding]:
    """Both lines do the same all the time."""
    scl, sda = case.edges["scl"], case.edges["sda"]
    count = min(len(scl.times), len(sda.times))
    if count < 16 or abs(len(scl.times) - len(sda.times)) > 0.02 * count:
        return
    near = np.abs(scl.times[np.clip(np.searchsorted(scl.times, sda.times), 0, len(scl.times) - 1)] - sda.times)
    near = np.minimum(near, np.abs(scl.times[np.clip(np.searchsorted(scl.times, sda.times) - 1, 0, None)] - sda.times))
    if np.mean(near <= 2 * case.trace.resolution()) < 0.98:
        return
    yield Finding(
        "wiring.joined-lines", f"{' and '.join(case.names('scl', 'sda'))} do the same at all times: they touch each other",
        "look for solder or a strand of wire between the two, at the connector, on the module, and under the driver's pins",
        lines=case.names("scl", "sda"), start=case.seconds(case.trace.start), end=case.seconds(case.trace.end), count=count,
        evidence={"changes": count, "together": f"{float(np.mean(near <= 2 * case.trace.resolution())):.0%}"},
        explains=[*DEEPER, *BELOW, "wiring.swapped-lines", "wiring.glitches", "capture.undersampled", "timing.bus-hung"],
    )  # fmt: skip


def glitches(case: Case) -> Iterator[Finding]:
    """Pulses far shorter than the driver's own."""
    limit = SPIKE
    sample = case.trace.resolution() * float(case.trace.tick)
    found: list[tuple[str, np.ndarray, float]] = []
    clock = np.diff(case.edges["scl"].times[case.edges["scl"].level == 1])
    middle = float(np.median(clock)) if len(clock) else 0.0
    steady = middle > 0 and float(np.median(np.abs(clock - middle))) < 0.1 * middle
    if case.as_wired.score < 0.5 and not steady:
        return  # that is no clock with spikes on it, but something else
    width = spike_ticks(case.trace, case.scl)
    for role in ("scl", "sda"):
        edges = case.edges[role]
        # What parts and decoder filter out is left out here, too: pulses that are, or may be, as short as a spike.
        tiny = np.flatnonzero(np.diff(edges.times) < width)
        kept = np.delete(edges.times, np.unique(np.concatenate([tiny, tiny + 1])))
        took = np.diff(kept)[1:-1] * float(case.trace.tick)
        if len(took) < 16:
            continue
        usual = (
            float(np.median(case.edges["scl"].durations()[1:-1])) * float(case.trace.tick)
            if len(case.edges["scl"].times) > 2
            else 0.0
        )
        short = np.flatnonzero((took <= limit) & (took < NARROW * usual) & (took - sample > 0.9 * FILTERED))
        if len(short) and len(short) < 0.2 * len(took):
            found.append((role, kept[1:-2][short], float(np.median(took[short]))))
    if not found:
        case.rule_out("wiring.glitches", "no pulse is far shorter than the driver's own")
        return
    names = [name for role, _, _ in found for name in case.names(role)]
    count = sum(len(when) for _, when, _ in found)
    first, last = min(int(when[0]) for _, when, _ in found), max(int(when[-1]) for _, when, _ in found)
    yield Finding(
        "wiring.glitches", f"{count} pulse{'s' if count > 1 else ''} of about {show(found[0][2], 's')} on {' and '.join(names)} "
        f"{'are' if count > 1 else 'is'} none of the driver's: "
        "something couples into the line",
        "keep the line away from clocks, motors and backlight converters, run ground beside it, shorten it; 100 ohms in series at the driver "
        "and a smaller pull-up help; make sure the probe's own ground is short",
        lines=names, start=case.seconds(first), end=case.seconds(last), count=count, confidence="certain" if count > 2 else "likely",
        evidence={"pulse": show(found[0][2], "s"), "filtered by parts up to": "50 ns [I2C-bus specification, tSP]"},
        explains=[*DEEPER, *BELOW, "frame.missing-stop", "wiring.swapped-lines", "address.reserved"],
    )  # fmt: skip


def slipped(case: Case) -> Iterator[Finding]:
    """Transactions that end in mid-word though the capture goes on."""
    table = case.reading.transactions
    spare = table.spare.astype(int)
    broken = np.flatnonzero((spare > 0) & np.isin(table.ended, (STOP, RESTART)))
    if not len(broken) or case.as_wired.score < 0.5:
        return
    slip = bool(np.isin(spare[broken], (1, 2, 7, 8)).mean() >= 0.5)  # one or two clocks too many, or lost
    code = "frame.bit-slip" if slip else "frame.truncated-word"
    first, last = int(broken[0]), int(broken[-1])
    what = "a clock edge is lost or one too many" if slip else "they end in mid-word"
    yield Finding(
        code, f"in {len(broken):,} of {len(table):,} transactions the clocks are no multiple of nine: {what}",
        "look at the clock line with a fast probe: slow edges, a long wire, a level shifter that is too slow, or a driver whose clock routine is interrupted",
        confidence="likely", lines=case.names("scl"), start=case.seconds(int(table.start[first])), end=case.seconds(int(table.end[last])), count=len(broken),
        evidence={"bits_left_over": int(spare[first])}, explains=[*EVERYTHING, "frame.data-refused"],
    )  # fmt: skip


def refused(case: Case) -> Iterator[Finding]:
    """Data bytes, and now and then an address, that a device which does answer does not acknowledge."""
    reading = case.reading
    words, table, who = reading.decoded.words, reading.transactions, reading.addresses
    if not len(table) or case.as_wired.score < 0.5:
        return
    bad = reading.refused()
    bad[table.first[table.last > table.first]] = False
    data = np.flatnonzero(bad)
    calls = [(int(a), who.address == a) for a in np.unique(who.address) if a >= 0]
    some = [(a, mask) for a, mask in calls if who.answered[mask].any() and not who.answered[mask].all()]
    # Where a contact is open the line reads high: bytes end in ones, or a STOP appears in mid-word and clocks run on behind it.
    open_line = bool(len(data)) and (float(np.mean(words.value[data] & 15 == 15)) > 0.7 or reading.decoded.stray >= 8)
    missed = sum(int(np.count_nonzero(~who.answered[mask])) for _, mask in some)
    if not len(data) and not some:
        case.rule_out("frame.data-refused", "every byte that was written is acknowledged")
        return
    owner = table.first.searchsorted(data, side="right") - 1
    device = next((d.name for d in case.rig.devices_on(case.bus) if any(d.address == a for a, _ in some or calls)), None)
    if some or open_line:
        called = sum(int(np.count_nonzero(mask)) for _, mask in some)
        first = min(
            [int(table.start[np.flatnonzero(~who.answered & mask)[0]]) for _, mask in some]
            + [int(words.start[k]) for k in data[:1]]
        )
        text = f"{', '.join(f'{a:#04x}' for a, _ in some)} misses {missed} of {called} calls and answers the others" if some else (
            f"{len(data)} bytes among sound ones are not acknowledged, as if the line were open for a moment"
        )  # fmt: skip
        yield Finding(
            "wiring.loose-contact", text + ": a contact opens now and then, or the supply dips",
            "wiggle each wire while the capture runs and see when calls are missed; reseat the connector, resolder the header, measure the supply at the "
            "display under load",
            confidence="likely", device=device, lines=case.names("sda"), start=case.seconds(first), end=case.seconds(case.trace.end),
            count=missed or len(data), evidence={"missed": missed, "calls": called, "refused_bytes": len(data)},
            explains=[*EVERYTHING, "frame.data-refused", "frame.bit-slip", "frame.truncated-word", "address.no-answer", "frame.missing-stop"],
        )  # fmt: skip
        return
    writes = np.unique(owner)
    first = int(words.start[data[0]])
    yield Finding(
        "frame.data-refused", f"{len(data):,} data byte{'s' if len(data) > 1 else ''} in {len(writes):,} of {len(table):,} transactions are not "
        f"acknowledged, so the driver breaks them off",
        "the device is there and says no: send less at a time, wait for it to be ready, look whether its register or length is one it has, and "
        "whether its supply holds",
        device=device, lines=case.names("sda"), start=case.seconds(first), end=case.seconds(int(words.end[data[-1]])), count=len(data),
        evidence={"refused": len(data), "first byte": f"{int(words.value[data[0]]):#04x}"},
        explains=[code for code in EVERYTHING if not code.startswith(("frame.", "timing."))],
    )  # fmt: skip


def endless(case: Case) -> Iterator[Finding]:
    """Writes that follow one another without a STOP."""
    table, who = case.reading.transactions, case.reading.addresses
    if len(table) < 4:
        return
    after = (table.ended[:-1] == RESTART) & ~who.read[1:] & ~who.read[:-1]
    if np.count_nonzero(after) < 3 or np.count_nonzero(after) < 0.5 * len(table):
        return
    first = int(np.flatnonzero(after)[0])
    yield Finding(
        "frame.missing-stop", f"{int(np.count_nonzero(after)):,} of {len(table):,} writes end with a new START and no STOP",
        "send a STOP behind each write: other drivers of the bus wait for it, and some parts take over what they were sent only then",
        lines=case.names("scl", "sda"), start=case.seconds(int(table.start[first])), end=case.seconds(int(table.end[-1])), count=int(np.count_nonzero(after)),
        evidence={"stops": int(np.count_nonzero(table.ended == STOP)), "repeated_starts": int(np.count_nonzero(table.ended == RESTART))},
    )  # fmt: skip


def hung(case: Case) -> Iterator[Finding]:
    """A line that is held low at the end, when nobody is clocking any more."""
    marks = case.reading.decoded.marks
    for role in ("sda", "scl"):
        own, other = case.edges[role], case.edges["scl" if role == "sda" else "sda"]
        if len(own.times) < 8 or own.level[-1] != 0:
            continue
        still = case.seconds(
            case.trace.end - max(int(own.times[-1]), int(other.times[-1]) if role == "sda" else int(own.times[-1]))
        )
        lows = own.durations()[(own.level == 0)]
        lies = case.seconds(int(lows[-1]))
        # Zeros hold SDA low for as long as they come; a driver that rests meanwhile meant a STOP, and did not get it.
        clock = case.edges["scl"]
        highs = (clock.level == 1) & (clock.times > own.times[-1])
        usual_high = float(np.median(clock.durations()[clock.level == 1]))
        rests = role == "sda" and bool((clock.durations()[highs] > 5 * usual_high).any())
        usual = case.seconds(int(np.sort(lows[:-1])[-2])) if len(lows) > 3 else 0.0
        if lies < max(HUNG, 4 * usual) or not (still > HUNG or rests) or (len(marks) and int(marks.kind[-1]) == STOP):
            continue
        name = case.names(role)[0]
        yield Finding(
            "timing.bus-hung", f"{name} is held low for the last {show(lies, 's')} of the capture, in mid-transaction: the bus hangs",
            "a device waits for clocks that never come: clock SCL nine times with SDA released and send a STOP at start-up, and reset the display with "
            "the driver" if role == "sda" else
            "a device stretches the clock and never lets go: look for one that lost its supply or was reset, and give the driver a time-out",
            lines=[name], start=case.seconds(int(own.times[-1])), end=case.seconds(case.trace.end), confidence="certain" if still > 2 * HUNG else "likely",
            evidence={"low for": show(lies, "s"), "transaction": "open" if len(marks) and int(marks.kind[-1]) in (*BEGAN, END) else "ended"},
            explains=[*DEEPER, *BELOW, "frame.missing-stop"],
        )  # fmt: skip
        return
    case.rule_out("timing.bus-hung", "both lines come up again")


TOLERANCE = 0.93  # edges jitter, and drivers' oscillators are off, without harm
CODE_OF = {"tLOW": "pulse", "tHIGH": "pulse", "tBUF": "pulse"}


def times(case: Case) -> Iterator[Finding]:
    """Minimum times of the I2C-bus specification, of the mode that the clock asks for."""
    if case.as_wired.score < 0.5:
        return
    from ..rig import Setup

    table = [
        margin
        for margin in margins(AnyCase(case.trace, Setup(case.rig)))
        if margin.symbol != "fSCL" and margin.below and not margin.at_most
    ]
    for kind in ("pulse", "setup", "hold"):
        own = [m for m in table if kind == (CODE_OF.get(m.symbol) or ("setup" if m.symbol.startswith("tSU") else "hold"))]
        own = [m for m in own if m.smallest < TOLERANCE * m.required and m.below > max(2, 0.02 * m.count)]
        if not own:
            continue
        worst = min(own, key=lambda m: m.smallest / m.required)
        yield Finding(
            f"timing.{kind}-short", f"{worst.symbol} is {show(worst.smallest, 's')} at the least; {worst.what} needs {show(worst.required, 's')} "
            f"({worst.below:,} of {worst.count:,} are too short)",
            "slow the clock down, or correct the driver's bus timing; where a level shifter or a long wire makes an edge late, mend that",
            lines=case.names("scl", "sda"), start=worst.first, end=case.seconds(case.trace.end), count=worst.below,
            evidence={"measured": show(worst.smallest, "s"), "required": show(worst.required, "s"), "source": worst.source},
        )  # fmt: skip


RULES = [joined, hung, glitches, slipped, refused, endless, times]
