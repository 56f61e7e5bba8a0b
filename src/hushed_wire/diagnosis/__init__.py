"""Diagnosis: from a capture and its rig to findings, the most likely cause first."""

from .verdict import Diagnosis, diagnose, judge, nothing_known

__all__ = ["Diagnosis", "diagnose", "judge", "nothing_known"]
