"""Buses that are not I2C as links: on the desk, and over spidev and GPIO with the kernel's side played by a preloaded shim."""

import json
import os
import shutil
import subprocess
import unittest
from errno import EACCES, EBUSY, EIO, ENODEV
from fractions import Fraction
from pathlib import Path

import numpy as np
from PIL import Image

from hushed_wire.part.framing import Payload, payload_of
from hushed_wire.rig import load_rig
from hushed_wire.rig.follow import payloads
from hushed_wire.rig.rehearse import steps_of
from hushed_wire.sequence.start import start_text
from hushed_wire.trace import Trace
from support import PROGRAM, ROOT, program, program_json, scratch
from test_buses import WAYS

FOLDER = scratch()


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
            found = payloads(trace, loaded, loaded.bus[0])["show"][0]
            wanted = meant()
            if name == "hd44780, 4 bits" or name.startswith("behind"):
                self.assertEqual((found.value >> 4).tolist(), (wanted.value >> 4).tolist())
                self.assertEqual(found.value[5:].tolist(), wanted.value[5:].tolist())
            else:
                self.assertEqual(found.value.tolist(), wanted.value.tolist(), name)
            self.assertEqual(found.data.tolist(), wanted.data.tolist(), name)

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


def load_text(text: str) -> object:
    (FOLDER / "other.toml").write_text(text)
    return load_rig(FOLDER / "other.toml")


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
                if name != "behind pcf8574":  # there the capture knows the backlight
                    self.assertEqual((FOLDER / "seen.png").read_bytes(), (FOLDER / "glass.png").read_bytes(), name)
                else:
                    self.assertEqual((seen["backlight"], seen["lines"][2].strip()), (False, "PUMP 1 off"))
                self.assertIn(seen["device"], program("screen", "s.vcd", "--rig", rig, cwd=FOLDER).stdout.decode())

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
