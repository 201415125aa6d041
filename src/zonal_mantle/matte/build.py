"""A whole matte: pulls, levels, edge, shapes, clamp; and what stays, free of the old sky."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.curves import coded
from ..shot.matte import (
    ClearSkyPull,
    ColourPull,
    DifferencePull,
    Edge,
    Levels,
    LumaPull,
    Matte,
    Pull,
    ScreenPull,
)
from ..shot.shapes import Shape
from .clear_sky import clear_sky
from .colour import colour
from .difference import difference
from .edge import level, work_edge
from .errors import MatteError
from .luma import luma
from .old_sky import remove_old_sky
from .screen import despill, screen
from .shapes import standing, union
from .sky_fit import Sky, fit_sky
from .steady import steady

Array = NDArray[np.float32]
STEADY_FRAMES = (-2, -1, 1, 2)


@dataclass(frozen=True)
class Surroundings:
    """What a matte may ask for beside the frame it is made on.

    plate : the plate on another frame, at the same scale.
    lock : a lock's (3, 3) motion from its reference frame to a frame, in plate pixels.
    ride : what a riding shape takes of its lock, likewise.
    clean : a difference pull's clean plate on a frame, in place, (h, w, 3 or 4).
    frames : the shot's frames.
    reference : a lock's reference frame.
    """

    plate: Callable[[int], Array]
    lock: Callable[[str, int], NDArray]
    ride: Callable[[Shape, int], NDArray]
    clean: Callable[[DifferencePull, int], Array | None]
    frames: range
    reference: Callable[[str], int]


@dataclass
class Made:
    """A finished matte: alpha (h, w), what stays (h, w, 4) premultiplied where the old sky was taken out, and alpha
    after each step by name where that was asked for. `problem` says why a matte could not be made."""

    alpha: Array
    foreground: Array | None = None
    steps: dict[str, Array] = field(default_factory=dict)
    problem: str = ""


def build_matte(
    pixels: Array,
    matte: Matte,
    frame: int,
    scale: float = 1.0,
    around: Surroundings | None = None,
    with_steps: bool = False,
) -> Made:
    """Makes a matte.

    Parameters
    ----------
    pixels : (h, w, 3) float32, the scene-linear plate at `scale`.
    matte : without a pull it starts empty when it has keep shapes, else solid.
    around : needed by what rides on a lock, by clean plates and by steadying.

    Raises
    ------
    MatteError : a pull cannot be made as it is set up.
    """
    height, width = pixels.shape[:2]
    ride = around.ride if around is not None else None
    covers = {
        mode: tuple(standing(shape, frame, ride) for shape in matte.shapes if shape.on and shape.mode == mode)
        for mode in ("keep", "drop")
    }
    pulls = [pull for pull in matte.pulls if pull.on]
    removing = matte.removes_old_sky
    plain = matte.levels == Levels() and matte.edge == Edge()
    if len(pulls) == 1 and isinstance(pulls[0], LumaPull) and plain and not removing and not with_steps:
        both = tuple(union(covers[mode], (width, height), scale) for mode in covers) if any(covers.values()) else None
        return Made(luma(pixels, pulls[0], frame, both, matte.clamp))  # type: ignore[arg-type]
    made = Made(np.ones((height, width), np.float32))
    if pulls:
        alpha, sky = _pulled(pixels, pulls, frame, scale, around, made.steps if with_steps else None)
    else:
        alpha, sky = np.full((height, width), np.float32(0 if covers["keep"] else 1)), None
    alpha = level(alpha, matte.levels, frame)
    _note(made, with_steps, "levels", alpha)
    alpha = work_edge(alpha, matte.edge, frame, scale)
    if matte.edge.steady > 0 and around is not None:
        alpha = _steadied(pixels, alpha, matte, frame, scale, around)
    _note(made, with_steps, "edge", alpha)
    if covers["keep"]:
        alpha = alpha + (1 - alpha) * union(covers["keep"], (width, height), scale)
    if covers["drop"]:
        alpha = alpha * (1 - union(covers["drop"], (width, height), scale))
    _note(made, with_steps, "shapes", alpha)
    made.alpha = np.asarray(np.clip(alpha, 0, 1) if matte.clamp else alpha, np.float32)
    if removing:
        made.foreground = _cleared(pixels, made.alpha, matte, pulls, sky, frame, scale)
    return made


def _note(made: Made, wanted: bool, name: str, alpha: Array) -> None:
    if wanted:
        made.steps[name] = np.array(alpha)


def _pulled(
    pixels: Array,
    pulls: Sequence[Pull],
    frame: int,
    scale: float,
    around: Surroundings | None,
    steps: dict[str, Array] | None = None,
) -> tuple[Array, Array | None]:
    """All pulls joined in their order, and the sky behind where one of them knows it."""
    total: Array | None = None
    sky: Array | None = None
    for number, pull in enumerate(pulls, 1):
        alpha, behind = _one(pixels, pull, frame, scale, around)
        if pull.invert:
            alpha = 1 - alpha
        gain = pull.gain.at(frame)
        alpha = alpha if gain == 1 else alpha * np.float32(gain)
        sky = behind if behind is not None else sky
        if steps is not None:
            steps[f"{number} {getattr(pull, 'kind', 'pull')}"] = alpha
        if total is None:
            total = alpha
        elif pull.combine == "union":
            total = np.maximum(total, alpha)
        elif pull.combine == "intersection":
            total = np.minimum(total, alpha)
        else:
            total = total * (1 - np.clip(alpha, 0, 1))
    assert total is not None
    return np.asarray(total, np.float32), sky


def _one(
    pixels: Array, pull: Pull, frame: int, scale: float, around: Surroundings | None
) -> tuple[Array, Array | None]:
    if isinstance(pull, LumaPull):
        return luma(pixels, pull.but(invert=False, gain=type(pull.gain)(constant=1.0)), frame, clamp=False), None
    if isinstance(pull, ColourPull):
        return colour(pixels, pull, frame), None
    if isinstance(pull, ScreenPull):
        return screen(pixels, pull, frame, scale)
    if isinstance(pull, ClearSkyPull):
        return _sky_pull(pixels, pull, frame, scale, around)
    if isinstance(pull, DifferencePull):
        clean = around.clean(pull, frame) if around is not None else None
        if clean is None:
            raise MatteError("The difference pull has no clean plate yet. Choose one from the stock.")
        return difference(pixels, clean, pull, frame), np.ascontiguousarray(clean[..., :3])
    raise TypeError(type(pull))


def _sky_pull(
    pixels: Array, pull: ClearSkyPull, frame: int, scale: float, around: Surroundings | None
) -> tuple[Array, Array]:
    if pull.carried_by is None or around is None:
        return clear_sky(pixels, pull, frame, scale)
    reference = around.reference(pull.carried_by)
    first = fit_sky(around.plate(reference), pull, scale)
    gh, gw = first.surface.shape[:2]
    cells = np.diag([gw / pixels.shape[1] * scale, gh / pixels.shape[0] * scale, 1.0])
    half = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]])
    motion = np.linalg.inv(half) @ cells @ around.lock(pull.carried_by, frame) @ np.linalg.inv(cells) @ half
    carried = cv2.warpPerspective(first.surface, motion, (gw, gh), borderMode=cv2.BORDER_REPLICATE)
    own = Sky(np.ascontiguousarray(carried, np.float32), first.whitening, first.share)
    return clear_sky(pixels, pull, frame, scale, own)


def _steadied(pixels: Array, alpha: Array, matte: Matte, frame: int, scale: float, around: Surroundings) -> Array:
    """The neighbours' mattes are made without steadying and without shapes."""
    bare = matte.but(shapes=(), edge=matte.edge.but(steady=0.0), old_sky=matte.old_sky.but(on=False))
    lock = matte.edge.steady_lock
    grow = np.diag([scale, scale, 1.0])
    here = around.lock(lock, frame) if lock else np.eye(3)
    others = []
    for step in STEADY_FRAMES:
        if frame + step in around.frames:
            plate = around.plate(frame + step)
            there = around.lock(lock, frame + step) if lock else np.eye(3)
            motion = grow @ here @ np.linalg.inv(there) @ np.linalg.inv(grow)
            others.append((build_matte(plate, bare, frame + step, scale, around).alpha, feed_of(plate), motion))
    return steady(alpha, feed_of(pixels), others, matte.edge.steady)


def feed_of(pixels: Array) -> Array:
    """Coded brightness. (h, w) float32."""
    return np.asarray(coded(pixels) @ np.array((0.2126, 0.7152, 0.0722), np.float32), np.float32)


def _cleared(
    pixels: Array, alpha: Array, matte: Matte, pulls: Sequence[Pull], sky: Array | None, frame: int, scale: float
) -> Array:
    strength, tint = matte.old_sky.strength.at(frame), matte.old_sky.tint.at(frame)
    out = remove_old_sky(pixels, alpha, strength, tint, sky, scale)
    for pull in pulls:
        if isinstance(pull, ScreenPull) and pull.despill != "off":
            out[..., :3] = despill(out[..., :3], pull, frame)
    return out
