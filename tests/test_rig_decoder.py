"""Random legal sequences on every bus and behind every bridge: they come back as they were sent, read whole or in pieces of any size."""

import json
import unittest
from itertools import pairwise
from typing import Any
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.cli.main import main
from hushed_wire.part import Payload, commands, load
from hushed_wire.part.engine import DATA, Commands, Reader
from hushed_wire.part.framing import payload_of
from hushed_wire.part.scanned import size_of
from hushed_wire.part.wrap import WRAPS
from hushed_wire.rig import Rig, load_rig
from hushed_wire.rig.decoder import RigDecoder
from hushed_wire.rig.reading import decode
from hushed_wire.rig.rehearse import rehearse, steps_of
from hushed_wire.sequence.listing import items_of, state_of
from hushed_wire.sequence.start import start_text
from hushed_wire.trace import Trace
from strategies import sequences
from support import demo, program, scratch
from test_buses import WAYS

FOLDER = scratch()
Listed = list[tuple[str, bytes]]


def listed(own: Commands) -> Listed:
    return [(own.name_of(index), raw) for index, _, raw in own.listed()]


def follow(trace: Trace, rig: Rig, at: list[int]) -> tuple[dict[Any, Listed], dict[Any, list[Any]]]:
    """Commands by device and chip, and words by channel, of a capture that is fed in pieces cut at these thousandths of it."""
    edges = sorted({trace.start, trace.end, *(trace.start + share * (trace.end - trace.start) // 1000 for share in at)})
    decoder = RigDecoder(rig, trace.names, trace.tick)
    spoken: dict[Any, Listed] = {}
    words: dict[Any, list[Any]] = {}
    pieces = [decoder.feed(trace.window(first, last)) for first, last in pairwise(edges)]
    for piece in [*pieces, decoder.finish()]:
        for own in piece.channels:
            columns = (own.words.value, own.words.effect, *(() if own.dc is None else (own.dc,)))
            words.setdefault((own.bus, own.select), []).extend(zip(*(column.tolist() for column in columns), strict=True))
        for one in piece.commands:
            told = spoken.setdefault((one.device, one.chip), [])
            new = listed(one.commands)
            if one.going_on:
                told[-1] = told[-1][0], told[-1][1] + new.pop(0)[1]
            told += new
    return spoken, words


class EveryWay(unittest.TestCase):
    @given(st.data())
    @settings(deadline=None, max_examples=150)
    def test_random_sequences_come_back_whole_and_in_pieces(self, data: st.DataObject) -> None:
        name = data.draw(st.sampled_from(sorted(WAYS)))
        (FOLDER / "rig.toml").write_text(WAYS[name][0])
        rig = load_rig(FOLDER / "rig.toml")
        target = rig.target(rig.device[0])
        start = "\n".join(line for line in start_text(target).splitlines() if not line.startswith("reset"))
        whole = size_of(target.panel) if WRAPS[target.framing].pictures else 0
        (FOLDER / "s.hush").write_text(start + "\n")
        sent = [send for step in steps_of(FOLDER / "s.hush", rig, []) for send in step.sends]
        ahead = state_of(target.part, items_of(target.part, sent))
        lines = [
            line
            for line in data.draw(sequences(target.part, whole, ahead))
            if "hd44780" not in WAYS[name][0] or "function-set" not in line
        ]
        (FOLDER / "s.hush").write_text("\n".join([start, *lines]) + "\n")
        trace, _ = rehearse(FOLDER / "s.hush", rig, seed=data.draw(st.integers(0, 99)), jitter=2e-9)
        sends = [(k, send) for k, step in enumerate(steps_of(FOLDER / "s.hush", rig, [])) for send in step.sends]
        heard = decode(trace, rig)
        spoken, words = follow(trace, rig, data.draw(st.lists(st.integers(1, 999), max_size=12)))
        for chip, own in enumerate(heard.devices[0].chips):
            meant = listed(commands(target.part, payload_of(sends, chip)))
            first = 3 if target.framing == "nibbles" else 0  # of what comes before the width is set, the low half is never sent
            self.assertEqual(joined(listed(own))[first:], joined(meant)[first:], (name, lines))
            self.assertEqual(spoken.get(("show", chip), []), listed(own), (name, lines))
        for channel in heard.channels:
            columns = (channel.words.value, channel.words.effect, *(() if channel.dc is None else (channel.dc,)))
            whole = list(zip(*(column.tolist() for column in columns), strict=True))
            self.assertEqual(words.get((channel.bus, channel.select), []), whole, name)


class Readers(unittest.TestCase):
    RUNS = st.lists(st.tuples(st.booleans(), st.binary(min_size=1, max_size=24), st.booleans()), min_size=1, max_size=12)

    @given(st.sampled_from(["ssd1306", "pcd8544", "st7789", "mcp23s17"]), RUNS, st.lists(st.integers(1, 200), max_size=8))
    @settings(deadline=None, max_examples=200)
    def test_any_words_in_any_pieces(self, name: str, runs: list[tuple[bool, bytes, bool]], cuts: list[int]) -> None:
        part = load(name)
        value = np.frombuffer(b"".join(raw for _, raw, _ in runs), np.uint8)
        lengths = [len(raw) for _, raw, _ in runs]
        data = np.repeat([is_data for is_data, _, _ in runs], lengths)
        number = np.repeat(np.cumsum([new for _, _, new in runs]), lengths)
        time = np.arange(len(value))
        payload = Payload(value, data, time, time, time, number)
        whole = commands(part, payload)
        places = sorted({0, len(value), *(cut for cut in cuts if cut < len(value))})
        reader, told = Reader(part), []
        with mock.patch("hushed_wire.part.engine.LONGEST", 5):
            for first, last in pairwise(places):
                closed = last == len(value) or bool(number[last] != number[last - 1])
                told.append(reader.feed(payload.take(slice(first, last)), closed))
            told.append(reader.finish())
        spoken: list[tuple[str, bytes, int]] = []
        for own, going_on in told:
            for index, _, raw in own.listed():
                at = own.time_of(index)
                if going_on and not index:
                    self.assertEqual((int(own.kind[0]), len(spoken[-1][1]) % 5), (DATA, 0))
                    spoken[-1] = spoken[-1][0], spoken[-1][1] + raw, at
                else:
                    spoken.append((own.name_of(index), raw, at))
        self.assertEqual(spoken, [(whole.name_of(k), raw, whole.time_of(k)) for k, _, raw in whole.listed()])


def commands_of(lines: bytes) -> list[object]:
    """The commands among JSON Lines, in order of time."""
    return in_order([one for one in map(json.loads, lines.splitlines()) if one.pop("record") == "command"])


def in_order(found: list[Any]) -> list[object]:
    return sorted(found, key=lambda one: (one["time"], one.get("chip", 0)))


class AsAUser(unittest.TestCase):
    def test_json_lines_say_what_json_says(self) -> None:
        for place, bridge in (("front-desk", ""), ("handheld", ""), ("engine-room", ""), ("pump-room", "adapter")):
            capture = "healthy.vcd" if place == "front-desk" else f"{place}.vcd"
            words = ("decode", capture, "--rig", f"{place}.toml", "--format")
            lines = [json.loads(line) for line in program(*words, "jsonl").stdout.splitlines()]
            whole = json.loads(program(*words, "json").stdout)
            for record, key, of in (("transaction", "transactions", "bus"), ("command", "commands", "device")):
                mine = [{k: v for k, v in line.items() if k != "record"} for line in lines if line["record"] == record]
                for who in {(entry[of], entry.get("chip")) for entry in whole[key]}:
                    own, meant = ([e for e in every if (e[of], e.get("chip")) == who] for every in (mine, whole[key]))
                    self.assertEqual(own, meant, (place, who))
                self.assertEqual(len(mine), len(whole[key]))
                self.assertEqual(lines[-1][key], len(mine))
            self.assertTrue(not bridge or any(line.get("bus") == bridge for line in lines))

    def test_a_part_and_lines_do_as_well_as_a_rig(self) -> None:
        wide = [f"d{k}=D{k}" for k in range(8)]
        for place, part, lines in (
            ("handheld", "pcd8544", ["sck=CLK", "mosi=DIN", "cs=CE", "dc=DC"]),
            ("engine-room", "ks0108", [*wide, "rs=RS", "rw=RW", "e=E", "cs1=CS1", "cs2=CS2"]),
        ):
            words = ["decode", f"{place}.vcd", "--part", part, *(word for line in lines for word in ("--line", line)), "--format"]
            whole = in_order(json.loads(program(*words, "json").stdout)["commands"])
            self.assertEqual(commands_of(program(*words, "jsonl").stdout), whole, place)
            # A pipe says the same; so does a plan that was made of its beginning alone.
            data = (demo() / f"{place}.vcd").read_bytes()
            self.assertEqual(commands_of(program("decode", "-", *words[2:], "jsonl", stdin=data).stdout), whole, place)
            out = FOLDER / "ahead.jsonl"
            with mock.patch("hushed_wire.cli.captured.HEAD", 3000):
                self.assertEqual(main(["decode", str(demo() / words[1]), *words[2:], "jsonl", "-o", str(out), "-q"]), 0)
            self.assertEqual(commands_of(out.read_bytes()), whole, place)

    def test_a_long_run_of_data_comes_in_pieces_and_from_a_pipe(self) -> None:
        (FOLDER / "s.hush").write_text("display on\nwrite-memory-start\ndata " + " ".join(["0x21"] * 5000))
        done = program("rehearse", str(FOLDER / "s.hush"), "--rig", "gate-keeper.toml", "-o", str(FOLDER / "long.vcd"))
        self.assertEqual(done.returncode, 0, done.stderr)
        words = ("--rig", "gate-keeper.toml", "--format")
        out = program("decode", "-", *words, "jsonl", stdin=(FOLDER / "long.vcd").read_bytes()).stdout
        said = [line for line in map(json.loads, out.splitlines()) if line["record"] == "command" and line["name"] == "data"]
        self.assertEqual([(len(one["bytes"]), one.get("continued", False)) for one in said], [(4096, False), (904, True)])
        self.assertEqual(json.loads(out.splitlines()[-1])["commands"], 3)
        whole = json.loads(program("decode", str(FOLDER / "long.vcd"), *words, "json").stdout)["commands"]
        pieces = [(len(one["bytes"]), one.get("continued", False)) for one in whole if one["name"] == "data"]
        self.assertEqual(pieces, [(4096, False), (904, True)])


def joined(own: Listed) -> Listed:
    """Data runs that follow one another as one: a driver's rooms and a sequence's lines part them differently."""
    out: Listed = []
    for name, raw in own:
        if out and name == out[-1][0] == "data":
            out[-1] = name, out[-1][1] + raw
        else:
            out.append((name, raw))
    return out
