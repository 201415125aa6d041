"""Locks over what repeats: posts 16 px apart before nothing, before faint clouds, before photographs; how many frames
are held, how far they are off, and what is said of them.

Usage: repeats.py [--seeds 1,2] [--quick]. Printed, not asserted.
"""

from __future__ import annotations

import argparse
import sys
import time
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

sys.path.insert(0, str(Path(__file__).parent.parent / "tests" / "lock"))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from test_repeats import bare_posts, fence, posts_before

from zonal_mantle.lock import LockError, solve_pan, solve_plane, solve_staying
from zonal_mantle.shot import Lock

Array = NDArray[np.float32]
WIDTH, HEIGHT, FOCAL, COUNT = 640, 360, 900.0, 36
K = np.array([[FOCAL, 0, WIDTH / 2], [0, FOCAL, HEIGHT / 2], [0, 0, 1]])
RIDING = (220, 60, 420, 300)


def panned(sheet: Array, degrees: float, seed: int, count: int) -> tuple[list[Array], list[NDArray[np.float64]]]:
    """Frames of a camera that turns over a sheet and sways, with 2 % of grain, and the ways from the sheet."""
    rng, (rows, columns) = np.random.default_rng(seed), sheet.shape
    rays = np.array([[1 / FOCAL, 0, -columns / 2 / FOCAL], [0, 1 / FOCAL, -rows / 2 / FOCAL], [0, 0, 1]])
    frames, ways = [], []
    for k in range(count):
        yaw = np.radians(degrees * (k / (count - 1) - 0.5)) + 0.004 * np.sin(2.3 * k)
        turn = cv2.Rodrigues(np.array([0.004 * np.sin(1.7 * k + 1), yaw, 0.004 * np.sin(1.1 * k)]))[0]
        ways.append(K @ turn.T @ rays)
        frame = cv2.warpPerspective(
            sheet, ways[-1], (WIDTH, HEIGHT), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT
        )
        frames.append(np.float32(frame + rng.normal(0, 0.02, frame.shape)))
    return frames, ways


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", default="1,2")
    parser.add_argument("--quick", action="store_true", help="one seed, half of the frames")
    options = parser.parse_args()
    seeds = [int(each) for each in options.seeds.split(",")][: 1 if options.quick else None]
    sheets = {
        "camera": lambda seed: posts_before("camera"), "coffee": lambda seed: posts_before("coffee"),
        "page": lambda seed: posts_before("page"), "faint clouds": fence, "nothing": lambda seed: bare_posts(),
    }  # fmt: skip
    print("posts before … · lock · turn · seed: frames held, error px median and worst, worst said, s")
    for name, sheet in sheets.items():
        for kind, degrees in (("pan", 34.0), ("pan", 8.0), ("staying", 34.0), ("riding", 10.0)):
            for seed in seeds:
                words = row(sheet(seed), kind, degrees, seed, options.quick)
                print(f"  {name:13s} {kind:8s} {degrees:3.0f}° {seed}: {words}", flush=True)


def row(sheet: Array, kind: str, degrees: float, seed: int, quick: bool) -> str:
    """One lock, as it is printed."""
    count = 16 if kind == "riding" else COUNT // 2 if quick else COUNT
    frames, ways = panned(sheet, degrees, seed, count)
    start, mask = count // 2, np.zeros((HEIGHT, WIDTH), np.float32)
    x0, y0, x1, y1 = RIDING if kind == "riding" else (10, 10, WIDTH - 10, HEIGHT - 10)
    mask[y0:y1, x0:x1] = 1
    lock = Lock(
        id="l", name="L", kind="pan" if kind == "pan" else "plane", field_stays=kind != "riding", reference_frame=start
    )
    solver = {"pan": solve_pan, "staying": solve_staying, "riding": solve_plane}[kind]
    begun = time.perf_counter()
    try:
        found = solver(lock, frames.__getitem__, mask, lambda frame: None, range(count))
    except LockError as problem:
        return f"refused: {str(problem)[:90]}"
    places = np.array([[[x, y] for x in np.linspace(x0, x1, 5) for y in np.linspace(y0, y1, 4)]])
    off = []
    for entry in found.solved:
        truth = ways[entry.frame] @ np.linalg.inv(ways[start])
        at = places if kind == "riding" else cv2.perspectiveTransform(places, np.linalg.inv(truth))
        there, true = (cv2.perspectiveTransform(at, way) for way in (np.reshape(entry.homography, (3, 3)), truth))
        off.append(float(np.sqrt(((there - true) ** 2).sum(axis=2).mean())))
    said = max(entry.residual_px for entry in found.solved)
    lies = sum(error > 1 and error > 3 * entry.residual_px for error, entry in zip(off, found.solved))
    words = f"{len(off)} of {count}, {np.median(off):.3f} {max(off):.3f}, {said:.3f}, {time.perf_counter() - begun:.0f}"
    return words + (f", {lies} OFF BY MORE THAN THEY SAY" if lies else "")


if __name__ == "__main__":
    main()
