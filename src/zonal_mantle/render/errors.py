"""Why a render stops."""

from ..shot.errors import MantleError


class RenderError(MantleError):
    """A render cannot go on: what is wrong and what to do."""
