"""Every example in README and docs is run on the demo data, and prints what the page shows."""

import json
import re
import shlex
import tomllib
import unittest
from fractions import Fraction
from pathlib import Path

import msgspec

from hushed_wire.finding import codes
from hushed_wire.part import load
from hushed_wire.part.wrap import BUS_OF
from hushed_wire.project import KEYS
from hushed_wire.rig.check import check
from hushed_wire.rig.pinmap import load_pin_map
from hushed_wire.rig.schema import Rig
from hushed_wire.rig.vocabulary import MISHAPS
from hushed_wire.sequence import Target, expand, parse_text
from hushed_wire.sequence.examine import examine
from hushed_wire.sequence.start import test_steps as steps_of
from support import ROOT, demo, program, raw_samples, scratch

PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]
BLOCK = re.compile(r"```(\w*)\n(.*?)```", re.DOTALL)


def blocks(page: Path, kind: str) -> list[str]:
    return [text for name, text in BLOCK.findall(page.read_text()) if name == kind]


def rigs() -> list[str]:
    """The rigs, and what else is TOML, on the page of rigs."""
    return blocks(ROOT / "docs" / "rig.md", "toml")


class Examples(unittest.TestCase):
    def test_console_examples_print_what_is_shown(self) -> None:
        raw_samples("dump.bin", "u1", 0)
        (demo() / "parts").mkdir(exist_ok=True)
        (demo() / "parts" / "tidelcd.toml").write_text(blocks(ROOT / "CONTRIBUTING.md", "toml")[0])
        seen = 0
        for page in PAGES:
            for block in blocks(page, "console"):
                for example in re.split(r"^\$ ", block, flags=re.MULTILINE)[1:]:
                    command, _, shown = example.partition("\n")
                    words = shlex.split(command)
                    self.assertEqual(words[0], "hushed-wire")
                    done = program(*words[1:])
                    self.assertIn(done.returncode, (0, 1), (command, done.stderr))
                    printed = done.stdout.decode().splitlines()
                    at = 0
                    for part in shown.rstrip("\n").split("…\n" if "…\n" in shown else "\0"):
                        lines = part.rstrip("\n").removesuffix("…").rstrip("\n").splitlines()
                        if not lines:
                            continue
                        self.assertIn(lines[0], printed[at:], f"{page.name}: {command}")
                        start = printed.index(lines[0], at)
                        self.assertEqual(printed[start : start + len(lines)], lines, f"{page.name}: {command}")
                        at = start + len(lines)
                    seen += 1
        self.assertGreater(seen, 10)

    def test_rigs_and_descriptions_on_the_pages_are_valid(self) -> None:
        rig = msgspec.convert(tomllib.loads(rigs()[0]), Rig)
        check(rig, "docs/rig.md")
        behind = msgspec.convert(tomllib.loads(rigs()[3]), Rig)
        check(behind, "docs/rig.md")
        self.assertEqual(set(tomllib.loads(rigs()[1])), {*KEYS} - {"hysteresis"})
        self.assertEqual(behind.target(behind.device[0]).framing, "nibbles")
        panel = tomllib.loads(next(block for block in rigs() if block.startswith("panel =")))["panel"]
        whole = [block for block in rigs() if block.startswith("[[bus]]") and "[[device]]" in block]
        for block in whole:
            own = msgspec.convert(tomllib.loads(block), Rig)
            check(own, "docs/rig.md")
            self.assertTrue(all(own.target(device) for device in own.device))
        self.assertGreater(len(whole), 2)
        (demo() / "gate.toml").write_text(rigs()[2])
        self.assertEqual(load_pin_map("gate.toml", demo()).find("CLK").label, "pin 3 (GPIO22)")
        rig.device[0].panel = panel
        check(rig, "docs/rig.md")

    def test_modules_on_the_page_of_rigs(self) -> None:
        page = (ROOT / "docs" / "rig.md").read_text()
        table = page[page.index("## Modules that people have") :]
        seen = 0
        for part, panels in re.findall(r"^\| [^|]* \| `(\w+)` \| (.*) \|$", table, re.MULTILINE):
            for panel in re.findall(r"`([^`]+)`", panels):
                kind = BUS_OF[load(part).framings[0]]
                address = f"address = 0x{load(part).i2c.addresses[0]:02X}\n" if kind == "i2c" else ""  # type: ignore[union-attr]
                lines = {
                    "i2c": "scl sda",
                    "spi": "sck mosi cs dc",
                    "parallel": "rs e d0 d1 d2 d3 d4 d5 d6 d7",
                    "two-wire": "clock data",
                }[kind].split()
                lines = [line for line in lines if line != "dc" or "dc-line" in load(part).framings]
                lines += ["e2"] if panel == '"40x4"' else []
                said = ", ".join(f'{line} = "{line.upper()}"' for line in lines)
                text = f'[[bus]]\nname = "b"\nkind = "{kind}"\nlines = {{ {said} }}\n[[device]]\nname = "d"\non = "b"\npart = "{part}"\npanel = {panel}\n'
                rig = msgspec.convert(tomllib.loads(text + address), Rig)
                check(rig, panel)
                target = rig.target(rig.device[0])
                steps = steps_of(target)
                clocks = {"d": Fraction(10**6)}
                self.assertEqual([finding.summary for finding in examine(steps, [target], clocks).findings], [], (part, panel))
                seen += 1
        self.assertGreater(seen, 35)
        shifted = msgspec.convert(tomllib.loads(next(block for block in rigs() if "[bus.through]" in block)), Rig)
        check(shifted, "docs/rig.md")
        self.assertEqual(shifted.turned, {"CLK", "DIN"})

    def test_the_part_of_the_walk_through_works_down_to_the_glass(self) -> None:
        folder = scratch()
        (folder / "tidelcd.toml").write_text(blocks(ROOT / "CONTRIBUTING.md", "toml")[0])
        words = ("--part", "tidelcd", "--catalog", str(folder))
        start = program("catalog", "tidelcd", "--catalog", str(folder), "--start").stdout
        built = program("build", "-", *words, "--format", "json", stdin=start + b'text 4,4 "GATE"')
        self.assertEqual((built.returncode, json.loads(built.stdout)["findings"]), (0, []))
        wrong = program("build", "-", *words, stdin=start.replace(b"display normal", b"display blank"))
        self.assertEqual(wrong.returncode, 1)
        self.assertIn(b"setup.display-off", wrong.stdout)

    def test_the_sequence_on_its_page_is_one(self) -> None:
        part = load("ssd1306")
        pages = blocks(ROOT / "docs" / "sequence.md", "")
        target = Target("tide", part, part.panel("128x64"))
        self.assertGreater(len(expand(parse_text(pages[0], "page"), [target], demo())), 8)
        digits = load("max7219")
        drawn, counted = (
            next(page for page in pages if "polygon" in page and "sequence " not in page),
            next(page for page in pages if "\ncounter" in f"\n{page}"),
        )
        self.assertEqual(len(expand(parse_text("memory-mode horizontal\n" + drawn, "page"), [target], demo())), 6)
        self.assertEqual(len(expand(parse_text(counted, "page"), [Target("d", digits, digits.panel("8-digits"))], demo())), 60)

    def test_tables_name_what_there_is(self) -> None:
        readme, sequence = (ROOT / "README.md").read_text(), (ROOT / "docs" / "sequence.md").read_text()
        page = (ROOT / "docs" / "findings.md").read_text()
        self.assertEqual([code for code in codes() if f"### {code}\n" not in page], [])
        self.assertIn("docs/findings.md", readme)
        usage = program("rehearse", "--help-all").stdout.decode()
        for kind, (stage, written, what) in MISHAPS.items():
            if stage in ("serial line", "desk") and written not in sequence.split("## Mishaps")[1].split("Those that show")[0]:
                self.assertIn(f"`{written}`", sequence)
                continue
            self.assertIn(f"| `{written}` | {what}", sequence, kind)
            if stage != "desk":
                self.assertIn(written, usage, kind)
        for panel in load("ssd1306").panels:
            self.assertIn(f"`{panel}`", (ROOT / "docs" / "rig.md").read_text())

    def test_links_lead_somewhere(self) -> None:
        for page in PAGES:
            for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
                self.assertTrue((page.parent / target).resolve().exists(), f"{page.name}: {target}")
