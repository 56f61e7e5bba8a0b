"""Diagnosis: from a capture and its rig to findings, the most likely cause first."""

from .verdict import Diagnosis, diagnose, judge

__all__ = ["Diagnosis", "diagnose", "judge"]
