"""Mattes on a zone's own picture, clips in their own time and shape, and what is laid on the plate's own old sky."""

import json
from fractions import Fraction
from functools import cache
from pathlib import Path

import cv2
import numpy as np
import pytest
from skimage import data, transform

from skies_plates import clouds, cloudy, heaped
from stores import kept_pictures
from zonal_mantle.api import Session, add_painting, shot_from_plate
from zonal_mantle.comp import compose, mend_of, mended, take_readings
from zonal_mantle.comp.matte_planner import matte_plan, zone_picture
from zonal_mantle.comp.mends import is_there
from zonal_mantle.demo import elements
from zonal_mantle.demo.elements import FLAG_SIZE, ember_frame
from zonal_mantle.matte.first import first_pull, own_luma, screen_of
from zonal_mantle.media import open_source
from zonal_mantle.media.curves import srgb_decode
from zonal_mantle.media.inbetween import flowed
from zonal_mantle.media.still import write_still
from zonal_mantle.place import zone_seen
from zonal_mantle.place.timing import frames_each, source_place, zone_frame
from zonal_mantle.shot import (
    Blend,
    ClearSkyPull,
    Edge,
    Keyed,
    LumaPull,
    Match,
    Matte,
    Mirror,
    Placement,
    ScreenPull,
    Shape,
    Shot,
    Source,
    Timing,
    rectangle_key,
)
from zonal_mantle.shot.file import from_json, to_json

NO_MATCH = Match(on=False)


@cache
def flag_frame(*which):
    return elements.flag_frame(*which)


def number(value: float) -> Keyed:
    return Keyed(constant=value)


def written(folder: Path, name: str, pictures: list[np.ndarray], first: int = 1) -> Source:
    for k, picture in enumerate(pictures):
        write_still(folder / f"{name}.{first + k:04d}.exr", np.asarray(picture, np.float32), "float")
    return open_source(folder / f"{name}.{first:04d}.exr", name)


def inserted(folder: Path, clip: list[np.ndarray], plate: list[np.ndarray] | None = None, **zone) -> Shot:
    """A shot with a clip before its plate, 20 m away and pixel for pixel, unless `zone` says otherwise."""
    height, width = clip[0].shape[:2]
    backing = plate or [np.full((height, width, 3), 0.18, np.float32)] * len(clip)
    shot = add_painting(shot_from_plate(written(folder, "plate", backing)), written(folder, "clip", clip), 20.0)
    return shot.with_zone(shot.zones[1].but(match=NO_MATCH, **zone))


def keyed(shot: Shot, matte: Matte) -> Shot:
    return shot.with_zone_matte(shot.zones[1], matte.but(reads="own picture"))


@pytest.mark.parametrize("screen", ["blue", "green"])
def test_a_screen_that_nobody_pulled_is_a_finding_and_one_step_pulls_it(tmp_path, screen):
    pictures = [flag_frame(4 * k, 7) for k in range(2)]
    swapped = [(picture if screen == "blue" else picture[..., [0, 2, 1]]).copy() for picture, _ in pictures]
    swapped[1][0, 90:110] = 0.8, 0.1, 0.1  # a speck that is kept on the rim
    shot = inserted(tmp_path, swapped, placement=Placement(size=number(0.4)))
    said = {each.words: each for each in take_readings(shot, kept_pictures()).findings}
    found = said[f"clip is {screen} all round, as if shot before a screen: all of it is laid over the picture."]
    assert (found.stage, found.severity) == ("Matte", "wrong")
    assert not any("runs out" in words for words in said)
    mend = mend_of(shot, found)
    assert mend.label == f"Pull the {screen} screen"
    after = mended(shot, mend)
    assert (is_there(shot, mend), is_there(after, mend)) == (True, False)  # while readings of before are shown still
    matte = after.matte_of(after.zones[1])
    alpha = kept_pictures().matte(after, matte, after.first).alpha
    assert np.sqrt(((alpha - pictures[0][1]) ** 2).mean()) < 0.06
    again = take_readings(after, kept_pictures())
    assert not any("all round" in each.words or "runs out" in each.words for each in again.findings)
    assert again.places[after.zones[1].id].screen is None


def test_skies_and_photographs_are_not_taken_for_screens():
    for pixels in (
        *(clouds(seed, (320, 180), True) for seed in range(4)),
        *(heaped(k, (320, 180), 2.0) for k in range(4)),
    ):
        assert screen_of(srgb_decode(pixels)) is None
    for name in ("astronaut", "coffee", "rocket", "chelsea", "retina"):
        assert screen_of(srgb_decode(np.float32(getattr(data, name)()) / 255)) is None
    falls = np.linspace(0.35, 0.8, 180, dtype=np.float32)[:, None, None] * np.float32((0.25, 0.45, 1.0))
    assert screen_of(srgb_decode(np.tile(falls, (1, 320, 1)))) is None  # a clear sky alone, deep blue at its top


@pytest.mark.parametrize("seed", [3, 7, 20])
def test_a_screen_is_pulled_on_the_clip_in_its_own_pixels(tmp_path, seed):
    frames = [flag_frame(4 * k, seed) for k in range(2)]
    small = Placement(size=number(0.4), turn_deg=number(25.0), x=number(31.3))
    shot = inserted(tmp_path, [picture for picture, _ in frames], placement=small)
    shot = keyed(shot, Matte(id="m", name="Flag matte", pulls=(ScreenPull(id="a", screen="blue"),)))
    session = Session(shot)
    for k, (_, alpha) in enumerate(frames):
        error = session.matte(shot.zones[1].id, 1 + k) - alpha
        assert np.sqrt((error**2).mean()) < 0.02
        cut = session.cutout(shot.zones[1].id, 1 + k)
        assert cut.alpha.sum() == pytest.approx(0.16 * alpha.sum(), rel=0.01)  # placed after it was cut
        colour = cut.foreground[cut.alpha > 0.99]
        assert (colour[:, 2] < np.maximum(colour[:, 0], colour[:, 1]) + 0.03).all()  # nothing of the screen is left
        whole = session.frame(1 + k)
        assert whole[2, 2, :3] == pytest.approx(0.18, abs=1e-5)  # where the screen was, the plate is seen


def test_a_clips_own_matte_is_steadied_by_the_frames_beside_where_they_are_alike(tmp_path):
    """A flag that hangs still: its edge chatters less. One that moves fast is left as it is: no ghosts."""
    rng = np.random.default_rng(5)
    still, alpha = flag_frame(0, 3)
    frames = [np.clip(still + rng.normal(0, 0.02, still.shape), 0, None).astype(np.float32) for _ in range(5)]
    errors = {}
    for steady in (0.0, 1.0):
        shot = inserted(tmp_path, frames)
        pull = ScreenPull(id="a", screen="blue")
        shot = keyed(shot, Matte(id="m", name="Flag", pulls=(pull,), edge=Edge(steady=steady)))
        mattes = [Session(shot).matte(shot.zones[1].id, frame) for frame in (2, 3, 4)]
        errors[steady] = float(np.std(np.diff(mattes, axis=0)))
        assert np.abs(mattes[1] - alpha).mean() < 0.02
    assert errors[1.0] < 0.5 * errors[0.0]
    (tmp_path / "fast").mkdir()
    moving = [flag_frame(40 * k, 3) for k in range(3)]
    shot = inserted(tmp_path / "fast", [picture for picture, _ in moving])
    pull = ScreenPull(id="a", screen="blue")
    plain, steady = (
        Session(keyed(shot, Matte(id="m", name="Flag", pulls=(pull,), edge=Edge(steady=s)))).matte(shot.zones[1].id, 2)
        for s in (0.0, 1.0)
    )
    assert np.abs(plain - steady).mean() < 0.01


def test_shapes_lie_on_the_clip_and_no_lock_moves_them(tmp_path):
    shot = inserted(tmp_path, [flag_frame(0)[0]], placement=Placement(x=number(40.0)))
    junk = Shape(id="s", mode="drop", rides=None, keys=(rectangle_key(1, (0, 0), (160, 384)),))
    shot = keyed(shot, Matte(id="m", name="Flag", pulls=(ScreenPull(id="a"),), shapes=(junk,)))
    session = Session(shot)
    own = session.matte(shot.zones[1].id, 1)
    assert own.shape == (FLAG_SIZE[1], FLAG_SIZE[0])
    assert own[:, :158].max() == 0
    assert own[:, 165:].max() > 0.99
    placed = session.cutout(shot.zones[1].id, 1).alpha
    assert np.allclose(placed[:, 40:], own[:, :-40], rtol=0, atol=2e-3)


def test_one_matte_cuts_two_clips_each_by_its_own_picture(tmp_path):
    shot = inserted(tmp_path, [flag_frame(0)[0]])
    other = written(tmp_path, "other", [flag_frame(9)[0]])
    shot = add_painting(shot, other, 10.0)
    matte = Matte(id="m", name="Flags", pulls=(ScreenPull(id="a"),), reads="own picture")
    shot = shot.with_zone_matte(shot.zones[1], matte).with_zone_matte(shot.zones[2], matte)
    pictures = kept_pictures()
    one, two = (pictures.made(matte_plan(shot, matte, 1, zone=zone)).alpha for zone in shot.zones[1:])
    assert (Session(shot).matte(shot.zones[1].id, 1) == one).all()
    assert Session(shot).cutout(shot.zones[1].id, 1, 0.5).doubt.shape == (192, 256)
    assert np.sqrt(((one - flag_frame(0)[1]) ** 2).mean()) < 0.02
    assert np.sqrt(((two - flag_frame(9)[1]) ** 2).mean()) < 0.02


def test_a_clips_matte_that_also_cuts_the_plate_looks_at_the_plate_there(tmp_path):
    blue = np.full((96, 160, 3), (0.03, 0.07, 0.4), np.float32)
    blue[30:60, 40:90] = 0.4
    shot = inserted(tmp_path, [flag_frame(0)[0]], [blue], blend=Blend(opacity=number(0.0)))
    matte = Matte(id="m", name="Blue goes", pulls=(ScreenPull(id="a"),), reads="own picture")
    shot = shot.with_zone_matte(shot.zones[0], matte).with_zone_matte(shot.zones[1], matte)
    shot = shot.with_zone(shot.zones[1].but(mirror=Mirror(on=True, line=((0, 50), (160, 50)), matte="m")))
    out = Session(shot).frame(1)
    assert out.shape == (96, 160, 4)
    assert Session(shot).matte("zone1", 1)[45, 60] > 0.99
    assert Session(shot).matte("zone1", 1)[5, 5] < 0.01
    assert "could not" not in str(Session(shot).readings().findings)


def test_light_on_black_is_added_whole_and_hides_by_its_luma(tmp_path):
    ember = ember_frame(20)
    shot = inserted(tmp_path, [ember], blend=Blend(mode="plus"))
    shot = keyed(shot, Matte(id="m", name="Embers", pulls=(own_luma("a"),), over_black=True))
    assert np.allclose(compose(shot, 1, kept_pictures())[..., :3], ember + 0.18, rtol=0, atol=2e-5)
    laid = shot.with_zone(shot.zones[1].but(blend=Blend()))
    alpha = Session(laid).matte("zone2", 1)
    luma = np.where(ember <= 0.0031308, 12.92 * ember, 1.055 * np.maximum(ember, 1e-9) ** (1 / 2.4) - 0.055)
    assert np.allclose(alpha, np.clip(luma @ np.array([0.2126, 0.7152, 0.0722]), 0, 1), rtol=0, atol=3e-3)
    assert np.allclose(
        compose(laid, 1, kept_pictures())[..., :3], ember + 0.18 * (1 - alpha[..., None]), rtol=0, atol=2e-5
    )


def test_a_pull_begins_by_what_a_picture_was_shot_before():
    green = flag_frame(0)[0][..., [0, 2, 1]]
    assert first_pull(flag_frame(0)[0], "a")[0] == ScreenPull(id="a", screen="blue")
    assert first_pull(green, "a")[0] == ScreenPull(id="a", screen="green")
    pull, on_black = first_pull(ember_frame(20), "a")
    assert isinstance(pull, LumaPull)
    assert on_black
    for photograph in (data.astronaut(), data.coffee(), data.rocket()):
        assert isinstance(first_pull((photograph / 255.0).astype(np.float32) ** 2.2, "a")[0], ClearSkyPull)


def test_a_screen_that_is_looked_for_in_the_wrong_picture_is_said(tmp_path):
    shot = inserted(tmp_path, [flag_frame(0)[0]])
    matte = Matte(id="m", name="Flag matte", pulls=(ScreenPull(id="a"),))
    wrong = Session(shot.with_zone_matte(shot.zones[1], matte)).readings().findings
    assert any("the screen is in the own picture of clip" in finding.words for finding in wrong)
    right = Session(keyed(shot, matte)).readings()
    assert not [finding for finding in right.findings if finding.stage == "Matte"]
    assert right.mattes["m"].halo is not None
    green = keyed(shot, matte.but(pulls=(ScreenPull(id="a", screen="green"),)))
    assert any("shot before a blue one" in finding.words for finding in Session(green).readings().findings)


# --- the plate's own old sky ---
def laid_on_old_sky(folder: Path, **blend) -> tuple[Shot, np.ndarray, np.ndarray]:
    plate, alpha = cloudy(2, "grass", size=(480, 270))
    sky = np.full(plate.shape, (0.5, 0.4, 0.3), np.float32)
    shot = inserted(folder, [sky], [plate], blend=Blend(on_old_sky=True, **blend), distance_m=None)
    return shot.with_zone_matte(shot.zones[0], Matte(id="m", name="Sky", pulls=(ClearSkyPull(),))), plate, alpha


@pytest.mark.parametrize("mode", ["normal", "multiply", "screen", "plus", "luminosity"])
def test_a_sky_of_no_opacity_on_the_old_sky_is_the_plate(tmp_path, mode):
    shot, plate, _ = laid_on_old_sky(tmp_path, mode=mode, opacity=number(0.0))
    assert np.allclose(compose(shot, 1, kept_pictures())[..., :3], plate, rtol=0, atol=2e-3)


def test_a_sky_multiplies_the_old_sky_and_nothing_else(tmp_path):
    shot, plate, alpha = laid_on_old_sky(tmp_path, mode="multiply", opacity=number(0.5))
    out = compose(shot, 1, kept_pictures())[..., :3]
    near = np.ones((25, 25), np.uint8)  # away from the edge, where the matte itself may err
    open_sky, ground = cv2.dilate(alpha, near) < 1e-4, cv2.erode(alpha, near) > 0.9999
    wanted = plate * (0.5 + 0.5 * np.float32([0.5, 0.4, 0.3]))
    assert np.percentile(np.abs(out - wanted)[open_sky], 99) < 0.01
    assert np.percentile(np.abs(out - plate)[ground], 99) < 0.01


# --- a clip's own time ---
def video(rate: tuple[int, int], count: int = 60) -> Source:
    return Source(id="c", name="c", path="c.mp4", kind="video", width=8, height=8, first=1, last=count, rate=rate)


@pytest.mark.parametrize("rate", [(25, 1), (30, 1), (24000, 1001), (60, 1)])
def test_a_second_of_a_clip_lasts_a_second(tmp_path, rate):
    """Frame k of a plate at 24 is shown k / 24 seconds in; the clip's frame there is the last that has begun."""
    shot = inserted(tmp_path, [flag_frame(0)[0]])
    shot = shot.with_source(video(rate))
    zone = shot.zones[1].but(source="c", timing=Timing(start=1))
    for k in range(24):
        assert zone_frame(shot, zone, 1 + k) == 1 + int(Fraction(k, 24) * Fraction(*rate))
    by_frames = zone.but(timing=Timing(start=1, own_rate=False))
    assert [zone_frame(shot, by_frames, 1 + k) for k in range(24)] == list(range(1, 25))


def test_keyed_speed_is_run_through(tmp_path):
    """A ramp from standing to double speed over 20 frames: place is its integral, t² / 20."""
    speed = Keyed().with_key(1, 0.0, "straight").with_key(21, 2.0, "straight")
    places = [source_place(Timing(start=1, speed=speed), video((24, 1)), 1 + k) for k in range(21)]
    assert places == pytest.approx([k * k / 20 for k in range(21)], abs=1e-9)
    back = Keyed().with_key(1, 1.0, "straight").with_key(21, -1.0, "straight")
    there = [source_place(Timing(start=1, speed=back), video((24, 1)), 1 + k) for k in range(21)]
    assert there[10] == pytest.approx(5.0)
    assert there[20] == pytest.approx(0.0, abs=1e-9)  # it went and came back


def moving(k: float) -> np.ndarray:
    """A photograph that moves 6 px right and 3 px down a frame; scikit-image's own warp is the reference."""
    photo = (data.coffee()[40:240, 60:340] / 255.0) ** 2.2
    way = transform.AffineTransform(translation=(6 * k, 3 * k))
    return transform.warp(photo, way.inverse, order=3, mode="reflect").astype(np.float32)


def test_between_two_frames_of_a_clip(tmp_path):
    clip = [moving(k) for k in range(3)]
    timing = Timing(start=1, speed=number(0.25), own_rate=False)
    shot = inserted(tmp_path, clip, [np.zeros_like(clip[0])] * 6, timing=timing)
    inner = (slice(20, -20), slice(20, -20))
    errors = {}
    for between in ("held", "blended", "flow"):
        seen = shot.with_zone(shot.zones[1].but(timing=timing.but(between=between)))
        frames = [compose(seen, 1 + k, kept_pictures())[..., :3] for k in range(5)]
        assert np.allclose(frames[0], clip[0], rtol=0, atol=1e-5)
        assert np.allclose(frames[4], clip[1], rtol=0, atol=1e-5)
        errors[between] = float(np.sqrt(((frames[2] - moving(0.5))[inner] ** 2).mean()))
        if between == "blended":
            assert np.allclose(frames[1], 0.75 * clip[0] + 0.25 * clip[1], rtol=0, atol=1e-5)
    assert errors["flow"] < 0.25 * errors["blended"] < errors["held"]


def test_flow_keeps_alpha_and_invents_no_light():
    still = np.dstack([moving(0), np.ones((200, 280), np.float32)])
    out = flowed(still, np.dstack([moving(1), np.ones((200, 280), np.float32)]), 0.3)
    assert np.allclose(out[..., 3], 1, rtol=0, atol=1e-5)
    assert out.max() <= still.max() + 1e-6
    black = np.zeros((64, 64, 4), np.float32)
    assert flowed(black, black, 0.5).max() == 0


def test_a_clip_between_frames_is_keyed_on_both(tmp_path):
    """A matte of two blended frames is of neither: the two cut-outs are blended."""
    frames = [flag_frame(0)[0], flag_frame(6)[0]]
    timing = Timing(start=1, speed=number(0.5), own_rate=False, between="blended")
    shot = inserted(tmp_path, frames, [np.zeros_like(frames[0])] * 3, timing=timing)
    shot = keyed(shot, Matte(id="m", name="Flag", pulls=(ScreenPull(id="a"),)))
    session = Session(shot)
    one, alpha, two = (session.cutout("zone2", frame).alpha for frame in (1, 2, 3))
    assert np.allclose(alpha, (one + two) / 2, rtol=0, atol=1e-5)
    assert np.sqrt(((alpha - (flag_frame(0)[1] + flag_frame(6)[1]) / 2) ** 2).mean()) < 0.02
    assert zone_picture(shot, shot.zones[1], 2).share == 0.5


# --- its own shape ---
@pytest.mark.parametrize("way", ["flat", "card", "dome"])
def test_a_squeezed_clip_lies_where_it_would_unsqueezed(tmp_path, way):
    """A 2:1 squeezed picture and the same at square pixels are seen at the same places (SMPTE's pixel aspect ratio:
    width of a pixel against its height)."""
    whole = np.random.default_rng(1).uniform(0, 1, (96, 160, 3)).astype(np.float32)
    (tmp_path / "a").mkdir()
    (tmp_path / "b").mkdir()
    place = Placement(way=way, size=number(1.3), turn_deg=number(8.0), x=number(9.0))
    a = inserted(tmp_path / "a", [whole], placement=place)
    b = inserted(tmp_path / "b", [whole[:, ::2]], [np.zeros((96, 160, 3), np.float32)], placement=place)
    b = b.with_source(b.source(b.zones[1].source).but(pixel_aspect=2.0))
    places = np.array([[30.0, 20.0], [120.0, 70.0], [80.0, 48.0]])
    one, two = (zone_seen(shot, shot.zones[1], 1).back(places) for shot in (a, b))
    assert np.allclose(two * [2, 1], one, rtol=0, atol=1e-6)


def test_an_older_shot_keeps_its_time_and_shape(tmp_path):
    shot = inserted(tmp_path, [flag_frame(0)[0]]).with_source(video((30, 1)).but(pixel_aspect=2.0))
    zone = shot.zones[1].but(source="c", timing=Timing(start=1, speed=number(2.0)))
    stored = json.loads(to_json(shot.with_zone(zone)))
    stored["version"] = 6
    for each in stored["zones"]:
        each["timing"].pop("own_rate")
        each["timing"].pop("between")
        each["blend"].pop("on_old_sky")
    old = from_json(json.dumps(stored))
    assert frames_each(old, old.zones[1]) == 1
    assert [zone_frame(old, old.zones[1], frame) for frame in (1, 2, 3)] == [1, 3, 5]
    assert old.source("c").pixel_aspect == 1
