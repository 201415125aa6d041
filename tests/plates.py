"""Plates with a known matte, made from photographs that scikit-image ships (its data folder names their licences)."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from skimage import data
from skimage.registration import phase_cross_correlation

from zonal_mantle.media.curves import srgb_decode, srgb_encode


@dataclass(frozen=True)
class Plate:
    """A plate, its true alpha and foreground, and the same with another background. All scene-linear float32."""

    pixels: np.ndarray
    alpha: np.ndarray
    foreground: np.ndarray  # premultiplied
    background: np.ndarray
    finished: np.ndarray


def _linear(picture: np.ndarray) -> np.ndarray:
    return srgb_decode(picture.astype(np.float64) / 255).astype(np.float32)


def _grain(picture: np.ndarray, rng: np.random.Generator, amount: float) -> np.ndarray:
    noise = cv2.GaussianBlur(rng.standard_normal(picture.shape, np.float32), (0, 0), 0.6)
    return srgb_decode(np.clip(srgb_encode(picture) + amount / noise.std() * noise, 0, None)).astype(np.float32)


def _leaves(size: tuple[int, int], rng: np.random.Generator, closes: float = 4.0) -> np.ndarray:
    """True coverage of a crown: the photograph *grass*, thresholded at four times the size, denser downward.

    `closes` is how far down it goes on getting denser, in depths of the crown's edge: 4 closes it wholly.
    """
    w, h = size[0] * 4, size[1] * 4
    grass = cv2.resize(data.grass().astype(np.float32), (1536, 1536), interpolation=cv2.INTER_CUBIC)
    grass = np.tile(np.hstack([grass, grass[:, ::-1]]), (2, 2))
    y0, x0 = rng.integers(0, 900, 2)
    texture = grass[y0 : y0 + h, x0 : x0 + w] / 255
    rise = cv2.resize(rng.standard_normal((1, 14), np.float32), (w, 1), interpolation=cv2.INTER_CUBIC)[0]
    line = h * (0.52 + 0.07 * rise)
    depth = (np.arange(h)[:, None] - line[None, :]) / (h * 0.16)
    solid = texture > np.quantile(texture, 0.85) - np.clip(depth, -1, closes) * 0.3
    solid &= depth > -0.9
    return cv2.resize(solid.astype(np.float32), size, interpolation=cv2.INTER_AREA)


def tree_line(
    seed: int = 1, size: tuple[int, int] = (768, 432), grain: float = 0.008, dark: float = 0.5, closes: float = 4.0
) -> Plate:
    """A line of leaves against a bright, graded, vignetted sky.

    The leaves take their cover from the photograph *grass* and their colours from *chelsea*; the old sky is the blurred
    upper part of *rocket*, brightened; the new one is the blurred photograph *coffee*, lifted. `dark` is how much of
    their light the leaves have; with `closes` at 1.5 there are gaps all the way to the frame's foot, where no sky is
    seen whole.
    """
    rng = np.random.default_rng(seed)
    w, h = size
    alpha = cv2.GaussianBlur(_leaves(size, rng, closes), (0, 0), 0.6)
    colours = cv2.resize(_linear(data.chelsea())[40:240, 20:430], size, interpolation=cv2.INTER_AREA)
    colours *= dark * np.array([0.8, 1.0, 0.6], np.float32)
    sky = cv2.resize(
        cv2.GaussianBlur(_linear(data.rocket())[:200, :220], (0, 0), 18), size, interpolation=cv2.INTER_CUBIC
    )
    sky = 0.62 + 2.2 * (sky - sky.mean(axis=(0, 1))) * np.array([1, 1, 0.9], np.float32)
    y, x = np.mgrid[0:h, 0:w]
    sky *= (1 - 0.18 * (((x - w / 2) / w) ** 2 + ((y - h / 2) / h) ** 2) * 2)[..., None].astype(np.float32)
    new = cv2.resize(cv2.GaussianBlur(_linear(data.coffee()), (0, 0), 9), size, interpolation=cv2.INTER_CUBIC)
    new = 0.2 + 0.45 * new  # as bright as an evening: the true alpha with the old sky left in is then off by 13 of 255
    cover = alpha[..., None]
    fore = colours * cover
    pixels = _grain(fore + sky * (1 - cover), rng, grain)
    return Plate(pixels, alpha, fore, new, fore + new * (1 - cover))


def blue_screen(seed: int = 1, size: tuple[int, int] = (640, 360)) -> Plate:
    """A figure before an unevenly lit blue screen, as an 8-bit plate with its colour at half size (4:2:0).

    The figure is the photograph *astronaut* within a ragged outline from *grass*; the screen's light falls off by half.
    """
    rng = np.random.default_rng(seed)
    w, h = size
    y, x = np.mgrid[0:h, 0:w]
    body = np.hypot((x - w * 0.5) / (w * 0.2), (y - h * 0.62) / (h * 0.5)) < 1
    tufts = cv2.dilate(body.astype(np.uint8), np.ones((21, 21), np.uint8)) * _leaves(size, rng, 9.0)
    alpha = cv2.GaussianBlur(np.maximum(body.astype(np.float32), tufts.astype(np.float32)), (0, 0), 0.9)
    figure = cv2.resize(_linear(data.astronaut())[:400, 60:460], size, interpolation=cv2.INTER_AREA)
    figure[..., 2] = np.minimum(
        figure[..., 2], np.maximum(figure[..., 0], figure[..., 1])
    )  # nothing bluer than neutral
    light = 1 - 0.5 * np.hypot((x - w * 0.3) / w, (y - h * 0.2) / h).astype(np.float32)
    screen = np.array([0.03, 0.09, 0.42], np.float32) * light[..., None]
    fore = figure * alpha[..., None]
    coded = srgb_encode(_grain(fore + screen * (1 - alpha[..., None]), rng, 0.006)).astype(np.float32)
    ycc = cv2.cvtColor(np.clip(coded, 0, 1), cv2.COLOR_RGB2YCrCb)
    half = cv2.resize(ycc[..., 1:], (w // 2, h // 2), interpolation=cv2.INTER_AREA)
    ycc[..., 1:] = cv2.resize(np.round(half * 255) / 255, size, interpolation=cv2.INTER_LINEAR)
    ycc[..., 0] = np.round(ycc[..., 0] * 255) / 255
    pixels = srgb_decode(np.clip(cv2.cvtColor(ycc, cv2.COLOR_YCrCb2RGB), 0, 1)).astype(np.float32)
    new = np.full((h, w, 3), 0.2, np.float32)
    return Plate(pixels, alpha, fore, new, fore + new * (1 - alpha[..., None]))


def edge_band(alpha: np.ndarray, width: int = 9) -> np.ndarray:
    """Pixels within a band of a width round every half-transparent pixel."""
    soft = ((alpha > 0.02) & (alpha < 0.98)).astype(np.uint8)
    return cv2.dilate(soft, np.ones((width, width), np.uint8)) > 0


def codes(pixels: np.ndarray) -> np.ndarray:
    """Display code values, 0…255."""
    return srgb_encode(np.clip(pixels[..., :3], 0, 1)) * 255


def edge_error(plate: Plate, alpha: np.ndarray, foreground: np.ndarray) -> float:
    """Root mean square difference of the composite to the true one in the edge band, in display code values."""
    ours = foreground[..., :3] + plate.background * (1 - alpha[..., None])
    square = ((codes(ours) - codes(plate.finished)) ** 2).mean(axis=2)
    return float(np.sqrt(square[edge_band(plate.alpha)].mean()))


def best_luma_error(plate: Plate) -> float:
    """Mean square error of alpha by the best luma threshold, found by search over both ends of the ramp."""
    level = srgb_encode(plate.pixels) @ np.array([0.2126, 0.7152, 0.0722])
    best = 1.0
    for solid in np.arange(0.1, 0.9, 0.02):
        for soft in (0.05, 0.1, 0.15, 0.2, 0.25, 0.3, 0.35, 0.4, 0.5, 0.6):
            alpha = 1 - np.clip((level - solid) / soft, 0, 1)
            best = min(best, float(((alpha - plate.alpha) ** 2).mean()))
    return best


def offset_px(seen: np.ndarray, wanted: np.ndarray) -> float:
    """How far one picture stands beside another, in px: scikit-image's phase correlation, to a fiftieth of a pixel.

    A mean of differences hides half a pixel on smooth pictures; this does not.
    """
    grey = [np.clip(picture[..., :3], 0, 1).mean(axis=2).astype(np.float64) for picture in (wanted, seen)]
    window = np.outer(np.hanning(grey[0].shape[0]), np.hanning(grey[0].shape[1]))
    centred = [(picture - picture.mean()) * window for picture in grey]
    shift, _, _ = phase_cross_correlation(*centred, upsample_factor=50, normalization=None)
    return float(np.hypot(*shift))
