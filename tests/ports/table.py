"""The table of docs/port.md: what was done with the driver of each demo rig for each target, as the tests that ran have recorded it.

table.py PROVEN.jsonl docs/port.md
"""

import json
import sys
from pathlib import Path

PLACES = ("front-desk", "pump-room", "wheelhouse", "handheld", "gate-keeper", "engine-room", "gate-signal", "led-sign")
TARGETS = ("c", "avr", "8051", "stm8", "cortex-m", "linux", "python", "python-linux", "verilog")
MARKS = {
    "compiled": "c", "run": "r", "simulated": "s", "interpreted": "i", "compared": "=", "diagnosed": "d", "synthesised": "y",
}  # fmt: skip
BEGIN, END = "<!-- by make ports -->\n", "<!-- end -->\n"


def table(proven: Path) -> str:
    """Rows of targets, columns of rigs."""
    done: dict[tuple[str, str], set[str]] = {}
    for line in proven.read_text().splitlines():
        target, place, how = json.loads(line)
        done.setdefault((target, place), set()).update(how)
    out = [f"| target | {' | '.join(PLACES)} |", "|---" * (len(PLACES) + 1) + "|"]
    for target in sorted({target for target, _ in done}, key=TARGETS.index):
        cells = ["".join(mark for how, mark in MARKS.items() if how in done.get((target, place), ())) or "-" for place in PLACES]
        out.append(f"| `{target}` | {' | '.join(cells)} |")
    return "\n".join(out) + "\n"


def main() -> None:
    proven, page = map(Path, sys.argv[1:])
    text = page.read_text()
    head, _, rest = text.partition(BEGIN)
    page.write_text(head + BEGIN + table(proven) + END + rest.partition(END)[2])


if __name__ == "__main__":
    main()
