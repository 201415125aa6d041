"""A sky that rides on marks and planes of a camera that slides past near and far: how far it is off, what its lock says
of that by itself, and what is said with a look at the plate. Usage: slides.py [--seed 1] [--cases 10]
[--photographs FILE …]

Cameras that turn by up to 10° and slide by 0 to 2 m before a range at 3 km, hills at 150 m, a bank at 20 m and trees at
30 m, not all of them there; views of 30 to 60°, 640×360, eight bits, grain 0.5 to 3 %, a third as H.264 of crf 23;
locks on each of them. Px at the worst of the frames and of the places that are open. *Lies*: off by over twice what is
said (and by 2 px), *blamed*: said by more than twice what is true because of the plate. Printed, not asserted.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from first_look import given
from hundred import lock_of
from rides import shot_of

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
import ranges
from ranges import BANK, HILLS, RANGE, Sheet, sliding_plates
from stores import kept_pictures
from zonal_mantle.comp import solve_lock
from zonal_mantle.comp.readings_ride import read_ride
from zonal_mantle.geometry import carry
from zonal_mantle.lock import LockError, propose_marks
from zonal_mantle.place.coverage import opening
from zonal_mantle.place.transform import reference_to_frame
from zonal_mantle.shot import Lock, Mark, Shape, ShapeKey

SIZE, COUNT = (640, 360), 24
MIDDLE = COUNT // 2


def trees(left: float, right: float) -> Sheet:
    return Sheet(30.0, 0.25, 0.04, (left, right), "astronaut")


SCENES = {
    "range, hills, bank": (RANGE, HILLS, BANK),
    "hills, bank": (HILLS, BANK),
    "half trees": (RANGE, BANK, trees(0.2, 0.7)),
    "mostly trees": (RANGE, HILLS, trees(0.1, 0.95)),
    "trees all over": (RANGE, BANK, trees(-0.3, 1.3)),
}


def area_of(sheet: Sheet, sheets: tuple[Sheet, ...]) -> tuple[float, float, float, float]:
    """Where a sheet shows on the middle frame, about: what is nearer and all across hides its lower part."""
    nearer = [each for each in sheets if each.away_m < sheet.away_m and each.across[0] < -1]
    low = max((sheet.top + 1.5 * sheet.rough) * SIZE[1], 0)
    high = min([SIZE[1] - 15, *((each.top - 2 * each.rough) * SIZE[1] for each in nearer)])
    left, right = max(sheet.across[0], 0.06) * SIZE[0], min(sheet.across[1], 0.94) * SIZE[0]
    return left + 8, low, right - 8, max(high, low + 25)


def locks_on(area: tuple[float, float, float, float], middle: object, start: int) -> list[Lock]:
    x0, y0, x1, y1 = area
    marks = tuple(Mark(x=x, y=y) for x, y in propose_marks(middle, area, 3))  # type: ignore[arg-type]
    key = ShapeKey(frame=start, points=((x0, y0), (x1, y0), (x1, y1), (x0, y1)))
    field = (Shape(id="f", name="Field", keys=(key,)),)
    of_marks = [lock_of("point", marks=marks, motion=motion) for motion in ("similarity", "camera turn")]
    locks = [*(of_marks if len(marks) > 1 else []), lock_of("plane", field=field, motion="perspective")]
    return [lock.but(reference_frame=start) for lock in locks]


def scene(number: int, seed: int, names: list[str]) -> list[tuple[float, float, float, str]]:
    """What is off, what the lock says, what is said now and why, of each lock in a random scene."""
    rng = np.random.default_rng([seed, number])
    name = list(SCENES)[number % len(SCENES)]
    sheets, out = SCENES[name], []
    if names:
        sheets = tuple(replace(sheet, name=str(rng.choice(names))) for sheet in sheets)
    grain, quality = float(rng.choice([0.005, 0.01, 0.03])), int(rng.choice([0, 0, 23]))
    slide, pan = float(rng.choice([0, 0.3, 1, 2])), float(rng.uniform(-10, 10))
    ahead, view = float(rng.choice([0, 0, 2])) * (slide > 0), float(rng.uniform(30, 60))
    plates = sliding_plates(sheets, SIZE, COUNT, pan, slide, view, grain, seed * 1000 + number, ahead)
    print(f"{name}: slides {slide} m, goes {ahead:.0f} m, turns {pan:.1f}°, grain {grain:.1%}, crf {quality or '-'}")
    with tempfile.TemporaryDirectory() as folder:
        shot, pictures = shot_of(plates.frames, quality, Path(folder)), kept_pictures()
        shot = shot.but(
            sources=tuple(each.but(width=3000, height=2000) if each.id == "sky" else each for each in shot.sources)
        )
        start = shot.first + MIDDLE
        small = [cv2.resize(sky, None, fx=0.25, fy=0.25, interpolation=cv2.INTER_AREA) for sky in plates.skies]
        openings = {shot.first + n: opening(sky, 0.25) for n, sky in enumerate(small)}
        for sheet in sheets:
            for lock in locks_on(area_of(sheet, sheets), plates.frames[MIDDLE], start):
                try:
                    solved = solve_lock(shot.with_lock(lock), "l", pictures)
                except LockError as problem:
                    print(f"  {sheet.away_m:5.0f} m {lock.moves:12} refused: {str(problem)[:80]}")
                    continue
                zone, off = solved.zone("z"), [0.0]
                for entry in solved.lock("l").solved:
                    places = openings[entry.frame].places
                    way = plates.far(entry.frame - shot.first, MIDDLE)
                    back = np.linalg.inv(reference_to_frame(solved, zone, entry.frame))
                    off.append(float(np.linalg.norm(carry(way @ back, places) - places, axis=1).max()))
                alone, now = read_ride(solved, zone, openings), read_ride(solved, zone, openings, pictures)
                assert alone is not None
                assert now is not None
                out.append((max(off), alone.worst_px, now.worst_px, now.fault))
                print(
                    f"  {sheet.away_m:5.0f} m {lock.moves:12} off {max(off):6.2f}, lock says {alone.worst_px:6.2f}, "
                    f"said {now.worst_px:6.2f} {now.fault}",
                    flush=True,
                )
    return out


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--cases", type=int, default=10)
    parser.add_argument("--photographs", nargs="*", default=[])
    options = parser.parse_args()
    if options.photographs:
        ranges.photograph = given  # type: ignore[assignment]
    rows = [row for number in range(options.cases) for row in scene(number, options.seed, options.photographs)]
    before = [off > 2 * max(alone, 1) for off, alone, _, _ in rows]
    after = [off > 2 * max(now, 1) for off, _, now, _ in rows]
    blames = [fault == "apart" and now > 2 * max(off, 1) for off, _, now, fault in rows]
    print(f"{len(rows)} locks: {sum(before)} lie by themselves, {sum(after)} with the plate; {sum(blames)} are blamed")
    ratio = np.log2([off / now for off, _, now, fault in rows if fault == "apart"])
    if len(ratio):
        print(f"off over said where the plate speaks, median {2 ** np.median(ratio):.2f}, {2 ** ratio.min():.2f} to "
              f"{2 ** ratio.max():.2f}, {len(ratio)} locks")  # fmt: skip


if __name__ == "__main__":
    main()
