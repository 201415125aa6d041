"""Grain as it lies on a picture, against that of a plate: how strong in shadows, middle and lights, and how wide.

What lies on the picture is told by the picture without it, so that nothing of a scene counts as noise. Both are
compared at the picture's own levels: a plate's noise is another in the dark than in the light.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..shot.match import GrainModel
from .noise_shape import LAGS, TILE, autocorrelation, levelled, tiles_of

Array = NDArray[np.float32]
Range = Literal["shadows", "middle", "lights"]
RANGES: tuple[Range, ...] = ("shadows", "middle", "lights")
LEAST_SHARE = 0.05  # of all pixels that a range holds to be told
LEAST_TILES = 6  # that tell how wide a grain is
LEAST_SEEN = 0.5 / 255  # coded; two strengths that differ by less look alike
LEAST_RATIO, MOST_RATIO = 0.75, 1 / 0.75
LEAST_WIDER = 1.2  # times, that is seen as coarser; as much less is finer
LEAST_ALIKE = 0.1  # correlation of neighbours, below which noise is as fine as can be


class GrainCompared(NamedTuple):
    """own, plate : standard deviation, coded, of red, green and blue on a picture, and what a plate's is at the same
    levels. by_range : the same of all channels together where shadows, middle and lights hold enough. width : how many
    times as wide as the plate's a grain is; None where there is too little to tell."""

    own: tuple[float, float, float]
    plate: tuple[float, float, float]
    by_range: dict[Range, tuple[float, float]]
    width: float | None

    @property
    def strengths(self) -> tuple[float, float]:
        """Of the picture and of the plate, over all channels."""
        return _rms(self.own), _rms(self.plate)

    @property
    def ratio(self) -> float:
        """How many times as strong as the plate's it is."""
        own, plate = self.strengths
        return own / max(plate, 1e-9)

    @property
    def is_off(self) -> bool:
        """Whether it is seen to be of another strength than the plate's, in all or in a channel."""
        return unlike(*self.strengths) or any(map(unlike, self.own, self.plate))

    @property
    def off_ranges(self) -> tuple[Range, ...]:
        """The ranges in which it is."""
        return tuple(name for name, (own, plate) in self.by_range.items() if unlike(own, plate))

    @property
    def off_width(self) -> Literal["coarser", "finer"] | None:
        """Whether it is seen to be of another width than the plate's."""
        if self.width is None or 1 / LEAST_WIDER <= self.width <= LEAST_WIDER:
            return None
        return "coarser" if self.width > 1 else "finer"


def unlike(own: float, plate: float) -> bool:
    """Whether two strengths of grain are seen to differ.

    >>> unlike(0.0, 0.01), unlike(0.0105, 0.01), unlike(0.0, 0.001)
    (True, False, False)
    """
    ratio = own / max(plate, 1e-9)
    return not LEAST_RATIO <= ratio <= MOST_RATIO and abs(own - plate) > LEAST_SEEN


def compare_grain(
    before: Array,
    after: Array,
    mask: NDArray[np.bool_],
    plate: GrainModel,
    other: GrainModel | None = None,
    told: NDArray[np.bool_] | None = None,
) -> GrainCompared:
    """Grain on a picture against a plate's.

    Parameters
    ----------
    before, after : (h, w, 3) coded, without and with the grain. mask : (h, w), where it is looked at, not empty.
    plate : the plate's noise. other : noise that the picture before has of itself, as a filmed clip does; what few of
        its pixels show is not known well enough to tell ranges. told : which levels the plate has, evenly from 0 to 1;
        what it shows no noise of is in no range.

    Example
    -------
    >>> picture = np.full((48, 64, 3), 0.5, np.float32)
    >>> noise = np.random.default_rng(1).normal(0, 0.02, picture.shape).astype(np.float32)
    >>> plate = GrainModel(levels=(0.5,), deviation=((0.01, 0.01, 0.01),))
    >>> round(compare_grain(picture, picture + noise, np.ones((48, 64), bool), plate).ratio, 1)
    2.0
    """
    codes, laid = before[mask], after[mask] - before[mask]
    wanted, there = _variance(plate, codes), laid**2
    if other is not None:
        there = there + _variance(other, codes)
    own, theirs = np.sqrt(there.mean(axis=0)), np.sqrt(wanted.mean(axis=0))
    level = codes.mean(axis=1)
    third = np.clip((level * len(RANGES)).astype(int), 0, len(RANGES) - 1)
    if told is not None:
        third[~told[np.clip((level * len(told)).astype(int), 0, len(told) - 1)]] = len(RANGES)
    by_range: dict[Range, tuple[float, float]] = {}
    for k, name in enumerate(RANGES):
        some = third == k
        if other is None and some.mean() >= LEAST_SHARE:
            by_range[name] = float(np.sqrt(there[some].mean())), float(np.sqrt(wanted[some].mean()))
    return GrainCompared(
        (float(own[0]), float(own[1]), float(own[2])), (float(theirs[0]), float(theirs[1]), float(theirs[2])),
        by_range, _width(before, after, mask, plate),
    )  # fmt: skip


def _variance(model: GrainModel, codes: NDArray) -> NDArray[np.float64]:
    columns = [np.interp(codes[:, c], model.levels, [row[c] for row in model.deviation]) for c in range(3)]
    return np.asarray(np.stack(columns, axis=1) ** 2)


def _width(before: Array, after: Array, mask: NDArray[np.bool_], plate: GrainModel) -> float | None:
    """How many times as wide as the plate's what was laid is, over the tiles that lie in the mask wholly."""
    whole = tiles_of(mask[..., None]).all(axis=(1, 2, 3))
    if np.count_nonzero(whole) < LEAST_TILES:
        return None
    codes = tiles_of(before)[whole]
    strength = np.sqrt(_variance(plate, codes.reshape(-1, 3))).reshape(-1, TILE, TILE, 3)
    laid = levelled((tiles_of(after)[whole] - codes) / np.maximum(strength, 1e-5))
    if not np.all((laid**2).mean(axis=(0, 1, 2)) > 1e-4):  # nothing was laid
        return None
    return width_of(autocorrelation(laid)) / width_of(plate.spatial)


def width_of(spatial: tuple[tuple[float, ...], ...]) -> float:
    """The standard deviation in pixels of the soft blur that gives white noise as alike neighbours as these: the noise
    then correlates by exp(−1 / 4σ²).

    >>> round(width_of((tuple(np.exp(-(np.mgrid[-2:3, -2:3] ** 2).sum(axis=0) / 4).ravel()),)), 3)
    1.0
    """
    across = 2 * LAGS + 1
    beside, below = LAGS * across + LAGS + 1, (LAGS + 1) * across + LAGS
    alike = float(np.mean([(row[beside] + row[below]) / 2 for row in spatial]))
    return float(1 / np.sqrt(-4 * np.log(np.clip(alike, LEAST_ALIKE, 0.99))))


def _rms(values: tuple[float, float, float]) -> float:
    return float(np.sqrt(np.mean(np.square(values))))
