"""Paintings at infinity: directions from the lens, and where on a painting they are seen."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..shot.hang import Dome, Mapping

Matrix = NDArray[np.float64]


def dome_rotation(dome: Dome, frame: float) -> Matrix:
    """(3, 3) from the dome's axes to those of the reference frame's camera (x right, y down, z forward)."""
    turn, tilt, roll = (np.deg2rad(part.at(frame)) for part in (dome.turn_deg, dome.tilt_deg, dome.roll_deg))
    about_y = np.array([[np.cos(turn), 0, np.sin(turn)], [0, 1, 0], [-np.sin(turn), 0, np.cos(turn)]])
    about_x = np.array([[1, 0, 0], [0, np.cos(tilt), -np.sin(tilt)], [0, np.sin(tilt), np.cos(tilt)]])
    about_z = np.array([[np.cos(roll), -np.sin(roll), 0], [np.sin(roll), np.cos(roll), 0], [0, 0, 1]])
    return np.asarray(about_y @ about_x @ about_z)


def to_painting(rays: NDArray, size: tuple[float, float], mapping: Mapping, wide_deg: float) -> NDArray[np.float64]:
    """Directions in the dome's axes to painting pixels.

    Parameters
    ----------
    rays : (n, 3), of any length.
    size : the painting's width and height.

    Returns
    -------
    (n, 2), continuous; NaN where a lens does not see.

    References
    ----------
    Equirectangular projection: Snyder 1987, *Map Projections: A Working Manual*, section 12; gnomonic: section 22.
    """
    width, height = size
    x, y, z = np.asarray(rays, float).T
    wide = np.deg2rad(wide_deg)
    if mapping == "lens":
        focal = width / 2 / np.tan(min(wide, np.pi * 0.99) / 2)
        with np.errstate(divide="ignore", invalid="ignore"):
            u, v = np.where(z > 1e-9, focal * x / z, np.nan), np.where(z > 1e-9, focal * y / z, np.nan)
    else:
        unit = width / wide
        u, v = unit * np.arctan2(x, z), unit * np.arctan2(y, np.hypot(x, z))
    return np.stack([u + width / 2, v + height / 2], axis=1)


def from_painting(points: NDArray, size: tuple[float, float], mapping: Mapping, wide_deg: float) -> NDArray[np.float64]:
    """Painting pixels (n, 2) to unit directions (n, 3) in the dome's axes."""
    width, height = size
    u, v = (np.asarray(points, float) - [width / 2, height / 2]).T
    wide = np.deg2rad(wide_deg)
    if mapping == "lens":
        focal = width / 2 / np.tan(min(wide, np.pi * 0.99) / 2)
        rays = np.stack([u, v, np.full_like(u, focal)], axis=1)
        return np.asarray(rays / np.linalg.norm(rays, axis=1, keepdims=True))
    unit = width / wide
    lon, lat = u / unit, v / unit
    return np.stack([np.cos(lat) * np.sin(lon), np.sin(lat), np.cos(lat) * np.cos(lon)], axis=1)
