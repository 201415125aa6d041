"""The demo's shot, set up by the calls that a script would make: pull, shapes, locks, placements, air."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..api import Session, new
from ..comp import Pictures, solve_lock
from ..lock import Found, Patch, fit_motion, lock_feed, turning_marks
from ..media import open_source
from ..shot import Air, ClearSkyPull, Keyed, Lock, Mark, Matte, Placement, Shape, ShapeKey, Shot, Zone
from .camera import Camera
from .paintings import SKY_HORIZON, SKY_SIZE
from .write import NAME, DemoPlan, write_demo

Progress = Callable[[float, str], None]
Array = NDArray[np.float64]


def make_demo(folder: Path, plan: DemoPlan = DemoPlan(), progress: Progress = lambda share, words: None) -> Path:  # noqa: B008
    """Writes the whole demo and returns its shot's file."""
    write_demo(folder, plan, lambda share, words: progress(share * 0.93, words))
    progress(0.94, "Setting up the shot")
    session = set_up(folder)
    path = session.save(folder / f"{NAME}.shot.json")
    progress(0.99, "Composing the first frame")
    session.frame(session.shot.first)  # the kernels are compiled now, not when the window opens
    progress(1.0, "The demo is ready")
    return path


def set_up(folder: Path, plate: Path | None = None) -> Session:
    """The finished shot over a written demo, on its EXR plate or on another delivery of it."""
    truth = json.loads((folder / "truth" / "truth.json").read_text())
    first = truth["cameras"][0]["frame"]
    session = new(plate or folder / "plate" / f"{NAME}.%04d.exr", NAME)
    offset = session.shot.first - first
    middle = len(truth["cameras"]) // 2
    reference = session.shot.first + middle
    session.edit(air=Air(visibility_m=truth["visibility_m"], airlight=tuple(truth["airlight"])))
    hills, works = mark_regions(truth, middle)
    for id, name, regions, far in (("hills", "Hills", hills, 1800.0), ("works", "Boiling house", works, 74.0)):
        lock = Lock(id=id, name=name, reference_frame=reference)
        session.shot = _best_lock(session.shot, session.store, lock, regions, truth, far)
    _plate_zone(session, truth, offset)
    for name, file, rides, distance in (
        ("Evening sky", "evening_sky.exr", "hills", None),
        ("Far range", "far_range.png", "hills", truth["range_distance_m"]),
        ("Mill tower", "mill_tower.png", "works", truth["tower_distance_m"]),
    ):
        zone = session.add_painting(folder / "paintings" / file, distance, name)
        session.shot = session.shot.with_zone(_hung(session.shot, zone, truth, middle, rides))
    for clip in sorted((folder / "elements").glob("*.mp4")):  # in the stock, to be hung by hand
        session.shot = session.shot.with_source(open_source(clip, session.shot.new_id("source")))
    return session


def camera_at(truth: dict[str, Any], index: int) -> Camera:
    """The true camera of a frame, counted from 0."""
    entry = truth["cameras"][index]
    width, height = truth["size"]
    return Camera(entry["focal_px"], np.array(entry["rotation"]), np.array(entry["position_m"]), width, height)


def mark_regions(truth: dict[str, Any], index: int) -> tuple[list[Array], list[Array]]:
    """Where marks may go on the middle frame: two boxes on the hills, two on the boiling house (x0, y0, x1, y1)."""
    camera = camera_at(truth, index)
    unit = camera.width / 1280
    horizon = float(camera.project(np.array([0.0, 1e6, camera.position[2]]))[1])
    hills = [
        np.array([x0 * unit, horizon - 100 * unit, x1 * unit, horizon - 10 * unit])
        for x0, x1 in ((40, 640), (700, 1240))
    ]
    corner, across, down = (np.array(v) for v in truth["panels_m"]["house roof"])
    corners = camera.project(np.array([corner, corner + across, corner + down, corner + across + down]))
    (x0, y0), (x1, y1) = corners.min(axis=0), corners.max(axis=0) + 50 * unit
    third = (x1 - x0) / 3
    works = [np.array([x0 + 8 * unit, y0 + 6, x0 + third, y1]), np.array([x1 - third, y0 + 6, x1 - 8 * unit, y1])]
    return hills, works


def _best_lock(
    shot: Shot, store: Pictures, lock: Lock, regions: list[Array], truth: dict[str, Any], far: float
) -> Shot:
    """Sets a mark in each region and solves: the corner that is found best again where it truly went.

    Knowing the truth stands in for an artist's eye, which sees what is hill and what is a branch before it.
    """
    source = shot.plate_source
    assert source is not None
    unit = shot.size[0] / 1280
    middle = lock.reference_frame - shot.first
    feed = lock_feed(store.plate(source, lock.reference_frame), lock.channel)
    others = [index for index in np.linspace(0, len(shot.frames) - 1, 5).astype(int) if index != middle]
    feeds = {index: lock_feed(store.plate(source, shot.first + index), lock.channel) for index in others}
    chosen = []
    for region in regions:
        likely: list[tuple[float, Mark]] = []
        for x, y in _places(feed, region):
            mark = Mark(x=x, y=y, patch=(22 * unit, 15 * unit), reach=(18 * unit, 18 * unit))
            path = true_path(truth, middle, (x, y), far)
            try:
                patch = Patch(feed, mark)
            except ValueError:
                continue
            if patch.is_edge:  # along which it would slide: a solve refuses it
                continue
            miss = 0.0
            for index in others:
                miss = max(miss, _miss(patch.refine(feeds[index], *path[index]), path[index]))
                if miss >= 0.5 * unit:
                    break
            else:
                likely.append((miss, mark))
        likely.sort(key=lambda pair: pair[0])
        tried = [(_trial(shot, store, lock.but(marks=(mark,)), truth, far), mark) for _, mark in likely[:6]]
        if tried:
            chosen.append(min(tried, key=lambda pair: pair[0])[1])
    if not chosen:
        return shot.with_lock(lock)
    shot = solve_lock(shot.with_lock(lock.but(marks=tuple(chosen))), lock.id, store)
    turning = turning_marks(shot.lock(lock.id), shot.size)
    return shot.with_lock(turning) if turning.lens.focal_told else shot  # a short pan tells no focal length


def _trial(shot: Shot, store: Pictures, lock: Lock, truth: dict[str, Any], far: float) -> tuple[int, float]:
    """How many frames a one-mark lock fails to hold, and its rms distance from the truth, px."""
    solved = solve_lock(shot.with_lock(lock), lock.id, store).lock(lock.id)
    mark = lock.marks[0]
    path = true_path(truth, lock.reference_frame - shot.first, (mark.x, mark.y), far)
    away = [np.sum(np.subtract(entry.marks[0], path[entry.frame - shot.first]) ** 2) for entry in solved.solved]
    return len(shot.frames) - len(solved.solved), float(np.sqrt(np.mean(away)))


def _miss(found: Found | None, at: Array) -> float:
    return 1e9 if found is None or found.confidence < 0.75 else float(np.hypot(found.x - at[0], found.y - at[1]))


def true_path(truth: dict[str, Any], index: int, pixel: tuple[float, float], far: float) -> list[Array]:
    """Where a point seen at a pixel on frame `index` (from 0), `far` metres away, truly lies on every frame."""
    reference = camera_at(truth, index)
    ray = reference.ray(np.array(pixel))
    point = reference.position + ray / ray[1] * far
    return [camera_at(truth, k).project(point) for k in range(len(truth["cameras"]))]


def _places(feed: NDArray[np.float32], region: Array, count: int = 260) -> list[tuple[float, float]]:
    """Places of a grid over a region that have the most texture."""
    x0, y0, x1, y1 = region
    step = max(4.0, (x1 - x0) / 60)
    grid = [(x, y) for y in np.arange(y0, y1, step) for x in np.arange(x0, x1, step)]
    spread = [float(feed[int(y) - 4 : int(y) + 5, int(x) - 4 : int(x) + 5].std()) for x, y in grid]
    best = sorted((k for k in range(len(grid)) if spread[k] > 0.008), key=lambda k: -spread[k])[:count]
    return [(float(grid[k][0]), float(grid[k][1])) for k in best]


def _plate_zone(session: Session, truth: dict[str, Any], offset: int) -> None:
    """The clear-sky pull; keep shapes over the ground and rolling with the wagon's heap, a drop shape in the sky."""
    width, height = truth["size"]
    unit = width / 1280
    ground, heap = [], []
    corner, across, down = (np.array(v) for v in truth["panels_m"]["wagon"])
    for index, entry in enumerate(truth["cameras"]):
        last = index == len(truth["cameras"]) - 1
        if index % 6 and not last:
            continue
        camera = camera_at(truth, index)
        frame = entry["frame"] + offset
        line = camera.project(np.array([[-400.0, 1e4, camera.position[2]], [400.0, 1e4, camera.position[2]]]))
        slope = (line[1, 1] - line[0, 1]) / (line[1, 0] - line[0, 0])
        left, right = (float(line[0, 1] + slope * (x - line[0, 0]) + 5 * unit) for x in (-80.0, width + 80.0))
        low = height + 80.0
        ground.append(
            ShapeKey(frame=frame, points=((-80.0, left), (width + 80.0, right), (width + 80.0, low), (-80.0, low)))
        )
        moved = corner + np.array(truth["wagon_m_per_frame"]) * index
        at = [(0.11, 0.17), (0.3, 0.085), (0.5, 0.06), (0.7, 0.085), (0.89, 0.17), (0.86, 0.5), (0.14, 0.5)]
        points = camera.project(np.array([moved + across * u + down * v for u, v in at]))
        heap.append(ShapeKey(frame=frame, points=tuple((float(x), float(y)) for x, y in points)))
    top = ((-80.0, -80.0), (width + 80.0, -80.0), (width + 80.0, 70 * unit), (-80.0, 70 * unit))
    above = ShapeKey(frame=session.shot.first, points=top)
    shapes = (
        Shape(id="shape1", name="Ground", mode="keep", keys=tuple(ground), **_soft(2 * unit)),
        Shape(id="shape2", name="Salt heap", mode="keep", form="smooth", keys=tuple(heap), **_soft(1.5 * unit)),
        Shape(id="shape3", name="Upper sky", mode="drop", keys=(above,), **_soft(12 * unit)),
    )  # fmt: skip
    pull = ClearSkyPull(finds="surface")  # a blank sky before dense crowns: what that is best at
    zone = session.shot.zones[0]
    matte = Matte(id="matte1", name="Saltworks edge", pulls=(pull,), shapes=shapes)
    session.shot = session.shot.with_zone_matte(zone.but(name="Saltworks"), matte)


def _soft(width: float) -> dict[str, float]:
    return {"feather_in_px": width, "feather_out_px": width}


def _hung(shot: Shot, zone: Zone, truth: dict[str, Any], index: int, rides: str) -> Zone:
    """Hangs a painting where it truly stands on the middle frame, as far as a similarity can."""
    camera = camera_at(truth, index)
    source = shot.source(zone.source)
    w, h = source.width, source.height
    at = np.array([[w * u, h * v] for u in (0.3, 0.5, 0.7) for v in (0.4, 0.6)])
    if zone.distance_m is None:
        right, down, forward = np.array(truth["sky_painting"]["rotation"])
        span = np.tan(np.deg2rad(truth["sky_painting"]["span_deg"] / 2))
        u = (at[:, :1] / w - 0.5) * 2 * span
        v = (at[:, 1:] - SKY_HORIZON * SKY_SIZE[0]) / w * 2 * span + truth["sky_painting"]["horizon_slope"]
        directions = forward + u * right + v * down
        target = camera.project(camera.position + directions * 1e6)
    else:
        corner, across, down = (np.array(v) for v in truth["panels_m"][zone.name.lower()])
        target = camera.project(np.array([corner + across * x / w + down * y / h for x, y in at]))
    matrix = fit_motion(at, target, "similarity")
    size = float(np.hypot(matrix[0, 0], matrix[1, 0]))
    turn = float(np.rad2deg(np.arctan2(matrix[1, 0], matrix[0, 0])))
    marks = shot.lock(rides).marks
    anchor = np.array([marks[0].x, marks[0].y] if marks else shot.size) / (1 if marks else 2)
    centre = np.array(shot.size) / 2
    # the cross (anchor plus move) lies on the mark, and the painting's centre where it belongs
    target_centre = matrix[:2, :2] @ np.array([w / 2, h / 2]) + matrix[:2, 2]
    pivot = centre - np.linalg.solve(matrix[:2, :2], target_centre - anchor)
    moved = anchor - pivot
    placement = Placement(
        rides=rides if marks else None,
        x=Keyed(constant=float(moved[0])),
        y=Keyed(constant=float(moved[1])),
        size=Keyed(constant=size),
        turn_deg=Keyed(constant=turn),
        anchor=(float(pivot[0]), float(pivot[1])),
    )
    return zone.but(placement=placement)
