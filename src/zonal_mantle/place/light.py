"""Where the light comes from: in a painting, in the plate; and whether they agree.

A bearing is told as degrees from the picture's middle: of a framed picture, how far right (above 0) or left the sun
stands on it or beyond it; sides are what matters there. Of a lat-long picture it is the true bearing.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ..shot.guides import Light

Array = NDArray[np.float32]
_LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)
SMALL = 256
DISC = 6.0  # times the brightness about it, that make a disc
LEAST_TILT = 0.02  # stops from side to side; a flatter sky has no side
FRAMED_WIDE_DEG = 60.0  # what a framed picture is taken to see where nobody says


@dataclass(frozen=True)
class Bearing:
    """Where the light is.

    place : of the sun on the picture, in its pixels, where it is seen or pointed out. bearing_deg : to the right of the
    picture's middle. height_deg : above its middle row, where it is known. how : "disc", "sky", "shadow", "edge" or
    "hand".
    sure : 0…1.
    """

    bearing_deg: float
    how: str
    sure: float
    place: tuple[float, float] | None = None
    height_deg: float | None = None

    @property
    def side(self) -> Literal["left", "right", "middle"]:
        """Which side it comes from; within 5° of the middle, neither."""
        if abs(self.bearing_deg) < 5 or abs(abs(self.bearing_deg) - 180) < 5:
            return "middle"
        return "right" if self.bearing_deg > 0 else "left"


def sky_light(
    picture: NDArray, around: bool = False, mask: NDArray | None = None, wide_deg: float = 0.0
) -> Bearing | None:
    """The light of a picture of a sky: its disc, or else the side toward which the sky grows brighter.

    Parameters
    ----------
    picture : (h, w, 3 or 4) float32, scene-linear.
    around : a lat-long picture: its upper half is looked at, and bearings go all around.
    mask : (h, w), what of it is sky; its alpha by default.
    wide_deg : the field of view; of a framed picture 60° where it is not known.

    Returns
    -------
    None where nothing tells.
    """
    height, width = picture.shape[:2]
    wide = wide_deg or (360.0 if around else FRAMED_WIDE_DEG)
    size = (SMALL, max(8, round(SMALL * height / width)))
    small = cv2.resize(np.ascontiguousarray(picture, np.float32), size, interpolation=cv2.INTER_AREA)
    if mask is not None:
        there = np.asarray(cv2.resize(np.asarray(mask, np.float32), size, interpolation=cv2.INTER_AREA), np.float32)
    else:
        there = np.asarray(small[..., 3] if small.shape[2] == 4 else np.ones(size[::-1]), np.float32)
    light = small[..., :3] @ _LUMA
    if around:
        there = there.copy()
        there[size[1] // 2 :] = 0
    if float(there.sum()) < 40:
        return None
    found = _disc(light, there, around)
    if found is not None:
        x, y = found
        place = (float((x + 0.5) * width / size[0]), float((y + 0.5) * height / size[1]))
        return _at(place, (width, height), wide, "disc", 1.0)
    return _slope(light, there, around, wide)


def _at(place: tuple[float, float], size: tuple[int, int], wide: float, how: str, sure: float) -> Bearing:
    unit = wide / size[0]
    return Bearing((place[0] - size[0] / 2) * unit, how, sure, place, (size[1] / 2 - place[1]) * unit)


def hand_light(place: tuple[float, float], size: tuple[int, int], around: bool, wide_deg: float = 0.0) -> Bearing:
    """The light where a person says that it is on a picture."""
    return _at(place, size, wide_deg or (360.0 if around else FRAMED_WIDE_DEG), "hand", 1.0)


def _disc(light: Array, there: Array, around: bool) -> tuple[float, float] | None:
    """A small spot much brighter than what lies about it, by its brightest pixels' centre."""
    ground = cv2.GaussianBlur(light * there, (0, 0), 12) / np.maximum(cv2.GaussianBlur(there, (0, 0), 12), 1e-3)
    near = cv2.GaussianBlur(light, (0, 0), 1.0)
    score = np.where(there > 0.5, near / np.maximum(ground, 1e-6), 0)
    y, x = np.unravel_index(int(score.argmax()), score.shape)
    usual = float(np.median(light[there > 0.5]))
    if score[y, x] < 1.6 or near[y, x] < DISC * usual:
        return None
    y0, y1, x0, x1 = max(y - 5, 0), y + 6, max(x - 5, 0), x + 6
    part = np.maximum(light[y0:y1, x0:x1] - 0.5 * light[y, x], 0)
    gy, gx = np.mgrid[y0 : y0 + part.shape[0], x0 : x0 + part.shape[1]]
    total = max(float(part.sum()), 1e-9)
    return float((part * gx).sum() / total), float((part * gy).sum() / total)


def _slope(light: Array, there: Array, around: bool, wide: float) -> Bearing | None:
    """Log brightness as a smooth function: all around a cosine of the bearing, else a plane, robust against clouds."""
    h, w = light.shape
    stops = np.log2(np.maximum(cv2.GaussianBlur(light, (0, 0), 2), 1e-4))
    gx, gy = np.meshgrid((np.arange(w) + 0.5) / w * 2 - 1, (np.arange(h) + 0.5) / h * 2 - 1)
    rows, weight = there > 0.5, there[there > 0.5].astype(float)
    x, y, value = gx[rows], gy[rows], stops[rows]
    columns = [np.ones_like(x), y, y * y]
    columns += [np.cos(np.pi * x), np.sin(np.pi * x)] if around else [x]
    a = np.stack(columns, axis=1)
    fit = np.zeros(a.shape[1])
    for _ in range(8):  # Huber's weights
        fit = np.linalg.lstsq(a * weight[:, None], value * weight, rcond=None)[0]
        rest = np.abs(value - a @ fit)
        spread = 1.4826 * np.median(rest) + 1e-6
        weight = np.minimum(1, 1.345 * spread / np.maximum(rest, 1e-9))
    if around:
        strength = float(np.hypot(fit[3], fit[4]))
        if strength < LEAST_TILT:
            return None
        return Bearing(float(np.degrees(np.arctan2(fit[4], fit[3]))), "sky", min(strength / 0.5, 1.0))
    if abs(fit[3]) < LEAST_TILT:
        return None
    return Bearing(float(np.copysign(wide / 2, fit[3])), "sky", min(abs(float(fit[3])) / 0.3, 1.0))


def drawn_light(
    light: Light, size: tuple[int, int], horizon: NDArray | None = None, focal_px: float | None = None
) -> Bearing:
    """The plate's light from what was drawn on it.

    A shadow runs away from its light: one that falls to the left and toward the lens has its light on the right, behind
    what throws it. Where the horizon is known, foot and tip are taken to the ground (a ray meets the plane whose normal
    is Kᵀ l: Hartley & Zisserman 2004, section 8.6.3); else depth counts four times its height on the picture, as for
    a lens at a man's height. An arrow from the shaded to the lit side points to the light.

    size : of the plate. horizon : (3,) on the light's frame. focal_px : 1.4 of the plate's width by default.
    """
    dx, dy = light.b[0] - light.a[0], light.b[1] - light.a[1]
    if light.kind == "edge":
        return Bearing(float(np.degrees(np.arctan2(dx, abs(dy) + 1e-6))) if dx else 0.0, "edge", 1.0)
    across, ahead = dx, -4.0 * dy
    if horizon is not None:
        focal = focal_px or 1.4 * size[0]
        k = np.array([[focal, 0, size[0] / 2], [0, focal, size[1] / 2], [0, 0, 1]])
        normal = k.T @ horizon
        ends = [np.linalg.inv(k) @ [*place, 1.0] for place in (light.a, light.b)]
        if min(float(normal @ end) for end in ends) > 1e-9:  # both below the horizon
            run = ends[1] / float(normal @ ends[1]) - ends[0] / float(normal @ ends[0])
            forward = np.array([0, 0, 1.0]) - normal[2] / float(normal @ normal) * normal
            forward /= np.linalg.norm(forward)
            right = np.cross(normal / np.linalg.norm(normal), forward)
            across, ahead = float(run @ right), float(run @ forward)
    return Bearing(float(np.degrees(np.arctan2(-across, -ahead))), "shadow", 1.0)


def apart_deg(a: Bearing, b: Bearing) -> float:
    """Angle between two bearings, −180…180; b less a."""
    return (b.bearing_deg - a.bearing_deg + 180) % 360 - 180


def disagree(plate: Bearing, painting: Bearing) -> bool:
    """Whether the light comes from opposite sides."""
    sides = {plate.side, painting.side}
    return sides == {"left", "right"}
