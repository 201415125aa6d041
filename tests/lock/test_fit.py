"""Motions from points, against OpenCV and scikit-image."""

import cv2
import numpy as np
import pytest
from skimage.transform import AffineTransform, ProjectiveTransform

from zonal_mantle.geometry import carry
from zonal_mantle.lock import fit_motion, robust_motion
from zonal_mantle.lock.fit import possible_motion

TRUE = np.array([[1.04, 0.03, 12.0], [-0.05, 0.97, -7.0], [2e-5, -3e-5, 1.0]])


def pairs(count, noise, seed=1):
    rng = np.random.default_rng(seed)
    source = rng.uniform((0, 0), (1280, 720), (count, 2))
    return source, carry(TRUE, source) + rng.normal(0, noise, (count, 2))


def test_a_perspective_agrees_with_opencv():
    source, target = pairs(40, 0.3)
    ours, theirs = fit_motion(source, target, "perspective"), cv2.findHomography(source, target, 0)[0]
    corners = np.array([[0, 0], [1280, 0], [1280, 720], [0, 720.0]])
    assert carry(ours, corners) == pytest.approx(carry(theirs, corners), abs=2e-3)


def test_an_affine_and_an_exact_perspective_agree_with_scikit_image():
    source, _ = pairs(12, 0.0)
    target = carry(np.array([[1.1, 0.2, 5.0], [-0.1, 0.9, 3.0], [0, 0, 1.0]]), source)
    theirs = AffineTransform.from_estimate(source, target)
    assert fit_motion(source, target, "affine") == pytest.approx(theirs.params, abs=1e-6)
    source, target = pairs(4, 0.0)
    exact = ProjectiveTransform.from_estimate(source, target)
    assert fit_motion(source, target, "perspective") == pytest.approx(exact.params / exact.params[2, 2], abs=1e-6)


@pytest.mark.parametrize("bad", [1, 3])
def test_bad_points_count_for_nothing(bad):
    source, target = pairs(14, 0.05)
    target[:bad] += (25, -40)
    found, weights = robust_motion(source, target, "perspective")
    corners = np.array([[100, 100], [1180, 100], [1180, 620], [100, 620.0]])
    assert np.abs(carry(found, corners) - carry(TRUE, corners)).max() < 0.3
    assert weights[:bad].max() < 0.01
    assert np.median(weights[bad:]) > 0.5


def test_few_points_tell_simple_motions_only():
    assert [possible_motion("perspective", n) for n in (1, 2, 3, 4, 9)] == [
        "translation", "similarity", "affine", "perspective", "perspective"
    ]  # fmt: skip
    assert possible_motion("similarity", 9) == "similarity"


def test_points_that_tell_too_little_are_refused():
    line = np.array([[0.0, 0], [1, 1], [2, 2], [3, 3]])
    for motion in ("affine", "perspective"):
        with pytest.raises(ValueError, match="line"):
            fit_motion(line, line + 1, motion)
    with pytest.raises(ValueError, match="at least 4"):
        fit_motion(line[:3], line[:3], "perspective")
