"""Small good files of every kind that is read, to be damaged."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np

from zonal_mantle.finish.look import look_from, write_look
from zonal_mantle.lock.files import camera_to_usd, lock_to_csv, lock_to_json
from zonal_mantle.match.tone_files import write_cdl, write_tone
from zonal_mantle.media.still import write_still
from zonal_mantle.render.frames import VideoWriter
from zonal_mantle.shot import Cdl, Keyed, Lock, LockFrame, Shape, ShapeKey, ToneMatch, ellipse_key, save
from zonal_mantle.shot.lock import Lens
from zonal_mantle.shot.svg import shapes_to_svg


def solved_lock() -> Lock:
    """A camera lock on a few frames."""
    frames = tuple(
        LockFrame(
            frame=1001 + k, homography=(1.0, 0.001 * k, 2.0 * k, 0.0, 1.0, 0.5 * k, 1e-7 * k, 0.0, 1.0),
            residual_px=0.1, confidence=0.95, rotation=(0.0, 0.01 * k, 0.0), position=(0.1 * k, 0.0, 0.0),
        )
        for k in range(8)
    )  # fmt: skip
    return Lock(
        id="lock1", name="Camera", kind="camera", reference_frame=1001, solved=frames, lens=Lens(focal_px=1400.0)
    )


def make_samples(folder: Path, shot: Path) -> list[Path]:
    """Writes a small good file of each kind into a folder; `shot` is a shot's file. Returns them."""
    from zonal_mantle.match.grade import tone_at
    from zonal_mantle.shot import load
    from zonal_mantle.shot.settled import settled

    folder.mkdir(parents=True, exist_ok=True)
    picture = np.random.default_rng(1).random((24, 32, 4), np.float32)
    for name, depth in (("a.png", "uint16"), ("a.exr", "half"), ("a.jpg", "uint8"), ("a.tif", "uint16"),
                        ("a.dpx", "uint10"), ("a.hdr", "float")):  # fmt: skip
        channels = 4 if name in ("a.png", "a.exr", "a.tif") else 3
        write_still(folder / name, np.ascontiguousarray(picture[..., :channels]), depth)
    for name, kind in (("a.mp4", "h264"), ("a.mov", "prores"), ("a.mkv", "h264")):
        with VideoWriter(folder / name, kind, Fraction(24)) as writer:
            for k in range(4):
                writer.write(np.roll(picture[..., :3], k, axis=1))
    save(load(shot), folder / "a.json")
    lock = solved_lock()
    (folder / "a.lock").write_text(lock_to_json(lock, (1280, 720)))
    (folder / "a.csv").write_text(lock_to_csv(lock))
    camera_to_usd(lock, (1280, 720), 24.0, folder / "a.usda")
    square = Shape(id="s1", name="Square", keys=(ShapeKey(frame=1001, points=((1, 1), (9, 1), (9, 9))),))
    round_ = Shape(id="s2", name="Round", form="curve", keys=(ellipse_key(1001, (5, 5), (90, 60)),))
    (folder / "a.svg").write_text(shapes_to_svg([square, round_], 1001, (1280, 720)))
    for name in ("a.cc", "a.ccc", "a.cdl"):
        write_cdl(folder / name, Cdl(saturation=Keyed(constant=0.8)), "cdl")
    tone = ToneMatch(exposure_stops=Keyed(constant=0.5), contrast=Keyed(constant=1.2))
    write_tone(folder / "a.clf", tone_at(settled(tone, 1001)))
    small = [
        "LUT_3D_SIZE 4",
        *(f"{r / 3:.4f} {g / 3:.4f} {b / 3:.4f}" for b in range(4) for g in range(4) for r in range(4)),
    ]
    (folder / "a.cube").write_text("\n".join(small) + "\n")
    write_look(folder / "a.look", look_from("Dusk", tone, 1001))
    return sorted(path for path in folder.iterdir() if path.name.startswith("a."))
