"""Levels, edge and old-sky removal of a matte."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox

from ...shot import Edge, Keyed, Levels, OldSky
from ...words import say
from ..desk import Desk
from ..numberfield import NumberField
from ..widgets import choice, choose, fill, named, note, row
from .panel import Panel

AUTOMATIC, ON, OFF = "Automatic", "On", "Off"
NOTHING = "None"


class EdgePanel(Panel):
    """Everything between the pulls and the shapes."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.inside.addWidget(note("Levels"))
        self.black = self._number("levels", "Black", "black", -1, 1, 0.005, 0, 3, "", "Alpha that becomes empty")
        self.white = self._number("levels", "White", "white", 0, 2, 0.005, 1, 3, "", "Alpha that becomes solid")
        self.gamma = self._number("levels", "Gamma", "gamma", 0.1, 10, 0.01, 1, 2, "", "Above 1 toward solid")
        self.inside.addLayout(row(self.black, self.white))
        self.inside.addWidget(self.gamma)
        self.inside.addWidget(note("Edge"))
        self.grow = self._number("edge", "Grow", "grow_px", -50, 50, 0.05, 0, 2, "px", "Moves the edge out; below 0 in")
        self.soften = self._number("edge", "Soften", "soften_px", 0, 100, 0.05, 0, 2, "px", "Softens both sides")
        self.soft_in = self._number(
            "edge",
            "Soften inside",
            "soften_in_px",
            0,
            100,
            0.05,
            0,
            2,
            "px",
            "Softens inward only: what is outside stays empty",
        )
        self.soft_out = self._number(
            "edge",
            "Soften outside",
            "soften_out_px",
            0,
            100,
            0.05,
            0,
            2,
            "px",
            "Softens outward only: what is inside stays solid",
        )
        self.inside.addLayout(row(self.grow, self.soften))
        self.inside.addLayout(row(self.soft_in, self.soft_out))
        self.specks = self._area("Specks", "specks_px2", "Solid islands smaller than this go")
        self.holes = self._area("Holes", "holes_px2", "Holes smaller than this are filled")
        self.inside.addLayout(row(self.specks, self.holes))
        self.steady = NumberField(
            "Steady",
            0,
            1,
            0.01,
            0,
            2,
            "",
            "Averages with neighbouring frames where the plate is the same, along a lock",
        )
        self.plain(self.steady, lambda: self._part("edge").steady, lambda v, w, g: self._put("edge", w, g, steady=v))
        self.along = choice([NOTHING], "The lock along which the matte is steadied", self._along)
        self.inside.addLayout(row(self.steady, named("Along", self.along, wide=False)))
        self.inside.addWidget(note("Old sky"))
        self.remove = choice(
            [AUTOMATIC, ON, OFF],
            "Takes the old sky's colour out of half-transparent pixels; automatic for pulls on sky or screen",
            self._switch,
        )
        self.strength = self._number("old_sky", "Strength", "strength", 0, 1, 0.01, 1, 2, "", "1 takes all of it out")
        self.tint = self._number(
            "old_sky", "Edge tint", "tint", 0, 1, 0.01, 0, 2, "", "Lets the rim take a little of what is hung behind"
        )
        self.inside.addWidget(named("Remove it", self.remove, wide=False))
        self.clamp = QCheckBox(say("Clamp colours"))
        self.clamp.setToolTip(say("Keeps alpha within 0…1 at the end"))
        self.clamp.clicked.connect(self._clamp)
        self.inside.addLayout(row(self.strength, self.tint))
        self.inside.addWidget(self.clamp)

    def refresh(self) -> None:
        matte = self.desk.matte
        if matte is None:
            return
        super().refresh()
        removed = {None: AUTOMATIC, True: ON, False: OFF}[matte.old_sky.on]
        choose(self.remove, removed)
        self.remove.setItemText(
            0, say("Automatic (on)") if matte.but(old_sky=OldSky()).removes_old_sky else say("Automatic (off)")
        )
        self.clamp.setChecked(matte.clamp)
        self.along.setVisible(not self.desk.cuts_own)  # no lock of the plate moves anything in a clip's own pixels
        locks = self.desk.shot.locks
        fill(self.along, [(None, NOTHING), *((lock.id, lock.name) for lock in locks)], matte.edge.steady_lock)

    def _part(self, name: str) -> Levels | Edge | OldSky:
        return getattr(self.desk.own_matte(), name)

    def _put(self, part: str, words: str, gesture: str | None = None, **changes: object) -> None:
        matte = self.desk.matte
        if matte is not None:
            changed = matte.but(**{part: getattr(matte, part).but(**changes)})
            self.desk.edit_matte(changed, say("{words} of {name}", words=say(words), name=matte.name), gesture)

    def _number(
        self, part: str, label: str, name: str, low: float, high: float, step: float, default: float, decimals: int,
        unit: str, tip: str,
    ) -> NumberField:  # fmt: skip
        field = NumberField(label, low, high, step, default, decimals, unit, tip)

        def get() -> Keyed:
            return getattr(self._part(part), name)

        return self.keyed(field, get, lambda value, words, gesture: self._put(part, words, gesture, **{name: value}))

    def _area(self, label: str, name: str, tip: str) -> NumberField:
        field = NumberField(label, 0, 10000, 1, 0, 0, "px²", tip)
        return self.plain(
            field, lambda: getattr(self._part("edge"), name), lambda v, w, g: self._put("edge", w, g, **{name: v})
        )

    def _along(self, _: str) -> None:
        self._put("edge", "Steady along", steady_lock=self.along.currentData())

    def _switch(self, name: str) -> None:
        on = {ON: True, OFF: False}.get(name)
        self._put("old_sky", "Old-sky removal", on=on)

    def _clamp(self, on: bool) -> None:
        if (matte := self.desk.matte) is not None:
            self.desk.edit_matte(matte.but(clamp=bool(on)), say("Clamp of {name}", name=matte.name))
