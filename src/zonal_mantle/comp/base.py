"""The painting base: a lock's plate stitched into one wide still to be painted on, and hung again in register."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from ..geometry import carry
from ..media.bands import run_bands
from ..media.curves import srgb_encode
from ..media.still import write_still
from ..paths import placed, why_not, written_whole
from ..place.horizon import plate_perspective
from ..place.perspective import carried, height_at
from ..place.ride import lock_motion
from ..place.transform import flat_to_reference
from ..place.warp import warp
from ..shot import Base, Keyed, Lock, MantleError, Placement, Shot, Source, Zone
from ..words import say
from .pictures import Pictures

Array = NDArray[np.float32]
STRIP_BYTES = 600 << 20  # of the frames that are worked on at once
MOST_LAYERS = 48  # frames that a pixel's median is taken over; of more, so many spread evenly
MOST_SIDE = 16_000
ROUGH = 8  # times smaller, where exposures are evened
LEAST_SHARED = 50  # rough pixels, or two frames' exposures cannot be compared


class BaseError(MantleError):
    """A painting base cannot be made or hung."""


@dataclass(frozen=True)
class Stitched:
    """pixels : (h, w, 4) float32, scene-linear, clear where no frame looks. gains : of each frame's exposure, by
    which it was multiplied."""

    pixels: Array
    base: Base
    gains: dict[int, float]
    corners: dict[int, NDArray[np.float64]]  # of each frame, in the base's pixels


def make_base(
    shot: Shot,
    lock_id: str,
    pictures: Pictures,
    frames: Sequence[int] | None = None,
    scale: float = 1.0,
    distance_m: float | None = None,
    progress: Callable[[float, str], None] = lambda share, words: None,
) -> Stitched:
    """Stitches the plate's frames, as the lock has measured them, on the lock's reference frame.

    Every pixel is the median over the frames that see it (over `MOST_LAYERS` of them, spread evenly, where there are
    more), so that what moves is dropped where it stands still for
    less than half of them; exposures are evened before.

    Parameters
    ----------
    frames : those that are used; all solved ones by default.
    scale : pixels of the base to one plate pixel.
    distance_m : of what is painted, under a camera lock; infinity by default.

    Raises
    ------
    BaseError : the lock is not solved, or turns so far that the still has no end.
    MediaError : a frame of the plate cannot be read.

    References
    ----------
    Gains by least squares of overlaps: Brown & Lowe 2007, section 6, here on medians of log ratios.
    """
    lock, source = shot.lock(lock_id), shot.plate_source
    used = [frame for frame in (frames if frames is not None else shot.frames) if lock.at(frame) is not None]
    if source is None or not used:
        raise BaseError(
            say("{name} is not solved on these frames. Solve it before making a painting base.", name=lock.name)
        )
    to_base, base, corners = _canvas(shot, lock, used, scale, distance_m)
    gains = _gains(shot, pictures, used, to_base, base.size, progress)
    return Stitched(_median(shot, pictures, used, to_base, corners, base.size, gains, progress), base, gains, corners)


def _median(
    shot: Shot,
    pictures: Pictures,
    used: list[int],
    to_base: dict[int, NDArray],
    corners: dict[int, NDArray],
    size: tuple[int, int],
    gains: dict[int, float],
    progress: Callable[[float, str], None],
) -> Array:
    """Strips of as many rows as the room allows; for each, every frame is read once and let go again."""
    width, height = size
    source = shot.plate_source
    assert source is not None
    chosen = used if len(used) <= MOST_LAYERS else [used[round(k)] for k in np.linspace(0, len(used) - 1, MOST_LAYERS)]
    out = np.zeros((height, width, 4), np.float32)
    rows = max(16, min(height, STRIP_BYTES // (width * 16 * len(chosen))))
    for top in range(0, height, rows):
        here = min(rows, height - top)
        up = np.array([[1, 0, 0], [0, 1, -top], [0, 0, 1.0]])
        seen = [frame for frame in chosen if corners[frame][:, 1].max() >= top]
        seen = [frame for frame in seen if corners[frame][:, 1].min() <= top + here]
        if not seen:
            continue
        layers = np.empty((len(seen), here, width, 4), np.float32)
        for k, frame in enumerate(seen):
            progress(0.15 + 0.85 * (top + here * k / len(seen)) / height, say("Stitching"))
            layers[k] = warp(pictures.plate(source, frame), up @ to_base[frame], (width, here))
            layers[k, ..., :3] *= np.float32(gains[frame])
        run_bands(_median_rows, here, layers, out[top : top + here])
    return out


def _canvas(
    shot: Shot, lock: Lock, frames: list[int], scale: float, distance_m: float | None
) -> tuple[dict[int, NDArray[np.float64]], Base, dict[int, NDArray[np.float64]]]:
    """How each frame's pixels come to lie on the base."""
    width, height = shot.size
    rim = np.array([[0, 0], [width, 0], [width, height], [0, height]], float)
    back, ends = {}, []
    for frame in frames:
        back[frame] = np.linalg.inv(lock_motion(lock, frame, shot.size, distance_m or lock.distance_m))
        depth = rim @ back[frame][2, :2] + back[frame][2, 2]
        if depth.min() * depth.max() <= 0 or abs(depth).min() < 0.05 * abs(depth).max():
            raise BaseError(
                say(
                    "By frame {frame} {name} has turned too far from frame {reference_frame} for one flat still. "
                    "Make bases of fewer frames, each with its own lock.",
                    frame=frame,
                    name=lock.name,
                    reference_frame=lock.reference_frame,
                )
            )
        ends.append(carry(back[frame], rim))
    low, high = np.floor(np.min(ends, axis=(0, 1))), np.ceil(np.max(ends, axis=(0, 1)))
    size = np.ceil((high - low) * scale).astype(int)
    if max(size) > MOST_SIDE:
        raise BaseError(
            say(
                "The base would be {width}×{height} pixels; the most is {most_side} a side. Take fewer frames or "
                "a smaller size.",
                width=size[0],
                height=size[1],
                most_side=MOST_SIDE,
            )
        )
    lay = np.array([[scale, 0, -scale * low[0]], [0, scale, -scale * low[1]], [0, 0, 1]])
    base = Base(
        id=shot.new_id("base"), name=say("{name} base", name=lock.name),
        rides=lock.id, origin=(float(low[0]), float(low[1])),
        size=(int(size[0]), int(size[1])), scale=scale, distance_m=distance_m or lock.distance_m,
    )  # fmt: skip
    to_base = {frame: lay @ back[frame] for frame in frames}
    return to_base, base, {frame: carry(to_base[frame], rim) for frame in frames}


def _gains(
    shot: Shot,
    pictures: Pictures,
    frames: list[int],
    to_base: dict[int, NDArray],
    size: tuple[int, int],
    progress: Callable[[float, str], None],
) -> dict[int, float]:
    """Exposure of each frame against the others: log gains whose differences are the medians of log ratios where two
    frames overlap, held near 0 on the whole."""
    source = shot.plate_source
    assert source is not None
    small = (max(8, size[0] // ROUGH), max(8, size[1] // ROUGH))
    shrink = np.diag([small[0] / size[0], small[1] / size[1], 1.0])
    logs, count = [], len(frames)
    for done, frame in enumerate(frames):
        progress(0.15 * done / count, say("Evening frame {frame}", frame=frame))
        seen = warp(pictures.plate(source, frame), shrink @ to_base[frame], small)
        light = seen[..., :3] @ np.array([0.2126, 0.7152, 0.0722], np.float32)
        logs.append(np.where(seen[..., 3] > 0.999, np.log(np.maximum(light, 1e-4)), np.nan))
    rows, sides, weights = [], [], []
    for i in range(count):
        for step in (1, 2, 4, 8, 16):
            j = i + step
            if j >= count:
                break
            both = logs[i] - logs[j]
            there = np.isfinite(both)
            if (shared := int(there.sum())) < LEAST_SHARED:
                continue
            row = np.zeros(count)
            row[i], row[j] = 1, -1
            rows.append(row)
            sides.append(-float(np.median(both[there])))
            weights.append(np.sqrt(shared))
    a = np.array([*rows, *(1e-2 * np.eye(count))])
    b = np.array([*sides, *np.zeros(count)])
    w = np.array([*weights, *np.ones(count)])
    found = np.linalg.lstsq(a * w[:, None], b * w, rcond=None)[0]
    return {frame: float(np.exp(gain)) for frame, gain in zip(frames, found)}


@numba.njit(cache=True, nogil=True)
def _median_rows(y0, y1, layers, out):  # type: ignore[no-untyped-def]
    """Median of each colour over the layers that reach a pixel."""
    count, _, width, _ = layers.shape
    values = np.empty(count, np.float32)
    for y in range(y0, y1):
        for x in range(width):
            for c in range(3):
                n = 0
                for k in range(count):
                    if layers[k, y, x, 3] > np.float32(0.999):
                        value = layers[k, y, x, c]
                        at = n
                        while at > 0 and values[at - 1] > value:
                            values[at] = values[at - 1]
                            at -= 1
                        values[at] = value
                        n += 1
                if n:
                    out[y, x, c] = (values[(n - 1) // 2] + values[n // 2]) / np.float32(2)
                    out[y, x, 3] = np.float32(1)


def guides(shot: Shot, stitched: Stitched) -> Array:
    """A picture of the same size: the edge of each frame, of every sixth with its number, and the horizon. (h, w, 4)
    float32, premultiplied, coded."""
    width, height = stitched.base.size
    drawn = np.zeros((height, width), np.uint8)
    wide = max(1, round(width / 1600))
    for index, (frame, corners) in enumerate(stitched.corners.items()):
        named = index % 6 == 0 or index == len(stitched.corners) - 1
        edge = np.zeros_like(drawn)
        cv2.polylines(edge, [np.round(corners * 16).astype(np.int32)], True, 255 if named else 90, wide, cv2.LINE_AA, 4)
        drawn = np.maximum(drawn, edge)
        if not named:
            continue
        at = corners[0] + [8, 14 + 14 * (index // 6 % 3)]
        cv2.putText(drawn, str(frame), (int(at[0]), int(at[1])), cv2.FONT_HERSHEY_SIMPLEX, 0.45, 255, 1, cv2.LINE_AA)
    ink = np.asarray(drawn / np.float32(255), np.float32)
    out: NDArray[Any] = np.zeros((height, width, 4), np.float32)
    out[..., 0], out[..., 1], out[..., 2], out[..., 3] = 0.9 * ink, 0.6 * ink, 0.0, ink
    rides = stitched.base.rides
    first = next(iter(stitched.corners))
    horizon = plate_perspective(shot, first).horizon
    if horizon is not None and rides is not None:
        lock, base = shot.lock(rides), stitched.base
        lay = np.array([[base.scale, 0, -base.scale * base.origin[0]], [0, base.scale, -base.scale * base.origin[1]],
                        [0, 0, 1]])  # fmt: skip
        line = carried(horizon, lay @ np.linalg.inv(lock_motion(lock, first, shot.size)))
        ends = [(x, height_at(line, x)) for x in (0.0, float(width))]
        if np.isfinite(ends).all():
            places = [tuple(np.round(np.clip(end, -1e6, 1e6)).astype(int).tolist()) for end in ends]
            line_ink = np.zeros((height, width), np.uint8)
            cv2.line(line_ink, places[0], places[1], 255, wide, cv2.LINE_AA)
            level = line_ink.astype(np.float32) / 255
            shown = level[..., None] * np.array([0.1, 0.8, 0.9, 1.0], np.float32)
            out = np.asarray(out * (1 - level[..., None]) + shown, np.float32)
    return np.asarray(out, np.float32)


def write_base(shot: Shot, stitched: Stitched, path: Path) -> Path:
    """Writes a base, and its guides as `NAME.guides.png` beside it.

    path : an EXR holds scene-linear half floats, a PNG or TIFF 16 bits in sRGB.

    Returns
    -------
    The guides' path.

    Raises
    ------
    BaseError : another kind of file.
    MediaError : a file cannot be written.
    """
    pixels = np.ascontiguousarray(stitched.pixels)
    if path.suffix.lower() == ".exr":
        write_picture(path, pixels, "half", "zip")
    elif path.suffix.lower() in (".png", ".tif", ".tiff"):
        codes = np.concatenate([srgb_encode(pixels[..., :3]), pixels[..., 3:]], axis=2)
        write_picture(path, np.clip(codes, 0, 1).astype(np.float32), "uint16")
    else:
        raise BaseError(
            say("A base is written as EXR, PNG or TIFF, not {suffix}.", suffix=path.suffix or say("without an ending"))
        )
    beside = path.with_name(f"{path.stem}.guides.png")
    drawn = guides(shot, stitched)
    straight = drawn.copy()
    straight[..., :3] /= np.maximum(drawn[..., 3:], 1e-6)
    write_picture(beside, straight, "uint8")
    return beside


def write_picture(path: Path, pixels: NDArray, depth: str, compression: str = "") -> None:
    """Writes a picture whole or not at all: what was there stays until the new one is.

    Raises
    ------
    BaseError, MediaError : it cannot be written.
    """
    try:
        with written_whole(path) as part:
            write_still(part, pixels, depth, compression)
    except OSError as problem:
        raise BaseError(
            say("{placed} cannot be written: {why}.", placed=placed(path), why=why_not(problem))
        ) from problem


def clean_frame(shot: Shot, stitched: Stitched, frame: int) -> Array:
    """The base as a frame sees it, in that frame's own exposure: the plate without what moves. (h, w, 4) float32."""
    base = stitched.base
    assert base.rides is not None
    lay = np.array([[1 / base.scale, 0, base.origin[0]], [0, 1 / base.scale, base.origin[1]], [0, 0, 1]])
    motion = lock_motion(shot.lock(base.rides), frame, shot.size, base.distance_m)
    out = warp(stitched.pixels, motion @ lay, shot.size)
    out[..., :3] /= np.float32(stitched.gains.get(frame, 1.0))
    return out


def base_placement(shot: Shot, base: Base) -> Placement:
    """How a painted base hangs in register: flat on the lock that it was made by."""
    zero = Placement(rides=base.rides, size=Keyed(constant=1 / base.scale))
    at = flat_to_reference(zero, shot.first, base.size, shot.size)
    x, y = base.origin[0] - at[0, 2], base.origin[1] - at[1, 2]
    return zero.but(x=Keyed(constant=float(x)), y=Keyed(constant=float(y)))


def hang_base(shot: Shot, zone: Zone, base: Base) -> Zone:
    """A zone of a painted base, hung where the base was made.

    Raises
    ------
    BaseError : the picture has not the base's shape, or its lock is gone.
    """
    source: Source = shot.source(zone.source)
    if base.rides is None:
        raise BaseError(say("The lock that {name} was made by is not in the shot any more.", name=base.name))
    grow = source.width / base.size[0]
    if abs(source.height / base.size[1] - grow) * base.size[1] > 0.5:
        raise BaseError(
            say(
                "{name} is {width}×{height}; {other} is {size}×{size_2}. A painted base keeps its shape; "
                "deliver it uncropped.",
                name=source.name,
                width=source.width,
                height=source.height,
                other=base.name,
                size=base.size[0],
                size_2=base.size[1],
            )
        )
    as_painted = base.but(size=(source.width, source.height), scale=base.scale * grow)
    return zone.but(placement=base_placement(shot, as_painted), distance_m=base.distance_m)
