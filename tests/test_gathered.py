"""Long captures: what is told of one that goes by, block by block, is what is told of the same one held whole, and none is read again without a reason."""

import json
import random
import unittest
from collections import Counter
from collections.abc import Iterable
from dataclasses import replace
from itertools import pairwise
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import corpus
from hushed_wire.bus import stretches, words
from hushed_wire.cli import captured
from hushed_wire.cli.main import main
from hushed_wire.diagnosis import judge
from hushed_wire.diagnosis.gathered import AtHand, PassingBy
from hushed_wire.rig import Rig, Setup, conditions, load_rig
from hushed_wire.rig.conditions import counted, holds, parse_condition
from hushed_wire.rig.reading import decode
from hushed_wire.trace import Trace, joined, measured, read_capture
from hushed_wire.trace.model import UNKNOWN
from hushed_wire.trace.pulses import Pulses
from hushed_wire.view import record
from hushed_wire.view.activity import activities
from hushed_wire.view.figure import plot
from hushed_wire.view.scene import scene_of
from hushed_wire.view.waves import MOST_BOXES, MOST_EDGES, waves
from strategies import traces
from support import demo, program, scratch

FOLDER = scratch()
BLOCK = 997  # changes
STEP = 5  # of the corpus every so manieth case
HEALTHY = ("front-desk", "handheld", "engine-room", "wheelhouse", "pump-room")


def told(trace: Trace, rig: Rig, by: str) -> dict[str, object]:
    """What is told of a capture held whole ("") or going by, which may be read again or not."""
    plan = Setup(rig)

    def again() -> Iterable[Trace]:
        assert by == "again", "nothing gives a reason to read it again"
        return trace.pieces(BLOCK)

    with mock.patch.object(words, "MANY", 1 if by else words.MANY):  # what is kept of a long one, in half the room
        own = (
            PassingBy(trace.pieces(BLOCK), trace.names, trace.tick, plan, again)
            if by
            else AtHand(trace.turned_as(rig.turned), plan)
        )
    return json.loads(json.dumps(record.diagnosis(judge(own, plan)), default=str))  # type: ignore[no-any-return]


class GoingBy(unittest.TestCase):
    def test_every_kind_of_fault(self) -> None:
        cases = [case for case in corpus.faults(1) if not case.volts and not case.other][::STEP]
        self.assertGreater(len(cases), 20)
        for case in cases:
            trace, waves, rig = corpus.capture(case)
            if waves is None:
                with self.subTest(f"{case.rig}: {case.code}"):
                    self.assertEqual(told(trace, rig, "again"), told(trace, rig, ""))

    def test_what_is_sound_is_read_once(self) -> None:
        for name in HEALTHY:
            # Short captures are read again to compare pictures.
            with self.subTest(name), mock.patch("hushed_wire.diagnosis.rules.drawn.MOST_CHANGES", 0):
                trace = read_capture(demo() / ("healthy.vcd" if name == "front-desk" else f"{name}.vcd"))
                rig = load_rig(demo() / f"{name}.toml")
                self.assertEqual(told(trace, rig, "once"), told(trace, rig, ""))

    def test_short_stretches_lose_no_time(self) -> None:
        trace, rig = read_capture(demo() / "healthy.vcd"), load_rig(demo() / "front-desk.toml")
        with mock.patch.object(stretches, "PART", 2000):
            cut = PassingBy(trace.pieces(BLOCK), trace.names, trace.tick, Setup(rig), list).times(rig.bus[0], "")
        whole = AtHand(trace, Setup(rig)).times(rig.bus[0], "")
        for symbol in whole:
            columns = [(own.value.tolist(), own.count.tolist(), own.when.tolist()) for own in (cut[symbol], whole[symbol])]
            self.assertEqual(*columns, symbol)

    def test_the_command_line_tells_the_same_of_a_long_capture(self) -> None:
        rig = str(demo() / "front-desk.toml")
        start = (demo() / "tide.hush").read_text().rpartition("picture")[0]
        (FOLDER / "long.hush").write_text(f"{start}\nrepeat 6\npicture {demo() / 'tide.pbm'}\nfill off\nend\n")
        path = str(FOLDER / "long.vcd")
        done = program("rehearse", str(FOLDER / "long.hush"), "--rig", rig, "-o", path, "-q", "--mishap", "drop-clock:SCL,2")
        self.assertEqual(done.returncode, 0, done.stderr)

        def outputs(name: str, *options: str) -> list[bytes]:
            out = [FOLDER / f"{name}.{ending}" for ending in ("json", "png", "html", "whole.png", "part.png")]
            main(
                [
                    "diagnose",
                    path,
                    *options,
                    "--format",
                    "json",
                    "--picture",
                    str(out[1]),
                    "--report",
                    str(out[2]),
                    "-o",
                    str(out[0]),
                ]
            )
            main(["plot", path, *options, "-q", "--findings", "-o", str(out[3])])
            main(["plot", path, *options, "-q", "--from", "100ms", "--to", "101ms", "-o", str(out[4])])
            return [one.read_bytes().replace(f"/{name}.".encode(), b"/out.") for one in out]

        for options in (("--rig", rig), ()):
            whole = outputs("whole", *options)
            with (
                mock.patch.object(captured, "LOOKED_AT", 20_000),
                mock.patch.object(words, "MANY", 1),
                mock.patch.object(AtHand, "__init__", side_effect=AssertionError),
            ):
                by = outputs("by", *options)
            self.assertEqual([one == other for one, other in zip(whole, by, strict=True)], [True] * 5, options)


class Lines(unittest.TestCase):
    @given(traces(2, 3, 200), st.integers(2, 40), st.integers(4, 30), st.integers(0, 3))
    @settings(deadline=None, max_examples=120)
    def test_stretches_are_all_there_is_and_end_where_it_rests(self, trace: Trace, size: int, part: int, idle: int) -> None:
        with mock.patch.object(stretches, "PART", part):
            own = stretches.Stretches(3, idle)
            found = [*(one for block in trace.pieces(size) for one in own.feed(block)), *own.finish()]
        self.assertEqual([one.start for one in found[1:]], [one.end for one in found[:-1]])
        whole = joined(found)
        self.assertEqual((whole.times.tolist(), whole.end), (joined([trace]).times.tolist(), trace.end))
        for one in found[:-1]:
            self.assertGreaterEqual(len(one), part)
            if len(one) < part * (stretches.MOST - 1):
                self.assertEqual(int(one.levels[-1]) & 3, idle, "it ends while the bus rests")

    @given(traces(2, 3, 80), st.integers(2, 30), st.sampled_from([2, 16, 64]), st.randoms(use_true_random=False))
    @settings(deadline=None, max_examples=120)
    def test_pulses_are_those_of_a_plain_loop(self, trace: Trace, size: int, alike: int, chance: random.Random) -> None:
        worth = chance.choice([1, 1024])  # counted in tables, or one by one
        dark = np.array([chance.getrandbits(3) & chance.getrandbits(3) for _ in range(len(trace))], trace.levels.dtype)
        for one in (trace, replace(trace, levels=trace.levels & ~dark, unknown=dark)):
            for line in range(len(one.names)):
                own = Pulses()
                with mock.patch.multiple(measured, ALIKE=alike, WORTH=worth, SEVERAL=2):
                    for block in one.pieces(size):
                        own.feed(block.edges(line))
                edges = one.edges(line)
                moves = list(zip(edges.times.tolist(), edges.level.tolist(), strict=True))
                rises = [when for (_, a), (when, b) in pairwise(moves) if (a, b) == (0, 1)]
                falls = [when for (_, a), (when, b) in pairwise(moves) if (a, b) == (1, 0)]
                self.assertEqual((own.changes, own.rises, own.falls), (len(moves) - 1, len(rises), len(falls)))
                self.assertEqual((own.opened, own.level, own.opening), (moves[0][1], moves[-1][1], edges.times[1:4].tolist()))
                blurs = [when for when, level in moves[1:] if level == UNKNOWN]
                self.assertEqual((own.blurs, own.blurred), (len(blurs), blurs[0] if blurs else None))
                whole = [(b - a, level, a) for (a, level), (b, _) in list(pairwise(moves))[1:]]
                for told, wanted in (
                    (own.low, [row for row in whole if row[1] == 0]),
                    (own.high, [row for row in whole if row[1] == 1]),
                    (own.lasted, whole),
                    (own.steps, [(b - a, 0, b) for a, b in pairwise(rises)]),
                ):
                    counts = Counter(lasted for lasted, *_ in wanted)
                    first = {lasted: min(when for other, _, when in wanted if other == lasted) for lasted in counts}
                    self.assertEqual(dict(zip(told.value.tolist(), told.count.tolist(), strict=True)), counts)
                    self.assertEqual(dict(zip(told.value.tolist(), told.when.tolist(), strict=True)), first)

    @given(traces(2, 3, 120), st.integers(1, 40), st.integers(1, 60), st.data())
    @settings(deadline=None, max_examples=150)
    def test_conditions_are_counted_in_pieces_as_in_the_whole(
        self, trace: Trace, size: int, at_once: int, data: st.DataObject
    ) -> None:
        tests = [f"{what}={line}" for what in ("rise", "fall", "edge") for line in trace.names]
        tests += [
            f"{what}({line}){sign}{lasts}us"
            for what in ("high", "low")
            for line in trace.names
            for sign, lasts in (("<", 3), (">", 1), (">=", 2))
        ]
        parts = data.draw(st.lists(st.sampled_from(tests), min_size=1, max_size=3))
        text = data.draw(st.sampled_from([" and ", " or "])).join(parts)
        condition, lines, words, negated = parse_condition(text)
        self.assertEqual((words, negated), (False, False))
        with mock.patch.object(conditions, "AT_ONCE", at_once):
            told = counted(condition, trace.pieces(size), [trace.index(line) for line in lines], 7)
        whole = holds(condition, trace, list)
        self.assertEqual(told.count, len(whole), text)
        self.assertEqual(
            (told.first.start.tolist(), (told.length.start, told.length.end)),
            (sorted(whole.start.tolist())[:7], (trace.start, trace.end)),
        )

    @given(traces(1, 3, 80), st.integers(2, 30), st.integers(1, 12), st.integers(0, 40))
    @settings(deadline=None, max_examples=80)
    def test_what_a_figure_shows_of_lines(self, trace: Trace, size: int, width: int, most: int) -> None:
        ticks = np.linspace(trace.start, trace.end, width + 1).astype(np.int64)
        for line, own in activities(trace.pieces(size), range(len(trace.names)), ticks, most).items():
            edges = trace.edges(line)
            inside = [int(np.count_nonzero((edges.times[1:] >= a) & (edges.times[1:] < b))) for a, b in pairwise(ticks.tolist())]
            self.assertEqual((own.count.tolist(), own.moves), (inside, len(edges.times) - 1))
            self.assertEqual(own.level.tolist(), trace.level_at(line, ticks[:-1]).tolist())
            if sum(inside) <= most:
                self.assertEqual(np.concatenate(own.times).tolist(), edges.times.tolist())
                self.assertEqual(np.concatenate(own.levels).tolist(), edges.level.tolist())
            else:
                self.assertEqual(own.times, [])


class Drawn(unittest.TestCase):
    def setUp(self) -> None:
        self.trace, self.rig = read_capture(demo() / "healthy.vcd"), load_rig(demo() / "front-desk.toml")

    def test_a_figure_needs_no_more_than_blocks(self) -> None:
        window = 0.0, self.trace.seconds(self.trace.end)
        pictures = []
        for thin in (False, True):
            scene = scene_of(decode(self.trace, self.rig))
            if thin:
                scene.trace, scene.changes = self.trace.only(0), lambda: self.trace.pieces(700)
            pictures += [plot(scene, "x", window), plot(scene, "x", (0.001, 0.0013))]
        self.assertEqual(pictures[:2], pictures[2:])

    def test_a_page_holds_no_more_than_a_browser_draws(self) -> None:
        scene = scene_of(decode(self.trace, self.rig))
        with mock.patch("hushed_wire.view.waves.MOST_EDGES", 400):
            own = waves(scene, scene.span)
        self.assertLessEqual(sum(len(line["times"]) for line in own["lines"]), 400 + 2)
        self.assertEqual((own["whole"], own["origin"]), (False, scene.span[0]))
        whole = waves(scene, scene.span)
        self.assertLess(sum(len(line["times"]) for line in whole["lines"]), MOST_EDGES + 2)
        self.assertTrue(all(len(lane["boxes"]) <= MOST_BOXES + 1 for lane in whole["lanes"]))


if __name__ == "__main__":
    unittest.main()
