"""Zonal Mantle: sky replacement and set extension for moving shots."""

from .paths import keep_kernels_in_cache

__version__ = "0.1.0"

keep_kernels_in_cache()
