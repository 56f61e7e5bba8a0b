"""Displays that nobody knows: their words are told, written down, sent again, and nothing is claimed of what they mean."""

import json
import re
import unittest
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import hushed_wire
from hushed_wire.link.desk import open_desk
from hushed_wire.link.send import send
from hushed_wire.part import Catalog
from hushed_wire.rig import decode, load_rig
from hushed_wire.rig.rehearse import rehearse
from hushed_wire.sequence import expand, parse_text
from hushed_wire.sequence.from_words import from_words
from hushed_wire.sequence.replay import variants
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
        self.assertIn("what 'glass' is told, as nobody knows its part", told["untold"])
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


class Replayed(unittest.TestCase):
    def test_a_capture_sent_again_leaves_the_same_on_the_glass(self) -> None:
        for name in PLAYED:
            capture, rig = "healthy.vcd" if name == "front-desk" else f"{name}.vcd", f"{name}.toml"
            done = program("send", capture, "--rig", rig, "--picture", str(FOLDER / "sent.png"))
            self.assertEqual(done.returncode, 0, done.stderr)
            program("screen", capture, "--rig", rig, "--picture", str(FOLDER / "seen.png"))
            self.assertEqual((FOLDER / "sent.png").read_bytes(), (FOLDER / "seen.png").read_bytes(), name)

    def test_the_set_up_alone_with_longer_rests(self) -> None:
        whole = program_json("send", "pump-room.vcd", "--rig", "pump-room.toml", "--dry-run")["steps"]
        words = ("old-box-3.vcd", "--rig", "box.toml", "--dry-run")
        program("unravel", "old-box-1.vcd", "--into", str(FOLDER / "found"))
        (demo() / "box.toml").write_text((FOLDER / "found" / "rig.toml").read_text())
        found = ("--catalog", str(FOLDER / "found" / "catalog"))
        plain, slow = (
            program_json("send", *words, *found, "--until", "picture", *more)["steps"]
            for more in ((), ("--slower", "10", "--at-least", "2ms"))
        )
        sent = [byte for step in plain for one in step["transactions"] for byte in one["bytes"]]
        self.assertEqual(sent, [0x64, 0x33, 0x1C, 0x1F, 0x48, 0x26, 0x65])
        for before, behind in zip(plain, slow, strict=True):
            self.assertAlmostEqual(behind["wait"], max(10 * before["wait"], 0.002 if before["transactions"] else 0.0))
        self.assertGreater(len(whole), 300)  # each write to the expander

        told = program_json(
            "send", "healthy.vcd", "--rig", "front-desk.toml", "--until", "picture"
        )  # what a control byte calls data
        self.assertEqual(told["steps"], 17)

    def test_a_stretch_of_it(self) -> None:
        told = program_json("send", "healthy.vcd", "--rig", "front-desk.toml", "--from", "30ms", "--to", "40ms")
        self.assertEqual((told["transactions"], told["bytes"]), (2, 8))
        for words, said in (
            (("tide.hush", "--from", "1ms"), b"--from and --to pick a part of a capture"),
            (("healthy.vcd", "--from", "20ms", "--to", "21ms"), b"nothing was said there"),
            (("healthy.vcd", "--slower", "0"), b"how many times as long"),
            (("healthy.vcd", "--at-least", "-1s"), b"--at-least -1s"),
            (("healthy.vcd", "--device", "lamp"), b"there is no device 'lamp'"),
            (("handheld.vcd",), b"handheld.vcd"),
            (("none.vcd",), b"no such file"),
        ):
            done = program("send", *words, "--rig", "front-desk.toml")
            self.assertEqual((done.returncode, said in done.stderr), (2, True), (words, done.stderr))

    def test_what_a_word_does_is_found_by_leaving_it_out(self) -> None:
        """The desk plays the part that is true, which what is sent knows nothing of; its glass answers in place of a person."""
        hidden = Path(hushed_wire.__file__).parent / "demo" / "files" / "old-box"
        program("unravel", "old-box-1.vcd", "--into", str(FOLDER / "varied"))
        with Catalog([hidden / "parts"]).in_use():
            true = load_rig(hidden / "rig.toml")
            bare = load_rig(hidden / "rig.toml")
            bare.device[0].part, bare.device[0].panel = "unknown", ""
            lines = (FOLDER / "varied" / "set-up.hush").read_text()
            steps = expand(parse_text(lines, "set-up.hush"), [bare.target(device) for device in bare.device], FOLDER)
            seen = {}
            for variant in variants(steps, len(steps), "steps"):
                desk = open_desk(true, true.bus[0], [], 0)
                send(variant.steps, bare, desk)
                seen[variant.said.partition("'")[2].partition("'")[0]] = desk.glass("glass").shown
        self.assertEqual([words for words, lit in seen.items() if not lit], ["bytes 0x65"])
        self.assertEqual(len(seen), 6)

    def test_answers_go_into_the_draft(self) -> None:
        program("unravel", "old-box-1.vcd", "--into", str(FOLDER / "asked"))
        own = ("set-up.hush", "--rig", "rig.toml", "--catalog", "catalog")
        where = FOLDER / "asked"
        done = program(
            "send", *own, "--vary", "steps", "--draft", "catalog/unravelled.toml", cwd=where, stdin=b"lit\n\n\nfaint\n\n\ndark\n"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("6 variants, 2 of which were seen", done.stdout.decode())
        draft = (where / "catalog" / "unravelled.toml").read_text()
        self.assertEqual(re.findall(r"seen: '(.*)' left out: (\w+)", draft), [("bytes 0x1C", "faint"), ("bytes 0x65", "dark")])
        self.assertIn("# To try next:", draft)
        self.assertEqual(program("build", "set-up.hush", "--rig", "rig.toml", "--catalog", "catalog", cwd=where).returncode, 0)
        stepped = program(
            "send", *own, "--vary", "12:2=0x00-0x3F/0x20".replace("0x20", "32"), "--format", "json", cwd=where, stdin=b"a\n\nb\n"
        )
        self.assertEqual([(one["value"], one["seen"]) for one in json.loads(stepped.stdout)["varied"]], [(0, ""), (32, "b")])
        for what, said in (
            ("12:9=0-1", b"has no byte 9"),
            ("99:1=0-1", b"line 99 sends nothing"),
            ("12:1=9-1", b"no range"),
            ("all", b"is nothing to vary"),
        ):
            done = program("send", *own, "--vary", what, cwd=where, stdin=b"\n" * 9)
            self.assertEqual((done.returncode, said in done.stderr), (2, True), done.stderr)
        done = program("send", *own, "--vary", "steps", cwd=where, stdin=b"lit\n")
        self.assertEqual((done.returncode, b"ended too soon" in done.stderr), (2, True))


if __name__ == "__main__":
    unittest.main()
