"""Legal commands and sequences of a part, and traces, for hypothesis."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

import numpy as np
from hypothesis import strategies as st

from hushed_wire.part import Part
from hushed_wire.part.command import Command, Field, Value
from hushed_wire.sequence.listing import packed
from hushed_wire.trace import Trace
from hushed_wire.trace.model import word_type


def _value(draw: st.DrawFn, field: Field, bits: int) -> Value:
    if field.hex:
        return draw(st.binary(min_size=(bits + 7) // 8, max_size=(bits + 7) // 8)).hex(":").upper()
    if field.values and not (field.open and draw(st.booleans())):
        name = draw(st.sampled_from(sorted(field.values)))
        return int(name) if name.isdigit() else name
    low = field.offset if field.min is None else field.min
    high = field.offset + ((1 << bits) - 1) * field.step if field.max is None else field.max
    raw = (
        field.offset
        + draw(st.integers(0, (high - field.offset) // field.step).filter(lambda k: field.offset + k * field.step >= low))
        * field.step
    )
    return next((int(name) if name.isdigit() else name for name, value in field.values.items() if value == raw), raw)


@st.composite
def legal(draw: st.DrawFn, part: Part) -> tuple[Command, dict[str, Value]]:
    """A command of the part with legal values, whatever the part's state."""
    command = draw(st.sampled_from(part.command))
    return command, {f.name: _value(draw, f, len(command.places[letter])) for letter, f in command.fields.items()}


@st.composite
def sequences(draw: st.DrawFn, part: Part, whole: int = 0, ahead: Mapping[str, Value] | None = None) -> list[str]:
    """Lines of a legal sequence: commands that exist in the state they come in, and data where data may come. whole: bytes of a picture, of what takes
    nothing else. ahead: registers as they stand when it begins, where that is not as after a reset."""
    most = 15 if part.framings[0] == "spi-bits" else 255
    some = st.lists(st.integers(0, most), min_size=whole or 1, max_size=whole or 20).map(bytes)
    state = {register: (ahead or {}).get(register, part.reset.get(register, "")) for register in part.modes}
    bare_data = part.framings[0] in ("i2c-control-byte", "dc-line", "rs-line") and part.parameters == "command"
    out: list[str] = []
    for _ in range(draw(st.integers(1, 12))):
        if not part.command:  # what it is sent are updates
            out.append("data " + packed(draw(some)))
            continue
        if bare_data and draw(st.integers(0, 4)) == 0:
            out.append("data " + packed(draw(some)))
            continue
        usable = [c for c in part.command if all(state[register] == value for register, value in c.when.items())]
        command = draw(st.sampled_from(usable))
        fields = {f.name: _value(draw, f, len(command.places[letter])) for letter, f in command.fields.items()}
        state |= {f"{command.owner}.{k}": v for k, v in fields.items() if f"{command.owner}.{k}" in state}
        tail = [packed(draw(some))] if command.data and draw(st.booleans()) else []
        out.append(" ".join([command.name, *(f"{k}={v}" for k, v in fields.items()), *tail]))
    return out


@st.composite
def traces(draw: st.DrawFn, least: int = 1, most: int = 9, longest: int = 30) -> Trace:
    """Noise on so many lines."""
    lines = draw(st.integers(least, most))
    steps = draw(st.lists(st.integers(1, 50), min_size=1, max_size=longest))
    times = np.cumsum([0, *steps]).astype(np.int64)
    kind = word_type(lines)
    levels = [draw(st.integers(0, (1 << lines) - 1))]
    for _ in steps:
        levels.append(levels[-1] ^ draw(st.integers(1, (1 << lines) - 1)))
    names = tuple(f"L{k}" for k in range(lines))
    return Trace(names, times, np.array(levels, kind), int(times[-1]) + draw(st.integers(1, 20)), Fraction(1, 10**7), None, 1)
