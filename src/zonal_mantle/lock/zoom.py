"""Whether the picture grows or shrinks over a shot, as it does where the lens zooms: a pan lock knows one focal length.

A camera that turns shows things equally large where they lie as far from the middle of both frames: there the
homography K R K⁻¹ keeps areas, whatever the focal length (Hartley & Zisserman 2004, section 8.4.2, for the homography).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..words import say

Matrix = NDArray[np.float64]
LEAST = 0.05  # by which it grows; a lens that bends does as much
HALVINGS = 30
FAR = 1.5  # widths from the middle of the frame, beyond which that of another says nothing


class Grown(NamedTuple):
    """By how many times things are larger on a frame than on the reference frame."""

    times: float
    frame: int

    def words(self, start: int) -> str:
        """What is seen, and what helps."""
        return say(
            "From frame {start} to frame {frame} the picture scales to {times:.0%}: the lens zooms, or the camera "
            "moves along its view. A pan lock knows one focal length. Use a plane lock with a field that stays.",
            times=self.times,
            start=start,
            frame=self.frame,
        )


def grown(motions: dict[int, Matrix], size: tuple[int, int]) -> Grown | None:
    """The frame on which things are largest or smallest; None where they hardly change.

    Parameters
    ----------
    motions : the reference frame to each, (3, 3). size : width and height of a frame, px.

    Example
    -------
    >>> round(grown({5: np.array([[1.2, 0, -64], [0, 1.2, -36], [0, 0, 1.0]])}, (640, 360)).times, 3)
    1.2
    """
    middle = np.array([size[0] / 2, size[1] / 2])
    out = [
        Grown(_times(motion, middle), frame)
        for frame, motion in motions.items()
        if _ahead(motion, middle) and np.linalg.norm(_middle_of(motion, middle) - middle) < FAR * size[0]
    ]
    most = max(out, key=lambda each: abs(np.log(each.times)), default=None)
    return most if most is not None and abs(np.log(most.times)) > np.log(1 + LEAST) else None


def _ahead(motion: Matrix, middle: NDArray[np.float64]) -> bool:
    """Whether the middle of a frame lies before the camera of the reference frame."""
    back = np.linalg.inv(motion) * np.sign(np.linalg.det(motion))  # K R K⁻¹ has a determinant of 1
    return float(np.append(middle, 1) @ back[2]) > 0


def _middle_of(motion: Matrix, middle: NDArray[np.float64]) -> NDArray[np.float64]:
    """Where the middle of a frame lies on the reference frame."""
    return np.asarray(carry(np.linalg.inv(motion), middle[None])[0])


def _times(motion: Matrix, middle: NDArray[np.float64]) -> float:
    """How much larger things are, the square root of areas, where they lie as far from the middle of both frames."""
    there = _middle_of(motion, middle)
    low, high = 0.0, 1.0  # from the middle of one frame to that of the other, on the first
    for _ in range(HALVINGS):
        share = (low + high) / 2
        at = middle + share * (there - middle)
        nearer = np.linalg.norm(at - middle) < np.linalg.norm(carry(motion, at[None])[0] - middle)
        low, high = (share, high) if nearer else (low, share)
    below = float(motion[2, :2] @ at + motion[2, 2])
    return float(np.sqrt(abs(np.linalg.det(motion)) / abs(below) ** 3))
