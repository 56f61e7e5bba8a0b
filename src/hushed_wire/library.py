"""What the package offers to programs: captures, rigs, and what can be asked of them. docs/library.md shows it at work.

Nothing here prints or ends the process; what cannot be done is a `HushedError` that names place and remedy.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from fractions import Fraction
from pathlib import Path

from .comparison import Comparison, Side, side_of_reading, side_of_sequence
from .comparison import compare as _compare
from .diagnosis import Diagnosis
from .diagnosis import diagnose as _diagnose
from .errors import HushedError
from .part import Part, load
from .part.glass import Glass
from .rig import Options, Reading, Rig, Setup, assume, load_rig
from .rig import decode as _decode
from .rig.rehearse import rehearse as _rehearse
from .rig.vocabulary import parse_mishap
from .trace import Trace
from .trace.files import open_capture
from .units import parse

__all__ = ["compare", "decode", "diagnose", "guess_rig", "load_part", "load_rig", "read_capture", "rehearse", "screen"]


def read_capture(
    path: str | Path,
    *,
    raw: int | str | None = None,
    rate: str | Fraction | None = None,
    threshold: float | None = None,
    hysteresis: float | None = None,
) -> Trace:
    """A capture from a file: VCD, CSV, NPZ, or raw samples, gzipped or not.

    raw: of raw samples the bytes of one, or lines in packed bits ("2bit"). rate: samples a second ("24MHz"), where the file does not say.
    threshold, hysteresis: volts, for files in volts. Raises HushedError for what cannot be read.
    """
    per_second = parse(rate, "Hz", "rate") if isinstance(rate, str) else rate
    return open_capture(path, raw=raw, rate=per_second, threshold=threshold, hysteresis=hysteresis).read()


def guess_rig(
    capture: Trace, *, bus: str = "", lines: Mapping[str, str] | None = None, part: str = "", panel: str = "", clock: str = ""
) -> Setup:
    """A rig worked out from the names of a capture's lines and its traffic; `assumed` says what was taken for granted.

    bus: its kind. lines: role to line. part, panel: of the catalog. clock: as in a rig. All are worked out where they are not given.
    Raises HushedError where nothing tells which lines are the bus.
    """
    return assume(capture, Options(bus, dict(lines or {}), part, panel, clock))


def decode(capture: Trace, rig: Rig | Setup) -> Reading:
    """What a capture says by a rig: transfers of every bus (`channels`), commands of every display (`devices`).

    Raises HushedError where the capture has the lines of none of the rig's buses.
    """
    return rig.read(capture) if isinstance(rig, Setup) else _decode(capture, rig)


def screen(capture: Trace | Reading, rig: Rig | Setup | None = None, at: float | None = None) -> dict[str, Glass]:
    """What each display shows, by its name. rig: of a capture that is not decoded yet. at: seconds, the end where not given.

    Raises HushedError where a capture comes without a rig, or `at` is beside it.
    """
    if isinstance(capture, Trace):
        if rig is None:
            raise HushedError("a capture alone does not tell what hangs on it", remedy="give the rig, too: load_rig or guess_rig")
        capture = decode(capture, rig)
    trace = capture.trace
    when = None if at is None else round(Fraction(at) / trace.tick)
    if when is not None and not trace.start <= when <= trace.end:
        span = f"{trace.seconds(trace.start):g} to {trace.seconds(trace.end):g} s"
        raise HushedError(f"{at:g} s is beside the capture", where="at", remedy=f"it lasts from {span}")
    return {device.device.name: device.glass(when) for device in capture.devices if device.shows}


def diagnose(capture: Trace, rig: Rig | Setup) -> Diagnosis:
    """What is wrong with a capture, the most likely cause first in `findings`.

    Raises HushedError where the capture has the lines of none of the rig's buses.
    """
    return _diagnose(capture, rig if isinstance(rig, Setup) else Setup(rig))


def compare(a: Reading | str | Path, b: Reading | str | Path, rig: Rig | None = None, rig_b: Rig | None = None) -> Comparison:
    """Whether two drivers do the same: `same` by level, `differences` with what matters, `holds()`.

    a, b: a capture that is decoded, or a sequence file. rig, rig_b: of sequences; that of the first will do for both.
    Raises HushedError for a sequence without a rig, and where a side is for no display.
    """
    return _compare(_side(a, rig), _side(b, rig_b or rig))


def _side(given: Reading | str | Path, rig: Rig | None) -> Side:
    if isinstance(given, Reading):
        return side_of_reading("", given)
    if rig is None:
        raise HushedError("a sequence alone does not tell what it is for", where=str(given), remedy="give the rig, too: load_rig")
    from .rig.clocks import clocks_of
    from .sequence import expand, parse_file
    from .sequence.examine import examine

    targets = [rig.target(device) for device in rig.device]
    steps = expand(parse_file(Path(given)), targets, Path(given).parent)
    return side_of_sequence(str(given), examine(steps, targets, *clocks_of(rig)).steps, targets)


def rehearse(
    sequence: str | Path,
    rig: Rig,
    *,
    mishaps: Sequence[str] = (),
    clock: str = "",
    rate: str = "",
    seed: int = 0,
) -> Trace:
    """The capture that a sequence file makes on a rig.

    mishaps: what goes wrong on the way, as after `--mishap`. clock: of the bus, the rig's where not given. rate: samples a second, 50 a
    clock where not given. seed: of what is left to chance. Raises HushedError for what cannot be sent or does not exist.
    """
    trace, _ = _rehearse(
        Path(sequence),
        rig,
        mishaps=[parse_mishap(text) for text in mishaps],
        clock=parse(clock, "Hz", "clock") if clock else None,
        rate=parse(rate, "Hz", "rate") if rate else None,
        seed=seed,
    )
    return trace


def load_part(name: str) -> Part:
    """A part of the catalog that is in use; raises HushedError with the nearest names."""
    return load(name)
