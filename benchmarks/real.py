"""The automatic sky matte on plates of photographs with truth. Usage: real.py SET [--frames N] [--cases …] [--forms …]

SET holds a folder a case: `plate.####.png`, the same `plate_noisy`, `plate_jpeg.####.jpg` and `plate_crf28.mp4`, truth
as `alpha`, and `sky`, `new`, `want` for what the old sky, the new sky and the wanted composite are. Nothing is set by
hand.

edge: rms over the 9-px band round what is partly covered, display codes of 255, of the composite over the new sky;
floor: the same with the true alpha. kept: open sky that stays (alpha over 0.1), lost: solid ground that goes (under
0.9), scales: pixels on which half size differs by more than 0.5, wrong: pixels off by more than 0.5, likely: as many as
are likely wrong by the reading, doubt: pixels in doubt, told: of the wrong ones, those in doubt, each in per cent.
chatter: rms change of alpha's error from frame to frame. SAD, MSE and gradient error by Rhemann et al. 2009, in the
band.
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from zonal_mantle.api import new
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.shot import ClearSkyPull, Matte

FORMS = {
    "plate": "plate.1001.png", "noisy": "plate_noisy.1001.png", "jpeg": "plate_jpeg.1001.jpg",
    "h264": "plate_crf28.mp4",
}  # fmt: skip
COLUMNS = (
    "edge", "floor", "kept", "sky_alpha", "lost", "scales", "wrong", "likely", "doubt", "told", "sad", "mse", "grad",
)  # fmt: skip
Array = NDArray[np.float64]


def scores(case: Path, number: int, alpha: Array, foreground: Array, half: Array, plate: Array) -> dict[str, float]:
    """One frame's figures; `plate` is scene-linear, as the application was given it."""

    def read(kind: str) -> Array:
        picture = cv2.imread(str(case / f"{kind}.{number}.png"), cv2.IMREAD_UNCHANGED)
        return picture / 65535.0 if picture.ndim == 2 else picture[..., ::-1] / 255.0

    truth, sky, fresh, want = (read(kind) for kind in ("alpha", "sky", "new", "want"))
    band = cv2.dilate(((truth > 0.004) & (truth < 0.996)).astype(np.uint8), np.ones((9, 9))) > 0
    empty, solid = (truth < 0.002) & ~band, (truth > 0.998) & ~band

    def rms(stays: Array, share: Array) -> float:
        made = srgb_encode(np.clip(stays + srgb_decode(fresh) * (1 - share[..., None]), 0, 1))
        return 255 * float(np.sqrt(((made - want)[band] ** 2).mean()))

    true = np.clip(plate - (1 - truth[..., None]) * srgb_decode(sky), 0, 1)
    off = alpha - truth
    slopes = [np.hypot(*np.gradient(cv2.GaussianBlur(each, (0, 0), 1.4))) for each in (alpha, truth)]
    larger = cv2.resize(half, truth.shape[::-1], interpolation=cv2.INTER_LINEAR)
    return {
        "edge": rms(foreground, alpha),
        "floor": rms(true, truth),
        "kept": 100 * float((alpha[empty] > 0.1).mean()),
        "sky_alpha": float(alpha[empty].mean()),
        "lost": 100 * float((alpha[solid] < 0.9).mean()),
        "scales": 100 * float((np.abs(larger - alpha) > 0.5).mean()),
        "wrong": 100 * float((np.abs(off) > 0.5).mean()),
        "sad": float(np.abs(off[band]).sum()) / 1000,
        "mse": 1000 * float((off[band] ** 2).mean()),
        "grad": float(((slopes[0] - slopes[1])[band] ** 2).sum()) / 1000,
    }


def measured(case: Path, form: str, frames: int) -> tuple[dict[str, float], float]:
    """A case's mean figures over frames, and its chatter."""
    session = new(case / FORMS[form])
    session.shot = session.shot.with_zone_matte(session.shot.zones[0], Matte(id="m", name="M", pulls=(ClearSkyPull(),)))
    rows, errors = [], []
    for k, frame in enumerate(list(session.shot.frames)[:frames]):
        cut, half = session.cutout("zone1", frame), session.cutout("zone1", frame, 0.5)
        truth = cv2.imread(str(case / f"alpha.{1001 + k}.png"), cv2.IMREAD_UNCHANGED) / 65535.0
        plate = np.clip(session.plate(frame), 0, None)
        row = scores(case, 1001 + k, cut.alpha, cut.foreground, half.alpha, plate)
        wrong, doubted = np.abs(cut.alpha - truth) > 0.5, cut.doubt > 0.5
        row["doubt"], row["likely"] = 100 * float(doubted.mean()), 100 * cut.likely_wrong
        row["told"] = 100 * float((doubted & wrong).sum() / max(wrong.sum(), 1))
        rows.append(row)
        errors.append(cut.alpha - truth)
    chatter = float(np.sqrt(np.square(np.diff(np.stack(errors), axis=0)).mean())) if len(errors) > 1 else np.nan
    return {name: float(np.mean([row[name] for row in rows])) for name in COLUMNS}, chatter


def cases(folder: Path, names: list[str] | None) -> Iterator[Path]:
    """The set's cases, by name."""
    for path in sorted(folder.iterdir()):
        if (path / FORMS["plate"]).exists() and (not names or path.name in names):
            yield path


def main() -> None:
    arguments = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    arguments.add_argument("set", type=Path)
    arguments.add_argument("--frames", type=int, default=12)
    arguments.add_argument("--cases", nargs="*")
    arguments.add_argument("--forms", nargs="*", default=list(FORMS), choices=list(FORMS))
    given = arguments.parse_args()
    print("| case | form | edge − floor | " + " | ".join(COLUMNS) + " | chatter |", flush=True)
    print("|---" * (len(COLUMNS) + 4) + "|")
    over: dict[str, list[float]] = {}
    for case in cases(given.set, given.cases):
        for form in given.forms:
            row, chatter = measured(case, form, given.frames)
            over.setdefault(form, []).append(row["edge"] - row["floor"])
            numbers = " | ".join(f"{row[name]:.3f}" if name == "sky_alpha" else f"{row[name]:.2f}" for name in COLUMNS)
            print(f"| {case.name} | {form} | {over[form][-1]:+.2f} | {numbers} | {chatter:.3f} |", flush=True)
    for form, values in over.items():
        print(f"{form}: edge over floor, median {np.median(values):.2f}, worst {max(values):.2f}")


if __name__ == "__main__":
    main()
