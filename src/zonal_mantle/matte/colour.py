"""The colour pull: a matte from likeness to sampled colours."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, fast_part
from ..shot.matte import ColourPull
from ..words import say
from .errors import MatteError
from .oklab import oklab, oklab_row

Array = NDArray[np.float32]


@fast_part
def _nearest(lab, ends, out):  # type: ignore[no-untyped-def]
    """Squared distance of each colour of a row to one run of colours, where it is less than `out`."""
    at, zero, one = np.uintp, np.float32(0), np.float32(1)
    px, py, pz = ends[0], ends[1], ends[2]
    dx, dy, dz = ends[3] - px, ends[4] - py, ends[5] - pz
    length = max(dx * dx + dy * dy + dz * dz, np.float32(1e-12))
    for x in range(at(out.shape[0])):
        k = at(3) * x
        a, b, c = lab[k] - px, lab[k + at(1)] - py, lab[k + at(2)] - pz
        t = min(max((a * dx + b * dy + c * dz) / length, zero), one)
        a, b, c = a - t * dx, b - t * dy, c - t * dz
        out[x] = min(out[x], a * a + b * b + c * c)


@fast_kernel
def _rows(y0, y1, pixels, added, taken, lightness, tolerance, slope, out):  # type: ignore[no-untyped-def]
    zero, one, width = np.float32(0), np.float32(1), pixels.shape[1]
    lab = np.empty(3 * width, np.float32)
    like, held = np.empty(width, np.float32), np.empty(width, np.float32)
    for y in range(y0, y1):
        oklab_row(pixels[y].reshape(-1), lightness, lab)
        like[:] = np.float32(1e12)
        held[:] = np.float32(1e12)
        for k in range(added.shape[0]):
            _nearest(lab, added[k], like)
        for k in range(taken.shape[0]):
            _nearest(lab, taken[k], held)
        for x in range(width):
            stays = min(max((np.sqrt(like[x]) - tolerance) * slope, zero), one)
            kept = min(max((np.sqrt(held[x]) - tolerance) * slope, zero), one)
            out[y, x] = one - (one - stays) * kept


def colour(pixels: Array, pull: ColourPull, frame: float = 0) -> Array:
    """Pulls a matte from likeness to samples.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    pull : its samples, tolerance and softness, in Oklab distance (black to white is 1).

    Returns
    -------
    (h, w) float32, 0 where a pixel is like an added sample and not like a subtracted one, 1 where it is like none.

    Raises
    ------
    MatteError : no sample was added.
    """
    if all(sample.subtract for sample in pull.samples):
        raise MatteError(say("The colour pull has no sample yet. Drag over a colour that is to go."))
    weight = pull.lightness.at(frame)
    runs: dict[bool, list[NDArray]] = {False: [], True: []}
    for sample in pull.samples:
        ends = oklab(np.array([sample.colour, sample.to or sample.colour]))
        ends[:, 0] *= weight
        runs[sample.subtract].append(ends.reshape(-1))
    added, taken = (np.array(runs[key], np.float32).reshape(-1, 6) for key in (False, True))
    out = np.empty(pixels.shape[:2], np.float32)
    slope = np.float32(1 / max(pull.softness.at(frame), 1e-6))
    limits = np.float32(weight), np.float32(pull.tolerance.at(frame)), slope
    run_bands(_rows, pixels.shape[0], pixels, added, taken, *limits, out)
    return out
