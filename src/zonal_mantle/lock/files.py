"""Locks to files and back: JSON and CSV, as docs/LOCK_FILES.md describes them; a camera as OpenUSD."""

from __future__ import annotations

import csv
import io
import json
import logging
import math
from collections import Counter
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from pydantic import ValidationError

from ..geometry import camera_matrix
from ..paths import for_library, named, placed, why_no_file, why_no_writing, written_whole
from ..shot.door import json_of, sentence_of, text_of
from ..shot.errors import ShotError
from ..shot.limits import MOST_BYTES, MOST_ITEMS, MOST_NUMBER
from ..shot.lock import Lock, LockFrame
from ..words import say
from .errors import LockError
from .runs import flat, triple

log = logging.getLogger(__name__)
USD = (".usd", ".usda", ".usdc")
FORMAT, VERSION = "zonal-mantle-lock", 1
COLUMNS = ["frame", *(f"h{row}{column}" for row in range(3) for column in range(3)), "residual_px", "confidence"]
CAMERA_COLUMNS = ["rx", "ry", "rz", "x_m", "y_m", "z_m"]


def lock_to_json(lock: Lock, size: tuple[int, int]) -> str:
    """A lock with its solve. `size` is the plate's width and height, to which its pixels belong."""
    data = {"format": FORMAT, "version": VERSION, "plate_size": list(size), "lock": lock.model_dump(mode="json")}
    return json.dumps(data, indent=1, ensure_ascii=False) + "\n"


def lock_from_json(text: str, size: tuple[int, int], name: str = "The file") -> Lock:
    """A lock read back; pixels are scaled where the plate has another size of the same shape.

    Raises
    ------
    LockError : not a lock's file, of a newer version, or of a plate of another shape.
    """
    try:
        data = json_of(text, name)
    except ShotError as problem:
        raise LockError(str(problem)) from problem
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise LockError(say("{name} is not a lock's file. It should say format {format}.", name=name, format=FORMAT))
    version = data.get("version", 0)
    if not isinstance(version, int) or version > VERSION:
        raise LockError(
            say(
                "{name} is of a newer version ({version!r:.20}); this one reads up to {version_2}.",
                name=name,
                version=version,
                version_2=VERSION,
            )
        )
    try:
        lock = Lock.model_validate(data.get("lock"))
    except ValidationError as problem:
        raise LockError(
            say(
                "{name} cannot be read as a lock: {why}. Nothing was changed.",
                name=name,
                why=sentence_of(problem),
            )
        ) from problem
    size_told = data.get("plate_size")
    if not isinstance(size_told, list) or len(size_told) != 2 or not all(_is_size(v) for v in size_told):
        raise LockError(
            say("{name} does not say its plate's size: plate_size should be its width and height in pixels.", name=name)
        )
    width, height = (float(v) for v in size_told)
    _check_solved(lock, name)
    if (width, height) == size:
        return lock
    if abs(width / height - size[0] / size[1]) > 0.01:
        raise LockError(
            say(
                "{name} belongs to a plate of {width:.0f} × {height:.0f}; this one has {size} × {size_2} and "
                "another shape.",
                name=name,
                width=width,
                height=height,
                size=size[0],
                size_2=size[1],
            )
        )
    return resized(lock, size[0] / width, size[1] / height)


def _is_size(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and value >= 1


def _check_solved(lock: Lock, name: str) -> None:
    """Every motion can be used: a homography that has an inverse, one a frame."""
    for entry in lock.solved:
        matrix = np.array(entry.homography)
        numbers = [*entry.homography, *(entry.rotation or ()), *(entry.position or ())]
        usable = np.isfinite(numbers).all() and abs(matrix[8]) > 1e-12
        if not usable or np.linalg.matrix_rank(matrix.reshape(3, 3)) < 3:
            raise LockError(
                say(
                    "{name} holds a motion on frame {frame} that cannot be. Nothing was changed.",
                    name=name,
                    frame=entry.frame,
                )
            )
    frames = [entry.frame for entry in lock.solved]
    if len(set(frames)) < len(frames):
        raise LockError(say("{name} has a frame twice. Nothing was changed.", name=name))


def is_solve_only(path: Path) -> bool:
    """Whether a file of this kind holds a solve, that a lock takes, and no lock of its own."""
    return path.suffix.lower() in (".csv", *USD)


def read_lock(path: Path, lock: Lock, size: tuple[int, int]) -> Lock:
    """A lock with what a file holds, by its ending: a table (.csv), a camera (.usd, .usda, .usdc), else JSON.

    Raises
    ------
    LockError : it cannot be read, is too large, or holds no lock.
    """
    why = why_no_file(path)
    if why is not None:
        raise LockError(f"{named(path)} {why}.")
    if path.suffix.lower() in USD:
        return camera_from_usd(lock, size, path)
    try:
        text = text_of(path)
    except ShotError as problem:
        raise LockError(str(problem)) from problem
    if path.suffix.lower() == ".csv":
        return lock_from_csv(lock, text, named(path))
    return lock_from_json(text, size, named(path))


def resized(lock: Lock, across: float, down: float) -> Lock:
    """A lock for a plate of another size: every place is multiplied."""
    grow = np.diag([across, down, 1.0])

    def place(point: Any) -> tuple[float, float]:
        return (point[0] * across, point[1] * down)

    def entry(old: LockFrame) -> LockFrame:
        motion = grow @ np.array(old.homography).reshape(3, 3) @ np.linalg.inv(grow)
        return old.but(
            homography=flat(motion),
            marks=tuple(None if mark is None else place(mark) for mark in old.marks),
            residual_px=old.residual_px * across,
        )

    mean = float(np.sqrt(across * down))
    field = tuple(
        shape.but(
            feather_in_px=min(shape.feather_in_px * mean, 500.0),
            feather_out_px=min(shape.feather_out_px * mean, 500.0),
            grow_px=float(np.clip(shape.grow_px * mean, -500, 500)),
            about=None if shape.about is None else place(shape.about),
            keys=tuple(
                key.but(
                    points=tuple(place(p) for p in key.points),
                    handles=tuple((*place(h[:2]), *place(h[2:])) for h in key.handles),
                )
                for key in shape.keys
            ),
        )
        for shape in lock.field
    )
    marks = tuple(
        mark.but(x=mark.x * across, y=mark.y * down, patch=place(mark.patch), reach=place(mark.reach))
        for mark in lock.marks
    )
    hand = lock.correction
    correction = hand.but(
        x=hand.x.scaled(across),
        y=hand.y.scaled(down),
        centre=None if hand.centre is None else place(hand.centre),
    )
    focal, bounds = lock.lens.focal_px, lock.lens.bounds_px
    return lock.but(
        solved=tuple(entry(old) for old in lock.solved),
        field=field,
        marks=marks,
        correction=correction,
        quad=None if lock.quad is None else tuple(place(p) for p in lock.quad),
        lens=lock.lens.but(
            focal_px=None if focal is None else focal * across,
            bounds_px=None if bounds is None else (bounds[0] * across, bounds[1] * across),
        ),
    )


def lock_to_csv(lock: Lock) -> str:
    """A solve as a table: a row a frame, the homography row by row; pan and camera locks add the turn and the place."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    camera = any(entry.rotation is not None for entry in lock.solved)
    writer.writerow(COLUMNS + (CAMERA_COLUMNS if camera else []))
    for entry in lock.solved:
        values = [entry.frame, *entry.homography, entry.residual_px, entry.confidence]
        if camera:
            values += [*(entry.rotation or (0.0, 0.0, 0.0)), *(entry.position or (0.0, 0.0, 0.0))]
        writer.writerow([repr(value) for value in values])
    return out.getvalue()


def lock_from_csv(lock: Lock, text: str, name: str = "The file") -> Lock:
    """A lock with its solve read from a table; extra columns are ignored.

    Raises
    ------
    LockError : a column is missing, a value is not a number, or a frame comes twice.
    """
    try:
        rows = list(csv.DictReader(io.StringIO(text)))
    except csv.Error as problem:
        raise LockError(
            say("{name} cannot be read as a table: {problem}. Nothing was changed.", name=name, problem=problem)
        ) from problem
    if len(rows) > MOST_ITEMS:
        raise LockError(
            say("{name} has more than {most_items} rows. Nothing was changed.", name=name, most_items=MOST_ITEMS)
        )
    missing = [column for column in COLUMNS[:10] if not rows or column not in rows[0]]
    if missing:
        raise LockError(
            say(
                "{name} has no column {missing}. A lock's table needs {names}.",
                name=name,
                missing=missing[0],
                names=", ".join(COLUMNS[:10]),
            )
        )
    entries = []
    for line, row in enumerate(rows, 2):
        try:
            matrix = np.array([_number(row, column) for column in COLUMNS[1:10]])
            if np.linalg.matrix_rank(matrix.reshape(3, 3)) < 3 or abs(matrix[8]) < 1e-12:
                raise ValueError(say("the homography is not usable"))
            camera = all(row.get(column) not in (None, "") for column in CAMERA_COLUMNS)
            six = [_number(row, column) for column in CAMERA_COLUMNS] if camera else None
            frame = _number(row, "frame")
            if frame != round(frame):
                raise ValueError(say("frame must be a whole number"))
            entries.append(
                LockFrame(
                    frame=int(frame),
                    homography=flat(matrix),
                    residual_px=_number(row, "residual_px") if row.get("residual_px") else 0.0,
                    confidence=_number(row, "confidence") if row.get("confidence") else 1.0,
                    rotation=(six[0], six[1], six[2]) if six else None,
                    position=(six[3], six[4], six[5]) if six else None,
                )
            )
        except ValueError as problem:
            raise LockError(
                say("{name}, line {line}: {problem}. Nothing was changed.", name=name, line=line, problem=problem)
            ) from problem
    counts = Counter(entry.frame for entry in entries)
    twice = [frame for frame, count in counts.items() if count > 1]
    if twice:
        raise LockError(say("{name} has frame {frame} twice. Nothing was changed.", name=name, frame=min(twice)))
    return lock.but(solved=tuple(sorted(entries, key=lambda entry: entry.frame)), lost=())


def _number(row: dict[str, str], column: str) -> float:
    """A number of a table; ValueError with words where it is none."""
    text = row.get(column)
    try:
        value = float(text or "")
    except ValueError:
        raise ValueError(
            say("{column} must be a number, not {words:.40}", column=column, words=text or "nothing")
        ) from None
    if not math.isfinite(value) or abs(value) > MOST_NUMBER:
        raise ValueError(say("{column} lies beyond ±{most_number:g}", column=column, most_number=MOST_NUMBER))
    return value


def camera_to_usd(lock: Lock, size: tuple[int, int], rate: float, path: Path) -> None:
    """A pan or camera lock, or marks that turn like a camera, as an animated camera with its points, as OpenUSD (y up,
    metres, one time code a frame).

    Raises
    ------
    LockError : no camera was solved, `usd-core` is not installed, or the file cannot be written.
    """
    solved = [entry for entry in lock.solved if entry.rotation is not None]
    if not solved or lock.lens.focal_px is None:
        raise LockError(
            say(
                "{name} holds no camera. Solve it as a pan or camera lock first, or let its marks turn like a camera.",
                name=lock.name,
            )
        )
    usd = _usd()
    stage = usd.Usd.Stage.CreateInMemory()
    usd.UsdGeom.SetStageUpAxis(stage, usd.UsdGeom.Tokens.y)
    usd.UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    stage.SetTimeCodesPerSecond(rate)
    stage.SetStartTimeCode(solved[0].frame)
    stage.SetEndTimeCode(solved[-1].frame)
    camera = usd.UsdGeom.Camera.Define(stage, "/Camera")
    across = lock.lens.sensor_mm
    camera.CreateHorizontalApertureAttr(across)
    camera.CreateVerticalApertureAttr(across * size[1] / size[0])
    camera.CreateFocalLengthAttr(lock.lens.focal_px / size[0] * across)
    transform = camera.AddTransformOp()
    axes = np.diag([1.0, -1.0, -1.0])  # y up, looking along −z
    for entry in solved:
        turn = cv2.Rodrigues(np.array(entry.rotation))[0]
        matrix = np.eye(4)
        matrix[:3, :3] = axes @ turn @ axes  # rows of the local axes in the world: USD multiplies from the left
        matrix[3, :3] = axes @ np.array(entry.position or (0.0, 0.0, 0.0))
        transform.Set(usd.Gf.Matrix4d(*matrix.reshape(-1).tolist()), entry.frame)
    if lock.points:
        points = usd.UsdGeom.Points.Define(stage, "/Points")
        places = np.array([point.place for point in lock.points]) @ axes
        points.CreatePointsAttr([usd.Gf.Vec3f(*place) for place in places.tolist()])
        points.CreateWidthsAttr([0.1] * len(places))
    try:
        with written_whole(path) as part:
            stage.GetRootLayer().Export(for_library(part))
            usd.Usd.Stage.Open(for_library(part))  # read back: a full disk is not always said
    except Exception as problem:  # the library's are of its own kinds
        log.info("%s: %s", placed(path), problem)
        why = why_no_writing(problem)
        raise LockError(
            say("{placed} cannot be written: {why}. Choose another folder.", placed=placed(path), why=why)
        ) from problem


def camera_from_usd(lock: Lock, size: tuple[int, int], path: Path) -> Lock:
    """A camera lock from the first camera of a USD file, its reference frame being the lock's.

    Raises
    ------
    LockError : no camera in the file, or `usd-core` is not installed.
    """
    usd = _usd()
    if path.stat().st_size > MOST_BYTES:
        raise LockError(
            say(
                "{named} is larger than a camera's file can be ({most_bytes} MB).",
                named=named(path),
                most_bytes=MOST_BYTES >> 20,
            )
        )
    try:
        return _from_stage(usd, usd.Usd.Stage.Open(for_library(path)), lock, size, named(path))
    except LockError:
        raise
    except Exception as problem:  # other people's code, on a file that may hold anything
        log.info("%s: %s: %s", placed(path), type(problem).__name__, problem)
        raise LockError(
            say("{named} cannot be read as USD: it is damaged. Export it again.", named=named(path))
        ) from problem


def _from_stage(usd: Any, stage: Any, lock: Lock, size: tuple[int, int], name: str) -> Lock:
    if list(stage.GetUsedLayers()) and len([layer for layer in stage.GetUsedLayers() if not layer.anonymous]) > 1:
        raise LockError(say("{name} takes in other files, which is not done here. Export it flattened.", name=name))
    found = next((prim for prim in stage.Traverse() if prim.IsA(usd.UsdGeom.Camera)), None)
    if found is None:
        raise LockError(say("{name} holds no camera.", name=name))
    camera = usd.UsdGeom.Camera(found)
    first, last = stage.GetStartTimeCode(), stage.GetEndTimeCode()
    if not (math.isfinite(first) and math.isfinite(last) and 0 <= last - first < MOST_ITEMS):
        raise LockError(
            say(
                "{name} says that it goes from frame {first:g} to {last:g}, which cannot be.",
                name=name,
                first=first,
                last=last,
            )
        )
    frames = range(round(first), round(last) + 1)
    focal = camera.GetFocalLengthAttr().Get() / camera.GetHorizontalApertureAttr().Get() * size[0]
    axes, poses = np.diag([1.0, -1.0, -1.0]), {}
    metres = usd.UsdGeom.GetStageMetersPerUnit(stage)
    for frame in frames:
        matrix = np.array(camera.ComputeLocalToWorldTransform(usd.Usd.TimeCode(frame)))
        poses[frame] = (axes @ matrix[:3, :3] @ axes, axes @ matrix[3, :3] * metres)
    reference = lock.reference_frame if lock.reference_frame in poses else frames[0]
    turn0, place0 = poses[reference]
    k = camera_matrix(focal, size)
    entries = []
    for frame, (turn, place) in poses.items():
        relative = turn @ turn0.T
        motion = k @ relative @ np.linalg.inv(k)
        rotation = cv2.Rodrigues(relative)[0].reshape(3)
        entries.append(
            LockFrame(
                frame=frame,
                homography=flat(motion / motion[2, 2]),
                rotation=(float(rotation[0]), float(rotation[1]), float(rotation[2])),
                position=triple(turn0 @ (place - place0)),
            )
        )
    across = float(camera.GetHorizontalApertureAttr().Get())
    lens = lock.lens.but(focal_px=float(focal), sensor_mm=across, bounds_px=None)
    read = lock.but(kind="camera", reference_frame=reference, solved=tuple(entries), lens=lens, lost=())
    _check_solved(read, name)
    return read


def _usd() -> Any:
    try:
        from pxr import Gf, Usd, UsdGeom
    except ImportError:
        raise LockError(
            say("USD needs the extra package usd-core. Install it, or use the table (CSV) instead.")
        ) from None

    class Modules:
        pass

    Modules.Gf, Modules.Usd, Modules.UsdGeom = Gf, Usd, UsdGeom  # type: ignore[attr-defined]
    return Modules
