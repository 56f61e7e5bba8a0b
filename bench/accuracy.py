"""How often diagnosis names the cause: labelled captures of two makers that share no code, of every fault on every bus and part, and healthy ones.

make accuracy                             both makers
make accuracy ARGS="--maker second"       the one that is written from the datasheets alone
make accuracy ARGS="--seeds 8 --only ks"  more of them; some of them
"""

from __future__ import annotations

import argparse
import os
import sys
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

import corpus
from hushed_wire.unravel.outcome import unravel
from maker import cases as maker
from maker.strange import FAMILIES, strange
from strangers import captured, solve, with_known

UNRAVELLED = (
    1.0,
    0.95,
    0.7,
    0.9,
)  # of displays without a datasheet: bus and lines, set-up, the picture without and with one that is known
SURE = {"certain": 0.99, "likely": 0.85, "possible": 0.5}  # share of first findings, so marked, that are to be the true cause


@dataclass
class Result:
    """One capture. group: how it is read and what it holds. wanted: the codes of which one comes first; none of a healthy or foreign one."""

    name: str
    group: str
    bus: str
    wanted: tuple[str, ...]
    first: str
    lines: bool
    sure: str
    wrong: list[str]

    @property
    def right(self) -> bool:
        """Whether the cause comes first, or nothing is found where nothing is wrong."""
        return self.first in self.wanted if self.wanted else not self.wrong


def of_first(case: corpus.Case) -> Result:
    """A capture that `rehearse` made."""
    verdict = corpus.judge(case)
    group = "rehearsed, fault" if case.code else "rehearsed, healthy"
    return Result(
        str(case), group, case.rig, (case.code,) if case.code else (), verdict.first, verdict.right, verdict.sure, verdict.wrong
    )


def of_second(case: maker.Case) -> Result:
    """A capture of the second maker."""
    outcome = maker.judged(case)
    kind = "fault" if case.first else "foreign" if case.foreign else "healthy"
    how = "with a rig" if case.rig else "with nothing said" if case.bare else "without a rig"
    wrong = [outcome.bad] if outcome.bad else []
    first = outcome.found[0] if outcome.found else ""
    return Result(
        str(case), f"second maker, {kind} {how}", case.family, case.first, first, outcome.lines_right, outcome.sure, wrong
    )


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--maker", choices=("first", "second", "both"), default="both")
    parser.add_argument("--seeds", type=int, default=3, help="of every fault")
    parser.add_argument("--healthy", type=int, default=320, help="healthy captures of the first maker")
    parser.add_argument("--scenes", type=int, default=20, help="random scenes of every part by the second maker")
    parser.add_argument("--strange", type=int, default=15, help="displays without a datasheet, of each family")
    parser.add_argument("--only", default="", help="a part of a case's name")
    args = parser.parse_args()
    jobs: list[tuple[Callable[[Any], Result], Any]] = []
    if args.maker != "second":
        jobs += [(of_first, case) for case in (*corpus.faults(args.seeds), *corpus.healthy(args.healthy))]
    if args.maker != "first":
        jobs += [(of_second, case) for case in maker.cases(args.seeds, args.scenes)]
    jobs = [(run, case) for run, case in jobs if args.only in f"{case} {getattr(case, 'code', '')}"]
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        short = not _strange(args.strange, pool)
        results = list(pool.map(_run, jobs, chunksize=4))
    for result in results:
        if not result.right:
            print(
                f"  missed: {result.name}: wanted {' or '.join(result.wanted) or 'nothing'}, got {', '.join([result.first, *result.wrong]) or 'nothing'}"
            )
        elif result.wanted and not result.lines:
            print(f"  lines: {result.name}")
    print()
    _table("group", results, lambda result: result.group)
    _table("code", [result for result in results if result.wanted], lambda result: result.wanted[0])
    _table("bus or part", results, lambda result: result.bus)
    _confusion(results)
    _calibration(results)
    sick, well = [result for result in results if result.wanted], [result for result in results if not result.wanted]
    named = sum(result.right for result in sick) / max(1, len(sick))
    false = sum(not result.right for result in well) / max(1, len(well))
    print(f"named first {named:.1%} of {len(sick)}, false findings on {false:.1%} of {len(well)} healthy and foreign captures")
    return int(named < 0.95 or false > 0.005 or short)


def _strange(count: int, pool: ProcessPoolExecutor) -> bool:
    """Displays that nobody knows, by family: bus and lines, set-up, pictures without and with a known one. Whether the bars are held."""
    if not count:
        return True
    jobs = [(family, seed) for family in FAMILIES for seed in range(count)]
    told = dict(zip(jobs, pool.map(_unravelled, jobs, chunksize=4), strict=True))
    print(f"{'displays without a datasheet':<42} {'bus':>8} {'set-up':>7} {'picture':>8} {'known':>7}")
    for family in FAMILIES:
        own = [shares for (name, _), shares in told.items() if name == family]
        print(f"{family + f' ({len(own)})':<42}" + "".join(f" {share:>7.1%}" for share in np.mean(own, axis=0)))
    whole = np.mean(list(told.values()), axis=0)
    print()
    return bool((whole >= UNRAVELLED).all())


def _unravelled(job: tuple[str, int]) -> tuple[bool, bool, bool, bool]:
    made = strange(*job)
    with TemporaryDirectory() as folder:
        solved = solve(made, unravel(captured(made, Path(folder), "x")))
        known, _ = with_known(*job, Path(folder))
    return solved.bus, solved.set_up, solved.picture, known


def _run(job: tuple[Callable[[Any], Result], Any]) -> Result:
    return job[0](job[1])


def _table(title: str, results: Iterable[Result], key: Callable[[Result], str]) -> None:
    groups: dict[str, list[Result]] = defaultdict(list)
    for result in results:
        groups[key(result)].append(result)
    print(f"{title:<42} {'captures':>8} {'right':>7} {'lines':>7}")
    for name, own in sorted(groups.items()):
        faults = [result for result in own if result.wanted]
        lines = f"{sum(result.lines for result in faults) / len(faults):.0%}" if faults else ""
        print(f"{name:<42} {len(own):>8} {sum(result.right for result in own) / len(own):>7.1%} {lines:>7}")
    print()


def _confusion(results: list[Result]) -> None:
    """What was named in place of what."""
    wrong = Counter(
        (result.wanted[0] if result.wanted else "nothing", result.first or "nothing") for result in results if not result.right
    )
    if wrong:
        print(f"{'was':<28} {'was called':<28} times")
        for (was, called), count in wrong.most_common():
            print(f"{was:<28} {called:<28} {count}")
        print()


def _calibration(results: list[Result]) -> None:
    """Of the first findings that are a fault or a warning: how many of each degree are the true cause."""
    print(f"{'said to be':<12} {'findings':>8} {'true':>7} {'bar':>6}")
    for sure, bar in SURE.items():
        own = [result for result in results if result.sure == sure]
        if own:
            true = sum(bool(result.wanted) and result.right for result in own) / len(own)
            print(f"{sure:<12} {len(own):>8} {true:>7.1%} {bar:>6.0%}")
    print()


if __name__ == "__main__":
    sys.exit(main())
