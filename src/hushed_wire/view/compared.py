"""Text, JSON and JUnit of `compare`."""

from __future__ import annotations

from typing import Any
from xml.etree import ElementTree

from ..comparison.outcome import LEVELS, Comparison, Difference, Matched, Point
from ..comparison.waits import Wait
from ..sequence.listing import as_hush
from ..units import counted, show_time
from .junit import as_xml
from .pipe_console import kit_of

__all__ = ["compared", "compared_junit", "compared_record"]

ROWS = 24
WORDS = {True: ("same", "good"), False: ("differ", "warning"), None: ("cannot be told", "quiet")}


def compared(out: Any, result: Comparison, by: str, times: bool, quiet: bool, every: bool) -> None:
    """Prints the verdicts, the differences and, where asked for, the waits."""
    kit = kit_of(out)
    for letter, side in (("A", result.a), ("B", result.b)):
        out.print(kit.Text(f"{letter}  {side.path}", style="head"))
        for note in side.notes:
            out.print(kit.Text().append("note  ", style="note").append(note))
    for one in result.matched:
        out.print()
        _device(out, one)
    differences = result.differences
    if differences and not quiet:
        out.print()
        _differences(out, result, differences, every)
    if times:
        out.print()
        _waits(out, result.waits, every)
    out.print()
    holds = result.holds(by, times)
    out.print(kit.Text(verdict(result, by, times), style={True: "good", False: "fault", None: "note"}[holds]))


def _device(out: Any, one: Matched) -> None:
    kit = kit_of(out)
    parts = one.a.part.name if one.a.part.name == one.b.part.name else f"{one.a.part.name} in A, {one.b.part.name} in B"
    names = one.a.name if one.a.name == one.b.name else f"{one.a.name} in A, {one.b.name} in B"
    out.print(kit.Text(f"{names} ({parts} {one.a.panel.name})".replace(" )", ")"), style="head"))
    grid = kit.grid()
    for level in LEVELS:
        word, style = WORDS[one.same[level]]
        grid.add_row(
            "",
            level,
            kit.Text("differs" if word == "differ" and level in ("state", "picture") else word, style=style),
            _beside(one, level),
        )
    out.print(grid)


def _beside(one: Matched, level: str) -> str:
    """What stands behind a level's answer."""
    if level in one.untold:
        return one.untold[level]
    if level in ("words", "commands"):
        a, b = one.counts[level]
        more = "" if one.every or level == "words" else "; they have little in common: not every difference is listed"
        return (f"{a:,}" if a == b else f"{a:,} in A, {b:,} in B") + more
    if level == "state":
        size = one.counts["memory"][0]
        reasons = {entry.why.key for entry in one.differences if entry.why.matters}
        if "while-it-stood" in reasons and not reasons & {"at-the-end", "other-memory"}:
            return "the same at the end, not while pictures stood"
        return f"{counted(one.counts['registers'][0], 'register')}" + (
            f" and {counted(size, 'cell')} of memory at the end" if size else ""
        )
    a, b = one.pictures.counts
    end = one.pictures.end[0]
    said = f"; at the end {end.said}" if end is not None and one.same["picture"] else ""
    return (counted(a, "picture") if a == b else f"{counted(a, 'picture')} in A, {b:,} in B") + said


def _differences(out: Any, result: Comparison, differences: list[Difference], every: bool) -> None:
    """What matters first; those of one reason in one row, where not every difference is asked for."""
    kit = kit_of(out)
    table = kit.table()
    several = len(result.matched) + len(result.alone) > 1
    for head in ("", "A", "B", "what", "why"):
        table.add_column(head, overflow="fold", no_wrap=head in ("", "A", "B"))
    groups: dict[str, list[Difference]] = {}
    for number, entry in enumerate(sorted(differences, key=lambda entry: not entry.why.matters)):
        groups.setdefault(str(number) if every else f"{entry.why.because} {entry.device}", []).append(entry)
    for entries in list(groups.values())[: None if every else ROWS]:
        first = [next((point for entry in entries if (point := getattr(entry, side)) is not None), None) for side in "ab"]
        one = entries[0]
        count = sum(entry.count for entry in entries)
        alike = len({_name(entry) for entry in entries}) == 1
        what = _what(one) + (f"  ({count:,} of them)" if count > 1 else "") if alike else _tally(entries)
        mark = kit.Text("matters", style="fault") if one.why.matters else kit.Text("harmless", style="quiet")
        table.add_row(mark, _place(first[0]), _place(first[1]), what + (f"  [{one.device}]" if several else ""), one.why.because)
    if not every and len(groups) > ROWS:
        table.add_row("", "", "", f"and {len(groups) - ROWS:,} more kinds: -v shows all of them", "")
    out.print(table)


def _tally(entries: list[Difference]) -> str:
    """The names of commands, and how often each is among them."""
    counts: dict[str, int] = {}
    for entry in entries:
        counts[_name(entry)] = counts.get(_name(entry), 0) + entry.count
    return ", ".join(name if count == 1 else f"{count:,} x {name}" for name, count in counts.items())


def _name(entry: Difference) -> str:
    point = entry.a or entry.b
    return point.name if point is not None else ""


def _place(point: Point | None) -> str:
    if point is None:
        return "-"
    return point.place or ("there" if point.time is None else show_time(point.time))


def _what(entry: Difference) -> str:
    """A command as a sequence writes it; of a changed one both."""
    texts = [_command(point) for point in (entry.a, entry.b) if point is not None]
    if len(texts) == 2 and texts[0] == texts[1]:
        return texts[0]
    return " → ".join(texts)


def _command(point: Point) -> str:
    if point.name in ("data", "unknown", "truncated") and point.raw:
        shown = " ".join(f"{byte:02X}" for byte in point.raw[:8])
        count = point.fields.get("count", len(point.raw))
        return f"{point.name} {shown}" + (f" … ({count:,})" if isinstance(count, int) and count > 8 else "")
    if point.name == "picture":
        return f"picture: {point.note}" if point.note else "the glass"
    return as_hush(point.name, point.fields) if point.fields else point.name


def _waits(out: Any, waits: list[Wait], every: bool) -> None:
    kit = kit_of(out)
    if not waits:
        out.print("No command needs a wait that a sequence has to have, and none is made.")
        return
    table = kit.table()
    for head, justify in (
        ("wait behind", "left"),
        ("A", "right"),
        ("B", "right"),
        ("needed", "right"),
        ("", "left"),
        ("source", "left"),
    ):
        table.add_column(head, justify=justify, overflow="fold")
    for wait in waits if every else waits[:ROWS]:
        short = wait.short
        said = (
            f"too short in {' and '.join(short)}"
            if short
            else "differs, long enough"
            if wait.differs and wait.needs
            else "differs"
            if wait.differs
            else ""
        )
        cells = ["-" if value is None else show_time(value) for value in (wait.a, wait.b, wait.needs)]
        name = wait.after + (f"  ({wait.count} times)" if wait.count > 1 else "")
        table.add_row(name, *cells, kit.Text(said, style="fault" if short else "quiet"), wait.source)
    out.print(table)


def verdict(result: Comparison, by: str, times: bool) -> str:
    """The answer in a sentence."""
    holds = result.holds(by, times)
    matter = sum(entry.count for entry in result.differences if entry.why.matters)
    rest = sum(entry.count for entry in result.differences if not entry.why.matters)
    if holds is None:
        said = f"It cannot be told whether {f'the {by}' if by else 'both do the same'}{' are the same' if by else ''}."
        return f"{said} {'; '.join(dict.fromkeys(text for one in result.matched for text in one.untold.values()))}."
    same = result.same
    if by:
        said = {
            "words": "word for word the same",
            "commands": "the same commands",
            "state": "the same settings and memory at the end",
            "picture": "the same picture",
        }[by]
        head = f"Both give {said}" if holds else f"They do not give {said}"
    elif holds and same["commands"]:
        head = "The same commands" + (", the same picture" if same["picture"] else "")
    elif holds:
        shows = "the same picture" if same["picture"] else "the same settings"
        head = (
            f"Other commands for {shows}: {counted(rest, 'difference')}, none of which matters"
            if rest
            else f"Both lead to {shows}"
        )
    else:
        head = (
            f"They differ: {counted(matter, 'difference')} that matter{'s' if matter == 1 else ''}" if matter else "They differ"
        )
    timed = any(one.a.timed and one.b.timed for one in result.matched)
    return f"{head}; {_of_waits(result.waits) if timed else 'times were not compared'}."


def _of_waits(waits: list[Wait]) -> str:
    timed = [wait for wait in waits if wait.a is not None and wait.b is not None]
    if not timed:
        return "there are no waits to compare"
    differ = sum(wait.count for wait in timed if wait.differs)
    short = [wait for wait in timed if "B" in wait.short]
    if short:
        return f"the wait behind {short[0].after} is too short in B (--times shows them)"
    if not differ:
        return "all waits are about as long"
    asked = any(wait.needs for wait in timed if wait.differs)
    if differ == 1:
        return f"1 wait differs, {'long enough' if asked else 'the part needs none there'}"
    return f"{counted(differ, 'wait')} differ, {'all long enough' if asked else 'the part needs none there'}"


# ---- for machines ----------------------------------------------------------------------------------------------------------


def compared_record(result: Comparison, by: str, times: bool) -> dict[str, Any]:
    """As JSON. Times in seconds."""
    first = result.first
    out: dict[str, Any] = {
        "a": {"path": result.a.path, "kind": result.a.kind},
        "b": {"path": result.b.path, "kind": result.b.kind},
        "holds": result.holds(by, times),
        "same": result.same,
        "verdict": verdict(result, by, times),
        "differences": [_record(entry) for entry in result.differences],
        "first": None if first is None else _record(first),
        "devices": [
            {
                "a": one.a.name, "b": one.b.name, "part": one.a.part.name, "same": one.same, "untold": one.untold, "all_listed": one.every,
                "end_same": one.pictures.end_same,
            }
            for one in result.matched
        ],
        "waits": [
            {
                "device": wait.device, "after": wait.after, "a": wait.a, "b": wait.b, "needs": wait.needs, "short": wait.short,
                "count": wait.count, "source": wait.source,
            }
            for wait in result.waits
        ],
    }  # fmt: skip
    return out


def _record(entry: Difference) -> dict[str, Any]:
    out: dict[str, Any] = {
        "kind": entry.kind, "device": entry.device, "a": _point(entry.a), "b": _point(entry.b), "matters": entry.why.matters,
        "because": entry.why.because, "reason": entry.why.key, "count": entry.count,
    }  # fmt: skip
    if entry.chip:
        out["chip"] = entry.chip + 1
    return out


def _point(point: Point | None) -> dict[str, Any] | None:
    if point is None:
        return None
    return {
        "time": point.time,
        "place": point.place or None,
        "name": point.name,
        "bytes": list(point.raw),
        "fields": point.fields,
    }


def compared_junit(result: Comparison, by: str, times: bool) -> bytes:
    """As JUnit XML: a case for each level; what differs is in it."""
    paths = f"{result.a.path} {result.b.path}"
    suite = ElementTree.Element("testsuite", name=f"hushed-wire compare {paths}")
    failures = 0
    for level in LEVELS:
        case = ElementTree.SubElement(suite, "testcase", classname=paths, name=level, time="0")
        counts = level == by or (not by and level in ("state", "picture"))
        text = "\n".join(f"{_what(entry)}: {entry.why.because}" for entry in result.differences)
        if result.same[level] is False and counts:
            failures += 1
            ElementTree.SubElement(case, "failure", type="differs", message=verdict(result, by, times)).text = text
        elif result.same[level] is None:
            ElementTree.SubElement(case, "skipped", message="; ".join(one.untold.get(level, "") for one in result.matched))
        elif text:
            ElementTree.SubElement(case, "system-out").text = text
    case = ElementTree.SubElement(suite, "testcase", classname=paths, name="verdict", time="0")
    if result.holds(by, times) is False:
        failures += 1
        ElementTree.SubElement(case, "failure", type="differs", message=verdict(result, by, times))
    return as_xml(suite, failures)
