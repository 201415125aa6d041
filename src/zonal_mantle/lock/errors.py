"""Why a lock cannot be solved."""

from ..shot.errors import MantleError


class LockError(MantleError):
    """A lock cannot be solved as it is set up: what is wrong and what to do."""


class OnlyTurned(LockError):
    """A camera that was to be solved as a moving one only turned: a pan lock serves."""


class FocalUnknown(LockError):
    """A camera turned too little to tell its focal length."""
