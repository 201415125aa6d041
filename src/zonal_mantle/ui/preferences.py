"""Preferences: how much memory pictures may take, how large the interface is, where things are kept."""

from __future__ import annotations

import json
import logging
import os
from collections.abc import Mapping

from PySide6.QtWidgets import QDialog, QWidget

from ..media.memory import budget
from ..paths import cache_dir_name, languages_dir, looks_dir, state_dir, write_whole
from ..words import say
from .apart import apart
from .language import DESKTOPS, ENGLISH, languages, name_of
from .numberfield import NumberField
from .widgets import choice, choose, chosen_of, column, named, note, push_button, row

log = logging.getLogger(__name__)
SCALES = {"as the desktop": 0.0, "100 %": 1.0, "125 %": 1.25, "150 %": 1.5, "175 %": 1.75, "200 %": 2.0}
GIB = 1 << 30


def language() -> str:
    """The language that was chosen, as a locale; "" is the desktop's."""
    chosen = _data().get("language")
    return chosen if isinstance(chosen, str) else DESKTOPS


def read() -> dict[str, float]:
    """What was set: `screen_cache_gib` and `scale`, 0 for what the application chooses itself."""
    known = {"screen_cache_gib": 0.0, "scale": 0.0}
    data = _data()
    for name in known:
        value = data.get(name)
        if isinstance(value, int | float) and not isinstance(value, bool) and 0 <= value <= 4096:
            known[name] = float(value)
    return known


def _data() -> dict[str, object]:
    def read_file() -> object:
        try:
            return json.loads((state_dir() / "preferences.json").read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return {}

    data = apart(read_file)
    return data if isinstance(data, dict) else {}


def write(values: Mapping[str, float | str]) -> None:
    """Keeps what was set."""
    try:
        apart(lambda: write_whole(state_dir() / "preferences.json", json.dumps(values) + "\n"))
    except OSError as problem:
        log.warning("The preferences could not be kept: %s", problem)


def scale_interface() -> None:
    """Puts the chosen scale on Qt. To be called before its application is made."""
    scale = read()["scale"]
    if scale and "QT_SCALE_FACTOR" not in os.environ:
        os.environ["QT_SCALE_FACTOR"] = f"{scale:g}"


class Preferences(QDialog):
    """Set at once; the scale holds from the next start on."""

    def __init__(self, parent: QWidget, set_cache: object, usual_bytes: int) -> None:
        super().__init__(parent)
        self.setWindowTitle(say("Preferences — Zonal Mantle"))
        self._set_cache = set_cache
        self._usual = usual_bytes
        values = read()
        self.cache = NumberField(
            "Frames kept in memory", 0, 1024, 0.1, 0, 1, "GB", "Memory for frames of the viewer; 0: chosen by itself"
        )
        self.cache.words_at_zero = say("automatic ({usual_bytes:.1f} GB)", usual_bytes=usual_bytes / GIB)
        self.cache.set_value(values["screen_cache_gib"])
        self.cache.changed.connect(lambda *_: self._keep())
        self.scale = choice(list(SCALES), "Size of words and controls, from the next start on", lambda _: self._keep())
        known = next((name for name, scale in SCALES.items() if scale == values["scale"]), "as the desktop")
        choose(self.scale, known)
        self.languages = {"as the desktop": DESKTOPS, "English": ENGLISH} | {
            name_of(each): each for each in languages()
        }
        self.language = choice(
            list(self.languages), "Language of the window, from the next start on", lambda _: self._keep()
        )
        spoken = language()
        choose(self.language, next((name for name, each in self.languages.items() if each == spoken), "English"))
        layout = column(8, (12, 12, 12, 12))
        layout.addWidget(self.cache)
        layout.addWidget(named("Scale of the interface", self.scale))
        layout.addWidget(named("Language", self.language))
        folders = (
            ("Pictures that can be made again", cache_dir_name()),
            ("Log, recent shots, autosaves of shots without a file", state_dir()),
            ("Your own looks", looks_dir()),
            ("Translations", languages_dir()),
        )
        for words, folder in folders:
            line = note(f"{say(words)}: {folder}")
            layout.addWidget(line)
        self.clear = push_button("Clear pictures in memory", "Frees them; they are made again when needed", self._clear)
        layout.addLayout(row(self.clear, 1, push_button("Close", "Closes the preferences", self.accept)))
        self.setLayout(layout)
        self.setMinimumWidth(420)

    def _keep(self) -> None:
        write(
            {
                "screen_cache_gib": self.cache.value,
                "scale": SCALES[chosen_of(self.scale)],
                "language": self.languages[chosen_of(self.language)],
            }
        )
        self._apply()

    def _apply(self) -> None:
        self._set_cache(int(self.cache.value * GIB) or self._usual)  # type: ignore[operator]

    def _clear(self) -> None:
        self._set_cache(0)  # type: ignore[operator]
        self._apply()


def screen_bytes(usual: int) -> int:
    """Memory for frames of the viewer: as it was set, or the usual."""
    wanted = int(read()["screen_cache_gib"] * GIB)
    return min(wanted, budget(1.0)) if wanted else usual
