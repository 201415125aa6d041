"""A picture from its plan: segments of layers from far to near, each laid from near to far.

A layer whose colour depends on what is behind it is a segment of its own; what lies between two such layers is laid
at once.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from ..match.grain import unit_grain
from ..match.wrap import spilled
from ..media.curves import coded
from ..media.memory import one_at_a_time
from ..shot import Shot, Zone
from .blend import laid_on
from .develop import LaidGrain, Step, develop
from .finish_plan import Film
from .finish_planner import finished_plan
from .finisher import finished
from .lay import Accumulator
from .layer import laid, new_accumulator
from .pictures import Pictures
from .plan import FramePlan, Layer
from .planner import plan

Array = NDArray[np.float32]


def compose(
    shot: Shot, frame: int, pictures: Pictures, scale: float = 1.0, zones: Iterable[Zone] | None = None
) -> Array:
    """A frame of a shot: `compose_plan` of its `plan`.

    Returns
    -------
    (h, w, 4) float32, scene-linear, premultiplied.

    Raises
    ------
    MediaError : a source cannot be read.
    """
    return compose_plan(plan(shot, frame, scale, zones), pictures)


def finish_frame(shot: Shot, frame: int, pictures: Pictures, scale: float = 1.0) -> Array:
    """A frame as it leaves: composed, and finished as the shot says, at the size that it asks for.

    Returns
    -------
    (h, w, 4) float32, scene-linear, premultiplied, the caller's own.

    Raises
    ------
    MediaError : a source cannot be read. FinishError : a LUT cannot be used.
    """
    return compose_plan(finished_plan(shot, frame, scale), pictures)


def compose_plan(planned: FramePlan, pictures: Pictures) -> Array:
    """The picture that a plan describes. (h, w, 4) float32, scene-linear, premultiplied, the caller's own."""
    with one_at_a_time(planned.size):
        return _composed(planned, pictures)


def _composed(planned: FramePlan, pictures: Pictures) -> Array:
    films, share_of_plate = planned.films, [float(layer.is_plate) for layer in planned.layers]
    first: Sequence[float] | None = None
    if planned.needs_plate_share or films:
        first = share_of_plate if planned.needs_plate_share else films[0].strengths
    if first is None and planned.finish is not None:
        first = next((light.weights for light in planned.finish.lights if light.weights is not None), None)
    acc = stacked(planned, pictures, first)
    steps: list[Step] = list(planned.develop)
    for film in films:
        counted = acc.counted if film.strengths is first else stacked(planned, pictures, film.strengths).counted
        there = np.flatnonzero(counted.any(axis=1))
        if there.size:
            rows = int(there[0]), int(there[-1]) + 1
            steps.append(LaidGrain(noise_of(film, planned, pictures, rows), film.model, counted, first=rows[0]))
    picture = develop(acc.rgba, steps, acc.counted if planned.needs_plate_share else None)
    if planned.finish is None:
        return picture

    def share_of(weights: tuple[float, ...]) -> Array:
        return acc.counted if weights == first else stacked(planned, pictures, weights).counted

    return finished(picture, planned.finish, planned.scale, share_of, lambda film: noise_of(film, planned, pictures))


def noise_of(film: Film, planned: FramePlan, pictures: Pictures, of_rows: tuple[int, int] | None = None) -> Array:
    """What a film's grain is on a frame, or on some rows of it, the first and the one after the last: of unit strength
    from its model, or of its clip in coded values. (3, rows, w)."""
    first, end = of_rows or (0, planned.size[1])
    if film.model is not None:
        return unit_grain(film.model, planned.size, film.seed, film.frame, film.size, planned.scale, (first, end))
    assert film.clip is not None
    clip = pictures.pixels(film.clip, planned.scale)
    height, width = planned.size[1], planned.size[0]
    rows, columns = -(-height // clip.shape[0]), -(-width // clip.shape[1])
    laid_out = np.tile(coded(clip) - np.float32(film.grey), (rows, columns, 1))
    return np.ascontiguousarray(laid_out[first:end, :width].transpose(2, 0, 1))


def segments(layers: tuple[Layer, ...]) -> list[tuple[Layer, ...]]:
    """Layers from near to far in runs that can be laid at once, near to far."""
    runs: list[list[Layer]] = []
    for layer in layers:
        if layer.is_plain and runs and runs[-1][0].is_plain:
            runs[-1].append(layer)
        else:
            runs.append([layer])
    return [tuple(run) for run in runs]


def stacked(planned: FramePlan, pictures: Pictures, weights: Sequence[float] | None = None) -> Accumulator:
    """All layers over one another; with `weights`, one a layer, how much of each pixel they are is counted."""
    counts, behind, end = weights is not None, None, len(planned.layers)
    for segment in reversed(segments(planned.layers)):
        part = None if weights is None else weights[end - len(segment) : end]
        end -= len(segment)
        near = laid(segment, planned.size, planned.scale, pictures, part)
        plain = behind is None and segment[0].is_plain
        behind = near if plain else _over(near, behind, segment[0], planned)
    return new_accumulator(planned.size, counts) if behind is None else behind


def _over(near: Accumulator, behind: Accumulator | None, first: Layer, planned: FramePlan) -> Accumulator:
    behind = new_accumulator(planned.size, near.counts) if behind is None else behind
    over = near.rgba
    if (wrap := first.wrap) is not None:
        over = spilled(over, behind.rgba, wrap.sigma_px * planned.scale, wrap.amount, wrap.only_brighter)
    plain = first.mode == "normal" and not (first.coded and first.opacity != 1)
    mode, in_codes = ("normal", False) if plain else (first.mode, first.coded)
    rgba = laid_on(behind.rgba, over, mode, in_codes)  # type: ignore[arg-type]
    share = near.counted + behind.counted * (1 - near.rgba[..., 3]) if near.counts else near.counted
    return Accumulator(rgba, share, near.counts, False)


def openness(shot: Shot, zone: Zone, frame: int, pictures: Pictures, scale: float = 1.0) -> Array:
    """Share of a zone's light that passes all that is nearer. (h, w) float32."""
    nearer = []
    for other in shot.near_to_far():
        if other.id == zone.id:
            break
        nearer.append(other)
    return np.ascontiguousarray(1 - compose(shot, frame, pictures, scale, nearer)[..., 3])
