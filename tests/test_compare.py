"""Two drivers compared: a port that does the same is said to, whatever its bus; one that does not is told by what matters."""

import json
import random
import tempfile
import unittest
from collections.abc import Sequence
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

import hushed_wire
from hushed_wire.comparison import compare, side_of_reading, side_of_sequence
from hushed_wire.comparison.align import gaps
from hushed_wire.comparison.outcome import Comparison
from hushed_wire.part import load
from hushed_wire.part.wrap import BUS_OF
from hushed_wire.rig import load_rig
from hushed_wire.rig.reading import decode
from hushed_wire.sequence import Target, expand, parse_text
from hushed_wire.sequence.examine import examine
from hushed_wire.sequence.start import start_text
from maker import cases as maker
from maker import writers
from strategies import sequences
from support import demo, program, scratch

FOLDER = scratch()
CLOCKS = {"i2c": 400_000, "spi": 1_000_000, "parallel": 1_000_000, "shift": 1_000_000}
OLED = (
    "display off", "display-clock divide=1 frequency=8", "multiplex-ratio 64", "display-offset 0", "start-line 0", "charge-pump on",
    "memory-mode horizontal", "segment-remap on", "com-scan descending", "com-pins wiring=alternative left-right=off", "contrast 0xCF",
    "column-address start=0 end=127", "page-address start=0 end=7", "data 0x5A*1024", "display on",
)  # fmt: skip


def side(lines: Sequence[str], part: str = "ssd1306", panel: str = "128x64", framing: str = "") -> Any:
    """A sequence as a side."""
    own = load(part)
    target = Target("glass", own, own.panel(panel), framing)
    steps = expand(parse_text("\n".join(lines), f"{len(lines)}.hush", FOLDER), [target], FOLDER)
    timed = examine(steps, [target], {"glass": CLOCKS[target.bus_kind]}).steps  # type: ignore[dict-item]
    return side_of_sequence("side", timed, [target])


def bring_up(part: str, panel: str) -> list[str]:
    """The catalog's own, line by line."""
    own = load(part)
    return [line for line in start_text(Target("glass", own, own.panel(panel))).splitlines() if line and not line.startswith("#")]


def compared(a: Sequence[str], b: Sequence[str], part: str = "ssd1306", panel: str = "128x64") -> Comparison:
    """Two sequences."""
    return compare(side(a, part, panel), side(b, part, panel))


def reasons(found: Comparison) -> dict[str, set[str]]:
    """The reasons by the commands that have them."""
    out: dict[str, set[str]] = {}
    for entry in found.differences:
        point = entry.a or entry.b
        assert point is not None
        out.setdefault(entry.why.key, set()).add(point.name)
    return out


def with_(lines: Sequence[str], **changes: str) -> list[str]:
    """The lines, those that begin with a name replaced (left out where the text is empty)."""
    out = []
    for line in lines:
        key = line.split()[0].replace("-", "_")
        out += ([changes[key]] if changes[key] else []) if key in changes else [line]
    return out


class Judged(unittest.TestCase):
    """What differs, and why it matters or not."""

    def test_a_port_that_does_the_same(self) -> None:
        pages = [line for page in range(8) for line in (f"page-start {page}", "column-low 0", "column-high 0", "data 0x5A*128")]
        port = with_(
            OLED, memory_mode="memory-mode page", column_address="", page_address="", data="", display_offset="", com_scan=""
        )
        port = [*port[:1], "com-scan descending", "nop", *port[1:-1], "contrast 0xCF", *pages, "display on"]
        found = compared(OLED, port)
        self.assertEqual(found.same, {"words": False, "commands": False, "state": True, "picture": True})
        self.assertIs(found.holds(), True)
        self.assertEqual(
            reasons(found),
            {
                "order": {"com-scan"}, "reset-value": {"display-offset"}, "nothing": {"nop"}, "addressing": {"memory-mode"},
                "repeated": {"contrast"}, "same-memory": {"data"},
                "pointer": {"column-address", "page-address", "page-start", "column-low", "column-high"},
            },
        )  # fmt: skip

    def test_what_matters(self) -> None:
        for changes, key, name in (
            ({"contrast": "contrast 0x10"}, "at-the-end", "contrast"),
            ({"charge_pump": ""}, "at-the-end", "charge-pump"),
            ({"multiplex_ratio": "multiplex-ratio 32"}, "at-the-end", "multiplex-ratio"),
            ({"data": "data 0x5A*1000 0x5B*24"}, "other-memory", "data"),
            ({"display_clock": "bytes 0xFF"}, "unknown", "unknown"),
        ):
            with self.subTest(**changes):
                found = compared(OLED, with_(OLED, **changes))
                self.assertIs(found.holds(), False)
                self.assertIn(name, reasons(found)[key])
                self.assertTrue(found.first is not None and found.first.why.matters)

    def test_settings_count_while_a_picture_stands(self) -> None:
        pictures = [f'wait 50ms\nfill off\ntext 3,9 "{word}"\nwait 50ms' for word in ("GATE", "OPEN", "SHUT")]

        def shown(*ahead: str) -> list[str]:
            """The pictures, each with what is set while it stands, and the same at the end."""
            lines = [line for picture, more in zip(pictures, ahead, strict=True) for line in (picture, more) if line]
            return "\n".join([*OLED, *lines, "wait 50ms", "fill off", "contrast 0x40", "invert off"]).splitlines()

        same = compared(shown("contrast 0x80", "", "invert on"), shown("contrast 0x80", "nop", "invert on\ncontrast 0x80"))
        self.assertIs(same.holds(), True, reasons(same))
        other = compared(shown("contrast 0x80", "", "invert on"), shown("", "contrast 0x80", "invert on"))
        stood = [entry for entry in other.differences if entry.why.key == "while-it-stood"]
        self.assertEqual([(entry.a.name, entry.a.fields, entry.b.fields, entry.count) for entry in stood if entry.a and entry.b],
                         [("contrast", {"level": 0x80}, {"level": 0xCF}, 2)])  # fmt: skip
        self.assertEqual((other.same["state"], other.same["picture"], other.holds()), (False, True, False))

    def test_a_missing_step_and_a_missing_reset(self) -> None:
        start = bring_up("st7789", "240x320")
        full = [*start, "set-column-address start=0 end=239", "set-page-address start=0 end=319"]
        without = [line for line in full if line.split()[0] != "sleep-mode"]
        self.assertIn(
            "sleep-mode", {name for names in reasons(compared(full, without, "st7789", "240x320")).values() for name in names}
        )
        self.assertIs(compared(full, without, "st7789", "240x320").holds(), False)
        reset = [line for line in full if line.split()[0] == "soft-reset"]
        self.assertTrue(reset)
        unset = [line for line in full if line.split()[0] != "soft-reset"]
        self.assertIn("no-reset", reasons(compared(full, unset, "st7789", "240x320")))
        by_line = ["reset low", "wait 1ms", "reset high", "wait 120ms", *unset]
        self.assertNotIn("no-reset", reasons(compared(full, by_line, "st7789", "240x320")))

    def test_only_what_leads_to_the_difference_is_blamed(self) -> None:
        lines = [*OLED, "column-address start=0 end=9", "page-address start=2 end=2", "data 0x11*10",
                 "column-address start=20 end=29", "page-address start=3 end=3", "data 0x22*10"]  # fmt: skip
        other = [*lines[:-4], "data 0x11*4", "data 0x11*5 0x12", "column-address start=20 end=29", "page-address start=3 end=3",
                 "data 0x22*9", "data 0x22"]  # fmt: skip
        found = compared(lines, other)
        blamed = [entry for entry in found.differences if entry.why.key == "other-memory"]
        self.assertEqual([(entry.a.raw[:1] if entry.a else b"") for entry in blamed], [b"\x11"])
        self.assertIn("1 of 1,024", blamed[0].why.because)
        self.assertEqual(found.same["commands"], False)

    def test_blocks_make_no_difference(self) -> None:
        cut = [*OLED[:-2], "data 0x5A*1000", "data 0x5A*24", OLED[-1]]
        self.assertEqual(compared(OLED, cut).same, dict.fromkeys(("words", "commands", "state", "picture"), True))

    def test_a_display_that_one_side_lacks(self) -> None:
        both = side(OLED)
        both.devices += side(bring_up("max7219", "8-digits"), "max7219", "8-digits").devices
        found = compare(side(OLED), both)
        self.assertIs(found.holds(), False)
        self.assertEqual(reasons(found), {"missing-device": {"max7219"}})

    def test_a_capture_that_begins_late(self) -> None:
        late = OLED[-4:]
        found = compared(late, OLED)
        self.assertIsNone(found.same["state"])
        self.assertEqual({entry.why.key for entry in found.differences if not entry.why.matters} & {"before"}, {"before"})


class Aligned(unittest.TestCase):
    @given(st.lists(st.integers(0, 6), max_size=300), st.lists(st.integers(0, 6), max_size=300))
    @settings(deadline=None, max_examples=60)
    def test_gaps_and_what_is_equal_between_them_are_everything(self, a: list[int], b: list[int]) -> None:
        found, every = gaps(np.array(a, np.int64), np.array(b, np.int64))
        self.assertTrue(every)
        i = j = 0
        for gap in found:
            self.assertEqual(a[i : gap.a.start], b[j : gap.b.start])
            self.assertTrue(len(gap.a) or len(gap.b))
            i, j = gap.a.stop, gap.b.stop
        self.assertEqual(a[i:], b[j:])

    @given(st.integers(0, 2**32), st.integers(1, 12))
    @settings(deadline=None, max_examples=20)
    def test_an_inserted_command_shifts_nothing(self, seed: int, count: int) -> None:
        chance = random.Random(seed)
        a = [chance.randrange(40) for _ in range(20_000)]
        b, places = list(a), sorted(chance.sample(range(20_000), count), reverse=True)
        for place in places:
            b.insert(place, 99)
        found, every = gaps(np.array(a), np.array(b))
        self.assertTrue(every)
        self.assertEqual(sum(len(gap.b) for gap in found), count)
        self.assertEqual(sum(len(gap.a) for gap in found), 0)

    def test_what_has_nothing_in_common_ends(self) -> None:
        a, b = np.arange(60_000), np.arange(60_000) + 10**6
        found, _ = gaps(a, b, most=5)
        self.assertEqual((sum(len(gap.a) for gap in found), sum(len(gap.b) for gap in found)), (60_000, 60_000))


class OverWires(unittest.TestCase):
    """What was rehearsed on wires is what the sequence says; and what the second maker sends over one bus is what it sends over another."""

    @given(st.data())
    @settings(deadline=None, max_examples=12)
    def test_random_legal_sequences(self, data: st.DataObject) -> None:
        part, panel, kind, lines = data.draw(
            st.sampled_from(
                [
                    ("ssd1306", "128x64", "i2c", {"scl": "A", "sda": "B"}),
                    ("pcd8544", "84x48", "spi", {"sck": "A", "mosi": "B", "cs": "C", "dc": "D"}),
                    ("hd44780", "16x2", "parallel", {"rs": "A", "e": "B", **{f"d{k}": f"D{k}" for k in range(8)}}),
                    ("max7219", "8-digits", "spi", {"sck": "A", "mosi": "B", "cs": "C"}),
                ]
            )
        )
        own = load(part)
        text = data.draw(sequences(own))
        if part == "hd44780":
            text = [line for line in text if not line.startswith("function-set")] or ["clear"]
        roles = ", ".join(f'{role} = "{line}"' for role, line in lines.items())
        address = f"address = {own.i2c.addresses[0]}\n" if own.i2c and kind == "i2c" else ""
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "r.toml").write_text(
                f'[[bus]]\nname = "w"\nkind = "{kind}"\nlines = {{ {roles} }}\n\n'
                f'[[device]]\nname = "glass"\non = "w"\npart = "{part}"\npanel = "{panel}"\n{address}'
            )
            (folder / "s.hush").write_text("\n".join(text) + "\n")
            rig = load_rig(folder / "r.toml")
            wires = side_of_reading("wires", decode(hushed_wire.rehearse(folder / "s.hush", rig), rig))
        target = rig.target(rig.device[0])
        self.assertEqual(BUS_OF[target.framing], kind)
        found = compare(wires, side(text, part, panel, target.framing))
        self.assertEqual({level: found.same[level] for level in ("words", "commands")}, {"words": True, "commands": True}, text)
        self.assertIsNot(found.same["state"], False)
        self.assertIsNot(found.same["picture"], False, text)

    def _made(self, name: str, seed: int, wrong: str, **kinds: Any) -> list[str]:
        made = maker.oled(seed, wrong, **kinds)
        writers.vcd(made.wave, FOLDER / f"{name}.vcd")
        (FOLDER / f"{name}.toml").write_text(made.rig)
        return [str(FOLDER / f"{name}.vcd"), str(FOLDER / f"{name}.toml")]

    def test_the_second_maker_over_two_buses(self) -> None:
        straight = 0
        for seed in range(4):
            a = self._made("a", seed, "", wired="i2c")
            for wired in ("spi", "nine"):
                b = self._made("b", seed, "", wired=wired)
                done = program("compare", a[0], b[0], "--rig", a[1], "--rig-b", b[1], "--format", "json")
                told = json.loads(done.stdout)
                with self.subTest(seed=seed, wired=wired):
                    # Some of its drivers turn the picture: the same memory, another way up on the glass.
                    grave = {(entry["a"] or entry["b"])["name"] for entry in told["differences"] if entry["matters"]}
                    turned = "segment-remap" in grave
                    self.assertEqual(grave, {"segment-remap", "com-scan", "picture"} if turned else set())
                    self.assertEqual((told["same"]["state"], done.returncode), (not turned, int(turned)))
                    straight += not turned
        self.assertGreater(straight, 1)

    def test_the_second_makers_faults(self) -> None:
        for wrong, register in (
            ("setup.charge-pump-off", "charge-pump"),
            ("setup.display-off", "display"),
            ("setup.contrast-low", "contrast"),
        ):
            a, b = self._made("a", 2, "", wired="i2c"), self._made("b", 2, wrong, wired="i2c")
            done = program("compare", a[0], b[0], "--rig", a[1], "--format", "json")
            told = json.loads(done.stdout)
            self.assertEqual(done.returncode, 1, wrong)
            self.assertTrue(any(entry["because"].startswith(register) for entry in told["differences"] if entry["matters"]), told)


class FromPython(unittest.TestCase):
    def test_a_capture_against_its_sequence(self) -> None:
        rig = hushed_wire.load_rig(demo() / "front-desk.toml")
        heard = hushed_wire.decode(hushed_wire.read_capture(demo() / "healthy.vcd"), rig)
        found = hushed_wire.compare(heard, demo() / "tide.hush", rig_b=rig)
        self.assertEqual(found.same, dict.fromkeys(("words", "commands", "state", "picture"), True))
        self.assertIs(found.holds(), True)
        with self.assertRaisesRegex(hushed_wire.HushedError, "load_rig"):
            hushed_wire.compare(heard, demo() / "tide.hush")


class AsAUser(unittest.TestCase):
    def compare(self, *words: str, status: int = 0) -> str:
        done = program("compare", *words)
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        return (done.stdout if status < 2 else done.stderr).decode()

    def test_every_place_of_the_demo(self) -> None:
        for place in ("pump-room", "wheelhouse", "handheld", "engine-room", "gate-signal", "led-sign"):
            said = self.compare(f"{place}.vcd", f"{place}.hush", "--rig-b", f"{place}.toml")
            self.assertIn("the same picture", said)
        self.assertIn("The same commands, the same picture", self.compare("healthy.vcd", "healthy-volts.csv.gz"))

    def test_levels_and_status(self) -> None:
        text = (demo() / "tide.hush").read_text()
        (demo() / "port.hush").write_text(text.replace("contrast 0xCF", "contrast 0x10\ncontrast 0xCF"))
        words = ("healthy.vcd", "port.hush", "--rig", "front-desk.toml")
        self.assertIn("none of which matters", self.compare(*words))
        self.compare(*words, "--by", "picture")
        self.compare(*words, "--by", "state")
        self.compare(*words, "--by", "commands", status=1)
        self.compare(*words, "--by", "words", status=1)
        self.assertIn("off in B", self.compare("healthy.vcd", "no-pump.vcd", status=1))
        for_machines = json.loads(self.compare(*words, "--format", "json"))
        self.assertEqual(set(for_machines["same"]), {"words", "commands", "state", "picture"})
        entry = for_machines["differences"][0]
        self.assertLessEqual({"kind", "a", "b", "device", "matters", "because"}, set(entry))
        self.assertEqual(entry["b"]["place"], "port.hush:14")
        self.assertEqual(for_machines["first"], entry)
        suite = ElementTree.fromstring(self.compare("healthy.vcd", "no-pump.vcd", "--format", "junit", status=1))
        self.assertEqual((suite.get("tests"), suite.get("failures")), ("5", "3"))

    def test_waits(self) -> None:
        text = (demo() / "pump-room.hush").read_text()
        (demo() / "hasty.hush").write_text(text.replace("wait 2ms\n", ""))
        words = ("pump-room.vcd", "hasty.hush", "--rig", "pump-room.toml")
        self.assertIn("the wait behind clear is too short in B", self.compare(*words))
        table = self.compare(*words, "--times", status=1)
        self.assertRegex(table, r"clear +4\.\d+ ms +0 s +1\.52 ms +too short in B +Table 6")

    def test_another_bus(self) -> None:
        lines = ", ".join(f'd{k} = "D{k}"' for k in range(8))
        (demo() / "eight.toml").write_text(
            f'[[bus]]\nname = "par"\nkind = "parallel"\nlines = {{ rs = "RS", e = "E", {lines} }}\n\n'
            '[[device]]\nname = "pump-lcd"\non = "par"\npart = "hd44780"\npanel = "20x4"\n'
        )
        (demo() / "eight.hush").write_text((demo() / "pump-room.hush").read_text().replace("width=4", "width=8"))
        self.assertEqual(program("rehearse", "eight.hush", "--rig", "eight.toml", "-o", "eight.vcd").returncode, 0)
        said = self.compare("pump-room.vcd", "eight.vcd", "--rig", "pump-room.toml", "--rig-b", "eight.toml")
        self.assertIn("how many data lines are wired", said)

    def test_bytes(self) -> None:
        (demo() / "init.c").write_text(
            "static const uint8_t init[] = { 0xAE, 0xD5, 0x80, 0xA8, 0x3F, 0x8D, 0x14, 0xAF }; // set-up\n"
        )
        self.compare("AE D5 80 A8 3F 8D 14 AF", "init.c", "--part", "ssd1306")
        self.assertIn("charge-pump", self.compare("AE D5 80 A8 3F 8D 10 AF", "init.c", "--part", "ssd1306", status=1))
        self.assertIn("--part", self.compare("AE D5 80", "init.c", status=2))

    def test_the_picture(self) -> None:
        (demo() / "other.hush").write_text((demo() / "pump-room.hush").read_text().replace("12.4", "12.5"))
        for words in (("healthy.vcd", "half-picture.vcd"), ("pump-room.vcd", "other.hush", "--rig", "pump-room.toml")):
            self.compare(*words, "--picture", str(FOLDER / "both.png"), status=1)
            with Image.open(FOLDER / "both.png") as picture:
                colours = {colour for _, colour in picture.convert("RGB").getcolors(1 << 20) or []}
                self.assertLess(picture.width, 1300)
            self.assertTrue({(96, 170, 255)} <= colours, words)
        self.assertIn(".png", self.compare("healthy.vcd", "no-pump.vcd", "--picture", "x.jpg", status=2))

    def test_what_cannot_be_used(self) -> None:
        for words, said in (
            (("nowhere.vcd", "healthy.vcd"), "no such file"),
            (("healthy.vcd", "tide.hush"), "--rig FILE"),
            (("-", "-"), "both sides from standard input"),
            (("healthy.vcd", "healthy.vcd", "--device", "tidd"), "no device 'tidd'"),
            (("quiet.vcd", "healthy.vcd"), "quiet.vcd"),
            (
                ("healthy.vcd", "healthy.vcd", "--rig", "front-desk.toml", "--picture", "healthy.vcd.png", "-o", "healthy.vcd"),
                "would overwrite",
            ),
        ):
            with self.subTest(words):
                self.assertIn(said, self.compare(*words, status=2))


if __name__ == "__main__":
    unittest.main()
