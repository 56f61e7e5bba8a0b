"""Displays that nobody knows: their words are told, written down, sent again, and nothing is claimed of what they mean."""

import re
import unittest

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from hushed_wire.rig import decode, load_rig
from hushed_wire.rig.rehearse import rehearse
from hushed_wire.sequence.from_words import from_words
from support import demo, program, program_json, scratch

FOLDER = scratch()
RIG = """
[[bus]]
name = "old"
kind = "{kind}"
{more}
lines = {{ {lines} }}
[[device]]
name = "glass"
on = "old"
{device}
"""
WIRED = {  # kind, lines, what else is said, whether a level marks data
    "spi with D/C": ("spi", 'sck = "A", mosi = "B", cs = "C", dc = "D"', "", "", True),
    "spi of nine bits": ("spi", 'sck = "A", mosi = "B", cs = "C"', "bits = 9", "", True),
    "spi in mode 3": ("spi", 'sck = "A", mosi = "B", cs = "C"', "mode = 3", "", False),
    "spi without a select": ("spi", 'sck = "A", mosi = "B", dc = "D"', "", "", True),
    "i2c": ("i2c", 'scl = "A", sda = "B"', "", "address = 0x3C", False),
    "parallel": ("parallel", ", ".join(f'd{k} = "{k}"' for k in range(8)) + ', rs = "R", e = "E"', "", "", True),
    "parallel with a write strobe": ("parallel", ", ".join(f'd{k} = "{k}"' for k in range(8)) + ', rs = "R", wr = "W"', "", "", True),
}  # fmt: skip
PLAYED = ("front-desk", "pump-room", "engine-room", "handheld", "wheelhouse")


def as_bytes(lines: list[str]) -> list[tuple[bool, bytes]]:
    """Runs of command and data words in order, however they are cut into statements. Raises where it is none of the language."""
    out: list[tuple[bool, bytes]] = []
    for line in lines:
        verb, *words = line.split()
        data = verb == "data"
        if verb not in ("bytes", "data", "words"):
            continue
        for word in words:
            if word in ("command", "data"):
                data = word == "data"
                continue
            value, _, times = word.partition("*")
            own = bytes([int(value, 0)]) * int(times or 1)
            if out and out[-1][0] == data:
                out[-1] = data, out[-1][1] + own
            else:
                out.append((data, own))
    return out


class Words(unittest.TestCase):
    @settings(max_examples=40, suppress_health_check=[HealthCheck.too_slow])
    @given(
        st.sampled_from(sorted(WIRED)),
        st.lists(
            st.lists(st.tuples(st.booleans(), st.binary(min_size=1, max_size=9)), min_size=1, max_size=3), min_size=1, max_size=5
        ),
    )
    def test_what_a_bus_carried_is_written_as_it_was_sent(self, wired: str, transfers: list[list[tuple[bool, bytes]]]) -> None:
        kind, lines, more, device, marked = WIRED[wired]
        (FOLDER / "rig.toml").write_text(RIG.format(kind=kind, lines=lines, more=more, device=device))
        said = []
        for sends in transfers:
            words = [f"{'data' if data and marked else 'command'} {' '.join(map(str, raw))}" for data, raw in sends]
            said += ["words " + " ".join(words), "wait 2ms"]
        (FOLDER / "s.hush").write_text("\n".join(said) + "\n")
        rig = load_rig(FOLDER / "rig.toml")
        trace, _ = rehearse(FOLDER / "s.hush", rig, seed=1)
        reading = decode(trace, rig)
        written = from_words(reading.channels, float(trace.tick), {0x3C: "glass"} if kind == "i2c" else {})
        self.assertEqual(as_bytes(written), as_bytes(said))
        rests = [line for line in written if line.startswith("wait ")]
        self.assertEqual(len(rests), len(transfers) - 1)
        self.assertEqual([(p.data.tolist(), bytes(p.value)) for p in (reading.devices[0].commands.payload,)],
                         [([data for data, raw in as_bytes(said) for _ in raw], b"".join(raw for _, raw in as_bytes(said)))])  # fmt: skip

    def test_every_display_of_the_harbour_replayed_by_its_words_alone(self) -> None:
        for name in PLAYED:
            capture = "healthy.vcd" if name == "front-desk" else f"{name}.vcd"
            text = (demo() / f"{name}.toml").read_text()
            bare = re.sub(r'^part = "(?!pcf)\w+"\n|^panel.*\n', "", text, flags=re.MULTILINE)
            self.assertNotEqual(bare, text)
            (FOLDER / "bare.toml").write_text(bare)
            words = ("--rig", "bare.toml")
            written = program("decode", str(demo() / capture), *words, "--as", "hush", "-o", "words.hush", cwd=FOLDER)
            made = program("rehearse", "words.hush", *words, "-o", "again.vcd", cwd=FOLDER)
            self.assertEqual((written.returncode, made.returncode), (0, 0), written.stderr + made.stderr)
            rig = ("--rig", str(demo() / f"{name}.toml"))
            same = program_json("compare", str(demo() / capture), "again.vcd", *rig, cwd=FOLDER)["same"]
            self.assertEqual((same["words"], same["commands"], same["picture"]), (True, True, True), name)

    def test_what_nobody_recognises_is_written_with_a_rig_that_plays_it(self) -> None:
        kind, lines, more, device, _ = WIRED["spi with D/C"]
        (FOLDER / "rig.toml").write_text(RIG.format(kind=kind, lines=lines, more=more, device=device))
        said = ["words 0xF3 0x1D 0x99 0xF1 0x99", "wait 3.02ms", "words 0xF7 0x93 data 0x12 0x13*5", "wait 5.02ms", "data 0xAA*4"]
        (FOLDER / "s.hush").write_text("\n".join(said) + "\n")
        program("rehearse", "s.hush", "--rig", "rig.toml", "-o", "s.vcd", cwd=FOLDER)
        bus = (
            "--bus",
            "spi",
            *(
                word
                for role, line in zip(("sck", "mosi", "cs", "dc"), "ABCD", strict=True)
                for word in ("--line", f"{role}={line}")
            ),
        )
        done = program("decode", "s.vcd", *bus, "--as", "hush", "--save-rig", "made.toml", "-o", "made.hush", cwd=FOLDER)
        self.assertEqual(done.returncode, 0, done.stderr)
        written = (FOLDER / "made.hush").read_text().splitlines()
        self.assertEqual(written[1:3], ["device display", said[0].replace("words", "bytes")])
        self.assertEqual(as_bytes(written), as_bytes(said))
        self.assertIn('part = "unknown"', (FOLDER / "made.toml").read_text())
        built = program("build", "made.hush", "--rig", "made.toml", cwd=FOLDER)
        sent = program_json("send", "made.hush", "--rig", "made.toml", cwd=FOLDER)
        self.assertEqual((built.returncode, sent["bytes"]), (0, 17), built.stdout)


class Claims(unittest.TestCase):
    def setUp(self) -> None:
        kind, lines, more, device, _ = WIRED["spi with D/C"]
        (FOLDER / "rig.toml").write_text(RIG.format(kind=kind, lines=lines, more=more, device=device))
        (FOLDER / "s.hush").write_text("words 0xAE 0xA8 0x3F data 0xFF*9\n")
        program("rehearse", "s.hush", "--rig", "rig.toml", "-o", "s.vcd", cwd=FOLDER)

    def test_nothing_is_said_of_what_it_shows(self) -> None:
        told = program_json("diagnose", "s.vcd", "--rig", "rig.toml", cwd=FOLDER)
        self.assertEqual(told["findings"], [])
        self.assertIn("what 'glass' is told, as nobody knows its part", told["not_observable"])
        self.assertFalse([text for text in told["ruled_out"] if text["code"].startswith(("setup.", "picture."))])
        shown = program("screen", "s.vcd", "--rig", "rig.toml", cwd=FOLDER)
        self.assertEqual((shown.returncode, b"nobody knows" in shown.stderr), (2, True))
        same = program_json("compare", "s.vcd", "s.hush", "--rig", "rig.toml", cwd=FOLDER)["same"]
        self.assertEqual((same["words"], same["picture"]), (True, None))

    def test_words_that_are_none(self) -> None:
        for line, said in (
            ("words", b"needs bytes"), ("words data", b"needs bytes"), ("words 0x100", b"is not a byte"), ("words 1 speed=2", b"needs bytes"),
        ):  # fmt: skip
            (FOLDER / "bad.hush").write_text(line + "\n")
            done = program("build", "bad.hush", "--rig", "rig.toml", cwd=FOLDER)
            self.assertEqual((done.returncode, said in done.stderr, b"bad.hush:1" in done.stderr), (2, True, True), done.stderr)

    def test_it_is_no_part_of_the_catalog(self) -> None:
        self.assertNotIn(b"unknown", program("catalog").stdout)
        panel = (FOLDER / "rig.toml").read_text() + 'panel = "128x64"\n'
        (FOLDER / "bad.toml").write_text(panel)
        done = program("wiring", "bad.toml", cwd=FOLDER)
        self.assertEqual((done.returncode, b"nobody knows" in done.stderr), (2, True), done.stderr)


if __name__ == "__main__":
    unittest.main()
