"""The tone that gives a zone the colours of its aim, found from parts of both that are of one kind.

Model: two parts of a picture hardly ever show the same things in the same shares, so their means and spreads differ by
far more than most tones. But some of what they show is alike. Small cells of both are described by what a tone changes
little: how strongly light and colour vary in them, finely and coarsely, and how they differ from what is round about
(in the log encoding exposure and white are moves, and take no part in differences). The cells of the zone, moved and
spread along lightness and two opponent colours, are to lie among the cells of the aim that are described alike; those
that have no like are let go. The likeliest move is found by expectation and maximisation, from wide to narrow. How much
the cells are believed against what is usual for a tone falls with how differently both are described, by which it is
also told how far the answer may be off.

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

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
Part = tuple[Array, NDArray[np.bool_]]  # a picture (h, w, 3), scene-linear, and where it is looked at (h, w)

WORKING_PX = 290.0  # side of a square as large as the larger part
CELL_PX, CELLS_ACROSS = 8, 20  # a small part has smaller cells
FINE_PX, COARSE_PX, AROUND_CELLS = 8.0, 20.0, 2.0
AROUND_COUNTS = np.array([20, 30, 30], np.float32)  # of a difference from what is round about, against logarithms
LEAST_SPREAD = 0.3  # of what is told: noise and focus change it by as much
MOST_OWN, MOST_AIM, LEAST_CELLS = 500, 700, 12
# how far tones usually move, and in logarithms spread, lightness and the opponent colours; log codes
USUAL_MOVE, USUAL_SPREAD = np.array([0.025, 0.033, 0.014]), np.array([0.095, 0.2, 0.2])
LIKE = 0.6  # width of likeness, in spreads of what is told of cells
HAVE_LIKES = 0.7  # share of cells that are expected to
WIDE, NARROW, STEPS, AT_NARROW = np.array([0.08, 0.05, 0.04]), np.array([0.02, 0.012, 0.010]), 14, 4  # log codes
BELIEVED, USUAL_APART, TRUST, MOST_BELIEVED = 0.002, 0.4, 1.5, 0.03  # cells beside one another are no new witnesses
FAR_OFF = 0.27  # log codes of lightness for each unit apart: what is farther off is more than what both show
ANEW = 2  # rounds, from where it was found, where it was far off
OFF, OFF_APART, OFF_CONTRAST = 0.012, 0.06, 0.1  # deviation of the answer, in log codes and for each unit apart
OFF_WHITE, OFF_WHITE_APART, MOST_OFF_WHITE = 0.05, 2.5, 0.55  # of the white, in stops of blue against red
OFF_FAR = 0.5  # of a move that is far off: it may as well be that both show unlike things
MOST_UNLIKE, UNLIKE_FAR = 0.5 / LOG_SCALE, 0.15  # deviation in log codes from which on nothing is told; of a far move


class Cells(NamedTuple):
    """mean (n, 3) in log codes along lightness and the opponent colours; told (n, 9): what a tone hardly changes."""

    mean: Matrix
    told: Matrix


def fit_kindred(own: Sequence[Part], aim: Sequence[Part]) -> ToneFit:
    """The tone that carries the zone's cells among those of the aim that are of their kind.

    Parameters
    ----------
    own, aim : the zone and its aim on some frames, without what is finer than a tone, at one scale.

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
    largest, smallest = (pick(int(mask.sum()) for _, mask in (*own, *aim)) for pick in (max, min))
    scale = min(1.0, WORKING_PX / max(np.sqrt(largest), 1.0))
    side = int(np.clip(scale * np.sqrt(smallest) / CELLS_ACROSS, 2, CELL_PX))
    ours, theirs = (_some(_joined(parts, scale, side), most) for parts, most in ((own, MOST_OWN), (aim, MOST_AIM)))
    for cells, name in ((ours, "zone"), (theirs, "aim")):
        if len(cells.mean) < LEAST_CELLS:
            raise ValueError(say("The {name} is too small to compare.", name=name))
    spread = np.hypot(np.concatenate([ours.told, theirs.told]).std(axis=0), LEAST_SPREAD)
    apart = _apart(ours.told / spread, theirs.told / spread)
    kind = _alike(ours.told / spread, theirs.told / spread)
    believed = min(BELIEVED * (USUAL_APART / max(apart, 1e-6)) ** TRUST, MOST_BELIEVED)
    middle = ours.mean.mean(axis=0)
    start, away = np.zeros(3), theirs.mean.mean(axis=0)[0] - middle[0]
    far = FAR_OFF * apart
    if abs(away) > far:
        start[0] = away * (1 - (far / away) ** 2)
    move, wider = _moved(ours.mean, theirs.mean, kind, believed, start)
    for _ in range(ANEW if start[0] else 0):
        start[0] = move[0]
        move, wider = _moved(ours.mean, theirs.mean, kind, believed, start)
    back, by = np.linalg.inv(OPPONENT), np.exp(wider)
    linear = back @ np.diag(by) @ OPPONENT
    offset = back @ (middle + move - by * middle)
    unlike = np.hypot(OFF, OFF_APART * apart)
    if np.hypot(unlike, UNLIKE_FAR * start[0]) > MOST_UNLIKE:
        raise ValueError(
            say(
                "zone and aim show things too unlike for their tones to be compared. Draw an aim of the zone's own "
                "kind, or set the tone by hand."
            )
        )
    unsure = np.hypot(unlike, OFF_FAR * start[0])
    return ToneFit(
        tuple(np.hstack([linear, offset[:, None]]).ravel().tolist()), float(move[0] * LOG_SCALE), float(by[0]),
        float(np.sqrt(by[1] * by[2])), (float(unsure * LOG_SCALE), OFF_CONTRAST),
        min(float(np.hypot(OFF_WHITE, OFF_WHITE_APART * apart)), MOST_OFF_WHITE),
    )  # fmt: skip


def _moved(own: Matrix, aim: Matrix, kind: Matrix, believed: float, start: Matrix) -> tuple[Matrix, Matrix]:
    """How far the cells are moved (3) and in logarithms spread (3) about their middle; `kind` (n, m) is how far each
    is of each kind, rows of 1 in all."""
    middle, broad = own.mean(axis=0), 1.5 * (aim.std(axis=0) + 0.01)
    move, wider = start.copy(), np.zeros(3)
    from_middle = own - middle
    for turn in range(STEPS):
        share = min(turn / (STEPS - AT_NARROW), 1.0)
        width = WIDE * (1 - share) + NARROW * share
        here = middle + move + from_middle * np.exp(wider)
        off = _squares(here / width, aim / width)
        likes = HAVE_LIKES * kind * np.exp(-0.5 * off) / width.prod()
        square = (((here - aim.mean(axis=0)) / broad) ** 2).sum(axis=1)
        none = (1 - HAVE_LIKES) * np.exp(-0.5 * square) / broad.prod()
        likes /= (likes.sum(axis=1) + none + 1e-12)[:, None]
        weight = likes.sum(axis=1)
        wanted = (likes @ aim) / (weight + 1e-12)[:, None] - own - start
        for c in range(3):
            u, w = from_middle[:, c], believed * weight / width[c] ** 2
            across = (w * u).sum()
            square_of = np.array(
                [
                    [w.sum() + 1 / USUAL_MOVE[c] ** 2, across],
                    [across, (w * u * u).sum() + 1 / USUAL_SPREAD[c] ** 2],
                ]
            )
            y = wanted[:, c]
            found, by = np.linalg.solve(square_of, [(w * y).sum(), (w * u * y).sum()])
            move[c], wider[c] = start[c] + found, np.log(max(1 + by, 0.5))
    return move, wider


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


def _joined(parts: Sequence[Part], scale: float, side: int) -> Cells:
    each = [_cells(picture, mask, scale, side) for picture, mask in parts]
    return Cells(*(np.concatenate(values) for values in zip(*each)))


def _cells(picture: Array, mask: NDArray[np.bool_], scale: float, side: int) -> Cells:
    """Cells of a side, px at a scale, that are whole. What lies outside is filled from what is near by."""
    mask = mask & np.isfinite(picture).all(axis=2)
    ys, xs = np.nonzero(mask)
    if not len(ys):
        return Cells(np.empty((0, 3)), np.empty((0, 9)))
    box = np.s_[ys.min() : ys.max() + 1, xs.min() : xs.max() + 1]
    inside = np.asarray(mask[box], np.float32)
    light = np.asarray(np.where(mask[box][..., None], picture[box], 0), np.float32)
    if scale < 1:
        size = tuple(max(round(n * scale), 1) for n in inside.shape[::-1])
        light = np.asarray(cv2.resize(light, size, interpolation=cv2.INTER_AREA), np.float32)
        inside = np.asarray(cv2.resize(inside, size, interpolation=cv2.INTER_AREA), np.float32)
    codes = np.asarray(log_codes(light / np.maximum(inside, 1e-3)[..., None]) @ OPPONENT.T, np.float32)
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
