"""The bench of the whole picture: moods, and the parts of its finish in their order."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

from PySide6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QVBoxLayout, QWidget

from ...shot import MantleError
from ...shot.moods import in_mood, next_mood, renamed, with_mood, without_mood
from ...words import say
from ..desk import Desk
from ..tools.local import LocalTool
from ..tools.sample import Area
from ..widgets import choice, fill, row, tool_button
from .finish_panels import GlowPanel, LutPanel, VignettePanel, WholeGrainPanel
from .frame_panel import FramePanel
from .local_panel import LocalPanel
from .tabbed import Tabbed
from .whole_tone import ToneOf, WholeTone


class FinishBench(QWidget):
    """Tone, LUT, glow, vignette, local light, grain, frame: one part open at a time."""

    def __init__(self, desk: Desk, tool: LocalTool, sample: Callable[[str, Callable[[Area], None]], None]) -> None:
        super().__init__()
        self.desk, self.tool = desk, tool
        self.on = QCheckBox(say("Finish"))
        self.on.setToolTip(say("Switches the whole finish on or off"))
        self.on.clicked.connect(
            lambda on: self._put(say("Finish {how}", how=say("on") if on else say("off")), on=bool(on))
        )
        self.moods: QComboBox = choice([], "Goes to another mood of the shot (N goes to the next)", self._go)
        self.moods.setFixedWidth(24)
        self.moods.view().setMinimumWidth(150)
        self.name = QLineEdit()
        self.name.setPlaceholderText(say("no mood"))
        self.name.setToolTip(say("The mood at hand: finish, air, tones and looks of the zones. Type another name"))
        self.name.setAccessibleName(say("Mood name"))
        self.name.editingFinished.connect(self._rename)
        self.keep = tool_button("plus", "Keep what is at hand as another mood", self._keep)
        self.drop = tool_button("trash-2", "Remove the mood at hand; the picture stays as it is", self._drop)
        inside = QVBoxLayout(self)
        inside.setContentsMargins(8, 4, 8, 8)
        inside.setSpacing(4)
        inside.addLayout(row(self.on, self.moods, self.name, self.keep, self.drop))
        self.tabbed = Tabbed(
            inside,
            (
                ("Tone", self._tone, "Exposure, white, balance, contrast, curves, colour, and a look"),
                ("LUT", lambda: LutPanel(desk), "A look-up table from a file"),
                ("Glow", lambda: GlowPanel(desk), "Glow and halation"),
                ("Vignette", lambda: VignettePanel(desk, sample), "Corners darker or brighter"),
                ("Local", lambda: LocalPanel(desk, tool), "Light on a part of the picture"),
                ("Grain", lambda: WholeGrainPanel(desk), "Grain over all"),
                ("Frame", lambda: FramePanel(desk, sample), "Reframing, crop, size, aspect, bars, burn-in"),
            ),
            self.open_part,
            across=4,
        )
        inside.addStretch(1)
        self.open_part("Tone")

    @cached_property
    def frame(self) -> FramePanel:
        """Reframing, crop, size, bars."""
        panel = self.tabbed.panel("Frame")
        assert isinstance(panel, FramePanel)
        return panel

    @cached_property
    def tone(self) -> WholeTone:
        """Tone of the whole picture."""
        panel = self.tabbed.panel("Tone")
        assert isinstance(panel, WholeTone)
        return panel

    def _tone(self) -> WholeTone:
        made = WholeTone(self.desk, self._tone_of())
        made.line_wanted = lambda hint, then: self.line_wanted(hint, then)  # type: ignore[method-assign]
        return made

    def line_wanted(self, hint: str, then: Callable[..., None]) -> None:
        """Set by the bench: asks for a line on the picture."""

    def _tone_of(self) -> ToneOf:
        desk = self.desk
        return ToneOf(
            name=lambda: "the picture",
            tone=lambda: desk.shot.finish.tone,
            put_tone=lambda value, words, gesture: self._put(words, gesture, tone=value),
            look=lambda: desk.shot.finish.look,
            put_look=lambda use, words, gesture: self._put(words, gesture, look=use),
            finish=lambda: desk.shot.finish,
        )

    def _put(self, words: str, gesture: str | None = None, **changes: object) -> None:
        shot = self.desk.shot
        self.desk.edit(shot.but(finish=shot.finish.but(**changes)), words, gesture)

    def open_part(self, name: str) -> None:
        """Shows one of the parts."""
        self.desk.finish_part = name
        self.tabbed.open(name)
        self.desk.choice_changed.emit()  # other handles on the picture, and another hint

    # --- moods ---
    def _change(self, change: Callable[[], object], words: str) -> None:
        try:
            self.desk.edit(change(), words)  # type: ignore[arg-type]
        except MantleError as problem:
            self.desk.said.emit(str(problem), True)

    def _go(self, _: str) -> None:
        id = self.moods.currentData()
        if id is not None:
            self._change(lambda: in_mood(self.desk.shot, id), say("Mood {mood}", mood=self.moods.currentText()))

    def _keep(self) -> None:
        number = len(self.desk.shot.moods) + 1
        self._change(lambda: with_mood(self.desk.shot, say("Mood {max}", max=max(number, 2))), "Keep a mood")

    def _rename(self) -> None:
        shot, name = self.desk.shot, self.name.text().strip()
        known = next((mood for mood in shot.moods if mood.id == shot.mood), None)
        if known is not None and name and name != known.name:
            self._change(lambda: renamed(shot, known.id, name), say("Rename mood {name}", name=known.name))

    def _drop(self) -> None:
        shot = self.desk.shot
        if shot.mood is not None:
            self._change(
                lambda: without_mood(shot, shot.mood),
                say("Remove mood {mood}", mood=self.moods.currentText()),
            )

    def flip_mood(self) -> None:
        """The next mood, and round again."""
        self._change(lambda: next_mood(self.desk.shot), "Next mood")
        shot = self.desk.shot
        name = next((mood.name for mood in shot.moods if mood.id == shot.mood), None)
        if name is not None:
            self.desk.said.emit(say("Mood: {name}", name=name), False)

    def refresh(self) -> None:
        shot = self.desk.shot
        self.on.setChecked(shot.finish.on)
        items = [(mood.id, mood.name) for mood in shot.moods]
        fill(self.moods, items, shot.mood)
        self.moods.setEnabled(bool(items))
        self.name.setEnabled(shot.mood is not None)
        if not self.name.hasFocus():
            self.name.setText(next((name for id, name in items if id == shot.mood), ""))
        self.drop.setEnabled(shot.mood is not None)
        self.tabbed.panel(self.tabbed.part).refresh()
