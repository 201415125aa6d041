"""The same for many frames, a few at once."""

import threading
import time

import pytest

from zonal_mantle.comp import Cancelled
from zonal_mantle.comp.over_frames import AT_ONCE, over_frames


def test_results_stand_in_their_order_however_long_each_took():
    at_once, most, lock = [0], [0], threading.Lock()

    def work(frame: int) -> int:
        with lock:
            at_once[0] += 1
            most[0] = max(most[0], at_once[0])
        time.sleep(0.03 if frame % 3 == 0 else 0.002)
        with lock:
            at_once[0] -= 1
        return frame**2

    begun = []
    assert over_frames(range(12), work, lambda place, frame: begun.append((place, frame))) == [k**2 for k in range(12)]
    assert begun == [(k, k) for k in range(12)]
    assert most[0] == AT_ONCE


def test_an_error_or_a_stop_begins_nothing_more():
    done = []

    def fails(frame: int) -> None:
        done.append(frame)
        if frame == 3:
            raise ValueError("frame 3")

    with pytest.raises(ValueError, match="frame 3"):
        over_frames(range(50), fails, lambda place, frame: None)
    assert max(done) <= 3 + AT_ONCE
    done.clear()

    def stop(place: int, frame: int) -> None:
        if place == 5:
            raise Cancelled

    with pytest.raises(Cancelled):
        over_frames(range(50), done.append, stop)
    assert set(done) <= set(range(5))
    assert over_frames([], fails, stop) == []
