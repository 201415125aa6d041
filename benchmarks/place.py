"""Measures how things hang: speed as ratios, coverage, domes on a long pan, streets. Usage: place.py

Printed, not asserted.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import cv2
import numpy as np
from skimage import data

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests" / "place"))
from scipy.ndimage import map_coordinates
from test_perspective import SIZE as STREET_SIZE
from test_perspective import Street

from hung import pan, shot_with
from lock_plates import box_mask, turning_plates
from zonal_mantle.comp import Pictures
from zonal_mantle.comp.stack import compose
from zonal_mantle.lock import solve_pan
from zonal_mantle.lock.fit import fit_motion
from zonal_mantle.media.picture import picture_of
from zonal_mantle.place import covering, opening, plate_places, read_coverage, warp, zone_seen
from zonal_mantle.place.perspective import height_at, quad_of_edges, read_lines, roll_deg
from zonal_mantle.shot import Dome, Keyed, Lock, Source


def best(work, rounds: int = 7) -> float:
    times = []
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return min(times)


def speed() -> None:
    frame = np.random.default_rng(0).random((1080, 1920, 4)).astype(np.float32)
    copy = best(lambda: frame.copy(), 15)
    painting = np.random.default_rng(1).random((2048, 4096, 3)).astype(np.float32)
    store = Pictures()
    plate = Source(id="plate", name="Plate", path="p.%04d.exr", kind="sequence", width=1920, height=1080, last=2)
    print(f"copying one float RGBA frame of 1920 x 1080: {1e3 * copy:.1f} ms")
    cases = {
        "flat, turned": {"size": Keyed(constant=0.8), "turn_deg": Keyed(constant=7.0)},
        "flat, mirrored rim": {"size": Keyed(constant=0.4), "rim": "mirrored"},
        "dome": {"way": "dome", "dome": Dome(wide_deg=120.0)},
    }
    for name, placed in cases.items():
        shot = shot_with(pan(2), (4096, 2048), 2, **placed).with_source(plate)
        source = shot.source("sky")
        whole = np.dstack([painting, np.ones((2048, 4096), np.float32)])
        store._paintings.put((picture_of(source, 1), (0, 0)), whole)
        compose(shot, 1, store)
        taken = best(lambda shot=shot: compose(shot, 1, store))
        print(f"  4096-px painting, {name:20s} {1e3 * taken:5.1f} ms, {taken / copy:.1f} x the copy")


def quality() -> None:
    picture = (data.rocket() / 255).astype(np.float32)
    h, w = picture.shape[:2]
    for angle, size in ((11.0, 1.7), (3.0, 1.05), (30.0, 2.6)):
        a = np.radians(angle)
        matrix = np.array([[size * np.cos(a), -size * np.sin(a), 90.0], [size * np.sin(a), size * np.cos(a), -60],
                           [0, 0, 1]])  # fmt: skip
        got = warp(picture, matrix, (w, h))
        x, y = np.meshgrid(np.arange(w) + 0.5, np.arange(h) + 0.5)
        at = np.stack([x.ravel(), y.ravel(), np.ones(x.size)], axis=1) @ np.linalg.inv(matrix).T
        wanted = np.stack([map_coordinates(picture[..., c], [at[:, 1] - 0.5, at[:, 0] - 0.5], order=3, mode="constant")
                           for c in range(3)], axis=-1).reshape(h, w, 3)  # fmt: skip
        inside = cv2.erode((got[..., 3] > 0.999).astype(np.uint8), np.ones((7, 7))) > 0
        error = float(np.mean((got[..., :3] - wanted)[inside] ** 2))
        print(f"warp turned {angle} degrees, {size} times: {10 * np.log10(1 / error):.1f} dB against a cubic spline")


def coverage() -> None:
    shot = shot_with(pan(200, 20), (2600, 1400), 200, size=Keyed(constant=0.35))
    yy, xx = np.mgrid[0:90, 0:160]
    openings = {f: opening((yy < 45 + 9 * np.sin(xx / 20 + f / 9)).astype(np.float32), 0.25) for f in shot.frames}
    zone = shot.zones[0]
    for name, hung in (("short", zone), ("covering", zone.but(placement=covering(shot, zone, openings)))):
        taken = best(lambda hung=hung: read_coverage(shot, hung, openings), 3)
        reading = read_coverage(shot, hung, openings)
        print(
            f"coverage of 200 frames, {name}: {taken:.2f} s ({reading.covered} covered, margin {reading.margin_px:.1f})"
        )
    dome = zone.but(placement=zone.placement.but(way="dome", dome=Dome(wide_deg=70.0)))
    print(f"the same of a dome: {best(lambda: read_coverage(shot, dome, openings), 3):.2f} s")


def long_pan() -> None:
    width, height = 1280, 720
    for seed in (7, 11):
        plates = turning_plates(seed=seed)
        mask = box_mask((width, height), (26, 26, width - 26, height - 26))
        solved = solve_pan(Lock(id="pan", name="Pan", kind="pan", reference_frame=0), plates.frames.__getitem__, mask,
                           lambda f: None, range(48))  # fmt: skip
        plate = Source(
            id="plate", name="P", path="p.%04d.exr", kind="sequence", width=width, height=height, first=0, last=47
        )
        dome = Dome(wide_deg=120.0)
        shot = shot_with(solved, (6000, 3000), 48, way="dome", dome=dome).with_source(plate)
        edge = np.array([[x, y] for x in (1, width / 2, width - 1) for y in (1, height / 2, height - 1)], float)
        domes, flats = [], []
        for frame in shot.frames:
            home = np.c_[edge, np.ones(9)] @ np.linalg.inv(plates.truth[frame]).T  # where they were on the first frame
            at = zone_seen(shot, shot.zones[0], 0).back(home[:, :2] / home[:, 2:])
            domes.append(np.linalg.norm(plate_places(shot, shot.zones[0], frame, at) - edge, axis=1).max())
            inside = np.stack(np.meshgrid(np.linspace(1, width - 1, 7), np.linspace(1, height - 1, 5)), axis=-1)
            inside = inside.reshape(-1, 2)
            homes = np.c_[inside, np.ones(35)] @ np.linalg.inv(plates.truth[frame]).T
            stiff = fit_motion(homes[:, :2] / homes[:, 2:], inside, "similarity")
            seen = np.c_[home[:, :2] / home[:, 2:], np.ones(9)] @ stiff.T
            flats.append(np.linalg.norm(seen[:, :2] / seen[:, 2:] - edge, axis=1).max())
        print(
            f"long pan, seed {seed}: dome {max(domes):.2f} px off at worst at the edges; the best flat hang by place, "
            f"turn and size {max(flats):.0f} px; focal {solved.lens.focal_px / plates.focal_px - 1:+.2%}"
        )


def streets() -> None:
    rolls, highs, focals = [], [], []
    for seed in range(40):
        street = Street(seed)
        found = read_lines(np.zeros((0, 2, 2)), street.edges(0, 8), street.edges(2, 8), STREET_SIZE)
        if found.horizon is None or found.focal_px is None:
            print("  a street told nothing:", found.problem)
            continue
        rolls.append(abs(roll_deg(found.horizon) - roll_deg(street.horizon)))
        off = height_at(found.horizon, 640) - height_at(street.horizon, 640)
        highs.append(abs(np.degrees(np.arctan(off / street.focal))))
        focals.append(abs(found.focal_px / street.focal - 1))
    print(
        f"40 streets of boxes, lines half a pixel off: horizon turned by {max(rolls):.2f} and high by {max(highs):.2f} "
        f"degrees, focal {max(focals):.1%} at worst; medians {np.median(rolls):.2f}, {np.median(highs):.2f}, "
        f"{np.median(focals):.1%}"
    )


def facades() -> None:
    for error in (0.0, 0.25, 0.5):
        off = []
        for seed in range(40):
            street = Street(seed)
            at = np.linalg.inv(street.turn) @ [-2, -1, 13]
            wall = street.seen([at, at + [4, 0, 0], at + [4, 2.5, 0], at + [0, 2.5, 0]])
            drawn = [wall[[a, b]] + street.chance.normal(0, error, (2, 2)) for a, b in ((0, 1), (3, 2), (0, 3), (1, 2))]
            quad = quad_of_edges(np.array(drawn[:2]), np.array(drawn[2:]))
            off.append(np.linalg.norm(quad - wall, axis=1).mean())
        rms = float(np.sqrt(np.mean(np.square(off))))
        print(
            f"facade on 40 walls, edges drawn {error} px off: corners off by {rms:.2f} px rms, {max(off):.2f} at worst"
        )


if __name__ == "__main__":
    facades()
    speed()
    quality()
    coverage()
    streets()
    long_pan()
