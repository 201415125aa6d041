"""The demo's hand-held camera: a slow pan with shake and a little sideways travel.

World axes: x right, y away from the lens, z up, in metres. Pixels: x right, y down, continuous.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Camera:
    """A pinhole camera at one instant: focal length in px, world-to-camera rotation (3, 3), position in metres."""

    focal_px: float
    rotation: Array
    position: Array
    width: int
    height: int

    def project(self, point: Array) -> Array:
        """Pixel position of a world point (3,) or of many (n, 3). Points behind the lens give nonsense."""
        local = (np.asarray(point, float) - self.position) @ self.rotation.T
        return np.stack(
            [
                self.focal_px * local[..., 0] / local[..., 2] + self.width / 2,
                self.focal_px * local[..., 1] / local[..., 2] + self.height / 2,
            ],
            axis=-1,
        )

    def ray(self, pixel: Array) -> Array:
        """World direction (unnormalised) of the ray through a pixel position."""
        x, y = pixel
        local = np.array([(x - self.width / 2) / self.focal_px, (y - self.height / 2) / self.focal_px, 1.0])
        return np.asarray(local @ self.rotation)


def _rotation(yaw: float, pitch: float, roll: float) -> Array:
    """World to camera. Yaw turns right, pitch looks up, roll turns the picture clockwise. Radians."""
    base = np.array([[1.0, 0, 0], [0, 0, -1.0], [0, 1.0, 0]])  # camera x, y (down), z (forward) in world axes
    cy, sy = np.cos(yaw), np.sin(yaw)
    cp, sp = np.cos(pitch), np.sin(pitch)
    cr, sr = np.cos(roll), np.sin(roll)
    turn = np.array([[cy, -sy, 0], [sy, cy, 0], [0, 0, 1.0]])
    tilt = np.array([[1.0, 0, 0], [0, cp, sp], [0, -sp, cp]])
    bank = np.array([[cr, sr, 0], [-sr, cr, 0], [0, 0, 1.0]])
    return np.asarray(bank @ tilt @ base @ turn)


class HandHeld:
    """A camera path in time, in frames from the first: pan, shake and travel drawn from a seed."""

    def __init__(
        self,
        seed: int,
        frames: int,
        size: tuple[int, int],
        pan_deg: float = 6.5,
        travel_m: float = 0.55,
        shake: float = 1.0,
    ) -> None:
        self.width, self.height = size
        self.frames = frames
        self.focal_px = 0.92 * self.width
        self.pan = np.deg2rad(pan_deg)
        self.travel = travel_m
        rng = np.random.default_rng([seed, 11])
        self._periods = rng.uniform(9, 60, (4, 5))
        self._phases = rng.uniform(0, 2 * np.pi, (4, 5))
        weight = (self._periods / 60) ** 0.8
        self._weights = weight / np.sqrt((weight**2).sum(axis=1, keepdims=True))
        self._amplitude = shake * np.array([np.deg2rad(0.22), np.deg2rad(0.18), np.deg2rad(0.22), 0.03])

    def _wander(self, time: float) -> Array:
        waves = np.sin(2 * np.pi * time / self._periods + self._phases)
        return np.asarray((self._weights * waves).sum(axis=1) * self._amplitude)

    def at(self, time: float) -> Camera:
        """The camera `time` frames after the first frame (fractions allowed, for the open shutter)."""
        span = max(self.frames - 1, 1)
        s = time / span
        eased = s + 0.12 * np.sin(2 * np.pi * s) / (2 * np.pi) * -1
        yaw, pitch, roll, bob = self._wander(time)
        rotation = _rotation(self.pan * (eased - 0.5) + yaw, np.deg2rad(3.4) + pitch, roll)
        position = np.array([self.travel * (eased - 0.5), 0.0, 1.72 + bob])
        return Camera(self.focal_px, rotation, position, self.width, self.height)
