"""Pin maps: a driver's pins by position, GPIO number, name or the label printed on a board; what each can do.

A map is a TOML file: `header-40` ships, others are named by their path, taken from the rig's folder.
"""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import msgspec

from ..errors import HushedError, nearest
from ..small_file import small_text

__all__ = ["Pin", "PinMap", "load_pin_map"]

SHIPPED = Path(__file__).parent / "pins"


class Pin(msgspec.Struct, forbid_unknown_fields=True):
    """One pin. functions: like "i2c1 sda". supply: volts it gives. pull_up: a resistor that is soldered to it. position is filled in."""

    name: str = ""
    gpio: int | None = None
    functions: list[str] = []
    supply: str = ""
    pull_up: str = ""
    ground: bool = False
    position: str = ""

    @property
    def label(self) -> str:
        """As a person finds it: position and name."""
        name = self.name or (f"GPIO{self.gpio}" if self.gpio is not None else "")
        return f"pin {self.position} ({name})" if name else f"pin {self.position}"


class PinMap(msgspec.Struct, forbid_unknown_fields=True):
    """A driver's pins by position. aliases: label to position or GPIO name."""

    title: str
    pins: dict[str, Pin]
    volts: str = ""
    aliases: dict[str, str] = {}

    def find(self, pin: str | int, scheme: str = "") -> Pin:
        """A pin by `GPIO3`, `pin 5`, its name or alias; a bare number by scheme: "header" or "gpio" (the default).

        Raises HushedError with the nearest names.
        """
        text = self.aliases.get(str(pin), str(pin)).strip()
        wanted = re.fullmatch(r"(?i)(gpio|pin)?[ _-]?(\d+)", text)
        if wanted:
            kind = (wanted[1] or {"header": "pin"}.get(scheme, "gpio")).lower()
            number = wanted[2]
            if kind == "pin" and number in self.pins:
                return self.pins[number]
            if kind == "gpio":
                for entry in self.pins.values():
                    if entry.gpio == int(number):
                        return entry
            raise HushedError(f"{self.title} has no {'position' if kind == 'pin' else 'GPIO'} {number}", remedy="see its pin map")
        for entry in self.pins.values():
            if entry.name.lower() == text.lower():
                return entry
        known = [*self.aliases, *(entry.name for entry in self.pins.values() if entry.name)]
        raise HushedError(f"{self.title} has no pin '{text}'", remedy=nearest(text, dict.fromkeys(known)))


def load_pin_map(name: str, folder: Path) -> PinMap:
    """A shipped map by name, or a file; raises HushedError naming file, key and reason."""
    path = SHIPPED / f"{name}.toml"
    if not path.exists():
        path = folder / name
    if not path.is_file():
        shipped = [entry.stem for entry in SHIPPED.glob("*.toml")]
        raise HushedError(f"there is no pin map '{name}'", remedy=f"{nearest(name, shipped)}, or the path of your own")
    try:
        found = msgspec.convert(tomllib.loads(small_text(path)), PinMap)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise HushedError(f"not TOML: {error}", where=str(path), remedy="mend the file at that place") from error
    except msgspec.ValidationError as error:
        what, _, key = str(error).partition(" - at ")
        raise HushedError(
            f"{key.strip('`$.') or 'the file'}: {what}", where=str(path), remedy="compare it with docs/rig.md"
        ) from error
    taken: dict[int, str] = {}
    for position, pin in found.pins.items():
        pin.position = position
        if pin.gpio is not None:
            if pin.gpio in taken:
                what = f"pins.{position}: GPIO{pin.gpio} is at position {taken[pin.gpio]} too"
                raise HushedError(what, where=str(path), remedy="each GPIO has one position")
            taken[pin.gpio] = position
    return found
