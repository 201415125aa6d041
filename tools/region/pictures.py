"""Pictures to learn from which parts of a frame are sky: made of photographs, cut-outs and painted skies, with truth.

Every picture is 480 px wide, coded 0…1, with the share of sky of each pixel. What is behind (a sky), what stands on it
(ridges, photographed panoramas, houses, leaves, water that mirrors it) and the camera (exposure, haze, blur, noise,
compression) are drawn at random, so that nothing but what is true of skies can be learnt by heart. Rooms, walls,
photographs without sky and blurred backgrounds are the other half of the lesson.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]
Rng = np.random.Generator

WIDTH = 480
SCENES = ("dawn", "night", "venice")  # panoramas with ground of which the sky is told by its light
SKIES = ("dawn", "night", "sunrise", "venice", "sky")


@dataclass(frozen=True)
class Stock:
    """What pictures are made of: RGBA panoramas and cut-outs, lat-long skies and rooms, photographs without sky."""

    grounds: list[Array]
    stamps: list[Array]
    trees: list[Array]
    skies: dict[str, Array]
    rooms: list[Array]
    photographs: list[Array]


def read_stock(folder: Path) -> Stock:
    """Reads what `fetch.py` has laid in a folder."""

    def pictures(kind: str) -> list[Array]:
        found = sorted((folder / kind).iterdir())
        read = [cv2.imread(str(each), cv2.IMREAD_UNCHANGED) for each in found]
        return [_rgb(each) for each in read if each is not None]

    panoramas = {each.stem: np.load(each)["light"] for each in sorted((folder / "panoramas").glob("*.npz"))}
    skies = {name: panoramas[name] for name in SKIES}
    rooms = [light for name, light in panoramas.items() if name in ROOMS]
    return Stock(
        pictures("grounds"), pictures("stamps"), pictures("trees"), skies, rooms, pictures("photographs")
    )  # fmt: skip


ROOMS = ("apartment", "bridge", "esplanade", "hall", "lab", "lobby", "studio", "warehouse", "workshop", "forest")


def _rgb(picture: NDArray[np.generic]) -> Array:
    values = picture.astype(np.float32) / (65535 if picture.dtype == np.uint16 else 255)
    if values.ndim == 2:
        values = np.repeat(values[..., None], 3, 2)
    out = values[..., [2, 1, 0, 3]] if values.shape[2] == 4 else values[..., 2::-1]
    size = 1400 / max(out.shape[:2])
    if size < 1:
        out = cv2.resize(out, None, fx=size, fy=size, interpolation=cv2.INTER_AREA)
    return np.ascontiguousarray(out, np.float32)


def lesson(stock: Stock, seed: int) -> tuple[Array, Array]:
    """One picture (h, 480, 3), coded, and its share of sky (h, 480)."""
    rng = np.random.default_rng(seed)
    height = int(WIDTH * rng.choice([0.5625, 0.5625, 0.42, 0.625, 0.75, 1.0]))
    makers: list[tuple[float, Callable[[Stock, Rng, int], tuple[Array, Array]]]] = [
        (0.45, _landscape), (0.10, _all_sky), (0.09, _scene), (0.09, _leaves), (0.07, _room), (0.07, _photograph),
        (0.06, _wall), (0.07, _blurred_backdrop),
    ]  # fmt: skip
    make = makers[int(rng.choice(len(makers), p=[share for share, _ in makers]))][1]
    picture, sky = make(stock, rng, height)
    if rng.random() < 0.5:
        picture, sky = picture[:, ::-1], sky[:, ::-1]
    return filmed(picture, rng), np.ascontiguousarray(sky, np.float32)


def clouds(rng: Rng, height: int, stretch: float) -> Array:
    """Fractal noise, 0…1. (height, 480)."""
    out = np.zeros((height, WIDTH), np.float32)
    fall = rng.uniform(0.45, 0.7)
    for level in range(7):
        cells = 2 ** (level + 1)
        grid = rng.standard_normal((max(2, int(cells * height / WIDTH)) + 1, max(2, int(cells / stretch)) + 1))
        out += fall**level * cv2.resize(grid.astype(np.float32), (WIDTH, height), interpolation=cv2.INTER_CUBIC)
    low, high = np.percentile(out, (2, 98))
    return np.clip((out - low) / (high - low + 1e-6), 0, 1)


def heaped(rng: Rng, height: int) -> tuple[Array, Array]:
    """Clouds heaped up and torn, smaller toward the foot: how much they cover, 0…1, and how lit they are, 0…1. Both
    (height, 480)."""
    v, u = np.mgrid[0:height, 0:WIDTH].astype(np.float32)
    warp = rng.uniform(0, 0.12) * WIDTH
    aside, down = ((clouds(rng, height, 1) - 0.5) * warp for _ in range(2))
    far = rng.uniform(1.05, 4) * height  # the row in which they vanish
    depth = (far - height) / np.maximum(far - v, 1)
    middle = rng.uniform(0.2, 0.8) * WIDTH
    across = middle + (u - middle) * depth + aside
    along = height * (1 - depth) / max(1 - (far - height) / far, 1e-3) + down

    def seen(field: Array) -> Array:
        return cv2.remap(
            field, across.astype(np.float32), along.astype(np.float32), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT
        )

    body = seen(clouds(rng, height, rng.uniform(0.7, 2.5)))
    billow = seen(1 - np.abs(2 * clouds(rng, height, 1) - 1))
    dense = body + rng.uniform(0, 0.35) * (billow - 0.5)
    cover = np.clip((dense - rng.uniform(0.25, 0.75)) / rng.uniform(0.03, 0.25), 0, 1)
    step = max(1, int(rng.uniform(0.01, 0.06) * height))
    lower = np.concatenate([dense[step:], np.repeat(dense[-1:], step, 0)])
    lit = 0.6 + rng.uniform(0, 2.5) * (lower - dense) + rng.uniform(0, 0.5) * (billow - 0.5)
    return cover.astype(np.float32), np.clip(lit, 0, 1).astype(np.float32)


def painted_sky(stock: Stock, rng: Rng, height: int) -> Array:
    """A sky (height, 480, 3), coded: photographed or painted."""
    if rng.random() < 0.35:
        light = stock.skies[str(rng.choice(SKIES))]
        return _coded(_view(light, rng, height, (22.0, 55.0)), rng)
    ramp = np.linspace(0, 1, height, dtype=np.float32)[:, None, None] ** np.float32(rng.uniform(0.5, 2.2))
    kind = rng.choice(
        ["blue", "deep", "grey", "white", "sunset", "dusk", "fog", "night"],
        p=[0.26, 0.18, 0.17, 0.06, 0.13, 0.09, 0.06, 0.05],
    )
    top, foot = {
        "blue": ((.10, .3, .55), (.65, .75, .85)), "deep": ((.03, .17, .5), (.25, .47, .75)),
        "grey": ((.5, .53, .57), (.75, .77, .8)),
        "white": ((.93, .94, .96), (.99, .99, .99)), "sunset": ((.25, .3, .5), (.95, .65, .4)),
        "dusk": ((.08, .12, .25), (.3, .33, .42)), "fog": ((.62, .64, .66), (.68, .69, .7)),
        "night": ((.01, .015, .03), (.05, .05, .07)),
    }[str(kind)]  # fmt: skip
    spread = 0.13 if kind not in ("night", "white") else 0.02
    top_c = np.clip(np.array(top) + rng.normal(0, spread, 3) * 0.7 + rng.normal(0, spread), 0, 1)
    foot_c = np.clip(np.array(foot) + rng.normal(0, spread, 3) * 0.7 + rng.normal(0, spread), 0, 1)
    out = top_c * (1 - ramp) + foot_c * ramp + np.zeros((height, WIDTH, 1))
    x, y = np.meshgrid(np.linspace(0, 1, WIDTH), np.linspace(0, 1, height))
    if rng.random() < 0.5:
        cover = clouds(rng, height, rng.uniform(1, 5))
        soft, least = rng.uniform(0.05, 0.5), rng.uniform(0, 0.9)
        share = np.clip((cover - least) / soft, 0, 1)[..., None] * rng.uniform(0.3, 1)
        shade = clouds(rng, height, rng.uniform(1, 3))[..., None]
        light = np.clip(foot_c + rng.uniform(0, 0.5) + rng.normal(0, 0.05, 3), 0, 1.05)
        dark = light * rng.uniform(0.1, 1) * np.clip(1 + rng.normal(0, 0.06, 3), 0.7, 1.2)
        out = out * (1 - share) + (light * shade + dark * (1 - shade)) * share
    if rng.random() < (0.75 if kind in ("blue", "deep") else 0.2):
        cover, lit = (each[..., None] for each in heaped(rng, height))
        light = np.clip(foot_c * rng.uniform(0, 0.4) + rng.uniform(0.55, 1) + rng.normal(0, 0.03, 3), 0, 1.05)
        dark = (light * 0.6 + out * 0.4) * rng.uniform(0.4, 0.95)
        out = out + ((light - dark) * lit + dark - out) * cover * rng.uniform(0.6, 1)
    if rng.random() < 0.35:
        far = np.hypot(x - rng.uniform(-0.2, 1.2), (y - rng.uniform(0, 1.1)) * height / WIDTH)
        glow = np.exp(-((far / rng.uniform(0.08, 0.5)) ** rng.uniform(0.8, 2)))[..., None]
        out = out + glow * rng.uniform(0.1, 1.2) * np.array([1, rng.uniform(0.75, 1), rng.uniform(0.5, 1)])
    return np.clip(out + (x[..., None] - 0.5) * rng.normal(0, 0.08), 0, 1.3).astype(np.float32)


def _view(light: Array, rng: Rng, height: int, pitches: tuple[float, float]) -> Array:
    """A camera's look into a lat-long panorama, scene-linear."""
    long = WIDTH / 2 / np.tan(np.radians(rng.uniform(35, 85) / 2))
    v, u = np.mgrid[0:height, 0:WIDTH].astype(np.float32)
    ray = np.stack([(u - WIDTH / 2) / long, (v - height / 2) / long, np.ones_like(u)], -1)
    half_high = np.degrees(np.arctan(height / 2 / long))
    pitch = np.radians(rng.uniform(*pitches) + (half_high if pitches[0] > 0 else 0))
    turn = rng.uniform(0, 2 * np.pi)
    c, s = np.cos(pitch), np.sin(pitch)
    up = np.array([[1, 0, 0], [0, c, -s], [0, s, c]])
    round_ = np.array([[np.cos(turn), 0, np.sin(turn)], [0, 1, 0], [-np.sin(turn), 0, np.cos(turn)]])
    ray = ray @ (round_ @ up).T
    ray /= np.linalg.norm(ray, axis=-1, keepdims=True)
    rows, columns = light.shape[:2]
    across = ((np.arctan2(ray[..., 0], ray[..., 2]) / (2 * np.pi) + 0.5) * columns).astype(np.float32)
    down = ((np.arcsin(np.clip(ray[..., 1], -1, 1)) / np.pi + 0.5) * rows - 0.5).astype(np.float32)
    return cv2.remap(light, across, down, cv2.INTER_CUBIC, borderMode=cv2.BORDER_WRAP)


def _coded(light: Array, rng: Rng) -> Array:
    white = np.percentile(light, rng.uniform(80, 99)) + 1e-4
    return np.clip(np.maximum(light / white * rng.uniform(0.6, 1.3), 0), 0, 1.2) ** np.float32(1 / 2.2)


def _landscape(stock: Stock, rng: Rng, height: int) -> tuple[Array, Array]:
    picture = painted_sky(stock, rng, height)
    sky = np.ones((height, WIDTH), np.float32)
    horizon = height * rng.uniform(0.12, 1.0)
    air = picture[int(np.clip(horizon, 0, height - 1))].mean(0)
    layers = int(rng.integers(1, 5))
    for layer in range(layers):
        near = (layer + 1) / layers
        foot = horizon + (height - horizon) * (near - 1 / layers) * rng.uniform(0.2, 1)
        texture = _texture(stock, rng, height)
        haze = rng.uniform(0, 0.92) * (1 - near * rng.uniform(0.6, 1))
        texture = texture * (1 - haze) + air * haze
        _laid(picture, sky, texture, _below_ridge(rng, height, foot))
    if rng.random() < 0.35:
        ground = stock.grounds[int(rng.integers(len(stock.grounds)))]
        _panorama(picture, sky, ground, rng, horizon)
    if rng.random() < 0.3:
        _houses(picture, sky, rng, horizon, stock)
    for _ in range(int(rng.integers(0, 3))):
        _stamp(picture, sky, stock.stamps if rng.random() < 0.5 else stock.trees, rng)
    if rng.random() < 0.25:
        _water(picture, sky, rng)
    if rng.random() < 0.2:
        _wires(picture, sky, rng)
    if rng.random() < 0.06:
        _net(picture, sky, rng)
    return picture, sky


def _below_ridge(rng: Rng, height: int, foot: float) -> Array:
    """Everything below a line as ragged as it falls: hills, trees or the flat sea."""
    rough = float(rng.choice([0.0, 0.02, 0.06, 0.15, 0.3]))
    line = np.zeros(WIDTH, np.float32)
    fall = rng.uniform(0.4, 0.75)
    for level in range(8):
        grid = rng.standard_normal((1, 2**level + 2)).astype(np.float32)
        line += fall**level * cv2.resize(grid, (WIDTH, 1), interpolation=cv2.INTER_LINEAR)[0]
    top = foot + line * rough * height
    rows = np.arange(height, dtype=np.float32)[:, None]
    return np.clip(rows - top[None] + 0.5, 0, 1)


def _texture(stock: Stock, rng: Rng, height: int) -> Array:
    """A surface: of a photograph, plain, or nearly white as snow and walls are."""
    kind = rng.random()
    if kind < 0.6:
        source = stock.photographs if rng.random() < 0.5 else stock.grounds
        picture = source[int(rng.integers(len(source)))][..., :3]
        rows, columns = picture.shape[:2]
        size = rng.uniform(0.15, 1.0)
        h, w = max(8, int(rows * size * 0.8)), max(8, int(columns * size * 0.8))
        y, x = int(rng.integers(rows - h + 1)), int(rng.integers(columns - w + 1))
        if source is stock.grounds:
            y = rows - h  # what is cut out lies above
        out = cv2.resize(picture[y : y + h, x : x + w], (WIDTH, height), interpolation=cv2.INTER_AREA)
        out = cv2.GaussianBlur(out, (0, 0), rng.uniform(0.1, 4)) if rng.random() < 0.4 else out
        return np.clip(out * rng.uniform(0.3, 1.3) * np.clip(1 + rng.normal(0, 0.1, 3), 0.5, 1.5), 0, 1)
    base = rng.uniform(0.02, 0.7) * np.clip(1 + rng.normal(0, 0.25, 3), 0.2, 2)
    if kind > 0.85:
        base = rng.uniform(0.7, 1) * np.clip(1 + rng.normal(0, 0.03, 3), 0.9, 1.1)
    shade = clouds(rng, height, rng.uniform(0.5, 8))[..., None]
    return np.clip(base * (1 + (shade - 0.5) * rng.uniform(0, 0.8)), 0, 1).astype(np.float32)


def _laid(picture: Array, sky: Array, colour: Array, alpha: Array) -> None:
    picture[:] = picture * (1 - alpha[..., None]) + colour * alpha[..., None]
    sky *= 1 - alpha


def _panorama(picture: Array, sky: Array, ground: Array, rng: Rng, horizon: float) -> None:
    height = len(picture)
    size = rng.uniform(0.5, 1.6) * height / ground.shape[0] * rng.uniform(0.6, 1.4)
    scaled = cv2.resize(ground, None, fx=size * rng.uniform(0.8, 1.3), fy=size, interpolation=cv2.INTER_AREA)
    while scaled.shape[1] < WIDTH:
        scaled = np.concatenate([scaled, scaled[:, ::-1]], 1)
    x = int(rng.integers(scaled.shape[1] - WIDTH + 1))
    scaled = scaled[:, x : x + WIDTH]
    first = int(np.argmax(scaled[..., 3].mean(1) > 0.3))
    top = int(horizon - first)
    alpha, colour = np.zeros_like(sky), np.zeros_like(picture)
    y0, y1 = max(top, 0), min(top + len(scaled), height)
    if y1 <= y0:
        return
    alpha[y0:y1], colour[y0:y1] = scaled[y0 - top : y1 - top, :, 3], scaled[y0 - top : y1 - top, :, :3]
    if y1 < height:
        alpha[y1:], colour[y1:] = 1, colour[y1 - 1].mean(0)
    _laid(picture, sky, np.clip(colour * rng.uniform(0.5, 1.4), 0, 1), alpha)


def _houses(picture: Array, sky: Array, rng: Rng, horizon: float, stock: Stock) -> None:
    height = len(picture)
    for _ in range(int(rng.integers(1, 6))):
        w, h = int(rng.uniform(0.04, 0.4) * WIDTH), int(rng.uniform(0.1, 0.9) * height)
        x, y = int(rng.integers(-w // 2, WIDTH - 5)), int(horizon - h + rng.uniform(0, 0.2) * height)
        wall = np.clip(rng.uniform(0.08, 1) * np.clip(1 + rng.normal(0, 0.12, 3), 0.5, 1.3), 0, 1)
        colour = np.broadcast_to(wall, picture.shape).astype(np.float32).copy()
        if rng.random() < 0.7:
            step = int(rng.uniform(4, 30))
            pane = wall * rng.uniform(0.3, 0.9) if rng.random() < 0.6 else np.clip(picture[height // 8].mean(0), 0, 1)
            for row in range(max(y, 0) + step // 2, height, step):
                colour[row : row + max(1, step // 2), step // 3 :: step] = pane
                colour[row : row + max(1, step // 2), step // 3 + 1 :: step] = pane
        alpha = np.zeros_like(sky)
        alpha[max(y, 0) :, max(x, 0) : x + w] = 1
        _laid(picture, sky, colour, alpha)


def _stamp(picture: Array, sky: Array, stamps: list[Array], rng: Rng) -> None:
    height = len(picture)
    stamp = stamps[int(rng.integers(len(stamps)))]
    size = rng.uniform(0.15, 1.1) * height / stamp.shape[0]
    scaled = cv2.resize(stamp, None, fx=size, fy=size, interpolation=cv2.INTER_AREA)
    h, w = scaled.shape[:2]
    x, y = int(rng.integers(-w // 2, WIDTH - w // 2)), int(height - h + rng.uniform(-0.35, 0.3) * height)
    x0, x1, y0, y1 = max(x, 0), min(x + w, WIDTH), max(y, 0), min(y + h, height)
    if x1 <= x0 or y1 <= y0:
        return
    alpha, colour = np.zeros_like(sky), np.zeros_like(picture)
    alpha[y0:y1, x0:x1] = scaled[y0 - y : y1 - y, x0 - x : x1 - x, 3]
    colour[y0:y1, x0:x1] = scaled[y0 - y : y1 - y, x0 - x : x1 - x, :3]
    _laid(picture, sky, np.clip(colour * rng.uniform(0.25, 1.2), 0, 1), np.clip(alpha, 0, 1))


def _water(picture: Array, sky: Array, rng: Rng) -> None:
    """Mirrors what is above a line, with ripples."""
    height = len(picture)
    line = int(height * rng.uniform(0.35, 0.95))
    rows, columns = np.mgrid[line:height, 0:WIDTH].astype(np.float32)
    ripple = (clouds(rng, height, 8)[line:height] - 0.5) * rng.uniform(0, 0.2) * height
    ripple *= np.linspace(0.2, 1, height - line)[:, None]
    source = np.clip(2 * line - rows - 1 + ripple, 0, line - 1).astype(np.float32)
    mirrored = cv2.remap(picture, columns, source, cv2.INTER_LINEAR)
    own = rng.uniform(0.02, 0.4) * np.clip(1 + rng.normal(0, 0.2, 3), 0.4, 1.6)
    share = rng.uniform(0.3, 1)
    picture[line:] = mirrored * share + own * (1 - share)
    sky[line:] = 0


def _wires(picture: Array, sky: Array, rng: Rng) -> None:
    alpha = np.zeros((len(sky) * 4, WIDTH * 4), np.uint8)
    for _ in range(int(rng.integers(1, 6))):
        ends = [(int(rng.integers(-50, WIDTH * 4 + 50)), int(rng.integers(len(alpha)))) for _ in range(2)]
        cv2.line(alpha, ends[0], ends[1], 255, int(rng.integers(1, 14)))
    small = cv2.resize(alpha, (WIDTH, len(sky)), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    tone = rng.uniform(0, 0.8) * np.ones_like(picture)
    _laid(picture, sky, tone.astype(np.float32), small)


def _net(picture: Array, sky: Array, rng: Rng) -> None:
    """A fence or a net before a part of the frame."""
    height = len(sky)
    step, thick = rng.uniform(8, 40), rng.uniform(0.4, 2.5)
    v, u = np.mgrid[0:height, 0:WIDTH].astype(np.float32)
    turn = rng.uniform(-0.1, 0.1) + (np.pi / 4 if rng.random() < 0.4 else 0)
    across, down = u * np.cos(turn) + v * np.sin(turn), v * np.cos(turn) - u * np.sin(turn)
    lines = [np.abs((each + step / 2) % step - step / 2) for each in (across, down * rng.choice([0.5, 1.0, 1.0]))]
    alpha = np.clip(thick / 2 + 0.5 - np.minimum(*lines), 0, min(thick, 1))
    left, right = sorted(rng.uniform(-0.5, 1.5, 2) * WIDTH)
    alpha[:, : max(int(left), 0)] = 0
    alpha[:, max(int(right), 0) :] = 0
    alpha[: max(int(rng.uniform(-0.5, 0.6) * height), 0)] = 0
    _laid(picture, sky, np.full_like(picture, rng.uniform(0, 0.7)), alpha.astype(np.float32))


def _all_sky(stock: Stock, rng: Rng, height: int) -> tuple[Array, Array]:
    picture = painted_sky(stock, rng, height)
    sky = np.ones((height, WIDTH), np.float32)
    if rng.random() < 0.4:
        _wires(picture, sky, rng)
    if rng.random() < 0.3:
        _stamp(picture, sky, stock.stamps, rng)
    return picture, sky


def _scene(stock: Stock, rng: Rng, height: int) -> tuple[Array, Array]:
    """A look into a panorama with its own ground; where it is bright and not below the horizon is sky."""
    light = stock.skies[str(rng.choice(SCENES))]
    rows = np.arange(len(light))[:, None] / len(light)
    bright = light.mean(2)
    limit = 0.45 * np.median(bright[int(0.3 * len(light)) : int(0.46 * len(light))], axis=0)
    above = ((rows < 0.5) & ((bright > limit) | (rows < 0.36))).astype(np.float32)
    both = _view(np.dstack([light, above]), rng, height, (-8.0, 14.0))
    return _coded(both[..., :3], rng), np.clip(both[..., 3], 0, 1)


def _leaves(stock: Stock, rng: Rng, height: int) -> tuple[Array, Array]:
    picture, sky = _landscape(stock, rng, height) if rng.random() < 0.5 else _all_sky(stock, rng, height)
    for _ in range(int(rng.integers(1, 6))):
        tree = stock.trees[int(rng.integers(len(stock.trees)))]
        size = rng.uniform(0.5, 2.5) * height / tree.shape[0]
        scaled = cv2.resize(tree, None, fx=size, fy=size, interpolation=cv2.INTER_AREA)
        h, w = scaled.shape[:2]
        x, y = int(rng.integers(-w // 2, WIDTH - w // 3)), int(rng.integers(-h // 2, max(height - h // 3, -h // 2 + 1)))
        x0, x1, y0, y1 = max(x, 0), min(x + w, WIDTH), max(y, 0), min(y + h, height)
        if x1 <= x0 or y1 <= y0:
            continue
        alpha, colour = np.zeros_like(sky), np.zeros_like(picture)
        alpha[y0:y1, x0:x1] = np.clip(scaled[y0 - y : y1 - y, x0 - x : x1 - x, 3], 0, 1)
        colour[y0:y1, x0:x1] = scaled[y0 - y : y1 - y, x0 - x : x1 - x, :3]
        _laid(picture, sky, np.clip(colour * rng.uniform(0.15, 1.2), 0, 1), alpha)
    return picture, sky


def _room(stock: Stock, rng: Rng, height: int) -> tuple[Array, Array]:
    light = stock.rooms[int(rng.integers(len(stock.rooms)))]
    picture = _coded(_view(light, rng, height, (-25.0, 20.0)), rng)
    sky = np.zeros((height, WIDTH), np.float32)
    return picture, sky


def _photograph(stock: Stock, rng: Rng, height: int) -> tuple[Array, Array]:
    picture = stock.photographs[int(rng.integers(len(stock.photographs)))][..., :3]
    rows, columns = picture.shape[:2]
    size = rng.uniform(0.4, 1)
    h, w = int(rows * size), int(columns * size)
    y, x = int(rng.integers(rows - h + 1)), int(rng.integers(columns - w + 1))
    out = cv2.resize(picture[y : y + h, x : x + w], (WIDTH, height), interpolation=cv2.INTER_AREA)
    return out.copy(), np.zeros((height, WIDTH), np.float32)


def _wall(stock: Stock, rng: Rng, height: int) -> tuple[Array, Array]:
    """Planes of one colour with soft light on them, and things before them."""
    picture = _texture(stock, rng, height)
    sky = np.zeros((height, WIDTH), np.float32)
    for _ in range(int(rng.integers(1, 5))):
        corner = rng.uniform(-0.2, 1.2, (4, 2)) * (WIDTH, height)
        plane = np.zeros((height, WIDTH), np.uint8)
        cv2.fillConvexPoly(plane, cv2.convexHull(corner.astype(np.int32)), 255)
        tone = rng.uniform(0.1, 1) * np.clip(1 + rng.normal(0, 0.12, 3), 0.6, 1.3)
        shade = cv2.GaussianBlur(clouds(rng, height, 1), (0, 0), 30)[..., None]
        _laid(picture, sky, (tone * (0.7 + 0.5 * shade)).astype(np.float32), plane.astype(np.float32) / 255)
    for _ in range(int(rng.integers(0, 4))):
        _stamp(picture, sky, stock.stamps, rng)
    return picture, sky


def _blurred_backdrop(stock: Stock, rng: Rng, height: int) -> tuple[Array, Array]:
    """A thing in focus before what is far out of it."""
    behind, sky = _photograph(stock, rng, height)
    picture = cv2.GaussianBlur(behind, (0, 0), rng.uniform(8, 40))
    for _ in range(int(rng.integers(1, 4))):
        _stamp(picture, sky, stock.stamps, rng)
    return picture, sky


def filmed(picture: Array, rng: Rng) -> Array:
    """What the camera makes of it: haze, exposure, tint, curve, blur, vignette, noise, compression."""
    out = np.maximum(np.ascontiguousarray(picture, np.float32), 0)
    out = out ** np.float32(rng.uniform(0.7, 1.5)) * np.float32(2 ** rng.normal(0, 0.35))
    out = out * np.clip(1 + rng.normal(0, 0.06, 3), 0.8, 1.2).astype(np.float32)
    if rng.random() < 0.25:
        grey = out.mean(2, keepdims=True)
        out = grey + (out - grey) * np.float32(rng.uniform(0, 1.5))
    if rng.random() < 0.2:
        out = out * np.float32(rng.uniform(0.6, 0.95)) + np.float32(rng.uniform(0, 0.25))
    if rng.random() < 0.3:
        y, x = np.mgrid[-1 : 1 : out.shape[0] * 1j, -1 : 1 : out.shape[1] * 1j]
        out = out * (1 - np.float32(rng.uniform(0, 0.4)) * (x * x + y * y) / 2)[..., None].astype(np.float32)
    if rng.random() < 0.4:
        out = cv2.GaussianBlur(out, (0, 0), rng.uniform(0.3, 1.6))
    out = out + rng.standard_normal(out.shape).astype(np.float32) * np.float32(rng.choice([0.002, 0.006, 0.015, 0.03]))
    if rng.random() < 0.3:
        codes = (np.clip(out, 0, 1) * 255).astype(np.uint8)
        packed = cv2.imencode(".jpg", codes, [cv2.IMWRITE_JPEG_QUALITY, int(rng.integers(25, 90))])[1]
        out = cv2.imdecode(packed, cv2.IMREAD_COLOR).astype(np.float32) / 255
    return np.clip(out, 0, 1).astype(np.float32)
