"""Camera locks on made-up tracks and on plates of walls and cards: how far they are off, what they say of it, and
whether a camera that only turns is told from one that moves.

Usage: cameras.py [--part tracks|plates|walls|turns]. Printed, not asserted.
"""

from __future__ import annotations

import argparse
import itertools
import sys
import time
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from tracked import FOCAL, SIZE, travelled, walked
from walls import Walked, walked_plates
from zonal_mantle.lock import LockError, solve_camera
from zonal_mantle.lock.camera import camera_from_tracks
from zonal_mantle.lock.errors import OnlyTurned
from zonal_mantle.lock.features import Track
from zonal_mantle.shot import Lock

LOCK = Lock(id="c", name="Camera", kind="camera", reference_frame=1)
JOURNEYS = [("orbit", 90, 0.0), ("orbit", 330, 0.0), ("street", 20, 12.0), ("street", 20, 40.0), ("forward", 20, 30.0)]
PLATES = [
    {"seed": 1}, {"seed": 2, "pan_deg": 34.0, "count": 48}, {"seed": 3, "returns": False},
    {"seed": 4, "pan_deg": 10.0, "names": ("brick", "camera")}, {"seed": 5}, {"seed": 6},
    {"seed": 7, "names": ("gravel", "chelsea")}, {"seed": 8, "names": ("rocket", "coffee"), "grain": 0.02},
    {"seed": 9, "names": ("grass", "rocket"), "pan_deg": 15.0},
    {"seed": 10, "names": ("camera", "coffee"), "pan_deg": 15.0, "away": 0.8},
]  # fmt: skip


def quiet(share: float, words: str) -> None:
    pass


def rms(values: NDArray[np.float64]) -> float:
    return float(np.sqrt(np.mean(np.square(values))))


def way_off(lock: Lock, turns: NDArray, places: NDArray, first: int) -> float:
    """How far the places are off, at the best scale, of the farthest way."""
    at = [entry.frame - first for entry in lock.solved]
    base = lock.reference_frame - first
    true = (places[at] - places[base]) @ turns[base].T
    found = np.array([entry.position for entry in lock.solved])
    grown = found * ((found * true).sum() / (found**2).sum())
    return float(np.abs(grown - true).max() / np.linalg.norm(true, axis=1).max())


def tracks() -> None:
    print("made-up tracks, 96 frames, noise of 0.1 px: focal length, its bounds, way off of the farthest, said px, s")
    for kind, turn, length in JOURNEYS:
        for reference in (1, 48):
            seen, turns, places = travelled(kind, 96, length, turn)
            start = time.perf_counter()
            lock = camera_from_tracks(LOCK.but(reference_frame=reference), seen, range(1, 97), SIZE, quiet)
            low, high = lock.lens.bounds_px or (0.0, 0.0)
            print(
                f"  {kind} {turn}° {length:.0f} m from frame {reference}: {lock.lens.focal_px / FOCAL - 1:+.2%} "
                f"({low / FOCAL - 1:+.1%} to {high / FOCAL - 1:+.1%}), {way_off(lock, turns, places, 1):.2%}, "
                f"{rms(np.array([e.residual_px for e in lock.solved])):.2f} px, {time.perf_counter() - start:.0f} s",
                flush=True,
            )


def far_slides(plates: Walked, lock: Lock) -> NDArray[np.float64]:
    """How far what is far, and was hung on the first picture, slides on each frame that sees it, px."""
    height, width = plates.frames[0].shape
    middle, out = np.array([width, height]) / 2, []
    hung = np.array([[x * width, y * height] for x in (0.15, 0.5, 0.85) for y in (0.15, 0.5, 0.85)])
    for entry in lock.solved:
        turn = cv2.Rodrigues(np.array(entry.rotation))[0]
        there, ours = (
            _pictured(_rays(hung - middle, focal) @ way.T, focal) + middle
            for focal, way in ((plates.focal, plates.turns[entry.frame]), (lock.lens.focal_px, turn))
        )
        seen = (np.abs(there - middle) < middle).all(axis=1)
        out.append(rms(np.linalg.norm((ours - there)[seen], axis=1)) if seen.any() else 0.0)
    return np.array(out)


def _rays(places: NDArray, focal: float) -> NDArray[np.float64]:
    return np.column_stack([places / focal, np.ones(len(places))])


def _pictured(rays: NDArray, focal: float) -> NDArray[np.float64]:
    return np.asarray(rays[:, :2] / rays[:, 2:] * focal)


def plates() -> None:
    print("a wall and eight cards, 480×270: focal length, slide of what is far px, said, way off of the farthest, s")
    for how in PLATES:
        seen = walked_plates(**how)
        start = time.perf_counter()
        lock = solve_camera(
            LOCK.but(reference_frame=0), seen.frames.__getitem__, lambda frame: None, range(len(seen.frames))
        )
        print(
            f"  {how}: {lock.lens.focal_px / seen.focal - 1:+.2%}, {rms(far_slides(seen, lock)):.2f} px, "
            f"{rms(np.array([e.residual_px for e in lock.solved])):.2f} px, "
            f"{way_off(lock, seen.turns, seen.places, 0):.2%}, {time.perf_counter() - start:.0f} s",
            flush=True,
        )


def walls() -> None:
    """Nearly one plane, whose cameras others see alike: what is said against what is true."""
    print("a wall and few cards: focal length off (its bounds), slide of what is far px, said, words")
    pairs = [("grass", "astronaut"), ("gravel", "coffee"), ("brick", "rocket"), ("camera", "chelsea")]
    for k, (names, away, cards) in enumerate(itertools.product(pairs, (1.2, 5.0), (0, 1, 3))):
        how = {"names": names, "away": away, "cards": cards, "seed": 60 + k, "pan_deg": 8 + 2.0 * (k % 8)}
        seen = walked_plates(**how, count=30, returns=k % 2 == 0)
        try:
            lock = solve_camera(LOCK.but(reference_frame=0), seen.frames.__getitem__, lambda frame: None, range(30))
        except LockError as problem:
            print(f"  {how}: {problem}", flush=True)
            continue
        low, high = lock.lens.bounds_px or (0.0, 0.0)
        true, said = rms(far_slides(seen, lock)), rms(np.array([entry.residual_px for entry in lock.solved]))
        print(
            f"  {how}: {lock.lens.focal_px / seen.focal - 1:+.2%} ({low / seen.focal - 1:+.1%} to "
            f"{high / seen.focal - 1:+.1%}), {true:.2f} px, {said:.2f} px{' !' if true > max(2.5 * said, 0.3) else ''} "
            f"{' '.join(lock.lost)[:60]}",
            flush=True,
        )


def turns() -> None:
    print("a camera that only turns, and one that moves a little, with tracks that drift: what each is called")
    for way in ((0.0, 0.0, 0.0), (0.03, 0.0, 0.0), (0.05, 0.0, 0.02), (0.0, 0.0, 0.2)):
        for noise, drift in ((0.1, 0.0), (0.1, 0.6), (0.3, 0.6), (0.2, 0.9)):
            words = []
            for seed in (1, 2, 3):
                seen, _, places = walked(seed=seed, way=way, noise=noise, sway=0.0)
                rng = np.random.default_rng(seed)
                drifted = []
                for track in seen:
                    strays = rng.normal(0, drift, 2) / 20
                    drifted.append(Track({f: (x + f * strays[0], y + f * strays[1]) for f, (x, y) in
                                          track.places.items()}))  # fmt: skip
                try:
                    lock = camera_from_tracks(LOCK, drifted, range(1, 21), SIZE, quiet)
                except OnlyTurned:
                    words.append("turns")
                except LockError:
                    words.append("refused")
                else:
                    found = np.array([entry.position for entry in lock.solved])
                    words.append("moves" if (found * places).sum() > 0 else "moves, inside out")
            print(f"  way {way}, noise {noise}, drift {drift} px: {', '.join(words)}", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--part", choices=["tracks", "plates", "walls", "turns"])
    part = parser.parse_args().part
    for name, run in (("tracks", tracks), ("plates", plates), ("walls", walls), ("turns", turns)):
        if part in (None, name):
            run()


if __name__ == "__main__":
    main()
