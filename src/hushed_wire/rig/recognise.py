"""Buses other than I2C without a rig: their lines by name or by the traffic, and the part by the sense that its commands make."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass
from itertools import product

import numpy as np

from ..bus.base import BUSES, KIND_NAMES
from ..bus.carries import pulses_alike
from ..bus.changes import excerpt
from ..bus.role_names import named
from ..bus.roles import best_i2c
from ..bus.scan_roles import coloured, grouped
from ..bus.spi_roles import SpiFit, best_spi
from ..bus.strobe_roles import ParallelFit, best_parallel, best_shift
from ..bus.words import CUT, END
from ..errors import HushedError, nearest
from ..part import Commands, Part, catalog_names, load
from ..part.bring_up import set_up_in
from ..part.describe import Panel, chips_of
from ..part.neighbours import usual_first
from ..part.readable import readable_runs, readable_share
from ..part.wrap import BUS_OF, WRAPS
from ..trace import Trace
from .adapter import READABLE
from .guess_panel import chained, panel_for
from .guess_settings import NOTHING, Shape, selected, shaped
from .reading import decode
from .schema import Bus, Device, Rig, panel_of

__all__ = ["bus_of", "likely_roles", "low_bit_first", "recognised"]

LOOKED_AT = 400_000  # changes in which a part is looked for
AT_FIRST = 20_000  # changes in which a part that makes no sense of anything is told, whatever comes later
STROBES = (("e", "e2"), ("wr", "rd"))  # by the level at which they rest
STEADY = 0.9  # share of a clock's pulses that are alike
LONGEST_ROW = 32  # drivers in a chain
TORN = 0.1  # share of transfers in pieces, from which on a part that nobody named is not told by its commands
MOSTLY = 0.9  # share of loads that are as long as most
UNEXPLAINED = 0.2  # what a line that moves and plays no role counts against an assignment


@dataclass
class _Found:
    """Roles of a kind of bus, and what told them. fit: of an SPI bus whose lines were found by the traffic."""

    kind: str
    roles: dict[str, int]
    by: str
    fit: SpiFit | None = None


def bus_of(trace: Trace, kind: str, lines: dict[str, str], assumed: dict[str, str], shape: Shape = NOTHING) -> Bus | None:
    """The bus of a capture that is not I2C; None where it is I2C, or nothing tells. kind: "" where it is not given.

    shape: mode, word and select, as far as they are given.

    Raises HushedError for roles that no bus has, and where a bus that is asked for cannot be found.
    """
    given = {role: trace.index(line) for role, line in lines.items()}
    kind = _asked(kind, given)
    names = named(trace.names)
    found: _Found | Bus | None = None
    if names is not None and kind in ("", names[0]):
        found = _Found(names[0], dict(names[1]), "the names")
    elif not (kind and BUSES[kind].addressed):
        found = _by_traffic(trace, kind, bool(given), assumed)
    if not isinstance(found, _Found):
        return found
    if BUSES[found.kind].addressed:
        return None
    taken = set(given.values())
    roles = {role: line for role, line in found.roles.items() if line not in taken and role not in given} | given
    _must_be_whole(trace, found.kind, roles)
    bus = Bus("bus", found.kind, lines={role: trace.names[line] for role, line in roles.items()})
    free = {role: trace.names[line] for role, line in roles.items() if role not in given}
    if free:
        assumed["lines"] = f"the bus is {found.kind}: {_told(free)}; by {found.by}"
    shaped(trace, bus, assumed, shape, found.fit)
    return bus


def _asked(kind: str, given: Collection[str]) -> str:
    """The kind of bus that is given, by itself or by roles that only it has; "" where neither is."""
    if kind and kind not in BUSES:
        raise HushedError(f"there is no bus '{kind}'", where="--bus", remedy=nearest(kind, KIND_NAMES))
    if kind or not given:
        return kind
    kinds = [own.name for own in BUSES.values() if set(given) <= set(own.roles)]
    if not kinds:
        known = sorted({role for own in BUSES.values() for role in own.roles})
        wrong = next(iter([*(role for role in given if role not in known), *given]))
        raise HushedError(f"no bus has the role '{wrong}' beside the others", where="--line", remedy=nearest(wrong, known))
    return next((own for own in kinds if BUSES[own].addressed), kinds[0])


def _by_traffic(trace: Trace, kind: str, given: bool, assumed: dict[str, str]) -> _Found | Bus | None:
    """What the lines do tells the kind of bus: each kind that can be told so has a way of its own. given: whether some roles are."""
    part = excerpt(trace)
    strobed = best_parallel(part) if not given and kind in ("", "parallel") else None
    if strobed is not None and (made := by_sense(part, strobed, assumed)) is not None:
        return made
    fit = best_spi(part) if kind in ("", "spi") else None
    if kind:
        return _Found(kind, {} if fit is None else _from_fit(fit), "the names" if fit is None else "the traffic", fit)
    other = best_i2c(part)
    if fit is None:
        if strobed is not None and other is None:
            raise _unnamed(trace, strobed)
        return None
    if other is not None and other.score >= fit.score and pulses_alike(part, other.scl) >= STEADY:
        return None  # two lines of SPI may look like I2C, but none of them is a clock
    if not given and fit.dc < 0 and (shifted := best_shift(part)) is not None:
        return _Found("shift", {"clock": shifted.clock, "data": shifted.data, "latch": shifted.latch}, "the traffic")
    return _Found("spi", _from_fit(fit), "the traffic", fit)


def low_bit_first(trace: Trace, assumed: dict[str, str]) -> Bus | None:
    """The bus of two wires without addresses on which a part makes sense of what else would be I2C; None where none does.

    On the wires they are the same: there it is told by the first bytes of transfers, which no I2C driver sends.
    """
    part = excerpt(trace)
    wires = best_i2c(part)
    if wires is None:
        return None
    bus = Bus("bus", "two-wire", lines={"clock": trace.names[wires.scl], "data": trace.names[wires.sda]})
    if _best_sense(part, bus, "", "") is None:
        return None
    clock, data = bus.lines.values()
    assumed["lines"] = (
        f"two wires without addresses, low bit first: CLOCK is '{clock}' and DATA is '{data}'; as a part's commands appear so"
    )
    return bus


def _unnamed(trace: Trace, strobed: ParallelFit) -> HushedError:
    pulses, latched = (", ".join(trace.names[line] for line in lines) for lines in (strobed.strobes, strobed.latched))
    return HushedError(
        f"this looks like a parallel bus: pulses of {pulses} latch {latched}; which of these is which, no part's commands tell",
        remedy=f"say it, like --line {STROBES[strobed.rests][0]}={_quoted(trace.names[strobed.strobes[0]])} --line rs=… --line d0=…",
    )


def _must_be_whole(trace: Trace, kind: str, roles: dict[str, int]) -> None:
    missing = BUSES[kind].missing(roles)
    if missing:
        has = ", ".join(trace.names[:16])
        raise HushedError(
            f"nothing tells which line is {missing[0].upper()} of the {kind} bus",
            remedy=f"say --line {missing[0]}=LINE; the capture has {has}",
        )


def _told(free: dict[str, str]) -> str:
    """Which line is which, in words."""
    plain = [role.upper() for role, name in free.items() if name.upper() == role.upper()]
    told = [f"{role.upper()} is '{name}'" for role, name in free.items() if name.upper() != role.upper()]
    if plain:
        told.append(f"{len(plain)} lines are named as their roles" if len(plain) > 4 else f"{', '.join(plain)} named so")
    return ", ".join(told)


def likely_roles(trace: Trace) -> dict[int, str]:
    """What each line is probably for, as "bus role": by the traffic where it tells, else by the names."""
    part = excerpt(trace)
    found = named(trace.names)
    strobed = best_parallel(part) if found is None else None
    bus = by_sense(part, strobed, {}) if strobed is not None else None
    if bus is not None:
        return {trace.index(line): f"parallel {role}" for role, line in bus.lines.items()}
    wires, fit = best_i2c(part), best_spi(part)
    if (
        (found is None or found[0] in ("i2c", "spi"))
        and fit is not None
        and (wires is None or fit.score > wires.score or pulses_alike(part, wires.scl) < STEADY)
    ):
        shifted = best_shift(part) if fit.dc < 0 else None
        if shifted is not None:
            return {shifted.clock: "shift clock", shifted.data: "shift data", shifted.latch: "shift latch"}
        return {line: f"spi {role}" for role, line in _from_fit(fit).items()}
    if found is not None and found[0] != "i2c":
        return {line: f"{found[0]} {role}" for role, line in found[1].items()}
    if wires is None and strobed is not None:  # no part's commands tell which of the lines is which
        roles = dict(zip(strobed.strobes, (f"parallel {role}" for role in STROBES[strobed.rests]), strict=False))
        return (
            dict.fromkeys(strobed.latched, "parallel data or rs")
            | roles
            | ({strobed.select: "parallel cs"} if strobed.select >= 0 else {})
        )
    if wires is None:
        return {}
    other = low_bit_first(part, {})
    if other is not None:
        return {trace.index(line): f"two-wire {role}" for role, line in other.lines.items()}
    return {wires.scl: "i2c scl", wires.sda: "i2c sda"}


def _from_fit(fit: SpiFit) -> dict[str, int]:
    out = {"sck": fit.sck, "mosi": fit.mosi, "cs": fit.cs}
    return out | ({"dc": fit.dc} if fit.dc >= 0 else {})


def recognised(
    trace: Trace, bus: Bus, part: str, panel: str, assumed: dict[str, str], usual: set[str], ordered: bool = True
) -> list[Device]:
    """The device of a bus, as its commands tell; none where no part of the catalog makes sense of them. ordered: which bit comes first was said;
    else each part is tried with the one that it takes first: words turned over fit something now and then."""
    if BUSES[bus.kind].scanned:
        return _lamps(bus, part, panel, assumed)
    if not part and BUSES[bus.kind].one_wire:
        part = next(name for name in catalog_names() if any(BUS_OF[framing] == bus.kind for framing in load(name).framings))
        assumed["part"] = f"the part is {part}, as only such LEDs are wired so; say --part for another"
    if part and bus.bits == 9 and not any(WRAPS[name].bits == 9 for name in load(part).framings):
        bus.bits = 0  # wires in each other's place may look so; the part never takes such words
    low = load(part).bit_order == "lsb" if part else False
    best = None if low and not ordered else _best_sense(trace, bus, part, panel, ordered)
    if best is None and not ordered and BUSES[bus.kind].transfers and "order" in BUSES[bus.kind].settings:
        bus.order = "lsb"
        best = _best_sense(trace, bus, part, panel, ordered)
        if best is None:
            bus.order = "msb"
        else:
            assumed["order"] = f"the lowest bit of a word comes first, as {best[1].name} takes it"
    if best is None:
        return []
    _, known, device = best
    if not part:
        assumed["part"] = f"the part is {known.name}, as its bytes read as commands of that part; say --part for another"
    if not panel:
        shown = device.panel if isinstance(device.panel, str) else device.panel["name"]
        chain = chips_of(panel_of(known, device)) if _chains(known) else 1
        why = "the usual one" if device.panel == _usual(known, bus) else "as the set-up and the windows tell"
        why = f"as most loads are for a chain of {chain}" if chain > 1 else why
        usual.add(device.name)
        assumed["panel"] = f"its panel is {shown}, {why}; say --panel for another"
    return [device]


def _best_sense(trace: Trace, bus: Bus, part: str, panel: str, ordered: bool = True) -> tuple[float, Part, Device] | None:
    """The part as whose commands the words of a bus make the best sense: a score (less is better), the part, and a device. ordered: the bus's
    order of bits was said; else only parts are tried that take it."""
    names = [part] if part else sorted(catalog_names(), key=usual_first)
    piece, first = excerpt(trace, LOOKED_AT), excerpt(trace, AT_FIRST)
    best: tuple[float, Part, Device] | None = None
    for name in names:
        known = load(name)
        if known.memory.kind == "port" or not any(BUS_OF[framing] == bus.kind for framing in known.framings):
            if part:
                raise HushedError(
                    f"{name} cannot be on a {bus.kind} bus", where="--part", remedy=f"it is wired by {', '.join(known.framings)}"
                )
            continue
        if not part and (not _could_be(known, bus) or not (ordered or known.bit_order == bus.order)):
            continue
        device = Device(known.name, bus.name, known.name, panel=panel or _usual(known, bus))
        if not part and len(piece) > AT_FIRST and _foreign(first, bus, device):
            continue
        score = _sense_of(piece, bus, known, device, bool(part), bool(panel))
        if score is not None and (best is None or score < best[0]):
            best = score, known, device
    return best


def _sense_of(piece: Trace, bus: Bus, known: Part, device: Device, named: bool, panelled: bool) -> float | None:
    """How little sense a part makes of a bus, and the panel that fits best is put into the device; None where it makes none. named, panelled: part and
    panel were given."""
    own = _heard(piece, bus, device)
    if own is None or (not named and any(chip.random for chip in own)):
        return None
    strange = sum(int(np.count_nonzero(chip.strange)) for chip in own) / max(1, sum(len(chip) for chip in own))
    seen = {name for chip in own for name in chip.names}
    if not named and (not (strange <= 0.1 and set_up_in(known, seen)) or _torn(piece, bus, device) > TORN):
        return None
    unlike = 0
    drivers = _in_chain(piece, bus, device) if not panelled and _chains(known) else 1
    if drivers > 1:
        device.panel = chained(known, drivers)
    elif not panelled:
        fitting = panel_for(known, own[0], str(device.panel))
        device.panel, unlike = fitting.panel, fitting.unlike
    legible = [share for chip in own for share in readable_runs(known, chip)]
    unread = 1 - float(np.mean(legible)) if legible else 0.0
    return strange - 0.05 * len(seen & set(known.start_up)) + 0.2 * unlike + 0.2 * unread


def _torn(trace: Trace, bus: Bus, device: Device) -> float:
    """The share of transfers that end in mid-word: where they are many, they are another device's, whose words have other lengths."""
    table = decode(trace, Rig(bus=[bus], device=[device])).channels[0].table
    return float(np.mean((table.spare > 0) & (table.began != CUT) & (table.ended != END))) if len(table) else 0.0


def _foreign(first: Trace, bus: Bus, device: Device) -> bool:
    """Whether a part makes nothing of the beginning: all that is looked at is then not read once more for it."""
    own = _heard(first, bus, device)
    return own is not None and any(chip.foreign for chip in own)


def _chains(part: Part) -> bool:
    return any(WRAPS[framing].chains for framing in part.framings)


def _in_chain(trace: Trace, bus: Bus, device: Device) -> int:
    """How many drivers are in a chain: as many words as most loads have."""
    table = decode(trace, Rig(bus=[bus], device=[device])).channels[0].table
    sizes = (table.last - table.first)[table.ended != END]
    most = int(np.bincount(sizes).argmax()) if len(sizes) else 1
    return most if 1 < most <= LONGEST_ROW and np.mean(sizes == most) > MOSTLY else 1


def by_sense(trace: Trace, fit: ParallelFit, assumed: dict[str, str]) -> Bus | None:
    """Which line is which of a parallel bus whose strobe is known: neighbours in the capture are taken for data lines, either end first,

    and of the others one for RS; that under which a part's bring-up appears is it, None where none does.
    """
    strobes = dict(zip(STROBES[fit.rests], fit.strobes, strict=False)) | ({"cs": fit.select} if fit.select >= 0 else {})
    rest = [line for line in range(len(trace.names)) if line not in strobes.values()]
    best: tuple[float, Bus] | None = None
    for width in (8, 4):
        for roles, left in _orders(rest, fit, width):
            for chips in ([], left) if 1 <= len(left) <= 3 and width == 8 and not fit.rests else ([],):
                lines = roles | strobes | {f"cs{k + 1}": line for k, line in enumerate(chips)}
                bus = Bus("bus", "parallel", lines={role: trace.names[line] for role, line in lines.items()})
                selected(trace, bus, lines, {})
                score = _strangeness(trace, bus) + UNEXPLAINED * (len(left) - len(chips))
                if score < (1.0 if best is None else best[0]):
                    best = score, bus
        if best is not None:
            break
    if best is None:
        return None
    bus = best[1]
    order = ", ".join(f"{role.upper()} '{line}'" for role, line in bus.lines.items())
    assumed["lines"] = f"the bus is parallel: {order}; by the traffic, as a part's bring-up appears so"
    selected(trace, bus, {role: trace.index(line) for role, line in bus.lines.items()}, assumed)
    return bus


def _orders(rest: list[int], fit: ParallelFit, width: int) -> Iterator[tuple[dict[str, int], list[int]]]:
    """Neighbours as data lines, either end first, one of the others as RS, and what is left then."""
    for first in range(len(rest) - width + 1):
        data = rest[first : first + width]
        others = [line for line in fit.latched if line not in data]
        for own, rs in product((data, data[::-1]), others):
            left = [line for line in (others if own is data else others[::-1]) if line != rs]
            yield {f"d{k + 8 - width}": line for k, line in enumerate(own)} | {"rs": rs}, left


def _strangeness(trace: Trace, bus: Bus) -> float:
    """How little sense a part makes of a bus; 9 where none does. Any byte is a command of a character display, but not a letter."""
    sense = _best_sense(trace, bus, "", "")
    if sense is None:
        return 9.0
    if sense[1].memory.kind == "character":
        own = _heard(trace, bus, sense[2])
        letters = None if own is None else readable_share(sense[1], own, ascii_only=True)
        if own is None or (letters is not None and letters <= READABLE):
            return 9.0
    return sense[0]


def _lamps(bus: Bus, part: str, panel: str, assumed: dict[str, str]) -> list[Device]:
    """Scanned LEDs: what the lines are tells what hangs on them."""
    lit = grouped(bus.lines), coloured(bus.lines)
    digits = any(role.startswith(("digit", "segment")) for role in bus.lines)
    form = "digits" if digits else "colours" if lit[1] else "matrix"
    scanned = (own for own in map(load, catalog_names()) if own.memory.kind == "scanned")
    able = [own for own in scanned if lit == ((groups := own.memory.groups) is not None, groups is not None and groups.colour)]
    fitting = [own.name for own in able if any(known.form == form for known in own.panels.values())]
    name = part or next(iter(fitting), "")
    if name.lower() not in [own.name for own in able]:
        names = " or ".join(own.name for own in able)
        raise HushedError(
            f"{load(part).name if part else 'no part'} cannot be on these lines", where="--part", remedy=f"{names} can"
        )
    if not part:
        assumed["part"] = f"the LEDs are {name}, as their lines are; say --part for another"
    return [Device(name, bus.name, name, panel=panel)]


def _could_be(part: Part, bus: Bus) -> bool:
    """Whether a part can hang on these lines: its framing wants what the bus has."""
    roles = bus.lines
    for framing in part.framings:
        row = WRAPS[framing]
        if row.bus != bus.kind or (bus.bits != row.bits if bus.bits or row.said else False):
            continue
        named = not row.of or any(role in roles for role in row.of) or row.said
        if named and not any(role in roles for role in row.without):
            return row.bus != "parallel" or "wr" in row.of or ("cs1" in roles) == (part.memory.chips > 1)
    return False


def _usual(part: Part, bus: Bus) -> str:
    """The usual panel; the one that every select of a bus has a chip for."""
    chips = sum(role in bus.lines for role in ("cs1", "cs2", "cs3"))
    if part.memory.chips > 1 and chips > 1:
        for name, panel in part.panels.items():
            if _chips(part, panel) == chips:
                return name
    return next(iter(part.panels))


def _chips(part: Part, panel: Panel) -> int:
    return -(-panel.width // part.memory.columns)


def _heard(trace: Trace, bus: Bus, device: Device) -> list[Commands] | None:
    try:
        return decode(trace, Rig(bus=[bus], device=[device])).devices[0].chips
    except HushedError:
        return None


def _quoted(name: str) -> str:
    """A line's name as it is written on a command line."""
    return f"'{name}'" if " " in name else name
