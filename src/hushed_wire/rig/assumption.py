"""No rig given: one is made from the lines' names, the traffic and the options, and says what it assumed."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..bus.base import BUSES
from ..bus.changes import excerpt
from ..bus.channel import Channel
from ..bus.i2c_transactions import SEARCH, insisted
from ..bus.roles import best_i2c, fit_i2c, named_i2c
from ..errors import HushedError, nearest
from ..part import Commands, Part, catalog_names, commands, load
from ..part.neighbours import usual_first
from ..part.receive import RECEIVERS
from ..part.receiver import Seat
from ..trace import Trace
from .guess_panel import Fitting, panel_for
from .guess_settings import Shape, check_shape
from .reading import Reading, decode
from .schema import Bus, Device, Rig

__all__ = ["NoBusFound", "Options", "Setup", "assume", "unrecognised"]

OTHERS = 400_000  # changes in which a display behind a register is looked for
AT_FIRST = 2000  # words in which a part that makes nothing of them is told
LOOKED_AT = 4_000_000  # changes in which devices are looked for; the display may come long after other traffic


class NoBusFound(HushedError):
    """Nobody said which lines are the bus, and nothing in the capture tells."""


@dataclass
class Options:
    """What was said on the command line instead of a rig. lines: role to line. clock: as written. shape: of its words."""

    bus: str = ""
    lines: dict[str, str] = field(default_factory=dict)
    part: str = ""
    panel: str = ""
    clock: str = ""
    shape: Shape = field(default_factory=dict)


@dataclass
class Setup:
    """A rig and, by key, what was assumed to make it (in words). usual: devices whose panel is only the usual one of their part: nothing
    in the capture tells it. made_up: nobody wrote this rig, so what it says of supplies, resistors and clocks is nobody's word. heard: what
    its bus says in `trace`, where that was found out on the way."""

    rig: Rig
    assumed: dict[str, str] = field(default_factory=dict)
    usual: set[str] = field(default_factory=set)
    made_up: bool = False
    heard: tuple[Trace, Channel] | None = None

    def read(self, trace: Trace) -> Reading:
        """What a capture says by the rig. Raises HushedError where it has the lines of none of its buses."""
        known = self.heard[1] if self.heard is not None and self.heard[0] is trace else None
        return decode(trace, self.rig, heard=known)


def assume(trace: Trace, options: Options) -> Setup:
    """A rig for a capture. Raises HushedError where nothing tells which lines are the bus."""
    assumed: dict[str, str] = {}
    if options.part:
        try:
            part = load(options.part)
        except HushedError as error:
            error.where = "--part"
            raise
        if options.panel and options.panel not in part.panels:
            raise HushedError(
                f"{part.name} has no ready panel '{options.panel}'", where="--panel", remedy=nearest(options.panel, part.panels)
            )
    from .recognise import bus_of, low_bit_first, recognised

    shape = options.shape
    if options.part and options.bus in BUSES and BUSES[options.bus].transfers and "select" in BUSES[options.bus].settings:
        own = load(options.part).select
        if own == "high" and "select" not in shape:
            shape = {**shape, "select": own}  # of a select that never moves the traffic tells nothing
            assumed["select"] = f"select is active {own}, as {options.part} has it"
    other = bus_of(trace, options.bus, options.lines, assumed, shape)
    if other is None and not options.bus and not options.lines and not options.part:
        other = low_bit_first(trace, assumed)
    if other is not None:
        other.clock = options.clock
        rig = Rig(title="worked out from the capture", bus=[other])
        usual: set[str] = set()
        rig.device = recognised(trace, other, options.part, options.panel, assumed, usual, "order" in options.shape)
        made = Setup(rig, assumed, usual, made_up=True)
        if (
            not rig.device
            and not BUSES[other.kind].transfers
            and not BUSES[other.kind].each_rests
            and not BUSES[other.kind].scanned
        ):
            _behind_register(trace, made, options)
        return made
    check_shape("i2c", options.shape)
    for role in options.lines:
        if role not in ("scl", "sda"):
            raise HushedError(f"I2C has no role '{role}'", where="--line", remedy="its roles are scl and sda, like --line scl=D0")
    scl, sda = _lines(trace, options, assumed)
    bus = Bus("bus", "i2c", options.clock, lines={"scl": trace.names[scl], "sda": trace.names[sda]})
    rig = Rig(title="worked out from the capture", bus=[bus])
    out = Setup(rig, assumed, made_up=True)
    looked_at = excerpt(trace, LOOKED_AT, map(trace.index, bus.lines.values()))
    heard = decode(looked_at, Rig(bus=[bus])).channels[0]
    out.heard = (trace, heard) if looked_at is trace else None
    rig.device = _devices(heard, options, out)
    assert heard.who is not None
    answered = {int(address) for address in np.unique(heard.who.address[heard.who.answered])}
    if not any(device.address in answered for device in rig.device) or (options.part and load(options.part).i2c is None):
        _behind_adapter(trace, out, options)
    return out


def unrecognised(reading: Reading) -> list[Device]:
    """What was spoken to in a capture in which no part is recognised, as devices of an unknown part: a name for each address or select."""
    out: list[Device] = []
    for own in reading.channels:
        if own.who is not None:
            called = np.unique(own.who.address[own.who.answered & ~own.who.read]).tolist()
            out += [Device(f"at-{address:02x}", own.bus, address=int(address)) for address in called]
        elif len(own.words):
            out.append(
                Device(f"display-{own.select}" if own.number else "display", own.bus, select=own.select if own.number else "")
            )
    return out


def _behind_adapter(trace: Trace, out: Setup, options: Options) -> None:
    """A character display behind an I2C expander, where nothing else was recognised."""
    rig, assumed = out.rig, out.assumed
    if options.part and load(options.part).memory.kind != "character":
        return
    from .adapter import adapter, written

    part = excerpt(trace, lines=map(trace.index, rig.bus[0].lines.values()))
    own = decode(part, Rig(bus=[rig.bus[0]])).channels[0]
    able = {a for part in map(load, catalog_names()) if part.memory.kind == "port" and part.i2c for a in part.i2c.addresses}
    for address in sorted(able & {int(entry) for entry in np.unique(own.who.address)} if own.who is not None else ()):
        found = adapter(part, rig.bus[0], address, written(own, address))
        if found is None:
            continue
        bridge, device, wired = found.bridge, found.device, found.wired
        device.panel = options.panel or device.panel
        rig.bridge, rig.device = [bridge], [device, *(other for other in rig.device if other.address != address)]
        if not options.panel:
            out.usual.add(device.name)
        assumed[f"part at {address:#04x}"] = (
            f"{address:#04x} is a {bridge.part} with a character display behind it, as a bring-up appears with {wired}"
        )
        assumed["panel"] = f"its panel is {device.panel}, as its cell addresses tell; say --panel for another"
        return


def _behind_register(trace: Trace, out: Setup, options: Options) -> None:
    """A character display behind one shift register, with E or RS on its outputs or past it."""
    from .adapter import register

    rig, bus = out.rig, out.rig.bus[0]
    part = trace if len(trace) <= OTHERS else trace.window(trace.start, int(trace.times[OTHERS]))
    own = decode(part, Rig(bus=[bus])).channels[0]
    if own.bits != 8 or not len(own.words):
        return
    taken = set(bus.lines.values())
    beside = [name for number, name in enumerate(part.names) if name not in taken and len(part.edges(number).times) > 2]
    port = "74hc595" if "latch" in bus.lines else "74hc164"
    found = register(part, bus, port, own.words.value.astype(np.uint8), beside[:3])
    if found is None:
        out.assumed["display"] = (
            "what hangs on the register was not recognised: a display may be behind it, and a rig can say how it is wired"
        )
        return
    found.device.panel = options.panel or found.device.panel
    rig.bus, rig.bridge, rig.device = [found.bus], [found.bridge], [found.device]
    if not options.panel:
        out.usual.add(found.device.name)
    out.assumed["display"] = f"a character display is behind a {port}, as a bring-up appears with {found.wired}"
    out.assumed["panel"] = f"its panel is {found.device.panel}, as its cell addresses tell; say --panel for another"


def _lines(trace: Trace, options: Options, assumed: dict[str, str]) -> tuple[int, int]:
    given = {role: trace.index(line) for role, line in options.lines.items()}
    named = named_i2c(trace.names)
    if len(given) == 2:
        pair = given["scl"], given["sda"]
    elif named is not None and not given:
        pair = named
        assumed["lines"] = f"SCL is '{trace.names[pair[0]]}' and SDA is '{trace.names[pair[1]]}', by their names"
    else:
        pair = _by_traffic(trace, given)
        assumed["lines"] = f"SCL is '{trace.names[pair[0]]}' and SDA is '{trace.names[pair[1]]}', by the traffic"
    if pair[0] == pair[1]:
        raise HushedError("SCL and SDA are the same line", where="--line", remedy="give each role a line of its own")
    return pair


def _by_traffic(trace: Trace, given: dict[str, int]) -> tuple[int, int]:
    if given:
        part = excerpt(trace)
        role, line = next(iter(given.items()))
        others = [other for other in range(len(trace.names)) if other != line]
        pairs = [(line, other) if role == "scl" else (other, line) for other in others]
        fits = [fit_i2c(part, *pair) for pair in pairs]
        best = max(fits, key=lambda fit: (fit.score, fit.words), default=None)
    else:
        best = best_i2c(trace)
        if len(trace) == 1 and len(trace.names) > 1:
            return 0, 1  # nothing moves at all: any two lines tell so
        if best is None and len(trace.names) == 2:
            return 0, 1  # nothing else they could be; the diagnosis says what is wrong with them
    if best is None or not best.words:
        has = ", ".join(trace.names[:12])
        raise NoBusFound(
            "no two lines look like an I2C bus",
            remedy=f"say which they are, like --line scl=NAME --line sda=NAME; the capture has {has}",
        )
    return best.scl, best.sda


def _devices(heard: Channel, options: Options, setup: Setup) -> list[Device]:
    """A device for every address that answered and that a part of the catalog can have."""
    who = heard.who
    assert who is not None
    tried = [int(address) for address in np.unique(who.address) if address >= 0]
    answered = {int(address) for address in np.unique(who.address[who.answered])}
    parts = [load(name) for name in ([options.part] if options.part else sorted(catalog_names(), key=usual_first))]
    known = {address for part in parts if part.i2c for address in part.i2c.addresses}
    # Who was called in vain matters where nobody answered, or where the driver insisted: a search for devices calls each once.
    called = tried if len(tried) < SEARCH else insisted(who)
    out = []
    for address in [*sorted(answered & known), *(called if len(tried) >= SEARCH else [])] or called:
        best = _part_at(heard, address, parts, bool(options.part))
        if best is not None:
            part, own = best
            fitting = panel_for(part, own, next(iter(part.panels))) if part.panels else None
            out.append(_device(part, address, options, setup, answers=address in answered, fitting=fitting))
    return out or [
        _device(part, address, options, setup, answers=False) for part, address in _meant_for(parts, tried, called, options)
    ]


def _part_at(heard: Channel, address: int, parts: list[Part], given: bool) -> tuple[Part, Commands] | None:
    """The part whose commands the words for an address are most likely, and these. given: the part is said, so that it may get anything."""
    best: tuple[float, Part, Commands] | None = None
    for part in parts:
        if part.i2c is None or address not in part.i2c.addresses or part.memory.kind == "port":
            continue
        payloads = RECEIVERS[part.framings[0]](Seat(part.framings[0], address)).take(heard)
        if payloads is None:
            continue
        whole = payloads[0]
        if not given and len(whole) > AT_FIRST and commands(part, whole.take(slice(0, AT_FIRST))).foreign:
            continue
        own = commands(part, whole)
        strange = np.count_nonzero(own.strange) / max(1, len(own))
        if own.random and not given:
            continue
        if strange <= 1 / 4 and (best is None or strange < best[0]):  # more than that is no command of this part
            best = strange, part, own
    return None if best is None else best[1:]


def _meant_for(parts: list[Part], tried: list[int], called: list[int], options: Options) -> list[tuple[Part, int]]:
    """The part and the address that calls in vain were probably for: the one that is given, or one whose address in its 8-bit form was called."""
    if options.part:
        return [(parts[0], _meant(parts[0], tried))] if parts[0].i2c is not None else []
    for part in parts if called else []:
        for address in part.i2c.addresses if part.i2c and part.panels else []:
            if 2 * address in tried or 2 * address + 1 in tried:
                return [(part, address)]
    return []


def _meant(part: Part, tried: list[int]) -> int:
    """The address that a driver probably meant: one that it used, in either form, else the part's first."""
    possible = part.i2c.addresses if part.i2c else [0]
    for address in possible:
        if address in tried or 2 * address in tried or 2 * address + 1 in tried:
            return address
    return possible[0]


def _device(part: Part, address: int, options: Options, setup: Setup, answers: bool, fitting: Fitting | None = None) -> Device:
    name, assumed = f"{part.name}-{address:02x}", setup.assumed
    if not options.part:
        how = f"{address:#04x} answers" if answers else f"{address:#04x} was meant"
        assumed[f"part at {address:#04x}"] = f"the part is {part.name}, as {how}" + (
            " and its bytes read as commands of that part" if answers else ""
        )
    if not part.panels:
        raise HushedError(
            f"{part.name} is a bridge and shows nothing",
            where="--part",
            remedy="write a rig with what hangs behind it; see docs/rig.md",
        )
    panel = options.panel or (fitting.panel if fitting is not None else next(iter(part.panels)))
    if panel not in part.panels:
        raise HushedError(f"{part.name} has no ready panel '{panel}'", where="--panel", remedy=nearest(panel, part.panels))
    if not options.panel:
        why = f"as its {fitting.why}" if fitting is not None and fitting.why and not fitting.unlike else "the usual one"
        if why == "the usual one":
            setup.usual.add(name)
        assumed[f"panel of {name}"] = f"its panel is {panel}, {why}; say --panel for another"
    return Device(name, "bus", part.name, address, panel=panel)
