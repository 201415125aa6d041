"""The sky matte: which pixels are sky (`sky_region`), the sky behind them (`local_sky`), and the edge between.

The edge is unmixed in scene-linear light, C = α·F + (1 − α)·S (Porter & Duff 1984). What stays is seldom of one
colour: leaves before a middling sky are darker than it and brighter. So F is guessed from near by for each of eight
directions in colour away from the sky, from what stands out most in that direction and is more than a pixel wide; a
pixel is compared with what stays in its own direction. What lies within the plate's noise of the sky (Mahalanobis
distance) is empty, what lies within it far from any sky is solid, and clouds are sky.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import kernel, part
from ..media.curves import srgb_decode
from ..shot.matte import ClearSkyPull
from ..words import say
from .clear_sky import away_from, plain_surfaces
from .errors import MatteError
from .local_sky import local_sky
from .over_time import averaged, share_of
from .sky_colours import colour_ratio
from .sky_edge import Looked, second_look
from .sky_gaps import beside_of, mixed_of, sky_like
from .sky_region import SkyModel, learn_sky, sharpened, sky_region
from .sky_sense import KNOWN
from .what_stays import BLOCK, DIRECTIONS, NO_SKY, what_stays

Array = NDArray[np.float32]

LEAST_SHARE = 0.002  # of the frame that must be sky
LEAST_KNOWN = 0.006  # of the frame that must be known for sky by the taught classifier
UNDECIDED, MOST_UNDECIDED = (0.15, 0.85), 0.65  # chances, and share of the frame: then nothing tells sky from ground
IN_SKY, FULL_IN_SKY = 5.0, 9.5  # further deviations that a thing in the midst of sky must stand out by
OF_CLOUDS = (0.4, 0.12)  # of how far clouds lie from the broad sky may be left at their rims, bright and dark
BEND = 0.9
WIDTHS_PX = (3, 6, 12, 25)  # of edges, by how soft the picture is
REACH_PX = 25  # as far from sky a pixel may be seen through if its colour is a mixture
MIXED, MORE_LIGHT = 0.02, 4.0  # share of the sky's light that tells a mixture; how much lighter what stays may be
LIKE_NOISES, MOST_ALIKE, LEAST_FAR = 20.0, 0.003, 400  # deviations, share of the ground, pixels that tell
LIKE_STEP = 0.2  # coded: at least as far as this from the sky
BETWEEN_PX = 24  # between two gaps all may be seen through
CLOSEST_FIRST = np.array([0, 2, 1, *([0] * 253)], np.uint8)  # 2 close to sky, 1 within reach of it, become 1 and 2


@dataclass(frozen=True)
class SkyCut:
    """alpha (h, w) of what stays, and sky (h, w, 3) behind it, scene-linear, both float32."""

    alpha: Array
    sky: Array

    def shrunk(self, size: tuple[int, int]) -> SkyCut:
        """For a proxy of (width, height). A gap of a few pixels is a mixture there, and mixtures tell no gap."""
        alpha, sky = (cv2.resize(each, size, interpolation=cv2.INTER_AREA) for each in (self.alpha, self.sky))
        return SkyCut(np.asarray(alpha, np.float32), np.asarray(sky, np.float32))


@dataclass(frozen=True)
class SkyFound:
    """Where a frame's sky is, at the working size: the chance of being sky (h, w), that by the taught classifier alone,
    what the shot has taught, and what was said of the frame, see `sky_region.drawn`."""

    chance: Array
    sense: Array
    model: SkyModel
    said: Array | None = None


def find_sky(picture: Array, model: SkyModel | None = None, said: Array | None = None) -> SkyFound:
    """Finds the sky on a working picture, by a shot's model or from this one picture. See `sky_region.working`."""
    model = learn_sky([picture], [said]) if model is None else model
    chance, sense = sky_region(picture, model, said)
    return SkyFound(chance, sense, model, said)


def sky_matte(
    pixels: Array,
    pull: ClearSkyPull,
    found: SkyFound,
    frame: float = 0,
    scale: float = 1.0,
    beside: Iterable[Array] = (),
) -> SkyCut:
    """Cuts the sky out.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear, at `scale` (pixels of it to one of the plate).
    found : where the sky is; see `find_sky`.
    pull : its `empty` and `full`, in deviations of noise.
    beside : frames beside this one; where the shot is noisy they are averaged in, see `over_time`.

    Raises
    ------
    MatteError : no sky is found.
    """
    more, noise = None, found.model.noise
    if (share := share_of(noise)) > 0:
        pixels, more = averaged(pixels, beside, noise * min(scale, 1.0), share)
    looked = first_look(pixels, pull, found, frame, scale, more)
    out = second_look(looked, pull.empty.at(frame))
    if found.said is not None:
        said = cv2.resize(found.said, out.shape[::-1], interpolation=cv2.INTER_LINEAR)
        out = np.where(said > 0, out * (1 - said), out - (1 - out) * said).astype(np.float32)
    return SkyCut(out, looked.sky)


def first_look(
    pixels: Array,
    pull: ClearSkyPull,
    found: SkyFound,
    frame: float = 0,
    scale: float = 1.0,
    more: Array | None = None,
) -> Looked:
    """Alpha by what each pixel shows alone, and what it was found by; see `sky_matte`. more (h, w): how much more noise
    than elsewhere a pixel has."""
    if not has_sky(found):
        raise MatteError(
            say(
                "No sky was found: nothing tells sky from ground. Drag over some sky with Sky here, or choose "
                "another pull."
            )
        )
    height, width = pixels.shape[:2]
    size = min(scale, 1.0)
    region = sharpened(found.chance)
    feed, own = colour_ratio(pixels, found.model.colours)
    sky = local_sky(pixels, region, feed, own)
    linear = np.ascontiguousarray(srgb_decode(np.maximum(sky.surface, 0)), np.float32)
    off, away, behind = away_from(sky, linear, pixels)
    if more is not None:
        off /= more
    plain = plain_surfaces(off, away, scale)
    chance: Array = np.asarray(cv2.resize(region, (width, height), interpolation=cv2.INTER_LINEAR), np.float32)
    like = sky_like(off, region, chance, own, plain)
    near, most = _near(like, away, size)
    unlike = _unlike(off, near, sky.whitening)
    fore = what_stays(pixels, behind, off, away, most, near, unlike, chance, size)
    del away, feed, own  # of a large plate they would be a gigabyte
    deep = cv2.erode(region, np.ones((3, 3), np.uint8))
    alpha, way = np.empty((height, width), np.float32), np.zeros((height, width, 3), np.float32)
    limits = np.float32(pull.empty.at(frame)), np.float32(pull.full.at(frame)), unlike
    told = pixels, behind, off, near, plain, (chance, deep), sky.uneven, fore, DIRECTIONS
    run_bands(_cut_rows, height, *told, *limits, alpha, way)
    return Looked(alpha, off, pixels, behind, way, near, region, noise_about(sky.whitening))


def has_sky(found: SkyFound) -> bool:
    """Whether there is a sky to speak of, and something tells it from the ground."""
    low, high = UNDECIDED
    undecided = float(((found.chance > low) & (found.chance < high)).mean())
    region = sharpened(found.chance) > 0.5
    if found.said is not None:
        return float(region.mean()) >= LEAST_SHARE
    known = float((region & (found.sense > KNOWN)).mean()) >= LEAST_KNOWN
    return known and undecided <= MOST_UNDECIDED


def _boxed(change, picture: NDArray, reach: int) -> NDArray:  # type: ignore[no-untyped-def]
    """`cv2.erode` or `cv2.dilate` by a square of `reach` px to each side."""
    across = change(picture, np.ones((1, 2 * reach + 1), np.uint8))
    return np.asarray(change(across, np.ones((2 * reach + 1, 1), np.uint8)))


def _unlike(off: Array, near: NDArray[np.uint8], whitening: NDArray[np.float32]) -> np.float32:
    """How unlike the sky the ground far from it is, 0…1: where none of it comes near the sky's colour, what does so
    close to the sky is seen through."""
    far = off[::2, ::2][near[::2, ::2] == 0]
    if far.size < LEAST_FAR:
        return np.float32(0)
    alike = float((far < max(LIKE_NOISES, LIKE_STEP / noise_about(whitening))).mean())
    return np.float32(min(max((MOST_ALIKE - alike) / (0.8 * MOST_ALIKE), 0.0), 1.0))


def noise_about(whitening: NDArray[np.float32]) -> float:
    """The deviation of the sky's noise, coded, over the channels."""
    finer = whitening.astype(np.float64)
    return float(np.sqrt(np.trace(np.linalg.inv(finer.T @ finer)) / 3))


def _near(like: NDArray[np.uint8], away: Array, size: float) -> tuple[NDArray[np.uint8], Array]:
    """1 where pixels may be seen through: within an edge's width of sky, or between gaps; 2 where they may if they look
    like it; (h, w). And the most that anything near by stands out, by block."""
    height, width = like.shape
    extent = np.empty((3, -(-height // BLOCK), -(-width // BLOCK)), np.float32)
    run_bands(_extent_rows, extent.shape[1], away, extent)
    window = np.ones((7, 7), np.uint8)
    most = cv2.dilate(extent[0], window)
    contrast = most - cv2.erode(extent[1], window)
    softness = np.float32(1.5) * contrast / np.maximum(cv2.dilate(extent[2], window), np.float32(0.01))
    few = (max(width // 2, 1), max(height // 2, 1))  # what is wider than an edge is looked at at half size
    any_of = np.asarray(cv2.dilate(like, np.ones((2, 2), np.uint8), anchor=(0, 0)))
    half = np.asarray(cv2.resize(any_of, few, interpolation=cv2.INTER_NEAREST))
    between = max(1, round(BETWEEN_PX * size / 2))
    wider = _boxed(cv2.erode, _boxed(cv2.dilate, half, between), max(1, round((BETWEEN_PX / 2 - 1) * size)))
    for wide in WIDTHS_PX[1:]:
        soft = softness >= wide * size
        if soft.any():
            there = cv2.resize(soft.astype(np.uint8), few, interpolation=cv2.INTER_NEAREST)
            wider |= _boxed(cv2.dilate, half, max(1, round(wide * size / 2))) & there
    reached = _boxed(cv2.dilate, half, max(1, round(REACH_PX * size / 2)))
    broad = cv2.resize(np.maximum(2 * wider, reached), (width, height), interpolation=cv2.INTER_NEAREST)
    close = _boxed(cv2.dilate, like, max(2, round(WIDTHS_PX[0] * size)))
    return np.asarray(cv2.LUT(cv2.max(2 * close, broad), CLOSEST_FIRST)), np.asarray(most, np.float32)


@kernel
def _extent_rows(first, end, away, extent):  # type: ignore[no-untyped-def]
    """Per block: the most and the least distance from the sky, and the steepest step of it."""
    height, width = away.shape
    one = np.float32(1)
    for j in range(first, end):
        for i in range(extent.shape[2]):
            most, least, steep = np.float32(0), one, np.float32(0)
            for y in range(BLOCK * j, min(BLOCK * j + BLOCK, height)):
                for x in range(BLOCK * i, min(BLOCK * i + BLOCK, width)):
                    a = min(away[y, x], one)
                    r, d = min(away[y, min(x + 1, width - 1)], one), min(away[min(y + 1, height - 1), x], one)
                    calm = (a + a + r + d) * np.float32(0.25)
                    most, least = max(most, calm), min(least, calm)
                    steep = max(steep, max(abs(r - a), abs(d - a)))
            extent[0, j, i], extent[1, j, i], extent[2, j, i] = most, least, steep


@part
def _mixes(seen, sky, er, eg, eb):  # type: ignore[no-untyped-def]
    """How far a colour is a mixture of what stays (sky + e) with the sky, and not what stays in more or less light."""
    one = np.float32(1)
    dr, dg, db = seen[0] - sky[0], seen[1] - sky[1], seen[2] - sky[2]
    share = (dr * er + dg * eg + db * eb) / (er * er + eg * eg + eb * eb + np.float32(1e-9))
    share = min(max(share, np.float32(0)), one)
    off_line = np.sqrt((dr - share * er) ** 2 + (dg - share * eg) ** 2 + (db - share * eb) ** 2)
    fr, fg, fb = sky[0] + er, sky[1] + eg, sky[2] + eb
    light = (seen[0] * fr + seen[1] * fg + seen[2] * fb) / (fr * fr + fg * fg + fb * fb + np.float32(1e-9))
    light = min(max(light, np.float32(0)), np.float32(MORE_LIGHT))
    off_ray = np.sqrt((seen[0] - light * fr) ** 2 + (seen[1] - light * fg) ** 2 + (seen[2] - light * fb) ** 2)
    level = np.sqrt(sky[0] * sky[0] + sky[1] * sky[1] + sky[2] * sky[2]) + np.float32(1e-6)
    return min(max((off_ray - off_line) / (np.float32(MIXED) * level) - one, np.float32(0)), one)


@part
def _fore_at(fore, y, height, stays):  # type: ignore[no-untyped-def]
    """What stays by direction, between two rows of cells."""
    j, below, fv = beside_of(y, height, fore.shape[1])
    for k in range(fore.shape[0]):
        for i in range(fore.shape[2]):
            for c in range(4):
                stays[k, i, c] = fore[k, j, i, c] * (np.float32(1) - fv) + fore[k, below, i, c] * fv


@kernel
def _cut_rows(y0, y1, pixels, sky, off, near, plain, chances, uneven, fore, directions, empty, full, unlike, out, way):  # type: ignore[no-untyped-def]
    height, width = off.shape
    chance, deep = chances
    gw = fore.shape[2]
    zero, one, half, bend = np.float32(0), np.float32(1), np.float32(0.5), np.float32(BEND)
    stays = np.empty((8, gw, 4), np.float32)  # `fore` on a row
    for y in range(y0, y1):
        jr, belowr, fvr = beside_of(y, height, deep.shape[0])
        jc, belowc, fvc = beside_of(y, height, uneven.shape[0])
        known = False
        for x in range(width):
            p = chance[y, x]
            if (near[y, x] == 0 and p <= np.float32(NO_SKY)) or (plain[y, x] >= 2 and p < half):
                out[y, x] = one
                continue
            if off[y, x] <= empty:
                out[y, x] = zero
                continue
            if not known:
                _fore_at(fore, y, height, stays)
                known = True
            i, beside, fu = beside_of(x, width, gw)
            dr = pixels[y, x, 0] - sky[y, x, 0]
            dg = pixels[y, x, 1] - sky[y, x, 1]
            db = pixels[y, x, 2] - sky[y, x, 2]
            length = np.sqrt(dr * dr + dg * dg + db * db) + np.float32(1e-9)
            total, sum_of = np.float32(1e-9), zero
            fr, fg, fb = zero, zero, zero
            for k in range(4):  # of each pair of opposite directions, the one that it lies in
                m = (directions[k, 0] * dr + directions[k, 1] * dg + directions[k, 2] * db) / length
                own = stays[k if m > zero else 7 - k]
                a, b = own[i], own[beside]
                er = a[0] * (one - fu) + b[0] * fu - sky[y, x, 0]
                eg = a[1] * (one - fu) + b[1] * fu - sky[y, x, 1]
                eb = a[2] * (one - fu) + b[2] * fu - sky[y, x, 2]
                there = a[3] * (one - fu) + b[3] * fu + np.float32(1e-4)
                along = dr * er + dg * eg + db * eb
                m2 = m * m
                m = m2 * m2 * m2 * there
                total += m
                fr, fg, fb = fr + m * er, fg + m * eg, fb + m * eb
                share = along / (er * er + eg * eg + eb * eb + np.float32(1e-9))
                sum_of += m * min(max(share, zero), np.float32(1.2))
            way[y, x, 0], way[y, x, 1], way[y, x, 2] = fr / total, fg / total, fb / total
            alpha = min(sum_of / total / np.float32(0.95), one)
            if alpha > bend:  # nearly solid is solid: what stays is never quite of one colour
                alpha = min(bend + (alpha - bend) * (one - bend) / (np.float32(0.98) - bend), one)
            if near[y, x] == 2 and p <= np.float32(NO_SKY):
                mixed = _mixes(pixels[y, x], sky[y, x], fr / total, fg / total, fb / total)
                alpha = one - (one - alpha) * max(mixed, unlike)
            rise = min((off[y, x] - empty) / max(full - empty, np.float32(1e-3)), one)
            alpha *= rise * rise * (np.float32(3) - np.float32(2) * rise)
            ir, besider, fur = beside_of(x, width, deep.shape[1])
            sure = (mixed_of(deep, jr, belowr, fvr, ir, besider, fur) - half) / np.float32(0.4)
            if sure > zero:  # in the midst of sky only what stands out by much is there
                sure = min(sure, one)
                sure *= sure * (np.float32(3) - np.float32(2) * sure)
                ic, besidec, fuc = beside_of(x, width, uneven.shape[1])
                rims = np.float32(OF_CLOUDS[0]) if dr + dg + db > zero else np.float32(OF_CLOUDS[1])
                rims *= mixed_of(uneven, jc, belowc, fvc, ic, besidec, fuc)
                stands = off[y, x] / np.sqrt(one + rims * rims) - empty - np.float32(IN_SKY)
                stands /= np.float32(FULL_IN_SKY - IN_SKY + 1.5)
                stands = min(max(stands, zero), one)
                alpha *= one - sure * (one - stands * stands * (np.float32(3) - np.float32(2) * stands))
            out[y, x] = alpha
