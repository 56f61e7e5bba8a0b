"""Scanning and sending: on the desk, over captures, and over i2c-dev with the kernel's side played by a preloaded shim."""

import json
import os
import re
import shutil
import signal
import subprocess
import threading
import time
import tty
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from hushed_wire.errors import HushedError
from hushed_wire.link import wire_talk
from hushed_wire.link.base import BusHeld, Refused
from hushed_wire.link.desk import Desk
from hushed_wire.link.discover import discover
from hushed_wire.link.scan import scan_link
from hushed_wire.link.serial_probe import open_serial
from hushed_wire.link.stand_in import StandIn
from hushed_wire.part.neighbours import candidates, neighbours, read_probed
from hushed_wire.rig import Rig, load_rig
from hushed_wire.rig.vocabulary import Mishap
from support import PROGRAM, ROOT, demo, program, program_json, scratch

RIG = ("--rig", "front-desk.toml")
ENOENT, EIO, EACCES, EBUSY, ENODEV, EAGAIN, EOPNOTSUPP, ETIMEDOUT = 2, 5, 13, 16, 19, 11, 95, 110


def rig() -> Rig:
    return load_rig(demo() / "front-desk.toml")


class OnTheDesk(unittest.TestCase):
    def test_the_rigs_devices_answer_and_nobody_else(self) -> None:
        out = program_json("scan", *RIG)
        self.assertEqual(set(out), {"link", "answered", "devices", "expected_missing", "skipped", "stopped"})
        self.assertEqual((out["answered"], out["expected_missing"], len(out["devices"])), ([0x3D], [], 112))
        self.assertEqual(set(out["devices"][0]), {"address", "tried", "answers", "probe", "candidates"})
        text = program("scan", *RIG).stdout.decode()
        for part in ("no link was named, so this is the desk", "0x3d", "0x7a, 0x7b", "tide (ssd1306), as the rig says"):
            self.assertIn(part, text)
        self.assertEqual(len(program_json("scan", *RIG, "--reserved")["devices"]), 128)

    def test_probing_writes_nothing_and_reads_where_a_memory_may_sit(self) -> None:
        calls: list[tuple[str, int, bytes]] = []

        class Spy(Desk):
            def write(self, address: int, data: bytes) -> None:
                calls.append(("write", address, data))
                super().write(address, data)

            def read(self, address: int, count: int) -> bytes:
                calls.append(("read", address, b""))
                return super().read(address, count)

        scan_link(Spy(rig()), rig())
        self.assertTrue(all(data == b"" for _, _, data in calls))
        self.assertEqual({address for way, address, _ in calls if way == "read"}, read_probed())
        self.assertLessEqual(set(range(0x50, 0x58)), read_probed())

    def test_what_is_missing_comes_with_the_nearest_mistake(self) -> None:
        for mishap, said in (
            ("refuse:tide", "nothing answers at all"),
            ("strap:tide,0x3C", "0x3c answers, the other strap of this part"),
            ("strap:tide,0x7A", "0x7a answers: it is 0x3d in 8-bit form"),
            ("strap:tide,0x1E", "0x1e answers: 0x3d is its 8-bit form"),
            ("strap:tide,0x23", "0x23 answers: another member of the family"),
            ("strap:tide,0x60", "the bus works"),
        ):
            done = program("scan", *RIG, "--reserved", "--mishap", mishap)
            self.assertEqual((done.returncode, said in done.stdout.decode()), (1, True), done.stdout.decode())

    def test_a_loose_contact_shows_in_the_rate(self) -> None:
        out = program_json("scan", *RIG, "--repeat", "400", "--mishap", "flaky:tide,25", "--seed", "3")
        row = next(row for row in out["devices"] if row["address"] == 0x3D)
        self.assertEqual(row["tried"], 400)
        self.assertAlmostEqual(row["answers"] / 400, 0.75, delta=0.08)
        again = program_json("scan", *RIG, "--repeat", "400", "--mishap", "flaky:tide,25", "--seed", "3")
        self.assertEqual(out, again)

    def test_a_held_line_is_seen_before_anything_is_probed(self) -> None:
        done = program("scan", *RIG, "--mishap", "stuck:SDA,low")
        self.assertEqual((done.returncode, done.stdout), (2, b""))
        for part in (b"SDA is held low", b"pull-up", b"nine times"):
            self.assertIn(part, done.stderr)
        with self.assertRaises(BusHeld):
            scan_link(Desk(rig(), [Mishap("stuck", "SCL,low")]), None)
        self.assertEqual(scan_link(Desk(rig(), [Mishap("stuck", "SCL,high")]), None).answered, [])

    def test_an_interrupted_scan_prints_what_is_known(self) -> None:
        for seconds in (1, 2, 4, 8, 16, 32):  # until it is well into its repeats, however slow the machine
            process = subprocess.Popen(
                [PROGRAM, "scan", *RIG, "--repeat", "1000000"], cwd=demo(), stdout=subprocess.PIPE, stderr=subprocess.PIPE,
                preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # tests in the background inherit that it is ignored
            )  # fmt: skip
            time.sleep(seconds)
            process.send_signal(signal.SIGINT)
            out, err = process.communicate(timeout=60)
            self.assertNotIn(b"Traceback", err)
            if b"interrupted" in out:
                break
        self.assertEqual((process.returncode, b"interrupted" in out, b"0x3d" in out), (130, True, True))

    def test_sending_leaves_the_picture_on_the_glass(self) -> None:
        done = program("send", "tide.hush", *RIG, "--picture", "sent.png")
        self.assertEqual(done.returncode, 0, done.stderr)
        program("screen", "healthy.vcd", *RIG, "--picture", "seen.png")
        self.assertEqual((demo() / "sent.png").read_bytes(), (demo() / "seen.png").read_bytes())
        self.assertIn(b"no link was named", done.stderr)

    def test_waits_and_repeats_count_in_the_desks_time(self) -> None:
        once = program_json("send", "tide.hush", *RIG, "--link", "desk")
        # 2107 bytes and 22 addresses at 400 kHz, nine clocks each, START and STOP; and the 5 ms of the sequence's wait.
        self.assertAlmostEqual(once["seconds"], (2107 + 22) * 9 / 400e3 + 22 * 3 / 400e3 + 0.005, delta=1e-6)
        many = program_json("send", "tide.hush", *RIG, "--repeat", "50")
        self.assertEqual(many["pictures"], 50)
        self.assertAlmostEqual(many["pictures_a_second"], 1 / (0.005 + (1030 + 6) * 9 / 400e3), delta=0.6)

    def test_a_refusal_names_the_step(self) -> None:
        done = program("send", "tide.hush", *RIG, "--mishap", "refuse:tide")
        self.assertEqual((done.returncode, done.stdout), (1, b""))
        self.assertIn(b"tide.hush:4: 'display off' was refused: 0x3d did not acknowledge its address", done.stderr)

    def test_a_dry_run_lists_and_sends_nothing(self) -> None:
        text = program("send", "tide.hush", *RIG, "--dry-run", "--mishap", "refuse:tide").stdout.decode()
        self.assertIn("nothing was sent", text)
        steps = program_json("send", "tide.hush", *RIG, "--dry-run")["steps"]
        self.assertEqual(steps[5], {"place": "tide.hush:9", "device": "tide", "step": "charge-pump on", "wait": 0.0,
                                    "transactions": [{"data": False, "bytes": [0x8D, 0x14]}]})  # fmt: skip

    def test_the_test_picture_tells_every_edge_and_corner(self) -> None:
        for panel in ("128x64", "128x32", "64x48", "72x40", "96x16"):
            text = (demo() / "front-desk.toml").read_text().replace("128x64-yellow-blue", panel)
            (demo() / "other.toml").write_text(text)
            done = program("send", "--test-picture", "tide", "--rig", "other.toml", "--picture", "card.png")
            self.assertEqual(done.returncode, 0, done.stderr)
            width, height = map(int, panel.split("x"))
            with Image.open(demo() / "card.png") as image:
                scale = image.width // (width + 4)
                pixels = np.asarray(image.convert("L"))[2 * scale + 1 :: scale, 2 * scale + 1 :: scale][:height, :width] > 80
            for edge in (pixels[0], pixels[-1], pixels[:, 0], pixels[:, -1]):
                self.assertTrue(edge.all(), panel)
            self.assertTrue(
                pixels.shape == (height, width) and (pixels[::-1] != pixels).any() and (pixels[:, ::-1] != pixels).any()
            )

    def test_mishaps_and_options_that_make_no_sense(self) -> None:
        for words, said in (
            (("scan",), "the desk needs a rig"),
            (("scan", *RIG, "--repeat", "0"), "--repeat 0"),
            (("scan", *RIG, "--mishap", "swap:SCL,SDA"), "'swap' does nothing to a desk"),
            (("scan", *RIG, "--mishap", "refuse:tyde"), "no device 'tyde'"),
            (("scan", *RIG, "--mishap", "flaky:tide,200"), "200 percent"),
            (("scan", *RIG, "--mishap", "strap:tide,300"), "no 7-bit address"),
            (("scan", *RIG, "--mishap", "stuck:SDX,low"), "no line of the bus"),
            (("scan", "healthy.vcd", "--link", "desk"), "a capture and a link"),
            (("send", *RIG), "a sequence, a test picture or a walk"),
            (("send", "--test-picture", "tyde", *RIG), "no device 'tyde'"),
            (("send", "tide.hush", *RIG, "--picture", "x.jpg"), "a picture of the glass is a PNG"),
            (("send", "tide.hush", *RIG, "--link", "i2c-1", "--mishap", "refuse:tide"), "mishaps happen on the desk only"),
            (("send", "tide.hush", *RIG, "--link", "bus"), "there is no link 'bus'"),
        ):
            done = program(*words)
            self.assertEqual((done.returncode, done.stdout), (2, b""), words)
            self.assertIn(said, done.stderr.decode(), words)


class OverCaptures(unittest.TestCase):
    def test_every_address_that_was_called(self) -> None:
        out = program_json("scan", "nobody-there.vcd", *RIG)
        self.assertEqual((out["capture"], out["answered"]), ("nobody-there.vcd", []))
        self.assertEqual([(row["address"], row["tried"], row["answers"]) for row in out["devices"]], [(0x3D, 22, 0)])
        self.assertEqual(out["expected_missing"][0]["device"], "tide")
        healthy = program_json("scan", "healthy.vcd")
        self.assertTrue(healthy["devices"][0]["candidates"][0].startswith("ssd1306"))


class Candidates(unittest.TestCase):
    def test_a_clock_chip_is_not_taken_for_a_display(self) -> None:
        self.assertFalse([name for name in candidates(0x68) if "ssd1306" in name])
        self.assertTrue([name for name in candidates(0x68) if "clock" in name])
        for part in neighbours():
            self.assertTrue(part.addresses and all(0x08 <= address <= 0x77 for address in part.addresses), part.name)


@unittest.skipUnless(shutil.which("cc"), "no C compiler here for the shim")
class OverI2cDev(unittest.TestCase):
    shim: Path

    @classmethod
    def setUpClass(cls) -> None:
        cls.shim = scratch() / "shim.so"
        source = ROOT / "tests" / "i2c_shim.c"
        subprocess.run(["cc", "-shared", "-fPIC", "-Wall", "-Werror", "-o", cls.shim, source, "-ldl"], check=True)

    def over(self, *words: str, **kernel: object) -> "subprocess.CompletedProcess[bytes]":
        env = {**os.environ, "LD_PRELOAD": str(self.shim), **{f"SHIM_{key.upper()}": str(value) for key, value in kernel.items()}}
        return subprocess.run([PROGRAM, *words], cwd=demo(), env=env, capture_output=True, check=False, timeout=60)

    def test_scan_finds_who_answers_and_skips_what_a_driver_holds(self) -> None:
        log = scratch() / "log"
        done = self.over("scan", "--link", "i2c-1", *RIG, "--format", "json", answers="3d,50", claimed="68", log=log)
        out = json.loads(done.stdout)
        self.assertEqual((done.returncode, out["answered"], out["link"]), (0, [0x3D, 0x50], "/dev/i2c-1"))
        self.assertEqual(out["skipped"], [{"address": 0x68, "why": "in use by a kernel driver"}])
        probes = dict(line.split()[:2] for line in log.read_text().splitlines())
        self.assertEqual({int(a, 16) for a, how in probes.items() if how == "read"}, read_probed())
        self.assertNotIn("68", probes)

    def test_an_adapter_without_quick_is_read_probed(self) -> None:
        log = scratch() / "log"
        out = json.loads(self.over("scan", "--link", "1", "--format", "json", answers="3d", funcs=0x00060001, log=log).stdout)
        self.assertEqual(({row["probe"] for row in out["devices"]}, out["answered"]), ({"read"}, [0x3D]))

    def test_sending_puts_the_same_bytes_on_the_bus_as_the_capture_has(self) -> None:
        log = scratch() / "log"
        done = self.over("send", "tide.hush", *RIG, "--link", "/dev/i2c-1", answers="3d", log=log)
        self.assertEqual(done.returncode, 0, done.stderr)
        sent = [[int(byte, 16) for byte in line.split()[2:]] for line in log.read_text().splitlines()]
        captured = [entry["bytes"] for entry in program_json("decode", "healthy.vcd")["transactions"]]
        self.assertEqual(sent, captured)

    def test_each_failure_has_its_own_message_and_remedy(self) -> None:
        for kernel, said in (
            ({"open": ENOENT}, "is absent\n  hushed-wire links"),
            ({"open": EACCES}, "may not be opened\n  add yourself to the group"),
            ({"open": ENODEV}, "is disabled\n  .*enable the bus"),
            ({"open": EBUSY}, "is in use\n  stop the program"),
            ({"fail": ETIMEDOUT}, "the bus does not move .*\n  measure SCL and SDA"),
            ({"fail": EAGAIN}, "the bus does not move"),
            ({"fail": EIO}, "the transfer failed: Input/output error\n  check the adapter"),
            ({"fail": ENODEV}, "the bus is gone\n  check the adapter"),
        ):
            done = self.over("scan", "--link", "i2c-1", **kernel)
            self.assertEqual((done.returncode, done.stdout), (2, b""), kernel)
            self.assertRegex(done.stderr.decode(), f"^hushed-wire: /dev/i2c-1: {said}", kernel)
        self.assertIn(b"is absent", self.over("scan", "--link", "i2c-7").stderr)
        self.assertIn(b"lacks what this needs", self.over("send", "tide.hush", *RIG, "--link", "1", fail=EOPNOTSUPP).stderr)
        self.assertIn(b"knows only SMBus", self.over("send", "tide.hush", *RIG, "--link", "1", funcs=0x000F0000).stderr)
        refused = self.over("send", "tide.hush", *RIG, "--link", "1", answers="68")
        self.assertEqual((refused.returncode, b"'display off' was refused" in refused.stderr), (1, True))

    def test_where_every_address_answers_nobody_does(self) -> None:
        every = ",".join(f"{address:02x}" for address in range(0x80))
        done = self.over("scan", "--link", "i2c-1", *RIG, answers=every)
        self.assertEqual((done.returncode, done.stdout), (2, b""))
        self.assertRegex(
            done.stderr.decode(), "/dev/i2c-1: every address answers, so nobody was heard: SDA is low.*\n  measure SDA"
        )

    def test_a_bus_that_vanishes_in_mid_scan_leaves_what_is_known(self) -> None:
        done = self.over("scan", "--link", "i2c-1", answers="3d", fail=ENODEV, fail_at=90)
        self.assertEqual((done.returncode, b"the bus is gone" in done.stdout, b"0x3d" in done.stdout), (1, True, True))
        desk = Desk(rig())
        with self.assertRaises(Refused):
            desk.write(0x50, b"")
        with self.assertRaises(HushedError):
            Desk(Rig(bus=rig().bus))


class OverASerialProbe(unittest.TestCase):
    """The whole way over a pseudo-terminal: pyserial on this side, the shipped stand-in on the other."""

    def test_scan_and_send_work_as_over_any_link(self) -> None:
        out = program_json("scan", *RIG, "--link", "stand-in")
        self.assertEqual((out["answered"], len(out["devices"])), ([0x3D], 112))
        for garble in (0, 15):
            done = program(
                "send", "tide.hush", *RIG, "--link", "stand-in", "--picture", "far.png", "--mishap", f"garble:{garble}"
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            program("send", "tide.hush", *RIG, "--picture", "near.png")
            self.assertEqual((demo() / "far.png").read_bytes(), (demo() / "near.png").read_bytes())

    def test_nothing_is_done_twice_when_answers_are_lost(self) -> None:
        desk = Desk(rig())
        far = StandIn(desk, garble=0.2, seed=5)
        link = open_serial(far.path)
        sent = [bytes([0x00, number & 0xFF]) for number in range(120)]
        for data in sent:
            link.write(0x3D, data)
        self.assertEqual([data for _, data in desk.seats["tide"].received], sent)
        self.assertGreater(far.repeated, 0)
        link.close()
        far.close()

    def test_its_own_failures(self) -> None:
        held = program("scan", *RIG, "--link", "stand-in", "--mishap", "stuck:SDA,low")
        self.assertEqual((held.returncode, b"SDA is held low" in held.stderr), (2, True))
        refused = program("send", "tide.hush", *RIG, "--link", "stand-in", "--mishap", "refuse:tide")
        self.assertEqual((refused.returncode, b"'display off' was refused" in refused.stderr), (1, True))
        self.assertIn(b"is absent", program("scan", "--link", "/dev/ttyNONE").stderr)
        for noise, said in ((b"", "nothing answers"), (b"boot: ready\r\n", "what comes back cannot be read")):
            master, slave = os.openpty()
            tty.setraw(slave)
            stop = threading.Event()

            def chatter(master: int = master, noise: bytes = noise, stop: threading.Event = stop) -> None:
                while not stop.wait(0.05):
                    os.write(master, noise)

            speaker = threading.Thread(target=chatter if noise else stop.wait, daemon=True)
            speaker.start()
            done = program("scan", "--link", os.ttyname(slave))
            stop.set()
            speaker.join()
            self.assertEqual((done.returncode, done.stdout, said in done.stderr.decode()), (2, b"", True), done.stderr)
            os.close(master)
            os.close(slave)
        far = StandIn(Desk(rig()))
        link = open_serial(far.path)
        link.line("reset", 0)
        self.assertEqual(far.lines, {"reset": 0})
        with self.assertRaisesRegex(HushedError, "no line 'lamp'"):
            link.line("lamp", 1)
        far.close()
        with self.assertRaisesRegex(HushedError, "the port is gone|nothing answers"):
            link.write(0x3D, b"\0")
        link.close()

    @given(
        st.integers(0, 255),
        st.from_regex(r"[a-z]{1,9}", fullmatch=True),
        st.lists(st.from_regex(r"[!-~]{1,20}", fullmatch=True), max_size=5),
        st.data(),
    )
    def test_lines_are_packed_and_unpacked_and_damage_is_seen(
        self, number: int, verb: str, words: list[str], data: st.DataObject
    ) -> None:
        line = wire_talk.pack(number, verb, *words)
        self.assertEqual(wire_talk.unpack(line), (number, verb, words))
        at = data.draw(st.integers(0, len(line) - 2))
        flipped = line[:at] + bytes([line[at] ^ data.draw(st.sampled_from([1, 2, 4, 8, 16]))]) + line[at + 1 :]
        self.assertNotEqual(wire_talk.unpack(flipped), (number, verb, words))

    def test_the_page_for_firmware_shows_lines_that_check(self) -> None:
        page = (ROOT / "docs" / "probe.md").read_text()
        lines = re.findall(r"^[<>] ([0-9a-f]{4} .*)$", page, re.MULTILINE)
        self.assertGreater(len(lines), 8)
        for line in lines:
            self.assertIsNotNone(wire_talk.unpack(line.encode()), line)
        verbs = {unpacked[1] for line in lines if (unpacked := wire_talk.unpack(line.encode()))}
        self.assertLessEqual({"who", "levels", "transfer", "scan", "line", "wait", "done", "refused", "garbled"}, verbs)


class Discovery(unittest.TestCase):
    def test_sysfs_is_read_as_the_kernel_lays_it_out(self) -> None:
        root = scratch()
        for path, text in (
            ("sys/class/i2c-dev/i2c-1/name", "first adapter\n"), ("sys/class/i2c-dev/i2c-11/name", "second\n"),
            ("dev/i2c-1", ""), ("sys/class/spidev/spidev0.0/device/modalias", "spi:spidev\n"), ("dev/spidev0.0", ""),
            ("sys/bus/gpio/devices/gpiochip0/label", "pinctrl\n"),
        ):  # fmt: skip
            (root / path).parent.mkdir(parents=True, exist_ok=True)
            (root / path).write_text(text)
        node = root / "sys/bus/i2c/devices/i2c-1/of_node"
        node.mkdir(parents=True)
        (node / "clock-frequency").write_bytes((400_000).to_bytes(4, "big"))
        (root / "sys/bus/i2c/devices/1-0068/driver").mkdir(parents=True)
        (root / "sys/bus/i2c/devices/1-0050").mkdir()
        first, second, spi, gpio = discover(root)
        self.assertEqual((first.link, first.name, first.clock, first.claimed, first.usable),
                         ("i2c-1", "first adapter", 400_000, [0x68], ""))  # fmt: skip
        self.assertEqual((second.clock, second.usable.split(":")[0]), (None, "absent"))
        self.assertEqual((spi.kind, spi.name, gpio.kind, gpio.name), ("spi", "spi:spidev", "gpio", "pinctrl"))
        env = {**os.environ, "HUSHED_WIRE_ROOT": str(root)}
        shown = subprocess.run([PROGRAM, "links"], env=env, capture_output=True, check=True).stdout.decode()
        for part in ("i2c-1", "400 kHz", "0x68", "desk", "spidev0.0", "gpiochip0"):
            self.assertIn(part, shown)
