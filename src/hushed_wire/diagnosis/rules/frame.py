"""Frames: words out of step, selects that break, bytes that nobody takes, transfers that end in mid-word."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ...bus.channel import Channel
from ...bus.i2c_transactions import refused as unacknowledged
from ...bus.words import CUT, END, RESTART, STOP, Words
from ...finding import Finding
from ...part.receive_bits import broken_off
from ...part.wrap import WRAPS
from ..bearing import exchanged_by_shape
from ..case import Case
from ..rule import Rule, has_selects, is_addressed, is_called, is_started

__all__ = ["RULES"]


def _places(count: int) -> str:
    return f"{count} place{'s' if count > 1 else ''}"


# ---- I2C, and two wires without addresses -------------------------------------------------------------------------------------------------------


def no_nines(case: Case) -> Iterator[Finding]:
    """Transactions that end in mid-word though the capture goes on."""
    table = case.table
    spare = table.spare.astype(int)
    broken = np.flatnonzero((spare > 0) & np.isin(table.ended, (STOP, RESTART)))
    if not len(broken) or case.as_wired.score < 0.5:
        return
    slip = bool(np.isin(spare[broken], (1, 2, 7, 8)).mean() >= 0.5)  # one or two clocks too many, or lost
    first, last = int(broken[0]), int(broken[-1])
    yield case.found(
        "frame.bit-slip" if slip else "frame.truncated-word", "nine", confidence="likely", lines=case.names(case.kind.needs[0]),
        start=case.seconds(int(table.start[first])), end=case.seconds(int(table.end[last])), count=len(broken),
        evidence={"bits_left_over": int(spare[first])}, broken=f"{len(broken):,}", count_of=f"{len(table):,}",
    )  # fmt: skip


def refused(case: Case) -> Iterator[Finding]:
    """Data bytes, and now and then an address, that a device which does answer does not acknowledge."""
    words, table, who = case.bytes, case.table, case.who
    if not len(table) or case.as_wired.score < 0.5:
        return
    bad = unacknowledged(words, table, who)
    bad[table.first[table.last > table.first]] = False
    data = np.flatnonzero(bad)
    calls = [(int(a), who.address == a) for a in np.unique(who.address) if a >= 0]
    some = [(a, mask) for a, mask in calls if who.answered[mask].any() and not who.answered[mask].all()]
    # Where a contact is open the line reads high: bytes end in ones, or a STOP appears in mid-word and clocks run on behind it.
    stray = case.talk.passed_over.stray
    open_line = bool(len(data)) and (float(np.mean(words.value[data] & 15 == 15)) > 0.7 or stray >= 8)
    missed = sum(int(np.count_nonzero(~who.answered[mask])) for _, mask in some)
    if not len(data) and not some:
        case.rule_out("frame.data-refused", "every byte that was written is acknowledged")
        return
    device = next((d.name for d in case.rig.devices_on(case.bus) if any(d.address == a for a, _ in some or calls)), None)
    if some or open_line:
        called = sum(int(np.count_nonzero(mask)) for _, mask in some)
        first = [int(table.start[np.flatnonzero(~who.answered & mask)[0]]) for _, mask in some] + [
            int(words.start[k]) for k in data[:1]
        ]
        yield case.found(
            "wiring.loose-contact", "missed" if some else "", confidence="likely", device=device, lines=case.names("sda"),
            start=case.seconds(min(first)), end=case.span[1], count=missed or len(data),
            evidence={"missed": missed, "calls": called, "refused_bytes": len(data)},
            addresses=", ".join(f"{a:#04x}" for a, _ in some), missed=missed, calls=called, refused=len(data),
        )  # fmt: skip
        return
    writes = np.unique(table.first.searchsorted(data, side="right") - 1)
    yield case.found(
        "frame.data-refused", device=device, lines=case.names("sda"), start=case.seconds(int(words.start[data[0]])),
        end=case.seconds(int(words.end[data[-1]])), count=len(data),
        evidence={"refused": len(data), "first byte": f"{int(words.value[data[0]]):#04x}"},
        bytes=f"{len(data):,} data byte{'s' if len(data) > 1 else ''}", transactions=f"{len(writes):,} of {len(table):,}",
    )  # fmt: skip


def unheard(case: Case) -> Iterator[Finding]:
    """Bytes that nobody acknowledges on a bus without addresses."""
    words = [channel.words for channel in case.channels]
    count = sum(map(len, words))
    if count < 2 or case.as_wired.score < 0.5:
        return
    missed = [(int(own.start[at]), int(own.end[at])) for own in words for at in np.flatnonzero(~own.ack).tolist()]
    if not missed:
        case.rule_out("frame.data-refused", "every byte is acknowledged")
        return
    clock, data = case.kind.needs[:2]
    device = next((device.name for device in case.rig.devices_on(case.bus)), None)
    yield case.found(
        "frame.data-refused", "none" if len(missed) == count else "some", device=device, lines=case.names(data), confidence="likely",
        start=case.seconds(missed[0][0]), end=case.seconds(missed[-1][1]), count=len(missed), evidence={"bytes": count, "not acknowledged": len(missed)},
        missed=len(missed), data=case.bus.lines.get(data, data.upper()), names=" and ".join(case.names(clock, data)), count_of=count,
    )  # fmt: skip


def endless(case: Case) -> Iterator[Finding]:
    """Writes that follow one another without a STOP."""
    table, who = case.table, case.who
    if len(table) < 4:
        return
    after = (table.ended[:-1] == RESTART) & ~who.read[1:] & ~who.read[:-1]
    count = int(np.count_nonzero(after))
    if count < 3 or count < 0.5 * len(table):
        return
    first = int(np.flatnonzero(after)[0])
    yield case.found(
        "frame.missing-stop", lines=case.names("scl", "sda"), start=case.seconds(int(table.start[first])), end=case.seconds(int(table.end[-1])), count=count,
        evidence={"stops": int(np.count_nonzero(table.ended == STOP)), "repeated_starts": int(np.count_nonzero(table.ended == RESTART))},
        writes=f"{count:,}", of=f"{len(table):,}",
    )  # fmt: skip


# ---- selects --------------------------------------------------------------------------------------------------------------


def selects(case: Case) -> Iterator[Finding]:
    """Selects that end within a word, or never for a part that takes over what it got when they end."""
    if exchanged_by_shape(case) is not None:
        return  # a select that does another line's work breaks nothing
    for channel in case.channels:
        if not channel.select:
            continue
        name, table, clock = case.bus.lines[channel.select], channel.table, case.kind.clocks[0]
        blink = 4 * case.pulses(clock).lasted.typical if case.moves(clock) > 8 else 0.0
        # A word that is cut in two by a select that blinks for less than two clocks: what is left over ahead of it and behind it makes a whole one.
        (spare, _), rest = left_over(channel), np.append(table.start[1:] - table.end[:-1], np.iinfo(np.int64).max)
        halves = np.flatnonzero(
            (spare[:-1] > 0) & ((spare[:-1] + spare[1:]) % channel.bits == 0) & (channel.bits > 1) & (rest[:-1] < blink)
        )
        if 0 < len(halves) < 0.5 * len(table):  # where it does so all the time, it is meant to, and its words are shorter
            first = int(halves[0])
            yield case.found(
                "frame.select-broken", "blinks", lines=[name], start=case.seconds(int(table.end[first])), end=case.seconds(int(table.end[int(halves[-1])])),
                count=len(halves), evidence={"bits ahead": int(spare[first]), "bits behind": int(spare[first + 1])}, name=name, places=_places(len(halves)),
            )  # fmt: skip
        latched = [r for r in case.direct if WRAPS[case.rig.target(r.device).framing].chains]
        if latched and len(channel.words) >= 8 and len(table) == 1 and int(table.ended[0]) == END:
            start, end = case.span
            yield case.found(
                "frame.select-broken", device=latched[0].device.name, lines=[name], start=start, end=end, count=len(channel.words),
                evidence={"words": len(channel.words), "ends of the select": 0}, name=name,
            )  # fmt: skip


def left_over(channel: Channel) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """(m,) bits left over at the end of each transfer, and of how many whole ones would have been; those that the capture began in the middle of
    have none."""
    table = channel.table
    spare, unit = (table.spare.astype(np.int64), np.full(len(table), channel.bits)) if channel.bits > 1 else broken_off(channel)
    return np.where(table.began == CUT, 0, spare), unit


def _long_enough(case: Case) -> Iterator[Channel]:
    for channel in case.channels:
        if channel.select and len(channel.table) >= 2 and len(channel.words) >= 8:
            yield channel


def slipped(case: Case) -> Iterator[Finding]:
    """Transfers that are a clock short or long, among whole ones."""
    for channel in _long_enough(case):
        spare, unit = (column[:-1] for column in left_over(channel))
        broken = np.flatnonzero(spare > 0)
        table = channel.table
        clocks = ((table.last - table.first) * channel.bits + table.spare)[:-1]
        whole = clocks > spare  # a clock by itself is no word with one too many
        off = np.flatnonzero(((spare > 0) & (spare <= 2) & whole) | (spare >= unit - 2))
        if len(off) and len(off) >= 0.5 * len(broken) and len(broken) <= 0.5 * len(spare):
            first = int(off[0])
            lost = bool(spare[first] >= unit[first] - 2)
            yield case.found(
                "frame.bit-slip", confidence="likely", lines=case.names(case.kind.clocks[0]), start=case.seconds(int(channel.table.start[first])),
                end=case.seconds(int(channel.table.end[int(off[-1])])), count=len(off), evidence={"bits_left_over": int(spare[first])},
                broken=len(off), count_of=f"{len(spare) + 1:,}", way="short" if lost else "long", how="lost" if lost else "one too many",
            )  # fmt: skip


def truncated(case: Case) -> Iterator[Finding]:
    """Transfers that end in mid-word."""
    for channel in _long_enough(case):
        table = channel.table
        spare, unit = (column[:-1] for column in left_over(channel))
        broken = np.flatnonzero(spare > 0)
        if not len(broken):
            whole = f"words of {channel.bits} bits" if channel.bits > 1 else "commands, or an address with data"
            case.rule_out("frame.truncated-word", f"all {len(table):,} transfers are whole {whole}")
            continue
        first = int(broken[0])
        yield case.found(
            "frame.truncated-word", confidence="likely", lines=case.names(channel.select, case.kind.clocks[0]),
            start=case.seconds(int(table.start[first])), end=case.seconds(int(table.end[int(broken[-1])])), count=len(broken),
            evidence={"bits_left_over": int(spare[first])}, broken=f"{len(broken):,}", count_of=f"{len(table):,}", bits=int(unit[first]),
        )  # fmt: skip


# ---- nibbles --------------------------------------------------------------------------------------------------------------


def nibbles(case: Case) -> Iterator[Finding]:
    """Halves of bytes out of step: one is lost, or one too many, between two rests."""
    for reading in case.devices:
        if not WRAPS[case.rig.target(reading.device).framing].halves:
            continue
        channel = next((channel for channel in case.reading.on(reading.device.on) if channel.read is not None), None)
        if channel is None or len(channel.words) < 16:
            continue
        odd = _odd_groups(channel.words, channel.read)
        if odd is None or not len(odd):
            if odd is not None:
                case.rule_out("frame.nibble-slip", f"all halves of bytes for '{reading.device.name}' come in pairs")
            continue
        yield case.found(
            "frame.nibble-slip", device=reading.device.name, lines=case.names("e", "e2"), start=case.seconds(int(odd[0])), end=case.span[1], count=len(odd),
            evidence={"halves": len(channel.words), "alone": len(odd)}, places=_places(len(odd)),
        )  # fmt: skip


def _odd_groups(words: Words, read: NDArray[np.bool_] | None) -> NDArray[np.int64] | None:
    """The moments of halves that come alone, by the rests between bytes; None where bytes are not told by rests."""
    time, value = words.effect, words.value
    if read is not None:
        time, value = time[~read], value[~read]
    to_four = np.flatnonzero(value == 2)  # function-set, width=4: the last half that comes alone on purpose
    if not len(to_four) or to_four[0] + 9 > len(time) or not to_four[0] or (value[: to_four[0]] != 3).any():
        return None  # without the start-up ahead of it, that is no function-set
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


RULES = [
    Rule("frame", no_nines, is_started),
    Rule("frame", refused, is_addressed),
    Rule("frame", endless, is_addressed),
    Rule("frame", unheard, is_called),
    Rule("frame", selects, has_selects),
    Rule("frame", slipped, has_selects),
    Rule("frame", truncated, has_selects),
    Rule("frame", nibbles),
]
