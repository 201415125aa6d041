"""The Match stage: tone, air, lens, wrap, grain, and the aim that they are fitted to."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

from PySide6.QtWidgets import QComboBox

from ...comp import Mend
from ...comp.match_fit import FittedAll, fit_all
from ...comp.new_light import new_sky_light
from ...match import transmittance
from ...shot import Aim, AimArea, MantleError, Match
from ...words import say
from ..desk import Desk
from ..numberfield import NumberField
from ..tools.line import LineTool
from ..tools.sample import Area
from ..widgets import choice, chosen_of, fill, note, push_button, row, show_choice, tool_button
from .grain_panel import GrainPanel
from .optic_panels import AirPanel, LensPanel, WrapPanel
from .stage import Stage
from .tone_panel import TonePanel

STILL = "stays in frame"
NO_AREA = "The kept plate"


class MatchStage(Stage):
    """How the zone is made of the plate's light, air, glass and film."""

    name = "Match"
    tip = "Tone, air, lens, wrap and grain: measured on the plate, moved by hand after"

    def __init__(self, desk: Desk, lines: LineTool, sample: Callable[[str, Callable[[Area], None]], None]) -> None:
        super().__init__(desk)
        self._sample, self.lines = sample, lines
        self._newest = False  # an area was added: it is the chosen one
        self.areas: QComboBox = choice(
            [NO_AREA], "The areas of the plate that the zone is compared with", lambda _: self.refresh()
        )
        self.add = tool_button("plus", "Add an area to the aim: drag a box on the plate", self._add)
        self.remove = tool_button("trash-2", "Remove the chosen area from the aim", self._remove)
        self.inside.addLayout(row(note("Aim"), self.areas, self.add, self.remove))
        self.inside.itemAt(0).layout().setStretch(1, 1)
        self.distance = NumberField("Distance", 0, 1e6, 10, 0, 0, "m", "How far off the area lies; 0: not known")
        self.distance.changed.connect(self._distance)
        self.rides = choice([STILL], "What the aim rides on", self._ride)
        self.rides.setMinimumContentsLength(8)
        self.distance.setMinimumWidth(104)
        self.inside.addLayout(row(self.distance, self.rides))
        self.add_parts(
            ("Tone", lambda: self.tone, "Exposure, white, balance, contrast, curves, colour"),
            ("Air", lambda: self.air, "Haze by distance, depth, mist"),
            ("Lens", lambda: self.lens, "Focus, sharpness, motion blur"),
            ("Wrap", lambda: self.wrap, "Light of the background over the rim"),
            ("Grain", lambda: self.grain, "Grain on what is not plate"),
        )
        self.all = push_button("Fit all", "Fits all five parts of this zone in their order", self._fit_all, "crosshair")
        self.before = push_button(
            "Before", "Leaves the open part out of what is seen (B)", self.flip_before, checkable=True
        )
        self.inside.addLayout(row(self.before, 1, self.all))
        self.words = note()
        self.inside.addWidget(self.words)
        self._refused: tuple[str, tuple[str, ...]] = ("", ())  # a zone, and what could not be measured of it

    @cached_property
    def tone(self) -> TonePanel:
        """Exposure, white, contrast, colour."""
        tone = TonePanel(self.desk)
        tone.line_wanted = self.line  # type: ignore[method-assign]
        tone.sky_wanted = self._new_sky  # type: ignore[method-assign]
        return tone

    @cached_property
    def air(self) -> AirPanel:
        """Haze and mist."""
        air = AirPanel(self.desk)
        air.line_wanted = self.line  # type: ignore[method-assign]
        return air

    @cached_property
    def lens(self) -> LensPanel:
        """Focus, sharpness, motion blur."""
        lens = LensPanel(self.desk)
        lens.line_wanted = self.line  # type: ignore[method-assign]
        return lens

    @cached_property
    def wrap(self) -> WrapPanel:
        """Light over the rim."""
        return WrapPanel(self.desk)

    @cached_property
    def grain(self) -> GrainPanel:
        """Grain."""
        return GrainPanel(self.desk)

    def open_part(self, name: str) -> None:
        super().open_part(name)
        self.desk.match_part = name.lower()
        if self.desk.before:
            self.desk.view_changed.emit()

    def show_header(self) -> None:
        zone, shot = self.zone, self.desk.shot
        match = zone.match
        self.header.switch.setChecked(match.on)
        plate = shot.holds_plate(zone)
        reading = self.desk.readings.matches.get(zone.id)
        far = reading is not None and reading.is_off
        helps = far and match.on and not plate
        self.header.show_mend(Mend("fit tone", "Fit tone", zone.id) if helps else None)
        if not match.on:
            self.header.show_reading("off")
        elif plate:
            self.header.show_reading("the plate itself")
        elif reading is not None and reading.tone is not None:
            off = reading.tone
            self.header.show_reading(
                say("{off:.1f} ± {spread:.1f} ΔE from its aim", off=off.delta_e, spread=off.spread), far
            )
        elif reading is not None and reading.drawn and reading.untold:
            self.header.show_reading("unlike its aim")
        elif zone.distance_m is None:
            self.header.show_reading("no aim at infinity")
        elif not match.air.on:
            self.header.show_reading("air off")
        else:
            self.header.show_reading(
                say(
                    "{transmittance:.0%} transmitted",
                    transmittance=transmittance(zone.distance_m, shot.air.visibility_m),
                )
            )

    def show_body(self) -> None:
        super().show_body()
        shot, match = self.desk.shot, self.zone.match
        count = len(match.aim.areas)
        names = [say("Area {number}", number=k + 1) for k in range(count)] or [NO_AREA]
        chosen = chosen_of(self.areas)
        show_choice(self.areas, names, names[-1] if self._newest or chosen not in names else chosen)
        self._newest = False
        area = self._area()
        self.remove.setEnabled(area is not None)
        for part in (self.distance, self.rides):
            part.setVisible(area is not None)
        if area is not None:
            self.distance.set_value(match.aim.areas[area].distance_m or 0.0)
            locks = [(lock.id, say("on {name}", name=lock.name)) for lock in shot.locks if lock.holds]
            fill(self.rides, [(None, STILL), *locks], match.aim.rides)
        self.before.setChecked(self.desk.before)
        self.all.setEnabled(not shot.holds_plate(self.zone))
        self._show_refused()
        self.open_part(self.part)

    def switch(self, on: bool) -> None:
        self.desk.edit_zone(
            self.zone.but(match=self.zone.match.but(on=on)), say("Match {how}", how=say("on") if on else say("off"))
        )

    def flip_before(self) -> None:
        """Shows the picture without the open part, or with it again."""
        self.desk.set_view(before=not self.desk.before)
        self.before.setChecked(self.desk.before)

    # --- the aim ---
    def _area(self) -> int | None:
        count = len(self.zone.match.aim.areas)
        place = self.areas.currentIndex()
        return place if count and 0 <= place < count else None

    def _put_aim(self, aim: Aim, words: str, gesture: str | None = None) -> None:
        self.desk.edit_zone(
            self.zone.but(match=self.zone.match.but(aim=aim)),
            say("{words} of {name}", words=say(words), name=self.zone.name),
            gesture,
        )

    def _add(self) -> None:
        def taken(box: Area) -> None:
            aim = self.zone.match.aim
            new = AimArea(box=box, frame=self.desk.frame)
            rides = aim.rides if aim.areas else self.zone.placement.rides
            held = rides is not None and self.desk.shot.lock(rides).holds
            self._newest = True
            self._put_aim(aim.but(areas=(*aim.areas, new), rides=rides if held else None), "Area of the aim")

        self._sample("Drag a box over what the zone should be like.", taken)

    def _remove(self) -> None:
        aim, place = self.zone.match.aim, self._area()
        if place is not None:
            areas = tuple(area for k, area in enumerate(aim.areas) if k != place)
            self._put_aim(aim.but(areas=areas), "Remove an area of the aim")

    def _distance(self, value: float, gesture: str) -> None:
        aim, place = self.zone.match.aim, self._area()
        if place is not None:
            areas = tuple(
                area.but(distance_m=value or None) if k == place else area for k, area in enumerate(aim.areas)
            )
            self._put_aim(aim.but(areas=areas), "Distance of the aim", gesture)

    def _ride(self, _: str) -> None:
        self._put_aim(self.zone.match.aim.but(rides=self.rides.currentData()), "Lock of the aim")

    # --- fits ---
    def _fit_all(self) -> None:
        desk, shot, id = self.desk, self.desk.shot, self.zone.id

        def fitted(found: FittedAll) -> None:
            now = next((each for each in desk.shot.zones if each.id == id), None)
            if now is None:
                return
            match = found.shot.zone(id).match.but(aim=now.match.aim)
            for each in found.fitted:
                desk.fit_words[(id, each.part)] = (each.words, getattr(match, each.part))
            measured = next((each for each in found.fitted if each.part == "air"), None)
            desk.air_fit = (found.shot.air, measured.values) if measured is not None else desk.air_fit
            why = _by_reason(found.refused)
            self._refused = (id, tuple(f"{parts}: {reason}" for reason, parts in why.items()))
            desk.edit(
                desk.shot.with_zone(now.but(match=match)).but(air=found.shot.air),
                say("Fit all of {name}", name=now.name),
            )
            self._show_refused()
            done = ", ".join(say(each.part) for each in found.fitted) or say("nothing")
            desk.said.emit(
                say("{name}: {done} fitted. {names}", name=now.name, done=done, names=" ".join(why)),
                bool(found.refused),
            )

        self._refused = (id, ())
        self._show_refused()
        desk.run("Fitting all", lambda job: fit_all(shot, desk.store, [id], job.progress), fitted)

    def _show_refused(self) -> None:
        """What *Fit all* could not measure of this zone."""
        zone, refused = self._refused
        self.words.setText("\n".join(refused) if zone == self.zone.id else "")
        self.words.setVisible(bool(self.words.text()))

    def line(self, hint: str, then: Callable[..., None]) -> None:
        """Asks for a line on the picture."""
        self.lines.ask(hint, then)
        self.desk.choice_changed.emit()

    def _new_sky(self) -> None:
        desk, shot, zone = self.desk, self.desk.shot, self.zone

        def work(job: object) -> object:
            return new_sky_light(shot, zone, desk.store)

        def proposed(match: Match) -> None:
            now = next((each for each in desk.shot.zones if each.id == zone.id), None)
            if now is not None:
                desk.edit_zone(
                    now.but(match=now.match.but(on=True, tone=match.tone)),
                    say("Light of the new sky on {name}", name=now.name),
                )
                stops, kelvin = match.tone.exposure_stops.at(desk.frame), match.tone.temperature_k.at(desk.frame)
                desk.said.emit(
                    say(
                        "{name}: {stops:+.2f} stops and a white of {kelvin:.0f} K, as the new sky's light is to "
                        "that of the old one: a start, to be judged by eye.",
                        name=now.name,
                        stops=stops,
                        kelvin=kelvin,
                    ),
                    False,
                )

        try:
            desk.run("Light of the new sky", work, proposed)
        except MantleError as problem:
            desk.said.emit(str(problem), True)


def _by_reason(refused: dict[str, str]) -> dict[str, str]:
    """What could not be measured, each reason once, with the parts that it holds for."""
    out: dict[str, list[str]] = {}
    for part, why in refused.items():
        out.setdefault(why, []).append(say(part))
    return {why: ", ".join(parts) for why, parts in out.items()}
