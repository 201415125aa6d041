"""What is wrong with a matte, as numbers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import between_centres
from ..media.curves import coded
from ..shot.matte import Matte
from ..shot.shapes import Shape
from .old_sky import sky_behind
from .shapes import shape_alpha
from .steady import ALIKE

Array = NDArray[np.float32]
Mask = NDArray[np.bool_]

SOLID, EMPTY = 0.99, 0.01
THING, LEAST_THING_PX2 = 0.6, 16.0  # alpha and plate pixels² that make a thing of what stands in the sky
NATURAL = 30.0  # display code values; true mattes of nine plates read 11 to 23 (docs/FIGURES.md)
LEAST_SPREAD = 0.05  # of alpha over a rim, from which a slope over it can be told
LEAST_RIM = 40  # pixels; fewer say nothing


@dataclass(frozen=True)
class MatteReading:
    """Shares are 0…1.

    holes : of the keep area that is not solid; largest_hole_px2: the largest of them, in plate pixels.
    leftover : of the dropped area that is not empty.
    soft : of the frame that is neither solid nor empty.
    """

    holes: float
    largest_hole_px2: float
    leftover: float
    soft: float


def read_matte(
    alpha: Array,
    matte: Matte,
    frame: float,
    scale: float = 1.0,
    ride: Callable[[Shape, int], NDArray] | None = None,
) -> MatteReading:
    """Measures holes, leftover and softness.

    The keep area is where most of the neighbourhood (a twenty-fifth of the picture's width) is solid, and all that
    keep shapes enclose; the dropped area likewise. Edges themselves belong to neither, nor is a thing that stands in
    the dropped area with a solid part of its own left over.

    Parameters
    ----------
    alpha : (h, w) float32, the finished matte.
    ride : what a shape rides on; see `standing`.
    """
    hole, left, keep, drop = holes_and_leftover(alpha, matte, frame, scale, ride)
    count, _, stats, _ = cv2.connectedComponentsWithStats(hole.astype(np.uint8), connectivity=8)
    largest = float(stats[1:, cv2.CC_STAT_AREA].max()) if count > 1 else 0.0
    return MatteReading(
        holes=float(np.count_nonzero(hole) / max(int(np.count_nonzero(keep)), 1)),
        largest_hole_px2=largest / scale**2,
        leftover=float(np.count_nonzero(left) / max(int(np.count_nonzero(drop)), 1)),
        soft=float(np.mean((alpha > EMPTY) & (alpha < SOLID))),
    )


def holes_and_leftover(
    alpha: Array,
    matte: Matte,
    frame: float,
    scale: float = 1.0,
    ride: Callable[[Shape, int], NDArray] | None = None,
) -> tuple[Mask, Mask, Mask, Mask]:
    """Holes, leftover, keep area, dropped area: four masks, each (h, w); see `read_matte`.

    What stands in the sky by itself, with a solid part of its own (a wire, a vane, a twig), is not leftover: only what
    drop shapes enclose must be empty throughout.
    """
    height, width = alpha.shape
    reach = max(3, width // 25) | 1
    share = cv2.blur(np.clip(alpha, 0, 1), (reach, reach), borderType=cv2.BORDER_REPLICATE)
    window = np.ones((reach, reach), np.uint8)
    keep = cv2.erode((share > 0.5).astype(np.uint8), window, borderValue=1) > 0
    drop = cv2.erode((share <= 0.5).astype(np.uint8), window, borderValue=1) > 0
    kept, forced = enclosed(matte, frame, (width, height), scale, ride)
    keep, drop = (keep | kept) & ~forced, (drop & ~kept) | forced
    there = alpha > EMPTY
    left = drop & there & (forced | ~_standing_free(alpha, there, scale))
    return keep & (alpha < SOLID), left, keep, drop


def enclosed(
    matte: Matte,
    frame: float,
    size: tuple[int, int],
    scale: float = 1.0,
    ride: Callable[[Shape, int], NDArray] | None = None,
) -> tuple[Mask, Mask]:
    """What keep and drop shapes enclose wholly: two masks (h, w). Where both do, it is dropped, as the matte does."""
    kept, dropped = (np.zeros((size[1], size[0]), np.bool_) for _ in range(2))
    for shape in matte.shapes:
        if shape.on:
            inside = shape_alpha(shape, frame, size, scale, ride) > 0.999
            if shape.mode == "keep":
                kept |= inside
            else:
                dropped |= inside
    return kept & ~dropped, dropped


def _standing_free(alpha: Array, there: Mask, scale: float) -> Mask:
    """Connected parts of what is there that hold at least LEAST_THING_PX2 of solid."""
    count, labels = cv2.connectedComponents(there.astype(np.uint8), connectivity=8)
    solid = np.bincount(labels[alpha > THING], minlength=count)
    things = solid >= max(1.0, LEAST_THING_PX2 * scale**2)
    things[0] = False
    return np.asarray(things[labels])


def outside(alpha: Array) -> float:
    """Share of the frame whose alpha lies outside 0…1 (before a clamp)."""
    return float(np.mean((alpha < -1e-4) | (alpha > 1 + 1e-4)))


def halo(pixels: Array, alpha: Array, foreground: Array | None = None) -> float | None:
    """How much of the old sky the rim carries, in display code values (of 255): above 0 a pale fringe, below 0 a dark
    one; None where there is no rim to judge.

    A rim can be lighter than what it encloses by itself, as leaves and lit edges are; it is so where it is nearly solid
    as well. Light of the old sky grows with what is missing to solid. So it is the lesser of the rim's mean lean (see
    `lean`; each pixel counts by its alpha, as it is seen) and of what of it grows with 1 - alpha; 0 where the two
    contradict each other. A mean beyond NATURAL counts whole: no rim was by itself so much lighter.
    """
    leaning = lean(pixels, alpha, foreground)
    seen = np.isfinite(leaning)
    if int(seen.sum()) < LEAST_RIM:
        return None
    off, share = leaning[seen].astype(np.float64), alpha[seen].astype(np.float64)
    mean = float(np.average(off, weights=share))
    missing = 1 - share
    spread = missing - missing.mean()
    if spread.std() < LEAST_SPREAD or abs(mean) > NATURAL:
        return mean  # where all of the rim is as thin, nothing tells how it would grow
    grown = float((spread * off).sum() / (spread**2).sum() * missing.mean())
    return 0.0 if grown * mean <= 0 else float(np.copysign(min(abs(grown), abs(mean)), mean))


def lean(pixels: Array, alpha: Array, foreground: Array | None = None) -> Array:
    """How far each pixel of the rim leans toward the old sky, in display code values (of 255). (h, w), NaN elsewhere.

    The colour that a rim pixel (alpha 0.3 to 0.95) carries against that of the solid inside nearest to it, along the
    way from that inside to the old sky. 0 is clean, above 0 a pale fringe, below 0 a dark one.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear plate; foreground: (h, w, 4) premultiplied, where the sky was removed.
    """
    out = np.full(alpha.shape, np.nan, np.float32)
    rim = (alpha > 0.3) & (alpha < 0.95)
    if not rim.any():
        return out
    solid = (alpha > 0.98).astype(np.float32)
    weight = cv2.GaussianBlur(solid, (0, 0), 3.0)
    held = cv2.GaussianBlur(pixels * solid[..., None], (0, 0), 3.0)
    sky, sure = sky_behind(pixels, alpha)
    rim &= (weight > 0.02) & (sure > 0.5)
    if not rim.any():
        return out
    carried = pixels[rim] if foreground is None else foreground[rim][:, :3] / np.maximum(foreground[rim][:, 3:], 1e-3)
    inside = held[rim] / np.maximum(weight[rim], 1e-6)[:, None]
    rim_c, in_c, sky_c = (
        coded(np.ascontiguousarray(part[None], np.float32))[0] for part in (carried, inside, sky[rim])
    )
    way = sky_c - in_c
    length = np.linalg.norm(way, axis=1)
    along = np.where(length > 0.05, ((rim_c - in_c) * way).sum(axis=1) / np.maximum(length, 0.05) * 255, np.nan)
    out[rim] = along
    return out


def chatter(alpha: Array, feed: Array, other: Array, other_feed: Array, motion: NDArray) -> float | None:
    """Mean change of alpha from one frame to the next at edges that are locked, 0…1; None where there are none."""
    changed = change(alpha, feed, other, other_feed, motion)
    seen = np.isfinite(changed)
    return float(changed[seen].mean()) if int(seen.sum()) >= LEAST_RIM else None


def change(alpha: Array, feed: Array, other: Array, other_feed: Array, motion: NDArray) -> Array:
    """How much alpha differs from another frame's at locked edges, 0…1. (h, w), NaN elsewhere.

    `motion` is the (3, 3) way from the other frame's pixels to this one's. Where the plate itself changed between the
    two, the edge is not counted.
    """
    matrix, size = between_centres(motion), (alpha.shape[1], alpha.shape[0])
    carried = cv2.warpPerspective(
        other, matrix, size, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_CONSTANT, borderValue=-9
    )
    like = cv2.warpPerspective(other_feed, matrix, size, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    calm = cv2.GaussianBlur(like - feed, (0, 0), 1.5)
    edge = (alpha > 0.05) & (alpha < 0.95) & (carried > -1) & (np.abs(calm) < ALIKE)
    return np.asarray(np.where(edge, np.abs(np.clip(carried, 0, 1) - np.clip(alpha, 0, 1)), np.nan), np.float32)
