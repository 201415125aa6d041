"""Errors in what Qt calls: kept, said, and the window goes on."""

import importlib
import logging
import pkgutil
import subprocess
import sys

import pytest
from PySide6.QtCore import QObject, QPoint
from PySide6.QtWidgets import QWidget

import zonal_mantle.ui
from zonal_mantle.api import open_shot
from zonal_mantle.shot import ToneMatch
from zonal_mantle.ui.guard import guarded, is_guarded, log_uncaught, overrides

FAILING = """
import sys
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QApplication, QWidget
from zonal_mantle.ui.guard import guarded

@guarded
class Broken(QWidget):
    def paintEvent(self, event):
        painter = QPainter(self)
        painter.drawLine(0, 0, 9, 9)
        {how}

app, seen = QApplication([]), []
sys.excepthook = lambda kind, error, trace: seen.append(kind.__name__)
broken = Broken()
broken.show()
for _ in range(3):
    broken.repaint()
    app.processEvents()
print("alive", len(seen), broken.grab().isNull())
"""


@pytest.mark.parametrize("how", ["1 / 0", "int('x')", "next(iter(()))", "{}['a']", "raise RuntimeError('x')"])
def test_an_error_while_painting_does_not_end_the_process(how):
    """Of compiled code too, which PySide 6.10 alone does not outlive."""
    done = subprocess.run([sys.executable, "-c", FAILING.format(how=how)], capture_output=True, text=True, timeout=120)
    words = done.stdout.split()
    assert done.returncode == 0, done.stderr
    assert words[0] == "alive"
    assert int(words[1]) >= 3
    assert words[2] == "False"
    assert "active painter" not in done.stderr


def _classes(base: type) -> set[type]:
    return {base} | {deeper for each in base.__subclasses__() for deeper in _classes(each)}


def test_every_class_of_the_window_that_qt_calls_is_guarded():
    for module in pkgutil.walk_packages(zonal_mantle.ui.__path__, "zonal_mantle.ui."):
        importlib.import_module(module.name)
    ours = [each for each in _classes(QObject) if each.__module__.startswith("zonal_mantle.ui")]
    assert len(ours) > 50
    bare = [f"{c.__name__}.{name}" for c in ours for name in overrides(c) if not is_guarded(vars(c)[name])]
    assert not [each for each in bare if each.split(".")[1].endswith(("Event", "event", "Filter", "Hint", "Size"))]


def test_what_nobody_caught_is_logged_in_full_and_said_in_a_sentence(hands, caplog, monkeypatch):
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    said: list[str] = []
    log_uncaught(said.append)

    @guarded
    class Broken(QWidget):
        def sizeHint(self):
            return [][1]

    with caplog.at_level(logging.ERROR):
        assert not Broken().sizeHint().isValid()
    assert "not foreseen" in said[0]
    assert "IndexError" in caplog.text
    assert "sizeHint" in caplog.text


def test_a_tone_curve_cannot_be_made_to_fall(hands, demo):
    """Neither by the mouse nor by a file: OpenColorIO knows no such curve. A file that has one opens all the same."""
    desk, match = hands.window.desk, hands.window.bench.match
    falling = ToneMatch(curve_red=((0.0, 0.0), (0.4, 0.8), (0.7, 0.5), (1.0, 0.9)))
    assert falling.curve_red == ((0.0, 0.0), (0.4, 0.8), (0.7, 0.8), (1.0, 0.9))
    desk.open(open_shot(demo / "SLT_0140.shot.json").shot, None)
    desk.choose_zone(next(zone for zone in desk.shot.zones if zone.name == "Mill tower").id)
    hands.open_stage(match)
    tone = match.panel("Tone")
    hands.click(tone.pages["Curves"][0])
    curve = tone.curve

    def spot(x: float, y: float) -> QPoint:
        return curve.place((x, y)).toPoint()

    hands.drag(curve, spot(0.5, 0.5), spot(0.5, 0.9))
    hands.drag(curve, spot(0.7, 0.2), spot(0.7, 0.2))
    hands.drag(curve, spot(1.0, 1.0), spot(0.95, 0.1))
    points = tone.curve.points
    assert len(points) >= 3
    assert [y for _, y in points] == sorted(y for _, y in points)
    assert max(y for _, y in points) > 0.8
    assert [point[0] for point in points] == sorted(point[0] for point in points)
    assert not curve.grab().isNull()


def test_work_whose_zone_was_removed_meanwhile_says_so(hands, demo):
    desk, said = hands.window.desk, []
    desk.open(open_shot(demo / "SLT_0140.shot.json").shot, None)
    zone = next(zone for zone in desk.shot.zones if not desk.shot.holds_plate(zone))
    desk.said.connect(lambda words, wrong: said.append((words, wrong)))
    desk.run("Working", lambda job: zone.id, lambda id: desk.edit_zone(desk.shot.zone(id), "Never"))
    desk.edit(desk.shot.without_zone(zone.id), "Remove")
    removed = desk.shot
    hands.wait(lambda: desk.job is None)
    assert ("What this was done for has been removed meanwhile; nothing was changed.", True) in said
    assert desk.shot is removed
    with pytest.raises(KeyError, match="or not any more"):
        removed.zone(zone.id)
