"""What the program says, so that it can say it in another language.

A sentence is written with `say`, its values by name; a word that stands in a constant, because it is also what
the constant is known by, is marked with `mark` and said where it is shown. The English text is the key. The core
knows no language: a window gives it one with `speak`. `tools/phrases.py` gathers all that is said for translators.

What the program itself goes by (the key of a finding, why a lock was lost) is the English of a sentence: `english`.
"""

from __future__ import annotations

from collections.abc import Callable

_translate: Callable[[str], str] | None = None


class Said(str):
    """A sentence in another language; it knows its English."""

    english: str

    def __reduce__(self) -> tuple[type[str], tuple[str]]:
        return str, (str(self),)


def say(text: str, /, **values: object) -> str:
    """A sentence in the language of the program.

    Args:
        text: The English of it, with `{name}` or `{name:.2f}` where a value stands.
        values: What stands there.

    Example:
        >>> say("Lock {name} is off by {px:.1f} px.", name="Hills", px=2.04)
        'Lock Hills is off by 2.0 px.'
    """
    if _translate is None or not text:
        return text.format(**values) if values else text
    translated = _translate(text)
    if not values:
        said, original = Said(translated), text
    else:
        original = text.format(
            **{name: english(value) if isinstance(value, str) else value for name, value in values.items()}
        )
        try:
            said = Said(translated.format(**values))
        except (LookupError, ValueError, AttributeError, TypeError):  # a translation that names what is not there
            said = Said(original)
    said.english = original
    return said


def english(text: str) -> str:
    """The English of a sentence, or the text as it is where it was not said.

    >>> english(say("Nothing was changed."))
    'Nothing was changed.'
    """
    return text.english if isinstance(text, Said) else text


def mark(text: str) -> str:
    """A word that is said later; it goes into the list for translators. Gives it back as it is."""
    return text


def marks(*texts: str) -> tuple[str, ...]:
    """Words that are said later, as `mark` takes one."""
    return texts


def speak(translate: Callable[[str], str] | None) -> None:
    """Makes all that is said from now on go through `translate`, which may be called on any thread; None is English."""
    global _translate
    _translate = translate


def spoken() -> Callable[[str], str] | None:
    """What sentences go through now, None in English: part of what kept sentences are known by."""
    return _translate
