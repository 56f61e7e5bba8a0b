"""Expanders with registers, against a chip that is simulated byte by byte; and what it means for a display when pins stay inputs."""

import unittest
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import hushed_wire
from hushed_wire.diagnosis import diagnose
from hushed_wire.part import load
from hushed_wire.part.expander import Ports, States, state_of
from hushed_wire.rig import Rig, Setup, decode, load_rig
from hushed_wire.trace import Trace, read_capture
from support import acked, demo, i2c_trace, program, scratch

NAMES = ("iodir", "ipol", "gpinten", "defval", "intcon", "iocon", "gppu", "intf", "intcap", "gpio", "olat")


class Chip:
    """MCP23017 as its datasheet tells it (DS20001952, Tables 3-1 and 3-2, 3.2.1), a byte at a time.

    Of one port MCP23008 (DS21919, Table 1-2): eleven registers, the first behind the last, and no banks.
    """

    def __init__(self, ports: int) -> None:
        self.ports, self.latch, self.inputs, self.bank, self.byte_mode = ports, [0, 0], [0, 0], ports == 1, False
        self.bank_0 = {2 * k + side: (name, side) for k, name in enumerate(NAMES) for side in (0, 1)}
        self.bank_1 = {16 * side + k: (name, side) for k, name in enumerate(NAMES) for side in range(ports)}

    def write(self, register: int, values: list[int]) -> list[tuple[int, int]]:
        """A transfer; the latches and inputs after each byte that bears on them."""
        out, banked, alone = [], self.bank, self.byte_mode
        places = 0x0B if self.ports == 1 else 0x1B if banked else 0x16
        pointer = register if alone else register % places
        for value in values:
            name, side = (self.bank_1 if banked else self.bank_0).get(pointer, ("", 0))
            if name in ("gpio", "olat"):
                self.latch[side] = value
            elif name == "iodir":
                self.inputs[side] = value
            elif name == "iocon":
                self.bank, self.byte_mode = self.ports == 1 or bool(value & 0x80), bool(value & 0x20)
            if name in ("gpio", "olat", "iodir"):
                out.append((self.latch[0] | self.latch[1] << 8, self.inputs[0] | self.inputs[1] << 8))
            if alone:
                pointer = pointer if banked else pointer ^ 1
            else:
                pointer = (pointer + 1) % places
        return out


ONE = st.tuples(
    st.sampled_from([*range(0x1B), 0x0A, 0x05, 0x0B, 0x12, 0x14, 0x00, 0x09]),
    st.lists(st.sampled_from([0x00, 0xFF, 0x80, 0x20, 0xA0, 0x5A, 0x1C]), max_size=25),
)


class Registers(unittest.TestCase):
    @given(
        st.sampled_from([("mcp23017", 2), ("mcp23008", 1)]), st.lists(ONE, max_size=14), st.lists(st.integers(0, 14), max_size=4)
    )
    @settings(deadline=None, max_examples=500)
    def test_every_byte_goes_where_the_chip_puts_it(
        self, part: tuple[str, int], sent: list[tuple[int, list[int]]], cuts: list[int]
    ) -> None:
        chip, ports = Chip(part[1]), Ports(load(part[0]))
        expected = [state for register, values in sent for state in chip.write(register, values)]
        found = [States.none()]
        edges = [0, *sorted(cut for cut in cuts if cut < len(sent)), len(sent)]
        for first, last in pairwise(edges):
            rows = [(byte, k) for k in range(first, last) for byte in (sent[k][0], *sent[k][1])]
            value = np.array([byte for byte, _ in rows], np.uint8)
            found.append(ports.feed(value, np.arange(len(rows)), np.array([k for _, k in rows], np.int64)))
        states = States.join(found)
        self.assertEqual(list(zip(states.level.tolist(), states.undriven.tolist(), strict=True)), expected)

    def test_a_part_without_registers_drives_what_it_is_sent(self) -> None:
        states = Ports(load("pcf8574")).feed(np.array([3, 0x5A], np.uint8), np.array([7, 9]), np.array([0, 1]))
        self.assertEqual((states.time.tolist(), states.level.tolist(), states.undriven.tolist()), ([7, 9], [3, 0x5A], [0, 0]))

    @given(st.lists(st.lists(st.integers(0, 255), min_size=1, max_size=5), max_size=8), st.integers(0, 8))
    @settings(deadline=None)
    def test_one_of_sixteen_pins_takes_bytes_in_turn(self, sent: list[list[int]], cut: int) -> None:
        ports, found = Ports(load("pcf8575")), [States.none()]
        for first, last in pairwise(sorted({0, min(cut, len(sent)), len(sent)})):
            rows = [(byte, k) for k in range(first, last) for byte in sent[k]]
            value, owner = np.array([byte for byte, _ in rows], np.uint8), np.array([k for _, k in rows], np.int64)
            found.append(ports.feed(value, np.arange(len(rows)), owner))
        latch: list[int | None] = [None, None]
        expected = []
        for values in sent:
            for k, byte in enumerate(values):
                latch[k % 2] = byte
                if latch[0] is not None and latch[1] is not None:
                    expected.append(latch[1] * 256 + latch[0])
        self.assertEqual(States.join(found).level.tolist(), expected)
        if sent and len(sent[-1]) >= 2:
            odd = len(sent[-1]) % 2
            self.assertEqual(state_of(load("pcf8575"), bytes(sent[-1])), expected[-1 - odd])


RIG = """
[[bus]]
name = "pumps"
kind = "i2c"
clock = "400kHz"
lines = { scl = "SCL", sda = "SDA" }
[[bridge]]
name = "adapter"
on = "pumps"
part = "mcp23017"
address = 0x23
drives = { rs = "b7", e = "b6", d4 = "a4", d5 = "a5", d6 = "a6", d7 = "a7" }
[[device]]
name = "pump-lcd"
on = "adapter"
part = "hd44780"
panel = "20x4"
"""


class BehindOne(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = scratch()
        (self.folder / "rig.toml").write_text(RIG)
        (self.folder / "pump-room.hush").write_text((demo() / "pump-room.hush").read_text().replace("backlight on\n", ""))
        done = program("rehearse", "pump-room.hush", "--rig", "rig.toml", "-o", "good.vcd", cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.rig: Rig = load_rig(self.folder / "rig.toml")

    def sent(self) -> list[list[int]]:
        """The bytes of each transfer, the address ahead."""
        words = decode(read_capture(self.folder / "good.vcd"), self.rig).channels[0]
        return [words.words.value[first:last].tolist() for first, last in zip(words.table.first, words.table.last, strict=True)]

    def again(self, transfers: list[list[int]]) -> Trace:
        """Other transfers, as a capture."""
        trace = i2c_trace([acked(*bytes_) for bytes_ in transfers], clock=400_000, tick=Fraction(1, 10**8))
        names = {"scl": "SCL", "sda": "SDA"}
        return Trace(
            tuple(names.get(name.lower(), name) for name in trace.names), trace.times, trace.levels, trace.end, trace.tick
        )

    def text(self, trace: Trace) -> str:
        return "\n".join(decode(trace, self.rig).devices[0].glass(trace.end).lines)

    def test_a_driver_that_uses_the_other_bank_shows_the_same(self) -> None:
        sent = self.sent()
        good = self.text(self.again(sent))
        self.assertIn("PUMP 2", good)
        moved = {0x00: 0x00, 0x01: 0x10, 0x14: 0x0A, 0x15: 0x1A}
        banked = [[0x46, 0x0A, 0x80], *([address, moved[register], *values] for address, register, *values in sent)]
        self.assertEqual(self.text(self.again(banked)), good)

    def test_pins_that_stay_inputs_show_nothing_and_are_named(self) -> None:
        sent = self.sent()
        trace = self.again(
            [[address, register, 0xFF if register in (0, 1) else values[0]] for address, register, *values in sent]
        )
        self.assertNotIn("PUMP", self.text(trace))
        found = diagnose(trace, Setup(self.rig)).findings
        self.assertEqual((found[0].code, found[0].device, found[0].severity), ("setup.pin-direction", "adapter", "fault"))
        self.assertIn("IODIR", found[0].summary + found[0].remedy)
        good = diagnose(read_capture(self.folder / "good.vcd"), Setup(self.rig)).findings
        self.assertNotIn("setup.step-missing", [finding.code for finding in good])

    def test_what_was_said_ahead_of_the_capture_is_not_held_against_the_driver(self) -> None:
        running = [own for own in self.sent() if own[1] not in (0, 1)]
        self.assertIn("PUMP 2", self.text(self.again(running)))

    def test_an_output_that_clocks_words_in_and_never_moves_is_named(self) -> None:
        """The rig's enable sits elsewhere than the driver's: no word gets to the display, which is no clean bill of health."""
        for enable, told in (("a1", "a1"), ("b5", "b5")):
            rig = load_rig_text(self.folder, RIG.replace('e = "b6"', f'e = "{enable}"'))
            found = diagnose(read_capture(self.folder / "good.vcd"), Setup(rig)).findings
            self.assertEqual((found[0].code, found[0].device), ("wiring.adapter-pins", "pump-lcd"))
            self.assertIn(f"E on {told} of 'adapter'", found[0].summary)
            self.assertIn("b6 moves as such a line does", found[0].summary)

    def test_without_a_rig_the_parts_that_can_be_there_are_named(self) -> None:
        trace = self.again([own[:3] for own in self.sent() if own[1] == 0x15][:12])
        verdict = hushed_wire.diagnose(trace, hushed_wire.guess_rig(trace)).verdict
        self.assertIn("what goes to 0x23 does not tell the part (", verdict)
        for part in ("pcf8574", "mcp23017", "pcf8575"):
            self.assertIn(part, verdict)

    def test_an_adapter_that_only_switches_the_backlight_is_none_of_that(self) -> None:
        rig = load_rig_text(self.folder, RIG.replace('rs = "b7"', 'backlight = "b0", rs = "b7"'))
        trace = self.again([[0x46, 0x00, 0], [0x46, 0x01, 0], *([0x46, 0x15, k & 1] for k in range(40))])
        found = diagnose(trace, Setup(rig))
        self.assertNotIn("wiring.adapter-pins", [finding.code for finding in found.findings])
        self.assertIn("no word for 'pump-lcd' is in the capture", found.verdict)


def load_rig_text(folder: Path, text: str) -> Rig:
    (folder / "other.toml").write_text(text)
    return load_rig(folder / "other.toml")


if __name__ == "__main__":
    unittest.main()
