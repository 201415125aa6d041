"""Where a frame's pixels look at a zone's painting, however it hangs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry import carry, distorted, undistorted
from ..shot.shot import Shot
from ..shot.zone import Zone
from .dome import dome_rotation, from_painting, to_painting
from .minify import Steps, tile_centres, tile_steps
from .transform import (
    painting_to_frame,
    painting_to_reference,
    placement_camera,
    placement_lens,
    reference_to_frame,
    shape_of,
)

Matrix = NDArray[np.float64]
Points = NDArray[np.float64]
STEP = 8  # plate pixels between places that are worked out exactly
FAR = 1e7  # where nothing is
NEAR_POLE = np.deg2rad(80)


@dataclass(frozen=True)
class Seen:
    """How a painting is seen on a frame.

    back : plate pixels (n, 2) to painting pixels (n, 2); NaN where it is not seen.
    matrix : (3, 3) painting to plate pixels where a homography tells it all, else None.
    wraps : its right end goes on at its left.
    step : plate pixels over which `back` is as good as straight.
    """

    back: Callable[[Points], Points]
    matrix: Matrix | None
    wraps: bool = False
    step: int = STEP

    def through(self, way: Callable[[Points], Points], step: int = 2) -> Seen:
        """The same seen by way of a mirror: `way` takes plate pixels to those that are looked at instead."""
        return Seen(lambda points: self.back(way(points)), None, self.wraps, min(self.step, step))


def zone_seen(shot: Shot, zone: Zone, frame: int) -> Seen:
    """How a zone's painting is seen on a frame."""
    source, placement = shot.source(zone.source), zone.placement
    lens = placement_lens(shot, placement)
    if placement.way == "dome":
        return _dome_seen(shot, zone, frame)
    if lens is not None and lens.distortion:
        k, hung = placement_camera(shot, placement), np.linalg.inv(painting_to_reference(shot, zone, frame))
        motion, bend = np.linalg.inv(reference_to_frame(shot, zone, frame)), lens.distortion

        def back(points: Points) -> Points:
            ideal = carry(motion, undistorted(points, k, bend))
            return carry(hung, distorted(ideal, k, bend))

        return Seen(back, None)
    matrix = painting_to_frame(shot, zone, frame)
    inverse = np.asarray(np.linalg.inv(matrix), np.float64)
    ahead = np.sign(_depth(inverse, _ahead(matrix, (source.width, source.height))))

    def flat_back(points: Points) -> Points:
        with np.errstate(divide="ignore", invalid="ignore"):
            out = carry(inverse, points)
        return np.asarray(np.where((ahead * _depth(inverse, points) > 0)[:, None], out, np.nan))

    return Seen(flat_back, matrix)


def _depth(inverse: NDArray, points: Points) -> NDArray[np.float64]:
    flat = np.asarray(points, float).reshape(-1, 2)
    return np.asarray(flat @ inverse[2, :2] + inverse[2, 2])


def _ahead(matrix: Matrix, size: tuple[int, int]) -> Points:
    """A place on the plate where the painting's middle is seen."""
    return carry(matrix, np.array([[size[0] / 2, size[1] / 2]]))


def _dome_seen(shot: Shot, zone: Zone, frame: int) -> Seen:
    placement, dome, (size, shaped) = zone.placement, zone.placement.dome, shape_of(shot, zone)
    lens = placement_lens(shot, placement)
    k = placement_camera(shot, placement)
    inverse_k = np.linalg.inv(k)
    motion = np.linalg.inv(reference_to_frame(shot, zone, frame))
    turn = dome_rotation(dome, frame)
    bend = lens.distortion if lens is not None else 0.0
    # a direction keeps its sign: places behind the lens on the reference frame are still seen on this one
    to_reference = inverse_k @ (motion * np.sign(np.linalg.det(motion)))

    def back(points: Points) -> Points:
        ideal = undistorted(points, k, bend) if bend else np.asarray(points, float)
        rays = np.concatenate([ideal, np.ones((len(ideal), 1))], axis=1) @ to_reference.T @ turn
        found = to_painting(rays, size, dome.mapping, dome.wide_deg)
        if placement.flip_across:
            found[:, 0] = size[0] - found[:, 0]
        if placement.flip_up:
            found[:, 1] = size[1] - found[:, 1]
        return np.asarray(found / [shaped[0, 0], 1])

    width, height = shot.size
    gx, gy = np.meshgrid(np.linspace(0, width, 13), np.linspace(0, height, 9))
    rays = np.stack([gx.ravel(), gy.ravel(), np.ones(gx.size)], axis=1) @ to_reference.T @ turn
    high = np.abs(np.arctan2(rays[:, 1], np.hypot(rays[:, 0], rays[:, 2]))).max()
    steep = dome.mapping == "lat-long" and high > NEAR_POLE
    return Seen(back, None, dome.mapping == "lat-long" and dome.wide_deg == 360, 1 if steep else STEP)


def dome_place(shot: Shot, zone: Zone, frame: int, points: Points) -> Points:
    """Painting pixels (n, 2) of a dome to plate pixels on a frame; NaN behind the lens."""
    placement, dome, (size, shaped) = zone.placement, zone.placement.dome, shape_of(shot, zone)
    own = carry(shaped, points)
    if placement.flip_across:
        own[:, 0] = size[0] - own[:, 0]
    if placement.flip_up:
        own[:, 1] = size[1] - own[:, 1]
    lens, k = placement_lens(shot, placement), placement_camera(shot, placement)
    rays = from_painting(own, size, dome.mapping, dome.wide_deg) @ dome_rotation(dome, frame).T
    motion = reference_to_frame(shot, zone, frame)
    motion = motion * np.sign(np.linalg.det(motion))
    seen = rays @ (motion @ k).T
    out = np.full((len(rays), 2), np.nan)
    there = seen[:, 2] > 1e-9
    out[there] = seen[there, :2] / seen[there, 2:]
    if lens is not None and lens.distortion:
        out[there] = distorted(out[there], k, lens.distortion)
    return out


def plate_places(shot: Shot, zone: Zone, frame: int, points: Points) -> Points:
    """Painting pixels (n, 2) to plate pixels on a frame, however the zone hangs; NaN where they are not seen."""
    if zone.placement.way == "dome":
        return dome_place(shot, zone, frame, points)
    lens = placement_lens(shot, zone.placement)
    if lens is not None and lens.distortion:
        k, bend = placement_camera(shot, zone.placement), lens.distortion
        ideal = undistorted(carry(painting_to_reference(shot, zone, frame), points), k, bend)
        return distorted(carry(reference_to_frame(shot, zone, frame), ideal), k, bend)
    return carry(painting_to_frame(shot, zone, frame), points)


@dataclass(frozen=True, eq=False)
class Grid:
    """Where every few pixels of a picture look on a painting.

    places : (rows, columns, 2) float64 at the pixel places origin, origin + step, … (places, not centres). What is not
        seen is far outside. Across a wrapping painting they go on beyond its ends.
    """

    places: NDArray[np.float64]
    step: int
    origin: float

    def on(self, whole: tuple[int, int], level: tuple[int, int]) -> Grid:
        """The same for a smaller copy of the painting."""
        ratio = np.array([level[0] / whole[0], level[1] / whole[1]])
        return Grid(np.where(np.abs(self.places) < FAR / 2, self.places * ratio, self.places), self.step, self.origin)


def grid(
    seen: Seen, size: tuple[int, int], scale: tuple[float, float], whole: tuple[int, int], margin: int = 0
) -> Grid:
    """A grid over a picture.

    Parameters
    ----------
    size : width and height of the picture. scale : its pixels to one plate pixel, across and down.
    whole : width and height of the painting. margin : by how much the picture is larger to each side.
    """
    size = (size[0] + 2 * margin, size[1] + 2 * margin)
    step = max(1, round(seen.step * min(scale)))
    origin = 0.5 if step == 1 else 0.0  # at the centres themselves: nothing is left to lie between
    xs, ys = (np.arange(origin, extent + 2 * step, step, dtype=float) for extent in size)
    gx, gy = np.meshgrid(xs, ys)
    found = seen.back((np.stack([gx.ravel(), gy.ravel()], axis=1) - margin) / scale).reshape(len(ys), len(xs), 2)
    if seen.wraps and step > 1:  # from one side of the view to the other without a jump
        middle = found[len(ys) // 2, len(xs) // 2, 0]
        found[..., 0] -= whole[0] * np.round((found[..., 0] - middle) / whole[0])
    return Grid(np.ascontiguousarray(np.nan_to_num(found, nan=-FAR, posinf=FAR, neginf=-FAR)), step, origin)


def grid_sizes(places: Grid, painting: tuple[int, int], size: tuple[int, int]) -> tuple[list[Steps], NDArray[np.int32]]:
    """Which sizes of a painting of (width, height) a picture of `size` needs through a grid over it whole, and which
    tile needs which; see `minify.tile_steps`."""
    centres, shape = tile_centres(size)
    at = np.clip(np.round((centres - places.origin) / places.step).astype(int), 0, None)
    columns = np.minimum(at[:, 0], places.places.shape[1] - 2)
    rows = np.minimum(at[:, 1], places.places.shape[0] - 2)
    here = places.places[rows, columns]
    across = (places.places[rows, columns + 1] - here) / places.step
    down = (places.places[rows + 1, columns] - here) / places.step
    density = np.hypot(across, down)
    seen = np.abs(here).max(axis=1) < FAR / 10
    density[~seen | (density.max(axis=1) > painting[0])] = 0
    return tile_steps(density, shape, seen)
