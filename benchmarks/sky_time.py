"""How long an automatic sky matte takes at 1920×1080, once its shot is known. Usage: sky_time.py SET [--cases …]

SET is as for `real.py`; a frame of each case is enlarged, and grain of eight-bit plates is added anew. Copies are of a
float RGBA frame of that size, timed in the same run. Printed, not asserted.
"""

from __future__ import annotations

import argparse
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from real import FORMS, cases

from finish import milliseconds
from zonal_mantle.matte.sky_edge import second_look
from zonal_mantle.matte.sky_matte import find_sky, first_look
from zonal_mantle.matte.sky_region import learn_sky, working
from zonal_mantle.media.curves import srgb_decode
from zonal_mantle.shot import ClearSkyPull

SIZE, GRAIN = (1920, 1080), 0.006


def enlarged(case: Path) -> NDArray[np.float32]:
    """The first frame of a case, scene-linear, of SIZE."""
    codes = cv2.imread(str(case / FORMS["plate"]))[..., ::-1] / 255.0
    codes = cv2.resize(codes, SIZE, interpolation=cv2.INTER_CUBIC)
    codes += np.random.default_rng(1).normal(0, GRAIN, codes.shape)
    return np.ascontiguousarray(srgb_decode(np.round(255 * np.clip(codes, 0, 1)) / 255), np.float32)


def row(name: str, pixels: NDArray[np.float32]) -> str:
    """The time of each step in copies, and of all."""
    source = np.zeros((SIZE[1], SIZE[0], 4), np.float32)
    target = np.empty_like(source)
    pull, seen = ClearSkyPull(), working(pixels)
    model = learn_sky([seen])
    found = find_sky(seen, model)
    looked = first_look(pixels, pull, found)
    copy = milliseconds(lambda: np.copyto(target, source))
    each = [
        milliseconds(lambda: working(pixels)),
        milliseconds(lambda: find_sky(seen, model)),
        milliseconds(lambda: first_look(pixels, pull, found)),
        milliseconds(lambda: second_look(looked, pull.empty.at(0))),
    ]
    parts = " | ".join(f"{ms / copy:.1f}" for ms in each)
    return f"| {name} | {copy:.1f} | {parts} | {sum(each) / copy:.0f} |"


def main() -> None:
    arguments = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    arguments.add_argument("set", type=Path)
    arguments.add_argument("--cases", nargs="*")
    given = arguments.parse_args()
    print("| case | copy ms | judged picture | region | first look | second look | together, copies |")
    print("|---" * 7 + "|")
    for case in cases(given.set, given.cases):
        print(row(case.name, enlarged(case)), flush=True)


if __name__ == "__main__":
    main()
