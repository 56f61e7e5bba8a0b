"""Catalogs: folders of part descriptions in TOML, read and checked.

A description may stand on a base (`base = "mipi-dcs"`): it has the base's commands beside its own, which win over those of
the same name or code. Files that ship are checked when they are written (by the tests); a user's when they are read.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import Any

import msgspec

from ..compiled import fast_form, write_compiled
from ..errors import HushedError, nearest
from ..small_file import small_text
from .describe import Part

__all__ = ["SHIPPED", "UNKNOWN", "Catalog", "catalog_names", "compile_all", "load", "load_file"]

SHIPPED = Path(__file__).parent / "catalog"
UNKNOWN = "unknown"  # the part of a device of which only its wires are known; it stands beside the catalog, not in it


class Catalog:
    """The parts that ship, and a user's, which win over those. Several can live side by side: `load` asks the one that is in use."""

    def __init__(self, folders: Sequence[str | Path] = ()) -> None:
        """folders: of descriptions (*.toml), the first wins. Raises HushedError where one of them is wrong."""
        self._parts: dict[str, Part] = {}
        self.folders = [*map(Path, folders), SHIPPED]
        for folder in self.folders[:-1]:
            if not folder.is_dir():
                raise HushedError("no such folder", where=str(folder), remedy="name a folder of part descriptions (*.toml)")
            for path in sorted(folder.glob("*.toml")):
                self.load(path.stem.lower())

    def add(self, part: Part) -> None:
        """A part that stands in no file. It is loaded by its name, and not among `names`."""
        self._parts[part.name.lower()] = part

    def names(self) -> list[str]:
        """Of all its parts."""
        return sorted({path.stem.lower() for folder in self.folders for path in folder.glob("*.toml")})

    def load(self, name: str) -> Part:
        """A part by name; raises HushedError with the nearest names."""
        key = name.lower()
        if key not in self._parts:
            folders = [SHIPPED / "base"] if key == UNKNOWN else self.folders
            path = next((path for folder in folders if (path := folder / f"{key}.toml").is_file()), None)
            if path is None:
                self._parts[key] = self._same_as(key)
                return self._parts[key]
            self._parts[key] = _shipped(path) if path.parent in (SHIPPED, SHIPPED / "base") else load_file(path)
        return self._parts[key]

    def _same_as(self, name: str) -> Part:
        """The part that a name is another one of."""
        known = {other.lower(): part for part in map(self.load, self.names()) for other in part.also}
        if name not in known:
            raise HushedError(f"the catalog has no part '{name}'", remedy=nearest(name, [*self.names(), *known]))
        return known[name]

    @contextmanager
    def in_use(self) -> Iterator[Catalog]:
        """Within it this thread (or task) asks this catalog: rigs, captures and sequences are read by its parts."""
        before = _in_use.set(self)
        try:
            yield self
        finally:
            _in_use.reset(before)


_shipped_parts = Catalog()
_in_use: ContextVar[Catalog | None] = ContextVar("catalog", default=None)


def _now() -> Catalog:
    return _in_use.get() or _shipped_parts


def catalog_names() -> list[str]:
    """The parts of the catalog that is in use."""
    return _now().names()


def load(name: str) -> Part:
    """A part by name, from the catalog that is in use; raises HushedError with the nearest names."""
    return _now().load(name)


def _shipped(path: Path) -> Part:
    body = fast_form(path)
    return load_file(path, checked=True) if body is None else msgspec.json.decode(body, type=Part)


def compile_all() -> None:
    """Writes the fast form of every shipped description, and of the table of findings."""
    import tomllib

    from .. import finding

    for path in SHIPPED.glob("*.toml"):
        under, table = list[Path](), tomllib.loads(path.read_text(encoding="utf-8"))
        while base := table.get("base", ""):
            under.append(_base(base, path))
            table = tomllib.loads(under[-1].read_text(encoding="utf-8"))
        write_compiled(path, load_file(path), under)
    write_compiled(finding.TABLE, finding.codes())


def load_file(path: Path, checked: bool = False) -> Part:
    """A description from a file; raises HushedError naming file, key and reason. checked: it is known to be right."""
    import tomllib  # here, since shipped parts are read without it

    try:
        text = small_text(path)
        table = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise HushedError(f"not TOML: {error}"[:200], where=str(path), remedy="mend the file at that place") from error
    except OSError as error:
        raise HushedError(f"cannot be read: {error.strerror}", where=str(path), remedy="check the path of the part") from error
    base = table.get("base", "")
    if base:
        table = _on_base(table, str(base), path)
    try:
        part = msgspec.convert(table, Part)
    except msgspec.ValidationError as error:
        what, _, key = str(error).partition(" - at ")
        raise HushedError(
            f"{key.strip('`') or 'the file'}: {what}", where=str(path), remedy="see the part descriptions in CONTRIBUTING"
        ) from error
    if not checked:
        from .check import check

        check(part, str(path))
    return part


def _base(name: str, path: Path) -> Path:
    """The file that a description stands on: a standard, or a part that ships. path: of the description."""
    places = [SHIPPED / "base" / f"{name}.toml", SHIPPED / f"{name}.toml"]
    found = next((place for place in places if place.is_file()), None)
    if found is None or found == path:
        known = [entry.stem for place in places for entry in place.parent.glob("*.toml") if entry != path]
        raise HushedError(f"base: there is no base '{name}'", where=str(path), remedy=nearest(name, known))
    return found


def _on_base(table: dict[str, Any], base: str, path: Path) -> dict[str, Any]:
    """A description over its base: tables are merged, the base's commands stay where name and code are free and `without` does not name
    them, with the times of `takes`; what the base says of commands that are left out goes with them, and rules that are stated anew."""
    import tomllib

    below = _base(base, path)
    under = tomllib.loads(below.read_text(encoding="utf-8"))
    if under.get("base"):
        under = _on_base(under, str(under["base"]), below)
    if under.get("source") != table.get("source"):  # two parts of one datasheet cite it alike
        _cite(under)
    own, rest = _commands_of(table, under, path)
    theirs = {str(entry["name"]) for entry in under.pop("command", [])}
    kept = {str(entry.get("name")) for entry in [*own, *rest]}
    gone = theirs - kept
    out: dict[str, Any] = {**under, **table, "command": [*own, *rest]}
    for key in ("memory", "limits", "waits"):
        if key in under and isinstance(table.get(key), dict):
            out[key] = {name: value for name, value in {**under[key], **table[key]}.items() if value != {}}
    _registers(out, under, table, gone)
    for key in ("bring_up", "beyond"):
        mine = table.get(key, [])
        if isinstance(mine, list):
            again = {_rule(entry) for entry in mine if isinstance(entry, dict)} if key == "bring_up" else set()
            still = (entry for entry in under.get(key, []) if not gone & _asked_of(entry) and _rule(entry) not in again)
            out[key] = [*mine, *still]
    for key in [key for key, value in table.items() if value == {} and key in under]:
        del out[key]  # an empty table says that the base's does not hold for it
    if gone and "start_up" not in table:
        out["start_up"] = [name for name in under.get("start_up", []) if name not in gone]
    return out


def _registers(out: dict[str, Any], under: dict[str, Any], table: dict[str, Any], gone: set[str]) -> None:
    """What the memory model reads: the base's registers, less those of commands that are left out, and a description's own over them; an empty name
    says that the base's does not hold for it."""
    theirs, own = (
        memory.get("registers", {}) if isinstance(memory := at.get("memory", {}), dict) else {} for at in (under, table)
    )
    if not isinstance(out.get("memory"), dict) or not isinstance(theirs, dict) or not isinstance(own, dict):
        return
    kept = {role: name for role, name in theirs.items() if str(name).partition(".")[0] not in gone}
    merged = {role: name for role, name in {**kept, **own}.items() if name != ""}
    out["memory"] = {**out["memory"], **({"registers": merged} if merged else {})}


CITED = (
    "levels",
    "limits",
    "waits",
    "i2c",
    "opcode",
    "halves",
    "oscillator",
    "memory",
    "busy",
)  # tables of a part that name a section


def _cite(under: dict[str, Any]) -> None:
    """Puts the datasheet of a part that is stood on ahead of each section of it, as these are not the part's own."""
    source = under.get("source")
    if source is None:  # a standard, whose sections name it
        return
    entries = [entry for key in ("command", "bring_up", "at_supply") for entry in under.get(key, [])]
    for entry in [*entries, *(under[key] for key in CITED if "source" in under.get(key, {}))]:
        entry["source"] = f"{source}, {entry['source']}"


def _commands_of(table: dict[str, Any], under: dict[str, Any], path: Path) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """A description's own commands, and those of its base that stay."""
    own = table.get("command", [])
    if not isinstance(own, list) or not all(isinstance(entry, dict) for entry in own):
        raise HushedError("command: it is no list of tables", where=str(path), remedy="write [[command]] ahead of each")
    names, codes = [entry.get("name") for entry in own], [entry.get("code") for entry in own]
    theirs = [str(entry["name"]) for entry in under.get("command", [])]
    takes, without = table.get("takes", {}), table.get("without", [])
    for key, said in (("takes", takes), ("without", without)):
        wrong = next((name for name in said if name not in theirs), None) if isinstance(said, dict | list) else key
        if wrong is not None:
            raise HushedError(f"{key}: the base has no command '{wrong}'", where=str(path), remedy=nearest(str(wrong), theirs))
    rest = [
        entry | ({"takes": takes[entry["name"]]} if entry["name"] in takes else {})
        for entry in under.get("command", [])
        if entry["name"] not in (*names, *without) and entry["code"] not in codes
    ]
    return own, rest


def _rule(entry: dict[str, Any]) -> tuple[str, ...]:
    """What a rule on bring-up finds, and of what: one that a description states anew goes over its base's."""
    return tuple(str(entry.get(key, "")) for key in ("finding", "register", "step"))


def _asked_of(entry: dict[str, Any]) -> set[str]:
    """The commands that a rule on bring-up is about."""
    return {str(entry.get("register", "")).partition(".")[0], str(entry.get("step", "")), str(entry.get("before", ""))}
