"""The small demo that ships with the application: its plate as 10-bit video, ready to be worked on."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable
from pathlib import Path

from ..paths import cache_dir
from .write import NAME

SHIPPED = Path(__file__).parent / "saltern"


def demo_shot(progress: Callable[[float, str], None] = lambda share, words: None) -> Path:
    """The demo's shot in a folder that can be written; it is copied there the first time, and after each release that
    changed it. What somebody saved in it stays.

    Raises
    ------
    FileNotFoundError : the demo does not ship with this installation.
    """
    name = hashlib.blake2b((SHIPPED / f"{NAME}.shot.json").read_bytes(), digest_size=6).hexdigest()
    folder = cache_dir() / f"demo-{name}"
    shot = folder / f"{NAME}.shot.json"
    if not shot.exists():
        progress(0.0, "Laying out the demo")
        part = folder.with_suffix(".part")
        shutil.rmtree(part, ignore_errors=True)
        shutil.copytree(SHIPPED, part)
        shutil.rmtree(folder, ignore_errors=True)
        part.rename(folder)
    return shot
