"""The shot's file."""

import json
import os
import time
from pathlib import Path

import jsonschema
import pytest

from zonal_mantle.shot import (
    ClearSkyPull,
    History,
    Keyed,
    Lock,
    LockFrame,
    LumaPull,
    Mark,
    Matte,
    MatteUse,
    Placement,
    Shape,
    ShapeKey,
    Shot,
    ShotError,
    Source,
    Zone,
    autosave_path,
    load,
    newer_autosave,
    save,
)
from zonal_mantle.shot.file import file_state, from_json, to_json

SCHEMA = Path(__file__).parents[2] / "docs" / "shot.schema.json"


@pytest.fixture
def shot(tmp_path: Path) -> Shot:
    source = Source(
        id="p", name="plate", path=str(tmp_path / "in" / "plate.%04d.exr"), kind="sequence", width=64, height=36
    )
    shape = Shape(id="s", keys=(ShapeKey(frame=1, points=((0, 0), (9, 0), (9, 9))),))
    lock = Lock(
        id="l", name="Hills", reference_frame=1, marks=(Mark(x=3, y=4),),
        solved=(LockFrame(frame=1, homography=(1, 0, 0, 0, 1, 0, 0, 0, 1), marks=((3, 4),)),),
    )  # fmt: skip
    zone = Zone(
        id="z", name="Sky", source="p", distance_m=None, placement=Placement(rides="l", size=Keyed(constant=2)),
        matte=MatteUse(on=True, id="m"),
    )  # fmt: skip
    matte = Matte(id="m", name="Edge", pulls=(LumaPull(), ClearSkyPull(id="pull2")), shapes=(shape.but(rides="l"),))
    return Shot(name="T", plate="p", sources=(source,), locks=(lock,), mattes=(matte,), zones=(zone,))


def test_a_saved_shot_comes_back_the_same(shot, tmp_path):
    save(shot, tmp_path / "t.shot.json")
    assert load(tmp_path / "t.shot.json") == shot


def test_paths_in_the_file_are_relative_to_it(shot, tmp_path):
    save(shot, tmp_path / "t.shot.json")
    assert json.loads((tmp_path / "t.shot.json").read_text())["sources"][0]["path"] == "in/plate.%04d.exr"


def test_the_published_schema_is_current_and_fits(shot, tmp_path):
    schema = json.loads(SCHEMA.read_text())
    assert schema == Shot.model_json_schema(mode="serialization")
    jsonschema.validate(json.loads(to_json(shot)), schema)


def test_a_shot_of_the_first_format_is_brought_up():
    # written by release 0.1.0, shortened to what changed since
    old = {
        "format": "zonal-mantle-shot", "version": 1, "name": "Old", "plate": "p",
        "sources": [{"id": "p", "name": "plate", "path": "p.exr", "kind": "still", "width": 64, "height": 36}],
        "zones": [{
            "id": "zone1", "name": "Plate", "source": "p", "distance_m": 60.0,
            "matte": {
                "on": True,
                "pull": {"weights": [1, 0, 0], "high": {"constant": 0.7, "keys": []}, "clamp": False},
                "shapes": [{
                    "id": "shape1", "name": "Ground", "mode": "keep", "form": "polygon", "feather_px": 2.0, "on": True,
                    "keys": [{"frame": 1, "points": [[0, 0], [9, 0], [9, 9]]}],
                }],
            },
        }, {"id": "zone2", "name": "Bare", "source": "p", "matte": {"on": False, "pull": None, "shapes": []}}],
    }  # fmt: skip
    shot = from_json(json.dumps(old))
    matte = shot.matte_of(shot.zones[0])
    assert (matte.name, matte.clamp, matte.pulls[0].weights) == ("Plate matte", False, (1, 0, 0))
    assert matte.pulls[0].high.constant == 0.7
    assert (matte.shapes[0].feather_in_px, matte.shapes[0].feather_out_px) == (2, 2)
    assert shot.zones[0].matte.on
    assert shot.matte_of(shot.zones[1]) is None
    assert from_json(to_json(shot)) == shot


def test_what_a_matte_rides_on_must_be_there_and_is_let_go_with_its_lock(shot):
    with pytest.raises(ValueError, match="rides on a lock"):
        shot.but(locks=())
    free = shot.without_lock("l")
    assert free.mattes[0].shapes[0].rides is None
    assert free.zones[0].placement.rides is None
    with pytest.raises(ValueError, match="cut by a matte"):
        shot.but(mattes=())
    assert shot.without_matte("m").zones[0].matte.id is None


def test_a_newer_version_is_refused_and_said_clearly(shot):
    data = json.loads(to_json(shot)) | {"version": 99}
    with pytest.raises(ShotError, match=r"newer release \(format 99"):
        from_json(json.dumps(data))


def test_unknown_fields_are_refused_not_dropped(shot):
    data = json.loads(to_json(shot)) | {"fog_bank": 1}
    with pytest.raises(ShotError, match="fog bank"):
        from_json(json.dumps(data))


@pytest.mark.parametrize("text", ["", "{", "[]", '{"format": "other"}', "null"])
def test_what_is_not_a_shot_is_one_clear_sentence(text):
    with pytest.raises(ShotError, match="the shot"):
        from_json(text)


def test_a_failed_save_leaves_what_was_there(shot, tmp_path, monkeypatch):
    path = tmp_path / "t.shot.json"
    save(shot, path)
    before = path.read_bytes()

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(ShotError, match=r"No space left on device.*unchanged"):
        save(shot.but(name="other"), path)
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["t.shot.json"]


def test_saving_through_a_link_writes_the_file_that_it_leads_to(shot, tmp_path):
    real, link = tmp_path / "real" / "a.shot.json", tmp_path / "desk" / "linked.shot.json"
    real.parent.mkdir()
    link.parent.mkdir()
    save(shot, real)
    real.chmod(0o664)
    link.symlink_to(real)
    changed = shot.but(name="changed")
    save(changed, link)
    assert link.is_symlink()
    assert load(real).name == "changed"
    assert load(real).sources == load(link).sources == shot.sources
    assert real.stat().st_mode & 0o777 == 0o664
    assert [path.name for path in link.parent.iterdir()] == ["linked.shot.json"]

    ring = tmp_path / "ring.shot.json"
    ring.symlink_to(ring)
    with pytest.raises(ShotError, match=r"ring.shot.json cannot be written: .*What was there is unchanged"):
        save(shot, ring)


def test_an_autosave_counts_only_while_it_is_newer(shot, tmp_path):
    path = tmp_path / "t.shot.json"
    save(shot, autosave_path(path))
    assert newer_autosave(path) == autosave_path(path)
    save(shot, path)
    os.utime(autosave_path(path), (1, 1))
    assert newer_autosave(path) is None


def test_zones_come_nearest_first_and_infinity_last(shot):
    near = Zone(id="n", name="n", source="p", distance_m=5)
    far = Zone(id="f", name="f", source="p", distance_m=5000)
    order = shot.but(zones=(far, *shot.zones, near)).near_to_far()
    assert [zone.id for zone in order] == ["n", "f", "z"]


def test_a_zone_on_an_unknown_source_or_lock_is_refused(shot):
    with pytest.raises(ValueError, match="source that the shot does not have"):
        shot.but(zones=(Zone(id="a", name="a", source="nothing"),))
    with pytest.raises(ValueError, match="lock that the shot does not have"):
        shot.but(locks=())


def test_removing_a_lock_frees_what_rode_on_it(shot):
    assert shot.without_lock("l").zone("z").placement.rides is None


def test_one_gesture_is_one_step_of_undo(shot):
    history = History.starting_with(shot)
    for k in range(5):
        history.push(shot.but(name=f"drag {k}"), "Drag", "one gesture")
    history.push(shot.but(name="typed"), "Type")
    assert history.undo() == "Type"
    assert history.shot.name == "drag 4"
    assert history.undo() == "Drag"
    assert history.shot is shot
    assert history.undo() is None
    assert history.redo() == "Drag"
    history.push(shot.but(name="new branch"), "Branch")
    assert history.redo() is None


def test_shapes_move_straight_between_keys_and_keep_their_point_count():
    shape = Shape(id="s", keys=(ShapeKey(frame=1, points=((0, 0), (9, 0), (9, 9))),))
    shape = shape.with_points(11, ((10, 0), (19, 0), (19, 9)))
    assert shape.points_at(6)[0] == (5, 0)
    assert len(shape.with_point_inserted(1).keys[1].points) == 4
    with pytest.raises(ValueError, match="at least three"):
        shape.with_point_removed(0)


def test_part_files_of_killed_saves_are_swept_once_they_are_dead(tmp_path):
    path = tmp_path / "a.shot.json"
    dead, alive, other = (tmp_path / f".{name}.x1.part" for name in ("a.shot.json", "a.shot.json.y", "b.shot.json"))
    for part in (dead, alive, other):
        part.write_text("half")
    for part in (dead, other):
        os.utime(part, (time.time() - 3600,) * 2)
    save(Shot(), path)
    assert not dead.exists()
    assert alive.exists()  # somebody may still write it
    assert other.exists()  # of another file


def test_a_file_that_somebody_else_wrote_is_known(tmp_path):
    path = tmp_path / "a.shot.json"
    assert file_state(path) is None
    save(Shot(), path)
    before = file_state(path)
    assert file_state(path) == before
    save(Shot(name="Other"), path)
    assert file_state(path) != before
    assert before.owner
