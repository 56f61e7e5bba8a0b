"""Rig files: read, checked, written back. Errors name the file, the key and the reason."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any

import msgspec

from ..errors import HushedError, nearest
from ..part import load
from ..small_file import small_text
from .check import check
from .schema import Bridge, Bus, Device, Driver, Rig

__all__ = ["load_rig", "rig_toml"]


def load_rig(path: str | Path, lenient: bool = False) -> Rig:
    """Reads and checks a rig file. lenient: wiring that cannot work is let through, for the rules that explain it."""
    where = str(path)
    try:
        text = small_text(path)
    except FileNotFoundError as error:
        raise HushedError("no such file", where=where, remedy="check the path of the rig") from error
    except (OSError, UnicodeDecodeError) as error:
        raise HushedError(
            f"cannot be read as text: {error}", where=where, remedy="a rig is a TOML file; see docs/rig.md"
        ) from error
    try:
        said = tomllib.loads(text)
        rig = msgspec.convert(said, Rig)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise HushedError(f"not TOML: {error}", where=where, remedy="mend the file at that place") from error
    except msgspec.ValidationError as error:
        what, _, key = str(error).partition(" - at ")
        key = re.sub(r"^\$\.?", "", key.strip("`")) or "the file"
        unknown = re.search(r"unknown field `(\w+)`", what)
        remedy = "docs/rig.md lists all keys"
        if unknown:
            section = {"bus": Bus, "bridge": Bridge, "device": Device, "driver": Driver}.get(
                re.split(r"[.\[]", key)[-2 if "[" in key else -1], Rig
            )
            remedy = nearest(unknown[1], section.__struct_fields__)
        raise HushedError(f"{key}: {what[0].lower()}{what[1:]}", where=where, remedy=remedy) from error
    check(rig, where, lenient)
    _as_parts_have_it(rig, said["bus"])
    return rig


def _as_parts_have_it(rig: Rig, said: list[dict[str, Any]]) -> None:
    """The level that selects and the order of bits, where the file does not say them and all that hangs on a bus has it the other way round."""
    for bus, keys in zip(rig.bus, said, strict=True):
        parts = [load(device.part) for device in rig.devices_on(bus)]
        if not parts or any(bridge.on == bus.name for bridge in rig.bridge):
            continue
        if "select" not in keys and all(part.select == "high" for part in parts):
            bus.select = "high"
        if "order" not in keys and all(part.bit_order == "lsb" for part in parts):
            bus.order = "lsb"


USUAL: tuple[tuple[str, Any], ...] = (
    ("order", "msb"),
    ("probed", "driver"),
    ("rows", "high"),
    ("columns", "high"),
    ("direct", []),
    ("select", "low"),
    ("level", "low"),
    ("count", 1),
    ("active", "high"),
)


def rig_toml(rig: Rig) -> str:
    """A rig as a rig file; the twin of `load_rig`."""
    import tomli_w

    table: dict[str, Any] = {"title": rig.title} if rig.title else {}
    sections: list[tuple[str, list[Any]]] = [("bus", rig.bus), ("bridge", rig.bridge), ("device", rig.device)]
    table |= {section: [_said(entry) for entry in entries] for section, entries in sections if entries}
    return re.sub(r"\baddress = (\d+)\b", lambda found: f"address = {int(found[1]):#04x}", tomli_w.dumps(table))


def _said(entry: Any) -> dict[str, Any]:
    """What an entry says beyond what is taken for granted."""
    table, usual = msgspec.to_builtins(entry), msgspec.to_builtins(Driver())
    if "driver" in table:
        table["driver"] = {key: value for key, value in table["driver"].items() if value != usual[key]}
    return {key: value for key, value in table.items() if value not in ("", {}, None, 0) and (key, value) not in USUAL}
