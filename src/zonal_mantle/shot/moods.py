"""Moods of one shot, kept beside one another: another finish, another air, other tones of its zones."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..words import say
from .air import Air
from .base import Value
from .errors import ShotError
from .finish import Finish, LookUse
from .match import ToneMatch

if TYPE_CHECKING:
    from .shot import Shot


class ZoneMood(Value):
    """What a mood holds of a zone."""

    zone: str
    tone: ToneMatch = ToneMatch()
    look: LookUse | None = None


class Mood(Value):
    """How a shot looks in one mood. What is at hand stands in the shot itself; it is put back here when another mood is
    gone to."""

    id: str
    name: str
    finish: Finish = Finish()
    air: Air = Air()
    zones: tuple[ZoneMood, ...] = ()

    def without_lock(self, id: str) -> Mood:
        """Nothing in it rides on a lock any more."""
        return self.but(finish=self.finish.without_lock(id))

    def without_zone(self, id: str) -> Mood:
        """Without what it holds of a zone."""
        zones = tuple(each for each in self.zones if each.zone != id)
        return self.but(finish=self.finish.without_zone(id), zones=zones)


def mood_now(shot: Shot, id: str, name: str) -> Mood:
    """What is at hand in a shot, as a mood."""
    zones = tuple(ZoneMood(zone=zone.id, tone=zone.match.tone, look=zone.look) for zone in shot.zones)
    return Mood(id=id, name=name, finish=shot.finish, air=shot.air, zones=zones)


def with_mood(shot: Shot, name: str) -> Shot:
    """A shot with what is at hand kept as another mood, which is the one at hand from now on.

    Where there was none before, what is at hand is also kept as a first one named *As it was*.
    """
    if shot.mood is None:
        first = mood_now(shot, shot.new_id("mood"), say("As it was"))
        shot = shot.but(moods=(*shot.moods, first), mood=first.id)
    shot = _put_back(shot)
    new = mood_now(shot, shot.new_id("mood"), name)
    return shot.but(moods=(*shot.moods, new), mood=new.id)


def in_mood(shot: Shot, id: str) -> Shot:
    """A shot in another of its moods; the one at hand is put back as it stands.

    Raises
    ------
    ShotError : it has no such mood.
    """
    wanted = next((mood for mood in shot.moods if mood.id == id), None)
    if wanted is None:
        raise ShotError(say("The shot has no such mood. Choose one of its moods."))
    if shot.mood == id:
        return shot
    shot = _put_back(shot)
    held = {each.zone: each for each in wanted.zones}
    zones = tuple(
        zone.but(look=held[zone.id].look, match=zone.match.but(tone=held[zone.id].tone)) if zone.id in held else zone
        for zone in shot.zones
    )
    clips = {source.id for source in shot.sources}
    finish = wanted.finish
    if finish.grain.clip is not None and finish.grain.clip not in clips:
        finish = finish.but(grain=finish.grain.but(clip=None))
    return shot.but(zones=zones, finish=finish, air=wanted.air, mood=id)


def renamed(shot: Shot, id: str, name: str) -> Shot:
    """A mood under another name."""
    return shot.but(moods=tuple(mood.but(name=name) if mood.id == id else mood for mood in shot.moods))


def without_mood(shot: Shot, id: str) -> Shot:
    """Without a mood; what is at hand stays as it is."""
    moods = tuple(mood for mood in shot.moods if mood.id != id)
    return shot.but(moods=moods, mood=None if shot.mood == id else shot.mood)


def next_mood(shot: Shot, step: int = 1) -> Shot:
    """The shot in the mood after the one at hand, and round again.

    Raises
    ------
    ShotError : it has none.
    """
    if not shot.moods:
        raise ShotError(say("The shot has no moods yet. Keep one with Keep mood on the Finish bench."))
    ids = [mood.id for mood in shot.moods]
    at = ids.index(shot.mood) if shot.mood in ids else -step
    return in_mood(shot, ids[(at + step) % len(ids)])


def _put_back(shot: Shot) -> Shot:
    """What is at hand, put back into its mood."""
    moods = tuple(mood_now(shot, mood.id, mood.name) if mood.id == shot.mood else mood for mood in shot.moods)
    return shot.but(moods=moods)
