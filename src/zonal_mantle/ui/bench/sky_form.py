"""The controls of the sky pull: what it finds, what a person says of it, its doubt."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from PySide6.QtWidgets import QCheckBox

from ...shot import SkyStroke
from ...words import say
from ..numberfield import NumberField
from ..tools.sample import Area
from ..widgets import choice, choose, fill, named, push_button, row
from .pull_forms import NOTHING, Form


class ClearSkyForm(Form):
    kind = "clear sky"

    def build(self) -> None:
        self.finds = choice(
            ["region", "surface"],
            "Region: what is sky is learnt from the shot, clouds and all. Surface: what lies off a smooth sky stays",
            lambda name: self.put("Method", finds=name),
        )
        self.here = push_button("Sky here…", "Drag over sky: it goes, and the whole shot learns from it", self._ask)
        self.not_here = push_button(
            "Not sky here…", "Drag over what stays: the whole shot learns from it", lambda: self._say("not sky")
        )
        self.doubt = push_button("Show doubtful areas", "Marks what may be sky or not", self._show_doubt)
        self.forget = push_button(
            "Automatic",
            "Forgets what was said: the sky is found by itself",
            lambda: self.put("Automatic", areas=(), strokes=()),
        )
        self.rides = choice(
            [NOTHING],
            "The lock that carries what is said from now on to other frames; without, it holds on its own",
            lambda name: None,
        )
        self.inside.addLayout(row(named("Method", self.finds), self.doubt))
        self.inside.addLayout(row(self.here, self.not_here, self.forget))
        self.inside.addWidget(named("Rides on", self.rides))
        self.empty = self.number(
            "Clear below",
            "empty",
            0,
            20,
            0.05,
            3.0,
            2,
            "σ",
            "Within this many deviations of the plate's noise all is sky",
        )
        self.full = self.number(
            "Solid above", "full", 0, 40, 0.05, 4.5, 2, "σ", "Beyond this nothing is held down as noise"
        )
        self.inside.addLayout(row(self.empty, self.full))
        self.neighbours = NumberField(
            "Neighbouring frames",
            0,
            2,
            1,
            2,
            0,
            "",
            "How many frames before and after a noisy one is averaged with, along what moves, before it is cut",
        )
        self.plain(
            self.neighbours,
            lambda: self.pull.neighbours if self.pull else None,
            lambda v, w, g: self.put(w, g, neighbours=round(v)),
        )
        self.inside.addWidget(self.neighbours)
        self.degree = NumberField("Surface order", 0, 5, 1, 2, 0, "", "Degree of the surface that is fitted to the sky")
        self.plain(
            self.degree,
            lambda: self.pull.degree if self.pull else None,
            lambda v, w, g: self.put(w, g, degree=round(v)),
        )
        self.clouds = QCheckBox(say("Clouds"))
        self.clouds.setToolTip(say("Adds what the surface leaves, smoothed: soft clouds belong to the sky"))
        self.clouds.clicked.connect(lambda on: self.put("Clouds", clouds=bool(on)))
        self.inside.addLayout(row(self.degree, self.clouds))
        self.carried = choice(
            [NOTHING], "Fitted on every frame by itself, or fitted once and carried by a lock", self._carry
        )
        self.inside.addWidget(named("Carried by", self.carried))

    def refresh(self) -> None:
        super().refresh()
        if self.pull is None:
            return
        self.clouds.setChecked(self.pull.clouds)
        self.forget.setEnabled(bool(self.pull.areas or self.pull.strokes))
        by_region = self.pull.finds == "region"
        choose(self.finds, self.pull.finds)
        for part in (self.not_here, self.doubt, self.rides):
            part.setEnabled(by_region)
        for part in (self.degree, self.clouds, self.carried):
            part.setVisible(not by_region)
        self.neighbours.setVisible(by_region)
        self.rides.setVisible(not self.desk.cuts_own)
        locks = self.desk.shot.locks
        entries = [(None, NOTHING), *((lock.id, lock.name) for lock in locks)]
        fill(self.carried, entries, self.pull.carried_by)
        fill(self.rides, entries, self.rides.currentData())

    def _show_doubt(self) -> None:
        self.desk.set_view(view="Alpha check", look=replace(self.desk.look, fault="doubt"))

    def _say(self, says: Literal["sky", "not sky"]) -> None:
        def taken(area: Area) -> None:
            assert self.pull is not None
            x0, y0, x1, y1 = area
            corners = ((x0, y0), (x1, y0), (x1, y1), (x0, y1))
            stroke = SkyStroke(
                says=says, frame=self.desk.frame, points=corners, filled=True, rides=self.rides.currentData()
            )
            self.put("Sky here" if says == "sky" else "Not sky here", strokes=(*self.pull.strokes, stroke))

        what = say("sky that is left") if says == "sky" else say("what stays")
        self.sample(say("Drag over {what}.", what=what), taken)

    def _ask(self) -> None:
        if self.pull is not None and self.pull.finds == "region":
            self._say("sky")
            return

        def taken(area: Area) -> None:
            assert self.pull is not None
            self.put("Known sky", areas=(*self.pull.areas, area), areas_frame=self.desk.frame)

        self.sample("Drag over sky without branches or wires.", taken)

    def _carry(self, _: str) -> None:
        self.put("Carried by", carried_by=self.carried.currentData())
