"""Findings: one fault each, with a code from a closed table, the evidence and the remedy.

A code names a cause that somebody can act on. The table fixes its severity, so that a script may rely on it.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

__all__ = ["CODES", "SEVERITIES", "SIGHTS", "Finding"]

SEVERITIES = ("note", "warning", "fault")  # ascending
SIGHTS = ("blank", "blocks", "dim", "shifted", "mirrored", "garbled", "flicker", "flicker-on-camera-only")  # what a person sees
CONFIDENCES = ("possible", "likely", "certain")  # ascending

# code: (severity, what it means in one clause)
CODES: dict[str, tuple[str, str]] = {
    "capture.undersampled": ("fault", "the sample rate is too low for the clock on the wires"),
    "capture.silent": ("fault", "nothing moved on the bus lines during the capture"),
    "capture.cut-short": ("warning", "the file ends before the capture does"),
    "capture.unlike-rig": ("warning", "the traffic is not what the rig describes"),
    "capture.clipped-start": ("note", "the capture starts in the middle of traffic"),
    "capture.unknown-levels": ("note", "the capture has stretches whose level is not known"),
    "rig.missing-role": ("fault", "a bus lacks a line that it cannot do without"),
    "rig.doubled-pin": ("fault", "one pin of the driver carries two signals"),
    "rig.address-clash": ("fault", "two devices of one bus have one address"),
    "rig.level-mismatch": ("fault", "the levels of driver and part do not meet"),
    "rig.over-voltage": ("fault", "a pin gets more volts than it takes"),
    "rig.pin-scheme": ("warning", "pin numbers fit another numbering than they are read by"),
    "rig.pull-up": ("warning", "the pull-up resistors do not fit supply, capacitance and speed"),
    "rig.clock-limit": ("warning", "the clock that is meant is above what a part allows"),
    "rig.open-supply": ("warning", "a supply or ground pin is left open"),
    "rig.pin-function": ("warning", "a pin cannot do what it is used for, or a module sits the wrong way round"),
    "rig.overcurrent": ("warning", "the devices draw more than their supply gives"),
    "wiring.swapped-lines": ("fault", "two lines are exchanged"),
    "wiring.stuck-line": ("fault", "a line never leaves one level"),
    "wiring.reversed-bus": ("fault", "the data lines run the other way round"),
    "wiring.joined-lines": ("fault", "two lines touch"),
    "wiring.glitches": ("warning", "short pulses that are none of the driver's disturb a line"),
    "wiring.loose-contact": ("warning", "a contact opens now and then"),
    "wiring.missing-pullup": ("fault", "an open-drain line has no pull-up"),
    "wiring.weak-pullup": ("warning", "a pull-up is too large for the line's capacitance and the clock"),
    "wiring.level-mismatch": ("warning", "a line's levels are not those that the part takes for low and high"),
    "wiring.contention": ("fault", "two drivers hold a line at once"),
    "wiring.adapter-pins": ("fault", "the expander's outputs are wired to the display in another way"),
    "capture.noisy-threshold": ("warning", "noise crosses the threshold, so edges appear that are none"),
    "frame.bit-slip": ("fault", "a clock edge is lost or one too many, so words are out of step"),
    "frame.nibble-slip": ("fault", "halves of bytes are out of step on a bus of four data lines"),
    "frame.select-broken": ("fault", "the select ends within a word, or never"),
    "frame.data-refused": ("fault", "a device that answers does not acknowledge what it is sent"),
    "frame.missing-stop": ("warning", "writes follow one another without a STOP"),
    "address.neighbour": ("fault", "the driver calls the other strap's address"),
    "address.reserved": ("warning", "the driver calls a reserved address"),
    "timing.pulse-short": ("fault", "a pulse or a cycle is shorter than the part needs"),
    "timing.setup-short": ("fault", "a line is set too late ahead of the edge that takes it"),
    "timing.hold-short": ("fault", "a line changes too soon behind the edge that takes it"),
    "timing.bus-hung": ("fault", "a device holds the bus low"),
    "setup.wrong-controller": ("fault", "the set-up is that of a sister controller"),
    "picture.column-offset": ("warning", "the picture is some columns beside the glass"),
    "picture.row-offset": ("warning", "the picture is some rows beside the glass"),
    "picture.cell-off-by-one": ("warning", "text is written one cell beside its place"),
    "wiring.inverted-line": ("fault", "a line has the opposite level of what it should"),
    "frame.wrong-spi-mode": ("fault", "the SPI mode of the driver is not the part's"),
    "frame.bit-order": ("fault", "bits come with the wrong end first"),
    "frame.dc-stuck": ("fault", "the line that tells data from commands never moves"),
    "frame.truncated-word": ("fault", "transfers end in mid-word"),
    "address.no-answer": ("fault", "no device acknowledges the address"),
    "address.shifted": ("fault", "the driver uses the 8-bit form of the address as a 7-bit one"),
    "timing.wait-short": ("fault", "a command comes before the part is done with the one ahead of it"),
    "timing.reset-short": ("fault", "the reset pulse, or the rest behind it, is too short"),
    "timing.power-on-short": ("fault", "the first command comes too soon after power-on"),
    "timing.clock-too-fast": ("warning", "the bus clock is above what the part allows"),
    "timing.ghosting": ("fault", "a row of LEDs shows another row's picture faintly"),
    "timing.flicker": ("warning", "the display is refreshed so slowly that the eye sees it"),
    "timing.uneven-rows": ("warning", "rows of LEDs are on for different times, so they differ in brightness"),
    "setup.display-off": ("fault", "the display is switched off"),
    "setup.charge-pump-off": ("fault", "the panel's supply is made on the chip and is not switched on"),
    "setup.wrong-geometry": ("fault", "the set-up belongs to a panel of another size or wiring"),
    "setup.shutdown": ("fault", "the part sleeps or is shut down"),
    "setup.test-mode": ("fault", "the part is in its test mode"),
    "setup.scan-limit": ("fault", "more or fewer digits are scanned than the panel has"),
    "setup.decode-mode": ("fault", "digits are decoded by the part and sent as segments, or the other way round"),
    "setup.backlight-off": ("fault", "the backlight's line is off"),
    "setup.decimal-for-hex": ("fault", "a number was written in decimal where its digits were meant as hex"),
    "setup.step-missing": ("fault", "a command that the part needs was never sent"),
    "setup.interface-width": ("fault", "the part takes another number of data lines than are wired"),
    "setup.pixel-format": ("fault", "pixels are taken in another format than they are sent in"),
    "setup.contrast-low": ("warning", "the contrast is set so low that little can be seen"),
    "setup.step-order": ("warning", "commands come in an order that does not work"),
    "setup.unknown-command": ("warning", "no command of the part starts with that byte"),
    "setup.orientation": ("warning", "the picture comes mirrored, turned or in other colours than the glass needs"),
    "setup.undocumented-value": ("note", "a value that the datasheet does not document"),
    "picture.outside-panel": ("warning", "something is written where the panel shows nothing"),
    "picture.blank": ("warning", "the picture memory holds nothing to see"),
    "picture.partial": ("warning", "only a part of the picture memory was written"),
    "picture.all-traffic-good": ("note", "everything on the wires is right"),
}


@dataclass(slots=True)
class Finding:
    """One fault. `lines` are names in the capture; times in seconds; `evidence` maps a short name to what was measured."""

    code: str
    summary: str
    remedy: str
    confidence: str = "certain"
    device: str | None = None
    lines: list[str] = field(default_factory=list)
    start: float | None = None
    end: float | None = None
    count: int = 1
    evidence: dict[str, Any] = field(default_factory=dict)
    explains: list[str] = field(default_factory=list)

    @property
    def severity(self) -> str:
        """fault, warning or note, from the table of codes."""
        return CODES[self.code][0]

    def rank(self) -> tuple[int, int]:
        """For sorting, the most likely cause first: larger is more urgent."""
        return SEVERITIES.index(self.severity), CONFIDENCES.index(self.confidence)
