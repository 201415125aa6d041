"""A hundred generated shots of every kind of lock, forty of them hopeless or degenerate, as a session solves them: how
far each lock is off, what it says, and which are called good that are not. Usage: hundred.py [--seed 1] [--first 0]
[--last 100] [--kinds "pan;marks"] [--photographs FILE …]

640×360, eight bits, photographs that ship with scikit-image or given ones; grain 0.5, 1 or 3 %, shutters of 0, 180 or
360°, a quarter each as H.264 of crf 23 and 28. *Off* is by how much what is hung on the lock misses, px rms; a frame is
called good where less than a pixel is said and more is true. Printed, not asserted.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from first_look import given
from numpy.typing import NDArray
from scipy.optimize import minimize_scalar

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
import lock_plates
import walls
from h264 import write_h264
from lock_plates import flat_plates, turning_plates
from stores import kept_pictures
from walls import Walked, walked_plates
from zonal_mantle.api import new
from zonal_mantle.comp import solve_lock
from zonal_mantle.geometry import between_centres, camera_matrix, carry
from zonal_mantle.lock import LockError, propose_marks
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import Lock, Mark

Array = NDArray[np.float32]
Floats = NDArray[np.float64]
Rng = np.random.Generator
SIZE = (640, 360)
NAMES = ("astronaut", "brick", "camera", "chelsea", "coffee", "coins", "grass", "gravel", "moon", "page", "rocket")
GOOD = (
    "plane",
    "plane",
    "plane, figure",
    "stays",
    "stays",
    "pan",
    "pan",
    "pan, figure",
    "camera",
    "camera",
    "marks",
    "marks",
)
BAD = ("turns as camera", "moves as pan", "zoom as pan", "soft", "halves", "cut", "repeats", "water", "still", "fades")
PLACES = np.array([[x, y] for x in np.linspace(13, 627, 5) for y in np.linspace(13, 347, 4)])
DEPTHS = (10.0, 30.0, 1e5)  # metres at which things are hung before a camera that moves


@dataclass
class Case:
    """What is locked: the lock as it is set up, on the first frame or the middle one; frames; and what is true of them,
    the ways from the first frame to each, of which any will do, or a camera that walks."""

    lock: Lock
    frames: list[Array]
    ways: list[list[Floats]]
    walked: Walked | None = None
    middle: bool = False


def lock_of(kind: str, **more: object) -> Lock:
    return Lock(id="l", name="L", kind=kind, reference_frame=0, **more)  # type: ignore[arg-type]


def rms(values: object) -> float:
    return float(np.sqrt(np.mean(np.square(np.asarray(values, float)))))


def good_case(kind: str, names: list[str], grain: float, shutter: float, rng: Rng) -> Case:
    seed, pan = int(rng.integers(1e6)), float(rng.uniform(5, 34))
    figure = 125.0 if "figure" in kind else 0.0
    if kind.startswith("plane") or kind == "marks":
        speed = float(rng.uniform(0.5, 2))
        plates = flat_plates(names[0], seed, SIZE, 16, grain, figure, speed, shutter)
        lock = lock_of("plane")
        if kind == "marks":
            places = propose_marks(plates.frames[0], (40, 40, 600, 320), 4)
            lock = lock_of("point", marks=tuple(Mark(x=x, y=y) for x, y in places))
        return Case(lock, plates.frames, [plates.truth])
    if kind == "camera":
        plates = walking(names, grain, seed, rng)
        return Case(lock_of("camera"), plates.frames, [], plates)
    plates = turning_plates(tuple(names), seed, SIZE, 24, pan, grain=grain, figure=figure, shutter=shutter)
    lock = lock_of("plane", field_stays=True) if kind == "stays" else lock_of("pan")
    return Case(lock, plates.frames, [plates.truth], middle=True)


def walking(names: list[str], grain: float, seed: int, rng: Rng) -> Walked:
    pan, away = float(rng.uniform(4, 24)), float(rng.uniform(0.8, 3))
    return walked_plates(
        (names[0], names[1]), SIZE, 30, pan, away, bool(rng.integers(2)), grain, seed, int(rng.integers(5, 10))
    )


def bad_case(kind: str, names: list[str], grain: float, shutter: float, rng: Rng) -> Case:
    seed, pan = int(rng.integers(1e6)), float(rng.uniform(5, 34))
    if kind == "turns as camera":
        plates = turning_plates(tuple(names), seed, SIZE, 24, pan, grain=grain, shutter=shutter)
        return Case(lock_of("camera"), plates.frames, [plates.truth])
    if kind == "moves as pan":
        seen = walking(names, grain, seed, rng)
        k, far = camera_matrix(seen.focal, SIZE), np.array([0, 0, 1 / 30.0])
        turns = [k @ turn @ np.linalg.inv(k) for turn in seen.turns]
        wall = [k @ (t - np.outer(t @ c, far)) @ np.linalg.inv(k) for t, c in zip(seen.turns, seen.places)]
        return Case(lock_of("pan"), seen.frames, [turns, wall])
    if kind == "zoom as pan":
        plates = turning_plates(tuple(names), seed, SIZE, 24, pan / 2, grain=0, shutter=shutter)
        frames, ways = [], []
        for n, (frame, way) in enumerate(zip(plates.frames, plates.truth)):
            size = 1 + 0.3 * n / 23
            zoom = np.array([[size, 0, SIZE[0] / 2 * (1 - size)], [0, size, SIZE[1] / 2 * (1 - size)], [0, 0, 1]])
            larger = cv2.warpPerspective(frame, between_centres(zoom), SIZE, flags=cv2.INTER_CUBIC)
            frames.append(noisy(larger, grain, rng))
            ways.append(zoom @ way)
        return Case(lock_of("pan"), frames, [ways], middle=True)
    if kind == "soft":
        plates = flat_plates(names[0], seed, SIZE, 16, 0.03, soft_px=12.0)
        return Case(lock_of("plane"), plates.frames, [plates.truth])
    if kind == "still":
        plates = turning_plates(tuple(names), seed, SIZE, 16, 0.02, grain=grain, shutter=0)
        return Case(lock_of(str(rng.choice(["pan", "camera"]))), plates.frames, [plates.truth])
    if kind == "repeats":
        x, y = np.meshgrid(np.arange(SIZE[0]), np.arange(SIZE[1]))
        period, frames, ways = rng.uniform(10, 30), list[Array](), list[Floats]()
        for n in range(16):
            dx, dy = 7.0 * n, 3.0 * np.sin(n)
            tiles = np.sin(2 * np.pi * (x - dx) / period) + np.sin(2 * np.pi * (y - dy) / period / 1.5)
            frames.append(noisy(np.float32(0.5 + 0.15 * tiles), grain, rng))
            ways.append(np.array([[1, 0, dx], [0, 1, dy], [0, 0, 1.0]]))
        return Case(lock_of("plane"), frames, [ways])
    if kind == "water":
        soft = [cv2.GaussianBlur(rng.normal(0, 1, SIZE[::-1]).astype(np.float32), (0, 0), 3) for _ in range(40)]
        waves = [sum(each * np.cos((1 + j % 7) * n / 6 + j) for j, each in enumerate(soft)) for n in range(16)]
        frames = [noisy(np.float32(0.5 + 0.1 * wave / np.std(wave)), grain, rng) for wave in waves]
        return Case(lock_of(str(rng.choice(["plane", "pan", "camera"]))), frames, [[np.eye(3)] * 16])
    one, other = (flat_plates(name, seed + n, SIZE, 16, grain) for n, name in enumerate(names))
    if kind == "halves":
        both = [np.hstack([a[:, :320], b[:, 320:]]) for a, b in zip(one.frames, other.frames)]
        return Case(lock_of("plane"), both, [one.truth, other.truth])
    if kind == "cut":
        nowhere = [np.full((3, 3), np.nan)] * 8
        return Case(lock_of("plane"), one.frames[:8] + other.frames[8:], [one.truth[:8] + nowhere])
    fading = [noisy(frame * max(1 - n / 10, 0), 0.02, rng) for n, frame in enumerate(one.frames)]
    return Case(lock_of("plane"), fading, [one.truth])


def noisy(picture: Array, grain: float, rng: Rng) -> Array:
    return np.asarray(np.clip(picture + rng.normal(0, grain, picture.shape), 0, 1), np.float32)


def off_px(lock: Lock, case: Case, first: int) -> dict[int, float]:
    """By how much what is hung on a lock misses, by frame, px rms; endless where nothing is right."""
    if case.walked is not None:
        return _off_camera(lock, case.walked, first)
    places = np.array([[mark.x, mark.y] for mark in lock.marks]) if lock.marks else PLACES
    out = dict[int, float]()
    for entry in lock.solved:
        each = []
        for ways in case.ways:
            way = ways[entry.frame - first] @ np.linalg.inv(ways[lock.reference_frame - first])
            if not np.isfinite(way).all():
                continue
            there = carry(way, places)
            inside = ((there > 0) & (there < SIZE)).all(axis=1)
            for ours in _ours(lock, entry.frame, places):
                each.append(rms(np.linalg.norm((ours - there)[inside], axis=1)) if inside.any() else 0.0)
        turned = lock.kind == "camera"  # what is near and what is far must both be carried as what is far
        out[entry.frame] = (max(each) if turned else min(each)) if each else np.inf
    return out


def _ours(lock: Lock, frame: int, places: Floats) -> list[Floats]:
    """Where a lock carries places of its reference frame: by its homography, or at the distance of its nearest points
    and far off."""
    entry = lock.at(frame)
    assert entry is not None
    if lock.kind != "camera":
        return [carry(np.reshape(entry.homography, (3, 3)), places)]
    focal, middle = lock.lens.focal_px or 1.0, np.array(SIZE) / 2
    near = float(np.percentile([point.place[2] for point in lock.points], 10)) if lock.points else 1e9
    rays, turn = np.column_stack([(places - middle) / focal, np.ones(len(places))]), _turn(entry.rotation)
    local = [(rays * depth - np.array(entry.position)) @ turn.T for depth in (near, 1e9)]
    return [each[:, :2] / each[:, 2:] * focal + middle for each in local]


def _turn(rotation: object) -> Floats:
    return np.asarray(cv2.Rodrigues(np.array(rotation, float))[0])


def _off_camera(lock: Lock, seen: Walked, first: int) -> dict[int, float]:
    """The worst of things hung at three distances on the reference frame, each at the size that fits best."""
    frames, base = [entry.frame - first for entry in lock.solved], lock.reference_frame - first
    found, true = (
        np.array([e.position for e in lock.solved]),
        (seen.places[frames] - seen.places[base]) @ seen.turns[base].T,
    )
    scale, focal, middle = (found * true).sum() / (found**2).sum(), lock.lens.focal_px or 1.0, np.array(SIZE) / 2
    worst = np.zeros(len(frames))
    for depth in DEPTHS:
        hung = np.column_stack([(PLACES - middle) / seen.focal, np.ones(len(PLACES))]) * depth
        ours = hung * (seen.focal / focal, seen.focal / focal, 1)
        there = [seen.seen(hung @ seen.turns[base] + seen.places[base], frame) for frame in frames]

        def off(grown: float, ours: Floats = ours, there: list[Floats] = there) -> Floats:
            out = []
            for entry, place, true in zip(lock.solved, found, there):
                local = (ours - place * scale * np.exp(grown)) @ _turn(entry.rotation).T
                inside = ((true > 0) & (true < SIZE)).all(axis=1)
                missed = local[:, :2] / local[:, 2:] * focal + middle - true
                out.append(rms(np.linalg.norm(missed[inside], axis=1)) if inside.any() else 0.0)
            return np.array(out)

        far = depth == DEPTHS[-1]
        best = 0.0 if far else minimize_scalar(lambda grown: rms(off(grown)), bounds=(-0.7, 0.7), method="bounded").x
        worst = np.maximum(worst, off(float(best)))
    return {entry.frame: float(off) for entry, off in zip(lock.solved, worst)}


def solved(case: Case, quality: int, folder: Path) -> tuple[Lock, int]:
    """The lock, and the first frame of its plate."""
    pictures = [np.repeat(frame[..., None], 3, axis=2) for frame in case.frames]
    if quality:
        path = folder / "plate.mp4"
        write_h264(path, pictures, quality)
    else:
        path = folder / "plate.1001.png"
        for n, picture in enumerate(pictures):
            write_still(folder / f"plate.{1001 + n}.png", picture)
    shot = new(path).shot
    lock = case.lock.but(reference_frame=shot.first + (len(pictures) // 2 if case.middle else 0))
    return solve_lock(shot.with_lock(lock), "l", kept_pictures()).lock("l"), shot.first


def row(number: int, seed: int, names: tuple[str, ...], kinds: tuple[str, ...]) -> None:
    rng = np.random.default_rng([seed, number])
    hopeless = number >= 60
    kind = BAD[number % len(BAD)] if hopeless else GOOD[number % len(GOOD)]
    if kinds and kind not in kinds:
        return
    some = [names[n] for n in rng.choice(len(names), 2, replace=False)]
    grain, shutter, quality = (
        float(rng.choice([0.005, 0.01, 0.03])),
        float(rng.choice([0, 0.5, 1])),
        int(rng.choice([0, 0, 23, 28])),
    )
    case = (bad_case if hopeless else good_case)(kind, some, grain, shutter, rng)
    shown = " ".join(Path(each).stem[:9] for each in some)
    words = f"{number:3d} {kind:15s} {grain:.1%}, {360 * shutter:.0f}°, crf {quality or '-'}, {shown}"
    begun = time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        try:
            lock, first = solved(case, quality, Path(folder))
        except LockError as problem:
            print(f"{words}: {'REFUSED' if not hopeless else 'refused'}: {str(problem)[:120]}", flush=True)
            return
    off = off_px(lock, case, first)
    said = {entry.frame: entry.residual_px for entry in lock.solved}
    lies = [frame for frame in said if said[frame] < 1 < off[frame]]
    finite = [each for each in off.values() if np.isfinite(each)]
    more = f", GOOD THAT IS NOT: {len(lies)} frames, {max(off[f] for f in lies):.1f} px" if lies else ""
    short = " SHORT" if not hopeless and len(said) < 0.95 * len(case.frames) else ""
    true, told = rms(finite), rms(list(said.values()))
    print(
        f"{words}: {len(said)} of {len(case.frames)}{short}, off {true:.2f}, said {told:.2f}{more}, "
        f"{time.perf_counter() - begun:.0f} s {' '.join((*lock.lost, *lock.remarks))[:90]}",
        flush=True,
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--last", type=int, default=100)
    parser.add_argument("--kinds", default="")
    parser.add_argument("--photographs", nargs="*", default=[])
    options = parser.parse_args()
    if options.photographs:
        lock_plates.photograph = walls.photograph = given  # type: ignore[assignment]
    kinds = tuple(filter(None, options.kinds.split(";")))
    for number in range(options.first, options.last):
        row(number, options.seed, tuple(options.photographs) or NAMES, kinds)


if __name__ == "__main__":
    main()
