"""Nothing half and nothing mixed: full disks, two renders into one folder, renders that go on after an edit."""

import json
import shutil
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from zonal_mantle.api import open_shot
from zonal_mantle.comp import Readings
from zonal_mantle.lock import LockReading
from zonal_mantle.media import MediaError
from zonal_mantle.media.still import PLAN, read_still, shooting_notes, text_attribute, write_still

FULL = """
import resource, signal, sys
from pathlib import Path
import numpy as np
from zonal_mantle.media import MediaError
from zonal_mantle.media.still import write_still
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)  # writing beyond the limit fails as on a full disk
resource.setrlimit(resource.RLIMIT_FSIZE, (60_000, 60_000))
for name, depth in (("a.png", "uint16"), ("b.png", "uint8"), ("c.exr", "half"), ("d.tif", "uint16")):
    try:
        write_still(Path(sys.argv[1]) / name, np.random.default_rng(1).random((200, 300, 4), np.float32), depth)
    except MediaError as problem:
        print(problem)
"""


def test_a_picture_that_a_full_disk_cuts_short_is_said(tmp_path):
    asked = [sys.executable, "-c", FULL, str(tmp_path)]
    done = subprocess.run(asked, capture_output=True, text=True, timeout=120, check=False)
    assert done.returncode == 0, done.stderr
    for name, words in zip(("a.png", "b.png", "c.exr", "d.tif"), done.stdout.splitlines(), strict=True):
        assert name in words
        assert "could not be written whole" in words or "cannot be written" in words


def test_what_was_written_is_read_back(tmp_path, monkeypatch):
    pixels = np.random.default_rng(2).random((20, 30, 3), np.float32)
    write_still(tmp_path / "a.png", pixels, "uint16")
    assert np.abs(read_still(tmp_path / "a.png")[0] - pixels).max() < 1e-4

    def short(path):
        path.write_bytes(path.read_bytes()[:-200])
        return whole(path)

    whole = read_still
    monkeypatch.setattr("zonal_mantle.media.still.read_still", short)
    with pytest.raises(MediaError, match="could not be written whole: the disk may be full"):
        write_still(tmp_path / "b.png", pixels, "uint16")


@pytest.fixture
def session(demo):
    return open_shot(demo / "SLT_0140.shot.json")


def test_two_renders_into_one_folder_do_not_spoil_each_other(session, tmp_path):
    alone = session.render(tmp_path / "alone", first=1001, last=1002, scale=0.25)
    with ThreadPoolExecutor(2) as pool:
        asked = [
            pool.submit(open_shot(session.path).render, tmp_path / "both", first=1001, last=1002, scale=0.25)
            for _ in range(2)
        ]
        found = [each.result() for each in asked]
    assert found[0] == found[1]
    assert [path.read_bytes() for path in found[0]] == [path.read_bytes() for path in alone]
    assert sorted(path.name for path in (tmp_path / "both").iterdir()) == [path.name for path in found[0]]


@pytest.mark.parametrize("format", ["exr", "png"])
def test_a_render_that_goes_on_keeps_only_what_still_stands_for_the_shot(session, tmp_path, format):
    how = {"format": format, "first": 1001, "last": 1002, "scale": 0.25, "resume": True}
    files = session.render(tmp_path, **how)

    def kept():
        before = [path.stat().st_mtime_ns for path in files]
        session.render(tmp_path, **how)
        return [path.stat().st_mtime_ns == was for path, was in zip(files, before)]

    assert kept() == [True, True]
    assert len(text_attribute(files[0], PLAN)) == 32
    assert text_attribute(files[0], PLAN) != text_attribute(files[1], PLAN)
    assert PLAN not in shooting_notes(files[0])

    how["scale"] = 0.5
    assert kept() == [False, False]
    assert {read_still(path)[1].width for path in files} == {320}

    session.edit(air=session.shot.air.but(visibility_m=9000.0))
    assert kept() == [False, False]
    assert kept() == [True, True]

    written = read_still(files[0])[0]
    write_still(files[0], np.ascontiguousarray(written), "half" if format == "exr" else "uint16")  # by somebody else
    assert kept() == [False, True]


def test_what_a_frame_is_made_from_is_the_same_wherever_the_shot_lies(session, demo, tmp_path):
    moved = tmp_path / "moved"
    shutil.copytree(demo, moved)
    here = session.render(tmp_path / "a", first=1001, last=1001, scale=0.25)
    there = open_shot(moved / "SLT_0140.shot.json").render(tmp_path / "b", first=1001, last=1001, scale=0.25)
    assert here[0].read_bytes() == there[0].read_bytes()

    plate = next((moved / "plate").glob("*1001*"))
    pixels = read_still(plate)[0]
    write_still(plate, np.ascontiguousarray(pixels[..., :3] * np.float32(0.9)), "half")
    again = open_shot(moved / "SLT_0140.shot.json").render(
        tmp_path / "b", first=1001, last=1001, scale=0.25, resume=True
    )
    assert again[0].read_bytes() != here[0].read_bytes()


def test_readings_are_json_also_where_a_number_is_none():
    readings = Readings(locks={"a": LockReading(float("nan"), float("inf"), 3, 1, 2)})
    plain = readings.as_dict()
    assert plain["locks"]["a"] == {"rms_px": None, "worst_px": None, "worst_frame": 3, "solved": 1, "wanted": 2}
    json.dumps(plain, allow_nan=False)
