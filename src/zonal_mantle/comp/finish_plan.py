"""How a frame is finished, as one frozen value: it knows no shot and no keyed numbers."""

from __future__ import annotations

from dataclasses import dataclass

from ..finish.glow import GlowNumbers
from ..finish.vignette import VignetteNumbers
from ..match.tone import NO_TONE, Tone
from ..matte.shapes import Standing
from ..media.picture import Picture
from ..media.stamps import UsedFile
from ..shot.match import GrainModel


@dataclass(frozen=True)
class Across:
    """Exposure that grows by `stops` along a line from `a` to `b`, in plate pixels."""

    a: tuple[float, float]
    b: tuple[float, float]
    stops: float


@dataclass(frozen=True)
class Film:
    """Grain: from a model, or a clip of it; `strengths` of it on each layer of the plan. size : of its grains."""

    model: GrainModel | None
    clip: Picture | None
    grey: float
    size: float
    seed: int
    frame: int
    strengths: tuple[float, ...]


@dataclass(frozen=True)
class LutPlan:
    """A table from a file, in an encoding, by a strength."""

    file: UsedFile
    encoding: str
    strength: float


@dataclass(frozen=True)
class LightPlan:
    """A light on a part of the picture: a shape in plate pixels, nine numbers of a matrix, and how much of it falls on
    each layer of the plan (None: on all alike)."""

    shape: Standing
    matrix: tuple[float, ...]
    weights: tuple[float, ...] | None = None


@dataclass(frozen=True)
class Leaving:
    """The frame as it leaves, in pixels of the picture that is made.

    window : what is seen of the picture, x0, y0, x1, y1. inner : its size there. size : of the frame, in the middle of
    which it stands. bars : what they leave open. words : at the foot, left, middle and right.
    """

    window: tuple[float, float, float, float]
    inner: tuple[int, int]
    size: tuple[int, int]
    bars: tuple[int, int, int, int] | None = None
    words: tuple[str, str, str] | None = None


@dataclass(frozen=True)
class FinishPlan:
    """A finish on a frame, in the order of its fields. Lengths are in pixels of the picture that is made, but for those
    of shapes and lines."""

    tone: Tone = NO_TONE
    across: Across | None = None
    lut: LutPlan | None = None
    glow: GlowNumbers | None = None
    vignette: VignetteNumbers | None = None
    lights: tuple[LightPlan, ...] = ()
    film: Film | None = None
    leaving: Leaving | None = None
