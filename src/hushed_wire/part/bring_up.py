"""Bring-up rules: what must be true when a panel is expected to show something, held against what a part was told.

The one evaluator, for sequences and captures alike. It tells what is not as it should be, and whether that was set so or is what a reset
leaves; what may be held against a driver is for the caller to say.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping

import msgspec

from .describe import BringUp, Command, Panel, Part, Value

__all__ = ["Unmet", "applies", "parameter_byte", "set_up_in", "unmet_registers"]

SET_UP_SEEN = 3  # distinct commands that only a set-up sends, which show that there was one


class Unmet(msgspec.Struct, frozen=True):
    """One rule that is not kept. value: of its register. needed: None where anything but `value` would do. told: it was set, rather than left at
    its reset value."""

    rule: BringUp
    value: Value
    needed: Value | None
    told: bool

    def words(self, part: Part, panel: Panel, told: Mapping[str, Value]) -> dict[str, Value]:
        """What stands in the braces of the rule's sentences. told: registers as they were set last."""
        code = parameter_byte(part, panel, self.rule.register, self.needed, told)
        return {"value": self.value, "wanted": self.needed if self.needed is not None else "", "wanted_code": code}


def set_up_in(part: Part, names: Collection[str]) -> bool:
    """Whether a set-up of the part is among commands of these names; never, where no command is a set-up's alone.

    A character display's begins with the width of its interface: without it nothing else is understood, so a capture that lacks it came later.
    """
    if part.memory.kind == "character" and part.start_up and part.start_up[0] not in names:
        return False
    return 0 < min(SET_UP_SEEN, len(part.start_up)) <= len(set(part.start_up) & set(names))


def applies(rule: BringUp, panel: Panel) -> bool:
    """Whether a rule is for such a panel."""
    return all(str(getattr(panel, key)) == value for key, value in rule.panel.items())


def unmet_registers(part: Part, panel: Panel, framing: str, told: Mapping[str, Value]) -> list[Unmet]:
    """The rules on registers that are not kept. told: registers as they were set last; all others have their reset value."""
    out = []
    for rule in part.bring_up:
        if rule.step or not applies(rule, panel):
            continue
        value = told.get(rule.register, part.reset.get(rule.register))
        if value is None:
            continue
        needed = _needed(rule, panel, framing)
        wrong = (
            str(value) == str(rule.must_not) if rule.must_not is not None else needed is not None and str(value) != str(needed)
        )
        if wrong:
            out.append(Unmet(rule, value, needed, rule.register in told))
    return out


def _needed(rule: BringUp, panel: Panel, framing: str) -> Value | None:
    """The value that a rule asks for; None where it asks for none on this panel."""
    if rule.framing:
        return rule.framing.get(framing)
    if rule.must_equal == "needs":
        return panel.needs.get(rule.register)
    if rule.must_equal:
        found: Value = getattr(panel, rule.must_equal)
        return found
    return rule.must


def parameter_byte(part: Part, panel: Panel, register: str, need: Value | None, told: Mapping[str, Value]) -> str:
    """The byte that sets what is needed, in hex; the command's other fields as they were set, else as the panel or a reset has them, and
    as other rules ask for: a byte that mends one field must not break its neighbour."""
    name, _, field_name = register.partition(".")
    able = (
        command
        for command in part.command
        if command.owner == name and any(f.name == field_name for f in command.fields.values())
    )
    command: Command | None = next(able, None)
    if command is None or need is None:
        return ""
    fields: dict[str, Value] = {}
    for entry in command.fields.values():
        key = f"{name}.{entry.name}"
        fallback = next(iter(entry.values), 0)
        usual = fallback if entry.fixed else panel.needs.get(key, part.reset.get(key, fallback))
        value = told.get(key, usual)
        fields[entry.name] = value if command.takes_value(entry.name, value) else usual
        for rule in part.bring_up:
            if rule.register == key and rule.must_equal and applies(rule, panel):
                wanted = _needed(rule, panel, "")
                fields[entry.name] = wanted if wanted is not None else fields[entry.name]
    fields[field_name] = need
    return command.encode(fields)[-1:].hex().upper()
