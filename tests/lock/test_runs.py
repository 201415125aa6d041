"""Going through a shot from the reference frame: what is kept of a way that ends early."""

import numpy as np
import pytest

from zonal_mantle.lock.runs import flat, run_both_ways
from zonal_mantle.shot import Lock, LockFrame

LOOSE = "the field has too little texture for perspective (its corners are known to 2.5 px)."
GONE = "the field has left the picture, or is covered."


def held(frame: int) -> LockFrame:
    return LockFrame(frame=frame, homography=flat(np.eye(3)), residual_px=0.1)


@pytest.mark.parametrize(
    ("why", "lasts", "kept"),
    [(LOOSE, 2, [10]), (LOOSE, 3, [10, 11, 12, 13]), (GONE, 2, [10, 11, 12]), (LOOSE, 20, [*range(10, 20)])],
)
def test_frames_before_one_that_hardly_anything_tells_are_not_kept(why, lasts, kept):
    def begin():
        return lambda frame, before: (held(frame), "") if frame <= 10 + lasts else (None, why)

    lock = Lock(id="l", name="L", kind="plane", reference_frame=10)
    found = run_both_ways(lock, held(10), range(10, 20), "both", begin, lambda share, words: None)
    assert [entry.frame for entry in found.solved] == kept
    if len(kept) < 10:
        assert found.lost == (f"Forward: lost on frame {kept[-1] + 1}: {why}",)


def test_frames_that_were_solved_before_stay():
    def begin():
        return lambda frame, before: (held(frame), "") if frame <= 12 else (None, LOOSE)

    lock = Lock(id="l", name="L", kind="plane", reference_frame=10, solved=(held(10), held(11), held(12)))
    found = run_both_ways(lock, held(10), range(10, 20), "both", begin, lambda share, words: None, missing_only=True)
    assert [entry.frame for entry in found.solved] == [10, 11, 12]
