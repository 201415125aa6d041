"""Made-up cameras, points and tracks, with the truth known. Used by tests of camera locks."""

from __future__ import annotations

import cv2
import numpy as np

from zonal_mantle.lock.bundle import Scene, Views, pictured
from zonal_mantle.lock.features import Track

SIZE, FOCAL = (1280, 720), 1300.0


def small_scene(seed=1, cameras=4, points=30):
    rng = np.random.default_rng(seed)
    turns = np.array([cv2.Rodrigues(rng.normal(0, 0.04, 3) * (k > 0))[0] for k in range(cameras)])
    places = rng.normal(0, 0.3, (cameras, 3)) * (np.arange(cameras)[:, None] > 0)
    ab = rng.uniform(-0.3, 0.3, (points, 2))
    w = 1 / rng.uniform(3, 30, points)
    scene = Scene(FOCAL, -0.03, turns, places, np.column_stack([ab, w]))
    camera, point = (each.reshape(-1) for each in np.meshgrid(np.arange(cameras), np.arange(points), indexing="ij"))
    views = Views(camera, point, np.zeros((len(camera), 2)))
    return scene, Views(camera, point, pictured(scene, views))


def walked(seed=1, frames=20, way=(0.6, 0.0, 0.1), noise=0.1, moving=0, pan=8.0):
    """Tracks of a camera that walks past points 4 to 80 m away."""
    rng = np.random.default_rng(seed)
    world = np.column_stack([rng.uniform(-0.5, 0.5, 160), rng.uniform(-0.28, 0.28, 160), np.ones(160)])
    world *= np.exp(rng.uniform(np.log(4), np.log(80), 160))[:, None]
    tracks, turns, places = [Track() for _ in world], [], []
    for k in range(frames):
        share = k / (frames - 1)
        turn = cv2.Rodrigues(np.radians([0.6 * np.sin(5 * share), pan * share, 0.4 * share]))[0]
        place = np.array(way) * share + 0.01 * np.sin([9 * share, 7 * share, 5 * share])
        turns.append(turn)
        places.append(place)
        local = (world - place) @ turn.T
        if moving:
            local[:moving, 0] += 0.02 * k * local[:moving, 2] * np.linspace(-1, 1, moving)
        at = local[:, :2] / local[:, 2:] * FOCAL + np.array(SIZE) / 2 + rng.normal(0, noise, (len(world), 2))
        for track, (x, y), z in zip(tracks, at, local[:, 2]):
            if z > 0 and 0 < x < SIZE[0] and 0 < y < SIZE[1]:
                track.places[k + 1] = (float(x), float(y))
    return [t for t in tracks if t.life > 4], np.array(turns), np.array(places) - places[0]
