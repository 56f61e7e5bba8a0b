"""The demo's captures: each is a sequence on its rig, healthy or (at the front desk) with a mishap, from a fixed seed."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from importlib.resources import files
from pathlib import Path

import numpy as np

from ..part import Catalog
from ..rig import decode, load_rig
from ..rig.rehearse import rehearse
from ..rig.vocabulary import parse_mishap
from ..trace.files import encode_capture

__all__ = ["CAPTURES", "FILES", "Recording", "build"]

PLACES = (
    "pump-room",
    "wheelhouse",
    "handheld",
    "engine-room",
    "gate-keeper",
    "gate-signal",
    "led-sign",
)  # each a rig and a sequence
FILES = (
    "front-desk.toml", "tide.hush", "tide-new.hush", "tide.pbm", "gate.png", "old-box.hush",
    *(f"{place}{end}" for place in PLACES for end in (".toml", ".hush")),
)  # fmt: skip
HEALTHY = (
    "pump-room",
    "wheelhouse",
    "handheld",
    "engine-room",
    "gate-signal",
    "led-sign",
)  # captured as they should be; a colour frame would be 30 MB
OLD_BOX = ("old-box-1", "old-box-2", "old-box-3")  # of a display that nobody knows; what is true of it does not go to users
SEED = 1706


@dataclass(frozen=True)
class Recording:
    """A capture of the demo. story: what happened, in a sentence. finds: the code that diagnosis has to name."""

    name: str
    story: str
    finds: str
    mishaps: tuple[str, ...] = ()
    rate: int = 20_000_000
    volts: bool = False


CAPTURES = (
    Recording("healthy.vcd", "the tide display as it should be", "picture.all-traffic-good"),
    Recording("healthy-volts.csv.gz", "the same in volts", "picture.all-traffic-good", rate=10_000_000, volts=True),
    Recording("swapped.vcd", "the two bus wires were exchanged at the plug", "wiring.swapped-lines", ("swap:SCL,SDA",)),
    Recording("held-low.vcd", "SDA never comes up", "wiring.stuck-line", ("stuck:SDA,low",)),
    Recording("nobody-there.vcd", "the display has no supply", "address.no-answer", ("refuse:tide",)),
    Recording("shifted.vcd", "the driver was given the address from the module's label", "address.shifted", ("double-address:tide",)),
    Recording("refused.vcd", "the display does not take every byte: its supply dips", "frame.data-refused", ("busy:tide,4",)),
    Recording("too-fast.vcd", "somebody tried a faster clock", "timing.clock-too-fast", ("fast-clock:1MHz",)),
    Recording("never-on.vcd", "the driver never switches the display on", "setup.display-off", ("drop-step:display",)),
    Recording("no-pump.vcd", "the set-up was copied from a panel with its own supply", "setup.charge-pump-off", ("drop-step:charge-pump",)),
    Recording("other-panel.vcd", "the set-up was copied from a 128x32 panel", "setup.wrong-geometry",
              ("alter-step:multiplex-ratio.lines=32", "alter-step:com-pins.wiring=sequential")),
    Recording("half-picture.vcd", "memory is not cleared, and half of the picture is sent", "picture.partial",
              ("drop-step:data", "shorten:picture,512")),
    Recording("blank.vcd", "memory is cleared, and the picture never comes", "picture.blank", ("drop-step:picture",)),
    Recording("too-slow-sampling.vcd", "the capture was sampled at 1 MHz", "capture.undersampled", rate=1_000_000),
    Recording("late.vcd", "the capture was started on a running display", "capture.clipped-start", ("late-start:31ms",)),
    Recording("quiet.vcd", "the driver never gets to its display code", "capture.silent", ("stuck:SCL,high", "stuck:SDA,high")),
)  # fmt: skip


def build() -> Iterator[tuple[str, bytes]]:
    """Name and contents of every file of the demo, captures made afresh from rig and sequence."""
    folder = files("hushed_wire.demo").joinpath("files")
    for name in FILES:
        yield name, folder.joinpath(name).read_bytes()
    from importlib.resources import as_file

    with as_file(folder) as here:
        rig = load_rig(here / "front-desk.toml")
        for recording in CAPTURES:
            trace, waveforms = rehearse(
                here / "tide.hush",
                rig,
                mishaps=[parse_mishap(text) for text in recording.mishaps],
                rate=Fraction(recording.rate),
                seed=SEED,
                in_volts=recording.volts,
            )
            comment = f"Skerry Haven, front desk: {recording.story}"
            yield recording.name, b"".join(encode_capture(recording.name, trace, waveforms, comment))
        for place in HEALTHY:
            trace, _ = rehearse(here / f"{place}.hush", load_rig(here / f"{place}.toml"), seed=SEED)
            yield f"{place}.vcd", b"".join(encode_capture(f"{place}.vcd", trace, None, f"Skerry Haven, {place}: as it should be"))
        yield from _old_box(here / "old-box")


def _old_box(folder: Path) -> Iterator[tuple[str, bytes]]:
    """Captures of a display without a datasheet, on lines that are named by their pins, and what was on its glass in the first of them."""
    with Catalog([folder / "parts"]).in_use():
        rig = load_rig(folder / "rig.toml")
        for name in OLD_BOX:
            trace, _ = rehearse(folder / f"{name}.hush", rig, rate=Fraction(10_000_000), seed=SEED)
            yield f"{name}.vcd", b"".join(encode_capture(f"{name}.vcd", trace, None, "Skerry Haven: out of the old control box"))
            if name == OLD_BOX[0]:
                lit = decode(trace, rig).devices[0].glass().pattern
                head = f"P4\n{lit.shape[1]} {lit.shape[0]}\n".encode()
                yield "old-box.pbm", head + np.packbits(lit == 0, axis=1).tobytes()  # in this format 1 is black
