"""Options for live links: which one, and what happens on the desk."""

from __future__ import annotations

import argparse
import re
from typing import Any

from ..errors import HushedError

__all__ = ["add_link", "open_link", "stand_in"]


def add_link(parser: Any) -> None:
    """Which link, and what happens on the desk."""
    parser.add_argument(
        "--link",
        metavar="NAME",
        help="desk, a bus of this machine like i2c-1, a probe on a port like /dev/ttyACM0 or COM5, or stand-in (default: the desk)",
    )
    parser.add_argument("--mishap", action="append", default=[], metavar="WHAT:DETAIL",
                        help="on the desk: refuse:DEVICE, strap:DEVICE,ADDRESS, flaky:DEVICE,PERCENT, stuck:LINE,low")  # fmt: skip
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="of what is random on the desk (default: 0)")


def open_link(args: argparse.Namespace, rig: Any, bus: Any = None) -> Any:
    """The link that --link names; the desk by default. bus: the rig's bus that is meant, its first I2C bus by default."""
    name = args.link or "desk"
    kind = bus.kind if bus is not None else "i2c"
    if name in ("desk", "stand-in"):
        from ..link.desk import open_desk

        if rig is None:
            who, where = ("the desk", "--link desk") if name == "desk" else ("the stand-in for a probe", "--link stand-in")
            raise HushedError(
                f"{who} needs a rig: its devices are what answers",
                where=where if args.link else "",
                remedy="add --rig FILE, or name a bus with --link",
            )
        from ..rig.vocabulary import parse_mishap, share_of

        acts = [parse_mishap(text) for text in args.mishap]
        garble = max((share_of(act.detail) for act in acts if act.kind == "garble" and name == "stand-in"), default=0.0)
        acts = [act for act in acts if act.kind != "garble" or name != "stand-in"]
        desk = open_desk(rig, bus, acts, args.seed)
        if name == "stand-in" and kind != "i2c":
            raise HushedError("a probe knows I2C only", where="--link stand-in", remedy="take --link desk")
        return desk if name == "desk" else stand_in(desk, garble, args.seed)
    if args.mishap:
        raise HushedError("mishaps happen on the desk only", where="--mishap", remedy="leave it out, or take --link desk")
    if name.startswith(("serial:", "/dev/tty", "/dev/pts/", "/dev/serial/", "/dev/cu.")) or re.fullmatch(r"(?i)com\d+", name):
        from ..link.serial_probe import open_serial

        if kind != "i2c":
            raise HushedError(
                "a probe on a serial port knows I2C only", where="--link", remedy="take spi-0.0 or gpiochip0, or the desk"
            )
        return open_serial(name.removeprefix("serial:"))
    if kind != "i2c":
        from ..link.pins import open_pins

        return open_pins(name, rig, bus, args.rig)
    from ..link.i2c_dev import open_i2c_dev

    return open_i2c_dev(name)


def stand_in(desk: Any, garble: float, seed: int) -> Any:
    """The desk behind a serial line: a stand-in for a probe on a pseudo-terminal."""
    from ..link.serial_probe import open_serial
    from ..link.stand_in import StandIn

    link: Any = open_serial(StandIn(desk, garble, seed).path)
    link.desk = desk
    return link
