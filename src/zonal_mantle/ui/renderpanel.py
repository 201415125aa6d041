"""The render panel: not modal; the picture can be judged while it is open."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QDialog, QFormLayout, QHBoxLayout, QLineEdit, QWidget

from ..comp import Job
from ..comp.finish_planner import output_size
from ..render import RenderPlan, render
from ..words import say
from . import ask
from .desk import Desk
from .numberfield import NumberField
from .widgets import chosen_of, note, push_button, put_items

FORMATS = {  # what is written, and an EXR's depth
    "EXR, 16-bit half": ("exr", "half"),
    "EXR, 32-bit float": ("exr", "float"),
    "PNG, 16-bit": ("png", "half"),
    "H.264": ("h264", "half"),
    "ProRes 422 HQ": ("prores", "half"),
}


class RenderPanel(QDialog):
    """Format, place, frames, scale; Render starts a job whose progress stands on the rail."""

    def __init__(self, parent: QWidget, desk: Desk) -> None:
        super().__init__(parent)
        self.desk = desk
        self.setWindowTitle(say("Render"))
        self.setModal(False)
        self.setWindowFlag(Qt.WindowType.Tool)
        self.format = QComboBox()
        put_items(self.format, list(FORMATS))
        self.format.setToolTip(say("What is written. Sequences can be resumed"))
        self.folder = QLineEdit()
        self.folder.setToolTip(say("The folder that the files go into"))
        self.folder.setAccessibleName(say("Render folder"))
        self.first = NumberField("First", -1e6, 1e7, 1, 1, 0, "", "First frame to render")
        self.last = NumberField("Last", -1e6, 1e7, 1, 1, 0, "", "Last frame to render")
        self.scale = NumberField("Scale", 0.05, 1, 0.05, 1, 2, "", "Size of the render against the finished frame's")
        self.resume = QCheckBox(say("Skip finished frames"))
        self.resume.setToolTip(say("Whole frames of a sequence stay, if they show the shot as it is now, at this size"))
        form = QFormLayout(self)
        form.addRow(say("Format"), self.format)
        place = QHBoxLayout()
        place.addWidget(self.folder, 1)
        place.addWidget(push_button("…", "Choose a folder", self._choose))
        form.addRow(say("Folder"), place)
        frames = QHBoxLayout()
        for field in (self.first, self.last, self.scale):
            frames.addWidget(field)
        form.addRow(say("Frames"), frames)
        form.addRow("", self.resume)
        self.go = push_button("Render", "Starts; progress and cancel stand on the rail", self.start)
        form.addRow("", self.go)
        self.words = note("Each file has a temporary name until it is whole.")
        form.addRow("", self.words)
        self.resize(430, 220)

    def show_for_shot(self) -> None:
        """Opens with the shot's frames."""
        shot = self.desk.shot
        for field, value in ((self.first, shot.first), (self.last, shot.last)):
            field.low, field.high = shot.first, max(shot.last, shot.first + 1)
            field.set_value(value)
        if not self.folder.text():
            base = self.desk.path.parent if self.desk.path else Path.home()
            self.folder.setText(str(base / "render"))
        width, height = output_size(shot)
        self.words.setText(
            say(
                "Finished frames of {width} × {height}. Each file has a temporary name until it is whole.",
                width=width,
                height=height,
            )
        )
        self.show()
        self.raise_()

    def _choose(self) -> None:
        path = ask.folder(self, "Render into", Path(self.folder.text() or Path.home()))
        if path is not None:
            self.folder.setText(str(path))

    def plan(self) -> RenderPlan:
        """What the panel says."""
        format, depth = FORMATS[chosen_of(self.format)]
        return RenderPlan(
            Path(self.folder.text()).expanduser(),
            format,  # type: ignore[arg-type]
            round(self.first.value),
            round(self.last.value),
            self.scale.value,
            self.resume.isChecked(),
            depth,  # type: ignore[arg-type]
        )

    def start(self) -> None:
        """Renders in the background."""
        shot, plan = self.desk.shot, self.plan()

        def work(job: Job) -> str:
            last = ""

            def told(share: float, words: str) -> None:
                nonlocal last
                last = words
                job.progress(share, words)

            render(shot, plan, told)
            return last

        self.desk.run("Rendering", work, self._done)

    def _done(self, words: str) -> None:
        self.words.setText(say(words))
        self.desk.said.emit(words, False)
