"""What a finish is set by: the plate's own falloff, the least push in that hides a border, colours over the shot."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..finish.errors import FinishError
from ..finish.frame import largest_frame
from ..finish.vignette import Falloff, falloff_of
from ..geometry import carry
from ..match.compare import delta_e_2000, lab
from ..place.transform import reference_to_frame
from ..shot import Patch, Reframe, Shot
from ..words import say
from .aim import corners_of
from .finish_planner import crop_of, finished_plan, plate_aspect
from .matte_planner import proxy_size
from .pictures import Pictures
from .stack import compose, compose_plan

Progress = Callable[[float, str], None]
FALLOFF_FRAMES, FALLOFF_STEP = 9, 12
BLUR_PX = 3.0
DARKEST, BRIGHTEST = 0.01, 0.85  # scene-linear luma that the falloff is told from
FLAT = 0.06  # of log₂ light a pixel: steeper places would tell the lock's error
BORDER_PX = 480  # of the picture's width, on which an empty border is looked for
SOLID = 0.995
PATCH_SCALE = 0.5


def _quiet(share: float, words: str) -> None:
    pass


def plate_falloff(shot: Shot, pictures: Pictures, progress: Progress = _quiet) -> Falloff:
    """How much the plate's own corners fall off against its middle, in stops.

    Raises
    ------
    FinishError : no lock, or it moves too little for one thing to be seen in the middle and at the rim.
    """
    source = shot.plate_source
    locks = [lock for lock in shot.locks if lock.holds]
    if source is None or not locks:
        raise FinishError(
            say("The plate's own vignette is told by a lock: solve one on something that crosses the frame.")
        )
    best: Falloff | None = None
    for number, lock in enumerate(locks):
        frames = [frame for frame in shot.work_frames if lock.at(frame) is not None]
        count = min(FALLOFF_FRAMES, len(frames))
        picks = [frames[round(k * (len(frames) - 1) / max(count - 1, 1))] for k in range(count)]
        lights = {}
        for k, frame in enumerate(picks):
            progress((number + k / max(count, 1)) / len(locks), say("Looking at frame {frame}", frame=frame))
            lights[frame] = _log_light(pictures.plate(source, frame))
        found = _falloff_by(shot, lock.id, lights)
        if found is not None and (best is None or found.give < best.give):
            best = found
    if best is None:
        raise FinishError(
            say(
                "The plate's own vignette cannot be told: no lock moves far enough for one thing to be seen both "
                "in the middle and near the rim."
            )
        )
    return best


def _log_light(picture: NDArray) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:
    """log₂ of light, smoothed, and where it may be looked at."""
    luma = picture @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    smooth = cv2.GaussianBlur(luma, (0, 0), BLUR_PX)
    good = (cv2.erode(luma, np.ones((9, 9))) > DARKEST) & (cv2.dilate(luma, np.ones((9, 9))) < BRIGHTEST)
    logs = np.log2(np.maximum(smooth, 1e-4))
    steep = np.hypot(cv2.Sobel(logs, cv2.CV_32F, 1, 0, scale=1 / 8), cv2.Sobel(logs, cv2.CV_32F, 0, 1, scale=1 / 8))
    return logs.astype(np.float32), np.asarray(good & (steep < FLAT))


def _falloff_by(shot: Shot, lock: str, lights: dict[int, tuple[NDArray, NDArray]]) -> Falloff | None:
    width, height = shot.size
    aspect = plate_aspect(shot)
    half = 0.5 * np.hypot(width * aspect, height)
    gx, gy = np.meshgrid(np.arange(8, width - 8, FALLOFF_STEP), np.arange(8, height - 8, FALLOFF_STEP))
    places = np.stack([gx.ravel() + 0.5, gy.ravel() + 0.5], axis=1).astype(float)

    def far(at: NDArray) -> NDArray:
        return np.asarray((((at[:, 0] - width / 2) * aspect) ** 2 + (at[:, 1] - height / 2) ** 2) / half**2)

    def values(frame: int, at: NDArray) -> tuple[NDArray, NDArray]:
        logs, good = lights[frame]
        spot = (at - 0.5).astype(np.float32)
        light = cv2.remap(logs, spot[:, 0], spot[:, 1], cv2.INTER_LINEAR, borderValue=np.nan).ravel()
        fine = cv2.remap(good.astype(np.uint8), spot[:, 0], spot[:, 1], cv2.INTER_NEAREST, borderValue=0).ravel()
        return light, fine > 0

    rows: list[tuple[NDArray, NDArray, NDArray, NDArray]] = []
    frames = list(lights)
    for j, a in enumerate(frames):
        to_a = reference_to_frame(shot, lock, a)
        for k in range(j + 1, len(frames)):
            motion = reference_to_frame(shot, lock, frames[k]) @ np.linalg.inv(to_a)
            there = carry(motion, places)
            inside = (there > 8).all(axis=1) & (there[:, 0] < width - 8) & (there[:, 1] < height - 8)
            here, there = places[inside], there[inside]
            if len(here) < 50:
                continue
            (la, ga), (lb, gb) = values(a, here), values(frames[k], there)
            good = ga & gb & np.isfinite(la) & np.isfinite(lb)
            rows.append((far(there[good]), far(here[good]), (lb - la)[good], np.full(int(good.sum()), len(rows))))
    if not rows:
        return None
    there, here, change, group = (np.concatenate(parts) for parts in zip(*rows))
    return falloff_of(there, here, change, group)


def hide_border(shot: Shot, pictures: Pictures, progress: Progress = _quiet) -> Reframe:
    """The least push in that hides every place of the frame that stays empty on some frame.

    Raises
    ------
    FinishError : nothing of the frame is filled on all frames.
    """
    frames, scale = list(shot.work_frames), min(1.0, BORDER_PX / shot.size[0])
    least: NDArray | None = None
    for done, frame in enumerate(frames):
        progress(done / len(frames), say("Looking at frame {frame}", frame=frame))
        alpha = compose(shot, frame, pictures, scale)[..., 3]
        least = alpha.copy() if least is None else np.minimum(least, alpha)
    assert least is not None
    solid = cv2.erode((least > SOLID).astype(np.uint8), np.ones((3, 3), np.uint8), borderValue=1) > 0
    x0, y0, x1, y1 = crop_of(shot)
    inside = np.zeros_like(solid)
    fx, fy = solid.shape[1] / shot.size[0], solid.shape[0] / shot.size[1]
    rows = slice(int(np.floor(y0 * fy)), int(np.ceil(y1 * fy)))
    columns = slice(int(np.floor(x0 * fx)), int(np.ceil(x1 * fx)))
    inside[rows, columns] = solid[rows, columns]
    if inside[rows, columns].all():
        return Reframe(on=False)
    found = largest_frame(inside, (x1 - x0) * fx / ((y1 - y0) * fy))
    if found is None or found[2] * shot.size[1] < (y1 - y0) / 20:
        raise FinishError(
            say(
                "No part of the frame is filled on all frames, so no push in hides the border. Cover it in Place first."
            )
        )
    cx, cy, tall = found[0] * shot.size[0], found[1] * shot.size[1], found[2] * shot.size[1]
    plain = {"size": (y1 - y0) / tall, "x": cx - (x0 + x1) / 2, "y": cy - (y0 + y1) / 2}
    return Reframe(on=True, **{name: {"constant": float(value)} for name, value in plain.items()})  # type: ignore[arg-type]


@dataclass(frozen=True)
class PatchCurve:
    """A patch over the shot: CIEDE2000 of its mean colour from what it is on its own frame; None where it is out of the
    picture."""

    patch: str
    frames: tuple[int, ...]
    delta_e: tuple[float | None, ...]

    @property
    def worst(self) -> float:
        """The largest of them."""
        return max((value for value in self.delta_e if value is not None), default=0.0)


def patch_curves(
    shot: Shot, patches: Sequence[Patch], pictures: Pictures, progress: Progress = _quiet
) -> list[PatchCurve]:
    """Patches of the finished picture followed over the frames that are worked on."""
    frames = list(shot.work_frames)
    wanted = sorted({*frames, *(patch.frame for patch in patches if patch.frame in shot.frames)})
    colours: dict[tuple[str, int], NDArray | None] = {}
    for done, frame in enumerate(wanted):
        progress(done / len(wanted), say("Looking at frame {frame}", frame=frame))
        picture = compose_plan(finished_plan(shot, frame, PATCH_SCALE, leaves=False), pictures)
        for patch in patches:
            colours[patch.id, frame] = _mean_colour(shot, patch, frame, picture)
    out = []
    for patch in patches:
        own = colours.get((patch.id, patch.frame))
        row = [_apart(colours[patch.id, frame], own) for frame in frames]
        out.append(PatchCurve(patch.id, tuple(frames), tuple(row)))
    return out


def _mean_colour(shot: Shot, patch: Patch, frame: int, picture: NDArray) -> NDArray | None:
    corners = corners_of(shot, patch.box, patch.frame, patch.rides, frame)
    size = proxy_size(shot.size, PATCH_SCALE)
    scaled = corners * (size[0] / shot.size[0], size[1] / shot.size[1])
    low, high = scaled.min(axis=0), scaled.max(axis=0)
    if (low < -0.5).any() or high[0] > size[0] + 0.5 or high[1] > size[1] + 0.5:
        return None
    mask = np.zeros((size[1], size[0]), np.uint8)
    cv2.fillConvexPoly(mask, np.round(scaled * 16 - 8).astype(np.int32), 1, shift=4)
    inside = picture[mask > 0]
    return None if len(inside) == 0 else np.asarray(inside[:, :3].mean(axis=0))


def _apart(colour: NDArray | None, own: NDArray | None) -> float | None:
    if colour is None or own is None:
        return None
    return float(delta_e_2000(lab(colour[None]), lab(own[None]))[0])
