"""What can go wrong in finishing a picture."""

from ..shot.errors import MantleError


class FinishError(MantleError):
    """Something of the finish cannot be done; the words say what, where, and what to do."""
