"""Horizon and vanishing points of plate and painting; meeting the horizon; a painted wall on a real one."""

from __future__ import annotations

import numpy as np

from ...geometry import carry
from ...media.curves import coded
from ...place import met, painting_perspective, plate_perspective
from ...place.perspective import Perspective, find_lines, pitch_deg, quad_of_edges, roll_deg
from ...place.transform import corner_trouble, reference_to_frame
from ...shot import Corner, Keyed, Line
from ...words import say
from ..desk import Desk
from ..tools.line import LineTool
from ..widgets import choice, fill, note, push_button, row
from .panel import Panel

STILL = "Lines stand still"
_LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)


class LevelPanel(Panel):
    """Lines on the picture that is seen: the plate, or the painting in the Painting view."""

    def __init__(self, desk: Desk, lines: LineTool) -> None:
        super().__init__(desk)
        self.lines = lines
        self.where = note()
        self.inside.addWidget(self.where)
        self.horizon = push_button(
            "Draw horizon",
            "Draw the horizon on the picture that is seen",
            lambda: self._draw("horizon", "Drag along the horizon."),
            "plus",
        )
        self.first = push_button(
            "Vanishing lines A",
            "Draw an edge that runs away in the first direction: roofs, kerbs of one side",
            lambda: self._draw("first", "Drag along an edge of the first direction."),
            "plus",
        )
        self.second = push_button(
            "Vanishing lines B",
            "Draw an edge of the second direction, at right angles to the first",
            lambda: self._draw("second", "Drag along an edge of the second direction."),
            "plus",
        )
        self.inside.addLayout(row(self.horizon, self.first, self.second))
        self.find_lines = push_button(
            "Find vanishing lines", "Looks for straight edges of two directions by itself", self._find, "search"
        )
        self.clear = push_button("Clear lines", "Removes all lines of the picture that is seen", self._clear, "trash-2")
        self.inside.addLayout(row(self.find_lines, self.clear))
        self.rides = choice([STILL], "The lock that carries the plate's lines over the shot", self._ride)
        self.inside.addWidget(self.rides)
        self.words = note()
        self.inside.addWidget(self.words)
        self.meet = push_button(
            "Align to horizon", "Turns and moves the painting so that its horizon lies on the plate's", self.align
        )
        self.wall = push_button(
            "Place on a wall…", "Draw top, bottom, left and right edge of a wall: the painting lands on it", self._wall
        )
        self.inside.addLayout(row(self.meet, self.wall))
        self.reading = note()
        self.inside.addWidget(self.reading)
        self._edges: list[tuple[tuple[float, float], tuple[float, float]]] = []

    def refresh(self) -> None:
        super().refresh()
        shot, zone = self.desk.shot, self.desk.zone
        if zone is None or shot.holds_plate(zone):
            return
        on_painting = self.lines.on_painting
        self.where.setText(
            say("Lines are drawn on the painting.")
            if on_painting
            else say("Lines are drawn on the plate; the Painting view (9) takes them for the painting.")
        )
        fill(
            self.rides,
            [(None, STILL), *((lock.id, say("Ride on {name}", name=lock.name)) for lock in shot.locks)],
            shot.lines_ride,
        )
        self.rides.setVisible(not on_painting)
        plate = plate_perspective(shot, self.desk.frame)
        own = painting_perspective(shot.source(zone.source))
        source = shot.source(zone.source)
        lines = [
            say("Plate: {told}", told=_told(plate, shot.size)),
            say("Painting: {told}", told=_told(own, (source.width, source.height))),
        ]
        self.words.setText("\n".join(lines + [p.problem for p in (plate, own) if p.problem]))
        place = self.desk.readings.places.get(zone.id)
        if place is None or place.horizon is None:
            self.reading.setText(say("Horizons are compared once both are known."))
            return
        level = place.horizon
        apart = (
            ""
            if level.points_deg is None
            else say(" Vanishing points {points_deg:.2f}° apart.", points_deg=level.points_deg)
        )
        self.reading.setText(
            say(
                "Horizon off by {off_px:+.1f} px and {off_deg:+.2f}° at worst, frame {frame}.{apart}",
                off_px=level.off_px,
                off_deg=level.off_deg,
                frame=level.frame,
                apart=apart,
            )
            + (f" {level.odd}" if level.odd else "")
        )

    def _draw(self, kind: str, words: str) -> None:
        self.desk.choose_stage("Place")
        if not self.lines.on_painting and self.desk.view not in ("Plate", "Composite", "See-through"):
            self.desk.set_view(view="Plate")
        self.lines.ask(words, lambda a, b: self.lines.add(kind, a, b))
        self.desk.choice_changed.emit()

    def _find(self) -> None:
        desk = self.desk
        shot, zone, plate = desk.shot, desk.zone, desk.shot.plate_source
        if zone is None or plate is None:
            return
        source = shot.source(zone.source) if self.lines.on_painting else plate
        store, frame, painting = desk.store, desk.frame, self.lines.on_painting

        def look() -> tuple[np.ndarray, np.ndarray]:
            pixels = store.painting(source, frame) if painting else store.plate(source, frame)
            return find_lines(coded(np.ascontiguousarray(pixels[..., :3])) @ _LUMA)

        desk.later("lines", look, self._found)

    def _found(self, lines: tuple[np.ndarray, np.ndarray]) -> None:
        desk, shot = self.desk, self.desk.shot
        first, second = lines
        if not len(first):
            desk.said.emit(say("No straight edges that meet were found. Draw them by hand."), True)
            return
        kept = [line for line in self.lines.lines if line.kind not in ("first", "second")]
        for kind, found in (("first", first), ("second", second)):
            longest = sorted(found.tolist(), key=lambda e: -np.hypot(e[1][0] - e[0][0], e[1][1] - e[0][1]))[:12]
            kept += [
                Line(id=f"{shot.new_id('line')}-{kind}-{k}", kind=kind, a=tuple(a), b=tuple(b), frame=desk.frame)
                for k, (a, b) in enumerate(longest)
            ]
        self.lines.put(tuple(kept), "Find vanishing lines")
        desk.said.emit(
            say("Found {count} edges of one direction and {total} of another.", count=len(first), total=len(second)),
            False,
        )

    def _clear(self) -> None:
        self.lines.put((), "Clear the lines")

    def _ride(self, _: str) -> None:
        self.desk.edit(self.desk.shot.but(lines_ride=self.rides.currentData()), "What carries the lines")

    def align(self) -> None:
        zone = self.desk.zone
        if zone is None:
            return
        try:
            self.desk.edit_zone(
                met(self.desk.shot, zone, self.desk.frame), say("{name} meets the horizon", name=zone.name)
            )
        except ValueError as problem:
            self.desk.said.emit(str(problem), True)

    # --- a wall ---
    def _wall(self) -> None:
        self._edges = []
        self._next_edge()

    def _next_edge(self) -> None:
        names = ("the wall's top edge", "its bottom edge", "its left edge", "its right edge")
        if self.desk.view not in ("Plate", "Composite", "See-through"):
            self.desk.set_view(view="Plate")
        self.lines.ask(
            say("Drag along {names}. Escape leaves it.", names=say(names[len(self._edges)])), self._edge_drawn
        )
        self.desk.choice_changed.emit()

    def _edge_drawn(self, a: tuple[float, float], b: tuple[float, float]) -> None:
        self._edges.append((a, b))
        if len(self._edges) < 4:
            self._next_edge()
            return
        zone, shot, frame = self.desk.zone, self.desk.shot, self.desk.frame
        if zone is None:
            return
        try:
            quad = quad_of_edges(np.array(self._edges[:2]), np.array(self._edges[2:]))
            if why := corner_trouble(quad):
                raise ValueError(say("These edges make no wall: {why}.", why=why))
        except ValueError as problem:
            self.desk.said.emit(say("{problem} Draw them again.", problem=problem), True)
            return
        pinned = zone.but(placement=zone.placement.but(way="corner pin"))
        own = carry(np.linalg.inv(reference_to_frame(shot, pinned, frame)), quad)
        pins = tuple(Corner(x=Keyed(constant=float(x)), y=Keyed(constant=float(y))) for x, y in own)
        self.desk.edit_zone(
            pinned.but(placement=pinned.placement.but(pins=pins)), say("{name} on a wall", name=zone.name)
        )


def _told(seen: Perspective, size: tuple[int, int]) -> str:
    """Horizon, pitch, roll and focal length in a line."""
    if seen.horizon is None:
        return "no horizon yet"
    words = say("horizon turned {roll_deg:+.2f}°", roll_deg=roll_deg(seen.horizon))
    if seen.focal_px is not None:
        words += say(
            ", looks {pitch_deg:+.1f}° up, focal {focal_px:.0f} px",
            pitch_deg=pitch_deg(seen.horizon, seen.focal_px, size),
            focal_px=seen.focal_px,
        )
    return words
