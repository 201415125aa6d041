"""Where it is doubtful what is sky: by the chance of being sky, by how likely the matte is wrong, and by what lies
between the sky and the ground."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.curves import coded

Array = NDArray[np.float32]

TAKEN_FOR_GROUND, TAKEN_FOR_SKY = (0.08, 0.30), (0.06, 0.24)  # chance of the other at which doubt begins, and is full
WIDE = 5  # working pixels: what is narrower is the region's rim, not doubtful for being one
LIKELY_WRONG = 0.06  # chance from which on a place is doubted
MOST_DOUBT, LEAST_ROOM = 0.028, 0.001  # of the frame: so much is doubted, the likeliest first
MUCH_WRONG, MORE_DOUBT = 0.025, 10.0  # of the frame, likely wrong: beyond it so many times as much more is doubted
OPEN = 0.1  # so much likelier wrong is what the chance leaves open
MOSTLY_WRONG = 0.5  # chance that most of what goes is no sky, from which on all of it is doubted
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
    wrong: Array | None = None,
    mostly: float = 0.0,
) -> Array:
    """How doubtful it is whether a pixel is sky, (h, w) float32, 0…1.

    Parameters
    ----------
    chance : of being sky, at the working size. pixels : (h, w, 3) float32, scene-linear. alpha : (h, w), what stays.
    said : what a person said of the frame, see `sky_region.drawn`: there is no doubt there.
    wrong : how likely the matte is wrong, by place, see `sky_fault.likely_wrong`.
    mostly : the chance that most of what goes is no sky, see `sky_fault.mostly_wrong`.

    What goes is doubted as a whole where most of it is likely no sky, or its colour is no sky's (`may_be_sky`), and so
    is the strip between sky and ground where `between` finds one. Of the rest is doubted what is likeliest wrong, and
    what the chance leaves most open, as much as one can look through.
    """
    height, width = alpha.shape
    doubt = between(pixels, alpha)
    if mostly > MOSTLY_WRONG or not may_be_sky(pixels, alpha):
        doubt = np.where(alpha < 0.5, np.float32(1), doubt)
    doubt = np.asarray(cv2.dilate(doubt, np.ones((max(3, width // SPREAD) | 1,) * 2, np.uint8)), np.float32)
    is_open = _left_open(chance)
    if wrong is None:
        doubt = np.maximum(doubt, cv2.resize(is_open, (width, height), interpolation=cv2.INTER_LINEAR))
    else:
        likely = wrong + OPEN * cv2.resize(is_open, wrong.shape[::-1], interpolation=cv2.INTER_LINEAR)
        level = _doubted_from(likely, float(wrong.mean()), float((doubt > 0.5).mean()))
        here = cv2.resize(likely, (width, height), interpolation=cv2.INTER_LINEAR)
        doubt = np.maximum(doubt, np.minimum(here / np.float32(2 * level), 1))
    if said is not None:
        doubt *= 1 - np.abs(cv2.resize(said, (width, height), interpolation=cv2.INTER_LINEAR))
    return np.asarray(doubt, np.float32)


def _left_open(chance: Array) -> Array:
    """How far the chance of being sky leaves open what a place is, 0…1, where that is wide; as `chance`."""
    window = np.ones((WIDE, WIDE), np.uint8)
    out = np.zeros_like(chance)
    for other, (low, full) in (
        (np.where(chance < 0.5, chance, 0), TAKEN_FOR_GROUND),
        (np.where(chance < 0.5, 0, 1 - chance), TAKEN_FOR_SKY),
    ):
        wide = cv2.dilate(cv2.erode(other.astype(np.float32), window), window)
        out = np.maximum(out, np.clip((wide - low) / (full - low), 0, 1))
    return np.asarray(out, np.float32)


def _doubted_from(likely: Array, wrong: float, doubted: float) -> float:
    """From where on a place is doubted, where a share of the frame is `doubted` already: what is likeliest, as much as
    one can look through; more where much is `wrong`."""
    room = max(MOST_DOUBT + MORE_DOUBT * max(wrong - MUCH_WRONG, 0.0) - doubted, LEAST_ROOM)
    return max(LIKELY_WRONG, float(np.quantile(likely, 1 - min(room, 1.0))))


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
