"""Renders that cannot be: each is one sentence and exit code 1, and nothing half is left; and what a check finds."""

import os
from pathlib import Path

import numpy as np
import pytest

from zonal_mantle.api import Session, open_shot, shot_from_plate
from zonal_mantle.cli import main
from zonal_mantle.comp import Pictures, finish_frame
from zonal_mantle.comp.readings_source import lost_sizes
from zonal_mantle.media import open_source
from zonal_mantle.media.still import read_still, write_still
from zonal_mantle.paths import log_path
from zonal_mantle.render import RenderError, RenderPlan, render
from zonal_mantle.shot import Card, Corner, Keyed, load, save


@pytest.fixture
def still_shot(tmp_path):
    """A shot of one bright still."""
    pixels = np.full((24, 32, 3), 0.5, np.float32)
    write_still(tmp_path / "plate.exr", pixels, "float")
    shot = shot_from_plate(open_source(tmp_path / "plate.exr", "plate"))
    save(shot, tmp_path / "a.shot.json")
    return tmp_path / "a.shot.json"


def said(capsys, *arguments):
    """What a command says on standard error; it ends with 1."""
    assert main([str(argument) for argument in arguments]) == 1
    words = capsys.readouterr().err.rpartition("\r")[2]  # behind the progress
    assert words.startswith("zonal-mantle: ")
    assert words.count("\n") == 1
    assert "Traceback" not in words
    return words


@pytest.mark.parametrize("format", ["exr", "png", "h264", "prores"])
def test_a_folder_where_the_file_goes(still_shot, capsys, tmp_path, format):
    ending = {"exr": ".0001.exr", "png": ".0001.png", "h264": ".mp4", "prores": ".mov"}[format]
    (tmp_path / "out" / f"plate{ending}").mkdir(parents=True)
    words = said(capsys, "render", still_shot, "--out", tmp_path / "out", "--format", format)
    assert "is a folder, not a file: nothing can be written there" in words


def test_a_file_where_the_folder_goes(still_shot, capsys, tmp_path):
    (tmp_path / "out").write_text("x")
    assert "Nothing can be written to" in said(capsys, "render", still_shot, "--out", tmp_path / "out")


def test_a_place_that_cannot_be_written(still_shot, capsys):
    assert "Nothing can be written to /proc" in said(capsys, "render", still_shot, "--out", "/proc/out")


def test_a_name_of_five_thousand_characters(still_shot, capsys, tmp_path):
    words = said(capsys, "render", still_shot, "--out", tmp_path / ("x" * 5000))
    assert len(words) < 600
    session = open_shot(still_shot)
    session.edit(name="n" * 5000)
    assert len(session.render(tmp_path / "out")[0].name) < 100


def test_a_video_that_is_too_small(still_shot, capsys, tmp_path):
    words = said(capsys, "render", still_shot, "--out", tmp_path / "out", "--format", "h264", "--scale", "0.05")
    assert "is too small: its codec needs 2 pixels a side" in words
    assert list((tmp_path / "out").iterdir()) == []


def test_a_plate_that_is_damaged_later(still_shot, capsys, tmp_path):
    path = tmp_path / "plate.exr"
    path.write_bytes(path.read_bytes()[:-300])
    assert "plate.exr " in said(capsys, "render", still_shot, "--out", tmp_path / "out")
    assert [name for name in os.listdir(tmp_path / "out") if not name.startswith(".")] == []


def test_the_command_line_takes_no_nonsense(capsys):
    for arguments in (["demo", "--size", "axb"], ["demo", "--size", "9x9"], ["demo", "--frames", "0"]):
        with pytest.raises(SystemExit):
            main(arguments)
        assert "Traceback" not in capsys.readouterr().err


def test_an_error_that_nobody_thought_of_is_one_sentence_and_in_the_log(still_shot, capsys, monkeypatch):
    def broken(path):
        raise RuntimeError("a wheel came off")

    monkeypatch.setattr("zonal_mantle.api.open_shot", broken)
    words = said(capsys, "check", still_shot)
    assert "RuntimeError: a wheel came off." in words
    assert "has the details" in words
    assert "a wheel came off" in log_path().read_text()


def test_the_files_of_a_shot_are_listed(still_shot, capsys):
    assert main(["check", "--files", str(still_shot)]) == 0
    assert "inside " in capsys.readouterr().out


def test_light_that_a_half_does_not_hold_is_found_and_written_as_the_largest(still_shot, tmp_path):
    pixels = np.full((24, 32, 3), 0.5, np.float32)
    pixels[8:16] = 2e5
    write_still(tmp_path / "plate.exr", pixels, "float")
    session = open_shot(still_shot)
    found = session.readings().findings
    assert any("more than EXR of half floats holds" in finding.words for finding in found)
    said = []
    (half,) = session.render(tmp_path / "half", progress=lambda share, words: said.append(words))
    assert f"Frame {session.shot.first} holds more light than a half does, written as 65,504" in said[-1]
    assert read_still(half)[0].max() == 65504
    whole = render(session.shot, RenderPlan(tmp_path / "float", depth="float"))
    assert read_still(whole[0])[0].max() == np.float32(2e5)


def zone_of(demo):
    session = open_shot(demo / "SLT_0140.shot.json")
    return session, next(zone for zone in session.shot.zones if not session.shot.holds_plate(zone))


@pytest.fixture
def brief_demo(short_demo):
    """Of that three frames: readings are taken on each."""
    path = short_demo / "SLT_0140.shot.json"
    shot = load(path)
    save(shot.with_source(shot.plate_source.but(trim_last=shot.first + 2)), path)
    return short_demo


@pytest.mark.cold
def test_what_stops_a_render_is_found_before(brief_demo, tmp_path):
    session, zone = zone_of(brief_demo)
    painting = session.shot.source(zone.source)
    assert [f for f in session.readings().findings if f.stage == "Source"] == []
    file = Path(painting.path)
    data = file.read_bytes()
    file.write_bytes(data[: len(data) // 2])
    found = [f for f in open_shot(session.path).readings().findings if f.severity == "wrong"]
    assert any(f.part == painting.id and "damaged" in f.words for f in found)
    with pytest.raises(Exception, match="damaged"):
        open_shot(session.path).render(tmp_path / "out", last=session.shot.first, scale=0.1)
    file.write_bytes(data)
    frame = sorted((brief_demo / "plate").glob("*.exr"))[2]
    frame.write_bytes(frame.read_bytes()[:2000])
    found = [f for f in open_shot(session.path).readings().findings if f.severity == "wrong"]
    assert (found[0].part, found[0].frame) == ("plate", session.shot.first + 2)


@pytest.mark.cold
def test_a_damaged_or_missing_frame_hides_no_other_finding(brief_demo):
    session, zone = zone_of(brief_demo)
    session.shot = session.shot.with_zone(zone.but(placement=zone.placement.but(rides=None)))
    whole = session.readings()
    frames = sorted((brief_demo / "plate").glob("*.exr"))
    frames[1].write_bytes(frames[1].read_bytes()[:2000])
    frames[2].unlink()
    left = Session(session.shot).readings()
    source = [finding.words for finding in left.findings if finding.stage == "Source"]
    assert len(source) == 2
    assert "1 frame is missing" in source[0]
    assert any("rides on nothing" in finding.words for finding in left.findings)
    assert left.mattes.keys() == whole.mattes.keys()
    assert left.places.keys() == whole.places.keys()
    assert {f.key for f in whole.findings} <= {f.key for f in left.findings}
    for frame in frames:
        frame.unlink(missing_ok=True)
    gone = Session(session.shot).readings()
    assert gone.mattes == {}
    assert any("rides on nothing" in finding.words for finding in gone.findings)


def test_a_file_that_goes_while_readings_are_taken_is_a_finding(short_demo, monkeypatch):
    session, _ = zone_of(short_demo)
    monkeypatch.setattr("zonal_mantle.comp.all_readings.damaged_files", lambda *_: [])
    frame = sorted((short_demo / "plate").glob("*.exr"))[4]
    frame.write_bytes(frame.read_bytes()[:2000])
    found = [each for each in session.readings().findings if each.stage == "Source"]
    assert [(each.severity, each.part) for each in found] == [("wrong", "plate")]


@pytest.mark.parametrize("size", [0.0, 1e-6, 1e5])
def test_a_zone_that_is_scaled_away_is_found_and_drawn_without_an_error(demo, size):
    session, zone = zone_of(demo)
    placed = zone.but(placement=zone.placement.but(size=Keyed(constant=size), way="flat"))
    shot = session.shot.with_zone(placed)
    assert [finding.part for finding in lost_sizes(shot)] == [zone.id]
    assert np.isfinite(finish_frame(shot, shot.first, Pictures(), 0.1)).all()


def test_cards_and_pins_that_show_nothing_are_found(demo):
    session, zone = zone_of(demo)

    def lost(**placement) -> list[str]:
        placed = zone.but(placement=zone.placement.but(**placement))
        return [each.words for each in lost_sizes(session.shot.with_zone(placed)) if each.part == zone.id]

    flat = Keyed(constant=0.0)
    assert "stretched to 0 times" in lost(way="flat", width=flat)[0]
    assert "a card 0 m high" in lost(way="card", card=Card(height_m=flat))[0]
    line = tuple(Corner(x=Keyed(constant=100.0 * k), y=Keyed(constant=50.0 * k)) for k in range(4))
    assert "enclose no area" in lost(way="corner pin", pins=line)[0]
    square = tuple(Corner(x=Keyed(constant=x), y=Keyed(constant=y)) for x, y in ((0, 0), (9, 0), (9, 9), (0, 9)))
    assert lost(way="corner pin", pins=square) == []
    assert lost(way="card", card=Card()) == []


def test_a_render_is_stopped_before_hours_are_spent(still_shot, tmp_path, monkeypatch):
    (tmp_path / "out" / "plate.0001.exr").mkdir(parents=True)
    monkeypatch.setattr("zonal_mantle.render.frames.finish_frame", lambda *_: pytest.fail("a frame was made"))
    with pytest.raises(RenderError, match="is a folder"):
        open_shot(still_shot).render(tmp_path / "out")
