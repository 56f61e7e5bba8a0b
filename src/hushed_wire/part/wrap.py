"""Framings, on the way out: what a part is sent, as transfers on its bus; and pasted bus bytes back, in plain Python.

One row of `WRAPS` a framing. A transfer is what a bus moves in one go: an I2C transaction behind its address, the words of
one select, a load of a chain. Its pieces are (data?, bytes); where the bus has a line or a bit for "data", that is its level.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import msgspec

from ..errors import HushedError
from .control import CONTINUES, IS_DATA, wrap_control_byte

__all__ = ["BUS_OF", "NO_ROOM", "WRAPS", "Framing", "Send", "Transfer", "transfers", "unwrap", "words_of"]


class Send(NamedTuple):
    """What a part is sent at once. data: data, else commands. chips: bit mask of the chips that are meant, 0 for all."""

    data: bool
    raw: bytes
    chips: int = 0


class Transfer(msgspec.Struct, frozen=True):
    """One transfer. pieces: (data?, bytes on the bus). chips: as in `Send`."""

    pieces: tuple[tuple[bool, bytes], ...]
    chips: int = 0


class Framing(msgspec.Struct, frozen=True):
    """How a part is spoken to. bus: the kind of bus it runs on. bits: of one word. wrap: the sends of a step to transfers.

    marked: whether command and data look alike as bytes, so that a listing has to say which they are. of: roles of which the bus has to have one,
    without: roles that it must not have, for a part to be taken to hang there so; said: only where the length of words is given, as its top bit
    tells what a line tells elsewhere. chains: one select
    leads through several parts, each taking one word of a load. halves: words come in halves. pictures: what is sent are whole pictures.
    loads: words are what registers take over. anew: what is sent begins, or is taken over, with an edge of the select.
    picky: not all that a sequence may say can be carried; `wrap` raises HushedError then.
    """

    bus: str
    bits: int
    wrap: Callable[[Sequence[Send], int, int], list[Transfer]]
    marked: bool = True
    of: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    said: bool = False
    chains: bool = False
    halves: bool = False
    pictures: bool = False
    loads: bool = False
    anew: bool = False
    picky: bool = False


NO_ROOM = 1 << 30


def _each(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """Each send is a transfer of its own, behind a control byte, in pieces that fit."""
    out = []
    for send in sends:
        for first in range(0, len(send.raw), max(1, room - 1)):
            piece = send.raw[first : first + max(1, room - 1)]
            out.append(Transfer(((send.data, wrap_control_byte(piece, send.data)),), send.chips))
    return out


def _joined(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """A step is one transfer: what follows its first byte belongs to that byte."""
    return [Transfer(((False, b"".join(send.raw for send in sends)),))] if sends else []


def _opened(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """Each command opens a transfer; the data behind it belong to it."""
    out: list[bytes] = []
    for send in sends:
        if send.data and out:
            out[-1] += send.raw
        else:
            out.append(send.raw)
    return [Transfer(((False, raw),)) for raw in out]


def _continued(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """Commands, of which all but the last have their top bit set, and the data behind it; a command behind data opens another transfer."""
    out: list[tuple[bytearray, bytearray]] = []
    for send in sends:
        if send.data:
            if not out:
                raise HushedError(
                    "data need a command ahead of them in the same transfer",
                    remedy="write them behind one: display-address address=0 0xFF*20",
                )
            out[-1][1].extend(send.raw)
        else:
            if not out or out[-1][1]:
                out.append((bytearray(), bytearray()))
            out[-1][0].extend(send.raw)
    return [
        Transfer(((False, bytes(byte | 0x80 for byte in commands[:-1]) + bytes([commands[-1] & 0x7F]) + bytes(data)),))
        for commands, data in out
    ]


COMMANDS, WRITES, READS, PLACE = 0b100, 0b101, 0b110, 0xC0  # modes of three bits, and the command that stands for an address


def _bits(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """Single bits: three that say what follows, then a command of eight and one more that tells nothing, or an address of six and data by four
    (HT1621 datasheet, "Command format"). Here an address is the command 110aaaaa."""
    out: list[bytearray] = []
    for send in sends:
        if send.data:
            if not out or out[-1][2] != WRITES & 1:
                raise HushedError(
                    "data need an address ahead of them in the same transfer", remedy="like: display-address address=0 0xF*32"
                )
            if (wide := next((word for word in send.raw if word > 0xF), None)) is not None:
                raise HushedError(
                    f"data are words of four bits here, and {wide:#04x} has more", remedy="write 0 to 0xF, one for each address"
                )
            out[-1].extend(bit for word in send.raw for bit in _as_bits(word, 4))
            continue
        for word in send.raw:
            place = word & 0xE0 == PLACE
            body = _as_bits(word & 0x1F, 6) if place else _as_bits(word << 1, 9)
            out.append(bytearray([*_as_bits(WRITES if place else COMMANDS, 3), *body]))
    return [Transfer(((False, bytes(bits)),)) for bits in out]


def _as_bits(value: int, count: int) -> list[int]:
    return [value >> place & 1 for place in range(count - 1, -1, -1)]


def _marked(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """A step is one select; a level or a bit tells commands from data. Sends to other chips are other transfers."""
    out: list[Transfer] = []
    for send in sends:
        if out and out[-1].chips == send.chips:
            out[-1] = Transfer((*out[-1].pieces, (send.data, send.raw)), send.chips)
        else:
            out.append(Transfer(((send.data, send.raw),), send.chips))
    return out


def _pairs(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """Words of register and value; each is latched on its own."""
    return [
        Transfer(((False, send.raw[first : first + 2]),), send.chips) for send in sends for first in range(0, len(send.raw), 2)
    ]


def _loads(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """Each byte is a load of its own."""
    return [Transfer(((False, bytes([byte])),), send.chips) for send in sends for byte in send.raw]


def _pictures(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """Each send is a picture, scanned until the next one."""
    return [Transfer(((True, send.raw),)) for send in sends]


def _opcode(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """An opcode with the part's address goes ahead (MCP23S17 datasheet, "SPI Operations"): 0100 A2 A1 A0 and 0 to write."""
    opcode = bytes([0x40 | (address & 7) << 1])
    return [Transfer(((False, opcode + b"".join(send.raw for send in sends)),))] if sends else []


def _synced(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """A sync byte goes ahead, 11111 RW RS 0, and each byte comes as two: its upper half and four zeros, its lower half and four zeros (ST7920
    datasheet, "Serial interface")."""
    pieces: list[tuple[bool, bytes]] = []
    for send in sends:
        halves = bytes(half for byte in send.raw for half in (byte & 0xF0, byte << 4 & 0xF0))
        pieces.append((False, bytes([SYNC | send.data << 1]) + halves))
    return [Transfer(tuple(pieces))] if pieces else []


SYNC = 0xF8
MEMORY = (0x2C, 0x3C)  # MIPI DCS 1.02: write_memory_start, write_memory_continue


def _wide(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """As `_marked`, in words of sixteen bits: commands and parameters in the lower half of one each, pixels two bytes in one."""
    out, last = [], MEMORY[0]
    for transfer in _marked(sends, address, room):
        pieces = []
        for data, raw in transfer.pieces:
            last = last if data or not raw else raw[-1]
            whole = raw + bytes(len(raw) % 2) if data and last in MEMORY else bytes(half for byte in raw for half in (0, byte))
            pieces.append((data, whole))
        out.append(Transfer(tuple(pieces), transfer.chips))
    return out


def _whole(sends: Sequence[Send], address: int, room: int) -> list[Transfer]:
    """Each send is an update of a whole chain."""
    return [Transfer(((True, send.raw),)) for send in sends]


WRAPS: dict[str, Framing] = {
    "i2c-control-byte": Framing("i2c", 8, _each),
    "i2c-first-byte": Framing("i2c", 8, _opened),
    "i2c-register": Framing("i2c", 8, _joined, marked=False),
    "i2c-plain": Framing("i2c", 8, _joined, marked=False),
    "i2c-continued": Framing("i2c", 8, _continued, picky=True),
    "dc-line": Framing("spi", 8, _marked, of=("dc",)),
    "nine-bit": Framing("spi", 9, _marked, without=("dc",), said=True),
    "register-pairs": Framing("spi", 16, _pairs, marked=False, of=("cs", "cs1"), without=("dc",), chains=True, anew=True),
    "spi-opcode": Framing("spi", 8, _opcode, marked=False),
    "spi-first-byte": Framing("spi", 8, _opened, of=("cs", "cs1"), without=("dc",), anew=True),
    "spi-sync-byte": Framing("spi", 8, _synced, of=("cs", "cs1"), without=("dc",)),
    "spi-bits": Framing("spi", 1, _bits, of=("cs", "cs1"), without=("dc",), anew=True, picky=True),
    "led-frames": Framing("spi", 8, _whole, marked=False, without=("cs", "cs1", "dc")),
    "pulse-chain": Framing("pulse", 8, _whole, marked=False),
    "two-wire-first-byte": Framing("two-wire", 8, _opened),
    "rs-line": Framing("parallel", 8, _marked, of=("e",)),
    "nibbles": Framing("parallel", 4, _marked, of=("e",), halves=True),
    "half-words": Framing("parallel", 4, _marked, of=("e",)),
    "dc-parallel": Framing("parallel", 8, _marked, of=("wr",)),
    "wide-dc-parallel": Framing("parallel", 16, _wide, of=("wr",)),
    "wide-dc-line": Framing("spi", 16, _wide, of=("dc",), said=True),
    "load": Framing("shift", 8, _loads, marked=False, loads=True),
    "scan": Framing("matrix", 8, _pictures, marked=False, pictures=True),
}

BUS_OF = {name: framing.bus for name, framing in WRAPS.items()}


def transfers(framing: str, sends: Sequence[Send], address: int = 0, room: int = NO_ROOM) -> list[Transfer]:
    """The transfers of one step. room: bytes that fit into one, where the bus driver has a limit."""
    return WRAPS[framing].wrap(sends, address, room)


def words_of(framing: str, transfer: Transfer) -> list[int]:
    """The words of a transfer, for a listing: 9-bit words have the data bit on top, pairs are one word of 16 bits."""
    bits = WRAPS[framing].bits
    out: list[int] = []
    for is_data, raw in transfer.pieces:
        if bits == 16:
            out += [raw[k] << 8 | raw[k + 1] for k in range(0, len(raw) - 1, 2)]
        else:
            out += [byte | (is_data << 8 if bits == 9 else 0) for byte in raw]
    return out


def unwrap(framing: str, raw: bytes, halves: int = -1, whole: int = -1) -> list[Send]:
    """Bytes as they stand on the bus, one transfer behind its address, to what the part gets. halves, whole: of nibbles that switch its width."""
    if framing == "i2c-control-byte":
        out, at = [], 0
        while at < len(raw):
            control = raw[at]
            if control & 0x3F:
                raise HushedError(
                    f"byte {at} is {control:#04x}, which is no control byte",
                    remedy="a control byte is 00, 40, 80 or C0; leave --on-bus out for bare command bytes",
                )
            if control & CONTINUES:
                out.append(Send(bool(control & IS_DATA), raw[at + 1 : at + 2]))
                at += 2
            else:
                out.append(Send(bool(control & IS_DATA), raw[at + 1 :]))
                break
        return [send for send in out if send.raw]
    if framing == "i2c-continued":
        last = next((at for at, byte in enumerate(raw) if byte < 0x80), len(raw) - 1) + 1
        commands = bytes(byte & 0x7F for byte in raw[:last])
        return [send for send in (Send(False, commands), Send(True, raw[last:])) if send.raw]
    if framing.endswith("-first-byte"):
        return [send for send in (Send(False, raw[:1]), Send(True, raw[1:])) if send.raw]
    if framing == "spi-sync-byte":
        return _unsynced(raw)
    if framing == "spi-opcode":
        return [Send(False, raw[1:])]
    if framing == "spi-bits":
        raise HushedError(
            "what goes over these wires are single bits, no bytes",
            remedy="leave --on-bus out: commands as the datasheet has them",
        )
    if framing == "nibbles":
        return [Send(False, _paired(raw, halves, whole))]
    return [Send(False, raw)]


def _unsynced(raw: bytes) -> list[Send]:
    """Bytes behind sync bytes, two halves each."""
    out: list[tuple[bool, bytearray]] = []
    for at, byte in enumerate(raw):
        if byte & 0xF9 == SYNC:
            out.append((bool(byte & 2), bytearray()))
        elif not out:
            raise HushedError(
                f"byte {at} is {byte:#04x}, and no sync byte came before it",
                remedy="begin with F8 (command) or FA (data); or leave --on-bus out",
            )
        else:
            out[-1][1].append(byte)
    return [
        Send(data, bytes(a & 0xF0 | b >> 4 for a, b in zip(own[::2], own[1::2], strict=False)))
        for data, own in out
        if len(own) > 1
    ]


def _paired(nibbles: bytes, halves: int, whole: int) -> bytes:
    """Nibbles of commands as bytes: each by itself while the part takes whole words, two by two behind the one that switches to halves."""
    out, at, four = bytearray(), 0, False
    while at < len(nibbles):
        if nibbles[at] > 15:
            raise HushedError(
                f"{nibbles[at]:#04x} is no nibble", remedy="nibbles run from 0 to 0xF; leave --on-bus out for whole bytes"
            )
        if not four:
            out.append(nibbles[at] << 4)
            four, at = nibbles[at] == halves, at + 1
        elif at + 1 < len(nibbles):
            out.append(nibbles[at] << 4 | nibbles[at + 1] & 15)
            four, at = nibbles[at] != whole, at + 2
        else:
            raise HushedError("the last byte lacks its second nibble", remedy="behind the switch to halves nibbles come in pairs")
    return bytes(out)
