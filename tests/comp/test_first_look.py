"""Locks of a session on a plate with borders and burnt-in words."""

import shutil
from pathlib import Path

import cv2
import numpy as np
import pytest

from lock_plates import turning_plates
from zonal_mantle.api import new
from zonal_mantle.geometry import carry
from zonal_mantle.lock import LockError
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import Lock, Shape, rectangle_key

SIZE, COUNT, BAR = (640, 360), 12, 40
WORDS = (180, 262, 460, 306)  # px, where they stand


@pytest.fixture(scope="module")
def plates():
    return turning_plates(("coffee", "page", "gravel"), 2, SIZE, COUNT, 7.0, 38.0, 0.01)


@pytest.fixture(scope="module")
def session(plates, tmp_path_factory):
    folder = tmp_path_factory.mktemp("burnt_in")
    for k, frame in enumerate(plates.frames):
        picture = (frame * 255).astype(np.uint8)
        picture[:BAR] = picture[-BAR:] = 0
        cv2.rectangle(picture, (190, 268), (450, 302), 12, -1)
        cv2.putText(picture, f"SLT 0140 {k:04d}", (200, 294), cv2.FONT_HERSHEY_SIMPLEX, 0.8, 230, 2, cv2.LINE_AA)
        linear = (np.repeat(picture[..., None], 3, axis=2) / 255.0) ** 2.2
        write_still(folder / f"p.{1001 + k}.png", linear.astype(np.float32), "uint8")
    return new(folder / "p.1001.png")


def off_px(lock, plates):
    start = np.linalg.inv(plates.truth[lock.reference_frame - 1001])
    places = np.array([[x, y] for x in (100.0, 320.0, 540.0) for y in (60.0, 180.0, 300.0)])
    return max(
        np.linalg.norm(
            carry(np.reshape(entry.homography, (3, 3)), places)
            - carry(plates.truth[entry.frame - 1001] @ start, places), axis=1,
        ).mean()
        for entry in lock.solved
    )  # fmt: skip


def test_a_lock_on_the_whole_frame_leaves_out_what_stands_in_it_and_says_so(session, plates):
    lock = Lock(id="a", name="Whole", kind="plane", field_stays=True, reference_frame=1006)
    session.shot = session.shot.with_lock(lock)
    solved = session.solve("a").lock("a")
    assert len(solved.solved) == COUNT
    assert off_px(solved, plates) < 0.6  # without the first look: 10 px and more
    assert "does not move with the picture" in " ".join(solved.remarks)
    boxes = [(np.min(outline, axis=0), np.max(outline, axis=0)) for outline in solved.left_out]
    assert all((least[1] < 1) == (most[1] < BAR + 8) for least, most in boxes)  # bars at the sides, words between
    assert any(least[0] < 195 and most[0] > 445 and least[1] < 272 and most[1] > 298 for least, most in boxes)


def test_a_field_drawn_over_what_stands_locks_onto_it(session):
    field = Shape(id="f", name="Words", keys=(rectangle_key(1006, WORDS[:2], WORDS[2:]),))
    lock = Lock(id="b", name="Words", kind="plane", field_stays=True, reference_frame=1006, field=(field,))
    session.shot = session.shot.with_lock(lock)
    solved = session.solve("b").lock("b")
    corners = np.array([[190.0, 268.0], [450, 302]])
    for entry in solved.solved:
        assert np.abs(carry(np.reshape(entry.homography, (3, 3)), corners) - corners).max() < 1.0
    assert "does not move" not in " ".join(solved.remarks)
    assert solved.left_out == ()


def test_a_suggestion_looks_past_what_stands_in_the_frame(session, plates):
    suggested = session.suggest_lock()
    assert "does not move with the picture" in " ".join(suggested.reasons)
    session.shot = session.shot.with_lock(suggested.lock)
    solved = session.solve(suggested.lock.id).lock(suggested.lock.id)
    assert off_px(solved, plates) < 0.6


def test_a_frame_that_cannot_be_read_is_no_matter_where_the_solve_does_not_need_it(session, plates, tmp_path):
    for file in Path(session.shot.plate_source.path).parent.glob("*.png"):
        shutil.copy(file, tmp_path)
    broken = new(tmp_path / "p.1001.png")
    (tmp_path / "p.1012.png").write_bytes(b"no picture")
    broken.shot = broken.shot.with_lock(Lock(id="a", name="A", kind="plane", field_stays=True, reference_frame=1006))
    solved = broken.solve("a", "backward").lock("a")
    assert {entry.frame for entry in solved.solved} == set(range(1001, 1007))


@pytest.mark.parametrize("size", [(16, 12), (3, 180)])
@pytest.mark.parametrize("kind", ["plane", "pan", "camera"])
def test_a_tiny_plate_is_refused_in_words(size, kind, tmp_path):
    rng = np.random.default_rng(1)
    for k in range(5):
        write_still(tmp_path / f"p.{1001 + k}.png", rng.random((size[1], size[0], 3)).astype(np.float32), "uint8")
    tiny = new(tmp_path / "p.1001.png")
    tiny.shot = tiny.shot.with_lock(Lock(id="a", name="A", kind=kind, reference_frame=1002))
    with pytest.raises(LockError, match="too small to lock onto"):
        tiny.solve("a")
