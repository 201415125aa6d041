"""The finish by mouse and keys, on the saltworks: the whole job, scopes, moods, comparing."""

import json
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from zonal_mantle.api import open_shot
from zonal_mantle.comp import Pictures, compose, finish_frame
from zonal_mantle.finish import read_look
from zonal_mantle.media.still import read_still
from zonal_mantle.shot import Keyed, ToneMatch, load
from zonal_mantle.ui.window import Window

FRAME = 1006


@pytest.fixture
def saltworks(hands, demo: Path):
    """The demo with the bench of the whole picture open."""
    desk = hands.window.desk
    desk.open(open_shot(demo / "SLT_0140.shot.json").shot, None)
    desk.set_frame(FRAME)
    hands.settled()
    hands.click(hands.window.bench.finish_header, QPoint(40, 12))
    assert desk.stage == "Finish"
    assert desk.view == "Finished"
    hands.settled()
    return desk


def part(hands, name: str):
    """Opens a part of the finish and returns its panel."""
    tabbed = hands.window.bench.finish.tabbed
    hands.click(tabbed.tabs[name])
    return tabbed.panel(name)


def done(hands) -> None:
    hands.wait(lambda: hands.window.desk.job is None, 120)
    QApplication.processEvents()


def table(path: Path) -> Path:
    """A table that swaps red and blue."""
    at = np.linspace(0, 1, 5)
    path.write_text("LUT_3D_SIZE 5\n" + "".join(f"{b} {g} {r}\n" for b in at for g in at for r in at))
    return path


def test_the_whole_picture_is_finished_and_rendered(hands, saltworks, tmp_path):
    window, desk = hands.window, saltworks
    plain = compose(desk.shot, FRAME, desk.store)
    hands.type_number(part(hands, "Tone").exposure, "-0.5")
    assert desk.shot.finish.tone.exposure_stops.constant == -0.5
    lut = part(hands, "LUT")
    hands.with_file(table(tmp_path / "swap.cube"), lambda: hands.click(lut.load))
    hands.type_number(lut.strength, "0.25")
    assert Path(desk.shot.finish.lut.path).name == "swap.cube"
    vignette = part(hands, "Vignette")
    hands.click(vignette.on, QPoint(6, 8))
    hands.type_number(vignette.stops, "-1")
    local = part(hands, "Local")
    hands.click(local.ellipse)
    hands.drag_plate(380, 60, 560, 240)
    hands.type_number(local.kelvin, "4200")
    hands.type_number(local.exposure, "0.6")
    lock = next(lock for lock in desk.shot.locks if lock.holds)
    hands.choose(local.rides, f"on {lock.name}")
    light = desk.shot.finish.lights[0]
    assert light.shape.rides == lock.id
    assert light.temperature_k.at(FRAME) == 4200
    frame = part(hands, "Frame")
    hands.choose(frame.aspect, "2.39 : 1")
    hands.click(frame.bars, QPoint(6, 8))
    assert desk.shot.finish.output.bars
    hands.settled()
    path = tmp_path / "finished.shot.json"
    assert desk.file.save(path)
    (file,) = open_shot(path).render(tmp_path / "out", first=FRAME, last=FRAME, depth="float")
    out = read_still(file)[0]
    expected = finish_frame(load(path), FRAME, Pictures())
    assert np.abs(out - expected).max() < 1e-6
    rows = round(640 / 2.39)
    assert (out[:45, :, :3].max(), out[315:, :, :3].max()) == (0, 0)  # 640 / 2.39 = 268 of 360 rows
    assert abs(int((out[:, 320, :3].max(axis=1) > 0).sum()) - rows) <= 1
    middle = (slice(100, 260), slice(200, 350))
    ratio = out[middle][..., 1].mean() / plain[middle][..., 1].mean()
    assert 0.55 < ratio < 0.8  # half a stop darker, and a little by the vignette; green is not swapped
    assert json.loads(path.read_text())["finish"]["lut"]["path"] == "swap.cube"
    window.desk.undo()
    assert not desk.shot.finish.output.bars


def test_moods_are_flipped_through_by_one_key(hands, saltworks):
    bench, desk = hands.window.bench.finish, saltworks
    hands.click(bench.keep)
    assert [mood.name for mood in desk.shot.moods] == ["As it was", "Mood 2"]
    bench.name.setFocus()
    bench.name.selectAll()
    QTest.keyClicks(bench.name, "Evening")
    QTest.keyClick(bench.name, Qt.Key.Key_Return)
    hands.type_number(part(hands, "Tone").kelvin, "4000")
    evening = desk.shot.finish
    hands.window.viewer.setFocus()
    hands.keys(Qt.Key.Key_N)
    assert desk.shot.mood == desk.shot.moods[0].id
    assert desk.shot.finish.tone.temperature_k.constant == pytest.approx(6504)
    hands.keys(Qt.Key.Key_N)
    assert desk.shot.finish == evening
    assert [mood.name for mood in desk.shot.moods] == ["As it was", "Evening"]


def test_a_look_is_laid_on_weakened_and_saved_with_its_picture(hands, saltworks, tmp_path, monkeypatch):
    monkeypatch.setattr("zonal_mantle.ui.bench.look_page.looks_dir", lambda: tmp_path / "looks")
    desk, tone = saltworks, hands.window.bench.finish.tone
    before = finish_frame(desk.shot, FRAME, desk.store)
    hands.click(tone.pages["Look"][0])
    tone.refresh()
    hands.choose(tone.look.names, "Slack tide")
    whole = finish_frame(desk.shot, FRAME, desk.store)
    hands.type_number(tone.look.strength, "0.5")
    half = finish_frame(desk.shot, FRAME, desk.store)
    away = [np.abs(each - before)[..., :3].mean() for each in (whole, half)]
    assert 0.3 * away[0] < away[1] < 0.7 * away[0]
    hands.click(tone.pages["Light"][0])
    hands.type_number(tone.exposure, "1")
    hands.settled()
    hands.click(tone.pages["Look"][0])
    QTest.keyClicks(tone.look.name, "Bright")
    hands.click(tone.look.save)
    found = read_look(tmp_path / "looks" / "Bright.look.json")
    assert found.look.tone.exposure_stops.constant == 1
    assert found.picture[:4] == b"\x89PNG"
    tone.refresh()
    assert tone.look.names.findText("Bright") >= 0
    hands.choose(tone.look.names, "No look")
    assert desk.shot.finish.look is None


def test_a_crop_and_a_push_in_are_shown_over_the_picture_and_delivered(hands, saltworks):
    desk, frame = saltworks, part(hands, "Frame")
    hands.click(frame.crop)
    hands.drag_plate(64, 36, 576, 324)
    assert desk.shot.finish.output.crop == (64, 36, 576, 324)
    hands.settled()
    inside, outside = hands.pixel(320, 60), hands.pixel(320, 12)
    hands.keys(Qt.Key.Key_G)  # the delivered frame is no longer shown over the picture
    hands.settled()
    assert sum(hands.pixel(320, 12)) > 1.3 * sum(outside)
    assert hands.pixel(320, 60) == inside
    assert "512 × 288" in frame.words.text()
    hands.choose(hands.window.strip.more, "Delivery")
    hands.settled()
    assert hands.window.viewer.picture_size == (512, 288)
    hands.click(frame.whole)
    assert desk.shot.finish.output.crop is None
    hands.click(frame.hide_it)
    done(hands)
    assert "No border shows" in hands.window.rail.message.text()


def test_scopes_follow_the_frame_the_zone_and_a_region(hands, saltworks):
    window, desk = hands.window, saltworks
    scopes = window.scopes
    hands.keys(Qt.Key.Key_V)
    assert scopes.isVisible()

    def measured() -> object:
        key = scopes.asked
        hands.wait(lambda: scopes.measured is not None and scopes.shown == scopes.asked and not scopes._soon.isActive())
        assert key is not None
        return scopes.measured

    QApplication.processEvents()
    whole = measured().seen["histogram"]
    assert whole.pixels == 320 * 180  # at half size
    tower = next(zone for zone in desk.shot.zones if zone.name == "Mill tower")
    desk.choose_zone(tower.id)
    hands.choose(scopes.of, "Zone alone")
    hands.click(scopes.over, QPoint(6, 8))
    QApplication.processEvents()
    alone = measured()
    assert 0 < alone.seen["histogram"].pixels < whole.pixels
    assert alone.aimed["histogram"].pixels > 0
    image = scopes.views["levels"].grab().toImage()
    colours = {image.pixelColor(x, y).name() for x in range(0, image.width(), 3) for y in range(0, image.height(), 3)}
    assert len(colours) > 20
    hands.choose(scopes.of, "What is seen")
    hands.click(scopes.limit)
    hands.drag_plate(100, 100, 200, 150)
    QApplication.processEvents()
    assert measured().seen["histogram"].pixels == pytest.approx(50 * 25, rel=0.1)  # a drag ends on whole screen pixels
    desk.set_frame(FRAME + 1)
    QApplication.processEvents()
    measured()
    assert scopes.shown[1] == FRAME + 1


def test_one_control_is_seen_before_and_after_by_a_held_key(hands, saltworks):
    desk, tone = saltworks, part(hands, "Tone")
    hands.type_number(tone.saturation, "0.2")
    hands.type_number(tone.exposure, "1.5")  # and has the focus
    shot = desk.shot
    QTest.keyPress(tone.exposure, Qt.Key.Key_C)
    assert desk.seen_shot.finish.tone.exposure_stops.constant == 0
    assert desk.seen_shot.finish.tone.saturation.constant == pytest.approx(0.2)
    hands.settled()
    QTest.keyRelease(tone.exposure, Qt.Key.Key_C)
    assert desk.seen_shot is desk.shot is shot
    hands.click(tone.pages["Curves"][0])
    curve = tone.curve
    hands.drag(curve, QPoint(curve.width() // 2, curve.height() // 2), QPoint(curve.width() // 2, 20))
    curve.setFocus()
    QTest.keyPress(curve, Qt.Key.Key_C)
    assert desk.seen_shot.finish.tone.curve_all == ()
    assert len(desk.shot.finish.tone.curve_all) == 3
    QTest.keyRelease(curve, Qt.Key.Key_C)
    desk.undo()
    assert desk.shot.finish.tone.curve_all == ()
    desk.undo()  # what was held is no step of the history
    assert desk.shot.finish.tone.exposure_stops.constant == 0
    assert desk.shot.finish.tone.saturation.constant == pytest.approx(0.2)


def test_two_states_stand_side_by_side_are_wiped_and_flicker(hands, saltworks):
    window, desk = hands.window, saltworks
    hands.keys(Qt.Key.Key_1, Qt.KeyboardModifier.ShiftModifier)
    assert "Keep state A and B first" in window.rail.message.text()
    window.compare.keep("A")
    dark = ToneMatch(exposure_stops=Keyed(constant=-3.0))
    desk.edit(desk.shot.but(finish=desk.shot.finish.but(tone=dark)), "Dark")
    window.compare.keep("B")
    window.compare.show("side by side")
    hands.settled()
    image = window.viewer.grab().toImage()
    y = image.height() // 2
    left, right = (image.pixelColor(int(image.width() * x), y).lightness() for x in (0.25, 0.75))
    assert left > 1.8 * right
    window.compare.show("wipe")
    hands.settled()
    window.compare.show("flicker")
    first = desk.shown_state
    hands.wait(lambda: desk.shown_state != first, 5)
    window.compare.show("flicker")
    assert desk.comparing == ""
    hands.settled()


def test_patches_are_followed_and_drawn_on_the_rail(hands, saltworks):
    window, desk = hands.window, saltworks
    window.scopes.show()
    rising = ToneMatch(exposure_stops=Keyed().with_key(1001, 0.0).with_key(1010, -2.0))
    desk.edit(desk.shot.but(finish=desk.shot.finish.but(tone=rising)), "Darker and darker")
    hands.click(window.scopes.patch)
    hands.drag_plate(300, 250, 340, 280)
    done(hands)
    assert len(desk.shot.patches) == 1
    curve = desk.patch_curves[1][0]
    assert curve.delta_e[FRAME - 1001] == 0
    assert curve.worst > 5
    hands.click(window.scopes.clear)
    assert desk.shot.patches == ()


def test_a_viewing_lut_is_marked_and_never_rendered(hands, saltworks, tmp_path):
    window, desk = hands.window, saltworks
    before = finish_frame(desk.shot, FRAME, desk.store)
    hands.settled()
    plain = hands.pixel(480, 60)
    hands.with_file(table(tmp_path / "eye.cube"), lambda: hands.click(window.strip.lut))
    hands.settled()
    seen = hands.pixel(480, 60)
    assert seen != plain
    assert seen[1] == pytest.approx(plain[1], abs=2)  # red and blue are swapped, green is not
    assert np.array_equal(finish_frame(desk.shot, FRAME, desk.store), before)
    hands.click(window.strip.lut)
    assert desk.look.lut is None
    hands.settled()
    assert hands.pixel(480, 60) == plain


def test_bad_luts_and_looks_are_said_and_nothing_is_lost(hands, saltworks, tmp_path, monkeypatch):
    monkeypatch.setattr("zonal_mantle.ui.bench.look_page.looks_dir", lambda: tmp_path / "none")
    desk, shot = saltworks, saltworks.shot
    bad = tmp_path / "bad.cube"
    bad.write_text("LUT_3D_SIZE 2\n0 0 nan\n" + "0 0 0\n" * 7)
    lut = part(hands, "LUT")
    hands.with_file(bad, lambda: hands.click(lut.load))
    assert "not a number" in hands.window.rail.message.text()
    look = tmp_path / "newer.look.json"
    look.write_text('{"format": "zonal-mantle-look", "version": 9}')
    tone = part(hands, "Tone")
    hands.click(tone.pages["Look"][0])
    tone.refresh()
    hands.with_file(look, lambda: hands.choose(tone.look.names, "From a file…"))
    assert "newer release" in hands.window.rail.message.text()
    assert desk.shot is shot


def test_a_group_is_toned_as_one_from_its_own_stage(hands, demo):
    window, desk = hands.window, hands.window.desk
    desk.open(open_shot(demo / "SLT_0140.shot.json").shot, None)
    desk.set_frame(FRAME)
    far = [zone for zone in desk.shot.zones if zone.name in ("Far range", "Mill tower")]
    for zone in far:
        desk.edit(desk.shot.grouped(desk.shot.zone(zone.id), "Added"), "Group")
    desk.choose_zone(far[0].id)
    stage = window.bench.group
    hands.open_stage(stage)
    assert "2 zones" in stage.header.words
    before = compose(desk.shot, FRAME, desk.store)
    hands.type_number(stage.tone.exposure, "-2")
    after = compose(desk.shot, FRAME, desk.store)
    assert desk.shot.groups[0].tone.exposure_stops.constant == -2
    assert (np.abs(after - before).max(axis=2) > 0.01).mean() > 0.01
    stage.header.switch.click()
    assert not desk.shot.groups[0].on
    stage.label.setText("built for the flood")
    stage.label.editingFinished.emit()
    stage.title.setText("Added houses")
    stage.title.editingFinished.emit()
    stage.title.setText("")  # a group has a name
    stage.title.editingFinished.emit()
    assert (desk.shot.groups[0].name, desk.shot.groups[0].label) == ("Added houses", "built for the flood")
    member = desk.shot.members(desk.shot.groups[0].id)[0]
    tip = window.section.view._tip(window.section.view.upright(member).center(), False)
    assert "Added houses (built for the flood)" in tip


def test_every_part_of_the_finish_fits_at_1280_by_800(hands, saltworks):
    window: Window = hands.window
    window.resize(1280, 800)
    local = part(hands, "Local")
    hands.click(local.ellipse)
    hands.drag_plate(380, 60, 560, 240)
    tabbed = window.bench.finish.tabbed
    for name, button in tabbed.tabs.items():
        hands.click(button)
        QApplication.processEvents()
        panel = tabbed.panel(name)
        foot = panel.mapTo(window.bench, panel.rect().bottomLeft()).y()
        assert foot <= window.bench.finish_header.y(), name
        assert panel.minimumSizeHint().width() <= window.bench.width(), name
    tone = window.bench.finish.tone
    for page, (button, _) in tone.pages.items():
        hands.click(tabbed.tabs["Tone"])
        hands.click(button)
        QApplication.processEvents()
        assert tone.mapTo(window.bench, tone.rect().bottomLeft()).y() <= window.bench.finish_header.y(), page


def test_a_switch_is_left_out_while_the_key_is_held(hands, saltworks):
    glow = part(hands, "Glow")
    hands.click(glow.on, QPoint(8, glow.on.height() // 2))
    assert saltworks.shot.finish.glow.on
    hands.window.activateWindow()
    hands.wait(lambda: QApplication.activeWindow() is hands.window)
    glow.on.setFocus()
    before = saltworks.shot
    assert hands.window.compare.hold()
    assert not saltworks.compared.finish.glow.on
    assert glow.on.isChecked()
    hands.window.compare.let_go()
    assert saltworks.shot is before
