"""What a folder's captures have in common, said once: `hushed.toml` in the folder where one works, or in one above.

Its values stand in place of options that are not given. Paths in it are relative to the folder that it lies in.
"""

from __future__ import annotations

import os
from pathlib import Path

from .errors import HushedError, nearest
from .small_file import small_text

__all__ = ["NAME", "Project", "find_project"]

NAME = "hushed.toml"
PATHS = ("rig", "catalog")
# Each key, and what it takes where not any text will do.
KEYS: dict[str, tuple[str, ...]] = {
    "rig": (),
    "catalog": (),
    "rate": (),
    "threshold": (),
    "hysteresis": (),
    "link": (),
    "color": ("auto", "always", "never"),
    "fail-on": ("note", "warning", "fault", "never"),
}


class Project:
    """path: of the file. values: by key, as options take them."""

    def __init__(self, path: Path, values: dict[str, str]) -> None:
        self.path, self.values = path, values


def find_project(folder: Path) -> Project | None:
    """The project that a folder belongs to; None where there is none. Raises HushedError for a file that makes no sense."""
    for place in (folder, *folder.parents):
        path = place / NAME
        if path.is_file():
            return Project(path, _read(path, folder))
    return None


def _read(path: Path, folder: Path) -> dict[str, str]:
    import tomllib

    try:
        table = tomllib.loads(small_text(path))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise HushedError(f"not TOML: {error}"[:200], where=str(path), remedy="mend the file at that place") from error
    except OSError as error:
        raise HushedError(f"cannot be read: {error.strerror}", where=str(path), remedy="check the file") from error
    out = {}
    for key, value in table.items():
        if key not in KEYS:
            raise HushedError(f"there is no key '{key}'", where=str(path), remedy=nearest(key, KEYS))
        if not isinstance(value, str) or not value:
            raise HushedError(f"{key}: {value!r} is no text", where=str(path), remedy=f'write it in quotes, like {key} = "…"')
        if KEYS[key] and value not in KEYS[key]:
            raise HushedError(f"{key}: '{value}' is nothing for it", where=str(path), remedy=f"it can be: {', '.join(KEYS[key])}")
        out[key] = _from_here(path.parent / value, folder) if key in PATHS else value
    return out


def _from_here(path: Path, folder: Path) -> str:
    """A path as somebody in the folder would write it."""
    try:
        return os.path.relpath(path, folder)
    except ValueError:  # on another drive
        return str(path)
