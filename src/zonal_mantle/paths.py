"""Where the application keeps what is not part of a shot."""

from __future__ import annotations

import os
from pathlib import Path

import platformdirs


def cache_dir() -> Path:
    """Folder for what can be made again: compiled kernels, the demo."""
    return _made(platformdirs.user_cache_path("zonal-mantle"))


def state_dir() -> Path:
    """Folder for the log, recent shots and autosaves of unnamed shots."""
    return _made(platformdirs.user_state_path("zonal-mantle"))


def _made(path: Path) -> Path:
    path.mkdir(parents=True, exist_ok=True)
    return path


def keep_kernels_in_cache() -> None:
    """Lets compiled kernels be kept in the cache folder, also when the program is installed read-only."""
    if "NUMBA_CACHE_DIR" not in os.environ:
        os.environ["NUMBA_CACHE_DIR"] = str(cache_dir() / "kernels")
