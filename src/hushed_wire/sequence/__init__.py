"""The .hush language: sequences of controller commands by name, waits and pictures."""

from .expand import Step, Target, expand
from .parse import Statement, parse_file, parse_text

__all__ = ["Statement", "Step", "Target", "expand", "parse_file", "parse_text"]
