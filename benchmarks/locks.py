"""Measures locks against known motion: accuracy, speed and honesty. Usage: locks.py [--part
plane|ecc|turn|camera|honest]

Plates are made from photographs that ship with scikit-image (tests/lock_plates.py) and from the demo. Printed, not
asserted.
"""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections import Counter
from pathlib import Path

import cv2
import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from filmed import FOLDER, filmed

from lock_plates import (
    HONEST_KINDS,
    box_mask,
    corner_errors,
    flat_plates,
    honest_shot,
    judged,
    least_error,
    turning_plates,
)
from zonal_mantle.api import open_shot
from zonal_mantle.comp import solve_lock
from zonal_mantle.demo import NAME
from zonal_mantle.geometry import carry
from zonal_mantle.lock import Area, pyramid, scaled, solve_pan, solve_plane, solve_staying
from zonal_mantle.lock.astray import astray
from zonal_mantle.place import card_motion
from zonal_mantle.shot import Lock, LockFrame

SIZE, BOX = (1280, 720), (340, 210, 940, 510)


def rms(values: list[float]) -> float:
    return float(np.sqrt(np.mean(np.square(values))))


def plane(seeds: tuple[int, ...]) -> None:
    print(
        "plane lock, field 600 x 300 at 1280 x 720, 24 frames: rms of mean corner error px, residual told, ms a frame "
        "(the whole solve, shared out)"
    )
    for name in ("gravel", "brick", "coffee", "chelsea", "weak coffee", "weak chelsea"):
        weak = name.startswith("weak ")
        for figure in (0.0, 120.0):
            off, told, times = [], [], []
            for seed in seeds:
                plates = flat_plates(
                    name.removeprefix("weak "), seed, count=24, figure=figure, soft_px=5.0 if weak else 0.0
                )
                lock = Lock(id="field", name="Field", kind="plane", reference_frame=0)
                start = time.perf_counter()
                lock = solve_plane(lock, plates.frames.__getitem__, box_mask(SIZE, BOX), lambda frame: None, range(24))
                times.append((time.perf_counter() - start) / 23)
                for frame, truth in list(enumerate(plates.truth))[1:]:
                    entry = lock.at(frame)
                    off.append(corner_errors(np.reshape(entry.homography, (3, 3)), truth, BOX) if entry else 99.0)
                    told.append(entry.residual_px if entry else 99.0)
            with_figure = "dark figure crosses" if figure else "all in view"
            print(
                f"  {name:13s} {with_figure:20s} {rms(off):.3f} (worst {max(off):.3f})  {rms(told):.3f}  "
                f"{1e3 * np.median(times):.0f}"
            )
        clean = flat_plates(name.removeprefix("weak "), count=1, grain=0, shutter=0, soft_px=5.0 if weak else 0.0)
        bound = least_error(cv2.GaussianBlur(clean.frames[0], (0, 0), 2 if weak else 0.6), BOX, 0.015)
        print(f"  {name:13s} no pairwise alignment can be better than {bound:.3f}")


def ecc(seeds: tuple[int, ...]) -> None:
    print(
        "the same pairs by OpenCV's ECC (perspective, from the frame before), 12 frames: rms px, ms a "
        "frame; ours beside, and what it takes to see whether all of the field goes so; and the whole of a plane lock, "
        "with all that tells how far it may be off, as a share of ECC"
    )
    x0, y0, x1, y1 = BOX
    half, shift = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]]), np.eye(3)
    shift[:2, 2] = x0, y0
    stop = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 50, 1e-6)
    for name in ("gravel", "brick", "coffee"):
        for figure in (0.0, 120.0):
            theirs, ours, slow, quick, checked, whole = [], [], [], [], [], []
            for seed in seeds:
                plates = flat_plates(name, seed, count=12, figure=figure)
                area, mine, warp = (
                    Area(pyramid(plates.frames[0], 5), box_mask(SIZE, BOX)),
                    np.eye(3),
                    shift.astype(np.float32),
                )
                template = np.ascontiguousarray(plates.frames[0][y0:y1, x0:x1])
                found = [LockFrame(frame=0, homography=tuple(np.eye(3).ravel()))]
                for frame, truth in zip(plates.frames[1:], plates.truth[1:]):
                    start = time.perf_counter()
                    try:
                        _, warp = cv2.findTransformECC(template, frame, warp, cv2.MOTION_HOMOGRAPHY, stop, None, 5)
                    except cv2.error:
                        theirs.append(99.0)
                    slow.append(time.perf_counter() - start)
                    theirs.append(corner_errors(half @ warp @ np.linalg.inv(shift) @ np.linalg.inv(half), truth, BOX))
                    start = time.perf_counter()
                    fit = area.find(pyramid(frame, len(area.levels)), mine)
                    quick.append(time.perf_counter() - start)
                    mine = mine if fit is None else fit.homography
                    ours.append(corner_errors(mine, truth, BOX))
                    found.append(LockFrame(frame=len(found), homography=tuple(mine.ravel())))
                lock = Lock(id="l", name="L", kind="plane", reference_frame=0, solved=tuple(found))
                start = time.perf_counter()
                astray(lock, plates.frames.__getitem__, box_mask(SIZE, BOX), lambda frame: None)
                checked.append((time.perf_counter() - start) / (len(found) - 1))
                bare = lock.but(solved=())
                start = time.perf_counter()
                solve_plane(bare, plates.frames.__getitem__, box_mask(SIZE, BOX), lambda frame: None, range(12))
                whole.append((time.perf_counter() - start) / (len(found) - 1) + checked[-1])
            what = "figure" if figure else "clear"
            line = f"  {name:8s} {what:6s}  ECC {rms(theirs):7.3f} px {1e3 * np.median(slow):4.0f} ms"
            line += f"   ours {rms(ours):.3f} px {1e3 * np.median(quick):4.0f} + {1e3 * np.median(checked):.0f} ms"
            print(
                f"{line}   whole {1e3 * np.median(whole):4.0f} ms, {np.median(whole) / np.median(slow):.2f}", flush=True
            )


def turn(seeds: tuple[int, ...]) -> None:
    print("a pan of 34 degrees in 48 frames: error at the last frame for directions at infinity px; focal length")
    width, height = SIZE
    for seed in seeds:
        for words, how in (("clear", {}), ("figure", {"figure": 140.0}), ("out of focus", {"soft_px": 4.0})):
            plates = turning_plates(seed=seed, **how)
            mask = box_mask(SIZE, (26, 26, width - 26, height - 26))
            lock = Lock(id="a", name="A", kind="plane", field_stays=True, reference_frame=0)
            line = f"  seed {seed} {words:13s}"
            for solver in (solve_staying, solve_pan):
                start = time.perf_counter()
                solved = solver(lock, plates.frames.__getitem__, mask, lambda f: None, range(48))
                last = solved.solved[-1]
                points = np.array([[x, y] for x in np.linspace(0, width, 5) for y in np.linspace(0, height, 4)])
                back = carry(np.linalg.inv(plates.truth[last.frame]), points)
                off = np.linalg.norm(carry(np.array(last.homography).reshape(3, 3), back) - points, axis=1).mean()
                line += (
                    f"  {solver.__name__[6:]} to frame {last.frame}: {off:.2f} px, {time.perf_counter() - start:.0f} s"
                )
            print(f"{line}  focal {solved.lens.focal_px / plates.focal_px - 1:+.2%}")


def camera(seeds: tuple[int, ...], folder: Path) -> None:
    print("camera lock on the demo, 48 frames: rms reprojection px, focal length, slide of a card over the shot px, s")
    for seed in seeds:
        place = filmed(seed, folder)
        session = open_shot(place / f"{NAME}.shot.json")
        truth = json.loads((place / "truth" / "truth.json").read_text())
        cameras = {each["frame"]: each for each in truth["cameras"]}
        reference = session.shot.frames[len(session.shot.frames) // 2]
        lock = Lock(id="c", name="Camera", kind="camera", reference_frame=reference)
        start = time.perf_counter()
        solved = solve_lock(session.shot.with_lock(lock), "c", session.store).lock("c")
        seconds = time.perf_counter() - start
        here = cameras[reference]
        turn0, place0, focal = np.array(here["rotation"]), np.array(here["position_m"]), here["focal_px"]
        true = np.array([turn0 @ (np.array(cameras[e.frame]["position_m"]) - place0) for e in solved.solved])
        found = np.array([e.position for e in solved.solved])
        metres = scaled(solved, float((true * found).sum() / (found**2).sum()))  # the one number a person would set
        slides = []
        for distance in (12.0, 60.0, 1000.0):
            points = np.array([[x, y] for x in (440, 640, 840) for y in (260, 360, 460)], float)
            rays = np.concatenate([(points - [640, 360]) / focal, np.ones((9, 1))], axis=1) * distance
            world, off = rays @ turn0 + place0, []
            for entry in metres.solved:
                each = cameras[entry.frame]
                local = (world - np.array(each["position_m"])) @ np.array(each["rotation"]).T
                there = local[:, :2] / local[:, 2:] * focal + [640, 360]
                ours = carry(card_motion(metres.lens, SIZE, entry, distance), points)
                off.append(float(np.linalg.norm(ours - there, axis=1).mean()))
            slides.append(f"{distance:.0f} m {rms(off):.2f}")
        error = rms([e.residual_px for e in solved.solved])
        line = f"  seed {seed}: {error:.3f} px, focal {solved.lens.focal_px / focal - 1:+.2%}, {', '.join(slides)}"
        print(f"{line}, {seconds:.0f} s, {len(solved.points)} points")


def honest(count: int = 50) -> None:
    print(
        f"{count} generated shots, some hopeless: how many plane locks call themselves good, and are off by over 1 px"
    )
    tally: Counter[tuple[str, str]] = Counter()
    for n in range(count):
        kind = HONEST_KINDS[n % len(HONEST_KINDS)]
        good, off = judged(honest_shot(kind, n + 1))
        tally[(kind, "good" if good else "not good")] += 1
        tally[("all", "good but off by over 1 px")] += int(good and off > 1)
    for (kind, word), number in sorted(tally.items()):
        print(f"  {kind}: {word} {number}")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--part", choices=["plane", "ecc", "turn", "camera", "honest"])
    parser.add_argument("--folder", type=Path, default=FOLDER)
    parser.add_argument("--seeds", default="7,11,23")
    options = parser.parse_args()
    seeds = tuple(int(seed) for seed in options.seeds.split(","))
    parts = {"plane": lambda: plane(seeds), "ecc": lambda: ecc(seeds), "turn": lambda: turn(seeds),
             "camera": lambda: camera(seeds, options.folder), "honest": honest}  # fmt: skip
    for name, part in parts.items():
        if options.part in (None, name):
            part()


if __name__ == "__main__":
    main()
