"""What black and white points, edges and bright things tell of the tone between two parts of one picture.

Means of two parts differ by what they happen to show. Their extremes do so far less: nearly every part has something
that is black and something that is white in it, and the light that falls on both has one colour, which the strongest
edges and the brightest things show better than the mean. Each of these is a witness. How far the two halves of a
photograph that nobody toned differ by it was measured (as Student's distribution, whose tails let a witness be wrong
now and then, and whose width grows with how differently both parts are described). What a tone would make of the zone's
witness is to agree with the aim's: the product of all of them, with what is usual for tones, is worked out over all
tones of a grid, and its mean and deviation are the answer.

White that is clipped in the aim says no more than that the zone's has to be as bright, and its colour is not asked.

Scales were measured on the halves of 127 photographs of `gcompris-qt-data` (animals and buildings); how much each
counts was chosen with a look at them, since they are no independent witnesses.

References
----------
Colours of light: G. Buchsbaum, A spatial processor model for object colour perception (1980), mean; G. Finlayson & E.
Trezzi, Shades of gray and colour constancy, CIC 2004, norms of a higher order; J. van de Weijer, T. Gevers & A.
Gijsenij, Edge-based color constancy, IEEE TIP 16 (2007). Student's distribution against witnesses that are wrong:
K. Lange, R. Little & J. Taylor, JASA 84 (1989). From memory.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from .tone import LOG_SCALE
from .tone_fit import OPPONENT, log_codes

Array = NDArray[np.float32]
Values = NDArray[np.float64]
Part = tuple[Array, Array]  # a picture (h, w, 3), scene-linear, and how far its pixels belong to it (h, w)

CALM_PX = 1.0  # standard deviation; noise and focus are no points
PLACES = (0.002, 0.05, 0.5, 0.95, 0.999)  # quantiles of lightness, black to white
EDGE_NORM, BRIGHT_NORM, BRIGHTEST = 4, 8, 0.98
CLIPPED, MUCH_CLIPPED, LEAST_LEFT = 0.97, 0.002, 0.2  # of the brightest there is; shares of pixels
WHOLE = 0.99  # share of a pixel
LEAST_LIGHT, LEAST_EDGE, LEAST_SPREAD = 1e-4, 1e-5, 0.05


class Student(NamedTuple):
    """Freedom and scale of a difference between two parts that are `USUAL_APART`, how the scale grows with how far
    apart they are, and how much the witness counts."""

    freedom: float
    scale: float
    grows: float
    counts: float


USUAL_APART, LEAST_APART = 0.2, 0.05
LIGHTNESS = (
    Student(3.09, 0.61, 0.9, 0.33), Student(5.43, 1.05, 0.75, 0.2), Student(3.85, 0.7, 0.94, 0.6),
    Student(2.16, 0.34, 0.46, 0.13), Student(1.89, 0.16, 0.49, 0.67),
)  # fmt: skip
SPREAD = Student(10.0, 0.25, 0.93, 0.45)
COLOURS = (  # edges, norm, brightest, mean; red against blue, and green against both
    (Student(2.13, 0.19, 0.66, 0.5), Student(1.76, 0.06, 0.6, 0.5)),
    (Student(2.26, 0.21, 0.83, 0.35), Student(1.77, 0.06, 0.77, 0.35)),
    (Student(1.23, 0.15, 0.66, 0.5), Student(1.34, 0.03, 0.41, 0.5)),
    (Student(4.46, 0.43, 1.41, 0.65), Student(1.96, 0.14, 0.96, 0.65)),
)
CHROMA = (Student(6.95, 0.25, 1.15, 0.4), Student(18.6, 0.29, 1.15, 0.4))
# what tones usually are: stops of lightness, of red against blue and of green, logarithms of contrast and saturation
USUAL_FREEDOM, USUAL_STOPS, USUAL_CONTRAST, USUAL_SATURATION = 6.0, np.array([0.31, 0.31, 0.115]), 0.1, 0.12
STOPS = np.linspace(-4, 4, 321)
CONTRASTS, SATURATIONS = np.linspace(-0.3, 0.3, 25), np.linspace(-0.6, 0.6, 81)


class Points(NamedTuple):
    """Stops in the log encoding along lightness and the opponent colours: lightness (5,) at `PLACES`; middle (3,), the
    mean; colours (4, 2) by each way; spread and chroma (2,), logarithms; clipped, whether white is."""

    lightness: Values
    middle: Values
    colours: Values
    spread: float
    chroma: Values
    clipped: bool


class Told(NamedTuple):
    """move (3,), in stops, of the zone's middle along lightness and the opponent colours; wider (3,), in logarithms;
    and the standard deviations of both."""

    move: Values
    wider: Values
    off_move: Values
    off_wider: Values


def points_of(parts: Sequence[Part]) -> Points:
    """The witnesses of a zone or an aim, seen on some frames."""
    calm = [(_calmed(picture, inside), inside) for picture, inside in parts if inside.size]
    pixels = np.concatenate([picture[_whole(inside)] for picture, inside in calm])
    edges = np.concatenate([_edges(picture, inside) for picture, inside in calm])
    seen = _opponent(pixels)
    top = pixels.max(axis=1)
    white = top.max()
    clipped = bool((top > CLIPPED * white).mean() > MUCH_CLIPPED)
    told = top < CLIPPED * white if clipped else np.ones(len(top), bool)
    if told.mean() < LEAST_LEFT:
        told[:] = True
    light, colours = pixels[told], seen[told]
    strong = (edges**EDGE_NORM).mean(axis=0) ** (1 / EDGE_NORM) if len(edges) else np.ones(3)
    bright = light[colours[:, 0] >= np.quantile(colours[:, 0], BRIGHTEST)].mean(axis=0)
    each = [
        OPPONENT[1:] @ np.log2(np.maximum(strong, LEAST_EDGE)),
        _opponent((light.astype(float) ** BRIGHT_NORM).mean(axis=0) ** (1 / BRIGHT_NORM))[1:],
        _opponent(bright)[1:],
        colours[:, 1:].mean(axis=0),
    ]
    chroma = np.abs(colours[:, 1:] - np.median(colours[:, 1:], axis=0)).mean(axis=0)
    return Points(
        np.quantile(seen[:, 0], PLACES), seen.mean(axis=0), np.array(each),
        float(np.log(seen[:, 0].std() + LEAST_SPREAD)), np.log(chroma + LEAST_SPREAD), clipped,
    )  # fmt: skip


def told_by_points(own: Points, aim: Points, apart: float) -> Told:
    """The tone that makes the zone's witnesses agree with the aim's, as far as they tell.

    apart : how differently both are described, see `kindred`.

    Example
    -------
    >>> grey = np.random.default_rng(1).uniform(0.02, 0.4, (60, 60, 1)).astype(np.float32) * np.ones(3, np.float32)
    >>> whole = np.ones((60, 60), np.float32)
    >>> told = told_by_points(points_of([(grey, whole)]), points_of([(1.4 * grey, whole)]), 0.05)
    >>> bool(abs(told.move[0] - np.log2(1.4)) < 0.1)
    True
    """
    by = max(apart, LEAST_APART) / USUAL_APART
    stops, wider = STOPS[:, None], CONTRASTS[None]
    likely = _usual(stops, USUAL_STOPS[0]) - 0.5 * (wider / USUAL_CONTRAST) ** 2
    for place, witness in enumerate(LIGHTNESS):
        from_middle = own.lightness[place] - own.middle[0]
        left = aim.lightness[place] - (own.middle[0] + stops + np.exp(wider) * from_middle)
        if place == len(LIGHTNESS) - 1 and aim.clipped:
            left = np.maximum(left, 0)
        likely = likely + _says(witness, left, by)
    likely = likely + _says(SPREAD, aim.spread - own.spread - wider, by)
    share = _shares(likely)
    found = [_moments(share.sum(axis=1), STOPS)]
    contrast = _moments(share.sum(axis=0), CONTRASTS)
    for axis in (0, 1):
        likely = _usual(STOPS, USUAL_STOPS[1 + axis])
        for k, witnesses in enumerate(COLOURS):
            likely = likely + _says(witnesses[axis], aim.colours[k, axis] - own.colours[k, axis] - STOPS, by)
        found.append(_moments(_shares(likely), STOPS))
    likely = -0.5 * (SATURATIONS / USUAL_SATURATION) ** 2
    for axis, witness in enumerate(CHROMA):
        likely = likely + _says(witness, aim.chroma[axis] - own.chroma[axis] - SATURATIONS, by)
    saturation = _moments(_shares(likely), SATURATIONS)
    move, off = np.array(found).T
    wider_by, off_by = np.array([contrast, saturation, saturation]).T
    move[1:] += (np.exp(saturation[0]) - 1) * own.middle[1:]  # a saturation leaves grey as it is
    return Told(move, wider_by, off, off_by)


def _calmed(picture: Array, inside: Array) -> Array:
    """Without noise. What lies outside is not mixed in."""
    share = cv2.GaussianBlur(inside, (0, 0), CALM_PX)
    light = cv2.GaussianBlur(picture * inside[..., None], (0, 0), CALM_PX)
    return np.asarray(light / np.maximum(share, 1e-3)[..., None], np.float32)


def _whole(inside: Array) -> NDArray[np.bool_]:
    """The pixels that belong to a part as a whole; of one that has holes all over those that mostly do."""
    return np.asarray(inside > min(WHOLE, 0.9 * float(inside.max())))


def _opponent(light: NDArray) -> Values:
    return np.asarray(log_codes(np.maximum(light, LEAST_LIGHT)) @ OPPONENT.T * LOG_SCALE)


def _edges(picture: Array, inside: Array) -> Values:
    """How strongly each channel changes, from pixel to pixel (n, 3); not where white is clipped."""
    whole = _whole(inside) & (picture.max(axis=2) < CLIPPED * picture.max())
    there = whole[:-1, :-1] & whole[1:, :-1] & whole[:-1, 1:]
    across, down = np.diff(picture, axis=1)[:-1], np.diff(picture, axis=0)[:, :-1]
    return np.asarray(np.hypot(across, down)[there], float)


def _says(witness: Student, off: Values, by: float) -> Values:
    """How likely a witness is off by so much; a logarithm, less a constant."""
    scale = witness.scale * by**witness.grows
    power = 0.5 * (witness.freedom + 1) * witness.counts
    return np.asarray(-power * np.log1p((off / scale) ** 2 / witness.freedom))


def _usual(stops: Values, scale: float) -> Values:
    return np.asarray(-0.5 * (USUAL_FREEDOM + 1) * np.log1p((stops / scale) ** 2 / USUAL_FREEDOM))


def _shares(likely: Values) -> Values:
    share = np.exp(likely - likely.max())
    return np.asarray(share / share.sum())


def _moments(share: Values, at: Values) -> tuple[float, float]:
    mean = float(share @ at)
    return mean, float(np.sqrt(share @ (at - mean) ** 2))
