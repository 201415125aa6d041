"""The automatic sky matte beside general-purpose libraries with the same hints. Usage: peers.py SET [--cases …]

OpenCV's GrabCut (Rother, Kolmogorov & Blake 2004) and PyMatting's closed-form matting with multi-level foregrounds
(Levin, Lischinski & Weiss 2008; Germer et al. 2020) are given, for each plate's first frame, what the application finds
to be surely sky and surely ground; between them they decide. SET and columns are as for `real.py`.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from pymatting import estimate_alpha_cf, estimate_foreground_ml
from real import FORMS, cases, scores

from zonal_mantle.api import new
from zonal_mantle.comp.matte_planner import matte_plan
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.shot import ClearSkyPull, Matte

Array = NDArray[np.float64]
SURE, CLEAR = 0.95, 3  # chance, and working pixels that hints stay clear of the region's rim
SHOWN = ("edge", "floor", "kept", "lost", "sad", "mse", "grad")


def hints(chance: NDArray[np.float32], shape: tuple[int, int]) -> NDArray[np.uint8]:
    """0 surely sky, 255 surely ground, 128 between."""
    kernel = np.ones((2 * CLEAR + 1,) * 2, np.uint8)
    out = np.full(chance.shape, 128, np.uint8)
    out[cv2.erode((chance > SURE).astype(np.uint8), kernel) > 0] = 0
    out[cv2.erode((chance < 1 - SURE).astype(np.uint8), kernel) > 0] = 255
    return np.asarray(cv2.resize(out, shape[::-1], interpolation=cv2.INTER_NEAREST))


def by_grabcut(codes: Array, trimap: NDArray[np.uint8]) -> tuple[Array, Array]:
    """Alpha and premultiplied foreground, scene-linear."""
    mask = np.full(trimap.shape, cv2.GC_PR_FGD, np.uint8)
    mask[trimap == 0], mask[trimap == 255] = cv2.GC_BGD, cv2.GC_FGD
    eight = np.round(codes * 255).astype(np.uint8)
    cv2.grabCut(eight, mask, None, np.zeros((1, 65)), np.zeros((1, 65)), 5, cv2.GC_INIT_WITH_MASK)
    alpha = np.isin(mask, (cv2.GC_FGD, cv2.GC_PR_FGD)).astype(np.float64)
    return alpha, srgb_decode(codes) * alpha[..., None]


def by_closed_form(codes: Array, trimap: NDArray[np.uint8]) -> tuple[Array, Array]:
    """Alpha and premultiplied foreground, scene-linear."""
    alpha = np.clip(estimate_alpha_cf(codes, trimap / 255.0), 0, 1)
    return alpha, srgb_decode(np.clip(estimate_foreground_ml(codes, alpha), 0, 1)) * alpha[..., None]


def main() -> None:
    arguments = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    arguments.add_argument("set", type=Path)
    arguments.add_argument("--cases", nargs="*")
    given = arguments.parse_args()
    print("| case | by | " + " | ".join(SHOWN) + " | seconds |\n|---|---|" + "---|" * (len(SHOWN) + 1), flush=True)
    methods: dict[str, Callable[[Array, NDArray[np.uint8]], tuple[Array, Array]]] = {
        "GrabCut": by_grabcut,
        "closed form": by_closed_form,
    }
    for case in cases(given.set, given.cases):
        session = new(case / FORMS["plate"])
        matte = Matte(id="m", name="M", pulls=(ClearSkyPull(),))
        session.shot = session.shot.with_zone_matte(session.shot.zones[0], matte)
        frame = session.shot.first
        plan = matte_plan(session.shot, matte, frame)
        assert plan.regions[0] is not None
        chance = session.store.sky_of(plan.picture, plan.regions[0]).chance
        plate = np.clip(session.plate(frame).astype(np.float64), 0, None)
        codes = np.clip(srgb_encode(plate), 0, 1)
        since = time.perf_counter()
        cut = session.cutout("zone1", frame)
        results = {"ours": (cut.alpha, cut.foreground, time.perf_counter() - since)}
        trimap = hints(chance, codes.shape[:2])
        for name, method in methods.items():
            since = time.perf_counter()
            alpha, foreground = method(codes, trimap)
            results[name] = (alpha, foreground, time.perf_counter() - since)
        for name, (alpha, foreground, seconds) in results.items():
            row = scores(case, 1001, alpha, foreground, cv2.resize(alpha, None, fx=0.5, fy=0.5), plate)
            numbers = " | ".join(f"{row[each]:.2f}" for each in SHOWN)
            print(f"| {case.name} | {name} | {numbers} | {seconds:.1f} |", flush=True)


if __name__ == "__main__":
    main()
