"""What a codec does to marks is counted into what is said of them."""

import io
from fractions import Fraction

import av
import numpy as np
import pytest

from lock_plates import flat_plates
from stores import kept_pictures
from zonal_mantle.api import new
from zonal_mantle.comp import solve_lock
from zonal_mantle.geometry import carry
from zonal_mantle.lock import propose_marks
from zonal_mantle.media import bits_per_pixel, open_source
from zonal_mantle.render.frames import VideoWriter
from zonal_mantle.shot import Lock, Mark

SIZE, COUNT, BOX = (960, 540), 8, (260, 150, 700, 390)


def filmed(path, frames, format: str, quality: int) -> None:
    with VideoWriter(path, format, Fraction(24), quality) as writer:
        for frame in frames:
            writer.write(np.repeat(frame[..., None], 3, axis=2))


@pytest.mark.parametrize("name", ["coins", "brick"])  # photographs that scikit-image ships, on which nothing was tuned
def test_marks_on_strongly_compressed_video_say_how_far_they_may_be_off(name, tmp_path):
    plates = flat_plates(name, 5, SIZE, COUNT, grain=0.01, shutter=0.25)
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
