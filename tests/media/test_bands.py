"""Work on other cores: it gives what it gave alone, and its errors, and what is a band waits for no other."""

import os
import subprocess
import sys

import numpy as np
import pytest

from zonal_mantle.media.bands import run_apart, run_bands


def test_what_runs_apart_gives_its_result_or_its_error():
    def broken() -> None:
        raise ValueError("as it is")

    assert run_apart(sum, [1, 2, 3])() == 6
    waiting = run_apart(broken)
    with pytest.raises(ValueError, match="as it is"):
        waiting()


def test_bands_that_run_work_apart_wait_for_none_of_the_others():
    rows = np.zeros(640)

    def half(first: int, end: int) -> None:
        rows[first:end] = run_apart(lambda: run_apart(lambda: 1.0)())()

    run_bands(half, len(rows))
    assert (rows == 1).all()


SHARED_OUT = """
import hashlib, os, sys
os.sched_setaffinity(0, range(int(sys.argv[1])))
from zonal_mantle.api import open_shot
from zonal_mantle.media import bands
session = open_shot(sys.argv[2])
print(bands.CORES, hashlib.sha256(session.frame(session.shot.first + 2).tobytes()).hexdigest())
"""


def test_a_frame_is_the_same_however_its_rows_are_shared_out(demo):
    """The processes that run tests may have one core each; a machine has them all."""
    made = {}
    for cores in (1, os.cpu_count() or 1):
        command = [sys.executable, "-c", SHARED_OUT, str(cores), str(demo / "SLT_0140.shot.json")]
        count, digest = subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()
        assert int(count) <= cores
        made[cores] = digest
    assert len(set(made.values())) == 1
