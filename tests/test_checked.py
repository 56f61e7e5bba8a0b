"""What `build` and `send` make of a sequence: the times that a part takes for itself, numbers in the wrong base, what is repeated."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

from support import demo, program, program_json

START = "wait 50ms\n" + "function-set width=8 lines=1 font=5x8\nwait {0}\nfunction-set width=8 lines=1 font=5x8\nwait {1}\n"
REST = "function-set width=8 lines=2 font=5x8\nclear\nwait 2ms\nentry-mode direction=increment shift=off\ndisplay state=on cursor=off blink=off\n"


class Checked(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def built(self, text: str, *options: str) -> dict[str, object]:
        (self.folder / "s.hush").write_text(text)
        found: dict[str, object] = program_json("build", "s.hush", *options, cwd=self.folder)
        return found

    def test_a_part_takes_its_own_time_for_each_command(self) -> None:
        steps = self.built(START.format("5ms", "200us") + REST + 'text 0,0 "GATE"\n', "--part", "hd44780")["steps"]
        assert isinstance(steps, list)
        at = {step["command"]: step["time"] for step in steps}
        entry, display = at["entry-mode direction=increment shift=off"], at["display state=on cursor=off blink=off"]
        self.assertAlmostEqual(display - entry, 38e-6, 9)  # a word at 1 MHz, and Table 6: 37 us
        self.assertAlmostEqual(at['text 0,0 "GATE"'] - display, 38e-6, 9)
        # The text is an address (37 us) and four characters (41 us each), the last of which is waited for, too.
        duration = self.built(START.format("5ms", "200us") + REST + 'text 0,0 "GATE"\n', "--part", "hd44780")["duration"]
        self.assertAlmostEqual(duration - at['text 0,0 "GATE"'], 5e-6 + 37e-6 + 4 * 41e-6, 9)  # type: ignore[operator]
        rehearsed = program("rehearse", "pump-room.hush", "--rig", "pump-room.toml", "-o", str(self.folder / "x.vcd"), cwd=demo())
        self.assertEqual(rehearsed.returncode, 0)

    def test_the_rests_of_the_start_up(self) -> None:
        for first, second, wrong in (("5ms", "200us", []), ("1ms", "200us", ["number 1 of the start-up, which needs 4.1ms"]),
                                     ("5ms", "50us", ["number 2 of the start-up, which needs 100us"])):  # fmt: skip
            found = self.built(START.format(first, second) + REST, "--part", "hd44780")["findings"]
            assert isinstance(found, list)
            self.assertEqual(len(found), len(wrong), found)
            for finding, said in zip(found, wrong, strict=True):
                self.assertEqual(finding["code"], "timing.wait-short")
                self.assertIn(said, finding["summary"])

    def test_numbers_in_the_wrong_base(self) -> None:
        for text, wrong in (
            ("bytes 38 38 38\nwait 1ms\nbytes 12 6\nbytes 1\nwait 2ms\n", True),
            ("bytes 0x38 0x38 0x38\nwait 1ms\nbytes 12 6\nbytes 1\nwait 2ms\n", False),
            ("bytes 56 56 56\nwait 1ms\nbytes 12 6\nbytes 1\nwait 2ms\n", False),  # which is 38h
        ):
            found = self.built("wait 50ms\n" + text, "--part", "hd44780")["findings"]
            assert isinstance(found, list)
            codes = [finding["code"] for finding in found if finding["code"].startswith("setup.")]
            self.assertEqual(codes, ["setup.decimal-for-hex"] if wrong else [], text)
            if wrong:
                self.assertIn("write 0x38 in place of 38", found[0]["remedy"])

    def test_what_the_wires_cannot_carry_is_refused_where_it_stands(self) -> None:
        """Words of four bits, a glass that is sent whole pictures: nothing is cut to what fits."""
        signal = (demo() / "gate-signal.toml").read_text()
        (self.folder / "signal.toml").write_text(signal)
        for text, options, said in (
            (
                "system state=on\ndisplay-address address=0 0xF 0x10\n",
                ["--part", "ht1621"],
                "s.hush:2: data are words of four bits here, and 0x10",
            ),
            ("data 0x1\n", ["--part", "ht1621"], "s.hush:1: data need an address ahead of them"),
            (
                "fill off\ndata 0xFF*4\n",
                ["--rig", "signal.toml"],
                "s.hush:2: 'signal' takes whole pictures, of 5 bytes, and this has 4",
            ),
        ):
            (self.folder / "s.hush").write_text(text)
            for command in (["build", "s.hush"], ["rehearse", "s.hush", "-o", "out.vcd"]):
                if command[0] == "build" or "--rig" in options:
                    done = program(*command, *options, cwd=self.folder)
                    self.assertEqual(done.returncode, 2)
                    self.assertIn(said, done.stderr.decode())
        self.assertFalse((self.folder / "out.vcd").exists())

    def test_what_is_drawn_is_repeated_with_what_belongs_to_it(self) -> None:
        lines = [
            *START.format("5ms", "200us").strip().split("\n"),
            *REST.strip().split("\n"),
            'text 0,0 "GATE"',
            "wait 3ms",
            'text 0,0 "OPEN"',
            "wait 4ms",
        ]
        (self.folder / "s.hush").write_text("\n".join(lines))
        rig = (demo() / "pump-room.toml").read_text()
        (self.folder / "rig.toml").write_text(rig)
        done = program("send", "s.hush", "--rig", "rig.toml", "--repeat", "3", "--dry-run", "--format", "json", cwd=self.folder)
        steps = [step["step"] for step in json.loads(done.stdout)["steps"]]
        self.assertEqual(steps[len(lines) - 4 :], ['text 0,0 "GATE"', "wait 3ms", 'text 0,0 "OPEN"', "wait 4ms"] * 3)
        self.assertEqual(steps.count("clear"), 1)

    def test_columns_between_glyphs(self) -> None:
        rows = {}
        for apart in ("", " apart=0", " apart=3"):
            (self.folder / "s.hush").write_text(f'text 0,0 "II"{apart}\n')
            done = program("build", "s.hush", "--part", "pcd8544", "--as", "hex", cwd=self.folder)
            self.assertEqual(done.returncode, 0, done.stderr)
            (data,) = [line for line in done.stdout.decode().split("\n") if line.startswith("data")]
            rows[apart] = bytes.fromhex(data.removeprefix("data"))
        one = rows[" apart=0"][: len(rows[" apart=0"]) // 2]
        self.assertEqual(rows[" apart=0"], one * 2)
        self.assertEqual(rows[" apart=3"], one + bytes(3) + one)
        self.assertEqual(rows[""], one + bytes(1) + one)
        picture = program(
            "pack", "--text", "II", "--apart", "3", "--layout", "stand=upright first=low", "--as", "hex", cwd=self.folder
        )
        self.assertIn((one + bytes(3) + one).hex(" ").upper().encode(), b" ".join(picture.stdout.split()))
        (self.folder / "s.hush").write_text('text 0,0 "II" apart=-1\n')
        self.assertEqual(program("build", "s.hush", "--part", "pcd8544", cwd=self.folder).returncode, 2)


if __name__ == "__main__":
    unittest.main()
