"""The door by which a shot's file comes in: limits with their reasons, looked at before anything is made of it, and
what is wrong with it in one sentence."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from ..paths import named, why_no_file
from ..words import say
from .errors import ShotError
from .limits import (
    MOST_BYTES,
    MOST_CONTAINERS,
    MOST_DEPTH,
    MOST_ITEMS,
    MOST_LOCKS,
    MOST_NUMBER,
    MOST_PARTS,
    MOST_POINTS,
    MOST_PX,
    MOST_TEXT,
    MOST_VALUES,
)

PARTS = frozenset(
    ("sources", "mattes", "zones", "groups", "moods", "patches", "notes", "set_aside", "states", "bases", "lines",
     "pulls", "shapes", "samples", "strokes", "areas", "lights", "field")
)  # fmt: skip
PACKED = frozenset(("shot", "picture"))  # of states and looks: opened by readers of their own, with limits there


def bytes_of(path: Path, most_bytes: int) -> bytes:
    """A file's content.

    Raises
    ------
    ShotError : it is missing, no regular file, larger than `most_bytes`, or cannot be read; with its name.
    """
    why = why_no_file(path)
    if why is not None:
        raise ShotError(f"{named(path)} {why}.")
    try:
        with path.open("rb") as file:
            data = file.read(most_bytes + 1)
    except OSError as problem:
        raise ShotError(say("{named} cannot be read: {why}.", named=named(path), why=problem.strerror)) from problem
    if len(data) > most_bytes:
        raise ShotError(
            say(
                "{named} is larger than such a file can be ({most_bytes} MB). Nothing was read.",
                named=named(path),
                most_bytes=most_bytes >> 20,
            )
        )
    return data


def text_of(path: Path, most_bytes: int = MOST_BYTES) -> str:
    """A text file's content (UTF-8).

    Raises
    ------
    ShotError : as `bytes_of`, or it is no text.
    """
    try:
        return bytes_of(path, most_bytes).decode("utf-8")
    except UnicodeDecodeError as problem:
        raise ShotError(
            say("{named} is not a text file: byte {start} is not UTF-8.", named=named(path), start=problem.start + 1)
        ) from problem


def json_of(text: str, where: str) -> Any:
    """A JSON text's value, within the limits.

    Raises
    ------
    ShotError : it is no JSON, or holds more than any of our files: what, where, and how much is allowed.
    """
    if text.count("{") + text.count("[") > MOST_CONTAINERS or text.count(",") > MOST_VALUES:
        raise ShotError(
            say(
                "{where} holds more than {most_values} million values, which is too much.",
                where=where,
                most_values=MOST_VALUES // 10**6,
            )
        )
    try:
        data = json.loads(text, parse_int=_whole, parse_constant=_no_number)
    except json.JSONDecodeError as problem:
        raise ShotError(
            say(
                "{where} is not readable as JSON: {why} in line {line}.",
                where=where,
                why=problem.msg,
                line=problem.lineno,
            )
        ) from problem
    except RecursionError as problem:
        raise ShotError(
            say("{where} is nested more than {most_depth} deep, which is too much.", where=where, most_depth=MOST_DEPTH)
        ) from problem
    except ValueError as problem:
        raise ShotError(say("{where} holds {problem}. Nothing was changed.", where=where, problem=problem)) from problem
    for place, trouble in _beyond(data, (), ""):
        raise ShotError(
            say(
                "{where} cannot be used: {place}: {trouble}. Nothing was changed.",
                where=where,
                place=_place(place),
                trouble=trouble,
            )
        )
    return data


def _whole(digits: str) -> int:
    if len(digits) > 20:
        raise ValueError(say("a number of {count} digits", count=len(digits)))
    return int(digits)


def _no_number(word: str) -> float:
    raise ValueError(say("{word}, which is no number", word=word))


def _beyond(value: Any, place: tuple[str | int, ...], name: str) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """What lies beyond a limit in a JSON value, with its place. `name` is that of the field that it stands in."""
    if len(place) > MOST_DEPTH:
        yield place[:6], say("nested more than {most_depth} deep", most_depth=MOST_DEPTH)
    elif isinstance(value, dict):
        for key, each in value.items():
            if len(key) > 200:
                yield place, say("a name of {count} characters", count=len(key))
            elif not (key in PACKED and isinstance(each, str)):
                yield from _beyond(each, (*place, key), key)
    elif isinstance(value, list):
        most = _most_items(name, value)
        if len(value) > most:
            yield place, say("{count} of them, where at most {most} are possible", count=len(value), most=most)
            return
        if value and type(value[0]) is float and _all_small(value, name):
            return
        for number, each in enumerate(value):
            yield from _beyond(each, (*place, number), name)
    elif isinstance(value, str):
        if len(value) > MOST_TEXT:
            yield (
                place,
                say(
                    "a text of {count} characters, where at most {most_text} are possible",
                    count=len(value),
                    most_text=MOST_TEXT,
                ),
            )
    elif isinstance(value, int | float) and not isinstance(value, bool):
        most_value = MOST_PX if name.endswith("_px") else MOST_NUMBER
        if not math.isfinite(value) or abs(value) > most_value:
            yield place, say("{value:.6g} lies beyond ±{most_value:.6g}", value=value, most_value=most_value)


def _all_small(values: list[Any], name: str) -> bool:
    most = MOST_PX if name.endswith("_px") else MOST_NUMBER
    try:
        return all(type(value) is float for value in values) and -most <= min(values) <= max(values) <= most
    except TypeError:
        return False


def _most_items(name: str, value: list[Any]) -> int:
    if name == "locks":
        return MOST_LOCKS
    if name in PARTS:
        return MOST_PARTS
    is_outline = name in ("points", "handles", "feather_shares") and value and not isinstance(value[0], dict)
    return MOST_POINTS if is_outline else MOST_ITEMS


def _place(place: tuple[str | int, ...]) -> str:
    words = (str(step + 1) if isinstance(step, int) else step.replace("_", " ") for step in place)
    return " › ".join(words) or "the shot"


def sentence_of(problem: ValidationError, data: Any = None) -> str:
    """What is wrong with a value that was checked against its model: the first thing, its place and what would do.

    >>> from zonal_mantle.shot import Air
    >>> try:
    ...     Air(visibility_m=1.0)
    ... except ValidationError as problem:
    ...     sentence_of(problem)
    'visibility m: must be at least 10, not 1'
    """
    first = problem.errors(include_url=False, include_context=True)[0]
    return f"{_place(tuple(first['loc']))}: {_said(first)}"


def _said(error: Any) -> str:
    kind, context, given = error["type"], error.get("ctx", {}), _shortly(error.get("input"))
    bounds = {
        "greater_than": (say("above"), "gt"),
        "greater_than_equal": (say("at least"), "ge"),
        "less_than": (say("below"), "lt"),
        "less_than_equal": (say("at most"), "le"),
    }
    if kind in bounds:
        words, name = bounds[kind]
        return say("must be {words} {bound:.10g}, not {given}", words=words, bound=context[name], given=given)
    if kind == "value_error":
        return str(context.get("error", error["msg"])).rstrip(".")
    if kind == "literal_error":
        return say("must be {bound}, not {given}", bound=context["expected"], given=given)
    if kind == "missing":
        return say("is missing")
    if kind == "extra_forbidden":
        return say("is not known")
    if kind == "union_tag_invalid":
        return say(
            "its kind is {bound}, which is not known; it must be one of {choices}",
            bound=context["tag"],
            choices=context["expected_tags"],
        )
    if kind in ("string_too_long", "string_too_short"):
        return (
            say("is empty")
            if kind == "string_too_short"
            else say("is longer than {bound} characters", bound=context["max_length"])
        )
    if kind in ("too_long", "too_short"):
        return say(
            "has {bound} parts, {how}",
            bound=context["actual_length"],
            how=say("too many") if kind == "too_long" else say("too few"),
        )
    wanted = {
        "string": say("text"),
        "int": say("a whole number"),
        "float": say("a number"),
        "bool": say("true or false"),
        "tuple": say("a list"),
        "list": say("a list"),
        "model": say("an object"),
        "finite": say("a finite number"),
        "union": say("an object with its kind"),
    }
    return say(
        "must be {wanted}, not {given}", wanted=wanted.get(kind.split("_")[0], say("another value")), given=given
    )


def _shortly(value: Any) -> str:
    if isinstance(value, dict):
        return say("an object")
    if isinstance(value, list | tuple):
        return say("a list of {count}", count=len(value))
    text = f"{value:.10g}" if isinstance(value, float) else str(value)
    return text if len(text) <= 40 else f"{text[:39]}…"
