"""What is said of a zone's grain, on photographs that scikit-image ships, with noise of NumPy's."""

import json

import cv2
import numpy as np
import pytest
from skimage import data

from stores import kept_pictures
from zonal_mantle.api import Session, new
from zonal_mantle.comp import mend_of, take_readings
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import GrainMatch, Keyed, Match
from zonal_mantle.shot.hang import Blend

FRAMES = 3
PHOTOGRAPH = data.coffee()[:396].astype(np.float32) / 255 * 0.94 + 0.03
KINDS = {"white": (0.012, 0.0, None), "wide": (0.015, 0.8, None), "jpeg": (0.02, 0.6, 90), "none": (0.0, 0.0, None)}


def noisy(picture: np.ndarray, kind: str, seed: int) -> np.ndarray:
    strength, wide, quality = KINDS[kind]
    noise = np.random.default_rng(seed).standard_normal(picture.shape).astype(np.float32)
    noise = cv2.GaussianBlur(noise, (0, 0), wide) if wide else noise
    codes = np.clip(np.round((picture + strength * noise / noise.std()) * 255), 0, 255).astype(np.uint8)
    if quality is None:
        return codes
    _, packed = cv2.imencode(".jpg", codes[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, quality])
    return np.ascontiguousarray(cv2.imdecode(packed, cv2.IMREAD_COLOR)[..., ::-1])


def filmed(folder, kind: str) -> Session:
    """The left of a photograph with noise as the plate; its right, without, as a painting before it."""
    for k in range(FRAMES):
        picture = noisy(PHOTOGRAPH[:, :400], kind, k)
        write_still(folder / f"plate.{1001 + k}.png", np.float32(picture) / 255, "uint8")
    write_still(folder / "right.png", PHOTOGRAPH[:, 400:], "uint8")
    session = new(folder / "plate.1001.png")
    session.add_painting(folder / "right.png", 40.0)
    return session


def read(session: Session, grain: GrainMatch | None = None):
    """What is read of the last zone, with a grain, and what is said of it."""
    shot, zone = session.shot, session.shot.zones[-1]
    if grain is not None:
        shot = shot.with_zone(zone.but(match=zone.match.but(grain=grain)))
    found = take_readings(shot, kept_pictures())
    said = [each for each in found.findings if each.fault == "grain" and each.part == zone.id]
    return found.grains[zone.id], said


def k(value: float) -> Keyed:
    return Keyed(constant=value)


@pytest.mark.parametrize("kind", ["wide", "jpeg"])
def test_grain_that_was_fitted_is_good_and_grain_that_is_wrong_is_not(tmp_path, kind):
    session = filmed(tmp_path, kind)
    bare, said = read(session)
    assert "has no grain" in said[0].words
    assert bare.compared.ratio == 0
    assert mend_of(session.shot, said[0]).what == "fit grain"
    session.fit(session.shot.zones[-1].id, "grain")
    grain = session.shot.zones[-1].match.grain
    right, said = read(session)
    assert said == []
    assert right.compared.ratio == pytest.approx(1, abs=0.12)
    assert right.compared.width == pytest.approx(1, abs=0.1)
    assert "of 255, the plate's" in right.words
    for strength in (0.5, 2.0):
        wrong, said = read(session, grain.but(strength=k(strength)))
        assert wrong.compared.ratio == pytest.approx(strength, rel=0.12)
        assert "its grain is" in said[0].words
    _, said = read(session, grain.but(size=k(1.8)))
    assert "coarser" in said[0].words
    plain = json.loads(json.dumps(session.readings().as_dict()))["grains"][session.shot.zones[-1].id]
    assert plain["compared"]["ratio"] == pytest.approx(right.compared.ratio)


def test_a_plate_without_grain_asks_for_none(tmp_path):
    session = filmed(tmp_path, "none")
    assert read(session)[1] == []
    _, said = read(session, GrainMatch(on=True))  # a hundredth, as it is before it is fitted
    assert said == [] or "the plate's" in said[0].words


def test_a_filmed_clip_brings_its_own(tmp_path):
    session = filmed(tmp_path, "white")
    for j in range(FRAMES):
        picture = np.float32(noisy(PHOTOGRAPH[:, 200:600], "white", 50 + j)) / 255
        write_still(tmp_path / f"clip.{1001 + j}.png", picture, "uint8")
    session.add_painting(tmp_path / "clip.1001.png", 30.0)
    own, said = read(session)
    assert own.compared.ratio == pytest.approx(1, abs=0.15)
    assert said == []
    before = session.shot
    laid = session.fit(session.shot.zones[-1].id, "grain")
    both, said = read(session)
    assert both.compared.ratio == pytest.approx(1, abs=0.15)  # next to nothing is laid over it
    again = session.fit(session.shot.zones[-1].id, "grain")
    assert again.words == laid.words  # what was laid is not taken for the clip's own
    assert session.shot != before
    assert said == []
    grain = session.shot.zones[-1].match.grain
    twice, said = read(session, grain.but(model=grain.model.but(deviation=((0.012,) * 3,) * len(grain.model.levels))))
    assert twice.compared.ratio == pytest.approx(np.sqrt(2), abs=0.2)  # as much again is too much
    assert said


def test_only_what_a_clip_lacks_is_laid_over_it(tmp_path):
    session, rng, share = filmed(tmp_path, "white"), np.random.default_rng(9), 0.5
    for j in range(FRAMES):
        grained = PHOTOGRAPH[:, 200:600] + share * 0.012 * rng.standard_normal((396, 400, 3))
        write_still(tmp_path / f"clip.{1001 + j}.png", np.float32(np.clip(grained, 0, 1)), "uint16")
    session.add_painting(tmp_path / "clip.1001.png", 30.0)
    assert read(session)[0].compared.ratio == pytest.approx(share, abs=0.1)
    fitted = session.fit(session.shot.zones[-1].id, "grain")
    assert "less what the clip has of itself" in fitted.words
    assert "nothing is missing" not in fitted.words
    assert read(session)[0].compared.ratio == pytest.approx(1, abs=0.1)


def test_light_that_is_added_and_the_plate_itself_are_not_asked(tmp_path):
    session = filmed(tmp_path, "white")
    zone = session.shot.zones[-1]
    shot = session.shot.with_zone(zone.but(blend=Blend(mode="plus")))
    assert take_readings(shot, kept_pictures()).grains == {}
    assert list(session.readings().grains) == [zone.id]


def test_what_cannot_be_compared_says_why(tmp_path):
    session = filmed(tmp_path, "white")
    zone = session.shot.zones[-1]
    off = session.shot.with_zone(zone.but(placement=zone.placement.but(x=k(5000)), match=Match()))
    found = take_readings(off, kept_pictures())
    assert "Too little of" in found.grains[zone.id].words
    assert not [each for each in found.findings if each.fault == "grain"]
