"""Teaches the classifier of `zonal_mantle.matte.sky_sense`. Usage: teach.py STOCK OUT [--pictures N] [--rounds M]

STOCK is what `fetch.py` laid down; OUT is the file `sky_sense.npz` that ships with the application. A sixteenth of the
pictures is not taught; the cross entropy of its cells and the share of them that is right are printed. About half an
hour of two cores, nearly all of it for making the pictures.

Noise is laid on what each perceptron is told; the second one is told answers of firsts that have not seen the picture
(half and half).
"""

from __future__ import annotations

import argparse
from functools import partial
from pathlib import Path

import cv2
import numpy as np
from adam import Adam, Net, fresh, slopes, through
from gathered import gathered
from numpy.typing import NDArray
from pictures import lesson, read_stock

from zonal_mantle.matte.perceptron import MOST_DEVIATIONS
from zonal_mantle.matte.sky_region import noise_of
from zonal_mantle.matte.sky_sense import cells, context, features

Array = NDArray[np.float32]

HIDDEN = (64, 32)
TOLD = 400  # cells of each picture
BATCH, RATE, DECAY, NOISE = 4096, 2e-3, 1e-3, 0.1


def made(stock: Path, seeds: range) -> list[tuple[Array, Array]]:
    """What is told of each picture of these seeds, and its share of sky."""
    cv2.setNumThreads(1)
    source, out = read_stock(stock), []
    for seed in seeds:
        picture, sky = lesson(source, seed)
        told = features(cells(picture, noise_of(picture)))
        share = cv2.resize(sky, told.shape[1::-1], interpolation=cv2.INTER_AREA)
        out.append((told.astype(np.float16), share))
    return out


def answer(net: Net, told: Array) -> Array:
    """As `sky_sense.answered`, for (n, kinds)."""
    layers = {name: value for name, value in net.items() if name not in ("mean", "spread")}
    x = np.clip((told - net["mean"]) / net["spread"], -MOST_DEVIATIONS, MOST_DEVIATIONS)
    return through(layers, x)[-1][:, 0]


def taught(told: Array, share: Array, rounds: int, rng: np.random.Generator) -> Net:
    mean, spread = told.mean(0), told.std(0) + np.float32(1e-3)
    told = np.clip((told - mean) / spread, -MOST_DEVIATIONS, MOST_DEVIATIONS)
    net = fresh((told.shape[1], *HIDDEN, 1), rng)
    turns = rounds * (len(told) // BATCH)
    walk = Adam(net, turns, RATE, DECAY)
    for turn in range(turns):
        if turn % (len(told) // BATCH) == 0:
            order = rng.permutation(len(told))
        some = order[turn % (len(told) // BATCH) * BATCH :][:BATCH]
        seen = through(net, told[some] + NOISE * rng.standard_normal((BATCH, told.shape[1]), np.float32))
        slope = (1 / (1 + np.exp(-seen[-1][:, 0])) - share[some]) / BATCH
        walk.step(slopes(net, seen, slope.astype(np.float32)[:, None]))
    return net | {"mean": mean, "spread": spread}


def teach(lessons: list[tuple[Array, Array]], rounds: int) -> Net:
    rng = np.random.default_rng(0)
    order = rng.permutation(len(lessons))
    apart, others = order[: len(lessons) // 16], order[len(lessons) // 16 :]
    odds: dict[int, Array] = {}

    def told(k: int, second: bool) -> Array:
        own = lessons[k][0].astype(np.float32)
        seen = np.concatenate([own, context(odds[k])], axis=2) if second else own
        return seen.reshape(-1, seen.shape[2])

    def some(which: NDArray[np.int64], second: bool) -> tuple[Array, Array]:
        picked = [rng.integers(lessons[k][1].size, size=TOLD) for k in which]
        seen = np.concatenate([told(k, second)[few] for k, few in zip(which, picked)])
        return seen, np.concatenate([lessons[k][1].reshape(-1)[few] for k, few in zip(which, picked)])

    def say(net: Net, second: bool) -> None:
        found = [(answer(net, told(k, second)), lessons[k][1].reshape(-1)) for k in apart]
        loss = np.mean([np.mean(np.logaddexp(0, z) - z * share) for z, share in found])
        right = np.mean([np.mean((z > 0) == (share > 0.5)) for z, share in found])
        print(f"not taught: cross entropy {loss:.4f}, right {100 * right:.2f} %", flush=True)

    middle = len(others) // 2
    for own, rest in ((others[:middle], others[middle:]), (others[middle:], others[:middle])):
        net = taught(*some(own, False), rounds, rng)
        for k in rest:
            odds[k] = answer(net, told(k, False)).reshape(lessons[k][1].shape)
    first = taught(*some(others, False), rounds, rng)
    say(first, False)
    for k in apart:
        odds[k] = answer(first, told(k, False)).reshape(lessons[k][1].shape)
    second = taught(*some(others, True), rounds, rng)
    say(second, True)
    named = {"first": first, "second": second}
    return {f"{which}/{name}": value for which, net in named.items() for name, value in net.items()}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("stock", type=Path)
    parser.add_argument("out", type=Path)
    parser.add_argument("--pictures", type=int, default=12_000)
    parser.add_argument("--rounds", type=int, default=6)
    args = parser.parse_args()
    lessons = gathered(partial(made, args.stock), args.pictures, 100)
    np.savez_compressed(args.out, **teach(lessons, args.rounds))


if __name__ == "__main__":
    main()
