"""What can go wrong with files, as sentences."""

from ..shot.errors import MantleError


class MediaError(MantleError):
    """A source cannot be read, or a picture cannot be written: which file, which frame, what to do."""
