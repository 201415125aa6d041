"""Takes all readings of a shot."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from functools import partial

from ..lock import read_lock
from ..media import MediaError
from ..place.coverage import Opening
from ..shot import Shot, Zone
from ..words import say
from .finding import Finding
from .findings import findings_of
from .over_frames import AT_ONCE, over_frames
from .pictures import Pictures
from .readings import Readings
from .readings_finish import read_finish
from .readings_grain import has_grain, read_grain
from .readings_lens import read_lens
from .readings_match import read_match
from .readings_matte import MatteTally, wrong_picture
from .readings_place import opening_of, read_place
from .readings_ride import read_ride
from .readings_source import damaged_files, doubtful_files, lost_sizes, missing_files

CHECK_SCALE = 0.25  # of the frames that places are judged on
FEW, LEAST_FRAMES = 4, 16  # every fourth frame's matte is read before all, of shots that are longer than this
PLACES_SHARE = 0.15  # of the time that readings take


def take_readings(
    shot: Shot,
    pictures: Pictures,
    progress: Callable[[float, str], None] = lambda share, words: None,
    scale: float = CHECK_SCALE,
    part: Callable[[Readings], None] = lambda readings: None,
) -> Readings:
    """Measures every stage on every frame: mattes at full size on the pixels that are rendered, places at `scale`.
    Missing and damaged files are findings; what can be measured without them is measured.

    Parameters
    ----------
    part : is given what is known before grain and sharpness are measured, before the mattes are, which takes longest,
        and once more when they are on some frames of a long shot.
    """
    out = Readings()
    lost = missing_files(shot) + damaged_files(shot, pictures, progress)
    out.findings += lost + doubtful_files(shot, pictures, {finding.part for finding in lost}) + lost_sizes(shot)
    for lock in shot.locks:
        reading = read_lock(lock, shot.frames)
        if reading is not None:
            out.locks[lock.id] = reading
    if shot.plate_source is not None:
        unread = _Unread()
        _places_over_frames(shot, pictures, scale, progress, out, unread)
        _matches(shot, pictures, out, unread)
        with unread.left_out(shot.first):
            out.finish = read_finish(shot, pictures)

        def told() -> None:
            part(
                replace(
                    out,
                    grains=dict(out.grains),
                    lenses=dict(out.lenses),
                    findings=[*out.findings, *findings_of(shot, out)],
                    partly=True,
                )
            )

        told()
        _grains(shot, pictures, out, unread)
        _lenses(shot, pictures, out, unread)
        told()
        _mattes_over_frames(shot, pictures, progress, out, unread, told)
        _wrong_pictures(shot, pictures, out, unread)
        out.findings += [] if lost else unread.findings(shot)
    out.findings += findings_of(shot, out)
    return out


class _Unread:
    """Leaves out what cannot be measured since a file cannot be read, and remembers what was said of the first."""

    def __init__(self) -> None:
        self._first: tuple[int, str] | None = None

    @contextmanager
    def left_out(self, frame: int) -> Iterator[None]:
        """What is measured in it on a frame is left out where a file cannot be read."""
        try:
            yield
        except MediaError as problem:
            self._first = self._first or (frame, str(problem))

    def findings(self, shot: Shot) -> list[Finding]:
        """A finding on the first file that could not be read."""
        if self._first is None:
            return []
        frame, words = self._first
        return [Finding("Source", shot.plate or "", frame, words, severity="wrong")]


def _wrong_pictures(shot: Shot, pictures: Pictures, out: Readings, unread: _Unread) -> None:
    """Screens that are looked for in the wrong picture."""
    for zone in shot.zones:
        with unread.left_out(shot.first):
            if words := wrong_picture(shot, zone, shot.first, pictures):
                out.findings.append(Finding("Matte", zone.matte.id or zone.id, shot.first, words))


def _mattes_over_frames(
    shot: Shot,
    pictures: Pictures,
    progress: Callable[[float, str], None],
    out: Readings,
    unread: _Unread,
    part: Callable[[], None],
) -> None:
    """Some frames all over the shot first, of which `part` is told; then all."""
    used = {zone.matte.id for zone in shot.zones if zone.on and zone.matte.on}
    tallies = {matte.id: MatteTally(shot, matte, pictures) for matte in shot.mattes if matte.id in used}
    frames = shot.work_frames
    few = frames[::FEW] if len(frames) > LEAST_FRAMES else []
    wanted = [(frame, tally) for some in (few, frames) for frame in some for tally in tallies.values()]

    def add(of: tuple[int, MatteTally]) -> None:
        with unread.left_out(of[0]):
            of[1].add(of[0])

    def begun(place: int, of: tuple[int, MatteTally]) -> None:
        progress(PLACES_SHARE + (1 - PLACES_SHARE) * place / len(wanted), say("Reading frame {of}", of=of[0]))
        if few and place == len(few) * len(tallies) + AT_ONCE:  # those before are done
            out.mattes = {id: tally.result() for id, tally in tallies.items() if tally.frames}
            part()

    over_frames(wanted, add, begun)
    out.mattes = {id: tally.result() for id, tally in tallies.items() if tally.frames}


def _places_over_frames(
    shot: Shot,
    pictures: Pictures,
    scale: float,
    progress: Callable[[float, str], None],
    out: Readings,
    unread: _Unread,
) -> None:
    hung = _added(shot)
    openings: dict[str, dict[int, Opening]] = {zone.id: {} for zone in hung}

    def opened(frame: int) -> dict[str, Opening]:
        found = {}
        for zone in (each for each in hung if each.is_seen(frame)):
            with unread.left_out(frame):
                found[zone.id] = opening_of(shot, zone, frame, pictures, scale)
        return found

    frames = shot.work_frames
    each = over_frames(
        frames,
        opened,
        lambda done, frame: progress(PLACES_SHARE * done / len(frames), say("Reading frame {frame}", frame=frame)),
    )
    for frame, found in zip(frames, each):
        for id, opening in found.items():
            openings[id][frame] = opening
    for zone in (each for each in hung if openings[each.id]):
        with unread.left_out(shot.first):
            out.places[zone.id] = read_place(shot, zone, openings[zone.id], pictures)
            out.coverage[zone.id] = out.places[zone.id].coverage
        ride = read_ride(shot, zone, openings[zone.id], pictures, partial(_within, progress, PLACES_SHARE))
        if ride is not None:
            out.rides[zone.id] = ride


def _within(progress: Callable[[float, str], None], share: float, _: float, words: str) -> None:
    progress(share, words)


def _added(shot: Shot) -> list[Zone]:
    """The zones that are hung before the plate and seen."""
    hung = [zone for zone in shot.zones if zone.placement.on and not shot.holds_plate(zone)]
    return [zone for zone in hung if any(zone.is_seen(frame) for frame in shot.work_frames)]


def _matches(shot: Shot, pictures: Pictures, out: Readings, unread: _Unread) -> None:
    for zone in _added(shot):
        with unread.left_out(shot.first):
            out.matches[zone.id] = read_match(shot, zone, pictures)


def _grains(shot: Shot, pictures: Pictures, out: Readings, unread: _Unread) -> None:
    for zone in shot.zones:
        if has_grain(shot, zone) and any(zone.is_seen(f) for f in shot.work_frames):
            with unread.left_out(shot.first):
                out.grains[zone.id] = read_grain(shot, zone, pictures)


def _lenses(shot: Shot, pictures: Pictures, out: Readings, unread: _Unread) -> None:
    for zone in _added(shot):
        with unread.left_out(shot.first):
            out.lenses[zone.id] = read_lens(shot, zone, pictures)
