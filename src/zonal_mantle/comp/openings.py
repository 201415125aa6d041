"""Pictures that shots open with, kept from one run to the next: a shot is seen while its files are still read."""

from __future__ import annotations

import functools
import logging
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from .. import __version__
from ..paths import cache_dir, write_whole
from .digest import digest

log = logging.getLogger(__name__)
MOST_KEPT = 16
MOST_PIXELS = 10_000_000  # of a picture that is kept
LITTLE = 1  # of PNG's compression, which is the quickest


class Openings:
    """Pictures by the key of all that they depend on (`view_key`), in a folder; the oldest go first. A picture is found
    under its key alone, by the same state of this program: any other shot, file or release has another.

    Examples
    --------
    >>> import tempfile
    >>> kept = Openings(Path(tempfile.mkdtemp()))
    >>> kept.keep("a", np.full((2, 3, 4), 7, np.uint8))
    >>> kept.find("a").shape, kept.find("b")
    ((2, 3, 4), None)
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder

    def keep(self, key: str, codes: NDArray[np.uint8]) -> None:
        """Keeps a picture of display codes, (h, w, 4) uint8; one that cannot be written is not kept, and one of more
        than 10 megapixels neither."""
        if codes.shape[0] * codes.shape[1] > MOST_PIXELS:
            return
        try:
            path = self._path(key)
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, cv2.imencode(".png", codes, [cv2.IMWRITE_PNG_COMPRESSION, LITTLE])[1].tobytes())
            old = sorted(path.parent.glob("*.png"), key=lambda each: each.stat().st_mtime)[:-MOST_KEPT]
            for each in old:
                each.unlink(missing_ok=True)
        except (OSError, cv2.error) as problem:
            log.info("The picture that a shot opens with was not kept: %s", problem)

    def find(self, key: str) -> NDArray[np.uint8] | None:
        """The picture with a key, (h, w, 4) uint8; None where there is none, or none that can be read."""
        try:
            data = self._path(key).read_bytes()
            codes = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED) if data else None
        except (OSError, cv2.error):
            return None
        is_whole = codes is not None and codes.dtype == np.uint8 and codes.ndim == 3 and codes.shape[2] == 4
        return np.asarray(codes, np.uint8) if is_whole else None

    def _path(self, key: str) -> Path:
        folder = self._folder if self._folder is not None else cache_dir() / "openings"
        return folder / f"{digest((key, _program()))}.png"


@functools.cache
def _program() -> str:
    """The state of the program: its release, and when its parts were written last."""
    files = Path(__file__).parents[1].rglob("*.py")
    return f"{__version__} {max(file.stat().st_mtime_ns for file in files)}"
