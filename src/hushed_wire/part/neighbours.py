"""What an answering address could be: parts of the catalog, and the usual parts beside displays."""

from __future__ import annotations

import tomllib
from functools import lru_cache
from pathlib import Path

import msgspec

from .describe import catalog_names, load

__all__ = ["Neighbour", "candidates", "family_of", "neighbours", "read_probed"]


class Neighbour(msgspec.Struct, forbid_unknown_fields=True):
    """A part that is no display of the catalog."""

    name: str
    addresses: list[int]
    probe: str = "write"
    family: str = ""


class _File(msgspec.Struct, forbid_unknown_fields=True):
    part: list[Neighbour]


@lru_cache(maxsize=1)
def neighbours() -> list[Neighbour]:
    """All of them."""
    with (Path(__file__).parent / "neighbours.toml").open("rb") as file:
        return msgspec.convert(tomllib.load(file), _File).part


def candidates(address: int) -> list[str]:
    """Names of parts that can have an address: the catalog's first."""
    own = [load(name) for name in catalog_names()]
    out = [f"{part.name} ({part.title})" for part in own if part.i2c is not None and address in part.i2c.addresses]
    return out + [part.name for part in neighbours() if address in part.addresses]


def read_probed() -> set[int]:
    """Addresses at which an address-only write might disturb a part."""
    return {address for part in neighbours() if part.probe == "read" for address in part.addresses}


def family_of(address: int) -> dict[str, set[int]]:
    """Families that an address belongs to, each with the addresses of its other members."""
    out: dict[str, set[int]] = {}
    for part in neighbours():
        if part.family and address in part.addresses:
            others = {a for other in neighbours() if other.family == part.family and other is not part for a in other.addresses}
            out[part.name] = others
    return out
