"""One step of an alignment: robust weights free of gain and bias, the normal equations, and what they left over."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import CORES, run_halves
from . import align_rows
from .level import Level
from .middle import middle

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]

SLACK_PX = 0.5  # a misplacement that is not yet held against a pixel
WIDE = 4.685  # of Tukey's biweight, in robust deviations (95 % efficiency, Huber 1981)
WORTH_SHARING = {"sample_rows": 80_000, "normal_rows": 400_000}  # pixels; below it threads cost more than they give
LEAST_SEEN = 0.2  # of an area must be in view
LEAST_SLOPE = 2.5  # slopes of white noise alone have about the power of the noise
_F = np.float32


@dataclass(frozen=True)
class Tally:
    """Weight, and weighted means: power of area and view about their means, their product, rest and slopes;
    told is the share of the slopes in view that weighed."""

    weight: float
    own: float
    view: float
    both: float
    rest: float
    slope: float
    told: float


def tallied(level: Level, weighed: Weighed) -> Tally:
    sums = np.zeros(9)
    a, b, base, w, r, s = (
        part.reshape(-1)
        for part in (level.pixels, weighed.view, weighed.inside, weighed.weight, weighed.rest, level.slope)
    )
    align_rows.tally(a, b, base, w, r, s, sums)
    share = sums[:8] / np.append(1.0, np.full(7, max(sums[0], 1e-9)))
    total, p, q, pp, qq, pq, rest, slope = (float(v) for v in share)
    told = float(sums[7] / max(sums[8], 1e-12))
    return Tally(total, pp - p * p, qq - q * q, pq - p * q, rest, slope, told)


def drowned(tally: Tally, gain: float) -> bool:
    """Whether an area's slopes are hardly more than noise: slopes of noise alone pull toward no motion."""
    return not stands_out(tally, gain, LEAST_SLOPE)


def stands_out(tally: Tally, gain: float, times: float) -> bool:
    """Whether the slopes of both pictures have so many times the power of what is left over."""
    return tally.slope * (1 + gain**2) >= times * tally.rest


def on_rows(kernel: Callable[..., None], picture: Array, *arguments: object) -> None:
    """Runs a kernel over the rows of a picture, on all cores where that pays."""
    if picture.size < WORTH_SHARING[kernel.__name__]:
        kernel(0, picture.shape[0], *arguments)
    else:
        run_halves(kernel, picture.shape[0], *arguments)


def widened(basis: Matrix) -> Matrix:
    """What gain, bias and the numbers of a motion, (8, n), change of the ten that `stepped` works with. (11, n + 2)."""
    count = basis.shape[1]
    wide = np.zeros((11, count + 2))
    wide[:8, :count], wide[8, count], wide[9, count + 1] = basis, 1, 1
    return wide


def stepped(
    level: Level, weighed: Weighed, wide: Matrix, frame: tuple[Any, Any, Any], free: Matrix | None = None
) -> tuple[Matrix, Matrix | None]:
    """The normal equations, and the (3, 3) motion by which they would move the area, along the ways that are free;
    None where they have no end. The motion is `widened`."""
    sums, count = np.zeros((2 * CORES, 11, 11)), wide.shape[1]  # two a core: no two bands begin in the same
    on_rows(
        align_rows.normal_rows, weighed.view, level.pixels, level.across, level.down, weighed.view, weighed.weight,
        _F(weighed.gain), frame, sums,
    )  # fmt: skip
    some = np.eye(count)
    if free is not None:
        some = np.zeros((count, free.shape[1] + 2))
        some[:-2, :-2], some[-2, -2], some[-1, -1] = free, 1, 1
    try:
        square, step = align_rows.next_step(sums, wide, some)
    except np.linalg.LinAlgError:
        return np.zeros((count, count)), None
    if not np.isfinite(step).all() or np.abs(step).max() > 1:
        return square, None
    change = np.eye(3)
    change.reshape(-1)[:8] += step
    return square, change


@dataclass(frozen=True)
class Weighed:
    """An area against a view of it: robust weights, gain, and what is left over."""

    view: Array
    inside: Array
    weight: Array
    rest: Array
    gain: float


def weigh(level: Level, view: Array, seen: Array, scratch: list[Array], before: Weighed | None) -> Weighed | None:
    """Gain, bias and robust weights in turn, from those of the step before; None where too little is in view."""
    np.multiply(level.mask, seen, out=seen)
    inside = seen
    total = float(inside.sum())
    if total < LEAST_SEEN * level.total or total < 60:
        return None
    weight = inside if before is None else before.weight
    rest, power, near, out = scratch
    gain, sums = 1.0, np.zeros(5)
    sample = np.empty(near[::5, ::5].size, np.float32)
    narrow = 0.4 * WIDE * WIDE  # the mean over a neighbourhood strays less than a pixel
    pixels, flat = level.pixels.reshape(-1), view.reshape(-1)
    for _ in range(2 if before is None else 1):
        align_rows.moments(pixels, flat, weight.reshape(-1), sums)
        w, a, b, aa, ab = sums
        if w < 30:
            return None
        gain = min(max((ab - a * b / w) / max(aa - a * a / w, 1e-12), 0.3), 3.0)
        bias = (b - gain * a) / w
        align_rows.leave_rest(pixels, flat, _F(gain), _F(bias), rest.reshape(-1), power.reshape(-1))
        cv2.blur(power, (5, 5), near)
        count = align_rows.fifths(near, inside, sample)
        spread = middle(sample[:count] if count > 20 else near[inside > 0.01]) + 1e-8
        wide, slack = _F(narrow * spread), _F(narrow * (gain * SLACK_PX) ** 2)
        align_rows.robust(
            inside.reshape(-1), near.reshape(-1), level.slope.reshape(-1), wide, slack,
            out.reshape(-1),
        )  # fmt: skip
        weight = out
    return Weighed(view, inside, out, rest, gain)
