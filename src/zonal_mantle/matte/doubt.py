"""Where it is doubtful what is sky: by the chance of being sky, and by what lies between the sky and the ground."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.curves import coded
from .sky_sense import KNOWN

Array = NDArray[np.float32]

TAKEN_FOR_GROUND, TAKEN_FOR_SKY = (0.08, 0.30), (0.06, 0.24)  # chance of the other at which doubt begins, and is full
WIDE = 5  # working pixels: what is narrower is the region's rim, not doubtful for being one
BROAD = 13  # the same where the coarse classifier contradicts
FINE, FINE_PX = 0.06, 2.0  # mean over a broad place; a straight edge makes less of it
CONTRADICTED = (0.5, 0.8)  # its chance of the other
OPEN_OWN, OPEN_SHARE, OPEN_PX = 2.5, 0.4, 2  # log ratio; share of a working pixel; working pixels, at least so broad
LEAST_KNOWN = 0.45  # share of what is taken for sky that must be known for it
SPREAD = 150  # of the frame's width: doubt reaches this far beyond what is doubtful
ACROSS_PX = 640  # of the copy on which strips are looked for
STRIP = 0.035  # of the frame's height above the ground
LEAST_STEP, STEP_NOISES = 0.05, 16.0  # coded, of all three channels; and in deviations of noise of a mean
DARK, BLUE = 0.35, 0.02  # coded: darker than this, and not bluer than this, is no sky
LEAST_LONG = 25  # of the frame's width: a strip is at least so long


def doubt_of(
    chance: Array,
    pixels: Array,
    alpha: Array,
    said: Array | None = None,
    sense: Array | None = None,
    own: Array | None = None,
) -> Array:
    """How doubtful it is whether a pixel is sky, (h, w) float32, 0…1.

    Parameters
    ----------
    chance : of being sky, at the working size. pixels : (h, w, 3) float32, scene-linear. alpha : (h, w), what stays.
    said : what a person said of the frame, see `sky_region.drawn`: there is no doubt there.
    sense : the chance by the taught classifier alone, of the same size as `chance`; what it contradicts is doubted.
    own : of every second pixel, how much its colour is the sky's own, see `sky_colours.colour_ratio`; openings of such
        a colour that stay are doubted.

    What is taken for ground is doubted from another chance on than what is taken for sky; so is the strip between sky
    and ground where `between` finds one, and all that goes where its colour is no sky's (`may_be_sky`) or little of it
    is known for a sky (`is_known`).
    """
    height, width = alpha.shape
    window = np.ones((WIDE, WIDE), np.uint8)
    out = np.zeros_like(chance)
    for other, (low, full) in (
        (np.where(chance < 0.5, chance, 0), TAKEN_FOR_GROUND),
        (np.where(chance < 0.5, 0, 1 - chance), TAKEN_FOR_SKY),
    ):
        wide = cv2.dilate(cv2.erode(other.astype(np.float32), window), window)
        out = np.maximum(out, np.clip((wide - low) / (full - low), 0, 1))
    if sense is not None:
        against = np.where(chance < 0.5, sense, (1 - sense) * (_fine(alpha, chance) < FINE)).astype(np.float32)
        broad = np.ones((BROAD, BROAD), np.uint8)
        opened = np.asarray(cv2.dilate(cv2.erode(against, broad), broad), np.float32)
        out = np.maximum(out, np.clip((opened - CONTRADICTED[0]) / (CONTRADICTED[1] - CONTRADICTED[0]), 0, 1))
    if own is not None:
        out = np.maximum(out, _openings(own, alpha, (chance.shape[1], chance.shape[0])))
    doubt = cv2.resize(out.astype(np.float32), (width, height), interpolation=cv2.INTER_LINEAR)
    doubt = np.maximum(doubt, between(pixels, alpha))
    if not may_be_sky(pixels, alpha) or (sense is not None and not is_known(chance, sense, said)):
        doubt = np.where(alpha < 0.5, np.float32(1), doubt)
    doubt = cv2.dilate(doubt, np.ones((max(3, width // SPREAD) | 1,) * 2, np.uint8))
    if said is not None:
        doubt *= 1 - np.abs(cv2.resize(said, (width, height), interpolation=cv2.INTER_LINEAR))
    return np.asarray(doubt, np.float32)


def _openings(own: Array, alpha: Array, size: tuple[int, int]) -> Array:
    """What stays though its colour is one that the shot's sky has and its ground has not, at the working size, and a
    little round about. (h, w) float32, 0 or 1."""
    rows, columns = own.shape
    left = ((own > OPEN_OWN) & (alpha[::2, ::2][:rows, :columns] > 0.5)).astype(np.float32)
    there = (cv2.resize(left, size, interpolation=cv2.INTER_AREA) > OPEN_SHARE).astype(np.uint8)
    opened = cv2.morphologyEx(there, cv2.MORPH_OPEN, np.ones((OPEN_PX, OPEN_PX), np.uint8))
    return np.asarray(cv2.dilate(opened, np.ones((WIDE + 2,) * 2, np.uint8)), np.float32)


def _fine(alpha: Array, chance: Array) -> Array:
    """How much of the matte is finer than a few pixels, by place at the working size: twigs that are kept are what the
    coarse classifier sees where sky goes between them, and no contradiction."""
    detail = np.abs(alpha - cv2.GaussianBlur(alpha, (0, 0), FINE_PX))
    small = cv2.resize(detail, chance.shape[::-1], interpolation=cv2.INTER_AREA)
    return np.asarray(cv2.blur(small, (BROAD, BROAD)), np.float32)


def is_known(chance: Array, sense: Array, said: Array | None = None) -> bool:
    """Whether much of what is taken for sky looks like one to the taught classifier, or a person has said on the frame
    where sky is; true where nothing is taken."""
    if said is not None and (said > 0).any():
        return True
    taken = sense[chance > 0.5]
    return not taken.size or float((taken > KNOWN).mean()) >= LEAST_KNOWN


def may_be_sky(pixels: Array, alpha: Array) -> bool:
    """Whether what goes has a colour that a sky has by day or dusk: bright, or blue. A dark wall, a table, a black
    night have not. Common practice; true where nothing goes."""
    few = pixels[::4, ::4][alpha[::4, ::4] < 0.05]
    if not len(few):
        return True
    r, g, b = np.median(coded(np.ascontiguousarray(few[None], np.float32))[0], axis=0)
    return bool(0.2126 * r + 0.7152 * g + 0.0722 * b > DARK or b > max(r, g) + BLUE)


def between(pixels: Array, alpha: Array) -> Array:
    """Strips that go with the sky, lie just above the ground, and are set off from the sky above them by a step of
    colour: hazy hills, far shores, a bank of cloud. (h, w) float32, 0 or 1."""
    height, width = alpha.shape
    fit = min(1.0, ACROSS_PX / width)
    size = (max(1, round(width * fit)), max(1, round(height * fit)))
    codes = coded(np.ascontiguousarray(cv2.resize(pixels, size, interpolation=cv2.INTER_AREA), np.float32))
    stays = cv2.resize(np.clip(alpha, 0, 1), size, interpolation=cv2.INTER_AREA)
    above = _above_ground(stays > 0.5)
    deep = max(3, round(STRIP * size[1]))
    sky = (stays < 0.05).astype(np.float32)
    win = max(5, size[0] // 60) | 1
    means = cv2.blur(np.dstack([codes * sky[..., None], sky]), (win, 1))
    there = means[..., 3] > 0.5
    colour = means[..., :3] / np.maximum(means[..., 3:], 1e-6)
    step = np.zeros(stays.shape, np.float32)
    both = there[:-2] & there[2:]
    step[1:-1] = np.where(both, np.abs(colour[2:] - colour[:-2]).sum(axis=2), 0)
    beside = np.abs(np.diff(codes, axis=1)).sum(axis=2)[sky[:, 1:] > 0]
    noise = float(np.median(beside)) / 3 if beside.size else 0.0
    hit = (above > 1) & (above <= deep) & (step > max(LEAST_STEP, STEP_NOISES * noise / np.sqrt(win)))
    under = _below(hit, (above > 0) & (above <= deep)).astype(np.uint8)
    long = np.ones((1, max(5, size[0] // LEAST_LONG) | 1), np.uint8)
    strip = cv2.morphologyEx(under, cv2.MORPH_OPEN, long)
    return np.asarray(cv2.resize(strip, (width, height), interpolation=cv2.INTER_NEAREST), np.float32)


def _above_ground(ground: NDArray[np.bool_]) -> NDArray[np.int32]:
    """How many pixels each lies above the next ground below it; very many where there is none."""
    height, width = ground.shape
    out = np.empty((height, width), np.int32)
    rows = np.full(width, 1 << 20, np.int32)
    for y in range(height - 1, -1, -1):
        rows = np.where(ground[y], 0, rows + 1)
        out[y] = rows
    return out


def _below(hit: NDArray[np.bool_], within: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """All that lies below a hit and `within`."""
    out = np.empty_like(hit)
    run = np.zeros(hit.shape[1], np.bool_)
    for y in range(hit.shape[0]):
        run = (run | hit[y]) & within[y]
        out[y] = run
    return out
