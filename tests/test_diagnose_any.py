"""Diagnosis of every bus: mishaps where they happen in life are named first with their lines, and healthy captures yield nothing."""

from __future__ import annotations

import json
import re
import unittest
from typing import Any

from support import demo, program, program_json
from test_buses import WAYS
from test_listen import FOLDER, rehearsed


def sent(way: str, change: Any = None, mishap: str = "") -> None:
    """A capture of a way's rig, changed or with a mishap; the rig file is the healthy one afterwards."""
    text, drawn = WAYS[way]
    blank = "" if "hd44780" in text or 'digits"' in text else "fill off\n"
    rehearsed(change(text) if change else text, blank + drawn, "s.vcd")
    if mishap:
        done = program("rehearse", "s.hush", "--rig", "rig.toml", "-o", "s.vcd", "-q", "--mishap", mishap, cwd=FOLDER)
        assert done.returncode == 0, done.stderr
    (FOLDER / "rig.toml").write_text(text)


def diagnosed(*words: str) -> list[dict[str, Any]]:
    done = program("diagnose", "s.vcd", *words, "--format", "json", cwd=FOLDER)
    assert done.stdout, done.stderr
    found: list[dict[str, Any]] = json.loads(done.stdout)["findings"]
    assert done.returncode == int(any(one["severity"] != "note" for one in found))
    return found


def other_mode(text: str) -> str:
    found = re.search(r"mode = (\d)\n", text)
    mode = int(found[1]) if found else 0
    return re.sub(r"mode = \d\n", "", text).replace('kind = "spi"', f'kind = "spi"\nmode = {mode ^ 1}', 1)


def other_order(text: str) -> str:
    return text.replace('kind = "spi"', 'kind = "spi"\norder = "lsb"', 1)


def reversed_data(text: str) -> str:
    for bit in range(8):
        text = text.replace(f'd{bit} = "D{bit}"', f'd{bit} = "X{7 - bit}"')
    return text.replace('"X', '"D')


SPI_MISHAPS = (
    ("stuck:DC,low", "frame.dc-stuck", ["DC"]), ("stuck:DC,high", "frame.dc-stuck", ["DC"]), ("stuck:MOSI,low", "wiring.stuck-line", ["MOSI"]),
    ("stuck:CS,high", "wiring.stuck-line", ["CS"]), ("stuck:SCK,low", "wiring.stuck-line", ["SCK"]), ("swap:MOSI,DC", "wiring.swapped-lines", ["MOSI", "DC"]),
    ("swap:SCK,MOSI", "wiring.swapped-lines", ["SCK", "MOSI"]), ("swap:CS,DC", "wiring.swapped-lines", ["CS", "DC"]),
)  # fmt: skip
PARALLEL_MISHAPS = (
    ("swap:D5,D6", "wiring.swapped-lines", ["D5", "D6"]), ("swap:D4,D7", "wiring.swapped-lines", ["D4", "D7"]), ("stuck:D5,low", "wiring.stuck-line", ["D5"]),
    ("stuck:RS,low", "frame.dc-stuck", ["RS"]), ("stuck:E,low", "wiring.stuck-line", ["E"]), ("swap:RS,E", "wiring.swapped-lines", ["RS", "E"]),
)  # fmt: skip


class EveryBus(unittest.TestCase):
    def check(self, what: str, code: str, lines: list[str]) -> None:
        found = diagnosed("--rig", "rig.toml")
        self.assertTrue(found, what)
        self.assertEqual((found[0]["code"], sorted(found[0]["lines"])[: len(lines)]), (code, sorted(lines)), what)
        self.assertEqual(len([one for one in found if one["severity"] == "fault"]), 1, what)

    def test_healthy_captures_yield_no_fault_and_no_warning(self) -> None:
        for way in WAYS:
            with self.subTest(way):
                sent(way)
                for words in (
                    (("--rig", "rig.toml"), ())
                    if way in ("pcd8544", "max7219, dots", "st7735", "behind pcf8574")
                    else (("--rig", "rig.toml"),)
                ):
                    found = diagnosed(*words)
                    self.assertEqual([one["code"] for one in found if one["severity"] != "note"], [], (way, words))
        for capture in ("handheld", "wheelhouse", "engine-room", "pump-room"):
            for words in ((), ("--rig", f"{capture}.toml")):
                out = program_json("diagnose", f"{capture}.vcd", *words)
                self.assertEqual([one["code"] for one in out["findings"]], ["picture.all-traffic-good"], capture)

    def test_mishaps_of_spi(self) -> None:
        for way in ("pcd8544", "max7219", "ssd1306, dc line"):
            for change, code in ((other_mode, "frame.wrong-spi-mode"), (other_order, "frame.bit-order")):
                sent(way, change)
                self.check(f"{way}, {code}", code, ["MOSI", "SCK"] if "mode" in code else ["MOSI"])
            for mishap, code, lines in SPI_MISHAPS if way != "ssd1306, dc line" else SPI_MISHAPS[-1:]:
                if 'select = "high"' in WAYS[way][0]:
                    mishap = mishap.replace("CS,high", "CS,low")
                if "DC" not in mishap or "dc" in WAYS[way][0].split("[[device]]")[0]:
                    sent(way, None, mishap)
                    self.check(f"{way}, {mishap}", code, lines)

    def test_mishaps_of_parallel_buses(self) -> None:
        for way in ("hd44780, 8 bits", "hd44780, 4 bits"):
            for mishap, code, lines in PARALLEL_MISHAPS:
                sent(way, None, mishap)
                self.check(f"{way}, {mishap}", code, lines)
        for way in ("hd44780, 8 bits", "ks0108"):
            sent(way, reversed_data)
            self.check(f"{way}, reversed", "wiring.reversed-bus", [f"D{bit}" for bit in range(8)])

    def test_what_build_finds_in_a_sequence_is_found_in_its_capture(self) -> None:
        for capture, change, code in (
            ("pump-room", ("lines=2", "lines=1"), "setup.wrong-geometry"),
            ("pump-room", ("display state=on", "display state=off"), "setup.display-off"),
            ("handheld", ("display-control normal", "display-control blank"), "setup.display-off"),
            ("wheelhouse", ("shutdown off", "shutdown on"), "setup.shutdown"),
            ("wheelhouse", ("scan-limit 8", "scan-limit 3"), "setup.scan-limit"),
            ("engine-room", ("display on", "display off"), "setup.display-off"),
        ):
            text = (demo() / f"{capture}.hush").read_text()
            self.assertIn(change[0], text)
            (demo() / "changed.hush").write_text(text.replace(*change))
            program("rehearse", "changed.hush", "--rig", f"{capture}.toml", "-o", "changed.vcd", "-q")
            built = {one["code"] for one in program_json("build", "changed.hush", "--rig", f"{capture}.toml")["findings"]}
            found = [one["code"] for one in program_json("diagnose", "changed.vcd", "--rig", f"{capture}.toml")["findings"]]
            self.assertIn(code, built, (capture, change))
            self.assertIn(code, found, (capture, change))
            self.assertEqual(
                {one for one in found if one.startswith("setup.")},
                {one for one in built if one.startswith("setup.")},
                (capture, change),
            )

    def test_a_capture_that_is_nothing_like_the_rig(self) -> None:
        done = program("diagnose", "wheelhouse.vcd", "--rig", "handheld.toml")
        self.assertEqual(done.returncode, 2)  # the rig's lines are not in it
        sent("max7219")
        (FOLDER / "other.toml").write_text(WAYS["sh1106, nine bits"][0])
        found = diagnosed("--rig", "other.toml")
        self.assertTrue(found)
        self.assertNotIn(found[0]["code"], ("wiring.swapped-lines", "frame.bit-order"))


if __name__ == "__main__":
    unittest.main()
