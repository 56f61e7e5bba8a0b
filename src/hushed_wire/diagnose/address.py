"""Rules on addresses: who was called, and who answered."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..bus.i2c_address import SEARCH
from ..finding import Finding
from ..part import catalog_names, load
from .case import Case

__all__ = ["RULES"]

DEEPER = [
    "setup.display-off",
    "setup.charge-pump-off",
    "setup.wrong-geometry",
    "picture.blank",
    "picture.partial",
    "capture.unlike-rig",
]


def answers(case: Case) -> Iterator[Finding]:
    """Addresses that the driver calls and nobody acknowledges; those that are an expected address in its 8-bit form."""
    who = case.reading.addresses
    tried = {int(address): who.address == address for address in np.unique(who.address) if address >= 0}
    silent = {address: mask for address, mask in tried.items() if not who.answered[mask].any()}
    explained: set[int] = set()
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
    yield from _reserved(case, {address: mask for address, mask in silent.items() if address not in explained})
    if not explained and tried and len(silent) == len(tried) and not case.rig.devices_on(case.bus):
        if len(silent) >= SEARCH:
            yield _nobody(case, len(silent))
            return
        called = max(silent, key=lambda address: int(np.count_nonzero(silent[address])))
        meant = _meant(called)
        if meant is not None:
            yield _shifted(case, None, meant, called, silent[called])
        else:
            yield _no_answer(case, None, called, called, silent[called], [], "")


def _reserved(case: Case, silent: dict[int, np.ndarray]) -> Iterator[Finding]:
    """Calls of addresses that no device has (I2C-bus specification, Reserved addresses); a scan that tries all of them is none."""
    found = [address for address in silent if 0 < address < 0x08 or address > 0x77]
    if not found or len(silent) >= SEARCH or case.as_wired.score < 0.9:
        return
    mask = np.logical_or.reduce([silent[address] for address in found])
    start, end, count = _when(case, mask)
    yield Finding(
        "address.reserved", f"the driver calls {', '.join(f'{address:#04x}' for address in found)}, which is reserved: no display has such an address",
        "look where the driver takes the address from: a shifted one, one in decimal, or a constant of another part",
        start=start, end=end, count=count, lines=case.names("sda"),
        evidence={"called": ", ".join(f"{address:#04x}" for address in found), "source": "I2C-bus specification, Reserved addresses"},
        explains=["capture.unlike-rig", "address.no-answer"],
    )  # fmt: skip


def _nobody(case: Case, tried: int) -> Finding:
    """A scan that found nothing."""
    return Finding(
        "address.no-answer",
        f"none of the {tried} addresses that were tried answers",
        "check the supply and ground of the devices first, then the wires SCL and SDA up to their pins, and whether they are exchanged",
        lines=case.names("scl", "sda"), start=case.seconds(case.trace.start), end=case.seconds(case.trace.end), count=tried,
        evidence={"addresses_tried": tried, "answering": []}, explains=DEEPER,
    )  # fmt: skip


def _meant(called: int) -> int | None:
    """The catalog address of which `called` is the 8-bit form."""
    for name in catalog_names():
        i2c = load(name).i2c
        for address in i2c.addresses if i2c else []:
            if called in (2 * address & 0x7F, 2 * address + 1 & 0x7F):
                return address
    return None


def _when(case: Case, mask: np.ndarray) -> tuple[float, float, int]:
    table = case.reading.transactions
    return case.seconds(int(table.start[mask][0])), case.seconds(int(table.end[mask][-1])), int(np.count_nonzero(mask))


def _shifted(case: Case, device: str | None, meant: int, called: int, mask: np.ndarray) -> Finding:
    start, end, count = _when(case, mask)
    first = int(case.reading.decoded.words.value[case.reading.transactions.first[mask][0]])
    return Finding(
        "address.shifted",
        f"the driver calls {called:#04x}, which nobody answers; that is {meant:#04x} shifted left once too often",
        f"give the driver the 7-bit address {meant:#04x}: {2 * meant:#04x} is its 8-bit form, which this driver's interface shifts again "
        f"(the byte on the wire is {first:#04x}, it should be {2 * meant:#04x})",
        device=device, start=start, end=end, count=count, lines=case.names("sda"),
        evidence={"called": f"{called:#04x}", "meant": f"{meant:#04x}", "first_byte": f"{first:#04x}", "refused": count},
        explains=["address.no-answer", *DEEPER],
    )  # fmt: skip


def _no_answer(
    case: Case,
    device: str | None,
    wanted: int,
    called: int,
    mask: np.ndarray,
    others: list[int],
    strap: str,
) -> Finding:
    start, end, count = _when(case, mask)
    text = f"{called:#04x} is called {count} time{'s' if count > 1 else ''} and never acknowledged"
    steps = []
    if called != wanted:
        text += f"; the rig expects '{device}' at {wanted:#04x}"
        steps.append(f"let the driver call {wanted:#04x}, or correct the rig")
    if others:
        text += f", while {', '.join(f'{address:#04x}' for address in others)} answer{'s' if len(others) == 1 else ''}"
        steps.append("the bus works, so look at the display: its supply, its reset line (held low?), and its address strap")
    else:
        steps.append(
            "check the display's supply and ground first, then its reset line (held low?), the wires SCL and SDA up to its pins, and the strap"
        )
    if strap:
        steps.append(f"the strap: {strap}")
    return Finding(
        "address.neighbour" if called != wanted else "address.no-answer", text, "; ".join(steps), device=device, start=start, end=end, count=count,
        lines=case.names("scl", "sda"),
        evidence={"called": f"{called:#04x}", "refused": count, "answering": [f"{address:#04x}" for address in others]},
        explains=DEEPER,
    )  # fmt: skip


RULES = [answers]
