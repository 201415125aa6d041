"""Where the application keeps what is not part of a shot."""

from __future__ import annotations

import logging
import os
import tempfile
from pathlib import Path

import platformdirs

log = logging.getLogger(__name__)


def cache_dir() -> Path:
    """Folder for what can be made again: compiled kernels, the demo."""
    return _made(cache_dir_name())


def cache_dir_name() -> Path:
    """Where that folder is, there or not."""
    return platformdirs.user_cache_path("zonal-mantle")


def state_dir() -> Path:
    """Folder for the log, recent shots and autosaves of unnamed shots."""
    return _made(platformdirs.user_state_path("zonal-mantle"))


def looks_dir() -> Path:
    """Folder for a person's own looks, there or not."""
    return platformdirs.user_data_path("zonal-mantle") / "looks"


def _made(path: Path) -> Path:
    path.mkdir(parents=True, exist_ok=True)
    return path


def keep_kernels_in_cache() -> None:
    """Lets compiled kernels be kept in the cache folder, also when the program is installed read-only; in a temporary
    folder where nothing can be written at home."""
    if "NUMBA_CACHE_DIR" in os.environ:
        return
    try:
        folder = cache_dir() / "kernels"
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder):
            pass
    except OSError:
        folder = Path(tempfile.gettempdir()) / f"zonal-mantle-kernels-{os.getuid()}"
        folder.mkdir(mode=0o700, exist_ok=True)
        log.warning("Nothing can be written at %s; compiled kernels are kept in %s.", cache_dir_name(), folder)
    os.environ["NUMBA_CACHE_DIR"] = str(folder)
