"""The picture in the bytes: which way a byte stands, which way up the glass is, by the order of neighbours, or by what was known to be on it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["Fit", "best_fit", "everywhere", "turned"]

SURE = 0.98  # share of pixels that agree from which on a picture is the one that was shown
RIVAL = 0.75  # below it nothing is found


@dataclass(frozen=True)
class Fit:
    """How a picture in memory lies under the one that was known. agree: share of its pixels that are the same. rotate, mirror: as of a panel.
    inverse: what is 1 is dark. left, top: where the known picture begins within the other, as it is seen."""

    agree: float
    rotate: int = 0
    mirror: bool = False
    inverse: bool = False
    left: int = 0
    top: int = 0


def turned(pixels: NDArray[np.bool_], rotate: int, mirror: bool) -> NDArray[np.bool_]:
    """A picture as it lies in memory, as a panel so mounted shows it."""
    return np.rot90(pixels[:, ::-1] if mirror else pixels, -(rotate // 90))


def best_fit(pixels: NDArray[np.bool_], known: NDArray[np.bool_], written: NDArray[np.bool_]) -> Fit:
    """Of all ways to mount the glass the one under which it shows what was known, at any place of a larger memory, in either polarity.

    pixels: as they lie in memory. known: (height, width) as it was seen. written: which pixels of memory were written at all.
    """
    best = Fit(0.0)
    for rotate in (0, 90, 180, 270):
        for mirror in (False, True):
            own, seen = turned(pixels, rotate, mirror), turned(written, rotate, mirror)
            for fit in _placed(own, known, seen):
                if fit.agree > best.agree + 1e-9:
                    best = Fit(fit.agree, rotate, mirror, fit.inverse, fit.left, fit.top)
    return best


def _placed(own: NDArray[np.bool_], known: NDArray[np.bool_], written: NDArray[np.bool_]) -> Iterable[Fit]:
    """Every place at which the known picture lies within the other one, and both polarities: the best of them."""
    high, wide = own.shape[0] - known.shape[0], own.shape[1] - known.shape[1]
    if high < 0 or wide < 0:
        return []
    if not high and not wide:
        same = float(np.mean((own == known)[written])) if written.any() else 0.0
        return [Fit(same), Fit(1 - same, inverse=True)]
    bipolar = np.where(own, 1.0, -1.0) * written
    sums = everywhere(bipolar, np.where(known, 1.0, -1.0))
    counts = np.maximum(everywhere(written.astype(float), np.ones(known.shape)), 1.0)
    agree = (sums / counts + 1) / 2
    out = []
    for inverse, map_ in ((False, agree), (True, 1 - agree)):
        top, left = np.unravel_index(int(np.argmax(map_)), map_.shape)
        out.append(Fit(float(map_[top, left]), inverse=inverse, left=int(left), top=int(top)))
    return out


def everywhere(large: NDArray[np.float64], small: NDArray[np.float64]) -> NDArray[np.float64]:
    """The sum of products with the small array at each place where it lies within the large one, by the convolution theorem.

    What wraps around at the edges of the transform lies beyond these places."""
    product = np.fft.rfft2(large) * np.conj(np.fft.rfft2(small, large.shape))
    high, wide = large.shape[0] - small.shape[0] + 1, large.shape[1] - small.shape[1] + 1
    return np.fft.irfft2(product, large.shape)[:high, :wide]
