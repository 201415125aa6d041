"""The finish in the frame: its order, what it reaches, how the frame leaves; looks, moods and groups."""

import json
from pathlib import Path

import av
import numpy as np
import OpenImageIO as oiio
import pytest

from stores import kept_pictures
from zonal_mantle.api import Session, add_painting, new, open_shot, shot_from_plate
from zonal_mantle.comp import compose, finish_frame
from zonal_mantle.comp.finish_planner import crop_of, finished_plan, output_size
from zonal_mantle.comp.planner import plan
from zonal_mantle.finish import FinishError, read_look
from zonal_mantle.finish.frame import resampled
from zonal_mantle.finish.glow import GlowNumbers, glowing
from zonal_mantle.finish.vignette import VignetteNumbers, vignetted
from zonal_mantle.match.lens import softened
from zonal_mantle.media import open_source
from zonal_mantle.media.curves import srgb_encode
from zonal_mantle.media.still import read_still, write_still
from zonal_mantle.shot import (
    BurnIn,
    Cdl,
    Finish,
    Glow,
    GrainMatch,
    GrainModel,
    Keyed,
    LocalLight,
    Look,
    LookUse,
    Lut,
    Match,
    Matte,
    Output,
    Patch,
    Reframe,
    Shape,
    Shot,
    ShotError,
    ToneMatch,
    Vignette,
    load,
    rectangle_key,
    save,
)
from zonal_mantle.shot.lock import Lock, LockFrame

SIZE = (96, 64)


def k(value: float) -> Keyed:
    return Keyed(constant=value)


@pytest.fixture
def shot(tmp_path: Path) -> Shot:
    """A plate of noise whose lower half stays before a plain sky, and a lock that moves 4 px a frame."""
    rng = np.random.default_rng(6)
    for frame in range(1001, 1005):
        write_still(tmp_path / f"plate.{frame}.exr", rng.uniform(0.1, 0.6, (SIZE[1], SIZE[0], 3)).astype("f4"), "float")
    write_still(tmp_path / "sky.exr", np.full((SIZE[1], SIZE[0], 3), 0.9, np.float32), "float")
    shot = shot_from_plate(open_source(tmp_path / "plate.%04d.exr", "plate"))
    shot = add_painting(shot, open_source(tmp_path / "sky.exr", "sky"), None, "Sky")
    shape = Shape(id="k", keys=(rectangle_key(1001, (0, 32), (96, 64)),))
    shot = shot.with_zone_matte(shot.zones[0], Matte(id="m", name="Foot", shapes=(shape,)))
    entries = tuple(
        LockFrame(frame=1001 + n, homography=(1.0, 0.0, 4.0 * n, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)) for n in range(4)
    )
    return shot.with_lock(Lock(id="lock", name="Walls", kind="plane", reference_frame=1001, solved=entries))


def seen(shot: Shot, frame: int = 1001, scale: float = 1.0) -> np.ndarray:
    return finish_frame(shot, frame, kept_pictures(), scale)


def light(reach: str = "all", zone: str | None = None, rides: str | None = None, **values: float) -> LocalLight:
    shape = Shape(id="s", keys=(rectangle_key(1001, (20, 10), (40, 50)),), rides=rides)
    return LocalLight(
        id="light1", shape=shape, reach=reach, zone=zone, **{name: k(value) for name, value in values.items()}
    )


# --- what is not touched ---
def test_a_shot_without_a_finish_leaves_bit_for_bit(shot):
    assert np.array_equal(seen(shot), compose(shot, 1001, kept_pictures()))
    toned = shot.but(finish=Finish(on=False, tone=ToneMatch(exposure_stops=k(2.0))))
    assert finished_plan(toned, 1001).digest == plan(shot, 1001).digest


def test_fits_and_readings_look_at_the_picture_before_its_finish(shot):
    toned = shot.but(finish=Finish(tone=ToneMatch(exposure_stops=k(2.0))))
    assert np.array_equal(compose(toned, 1001, kept_pictures()), compose(shot, 1001, kept_pictures()))
    assert np.allclose(seen(toned)[..., :3], 4 * seen(shot)[..., :3], rtol=1e-5)


# --- order ---
def test_the_order_is_tone_lut_glow_vignette_light_grain(shot, tmp_path):
    at = np.linspace(0, 1, 2)
    rows = "".join(f"{1 - r} {g} {b}\n" for b in at for g in at for r in at)
    (tmp_path / "negative.cube").write_text("LUT_3D_SIZE 2\n" + rows)
    model = GrainModel(deviation=((0.02, 0.02, 0.02),) * 3)
    finish = Finish(
        tone=ToneMatch(exposure_stops=k(0.5)),
        lut=Lut(path=str(tmp_path / "negative.cube")),
        glow=Glow(on=True, level=k(0.3), amount=k(0.5), radius_px=k(3.0)),
        vignette=Vignette(on=True, stops=k(-1.0)),
        lights=(light(exposure_stops=1.0),),
        grain=GrainMatch(on=True, model=model),
    )
    out = seen(shot.but(finish=finish))
    # the same by hand, step by step
    picture = compose(shot, 1001, kept_pictures())
    picture[..., :3] *= 2**0.5
    code = np.clip(srgb_encode(picture[..., :3]), 0, 1)
    code[..., 0] = 1 - code[..., 0]
    linear = np.where(code <= 0.04045, code / 12.92, ((code + 0.055) / 1.055) ** 2.4)
    picture[..., :3] = linear
    picture = glowing(picture, GlowNumbers(0.3, (0.5, 0.5, 0.5), 3.0, (0.0, 0.0, 0.0), 8.0))
    picture = vignetted(picture, VignetteNumbers((0.5, 0.5), 1.5, False, -1.0, 0.3, 1.0))
    picture[10:50, 20:40, :3] *= 2
    without = seen(shot.but(finish=finish.but(grain=GrainMatch())))
    assert np.abs(without - picture)[..., :3].max() < 2e-3
    noise = srgb_encode(out[..., :3]) - srgb_encode(without[..., :3])
    assert noise.std() == pytest.approx(0.02, rel=0.05)  # on all of the picture, plate or not


def test_nothing_of_the_finish_changes_with_the_proxy_but_its_size(shot):
    finish = Finish(vignette=Vignette(on=True), output=Output(crop=(16, 8, 80, 56), width=128, height=96))
    whole, half = (seen(shot.but(finish=finish), scale=s) for s in (1.0, 0.5))
    assert whole.shape == (96, 128, 4)
    assert half.shape == (48, 64, 4)
    assert abs(whole[..., :3].mean() - half[..., :3].mean()) < 0.01


# --- local light ---
def test_a_local_light_rides_on_its_lock(shot):
    lit = shot.but(finish=Finish(lights=(light(rides="lock", exposure_stops=1.0),)))
    changed = np.abs(seen(lit, 1003) - seen(shot, 1003)).max(axis=2) > 1e-4
    columns = np.flatnonzero(changed.any(axis=0))
    assert (columns.min(), columns.max()) == (28, 47)  # 20 … 40, moved by two frames of 4 px


def test_a_local_light_behind_a_zone_leaves_that_zone_alone(shot):
    plate = shot.zones[0].id
    behind = shot.but(finish=Finish(lights=(light("behind", plate, exposure_stops=1.0),)))
    before = shot.but(finish=Finish(lights=(light("before", plate, exposure_stops=1.0),)))
    change = [np.abs(seen(each) - seen(shot))[..., :3].max(axis=2) for each in (behind, before)]
    assert change[0][10:32, 20:40].min() > 0.5
    assert change[0][32:].max() == 0
    assert change[1][:32].max() == 0
    assert change[1][32:50, 20:40].min() > 0.05


# --- the frame as it leaves ---
def test_sizes_and_crops_are_exact(shot):
    crop = shot.but(finish=Finish(output=Output(crop=(10, 4, 74, 40))))
    assert output_size(crop) == (64, 36)
    assert np.array_equal(seen(crop), seen(shot)[4:40, 10:74])
    wide = shot.but(finish=Finish(output=Output(width=192)))
    assert seen(wide).shape == (128, 192, 4)
    assert np.array_equal(seen(wide), resampled(seen(shot), (0, 0, 96, 64), (192, 128)))


def test_another_shape_of_frame_stands_in_the_middle_and_is_not_stretched(shot):
    tall = seen(shot.but(finish=Finish(output=Output(width=96, height=96))))
    assert tall.shape == (96, 96, 4)
    assert np.array_equal(tall[16:80], seen(shot))
    assert tall[:16, :, :3].max() == 0


def test_a_push_in_shows_a_smaller_part(shot):
    pushed = seen(shot.but(finish=Finish(reframe=Reframe(on=True, size=k(2.0), x=k(10.0), y=k(-4.0)))))
    assert np.array_equal(pushed, resampled(seen(shot), (34, 12, 82, 44), SIZE))


def test_a_squeezed_shot_leaves_bit_for_bit_and_says_its_pixels(shot, tmp_path):
    squeezed = shot.with_source(shot.plate_source.but(pixel_aspect=2.0))
    session = Session(squeezed)
    (whole,) = session.render(tmp_path / "float", first=1001, last=1001, depth="float")
    assert np.array_equal(read_still(whole)[0][32:, :, :3], session.plate(1001)[32:])  # where it is untouched
    for format in ("exr", "png"):
        (file,) = session.render(tmp_path / format, first=1001, last=1001, format=format)
        spec = oiio.ImageInput.open(str(file)).spec()
        assert (spec.width, spec.height) == SIZE
        assert spec.get_float_attribute("PixelAspectRatio") == pytest.approx(2.0, abs=1e-3)
    (file,) = session.render(tmp_path / "video", format="prores")
    with av.open(str(file)) as video:
        assert video.streams.video[0].sample_aspect_ratio == 2


def test_a_squeezed_shot_leaves_with_square_pixels_where_that_is_asked(shot, tmp_path):
    squeezed = shot.with_source(shot.plate_source.but(pixel_aspect=2.0))
    session = Session(squeezed.but(finish=Finish(output=Output(pixel_aspect=1.0))))
    assert output_size(session.shot) == (192, 64)
    (file,) = session.render(tmp_path, first=1001, last=1001)
    spec = oiio.ImageInput.open(str(file)).spec()
    assert (spec.width, spec.height, spec.get_float_attribute("PixelAspectRatio", 1.0)) == (192, 64, 1.0)


def test_bars_and_words_are_the_last(shot):
    finish = Finish(output=Output(aspect=2.0, bars=True), burn_in=BurnIn(on=True, version="v003"))
    out = seen(shot.but(finish=finish))
    assert out[:8, :, :3].max() == 0  # 96 / 2.0 = 48 rows of 64
    assert np.array_equal(out[8:50], seen(shot)[8:50])
    assert out[56:, :, :3].max() > 0.5  # the words lie on the bar


@pytest.mark.parametrize(
    ("crop", "left", "words"),
    [((-50, -10, 60, 40), (0, 0, 60, 40), "reaches beyond"), ((200, 200, 300, 300), (0, 0, 96, 64), "lies outside")],
)
def test_a_crop_beside_the_plate_is_said_and_held(shot, crop, left, words):
    cropped = shot.but(finish=Finish(output=Output(crop=crop)))
    assert crop_of(cropped) == left
    assert np.array_equal(seen(cropped), seen(shot)[left[1] : left[3], left[0] : left[2]])
    found = Session(cropped).readings().findings
    assert any(words in each.words for each in found if each.stage == "Finish")


@pytest.mark.parametrize("size", [{"width": 1}, {"width": 64_000}, {"height": 0}, {"crop": (0, 0, 1, 1)}])
def test_a_frame_of_no_size_or_of_too_much_is_refused(size):
    with pytest.raises(ValueError):
        Output(**size)


def test_a_lut_that_cannot_be_used_is_a_finding_and_stops_a_render(shot, tmp_path):
    broken = shot.but(finish=Finish(lut=Lut(path=str(tmp_path / "gone.cube"))))
    with pytest.raises(FinishError, match=r"gone.cube is missing"):
        seen(broken)
    assert any("gone.cube is missing" in each.words for each in Session(broken).readings().findings)


def test_an_empty_border_is_found_and_hidden_by_the_least_push_in(shot):
    sky = shot.zones[1]
    moved = shot.with_zone(sky.but(placement=sky.placement.but(x=k(9.6))))  # a tenth of the frame has no sky
    session = Session(moved)
    assert any("Hide border" in each.words for each in session.readings().findings)
    session.hide_border()
    reframe = session.shot.finish.reframe
    assert reframe.on
    assert reframe.size.at(1001) == pytest.approx(1 / 0.9, rel=0.06)
    out = session.frame(1001)
    assert out[..., 3].min() > 0.99
    assert not any("Hide border" in each.words for each in session.readings().findings)
    assert not Session(shot).hide_border().finish.reframe.on


# --- looks ---
def test_a_look_is_saved_read_and_laid_on_by_its_strength(shot, tmp_path):
    session = Session(shot.but(finish=Finish(tone=ToneMatch(exposure_stops=k(1.0)), glow=Glow(on=True))))
    path = session.save_look(tmp_path / "bright.look.json", "Bright")
    data = json.loads(path.read_text())
    assert (data["format"], data["version"]) == ("zonal-mantle-look", 1)
    plain = Session(shot)
    plain.look(path, strength=0.5)
    assert plain.shot.finish.look.look.glow.on
    flat = plain.shot.finish.look.look.but(glow=Glow())
    plain.edit(finish=Finish(look=LookUse(look=flat, strength=k(0.5))))
    assert np.allclose(plain.frame(1001)[..., :3], 2**0.5 * seen(shot)[..., :3], rtol=1e-4)
    plain.edit(finish=Finish(look=LookUse(look=flat, strength=k(0.0))))
    assert np.array_equal(plain.frame(1001), seen(shot))


def test_a_look_on_a_zone_changes_that_zone_alone(shot):
    session = Session(shot)
    sky = shot.zones[1].id
    session.look("White noon", sky)
    out = session.composite(1001)
    assert np.array_equal(out[33:], seen(shot)[33:])
    assert np.abs(out[:30] - seen(shot)[:30]).max() > 0.01


def test_the_looks_that_ship_can_be_used_and_have_pictures(shot):
    from zonal_mantle.finish import looks_in

    for name, path in looks_in().items():
        found = read_look(path)
        assert found.look.name == name
        assert found.picture[:4] == b"\x89PNG"
        assert path.stat().st_size < 100_000
        session = Session(shot)
        session.look(name)
        assert np.abs(session.frame(1001) - seen(shot)).max() > 0.01


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "not readable as JSON"),
        ("[]", "is not a look"),
        ('{"format": "zonal-mantle-look", "version": 2}', "newer release"),
        ('{"format": "zonal-mantle-look", "version": 1, "look": {"tone": {"warmth": 3}}}', "cannot be used"),
        ('{"format": "zonal-mantle-look", "version": 1, "look": {}, "picture": 7}', ""),
    ],
)
def test_a_bad_look_is_said_and_changes_nothing(shot, tmp_path, text, words):
    path = tmp_path / "bad.look.json"
    path.write_text(text)
    session = Session(shot)
    if not words:
        assert read_look(path).picture == b""
        return
    with pytest.raises(FinishError, match=words):
        session.look(path)
    assert session.shot == shot
    with pytest.raises(FinishError, match="There is no look Nowhere"):
        session.look("Nowhere")


# --- groups ---
def test_a_group_tones_softens_and_switches_its_zones_as_one(shot):
    sky = shot.zones[1]
    shot = shot.grouped(sky, "Far")
    group = shot.groups[0]
    assert shot.zone(sky.id).group == group.id != "Far"
    toned = shot.with_group(group.but(tone=ToneMatch(exposure_stops=k(-1.0))))
    assert np.allclose(compose(toned, 1001, kept_pictures())[:31, :, :3], 0.45, atol=1e-4)
    off = shot.with_group(group.but(on=False))
    assert compose(off, 1001, kept_pictures())[:31, :, 3].max() == 0
    soft = shot.with_group(group.but(softness_px=k(3.0)))
    alone = compose(shot, 1001, kept_pictures(), 1.0, [shot.zone(sky.id)])
    found = compose(soft, 1001, kept_pictures(), 1.0, [soft.zone(sky.id)])
    assert np.abs(found - softened(alone, 3.0))[13:-13, 13:-13].max() < 1e-3
    renamed = toned.with_group(toned.groups[0].but(name="Skies"))
    assert np.array_equal(compose(renamed, 1001, kept_pictures()), compose(toned, 1001, kept_pictures()))


def test_wrap_and_blend_of_a_group_are_at_its_farthest(shot, tmp_path):
    write_still(tmp_path / "card.exr", np.full((20, 30, 3), 0.2, np.float32), "float")
    for number, distance in enumerate((100.0, 200.0)):
        shot = add_painting(shot, open_source(tmp_path / "card.exr", f"card{number}"), distance, f"Card {number}")
        shot = shot.grouped(shot.zones[-1], "Cards")
    group = shot.groups[0].but(mode="multiply", wrap_px=k(6.0))
    layers = {layer.zone: layer for layer in plan(shot.with_group(group), 1001).layers}
    near, far = (zone.id for zone in shot.members(group.id))
    assert (layers[near].mode, layers[far].mode) == ("normal", "multiply")
    assert layers[near].wrap is None
    assert layers[far].wrap is not None


def test_a_group_goes_with_its_last_zone(shot):
    shot = shot.grouped(shot.zones[1], "Far")
    assert shot.grouped(shot.zones[1], "").groups == ()
    assert shot.without_zone(shot.zones[1].id).groups == ()


# --- moods, the file ---
def test_moods_hold_finish_air_and_tones_and_come_back(shot):
    session = Session(shot)
    session.keep_mood("Evening")
    warm = Finish(tone=ToneMatch(temperature_k=k(4000.0)))
    sky = shot.zones[1]
    session.edit(finish=warm, air=shot.air.but(visibility_m=2000.0))
    session.shot = session.shot.with_zone(sky.but(match=Match(tone=ToneMatch(cdl=Cdl(saturation=k(0.2))))))
    session.go_to_mood("As it was")
    assert session.shot.finish == Finish()
    assert session.shot.air == shot.air
    assert session.shot.zone(sky.id) == sky
    session.go_to_mood("Evening")
    assert session.shot.finish == warm
    assert session.shot.zone(sky.id).match.tone.cdl.saturation.at(1001) == 0.2
    assert [mood.name for mood in session.moods()] == ["As it was", "Evening"]
    with pytest.raises(ShotError, match="no such mood"):
        session.go_to_mood("Storm")


def test_a_finish_is_saved_with_paths_beside_the_shot(shot, tmp_path):
    (tmp_path / "look.cube").write_text("LUT_3D_SIZE 2\n" + "0 0 0\n" * 8)
    finish = Finish(
        lut=Lut(path=str(tmp_path / "look.cube")), lights=(light(rides="lock"),), burn_in=BurnIn(on=True),
    )  # fmt: skip
    session = Session(shot.but(finish=finish, patches=(Patch(id="patch1", box=(1, 2, 9, 9), frame=1001),)))
    session.keep_mood("Night")
    path = session.save(tmp_path / "a.shot.json")
    data = json.loads(path.read_text())
    assert data["finish"]["lut"]["path"] == "look.cube"
    assert all(mood["finish"]["lut"]["path"] == "look.cube" for mood in data["moods"])
    assert load(path) == session.shot


def test_a_shot_of_format_8_keeps_its_groups_by_id(shot, tmp_path):
    data = json.loads(shot.model_dump_json())
    data["version"] = 8
    for name in ("finish", "groups", "moods", "mood", "patches"):
        data.pop(name, None)
    for zone, group in zip(data["zones"], ("Far", "Far")):
        zone["group"] = group
        zone.pop("look", None)
    path = tmp_path / "old.shot.json"
    path.write_text(json.dumps(data))
    back = load(path)
    assert [zone.group for zone in back.zones] == ["group1", "group1"]
    assert [(group.id, group.name) for group in back.groups] == [("group1", "Far")]
    assert np.array_equal(seen(back), seen(shot))


def test_what_a_finish_goes_by_is_let_go_when_it_is_removed(shot):
    sky = shot.zones[1].id
    shot = shot.but(
        finish=Finish(lights=(light("behind", sky, "lock"),)),
        patches=(Patch(id="patch1", box=(1, 2, 9, 9), frame=1001, rides="lock"),),
    )
    bare = shot.without_lock("lock").without_zone(sky)
    assert bare.finish.lights[0].shape.rides is None
    assert (bare.finish.lights[0].zone, bare.finish.lights[0].reach) == (None, "all")
    assert bare.patches[0].rides is None


# --- measured ---
def test_a_scope_of_the_session_counts_what_is_seen(shot):
    session = Session(shot)
    whole = session.scope(1001, "histogram")
    assert whole.pixels == SIZE[0] * SIZE[1]
    sky = session.scope(1001, "histogram", zone=shot.zones[1].id)
    assert int(sky.counts[1].argmax()) == pytest.approx((srgb_encode(np.array(0.9)) + 0.1) / 1.3 * 260, abs=1)
    part = session.scope(1001, "waveform", region=(0, 40, 10, 50))
    assert part.pixels == 100
    with pytest.raises(FinishError, match="lies outside"):
        session.scope(1001, "waveform", region=(500, 500, 600, 600))


def test_patches_are_followed_over_the_shot(shot):
    steady = Patch(id="patch1", box=(4, 4, 20, 20), frame=1001)
    session = Session(shot.but(patches=(steady, steady.but(id="patch2", box=(80, 40, 95, 60), rides="lock"))))
    rising = Finish(tone=ToneMatch(exposure_stops=Keyed().with_key(1001, 0.0).with_key(1004, -1.0)))
    session.edit(finish=rising)
    flat, riding = session.patch_curves()
    assert flat.frames == (1001, 1002, 1003, 1004)
    assert flat.delta_e[0] == 0
    assert flat.delta_e[3] > 10
    assert riding.delta_e[1:] == (None, None, None)  # it leaves the frame with its lock
    assert flat.worst == max(flat.delta_e)


def test_the_plates_own_vignette_is_told_on_a_photograph(tmp_path):
    from skimage import data

    from zonal_mantle.media.curves import srgb_decode

    picture = srgb_decode(data.coffee().astype(np.float64) / 255).astype(np.float32)
    width, height, step = 360, 240, 40
    yy, xx = np.mgrid[:height, :width]
    r2 = ((xx + 0.5 - width / 2) ** 2 + (yy + 0.5 - height / 2) ** 2) / (width**2 + height**2) * 4
    dark = 2.0 ** (-0.8 * r2)
    for n in range(6):
        part = picture[80 : 80 + height, n * step : n * step + width] * dark[..., None]
        write_still(tmp_path / f"p.{1001 + n}.exr", part.astype(np.float32), "float")
    session = new(tmp_path / "p.%04d.exr")
    with pytest.raises(FinishError, match="solve one"):
        session.plate_vignette()
    entries = tuple(
        LockFrame(frame=1001 + n, homography=(1.0, 0.0, -float(step * n), 0.0, 1.0, 0.0, 0.0, 0.0, 1.0))
        for n in range(6)
    )
    session.shot = session.shot.with_lock(
        Lock(id="lock", name="Table", kind="plane", reference_frame=1001, solved=entries)
    )
    found = session.plate_vignette()
    assert found.stops == pytest.approx(-0.8, abs=0.12)
    assert abs(found.stops + 0.8) < 3 * found.give


def test_the_session_of_a_saved_shot_has_its_looks(shot, tmp_path):
    session = Session(shot.but(finish=Finish(look=LookUse(look=Look(name="Own")))))
    again = open_shot(session.save(tmp_path / "b.shot.json"))
    assert again.shot.finish.look.look.name == "Own"
    save(again.shot, tmp_path / "c.shot.json")
