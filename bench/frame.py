"""A full colour frame, 153,600 bytes, from words to the changes on four wires: ours, and a plain Python loop over the same words.

Prints seconds of each (the best of a few) and their ratio; both make the same changes, which is checked.
"""

import sys
import time

import numpy as np

from hushed_wire.part import load
from hushed_wire.part.wrap import Send
from hushed_wire.rig.encoder import RigEncoder
from hushed_wire.rig.schema import Bus, Device, Rig
from hushed_wire.rig.wires import encode_moves
from hushed_wire.sequence import Step

LINES = {"sck": 0, "mosi": 1, "cs": 2, "dc": 3}


def plain(raw: bytes, start: int, half: int) -> list[tuple[int, int, int]]:
    """(when, line, level) of every change, word by word and bit by bit."""
    out = [(start, 2, 0)]
    now, level = start + 2 * half, 0
    for value in raw:
        for place in range(7, -1, -1):
            bit = value >> place & 1
            if bit != level:
                out.append((now, 1, bit))
                level = bit
            out.append((now + half, 0, 1))
            out.append((now + 2 * half, 0, 0))
            now += 2 * half
    out.append((now + half, 2, 1))
    return out


def packing() -> int:
    """A 320x240 picture to 16-bit pixels: ours, and the plain NumPy expression."""
    from hushed_wire.part.layout import Layout
    from hushed_wire.picture.layout import pack

    rgb = np.random.default_rng(1).integers(0, 256, (240, 320, 3), dtype=np.uint8)
    layout = Layout(bits=16, colours="rgb")

    def expression() -> bytes:
        wide = rgb.astype(np.uint16)
        return ((wide[..., 0] >> 3) << 11 | (wide[..., 1] >> 2) << 5 | wide[..., 2] >> 3).astype(">u2").tobytes()

    ours, theirs = [], []
    for _ in range(300):
        begin = time.perf_counter()
        own = pack(rgb, layout)
        middle = time.perf_counter()
        other = expression()
        theirs.append(time.perf_counter() - middle)
        ours.append(middle - begin)
    a, b = sorted(ours)[150] * 1e3, sorted(theirs)[150] * 1e3
    print(f"{a:.4f} {b:.4f} {a / b:.2f} {'same' if own == other else 'different'}")
    return int(own != other)


def main() -> int:
    if sys.argv[1:] == ["pack"]:
        return packing()
    bus = Bus("gate", "spi", "10MHz", lines={role: role.upper() for role in LINES})
    rig = Rig(bus=[bus], device=[Device("tft", "gate", "st7789", panel="240x320")])
    raw = np.random.default_rng(1).integers(0, 256, 153_600, dtype=np.uint8).tobytes()
    step = Step("", "frame", "tft", "data", (Send(True, raw),))
    part = load("st7789")
    ours, theirs = [], []
    for _ in range(5):
        begin = time.perf_counter()
        trace = encode_moves(list(RigEncoder(rig).moves([step], bus)), bus, part, LINES, tuple(LINES), 1000, 1000)
        ours.append(time.perf_counter() - begin)
    for _ in range(3):
        begin = time.perf_counter()
        changes = plain(raw, 21_000, 50)
        theirs.append(time.perf_counter() - begin)
    edges = trace.edges(0)
    clocks = [(when, level) for when, line, level in changes if line == 0]
    same = [tuple(pair) for pair in zip((edges.times[1:]).tolist(), edges.level[1:].tolist(), strict=True)] == clocks
    data = trace.edges(1)
    wanted = [(when, level) for when, line, level in changes if line == 1]
    same &= [tuple(pair) for pair in zip((data.times[1:]).tolist(), data.level[1:].tolist(), strict=True)] == wanted
    print(f"{min(ours):.4f} {min(theirs):.4f} {min(theirs) / min(ours):.1f} {'same' if same else 'different'}")
    return 0 if same else 1


if __name__ == "__main__":
    sys.exit(main())
