"""Mishaps: the one vocabulary of what can be done on purpose to wires, drivers, devices and sequences.

They name what is done, never what a finding is called. `rehearse` acts on those whose stage it has, the desk on those that
devices and wires can suffer.
"""

from __future__ import annotations

from dataclasses import dataclass

from ..errors import HushedError, nearest

__all__ = ["MISHAPS", "Mishap", "address_of", "parse_mishap", "share_of"]


@dataclass(frozen=True)
class Mishap:
    """One thing done on purpose. kind: key in MISHAPS. detail: what comes behind the colon."""

    kind: str
    detail: str


# kind: (stage, how it is written, what happens)
MISHAPS: dict[str, tuple[str, str, str]] = {
    "swap": ("wires", "swap:LINE,LINE", "two wires are exchanged between driver and devices, so nothing answers"),
    "stuck": ("wires", "stuck:LINE,low", "a line never leaves a level"),
    "spike": (
        "wires",
        "spike:LINE,COUNT",
        "pulses of 15 to 35 ns on a line; a third detail is another width, like spike:SCL,20,150ns",
    ),
    "join": ("wires", "join:LINE,LINE", "two wires touch; low wins"),
    "invert": ("wires", "invert:LINE", "something on the way turns a line's level over"),
    "reverse": ("wires", "reverse:LINE,LINE,…", "a connector with these wires sits the other way round"),
    "lag": ("wires", "lag:LINE,TIME", "a line's edges come later"),
    "slow-edge": ("wires", "slow-edge:LINE,TIME", "a line that rises slowly gets high later"),
    "drop-clock": ("wires", "drop-clock:LINE,COUNT", "so many of a line's pulses never arrive"),
    "loose": ("wires", "loose:LINE,COUNT", "a contact opens so many times for a moment"),
    "hang": ("wires", "hang:LINE,TIME", "a line is held low from that time on"),
    "pull-up": ("wires", "pull-up:LINE,VALUE", "a line of an open-drain bus has another pull-up (captures in volts)"),
    "high-level": ("wires", "high-level:LINE,VOLTS", "a line only gets up to that level (captures in volts)"),
    "fight": ("wires", "fight:LINE,COUNT", "so many times two drivers hold a line between the levels (captures in volts)"),
    "noise": ("wires", "noise:LINE,VOLTS", "noise on a line (captures in volts)"),
    "late-start": ("wires", "late-start:TIME", "the capture starts later"),
    "refuse": ("devices", "refuse:DEVICE", "a device does not acknowledge its address"),
    "strap": ("devices", "strap:DEVICE,ADDRESS", "a device is strapped to another address than the rig says"),
    "flaky": ("devices", "flaky:DEVICE,PERCENT", "a loose contact: a device misses that share of its calls"),
    "busy": ("devices", "busy:DEVICE,PERCENT", "a device does not acknowledge that share of its data bytes"),
    "slow": ("desk", "slow:DEVICE,TIME", "a device holds the clock for so long in each call"),
    "double-address": ("driver", "double-address:DEVICE", "the driver shifts an address that is shifted already"),
    "call": ("driver", "call:DEVICE,ADDRESS", "the driver calls a device by another address"),
    "no-stop": ("driver", "no-stop:DEVICE", "the driver begins anew where it should stop"),
    "fast-clock": ("driver", "fast-clock:RATE", "the driver clocks at another rate than the rig says"),
    "short-wait": ("driver", "short-wait:PERCENT", "all waits, the parts' own times among them, last only that share"),
    "drop-step": ("steps", "drop-step:NAME", "the driver leaves out all steps of that name"),
    "shorten": ("steps", "shorten:NAME,COUNT", "the driver sends only the first COUNT data bytes of the last such step"),
    "alter-step": ("statements", "alter-step:NAME.FIELD=VALUE", "the driver sends a command with another value"),
    "garble": ("serial line", "garble:PERCENT", "that share of the lines between host and probe arrives spoilt"),
}


def parse_mishap(text: str) -> Mishap:
    """`WHAT:DETAIL`; raises HushedError with the nearest names."""
    kind, colon, detail = text.partition(":")
    if kind not in MISHAPS:
        raise HushedError(f"there is no mishap '{kind}'", where="--mishap", remedy=nearest(kind, MISHAPS))
    if not colon or not detail:
        raise HushedError(f"the mishap '{kind}' needs its detail", where="--mishap", remedy=f"write {MISHAPS[kind][1]}")
    if "," in detail and MISHAPS[kind][1].endswith(":DEVICE"):
        raise HushedError(
            f"'{kind}' takes one device, and '{detail}' is more", where="--mishap", remedy=f"write {MISHAPS[kind][1]}"
        )
    return Mishap(kind, detail)


def address_of(detail: str) -> tuple[str, int]:
    """Device and address of `strap:DEVICE,ADDRESS`."""
    name, _, text = detail.partition(",")
    try:
        address = int(text, 0)
    except ValueError as error:
        raise HushedError(f"'{detail}' is not DEVICE,ADDRESS", where="--mishap", remedy="like strap:tide,0x3C") from error
    if not 0 <= address <= 0x7F:
        raise HushedError(f"{address:#x} is no 7-bit address", where="--mishap", remedy="0x08 to 0x77")
    return name.strip(), address


def share_of(text: str) -> float:
    """A percentage as a share."""
    try:
        percent = float(text.strip().rstrip("%"))
    except ValueError as error:
        raise HushedError(f"'{text}' is not a percentage", where="--mishap", remedy="like flaky:tide,20") from error
    if not 0 <= percent <= 100:
        raise HushedError(f"{percent:g} percent", where="--mishap", remedy="0 to 100")
    return percent / 100
