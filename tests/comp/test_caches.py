"""What is kept, for how long, and what makes it anew."""

import os
import random
import threading
import time
from functools import partial
from pathlib import Path

import numpy as np
import pytest

from zonal_mantle.api import add_painting, shot_from_plate
from zonal_mantle.comp import Pictures, Scheduler, compose, plan
from zonal_mantle.comp.fits import old_sky_colour
from zonal_mantle.comp.matte_planner import matte_plan
from zonal_mantle.comp.scheduler import AHEAD, PICTURE, Job
from zonal_mantle.comp.solve import merged
from zonal_mantle.comp.views import Look, view_key
from zonal_mantle.media import open_source
from zonal_mantle.media.memory import ByteCache, Turns, budget, held_bytes, one_at_a_time
from zonal_mantle.media.stamps import stamp_of
from zonal_mantle.media.still import write_still
from zonal_mantle.media.watch import used_files_digest
from zonal_mantle.shot import ClearSkyPull, Keyed, Lock, LockFrame, LumaPull, Mark, Matte, Shape, rectangle_key


def still_shot(folder: Path, size: tuple[int, int] = (64, 48)):
    for frame in (1001, 1002):
        write_still(folder / f"plate.{frame}.exr", np.full((size[1], size[0], 3), 0.4, np.float32), "float")
    write_still(folder / "sky.exr", np.full((size[1], size[0], 3), 0.2, np.float32), "float")
    shot = shot_from_plate(open_source(folder / "plate.%04d.exr", "plate"))
    return add_painting(shot, open_source(folder / "sky.exr", "sky"), 10.0)


def test_a_nudge_from_minus_one_to_minus_two_pixels_is_another_picture(tmp_path):
    shot = still_shot(tmp_path)
    zone = shot.zones[-1]

    def key(x: float) -> str:
        moved = zone.but(placement=zone.placement.but(x=Keyed(constant=x)))
        return view_key(shot.with_zone(moved), 1001, "Composite", None, 1.0, Look())

    assert hash(-1.0) == hash(-2.0)  # why pictures are not known by Python's hash
    assert key(-1.0) != key(-2.0)


def test_a_painting_that_is_saved_again_is_shown_as_it_is_now(tmp_path):
    shot, pictures = still_shot(tmp_path), Pictures()
    before, files = compose(shot, 1001, pictures), used_files_digest(shot.sources)
    assert before[20, 20, 0] == pytest.approx(0.2, abs=2e-3)
    write_still(tmp_path / "sky.exr", np.full((48, 64, 3), 0.9, np.float32), "float")
    deadline = time.monotonic() + 2
    while used_files_digest(shot.sources) == files:
        assert time.monotonic() < deadline
        time.sleep(0.05)
    assert compose(shot, 1001, pictures)[20, 20, 0] == pytest.approx(0.9, abs=2e-3)


def test_a_name_or_a_drawn_line_reads_no_picture_again(tmp_path, monkeypatch):
    shot, pictures = still_shot(tmp_path), Pictures()
    compose(shot, 1001, pictures)
    import zonal_mantle.comp.pictures as door

    read = []
    monkeypatch.setattr(door, "read_picture", lambda picture: read.append(picture))
    renamed = shot.with_source(shot.source("sky").but(name="Dusk", sun=(3.0, 4.0)))
    compose(renamed, 1001, pictures)
    assert read == []


def test_two_threads_that_want_the_same_build_it_once():
    cache, made, gate = ByteCache(1 << 20), [], threading.Barrier(6)

    def make() -> np.ndarray:
        made.append(threading.get_ident())
        time.sleep(0.05)
        return np.ones(10)

    def ask(out: list) -> None:
        gate.wait()
        out.append(cache.make("key", make))

    got: list = []
    threads = [threading.Thread(target=ask, args=(got,)) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(10)
    assert len(made) == 1
    assert len(got) == 6
    assert all(each is got[0] for each in got)


def test_a_build_that_fails_on_one_thread_is_tried_by_the_next():
    cache = ByteCache(1 << 20)
    with pytest.raises(ValueError, match="first"):
        cache.make("key", lambda: (_ for _ in ()).throw(ValueError("first")))
    assert cache.make("key", lambda: "second") == "second"


def test_everything_that_is_held_counts_within_the_budget():
    steps = {"1 luma": np.zeros((100, 100), np.float32), "edge": (np.zeros(50), [np.zeros(50)])}
    assert held_bytes(steps) >= 40_000 + 800
    assert budget(0.32) + budget(0.22) + budget(0.4) < budget(1.0)
    cache = ByteCache(100_000)
    for k in range(20):
        cache.put(k, {"a": np.zeros(2500, np.float32)})
    assert cache.used <= 100_000
    assert len(cache) < 10


def test_pictures_from_many_threads_at_once_are_those_from_one(demo):
    from zonal_mantle.api import open_shot

    shot, pictures = open_shot(demo / "SLT_0140.shot.json").shot, Pictures(limit_bytes=6 << 20)
    alone = {frame: compose(shot, frame, Pictures(), 0.25) for frame in (1001, 1007)}
    wrong: list = []

    def work(order: list[int]) -> None:
        for frame in order:
            if not np.array_equal(compose(shot, frame, pictures, 0.25), alone[frame]):
                wrong.append(frame)

    threads = [threading.Thread(target=work, args=([*alone][k:] + [*alone][:k],)) for k in range(2) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(120)
    assert wrong == []


def test_what_matters_most_goes_first_and_a_thread_is_left_for_pictures():
    scheduler, order, go = Scheduler(workers=2), [], threading.Event()
    blocker = scheduler.submit("job", Job(lambda job: go.wait(10)))
    time.sleep(0.05)
    later = [
        scheduler.submit(lane, Job(lambda job, lane=lane: order.append(lane)), priority)
        for lane, priority in (("ahead", AHEAD), ("readings", AHEAD - 1))
    ]
    shown = scheduler.submit("pictures", Job(lambda job: order.append("pictures")), PICTURE)
    assert shown.wait(5)  # though the other thread is taken and two others wait
    assert order == ["pictures"]
    go.set()
    assert all(job.wait(5) for job in (blocker, *later))
    assert order == ["pictures", "readings", "ahead"]
    scheduler.close()


def test_the_newest_of_a_lane_takes_the_place_of_what_waits_there():
    scheduler, done, ended, go = Scheduler(), [], [], threading.Event()
    running = scheduler.submit("preview", Job(lambda job: go.wait(10)))
    time.sleep(0.05)
    jobs = [
        scheduler.submit(
            "preview", Job(lambda job, k=k: done.append(k), on_end=lambda result, error, k=k: ended.append(k))
        )
        for k in range(3)
    ]
    go.set()
    assert all(job.wait(5) for job in (running, *jobs))
    assert done == [2]
    assert sorted(ended) == [0, 1, 2]  # each says that it ended
    scheduler.close()


def moved(x: float) -> tuple[float, ...]:
    return (1, 0, x, 0, 1, 0, 0, 0, 1)


def test_what_was_read_off_a_matte_is_read_anew_once_its_lock_is_solved_again(tmp_path):
    rng = np.random.default_rng(1)
    picture = np.full((120, 160, 3), 0.7, np.float32) + rng.normal(0, 0.003, (120, 160, 3)).astype(np.float32)
    picture[:, :80] *= 0.25
    for frame in (1001, 1002, 1003):
        write_still(tmp_path / f"plate.{frame}.exr", picture, "float")
    shot = shot_from_plate(open_source(tmp_path / "plate.%04d.exr", "plate"))
    lock = Lock(id="l", name="L", reference_frame=1001, solved=(LockFrame(frame=1002, homography=moved(0)),))
    drop = Shape(id="d", mode="drop", keys=(rectangle_key(1001, (90, 10), (150, 110)),), rides="l")
    matte = Matte(id="m", name="M", shapes=(drop,))
    shot = shot.with_lock(lock).with_zone_matte(shot.zones[0], matte)
    pictures = Pictures()
    bright = old_sky_colour(shot, pictures)
    assert bright is not None
    again = lock.but(solved=(LockFrame(frame=1002, homography=moved(-85)),))
    dark = old_sky_colour(shot.with_lock(again), pictures)
    assert dark is not None
    assert dark[0] < 0.5 * bright[0]


def test_an_edit_made_while_a_lock_is_solved_is_kept(tmp_path):
    shot = still_shot(tmp_path)
    lock = Lock(id="l", name="Ridge", reference_frame=1001, marks=(Mark(x=10, y=10),))
    began = shot.with_lock(lock)
    solved = lock.but(solved=(LockFrame(frame=1001, homography=moved(0)),))
    zone = began.zones[-1].but(name="Renamed meanwhile")
    meanwhile = began.with_zone(zone).with_lock(lock.but(name="Far ridge", smooth_frames=2.0))
    merged_shot, words = merged(meanwhile, began, solved)
    assert words == ""
    assert merged_shot.zone(zone.id).name == "Renamed meanwhile"
    assert merged_shot.lock("l").name == "Far ridge"
    assert merged_shot.lock("l").smooth_frames == 2.0
    assert merged_shot.lock("l").solved == solved.solved


def test_a_lock_set_up_anew_while_it_is_solved_keeps_both_and_says_so(tmp_path):
    lock = Lock(id="l", name="Ridge", reference_frame=1001, marks=(Mark(x=10, y=10),))
    began = still_shot(tmp_path).with_lock(lock)
    solved = lock.but(solved=(LockFrame(frame=1001, homography=moved(0)),))
    other = lock.but(marks=(Mark(x=30, y=20),))
    merged_shot, words = merged(began.with_lock(other), began, solved)
    assert "changed while it was solved" in words
    assert merged_shot.lock("l") == other
    assert merged_shot.locks[-1].solved == solved.solved
    gone, words = merged(began.without_lock("l"), began, solved)
    assert gone.locks == ()
    assert "removed" in words


def test_a_file_that_is_gone_has_a_stamp_of_its_own(tmp_path):
    path = tmp_path / "a"
    path.write_text("1")
    before = stamp_of(str(path), fresh_s=0)
    os.remove(path)
    assert stamp_of(str(path), fresh_s=0) != before
    assert plan(still_shot(tmp_path), 1001).digest


def test_a_clear_sky_matte_is_planned_without_its_names(tmp_path):
    shot = still_shot(tmp_path)
    pull = ClearSkyPull(id="a", empty=Keyed().with_key(1001, 3).with_key(1002, 4))
    one, two = (
        shot.with_zone_matte(shot.zones[0], Matte(id=id, name=name, pulls=(p,)))
        for id, name, p in (("m1", "A", pull), ("m1", "B", pull.but(id="other")))
    )
    assert plan(one, 1001).digest == plan(two, 1001).digest
    assert plan(one, 1001).digest != plan(one, 1002).digest


def test_a_turn_is_given_in_order_and_may_be_asked_for_again():
    turns, order = Turns(), []

    def work(name):
        with turns, turns:
            order.append(name)

    with turns:
        threads = []
        for name in "abcd":
            threads.append(threading.Thread(target=work, args=(name,)))
            threads[-1].start()
            while len(turns._asking) < len(threads):
                time.sleep(0.001)
        with turns:
            pass
        assert order == []
    for thread in threads:
        thread.join(10)
    assert order == list("abcd")


def test_two_large_pictures_are_not_worked_on_at_once_small_ones_are(monkeypatch):
    monkeypatch.setattr("zonal_mantle.media.memory.LARGE_PIXELS", 100)
    at_once, most = 0, {}

    def work(kind, size):
        nonlocal at_once
        with one_at_a_time(size):
            at_once += 1
            most[kind] = max(most.get(kind, 0), at_once)
            if kind == "small":
                both.wait(10)
            time.sleep(0.02)
            at_once -= 1

    for kind, size in (("large", (20, 10)), ("small", (10, 10))):
        both = threading.Barrier(3)
        threads = [threading.Thread(target=work, args=(kind, size)) for _ in range(3)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(10)
    assert most["large"] == 1
    assert most["small"] == 3


def test_large_pictures_and_what_caches_wait_for_do_not_wait_for_each_other(tmp_path, monkeypatch):
    """Mattes, cut-outs and what is taken away, asked for in any order by many threads."""
    monkeypatch.setattr("zonal_mantle.media.memory.LARGE_PIXELS", 1)
    shot = still_shot(tmp_path)
    plan = matte_plan(shot, Matte(id="m", pulls=(LumaPull(id="l"),)), 1001)
    chance = random.Random(5)
    for _ in range(20):
        store = Pictures()
        acts = [
            partial(store.made, plan),
            partial(store.cut_out, plan.picture, plan),
            partial(store.cut_out, plan.picture, plan, (1, 1)),
            partial(store.taken_away, plan.picture, plan),
            partial(compose, shot, 1001, store),
        ] * 3
        chance.shuffle(acts)
        threads = [threading.Thread(target=act, daemon=True) for act in acts]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(20)
            assert not thread.is_alive()


def test_a_bulky_value_pushes_out_no_smaller_ones():
    cache = ByteCache(1000)
    for k in range(4):
        cache.put(k, np.zeros(100, np.uint8))
    cache.put("bulky", np.zeros(590, np.uint8))
    assert len(cache) == 5
    cache.put("another", np.zeros(600, np.uint8))
    assert "bulky" not in cache
    assert "another" in cache
    cache.put("too much beside the small ones", np.zeros(700, np.uint8))
    assert [k in cache for k in range(4)] == [True] * 4
    assert cache.used <= 1000
    cache.put("small", np.zeros(400, np.uint8))
    cache.put("smaller", np.zeros(300, np.uint8))  # as ever, the least recently used goes
    assert 0 not in cache
    assert "smaller" in cache
