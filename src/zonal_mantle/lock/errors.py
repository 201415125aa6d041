"""Why a lock cannot be solved."""

from ..shot.errors import MantleError


class LockError(MantleError):
    """A lock cannot be solved as it is set up: what is wrong and what to do."""
