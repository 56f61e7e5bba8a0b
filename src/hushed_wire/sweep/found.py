"""What was found in many captures, one line each, and the causes that several of them share."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec

from ..errors import HushedError

__all__ = ["FINDINGS", "GOOD", "UNJUDGED", "UNUSABLE", "Cause", "Swept", "captures_in", "causes_of"]

GOOD, FINDINGS, UNUSABLE = 0, 1, 2  # as the exit status of a diagnosis has it
UNJUDGED = "not-judged"  # code of a capture that was read, and in which a display was not judged
ENDINGS = (".vcd", ".csv", ".tsv", ".npz", ".txt")  # of captures in a folder, plain or .gz
RAW = (".bin", ".raw")  # and of raw samples


class Swept(msgspec.Struct):
    """One capture. status: GOOD, FINDINGS or UNUSABLE. code, severity, lines: of the first finding, the most likely cause; code is "" where there is
    none, UNJUDGED where a display was not judged. verdict: in one sentence; of a capture that cannot be read, why. size, changed: of its file, bytes
    and nanoseconds since 1970."""

    path: str
    status: int
    verdict: str
    code: str = ""
    severity: str = ""
    lines: list[str] = []
    device: str = ""
    size: int = -1
    changed: int = -1


class Cause(msgspec.Struct):
    """A cause and the captures that have it. lines: the same in all of them."""

    code: str
    severity: str
    lines: list[str]
    captures: list[Swept]


def captures_in(names: Sequence[str], raw: bool = False) -> list[str]:
    """Captures that are named, and those in folders that are, each once, folders' in the order of their names; hidden ones are passed over.

    raw: captures are raw samples. Raises HushedError for what is not there, and for a folder without any.
    """
    out: dict[str, None] = {}
    endings = tuple(ending + more for ending in (RAW if raw else ENDINGS) for more in ("", ".gz"))
    for name in names:
        place = Path(name)
        if place.is_dir():
            found = sorted(_files_in(place, endings))
            if not found:
                what = "raw samples" if raw else "captures"
                raise HushedError(
                    f"holds no {what}", where=name, remedy=f"looked for names that end in {', '.join(endings[::2])} or .gz"
                )
            out.update(dict.fromkeys(found))
        elif place.exists():
            out[name] = None
        else:
            raise HushedError("no such file or folder", where=name, remedy="name captures, or folders of captures")
    return list(out)


def _files_in(folder: Path, endings: tuple[str, ...]) -> Iterable[str]:
    for place, below, files in os.walk(folder):
        below[:] = sorted(name for name in below if not name.startswith("."))
        for name in files:
            path = os.path.join(place, name)  # noqa: PTH118 - as it was named, so that it reads as it was typed
            if name.lower().endswith(endings) and not name.startswith(".") and os.path.isfile(path):  # noqa: PTH113 - no pipe, no device
                yield path


def causes_of(swept: Iterable[Swept]) -> list[Cause]:
    """The causes, those of most captures first; captures that could not be read are the last one."""
    groups: dict[tuple[str, tuple[str, ...]], Cause] = {}
    for one in swept:
        if one.status == GOOD:
            continue
        code = one.code or "unusable"
        key = code, tuple(one.lines)
        groups.setdefault(key, Cause(code, one.severity, one.lines, [])).captures.append(one)
    return sorted(
        groups.values(), key=lambda cause: (cause.code in ("unusable", UNJUDGED), -len(cause.captures), cause.code, cause.lines)
    )
