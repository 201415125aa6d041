"""Teaches where sky mattes are wrong to `zonal_mantle.matte.sky_fault`. Usage: teach_fault.py STOCK OUT [--plates N]

STOCK is what `fetch.py` laid down; OUT is the file `sky_fault.npz` that ships with the application. Four of five
plates are of `edges.py`, at three sizes, more of them compressed than there; the fifth is a picture of `pictures.py`, a
room or a wall among them. None is one that another lesson of the sky was taught on, or its mattes would be too good. A
sixteenth is not taught; the cross entropy of its cells is printed, and what it is if only the mean is known. About
twenty-five minutes of two cores, nearly all of it for making the plates.
"""

from __future__ import annotations

import argparse
from functools import partial
from pathlib import Path

import cv2
import numpy as np
from adam import Adam, Net, fresh, slopes, through
from edges import packed, plate
from gathered import gathered
from numpy.typing import NDArray
from pictures import Stock, lesson, read_stock

from zonal_mantle.matte import MatteError, find_sky
from zonal_mantle.matte.perceptron import MOST_DEVIATIONS
from zonal_mantle.matte.sky_fault import described
from zonal_mantle.matte.sky_matte import sky_matte
from zonal_mantle.matte.sky_region import working
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.shot import ClearSkyPull

Array = NDArray[np.float32]
Lesson = tuple[Array, Array, Array]

SIZES = ((800, 448), (1280, 720), (1280, 720), (640, 360))
PLATES_FROM, PICTURES_FROM = 300_000, 3_000_000  # seeds beyond those of the other lessons
VIDEO, STILL = 0.35, 0.3  # chances of being compressed once more
HIDDEN = (48, 24)
TOLD = 500  # cells of each plate that hold something wrong, and as many others
ROUNDS, BATCH, RATE, DECAY, NOISE = 10, 4096, 2e-3, 2e-2, 0.1
MOST_WEIGHT = 6.0


def taken(stock: Stock, seed: int) -> tuple[Array, Array]:
    """A picture (h, w, 3), scene-linear, and the alpha (h, w) of what stays."""
    kind = seed % (len(SIZES) + 1)
    if kind == len(SIZES):
        picture, sky = lesson(stock, PICTURES_FROM + seed)
        return np.ascontiguousarray(srgb_decode(picture), np.float32), 1 - sky
    pixels, alpha = plate(stock, PLATES_FROM + seed, SIZES[kind])
    codes = (np.clip(srgb_encode(np.clip(pixels, 0, 1)), 0, 1) * 255 + 0.5).astype(np.uint8)
    codes = packed(codes, np.random.default_rng([seed, 5]), VIDEO, STILL)
    return np.ascontiguousarray(srgb_decode(codes.astype(np.float32) / 255), np.float32), alpha


def made(folder: Path, seeds: range) -> list[Lesson]:
    """What is told of some cells of each plate's matte (n, 132), the share of each that is wrong, and how many of the
    frame's cells it stands for, as a share."""
    cv2.setNumThreads(1)
    stock, out = read_stock(folder), []
    for seed in seeds:
        pixels, true = taken(stock, seed)
        try:
            found = find_sky(working(pixels))
            alpha = sky_matte(pixels, ClearSkyPull(), found).alpha
        except MatteError:
            continue
        told = described(pixels, alpha, found)
        wrong = cv2.resize(
            (np.abs(alpha - true) > 0.5).astype(np.float32), told.shape[1::-1], interpolation=cv2.INTER_AREA
        ).reshape(-1)
        rng, some, weight = np.random.default_rng(seed), [], []
        for part in (wrong > 0, wrong == 0):
            where = np.nonzero(part)[0]
            some.append(rng.choice(where, min(len(where), TOLD), replace=False))
            weight.append(np.full(len(some[-1]), len(where) / max(len(some[-1]), 1) / wrong.size, np.float32))
        few = np.concatenate(some)
        out.append((told.reshape(-1, told.shape[2])[few].astype(np.float16), wrong[few], np.concatenate(weight)))
    return out


def taught(told: Array, wrong: Array, weight: Array) -> Net:
    rng = np.random.default_rng(0)
    mean, spread = told.mean(0), told.std(0) + np.float32(1e-3)
    told = np.clip((told - mean) / spread, -MOST_DEVIATIONS, MOST_DEVIATIONS)
    net = fresh((told.shape[1], *HIDDEN, 1), rng)
    net["weights2"] *= np.float32(0.1)
    share = np.average(wrong, weights=weight)
    net["offsets2"][:] = np.log(share / (1 - share))
    weight = np.minimum(weight / weight.mean(), MOST_WEIGHT)
    per = len(told) // BATCH
    walk = Adam(net, ROUNDS * per, RATE, DECAY)
    for turn in range(ROUNDS * per):
        if turn % per == 0:
            order = rng.permutation(len(told))
        some = order[turn % per * BATCH :][:BATCH]
        seen = through(net, told[some] + NOISE * rng.standard_normal((BATCH, told.shape[1]), np.float32))
        slope = (1 / (1 + np.exp(-seen[-1][:, 0])) - wrong[some]) * weight[some] * (20 / BATCH)
        walk.step(slopes(net, seen, slope.astype(np.float32)[:, None]))
    return net | {"mean": mean, "spread": spread}


def entropy(odds: Array, wrong: Array, weight: Array) -> float:
    return float(np.average(np.logaddexp(0, odds) - odds * wrong, weights=weight))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("stock", type=Path)
    parser.add_argument("out", type=Path)
    parser.add_argument("--plates", type=int, default=2600)
    args = parser.parse_args()
    lessons = gathered(partial(made, args.stock), args.plates, 50)
    apart, others = lessons[::16], [each for k, each in enumerate(lessons) if k % 16]
    net = taught(*(np.concatenate([each[k] for each in others]).astype(np.float32) for k in range(3)))
    told, wrong, weight = (np.concatenate([each[k] for each in apart]).astype(np.float32) for k in range(3))
    layers = {name: value for name, value in net.items() if name not in ("mean", "spread")}
    x = np.clip((told - net["mean"]) / net["spread"], -MOST_DEVIATIONS, MOST_DEVIATIONS)
    share = np.float32(np.average(wrong, weights=weight))
    plain = np.full_like(wrong, np.log(share / (1 - share)))
    found, known = (entropy(odds, wrong, weight) for odds in (through(layers, x)[-1][:, 0], plain))
    print(f"not taught: cross entropy {found:.4f}, {known:.4f} by the mean alone")
    np.savez_compressed(args.out, **{name: value.astype(np.float32) for name, value in net.items()})


if __name__ == "__main__":
    main()
