"""What a rendered EXR says of itself, read back by OpenEXR and by OpenImageIO."""

from fractions import Fraction
from pathlib import Path

import numpy as np
import OpenEXR
import OpenImageIO as oiio
import pytest

from zonal_mantle.api import new
from zonal_mantle.media.still import write_still
from zonal_mantle.render.header import timecode


@pytest.fixture
def session(tmp_path: Path):
    for frame in (1001, 1002):
        notes = {"DateTime": "2026:03:04 05:06:07", "Make": "Own camera", "ExposureTime": 0.02, "PixelAspectRatio": 2.0}
        write_still(tmp_path / f"p.{frame}.exr", np.full((16, 24, 3), 0.3, np.float32), "half", "zip", notes)
    session = new(tmp_path / "p.1001.exr")
    source = session.shot.sources[0].but(rate=(24000, 1001))
    session.shot = session.shot.with_source(source)
    return session


def test_an_exr_says_its_colour_pixels_rate_and_when_it_was_shot(session, tmp_path):
    path = session.render(tmp_path / "out")[0]
    with OpenEXR.File(str(path)) as file:  # reference library
        header = dict(file.header())
    assert header["pixelAspectRatio"] == pytest.approx(2.0)
    # published: ITU-R BT.709-6, item 1.3
    rec709 = (0.64, 0.33, 0.3, 0.6, 0.15, 0.06, 0.3127, 0.329)
    assert np.ravel(header["chromaticities"]) == pytest.approx(rec709, abs=1e-4)
    assert header["capDate"] == "2026:03:04 05:06:07"
    assert header["expTime"] == pytest.approx(0.02)
    assert header["framesPerSecond"] == Fraction(24000, 1001)  # the name of OpenEXR's standard attributes
    read = oiio.ImageInput.open(str(path))
    spec = read.spec()
    read.close()
    assert spec.get_string_attribute("Make") == "Own camera"
    assert spec.getattribute("smpte:TimeCode")[0] == timecode(1001, Fraction(24000, 1001))


def test_a_plate_without_a_date_gives_none_and_renders_stay_alike_to_the_bit(tmp_path):
    write_still(tmp_path / "p.1001.exr", np.full((16, 24, 3), 0.3, np.float32))
    write_still(tmp_path / "p.1002.exr", np.full((16, 24, 3), 0.3, np.float32))
    session = new(tmp_path / "p.1001.exr")
    one, two = (session.render(tmp_path / name)[0] for name in ("a", "b"))
    assert one.read_bytes() == two.read_bytes()
    with OpenEXR.File(str(one)) as file:
        assert file.header().get("capDate", "") == ""


def test_a_frame_number_is_a_timecode_counted_without_dropping():
    # published: SMPTE ST 12-1: frames, seconds, minutes, hours as binary-coded decimals
    assert timecode(0, Fraction(24)) == 0
    assert timecode(24 * 3661 + 5, Fraction(24)) == 0x01010105
    assert timecode(25 * 59 + 24, Fraction(25)) == 0x00005924
