"""What can go wrong in matching."""

from ..shot.errors import MantleError


class MatchError(MantleError):
    """Something of a match cannot be measured; the words say why, and what to do."""
