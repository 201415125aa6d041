"""Teaches the second look of `zonal_mantle.matte.sky_edge`. Usage: teach_edge.py STOCK OUT [--plates N] [--rounds M]

STOCK is what `fetch.py` laid down; OUT is the file `sky_edge.npz` that ships with the application. A sixteenth of the
plates is not taught; the mean square error of alpha on them, before and after, is printed. About twenty minutes of two
cores, most of it for the plates.

What is taught weighs by what an error shows: the difference that it makes, in display code, before a sky half as
bright. Plates on which the first look is far off weigh less: there the region is wrong, and no edge mends that.
"""

from __future__ import annotations

import argparse
from functools import partial
from pathlib import Path

import cv2
import numpy as np
from adam import Adam, Net, fresh, slopes, through
from edges import plate
from gathered import gathered
from numpy.typing import NDArray
from pictures import read_stock

from zonal_mantle.matte import MatteError, find_sky
from zonal_mantle.matte.sky_edge import FIRST, described, looked_again
from zonal_mantle.matte.sky_matte import first_look
from zonal_mantle.matte.sky_region import working
from zonal_mantle.shot import ClearSkyPull

Array = NDArray[np.float32]

HIDDEN = (32, 16)
TOLD = 2500  # pixels of each plate
LEAST_TOLD = 200
BATCH, RATE, DECAY = 4096, 3e-3, 1e-4
FAR_OFF = 0.003  # mean square error of a plate from which it weighs less
MOST_SHOWN = 12.0  # times the usual weight
WRONG, WRONG_AROUND = 15, 0.4  # px, and share of them that are wrong by more than a half: the region's fault


def made(stock: Path, seeds: range) -> list[tuple[Array, Array]]:
    """What is told of some pixels on the edges of each plate, (n, 53), and their alpha."""
    cv2.setNumThreads(1)
    source, out = read_stock(stock), []
    for seed in seeds:
        pixels, alpha = plate(source, seed)
        try:
            looked = first_look(pixels, ClearSkyPull(), find_sky(working(pixels)))
        except MatteError:
            continue
        wrong = cv2.blur((np.abs(looked.alpha - alpha) > 0.5).astype(np.float32), (WRONG, WRONG))
        rows, columns = np.nonzero(looked_again(looked.alpha) & (wrong < WRONG_AROUND))
        if len(rows) < LEAST_TOLD:
            continue
        some = np.random.default_rng(seed).choice(len(rows), min(TOLD, len(rows)), replace=False)
        rows, columns = rows[some], columns[some]
        out.append((described(looked, rows, columns).astype(np.float16), alpha[rows, columns]))
    return out


def logit(first: Array) -> Array:
    """Of the first alpha, held within its limits."""
    held = np.clip(first, *FIRST)
    return np.asarray(np.log(held / (1 - held)), np.float32)


def shown(told: Array, alpha: Array) -> Array:
    """The square of what an error of alpha would show in display code, as a share of the usual one."""
    light = 1 + told[:, 30:33].mean(1) * np.sqrt(3)  # of the pixel, to the sky's
    before = np.clip(light - (1 - alpha), 0, None) + (1 - alpha) / 2 + 0.02
    steep = (before ** np.float32(1 / 2.4 - 1)) ** 2
    return np.minimum(steep / np.median(steep), MOST_SHOWN)


def taught(told: Array, alpha: Array, weight: Array, rounds: int) -> Net:
    rng = np.random.default_rng(0)
    mean, spread = told.mean(0), told.std(0) + np.float32(1e-3)
    seen_first, told = logit(told[:, 12]), (told - mean) / spread
    net = fresh((told.shape[1], *HIDDEN, 1), rng)
    net["weights2"] *= np.float32(0.1)  # at first it leaves alpha as it is
    per = len(told) // BATCH
    walk = Adam(net, rounds * per, RATE, DECAY)
    for turn in range(rounds * per):
        if turn % per == 0:
            order = rng.permutation(len(told))
        some = order[turn % per * BATCH :][:BATCH]
        seen = through(net, told[some])
        answer = 1 / (1 + np.exp(-seen[-1][:, 0] - seen_first[some]))
        slope = (answer - alpha[some]) * np.maximum(answer * (1 - answer), 0.02) * weight[some] * (20 / BATCH)
        walk.step(slopes(net, seen, slope.astype(np.float32)[:, None]))
    net["offsets0"] = net["offsets0"] - (mean / spread) @ net["weights0"]  # so that nothing is scaled at run time
    net["weights0"] = net["weights0"] / spread[:, None]
    return net


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("stock", type=Path)
    parser.add_argument("out", type=Path)
    parser.add_argument("--plates", type=int, default=1240)
    parser.add_argument("--rounds", type=int, default=20)
    args = parser.parse_args()
    lessons = gathered(partial(made, args.stock), args.plates, 20)
    apart, others = lessons[::16], [each for k, each in enumerate(lessons) if k % 16]
    told, alpha = (np.concatenate([each[k] for each in others]).astype(np.float32) for k in (0, 1))
    off = [np.full(len(a), np.mean((t[:, 12].astype(np.float32) - a) ** 2), np.float32) for t, a in others]
    weight = shown(told, alpha) * FAR_OFF / (FAR_OFF + np.concatenate(off))
    net = taught(told, alpha, (weight / weight.mean()).astype(np.float32), args.rounds)
    told, alpha = (np.concatenate([each[k] for each in apart]).astype(np.float32) for k in (0, 1))
    after = 1 / (1 + np.exp(-through(net, told)[-1][:, 0] - logit(told[:, 12])))
    before, after = (1000 * np.mean((each - alpha) ** 2) for each in (told[:, 12], after))
    print(f"not taught: mean square error of alpha × 1000 before {before:.1f}, after {after:.1f}")
    np.savez_compressed(args.out, **{name: value.astype(np.float32) for name, value in net.items()})


if __name__ == "__main__":
    main()
