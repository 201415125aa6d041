"""The match judged by libraries that are not ours: structural similarity and noise of scikit-image, and FLIP.

References
----------
Wang, Bovik, Sheikh & Simoncelli, Image quality assessment: from error visibility to structural similarity, IEEE Trans.
Image Processing 13 (2004). Andersson et al., FLIP: A Difference Evaluator for Alternating Images, HPG 2020. Donoho &
Johnstone, Ideal spatial adaptation by wavelet shrinkage, Biometrika 81 (1994).
"""

import flip_evaluator
import numpy as np
import pytest
from skimage import data
from skimage.metrics import structural_similarity
from skimage.restoration import estimate_sigma

from benchmarks.match import FRAMES, filmed, photograph
from zonal_mantle.comp import compose
from zonal_mantle.match.noise import measure_noise
from zonal_mantle.media.curves import srgb_encode
from zonal_mantle.shot import GrainMatch, Match


@pytest.mark.parametrize(("name", "sigma"), [("coffee", 0.01), ("astronaut", 0.03)])
def test_noise_that_was_added_to_a_photograph_is_told_as_a_wavelet_estimate_tells_it(name, sigma):
    """The wavelet estimate counts fine texture as noise; ours leaves it out, and is nearer to what was added."""
    codes = (getattr(data, name)()[..., :3] / 255).astype(np.float32)
    codes = 0.2 + 0.6 * codes  # nothing is cut off
    rng = np.random.default_rng(5)
    frames = [(codes + rng.normal(0, sigma, codes.shape)).astype(np.float32) for _ in range(3)]
    found = measure_noise(frames, [None] * 3)
    own = float(np.interp(0.5, found.model.levels, [row[1] for row in found.model.deviation]))
    other = float(estimate_sigma(frames[0], channel_axis=-1, average_sigmas=True))
    assert own == pytest.approx(sigma, rel=0.08)
    assert abs(own - sigma) <= abs(other - sigma) + 0.02 * sigma
    assert own == pytest.approx(other, rel=0.35)


def test_a_fitted_element_is_more_like_what_was_filmed(tmp_path):
    """Toned, out of focus and grained as the plate was; its own picture is another part of the photograph than the
    aim. What was filmed is known without its grain."""
    session, zone, truth = filmed(photograph("chelsea"), "all", tmp_path, np.random.default_rng(11))
    frame = 1001 + FRAMES // 2
    own = compose(session.shot, frame, session.store, 1.0, [zone.but(match=Match(on=False))])[..., 3] > 0.99
    rows, columns = np.nonzero(own)
    part = slice(rows.min() + 8, rows.max() - 8), slice(columns.min() + 8, columns.max() - 8)

    def seen() -> np.ndarray:
        now = session.shot.zone(zone.id)
        bare = session.shot.with_zone(now.but(match=now.match.but(grain=GrainMatch())))
        return np.ascontiguousarray(srgb_encode(compose(bare, frame, session.store)[..., :3])[part], np.float32)

    wanted = np.ascontiguousarray(srgb_encode(truth)[part], np.float32)

    def judged() -> tuple[float, float]:
        picture = np.clip(seen(), 0, 1)
        alike = structural_similarity(wanted, picture, data_range=1.0, channel_axis=-1)
        return float(alike), float(flip_evaluator.evaluate(wanted, picture, "LDR")[1])

    before = judged()
    session.fit_all([zone.id])
    after = judged()
    assert after[0] > max(before[0], 0.9)  # structural similarity
    assert after[1] < 0.65 * before[1]  # FLIP, 0 is alike
