"""How sharp straight, slanted edges are: the spatial frequency response at them, MTF50, and how far they overshoot.

Model: pixels beside a straight edge are told apart by their distance from it, which a slant spreads over all fractions
of a pixel. Binned by a quarter of a pixel they are the edge's profile; its slope, windowed (Tukey), is the line's; the
modulus of that one's Fourier transform, relative to frequency nought, is the response. The slope is taken over two bins
and a bin is a quarter of a pixel wide, which is divided out.

References
----------
ISO 12233:2023, Photography, Electronic still picture imaging, Resolution and spatial frequency responses, e-SFR
(annex D). Straight edges: Grompone von Gioi et al., LSD: a Line Segment Detector, Image Processing On Line 2 (2012).
"""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..words import say
from .errors import MatchError

Array = NDArray[np.float32]
Line = tuple[float, float, float, float]  # from x, y to x, y in pixels, centres at halves
BINS = 4  # a pixel
REACH_PX = 14.0  # to each side that is looked at
LEAST_REACH_PX = 6.0
LEAST_LENGTH_PX, PART_PX = 24.0, 36.0
SLANTS = (2.0, 43.0)  # degrees from the nearest row or column: else few fractions of a pixel are met
PLATEAU = 0.5  # the outer share of each side, which has to be even
EVEN = 0.12  # standard deviation there, relative to the step
LEAST_STEP = 0.02  # of light, relative to white
MOST_LINES = 250
LEAST_EDGES, SHARPER = 4, 0.75  # that a picture's sharpness is told by, and which of them in their order
WINDOW_RISES, TAPER = 2.0, 0.4  # of the window on the slope: times its rise to each side; share that is tapered
STRAIGHT_PX = 0.35  # root mean square, by which the edge may leave its line


class EdgeResponse(NamedTuple):
    """What one edge tells. f, mtf : frequencies in cycles a pixel, 0…1, and the response there. mtf50 : where it falls
    to a half. overshoot : how far its profile passes its plateaus, relative to the step. step : of light. line : where
    it is."""

    f: NDArray[np.float64]
    mtf: NDArray[np.float64]
    mtf50: float
    overshoot: float
    step: float
    line: Line


class Sharpness(NamedTuple):
    """Of a picture's edges: MTF50 in cycles a pixel and its standard error, overshoot, and how many edges told it."""

    mtf50: float
    error: float
    overshoot: float
    edges: int


def edge_response(luma: Array, line: Line, mask: NDArray[np.bool_] | None = None) -> EdgeResponse:
    """The response at one edge.

    Parameters
    ----------
    luma : (h, w), scene-linear. line : along the edge, roughly. mask : (h, w), pixels that count.

    Raises
    ------
    MatchError : no single, straight, even step lies there.

    Examples
    --------
    >>> x = np.arange(80) + 0.5
    >>> seen = np.array([np.clip(x - 40 - 0.1 * (y - 40) + 0.5, 0, 1) for y in range(80)], np.float32)
    >>> round(edge_response(seen, (37, 10, 43, 70)).mtf50, 1)  # a box a pixel wide: sinc, 0.603
    0.6
    """
    for _ in range(2):
        distance, along, values, line = _beside(luma, line, mask)
        line = _straightened(distance, along, values, line)
    distance, _, values, line = _beside(luma, line, mask)
    profile, step, uneven = _profile(distance, values)
    slope = (profile[2:] - profile[:-2]) / 2
    centre = int(np.average(np.arange(len(slope)), weights=np.maximum(slope, 0) ** 2).round())
    rise = np.searchsorted(np.maximum.accumulate(profile), (0.1, 0.9))
    wide = int(WINDOW_RISES * max(int(rise[1] - rise[0]), BINS))
    half = max(min(centre, len(slope) - 1 - centre, wide), 1)
    slope = slope[centre - half : centre + half + 1] * tukey(2 * half + 1, TAPER)
    f = np.linspace(0, 1, 201)
    response = np.abs(np.exp(-2j * np.pi * f[:, None] * np.arange(len(slope)) / BINS) @ slope)
    widened = np.sinc(f / BINS) * np.sinc(2 * f / BINS)  # the bin, and the slope over two
    mtf = response / max(float(response[0]), 1e-9) / np.maximum(widened, 0.1)
    below = np.nonzero(mtf < 0.5)[0]
    if not len(below):
        raise MatchError(say("The edge is sharper than pixels can show."))
    k = int(below[0])
    mtf50 = float(f[k - 1] + (mtf[k - 1] - 0.5) / (mtf[k - 1] - mtf[k]) * (f[k] - f[k - 1]))
    smooth = np.convolve(profile, np.ones(BINS) / BINS, "same")[BINS:-BINS]
    over = max(float(smooth.max()) - 1, -float(smooth.min())) - 2 * uneven / np.sqrt(BINS)
    return EdgeResponse(f, mtf, mtf50, max(over, 0.0), step, line)


def sharpness(luma: Array, mask: NDArray[np.bool_] | None = None) -> Sharpness:
    """How sharp a picture is at its straight edges. Many things are soft by themselves (shadows, round forms), none is
    sharper than the lens and what came after it: the sharper quarter tells.

    Parameters
    ----------
    luma : (h, w), scene-linear. mask : (h, w), pixels that count.

    Raises
    ------
    MatchError : there are too few straight, slanted, even edges.
    """
    return told_by(responses(luma, mask))


def told_by(found: list[EdgeResponse]) -> Sharpness:
    """What edges tell together, as `sharpness` does of those of one picture.

    Raises
    ------
    MatchError : there are too few.
    """
    if len(found) < LEAST_EDGES:
        raise MatchError(
            say(
                "Too few straight, slanted edges between even parts were found ({count} of {least_edges}) to "
                "measure the response at.",
                count=len(found),
                least_edges=LEAST_EDGES,
            )
        )
    each = np.array([response.mtf50 for response in found])
    drawn = np.random.default_rng(0).choice(each, (200, len(each)))
    mtf50, error = float(np.quantile(each, SHARPER)), float(np.quantile(drawn, SHARPER, axis=1).std())
    sharp = [response.overshoot for response in found if response.mtf50 >= np.median(each)]
    return Sharpness(mtf50, error, float(np.median(sharp)), len(found))


def blur_of(mtf50: float) -> float:
    """The standard deviation, px, of the Gaussian that a response amounts to beside the pixel's own aperture (a box,
    sinc); 0 where pixels alone would be softer.

    >>> x = 0.25  # cycles a pixel
    >>> round(blur_of(x), 2), round(float(np.exp(-2 * (np.pi * blur_of(x) * x) ** 2) * np.sinc(x)), 3)
    (0.69, 0.5)
    """
    left = 2 * float(np.sinc(mtf50))
    return float(np.sqrt(np.log(left) / 2) / (np.pi * mtf50)) if left > 1 and mtf50 > 0 else 0.0


def responses(luma: Array, mask: NDArray[np.bool_] | None = None) -> list[EdgeResponse]:
    """The responses at all edges of a picture that can be measured; the longest edges are looked at."""
    found = []
    for line in straight_lines(luma)[:MOST_LINES]:
        try:
            found.append(edge_response(luma, line, mask))
        except MatchError:
            continue
    return found


def straight_lines(luma: Array) -> list[Line]:
    """Straight edges that are slanted against rows and columns, the longest first."""
    if min(luma.shape) < LEAST_LENGTH_PX:
        return []
    known = np.nan_to_num(luma, nan=0.0, posinf=0.0, neginf=0.0)
    codes = np.sqrt(np.clip(known / max(float(np.percentile(known, 99)), 1e-6), 0, 1))
    found = cv2.createLineSegmentDetector().detect((codes * 255).astype(np.uint8))[0]
    lines: list[tuple[float, Line]] = []
    for x0, y0, x1, y1 in [] if found is None else found.reshape(-1, 4).astype(float) + 0.5:
        length = float(np.hypot(x1 - x0, y1 - y0))
        turn = float(np.degrees(np.arctan2(y1 - y0, x1 - x0))) % 90
        if length >= LEAST_LENGTH_PX and SLANTS[0] <= min(turn, 90 - turn) <= SLANTS[1]:
            lines.append((length, (float(x0), float(y0), float(x1), float(y1))))
    return [part for length, line in sorted(lines, reverse=True) for part in _parts(line, length)]


def _parts(line: Line, length: float) -> list[Line]:
    """A long line in parts of about PART_PX: what lies beside it may be even along some of it alone."""
    count = max(int(length / PART_PX), 1)
    (x0, y0, x1, y1), shares = line, np.linspace(0, 1, count + 1)
    ends = [(x0 + s * (x1 - x0), y0 + s * (y1 - y0)) for s in shares]
    return [(*a, *b) for a, b in zip(ends, ends[1:])]


def tukey(count: int, share: float) -> NDArray[np.float64]:
    """A window that is even but for a cosine at its ends, which take that share of it.

    >>> tukey(5, 1.0).round(3).tolist()
    [0.0, 0.5, 1.0, 0.5, 0.0]
    """
    place = np.minimum(np.arange(count), np.arange(count)[::-1]) / max((count - 1) * share / 2, 1e-9)
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * np.minimum(place, 1)))


def _beside(
    luma: Array, line: Line, mask: NDArray[np.bool_] | None
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], Line]:
    """The pixels beside a line: distances from it, places along it, values; and the line, turned so that distances on
    its brighter side are above 0."""
    height, width = luma.shape
    x0, y0, x1, y1 = line
    if not (
        np.isfinite(line).all() and max(x0, x1) > 0 and max(y0, y1) > 0 and min(x0, x1) < width and min(y0, y1) < height
    ):
        raise MatchError(say("The edge lies outside of the picture."))
    length = float(np.hypot(x1 - x0, y1 - y0))
    tx, ty = (x1 - x0) / max(length, 1e-9), (y1 - y0) / max(length, 1e-9)
    left, right = sorted((x0, x1))
    top, bottom = sorted((y0, y1))
    columns = slice(max(int(left - REACH_PX), 0), min(int(right + REACH_PX) + 2, width))
    rows = slice(max(int(top - REACH_PX), 0), min(int(bottom + REACH_PX) + 2, height))
    j, i = np.mgrid[rows, columns] + 0.5
    along = (i - x0) * tx + (j - y0) * ty
    distance = (j - y0) * tx - (i - x0) * ty
    use = (along > 1) & (along < length - 1) & (np.abs(distance) <= REACH_PX) & np.isfinite(luma[rows, columns])
    if mask is not None:
        use &= mask[rows, columns]
    distance, along, values = distance[use], along[use], luma[rows, columns][use].astype(float)
    if min(np.count_nonzero(distance < -2), np.count_nonzero(distance > 2)) < 2 * LEAST_LENGTH_PX:
        raise MatchError(say("Too little lies beside the edge."))
    if np.median(values[distance > 1]) < np.median(values[distance < -1]):
        return -distance, length - along, values, (x1, y1, x0, y0)
    return distance, along, values, line


def _straightened(distance: NDArray, along: NDArray, values: NDArray, line: Line) -> Line:
    """The line moved to where the edge is half-way, by slices across it."""
    x0, y0, x1, y1 = line
    length = float(np.hypot(x1 - x0, y1 - y0))
    tx, ty = (x1 - x0) / length, (y1 - y0) / length
    low, high = (float(np.median(values[side])) for side in (distance < -3, distance > 3))
    if high - low < LEAST_STEP * max(high, 0.05):
        raise MatchError(say("There is no step at the edge."))
    places, middles = [], []
    count = max(int(length / 5), 4)
    near = np.abs(distance) < LEAST_REACH_PX
    for k in range(count):
        here = near & (along >= length * k / count) & (along < length * (k + 1) / count)
        if np.count_nonzero(here) < 20:
            continue
        level = np.clip((values[here] - low) / (high - low), -0.5, 1.5)
        middle = LEAST_REACH_PX * (1 - 2 * _mean_over(distance[here], level))  # that leaves this mean
        if abs(middle) < LEAST_REACH_PX - 1:
            places.append(float(along[here].mean()))
            middles.append(middle)
    if len(places) < 4:
        raise MatchError(say("The edge is no single step."))
    a, b = np.array(places), np.array(middles)
    keep = np.ones(len(a), bool)
    for _ in range(3):
        slope, offset = np.polyfit(a[keep], b[keep], 1)
        off = b - (slope * a + offset)
        keep = np.abs(off) <= max(2.5 * 1.4826 * float(np.median(np.abs(off))), STRAIGHT_PX)
        if np.count_nonzero(keep) < 4:
            raise MatchError(say("The edge is not straight."))
    if float(np.sqrt(np.mean(off[keep] ** 2))) > STRAIGHT_PX or np.mean(keep) < 0.6:
        raise MatchError(say("The edge is not straight."))
    by = (float(offset), float(slope * length + offset))
    return x0 - ty * by[0], y0 + tx * by[0], x1 - ty * by[1], y1 + tx * by[1]


def _mean_over(distance: NDArray, level: NDArray) -> float:
    """The mean of a level over a band of distances, each distance counting alike however many pixels it has."""
    bins = np.floor(distance + LEAST_REACH_PX).astype(int)
    sums, counts = np.bincount(bins, level), np.bincount(bins)
    return float((sums[counts > 0] / counts[counts > 0]).mean())


def _profile(distance: NDArray, values: NDArray) -> tuple[NDArray[np.float64], float, float]:
    """The edge's profile by quarters of a pixel, from 0 on the dark side to 1 on the bright one, as far out as both
    sides are even; the step's height, and how uneven a bin is on the sides, relative to it."""
    for reach in (REACH_PX, 11.0, 8.0, LEAST_REACH_PX):
        near = np.abs(distance) <= reach
        d, v = distance[near], values[near]
        sides = [v[side * d > PLATEAU * reach] for side in (-1, 1)]
        if not all(side.size for side in sides):
            continue
        low, high = (float(np.mean(side)) for side in sides)
        step = high - low
        if step <= LEAST_STEP * max(high, 0.05) or max(float(np.std(side)) for side in sides) > EVEN * step:
            continue
        bins = np.floor((d + reach) * BINS).astype(int).clip(0, int(2 * reach * BINS) - 1)
        counts = np.bincount(bins, minlength=int(2 * reach * BINS))
        if np.count_nonzero(counts) < 0.9 * len(counts):
            raise MatchError(say("The edge is too short, or not slanted."))
        there = np.nonzero(counts)[0]
        means, places = (np.bincount(bins, each, len(counts))[there] / counts[there] for each in (v, d))
        profile = (np.interp((np.arange(len(counts)) + 0.5) / BINS - reach, places, means) - low) / step
        outer = int(PLATEAU * reach * BINS)
        uneven = float(max(np.std(profile[:outer]), np.std(profile[-outer:])))
        return profile, step, uneven
    raise MatchError(say("The sides of the edge are not even."))
