"""Unravelling a display that no datasheet describes: its wires, how it takes pictures, whose relative it may be."""
