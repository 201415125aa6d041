"""The tone that gives a zone the colours of its aim, found from parts of both that are of one kind.

Model: two parts of a picture hardly ever show the same things in the same shares, so their means and spreads differ by
far more than most tones. But some of what they show is alike. Small cells of both are described by what a tone changes
little: how strongly light and colour vary in them, finely and coarsely, and how they differ from what is round about
(in the log encoding exposure and white are moves, and take no part in differences). The cells of the zone, moved and
spread along lightness and two opponent colours, are to lie among the cells of the aim that are described alike; those
that have no like are let go. The likeliest move is found by expectation and maximisation, from wide to narrow, and from
what black and white points and the colours of light tell (`tone_points`). How much the cells are believed against those
falls with how differently both are described.

The finest variation counts only from cell to cell: focus and grain change it everywhere.

Constants were chosen with a look at halves of 33 photographs with made-up tones, see `docs/FIGURES.md`.

References
----------
A. Myronenko & X. Song, Point set registration: coherent point drift, IEEE PAMI 32 (2010): the mixture, its broad part,
and its steps. D. Ruderman, T. Cronin & C.-C. Chiao, Statistics of cone responses to natural images, JOSA A 15 (1998):
logarithms and opponent axes. From memory.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..words import say
from .tone import LOG_SCALE
from .tone_fit import OPPONENT, ToneFit, log_codes
from .tone_points import Told, points_of, told_by_points

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
Part = tuple[Array, NDArray[np.bool_]]  # a picture (h, w, 3), scene-linear, and where it is looked at (h, w)

CALM_PX, BESIDE_PX = 3.0, 16  # standard deviation, and as far as it reaches
WORKING_PX = 290.0  # side of a square as large as the larger part
CELL_PX, CELLS_ACROSS = 8, 20  # a small part has smaller cells
FINE_PX, COARSE_PX, AROUND_CELLS = 8.0, 20.0, 2.0
AROUND_COUNTS = np.array([20, 30, 30], np.float32)  # of a difference from what is round about, against logarithms
LEAST_SPREAD = 0.3  # of what is told: noise and focus change it by as much
MOST_OWN, MOST_AIM, LEAST_CELLS = 500, 700, 12
LIKE = 0.6  # width of likeness, in spreads of what is told of cells
HAVE_LIKES = 0.7  # share of cells that are expected to
WIDE, NARROW, STEPS, AT_NARROW = np.array([0.08, 0.05, 0.04]), np.array([0.02, 0.012, 0.010]), 14, 4  # log codes
BELIEVED, USUAL_APART, TRUST, MOST_BELIEVED = 0.002, 0.4, 1.5, 0.03  # cells beside one another are no new witnesses
OFF_MORE = np.array([1.3, 1.7, 1.7])  # witnesses agree in what they are wrong in
OFF_FAR = 0.2  # of a move of lightness
MOST_APART, MOST_OFF, MOST_AWAY = 0.5, 0.55, 4.0  # and stops; from which on both are too unlike


class Cells(NamedTuple):
    """mean (n, 3) in log codes along lightness and the opponent colours; told (n, 9): what a tone hardly changes."""

    mean: Matrix
    told: Matrix


def fit_kindred(own: Sequence[Part], aim: Sequence[Part]) -> ToneFit:
    """The tone that carries the zone's cells among those of the aim that are of their kind.

    Parameters
    ----------
    own, aim : the zone and its aim on some frames, at one scale.

    Raises
    ------
    ValueError : one of them is too small, or both show too unlike things.

    Example
    -------
    >>> rng = np.random.default_rng(1)
    >>> grass = rng.uniform(0.1, 0.3, (120, 120, 3)).astype(np.float32)
    >>> everywhere = np.ones((120, 120), bool)
    >>> fit = fit_kindred([(grass, everywhere)], [(2 * grass, everywhere)])
    >>> bool(fit.moved_stops > 0.5)
    True
    """
    own, aim = ([looked_at(picture, mask) for picture, mask in parts] for parts in (own, aim))
    largest, smallest = (pick(int(mask.sum()) for _, mask in (*own, *aim)) for pick in (max, min))
    scale = min(1.0, WORKING_PX / max(np.sqrt(largest), 1.0))
    side = int(np.clip(scale * np.sqrt(smallest) / CELLS_ACROSS, 2, CELL_PX))
    seen = [[_at_scale(picture, mask, scale) for picture, mask in parts] for parts in (own, aim)]
    calm = [[_at_scale(calmed(picture, mask), mask, scale) for picture, mask in parts] for parts in (own, aim)]
    ours, theirs = (_some(_joined(parts, side), most) for parts, most in zip(calm, (MOST_OWN, MOST_AIM)))
    for cells, name in ((ours, "zone"), (theirs, "aim")):
        if len(cells.mean) < LEAST_CELLS:
            raise ValueError(say("The {name} is too small to compare.", name=name))
    spread = np.hypot(np.concatenate([ours.told, theirs.told]).std(axis=0), LEAST_SPREAD)
    apart = _apart(ours.told / spread, theirs.told / spread)
    away = (theirs.mean - ours.mean.mean(axis=0)).mean(axis=0)[0] * LOG_SCALE
    if apart > MOST_APART or abs(away) > MOST_AWAY:
        raise _too_unlike()
    told = told_by_points(points_of(seen[0]), points_of(seen[1]), apart)
    kind = _alike(ours.told / spread, theirs.told / spread)
    believed = min(BELIEVED * (USUAL_APART / max(apart, 1e-6)) ** TRUST, MOST_BELIEVED)
    middle = ours.mean.mean(axis=0)
    move, wider, off = _moved(ours.mean, theirs.mean, kind, believed, told)
    back, by = np.linalg.inv(OPPONENT), np.exp(wider)
    linear = back @ np.diag(by) @ OPPONENT
    offset = back @ (middle + move - by * middle)
    off[0] *= OFF_MORE
    off[0, 0] = np.hypot(off[0, 0], OFF_FAR * move[0])
    if off[0, 0] * LOG_SCALE > MOST_OFF:
        raise _too_unlike()
    white = np.sqrt(((back[2] - back[0])[1:] ** 2 * off[0, 1:] ** 2).sum())
    return ToneFit(
        tuple(np.hstack([linear, offset[:, None]]).ravel().tolist()), float(move[0] * LOG_SCALE), float(by[0]),
        float(np.sqrt(by[1] * by[2])), (float(off[0, 0] * LOG_SCALE), float(off[1, 0])),
        float(white * LOG_SCALE),
    )  # fmt: skip


def looked_at(picture: Array, mask: NDArray[np.bool_]) -> Part:
    """A part without what lies far outside of its mask, and without what is no number."""
    ys, xs = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    if len(ys):
        box = np.s_[max(ys[0] - BESIDE_PX, 0) : ys[-1] + BESIDE_PX, max(xs[0] - BESIDE_PX, 0) : xs[-1] + BESIDE_PX]
        picture, mask = np.ascontiguousarray(picture[box]), mask[box]
    sums = cv2.transform(np.ascontiguousarray(picture, np.float32), np.ones((1, 3), np.float32))
    return picture, mask & np.isfinite(sums.reshape(mask.shape))


def _too_unlike() -> ValueError:
    return ValueError(
        say(
            "zone and aim show things too unlike for their tones to be compared. Draw an aim of the zone's own "
            "kind, or set the tone by hand."
        )
    )


def calmed(picture: Array, mask: NDArray[np.bool_]) -> Array:
    """Without what is finer than a tone: neither noise nor focus then counts as contrast or as colour."""
    light = cv2.GaussianBlur(np.where(mask[..., None], picture, 0), (0, 0), CALM_PX)
    share = cv2.GaussianBlur(mask.astype(np.float32), (0, 0), CALM_PX)
    return np.asarray(light / np.maximum(share, 1e-3)[..., None], np.float32)


def _moved(own: Matrix, aim: Matrix, kind: Matrix, believed: float, told: Told) -> tuple[Matrix, Matrix, Matrix]:
    """How far the cells are moved (3) and in logarithms spread (3) about their middle, and the deviations of both
    (2, 3); `kind` (n, m) is how far each is of each kind, rows of 1 in all, `told` what is expected."""
    middle, broad = own.mean(axis=0), 1.5 * (aim.std(axis=0) + 0.01)
    expected, usual = told.move / LOG_SCALE, told.off_move / LOG_SCALE
    move, wider, off = expected.copy(), told.wider.copy(), np.array([usual, told.off_wider])
    from_middle = own - middle
    spread = from_middle * np.exp(told.wider)
    least = np.maximum(1.5 * usual, NARROW)
    for turn in range(STEPS):
        share = min(turn / (STEPS - AT_NARROW), 1.0)
        width = np.minimum(WIDE * (1 - share) + NARROW * share, least)
        here = middle + move + from_middle * np.exp(wider)
        apart = _squares(here / width, aim / width)
        likes = HAVE_LIKES * kind * np.exp(-0.5 * apart) / width.prod()
        square = (((here - aim.mean(axis=0)) / broad) ** 2).sum(axis=1)
        none = (1 - HAVE_LIKES) * np.exp(-0.5 * square) / broad.prod()
        likes /= (likes.sum(axis=1) + none + 1e-12)[:, None]
        weight = likes.sum(axis=1)
        wanted = (likes @ aim) / (weight + 1e-12)[:, None] - middle - expected - spread
        for c in range(3):
            u, w = spread[:, c], believed * weight / width[c] ** 2
            across = (w * u).sum()
            square_of = np.array(
                [
                    [w.sum() + 1 / usual[c] ** 2, across],
                    [across, (w * u * u).sum() + 1 / told.off_wider[c] ** 2],
                ]
            )
            y = wanted[:, c]
            found, by = np.linalg.solve(square_of, [(w * y).sum(), (w * u * y).sum()])
            move[c], wider[c] = expected[c] + found, told.wider[c] + np.log(max(1 + by, 0.5))
            off[:, c] = np.sqrt(np.diag(np.linalg.inv(square_of)))
    return move, wider, off


def _squares(one: Matrix, other: Matrix) -> Matrix:
    """Squares of the distances of all rows of the one from all of the other. (n, m)."""
    return np.asarray(np.maximum((one**2).sum(axis=1)[:, None] + (other**2).sum(axis=1) - 2 * one @ other.T, 0))


def _alike(own: Matrix, aim: Matrix) -> Matrix:
    """How far each cell is of the kind of each of the others, by what is told of them; rows of 1 in all."""
    off = _squares(own, aim) / own.shape[1]
    kind = np.exp(-(off - off.min(axis=1, keepdims=True)) / (2 * LIKE**2))
    return np.asarray(kind / kind.sum(axis=1, keepdims=True))


def _apart(own: Matrix, aim: Matrix) -> float:
    """How differently both are described: the mean distance from quantile to quantile, in spreads."""
    places = np.linspace(0.02, 0.98, 49)
    return float(np.abs(np.quantile(own, places, axis=0) - np.quantile(aim, places, axis=0)).mean())


def _some(cells: Cells, most: int) -> Cells:
    """No more than so many, at random and the same at every run."""
    picked = np.random.default_rng(0).choice(len(cells.mean), min(most, len(cells.mean)), replace=False)
    return Cells(cells.mean[picked], cells.told[picked])


def _joined(parts: Sequence[tuple[Array, Array]], side: int) -> Cells:
    each = [_cells(light, inside, side) for light, inside in parts]
    return Cells(*(np.concatenate(values) for values in zip(*each)))


def _at_scale(picture: Array, mask: NDArray[np.bool_], scale: float) -> tuple[Array, Array]:
    """What is inside of a mask, made smaller, and how far its pixels are (h, w); empty where nothing is."""
    ys, xs = np.nonzero(mask)
    if not len(ys):
        return np.empty((0, 0, 3), np.float32), np.empty((0, 0), np.float32)
    box = np.s_[ys.min() : ys.max() + 1, xs.min() : xs.max() + 1]
    inside = np.asarray(mask[box], np.float32)
    light = np.asarray(np.where(mask[box][..., None], picture[box], 0), np.float32)
    if scale < 1:
        size = tuple(max(round(n * scale), 1) for n in inside.shape[::-1])
        light = np.asarray(cv2.resize(light, size, interpolation=cv2.INTER_AREA), np.float32)
        inside = np.asarray(cv2.resize(inside, size, interpolation=cv2.INTER_AREA), np.float32)
    return np.asarray(light / np.maximum(inside, 1e-3)[..., None], np.float32), inside


def _cells(light: Array, inside: Array, side: int) -> Cells:
    """Cells of a side, px, that are whole. What lies outside is filled from what is near by."""
    codes = np.asarray(log_codes(light) @ OPPONENT.T, np.float32)
    rows, columns = (n // side * side for n in inside.shape)
    if not rows or not columns:
        return Cells(np.empty((0, 3)), np.empty((0, 9)))
    codes, inside = codes[:rows, :columns], inside[:rows, :columns]

    def meant(values: Array) -> Array:
        return np.asarray(values.reshape(rows // side, side, columns // side, side, -1).mean(axis=(1, 3)), np.float32)

    def blurred(values: Array, share: Array, sigma: float) -> Array:
        held = cv2.GaussianBlur(values * share[..., None], (0, 0), sigma)
        return np.asarray(held / np.maximum(cv2.GaussianBlur(share, (0, 0), sigma), 1e-4)[..., None], np.float32)

    if inside.min() < 1:
        codes = codes * inside[..., None] + blurred(codes, inside, COARSE_PX) * (1 - inside[..., None])
    calm = cv2.GaussianBlur(codes, (0, 0), FINE_PX)
    fine, coarse = codes - calm, calm - cv2.GaussianBlur(calm, (0, 0), float(np.sqrt(COARSE_PX**2 - FINE_PX**2)))
    mean, whole = meant(codes), meant(inside)[..., 0]
    around = (mean - blurred(mean, whole, AROUND_CELLS)) * AROUND_COUNTS
    varies = [np.log(np.sqrt(meant(band**2)) + 2e-3) for band in (fine, coarse)]
    there = whole > 0.75
    if there.any():
        varies[0] -= varies[0][there].mean(axis=0)
    told = np.concatenate([*varies, around], axis=2)
    return Cells(mean[there].astype(float), told[there].astype(float))
