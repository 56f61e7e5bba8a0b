"""Lines that never leave a level, and lines that do another one's work: told by their shape, whatever they carry."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...bus.base import BESIDE, SELECTS
from ...bus.carries import bursts, clocked
from ...bus.changes import edges_to
from ...bus.scan_roles import ADDRESS, COLOURS
from ...finding import Finding
from ...part.wrap import WRAPS
from ...units import show
from ..bearing import CARRIED, addressed_by_data, bearing, borne, exchanged_by_shape
from ..case import Case, legibility, sense, unmet
from ..hypotheses import SENSIBLE, inverted_as_a_whole
from ..rule import Rule, has_selects, is_started, not_addressed

__all__ = ["RULES"]

VARIED = 4  # kinds of data words from which on data lines are expected to move
COLOURED = 64  # the same of colours on sixteen lines
UNHEARD = 8  # clocks without a select: a word
PATTERNED = 16  # changes of a line of a colour that is used
OPEN = 16  # changes of a reset line from which on no driver makes them
AMID = 0.8  # share of them that come while words are sent
NEEDED = ("latch", "enable", "a", "b", "c", "d", "e")  # roles beside clocks, selects and data that every word or picture needs


# ---- lines that do not move ----------------------------------------------------------------------------------------------


def held(case: Case) -> Iterator[Finding]:
    """A pulled-up line that never leaves its level although the bus is used, or that lies low on an idle bus."""
    first, second = case.kind.needs
    for role, other in ((first, second), (second, first)):
        own, beside = case.pulses(role), case.pulses(other)
        if own.changes or own.level > 1:
            continue
        low = own.level == 0
        busy = beside.changes
        if not busy and (not low or beside.level != 1):
            continue  # nothing moves at all, and nothing is held: capture.silent
        if busy and not _speaks(case, other):
            continue  # whatever moves there is none of this bus
        name, clock_name = case.names(role)[0], case.names(other)[0]
        causes = [
            "shorted to ground or without pull-up",
            "held by a device that was reset in mid-word (hung bus)",
            "a device without supply",
        ] if low else ["driver pin not connected or not in its I2C function", "tied to the supply", "probe not connected"]  # fmt: skip
        start, end = case.span
        yield case.found(
            "wiring.stuck-line", "pulled-up-low" if low else "pulled-up-high", lines=[name], start=start, end=end,
            evidence={"level": "low" if low else "high", "changes_on_the_other_line": busy, "could_be": causes, "duration": show(case.trace.duration, "s")},
            called=name if role in name.lower() else f"{name} ({role.upper()})", name=name, role=role.upper(),
            around=f"while {clock_name} changes {busy} times" if busy else f"while {clock_name} idles high",
        )  # fmt: skip
        return
    if all(case.moves(role) for role in case.kind.needs):
        case.rule_out("wiring.stuck-line", "both lines move and come back")


def _speaks(case: Case, role: str) -> bool:
    """Whether the line that moves, beside one that does not, is a clock of such words, or data that call an address, where there are any."""
    if role in case.kind.clocks:
        rises = case.moves(role) // 2
        return (
            rises < 16 or any(clocked(case.piece, case.roles[role], None, bits) >= 0.8 for bits in (9, 10)) or _nines(case, role)
        )
    return case.moves(role) < 8 or not case.kind.addressed or addressed_by_data(case, case.roles[role])


def _nines(case: Case, role: str) -> bool:
    """Whether a clock's pulses come in bursts of nine and one: the last is the STOP's."""
    rises = edges_to(case.piece, case.roles[role], 1)
    opens, closes = bursts(rises)
    counts = np.searchsorted(rises, closes) - np.searchsorted(rises, opens)
    return bool(np.mean(np.isin(counts % 9, (0, 1))) > 0.7)


def still(case: Case) -> Iterator[Finding]:
    """A line that never moves while the others do what this kind of bus does."""
    here = {role: case.moves(role) for role in case.roles}
    busy = [role for role, count in here.items() if count and role not in BESIDE]
    if not busy:
        return
    clocks = case.clocks
    if case.one_held:
        return  # `held` tells that
    if clocks and not any(here[role] for role in clocks):
        data = [role for role in busy if role in case.kind.data_lines(case.bus.lines) or role == case.serial]
        alone = len(here) - len(clocks) == 1  # a bus without a select has nothing else that could move
        if (len(busy) >= 2 or alone) and len(data) >= (2 if case.kind.each_rests else 1):  # one line alone may carry anything
            busiest = max(here, key=lambda role: here[role])
            yield _stuck(case, clocks[0], f"so no word is clocked, while '{case.bus.lines[busiest]}' moves", certain=True)
        return
    if not borne(case):
        return
    yield from _unselected(case, here)
    for role in NEEDED:
        if role in here and not here[role] and role not in clocks:
            yield _stuck(case, role, "while the lines beside it work", certain=True)
            return
    if "reset" in here and not here["reset"] and _level(case, "reset") == 0:
        yield _stuck(case, "reset", "so the part is held in reset and takes no word", certain=True)
        return
    if "rw" in here and not here["rw"] and _level(case, "rw") == 1:
        yield _stuck(case, "rw", "so every word reads from the part, and nothing is written", certain=True)
        return
    yield from _data(case, here)


def _unselected(case: Case, here: dict[str, int]) -> Iterator[Finding]:
    """A select that has one level throughout: the one that does not select, or any while other selects take turns."""
    own = [role for role in SELECTS if role in here]
    active = int(case.bus.select == "high")
    whole = any(reading.started for reading in case.devices)  # later on a driver may well speak to one of several only
    for role in own:
        if here[role]:
            continue
        alone = len(own) == 1
        if _level(case, role) != active and (case.kind.transfers if alone else whole and _unheard(case, own, active)):
            who = "no part listens" if alone else "its part does not listen"
            yield _stuck(case, role, f"which is not the level that selects ({case.bus.select}), so {who}", certain=True)
        elif (
            _level(case, role) == active and alone and any(WRAPS[case.rig.target(own.device).framing].anew for own in case.direct)
        ):
            yield _stuck(case, role, "and its part takes what it is sent by the edges of it, which never come", certain=True)
        elif _level(case, role) == active and not alone and any(here[other] for other in own):
            others = " and ".join(f"'{case.bus.lines[other]}'" for other in own if here[other])
            yield _stuck(case, role, f"so its part listens to everything, also to what is for {others}", certain=True)


def _unheard(case: Case, selects: list[str], active: int) -> bool:
    """Whether words come while nobody is selected: a part that is spoken to in vain, not one that had its turn ahead of the capture."""
    clock = next((role for role in case.kind.clocks if role in case.roles and case.moves(role)), "")
    if not clock:
        return False
    count = 0
    for part in case.stretches():
        pulses = edges_to(part, case.roles[clock], 1)
        levels = [part.level_at(case.roles[role], pulses) == active for role in selects]
        count += int(np.count_nonzero(~np.any(levels, axis=0)))
    return count >= UNHEARD


def _data(case: Case, here: dict[str, int]) -> Iterator[Finding]:
    """Data lines that lie still in many words."""
    lines = list(case.kind.data_lines(case.bus.lines))
    single = case.serial
    if single and not here.get(single, 1):
        scanned = case.kind.scanned
        if case.words >= 4 or scanned:
            how = (
                "in every frame: unless the picture is all dark or all lit, nothing gets through"
                if scanned
                else f"while {case.words:,} words were clocked"
            )
            yield _stuck(case, single, how, certain=not scanned)
        return
    dead = [role for role in lines if role in here and not here[role]]
    poor = any(sense(r.part, r.chips) - unmet(case, r, r.chips) < 0.9 or legibility(r) < 0.9 for r in case.devices)
    if (
        dead
        and case.words >= (12 if poor else 64)
        and _varied(case)
        and len(dead) <= len(lines) // 2
        and all(role in case.roles for role in lines)
    ):
        for role in dead:
            yield _stuck(case, role, f"while the other data lines move, in {case.words:,} words", certain=False)
    elif not dead and all(here.values()):
        case.rule_out("wiring.stuck-line", "clock, select and data move")


def _varied(case: Case) -> bool:
    """Whether data are of many kinds: a blank picture needs none of its lines, few colours not all of sixteen, and only then one that never moves
    tells something."""
    said = [channel.words.value[channel.dc == 1] for channel in case.channels if channel.dc is not None]
    data = np.concatenate(said) if said else np.empty(0)
    wide = len(case.kind.data_lines(case.bus.lines)) > 8
    return not len(data) or len(np.unique(data)) >= (COLOURED if wide else VARIED)


def _level(case: Case, role: str) -> int:
    return case.pulses(role).level


def _stuck(case: Case, role: str, why: str, certain: bool) -> Finding:
    level = _level(case, role)
    shown = {0: "low", 1: "high"}.get(level, "unknown")
    name, (start, end) = case.bus.lines[role], case.span
    return case.found(
        "wiring.stuck-line", confidence="certain" if certain else "likely", lines=[name], start=start, end=end,
        evidence={"level": shown, "words": case.words}, name=name, role=role.upper(), level=shown, why=why,
        to="ground" if level == 0 else "the supply",
    )  # fmt: skip


# ---- lines that do another one's work ------------------------------------------------------------------------------------------


def misplaced(case: Case) -> Iterator[Finding]:
    """Clock, data, select or latch exchanged: with the two in each other's place there are whole words, and as wired there are none."""
    found = exchanged_by_shape(case)
    if found is None:
        return
    a, b, now, other = found
    start, end = case.span
    lines = case.bus.lines
    yield case.found(
        "wiring.swapped-lines", lines=[lines[a], lines[b]], start=start, end=end,
        evidence={"whole words as wired": f"{now:.0%}", "whole words this way": f"{other:.0%}"}, a=a.upper(), b=b.upper(), line_a=lines[a], line_b=lines[b],
        role_a=a, role_b=b, apart="",
    )  # fmt: skip


def turned_select(case: Case) -> Iterator[Finding]:
    """A select with the other level throughout: words come whenever it does not select."""
    role = next((role for role in ("cs", "cs1") if role in case.roles), "")
    if not role or not case.moves(role) or len([each for each in SELECTS if each in case.roles]) > 1:
        return
    if exchanged_by_shape(case) is not None:
        return
    if case.bus.select == "high" and any(reading.part.select == "high" for reading in case.direct):
        return  # as the part has it
    guessed = "select" in case.plan.assumed and case.bus.select == "high"
    given = bearing(case)
    other = 0.0 if guessed else bearing(case, active=int(case.bus.select != "high"))
    if (guessed and given < CARRIED) or (not guessed and (given >= 0.3 or other < 0.85)) or inverted_as_a_whole(case):
        return
    start, end = case.span
    name = case.bus.lines[role]
    yield case.found(
        "wiring.inverted-line", "select", lines=[name], start=start, end=end, confidence="likely" if guessed else "certain",
        evidence={"words while it selects": f"{other if guessed else given:.0%}", "words while it does not": f"{given if guessed else other:.0%}"},
        line=name, role=role.upper(), level="low" if guessed or case.bus.select == "low" else "high",
    )  # fmt: skip


def floats(case: Case) -> Iterator[Finding]:
    """A reset line that moves again and again while words are sent that make sense: an open input follows the lines beside it."""
    moves = case.moves("reset")
    clock = next((role for role in case.kind.clocks if case.moves(role)), "")
    if moves < OPEN or not clock or not borne(case) or any(case.moves(role) == moves for role in case.roles if role != "reset"):
        return  # a line that moves as often as another one touches it
    if not any(sense(reading.part, reading.chips) >= SENSIBLE for reading in case.direct):
        return  # then the lines may be anything
    piece = case.piece
    words, own = piece.edges(case.roles[clock]).times[1:], piece.edges(case.roles["reset"]).times[1:]
    if len(words) < 2 or not len(own) or float(np.mean((own > words[0]) & (own < words[-1]))) < AMID:
        return
    name, (start, end) = case.bus.lines["reset"], case.span
    yield case.found(
        "wiring.loose-contact", "floats", confidence="likely", lines=[name], start=start, end=end, count=moves,
        evidence={"changes": moves}, name=name, role="RESET", moves=f"{moves:,}",
    )  # fmt: skip


def unlit_colour(case: Case) -> Iterator[Finding]:
    """One of the colours' lines that never moves while all the others do, each its own way."""
    here = [role for role in COLOURS if role in case.roles]
    still = [role for role in here if not case.moves(role)]
    # A half of one colour that is lit in no pattern moves its lines once a load, up and down.
    least = max(PATTERNED, 1.5 * case.moves("latch"))
    if len(here) < len(COLOURS) or len(still) != 1 or min(case.moves(role) for role in here if role not in still) < least:
        return
    role = still[0]
    name, level, (start, end) = case.bus.lines[role], ("low", "high", "unknown")[case.pulses(role).level], case.span
    yield case.found(
        "wiring.stuck-line", confidence="likely", lines=[name], start=start, end=end, evidence={"level": level}, name=name, role=role.upper(), level=level,
        why="while the five other colours' lines move", to="ground" if level == "low" else "the supply",
    )  # fmt: skip


def joined_address(case: Case) -> Iterator[Finding]:
    """Two address lines of a panel that are always alike: a driver that counts row groups has each of them alone at times."""
    here = [role for role in ADDRESS if case.moves(role) >= 2]
    for number, a in enumerate(here):
        for b in here[number + 1 :]:
            if case.moves(a) != case.moves(b):
                continue
            one, two = (case.piece.edges(case.roles[role]) for role in (a, b))
            slack = 2 * case.trace.resolution()
            if (
                len(one.times) != len(two.times)
                or (one.level != two.level).any()
                or np.abs(one.times - two.times)[1:].max() > slack
            ):
                continue
            names, (start, end) = case.names(a, b), case.span
            yield case.found(
                "wiring.joined-lines", lines=names, start=start, end=end, count=case.moves(a), evidence={"changes": case.moves(a)},
                shown=" and ".join(f"'{name}' ({role.upper()})" for name, role in zip(names, (a, b), strict=True)),
            )  # fmt: skip


RULES = [
    Rule("wiring", floats),
    Rule("wiring", held, is_started),
    Rule("wiring", still, not_addressed),
    Rule("wiring", misplaced, not_addressed),
    Rule("wiring", turned_select, has_selects),
    Rule("wiring", unlit_colour),
    Rule("wiring", joined_address),
]
