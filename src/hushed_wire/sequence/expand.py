"""Sequences expanded: statements to steps, each with the words that a part gets.

Every verb that is not one of the language's own is a command of the current device's part; `VERBS` is the table of the
language's own. What is drawn (pictures, text, fillings) is the business of `place`, loaded only when something is drawn.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from fractions import Fraction
from pathlib import Path

from ..errors import HushedError, located, nearest
from ..part.describe import Value
from ..part.wrap import WRAPS, Send
from ..units import parse as parse_quantity
from . import parse
from .parse import Statement
from .state import Counter, State, command_sends
from .target import Step, Target

__all__ = ["State", "Step", "Target", "command_sends", "expand", "steps_of_statement"]

MOST_STEPS = 1_000_000


def expand(statements: list[Statement], targets: list[Target], folder: Path, most: int | None = None) -> list[Step]:
    """The steps of a sequence. `folder` is where its pictures lie. most: bytes that it may send. Raises HushedError with file:line."""
    if not targets:
        raise HushedError("the rig has no device that a sequence could speak to", remedy="add a [[device]] to the rig")
    state = State({target.name: target for target in targets}, folder, targets[0])
    state.most = state.most if most is None else most
    return list(_steps(state, statements))


def steps_of_statement(state: State, statement: Statement) -> list[Step]:
    """The steps of one statement, and in `state` what it leaves behind. Raises HushedError with file:line."""
    return list(_steps(state, [statement]))


def _steps(state: State, statements: list[Statement] | tuple[Statement, ...]) -> Iterator[Step]:
    for statement in statements:
        with located(statement.place):
            if statement.verb == "repeat":
                if state.steps + _least(statement) > MOST_STEPS:
                    raise _too_many()
                for _ in range(_times(statement)):
                    yield from _steps(state, statement.block)
                continue
            step = VERBS.get(statement.verb, _command)(state, statement)
            if step is not None:
                _carried(state.target, step)
        if step is not None:
            state.steps += 1
            state.bytes += sum(len(send.raw) for send in step.sends)
            if state.steps > MOST_STEPS:
                raise _too_many(statement.place)
            if state.bytes > state.most:
                what = f"the sequence sends more than {state.most:,} bytes"
                raise HushedError(what, where=statement.place, remedy="repeat less, or take a part of it")
            yield step


def _carried(target: Target, step: Step) -> None:
    """Refuses what the part's wires cannot carry: of a panel whose pictures are sent whole, what is none."""
    framing = WRAPS[target.framing]
    if framing.picky and step.sends:
        target.transfers(step.sends)
    if not framing.pictures:
        return
    from ..part.scanned import size_of

    wanted = size_of(target.panel)
    for send in step.sends:
        if wanted and len(send.raw) != wanted:
            count = f"{len(send.raw)} byte{'s' if len(send.raw) != 1 else ''}"
            raise HushedError(
                f"'{target.name}' takes whole pictures, of {wanted} bytes, and this has {count}",
                remedy=f"draw it, with picture, fill or text; or say like: data 0xFF*{wanted}",
            )


def _least(statement: Statement) -> int:
    """Steps that a statement makes at least."""
    if statement.verb == "repeat":
        return _times(statement) * sum(map(_least, statement.block))
    return int(statement.verb not in SILENT)


def _too_many(place: str = "") -> HushedError:
    return HushedError(
        f"more than {MOST_STEPS:,} steps", where=place, remedy="repeat less; `send --repeat` sends again and again"
    )


def _times(statement: Statement) -> int:
    count = parse.number(statement.words[0]) if len(statement.words) == 1 else None
    if count is None or count < 0:
        raise HushedError("'repeat' needs a number of times", where=statement.place, remedy="like: repeat 10")
    return count


def _step(state: State, statement: Statement, *sends: Send, wait: Fraction = Fraction(0)) -> Step:
    return Step(statement.place, statement.text, state.target.name, statement.verb, sends, wait)


def _device(state: State, statement: Statement) -> None:
    if len(statement.words) != 1 or statement.words[0] not in state.targets:
        name = statement.words[0] if statement.words else ""
        raise HushedError(f"the rig has no device '{name}'", remedy=nearest(name, state.targets))
    state.target = state.targets[statement.words[0]]


def _select(state: State, statement: Statement) -> None:
    """`select 1`: the chip (of several behind one glass) that what follows is for."""
    chips = state.target.chips
    word = statement.words[0] if len(statement.words) == 1 else ""
    which = parse.number(word) if word != "all" else 0
    if which is None or not 0 <= which <= chips or (which == 0 and word != "all"):
        raise HushedError(
            f"'{word}' is no chip of '{state.target.name}'",
            remedy=f"select 1 to {chips}, or all" if chips > 1 else "it has but one chip",
        )
    state.chips[state.target.name] = 1 << which - 1 if which else 0


def _wait(state: State, statement: Statement) -> Step:
    return _step(state, statement, wait=parse.duration(statement))


def _bytes(state: State, statement: Statement) -> Step:
    raw = parse.byte_list(statement)
    if WRAPS[state.target.framing].chains and len(raw) % 2:
        raise HushedError(
            f"{len(raw)} bytes are no whole words", remedy=f"{state.target.part.name} takes register and value: two bytes a word"
        )
    return _step(state, statement, Send(False, raw, state.chip_mask))


def _data(state: State, statement: Statement) -> Step:
    if WRAPS[state.target.framing].chains:
        raise HushedError(f"{state.target.part.name} knows no data words", remedy="write its registers, like digit-0 0x7E")
    return _step(state, statement, Send(True, parse.byte_list(statement), state.chip_mask))


def _words(state: State, statement: Statement) -> Step:
    """`words 0x21 0x14 data 0xFF*84`: commands and data in one transfer."""
    sends: list[Send] = []
    data, own = False, list[str]()
    for word in (*statement.words, ""):
        if word and word not in ("command", "data"):
            own.append(word)
            continue
        if own:
            sends.append(Send(data, parse.bytes_of(statement, tuple(own)), state.chip_mask))
            own = []
        data = word == "data"
    if not sends or statement.fields:
        raise HushedError("'words' needs bytes", remedy="like: words 0x21 0x14 data 0xFF*84")
    if WRAPS[state.target.framing].chains and (len(sends) > 1 or sends[0].data or len(sends[0].raw) % 2):
        raise HushedError(f"{state.target.part.name} takes register and value", remedy="two bytes a word, and no data apart")
    return _step(state, statement, *sends)


def _line(state: State, statement: Statement) -> Step:
    """`reset low`: the level of a line beside the bus."""
    levels = {"low": False, "off": False, "high": True, "on": True}
    if len(statement.words) != 1 or statement.words[0] not in levels or statement.fields:
        raise HushedError(f"'{statement.verb}' needs a level", remedy=f"like: {statement.verb} low, or {statement.verb} high")
    level = levels[statement.words[0]]
    return Step(statement.place, statement.text, state.target.name, statement.verb, levels=((statement.verb, level),))


def _counter(state: State, statement: Statement) -> None:
    """`counter level from=0 to=99 step=1 width=4 pad=0`: a number for texts, `{level}`; `count level` moves it on."""
    known: dict[str, Value] = {"from": 0, "to": 999_999, "step": 1, "width": 0, "pad": " "}
    if len(statement.words) != 1:
        raise HushedError("'counter' needs a name", remedy="like: counter level from=0 to=99 width=2")
    for name in statement.fields:
        if name not in known:
            raise HushedError(f"'counter' has no '{name}'", remedy=nearest(name, known))
    values = {**known, **statement.fields}
    for name in ("from", "to", "step", "width"):
        if not isinstance(values[name], int):
            raise HushedError(f"'{values[name]}' is no number for '{name}'", remedy=f"like {name}=10")
    if "step" not in statement.fields and int(values["to"]) < int(values["from"]):
        values["step"] = -1
    if not values["step"] or len(str(values["pad"])) != 1 or not 0 <= int(values["width"]) <= 80:
        raise HushedError(
            "the counter stands still, or its padding is not one character", remedy="step is not 0, pad is one character"
        )
    first, last, step, width = (int(values[name]) for name in ("from", "to", "step", "width"))
    state.counters[statement.words[0]] = Counter(first, first, last, step, width, str(values["pad"]))


def _count(state: State, statement: Statement) -> None:
    name = statement.words[0] if len(statement.words) == 1 else ""
    if name not in state.counters:
        raise HushedError(
            f"there is no counter '{name}'",
            remedy=nearest(name, state.counters) or "declare it first, like: counter level from=0 to=99",
        )
    state.counters[name].advance()


def _drawn(state: State, statement: Statement) -> Step:
    from .place import DRAWN

    return DRAWN[statement.verb](state, statement)


def _command(state: State, statement: Statement) -> Step:
    part = state.target.part
    if statement.verb not in part.by_name:
        known = [*VERBS, *part.by_name]
        raise HushedError(
            f"'{statement.verb}' is neither a verb nor a command of {part.name}", remedy=nearest(statement.verb, known)
        )
    command = part.find(statement.verb)
    sends, fields = command_sends(part, statement, state.chip_mask)
    for register, value in command.when.items():
        if state.register(register) != value:
            raise HushedError(
                f"'{command.name}' means something else while {register.replace('.', ' ')} is {state.register(register)}",
                remedy=f"set {register.replace('.', ' ')} to {value} first",
            )
    state.note(command, fields)
    takes = parse_quantity(command.takes, "s") if command.takes else Fraction(0)
    return Step(statement.place, statement.text, state.target.name, statement.verb, sends, takes=takes, fields=fields)


SILENT = ("device", "select", "counter", "count")  # verbs that make no step
VERBS: dict[str, Callable[[State, Statement], Step | None]] = {
    "device": _device,
    "select": _select,
    "wait": _wait,
    "bytes": _bytes,
    "data": _data,
    "words": _words,
    "reset": _line,
    "enable": _line,
    "backlight": _line,
    "counter": _counter,
    "count": _count,
    "picture": _drawn,
    "text": _drawn,
    "fill": _drawn,
    "glyph": _drawn,
    "number": _drawn,
    "point": _drawn,
    "line": _drawn,
    "rectangle": _drawn,
    "circle": _drawn,
    "polygon": _drawn,
    "sprite": _drawn,
}
