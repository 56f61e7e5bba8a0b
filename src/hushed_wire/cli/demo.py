"""The whole example, as a guided tour: writes the demo data to a folder, then runs each command on it and shows both."""

from __future__ import annotations

import argparse
import contextlib
import sys
from pathlib import Path

from ..errors import HushedError
from .options import completes

EXAMPLES = """\
examples:
  hushed-wire demo                      ten stops, the files into ./skerry-haven
  hushed-wire demo --long               all of them
  hushed-wire demo find-the-fault       one story; others: wire-up bring-up draw listen port
  hushed-wire demo /tmp/tour --no-tour  only the files
"""

MARKER = "front-desk.toml"
FOLDER = "skerry-haven"
STORIES = ("wire-up", "bring-up", "draw", "listen", "find-the-fault", "port")
SHOWN = "setup.charge-pump-off"  # the fault of the short tour


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    what = parser.add_argument(
        "what", nargs="*", metavar="STORY|FOLDER", help=f"{', '.join(STORIES)}; and where the files go (default: {FOLDER})"
    )
    completes(what, lambda: list(STORIES))
    parser.add_argument("--long", action="store_true", help="all stops, not only ten")
    parser.add_argument("--no-tour", action="store_true", help="write the files, run nothing")
    parser.add_argument("--color", choices=("auto", "always", "never"), default="auto", help="default: auto, on a terminal only")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..demo.captures import build
    from ..written_file import replace_file

    stories = [word for word in args.what if word in STORIES]
    places = [word for word in args.what if word not in STORIES]
    for words, what in ((stories, "story"), (places, "folder")):
        if len(words) > 1:
            raise HushedError(f"{words[1]} is a second {what}", remedy=f"name one; stories are {', '.join(STORIES)}")
    folder = Path(places[0] if places else FOLDER)
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
        tour(folder, args.color, next(iter(stories), ""), args.long)
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


def _without_figure(words: list[str]) -> list[str]:
    """The same diagnosis without its figure."""
    at = words.index("--picture") if words[0] == "diagnose" and "--picture" in words else len(words)
    return words[:at] + words[at + 2 :]


def stops_of(story: str, long: bool) -> list[tuple[str, list[str]]]:
    """What is shown, each with its command. story: the work that it is about, "" for all of them. long: all stops, not only the chief ones."""
    from ..demo.captures import CAPTURES

    rig = ["--rig", "front-desk.toml"]
    faults = [
        ("find-the-fault", number == 0, f"The fault: {r.story}.", ["diagnose", r.name, *rig, *_placed(r.name, r.finds)])
        for number, r in enumerate(sorted((r for r in CAPTURES if "healthy" not in r.name), key=lambda r: r.finds != SHOWN))
    ]
    every: list[tuple[str, bool, str, list[str]]] = [
        ("wire-up", True, "Before anything is soldered: can this wiring work?", ["wiring", "front-desk.toml"]),
        ("wire-up", False, "Who answers? Without hardware the rig's devices do, in software.", ["scan", *rig]),
        ("wire-up", True, "The display is strapped to another address.", ["scan", *rig, "--mishap", "strap:tide,0x3C"]),
        (
            "wire-up", False, "A test picture tells offset, rotation and missing lines at a glance.",
            ["send", "--test-picture", "tide", *rig, "--picture", "test-picture.png"],
        ),
        ("wire-up", False, "What is on the wires?", ["lines", "healthy.vcd"]),
        ("wire-up", False, "The same in volts; levels and thresholds are found from the histogram.", ["lines", "healthy-volts.csv.gz"]),
        ("bring-up", False, "The parts known, and one position of a panel in every convention.", ["catalog"]),
        ("bring-up", False, "Where is that cell?", ["catalog", "hd44780", "--panel", "20x4", "--cell", "0,2"]),
        (
            "bring-up", True, "What do these bytes mean?",
            ["explain", "pcd8544", "21", "BF", "20", "0C", "data", "1F", "05", "07", "command", "0D"],
        ),
        (
            "bring-up", True, "Is this sequence right? Each step with its words, its time, and what is wrong.",
            ["build", "pump-room.hush", "--rig", "pump-room.toml"],
        ),
        (
            "bring-up", False, "Sent to the desk: what the gate-keeper's screen would show.",
            ["send", "gate-keeper.hush", "--rig", "gate-keeper.toml", "--picture", "gate-keeper.png"],
        ),
        ("draw", True, "A picture as the bytes that display memory wants.", ["pack", "tide.pbm", "--part", "ssd1306"]),
        ("draw", False, "The same for the compiler.", ["pack", "tide.pbm", "--part", "ssd1306", "-o", "tide.c"]),
        (
            "draw", False, "Which output lights which segment, for any wiring?",
            ["glyphs", "seven-segments", "--wiring", "g f e d c b a dp", "--text", "4.2"],
        ),
        ("listen", True, "What was said, and what it means to the controller.", ["decode", "healthy.vcd", *rig]),
        ("listen", False, "An SPI bus, without a rig: its lines by their names, the part by its commands.", ["decode", "handheld.vcd"]),
        (
            "listen", False, "Where was the contrast set, and where did the bus rest?",
            ["find", "healthy.vcd", "command=contrast or gap>2ms", *rig],
        ),
        ("listen", True, "What the glass showed.", ["screen", "healthy.vcd", *rig, "--picture", "glass.png"]),
        (
            "listen", False, "A character display behind an expander, from a capture of the two wires.",
            ["screen", "pump-room.vcd", "--rig", "pump-room.toml"],
        ),
        ("listen", False, "Eight digits.", ["screen", "wheelhouse.vcd", "--rig", "wheelhouse.toml"]),
        (
            "listen", False, "LEDs without a chip: the picture is what the eye makes of rows that take turns.",
            ["screen", "led-sign.vcd", "--rig", "led-sign.toml", "--picture", "sign.png"],
        ),
        (
            "listen", False, "Waveforms with words over them, as a figure.",
            ["plot", "healthy.vcd", *rig, "--from", "1.9ms", "--to", "2.2ms", "-o", "plot.png"],
        ),
        ("find-the-fault", False, "Is anything wrong? Without a rig the tool says what it assumed.", ["diagnose", "healthy.vcd"]),
        *faults,
        ("find-the-fault", False, "All of them at once: which are good, and which share a cause?", ["sweep", ".", *rig]),
        ("find-the-fault", False, "What does a code mean?", ["diagnose", "--about", "frame.data-refused"]),
        (
            "find-the-fault", False, "What may be behind what one sees? With a capture, or only a rig.",
            ["diagnose", "--seen", "blocks", "--rig", "pump-room.toml"],
        ),
        ("find-the-fault", False, "What that wrong set-up looks like on the glass.", ["screen", "other-panel.vcd", *rig]),
        (
            "find-the-fault", False, "Two wires of an SPI bus are exchanged.",
            ["rehearse", "handheld.hush", "--rig", "handheld.toml", "--mishap", "swap:DIN,DC", "-o", "spi-swapped.vcd"],
        ),
        (
            "find-the-fault", False, "The wiring under which it makes sense is named.",
            ["diagnose", "spi-swapped.vcd", "--rig", "handheld.toml"],
        ),
        (
            "find-the-fault", False, "Any mishap can be rehearsed.",
            ["rehearse", "tide.hush", *rig, "--mishap", "swap:SCL,SDA", "--rate", "10MHz", "-o", "rehearsed.vcd"],
        ),
        (
            "port", False, "How many pictures a second will it be?",
            ["budget", "gate-keeper.toml", "--source", "400MHz", "--goal", "10"],
        ),
        (
            "port", True, "A driver for the next board, from what was captured on the old one.",
            ["emit", "healthy.vcd", *rig, "--for", "c", "-o", "driver"],
        ),
        (
            "port", False, "Does a new driver do the same? It goes page by page, and the picture is the same.",
            ["compare", "healthy.vcd", "tide-new.hush", "--rig-b", "front-desk.toml", "--times"],
        ),
        (
            "port", True, "Does another driver do the same? What matters is told first.",
            ["compare", "healthy.vcd", "other-panel.vcd", *rig, "--picture", "compared.png"],
        ),
    ]  # fmt: skip
    return [(title, words) for work, chief, title, words in every if (work == story if story else long or chief)]


def tour(folder: Path, color: str, story: str, long: bool) -> None:
    """Every command on the data, command first, then what it prints."""
    from ..extras import PackageMissing
    from ..view.figure import ready
    from .main import brings, main

    stops = stops_of(story, long)
    try:
        ready()
    except PackageMissing as error:
        sys.stdout.write(f"\nFigures are left out, as {error.what}. This brings it:\n  {brings(error.requirement)}\n")
        stops = [(title, _without_figure(words)) for title, words in stops if words[0] != "plot"]
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
    if not story and not long:
        sys.stdout.write(f"--long shows all there is; {', '.join(STORIES)} are stories of their own: hushed-wire demo listen\n")
