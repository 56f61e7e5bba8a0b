"""Captures: lines over time, their files, their statistics, and what can be done to them on purpose."""

from .files import Source, open_capture, read_capture
from .merge import merge
from .model import Edges, Note, Trace, fold, joined

__all__ = ["Edges", "Note", "Source", "Trace", "fold", "joined", "merge", "open_capture", "read_capture"]
