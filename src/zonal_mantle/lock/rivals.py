"""Other scenes that explain the same features: near and far exchanged, other cameras before one plane, another focal
length; and how far what is hung on them is apart from what is hung on the scene that was found.

Several hypotheses are kept until the motion decides between them; where it does not, no camera is said to be surer than
they are apart.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..words import say
from .bundle import Scene, Views, adjust
from .degenerate import FocalInterval
from .dominant import MOSTLY, Dominant, dominant_plane, seen_otherwise
from .scene import error_of, inside_out
from .slide import far_apart

CLEARLY_MORE = 1.005  # times as much explained, from which on another scene is the better
EITHER = 1.02  # times, up to which one that is turned the other way round is as good
AS_WELL, OF_POINTS = 0.03, 8.0  # by so much more error, or that over how many points, another scene explains as well
TRIED = 0.4  # of the points on one plane, in what may be a wrong scene: other cameras that see it alike are tried
FEW_OFF = 60  # features off a plane; as many tell the camera, as measured on pictures
DEVIATIONS = 2.0  # that the ends of a focal length's interval stand for
PLANE_PX = 1.0  # by which cameras that see a plane alike may be apart without a word


@dataclass(frozen=True)
class Rivals:
    """The scene with near and far exchanged, that and other cameras that see its dominant plane alike, all adjusted to
    the same views; and the plane."""

    exchanged: Scene
    others: list[Scene]
    plane: Dominant

    @property
    def flat(self) -> bool:
        """Whether so much lies on one plane, and so little off it, that this tells little."""
        return self.plane.share >= MOSTLY and self.plane.off < FEW_OFF

    def better(self, scene: Scene, explains: Callable[[Scene], float]) -> Scene | None:
        """The one that explains most, if that is clearly more than a scene does."""
        best = max(self.others, key=explains)
        return best if explains(best) > CLEARLY_MORE * explains(scene) else None

    def words(self, scene: Scene, views: Views) -> tuple[str, ...]:
        """What is said where near and far may as well be exchanged."""
        this, other = error_of(scene, views), error_of(self.exchanged, views)
        if other >= EITHER * this:
            return ()
        words = say(
            "Near and far may be exchanged: that explains the features to {other:.3f} px, as against {this:.3f} "
            "px. Let the camera move by more, or give its focal length at the lens.",
            other=other,
            this=this,
        )
        return (words,)


def rivals_of(scene: Scene, views: Views, free_focal: bool, free_bend: bool, report: Callable[[], None]) -> Rivals:
    """The rivals of a scene, adjusted to its views."""
    exchanged = adjust(inside_out(scene), views, free_focal, free_bend, 30, 1e-4, report)
    others, plane = [exchanged], dominant_plane(scene, views)
    if plane.share >= TRIED:
        for each in seen_otherwise(scene, plane.plane, free_focal):
            others.append(adjust(each, views, free_focal, free_bend, 40, 1e-5, report))
    return Rivals(exchanged, others, plane)


def apart_px(
    scene: Scene, views: Views, rivals: Rivals, told: FocalInterval | None, size: tuple[int, int]
) -> NDArray[np.float64]:
    """How far apart a scene and those that explain the views as well have what is hung far off, px by camera.

    Parameters
    ----------
    told : between which focal lengths it is explained as well; None where that is given.
    """
    most = (1 + max(AS_WELL, OF_POINTS / len(scene.points))) * error_of(scene, views)
    as_well = [each for each in rivals.others if error_of(each, views) < most]
    apart = far_apart(scene, as_well, size)
    if rivals.flat and told is not None:
        ends = [share / DEVIATIONS * far_apart(scene, [end], size) for end, share in told.ends]
        apart = np.maximum(apart, np.mean(ends, axis=0))
    return apart


def plane_words(rivals: Rivals, apart: NDArray[np.float64], given: bool) -> tuple[str, ...]:
    """What is said of a scene that is mostly one plane, where others that see it alike are `apart`, px, and its focal
    length is given or not."""
    if rivals.plane.share < MOSTLY or apart.max() <= PLANE_PX:
        return ()
    words = say(
        "{share:.0%} of the features lie on one plane. Other cameras see it as well and are up to {apart_px:.1f} px "
        "apart from this one off the plane.",
        share=rivals.plane.share,
        apart_px=float(apart.max()),
    )
    if given:
        return (say("{words} Use a plane lock for what lies on it.", words=words),)
    return (say("{words} Give the focal length at the lens, or use a plane lock for what lies on it.", words=words),)
