"""Numbers as displays show them: padded, signed, with a fixed point, in hex or as marks for bits. What does not fit is told, never cut."""

from __future__ import annotations

from decimal import ROUND_HALF_UP, Decimal, InvalidOperation

from ..errors import HushedError
from ..part.describe import Value

__all__ = ["FIELDS", "bcd", "shown"]

FIELDS = ("width", "pad", "sign", "places", "divide", "as", "marks", "group", "gap")
WIDEST = 80


def _count(fields: dict[str, Value], name: str, default: int, least: int = 0) -> int:
    value = fields.get(name, default)
    if not isinstance(value, int) or not least <= value <= 10**6 or (name in ("width", "places", "group") and value > WIDEST):
        raise HushedError(f"{name}={value}", remedy=f"a number, like {name}=4")
    return value


def shown(word: str, fields: dict[str, Value], free_point: bool = False) -> str:
    """A number's text. free_point: a decimal point takes no place of its own, as on digits. Raises HushedError where it overflows."""
    width = _count(fields, "width", 0)
    kind = str(fields.get("as", "dec"))
    if kind in ("hex", "bits"):
        return _word(word, fields, width, kind)
    if kind != "dec":
        raise HushedError(f"as={kind}", remedy="dec, hex or bits")
    try:
        value = Decimal(int(word, 0)) if word.lower().startswith(("0x", "0b")) else Decimal(word)
    except (InvalidOperation, ValueError) as error:
        raise HushedError(f"'{word}' is no number", remedy="like 42, -3.75 or 0x2A") from error
    if not value.is_finite():
        raise HushedError(f"'{word}' cannot be shown", remedy="a number that ends")
    divide = _count(fields, "divide", 1, least=1)
    places = _count(fields, "places", len(str(divide)) - 1 if divide > 1 else max(0, -int(value.as_tuple().exponent)))
    if places > 30 or abs(value.adjusted()) > WIDEST:
        raise HushedError(
            f"'{word}' with {places} places cannot be shown", remedy=f"at most {WIDEST} digits, 30 of them behind the point"
        )
    value = (value / divide).quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP)
    sign_asked = str(fields.get("sign", "minus"))
    if sign_asked not in ("minus", "always", "none"):
        raise HushedError(f"sign={sign_asked}", remedy="minus, always or none")
    if value < 0 and sign_asked == "none":
        raise HushedError(f"{value} is negative, and sign=none", remedy="leave sign out")
    digits = f"{abs(value):.{places}f}"
    sign = "-" if value < 0 else "+" if sign_asked == "always" else ""
    pad = str(fields.get("pad", " "))
    if len(pad) != 1:
        raise HushedError(f"pad={pad}", remedy="one character, like pad=0")
    room = width + (1 if free_point and "." in digits else 0)
    if width and len(sign) + len(digits) > room:
        raise HushedError(f"{sign}{digits} does not fit {width} places", remedy="more width, or fewer places")
    if pad == "0":
        return sign + digits.rjust(room - len(sign), "0")
    return (sign + digits).rjust(room, pad)


def _word(word: str, fields: dict[str, Value], width: int, kind: str) -> str:
    """Hex digits, or a mark a bit; negative numbers as two's complement of the width."""
    try:
        value = int(word, 0)
    except ValueError as error:
        raise HushedError(f"'{word}' is no whole number", remedy="like 42 or 0x2A") from error
    each = 4 if kind == "hex" else 1
    width = width or max(1, -(-value.bit_length() // each))
    room = 1 << width * each
    if not -room // 2 <= value < room:
        raise HushedError(f"{word} does not fit {width} {'hex digits' if kind == 'hex' else 'bits'}", remedy="more width")
    value %= room
    if kind == "hex":
        return f"{value:0{width}X}"
    marks, group, gap = str(fields.get("marks", "10")), _count(fields, "group", 0), str(fields.get("gap", " "))
    if len(marks) != 2:
        raise HushedError(f"marks={marks}", remedy='two characters, for 1 and for 0, like marks="#."')
    bits = [marks[0] if value >> k & 1 else marks[1] for k in reversed(range(width))]
    out = ""
    for number, mark in enumerate(bits):
        if group and number and (width - number) % group == 0:
            out += gap
        out += mark
    return out


def bcd(word: str) -> bytes:
    """Decimal digits packed two a byte, first digit in the high half; a single one ahead is a byte of its own."""
    if not word.isdecimal() or len(word) > 64:
        raise HushedError(f"'{word}' is no decimal number", remedy="like bcd:1925")
    return bytes.fromhex(word if len(word) % 2 == 0 else "0" + word)
