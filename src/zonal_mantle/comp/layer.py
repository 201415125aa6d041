"""One layer of a plan: laid straight into the picture, or made in a buffer of its own where it is worked on first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from math import lcm

import cv2
import numpy as np
from numpy.typing import NDArray

from ..match.tone import NO_TONE, tone_numbers
from ..media.bands import cleared, run_bands
from ..place.minify import TILE_HEIGHT
from ..place.mirror import deeper_softer
from ..place.rim import CALM, FADE
from ..place.seen import Grid, grid_sizes
from ..place.warp import inverse_for, sizes_seen
from .glass import across_picture, through_deep_air, through_glass
from .lay import Accumulator, Limit, Look, Places, Tiles, lay_cut, lay_flat, lay_opaque, lay_seen, limit_of
from .pictures import Pictures
from .plan import Flat, Gridded, Haze, Layer, MattePlan, Ramp

Array = NDArray[np.float32]
_NO_SHARE = np.zeros((1, 1), np.float32)
_NOTHING = np.zeros((1, 1, 4), np.float32)
BEYOND_OWN, BEYOND = 3, 6  # pixels of a painting, and of the picture, beyond its rim to which it may be seen


def new_accumulator(size: tuple[int, int], counts: bool, filled: bool = False) -> Accumulator:
    """An empty picture of (width, height); one whose first layer fills it whole needs not be cleared."""
    width, height = size
    share = cleared((height, width)) if counts else _NO_SHARE
    rgba = np.empty((height, width, 4), np.float32) if filled else cleared((height, width, 4))
    return Accumulator(rgba, share, counts, filled)


def laid(
    layers: Sequence[Layer], size: tuple[int, int], scale: float, pictures: Pictures, weights: Sequence[float] | None
) -> Accumulator:
    """Layers over one another, from near to far, on nothing. `scale` is that of the plan; by the `weights` of the
    layers their shares of each pixel are counted."""
    first_fills = bool(layers) and layers[0].view is None and not layers[0].is_worked_on
    acc = new_accumulator(size, weights is not None, filled=first_fills)
    for number, layer in enumerate(layers):
        _lay(layer, scale, pictures, acc, 0.0 if weights is None else weights[number])
        acc = acc._replace(empty=False)
    return acc


def _lay(layer: Layer, scale: float, pictures: Pictures, acc: Accumulator, weight: float) -> None:
    """Lays a layer under what the accumulator holds."""
    if not layer.is_worked_on and (not isinstance(layer.view, Flat) or len(layer.view.matrices) == 1):
        _lay_straight(layer, scale, pictures, acc, _limit(layer, scale, pictures, acc), _look(layer, weight))
        return
    first, end = rows_shown(layer, (acc.rgba.shape[1], acc.rgba.shape[0]), pictures)
    if first == end:
        return
    limit, rows = _limit(layer, scale, pictures, acc), slice(first, end)
    if limit.matted:
        limit = limit._replace(matte=limit.matte[rows])
    part = acc._replace(rgba=acc.rgba[rows], counted=acc.counted[rows] if acc.counts else acc.counted)
    buffer = _buffered(layer, scale, pictures, (acc.rgba.shape[1], end - first), first)
    run_bands(lay_cut, end - first, buffer, limit, _look(layer, weight, True), part)


def rows_shown(layer: Layer, size: tuple[int, int], pictures: Pictures) -> tuple[int, int]:
    """The rows of a picture of (width, height) that a layer which is worked on may be seen in, as the first and the one
    after the last. The first lies where tiles and the steps of a shutter begin."""
    height, glass = size[1], layer.glass
    if not isinstance(layer.view, Flat) or layer.blur is not None:
        return 0, height
    unit = TILE_HEIGHT
    if glass is not None and glass.shutter is not None:
        if glass.shutter.step != int(glass.shutter.step):
            return 0, height
        unit = lcm(unit, int(glass.shutter.step))
    box = (0, 0, *layer.picture.size) if layer.cut is not None else pictures.bounds_of(layer.picture)
    (left, top), (right, bottom) = (n - BEYOND_OWN for n in box[:2]), (n + BEYOND_OWN for n in box[2:])
    corners = np.array([[left, top, 1], [right, top, 1], [right, bottom, 1], [left, bottom, 1]], float)
    seen = corners @ np.swapaxes(layer.view.matrices, 1, 2)
    if not (seen[..., 2] > 1e-9).all():
        return 0, height
    y, reach = seen[..., 1] / seen[..., 2], BEYOND + (0 if glass is None else glass.margin)
    if not np.isfinite(y).all() or y.max() + reach < 0 or y.min() - reach > height:
        return 0, 0 if np.isfinite(y).all() else height
    first = max(int(np.floor(y.min())) - reach, 0) // unit * unit
    return min(first, height), min(max(int(np.ceil(y.max())) + reach, first), height)


def _buffered(layer: Layer, scale: float, pictures: Pictures, size: tuple[int, int], top: int) -> Array:
    """A layer by itself, of (width, height) from a row of the picture on: toned and hazed, seen through the lens, then
    blurred by its depth in the water."""
    width, height = size
    margin = 0 if layer.glass is None else layer.glass.margin
    size = (width + 2 * margin, height + 2 * margin)
    alone = new_accumulator(size, False)
    one = replace(layer, blur=None, across=None, deep=None, glass=None, view=_with_margin(layer.view, margin, top))
    if layer.view is None and margin:
        inner = new_accumulator((width, height), False)
        _lay_straight(one, scale, pictures, inner, limit_of(), _look(layer))
        rgba: Array = np.asarray(
            cv2.copyMakeBorder(inner.rgba, margin, margin, margin, margin, cv2.BORDER_REPLICATE), np.float32
        )
    else:
        _lay_straight(one, scale, pictures, alone, limit_of(), _look(layer))
        rgba = alone.rgba
    if layer.across is not None:
        rgba = across_picture(rgba, layer.across, scale, margin, top)
    if layer.deep is not None:
        rgba = through_deep_air(rgba, layer.deep, margin, top)
    if layer.glass is not None:
        rgba = through_glass(rgba, layer.glass, scale, top)
    if layer.blur is not None:
        rgba = deeper_softer(rgba, depth_of(layer.blur.line, size, scale), layer.blur.rate * scale)
    return np.ascontiguousarray(rgba[margin : margin + height, margin : margin + width], np.float32)


def _with_margin(view: Flat | Gridded | None, margin: int, top: int) -> Flat | Gridded | None:
    """A view of a picture that is larger to each side and begins with a row; a grid was made so large already."""
    if (margin == 0 and top == 0) or not isinstance(view, Flat):
        return view
    moved = np.eye(3)
    moved[:2, 2] = margin, margin - top
    return Flat(moved @ view.matrices)


def _look(layer: Layer, weight: float = 0.0, done: bool = False) -> Look:
    """What is done to a layer's light; nothing more where it is `done`."""
    haze = Haze() if done else layer.haze
    tone = tone_numbers(NO_TONE if done else layer.tone)
    return Look(tone, *(np.float32(value) for value in (*haze.keep, *haze.added, weight)))


def _limit(layer: Layer, scale: float, pictures: Pictures, acc: Accumulator) -> Limit:
    """What of a layer is let through by its matte, its ramp and its opacity."""
    alpha = None if layer.matte is None else pictures.made(layer.matte).alpha
    if layer.cut is not None and layer.view is None and pictures.made(layer.cut).foreground is None:
        alpha = pictures.made(layer.cut).alpha
    if layer.ramp is not None:
        ramp = ramp_of(layer.ramp, (acc.rgba.shape[1], acc.rgba.shape[0]), scale)
        alpha = ramp if alpha is None else np.ascontiguousarray(alpha * ramp)
    return limit_of(alpha, layer.opacity)


def _lay_straight(layer: Layer, scale: float, pictures: Pictures, acc: Accumulator, limit: Limit, look: Look) -> None:
    height = acc.rgba.shape[0]
    if layer.view is None:
        foreground = None if layer.cut is None else pictures.made(layer.cut).foreground
        if foreground is not None:
            run_bands(lay_cut, height, foreground, limit, look, acc)
        else:
            run_bands(lay_opaque, height, _whole(layer, scale, pictures), limit, look, acc)
    elif isinstance(layer.view, Flat):
        _lay_flat(layer, layer.view.matrices[0], pictures, acc, limit, look)
    else:
        _lay_seen(layer, layer.view, pictures, acc, limit, look)


def _lay_flat(layer: Layer, matrix: NDArray, pictures: Pictures, acc: Accumulator, limit: Limit, look: Look) -> None:
    height, width = acc.rgba.shape[:2]
    whole = (layer.picture.height, layer.picture.width)
    sizes, tiles = sizes_seen(matrix, layer.picture.size, (width, height))
    low = pictures.lowest_of(layer.picture)
    for own, steps in enumerate(sizes):
        painting = _shown(layer, steps, pictures)
        which = Tiles(tiles, own if len(sizes) > 1 else -1)
        inverse = inverse_for(matrix, whole, painting.shape)
        run_bands(lay_flat, height, painting, low, inverse, which, limit, look, acc)


def _lay_seen(layer: Layer, view: Gridded, pictures: Pictures, acc: Accumulator, limit: Limit, look: Look) -> None:
    height, width = acc.rgba.shape[:2]
    whole = Grid(view.places, view.step, view.origin)
    sizes, tiles = grid_sizes(whole, layer.picture.size, (width, height))
    low = pictures.lowest_of(layer.picture)
    calm = pictures.calm_of(layer.picture) if view.edge == CALM else _NOTHING
    for own, steps in enumerate(sizes):
        painting = _shown(layer, steps, pictures)
        at = whole if steps == (0, 0) else whole.on(layer.picture.size, (painting.shape[1], painting.shape[0]))
        places = Places(at.places, at.step, at.origin, view.edge, calm, FADE * min(painting.shape[:2]))
        which = Tiles(tiles, own if len(sizes) > 1 else -1)
        run_bands(lay_seen, height, painting, low, places, which, limit, look, acc)


def _whole(layer: Layer, scale: float, pictures: Pictures) -> Array:
    if layer.without is not None:
        return pictures.taken_away(layer.picture, layer.without)
    return pictures.pixels(layer.picture, scale)


def _shown(layer: Layer, steps: tuple[int, int], pictures: Pictures) -> Array:
    """What a view looks at: the picture, or what its own matte leaves of it. (h, w, 4) float32, premultiplied."""
    if layer.cut is None:
        return pictures.painting_of(layer.picture, steps)
    return pictures.cut_out(layer.picture, layer.cut, steps)


def depth_of(line: tuple[float, float, float], size: tuple[int, int], scale: float) -> Array:
    """How far each pixel lies on from a line, in plate pixels. (h, w) float32."""
    x, y = (np.arange(size[0]) + 0.5) / scale, (np.arange(size[1]) + 0.5) / scale
    return np.asarray(line[0] * x[None, :] + line[1] * y[:, None] + line[2], np.float32)


def ramp_of(ramp: Ramp, size: tuple[int, int], scale: float) -> Array:
    """A ramp as a limit. (h, w) float32, 0…1."""
    depth = depth_of(ramp.line, size, scale) - np.float32(ramp.start)
    if ramp.height == 0:
        return (depth > 0).astype(np.float32)
    share = np.clip(depth / np.float32(ramp.height), 0, 1)
    return np.asarray(share * share * (3 - 2 * share), np.float32)


def plan_alpha(matte: MattePlan, pictures: Pictures) -> Array:
    """A matte's alpha held to 0…1. (h, w) float32."""
    return np.asarray(cv2.min(cv2.max(pictures.made(matte).alpha, 0.0), 1.0), np.float32)  # type: ignore[call-overload]
