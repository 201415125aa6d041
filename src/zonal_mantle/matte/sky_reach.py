"""How far a pixel lies from the frame's top in colour: the least sum of squared steps on any way there."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..media.compiled import kernel

Array = NDArray[np.float32]


def reach(picture: Array, spare: np.float32, said: Array | None = None) -> Array:
    """The least sum of squared steps of colour from the first row, or from what is said to be sky, never through what
    is said not to be.

    Parameters
    ----------
    picture : (h, w, 3) float32, coded. spare : of a squared step, taken off each one, as noise is.
    said : (h, w), above 0 sky, below 0 not; see `sky_region.drawn`.

    Returns
    -------
    (h, w) float32. A step of d in one pixel adds d², spread evenly over n pixels d²/n.
    """
    out = np.empty(picture.shape[:2], np.float32)
    _reach(picture, spare, np.zeros_like(out) if said is None else said, out)
    return out


@kernel
def _reach(smooth, spare, said, out):  # type: ignore[no-untyped-def]
    """The least sum of squared steps from the top, or from what is said to be sky, never through what is said not."""
    h, w = out.shape
    for y in range(h):
        for x in range(w):
            out[y, x] = np.float32(0) if y == 0 or said[y, x] > 0 else np.float32(1e6)
            if said[y, x] < 0:
                out[y, x] = np.float32(1e6)
    across, down = np.empty((h, w), np.float32), np.empty((h, w), np.float32)
    for y in range(h):
        for x in range(w):
            for way in range(2):
                v, u = min(y + way, h - 1), min(x + 1 - way, w - 1)
                total = np.float32(0)
                for c in range(3):
                    step = smooth[v, u, c] - smooth[y, x, c]
                    total += step * step
                total = max(total / np.float32(3) - spare, np.float32(0))
                if said[y, x] < 0 or said[v, u] < 0:
                    total = np.float32(1e6)
                if way == 0:
                    across[y, x] = total
                else:
                    down[y, x] = total
    for _ in range(6):
        for y in range(h):
            for x in range(w):
                if y > 0:
                    out[y, x] = min(out[y, x], out[y - 1, x] + down[y - 1, x])
                if x > 0:
                    out[y, x] = min(out[y, x], out[y, x - 1] + across[y, x - 1])
            for x in range(w - 2, -1, -1):
                out[y, x] = min(out[y, x], out[y, x + 1] + across[y, x])
        for y in range(h - 2, -1, -1):
            for x in range(w):
                out[y, x] = min(out[y, x], out[y + 1, x] + down[y, x])
                if x > 0:
                    out[y, x] = min(out[y, x], out[y, x - 1] + across[y, x - 1])
            for x in range(w - 2, -1, -1):
                out[y, x] = min(out[y, x], out[y, x + 1] + across[y, x])
