"""The library of skies as sources of a shot: where it lies, what is painted of it, and how a sky is hung."""

from __future__ import annotations

from pathlib import Path

from ..media import open_source
from ..paths import cache_dir
from ..shot import Line, Source
from ..skies import SkyCard, read_library
from ..skies.library import VERSION


def library_folder() -> Path:
    """Where the library is kept."""
    return cache_dir() / f"skies-{VERSION}"


def card_of(path: Path) -> SkyCard | None:
    """The library's card of a file, or None where it is another file."""
    if path.parent != library_folder():
        return None
    return next((card for card in read_library(library_folder(), partly=True) or [] if card.file == path.name), None)


def source_of(card: SkyCard, id: str) -> Source:
    """A sky of the library as a source, with its horizon and its sun.

    Raises
    ------
    MediaError : it cannot be read.
    """
    source = open_source(library_folder() / card.file, id, as_still=True).but(name=card.name)
    width, height = card.size
    y = card.horizon * height
    sun = None
    if card.around:
        sun = ((0.5 + card.bearing_deg / 360) * width, (0.5 - card.height_deg / 180) * height)
    line = Line(id=f"{id}-horizon", a=(0.1 * width, y), b=(0.9 * width, y))
    return source.but(lines=() if card.around else (line,), sun=sun, encoding_guessed=False)
