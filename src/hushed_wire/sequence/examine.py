"""Is a sequence right? Its steps on a timeline, and the part's own rules held against what it sets.

In plain Python; no wires are needed. A rule's facts are the description's: `bring_up`, `waits`, `takes`. Times up to LATENT are kept by
whoever sends (each word of a character display needs one); longer ones have to stand in the sequence as waits.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from fractions import Fraction
from typing import Any

import msgspec

from ..bus.base import BUSES
from ..finding import Finding
from ..part.bring_up import Unmet, applies, parameter_byte, set_up_in, unmet_registers
from ..part.describe import BringUp, Part, Value
from ..part.orientation import TURNS, Orientation, box_of, mirrored
from ..part.wrap import WRAPS, Send, words_of
from ..units import parse
from .decimals import DECIMAL, as_hex, unmet_by
from .listing import Item, items_of
from .rests import power_on, resets, waits
from .target import Step, Target
from .timed import LATENT, Timed, finding_at, placed

__all__ = ["RULES", "Examined", "examine"]


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
    ready: dict[str, Fraction] = {}  # when each device is done with what it was sent; whoever sends waits that long by itself
    items = _items(steps, by_name)
    for number, step in enumerate(steps):
        target = by_name[step.device]
        words = [words_of(target.framing, transfer) for transfer in target.transfers(step.sends)]
        each = 1 if WRAPS[target.framing].bits == 1 else BUSES[target.bus_kind].bit_times
        bits = sum(len(run) for run in words) * each * (states or {}).get(step.device, 1)
        if BUSES[target.bus_kind].addressed:
            bits += 9 * len(words)
        within, behind = _busy(target, items[number])
        took = bits / clocks[step.device] + within
        if step.sends:
            now = max(now, ready.get(step.device, Fraction(0)))
            ready[step.device] = now + took + behind
        timed.append(Timed(step, now, took, words, items[number]))
        now += took + step.wait
    now = max([now, *ready.values()])
    findings: list[Finding] = []
    for target in targets:
        own = [entry for entry in timed if entry.step.device == target.name]
        if own:
            for rule in RULES:
                findings += list(rule(target, own))
    decimal = {found.device for found in findings if found.code == "setup.decimal-for-hex"}
    findings = [
        found
        for found in findings
        if found.device not in decimal or found.code == "setup.decimal-for-hex" or not found.code.startswith("setup.")
    ]  # which of the set-up is wrong shows when its numbers are right
    for found in findings:
        for entry in timed:
            if found.evidence.get("place") == entry.step.place:
                entry.findings.append(found)
                break
    findings.sort(key=lambda found: found.rank(), reverse=True)
    return Examined(timed, findings, now)


def _busy(target: Target, items: list[Item]) -> tuple[Fraction, Fraction]:
    """Seconds that a part is busy between the words of a step, and behind the last, as far as whoever sends keeps them by itself."""
    word = parse(target.part.waits.get("data", "0s"), "s")
    rests: list[Fraction] = []
    for item in items:
        takes = target.part.command[item.kind].takes if item.is_command else ""
        own = parse(takes, "s") if takes else Fraction(0)
        rests += [word] * len(item.raw) if item.name == "data" else [own if own <= LATENT else Fraction(0)]
    return sum(rests[:-1], Fraction(0)), rests[-1] if rests else Fraction(0)


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


# ---- rules: one function a kind of mistake ------------------------------------------------------------------------------


def _bytes(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """Bytes that are no command, cut short, or not documented."""
    makers = target.part.makers_own
    items = [(entry, item) for entry in own for item in entry.items]
    for (entry, item), (_, behind) in zip(items, [*items[1:], (None, None)][: len(items)], strict=True):
        values: dict[str, Any] = {"raw": item.raw[:4].hex(" ").upper(), "note": item.note, "part": target.part.name}
        evidence = {"bytes": list(item.raw)}
        if (
            item.name == "unknown"
            and makers
            and makers[0] <= item.raw[0] <= makers[-1]
            and behind is not None
            and behind.name == "data"
        ):
            note = f"a command of the maker's own that the catalog does not have, with {len(behind.raw)} parameters"
            yield finding_at(
                "setup.undocumented-value", target, entry, evidence=evidence, command=f"{item.raw[0]:02X}h", note=note
            )
        elif item.name == "unknown":
            wrong_base = "was hex meant" in item.note and not _written_hex(entry, item.raw[0])
            code = "setup.decimal-for-hex" if wrong_base else "setup.unknown-command"
            yield finding_at(code, target, entry, evidence=evidence, value=item.raw[0], **values)
        elif item.name == "truncated":
            yield finding_at("setup.unknown-command", target, entry, "truncated", evidence, **values)
        elif item.note:
            yield finding_at("setup.undocumented-value", target, entry, evidence=evidence, command=item.name, note=item.note)


def _decimals(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """Bytes in decimal whose digits, read as hex, make the set-up right that is wrong as it stands."""
    written = [entry for entry in own if entry.step.name == "bytes" and DECIMAL.search(entry.step.text)]
    if not written:
        return
    as_it_is = unmet_by(target, [send for entry in own for send in entry.step.sends])
    for entry in written:
        meant = [Send(send.data, as_hex(entry.step.text, send.raw), send.chips) for send in entry.step.sends]
        if any(not send.raw for send in meant):
            continue
        other = [send for step in own for send in (meant if step is entry else step.step.sends)]
        if unmet_by(target, other) < as_it_is:
            names = [item.name for item in items_of(target.part, meant)]
            first = next(token for token in DECIMAL.findall(entry.step.text) if int(token) != int(token, 16))
            yield finding_at(
                "setup.decimal-for-hex", target, entry, "bytes", {"as hex": "; ".join(names)}, value=first, sent=f"{int(first):02X}",
                meant="; ".join(names[:3]),
            )  # fmt: skip


def _written_hex(entry: Timed, value: int) -> bool:
    return str(value) not in entry.step.text.split()


def _bring_up(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """What must be true behind a bring-up; rules of one code make one finding."""
    part, panel = target.part, target.panel
    last = _told(part, own)
    told = {register: value for register, (value, _) in last.items()}
    seen = {item.name for entry in own for item in entry.items if item.is_command}
    started = set_up_in(part, seen)
    by_code: dict[str, list[Unmet]] = {}
    for unmet in unmet_registers(part, panel, target.framing, told):
        if unmet.told or started:
            by_code.setdefault(unmet.rule.finding, []).append(unmet)
    for code, broken in by_code.items():
        yield _unmet(code, target, broken, last, told, own)
    for rule in part.bring_up:
        if rule.step and applies(rule, panel):
            yield from _steps_rule(rule, target, own, started)


def _unmet(
    code: str, target: Target, broken: list[Unmet], last: dict[str, tuple[Value, Timed]], told: dict[str, Value], own: list[Timed]
) -> Finding:
    """The finding of all rules of one code that are not kept. Aside it says what they hang on: the panel, and whether they were set at all."""
    part, summaries, remedies = target.part, [], []
    registers: dict[str, dict[str, Any]] = {}
    entry = _switched_on(part, own)
    for unmet in broken:
        rule = unmet.rule
        words = unmet.words(part, target.panel, told)
        summaries.append(rule.summary.format(**words))
        remedies.append(rule.remedy.format(**words))
        entry = last[rule.register][1] if unmet.told else entry
        registers[rule.register] = {
            "value": unmet.value, "needed": unmet.needed, "how": "set" if unmet.told else "never set, so it has its reset value",
            "source": f"{part.source}: {rule.source}",
        }  # fmt: skip
    at = float(entry.start)
    found = Finding(code, "; ".join(summaries), "; ".join(dict.fromkeys(remedies)), device=target.name, start=at, end=at)
    by = "needs" if any(unmet.rule.must_equal == "needs" for unmet in broken) else "key"
    hangs = by if any(unmet.rule.must_equal or unmet.rule.panel for unmet in broken) else ""
    at_reset = all(str(unmet.value) == str(part.reset.get(unmet.rule.register)) for unmet in broken)
    found.aside = {"by_panel": hangs, "set": any(unmet.told for unmet in broken), "at_reset": at_reset}
    return placed(found, entry, {"registers": registers, "panel": target.panel.name})


def _switched_on(part: Part, own: list[Timed]) -> Timed:
    """The step that switches the display on, as from then on it shows what was never set; the last one where none does."""
    register = part.memory.registers.get("display", "")
    for entry in own:
        for item in entry.items:
            if item.is_command and any(
                f"{part.command[item.kind].owner}.{name}" == register and value == "on" for name, value in item.fields.items()
            ):
                return entry
    return own[-1]


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
    at: Timed | None = None
    if rule.before:
        second = next(
            (number for number, (name, _) in enumerate(names) if name == rule.before and _switches_on(names[number][1], name)),
            None,
        )
        if second is not None and (first is None or first > second) and (started or first is not None):
            at = names[second][1]
    elif first is None and started:
        at = own[-1]
    if at is not None:
        found = Finding(rule.finding, rule.summary, rule.remedy, device=target.name, start=float(at.start), end=float(at.start))
        yield placed(found, at, {"source": f"{target.part.source}: {rule.source}"})


def _switches_on(entry: Timed, name: str) -> bool:
    """Whether a step of that name switches something on (or has no state to switch)."""
    states = [item.fields["state"] for item in entry.items if item.name == name and "state" in item.fields]
    return not states or "on" in states


def _mirrored(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """A picture that comes mirrored on the glass."""
    part, panel, last = target.part, target.panel, _told(target.part, own)
    told = {register: value for register, (value, _) in last.items()}
    registers = mirrored(part, panel, told)
    if not registers:
        return
    ways = []
    for register in registers:
        value = told.get(register, part.reset.get(register, 0))
        other = next(name for name in part.field_of(register).values if name != str(value))
        command = next(command for command in part.command if command.owner == register.partition(".")[0])
        code = parameter_byte(part, panel, register, other, told)
        ways.append(
            f"{code if command.length == 1 else f'{command.fixed[0][1]:02X} {code}'} ({register.replace('.', ' ')} {other})"
        )
    entry = _switched_on(part, own)
    found = finding_at(
        "setup.orientation", target, entry, "mirrored", {"as set": {register: told.get(register, "never set") for register in registers}},
        panel=panel.name, states=", ".join(f"{register.replace('.', ' ')} is {told.get(register, part.reset.get(register))}" for register in registers),
        ways=" or ".join(ways),
    )  # fmt: skip
    found.confidence = "likely"
    at_reset = not any(register in told for register in registers)
    found.aside = {"by_panel": "needs", "set": not at_reset, "at_reset": at_reset}
    yield found


class _Window(msgspec.Struct):
    """A range that a command set, and the step that did."""

    command: str
    first: int
    last: int
    entry: Timed


def _windows(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """Windows that end before they begin, or in which something is written that the panel does not show.

    A window counts where something is written to it: drivers set some that they never use.
    """
    set_now: dict[str, _Window] = {}
    told: dict[str, Value] = {}
    for entry in own:
        for item in entry.items:
            if item.is_command:
                command = target.part.command[item.kind]
                told.update({f"{command.owner}.{name}": value for name, value in item.fields.items()})
                if command.effect in WINDOWS and {"start", "end"} <= set(item.fields):
                    first, last = int(item.fields["start"]), int(item.fields["end"])
                    if _counts_down(target.part, command.effect, told):
                        first, last = last, first
                    set_now[command.effect] = _Window(item.name, first, last, entry)
                    if last < first:
                        found = finding_at(
                            "picture.outside-panel", target, entry, "reversed", command=item.name, last=last, first=first
                        )
                        found.aside = {"at_reset": _untold(target.part, WAYS.get(command.effect, ()), told)}
                        yield found
            elif item.name == "data" and set_now:
                for effect, window in set_now.items():
                    least, most = _shown(target, effect, told, window.first)
                    if window.first <= window.last and (window.first < least or window.last > most):
                        found = finding_at(
                            "picture.outside-panel", target, window.entry, "" if window.last > most else "before",
                            {"written": [window.first, window.last], "shown": [least, most]}, command=window.command,
                            last=window.last, first=window.first, panel=target.panel.name, most=most, least=least,
                        )  # fmt: skip
                        found.aside = {"at_reset": _untold(target.part, MOVING, told)}
                        yield found
                set_now = {}


# Effects of commands that set a range of memory.
WINDOWS = ("column-window", "row-window", "page-window")
# Roles of registers that say which end of a window comes first, and those that move what the panel shows of the memory.
WAYS = {"column-window": ("x_direction",), "row-window": ("y_direction",)}
MOVING = ("start_line", "offset", *TURNS)


def _untold(part: Part, roles: Iterable[str], told: dict[str, Value]) -> bool:
    """Whether one of some roles is as the reset left it, or as it was set ahead of what is looked at."""
    return any(part.memory.registers[role] not in told for role in roles if role in part.memory.registers)


def _counts_down(part: Part, effect: str, told: dict[str, Value]) -> bool:
    """Whether a window begins at its higher end."""
    registers = (part.memory.registers.get(role, "") for role in WAYS.get(effect, ()))
    return any(register and told.get(register, part.reset.get(register)) == "decrement" for register in registers)


def _shown(target: Target, effect: str, told: dict[str, Value], first: int) -> tuple[int, int]:
    """The first and the last number of a window that the panel shows. first: where the window begins."""
    panel, memory = target.panel, target.part.memory
    if effect == "page-window":
        # Pages below the glass are there, and harmless as long as the picture begins on it: drivers of higher glass are used on lower one.
        # A start line or an offset moves what it shows.
        last = -(-panel.height // 8) - 1
        moving = {memory.registers.get(role, "") for role in ("start_line", "offset")}
        moved = any(str(told.get(register, 0)) not in ("0", "off") for register in moving)
        return 0, last if first > last and not moved else memory.pages - 1
    if memory.kind == "paper" and effect == "row-window":
        return panel.row_offset, panel.row_offset + panel.height - 1
    if memory.kind != "pixel":
        per = target.part.pixels_an_address  # glass may end within an address
        return panel.column_offset // per * per, -(-(panel.column_offset + panel.width) // per) * per - 1
    roles = {role: told.get(register, target.part.reset.get(register, "")) for role, register in memory.registers.items()}
    window = Orientation.of(memory.columns, memory.rows, roles).window(box_of(panel))
    return (window.left, window.right - 1) if effect == "column-window" else (window.top, window.bottom - 1)


def _asleep(target: Target, own: list[Timed]) -> Iterator[Finding]:
    """Words to a part in a sleep from which only its reset line wakes it."""
    sleep: Item | None = None
    lost, first = 0, None
    for entry in own:
        if any(role == "reset" and not level for role, level in entry.step.levels):
            sleep = None
        for item in entry.items:
            if sleep is not None:
                lost, first = lost + len(item.raw), first or entry
            command = target.part.command[item.kind] if item.is_command else None
            if sleep is None and command is not None and command.effect == "deep-sleep" and "off" not in item.fields.values():
                sleep = item
    if first is not None:
        found = finding_at("setup.asleep", target, first, "", {"words": lost}, words=f"{lost:,}", command="deep-sleep")
        found.aside = {"set": True, "reset_line": True}
        yield found


RULES: list[Callable[[Target, list[Timed]], Iterator[Finding]]] = [
    _bytes, _bring_up, waits, power_on, resets, _mirrored, _decimals, _windows, _asleep,
]  # fmt: skip
