"""Stills, sequences and video from disk, good and bad."""

from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from zonal_mantle.media import MediaError, missing_frames, open_source, read_frame, source_problem
from zonal_mantle.media.curves import bt709_encode, srgb_decode
from zonal_mantle.media.sequence import spans
from zonal_mantle.media.still import write_still
from zonal_mantle.render.frames import VideoWriter


@pytest.fixture
def ramp() -> np.ndarray:
    x = np.linspace(0.05, 0.95, 48, dtype=np.float32)[None, :]
    y = np.linspace(0, 1, 32, dtype=np.float32)[:, None]
    return np.stack([x + 0 * y, 0.2 + 0.5 * y + 0 * x, 0.8 - 0.5 * x + 0 * y], axis=2)


@pytest.mark.parametrize(
    ("name", "depth", "step"),
    [
        ("a.exr", "half", 5e-4), ("a.exr", "float", 1e-6), ("a.dpx", "uint10", 1 / 1000), ("a.tif", "uint16", 2e-5),
        ("a.png", "uint8", 1 / 500), ("a.png", "uint16", 2e-5), ("a.jpg", "uint8", 0.08), ("a.hdr", "float", 0.02),
    ],
)  # fmt: skip
def test_every_still_format_comes_back(tmp_path, ramp, name, depth, step):
    write_still(tmp_path / name, ramp, depth)
    source = open_source(tmp_path / name)
    assert (source.width, source.height, source.kind) == (48, 32, "still")
    expected = ramp if source.encoding == "Scene-linear Rec. 709" else srgb_decode(ramp)
    assert source.encoding_guessed
    assert np.abs(read_frame(source, 1) - expected).max() < step * 3 + 1e-6


def test_straight_alpha_is_told_from_premultiplied(tmp_path):
    picture = np.zeros((8, 8, 4), np.float32)
    picture[:] = (0.5, 0.25, 0.75, 0.5)
    write_still(tmp_path / "straight.png", picture, "uint16")
    write_still(tmp_path / "premultiplied.exr", picture, "half")
    straight, premultiplied = open_source(tmp_path / "straight.png"), open_source(tmp_path / "premultiplied.exr")
    assert (straight.alpha, premultiplied.alpha) == ("straight", "premultiplied")
    assert read_frame(premultiplied, 1)[0, 0] == pytest.approx([0.5, 0.25, 0.75, 0.5], abs=1e-3)
    coded = srgb_decode(np.array([0.5, 0.25, 0.75])) * 0.5
    assert read_frame(straight, 1)[0, 0] == pytest.approx([*coded, 0.5], abs=1e-3)


def test_a_sequence_is_found_from_any_of_its_files(plate_folder):
    source = open_source(plate_folder / "plate.1003.exr")
    assert (source.kind, source.first, source.last) == ("sequence", 1001, 1005)
    assert read_frame(source, 1004)[0, 0, 0] == pytest.approx(0.4, abs=1e-3)
    assert open_source(plate_folder / "plate.1003.exr", as_still=True).kind == "still"


def test_missing_frames_are_listed_and_named(plate_folder):
    source = open_source(plate_folder / "plate.%04d.exr")
    for frame in (1002, 1003):
        (plate_folder / f"plate.{frame}.exr").unlink()
    assert missing_frames(source) == [1002, 1003]
    assert "1002–1003" in source_problem(source)
    with pytest.raises(MediaError, match=r"Frame 1002 of plate\.%04d\.exr is missing.*1001–1005"):
        read_frame(source, 1002)


def test_spans_are_written_short():
    assert spans([1, 2, 3, 7, 9, 10]) == "1–3, 7, 9–10"


def test_trimming_limits_what_is_wanted(plate_folder):
    source = open_source(plate_folder / "plate.%04d.exr").but(trim_first=1004)
    (plate_folder / "plate.1002.exr").unlink()
    assert missing_frames(source) == []


def test_a_file_of_another_size_is_named_with_its_frame(plate_folder):
    source = open_source(plate_folder / "plate.%04d.exr")
    write_still(plate_folder / "plate.1003.exr", np.zeros((10, 10, 3), np.float32))
    with pytest.raises(MediaError, match=r"plate\.1003\.exr is 10×10, not 32×24"):
        read_frame(source, 1003)


@pytest.mark.parametrize("name", ["plate.1002.exr"])
def test_a_truncated_file_is_named(plate_folder, name):
    source = open_source(plate_folder / "plate.%04d.exr")
    path = plate_folder / name
    path.write_bytes(path.read_bytes()[:400])
    with pytest.raises(MediaError, match=r"plate\.1002\.exr"):
        read_frame(source, 1002)


def test_nan_and_infinity_do_not_get_in(tmp_path):
    picture = np.full((4, 4, 3), np.nan, np.float32)
    picture[0, 0] = np.inf
    write_still(tmp_path / "bad.exr", picture, "float")
    assert np.isfinite(read_frame(open_source(tmp_path / "bad.exr"), 1)).all()


def test_what_is_not_there_or_not_a_picture_is_said(tmp_path):
    with pytest.raises(MediaError, match=r"nowhere\.exr is missing"):
        open_source(tmp_path / "nowhere.exr")
    (tmp_path / "words.png").write_text("not a picture")
    with pytest.raises(MediaError, match=r"words\.png cannot be read"):
        open_source(tmp_path / "words.png")


def _write_video(path: Path, codec: str, pixels: str, frames: list[np.ndarray]) -> None:
    with av.open(str(path), "w") as container:
        stream = container.add_stream(codec, rate=Fraction(24000, 1001))
        stream.width, stream.height, stream.pix_fmt = frames[0].shape[1], frames[0].shape[0], pixels
        for number, coded in enumerate(frames):
            whole = (np.clip(coded, 0, 1) * 65535 + 0.5).astype(np.uint16)
            frame = av.VideoFrame.from_ndarray(whole, format="rgb48le").reformat(format=pixels, dst_colorspace=1)
            frame.pts = number
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))


@pytest.mark.parametrize(
    ("name", "codec", "pixels"),
    [
        ("a.mp4", "libx264", "yuv420p"), ("a.mkv", "libx264", "yuv420p10le"), ("a.mov", "prores_ks", "yuv422p10le"),
        ("a.mkv", "ffv1", "yuv444p12le"),
    ],
)  # fmt: skip
def test_video_is_exact_to_the_frame_in_any_order(tmp_path, name, codec, pixels):
    greys = np.linspace(0.15, 0.85, 30)
    _write_video(tmp_path / name, codec, pixels, [np.full((64, 96, 3), g) for g in greys])
    source = open_source(tmp_path / name)
    assert (source.kind, source.first, source.last, source.rate) == ("video", 1, 30, (24000, 1001))
    for frame in (1, 30, 7, 8, 9, 3, 29):
        coded = bt709_encode(read_frame(source, frame))
        assert float(np.median(coded)) == pytest.approx(greys[frame - 1], abs=0.012)
    with pytest.raises(MediaError, match="1–30; 31 was asked for"):
        read_frame(source, 31)


def test_our_video_keeps_colour_to_a_few_code_values(tmp_path):
    # H.273 code point 1 (BT.709 matrix, limited range) written and read back: primaries and greys
    patches = np.array([[0.1, 0.1, 0.1], [0.9, 0.9, 0.9], [0.8, 0.2, 0.2], [0.2, 0.7, 0.3], [0.2, 0.3, 0.8]])
    coded = np.repeat(np.repeat(patches[None], 64, 0), 32, 1).astype(np.float32)
    with VideoWriter(tmp_path / "p.mp4", "h264", Fraction(24), 8) as writer:
        for _ in range(3):
            writer.write(coded)
    source = open_source(tmp_path / "p.mp4")
    assert source.encoding == "Rec. 709 camera"
    back = bt709_encode(read_frame(source, 2))
    for k, patch in enumerate(patches):
        assert back[32, 16 + 32 * k] == pytest.approx(patch, abs=3.5 / 255)


def test_a_video_cut_short_is_said_with_its_frame(tmp_path):
    with VideoWriter(tmp_path / "p.mp4", "h264", Fraction(24), 8) as writer:
        for _ in range(3):
            writer.write(np.zeros((64, 64, 3), np.float32))
    path = tmp_path / "p.mp4"
    path.write_bytes(path.read_bytes()[:200])
    with pytest.raises(MediaError, match=r"p\.mp4"):
        open_source(path)
