"""Random edits of a shot, undone and redone, saved and loaded: undo leads back to the first shot, what is loaded is
what was saved, and every state fits the published schema."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

import jsonschema
from pydantic import TypeAdapter, ValidationError

from zonal_mantle.shot import History, Shot, load, save
from zonal_mantle.shot.file import to_json
from zonal_mantle.shot.history import MOST_STEPS

from .hostile import leaves, with_value
from .report import Report

SCHEMA = Path(__file__).parents[1] / "docs" / "shot.schema.json"
CHECK_EVERY = 100


def another(value: Any, chance: random.Random) -> Any:
    """A value of the same kind, mostly one that is possible."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int):
        return value + chance.choice((-7, -1, 1, 2, 30))
    if isinstance(value, float):
        return chance.choice((value * chance.uniform(0.5, 1.5), value + chance.gauss(0, 1), chance.random(), 0.0, 1.0))
    if isinstance(value, str):
        return value + chance.choice(("x", " é", "\u2603"))
    return chance.choice((None, 0.5, 3, "Dusk"))


def edited(shot: Shot, chance: random.Random) -> Shot | None:
    """A shot with one value changed, or a part doubled or taken away; None where that is no shot."""
    if chance.random() < 0.1 and shot.zones:
        zone = chance.choice(shot.zones)
        act = chance.choice((shot.with_copy_of, lambda each: shot.without_zone(each.id)))
        return act(zone) if len(shot.zones) < 30 or act != shot.with_copy_of else None
    data = json.loads(shot.model_dump_json(exclude={"states"}))
    left = ("format", "version", "plate", "path")  # paths that lead nowhere come back from the root
    places = [place for place, _ in leaves(data) if place[0] not in left and place[-1] not in left]
    place = chance.choice(places)
    name, value = str(place[0]), data
    for step in place:
        value = value[step]
    try:
        changed = TypeAdapter(Shot.model_fields[name].annotation).validate_python(
            with_value(data, place, another(value, chance))[name]
        )
        return shot.but(**{name: changed})
    except ValidationError:
        return None


class Plain:
    """What a history should do, told as simply as can be: a list and a place in it."""

    def __init__(self, first: Shot) -> None:
        self.shots, self.place = [first], 0

    def push(self, shot: Shot, joins: bool) -> None:
        """A new step, or the last one's newest value."""
        if joins and self.place > 0:
            self.shots[self.place] = shot
        else:
            self.shots[self.place + 1 :] = [shot]
            self.place += 1

    def move(self, by: int) -> None:
        """So many steps back or forth, as far as there are any."""
        self.place = min(max(self.place + by, max(len(self.shots) - 1 - MOST_STEPS, 0)), len(self.shots) - 1)


def drill(shot_path: Path, work: Path, edits: int, seed: int) -> Report:
    """`edits` random edits with undo, redo, save and load among them."""
    report, chance = Report("edits", seed), random.Random(seed)
    first = load(shot_path)
    schema = json.loads(SCHEMA.read_text())
    history, plain, path = History.starting_with(first), Plain(first), work / "edited.shot.json"
    last_gesture: str | None = None
    pushed = 0
    while pushed < edits:
        shot = edited(history.shot, chance)
        if shot is None or shot == history.shot:
            report.count("no other shot")
            continue
        gesture = chance.choice((None, None, "gesture"))
        history.push(shot, "Edit", gesture)
        plain.push(shot, gesture is not None and gesture == last_gesture)
        last_gesture = gesture
        pushed += 1
        report.count("edits")
        if chance.random() < 0.1:
            for act, by, most in ((history.undo, -1, 8), (history.redo, 1, 8)):
                for _ in range(chance.randrange(1, most)):
                    if act() is not None:
                        last_gesture = None
                    plain.move(by)
        if history.shot != plain.shots[plain.place]:
            report.fault(f"edit {pushed}: the history is at another shot than it should be")
            break
        if pushed % CHECK_EVERY == 0 or pushed == edits:
            save(history.shot, path)
            if load(path) != history.shot:
                report.fault(f"edit {pushed}: what is loaded is not what was saved")
            jsonschema.validate(json.loads(to_json(history.shot)), schema)
    while history.undo():
        plain.move(-1)
    if history.shot != plain.shots[plain.place] or (plain.place == 0) != (history.shot == first):
        report.fault("undo does not lead back to the first shot")
    return report
