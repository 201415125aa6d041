"""Memory over a long, large shot: 500 frames of 4096 × 2160 with matte, lock, base and render. Usage: floors.py

Prints what the process holds as it goes; nothing is asserted on time. The plate is eight frames of a photograph that
scikit-image ships, seen by a shifting camera, linked under 500 numbers.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
from skimage import data

from zonal_mantle.api import Session, new
from zonal_mantle.comp import solve_lock
from zonal_mantle.comp.base import make_base
from zonal_mantle.media.still import write_still
from zonal_mantle.render import RenderPlan, render
from zonal_mantle.shot import Keyed, Lock, LumaPull, Matte, Shape, rectangle_key

LIMIT_GIB = 4.0


def held_gib(peak: bool = False) -> float:
    """What the process holds now, or held at most."""
    name = "VmHWM:" if peak else "VmRSS:"
    return int(Path("/proc/self/status").read_text().split(name)[1].split()[0]) / (1 << 20)


def film(folder: Path, count: int, size: tuple[int, int]) -> Path:
    """The plate. Returns its first frame."""
    picture = cv2.resize(data.rocket()[:300].astype(np.float32) / 255, None, fx=8, fy=8, interpolation=cv2.INTER_CUBIC)
    picture = np.clip(np.tile(picture, (1, 2, 1)), 0, 1) ** 2.2
    for k in range(8):
        shift = round(20 * np.sin(k / 8 * 2 * np.pi)) + 40
        frame = cv2.resize(picture[shift : shift + 2160, shift : shift + 4096], size, interpolation=cv2.INTER_AREA)
        write_still(folder / f"own{k}.exr", frame.astype(np.float32), "half", "zip")
    for frame in range(count):
        os.link(folder / f"own{frame % 8}.exr", folder / f"plate.{1001 + frame}.exr")
    return folder / "plate.1001.exr"


def rendered(session: Session, folder: Path, told: Callable[[float, str], None], marks: list[float]) -> None:
    """Renders the shot with a painting behind a matte, and says how flat memory was."""
    session.add_painting(folder / "sky.exr", None, "Base")
    matte = Matte(id="m", name="M", pulls=(LumaPull(high=Keyed(constant=0.7)),))
    shot = session.shot.with_zone_matte(session.shot.zones[0], matte)
    began = len(marks)
    files = render(shot, RenderPlan(folder / "out"), told)
    late = marks[began + len(files) // 4 :]
    print(
        f"rendered {len(files)} frames: peak {held_gib(True):.2f} GiB of all (floor {LIMIT_GIB:.0f}); "
        f"in the last three quarters between {min(late):.2f} and {max(late):.2f} GiB"
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--frames", type=int, default=500)
    parser.add_argument("--size", default="4096x2160")
    parser.add_argument("--render-only", action="store_true", help="without solving a lock and stitching a base")
    options = parser.parse_args()
    width, _, height = options.size.partition("x")
    size = (int(width), int(height))
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        print(f"{options.frames} frames of {size[0]} × {size[1]}; at the start {held_gib():.2f} GiB", flush=True)
        session = new(film(folder, options.frames, size))
        marks: list[float] = []

        def watch(words: str):  # type: ignore[no-untyped-def]
            last = [time.monotonic()]

            def told(share: float, _: str) -> None:
                marks.append(held_gib())
                if time.monotonic() - last[0] > 20:
                    last[0] = time.monotonic()
                    print(f"  {words} {share:4.0%}: {marks[-1]:.2f} GiB", flush=True)

            return told

        box = rectangle_key(1001, (size[0] * 0.3, size[1] * 0.5), (size[0] * 0.6, size[1] * 0.9))
        lock = Lock(id="l", name="L", kind="plane", reference_frame=1001, motion="translation",
                    field=(Shape(id="f", keys=(box,)),))  # fmt: skip
        if options.render_only:
            write_still(folder / "sky.exr", session.plate(1001), "half", "zip")
            rendered(session, folder, watch("render"), marks)
            sys.exit(held_gib(True) > LIMIT_GIB)
        shot = solve_lock(session.shot.with_lock(lock), "l", session.store, "both", watch("lock"))
        print(f"lock solved on {len(shot.lock('l').solved)} frames: {held_gib():.2f} GiB", flush=True)
        base = make_base(shot, "l", session.store, progress=watch("base"))
        print(f"base of {base.base.size[0]} × {base.base.size[1]}: {held_gib():.2f} GiB", flush=True)
        write_still(folder / "sky.exr", base.pixels, "half", "zip")
        del base
        session.shot = shot
        rendered(session, folder, watch("render"), marks)
    sys.exit(held_gib(True) > LIMIT_GIB)


if __name__ == "__main__":
    main()
