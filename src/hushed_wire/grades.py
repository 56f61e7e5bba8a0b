"""The grades of a finding and what a person may see of it, alone in a file so that an option can list them and nothing else is loaded."""

__all__ = ["CONFIDENCES", "SEVERITIES", "SYMPTOMS"]

SEVERITIES = ("note", "warning", "fault")  # ascending
CONFIDENCES = ("possible", "likely", "certain")  # ascending
SYMPTOMS = ("blank", "blocks", "dim", "shifted", "mirrored", "garbled", "flicker", "flicker-on-camera-only")  # what a person sees
