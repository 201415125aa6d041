"""What rides on marks far from them, as a sky does: how far it is off by a similarity of the marks and by a turning
camera, and what is said of it; or on fields of planes and pans there. Usage: rides.py [--seed 1] [--cases 24]
[--kinds marks | fields] [--photographs FILE …]

Cameras that pan by 3 to 16° with a hand-held sway, far from everything, through lenses of 25 to 65° across; 640×360,
eight bits, photographs that ship with scikit-image or given ones, grain 0.5 to 3 %, a quarter each as H.264 of crf 23
and 28; one to four marks on the lower part of the middle frame. *Off* is at places all over the upper part, px: rms,
worst; *under* is the share of places and frames that are off by no more than was said there. Printed, not asserted.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

import numpy as np
from first_look import given
from hundred import NAMES, SIZE, lock_of, rms
from numpy.typing import NDArray

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
import lock_plates
from h264 import write_h264
from lock_plates import turning_plates
from stores import kept_pictures
from zonal_mantle.api import new
from zonal_mantle.comp import solve_lock
from zonal_mantle.geometry import carry
from zonal_mantle.lock import LockError, propose_marks
from zonal_mantle.media.still import write_still
from zonal_mantle.place.ride_error import ride_errors
from zonal_mantle.place.transform import reference_to_frame
from zonal_mantle.shot import Lock, Mark, Placement, Shape, ShapeKey, Shot, Source, Zone

PLACES = np.array([[x, y] for x in np.linspace(3, 637, 7) for y in np.linspace(3, 200, 4)])
COUNT = 24
MARKS, FIELDS = ("similarity", "camera turn"), ("affine", "perspective", "fixed field", "pan")


def shot_of(frames: list[NDArray[np.float32]], quality: int, folder: Path) -> Shot:
    """The plate written and opened, with a sky that rides on a lock named l."""
    pictures = [np.repeat(frame[..., None], 3, axis=2) for frame in frames]
    path = folder / ("plate.mp4" if quality else "plate.1001.png")
    if quality:
        write_h264(path, pictures, quality)
    else:
        for n, picture in enumerate(pictures):
            write_still(folder / f"plate.{1001 + n}.png", picture)
    shot = new(path).shot
    source = Source(id="sky", name="Sky", kind="still", path=str(folder / "none.png"), width=640, height=360)
    zone = Zone(id="z", name="Sky", source="sky", placement=Placement(rides="l"))
    return shot.with_source(source).with_lock(lock_of("point")).with_zone(zone)


def judged(shot: Shot, lock: Lock, ways: list[NDArray[np.float64]]) -> tuple[float, float, float, float]:
    """Off rms and worst, said at worst, and the share of places that are off by no more than was said."""
    shot, start = shot.with_lock(lock), lock.reference_frame - shot.first
    zone, off, said = shot.zone("z"), list[NDArray[np.float64]](), list[NDArray[np.float64]]()
    for entry in lock.solved:
        if entry.frame == lock.reference_frame:
            continue
        true = ways[entry.frame - shot.first] @ np.linalg.inv(ways[start])
        ours = reference_to_frame(shot, zone, entry.frame)
        off.append(np.linalg.norm(carry(true @ np.linalg.inv(ours), PLACES) - PLACES, axis=1))
        errors = ride_errors(shot, zone, entry.frame, PLACES)
        assert errors is not None
        said.append(errors.most)
    if not off:
        raise LockError("no other frame is held. " + " ".join(lock.lost)[:60])
    away, told = np.array(off), np.array(said)
    return rms(away), float(away.max()), float(told.max()), float((away <= told).mean())


def _lock(motion: str, places: list[tuple[float, float]], across: tuple[float, float], start: int) -> Lock:
    if motion in MARKS:
        marks = tuple(Mark(x=x, y=y) for x, y in places)
        return lock_of("point", marks=marks, motion=motion).but(reference_frame=start)
    (x0, x1), (y0, y1) = across, (220.0, 330.0)
    key = ShapeKey(frame=start, points=((x0, y0), (x1, y0), (x1, y1), (x0, y1)))
    kind, motion = ("pan", None) if motion == "pan" else ("plane", motion)
    stays, moves = motion == "fixed field", None if motion == "fixed field" else motion
    lock = lock_of(kind, field=(Shape(id="f", name="Field", keys=(key,)),), field_stays=stays, motion=moves)
    return lock.but(reference_frame=start)


def row(number: int, seed: int, names: tuple[str, ...], kinds: str) -> None:
    rng = np.random.default_rng([seed, number])
    some = tuple(names[n] for n in rng.choice(len(names), 2, replace=False))
    grain, quality = float(rng.choice([0.005, 0.01, 0.03])), int(rng.choice([0, 0, 23, 28]))
    pan, view, marks = float(rng.uniform(3, 16)), float(rng.uniform(25, 65)), int(rng.integers(1, 5))
    plates = turning_plates(some, int(rng.integers(1e6)), SIZE, COUNT, pan, view, grain)
    x0, x1 = sorted(rng.uniform(60, 580, 2)) if marks > 1 else (200, 440)
    if x1 - x0 < 150:
        x0, x1 = max(x0 - 75, 40), min(x1 + 75, 600)
    places = propose_marks(plates.frames[COUNT // 2], (x0, 210, x1, 330), marks)
    words = f"{number:3d} {marks} marks, pan {pan:4.1f}°, view {view:3.0f}°, {grain:.1%}, crf {quality or '-':>2}"
    if len(places) < marks:
        print(f"{words}: only {len(places)} corners", flush=True)
        return
    with tempfile.TemporaryDirectory() as folder:
        shot = shot_of(plates.frames, quality, Path(folder))
        for motion in MARKS if kinds == "marks" else FIELDS:
            lock = _lock(motion, places, (x0, x1), shot.first + COUNT // 2)
            try:
                solved = solve_lock(shot.with_lock(lock), "l", kept_pictures()).lock("l")
                off, worst, said, under = judged(shot, solved, plates.truth)
            except LockError as problem:
                print(f"{words}, {motion:14}: refused: {str(problem)[:90]}", flush=True)
                continue
            lens = solved.lens
            focal = ""
            if lens.bounds_px and lens.focal_px and lock.kind == "point":
                low, high = (each / plates.focal_px for each in lens.bounds_px)
                focal = f", focal × {lens.focal_px / plates.focal_px:.2f} ({low:.2f} to {high:.2f})"
            held = max(entry.residual_px for entry in solved.solved)
            print(
                f"{words}, {motion:14}: {len(solved.solved)} of {COUNT}, off {off:5.2f} / {worst:5.2f}, "
                f"said {said:5.2f} (at marks {held:.2f}), under {under:.0%}{focal} {' '.join(solved.remarks)[:60]}",
                flush=True,
            )
            words = " " * len(words)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--cases", type=int, default=24)
    parser.add_argument("--kinds", choices=("marks", "fields"), default="marks")
    parser.add_argument("--photographs", nargs="*", default=[])
    options = parser.parse_args()
    if options.photographs:
        lock_plates.photograph = given  # type: ignore[assignment]
    for number in range(options.cases):
        row(number, options.seed, tuple(options.photographs) or NAMES, options.kinds)


if __name__ == "__main__":
    main()
