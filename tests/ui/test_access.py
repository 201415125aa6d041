"""Read by a screen reader, worked from the keyboard, one window per shot. Qt's own accessibility interface is asked."""

import pytest
from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QAccessible
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QLineEdit, QListWidget, QWidget

from zonal_mantle.ui.bench.stage import Header
from zonal_mantle.ui.numberfield import NumberField
from zonal_mantle.ui.single import Single
from zonal_mantle.ui.tour import STEPS, Tour

NAME, DESCRIPTION = QAccessible.Text.Name, QAccessible.Text.Description


def told(widget: QWidget, what: QAccessible.Text) -> str:
    return QAccessible.queryAccessibleInterface(widget).text(what)


def test_every_control_has_a_name_for_a_screen_reader(opened):
    window = opened.whole()
    kinds = (QAbstractButton, QComboBox, QLineEdit, QListWidget, NumberField, Header)
    nameless = [
        (type(widget).__name__, widget.toolTip())
        for kind in kinds
        for widget in window.findChildren(kind)
        if not told(widget, NAME) and widget.parent() is not None and not widget.objectName().startswith("qt_")
    ]
    assert nameless == []


def test_a_number_tells_its_value_and_a_header_its_reading(opened):
    window, desk = opened.window, opened.window.desk
    field = window.section.visibility
    field._set(12.5, "g")
    assert told(field, NAME) == "Visibility"
    assert told(field, DESCRIPTION) == "12.50 km"
    desk.choose_zone(desk.shot.zones[1].id)
    window.bench.refresh()
    header = window.bench.place.header
    assert told(header, NAME) == "Place"
    assert told(header, DESCRIPTION) == header.words


def test_the_stages_are_opened_from_the_keyboard_with_a_visible_focus(opened):
    window, desk = opened.window, opened.window.desk
    desk.choose_zone(desk.shot.zones[1].id)
    desk.choose_stage("Matte")
    QApplication.processEvents()
    header = window.bench.place.header
    plain = header.grab().toImage()
    header.setFocus(Qt.FocusReason.TabFocusReason)
    opened.wait(header.hasFocus)
    assert header.grab().toImage() != plain
    QTest.keyClick(header, Qt.Key.Key_Return)
    assert desk.stage == "Place"


@pytest.mark.background
def test_trouble_is_told_by_a_mark_and_not_by_colour_alone(opened):
    window, desk = opened.window, opened.window.desk
    zone = next(z for z in desk.shot.zones if not desk.shot.holds_plate(z))
    desk.choose_zone(zone.id)
    desk.edit_zone(zone.but(placement=zone.placement.but(rides=None)), "Let go")
    window.bench.refresh()
    assert window.bench.lock.header.words.startswith("▲")
    opened.wait(lambda: bool(desk.readings.findings))
    marks = [window.findings.list.topLevelItem(k).text(0) for k in range(window.findings.list.topLevelItemCount())]
    assert all(mark.strip("▲● ") for mark in marks)  # each has a word


def test_a_second_start_raises_the_window_of_the_shot(qtbot, dressed, tmp_path):
    shot, link = tmp_path / "a.shot.json", tmp_path / "link.shot.json"
    shot.write_text("{}")
    link.symlink_to(shot)
    raised = []
    single = Single(lambda: raised.append(True))
    assert not Single.raise_other(shot)
    single.serve(shot)
    assert Single.raise_other(link)  # the same file, whatever leads to it
    qtbot.waitUntil(lambda: bool(raised))
    assert not Single.raise_other(tmp_path / "b.shot.json")
    single.serve(None)
    assert not Single.raise_other(shot)


def test_the_tour_has_six_steps_changes_nothing_and_can_be_left(opened):
    window, desk = opened.window, opened.window.desk
    before = desk.shot
    window.take_tour()
    tour = window.findChild(Tour)
    assert len(STEPS) == 6
    seen = set()
    for _ in STEPS:
        seen.add(tour.words.text())
        assert window.rect().contains(tour.geometry())
        assert tour.outline.geometry().intersects(window.rect())
        opened.click(tour.on)
    assert len(seen) == 6
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    assert window.findChild(Tour) is None
    window.take_tour()
    QTest.keyClick(window.findChild(Tour), Qt.Key.Key_Escape)
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    assert window.findChild(Tour) is None
    assert desk.shot is before
