"""How likely each part of a frame is sky, by what skies and grounds look like anywhere: a small classifier that was
taught.

Each cell of the frame is described by its own colour and texture, by those around, above and below it, on its row, at
the frame's top and in the whole frame, and by how much colour changes on the way to the top and foot (`sky_reach`).
A perceptron of two hidden layers gives log odds; a second one sees the first one's answer round about as well
(auto-context, Tu & Bai 2010). Both were taught by `tools/region` on made pictures: photographed grounds and cut-outs
before photographed and painted skies, rooms, walls, photographs without sky. None of the pictures that it is measured
on was among them. Its answer is coarse, and one voice among others in `sky_region`.
"""

from __future__ import annotations

from functools import lru_cache
from importlib.resources import files

import cv2
import numpy as np
from numpy.typing import NDArray

from . import perceptron
from .sky_reach import reach

Array = NDArray[np.float32]

CELL = 4  # working pixels to one cell; two by two of them are answered together
LEAST_STEP = 0.002  # coded: below it texture is not told from noise
MOST_CODE = 1.2
SPARE = np.float32(2 * 0.004**2)  # of a squared step, taken off in reach
LEAST_REACH = 0.004
AROUND = (1, 4, 12)  # cells to each side
AROUND_ODDS = (1, 3, 8, 16)
TOP = 10  # of the frame's height: its top
QUANTILES = (0.02, 0.5, 0.98)
KNOWN = 0.85  # chance from which a place is known for sky


def cells(picture: Array, noise: float) -> Array:
    """What the classifier sees of a working picture, see `sky_region.working`.

    Parameters
    ----------
    picture : (h, w, 3) coded.
    noise : its standard deviation, coded.

    Returns
    -------
    (h / 4, w / 4, 5) float32: colour, fine texture and rough texture (log of what noise does not explain).
    """
    height, width = picture.shape[:2]
    size = max(width // CELL, 2), max(height // CELL, 2)
    seen = np.clip(picture, 0, MOST_CODE)
    out = np.empty((size[1], size[0], 5), np.float32)
    out[..., :3] = cv2.resize(seen, size, interpolation=cv2.INTER_AREA)
    level = np.asarray(seen @ np.array((0.2126, 0.7152, 0.0722), np.float32), np.float32)
    for k, (blur, share) in enumerate(((1.0, 0.5), (3.0, 0.15))):
        fine = level - cv2.GaussianBlur(level, (0, 0), blur)
        power = cv2.resize(fine * fine, size, interpolation=cv2.INTER_AREA) - np.float32(share * noise * noise)
        out[..., 3 + k] = np.log(np.sqrt(np.maximum(power, 0)) / np.float32(LEAST_STEP) + 1) / 4
    return out


def sensed(seen: Array) -> Array:
    """Log odds of sky by two cells by two. seen (h, w, 5) as `cells` gives it; (h / 2, w / 2) float32, rounded up."""
    described = features(seen)
    first = answered(described, "first")
    return answered(np.concatenate([described, context(first)], axis=2), "second")


def features(seen: Array) -> Array:
    """What is told of each place: (h / 2, w / 2, 84) float32."""
    r, g, b = seen[..., 0], seen[..., 1], seen[..., 2]
    own = np.dstack([0.3 * r + 0.6 * g + 0.1 * b, b - r, g - (r + b) / 2, seen[..., 3], seen[..., 4]])
    level = np.ascontiguousarray(own[..., 0])
    step = np.hypot(cv2.Sobel(level, -1, 1, 0), cv2.Sobel(level, -1, 0, 1))
    own = _halved(own.astype(np.float32))
    ways = _halved(np.dstack([_way(seen[..., :3]), _way(seen[::-1, :, :3])[::-1], step]).astype(np.float32))
    height, width = own.shape[:2]
    out = [own, ways]
    for reach_cells in AROUND:
        mean = _boxed(own, reach_cells)
        spread = _boxed(own[..., :3] ** 2, reach_cells) - mean[..., :3] ** 2
        out += [mean, np.sqrt(np.maximum(spread, 0))]
    out += [_mean_above(own), _mean_above(own[::-1])[::-1]]
    steps = ways[..., 2:]
    out += [np.maximum.accumulate(steps, axis=0), np.maximum.accumulate(steps[::-1], axis=0)[::-1]]
    top = own[: max(1, height // TOP)]
    highest = top.mean(axis=(0, 1))
    whole = [own.mean(axis=1, keepdims=True), own.std(axis=1, keepdims=True), highest, top.std(axis=(0, 1))]
    whole += [np.abs(own - highest), own.mean(axis=(0, 1)), own.std(axis=(0, 1))]
    out += [np.broadcast_to(each, own.shape) for each in whole]
    out += [np.full((height, width, 1), np.quantile(own[..., 0], share)) for share in QUANTILES]
    down = np.broadcast_to(np.linspace(1, -1, height)[:, None], (height, width))
    aside = np.broadcast_to(np.abs(np.linspace(-1, 1, width))[None], (height, width))
    out += [np.dstack([down, aside])]
    return np.concatenate(out, axis=2).astype(np.float32)


def context(odds: Array) -> Array:
    """What an answer says round about, above, below, on the row and in the whole frame: (h, w, 13) float32."""
    height = len(odds)
    said = np.tanh(odds / 3).astype(np.float32)[..., None]
    out = [said, *(_boxed(said, reach_cells) for reach_cells in AROUND_ODDS)]
    out += [_mean_above(said), _mean_above(said[::-1])[::-1]]
    out += [np.minimum.accumulate(said, axis=0), np.maximum.accumulate(said[::-1], axis=0)[::-1]]
    whole = said.mean(axis=1, keepdims=True), said.mean(), said[: max(1, height // TOP)].mean(), said.max()
    out += [np.broadcast_to(each, said.shape) for each in whole]
    return np.concatenate(out, axis=2).astype(np.float32)


def answered(described: Array, which: str) -> Array:
    """Log odds (h, w) by the perceptron *first* or *second*. described (h, w, n)."""
    return perceptron.answered(described, _taught()[which])


@lru_cache(maxsize=1)
def _taught() -> dict[str, dict[str, Array]]:
    """Both perceptrons by name."""
    out: dict[str, dict[str, Array]] = {}
    with (files(__package__) / "sky_sense.npz").open("rb") as file, np.load(file) as stored:
        for name in stored.files:
            which, part = name.split("/")
            out.setdefault(which, {})[part] = stored[name].astype(np.float32)
    return out


def _way(colour: Array) -> Array:
    """Log of the step that all steps on the easiest way from the first row would make in one."""
    picture = np.ascontiguousarray(colour)
    return np.asarray(np.log(np.sqrt(reach(picture, SPARE)) + LEAST_REACH), np.float32)


def _mean_above(maps: Array) -> Array:
    """The mean of each column down to each row."""
    rows = np.arange(1, len(maps) + 1, dtype=np.float32)[:, None, None]
    return np.asarray(np.cumsum(maps, axis=0) / rows, np.float32)


def _boxed(maps: Array, cells_aside: int) -> Array:
    size = 2 * cells_aside + 1
    out = cv2.blur(maps, (size, size), borderType=cv2.BORDER_REFLECT)
    return np.asarray(out.reshape(maps.shape), np.float32)


def _halved(maps: Array) -> Array:
    """The mean of two by two."""
    height, width, kinds = maps.shape
    whole = np.pad(maps, ((0, height % 2), (0, width % 2), (0, 0)), mode="edge")
    out = whole.reshape((height + 1) // 2, 2, (width + 1) // 2, 2, kinds).mean(axis=(1, 3))
    return np.asarray(out, np.float32)
