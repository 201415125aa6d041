"""What can be wrong with a finish: a LUT that cannot be used, a crop beside the plate, a frame with an empty border."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..finish.errors import FinishError
from ..finish.lut import lut_processor
from ..media import colour
from ..media.errors import MediaError
from ..media.stamps import stamp_of
from ..paths import on_disk
from ..shot import Shot
from ..words import say
from .finish_planner import crop_of, leaving_of, output_size, plate_aspect
from .finisher import leave
from .matte_planner import proxy_size
from .pictures import Pictures
from .stack import compose, finish_frame

FRAMES = 5  # of the work range, that the border is looked for on
SCALE = 0.25
EMPTY_ACCEPTED = 0.001
LARGEST_HALF = 65504.0  # IEEE 754 binary16


@dataclass(frozen=True)
class FinishReading:
    """The frame as it leaves: width and height, the width of its pixels against their height; and what is wrong:
    frame, words."""

    size: tuple[int, int]
    pixel_aspect: float
    troubles: tuple[tuple[int, str], ...] = ()


def read_finish(shot: Shot, pictures: Pictures) -> FinishReading:
    """What a finish comes to, and what is wrong with it."""
    finish = shot.finish
    own = finish.output.pixel_aspect or plate_aspect(shot)
    troubles: list[tuple[int, str]] = []
    if finish.on:
        troubles += [(shot.first, words) for words in (lut_trouble(shot), crop_trouble(shot)) if words]
        border = _border(shot, pictures)
        if border is not None:
            frame, share = border
            words = say(
                "{share:.1%} of the frame stays empty at its border. Press Hide border under Frame.", share=share
            )
            troubles.append((frame, words))
    troubles += _beyond_half(shot, pictures)
    return FinishReading(output_size(shot), own, tuple(troubles))


def lut_trouble(shot: Shot) -> str:
    """Why the LUT of the finish cannot be used, or nothing."""
    lut = shot.finish.lut
    if not (shot.finish.on and lut.on and lut.path):
        return ""
    try:
        lut_processor(on_disk(lut.path), stamp_of(on_disk(lut.path)))
        colour.space_of(lut.encoding)
    except (FinishError, MediaError) as problem:
        return str(problem)
    return ""


def crop_trouble(shot: Shot) -> str:
    """What is done instead of a crop that does not lie in the plate, or nothing."""
    crop = shot.finish.output.crop
    if crop is None or crop == crop_of(shot):
        return ""
    if crop_of(shot) == (0.0, 0.0, float(shot.size[0]), float(shot.size[1])):
        return say("The crop lies outside of the plate: all of the plate is delivered. Draw it again.")
    return say("The crop reaches beyond the plate: only what lies within is delivered.")


def _picks(shot: Shot) -> list[int]:
    """The frames that are looked at, evenly over the work range."""
    frames = shot.work_frames
    return sorted({frames[round(k * (len(frames) - 1) / (FRAMES - 1))] for k in range(FRAMES)})


def _beyond_half(shot: Shot, pictures: Pictures) -> list[tuple[int, str]]:
    """The first frame of those looked at with more light than a half holds."""
    for frame in _picks(shot):
        try:
            most = float(np.abs(finish_frame(shot, frame, pictures, SCALE)[..., :3]).max())
        except FinishError:  # a finding of its own
            return []
        if most > LARGEST_HALF:
            words = say("Its brightest value, {most:.3g}, is more than EXR of half floats holds", most=most)
            return [
                (
                    frame,
                    say(
                        "{words}: it is written as {largest_half:,.0f}. Render EXR of float for all of it.",
                        words=words,
                        largest_half=LARGEST_HALF,
                    ),
                )
            ]
    return []


def _border(shot: Shot, pictures: Pictures) -> tuple[int, float] | None:
    """The frame on which most of what leaves is empty, and how much."""
    if len(shot.zones) < 2:
        return None
    worst: tuple[int, float] | None = None
    for frame in _picks(shot):
        rgba = compose(shot, frame, pictures, SCALE)
        leaving = leaving_of(shot.but(finish=shot.finish.but(burn_in=shot.finish.burn_in.but(on=False))), frame, SCALE)
        empty = np.zeros_like(rgba)
        empty[..., 0] = rgba[..., 3] < 0.5
        if shot.finish.reframe.on:
            width, height = proxy_size(shot.size, SCALE)
            x0, y0, x1, y1 = (0, 0, width, height) if leaving is None else leaving.window
            ys, xs = np.mgrid[y0 : max(y1, y0 + 1) : 64j, x0 : max(x1, x0 + 1) : 64j]  # type: ignore[misc]
            inside = (xs >= 0) & (ys >= 0) & (xs < width) & (ys < height)
            at = empty[np.clip(ys, 0, height - 1).astype(int), np.clip(xs, 0, width - 1).astype(int), 0]
            share = float(np.where(inside, at, 1.0).mean())
        else:
            share = float((empty if leaving is None else leave(empty, leaving))[..., 0].mean())
        if share > EMPTY_ACCEPTED and (worst is None or share > worst[1]):
            worst = (frame, share)
    return worst
