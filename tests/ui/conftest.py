"""Hands for the real window: clicks, drags, keys, file dialogs."""

from __future__ import annotations

import gc
from collections.abc import Callable, Iterator
from pathlib import Path
from types import SimpleNamespace

import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QDialogButtonBox, QFileDialog, QLineEdit, QMessageBox, QWidget

from stores import kept_pictures
from zonal_mantle.paths import state_dir
from zonal_mantle.shot import load, save
from zonal_mantle.ui import recent
from zonal_mantle.ui.bench.tone_panel import TonePanel
from zonal_mantle.ui.theme import dress
from zonal_mantle.ui.window import Window

LEFT = Qt.MouseButton.LeftButton


def _open_now(kind: type[QWidget]) -> QWidget | None:
    """The dialog of a kind that is open, or None."""
    return next((w for w in QApplication.topLevelWidgets() if isinstance(w, kind) and w.isVisible()), None)


class Hands:
    """Drives a window as a person would."""

    def __init__(self, window: Window, qtbot: object) -> None:
        self.window, self.qtbot = window, qtbot

    def wait(self, condition: Callable[[], bool], seconds: float = 30) -> None:
        self.qtbot.waitUntil(condition, timeout=int(seconds * 1000))

    def at(self, x: float, y: float) -> QPoint:
        """A plate place in the viewer."""
        return self.window.viewer.to_widget(x, y).toPoint()

    def click(self, widget: QWidget, at: QPoint | None = None) -> None:
        QApplication.processEvents()
        QTest.mouseClick(widget, LEFT, pos=at or widget.rect().center())
        QApplication.processEvents()

    def click_plate(self, x: float, y: float) -> None:
        self.click(self.window.viewer, self.at(x, y))

    def drag(self, widget: QWidget, start: QPoint, end: QPoint, steps: int = 4) -> None:
        QTest.mousePress(widget, LEFT, pos=start)
        for k in range(1, steps + 1):
            place = QPointF(start) + (QPointF(end) - QPointF(start)) * k / steps
            QTest.mouseMove(widget, place.toPoint())
            QApplication.processEvents()
        QTest.mouseRelease(widget, LEFT, pos=end)
        QApplication.processEvents()

    def drag_plate(self, x0: float, y0: float, x1: float, y1: float) -> None:
        self.drag(self.window.viewer, self.at(x0, y0), self.at(x1, y1))

    def type_number(self, field: QWidget, text: str) -> None:
        """Focuses a number field, types, and presses Enter."""
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)  # the editor of the number before
        self.click(field, QPoint(24, 9))
        QTest.keyClicks(field, text[0])
        editor = field.findChild(QLineEdit)
        assert editor is not None
        QTest.keyClicks(editor, text[1:])
        QTest.keyClick(editor, Qt.Key.Key_Return)
        QApplication.processEvents()

    def choose(self, box: QComboBox, text: str) -> None:
        """Chooses an entry of a list by keyboard, as far as its popup goes."""
        box.setFocus()
        index = box.findText(text)
        assert index >= 0, text
        box.setCurrentIndex(index)
        box.textActivated.emit(text)
        QApplication.processEvents()
        self.window.bench.refresh()

    def open_stage(self, stage: QWidget) -> None:
        self.window.bench.refresh()
        self.click(stage.header, QPoint(30, 12))
        QApplication.processEvents()
        self.window.bench.refresh()

    def click_finding(self, words: str) -> None:
        """Opens the drawer of findings and clicks the one with these words."""
        drawer = self.window.findings
        if drawer.isHidden():
            self.click(self.window.rail.findings)

        def place() -> QPoint:
            rows = [drawer.list.topLevelItem(k) for k in range(drawer.list.topLevelItemCount())]
            item = next(row for row in rows if words in row.text(3))
            drawer.list.scrollToItem(item)
            return drawer.list.visualItemRect(item).center()

        QApplication.processEvents()
        QTest.mouseClick(drawer.list.viewport(), LEFT, pos=place())
        QApplication.processEvents()

    def keys(self, *combination: object) -> None:
        self.window.activateWindow()
        self.wait(lambda: QApplication.activeWindow() is self.window)
        QTest.keyClick(self.window, *combination)
        QApplication.processEvents()

    def whole(self) -> Window:
        """The window with all that is made only when it is first asked for: every panel of every stage."""
        bench = self.window.bench
        for stage in (*bench.stages, bench.group):
            for name in getattr(stage, "tabs", ()):
                self._paged(stage.panel(name))
        for name in bench.finish.tabbed.tabs:
            self._paged(bench.finish.tabbed.panel(name))
        self.window.desk.choose_stage("Finish")
        QApplication.processEvents()
        return self.window

    @staticmethod
    def _paged(panel: QWidget) -> None:
        """Every page of a panel made, and the one that was open open again."""
        if isinstance(panel, TonePanel):
            page = panel.page
            for each in panel.pages:
                panel.open_page(each)
            panel.open_page(page)

    def with_file(self, path: Path, action: Callable[[], None]) -> None:
        """Does something that asks for a file, and answers its dialog by typing a path."""
        self._answering(lambda tries: self._answer_file(path, tries), action)

    def with_answer(self, button: QMessageBox.StandardButton, action: Callable[[], None]) -> None:
        """Does something that asks a question, and clicks one of its buttons."""

        def answer(_tries: int) -> None:
            box = _open_now(QMessageBox)
            if box is not None:
                QTest.mouseClick(box.button(button), LEFT)

        self._answering(answer, action)

    def _answering(self, answer: Callable[[int], None], action: Callable[[], None]) -> None:
        """Runs an action that opens dialogs, with an answer tried until it returns, and never after that."""
        tries, going, typing = [0], [True], [False]

        def tick() -> None:
            if not going[0]:
                return
            QTimer.singleShot(100, tick)  # first: the answer itself may open a question
            if typing[0] and _open_now(QMessageBox) is None:
                return  # on a busy machine an answer takes longer than that
            tries[0] += 1
            typing[0] = True
            try:
                answer(tries[0])
            finally:
                typing[0] = False

        QTimer.singleShot(50, tick)
        try:
            action()
        finally:
            going[0] = False
        QApplication.processEvents()

    @staticmethod
    def _answer_file(path: Path, tries: int) -> None:
        """Types the path and presses Enter; presses the button where Enter only closed the completions."""
        asked, dialog = _open_now(QMessageBox), _open_now(QFileDialog)
        if asked is not None:  # whether a file may be replaced, or that there is none such
            yes = asked.button(QMessageBox.StandardButton.Yes)
            QTest.mouseClick(yes or asked.buttons()[0], LEFT)
        elif dialog is not None and tries > 200:
            dialog.reject()  # the test then fails on what it wanted, and does not wait for ever
        elif dialog is not None:
            edit = dialog.findChild(QLineEdit, "fileNameEdit")
            boxes = dialog.findChild(QDialogButtonBox).buttons()
            accept = [b for b in boxes if b.text().replace("&", "") in ("Open", "Save", "Choose") and b.isEnabled()]
            if edit.text() == str(path) and accept:
                QTest.mouseClick(accept[0], LEFT)
                return
            edit.clear()  # typed anew: the dialog looks at the folder only then, and may have read it since
            QTest.keyClicks(edit, str(path))
            QTest.keyClick(edit, Qt.Key.Key_Return)

    def pixel(self, x: float, y: float) -> tuple[int, int, int]:
        """What stands on the screen at a plate place."""
        image = self.window.viewer.grab().toImage()
        place = self.at(x, y)
        ratio = image.width() / self.window.viewer.width()
        colour = image.pixelColor(int(place.x() * ratio), int(place.y() * ratio))
        return colour.red(), colour.green(), colour.blue()

    def played(self, monkeypatch: pytest.MonkeyPatch, seconds: list[float]) -> list[int]:
        """The frames on the desk at the given seconds after play was pressed, by a clock of the test's own."""
        rail, now = self.window.rail, [0.0]
        monkeypatch.setattr("zonal_mantle.ui.rail.time", SimpleNamespace(perf_counter=lambda: now[0]))
        rail.toggle_play()
        seen = []
        for now[0] in seconds:
            rail._tick()
            seen.append(self.window.desk.frame)
        rail.toggle_play()
        return seen

    def settled(self) -> None:
        """Waits until the viewer shows the present shot and frame at full size."""
        window = self.window
        self.wait(window.viewer.is_showing)
        QApplication.processEvents()


@pytest.fixture(scope="session")
def dressed(qapp: QApplication) -> Iterator[QApplication]:
    """The application in its look; putting it on costs time for every widget that lives."""
    dress(qapp)
    yield qapp
    qapp.clipboard().clear()  # without a screen Qt would end what was copied after Python itself


@pytest.fixture
def hands(
    qtbot: object,
    dressed: QApplication,
    request: pytest.FixtureRequest,
    monkeypatch: pytest.MonkeyPatch,
) -> Iterator[Hands]:
    """A window on an empty start. What it does by itself while nobody acts (readings over the shot, frames made ahead)
    is left out, and pictures are kept from test to test, for both take the cores from the tests beside; a test that is
    about them is marked `background`."""
    recent.unnamed_autosave().unlink(missing_ok=True)
    (state_dir() / "window.json").unlink(missing_ok=True)
    gc.disable()  # as the application does: on a worker, Python's collector would end widgets there
    quiet = request.node.get_closest_marker("background") is None
    if quiet:
        monkeypatch.setattr("zonal_mantle.ui.desk.Pictures", kept_pictures)
    window = Window()
    if quiet:
        window.desk.measuring._soon.blockSignals(True)
        asked = window.server.request
        window.server.request = lambda shot, wanted, ahead, others=None: asked(shot, wanted, [], others)
    window.resize(1280, 800)
    window.show()
    window.activateWindow()
    qtbot.waitExposed(window)
    yield Hands(window, qtbot)
    window.desk.file.saved = window.desk.shot
    window.close()
    if not quiet:
        window.desk.store.clear()
    window.server.cache.clear()
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    del window
    gc.collect(1)
    gc.enable()


@pytest.fixture
def opened(hands: Hands, demo: Path, tmp_path: Path) -> Hands:
    """Hands on the small demo, in a file of its own, so that its autosave is its own too."""
    save(load(demo / "SLT_0140.shot.json"), tmp_path / "SLT_0140.shot.json")
    hands.window.files.open_path(tmp_path / "SLT_0140.shot.json")
    hands.settled()
    return hands
