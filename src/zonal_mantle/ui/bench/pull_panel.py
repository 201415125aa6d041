"""The pulls of a matte: their list, and the chosen one's form."""

from __future__ import annotations

from typing import get_args

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QListWidget, QListWidgetItem

from ...shot import PULLS, Pull
from ...shot.matte import Reads
from ...words import say
from ..desk import Desk
from ..widgets import choice, choose, note, row, show_choice, switched, tool_button
from .panel import Panel
from .pull_forms import ColourForm, DifferenceForm, Form, LumaForm, Sample, ScreenForm
from .sky_form import ClearSkyForm

FORMS: tuple[type[Form], ...] = (LumaForm, ColourForm, ScreenForm, ClearSkyForm, DifferenceForm)

SIGNS = {"union": "∪", "intersection": "∩", "subtraction": "∖"}
ADD = "Add a pull"
READS = get_args(Reads)


class PullPanel(Panel):
    """Pulls are joined from the top of the list down."""

    def __init__(self, desk: Desk, sample: Sample) -> None:
        super().__init__(desk)
        self.chosen: str | None = None
        self.add = choice([ADD, *PULLS], "Adds a pull below the others", self._add_pull)
        self.combine = choice(
            list(SIGNS), "How the chosen pull joins what is above it: what either keeps, what both keep, what is left",
            lambda v: self._put("Join", combine=v),
        )  # fmt: skip
        self.up = tool_button("arrow-up", "Move the chosen pull up", self._up)
        self.remove = tool_button("trash-2", "Remove the chosen pull", self._remove)
        self.inside.addLayout(row(self.add, self.up, self.remove))
        self.list = QListWidget()
        self.list.setFixedHeight(46)
        self.list.setAccessibleName(say("Pulls"))
        self.list.setToolTip(say("The pulls, joined from the top down. The box switches one on and off"))
        self.list.itemClicked.connect(self._choose)
        self.list.itemChanged.connect(self._switch)
        self.inside.addWidget(self.list)
        self.joined = note("Combine with pulls above")
        self.inside.addLayout(row(self.joined, self.combine))
        self.reads = choice(
            [*READS],
            "What the pulls look at: the plate (denoised where there is such a one), as it came, the clean plate, or "
            "the zone's own picture in its own pixels",
            self._reads,
        )
        self.on_black = QCheckBox(say("Shot on black"))
        self.on_black.setToolTip(
            say("The picture was shot on black and holds its own light: nothing of it is taken away, alpha only hides")
        )
        self.on_black.clicked.connect(self._on_black)
        self.inside.addLayout(row(note("Looks at"), self.reads))
        self.inside.addWidget(self.on_black)
        self.forms: dict[str, Form] = {}
        for kind in FORMS:
            form = kind(desk, sample)
            self.forms[kind.kind] = form
            self.inside.addWidget(form)
        self.words = note("Without a pull the matte is what its shapes say. Add one to cut by brightness or colour.")
        self.inside.addWidget(self.words)

    @property
    def pull(self) -> Pull | None:
        """The chosen pull, else the first."""
        pulls = self.desk.own_matte().pulls
        return next((pull for pull in pulls if pull.id == self.chosen), pulls[0] if pulls else None)

    @property
    def form(self) -> Form | None:
        """The chosen pull's form."""
        return self.forms[self.pull.kind] if self.pull is not None else None

    def _reads(self, which: str) -> None:
        matte = self.desk.own_matte()
        self.desk.give_matte(matte.but(reads=which), say("{name} looks at the {how}", name=matte.name, how=which))

    def _on_black(self, on: bool) -> None:
        matte = self.desk.own_matte()
        self.desk.give_matte(
            matte.but(over_black=bool(on)),
            say("{name} {how} black", name=matte.name, how=say("on") if on else say("not on")),
        )

    def refresh(self) -> None:
        pulls, pull = self.desk.own_matte().pulls, self.pull
        shot = self.desk.shot
        matte, zone = self.desk.own_matte(), self.desk.zone
        own = zone is not None and not shot.holds_plate(zone)
        others = [name for name in READS if name != "own picture" or own]
        if shot.denoised is None and matte.reads != "raw plate":
            others.remove("raw plate")
        if shot.clean is None and matte.reads != "clean plate":
            others.remove("clean plate")
        show_choice(self.reads, others, matte.reads)
        self.on_black.setVisible(own)
        self.on_black.setChecked(matte.over_black)
        self.add.setCurrentIndex(0)
        self.list.blockSignals(True)
        self.list.clear()
        for number, each in enumerate(pulls):
            sign = f"{SIGNS[each.combine]} " if number else ""
            item = QListWidgetItem(f"{sign}{say(each.kind).capitalize()}")
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if each.on else Qt.CheckState.Unchecked)
            item.setData(Qt.ItemDataRole.UserRole, each.id)
            self.list.addItem(item)
            if pull is not None and each.id == pull.id:
                self.list.setCurrentItem(item)
        self.list.blockSignals(False)
        first = pull is None or pulls[0].id == pull.id
        for part in (self.joined, self.combine):
            part.setVisible(not first)
        self.up.setEnabled(not first)
        self.remove.setEnabled(pull is not None)
        self.list.setVisible(bool(pulls))
        self.words.setVisible(not pulls)
        if pull is not None:
            choose(self.combine, pull.combine)
        for kind, form in self.forms.items():
            form.pull = pull if pull is not None and kind == pull.kind else None
            form.setVisible(form.pull is not None)
            if form.pull is not None:
                form.refresh()

    def _add_pull(self, kind: str) -> None:
        if kind in PULLS:
            matte = self.desk.own_matte()
            pull = PULLS[kind](id=self.desk.shot.new_id("pull"))
            self.chosen = pull.id
            self.desk.give_matte(matte.with_pull(pull), say("Add a {kind} pull", kind=say(kind)))
        self.add.setCurrentIndex(0)

    def _choose(self, item: QListWidgetItem) -> None:
        self.chosen = item.data(Qt.ItemDataRole.UserRole)
        self.desk.choice_changed.emit()

    def _put(self, words: str, **changes: object) -> None:
        matte, pull = self.desk.matte, self.pull
        if matte is not None and pull is not None:
            self.desk.edit_matte(
                matte.with_pull(pull.but(**changes)), say("{words} of {name}", words=say(words), name=matte.name)
            )

    def _switch(self, item: QListWidgetItem) -> None:
        matte, id = self.desk.matte, item.data(Qt.ItemDataRole.UserRole)
        on = item.checkState() == Qt.CheckState.Checked
        pull = next((pull for pull in matte.pulls if pull.id == id), None) if matte else None
        if matte is not None and pull is not None and pull.on != on:
            self.desk.edit_matte(matte.with_pull(pull.but(on=on)), switched(say(pull.kind).capitalize(), on))

    def _up(self) -> None:
        matte, pull = self.desk.matte, self.pull
        if matte is None or pull is None:
            return
        pulls = list(matte.pulls)
        k = pulls.index(pull)
        if k > 0:
            pulls[k - 1], pulls[k] = pulls[k], pulls[k - 1]
            self.chosen = pull.id
            self.desk.edit_matte(matte.but(pulls=tuple(pulls)), "Order of pulls")

    def _remove(self) -> None:
        matte, pull = self.desk.matte, self.pull
        if matte is not None and pull is not None:
            rest = tuple(each for each in matte.pulls if each.id != pull.id)
            self.desk.edit_matte(matte.but(pulls=rest), say("Remove the {kind} pull", kind=say(pull.kind)))
