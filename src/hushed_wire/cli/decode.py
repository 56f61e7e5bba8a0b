"""The transactions of a capture, and the controller commands in them."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

from ..errors import HushedError, nearest
from . import options

if TYPE_CHECKING:
    from ..rig import Reading

EXAMPLES = """\
examples:
  hushed-wire decode tide.vcd
  hushed-wire decode tide.vcd -v                      the timing table of the I2C-bus specification, too
  hushed-wire decode tide.vcd --rig front-desk.toml --format json -o tide.json
  hushed-wire decode tide.vcd --rig front-desk.toml --as hush -o driver.hush
  hushed-wire decode dump.bin --raw 1 --rate 24MHz --line scl=0 --line sda=1 --format jsonl
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser)
    options.add_rig(parser)
    options.add_text(parser, ("text", "json", "jsonl", "csv"))
    options.add_radix(parser)
    parser.add_argument("--all", action="store_true", help="list every transaction, however many there are")
    parser.add_argument("--summary", action="store_true", help="counts only, no listing")
    parser.add_argument(
        "--as", dest="kind", choices=("listing", "hush"), default="listing", help="hush: a device's commands as a sequence"
    )
    parser.add_argument("--device", metavar="NAME", help="with --as hush: the device, where several are on the bus")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    if streams(args):
        return stream(args)
    if args.kind == "listing" and args.format == "jsonl" and not (args.start or args.end or args.save_rig or args.device):
        rig = _rig_ahead(args)
        if rig is not None:
            return stream(args, rig)
    from ..rig import read

    source, trace, plan = options.load_any(args)
    if args.kind == "hush":
        return _hush(args, source.path, trace, plan)
    if args.device:
        raise HushedError("--device picks what --as hush writes", where="--device", remedy="add --as hush, or leave it out")
    if plan.rig.bus[0].kind != "i2c" or plan.rig.bridge:
        return _any_bus(args, source.path, trace, plan)
    reading = read(trace, plan.rig)
    if args.format == "text":
        from ..bus import i2c_timing as timing
        from ..view import listing

        clock = timing.usual_clock(trace, reading.scl, reading.sda)
        mode = timing.mode_of(clock) if clock else 0

        def write(out: Any) -> None:
            listing.decoded(out, reading, plan, source.path, clock, timing.MODES[mode], args.all, args.summary, args.radix)
            if args.verbose:
                listing.timing(out, timing.margins(trace, timing.measure(trace, reading.scl, reading.sda), mode))

        options.report(args, write)
        return 0
    options.warn(trace.notes)
    from ..view import record
    from ..view.json_text import json_bytes

    tick = trace.tick.as_integer_ratio()
    transactions = record.transactions(reading.decoded.words, reading.transactions, reading.addresses, tick, reading.bus.name)
    commands = (entry for device in reading.devices for entry in record.commands(device, trace, args.format == "jsonl"))
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
        options.emit(args, csv_of(reading, transactions, args.radix))
    return 0


def _hush(args: argparse.Namespace, path: str, trace: Any, plan: Any) -> int:
    """The commands of one device as a sequence."""
    from ..rig.hear import hear
    from ..sequence.spoken import spoken

    devices = [reading for reading in hear(trace, plan.rig).devices if any(len(chip) for chip in reading.chips)]
    names = [reading.device.name for reading in devices]
    wanted = [reading for reading in devices if args.device in (None, reading.device.name)]
    if not wanted:
        said = (
            f"there is no device '{args.device}' that was spoken to" if args.device else "no display of the catalog was spoken to"
        )
        raise HushedError(
            said, where=path, remedy=nearest(args.device, names) if names and args.device else "name the part with --part"
        )
    if len(wanted) > 1:
        raise HushedError("several devices were spoken to", where=path, remedy=f"pick one with --device: {', '.join(names)}")
    reading = wanted[0]
    if reading.part.memory.kind == "scanned":
        raise HushedError(
            "scanned LEDs get pictures, no commands", where=path, remedy="hushed-wire screen --every frame shows them"
        )
    line = plan.rig.way_to(reading.device)[0].lines.get("reset", "")
    resets: list[tuple[int, bool]] = []
    if line in trace.names:
        edges = trace.edges(trace.names.index(line))
        resets = [
            (when, level == 1)
            for when, level in zip(edges.times[1:].tolist(), edges.level[1:].tolist(), strict=True)
            if level < 2
        ]
    lines = spoken(reading.part, reading.chips, float(trace.tick), resets)
    head = [f"# {reading.part.name}, from {path}", f"device {reading.device.name}"]
    options.emit(args, ("\n".join([*head, *lines]) + "\n").encode())
    return 0


def _any_bus(args: argparse.Namespace, path: str, trace: Any, plan: Any) -> int:
    """Buses other than I2C, and what is behind bridges."""
    from ..rig.hear import hear
    from ..view import record
    from ..view.json_text import json_bytes

    hearing = hear(trace, plan.rig)
    if args.format == "text":
        from ..view.heard import heard

        options.report(args, lambda out: heard(out, hearing, plan, path, args.all, args.summary, args.verbose, args.radix))
        return 0
    options.warn(trace.notes)
    tick = trace.tick.as_integer_ratio()
    if args.format == "csv":
        options.emit(args, _csv(hearing, tick, args.radix))
        return 0
    moves = (entry for channel in hearing.channels for entry in record.channel(channel, tick))
    orders = (entry for device in hearing.devices for entry in record.commands(device, trace, args.format == "jsonl"))
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


WORDS = ["start", "end", "bus", "select", "address", "direction", "words", "data", "meaning"]
I2C = ["start", "end", "bus", "address", "direction", "answered", "bytes", "began", "ended", "meaning"]


def _rows(names: list[str] | None, rows: Iterable[list[Any]]) -> bytes:
    """Rows as CSV, below their names where these are given."""
    import csv
    import io

    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    if names:
        writer.writerow(names)
    writer.writerows(rows)
    return out.getvalue().encode()


def _words_row(entry: dict[str, Any], bits: int, radix: str, sense: str = "") -> list[Any]:
    """A transfer of any bus: words side by side, data marked by a column of their own."""
    from ..view.radix import spelled

    words = entry["words"] if "words" in entry else entry["bytes"]
    address = entry.get("address")
    return [
        entry["start"], entry["end"], entry["bus"], entry.get("select") or "", "" if address is None else f"{address:#04x}", entry["direction"] or "",
        " ".join(spelled(word, bits, radix) for word in words), "".join("01?"[level] for level in entry.get("dc") or []), sense,
    ]  # fmt: skip


def _i2c_row(entry: dict[str, Any], radix: str, sense: str = "") -> list[Any]:
    """An I2C transaction."""
    from ..view.radix import spelled

    return [
        entry["start"], entry["end"], entry["bus"], "" if entry["address"] is None else f"{entry['address']:#04x}", entry["direction"] or "",
        "" if entry["acks"][0] is None else str(entry["acks"][0]).lower(), " ".join(spelled(byte, 8, radix) for byte in entry["bytes"]), entry["began"],
        entry["ended"], sense,
    ]  # fmt: skip


def _csv(hearing: Any, tick: tuple[int, int], radix: str) -> bytes:
    """Transfers of all channels as CSV, one row each, what they mean beside them."""
    from ..view import record
    from ..view.heard import meanings_by_time

    rows = []
    for channel in hearing.channels:
        said = meanings_by_time([d for d in hearing.devices if d.device.on == channel.bus], channel.table)
        entries = enumerate(record.channel(channel, tick))
        rows += [_words_row(entry, channel.bits, radix, "; ".join(said.get(index, []))) for index, entry in entries]
    return _rows(WORDS, rows)


def csv_of(reading: Reading, transactions: Any, radix: str) -> bytes:
    """Transactions as CSV, what they mean to the part beside them."""
    from ..view.listing import meanings

    said = meanings(reading)
    return _rows(I2C, (_i2c_row(entry, radix, "; ".join(said.get(index, []))) for index, entry in enumerate(transactions)))


def _rig_ahead(args: argparse.Namespace) -> Any:
    """A rig that can be followed while the capture is read: the file, or one worked out from the first changes where a part is named."""
    if not args.rig and not args.part:
        return None
    from ..rig.following import can_follow

    if args.rig:
        rig = options.rig_of_any(args) or options.rig_given(args)
        return rig if can_follow(rig) else None
    given = options.roles(args)
    # A pipe cannot be read twice, and on I2C the part's address may come late.
    if args.capture == "-" or _kind_of(set(given), args.bus or "") not in ("spi", "parallel"):
        return None
    from ..rig.recognise import LOOKED_AT
    from ..trace.model import joined

    head: list[Any] = []
    for block in options.open_source(args, list(given.values())).blocks():
        head.append(block)
        if sum(map(len, head)) > LOOKED_AT:
            break
    rig = options.plan_for(joined(head), args, None).rig
    return rig if rig.device and can_follow(rig) else None


def streams(args: argparse.Namespace) -> bool:
    """Whether transactions can go out while the capture is read: lines known, no part, no window."""
    known = _kind_of({text.partition("=")[0].lower() for text in args.line}, args.bus or "")
    # A table has what the commands mean beside them, so it is only written as it comes where the capture does, or is a long one.
    table = args.format == "csv" and not args.summary and (args.capture == "-" or args.raw is not None)
    return (
        args.kind == "listing"
        and (args.format == "jsonl" or table)
        and bool(known)
        and not (args.rig or args.part or args.start or args.end or args.save_rig)
    )


def _without_summary(pieces: Iterator[bytes], head: bytes) -> Iterator[bytes]:
    """A table has no summary: all pieces but the last, below the names of the columns."""
    before = head
    for piece in pieces:
        yield before
        before = piece


def _halved(args: argparse.Namespace, source: Any, kind: Any, roles: dict[str, str]) -> Iterator[bytes] | None:
    """The same on two cores, where the capture is large enough and can be cut; None elsewhere."""
    if kind not in ("i2c", "spi", "parallel"):
        return None
    from ..view.halves import behind_pause, behind_select, behind_stop, in_halves, same_steps, worth_it

    size = worth_it(args.capture, args.raw)
    numbers = {role: source.names.index(line) if line in source.names else -1 for role, line in roles.items()}
    if not size or min(numbers.values()) < 0 or len(set(numbers.values())) < len(numbers):
        return None
    capture = args.capture, size, 1 / source.tick, list(numbers.values()), source.names

    def went(share: float) -> None:
        source.share = share

    if kind == "i2c":
        from ..view.stream import i2c_records

        def of_i2c(half: Any, second: bool) -> Iterator[bytes]:
            return i2c_records(half, roles, [], args.summary, second)

        return in_halves(*capture, of_i2c, behind_stop(numbers["scl"], numbers["sda"]), went=went)
    selects = [line for role, line in numbers.items() if role.startswith("cs")]
    if kind == "spi" and not selects:
        return None
    from ..bus.words import END, STOP
    from ..rig.channel import Runs
    from ..rig.schema import Bus
    from ..view.stream_words import known_shape, word_records

    bus = Bus("bus", kind, lines=roles)
    known, shortest = known_shape(options.open_source(args, list(roles.values())), bus, options.shape(args))
    active = 1 if bus.select == "high" else 0
    if kind == "spi":
        return in_halves(
            *capture,
            lambda half, second: word_records(half, bus, [], args.summary, known),
            behind_select(selects, active),
            went=went,
        )
    first = Runs(STOP)

    def of_words(half: Any, second: bool) -> Iterator[bytes]:
        runs = Runs(END) if second else first
        if second:  # what it knows of the first half: at least its beginning, and all of it where that is over
            runs.pauses.shortest = min(shortest, first.pauses.shortest)
        runs.pauses.longest = 0
        return word_records(half, bus, [], args.summary, known, runs=runs)

    return in_halves(*capture, of_words, behind_pause(numbers, active), same_steps, went)


def _kind_of(roles: set[str], wanted: str) -> str:
    """The kind of bus that roles given by hand are enough for, "" where they are not."""
    from ..bus.role_table import OPTIONAL_ROLES, ROLES

    for kind in (wanted,) if wanted else ("i2c", "spi", "parallel", "shift"):
        needed = set(ROLES.get(kind, ()))
        if needed and needed <= roles <= needed | set(OPTIONAL_ROLES[kind]) and (kind != "parallel" or roles & {"e", "wr"}):
            return kind
    return ""


def stream(args: argparse.Namespace, rig: Any = None) -> int:
    """JSON Lines or CSV in bounded memory, whatever the length of the capture. rig: where its commands are wanted, too."""
    import gc

    gc.disable()  # records are many and hold no circles
    try:
        return _stream(args, rig)
    finally:
        gc.enable()


def _stream(args: argparse.Namespace, rig: Any) -> int:
    from ..view.progress import watched
    from ..view.stream import i2c_records
    from ..view.transfers import plain

    roles = options.roles(args)
    kind: Any = _kind_of(set(roles), args.bus or "")
    if rig is None and (given := options.shape(args)):
        from ..rig.shaped import check_shape

        check_shape(kind, given)
    wanted = list(roles.values()) if rig is None else [line for bus in rig.bus for line in bus.lines.values()]
    source = options.open_source(args, wanted)

    as_csv = args.format == "csv"

    def records(notes: list[Any]) -> Iterator[bytes]:
        if rig is not None:
            from ..view.stream_rig import rig_records

            return rig_records(source, rig, notes, args.summary)
        pieces = (None if as_csv else _halved(args, source, kind, roles)) or whole(notes)
        return _without_summary(pieces, _rows(I2C if kind == "i2c" else WORDS, [])) if as_csv else pieces

    def whole(notes: list[Any]) -> Iterator[bytes]:
        if kind == "i2c":
            rows = (
                (lambda entries, bits: _rows(None, (_i2c_row(plain(entry), args.radix) for entry in entries))) if as_csv else None
            )
            return i2c_records(source, roles, notes, args.summary, told=rows)
        from ..rig.schema import Bus
        from ..view.stream_words import word_records

        bus = Bus("bus", kind, lines=roles)
        if not as_csv:
            return word_records(source, bus, notes, args.summary, given=options.shape(args))
        return word_records(
            source,
            bus,
            notes,
            given=options.shape(args),
            told=lambda entries, bits: _rows(None, (_words_row(plain(entry), bits, args.radix) for entry in entries)),
        )

    if args.output and args.output != "-":
        from ..trace.files import replace_file

        notes: list[Any] = []
        replace_file(args.output, watched(records(notes), source, args.quiet))
        options.warn(notes)
        return 0
    notes = []
    sys.stdout.flush()
    for piece in records(notes):
        sys.stdout.buffer.write(piece)
        sys.stdout.buffer.flush()
    sys.stdout.buffer.flush()
    options.warn(notes)
    return 0
