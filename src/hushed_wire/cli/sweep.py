"""What is wrong in many captures: each is diagnosed, on every core or on a cluster, and those that share a cause stand together.

A capture that cannot be read is told, and stops nothing.
"""

from __future__ import annotations

import argparse
import copy
import gc
import os
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import count
from typing import TYPE_CHECKING, Any

from ..errors import HushedError
from . import captured, options, output

if TYPE_CHECKING:
    from ..sweep import Swept

EXAMPLES = """\
examples:
  hushed-wire sweep captures/ --rig front-desk.toml
  hushed-wire sweep monday/ tuesday/ retest.vcd --resume found.jsonl
  hushed-wire sweep captures/ --format junit -o boards.xml --fail-on fault
  hushed-wire sweep /shared/captures --cluster tcp://10.0.0.5:8786

In folders these are captures: .vcd .csv .tsv .txt .npz, plain or .gz; with --raw: .bin and .raw.
exit status: 0 nothing wrong in any, 1 a finding in one at least, 2 nothing found, but one at least could not be read
"""


TIDY = 10  # captures after which a process frees what they left
_looked_at = count(1)


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument("captures", nargs="+", metavar="CAPTURE|FOLDER", help="captures, or folders with captures in them")
    options.add_window(options.add_reading(parser))
    options.add_rig(parser, kept=False)
    options.add_text(parser, ("text", "json", "csv", "junit"))
    parser.add_argument("--fail-on", choices=("note", "warning", "fault", "never"), default="warning", help="default: warning")
    parser.add_argument("--workers", type=int, metavar="N", help="processes that work at once (default: one a core)")
    parser.add_argument("--cluster", metavar="ADDRESS", help="work on a Dask cluster instead, like tcp://10.0.0.5:8786")
    parser.add_argument(
        "--resume", metavar="FILE", help="keep results there as they come, and go on behind those that stand there already"
    )


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..sweep import captures_in, causes_of

    if args.workers is not None and args.workers < 1:
        raise HushedError(f"{args.workers} workers", where="--workers", remedy="give 1 or more")
    paths = captures_in(args.captures, bool(args.raw))
    if args.cluster:  # its workers are elsewhere
        paths = list(map(os.path.abspath, paths))
    options.rig_given(args)  # once for all, and what is wrong with it is told once
    swept = _all(args, paths)
    _told(args, swept, causes_of(swept))
    statuses = {one.status for one in swept}
    return 1 if 1 in statuses else 2 if 2 in statuses else 0


@dataclass(frozen=True)
class Look:
    """Diagnoses one capture, by the options of the command; goes to other processes."""

    args: argparse.Namespace

    def __call__(self, path: str) -> Swept:
        """What was found. Whatever happens with a capture, the others have their turn."""
        import contextlib
        import io

        from ..sweep import Swept
        from ..sweep.found import UNUSABLE
        from ..sweep.journal import stamp

        args = copy.copy(self.args)
        args.capture, args.save_rig, args.quiet = path, None, True
        size, changed = stamp(path)
        try:
            with contextlib.redirect_stderr(
                io.StringIO()
            ):  # warnings of one in a thousand help nobody; a file that is cut short has a finding
                found = _diagnosed(args)
        except HushedError as error:
            told = f"{error.what}; {error.remedy}" if error.remedy else error.what
            found = Swept(path, UNUSABLE, told)
        except MemoryError:
            found = lost(path)
        except Exception as error:  # a defect of ours: told as one, and no end of all others
            found = Swept(
                path, UNUSABLE, f"this should not have happened: {type(error).__name__}: {error}; diagnose it by itself"
            )
        found.size, found.changed = size, changed
        if next(_looked_at) % TIDY == 0:
            gc.collect()  # what was read hangs together in circles, and few of them are many megabytes
        return found


def lost(path: str) -> Swept:
    """What is said of a capture whose worker ended over it."""
    from ..sweep import Swept
    from ..sweep.found import UNUSABLE

    return Swept(
        path, UNUSABLE, "its worker ended over it, most likely for want of memory; diagnose a part of it with --from and --to"
    )


def _diagnosed(args: argparse.Namespace) -> Swept:
    from contextlib import nullcontext

    from ..diagnosis import diagnose
    from ..grades import NOT_JUDGED, SEVERITIES
    from ..part import Catalog
    from ..sweep import Swept
    from ..sweep.found import FINDINGS, GOOD, UNJUDGED, UNUSABLE

    with Catalog([args.catalog]).in_use() if args.catalog else nullcontext():
        _, trace, plan = captured.load_any(args)
        outcome = diagnose(trace, plan)
    least = len(SEVERITIES) if args.fail_on == "never" else SEVERITIES.index(args.fail_on)
    first = next((found for found in outcome.findings if SEVERITIES.index(found.severity) >= least), None)
    if first is None and outcome.judgement == NOT_JUDGED and args.fail_on != "never":
        return Swept(args.capture, UNUSABLE, outcome.verdict, UNJUDGED)
    if first is None:
        return Swept(args.capture, GOOD, outcome.verdict)
    return Swept(args.capture, FINDINGS, outcome.verdict, first.code, first.severity, first.lines, first.device or "")


def _all(args: argparse.Namespace, paths: list[str]) -> list[Swept]:
    """Every capture, in the order in which they were named."""
    from ..sweep import Journal
    from ..view.progress import counted

    journal = Journal(args.resume, _how(args)) if args.resume else None
    known = dict(journal.known) if journal is not None else {}
    left = [path for path in paths if path not in known]
    for one in counted(_looked(args, left), len(left), args.quiet):
        known[one.path] = one
        if journal is not None:
            journal.add(one)
    return [known[path] for path in paths]


def _looked(args: argparse.Namespace, paths: Iterable[str]) -> Iterator[Swept]:
    from ..sweep import on_cluster, on_this_machine

    paths = list(paths)
    if args.cluster:
        yield from on_cluster(Look(args), paths, args.cluster, lost)
        return
    workers = min(args.workers or os.cpu_count() or 1, max(1, len(paths) // 2))  # a process takes half a second to start
    yield from on_this_machine(Look(args), paths, workers, lost)


ASIDE = {"captures", "output", "format", "color", "verbose", "quiet", "workers", "cluster", "resume", "run", "loaded_rig"}


def _how(args: argparse.Namespace) -> str:
    """How captures are looked at, in words: what was found otherwise does not count."""
    from ..version import VERSION

    told = {key: str(value) for key, value in sorted(vars(args).items()) if key not in ASIDE and value not in (None, [], "")}
    rig = getattr(args, "loaded_rig", None)
    if rig is not None:
        from ..rig import rig_toml

        told["rig"] = rig_toml(rig)
    return f"{VERSION} {told}"


def _told(args: argparse.Namespace, swept: list[Swept], causes: Any) -> None:
    """All of it, in the format that is wanted."""
    from ..view import swept as view

    if args.format == "text":
        output.report(args, lambda out: view.table(out, swept, causes, args.verbose), light=True)
    elif args.format == "json":
        from ..view.json_text import json_bytes

        output.emit(args, json_bytes(view.record(swept, causes)))
    else:
        output.emit(args, view.rows(swept) if args.format == "csv" else view.junit(swept))
