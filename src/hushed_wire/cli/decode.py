"""The transactions of a capture, and the controller commands in them."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from . import options

if TYPE_CHECKING:
    from ..rig import Reading

EXAMPLES = """\
examples:
  hushed-wire decode tide.vcd
  hushed-wire decode tide.vcd -v                      the timing table of the I2C-bus specification, too
  hushed-wire decode tide.vcd --rig front-desk.toml --format json -o tide.json
  hushed-wire decode dump.bin --raw 1 --rate 24MHz --line scl=0 --line sda=1 --format jsonl
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser)
    options.add_rig(parser)
    options.add_text(parser, ("text", "json", "jsonl", "csv"))
    parser.add_argument("--all", action="store_true", help="list every transaction, however many there are")
    parser.add_argument("--summary", action="store_true", help="counts only, no listing")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    if streams(args):
        return stream(args)
    from ..rig import read

    source, trace, plan = options.load_any(args)
    if plan.rig.bus[0].kind != "i2c" or plan.rig.bridge:
        return _any_bus(args, source.path, trace, plan)
    reading = read(trace, plan.rig)
    if args.format == "text":
        from ..bus import i2c_timing as timing
        from ..view import listing

        columns = timing.measure(trace, reading.scl, reading.sda)
        clock = timing.median_clock(trace, columns)
        mode = timing.mode_of(clock) if clock else 0

        def write(out: Any) -> None:
            listing.decoded(out, reading, plan, source.path, clock, timing.MODES[mode], args.all, args.summary)
            if args.verbose:
                listing.timing(out, timing.margins(trace, columns, mode))

        options.report(args, write)
        return 0
    warn(trace.notes)
    from ..view import record
    from ..view.json_text import json_bytes

    tick = trace.tick.as_integer_ratio()
    transactions = record.transactions(reading.decoded.words, reading.transactions, reading.addresses, tick, reading.bus.name)
    commands = (entry for device in reading.devices for entry in record.commands(device, trace))
    if args.format == "json":
        out: dict[str, Any] = {"capture": record.capture(trace, source.path)}
        out |= record.summary(reading) if args.summary else {"transactions": list(transactions), "commands": list(commands)}
        out["assumed"] = plan.assumed
        options.emit(args, json_bytes(out))
    elif args.format == "jsonl":
        entries = [] if args.summary else [
            *({"record": "transaction", **entry} for entry in transactions),
            *({"record": "command", **entry} for entry in commands),
        ]  # fmt: skip
        entries.append({"record": "summary", **record.summary(reading)})
        options.emit(args, b"".join(json_bytes(entry, pretty=False) for entry in entries))
    else:
        options.emit(args, csv_of(reading, transactions))
    return 0


def _any_bus(args: argparse.Namespace, path: str, trace: Any, plan: Any) -> int:
    """Buses other than I2C, and what is behind bridges."""
    from ..rig.hear import hear
    from ..view import record
    from ..view.json_text import json_bytes

    hearing = hear(trace, plan.rig)
    if args.format == "text":
        from ..view.heard import heard

        options.report(args, lambda out: heard(out, hearing, plan, path, args.all, args.summary, args.verbose))
        return 0
    warn(trace.notes)
    tick = trace.tick.as_integer_ratio()
    if args.format == "csv":
        options.emit(args, _csv(hearing, tick))
        return 0
    moves = (entry for channel in hearing.channels for entry in record.channel(channel, tick))
    orders = (entry for device in hearing.devices for entry in record.commands(device, trace))
    if args.format == "json":
        out: dict[str, Any] = {"capture": record.capture(trace, path)}
        out |= record.heard(hearing) if args.summary else {"transactions": list(moves), "commands": list(orders)}
        options.emit(args, json_bytes(out | {"assumed": plan.assumed}))
        return 0
    entries = [] if args.summary else [
        *({"record": "transaction", **entry} for entry in moves), *({"record": "command", **entry} for entry in orders)
    ]  # fmt: skip
    entries.append({"record": "summary", **record.heard(hearing)})
    options.emit(args, b"".join(json_bytes(entry, pretty=False) for entry in entries))
    return 0


def _csv(hearing: Any, tick: tuple[int, int]) -> bytes:
    """Transfers of all channels as CSV, one row each, words in hex, data marked by a column of their own."""
    import csv
    import io

    from ..view import record
    from ..view.heard import meanings_by_time

    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["start", "end", "bus", "select", "address", "direction", "words", "data", "meaning"])
    for channel in hearing.channels:
        own = [d for d in hearing.devices if d.device.on == channel.bus]
        said = meanings_by_time(own, channel.table)
        for index, entry in enumerate(record.channel(channel, tick)):
            words = entry["words"] if "words" in entry else entry["bytes"]
            text = " ".join(f"{word:0{channel.digits}X}" for word in words)
            data = "".join("01?"[level] for level in entry.get("dc") or [])
            address = entry.get("address")
            place = "" if address is None else f"{address:#04x}"
            sense = "; ".join(said.get(index, []))
            writer.writerow(
                [
                    entry["start"],
                    entry["end"],
                    entry["bus"],
                    entry.get("select") or "",
                    place,
                    entry["direction"] or "",
                    text,
                    data,
                    sense,
                ]
            )
    return out.getvalue().encode()


def csv_of(reading: Reading, transactions: Any) -> bytes:
    """Transactions as CSV: one row each, bytes in hex, what they mean to the part beside them."""
    import csv
    import io

    from ..view.listing import meanings

    said = meanings(reading)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["start", "end", "bus", "address", "direction", "answered", "bytes", "began", "ended", "meaning"])
    for index, entry in enumerate(transactions):
        address = "" if entry["address"] is None else f"{entry['address']:#04x}"
        data = " ".join(f"{byte:02X}" for byte in entry["bytes"])
        answered = "" if entry["acks"][0] is None else str(entry["acks"][0]).lower()
        sense = "; ".join(said.get(index, []))
        writer.writerow(
            [
                entry["start"],
                entry["end"],
                entry["bus"],
                address,
                entry["direction"] or "",
                answered,
                data,
                entry["began"],
                entry["ended"],
                sense,
            ]
        )
    return out.getvalue().encode()


def warn(notes: Any) -> None:
    """Warnings about the file, on stderr, so that they reach people whatever the format is."""
    for note in notes:
        if note.code:
            sys.stderr.write(f"hushed-wire: warning: {note.text}\n")


def streams(args: argparse.Namespace) -> bool:
    """Whether transactions can go out while the capture is read: lines known, no part, no window."""
    known = _kind_of({text.partition("=")[0].lower() for text in args.line}, args.bus or "")
    return args.format == "jsonl" and bool(known) and not (args.rig or args.part or args.start or args.end or args.save_rig)


def _kind_of(roles: set[str], wanted: str) -> str:
    """The kind of bus that roles given by hand are enough for, "" where they are not."""
    from ..bus.role_table import OPTIONAL_ROLES, ROLES

    for kind in (wanted,) if wanted else ("i2c", "spi", "parallel", "shift"):
        needed = set(ROLES.get(kind, ()))
        if needed and needed <= roles <= needed | set(OPTIONAL_ROLES[kind]) and (kind != "parallel" or roles & {"e", "wr"}):
            return kind
    return ""


def stream(args: argparse.Namespace) -> int:
    """JSON Lines in bounded memory, whatever the length of the capture."""
    from ..view.stream import i2c_records

    roles = options.roles(args)
    kind: Any = _kind_of(set(roles), args.bus or "")
    source = options.open_source(args, list(roles.values()))

    def records(notes: list[Any]) -> Iterator[bytes]:
        if kind == "i2c":
            return i2c_records(source, roles, notes, args.summary)
        from ..rig.schema import Bus
        from ..view.stream_words import word_records

        return word_records(source, Bus("bus", kind, lines=roles), notes, args.summary)

    if args.output and args.output != "-":
        from ..trace.files import replace_file

        notes: list[Any] = []
        replace_file(args.output, records(notes))
        warn(notes)
        return 0
    notes = []
    sys.stdout.flush()
    for piece in records(notes):
        sys.stdout.buffer.write(piece)
        sys.stdout.buffer.flush()
    sys.stdout.buffer.flush()
    warn(notes)
    return 0
