"""The match by mouse and keys, on the saltworks."""

from pathlib import Path

import cv2
import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QScrollArea
from scipy.special import erf

from zonal_mantle.api import open_shot
from zonal_mantle.comp import compose
from zonal_mantle.media.curves import srgb_encode


@pytest.fixture
def tower(hands, demo: Path):
    """The demo with its mill tower on the bench, its match open."""
    desk = hands.window.desk
    desk.open(open_shot(demo / "SLT_0140.shot.json").shot, None)
    zone = next(zone for zone in desk.shot.zones if zone.name == "Mill tower")
    desk.choose_zone(zone.id)
    desk.set_frame(1006)
    hands.open_stage(hands.window.bench.match)
    hands.settled()
    return zone


def part(hands, name: str):
    """Opens a part of the match and returns its panel."""
    button, panel = hands.window.bench.match.tabs[name], hands.window.bench.match.panel(name)
    hands.click(button)
    return panel


def fitted(hands, button) -> None:
    hands.click(button)
    hands.wait(lambda: hands.window.desk.job is None, 120)
    hands.settled()


def seen(hands) -> np.ndarray:
    desk = hands.window.desk
    return compose(desk.shot, 1006, desk.store)[..., :3]


def test_tone_by_hand_and_before_by_one_key(hands, tower):
    desk, match = hands.window.desk, hands.window.bench.match
    before = seen(hands)
    tone = part(hands, "Tone")
    hands.type_number(tone.exposure, "1")
    assert desk.zone.match.tone.exposure_stops.constant == 1
    alpha = compose(desk.shot, 1006, desk.store, 1.0, [desk.zone])[..., 3] > 0.99
    alpha[:200] = False  # what no nearer zone could hide is not asked for: below, the boiling house stands before it
    changed = np.abs(seen(hands) - before).max(axis=2) > 0.01
    assert changed.any()
    hands.keys(Qt.Key.Key_B)
    assert desk.before
    assert match.before.isChecked()
    plain = compose(desk.seen_shot, 1006, desk.store)[..., :3]
    assert plain == pytest.approx(before, abs=1e-6)
    hands.keys(Qt.Key.Key_B)
    assert desk.seen_shot is desk.shot
    hands.click(tone.pages["Balance"][0])
    pad = tone.pads["lights"]
    hands.drag(pad, QPoint(38, 24), QPoint(38, 8))
    assert desk.zone.match.tone.lights.red.constant > 1.05  # upward is amber
    assert desk.zone.match.tone.lights.blue.constant < 0.95
    hands.click(tone.pages["Curves"][0])
    hands.drag(
        tone.curve, QPoint(tone.curve.width() // 2, tone.curve.height() // 2), QPoint(tone.curve.width() // 2, 30)
    )
    assert len(desk.zone.match.tone.curve_all) == 3
    assert desk.zone.match.tone.curve_all[1][1] > 0.55
    hands.click(tone.back)
    assert desk.zone.match.tone.exposure_stops.constant == 0
    assert seen(hands) == pytest.approx(before, abs=1e-6)


def test_a_tone_by_a_drawn_aim_says_what_it_moved_and_refuses_what_is_unlike(hands, tower):
    window, desk, match = hands.window, hands.window.desk, hands.window.bench.match
    window.resize(1280, 800)
    tone = part(hands, "Tone")
    hands.click(match.add)
    hands.drag_plate(215, 215, 315, 255)  # the boards of the boiling house
    fitted(hands, tone.fit)
    assert "uncertain" in tone.words.text()
    assert "stops cooler" in tone.words.text()  # boards are greyer than bricks: it is set, and said
    inside = next(each for each in window.bench.findChildren(QScrollArea) if each.isAncestorOf(tone))
    assert inside.widget().height() <= inside.viewport().height()  # all of the part is there without scrolling
    hands.click(tone.back)
    hands.click(match.remove)
    hands.click(match.add)
    hands.drag_plate(160, 150, 240, 190)  # the sky and a hill
    said: list[str] = []
    desk.said.connect(lambda words, trouble: said.append(words))
    fitted(hands, tone.fit)
    assert desk.zone.match.tone == type(desk.zone.match.tone)()
    assert any("too unlike" in words for words in said)


def test_aim_by_boxes_air_focus_wrap_and_grain(hands, tower):
    desk, match = hands.window.desk, hands.window.bench.match
    for number, (box, distance) in enumerate((((20, 210, 120, 250), "74"), ((180, 190, 300, 205), "1800")), 1):
        hands.click(match.add)
        hands.drag_plate(box[0], box[1], box[2], box[3])
        assert len(desk.zone.match.aim.areas) == number
        hands.type_number(match.distance, distance)
        assert desk.zone.match.aim.areas[-1].distance_m == float(distance)
    assert desk.zone.match.aim.rides == "works"  # as the tower does
    air = part(hands, "Air")
    hands.type_number(air.visibility, "9000")
    assert desk.shot.air.visibility_m == 9000
    hands.click(air.deep, QPoint(8, 8))
    assert desk.zone.match.air.far_m.constant == pytest.approx(330, rel=0.01)
    lens = part(hands, "Lens")
    hands.choose(lens.focus, "distance")
    assert desk.zone.match.lens.focus == "distance"
    hands.type_number(lens.optics[2], "8")
    sharp = compose(desk.seen_shot, 1006, desk.store)
    assert desk.shot.optics.focus_m == 8
    wrap = part(hands, "Wrap")
    hands.click(wrap.on, QPoint(8, 8))
    assert desk.zone.match.wrap.on
    assert np.abs(compose(desk.shot, 1006, desk.store) - sharp).max() > 0.01
    grain = part(hands, "Grain")
    fitted(hands, grain.fit)
    model = desk.zone.match.grain.model
    assert desk.zone.match.grain.on
    middle = np.interp(0.5, model.levels, [row[1] for row in model.deviation])
    # ground truth of our demo: 0.012 in codes at middle grey, less what the EXR's compression takes
    assert middle == pytest.approx(0.012, rel=0.25)
    assert "of 255" in grain.words.text()
    hands.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert not desk.zone.match.grain.on  # one step of undo
    hands.window.bench.refresh()
    assert "of 255" not in grain.words.text()  # and what it said is gone with it


def test_fit_all_makes_the_tower_no_worse_than_it_was(hands, tower, demo: Path):
    """Ground truth of our demo: the tower as the generator filmed it, both without the pixel's own grain: in the mean
    of 8 by 8 blocks."""
    from zonal_mantle.media import open_source
    from zonal_mantle.media.picture import picture_of
    from zonal_mantle.media.reader import read_picture

    desk, match = hands.window.desk, hands.window.bench.match
    finished = open_source(demo / "truth" / "finished" / "finished.1001.exr", "finished")
    truth = read_picture(picture_of(finished, 1006))[..., :3]
    own = compose(desk.shot, 1006, desk.store, 1.0, [desk.zone])[..., 3] > 0.99
    alone = compose(desk.shot.with_zone(desk.zone.but(on=False)), 1006, desk.store)[..., :3]

    def off() -> float:
        now = seen(hands)
        shown = own & (np.abs(now - alone).max(axis=2) > 0.02)
        difference = (srgb_encode(now) - srgb_encode(truth)) * 255
        rows = [
            difference[y : y + 8, x : x + 8].mean(axis=(0, 1))
            for y in range(0, 352, 8)
            for x in range(0, 632, 8)
            if shown[y : y + 8, x : x + 8].all()
        ]
        return float(np.sqrt(np.mean(np.square(rows))))

    before = off()
    fitted(hands, match.all)
    assert desk.zone.match.lens != type(desk.zone.match.lens)() or match.words.text()
    assert off() < before + 0.5
    assert "tone:" in match.words.text()  # nothing of the kept plate is like it, and it says so


def test_an_edge_that_is_drawn_along_says_how_sharp_it_is(hands, tmp_path):
    """A Gaussian of 1.2 px and square pixels: the response falls to a half at 0.153 cycles a pixel (closed form)."""
    rows, columns = np.mgrid[:720, :1280] * 0.5 + 0.25  # two samples a pixel and direction
    distance = (columns - 320) * np.cos(np.radians(6)) - (rows - 180) * np.sin(np.radians(6))
    light = (0.4 + 0.3 * erf(distance / (1.2 * np.sqrt(2)))).reshape(360, 2, 640, 2).mean((1, 3))
    codes = np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055)
    cv2.imwrite(str(tmp_path / "edge.png"), np.round(np.dstack([codes] * 3) * 65535).astype(np.uint16))
    window, said = hands.window, []
    window.files.new_from(tmp_path / "edge.png")
    hands.settled()
    window.desk.set_view(view="Plate")
    window.desk.choose_stage("Match")
    window.bench.refresh()
    window.bench.match.open_part("Lens")
    hands.settled()
    window.desk.said.connect(lambda words, trouble: said.append((words, trouble)))
    hands.click(window.bench.match.lens.edge)
    hands.drag_plate(320 - 11, 80, 320 + 10, 280)
    hands.wait(lambda: any("MTF50" in words for words, _ in said))
    words = next(words for words, _ in said if "MTF50" in words)
    assert "edge of the plate" in words
    assert float(words.split("half at ")[1].split()[0]) == pytest.approx(0.153, rel=0.06)
    hands.click(window.bench.match.lens.edge)
    hands.drag_plate(100, 80, 120, 280)  # nothing is there
    hands.wait(lambda: any(trouble for _, trouble in said))
    assert any("step" in words for words, trouble in said if trouble)


@pytest.mark.background
def test_grain_that_is_missing_is_found_fitted_from_the_drawer_and_read_as_the_plates(hands, tower):
    window, desk = hands.window, hands.window.desk

    def of_grain() -> list[str]:
        return [f.words for f in desk.readings.findings if f.fault == "grain" and f.part == tower.id]

    hands.wait(lambda: bool(of_grain()), 120)
    assert "Mill tower has no grain" in of_grain()[0]
    panel = part(hands, "Grain")
    assert panel.words.text().startswith("Grain 0.00 of 255, the plate's")
    window.room.show("Findings", True)
    QApplication.processEvents()
    tree = window.findings.list
    rows = [tree.topLevelItem(k) for k in range(tree.topLevelItemCount())]
    row = next(each for each in rows if "Mill tower has no grain" in each.text(3))
    button = tree.itemWidget(row, 4)
    assert button.text() == "Fit grain"
    fitted(hands, button)
    assert desk.shot.zone(tower.id).match.grain.on
    assert desk.history.labels[desk.history.place] == "Fit grain of Mill tower"
    hands.wait(lambda: not of_grain() and desk.readings.grains[tower.id].compared.ratio > 0.5, 120)
    hands.settled()
    assert " of 255, the plate's " in panel.words.text()
    hands.type_number(panel.strength, "2")
    hands.wait(lambda: bool(of_grain()), 120)
    assert "its grain is" in of_grain()[0]
