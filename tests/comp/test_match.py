"""The match in the frame, and its fits through the session, on photographs that scikit-image ships."""

import json
import shutil
from pathlib import Path

import cv2
import numpy as np
import pytest
from scipy.ndimage import gaussian_filter
from skimage import data

from h264 import write_h264
from stores import kept_pictures
from zonal_mantle.api import Session, new, open_shot
from zonal_mantle.cli import main
from zonal_mantle.comp import Cancelled, Pictures, compose
from zonal_mantle.comp.aim import zone_seen_with
from zonal_mantle.comp.plate_grain import measured_grain
from zonal_mantle.comp.readings_match import read_match
from zonal_mantle.match.errors import MatchError
from zonal_mantle.match.lens import defocused
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.media.errors import MediaError
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import (
    Aim,
    AimArea,
    AirMatch,
    GrainMatch,
    GrainModel,
    Keyed,
    LensMatch,
    LumaPull,
    Match,
    Matte,
    Mist,
    Optics,
    ShotError,
    ToneMatch,
    WrapMatch,
    Zone,
    load,
    save,
)
from zonal_mantle.shot.match import Range
from zonal_mantle.words import speak

FRAMES, PAN = 3, 5.0


def k(value: float) -> Keyed:
    return Keyed(constant=value)


def linear(picture: np.ndarray) -> np.ndarray:
    return srgb_decode(picture[..., :3].astype(np.float64) / 255).astype(np.float32)


@pytest.fixture(scope="module")
def filmed(tmp_path_factory) -> tuple[Path, np.ndarray]:
    """A photograph, out of focus by 3 px and with grain, seen by a camera that pans 5 px a frame; its right half as it
    was is the element, and the aim the left one."""
    folder = tmp_path_factory.mktemp("filmed")
    picture = linear(data.coffee())[:396]
    rgba = np.dstack([picture, np.ones(picture.shape[:2], np.float32)])
    soft, rng, truths = defocused(rgba, 3.0)[..., :3], np.random.default_rng(1), []
    for k_ in range(FRAMES):
        seen = soft[:, 50 + round(PAN * k_) : 530 + round(PAN * k_)]
        truths.append(seen)
        noise = cv2.GaussianBlur(rng.standard_normal(seen.shape).astype(np.float32), (0, 0), 0.5)
        codes = srgb_encode(seen) + 0.015 * noise / noise.std()
        write_still(folder / f"plate.{1001 + k_}.png", np.clip(codes, 0, 1).astype(np.float32), "uint8")
    write_still(folder / "element.exr", np.ascontiguousarray(picture[:, 300:]), "float")
    return folder, truths[1]


@pytest.fixture
def session(filmed) -> Session:
    folder, _ = filmed
    session = new(folder / "plate.1001.png")
    zone = session.add_painting(folder / "element.exr", 60.0)
    x = Keyed()
    for k_ in range(FRAMES):
        x = x.with_key(1001 + k_, 450 - 50 - PAN * k_ - 240, "straight")
    areas = (AimArea(box=(2, 2, 236, 394), frame=1002),)
    zone = zone.but(placement=zone.placement.but(x=x), match=Match(aim=Aim(areas=areas), air=AirMatch(on=False)))
    session.shot = session.shot.with_zone(zone)
    return session


def added(session: Session) -> Zone:
    return session.shot.zones[-1]


def with_match(session: Session, **parts: object) -> Zone:
    zone = added(session)
    session.shot = session.shot.with_zone(zone.but(match=zone.match.but(**parts)))
    return added(session)


def test_focus_and_grain_are_fitted_and_the_frame_is_as_if_it_had_been_filmed(session, filmed):
    truth = filmed[1]
    before = session.frame(1002)[..., :3]
    lens = session.fit(added(session).id, "lens")
    assert lens.values["radius_px"] == pytest.approx(3.0, rel=0.08)
    assert added(session).match.lens.radius_px.constant == pytest.approx(lens.values["radius_px"])
    after = session.frame(1002)[..., :3]
    inside = np.s_[20:-20, 260:-20]

    def off(picture: np.ndarray) -> float:
        return float(np.sqrt(((srgb_encode(picture[inside]) - srgb_encode(truth[inside])) ** 2).mean()) * 255)

    assert off(after) < 2.5
    assert off(before) > 5
    grain = session.fit(added(session).id, "grain")
    assert grain.values["deviation_g"] == pytest.approx(0.015, rel=0.08)
    noisy = srgb_encode(session.frame(1002)[..., :3]) - srgb_encode(after)
    assert noisy[inside].std() == pytest.approx(0.015, rel=0.1)
    assert np.abs(noisy[:, :200]).max() == 0  # the plate is left alone
    other = srgb_encode(session.frame(1003)[..., :3])[inside] - srgb_encode(after)[inside]
    assert abs(np.corrcoef(noisy[inside].ravel(), other.ravel())[0, 1]) < 0.15
    assert np.array_equal(session.frame(1002), Session(session.shot).frame(1002))


def test_fit_all_says_what_it_could_not_measure_and_keeps_what_was_there(session):
    air = session.shot.air
    found = session.fit_all()
    assert {each.part for each in found.fitted} >= {"tone", "lens", "grain"}
    assert "haze" in found.refused["air"] or "guessed" in found.refused["air"]
    assert "No matte" in found.refused["wrap"]
    assert session.shot.air == air
    assert session.shot == found.shot


def test_a_match_is_copied_as_a_whole_or_by_part(session):
    tone, lens = ToneMatch(exposure_stops=k(1)), LensMatch(radius_px=k(2))
    first = with_match(session, tone=tone, lens=lens)
    other = session.add_painting(session.shot.source(first.source).path, 80.0)
    session.copy_match(first.id, [other.id], ["lens"])
    assert session.shot.zone(other.id).match == Match().but(lens=lens)
    session.copy_match(first.id, [other.id])
    copied = session.shot.zone(other.id).match
    assert (copied.tone, copied.lens) == (tone, lens)
    with pytest.raises(ShotError, match="no part glow"):
        session.copy_match(first.id, [other.id], ["glow"])


def plain(folder: Path, value: float = 0.5, size: tuple[int, int] = (320, 240)) -> None:
    for frame in range(1001, 1004):
        write_still(folder / f"flat.{frame}.exr", np.full((size[1], size[0], 3), value, np.float32), "float")


REFUSED = {
    "the plate's own tone": ("plate", "tone", "is the plate itself"),
    "the plate's own grain": ("plate", "grain", "is the plate itself"),
    "the plate's own lens": ("plate", "lens", "is the plate itself"),
    "a tone at infinity": ("sky", "tone", "at infinity"),
    "a lens at infinity before a plate without edges": ("flat sky", "lens", "sharpness cannot be told"),
    "a tone by an aim of one colour": ("flat aim", "tone", "of one colour"),
    "a tone by an aim that is too small": ("small aim", "tone", "too small"),
    "a lens by an aim without an edge": ("flat aim", "lens", "no edge"),
    "a lens by an aim that is too small": ("small aim", "lens", "too small"),
    "a wrap without a matte": ("element", "wrap", "No matte"),
    "air between equal distances": ("equal aims", "air", "different distances"),
    "a zone that is switched off": ("off", "grain", "switched off"),
    "an aim outside of the picture": ("outside", "tone", "outside of the picture"),
}


@pytest.mark.parametrize("case", REFUSED)
def test_what_cannot_be_measured_is_refused_with_the_reason(session, tmp_path, case):
    which, part, words = REFUSED[case]
    zone = added(session)
    areas = {
        "flat aim": ((10, 10, 300, 220),), "small aim": ((10, 10, 16, 16),), "outside": ((5000, 10, 5100, 90),),
        "equal aims": ((10, 10, 100, 100), (120, 10, 230, 120)),
    }.get(which)  # fmt: skip
    if which.startswith("flat"):
        plain(tmp_path)
        flat = new(tmp_path / "flat.1001.exr")
        zone = flat.add_painting(session.shot.source(zone.source).path, 60.0)
        session = flat
    if which == "plate":
        zone = session.shot.zones[0]
    if which.endswith("sky"):
        zone = zone.but(distance_m=None, match=Match())
    if which == "off":
        zone = zone.but(on=False)
    if areas:
        boxes = tuple(AimArea(box=box, frame=1002, distance_m=100.0 if "equal" in which else None) for box in areas)
        zone = zone.but(match=Match(aim=Aim(areas=boxes)))
    session.shot = session.shot.with_zone(zone)
    before = session.shot
    with pytest.raises(MatchError, match=words):
        session.fit(zone.id, part)
    assert session.shot == before


def test_air_is_fitted_between_two_boxes_of_the_aim(tmp_path):
    # ground truth of this test: Koschmieder's haze on one texture at two distances
    ground = srgb_decode(data.gravel() / 255.0)[..., None] * np.array([0.3, 0.36, 0.25])
    airlight, visibility = np.array([0.6, 0.64, 0.7]), 12000.0
    plate = np.empty((240, 480, 3), np.float32)
    for left, distance in ((0, 400.0), (240, 4000.0)):
        t = 0.05 ** (distance / visibility)
        plate[:, left : left + 240] = ground[:240, left : left + 240] * t + airlight * (1 - t)
    write_still(tmp_path / "plate.1001.exr", plate, "float")
    session = new(tmp_path / "plate.1001.exr")
    boxes = (
        AimArea(box=(5, 5, 235, 235), frame=1001, distance_m=400.0),
        AimArea(box=(245, 5, 475, 235), frame=1001, distance_m=4000.0),
    )
    zone = session.shot.zones[0]
    session.shot = session.shot.with_zone(zone.but(match=zone.match.but(aim=Aim(areas=boxes))))
    found = session.fit(zone.id, "air")
    assert session.shot.air.visibility_m == pytest.approx(visibility, rel=0.12)
    assert found.values["visibility_low_m"] < visibility < found.values["visibility_high_m"]
    assert session.shot.air.airlight == pytest.approx(airlight, rel=0.04)


def flat_session(tmp_path: Path, painting: np.ndarray, distance: float | None) -> Session:
    plain(tmp_path, 0.2)
    write_still(tmp_path / "painting.exr", painting.astype(np.float32), "float")
    session = new(tmp_path / "flat.1001.exr")
    session.shot = session.shot.with_zone(session.shot.zones[0].but(distance_m=None))
    session.add_painting(tmp_path / "painting.exr", distance)
    return session


def test_a_zone_with_depth_is_paler_behind_than_before(tmp_path):
    session = flat_session(tmp_path, np.zeros((240, 320, 3)), 1000.0)
    session.edit(air=session.shot.air.but(visibility_m=10000.0, airlight=(0.5, 0.6, 0.7), exponent=0.0))
    even = session.frame(1002)[..., 2]
    assert np.ptp(even) < 1e-5
    with_match(session, air=AirMatch(far_m=k(8000.0)))
    deep = session.frame(1002)[..., 2]
    # published: Koschmieder: 1 − T at 1000 m and at 8000 m, with T = 0.05^(d / V)
    assert deep[-1].mean() == pytest.approx(0.7 * (1 - 0.05**0.1), rel=0.05)
    assert deep[0].mean() == pytest.approx(0.7 * (1 - 0.05**0.8), rel=0.03)
    assert (np.diff(deep.mean(axis=1)) < 1e-6).all()
    half = session.frame(1002, 0.5)[..., 2]
    assert half.mean() == pytest.approx(deep.mean(), rel=5e-3)
    with_match(session, air=AirMatch(own_m=k(1000.0)))
    assert np.allclose(session.frame(1002)[..., 2], 0.0, rtol=0, atol=1e-5)  # it held its air already


def test_haze_is_taken_out_no_further_than_noise_allows(tmp_path):
    session = flat_session(tmp_path, np.full((240, 320, 3), 0.5), 10.0)
    session.edit(air=session.shot.air.but(visibility_m=100.0, airlight=(0.4, 0.4, 0.4)))
    with_match(session, air=AirMatch(own_m=k(5000.0)))
    assert session.frame(1002)[120, 160, 0] == pytest.approx(0.4 + 3 * 0.1, rel=1e-3)


def test_mist_lies_on_the_ground_and_needs_a_horizon(tmp_path):
    from zonal_mantle.shot import Line

    session = flat_session(tmp_path, np.zeros((240, 320, 3)), 400.0)
    session.edit(air=session.shot.air.but(visibility_m=1e6, airlight=(1.0, 1.0, 1.0), mist=Mist(on=True)))
    assert session.frame(1002)[..., 0].max() < 0.01  # no horizon is known
    session.edit(lines=(Line(id="l", kind="horizon", a=(0.0, 120.0), b=(320.0, 120.0), frame=1001),))
    misty = session.frame(1002)[..., 0].mean(axis=1)
    assert misty[150] > 0.5 > misty[20]
    assert (np.diff(misty[:118]) > -1e-4).all()


def test_a_zone_is_blurred_as_it_moves(session):
    sharp = session.frame(1002)
    zone = with_match(session, lens=LensMatch(motion_blur=True, shutter_deg=k(360), phase_deg=k(-180)))
    blurred = session.frame(1002)
    inside = np.s_[30:-30, 300:-40]
    across = (
        np.abs(np.diff(blurred[inside][..., 1], axis=1)).mean() / np.abs(np.diff(sharp[inside][..., 1], axis=1)).mean()
    )
    down = (
        np.abs(np.diff(blurred[inside][..., 1], axis=0)).mean() / np.abs(np.diff(sharp[inside][..., 1], axis=0)).mean()
    )
    assert across < 0.85 * down
    # by itself: the mean of many frames with the zone moved
    total = np.zeros_like(sharp)
    for step in (np.arange(40) + 0.5) / 40 - 0.5:
        moved = zone.placement.x.at(1002) - PAN * step
        still_ = zone.but(placement=zone.placement.but(x=k(moved)), match=zone.match.but(lens=LensMatch()))
        total += compose(session.shot.with_zone(still_), 1002, session.store)
    assert np.allclose(blurred[inside], (total / 40)[inside], rtol=0, atol=0.03)


def test_focus_follows_the_distance(tmp_path):
    painting = np.zeros((240, 320, 4))
    painting[110:130, 150:170] = 1
    session = flat_session(tmp_path, painting, 4.0)
    session.edit(optics=Optics(focal_mm=50, stop=2, focus_m=60, sensor_mm=24.9))
    with_match(session, lens=LensMatch(focus="distance"), air=AirMatch(on=False))
    near = session.frame(1002)[..., 0]
    zone = added(session)
    session.shot = session.shot.with_zone(zone.but(distance_m=55.0))
    far = session.frame(1002)[..., 0]
    assert far[120, 171] == pytest.approx(0.2, abs=1e-3)
    assert near[120, 171] > 0.22  # beyond the rim by less than the radius of 1.9 px


def test_the_finished_background_spills_over_the_rim(tmp_path):
    painting = np.zeros((240, 320, 4))
    painting[:, :160] = (0.02, 0.02, 0.02, 1)
    session = flat_session(tmp_path, painting, 30.0)
    zone = with_match(session, air=AirMatch(on=False))
    plain_ = session.frame(1002)
    with_match(session, wrap=WrapMatch(on=True, width_px=k(16), amount=k(1.0)))
    wrapped = session.frame(1002)
    assert wrapped[120, 158, 0] > plain_[120, 158, 0] + 0.05
    assert wrapped[120, 100] == pytest.approx(plain_[120, 100], abs=1e-4)
    assert wrapped[0, 158] == pytest.approx(wrapped[120, 158], abs=1e-4)
    assert np.allclose(wrapped[:, 165:], plain_[:, 165:], rtol=0, atol=1e-4)
    assert zone.match.wrap == WrapMatch()


def test_grain_is_measured_where_frames_can_be_read_and_cancelled_between_two_measurements(tmp_path):
    rng = np.random.default_rng(4)
    for number in range(1, 17):
        codes = 0.4 + 0.015 * rng.standard_normal((192, 256, 3)).astype(np.float32)
        write_still(tmp_path / f"plate.{number}.png", codes, "uint8")
    shot = new(tmp_path / "plate.1.png").shot
    shares: list[float] = []

    def stopped(share: float, words: str) -> None:
        shares.append(share)
        if share > 0.3:
            raise Cancelled

    with pytest.raises(Cancelled):
        measured_grain(shot, kept_pictures(), stopped)
    assert max(shares) < 0.7
    (tmp_path / "plate.8.png").write_bytes(b"cut short")  # of the place in the middle
    assert measured_grain(shot, kept_pictures()).middle[1] == pytest.approx(0.015, rel=0.05)
    (tmp_path / "others").mkdir()
    for number in range(1, 17):
        shutil.copy(tmp_path / f"plate.{min(number, 7)}.png", tmp_path / "others" / f"other.{number}.png")
    others = new(tmp_path / "others" / "other.1.png").shot
    for number in range(1, 17):
        (tmp_path / "others" / f"other.{number}.png").write_bytes(b"cut short")
    with pytest.raises(MediaError, match=r"other\.\d+\.png"):
        measured_grain(others, kept_pictures())


def test_grain_may_be_a_clip_and_begins_again(tmp_path):
    session = flat_session(tmp_path, np.full((240, 320, 3), 0.2), 30.0)
    rng = np.random.default_rng(3)
    for frame in (1, 2):
        codes = 0.5 + 0.04 * rng.standard_normal((100, 130, 3))
        write_still(tmp_path / f"grain.{frame}.exr", srgb_decode(codes).astype(np.float32), "float")
    from zonal_mantle.media import open_source

    clip = open_source(tmp_path / "grain.%d.exr", "grain1")
    session.shot = session.shot.with_source(clip)
    with_match(session, air=AirMatch(on=False), grain=GrainMatch(on=True, clip="grain1"))
    frames = [srgb_encode(session.frame(number)[..., :3]) for number in (1001, 1002, 1003)]
    assert frames[0].std() == pytest.approx(0.04, rel=0.05)
    assert np.array_equal(frames[0], frames[2])
    assert not np.array_equal(frames[0], frames[1])
    words = [finding.words for finding in session.readings().findings]
    assert any("shorter than the shot" in each for each in words)


def test_two_grains_lie_each_on_its_own_zone(tmp_path):
    painting = np.zeros((240, 320, 4))
    painting[:, :160] = (0.2, 0.2, 0.2, 1)
    session = flat_session(tmp_path, painting, 30.0)
    write_still(tmp_path / "back.exr", np.full((240, 320, 3), 0.2, np.float32), "float")
    back = session.add_painting(tmp_path / "back.exr", 50.0)
    session.shot = session.shot.with_zone(session.shot.zones[0].but(on=False))
    for zone, amount in ((session.shot.zones[1], 0.01), (back, 0.03)):
        model = GrainModel(levels=(0.5,), deviation=((amount,) * 3,))
        match = Match(air=AirMatch(on=False), grain=GrainMatch(on=True, model=model))
        session.shot = session.shot.with_zone(zone.but(match=match))
    codes = srgb_encode(session.frame(1002)[..., :3])
    assert codes[:, :158].std() == pytest.approx(0.01, rel=0.05)
    assert codes[:, 162:].std() == pytest.approx(0.03, rel=0.05)


def test_the_reading_of_a_match_is_from_the_pixels(session):
    zone = with_match(session, tone=ToneMatch(exposure_stops=k(1.0)))
    bright = session.readings().matches[zone.id]
    assert bright.drawn
    with_match(session, tone=ToneMatch())
    plain_ = session.readings().matches[zone.id]
    assert bright.stops[2] == pytest.approx(plain_.stops[2] + 1, abs=0.02)
    edges = session.readings().lenses[zone.id]
    assert edges.aim_px > edges.zone_px  # the plate is out of focus


def test_a_shot_of_the_format_before_keeps_its_grade(session, tmp_path):
    path = tmp_path / "old.shot.json"
    save(session.shot, path)
    written = json.loads(path.read_text())
    written["version"] = 7
    written.pop("optics")
    written["zones"][1]["match"] = {
        "on": True, "slope": [1.2, 1.0, 0.9], "offset": [0.01, 0.0, 0.0], "power": [1.0, 1.1, 1.0], "saturation": 0.7,
        "air": False,
    }  # fmt: skip
    written["zones"][0]["match"] = {}
    path.write_text(json.dumps(written))
    old = load(path)
    match = old.zones[1].match
    assert [part.constant for part in match.tone.cdl.slope] == [1.2, 1.0, 0.9]
    assert match.tone.cdl.saturation.constant == 0.7
    assert not match.air.on
    assert old.zones[0].match.air.on


def test_the_command_line_fits_and_writes_the_shot(session, tmp_path, capsys):
    path = session.save(tmp_path / "fitted.shot.json")
    assert main(["fit", str(path), "--part", "grain"]) == 0
    assert "grain:" in capsys.readouterr().out
    assert open_shot(path).shot.zones[-1].match.grain.on
    assert main(["fit", str(path), "--zone", session.shot.zones[0].id, "--part", "tone"]) == 1
    assert "is the plate itself" in capsys.readouterr().err


def test_the_light_of_a_new_sky_is_proposed_for_the_ground(tmp_path):
    from zonal_mantle.comp.new_light import new_sky_light

    plate = np.full((120, 160, 3), 0.1, np.float32)
    plate[:60] = (0.6, 0.65, 0.7)
    write_still(tmp_path / "plate.1001.exr", plate, "float")
    sky = np.tile(np.array([0.9, 0.5, 0.25], np.float32), (120, 160, 1))
    sky[:, 120:] *= 3
    write_still(tmp_path / "sky.exr", sky, "float")
    session = new(tmp_path / "plate.1001.exr")
    ground = session.shot.zones[0]
    with pytest.raises(MatchError, match="no new sky"):
        new_sky_light(session.shot, ground, session.store)
    session.add_painting(tmp_path / "sky.exr", None)
    with pytest.raises(MatchError, match="old sky is not known"):
        new_sky_light(session.shot, ground, session.store)
    matte = Matte(id="m", name="M", pulls=(LumaPull(high=k(0.6)),))
    session.shot = session.shot.with_zone_matte(ground, matte)
    match = new_sky_light(session.shot, session.shot.zones[0], session.store)
    assert match.tone.temperature_k.constant < 5000  # the new light is warm
    assert match.tone.across.a[0] < match.tone.across.b[0]  # and comes from the right
    assert isinstance(match.tone.lights, Range)
    none = new_sky_light(session.shot, session.shot.zones[0], session.store, 0.0)
    assert none.tone.exposure_stops.constant == 0


def test_nan_in_a_plate_hurts_no_fit(session, tmp_path):
    from zonal_mantle.media.reader import read_frame

    assert session.shot.plate_source is not None
    for frame in range(1001, 1004):
        pixels = read_frame(session.shot.plate_source, frame).copy()
        pixels[40:60, 40:60] = np.nan
        write_still(tmp_path / f"hurt.{frame}.exr", pixels, "float")
    hurt = new(tmp_path / "hurt.1001.exr")
    zone = hurt.add_painting(session.shot.source(added(session).source).path, 60.0)
    hurt.shot = hurt.shot.with_zone(zone.but(placement=added(session).placement, match=added(session).match))
    for part in ("tone", "lens", "grain"):
        found = hurt.fit(zone.id, part)
        assert all(np.isfinite(value) for value in found.values.values()), (part, found.values)
    assert isinstance(hurt.store, Pictures)


def test_a_match_is_carried_to_another_shot_without_what_belongs_to_its_own(session, filmed, tmp_path):
    from zonal_mantle.media import open_source
    from zonal_mantle.shot import Lock
    from zonal_mantle.shot.carry_over import pasted, taken_stage, taken_zone

    session.shot = session.shot.with_lock(Lock(id="l", name="L", reference_frame=1001))
    session.shot = session.shot.with_source(open_source(filmed[0] / "element.exr", "clip"))
    zone = added(session)
    match = zone.match.but(
        aim=zone.match.aim.but(rides="l"), grain=GrainMatch(clip="clip"), lens=LensMatch(radius_px=k(2))
    )
    session.shot = session.shot.with_zone(zone.but(match=match))
    plain(tmp_path)
    other = new(tmp_path / "flat.1001.exr")
    target = other.add_painting(filmed[0] / "element.exr", 30.0)
    carried = taken_stage(session.shot, added(session), "Match")
    shot, _, _ = pasted(other.shot, carried, [target.id])
    assert shot.zone(target.id).match == Match(lens=match.lens, air=match.air)
    part = taken_stage(session.shot, added(session), "Match", "lens")
    assert part.what == "Lens of element"
    shot, _, _ = pasted(other.shot, part, [target.id])
    assert shot.zone(target.id).match == Match(lens=match.lens)
    whole, id, _ = pasted(other.shot, taken_zone(session.shot, added(session)), [])
    assert whole.zone(id).match.aim == Aim()
    same, _, _ = pasted(session.shot, carried, [added(session).id])
    assert same.zone(added(session).id).match == match


def test_a_fit_of_the_tone_keeps_what_was_set_by_hand(session):
    from zonal_mantle.shot import Cdl

    cdl = Cdl(saturation=k(0.9))
    by_hand = ToneMatch(exposure_stops=k(0.4), contrast=k(1.1), cdl=cdl)
    zone = with_match(session, tone=by_hand)
    session.fit(zone.id, "tone")
    fitted = added(session).match.tone
    assert (fitted.exposure_stops, fitted.contrast, fitted.cdl) == (k(0.4), k(1.1), cdl)
    assert fitted.palette.strength.constant == 1
    with_match(session, tone=ToneMatch(on=False, exposure_stops=k(3)))  # what is off does not come alive
    session.fit(zone.id, "tone")
    assert added(session).match.tone.exposure_stops == k(0)


def test_parts_of_one_picture_are_not_taken_for_a_sharpening(tmp_path):
    picture = data.coffee()[:396].astype(np.float32) / 255
    for frame in range(1001, 1004):
        write_still(tmp_path / f"plate.{frame}.png", picture, "uint8")
    write_still(tmp_path / "element.exr", np.ascontiguousarray(linear(data.coffee())[:396, 200:]), "float")
    session = new(tmp_path / "plate.1001.png")
    zone = session.add_painting(tmp_path / "element.exr", 60.0)
    match = Match(aim=Aim(areas=(AimArea(box=(5, 5, 280, 380), frame=1002),)))
    session.shot = session.shot.with_zone(zone.but(match=match))
    found = session.fit(zone.id, "lens")
    assert "differ by as much" in found.words
    assert added(session).match.lens.sharpen == k(0)
    with pytest.raises(MatchError, match="tell its grain"):  # a still: nothing flat, and no differences
        session.fit(zone.id, "grain")


def test_air_without_a_distance_leaves_the_visibility(tmp_path):
    plate = linear(data.rocket()) * 0.4 + np.array([0.4, 0.42, 0.46], np.float32)
    write_still(tmp_path / "plate.1001.exr", plate.astype(np.float32), "float")
    session = new(tmp_path / "plate.1001.exr")
    session.edit(air=session.shot.air.but(visibility_m=7654.0))
    found = session.fit(session.shot.zones[0].id, "air")
    assert session.shot.air.visibility_m == 7654.0
    assert "no distance is known" in found.words
    assert session.shot.air.airlight != session.shot.air.but(airlight=(0.75, 0.78, 0.82)).airlight


def filmed_softly(folder: Path, name: str, radius: float, quality: int | None) -> Session:
    """The left of a photograph out of focus, with soft grain, as its plate; its right as it was."""
    picture = linear(getattr(data, name)())[:396, :512]
    rgba = np.dstack([picture, np.ones(picture.shape[:2], np.float32)])
    soft, rng, frames = srgb_encode(defocused(rgba, radius)[..., :3]).astype(np.float32), np.random.default_rng(3), []
    for j in range(5):
        way = np.float32([[1, 0, -j], [0, 1, 0]])
        moved = cv2.warpAffine(soft, way, soft.shape[1::-1], borderMode=cv2.BORDER_REFLECT)
        noise = cv2.GaussianBlur(rng.standard_normal(soft.shape).astype(np.float32), (0, 0), 0.55)
        frames.append(np.clip(moved + 0.004 * noise / noise.std(), 0, 1))
    if quality is None:
        for j, each in enumerate(frames):
            write_still(folder / f"plate.{1001 + j}.png", each, "uint8")
    else:
        write_h264(folder / "plate.mp4", frames, quality)
    session = new(folder / ("plate.1001.png" if quality is None else "plate.mp4"))
    plate = session.shot.plate_source.but(encoding="sRGB")
    session.shot = session.shot.with_source(plate)
    write_still(folder / "right.exr", np.ascontiguousarray(picture[:, 256:]), "float")
    zone = session.add_painting(folder / "right.exr", 60.0)
    aim = Aim(areas=(AimArea(box=(2, 2, 240, 390), frame=session.shot.first + 2),))
    match = Match(aim=aim, air=AirMatch(on=False))
    session.shot = session.shot.with_zone(zone.but(placement=zone.placement.but(x=k(128)), match=match))
    return session


@pytest.mark.parametrize(
    ("name", "radius", "quality"),
    [("rocket", 3.3, None), ("astronaut", 6.0, 23)],
)
def test_a_wide_blur_is_told_from_noise_that_is_soft(tmp_path, name, radius, quality):
    """Soft grain, and what a codec leaves, end where the picture does: a wide blur was taken for a narrow one."""
    session = filmed_softly(tmp_path, name, radius, quality)
    lens = session.fit(added(session).id, "lens")
    assert lens.values.get("radius_px", 0.0) == pytest.approx(radius, abs=max(0.08 * radius, 0.3))


def test_a_zone_that_is_all_black_has_no_sharpness(session, tmp_path):
    write_still(tmp_path / "black.exr", np.zeros((300, 300, 3), np.float32), "float")
    zone = session.add_painting(tmp_path / "black.exr", 60.0)
    with pytest.raises(MatchError, match="zone shows no edge"):
        session.fit(zone.id, "lens")


def test_what_is_seen_without_grain_has_none(session):
    """A fit of the lens looks at the zone without the grain that was laid on it before."""
    zone = with_match(session, grain=GrainMatch(on=True))
    bare = zone.match.but(grain=GrainMatch())
    seen = [zone_seen_with(session.shot, zone, 1002, session.store, match).picture for match in (bare, zone.match)]
    without = session.shot.with_zone(zone.but(match=bare))
    assert np.array_equal(seen[0], zone_seen_with(without, zone, 1002, session.store, bare).picture)
    assert not np.array_equal(*seen)


def ruled(sigma: float, noise: float = 0.004) -> np.ndarray:
    """Slanted stripes out of a lens whose blur has a known deviation, px: ideal edges, drawn by what they cover."""
    y, x = np.mgrid[0:240, 0:320] + 0.5
    out = np.full((240, 320), 0.1)
    for k, middle in enumerate(range(30, 300, 40)):
        tilt = (0.06, 0.1, 0.14)[k % 3]
        near = x - middle - tilt * (y - 120)
        out += 0.6 * (np.clip(near + 0.5, 0, 1) - np.clip(near - 19.5, 0, 1))
    rng = np.random.default_rng(3)
    seen = gaussian_filter(out, sigma) + rng.normal(0, noise, out.shape)
    return np.repeat(seen[..., None], 3, axis=2).astype(np.float32)


@pytest.mark.parametrize("sigma", [0.6, 1.6])
def test_a_sky_is_as_soft_as_the_plate_at_its_edges(session, tmp_path, sigma):
    """The blur that was put on the plate is given to a sky that shows no edge; SciPy's Gaussian is the reference."""
    for frame in (1001, 1002):
        write_still(tmp_path / f"ruled.{frame}.exr", ruled(sigma), "float")
    rng = np.random.default_rng(5)
    clouds = gaussian_filter(rng.random((240, 320)), 4.0)
    write_still(tmp_path / "clouds.exr", np.repeat(clouds[..., None], 3, axis=2).astype(np.float32), "float")
    shot = new(tmp_path / "ruled.1001.exr")
    zone = shot.add_painting(tmp_path / "clouds.exr", None)
    near = shot.add_painting(tmp_path / "clouds.exr", 50.0)
    shot.shot = shot.shot.with_zone(near.but(match=Match(lens=LensMatch(motion_blur=True, shutter_deg=k(172)))))
    found = shot.fit(zone.id, "lens")
    assert "as the plate is at its sharpest edges" in found.words
    lens = shot.shot.zone(zone.id).match.lens
    assert (lens.motion_blur, lens.shutter_deg.constant) == (True, 172)  # one camera has one shutter
    assert found.values["softness_px"] == pytest.approx(sigma, rel=0.08, abs=0.05)


def test_a_painted_sky_that_is_as_soft_already_is_left(session, tmp_path):
    for frame in (1001, 1002):
        write_still(tmp_path / f"ruled.{frame}.exr", ruled(1.0), "float")
    write_still(tmp_path / "roofs.exr", ruled(1.2), "float")
    shot = new(tmp_path / "ruled.1001.exr")
    zone = shot.add_painting(tmp_path / "roofs.exr", None)
    found = shot.fit(zone.id, "lens")
    assert found.values["softness_px"] < 0.15
    assert "no sharper than the plate is, by its own edges" in found.words


def test_what_a_reading_says_is_said_anew_in_another_language(demo):
    shot = open_shot(demo / "SLT_0140.shot.json").shot
    sky = next(zone for zone in shot.zones if zone.distance_m is None and not shot.holds_plate(zone))
    plain = read_match(shot, sky, kept_pictures()).problem
    speak(lambda text: f"«{text}»")
    try:
        other = read_match(shot, sky, kept_pictures()).problem
    finally:
        speak(None)
    assert "at infinity" in plain
    assert other == f"«{plain}»"
    assert read_match(shot, sky, kept_pictures()).problem == plain
