"""Frames to disk, the command line, scripts."""

import json
import shutil
from collections import namedtuple

import numpy as np
import pytest

from plates import offset_px
from zonal_mantle.api import new, open_shot
from zonal_mantle.cli import main
from zonal_mantle.media import open_source, read_frame
from zonal_mantle.media.still import read_still
from zonal_mantle.render import RenderError, RenderPlan, render


@pytest.fixture
def session(demo):
    return open_shot(demo / "SLT_0140.shot.json")


def test_exr_frames_hold_what_the_viewer_shows(session, tmp_path):
    files = session.render(tmp_path, first=1003, last=1004)
    assert [f.name for f in files] == ["SLT_0140.1003.exr", "SLT_0140.1004.exr"]
    back, info = read_still(files[1])
    assert info.alpha == "premultiplied"
    expected = session.frame(1004)
    assert np.abs(back - expected).max() <= np.abs(expected).max() / 1024


def test_a_render_is_bit_identical_from_run_to_run(session, tmp_path):
    for format in ("exr", "png", "h264"):
        a = session.render(tmp_path / "a", first=1002, last=1003, format=format)
        b = open_shot(session.path).render(tmp_path / "b", first=1002, last=1003, format=format)
        for x, y in zip(a, b):
            assert x.read_bytes() == y.read_bytes()


@pytest.mark.parametrize(("format", "name"), [("h264", "SLT_0140.mp4"), ("prores", "SLT_0140.mov")])
def test_video_holds_every_frame_at_the_shots_rate(session, tmp_path, format, name):
    (file,) = session.render(tmp_path, format=format, scale=0.5)
    assert file.name == name
    source = open_source(file)
    assert (source.last, source.rate, source.width) == (10, (24, 1), 320)
    expected = np.clip(session.frame(1006, 0.5)[..., :3], 0, 1)
    seen = np.clip(read_frame(source, 6), 0, 1)
    assert np.percentile(np.abs(seen - expected), 95) < 0.04
    assert offset_px(seen, expected) < 0.1


def test_png_is_straight_srgb(session, tmp_path):
    (file,) = session.render(tmp_path, format="png", first=1001, last=1001)
    expected = np.clip(session.frame(1001)[..., :3], 0, 1)
    assert np.abs(read_frame(open_source(file, as_still=True), 1)[..., :3] - expected).max() < 1e-3


def test_resume_keeps_whole_frames_and_mends_broken_ones(session, tmp_path):
    files = session.render(tmp_path, first=1001, last=1003)
    stamp = files[0].stat().st_mtime_ns
    whole = files[1].read_bytes()
    files[1].write_bytes(whole[:500])
    files[2].unlink()
    session.render(tmp_path, first=1001, last=1003, resume=True)
    assert files[0].stat().st_mtime_ns == stamp
    assert files[1].read_bytes() == whole
    assert files[2].exists()


def test_cancelling_leaves_only_whole_frames(session, tmp_path):
    class Stop(Exception):
        pass

    def progress(share: float, words: str) -> None:
        if share >= 0.2:
            raise Stop

    for format, left in (("exr", ["SLT_0140.1001.exr", "SLT_0140.1002.exr"]), ("h264", [])):
        with pytest.raises(Stop):
            render(session.shot, RenderPlan(tmp_path / format, format), progress)
        assert sorted(p.name for p in (tmp_path / format).iterdir()) == left


def test_too_little_room_is_said_before_anything_is_written(session, tmp_path, monkeypatch):
    usage = namedtuple("usage", "total used free")
    monkeypatch.setattr(shutil, "disk_usage", lambda _: usage(1, 1, 1000))
    with pytest.raises(RenderError, match="kB free and the render may need 18"):
        session.render(tmp_path / "full")
    assert list((tmp_path / "full").iterdir()) == []


@pytest.mark.parametrize(
    ("plan", "words"),
    [
        ({"first": 900}, "the shot has 1001–1010"),
        ({"scale": 0.0}, "between 0.05 and 1"),
        ({"format": "gif"}, "no format gif"),
    ],
)
def test_what_cannot_be_rendered_is_said(session, tmp_path, plan, words):
    with pytest.raises(RenderError, match=words):
        session.render(tmp_path, **plan)


def test_the_command_line_renders_and_checks(demo, tmp_path, capsys):
    shot = str(demo / "SLT_0140.shot.json")
    assert main(["render", shot, "--out", str(tmp_path), "--frames", "1001-1002", "--scale", "0.25"]) == 0
    assert len(list(tmp_path.glob("*.exr"))) == 2
    capsys.readouterr()
    assert main(["check", shot, "--json"]) == 0
    readings = json.loads(capsys.readouterr().out)
    assert set(readings) == {
        "mattes",
        "locks",
        "coverage",
        "places",
        "rides",
        "matches",
        "grains",
        "lenses",
        "finish",
        "findings",
    }
    assert readings["locks"]["works"]["solved"] == 10


def test_problems_are_one_sentence_and_exit_code_1(tmp_path, capsys):
    assert main(["check", str(tmp_path / "nothing.shot.json")]) == 1
    assert "nothing.shot.json is missing from" in capsys.readouterr().err


def test_a_script_can_do_the_job(demo, tmp_path):
    from zonal_mantle.shot import Lock, LumaPull, Mark, Matte

    session = new(demo / "plate" / "SLT_0140.1001.exr", "Scripted")
    sky = session.add_painting(demo / "paintings" / "evening_sky.exr")
    plate = session.shot.zones[0]
    session.shot = session.shot.with_zone_matte(plate, Matte(pulls=(LumaPull(),)))
    truth = open_shot(demo / "SLT_0140.shot.json").shot.lock("works").marks[0]
    lock = Lock(id="lock1", name="Works", reference_frame=1006, marks=(Mark(x=truth.x, y=truth.y),))
    session.shot = session.shot.with_lock(lock)
    session.solve("lock1")
    session.shot = session.shot.with_zone(sky.but(placement=sky.placement.but(rides="lock1")))
    path = session.save(tmp_path / "scripted.shot.json")
    again = open_shot(path)
    assert again.shot == session.shot
    assert again.readings().coverage[sky.id].covered == 10
    assert np.array_equal(again.frame(1003), session.frame(1003))
