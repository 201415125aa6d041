"""Whether a painting covers all that the matte opens, on all frames, and how it would.

What is open on a frame is kept as a few facts (`Opening`); whether a painting covers it then follows from geometry
alone, so that a shot's frames are judged in a fraction of a second while the painting is moved.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..shot.shot import Shot
from ..shot.zone import Placement, Zone
from ..words import say
from .seen import Seen, zone_seen
from .timing import zone_frame
from .transform import flat_to_reference, shape_of

Array = NDArray[np.float32]
OPEN = 0.02
SHORT_PX = 0.02  # at the rim; less is rounding


@dataclass(frozen=True, eq=False)
class Opening:
    """What of a frame is open for a painting.

    places : (n, 2) centres of the open pixels that lie outermost (their convex hull), in plate pixels; empty where
        nothing is open. all : (m, 2) of all of them. weights : (m) how open they are. pixels : of the whole frame.
    """

    places: NDArray[np.float64]
    all: NDArray[np.float64]
    weights: Array
    pixels: int


def opening(openness: Array, scale: float) -> Opening:
    """The facts of a frame's open area; `openness` (h, w) is the share of light that passes all that is nearer."""
    rows, columns = np.nonzero(openness > OPEN)
    points = np.stack([columns, rows], axis=1).astype(np.int32)
    if not len(points):
        nothing = np.zeros((0, 2))
        return Opening(nothing, nothing, np.zeros(0, np.float32), openness.size)
    hull = cv2.convexHull(points).reshape(-1, 2)
    centre = np.float64(0.5)
    return Opening((hull + centre) / scale, (points + centre) / scale, openness[rows, columns], openness.size)


@dataclass(frozen=True)
class CoverageReading:
    """On how many frames the painting covers all that is open; the worst frame with its uncovered share.

    margin_px : how far inside the painting's rim the open area stays on the tightest frame, in plate pixels; below 0
        where it runs out; None where nothing is open. enlarged : plate pixels to one painting pixel where that is most,
        with its frame.
    """

    covered: int
    frames: int
    worst_frame: int
    worst_share: float
    margin_px: float | None = None
    margin_frame: int = 0
    enlarged: float = 0.0
    enlarged_frame: int = 0
    short_on: tuple[int, ...] = ()


def read_coverage(
    shot: Shot, zone: Zone, openings: Mapping[int, Opening], rim_alpha: Callable[[NDArray], Array] | None = None
) -> CoverageReading:
    """Coverage of a zone's painting over the frames of `openings`.

    rim_alpha : alpha of the painting at the nearest of its pixels to places (n, 2); where its rim is clear, it ends
    there on purpose. By default it is opaque.
    """
    source = shot.source(zone.source)
    size = (source.width, source.height)
    covered, worst, margin, enlarged, short = 0, (0, 0.0), (0, np.inf), (0, 0.0), []
    for frame, opened in openings.items():
        if not len(opened.places):
            covered += 1
            continue
        if zone_frame(shot, zone, frame) is None:  # its clip shows nothing
            short.append(frame)
            worst = max(worst, (frame, float(opened.weights.sum()) / opened.pixels), key=lambda pair: pair[1])
            continue
        seen = zone_seen(shot, zone, frame)
        share = 0.0
        there, grown = _margin(seen, opened.places, size, zone)
        if there < -SHORT_PX or (seen.matrix is None and not _endless(zone, seen)):
            share = _missing(seen, opened, size, zone, rim_alpha)
        if there < margin[1]:
            margin = (frame, there)
        if grown > enlarged[1]:
            enlarged = (frame, grown)
        if share > 0:
            short.append(frame)
            worst = max(worst, (frame, share), key=lambda pair: pair[1])
        else:
            covered += 1
    first = next(iter(openings), shot.first)
    return CoverageReading(
        covered,
        len(openings),
        worst[0] or first,
        worst[1],
        margin[1] if np.isfinite(margin[1]) else None,
        margin[0] or first,
        enlarged[1],
        enlarged[0] or first,
        tuple(short),
    )


def _endless(zone: Zone, seen: Seen) -> bool:
    return zone.placement.rim != "ends" or seen.wraps


def _margin(seen: Seen, places: NDArray, size: tuple[int, int], zone: Zone) -> tuple[float, float]:
    """How far inside the rim all places lie, plate pixels; and the most plate pixels to a painting pixel there.

    A straight-lined painting covers a convex hull where it covers its corners.
    """
    h = 0.5
    steps = np.array([[0, 0], [h, 0], [0, h]])
    at = seen.back((places[:, None] + steps).reshape(-1, 2)).reshape(-1, 3, 2)
    jacobian = np.stack([at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]], axis=-1) / h  # painting px to a plate px
    if seen.wraps:
        jacobian[:, 0] -= size[0] / h * np.round(jacobian[:, 0] * h / size[0])
    known = np.isfinite(jacobian).all(axis=(1, 2))
    grown = float((1 / np.maximum(np.linalg.svd(jacobian[known], compute_uv=False)[:, -1], 1e-9)).max(initial=0))
    if _endless(zone, seen) and not seen.wraps:
        return np.inf, grown
    if not known.all():
        return -np.inf, grown
    (u, v), (w, hgt) = at[:, 0].T, size
    # distance of a rim line on the plate: the painting's own distance over how fast that grows
    rates = np.linalg.norm(jacobian, axis=2)
    across = np.minimum(u, w - u) / np.maximum(rates[:, 0], 1e-9)
    down = np.minimum(v, hgt - v) / np.maximum(rates[:, 1], 1e-9)
    return float(down.min() if seen.wraps else min(across.min(), down.min())), grown


def _missing(
    seen: Seen, opened: Opening, size: tuple[int, int], zone: Zone, rim_alpha: Callable[[NDArray], Array] | None
) -> float:
    """Share of the frame that is open and beyond the rim."""
    out = beyond(seen, opened.all, size, zone)
    if not out.any():
        return 0.0
    weights = opened.weights[out]
    if rim_alpha is not None:
        weights = weights * rim_alpha(np.nan_to_num(seen.back(opened.all[out]), nan=0.0))
        weights = np.where(weights > OPEN, weights, 0)
    return float(weights.sum()) / opened.pixels


def beyond(seen: Seen, places: NDArray, size: tuple[int, int], zone: Zone) -> NDArray[np.bool_]:
    """Which places (n, 2) of the plate look past the painting."""
    if zone.placement.rim != "ends":
        return np.zeros(len(places), bool)
    at = seen.back(places)
    with np.errstate(invalid="ignore"):
        inside = (at[:, 1] >= 0) & (at[:, 1] <= size[1])
        if not seen.wraps:
            inside &= (at[:, 0] >= 0) & (at[:, 0] <= size[0])
    return ~inside


def uncovered(seen: Seen, zone: Zone, alpha: Array, openness: Array, scale: float) -> Array:
    """Pixels where the painting has run out, for showing. (h, w) float32, 0…1.

    Beyond its rim the painting is taken to go on as its rim is: where that would be seen, it has run out.

    alpha : (h, w) of the painting. openness : (height, width) of the picture at `scale`.
    """
    opened = opening(openness, scale)
    out = np.zeros_like(openness)
    if not len(opened.all):
        return out
    size = (alpha.shape[1], alpha.shape[0])
    gone = beyond(seen, opened.all, size, zone)
    rows = np.floor(opened.all[gone] * scale).astype(int)
    out[rows[:, 1], rows[:, 0]] = opened.weights[gone] * rim_of(alpha)(np.nan_to_num(seen.back(opened.all[gone])))
    return out


def rim_of(alpha: Array) -> Callable[[NDArray], Array]:
    """Alpha at the nearest of a painting's pixels."""
    height, width = alpha.shape

    def at(points: NDArray) -> Array:
        x = np.clip(np.floor(points[:, 0]), 0, width - 1).astype(int)
        y = np.clip(np.floor(points[:, 1]), 0, height - 1).astype(int)
        return np.asarray(alpha[y, x], np.float32)

    return at


def covering(shot: Shot, zone: Zone, openings: Mapping[int, Opening], spare_px: float = 1.0) -> Placement:
    """The smallest change by which a flat painting covers all that is open on all frames: a move, and only where that
    is not enough, an enlargement. Keys of place and size are moved alike.

    Parameters
    ----------
    spare_px : of the painting's own pixels that stay beyond what is needed on each side.

    Raises
    ------
    ValueError : it is not hung flat, nothing is open, or what is open lies behind the lens.

    All open places are taken back onto the painting as it hangs; the box about them has to lie within it.
    """
    placement, (whole, shaped) = zone.placement, shape_of(shot, zone)
    if placement.way != "flat":
        raise ValueError(
            say(
                "{name} hangs by {way}. Cover works on what hangs flat; hang it so first.",
                name=zone.name,
                way=say(placement.way),
            )
        )
    low, high = np.full(2, np.inf), np.full(2, -np.inf)
    for frame, opened in openings.items():
        if len(opened.places):
            at = zone_seen(shot, zone, frame).back(opened.places)
            if not np.isfinite(at).all():
                raise ValueError(say("On frame {frame} the painting is seen from behind. Hang it anew.", frame=frame))
            at = carry(shaped, at)
            low, high = np.minimum(low, at.min(axis=0)), np.maximum(high, at.max(axis=0))
    if not np.isfinite(low).all():
        raise ValueError(say("Nothing is open for this painting."))
    low, high = low - spare_px, high + spare_px
    size = np.array(whole)
    need = float(max((high - low) / size))
    grow = max(need, 1.0)
    # in painting pixels: the painting moves only as far as it has to for the box to lie within it
    half, middle = size * grow / 2, size / 2
    shift = np.clip(middle, np.minimum(high - half, low + half), np.maximum(high - half, low + half)) - middle
    return _shifted(placement, shot, whole, shift, grow)


def _shifted(placement: Placement, shot: Shot, size: tuple[float, float], shift: NDArray, grow: float) -> Placement:
    """A flat placement enlarged about the painting's middle and moved by its pixels."""
    width, height = size
    frame = shot.first
    before = flat_to_reference(placement, frame, (width, height), shot.size)
    goal = carry(before, np.array([[width / 2, height / 2]]) + shift)[0]
    larger = placement.but(size=placement.size.scaled(grow))
    after = flat_to_reference(larger, frame, (width, height), shot.size)
    by = goal - carry(after, np.array([[width / 2, height / 2]]))[0]
    return larger.but(x=larger.x.shifted(float(by[0])), y=larger.y.shifted(float(by[1])))
