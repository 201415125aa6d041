"""What is wrong with the files that a shot uses: whatever stops a render, or spoils it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from functools import partial

import numpy as np

from ..media import MediaError, alpha_trouble, source_problem
from ..media.memory import one_at_a_time
from ..media.picture import Picture, picture_of
from ..media.reader import read_picture, uneven_trouble
from ..media.stamps import GONE
from ..shot import Keyed, Shot, Source, Zone
from ..words import say
from .finding import Finding
from .pictures import Pictures

Progress = Callable[[float, str], None]
SIZES = (1e-3, 1e3)  # times a painting's own size: beyond, nothing of it is seen, or a pixel of it fills the frame
HEIGHTS_M = (1e-3, 1e6)  # of a card
LEAST_AREA_PX2 = 0.5  # between pinned corners


def missing_files(shot: Shot) -> list[Finding]:
    """Sources of which files are not there."""
    found = ((source, source_problem(source)) for source in shot.sources)
    return [Finding("Source", source.id, shot.first, words, severity="wrong") for source, words in found if words]


def damaged_files(shot: Shot, pictures: Pictures, progress: Progress) -> list[Finding]:
    """Sources of which a file is there but cannot be read whole: the first of each. All files that a render of the
    work range opens are read; those that were read before, and are as they were, are not read again."""
    found = []
    for source in shot.sources:
        for picture in (each for each in _needed(shot, source) if each.stamp != GONE):
            progress(0.0, say("Reading {name}", name=source.name))
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
        with one_at_a_time(picture.size):
            read_picture(picture)
    except MediaError as problem:
        return str(problem)
    return ""


def doubtful_files(shot: Shot, pictures: Pictures, lost: Collection[str] = ()) -> list[Finding]:
    """Sources, but those of the ids in `lost`, whose alpha is not what it is taken for, or whose frames are not
    equally long."""
    found = []
    for source in (each for each in shot.sources if each.id not in lost):
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
    """Zones that are so small or so large that nothing of them is seen, or nothing but one pixel."""
    found = []
    for zone in shot.zones:
        if not (zone.on and zone.placement.on):
            continue
        for frame, words in _lost(shot, zone):
            found.append(
                Finding("Place", zone.id, frame, say("{name} {words}", name=zone.name, words=words), severity="wrong")
            )
            break
    return found


def _lost(shot: Shot, zone: Zone) -> Iterator[tuple[int, str]]:
    """Frames on which a zone is placed so that nothing of it can be seen, and how."""
    placement, nothing = zone.placement, say("nothing of it can be seen.")
    if placement.way == "flat":
        for frame in _keyed_frames(shot, placement.size, placement.width):
            size, width = placement.size.at(frame), placement.width.at(frame)
            if not SIZES[0] <= abs(size) <= SIZES[1]:
                yield frame, say("is scaled to {size:.3g} times its size: {nothing}", size=size, nothing=nothing)
            elif not SIZES[0] <= abs(width) <= SIZES[1]:
                yield frame, say("is stretched to {width:.3g} times its width: {nothing}", width=width, nothing=nothing)
    elif placement.way == "card":
        for frame in _keyed_frames(shot, placement.card.height_m):
            height = placement.card.height_m.at(frame)
            if not HEIGHTS_M[0] <= abs(height) <= HEIGHTS_M[1]:
                yield frame, say("is a card {height:.3g} m high: {nothing}", height=height, nothing=nothing)
    elif placement.way == "corner pin":
        for frame in _keyed_frames(shot, *(each for pin in placement.pins for each in (pin.x, pin.y))):
            corners = np.array([(pin.x.at(frame), pin.y.at(frame)) for pin in placement.pins])
            after = np.roll(corners, -1, axis=0)
            area = 0.5 * abs(float((corners[:, 0] * after[:, 1] - corners[:, 1] * after[:, 0]).sum()))
            if area < LEAST_AREA_PX2:
                yield frame, say("is pinned to corners that enclose no area: {nothing}", nothing=nothing)


def _keyed_frames(shot: Shot, *values: Keyed) -> list[int]:
    """The first frame and those of all keys, in order."""
    return list(dict.fromkeys((shot.first, *sorted(key.frame for value in values for key in value.keys))))
