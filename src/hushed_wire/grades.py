"""The grades of a finding and what a person may see of it, alone in a file so that an option can list them and nothing else is loaded."""

__all__ = ["CONFIDENCES", "GOOD", "NOT_JUDGED", "SEVERITIES", "SO_FAR", "SYMPTOMS", "WRONG"]

SEVERITIES = ("note", "warning", "fault")  # ascending
CONFIDENCES = ("possible", "likely", "certain")  # ascending
# What a diagnosis comes to: something is wrong; set-up, words and pictures were all judged and are right; nothing is wrong as far as it can be told, as some
# of it was assumed or came ahead of the capture; or a display that is meant was never spoken to, or none is known.
WRONG, GOOD, SO_FAR, NOT_JUDGED = "findings", "good", "good as far as it can be told", "not judged"
SYMPTOMS = ("blank", "blocks", "dim", "shifted", "mirrored", "garbled", "flicker", "flicker-on-camera-only")  # what a person sees
