"""Locks on plates of several shutters, grains and codecs: how far they are off, what they say of it, and what no
alignment could be better than. Photographs that ship with scikit-image and on which nothing was tuned before.

Usage: shutters.py [--seeds 31,32] [--photographs astronaut,rocket]. Printed, not asserted.
"""

from __future__ import annotations

import argparse
import io
import sys
from pathlib import Path

import av
import cv2
import numpy as np
from numpy.typing import NDArray

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from lock_plates import Plates, box_mask, corner_errors, flat_plates, least_error
from zonal_mantle.geometry import carry
from zonal_mantle.lock import LockError, propose_marks, solve_plane, solve_point
from zonal_mantle.shot import Lock, Mark

Array = NDArray[np.float32]
SIZE, BOX, COUNT = (1280, 720), (340, 210, 940, 510), 12
PHOTOGRAPHS = "astronaut,rocket,camera,immunohistochemistry,page,moon,grass"
CASES = [(0.0, 0.01, 0), (0.0, 0.03, 0), (0.5, 0.01, 0), (1.0, 0.01, 0), (0.5, 0.01, 28)]


def rms(values: list[float]) -> float:
    return float(np.sqrt(np.mean(np.square(values)))) if values else float("nan")


def through_h264(frames: list[Array], crf: int) -> list[Array]:
    """Frames as a codec leaves them: H.264, 4:2:0."""
    buffer = io.BytesIO()
    with av.open(buffer, "w", format="mp4") as out:
        stream = out.add_stream("libx264", 24)
        stream.width, stream.height, stream.pix_fmt, stream.options = *SIZE, "yuv420p", {"crf": str(crf)}
        for frame in frames:
            codes = np.repeat((frame * 255).round().astype(np.uint8)[..., None], 3, axis=2)
            out.mux(stream.encode(av.VideoFrame.from_ndarray(codes, "rgb24")))
        out.mux(stream.encode())
    buffer.seek(0)
    with av.open(buffer) as back:
        return [frame.to_ndarray(format="rgb24")[..., 1].astype(np.float32) / 255 for frame in back.decode(video=0)]


def plane(plates: Plates, frames: list[Array]) -> tuple[list[float], list[float], str]:
    """True errors and what is said of them by frame, px."""
    lock = Lock(id="a", name="Field", kind="plane", reference_frame=0)
    try:
        solved = solve_plane(lock, frames.__getitem__, box_mask(SIZE, BOX), lambda frame: None, range(len(frames)))
    except LockError as problem:
        return [], [], str(problem)
    moved = solved.solved[1:]
    off = [corner_errors(np.reshape(e.homography, (3, 3)), plates.truth[e.frame], BOX) for e in moved]
    return off, [e.residual_px for e in moved], " ".join(solved.lost)


def points(plates: Plates, frames: list[Array]) -> tuple[list[float], list[float], str]:
    """The same for the strongest corners, each a lock of its own."""
    off, told, refused = [], [], 0
    for x, y in propose_marks(frames[0], BOX, 8):
        lock = Lock(id="a", name="Mark", reference_frame=0, marks=(Mark(x=x, y=y),), motion="translation")
        try:
            solved = solve_point(lock, frames.__getitem__, range(len(frames)))
        except LockError:
            refused += 1
            continue
        for entry in solved.solved[1:]:
            if entry.marks[0] is not None:
                true = carry(plates.truth[entry.frame], np.array([[x, y]]))[0]
                off.append(float(np.hypot(*(np.array(entry.marks[0]) - true))))
                told.append(entry.residual_px)
    return off, told, f"{refused} marks refused" if refused else ""


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", default="31,32")
    parser.add_argument("--photographs", default=PHOTOGRAPHS)
    options = parser.parse_args()
    print("px: root mean square of the error, the worst, what is said; share of errors under twice that; the bound")
    for name in options.photographs.split(","):
        for seed in map(int, options.seeds.split(",")):
            for shutter, grain, crf in CASES:
                plates = flat_plates(name, seed, SIZE, COUNT, grain=grain, shutter=shutter)
                frames = through_h264(plates.frames, crf) if crf else plates.frames
                clean = flat_plates(name, seed, SIZE, 1, grain=0, shutter=0).frames[0]
                bound = least_error(cv2.GaussianBlur(clean, (0, 0), 0.6), BOX, grain)
                for kind, solve in (("plane", plane), ("point", points)):
                    off, told, words = solve(plates, frames)
                    held = np.mean([a < 2 * b for a, b in zip(off, told)]) if off else float("nan")
                    where = f"{name} {seed} {360 * shutter:.0f}° {grain:.0%}{f' crf {crf}' if crf else ''}"
                    line = f"{kind} {where:38s} {rms(off):.3f} {max(off, default=0):.3f}  said {rms(told):.3f}"
                    tail = f"  bound {bound:.3f}" if kind == "plane" else ""
                    print(f"{line}  under {held:.2f}{tail}  {words[:80]}", flush=True)


if __name__ == "__main__":
    main()
