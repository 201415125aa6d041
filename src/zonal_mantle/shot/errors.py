"""Errors that are written for the artist."""


class MantleError(Exception):
    """What is wrong, where, and what to do about it, as a sentence."""


class ShotError(MantleError):
    """A shot's file cannot be read or written."""


class GoneError(ShotError, KeyError):
    """The shot has no part of an id, perhaps not any more."""

    def __str__(self) -> str:
        return str(self.args[0])
