"""Addresses: who was called, and who answered."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ...bus.i2c_transactions import SEARCH, insisted
from ...finding import Finding
from ...part import catalog_names, load
from ..case import Case, select_for
from ..rule import Rule, has_selects, is_addressed

__all__ = ["RULES"]

Mask = NDArray[np.bool_]
MOSTLY_WORDS = 0.5  # share of what is clocked that makes whole words, from which on addresses are addresses
OPCODE, CALLED = 0b0100, 4  # how an opcode begins, and transfers from which on one is an address and no chance


def answers(case: Case) -> Iterator[Finding]:
    """Addresses that the driver calls and nobody acknowledges; those that are an expected address in its 8-bit form."""
    if case.as_wired.score < MOSTLY_WORDS:
        return  # nobody was called where two lines happen to make a word now and then
    who = case.who
    tried = {int(address): who.address == address for address in np.unique(who.address) if address >= 0}
    silent = {address: mask for address, mask in tried.items() if not who.answered[mask].any()}
    explained: set[int] = set()
    yield from _devices(case, tried, silent, explained)
    yield from _reserved(case, {address: mask for address, mask in silent.items() if address not in explained})
    for address in insisted(who) if len(tried) >= SEARCH else []:
        if address not in explained and address in silent:
            explained.add(address)
            meant, others = _meant(address), sorted(set(tried) - set(silent))
            if meant is not None:
                yield _shifted(case, None, meant, address, silent[address])
            else:
                yield _no_answer(case, None, address, address, silent[address], others, "")
    if not explained and tried and len(silent) == len(tried) and not case.rig.devices_on(case.bus):
        if len(silent) >= SEARCH:
            start, end = case.span
            yield case.found(
                "address.no-answer", "search", lines=case.names("scl", "sda"), start=start, end=end, count=len(silent),
                evidence={"addresses_tried": len(silent), "answering": []}, tried=len(silent),
            )  # fmt: skip
            return
        called = max(silent, key=lambda address: int(np.count_nonzero(silent[address])))
        meant = _meant(called)
        if meant is not None:
            yield _shifted(case, None, meant, called, silent[called])
        else:
            yield _no_answer(case, None, called, called, silent[called], [], "")


def _devices(case: Case, tried: dict[int, Mask], silent: dict[int, Mask], explained: set[int]) -> Iterator[Finding]:
    """What the devices of the rig should have answered. explained: gets the addresses that this accounts for."""
    who = case.who
    for device in case.rig.devices_on(case.bus):
        possible = case.rig.target(device).part.i2c
        wanted = device.address
        if wanted is None or possible is None:
            continue
        if wanted in tried and wanted not in silent:
            count = int(np.count_nonzero(who.answered[tried[wanted]]))
            case.rule_out("address.no-answer", f"{wanted:#04x} answers, {count} of {int(np.count_nonzero(tried[wanted]))} times")
            continue
        shifted = next(
            ((a, s) for a in [wanted, *possible.addresses] for s in (2 * a & 0x7F, 2 * a + 1 & 0x7F) if s in silent), None
        )
        if shifted and wanted not in tried:
            explained.add(shifted[1])
            yield _shifted(case, device.name, *shifted, silent[shifted[1]])
            continue
        near = [a for a in (*possible.addresses, wanted - 1, wanted + 1) if a in silent]
        called = wanted if wanted in silent else near[0] if near else None
        if called is not None:
            explained.add(called)
            yield _no_answer(case, device.name, wanted, called, silent[called], sorted(set(tried) - set(silent)), possible.strap)


def _reserved(case: Case, silent: dict[int, Mask]) -> Iterator[Finding]:
    """Calls of addresses that no device has (I2C-bus specification, Reserved addresses); a scan that tries all of them is none."""
    found = [address for address in silent if 0 < address < 0x08 or address > 0x77]
    if not found or len(silent) >= SEARCH or case.as_wired.score < 0.9:
        return
    mask = np.logical_or.reduce([silent[address] for address in found])
    start, end, count = _when(case, mask)
    called = ", ".join(f"{address:#04x}" for address in found)
    yield case.found(
        "address.reserved", start=start, end=end, count=count, lines=case.names("sda"),
        evidence={"called": called, "source": "I2C-bus specification, Reserved addresses"}, called=called,
    )  # fmt: skip


def _meant(called: int) -> int | None:
    """The catalog address of which `called` is the 8-bit form; None where it may well be meant as it is, being that of a part itself."""
    own = [address for name in catalog_names() if (i2c := load(name).i2c) is not None for address in i2c.addresses]
    if called in own:
        return None
    return next((address for address in own if called in (2 * address & 0x7F, 2 * address + 1 & 0x7F)), None)


def _when(case: Case, mask: Mask) -> tuple[float, float, int]:
    table = case.table
    return case.seconds(int(table.start[mask][0])), case.seconds(int(table.end[mask][-1])), int(np.count_nonzero(mask))


def _shifted(case: Case, device: str | None, meant: int, called: int, mask: Mask) -> Finding:
    start, end, count = _when(case, mask)
    first = int(case.bytes.value[case.table.first[mask][0]])
    shown = {"called": f"{called:#04x}", "meant": f"{meant:#04x}", "first_byte": f"{first:#04x}"}
    return case.found(
        "address.shifted", device=device, start=start, end=end, count=count, lines=case.names("sda"), evidence={**shown, "refused": count},
        called=shown["called"], meant=shown["meant"], first=shown["first_byte"], doubled=f"{2 * meant:#04x}",
    )  # fmt: skip


LOOK = (
    "check the display's supply and ground first, then its reset line (held low?), the wires SCL and SDA up to its pins, and the strap",
    "the bus works, so look at the display: its supply, its reset line (held low?), and its address strap",
)


def _no_answer(case: Case, device: str | None, wanted: int, called: int, mask: Mask, others: list[int], strap: str) -> Finding:
    start, end, count = _when(case, mask)
    here = ", ".join(f"{address:#04x}" for address in others)
    return case.found(
        "address.neighbour" if called != wanted else "address.no-answer", device=device, start=start, end=end, count=count, lines=case.names("scl", "sda"),
        evidence={"called": f"{called:#04x}", "refused": count, "answering": [f"{address:#04x}" for address in others]},
        called=f"{called:#04x}", wanted=f"{wanted:#04x}", times=f"{count} time{'s' if count > 1 else ''}", expected=device or "",
        others=f", while {here} answer{'s' if len(others) == 1 else ''}" if others else "", look=LOOK[bool(others)],
        strap=f"; the strap: {strap}" if strap else "",
    )  # fmt: skip


def opcodes(case: Case) -> Iterator[Finding]:
    """Transfers that all begin with the opcode of another hardware address than a part has (MCP23S17 datasheet, "SPI Operations": 0100 A2 A1 A0)."""
    for bridge in case.bridges:
        able = bridge.chip.opcode
        select = select_for(case, bridge.select)
        channel = next((own for own in case.channels if own.select in ("", select)), None) if able is not None else None
        if able is None or channel is None or not len(channel.table):
            continue
        first = channel.words.value[channel.table.first[channel.table.first < len(channel.words)]].astype(np.int64)
        called = (first >> 1 & 7)[first >> 4 == OPCODE]
        own = int(np.count_nonzero(called == (bridge.address or 0)))
        if own or len(called) < CALLED or len(called) < MOSTLY_WORDS * len(first):
            if own:
                case.rule_out("address.neighbour", f"{own:,} opcodes are for '{bridge.name}'")
            continue
        other = int(np.bincount(called).argmax())
        start, end = case.span
        yield case.found(
            "address.neighbour", "opcode", device=bridge.name, lines=case.names("mosi"), start=start, end=end, count=len(called),
            evidence={"opcode": f"{OPCODE << 4 | other << 1:#04x}", "source": f"{bridge.chip.source}: {able.source}"}, called=other,
            times=f"{len(called):,} of them", wanted=bridge.address or 0, opcode=f"{OPCODE << 4 | (bridge.address or 0) << 1:#04x}", strap=able.strap,
        )  # fmt: skip


RULES = [Rule("address", answers, is_addressed), Rule("address", opcodes, has_selects)]
