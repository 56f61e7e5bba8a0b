"""How often diagnosis names the cause: labelled captures of every fault on every bus and part that it fits, and healthy ones.

make accuracy                           every fault with 3 seeds, 320 healthy captures
make accuracy ARGS="--seeds 8"          more of them
"""

from __future__ import annotations

import argparse
import os
import sys
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from corpus import Verdict, faults, healthy, judge

BAR = 0.98


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=3)
    parser.add_argument("--healthy", type=int, default=320)
    parser.add_argument("--only", default="", help="a part of a code or of a rig's name")
    args = parser.parse_args()
    cases = [
        case for case in [*faults(args.seeds), *healthy(args.healthy)] if args.only in f"{case.code} {case.rig} {case.mishaps}"
    ]
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        verdicts = list(pool.map(judge, cases, chunksize=4))
    sick = [verdict for verdict in verdicts if verdict.case.code]
    well = [verdict for verdict in verdicts if not verdict.case.code]
    by_code: dict[str, list[Verdict]] = defaultdict(list)
    for verdict in sick:
        by_code[verdict.case.code].append(verdict)
    print(f"{'code':<26} {'captures':>8} {'found':>7} {'first':>7} {'lines':>7}")
    for code, own in sorted(by_code.items()):
        first = [v.first == code for v in own]
        print(f"{code:<26} {len(own):>8} {_share(v.found for v in own):>7} {_share(first):>7} {_share(v.right for v in own):>7}")
    for verdict in sick:
        if verdict.first != verdict.case.code or not verdict.right:
            print(f"  missed: {verdict.case.code} ({verdict.case}): {', '.join(verdict.wrong) or 'nothing'}")
    for verdict in well:
        if verdict.wrong:
            print(f"  false: {verdict.case}: {', '.join(verdict.wrong)}")
    first = sum(v.first == v.case.code for v in sick) / max(1, len(sick))
    lines = sum(v.right for v in sick) / max(1, len(sick))
    false = sum(bool(v.wrong) for v in well)
    print(
        f"named first {first:.1%} of {len(sick)} (bar {BAR:.0%}), right lines {lines:.1%}, false findings on {false} of {len(well)} healthy captures (bar 0)"
    )
    return int(first < BAR or lines < BAR or false > 0)


def _share(values: object) -> str:
    told = list(values)  # type: ignore[call-overload]
    return f"{sum(told) / len(told):.0%}"


if __name__ == "__main__":
    sys.exit(main())
