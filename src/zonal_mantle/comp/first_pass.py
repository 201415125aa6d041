"""The first pass over a plate that was just opened: what a compositor would do first, each a step of its own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ..matte import MatteError
from ..place.coverage import covering
from ..place.hands import flipped_in_place
from ..shot import ClearSkyPull, MantleError, Matte, MatteUse, Placement, Shot, Zone
from ..shot.match import PARTS
from ..skies import SkyCard
from ..words import mark, say
from .all_readings import CHECK_SCALE
from .fits import fits_this_plate
from .match_fit import fit_all
from .matte_planner import zone_matte_plan
from .mends import best_lock
from .over_frames import over_frames
from .pictures import Pictures
from .readings_place import opening_of
from .shelf import source_of
from .solve import solve_lock
from .suggest import suggest_lock

Progress = Callable[[float, str], None]
SPARE_PX = 3.0  # beyond the frame that a painting is made to cover


@dataclass(frozen=True)
class Step:
    """A step of the pass: what it is called in the history, the shot after it, and what was done or why not."""

    label: str
    shot: Shot
    words: str
    done: bool = True


def carried(step: Shot, began: Shot, now: Shot) -> Shot | None:
    """The shot after a step of a pass that began on another state of it than there is now: notes and names that came
    meanwhile stay. None where something was changed that the step changes too."""
    values = {}
    for name in type(began).model_fields:
        was, is_now, then = (getattr(each, name) for each in (began, now, step))
        if then != was and is_now != was:
            return None
        values[name] = then if then != was else is_now
    return now.but(**values)


def first_pass(shot: Shot, pictures: Pictures, cards: list[SkyCard], progress: Progress) -> list[Step]:
    """Suggested lock, automatic matte, best-fitting sky, cover, fits. A step that cannot be done says so and changes
    nothing; what is there already is kept. Where no sky is found the plate stays whole and nothing is hung behind it.

    Parameters
    ----------
    cards : the library's skies that may be hung.
    progress : gets the share 0…1 and words; may raise `Cancelled`.

    Raises
    ------
    MediaError : the plate cannot be read.
    """
    steps: list[Step] = []
    acts: tuple[tuple[str, float, float, Callable[[Shot, Progress], tuple[Shot, str]]], ...] = (
        (mark("Lock"), 0.0, 0.5, lambda now, p: _locked(now, pictures, p)),
        (mark("Matte"), 0.5, 0.52, lambda now, p: _cut(now, pictures)),
        (mark("Sky"), 0.52, 0.6, lambda now, p: _hung(now, pictures, cards)),
        (mark("Cover"), 0.6, 0.75, lambda now, p: _covered(now, pictures, p)),
        (mark("Fits"), 0.75, 1.0, lambda now, p: _fitted(now, pictures, p)),
    )
    reached = 0.0
    for name, start, end, act in acts:

        def told(share: float, words: str, start: float = start, end: float = end) -> None:
            nonlocal reached
            reached = max(reached, start + share * (end - start))  # a part that begins anew does not lead back
            progress(reached, words)

        label = say("First pass: {part}", part=say(name).lower())
        told(0.0, label)
        try:
            new, words = act(shot, told)
        except MantleError as problem:
            steps.append(Step(label, shot, f"{say(name)}: {problem}", done=False))
            if name == "Matte":  # nothing would be seen of what is hung behind
                words = say("Sky, cover and fits: left out, for the plate is not cut.")
                steps.append(Step(say("First pass: left out"), shot, words, done=False))
                break
            continue
        shot = new
        steps.append(Step(label, shot, f"{say(name)}: {words}"))
    return steps


def _locked(shot: Shot, pictures: Pictures, progress: Progress) -> tuple[Shot, str]:
    known = best_lock(shot)
    if known is not None:
        return shot, say("{name} was there already.", name=known.name)
    found = suggest_lock(shot, pictures, lambda share, words: progress(0.3 * share, words))
    lock = (found.solved or found.lock).but(id=shot.new_id("lock"))
    shot = shot.with_lock(lock)
    if found.solved is None:
        shot = solve_lock(shot, lock.id, pictures, "both", lambda share, words: progress(0.3 + 0.7 * share, words))
    solved = shot.lock(lock.id)
    return shot, say(
        "{name} is solved on {count} of {total} frames.",
        name=solved.name,
        count=len(solved.solved),
        total=len(shot.frames),
    )


def _cut(shot: Shot, pictures: Pictures) -> tuple[Shot, str]:
    zone = next((each for each in shot.zones if shot.holds_plate(each)), None)
    if zone is None:
        return shot, say("no zone holds the plate, nothing is cut.")
    if shot.matte_of(zone) is not None:
        return shot, say("{name} has one already.", name=zone.name)
    matte = Matte(
        id=shot.new_id("matte"), name=say("{name} matte", name=zone.name), pulls=(ClearSkyPull(id=shot.new_id("pull")),)
    )
    cut = zone.but(matte=MatteUse(on=True, id=matte.id))
    shot = shot.with_matte(matte).with_zone(cut)
    frames = shot.frames
    tried = {frames[0], frames[len(frames) // 2], frames[-1]}
    plans = [zone_matte_plan(shot, cut, frame, CHECK_SCALE) for frame in sorted(tried)]
    made = [(pictures.made(plan), pictures.judged(plan)[0]) for plan in plans if plan is not None]
    if made and all(each.problem for each, _ in made):
        raise MatteError(made[0][0].problem)
    if any(doubt is not None and each.is_doubted(doubt) for each, doubt in made):
        return shot, say(
            "{name} is cut by an automatic sky matte, but what goes may be no sky at all: look at it with Show "
            "doubtful areas.",
            name=zone.name,
        )
    return shot, say("{name} is cut by an automatic sky matte.", name=zone.name)


def _sky(shot: Shot) -> Zone | None:
    """The farthest zone that is not plate."""
    return next((zone for zone in reversed(shot.near_to_far()) if not shot.holds_plate(zone)), None)


def _hung(shot: Shot, pictures: Pictures, cards: list[SkyCard]) -> tuple[Shot, str]:
    known = _sky(shot)
    if known is not None and known.distance_m is None:
        return shot, say("{name} was there already.", name=known.name)
    lock = best_lock(shot)
    turns = lock is not None and lock.knows_camera
    fits = fits_this_plate(shot, [card for card in cards if turns or not card.around], pictures)
    if not fits:
        return shot, say("no sky of the library is there.")
    best = fits[0]
    source = source_of(best.card, shot.new_id("source"))
    middle = (shot.size[0] / 2, shot.size[1] / 2)
    zone = Zone(
        id=shot.new_id("zone"), name=source.name, source=source.id,
        placement=Placement(
            anchor=middle, rides=None if lock is None else lock.id, way="dome" if best.card.around else "flat"
        ),
    )  # fmt: skip
    shot = shot.with_source(source).with_zone(zone)
    if best.flip:
        shot = shot.with_zone(flipped_in_place(shot, zone))
    rides = "" if lock is None else say(", riding on {name}", name=lock.name)
    return shot, say(
        "{name} is added at infinity{rides}: {names}.", name=source.name, rides=rides, names="; ".join(best.reasons)
    )


def _covered(shot: Shot, pictures: Pictures, progress: Progress) -> tuple[Shot, str]:
    zone = _sky(shot)
    if zone is None or zone.placement.way != "flat":
        return shot, say("nothing that has to be scaled.")
    frames = shot.work_frames
    each = over_frames(
        frames,
        lambda frame: opening_of(shot, zone, frame, pictures, CHECK_SCALE),
        lambda done, frame: progress(done / len(frames), say("Looking at frame {frame}", frame=frame)),
    )
    openings = dict(zip(frames, each))
    try:
        placement = covering(shot, zone, openings, spare_px=SPARE_PX)
    except ValueError as problem:
        raise MantleError(str(problem)) from problem
    grown = placement.size.at(shot.first) / zone.placement.size.factor_at(shot.first)
    words = say("{name} covers every frame, at {grown:.0%} of its size.", name=zone.name, grown=grown)
    return shot.with_zone(zone.but(placement=placement)), words


def _fitted(shot: Shot, pictures: Pictures, progress: Progress) -> tuple[Shot, str]:
    zone = _sky(shot)
    if zone is None:
        return shot, say("there is nothing to fit.")
    found = fit_all(shot, pictures, [zone.id], progress)
    new = found.shot.zone(zone.id).match
    match = shot.zone(zone.id).match
    for part in {each.part for each in found.fitted}:
        match = match.with_part(part, new)
    shot = shot.with_zone(shot.zone(zone.id).but(match=match.but(on=True))).but(air=found.shot.air)
    done = ", ".join(part for part in PARTS if part in {each.part for each in found.fitted}) or "nothing"
    return shot, say(
        "{done} of {name} fitted. {names}", done=done, name=zone.name, names=" ".join(found.refused.values())
    ).strip()
