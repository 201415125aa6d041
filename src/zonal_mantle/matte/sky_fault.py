"""How likely a sky matte is wrong, by place: a perceptron that was taught by where our own mattes were.

What decides a pixel is looked at in cells of two working pixels, and round about each: how much of it stays and how
finely, how near to the colour of the sky near by what stays is and how far from it what goes is, whether alpha agrees
with the place between both colours, what its colour and the taught classifier say, texture and how much of it is fine
(a codec takes that first), and how unlike themselves sky and ground are. The answer is the chance that a pixel's alpha
is off by more than a half; over a frame it adds up to the share of it that is likely wrong. It was taught by
`tools/region/teach_fault.py` on made pictures; none of those that it is measured on was among them.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from importlib.resources import files
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.curves import coded
from .perceptron import answered
from .sky_colours import colour_ratio
from .sky_matte import SkyFound
from .sky_region import working_size

Array = NDArray[np.float32]

CELL = 2  # working pixels
AROUND = (1, 3, 8)  # cells to each side
WIDEST_PX = 1920  # a larger picture is looked at in this size
LUMA = np.array((0.2126, 0.7152, 0.0722), np.float32)
EMPTY, SOLID = 0.02, 0.98
WIDE = (40, 16, 6, 2)  # cells to each side over which the colours of sky and ground are drawn, the farthest first
ENOUGH = 0.05  # share of a window that must be empty, or solid, for its colour to count whole
NEAR_SKY, FAR_FROM_SKY, NEAR_GROUND = (0.06, 0.12, 0.25), (0.1, 0.2), 0.1  # coded distances
MOST_OWN, SKYS_OWN, GROUNDS_OWN = 4.0, 0.5, -0.25  # log ratio; and shares of it
FINE_PX, ROUGH_PX, DETAIL_PX = 1.2, 4.0, 2.0
MOSTLY = (0.670, 0.591, 0.062, 2.462)  # weights of `of_frame`, and an offset
SPREAD = 8  # cells to each side over which it is told how unlike themselves sky and ground are


def likely_wrong(pixels: Array, alpha: Array, found: SkyFound) -> Array:
    """The chance that alpha is off by more than a half, by place.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear. alpha : (h, w), what stays.
    found : where the frame's sky is, see `sky_matte.find_sky`.

    Returns
    -------
    (h', w') float32, 0…1, cells of two working pixels; its mean is the share of the frame that is likely wrong.
    """
    odds = answered(described(pixels, alpha, found), _taught())
    return np.asarray(1 / (1 + np.exp(-odds)), np.float32)


def of_frame(wrong: Array, alpha: Array) -> NDArray[np.float64]:
    """What `mostly_wrong` is told of a frame: log odds of the share of it that is likely wrong, of that of what goes,
    and of how much goes; (3,)."""
    goes = cv2.resize(alpha, wrong.shape[::-1], interpolation=cv2.INTER_AREA) < 0.5
    of_goes = float(wrong[goes].mean()) if goes.any() else 0.0
    share = np.clip([float(wrong.mean()), of_goes, float(goes.mean())], 0.001, 0.999)
    return np.asarray(np.log(share / (1 - share)))


def mostly_wrong(wrong: Array, alpha: Array) -> float:
    """The chance that most of what goes is no sky: in a picture without one, or with water, snow, a wall like one.

    Parameters
    ----------
    wrong : how likely the matte is wrong, by place, see `likely_wrong`. alpha : (h, w), what stays.

    Taught by `tools/region/teach_frame.py` on photographs.
    """
    odds = of_frame(wrong, alpha) @ MOSTLY[:-1] + MOSTLY[-1]
    return float(1 / (1 + np.exp(-odds)))


def described(pixels: Array, alpha: Array, found: SkyFound) -> Array:
    """What is told of each cell: (h', w', 132) float32."""
    height, width = alpha.shape
    across, down = (max(side // CELL, 4) for side in working_size(width, height))
    if width > WIDEST_PX:
        size = (WIDEST_PX, round(height * WIDEST_PX / width))
        pixels, alpha = (_to_cells(each, size) for each in (pixels, alpha))
    own = np.dstack([_to_cells(each, (across, down)) for each in _per_pixel(pixels, alpha, found, (across, down))])
    out = [own] + [_boxed(own, cells) for cells in AROUND]
    return np.nan_to_num(np.concatenate(out, axis=2))


def _to_cells(picture: NDArray[Any], size: tuple[int, int]) -> Array:
    how = cv2.INTER_AREA if picture.shape[1] >= size[0] else cv2.INTER_LINEAR
    return np.asarray(cv2.resize(np.ascontiguousarray(picture, np.float32), size, interpolation=how), np.float32)


def _boxed(maps: Array, cells: int) -> Array:
    size = (2 * cells + 1,) * 2
    parts = [cv2.blur(maps[..., k], size, borderType=cv2.BORDER_REFLECT) for k in range(maps.shape[2])]
    return np.dstack(parts)


def _per_pixel(pixels: Array, alpha: Array, found: SkyFound, size: tuple[int, int]) -> Iterator[NDArray[Any]]:
    """What is told of a cell itself, one picture after another, by pixel or by cell already."""
    height, width = alpha.shape
    codes, stays = coded(np.ascontiguousarray(pixels, np.float32)), np.clip(alpha, 0, 1).astype(np.float32)
    goes, level = 1 - stays, np.asarray(codes @ LUMA, np.float32)
    sky, sky_share = _own_colour(codes, stays < EMPTY, size)
    ground, ground_share = _own_colour(codes, stays > SOLID, size)
    skys, grounds = _drawn_over(sky, sky_share), _drawn_over(ground, ground_share)
    skys_here, grounds_here = (cv2.resize(each, (width, height)) for each in (skys, grounds))
    step, way = codes - skys_here, grounds_here - skys_here
    off = np.sqrt(np.square(step).sum(axis=2))
    on = np.clip((step * way).sum(axis=2) / np.maximum(np.square(way).sum(axis=2), 1e-3), 0, 1)
    from_ground = np.sqrt(np.square(codes - grounds_here).sum(axis=2))
    fine, rough, detail = (
        np.abs(each - cv2.GaussianBlur(each, (0, 0), blur))
        for each, blur in ((level, FINE_PX), (level, ROUGH_PX), (stays, DETAIL_PX))
    )
    del step, way, skys_here, grounds_here
    yield stays
    yield 4 * stays * goes
    yield detail
    yield from ((off < near) * stays for near in NEAR_SKY)
    yield from ((off > far) * goes for far in FAR_FROM_SKY)
    yield np.clip(stays - on, 0, 1)
    yield np.clip(on - stays, 0, 1)
    yield (from_ground < NEAR_GROUND) * goes
    yield from (np.minimum(off, 1) * part for part in (stays, goes))
    yield from (8 * fine * part for part in (stays, goes))
    yield from (4 * rough * part for part in (stays, goes))
    own = np.clip(colour_ratio(pixels, found.model.colours)[1] / MOST_OWN, -1, 1)
    few = stays[::2, ::2][: own.shape[0], : own.shape[1]]
    yield from (own * few, own * (1 - few), (own > SKYS_OWN) * few, (own < GROUNDS_OWN) * (1 - few))
    light, squared, colour = (_to_cells(each, size) for each in (level, level * level, codes))
    chance, sense, kept = (_to_cells(each, size) for each in (found.chance, found.sense, stays))
    yield light
    yield colour[..., 2] - colour[..., 0]
    yield colour[..., 1] - (colour[..., 0] + colour[..., 2]) / 2
    yield 4 * np.sqrt(np.maximum(squared - light * light, 0))
    yield from (chance, sense, 4 * chance * (1 - chance), np.abs(chance - sense), (1 - sense) * (1 - kept))
    yield np.asarray(np.sqrt(np.square(skys - grounds).sum(axis=2)), np.float32)
    yield from (_unlike_itself(sky, sky_share), _unlike_itself(ground, ground_share))


def _own_colour(codes: Array, where: NDArray[np.bool_], size: tuple[int, int]) -> tuple[Array, Array]:
    """The mean colour of what of each cell `where` holds, and how much of it that is."""
    held = where.astype(np.float32)
    share = _to_cells(held, size)
    mean = _to_cells(codes * held[..., None], size) / np.maximum(share, np.float32(1e-3))[..., None]
    return np.asarray(mean, np.float32), share


def _drawn_over(colour: Array, share: Array) -> Array:
    """A colour of some cells, drawn over all of them: the mean of the nearest window that holds enough."""
    weighed = colour * share[..., None]
    out = np.broadcast_to(weighed.sum(axis=(0, 1)) / max(float(share.sum()), 1e-3), colour.shape)
    for cells in WIDE:
        size = (2 * cells + 1,) * 2
        there = cv2.blur(share, size)[..., None]
        sure = np.clip(there / ENOUGH, 0, 1)
        out = out * (1 - sure) + sure * cv2.blur(weighed, size) / np.maximum(there, 1e-6)
    return np.ascontiguousarray(out, np.float32)


def _unlike_itself(colour: Array, share: Array) -> Array:
    """How much a colour differs from cell to cell round about."""
    size = (2 * SPREAD + 1,) * 2
    there = np.maximum(cv2.blur(share, size), 1e-3)[..., None]
    mean, squared = (cv2.blur(each * share[..., None], size) / there for each in (colour, colour * colour))
    return np.asarray(4 * np.sqrt(np.maximum((squared - mean * mean).sum(axis=2), 0)), np.float32)


@lru_cache(maxsize=1)
def _taught() -> dict[str, Array]:
    with (files(__package__) / "sky_fault.npz").open("rb") as file, np.load(file) as stored:
        return {name: stored[name].astype(np.float32) for name in stored.files}
