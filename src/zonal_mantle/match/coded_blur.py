"""Which focus makes a picture as soft as an aim that a codec went over, by doing the same to the picture.

A codec leaves out what is finer and fainter than its step, more of it the softer a picture is: what is left is no blur
and no noise that could be added to a model, and wide blurs are taken for narrow ones. So the picture is blurred by one
disc after another, moved as the plate moves, grained, and put through H.264 at the plate's own step (analysis by
synthesis); the power spectra of what comes back are compared with the aim's as in `sharpness`, with a gain and a power
of frequency free, and the sharpest edges as in `edge_width`. How likely each radius is follows from both together:
spectra count by the logarithm of what they leave (a variance that is not known: Box & Tiao, Bayesian Inference in
Statistical Analysis, 2.2), by far less than one for each frequency, since two parts of a picture differ in all of them
alike. Weights were chosen on photographs of plates as H.264 (docs/FIGURES.md).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.anew import coded_anew
from ..media.curves import coded, srgb_decode
from .edge_width import edge_widths
from .lens import aperture, streak
from .sharpness import LEAST_TILES, LUMA, SLOPE_SPREAD, power_spectrum, tiles_of

Array = NDArray[np.float32]
DISCS = (0.0, 0.5, 0.9, 1.3, 1.8, 2.3, 2.8, 3.3, 3.8, 4.5, 5.2, 6.0, 7.0, 8.2, 10.0)  # radii, px
SOFTS = (0.9, 1.3, 1.8, 2.4, 3.1, 4.0)  # standard deviations, px
FRAMES, LEAST_SIDE, MOST_SIDE = 5, 16, 512  # that are put through the codec; pixels to each side
WEIGHT, EDGES, EDGES_OFF = 12.0, 20.0, 0.6  # of spectra; of widths squared; beyond which widths tell no more
DEEP = 1.4  # logarithm of what spectra leave, between best and worst: with less they tell nothing
MOST_LEFT, LAST_PX = 0.12, 9.0  # left at best, of what is alike; from which radius on wider ones are not known
SOFTER = 1.0  # by which a soft blur is likelier before a disc is not believed
STEP, REFINED = 0.05, 2  # px; times
GRAIN = np.float32(0.002)  # of coded values; from none to four times as much tells the same radii
LEAST_SPREAD_PX, LEAST_SPREAD = 0.05, 0.03
PARTS_PX = 0.5  # out of focus, by which parts of a photograph differ by themselves: it counts where a focus is narrow
Step = Callable[[float], None]


class CodedBlur(NamedTuple):
    """A disc's radius and what it may be off by, px."""

    radius_px: float
    spread_px: float


class _Tried(NamedTuple):
    """What a blur leaves of the aim's power spectrum, and by how much wider its edges are than its, a logarithm."""

    left: float
    off: float

    @property
    def worse(self) -> float:
        """The negative logarithm of how likely it is, but for a constant."""
        return float(WEIGHT * np.log(self.left) + EDGES * min(abs(self.off), EDGES_OFF) ** 2)


class AimTold(NamedTuple):
    """What an aim shows: its power spectrum (size, size) and the widths of its sharpest edges; empty: none."""

    power: NDArray
    widths: NDArray[np.float64]


class Plate(NamedTuple):
    """How a plate was made. travel : px a frame. motion : of an exposure, px. quantiser : of H.264."""

    travel: tuple[float, float]
    motion: tuple[float, float]
    quantiser: float


def blur_through_codec(
    own: Array, mask: NDArray[np.bool_], aim: AimTold, plate: Plate, step: Step = lambda share: None
) -> CodedBlur | None:
    """The disc that makes a picture as soft as an aim, where a codec went over the aim; None where neither shows enough
    for it, or where a blur without a rim explains the aim better.

    Parameters
    ----------
    own, mask : (h, w, 3) scene-linear, (h, w). step : told the share that is done; it may raise.

    Raises
    ------
    MediaError : it cannot be put through the codec.

    Example
    -------
    >>> rough = np.random.default_rng(1).random((2, 384, 384, 1), np.float32) * np.float32([0.5, 0.45, 0.4])
    >>> own, other = (cv2.GaussianBlur(each, (0, 0), 0.8) for each in rough)
    >>> soft = cv2.filter2D(other, -1, aperture(2.0))
    >>> seen = srgb_decode(coded_anew([coded(soft)] * 3, 28)[1]).astype(np.float32) @ LUMA
    >>> aim = AimTold(power_spectrum(tiles_of(seen)), edge_widths(seen))
    >>> found = blur_through_codec(own, np.ones((384, 384), bool), aim, Plate((0, 0), (0, 0), 28))
    >>> bool(abs(found.radius_px - 2) < 0.2)
    True
    """
    picture, inside = _middle(own, mask)
    size = len(aim.power)
    if min(inside.shape) < size or len(tiles_of(picture[..., 0], inside, size)) < LEAST_TILES:
        return None
    if np.hypot(*plate.motion) > 0.5:
        picture = np.asarray(cv2.filter2D(picture, -1, streak(*plate.motion, 0.0, 0.0, -0.5, 0.5)), np.float32)
    count = 0

    def tried(blurred: Array) -> _Tried:
        nonlocal count
        step(count / (len(SOFTS) + len(DISCS) + 2 * REFINED))
        count += 1
        shown = _seen(blurred, plate)
        widths = edge_widths(shown, inside)
        told = len(widths) and len(aim.widths)
        off = float(np.log(np.median(widths / aim.widths))) if told else EDGES_OFF
        return _Tried(_left(power_spectrum(tiles_of(shown, inside, size)), aim.power), off)

    softs = {deviation: tried(_soft(picture, deviation)) for deviation in SOFTS}
    discs = {radius: tried(_disc(picture, radius)) for radius in DISCS}
    if np.ptp([np.log(each.left) for each in discs.values()]) < DEEP:
        return None
    for _ in range(REFINED):  # zeros lie close together: between the best and those beside it
        at, best = sorted(discs), min(discs, key=lambda radius: discs[radius].worse)
        beside = at[max(at.index(best) - 1, 0) : at.index(best) + 2]
        for radius in [(low + high) / 2 for low, high in zip(beside, beside[1:])]:
            discs[radius] = tried(_disc(picture, radius))
    if min(each.worse for each in softs.values()) < min(each.worse for each in discs.values()) - SOFTER:
        return None
    nearest = min(discs, key=lambda radius: discs[radius].worse)
    return _likeliest(discs) if discs[nearest].left < MOST_LEFT and nearest < LAST_PX else None


def seen_through(own: Array, mask: NDArray[np.bool_], plate: Plate) -> tuple[Array, NDArray[np.bool_]]:
    """A picture's luma, (h, w), as the plate's codec leaves it, and where it is and counts: in the middle of the mask.

    Parameters
    ----------
    own, mask : (h, w, 3) scene-linear, (h, w). plate : of it the travel and the quantiser.

    Raises
    ------
    MediaError : it cannot be put through the codec.
    """
    part, luma, there = _part(mask), np.nan_to_num(own @ LUMA).astype(np.float32), np.zeros_like(mask)
    picture, inside = _middle(own, mask)
    if min(inside.shape) >= LEAST_SIDE:
        luma[part], there[part] = _seen(picture, plate), inside
    return luma, there


def _middle(own: Array, mask: NDArray[np.bool_]) -> tuple[Array, NDArray[np.bool_]]:
    """The middle of where a picture counts, its mean beside that, and where it counts."""
    part = _part(mask)
    picture, inside = np.nan_to_num(own[part], posinf=0.0, neginf=0.0), mask[part]
    mean = picture[inside].mean(axis=0) if inside.any() else np.zeros(3)
    return np.where(inside[..., None], picture, mean).astype(np.float32), inside


def _likeliest(discs: dict[float, _Tried]) -> CodedBlur:
    """The radius that is likeliest, and the root of the mean square that others are away from it."""
    from scipy.interpolate import PchipInterpolator  # slow to import

    at = sorted(discs)
    radii = np.arange(0, at[-1] + STEP / 2, STEP)
    worse = PchipInterpolator(at, [discs[radius].worse for radius in at])(radii)
    likely = np.exp(worse.min() - worse)
    best = float(radii[np.argmin(worse)])
    spread = float((likely * (radii - best) ** 2).sum() / likely.sum())
    parts = np.hypot(best, PARTS_PX) - best
    return CodedBlur(best, float(np.sqrt(spread + parts**2 + LEAST_SPREAD_PX**2 + (LEAST_SPREAD * best) ** 2)))


def _part(mask: NDArray[np.bool_]) -> tuple[slice, slice]:
    """The middle of where a picture counts, of even sides."""
    x, y, wide, high = cv2.boundingRect(mask.astype(np.uint8))
    across, down = min(wide, MOST_SIDE) // 2 * 2, min(high, MOST_SIDE) // 2 * 2
    x, y = x + (wide - across) // 2, y + (high - down) // 2
    return slice(y, y + down), slice(x, x + across)


def _disc(picture: Array, radius: float) -> Array:
    kernel = aperture(radius)
    return picture if kernel.size == 1 else np.asarray(cv2.filter2D(picture, -1, kernel), np.float32)


def _soft(picture: Array, deviation: float) -> Array:
    return np.asarray(cv2.GaussianBlur(picture, (0, 0), deviation), np.float32)


def _seen(picture: Array, plate: Plate) -> Array:
    """The luma of the middle one of some frames that were filmed of a picture and put through the codec."""
    height, width = picture.shape[:2]
    rng, frames = np.random.default_rng(1), []
    for k in range(FRAMES):
        x, y = (float(way * (k - FRAMES // 2)) for way in plate.travel)
        moved = picture
        if x or y:
            way = np.array([[1, 0, x], [0, 1, y]])
            size, edge = (width, height), cv2.BORDER_REFLECT
            warped = cv2.warpAffine(picture, way, size, flags=cv2.INTER_CUBIC, borderMode=edge)
            moved = np.asarray(warped, np.float32)
        grain = rng.standard_normal(picture.shape, np.float32) * GRAIN
        frames.append(coded(np.ascontiguousarray(np.maximum(moved, 0), np.float32)) + grain)
    return np.asarray(srgb_decode(coded_anew(frames, plate.quantiser)[FRAMES // 2]) @ LUMA, np.float32)


def _left(own: NDArray, aim: NDArray) -> float:
    """What two power spectra leave of one another, with a gain and a power of frequency free: mean squares of
    logarithms, held to 2."""
    size = len(own)
    fx, fy = np.fft.fftfreq(size)[None, :], np.fft.fftfreq(size)[:, None]
    radial = np.hypot(fx, fy)
    use = (radial > 2.5 / size) & (radial <= 0.5) & (fy >= 0)
    apart = np.log(np.maximum(aim[use], 1e-20)) - np.log(np.maximum(own[use], 1e-20))
    base = np.stack([np.ones(use.sum()), np.log(radial[use] / 0.1)], axis=1)
    fit, rest = np.zeros(2), apart
    for _ in range(8):  # reweighted least squares of tanh (Holland & Welsch 1977)
        rest = apart - base @ fit
        size_of = np.maximum(np.abs(rest), 1e-6)
        weighed = base * (2 * np.tanh(size_of / 2) / size_of)[:, None]
        fit = np.linalg.solve(weighed.T @ base + np.diag([0, 1 / SLOPE_SPREAD**2]), weighed.T @ apart)
    rest = apart - base @ fit
    return float(max(((2 * np.tanh(rest / 2)) ** 2).mean(), 1e-6))
