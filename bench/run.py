"""Speed, as ratios to plain references (in C; an interpreter that imports NumPy): whole processes in turn, median of the pairs.

make bench                              100 million samples a row
make bench ARGS="--samples 500"         the full size, in millions
"""

from __future__ import annotations

import argparse
import json
import math
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).parent
PROGRAM = Path(sys.executable).parent / "hushed-wire"
RATE = 20_000_000


def timed(command: list[str], out: Path) -> tuple[float, float]:
    """Wall seconds and peak memory (MB) of a whole process.

    The kernel counts the memory of the process that starts it, too, so this one stays small: it imports no NumPy.
    """
    begin = time.perf_counter()
    with out.open("wb") as file:
        process = subprocess.Popen(command, stdout=file)
        _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{command[0]} failed with status {process.returncode}")
    return time.perf_counter() - begin, usage.ru_maxrss / 1024


def close(a: float, b: float) -> bool:
    """Equal but for the digits that printf leaves out."""
    return math.isclose(a, b, rel_tol=1e-7, abs_tol=1e-12)


def same(ours: Path, theirs: Path, most: int = 20_000) -> bool:
    """Whether both outputs say the same: every count, and the first `most` lines value by value."""
    with ours.open() as a, theirs.open() as b:
        for number, (own, other) in enumerate(zip(a, b, strict=False)):
            if number >= most:
                break
            mine, plain = json.loads(own), json.loads(other)
            for key, value in plain.items():
                if key == "times":
                    near = len(mine[key]) == len(value) and all(map(close, mine[key], value))
                else:
                    near = close(mine[key], value) if isinstance(value, float) else mine[key] == value
                if not near:
                    print(f"line {number + 1}: {key}: {str(mine[key])[:80]} is not {str(value)[:80]}")
                    return False
    tails = [
        subprocess.run(["tail", "-n", "1", str(path)], capture_output=True, text=True, check=True).stdout
        for path in (ours, theirs)
    ]
    own, other = (json.loads(tail) for tail in tails)
    return own["transactions"] == other["transactions"] and own["words"] == other["words"]


def start_up(folder: Path, pairs: int) -> None:
    """Rows of what has to start fast, against an interpreter that imports NumPy."""
    subprocess.run([str(PROGRAM), "demo", str(folder / "demo"), "--no-tour"], check=True, capture_output=True)
    rig = ["--rig", str(folder / "demo" / "front-desk.toml")]
    short = folder / "short.hush"
    short.write_text("display off\nmultiplex-ratio 64\ncharge-pump on\ndisplay on\n")
    for title, words, bar in (
        ("--help", ["--help"], "1.0"),
        ("--version", ["--version"], "1.0"),
        ("catalog", ["catalog"], "1.0"),
        ("catalog of one part", ["catalog", "st7789"], "1.0"),
        ("explain", ["explain", "ssd1306", "AE", "D5", "80", "A8", "3F"], "1.0"),
        ("build of a short sequence", ["build", str(short), "--part", "ssd1306"], "1.0"),
        ("build of a short sequence on a rig", ["build", str(short), *rig], "1.0"),
        ("budget of a rig", ["budget", rig[1]], "1.0"),
        ("emit of a short sequence", ["emit", str(short), *rig, "--for", "c", "-o", str(folder / "driver"), "-q"], "1.5"),
        ("scan of the desk", ["scan", *rig], "1.5"),
        ("send of a short sequence to the desk", ["send", str(short), *rig, "--link", "desk"], "1.5"),
        ("pack of a picture", ["pack", str(folder / "demo" / "tide.pbm"), "--part", "ssd1306", "--as", "hex"], "1.5"),
    ):
        imports = "numpy, PIL.Image" if words[0] == "pack" else "numpy"
        ours, theirs, ratios, peak = [], [], [], 0.0
        for pair in range(4 * pairs + 1):
            own, memory = timed([str(PROGRAM), *words], folder / "ours")
            plain, _ = timed([sys.executable, "-c", f"import {imports}"], folder / "theirs")
            if pair:
                ours.append(own)
                theirs.append(plain)
                ratios.append(own / plain)
                peak = max(peak, memory)
        row = statistics.median(ours), statistics.median(theirs), statistics.median(ratios)
        print(f"{f'{title}, against import {imports}':<52} {row[0]:7.2f}s {row[1]:7.2f}s {row[2]:7.2f} {peak:5.0f} MB  {bar}")


ROLES = {
    "i2c": {"scl": 0, "sda": 1},
    "spi": {"sck": 0, "mosi": 1, "cs": 2, "dc": 3},
    "parallel": {**{f"d{k}": k for k in range(8)}, "rs": 8, "e": 9},
}


def listening(folder: Path, samples: float, pairs: int) -> bool:
    """Rows of raw samples to JSON Lines and to a summary, on each bus, against the C references."""
    for bus, roles in ROLES.items():
        for binary, flags in (("lines", []), ("count", ["-DCOUNT"])):
            source = HERE / f"{bus}_lines.c"
            subprocess.run(["cc", "-O2", *flags, "-o", str(folder / f"{bus}-{binary}"), str(source)], check=True)
        size = 2 if bus == "parallel" else 1
        for words, kind in ((1026, "long"), (3, "short")):
            path = folder / "samples.bin"
            make = [sys.executable, str(HERE / "samples.py"), str(path), str(samples / size), str(words), str(RATE), bus]
            subprocess.run(make, check=True)
            lines = [word for role, line in roles.items() for word in ("--line", f"{role}={line}")]
            base = [str(PROGRAM), "decode", str(path), "--raw", str(size), "--rate", f"{RATE}Hz", "--bus", bus, *lines]
            for title, options, reference, bar in (
                (f"raw {bus} to JSON Lines, {kind} transactions", ["--format", "jsonl"], "lines", "0.8"),
                (f"raw {bus}, summary only, {kind} transactions", ["--format", "jsonl", "--summary"], "count", "1.5"),
            ):
                ours, theirs, ratios, peak = [], [], [], 0.0
                for pair in range(pairs + 1):
                    own, memory = timed([*base, *options], folder / "ours")
                    plain, _ = timed([str(folder / f"{bus}-{reference}"), str(path), str(RATE)], folder / "theirs")
                    if pair:  # the first pair warms the caches
                        ours.append(own)
                        theirs.append(plain)
                        ratios.append(own / plain)
                        peak = max(peak, memory)
                    elif not same(folder / "ours", folder / "theirs"):
                        print(f"{title}: the outputs differ")
                        return False
                row = statistics.median(ours), statistics.median(theirs), statistics.median(ratios)
                print(f"{title:<52} {row[0]:7.2f}s {row[1]:7.2f}s {row[2]:7.2f} {peak:5.0f} MB  {bar}", flush=True)
    return True


def reading(folder: Path, megabytes: float, pairs: int) -> bool:
    """Rows of files to traces, start-up apart: VCD against C, CSV against pandas alone."""
    subprocess.run(["cc", "-O2", "-o", str(folder / "vcd"), str(HERE / "vcd_trace.c")], check=True)
    for title, kind, bar in (
        ("VCD to a trace, one change a time, one core", "vcd", "1.5"),
        ("VCD to a trace, eight changes a time, one core", "vcd-many", "1.5"),
        ("CSV to a trace, against pandas.read_csv", "csv", "1.3"),
    ):
        path = folder / f"file.{kind[:3]}"
        subprocess.run([sys.executable, str(HERE / "samples.py"), str(path), str(megabytes), "1", "1", kind], check=True)
        ours, theirs, ratios = [], [], []
        for pair in range(pairs + 1):
            said = subprocess.run([sys.executable, str(HERE / "files.py"), str(path)], capture_output=True, text=True, check=True)
            own, entries, last = said.stdout.split()
            if kind == "csv":
                plain = subprocess.run(
                    [sys.executable, str(HERE / "files.py"), str(path), "pandas"], capture_output=True, text=True, check=True
                )
                reference = float(plain.stdout.split()[0])
            else:
                reference, _ = timed([str(folder / "vcd"), str(path)], folder / "theirs")
                count, end = (folder / "theirs").read_text().split()
                if abs(int(count) - int(entries)) > 1 or end != last:
                    print(f"{title}: {entries} entries to {last}, the reference has {count} to {end}")
                    return False
            if pair:
                ours.append(float(own))
                theirs.append(reference)
                ratios.append(float(own) / reference)
        row = statistics.median(ours), statistics.median(theirs), statistics.median(ratios)
        print(f"{title:<52} {row[0]:7.2f}s {row[1]:7.2f}s {row[2]:7.2f} {'':>8}  {bar}", flush=True)
        path.unlink()
    return True


def diagnosing(folder: Path, pairs: int) -> None:
    """Rows of diagnosis against decoding of the same capture: healthy, and with the widest search for exchanged lines."""
    demo = folder / "diagnosing"
    subprocess.run([str(PROGRAM), "demo", str(demo), "--no-tour"], check=True, capture_output=True)
    wide = demo / "wide.toml"
    lines = ", ".join(f'd{k} = "D{k}"' for k in range(16))
    wide.write_text(
        f'[[bus]]\nname = "main"\nkind = "parallel"\nlines = {{ {lines}, rs = "RS", wr = "WR", rd = "RD", cs = "CS" }}\n'
        '[[device]]\nname = "show"\non = "main"\npart = "st7789"\npanel = "240x240"\n'
    )
    start = subprocess.run(
        [str(PROGRAM), "catalog", "st7789", "--panel", "240x240", "--start"], capture_output=True, text=True, check=True
    )
    steps = "\n".join(line for line in start.stdout.splitlines() if not line.startswith("reset"))
    (demo / "wide.hush").write_text(f'{steps}\nfill off\ntext 3,9 "GATE"\n')
    for title, rig, hush, mishap, bar in (
        ("diagnose against decode, healthy colour frame", "gate-keeper.toml", "gate-keeper.hush", [], "3"),
        ("diagnose against decode, two of 16 lines exchanged", "wide.toml", "wide.hush", ["--mishap", "swap:D1,D5"], "20"),
    ):
        base = ["rehearse", str(demo / hush), "--rig", str(demo / rig), "-o", str(demo / "c.npz"), "-q", *mishap]
        subprocess.run([str(PROGRAM), *base], check=True)
        own, plain = [], []
        for _ in range(pairs):
            where = [str(demo / "c.npz"), "--rig", str(demo / rig)]
            own.append(timed([str(PROGRAM), "diagnose", *where, "--fail-on", "never"], folder / "ours")[0])
            plain.append(timed([str(PROGRAM), "decode", *where, "--summary"], folder / "theirs")[0])
        ratio = statistics.median(a / b for a, b in zip(own, plain, strict=True))
        row = f"{statistics.median(own):7.2f}s {statistics.median(plain):7.2f}s {ratio:7.2f} {'':>8}"
        print(f"{title:<52} {row}  {bar}", flush=True)


def long_captures(folder: Path, megabytes: float, pairs: int) -> None:
    """Rows of one long VCD: its summary against C that reads it into columns, diagnosis against the summary, and what each command holds."""
    subprocess.run(["cc", "-O2", "-o", str(folder / "vcd"), str(HERE / "vcd_trace.c")], check=True)
    demo = folder / "long"
    subprocess.run([str(PROGRAM), "demo", str(demo), "--no-tour"], check=True, capture_output=True)
    path = demo / "driver.vcd"
    subprocess.run([sys.executable, str(HERE / "samples.py"), str(path), str(megabytes), "1", "1", "driver"], check=True)
    rig = ["--rig", str(demo / "front-desk.toml")]
    summary = [str(PROGRAM), "decode", str(path), *rig, "--summary"]
    for title, command, reference, bar in (
        ("decode --summary, against C into columns", summary, [str(folder / "vcd"), str(path)], "1.0"),
        ("diagnose, against decode --summary", [str(PROGRAM), "diagnose", str(path), *rig, "--fail-on", "never"], summary, "1.5"),
    ):
        ours, theirs, peak = [], [], 0.0
        for pair in range(pairs + 1):
            own, memory = timed(command, folder / "ours")
            plain, _ = timed(reference, folder / "theirs")
            if pair:
                ours.append(own)
                theirs.append(plain)
                peak = max(peak, memory)
        ratio = statistics.median(a / b for a, b in zip(ours, theirs, strict=True))
        row = f"{statistics.median(ours):7.2f}s {statistics.median(theirs):7.2f}s {ratio:7.2f} {peak:5.0f} MB"
        print(f"{f'VCD of {path.stat().st_size / 1e6:.0f} MB: {title}':<62} {row}  {bar}", flush=True)
    held(folder, path, [], rig, "the same")
    other = {path.with_suffix(".csv"): [], path.with_suffix(".raw"): ["--raw", "1", "--rate", "10MHz"]}
    for name, options in other.items():
        subprocess.run([str(PROGRAM), "convert", str(path), "-o", str(name)], check=True, capture_output=True)
        own = rig
        if options:  # lines of raw samples are called by their number
            text = (demo / "front-desk.toml").read_text().replace('"SCL"', '"0"').replace('"SDA"', '"1"')
            (demo / "raw.toml").write_text(text)
            own = ["--rig", str(demo / "raw.toml")]
        held(folder, name, options, own, f"{name.suffix[1:]} of {name.stat().st_size / 1e6:.0f} MB")
        name.unlink()
    for bus, roles in ROLES.items():  # words without a rest, as many as there can be: five bytes for three of the VCD
        size = 2 if bus == "parallel" else 1
        name = demo / "dense.raw"
        make = [sys.executable, str(HERE / "samples.py"), str(name), str(megabytes * 5 / 3 / size), "1026", str(RATE), bus]
        subprocess.run(make, check=True)
        own = [word for role, line in roles.items() for word in ("--line", f"{role}={line}")]
        title = f"dense {bus}, {name.stat().st_size / 1e6:.0f} MB of samples"
        held(folder, name, ["--raw", str(size), "--rate", f"{RATE}Hz"], own, title, known=False)
        name.unlink()


def held(folder: Path, path: Path, options: list[str], rig: list[str], title: str, known: bool = True) -> None:
    """What each command holds of a long capture. known: a display of the catalog hangs on the bus."""
    line = "0" if options else "SCL"
    for words in (
        ["lines"],
        ["find", "refused", "--count"],
        ["find", f"high({line})<500ns", "--count"],
        *([["screen", "-q"]] if known else []),
        ["plot", "-o", str(folder / "long.png")],
        ["diagnose"],
        *(["decode", "--format", form] for form in ("text", "json", "jsonl", "csv")),
    ):
        command = [str(PROGRAM), words[0], str(path), *words[1:], *options, *([] if words[0] == "lines" else rig)]
        begin = time.perf_counter()
        with Path(os.devnull).open("wb") as nowhere:
            process = subprocess.Popen(command, stdout=nowhere, stderr=nowhere)
            _, status, usage = os.wait4(process.pid, 0)
        if os.waitstatus_to_exitcode(status) not in (0, 1):
            raise SystemExit(f"{' '.join(words)} failed on {path.name}")
        row = f"{time.perf_counter() - begin:7.2f}s {'':>8} {'':>7} {usage.ru_maxrss / 1024:5.0f} MB"
        said = " ".join(word for word in words if not word.startswith(("-o", "/")))
        print(f"{f'{title}: {said}':<62} {row}  400 MB", flush=True)


def comparing(folder: Path, megabytes: float, pairs: int) -> None:
    """A row of two captures compared, against decoding one after the other: many pictures, the second with another one in the middle."""
    demo = folder / "comparing"
    subprocess.run([str(PROGRAM), "demo", str(demo), "--no-tour"], check=True, capture_output=True)
    start = (demo / "tide.hush").read_text().rpartition("picture")[0]
    size = 0.0
    for name, inside in (("a", "fill off"), ("b", 'fill off\ntext 3,9 "GATE"\nfill off')):
        count = max(2, round(megabytes * 2))
        text = f"{start}\nrepeat {count}\npicture tide.pbm\nfill off\nend\n{inside}\nrepeat {count}\npicture tide.pbm\nfill off\nend\n"
        (demo / f"{name}.hush").write_text(text)
        made = ["rehearse", f"{name}.hush", "--rig", "front-desk.toml", "--rate", "10MHz", "-o", f"{name}.vcd", "-q"]
        subprocess.run([str(PROGRAM), *made], check=True, cwd=demo)
        size = (demo / f"{name}.vcd").stat().st_size / 1e6
    own, plain, peak = [], [], 0.0
    for _ in range(pairs):
        a, b = (str(demo / f"{name}.vcd") for name in "ab")
        rig = ["--rig", str(demo / "front-desk.toml")]
        took, memory = timed([str(PROGRAM), "compare", a, b, *rig, "--by", "state"], folder / "ours")
        own.append(took)
        plain.append(sum(timed([str(PROGRAM), "decode", one, *rig, "--summary"], folder / "theirs")[0] for one in (a, b)))
        peak = max(peak, memory)
    ratio = statistics.median(a / b for a, b in zip(own, plain, strict=True))
    row = f"{statistics.median(own):7.2f}s {statistics.median(plain):7.2f}s {ratio:7.2f} {peak:5.0f} MB"
    print(f"{f'compare of two captures of {size:.0f} MB, against decoding both':<52} {row}  1.5", flush=True)


def sweeping(folder: Path, captures: int, pairs: int) -> None:
    """A row of many captures of a megabyte, on two cores against one after the other."""
    demo = folder / "sweeping"
    subprocess.run([str(PROGRAM), "demo", str(demo), "--no-tour"], check=True, capture_output=True)
    start = (demo / "tide.hush").read_text().rpartition("picture")[0]
    (demo / "one.hush").write_text(f"{start}\nrepeat 2\npicture tide.pbm\nfill off\nend\n")
    made = ["rehearse", "one.hush", "--rig", "front-desk.toml", "--rate", "10MHz", "-o", "one.vcd", "-q"]
    subprocess.run([str(PROGRAM), *made], check=True, cwd=demo)
    many = folder / "many"
    many.mkdir()
    for number in range(captures):
        os.link(demo / "one.vcd", many / f"{number}.vcd")
    words = [str(PROGRAM), "sweep", str(many), "--rig", str(demo / "front-desk.toml"), "-q", "--format", "csv"]
    times: dict[str, list[float]] = {"1": [], "2": []}
    peak = 0.0
    for _ in range(pairs):
        for workers, own in times.items():
            took, memory = timed([*words, "--workers", workers], folder / "ours")
            own.append(took)
            peak = max(peak, memory)
    ratio = statistics.median(a / b for a, b in zip(times["1"], times["2"], strict=True))
    row = f"{statistics.median(times['2']):7.2f}s {statistics.median(times['1']):7.2f}s {ratio:6.2f}x {peak:5.0f} MB"
    print(f"{f'sweep of {captures} captures of 1 MB, two cores against one':<52} {row}  1.8x or more", flush=True)


def growth(folder: Path, most: float) -> None:
    """Time per byte, start-up apart, and peak memory, from 10 MB to `most` MB of samples."""
    path = folder / "samples.bin"
    base = [
        str(PROGRAM),
        "decode",
        str(path),
        "--raw",
        "1",
        "--rate",
        f"{RATE}Hz",
        "--line",
        "scl=0",
        "--line",
        "sda=1",
        "--format",
        "jsonl",
    ]
    base_time = first = None
    size = 10.0
    while size <= most:
        subprocess.run([sys.executable, str(HERE / "samples.py"), str(path), str(size), "1026", str(RATE)], check=True)
        took, peak = min(timed(base, Path(os.devnull)) for _ in range(3 if size < 1000 else 1))
        ratio = ""
        if base_time is None:
            base_time = took  # start-up, for the most part
        else:
            each = (took - base_time) / (size - 10)
            first = first or each
            ratio = f"{each / first:.2f}"
        title = f"growth: {size:.0f} MB of I2C samples to JSON Lines"
        print(f"{title:<52} {took:7.2f}s {'':>8} {ratio:>7} {peak:5.0f} MB  1.3, memory level", flush=True)
        size = size * 10 if size < 1000 else size * 2
    path.unlink()


def drawing() -> None:
    """Rows of pictures to wires and to bytes."""
    done = subprocess.run([sys.executable, str(HERE / "frame.py")], capture_output=True, text=True, check=False)
    own, plain, ratio, same_words = done.stdout.split()
    row = f"{float(own):7.2f}s {float(plain):7.2f}s {float(ratio):6.1f}x"
    print(f"{'colour frame to wires, against a Python loop':<52} {row} {'':>8}  20x or more, outputs {same_words}")
    done = subprocess.run([sys.executable, str(HERE / "frame.py"), "pack"], capture_output=True, text=True, check=False)
    own, plain, ratio, same_words = done.stdout.split()
    row = f"{float(own):6.2f}ms {float(plain):6.2f}ms {float(ratio):7.2f}"
    print(f"{'320x240 pixels to 16 bits, against plain NumPy':<52} {row} {'':>8}  1.5, outputs {same_words}")


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--samples", type=float, default=100, metavar="MILLIONS", help="bytes of samples (default: 100)")
    parser.add_argument("--pairs", type=int, default=3)
    parser.add_argument("--megabytes", type=float, default=25, help="of VCD and CSV files (default: 25)")
    parser.add_argument("--long", type=float, default=100, help="megabytes of the long VCD (default: 100; the full size is 300)")
    parser.add_argument("--captures", type=int, default=200, help="that are swept (default: 200; the full size is 2000)")
    parser.add_argument("--growth", type=float, default=1000, help="megabytes to grow to (default: 1000)")
    parser.add_argument(
        "--only",
        choices=("listening", "reading", "diagnosing", "long", "comparing", "sweeping", "growth", "drawing", "start-up"),
        help="one kind of row",
    )
    args = parser.parse_args()
    if subprocess.run(["cc", "--version"], capture_output=True, check=False).returncode:
        print("the references want a C compiler: apt-get install gcc libc6-dev")
        return 2
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        print(f"{args.samples:g} MB of samples, {args.pairs} pairs each, this machine: {os.cpu_count()} cores")
        print(f"{'work':<52} {'ours':>8} {'plain':>8} {'ratio':>7} {'peak':>8}  bar")
        if args.only in (None, "listening") and not listening(folder, args.samples, args.pairs):
            return 1
        if args.only in (None, "reading") and not reading(folder, args.megabytes, args.pairs):
            return 1
        if args.only in (None, "diagnosing"):
            diagnosing(folder, args.pairs)
        if args.only in (None, "long"):
            long_captures(folder, args.long, args.pairs)
        if args.only in (None, "comparing"):
            comparing(folder, args.megabytes, args.pairs)
        if args.only in (None, "sweeping"):
            sweeping(folder, args.captures, min(args.pairs, 2))
        if args.only in (None, "growth"):
            growth(folder, args.growth)
        if args.only in (None, "drawing"):
            drawing()
        if args.only in (None, "start-up"):
            start_up(folder, args.pairs)
    return 0


if __name__ == "__main__":
    sys.exit(main())
