"""Value changes of a VCD in any mix and any pieces, against a reader that is not ours."""

import contextlib
import io
import os
import unittest
from collections.abc import Iterator
from unittest import mock

import vcd.reader
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.errors import HushedError
from hushed_wire.trace import read_capture, vcd_ahead, vcd_body, vcd_plain
from hushed_wire.trace import vcd as own_vcd
from hushed_wire.trace.stream import open_stream
from support import scratch

FOLDER = scratch()
HEAD = "$timescale 1 ns $end\n$scope module bench $end\n{}$upscope $end\n$enddefinitions $end\n"
CODES = "!#b0"  # codes that look like a time, a vector and a value among them


@st.composite
def bodies(draw: st.DrawFn) -> str:
    """Changes of four wires: mostly wires that turn, now and then what the plain reader must leave alone."""
    level, out, now = [0] * 4, ["#0", *(f"0{code}" for code in CODES)], 0
    oddities = draw(st.sampled_from([0, 0, 3, 20]))  # in a hundred
    for _ in range(draw(st.integers(1, 80))):
        now += draw(st.integers(0 if oddities else 1, 40))
        out.append(f"#{now}")
        for wire in draw(st.sets(st.integers(0, 3), max_size=4)):
            level[wire] ^= 1
            if draw(st.integers(0, 99)) >= oddities:
                out.append(f"{level[wire]}{CODES[wire]}")
                continue
            kind = draw(st.sampled_from(["repeat", "unknown", "vector", "comment", "spaced"]))
            if kind == "repeat":
                level[wire] ^= 1
            text = {"unknown": "x", "vector": f"b{level[wire]} "}.get(kind, str(level[wire])) + CODES[wire]
            ahead = {"comment": f"$comment #{now + 5} 1! \n#9\n $end\n", "spaced": " "}.get(kind, "")
            out.append(ahead + text)
    return "\n".join(out) + draw(st.sampled_from(["\n", "\n#9999999\n"]))


def told(text: str) -> list[tuple[int, str, str]]:
    """(time, code, level) of each change that turns a wire, as the other reader reads them."""
    now, out, last = 0, [], dict.fromkeys(CODES, "?")
    for token in vcd.reader.tokenize(io.BytesIO(text.encode())):
        if token.kind is vcd.reader.TokenKind.CHANGE_TIME:
            now = token.time_change
            continue
        if token.kind is vcd.reader.TokenKind.CHANGE_SCALAR:
            code, level = token.scalar_change.id_code, token.scalar_change.value
        elif token.kind is vcd.reader.TokenKind.CHANGE_VECTOR:
            code, level = token.vector_change.id_code, str(token.vector_change.value)
        else:
            continue
        out.append((now, code, level))
    ends = {(when, code): level for when, code, level in out}  # of changes at one time the last one stands
    return [
        (when, code, level)
        for (when, code), level in sorted(ends.items(), key=lambda one: one[0][0])
        if last[code] != level and (last.update({code: level}) or True)
    ]


@contextlib.contextmanager
def pieces(size: int) -> Iterator[None]:
    """Files are read in pieces of `size` bytes."""
    with contextlib.ExitStack() as stack:
        for name, value in (("vcd.PIECE", size), ("vcd_header.PIECE", size), ("vcd_body.LONGEST", 10**6)):
            stack.enter_context(mock.patch(f"hushed_wire.trace.{name}", value))
        yield


@contextlib.contextmanager
def two_processes(stretch: int) -> Iterator[None]:
    """A second process helps with files of any size, in pieces of `stretch` bytes."""
    with mock.patch.object(vcd_ahead, "SMALLEST", 0), mock.patch.object(vcd_ahead, "STRETCH", stretch):
        yield


class AnyBody(unittest.TestCase):
    HEADER = HEAD.format("".join(f"$var wire 1 {code} W{number} $end\n" for number, code in enumerate(CODES)))

    @given(bodies(), st.integers(1, 300))
    @settings(deadline=None, max_examples=150)
    def test_another_reader_tells_the_same_changes(self, body: str, size: int) -> None:
        path = FOLDER / "any.vcd"
        path.write_text(self.HEADER + body)
        with pieces(size):
            trace = read_capture(path)
        changes = []
        for line, code in enumerate(CODES):
            edges = trace.edges(line)
            changes += [(t, code, "01x"[v]) for t, v in zip(edges.times.tolist(), edges.level.tolist(), strict=True)]
        self.assertEqual(sorted(changes), sorted(told(self.HEADER + body)))
        self.assertEqual(trace.end >= 9999999, body.endswith("#9999999\n"))

    @given(bodies(), st.integers(40, 300))
    @settings(deadline=None, max_examples=60)
    def test_two_processes_read_the_same(self, body: str, stretch: int) -> None:
        path = FOLDER / "two.vcd"
        path.write_text(self.HEADER + body)
        with pieces(300):
            alone = read_capture(path)
            with two_processes(stretch):
                trace = read_capture(path, cores=2)
        self.assertEqual((trace.times.tolist(), trace.levels.tolist()), (alone.times.tolist(), alone.levels.tolist()))
        dark = [None if one.unknown is None else one.unknown.tolist() for one in (trace, alone)]
        self.assertEqual((dark[0], trace.end), (dark[1], alone.end))

    def test_a_helper_that_is_not_there_or_dies_is_not_missed(self) -> None:
        body = "#0\n0!\n0#\nxb\n00\n" + "".join(f"#{5 * k}\n{k % 2}!\n{k % 2}#\n" for k in range(1, 3000))
        path = FOLDER / "helped.vcd"
        path.write_text(self.HEADER + body)
        cut, here, done = vcd_ahead.Pieces.cut, os.getpid(), []

        def dying(pieces: vcd_ahead.Pieces, number: int) -> vcd_ahead.Piece:
            if os.getpid() != here:
                if number > 3:
                    os._exit(1)
            else:
                done.append(number)
            return cut(pieces, number)

        def none() -> int:
            raise OSError("no more processes")

        for title, what, name, value in (
            ("helped", vcd_ahead.Pieces, "cut", cut),
            ("dying", vcd_ahead.Pieces, "cut", dying),
            ("alone", os, "fork", none),
        ):
            with self.subTest(title), pieces(1000), two_processes(1000), mock.patch.object(what, name, value):
                trace = read_capture(path, cores=2)
                self.assertEqual((len(trace), trace.end), (3000, 14996))
                self.assertEqual(trace.levels.tolist()[-2:], [0, 3])
                self.assertEqual(set(trace.unknown.tolist()), {4})
        self.assertIn(4, done)  # what it was at when it died
        with pieces(1000), two_processes(1000):  # left alone half-way, nothing of it stays behind
            blocks = own_vcd.read(open_stream(path), None, 2)[2]
            for _ in range(5):
                next(blocks)
            blocks.close()
        self.assertRaises(ChildProcessError, os.waitpid, -1, os.WNOHANG)

    def test_plain_lines_are_read_the_short_way_and_all_else_is_not(self) -> None:
        plain = "#0\n0!\n0#\n0b\n00\n" + "".join(f"#{5 * k}\n{k % 2}!\n{k % 2}b\n" for k in range(1, 2000))
        for body, ways in ((plain, {True}), (plain.replace("\n#", "\n #"), set()), (plain.replace("0b\n", "xb\n"), {False})):
            seen = []
            real = vcd_plain.Plain.parted

            def watched(*words: object, real=real, seen=seen):  # type: ignore[no-untyped-def]
                found = real(*words)
                seen.append(found is not None)
                return found

            path = FOLDER / "plain.vcd"
            path.write_text(self.HEADER + body)
            with pieces(1000), mock.patch.object(vcd_plain.Plain, "parted", watched):
                trace = read_capture(path)
            self.assertEqual(len(trace), 2000)
            self.assertEqual(set(seen), ways)

    def test_any_number_of_changes_at_one_time_take_no_more_room_than_the_lines(self) -> None:
        path = FOLDER / "tick.vcd"
        path.write_text(self.HEADER + "#0\n0!\n0#\n0b\n00\n#5\n" + "1!\n0!\n" * 5000 + "1#\n#9\n1!\n")
        sizes = []
        real = vcd_body._settled

        def watched(*columns: object):  # type: ignore[no-untyped-def]
            sizes.append(len(real(*columns)[0]))
            return real(*columns)

        with pieces(2000), mock.patch.object(vcd_body, "MOST_WAITING", 1000), mock.patch.object(vcd_body, "_settled", watched):
            trace = read_capture(path)
        self.assertEqual((trace.times.tolist(), trace.levels.tolist()), ([0, 5, 9], [0, 2, 3]))
        self.assertGreater(len(sizes), 5)
        self.assertLess(max(sizes), 10)

    def test_errors_name_the_line_wherever_a_piece_ends(self) -> None:
        lines = ["#0", "0!", "0#", "0b", "00", *(f"#{5 * (k // 2)}\n{k // 2 % 2}!" for k in range(2, 400, 2))]
        head = self.HEADER.count("\n")
        for wrong, what in (
            ("1?", "which no $var declares"),
            ("#3", "runs backwards"),
            ("#9x9", "not a whole number"),
            ("q!", "neither"),
        ):
            text = "\n".join(lines[:120] + [wrong] + lines[120:]) + "\n"
            number = head + 1 + "\n".join(lines[:120]).count("\n") + 1
            (FOLDER / "wrong.vcd").write_text(self.HEADER + text)
            for size in (1 << 19, 400, 37):
                for cores in (1, 2):
                    with pieces(size), two_processes(max(size, 40)), self.assertRaises(HushedError) as caught:
                        read_capture(FOLDER / "wrong.vcd", cores=cores)
                    self.assertIn(what, str(caught.exception), size)
                    self.assertIn(f"wrong.vcd:{number}", str(caught.exception), size)


if __name__ == "__main__":
    unittest.main()
