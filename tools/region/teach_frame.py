"""Teaches when most of what a sky matte takes is no sky, to `zonal_mantle.matte.sky_fault.mostly_wrong`.

Usage: teach_frame.py STOCK

STOCK is what `fetch.py` laid down. Each photograph of `taken.py` is cut as it is, and twice more as another camera
would have taken a part of it; those that are refused teach nothing. A logistic regression of three numbers of the
frame; the weights are printed, and by five folds of the photographs what they tell of those that they were not taught
on. Some four minutes of two cores.
"""

from __future__ import annotations

import argparse
from functools import partial
from pathlib import Path
from typing import NamedTuple

import cv2
import numpy as np
from gathered import gathered
from numpy.typing import NDArray
from taken import filmed, names, photograph

from zonal_mantle.matte import MatteError, find_sky
from zonal_mantle.matte.sky_fault import likely_wrong, of_frame
from zonal_mantle.matte.sky_matte import sky_matte
from zonal_mantle.matte.sky_region import working
from zonal_mantle.media.curves import srgb_decode
from zonal_mantle.shot import ClearSkyPull

WAYS, FOLDS, LESS = 3, 5, 1.0  # LESS: how strongly weights are kept small
BAD, GOOD = 0.03, 0.005  # of the frame that is wrong


class Frame(NamedTuple):
    """What is told of a matte, whether most of what goes is no sky, how much of the frame is wrong, which picture."""

    told: NDArray[np.float64]
    mostly: bool
    wrong: float
    photograph: int


def cut(stock: Path, seeds: range) -> list[Frame]:
    cv2.setNumThreads(1)
    known, out = names(), []
    for seed in seeds:
        one, way = divmod(seed, WAYS)
        whole = photograph(stock, known[one])
        seen = filmed(whole, np.random.default_rng([one, way])) if way else whole
        pixels = np.ascontiguousarray(srgb_decode(seen.picture), np.float32)
        try:
            found = find_sky(working(pixels))
            alpha = sky_matte(pixels, ClearSkyPull(), found).alpha
        except MatteError:
            continue
        judged = seen.judged()
        wrong = (np.abs(1 - seen.sky - alpha) > 0.5) & judged
        goes = (alpha < 0.5) & judged
        mostly = bool(goes.any()) and float(wrong[goes].mean()) > 0.5
        out.append(Frame(of_frame(likely_wrong(pixels, alpha, found), alpha), mostly, float(wrong.mean()), one))
    return out


def taught(frames: list[Frame]) -> NDArray[np.float64]:
    """Weights, and an offset: Newton's steps, the told numbers at their mean and spread."""
    told = np.array([each.told for each in frames])
    mean, spread = told.mean(0), told.std(0)
    x = np.column_stack([(told - mean) / spread, np.ones(len(told))])
    y = np.array([each.mostly for each in frames], float)
    weights, kept = np.zeros(x.shape[1]), np.eye(x.shape[1]) * LESS
    for _ in range(40):
        chance = 1 / (1 + np.exp(-x @ weights))
        slope = x.T @ (chance - y) + kept @ weights
        weights -= np.linalg.solve((x.T * (chance * (1 - chance))) @ x + kept, slope)
    own = weights[:-1] / spread
    return np.append(own, weights[-1] - own @ mean)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("stock", type=Path)
    stock = parser.parse_args().stock
    count = len(names())
    frames = gathered(partial(cut, stock), WAYS * count, 12)
    order = np.random.default_rng(0).permutation(count) % FOLDS
    found = []
    for fold in range(FOLDS):
        weights = taught([each for each in frames if order[each.photograph] != fold])
        apart = [each for each in frames if order[each.photograph] == fold]
        found += [(each, 1 / (1 + np.exp(-(each.told @ weights[:-1] + weights[-1])))) for each in apart]
    bad = [p > 0.5 for each, p in found if each.wrong > BAD]
    good = [p > 0.5 for each, p in found if each.wrong < GOOD]
    mostly = [p > 0.5 for each, p in found if each.mostly]
    print(f"{len(frames)} mattes; told of those that take mostly what is no sky: {sum(mostly)} of {len(mostly)}")
    print(f"of all that are wrong on over 3 %: {sum(bad)} of {len(bad)}; of right ones: {sum(good)} of {len(good)}")
    print("MOSTLY = (" + ", ".join(f"{each:.3f}" for each in taught(frames)) + ")")


if __name__ == "__main__":
    main()
