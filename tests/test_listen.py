"""Captures of every bus: against a simulator's drivers, without a rig, searched, converted, frame by frame."""

from __future__ import annotations

import io
import itertools
import json
import re
import shutil
import subprocess
import unittest
from collections.abc import Iterator
from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from hushed_wire.bus import parallel
from hushed_wire.errors import HushedError
from hushed_wire.part.frames import frame_ends
from hushed_wire.part.model import Journal
from hushed_wire.rig import Rig, load_rig
from hushed_wire.rig.conditions import parse_condition
from hushed_wire.rig.reading import decode
from hushed_wire.rig.schema import Bus
from hushed_wire.rig.spans import Spans
from hushed_wire.trace import Trace, read_capture
from strategies import traces
from support import FIXTURES, TICK, demo, program, program_json, scratch
from test_buses import WAYS, bridge, bus, device

FOLDER = scratch()


class SimulatedDrivers(unittest.TestCase):
    """A Verilog bench's own account of what it sent, bus by bus."""

    SENT = (FIXTURES / "buses_tb.txt").read_text().splitlines()

    def sent(self, name: str) -> list[list[str]]:
        return [line.split()[1:] for line in self.SENT if line.startswith(name + " ")]

    def heard(self, trace: Trace, kind: str, lines: dict[str, str], **more: Any) -> Any:
        return decode(trace, Rig(bus=[Bus("bench", kind, lines=lines, **more)])).channels[0]  # type: ignore[arg-type]

    def check(self, trace: Trace) -> None:
        own = self.heard(trace, "spi", {"sck": "sck0", "mosi": "mosi0", "cs": "cs0", "dc": "dc0"})
        words = [[str(dc), f"{value:02x}"] for value, dc in zip(own.words.value.tolist(), own.dc.tolist(), strict=True)]
        self.assertEqual(words, self.sent("spi0"))
        self.assertEqual((own.table.last - own.table.first).tolist(), [3] * 6)
        own = self.heard(trace, "spi", {"sck": "sck3", "mosi": "mosi3", "cs": "cs3"}, mode=3, bits=9)
        self.assertEqual([[f"{value:03x}"] for value in own.words.value.tolist()], self.sent("spi3"))
        own = self.heard(trace, "parallel", {f"d{k}": f"p[{k}]" for k in range(8)} | {"rs": "prs", "wr": "wr", "rd": "rd"})
        words = [
            [str(dc), f"{value:02x}"]
            for value, dc, read in zip(own.words.value.tolist(), own.dc.tolist(), own.read.tolist(), strict=True)
            if not read
        ]
        self.assertEqual((words, int(own.read.sum())), (self.sent("8080"), 1))
        self.assertEqual(own.words.unclear.tolist(), own.read.tolist())  # nobody drives the bus while the bench reads
        own = self.heard(trace, "parallel", {f"d{k}": f"q[{k}]" for k in range(8)} | {"rs": "qrs", "rw": "qrw", "e": "qe"})
        self.assertEqual(
            [[str(dc), f"{value:02x}"] for value, dc in zip(own.words.value.tolist(), own.dc.tolist(), strict=True)],
            self.sent("6800"),
        )
        own = self.heard(trace, "parallel", {f"d{k}": f"n[{k}]" for k in range(4, 8)} | {"rs": "nrs", "e": "ne"})
        pairs = own.words.value.reshape(-1, 2)
        self.assertEqual(
            [[str(dc), f"{a << 4 | b:02x}"] for (a, b), dc in zip(pairs.tolist(), own.dc[::2].tolist(), strict=True)],
            self.sent("nibbles"),
        )
        own = self.heard(trace, "shift", {"clock": "sclock", "data": "sdata", "latch": "slatch"})
        self.assertEqual((own.bits, [[f"{value:04x}"] for value in own.words.value.tolist()]), (16, self.sent("shift")))

    def test_the_committed_capture(self) -> None:
        self.check(read_capture(FIXTURES / "buses_tb.vcd.gz"))

    @unittest.skipUnless(shutil.which("iverilog"), "no Verilog simulator here; its committed capture was tested")
    def test_a_fresh_run(self) -> None:
        folder = scratch()
        subprocess.run(["iverilog", "-o", "bench", str(FIXTURES / "buses_tb.v")], cwd=folder, check=True)
        done = subprocess.run(["vvp", "bench"], cwd=folder, check=True, capture_output=True, text=True)
        self.assertEqual(
            [line for line in done.stdout.splitlines() if not line.startswith("VCD")],
            [s for s in self.SENT if not s.startswith("VCD")],
        )
        self.check(read_capture(folder / "buses_tb.vcd"))


def rehearsed(text: str, drawn: str, name: str) -> None:
    (FOLDER / "rig.toml").write_text(text)
    part = re.search(r'\[\[device\]\].*?part = "([\w-]+)".*?panel = "([\w-]+)"', text, re.DOTALL)
    assert part is not None
    framing = ["--framing", "nibbles"] if "d7" in text and not re.search(r"\bd0\b", text) else []
    start = program("catalog", part[1], "--panel", part[2], "--start", *framing).stdout.decode()
    if "reset" not in text:
        start = "\n".join(line for line in start.splitlines() if not line.startswith("reset")) + "\n"
    (FOLDER / "s.hush").write_text(start + drawn + "\n")
    done = program("rehearse", "s.hush", "--rig", "rig.toml", "-o", name, "-q", cwd=FOLDER)
    assert done.returncode == 0, done.stderr


class AsASequence(unittest.TestCase):
    def test_what_a_capture_says_can_be_sent_again(self) -> None:
        for place in ("handheld", "wheelhouse", "engine-room", "pump-room"):
            rig = ("--rig", f"{place}.toml")
            self.assertEqual(program("decode", f"{place}.vcd", *rig, "--as", "hush", "-o", "again.hush").returncode, 0)
            program("rehearse", "again.hush", *rig, "-o", "again.vcd", "-q")
            shown = [program_json("screen", capture, *rig)["screens"][0] for capture in (f"{place}.vcd", "again.vcd")]
            self.assertEqual(*({k: v for k, v in one.items() if k != "time"} for one in shown))


class WithoutARig(unittest.TestCase):
    def test_spi_lines_and_their_part_are_found_by_the_traffic(self) -> None:
        for way in ("ssd1306, dc line", "sh1106, nine bits", "pcd8544", "max7219"):
            with self.subTest(way):
                rehearsed(*WAYS[way], "s.vcd")
                known = program_json("decode", "s.vcd", "--rig", "rig.toml", cwd=FOLDER)
                text = (FOLDER / "s.vcd").read_text()
                for number, name in enumerate(("MOSI", "CS", "RESET", "SCK", "DC")):
                    text = re.sub(rf"(\$var wire 1 \S+) {name} ", rf"\1 D{number} ", text)
                (FOLDER / "anonymous.vcd").write_text(text)
                found = program_json("decode", "anonymous.vcd", cwd=FOLDER)
                strip = [
                    [{k: v for k, v in entry.items() if k != "device"} for entry in one["commands"]] for one in (known, found)
                ]
                self.assertEqual(strip[0], strip[1])
                self.assertEqual(
                    [len(entry["words"]) for entry in known["transactions"]],
                    [len(entry["words"]) for entry in found["transactions"]],
                )
                self.assertIn("by the traffic", found["assumed"]["lines"])

    def test_lines_without_names_on_other_buses(self) -> None:
        from hushed_wire.rig.recognise import bus_of, likely_roles
        from hushed_wire.rig.rehearse import rehearse
        from hushed_wire.sequence.start import start_text
        from test_buses import WAYS

        for name, kind in (
            *((name, "parallel") for name in ("st7789, 8080", "hd44780, 8 bits", "hd44780, 4 bits", "ks0108")),
            *((name, "shift") for name in ("behind 74hc595", "behind five 74hc595")),
            *((name, "spi") for name in ("max7219", "pcd8544", "behind two 74hc595 on spi", "behind mcp23s17")),
        ):
            text, drawn = WAYS[name]
            (FOLDER / "rig.toml").write_text(text)
            rig = load_rig(FOLDER / "rig.toml")
            start = start_text(rig.target(rig.device[0]))
            lines = [line for line in start.splitlines() if not line.startswith("reset")]
            (FOLDER / "s.hush").write_text("\n".join([*lines, drawn]))
            trace, _ = rehearse(FOLDER / "s.hush", rig, seed=3)
            roles = {line: role for role, line in rig.bus[0].lines.items()}
            moving = {line for k, line in enumerate(trace.names) if len(trace.edges(k).times) > 1}
            real = {line: role for line, role in roles.items() if line in moving}
            for order in (1, -1):  # as they are, and from the last one to the first
                names = trace.names[::order]
                bare = trace.select([trace.index(line) for line in names], tuple(f"ch {k}" for k in range(len(names))))
                bus = bus_of(bare, "", {}, assumed := {})
                assert bus is not None, name
                found = {names[bare.index(line)]: role for role, line in bus.lines.items()}
                self.assertEqual(bus.kind, kind)
                self.assertEqual(
                    {line: role for line, role in found.items() if line in real},
                    real if kind != "spi" else {**real, **found},
                    name,
                )
                self.assertIn("by the traffic", assumed["lines"])
                told = {names[line]: role for line, role in likely_roles(bare).items()}
                self.assertEqual(told, {line: f"{kind} {role}" for line, role in found.items()}, name)
        # Words that are no part's commands: that it is a parallel bus, and by which strobe, is told all the same.
        random = np.random.default_rng(7)
        lines = {f"d{k}": k for k in range(8)} | {"rs": 8, "e": 9}
        words, start = random.integers(0, 256, 200).astype(np.uint32), 100 + 40 * np.arange(200)
        names = tuple(f"ch {k}" for k in range(10))
        noise = parallel.encode(
            words, words % 3 > 0, np.zeros(200, np.uint8), start, parallel.Pulse(5, 8, 6), lines, names, TICK, 9000
        )
        with self.assertRaisesRegex(HushedError, "pulses of ch 9 latch ch 0, ch 1") as caught:
            bus_of(noise, "", {}, {})
        self.assertIn("--line e='ch 9'", str(caught.exception.remedy))
        self.assertEqual(likely_roles(noise)[9], "parallel e")

    def test_a_character_display_behind_any_adapter(self) -> None:
        for rs, rw, e, light, nibble in (
            (0, 1, 2, 3, (4, 5, 6, 7)),
            (6, 5, 4, 7, (0, 1, 2, 3)),
            (4, 6, 5, 7, (3, 2, 1, 0)),
            (1, 2, 3, 0, (7, 6, 5, 4)),
        ):
            pins = {"rs": f"p{rs}", "rw": f"p{rw}", "e": f"p{e}", "backlight": f"p{light}"} | {
                f"d{4 + k}": f"p{bit}" for k, bit in enumerate(nibble)
            }
            text = (
                bus("i2c", ["scl", "sda"], clock="100kHz")
                + bridge("pcf8574", pins, address=0x27)
                + device("hd44780", "16x2", on="adapter")
            )
            rehearsed(text, 'text 0,0 "GATE OPEN"\ntext 0,1 "IN 4.20 m"', "s.vcd")
            screen = program_json("screen", "s.vcd", cwd=FOLDER)["screens"][0]
            self.assertEqual([line.rstrip() for line in screen["lines"]], ["GATE OPEN", "IN 4.20 m"])

    def test_reports_of_other_buses(self) -> None:
        out = program_json("decode", "handheld.vcd", "--rig", "handheld.toml")
        first = out["transactions"][0]
        shown = [first[key] for key in ("bus", "select", "words", "dc", "direction", "continued")]
        self.assertEqual(shown, ["hand", "cs", [0x21], [0], "write", False])
        self.assertEqual([c["name"] for c in out["commands"][:3]], ["function-set", "vop", "temperature"])
        lines = program("decode", "handheld.vcd", "--rig", "handheld.toml", "--format", "jsonl").stdout.splitlines()
        kinds = [json.loads(line)["record"] for line in lines]
        self.assertEqual(
            [kinds.count(kind) for kind in ("transaction", "command", "summary")],
            [len(out["transactions"]), len(out["commands"]), 1],
        )
        rows = program("decode", "wheelhouse.vcd", "--format", "csv").stdout.decode().splitlines()
        self.assertEqual((rows[0].split(",")[-1], rows[1].split(",")[-1], len(rows)), ("meaning", "shutdown on", 42))
        for capture in ("pump-room", "engine-room"):
            text = program("decode", f"{capture}.vcd", "--rig", f"{capture}.toml").stdout.decode()
            self.assertNotIn("unknown", text)
        two = program_json("decode", "engine-room.vcd")["commands"]
        self.assertEqual({entry["chip"] for entry in two}, {1, 2})
        for kind in ("png", "svg"):
            self.assertEqual(program("plot", "engine-room.vcd", "-o", f"e.{kind}", "-q").returncode, 0)
        self.assertEqual(Image.open(demo() / "e.png").size, (1280, 800))


def members(spans: Spans, low: int, high: int) -> list[bool]:
    return [any(a <= t <= b for a, b in zip(spans.start.tolist(), spans.end.tolist(), strict=True)) for t in range(low, high + 1)]


@st.composite
def spans(draw: st.DrawFn) -> Spans:
    pairs = draw(st.lists(st.tuples(st.integers(0, 40), st.integers(0, 9)), max_size=8))
    return Spans.of(np.array([a for a, _ in pairs], np.int64), np.array([min(40, a + n) for a, n in pairs], np.int64))


class Conditions(unittest.TestCase):
    @settings(max_examples=150)
    @given(spans(), spans())
    def test_and_or_not_are_what_they_say(self, a: Spans, b: Spans) -> None:
        one, other = members(a, 0, 40), members(b, 0, 40)
        self.assertEqual(members(a.both(b), 0, 40), [x and y for x, y in zip(one, other, strict=True)])
        self.assertEqual(members(a.either(b), 0, 40), [x or y for x, y in zip(one, other, strict=True)])
        self.assertEqual(members(a.rest(0, 40), 0, 40), [not x for x in one])

    def count(self, capture: str, condition: str, *words: str) -> int:
        done = program("find", capture, condition, "--count", *words)
        self.assertEqual(done.stderr, b"", condition)
        self.assertEqual(done.returncode, int(done.stdout == b"0\n"))
        return int(done.stdout)

    def test_places_are_those_that_decode_tells(self) -> None:
        told = program_json("decode", "healthy.vcd", "--rig", "front-desk.toml")
        commands, moves = told["commands"], told["transactions"]
        for condition, wanted in (
            ("start", len(moves)), ("stop", len(moves)), ("address=0x3D", len(moves)), ("address!=0x3D", 0), ("refused", 0), ("write", len(moves)),
            ("command=data", sum(c["name"] == "data" for c in commands)), ("device=tide", len(commands)),
            ("command!=data", sum(c["name"] != "data" for c in commands)),
            ("command=multiplex-ratio and multiplex-ratio.lines=64", 1), ("contrast.level>=207 or contrast.level<10", 1), ("contrast.level>207", 0),
            ('bytes="8D 14"', 1), ("bytes=8D and not address=0x3D", 0), ("length>1000", sum(len(m["bytes"]) > 1000 for m in moves)),
            ("gap>2ms", sum(b["start"] - a["end"] > 0.002 for a, b in itertools.pairwise(moves))), ("(start or stop) and command=display", 0),
        ):  # fmt: skip
            self.assertEqual(self.count("healthy.vcd", condition, "--rig", "front-desk.toml"), wanted, condition)
        refused = program_json("decode", "nobody-there.vcd")["transactions"]
        self.assertEqual(self.count("nobody-there.vcd", "refused"), len(refused))
        trace = read_capture(demo() / "healthy.vcd")
        edges = trace.edges(trace.index("SCL"))
        high = edges.durations()[edges.level == 1][1:-1]
        limit = int(np.median(high))
        text = f"{float(trace.seconds(limit)) * 1e9:.0f}ns"
        self.assertEqual(self.count("healthy.vcd", f"high(SCL)>{text}"), int(np.count_nonzero(high > limit)))
        self.assertEqual(self.count("healthy.vcd", "edge=SDA"), len(trace.edges(trace.index("SDA")).times) - 1)
        done = program("find", "healthy.vcd", 'bytes="8D 14"', "--context", "1")
        self.assertRegex(done.stdout.decode(), r"--from \d+us --to \d+us")
        window = re.search(r"--from (\S+) --to (\S+)", done.stdout.decode())
        assert window is not None
        again = program_json("decode", "healthy.vcd", "--rig", "front-desk.toml", "--from", window[1], "--to", window[2])
        self.assertEqual([c["name"] for c in again["commands"]], ["charge-pump"])

    def test_selects_that_words_carry(self) -> None:
        # Half of the picture is each chip's; the set-up is told both at once.
        counts = {}
        for condition in (
            "command=page",
            "select=cs1 and command=page",
            "select=cs2 and command=page",
            "select=cs1 and select=cs2",
            "select!=cs1",
        ):
            counts[condition] = int(program("find", "engine-room.vcd", condition, "--count").stdout)
        self.assertEqual(list(counts.values())[:3], [16, 8, 8])
        self.assertGreater(counts["select=cs1 and select=cs2"], 0)
        self.assertGreaterEqual(counts["select!=cs1"], 16)
        self.assertIn("did you mean", program("find", "engine-room.vcd", "select=cs3").stderr.decode())
        lines = program("find", "engine-room.vcd", "command=page", "--context", "1").stdout.decode().splitlines()[2:]
        # What lies between two places is context of both, and told once.
        self.assertEqual(len([line for line in lines if "page" in line and line.lstrip()[0].isdigit()]), 16)
        self.assertLessEqual(len(lines), 16 + 17)

    def test_lines_alone_are_found_as_among_words(self) -> None:
        """Where nothing of what is said is asked for, nothing is decoded; what is found is the same."""
        for condition in ("high(SCL)<1.1us", "rise=SDA or fall=SCL", "not (low(SDA)>2us and high(SCL)<1us)"):
            self.assertFalse(parse_condition(condition).words)
            self.assertTrue(parse_condition(f"{condition} or (start and stop)").words)
            for more in ((), ("--rig", "front-desk.toml"), ("--from", "1ms", "--to", "3ms")):
                alone = program("find", "healthy.vcd", condition, "--format", "json", *more).stdout
                among = program("find", "healthy.vcd", f"({condition}) or (start and stop)", "--format", "json", *more).stdout
                self.assertEqual(json.loads(alone)["found"], json.loads(among)["found"])
                if condition.startswith("rise"):
                    self.assertGreater(json.loads(alone)["count"], 3)

    def test_many_tests_in_a_row(self) -> None:
        once = int(program("find", "healthy.vcd", "start", "--count").stdout)
        for word in ("or", "and"):
            self.assertEqual(int(program("find", "healthy.vcd", f" {word} ".join(["start"] * 3000), "--count").stdout), once)

    def test_what_makes_no_sense(self) -> None:
        for condition, said in (
            ("", "something is missing"), ("start and", "something is missing"), ("(start", "a bracket is open"), ("start stop", "too much"),
            ("adress=3", "'adress' is no test"), ("address=x", "no number"), ("start=3", "stands alone"), ("address>3", "takes = or !="),
            ("high<3us", "which line"), ("high(SCL)<fast", "CONDITION: 'fast'"), ("bytes=GH", "no list of hex"), ("high(SCL)", "takes <"),
        ):  # fmt: skip
            with self.assertRaisesRegex(HushedError, re.escape(said)):
                parse_condition(condition)
                raise HushedError(program("find", "healthy.vcd", condition).stderr.decode())
        for condition, said in (
            ("command=charge-pmp", "did you mean 'charge-pump'"),
            ("edge=SCK", "no line 'SCK'"),
            ("contrast.height=3", "no field 'height'"),
            ("device=tyde", "no device 'tyde'"),
            ("bus=frint", "no bus 'frint'"),
            ("select=cs2", "no select 'cs2'"),
            ("contrast.level>low", "'contrast.level' is a number, and 'low' is none"),
            ("display.state>1", "'display.state' has names, which have no size"),
            ("(" * 300 + "start" + ")" * 300, "more than 100 brackets and nots"),
            ("not " * 300 + "start", "more than 100 brackets and nots"),
        ):
            done = program("find", "healthy.vcd", condition)
            self.assertEqual(done.returncode, 2)
            self.assertIn(said, done.stderr.decode())


class Unknowns(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.data())
    def test_strobes_are_looked_for_among_levels_that_are_not_known(self, data: st.DataObject) -> None:
        """Pulses that lack an end are none; whatever the levels, something is said or nothing, but it does not fail."""
        from hushed_wire.bus.strobe_roles import best_parallel, best_shift

        random = np.random.default_rng(data.draw(st.integers(0, 999)))
        start = 100 + 40 * np.arange(60)
        value, none = random.integers(0, 256, 60).astype(np.uint32), np.zeros(60, np.uint8)
        lines = {f"d{k}": k for k in range(8)} | {"rs": 8, "e": 9}
        clear = parallel.encode(value, value % 3 > 0, none, start, parallel.Pulse(5, 8, 6), lines, tuple(lines), TICK, 9000)
        known = best_parallel(clear)
        assert known is not None
        self.assertEqual(known.strobes, [9])
        unknown = np.zeros(len(clear.times), np.uint16)
        for at in data.draw(st.lists(st.integers(0, len(unknown) - 1), max_size=6)):
            unknown[at : at + data.draw(st.integers(1, 9))] = data.draw(st.sampled_from([0x200, 0x3FF, 1]))
        blurred = replace(clear, levels=clear.levels & ~unknown, unknown=unknown)
        fit = best_parallel(blurred)
        self.assertTrue(fit is None or 9 in fit.strobes or unknown.any())
        self.assertIsNone(best_shift(blurred))


class Converted(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(traces())
    def test_every_format_there_and_back(self, trace: Trace) -> None:
        from hushed_wire.trace.files import write_capture

        for name, options in (
            ("c.vcd.gz", {}),
            ("c.csv", {}),
            ("c.npz", {}),
            ("c.raw", {"raw": 1 if len(trace.names) <= 8 else 2, "rate": Fraction(10**7)}),
        ):
            write_capture(FOLDER / name, trace)
            back = read_capture(FOLDER / name, **options)
            for line in range(len(trace.names)):
                one, other = trace.edges(line), back.edges(back.index(str(line)) if options else line)
                scaled = [round(t * back.tick / trace.tick) for t in other.times.tolist()]
                self.assertEqual((one.times.tolist(), one.level.tolist()), (scaled, other.level.tolist()), name)

    def test_samples_from_numpy_and_packed_bits(self) -> None:
        clock, data = np.tile([0, 1], 40).astype(bool), np.repeat(np.arange(20) % 3 == 0, 4)
        np.savez(FOLDER / "s.npz", SCL=clock, SDA=data.astype(np.uint8), rate=np.array(2_000_000))
        rows = program_json("lines", "s.npz", cwd=FOLDER)["lines"]
        self.assertEqual([(row["name"], row["rises"]) for row in rows], [("SCL", 40), ("SDA", 6)])
        packed = np.packbits(np.stack([data, clock], axis=1).reshape(-1, 8)[:, ::-1], axis=1)
        (FOLDER / "s.bin").write_bytes(packed.tobytes())
        rows = program_json("lines", "s.bin", "--raw", "2bit", "--rate", "2MHz", cwd=FOLDER)["lines"]
        self.assertEqual([(row["name"], row["rises"]) for row in rows], [("0", 6), ("1", 40)])
        falling = {"times": np.array([3, 1]), "levels": np.array([0, 1]), "names": np.array(["A"]), "tick": np.array([1, 1000])}
        uneven = {"a": np.zeros(3, bool), "b": np.zeros(4, bool), "rate": np.array(5)}
        for arrays, said in (
            ({"a": np.zeros(3)}, "no arrays of samples"), ({"a": np.zeros(3, bool)}, "sample rate"), (falling, "do not ascend"), (uneven, "different numbers"),
        ):  # fmt: skip
            np.savez(FOLDER / "bad.npz", **arrays)
            done = program("lines", "bad.npz", cwd=FOLDER)
            self.assertEqual((done.returncode, done.stdout), (2, b""))
            self.assertIn(said, done.stderr.decode())
        (FOLDER / "cut.npz").write_bytes((FOLDER / "s.npz").read_bytes()[:400])
        self.assertIn(b"cannot be read", program("lines", "cut.npz", cwd=FOLDER).stderr)

    def test_words_beside_the_lines_in_another_readers_eyes(self) -> None:
        import vcd.reader

        done = program("convert", "handheld.vcd", "--words", "-o", "words.vcd")
        self.assertEqual(done.returncode, 0, done.stderr)
        names, words, texts = {}, [], []
        for token in vcd.reader.tokenize(io.BytesIO((demo() / "words.vcd").read_bytes())):
            if token.kind is vcd.reader.TokenKind.VAR:
                names[token.var.id_code] = token.var.reference
            elif token.kind is vcd.reader.TokenKind.CHANGE_VECTOR:
                if names[token.vector_change.id_code].endswith("_word"):
                    words.append(token.vector_change.value)
                else:
                    texts.append(int(token.vector_change.value).to_bytes(32, "big").rstrip(b"\0").decode())
        sent = program_json("decode", "handheld.vcd")
        self.assertEqual(
            [word for word in words if isinstance(word, int)], [word for move in sent["transactions"] for word in move["words"]]
        )
        self.assertEqual(texts[:2], ["function-set power=active addres", "vop 63"])
        self.assertEqual(program("convert", "handheld.vcd", "--words", "-o", "x.csv").returncode, 2)
        # Read back, the lines are what they were; the text beside them is wider than any bus.
        self.assertEqual(program_json("screen", "words.vcd")["screens"], program_json("screen", "handheld.vcd")["screens"])
        self.assertIn(b"_command' is a vector of 256 bits", program("lines", "words.vcd").stdout)
        done = program(
            "convert", "handheld.vcd", "-o", "part.npz", "--only", "A=CLK", "--only", "DIN", "--from", "1ms", "--to", "2ms"
        )
        self.assertIn(b"1.000 ms, 2 lines", done.stderr)
        self.assertEqual([row["name"] for row in program_json("lines", "part.npz")["lines"]], ["A", "DIN"])
        shaded = program("convert", "no-pump.vcd", "--findings", "-o", "-").stdout
        self.assertIn(b"setup_charge_pump_off", shaded)


class Frames(unittest.TestCase):
    @settings(max_examples=100)
    @given(st.lists(st.tuples(st.integers(1, 30), st.integers(0, 6)), min_size=1, max_size=40))
    def test_a_frame_ends_where_something_is_written_again(self, steps: list[tuple[int, int]]) -> None:
        when = np.cumsum([step for step, _ in steps])
        where = [place for _, place in steps]
        journal = Journal.__new__(Journal)
        journal._writes = [(when, np.array(where, np.int64), np.zeros(len(where), np.uint8))]

        def plainly() -> Iterator[int]:
            seen: set[int] = set()
            for k, place in enumerate(where):
                if k and (place in seen or when[k] - when[k - 1] > 20):
                    yield int(when[k - 1])
                    seen = set()
                seen.add(place)
            yield int(when[-1])

        self.assertEqual(frame_ends(journal, 1.0, 20).tolist(), list(plainly()))

    def test_frames_of_captures(self) -> None:
        out = program_json("screen", "wheelhouse.vcd", "--every", "frame")["screens"]
        self.assertEqual([one["lit"] for one in out], [False] + [True] * (len(out) - 1))
        self.assertEqual(out[-1]["lines"][0].replace(" ", ""), "4.204.01")
        self.assertEqual(program("screen", "wheelhouse.vcd", "--every", "frame", "--picture", "w.gif", "-q").returncode, 0)
        self.assertEqual(Image.open(demo() / "w.gif").n_frames, len(out))
        self.assertEqual(program("screen", "handheld.vcd", "--every", "frame", "--picture", "h.png", "-q").returncode, 0)
        self.assertTrue((demo() / "h-0001.png").exists())
        text = program("screen", "pump-room.vcd", "--memory").stdout.decode()
        self.assertIn("  00h  PUMP 1  off         SUMP     1.82 m   ₁", text)
        self.assertIn("CGRAM", text)
