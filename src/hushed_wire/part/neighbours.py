"""What an answering address could be: parts of the catalog, and the usual parts beside displays."""

from __future__ import annotations

import tomllib
from functools import lru_cache
from pathlib import Path

import msgspec

from .catalogs import catalog_names, load
from .describe import Part

__all__ = ["Neighbour", "candidates", "family_of", "neighbours", "read_probed", "usual_first"]


COMMON = ("ssd1306", "pcf8574")  # commoner than their sister parts


class Neighbour(msgspec.Struct, forbid_unknown_fields=True):
    """A part that is no display of the catalog."""

    name: str
    addresses: list[int]
    probe: str = "write"


class _File(msgspec.Struct, forbid_unknown_fields=True):
    part: list[Neighbour]


@lru_cache(maxsize=1)
def neighbours() -> list[Neighbour]:
    """All of them."""
    with (Path(__file__).parent / "neighbours.toml").open("rb") as file:
        return msgspec.convert(tomllib.load(file), _File).part


def on_i2c() -> list[Part]:
    """The catalog's parts with an address: displays first, of sister parts the commoner one."""
    own = [part for part in map(load, catalog_names()) if part.i2c is not None]
    return sorted(own, key=lambda part: (part.memory.kind == "port", part.name not in COMMON, part.name))


def candidates(address: int) -> list[str]:
    """Names of parts that can have an address: the catalog's first."""
    out = [f"{part.name} ({part.title})" for part in on_i2c() if part.i2c is not None and address in part.i2c.addresses]
    return out + [part.name for part in neighbours() if address in part.addresses]


def read_probed() -> set[int]:
    """Addresses at which an address-only write might disturb a part."""
    return {address for part in neighbours() if part.probe == "read" for address in part.addresses}


def usual_first(name: str) -> tuple[bool, str]:
    """Order in which parts are tried: of parts that a capture cannot tell apart the commoner one is meant."""
    return name not in COMMON, name


def family_of(address: int) -> dict[str, set[int]]:
    """Families that an address belongs to, each with the addresses of its other members."""
    out: dict[str, set[int]] = {}
    for part in on_i2c():
        if part.i2c is not None and part.i2c.family and address in part.i2c.addresses:
            sisters = (other for other in on_i2c() if other.i2c and other.i2c.family == part.i2c.family and other is not part)
            out[part.name] = {sister for other in sisters if other.i2c for sister in other.i2c.addresses}
    return out
