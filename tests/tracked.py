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
    scene = Scene(FOCAL, -0.03, turns, places, np.column_stack([ab, np.ones(points), w]))
    camera, point = (each.reshape(-1) for each in np.meshgrid(np.arange(cameras), np.arange(points), indexing="ij"))
    views = Views(camera, point, np.zeros((len(camera), 2)))
    return scene, Views(camera, point, pictured(scene, views))


def walked(seed=1, frames=20, way=(0.6, 0.0, 0.1), noise=0.1, moving=0, pan=8.0, sway=0.01):
    """Tracks of a camera that walks past points 4 to 80 m away."""
    rng = np.random.default_rng(seed)
    world = np.column_stack([rng.uniform(-0.5, 0.5, 160), rng.uniform(-0.28, 0.28, 160), np.ones(160)])
    world *= np.exp(rng.uniform(np.log(4), np.log(80), 160))[:, None]
    tracks, turns, places = [Track() for _ in world], [], []
    for k in range(frames):
        share = k / (frames - 1)
        turn = cv2.Rodrigues(np.radians([0.6 * np.sin(5 * share), pan * share, 0.4 * share]))[0]
        place = np.array(way) * share + sway * np.sin([9 * share, 7 * share, 5 * share])
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


def travelled(kind, frames=60, length=24.0, turn=20.0, noise=0.1, count=600, seed=1):
    """Tracks of a camera that goes far: "street" sideways past a street, "forward" along it, "orbit" about a thing by
    `turn` degrees, from which no feature of the first frame is seen at last. A track ends where its point is not seen.
    """
    rng = np.random.default_rng(seed)
    if kind == "orbit":
        world = rng.normal(0, 2.5, (count, 3)) + [0, 0, 12]
    elif kind == "street":
        depth = np.exp(rng.uniform(np.log(6), np.log(40), count))
        world = np.column_stack([rng.uniform(-20, length + 20, count), rng.uniform(-5, 5, count), depth])
    else:
        sides = rng.uniform(-15, 15, count), rng.uniform(-8, 8, count)
        world = np.column_stack([*sides, rng.uniform(4, length + 60, count)])
    runs, turns, places = [[] for _ in world], [], []
    for k in range(frames):
        s = k / (frames - 1)
        angle = np.radians(turn * (s if kind == "orbit" else s - 0.5))
        if kind == "orbit":
            place = np.array([12 * np.sin(angle), 0.6 * np.sin(9 * s), 12 - 12 * np.cos(angle)])
            rotation = cv2.Rodrigues(np.array([0, angle, 0]))[0]
        else:
            along = [length * s, 0.2 * np.sin(9 * s), 0.3 * np.sin(7 * s)]
            place = np.array(along if kind == "street" else along[::-1])
            rotation = cv2.Rodrigues(np.array([0.01 * np.sin(5 * s), angle, 0.007 * s]))[0]
        turns.append(rotation)
        places.append(place)
        local = (world - place) @ rotation.T
        seen = local[:, 2] > 1
        if kind == "orbit":  # what is behind the thing is hidden by it
            out = world - [0, 0, 12]
            away = place - world
            seen &= (out * away).sum(axis=1) > 0.3 * np.linalg.norm(out, axis=1) * np.linalg.norm(away, axis=1)
        at = local[:, :2] / np.where(seen, local[:, 2], 1)[:, None] * FOCAL + np.array(SIZE) / 2
        at += rng.normal(0, noise, at.shape)
        seen &= (at > 10).all(axis=1) & (at < np.array(SIZE) - 10).all(axis=1)
        for n in np.flatnonzero(seen):
            if not runs[n] or k not in runs[n][-1].places:
                runs[n].append(Track())
            runs[n][-1].places[k + 1] = (float(at[n, 0]), float(at[n, 1]))
    tracks = [each for parts in runs for each in parts if each.life >= 6]
    return tracks, np.array(turns), np.array(places)


def laid_out(problem, slopes):
    """All derivatives as one matrix."""
    out = np.zeros((2 * len(slopes.point), problem.size))
    for n, (camera, point) in enumerate(zip(problem.views.camera, problem.views.point)):
        if camera:
            out[2 * n : 2 * n + 2, 6 * (camera - 1) : 6 * camera] = slopes.camera[n]
        out[2 * n : 2 * n + 2, problem.lens_at : problem.points_at] = slopes.lens[n]
        out[2 * n : 2 * n + 2, problem.points_at + 3 * point : problem.points_at + 3 * point + 3] = slopes.point[n]
    return out
