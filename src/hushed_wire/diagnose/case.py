"""A case: one capture, the rig it is read by, and what several rules need, each worked out once."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from ..bus import i2c_timing
from ..bus.changes import excerpt
from ..bus.roles import Fit, fit_i2c
from ..bus.words import END
from ..rig import DeviceReading, Reading, Rig, lines_of, read_with
from ..rig.schema import the_bus
from ..trace import Edges, Trace

__all__ = ["Case"]


@dataclass
class Case:
    """trace: the capture. rig: as given or assumed. assumed: what was assumed, by key (empty when a rig was given)."""

    trace: Trace
    rig: Rig
    assumed: dict[str, str] = field(default_factory=dict)
    ruled_out: list[dict[str, str]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.bus = the_bus(self.rig)
        self.scl, self.sda = lines_of(self.trace, self.bus)

    @cached_property
    def reading(self) -> Reading:
        """The capture as wired."""
        return read_with(self.trace, self.rig, self.bus, self.scl, self.sda)

    @cached_property
    def paged(self) -> list[DeviceReading]:
        """Devices with a paged memory; what the others were sent is judged by the rules for any bus."""
        return [reading for reading in self.reading.devices if reading.part.memory.kind == "paged"]

    @cached_property
    def unfinished(self) -> bool:
        """The capture ends in the middle of traffic, so what is missing may only come later."""
        marks = self.reading.decoded.marks
        cut = any(note.code == "capture.cut-short" for note in self.trace.notes)
        return cut or (len(marks) > 0 and marks.kind[-1] == END)

    @cached_property
    def columns(self) -> dict[str, i2c_timing.Column]:
        """Measured times of every symbol."""
        return i2c_timing.measure(self.trace, self.scl, self.sda)

    @cached_property
    def edges(self) -> dict[str, Edges]:
        """The changes of SCL and SDA."""
        return {"scl": self.trace.edges(self.scl), "sda": self.trace.edges(self.sda)}

    @cached_property
    def as_wired(self) -> Fit:
        """How much sense the capture makes as wired (on an excerpt)."""
        return fit_i2c(excerpt(self.trace), self.scl, self.sda)

    @cached_property
    def exchanged(self) -> Fit:
        """How much sense it makes with clock and data exchanged (on an excerpt)."""
        return fit_i2c(excerpt(self.trace), self.sda, self.scl)

    @cached_property
    def clock(self) -> float | None:
        """Hertz: the mean over bits that follow one another without a pause; None where there are none."""
        periods = self.columns["fSCL"].value
        if not len(periods):
            return None
        steady = periods[periods <= 1.5 * np.median(periods)]
        return 1.0 / (float(steady.mean()) * float(self.trace.tick))

    @cached_property
    def samples_a_clock(self) -> float | None:
        """Samples in one clock period, None where nothing is clocked."""
        rises = self.edges["scl"].times[self.edges["scl"].level == 1]
        steps = np.diff(rises)
        if len(steps) < 8:
            return None
        return float(np.median(steps)) / self.trace.resolution()

    def names(self, *roles: str) -> list[str]:
        """The capture's names of these roles."""
        return [self.trace.names[{"scl": self.scl, "sda": self.sda}[role]] for role in roles]

    def seconds(self, ticks: int) -> float:
        """Ticks in seconds."""
        return self.trace.seconds(ticks)

    def rule_out(self, code: str, because: str) -> None:
        """Notes a cause that was looked for and is not there."""
        self.ruled_out.append({"code": code, "because": because})
