"""What the emulator traced of a GPIO controller's outputs, as captures, and what the program says of them.

A line that nobody drives is high where a board has a resistor (SDA), else unknown. The emulated controller reads such a line as low, though, so
that the kernel takes every ninth bit for an acknowledge: there, and only there, SDA is shown as the kernel read it. The emulator stamps what happens with the
host's microseconds, so that the order is the kernel's own and the times are not: words are compared, times are not.
"""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

LINE = re.compile(r"(?:\d+@)?(\d+)\.(\d+):pl061_update .*GPIODIR (0x[0-9a-f]+) GPIODATA (0x[0-9a-f]+)")
RESET, SDA, SCL = 5, 6, 7
Change = tuple[int, tuple[str, ...]]  # nanoseconds, levels of all lines


class Ninth:
    """Which bit a bus of I2C is at: `level` is that of SDA as the kernel takes it."""

    def __init__(self) -> None:
        self.scl, self.sda, self.rises = "1", "1", 0
        self.talks = False

    def level(self, scl: str, sda: str) -> str:
        """SDA, "z" where nobody drives it."""
        if self.scl == "1" and scl == "0":  # the next bit begins
            self.rises = 0 if self.rises == 9 else self.rises
        answers = self.talks and (self.rises == 9 or (self.rises == 8 and "0" in (scl, self.scl)))
        shown = sda if sda != "z" else "0" if answers else "1"
        if scl == self.scl == "1" and shown != self.sda:  # START or STOP
            self.talks, self.rises = shown == "0", 0
        if self.scl == "0" and scl == "1" and self.talks:
            self.rises += 1
        self.scl, self.sda = scl, shown
        return shown


def changes_of(trace: Path) -> list[Change]:
    """Levels of the eight lines over time, each change at a moment of its own."""
    out: list[Change] = []
    begun: int | None = None
    ninth = Ninth()
    for line in trace.read_text(errors="replace").splitlines():
        found = LINE.match(line)
        if found is None:
            continue
        now = (int(found[1]) * 10**6 + int(found[2])) * 1000
        begun = now if begun is None else begun
        driven, data = int(found[3], 16), int(found[4], 16)
        levels = [str(data >> bit & 1) if driven >> bit & 1 else "x" for bit in range(8)]
        levels[SCL] = "1" if levels[SCL] == "x" else levels[SCL]
        levels[SDA] = ninth.level(levels[SCL], "z" if levels[SDA] == "x" else levels[SDA])
        if not out or tuple(levels) != out[-1][1]:
            out.append((max(now - begun, out[-1][0] + 10 if out else 0), tuple(levels)))
    return out


def vcd(changes: list[Change]) -> str:
    """As IEEE 1364 writes them."""
    head = ["$timescale 1 ns $end", "$scope module board $end", *(f"$var wire 1 {chr(33 + k)} P{k} $end" for k in range(8))]
    head += ["$upscope $end", "$enddefinitions $end"]
    body: list[str] = []
    was: tuple[str, ...] = ("",) * 8
    first = changes[0][0]
    for now, levels in changes:
        body.append(f"#{now - first}")
        body += [f"{level}{chr(33 + k)}" for k, level in enumerate(levels) if level != was[k]]
        was = levels
    return "\n".join([*head, *body, f"#{changes[-1][0] - first + 1000}", ""])


def parted(changes: list[Change]) -> dict[str, list[Change]]:
    """What was done on the lines: the bus played line by line, by the kernel's SPI, and I2C. A reset begins each of the first two."""
    resets = [k for k in range(1, len(changes)) if changes[k - 1][1][RESET] == "1" and changes[k][1][RESET] == "0"]
    wires = [k for k in range(1, len(changes)) if changes[k][1][6:] != changes[k - 1][1][6:]]
    if len(resets) != 2 or not wires:
        raise SystemExit(f"the trace holds {len(resets)} resets, not two, and {len(wires)} changes on the lines of I2C")
    rest = max(range(resets[0] + 1, resets[1] + 1), key=lambda k: changes[k][0] - changes[k - 1][0])
    return {"gpio": changes[:rest], "spi": changes[rest : wires[0]], "i2c": changes[wires[0] - 1 :]}


def decoded(trace: Path, folder: Path, program: list[str]) -> str:
    """The captures are written beside the trace."""
    here = Path(__file__).parent
    demo = here.parent.parent / "src" / "hushed_wire" / "demo" / "files"
    for name, part in parted(changes_of(trace)).items():
        (folder / f"{name}.vcd").write_text(vcd(part))
    for name in ("handheld.hush", "tide.hush", "tide.pbm"):
        (folder / name).write_bytes((demo / name).read_bytes())
    out = "The outputs of the GPIO controller, as the emulator traced them:\n\n"
    for words, wanted in (
        (["compare", "gpio.vcd", "handheld.hush", "--rig", here / "pins.toml"], r"words +same +833"),
        (["compare", "spi.vcd", "handheld.hush", "--rig", here / "pins.toml"], r"words +same +833"),
        (["compare", "i2c.vcd", "tide.hush", "--rig", here / "i2c-pins.toml"], r"words +same +2,"),
    ):
        done = subprocess.run([*program, *map(str, words)], cwd=folder, capture_output=True, text=True, check=False)
        shown = " ".join(word.name if isinstance(word, Path) else word for word in words)
        out += f"$ hushed-wire {shown}\n{done.stdout}{done.stderr}(status {done.returncode})\n"
        out += (
            ""
            if done.returncode == 0 and re.search(wanted, done.stdout)
            else f"WRONG: status {done.returncode}, or no '{wanted}'\n"
        )
        out += "\n"
    return out
