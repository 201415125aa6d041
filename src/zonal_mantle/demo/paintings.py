"""The three paintings of the demo: an evening sky, a far range, a brick mill tower. Scene-linear, premultiplied."""

from __future__ import annotations

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from ..skies.noise import clouds, smoothstep

Array = NDArray[np.float32]

SKY_SIZE = (1400, 2600)
SKY_HORIZON = 0.84  # share of the height
SKY_SUN = (0.80, 0.735)  # shares of width and height


def evening_sky(seed: int) -> Array:
    """A low sun at the right under bands of altocumulus. (1400, 2600, 4), opaque, sun far above 1."""
    rng = np.random.default_rng([seed, 21])
    h, w = SKY_SIZE
    x = (np.arange(w, dtype=np.float32) + 0.5)[None, :] / w
    y = (np.arange(h, dtype=np.float32) + 0.5)[:, None] / h
    up = np.clip((SKY_HORIZON - y) / SKY_HORIZON, 0, 1)
    dx, dy = (x - SKY_SUN[0]) * w / h, y - SKY_SUN[1]
    distance = np.hypot(dx, dy)
    side = np.exp(-distance / 0.75)[..., None]
    zenith = np.array([0.085, 0.145, 0.30], np.float32)
    low_cool, low_warm = np.array([0.34, 0.33, 0.38], np.float32), np.array([0.95, 0.52, 0.24], np.float32)
    low = low_cool + (low_warm - low_cool) * side
    blend = (up**0.62)[..., None]
    sky = low * (1 - blend) + (zenith + 0.18 * side * np.array([0.9, 0.5, 0.35], np.float32)) * blend
    glow = np.exp(-distance / 0.16)[..., None] * np.array([1.5, 0.85, 0.36]) + np.exp(-distance / 0.05)[
        ..., None
    ] * np.array([3.0, 2.1, 1.2])
    sky = sky + glow

    n = 2048
    deck = clouds(rng, (n, n), 1.35) + 0.55 * clouds(rng, (n, n), 0.95)
    bands = clouds(rng, (n, n), 1.9, 0.5)
    height = np.maximum(up, 0.015)
    px = ((x - 0.5) * 900 / height * 0.55 + 700) % n
    py = (np.full((1, w), 620.0) / height * 0.75 + 0 * x) % n

    def lookup(field: Array, ox: float = 0.0, oy: float = 0.0) -> Array:
        mx = np.broadcast_to((px + ox) % n, (h, w)).astype(np.float32)
        my = np.broadcast_to((py + oy) % n, (h, w)).astype(np.float32)
        return np.asarray(cv2.remap(field, mx, my, cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP))

    soft = cv2.GaussianBlur(deck, (0, 0), 3)
    thick = lookup(deck) + 0.9 * lookup(bands)
    toward = lookup(soft, 14.0 * 1.0, -9.0) + 0.9 * lookup(bands, 14.0, -9.0)
    cover = smoothstep(0.35, 1.75, thick)
    cover *= smoothstep(0.015, 0.1, up) * (0.25 + 0.75 * smoothstep(0.05, 0.35, up))
    relief = np.clip(0.5 + 0.33 * (thick - toward), 0, 1)[..., None]
    lit = np.array([1.15, 0.66, 0.42], np.float32) * (0.35 + 1.3 * side) + 0.10
    shade = np.array([0.20, 0.19, 0.25], np.float32) * (0.75 + 0.5 * side)
    cloud = shade + (lit - shade) * relief
    edge = (cover * (1 - 0.45 * cover))[..., None]
    sky = sky * (1 - cover[..., None] * 0.92) + cloud * cover[..., None] * 0.92 + edge * side * 0.22

    # a few long bars near the horizon
    bars = clouds(rng, (h, w), 1.55, 13.0)
    bar_cover = smoothstep(0.7, 2.0, bars) * smoothstep(0.0, 0.06, up) * (1 - smoothstep(0.16, 0.4, up))
    bar_colour = np.array([0.30, 0.23, 0.27], np.float32) + side * np.array([0.75, 0.3, 0.1], np.float32)
    sky = sky * (1 - bar_cover[..., None] * 0.8) + bar_colour * bar_cover[..., None] * 0.8
    disc = smoothstep(0.0125, 0.0105, distance)[..., None]
    sky = sky * (1 - disc) + disc * np.array([26.0, 19.0, 11.0])
    veil = smoothstep(0.11, -0.02, up)[..., None]
    sky = sky * (1 - 0.7 * veil) + 0.7 * veil * (low * 0.92)
    return np.concatenate([np.clip(sky, 0, 60), np.ones((h, w, 1))], axis=-1).astype(np.float32)


@numba.njit(cache=True, nogil=True)
def _terrain_view(
    height: Array, colour: Array, out: Array, eye: float, near: float, far: float, horizon: float
) -> None:
    """Draws a height field column by column from near to far, each column filled upward as higher ground appears."""
    depth, w = height.shape
    h = out.shape[0]
    scale = out.shape[1] * 0.62
    for x in range(w):
        lowest = float(h)
        for k in range(depth):
            z = near + (far - near) * k / (depth - 1)
            top = horizon - (height[k, x] - eye) * scale / z
            if top < lowest:
                mist = (z - near) / (far - near)
                keep = 1.0 - 0.5 * mist
                for row in range(max(int(np.ceil(top - 0.5)) - 1, 0), min(int(np.ceil(lowest)), h)):
                    cover = min(max(row + 1 - top, 0.0), 1.0) * (1.0 - out[row, x, 3])
                    if cover > 0:
                        out[row, x, 0] += cover * (colour[k, x, 0] * keep + 0.36 * (1 - keep))
                        out[row, x, 1] += cover * (colour[k, x, 1] * keep + 0.31 * (1 - keep))
                        out[row, x, 2] += cover * (colour[k, x, 2] * keep + 0.33 * (1 - keep))
                        out[row, x, 3] += cover
                lowest = top


def far_range(seed: int) -> Array:
    """Snow-patched mountains lit from the right, with alpha, foot opaque. (560, 3200, 4)."""
    rng = np.random.default_rng([seed, 22])
    h, w, depth = 560, 3200, 700
    ridged = 1.0 - np.abs(clouds(rng, (depth, w), 1.95, 0.4)) * 0.95
    rough = 1.0 - np.abs(clouds(rng, (depth, w), 1.7, 0.35)) * 0.8
    rise = smoothstep(0.02, 0.75, np.linspace(0, 1, depth, dtype=np.float32))[:, None]
    massif = 0.8 + 0.2 * clouds(rng, (depth, w), 2.6, 1.0)
    height = (0.18 + rise * np.clip(massif, 0.25, 1.6) * (0.72 * ridged + 0.36 * rough + 0.22)).astype(np.float32)
    height = cv2.GaussianBlur(height, (0, 0), 1.2)
    slope_x = np.gradient(height, axis=1) * 130.0
    slope_z = np.gradient(height, axis=0) * 60.0
    normal = 1.0 / np.sqrt(slope_x**2 + slope_z**2 + 1)
    sun = np.clip((-slope_x * 1.05 - slope_z * 0.2 + 0.3) * normal, 0, None)
    light = sun[..., None] * np.array([1.25, 0.92, 0.66]) + (0.24 + 0.2 * normal[..., None]) * np.array(
        [0.72, 0.8, 1.0]
    )
    steep = 1 - normal + 0.1 * clouds(rng, (depth, w), 1.1)
    snow = smoothstep(0.62, 0.82, height - 0.42 * steep)[..., None]
    pasture = smoothstep(0.60, 0.3, height)[..., None]
    rock = np.array([0.17, 0.14, 0.135]) * (1 + 0.22 * clouds(rng, (depth, w), 0.9)[..., None])
    ground = rock * (1 - pasture) + pasture * np.array([0.095, 0.10, 0.06])
    colour = np.clip((ground * (1 - snow) + snow * 0.74) * light, 0, 2).astype(np.float32)
    out = np.zeros((h, w, 4), np.float32)
    _terrain_view(height, colour, out, 0.45, 3.6, 9.5, h * 0.80)
    return out


def mill_tower(seed: int) -> Array:
    """A tapered brick tower mill with a boarded cap, lit from the right. (1200, 520, 4)."""
    rng = np.random.default_rng([seed, 23])
    h, w = 1200, 520
    y = np.arange(h, dtype=np.float32)[:, None] + 0.5
    x = np.arange(w, dtype=np.float32)[None, :] + 0.5
    cap_foot = 190.0
    share = np.clip((y - cap_foot) / (h - cap_foot), 0, 1)
    half = 118 + (212 - 118) * share**1.12
    across = (x - w / 2) / half
    inside = np.clip((half - np.abs(x - w / 2)) + 0.5, 0, 1) * np.clip(y - cap_foot + 0.5, 0, 1)
    angle = np.arcsin(np.clip(across, -0.999, 0.999))
    light = np.clip(0.16 + 0.95 * np.clip(np.sin(angle + 0.25), 0, 1) + 0.22 * np.cos(angle), 0, 1.3)
    courses, round_ = 128, 46
    row = np.floor(share * courses)
    column = np.floor((angle / np.pi + 0.5) * round_ * 1.0 + 0.5 * (row % 2))
    table = rng.normal(1, 0.17, (courses + 1, 128))
    tint = table[row.astype(int).clip(0, courses) + 0 * column.astype(int), column.astype(int) % 128]
    joint_y = np.abs(share * courses - row - 0.5) > 0.40
    joint_x = np.abs((angle / np.pi + 0.5) * round_ + 0.5 * (row % 2) - column - 0.5) > 0.45
    mortar = (joint_y | joint_x).astype(np.float32)
    brick = np.array([0.30, 0.125, 0.075], np.float32) * tint[..., None]
    brick = brick * (1 - 0.6 * mortar[..., None]) + 0.6 * mortar[..., None] * np.array([0.26, 0.23, 0.19])
    stain = smoothstep(0.2, 1.8, clouds(rng, (h, w), 1.5, 0.35))[..., None]
    brick = brick * (1 - 0.45 * stain)
    warm, cool = np.array([1.3, 1.0, 0.74], np.float32), np.array([0.75, 0.85, 1.1], np.float32)
    tone = (cool + (warm - cool) * np.clip(light, 0, 1)[..., None]) * light[..., None]
    colour = brick * tone
    for level, where in ((0.16, 0.25), (0.40, -0.2), (0.64, 0.3), (0.40, 0.62)):
        cy, half_here = cap_foot + (h - cap_foot) * level, 118 + 94 * level
        cx = w / 2 + half_here * where
        ww, wh = 13 * np.sqrt(1 - where**2), 24
        arch = (np.abs(x - cx) < ww) & (y < cy + wh) & ((y > cy) | (np.hypot(x - cx, (y - cy) * 1.0) < ww))
        rim = (np.abs(x - cx) < ww + 4) & (y < cy + wh + 5) & ((y > cy) | (np.hypot(x - cx, y - cy) < ww + 4))
        colour = np.where(rim[..., None], np.array([0.42, 0.38, 0.32]) * tone, colour)
        colour = np.where(arch[..., None], np.array([0.012, 0.014, 0.02]), colour)
    out = np.concatenate([colour * inside[..., None], inside[..., None]], axis=-1).astype(np.float32)

    # gallery and cap
    for y0, y1, hw, shade in ((182, 206, 146, 0.18), (206, 214, 132, 0.08)):
        edge = np.clip(hw - np.abs(x - w / 2) + 0.5, 0, 1) * np.clip(y - y0 + 0.5, 0, 1) * np.clip(y1 - y + 0.5, 0, 1)
        ramp = shade * (0.35 + 0.9 * np.clip((x - w / 2) / hw * 0.6 + 0.5, 0, 1))
        out = out * (1 - edge[..., None]) + edge[..., None] * np.concatenate(
            [ramp[..., None] * np.array([1.15, 0.95, 0.75]) + 0 * y[..., None], np.ones((h, w, 1))], axis=-1
        )
    profile_y = np.clip((182 - y) / 150, 0, 1)
    cap_half = 122 * np.sqrt(np.clip(1 - profile_y**2.2, 0, 1)) * (y > 30) * (y < 183)
    cap = np.clip(cap_half - np.abs(x - w / 2) + 0.5, 0, 1)
    round_cap = np.arcsin(np.clip((x - w / 2) / np.maximum(cap_half, 1), -0.999, 0.999))
    boards = 0.75 + 0.25 * np.abs(np.sin(round_cap * 11))
    sheen = 0.12 + 0.85 * np.clip(np.sin(round_cap + 0.35), 0, 1) + 0.18 * np.cos(round_cap)
    cap_colour = np.array([0.16, 0.14, 0.13]) * (boards * sheen)[..., None] * np.array([1.2, 1.0, 0.82])
    out = out * (1 - cap[..., None]) + np.concatenate([cap_colour, np.ones((h, w, 1))], axis=-1) * cap[..., None]
    pole = np.clip(3.0 - np.abs(x - w / 2), 0, 1) * (y < 34) * (y > 6)
    out = out * (1 - pole[..., None]) + pole[..., None] * np.array([0.12, 0.1, 0.09, 1.0])
    return np.asarray(cv2.GaussianBlur(out.astype(np.float32), (0, 0), 0.6))
