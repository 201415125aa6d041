"""The drawer of findings: a line each, the gravest first, with what answers it; and those that were set aside."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QLineEdit, QTreeWidget, QTreeWidgetItem, QWidget

from ..comp import Finding, by_severity, came_back, mend_of, reason_set_aside
from ..shot import SetAside
from ..words import english, say
from . import theme
from .desk import Desk
from .widgets import column, note, push_button, row, tool_button

ROLE = Qt.ItemDataRole.UserRole
ROW_HEIGHT = 22  # of a line with its button
MARKS = {"wrong": "▲ wrong", "doubt": "● check"}
COLUMNS = ("", "Stage", "Frame", "Finding", "")


def counted(findings: list[Finding], aside: int) -> str:
    """How many findings there are, in words."""
    wrong = sum(each.severity == "wrong" for each in findings)
    parts = [
        say("{wrong} wrong", wrong=wrong) if wrong else "",
        say("{count} to check", count=len(findings) - wrong) if len(findings) > wrong else "",
    ]
    parts += [say("{aside} set aside", aside=aside) if aside else ""]
    return ", ".join(part for part in parts if part) or say("none")


class Findings(QWidget):
    """All findings of the shot. A click goes to what it says; its button mends it."""

    mend_wanted = Signal(object)
    jumped = Signal(object)  # the finding that was gone to

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.count = note("Findings")
        self.count.setWordWrap(False)
        self.list = QTreeWidget()
        self.list.setColumnCount(len(COLUMNS))
        self.list.setHeaderLabels([say(each) for each in COLUMNS])
        self.list.setHeaderHidden(True)
        self.list.setRootIsDecorated(False)
        self.list.setUniformRowHeights(True)
        self.list.setFont(theme.font(12))
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.list.setAccessibleName(say("Findings"))
        self.list.setToolTip(say("Readings outside of what is acceptable. A click or Enter goes there"))
        head = self.list.header()
        head.setStretchLastSection(False)
        for place in (0, 1, 2, 4):
            head.setSectionResizeMode(place, QHeaderView.ResizeMode.ResizeToContents)
        head.setSectionResizeMode(3, QHeaderView.ResizeMode.Stretch)
        self.list.itemClicked.connect(lambda item, _: self.jump(item.data(0, ROLE)))
        self.list.itemActivated.connect(lambda item, _: self.jump(item.data(0, ROLE)))
        self.reason = QLineEdit()
        self.reason.setPlaceholderText(say("Why it is acceptable; kept in the shot"))
        self.reason.setAccessibleName(say("Reason to set the finding aside"))
        self.reason.returnPressed.connect(self._set_aside)
        self.aside = push_button("Set aside", "Puts the chosen finding aside, with that reason", self._set_aside)
        self.back = push_button("Take up again", "The chosen finding counts again", self._take_up)
        self.close_it = tool_button("x", "Puts the findings away; the button on the rail brings them back", self.hide)
        layout = column(2, (6, 3, 6, 3))
        head_row = row(self.count, 1, self.reason, self.aside, self.back, self.close_it)
        head_row.setStretch(2, 1)  # type: ignore[attr-defined]
        layout.addLayout(head_row)
        layout.addWidget(self.list, 1)
        self.setLayout(layout)
        self.setMinimumHeight(74)
        self.list.currentItemChanged.connect(lambda *_: self._show_buttons())
        desk.readings_changed.connect(self.refresh)
        desk.measuring_began.connect(lambda: self.count.setText(say("Findings: {words}", words=self.words())))
        desk.shot_changed.connect(self._shot_changed)
        self._shown: object = None
        self._show_buttons()

    @property
    def findings(self) -> list[Finding]:
        """What is in the list, in its order."""
        return by_severity(self.desk.readings.findings, self.desk.shot)

    def words(self) -> str:
        """How many there are."""
        found, shot = self.desk.readings.findings, self.desk.shot
        open_ = [each for each in found if reason_set_aside(shot, each) is None]
        words = counted(open_, len(found) - len(open_))
        return say("{words} so far", words=words) if self.desk.is_measuring and shot.plate is not None else words

    def refresh(self) -> None:
        """Lists them anew."""
        chosen = self._chosen()
        shot = self.desk.shot
        self._shown = (self.desk.readings, shot.set_aside)
        self.count.setText(say("Findings: {words}", words=self.words()))
        self.list.clear()
        for finding in self.findings:
            reason = reason_set_aside(shot, finding)
            words = (
                finding.words
                if reason is None
                else say("Set aside ({reason}): {words}", reason=reason, words=finding.words)
            )
            worse = came_back(shot, finding)
            if worse is not None:
                words = say(
                    "{words} Much more than when it was set aside ({reason}).", words=finding.words, reason=worse.reason
                )
            mark = say(MARKS[finding.severity] if reason is None else "set aside")
            item = QTreeWidgetItem([mark, say(finding.stage), str(finding.frame), words, ""])
            item.setData(0, ROLE, finding)
            item.setToolTip(3, words)
            item.setSizeHint(3, QSize(0, ROW_HEIGHT))  # of all, whether they have a button or not
            self.list.addTopLevelItem(item)
            mend = mend_of(shot, finding) if reason is None else None
            if mend is not None:
                tip = say("Mends it: {label}", label=mend.label)
                button = push_button(mend.label, tip, lambda mend=mend: self.mend_wanted.emit(mend))
                button.setFont(theme.font(11))
                self.list.setItemWidget(item, 4, button)
            if chosen is not None and finding.key == chosen.key:
                self.list.setCurrentItem(item)
        self._show_buttons()

    def _shot_changed(self) -> None:
        if self._shown != (self.desk.readings, self.desk.shot.set_aside):
            self.refresh()

    def _chosen(self) -> Finding | None:
        item = self.list.currentItem()
        return item.data(0, ROLE) if item is not None else None

    def _show_buttons(self) -> None:
        chosen = self._chosen()
        is_aside = chosen is not None and reason_set_aside(self.desk.shot, chosen) is not None
        for part in (self.reason, self.aside):
            part.setVisible(chosen is not None and not is_aside)
        self.back.setVisible(is_aside)

    def jump(self, finding: Finding) -> None:
        """Goes to the frame, the zone or lock and the stage of a finding."""
        desk = self.desk
        desk.set_frame(finding.frame)
        if any(zone.id == finding.part for zone in desk.shot.zones):
            desk.choose_zone(finding.part)
        elif user := next((zone for zone in desk.shot.zones if zone.matte.id == finding.part), None):
            desk.choose_zone(user.id)
        elif any(lock.id == finding.part for lock in desk.shot.locks):
            desk.choose_lock(finding.part)
        elif holder := next((zone for zone in desk.shot.zones if zone.source == finding.part), None):
            desk.choose_zone(holder.id)
        desk.choose_stage(finding.stage)
        if finding.stage == "Matte" and finding.fault is not None:
            desk.show_fault(finding.fault)
        self.jumped.emit(finding)

    def _set_aside(self) -> None:
        chosen, reason = self._chosen(), self.reason.text().strip()
        if chosen is None:
            return
        if not reason:
            self.desk.said.emit(say("Say why it is acceptable; the reason is kept in the shot."), True)
            self.reason.setFocus()
            return
        shot = self.desk.shot
        others = tuple(each for each in shot.set_aside if each.finding != chosen.key)
        new = (*others, SetAside(finding=chosen.key, reason=reason, words=english(chosen.words)))
        self.reason.clear()
        self.desk.annotate(shot.but(set_aside=new), "Set a finding aside")

    def _take_up(self) -> None:
        chosen, shot = self._chosen(), self.desk.shot
        if chosen is not None:
            rest = tuple(each for each in shot.set_aside if each.finding != chosen.key)
            self.desk.annotate(shot.but(set_aside=rest), "Take a finding up again")
