"""What is wrong with the files that a shot uses: whatever stops a render, or spoils it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

from ..media import MediaError, alpha_trouble, source_problem
from ..media.picture import Picture, picture_of
from ..media.reader import read_picture, uneven_trouble
from ..shot import Shot, Source
from .finding import Finding
from .pictures import Pictures

Progress = Callable[[float, str], None]
SIZES = (1e-3, 1e3)  # times a painting's own size: beyond, nothing of it is seen, or a pixel of it fills the frame


def missing_files(shot: Shot) -> list[Finding]:
    """Sources of which files are not there."""
    found = ((source, source_problem(source)) for source in shot.sources)
    return [Finding("Source", source.id, shot.first, words, severity="wrong") for source, words in found if words]


def damaged_files(shot: Shot, pictures: Pictures, progress: Progress) -> list[Finding]:
    """Sources of which a file is there but cannot be read whole: the first of each. All files that a render of the
    work range opens are read; those that were read before, and are as they were, are not read again."""
    found = []
    for source in shot.sources:
        for picture in _needed(shot, source):
            progress(0.0, f"Reading {source.name}")
            words = pictures.kept(("whole", picture), partial(_fault_of, picture))
            if words:
                found.append(Finding("Source", source.id, picture.number, words, severity="wrong"))
                break
    return found


def _needed(shot: Shot, source: Source) -> Iterator[Picture]:
    if source.id in (shot.plate, shot.denoised, shot.clean):
        first, last = max(shot.work_frames[0], source.start), min(shot.work_frames[-1], source.end)
        return (picture_of(source, frame) for frame in range(first, last + 1))
    return (picture_of(source, frame) for frame in range(source.start, source.end + 1))


def _fault_of(picture: Picture) -> str:
    try:
        read_picture(picture)
    except MediaError as problem:
        return str(problem)
    return ""


def doubtful_files(shot: Shot, pictures: Pictures) -> list[Finding]:
    """Sources whose alpha is not what it is taken for, or whose frames are not equally long."""
    found = []
    for source in shot.sources:
        try:
            words = pictures.kept(("alpha", picture_of(source, source.start)), partial(_doubt_of, source))
        except MediaError as problem:
            words = str(problem)
        if words:
            found.append(Finding("Source", source.id, shot.first, words))
    return found


def _doubt_of(source: Source) -> str | None:
    return alpha_trouble(source) or uneven_trouble(source)


def lost_sizes(shot: Shot) -> list[Finding]:
    """Zones that are scaled so that nothing of them is seen, or nothing but one pixel."""
    found = []
    for zone in shot.zones:
        size = zone.placement.size
        if not (zone.on and zone.placement.on and zone.placement.way == "flat"):
            continue
        for frame in dict.fromkeys((shot.first, *(key.frame for key in size.keys))):
            value = abs(size.at(frame))
            if not SIZES[0] <= value <= SIZES[1]:
                words = f"{zone.name} is scaled to {size.at(frame):.3g} times its size: nothing of it can be seen."
                found.append(Finding("Place", zone.id, frame, words, severity="wrong"))
                break
    return found
