"""The screen's cache and the server behind it, without a window."""

import threading
import time
from pathlib import Path

import cv2
import numpy as np
import pytest

from zonal_mantle.api import open_shot
from zonal_mantle.comp import Job, Look, Pictures, Scheduler, view
from zonal_mantle.comp.first_answer import QuickAnswers
from zonal_mantle.comp.openings import Openings
from zonal_mantle.shot import ClearSkyPull, Keyed, Matte, SkyStroke
from zonal_mantle.ui import server as server_of_window
from zonal_mantle.ui.desk import Desk
from zonal_mantle.ui.measuring import GIVES_WAY_S
from zonal_mantle.ui.server import FrameServer, ScreenCache, Wanted, proxy_scale
from zonal_mantle.ui.viewer import Viewer

SIZE = 10_000


def wanted(revision: int, frame: int, name: str = "Composite") -> Wanted:
    return Wanted(revision, frame, name, None, 1.0, Look())


def codes(value: int) -> np.ndarray:
    return np.full(SIZE, value % 256, np.uint8)


def test_pictures_of_older_shots_go_first_however_lately_they_were_seen():
    cache = ScreenCache(4 * SIZE)
    for frame in (1, 2):
        assert cache.put(f"old{frame}", wanted(1, frame), codes(frame), ahead=True)
    assert cache.put("new1", wanted(2, 1), codes(9), ahead=True)
    assert cache.get(wanted(1, 1)) is not None  # just looked at
    for frame in (2, 3, 4):
        assert cache.put(f"new{frame}", wanted(2, frame), codes(frame), ahead=True)
    assert all(wanted(2, frame) in cache for frame in (1, 2, 3, 4))
    assert not any(wanted(1, frame) in cache for frame in (1, 2))
    assert cache.used == 4 * SIZE


def test_what_is_made_ahead_pushes_out_nothing_of_its_own_shot_but_what_is_shown_does():
    cache = ScreenCache(3 * SIZE)
    for frame in (1, 2, 3):
        assert cache.put(f"k{frame}", wanted(5, frame), codes(frame), ahead=True)
    assert not cache.put("k4", wanted(5, 4), codes(4), ahead=True)
    assert wanted(5, 1) in cache
    assert cache.put("k4", wanted(5, 4), codes(4), ahead=False)
    assert wanted(5, 1) not in cache
    assert wanted(5, 4) in cache


def test_a_picture_that_did_not_change_is_known_by_its_new_name_without_being_made():
    cache = ScreenCache(4 * SIZE)
    cache.put("same", wanted(1, 7), codes(7), ahead=False)
    assert cache.get(wanted(2, 7)) is None
    assert cache.found("same", wanted(2, 7)) is not None
    assert wanted(2, 7) in cache
    assert cache.used == SIZE
    cache.put("same", wanted(3, 7), codes(7), ahead=False)
    assert cache.used == SIZE  # put twice, held once


def test_two_views_of_one_frame_are_two_pictures():
    cache = ScreenCache(4 * SIZE)
    cache.put("a", wanted(1, 1), codes(1), ahead=False)
    cache.put("b", wanted(1, 1, "Plate"), codes(2), ahead=False)
    assert cache.get(wanted(1, 1))[0] == 1
    assert cache.get(wanted(1, 1, "Plate"))[0] == 2
    cache.clear()
    assert cache.used == 0
    assert wanted(1, 1) not in cache


@pytest.fixture
def served(qtbot, demo: Path):
    session = open_shot(demo / "SLT_0140.shot.json")
    scheduler = Scheduler()
    server = FrameServer(Pictures(), scheduler)
    yield session.shot, server
    server.close()
    scheduler.close()


def test_the_newest_request_wins_and_what_is_ahead_is_made_after_it(qtbot, served):
    shot, server = served
    shown: list[int] = []
    server.ready.connect(lambda w, c: shown.append(w.frame))
    frames = list(shot.frames)
    for frame in frames[:5]:  # asked for one after the other, faster than they can be made
        server.request(shot, [wanted(1, frame)], [wanted(1, f) for f in frames if f != frame])
    qtbot.waitUntil(lambda: frames[4] in shown, timeout=20_000)
    assert len(shown) < 5
    qtbot.waitUntil(lambda: all(wanted(1, frame) in server.cache for frame in frames), timeout=60_000)


def test_requests_from_many_threads_leave_the_right_pictures(qtbot, served):
    shot, server = served
    zone = shot.zone("zone2")
    states = {
        k: shot.with_zone(zone.but(placement=zone.placement.but(x=Keyed(constant=float(-k))))) for k in range(1, 4)
    }
    got: dict[tuple[int, int], np.ndarray] = {}
    server.ready.connect(lambda w, c: got.__setitem__((w.revision, w.frame), c))

    def ask(revision: int) -> None:
        for frame in (1002, 1005):
            server.request(states[revision], [wanted(revision, frame)], [wanted(revision, 1008)])
            time.sleep(0.02)

    threads = [threading.Thread(target=ask, args=(k,)) for k in states]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(20)
    for k in states:  # and each once more, by itself
        server.request(states[k], [wanted(k, 1005)], [])
        qtbot.waitUntil(lambda k=k: (k, 1005) in got, timeout=20_000)
    for (revision, frame), picture in got.items():
        expected = view(states[revision], frame, "Composite", None, Pictures(), 1.0, Look())
        assert np.array_equal(picture, expected), (revision, frame)


def test_a_picture_that_cannot_be_made_says_why_and_the_next_is_made(qtbot, served, tmp_path):
    shot, server = served
    gone = shot.with_source(shot.source("source1").but(path=str(tmp_path / "gone.exr")))
    said: list[str] = []
    shown: list[int] = []
    server.failed.connect(lambda w, words: said.append(words))
    server.ready.connect(lambda w, c: shown.append(w.revision))
    server.request(gone, [wanted(1, 1003)], [])
    qtbot.waitUntil(lambda: bool(said), timeout=20_000)
    assert "gone.exr is missing" in said[0]
    server.request(shot, [wanted(2, 1003)], [])
    qtbot.waitUntil(lambda: shown == [2], timeout=20_000)


def test_where_a_sky_must_be_learnt_a_first_answer_comes_at_once_and_gives_way(qtbot, served):
    shot, server = served
    cut = region_cut(shot, 20)
    desk = Desk()
    viewer = Viewer(desk, server)
    qtbot.addWidget(viewer)
    came: list[tuple[Wanted, np.ndarray]] = []
    server.ready.connect(lambda w, codes: came.append((w, codes[..., 0])))
    desk.set_view(view="Matte")
    desk.open(cut, None)
    qtbot.waitUntil(viewer.is_showing, timeout=30_000)
    qtbot.waitUntil(lambda: any(w.frame == shot.first and not w.first for w, _ in came), timeout=5_000)  # told second
    of_frame = [(w, alpha) for w, alpha in came if w.frame == shot.first and w.view == "Matte"]
    assert list(dict.fromkeys((w.first, w.scale) for w, _ in of_frame)) == [(True, 0.5), (False, 1.0)]
    (_, first), (_, last) = of_frame[0], of_frame[-1]
    apart = np.abs(first.astype(int) - cv2.resize(last, first.shape[::-1], interpolation=cv2.INTER_AREA))
    assert (apart > 64).mean() < 0.05  # much the same matte
    server.request(cut, [wanted(7, 1004, "Matte")], [])
    qtbot.waitUntil(lambda: wanted(7, 1004, "Matte") in server.cache, timeout=30_000)
    assert not any(w.first for w, _ in came if w.frame == 1004)  # it is learnt
    desk.close()


def region_cut(shot, place: float):
    """The shot cut by an automatic sky matte that no other test has learnt."""
    said = SkyStroke(says="sky", frame=1002, points=((300, place), (340, place + 20)))
    return shot.with_zone_matte(
        shot.zones[0], Matte(id="m", name="Sky", pulls=(ClearSkyPull(id="a", strokes=(said,)),))
    )


def test_while_a_sky_is_learnt_what_is_asked_for_last_is_answered(qtbot, served, monkeypatch):
    shot, server = served
    cut, go_on, came = region_cut(shot, 33), threading.Event(), []
    learn = server.store.learn

    def slow(study, progress):
        assert go_on.wait(20)
        return learn(study, progress)

    monkeypatch.setattr(server.store, "learn", slow)
    server.ready.connect(lambda w, c: came.append((w.frame, w.view, w.first)))
    server.request(cut, [wanted(1, 1003, "Matte")], [wanted(1, 1004, "Matte")])
    qtbot.waitUntil(lambda: (1003, "Matte", True) in came, timeout=20_000)
    server.request(cut, [wanted(1, 1005, "Matte")], [wanted(1, 1004, "Matte")])  # another frame meanwhile
    qtbot.waitUntil(lambda: (1005, "Matte", True) in came, timeout=20_000)
    server.request(cut, [wanted(1, 1005, "Plate")], [])  # of which no matte is part
    qtbot.waitUntil(lambda: (1005, "Plate", False) in came, timeout=20_000)
    server.request(cut, [wanted(1, 1005, "Matte")], [wanted(1, 1004, "Matte")])
    time.sleep(0.2)
    monkeypatch.undo()
    go_on.set()
    qtbot.waitUntil(lambda: wanted(1, 1004, "Matte") in server.cache, timeout=30_000)
    assert (1005, "Matte", False) in came
    assert (1003, "Matte", False) not in came  # nobody waited for it any more


def test_a_sky_that_cannot_be_learnt_is_said_and_tried_no_more(qtbot, served, tmp_path):
    shot, server = served
    gone = shot.with_source(shot.source("plate").but(path=str(tmp_path / "gone.%04d.exr")))
    said: list[str] = []
    server.failed.connect(lambda w, words: said.append(words))
    server.request(region_cut(gone, 55), [wanted(1, 1003, "Matte")], [])
    qtbot.waitUntil(lambda: len(said) >= 2, timeout=20_000)  # of the first answer, and of the picture
    time.sleep(0.3)
    assert len(said) == 2
    assert all("gone." in words for words in said)
    assert not server.scheduler.is_busy("skies")


def test_a_frame_that_was_begun_ahead_holds_up_none_that_is_wanted(served, qtbot, monkeypatch):
    shot, server = served
    begun, go_on, came = threading.Event(), threading.Event(), []

    def slow(shot, frame, *rest):
        if frame == shot.first + 1:
            begun.set()
            assert go_on.wait(20)
        return view(shot, frame, *rest)

    monkeypatch.setattr("zonal_mantle.ui.server.view", slow)
    server.ready.connect(lambda wanted, _: came.append(wanted.frame))
    small = [Wanted(1, shot.first + k, "Plate", None, 0.25, Look()) for k in range(3)]
    server.request(shot, [], [small[1]])
    assert begun.wait(20)
    server.request(shot, [small[2]], [])
    qtbot.waitUntil(lambda: came == [shot.first + 2], timeout=20_000)
    go_on.set()


def test_what_is_dragged_is_answered_quickly_and_what_stays_in_full(served, qtbot, monkeypatch):
    shot, server = served
    stores = {}

    def noted(shot, frame, name, zone, store, scale, look):
        stores[scale] = store
        return view(shot, frame, name, zone, store, scale, look)

    monkeypatch.setattr("zonal_mantle.ui.server.view", noted)
    both = [Wanted(1, shot.first, "Matte", None, scale, Look()) for scale in (0.5, 1.0)]
    server.request(shot, both, [])
    qtbot.waitUntil(lambda: both[1] in server.cache, timeout=20_000)
    assert isinstance(stores[0.5], QuickAnswers)
    assert stores[1.0] is server.store


@pytest.mark.parametrize(
    ("size", "scale"),
    [((1280, 720), 0.5), ((1920, 1080), 0.5), ((4096, 2160), 0.25), ((8192, 4320), 0.125), ((65536, 4096), 0.0625)],
)
def test_what_is_dragged_has_a_scale_that_suits_the_plate(size, scale):
    assert proxy_scale(size) == scale


def test_a_large_picture_is_shown_small_first(served, qtbot, monkeypatch):
    shot, server = served
    desk = Desk()
    monkeypatch.setattr("zonal_mantle.ui.viewer.AT_ONCE_PIXELS", 1000)
    viewer = Viewer(desk, server)
    qtbot.addWidget(viewer)
    seen = []
    viewer.shown.connect(lambda wanted: seen.append(wanted.scale))
    desk.open(shot, None)
    qtbot.waitUntil(viewer.is_showing, timeout=20_000)
    assert list(dict.fromkeys(seen)) == [0.5, 1.0]
    desk.close()


def test_a_shot_is_seen_as_it_was_until_its_picture_is_made(served, qtbot, monkeypatch, tmp_path):
    shot, server = served
    server.openings = Openings(tmp_path)
    first = wanted(1, shot.first)
    server.keep_opening(shot, first)  # nothing is there yet
    assert not list(tmp_path.iterdir())
    server.request(shot, [first], [])
    qtbot.waitUntil(lambda: first in server.cache, timeout=20_000)
    server.keep_opening(shot, first)

    go_on, came = threading.Event(), []
    monkeypatch.setattr(server_of_window, "view", lambda *values: (go_on.wait(20), view(*values))[1])
    again = FrameServer(Pictures(), server.scheduler)
    again.openings = Openings(tmp_path)
    again.ready.connect(lambda w, c: came.append((w.frame, go_on.is_set(), c)))
    again.request(shot, [wanted(9, shot.first)], [])
    qtbot.waitUntil(lambda: len(came) == 1, timeout=20_000)
    assert came[0][:2] == (shot.first, False)
    go_on.set()
    qtbot.waitUntil(lambda: len(came) == 2, timeout=20_000)
    assert np.array_equal(came[0][2], came[1][2])  # and is the same then
    zone = shot.zone("zone2")
    moved = shot.with_zone(zone.but(placement=zone.placement.but(x=Keyed(constant=-3.0))))
    go_on.clear()
    again.request(moved, [wanted(10, shot.first)], [])
    time.sleep(0.3)
    assert len(came) == 2  # of another state nothing was kept
    go_on.set()
    qtbot.waitUntil(lambda: len(came) == 3, timeout=20_000)
    again.close()


def test_a_small_picture_of_a_drag_that_is_over_does_not_take_the_place_of_the_whole_one(opened):
    window, desk = opened.window, opened.window.desk
    whole = window.viewer.wanted(desk.frame)[0]
    small = window.viewer.wanted(desk.frame, full=False)[0]
    assert small.scale < 1
    window.viewer._arrived(small, np.zeros((4, 4, 4), np.uint8))  # was begun while it was dragged
    assert window.viewer.is_showing()
    desk.set_dragging(True)
    window.viewer._arrived(small, np.zeros((4, 4, 4), np.uint8))
    assert not window.viewer.is_showing()
    desk.set_dragging(False)
    opened.settled()
    assert window.server.cache.get(whole) is not None


def test_nothing_is_made_ahead_while_that_is_held(served, qtbot):
    shot, server = served
    frames = list(shot.frames)
    server.hold_ahead(True)
    server.request(shot, [wanted(1, frames[0])], [wanted(1, frame) for frame in frames[1:4]])
    qtbot.waitUntil(lambda: wanted(1, frames[0]) in server.cache, timeout=20_000)
    qtbot.wait(200)
    assert wanted(1, frames[1]) not in server.cache
    server.hold_ahead(False)
    qtbot.waitUntil(lambda: all(wanted(1, frame) in server.cache for frame in frames[1:4]), timeout=30_000)


def test_readings_wait_for_the_picture_at_each_frame(opened, monkeypatch):
    desk, told = opened.window.desk, []
    job = Job(lambda j: None)
    monkeypatch.setattr(
        desk.scheduler, "is_busy", lambda lane: lane == "pictures" and len(told) < 3 and not told.append(1)
    )
    start = time.monotonic()
    desk.measuring.giving_way(job)(0.5, "Reading frame 7")
    assert len(told) == 3
    assert time.monotonic() - start < GIVES_WAY_S
    monkeypatch.setattr("zonal_mantle.ui.measuring.GIVES_WAY_S", 0.05)
    monkeypatch.setattr(desk.scheduler, "is_busy", lambda lane: True)
    desk.measuring.giving_way(job)(0.5, "Reading frame 8")  # but not for ever
