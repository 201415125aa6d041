"""The air between lens and zones, and the lens that looks through it."""

from __future__ import annotations

from pydantic import Field

from .base import Value


class Mist(Value):
    """Air that thins with height: the visibility at the ground, the height over which it thins to 1/e, and how high the
    lens stands above the ground. Its foot is the plate's horizon."""

    on: bool = False
    visibility_m: float = Field(default=800.0, ge=1, le=1e6)
    height_m: float = Field(default=10.0, ge=0.1, le=1e4)
    lens_m: float = Field(default=1.7, ge=0, le=1e4)


class Air(Value):
    """Haze between lens and zone: meteorological visibility in metres and the scene-linear airlight colour.

    exponent : how much less of red than of blue is lost, 0 in fog, 1.3 in clear air (Ångström 1929).
    """

    visibility_m: float = Field(default=30000.0, ge=10, le=1e6)
    airlight: tuple[float, float, float] = (0.75, 0.78, 0.82)
    exponent: float = Field(default=0.0, ge=-1, le=4)
    mist: Mist = Mist()


class Optics(Value):
    """The plate's lens and sensor, for focus by distance: focal length, aperture number, distance in focus, width of
    the sensor."""

    focal_mm: float = Field(default=35.0, gt=0, le=2000)
    stop: float = Field(default=4.0, gt=0, le=128)
    focus_m: float = Field(default=50.0, gt=0)
    sensor_mm: float = Field(default=24.9, gt=0, le=100)
