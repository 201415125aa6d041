"""A whole matte: pulls, levels, edge, shapes, clamp; and what stays, free of the old sky."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import between_centres
from ..media.curves import coded
from ..shot.matte import (
    ClearSkyPull,
    ColourPull,
    DifferencePull,
    LumaPull,
    Matte,
    Pull,
    ScreenPull,
)
from ..shot.settled import Settled
from ..words import say
from .clear_sky import clear_sky
from .colour import colour
from .difference import difference
from .doubt import MOSTLY_WRONG, doubt_of
from .edge import changes_levels, level, work_edge, works_edge
from .errors import MatteError
from .luma import luma
from .old_sky import remove_old_sky
from .screen import despill, screen
from .shapes import Standing, standing, union
from .sky_fault import likely_wrong, mostly_wrong
from .sky_fit import Sky, fit_sky
from .sky_matte import SkyCut, SkyFound, find_sky, sky_matte
from .sky_region import working
from .steady import steady

Array = NDArray[np.float32]
STEADY_FRAMES = (-2, -1, 1, 2)
WHOLE = 0.95  # of what goes: then it is in doubt as a whole


@dataclass(frozen=True)
class Surroundings:
    """What a matte asks for beside the picture it is made on.

    keep, drop : its shapes as they stand.
    clean : for the pull at a place, its clean plate laid in place, (h, w, 3 or 4); None without one.
    first_sky : for the pull at a place, the picture (h, w, 3) that its sky is fitted on and the (3, 3) motion from
        there in plate pixels; None where the sky is the picture's own.
    neighbours : mattes of the frames beside, without steadying and shapes, with their feeds and the (3, 3) motions from
        there in the picture's pixels.
    cut_sky : for the pull at a place, where the sky is on the whole picture, and the cut; None where both are found on
        the pixels at hand.
    """

    keep: tuple[Standing, ...] = ()
    drop: tuple[Standing, ...] = ()
    clean: Callable[[int], Array | None] = lambda place: None
    first_sky: Callable[[int], tuple[Array, NDArray] | None] = lambda place: None
    neighbours: Callable[[], Sequence[tuple[Array, Array, NDArray]]] = tuple
    cut_sky: Callable[[int], tuple[SkyFound, SkyCut] | None] = lambda place: None


@dataclass
class Made:
    """A finished matte: alpha (h, w), what stays (h, w, 4) premultiplied where the old sky was taken out, and alpha
    after each step by name where that was asked for. `problem` says why a matte could not be made. `skies` are those
    that its pulls found, and whether the pull was inverted; `drawn` (h, w) is where shapes decide instead."""

    alpha: Array
    foreground: Array | None = None
    steps: dict[str, Array] = field(default_factory=dict)
    problem: str = ""
    skies: tuple[tuple[SkyFound, bool], ...] = ()
    drawn: Array | None = None

    def doubt(self, pixels: Array) -> Array | None:
        """How doubtful it is whether a pixel stays, (h, w), 0…1, on the pixels that the matte was made of; None where
        no pull tells."""
        return self.judged(pixels)[0]

    def judged(self, pixels: Array) -> tuple[Array | None, float]:
        """The doubt, and the share of the frame on which the matte is likely off by more than a half."""

        def of(found: SkyFound, inverted: bool) -> tuple[Array, float]:
            alpha = np.clip(1 - self.alpha, 0, 1) if inverted else self.alpha
            if self.drawn is not None:  # as it would be without a hand: what lies beside is judged by it too
                ground = cv2.resize(1 - found.chance, alpha.shape[::-1], interpolation=cv2.INTER_LINEAR)
                alpha = alpha + self.drawn * (ground - alpha)
            wrong = likely_wrong(pixels, alpha, found)
            for by_hand in (found.said, self.drawn):
                if by_hand is not None:
                    wrong *= 1 - np.abs(cv2.resize(by_hand, wrong.shape[::-1], interpolation=cv2.INTER_AREA))
            mostly = 0.0 if found.model.shown else mostly_wrong(wrong, alpha)
            doubt = doubt_of(found.chance, pixels, alpha, found.said, wrong, mostly)
            share = float(wrong.mean())
            if mostly > MOSTLY_WRONG:
                share = max(share, mostly * float((alpha < 0.5).mean()))
            return doubt if self.drawn is None else doubt * (1 - self.drawn), share

        each = [of(*sky) for sky in self.skies]
        if not each:
            return None, 0.0
        return np.max([doubt for doubt, _ in each], axis=0), max(share for _, share in each)

    def is_doubted(self, doubt: Array) -> bool:
        """Whether, by its doubt (h, w), what goes is doubted as a whole: there may be no sky at all."""
        goes = self.alpha < 0.5
        if any(inverted for _, inverted in self.skies):
            return False
        return bool(np.count_nonzero(doubt[goes] > 0.5) > WHOLE * np.count_nonzero(goes))


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
    around : what it asks for beside; by default the matte's own shapes as they stand on the frame without locks.

    Raises
    ------
    MatteError : a pull cannot be made as it is set up.
    """
    height, width = pixels.shape[:2]
    around = _alone(matte, frame) if around is None else around
    keep, drop = around.keep, around.drop
    pulls = [(place, pull) for place, pull in enumerate(matte.pulls) if pull.on]
    removing = matte.removes_old_sky
    made_whole = removing or matte.over_black
    plain = not changes_levels(matte.levels, frame) and not works_edge(matte.edge, frame)
    if len(pulls) == 1 and isinstance(pulls[0][1], LumaPull) and plain and not made_whole and not with_steps:
        both = tuple(union(each, (width, height), scale) for each in (keep, drop)) if keep or drop else None
        return Made(luma(pixels, pulls[0][1], frame, both, matte.clamp))  # type: ignore[arg-type]
    made = Made(np.ones((height, width), np.float32))
    if pulls:
        alpha, sky = _pulled(pixels, pulls, frame, scale, around, made, with_steps)
    else:
        alpha, sky = np.full((height, width), np.float32(0 if keep else 1)), None
    alpha = level(alpha, matte.levels, frame)
    _note(made, with_steps, "levels", alpha)
    if works_edge(matte.edge, frame):  # what lies beyond empty and solid would spread
        alpha = work_edge(np.clip(alpha, 0, 1), matte.edge, frame, scale)
    if matte.edge.steady > 0 and (beside := around.neighbours()):
        alpha = steady(alpha, feed_of(pixels), beside, matte.edge.steady)
    _note(made, with_steps, "edge", alpha)
    if keep:
        alpha = alpha + (1 - alpha) * union(keep, (width, height), scale)
    if drop:
        alpha = alpha * (1 - union(drop, (width, height), scale))
    if made.skies and (keep or drop):
        made.drawn = np.asarray(np.clip(union((*keep, *drop), (width, height), scale), 0, 1), np.float32)
    _note(made, with_steps, "shapes", alpha)
    made.alpha = np.asarray(np.clip(alpha, 0, 1) if matte.clamp else alpha, np.float32)
    if matte.over_black:
        made.foreground = np.dstack([pixels, np.clip(made.alpha, 0, 1)])
    elif removing:
        made.foreground = _cleared(pixels, made.alpha, matte, [pull for _, pull in pulls], sky, frame, scale)
    return made


def _alone(matte: Matte, frame: int) -> Surroundings:
    shapes = [shape for shape in matte.shapes if shape.on]
    keep, drop = (tuple(standing(s, frame) for s in shapes if s.mode == mode) for mode in ("keep", "drop"))
    return Surroundings(keep, drop)


def _note(made: Made, wanted: bool, name: str, alpha: Array) -> None:
    if wanted:
        made.steps[name] = np.array(alpha)


def _pulled(
    pixels: Array,
    pulls: Sequence[tuple[int, Pull]],
    frame: int,
    scale: float,
    around: Surroundings,
    made: Made,
    with_steps: bool,
) -> tuple[Array, Array | None]:
    """All pulls joined in their order, and the sky behind where one of them knows it."""
    total: Array | None = None
    sky: Array | None = None
    for number, (place, pull) in enumerate(pulls, 1):
        if isinstance(pull, ClearSkyPull) and pull.finds == "region":
            found, cut = around.cut_sky(place) or _alone_cut(pixels, pull, frame, scale)
            alpha: Array = cut.alpha
            behind: Array | None = cut.sky
            made.skies = (*made.skies, (found, pull.invert))
        else:
            alpha, behind = _one(pixels, pull, place, frame, scale, around)
        if pull.invert:
            alpha = 1 - alpha
        gain = pull.gain.at(frame)
        alpha = alpha if gain == 1 else alpha * np.float32(gain)
        sky = behind if behind is not None else sky
        if with_steps:
            made.steps[f"{number} {getattr(pull, 'kind', 'pull')}"] = alpha
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


def _alone_cut(pixels: Array, pull: ClearSkyPull, frame: int, scale: float) -> tuple[SkyFound, SkyCut]:
    found = find_sky(working(pixels))
    return found, sky_matte(pixels, pull, found, frame, scale)


def _one(
    pixels: Array, pull: Pull, place: int, frame: int, scale: float, around: Surroundings
) -> tuple[Array, Array | None]:
    if isinstance(pull, LumaPull):
        return luma(pixels, pull.model_copy(update={"invert": False, "gain": Settled(1.0)}), frame, clamp=False), None
    if isinstance(pull, ColourPull):
        return colour(pixels, pull, frame), None
    if isinstance(pull, ScreenPull):
        return screen(pixels, pull, frame, scale)
    if isinstance(pull, ClearSkyPull):
        return _sky_pull(pixels, pull, frame, scale, around.first_sky(place))
    if isinstance(pull, DifferencePull):
        clean = around.clean(place)
        if clean is None:
            raise MatteError(say("The difference pull has no clean plate yet. Choose one from the stock."))
        return difference(pixels, clean, pull, frame), np.ascontiguousarray(clean[..., :3])
    raise TypeError(type(pull))


def _sky_pull(
    pixels: Array, pull: ClearSkyPull, frame: int, scale: float, found: tuple[Array, NDArray] | None
) -> tuple[Array, Array]:
    if found is None:
        return clear_sky(pixels, pull, frame, scale)
    picture, lock_motion = found
    first = fit_sky(picture, pull, scale)
    gh, gw = first.surface.shape[:2]
    cells = np.diag([gw / pixels.shape[1] * scale, gh / pixels.shape[0] * scale, 1.0])
    motion = between_centres(cells @ lock_motion @ np.linalg.inv(cells))
    carried = cv2.warpPerspective(first.surface, motion, (gw, gh), borderMode=cv2.BORDER_REPLICATE)
    own = Sky(np.ascontiguousarray(carried, np.float32), first.whitening, first.share)
    return clear_sky(pixels, pull, frame, scale, own)


def feed_of(pixels: Array) -> Array:
    """Coded brightness. (h, w) float32."""
    return np.asarray(coded(pixels) @ np.array((0.2126, 0.7152, 0.0722), np.float32), np.float32)


def _cleared(
    pixels: Array, alpha: Array, matte: Matte, pulls: Sequence[Pull], sky: Array | None, frame: int, scale: float
) -> Array:
    strength, tint = matte.old_sky.strength.at(frame), matte.old_sky.tint.at(frame)
    by_sky = all(isinstance(pull, ClearSkyPull) for pull in pulls)
    out = remove_old_sky(pixels, alpha, strength, tint, sky, scale, by_sky)
    for pull in pulls:
        if isinstance(pull, ScreenPull) and pull.despill != "off":
            out[..., :3] = despill(out[..., :3], pull, frame)
    return out
