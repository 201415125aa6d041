"""Mattes: pulls, levels, edge, old-sky removal, shapes; in that order."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from .base import Value
from .keyed import Keyed
from .shapes import Point, Shape

Colour = tuple[float, float, float]
MOST_NEIGHBOURS = 2  # frames before and after
Area = tuple[float, float, float, float]
Place = tuple[float, float]
Reads = Literal["plate", "raw plate", "clean plate", "own picture"]
Combine = Literal["union", "intersection", "subtraction"]


def _keyed(value: float) -> Keyed:
    return Keyed(constant=value)


class Pull(Value):
    """What every pull has. It gives the alpha of what stays; `combine` says how it joins the pulls above it.

    Union keeps what either keeps, intersection what both keep, subtraction takes away what this one keeps.
    """

    id: str = "pull1"
    on: bool = True
    combine: Combine = "intersection"
    invert: bool = False
    gain: Keyed = _keyed(1.0)


class LumaPull(Pull):
    """A matte from brightness: solid between two thresholds on the coded feed, each with its own softness.

    Weights are applied to coded red, green, blue. Rises from 0 at `low - low_softness` to 1 at `low`, falls from 1 at
    `high` to 0 at `high + high_softness`. A free curve, points of (coded value, alpha), stands in for the thresholds.
    """

    kind: Literal["luma"] = "luma"
    weights: tuple[float, float, float] = (0.2126, 0.7152, 0.0722)
    low: Keyed = _keyed(0.0)
    low_softness: Keyed = _keyed(0.0)
    high: Keyed = _keyed(0.80)
    high_softness: Keyed = _keyed(0.08)
    curve: tuple[Point, ...] = ()


class ColourSample(Value):
    """A colour of what goes, scene-linear; with `to`, all colours on the straight run between the two in Oklab.

    A subtracted sample is a colour of what stays in spite of the others.
    """

    colour: Colour
    to: Colour | None = None
    subtract: bool = False


class ColourPull(Pull):
    """A matte from likeness to samples in Oklab: empty within `tolerance` of one, solid beyond `tolerance + softness`.

    `lightness` weighs differences in lightness against those in colour.
    """

    kind: Literal["colour"] = "colour"
    samples: tuple[ColourSample, ...] = ()
    tolerance: Keyed = _keyed(0.04)
    softness: Keyed = _keyed(0.06)
    lightness: Keyed = _keyed(0.5)


class ScreenPull(Pull):
    """A colour-difference matte for a blue or green screen.

    How far the screen's channel stands above a mix of the other two, against the same for the sampled screen colour.
    `balance` mixes the two others, 0 the larger only to 1 the smaller only. Below `black` the matte is empty, above
    `white` solid. `uneven` follows the screen's light over the frame. Despill holds the screen's channel to a limit
    from the other two and gives back a share of the lightness that takes.
    """

    kind: Literal["screen"] = "screen"
    screen: Literal["blue", "green"] = "blue"
    colour: Colour | None = None
    balance: Keyed = _keyed(0.5)
    black: Keyed = _keyed(0.05)
    white: Keyed = _keyed(0.95)
    soften_px: float = Field(default=0.0, ge=0, le=20)
    uneven: bool = True
    despill: Literal["off", "larger", "mean", "smaller"] = "mean"
    despill_amount: Keyed = _keyed(1.0)
    despill_lightness: Keyed = _keyed(0.0)


class SkyStroke(Value):
    """What a person says of a place: sky, or not sky.

    points : a path in plate pixels on `frame`, `width_px` wide, or the outline of what is `filled`. It holds on its
    own frame, or wherever the lock that it rides on carries it; every frame learns from it.
    """

    says: Literal["sky", "not sky"] = "sky"
    frame: int
    points: tuple[Place, ...] = Field(min_length=1)
    width_px: float = Field(default=24.0, gt=0, le=1000)
    filled: bool = False
    rides: str | None = None


class ClearSkyPull(Pull):
    """A matte from the sky behind everything.

    `finds` the *region*: what is sky at all, clouds and all, is learnt from the shot, and strokes say what it does not
    find by itself. Or it finds a *surface*: a smooth one of a `degree` is fitted to the sky (`clouds` adds what it
    leaves, smoothed over about a twelfth of the frame), and what lies off it stays.

    Empty below `empty` and no longer held down above `full`, both in standard deviations of the plate's noise. Areas of
    known sky are boxes (x0, y0, x1, y1) on the frame they were drawn on. `carried_by` is for the surface, `neighbours`
    for the region: how many frames before and after a noisy one is averaged with, along what moves, before it is cut.
    """

    kind: Literal["clear sky"] = "clear sky"
    finds: Literal["region", "surface"] = "region"
    strokes: tuple[SkyStroke, ...] = ()
    degree: int = Field(default=2, ge=0, le=5)
    clouds: bool = True
    empty: Keyed = _keyed(3.0)
    full: Keyed = _keyed(4.5)
    areas: tuple[Area, ...] = ()
    areas_frame: int | None = None
    carried_by: str | None = None
    neighbours: int = Field(default=2, ge=0, le=MOST_NEIGHBOURS)


class DifferencePull(Pull):
    """A matte from the difference to a clean plate: a still, which may ride on a lock, or a clip.

    Empty within `tolerance` of it (coded values), solid beyond `tolerance + softness`.
    """

    kind: Literal["difference"] = "difference"
    clean: str | None = None
    rides: str | None = None
    tolerance: Keyed = _keyed(0.03)
    softness: Keyed = _keyed(0.12)


AnyPull = Annotated[
    LumaPull | ColourPull | ScreenPull | ClearSkyPull | DifferencePull,
    Field(discriminator="kind"),
]
PULLS: dict[str, type[Pull]] = {
    "luma": LumaPull, "colour": ColourPull, "screen": ScreenPull, "clear sky": ClearSkyPull,
    "difference": DifferencePull,
}  # fmt: skip


class Levels(Value):
    """What becomes empty, what becomes solid, and the bend between."""

    black: Keyed = _keyed(0.0)
    white: Keyed = _keyed(1.0)
    gamma: Keyed = _keyed(1.0)


class Edge(Value):
    """Work on the matte's edge, in plate pixels; growth below 0 shrinks.

    Specks and holes smaller than an area (px²) go. `steady` (0…1) averages over the frames before and after where the
    plate, carried by a lock, is the same but for noise.
    """

    grow_px: Keyed = _keyed(0.0)
    soften_px: Keyed = _keyed(0.0)
    soften_in_px: Keyed = _keyed(0.0)
    soften_out_px: Keyed = _keyed(0.0)
    specks_px2: float = Field(default=0.0, ge=0, le=1e6)
    holes_px2: float = Field(default=0.0, ge=0, le=1e6)
    steady: float = Field(default=0.0, ge=0, le=1)
    steady_lock: str | None = None


class OldSky(Value):
    """Taking the old sky's colour out of half-transparent pixels. `on` None is on for mattes pulled on the sky.

    `tint` lets the rim take a little of what is hung behind it.
    """

    on: bool | None = None
    strength: Keyed = _keyed(1.0)
    tint: Keyed = _keyed(0.0)


class Matte(Value):
    """What of a zone stays: pulls in their order, levels, edge, keep and drop shapes, clamp.

    reads : what the pulls look at: the plate, denoised where there is such a one; the plate as it came; the clean
        plate; or the own picture of the zone that it cuts, in that picture's pixels, before it is placed: shapes lie
        there too and ride on nothing. Keys are on frames of the shot.
    over_black : the picture was shot on black and holds its own light already: nothing of it is taken away, alpha only
        says what it hides.
    """

    id: str = "matte1"
    name: str = "Matte"
    reads: Reads = "plate"
    over_black: bool = False
    pulls: tuple[AnyPull, ...] = ()
    levels: Levels = Levels()
    edge: Edge = Edge()
    old_sky: OldSky = OldSky()
    shapes: tuple[Shape, ...] = ()
    clamp: bool = True

    @property
    def removes_old_sky(self) -> bool:
        """Whether the old sky's colour is taken out: as set, else where a pull works on the sky."""
        if self.old_sky.on is not None:
            return self.old_sky.on
        return any(pull.on and pull.kind in ("colour", "clear sky", "screen", "difference") for pull in self.pulls)

    @property
    def locks(self) -> set[str]:
        """The locks that it depends on."""
        found = {shape.rides for shape in self.shapes if shape.on}
        found |= {pull.rides for pull in self.pulls if isinstance(pull, DifferencePull)}
        skies = [pull for pull in self.pulls if isinstance(pull, ClearSkyPull)]
        found |= {pull.carried_by for pull in skies} | {stroke.rides for pull in skies for stroke in pull.strokes}
        found |= {self.edge.steady_lock} if self.edge.steady else set()
        return {id for id in found if id is not None}

    @property
    def sources(self) -> set[str]:
        """The sources, beside the plate, that it depends on."""
        return {pull.clean for pull in self.pulls if isinstance(pull, DifferencePull) and pull.clean is not None}

    def with_pull(self, pull: Pull) -> Matte:
        """Adds a pull below the others, or replaces the one with its id."""
        if any(other.id == pull.id for other in self.pulls):
            return self.but(pulls=tuple(pull if other.id == pull.id else other for other in self.pulls))
        return self.but(pulls=(*self.pulls, pull))

    def with_shape(self, shape: Shape) -> Matte:
        """Adds a shape, or replaces the one with its id."""
        if any(other.id == shape.id for other in self.shapes):
            return self.but(shapes=tuple(shape if other.id == shape.id else other for other in self.shapes))
        return self.but(shapes=(*self.shapes, shape))
