"""Buses that are not I2C as links: on the desk, and over spidev and GPIO with the kernel's side played by a preloaded shim."""

import importlib.util
import json
import os
import shutil
import subprocess
import tomllib
import unittest
from errno import EACCES, EBUSY, EIO, ENODEV
from fractions import Fraction
from pathlib import Path

import numpy as np
from PIL import Image

from hushed_wire.link.desk import open_desk
from hushed_wire.link.walk import walk
from hushed_wire.part.framing import Payload, payload_of
from hushed_wire.rig import load_rig
from hushed_wire.rig.rehearse import steps_of
from hushed_wire.sequence.start import start_text
from hushed_wire.trace import Trace
from support import PROGRAM, ROOT, payloads, program, program_json, scratch
from test_buses import WAYS, bridge, bus, device

FOLDER = scratch()
NEEDS_SPIDEV = unittest.skipUnless(importlib.util.find_spec("spidev"), "spidev could not be built here")


def rig_with_pins(name: str, pins: str, start: bool = True) -> tuple[str, str]:
    """A rig of `WAYS` with pins, and its sequence, as files."""
    text, drawn = WAYS[name]
    (FOLDER / "rig.toml").write_text(text.replace('name = "main"\n', f'name = "main"\npins = {{ {pins} }}\n', 1))
    rig = load_rig(FOLDER / "rig.toml")
    begin = start_text(rig.target(rig.device[0])) if start else ""
    if "reset" not in rig.bus[0].lines:
        begin = "\n".join(line for line in begin.splitlines() if not line.startswith("reset")) + "\n"
    (FOLDER / "s.hush").write_text(begin.replace("40ms", "1ms").replace("wait 150ms", "wait 1ms") + drawn)
    return "rig.toml", "s.hush"


def meant(chip: int = 0) -> Payload:
    rig = load_rig(FOLDER / "rig.toml")
    sends = [(k, send) for k, step in enumerate(steps_of(FOLDER / "s.hush", rig, [])) for send in step.sends]
    return payload_of(sends, chip)


@unittest.skipUnless(shutil.which("cc"), "no C compiler here for the shim")
class OverPins(unittest.TestCase):
    shim: Path

    @classmethod
    def setUpClass(cls) -> None:
        cls.shim = scratch() / "pins.so"
        source = ROOT / "tests" / "pins_shim.c"
        subprocess.run(["cc", "-shared", "-fPIC", "-Wall", "-Werror", "-o", cls.shim, source, "-ldl"], check=True)

    def over(self, *words: str, **kernel: object) -> "subprocess.CompletedProcess[bytes]":
        env = {**os.environ, "LD_PRELOAD": str(self.shim), **{f"SHIM_{key.upper()}": str(value) for key, value in kernel.items()}}
        return subprocess.run([PROGRAM, *words], cwd=FOLDER, env=env, capture_output=True, check=False, timeout=60)

    @NEEDS_SPIDEV
    def test_spidev_moves_the_words_with_data_and_command_told_apart(self) -> None:
        for name, pins in (("pcd8544", 'dc = "GPIO25", reset = 24'), ("st7735", 'dc = "GPIO25", reset = 24')):
            rig, sequence = rig_with_pins(name, pins)
            log = scratch() / "log"
            done = self.over("send", sequence, "--rig", rig, "--link", "spi-0.0", log=log)
            self.assertEqual((done.returncode, done.stderr.decode()[-600:]), (0, ""))
            level, value, data = 0, [], []
            for line in log.read_text().splitlines():
                kind, *rest = line.split()
                if kind == "gpio":
                    level = dict(entry.split("=") for entry in rest).get("25", level)
                else:
                    value += [int(byte, 16) for byte in rest[1:]]
                    data += [level == "1"] * (len(rest) - 1)
            self.assertEqual((value, data), (meant().value.tolist(), meant().data.tolist()), name)

    @NEEDS_SPIDEV
    def test_a_select_on_a_gpio_line_frames_its_device_and_rests_at_its_own_level(self) -> None:
        for level, active in (("low", "0"), ("high", "1")):
            text = bus("spi", ["sck", "mosi", "cs1"], select=level).replace('name = "main"', 'name = "main"\npins = { cs1 = 17 }')
            (FOLDER / "rig.toml").write_text(text + device("max7219", "8-digits", select="cs1"))
            (FOLDER / "s.hush").write_text("intensity 3\n")
            log = scratch() / "log"
            done = self.over("send", "s.hush", "--rig", "rig.toml", "--link", "spi-0.0", log=log)
            self.assertEqual((done.returncode, done.stderr), (0, b""))
            rest = "0" if active == "1" else "1"
            begun = [] if rest == "0" else ["gpio 17=1"]  # lines begin low unless told
            self.assertEqual(log.read_text().splitlines()[-3:], [f"gpio 17={active}", "spi 8 0a 03", f"gpio 17={rest}"])
            self.assertEqual([line for line in log.read_text().splitlines()[:-3] if "=1" in line], begun)

    @NEEDS_SPIDEV
    def test_words_of_nine_and_sixteen_bits(self) -> None:
        for name, bits in (("sh1106, nine bits", 9), ("max7219", 8)):
            rig, sequence = rig_with_pins(name, "")
            log = scratch() / "log"
            done = self.over("send", sequence, "--rig", rig, "--link", "/dev/spidev0.0", log=log)
            self.assertEqual((done.returncode, done.stderr), (0, b""), name)
            raw = b"".join(bytes.fromhex("".join(line.split()[2:])) for line in log.read_text().splitlines())
            self.assertEqual({int(line.split()[1]) for line in log.read_text().splitlines()}, {bits})
            if bits == 9:
                words = np.frombuffer(raw, np.uint16)
                self.assertEqual(
                    ((words & 0xFF).tolist(), (words >> 8 == 1).tolist()), (meant().value.tolist(), meant().data.tolist())
                )
            else:
                self.assertEqual(list(raw), meant().value.tolist())

    def test_lines_driven_one_by_one_carry_the_same_words(self) -> None:
        for name in ("pcd8544", "hd44780, 4 bits", "hd44780, 8 bits", "behind 74hc595", "max7219"):
            roles = list(load_text(WAYS[name][0]).bus[0].lines)
            rig, sequence = rig_with_pins(name, ", ".join(f"{role} = {k + 2}" for k, role in enumerate(roles)))
            log = scratch() / "log"
            done = self.over("send", sequence, "--rig", rig, "--link", "gpiochip0", log=log)
            self.assertEqual((done.returncode, done.stderr), (0, b""), name)
            states, now = [], 0
            for line in log.read_text().splitlines():
                for entry in line.split()[1:]:
                    offset, level = entry.split("=")
                    now = now & ~(1 << int(offset) - 2) | int(level) << int(offset) - 2
                states.append(now)
            loaded = load_rig(FOLDER / "rig.toml")
            names = tuple(loaded.bus[0].lines.values())
            keep = np.append(True, np.diff(states) != 0)
            trace = Trace(
                names,
                np.arange(len(states))[keep] * 10,
                np.array(states, np.uint32)[keep],
                len(states) * 10 + 1,
                Fraction(1, 10**6),
            )
            found = payloads(trace, loaded)["show"][0]
            wanted = meant()
            if name == "hd44780, 4 bits" or name.startswith("behind"):
                self.assertEqual((found.value >> 4).tolist(), (wanted.value >> 4).tolist())
                self.assertEqual(found.value[5:].tolist(), wanted.value[5:].tolist())
            else:
                self.assertEqual(found.value.tolist(), wanted.value.tolist(), name)
            self.assertEqual(found.data.tolist(), wanted.data.tolist(), name)

    @NEEDS_SPIDEV
    def test_each_failure_has_its_own_message_and_remedy(self) -> None:
        rig, sequence = rig_with_pins("pcd8544", 'dc = "GPIO25", reset = 24, sck = 11, mosi = 10, cs = 8')
        for link, kernel, said in (
            ("spi-0.0", {"open": EACCES}, "may not be opened\n  add yourself to the group"),
            ("spi-0.0", {"taken": EBUSY}, r"gpiochip0: is in use\n  one of its lines is taken \(dc on line 25"),
            ("spi-0.1", {}, "spidev0.1: is absent"),
            ("gpiochip3", {}, "gpiochip3: is absent"),
            ("gpiochip0", {"open": ENODEV}, "is disabled"),
            ("spi-0.0", {"fail": EIO, "fail_at": 9}, "a line cannot be set|the transfer failed"),
            ("gpiochip0", {"fail": EIO, "fail_at": 90}, "a line cannot be set"),
            ("i2c-1", {}, "there is no link 'i2c-1' for a bus of kind spi"),
            ("/dev/ttyACM0", {}, "a probe on a serial port knows I2C only"),
            ("stand-in", {}, "a probe knows I2C only"),
        ):
            done = self.over("send", sequence, "--rig", rig, "--link", link, **kernel)
            self.assertEqual(done.returncode, 2, (link, kernel, done.stderr))
            self.assertRegex(done.stderr.decode(), said)
            self.assertNotIn("Traceback", done.stderr.decode())
        rig, sequence = rig_with_pins("pcd8544", 'dc = "GPIO25"')
        self.assertRegex(
            self.over("send", sequence, "--rig", rig, "--link", "gpiochip0").stderr.decode(),
            "names no pin for sck, mosi, cs, reset",
        )
        rig, sequence = rig_with_pins("pcd8544", 'dc = "D7", reset = 3')
        self.assertRegex(
            self.over("send", sequence, "--rig", rig, "--link", "spi-0.0").stderr.decode(), "pin 'D7' for dc is no GPIO"
        )
        rig, sequence = rig_with_pins("pcd8544", "reset = 3")
        self.assertRegex(self.over("send", sequence, "--rig", rig, "--link", "spi-0.0").stderr.decode(), "names no pin for D/C")


def rig_kind(rig: str) -> str:
    return load_rig(FOLDER / rig).bus[0].kind


def load_text(text: str) -> object:
    (FOLDER / "other.toml").write_text(text)
    return load_rig(FOLDER / "other.toml")


GATE = bus("shift", ["clock", "data", "latch"]) + bridge("74hc595", {}, name="signal")


class WalkTest(unittest.TestCase):
    def walked(self, rig: str, name: str, answers: str, *words: str) -> "subprocess.CompletedProcess[bytes]":
        (FOLDER / "walk.toml").write_text(rig)
        return program("send", "--walk", name, "--rig", "walk.toml", *words, cwd=FOLDER, stdin=answers.encode())

    def test_answers_become_a_map_that_the_rig_takes(self) -> None:
        done = self.walked(GATE, "signal", "no\nyes\nd\nc\n-\ndp\na\nb\ng\nf\n")
        self.assertEqual(done.returncode, 0, done.stderr)
        found = tomllib.loads(done.stdout.decode())
        self.assertEqual(found["active"], "high")
        self.assertEqual(found["drives"], {"segment_a": "q4", "segment_b": "q5", "segment_c": "q1", "segment_d": "q0", "segment_dp": "q3",
                                           "segment_f": "q7", "segment_g": "q6"})  # fmt: skip
        (FOLDER / "walk.toml").write_text(GATE.replace("drives = {  }", done.stdout.decode()))
        self.assertEqual(load_rig(FOLDER / "walk.toml").bridge[0].drives, found["drives"])
        inverse = self.walked(
            bus("i2c", ["scl", "sda"]) + bridge("mcp23017", {}, name="x", address=0x21), "x", "yes\nno\n" + "-\n" * 15 + "a\n"
        )
        self.assertEqual(tomllib.loads(inverse.stdout.decode()), {"drives": {"segment_a": "b7"}, "active": "low"})
        digits = self.walked(bus("spi", ["sck", "mosi", "cs"]) + device("max7219", "8-digits"), "show",
                             "g\nf\ne\nd\nc\nb\na\ndp\n" + "".join(f"{k}\n" for k in range(1, 9)))  # fmt: skip
        panel = tomllib.loads(digits.stdout.decode())["panel"]
        self.assertEqual(
            (panel["segments"], panel["cells"]), (["g", "f", "e", "d", "c", "b", "a", "dp"], [[0, 1, 2, 3, 4, 5, 6, 7]])
        )

    def test_one_output_at_a_time_is_driven(self) -> None:
        rig = load_text(GATE)
        link = open_desk(rig, rig.bus[0])  # type: ignore[attr-defined, arg-type]
        asking = walk(rig, "signal", link)  # type: ignore[arg-type]
        questions, answers = [next(asking)], iter(["no", "yes", *"abcdefg", "dp"])
        with self.assertRaises(StopIteration):
            while True:
                questions.append(asking.send(next(answers)))
        self.assertEqual([int(move.words[0]) for move in link.moves], [0, 255, 1, 2, 4, 8, 16, 32, 64, 128, 0])  # type: ignore[union-attr]
        self.assertEqual(len(questions), 10)

    def test_wrong_answers_are_told(self) -> None:
        for answers, said in (
            ("yes\nyes\n", "something is lit at either level"),
            ("no\nno\n", "nothing is lit at either level"),
            ("perhaps\n", "neither yes nor no"),
            ("no\nyes\nq\n", "'q' is no segment"),
            ("no\nyes\na\n", "the answers ended in mid-walk"),
        ):
            done = self.walked(GATE, "signal", answers)
            self.assertEqual(done.returncode, 2)
            self.assertIn(said, done.stderr.decode())
        done = self.walked(GATE, "signal", "no\nyes\na\na\n" + "-\n" * 6)
        self.assertEqual((done.returncode, b"a was answered for more than one output" in done.stderr), (1, True))
        self.assertIn("no bridge or device 'sginal'\n  did you mean 'signal'?", self.walked(GATE, "sginal", "").stderr.decode())


class OnTheDesk(unittest.TestCase):
    def test_every_rig_shows_its_glass_and_so_does_its_capture(self) -> None:
        for name in WAYS:
            with self.subTest(name):
                rig, sequence = rig_with_pins(name, "")
                done = program("send", sequence, "--rig", rig, "--picture", "glass.png", cwd=FOLDER)
                self.assertEqual(done.returncode, 0, done.stderr)
                with Image.open(FOLDER / "glass.png") as image:
                    self.assertGreater(len(image.convert("RGB").getcolors(1 << 24) or []), 2, name)
                self.assertEqual(program("rehearse", sequence, "--rig", rig, "-o", "s.vcd", "-q", cwd=FOLDER).returncode, 0)
                seen = program_json("screen", "s.vcd", "--rig", rig, "--picture", "seen.png", cwd=FOLDER)["screens"][0]
                self.assertTrue(seen["lit"])
                if name not in ("behind pcf8574", "behind pcf8575"):  # there the capture knows the backlight
                    self.assertEqual((FOLDER / "seen.png").read_bytes(), (FOLDER / "glass.png").read_bytes(), name)
                else:
                    self.assertEqual((seen["backlight"], seen["lines"][2].strip()), (False, "PUMP 1 off"))
                roles = [row for row in program_json("lines", "s.vcd", cwd=FOLDER)["lines"] if row["likely"]]
                wanted = [
                    "parallel cs"
                    if row["name"] == "CS" and rig_kind(rig) == "parallel"
                    else f"{rig_kind(rig)} {row['name'].lower()}"
                    for row in roles
                ]
                self.assertEqual([row["likely"] for row in roles], [[word] for word in wanted], name)
                self.assertGreaterEqual(len(roles), 1 if rig_kind(rig) == "pulse" else 2, name)
                self.assertIn(seen["device"], program("screen", "s.vcd", "--rig", rig, cwd=FOLDER).stdout.decode())

    def test_a_bridge_is_expected_named_and_not_taken_for_a_fault(self) -> None:
        rig, sequence = rig_with_pins("behind pcf8574", "")
        scan = program_json("scan", "--rig", rig, "--mishap", "strap:adapter,0x27", cwd=FOLDER)
        self.assertEqual((scan["answered"], scan["expected_missing"][0]["device"]), ([0x27], "adapter"))
        self.assertEqual(program("rehearse", sequence, "--rig", rig, "-o", "b.vcd", "-q", cwd=FOLDER).returncode, 0)
        diagnosis = program_json("diagnose", "b.vcd", "--rig", rig, cwd=FOLDER)
        self.assertEqual([found["code"] for found in diagnosis["findings"]], ["picture.all-traffic-good"])
        self.assertIn("look beyond", diagnosis["verdict"])

    def test_a_slow_device_costs_frames(self) -> None:
        (FOLDER / "rig.toml").write_text(WAYS["ssd1306, i2c"][0])
        (FOLDER / "s.hush").write_text("memory-mode page\nfill on\nfill off\nfill on\n")
        usual = program_json("send", "s.hush", "--rig", "rig.toml", cwd=FOLDER)["seconds"]
        slow = json.loads(
            program(
                "send",
                "s.hush",
                "--rig",
                "rig.toml",
                "--link",
                "desk",
                "--mishap",
                "slow:show,1ms",
                "--format",
                "json",
                cwd=FOLDER,
            ).stdout
        )
        self.assertAlmostEqual(slow["seconds"] - usual, slow["transactions"] * 1e-3, places=4)

    def test_what_a_rig_cannot_do_is_told(self) -> None:
        rig, sequence = rig_with_pins("pcd8544", "")
        (FOLDER / "r.hush").write_text("backlight on\ndisplay-control normal")
        self.assertRegex(
            program("rehearse", "r.hush", "--rig", rig, "-o", "x.vcd", cwd=FOLDER).stderr.decode(),
            "bus 'main' has no line 'backlight'",
        )
        done = program("send", sequence, "--rig", rig, "--mishap", "refuse:show", cwd=FOLDER)
        self.assertRegex(done.stderr.decode(), "'refuse' acts on devices with an address")
        self.assertEqual(done.returncode, 2)


if __name__ == "__main__":
    unittest.main()
