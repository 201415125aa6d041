"""Locks on plates with something burnt in, with borders, falloff, a lens that bends or frames that show nothing, with a
first look and without it. Usage: first_look.py [--seeds 1,2,3] [--kinds bars,words] [--soft PX]
[--photographs FILE …]

Plates of 640 x 360 from photographs that ship with scikit-image, or from given ones, 8-bit grain of 1 %; whole frames
are locked. Printed for each: error true and said, px rms over the shot, and frames held. Nothing is asserted.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
import lock_plates
from lock_plates import Plates, box_mask, flat_plates, turning_plates
from zonal_mantle.geometry import camera_matrix, carry, distorted, undistorted
from zonal_mantle.lock import LockError, solve_pan, solve_plane, solve_staying
from zonal_mantle.lock.bend import bend_of
from zonal_mantle.lock.falloff import distances, falloff_of, lifted
from zonal_mantle.lock.look import runs_of
from zonal_mantle.lock.standing import standing
from zonal_mantle.shot import Lens, Lock

Array = NDArray[np.float32]
Points = NDArray[np.float64]
SIZE, BOX = (640, 360), (13, 18, 627, 342)
NAMES = (("grass", "astronaut", "rocket"), ("coffee", "page", "gravel"), ("immunohistochemistry", "rocket", "coins"),
         ("chelsea", "camera", "moon"))  # fmt: skip
BENDS = {"bend -2 %": -0.02, "bend 2 %": 0.02, "bend -5 %": -0.05}


def written(picture: Array, words: str, at: tuple[int, int], size: float, light: float, share: float = 1.0) -> None:
    mask = np.zeros(picture.shape, np.uint8)
    cv2.putText(mask, words, at, cv2.FONT_HERSHEY_SIMPLEX, size, 255, max(1, round(2 * size)), cv2.LINE_AA)
    weight = share * mask.astype(np.float32) / 255
    picture += weight * (np.float32(light) - picture)


def changed(kind: str, frames: list[Array], seed: int) -> list[Array]:
    """A plate's frames with a fault."""
    rng, out = np.random.default_rng(seed), [frame.copy() for frame in frames]
    (width, height), count = SIZE, len(frames)
    if kind in ("bars", "pillars"):
        for frame in out:
            rows = frame if kind == "bars" else frame.T
            deep = len(rows) // 8
            rows[:deep] = rows[-deep:] = 0
    elif kind == "words":
        for k, frame in enumerate(out):
            cv2.rectangle(frame, (190, 310), (450, 345), 0.05, -1)
            written(frame, f"A014 01:02:03:{k:02d}", (195, 336), 0.8, 0.9)
            written(frame, "SALTERN 0140", (10, 25), 0.6, 0.9)
    elif kind == "owner's mark":
        for frame in out:
            written(frame, "PROPERTY OF SALTERN", (20, 200), 1.7, 1.0, 0.35)
    elif kind == "guides":
        for frame in out:
            cv2.rectangle(frame, (40, 30), (width - 40, height - 30), 0.9, 1)
    elif kind == "dirt":
        mask = np.zeros((height, width), np.float32)
        for _ in range(25):
            place = int(rng.integers(0, width)), int(rng.integers(0, height))
            cv2.circle(mask, place, int(rng.integers(2, 9)), 1, -1, cv2.LINE_AA)
        mask = cv2.GaussianBlur(mask, (0, 0), 1.5)
        for frame in out:
            frame *= 1 - 0.35 * mask
    elif kind.startswith("falloff"):
        far = distances(np.argwhere(np.ones(SIZE)) + 0.5, SIZE).reshape(SIZE).T
        for frame in out:
            frame *= np.exp(-float(kind.split()[1]) * far**2)
    elif kind in BENDS:
        rows, columns = np.mgrid[:height, :width]
        seen = np.stack([columns.ravel(), rows.ravel()], axis=1) + 0.5
        places = undistorted(seen, camera_matrix(width / 2, SIZE), BENDS[kind]) - 0.5
        x, y = places.astype(np.float32).T.reshape(2, height, width)
        out = [cv2.remap(frame, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT) for frame in out]
    elif kind == "black frames":
        for k in (count // 3, 2 * count // 3, 2 * count // 3 + 1):
            out[k][:] = 0.02
    return out


KINDS = ("clean", "bars", "pillars", "words", "owner's mark", "guides", "dirt", "falloff 0.2", "falloff 0.7",
         *BENDS, "black frames")  # fmt: skip


def off_px(solved: Lock, plates: Plates, bend: float) -> float:
    """Root mean square by which a lock misses where places of its reference frame went, px."""
    start, k = np.linalg.inv(plates.truth[solved.reference_frame]), camera_matrix(SIZE[0] / 2, SIZE)
    places = np.array([[x, y] for x in np.linspace(BOX[0], BOX[2], 5) for y in np.linspace(BOX[1], BOX[3], 4)])
    out = []
    for entry in solved.solved:
        there = distorted(carry(plates.truth[entry.frame] @ start, undistorted(places, k, bend)), k, bend)
        ours = carry(np.reshape(entry.homography, (3, 3)), places)
        if solved.lens.distortion and solved.lens.focal_px:
            own, own_bend = camera_matrix(solved.lens.focal_px, SIZE), solved.lens.distortion
            ideal = carry(np.reshape(entry.homography, (3, 3)), undistorted(places, own, own_bend))
            ours = distorted(ideal, own, own_bend)
        inside = (there > 0).all(axis=1) & (there < SIZE).all(axis=1)
        out.append(((ours - there)[inside] ** 2).sum(axis=1).mean() if inside.any() else 0.0)
    return float(np.sqrt(np.mean(out)))


def locked(frames: list[Array], way: str, look: bool, bent: bool) -> Lock:
    """A lock on the whole frame, with or without a first look."""
    runs = runs_of(frames.__getitem__, range(len(frames))) if look else []
    stands = standing(runs)
    falloff = falloff_of(runs, stands)
    bend = bend_of(runs, stands)
    if falloff is not None:
        frames = [lifted(frame, falloff) for frame in frames]
    cover = None if stands is None else np.asarray(1 - stands, np.float32)
    mask = box_mask(SIZE, BOX) if cover is None else box_mask(SIZE, BOX) * cover
    reference = 0 if way == "plane" else len(frames) // 2
    lock = Lock(id="a", name="A", kind="pan" if way == "pan" else "plane", field_stays=way != "plane",
                reference_frame=reference, lens=Lens(solve_distortion=bent and way == "pan"))  # fmt: skip
    these = lock, frames.__getitem__, mask, lambda frame: cover, range(len(frames))
    if way == "plane":
        return solve_plane(*these)
    return (solve_pan if way == "pan" else solve_staying)(*these, bend=bend)


def row(plates: Plates, frames: list[Array], way: str, kind: str) -> str:
    out = []
    for look in (False, True):
        try:
            solved = locked(frames, way, look, kind in BENDS)
        except LockError:
            out.append(f"{'refused':>24s}")
            continue
        said = float(np.sqrt(np.mean([entry.residual_px**2 for entry in solved.solved])))
        true, held = off_px(solved, plates, BENDS.get(kind, 0.0)), len(solved.solved)
        lie = "!" if true > max(2.5 * said, 0.3) else " "
        out.append(f"{true:8.3f} said {said:5.3f}{lie} {held:3d}")
    return "   ".join(out)


def given(path: str, width: int = 2560) -> Array:
    """A photograph from a file, as `lock_plates.photograph` makes them."""
    grey = cv2.imread(path, cv2.IMREAD_GRAYSCALE).astype(np.float32) / 255
    side = min(grey.shape)
    grey = cv2.resize(grey[:side, :side], (1024, 1024), interpolation=cv2.INTER_AREA)
    both = np.concatenate([grey, grey[:, ::-1]], axis=1)
    return np.ascontiguousarray(np.tile(np.concatenate([both, both[::-1]]), (2, 2))[:width, :width])


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", default="1,2,3")
    parser.add_argument("--kinds", default=",".join(KINDS))
    parser.add_argument("--photographs", nargs="*", default=[])
    parser.add_argument("--soft", type=float, default=0.0, help="out of focus by so many px, at half the contrast")
    options = parser.parse_args()
    names: tuple[tuple[str, ...], ...] = NAMES
    if options.photographs:
        lock_plates.photograph = given  # type: ignore[assignment]
        some = options.photographs
        names = tuple(tuple(some[k : k + 3]) for k in range(0, len(some) - 2, 3))
    print("seed way   kind            without a first look: true, said, frames;   with it", flush=True)
    for seed in (int(each) for each in options.seeds.split(",")):
        three = names[seed % len(names)]
        for ways in (("pan", "stays"), ("plane",)):
            if ways == ("plane",):
                plates = flat_plates(three[0], seed, SIZE, count=16, speed=0.8, grain=0.01, soft_px=options.soft)
            else:
                plates = turning_plates(three, seed, SIZE, 24, 14.0, 38.0, 0.01, soft_px=options.soft)
            for kind in options.kinds.split(","):
                frames = changed(kind, plates.frames, seed)
                for way in ways:
                    print(f"{seed:4d} {way:5s} {kind:14s} {row(plates, frames, way, kind)}", flush=True)


if __name__ == "__main__":
    main()
