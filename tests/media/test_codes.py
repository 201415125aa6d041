"""Pictures of integers become light by tables: the same values as OpenImageIO and OpenColorIO give one by one."""

import numpy as np
import OpenImageIO as oiio
import pytest

from zonal_mantle.media import colour, open_source, read_frame
from zonal_mantle.media.bands import run_bands
from zonal_mantle.media.codes import light_of, table_of, values_of
from zonal_mantle.media.still import read_codes

SEED = 5


def written(path, codes):
    """A picture written by OpenImageIO alone."""
    height, width, deep = codes.shape
    out = oiio.ImageOutput.create(str(path))
    spec = oiio.ImageSpec(width, height, deep, str(codes.dtype))
    spec.attribute("oiio:UnassociatedAlpha", 1)
    out.open(str(path), spec)
    out.write_image(codes)
    out.close()
    return path


def read_by_library(path, deep):
    """Its values as OpenImageIO gives them as floats."""
    hints = oiio.ImageSpec()
    hints.attribute("oiio:UnassociatedAlpha", 1)
    picture = oiio.ImageInput.open(str(path), hints)
    values = picture.read_image(0, 0, 0, deep, oiio.FLOAT)
    picture.close()
    return values.reshape(picture.spec().height, -1, deep)


@pytest.mark.parametrize("encoding", [colour.SRGB, colour.CAMERA, colour.SCENE_LINEAR])
@pytest.mark.parametrize(
    ("kind", "name"), [(np.uint8, "a.png"), (np.uint16, "a.png"), (np.uint8, "a.jpg"), (np.uint16, "a.tif")]
)
def test_a_picture_of_integers_is_light_as_the_libraries_give_it(tmp_path, kind, name, encoding):
    codes = np.random.default_rng(SEED).integers(0, np.iinfo(kind).max, (70, 33, 3), endpoint=True).astype(kind)
    path = written(tmp_path / name, codes)
    assert read_codes(path)[0].dtype == kind
    wanted = colour.to_linear(read_by_library(path, 3), encoding)
    source = open_source(path).but(encoding=encoding)
    np.testing.assert_array_equal(read_frame(source, 1), wanted)


@pytest.mark.parametrize("kind", [np.uint8, np.uint16])
def test_straight_alpha_multiplies_light(tmp_path, kind):
    codes = np.random.default_rng(SEED).integers(0, np.iinfo(kind).max, (40, 21, 4), endpoint=True).astype(kind)
    path = written(tmp_path / "a.png", codes)
    values = read_by_library(path, 4)
    wanted = colour.to_linear(values.copy(), colour.SRGB)
    wanted[..., :3] *= values[..., 3:]
    np.testing.assert_array_equal(read_frame(open_source(path), 1), wanted)


def test_what_mixes_channels_has_no_table():
    assert table_of(colour.CAMERA_2020, 8) is None
    assert table_of("ARRI LogC4", 16) is None
    assert len(table_of(colour.SRGB, 16)) == 65536


def test_light_of_a_table_is_that_of_each_code():
    codes = np.arange(256, dtype=np.uint8).reshape(16, 16, 1).repeat(3, 2)
    table = table_of(colour.SRGB, 8)
    np.testing.assert_array_equal(light_of(codes, table)[..., 1].ravel(), table)
    np.testing.assert_array_equal(
        values_of(codes)[..., 0].ravel(), np.arange(256, dtype=np.float32) * np.float32(1 / 255)
    )


def test_bands_within_bands_do_not_wait_for_themselves():
    """All cores of the pool ask for more of it."""
    done = np.zeros((64, 64), np.int32)

    def inner(first, end, row):
        done[row, first:end] += 1

    def outer(first, end):
        for row in range(first, end):
            run_bands(inner, 64, row)

    run_bands(outer, 64)
    assert (done == 1).all()
