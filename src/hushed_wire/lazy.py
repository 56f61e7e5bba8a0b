"""Packages that load a module only when one of its names is used, so that a short command loads little."""

from __future__ import annotations

import importlib
from collections.abc import Callable
from typing import Any

__all__ = ["exports"]


def exports(package: str, modules: dict[str, tuple[str, ...]]) -> Callable[[str], Any]:
    """A module-level `__getattr__` (PEP 562) for a package: module name to the public names that live in it."""
    home = {name: module for module, names in modules.items() for name in names}

    def __getattr__(name: str) -> Any:
        if name not in home:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        return getattr(importlib.import_module(f"{package}.{home[name]}"), name)

    return __getattr__
