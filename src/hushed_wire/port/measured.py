"""What an emitted driver takes, as its compiler makes it: run where it is there, in a folder of its own that goes again."""

from __future__ import annotations

import re
import shlex
import shutil
import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path

from ..errors import HushedError
from .targets import Target

__all__ = ["Measured", "measured"]

Measured = tuple[int, int]  # bytes of flash (code and constants), and of RAM
SECONDS = 120  # a compiler that takes longer hangs
RELOCATABLE = re.compile(r"^A (\w+) size ([0-9A-F]+) ", re.MULTILINE)  # areas of an object file, in sdcc's own form
IN_FLASH, IN_RAM = (
    {"CODE", "CSEG", "CONST", "HOME", "GSINIT", "XINIT", "INITIALIZER"},
    {"DATA", "DSEG", "XSEG", "ISEG", "BSEG", "INITIALIZED", "XISEG", "OSEG"},
)


def measured(files: Mapping[str, str], name: str, target: Target, hertz: int) -> Measured:
    """files: name and text. name: of the driver's own source, without its ending. Raises HushedError where the compiler is not there, or refuses."""
    words = shlex.split(target.compile.format(name=name, hertz=hertz))
    if not target.size:
        raise HushedError(f"there is nothing to measure: {target.title}", where="--measure", remedy="leave it out")
    for tool in (words[0], *([] if target.size == "sdcc" else [target.size])):
        if shutil.which(tool) is None:
            raise HushedError(
                f"'{tool}' is not here",
                where="--measure",
                remedy=f"install it, or leave --measure out; on Debian: {PACKAGES.get(tool, tool)}",
            )
    with tempfile.TemporaryDirectory() as folder:
        for own, text in files.items():
            (Path(folder) / own).write_text(text, encoding="ascii")
        made = _run(words, folder)
        if made.returncode:
            said = made.stderr.decode(errors="replace").strip().splitlines()
            raise HushedError(
                f"{words[0]} refuses the driver: {said[0] if said else 'without a word'}",
                where="--measure",
                remedy="report it: it is a defect",
            )
        if target.size == "sdcc":
            return _areas((Path(folder) / f"{name}.rel").read_text(errors="replace"))
        told = _run([target.size, f"{name}.o"], folder).stdout.decode(errors="replace").splitlines()
        code, data, zeroed = (int(word) for word in told[1].split()[:3])
    return code + data, data + zeroed


PACKAGES = {"avr-gcc": "gcc-avr avr-libc", "sdcc": "sdcc", "arm-none-eabi-gcc": "gcc-arm-none-eabi", "cc": "gcc"}


def _run(words: list[str], folder: str) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run(words, cwd=folder, capture_output=True, check=False, timeout=SECONDS)


def _areas(text: str) -> Measured:
    """The sizes of an object file's areas, added up."""
    sizes = [(area, int(size, 16)) for area, size in RELOCATABLE.findall(text)]
    return sum(size for area, size in sizes if area in IN_FLASH), sum(size for area, size in sizes if area in IN_RAM)
