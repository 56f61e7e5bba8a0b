"""The whole example, as a guided tour: writes the demo data to a folder, then runs each command on it and shows both."""

from __future__ import annotations

import argparse
import contextlib
import sys
from pathlib import Path

from ..errors import HushedError

EXAMPLES = """\
examples:
  hushed-wire demo                      into ./skerry-haven
  hushed-wire demo /tmp/tour --no-tour  only the files
"""

MARKER = "front-desk.toml"


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument("folder", nargs="?", default="skerry-haven", metavar="FOLDER", help="where to (default: skerry-haven)")
    parser.add_argument("--no-tour", action="store_true", help="write the files, run nothing")
    parser.add_argument("--color", choices=("auto", "always", "never"), default="auto", help="default: auto, on a terminal only")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..demo.captures import build
    from ..written_file import replace_file

    folder = Path(args.folder)
    try:
        if folder.is_dir() and any(folder.iterdir()) and not (folder / MARKER).exists():
            raise HushedError(
                "the folder holds other files", where=str(folder), remedy="name a new folder, like: hushed-wire demo tour"
            )
        folder.mkdir(exist_ok=True)
    except FileNotFoundError as error:
        raise HushedError(
            "the folder above it does not exist", where=str(folder), remedy=f"make it first: mkdir -p {folder.parent}"
        ) from error
    except FileExistsError as error:
        raise HushedError("is a file", where=str(folder), remedy="name a new folder") from error
    except OSError as error:
        raise HushedError(
            f"cannot be made: {error.strerror}", where=str(folder), remedy="name a folder that you may write to"
        ) from error
    sys.stdout.write(f"The tide lock of Skerry Haven, front desk and seven more places: its files go to {folder}\n")
    for name, data in build():
        replace_file(folder / name, [data])
        sys.stdout.write(f"  {name:<24} {len(data):>9,} bytes\n")
        sys.stdout.flush()
    if not args.no_tour:
        tour(folder, args.color)
    return 0


PLACED = (
    "wiring.swapped-lines",
    "address.no-answer",
    "frame.data-refused",
    "timing.clock-too-fast",
    "setup.charge-pump-off",
    "picture.partial",
    "capture.undersampled",
)


def _placed(name: str, code: str) -> list[str]:
    """One fault of each layer comes with a figure of its place."""
    return ["--picture", f"{name.partition('.')[0]}-place.png"] if code in PLACED else []


def tour(folder: Path, color: str) -> None:
    """Every command on the data, command first, then what it prints."""
    from ..demo.captures import CAPTURES

    rig = ["--rig", "front-desk.toml"]
    stops: list[tuple[str, list[str]]] = [
        ("Before anything is soldered: can this wiring work?", ["wiring", "front-desk.toml"]),
        ("Who answers? Without hardware the rig's devices do, in software.", ["scan", *rig]),
        ("The display is strapped to another address.", ["scan", *rig, "--mishap", "strap:tide,0x3C"]),
        (
            "A test picture tells offset, rotation and missing lines at a glance.",
            ["send", "--test-picture", "tide", *rig, "--picture", "test-picture.png"],
        ),
        ("What is on the wires?", ["lines", "healthy.vcd"]),
        ("The same in volts; levels and thresholds are found from the histogram.", ["lines", "healthy-volts.csv.gz"]),
        ("The parts known, and one position of a panel in every convention.", ["catalog"]),
        ("Where is that cell?", ["catalog", "hd44780", "--panel", "20x4", "--cell", "0,2"]),
        ("What do these bytes mean?", ["explain", "pcd8544", "21", "BF", "20", "0C", "data", "1F", "05", "07", "command", "0D"]),
        (
            "Is this sequence right? Each step with its words, its time, and what is wrong.",
            ["build", "pump-room.hush", "--rig", "pump-room.toml"],
        ),
        (
            "Sent to the desk: what the gate-keeper's screen would show.",
            ["send", "gate-keeper.hush", "--rig", "gate-keeper.toml", "--picture", "gate-keeper.png"],
        ),
        (
            "A character display behind an expander, from a capture of the two wires.",
            ["screen", "pump-room.vcd", "--rig", "pump-room.toml"],
        ),
        ("Eight digits.", ["screen", "wheelhouse.vcd", "--rig", "wheelhouse.toml"]),
        (
            "LEDs without a chip: the picture is what the eye makes of rows that take turns.",
            ["screen", "led-sign.vcd", "--rig", "led-sign.toml", "--picture", "sign.png"],
        ),
        ("A picture as the bytes that display memory wants.", ["pack", "tide.pbm", "--part", "ssd1306", "-o", "tide.c"]),
        (
            "Which output lights which segment, for any wiring?",
            ["glyphs", "seven-segments", "--wiring", "g f e d c b a dp", "--text", "4.2"],
        ),
        ("What was said, and what it means to the controller.", ["decode", "healthy.vcd", *rig]),
        ("An SPI bus, without a rig: its lines by their names, the part by its commands.", ["decode", "handheld.vcd"]),
        ("Where was the contrast set, and where did the bus rest?", ["find", "healthy.vcd", "command=contrast or gap>2ms", *rig]),
        ("What the glass showed.", ["screen", "healthy.vcd", *rig, "--picture", "glass.png"]),
        (
            "Waveforms with words over them, as a figure.",
            ["plot", "healthy.vcd", *rig, "--from", "1.9ms", "--to", "2.2ms", "-o", "plot.png"],
        ),
        ("Is anything wrong? Without a rig the tool says what it assumed.", ["diagnose", "healthy.vcd"]),
        *(
            (f"The fault: {r.story}.", ["diagnose", r.name, *rig, *_placed(r.name, r.finds)])
            for r in CAPTURES
            if "healthy" not in r.name
        ),
        ("What does a code mean?", ["diagnose", "--about", "frame.data-refused"]),
        (
            "What may be behind what one sees? With a capture, or only a rig.",
            ["diagnose", "--seen", "blocks", "--rig", "pump-room.toml"],
        ),
        ("What that wrong set-up looks like on the glass.", ["screen", "other-panel.vcd", *rig]),
        (
            "Two wires of an SPI bus are exchanged.",
            ["rehearse", "handheld.hush", "--rig", "handheld.toml", "--mishap", "swap:DIN,DC", "-o", "spi-swapped.vcd"],
        ),
        ("The wiring under which it makes sense is named.", ["diagnose", "spi-swapped.vcd", "--rig", "handheld.toml"]),
        (
            "Any mishap can be rehearsed.",
            ["rehearse", "tide.hush", *rig, "--mishap", "swap:SCL,SDA", "--rate", "10MHz", "-o", "rehearsed.vcd"],
        ),
        ("How many pictures a second will it be?", ["budget", "gate-keeper.toml", "--source", "400MHz", "--goal", "10"]),
        (
            "A driver for the next board, from what was captured on the old one.",
            ["emit", "healthy.vcd", *rig, "--for", "c", "-o", "driver"],
        ),
        (
            "Does a new driver do the same? It goes page by page, and the picture is the same.",
            ["compare", "healthy.vcd", "tide-new.hush", "--rig-b", "front-desk.toml", "--times"],
        ),
        (
            "And where it does not, what matters is told.",
            ["compare", "healthy.vcd", "other-panel.vcd", *rig, "--picture", "compared.png"],
        ),
    ]
    from .main import main

    for number, (title, words) in enumerate(stops, 1):
        shown = " ".join(words)
        bold, plain = ("\033[1m", "\033[0m") if color == "always" or (color == "auto" and sys.stdout.isatty()) else ("", "")
        sys.stdout.write(f"\n{bold}── {number}/{len(stops)}  {title}{plain}\n$ hushed-wire {shown}\n\n")
        sys.stdout.flush()
        colored = [*words, "--color", color] if words[0] not in ("plot", "rehearse", "send", "emit") else words
        with contextlib.chdir(folder):
            status = main(colored)
        sys.stdout.flush()
        sys.stderr.flush()
        if status:
            sys.stdout.write(f"(exit status {status})\n")
    sys.stdout.write(f"\nThe files stay in {folder}: try the commands on them, or on your own capture.\n")
