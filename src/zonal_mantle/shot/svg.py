"""Shapes as SVG paths, in and out. Reading is svgelements' work; we take the outlines."""

from __future__ import annotations

import io
import logging
import math
import re
from collections.abc import Iterator
from html import escape
from pathlib import Path

import svgelements

from ..paths import named
from ..words import say
from .door import text_of
from .errors import ShotError
from .limits import MOST_PARTS, MOST_POINTS, MOST_PX
from .shapes import Handle, Point, Shape, ShapeKey

log = logging.getLogger(__name__)
MOST_BYTES = 8 << 20
MOST_ELEMENTS = 20_000


def shapes_to_svg(shapes: list[Shape], frame: int, size: tuple[int, int]) -> str:
    """An SVG document with one closed path a shape, as they stand on a frame, in plate pixels.

    Each path's id is the shape's name and its class `keep` or `drop`.

    References
    ----------
    Scalable Vector Graphics (SVG) 1.1, second edition, W3C 2011, chapter 8.
    """
    width, height = size
    box = f'width="{width}" height="{height}" viewBox="0 0 {width} {height}"'
    lines = [f'<svg xmlns="http://www.w3.org/2000/svg" {box}>']
    for shape in shapes:
        colour = "#9fd8c4" if shape.mode == "keep" else "#e8a06a"
        look = f'fill="{colour}" fill-opacity="0.4" stroke="{colour}"'
        name = f"id={_quoted(shape.name)} class={_quoted(shape.mode)}"
        lines.append(f' <path {name} {look} d="{_path(shape, frame)}"/>')
    return "\n".join([*lines, "</svg>", ""])


def _quoted(text: str) -> str:
    """An attribute's value, with its marks. (`xml.sax.saxutils` would do it, and bring the whole of HTTP and TLS.)"""
    blanks = str.maketrans({"\n": "&#10;", "\r": "&#13;", "\t": "&#9;"})
    return f'"{escape(text).translate(blanks)}"'


def _path(shape: Shape, frame: int) -> str:
    key = shape.key_at(frame)
    if shape.form == "polygon":
        return "M " + " L ".join(f"{x:.4f},{y:.4f}" for x, y in key.points) + " Z"
    curve = shape.as_curve().key_at(frame)
    points, handles = curve.points, curve.handles
    parts = [f"M {points[0][0]:.4f},{points[0][1]:.4f}"]
    for k, (x, y) in enumerate(points):
        after = (k + 1) % len(points)
        (px, py), (h, g) = points[after], (handles[k], handles[after])
        places = ((x + h[2], y + h[3]), (px + g[0], py + g[1]), (px, py))
        parts.append("C " + " ".join(f"{u:.4f},{v:.4f}" for u, v in places))
    return " ".join([*parts, "Z"])


def shapes_from_svg(text: str, frame: int, where: str = "the SVG file") -> list[Shape]:
    """Every closed outline of an SVG document as a shape; the class `drop` makes a drop shape, all else keeps.

    Paths, polygons, rectangles, circles and ellipses are read with their transforms, curves as curves.

    Raises
    ------
    ShotError : not SVG, or without a closed outline.
    """
    if re.search(r"<!(?:DOCTYPE[^>]*\[|ENTITY)", text):
        raise ShotError(
            say(
                "{where} declares entities of its own, which outlines do not need. Export it as plain SVG.", where=where
            )
        )
    if text.count("<") > MOST_ELEMENTS:
        raise ShotError(
            say(
                "{where} holds more than {most_elements} elements. Export its outlines alone.",
                where=where,
                most_elements=MOST_ELEMENTS,
            )
        )
    try:
        found = list(_shapes(svgelements.SVG.parse(io.StringIO(text), reify=True), frame, where))
    except ShotError:
        raise
    except Exception as problem:  # the parser lets whatever it meets through
        log.info("%s: %s: %s", where, type(problem).__name__, problem)
        raise ShotError(
            say("{where} is not readable as SVG: it is damaged. Export it again.", where=where)
        ) from problem
    if not found:
        raise ShotError(say("{where} holds no outline with at least three points.", where=where))
    return found


def read_shapes(path: Path, frame: int) -> list[Shape]:
    """The closed outlines of an SVG file, as `shapes_from_svg`.

    Raises
    ------
    ShotError : it cannot be read, is too large, not SVG, or without a closed outline.
    """
    return shapes_from_svg(text_of(path, MOST_BYTES), frame, named(path))


def _shapes(document: svgelements.SVG, frame: int, where: str) -> Iterator[Shape]:
    number = 0
    for element in document.elements():
        if not isinstance(element, svgelements.Shape):
            continue
        path = svgelements.Path(element)
        path.approximate_arcs_with_cubics()
        for part in path.as_subpaths():
            shape = _shape(svgelements.Path(part), number + 1, element, frame)
            if shape is None:
                continue
            number += 1
            key = shape.keys[0]
            if number > MOST_PARTS or len(key.points) > MOST_POINTS:
                most = say(
                    "{most_parts} outlines of {most_points} points", most_parts=MOST_PARTS, most_points=MOST_POINTS
                )
                raise ShotError(
                    say(
                        "{where} holds more than the {most} that a matte can have. Simplify it.", where=where, most=most
                    )
                )
            numbers = (value for values in (*key.points, *key.handles) for value in values)
            if any(not math.isfinite(value) or abs(value) > MOST_PX for value in numbers):
                raise ShotError(
                    say(
                        "{where} has an outline beyond ±{most_px:g} pixels. Nothing was taken from it.",
                        where=where,
                        most_px=MOST_PX,
                    )
                )
            yield shape


def _shape(path: svgelements.Path, number: int, element: svgelements.Shape, frame: int) -> Shape | None:
    points: list[Point] = []
    leaving: list[Point] = []
    arriving: list[Point] = []
    curved = False
    for segment in path:
        if isinstance(segment, svgelements.Move):
            continue
        start, end = segment.start, segment.end
        if start is None or end is None or math.hypot(end.x - start.x, end.y - start.y) < 1e-9:
            continue
        if isinstance(segment, svgelements.QuadraticBezier):
            c = segment.control
            out = ((c.x - start.x) * 2 / 3, (c.y - start.y) * 2 / 3)
            into = ((c.x - end.x) * 2 / 3, (c.y - end.y) * 2 / 3)
            curved = True
        elif isinstance(segment, svgelements.CubicBezier):
            out = (segment.control1.x - start.x, segment.control1.y - start.y)
            into = (segment.control2.x - end.x, segment.control2.y - end.y)
            curved = True
        else:
            out = into = (0.0, 0.0)
        points.append((float(start.x), float(start.y)))
        leaving.append((float(out[0]), float(out[1])))
        arriving.append((float(into[0]), float(into[1])))
    if len(points) < 3:
        return None
    shifted = [arriving[-1], *arriving[:-1]]
    handles: tuple[Handle, ...] = tuple((a[0], a[1], b[0], b[1]) for a, b in zip(shifted, leaving))
    values = element.values
    drop = "drop" in str(values.get("class", "")).split()
    key = ShapeKey(frame=frame, points=tuple(points), handles=handles if curved else ())
    return Shape(
        id=f"svg{number}",
        name=str(element.id or say("Outline {number}", number=number)),
        mode="drop" if drop else "keep",
        form="curve" if curved else "polygon",
        keys=(key,),
    )
