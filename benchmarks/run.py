"""Measures speed, memory and accuracy, as ratios within one run. Usage: run.py [--seeds 7,11,23]

Everything is printed; nothing is asserted, since machines are shared and noisy.
"""

from __future__ import annotations

import argparse
import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from filmed import FOLDER, filmed

from plates import Plate, best_luma_error, blue_screen, edge_band, edge_error, tree_line
from zonal_mantle.api import Session, open_shot
from zonal_mantle.comp import compose, solve_lock
from zonal_mantle.demo import NAME
from zonal_mantle.demo.shot import mark_regions, true_path
from zonal_mantle.lock import Patch, lock_feed
from zonal_mantle.matte import build_matte, clear_sky, screen
from zonal_mantle.media import open_source
from zonal_mantle.media.curves import srgb_encode
from zonal_mantle.media.still import read_still, write_still
from zonal_mantle.shot import (
    Cdl,
    ClearSkyPull,
    ColourPull,
    ColourSample,
    Keyed,
    Lock,
    LumaPull,
    Mark,
    Match,
    Matte,
    OldSky,
    ScreenPull,
    ToneMatch,
)

LUMA = LumaPull(high=Keyed(constant=0.66), high_softness=Keyed(constant=0.20))


def best(function: Callable[[], object], rounds: int = 7) -> float:
    function()
    times = []
    for _ in range(rounds):
        start = time.perf_counter()
        function()
        times.append(time.perf_counter() - start)
    return min(times)


def codes(pixels: np.ndarray) -> np.ndarray:
    return np.asarray(srgb_encode(np.clip(pixels[..., :3], 0, 1)) * 255)


def locks(folder: Path, seed: int) -> None:
    """Point locks against the true camera, on the EXR plate and, with the same marks, on the 8-bit H.264 delivery."""
    truth = json.loads((folder / "truth" / "truth.json").read_text())
    for name in ("EXR", "H.264"):
        session = open_shot(folder / f"{NAME}.shot.json")
        if name == "H.264":
            shot, video = session.shot, open_source(folder / f"{NAME}_h264.mp4", "plate")
            back = shot.first - video.first
            moved = tuple(lock.but(reference_frame=lock.reference_frame - back, solved=()) for lock in shot.locks)
            session.shot = shot.but(sources=(video, *shot.sources[1:]), locks=moved)
            for lock in moved:
                session.solve(lock.id)
        first = session.shot.first
        for id, far in (("works", 74.0), ("hills", 1800.0)):
            lock = session.shot.lock(id)
            for k, mark in enumerate(lock.marks):
                path = true_path(truth, lock.reference_frame - first, (mark.x, mark.y), far)
                miss = [np.subtract(e.marks[k], path[e.frame - first]) for e in lock.solved]
                rms = float(np.sqrt(np.mean(np.sum(np.square(miss), axis=1))))
                own = float(np.sqrt(np.mean([e.residual_px**2 for e in lock.solved])))
                print(
                    f"lock   seed {seed:3d}  {name:6s} {id:6s} mark {k + 1}: {rms:.3f} px rms to the truth, "
                    f"own reading {own:.3f} px, {len(lock.solved)} frames"
                )


def blind_locks(folder: Path, seed: int) -> None:
    """One-mark locks on the strongest corners of hills and house, without a look at which are found best.

    Truth is used only to tell hill and wall from what stands before them, as an eye would: a corner counts where it
    is found within half a pixel of the surface's path on four other frames.
    """
    truth = json.loads((folder / "truth" / "truth.json").read_text())
    session = open_shot(folder / f"{NAME}.shot.json")
    shot, source = session.shot, session.shot.plate_source
    middle = len(shot.frames) // 2
    feeds = {
        index: lock_feed(session.store.plate(source, shot.frames[index]), "luma")
        for index in {*np.linspace(0, len(shot.frames) - 1, 5).astype(int), middle}
    }
    for name, regions, far in zip(("hills", "works"), mark_regions(truth, middle), (1800.0, 74.0)):
        away, lost = [], 0
        for x0, y0, x1, y1 in (region.astype(int) for region in regions):
            smooth = cv2.GaussianBlur(feeds[middle], (0, 0), 1.2)
            strength = cv2.cornerMinEigenVal(smooth, 25)[y0:y1, x0:x1].copy()
            taken = 0
            for _ in range(150):
                row, column = np.unravel_index(np.argmax(strength), strength.shape)
                cv2.circle(strength, (int(column), int(row)), 12, 0, -1)
                mark = Mark(x=x0 + column + 0.5, y=y0 + row + 0.5, patch=(22.0, 15.0), reach=(18.0, 18.0))
                path = true_path(truth, middle, (mark.x, mark.y), far)
                try:
                    patch = Patch(feeds[middle], mark)
                except ValueError:
                    continue
                found = [(patch.refine(feed, *path[index]), path[index]) for index, feed in feeds.items()]
                if all(f and f.confidence > 0.75 and np.hypot(f.x - at[0], f.y - at[1]) < 0.5 for f, at in found):
                    lock = Lock(id="blind", name="blind", reference_frame=shot.frames[middle], marks=(mark,))
                    solved = solve_lock(shot.with_lock(lock), "blind", session.store).lock("blind").solved
                    lost += len(solved) < len(shot.frames)
                    miss = [np.subtract(entry.marks[0], path[entry.frame - shot.first]) for entry in solved]
                    away.append(float(np.sqrt(np.mean(np.sum(np.square(miss), axis=1)))))
                    taken += 1
                if taken == 5:
                    break
        worst = f"{min(away):.3f} to {max(away):.3f}, median {np.median(away):.3f} px" if away else "none found"
        print(f"blind  seed {seed:3d}  {name:6s} {len(away)} strongest corners, {lost} lost: rms {worst}")


def composite(folder: Path, seed: int) -> None:
    """The finished composite against the generator's own, over the frame and in a 9-px band round the edges."""
    session = open_shot(folder / f"{NAME}.shot.json")
    whole, band = [], []
    for frame in session.shot.frames[::6]:
        truth, _ = read_still(folder / "truth" / "finished" / f"finished.{frame}.exr")
        alpha, _ = read_still(folder / "truth" / "alpha" / f"alpha.{frame}.png")
        square = ((codes(session.frame(frame)) - codes(truth)) ** 2).mean(axis=2)
        edge = ((alpha[..., 0] > 0.02) & (alpha[..., 0] < 0.98)).astype(np.uint8)
        near = cv2.dilate(edge, np.ones((9, 9), np.uint8)) > 0
        whole.append(square.mean())
        band.append(square[near].mean())
    frame_rms, band_rms = np.sqrt(np.mean(whole)), np.sqrt(np.mean(band))
    print(f"frame  seed {seed:3d}  composite against the generator's own, display codes of 255:")
    print(f"                 rms {frame_rms:.2f} over the frame, {band_rms:.2f} in a 9-px band round the edges")


def demo_mattes(folder: Path, seed: int) -> None:
    """The demo's clear-sky matte as it is found by itself: alpha, and the edge band of the composite.

    The band is measured against the generator's own picture, which holds how well the paintings hang as well, and
    against the same background under the true alpha, which is the matte's own share.
    """
    session = open_shot(folder / f"{NAME}.shot.json")
    shot, zone = session.shot, session.shot.zones[0]
    matte = shot.matte_of(zone).but(pulls=(ClearSkyPull(),))
    mse, luma, whole, own = [], [], [], []
    for frame in shot.frames[3::20]:
        truth, _ = read_still(folder / "truth" / "finished" / f"finished.{frame}.exr")
        alpha = read_still(folder / "truth" / "alpha" / f"alpha.{frame}.png")[0][..., 0]
        made, plate = session.store.matte(shot, matte, frame), session.plate(frame)
        behind = compose(shot, frame, session.store, 1.0, [z for z in shot.near_to_far() if z.id != zone.id])[..., :3]
        sky = clear_sky(plate, matte.pulls[0])[1]
        true = np.clip(plate - (1 - alpha[..., None]) * sky, 0, None) + (1 - alpha[..., None]) * behind
        ours = made.foreground[..., :3] + (1 - made.foreground[..., 3:]) * behind
        band = edge_band(alpha)
        whole.append(((codes(ours) - codes(truth))[band] ** 2).mean())
        own.append(((codes(ours) - codes(true))[band] ** 2).mean())
        mse.append(((made.alpha - alpha) ** 2).mean())
        bare = matte.but(pulls=(LUMA,), old_sky=matte.old_sky.but(on=False))
        tried = []
        for high in np.arange(0.3, 0.9, 0.04):
            for soft in (0.05, 0.1, 0.2, 0.3, 0.45):
                pull = LUMA.but(high=Keyed(constant=float(high)), high_softness=Keyed(constant=soft))
                tried.append(((build_matte(plate, bare.but(pulls=(pull,)), frame).alpha - alpha) ** 2).mean())
        luma.append(min(tried))
    print(f"matte  seed {seed:3d}  clear sky by itself: alpha mse {np.mean(mse):.2e}, best luma {np.mean(luma):.2e},")
    print(
        f"                 {np.mean(luma) / np.mean(mse):.1f} × better; edge band {np.sqrt(np.mean(whole)):.2f} of 255"
    )
    print(
        f"                 against the generator, {np.sqrt(np.mean(own)):.2f} against the true alpha on our background"
    )


def mattes() -> None:
    """Mattes of photographs with a known alpha, and their speed against PyMatting and copying a frame."""
    frame_of_floats = np.random.default_rng(1).random((1080, 1920, 4), np.float32)
    target = np.empty_like(frame_of_floats)
    copy = best(lambda: np.copyto(target, frame_of_floats))
    sky = Matte(pulls=(ClearSkyPull(),))
    for seed in (1, 2, 3):
        plate = tree_line(seed)
        made = build_matte(plate.pixels, sky, 1)
        mse, luma = ((made.alpha - plate.alpha) ** 2).mean(), best_luma_error(plate)
        kept = edge_error(plate, plate.alpha, plate.pixels * plate.alpha[..., None])
        print(
            f"leaves {seed}: edge {edge_error(plate, made.alpha, made.foreground):.2f} of 255 (true alpha with the old"
        )
        print(
            f"          sky left in {kept:.1f}), alpha mse {mse:.2e}, best luma {luma:.2e}, {luma / mse:.1f} × better"
        )
        hard = tree_line(seed, closes=1.5, dark=0.28)
        made = build_matte(hard.pixels, sky, 1)
        print(f"          gaps to the frame's foot, dark: edge {edge_error(hard, made.alpha, made.foreground):.2f}")
    for seed in (1, 2, 3):
        plate = blue_screen(seed)
        print(f"screen {seed}: alpha mse {((screen(plate.pixels, ScreenPull())[0] - plate.alpha) ** 2).mean():.2e}")
    plate = tree_line(1)
    big = cv2.resize(plate.pixels, (1920, 1080), interpolation=cv2.INTER_CUBIC)
    goes = ColourPull(samples=(ColourSample(colour=(0.6, 0.6, 0.6), to=(0.5, 0.5, 0.55)),))
    for name, matte in (
        ("luma", Matte(pulls=(LUMA,))),
        ("colour", Matte(pulls=(goes,), old_sky=OldSky(on=False))),
        ("clear sky with old-sky removal", sky),
    ):
        taken = best(lambda matte=matte: build_matte(big, matte, 1), 9)
        print(f"speed  {name} at 1920×1080: {taken * 1e3:.0f} ms = {taken / copy:.1f} × copying one float RGBA frame")
    closed_form(plate, sky)


def closed_form(plate: Plate, sky: Matte) -> None:
    """PyMatting's closed form, given a trimap from the true alpha, beside our clear sky, given nothing."""
    import pymatting

    trimap = np.full(plate.alpha.shape, 0.5)
    trimap[cv2.erode((plate.alpha > 0.99).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0] = 1
    trimap[cv2.erode((plate.alpha < 0.01).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0] = 0
    picture = np.clip(plate.pixels, 0, 1).astype(np.float64)
    start = time.perf_counter()
    alpha = pymatting.estimate_alpha_cf(picture, trimap)
    fore = pymatting.estimate_foreground_ml(picture, alpha)
    theirs = time.perf_counter() - start
    made, ours = build_matte(plate.pixels, sky, 1), best(lambda: build_matte(plate.pixels, sky, 1), 3)
    for name, a, f, seconds in (
        ("PyMatting closed form, trimap given", alpha, fore * alpha[..., None], theirs),
        ("clear sky, nothing given", made.alpha, made.foreground, ours),
    ):
        mse, sad = ((a - plate.alpha) ** 2).mean(), np.abs(a - plate.alpha).sum() / 1000
        print(
            f"table  {name}: mse {mse:.2e}, SAD {sad:.2f} k, edge {edge_error(plate, a, f):.2f}, {seconds * 1e3:.0f} ms"
        )


def chain(folder: Path) -> None:
    """The basic chain at 1920×1080 against copying one float RGBA frame."""
    session = open_shot(folder / f"{NAME}.shot.json")
    with tempfile.TemporaryDirectory() as place:
        for frame in (1001, 1002):
            plate = cv2.resize(session.plate(1023 + frame - 1000), (1920, 1080), interpolation=cv2.INTER_CUBIC)
            write_still(Path(place) / f"hd.{frame}.exr", plate, "half", "zip")
        from zonal_mantle.api import new

        hd = new(Path(place) / "hd.1001.exr")
        sky = hd.add_painting(folder / "paintings" / "evening_sky.exr", 20000.0)
        old = Matte(pulls=(LUMA,), shapes=session.shot.mattes[0].shapes)
        scaled = []
        for shape in (old.shapes[0], old.shapes[2]):
            keys = tuple(
                key.but(frame=key.frame - 1023, points=tuple((x * 1.5, y * 1.5) for x, y in key.points))
                for key in shape.keys
            )
            scaled.append(shape.but(keys=keys))
        cdl = Cdl(slope=(Keyed(constant=1.1), Keyed(constant=1.0), Keyed(constant=0.9)), saturation=Keyed(constant=0.8))
        match = Match(tone=ToneMatch(cdl=cdl))
        hd.shot = hd.shot.with_zone_matte(hd.shot.zones[0], old.but(shapes=tuple(scaled)))
        placement = session.shot.zones[1].placement.but(rides=None, anchor=(960.0, 540.0))
        hd.shot = hd.shot.with_zone(sky.but(match=match, placement=placement))
        hd.frame(1001)
        frame_of_floats = np.random.default_rng(1).random((1080, 1920, 4), np.float32)
        target = np.empty_like(frame_of_floats)
        copy = best(lambda: np.copyto(target, frame_of_floats))
        tick = iter(range(10**6))

        def fresh(moving: bool = True) -> None:  # another threshold and other shapes each time: nothing is in a cache
            step, zone = next(tick) * 1e-6, hd.shot.zones[0]
            matte = hd.shot.matte_of(zone).with_pull(LUMA.but(high=Keyed(constant=0.66 + step)))
            if moving:
                keys = [
                    (shape, tuple(key.but(points=tuple((x + step, y) for x, y in key.points)) for key in shape.keys))
                    for shape in matte.shapes
                ]
                matte = matte.but(shapes=tuple(shape.but(keys=moved) for shape, moved in keys))
            compose(hd.shot.with_zone_matte(zone, matte), 1001, hd.store)

        full, still = best(fresh, 15), best(lambda: fresh(False), 15)
        kept = best(lambda: hd.frame(1001), 15)
        print(f"chain  1920×1080 luma, keep, drop, painting, CDL, air, over: {full * 1e3:.0f} ms = {full / copy:.1f} ×")
        print(f"       copying one float RGBA frame ({copy * 1e3:.1f} ms), shapes and pull made anew;")
        print(f"       shapes standing still {still * 1e3:.0f} ms; matte cached {kept * 1e3:.0f} ms")
    proxy(session, copy)


def proxy(session: Session, copy: float) -> None:
    """From a slider's move to the new picture at proxy size, as the viewer asks for it."""
    from zonal_mantle.comp import Look, view

    tick = iter(range(10**6))

    def move() -> None:
        zone = session.shot.zones[0]
        pull = LUMA.but(high=Keyed(constant=0.66 + 1e-6 * next(tick)))
        shot = session.shot.with_zone_matte(zone, session.shot.matte_of(zone).but(pulls=(pull,)))
        view(shot, 1024, "Composite", zone.id, session.store, 0.5, Look())

    session.frame(1024)
    taken = best(move)
    print(f"slider half-size proxy, edit to display codes: {taken * 1e3:.0f} ms = {taken / copy:.1f} × the copy")


def memory(folder: Path) -> None:
    """Peak memory of a render of all frames, and whether two runs are alike to the bit."""
    with tempfile.TemporaryDirectory() as place:
        outs = []
        for name in "ab":
            out = Path(place) / name
            command = [sys.executable, "-c", (
                "import sys; from pathlib import Path; from zonal_mantle.cli import main; main(sys.argv[1:]); "
                "print('peak', Path('/proc/self/status').read_text().split('VmHWM:')[1].split()[0])"
            ), "render", str(folder / f"{NAME}.shot.json"), "--out", str(out)]  # fmt: skip
            done = subprocess.run(command, capture_output=True, text=True, check=True, env={**os.environ})
            peak = int(done.stdout.split("peak")[1]) / 1024
            outs.append({p.name: p.read_bytes() for p in sorted(out.iterdir())})
        alike = "bit-identical" if outs[0] == outs[1] else "DIFFERENT"
        print(f"render {len(outs[0])} frames: peak {peak:.0f} MiB; two runs are {alike}")


def window(folder: Path) -> None:
    """Time from starting the process to the first picture of the demo on the screen, offscreen, warm."""
    script = (
        "import time, sys\n"
        "start = time.time()\n"
        "from pathlib import Path\n"
        "from PySide6.QtWidgets import QApplication\n"
        "from zonal_mantle.ui.theme import dress\n"
        "from zonal_mantle.ui.window import Window\n"
        "app = QApplication([])\ndress(app)\nwindow = Window()\nwindow.show()\n"
        "window.files.open_path(Path(sys.argv[1]))\n"
        "while not window.viewer.is_showing():\n    app.processEvents()\n    time.sleep(0.002)\n"
        "window.viewer.grab()\n"
        "print(time.time() - start)\n"
        "window.desk.file.saved = window.desk.shot\nwindow.close()\n"
    )
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    times = []
    for _ in range(3):
        done = subprocess.run(
            [sys.executable, "-c", script, str(folder / f"{NAME}.shot.json")],
            capture_output=True,
            text=True,
            env=environment,
        )
        times.append(float(done.stdout.split()[-1]))
    start = time.time()
    subprocess.run([sys.executable, "-c", "import numpy"], check=True)
    bare = time.time() - start
    ready = min(times[1:])
    print(f"window with its first picture: {ready:.2f} s warm = {ready / bare:.1f} × starting Python with NumPy")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", default="7,11,23")
    parser.add_argument("--folder", type=Path, default=FOLDER, help="where the shots are kept from run to run")
    options = parser.parse_args()
    mattes()  # first: they need no film
    sys.stdout.flush()
    folders = {int(seed): filmed(int(seed), options.folder) for seed in options.seeds.split(",")}
    for seed, folder in folders.items():
        locks(folder, seed)
        blind_locks(folder, seed)
        composite(folder, seed)
        demo_mattes(folder, seed)
        sys.stdout.flush()
    first = next(iter(folders.values()))
    chain(first)
    memory(first)
    window(first)
    print(f"this process peaked at {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MiB")


if __name__ == "__main__":
    main()
