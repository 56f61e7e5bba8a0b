"""Packages that only some work needs, which are therefore extras: `pyproject.toml` lists them, and why is said in README.md.

Where one is missing, what wants it and what brings it is said, once, here.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from .errors import HushedError

__all__ = ["PackageMissing", "wanted"]


class PackageMissing(HushedError):
    """A package is not installed. requirement: as pip takes it; the program says how it is installed where the program is."""

    def __init__(self, what: str, requirement: str, where: str) -> None:
        super().__init__(
            f"{what} the package {requirement.partition('>')[0]}", where=where, remedy=f"pip install '{requirement}'"
        )
        self.requirement = requirement


@contextmanager
def wanted(package: str, what: str, where: str = "") -> Iterator[None]:
    """An import within it that fails is PackageMissing. package: as it is called where packages are had. what: like "figures want"."""
    try:
        yield
    except ImportError as error:
        raise PackageMissing(what, _requirement(package), where) from error


def _requirement(package: str) -> str:
    """The package with the versions that our own extras ask for."""
    from importlib.metadata import PackageNotFoundError, requires

    try:
        known = requires("hushed-wire") or []
    except PackageNotFoundError:  # run from the source tree
        known = []
    plain = [line.partition(";")[0].strip() for line in known]
    return next((line for line in plain if line.partition(">")[0] == package), package)
