"""The .hush language: sequences of controller commands by name, waits, lines, pictures and text."""

from .expand import expand
from .parse import Statement, parse_file, parse_text
from .target import Step, Target

__all__ = ["Statement", "Step", "Target", "expand", "parse_file", "parse_text"]
