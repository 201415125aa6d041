"""A little of each drill, on a small shot; `make drills` runs them at length. A fault names what makes it again."""

import shutil
from pathlib import Path

import pytest

from drills import edits, full_disk, hands, hostile, kills, mutants, places
from drills.samples import make_samples
from zonal_mantle.shot import load, save

CORPUS = Path(__file__).parent / "corpus"


@pytest.fixture(scope="module")
def small_shot(demo, tmp_path_factory):
    """The small demo's shot, cut to two frames; it is only read."""
    folder = tmp_path_factory.mktemp("brief") / "demo"
    shutil.copytree(demo, folder)
    path = folder / "SLT_0140.shot.json"
    shot = load(path)
    save(shot.with_source(shot.plate_source.but(trim_last=shot.first + 1)), path)
    return path


@pytest.fixture
def own(small_shot, tmp_path):
    """A copy that may be spoilt."""
    shutil.copytree(small_shot.parent, tmp_path / "shot")
    return tmp_path / "shot" / small_shot.name


def test_damaged_files_are_answered_in_one_sentence(small_shot, tmp_path):
    report = mutants.drill(make_samples(tmp_path / "samples", small_shot), tmp_path, 400, 11)
    assert report.tried == 400
    assert report.faults == []


def test_files_that_were_answered_badly_once_are_not_any_more(tmp_path):
    with mutants.Reader() as reader:
        for path in mutants.corpus_of(CORPUS):
            copy = tmp_path / path.name
            copy.write_bytes(path.read_bytes())
            went, words = mutants.answered(reader, copy)
            assert went in ("read", "said"), (path.name, went, words)


def test_hostile_shots_are_refused_or_worked_on(small_shot, tmp_path):
    report = hostile.drill(small_shot, tmp_path, 3, 11, draw_all=False)
    assert report.went["said"] > 30
    assert report.faults == []


def test_killed_saves_and_renders_leave_nothing_half(own, tmp_path):
    saves = kills.drill_saves(own, 1, 11)
    assert saves.faults == []
    renders = kills.drill_renders(own, tmp_path, "exr", 1, 11)
    assert renders.went["went on to its end"] >= 1
    assert renders.faults == []
    bakes = kills.drill_bakes(own, tmp_path, 1, 11)
    assert bakes.went["killed"] == 1
    assert bakes.faults == []


def test_full_disks_are_said_by_every_writer(small_shot, tmp_path):
    report = full_disk.drill(small_shot, tmp_path / "disk", [0, 5000])
    assert report.went["said"] > 20
    assert report.faults == []


def test_any_call_that_fails_leaves_the_old_or_the_new(small_shot, tmp_path):
    report = full_disk.drill_calls(small_shot, tmp_path)
    assert report.tried >= 8
    assert report.faults == []


def test_hard_places(small_shot, tmp_path):
    assert places.drill(small_shot, tmp_path).faults == []


def test_random_edits_are_undone_saved_and_loaded(small_shot, tmp_path):
    report = edits.drill(small_shot, tmp_path, 150, 11)
    assert report.went["edits"] == 150
    assert report.faults == []


def test_random_hands_find_nothing_that_is_not_caught(qapp, small_shot, tmp_path):
    report = hands.drill(small_shot, tmp_path, 120, 11)
    assert report.went["acts"] == 120
    assert report.faults == []


def test_a_window_that_ends_is_a_fault_with_what_was_done_last(tmp_path):
    report = hands.drill_apart(tmp_path / "no folder" / "gone.shot.json", tmp_path, 20, 1)
    assert len(report.faults) == 1
    assert "the window ended with code 1" in report.faults[0]
