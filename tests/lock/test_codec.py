"""What a codec does to marks is counted into what is said of them."""

import io
from fractions import Fraction

import av
import numpy as np
import pytest

from lock_plates import corner_errors, flat_plates
from stores import kept_pictures
from zonal_mantle.api import new
from zonal_mantle.comp import solve_lock
from zonal_mantle.geometry import carry
from zonal_mantle.lock import propose_marks
from zonal_mantle.lock.codec import CALM_PX, LEAST_SLOPE, carried_px
from zonal_mantle.media import MediaError, bits_per_pixel, open_source, quantiser_of
from zonal_mantle.render.frames import VideoWriter
from zonal_mantle.shot import Lock, Mark

SIZE, COUNT, BOX = (960, 540), 8, (260, 150, 700, 390)


def filmed(path, frames, format: str, quality: int) -> None:
    with VideoWriter(path, format, Fraction(24), quality) as writer:
        for frame in frames:
            writer.write(np.repeat(frame[..., None], 3, axis=2))


def test_marks_on_strongly_compressed_video_say_how_far_they_may_be_off(tmp_path):
    """On a photograph that scikit-image ships, on which nothing was tuned."""
    plates = flat_plates("coins", 5, SIZE, COUNT, grain=0.01, shutter=0.25)
    video = tmp_path / "plate.mp4"
    filmed(video, plates.frames, "h264", 30)
    shot = new(video).shot
    first = shot.first
    errors, told = [], []
    for k, (x, y) in enumerate(propose_marks(plates.frames[0], BOX, 6)):
        lock = Lock(id=f"m{k}", name="Mark", reference_frame=first, marks=(Mark(x=x, y=y),), motion="translation")
        solved = solve_lock(shot.with_lock(lock), lock.id, kept_pictures()).lock(lock.id)
        for entry in solved.solved[1:]:
            true = carry(plates.truth[entry.frame - first], np.array([[x, y]]))[0]
            errors.append(float(np.hypot(*(np.array(entry.marks[0]) - true))))
            told.append(entry.residual_px)
    assert len(errors) > 12
    assert np.mean([error < 2 * said for error, said in zip(errors, told)]) > 0.85
    assert np.sqrt(np.mean(np.square(told))) < 3 * np.sqrt(np.mean(np.square(errors)))  # and not by crying wolf


def test_only_codecs_that_predict_frames_count(tmp_path, demo):
    frames = flat_plates("brick", 5, (320, 180), 3).frames
    for name, format, counts in (("a.mp4", "h264", True), ("b.mov", "prores", False)):
        filmed(tmp_path / name, frames, format, 20)
        assert (bits_per_pixel(open_source(tmp_path / name)) is not None) == counts
    assert bits_per_pixel(open_source(demo / "plate" / "SLT_0140.%04d.exr")) is None


def test_the_bits_are_those_of_the_file(tmp_path):
    frames = flat_plates("brick", 5, (320, 180), 5).frames
    filmed(tmp_path / "a.mp4", frames, "h264", 20)
    with av.open(io.BytesIO((tmp_path / "a.mp4").read_bytes())) as container:
        packets = sum(packet.size for packet in container.demux(video=0))
    # the container's own tables are no more than a few bytes a frame and one header
    assert bits_per_pixel(open_source(tmp_path / "a.mp4")) == pytest.approx(packets * 8 / (320 * 180 * 5), rel=0.15)


def test_marks_on_hardly_any_bits_are_not_called_good(tmp_path):
    plates = flat_plates("brick", 5, SIZE, 4, grain=0.01)
    filmed(tmp_path / "plate.mp4", plates.frames, "h264", 51)
    shot = new(tmp_path / "plate.mp4").shot
    assert bits_per_pixel(shot.plate_source) < 0.015
    x, y = propose_marks(plates.frames[0], BOX, 1)[0]
    lock = Lock(id="m", name="Mark", reference_frame=shot.first, marks=(Mark(x=x, y=y),), least_confidence=0.0)
    solved = solve_lock(shot.with_lock(lock), "m", kept_pictures()).lock("m")
    assert all(entry.confidence <= 0.3 for entry in solved.solved if entry.frame != shot.first)
    assert "Use a plane lock" in " ".join(solved.remarks)


def test_a_soft_field_that_its_codec_carries_along_is_said_to_be_off(tmp_path):
    plates = flat_plates("chelsea", 5, (640, 360), 8, grain=0.01, speed=0.8, soft_px=3.0)
    filmed(tmp_path / "plate.mp4", plates.frames, "h264", 32)
    shot = new(tmp_path / "plate.mp4").shot
    lock = Lock(id="a", name="Field", kind="plane", reference_frame=shot.first)
    solved = solve_lock(shot.with_lock(lock), "a", kept_pictures()).lock("a")
    box = (13, 13, 627, 347)
    off = [
        corner_errors(np.array(entry.homography).reshape(3, 3), plates.truth[entry.frame - shot.first], box)
        for entry in solved.solved[1:]
    ]
    said = [entry.residual_px for entry in solved.solved[1:]]
    true, said = (float(np.sqrt(np.mean(np.square(each)))) for each in (off, said))
    assert true > 0.2  # the codec does harm here
    assert said > 0.4 * true
    assert "carried all of it along" in " ".join(solved.remarks)


def test_a_sharp_field_is_not_said_to_be_carried_along(tmp_path):
    plates = flat_plates("gravel", 5, (640, 360), 5, grain=0.01, speed=0.8)
    filmed(tmp_path / "plate.mp4", plates.frames, "h264", 23)
    shot = new(tmp_path / "plate.mp4").shot
    lock = Lock(id="a", name="Field", kind="plane", reference_frame=shot.first)
    solved = solve_lock(shot.with_lock(lock), "a", kept_pictures()).lock("a")
    assert max(entry.residual_px for entry in solved.solved) < 0.1
    assert solved.remarks == ()


def test_what_is_left_out_is_that_of_noise_which_all_pixels_share():
    """For a translation: the difference of codes over the slope, in each direction; the slope of a wave is known."""
    y, x = np.mgrid[0:200, 0:300].astype(np.float32)
    w = 2 * np.pi / 40
    feed = 0.5 + 0.1 * np.sin(w * x) + 0.05 * np.sin(w * y)
    calm = np.exp(-(w**2) * CALM_PX**2 / 2)
    slopes = calm * w / np.sqrt(2) * np.array([0.1, 0.05])
    wanted = 0.002 * np.sqrt((1 / slopes**2).sum())
    field = np.ones(feed.shape, np.float32)
    assert carried_px(feed, field, "translation", 0.002) == pytest.approx(wanted, rel=0.03)
    assert carried_px(feed, field, "perspective", 0.002) > 2 * wanted  # corners are less sure than the middle
    assert carried_px(feed, 0.3 * field, "translation", 0.002) == carried_px(feed, field, "translation", 0.002)
    line = np.zeros_like(field)
    line[50] = 1
    assert carried_px(feed, line, "perspective", 0.002) > 100
    assert carried_px(feed, np.zeros_like(field), "perspective", 0.002) == 0
    bare = carried_px(np.full_like(feed, 0.5), field, "translation", 0.002)
    assert bare == pytest.approx(0.002 / LEAST_SLOPE * np.sqrt(2), rel=0.01)


@pytest.mark.parametrize(("format", "depth"), [("yuv420p", 8), ("yuv420p10le", 10)])
def test_the_quantiser_is_read_from_the_stream(format, depth, tmp_path):
    """What x264 is asked for is what the stream tells; of ten bits it is 12 more (ITU-T H.264, 7.4.2.1)."""
    path = tmp_path / "a.mkv"
    with av.open(path, "w") as container:
        stream = container.add_stream("libx264", rate=24)
        stream.width, stream.height, stream.pix_fmt = 320, 176, format
        stream.options = {"qp": str(27 + 6 * (depth - 8)), "x264-params": "ipratio=1:pbratio=1:aq-mode=0"}
        for frame in flat_plates("brick", 5, (320, 176), 4, grain=0.01).frames:
            codes = np.repeat((255 * frame).astype(np.uint8)[..., None], 3, axis=2)
            for packet in stream.encode(av.VideoFrame.from_ndarray(codes, format="rgb24")):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)
    assert quantiser_of(open_source(path)) == pytest.approx(27, abs=0.6)


def test_other_codecs_and_stills_tell_no_quantiser(tmp_path, demo):
    frames = flat_plates("brick", 5, (320, 180), 3).frames
    filmed(tmp_path / "b.mov", frames, "prores", 20)
    assert quantiser_of(open_source(tmp_path / "b.mov")) is None
    assert quantiser_of(open_source(demo / "plate" / "SLT_0140.%04d.exr")) is None


def test_a_video_that_goes_after_it_was_read_is_said_in_words(tmp_path):
    """Within the half second for which its file is believed to be there (`media.stamps`)."""
    filmed(tmp_path / "a.mp4", flat_plates("brick", 5, (320, 180), 3).frames, "h264", 20)
    source = open_source(tmp_path / "a.mp4")
    assert bits_per_pixel(source) is not None
    (tmp_path / "a.mp4").unlink()
    with pytest.raises(MediaError, match=r"a\.mp4 is (gone|missing)"):
        bits_per_pixel(source)


def test_what_a_codec_alone_carried_along_tells_no_period(tmp_path):
    """A bare lattice moves by 7 px a frame; its period is 27. H.264 writes down whichever motion is cheapest, and
    carries its own errors along by it: they are alike from frame to frame, a period or more off. *Common practice*."""
    rng, (x, y) = np.random.default_rng([2, 10]), np.meshgrid(np.arange(480), np.arange(270))
    frames = []
    for n in range(10):
        tiles = np.sin(2 * np.pi * (x - 7.0 * n) / 26.7) + np.sin(2 * np.pi * (y - 3.0 * np.sin(n)) / 40)
        frames.append(np.clip(0.5 + 0.15 * tiles + rng.normal(0, 0.01, tiles.shape), 0, 1).astype(np.float32))
    filmed(tmp_path / "plate.mp4", frames, "h264", 33)
    shot = new(tmp_path / "plate.mp4").shot
    lock = Lock(id="l", name="Lattice", kind="plane", reference_frame=shot.first)
    solved = solve_lock(shot.with_lock(lock), "l", kept_pictures()).lock("l")
    assert [entry.frame for entry in solved.solved] == [shot.first]
    assert "repeats every" in solved.lost[0]


def test_a_soft_field_that_the_codec_repeats_may_have_moved_and_a_sharp_one_did_not(tmp_path):
    """Hardly any light is in the soft one, so that a motion of pixels costs H.264 less left out than written down."""
    rng, said = np.random.default_rng(3), {}
    for name, soft_px in (("soft", 12.0), ("sharp", 0.0)):
        plates = flat_plates("grass", 4, (480, 270), 8, 0.0, speed=0.0, soft_px=soft_px)
        calm = [0.5 + 0.25 * (frame - 0.5) for frame in plates.frames] if soft_px else plates.frames
        frames = [np.clip(each + rng.normal(0, 0.01, each.shape), 0, 1).astype(np.float32) for each in calm]
        video = tmp_path / f"{name}.mp4"
        filmed(video, frames, "h264", 30)
        shot = new(video).shot
        lock = Lock(id="l", name="L", kind="plane", reference_frame=shot.first, motion="translation")
        solved = solve_lock(shot.with_lock(lock), "l", kept_pictures()).lock("l")
        said[name] = max(entry.residual_px for entry in solved.solved), solved.remarks
    assert said["sharp"][0] < 0.2
    assert said["soft"][0] > 1
    assert any("the same from frame to frame, to the last code" in words for words in said["soft"][1])
