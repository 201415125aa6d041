"""The analytic sky against its standard and a reference implementation; the library's suns; which sky fits."""

import subprocess
from pathlib import Path

import numpy as np
import pyradiance
import pytest

from hung import shot_with
from zonal_mantle.comp import Pictures
from zonal_mantle.comp.fits import _lab, fits_this_plate
from zonal_mantle.place.light import sky_light
from zonal_mantle.shot import Light
from zonal_mantle.skies import PLANS, make_library, read_library, sky_picture
from zonal_mantle.skies.library import around_rays, framed_horizon, framed_rays
from zonal_mantle.skies.model import CLEAR, KINDS, OVERCAST, chromaticity, luminance, rgb, sun_colour, toward

RADIANCE = Path(pyradiance.__file__).parent


@pytest.mark.parametrize("height", [12, 35, 60])
def test_the_clear_sky_is_that_of_the_reference_implementation(height):
    """Radiance (pyradiance): `gensky +s` is the CIE clear sky, evaluated by its own `skybright.cal` through `rcalc`."""
    sky = subprocess.run(
        [RADIANCE / "bin" / "gensky", "-ang", str(height), "40", "+s"], capture_output=True, text=True, check=True
    ).stdout
    numbers = sky.split("skybright.cal")[1].split()
    arguments = [float(v) for v in numbers[2:9]]
    sun = np.array(arguments[4:7])
    chance = np.random.default_rng(1)
    rays = chance.normal(size=(40, 3))
    rays[:, 2] = np.abs(rays[:, 2]) + 0.15
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    constants = "".join(f"A{k + 1}:{value};" for k, value in enumerate(arguments))
    out = subprocess.run(
        [RADIANCE / "bin" / "rcalc", "-f", str(RADIANCE / "lib" / "rayinit.cal"), "-f",
         str(RADIANCE / "lib" / "skybright.cal"), "-e", constants, "-e", "Dx=$1;Dy=$2;Dz=$3;$1=sunnysky"],
        input="\n".join(" ".join(map(str, ray)) for ray in rays), capture_output=True, text=True, check=True,
    ).stdout  # fmt: skip
    theirs = np.array([float(v) for v in out.split()])
    # ours looks along z with y down; theirs has z up
    mine = np.stack([rays[:, 0], -rays[:, 2], rays[:, 1]], axis=1)
    ours = luminance(mine, np.array([sun[0], -sun[2], sun[1]]), CLEAR)
    assert ours / ours.mean() == pytest.approx(theirs / theirs.mean(), rel=2e-3)


def test_the_overcast_sky_is_three_times_brighter_overhead():
    """CIE standard overcast (Moon & Spencer 1942): L = Lz (1 + 2 sin h) / 3; kind 1 is near it."""
    for high in (10, 30, 60, 90):
        ray = toward(70, high)
        traditional = (1 + 2 * np.sin(np.radians(high))) / 3
        assert luminance(ray, toward(0, 40), OVERCAST) == pytest.approx(traditional, abs=0.1)


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_every_kind_is_one_at_the_zenith(kind):
    assert luminance(np.array([0.0, -1, 0]), toward(30, 50), kind) == pytest.approx(1)


def test_a_clear_sky_is_blue_away_from_the_sun_and_pale_near_it():
    """Facts of the trade: common practice."""
    sun = toward(0, 40)
    colour = {}
    for name, ray in (("away", toward(180, 60)), ("near", toward(3, 44)), ("low", toward(120, 3))):
        x, y = chromaticity(ray[None], sun, 2.5)
        colour[name] = rgb(x, y, np.array([0.3]))[0]
    blueness = {name: c[2] / c[0] for name, c in colour.items()}
    assert blueness["away"] > 1.6
    assert blueness["away"] > blueness["near"]
    assert blueness["away"] > blueness["low"]
    high, low = sun_colour(60), sun_colour(2)
    assert low[0] / low[2] > 3 * high[0] / high[2]


def test_pictures_look_where_they_say():
    rays = around_rays((64, 32))
    assert rays[16, 32] == pytest.approx([0, 0, 1], abs=0.1)
    assert rays[0, 10] == pytest.approx([0, -1, 0], abs=0.1)
    framed = framed_rays((640, 360), 62.0, 13.0)
    row = framed_horizon((640, 360), 62.0, 13.0)
    assert framed[int(row), 320, 1] == pytest.approx(0, abs=0.003)


@pytest.mark.parametrize("plan", PLANS, ids=lambda plan: plan.name)
def test_the_suns_side_is_right_on_all_our_skies(plan):
    """The issue's floor."""
    framed = sky_light(sky_picture(plan, False, (240, 136)))
    assert framed.side == ("right" if plan.bearing_deg > 0 else "left")
    around = sky_light(sky_picture(plan, True, (512, 256)), around=True)
    assert (around.bearing_deg - plan.bearing_deg + 180) % 360 - 180 == pytest.approx(0, abs=25)


@pytest.fixture(scope="module")
def library(tmp_path_factory):
    folder = tmp_path_factory.mktemp("skies")
    return folder, make_library(folder, small=16)


def test_the_library_is_made_once_and_found_again(library):
    folder, cards = library
    assert len(cards) == 2 * len(PLANS)
    assert read_library(folder) == cards
    stamps = [(folder / card.file).stat().st_mtime_ns for card in cards]
    assert make_library(folder, small=16) == cards
    assert stamps == [(folder / card.file).stat().st_mtime_ns for card in cards]
    (folder / cards[0].file).rename(folder / "away.exr")
    assert read_library(folder) is None
    (folder / "away.exr").rename(folder / cards[0].file)


@pytest.mark.parametrize("side", ["right", "left"])
def test_a_sky_lit_from_the_plates_side_comes_first(library, side):
    """The issue's floor: for a plate lit from the right, a sky lit from the right."""
    _, cards = library
    away = -60.0 if side == "right" else 60.0
    light = Light(a=(300.0, 200.0), b=(300.0 + away, 210.0), frame=1)
    shot = shot_with(None, (64, 36), 3).but(light=light)
    framed = [card for card in cards if not card.around]
    for listed in (framed, cards):
        fits = fits_this_plate(shot, listed, Pictures())
        assert not fits[0].flip
        assert side in " ".join(fits[0].reasons)
        if not fits[0].card.around:  # a dome is turned
            assert (fits[0].card.bearing_deg > 0) == (side == "right")
    costs = [fit.cost for fit in fits]
    assert costs == sorted(costs)
    assert all(fit.reasons for fit in fits)


def test_colours_are_compared_as_the_reference_library_does():
    """colour-science's XYZ_to_Lab."""
    import colour

    for rgb_value in ((0.2, 0.3, 0.6), (0.01, 0.02, 0.004), (0.9, 0.9, 0.85)):
        xyz = colour.RGB_to_XYZ(np.array(rgb_value), "sRGB", apply_cctf_decoding=False)
        white = np.array([0.3127, 0.3290])
        assert _lab(rgb_value) == pytest.approx(colour.XYZ_to_Lab(xyz, white), abs=0.05)
