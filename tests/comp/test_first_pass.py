"""The first pass over a plate that was just opened."""

import shutil

import cv2
import pytest
from skimage import data

from stores import kept_pictures
from zonal_mantle.api import new
from zonal_mantle.comp import Cancelled
from zonal_mantle.comp.first_pass import carried, first_pass
from zonal_mantle.shot import Note
from zonal_mantle.skies import make_library


@pytest.fixture
def cards(tmp_path, monkeypatch):
    monkeypatch.setattr("zonal_mantle.comp.shelf.library_folder", lambda: tmp_path / "skies")
    return make_library(tmp_path / "skies", small=16, framed_only=True)


def test_a_bare_plate_is_locked_cut_hung_covered_and_fitted(demo, cards):
    shot = new(demo / "plate" / "SLT_0140.%04d.exr").shot
    said = []
    steps = first_pass(shot, kept_pictures(), cards, lambda share, words: said.append(share))
    assert [step.label for step in steps] == [
        f"First pass: {name}" for name in ("lock", "matte", "sky", "cover", "fits")
    ]
    assert said == sorted(said)
    assert all(0 <= share <= 1 for share in said)
    done = steps[-1].shot
    plate = next(zone for zone in done.zones if done.holds_plate(zone))
    sky = done.near_to_far()[-1]
    assert done.matte_of(plate).pulls
    assert sky.distance_m is None
    assert done.source(sky.source).name in {card.name for card in cards}
    if steps[0].done:  # what it rides on holds where it says that it does
        assert done.lock(sky.placement.rides).solved
    else:
        assert "Lock:" in steps[0].words
    if steps[3].done and sky.placement.way == "flat":
        assert "covers every frame" in steps[3].words
    for before, after in zip(steps, steps[1:]):
        assert after.done or after.shot == before.shot  # what could not be done changed nothing


def test_what_is_there_already_is_kept(demo, cards):
    from zonal_mantle.shot import load

    shot = load(demo / "SLT_0140.shot.json")
    steps = first_pass(shot, kept_pictures(), cards, lambda share, words: None)
    after = steps[2].shot
    assert after.locks == shot.locks
    assert after.mattes == shot.mattes
    assert len(after.zones) == len(shot.zones)


def test_a_still_plate_says_why_it_has_no_lock_and_goes_on(demo, cards, tmp_path):
    still = tmp_path / "still.exr"
    shutil.copy(demo / "plate" / "SLT_0140.1004.exr", still)
    steps = first_pass(new(still).shot, kept_pictures(), cards, lambda share, words: None)
    assert not steps[0].done
    assert "no moving plate" in steps[0].words
    assert steps[2].done


def test_it_can_be_cancelled(demo, cards):
    def stop(share: float, words: str) -> None:
        if share > 0.01:
            raise Cancelled

    with pytest.raises(Cancelled):
        first_pass(new(demo / "plate" / "SLT_0140.%04d.exr").shot, kept_pictures(), cards, stop)


def test_a_picture_without_sky_stays_whole_and_nothing_is_hung(cards, tmp_path):
    """scikit-image's coffee: a cup on a table. It used to be called cut, and a sky was hung behind the whole plate."""
    cup = tmp_path / "cup.png"
    assert cv2.imwrite(str(cup), data.coffee()[..., ::-1])
    shot = new(cup).shot
    steps = first_pass(shot, kept_pictures(), cards, lambda share, words: None)
    assert [step.done for step in steps] == [False] * 3
    assert "No sky was found" in steps[1].words
    assert [step.words for step in steps[2:]] == ["Sky, cover and fits: left out, for the plate is not cut."]
    assert steps[-1].shot == shot


def test_what_may_be_no_sky_at_all_is_said(cards, tmp_path):
    """scikit-image's astronaut: a studio's wall is cut."""
    studio = tmp_path / "studio.png"
    assert cv2.imwrite(str(studio), data.astronaut()[..., ::-1])
    steps = first_pass(new(studio).shot, kept_pictures(), cards, lambda share, words: None)
    assert steps[1].done
    assert "may be no sky at all" in steps[1].words


def test_a_note_that_came_meanwhile_stays_and_a_zone_that_was_changed_meanwhile_is_told(demo):
    began = new(demo / "plate" / "SLT_0140.%04d.exr").shot
    zone = began.zones[0]
    step = began.with_zone(zone.but(distance_m=900.0))
    noted = began.but(notes=(Note(id="note1", words="the mast leans"),))
    both = carried(step, began, noted)
    assert both.zones == step.zones
    assert both.notes == noted.notes
    assert carried(step, began, began.with_zone(zone.but(name="Other"))) is None
    assert carried(step, began, began) == step
