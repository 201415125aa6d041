"""The language of the window: English, or one of the translations that are found."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QCoreApplication, QDateTime, QLibraryInfo, QLocale, QTranslator
from PySide6.QtWidgets import QApplication

from ..paths import languages_dir
from ..words import speak
from .apart import apart

CONTEXT = "Zonal Mantle"  # under which all phrases stand in a translation
DESKTOPS, ENGLISH = "", "en"


def languages(folder: Path | None = None) -> dict[str, Path]:
    """The translations that are there, by their locale: files such as `de.qm` or `pt_BR.qm`."""
    found = apart(lambda: sorted((folder or languages_dir()).glob("*.qm")))
    return {path.stem: path for path in found}


def name_of(language: str) -> str:
    """What a language calls itself.

    >>> name_of("de"), name_of("pt_BR")
    ('Deutsch', 'português (Brasil)')
    """
    locale = QLocale(language)
    name = locale.nativeLanguageName() or language
    return f"{name} ({locale.nativeTerritoryName()})" if "_" in language else name


def day(seconds: float) -> str:
    """The day of a moment (seconds since 1970), in the language of the window."""
    return QLocale().toString(QDateTime.fromSecsSinceEpoch(int(seconds)), "d MMM yyyy")


def moment(seconds: float) -> str:
    """A moment (seconds since 1970) to the second, in the language of the window."""
    return QLocale().toString(QDateTime.fromSecsSinceEpoch(int(seconds)), "d MMM yyyy, HH:mm:ss")


def put_on(app: QApplication | QCoreApplication, language: str, folder: Path | None = None) -> bool:
    """Makes the program speak a language; one that is not there, or cannot be read, leaves English.

    language : a locale such as "de"; "" is the desktop's own, "en" English.
    """
    there = languages(folder)
    wanted = [language] if language else [each.replace("-", "_") for each in QLocale.system().uiLanguages()]
    for each in wanted:
        if each.split("_")[0] == ENGLISH:
            break
        path = there.get(each) or there.get(each.split("_")[0])
        translator = QTranslator(app)
        if path is not None and translator.load(str(path)):
            app.installTranslator(translator)
            QLocale.setDefault(QLocale(each))
            own = QTranslator(app)  # of Qt's own dialogs
            if own.load(QLocale(each), "qtbase", "_", QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)):
                app.installTranslator(own)
            speak(lambda text: QCoreApplication.translate(CONTEXT, text))
            return True
    speak(None)
    QLocale.setDefault(QLocale(ENGLISH))
    return False
