"""Looks: a tone, and perhaps a glow, a vignette and grain, in a small JSON file with a picture."""

from __future__ import annotations

import base64
import json
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from pydantic import ValidationError

from ..match.grade import tone_at
from ..match.tone import Tone
from ..paths import named, write_whole
from ..shot.base import Value
from ..shot.door import json_of, sentence_of, text_of
from ..shot.errors import ShotError
from ..shot.finish import Finish, Look, LookUse
from ..shot.keyed import Keyed
from ..shot.match import DAYLIGHT_DUV, DAYLIGHT_K, Range, Slope, ToneMatch, Triple
from ..shot.settled import held, settled
from ..shot.shapes import Point
from ..words import say
from .errors import FinishError

V = TypeVar("V", bound=Value)
FORMAT, VERSION = "zonal-mantle-look", 1
SUFFIX = ".look.json"
SHIPPED = Path(__file__).parent / "looks"
MOST_BYTES = 4 * 1024 * 1024
_PNG = "data:image/png;base64,"


class LookFile(NamedTuple):
    """A look and the PNG of its picture, empty where it has none."""

    look: Look
    picture: bytes


def look_from(name: str, tone: ToneMatch, frame: float, finish: Finish | None = None, note: str = "") -> Look:
    """A look of a tone as it stands on a frame, and of the glow, vignette and grain of a `finish`. What belongs to one
    shot alone is left out: a line across the picture, and a clip of grain."""
    plain = held(tone, frame).but(on=True, across=Slope())
    if finish is None:
        return Look(name=name, note=note, tone=plain)
    grain = held(finish.grain, frame)
    film = grain.but(clip=None, on=grain.on and grain.clip is None)
    glow, vignette = held(finish.glow, frame), held(finish.vignette, frame)
    return Look(name=name, note=note, tone=plain, glow=glow, vignette=vignette, grain=film)


def write_look(path: Path, look: Look, picture: bytes = b"") -> None:
    """Writes a look.

    Raises
    ------
    FinishError : the file cannot be written.
    """
    held_picture = _PNG + base64.b64encode(picture).decode() if picture else ""
    data = {"format": FORMAT, "version": VERSION, "look": look.model_dump(mode="json"), "picture": held_picture}
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, json.dumps(data, indent=1) + "\n")
    except OSError as problem:
        raise FinishError(
            say("{path} cannot be written: {why}. Choose another folder.", path=path, why=problem.strerror)
        ) from problem


def read_look(path: Path) -> LookFile:
    """Reads a look.

    Raises
    ------
    FinishError : the file is missing, damaged, no look, or of a newer version.
    """
    name = named(path)
    try:
        data = json_of(text_of(path, MOST_BYTES), name)
    except ShotError as problem:
        raise FinishError(say("{problem} Choose a look ({suffix}).", problem=problem, suffix=SUFFIX)) from problem
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise FinishError(say("{name} is not a look. Choose a file that ends in {suffix}.", name=name, suffix=SUFFIX))
    version = data.get("version")
    if not isinstance(version, int) or version > VERSION:
        raise FinishError(
            say(
                "{name} was written by a newer release (format {version!r:.20}; this one reads up to "
                "{version_2}). Open it with that release; nothing was changed.",
                name=name,
                version=version,
                version_2=VERSION,
            )
        )
    try:
        look = Look.model_validate(data.get("look"))
    except ValidationError as problem:
        raise FinishError(
            say(
                "{name} cannot be used: {why}. Nothing was changed.",
                name=name,
                why=sentence_of(problem),
            )
        ) from problem
    text = data.get("picture")
    try:
        picture = base64.b64decode(text[len(_PNG) :], validate=True) if text and text.startswith(_PNG) else b""
    except (ValueError, AttributeError, TypeError):
        picture = b""
    return LookFile(look, picture)


def looks_in(*folders: Path) -> dict[str, Path]:
    """The looks of folders by their names, those that ship first. One that cannot be read is left out.

    Examples
    --------
    >>> list(looks_in())
    ['First light', 'Slack tide', 'White noon']
    """
    out: dict[str, Path] = {}
    for folder in (SHIPPED, *folders):
        for path in sorted(folder.glob(f"*{SUFFIX}")) if folder.is_dir() else ():
            try:
                out.setdefault(read_look(path).look.name, path)
            except FinishError:
                continue
    return out


def tone_of_look(use: LookUse | None, frame: float) -> Tone:
    """What a look does to colour on a frame, by its strength."""
    if use is None or not use.on:
        return Tone()
    strength = min(max(use.strength.at(frame), 0.0), 1.0)
    return tone_at(weakened(settled(use.look.tone, frame), strength)) if strength > 0 and use.look.tone.on else Tone()


def weakened(tone: ToneMatch, strength: float) -> ToneMatch:
    """A tone by a strength: every control that share of the way from leaving the picture as it is; of the white in
    reciprocal kelvin, of gamma and power in their logarithms. Costs what the tone costs.

    Parameters
    ----------
    tone : without keyed numbers, see `shot.settled`. strength : 0…1.
    """
    if strength >= 1:
        return tone

    def toward(value: Keyed, rest: float) -> Keyed:
        return Keyed(constant=rest + strength * (value.at(0) - rest))

    def power(value: Keyed) -> Keyed:
        return Keyed(constant=max(value.at(0), 1e-6) ** strength)

    def triple(values: Triple, rest: float) -> Triple:
        return (toward(values[0], rest), toward(values[1], rest), toward(values[2], rest))

    def part(each: Range) -> Range:
        return _like(each, **{name: toward(getattr(each, name), 1.0) for name in ("red", "green", "blue", "all")})

    def curve(points: tuple[Point, ...]) -> tuple[Point, ...]:
        return tuple((x, x + strength * (y - x)) for x, y in points)

    def by_hue(points: tuple[Point, ...], rest: float) -> tuple[Point, ...]:
        return tuple((hue, rest + strength * (value - rest)) for hue, value in points)

    mired, day = 1e6 / max(tone.temperature_k.at(0), 1.0), 1e6 / DAYLIGHT_K
    cdl = tone.cdl
    return _like(
        tone,
        exposure_stops=toward(tone.exposure_stops, 0.0),
        temperature_k=Keyed(constant=1e6 / (day + strength * (mired - day))) if mired != day else tone.temperature_k,
        tint_duv=toward(tone.tint_duv, DAYLIGHT_DUV),
        shadows=part(tone.shadows), middle=part(tone.middle), lights=part(tone.lights),
        contrast=toward(tone.contrast, 1.0),
        levels_in=(toward(tone.levels_in[0], 0.0), toward(tone.levels_in[1], 1.0)),
        levels_out=(toward(tone.levels_out[0], 0.0), toward(tone.levels_out[1], 1.0)),
        levels_gamma=power(tone.levels_gamma),
        curve_all=curve(tone.curve_all), curve_red=curve(tone.curve_red),
        curve_green=curve(tone.curve_green), curve_blue=curve(tone.curve_blue),
        hue_by_hue=by_hue(tone.hue_by_hue, 0.0),
        saturation_by_hue=by_hue(tone.saturation_by_hue, 1.0),
        lightness_by_hue=by_hue(tone.lightness_by_hue, 1.0),
        saturation=toward(tone.saturation, 1.0), hue_deg=toward(tone.hue_deg, 0.0),
        tint=_like(tone.tint, strength=toward(tone.tint.strength, 0.0)),
        palette=_like(tone.palette, strength=toward(tone.palette.strength, 0.0)),
        cdl=_like(
            cdl, slope=triple(cdl.slope, 1.0), offset=triple(cdl.offset, 0.0),
            power=(power(cdl.power[0]), power(cdl.power[1]), power(cdl.power[2])),
            saturation=toward(cdl.saturation, 1.0),
        ),
    )  # fmt: skip


def _like(value: V, **changes: Any) -> V:
    """A settled value with some fields changed: it is no longer one that is saved, so nothing is checked."""
    fields = {name: getattr(value, name) for name in type(value).model_fields}
    return type(value).model_construct(**{**fields, **changes})
