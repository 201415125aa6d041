"""Locks that are looked at while they are solved: frames come one by one, and are about what they will be."""

import numpy as np
import pytest

from lock_plates import box_mask, flat_plates
from zonal_mantle.geometry import carry
from zonal_mantle.lock import solve_pan, solve_plane, solve_point, solve_staying
from zonal_mantle.shot import Lens, Lock, Mark

SIZE, BOX, COUNT = (480, 270), (110, 60, 370, 210), 8
PLACES = np.array([[110.0, 60], [370, 60], [370, 210], [110, 210]])


@pytest.mark.parametrize("kind", ["point", "plane", "staying", "pan"])
def test_frames_are_there_before_the_lock_is_done(kind):
    plates = flat_plates("grass", 21, SIZE, count=COUNT, grain=0.01, speed=0.5)
    seen = list[Lock]()
    lock = Lock(
        id="a", name="A", reference_frame=3, kind="plane" if kind == "staying" else kind,
        field_stays=kind == "staying", marks=(Mark(x=230.0, y=150.0, patch=(20.0, 20.0)),) if kind == "point" else (),
        lens=Lens(focal_px=600.0, given=True),
    )  # fmt: skip
    mask, feed = box_mask(SIZE, BOX), plates.frames.__getitem__

    def so_far(made):
        seen.append(made())

    if kind == "point":
        done = solve_point(lock, feed, range(COUNT), so_far=so_far)
    else:
        solver = {"plane": solve_plane, "staying": solve_staying, "pan": solve_pan}[kind]
        done = solver(lock, feed, mask, lambda frame: None, range(COUNT), so_far=so_far)
    assert len(done.solved) == COUNT
    assert [len(each.solved) for each in seen[: COUNT - 1]] == list(range(2, COUNT + 1))
    assert lock.solved == ()
    for entry in seen[COUNT - 2].solved:
        now, then = (carry(np.reshape(each.homography, (3, 3)), PLACES) for each in (entry, done.at(entry.frame)))
        assert np.abs(now - then).max() < (2.5 if kind == "pan" else 0.6)  # a pan's turn is not yet told from a plane's
