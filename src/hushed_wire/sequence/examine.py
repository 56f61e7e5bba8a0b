"""Is a sequence right? Its steps on a timeline, and the part's own rules held against what it sets.

In plain Python; no wires are needed. A rule's facts are the description's: `bring_up`, `waits`, `takes`. Times up to LATENT are kept by
whoever sends (each word of a character display needs one); longer ones have to stand in the sequence as waits.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from fractions import Fraction

import msgspec

from ..finding import Finding
from ..part.describe import BringUp, Command, Part, Value
from ..part.wrap import transfers, words_of
from ..units import parse, show
from .listing import Item, items_of
from .target import Step, Target

__all__ = ["Examined", "Timed", "examine"]

LATENT = Fraction(100, 10**6)
START_UP_SEEN = 3  # distinct start-up commands that make a sequence a bring-up
ONE_WORD = {"i2c": 9, "spi": 8, "parallel": 1, "shift": 8, "matrix": 0}


class Timed(msgspec.Struct):
    """A step on the timeline. start: seconds from the first step. words: of its transfers on the bus. took: seconds on the wire."""

    step: Step
    start: Fraction
    took: Fraction
    words: list[list[int]]
    items: list[Item]
    findings: list[Finding] = []


class Examined(msgspec.Struct):
    """All steps, what was found, and how long it takes (seconds)."""

    steps: list[Timed]
    findings: list[Finding]
    duration: Fraction


def examine(
    steps: list[Step], targets: list[Target], clocks: dict[str, Fraction], states: dict[str, int] | None = None
) -> Examined:
    """Checks a sequence. clocks: words a second on the bus of each device, 1 bit a tick. states: bus writes that a word costs
    behind bridges."""
    by_name = {target.name: target for target in targets}
    timed: list[Timed] = []
    now = Fraction(0)
    items = _items(steps, by_name)
    for number, step in enumerate(steps):
        target = by_name[step.device]
        words = [words_of(target.framing, transfer) for transfer in transfers(target.framing, step.sends)]
        bits = sum(len(run) for run in words) * ONE_WORD[target.bus_kind] * (states or {}).get(step.device, 1)
        if target.bus_kind == "i2c":
            bits += 9 * len(words)
        took = bits / clocks[step.device]
        timed.append(Timed(step, now, took, words, items[number]))
        now += took + step.wait
    findings: list[Finding] = []
    for target in targets:
        own = [entry for entry in timed if entry.step.device == target.name]
        if own:
            for rule in RULES:
                findings += list(rule(target, own))
    for found in findings:
        for entry in timed:
            if found.evidence.get("place") == entry.step.place:
                entry.findings.append(found)
                break
    findings.sort(key=lambda found: found.rank(), reverse=True)
    return Examined(timed, findings, now)


def _items(steps: list[Step], by_name: dict[str, Target]) -> list[list[Item]]:
    """What each step says to its part; a device's steps are read as one stream, so that modes carry over."""
    out: list[list[Item]] = [[] for _ in steps]
    for name, target in by_name.items():
        mine = [number for number, step in enumerate(steps) if step.device == name and step.sends]
        ends, total = [], 0
        for number in mine:
            total += sum(len(send.raw) for send in steps[number].sends)
            ends.append(total)
        at = 0
        for item in items_of(target.part, [send for number in mine for send in steps[number].sends]):
            while item.first >= ends[at]:
                at += 1
            out[mine[at]].append(item)
    return out


def _finding(code: str, target: Target, entry: Timed | None, summary: str, remedy: str, **evidence: object) -> Finding:
    place = entry.step.place if entry is not None else ""
    where = f"{place}: " if place else ""
    at = float(entry.start) if entry is not None else None
    return Finding(code, f"{where}{summary}", remedy, device=target.name, start=at, end=at, evidence={"place": place, **evidence})


# ---- rules: one function a kind of mistake ------------------------------------------------------------------------------


def _bytes(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """Bytes that are no command, cut short, or not documented."""
    for entry in own:
        for item in entry.items:
            raw = item.raw[:4].hex(" ").upper()
            if item.name == "unknown":
                wrong_base = "was hex meant" in item.note and not _written_hex(entry, item.raw[0])
                code = "setup.decimal-for-hex" if wrong_base else "setup.unknown-command"
                remedy = f"write 0x{item.raw[0]}" if wrong_base else f"hushed-wire catalog {target.part.name} lists the commands"
                yield _finding(code, target, entry, f"{raw}: {item.note}", remedy, bytes=list(item.raw))
            elif item.name == "truncated":
                yield _finding(
                    "setup.unknown-command", target, entry, f"{raw}: {item.note}", "send all of its bytes", bytes=list(item.raw)
                )
            elif item.note:
                yield _finding(
                    "setup.undocumented-value",
                    target,
                    entry,
                    f"{item.name}: {item.note}",
                    "compare it with the datasheet",
                    bytes=list(item.raw),
                )


def _written_hex(entry: Timed, value: int) -> bool:
    return str(value) not in entry.step.text.split()


def _bring_up(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """What must be true behind a bring-up."""
    part = target.part
    told = _told(part, own)
    seen = {item.name for entry in own for item in entry.items if item.is_command}
    started = len(seen & set(part.start_up)) >= min(START_UP_SEEN, len(part.start_up)) > 0
    for rule in part.bring_up:
        if any(str(getattr(target.panel, key)) != value for key, value in rule.panel.items()):
            continue
        if rule.step:
            yield from _steps_rule(rule, target, own, started)
            continue
        last = told.get(rule.register)
        value = last[0] if last else part.reset.get(rule.register)
        if value is None or (last is None and not started):
            continue
        need = _needed(rule, target)
        wrong = str(value) == str(rule.must_not) if rule.must_not is not None else need is not None and str(value) != str(need)
        if wrong:
            words = {"value": value, "wanted": need, "wanted_code": _code(target, rule.register, need)}
            how = "" if last else " (it was never set, so it has its reset value)"
            entry = last[1] if last else own[-1]
            yield _finding(
                rule.finding, target, entry, rule.summary.format(**words) + how, rule.remedy.format(**words),
                register=rule.register, value=value, needed=need, source=f"{part.source}: {rule.source}",
            )  # fmt: skip


def _needed(rule: BringUp, target: Target) -> Value | None:
    if rule.framing:
        return rule.framing.get(target.framing)
    if rule.must_equal == "needs":
        return target.panel.needs.get(rule.register)
    if rule.must_equal:
        found: Value = getattr(target.panel, rule.must_equal)
        return found
    return rule.must


def _told(part: Part, own: list[Timed]) -> dict[str, tuple[Value, Timed]]:
    """Registers as last set, and the step that did."""
    out: dict[str, tuple[Value, Timed]] = {}
    for entry in own:
        for item in entry.items:
            if item.is_command:
                command = part.command[item.kind]
                if command.effect == "reset":
                    out.clear()
                for name, value in item.fields.items():
                    out[f"{command.owner}.{name}"] = value, entry
    return out


def _steps_rule(rule: BringUp, target: Target, own: list[Timed], started: bool) -> Iterator[Finding]:
    names = [(item.name, entry) for entry in own for item in entry.items if item.is_command]
    first = next((number for number, (name, _) in enumerate(names) if name == rule.step), None)
    if rule.before:
        second = next(
            (number for number, (name, _) in enumerate(names) if name == rule.before and _switches_on(names[number][1], name)),
            None,
        )
        if second is not None and (first is None or first > second) and (started or first is not None):
            yield _finding(
                rule.finding, target, names[second][1], rule.summary, rule.remedy, source=f"{target.part.source}: {rule.source}"
            )
    elif first is None and started:
        yield _finding(rule.finding, target, own[-1], rule.summary, rule.remedy, source=f"{target.part.source}: {rule.source}")


def _switches_on(entry: Timed, name: str) -> bool:
    """Whether a step of that name switches something on (or has no state to switch)."""
    states = [item.fields["state"] for item in entry.items if item.name == name and "state" in item.fields]
    return not states or "on" in states


def _code(target: Target, register: str, need: Value | None) -> str:
    """The parameter byte that sets what is needed, the command's other fields as the panel or a reset has them."""
    name, _, field_name = register.partition(".")
    command: Command | None = next((command for command in target.part.command if command.owner == name), None)
    if command is None or need is None:
        return ""
    fields: dict[str, Value] = {}
    for entry in command.fields.values():
        key = f"{name}.{entry.name}"
        fallback = next(iter(entry.values), 0)
        fields[entry.name] = target.panel.needs.get(key, target.part.reset.get(key, fallback))
        for rule in target.part.bring_up:
            if rule.register == key and rule.must_equal and rule.must_equal != "needs":
                fields[entry.name] = getattr(target.panel, rule.must_equal)
    fields[field_name] = need
    return command.encode(fields)[-1:].hex().upper()


def _waits(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """Commands that come before the part is done with the one ahead of them."""
    busy: tuple[Item, Command, Timed] | None = None
    for entry in own:
        for item in entry.items:
            if busy is not None:
                ahead, command, earlier = busy
                takes = parse(command.takes, "s")
                rest = entry.start - earlier.start - earlier.took + _until_first(entry) if entry is not earlier else Fraction(0)
                if takes > LATENT and rest < takes:
                    yield _finding(
                        "timing.wait-short", target, entry,
                        f"{show(float(rest), 's')} behind {ahead.name}, which keeps the part busy for {command.takes}",
                        f"put 'wait {command.takes}' behind {ahead.name}", needed=float(takes), source=f"{target.part.source}: {command.source}",
                    )  # fmt: skip
            busy = None
            if item.is_command and target.part.command[item.kind].takes:
                busy = item, target.part.command[item.kind], entry
    yield from _init_waits(target, own)


def _until_first(entry: Timed) -> Fraction:
    """From the start of a step to the moment its first word takes effect."""
    count = max(1, sum(len(run) for run in entry.words))
    return entry.took / count


def _init_waits(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """The start-up by instruction of a character display has rests of its own."""
    if target.part.memory.kind != "character" or "width" not in target.part.memory.registers:
        return
    opening = [entry for entry in own if entry.items][:3]
    if len(opening) < 3 or not all(
        entry.items[0].name == "function-set" and entry.items[0].fields.get("width") == 8 for entry in opening
    ):
        return
    for number in (1, 2):
        text = target.part.waits.get(f"start_{number}", "0s")
        earlier, entry = opening[number - 1], opening[number]
        rest = entry.start - earlier.start - earlier.took + _until_first(entry)
        if rest < parse(text, "s"):
            yield _finding(
                "timing.wait-short", target, entry, f"{show(float(rest), 's')} behind function-set number {number} of the start-up, which needs {text}",
                f"put 'wait {text}' behind it", needed=float(parse(text, "s")), source=f"{target.part.source}: {target.part.waits.get('source', '')}",
            )  # fmt: skip


def _lines(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """Power-on and reset."""
    waits = {key: parse(text, "s") for key, text in target.part.waits.items() if key != "source"}
    source = f"{target.part.source}: {target.part.waits.get('source', '')}"
    first = next((entry for entry in own if entry.step.sends), None)
    if first is None:
        return
    opens = bool(first.items) and first.items[0].name in target.part.start_up
    if "power_on" in waits and opens and first.start < waits["power_on"]:
        needed = target.part.waits["power_on"]
        yield _finding(
            "timing.power-on-short", target, first, f"the first command comes {show(float(first.start), 's')} behind power-on, the part needs {needed}",
            f"begin with 'wait {needed}'", needed=float(waits["power_on"]), source=source,
        )  # fmt: skip
    low: Timed | None = None
    high: Timed | None = None
    for entry in own:
        for role, level in entry.step.levels:
            if role != "reset":
                continue
            if not level:
                low = entry
            elif low is not None:
                held = entry.start - low.start
                high = entry
                if held < waits.get("reset_low", 0):
                    yield _finding(
                        "timing.reset-short", target, entry, f"reset is low for {show(float(held), 's')}, the part needs {target.part.waits['reset_low']}",
                        f"put 'wait {target.part.waits['reset_low']}' between reset low and reset high", needed=float(waits["reset_low"]), source=source,
                    )  # fmt: skip
                low = None
        if entry.step.sends and high is not None:
            rest = entry.start - high.start
            if rest < waits.get("after_reset", 0):
                yield _finding(
                    "timing.reset-short", target, entry, f"{show(float(rest), 's')} behind the reset, the part needs {target.part.waits['after_reset']}",
                    f"put 'wait {target.part.waits['after_reset']}' behind reset high", needed=float(waits["after_reset"]), source=source,
                )  # fmt: skip
            high = None
    if low is not None:
        yield _finding(
            "timing.reset-short",
            target,
            low,
            "reset stays low, so the part never starts",
            "put 'reset high' behind it",
            source=source,
        )


WINDOWS = {"column-window": "width", "row-window": "height", "page-window": "height"}


def _windows(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """Windows that end before they begin, or reach beyond what the panel shows."""
    panel = target.panel
    turned = False
    for entry in own:
        for item in entry.items:
            if not item.is_command:
                continue
            command = target.part.command[item.kind]
            turned = item.fields.get("exchange", "on" if turned else "off") == "on"
            if command.effect not in WINDOWS or "end" not in item.fields:
                continue
            first, last = int(item.fields["start"]), int(item.fields["end"])
            across = (command.effect == "column-window") != turned
            size, offset = (panel.width, panel.column_offset) if across else (panel.height, panel.row_offset)
            most = offset + size - 1
            if command.effect == "page-window":
                most = -(-panel.height // 8) - 1
            if last < first:
                yield _finding(
                    "picture.outside-panel",
                    target,
                    entry,
                    f"{item.name} ends at {last}, ahead of its start at {first}",
                    "exchange the two",
                )
            elif last > most:
                yield _finding(
                    "picture.outside-panel", target, entry, f"{item.name} runs to {last}, the panel {panel.name} ends at {most}",
                    f"end it at {most}, or correct the panel", needed=most,
                )  # fmt: skip


RULES: list[Callable[[Target, list[Timed]], Iterator[Finding]]] = [_bytes, _bring_up, _waits, _lines, _windows]
