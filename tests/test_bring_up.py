"""catalog, explain and build as the installed program: what people paste, what a sequence is checked for, what is refused."""

import json
import re
import shutil
import subprocess
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.errors import HushedError
from hushed_wire.finding import codes
from hushed_wire.part import catalog_names, load
from hushed_wire.sequence.paste import pasted
from support import demo, program, program_json, scratch

FOLDER = scratch()
LCD = ("--part", "hd44780", "--panel", "16x2", "--framing", "nibbles")


def built(text: str, *words: str) -> dict[str, object]:
    done = program("build", "-", *words, "--format", "json", stdin=text.encode())
    return json.loads(done.stdout)  # type: ignore[no-any-return]


def start(part: str, *words: str) -> str:
    return program("catalog", part, *words, "--start").stdout.decode()


class Pasting(unittest.TestCase):
    def test_whatever_people_paste(self) -> None:
        wanted = bytes.fromhex("AE D5 80 A8 3F")
        for text in (
            "AE D5 80 A8 3F", "aed580a83f", "0xAE, 0xD5, 0x80, 0xA8, 0x3F", "174 213, 128 168, 63", "[0xae, 0xd5, 128, 0b10101000, 63]",
            "static const uint8_t init_table[] = {\n  0xAE, // display off\n  0xD5, 0x80, /* clock, 0x12 */\n  (uint8_t)0xA8, 0x3F\n};",
            "INIT = bytes([\n    0xAE,  # off, 0x99\n    0xD5, 0x80, 0xA8, 0x3F,\n])", r'init = b"\xAE\xD5\x80\xA8\x3F"',
            "init: db 0AEh, 0D5h, 80h, 0A8h, 3Fh ; 12h", ".byte $AE,$D5,$80,$A8,$3F", "AE, D5, 80, A8, 3F",
        ):  # fmt: skip
            self.assertEqual(pasted(text).raw(), wanted, text)
        self.assertEqual(pasted("DB 40 DA 12").raw(), bytes.fromhex("DB40DA12"))  # DB is a byte here, no directive
        marked = pasted("AE data 00 FF command AF").sends
        self.assertEqual([(send.data, send.raw) for send in marked], [(False, b"\xae"), (True, b"\0\xff"), (False, b"\xaf")])
        for text, said in (("0x1AE", "more than a byte"), ("0xAE, DISPLAY_OFF", "'DISPLAY_OFF' is no number"), ("// nothing", "no bytes"),
                           ("0xAE AF", "write 0xAF"), ("300", "more than a byte|is no number")):  # fmt: skip
            with self.assertRaisesRegex(HushedError, said):
                pasted(text)

    @given(st.text(max_size=200))
    @settings(deadline=None, max_examples=300)
    def test_any_text_is_read_or_refused(self, text: str) -> None:
        try:
            self.assertTrue(pasted(text).sends)
        except HushedError as error:
            self.assertTrue(error.what and error.remedy)


class Explain(unittest.TestCase):
    def test_state_notes_and_what_looks_wrong(self) -> None:
        out = program_json("explain", "ssd1306", "0xAE", "0xA8", "0x1F", "40", "0xDB", "0x10")
        self.assertEqual([c["name"] for c in out["commands"]], ["display", "multiplex-ratio", "unknown", "vcomh-level"])
        self.assertEqual(out["commands"][2]["note"], "40 is 0x28, no command; 0x40 is start-line: was hex meant?")
        self.assertIn("not documented", out["commands"][3]["note"])
        self.assertEqual((out["state"]["multiplex-ratio.lines"], out["state"]["display.state"]), (32, "off"))
        self.assertEqual(program("explain", "ssd1306", "AE").returncode, 0)
        self.assertEqual(program("explain", "ssd1306", "E4").returncode, 1)
        framed = program_json("explain", "ssd1306", "78", "00", "AE", "D5", "80")
        self.assertIn("looks like the 8-bit form of the address 0x3c", framed["notes"][0])
        self.assertEqual([c["name"] for c in framed["commands"]], ["display", "display-clock"])
        nibbles = program_json("explain", "hd44780", "--framing", "nibbles", "--on-bus", "3", "3", "3", "2", "2", "8", "0", "0xC")
        self.assertEqual([c["bytes"] for c in nibbles["commands"]], [[0x30], [0x30], [0x30], [0x20], [0x28], [0x0C]])
        on_bus = program_json("explain", "ssd1306", "--on-bus", "80 AE 80 D5 80 80 40 FF 00")
        self.assertEqual([c["name"] for c in on_bus["commands"]], ["display", "display-clock", "data"])

    def test_a_captures_commands_become_a_sequence_that_sends_them_again(self) -> None:
        done = program(
            "explain", "ssd1306", "--capture", "healthy.vcd", "--as", "hush", "--stretch", "10", "-o", str(FOLDER / "again.hush")
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        text = (FOLDER / "again.hush").read_text()
        self.assertIn("multiplex-ratio 64\n", text)
        self.assertRegex(text, r"wait 50(\.\d)?ms")
        self.assertEqual(
            program(
                "rehearse", str(FOLDER / "again.hush"), "--rig", "front-desk.toml", "-o", str(FOLDER / "again.vcd")
            ).returncode,
            0,
        )
        mine, theirs = (
            program_json("screen", path, "--rig", "front-desk.toml")["screens"][0]["rows"]
            for path in (str(FOLDER / "again.vcd"), "healthy.vcd")
        )
        self.assertEqual(mine, theirs)

    def test_bad_input(self) -> None:
        for words, said in (
            (("ssd1307", "AE"), "no part 'ssd1307'\n  did you mean 'ssd13(0[69]|27)'"),
            (("ssd1306",), "no bytes to explain"),
            (("ssd1306", "AE", "--file", "x.c"), "bytes come from one place"),
            (("ssd1306", "--file", "none.c"), "none.c: cannot be read"),
            (("ssd1306", "--on-bus", "AE"), "is 0xae, which is no control byte"),
            (("ssd1306", "AE", "--framing", "dc"), "ssd1306 has no framing 'dc'"),
            (("ssd1306", "AE", "--stretch", "2"), "--stretch lengthens the rests"),
            (("ssd1306", "--capture", "quiet.vcd"), "nothing in it speaks to a ssd1306|no transaction"),
        ):
            done = program("explain", *words)
            self.assertEqual((done.returncode, done.stdout), (2, b""), words)
            self.assertRegex(done.stderr.decode(), said)
            self.assertNotIn("Traceback", done.stderr.decode())


class Build(unittest.TestCase):
    def codes(self, text: str, *words: str) -> list[str]:
        return [finding["code"] for finding in built(text, *words)["findings"]]  # type: ignore[index, union-attr, attr-defined]

    def test_every_kind_of_mistake_has_its_code_line_and_remedy(self) -> None:
        oled, colour = start("ssd1306"), start("st7789")
        digits, dots = start("max7219"), start("ht16k33")
        lcd = start("hd44780", "--framing", "nibbles")
        small = start("pcd8544")
        for part, text, code in (
            (("--part", "ssd1306"), oled.replace("display on", "nop"), "setup.display-off"),
            (("--part", "ssd1306"), oled + "display off\n", "setup.display-off"),
            (("--part", "ssd1306"), oled.replace("charge-pump on", "nop"), "setup.charge-pump-off"),
            (("--part", "ssd1306"), oled.replace("multiplex-ratio 64", "multiplex-ratio 32"), "setup.wrong-geometry"),
            (("--part", "ssd1306", "--panel", "128x32"), oled, "setup.wrong-geometry"),
            (("--part", "ssd1306"), oled + "bytes 0xE4\n", "setup.unknown-command"),
            (("--part", "ssd1306"), oled + "bytes 40\n", "setup.decimal-for-hex"),
            (("--part", "ssd1306"), oled + "bytes 0xDB 0x10\n", "setup.undocumented-value"),
            (("--part", "ssd1306"), oled + "bytes 0xA8\n", "setup.unknown-command"),
            (
                ("--part", "ssd1306", "--panel", "128x32"),
                start("ssd1306", "--panel", "128x32") + "page-address start=4 end=7\ndata 0x00*512\n",
                "picture.outside-panel",
            ),
            (("--part", "ssd1306"), oled + "column-address start=9 end=3\n", "picture.outside-panel"),
            (("--part", "st7789"), colour.replace("sleep-mode out", "nop"), "setup.shutdown"),
            (("--part", "st7789"), "display on\n" + colour.replace("display on", "nop"), "setup.step-order"),
            (("--part", "st7789"), colour.replace("wait 120ms\n", ""), "timing.wait-short"),
            (("--part", "st7789"), colour.replace("format=16-bit", "format=18-bit"), "setup.pixel-format"),
            (("--part", "st7789"), colour.replace("invert-mode on", "invert-mode off"), "setup.orientation"),
            (("--part", "st7789"), "reset low\nwait 1us\nreset high\nwait 5ms\n" + colour, "timing.reset-short"),
            (("--part", "st7789"), "reset low\nwait 10us\nreset high\n" + colour, "timing.reset-short"),
            (("--part", "max7219"), digits.replace("shutdown off", "no-op"), "setup.shutdown"),
            (("--part", "max7219"), digits.replace("display-test off", "display-test on"), "setup.test-mode"),
            (("--part", "max7219"), digits.replace("scan-limit 8", "scan-limit 4"), "setup.scan-limit"),
            (("--part", "max7219"), digits.replace("decode-mode all", "decode-mode none"), "setup.decode-mode"),
            (("--part", "ht16k33"), "display blink=off state=on\n" + dots, "setup.step-order"),
            (LCD, lcd.replace("lines=2", "lines=1"), "setup.wrong-geometry"),
            (LCD, lcd.replace("width=4", "width=8"), "setup.interface-width"),
            (LCD, lcd.replace("wait 1.52ms\n", ""), "timing.wait-short"),
            (LCD, lcd.replace("wait 4.1ms\n", ""), "timing.wait-short"),
            (LCD, lcd.replace("wait 40ms\n", ""), "timing.power-on-short"),
            (("--part", "pcd8544"), small.replace("vop 0x3F\n", ""), "setup.step-missing"),
            (("--part", "pcd8544"), small.replace("power=active", "power=down"), "setup.shutdown"),
        ):  # fmt: skip
            found = built(text, *part)["findings"]
            self.assertIn(code, [finding["code"] for finding in found], (part, code))  # type: ignore[index, union-attr, attr-defined]
            for finding in found:  # type: ignore[attr-defined]
                self.assertTrue(finding["remedy"] and finding["severity"] == codes()[finding["code"]].severity)
            place = next(finding["evidence"]["place"] for finding in found if finding["code"] == code)  # type: ignore[attr-defined]
            self.assertRegex(place, r"^standard input:\d+$")

    def test_healthy_sequences_of_the_demo_pass(self) -> None:
        for name in ("tide", "pump-room", "wheelhouse", "handheld", "engine-room", "gate-keeper"):
            rig = "front-desk" if name == "tide" else name
            done = program("build", f"{name}.hush", "--rig", f"{rig}.toml")
            self.assertEqual(done.returncode, 0, done.stdout)
            self.assertIn(b"Nothing is wrong with this sequence", done.stdout)

    def test_what_it_writes_compiles_and_says_the_same(self) -> None:
        hostile = FOLDER / '2 "int; \\n.hush'
        hostile.write_text((demo() / "handheld.hush").read_text() + 'text 60,20 "*/"\n')
        words = ("build", str(hostile), "--rig", "handheld.toml")
        raw = program(*words, "--as", "binary").stdout
        python = program(*words, "--as", "python").stdout.decode()
        records = _python(python)
        self.assertEqual(b"".join(value for kind, value in records if kind in ("command", "data")), raw)
        self.assertEqual([value for kind, value in records if kind == "line"], [("reset", False), ("reset", True)])
        source = program(*words, "--as", "c").stdout
        (FOLDER / "made.c").write_bytes(source)
        if shutil.which("cc"):
            main = "\n#include <stdio.h>\nint main(void) { return fwrite(int_table, 1, int_table_size, stdout) != int_table_size; }\n"
            name = source.split(b"const unsigned char ")[1].split(b"[")[0].decode()
            (FOLDER / "made.c").write_text(source.decode() + main.replace("int_table", name))
            subprocess.run(["cc", "-Wall", "-Wextra", "-Werror", "-o", FOLDER / "made", FOLDER / "made.c"], check=True)
            out, at, sent = subprocess.run([FOLDER / "made"], capture_output=True, check=True).stdout, 0, b""
            while at < len(out):
                kind, size = out[at], out[at + 1] << 8 | out[at + 2]
                sent += out[at + 3 : at + 3 + size] if kind < 2 else b""
                at += 3 + size
            self.assertEqual(sent, raw)
        text = program(*words, "--as", "hex").stdout
        explained = json.loads(program("explain", "pcd8544", "-", "--format", "json", stdin=text).stdout)
        self.assertEqual(bytes(byte for command in explained["commands"] for byte in command["bytes"]), raw)

    def test_bad_input_names_place_and_remedy(self) -> None:
        (FOLDER / "loop.hush").write_text("nop\ninclude other.hush\n")
        (FOLDER / "other.hush").write_text("include loop.hush\n")
        (FOLDER / "lost.hush").write_text("include nowhere.hush\n")
        for text, words, said in (
            ("dispaly on", ("--part", "ssd1306"), r"standard input:1: 'dispaly' is neither.*\n  did you mean 'display'"),
            ("display state=on states=on", ("--part", "ssd1306"), r":1: 'display' has no field 'states'"),
            ("column-address start=1", ("--part", "ssd1306"), r":1: 'column-address' needs its field 'end'\n  add end=0 to 127"),
            (
                "nop\nmultiplex-ratio 65",
                ("--part", "ssd1306"),
                r":2: 65 is out of range for multiplex-ratio lines\n  it takes 16 to 64",
            ),
            ("repeat 3\nnop", ("--part", "ssd1306"), r":1: 'repeat' without its 'end'"),
            ("end", ("--part", "ssd1306"), r":1: 'end' without a 'repeat'"),
            ("repeat 99999999\nnop\nend", ("--part", "ssd1306"), r"more than 1,000,000 steps"),
            ("repeat\nend", ("--part", "ssd1306"), r":1: 'repeat' needs a number"),
            ("select 2", ("--part", "ssd1306"), r":1: '2' is no chip of 'ssd1306'\n  it has but one chip"),
            ("select 3", ("--part", "ks0108"), r"select 1 to 2, or all"),
            ('text 0,0 "{level}"', ("--part", "max7219"), r":1: there is no counter 'level'"),
            ("counter a step=0", ("--part", "max7219"), r":1: the counter stands still"),
            ("counter a setp=1", ("--part", "max7219"), r"'counter' has no 'setp'\n  did you mean 'step'"),
            ('text 16,0 "A"', LCD, r":1: 16,0 is outside the panel"),
            ('text 10,0 "GATE OPEN"', LCD, r"'GATE OPEN' is 9 long, there is room for 6"),
            ('text 0,0 "Ω~"', LCD, r"character ROM A00 has no '~'"),
            ("glyph 9 1 2 3 4 5 6 7 8", LCD, r"a glyph has a number from 0 to 7"),
            ("glyph 1 1 2 3", LCD, r"a glyph has eight rows"),
            ('text 0,0 "%"', ("--part", "max7219", "--panel", "8-digits-plain"), r"seven segments cannot show '%'"),
            ('text 0,0 "G"', ("--part", "max7219"), r"max7219 decodes no 'G'"),
            ("picture tide.pbm", LCD, r"'hd44780' shows characters, no pictures"),
            ("vop 3", ("--part", "pcd8544"), r"'vop' means something else while function-set instructions is basic"),
            ("reset maybe", ("--part", "pcd8544"), r"'reset' needs a level"),
            ("fill maybe", ("--part", "st7789"), r"'maybe' is no colour"),
            ("wait 5", ("--part", "st7789"), r"'5' has no unit"),
            ("# nothing", ("--part", "st7789"), r"the sequence does nothing"),
            ("nop", (), r"which part is it for\?"),
            ("nop", ("--part", "ssd1306", "--panel", "12x8"), r"no ready panel '12x8'"),
            ("nop", ("--part", "ssd1306", "--framing", "nibbles"), r"ssd1306 has no framing 'nibbles'"),
            ("nop", ("--part", "ssd1306", "--clock", "0Hz"), r"a clock has to be above zero"),
            ("nop", ("--part", "ssd1306", "--catalog", "nowhere"), r"nowhere: no such folder"),
        ):
            done = program("build", "-", *words, stdin=("decode-mode all\n" + text if "'G'" in said else text).encode())
            self.assertEqual((done.returncode, done.stdout), (2, b""), (text, done.stdout))
            self.assertRegex(done.stderr.decode(), said)
            self.assertNotIn("Traceback", done.stderr.decode())
        for name, said in (
            ("loop.hush", "files include one another: loop.hush includes other.hush includes loop.hush"),
            ("lost.hush", "lost.hush:1: 'nowhere.hush': no such file"),
        ):
            self.assertIn(said, program("build", str(FOLDER / name), "--part", "ssd1306").stderr.decode())

    def test_counters_wrap_pad_and_run_down(self) -> None:
        text = 'counter n from=3 to=1 width=3 pad=0\nrepeat 4\ntext 0,0 "{n}"\ncount n\nend'
        steps = built(text, *LCD)["steps"]
        self.assertEqual([bytes(step["words"][1:]).decode() for step in steps], ["003", "002", "001", "003"])  # type: ignore[attr-defined]


def _python(text: str) -> list[tuple[str, object]]:
    space: dict[str, object] = {}
    exec(text, space)
    return next(value for name, value in space.items() if isinstance(value, list))


class Catalog(unittest.TestCase):
    def test_every_part_has_its_page_and_its_record(self) -> None:
        listed = {part["name"]: part for part in program_json("catalog")["parts"]}
        self.assertEqual(sorted(listed), catalog_names())
        for name in catalog_names():
            part = load(name)
            page = program("catalog", name).stdout.decode()
            for command in part.command:
                self.assertIn(command.name, page)
            self.assertIn(part.source, page)
        self.assertEqual(len(program_json("catalog", "st7789")["command"]), len(load("st7789").command))

    def test_parts_by_what_is_known_of_a_display(self) -> None:
        for words, parts in (
            (
                "oled i2c 128x64",
                {
                    "sh1106": ["128x64"], "ssd1305": ["128x64"], "ssd1306": ["128x64", "128x64-yellow-blue", "128x64-external"],
                    "ssd1309": ["128x64"],
                },
            ),
            ("240x240", {"gc9a01": ["240x240"], "st7789": ["240x240"]}),
            ("blue 20x4 parallel", {"hd44780": ["20x4"], "ks0066u": ["20x4"]}),
            ("blue 20x4 i2c", {"aip31068": ["20x4"], "st7032": ["20x4"]}),
            ("ST7796S 480x320", {"st7796": ["480x320"]}),
            ("16-bit spi", {"ili9486": ["320x480", "480x320"], "mcp23s17": []}),
        ):  # fmt: skip
            listed = program_json("catalog", "--find", *words.split())["parts"]
            self.assertEqual({part["name"]: part["panels"] for part in listed}, parts)
            shown = program("catalog", "--find", *words.split()).stdout.decode()
            self.assertEqual(set(re.findall(r"^  (\w+) ", shown, re.M)), set(parts))

    def test_bad_input(self) -> None:
        for words, said in (
            (("--find", "oled", "paralel"), "nothing that is 'paralel'\n  did you mean 'parallel'"),
            (("--find", "\x1b[31m"), r"nothing that is '\\x1b\[31m'\n  ask by a size, a bus, a colour or a name"),
            (("--find", "spi", "16x2"), "no part of the catalog is spi and 16x2 at once"),
            (("hd44780", "--find", "spi"), "--find lists parts, hd44780 is one"),
            (("hd44870",), "did you mean 'hd44780'"),
            (("--start",), "--start wants a part"),
            (("--cell", "0,0"), "--cell wants a part"),
            (("hd44780", "--cell", "0"), "'0' is no position"),
            (("hd44780", "--cell", "0,2"), "0,2 is outside the panel 16x2"),
            (("hd44780", "--panel", "20x4", "--address", "0x30"), "nothing of the panel 20x4 shows address 0x30"),
            (("pcf8574", "--cell", "0,0"), "pcf8574 is a bridge"),
            (("pcf8574", "--start"), "pcf8574 has no ready bring-up"),
        ):
            done = program("catalog", *words)
            self.assertEqual(done.returncode, 2, words)
            self.assertRegex(done.stderr.decode(), said)

    def test_terminal_and_pipe_say_the_same(self) -> None:
        for words in (
            ("catalog", "pcd8544"),
            ("explain", "pcd8544", "21", "BF", "20"),
            ("build", "pump-room.hush", "--rig", "pump-room.toml"),
        ):
            plain = program(*words).stdout.decode().split()
            coloured = program(*words, "--color", "always").stdout.decode()
            self.assertEqual(re.sub(r"\x1b\[[0-9;]*m", "", coloured).split(), plain)


if __name__ == "__main__":
    unittest.main()
