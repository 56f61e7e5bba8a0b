"""How the C library deals with the memory that blocks of a long capture need one after the other. Only glibc can be told; elsewhere nothing happens."""

from __future__ import annotations

import ctypes
from typing import Any

__all__ = ["LARGE", "give_back", "keep"]

LARGE = 4 << 20  # bytes from which on an array has pages of its own, which go back to the system with it
SPARE = 64 << 20  # bytes at the end of the heap that are kept for the next block, instead of being given back and zeroed anew
TRIM_THRESHOLD, MMAP_THRESHOLD = -1, -3  # numbers of mallopt (malloc.h)


def _library() -> Any:
    """The C library, None where it cannot be told."""
    try:
        library = ctypes.CDLL(None)
    except (TypeError, OSError):
        return None
    return library if hasattr(library, "mallopt") and hasattr(library, "malloc_trim") else None


def keep() -> None:
    """Has what a block leaves behind kept for the next one, in the whole process: for programs, not for libraries."""
    library = _library()
    if library is not None:
        library.mallopt(MMAP_THRESHOLD, LARGE)
        library.mallopt(TRIM_THRESHOLD, SPARE)


def give_back() -> None:
    """Gives back what lies free between what is kept: small things that stay would else pin whole blocks."""
    library = _library()
    if library is not None:
        library.malloc_trim(0)
