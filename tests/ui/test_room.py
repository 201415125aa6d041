"""The room of the window: sizes, drawers, the start page, pages; keys on the rail; things of the same name."""

import json

import pytest
from PySide6.QtCore import QPoint, QPointF, QSize, Qt, QTimer, SignalInstance
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit, QMessageBox, QWidget

from zonal_mantle.comp import Mend
from zonal_mantle.paths import state_dir
from zonal_mantle.shot import Keyed, Note, load, save
from zonal_mantle.ui.numberfield import NumberField
from zonal_mantle.ui.room import NAMES, first_size
from zonal_mantle.ui.window import Window


def hung(desk):
    return next(z for z in desk.shot.near_to_far() if z.distance_m is None and not desk.shot.holds_plate(z))


# --- room ---
@pytest.mark.parametrize("screen", [(1280, 720), (1280, 800), (1366, 768), (2560, 1440), (800, 600)])
def test_a_new_window_fits_what_the_screen_leaves_free(screen):
    size = first_size(QSize(*screen))
    assert size.width() <= screen[0]
    assert size.height() < screen[1]  # its own frame has room


@pytest.mark.parametrize("size", [(1280, 720), (1366, 768), (2560, 1440)])
def test_everything_is_in_the_window_at_that_size(opened, size):
    window = opened.window
    window.resize(*size)
    QApplication.processEvents()
    assert (window.width(), window.height()) == size
    for part in (window.stock, window.viewer, window.bench, window.rail, window.section, window.strip):
        assert part.isVisible()
        corner = part.mapTo(window, part.rect().bottomRight())
        assert corner.x() <= size[0]
        assert corner.y() <= size[1]
    assert window.viewer.width() * window.viewer.height() > 0.4 * size[0] * size[1]


def test_parts_are_put_away_sized_and_found_again_so(opened):
    window = opened.window
    opened.keys(Qt.Key.Key_F1, Qt.KeyboardModifier.ControlModifier)
    assert window.stock.isHidden()
    window.room.columns.setSizes([100, 800, 360])
    window.room.show("Findings", True)
    window.room.save()
    kept = json.loads((state_dir() / "window.json").read_text())
    assert kept["put_away"] == ["Stock"]
    other = Window()
    other.show()
    other.resize(window.size())  # the screen of the tests is small
    for _ in range(2):
        QApplication.processEvents()
    shown = [name for name in NAMES if not other.room.parts[name].isHidden()]
    assert shown == ["Rail"]  # the start page has the window, and what is said
    other.room.save()
    assert json.loads((state_dir() / "window.json").read_text())["put_away"] == ["Stock"]
    other.room.show("Findings", False)  # counts once there is a shot
    other.room.show("Findings", True)
    assert other.findings.isHidden()
    other.desk.open(window.desk.shot, None)
    for _ in range(2):
        QApplication.processEvents()
    assert other.stock.isHidden()
    assert not other.findings.isHidden()
    assert other.bench.width() == pytest.approx(window.bench.width(), abs=12)
    other.desk.file.saved = other.desk.shot
    other.close()
    (state_dir() / "window.json").write_text("[3")  # what cannot be read counts as nothing
    Window().deleteLater()


def test_one_key_gives_the_picture_the_whole_window_and_takes_it_back(opened):
    window = opened.window
    before = window.viewer.size()
    opened.keys(Qt.Key.Key_P)
    assert all(window.room.parts[name].isHidden() for name in NAMES)
    assert window.viewer.height() > 0.9 * window.height()
    assert window.viewer.width() == window.width()
    opened.keys(Qt.Key.Key_P)
    assert window.viewer.size() == before
    assert window.bench.isVisible()
    opened.keys(Qt.Key.Key_P)
    window.room.show("Findings", True)  # as the first pass does when it ends
    assert window.bench.isVisible()
    assert window.strip.isVisible()
    assert not window.room.is_alone


def test_no_attribute_of_a_part_hides_one_of_qt(opened):
    window = opened.whole()
    for widget in (window, *window.findChildren(QWidget)):
        own = {k for k, v in vars(widget).items() if hasattr(QWidget, k) and not isinstance(v, SignalInstance)}
        assert not own, (type(widget).__name__, own)


# --- findings ---
@pytest.mark.background
def test_the_drawer_offers_what_mends_and_it_mends(opened):
    window, desk = opened.window, opened.window.desk
    zone = hung(desk)
    desk.edit_zone(zone.but(placement=zone.placement.but(rides=None)), "Let go")
    opened.wait(lambda: any("rides on nothing" in f.words for f in desk.readings.findings))
    window.room.show("Findings", True)
    QApplication.processEvents()
    row = next(
        row
        for k in range(window.findings.list.topLevelItemCount())
        if "rides on nothing" in (row := window.findings.list.topLevelItem(k)).text(3)
    )
    button = window.findings.list.itemWidget(row, 4)
    assert button.text().startswith("Ride on ")
    opened.click(button)
    assert desk.zone_id is not None
    assert desk.shot.zone(zone.id).placement.rides is not None
    assert desk.history.labels[desk.history.place].startswith("Ride on")
    opened.wait(lambda: not any("rides on nothing" in f.words for f in desk.readings.findings))


def test_a_button_whose_lock_is_gone_says_so_and_changes_nothing(opened):
    """The button may be pressed before the window has caught up with what was removed."""
    window, desk = opened.window, opened.window.desk
    zone, lock = hung(desk), desk.shot.locks[0]
    ride = Mend("ride", f"Ride on {lock.name}", zone.id, lock.id)
    desk.edit(desk.shot.without_lock(lock.id), "Remove the lock")
    before, said = desk.shot, []
    desk.said.connect(lambda words, wrong: said.append((words, wrong)))
    window.bench.mend_wanted.emit(ride)
    assert desk.shot is before
    assert said[-1][1]
    assert "does not apply any more" in said[-1][0]


def test_the_header_in_trouble_carries_its_button(opened):
    desk, bench = opened.window.desk, opened.window.bench
    plate = next(zone for zone in desk.shot.zones if desk.shot.holds_plate(zone))
    desk.choose_zone(plate.id)
    desk.edit_zone(plate.but(matte=plate.matte.but(on=False)), "Off")
    QApplication.processEvents()
    bench.refresh()
    header = bench.matte.header
    assert "hides what is behind" in header.words
    opened.click(header.mend)
    assert desk.zone.matte.on
    bench.refresh()
    assert header.mend.isHidden()


@pytest.mark.background
def test_a_finding_is_set_aside_with_a_reason_that_the_shot_keeps(opened, tmp_path):
    window, desk = opened.window, opened.window.desk
    zone = hung(desk)
    desk.edit_zone(zone.but(placement=zone.placement.but(rides=None)), "Let go")
    opened.wait(lambda: any("rides on nothing" in f.words for f in desk.readings.findings))
    opened.click_finding("rides on nothing")
    revision = desk.revision
    opened.click(window.findings.aside)
    assert not desk.shot.set_aside  # not without a reason
    window.findings.reason.setText("it is a title card")
    opened.click(window.findings.aside)
    assert desk.shot.set_aside[0].reason == "it is a title card"
    assert desk.revision == revision  # no picture is made anew for it
    assert "set aside" in window.rail.findings.text()
    assert desk.file.save(tmp_path / "kept.shot.json")
    assert load(tmp_path / "kept.shot.json").set_aside == desk.shot.set_aside
    opened.click_finding("it is a title card")
    opened.click(window.findings.back)
    assert not desk.shot.set_aside


# --- the start page and the pages of words ---
def test_an_empty_window_is_a_start_page_with_recent_shots(hands, demo, tmp_path):
    window = hands.window
    assert window.start.isVisible()
    assert not window.viewer.isVisible()
    path = tmp_path / "Dusk.shot.json"
    save(load(demo / "SLT_0140.shot.json"), path)
    window.files.open_path(path)
    hands.settled()
    assert window.viewer.isVisible()
    window.close()
    other = Window()
    other.show()
    QApplication.processEvents()
    first = other.start.recent.item(0)
    assert first.text().startswith("Dusk")
    assert not first.icon().isNull()
    assert other.start.recent.iconSize().width() > 100
    other.start.recent.itemClicked.emit(first)
    assert other.desk.shot.plate is not None
    other.desk.file.saved = other.desk.shot
    other.close()


def test_manual_shortcuts_and_news_are_shipped_and_searched(hands):
    window = hands.window
    window.show_manual()
    page = window._pages["manual"]
    assert not page.isModal()
    QTest.keyClicks(page.search, "horizon")
    assert page.text.textCursor().selectedText().lower() == "horizon"
    first = page.text.textCursor().position()
    page.find_next()
    assert page.text.textCursor().position() != first
    page.search.setText("no such words at all")
    assert page.found.text() == "not found"
    window.show_shortcuts()
    words = window._pages["shortcuts"].text.toPlainText()
    for key in ("Ctrl+S", "Ctrl+Alt+V", "Wheel"):
        assert key in words
    window.show_news()
    assert window._pages["news"].text.toPlainText().strip()


def test_no_two_entries_share_a_shortcut(hands):
    keys = [key for group in hands.window.menus.shortcuts.values() for _, key in group]
    assert len(keys) == len(set(keys))


def test_preferences_hold_for_the_memory_at_once_and_for_the_next_start(hands):
    from zonal_mantle.ui.preferences import read, screen_bytes

    window = hands.window
    window.show_preferences()
    page = window._pages["preferences"]
    page.cache._set(0.5, "g")
    assert window.server.cache.limit == 1 << 29
    assert screen_bytes(7) == 1 << 29
    page.scale.setCurrentText("150 %")
    page.scale.textActivated.emit("150 %")
    assert read()["scale"] == 1.5
    page.cache._set(0.0, "g")
    assert window.server.cache.limit == window.server.usual_bytes
    (state_dir() / "preferences.json").write_text('{"scale": "large", "screen_cache_gib": -3}')
    assert read() == {"screen_cache_gib": 0.0, "scale": 0.0}


# --- notes, states, history ---
def test_a_note_at_a_place_is_seen_there_and_ticked(opened):
    window, desk = opened.window, opened.window.desk
    window.show_notes()
    notes = window._pages["notes"]
    notes.words.setText("Mind the vane")
    before = opened.pixel(301, 92)
    notes.add_at_place()
    opened.settled()
    opened.click_plate(300, 100)
    note = desk.shot.notes[0]
    assert note.place == (pytest.approx(300, abs=3), pytest.approx(100, abs=3))
    assert note.frame == desk.frame
    opened.settled()
    assert opened.pixel(*_flag(note)) != before
    notes.list.item(0).setCheckState(Qt.CheckState.Checked)
    assert desk.shot.notes[0].done
    desk.undo()
    assert not desk.shot.notes[0].done


def _flag(note: Note) -> tuple[float, float]:
    return note.place[0] + 8, note.place[1] - 16


def test_a_state_is_kept_compared_and_gone_back_to(opened):
    window, desk = opened.window, opened.window.desk
    window.show_states()
    states = window._pages["states"]
    states.word.setText("before")
    states.keep()
    was = desk.shot
    assert desk.shot.states[0].picture
    zone = hung(desk)
    desk.edit_zone(zone.but(on=False), "Off")
    states.list.setCurrentRow(0)
    assert f"{zone.name}, on: on → off" in states.words.toPlainText()
    opened.click(states.back)
    assert desk.shot.zones == was.zones
    assert desk.shot.states == was.states
    desk.undo()
    assert not desk.shot.zone(zone.id).on


def test_any_step_of_the_history_is_gone_to_by_its_name(opened):
    window, desk = opened.window, opened.window.desk
    zone = hung(desk)
    for distance in (5000.0, 6000.0, 7000.0):
        desk.edit_zone(desk.shot.zone(zone.id).but(distance_m=distance), f"To {distance:.0f}")
    window.menus.history.aboutToShow.emit()
    entry = next(action for action in window.menus.history.actions() if action.text() == "To 5000")
    entry.trigger()
    assert desk.shot.zone(zone.id).distance_m == 5000.0
    desk.redo()
    assert desk.shot.zone(zone.id).distance_m == 6000.0


# --- keys, numbers, names ---
def test_keys_are_shown_gone_to_dragged_copied_and_deleted_on_the_rail(opened):
    window, desk = opened.window, opened.window.desk
    zone, track = hung(desk), window.rail.track
    desk.choose_zone(zone.id)
    desk.choose_stage("Place")
    blend = zone.blend.but(opacity=zone.blend.opacity.with_key(1003, 0.5).with_key(1007, 1.0))
    desk.edit_zone(zone.but(blend=blend), "Fade")  # an opacity: forgotten by the rail until now
    assert track.keys.frames() == [1003, 1007]
    desk.set_frame(1001)
    opened.keys(Qt.Key.Key_Greater, Qt.KeyboardModifier.ShiftModifier)
    track.keys.go(1)
    assert desk.frame in (1003, 1007)
    height = track.height() - 10
    opened.drag(track, QPoint(round(track.x_of(1007)), height), QPoint(round(track.x_of(1009)), height))
    assert [key.frame for key in desk.zone.blend.opacity.keys] == [1003, 1009]
    desk.set_frame(1003)
    track.keys.copy()
    desk.set_frame(1005)
    track.keys.paste()
    assert desk.zone.blend.opacity.at(1005) == 0.5
    track.keys.delete()
    assert [key.frame for key in desk.zone.blend.opacity.keys] == [1003, 1009]


def wheel(field: QWidget, x: int, y: int) -> None:
    at = QPointF(field.rect().center())
    buttons, none = Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier
    event = QWheelEvent(at, at, QPoint(), QPoint(x, y), buttons, none, Qt.ScrollPhase.NoScrollPhase, False)
    QApplication.sendEvent(field, event)


def test_a_sideways_wheel_changes_nothing_and_small_turns_add_up(qtbot, dressed):
    field = NumberField("Size", -10, 10, 1, 0)
    qtbot.addWidget(field)
    field.show()
    field.activateWindow()
    field.setFocus()
    qtbot.waitUntil(field.hasFocus)
    wheel(field, 120, 0)
    assert field.value == 0
    for _ in range(7):
        wheel(field, 0, 15)
    assert field.value == 0
    wheel(field, 0, 15)
    assert field.value == 1
    wheel(field, 0, -240)
    assert field.value == -1


@pytest.mark.parametrize("text", ["nan", "inf", "-inf", "1e999", "", "twelve"])
def test_what_is_no_number_leaves_the_value(qtbot, dressed, text):
    field = NumberField("Size", -10, 10, 1, 3)
    qtbot.addWidget(field)
    field.show()
    field._type()
    editor = field.findChild(QLineEdit)
    editor.setText(text)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    assert field.value == 3


def test_two_things_of_one_name_are_told_apart_and_both_chosen(opened):
    desk, bench = opened.window.desk, opened.window.bench
    zones = desk.shot.near_to_far()
    desk.edit(desk.shot.but(zones=tuple(z.but(name="Sky") for z in desk.shot.zones)), "Same names")
    bench.refresh()
    box = bench.zones
    assert len({box.itemText(k) for k in range(box.count())}) == len(zones)
    for k, zone in enumerate(zones):
        box.setCurrentIndex(k)
        box.textActivated.emit(box.itemText(k))
        assert desk.zone_id == zone.id
    locks = desk.shot.locks
    desk.edit(desk.shot.but(locks=tuple(lock.but(name="Far") for lock in locks)), "Same names")
    desk.choose_zone(hung(desk).id)
    desk.choose_stage("Lock")
    bench.refresh()
    rides = bench.lock.rides
    for k, lock in enumerate(locks, 1):
        rides.setCurrentIndex(k)
        rides.textActivated.emit(rides.itemText(k))
        assert desk.zone.placement.rides == lock.id
        bench.refresh()


# --- seen ---
def test_one_key_hides_what_is_drawn_and_playing_leaves_the_chosen_outline(opened, monkeypatch):
    window, desk = opened.window, opened.window.desk
    plate = next(zone for zone in desk.shot.zones if desk.shot.holds_plate(zone))
    desk.choose_zone(plate.id)
    desk.choose_stage("Matte")
    painted = []
    tool = window.viewer.tool
    monkeypatch.setattr(tool, "paint", lambda *_: painted.append("all"))
    monkeypatch.setattr(tool, "paint_playing", lambda *_: painted.append("playing"))
    window.viewer.grab()
    assert set(painted) == {"all"}
    painted.clear()
    opened.keys(Qt.Key.Key_O)
    window.viewer.grab()
    assert painted == []
    opened.keys(Qt.Key.Key_O)
    desk.set_playing(True)
    painted.clear()
    window.viewer.grab()
    assert set(painted) == {"playing"}
    desk.set_playing(False)


def test_pixels_are_squares_above_200_per_cent_unless_smoothed(opened):
    window, desk = opened.window, opened.window.desk
    desk.set_view(view="Plate")
    opened.settled()
    viewer = window.viewer
    viewer.zoom_about(QPointF(viewer.rect().center()), 16 / viewer.zoom)

    def colours() -> int:
        image = viewer.grab().toImage()
        y = image.height() // 2
        return sum(image.pixelColor(x, y) != image.pixelColor(x + 1, y) for x in range(100, 400))

    squares = colours()
    desk.set_view(smooth_pixels=True)
    smoothed = colours()
    assert squares <= 300 / 16 + 2
    assert smoothed > 3 * squares


# --- somebody else's hands ---
@pytest.mark.parametrize("words", ["Save beside it", "Save over it", "Cancel"])
def test_a_shot_that_somebody_else_wrote_is_not_overwritten_unasked(opened, words):
    window, desk = opened.window, opened.window.desk
    path = desk.path
    theirs = load(path).but(name="Theirs")
    save(theirs, path)
    desk.edit(desk.shot.but(name="Mine"), "Name")
    told = []

    def answer() -> None:
        box = next((w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible()), None)
        if box is None:
            QTimer.singleShot(50, answer)
            return
        told.append(box.text() + box.detailedText())
        next(b for b in box.buttons() if b.text().replace("&", "") == words).click()

    QTimer.singleShot(50, answer)
    assert window.files.save() == (words != "Cancel")
    assert "written by somebody else" in told[0]
    assert "Theirs → Mine" in told[0]
    if words == "Save beside it":
        assert load(path).name == "Theirs"
        assert (load(desk.path).name, desk.path.name) == ("Mine", "SLT_0140_2.shot.json")
    else:
        assert load(path).name == ("Mine" if words == "Save over it" else "Theirs")
    desk.edit(desk.shot.but(name="Mine too"), "Name")
    if words != "Cancel":
        assert window.files.save()  # once it was decided nothing is asked


def test_the_list_of_recent_shots_survives_a_disk_that_is_full(monkeypatch, tmp_path):
    from pathlib import Path

    from zonal_mantle.ui import recent

    path = tmp_path / "a.shot.json"
    path.write_text("{}")

    def full(*_: object, **__: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Path, "write_text", full)
    recent.remember(path)


def test_a_number_that_moves_paints_neither_rail_nor_scale_anew(opened, monkeypatch):
    """They are painted anew for what they show, and for nothing else."""
    window, desk = opened.window, opened.window.desk
    zone = hung(desk)
    desk.choose_zone(zone.id)
    desk.choose_stage("Match")
    opened.settled()
    painted = []
    rail, section = window.rail.track, window.section.view

    def counted(part, name):
        paint = getattr(part, name)
        monkeypatch.setattr(part, name, lambda painter: (painted.append(name), paint(painter)))

    counted(rail, "_paint_still")
    counted(section, "_paint_ground")
    tone = desk.zone.match.tone
    for stops in (0.1, 0.2, 0.3):
        moved = tone.but(exposure_stops=Keyed(constant=stops))
        desk.edit_zone(desk.zone.but(match=desk.zone.match.but(tone=moved)), "Exposure", "g")
        opened.settled()
        rail.grab()
        section.grab()
    assert painted == []
    keyed = tone.but(exposure_stops=Keyed().with_value(desk.frame, 0.5).with_key(desk.frame, 0.5))
    desk.edit_zone(desk.zone.but(match=desk.zone.match.but(tone=keyed)), "Key")
    painted.clear()
    rail.grab()
    assert painted == ["_paint_still"]
    desk.edit(desk.shot.but(air=desk.shot.air.but(visibility_m=9000.0)), "Visibility")
    section.grab()
    assert painted[-1] == "_paint_ground"


def test_panels_are_made_ahead_one_at_a_time_and_not_while_something_is_dragged(hands, demo):
    window, desk = hands.window, hands.window.desk
    window.bench._ahead.setInterval(1)
    window.files.open_path(demo / "SLT_0140.shot.json")
    hands.settled()
    parts = [window.bench.matte.tabbed, window.bench.lock.tabbed, window.bench.place.tabbed, window.bench.match.tabbed]

    def made() -> int:
        return sum(len(part.made) for part in parts)

    before = made()
    desk.set_dragging(True)
    window.bench.make_ahead()
    hands.qtbot.wait(50)
    assert made() == before
    desk.set_dragging(False)
    hands.settled()
    hands.wait(lambda: not window.bench._ahead.isActive())
    assert made() == sum(len(part.tabs) for part in parts) > before
    assert set(window.bench.finish.tabbed.made) == set(window.bench.finish.tabbed.tabs)
    shown = [panel for part in parts for panel in part.made.values() if panel.isVisible()]
    assert shown == [window.bench.matte.panel(window.bench.matte.part)]  # what is made ahead is not seen
    assert not window.bench.finish.isVisible()
