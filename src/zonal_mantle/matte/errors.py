"""What can go wrong with a matte."""

from ..shot.errors import MantleError


class MatteError(MantleError):
    """A matte that cannot be pulled as it is set up; the words say what is wrong and what to do."""
