"""Character ROMs: which character a code shows, and which code shows a character.

Source: HD44780U datasheet, Table 4 (ROM codes A00 and A02). Written from knowledge of the tables; the least sure codes are the
symbols 90h-9Fh and A0h-B7h of A02, and the three kanji and the bar over x of A00. E9h of A00 is a superscript -1 in one cell; it is shown by
its sign, since a cell has one column.
"""

from __future__ import annotations

from functools import lru_cache

__all__ = ["ASCII_AT", "OWN", "ROMS", "codes_of", "shown_as"]

OWN = "₀₁₂₃₄₅₆₇"  # the user's own characters, codes 0 to 7 (and 8 to 15 again)
BLANK = " "
ASCII_AT = {"R": 0x80}  # of ROMs whose letters lie above their ASCII codes: how far

_ASCII = {code: chr(code) for code in range(0x20, 0x7E)}
_KATAKANA = "。「」、・ヲァィゥェォャュョッーアイウエオカキクケコサシスセソタチツテトナニヌネノハヒフヘホマミムメモヤユヨラリルレロワン゛゜"
_A00_END = "αäβεμσρg√⁻jˣ¢£ñöpqθ∞ΩüΣπx̄y千万円÷ █"
_A02_LOW = "►◄“”⏫⏬●↵↑↓→←≤≥▲▼"
_A02_80 = "БДЖЗИЙЛПУЦЧШЩЪЫЭα♪ΓπΣσ♬τ◔ΘΩδ∞♥ε∩‖¡¢£¤¥¦§ƒ©ª«ЮЯ®‘°±²³₧μ¶·ω¹º»¼½¾¿"


def _a00_end() -> dict[int, str]:
    """E0h to FFh; the bar over x is a character of two code points."""
    out, at, text = {}, 0xE0, _A00_END
    while text:
        length = 2 if len(text) > 1 and text[1] == "\u0304" else 1
        out[at], text, at = text[:length], text[length:], at + 1
    return out


ROMS: dict[str, dict[int, str]] = {
    "A00": _ASCII | {0x5C: "¥", 0x7E: "→", 0x7F: "←"} | {0xA1 + k: char for k, char in enumerate(_KATAKANA)} | _a00_end(),
    "half-width": _ASCII | {0x7E: "~"},  # of ST7920's HCGROM what everybody has; the codes below 20h are signs
    # Of PCF2119 what its upper half has for sure; the lower are other signs.
    "R": {ASCII_AT["R"] + code: char for code, char in _ASCII.items()},
    "A02": _ASCII
    | {0x7E: "~", 0x7F: "⌂"}
    | {0x10 + k: char for k, char in enumerate(_A02_LOW)}
    | {0x80 + k: char for k, char in enumerate(_A02_80)}
    | {code: chr(code) for code in range(0xC0, 0x100)},
}


def shown_as(rom: str, code: int) -> str:
    """The character that a code shows; one of `OWN` for the user's own, a blank where the ROM has none."""
    if code < 0x10:
        return OWN[code & 7]
    return ROMS[rom or "A00"].get(code, BLANK)


@lru_cache(maxsize=4)
def codes_of(rom: str) -> dict[str, int]:
    """Code by character, the lowest where several show it; the user's own by `OWN`."""
    out = {char: code for code, char in sorted(ROMS[rom or "A00"].items(), reverse=True)}
    if "°" not in out and "゜" in out:
        out["°"] = out["゜"]  # the ring of the katakana is what people use for degrees
    return out | {char: code for code, char in enumerate(OWN)}
