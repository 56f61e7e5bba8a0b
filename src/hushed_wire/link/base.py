"""Links: live buses within reach. What every link can do, and the ways in which it fails, each with its own remedy."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from ..errors import HushedError

if TYPE_CHECKING:
    from ..bus.moves import Move

__all__ = ["BusHeld", "Link", "LinkLost", "LinkUnusable", "Refused", "WordLink"]


class LinkUnusable(HushedError):
    """The link cannot be opened or lacks what is asked: absent, disabled, not permitted, busy."""


class LinkLost(HushedError):
    """The link stopped working in the middle: unplugged, time-out, I/O error."""


class BusHeld(HushedError):
    """A line of the bus is held low, so that nothing can be sent."""


class Refused(Exception):
    """A device did not acknowledge. position: 0 for its address, else the number of the byte behind it."""

    def __init__(self, address: int, position: int) -> None:
        super().__init__(f"{address:#04x} refused byte {position}" if position else f"{address:#04x} did not answer")
        self.address, self.position = address, position


class Link(Protocol):
    """A live I2C bus."""

    name: str
    quick: bool  # whether an address can be sent alone, to probe it
    room: int  # bytes that fit into one transfer

    def check(self) -> None:
        """Raises BusHeld where the link can see that a line is held; does nothing where it cannot."""

    def write(self, address: int, data: bytes) -> None:
        """One write transaction; raises Refused, LinkLost or BusHeld. Empty data: the address only."""

    def read(self, address: int, count: int) -> bytes:
        """One read transaction."""

    def wait(self, seconds: float) -> None:
        """Rests."""

    def clock(self) -> float:
        """Seconds since some moment, as the link counts them."""

    def close(self) -> None:
        """Lets go of the link."""


class WordLink(Protocol):
    """A live bus that is not I2C, or the pins that make one."""

    name: str

    def check(self) -> None:
        """Raises where the link can see that nothing will work."""

    def move(self, move: Move) -> None:
        """Moves the words of one transfer, and sets the lines beside the bus ahead of it; raises LinkLost."""

    def wait(self, seconds: float) -> None:
        """Rests."""

    def clock(self) -> float:
        """Seconds since some moment, as the link counts them."""

    def close(self) -> None:
        """Lets go of the link."""
