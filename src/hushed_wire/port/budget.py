"""What wiring and part allow, before anything is built: frame rates of a bus and of dividers of a clock, LEDs that take turns, memory, pull-ups.

Each number comes with what it was worked out from. Times on a bus are those of the sequence examiner, of what the sequence language sends
for a whole frame and for a usual change of it.
"""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

import msgspec

from ..bus.base import BUSES
from ..errors import HushedError
from ..part.describe import Part, turns_of
from ..part.wrap import Send
from ..rig.clocks import clocks_of
from ..rig.limits import limits_of
from ..rig.pull_up import pull_up_range
from ..rig.schema import Bus, Device, Rig
from ..sequence.examine import examine
from ..sequence.expand import steps_of_statement
from ..sequence.parse import parse_text
from ..sequence.start import start_text
from ..sequence.state import State, command_sends
from ..sequence.target import Step, Target
from ..units import parse, show
from .fonts import FONT_BYTES

__all__ = ["Asked", "Budget", "Bussed", "Divided", "Lamp", "Memory", "PullUp", "budget_of", "frame_of"]

E24 = (10, 11, 12, 13, 15, 16, 18, 20, 22, 24, 27, 30, 33, 36, 39, 43, 47, 51, 56, 62, 68, 75, 82, 91)
SAFE = Fraction(1, 4)  # of the limit: where one begins with wires that nobody has looked at
STEADY = 60  # frames a second from which on LEDs look steady, unless the part says more
MOST_DIVIDERS = 14


class Asked(msgspec.Struct, frozen=True):
    """source: a clock that is divided (Hz). powers: only by powers of two. goal: frames a second. ram, flash: bytes. forward: volts of an LED; current: amperes
    of one while it is lit; pin, chip: amperes that a pin and all of them together may give."""

    source: Fraction | None = None
    powers: bool = False
    goal: Fraction | None = None
    ram: int | None = None
    flash: int | None = None
    forward: Fraction | None = None
    current: Fraction | None = None
    pin: Fraction | None = None
    chip: Fraction | None = None


class Divided(msgspec.Struct):
    """A divider of the source clock. margin: how many times as fast the part would take it. note: where to begin, the fastest that is allowed."""

    divider: int
    clock: float
    frames: float
    allowed: bool
    margin: float
    note: str = ""


class Bussed(msgspec.Struct):
    """A display on its bus. bytes: of a frame, commands and addresses among them. busy: seconds of a frame that the part itself needs. limit: Hz, 0 where
    the part says none. change: seconds of a usual change, and what that is. needed: Hz that the goal needs, None where no clock reaches it.
    response: seconds in which the glass changes.
    """

    name: str
    part: str
    clock: float
    clock_from: str
    frame_bytes: int
    frame_time: float
    busy: float
    at_limit: float
    limit: float
    limit_source: str
    change: float
    changed: str
    bottleneck: str
    dividers: list[Divided] = []
    goal: float | None = None
    reached: bool | None = None
    needed: float | None = None
    response: float | None = None
    response_source: str = ""

    @property
    def seen(self) -> float | None:
        """Pictures a second that the glass follows, None where nothing is known of it."""
        return None if self.response is None else 1 / self.response

    @property
    def frames(self) -> float:
        """A second."""
        return 1 / self.frame_time


class PullUp(msgspec.Struct):
    """An I2C bus. least, most: ohms that the specification allows at that load and speed. load: share of the time that frames at the goal keep the bus busy."""

    name: str
    given: float
    least: float
    most: float
    rise: float
    allowed: float
    load: float | None
    source: str = "I2C-bus specification (UM10204), table 10 and 7.1"


class Lamp(msgspec.Struct):
    """Scanned LEDs. turns: rows, digits or groups that take turns. counter: the bit of a counter of the source clock whose rate is next to that of the rows."""

    name: str
    turns: int
    frame: float
    row: float
    duty: float
    longest: float
    steady: bool
    counter: tuple[int, float, float] | None = None
    average: float | None = None
    peak: float | None = None
    resistor: float | None = None
    resistor_wanted: float | None = None
    common: float | None = None
    over: list[str] = []


class Memory(msgspec.Struct):
    """Bytes of RAM and flash that drawing needs; fits: None where nobody says how much there is. largest: the largest number, and the type that holds it."""

    name: str
    frame: int
    font: int
    ram_fits: bool | None
    flash_fits: bool | None
    largest: int
    kind: str
    without: str


class Budget(msgspec.Struct):
    """All of a rig."""

    bus: list[Bussed]
    pull_ups: list[PullUp]
    leds: list[Lamp]
    memory: list[Memory]


def budget_of(rig: Rig, asked: Asked) -> Budget:
    """Of every device of a rig. Raises HushedError for what was asked that makes no sense."""
    for value, option in (
        (asked.source, "--source"),
        (asked.goal, "--goal"),
        (asked.forward, "--forward"),
        (asked.current, "--current"),
    ):
        if value is not None and value <= 0:
            raise HushedError("it has to be above zero", where=option)
    out = Budget([], [], [], [])
    clocks, states = clocks_of(rig)
    for device in rig.device:
        target, bus = rig.target(device), rig.way_to(device)[0]
        if BUSES[rig.roles_at(device)[0]].scanned:
            out.leds.append(_lamp(rig, device, target, bus, asked))
            continue
        if target.part.memory.kind == "port":
            continue
        out.bus.append(_bussed(rig, device, target, bus, clocks[device.name], states.get(device.name, 1), asked))
        out.memory.append(_memory(device.name, target, asked))
    for bus in rig.bus:
        if BUSES[bus.kind].pulled_up:
            own = [
                entry
                for entry, device in zip(out.bus, [d for d in rig.device if _is_bussed(rig, d)], strict=True)
                if rig.way_to(device)[0] is bus
            ]
            out.pull_ups.append(_pull_up(bus, own, asked))
    return out


def frame_of(rig: Rig, device: Device) -> tuple[float, float]:
    """Seconds that a whole frame of a display takes on its bus, and the clock of that (Hz)."""
    clocks, states = clocks_of(rig)
    own = _bussed(
        rig, device, rig.target(device), rig.way_to(device)[0], clocks[device.name], states.get(device.name, 1), Asked()
    )
    return own.frame_time, own.clock


def _is_bussed(rig: Rig, device: Device) -> bool:
    return not BUSES[rig.roles_at(device)[0]].scanned and rig.target(device).part.memory.kind != "port"


# ---- buses ---------------------------------------------------------------------------------------------------------------


def _drawn(target: Target) -> tuple[list[Step], list[Step], str]:
    """The steps of a whole frame, and of a usual change of it, behind the part's own bring-up; and what that is."""
    state = State({target.name: target}, Path(), target)
    for statement in parse_text(start_text(target), "budget"):
        steps_of_statement(state, statement)
    panel, kind = target.panel, target.part.memory.kind
    if kind == "character":
        count = min(8, panel.width)
        rows = [_cells(target, row, panel.width) for row in range(panel.height)]
        return _steps(target, *rows), _steps(target, _cells(target, 0, count)), f"{count} characters"
    if kind == "digit":
        cells = [cell for row in (panel.cells if panel.form != "digits" else [panel.cells[0]]) for cell in row]
        count = min(4, len(cells))
        every = [_digit(target, cell) for cell in cells]
        return _steps(target, *every), _steps(target, *every[:count]), f"{count} {'digits' if panel.form == 'digits' else 'rows'}"
    wide, high = min(panel.width, 64), min(panel.height, 16)
    if kind in ("paper", "lettered", "chain", "dimmed"):  # as the sequence language draws
        count = min(8, panel.width)
        change, said = f"rectangle 0,0 {wide}x{high}", f"a box of {wide}x{high}"
        if panel.form == "text":
            change, said = f'text 0,0 "{"0" * count}"', f"{count} characters"
        drawn = [[*steps_of_statement(state, parse_text(line, "budget")[0])] for line in ("fill off", change)]
        return drawn[0], drawn[1], said
    block = _pages if kind == "paged" else _window
    return block(state, panel.width, panel.height), block(state, wide, high), f"a box of {wide}x{high}"


def _steps(target: Target, *sends: list[Send]) -> list[Step]:
    return [Step("", "", target.name, "data", tuple(own)) for own in sends]


def _said(target: Target, line: str, chips: int = 0) -> list[Send]:
    return list(command_sends(target.part, parse_text(line, "budget")[0], chips)[0])


def _cells(target: Target, row: int, count: int) -> list[Send]:
    """So many characters of a row."""
    return [*_said(target, f"cell-address {target.panel.cells[row][0] & 0x7F}"), Send(True, bytes(count))]


def _digit(target: Target, cell: int) -> list[Send]:
    """One digit, or row of a matrix."""
    chips, place = (1 << (cell >> 8) if target.chips > 1 else 0), cell & 0xFF
    if f"digit-{place}" in target.part.by_name:
        return _said(target, f"digit-{place} 0", chips)
    return [*_said(target, f"display-address address={place}"), Send(True, bytes(1))]


def _pages(state: State, wide: int, high: int) -> list[Step]:
    """A box at the top left of a memory of pages, as the set-up has it filled."""
    target = state.target
    areas = target.part.memory.area
    area = areas.get(str(state.role("mode", target.part.usual_mode))) or next(iter(areas.values()))
    pages, columns = -(-high // 8), target.part.memory.columns
    at_once = any("{right}" in line for line in area)
    sends: list[Send] = []
    for chip in range(-(-wide // columns) if target.chips > 1 else 1):
        own = min(wide - chip * columns, columns) if target.chips > 1 else wide
        left, chips = (0, 1 << chip) if target.chips > 1 else (target.panel.column_offset, 0)
        for page in range(1 if at_once else pages):
            words = {"left": left, "right": left + own - 1, "top": page, "bottom": pages - 1, "page": page}
            words |= {"left_low": left & 15, "left_high": left >> 4}
            sends += [send for line in area for send in _said(target, line.format(**words), chips)]
            sends.append(Send(True, bytes(own * (pages if at_once else 1)), chips))
    return _steps(target, sends)


BITS = {
    "3-bit": 4,
    "4-bit": 4,
    "4-bit-low": 4,
    "8-bit": 8,
    "12-bit": 12,
    "16-bit": 16,
    "18-bit": 24,
    "24-bit": 24,
}  # of a pixel on the bus, by the form that the set-up chooses


def _window(state: State, wide: int, high: int) -> list[Step]:
    """A box of a memory of colours."""
    target = state.target
    from ..part.pixel import form_of  # here, since it wants arrays, which other panels do without

    bits = BITS.get(form_of(target.part, state.role), 16)
    wide += -wide % target.part.pixels_an_address
    words = {"left": 0, "right": wide - 1, "top": 0, "bottom": high - 1}
    sends = [send for line in target.part.memory.area["window"] for send in _said(target, line.format(**words))]
    return _steps(target, [*sends, Send(True, bytes(wide * high * bits // 8))])


def _took(steps: Sequence[Step], target: Target, clock: Fraction, states: int) -> Fraction:
    return examine(list(steps), [target], {target.name: clock}, {target.name: states} if states > 1 else None).duration


def _limit(part: Part, bus: Bus) -> tuple[Fraction, str]:
    """The fastest clock that a part takes on a bus, and where that stands; 0 where nothing says."""
    periods = limits_of(part, BUSES[bus.kind])
    found = next((periods[what] for what in ("clock period", "fSCL", "enable cycle") if what in periods), None)
    return (1 / found, f"{part.source}: {part.limits.get('source', '')}") if found else (Fraction(0), "")


def _bussed(rig: Rig, device: Device, target: Target, bus: Bus, clock: Fraction, states: int, asked: Asked) -> Bussed:
    frame, change, changed = _drawn(target)
    bridges = rig.way_to(device)[1]
    limits = [_limit(bridge.chip, bus) for bridge in bridges if bridge.on == bus.name] or [_limit(target.part, bus)]
    limit, source = min((entry for entry in limits if entry[0]), default=(Fraction(0), ""))
    took = _took(frame, target, clock, states)
    never = Fraction(10**15)
    busy = _took(frame, target, never, states)  # what is left with a clock without end: the part's own times
    bits = (took - busy) * clock
    at_limit = bits / limit + busy if limit else Fraction(0)
    size = sum(len(send.raw) for step in frame for send in step.sends)
    out = Bussed(
        device.name, target.part.name, float(clock), "the rig" if bus.clock else "usual for such a bus", size,
        float(took), float(busy), float(at_limit), float(limit), source, float(_took(change, target, clock, states)), changed, "",
    )  # fmt: skip
    if target.part.response is not None:
        out.response, out.response_source = float(parse(target.part.response.time, "s")), target.part.response.source
    out.bottleneck = _bottleneck(out, target, states)
    if asked.goal is not None:
        rest = 1 / asked.goal - busy
        out.goal, out.reached = float(asked.goal), took * asked.goal <= 1
        out.needed = float(bits / rest) if rest > 0 and (not limit or bits / rest <= limit) else None
    if asked.source is not None:
        out.dividers = _dividers(asked, limit, bits, busy)
    return out


def _bottleneck(own: Bussed, target: Target, states: int) -> str:
    """What a frame waits for most; the glass, where it follows less than the bus brings."""
    if own.response is not None and own.response > own.frame_time:
        return f"the glass: it changes in about {show(own.response, 's', 2)}"
    if own.busy > own.frame_time / 2:
        return f"the part: {show(own.busy, 's', 3)} of a frame are its own times"
    if states > 1:
        return f"the adapter: {states} bit times for each word"
    if own.limit and own.clock < 0.9 * own.limit:
        return f"the clock: the part takes {show(own.limit, 'Hz', 3)}"
    return "the bus: one bit at a time" if BUSES[target.bus_kind].bit_times > 1 else "the bus"


def _dividers(asked: Asked, limit: Fraction, bits: Fraction, busy: Fraction) -> list[Divided]:
    """From the first that is allowed downwards, and one above it; even ones, or powers of two."""
    source = asked.source
    assert source is not None
    first = source / limit if limit else Fraction(1)
    ladder = [1]  # every divider there is, up to where the clock is far below the limit
    while ladder[-1] < 64 * first and ladder[-1] < source:
        ladder.append(ladder[-1] * 2 if asked.powers else ladder[-1] + 2 - ladder[-1] % 2)
    above = [divider for divider in ladder if divider < first][-1:]
    out = [_divided(divider, source, limit, bits, busy) for divider in above]
    for divider in ladder:  # coarser the further down: a fifth less at a time
        if divider >= first and (not out or not out[-1].allowed or asked.powers or divider >= out[-1].divider * Fraction(6, 5)):
            out.append(_divided(divider, source, limit, bits, busy))
            if len(out) == MOST_DIVIDERS or divider > 8 * first:
                break
    allowed = [entry for entry in out if entry.allowed]
    if allowed:
        allowed[0].note = "the fastest that is allowed"
        safe = next((entry for entry in allowed if limit and entry.clock <= float(limit * SAFE)), None)
        if safe is not None:
            safe.note = "begin here"
    return out


def _divided(divider: int, source: Fraction, limit: Fraction, bits: Fraction, busy: Fraction) -> Divided:
    clock = source / divider
    return Divided(
        divider,
        float(clock),
        float(1 / (bits / clock + busy)),
        not limit or clock <= limit,
        float(limit / clock) if limit else 0.0,
    )


def _pull_up(bus: Bus, own: list[Bussed], asked: Asked) -> PullUp:
    supply, given, load = (
        float(parse(text, unit))
        for text, unit in ((bus.driver.supply, "V"), (bus.driver.pull_up, "Ohm"), (bus.driver.capacitance, "F"))
    )
    clock = float(parse(bus.clock, "Hz")) if bus.clock else 400e3
    lowest, highest, rise, allowed = pull_up_range(supply, given, load, clock)
    share = sum(entry.frame_time for entry in own) * float(asked.goal) if asked.goal is not None and own else None
    return PullUp(bus.name, given, lowest, highest, rise, allowed, share)


# ---- LEDs ----------------------------------------------------------------------------------------------------------------


def _lamp(rig: Rig, device: Device, target: Target, bus: Bus, asked: Asked) -> Lamp:
    """LEDs that take turns: each is lit for its row's share of a frame."""
    panel = target.panel
    groups = target.part.memory.groups
    turns = turns_of(target.part, panel)
    longest = limits_of(target.part, BUSES["matrix"]).get("frame period", Fraction(1, STEADY))
    frame = parse(bus.clock, "Hz") if bus.clock else 2 / longest
    out = Lamp(device.name, turns, float(frame), float(frame * turns), 1 / turns, float(longest), frame >= 1 / longest)
    if asked.source is not None:
        bit = max(0, round(_log2(float(asked.source / (frame * turns))) - 1))
        rate = float(asked.source) / 2 ** (bit + 1)
        out.counter = bit, rate, rate / turns
    lit = panel.width * panel.height // turns if panel.form != "digits" else 8
    if asked.current is not None:
        out.peak = float(asked.current)
        out.average = out.peak / turns
        out.common = out.peak * lit
        if asked.pin is not None and out.peak > float(asked.pin):
            out.over.append(f"a pin gives {show(float(asked.pin), 'A', 3)}, an LED takes {show(out.peak, 'A', 3)}")
        if asked.pin is not None and groups is None and out.common > float(asked.pin):
            out.over.append(f"a row's line carries {show(out.common, 'A', 3)} with {lit} LEDs lit: it needs a transistor")
        if asked.chip is not None and out.common > float(asked.chip):
            out.over.append(f"all pins together give {show(float(asked.chip), 'A', 3)}, a row takes {show(out.common, 'A', 3)}")
        if asked.forward is not None:
            supply = parse(bus.driver.supply, "V")
            if supply <= asked.forward:
                what = f"{show(float(supply), 'V', 3)} light no LED of {show(float(asked.forward), 'V', 3)}"
                raise HushedError(what, where="--forward", remedy="a higher supply, or a driver chip")
            out.resistor_wanted = float((supply - asked.forward) / asked.current)
            out.resistor = e24(out.resistor_wanted)
    return out


def _log2(value: float) -> float:
    from math import log2

    return log2(max(value, 1e-9))


def e24(ohms: float) -> float:
    """The next resistor of the E24 series (IEC 60063) that is not smaller."""
    decade = 1.0
    while ohms > 100 * decade:
        decade *= 10
    while ohms <= 10 * decade * 0.999:
        decade /= 10
    return next((value * decade for value in E24 if value * decade >= ohms * 0.9999), 100 * decade)


# ---- memory --------------------------------------------------------------------------------------------------------------


def _memory(name: str, target: Target, asked: Asked) -> Memory:
    part, panel = target.part, target.panel
    kind = part.memory.kind
    pixels = panel.width * panel.height
    digits = kind == "digit" and panel.form == "digits"
    row = panel.width * BITS.get(part.usual_format, 16) // 8
    letters = kind == "character" or panel.form == "text"
    frame = {
        "pixel": row * panel.height,
        "chain": 3 * pixels,
        "dimmed": pixels,
        "lettered": pixels if letters else pixels // 8,
        "character": pixels,
    }.get(kind, panel.width if digits else pixels // 8)
    font = FONT_BYTES if kind in ("paged", "pixel") else 0
    largest = max(frame, pixels)
    holds = "uint8_t" if largest < 256 else "uint16_t" if largest < 65536 else "uint32_t"
    without = {
        "paged": f"page by page: {panel.width} bytes for one page, or none where each byte is worked out as it is sent",
        "pixel": f"box by box without a frame: {row} bytes for one row, or none",
    }.get(kind, "no frame is needed: each character goes out as it is written")
    ram = None if asked.ram is None else frame <= asked.ram
    return Memory(name, frame, font, ram, None if asked.flash is None else font <= asked.flash, largest, holds, without)
