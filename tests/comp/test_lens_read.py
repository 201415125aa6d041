"""What is said of how sharp a zone is beside the aim that was drawn for it, on photographs that scikit-image ships."""

import json

import numpy as np
import pytest
from skimage import data

from h264 import write_h264
from stores import kept_pictures
from zonal_mantle.api import Session, new
from zonal_mantle.comp import mend_of, take_readings
from zonal_mantle.comp.readings_lens import LensReading
from zonal_mantle.match.lens import defocused
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import Keyed, Match
from zonal_mantle.shot.match import Aim, AimArea, AirMatch


def filmed(folder, name: str, radius: float, amount: float = 0.006, quality: int | None = None) -> Session:
    """A photograph out of focus, with noise, as the plate, as PNG or as H.264 of a quality; its right half, sharp, as a
    painting where it was."""
    light = srgb_decode(getattr(data, name)()[:400].astype(np.float64) / 255).astype(np.float32)
    rgba = np.dstack([light, np.ones(light.shape[:2], np.float32)])
    seen = srgb_encode(defocused(rgba, radius)[..., :3] if radius else light)
    noisy = [np.clip(seen + np.random.default_rng(k).normal(0, amount, seen.shape), 0, 1) for k in range(3)]
    if quality is not None:
        write_h264(folder / "plate.mp4", noisy, quality)
    for k, frame in enumerate(noisy if quality is None else []):
        write_still(folder / f"plate.{1001 + k}.png", np.float32(frame), "uint8")
    middle = light.shape[1] // 2
    write_still(folder / "right.exr", np.ascontiguousarray(light[:, middle:]), "float")
    session = new(folder / ("plate.1001.png" if quality is None else "plate.mp4"))
    zone = session.add_painting(folder / "right.exr", 60.0)
    aim = Aim(areas=(AimArea(box=(2.0, 2.0, middle - 8.0, 398.0), frame=session.shot.first + 1),))
    place = zone.placement.but(x=Keyed(constant=middle / 2))
    session.shot = session.shot.with_zone(zone.but(placement=place, match=Match(aim=aim, air=AirMatch(on=False))))
    return session


def read(session: Session, radius: float | None = None):
    """What is read of the last zone, out of focus by hand, and what is said of it."""
    shot, zone = session.shot, session.shot.zones[-1]
    if radius is not None:
        lens = zone.match.lens.but(on=True, radius_px=Keyed(constant=radius))
        shot = shot.with_zone(zone.but(match=zone.match.but(lens=lens)))
    found = take_readings(shot, kept_pictures())
    return found.lenses[zone.id], [each for each in found.findings if each.fault == "lens"]


@pytest.mark.parametrize(("name", "radius"), [("astronaut", 3.3), ("coffee", 0.0)])
def test_a_focus_that_is_wrong_is_found_and_a_right_one_is_not_blamed(tmp_path, name, radius):
    session = filmed(tmp_path, name, radius)
    right, said = read(session, radius)
    assert said == []
    assert abs(right.wider) < 0.4
    wrong, said = read(session, 0.0 if radius else 4.0)
    assert wrong.off == ("sharper" if radius else "softer")
    assert wrong.off in said[0].words
    mend = mend_of(session.shot, said[0])
    assert (mend.what, mend.part) == ("fit lens", session.shot.zones[-1].id)


def test_a_fit_answers_the_finding_and_says_how_far_off_it_may_be(tmp_path):
    session = filmed(tmp_path, "coffee", 3.3)
    assert read(session)[1]
    found = session.fit(session.shot.zones[-1].id, "lens")
    assert abs(found.values["radius_px"] - 3.3) < 2 * found.values["spread_px"]
    assert "±" in found.words
    assert read(session)[1] == []
    plain = json.loads(json.dumps(session.readings().as_dict()))["lenses"][session.shot.zones[-1].id]
    assert plain["aim_px"] > 0.5


def test_where_no_aim_was_drawn_nothing_is_said(tmp_path):
    session = filmed(tmp_path, "coffee", 3.3)
    zone = session.shot.zones[-1]
    session.shot = session.shot.with_zone(zone.but(match=zone.match.but(aim=Aim())))
    assert read(session, 0.0)[1] == []


def test_edges_that_noise_hides_are_not_judged(tmp_path):
    session = filmed(tmp_path, "coffee", 9.0, amount=0.15)
    seen, said = read(session, 0.0)
    assert (seen.wider, said) == (None, [])


def test_a_focus_is_judged_through_the_plates_codec(tmp_path):
    """H.264 makes soft edges look sharper; the zone is put through it as well, so that too soft is a finding too."""
    session = filmed(tmp_path, "coffee", 0.0, quality=26)
    right, said = read(session, 0.0)
    assert (right.off, right.compressed, said) == (None, False, [])
    wrong, said = read(session, 4.0)
    assert wrong.off == "softer"
    assert "softer" in said[0].words


def test_where_the_codecs_step_is_not_told_only_what_is_too_sharp_is_said():
    """A codec makes soft edges look sharper: a zone that is as soft as the plate was reads as softer."""
    assert LensReading(1, 1.0, 1.0, 0.9, compressed=True).off is None
    assert LensReading(1, 1.0, 1.0, 0.9).off == "softer"
    assert LensReading(1, 1.0, 1.0, -0.9, compressed=True).off == "sharper"
