"""Two drivers held beside one another: what each told its displays, aligned, judged by the parts' own rules."""

from typing import TYPE_CHECKING

from ..lazy import exports

if TYPE_CHECKING:
    from .outcome import Comparison, compare
    from .sides import Side, side_of_bytes, side_of_reading, side_of_sequence

__all__ = ["Comparison", "Side", "compare", "side_of_bytes", "side_of_reading", "side_of_sequence"]

__getattr__ = exports(
    __name__,
    {
        "outcome": ("Comparison", "compare"),
        "sides": ("Side", "side_of_bytes", "side_of_reading", "side_of_sequence"),
    },
)
