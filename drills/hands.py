"""Random hands in the real window: every control that can be seen is clicked, dragged, turned and typed at, by a seed.
Nothing may be raised that nobody catches, the window may not stand still, and undo leads back to the first shot."""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
import threading
import time
import traceback
from pathlib import Path
from typing import TextIO

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QKeyEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QApplication,
    QComboBox,
    QDialog,
    QLineEdit,
    QMenu,
    QWidget,
)

from zonal_mantle.shot import load
from zonal_mantle.ui.app import prepare
from zonal_mantle.ui.theme import dress
from zonal_mantle.ui.window import Window

from .report import Report

STOP_SECONDS, LONG_STOP_SECONDS = 0.25, 5.0
KEYS = [
    Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_Delete, Qt.Key.Key_Backspace, Qt.Key.Key_Tab, Qt.Key.Key_Space,
    Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Home, Qt.Key.Key_End,
    *(getattr(Qt.Key, f"Key_{name}") for name in "ABCDFGHILMNOPSTVWXYZ0123456789"), Qt.Key.Key_Comma, Qt.Key.Key_Period,
]  # fmt: skip
TEXTS = ("0", "1", "-3.5", "nan", "1e9", "x", "", "é☃", "0.25", "99999999999999999999")
LEFT = Qt.MouseButton.LeftButton
NONE, CONTROL, SHIFT = (
    Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier,
)  # fmt: skip
NEVER = {(Qt.Key.Key_Q, CONTROL)}  # it would be over


class Hands:
    """Does something at random to something that is seen."""

    def __init__(self, window: Window, seed: int, trail: TextIO | None = None) -> None:
        self.trail = trail  # what is done is written here first, so that it is known after a crash
        self.window, self.chance = window, random.Random(seed)
        self.doing, self._since, self._worked = "", 0.0, 0.0
        self.stops: list[tuple[float, float, str]] = []  # seconds, those that this thread worked, what was done
        self.errors: list[str] = []
        self._closer = QTimer(window, interval=40)
        self._closer.timeout.connect(self._close_what_waits)
        self._closer.start()

    def _close_what_waits(self) -> None:
        """Dialogs that wait for an answer get none, menus are closed."""
        for waiting in (QApplication.activePopupWidget(), QApplication.activeModalWidget()):
            if isinstance(waiting, QDialog):
                waiting.reject()
            elif isinstance(waiting, QMenu):
                waiting.close()

    def _seen(self) -> list[QWidget]:
        return [
            part for part in self.window.findChildren(QWidget)
            if part.isVisible() and part.isEnabled() and part.width() > 4 and part.height() > 4
            and not part.findChildren(QWidget, options=Qt.FindChildOption.FindDirectChildrenOnly)
        ]  # fmt: skip

    def act(self) -> None:
        """One act, with how long the window stood still for it."""
        chance = self.chance
        viewer = self.window.viewer
        part = viewer if chance.random() < 0.25 and viewer.isVisible() else chance.choice(self._seen())
        act = chance.choice((self._click, self._click, self._drag, self._turn, self._press, self._type, self._leave))
        text = part.text() if isinstance(part, QAbstractButton) else ""
        name = part.accessibleName() or text or type(part).__name__
        self.doing = f"{act.__name__.strip('_')} {name}"
        if self.trail is not None:
            self.trail.write(self.doing + "\n")
            self.trail.flush()
        self._since, self._worked = time.perf_counter(), time.thread_time()
        try:
            act(part)
        except RuntimeError as problem:  # the part is gone: what was done took it away
            if "already deleted" not in str(problem):
                raise
        self._answered()

    def _answered(self) -> None:
        """One movement of the hand is over, and the window has answered it: how long that took."""
        QApplication.processEvents()
        now, worked = time.perf_counter(), time.thread_time()
        if now - self._since > STOP_SECONDS:
            self.stops.append((now - self._since, worked - self._worked, self.doing))
        self._since, self._worked = now, worked

    def _place(self, part: QWidget) -> QPoint:
        return QPoint(self.chance.randrange(part.width()), self.chance.randrange(part.height()))

    def _modifier(self) -> Qt.KeyboardModifier:
        return self.chance.choice((NONE, NONE, NONE, CONTROL, SHIFT, Qt.KeyboardModifier.AltModifier))

    def _click(self, part: QWidget) -> None:
        if isinstance(part, QComboBox) and part.count():
            part.setCurrentIndex(self.chance.randrange(part.count()))
            part.textActivated.emit(part.currentText())
            part.activated.emit(part.currentIndex())
            return
        button = LEFT if self.chance.random() < 0.9 else Qt.MouseButton.RightButton
        act = QTest.mouseDClick if self.chance.random() < 0.1 else QTest.mouseClick
        act(part, button, self._modifier(), self._place(part))

    def _drag(self, part: QWidget) -> None:
        start, end = self._place(part), self._place(part)
        QTest.mousePress(part, LEFT, self._modifier(), start)
        self._answered()
        for k in range(1, 5):
            QTest.mouseMove(part, (QPointF(start) + (QPointF(end) - QPointF(start)) * k / 4).toPoint())
            self._answered()
        QTest.mouseRelease(part, LEFT, NONE, end)

    def _turn(self, part: QWidget) -> None:
        place = QPointF(self._place(part))
        angle = QPoint(self.chance.choice((0, 0, 7, -120)), self.chance.choice((-120, 120, 3, -960)))
        event = QWheelEvent(
            place, QPointF(part.mapToGlobal(place.toPoint())), QPoint(), angle, Qt.MouseButton.NoButton,
            self._modifier(), Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(part, event)

    def _press(self, part: QWidget) -> None:
        key, modifier = self.chance.choice(KEYS), self._modifier()
        if (key, modifier) not in NEVER:
            part.setFocus()
            QTest.keyClick(self.chance.choice((part, self.window)), key, modifier)

    def _type(self, part: QWidget) -> None:
        part.setFocus()
        target = QApplication.focusWidget() or part
        if isinstance(target, QAbstractButton | QAbstractItemView):
            return
        for letter in self.chance.choice(TEXTS):
            target = QApplication.focusWidget() or target
            if not isinstance(target, QLineEdit) and letter.isalpha() and ord(letter) < 128:
                continue  # letters are shortcuts elsewhere, see _press
            for kind in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease):
                QApplication.sendEvent(target, QKeyEvent(kind, 0, NONE, letter))
            self._answered()
        QTest.keyClick(QApplication.focusWidget() or target, Qt.Key.Key_Return)

    def _leave(self, part: QWidget) -> None:
        QApplication.sendEvent(part, QEvent(QEvent.Type.Leave))


def drill_apart(shot: Path, work: Path, acts: int, seed: int) -> Report:
    """The same in a process of its own: a window that crashes is a fault, with what was done last."""
    command = [sys.executable, "-m", "drills.hands", str(shot), str(work), str(acts), str(seed)]
    done = subprocess.run(command, capture_output=True, text=True, cwd=Path(__file__).parents[1])
    result, trail = work / "hands.json", work / "trail.txt"
    if done.returncode == 0 and result.exists():
        return Report(**json.loads(result.read_text(encoding="utf-8")))
    report = Report("hands", seed)
    last = trail.read_text(encoding="utf-8").splitlines()[-5:] if trail.exists() else []
    report.fault(f"the window ended with code {done.returncode} after: {'; '.join(last)}\n{done.stderr[-2000:]}")
    return report


def drill(shot: Path, work: Path, acts: int, seed: int, trail: TextIO | None = None) -> Report:
    """`acts` random acts in a window on a copy of a shot, which is saved there only."""
    report = Report("hands", seed)
    dress(QApplication.instance() or QApplication([]))
    folder = work / f"hands {seed}"
    shutil.copytree(shot.parent, folder)
    window = Window()
    window.resize(1280, 800)
    window.show()
    window.files.open_path(folder / shot.name)
    first = load(folder / shot.name)
    hands = Hands(window, seed, trail)

    def caught(kind: type[BaseException], error: BaseException, trace: object) -> None:
        where = "".join(traceback.format_exception(kind, error, trace)[-14:])  # type: ignore[arg-type]
        hands.errors.append(f"{hands.doing}: {kind.__name__}: {error}\n{where}")

    old_hooks = sys.excepthook, threading.excepthook
    sys.excepthook = caught
    threading.excepthook = lambda args: caught(args.exc_type, args.exc_value, args.exc_traceback)  # type: ignore[arg-type]
    try:
        for _ in range(acts):
            if window.isHidden():
                window.show()
            hands.act()
            report.count("acts")
        window.desk.cancel_job()
        hands.doing = "undo to the first shot"
        while window.desk.history.place > 0:
            window.desk.undo()
            QApplication.processEvents()
        whole = len(window.desk.history.shots) <= 300
        if whole and window.desk.shot != first and window.desk.path == folder / shot.name:
            report.fault("undo does not lead back to the first shot")
    finally:
        sys.excepthook, threading.excepthook = old_hooks
        window.desk.file.saved = window.desk.shot
        hands._closer.stop()
        window.close()
        window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    for error in hands.errors:
        report.fault(error)
    stops = sorted(hands.stops, reverse=True)
    for took, _, doing in stops:
        report.went[f"stop over {STOP_SECONDS:g} s"] = report.went.get(f"stop over {STOP_SECONDS:g} s", 0) + 1
        if took > LONG_STOP_SECONDS:
            report.fault(f"the window stood still for {took:.1f} s: {doing}")
    report.notes = [f"{took:.2f} s, {worked:.2f} s of it working: {doing}" for took, worked, doing in stops[:20]]
    return report


if __name__ == "__main__":
    prepare(QApplication([]))
    in_folder = Path(sys.argv[2])
    with (in_folder / "trail.txt").open("w", encoding="utf-8") as written:
        drill(Path(sys.argv[1]), in_folder, int(sys.argv[3]), int(sys.argv[4]), written).write(in_folder)
