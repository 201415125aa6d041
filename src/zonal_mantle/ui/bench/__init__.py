"""The bench: the four stages of the chosen zone."""

from .bench import Bench

__all__ = ["Bench"]
