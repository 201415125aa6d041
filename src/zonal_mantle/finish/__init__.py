"""What is done to the whole picture at the end: LUT, glow, vignette, local light, frame, burn-in; looks and scopes."""

from .errors import FinishError
from .look import look_from, looks_in, read_look, tone_of_look, write_look
from .scopes import KINDS, Scope, scope_of

__all__ = [
    "KINDS", "FinishError", "Scope", "look_from", "looks_in", "read_look", "scope_of", "tone_of_look", "write_look",
]  # fmt: skip
