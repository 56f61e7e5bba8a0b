"""What a transfer to a bridge means: the outputs that it puts out, by the roles that they play, or the registers that it writes."""

from __future__ import annotations

from ..bus.channel import Channel
from ..part.expander import state_of
from ..part.output_pins import pins_of
from ..part.wrap import Send
from ..rig.schema import Bridge, Rig
from ..sequence.listing import as_hush, items_of

__all__ = ["bridge_said"]

MOST = 64  # words of a transfer that are looked at


def bridge_said(rig: Rig, own: Channel, index: int) -> str:
    """Of a transfer in a channel of a bus; "" where it is for no bridge, or reads."""
    bridge = _reached(rig, own, index)
    if bridge is None or (own.who is not None and bool(own.who.read[index])):
        return ""
    first = int(own.who.first[index]) if own.who is not None else int(own.table.first[index])
    wide = (own.bits + 7) // 8
    raw = b"".join(int(word).to_bytes(wide, "big") for word in own.words.value[first : int(own.table.last[index])][-MOST:])
    chip = bridge.chip
    if chip.memory.expander is not None:
        if chip.opcode is not None:
            raw = raw[1:]  # the opcode
        items = items_of(chip, [Send(False, raw)]) if raw else []
        return "; ".join(as_hush(item.name, item.fields) if item.is_command else item.name for item in items)
    if len(raw) < bridge.count * chip.memory.ports:
        return ""
    state = state_of(chip, raw, bridge.count)
    pins = pins_of(chip, bridge.count)
    high = [role.upper() for role, pin in bridge.drives.items() if state >> pins[pin] & 1]
    return f"high: {' '.join(high)}" if high else "all low"


def _reached(rig: Rig, own: Channel, index: int) -> Bridge | None:
    """The bridge that a transfer is for."""
    for bridge in rig.bridge:
        if bridge.on != own.bus:
            continue
        if own.who is not None:
            if int(own.who.address[index]) == bridge.address and bool(own.who.answered[index]):
                return bridge
        elif not bridge.select or bridge.select == own.select:
            return bridge
    return None
