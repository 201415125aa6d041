"""Writes the Saltern shot: plate as EXR and as H.264, paintings, elements, truth, and the shot's file."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..media import colour
from ..media.still import write_still
from ..render.frames import VideoWriter
from . import film, paintings
from .camera import HandHeld
from .elements import write_elements
from .scene import (
    AIRLIGHT,
    HILL_DISTANCES_M,
    RANGE_DISTANCE_M,
    SUN_BEARING_DEG,
    TOWER_DISTANCE_M,
    VISIBILITY_M,
    Scene,
    build,
)
from .trace import BETA, SKY_DEGREES, Tracer, horizon_slope

Array = NDArray[np.float32]
Progress = Callable[[float, str], None]
NAME = "SLT_0140"


@dataclass(frozen=True)
class DemoPlan:
    """What is written. Seed and size may be changed to make other shots."""

    seed: int = 7
    size: tuple[int, int] = (1280, 720)
    frames: int = 48
    first: int = 1001
    samples: int = 12
    pan_deg: float = 6.5
    shake: float = 1.0
    grain: float = 1.0
    finished: bool = False  # also write the generator's own finished picture, with its grain and without


def write_demo(folder: Path, plan: DemoPlan = DemoPlan(), progress: Progress = lambda share, words: None) -> Path:
    """Writes everything but the shot's file. Returns the folder.

    Raises
    ------
    MediaError : a file cannot be written.
    """
    for part in ("plate", "paintings", "truth"):
        (folder / part).mkdir(parents=True, exist_ok=True)
    progress(0.0, "Building the saltworks")
    scene = build(plan.seed)
    path = HandHeld(plan.seed, plan.frames, plan.size, plan.pan_deg, shake=plan.shake)
    _write_paintings(folder / "paintings", scene)
    write_elements(folder / "elements", plan.frames / 24, plan.seed)
    tracer = Tracer(scene, path, plan.samples)
    alphas = folder / "truth" / "alpha"
    alphas.mkdir(exist_ok=True)
    if plan.finished:
        (folder / "truth" / "finished").mkdir(exist_ok=True)
        (folder / "truth" / "ungrained").mkdir(exist_ok=True)
    video = folder / f"{NAME}_h264.mp4"
    with VideoWriter(video, "h264", Fraction(24), quality=18) as writer:
        for index in range(plan.frames):
            frame = plan.first + index
            progress(0.08 + 0.9 * index / plan.frames, f"Filming frame {frame}")
            plate, finished, alpha = tracer.frame(index)
            streaks = film.drizzle(alpha.shape, plan.seed, index)
            plate = _expose(plate, streaks, plan, index)
            _write_exr(folder / "plate" / f"{NAME}.{frame:04d}.exr", plate)
            writer.write(colour.from_linear(plate.copy(), colour.CAMERA))
            alpha = film.soften(alpha, plan.size[0])
            write_still(alphas / f"alpha.{frame:04d}.png", np.repeat(alpha[..., None], 3, 2), "uint8")
            if plan.finished:
                picture = _expose(finished, streaks, plan, index)
                _write_exr(folder / "truth" / "finished" / f"finished.{frame:04d}.exr", picture)
                filmed = film.rain_over(film.soften(finished, plan.size[0]), streaks)
                _write_exr(folder / "truth" / "ungrained" / f"ungrained.{frame:04d}.exr", filmed)
    (folder / "truth" / "truth.json").write_text(json.dumps(truth(plan, path, scene), indent=1) + "\n")
    progress(1.0, "The plate is written")
    return folder


def _expose(picture: Array, streaks: Array, plan: DemoPlan, index: int) -> Array:
    soft = film.rain_over(film.soften(picture, plan.size[0]), streaks)
    return film.grain(soft, plan.seed, index, plan.grain)


def _write_exr(path: Path, picture: Array) -> None:
    attributes = {"oiio:ColorSpace": "lin_rec709", "Software": "Saltern generator"}
    write_still(path, picture, "half", "dwab:190", attributes)


def _write_paintings(folder: Path, scene: Scene) -> None:
    write_still(folder / "evening_sky.exr", np.ascontiguousarray(scene.painting_sky[..., :3]), "half", "dwab:45")
    for name, picture in (("far_range", scene.painting_range), ("mill_tower", scene.painting_tower)):
        alpha = np.clip(picture[..., 3:], 0, 1)
        plain = np.where(alpha > 0, picture[..., :3] / np.maximum(alpha, 1e-4), 0).astype(np.float32)
        coded = np.clip(colour.from_linear(plain, colour.SRGB), 0, 1)
        write_still(folder / f"{name}.png", np.concatenate([coded, alpha], axis=2).astype(np.float32), "uint8")


def truth(plan: DemoPlan, path: HandHeld, scene: Scene) -> dict[str, object]:
    """What is true of the shot: camera per frame, distances, haze, sun, grain, where the additions stand."""
    cameras = []
    for index in range(plan.frames):
        camera = path.at(index)
        cameras.append(
            {
                "frame": plan.first + index,
                "focal_px": camera.focal_px,
                "rotation": camera.rotation.tolist(),
                "position_m": camera.position.tolist(),
            }
        )
    reference = path.at((path.frames - 1) / 2)
    slope = horizon_slope(reference)
    panels = {p.name: [p.corner.tolist(), p.across.tolist(), p.down.tolist()] for p in scene.panels if p.name}
    return {
        "seed": plan.seed,
        "size": plan.size,
        "cameras": cameras,
        "hill_distances_m": HILL_DISTANCES_M,
        "tower_distance_m": TOWER_DISTANCE_M,
        "range_distance_m": RANGE_DISTANCE_M,
        "visibility_m": VISIBILITY_M,
        "extinction_per_m": BETA,
        "airlight": AIRLIGHT.tolist(),
        "sun_bearing_deg": SUN_BEARING_DEG,
        "grain_coded": film.GRAIN_CODED * plan.grain,
        "softness_px": film.SOFTNESS_PX * plan.size[0] / 1280,
        "sky_painting": {
            "rotation": reference.rotation.tolist(),
            "horizon_slope": slope,
            "span_deg": SKY_DEGREES,
            "sun": paintings.SKY_SUN,
        },
        "wagon_m_per_frame": next(p.velocity.tolist() for p in scene.panels if p.name == "wagon"),
        "panels_m": panels,
    }
