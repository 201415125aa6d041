"""The window in another language: a made-up one, a third longer than English, through Qt's own tools."""

import pickle
import re
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtCore import QTimer, QTranslator
from PySide6.QtGui import QAction
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QDialog,
    QLabel,
    QLineEdit,
    QListWidget,
    QMenu,
    QTreeWidget,
    QWidget,
)

from tests.ui.test_window import cut_off
from zonal_mantle.media import encodings
from zonal_mantle.media.errors import MediaError
from zonal_mantle.shot import Shot, ShotError, load
from zonal_mantle.ui import recent
from zonal_mantle.ui.language import day, languages, moment, name_of, put_on
from zonal_mantle.ui.numberfield import NumberField
from zonal_mantle.ui.preferences import Preferences, language
from zonal_mantle.words import english, say, speak

TOOLS = Path(__file__).resolve().parents[2] / "tools"
VALUE = re.compile(r"(\{[^{}]*\})")
ACCENTS = str.maketrans("aeiouAEIOU", "àéîöüÀÉÎÖÜ")
OWN = {"CDL", "LUT", "EXR", "PNG", "DPX", "Zonal Mantle", "Untitled", "ProRes", "MP4", "ASC"}  # no words of a language


def made_up(text: str) -> str:
    """A phrase in the made-up language: accents, in marks, a third longer; its values stay."""
    parts = VALUE.split(text)
    accented = "".join(part if VALUE.fullmatch(part) else part.translate(ACCENTS) for part in parts)
    longer = len(VALUE.sub("", text)) // 3
    return f"«{accented}{'~' * max(longer - 2, 0)}»"


@pytest.fixture(scope="session")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A translation made as a translator makes one: phrases gathered, translated, released."""
    sys.path.insert(0, str(TOOLS))
    import phrases

    out = tmp_path_factory.mktemp("languages")
    found = phrases.phrases()
    (out / "eo.ts").write_bytes(phrases.written(found, "eo", {text: made_up(text) for text in found}))
    release = Path(sys.executable).with_name("pyside6-lrelease")
    subprocess.run([release, "-silent", out / "eo.ts", "-qm", out / "eo.qm"], check=True)
    return out


@pytest.fixture
def spoken(dressed: QApplication, folder: Path):
    """The application in that language, until the test ends."""
    assert put_on(dressed, "eo", folder)
    yield
    for translator in dressed.findChildren(QTranslator):
        dressed.removeTranslator(translator)
    put_on(dressed, "en")


def names_of(shot: Shot) -> list[str]:
    """What a person called things; it is in no language."""
    parts = (*shot.zones, *shot.mattes, *shot.locks, *shot.sources, *shot.groups)
    names = {shot.name, *encodings(), *OWN, *(part.name for part in parts)}
    names |= {shape.name for matte in shot.mattes for shape in matte.shapes}
    names |= {shape.name for lock in shot.locks for shape in lock.field}
    names |= {path.name.removesuffix(".shot.json") for path in recent.recent_shots()}
    return sorted(names, key=len, reverse=True)


def unsaid(text: str, names: list[str]) -> bool:
    """Whether some of a text is in English."""
    text = re.sub(r"\d+ \w{3,5} \d{4}|(/[\w.+-]+)+/?|[\w-]+\.(exr|png|mp4|shot\.json)", "", text)
    for name in names:
        text = text.replace(name, "")
    while (shorter := re.sub(r"«[^«»]*»", "", text)) != text:
        text = shorter
    return re.search(r"[A-Za-z]{3,}", text) is not None


def texts(widget: QWidget) -> list[str]:
    """All that a widget shows or tells a screen reader."""
    found = [widget.toolTip(), widget.accessibleName(), widget.accessibleDescription(), widget.windowTitle()]
    for name in ("text", "placeholderText", "title"):
        told = getattr(widget, name, None)
        if callable(told) and not (name == "text" and isinstance(widget, QLineEdit)):
            found.append(str(told()))
    if isinstance(widget, QComboBox):
        found += [widget.itemText(k) for k in range(widget.count())]
    if isinstance(widget, QListWidget):
        found += [text for k in range(widget.count()) for text in (widget.item(k).text(), widget.item(k).toolTip())]
    if isinstance(widget, QTreeWidget):
        rows = (widget.topLevelItem(k) for k in range(widget.topLevelItemCount()))
        found += [row.text(place) for row in rows for place in range(widget.columnCount())]
    return found


def english_in(holder: QWidget, names: list[str]) -> set[str]:
    widgets = [each for each in (holder, *holder.findChildren(QWidget)) if not each.objectName().startswith("qt_")]
    found = [text for widget in widgets for text in texts(widget)]
    found += [text for action in holder.findChildren(QAction) for text in (action.text(), action.toolTip())]
    return {text for text in found if text and unsaid(text, names)}


@pytest.mark.background
def test_all_that_the_window_says_is_in_the_language(spoken, hands, short_demo):
    hands.window.files.open_path(short_demo / "SLT_0140.shot.json")
    hands.settled()
    window, desk = hands.whole(), hands.window.desk
    names = names_of(desk.shot)
    found = set()
    for zone in desk.shot.zones:
        desk.choose_zone(zone.id)
        for stage in ("Source", "Matte", "Lock", "Place", "Match", "Finish"):
            desk.choose_stage(stage)
            window.bench.refresh()
            QApplication.processEvents()
            found |= english_in(window.bench, names)
    for lock in desk.shot.locks:
        desk.choose_lock(lock.id)
        window.bench.refresh()
        found |= english_in(window.bench, names)
    hands.wait(lambda: not desk.is_measuring, 120)
    assert desk.readings.mattes
    desk.choose_stage("Matte")
    window.bench.refresh()
    for menu in window.findChildren(QMenu):
        menu.aboutToShow.emit()
    found |= english_in(window, names)
    assert not found, "\n".join(sorted(found))


def test_dialogs_are_in_the_language_too(spoken, opened):
    window = opened.window
    names = names_of(window.desk.shot)
    found = set()

    def look() -> None:
        for each in QApplication.topLevelWidgets():
            if isinstance(each, QDialog) and each.isVisible():
                found.update(english_in(each, names))
                each.close()

    for show in (window.show_preferences, window.show_notes, window.show_states, window.show_past, window.about):
        QTimer.singleShot(600, look)
        show()
        opened.wait(lambda: not any(isinstance(w, QDialog) and w.isVisible() for w in QApplication.topLevelWidgets()))
    window.render_panel.show_for_shot()
    found |= english_in(window.render_panel, names)
    window.render_panel.close()
    window.scopes.show()
    found |= english_in(window.scopes, names)
    assert not found, "\n".join(sorted(found))


def test_a_step_of_the_history_and_an_error_are_in_the_language_and_a_key_is_not(spoken, opened, tmp_path):
    desk = opened.window.desk
    desk.edit_zone(desk.zone.but(on=False), "Remove the LUT")
    assert desk.history.labels[-1] == made_up("Remove the LUT")
    (tmp_path / "broken.shot.json").write_text("{")
    with pytest.raises(ShotError, match="«"):
        load(tmp_path / "broken.shot.json")


def test_words_a_third_longer_are_not_cut(spoken, opened):
    window = opened.whole()
    window.resize(1280, 720)
    QApplication.processEvents()
    bench, cut = window.bench, []
    for zone in window.desk.shot.zones[:2]:
        window.desk.choose_zone(zone.id)
        for stage in bench.stages:
            opened.open_stage(stage)
            for part in getattr(stage, "tabs", {"": None}):
                if part:
                    stage.open_part(part)
                QApplication.processEvents()
                cut += [f"{stage.name} {part}: {words}" for words in (*cut_off(bench), *cut_elsewhere(bench))]
    window.room.show("Findings", True)
    QApplication.processEvents()
    for part in (window.strip, window.rail, window.section, window.stock, window.findings):
        cut += [f"{type(part).__name__}: {words}" for words in (*cut_off(part), *cut_elsewhere(part))]
    assert not cut, "\n".join(sorted(set(cut)))


def test_a_language_is_chosen_in_the_preferences_and_spoken_from_the_next_start(hands, dressed, folder, monkeypatch):
    monkeypatch.setattr("zonal_mantle.ui.language.languages_dir", lambda: folder)
    dialog = Preferences(hands.window, lambda _: None, 1 << 30)
    try:
        assert language() == ""
        hands.choose(dialog.language, name_of("eo"))
        assert language() == "eo"
        assert put_on(dressed, language())
        assert say("Save") == "«Sàvé»"
    finally:
        put_on(dressed, "en")
        hands.choose(dialog.language, "as the desktop")
        dialog.deleteLater()
    assert language() == ""


def test_an_empty_window_is_not_cut_either(spoken, hands):
    start = hands.window.start
    assert start.isVisible()
    assert [*cut_off(start), *cut_elsewhere(start)] == []


def cut_elsewhere(holder: QWidget) -> list[str]:
    """The words of numbers, lists and labels that do not fit."""
    found = []
    for field in holder.findChildren(NumberField):
        if field.isVisible() and field.width() < field.minimumSizeHint().width():
            found.append(field.label)
    for box in holder.findChildren(QComboBox):
        if (
            box.isVisible()
            and box.width() > 30
            and box.fontMetrics().horizontalAdvance(box.currentText()) > box.width() - 20
        ):
            found.append(f"{box.currentText()} {box.width()}")
    for label in holder.findChildren(QLabel):
        if label.isVisible() and not label.wordWrap() and label.width() < label.minimumSizeHint().width():
            found.append(label.text())
    return found


# --- without a window ---
def test_a_language_that_is_not_there_leaves_english(dressed, tmp_path):
    assert not put_on(dressed, "eo", tmp_path)
    (tmp_path / "eo.qm").write_bytes(b"no translation")
    assert not put_on(dressed, "eo", tmp_path)
    assert list(languages(tmp_path)) == ["eo"]
    assert not put_on(dressed, "en", tmp_path)
    assert say("Nothing was changed.") == "Nothing was changed."
    assert name_of("de") == "Deutsch"
    assert moment(0).startswith("1 Jan 1970")


def test_dates_are_those_of_the_language(spoken):
    assert day(1_760_000_000) == "9 Okt 2025"  # CLDR's Esperanto, as Qt has it


@pytest.fixture
def shouted():
    yield lambda table: speak(lambda text: table.get(text, text))
    speak(None)


def test_what_is_said_knows_its_english_however_deep(shouted):
    shouted({"{a} and {b}": "{b} und {a}", "two frames": "zwei Bilder"})
    words = say("{a} and {b}", a=say("two frames"), b=3)
    assert words == "3 und zwei Bilder"
    assert english(words) == "two frames and 3"
    assert str(MediaError(words)) == words
    assert pickle.loads(pickle.dumps(words)) == words


@pytest.mark.parametrize("wrong", ["{gone}", "{count", "{count:zz}", "{0}", "{count.x}", "{}"])
def test_a_translation_with_wrong_values_is_said_in_english(shouted, wrong):
    shouted({"{count} frames": wrong})
    assert say("{count} frames", count=3) == "3 frames"
