"""The I2C control byte (SSD1306 datasheet, 8.1.5.2): Co, D/C# and six zeros ahead of command or data bytes."""

from __future__ import annotations

__all__ = ["CONTINUES", "IS_DATA", "wrap_control_byte"]

CONTINUES, IS_DATA = 0x80, 0x40


def wrap_control_byte(data: bytes, is_data: bool) -> bytes:
    """One transaction's bytes behind the address; the twin of `framing.control_byte`."""
    return bytes([IS_DATA if is_data else 0]) + data
