"""Rigs with several buses: every bus is heard, every fault is found on the bus that has it, and the order of tables decides nothing."""

from __future__ import annotations

import csv
import io
import json
import re
import unittest
from dataclasses import replace
from fractions import Fraction
from itertools import permutations
from math import ceil
from pathlib import Path
from typing import Any

import numpy as np

from hushed_wire.bus import parallel
from hushed_wire.bus.base import BUSES, Settings
from hushed_wire.bus.channel import Wired
from hushed_wire.diagnosis import diagnose
from hushed_wire.rig import Rig, Setup, decode, load_rig
from hushed_wire.rig.rehearse import rehearse
from hushed_wire.rig.vocabulary import parse_mishap
from hushed_wire.trace import Trace
from hushed_wire.trace.files import write_capture
from hushed_wire.trace.merge import merge
from support import ROOT, demo, program, scratch

FOLDER = scratch()
PLACES = {"front-desk": "tide", "handheld": "handheld", "pump-room": "pump-room"}
# On which bus, what is done, the code that is named first, and its lines.
FAULTS = (
    ("handheld", "swap:DIN,DC", "wiring.swapped-lines", ["DC", "DIN"]),
    ("handheld", "stuck:DC,low", "frame.dc-stuck", ["DC"]),
    ("handheld", "stuck:DIN,low", "wiring.stuck-line", ["DIN"]),
    ("front-desk", "swap:SCL,SDA", "wiring.swapped-lines", ["SCL", "SDA"]),
    ("front-desk", "refuse:tide", "address.no-answer", ["SCL", "SDA"]),
    ("front-desk", "drop-step:charge-pump", "setup.charge-pump-off", []),
    ("pump-room", "drop-step:function-set", "", []),
    ("pump-room", "fast-clock:400kHz", "timing.clock-too-fast", ["PSCL"]),
)


def renamed(trace: Trace, place: str) -> Trace:
    """The pump room's lines under names of their own, as all are in one capture."""
    names = {"SCL": "PSCL", "SDA": "PSDA"} if place == "pump-room" else {}
    return trace.select(list(range(len(trace.names))), tuple(names.get(name, name) for name in trace.names))


def rehearsed(place: str, *mishaps: str) -> Trace:
    acts = [parse_mishap(text) for text in mishaps]
    return renamed(rehearse(demo() / f"{PLACES[place]}.hush", load_rig(demo() / f"{place}.toml"), mishaps=acts, seed=3)[0], place)


def rig_of(*places: str) -> Rig:
    """One rig of all, its buses in this order."""
    out = Rig(title="Skerry Haven")
    for place in places:
        own = load_rig(demo() / f"{place}.toml")
        if place == "pump-room":
            own.bus[0].lines = {"scl": "PSCL", "sda": "PSDA"}
        out.bus += own.bus
        out.bridge += own.bridge
        out.device += own.device
    return out


def together(*traces: Trace) -> Trace:
    """All in one capture that goes on as long as the longest; what was captured shorter stays as it was at its end."""
    end = Fraction(ceil(1000 * max(trace.end * trace.tick for trace in traces)), 1000)
    whole = None
    for trace in traces:
        longer = replace(trace, end=int(end / trace.tick))
        whole = longer if whole is None else merge(whole, longer)
    assert whole is not None
    return whole


HEALTHY: dict[str, Trace] = {}


def healthy(place: str) -> Trace:
    if place not in HEALTHY:
        HEALTHY[place] = rehearsed(place)
    return HEALTHY[place]


class Diagnoses(unittest.TestCase):
    def test_each_fault_is_found_on_its_bus_in_each_order_of_tables(self) -> None:
        for where, mishap, code, lines in FAULTS:
            traces = [rehearsed(place, mishap) if place == where else healthy(place) for place in PLACES]
            whole = together(*traces)
            seen = set()
            for order in permutations(PLACES) if where != "pump-room" else [tuple(PLACES), tuple(reversed(PLACES))]:
                rig = rig_of(*order)
                outcome = diagnose(whole, Setup(rig))
                graver = [finding for finding in outcome.findings if finding.severity != "note"]
                seen.add(tuple((finding.code, finding.bus, tuple(finding.lines)) for finding in graver))
                if code:
                    self.assertTrue(graver, (mishap, order))
                    self.assertEqual((graver[0].code, sorted(graver[0].lines)), (code, lines), (mishap, order))
                    own = load_rig(demo() / f"{where}.toml").bus[0].name
                    self.assertEqual({finding.bus for finding in graver}, {own}, (mishap, order))
                self.assertNotIn("picture.all-traffic-good", [finding.code for finding in outcome.findings] if graver else [])
            self.assertEqual(len(seen), 1, mishap)

    def test_all_is_well_only_where_every_bus_is(self) -> None:
        whole = together(*map(healthy, PLACES))
        for order in permutations(PLACES):
            outcome = diagnose(whole, Setup(rig_of(*order)))
            self.assertEqual([finding.code for finding in outcome.findings], ["picture.all-traffic-good"] * 3)
            self.assertEqual({finding.device for finding in outcome.findings}, {"tide", "hand-lcd", "pump-lcd"})

    def test_a_bus_that_was_not_captured_is_told(self) -> None:
        outcome = diagnose(healthy("handheld"), Setup(rig_of("front-desk", "handheld")))
        self.assertEqual([finding.device for finding in outcome.findings], ["hand-lcd"])
        self.assertTrue(any("'front'" in entry for entry in outcome.not_observable))


def written(*places: str) -> tuple[Path, Path]:
    """Capture and rig as files, by way of the program's own rig files."""
    capture, rig = FOLDER / "two.vcd", FOLDER / "two.toml"
    write_capture(capture, together(*map(healthy, places)))
    text = "\n".join((demo() / f"{place}.toml").read_text() for place in places)
    lines = [line for line in text.splitlines() if not line.startswith("title")]
    rig.write_text("\n".join(lines).replace('pins = { scl = "GPIO3", sda = "GPIO2" }', ""))
    return capture, rig


def in_json(*words: str) -> Any:
    done = program(*words)
    assert done.stdout, done.stderr
    return json.loads(done.stdout)


class Limits(unittest.TestCase):
    def test_a_tenth_beyond_the_fastest_clock_is_told_and_what_oscillators_are_off_is_not(self) -> None:
        for clock, told in (("404kHz", False), ("440kHz", True)):
            trace = rehearsed("front-desk", f"fast-clock:{clock}")
            codes = [finding.code for finding in diagnose(trace, Setup(rig_of("front-desk"))).findings]
            self.assertEqual("timing.clock-too-fast" in codes, told, (clock, codes))

    def test_a_backlight_that_nothing_switches_stays_lit(self) -> None:
        rig = load_rig(demo() / "engine-room.toml")
        rig.bus[0].lines["backlight"] = "BL"
        trace = rehearse(demo() / "engine-room.hush", rig)[0]
        self.assertEqual(set(trace.level_at(trace.index("BL"), trace.times).tolist()), {1})
        self.assertTrue(decode(trace, rig).devices[0].glass().backlight)

    def test_two_halves_are_parted_in_a_pause_that_surely_is_one(self) -> None:
        lines = ("d4", "d5", "d6", "d7", "rs", "e")
        roles = {role: number for number, role in enumerate(lines)}
        for longest, parted in ((64 * 40, False), (64 * 40 + 40, True)):
            start = 100 + np.cumsum([40] * 50 + [longest] + [40] * 50)
            zeros = np.zeros(len(start), np.uint8)
            tick = Fraction(1, 20_000_000)
            trace = parallel.encode(
                zeros.astype(np.uint32),
                zeros > 0,
                zeros,
                start,
                parallel.Pulse(5, 8, 6),
                roles,
                lines,
                tick,
                int(start[-1]) + 100,
            )
            at = parallel.fresh_start(trace, Wired("bus", roles, Settings(), tick))
            self.assertEqual(at is not None, parted, longest)
            if at is not None:
                self.assertTrue(start[49] + longest / 4 < at < start[50])


class UsersParts(unittest.TestCase):
    def test_the_walk_throughs_part_works_on_i2c_too(self) -> None:
        """Its rule says what a register must not be, which sequences and captures are held against alike."""
        text = re.findall(r"```toml\n(.*?)```", (ROOT / "CONTRIBUTING.md").read_text(), re.DOTALL)[0]
        text = text.replace('framings = ["dc-line"]', 'framings = ["i2c-control-byte"]', 1)
        text += '\n[i2c]\naddresses = [0x3C]\nstrap = "SA0"\nsource = "none: a part of the example"\n'
        folder = scratch()
        parts = folder / "parts"
        parts.mkdir()
        limits = re.search(r"\[limits\].*?\n\n", text, re.DOTALL)
        (parts / "tidelcd.toml").write_text(text.replace(limits[0], "") if limits else text)
        (folder / "desk.toml").write_text(
            (demo() / "front-desk.toml").read_text().replace("ssd1306", "tidelcd").replace("0x3D", "0x3C").replace("0x3d", "0x3C")
        )
        rig = folder / "desk.toml"
        lines = [line for line in rig.read_text().splitlines() if not line.startswith("panel")]
        rig.write_text("\n".join(lines) + "\n")
        start = program("catalog", "tidelcd", "--catalog", str(parts), "--start").stdout.decode()
        for name, own in (("right", start), ("wrong", start.replace("display normal", "display blank"))):
            sequence = folder / f"{name}.hush"
            sequence.write_text(f'device tide\n{own}\ntext 4,4 "GATE"\n')
            words = (str(sequence), "--rig", str(rig), "--catalog", str(parts), "-o", str(folder / f"{name}.vcd"))
            done = program("rehearse", *words)
            self.assertEqual(done.returncode, 0, done.stderr)
            done = program("diagnose", str(folder / f"{name}.vcd"), "--rig", str(rig), "--catalog", str(parts))
            self.assertEqual(done.returncode, int(name == "wrong"), done.stderr + done.stdout)
            self.assertEqual(b"setup.display-off" in done.stdout.partition(b"ruled out")[0], name == "wrong", done.stdout)


class Formats(unittest.TestCase):
    def test_every_format_tells_every_bus(self) -> None:
        for order in (("front-desk", "handheld"), ("handheld", "front-desk")):
            capture, rig = map(str, written(*order))
            base = ("decode", capture, "--rig", rig)
            whole = in_json(*base, "--format", "json")
            lines = [json.loads(line) for line in program(*base, "--format", "jsonl").stdout.splitlines()]
            for record, key in (("transaction", "transactions"), ("command", "commands")):
                mine = [{k: v for k, v in line.items() if k != "record"} for line in lines if line["record"] == record]
                self.assertEqual(mine, whole[key])
            self.assertEqual({entry["bus"] for entry in whole["transactions"]}, {"front", "hand"})
            self.assertEqual({entry["device"] for entry in whole["commands"]}, {"tide", "hand-lcd"})
            rows = list(csv.DictReader(io.StringIO(program(*base, "--format", "csv").stdout.decode())))
            told = [(entry["bus"], entry["start"]) for entry in whole["transactions"]]
            self.assertEqual(sorted((row["bus"], float(row["start"])) for row in rows), sorted(told))
            self.assertEqual(sum("display on" in row["meaning"] for row in rows), 1)
            text = program(*base, "--all").stdout.decode()
            for word in ("tide", "hand-lcd", "0x3d", "display on", "display-control normal", "front", "hand cs"):
                self.assertIn(word, text)
            summary = in_json(*base, "--format", "json", "--summary")
            self.assertEqual(
                {k: lines[-1][k] for k in ("transactions", "words", "commands")},
                {k: summary[k] for k in ("transactions", "words", "commands")},
            )
            self.assertEqual(summary["transactions"], len(whole["transactions"]))

    def test_text_shows_the_same_rows_however_it_is_asked_for(self) -> None:
        capture, rig = map(str, written("front-desk", "handheld"))
        base = ("decode", capture, "--rig", rig)
        short, every = (program(*base, *words).stdout.decode() for words in ((), ("--all",)))
        self.assertEqual(short, every)  # there are fewer rows than are cut

    def test_nothing_is_written_of_what_cannot_be_read(self) -> None:
        for form in ("text", "json", "jsonl", "csv"):
            done = program("decode", "healthy.vcd", "--rig", "front-desk.toml", "--from", "60ms", "--format", form)
            self.assertEqual((done.returncode, done.stdout), (2, b""), form)
            self.assertIn(b"lasts from 0 s to 53.824 ms", done.stderr)

    def test_lines_in_any_order_are_decoded_alike(self) -> None:
        told = []
        for turn in (0, 4, 9):
            text = (demo() / "engine-room.toml").read_text()
            start, _, rest = text.partition("lines = { ")
            inside, _, tail = rest.partition(" }")
            lines = inside.split(", ")
            path = FOLDER / "turned.toml"
            path.write_text(f"{start}lines = {{ {', '.join(lines[turn:] + lines[:turn])} }}{tail}")
            for form in ("jsonl", "json"):
                done = program("decode", "engine-room.vcd", "--rig", str(path), "--format", form)
                self.assertEqual(done.returncode, 0, done.stderr)
            told.append(program("decode", "engine-room.vcd", "--rig", str(path), "--format", "jsonl").stdout)
        self.assertEqual(len(set(told)), 1)

    def test_an_option_that_could_mean_two_buses_is_refused(self) -> None:
        capture, rig = map(str, written("front-desk", "handheld"))
        done = program("decode", capture, "--rig", rig, "--clock", "1MHz")
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"'front' and 'hand'", done.stderr)
        done = program("decode", capture, "--rig", rig, "--line", "mosi=DIN", "--summary")
        self.assertEqual(done.returncode, 0, done.stderr)


class Pieces(unittest.TestCase):
    def test_a_whole_trace_says_what_its_pieces_say(self) -> None:
        from unittest import mock

        whole, rig = together(*map(healthy, PLACES)), rig_of(*PLACES)
        at_once = decode(whole, rig)
        for size in (700, 9_001):
            with mock.patch("hushed_wire.rig.reading.PIECE", size):
                in_pieces = decode(whole, rig)
            for one, other in zip(at_once.channels, in_pieces.channels, strict=True):
                self.assertEqual((one.bus, one.select), (other.bus, other.select))
                for columns in ("words", "table"):
                    a, b = getattr(one, columns), getattr(other, columns)
                    for name in a.__dataclass_fields__:
                        self.assertTrue(np.array_equal(getattr(a, name), getattr(b, name)), (one.bus, columns, name))
            for mine, theirs in zip(at_once.devices, in_pieces.devices, strict=True):
                self.assertEqual(mine.glass().said, theirs.glass().said)
                self.assertEqual([len(chip) for chip in mine.chips], [len(chip) for chip in theirs.chips])


class Kinds(unittest.TestCase):
    def test_every_kind_of_bus_is_a_row_with_a_module(self) -> None:
        for kind in BUSES.values():
            module = kind.load()
            self.assertTrue(callable(module.decoders) and callable(module.encode), kind.name)
            self.assertTrue(set(kind.clocks) | set(kind.one_of) | set(kind.pulled_up) <= set(kind.roles), kind.name)
            self.assertTrue(all(set(pair) <= set(kind.roles) for pair in kind.exchanged), kind.name)


if __name__ == "__main__":
    unittest.main()
