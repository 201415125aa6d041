"""Scopes against NumPy's histograms and the numbers of ITU-R BT.709-6."""

import numpy as np
import pytest
from skimage import data

from zonal_mantle.finish import FinishError, scope_of
from zonal_mantle.finish.scopes import (
    CELLS,
    COLUMNS,
    HIGH,
    LEVELS,
    LOW,
    REACH,
    bar_targets,
    colour_difference,
)

PHOTO = (data.coffee() / 255).astype(np.float32)
LUMA = np.array([0.2126, 0.7152, 0.0722])  # BT.709-6, item 3.2


def levels(values: np.ndarray) -> np.ndarray:
    return np.clip(np.floor((values - LOW) / (HIGH - LOW) * LEVELS), 0, LEVELS - 1).astype(int)


def test_a_histogram_is_numpys():
    found = scope_of(PHOTO, "histogram")
    edges = LOW + np.arange(LEVELS + 1) * (HIGH - LOW) / LEVELS
    for channel in range(3):
        wanted = np.histogram(PHOTO[..., channel].astype(np.float64), edges)[0]
        # values that lie on an edge fall to either side by the last bit of float32
        assert np.abs(np.cumsum(found.counts[channel]) - np.cumsum(wanted)).max() < 0.02 * found.pixels
        assert found.counts[channel].sum() == wanted.sum() == found.pixels
    luma = np.histogram(PHOTO @ LUMA, edges)[0]
    assert np.abs(found.counts[3] - luma).sum() < 0.002 * found.pixels


def test_a_parade_is_numpys_histogram_of_each_column():
    noisy = (PHOTO + np.random.default_rng(1).normal(0, 0.01, PHOTO.shape)).astype(np.float32)
    found = scope_of(noisy, "parade").counts
    columns = np.arange(noisy.shape[1]) * COLUMNS // noisy.shape[1]
    for channel in range(3):
        bins = [np.arange(LEVELS + 1), np.arange(COLUMNS + 1)]
        place = np.broadcast_to(columns, noisy.shape[:2]).ravel()
        wanted = np.histogram2d(levels(noisy[..., channel].astype(float)).ravel(), place, bins)[0]
        assert np.abs(found[channel] - wanted).sum() < 0.001 * wanted.sum()


def test_a_waveform_counts_luma_and_every_pixel_once():
    found = scope_of(PHOTO, "waveform")
    assert found.counts.sum() == PHOTO.shape[0] * PHOTO.shape[1]
    grey = np.full((10, 320, 3), 0.503, np.float32)
    counts = scope_of(grey, "waveform").counts[0]
    assert counts[levels(np.array([0.503]))[0]].tolist() == [10] * COLUMNS


def test_the_six_colours_lie_where_bt709_puts_them():
    for name, (cb, cr) in bar_targets(0.75).items():
        rgb = {"red": (1, 0, 0), "magenta": (1, 0, 1), "blue": (0, 0, 1), "cyan": (0, 1, 1), "green": (0, 1, 0)}.get(
            name, (1, 1, 0)
        )
        codes = np.tile(0.75 * np.array(rgb, np.float32), (4, 4, 1))
        counts = scope_of(codes, "vectorscope").counts[0]
        y, x = np.unravel_index(counts.argmax(), counts.shape)
        assert counts[y, x] == 16
        assert abs((x + 0.5) / CELLS * 2 * REACH - REACH - cb) <= REACH / CELLS + 1e-6
        assert abs(REACH - (y + 0.5) / CELLS * 2 * REACH - cr) <= REACH / CELLS + 1e-6
    # BT.709-6, item 3.3: pure blue and pure red reach one half
    assert colour_difference(0, 0, 1)[0] == pytest.approx(0.5, abs=1e-4)
    assert colour_difference(1, 0, 0)[1] == pytest.approx(0.5, abs=1e-4)


def test_only_what_is_masked_in_counts():
    mask = np.zeros(PHOTO.shape[:2], bool)
    mask[50:80, 60:100] = True
    for kind in ("waveform", "parade", "vectorscope", "histogram"):
        masked, cut = scope_of(PHOTO, kind, mask), scope_of(np.ascontiguousarray(PHOTO[50:80, 60:100]), kind)
        assert masked.pixels == cut.pixels == 1200
        if kind in ("vectorscope", "histogram"):
            assert np.array_equal(masked.counts, cut.counts)


def test_values_beyond_the_scale_count_at_its_ends_and_nothing_breaks():
    wild = np.array([[[np.inf, -np.inf, np.nan], [9.0, -9.0, 0.5]]], np.float32)
    found = scope_of(wild, "histogram").counts
    assert found.sum(axis=1).tolist() == [2, 2, 2, 2]
    assert found[0, -1] == 2
    assert found[1, 0] == 2


def test_a_scope_that_there_is_not_is_said():
    with pytest.raises(FinishError, match="There is no scope spectrum"):
        scope_of(PHOTO, "spectrum")  # type: ignore[arg-type]
    with pytest.raises(FinishError, match="region"):
        scope_of(np.zeros((0, 3, 3), np.float32), "waveform")
