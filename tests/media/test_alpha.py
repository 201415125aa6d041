"""An alpha that is not what its file claims."""

import cv2
import numpy as np
import pytest
from skimage import data

from zonal_mantle.media import alpha_trouble, open_source
from zonal_mantle.media.alpha import alpha_seems
from zonal_mantle.media.still import write_still


def cut_out(seed: int, straight: bool) -> np.ndarray:
    """A photograph (scikit-image's `rocket` or `coffee`) cut out softly."""
    picture = (getattr(data, ("rocket", "coffee", "astronaut")[seed])() / 255).astype(np.float32)
    h, w = picture.shape[:2]
    y, x = np.mgrid[0:h, 0:w]
    alpha = np.clip(1.4 - np.hypot((x - w / 2) / w, (y - h / 2) / h) * 4, 0, 1)
    alpha = cv2.GaussianBlur(alpha.astype(np.float32), (0, 0), 5)
    colour = 0.15 + 0.8 * picture
    return np.dstack([colour if straight else colour * alpha[..., None], alpha]).astype(np.float32)


@pytest.mark.parametrize("seed", [0, 1, 2])
@pytest.mark.parametrize("true", ["straight", "premultiplied"])
def test_the_other_alpha_is_seen(seed, true):
    pixels = cut_out(seed, true == "straight")
    other = {"straight": "premultiplied", "premultiplied": "straight"}[true]
    assert alpha_seems(pixels, true) is None
    assert alpha_seems(pixels, other) == true


def test_what_does_not_tell_is_left_alone():
    assert alpha_seems(np.ones((40, 40, 4), np.float32), "straight") is None
    dark = cut_out(0, False) * np.array([0.05, 0.05, 0.05, 1], np.float32)
    assert alpha_seems(dark, "straight") is None
    bright = cut_out(0, True)
    bright[..., :3] *= 8
    assert alpha_seems(bright, "premultiplied") is None


def test_a_file_with_the_wrong_alpha_is_named(tmp_path):
    write_still(tmp_path / "tower.exr", cut_out(0, True), "half")  # an EXR is taken to be premultiplied
    source = open_source(tmp_path / "tower.exr")
    assert "look straight" in alpha_trouble(source)
    assert alpha_trouble(source.but(alpha="straight")) is None
    assert alpha_trouble(source.but(alpha="none")) is None
