"""Frames of SPI and parallel buses, and of what is behind expanders: words out of step, selects that break, lines that touch, spikes."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from numpy.typing import NDArray

from ..bus.i2c_address import addresses
from ..bus.words import CUT, END, Words
from ..errors import HushedError
from ..finding import Finding
from ..part import Commands, catalog_names, commands, load
from ..rig import DeviceReading, Rig
from ..rig.adapter import adapter
from ..rig.channel import Channel
from ..rig.follow import payloads
from ..units import show
from .any_case import CLOCKS, EVERYTHING, GAIN, AnyCase, sense, unmet

__all__ = ["RULES", "selects"]

NARROW = 0.2  # of the clock's usual pulse: what is so much shorter is none of the driver's
TOGETHER = 0.98  # share of edges that two lines have at the same time when they touch
FRAMES = ["frame.truncated-word", "frame.bit-slip", "frame.select-broken", "frame.nibble-slip"]
LOWER = [
    "timing.pulse-short",
    "timing.setup-short",
    "timing.hold-short",
    "timing.clock-too-fast",
    "wiring.stuck-line",
    "wiring.swapped-lines",
]


def _span(case: AnyCase) -> tuple[float, float]:
    return case.trace.seconds(case.trace.start), case.trace.seconds(case.trace.end)


def joined(case: AnyCase) -> Iterator[Finding]:
    """Two lines that do the same at all times."""
    if case.bus.kind not in ("spi", "parallel", "shift"):
        return
    if all(sense(r.part, r.chips) >= 0.9 for r in case.hearing.devices) and case.hearing.devices:
        case.rule_out("wiring.joined-lines", "what comes makes sense, so no two lines touch")
        return
    lines = {role: line for role in case.bus.lines if (line := case.line(role)) is not None and case.moves(role) >= 12}
    edges = {role: case.trace.edges(line).times[1:] for role, line in lines.items()}
    slack = 2 * case.trace.resolution()
    roles = list(edges)
    for number, a in enumerate(roles):
        for b in roles[number + 1 :]:
            one, two = edges[a], edges[b]
            if abs(len(one) - len(two)) > 0.02 * len(one):
                continue
            after = np.clip(np.searchsorted(one, two), 0, len(one) - 1)
            near = np.minimum(np.abs(one[after] - two), np.abs(one[np.maximum(after - 1, 0)] - two)) <= slack
            if np.mean(near) < TOGETHER:
                continue
            names = [case.bus.lines[a], case.bus.lines[b]]
            start, end = _span(case)
            yield Finding(
                "wiring.joined-lines", f"'{names[0]}' ({a.upper()}) and '{names[1]}' ({b.upper()}) do the same at all times: they touch each other",
                "look for solder or a strand of wire between the two, at the connector, on the module and under the driver's pins",
                lines=names, start=start, end=end, count=len(one), evidence={"changes": len(one), "together": f"{float(np.mean(near)):.0%}"},
                explains=[*EVERYTHING, *FRAMES, *LOWER, "wiring.inverted-line", "wiring.glitches", "frame.dc-stuck", "frame.bit-order",
                "frame.wrong-spi-mode", "capture.silent"],
            )  # fmt: skip


def spikes(case: AnyCase) -> Iterator[Finding]:
    """Pulses on a clock, an enable or a select that are far shorter than the driver's own."""
    sample = case.trace.resolution()
    for role in (*CLOCKS.get(case.bus.kind, ()), "cs", "cs1", "latch"):
        line = case.line(role)
        if line is None or case.moves(role) < 24:
            continue
        edges = case.trace.edges(line)
        took = edges.durations()[1:-1]
        usual = float(np.median(took))
        # A pulse that jitter made short has a long neighbour; a spike breaks one of the driver's own pulses, or stands alone.
        beside = np.concatenate([[usual], took[:-1]]), np.concatenate([took[1:], [usual]])
        within = beside[0] + took + beside[1] < 1.6 * usual
        alone = (beside[0] > 3 * usual) & (beside[1] > 3 * usual)
        level = edges.level[1:-1]
        own = np.where(
            level == 1,
            np.median(took[level == 1]) if (level == 1).any() else 0,
            np.median(took[level == 0]) if (level == 0).any() else 0,
        )
        short = np.flatnonzero((took < NARROW * usual) & (took < 0.5 * own) & (within | alone))
        if not len(short) or len(short) > 0.05 * len(took) or usual < 6 * sample:
            continue
        name = case.bus.lines[role]
        lasts = case.trace.seconds(int(np.median(took[short])))
        yield Finding(
            "wiring.glitches", f"{len(short)} pulse{'s' if len(short) > 1 else ''} of about {show(lasts, 's')} on '{name}' ({role.upper()}) "
            f"{'are' if len(short) > 1 else 'is'} none of the driver's: something couples into the line",
            "keep the line away from clocks, motors and backlight converters, run ground beside it, shorten it; 50 to 100 ohms in series at the "
            "driver help; make sure the probe's own ground is short",
            lines=[name], start=case.trace.seconds(int(edges.times[1 + short[0]])), end=case.trace.seconds(int(edges.times[1 + short[-1]])), count=len(short),
            evidence={"pulse": show(lasts, "s"), "usual pulse": show(case.trace.seconds(int(usual)), "s")},
            explains=[*EVERYTHING, *FRAMES, *LOWER, "frame.wrong-spi-mode", "frame.bit-order", "wiring.inverted-line", "frame.dc-stuck"],
        )  # fmt: skip
        return
    case.rule_out("wiring.glitches", "no pulse of the clock is far shorter than the others")


def selects(case: AnyCase) -> Iterator[Finding]:
    """Selects that end within a word, or never for a part that takes over what it got when they end."""
    if case.bus.kind != "spi":
        return
    for channel in case.hearing.channels:
        if channel.kind != "spi" or not channel.select or channel.bus != case.bus.name:
            continue
        name = case.bus.lines[channel.select]
        table = channel.table
        line = case.line("sck")
        blink = (
            4 * float(np.median(case.trace.edges(line).durations()[1:-1])) if line is not None and case.moves("sck") > 8 else 0.0
        )
        # A word that is cut in two by a select that blinks for less than two clocks: what is left over ahead of it and behind it makes a whole one.
        spare, rest = _whole_spare(channel), np.append(table.start[1:] - table.end[:-1], np.iinfo(np.int64).max)
        halves = np.flatnonzero((spare[:-1] > 0) & ((spare[:-1] + spare[1:]) % channel.bits == 0) & (rest[:-1] < blink))
        if len(halves):
            first = int(halves[0])
            yield Finding(
                "frame.select-broken", f"'{name}' lets go within a word in {len(halves)} place{'s' if len(halves) > 1 else ''} and selects again at once",
                "let the select rest until the last bit is out: wait for the bus to be idle, not for its buffer to be empty; look for a loose "
                "wire in the select",
                lines=[name], start=case.trace.seconds(int(table.end[first])), end=case.trace.seconds(int(table.end[int(halves[-1])])), count=len(halves),
                evidence={"bits ahead": int(spare[first]), "bits behind": int(spare[first + 1])},
                explains=[*EVERYTHING, *FRAMES, "wiring.glitches", "timing.pulse-short", "timing.hold-short", "timing.setup-short", "wiring.swapped-lines"],
            )  # fmt: skip
        latched = [
            r
            for r in case.hearing.devices
            if r.device.on == case.bus.name and case.rig.target(r.device).framing == "register-pairs"
        ]
        if latched and len(channel.words) >= 8 and len(table) == 1 and int(table.ended[0]) == END:
            start, end = _span(case)
            yield Finding(
                "frame.select-broken", f"'{name}' selects all the time, and '{latched[0].device.name}' takes over what it got only when the select ends",
                f"let the driver raise {name} behind each word of 16 bits; a select that is tied to ground does not do for this part",
                device=latched[0].device.name, lines=[name], start=start, end=end, count=len(channel.words),
                evidence={"words": len(channel.words), "ends of the select": 0}, explains=[*EVERYTHING, "wiring.stuck-line", "capture.silent"],
            )  # fmt: skip


def _whole_spare(channel: Channel) -> NDArray[np.int64]:
    """(m,) bits left over at the end of each transfer; those that the capture began in the middle of have none."""
    out: NDArray[np.int64] = np.where(channel.table.began == CUT, 0, channel.table.spare).astype(np.int64)
    return out


def slipped(case: AnyCase) -> Iterator[Finding]:
    """Transfers that are a clock short or long, among whole ones."""
    for channel in case.hearing.channels:
        if channel.kind != "spi" or not channel.select or len(channel.table) < 2 or len(channel.words) < 8:
            continue
        spare = _whole_spare(channel)[:-1]
        broken = np.flatnonzero(spare > 0)
        off = np.flatnonzero(np.isin(spare, (1, 2, channel.bits - 2, channel.bits - 1)))
        if len(off) and len(off) >= 0.5 * len(broken) and len(broken) <= 0.5 * len(spare):
            first = int(off[0])
            lost = bool(spare[first] >= channel.bits - 2)
            names = [case.bus.lines[role] for role in ("sck",) if role in case.bus.lines]
            yield Finding(
                "frame.bit-slip", f"{len(off)} of {len(spare) + 1:,} transfers are a clock or two {'short' if lost else 'long'}: an edge is "
                f"{'lost' if lost else 'one too many'}, and what "
                "follows is out of step",
                "look at the clock with a fast probe at the part's pin: slow or ringing edges, a long wire, a level shifter that is too slow for "
                "this clock; slow the clock down to see "
                "whether it goes away",
                confidence="likely", lines=names, start=case.trace.seconds(int(channel.table.start[first])),
                end=case.trace.seconds(int(channel.table.end[int(off[-1])])), count=len(off), evidence={"bits_left_over": int(spare[first])},
                explains=[*EVERYTHING, "frame.wrong-spi-mode", "frame.bit-order", "wiring.inverted-line", "wiring.swapped-lines"],
            )  # fmt: skip


# ---- nibbles --------------------------------------------------------------------------------------------------------------


def nibbles(case: AnyCase) -> Iterator[Finding]:
    """Halves of bytes out of step: one is lost, or one too many, between two rests."""
    for reading in case.hearing.devices:
        if case.rig.target(reading.device).framing != "nibbles":
            continue
        channel = next((c for c in case.hearing.channels if c.bus == reading.device.on and c.kind == "parallel"), None)
        if channel is None or len(channel.words) < 16:
            continue
        odd = _odd_groups(channel.words, channel.read)
        if odd is None or not len(odd):
            if odd is not None:
                case.rule_out("frame.nibble-slip", f"all halves of bytes for '{reading.device.name}' come in pairs")
            continue
        e = [case.bus.lines[role] for role in ("e", "e2") if role in case.bus.lines and case.bus.lines[role] in case.trace.names]
        yield Finding(
            "frame.nibble-slip", f"in {len(odd)} place{'s' if len(odd) > 1 else ''} half a byte comes alone to '{reading.device.name}', and from "
            f"there on halves are paired wrongly",
            "look for a lost or doubled pulse of E (a slow edge, a spike, an interrupt between the two halves); the display only comes back into step with the "
            "start-up sequence, so let the driver send it again",
            device=reading.device.name, lines=e, start=case.trace.seconds(int(odd[0])), end=case.trace.seconds(case.trace.end), count=len(odd),
            evidence={"halves": len(channel.words), "alone": len(odd)},
            explains=[*EVERYTHING, "wiring.swapped-lines", "wiring.reversed-bus", "wiring.inverted-line", "wiring.stuck-line", "wiring.adapter-pins",
            "setup.wrong-controller",
                      "picture.cell-off-by-one", "wiring.joined-lines"],
        )  # fmt: skip


def _odd_groups(words: Words, read: NDArray[np.bool_] | None) -> NDArray[np.int64] | None:
    """The moments of halves that come alone, by the rests between bytes; None where bytes are not told by rests."""
    time, value = words.effect, words.value
    if read is not None:
        time, value = time[~read], value[~read]
    to_four = np.flatnonzero(value == 2)  # function-set, width=4: the last half that comes alone on purpose
    if not len(to_four) or to_four[0] + 9 > len(time):
        return None
    time = time[to_four[0] + 1 :]
    steps = np.diff(time)
    inner = np.sort(steps)[: max(1, len(steps) // 3)]
    rest = 2.5 * float(np.median(inner))
    first = np.concatenate([[0], np.flatnonzero(steps > rest) + 1])
    sizes = np.diff(np.append(first, len(time)))
    if np.mean(sizes == 2) < 0.6:
        return None
    odd = np.flatnonzero(sizes[:-1] % 2 == 1).tolist()
    alone: list[int] = []
    while odd:  # two that follow one another are the halves of one byte, with a rest between them
        if len(odd) > 1 and odd[1] == odd[0] + 1:
            odd = odd[2:]
        else:
            alone.append(odd.pop(0))
    out: NDArray[np.int64] = time[first[np.array(alone, np.int64)]]
    return out


# ---- other parts, other pins ---------------------------------------------------------------------------------------------


def sisters(case: AnyCase) -> Iterator[Finding]:
    """What is sent makes sense to a sister of the part that the rig has."""
    if case.plan.assumed:
        return
    for reading in case.hearing.devices:
        if not reading.started and not any(len(chip) for chip in reading.chips):
            continue
        framing = case.rig.target(reading.device).framing
        payload = [chip.payload for chip in reading.chips]
        strange = _strange(reading.chips)
        if strange < 0.04:
            case.rule_out("setup.wrong-controller", f"what '{reading.device.name}' is sent is in its own command set")
            continue
        now = sense(reading.part, reading.chips) - unmet(case, reading, reading.chips)
        best: tuple[float, str] | None = None
        for name in catalog_names():
            other = load(name)
            if name == reading.part.name or framing not in other.framings or other.memory.kind == "port":
                continue
            own = [commands(other, each) for each in payload]
            if _strange(own) < 0.25 * strange and (worth := sense(other, own)) >= now + GAIN * (1 - now) and worth > 0.75:
                best = max(best or (0.0, ""), (worth, name))
        if best is not None:
            other = load(best[1])
            start, end = _span(case)
            yield Finding(
                "setup.wrong-controller", f"'{reading.device.name}' is a {reading.part.name} by the rig, and it is sent the commands of a "
                f"{other.name}: {strange:.0%} of them are none of its own",
                f"take a driver for the {reading.part.name}, or read what is printed on the module: if a {other.name} sits there, correct the rig's part",
                device=reading.device.name, start=start, end=end, confidence="likely",
                evidence={"as " + reading.part.name: f"{now:.0%} makes sense", "as " + other.name: f"{best[0]:.0%}"},
                explains=[*EVERYTHING, "picture.column-offset", "picture.row-offset"],
            )  # fmt: skip


def _strange(own: list[Commands]) -> float:
    """The share of commands that are unknown or not documented."""
    count = odd = 0
    for chip in own:
        for index in range(min(len(chip), 300)):
            if chip.name_of(index) == "data":
                continue
            count += 1
            odd += int(chip.kind[index]) < 0 or bool(chip.fields_of(index)[1])
    return odd / count if count else 0.0


def adapters(case: AnyCase) -> Iterator[Finding]:
    """An expander whose outputs are wired to the display in another way than the rig says."""
    if case.plan.assumed or case.bus.kind != "i2c":
        return
    for bridge in case.rig.bridge:
        readings = [r for r in case.hearing.devices if r.device.on == bridge.name and r.part.name == "hd44780"]
        if not readings or bridge.on != case.bus.name or bridge.address is None or not bridge.part.startswith("pcf8574"):
            continue
        reading = readings[0]
        if sense(reading.part, reading.chips) >= 0.9:
            case.rule_out("wiring.adapter-pins", f"'{reading.device.name}' understands what comes through '{bridge.name}'")
            continue
        values = _written(case, bridge.address)
        found = adapter(case.trace, case.bus, bridge.address, values) if len(values) else None
        if found is None:
            continue
        other, _, wired = found
        wrong = [role for role, pin in bridge.drives.items() if other.drives.get(role, pin) != pin and role != "backlight"]
        if not wrong or not _better(case, reading, other.drives):
            continue
        start, end = _span(case)
        yield Finding(
            "wiring.adapter-pins", f"the outputs of '{bridge.name}' are wired to the display in another way than the driver (or the rig) has it: "
            f"what it sends makes sense as {wired}",
            "if the driver is right for your adapter, correct the rig's drives; else give the driver the adapter's own pins: trace RS, E and D4 "
            "to D7 from the expander "
            "to the display, or run hushed-wire send --walk",
            device=reading.device.name, lines=[case.bus.lines[role] for role in ("sda",) if role in case.bus.lines], start=start, end=end,
            evidence={"as the rig says": ", ".join(f"{role}={pin}" for role, pin in bridge.drives.items()), "as it makes sense": wired},
            explains=[*EVERYTHING, "frame.nibble-slip", "setup.wrong-controller", "picture.cell-off-by-one"],
        )  # fmt: skip


def _written(case: AnyCase, address: int) -> NDArray[np.uint8]:
    from ..part.framing import FRAMINGS

    channel = next(c for c in case.hearing.channels if c.who is not None)
    who = channel.who if channel.who is not None else addresses(channel.words, channel.table)
    chosen = np.flatnonzero((who.address == address) & ~who.read & who.answered)
    return FRAMINGS["i2c-plain"](channel.words, channel.table, who.first, chosen).value


def _better(case: AnyCase, reading: DeviceReading, drives: dict[str, str]) -> bool:
    import msgspec

    bridges = [msgspec.structs.replace(b, drives=drives) if b.name == reading.device.on else b for b in case.rig.bridge]
    try:
        own = payloads(case.trace, Rig(bus=case.rig.bus, bridge=bridges, device=[reading.device]), case.bus)[reading.device.name]
    except (HushedError, KeyError):
        return False
    now = sense(reading.part, reading.chips)
    return sense(reading.part, [commands(reading.part, each) for each in own]) >= now + GAIN * (1 - now)


RULES: list[Callable[[AnyCase], Iterator[Finding]]] = [joined, spikes, slipped, nibbles, adapters, sisters]
