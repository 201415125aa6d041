"""What is done to the whole picture after its zones: the finish, with looks and moods."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from ..words import say
from .base import Value
from .hang import Mode
from .keyed import Keyed
from .match import DAYLIGHT_K, GrainMatch, ToneMatch
from .shapes import Point, Shape

Ratio = Annotated[float, Field(ge=0.2, le=20)]
MOST_PX, LEAST_PX = 32768, 16  # of a delivered picture's sides


def _keyed(value: float) -> Keyed:
    return Keyed(constant=value)


class Lut(Value):
    """A look-up table from a file (.cube, CLF), in the encoding that it wants, by a strength of 0 to 1 (mixed in that
    encoding)."""

    on: bool = True
    path: str = ""
    encoding: str = "sRGB"
    strength: Keyed = _keyed(1.0)


class Glow(Value):
    """Glow and halation: what is brighter than a level (scene-linear) is spread over its surroundings, its light kept.

    amount, halation : shares of that light that are spread. radius_px, halation_px : standard deviations in plate
    pixels. colour : how much of red, green and blue goes into the halation.
    """

    on: bool = False
    level: Keyed = _keyed(0.8)
    amount: Keyed = _keyed(0.3)
    radius_px: Keyed = _keyed(24.0)
    halation: Keyed = _keyed(0.0)
    halation_px: Keyed = _keyed(8.0)
    colour: tuple[float, float, float] = (1.0, 0.3, 0.08)


class Vignette(Value):
    """Light that falls off toward the corners.

    shape : round on the screen, or by the frame. centre : in shares of the frame. stops : at the corner, below 0
    darker. start : how far from the centre it begins, 1 is the corner. softness : 1 falls off up to the corner, less
    sooner.
    """

    on: bool = False
    shape: Literal["round", "frame"] = "round"
    centre: Point = (0.5, 0.5)
    stops: Keyed = _keyed(-0.7)
    start: Keyed = _keyed(0.3)
    softness: Keyed = _keyed(1.0)


class LocalLight(Value):
    """A soft shape in which the picture is brighter or darker, warmer or cooler. It rides as its shape does.

    reach : all of the picture; only what lies behind the zone `zone`; or that zone and what lies before it.
    """

    id: str
    name: str = "Light"
    on: bool = True
    shape: Shape
    exposure_stops: Keyed = _keyed(0.0)
    temperature_k: Keyed = _keyed(DAYLIGHT_K)
    saturation: Keyed = _keyed(1.0)
    reach: Literal["all", "behind", "before"] = "all"
    zone: str | None = None


class Reframe(Value):
    """A push into the picture, about a place: `size` times larger, with (x, y) of the plate in the middle of the frame
    (0, 0 is the plate's own middle), in plate pixels."""

    on: bool = False
    size: Keyed = _keyed(1.0)
    x: Keyed = _keyed(0.0)
    y: Keyed = _keyed(0.0)


class Output(Value):
    """The frame as it leaves.

    crop : x0, y0, x1, y1 in plate pixels; all of the plate where it is None. width, height : in pixels; those of the
    crop where they are None. pixel_aspect : width of a pixel against its height, the plate's where it is None. aspect :
    of the frame that is composed for, as it is seen; bars cover what lies beyond it where they are on.
    """

    crop: tuple[float, float, float, float] | None = None
    width: int | None = Field(default=None, ge=LEAST_PX, le=MOST_PX)
    height: int | None = Field(default=None, ge=LEAST_PX, le=MOST_PX)
    pixel_aspect: float | None = Field(default=None, ge=0.1, le=10)
    aspect: Ratio | None = None
    bars: bool = False

    @model_validator(mode="after")
    def _has_size(self) -> Output:
        if self.crop is not None and (self.crop[2] - self.crop[0] < LEAST_PX or self.crop[3] - self.crop[1] < LEAST_PX):
            raise ValueError(say("A crop is at least {least_px} pixels wide and high.", least_px=LEAST_PX))
        return self


class BurnIn(Value):
    """Words at the foot of every frame: the shot's name, the frame, a version, the date of the render."""

    on: bool = False
    shot: bool = True
    frame: bool = True
    version: str = Field(default="", max_length=80)
    date: bool = False


class Look(Value):
    """A tone, and perhaps a glow, a vignette and grain, under a name: to be laid on a zone or on the whole picture."""

    name: str = "Look"
    note: str = ""
    tone: ToneMatch = ToneMatch()
    glow: Glow = Glow()
    vignette: Vignette = Vignette()
    grain: GrainMatch = GrainMatch()


class LookUse(Value):
    """A look as it is laid on something, by a strength of 0 to 1: at 0 nothing of it, at 1 all."""

    on: bool = True
    look: Look
    strength: Keyed = _keyed(1.0)


class Finish(Value):
    """What is done to the whole picture, always in this order: tone, look, LUT, glow and halation, vignette, local
    light, grain, reframing, size and crop, bars, burn-in. A look's own glow, vignette and grain act where those of
    the finish are off."""

    on: bool = True
    tone: ToneMatch = ToneMatch()
    look: LookUse | None = None
    lut: Lut = Lut()
    glow: Glow = Glow()
    vignette: Vignette = Vignette()
    lights: tuple[LocalLight, ...] = ()
    grain: GrainMatch = GrainMatch()
    reframe: Reframe = Reframe()
    output: Output = Output()
    burn_in: BurnIn = BurnIn()

    @model_validator(mode="after")
    def _own_ids(self) -> Finish:
        ids = [light.id for light in self.lights]
        if len(ids) != len(set(ids)):
            raise ValueError(say("Two local lights share an id."))
        return self

    def light(self, id: str) -> LocalLight:
        """The local light with an id; KeyError if there is none."""
        found = next((light for light in self.lights if light.id == id), None)
        if found is None:
            raise KeyError(id)
        return found

    def with_light(self, light: LocalLight) -> Finish:
        """Adds a local light or replaces the one with its id."""
        if any(each.id == light.id for each in self.lights):
            return self.but(lights=tuple(light if each.id == light.id else each for each in self.lights))
        return self.but(lights=(*self.lights, light))

    def without_light(self, id: str) -> Finish:
        """Without a local light."""
        return self.but(lights=tuple(light for light in self.lights if light.id != id))

    def without_lock(self, id: str) -> Finish:
        """A finish of which nothing rides on a lock any more."""
        lights = tuple(
            light.but(shape=light.shape.but(rides=None)) if light.shape.rides == id else light for light in self.lights
        )
        return self if lights == self.lights else self.but(lights=lights)

    def without_zone(self, id: str) -> Finish:
        """A finish of which nothing goes by a zone any more."""
        lights = tuple(light.but(zone=None, reach="all") if light.zone == id else light for light in self.lights)
        return self if lights == self.lights else self.but(lights=lights)

    @property
    def locks(self) -> set[str]:
        """The locks that something in it rides on."""
        return {light.shape.rides for light in self.lights if light.shape.rides is not None}

    @property
    def zones(self) -> set[str]:
        """The zones that something in it goes by."""
        return {light.zone for light in self.lights if light.zone is not None}


class Group(Value):
    """Zones that are handled as one. Tone, look and softness apply to each member; wrap and blend to the farthest.
    `label` says in a few words what they are for, and changes no picture."""

    id: str
    name: str
    label: str = ""
    on: bool = True
    tone: ToneMatch = ToneMatch()
    look: LookUse | None = None
    softness_px: Keyed = _keyed(0.0)
    wrap_px: Keyed = _keyed(0.0)
    wrap_amount: Keyed = _keyed(0.5)
    mode: Mode = "normal"
    opacity: Keyed = _keyed(1.0)


class Patch(Value):
    """A box of the finished picture whose colour is followed over the shot, in plate pixels of the frame that it was
    drawn on; it may ride on a lock. Its colour there is what it is held against."""

    id: str
    box: tuple[float, float, float, float]
    frame: int
    rides: str | None = None
