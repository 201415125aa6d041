"""The demo's little ray tracer: textured panels, hills, mirroring pans, an overcast sky, sampled over the open shutter.

Two pictures come of the same rays: the plate, and the finished picture with the added panels and the new sky.
Every ray sample carries partial coverage, so the alpha of what stays is exact up to the number of samples.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from .camera import Camera, HandHeld
from .paintings import SKY_HORIZON
from .rays import TILE, Air, Hills, NewSky, Panels, Tiles, render_rows
from .scene import AIRLIGHT, HILL_AZIMUTH, HILL_DISTANCES_M, VISIBILITY_M, Panel, Scene

Array = NDArray[np.float32]
BETA = float(-np.log(0.05) / VISIBILITY_M)
SKY_DEGREES = 88.0  # what the sky painting spans across, as a flat picture facing the middle of the shot


@dataclass
class Atlas:
    """All panel textures with their halvings in one flat array."""

    data: Array
    offset: NDArray[np.int64]  # (textures, levels)
    width: NDArray[np.int64]
    height: NDArray[np.int64]
    levels: NDArray[np.int64]


def make_atlas(pictures: list[Array], depth: int = 8) -> Atlas:
    """Packs textures and their box-filtered halvings."""
    chunks: list[Array] = []
    offset = np.zeros((len(pictures), depth), np.int64)
    width, height = np.ones_like(offset), np.ones_like(offset)
    levels = np.zeros(len(pictures), np.int64)
    total = 0
    for k, picture in enumerate(pictures):
        level = picture
        for d in range(depth):
            h, w = level.shape[:2]
            offset[k, d], width[k, d], height[k, d] = total, w, h
            chunks.append(level.reshape(-1))
            total += level.size
            levels[k] = d + 1
            if min(h, w) < 4:
                break
            level = level[: h // 2 * 2, : w // 2 * 2].reshape(h // 2, 2, w // 2, 2, 4).mean(axis=(1, 3))
    return Atlas(np.concatenate(chunks), offset, width, height, levels)


def _tiles(panels: list[Panel], cameras: list[Camera], times: list[float], mirror: bool, margin: float):  # type: ignore[no-untyped-def]
    """For every tile, which panels may be met there, near to far."""
    camera = cameras[0]
    tiles_x, tiles_y = -(-camera.width // TILE), -(-camera.height // TILE)
    lists: list[list[int]] = [[] for _ in range(tiles_x * tiles_y)]
    depth = [float((p.corner + (p.across + p.down) / 2 - camera.position)[1]) for p in panels]
    for index in np.argsort(depth, kind="stable"):
        panel = panels[index]
        if (mirror and panel.added) or panel.name == "far range":
            continue
        low, high = np.full(2, np.inf), np.full(2, -np.inf)
        for cam, time in zip(cameras, times):
            corner = panel.corner + panel.velocity * time
            corners = np.array([corner, corner + panel.across, corner + panel.down, corner + panel.across + panel.down])
            if mirror:
                corners = corners * [1, 1, -1]
            local = (corners - cam.position) @ cam.rotation.T
            if (local[:, 2] < 0.2).any():
                low, high = np.zeros(2), np.array([cam.width, cam.height], float)
                break
            pixels = cam.project(corners)
            low, high = np.minimum(low, pixels.min(axis=0)), np.maximum(high, pixels.max(axis=0))
        first = np.floor((low - margin) / TILE).astype(int).clip(0)
        last = np.floor((high + margin) / TILE).astype(int)
        for ty in range(first[1], min(last[1], tiles_y - 1) + 1):
            for tx in range(first[0], min(last[0], tiles_x - 1) + 1):
                lists[ty * tiles_x + tx].append(int(index))
    starts = np.concatenate([[0], np.cumsum([len(x) for x in lists])]).astype(np.int64)
    ids = np.array([i for x in lists for i in x] or [0], np.int64)
    return tiles_x, starts, ids


class Tracer:
    """Renders frames of a scene. Build once, then ask for frames by their time."""

    def __init__(self, scene: Scene, path: HandHeld, samples: int = 16) -> None:
        self.scene, self.path, self.samples = scene, path, samples
        self.atlas = make_atlas(scene.textures)
        self.reference = path.at((path.frames - 1) / 2)

    def frame(self, index: int, shutter: float = 0.5) -> tuple[Array, Array, Array]:
        """Plate (h, w, 3), finished picture (h, w, 3) and alpha of what stays (h, w), before lens and film.

        The shutter is open for `shutter` frames, centred on the frame's time.
        """
        scene, path, n = self.scene, self.path, self.samples
        order = np.random.default_rng(5).permutation(n)
        times = [index + ((order[k] + 0.5) / n - 0.5) * shutter for k in range(n)]
        cameras = [path.at(t) for t in times]
        cams = np.zeros((n, 15))
        for k, camera in enumerate(cameras):
            cams[k, :9], cams[k, 9:12], cams[k, 12] = (
                camera.rotation.reshape(-1),
                camera.position,
                camera.focal_px,
            )
            cams[k, 13] = (0.5 + 0.7548776662466927 * k) % 1  # R2 sequence (Roberts 2018), from memory
            cams[k, 14] = (0.5 + 0.5698402909980532 * k) % 1
        ends = [path.at(index - shutter / 2), path.at(index), path.at(index + shutter / 2)]
        end_times = [index - shutter / 2, float(index), index + shutter / 2]
        tiles_x, starts, ids = _tiles(scene.panels, ends, end_times, False, 3.0)
        _, mirror_starts, mirror_ids = _tiles(scene.panels, ends, end_times, True, 24.0 * path.width / 1280)
        behind = np.array([k for k, p in enumerate(scene.panels) if p.name == "far range"], np.int64)
        tiles = Tiles(tiles_x, starts, ids, mirror_starts, mirror_ids, behind)
        h, w = path.height, path.width
        plate, finished = np.empty((h, w, 3), np.float32), np.empty((h, w, 3), np.float32)
        alpha = np.empty((h, w), np.float32)
        top, distances = float(scene.hill_tangent.max()), np.array(HILL_DISTANCES_M)
        hills = Hills(scene.hill_tangent, scene.hill_colour, distances, float(HILL_AZIMUTH), top)
        air = Air(AIRLIGHT.astype(np.float64), BETA)
        moment = (cams, np.array(times), tiles, self._panels(ends[1]))
        world = (hills, scene.ground_noise, scene.sky_noise, self._new_sky(), air)
        run_bands(render_rows, h, *moment, *world, plate, finished, alpha)
        return plate, finished, alpha

    def _new_sky(self) -> NewSky:
        reference = np.concatenate([self.reference.rotation.reshape(-1), [horizon_slope(self.reference)]])
        span = float(np.tan(np.deg2rad(SKY_DEGREES / 2)))
        return NewSky(self.scene.painting_sky, reference, span, SKY_HORIZON)

    def _panels(self, camera: Camera) -> Panels:
        """The panels as the kernels take them, each texture at the halving that suits its distance."""
        panels, atlas = self.scene.panels, self.atlas
        level = np.zeros(len(panels), np.int64)
        for k, panel in enumerate(panels):
            texel = float(np.linalg.norm(panel.across)) / atlas.width[panel.texture, 0]
            footprint = max(float((panel.corner - camera.position)[1]), 1.0) / camera.focal_px
            step = np.floor(np.log2(max(footprint / texel, 1e-6)) + 0.1)
            level[k] = int(np.clip(step, 0, atlas.levels[panel.texture] - 1))
        names = ("corner", "across", "down", "velocity", "spin", "texture", "light", "added")
        columns = {name: np.array([getattr(panel, name) for panel in panels]) for name in names}
        textures = {"data": atlas.data, "offset": atlas.offset, "width": atlas.width, "height": atlas.height}
        return Panels(**columns, level=level, **textures)


def horizon_slope(camera: Camera) -> float:
    """Where the horizon lies in a camera, as tangent downward from its axis."""
    forward = camera.rotation[2]
    flat = np.array([forward[0], forward[1], 0.0])
    local = camera.rotation @ (flat / np.linalg.norm(flat))
    return float(local[1] / local[2])
