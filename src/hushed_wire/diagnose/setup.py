"""Rules on the set-up: each part's own bring-up rules, held against what the capture set."""

from __future__ import annotations

from collections.abc import Iterator

from ..finding import Finding
from ..part.describe import BringUp, Value
from ..rig import DeviceReading
from .case import Case

__all__ = ["RULES"]


def bring_up(case: Case) -> Iterator[Finding]:
    """What must be true when the panel is expected to show something; violations of one code make one finding."""
    for reading in case.paged:
        if not len(reading.commands):
            continue
        broken: dict[str, list[tuple[BringUp, Value]]] = {}
        for rule in reading.part.bring_up:
            if any(str(getattr(reading.panel, key)) != value for key, value in rule.panel.items()):
                continue
            value = reading.memory.register(rule.register)
            if value is None:
                if not reading.started:
                    continue  # it may have been set before the capture
                value = reading.part.reset.get(rule.register)
            if case.unfinished and value == reading.part.reset.get(rule.register) and str(value) != str(wanted(rule, reading)):
                continue  # the set-up was still going on when the capture ended
            if value is not None and str(value) != str(wanted(rule, reading)):
                broken.setdefault(rule.finding, []).append((rule, value))
            elif reading.started:
                case.rule_out(rule.finding, f"{rule.register.replace('.', ' ')} is {value}")
        for code, rules in broken.items():
            yield _finding(case, reading, code, rules)


def wanted(rule: BringUp, reading: DeviceReading) -> Value:
    """What a rule asks for on this panel."""
    if rule.must_equal:
        found: Value = getattr(reading.panel, rule.must_equal)
        return found
    return rule.must if rule.must is not None else ""


def _finding(case: Case, reading: DeviceReading, code: str, rules: list[tuple[BringUp, Value]]) -> Finding:
    summaries, remedies, registers = [], [], {}
    when = None
    for rule, value in rules:
        need = wanted(rule, reading)
        words = {"value": value, "wanted": need, "wanted_code": _code(reading, rule, need)}
        summaries.append(rule.summary.format(**words))
        remedies.append(rule.remedy.format(**words))
        written = [time for time, register, _ in reading.memory.registers if register == rule.register]
        when = written[-1] if written else when
        how = "set" if written else "never set, so it has its reset value"
        registers[rule.register] = {"value": value, "needed": need, "how": how, "source": f"{reading.part.source}: {rule.source}"}
    # With a panel that was only assumed, another panel explains as much.
    assumed = bool(case.assumed) and any(rule.must_equal or rule.panel for rule, _ in rules)
    first = int(reading.commands.payload.start[0])
    at = case.seconds(when if when is not None else first)
    return Finding(
        code,
        f"on '{reading.device.name}', " + "; ".join(summaries),
        "; ".join(dict.fromkeys(remedies)),
        device=reading.device.name,
        start=at,
        end=at,
        confidence="likely" if assumed else "certain",
        evidence={"registers": registers, "panel": reading.panel.name},
    )


def _code(reading: DeviceReading, rule: BringUp, need: Value) -> str:
    """The parameter byte that sets what is needed, the command's other fields as they are."""
    name, _, field_name = rule.register.partition(".")
    command = reading.part.find(name)
    fields: dict[str, Value] = {}
    for field in command.fields.values():
        register = f"{name}.{field.name}"
        value = reading.memory.register(register)
        fields[field.name] = reading.part.reset.get(register, 0) if value is None else value
        for other in reading.part.bring_up:  # a byte that mends one field must not break its neighbour
            if other.register == register and other.must_equal:
                fields[field.name] = wanted(other, reading)
    fields[field_name] = need
    return command.encode(fields)[-1:].hex().upper()


RULES = [bring_up]
