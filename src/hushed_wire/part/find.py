"""Parts by what is known of a display: its size, its bus, its colour, what it shows, a name that it also has."""

from __future__ import annotations

import re

from ..errors import HushedError, nearest
from .describe import Part
from .wrap import BUS_OF

__all__ = ["HOLDS", "buses", "found", "holds"]

#: What a kind of memory holds, in words; a list of parts is sorted by it, in this order.
HOLDS = {
    "paged": "pixels in pages",
    "pixel": "colour pixels",
    "lettered": "pixels and characters",
    "paper": "e-paper",
    "character": "characters",
    "digit": "digits or dots",
    "dimmed": "brightness of LEDs",
    "chain": "colours of LEDs in a chain",
    "scanned": "none: LEDs",
    "port": "output pins",
}


def holds(part: Part) -> str:
    """What its memory holds, in words."""
    return "grey pixels" if part.grey else HOLDS[part.memory.kind]


def buses(framings: list[str]) -> list[str]:
    """The kinds of bus that some framings run on."""
    return list(dict.fromkeys(BUS_OF[name] for name in framings))


def found(parts: list[Part], words: list[str]) -> list[tuple[Part, list[str]]]:
    """The parts of which every word is true, by kind of memory and name; with each, those of its panels that the words speak of.

    A word is true of a part if a name of it, a word of its title, a bus or a word of what it holds begins with it, or if one of
    its panels has that size or colour; of these only the panels of which all such words are true remain. A colour part has no
    colour of its own. No words: all of them. Raises HushedError if nothing is left.
    """
    order = list(HOLDS)
    fitting = []
    spoken: set[str] = set()
    for part in sorted(parts, key=lambda part: (order.index(part.memory.kind), part.grey, part.name)):
        known = _words(part.name, *part.also, part.title, holds(part), *buses(part.framings))
        panels = {
            name: _words(name, "" if part.memory.kind == "pixel" and not part.grey else panel.colour)
            for name, panel in part.panels.items()
        }
        left = list(panels)
        spoken.update(known, *panels.values())
        for word in map(str.lower, words):
            if not any(other.startswith(word) for other in known):
                left = [name for name in left if any(other.startswith(word) for other in panels[name])]
                if not left:
                    break
        else:
            fitting.append((part, left))
    if not fitting:
        for word in words:
            if not any(other.startswith(word.lower()) for other in spoken):
                raise HushedError(
                    f"the catalog has nothing that is '{word}'",
                    where="--find",
                    remedy=nearest(
                        word, sorted(spoken), "ask by a size, a bus, a colour or a name, like 128x64, i2c, blue or st7066u"
                    ),
                )
        raise HushedError(f"no part of the catalog is {' and '.join(words)} at once", where="--find", remedy="ask by fewer words")
    return fitting


def _words(*texts: str) -> set[str]:
    """Of some texts, in lower case; a text is a word of its own, too, as 128x64-external is."""
    lower = [text.lower() for text in texts if text]
    return {word for text in lower for word in (text, *re.findall(r"[^\s,;]+", text), *re.findall(r"\w+", text))}
