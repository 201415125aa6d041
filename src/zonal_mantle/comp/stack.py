"""A picture from its plan: segments of layers from far to near, each laid from near to far.

A layer whose colour depends on what is behind it is a segment of its own; what lies between two such layers is laid
at once.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from ..shot import Shot, Zone
from .blend import laid_on
from .develop import develop
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


def compose_plan(planned: FramePlan, pictures: Pictures) -> Array:
    """The picture that a plan describes. (h, w, 4) float32, scene-linear, premultiplied, the caller's own."""
    acc = stacked(planned, pictures)
    return develop(acc.rgba, planned.develop, acc.plate if acc.counts else None)


def segments(layers: tuple[Layer, ...]) -> list[tuple[Layer, ...]]:
    """Layers from near to far in runs that can be laid at once, near to far."""
    runs: list[list[Layer]] = []
    for layer in layers:
        if layer.is_plain and runs and runs[-1][0].is_plain:
            runs[-1].append(layer)
        else:
            runs.append([layer])
    return [tuple(run) for run in runs]


def stacked(planned: FramePlan, pictures: Pictures) -> Accumulator:
    """All layers over one another, with the plate's share of each pixel where a later step asks for it."""
    counts, behind = planned.needs_plate_share, None
    for segment in reversed(segments(planned.layers)):
        near = laid(segment, planned.size, planned.scale, pictures, counts)
        behind = near if behind is None and segment[0].is_plain else _over(near, behind, segment[0], planned.size)
    return new_accumulator(planned.size, counts) if behind is None else behind


def _over(near: Accumulator, behind: Accumulator | None, first: Layer, size: tuple[int, int]) -> Accumulator:
    behind = new_accumulator(size, near.counts) if behind is None else behind
    plain = first.is_plain
    mode, coded = ("normal", False) if plain else (first.mode, first.coded)
    rgba = laid_on(behind.rgba, near.rgba, mode, coded)  # type: ignore[arg-type]
    share = near.plate + behind.plate * (1 - near.rgba[..., 3]) if near.counts else near.plate
    return Accumulator(rgba, share, near.counts, False)


def openness(shot: Shot, zone: Zone, frame: int, pictures: Pictures, scale: float = 1.0) -> Array:
    """Share of a zone's light that passes all that is nearer. (h, w) float32."""
    nearer = []
    for other in shot.near_to_far():
        if other.id == zone.id:
            break
        nearer.append(other)
    return np.ascontiguousarray(1 - compose(shot, frame, pictures, scale, nearer)[..., 3])
