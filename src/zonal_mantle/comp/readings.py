"""All readings of a shot, and the findings among them."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from ..lock import LockReading, read_lock
from ..media import MediaError
from ..place.coverage import CoverageReading, Opening
from ..shot import Matte, Shot
from ..words import say
from .finding import Finding
from .mends import best_lock, hidden_behind
from .over_frames import AT_ONCE, over_frames
from .pictures import Pictures
from .readings_finish import FinishReading, read_finish
from .readings_match import FAR_OFF, MatchReading, read_match
from .readings_matte import (
    CHATTER_ACCEPTED,
    DOUBT_ACCEPTED,
    HALO_ACCEPTED,
    JUMP_ACCEPTED,
    LEAST_PART,
    STRIP_ACCEPTED,
    MatteOverShot,
    MatteTally,
    wrong_picture,
)
from .readings_place import PlaceReading, opening_of, place_words, read_place
from .readings_source import damaged_files, doubtful_files, lost_sizes, missing_files

CHECK_SCALE = 0.25  # of the frames that places are judged on
FEW, LEAST_FRAMES = 4, 16  # every fourth frame's matte is read before all, of shots that are longer than this
PLACES_SHARE = 0.15  # of the time that readings take
HOLES_ACCEPTED = 0.002
LEFTOVER_ACCEPTED = 0.002
AGAINST_SKY_ACCEPTED = 0.001  # of the ground, or of the sky, where a matte is judged by the sky in the picture
RESIDUAL_ACCEPTED_PX = 0.3


@dataclass
class Readings:
    """Every number the shot's stages show, by the id of their matte, lock or zone. `partly`: the mattes are not read on
    all frames yet."""

    mattes: dict[str, MatteOverShot] = field(default_factory=dict)
    locks: dict[str, LockReading] = field(default_factory=dict)
    coverage: dict[str, CoverageReading] = field(default_factory=dict)
    places: dict[str, PlaceReading] = field(default_factory=dict)
    matches: dict[str, MatchReading] = field(default_factory=dict)
    finish: FinishReading | None = None
    findings: list[Finding] = field(default_factory=list)
    partly: bool = False

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON, which has no numbers that are not numbers: they are None."""
        whole = {
            "mattes": {key: asdict(value) for key, value in self.mattes.items()},
            "locks": {key: asdict(value) for key, value in self.locks.items()},
            "coverage": {key: asdict(value) for key, value in self.coverage.items()},
            "places": {key: asdict(value) for key, value in self.places.items()},
            "matches": {key: asdict(value) for key, value in self.matches.items()},
            "finish": None if self.finish is None else asdict(self.finish),
            "findings": [asdict(finding) for finding in self.findings],
        }
        return {key: _plain(value) for key, value in whole.items()}


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _plain(each) for key, each in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(each) for each in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


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
    part : is given what is known before the mattes are measured, which takes longest; and once more when they are on
        some frames of a long shot.
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
            part(replace(out, findings=[*out.findings, *_findings(shot, out)], partly=True))

        told()
        _mattes_over_frames(shot, pictures, progress, out, unread, told)
        _wrong_pictures(shot, pictures, out, unread)
        out.findings += [] if lost else unread.findings(shot)
    out.findings += _findings(shot, out)
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
    hung = [zone for zone in shot.zones if zone.placement.on and not shot.holds_plate(zone)]
    hung = [zone for zone in hung if any(zone.is_seen(frame) for frame in shot.work_frames)]
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


def _matches(shot: Shot, pictures: Pictures, out: Readings, unread: _Unread) -> None:
    for zone in shot.zones:
        if not shot.holds_plate(zone) and zone.placement.on and any(zone.is_seen(f) for f in shot.work_frames):
            with unread.left_out(shot.first):
                out.matches[zone.id] = read_match(shot, zone, pictures)


def _match_findings(shot: Shot, readings: Readings) -> list[Finding]:
    """Zones that are far from the aim that was drawn for them; grain clips that are shorter than the shot."""
    found = []
    for zone in shot.zones:
        reading = readings.matches.get(zone.id)
        if reading is not None and reading.drawn and reading.problem:
            found.append(Finding("Match", zone.id, reading.frame, reading.problem))
        if reading is not None and reading.drawn and not reading.problem and reading.worst > FAR_OFF:
            words = say("{name} is {worst:.0f} ΔE from its aim.", name=zone.name, worst=reading.worst)
            found.append(Finding("Match", zone.id, reading.frame, words))
        clip = zone.match.grain.clip
        if zone.match.grain.on and clip is not None:
            source = shot.source(clip)
            if source.end - source.start + 1 < len(shot.frames):
                words = say(
                    "The grain of {name}, {other}, is shorter than the shot: it begins again.",
                    name=zone.name,
                    other=source.name,
                )
                found.append(Finding("Match", zone.id, shot.first, words))
    return found


def _findings(shot: Shot, readings: Readings) -> list[Finding]:
    found: list[Finding] = []
    for matte in shot.mattes:
        if reading := readings.mattes.get(matte.id):
            found += _matte_findings(matte, reading)
    far = [zone for zone in shot.near_to_far() if zone.is_seen(shot.first)]
    if far and far[-1].blend.mode != "normal" and not far[-1].blend.on_old_sky:
        words = say(
            "{name} is the farthest: nothing lies behind it that {mode} could blend with.",
            name=far[-1].name,
            mode=say(far[-1].blend.mode),
        )
        found.append(Finding("Place", far[-1].id, shot.first, words))
    for zone in shot.zones:
        if place := readings.places.get(zone.id):
            found += [
                Finding("Place", zone.id, frame, words, fault, "wrong" if fault == "uncovered" else "doubt")
                for frame, words, fault in place_words(zone, place)
            ]
        if zone.placement.rides and not shot.lock(zone.placement.rides).holds:
            words = say(
                "{name} rides on {other}, which is not solved.",
                name=zone.name,
                other=shot.lock(zone.placement.rides).name,
            )
            found.append(Finding("Lock", zone.id, shot.first, words, severity="wrong"))
        free = zone.placement.on and zone.on and not zone.placement.rides and not shot.holds_plate(zone)
        if free and (lock := best_lock(shot, zone.distance_m, zone.placement.way)) is not None:
            words = say(
                "{name} rides on nothing: it does not follow the camera, though {other} is solved.",
                name=zone.name,
                other=lock.name,
            )
            found.append(Finding("Lock", zone.id, shot.first, words))
        if behind := hidden_behind(shot, zone):
            what = behind[0].name if len(behind) == 1 else say("{count} zones", count=len(behind))
            words = say("{name} is not cut by a matte: {what} behind it cannot be seen.", name=zone.name, what=what)
            found.append(Finding("Matte", zone.id, shot.first, words, severity="wrong"))
    for lock in shot.locks:
        held = readings.locks.get(lock.id)
        if held and held.worst_px > RESIDUAL_ACCEPTED_PX:
            words = say("{name} is off by {worst_px:.2f} px at its worst.", name=lock.name, worst_px=held.worst_px)
            found.append(Finding("Lock", lock.id, held.worst_frame, words))
        if lock.solved and lock.kind == "camera" and not lock.lens.focal_told:
            reason = lock.lost[-1] if lock.lost else say("this motion does not tell the focal length.")
            words = say("{name}: {reason}", name=lock.name, reason=reason)
            found.append(Finding("Lock", lock.id, lock.reference_frame, words))
        if held and held.solved < held.wanted:
            gaps = [frame for frame in shot.frames if lock.at(frame) is None]
            reason = lock.lost[0] if lock.lost else say("not solved to the end.")
            words = say(
                "{name} holds {solved} of {wanted} frames. {reason}",
                name=lock.name,
                solved=held.solved,
                wanted=held.wanted,
                reason=reason,
            )
            found.append(Finding("Lock", lock.id, gaps[0], words, severity="wrong"))
    if readings.finish is not None:
        found += [Finding("Finish", "finish", frame, words) for frame, words in readings.finish.troubles]
    return found + _match_findings(shot, readings)


def _matte_findings(matte: Matte, reading: MatteOverShot) -> list[Finding]:
    """What is outside of the acceptable in one matte, each on its worst frame."""
    if reading.problem:
        return [
            Finding(
                "Matte",
                matte.id,
                reading.problem_frame,
                say("{name}: {problem}", name=matte.name, problem=reading.problem),
                severity="wrong",
            )
        ]
    found = []
    if reading.doubt is not None and reading.doubt > DOUBT_ACCEPTED:
        x, y = reading.doubt_place
        words = say(
            "{name}: {doubt:.0%} of the frame may be sky or not, about {x:.0f}, {y:.0f}: clouds may be left, "
            "or ground may go. Say which with Sky here or Not sky here.",
            name=matte.name,
            doubt=reading.doubt,
            x=x,
            y=y,
        )
        found.append(Finding("Matte", matte.id, reading.doubt_frame, words, "doubt"))
    if reading.strip > STRIP_ACCEPTED:
        x, y = reading.strip_place
        words = say(
            "{name}: what goes just above the ground, about {x:.0f}, {y:.0f}, is set off from the sky: "
            "distant ground may go. Say so with Not sky here, or with Sky here that it is cloud.",
            name=matte.name,
            x=x,
            y=y,
        )
        found.append(Finding("Matte", matte.id, reading.strip_frame, words, "doubt"))
    if reading.least < LEAST_PART:
        words = say("{name}: nothing of the frame stays.", name=matte.name)
        found.append(Finding("Matte", matte.id, reading.least_frame, words, severity="wrong"))
    if reading.least > 1 - LEAST_PART and matte.pulls:
        words = say("{name}: all of every frame stays; it cuts nothing.", name=matte.name)
        found.append(Finding("Matte", matte.id, reading.least_frame, words, severity="wrong"))
    if reading.jump > JUMP_ACCEPTED:
        words = say(
            "{name}: what stays changes by {jump:.0%} of the frame from the frame before.",
            name=matte.name,
            jump=reading.jump,
        )
        found.append(Finding("Matte", matte.id, reading.jump_frame, words))
    if reading.flicker > 0:
        words = say(
            "{name}: what stays flickers, by {flicker:.1%} of the frame against the frames beside.",
            name=matte.name,
            flicker=reading.flicker,
        )
        found.append(Finding("Matte", matte.id, reading.flicker_frame, words))
    if reading.off_px > 0:
        words = say(
            "{name}: its edge lies {off_words} beside the picture's.", name=matte.name, off_words=reading.off_words
        )
        found.append(Finding("Matte", matte.id, reading.off_frame, words))
    if reading.by_sky:
        return found + _against_sky(matte, reading) + _of_the_edge(matte, reading)
    if reading.holes > HOLES_ACCEPTED:
        size = say("the largest {largest_hole_px2:.0f} px²", largest_hole_px2=reading.largest_hole_px2)
        words = say(
            "{name}: {holes:.1%} of the keep area is not solid, {size}.",
            name=matte.name,
            holes=reading.holes,
            size=size,
        )
        found.append(Finding("Matte", matte.id, reading.holes_frame, words, "holes"))
    if reading.leftover > LEFTOVER_ACCEPTED:
        words = say(
            "{name}: {leftover:.1%} of the dropped area is not empty.", name=matte.name, leftover=reading.leftover
        )
        found.append(Finding("Matte", matte.id, reading.leftover_frame, words, "leftover"))
    return found + _of_the_edge(matte, reading)


def _against_sky(matte: Matte, reading: MatteOverShot) -> list[Finding]:
    """Where a matte of the sky contradicts the picture."""
    found = []
    if reading.leftover > AGAINST_SKY_ACCEPTED:
        x, y = reading.leftover_place
        words = say(
            "{name}: sky or clouds may be left, {leftover:.1%} of the sky, about {x:.0f}, {y:.0f}.",
            name=matte.name,
            leftover=reading.leftover,
            x=x,
            y=y,
        )
        found.append(Finding("Matte", matte.id, reading.leftover_frame, words, "leftover"))
    if reading.holes > AGAINST_SKY_ACCEPTED:
        x, y = reading.holes_place
        words = say(
            "{name}: ground may be gone, {holes:.1%} of it, about {x:.0f}, {y:.0f}.",
            name=matte.name,
            holes=reading.holes,
            x=x,
            y=y,
        )
        found.append(Finding("Matte", matte.id, reading.holes_frame, words, "holes"))
    return found


def _of_the_edge(matte: Matte, reading: MatteOverShot) -> list[Finding]:
    found = []
    if reading.halo is not None and abs(reading.halo) > HALO_ACCEPTED:
        kind = say("pale") if reading.halo > 0 else say("dark")
        words = say(
            "{name}: a {kind} fringe, {halo:+.0f} of 255 toward the old sky.",
            name=matte.name,
            kind=say(kind),
            halo=reading.halo,
        )
        found.append(Finding("Matte", matte.id, reading.halo_frame, words, "halo"))
    if reading.chatter is not None and reading.chatter > CHATTER_ACCEPTED:
        words = say(
            "{name}: the edge chatters, alpha changes by {chatter:.2f} a frame.",
            name=matte.name,
            chatter=reading.chatter,
        )
        found.append(Finding("Matte", matte.id, reading.chatter_frame, words, "chatter"))
    return found
