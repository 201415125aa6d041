"""What people leave in a shot for one another: notes, findings that were set aside, and states to go back to."""

from __future__ import annotations

import base64
import binascii
import json
import zlib
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any

from ..words import say
from .base import Value
from .errors import ShotError

if TYPE_CHECKING:
    from .shot import Shot

MOST_STATE_BYTES = 64 << 20  # of a state's text: more is no shot


class Note(Value):
    """Words on a zone, a stage, a frame or a place of the picture (plate pixels), open until they are done."""

    id: str
    words: str
    done: bool = False
    zone: str | None = None
    stage: str | None = None
    frame: int | None = None
    place: tuple[float, float] | None = None
    written: str = ""


class SetAside(Value):
    """A finding that somebody looked at and accepts, and why. `finding` is what `Finding.key` gives, `words` what it
    said then: where it is much worse later, it counts again."""

    finding: str
    reason: str
    words: str = ""


class State(Value):
    """The shot as it was at some time, to compare with and to go back to.

    `shot` is its JSON text, compressed with zlib, in base 64; `picture` a small PNG in base 64, or empty; `saved` the
    date and time, ISO 8601.
    """

    id: str
    word: str
    saved: str
    shot: str
    picture: str = ""


def state_of(shot: Shot, id: str, word: str, saved: str, picture: bytes = b"") -> State:
    """The shot as it is now, without the states that it holds itself.

    >>> from zonal_mantle.shot import Shot
    >>> state = state_of(Shot(name="Dusk"), "state1", "first light", "2026-11-26T10:00:00")
    >>> shot_of(state).name
    'Dusk'
    """
    text = shot.but(states=()).model_dump_json()
    packed = base64.b64encode(zlib.compress(text.encode(), 9)).decode()
    return State(id=id, word=word, saved=saved, shot=packed, picture=base64.b64encode(picture).decode())


def shot_of(state: State, now: Shot | None = None) -> Shot:
    """The shot of a state. With `now`, files that are still in the shot are looked for where they lie now, and all
    states stay.

    Raises
    ------
    ShotError : the state is damaged.
    """
    from .file import from_json

    where = say("The state {word}", word=state.word)
    try:
        unpacker = zlib.decompressobj()
        text = unpacker.decompress(base64.b64decode(state.shot, validate=True), MOST_STATE_BYTES)
        if unpacker.unconsumed_tail:
            raise ShotError(say("{where} is larger than a shot can be. Nothing was changed.", where=where))
        shot = from_json(text.decode(), where)
    except (zlib.error, binascii.Error, UnicodeDecodeError) as problem:
        raise ShotError(
            say("{where} is damaged and cannot be read: {problem}. Nothing was changed.", where=where, problem=problem)
        ) from problem
    if now is None:
        return shot
    paths = {source.id: source.path for source in now.sources}
    sources = tuple(source.but(path=paths.get(source.id, source.path)) for source in shot.sources)
    return shot.but(sources=sources, states=now.states, notes=now.notes)


SKIPPED = {"version", "format", "states", "notes", "set_aside", "solved", "points"}
MOST_CHANGES = 200


def changes(old: Shot, new: Shot) -> list[str]:
    """What is different between two shots, a sentence each: part, value, before and after.

    >>> from zonal_mantle.shot import Air, Shot
    >>> changes(Shot(), Shot(air=Air(visibility_m=9000.0)))
    ['Air, visibility m: 30000 → 9000']
    """
    found: list[str] = []
    for words in _differences(
        json.loads(old.model_dump_json(exclude=SKIPPED)), json.loads(new.model_dump_json(exclude=SKIPPED)), ()
    ):
        if len(found) == MOST_CHANGES:
            found.append(say("… and more."))
            break
        found.append(words)
    before, after = {lock.id: lock for lock in old.locks}, {lock.id: lock for lock in new.locks}
    for id in before.keys() & after.keys():
        if before[id].solved != after[id].solved:
            counts = say(
                "solved on {count} → {total} frames", count=len(before[id].solved), total=len(after[id].solved)
            )
            found.append(say("{name}: {counts}", name=after[id].name, counts=counts))
    return found


def _differences(old: Any, new: Any, place: tuple[str, ...]) -> Iterator[str]:
    if old == new:
        return
    if isinstance(old, dict) and isinstance(new, dict) and "keys" in old and "keys" in new and "constant" in old:
        yield _said(place, _keyed(old), _keyed(new))
    elif isinstance(old, dict) and isinstance(new, dict):
        for name in dict.fromkeys([*old, *new]):
            if name not in SKIPPED and name != "id":
                yield from _differences(old.get(name), new.get(name), (*place, name))
    elif _are_parts(old) and _are_parts(new):
        before, after = {part["id"]: part for part in old}, {part["id"]: part for part in new}
        for id in dict.fromkeys([*before, *after]):
            name = str((after.get(id) or before[id]).get("name") or id)
            if id not in after:
                yield say("{name} is gone", name=name)
            elif id not in before:
                yield say("{name} is new", name=name)
            else:
                yield from _differences(before[id], after[id], (name,))
    else:
        yield _said(place, _short(old), _short(new))


def _are_parts(value: Any) -> bool:
    return isinstance(value, list) and all(isinstance(part, dict) and "id" in part for part in value)


def _said(place: tuple[str, ...], old: str, new: str) -> str:
    words = ", ".join(part.replace("_", " ") for part in place)
    return f"{words[:1].upper()}{words[1:]}: {old} → {new}"


def _keyed(value: dict[str, Any]) -> str:
    keys = value.get("keys") or []
    return say("{count} keys", count=len(keys)) if keys else _short(value.get("constant"))


_WORDS: dict[type, Callable[[Any], str]] = {
    bool: lambda value: "on" if value else "off",
    float: lambda value: f"{value:.6g}",
    list: lambda value: say("{count} of them", count=len(value)) if value else "none",
    dict: lambda value: "set",
}


def _short(value: Any) -> str:
    if value is None:
        return "none"
    words = _WORDS.get(type(value), str)(value)
    return words if len(words) <= 60 else f"{words[:57]}…"
