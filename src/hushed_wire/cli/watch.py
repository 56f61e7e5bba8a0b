"""`--watch`: a command runs again whenever its capture, or one in the folder that is named, was written anew, until Ctrl-C."""

from __future__ import annotations

import argparse
import copy
import signal
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

from ..errors import HushedError
from ..sweep.found import captures_in
from ..sweep.journal import stamp
from .said import say

__all__ = ["run"]

STEP = 0.3  # seconds between two looks; a file that grew since the last one is still being written


def run(args: argparse.Namespace, command: Callable[[argparse.Namespace], int]) -> int:
    """Runs the command on each capture that is there, and again on each that is new or has changed. Never ends by itself."""
    if args.capture == "-":
        raise HushedError("standard input is read once", where="--watch", remedy="name a file or a folder")
    if not Path(args.capture).exists() and not Path(args.capture).parent.is_dir():
        raise HushedError(
            "the folder of that capture does not exist", where=args.capture, remedy="name a file that will be, or a folder"
        )
    seen: dict[str, tuple[int, int]] = {}
    done: dict[str, tuple[int, int]] = {}
    asked = _ends()
    say(f"watching {args.capture}; Ctrl-C ends it")
    while True:
        if asked:
            raise KeyboardInterrupt
        for path in _there(args.capture, bool(args.raw)):
            now = stamp(path)
            if now == seen.get(path) and now != done.get(path) and now[0] > 0:
                done[path] = now
                _again(args, command, path)
            seen[path] = now
        time.sleep(STEP)


def _ends() -> list[int]:
    """Ctrl-C, noted as well as raised: raised amid what the interpreter does by itself it is lost, and the watch would go on."""
    asked: list[int] = []

    def note(number: int, frame: object) -> None:
        asked.append(number)
        raise KeyboardInterrupt

    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGINT, note)
    return asked


def _there(name: str, raw: bool) -> list[str]:
    """The captures that there are by now."""
    try:
        return captures_in([name], raw)
    except HushedError:
        return []


def _again(args: argparse.Namespace, command: Callable[[argparse.Namespace], int], path: str) -> None:
    own = copy.copy(args)
    own.capture = path
    sys.stdout.write(f"\n── {path}, {time.strftime('%H:%M:%S')}\n")
    sys.stdout.flush()
    try:
        command(own)
    except HushedError as error:  # the next one may be better
        say(str(error))
    sys.stdout.flush()
