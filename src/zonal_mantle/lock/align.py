"""Direct alignment of an area of one frame with another: coarse to fine, robust, free of gain and bias."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import between_centres
from ..media.bands import run_bands
from ..shot.lock import Motion
from ..words import say
from . import align_rows
from .blur import Blur
from .level import Level, from_arrays, level_of, shrunk_to, sloped, smeared_part, to_arrays
from .spread import CORRELATED, SHUTTER_GIVE, bend_of, by_blocks, left_of, mean_trace, moved_by, pulled, uneven_of
from .step import LEAST_SLOPE, Tally, Weighed, drowned, on_rows, stands_out, stepped, tallied, weigh, widened
from .told import CELLS, UNKNOWN, Told, told_of

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]

LEAST_SIDE_PX = 24  # an area is not made smaller than this on the way to coarse
MOST_LEVELS = 5
LEARNT_PX = 6.0  # a shutter is learnt where a frame moves by less, at the size looked at: a streak is short there
PICTURE_PX = 0.03  # by which pictures themselves are off: lens, sensor, resampling; measured on resampled photographs
FINEST_PX = 0.003  # no place is known better
NOISE_GROWS = 2.0
CLEAR = 15.0  # slopes to noise at half size, above which unlike blur does more harm than noise

CORNERS = np.array([[-1, -1, 1], [1, -1, 1], [1, 1, 1], [-1, 1, 1.0]])

# how each kind of motion moves the eight numbers of a homography: a b c / d e f / g h
BASES: dict[Motion, NDArray[np.float64]] = {
    "translation": np.eye(8)[:, [2, 5]],
    "similarity": np.stack(
        [np.eye(8)[2], np.eye(8)[5], np.eye(8)[0] + np.eye(8)[4], np.eye(8)[1] - np.eye(8)[3]], axis=1
    ),
    "affine": np.eye(8)[:, :6],
    "perspective": np.eye(8),
}

_FULLEST: tuple[Motion, ...] = ("perspective", "affine", "similarity", "translation", "translation")
_ORDER: tuple[Motion, ...] = ("translation", "similarity", "affine", "perspective")


def _allowed(motion: Motion, k: int) -> Motion:
    """The motion that is looked for at a size: what is coarse shows little of turn and perspective, and would throw
    away what the guess knows of them."""
    return min(motion, _FULLEST[k], key=_ORDER.index)


_F = np.float32


@dataclass(frozen=True)
class Fit:
    """Where an area was found.

    homography : (3, 3), the area's frame to the other, in its pixels.
    likeness : weighted correlation, 0…1; kept: the share of the area that was alike and in view.
    uncertainty_px : standard error of the area's corners. uneven_px: how far parts of the area lie from where the
        whole puts them, beyond their noise.
    gain : contrast of the other frame against the area's. told: the share of what is in view, by its slopes, that was
        believed. seen: the share of the area that is in view and not left out. left: what it says of the shutter,
        see `blur.Exposure.learn`. covariance: of what the motion has of the eight numbers of a homography, about the
        area's centre and in units of half its longer side; basis: (8, n), which these are. firm_px: uncertainty_px
        along the ways that the picture tells at the size that was looked at. misfit_px: how far the area's corners
        moved otherwise than the kind of motion can; fuller: the same area found with all ways of moving. Both are told
        by `fuller.against_fuller`.
    """

    homography: Matrix
    likeness: float
    kept: float
    uncertainty_px: float
    uneven_px: float
    gain: float
    told: float = 1.0
    seen: float = 1.0
    left: tuple[float, float, float] = (0.0, 0.0, 0.0)
    covariance: Matrix | None = None
    basis: Matrix | None = None
    firm_px: float = 0.0
    misfit_px: float = 0.0
    fuller: Fit | None = None

    @property
    def residual_px(self) -> float:
        """What the fit knows of its own error, px, and what no picture lets it know."""
        return float(np.sqrt(self.uncertainty_px**2 + self.uneven_px**2 + self.misfit_px**2 + PICTURE_PX**2))

    @property
    def firm_residual_px(self) -> float:
        """The same along the ways of moving that the picture tells."""
        return float(np.sqrt(self.firm_px**2 + self.uneven_px**2 + PICTURE_PX**2))


@dataclass(frozen=True)
class State:
    """Where the search stands at one size: the normal equations by which it moved last, in the ways of moving that the
    picture tells or not."""

    level: Level
    weighed: Weighed
    step: int
    square: Matrix
    basis: Matrix
    tally: Tally
    frame: tuple[np.float32, np.float32, np.float32]
    told: Told
    coarser: State | None = None


class Area:
    """An area of one frame, ready to be found on others.

    Parameters
    ----------
    feeds : the frame's `pyramid`.
    mask : (h, w) float32, 0…1, what of the frame belongs to the area.
    box : whose corners an error is told for (left, top, right, bottom); the mask's by default.

    Raises
    ------
    ValueError : the mask holds fewer than 100 pixels.
    """

    def __init__(self, feeds: list[Array], mask: Array, box: tuple[int, int, int, int] | None = None) -> None:
        rows, columns = np.flatnonzero(mask.max(axis=1) > 0.01), np.flatnonzero(mask.max(axis=0) > 0.01)
        if len(rows) == 0 or float(mask.sum()) < 100:
            raise ValueError(say("The area is too small."))
        self.box = box or (int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1)
        x0, y0, x1, y1 = self.box
        self.centre = np.array([(x0 + x1) / 2, (y0 + y1) / 2])
        self.unit = max(x1 - x0, y1 - y0) / 2
        self.corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], float)
        self.levels: list[Level] = []
        self.pictures = feeds
        for k, feed in enumerate(feeds):
            step = 2**k
            if k and min(x1 - x0, y1 - y0) / step < LEAST_SIDE_PX:
                break
            self.levels.append(level_of(feed, mask, self.box, step))
        self._at_cells: dict[int, Matrix] = {}
        self._scratch = [[np.empty_like(level.pixels) for _ in range(6)] for level in self.levels]

    @property
    def contrast(self) -> float:
        """Standard deviation within the area, coded values."""
        level = self.levels[0]
        return float(np.sqrt(max(np.average((level.pixels - _mean(level)) ** 2, weights=level.mask), 0)))

    def mask_through(self, motion: Matrix, size: tuple[int, int]) -> Array:
        """The area's mask where a motion takes it, (height, width)."""
        way = between_centres(motion)
        shift = np.eye(3)
        shift[:2, 2] = self.levels[0].origin
        return np.asarray(cv2.warpPerspective(self.levels[0].mask, way @ shift, size), np.float32)

    def whole_mask(self) -> Array:
        """What of its own frame belongs to the area, (h, w)."""
        out = np.zeros(self.pictures[0].shape, np.float32)
        (x0, y0), mask = self.levels[0].origin, self.levels[0].mask
        out[y0 : y0 + mask.shape[0], x0 : x0 + mask.shape[1]] = mask
        return out

    def unlike(self, feeds: list[Array], motion: Matrix, cover: Array | None = None) -> Array | None:
        """What of the area, on its own frame, is in view on another and does not look as a motion says, (h, w), 0…1;
        None where too little is in view."""
        k = min(1, len(self.levels) - 1)
        level, (height, width) = self.levels[k], self.pictures[0].shape
        done = self._refine(level, k, feeds[k], motion, "translation", cover, most=1)
        if done is None:
            return None
        small, state = np.zeros(self.pictures[k].shape, np.float32), done[1]
        x0, y0 = level.origin
        rows, columns = level.pixels.shape
        small[y0 : y0 + rows, x0 : x0 + columns] = state.weighed.inside - state.weighed.weight
        return np.asarray(cv2.resize(small, (width, height), interpolation=cv2.INTER_LINEAR), np.float32)

    def start(self, feeds: list[Array], guess: Matrix, reach: float = 0.25) -> Matrix:
        """A guess with the shift that looks most alike at the coarsest size, within a share of the frame's width."""
        step = 2 ** (len(self.levels) - 1)
        level, feed = self.levels[-1], feeds[len(self.levels) - 1]
        half = round(reach * feed.shape[1])
        height, width = level.pixels.shape
        wide = np.zeros((height + 2 * half, width + 2 * half), np.float32)
        seen = np.zeros_like(wide)
        way = to_arrays(guess, (level.origin[0] - half, level.origin[1] - half), step)
        run_bands(align_rows.sample_rows, wide.shape[0], feed, way, wide, seen)
        alike = cv2.matchTemplate(wide, level.pixels, cv2.TM_CCOEFF_NORMED, mask=np.ascontiguousarray(level.mask))
        alike = np.where(np.isfinite(alike) & (alike <= 1.01), alike, -1)
        share = cv2.matchTemplate(seen, level.mask, cv2.TM_CCORR) / max(float(level.mask.sum()), 1)
        alike[share < 0.5] = -1
        y, x = np.unravel_index(int(np.argmax(alike)), alike.shape)
        shift = np.eye(3)
        shift[:2, 2] = (x - half) * step, (y - half) * step
        return guess @ shift

    def find(
        self, feeds: list[Array], guess: Matrix, motion: Motion = "perspective", cover: Array | None = None,
        blur_of: Callable[[Matrix], Blur | None] = lambda matrix: None, top: int | None = None,
    ) -> Fit | None:  # fmt: skip
        """Finds the area on another frame, from a guess; None where the search runs away.

        Parameters
        ----------
        feeds : the other frame's `pyramid`.
        guess : (3, 3), the area's frame to the other.
        cover : (h, w) float32, what of the other frame counts; all of it by default.
        blur_of : from where the area is nearly found, how its own frame and the other move: at full size both are
            made alike in their blur; None where that is not known.
        top : how many sizes are gone through, all of them by default; `feeds` may hold no more.

        References
        ----------
        Efficient second-order minimisation: Benhimane & Malis 2004. Gain and bias as unknowns of the linear system, and
        robust weights: Baker & Matthews 2004. The weights look at the error of a small neighbourhood, since what passes
        in front is a thing and not a speck.
        """
        matrix, state, finest = np.array(guess, float), None, 0
        last: tuple[Blur | None, float] = (None, 0.0)
        pair, left = (self.levels[0], feeds[0]), (0.0, 0.0, 0.0)
        top = len(self.levels) if top is None else min(top, len(self.levels))
        for k in range(top - 1, -1, -1):
            if state is not None and self._hopeless(k, state):
                finest = k + 1
                break
            level, feed, made = self.levels[k], feeds[k], 0.0
            blur = blur_of(matrix) if state is not None or k == 0 or top < len(self.levels) else None
            clear = state is None or stands_out(state.tally, state.weighed.gain, CLEAR)
            if blur is not None and not last[1] and blur.is_unlike(2 ** (k + 1)):
                clear = True  # what the size before left over is blur, not noise
            if clear and blur is not None and blur.is_unlike(2**k):
                level, feed = self._alike(k, feed, matrix, blur)
                made = blur.share
            done = self._refine(level, k, feed, matrix, _allowed(motion, k), cover, state is not None)
            if done is None:
                return None
            if state is not None and drowned(done[1].tally, done[1].weighed.gain):
                finest = k + 1  # slopes of noise: the size before says more
                break
            done = self._kept_where_untold(done, k, feed, matrix, _allowed(motion, k), cover)
            if done is None:
                return None
            matrix, state, pair = done[0], replace(done[1], coarser=state), (level, feed)
            if blur is not None:
                last = blur, made
                if not left[1] or max(blur.own.length, blur.other.length) <= LEARNT_PX * 2**k:
                    left = left_of(blur, made, state)
        if finest and _allowed(motion, finest) != motion:
            done = self._refine(pair[0], finest, pair[1], matrix, motion, cover)
            done = done and self._kept_where_untold(done, finest, pair[1], matrix, motion, cover)
            if done is None:
                return None
            matrix, state = done[0], replace(done[1], coarser=state)
        assert state is not None
        return replace(self._judge(matrix, state, *last), left=left)

    def _kept_where_untold(
        self, done: tuple[Matrix, State], k: int, feed: Array, matrix: Matrix, motion: Motion, cover: Array | None
    ) -> tuple[Matrix, State] | None:
        """What was found at a size, looked for once more without the ways of moving that it does not tell."""
        free = done[1].told.free
        if free is None:
            return done
        return self._refine(done[1].level, k, feed, matrix, motion, cover, free=free)

    def sizes_for(self, blur: Blur) -> int:
        """How many sizes must be gone through, from a place that is nearly right, to learn a shutter; two at least."""
        longest = max(blur.own.length, blur.other.length)
        return int(np.clip(np.ceil(np.log2(max(longest, 1.0) / LEARNT_PX)) + 1, 2, len(self.levels)))

    def _alike(self, k: int, feed: Array, matrix: Matrix, blur: Blur) -> tuple[Level, Array]:
        """The area at a size blurred as the other frame is, and the other frame, near the area, as the area's is."""
        step = 2**k
        own, other = (each / step for each in blur.streaks)
        level = self.levels[k]
        height, width = level.pixels.shape
        x0, y0 = level.origin
        pixels = smeared_part(self.pictures[k], (x0, y0, x0 + width, y0 + height), other)
        places = np.nan_to_num(cv2.perspectiveTransform(self.corners[None], matrix)[0]) / step
        (left, top), (right, bottom) = np.floor(places.min(axis=0)) - 8, np.ceil(places.max(axis=0)) + 8
        most_y, most_x = feed.shape
        part = tuple(int(v) for v in np.clip((left, top, right, bottom), 0, (most_x, most_y, most_x, most_y)))
        soft = feed.copy()
        if part[0] < part[2] and part[1] < part[3]:
            soft[part[1] : part[3], part[0] : part[2]] = smeared_part(feed, part, own)
        return sloped(level.origin, pixels, level.mask), soft

    def _hopeless(self, k: int, coarser: State) -> bool:
        """Whether the slopes at a size would drown in noise, which grows at least twofold from the size before."""
        level = self.levels[k]
        slope = float((level.mask * level.slope).sum()) / max(level.total, 1e-6)
        return slope * (1 + coarser.weighed.gain**2) < LEAST_SLOPE * NOISE_GROWS * coarser.tally.rest

    def _refine(
        self, level: Level, k: int, feed: Array, matrix: Matrix, motion: Motion, cover: Array | None,
        may_drown: bool = False, most: int = 0, free: Matrix | None = None,
    ) -> tuple[Matrix, State] | None:  # fmt: skip
        """Steps at one size until it stands; where it may drown in noise, no farther than to see that it does. `free`
        are the ways of moving that count, all by default."""
        step = 2**k
        cover = None if cover is None else shrunk_to(cover, feed.shape)
        basis, unit = BASES[motion], self.unit / step
        centre = (self.centre / step) - level.origin - 0.5
        frame = (_F(centre[0]), _F(centre[1]), _F(unit))
        view, seen, *scratch = self._scratch[k]
        least, usual = ((0.01, 6), (0.04, 12), (0.1, 15))[min(k, 2)]
        norm, wide = np.array([[unit, 0, centre[0]], [0, unit, centre[1]], [0, 0, 1]]), widened(basis)
        back = np.linalg.inv(norm)
        way = to_arrays(matrix, level.origin, step)
        before, weighed = 0.0, None
        for turn in range(most or usual):
            on_rows(align_rows.sample_rows, view, feed, way, view, seen)
            if not seen.all():
                cv2.erode(seen, np.ones((3, 3), np.uint8), seen)  # a slope needs both its sides
            if cover is not None:
                size, flags = (view.shape[1], view.shape[0]), cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
                seen *= cv2.warpPerspective(cover, way, size, flags=flags)
            weighed = weigh(level, view, seen, scratch, weighed)
            if weighed is None:
                return None
            square, change = stepped(level, weighed, wide, frame, free)
            if change is None:
                return None
            ends = CORNERS @ change.T
            moved = float(np.abs(ends[:, :2] / ends[:, 2:] - CORNERS[:, :2]).max()) * unit
            way = way @ norm @ change @ back
            if may_drown and turn == 1 and drowned(tallied(level, weighed), weighed.gain):
                break
            to_come = moved * moved / max(before - moved, 1e-9) if moved < before else np.inf  # of a geometric series
            if moved < least or to_come < 0.5 * least or (turn > 3 and moved > 0.9 * before and moved < 0.05):
                break
            before = moved
        found = from_arrays(way, level.origin, step)
        assert weighed is not None
        moves = self._moves_at_cells(k, basis)
        told = told_of(square, weighed.rest, weighed.weight, moves, unit)
        ways = np.eye(len(square))
        ways[:-2, :-2] = told.ways
        state = State(
            level, weighed, step, ways.T @ square @ ways, basis @ told.ways, tallied(level, weighed), frame, told
        )
        return found / found[2, 2], state

    def _moves_at_cells(self, k: int, basis: Matrix) -> Matrix:
        """How the numbers of a motion move places spread over the area at a size, in units of it. (cells, 2, n)."""
        if k not in self._at_cells:
            level, step = self.levels[k], 2**k
            (x, y), (rows, columns) = (self.centre / step) - level.origin - 0.5, level.pixels.shape
            us, vs = ((np.arange(n) + 0.5) / n * size - 0.5 for n, size in zip(CELLS, (columns, rows)))
            u, v = np.meshgrid((us - x) / self.unit * step, (vs - y) / self.unit * step)
            self._at_cells[k] = moved_by(u.reshape(-1), v.reshape(-1)).reshape(-1, 8)
        return (self._at_cells[k] @ basis).reshape(-1, 2, basis.shape[1])

    def _judge(self, matrix: Matrix, state: State, blur: Blur | None = None, made: float = 0.0) -> Fit:
        """Likeness, share, standard error, and how well parts of the area agree with the whole."""
        tally, noise = state.tally, state.tally.rest * CORRELATED
        below = np.sqrt(max(tally.own * tally.view, 0.0))
        ends = self.ends @ state.basis
        covariance = self._covariance(state)
        uneven = state.step * uneven_of(state, noise)
        likeness = max(tally.both / below, 0.0) if below > 1e-12 else 0.0
        kept = tally.weight / max(state.level.total, 1e-6)
        seen = float(state.weighed.inside.sum()) / max(state.level.total, 1e-6)
        told = max(tally.told, 0.01)  # what was thrown away might have said something else
        gain = state.weighed.gain
        if blur is not None and blur.own.may_be_unlike(blur.other):
            wrong = abs(blur.share**2 - made**2) + 2 * max(made, 0.1) * SHUTTER_GIVE  # of the square of the share
            off = np.where(state.told.hidden, 0.0, pulled(state, bend_of(blur, state))) * wrong
            covariance = np.asarray(covariance + np.outer(off, off))
        covariance = np.asarray(covariance / told**2)
        unsure, firm = (
            float(np.sqrt(mean_trace(ends[..., ways], covariance[np.ix_(ways, ways)])))
            for ways in (np.full(len(covariance), True), ~state.told.hidden)
        )
        return Fit(
            matrix, likeness, kept, unsure, uneven, gain, told, seen, covariance=covariance, basis=state.basis,
            firm_px=firm,
        )  # fmt: skip

    def _covariance(self, state: State) -> Matrix:
        """How unsure the ways of moving are: those that a size tells by its pixels, the others by the sizes before."""
        hidden, real = state.told.hidden, np.sqrt(state.told.real(1))
        count = len(hidden)
        noise = state.tally.rest * CORRELATED
        plain = noise * np.linalg.pinv(state.square)[:count, :count] / np.outer(real, real)
        ends, told = self.ends @ state.basis, ~hidden
        out = np.zeros((count, count))
        if told.any():
            some = np.ix_(told, told)
            seen_so = max(mean_trace(ends[..., told], each[some]) for each in by_blocks(state))
            out[some] = plain[some] * (
                seen_so / max(mean_trace(ends[..., told], plain[some]), 1e-20)
            )  # few tell no shape
        if hidden.any():
            before = UNKNOWN**2 * np.eye(8)
            if state.coarser is not None:
                basis, known = state.coarser.basis, self._covariance(state.coarser)
                rest = np.eye(8) - basis @ np.linalg.pinv(basis)
                before = basis @ known @ basis.T + UNKNOWN**2 * rest @ rest.T
            back = np.linalg.pinv(state.basis)
            out[np.ix_(hidden, hidden)] = (back @ before @ back.T)[np.ix_(hidden, hidden)]
        return out

    def whitening(self, fit: Fit, points: NDArray[np.float64]) -> Matrix:
        """What makes displacements at points of the area into numbers of unit variance, as a fit is sure of them.

        (k, 2 n), by as many numbers as the motion has; `points` (n, 2), displacements (n, 2) laid out flat.
        """
        assert fit.covariance is not None
        assert fit.basis is not None
        p, q = ((points - self.centre) / self.unit).T
        moves = (moved_by(p, q) @ fit.basis * self.unit).reshape(2 * len(points), -1)
        values, vectors = np.linalg.eigh(fit.covariance)
        least = (FINEST_PX / self.unit) ** 2
        return np.asarray((vectors / np.sqrt(np.maximum(values, least))).T @ np.linalg.pinv(moves))

    @property
    def ends(self) -> Matrix:
        """How the eight numbers move the area's corners, px. (4, 2, 8)."""
        x0, y0, x1, y1 = self.box
        high, wide = (y1 - y0) / 2 / self.unit, (x1 - x0) / 2 / self.unit
        ends = np.array([[-wide, -high], [wide, -high], [wide, high], [-wide, high]])
        return moved_by(ends[:, 0], ends[:, 1]) * self.unit


def _mean(level: Level) -> float:
    return float(np.average(level.pixels, weights=level.mask))
