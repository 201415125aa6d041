"""Which blur makes a picture as soft as its aim, and how far off that may be, by spectra and edges together.

Spectra alone do not tell a soft picture from one whose noise is soft, and the slope of their fit says nothing of a
wrong model: it is some hundredths of a pixel for what is off by three. Each kind of noise that the aim may have
proposes a disc and a soft blur; the sharpest edges choose. What else is nearly as good, and how far parts of one
picture differ at their edges, is what is not known.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..words import say
from .edge_width import AimEdges, wider_by
from .sharpness import Blur, Colour, Kind, fit_spectra

Array = NDArray[np.float32]
SHARP = Blur("disc", 0.0, 0.0, 0.0, 0.0)
LEAST_WIDER = 0.5  # logarithm of widths, that edges grow by where they tell anything
RARELY_SOFT, WIDE_PX = 0.08, 1.5  # what so wide a soft blur is held against: lenses are out of focus rather
NOT_BLURRED, MOST_OFF = 0.02, 0.6  # logarithms of widths: what no blur is held against; how far off the best may be
NEARLY = 0.2  # by which a blur is worse that is less likely by a factor of e
PARTS_DIFFER = 0.25  # logarithm of widths, by which edges of two parts of a picture differ; of photographs
ZEROS_PX, ZEROS_TOLD = 2.2, 0.1  # from which radius on, and how much better than a soft blur, a disc is sure
ZEROS_ALIKE = 0.08  # of the radius, by which discs of several kinds of noise may differ
LEAST_SPREAD_PX, LEAST_SPREAD, SPECTRA_SPREAD = 0.05, 0.03, 0.15  # the last of what spectra alone tell
CURVE, WIDE_BY_PX = (0.0, 0.7, 1.4, 2.2, 3.2, 4.5, 6.0, 9.0), 6.0  # radii, px; the one that edges must show
MOTION_ZEROS_PX, MOTION_SPREAD, MOTION_SPREAD_PX = 4.0, 0.05, 0.3  # from where zeros tell a length, and how well
PIXEL_VARIANCE = 1 / 12
UNSURE, UNSURE_PX = 0.3, 0.6  # of the size; of what is small


class Tried(NamedTuple):
    """A blur, and by how much worse than the best of its kind of noise it explains the spectra: the logarithm of its
    cost."""

    worse: float
    blur: Blur


class Edges(NamedTuple):
    """What a picture's edges say. off : by how much wider they are than the aim's with each blur that was tried;
    curve : with discs of the radii `CURVE`; natural logarithms."""

    off: NDArray[np.float64]
    curve: NDArray[np.float64]


def tried_blurs(
    own: NDArray, aim: NDArray, noises: Sequence[NDArray | Colour], direction: tuple[float, float] | None, length: float
) -> list[Tried]:
    """The best disc and the best soft blur under each kind of noise, by spectra; see `sharpness.fit_spectra`."""
    kinds: tuple[Kind, Kind] = ("disc", "soft")
    out: list[Tried] = []
    for noise in noises:
        found = [fit_spectra(own, aim, direction, (kind,), length, noise) for kind in kinds]
        least = min(blur.cost for blur in found)
        out += [Tried(float(np.log(max(blur.cost, 1e-9) / max(least, 1e-9))), blur) for blur in found]
    return out


def widening(own: Array, mask: NDArray | None, aim: AimEdges) -> NDArray[np.float64] | None:
    """By how much wider than an aim's a picture's edges become by discs of the radii `CURVE`, natural logarithms; None
    where they tell nothing: drowned in noise, they do not become wider.

    Parameters
    ----------
    own, mask : luma (h, w) and where it counts.
    """
    if not len(aim.widths):
        return None
    curve = wider_by(own, mask, aim, [Blur("disc", radius, 0.0, 0.0, 0.0) for radius in CURVE])
    return curve if curve[CURVE.index(WIDE_BY_PX)] - curve[0] > LEAST_WIDER else None


class Told(NamedTuple):
    """What was chosen, of what, and what the edges say: None where they tell nothing."""

    chosen: Tried
    tried: tuple[Tried, ...]
    edges: Edges | None

    @property
    def blur(self) -> Blur:
        return self.chosen.blur

    @property
    def has_zeros(self) -> bool:
        """Whether it is a disc that is told by its zeros: a soft blur explains the spectra worse under some kind of
        noise that proposes a disc as large."""
        size = self.blur.size
        if self.blur.kind == "soft" or size < ZEROS_PX:
            return False
        pairs = [(a, b) for a, b in zip(self.tried, self.tried[1:]) if (a.blur.kind, b.blur.kind) == ("disc", "soft")]
        alike = [b.worse - a.worse for a, b in pairs if abs(a.blur.size - size) < ZEROS_ALIKE * size]
        return max(alike, default=0.0) >= ZEROS_TOLD

    def spread_px(self, radius: float | None = None) -> float:
        """What the blur may be off by, in pixels of its own size, or a disc of a radius that was set by edges instead:
        the root of the mean square over pictures.

        What else was tried counts by how little worse it is. Unless a disc's zeros are told, which are where they are
        whatever a picture shows, edges of two parts of a picture differ by `PARTS_DIFFER`.
        """
        at = as_radius(self.blur) if radius is None else radius
        among, parts = self._among([as_radius(blur) for _, blur in self.tried], at), 0.0
        if self.edges is not None and not (radius is None and self.has_zeros):
            curve = np.maximum.accumulate(np.nan_to_num(self.edges.curve, nan=-9.0))
            level = float(np.interp(at, CURVE, curve))
            low, high = (float(np.interp(level + by, curve, CURVE)) for by in (-PARTS_DIFFER, PARTS_DIFFER))
            parts = min((high - low) / 2, at / 2 + 0.3)
        by = LEAST_SPREAD if self.edges is not None or self.has_zeros else SPECTRA_SPREAD
        least = LEAST_SPREAD_PX**2 + (by * at) ** 2 + min(self.blur.spread, at + 1) ** 2  # flat at 0
        spread = float(np.sqrt(among + parts**2 + least))
        return spread / 2 if self.blur.kind == "soft" and radius is None else spread

    def motion_spread_px(self) -> float:
        """What the length of the motion may be off by, px. A motion that is longer than the focus is wide is told by
        its zeros; another only by how wide it makes the whole (a line's variance is its length squared over 12)."""
        radius, length = as_radius(self.blur), self.blur.motion_px
        among = self._among([blur.motion_px for _, blur in self.tried if blur is not SHARP], length)
        if length > MOTION_ZEROS_PX and length > 2 * radius:
            by = max(MOTION_SPREAD * length, MOTION_SPREAD_PX)
        else:
            wider = PARTS_DIFFER * (radius**2 / 4 + length**2 / 12 + PIXEL_VARIANCE)
            by = float(np.sqrt(length**2 + 12 * wider) - length)
        return float(np.hypot(by, np.sqrt(among)))

    def _among(self, values: Sequence[float], at: float) -> float:
        """The mean square distance of what was tried from a value, each by how little worse it is than the best."""
        off = np.zeros(len(self.tried)) if self.edges is None else self.edges.off
        worse = _scores(self.tried, off)[: len(values)]
        likely = np.exp(-(worse - worse.min()) / NEARLY)
        return float((likely * (np.array(values) - at) ** 2).sum() / likely.sum())


def blur_by_edges(
    tried: Sequence[Tried],
    own: Array,
    mask: NDArray | None,
    aim: AimEdges,
    direction: tuple[float, float] | None = None,
) -> Told:
    """Of several blurs the one that makes a picture's sharpest edges as wide as the aim's; none counts as well where
    nothing moves. Where edges tell nothing, the last kind of noise that was tried decides.

    Parameters
    ----------
    tried : of `tried_blurs`. own, mask : luma (h, w) and where it counts. direction : of a motion.

    Raises
    ------
    ValueError : none does.
    """
    curve = widening(own, mask, aim)
    if curve is None:
        scores = _scores(tried[-2:], np.zeros(2))
        return Told(tried[-2:][int(np.argmin(scores))], tuple(tried), None)
    if direction is None:
        tried = [*tried, Tried(NOT_BLURRED, SHARP)]
    off = np.array([wider_by(own, mask, aim, [blur], motion_of(blur, direction))[0] for _, blur in tried])
    known = np.nan_to_num(off, nan=9.0)
    scores = _scores(tried, known)
    best = int(np.argmin(scores))
    if scores[best] > MOST_OFF and off[best] < 0:
        raise ValueError(
            say(
                "How soft the aim is cannot be told: its edges are softer than its finest detail, which noise or "
                "compression hides. Choose an aim with clear edges, or set it by eye."
            )
        )
    return Told(tried[best], tuple(tried), Edges(known, curve))


def _scores(tried: Sequence[Tried], off: NDArray) -> NDArray[np.float64]:
    rare = [RARELY_SOFT if blur.kind == "soft" and blur.size > WIDE_PX else 0.0 for _, blur in tried]
    return np.asarray(np.abs(off) + [worse for worse, _ in tried] + rare)


def motion_of(blur: Blur, direction: tuple[float, float] | None) -> tuple[float, float]:
    """A blur's motion in pixels."""
    return (0.0, 0.0) if direction is None else (direction[0] * blur.motion_px, direction[1] * blur.motion_px)


def as_radius(blur: Blur) -> float:
    """The radius of the disc that is as wide, px: the standard deviation of a disc along a line is half its radius.

    >>> as_radius(Blur("soft", 1.5, 0.0, 0.0, 0.0))
    3.0
    """
    return blur.size if blur.kind == "disc" else 2 * blur.size


def is_unsure(size: float, spread: float) -> bool:
    """Whether what was found may be off by so much that it has to be looked at.

    >>> is_unsure(3.3, 0.3), is_unsure(3.3, 1.5), is_unsure(0.2, 0.25)
    (False, True, False)
    """
    return spread > max(UNSURE * size, UNSURE_PX)
