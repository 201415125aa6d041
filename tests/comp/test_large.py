"""4K, long shots: what is held while they are made."""

import os
from pathlib import Path

import cv2
import numpy as np
import pytest

from zonal_mantle.api import add_painting, shot_from_plate
from zonal_mantle.comp import Pictures, compose
from zonal_mantle.comp import base as base_module
from zonal_mantle.comp.base import make_base
from zonal_mantle.comp.lock_work import MOST_COLUMNS, LockWork
from zonal_mantle.media import open_source
from zonal_mantle.media.memory import MIB
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import History, Keyed, Lock, LumaPull, Matte, Shot
from zonal_mantle.shot.history import MOST_STEPS
from zonal_mantle.shot.lock import LockFrame

FOUR_K = (4096, 2160)


@pytest.fixture(scope="module")
def four_k(tmp_path_factory: pytest.TempPathFactory) -> Shot:
    folder = tmp_path_factory.mktemp("four_k")
    x, y = np.meshgrid(np.linspace(0, 1, FOUR_K[0]), np.linspace(0, 1, FOUR_K[1]))
    plate = np.stack([0.2 + 0.6 * (y < 0.4), x * 0.5, y * 0.5], axis=2).astype(np.float32)
    write_still(folder / "p.1001.exr", plate, "half", "zip")
    os.link(folder / "p.1001.exr", folder / "p.1002.exr")
    write_still(folder / "sky.exr", np.full((1200, 2000, 3), (0.1, 0.2, 0.9), np.float32), "half", "zip")
    shot = shot_from_plate(open_source(folder / "p.%04d.exr", "plate"))
    shot = add_painting(shot, open_source(folder / "sky.exr", "sky"), None)
    sky = shot.zones[-1]
    shot = shot.with_zone(sky.but(placement=sky.placement.but(size=Keyed(constant=2.2))))
    pull = LumaPull(high=Keyed(constant=0.55), high_softness=Keyed(constant=0.02))
    return shot.with_zone_matte(shot.zones[0], Matte(id="m", name="M", pulls=(pull,)))


def test_a_4k_frame_is_made_within_the_bounds_of_its_caches(four_k):
    pictures = Pictures(limit_bytes=300 * MIB, painting_bytes=64 * MIB)
    out = compose(four_k, 1001, pictures)
    assert out.shape == (2160, 4096, 4)
    assert out[100, 2000, :3] == pytest.approx((0.1, 0.2, 0.9), abs=1e-3)
    assert out[2000, 1000, 0] == pytest.approx(0.2, abs=1e-3)
    compose(four_k, 1002, pictures)
    assert pictures.held_bytes <= 364 * MIB


def test_a_4k_proxy_is_the_4k_frame_smaller(four_k):
    pictures = Pictures()
    full, small = compose(four_k, 1001, pictures), compose(four_k, 1001, pictures, 0.25)
    mean = cv2.resize(full, (1024, 540), interpolation=cv2.INTER_AREA)
    apart = np.abs(mean - small)
    assert np.percentile(apart, 99) < 0.01
    assert np.abs(mean[:200] - small[:200]).max() < 0.02


def long_shot(folder: Path, count: int) -> Shot:
    rng = np.random.default_rng(2)
    scene = cv2.GaussianBlur(rng.uniform(0.2, 0.8, (48, 64 + 2 * count, 3)).astype(np.float32), (0, 0), 1.5)
    entries = []
    for k in range(count):
        frame = scene[:, 2 * k : 2 * k + 64].copy()
        frame[20:30, (7 * k) % 54 : (7 * k) % 54 + 10] = 3.0  # something that passes
        write_still(folder / f"p.{1001 + k}.exr", frame, "float")
        entries.append(LockFrame(frame=1001 + k, homography=(1, 0, -2 * k, 0, 1, 0, 0, 0, 1)))
    shot = shot_from_plate(open_source(folder / "p.%04d.exr", "plate"))
    return shot.with_lock(Lock(id="l", name="L", kind="plane", reference_frame=1001, solved=tuple(entries)))


def test_a_base_reads_a_plate_once_for_as_many_rows_as_the_room_allows(tmp_path, monkeypatch):
    shot = long_shot(tmp_path, 20)
    pictures, read = Pictures(), []
    plate = pictures.plate

    def counted(source, frame, scale=1.0):
        read.append(frame)
        return plate(source, frame, scale)

    monkeypatch.setattr(pictures, "plate", counted)
    whole = make_base(shot, "l", pictures)
    assert len(read) == 2 * 20  # once to even exposures, once to stitch
    # in strips of sixteen rows it is the same picture
    monkeypatch.setattr(base_module, "STRIP_BYTES", 1)
    strips = make_base(shot, "l", pictures)
    assert np.array_equal(whole.pixels, strips.pixels)
    assert len(read) == 2 * 20 + 20 + 3 * 20


def test_a_base_of_many_frames_takes_its_median_over_a_bounded_number(tmp_path, monkeypatch):
    shot = long_shot(tmp_path, 24)
    all_of_them = make_base(shot, "l", Pictures())
    monkeypatch.setattr(base_module, "MOST_LAYERS", 12)
    some = make_base(shot, "l", Pictures())
    inside = all_of_them.pixels[4:-4, 16:-16]
    assert np.abs(some.pixels[4:-4, 16:-16] - inside).mean() < 0.01
    assert inside[..., :3].max() < 1.0  # what passes is gone


def test_what_a_lock_keeps_of_each_frame_does_not_grow_with_the_plate(four_k):
    lock = Lock(id="l", name="L", kind="plane", reference_frame=1001)
    shot = four_k.with_lock(lock)
    work = LockWork(shot, lock, Pictures())
    work.feed(1001)
    kept = work.neighbours()[1001]
    assert kept.shape[1] <= MOST_COLUMNS + 3
    assert kept.nbytes < MIB


def test_undo_holds_a_bounded_number_of_steps_and_the_latest_ones():
    history = History.starting_with(Shot(name="0"))
    for k in range(1, MOST_STEPS + 51):
        history.push(Shot(name=str(k)), f"Step {k}")
    assert len(history.shots) == MOST_STEPS + 1
    assert len(history.labels) == len(history.shots)
    assert history.shot.name == str(MOST_STEPS + 50)
    steps = 0
    while history.undo():
        steps += 1
    assert steps == MOST_STEPS
    assert history.shot.name == "50"
    assert history.redo() == "Step 51"
