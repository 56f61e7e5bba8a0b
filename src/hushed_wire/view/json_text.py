"""JSON as the program writes it: one line a record, or indented for people; numbers of arrays stay on one line."""

from __future__ import annotations

import re
from typing import Any

import msgspec

__all__ = ["json_bytes"]

# Arrays of numbers and truth values stay on one line: a thousand bytes are not a thousand lines.
NUMBERS = re.compile(rb"\[\s+([-+.\deE,\struefalsn]+?)\s+\]")


def json_bytes(record: Any, pretty: bool = True) -> bytes:
    """A record as JSON, one key a line where it is read by people."""
    data = msgspec.json.encode(record, enc_hook=_plain)
    if pretty:
        data = NUMBERS.sub(lambda found: b"[" + b" ".join(found[1].split()) + b"]", msgspec.json.format(data, indent=2))
    return data + b"\n"


def _plain(value: Any) -> Any:
    """Array scalars as what they hold."""
    if hasattr(value, "item"):
        return value.item()
    raise NotImplementedError(type(value))
