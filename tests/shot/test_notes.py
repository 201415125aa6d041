"""Notes, findings that were set aside, and states in the shot's file."""

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zonal_mantle.shot import Air, Note, SetAside, Shot, ShotError, changes, load, save, shot_of, state_of
from zonal_mantle.shot.file import from_json, named_alike, to_json


def test_notes_and_states_are_saved_and_read(tmp_path, demo):
    shot = load(demo / "SLT_0140.shot.json")
    state = state_of(shot, "state1", "first light", "2026-01-02T03:04:05", b"\x89PNG")
    note = Note(id="note1", words="Mind the vane", frame=1003, place=(12.5, 30.0), zone="zone1")
    kept = shot.but(states=(state,), notes=(note,), set_aside=(SetAside(finding="Lock a: #", reason="far away"),))
    save(kept, tmp_path / "a.shot.json")
    assert load(tmp_path / "a.shot.json") == kept
    assert len(state.shot) < 0.7 * len(to_json(shot))  # small


def test_a_state_is_the_shot_as_it_was_and_keeps_what_was_left_since(demo):
    shot = load(demo / "SLT_0140.shot.json")
    state = state_of(shot, "state1", "dusk", "2026-01-02T03:04:05")
    now = shot.but(air=Air(visibility_m=900.0), states=(state,), notes=(Note(id="note1", words="x"),))
    moved = now.but(sources=tuple(s.but(path=f"/elsewhere/{s.id}_{Path(s.path).name}") for s in now.sources))
    back = shot_of(state, moved)
    assert back.air == shot.air
    assert back.states == (state,)
    assert back.notes == now.notes
    assert {source.path for source in back.sources} == {source.path for source in moved.sources}
    assert shot_of(state) == shot


@pytest.mark.parametrize("text", ["", "!!", "AAAA", "eJw="])
def test_a_damaged_state_is_said(text):
    state = state_of(Shot(), "s", "dusk", "2026-01-02T03:04:05").but(shot=text)
    with pytest.raises(ShotError, match="dusk"):
        shot_of(state)


def test_changes_are_told_in_words(demo):
    shot = load(demo / "SLT_0140.shot.json")
    zone = shot.zones[1]
    placement = zone.placement
    changed = shot.with_zone(zone.but(placement=placement.but(size=placement.size.scaled(2), rides=None)))
    words = changes(shot, changed.but(zones=changed.zones[:-1]))
    assert any(zone.name in each and "size" in each for each in words)
    assert any("rides" in each and "none" in each for each in words)
    assert f"{shot.zones[-1].name} is gone" in words
    assert changes(shot, shot) == []


def test_what_is_noted_makes_no_other_picture(demo):
    shot = load(demo / "SLT_0140.shot.json")
    assert named_alike(shot.but(notes=(Note(id="note1", words="x"),))) == named_alike(shot)


def test_a_shot_of_format_9_opens():
    data = json.loads(to_json(Shot(name="Old"))) | {"version": 9}
    for name in ("notes", "set_aside", "states"):
        data.pop(name)
    assert from_json(json.dumps(data)).name == "Old"


@given(st.floats(10, 1e6), st.text(max_size=20))
def test_any_state_comes_back_whole(visibility, name):
    shot = Shot(name=name, air=Air(visibility_m=visibility))
    assert shot_of(state_of(shot, "s", "w", "2026-01-02T03:04:05")) == shot
