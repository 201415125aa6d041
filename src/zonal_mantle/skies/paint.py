"""Skies painted from a plan: analytic sky, cloud layers on planes overhead, sun, and the ground's haze."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from .model import chromaticity, luminance, rgb, sun_colour, toward
from .noise import clouds, smoothstep

Array = NDArray[np.float32]
TILE_PX = 1024
BAND = 128
SUN_DEG = 0.266  # its radius


@dataclass(frozen=True)
class Layer:
    """Clouds on a plane. cover : share of the sky, 0…1; size_km : of the pattern's repeat at a height of 1 km; soft :
    how slowly it thickens; grey : how dark where thickest; stretch : longer across the wind; slope : of its noise;
    dense : how much of the sun's light it keeps."""

    cover: float
    size_km: float = 8.0
    soft: float = 0.5
    grey: float = 0.35
    stretch: float = 1.0
    slope: float = 1.5
    cells: bool = False
    dense: float = 1.0


@dataclass(frozen=True)
class SkyPlan:
    """One sky. kind : of the CIE's fifteen; exposure : scene-linear value of its zenith; disc : the sun is seen."""

    name: str
    seed: int
    bearing_deg: float
    height_deg: float
    kind: int = 12
    turbidity: float = 2.6
    exposure: float = 0.22
    disc: bool = True
    grey: float = 0.0  # how much of the sky's colour is gone
    vivid: float = 1.0  # how much stronger its colours are than by formula, as cameras show them
    haze: tuple[float, float] = (0.75, 0.07)  # how much colour is gone at the horizon; how high that reaches
    glow: float = 0.0  # of the horizon on the sun's side
    layers: tuple[Layer, ...] = field(default_factory=tuple)


def painted(plan: SkyPlan, rays: NDArray) -> Array:
    """A sky in directions, painted in bands so that large ones need little memory.

    Parameters
    ----------
    rays : (h, w, 3) unit directions (x right, y down, z forward).

    Returns
    -------
    (h, w, 3) float32, scene-linear Rec. 709.
    """
    bands = range(0, rays.shape[0], BAND)
    return np.concatenate([_band(plan, rays[top : top + BAND]) for top in bands])


def _band(plan: SkyPlan, rays: NDArray) -> Array:
    sun = toward(plan.bearing_deg, max(plan.height_deg, 0.5))
    light = plan.exposure * luminance(rays, sun, plan.kind)
    x, y = chromaticity(rays, sun, plan.turbidity)
    sky = rgb(x, y, light)
    sky = np.maximum(light[..., None] + plan.vivid * (sky - light[..., None]), 0)
    low_sun = np.exp(-plan.height_deg / 10)
    tint = (1 - low_sun) * np.array([0.96, 1.0, 1.07]) + low_sun * sun_colour(plan.height_deg + 4)
    most, high = plan.haze
    pale = plan.grey + (1 - plan.grey) * most * np.exp(-np.maximum(-rays[..., 1:2], 0) / high)  # haze has no colour
    sky = sky * (1 - pale) + pale * light[..., None] * tint
    warm = sun_colour(plan.height_deg)
    angle = np.arccos(np.clip(rays @ sun, -1, 1))
    up = np.maximum(-rays[..., 1], 0.0)
    if plan.glow:
        low = np.exp(-up / 0.09) * (0.35 + 0.65 * np.exp(-((angle / 0.8) ** 2)))
        sky = sky + (plan.glow * plan.exposure * low)[..., None] * warm
    sunlit = 5.5 * plan.exposure * warm
    through = np.ones(rays.shape[:2])
    for number, layer in enumerate(plan.layers):
        thick = _thickness(plan, layer, number, rays)
        toward_sun = _thickness(plan, layer, number, _stepped(rays, sun))
        opaque = (1 - np.exp(-3.2 * thick)) * smoothstep(0.006, 0.05, up.astype(np.float32))
        # lit where the way to the sun is thin; silver where one looks toward it through a thin part
        lit = np.exp(-layer.dense * (1.7 * np.maximum(toward_sun, 0) + 0.5 * thick))
        silver = np.exp(-((angle / 0.5) ** 2)) * np.exp(-2.5 * thick)
        shade = (1 - layer.grey * smoothstep(0.1, 1.2, thick.astype(np.float32))) * 1.5
        ambient = plan.exposure * shade[..., None] * np.array([0.92, 1.0, 1.12])
        colour = ambient + (lit * (0.55 + 0.9 * silver) * (1.0 if plan.disc else 0.25))[..., None] * sunlit
        far = np.exp(-up / 0.045)[..., None]  # near the horizon clouds take on the air's colour
        colour = colour * (1 - far) + far * (0.85 * sky + 0.15 * colour)
        sky = sky * (1 - opaque[..., None]) + colour * opaque[..., None]
        through = through * (1 - opaque)
    if plan.disc:
        edge = smoothstep(np.radians(SUN_DEG * 1.5), np.radians(SUN_DEG * 0.8), angle.astype(np.float32))
        halo = 0.9 * np.exp(-angle / 0.022) + 0.16 * np.exp(-angle / 0.12)
        strength = plan.exposure * (9000 * edge * min(1.0, 0.06 + plan.height_deg / 12) + 3 * halo)
        sky = sky + (strength * (0.12 + 0.88 * through))[..., None] * warm
    return _with_ground(sky, rays, plan)


def _with_ground(sky: NDArray, rays: NDArray, plan: SkyPlan) -> Array:
    """Below the horizon: haze that darkens into a plain ground."""
    down = np.maximum(rays[..., 1], 0.0)
    ground = plan.exposure * np.array([0.20, 0.19, 0.17])
    share = (1 - np.exp(-down / 0.05))[..., None]
    return np.asarray(np.where(rays[..., 1:2] > 0, sky * (1 - share) + ground * share, sky), np.float32)


def _stepped(rays: NDArray, sun: NDArray) -> NDArray[np.float64]:
    """The directions a little nearer to the sun, for what stands between."""
    near = rays + 0.06 * sun
    return np.asarray(near / np.linalg.norm(near, axis=-1, keepdims=True))


def _thickness(plan: SkyPlan, layer: Layer, number: int, rays: NDArray) -> NDArray[np.float64]:
    """How thick a layer is in directions, 0 … about 1.5, on a plane a kilometre overhead."""
    _, around, coarse = _tile(plan.seed + 17 * number, layer)
    up = np.maximum(-rays[..., 1], 0.012)
    scale = TILE_PX / layer.size_km
    u = ((rays[..., 0] / up) * scale % TILE_PX).astype(np.float32)
    v = ((rays[..., 2] / up) * scale % TILE_PX).astype(np.float32)
    # far away a pixel sees many repeats: what is finer than it is averaged
    found = cv2.remap(around, u, v, cv2.INTER_LINEAR)
    broad = cv2.remap(coarse, u, v, cv2.INTER_LINEAR)
    share = smoothstep(0.16, 0.05, up.astype(np.float32))
    value = found * (1 - share) + broad * share
    level = _level(plan.seed + 17 * number, layer)
    return np.asarray(np.maximum((value - level) / max(layer.soft, 0.05), 0), np.float64)


@lru_cache(maxsize=8)
def _level(seed: int, layer: Layer) -> float:
    """The noise's value above which there is cloud."""
    return float(np.quantile(_tile(seed, layer)[0], 1 - layer.cover))


@lru_cache(maxsize=4)
def _tile(seed: int, layer: Layer) -> tuple[Array, Array, Array]:
    """A layer's noise, the same a little beyond its rim, and softened."""
    tile = _noise(seed, layer)
    soft = cv2.GaussianBlur(np.pad(tile, 64, mode="wrap"), (0, 0), 14)[64:-64, 64:-64]
    around, coarse = (np.asarray(np.pad(each, ((0, 2), (0, 2)), mode="wrap"), np.float32) for each in (tile, soft))
    return tile, around, coarse


def _noise(seed: int, layer: Layer) -> Array:
    """Periodic noise of standard deviation 1; in cells where clouds come in small heaps."""
    chance = np.random.default_rng(seed)
    base = clouds(chance, (TILE_PX, TILE_PX), layer.slope, layer.stretch)
    if not layer.cells:
        return base + 0.35 * clouds(chance, (TILE_PX, TILE_PX), 1.15)
    x = 2 * np.pi * np.arange(TILE_PX) / TILE_PX
    bend, bow = (2.2 * clouds(chance, (TILE_PX, TILE_PX), 2.2) for _ in range(2))
    heaps = np.sin(34 * x[None, :] + bend) * np.sin(21 * x[:, None] + bow)
    cells = 0.9 * heaps + 0.9 * base + 0.3 * clouds(chance, (TILE_PX, TILE_PX), 1.2)
    return np.asarray((cells - cells.mean()) / cells.std(), np.float32)
