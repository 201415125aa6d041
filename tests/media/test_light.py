"""Colour that must not be lost or read as another: premultiplied light, wide gamuts, PQ and HLG, video as it looked."""

from fractions import Fraction
from pathlib import Path

import av
import colour as science
import numpy as np
import pytest

from zonal_mantle.media import colour, open_source, read_frame
from zonal_mantle.media.still import write_still
from zonal_mantle.media.wide import hlg_decode, hlg_encode, pq_decode, pq_encode
from zonal_mantle.render.frames import VideoWriter

X = np.linspace(0, 1, 101)


def with_fire(alpha: float) -> np.ndarray:
    """Half a picture of premultiplied grey at an alpha, half of light that adds: alpha 0."""
    picture = np.zeros((20, 40, 4), np.float32)
    picture[:, :20] = (0.2 * alpha, 0.3 * alpha, 0.4 * alpha, alpha)
    picture[:, 20:] = (0.8, 0.4, 0.1, 0.0)
    return picture


@pytest.mark.parametrize("encoding", ["ACEScg", "Linear Rec.2020", "ACEScct", "sRGB", "Rec. 2100 PQ"])
def test_light_where_alpha_is_nothing_is_kept_whatever_the_encoding(tmp_path, encoding):
    write_still(tmp_path / "fire.exr", with_fire(0.5), "float")
    source = open_source(tmp_path / "fire.exr").but(encoding=encoding, alpha="premultiplied")
    out = read_frame(source, source.start)
    expected = colour.to_linear(np.full((1, 1, 3), (0.8, 0.4, 0.1), np.float32), encoding)[0, 0]
    assert out[5, 30, :3] == pytest.approx(expected, rel=1e-4)
    assert out[5, 30, 3] == 0
    whole = colour.to_linear(np.full((1, 1, 3), (0.2, 0.3, 0.4), np.float32), encoding)[0, 0]
    assert out[5, 5, :3] == pytest.approx(0.5 * whole, rel=2e-3)


def test_wide_primaries_are_those_of_bt_2020():
    # published: ITU-R BT.2020-2, table 3 and BT.709-6, item 1.3; reference library: colour-science
    primaries = {"BT.2020": "ITU-R BT.2020", "BT.709": "ITU-R BT.709"}
    expected = science.matrix_RGB_to_RGB(*(science.RGB_COLOURSPACES[name] for name in primaries.values()), None)
    rgb = np.random.default_rng(1).uniform(0, 1, (4, 4, 3)).astype(np.float32)
    assert colour.to_linear(rgb.copy(), "Linear Rec.2020") == pytest.approx(rgb @ expected.T, abs=2e-4)


def test_pq_and_hlg_are_those_of_bt_2100():
    # published: ITU-R BT.2100-2, tables 4 and 5, reference white of BT.2408-7; reference library: colour-science
    assert pq_decode(X) * 203 == pytest.approx(science.models.eotf_BT2100_PQ(X), rel=1e-6, abs=1e-6)
    scene = science.models.oetf_inverse_BT2100_HLG(X)
    assert hlg_decode(X) * science.models.oetf_inverse_BT2100_HLG(0.75) == pytest.approx(scene, rel=1e-4, abs=1e-7)
    assert pq_decode(np.array(0.5807)) == pytest.approx(1.0, abs=5e-3)  # BT.2408-7, table 1: 58 % is reference white
    assert pq_encode(pq_decode(X)) == pytest.approx(X, abs=1e-6)
    assert hlg_encode(hlg_decode(X)) == pytest.approx(X, abs=1e-6)


@pytest.mark.parametrize(
    ("primaries", "transfer", "matrix", "expected"),
    [(9, 16, 9, colour.PQ), (9, 18, 9, colour.HLG), (9, 14, 9, colour.CAMERA_2020), (1, 1, 1, colour.CAMERA),
     (1, 13, 1, colour.SRGB)],
)  # fmt: skip
def test_video_is_read_as_its_tags_say_with_its_own_matrix(tmp_path, primaries, transfer, matrix, expected):
    # published: code points of ITU-T H.273; BT.2020-2, table 4: Y' of red is 0.2627
    path = tmp_path / "wide.mp4"
    coded = np.array([0.7, 0.3, 0.2])
    kr, kb = (0.2627, 0.0593) if matrix == 9 else (0.2126, 0.0722)
    y = kr * coded[0] + (1 - kr - kb) * coded[1] + kb * coded[2]
    cb, cr = (coded[2] - y) / (2 * (1 - kb)), (coded[0] - y) / (2 * (1 - kr))
    with av.open(str(path), "w") as out:
        stream = out.add_stream("libx264", rate=24, options={"crf": "1", "preset": "ultrafast"})
        context = stream.codec_context
        context.width, context.height, context.pix_fmt = 64, 64, "yuv420p10le"
        context.colorspace, context.color_range = matrix, 1
        context.color_primaries, context.color_trc = primaries, transfer
        frame = av.VideoFrame(64, 64, "yuv420p10le")
        for plane, value in zip(frame.planes, (64 + 876 * y, 512 + 896 * cb, 512 + 896 * cr)):
            plane.update(np.full(plane.buffer_size // 2, round(value), "<u2").tobytes())
        for _ in range(2):
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))
    source = open_source(path)
    assert source.encoding == expected
    linear = colour.to_linear(np.full((1, 1, 3), coded, np.float32), expected)[0, 0]
    assert read_frame(source, 1)[32, 32] == pytest.approx(linear, rel=0.03, abs=2e-3)


def test_video_holds_what_the_viewer_showed(tmp_path):
    from zonal_mantle.comp.views import show

    ramp = np.repeat(np.linspace(0, 1, 256, dtype=np.float32)[None, :, None], 64, axis=0).repeat(3, 2)
    path = tmp_path / "ramp.mov"
    with VideoWriter(path, "prores", Fraction(24), transfer=13) as writer:
        writer.write(colour.from_linear(ramp.copy(), colour.SRGB))
    source = open_source(path)
    assert source.encoding == colour.SRGB
    with av.open(str(path)) as file:
        codes = next(file.decode(video=0)).to_ndarray(format="rgb24")
    shown = show(ramp)[..., 2::-1]
    assert np.abs(codes.astype(int) - shown.astype(int)).max() <= 3
    assert np.abs(codes.astype(int) - shown.astype(int)).mean() < 1


def test_a_still_of_another_gamut_keeps_what_is_below_zero(tmp_path: Path):
    write_still(tmp_path / "green.exr", np.full((4, 4, 3), (0.0, 0.9, 0.0), np.float32), "float")
    source = open_source(tmp_path / "green.exr").but(encoding="ACEScg")
    assert read_frame(source, source.start)[0, 0, 0] < -0.1
