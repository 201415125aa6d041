"""One layer of a plan: laid straight into the picture, or made in a buffer of its own where it is worked on first."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from ..match.tone import NO_TONE, tone_numbers
from ..media.bands import cleared, run_bands
from ..place.mirror import deeper_softer
from ..place.rim import CALM, FADE
from ..place.seen import Grid, grid_sizes
from ..place.warp import inverse_for, sizes_seen
from .lay import Accumulator, Limit, Look, Places, Tiles, lay_cut, lay_flat, lay_opaque, lay_seen, limit_of
from .pictures import Pictures
from .plan import Flat, Gridded, Haze, Layer, MattePlan, Ramp

Array = NDArray[np.float32]
_NO_SHARE = np.zeros((1, 1), np.float32)
_NOTHING = np.zeros((1, 1, 4), np.float32)


def new_accumulator(size: tuple[int, int], counts: bool, filled: bool = False) -> Accumulator:
    """An empty picture of (width, height); one whose first layer fills it whole needs not be cleared."""
    width, height = size
    share = cleared((height, width)) if counts else _NO_SHARE
    rgba = np.empty((height, width, 4), np.float32) if filled else cleared((height, width, 4))
    return Accumulator(rgba, share, counts, filled)


def laid(layers: Sequence[Layer], size: tuple[int, int], scale: float, pictures: Pictures, counts: bool) -> Accumulator:
    """Layers over one another, from near to far, on nothing. `scale` is that of the plan."""
    acc = new_accumulator(size, counts, filled=bool(layers) and layers[0].view is None and layers[0].blur is None)
    for layer in layers:
        _lay(layer, scale, pictures, acc)
        acc = acc._replace(empty=False)
    return acc


def _lay(layer: Layer, scale: float, pictures: Pictures, acc: Accumulator) -> None:
    """Lays a layer under what the accumulator holds."""
    if layer.blur is None and (not isinstance(layer.view, Flat) or len(layer.view.matrices) == 1):
        _lay_straight(layer, scale, pictures, acc, _limit(layer, scale, pictures, acc), _look(layer))
        return
    buffer = _buffered(layer, scale, pictures, acc)
    run_bands(lay_cut, buffer.shape[0], buffer, _limit(layer, scale, pictures, acc), _look(layer, True), acc)


def _buffered(layer: Layer, scale: float, pictures: Pictures, acc: Accumulator) -> Array:
    """A layer by itself, seen over its shutter, then blurred."""
    size = (acc.rgba.shape[1], acc.rgba.shape[0])
    views = [layer.view]
    if isinstance(layer.view, Flat):
        views = [Flat(matrix[None]) for matrix in layer.view.matrices]
    total: Array | None = None
    for view in views:
        alone = new_accumulator(size, False)
        one = Layer(**{**vars(layer), "view": view, "blur": None})
        _lay_straight(one, scale, pictures, alone, limit_of(), _look(layer))
        total = alone.rgba if total is None else total + alone.rgba
    assert total is not None
    total = total if len(views) == 1 else total / np.float32(len(views))
    if layer.blur is not None:
        total = deeper_softer(total, depth_of(layer.blur.line, size, scale), layer.blur.rate * scale)
    return np.ascontiguousarray(total, np.float32)


def _look(layer: Layer, done: bool = False) -> Look:
    """What is done to a layer's light; nothing more where it is `done`."""
    haze = Haze() if done else layer.haze
    r, g, b = (np.float32(value) for value in haze.added)
    tone = tone_numbers(NO_TONE if done else layer.tone)
    return Look(tone, np.float32(haze.keep), r, g, b, layer.is_plate)


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
