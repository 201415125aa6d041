"""The face for scripts: open, new, edit, solve, frames as arrays, readings, save, render."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from .comp import Finding, Pictures, Readings, Suggested, compose, finish_frame, solve_lock, suggest_lock, take_readings
from .comp.finish_fit import PatchCurve, hide_border, patch_curves, plate_falloff
from .comp.match_fit import Fitted, FittedAll, fit_all, fit_part
from .comp.matte_planner import matte_plan, reads_own, zone_matte_plan
from .comp.scope_seen import Of, scope_seen
from .finish import FinishError, Scope, look_from, looks_in, read_look, write_look
from .finish.look import SUFFIX
from .finish.scopes import Kind
from .finish.vignette import Falloff
from .lock.runs import Direction
from .match.grade import tone_of
from .match.tone_files import CDL_FORMATS, read_cdl, write_cdl, write_tone
from .matte import MatteError, feed_of
from .media import open_source
from .render import RenderPlan, render
from .shot import Keyed, LookUse, LumaPull, Mood, Shot, ShotError, Source, Zone, load, save
from .shot.hang import Blend, Mirror
from .shot.match import PARTS, AirMatch, Match, Part
from .shot.moods import in_mood, with_mood
from .shot.zone import Placement
from .words import english, say

__all__ = ["Cutout", "Sample", "Session", "add_painting", "luma_between", "new", "open_shot"]

Progress = Callable[[float, str], None]


def _quiet(share: float, words: str) -> None:
    pass


def new(plate: str | Path, name: str | None = None) -> Session:
    """A shot made from a plate, with one zone that holds it.

    Raises
    ------
    MediaError : the plate is missing or unreadable.
    """
    return Session(shot_from_plate(open_source(plate, "plate"), name))


def shot_from_plate(source: Source, name: str | None = None) -> Shot:
    """The shot that a plate begins: its source and one zone, 60 m away, that holds it."""
    zone = Zone(id="zone1", name="Plate", source=source.id, distance_m=60.0, match=Match(air=AirMatch(on=False)))
    return Shot(name=name or source.name, plate=source.id, sources=(source,), zones=(zone,))


def luma_between(stays: Sample, goes: Sample) -> LumaPull:
    """A luma pull by two samples: solid at what stays, empty at what goes, straight between.

    Raises
    ------
    MatteError : both are as bright.
    """
    if abs(stays.luma - goes.luma) < 1e-3:
        raise MatteError(say("Both samples are as bright: luma cannot tell them apart. Pull by colour instead."))
    reach = abs(stays.luma - goes.luma)
    if stays.luma < goes.luma:
        return LumaPull(high=Keyed(constant=stays.luma), high_softness=Keyed(constant=reach))
    return LumaPull(low=Keyed(constant=stays.luma), low_softness=Keyed(constant=reach), high=Keyed(constant=1e3))


def open_shot(path: str | Path) -> Session:
    """Opens a shot's file.

    Raises
    ------
    ShotError : missing, damaged, or of a newer version.
    """
    return Session(load(Path(path)), Path(path))


def add_painting(shot: Shot, source: Source, distance_m: float | None, name: str | None = None) -> Shot:
    """Adds a source and a zone that holds it, at a distance (None is infinity)."""
    if not any(s.id == source.id for s in shot.sources):
        if source.kind == "sequence":  # pictures with numbers tell no rate
            source = source.but(rate=(shot.rate.numerator, shot.rate.denominator))
        shot = shot.with_source(source)
    zone = Zone(
        id=shot.new_id("zone"), name=name or source.name, source=source.id, distance_m=distance_m,
        placement=Placement(anchor=(shot.size[0] / 2, shot.size[1] / 2)),
    )  # fmt: skip
    return shot.with_zone(zone)


class Cutout(NamedTuple):
    """alpha : (h, w) float32, 0…1. foreground : (h, w, 3) float32, scene-linear Rec. 709, premultiplied. doubt : (h, w)
    float32, how doubtful it is whether a pixel stays, 0…1; likely_wrong : the share of the frame on which alpha is
    likely off by more than a half; both nothing where the matte looks at the zone's own picture."""

    alpha: NDArray[np.float32]
    foreground: NDArray[np.float32]
    doubt: NDArray[np.float32]
    likely_wrong: float = 0.0


class Sample(NamedTuple):
    """An area of the plate. mean, spread : of its colour, scene-linear. luma : mean coded brightness, 0…1."""

    mean: tuple[float, float, float]
    spread: tuple[float, float, float]
    luma: float


class Session:
    """A shot at hand, with its pixels. `shot` is a frozen value: edit it with `edit` or set it anew."""

    def __init__(self, shot: Shot, path: Path | None = None) -> None:
        self.shot, self.path = shot, path
        self.store = Pictures()

    def edit(self, **changes: Any) -> Shot:
        """Changes fields of the shot, checked; returns the new shot."""
        self.shot = self.shot.but(**changes)
        return self.shot

    def add_painting(self, path: str | Path, distance_m: float | None = None, name: str | None = None) -> Zone:
        """Hangs a still, sequence or video at a distance and returns its zone.

        Raises
        ------
        MediaError : the file is missing or unreadable.
        """
        source = open_source(path, self.shot.new_id("source"))
        self.shot = add_painting(self.shot, source, distance_m, name)
        return self.shot.zones[-1]

    def solve(self, lock_id: str, direction: Direction = "both", progress: Progress = _quiet) -> Shot:
        """Solves a lock from its reference frame (LockError, MediaError)."""
        self.shot = solve_lock(self.shot, lock_id, self.store, direction, progress)
        return self.shot

    def suggest_lock(self, progress: Progress = _quiet) -> Suggested:
        """A lock that suits the shot, tried on some of its frames, with reasons and expected error; it is not added.

        Examples
        --------
        >>> suggested = session.suggest_lock()  # doctest: +SKIP
        >>> session.shot = session.shot.with_lock(suggested.lock)  # doctest: +SKIP
        >>> session.solve(suggested.lock.id)  # doctest: +SKIP

        Raises
        ------
        LockError : no plate, or one of a single frame.
        """
        return suggest_lock(self.shot, self.store, progress)

    def frame(self, number: int, scale: float = 1.0) -> NDArray[np.float32]:
        """The finished picture as it leaves: (h, w, 4) float32, scene-linear Rec. 709, premultiplied (FinishError)."""
        return finish_frame(self.shot, number, self.store, scale)

    def composite(self, number: int, scale: float = 1.0) -> NDArray[np.float32]:
        """The zones over one another, without the finish; as `frame`."""
        return compose(self.shot, number, self.store, scale)

    def plate(self, number: int) -> NDArray[np.float32]:
        """The plate: (h, w, 3) float32, scene-linear Rec. 709, the caller's own."""
        source = self.shot.plate_source
        if source is None:
            raise ShotError(say("The shot has no plate."))
        return self.store.plate(source, number).copy()

    def matte(self, zone_id: str, number: int) -> NDArray[np.float32]:
        """A zone's matte on a frame: (h, w) float32, in the pixels of what it looks at (ShotError, MatteError)."""
        zone = self.shot.zone(zone_id)
        matte = self.shot.matte_of(zone)
        if self.shot.plate_source is None:
            raise ShotError(say("The shot has no plate."))
        if matte is None:
            raise ShotError(say("{name} has no matte.", name=zone.name))
        made = self.store.made(matte_plan(self.shot, matte, number, zone=zone))
        if made.problem:
            raise MatteError(made.problem)
        return made.alpha.copy()

    def cutout(self, zone_id: str, frame: int, scale: float = 1.0) -> Cutout:
        """What of a zone is in the picture, by itself: cut, placed, faded, without its match and without the others.

        Parameters
        ----------
        scale : pixels of the result to one of the plate.

        Raises
        ------
        ShotError : there is no such zone. MatteError : its matte cannot be made. MediaError : a source cannot be read.
        """
        zone = self._known(zone_id)
        cut = zone_matte_plan(self.shot, zone, frame, scale)
        if cut is not None and (problem := self.store.made(cut).problem):
            raise MatteError(problem)
        bare = zone.but(match=Match(on=False), mirror=Mirror(), blend=Blend(opacity=zone.blend.opacity))
        picture = compose(self.shot, frame, self.store, scale, [bare])
        told = None if cut is None or reads_own(self.shot, zone) else self.store.judged(cut)
        doubt, likely_wrong = (None, 0.0) if told is None else told
        doubt = np.zeros(picture.shape[:2], np.float32) if doubt is None else doubt
        return Cutout(picture[..., 3].copy(), picture[..., :3].copy(), doubt, likely_wrong)

    def sample(self, frame: int, area: tuple[float, float, float, float]) -> Sample:
        """What an area (x0, y0, x1, y1 in plate pixels) of the plate holds.

        Raises
        ------
        ShotError : the area is outside of the picture, or there is no plate.
        """
        width, height = self.shot.size
        x0, x1 = sorted((area[0], area[2]))
        y0, y1 = sorted((area[1], area[3]))
        left, right, top, bottom = max(int(x0), 0), min(int(np.ceil(x1)), width), max(int(y0), 0), int(np.ceil(y1))
        bottom = min(bottom, height)
        if right <= left or bottom <= top:
            raise ShotError(
                say(
                    "The area {area} is outside of the picture of {width} × {height} pixels.",
                    area=area,
                    width=width,
                    height=height,
                )
            )
        pixels = self.plate(frame)[top:bottom, left:right]
        mean, spread = pixels.mean(axis=(0, 1)), pixels.std(axis=(0, 1))
        r, g, b = (float(value) for value in mean)
        sr, sg, sb = (float(value) for value in spread)
        return Sample((r, g, b), (sr, sg, sb), float(feed_of(np.ascontiguousarray(pixels)).mean()))

    def doubts(self, progress: Progress = _quiet) -> list[Finding]:
        """The findings that say where it is doubtful what is sky, or that no sky was found."""
        found = self.readings(progress).findings
        return [each for each in found if each.fault == "doubt" or "No sky was found" in english(each.words)]

    def fit(self, zone_id: str, part: Part, whole_palette: bool = False, progress: Progress = _quiet) -> Fitted:
        """Measures one part of a zone's match ("tone", "air", "lens", "wrap", "grain") on the plate and sets it.

        Returns
        -------
        What was set, in words and in numbers with their uncertainties. The session's shot has it.

        Raises
        ------
        MatchError : it cannot be measured; nothing is changed. ShotError : there is no such zone or part.
        """
        self._known(zone_id)
        if part not in PARTS:
            raise ShotError(
                say("There is no part {part} of a match. Its parts are: {names}.", part=part, names=", ".join(PARTS))
            )
        found = fit_part(self.shot, zone_id, part, self.store, progress, whole_palette)
        self.shot = found.shot
        return found

    def fit_all(self, zone_ids: Sequence[str] | None = None, progress: Progress = _quiet) -> FittedAll:
        """Fits all parts in their order, for some zones or for all that are not plate; says what it could not
        measure (`refused`, by part)."""
        for id in zone_ids or ():
            self._known(id)
        found = fit_all(self.shot, self.store, zone_ids, progress)
        self.shot = found.shot
        return found

    def copy_match(self, from_id: str, to_ids: Sequence[str], parts: Sequence[Part] = PARTS) -> Shot:
        """Gives other zones the match of one, as a whole or by part (ShotError)."""
        match = self._known(from_id).match
        for part in parts:
            if part not in PARTS:
                raise ShotError(
                    say(
                        "There is no part {part} of a match. Its parts are: {names}.", part=part, names=", ".join(PARTS)
                    )
                )
        for id in to_ids:
            zone = self._known(id)
            changed = zone.match
            for part in parts:
                changed = changed.with_part(part, match)
            self.shot = self.shot.with_zone(zone.but(match=changed))
        return self.shot

    def save_tone(self, zone_id: str, path: str | Path, frame: int | None = None) -> str:
        """Writes a zone's tone as it stands on a frame: its CDL as .cc, .ccc or .cdl, all of it as .clf or .cube.

        Returns
        -------
        What of it the file cannot hold, or nothing.

        Raises
        ------
        MatchError : another kind of file, or it cannot be written.
        """
        zone, at = self._known(zone_id), self.shot.first if frame is None else frame
        if Path(path).suffix.lower() in CDL_FORMATS:
            return write_cdl(Path(path), zone.match.tone.cdl, zone.name, at)
        return write_tone(Path(path), tone_of(zone.match, at))

    def load_cdl(self, zone_id: str, path: str | Path) -> Shot:
        """Gives a zone the first CDL of a .cc, .ccc or .cdl file (MatchError)."""
        zone = self._known(zone_id)
        tone = zone.match.tone.but(on=True, cdl=read_cdl(Path(path)))
        self.shot = self.shot.with_zone(zone.but(match=zone.match.but(on=True, tone=tone)))
        return self.shot

    def _known(self, zone_id: str) -> Zone:
        zone = next((zone for zone in self.shot.zones if zone.id == zone_id), None)
        if zone is None:
            known = ", ".join(z.id for z in self.shot.zones) or "none"
            raise ShotError(
                say(
                    "There is no zone {zone_id} in {name}. Its zones are: {known}.",
                    zone_id=zone_id,
                    name=self.shot.name,
                    known=known,
                )
            )
        return zone

    # --- finish ---
    def look(self, name: str | Path, zone_id: str | None = None, strength: float = 1.0) -> Shot:
        """Lays a look on the whole picture, or on a zone, by a strength of 0 to 1.

        Parameters
        ----------
        name : of a look that ships, or a look's file (.look.json).

        Raises
        ------
        FinishError : there is no such look, or its file cannot be used. ShotError : there is no such zone.
        """
        path = Path(name)
        if not str(name).endswith(SUFFIX):
            known = looks_in()
            if str(name) not in known:
                raise FinishError(
                    say("There is no look {name}. Those that ship are: {names}.", name=name, names=", ".join(known))
                )
            path = known[str(name)]
        use = LookUse(look=read_look(path).look, strength=Keyed(constant=strength))
        if zone_id is None:
            self.shot = self.shot.but(finish=self.shot.finish.but(look=use))
        else:
            self.shot = self.shot.with_zone(self._known(zone_id).but(look=use))
        return self.shot

    def save_look(self, path: str | Path, name: str, zone_id: str | None = None, frame: int | None = None) -> Path:
        """Writes what a zone's tone, or the whole finish, is on a frame as a look, without a picture (FinishError)."""
        at = self.shot.first if frame is None else frame
        finish = self.shot.finish
        if zone_id is None:
            look = look_from(name, finish.tone, at, finish)
        else:
            look = look_from(name, self._known(zone_id).match.tone, at)
        write_look(Path(path), look)
        return Path(path)

    def moods(self) -> tuple[Mood, ...]:
        """The moods that the shot is kept in, in their order."""
        return self.shot.moods

    def keep_mood(self, name: str) -> Shot:
        """Keeps what is at hand as another mood, which is the one at hand from now on."""
        self.shot = with_mood(self.shot, name)
        return self.shot

    def go_to_mood(self, name: str) -> Shot:
        """Puts the shot into a mood by its name or id; the one at hand is put back as it stands (ShotError)."""
        found = next((mood.id for mood in self.shot.moods if name in (mood.id, mood.name)), name)
        self.shot = in_mood(self.shot, found)
        return self.shot

    def scope(
        self, frame: int, kind: Kind, zone: str | None = None, of: Of | None = None,
        region: tuple[float, float, float, float] | None = None,
    ) -> Scope:  # fmt: skip
        """How the coded values on a frame are spread: "waveform", "parade", "vectorscope" or "histogram".

        Parameters
        ----------
        zone : that zone by itself; else the finished picture. of : "Finished", "Composite", "Plate", "Zone" or "Aim"
            (what the zone is compared with). region : x0, y0, x1, y1 in plate pixels, all that counts.

        Raises
        ------
        FinishError : no such scope. MatchError : the zone is not seen there.
        """
        seen: Of = of or ("Finished" if zone is None else "Zone")
        return scope_seen(self.shot, frame, kind, self.store, seen, zone, region)

    def plate_vignette(self, progress: Progress = _quiet) -> Falloff:
        """How much the plate's own corners fall off, in stops with its standard deviation (FinishError)."""
        return plate_falloff(self.shot, self.store, progress)

    def hide_border(self, progress: Progress = _quiet) -> Shot:
        """Sets the least push in that hides every place that stays empty on some frame (FinishError)."""
        self.shot = self.shot.but(finish=self.shot.finish.but(reframe=hide_border(self.shot, self.store, progress)))
        return self.shot

    def patch_curves(self, progress: Progress = _quiet) -> list[PatchCurve]:
        """The shot's patches followed over its frames: ΔE2000 from what they are on their own frame."""
        return patch_curves(self.shot, self.shot.patches, self.store, progress)

    def readings(self, progress: Progress = _quiet) -> Readings:
        """Every reading and finding, measured on every frame."""
        return take_readings(self.shot, self.store, progress)

    def render(self, out: str | Path, progress: Progress = _quiet, **plan: Any) -> list[Path]:
        """Renders to a folder; see `render.RenderPlan` for `format`, `first`, `last`, `scale`, `resume`."""
        return render(self.shot, RenderPlan(Path(out), **plan), progress)

    def save(self, path: str | Path | None = None) -> Path:
        """Writes the shot's file, whole or not at all (ShotError)."""
        target = Path(path) if path else self.path
        if target is None:
            raise ShotError(say("The shot has no file yet. Say where to save it."))
        save(self.shot, target)
        self.path = target
        return target
