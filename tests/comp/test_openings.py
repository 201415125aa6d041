"""The pictures that shots open with, from one run to the next."""

import os
from pathlib import Path

import numpy as np
import pytest

from zonal_mantle.comp import openings
from zonal_mantle.comp.openings import MOST_KEPT, Openings

CODES = np.random.default_rng(1).integers(0, 256, (30, 40, 4), np.uint8)


def test_a_picture_comes_back_to_the_bit_under_its_own_key_alone(tmp_path: Path):
    Openings(tmp_path).keep("this", CODES)
    assert np.array_equal(Openings(tmp_path).find("this"), CODES)
    assert Openings(tmp_path).find("that") is None


def test_another_state_of_the_program_finds_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    Openings(tmp_path).keep("this", CODES)
    monkeypatch.setattr(openings, "_program", lambda: "another")
    assert Openings(tmp_path).find("this") is None


@pytest.mark.parametrize("content", [b"", b"\x89PNG\r\n", b"no picture at all"])
def test_a_file_that_was_cut_short_is_no_picture(tmp_path: Path, content: bytes):
    kept = Openings(tmp_path)
    kept.keep("this", CODES)
    next(tmp_path.glob("*.png")).write_bytes(content)
    assert kept.find("this") is None


def test_the_oldest_go_first_and_large_ones_are_not_kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    kept = Openings(tmp_path)
    for k in range(MOST_KEPT + 3):
        kept.keep(str(k), CODES)
        for age, path in enumerate(sorted(tmp_path.glob("*.png"), key=lambda each: -each.stat().st_mtime_ns)):
            os.utime(path, (1e9 - 10 * age, 1e9 - 10 * age))
    assert len(list(tmp_path.glob("*.png"))) == MOST_KEPT
    assert kept.find("0") is None
    assert kept.find(str(MOST_KEPT + 2)) is not None
    monkeypatch.setattr(openings, "MOST_PIXELS", 30 * 40 - 1)
    kept.keep("large", CODES)
    assert kept.find("large") is None


def test_a_folder_that_cannot_be_written_is_no_trouble(tmp_path: Path):
    (tmp_path / "file").write_text("here")
    kept = Openings(tmp_path / "file")
    kept.keep("this", CODES)
    assert kept.find("this") is None
