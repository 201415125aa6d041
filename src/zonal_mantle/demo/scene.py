"""The old saltworks: which textured panels stand where, and the tables for hills and ground."""

from __future__ import annotations

from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from ..skies.noise import clouds, profile, smoothstep
from . import paintings, props, textures

Array = NDArray[np.float32]

HILL_DISTANCES_M = (1800.0, 3200.0)
HILL_AZIMUTH = np.deg2rad(70.0)  # tables span plus and minus this
TOWER_DISTANCE_M = 110.0
RANGE_DISTANCE_M = 5000.0
AIRLIGHT = np.array([0.80, 0.83, 0.86], np.float32)
VISIBILITY_M = 30000.0
SUN_BEARING_DEG = 34.0


@dataclass
class Panel:
    """A textured parallelogram: top-left corner, edge along the texture's rows, edge down its columns (metres)."""

    corner: NDArray[np.float64]
    across: NDArray[np.float64]
    down: NDArray[np.float64]
    texture: int
    light: float = 1.0
    velocity: NDArray[np.float64] = field(default_factory=lambda: np.zeros(3))  # metres a frame
    spin: float = 0.0  # radians a frame, in the panel's own plane
    added: bool = False  # stands only in the finished picture, not in the plate
    name: str = ""


@dataclass
class Scene:
    """All that the tracer needs, besides the camera."""

    panels: list[Panel]
    textures: list[Array]
    hill_tangent: Array  # (2, n) tangent of the skyline's elevation
    hill_colour: Array  # (2, rows, n, 3)
    ground_noise: Array  # (n, n, 4)
    sky_noise: Array  # (h, w)
    painting_sky: Array
    painting_range: Array
    painting_tower: Array


def _card(x: float, y: float, width: float, height: float, texture: int, foot: float = 0.0, **more: object) -> Panel:
    corner = np.array([x - width / 2, y, foot + height])
    return Panel(corner, np.array([width, 0, 0.0]), np.array([0, 0, -height]), texture, **more)  # type: ignore[arg-type]


def _house(
    x0: float,
    x1: float,
    y0: float,
    y1: float,
    eaves: float,
    ridge: float,
    wall: int,
    gable: int,
    roof: int,
    name: str = "",
) -> list[Panel]:
    """A house with its ridge along x: front wall, near roof slope and both gable ends."""
    middle = (y0 + y1) / 2
    over = 0.4
    rise = (ridge - eaves) / (middle - y0)
    return [
        Panel(np.array([x0, y0, eaves]), np.array([x1 - x0, 0, 0.0]), np.array([0, 0, -eaves]), wall, 0.62),
        Panel(np.array([x0, y1, ridge]), np.array([0.0, y0 - y1, 0]), np.array([0, 0, -ridge]), gable, 0.5),
        Panel(np.array([x1, y0, ridge]), np.array([0.0, y1 - y0, 0]), np.array([0, 0, -ridge]), gable, 0.78),
        Panel(
            np.array([x0 - over, middle, ridge]),
            np.array([x1 - x0 + 2 * over, 0, 0.0]),
            np.array([0, y0 - over - middle, -(middle - y0 + over) * rise]),
            roof,
            0.95,
            name=name,
        ),
    ]


def _gable_mask(wall: Array, eaves: float, ridge: float) -> Array:
    """Cuts a wall texture to the outline of a gable end."""
    out = wall.copy()
    h, w = out.shape[:2]
    shoulder = (ridge - eaves) / ridge * h
    outline = np.array([[0, h], [0, shoulder], [w / 2, 0], [w, shoulder], [w, h]])
    mask = np.zeros((h, w), np.uint8)
    cv2.fillPoly(mask, [(outline * 16).astype(np.int32)], 255, cv2.LINE_AA, 4)
    out *= (mask.astype(np.float32) / 255)[..., None]
    return out


def _hills(rng: np.random.Generator) -> tuple[Array, Array]:
    n, rows = 8192, 192
    tangent = np.empty((2, n), np.float32)
    colour = np.empty((2, rows, n, 3), np.float32)
    heights = ((34.0, 40.0), (135.0, 70.0))
    for k, (base, swing) in enumerate(heights):
        line = profile(rng, n, 1.9) * 0.5 + profile(rng, n, 1.25) * 0.10
        woods = np.abs(profile(rng, n, 0.75)) * 0.035
        tangent[k] = (base + swing * (line + woods)) / HILL_DISTANCES_M[k]
        slope = np.gradient(cv2.GaussianBlur(tangent[k][None], (0, 0), 9)[0])
        light = 1 + 0.35 * np.tanh(-slope / (np.abs(slope).mean() * 2 + 1e-9))
        cover = smoothstep(-0.3, 0.5, clouds(rng, (rows, n), 1.25, 3.0))
        fine = clouds(rng, (rows, n), 0.7, 2.0)
        wood, field_ = np.array([0.04, 0.055, 0.03]), np.array([0.21, 0.20, 0.12])
        x, y = np.meshgrid(np.arange(n, dtype=np.float32), np.arange(rows, dtype=np.float32))
        u = x / 95 + 0.35 * clouds(rng, (rows, n), 1.6, 2.0)
        v = y / 26 + 0.55 * clouds(rng, (rows, n), 1.7, 3.0)
        cell = np.floor(u).astype(int) * 7919 + np.floor(v).astype(int) * 104729
        crop = rng.uniform(0.55, 1.7, 4096).astype(np.float32)[cell % 4096][..., None]
        hedge = np.minimum(
            np.minimum(u - np.floor(u), np.ceil(u) - u) * 95 / 3.2,
            np.minimum(v - np.floor(v), np.ceil(v) - v) * 26 / 2.2,
        )
        field_ = field_ * crop * (0.3 + 0.7 * np.clip(hedge, 0, 1))[..., None]
        mix = cover[..., None] * wood + (1 - cover[..., None]) * field_
        for _ in range(150):  # farmhouses and copses: what a mark can be set on
            i, j = int(rng.integers(0, n - 40)), int(rng.integers(8, rows - 30))
            wide, tall = int(rng.integers(10, 26)), int(rng.integers(8, 18))
            mix[j : j + tall, i : i + wide] = 0.62 if rng.random() < 0.5 else 0.025
            mix[j : j + tall // 3, i : i + wide] *= 0.5
        colour[k] = mix * light[None, :, None] * np.clip(1 + 0.28 * fine[..., None], 0.3, 2)
    return np.maximum(tangent, 0.001).astype(np.float32), colour


def _ground_noise(rng: np.random.Generator) -> Array:
    n = 1024
    layers = [clouds(rng, (n, n), slope) for slope in (1.1, 1.6, 0.9, 2.2)]
    return np.stack(layers, axis=-1).astype(np.float32)


def build(seed: int) -> Scene:
    """The saltworks for a seed: the same plan, with other trees, boards, hills and places each time."""
    rng = np.random.default_rng([seed, 1])
    sheets: list[Array] = []

    def sheet(picture: Array) -> int:
        sheets.append(np.ascontiguousarray(picture, np.float32))
        return len(sheets) - 1

    panels: list[Panel] = []
    trees = [sheet(textures.tamarisk(rng)) for _ in range(5)]
    tufts = [sheet(textures.grass(rng)) for _ in range(2)]
    sparse = sheet(textures.grass(rng, (96, 1024), 0.45))

    # the boiling house, its lean-to, the sheds
    boards = textures.planks(rng, (256, 768), (0.30, 0.26, 0.215), 54)
    doors = [
        (0.08, 0.42, 0.08, 0.57),
        (0.45, 0.38, 0.13, 0.61),
        (0.26, 0.3, 0.06, 0.2),
        (0.70, 0.3, 0.06, 0.2),
        (0.85, 0.3, 0.06, 0.2),
    ]
    wall = sheet(textures.add_openings(boards, doors))
    gable = sheet(_gable_mask(textures.planks(rng, (384, 384), (0.29, 0.25, 0.21), 26), 4.2, 8.4))
    shingle = sheet(textures.roof(rng, (256, 768)))
    shift = rng.uniform(-1.0, 1.0)
    house_x = -14.5 + shift
    panels += _house(house_x, house_x + 14.5, 74, 84, 4.2, 8.4, wall, gable, shingle, "house roof")
    shed_wall = sheet(textures.planks(rng, (128, 512), (0.24, 0.2, 0.165), 40))
    shed_gable = sheet(_gable_mask(textures.planks(rng, (192, 192), (0.24, 0.2, 0.165), 14), 2.3, 3.9))
    for x in (6.0, 17.5):
        x += rng.uniform(-1, 1)
        panels += _house(x, x + 9.0, 96, 101, 2.3, 3.9, shed_wall, shed_gable, shingle)
    chimney = sheet(textures.planks(rng, (512, 64), (0.27, 0.16, 0.12), 30, upright=False))
    panels.append(_card(house_x + 12.4, 79.5, 1.0, 11.6, chimney, light=0.75))

    # poles with wires, the row of tamarisks, the wind pump
    panels.append(_card(6.0, 62.0, 105.0, 6.6, sheet(props.wire_line()), light=0.8, name="wires"))
    for k, x in enumerate(np.linspace(-28, -15, 5)):
        tall = rng.uniform(3.8, 5.6)
        panels.append(_card(x + rng.normal(0, 0.8), rng.uniform(37, 46), tall * 1.05, tall, trees[k % 4], light=0.95))
    for k, x in enumerate((14.5, 18.8, 23.0)):
        tall = rng.uniform(4.0, 5.4)
        panels.append(
            _card(x + rng.normal(0, 0.7), rng.uniform(40, 50), tall * 1.05, tall, trees[(k + 1) % 4], light=0.95)
        )
    panels.append(_card(9.6 + rng.normal(0, 0.4), 21.0, 5.3, 5.0, trees[2], light=1.0, name="near tree"))
    pump_x, pump_y, hub = 3.9 + rng.uniform(-0.5, 0.5), 27.0, 6.1
    panels.append(_card(pump_x, pump_y, 6.4, 6.4, sheet(props.pump_tower()), light=0.9, name="pump"))
    wheel = sheet(props.pump_wheel())
    panels.append(
        _card(
            pump_x,
            pump_y - 0.35,
            5.6,
            5.6,
            wheel,
            hub - 2.8,
            light=0.95,
            spin=float(rng.uniform(0.018, 0.03)),
            name="wheel",
        )
    )

    for k, x in enumerate(rng.uniform(-95, 95, 12)):
        far, tall = rng.uniform(112, 190), rng.uniform(3.2, 6.0)
        panels.append(_card(x, far, tall * 1.5, tall, trees[k % 4], light=0.8))

    # grass along the dikes, far to near, and the bank that carries the rails
    for y in (58.0, 46.5, 34.0, 25.5, 18.2, 13.4):
        for x0 in np.arange(-y * 0.75, y * 0.75, 11.0):
            if rng.random() < 0.62:
                tall = rng.uniform(0.22, 0.5)
                which = tufts[int(rng.integers(2))] if rng.random() < 0.6 else sparse
                panels.append(_card(x0 + rng.uniform(-2, 2), y + rng.uniform(-0.6, 0.6), 7.0, tall, which, light=0.9))
    bank = sheet(textures.earth(rng))
    panels.append(Panel(np.array([-16.0, 8.75, 0.45]), np.array([32.0, 0, 0]), np.array([0, -0.5, -0.45]), bank, 0.7))
    panels.append(Panel(np.array([-16.0, 9.7, 0.45]), np.array([32.0, 0, 0]), np.array([0, -0.95, 0.0]), bank, 0.95))
    rail = np.zeros((16, 64, 4), np.float32)
    rail[2:14] = (0.16, 0.13, 0.115, 1)
    rail[2:4] = (0.5, 0.5, 0.5, 1)
    rails = sheet(rail)
    for y in (9.4, 8.92):
        panels.append(_card(0.0, y, 32.0, 0.07, rails, 0.45, light=0.9))
    cart = sheet(props.wagon(rng))
    speed = rng.uniform(0.032, 0.045)
    panels.append(_card(-4.9, 9.15, 2.3, 1.48, cart, 0.49, light=0.9, velocity=np.array([speed, 0, 0]), name="wagon"))
    for x0 in (-12.0, -5.2, 1.9, 8.4):
        panels.append(_card(x0 + rng.uniform(-0.6, 0.6), 8.3, 7.4, 0.42, tufts[int(rng.integers(2))], light=0.85))
    for x0 in (-3.4, 1.4, 4.2):
        panels.append(_card(x0 + rng.uniform(-0.7, 0.7), 6.3, 2.8, 0.36, sparse, light=0.8))

    # what the finished picture adds
    sky, far_range, tower = paintings.evening_sky(seed), paintings.far_range(seed), paintings.mill_tower(seed)
    h, w = tower.shape[:2]
    tall = 29.0
    panels.append(
        _card(
            house_x + 6.4,
            TOWER_DISTANCE_M,
            tall * w / h,
            tall,
            sheet(tower),
            0.0,
            added=True,
            name="mill tower",
        )
    )
    h, w = far_range.shape[:2]
    wide = 9200.0
    panels.append(
        _card(0.0, RANGE_DISTANCE_M, wide, wide * h / w, sheet(far_range), -90.0, added=True, name="far range")
    )

    tangent, colour = _hills(rng)
    return Scene(
        panels=panels,
        textures=sheets,
        hill_tangent=tangent,
        hill_colour=colour,
        ground_noise=_ground_noise(rng),
        sky_noise=clouds(rng, (256, 1024), 1.5, 5.0),
        painting_sky=sky,
        painting_range=far_range,
        painting_tower=tower,
    )
