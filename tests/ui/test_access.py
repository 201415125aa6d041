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


def press(hands, key: Qt.Key, times: int = 1, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    """A key, wherever the focus is."""
    for _ in range(times):
        QTest.keyClick(QApplication.focusWidget() or hands.window, key, modifiers)
        QApplication.processEvents()


def point_at(hands, x: int, y: int) -> None:
    """Moves the pointer by arrow keys to a place of the part that it is on."""
    pointer, far = hands.window.key_pointer, Qt.KeyboardModifier.ShiftModifier
    for by, back, on in (
        (x - pointer.at.x(), Qt.Key.Key_Left, Qt.Key.Key_Right), (y - pointer.at.y(), Qt.Key.Key_Up, Qt.Key.Key_Down),
    ):  # fmt: skip
        key = on if by > 0 else back
        press(hands, key, abs(by) // 10, far)
        press(hands, key, abs(by) % 10)
    assert (pointer.at.x(), pointer.at.y()) == (x, y)


def test_a_shape_is_drawn_a_zone_dragged_and_a_frame_chosen_without_a_mouse(opened):
    window, desk = opened.window, opened.window.desk
    desk.choose_zone(desk.shot.zones[0].id)
    opened.open_stage(window.bench.matte)
    window.bench.matte.open_part("Shapes")
    opened.keys(Qt.Key.Key_K)
    pointer = window.key_pointer
    assert pointer.target is window.viewer
    assert pointer.cross.isVisible()
    window.bench.matte.shapes.keep.click()
    before = len(desk.matte.shapes)
    corners = [opened.at(x, y) for x, y in ((200, 100), (330, 110), (300, 220))]
    for corner in (*corners, corners[0]):  # the first again closes it
        point_at(opened, corner.x(), corner.y())
        press(opened, Qt.Key.Key_Return, 2)
    assert len(desk.matte.shapes) == before + 1
    drawn = desk.matte.shapes[-1].keys[0].points
    assert len(drawn) == 3
    assert drawn[0] == pytest.approx((200, 100), abs=2)

    press(opened, Qt.Key.Key_Tab)  # the section
    section = window.section.view
    assert pointer.target is section
    zone = desk.shot.near_to_far()[1]
    at = section.upright(zone).center().toPoint()
    point_at(opened, at.x(), at.y())
    press(opened, Qt.Key.Key_Return)
    assert pointer.cross.presses
    point_at(opened, at.x() + 60, at.y())
    press(opened, Qt.Key.Key_Return)
    assert desk.zone_id == zone.id
    assert desk.zone.distance_m > zone.distance_m
    assert not desk.dragging

    press(opened, Qt.Key.Key_Tab)  # the rail
    track = window.rail.track
    assert pointer.target is track
    frame = desk.shot.last - 2
    point_at(opened, round(track.x_of(frame)), 8)
    press(opened, Qt.Key.Key_Return, 2)
    assert desk.frame == frame
    press(opened, Qt.Key.Key_Escape)
    assert not pointer.is_on
    assert not pointer.cross.isVisible()


def test_the_pointer_of_keys_leaves_typing_and_what_is_gone_alone(opened):
    window, desk = opened.window, opened.window.desk
    pointer = window.key_pointer
    opened.keys(Qt.Key.Key_K)
    press(opened, Qt.Key.Key_Return)  # held while it is switched off
    opened.keys(Qt.Key.Key_K)
    assert not pointer.is_on
    assert not pointer.pressed
    opened.keys(Qt.Key.Key_K)
    name = window.bench.name
    name.setFocus()
    name.clear()
    QTest.keyClicks(name, "Dad")
    QTest.keyClick(name, Qt.Key.Key_Return)
    assert desk.zone.name == "Dad"
    assert pointer.is_on
    window.viewer.setFocus()
    desk.open(type(desk.shot)(), None)  # nothing to point at any more
    QApplication.processEvents()
    press(opened, Qt.Key.Key_Right)
    assert not pointer.is_on
    pointer.flip()
    assert not pointer.is_on
