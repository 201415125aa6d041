"""What is seen in water: a painting mirrored at a line or at the horizon, rippled, softer with depth."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..shot.shot import Shot
from ..shot.zone import Zone
from .horizon import plate_perspective
from .perspective import carried, level_mirror, line_through
from .seen import Seen, zone_seen
from .transform import placement_camera, reference_to_frame

Array = NDArray[np.float32]


def mirror_line(shot: Shot, zone: Zone, frame: int) -> NDArray[np.float64] | None:
    """The line of a zone's mirror on a frame: as drawn and carried by the lock, else the plate's horizon, else None."""
    if zone.mirror.line is None or zone.mirror.true:
        return plate_perspective(shot, frame).horizon
    return carried(line_through(*zone.mirror.line), reference_to_frame(shot, zone, frame))


def below_line(shot: Shot, zone: Zone, frame: int, scale: float) -> Array:
    """How far each pixel of a frame lies below the mirror's line, in plate pixels; below 0 above it. (h, w) float32."""
    width, height = max(1, round(shot.size[0] * scale)), max(1, round(shot.size[1] * scale))
    line = mirror_line(shot, zone, frame)
    if line is None:
        return np.full((height, width), -1, np.float32)
    x, y = (np.arange(width) + 0.5) / scale, (np.arange(height) + 0.5) / scale
    return np.asarray(line[0] * x[None, :] + line[1] * y[:, None] + line[2], np.float32)


def mirrored(shot: Shot, zone: Zone, frame: int) -> Seen | None:
    """How a zone's painting is seen in its mirror on a frame; None without a line.

    True to level water, a direction is mirrored at the horizon (`level_mirror`); else a place is mirrored at the
    line, its height drawn together by the squeeze. The ripple displaces what is seen up and down by a sine whose
    waves grow longer toward the viewer, and a little sideways.
    """
    line = mirror_line(shot, zone, frame)
    if line is None:
        return None
    mirror = zone.mirror
    k = placement_camera(shot, zone.placement)
    level = level_mirror(line, k) if mirror.true else None
    squeeze = max(mirror.squeeze.at(frame), 0.05)
    high, long, phase = mirror.ripple_px.at(frame), mirror.ripple_long_px, 2 * np.pi * mirror.ripple_speed * frame
    normal = line[:2]

    def way(points: NDArray) -> NDArray:
        depth = points @ normal + line[2]
        if high > 0:
            near = np.maximum(depth, 0) / 100
            # waves seen at a slant: their length on the picture grows with the distance below the line
            wave = 2 * np.pi * 100 / long * np.log1p(np.maximum(depth, 0) / 20)
            sway = np.sin(wave + phase) + 0.5 * np.sin(1.7 * wave + 0.011 * points[:, 0] - 0.6 * phase)
            rough = np.minimum(near, 1.0) * high
            points = points + np.stack([0.25 * rough * np.cos(wave - phase), rough * sway], axis=1)
            depth = np.maximum(points @ normal + line[2], 0.0) if level is None else depth
        if level is not None:
            lifted = np.concatenate([points, np.ones((len(points), 1))], axis=1) @ level.T
            with np.errstate(divide="ignore", invalid="ignore"):
                return np.asarray(np.where(lifted[:, 2:] > 0, lifted[:, :2] / lifted[:, 2:], np.nan))
        return np.asarray(points - depth[:, None] * (1 + 1 / squeeze) * normal)

    return zone_seen(shot, zone, frame).through(way)


def deeper_softer(layer: Array, depth: Array, rate: float) -> Array:
    """A layer blurred by `rate` pixels (standard deviation) for each plate pixel below the line.

    Between a few blurred copies of standard deviations doubling, mixed by the logarithm of what is wanted.
    """
    if rate <= 0:
        return layer
    wanted = np.maximum(depth, 0) * rate
    most = float(wanted.max())
    if most < 0.3:
        return layer
    sigmas = [0.0, 0.6]
    while sigmas[-1] < most:
        sigmas.append(2 * sigmas[-1])
    copies = [layer if sigma == 0 else cv2.GaussianBlur(layer, (0, 0), sigma) for sigma in sigmas]
    out = copies[-1].copy()
    for k in range(len(sigmas) - 1):
        low, high = sigmas[k], sigmas[k + 1]
        share = np.clip((wanted - low) / (high - low), 0, 1)[..., None]
        within = ((wanted >= low) & (wanted < high))[..., None]
        out = np.where(within, copies[k] * (1 - share) + copies[k + 1] * share, out)
    return np.ascontiguousarray(out, np.float32)
