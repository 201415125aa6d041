"""Plates to learn edges from: leaves, branches, cut-outs, roofs and wires before skies, with true alpha.

What stays is laid over the sky in scene-linear light (Porter & Duff 1984), then filmed: softness, sharpening, motion
blur, grain, eight bits, compression. Crowns are drawn leaf by leaf, coloured from photographs and lit at random; trees,
panoramas and other cut-outs are those of `fetch.py`.
"""

from __future__ import annotations

import io

import av
import cv2
import numpy as np
from numpy.typing import NDArray
from pictures import WIDTH, Stock, painted_sky

from zonal_mantle.media.curves import srgb_decode, srgb_encode

Array = NDArray[np.float32]
Rng = np.random.Generator

SIZE = (800, 448)  # px, of a plate: width, height
FINER = 3  # crowns are drawn so many times larger


def plate(stock: Stock, seed: int, size: tuple[int, int] = SIZE) -> tuple[Array, Array]:
    """One plate (height, width, 3), scene-linear, and the alpha (height, width) of what stays. size : width, height."""
    rng = np.random.default_rng(seed)
    width, height = size
    small = painted_sky(stock, rng, round(WIDTH * height / width))
    sky = np.clip(cv2.resize(small, size, interpolation=cv2.INTER_CUBIC), 0, 0.97)
    stays = np.zeros((height, width, 4), np.float32)  # premultiplied, scene-linear
    if rng.random() < 0.8:
        _ridge(stays, stock, rng)
    if rng.random() < 0.4:
        _cut_out(stays, stock.grounds[int(rng.integers(len(stock.grounds)))], rng)
    for _ in range(int(rng.choice([0, 1, 2, 4], p=[0.15, 0.25, 0.3, 0.3]))):
        _over(stays, _crown(stock, rng, size))
    many = rng.random() < 0.25
    for _ in range(int(rng.integers(8, 20) if many else rng.integers(0, 4))):
        pool = stock.trees if rng.random() < 0.5 else stock.stamps
        sizes = (0.04, 0.25) if many else (0.2, 1.5)
        _cut_out(stays, pool[int(rng.integers(len(pool)))], rng, sizes)
    if rng.random() < 0.25:
        _wires(stays, rng)
    stays[..., :3] *= np.float32(2 ** rng.normal(0, 0.5))
    shift = np.array([[1, 0, rng.uniform(0, 1)], [0, 1, rng.uniform(0, 1)]], np.float32)
    stays = cv2.warpAffine(stays, shift, size, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    stays = _softened(stays, rng)
    alpha = np.clip(stays[..., 3], 0, 1)
    clean = srgb_encode(np.clip(stays[..., :3], 0, None) + srgb_decode(sky) * (1 - alpha[..., None]))
    return np.ascontiguousarray(srgb_decode(_filmed(np.clip(clean, 0, 1), rng)), np.float32), alpha


def _over(stays: Array, other: Array) -> None:
    stays[:] = other + stays * (1 - other[..., 3:])


def _premultiplied(picture: Array) -> Array:
    alpha = np.clip(picture[..., 3:], 0, 1)
    return np.concatenate([srgb_decode(np.clip(picture[..., :3], 0, 1)) * alpha, alpha], 2).astype(np.float32)


def _texture(stock: Stock, rng: Rng, size: tuple[int, int]) -> Array:
    """A piece of a photograph, scene-linear, in some light of its own."""
    pool = stock.photographs + [each[int(0.6 * len(each)) :] for each in stock.grounds]
    picture = pool[int(rng.integers(len(pool)))][..., :3]
    rows, columns = picture.shape[:2]
    share = rng.uniform(0.3, 1)
    h, w = max(8, int(rows * share)), max(8, int(columns * share))
    y, x = int(rng.integers(rows - h + 1)), int(rng.integers(columns - w + 1))
    piece = cv2.resize(picture[y : y + h, x : x + w], size, interpolation=cv2.INTER_LINEAR)
    return np.asarray(srgb_decode(np.clip(piece, 0, 1)) * np.float32(2 ** rng.uniform(-3, 0.5)), np.float32)


def _ridge(stays: Array, stock: Stock, rng: Rng) -> None:
    height, width = stays.shape[:2]
    line, fall = np.zeros(width, np.float32), rng.uniform(0.4, 0.75)
    for level in range(9):
        grid = rng.standard_normal((1, 2**level + 2)).astype(np.float32)
        line += fall**level * cv2.resize(grid, (width, 1), interpolation=cv2.INTER_LINEAR)[0]
    top = height * rng.uniform(0.45, 0.95) + line * height * float(rng.choice([0.01, 0.04, 0.1]))
    alpha = np.clip(np.arange(height, dtype=np.float32)[:, None] - top + 0.5, 0, 1)[..., None]
    _over(stays, np.concatenate([_texture(stock, rng, (width, height)) * alpha, alpha], 2))


def _placed(scaled: Array, x: int, y: int, size: tuple[int, int]) -> Array:
    width, height = size
    out = np.zeros((height, width, 4), np.float32)
    x0, y0 = max(x, 0), max(y, 0)
    part = scaled[y0 - y : max(height - y, 0), x0 - x : max(width - x, 0)]
    out[y0 : y0 + part.shape[0], x0 : x0 + part.shape[1]] = part[: max(height - y0, 0), : max(width - x0, 0)]
    return out


def _cut_out(stays: Array, picture: Array, rng: Rng, sizes: tuple[float, float] | None = None) -> None:
    """A cut-out so many times as high as the frame; without, a panorama on the frame's foot."""
    height, width = stays.shape[:2]
    size = (
        rng.uniform(0.8, 1.8) * width / picture.shape[1]
        if sizes is None
        else rng.uniform(*sizes) * height / len(picture)
    )
    how = cv2.INTER_AREA if size < 1 else cv2.INTER_CUBIC
    scaled = cv2.resize(_premultiplied(picture), None, fx=size, fy=size, interpolation=how)
    scaled = scaled[:, ::-1] if rng.random() < 0.5 else scaled
    if sizes is None:
        x = -int(rng.uniform(0, 1) * max(scaled.shape[1] - width, 0))
        _over(stays, _placed(scaled, x, height - len(scaled), (width, height)))
        return
    x = int(rng.integers(-scaled.shape[1] // 2, width - scaled.shape[1] // 2))
    low = rng.uniform(-0.4, 0.3) if sizes[1] > 1 else rng.uniform(-0.8, 0)
    _over(stays, _placed(scaled, x, int(height * (1 + low) - len(scaled)), (width, height)))


def _crown(stock: Stock, rng: Rng, size: tuple[int, int]) -> Array:
    """Leaves and branches of one tree, darker inside, in the light of one side."""
    width, height = size
    w, h = int(rng.uniform(0.15, 0.6) * width), int(rng.uniform(0.3, 0.9) * height)
    shape = np.zeros((h * FINER, w * FINER), np.uint8)
    shade = np.zeros_like(shape)
    length, thin = np.exp(rng.uniform(np.log(2.5), np.log(25.0))) * FINER, rng.uniform(0.15, 0.7)
    count = int(rng.uniform(0.5, 3.0) * w * h * FINER * FINER / (length * length * thin))
    centres = rng.uniform(0.2, 0.8, (int(rng.integers(3, 30)), 2))
    spread = rng.uniform(0.06, 0.25)
    contrast = rng.uniform(0.1, 0.9)
    for _ in range(int(rng.integers(0, 14))):  # branches
        start, end = (0.5, 1.0), centres[int(rng.integers(len(centres)))]
        ends = [(int(px * w * FINER), int(py * h * FINER)) for px, py in (start, end)]
        broad = int(rng.integers(1, 6)) * FINER // 2 + 1
        cv2.line(shape, ends[0], ends[1], 255, broad)
        cv2.line(shade, ends[0], ends[1], int(rng.integers(20, 160)), broad)
    of = centres[rng.integers(len(centres), size=min(count, 20_000))]
    at = of + rng.standard_normal(of.shape) * spread * rng.uniform(0, 1, (len(of), 1))
    at = at[((at > 0.02) & (at < 0.98)).all(1)]
    turn = rng.uniform(0, 2 * np.pi) + rng.normal(0, rng.uniform(0.2, 3), len(at))
    light = np.clip(128 + 127 * contrast * rng.standard_normal(len(at)) + 90 * (0.5 - at[:, 1]), 8, 255)
    along = np.stack([np.cos(turn), np.sin(turn)], 1) * length / 2
    aside = np.stack([-np.sin(turn), np.cos(turn)], 1) * length / 2 * thin
    middle = at * (w * FINER, h * FINER)
    corners = np.stack([middle + along, middle + aside, middle - along, middle - aside], 1).astype(np.int32)
    for corner, value in zip(corners, light):
        cv2.fillConvexPoly(shape, corner, 255)
        cv2.fillConvexPoly(shade, corner, int(value))
    alpha = shape.astype(np.float32)[..., None] / 255
    tone = (shade.astype(np.float32)[..., None] / 128) ** 2
    fine = cv2.resize(np.concatenate([tone * alpha, alpha], 2), (w, h), interpolation=cv2.INTER_AREA)
    if rng.random() < 0.4:
        colour = _texture(stock, rng, (w, h))
    else:
        colour = np.broadcast_to(np.float32(rng.uniform(0.01, 0.25) * rng.dirichlet((3, 5, 1.5)) * 2), (h, w, 3))
    out = np.concatenate([fine[..., :1] * colour, fine[..., 1:]], 2)
    return _placed(out, int(rng.integers(-w // 3, width - w // 2)), int(height - h * rng.uniform(0.5, 1.4)), size)


def _wires(stays: Array, rng: Rng) -> None:
    height, width = stays.shape[:2]
    fine = np.zeros((height * 4, width * 4), np.uint8)
    for _ in range(int(rng.integers(1, 6))):
        ends = [(int(rng.integers(-50, width * 4 + 50)), int(rng.integers(len(fine)))) for _ in range(2)]
        cv2.line(fine, ends[0], ends[1], 255, int(rng.integers(1, 24)))
    alpha = cv2.resize(fine, (width, height), interpolation=cv2.INTER_AREA).astype(np.float32)[..., None] / 255
    tone = np.float32(rng.uniform(0, 0.3) * np.clip(1 + rng.normal(0, 0.15, 3), 0.5, 1.5))
    _over(stays, np.concatenate([alpha * tone, alpha], 2))


def _softened(stays: Array, rng: Rng) -> Array:
    kind = rng.random()
    if kind < 0.3:
        return cv2.GaussianBlur(stays, (0, 0), rng.uniform(0.3, 1.8))
    if kind < 0.42:
        reach = int(rng.integers(3, 17))
        line = np.zeros((reach, reach), np.float32)
        angle = rng.uniform(0, np.pi)
        half = (reach - 1) / 2 * np.array([np.cos(angle), np.sin(angle)])
        ends = [tuple(np.round((reach - 1) / 2 + side * half).astype(int).tolist()) for side in (-1, 1)]
        cv2.line(line, ends[0], ends[1], 1.0, 1)
        return cv2.filter2D(stays, -1, line / line.sum(), borderType=cv2.BORDER_REPLICATE)
    return stays


def _video_coded(codes: NDArray[np.uint8], crf: int) -> NDArray[np.uint8]:
    """One frame through H.264, 4:2:0."""
    file = io.BytesIO()
    with av.open(file, "w", format="mp4") as out:
        stream = out.add_stream("libx264", 24)
        stream.width, stream.height, stream.pix_fmt = codes.shape[1], codes.shape[0], "yuv420p"
        stream.options = {"crf": str(crf), "threads": "1"}
        out.mux(stream.encode(av.VideoFrame.from_ndarray(codes, "rgb24")))
        out.mux(stream.encode(None))
    file.seek(0)
    with av.open(file) as back:
        return next(back.decode(video=0)).to_ndarray(format="rgb24")


def _filmed(coded: Array, rng: Rng) -> Array:
    out = coded.astype(np.float32)
    if rng.random() < 0.12:
        out = out + (out - cv2.GaussianBlur(out, (0, 0), rng.uniform(0.7, 1.5))) * np.float32(rng.uniform(0.2, 0.9))
    grain = rng.standard_normal(out.shape).astype(np.float32)
    grain = cv2.GaussianBlur(grain, (0, 0), rng.uniform(0.4, 0.9)) if rng.random() < 0.7 else grain
    out = out + grain / grain.std() * np.float32(rng.choice([0.002, 0.006, 0.011, 0.011, 0.02, 0.03]))
    codes = (np.clip(out, 0, 1) * 255 + 0.5).astype(np.uint8)
    return packed(codes, rng, 0.15, 0.25).astype(np.float32) / np.float32(255)


def packed(codes: NDArray[np.uint8], rng: Rng, video: float, still: float) -> NDArray[np.uint8]:
    """Codes after H.264 or JPEG, with these chances; else as they are."""
    kind = rng.random()
    if kind < video:
        return _video_coded(codes, int(rng.integers(20, 31)))
    if kind < video + still:
        stored = cv2.imencode(".jpg", codes, [cv2.IMWRITE_JPEG_QUALITY, int(rng.integers(35, 92))])[1]
        return np.asarray(cv2.imdecode(stored, cv2.IMREAD_COLOR), np.uint8)
    return codes
