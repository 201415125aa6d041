"""A plate's own noise: how strong by level and channel, how wide, how alike in the channels.

Model: where a picture is flat, or where two frames of it show the same, what is left is noise. Differences between
frames along a motion take the picture's own texture out; in one frame a plane through each tile does. Tiles that hold
more than noise are left out: from the calmest on, those that noise alone would explain are kept (a sigma clip from
below). The autocorrelation is taken over those tiles.

References
----------
Noise by level from the calmest tiles: Liu, Tanaka & Okutomi, Single-image noise level estimation for blind denoising,
IEEE Trans. Image Processing 22 (2013). Film grain as an autocorrelated field scaled by level: Norkin & Birkbeck, DCC
2018.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..shot.match import GrainModel
from ..words import say
from .noise_flats import flat_tiles
from .noise_shape import PHASES, TILE, alone, autocorrelation, levelled, tails_of, tiles_of

Array = NDArray[np.float32]
BINS = 10  # of brightness, that tiles are first chosen in
LEAST_TILES = 5  # in one of them
LEAST_ALL = 12  # tiles that tell a noise
LEVELS = 16  # coded, that its strength is told at
LEAST_PIXELS = 800  # that tell it at one of them
MOST_ALIKE = 60  # of one brightness that are looked at in a frame
NO_NOISE = 1e-8  # variance: a hundredth of a code of eight bits
CUT_AT, CUT_SHORT = 0.5, 0.509  # deviations above the middle, and how far below it the mean of what is left lies
LEAST_SHARE = 0.1  # of all tiles, that a noise explains between frames
FLAT_SPREAD = 0.15  # relative uncertainty of a strength that flat tiles tell
FREED = TILE * TILE / (TILE * TILE - 3)  # a plane has three numbers
LEAST_CALM = 0.35  # of the tiles that are believed; of even noise it would be 0.69
CLIPPED_LOW, CLIPPED_HIGH = 0.012, 0.985  # coded: noise is cut off there
BLOCKY = 1.15  # from how much stronger steps on the 8-pixel grid on a plate was compressed


class Noise(NamedTuple):
    """model : of the noise. tiles : how many told it. spread : relative uncertainty of its strength. blocky : how much
    stronger steps are on the 8-pixel grid of compression than beside it, 1 where there is none. pixels : how many told
    the strength of each channel at each level of the model; what none told is as at the next level. by_flats : it was
    told by what is flat in single frames, since a codec carries it from frame to frame."""

    model: GrainModel
    tiles: int
    spread: float
    blocky: float
    pixels: tuple[tuple[int, int, int], ...]
    by_flats: bool = False

    @property
    def is_compressed(self) -> bool:
        """Whether what a codec left is what was measured."""
        return self.by_flats or self.blocky > BLOCKY


class Residual(NamedTuple):
    """What is left of tiles without the picture. left : (n, TILE, TILE, 3), of the noise of both frames where `phase`
    tells how the other was interpolated. level : (n, TILE, TILE, 3) coded. phase : (n, 2) of a pixel in PHASES-ths;
    -1 where there is one frame only. tiles : the first frame's own, coded."""

    left: NDArray
    level: NDArray
    phase: NDArray[np.int64]
    tiles: NDArray


def shift_between(a: Array, b: Array) -> tuple[float, float]:
    """How far a picture has moved from one frame to the next, (x, y) in pixels, by phase correlation (Kuglin & Hines
    1975). (h, w) float32 each, of one brightness."""
    window = cv2.createHanningWindow((a.shape[1], a.shape[0]), cv2.CV_32F)
    (x, y), response = cv2.phaseCorrelate(a, b, window)
    return (float(x), float(y)) if response > 0.03 else (0.0, 0.0)


def _centres(shape: tuple[int, ...]) -> NDArray[np.float64]:
    rows, columns = shape[0] // TILE, shape[1] // TILE
    y, x = np.mgrid[:rows, :columns]
    return (np.stack([x.ravel(), y.ravel()], axis=1) + 0.5) * TILE


def residuals(
    frames: Sequence[Array], masks: Sequence[NDArray | None], motions: Sequence[NDArray] | None = None
) -> Residual:
    """Tiles without the picture.

    Parameters
    ----------
    frames : coded pictures, (h, w, 3) float32, that follow one another. masks : where each may be looked at. motions :
        (3, 3) from each frame to the next; found by phase correlation where they are not given.
    """
    left, levels, phases, own = [], [], [], []
    for k, (frame, mask) in enumerate(zip(frames, masks)):
        tiles = tiles_of(frame)
        fits = (tiles.min(axis=(1, 2, 3)) > CLIPPED_LOW) & (tiles.max(axis=(1, 2, 3)) < CLIPPED_HIGH)
        if mask is not None:
            fits &= tiles_of(mask[..., None]).all(axis=(1, 2, 3))
        other = k + 1 if k + 1 < len(frames) else k - 1
        if len(frames) < 2:
            fits = _some(fits, tiles)
            own.append(tiles[fits])
            left.append(levelled(own[-1]))
            levels.append(own[-1] - left[-1])  # a plane: a pixel's own noise would sort it by itself
            phases.append(np.full((int(fits.sum()), 2), -1))
            continue
        motion = np.eye(3)
        if motions is not None:
            motion = motions[k] if other > k else np.linalg.inv(motions[other])
        else:
            motion[:2, 2] = shift_between(frame.mean(axis=2), frames[other].mean(axis=2))
        motion[:2, 2] = np.round(motion[:2, 2] * PHASES) / PHASES
        size = (frame.shape[1], frame.shape[0])
        how = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
        moved = cv2.warpPerspective(frames[other], motion, size, flags=how, borderValue=(-9.0, -9.0, -9.0))
        there = tiles_of(moved)
        fits = _some(fits & (there.min(axis=(1, 2, 3)) > CLIPPED_LOW), tiles)
        centres = _centres(frame.shape)
        carried = np.concatenate([centres, np.ones((len(centres), 1))], axis=1) @ motion.T
        phase = np.round((carried[:, :2] / carried[:, 2:] - centres) * PHASES).astype(int) % PHASES
        own.append(tiles[fits])
        left.append(levelled(own[-1] - there[fits]))
        levels.append((own[-1] + there[fits]) / 2)
        phases.append(phase[fits])
    return Residual(*(np.concatenate(each) for each in (left, levels, phases, own)))


def _some(fits: NDArray[np.bool_], tiles: NDArray) -> NDArray[np.bool_]:
    """Those tiles of many, as many of each brightness as tell it: rare ones all."""
    at = np.flatnonzero(fits)
    level = np.clip((tiles[at].mean(axis=(1, 2, 3)) * LEVELS).astype(int), 0, LEVELS - 1)
    out = np.zeros_like(fits)
    for each in np.unique(level):
        of_level = at[level == each]
        count = min(len(of_level), MOST_ALIKE)
        out[of_level[np.linspace(0, len(of_level) - 1, count).astype(int)]] = True
    return out


def _believed(excess: NDArray, slack: float, start: float) -> NDArray[np.bool_]:
    """Which of the tiles hold noise alone, by their variance: a sigma clip from the calmest on."""
    level = float(np.quantile(excess, start))
    keep = excess <= level
    for _ in range(30):
        level = float(excess[keep].mean()) if keep.any() else level
        now = excess <= level * (1 + 2.5 * slack)
        if (now == keep).all():
            break
        keep = now
    return np.asarray(keep)


def _calmer(excess: NDArray, keep: NDArray[np.bool_], slack: float) -> tuple[NDArray[np.bool_], float]:
    """Which of the tiles that are believed are calm, and the share by which their mean is short of all even tiles'. A
    little of a picture that is left makes a tile less calm, never calmer.

    Of a normal distribution that is cut off above, the mean is known, and so is its middle by it (Johnson, Kotz &
    Balakrishnan, Continuous Univariate Distributions 1, 1994, section 13.10). Where few would be left, as where a codec
    took more here than there, no even noise is what they show: all are taken.
    """
    middle = float(np.median(excess[keep]))
    for _ in range(30):
        calm = keep & (excess <= middle * (1 + CUT_AT * slack))
        if np.count_nonzero(calm) < LEAST_CALM * np.count_nonzero(keep):
            return keep, 0.0
        now = float(excess[calm].mean()) / (1 - CUT_SHORT * slack)
        if abs(now - middle) < 1e-4 * middle:
            break
        middle = now
    return np.asarray(calm), CUT_SHORT * slack


def measure_noise(
    frames: Sequence[Array], masks: Sequence[NDArray | None], motions: Sequence[NDArray] | None = None
) -> Noise | None:
    """A plate's noise; None where nothing in it is flat or shows the same on two frames. See `residuals`."""
    if any(np.array_equal(a, b) for a, b in zip(frames, frames[1:])):  # held frames show the same noise too
        frames, masks, motions = frames[:1], masks[:1], None
    found = residuals(frames, masks, motions)
    if len(found.left) < LEAST_ALL:
        return None
    told, blocky, single = _calm_tiles(found), _blockiness(frames[0]), len(frames) < 2
    between: Noise | None = None
    if told is not None and (single or told.is_some):
        keep = told.keep
        spread = 0.3 if single else told.slack / float(np.sqrt(keep.sum()))
        between = _noise_of(found.left[keep], found.level[keep], found.phase[keep], told.short, spread, blocky)
    if single or (told is not None and told.is_sure):
        return between
    flat = flat_tiles(found.tiles, found.left)
    if not len(flat):
        return between
    left = levelled(found.tiles[flat])
    phase = np.full((len(flat), 2), -1)
    within = _noise_of(left, found.tiles[flat] - left, phase, 0.0, FLAT_SPREAD, blocky, True)
    if between is None or within is None:
        return within or between
    return within if _strength(within) > _strength(between) else between  # what is carried along is not between


class _Calm(NamedTuple):
    """keep : (n,) which tiles hold noise alone. short : the share by which its mean is short. slack : relative spread
    of a tile's variance. share : of all tiles, that were believed. strongest : variance."""

    keep: NDArray[np.bool_]
    short: float
    slack: float
    share: float
    strongest: float

    @property
    def is_sure(self) -> bool:
        """Whether even noise, which a codec did not carry along, explains many of the tiles."""
        return self.short > 0 and self.share >= LEAST_SHARE and self.strongest > NO_NOISE

    @property
    def is_some(self) -> bool:
        """Whether it is at least even, or explains many."""
        return self.short > 0 or self.share >= LEAST_SHARE


def _calm_tiles(found: Residual) -> _Calm | None:
    variance = (found.left**2).mean(axis=(1, 2, 3)) * FREED
    luma = found.level.mean(axis=(1, 2, 3))
    keep = np.zeros(len(luma), bool)
    edges = np.quantile(luma, np.linspace(0, 1, BINS + 1))
    edges[-1] += 1e-6
    for low, high in zip(edges[:-1], edges[1:]):
        here = np.flatnonzero((luma >= low) & (luma < high))
        if len(here) >= LEAST_TILES:
            keep[here[_believed(variance[here], 0.15, 0.08)]] = True
    if keep.sum() < LEAST_ALL:
        return None
    for _ in range(3):  # a tile is judged by what noise of its levels would be, and the noise by the tiles
        curve = _by_level(found.left[keep], found.level[keep])
        wide = float((np.array(autocorrelation(found.left[keep])[1]) ** 2).sum())
        slack = float(np.sqrt(2 * max(wide, 1.0) / (TILE * TILE * 2)))
        expected = _expected(curve, found.level)
        keep = _believed(variance / np.maximum(expected, 1e-12), slack, 0.15)
        if keep.sum() < LEAST_ALL:
            return None
    share = float(keep.mean())
    keep, short = _calmer(variance / np.maximum(expected, 1e-12), keep, slack)
    return _Calm(keep, short, slack, share, float(curve[1].max()))


def _noise_of(
    left: NDArray, level: NDArray, phase: NDArray[np.int64], short: float, spread: float, blocky: float,
    by_flats: bool = False,
) -> Noise | None:  # fmt: skip
    """The noise that tiles hold; see `Residual`."""
    levels, variance = _by_level(left, level)
    variance = variance / (1 - short)
    if not (variance > NO_NOISE).any():
        return None
    spatial, factor = alone(autocorrelation(left), phase)
    flat = left.reshape(-1, 3)
    together = np.corrcoef(flat.T) if (flat.std(axis=0) > 1e-7).all() else np.eye(3)
    model = GrainModel(
        levels=tuple(levels.tolist()),
        deviation=tuple(_triple(np.sqrt(row * FREED / factor)) for row in variance),
        spatial=spatial,
        between=(float(together[0, 1]), float(together[0, 2]), float(together[1, 2])),
        tails=tails_of(left, level, phase, (levels, variance)),
    )
    pixels = tuple((int(r), int(g), int(b)) for r, g, b in _counted(level).T)
    return Noise(model, len(left), spread, blocky, pixels, by_flats)


def _strength(noise: Noise) -> float:
    """Over the levels that told it."""
    weights = np.array(noise.pixels, float)
    return float((np.square(noise.model.deviation) * weights).sum() / weights.sum())


def pooled(found: Sequence[Noise]) -> Noise:
    """One noise from several measurements of it, on other frames or along other motions: of each strength the middle
    one, by as many pixels as told it, since a motion that is wrong leaves some of the picture.

    Raises
    ------
    ValueError : there are none.

    Example
    -------
    >>> model = GrainModel(levels=(0.5,), deviation=((0.01, 0.01, 0.01),))
    >>> strong = model.but(deviation=((0.02, 0.02, 0.02),))
    >>> some = [Noise(each, 90, 0.1, 1.0, ((50_000,) * 3,)) for each in (model, strong, model)]
    >>> pooled(some).model.deviation
    ((0.01, 0.01, 0.01),)
    """
    if not found:
        raise ValueError(
            say("Nothing of the plate is flat enough, or shows the same on two frames, to tell its grain.")
        )
    levels = np.array(found[0].model.levels)  # the same of all
    strengths, pixels = (np.array(each) for each in ([n.model.deviation for n in found], [n.pixels for n in found]))
    counts = np.where(pixels >= np.minimum(LEAST_PIXELS, pixels.max(axis=(0, 1))), pixels, 0)
    deviation = np.empty(strengths.shape[1:])
    for c in range(3):
        told = np.flatnonzero(counts[..., c].max(axis=0))
        middle = [_middle(strengths[:, k, c], counts[:, k, c]) for k in told]
        deviation[:, c] = np.interp(levels, levels[told], middle)
    weights = np.array([float(each.tiles) for each in found])
    spatial = np.average([each.model.spatial for each in found], axis=0, weights=weights)
    between = np.average([each.model.between for each in found], axis=0, weights=weights)
    tails = float(np.median([each.model.tails for each in found]))
    model = GrainModel(
        levels=found[0].model.levels,
        deviation=tuple(_triple(row) for row in deviation),
        spatial=(tuple(spatial[0].tolist()), tuple(spatial[1].tolist()), tuple(spatial[2].tolist())),
        between=_triple(between),
        tails=tails,
    )
    ratio = (strengths / np.maximum(deviation, 1e-9) * counts).sum(axis=(1, 2)) / np.maximum(counts.sum(axis=(1, 2)), 1)
    unlike = 1.3 * float(ratio.std()) / np.sqrt(len(found))  # of a median
    spread = float(np.hypot(min(each.spread for each in found), unlike))
    blocky = float(np.median([each.blocky for each in found]))
    told_by = tuple((int(r), int(g), int(b)) for r, g, b in pixels.sum(axis=0))
    by_flats = any(each.by_flats for each in found)
    return Noise(model, sum(each.tiles for each in found), spread, blocky, told_by, by_flats)


def _middle(strengths: NDArray, counts: NDArray) -> float:
    """The strength below which half of the pixels lie that tell one."""
    order = np.argsort(strengths)
    share = (np.cumsum(counts[order]) - counts[order] / 2) / counts.sum()
    return float(np.interp(0.5, share[counts[order] > 0], strengths[order][counts[order] > 0]))


def _triple(row: NDArray) -> tuple[float, float, float]:
    return float(row[0]), float(row[1]), float(row[2])


def _by_level(left: NDArray, level: NDArray) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Variance of each channel by its own coded level: levels (n,), variances (n, 3), where there are pixels enough."""
    edges = np.linspace(0, 1, LEVELS + 1)
    middle = (edges[:-1] + edges[1:]) / 2
    columns = []
    for c in range(3):
        which = np.clip((level[..., c].ravel() * LEVELS).astype(int), 0, LEVELS - 1)
        count = np.bincount(which, minlength=LEVELS)
        total = np.bincount(which, weights=left[..., c].ravel() ** 2, minlength=LEVELS)
        mean = np.bincount(which, weights=level[..., c].ravel(), minlength=LEVELS) / np.maximum(count, 1)
        good = count >= LEAST_PIXELS
        if not good.any():
            good = count >= count.max()
        columns.append(np.interp(middle, mean[good], total[good] / count[good]))
    return middle, np.stack(columns, axis=1)


def _counted(level: NDArray) -> NDArray[np.int64]:
    """How many pixels of each channel lie at each level: (3, LEVELS)."""
    which = np.clip((level * LEVELS).astype(int), 0, LEVELS - 1)
    return np.stack([np.bincount(which[..., c].ravel(), minlength=LEVELS) for c in range(3)])


def _expected(curve: tuple[NDArray, NDArray], level: NDArray) -> NDArray[np.float64]:
    """The variance that noise alone would give each tile."""
    levels, variance = curve
    parts = [np.interp(level[..., c], levels, variance[:, c]).mean(axis=(1, 2)) for c in range(3)]
    return np.asarray(np.mean(parts, axis=0))


def _blockiness(frame: Array) -> float:
    step = np.abs(np.diff(frame.mean(axis=2), axis=1))
    across = np.array([float(np.median(step[:, k::8])) for k in range(8)])
    return float(across[7] / max(float(np.median(np.delete(across, 7))), 1e-6))
