"""Small shots with a known lock, for tests of how things hang."""

import cv2
import numpy as np

from zonal_mantle.geometry import carry
from zonal_mantle.lock import fit_motion
from zonal_mantle.lock.runs import flat
from zonal_mantle.shot import Lens, Lock, LockFrame, Mark, Placement, Shot, Source, Zone

SIZE, FOCAL = (640, 360), 700.0
K = np.array([[FOCAL, 0, 320], [0, FOCAL, 180], [0, 0, 1]])


def pan(count: int = 24, degrees: float = 34.0, distortion: float = 0.0) -> Lock:
    """A camera that turns right, and sways."""
    entries = []
    for n in range(count):
        turn = np.array([0.01 * np.sin(n), -np.radians(degrees) * n / (count - 1), 0.008 * np.sin(1.7 * n)])
        turn = turn - ([0.0, 0.0, 0.0] if n else turn)
        motion = K @ cv2.Rodrigues(turn)[0] @ np.linalg.inv(K)
        entries.append(LockFrame(frame=1 + n, homography=flat(motion), rotation=tuple(map(float, turn))))
    lens = Lens(focal_px=FOCAL, distortion=distortion)
    return Lock(id="pan", name="Pan", kind="pan", reference_frame=1, lens=lens, solved=tuple(entries))


def walk(count: int = 24) -> Lock:
    """A camera that walks to the right and forward, and turns a little, in metres."""
    entries = []
    for n in range(count):
        turn = np.array([0.002, 0.006, -0.003]) * n
        place = np.array([0.12, -0.01, 0.2]) * n
        motion = K @ cv2.Rodrigues(turn)[0] @ np.linalg.inv(K)
        entries.append(
            LockFrame(
                frame=1 + n,
                homography=flat(motion),
                rotation=tuple(map(float, turn)),
                position=tuple(map(float, place)),
            )
        )
    lens = Lens(focal_px=FOCAL)
    return Lock(
        id="walk", name="Walk", kind="camera", reference_frame=1, lens=lens, solved=tuple(entries), in_metres=True
    )


MARKS = ((180.0, 240.0), (470.0, 250.0))


def turn_at(n: float) -> np.ndarray:
    """How a camera that turns right moves its picture in n frames."""
    return K @ cv2.Rodrigues(np.array([0.001, -0.01, 0.0008]) * n)[0] @ np.linalg.inv(K)


def marked(places: tuple = MARKS, count: int = 12, error: float = 0.05, turn=turn_at, **more) -> Lock:
    """Marks that a turning camera moves, followed perfectly, with a shift, a turn and a size as their motion."""
    entries = []
    for n in range(count):
        seen = carry(turn(n), np.array(places))
        motion = fit_motion(np.array(places), seen, "similarity" if len(places) > 1 else "translation")
        ends = tuple(map(tuple, seen.tolist()))
        entries.append(LockFrame(frame=1 + n, homography=flat(motion), marks=ends, residual_px=error if n else 0.0))
    marks = tuple(Mark(x=x, y=y) for x, y in places)
    return Lock(id="m", name="M", reference_frame=1, marks=marks, solved=tuple(entries), **more)


def shot_with(
    lock: Lock | None, picture: tuple[int, int], count: int = 24, distance: float | None = None, **placed
) -> Shot:
    """A shot of one zone that holds a painting of a size."""
    plate = Source(id="plate", name="Plate", path="p.%04d.exr", kind="sequence", width=640, height=360, last=count)
    painting = Source(id="sky", name="Sky", path="sky.exr", kind="still", width=picture[0], height=picture[1])
    placement = Placement(rides=lock.id if lock else None, **placed)
    zone = Zone(id="z", name="Sky", source="sky", distance_m=distance, placement=placement)
    return Shot(plate="plate", sources=(plate, painting), locks=(lock,) if lock else (), zones=(zone,))
