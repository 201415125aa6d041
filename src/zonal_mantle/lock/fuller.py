"""What a simpler kind of motion cannot follow: a field found once more with all ways of moving."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.lock import Motion
from ..words import mark, say
from .align import Area, Fit
from .blur import Blur
from .chain import Adjusted
from .spread import beyond_noise

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]

SIZES = 2  # that are gone through; the place is nearly right
WORTH_SAYING_PX = 0.5
UNFOLLOWED = mark(
    "The field does not move by {moves} alone: on frame {frame} its corners are off by {px:.1f} px. Choose a fuller "
    "motion model."
)


def against_fuller(
    area: Area, feeds: list[Array], fit: Fit, moves: Motion, cover: Array | None,
    blur_of: Callable[[Matrix], Blur | None] = lambda matrix: None,
) -> Fit:  # fmt: skip
    """A fit that knows by how much the field's corners moved otherwise than its kind of motion can.

    Parameters
    ----------
    area, feeds, cover, blur_of : as `Area.find` had them; moves: the kind that `fit` was found with.

    Returns
    -------
    The fit with `misfit_px` and `fuller`; what is uneven is what no perspective explains. The same fit where its kind
    is the fullest, or where nothing fuller is found.
    """
    if moves == "perspective":
        return fit
    fuller = area.find(feeds, fit.homography, "perspective", cover, blur_of, SIZES)
    if fuller is None or fuller.covariance is None or fuller.basis is None:
        return fit
    apart = carry(fuller.homography, area.corners) - carry(fit.homography, area.corners)
    ends = (area.ends @ fuller.basis).reshape(2 * len(apart), -1)
    return replace(
        fit,
        misfit_px=beyond_noise(apart, ends @ fuller.covariance @ ends.T),
        uneven_px=min(fit.uneven_px, fuller.uneven_px),
        fuller=fuller,
    )


def misfits(found: Adjusted, fuller: Adjusted, corners: Matrix) -> dict[int, float]:
    """How far the corners (n, 2) of a field that stays moved otherwise, on each frame, than a chain of simpler motions
    has it, by one of fuller motions."""
    out = {}
    for frame, unsure in fuller.unsure.items():
        if frame in found.motions:
            between = fuller.motions[frame] @ np.linalg.inv(found.motions[frame])
            out[frame] = beyond_noise(carry(between, corners) - corners, unsure)
    return out


def unfollowed(misfits: dict[int, float], moves: Motion) -> tuple[str, ...]:
    """What is said of a lock whose field moves otherwise than its kind of motion can, by px a frame."""
    worst = max(misfits, key=lambda frame: misfits[frame], default=None)
    if worst is None or misfits[worst] < WORTH_SAYING_PX:
        return ()
    return (say(UNFOLLOWED, moves=say(moves), frame=worst, px=misfits[worst]),)
