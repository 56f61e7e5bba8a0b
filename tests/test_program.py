"""The installed program, as its users meet it: products, JSON, streams, and what bad input gets."""

import json
import os
import re
import shutil
import subprocess
import sys
import unittest
from itertools import cycle
from pathlib import Path

import numpy as np
from PIL import Image

from hushed_wire.trace import read_capture, vcd
from support import PROGRAM, demo, program, program_json, raw_samples, scratch

RIG = ("--rig", "front-desk.toml")


class Json(unittest.TestCase):
    def test_decode_has_its_keys_and_adds_up(self) -> None:
        out = program_json("decode", "healthy.vcd", *RIG)
        self.assertEqual(set(out["capture"]), {"path", "duration", "lines"})
        first = out["transactions"][0]
        keys = {"bus", "start", "end", "address", "ten_bit", "direction", "bytes", "times", "acks", "ended", "began"}
        self.assertEqual(set(first), keys)
        self.assertEqual(
            (first["bus"], first["address"], first["direction"], first["bytes"]), ("front", 0x3D, "write", [0x00, 0xAE])
        )
        for entry in out["transactions"]:
            self.assertEqual(len(entry["times"]), len(entry["bytes"]))
            self.assertEqual(len(entry["acks"]), 1 + len(entry["bytes"]))
            self.assertTrue(entry["start"] < min(entry["times"]) and max(entry["times"]) < entry["end"])
        self.assertEqual(
            out["commands"][2] | {"time": 0},
            {"device": "tide", "time": 0, "name": "multiplex-ratio", "bytes": [0xA8, 0x3F], "fields": {"lines": 64}},
        )
        sent = sum(len(entry["bytes"]) - 1 for entry in out["transactions"])
        self.assertEqual(sum(len(entry["bytes"]) for entry in out["commands"]), sent)

    def test_streaming_and_whole_file_decoding_agree(self) -> None:
        for name in (
            "healthy.vcd",
            "late.vcd",
            "held-low.vcd",
            "nobody-there.vcd",
            "too-slow-sampling.vcd",
            "healthy-volts.csv.gz",
        ):
            streamed = program("decode", name, "--line", "scl=SCL", "--line", "sda=SDA", "--format", "jsonl")
            lines = [json.loads(line) for line in streamed.stdout.splitlines()]
            whole = program_json("decode", name, "--line", "scl=SCL", "--line", "sda=SDA")["transactions"]
            own = [{k: v for k, v in line.items() if k != "record"} for line in lines if line["record"] == "transaction"]
            self.assertEqual(own, whole, name)
            self.assertEqual(lines[-1]["transactions"], len(whole), name)

    def test_raw_samples_in_blocks_equal_the_same_capture_as_vcd(self) -> None:
        raw_samples("raw.bin", "<u2", 3)
        lines = ("--line", "scl=3", "--line", "sda=4", "--raw", "2", "--rate", "20MHz", "--format", "jsonl")
        raw = program("decode", "raw.bin", *lines).stdout.splitlines()
        vcd = program("decode", "healthy.vcd", "--line", "scl=0", "--line", "sda=1", "--format", "jsonl").stdout.splitlines()
        self.assertEqual(raw, vcd)

    def test_screen_rows_are_the_picture(self) -> None:
        out = program_json("screen", "healthy.vcd", *RIG)["screens"][0]
        self.assertEqual((out["device"], out["kind"], out["width"], out["height"], out["lit"]), ("tide", "pixels", 128, 64, True))
        picture = np.asarray(Image.open(demo() / "tide.pbm"))
        self.assertEqual(out["rows"], ["".join("#" if lit else "." for lit in row) for row in picture])
        early = program_json("screen", "healthy.vcd", *RIG, "--at", "1ms")["screens"][0]
        self.assertEqual((early["lit"], early["unwritten_pixels"], early["time"]), (False, 8192, 0.001))

    def test_lines_tells_levels_and_roles(self) -> None:
        out = program_json("lines", "healthy.vcd")
        self.assertEqual([line["likely"] for line in out["lines"]], [["i2c scl"], ["i2c sda"]])
        keys = {"name", "idle", "rises", "falls", "shortest_high", "shortest_low", "rate", "likely"}
        self.assertEqual(set(out["lines"][0]), keys)
        self.assertEqual((out["lines"][1]["idle"], out["tick"]), ("high", 1e-8))
        volts = program_json("lines", "healthy-volts.csv.gz")["volts"][0]
        self.assertAlmostEqual(volts["high"], 3.3, delta=0.05)
        self.assertAlmostEqual(volts["threshold"], 1.65, delta=0.05)

    def test_findings_as_lines(self) -> None:
        lines = [json.loads(line) for line in program("diagnose", "no-pump.vcd", *RIG, "--format", "jsonl").stdout.splitlines()]
        self.assertEqual([line["record"] for line in lines], ["finding", "summary"])
        keys = {
            "record",
            "code",
            "severity",
            "confidence",
            "device",
            "bus",
            "lines",
            "start",
            "end",
            "count",
            "summary",
            "evidence",
            "remedy",
            "explains",
        }
        self.assertEqual(set(lines[0]), keys)


class Products(unittest.TestCase):
    def test_exit_status_tells_what_was_found(self) -> None:
        for words, status in (
            (("healthy.vcd",), 0), (("no-pump.vcd",), 1), (("too-fast.vcd",), 1), (("too-fast.vcd", "--fail-on", "fault"), 0),
            (("healthy.vcd", "--fail-on", "note"), 1), (("no-pump.vcd", "--fail-on", "never"), 0),
        ):  # fmt: skip
            self.assertEqual(program("diagnose", *words, *RIG).returncode, status, words)

    def test_figures_of_all_kinds_from_a_whole_frame_to_one_byte(self) -> None:
        for kind, magic in (("png", b"\x89PNG"), ("svg", b"<?xml"), ("pdf", b"%PDF")):
            for window in ((), ("--from", "30.5ms", "--to", "30.6ms"), ("--from", "30.5ms", "--to", "30.5025ms")):
                done = program("plot", "healthy.vcd", *RIG, *window, "-o", f"figure.{kind}")
                self.assertEqual((done.returncode, (demo() / f"figure.{kind}").read_bytes()[: len(magic)]), (0, magic))
        with Image.open(demo() / "figure.png") as image:
            self.assertEqual(image.size, (1280, 800))
        self.assertEqual(program("plot", "healthy-volts.csv.gz", "-o", "-").stdout[:4], b"\x89PNG")
        texts = (demo() / "figure.svg").read_text()
        self.assertNotIn("nan", texts.lower().replace("nano", ""))

    def test_the_glass_as_a_picture_has_the_bands_colours(self) -> None:
        program("screen", "healthy.vcd", *RIG, "--picture", "glass.png")
        with Image.open(demo() / "glass.png") as image:
            colours = np.asarray(image.convert("RGB")).astype(int)
        scale = colours.shape[1] // 132
        lit = np.asarray(Image.open(demo() / "tide.pbm"))
        for band, check in ((slice(0, 16), lambda c: c[0] > c[2]), (slice(16, 64), lambda c: c[2] > c[0])):
            for y, x in np.argwhere(lit[band])[::97]:
                self.assertTrue(check(colours[(2 + y + band.start) * scale + 1, (2 + x) * scale + 1]))

    def test_a_saved_rig_reads_the_capture_without_assumptions(self) -> None:
        program("decode", "healthy.vcd", "--save-rig", "saved.toml")
        self.assertEqual(program_json("diagnose", "no-pump.vcd", "--rig", "saved.toml")["assumed"], {})

    def test_pipes_colour_and_standard_input(self) -> None:
        data = (demo() / "no-pump.vcd").read_bytes()
        done = program("diagnose", "-", *RIG, stdin=data)
        self.assertEqual(done.stdout, program("diagnose", "no-pump.vcd", *RIG).stdout)
        self.assertNotIn(b"\x1b", done.stdout)
        self.assertIn(b"\x1b", program("diagnose", "no-pump.vcd", *RIG, "--color", "always").stdout)
        self.assertNotRegex(done.stdout, rb"[ \t]\n")
        made = program("rehearse", "tide.hush", *RIG, "-o", "-").stdout
        self.assertEqual(program("diagnose", "-", *RIG, stdin=made).returncode, 0)
        cut = subprocess.run(
            ["bash", "-c", f"set -o pipefail; {PROGRAM} decode healthy.vcd --all | head -1"],
            cwd=demo(),
            capture_output=True,
            check=False,
        )
        self.assertEqual((cut.returncode, cut.stderr), (0, b""))  # a reader that has had enough is no error
        plain = {**os.environ, "PYTHONIOENCODING": "ascii", "LC_ALL": "C"}
        shown = subprocess.run([PROGRAM, "screen", "healthy.vcd"], cwd=demo(), env=plain, capture_output=True, check=False)
        self.assertEqual((shown.returncode, b"#" in shown.stdout), (0, True), shown.stderr)

    def test_output_goes_to_a_file(self) -> None:
        for words in (
            ("decode", "healthy.vcd", "--format", "csv"),
            ("diagnose", "no-pump.vcd"),
            ("lines", "healthy.vcd", "--format", "json"),
        ):
            direct = program(*words).stdout
            program(*words, "-o", "out.txt")
            self.assertEqual((demo() / "out.txt").read_bytes(), direct)

    def test_every_command_has_help_with_examples(self) -> None:
        names = [
            line.split()[0]
            for line in program("--help").stdout.decode().splitlines()
            if line.startswith("  ") and line[2].isalpha()
        ]
        for name in names[: names.index("hushed-wire")]:
            text, whole = (program(name, option).stdout.decode() for option in ("--help", "--help-all"))
            self.assertIn("examples:", text, name)
            self.assertLessEqual(max(map(len, text.splitlines())), 140)
            self.assertLessEqual(len(text.splitlines()), 40, f"{name} --help fits on a screen")
            for option in re.findall(r"^  (--[\w-]+)", whole, re.MULTILINE):
                self.assertIn(option, text, f"{name} --help names every option")


class Shell(unittest.TestCase):
    """What is made of the parsers when the package is built, and installed with it: the manual, and what shells complete."""

    def installed(self, name: str) -> Path:
        """A file below the place that the package is installed to."""
        path = Path(sys.prefix) / "share" / name
        self.assertTrue(path.is_file(), path)
        return path

    def test_a_page_of_the_manual_for_each_command(self) -> None:
        commands = re.findall(r"^  ([a-z]+) +\S", program("--help").stdout.decode(), re.MULTILINE)
        self.assertGreater(len(commands), 20)
        overview = self.installed("man/man1/hushed-wire.1").read_text()
        for name in commands:
            self.assertIn(name, overview)
            page = self.installed(f"man/man1/hushed-wire-{name}.1").read_text().replace("\\-", "-")
            self.assertIn(f".B hushed-wire {name}\n", page)
            for option in re.findall(r"^  (--[\w-]+)", program(name, "--help-all").stdout.decode(), re.MULTILINE):
                self.assertIn(option, page)

    @unittest.skipUnless(shutil.which("bash"), "no bash here")
    def test_bash_completes_commands_options_and_names(self) -> None:
        script = self.installed("bash-completion/completions/hushed-wire")
        for typed, told in (("dia", {"diagnose"}), ("diagnose --marg", {"--margins"}), ("catalog ssd130", {"ssd1305", "ssd1306", "ssd1309"}),
                            ("diagnose --about wiring.sw", {"wiring.swapped-lines"})):  # fmt: skip
            line = f"hushed-wire {typed}"
            ask = f"source {script}; COMP_LINE='{line}' COMP_POINT={len(line)} COMP_TYPE=9; _python_argcomplete hushed-wire; "
            ask += "printf '%s\n' \"${COMPREPLY[@]}\""
            done = subprocess.run(
                ["bash", "-c", ask],
                capture_output=True,
                text=True,
                check=False,
                env={**os.environ, "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}"},
            )
            self.assertEqual({word.strip() for word in done.stdout.split()}, told, (typed, done.stderr))

    def test_zsh_and_fish_have_theirs(self) -> None:
        self.assertIn("#compdef hushed-wire hwire", self.installed("zsh/site-functions/_hushed-wire").read_text())
        self.assertIn("complete --command hwire", self.installed("fish/vendor_completions.d/hwire.fish").read_text())


OTHER_BUS = """
[[bus]]
name = "front"
kind = "spi"
lines = { sck = "SCL", mosi = "SDA" }
"""


class BadInput(unittest.TestCase):
    """One error on stderr that names the place and the remedy, status 2, nothing on stdout, nothing written."""

    def refuse(self, *words: str, said: str, cwd: Path | None = None) -> None:
        before = sorted(path.name for path in (cwd or demo()).iterdir())
        done = program(*words, cwd=cwd)
        text = done.stderr.decode()
        self.assertEqual((done.returncode, done.stdout), (2, b""), (words, text))
        self.assertRegex(text, said, words)
        self.assertRegex(text, r"^hushed-wire: [^\n]+\n(  [^\n]+\n)?$", words)
        self.assertEqual(sorted(path.name for path in (cwd or demo()).iterdir()), before)

    def test_captures(self) -> None:
        data = (demo() / "healthy.vcd").read_text()
        folder = demo() / "bad"
        folder.mkdir(exist_ok=True)
        files: dict[str, tuple[str | bytes, str]] = {
            "empty.vcd": ("", r"empty\.vcd: the file is empty"),
            "spaces.csv": ("\n\n  \n", r"spaces\.csv: neither a VCD nor a CSV"),
            "text.csv": ("Time,SCL,SDA\n0,1,1\n1e-6,0,x\n2e-6,abc,1\n", r"text\.csv:4: 'abc' in column 'SCL'"),
            "nan.csv": ("Time,SCL,SDA\n0,1,nan\n1e-6,0,1\nnan,1,1\n", r"nan\.csv:4: a row without a time"),
            "back.csv": ("Time,SCL,SDA\n0,1,1\n2e-6,0,1\n1e-6,1,1\n", r"back\.csv:4: time runs backwards"),
            "back.vcd": (data + "#5\n1!\n", r"back\.vcd:\d+: time runs backwards, from #\d+ to #5"),
            "stranger.vcd": (data.replace("\n1!\n", "\n1%\n", 1), r"stranger\.vcd:\d+: a change of '%', which no \$var declares"),
            "noise.vcd": (data[:5000] + "\n??garbage??\n" + data[5000:], r"noise\.vcd:\d+: "),
            "header.vcd": (data[:60], r"header\.vcd: the VCD's declarations never end"),
            "scale.vcd": (data.replace("10ns", "7ns"), r"scale\.vcd:\d+: '7ns' is not a timescale"),
            "width.vcd": (data.replace("wire 1 ", "wire \u00b2 ", 1), r"width\.vcd:\d+: "),  # a digit, but no number
            "wide.vcd": (
                "$timescale 1ns $end\n"
                + "".join(f"$var wire 1 a{k} L{k} $end\n" for k in range(65))
                + "$enddefinitions $end\n#0\n",
                r"wide\.vcd: the file has 65 wires \(L0, .*, …\); 64 fit",
            ),
            "broken.vcd.gz": (b"\x1f\x8b\x08\0\0\0\0\0\0\3garbage", r"broken\.vcd\.gz: the gzip data is damaged"),
            "blob.bin": (bytes(range(256)) * 50, r"blob\.bin: neither a VCD nor a CSV"),
            "table.json": ('{"a": 1}', r"table\.json: this is a JSON document"),
        }
        commands = cycle([("lines",), ("decode",), ("diagnose",), ("screen",), ("plot", "-o", "never.png")])
        for name, (contents, said) in files.items():
            (folder / name).write_bytes(contents if isinstance(contents, bytes) else contents.encode())
            for command in (next(commands), next(commands)):
                self.refuse(*command, f"bad/{name}", said=said)
        program("screen", "healthy.vcd", "--picture", "glass.png")
        self.refuse("diagnose", "glass.png", said=r"glass\.png: this is a PNG picture, not a capture")
        self.refuse("diagnose", "tide.pbm", said=r"tide\.pbm: this is a PBM picture")
        self.refuse("diagnose", "missing.vcd", said=r"missing\.vcd: no such file")
        self.refuse("diagnose", ".", said=r"\.: is a folder")

    def test_more_lines_than_fit(self) -> None:
        # A simulator's file, and a table: the lines that are named are read, whichever option names them.
        folder = demo() / "many"
        folder.mkdir(exist_ok=True)
        trace = read_capture(demo() / "healthy.vcd").window(0, 60_000)
        wide = "".join(f"$var wire 1 x{k} idle{k} $end\n" for k in range(70))
        text = b"".join(vcd.write(trace)).decode()
        (folder / "wide.vcd").write_text(text.replace("$upscope", wide + "$upscope", 1))
        times = trace.times.tolist()
        rows = [
            f"{float(when * trace.tick):.9f},{level & 1},{level >> 1 & 1}"
            for when, level in zip(times, trace.levels.tolist(), strict=True)
        ]
        head = ",".join(["Time", "SCL", "SDA", *(f"idle{k}" for k in range(70))])
        (folder / "wide.csv").write_text("\n".join([head, *(row + ",0" * 70 for row in rows)]) + "\n")
        lines = ("--line", "scl=SCL", "--line", "sda=SDA")
        expected = json.loads(program("decode", "healthy.vcd", *lines, "--to", "0.6ms", "--format", "json").stdout)[
            "transactions"
        ]
        for name in ("many/wide.vcd", "many/wide.csv"):
            self.refuse(
                "lines", name, said=rf"{name}: the file has 72 (wires|lines) \(.*, …\); 64 fit into one trace\n  name those"
            )
            shown = json.loads(program("lines", name, "--only", "SDA", "--only", "clock=SCL", "--format", "json").stdout)
            self.assertEqual([line["name"] for line in shown["lines"]], ["SDA", "clock"])
            self.assertGreater(shown["lines"][1]["rises"], 20)
            found = json.loads(program("decode", name, *lines, "--format", "json").stdout)["transactions"]
            self.assertEqual([one["bytes"] for one in found[:3]], [one["bytes"] for one in expected[:3]])
            self.assertEqual(program("find", name, *lines, "start", "--count").returncode, 0)
            done = program("convert", name, "--only", "SCL", "-o", "many/part.vcd")
            self.assertEqual((done.returncode, read_capture(folder / "part.vcd").names), (0, ("SCL",)))
        self.refuse("lines", "healthy.vcd", "--only", "SCK", said=r"healthy\.vcd: the capture has no line 'SCK'")
        self.refuse("lines", "healthy.vcd", "--only", "A=SCL", "--only", "A=SDA", said="two lines would have one name")

    def test_no_room_on_standard_output(self) -> None:
        for words in (
            ("decode", "healthy.vcd"),
            ("decode", "healthy.vcd", "--line", "scl=SCL", "--line", "sda=SDA", "--format", "jsonl"),
            ("plot", "healthy.vcd", "-o", "-"),
            ("explain", "ssd1306", "AE"),
            ("--help",),
        ):
            with Path("/dev/full").open("wb") as full:
                done = subprocess.run([PROGRAM, *words], cwd=demo(), stdout=full, stderr=subprocess.PIPE, check=False)
            self.assertEqual(done.returncode, 2, words)
            self.assertRegex(done.stderr.decode(), r"^hushed-wire: standard output: No space left on device\n  make room.*\n\Z")

    def test_rigs_and_options(self) -> None:
        rig = (demo() / "front-desk.toml").read_text()
        (demo() / "elsewhere.toml").write_text(rig.replace('scl = "SCL"', 'scl = "CLOCK"'))
        for words, said in (
            (("--rig", "elsewhere.toml"), r"SCL on line 'CLOCK', which the capture lacks\n  the capture has SCL, SDA"),
            (("--rig", "none.toml"), r"none\.toml: no such file"),
            (("--rig", "healthy.vcd"), r"healthy\.vcd: not TOML"),
            ((*RIG, "--part", "ssd1306"), r"--part and --rig both say"),
            (("--part", "ssd1307"), r"--part: the catalog has no part 'ssd1307'\n  did you mean 'ssd13(0[69]|27)'"),
            (("--panel", "128x65"), r"--panel: ssd1306 has no ready panel '128x65'"),
            (("--bus", "spo"), r"--bus: there is no bus 'spo'\n  did you mean 'spi'"),
            (("--line", "scl"), r"--line: 'scl' is not ROLE=LINE"),
            (("--line", "clk=SCL"), r"--line: no bus has the role 'clk'"),
            ((*RIG, "--line", "clk=SCL"), r"--line: I2C has no role 'clk'"),
            (("--line", "scl=SCL", "--line", "sda=SCL"), r"--line: the line 'SCL' plays two roles"),
            ((*RIG, "--line", "scl=SDA"), r"--line: the line 'SDA' is SDA by the rig\n  say --line sda=LINE, too"),
            (("--line", "d0=SCL", "--line", "d4=SDA"), r"--line: the data line d5 is missing between others\n  add --line d5"),
            (("--line", "scl=X", "--line", "sda=SDA"), r"no line 'X'"),
            (("--rate", "20"), r"--rate: '20' has no unit"),
            (("--from", "1s"), r"--from/--to: the window is beside the capture\n  healthy\.vcd lasts from 0 s to [\d.]+ ms"),
            (("--from", "3ms", "--to", "2ms"), r"the window is empty"),
            (("--clock", "fast"), r"--clock: 'fast' is not a frequency"),
            (("--raw", "1"), r"raw samples carry no sample rate"),
            (("--raw", "3", "--rate", "1MHz"), r"--raw: a sample of 3 bytes"),
            (("--format", "xml"), r"invalid choice: '?xml"),
        ):
            self.refuse("decode", "healthy.vcd", *words, said=said)
        self.refuse("scan", "handheld.vcd", said=r"handheld\.vcd: this looks like SPI, where devices have no addresses")
        self.refuse(
            "decode",
            "healthy.vcd",
            "--bus",
            "parallel",
            said=r"nothing tells which line is D4 of the parallel bus\n  say --line d4=LINE",
        )
        self.refuse("screen", "healthy.vcd", "--at", "2s", said=r"--at: 2s is outside the capture")
        self.refuse("screen", "healthy.vcd", "--device", "tyde", said=r"--device: there is no device 'tyde'")
        self.refuse("screen", "quiet.vcd", said=r"no display of the catalog was recognised")
        self.refuse("dekode", said=r"there is no command 'dekode'\n  did you mean 'decode'")
        self.refuse("decode", said=r"arguments are required: CAPTURE")

    def test_targets(self) -> None:
        inside = "tide.hush", *RIG, "-o"
        self.refuse(
            "rehearse", *inside, "nowhere/x.vcd", said=r"nowhere/x\.vcd: the folder 'nowhere' does not exist\n  make it first"
        )
        self.refuse("rehearse", *inside, "x.wav", said=r"x\.wav: the ending does not tell the format")
        self.refuse("rehearse", *inside, "/proc/x.vcd", said=r"/proc/x\.vcd: cannot be written")
        self.refuse("plot", "healthy.vcd", "-o", "x.bmp", said=r"x\.bmp: the ending does not tell the kind")
        self.refuse("plot", "healthy.vcd", "-o", "nowhere/x.png", said=r"the folder 'nowhere' does not exist")
        self.refuse("decode", "healthy.vcd", "-o", "tide.pbm/x", said=r"tide\.pbm/x: ")
        self.refuse("screen", "healthy.vcd", "--picture", "nowhere/x.png", said=r"the folder 'nowhere' does not exist")
        self.refuse(
            "rehearse",
            *inside,
            "x.vcd",
            "--mishap",
            "swop:a,b",
            said=r"--mishap: there is no mishap 'swop'\n  did you mean 'swap'",
        )
        self.refuse("rehearse", *inside, "x.vcd", "--rate", "5Hz", said=r"--rate: a sample rate of 5 Hz")
        folder = scratch()
        (folder / "notes.txt").write_text("mine")
        done = program("demo", str(folder))
        self.assertEqual((done.returncode, [path.name for path in folder.iterdir()]), (2, ["notes.txt"]))
        self.assertIn(b"the folder holds other files", done.stderr)

    def test_a_folder_that_may_not_be_written(self) -> None:
        folder = scratch()
        capture = (demo() / "shifted.vcd").read_bytes()
        folder.chmod(0o555)
        # Root may write anywhere, unless it gives that up.
        give_up = ["setpriv", "--bounding-set=-dac_override,-dac_read_search"] if os.geteuid() == 0 else []
        if give_up and not shutil.which(give_up[0]):
            self.skipTest("runs as root, and there is no setpriv here")
        for words in (("plot", "-", "-o", str(folder / "x.png")), ("demo", str(folder / "below"))):
            done = subprocess.run([*give_up, PROGRAM, *words], input=capture, capture_output=True, check=False)
            self.assertEqual((done.returncode, list(folder.iterdir())), (2, []), done.stderr)
            self.assertRegex(done.stderr.decode(), r"^hushed-wire: \S+: cannot be (written|made): Permission denied\n  ")

    def test_no_capture_cut_or_flipped_ends_in_a_traceback(self) -> None:
        random = np.random.default_rng(9)
        for name in ("shifted.vcd", "healthy-volts.csv.gz"):
            data = bytearray((demo() / name).read_bytes()[:200_000])
            for _ in range(6):
                damaged = data[: int(random.integers(1, len(data)))]
                for at in random.integers(0, len(damaged), int(random.integers(0, 4))):
                    damaged[at] ^= int(random.integers(1, 256))
                done = program("diagnose", "-", stdin=bytes(damaged))
                self.assertIn(done.returncode, (0, 1, 2))
                self.assertNotIn(b"Traceback", done.stderr, bytes(damaged)[:80])
