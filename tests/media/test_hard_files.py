"""Files that are hard to read: videos by their tags, names that are not UTF-8, huge pictures, decoders that crash."""

import os
import threading
import time
import zlib
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from zonal_mantle.finish.errors import FinishError
from zonal_mantle.finish.lut import lut_processor
from zonal_mantle.match.errors import MatchError
from zonal_mantle.match.tone_files import read_cdl
from zonal_mantle.media import MediaError, open_source, read_frame
from zonal_mantle.media.opener import Opener
from zonal_mantle.media.reader import MOST_LIGHT, uneven_trouble
from zonal_mantle.media.sequence import frame_path, pattern_of
from zonal_mantle.media.stamps import stamp_of
from zonal_mantle.media.still import read_still, write_still
from zonal_mantle.paths import as_text, for_library, named, on_disk

NOT_UTF8 = os.fsdecode(b"sk\xe9_\xff")


def film(path, pixels=None, times=None, rotation=0, codec="libx264", format="yuv420p", size=(48, 32), before=0):
    """A video of grey frames, each brighter than the one before; written by PyAV alone. `before` frames lie before what
    its edit list shows."""
    edited = {"use_editlist": "1", "avoid_negative_ts": "disabled"} if before else {}
    with av.open(str(path), "w", options=edited) as out:
        stream = out.add_stream(codec, rate=24, options={"crf": "10", "bf": "0"} if codec == "libx264" else {})
        stream.width, stream.height, stream.pix_fmt = *size, format
        stream.time_base = Fraction(1, 2400)
        stream.codec_context.time_base = Fraction(1, 2400)
        if rotation:
            stream.set_display_rotation(rotation)
        packets: list[av.Packet] = []
        for k, time in enumerate(times or [100 * k for k in range(6)]):
            grey = np.full((size[1], size[0], 3), 40 + 30 * k, np.uint8) if pixels is None else pixels
            frame = av.VideoFrame.from_ndarray(grey, format="rgb24" if grey.shape[2] == 3 else "rgba")
            frame.pts, frame.time_base = time, Fraction(1, 2400)
            packets += stream.encode(frame)
        for packet in [*packets, *stream.encode(None)]:
            packet.pts, packet.dts = packet.pts - 100 * before, packet.dts - 100 * before
            out.mux(packet)
    return path


def test_a_video_is_turned_as_it_is_tagged(tmp_path):
    pixels = np.zeros((32, 48, 3), np.uint8)
    pixels[:8] = 200  # bright at the top
    upright = read_frame(open_source(film(tmp_path / "a.mp4", pixels)), 1)
    assert upright.shape == (32, 48, 3)
    assert upright[:6].mean() > 10 * upright[12:].mean()
    for degrees, side in ((90, np.s_[:, :6]), (-90, np.s_[:, -6:]), (180, np.s_[-6:])):
        source = open_source(film(tmp_path / f"r{degrees}.mp4", pixels, rotation=degrees))
        picture = read_frame(source, 1)
        assert (source.height, source.width) == picture.shape[:2] == ((48, 32) if degrees != 180 else (32, 48))
        assert picture[side].mean() > 5 * picture.mean() * 0.4, degrees
        turned = np.rot90(upright, round(degrees / 90))
        assert np.abs(picture - turned).mean() < 0.02


def test_frames_that_are_not_equally_long_are_said(tmp_path):
    even = open_source(film(tmp_path / "even.mp4"))
    assert uneven_trouble(even) is None
    uneven = open_source(film(tmp_path / "uneven.mkv", times=[0, 100, 130, 300, 640, 700]))
    assert uneven.last == 6
    assert "uneven.mkv shows its frames for" in uneven_trouble(uneven)
    greys = [float(read_frame(uneven, k).mean()) for k in range(1, 7)]
    assert greys == sorted(greys)


def test_a_video_with_alpha_keeps_it(tmp_path):
    pixels = np.zeros((32, 48, 4), np.uint8)
    pixels[:, :24] = (200, 100, 50, 255)
    source = open_source(film(tmp_path / "a.mov", pixels, codec="prores_ks", format="yuva444p10le"))
    assert source.alpha == "straight"
    picture = read_frame(source, 1)
    assert picture.shape == (32, 48, 4)
    assert picture[:, :20, 3].min() > 0.98
    assert np.abs(picture[:, 28:]).max() < 0.01


@pytest.mark.parametrize("codec", ["libvpx-vp9", "libvpx"])
def test_alpha_in_a_layer_beside_the_picture_is_read_in_any_order(tmp_path, codec):
    """As WebM keeps it: VP8 and VP9 with a second stream of alpha in each block's additions."""
    path = tmp_path / "a.webm"
    with av.open(str(path), "w") as out:
        stream = out.add_stream(codec, rate=24, options={"auto-alt-ref": "0"})
        stream.width, stream.height, stream.pix_fmt = 64, 48, "yuva420p"
        for k in range(6):
            pixels = np.zeros((48, 64, 4), np.uint8)
            pixels[..., 0], pixels[:, :32, 3], pixels[:, 32:, 3] = 200, 255, 40 * k
            out.mux(stream.encode(av.VideoFrame.from_ndarray(pixels, format="rgba")))
        out.mux(stream.encode(None))
    source = open_source(path)
    assert (source.alpha, source.last) == ("straight", 6)
    for frame in (6, 1, 3, 2, 6):
        picture = read_frame(source, frame)
        assert picture[8:40, 4:28, 3].min() > 0.97
        assert picture[8:40, 36:60, 3].mean() == pytest.approx(40 * (frame - 1) / 255, abs=0.02)


def test_what_an_edit_list_cuts_off_does_not_count(tmp_path):
    whole, cut = (open_source(film(tmp_path / f"{n}.mp4", before=n)) for n in (0, 2))
    assert (whole.last, cut.last) == (6, 4)
    for frame in (4, 1, 2, 3):
        assert read_frame(cut, frame).mean() == pytest.approx(read_frame(whole, frame + 2).mean(), abs=0.01)


def test_an_odd_ending_of_names_is_no_sequence():
    assert pattern_of(Path("/a/sky_v2.exr")) is None
    assert pattern_of(Path("/a/V12.png")) is None
    assert pattern_of(Path("/a/sky_v2.0012.exr")) == "/a/sky_v2.%04d.exr"
    assert pattern_of(Path("/a/rev2.png")) == "/a/rev%01d.png"
    assert frame_path("/a/100%s_%04d.exr", 7) == Path("/a/100%s_0007.exr")


def test_versions_beside_one_another_are_stills(tmp_path):
    for name in ("sky_v1.png", "sky_v2.png"):
        write_still(tmp_path / name, np.zeros((4, 4, 3), np.float32), "uint8")
    assert open_source(tmp_path / "sky_v1.png").kind == "still"


@pytest.mark.parametrize("ending", [".exr", ".png", ".mp4"])
def test_a_name_that_is_not_utf8_is_read_and_shown(tmp_path, ending):
    path = tmp_path / f"{NOT_UTF8}{ending}"
    if ending == ".mp4":
        film(tmp_path / "plain.mp4").rename(path)
    else:
        write_still(path, np.full((6, 8, 3), 0.5, np.float32), "uint16" if ending == ".png" else "half")
    source = open_source(path)
    source.path.encode()  # it can be kept in a file
    assert on_disk(source.path) == str(path)
    assert named(source.path) == f"sk\\xe9_\\xff{ending}"
    assert read_frame(source, source.start).shape[2] == 3


def test_a_sequence_of_such_names(tmp_path):
    for frame in (1, 2, 4):
        write_still(tmp_path / f"{NOT_UTF8}.{frame:04d}.exr", np.full((4, 4, 3), frame / 10, np.float32), "half")
    source = open_source(tmp_path / f"{NOT_UTF8}.0001.exr")
    assert (source.kind, source.first, source.last) == ("sequence", 1, 4)
    assert abs(read_frame(source, 2).mean() - 0.2) < 1e-3
    with pytest.raises(MediaError, match=r"Frame 3 of sk\\xe9_\\xff\.%04d\.exr is missing"):
        read_frame(source, 3)


def test_text_of_paths_comes_back():
    for name in ("plain", NOT_UTF8, "grün ☃", os.fsdecode(bytes(range(128, 256)))):
        assert on_disk(as_text(name)) == name
        as_text(name).encode()
        for_library(f"/tmp/{name}").encode()


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("a.png", b"", "it is empty"),
        ("a.png", b"\xff\xd8\xff\xe0" + b"x" * 100, "does not begin as PNG files do"),
        ("a.exr", b"v/1\x01" + b"x" * 100, "damaged"),
        ("a.xyz", b"hello", "files that end in .xyz are of no kind that is known"),
        ("a.mp4", b"", "cannot be read as video"),
        ("a.mov", b"x" * 5000, "cannot be read as video"),
    ],
)
def test_what_is_wrong_with_a_file_is_said_with_its_name(tmp_path, name, data, words):
    (tmp_path / name).write_bytes(data)
    with pytest.raises(MediaError, match=words) as problem:
        open_source(tmp_path / name)
    assert str(problem.value).startswith(f"{name} ")
    assert "\n" not in str(problem.value)
    assert str(tmp_path) not in str(problem.value)


def test_a_picture_that_says_it_is_larger_than_it_can_be_costs_no_memory(tmp_path):
    path = tmp_path / "bomb.png"
    write_still(path, np.zeros((8, 8, 3), np.float32), "uint8")
    data = bytearray(path.read_bytes())
    for size, words in (
        (15_000, "for which it is too small"),
        (60_000, "larger than 268 megapixels|its header is damaged"),
    ):
        data[16:24] = size.to_bytes(4, "big") * 2
        data[29:33] = zlib.crc32(bytes(data[12:29])).to_bytes(4, "big")
        path.write_bytes(bytes(data))
        with pytest.raises(MediaError, match=words):
            read_still(path)


def test_a_pipe_and_a_device_hold_nobody_up(tmp_path):
    os.mkfifo(tmp_path / "pipe.png")
    os.mkfifo(tmp_path / "pipe.mp4")
    for path, words in ((tmp_path / "pipe.png", "is a pipe"), (tmp_path / "pipe.mp4", "is a pipe"),
                        (Path("/dev/zero"), "is a device"), (tmp_path, "is a folder")):  # fmt: skip
        with pytest.raises(MediaError, match=words):
            open_source(path)


def test_light_beyond_what_a_float_can_square_is_held(tmp_path):
    pixels = np.full((4, 4, 3), 0.5, np.float32)
    pixels[0, 0], pixels[1, 1], pixels[2, 2] = 1e20, np.nan, -np.inf
    write_still(tmp_path / "a.exr", pixels, "float")
    back = read_frame(open_source(tmp_path / "a.exr"), 1)
    assert back[0, 0, 0] == np.float32(MOST_LIGHT)
    assert back[1, 1, 0] == back[2, 2, 0] == 0
    assert back[3, 3, 0] == 0.5


CRASHING = """
import os, sys, time
print("ready", flush=True)
for line in sys.stdin:
    name = os.path.basename(bytes.fromhex(line).decode())
    if name.startswith("crash"):
        os.abort()
    if name.startswith("hang"):
        time.sleep(60)
    print("memory" if name.startswith("memory") else "opened", flush=True)
"""


def test_a_decoder_that_crashes_or_hangs_is_said_and_the_next_file_is_opened(tmp_path):
    script = tmp_path / "trial.py"
    script.write_text(CRASHING)
    for name in ("crash", "hang", "memory", "good"):
        (tmp_path / f"{name}.exr").write_bytes(b"x")
    opener = Opener(seconds=0.3, script=script)
    opener.check(tmp_path / "good.exr")
    crashes, hangs = ("crash", "makes its decoder crash"), ("hang", "busy for more than 0.3 s")
    for name, words in (crashes, hangs, ("memory", "more memory than a picture can need"), crashes):
        with pytest.raises(MediaError, match=words) as problem:
            opener.check(tmp_path / f"{name}.exr")
        assert str(problem.value).startswith(f"{name}.exr ")
        if name != "memory":
            opener.check(tmp_path / "good.exr")
    opener.close()
    assert opener.close() is None


def test_every_file_of_a_sequence_is_tried(tmp_path, monkeypatch):
    script = tmp_path / "trial.py"
    script.write_text(CRASHING.replace('startswith("crash")', 'endswith("3.exr")'))
    for frame in (1, 2, 3, 4):
        write_still(tmp_path / f"a.{frame:04d}.exr", np.zeros((4, 4, 3), np.float32), "half")
    opener = Opener(script=script)
    monkeypatch.setattr("zonal_mantle.media.reader.opener", opener)
    source = open_source(tmp_path / "a.%04d.exr")
    for frame in (1, 2, 4):
        read_frame(source, frame)
    with pytest.raises(MediaError, match=r"a.0003.exr makes its decoder crash"):
        read_frame(source, 3)
    opener.close()


def test_tables_are_tried_too(tmp_path, monkeypatch):
    script = tmp_path / "trial.py"
    script.write_text(CRASHING)
    opener = Opener(script=script)
    monkeypatch.setattr("zonal_mantle.finish.lut.opener", opener)
    monkeypatch.setattr("zonal_mantle.match.tone_files.opener", opener)
    lut, cdl = tmp_path / "crash.cube", tmp_path / "crash.cc"
    lut.write_text("LUT_1D_SIZE 2\n0 0 0\n1 1 1\n")
    cdl.write_text("<ColorCorrection/>")
    with pytest.raises(FinishError, match=r"crash.cube makes its decoder crash"):
        lut_processor(str(lut), stamp_of(str(lut)))
    with pytest.raises(MatchError, match=r"crash.cc makes its decoder crash"):
        read_cdl(cdl)
    opener.close()


def test_a_file_that_is_known_waits_for_none_that_is_tried(tmp_path):
    script = tmp_path / "trial.py"
    script.write_text(CRASHING)
    for name in ("hang", "good"):
        (tmp_path / f"{name}.exr").write_bytes(b"x")
    opener = Opener(seconds=3.0, script=script)
    opener.check(tmp_path / "good.exr")

    def hang():
        with pytest.raises(MediaError):
            opener.check(tmp_path / "hang.exr")

    hanging = threading.Thread(target=hang)
    hanging.start()
    while not opener._asking.locked():
        time.sleep(0.001)
    opener.check(tmp_path / "good.exr")
    assert hanging.is_alive()
    hanging.join()
    opener.close()


def test_the_process_that_tries_files_knows_the_real_decoders(tmp_path):
    write_still(tmp_path / "a.exr", np.zeros((4, 4, 3), np.float32), "half")
    (tmp_path / "bad.png").write_bytes(b"\x89PNG\r\n\x1a\nxxxx")
    opener = Opener()
    lut = tmp_path / "a.cube"
    lut.write_text("LUT_1D_SIZE 2\n0 0 0\n1 1 1\n")
    for path in (tmp_path / "a.exr", tmp_path / "bad.png", lut, film(tmp_path / "a.mp4")):
        opener.check(path)
    opener.close()
