"""What types cannot say about a description: patterns, overlaps, names that must exist."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping
from typing import NoReturn

from ..bus.base import BUSES
from ..errors import HushedError, nearest
from ..finding import codes
from ..units import parse
from .describe import WAITS, AtSupply, Command, Panel, Part
from .start_words import AREA_WORDS, start_words
from .wrap import BUS_OF, WRAPS

__all__ = ["RESERVED", "check", "states"]

# Words of the sequence language; a command of that name could not be written in it.
RESERVED = frozenset(
    [
        "repeat",
        "end",
        "number",
        "point",
        "line",
        "rectangle",
        "circle",
        "polygon",
        "sprite",
        "include",
        "device",
        "select",
        "wait",
        "bytes",
        "data",
        "words",
        "reset",
        "enable",
        "backlight",
        "counter",
        "count",
        "picture",
        "text",
        "fill",
        "glyph",
    ]
)


Fail = Callable[..., NoReturn]


def states(part: Part) -> list[tuple[int | str, ...]]:
    """Every state of the modes that the commands' fields allow."""
    choices = []
    for register in part.modes:
        name, _, field_name = register.partition(".")
        field = next(field for field in part.find(name).fields.values() if field.name == field_name)
        shown: list[int | str] = [int(key) if key.isdecimal() else key for key in field.values]
        choices.append(shown or sorted({c.when[register] for c in part.command if register in c.when}, key=str))
    return list(itertools.product(*choices))


def check(part: Part, where: str) -> None:
    """Raises HushedError naming the file, the key and the reason."""

    def fail(key: str, reason: str, remedy: str = "compare the key with the datasheet's table") -> NoReturn:
        raise HushedError(f"{key}: {reason}", where=where, remedy=remedy)

    registers = {f"{command.owner}.{field.name}" for command in part.command for field in command.fields.values()}
    _check_commands(part, registers, fail)
    _check_codes(part, fail)
    _check_named(part, registers, fail)
    _check_kinds(part, fail)
    _check_filled(part, fail)
    _check_times(part, where, fail)


def _check_commands(part: Part, registers: set[str], fail: Fail) -> None:
    """Each command by itself, and the states under which it has its meaning."""
    for command in part.command:
        _command(command, fail)
        if command.name in RESERVED:
            fail(f"command '{command.name}'", "the sequence language has a word of that name", "give the command another name")
        for register in command.when:
            if register not in registers:
                fail(f"command '{command.name}': when", f"there is no register '{register}'; {nearest(register, registers)}")
    if len(part.by_name) != len(part.command):
        fail("command", "two commands have one name")


def _check_codes(part: Part, fail: Fail) -> None:
    """No first word that means two commands in one state."""
    for state in states(part):
        taken: dict[int, str] = {}
        now = dict(zip(part.modes, state, strict=True))
        for command in part.command:
            if any(now[register] != value for register, value in command.when.items()):
                continue
            mask, expected = command.fixed[0]
            for first in (code for code in range(256) if code & mask == expected):
                if first in taken:
                    fail(f"command '{command.name}'", f"the code {first:#04x} is that of '{taken[first]}' too")
                taken[first] = command.name


def _check_named(part: Part, registers: set[str], fail: Fail) -> None:
    """Registers, commands and findings that other tables name."""
    named = [(f"memory.registers.{role}", register) for role, register in part.memory.registers.items()]
    named += [(f"bring_up '{rule.finding}'", rule.register) for rule in part.bring_up if rule.register]
    named += [("beyond", hint.register) for hint in part.beyond if hint.register]
    named += [(f"panels.{name}.needs", register) for name, panel in part.panels.items() for register in panel.needs]
    for key, register in named:
        if register not in registers:
            fail(key, f"there is no register '{register}'; {nearest(register, registers)}")
    steps = [("start_up", name) for name in part.start_up]
    steps += [(f"bring_up '{rule.finding}'", name) for rule in part.bring_up for name in (rule.step, rule.before) if name]
    for key, name in steps:
        if name not in part.by_name:
            fail(key, f"there is no command '{name}'; {nearest(name, part.by_name)}")
    for rule in part.bring_up:
        if rule.finding not in codes():
            fail("bring_up", f"there is no finding '{rule.finding}'; {nearest(rule.finding, codes())}")
        if not rule.register and not rule.step:
            fail(f"bring_up '{rule.finding}'", "it names neither a register nor a step")


def _check_kinds(part: Part, fail: Fail) -> None:
    """Framings that there are, and what some of them, and some memories, have to say beside."""
    for name in part.framings:
        if name not in WRAPS:
            fail("framings", f"there is no framing '{name}'", nearest(name, WRAPS))
    if "spi-opcode" in part.framings and part.opcode is None:
        fail("opcode", "parts behind an opcode have to say which addresses it can hold")
    if part.opcode is not None and not {*part.opcode.addresses} <= {*range(8)}:
        fail("opcode.addresses", "an opcode holds an address of 0 to 7")
    if any(WRAPS[name].halves for name in part.framings) and part.halves is None:
        fail("halves", "parts that take nibbles have to say which commands switch to them")
    if (part.memory.kind == "chain") != (part.memory.leds is not None):
        fail("memory.leds", "LEDs in a chain, and only these, have to say how they lie in an update")
    if "decode" in part.memory.registers and (part.memory.code_font is None or len(part.memory.code_font.characters) != 16):
        fail("memory.code_font", "parts that decode digits have to say what their sixteen codes show")


def _check_supply(part: Part, entry: AtSupply, where: str, fail: Fail) -> None:
    """What holds at some supplies alone."""
    if bool(entry.below) == bool(entry.above):
        fail("at_supply", "it has to say below which supply it holds, or above which")
    parse(entry.below or entry.above, "V", f"{where}: at_supply")
    for line in entry.start:
        if line not in part.start:
            fail("at_supply.start", f"the bring-up has no line '{line}'", nearest(line, part.start))


def _check_times(part: Part, where: str, fail: Fail) -> None:
    """Limits that nothing measures and waits that nobody keeps would be passed over without a word."""
    kinds = {BUS_OF[name]: BUSES[BUS_OF[name]] for name in part.framings}
    measures = {symbol: measure for kind in kinds.values() for symbol, measure in kind.measures.items()}
    tables = [("limits", part.limits, measures), ("waits", part.waits, WAITS)]
    for entry in part.at_supply:
        _check_supply(part, entry, where, fail)
        tables += [("at_supply.limits", entry.limits, measures), ("at_supply.waits", entry.waits, WAITS)]
    for table, own, known in tables:
        for key in own:
            if key not in known and key != "source":
                remedy = nearest(key, known) + (f"; on {' and '.join(kinds)} these can be measured" if known is measures else "")
                fail(f"{table}.{key}", "nothing is known of a time of that name", remedy)
    for symbol, text in [*part.limits.items(), *(entry for own in part.at_supply for entry in own.limits.items())]:
        if symbol != "source" and parse(text, measures[symbol].unit, f"{where}: limits.{symbol}") <= 0:
            fail(f"limits.{symbol}", f"{text} is no limit", "it has to be above zero")
    for key, text in [
        *part.waits.items(),
        *(entry for own in part.at_supply for entry in own.waits.items()),
        *((f"{c.name}.takes", c.takes) for c in part.command if c.takes),
    ]:
        if key != "source":
            parse(text, "s", f"{where}: {'' if key.endswith('.takes') else 'waits.'}{key}")


def _check_filled(part: Part, fail: Fail) -> None:
    """Keys of panels that rules name, and words in braces."""

    def fill(key: str, line: str, words: Mapping[str, object]) -> None:
        try:
            line.format(**words)
        except (KeyError, ValueError, IndexError, AttributeError) as error:
            fail(key, f"'{line}' cannot be filled in: {error}", f"words in braces are {', '.join(sorted(words)[:30])}")

    keys = Panel.__struct_fields__
    for rule in part.bring_up:
        key = f"bring_up '{rule.finding}'"
        for name in [*rule.panel, *([rule.must_equal] if rule.must_equal not in ("", "needs") else [])]:
            if name not in keys:
                fail(key, f"a panel has no key '{name}'", nearest(name, keys))
        for text in (rule.summary, rule.remedy):
            fill(key, text, {"value": 0, "wanted": 0, "wanted_code": "00"})
    for hint in part.beyond:
        for name in hint.panel:
            if name not in keys:
                fail("beyond", f"a panel has no key '{name}'", nearest(name, keys))
        fill("beyond", hint.look, {"value": 0})
    for mode, lines in part.memory.area.items():
        for line in lines:
            fill(f"memory.area.{mode}", line, dict.fromkeys(AREA_WORDS, 0))
    for panel in part.panels.values():
        words = start_words(part, panel)
        for line in [*part.start, *(line for lines in part.start_by.values() for line in lines)]:
            fill("start", line, words)


def _command(command: Command, fail: object) -> None:
    key = f"command '{command.name}'"
    for pattern in command.patterns:
        if len(pattern) != 8 or not all(char in "01-" or (char.isalpha() and char.islower()) for char in pattern):
            fail(key, f"'{pattern}' is not eight of 0, 1, - and letters")  # type: ignore[operator]
    letters = set(command.places)
    if letters != set(command.fields):
        odd = min(letters ^ set(command.fields))
        fail(key, f"letter '{odd}' is in the patterns or in the fields, not in both")  # type: ignore[operator]
    names = [field.name for field in command.fields.values()]
    if len(set(names)) < len(names):
        fail(key, "two fields have one name")  # type: ignore[operator]
