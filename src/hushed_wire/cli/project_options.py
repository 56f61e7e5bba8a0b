"""What a project's file says, in place of options that are not given."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from .said import say

if TYPE_CHECKING:
    from ..project import Project

__all__ = ["lend", "lent"]

# Of these commands, --rig is what hangs on the wires; of others it is one of several ways to say something else.
RIGGED = {
    "budget", "build", "compare", "decode", "diagnose", "emit", "find", "plot", "rehearse", "scan", "screen", "send", "sweep", "wiring",
}  # fmt: skip
INSTEAD = ("part", "panel", "bus", "framing", "rig_a", "rig_b")  # who says one of these has another rig in mind


def lend(parser: argparse.ArgumentParser, command: str, project: Project) -> dict[str, str]:
    """Makes the project's values the defaults of a command's options; returns those that it has options for, by their name."""
    actions = {action.dest: action for action in parser._actions}
    out = {}
    for key, value in project.values.items():
        dest = key.replace("-", "_")
        if dest not in actions or (dest == "rig" and command not in RIGGED) or (dest == "rate" and "raw" not in actions):
            continue
        action = actions[dest]
        action.default, action.required = value, False
        if not action.option_strings:
            action.nargs = "?"
        out[dest] = value
    return out


def lent(args: argparse.Namespace, said: dict[str, str], project: Project) -> dict[str, str]:
    """Of what was lent, what is in use; the project's rig gives way where options say what hangs on the wires."""
    used = {dest: value for dest, value in said.items() if str(getattr(args, dest)) == value}
    # A rig that was typed is another text, even where it reads the same: it contradicts those options, as it does without a project.
    if "rig" in used and args.rig is said["rig"] and any(getattr(args, dest, None) for dest in INSTEAD):
        args.rig = None
        del used["rig"]
    if used and getattr(args, "verbose", False):
        told = ", ".join(f"{dest.replace('_', '-')} {value}" for dest, value in used.items())
        say(f"from {project.path}: {told}")
    return used
