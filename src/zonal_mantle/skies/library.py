"""A small library of skies that stands in for a stock house: made by the formulas here, kept in the cache folder."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..media.still import write_still
from ..paths import write_whole, written_whole
from ..words import say
from .paint import Layer, SkyPlan, painted

VERSION = 3
AROUND, FRAMED = (4096, 2048), (1920, 1080)
FRAMED_WIDE_DEG, FRAMED_UP_DEG = 62.0, 13.0
PLANS = (
    SkyPlan("Clear forenoon", 11, -58.0, 46.0, exposure=0.17, vivid=1.6, haze=(0.95, 0.12)),
    SkyPlan("Fair cumulus", 23, 44.0, 38.0, exposure=0.13, vivid=1.6, haze=(0.95, 0.12),
            layers=(Layer(0.36, 6.5, 1.9, 0.3, slope=1.75, dense=0.35),)),
    SkyPlan("Evening altocumulus", 35, 36.0, 5.0, kind=13, turbidity=3.2, exposure=0.07, glow=1.3,
            layers=(Layer(0.46, 9.0, 1.1, 0.5, 1.5, cells=True),)),
    SkyPlan("Broken overcast", 47, -34.0, 30.0, kind=6, turbidity=4.0, exposure=0.17, disc=False, grey=0.65,
            layers=(Layer(0.78, 7.5, 1.5, 0.5, 1.3),)),
    SkyPlan("Storm from the west", 59, 62.0, 14.0, kind=4, turbidity=4.5, exposure=0.11, disc=False, grey=0.6,
    glow=2.2, layers=(Layer(0.9, 10.0, 1.7, 0.85, 1.8), Layer(0.35, 3.2, 1.2, 0.8))),
    SkyPlan("Dawn", 71, -30.0, 1.5, kind=14, turbidity=2.4, exposure=0.035, glow=1.7,
            layers=(Layer(0.22, 12.0, 1.8, 0.25, 4.0, 1.7),)),
)  # fmt: skip


@dataclass(frozen=True)
class SkyCard:
    """One picture of the library. bearing_deg : of its sun to the right of its middle; horizon : its height on the
    picture, as a share from the top; wide_deg : its field of view; colour : scene-linear mean of its sky."""

    name: str
    file: str
    around: bool
    size: tuple[int, int]
    bearing_deg: float
    height_deg: float
    horizon: float
    wide_deg: float
    colour: tuple[float, float, float]


def around_rays(size: tuple[int, int]) -> NDArray[np.float64]:
    """Directions of a lat-long picture's pixels. (h, w, 3)."""
    lon = (np.arange(size[0]) + 0.5) / size[0] * 2 * np.pi - np.pi
    lat = (np.arange(size[1]) + 0.5) / size[1] * np.pi - np.pi / 2
    across, down = np.meshgrid(lon, lat)
    return np.stack([np.cos(down) * np.sin(across), np.sin(down), np.cos(down) * np.cos(across)], axis=-1)


def framed_rays(size: tuple[int, int], wide_deg: float, up_deg: float) -> NDArray[np.float64]:
    """Directions of the pixels of a lens that looks up. (h, w, 3)."""
    focal = size[0] / 2 / np.tan(np.radians(wide_deg) / 2)
    x, y = np.meshgrid(np.arange(size[0]) + 0.5 - size[0] / 2, np.arange(size[1]) + 0.5 - size[1] / 2)
    rays = np.stack([x, y, np.full_like(x, focal)], axis=-1)
    a = np.radians(up_deg)
    turn = np.array([[1, 0, 0], [0, np.cos(a), -np.sin(a)], [0, np.sin(a), np.cos(a)]])
    return np.asarray(rays @ turn.T / np.linalg.norm(rays, axis=-1, keepdims=True))


def framed_horizon(size: tuple[int, int], wide_deg: float, up_deg: float) -> float:
    """Where the horizon lies on such a picture, px from the top."""
    focal = size[0] / 2 / np.tan(np.radians(wide_deg) / 2)
    return float(size[1] / 2 + focal * np.tan(np.radians(up_deg)))


def sky_picture(plan: SkyPlan, around: bool, size: tuple[int, int]) -> NDArray[np.float32]:
    """One sky of the library at a size, lat-long or framed. (h, w, 3) float32, scene-linear."""
    rays = around_rays(size) if around else framed_rays(size, FRAMED_WIDE_DEG, FRAMED_UP_DEG)
    return painted(plan, rays)


def make_library(
    folder: Path,
    progress: Callable[[float, str], None] = lambda share, words: None,
    small: int = 1,
    painted_one: Callable[[SkyCard], None] = lambda card: None,
    framed_only: bool = False,
) -> list[SkyCard]:
    """Makes the library in a folder, or finds it there. What was painted before it was cancelled is not painted again.

    small : how many times smaller each side is, for tests. painted_one : gets each card once its picture is there.
    framed_only : the framed pictures are enough, which are painted much faster than those around.

    Raises
    ------
    MediaError : a picture cannot be written.
    """
    if (found := read_library(folder)) is not None:
        return found
    folder.mkdir(parents=True, exist_ok=True)
    cards = list(read_library(folder, partly=True) or [])
    there = {card.file for card in cards}
    order = [(plan, around) for around in (False, True) for plan in PLANS]
    for number, (plan, around) in enumerate(order):
        if framed_only and around:
            break
        file = f"{plan.name.lower().replace(' ', '_')}_{'around' if around else 'framed'}.exr"
        if file in there:
            continue
        progress(number / len(PLANS) / (1 if framed_only else 2), say("Painting {name}", name=plan.name))
        card = _paint(folder, file, plan, around, small)
        cards.append(card)
        _write_index(folder, cards, whole=len(cards) == len(order))
        painted_one(card)
    return cards


def _paint(folder: Path, file: str, plan: SkyPlan, around: bool, small: int) -> SkyCard:
    full = AROUND if around else FRAMED
    size = (full[0] // small, full[1] // small)
    picture = sky_picture(plan, around, size)
    with written_whole(folder / file) as part:
        write_still(part, picture, "half", "zip")
    horizon = 0.5 if around else framed_horizon(size, FRAMED_WIDE_DEG, FRAMED_UP_DEG) / size[1]
    colour = np.median(picture[: int(size[1] * horizon)].reshape(-1, 3), axis=0)
    return SkyCard(
        plan.name, file, around, size, plan.bearing_deg, plan.height_deg, horizon,
        360.0 if around else FRAMED_WIDE_DEG, (float(colour[0]), float(colour[1]), float(colour[2])),
    )  # fmt: skip


def _write_index(folder: Path, cards: list[SkyCard], whole: bool) -> None:
    index = folder / "skies.json"
    data = {"version": VERSION, "whole": whole, "skies": [asdict(card) for card in cards]}
    write_whole(index, json.dumps(data, indent=1))


def read_library(folder: Path, partly: bool = False) -> list[SkyCard] | None:
    """The library in a folder; None where it is not there, of another version, or not whole unless `partly`."""
    try:
        data = json.loads((folder / "skies.json").read_text(encoding="utf-8"))
        if data["version"] != VERSION or not (partly or data.get("whole", True)):
            return None
        cards = [
            SkyCard(**{**each, "size": tuple(each["size"]), "colour": tuple(each["colour"])}) for each in data["skies"]
        ]
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return cards if all((folder / card.file).exists() for card in cards) else None
