"""Transfers by their numbers: one number means one transfer in every command, and what was set up ahead of it is known."""

import csv
import io
import json
import re
import unittest

from hushed_wire.rig import decode, load_rig
from hushed_wire.rig.numbered import numbered, shown_places
from hushed_wire.trace import read_capture
from support import demo, program, program_json, scratch

CAPTURES = (("healthy.vcd", "front-desk.toml"), ("pump-room.vcd", "pump-room.toml"), ("engine-room.vcd", "engine-room.toml"),
            ("handheld.vcd", "handheld.toml"), ("wheelhouse.vcd", "wheelhouse.toml"))  # fmt: skip


class Numbers(unittest.TestCase):
    def test_the_same_in_decode_and_find(self) -> None:
        for name, rig in CAPTURES:
            told = ("--rig", rig)
            starts, ends = numbered(decode(read_capture(demo() / name), load_rig(demo() / rig)))
            rows = re.findall(
                r"^ *(\d+) +[\d.]+ (?:µs|ms) ", program("decode", name, *told, "--all").stdout.decode(), re.MULTILINE
            )
            self.assertEqual([int(row) for row in rows], list(range(1, len(starts) + 1)), name)
            for number in (1, len(starts) // 2, len(starts)):
                found = program_json("find", name, f"transfer={number}", *told)["found"]
                tick = float(read_capture(demo() / name).tick)
                self.assertEqual(len(found), 1, name)
                self.assertAlmostEqual(found[0]["start"], starts[number - 1] * tick, 9)
                self.assertAlmostEqual(found[0]["end"], ends[number - 1] * tick, 9)
                text = program("find", name, f"transfer={number}", *told).stdout.decode()
                self.assertRegex(text.splitlines()[2], rf"^ *{number} ")

    def test_a_part_is_what_the_whole_says_there(self) -> None:
        for name, rig in CAPTURES:
            told = ("--rig", rig)
            shown_on = shown_places(load_rig(demo() / rig))
            rows = []
            for words in ((), ("--transfer", "3-5")):
                text = program("decode", name, *told, "--format", "csv", *words).stdout.decode()
                rows.append([row for row in csv.DictReader(io.StringIO(text)) if row["bus"] in shown_on])
            self.assertEqual(rows[1], rows[0][2:5], name)
            lines = program("decode", name, *told, "--all").stdout.decode().splitlines()
            shown = program("decode", name, *told, "--transfer", "3-5").stdout.decode().splitlines()
            for number in (3, 4, 5):
                own = [
                    next(" ".join(line.split()) for line in text if re.match(rf" *{number} ", line)) for text in (lines, shown)
                ]
                self.assertEqual(own[0].split()[3:6], own[1].split()[3:6], (name, number))

    def test_the_tail_of_a_long_list_has_its_numbers(self) -> None:
        lines = program("decode", "engine-room.vcd", "--rig", "engine-room.toml").stdout.decode().splitlines()
        told = [int(found[1]) for line in lines if (found := re.match(r" *(\d+) +[\d.]+ ms", line))]
        whole = program("decode", "engine-room.vcd", "--rig", "engine-room.toml", "--all").stdout.decode().splitlines()
        every = [int(found[1]) for line in whole if (found := re.match(r" *(\d+) +[\d.]+ ms", line))]
        self.assertEqual(told, [*every[:32], *every[-8:]] if len(every) > 40 else every)

    def test_the_glass_behind_a_transfer(self) -> None:
        rig = ("--rig", "front-desk.toml", "--format", "json")
        before, after = (
            program_json("screen", "healthy.vcd", *rig, "--transfer", number)["screens"][0] for number in ("17", "22")
        )
        self.assertEqual((before["lit"], after["lit"]), (False, True))
        self.assertEqual(after["rows"], program_json("screen", "healthy.vcd", *rig)["screens"][0]["rows"])

    def test_a_figure_of_some(self) -> None:
        out = scratch() / "some.png"
        done = program("plot", "handheld.vcd", "--rig", "handheld.toml", "--transfer", "2-3", "-o", str(out))
        self.assertEqual((done.returncode, out.is_file()), (0, True), done.stderr)

    def test_what_cannot_be(self) -> None:
        for words, said in (
            (("decode", "healthy.vcd", "--transfer", "99"), b"transfers 1 to 22"), (("decode", "healthy.vcd", "--transfer", "0"), b"no transfer 0"),
            (("decode", "healthy.vcd", "--transfer", "5-3"), b"no transfer 5-3"), (("screen", "healthy.vcd", "--transfer", "x"), b"--transfer 3"),
            (("screen", "healthy.vcd", "--transfer", "3", "--at", "1ms"), b"leave --at"), (("find", "healthy.vcd", "transfer=a"), b"no number"),
            (("plot", "healthy.vcd", "--transfer", "3", "--from", "1ms", "-o", "x.png"), b"leave --from"),
        ):  # fmt: skip
            done = program(*words)
            self.assertEqual((done.returncode, said in done.stderr), (2, True), (words, done.stderr))


class Windows(unittest.TestCase):
    def test_what_came_ahead_is_known_and_nothing_is_broken_off_at_the_edges(self) -> None:
        for name, rig in CAPTURES:
            told = ("--rig", rig, "--format", "jsonl")
            capture = read_capture(demo() / name)
            starts, ends = (column * float(capture.tick) for column in numbered(decode(capture, load_rig(demo() / rig))))
            for low, high in ((0.3, 0.6), (0.501, 0.503), (0.0, 0.05), (0.95, 1.0)):
                begin, end = (share * float(capture.end * capture.tick) for share in (low, high))
                window = ("--from", f"{begin * 1e6:.3f}us", "--to", f"{end * 1e6:.3f}us")
                whole = [json.loads(line) for line in program("decode", name, *told).stdout.splitlines()][:-1]
                part = [json.loads(line) for line in program("decode", name, *told, *window).stdout.splitlines()][:-1]
                inside = [
                    entry
                    for entry in whole
                    if entry["record"] == "transaction" and entry["end"] >= begin and entry["start"] <= end
                ]
                self.assertEqual([entry for entry in part if entry["record"] == "transaction"], inside, (name, window))
                commands = [json.dumps(entry) for entry in part if entry["record"] == "command"]
                self.assertLessEqual(set(commands), {json.dumps(entry) for entry in whole if entry["record"] == "command"})
                if name in ("healthy.vcd", "handheld.vcd", "wheelhouse.vcd"):  # of transfers that are told whole every command is
                    wanted = [
                        json.dumps(entry)
                        for entry in whole
                        if entry["record"] == "command" and any(one["start"] <= entry["time"] <= one["end"] for one in inside)
                    ]
                    self.assertEqual(commands, wanted, (name, window))
                text = program("decode", name, "--rig", rig, *window, "--all").stdout.decode()
                numbers = [
                    int(found[1]) for line in text.splitlines() if (found := re.match(r" *(\d+) +[\d.]+ (?:µs|ms|s) ", line))
                ]
                wanted = [k + 1 for k in range(len(starts)) if ends[k] >= begin and starts[k] <= end]
                self.assertEqual(numbers, wanted, (name, window))


class Lines(unittest.TestCase):
    def test_each_command_of_a_transfer_has_a_line_with_its_own_time_and_bytes(self) -> None:
        told = program("decode", "pump-room.vcd", "--rig", "pump-room.toml", "--full").stdout.decode()
        self.assertNotIn("…", told)
        self.assertNotIn("more; --full", told)
        own = re.findall(r"^ +([\d.]+) ms    ([0-9A-F]{2}) +(\S.*)$", told, re.MULTILINE)
        lines = program("decode", "pump-room.vcd", "--rig", "pump-room.toml", "--format", "jsonl").stdout.splitlines()
        commands = [entry for entry in map(json.loads, lines) if entry["record"] == "command" and entry["name"] != "data"]
        first = commands[:10]  # of the first transfer; those behind it stand alone
        self.assertEqual([int(raw, 16) for _, raw, _ in own], [byte for entry in first for byte in entry["bytes"]])
        self.assertTrue(all(float(at) * 1e-3 < entry["time"] + 1e-9 for (at, _, _), entry in zip(own, first, strict=True)))
        self.assertEqual([float(at) for at, _, _ in own], sorted(float(at) for at, _, _ in own))
        self.assertEqual([said.split()[0] for _, _, said in own], [entry["name"] for entry in first])
        self.assertIn("2 more; --full tells all", program("decode", "pump-room.vcd", "--rig", "pump-room.toml").stdout.decode())


class Bridges(unittest.TestCase):
    RIG = """
[[bus]]
name = "wires"
kind = "{kind}"
clock = "400kHz"
lines = {{ {lines} }}
[[bridge]]
name = "adapter"
on = "wires"
part = "{part}"
{more}
drives = {{ rs = "{p}0", e = "{p}2", d4 = "{p}4", d5 = "{p}5", d6 = "{p}6", d7 = "{p}7" }}
[[device]]
name = "pump-lcd"
on = "adapter"
part = "hd44780"
panel = "20x4"
"""

    def test_what_reaches_a_bridge_is_told_by_pins_or_registers(self) -> None:
        folder = scratch()
        sequence = (demo() / "pump-room.hush").read_text().replace("backlight on\n", "")
        (folder / "pump-room.hush").write_text(sequence)
        i2c, shift = 'scl = "SCL", sda = "SDA"', 'clock = "CK", data = "DA", latch = "LA"'
        for kind, lines, part, more, pin, wanted in (
            ("i2c", i2c, "pcf8574", "address = 0x23", "p", ("high: D4 D5\n", "high: E D4 D5\n", "all low\n")),
            ("i2c", i2c, "mcp23017", "address = 0x23", "a", ("iodir-a 0\n", "gpio-a 48|olat-a 48")),
            ("shift", shift, "74hc595", "", "q", ("high: D4 D5\n", "high: E D4 D5\n")),
        ):
            (folder / "rig.toml").write_text(self.RIG.format(kind=kind, lines=lines, part=part, more=more, p=pin))
            made = program("rehearse", "pump-room.hush", "--rig", "rig.toml", "-o", "made.vcd", cwd=folder)
            self.assertEqual(made.returncode, 0, made.stderr)
            told = program("decode", "made.vcd", "--rig", "rig.toml", "-v", cwd=folder).stdout.decode()
            for said in wanted:
                self.assertRegex(told, said, part)


class Letters(unittest.TestCase):
    def test_text_is_told_as_text_and_own_characters_as_bytes(self) -> None:
        told = program("decode", "pump-room.vcd", "--rig", "pump-room.toml").stdout.decode()
        self.assertIn('11 bytes of data: "PUMP 1  off"', told)
        self.assertIn('19 bytes of data: "PUMP 2  12.4 l/s  ·"', told)
        glyphs = [line for line in told.splitlines() if line.endswith("8 bytes of data")]
        self.assertEqual(len(glyphs), 2)
        entries = [
            json.loads(line)
            for line in program("decode", "pump-room.vcd", "--rig", "pump-room.toml", "--format", "jsonl").stdout.splitlines()
        ]
        self.assertEqual(sum(entry["record"] == "command" and entry["name"] == "data" for entry in entries), 6)


class Glass(unittest.TestCase):
    def test_a_window_knows_what_was_set_up_ahead_of_it(self) -> None:
        rig = ("--rig", "front-desk.toml", "--format", "json")
        whole = program_json("screen", "healthy.vcd", *rig)["screens"][0]
        late = program_json("screen", "healthy.vcd", *rig, "--from", "31ms")["screens"][0]
        self.assertEqual((late["lit"], late["rows"]), (True, whole["rows"]))
        early = program_json("screen", "healthy.vcd", *rig, "--to", "20ms")["screens"][0]
        self.assertEqual((early["lit"], early["time"]), (False, 0.02))
        told = program_json("find", "healthy.vcd", "command=display", "--rig", "front-desk.toml")["found"]
        for window, kept in ((("--from", "20ms"), told[1:]), (("--to", "20ms"), told[:1])):
            self.assertEqual(
                program_json("find", "healthy.vcd", "command=display", "--rig", "front-desk.toml", *window)["found"], kept
            )


class Digits(unittest.TestCase):
    def test_what_is_told_of_digits_adds_up_to_what_the_glass_shows(self) -> None:
        rig = ("--rig", "wheelhouse.toml")
        shown = program_json("screen", "wheelhouse.vcd", *rig)["screens"][-1]["lines"][0]
        for words in ((), ("--from", "0.9ms")):  # what the second one does not tell was set up ahead of it
            rows = list(
                csv.DictReader(io.StringIO(program("decode", "wheelhouse.vcd", *rig, *words, "--format", "csv").stdout.decode()))
            )
            last = dict(
                re.fullmatch(r'digit-(\d) \d+: "(.*)"', row["meaning"]).groups() for row in rows if "digit-" in row["meaning"]
            )
            expected = re.findall(r"[^.]\.?", shown)
            self.assertEqual({place: expected[7 - int(place)] for place in last}, last, words)
            self.assertEqual(len(last), 3 if words else 8)

    def test_what_decodes_is_not_known_of_a_running_display(self) -> None:
        folder = scratch()
        (folder / "level.hush").write_text("digit-7 132\ndecode-mode none\ndigit-7 127\ndigit-6 64\n")
        rig = ("--rig", str(demo() / "wheelhouse.toml"))
        program("rehearse", "level.hush", *rig, "-o", "level.vcd", cwd=folder)
        told = program("decode", "level.vcd", *rig, cwd=folder).stdout.decode()
        self.assertEqual(re.findall(r"digit-.*", told), ["digit-7 132", 'digit-7 127: "8"', "digit-6 64"])
        #  64 is segment a alone, which is no character

    def test_digits_of_fourteen_segments(self) -> None:
        folder = scratch()
        (folder / "rig.toml").write_text(
            '[[bus]]\nname = "front"\nkind = "i2c"\nclock = "400kHz"\nlines = { scl = "SCL", sda = "SDA" }\n'
            '[[device]]\nname = "level"\non = "front"\npart = "ht16k33"\naddress = 0x70\npanel = "4-digits-14"\n'
        )
        # by hand from the segments: 4 is b c f g1 g2, with its point; M is b c e f h k
        raw = "display-address address=0 0xE6 0x40 0x36 0x05 0x00 0x00 0x00 0x00\n"
        (folder / "level.hush").write_text(f"system-setup on\ndisplay blink=off state=on\n{raw}")
        program("rehearse", "level.hush", "--rig", "rig.toml", "-o", "level.vcd", cwd=folder)
        told = program("decode", "level.vcd", "--rig", "rig.toml", cwd=folder).stdout.decode()
        self.assertIn('8 bytes of data: "4.M  "', told)
