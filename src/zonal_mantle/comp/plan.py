"""What a frame depends on, as one frozen value: a picture is made from its plan alone.

A plan knows no shot and no keyed numbers: everything stands as it is on its frame. Its digest names the picture.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..match.tone import NO_TONE, Tone
from ..matte.shapes import Standing
from ..matte.sky_region import Said
from ..media.picture import Picture
from ..shot.hang import Mode
from ..shot.matte import Matte
from .digest import digest
from .finish_plan import Across, Film, FinishPlan

Matrix = NDArray[np.float64]


@dataclass(frozen=True)
class Between:
    """What is seen between two frames of a clip, `share` of the way from the one to the other: both blended, or what
    optical `flow` moves them to."""

    before: Picture
    after: Picture
    share: float
    flow: bool

    @property
    def width(self) -> int:
        """Of the clip."""
        return self.before.width

    @property
    def height(self) -> int:
        """Of the clip."""
        return self.before.height

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        return self.before.size


@dataclass(frozen=True, eq=False)
class CleanPlate:
    """A clean plate and the (3, 3) way from its pixels to the picture's."""

    picture: Picture
    matrix: Matrix


@dataclass(frozen=True, eq=False)
class FirstSky:
    """The picture that a carried sky is fitted on, and the (3, 3) motion from there, in plate pixels."""

    picture: Picture
    motion: Matrix


@dataclass(frozen=True, eq=False)
class SkyStudy:
    """What a shot's sky is learnt from: a few of its pictures, of `size`, and what was said of each."""

    size: tuple[int, int]
    pictures: tuple[Picture, ...]
    said: tuple[tuple[Said, ...], ...]

    @cached_property
    def digest(self) -> str:
        """Names what is learnt."""
        return digest(self)


@dataclass(frozen=True, eq=False)
class SkyPlan:
    """Where a picture's sky is: by what is learnt of the shot, and by what was said of this frame. beside : the frames
    that a noisy one is averaged with."""

    study: SkyStudy
    said: tuple[Said, ...]
    beside: tuple[Picture, ...] = ()


@dataclass(frozen=True, eq=False)
class Neighbour:
    """A matte on a frame beside, and the (3, 3) motion from there, in the picture's pixels."""

    plan: MattePlan
    motion: Matrix


@dataclass(frozen=True, eq=False)
class MattePlan:
    """A matte on one frame.

    picture : what it is pulled on. matte : its settings as they stand, without shapes, names and ids. keep, drop : its
    shapes as they stand. cleans, skies, regions : one a pull, None where it has none. neighbours : what it is steadied
    by.
    """

    picture: Picture | Between
    scale: float
    matte: Matte
    keep: tuple[Standing, ...] = ()
    drop: tuple[Standing, ...] = ()
    cleans: tuple[CleanPlate | None, ...] = ()
    skies: tuple[FirstSky | None, ...] = ()
    neighbours: tuple[Neighbour, ...] = ()
    regions: tuple[SkyPlan | None, ...] = ()

    @cached_property
    def digest(self) -> str:
        """Names the matte in this process: files by path, time and size."""
        return digest(self)


@dataclass(frozen=True, eq=False)
class Flat:
    """Painting pixels to the picture's: an (n, 3, 3) stack of homographies, of which the mean is seen."""

    matrices: Matrix


@dataclass(frozen=True, eq=False)
class Gridded:
    """Where places of the picture, `step` apart from `origin` on, look on the painting: (rows, columns, 2)."""

    places: NDArray[np.float64]
    step: int
    origin: float
    edge: int


@dataclass(frozen=True)
class Ramp:
    """A limit by the distance from a line a x + b y + c of unit normal, in plate pixels: 0 up to `start`, 1 from
    `start + height` on, smooth between; a step where the height is 0."""

    line: tuple[float, float, float]
    start: float
    height: float


@dataclass(frozen=True)
class Haze:
    """The shares of its own red, green and blue that reach the lens, and the light that the air adds to an opaque
    pixel."""

    keep: tuple[float, float, float] = (1.0, 1.0, 1.0)
    added: tuple[float, float, float] = (0.0, 0.0, 0.0)


@dataclass(frozen=True, eq=False)
class DeepHaze:
    """Air that changes across a layer: its optical depth in red, green and blue, (rows, columns, 3), at places of the
    picture `step` pixels apart from its corner on (below 0 where air is taken out), and the airlight."""

    depth: Matrix
    step: float
    airlight: tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class Shutter:
    """How a layer moves while the shutter is open, see `match.lens.moved_over_shutter`."""

    along: NDArray[np.float32]
    bend: NDArray[np.float32]
    step: float
    opens: float
    closes: float


@dataclass(frozen=True)
class Glass:
    """What the lens does to a layer, in plate pixels; it is made `margin` pixels of the picture larger to each side, so
    that light from beyond the frame comes in."""

    radius_px: float = 0.0
    blades: int = 0
    turn_deg: float = 0.0
    softness_px: float = 0.0
    sharpen: float = 0.0
    sharpen_px: float = 1.0
    overshoot: float = 0.2
    shutter: Shutter | None = None
    margin: int = 0


@dataclass(frozen=True)
class Wrap:
    """Light of the finished background on a layer's rim: standard deviation in plate pixels, amount."""

    sigma_px: float
    amount: float
    only_brighter: bool = True


@dataclass(frozen=True)
class DepthBlur:
    """Blur that grows by `rate` pixels (standard deviation) for each plate pixel on from a line."""

    line: tuple[float, float, float]
    rate: float


@dataclass(frozen=True)
class Layer:
    """One thing in the picture.

    view : None is pixel for pixel. cut : a matte in the picture's own pixels, before it is placed. without : a matte of
    the frame; what it takes away of the picture is shown. matte : one in the frame's pixels. is_plate : what it shows
    counts as plate. zone : whose it is, for questions only.
    """

    picture: Picture | Between
    view: Flat | Gridded | None = None
    cut: MattePlan | None = None
    without: MattePlan | None = None
    matte: MattePlan | None = None
    ramp: Ramp | None = None
    opacity: float = 1.0
    tone: Tone = NO_TONE
    haze: Haze = Haze()
    blur: DepthBlur | None = None
    across: Across | None = None
    deep: DeepHaze | None = None
    glass: Glass | None = None
    wrap: Wrap | None = None
    mode: Mode = "normal"
    coded: bool = False
    is_plate: bool = False
    zone: str = field(default="", compare=False)

    @property
    def is_worked_on(self) -> bool:
        """Whether it is made in a buffer of its own before it is laid."""
        return self.blur is not None or any(part is not None for part in (self.across, self.deep, self.glass))

    @property
    def is_plain(self) -> bool:
        """Whether its colour does not depend on what is behind it."""
        return self.wrap is None and self.mode == "normal" and not (self.coded and self.opacity != 1)


@dataclass(frozen=True, eq=False)
class FramePlan:
    """A frame: its layers from near to far, what is done to the picture after them (`comp.develop`), and how it is
    finished (`comp.finisher`)."""

    size: tuple[int, int]
    scale: float
    layers: tuple[Layer, ...] = ()
    develop: tuple[Any, ...] = ()
    films: tuple[Film, ...] = ()
    finish: FinishPlan | None = None

    @cached_property
    def digest(self) -> str:
        """Names the picture in this process: files by path, time and size."""
        return digest(self)

    @cached_property
    def portable_digest(self) -> str:
        """Names the picture on any machine: files by content, and the version of our numerics."""
        return digest(self, portable=True)

    @property
    def needs_plate_share(self) -> bool:
        """Whether a later step asks which share of a pixel is plate."""
        return any(step.needs_plate_share for step in self.develop)
